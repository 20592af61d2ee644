//! `/diary`: the session as a file that runs again, from now on or of earlier entries.

use idle_tide_lang::command::Parsed;

use super::Verb;
use crate::diary::{Diary, Kept, ROWS, has_ended};
use crate::export::expand;
use crate::failure::{Failure, nowhere, plain};
use crate::page::Tone;
use crate::session::{Next, Turn};

pub(crate) struct Keeps;

impl Verb for Keeps {
    fn name(&self) -> &'static str {
        "diary"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let Some(name) = parsed.argument(0) else {
            let words = match &turn.services.diary {
                Some(diary) => format!(
                    "The diary is {}; /diary stop ends it.",
                    diary.path.display()
                ),
                None => "No diary is kept. /diary FILE.md begins one.".into(),
            };
            turn.say(words, Tone::Plain);
            return Ok(Next::Keep);
        };
        if name == "stop" {
            let diary = turn.services.diary.take();
            let diary = diary.ok_or_else(|| plain("No diary is kept here."))?;
            let path = diary.end().map_err(plain)?;
            turn.say(
                format!("The diary {} is at its end.", path.display()),
                Tone::Active,
            );
            return Ok(Next::Keep);
        }
        if turn.session.is_nowhere() {
            return Err(nowhere());
        }
        let number = |option: &str| {
            parsed
                .value(option)
                .and_then(|text| text.parse::<u32>().ok())
        };
        let rows = number("rows").map_or(ROWS, u64::from);
        let path = expand(name);
        let (from, to) = (number("from"), number("to"));
        if from.is_none() && to.is_none() {
            if let Some(diary) = &turn.services.diary {
                return Err(plain(format!(
                    "A diary is kept already, in {}. /diary stop ends it.",
                    diary.path.display()
                )));
            }
            let at = turn.entries.all().len();
            let diary = Diary::begin(&path, &kept(turn), at, rows).map_err(plain)?;
            let words = format!(
                "From now on everything here is in {}, and runs again with idle-tide run SOURCE --file {name}.",
                path.display()
            );
            turn.services.diary = Some(diary);
            turn.say(words, Tone::Active);
            return Ok(Next::Keep);
        }
        let (from, to) = (from.unwrap_or(1), to.unwrap_or(u32::MAX));
        let chosen = |number: u32| (from..=to).contains(&number);
        let here = turn.session.number;
        let list: Vec<_> = turn
            .entries
            .all()
            .iter()
            .filter(|entry| chosen(entry.number) && entry.session == here && has_ended(entry))
            .collect();
        if list.is_empty() {
            return Err(plain("There are no such entries in this session."));
        }
        let mut diary = Diary::begin(&path, &kept(turn), 0, rows).map_err(plain)?;
        for entry in &list {
            diary.add(entry, turn.session.dialect);
        }
        let path = diary.end().map_err(plain)?;
        let count = idle_tide_draw::picture::counted(list.len() as u64, "entry");
        let count = count.replace("entrys", "entries");
        turn.say(format!("{count} in {}.", path.display()), Tone::Active);
        Ok(Next::Keep)
    }
}

/// The session that the diary is of.
fn kept<'a>(turn: &'a Turn<'_>) -> Kept<'a> {
    Kept {
        number: turn.session.number,
        source: &turn.session.source,
        bearings: &turn.session.bearings,
    }
}
