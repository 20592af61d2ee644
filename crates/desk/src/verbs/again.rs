//! `/again`: runs a statement once more; asked about where it ran somewhere else before.

use idle_tide_lang::command::Parsed;

use super::{Verb, statement_of};
use crate::failure::Failure;
use crate::guard::Question;
use crate::page::{Line, Page, Tone};
use crate::session::{Next, Turn, Waiting};

pub(crate) struct Again;

impl Verb for Again {
    fn name(&self) -> &'static str {
        "again"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let statement = statement_of(turn, parsed.argument(0))?;
        let entry = match parsed.argument(0).and_then(|number| number.parse().ok()) {
            Some(number) => turn.entries.get(number),
            None => turn.shown(),
        };
        let here = turn.session.place();
        let there = entry.filter(|e| e.is_statement).map(|e| e.place.clone());
        let Some(there) = there.filter(|there| *there != here) else {
            return Ok(once_more(turn, &statement));
        };
        let place = |(source, database): &(String, String)| match database.as_str() {
            "" => source.clone(),
            database => format!("{database} on {source}"),
        };
        let (here, there) = (place(&here), place(&there));
        let mut page = Page::new();
        page.say(
            Tone::Heading,
            format!("This ran in {there}; you are in {here} now."),
        );
        page.gap();
        let first = statement.lines().next().unwrap_or_default();
        page.line(Line::new().and(Tone::Plain, first.to_string()));
        let question = Question {
            page,
            yes: format!("runs it in {here}"),
            no: "leaves it".into(),
        };
        Ok(Next::Ask(
            question,
            Box::new(move |turn| match once_more(turn, &statement) {
                // The question has an entry, which is done with.
                Next::Keep => Next::Done(crate::entry::Content::Nothing),
                next => next,
            }),
        ))
    }
}

/// Has it run next, as an entry of its own.
fn once_more(turn: &mut Turn<'_>, statement: &str) -> Next {
    let is_command =
        statement.starts_with('=') || statement.starts_with('/') && !statement.starts_with("/*");
    let waiting = Waiting::alone(statement, is_command);
    turn.session.queue.push_front(waiting);
    Next::Keep
}
