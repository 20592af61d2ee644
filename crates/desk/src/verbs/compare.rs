//! `/compare`: what differs between two results.

use idle_tide_lang::command::Parsed;

use super::{Verb, entry_named};
use crate::comparing::{Compare, One, earlier_of};
use crate::entry::Entry;
use crate::failure::{Failure, plain};
use crate::session::{Next, Turn};

pub(crate) struct Differs;

impl Verb for Differs {
    fn name(&self) -> &'static str {
        "compare"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let named = |at: usize| {
            let number = parsed.argument(at);
            number.map(|number| entry_named(turn, number)).transpose()
        };
        let after = match named(1)? {
            Some(after) => after,
            None => turn
                .shown()
                .ok_or_else(|| plain("There is no entry yet."))?,
        };
        let before = match named(0)? {
            Some(before) => before,
            None => since(turn, after).ok_or_else(|| {
                plain("There is nothing to compare it with: no entry before it has rows. /compare A B compares the results of entries A and B.")
            })?,
        };
        if before.number == after.number {
            return Err(plain(format!(
                "Entry {} would be compared with itself. Show another one, or name two: /compare A B.",
                after.number
            )));
        }
        let (before, after) = (
            One::of(before).map_err(plain)?,
            One::of(after).map_err(plain)?,
        );
        let options = parsed.options.iter();
        let on = options.filter_map(|(name, value)| value.as_ref().filter(|_| *name == "on"));
        let on = on.flat_map(|part| part.text.split(','));
        let on: Vec<String> = on
            .map(|name| name.trim().to_string())
            .filter(|name| !name.is_empty())
            .collect();
        let within = match parsed.option("within") {
            None => 0.0,
            Some(part) => part
                .text
                .parse()
                .ok()
                .filter(|far| *far >= 0.0)
                .ok_or_else(|| Failure {
                    place: Some(part.span.clone()),
                    ..plain(format!(
                        "{} is no distance between numbers, such as 0.01.",
                        part.text
                    ))
                })?,
        };
        let task = Compare::new(turn, before, after).on(on, within);
        Ok(Next::Go(Box::new(task)))
    }
}

/// What an entry is compared with where nothing is named: the one it says it differs from, an earlier one of the same
/// statement, or the latest before it that has rows.
fn since<'a>(turn: &'a Turn<'_>, own: &Entry) -> Option<&'a Entry> {
    let all = turn.entries.all();
    let known = own.since.and_then(|since| turn.entries.get(since.entry));
    known.or_else(|| earlier_of(all, own)).or_else(|| {
        let before = all.iter().rev().filter(|entry| entry.number < own.number);
        before.into_iter().find(|entry| One::of(entry).is_ok())
    })
}
