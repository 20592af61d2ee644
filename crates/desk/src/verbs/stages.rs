//! `/stages`: a flow stage by stage.

use std::collections::HashSet;

use idle_tide_engines::EngineError;
use idle_tide_lang::command::Parsed;
use idle_tide_lang::flow::ast::Statement;
use idle_tide_lang::flow::format;
use idle_tide_lang::parameter::parameters;

use super::{Needs, Verb, statement, statement_for};
use crate::entry::{Content, Entry};
use crate::failure::{Failure, plain};
use crate::session::{Next, Task, Turn};
use crate::stages;
use crate::task::{Bench, Lane, Work};

pub(crate) struct Stages;

impl Verb for Stages {
    fn name(&self) -> &'static str {
        "stages"
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Session
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let dialect = turn.session.dialect;
        if !dialect.is_flow() {
            return Err(plain(
                "Stages are those of a flow, and this database takes SQL; /plan shows how a statement runs.",
            ));
        }
        let otherwise =
            "The current entry is no flow. Show one that is, or write it: /stages from ...";
        let statement = statement_for(turn, &parsed.rest, otherwise)?;
        let statement = statement::with_variables(turn, statement)?;
        if !parameters(&statement, dialect).is_empty() {
            return Err(plain(
                "The stages of a flow with parameters cannot be counted; write values in their places.",
            ));
        }
        Ok(Next::Go(Box::new(Count {
            statement,
            left_out: HashSet::new(),
            stages: None,
        })))
    }
}

/// Runs the stages of a flow one after the other and counts.
pub(crate) struct Count {
    statement: String,
    left_out: HashSet<usize>,
    stages: Option<Box<stages::Stages>>,
}

impl Count {
    /// The stages that are shown, with the one that is looked at left out, or put back; nothing for the source.
    pub(crate) fn toggled(shown: &stages::Stages) -> Option<Self> {
        let number = shown.at.checked_sub(1)?;
        let mut left_out = shown.left_out.clone();
        if !left_out.remove(&number) {
            left_out.insert(number);
        }
        Some(Count {
            statement: format(&Statement::Flow(shown.flow.clone())),
            left_out,
            stages: None,
        })
    }
}

/// A failure whose places begin further on, or that has none.
fn moved(mut failure: Failure, by: Option<usize>) -> Failure {
    let on = |span: std::ops::Range<usize>| {
        let by = by.unwrap_or(0);
        span.start + by..span.end + by
    };
    failure.place = failure.place.filter(|_| by.is_some()).map(on);
    match by {
        Some(_) => {
            for correction in &mut failure.corrections {
                correction.edit.span = on(correction.edit.span.clone());
            }
        }
        None => failure.corrections.clear(),
    }
    failure
}

impl Work for Count {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let (ticket, stop) = (at.ticket, std::sync::Arc::clone(at.stop));
        let connection = at.connection()?;
        let found = stages::look(connection, ticket, &stop, &self.statement, &self.left_out)?;
        self.stages = Some(Box::new(found));
        Ok(())
    }
}

impl Task for Count {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        match (how, self.stages) {
            (Ok(()), Some(mut stages)) => {
                if let Some(before) = turn.own().and_then(|entry| Entry::stages(entry)) {
                    stages.at = before.at.min(stages.flow.stages.len());
                    stages.shows_compiled = before.shows_compiled;
                }
                Next::Done(Content::Stages(stages))
            }
            (how, _) => {
                let error = how
                    .err()
                    .unwrap_or_else(|| EngineError::plain("It has no stages."));
                statement::stopped_or(turn, &error, |turn| {
                    // Its places are those of the flow; where that was typed they are moved into the command.
                    let failure = statement::failure(turn, &self.statement, &error);
                    let typed = turn.waiting.text().find(&self.statement);
                    moved(failure, typed).into()
                })
            }
        }
    }
}
