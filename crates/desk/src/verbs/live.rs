//! `/live`: reads the result shown again and again.

use std::time::Duration;

use idle_tide_lang::command::Parsed;
use idle_tide_lang::flow::FlowError;
use idle_tide_lang::parameter::parameters;
use idle_tide_lang::statement::{Effect, summary};

use super::Verb;
use crate::failure::{Failure, plain};
use crate::filter::{Filter, with_script};
use crate::live::Asked;
use crate::page::Tone;
use crate::readings;
use crate::session::{Next, Turn};
use crate::sheet::{now, read};

/// Time between readings, in seconds, where none is named.
const EVERY: f64 = 2.0;
/// The shortest and the longest time between readings, in seconds.
const BOUNDS: (f64, f64) = (0.2, 86_400.0);

pub(crate) struct Again;

impl Verb for Again {
    fn name(&self) -> &'static str {
        "live"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        if turn.services.stream.is_some() {
            return Err(plain("A result is live on a screen; a script has none."));
        }
        let number = turn.shown.unwrap_or_default();
        let every = parsed.argument(0);
        if every == Some("stop") {
            let stopped = turn.entries.get_mut(number).is_some_and(readings::stop);
            let words = match stopped {
                true => format!("Entry {number} stays as it is now."),
                false => format!("Entry {number} is not live."),
            };
            turn.say(words, Tone::Plain);
            return Ok(Next::Keep);
        }
        let seconds = match every {
            None => EVERY,
            Some(text) => {
                let seconds: Option<f64> = text.trim_end_matches('s').parse().ok();
                let within = |seconds: &f64| (BOUNDS.0..=BOUNDS.1).contains(seconds);
                seconds.filter(within).ok_or_else(|| Failure {
                    place: parsed.arguments.first().map(|part| part.span.clone()),
                    ..plain(format!(
                        "{text} is no time between readings: a number of seconds, {} to {}, or stop.",
                        BOUNDS.0, BOUNDS.1
                    ))
                })?
            }
        };
        let entry = turn
            .entries
            .get(number)
            .ok_or_else(|| plain("There is no entry yet."))?;
        if let Some(why) = readings::refusal(entry) {
            return Err(plain(why));
        }
        if entry.session != turn.session.number {
            return Err(plain(
                "This result is of another session. Go there to make it live; a statement runs where it was typed.",
            ));
        }
        let dialect = turn.session.dialect;
        if summary(&entry.text, dialect).effect != Effect::Read {
            return Err(plain(
                "This statement is not known to do no more than read, so it is not run again by itself. /again runs it once.",
            ));
        }
        if let Some(parameter) = parameters(&entry.text, dialect).first() {
            return Err(plain(format!(
                "The value of :{} was asked for and is not kept. Write it into the statement, and it can be live.",
                parameter.name
            )));
        }
        let text = |name: &str| {
            let part = parsed.option(name)?;
            let refused = |error: FlowError| Failure {
                place: Some(part.span.clone()),
                ..plain(error.message)
            };
            Some(with_script(&part.text, &turn.services.script).map_err(refused))
        };
        let sheet = entry.sheet().ok_or_else(|| plain("It has no rows."))?;
        for name in ["until", "alert"] {
            let Some((part, condition)) = parsed.option(name).zip(text(name).transpose()?) else {
                continue;
            };
            Filter::new(&condition, read(&sheet.set).columns(), now()).map_err(|error| {
                Failure {
                    place: Some(part.span.clone()),
                    ..plain(error.message)
                }
            })?;
        }
        if let Some(part) = parsed.option("trend")
            && sheet.column(&part.text).is_none()
        {
            return Err(Failure {
                place: Some(part.span.clone()),
                ..plain(format!("This result has no column {}.", part.text))
            });
        }
        let asked = Asked {
            every: Duration::from_secs_f64(seconds),
            until: text("until").transpose()?,
            alert: text("alert").transpose()?,
            trend: parsed.option("trend").map(|part| part.text.clone()),
            in_transaction: parsed.has("in-transaction"),
        };
        readings::begin(turn, number, asked);
        turn.say(
            "It is read again and again. Ctrl-C or /live stop ends that; W does too.",
            Tone::Faint,
        );
        Ok(Next::Keep)
    }
}
