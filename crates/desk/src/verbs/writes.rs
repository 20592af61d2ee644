//! `/writes`: how writes are treated.

use idle_tide_engines::{Access, EngineError};
use idle_tide_lang::command::Parsed;

use super::Verb;
use crate::arrival::writes_words;
use crate::entry::Content;
use crate::failure::{Failure, plain};
use crate::page::{Page, Tone};
use crate::session::{Next, Task, Turn};
use crate::settings;
use crate::task::{Bench, Lane, Work};

pub(crate) struct Writes;

impl Verb for Writes {
    fn name(&self) -> &'static str {
        "writes"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let access = &turn.session.bearings.access;
        let Some(wanted) = parsed.argument(0).and_then(settings::Writes::named) else {
            let words = format!(
                "This session {}.",
                writes_words(turn.session.writes, access)
            );
            turn.say(words, Tone::Plain);
            return Ok(Next::Keep);
        };
        match access {
            Access::ReadOnly(why) if wanted != settings::Writes::None => Err(plain(why.clone())),
            _ => Ok(Next::Go(Box::new(Refuse {
                wanted,
                at_first: false,
            }))),
        }
    }
}

/// Makes the engine refuse writes, or ends that.
pub(crate) struct Refuse {
    wanted: settings::Writes,
    at_first: bool,
}

impl Refuse {
    /// From the beginning of a session on.
    pub(crate) fn at_first() -> Self {
        Refuse {
            wanted: settings::Writes::None,
            at_first: true,
        }
    }
}

impl Work for Refuse {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        at.connection()?
            .refuse_writes(self.wanted == settings::Writes::None)
    }
}

impl Task for Refuse {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        if let Err(error) = how {
            return Next::refuse(format!("The engine does not do that: {}.", error.message));
        }
        turn.session.writes = self.wanted;
        if self.at_first {
            return Next::Keep;
        }
        let words = writes_words(self.wanted, &turn.session.bearings.access);
        let mut page = Page::new();
        page.say(Tone::Heading, format!("This session {words}."));
        page.gap();
        page.say(Tone::Faint, match self.wanted {
            settings::Writes::None => "The engine itself refuses every write, whatever the statement looks like.",
            settings::Writes::Free => "Every statement runs at once, also one that deletes everything.",
            settings::Writes::Ask => "Updates, deletes and inserts from a query are held and shown before they are kept, where the server can take them back; drops and what cannot be taken back are asked about, with their numbers. Single rows are written at once.",
        });
        Next::Done(Content::Page(page))
    }
}
