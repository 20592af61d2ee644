//! A refused statement in plain words: what is wrong and where, what the server said, what would mend it,
//! and whether anything was changed. All sentences about failures are made here.

use std::ops::Range;

use idle_tide_core::Catalog;
use idle_tide_engines::{EngineError, Fault, OpenError, Trouble};
use idle_tide_lang::Dialect;
use idle_tide_lang::command::CommandError;
use idle_tide_lang::correct::{Correction, Edit, advise};
use idle_tide_lang::dialect::Family;
use idle_tide_lang::elsewhere;
use idle_tide_lang::flow::{FlowError, translate};
use idle_tide_lang::scope;
use idle_tide_lang::statement::{Summary, summary};
use idle_tide_lang::token::tokens;

use crate::holding::Held;

/// What is shown for a failure.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure {
    /// What is wrong, one sentence.
    pub headline: String,
    /// The place in the submitted text, in bytes.
    pub place: Option<Range<usize>>,
    /// What would mend it, likeliest first.
    pub corrections: Vec<Correction>,
    /// The kind of the fault, where an engine told of it.
    pub fault: Option<Fault>,
    /// The server's own words and code.
    pub said: Option<(String, String)>,
    /// Whether those words are of the system or the network, where no server answered.
    pub by_system: bool,
    /// What the server said on the way to it.
    pub notes: Vec<String>,
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
    if let Some(command) = elsewhere::matching_command(text, dialect) {
        advice.headline = format!(
            "{} such statement; here it is the command {command}.",
            match dialect.is_flow() {
                true => "Flows have no".to_string(),
                false => format!("{} has no", dialect.name),
            }
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
    if !dialect.is_flow() && translate::is_flow(text) {
        let sql = translate::sql_for_flow(text);
        advice.headline = format!(
            "This is a flow, the language for documents, and {} takes SQL{}",
            dialect.name,
            match &sql {
                Some(sql) => format!(". The same in SQL:  {sql}"),
                None => ":  select ... from ... where ... order by ...;".to_string(),
            }
        );
        advice.span = Some(0..text.trim_end_matches(';').trim_end().len());
        advice.corrections = sql
            .map(|sql| Correction {
                label: sql.clone(),
                detail: "the same in SQL".into(),
                edit: Edit {
                    span: 0..text.len(),
                    text: sql,
                },
            })
            .into_iter()
            .collect();
    }
    let headline = match (&error.advice, advice.headline.as_str()) {
        (Some(words), _) => words.clone(),
        (None, "") => match error.fault {
            Fault::ReadOnly => "This session only reads.".into(),
            Fault::Denied => missing_right(text, dialect),
            Fault::Sink => "The rows could not be kept or written.".into(),
            Fault::Cancelled => "It was stopped.".into(),
            _ => {
                // Of these families many servers speak.
                let who = match dialect.family {
                    Family::Documents | Family::Tabular => "The server",
                    _ => dialect.name,
                };
                format!("{who} refuses it: {}.", error.message.trim_end_matches('.'))
            }
        },
        (None, words) => words.to_string(),
    };
    Failure {
        headline,
        place: advice.span,
        fault: Some(error.fault),
        corrections: advice.corrections,
        // What was found wrong here is said once.
        said: (!error.code.is_empty() || error.message != headline_of(error))
            .then(|| (error.message.clone(), error.code.clone())),
        by_system: matches!(error.fault, Fault::Lost | Fault::NotSent | Fault::Sink),
        notes: error.notes.clone(),
        changed: changed(in_transaction, ran_before),
    }
}

/// Which right a refused statement lacks, as far as its words tell, and where it comes from.
fn missing_right(text: &str, dialect: &Dialect) -> String {
    let about = summary(text, dialect);
    let of = match about.targets.is_empty() {
        false => about.names(),
        true => {
            let scope = scope::scope(text, &tokens(text, dialect), text.len(), dialect);
            let names: Vec<String> = scope.tables.into_iter().map(|table| table.name).collect();
            names.join(", ")
        }
    };
    let on = match of.as_str() {
        "" => String::new(),
        of => format!(" on {of}"),
    };
    let (may, right) = match about.verb.as_str() {
        "select" | "values" | "table" => ("read", "select"),
        "insert" => ("insert into", "insert"),
        "replace" => ("replace rows of", "insert, and delete"),
        "update" => ("update", "update, and select for its condition"),
        "delete" => ("delete from", "delete, and select for its condition"),
        "truncate" => ("empty", "truncate, or drop"),
        "merge" => ("merge into", "insert, update or delete"),
        "call" | "execute" => ("run", "execute"),
        "create" => {
            let what = about.kind.as_deref().unwrap_or("object");
            return format!(
                "The present user may not make this {what}: the right create is missing where it would stand, or one that it needs. /access shows who may."
            );
        }
        "alter" | "drop" | "comment" => {
            return format!(
                "The present user may not change the definition of {}: only its owner and those who may do everything may. /access shows who that is.",
                if of.is_empty() { "this" } else { &of }
            );
        }
        "grant" | "revoke" => {
            return "The present user may not give or take this right: it is not its own to give. /access shows whose it is.".into();
        }
        _ => return "The present user may not do this. /access shows who may.".into(),
    };
    let what = if of.is_empty() { "this" } else { &of };
    format!(
        "The present user may not {may} {what}: the right {right} is missing{on}. /access shows who may; its owner gives it with grant."
    )
}

/// The words of an error that was found in this program.
fn headline_of(error: &EngineError) -> &str {
    match &error.complaint {
        idle_tide_lang::correct::Complaint::Flow(flow) => &flow.message,
        _ => error.advice.as_deref().unwrap_or_default(),
    }
}

/// A source that could not be opened.
pub fn of_opening(error: &OpenError) -> Failure {
    Failure {
        fault: None,
        headline: error.headline.clone(),
        place: None,
        corrections: Vec::new(),
        said: error.said.clone().map(|said| (said, String::new())),
        by_system: !matches!(
            error.trouble,
            Trouble::Login
                | Trouble::NoDatabase
                | Trouble::TooMany
                | Trouble::TooOld
                | Trouble::Other
        ),
        notes: Vec::new(),
        changed: error.checks.join(" "),
    }
}

/// The connection was lost. `about` is the statement that ran, `in_transaction` whether one was open.
pub fn of_loss(error: &EngineError, about: &Summary, in_transaction: bool) -> Failure {
    let sent = error.fault == Fault::Lost;
    let ends = matches!(about.verb.as_str(), "commit" | "end");
    let (headline, known) = match (sent, in_transaction) {
        (false, false) => ("The connection had ended before this was sent.", "It was not sent, so nothing was changed by it.".to_string()),
        (false, true) => (
            "The connection had ended before this was sent, and with it the transaction.",
            "It was not sent. What the transaction had changed is taken back by the server; nothing of it is kept.".to_string(),
        ),
        (true, true) if ends => (
            "The connection was lost while the transaction was being ended.",
            "Whether the server kept it is not known. Look at the rows before you do it again.".to_string(),
        ),
        (true, true) => (
            "The connection was lost inside a transaction.",
            "The transaction is gone: the server takes back what it had changed; nothing of it is kept.".to_string(),
        ),
        (true, false) if about.only_reads() => ("The connection was lost while it was read.", "Nothing was changed.".to_string()),
        (true, false) => (
            "The connection was lost after this was sent: whether it happened is not known.",
            match about.target() {
                Some(target) => format!("Look at {target} before you do it again. This program does not send it a second time by itself."),
                None => "Look before you do it again. This program does not send it a second time by itself.".to_string(),
            },
        ),
    };
    Failure {
        headline: headline.to_string(),
        fault: Some(error.fault),
        place: None,
        corrections: Vec::new(),
        said: Some((error.message.clone(), error.code.clone())),
        by_system: matches!(error.fault, Fault::Lost | Fault::NotSent | Fault::Sink),
        notes: error.notes.clone(),
        changed: format!(
            "{known} /reopen (or R while reading) connects anew, to the same database, role and settings."
        ),
    }
}

/// What ran did not stop when it was asked to, and nobody waits for it any more.
pub fn given_up() -> Failure {
    Failure {
        changed: "Whether it happened is not known. /reopen (or R while reading) connects anew, to the same database, role and settings.".into(),
        ..plain("It did not stop when it was asked to, so its connection was given up.")
    }
}

/// Something else would be changed while a change is held.
pub fn is_held(held: &Held) -> Failure {
    Failure {
        changed: "Nothing was changed. Statements that read run in the meantime.".into(),
        ..plain(format!(
            "A change is held: {}. /keep keeps it, /take-back takes it back; then this can run.",
            held.what
        ))
    }
}

/// There is nothing to run it on.
pub fn nowhere() -> Failure {
    plain("No source is open. F9 shows sources; /open NAME or ADDRESS opens one.")
}

/// What is said where a part of what failed or was stopped may have been done.
pub fn half_done(in_transaction: bool) -> &'static str {
    match in_transaction {
        true => "What else stands in it may have run. The transaction is still open.",
        false => {
            "What else stands in it may have run, and what it changed then stays: look before you run it again."
        }
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
        fault: None,
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
        by_system: false,
        notes: Vec::new(),
        changed: String::new(),
    }
}

