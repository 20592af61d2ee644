//! Commands that change the view of a result: `/order`, `/filter`, `/columns`. They make no entry.

use std::ops::Range;

use idle_tide_lang::command::Parsed;
use idle_tide_lang::correct::{Correction, Edit};
use idle_tide_lang::flow::FlowError;

use super::Verb;
use crate::entry::State;
use crate::failure::{Failure, plain};
use crate::filter::{Filter, with_script};
use crate::page::Tone;
use crate::session::{Next, Turn};
use crate::sheet::{GIVEN_UP, Sheet, now, read};
use crate::tasks::Arrange;

/// A command about the rows that were shown when it was submitted.
pub(crate) struct View {
    name: &'static str,
    change: fn(&mut Turn<'_>, &Parsed) -> Result<(), Failure>,
}

pub(crate) static COLUMNS: View = View {
    name: "columns",
    change: columns,
};
pub(crate) static FILTER: View = View {
    name: "filter",
    change: filter,
};
pub(crate) static REVEAL: View = View {
    name: "reveal",
    change: reveal,
};
pub(crate) static ORDER: View = View {
    name: "order",
    change: order,
};

impl Verb for View {
    fn name(&self) -> &'static str {
        self.name
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        (self.change)(turn, parsed).map(|()| Next::Keep)
    }
}

/// Shows what is covered, or covers it again.
fn reveal(turn: &mut Turn<'_>, _: &Parsed) -> Result<(), Failure> {
    let sheet = sheet(turn)?;
    sheet.revealed = !sheet.revealed;
    let words = match sheet.revealed {
        true => "What looks like a secret is shown in this result; /reveal covers it again.",
        false => "What looks like a secret is covered.",
    };
    turn.say(words, Tone::Care);
    Ok(())
}

/// The rows that were shown when it was submitted.
pub(crate) fn sheet<'a>(turn: &'a mut Turn<'_>) -> Result<&'a mut Sheet, Failure> {
    let entry = turn.shown.and_then(|number| turn.entries.get_mut(number));
    match entry.and_then(|entry| entry.sheet_mut()) {
        Some(sheet) if sheet.given_up => Err(plain(GIVEN_UP)),
        Some(sheet) => Ok(sheet),
        None => Err(plain(
            "The current entry has no rows. Show one that has, or run a query.",
        )),
    }
}

/// The same, once all its rows are there.
pub(crate) fn complete_sheet<'a>(turn: &'a mut Turn<'_>) -> Result<&'a mut Sheet, Failure> {
    if turn
        .shown()
        .is_some_and(|entry| entry.state == State::Running)
    {
        return Err(plain(
            "Its rows are still arriving. Wait for the last, or stop it with Ctrl-C.",
        ));
    }
    sheet(turn)
}

fn column(turn: &mut Turn<'_>, name: &str, span: &Range<usize>) -> Result<usize, Failure> {
    let sheet = sheet(turn)?;
    sheet.column(name).ok_or_else(|| {
        let labels = sheet.labels.iter().map(String::as_str);
        let nearest = idle_tide_lang::correct::nearest(name, labels, 3);
        marked(
            plain(format!("This result has no column {name}.")),
            span,
            &nearest,
            "column",
        )
    })
}

/// A failure at a place, with what could stand there.
fn marked(failure: Failure, span: &Range<usize>, nearest: &[String], detail: &str) -> Failure {
    let offered = nearest.iter().map(|near| Correction {
        label: near.clone(),
        detail: detail.into(),
        edit: Edit {
            span: span.clone(),
            text: near.clone(),
        },
    });
    Failure {
        place: Some(span.clone()),
        corrections: offered.collect(),
        ..failure
    }
}

fn order(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<(), Failure> {
    let descending = parsed
        .argument(1)
        .is_some_and(|word| word.eq_ignore_ascii_case("desc"));
    let order = match parsed.arguments.first() {
        None => None,
        Some(part) => Some((column(turn, &part.text, &part.span)?, descending)),
    };
    order_by(turn, order)
}

/// Orders the rows shown by a column, downwards if true; as they came when `None`.
pub(crate) fn order_by(turn: &mut Turn<'_>, order: Option<(usize, bool)>) -> Result<(), Failure> {
    let filter = complete_sheet(turn)?.view.filter.clone();
    arrange(turn, order, filter)
}

fn arrange(
    turn: &mut Turn<'_>,
    order: Option<(usize, bool)>,
    filter: Option<String>,
) -> Result<(), Failure> {
    let entry = turn.shown.unwrap_or_default();
    let task = Arrange::new(entry, sheet(turn)?, order, filter);
    turn.start(task);
    Ok(())
}

fn filter(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<(), Failure> {
    let order = complete_sheet(turn)?.view.order;
    if parsed.rest.is_empty() {
        return arrange(turn, order, None);
    }
    let at = parsed.rest_at;
    let refused = |error: FlowError| {
        let span = error.span.start + at..error.span.end + at;
        marked(plain(error.message), &span, &error.nearest, "")
    };
    let condition = with_script(&parsed.rest, &turn.services.script).map_err(refused)?;
    let bound = {
        let set = read(&sheet(turn)?.set);
        Filter::new(&condition, set.columns(), now()).err()
    };
    if let Some(error) = bound {
        // Once values were put in, its places are those of another text.
        if condition != parsed.rest {
            return Err(plain(error.message));
        }
        return Err(refused(error));
    }
    arrange(turn, order, Some(condition))
}

fn columns(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<(), Failure> {
    let mut chosen = Vec::new();
    for part in &parsed.arguments {
        chosen.push(column(turn, &part.text, &part.span)?);
    }
    let mut hidden = Vec::new();
    for (name, value) in &parsed.options {
        if let ("hide", Some(part)) = (*name, value) {
            hidden.push(column(turn, &part.text, &part.span)?);
        }
    }
    let sheet = sheet(turn)?;
    if parsed.has("all") {
        sheet.view.columns = (0..sheet.labels.len()).collect();
    }
    if !chosen.is_empty() {
        sheet.view.columns = chosen;
    }
    let mut left = sheet.view.columns.clone();
    left.retain(|at| !hidden.contains(at));
    if left.is_empty() {
        return Err(plain(
            "One column has to stay. /columns --all brings all back.",
        ));
    }
    let words = format!(
        "{} of {} columns are shown.",
        left.len(),
        sheet.labels.len()
    );
    sheet.view.columns = left;
    turn.say(words, Tone::Plain);
    Ok(())
}
