//! A refused statement in plain words: what is wrong and where, what the server said, what would mend it,
//! and whether anything was changed. All sentences about failures are made here.

use std::ops::Range;

use idle_tide_core::Catalog;
use idle_tide_engines::{EngineError, Fault};
use idle_tide_lang::Dialect;
use idle_tide_lang::command::CommandError;
use idle_tide_lang::correct::{Correction, Edit, advise};
use idle_tide_lang::elsewhere;

/// What is shown for a failure.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure {
    /// What is wrong, one sentence.
    pub headline: String,
    /// The place in the submitted text, in bytes.
    pub place: Option<Range<usize>>,
    /// What would mend it, likeliest first.
    pub corrections: Vec<Correction>,
    /// The server's own words and code.
    pub said: Option<(String, String)>,
    /// What was changed, or that nothing was.
    pub changed: String,
}

/// The failure of a statement. `ran_before` counts the statements of the same submission that ran.
pub fn of_statement(
    text: &str,
    error: &EngineError,
    catalog: &Catalog,
    dialect: &Dialect,
    in_transaction: bool,
    ran_before: usize,
) -> Failure {
    let mut advice = advise(text, &error.complaint, error.offset, catalog, dialect);
    if let Some(command) = elsewhere::matching_command(text) {
        advice.headline = format!(
            "{} has no such statement; here it is the command {command}.",
            dialect.name
        );
        advice.corrections = vec![Correction {
            label: command.clone(),
            detail: "does what you asked for".into(),
            edit: Edit {
                span: 0..text.len(),
                text: command,
            },
        }];
        advice.span = Some(0..text.trim_end_matches(';').trim_end().len());
    }
    let headline = match (&error.advice, advice.headline.as_str()) {
        (Some(words), _) => words.clone(),
        (None, "") => match error.fault {
            Fault::ReadOnly => "This session only reads.".into(),
            Fault::Sink => "The rows could not be kept or written.".into(),
            Fault::Cancelled => "It was stopped.".into(),
            _ => format!("{} refuses it: {}.", dialect.name, error.message),
        },
        (None, words) => words.to_string(),
    };
    Failure {
        headline,
        place: advice.span,
        corrections: advice.corrections,
        said: Some((error.message.clone(), error.code.clone())),
        changed: changed(in_transaction, ran_before),
    }
}

fn changed(in_transaction: bool, ran_before: usize) -> String {
    let mut words = match ran_before {
        0 => "Nothing was changed.".to_string(),
        1 => "It changed nothing itself. The statement before it ran.".to_string(),
        count => format!("It changed nothing itself. The {count} statements before it ran."),
    };
    if in_transaction {
        words.push_str(" The transaction is still open.");
    }
    words
}

/// The failure of a command line.
pub fn of_command(error: &CommandError) -> Failure {
    Failure {
        headline: error.message.clone(),
        place: Some(error.span.clone()),
        corrections: error
            .nearest
            .iter()
            .map(|word| Correction {
                label: word.clone(),
                detail: String::new(),
                edit: Edit {
                    span: error.span.clone(),
                    text: word.clone(),
                },
            })
            .collect(),
        said: None,
        changed: String::new(),
    }
}

/// A failure that is one sentence about the whole command.
pub fn plain(headline: impl Into<String>) -> Failure {
    Failure {
        headline: headline.into(),
        place: None,
        corrections: Vec::new(),
        said: None,
        changed: String::new(),
    }
}
