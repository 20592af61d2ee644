//! `/plan`: how the server runs a statement, as a tree. What writes is planned and not run.

use std::ops::Range;

use idle_tide_core::plan;
use idle_tide_engines::{EngineError, Fault};
use idle_tide_lang::command::Parsed;
use idle_tide_lang::parameter::parameters;
use idle_tide_lang::split::pieces;

use super::{Needs, Verb, statement, statement_for};
use crate::entry::Content;
use crate::failure::{Failure, plain};
use crate::page::{Page, Tone};
use crate::session::{Next, Task, Turn};
use crate::task::{Bench, Lane, Work};

pub(crate) struct Plan;

impl Verb for Plan {
    fn name(&self) -> &'static str {
        "plan"
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
        let (measure, rest) = match parsed.rest.strip_prefix("--estimate") {
            Some(rest) => (false, rest.trim()),
            None => (true, parsed.rest.as_str()),
        };
        let otherwise =
            "The current entry is no statement. Show one that is, or write it: /plan select …";
        let statement = statement_for(turn, rest, otherwise)?;
        let dialect = turn.session.dialect;
        let code = pieces(&statement, dialect);
        let mut code = code.iter().filter(|piece| piece.has_code);
        let statement = match (code.next(), code.next()) {
            (Some(one), None) => statement[one.start as usize..one.end as usize].to_string(),
            _ => return Err(plain("A plan is of one statement.")),
        };
        let statement = statement::with_variables(turn, statement)?;
        if !parameters(&statement, dialect).is_empty() {
            return Err(plain(
                "A statement with parameters has no plan here; write values in their places.",
            ));
        }
        Ok(Next::Go(Box::new(Ask {
            statement,
            measure,
            plan: None,
        })))
    }
}

/// Asks the server for the plan.
struct Ask {
    statement: String,
    measure: bool,
    plan: Option<plan::Plan>,
}

impl Work for Ask {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let ticket = at.ticket;
        let connection = at.connection()?;
        let plan =
            idle_tide_engines::plan::plan(connection, ticket, &self.statement, self.measure)?;
        self.plan = Some(plan);
        Ok(())
    }
}

impl Task for Ask {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        match (how, self.plan) {
            (Ok(()), Some(plan)) => {
                let session = &turn.session;
                let page =
                    crate::plan::page(&plan, &self.statement, &session.catalog, session.dialect);
                Next::Done(Content::Page(page))
            }
            (Ok(()), None) => Next::refuse("The server gave no plan."),
            (Err(error), _) if error.fault == Fault::Cancelled => {
                let mut page = Page::new();
                page.say(Tone::Heading, "It was stopped. Nothing was changed.");
                Next::Stopped(Content::Page(page))
            }
            (Err(error), _) => {
                let failure = statement::failure(turn, &self.statement, &error);
                // The place is one of the statement, which stands somewhere in the command.
                moved(failure, turn.waiting.text().find(&self.statement)).into()
            }
        }
    }
}

/// A failure whose places are later by `by` bytes; without places where that is not known.
fn moved(failure: Failure, by: Option<usize>) -> Failure {
    let Some(by) = by else {
        return Failure {
            place: None,
            corrections: Vec::new(),
            ..failure
        };
    };
    let later = |span: &Range<usize>| span.start + by..span.end + by;
    let mut failure = Failure {
        place: failure.place.as_ref().map(later),
        ..failure
    };
    for correction in &mut failure.corrections {
        correction.edit.span = later(&correction.edit.span);
    }
    failure
}
