//! `/chart`: a picture of the result shown, or another picture of the one that is drawn.

use idle_tide_core::chart::Kind;
use idle_tide_lang::command::Parsed;

use super::Verb;
use crate::chart::{Chart, choose};
use crate::drawing::{First, refuse_covered};
use crate::entry::Content;
use crate::failure::{Failure, plain};
use crate::session::{Next, Turn};
use crate::sheet::{GIVEN_UP, read};

pub(crate) struct Draws;

impl Verb for Draws {
    fn name(&self) -> &'static str {
        "chart"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let shown = turn.shown();
        let drawn = shown.and_then(|entry| match &entry.content {
            Content::Chart(chart) => Some((**chart).clone()),
            _ => None,
        });
        let of = drawn.as_ref().map_or(turn.shown, |chart| Some(chart.of));
        let source = of.and_then(|number| turn.entries.get(number));
        let none = "The current entry has no rows to draw. Show one that has, or run a query.";
        let entry = source.ok_or_else(|| plain(none))?;
        let sheet = entry.sheet().ok_or_else(|| plain(none))?;
        if sheet.given_up {
            return Err(plain(GIVEN_UP));
        }
        let kind = parsed.argument(0).and_then(Kind::named);
        let mut chart = match drawn {
            Some(drawn) if kind.is_none() => drawn,
            _ => Chart::new(entry.number, sheet, kind).map_err(plain)?,
        };
        // What another source says of its columns is not here.
        if entry.session == turn.session.number {
            let (catalog, dialect) = (&turn.session.catalog, turn.session.dialect);
            chart.take_units(read(&sheet.set).columns(), &entry.text, catalog, dialect);
        }
        choose(&mut chart, parsed)?;
        refuse_covered(&chart, sheet)?;
        let task = First::new(chart, sheet);
        Ok(Next::Go(Box::new(task)))
    }
}
