//! `/chart`: a picture of the result shown, or another picture of the one that is drawn.

use idle_tide_core::chart::{How, Kind};
use idle_tide_lang::command::Parsed;

use super::Verb;
use crate::chart::{Chart, First};
use crate::entry::{Content, Entry};
use crate::failure::{Failure, plain};
use crate::session::{Next, Turn};
use crate::sheet::{GIVEN_UP, Sheet};

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
        choose(&mut chart, parsed)?;
        refuse_covered(&chart, sheet)?;
        let task = First::new(chart, sheet);
        Ok(Next::Go(Box::new(task)))
    }
}

/// A picture shows no column whose values are covered.
pub(crate) fn refuse_covered(chart: &Chart, sheet: &Sheet) -> Result<(), Failure> {
    match chart.covered(sheet) {
        Some(name) => Err(plain(format!(
            "{name} is covered, because it looks like a secret. /reveal shows it, and then it can be drawn."
        ))),
        None => Ok(()),
    }
}

/// What the options of the command ask for.
pub(crate) fn choose(chart: &mut Chart, parsed: &Parsed) -> Result<(), Failure> {
    let mut values = Vec::new();
    for (option, part) in &parsed.options {
        let Some(part) = part else {
            match *option {
                "stacked" => chart.spec.stacked = true,
                "ordered" => chart.spec.ordered = true,
                "log" => chart.spec.log = true,
                _ => {}
            }
            continue;
        };
        let column = || {
            chart.column(&part.text).ok_or_else(|| Failure {
                place: Some(part.span.clone()),
                ..plain(format!(
                    "The result that is drawn has no column {}.",
                    part.text
                ))
            })
        };
        match *option {
            "of" => chart.one_column(column()?, parsed.argument(0).is_some()),
            "x" => chart.spec.x = Some(column()?),
            "y" => values.push(column()?),
            "by" => chart.spec.by = Some(column()?),
            "panels" => chart.spec.panels = Some(column()?),
            "how" => chart.spec.how = How::named(&part.text).unwrap_or(How::Sum),
            "title" => chart.named = Some(part.text.clone()),
            _ => {}
        }
    }
    if !values.is_empty() {
        chart.spec.y = values;
        if chart.spec.how == How::Count && parsed.option("how").is_none() {
            chart.spec.how = How::Sum;
        }
    }
    let x = chart.spec.x;
    if parsed.option("x").is_some() {
        chart.spec.y.retain(|at| Some(*at) != x);
    }
    if chart.spec.by.is_some() && chart.spec.by == x {
        chart.spec.by = None;
    }
    let options: Vec<&str> = parsed.options.iter().map(|(name, _)| *name).collect();
    chart
        .refused_option(&options)
        .map_or(Ok(()), |words| Err(plain(words)))
}

/// The picture of an entry and the rows that it draws.
pub(crate) fn drawn<'a>(turn: &'a Turn<'_>, number: u32) -> Option<(&'a Entry, &'a Sheet)> {
    let entry = turn.entries.get(number)?;
    let Content::Chart(chart) = &entry.content else {
        return None;
    };
    Some((entry, turn.entries.get(chart.of)?.sheet()?))
}