/// A failure that is one sentence about the whole command.
pub fn plain(headline: impl Into<String>) -> Failure {
    Failure {
        fault: None,
        headline: headline.into(),
        place: None,
        corrections: Vec::new(),
        said: None,
        by_system: false,
        notes: Vec::new(),
        changed: String::new(),
    }
}

/// What is wrong with what was typed, with its place and what could stand there.
pub(crate) fn of_flow(error: &FlowError) -> Failure {
    let offered = error.nearest.iter().map(|near| Correction {
        label: near.clone(),
        detail: String::new(),
        edit: Edit {
            span: error.span.start..error.span.start + error.span.len().min(near_length(error)),
            text: near.clone(),
        },
    });
    Failure {
        place: Some(error.span.clone()),
        corrections: offered.collect(),
        ..plain(error.message.clone())
    }
}

/// How much of the place is the name that was not understood: what is called ends before its bracket.
fn near_length(error: &FlowError) -> usize {
    let name = error.message.strip_prefix("There is no function ");
    name.and_then(|rest| rest.split(['.', ' ']).next())
        .map_or(error.span.len(), str::len)
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::POSTGRES;

    #[test]
    fn the_right_that_is_missing_is_named() {
        for (sql, words) in [
            (
                "select * from visits v join dues d on d.visit = v.id",
                "read visits, dues: the right select is missing on visits, dues",
            ),
            (
                "select secret()",
                "may not read this: the right select is missing.",
            ),
            (
                "update haven.berths set depth = 1",
                "update haven.berths: the right update",
            ),
            ("drop table berths", "definition of berths: only its owner"),
            (
                "create table t (n integer)",
                "make this table: the right create",
            ),
            ("grant select on berths to mate", "not its own to give"),
            ("checkpoint", "may not do this."),
        ] {
            let said = missing_right(sql, &POSTGRES);
            assert!(said.contains(words), "{sql}: {said}");
        }
    }

    #[test]
    fn a_flow_in_a_session_of_sql_is_offered_as_sql() {
        let error = EngineError {
            advice: None,
            ..EngineError::plain("near \"from\": syntax error")
        };
        let of = |text: &str| of_statement(text, &error, &Catalog::default(), &POSTGRES, false, 0);
        let failure = of("from visits where crew > 3 order by arrived;");
        assert!(failure.headline.contains("takes SQL"), "{failure:?}");
        let sql = "select * from visits where crew > 3 order by arrived;";
        assert_eq!(failure.corrections[0].edit.text, sql);
        let failure = of("from visits unnest stops");
        assert!(failure.headline.contains("takes SQL") && failure.corrections.is_empty());
        assert!(!of("select 1 from").headline.contains("flow"));
    }

    #[test]
    fn what_is_known_of_a_lost_connection_is_said_and_no_more() {
        let say = |fault, sql: &str, in_transaction| {
            let error = EngineError {
                fault,
                ..EngineError::plain("gone")
            };
            let failure = of_loss(&error, &summary(sql, &POSTGRES), in_transaction);
            format!("{} {}", failure.headline, failure.changed)
        };
        let write = "insert into dues values (1)";
        for (fault, sql, in_transaction, words) in [
            (Fault::Lost, write, false, "not known"),
            (Fault::Lost, write, false, "Look at dues before"),
            (Fault::Lost, write, true, "nothing of it is kept"),
            (
                Fault::Lost,
                "commit",
                true,
                "Whether the server kept it is not known",
            ),
            (Fault::Lost, "select 1", false, "Nothing was changed"),
            (Fault::NotSent, write, false, "It was not sent"),
            (Fault::NotSent, write, true, "nothing of it is kept"),
        ] {
            let said = say(fault, sql, in_transaction);
            assert!(
                said.contains(words) && said.contains("/reopen"),
                "{sql}: {said}"
            );
        }
        assert!(!say(Fault::Lost, write, false).contains("Nothing was changed"));
    }
}
