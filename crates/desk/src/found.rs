//! Looks at this machine and at saved sources: which servers listen, which sources answer, whether one lets you in.

use std::collections::BTreeMap;

use idle_tide_engines::{EngineError, OpenError, Silent, Trouble, open};

use crate::page::Tone;
use crate::session::{Next, Task, Turn};
use crate::settings::Saved;
use crate::sources::{self, Found};
use crate::task::{Bench, Lane, Work};

/// Looks for servers on this machine, and whether saved sources answer.
pub(crate) struct Look {
    saved: BTreeMap<String, Saved>,
    found: (Vec<Found>, Vec<(String, bool)>),
}

impl Look {
    pub(crate) fn new(saved: BTreeMap<String, Saved>) -> Self {
        Look {
            saved,
            found: Default::default(),
        }
    }
}

impl Work for Look {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, _: &mut Bench<'_>) -> Result<(), EngineError> {
        self.found.0 = sources::look();
        let answers = self.saved.iter().filter_map(|(name, saved)| {
            // Nobody is logged in, so no password is fetched.
            let saved = Saved {
                password_command: None,
                keyring: None,
                password: None,
                ..saved.clone()
            };
            let source = sources::of_saved(name, &saved, None).ok()?.source;
            Some((name.clone(), sources::answers(&source)?))
        });
        self.found.1 = answers.collect();
        Ok(())
    }
}

impl Task for Look {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, _: Result<(), EngineError>) -> Next {
        turn.services.looking = false;
        turn.services.found = self.found;
        Next::Keep
    }
}

/// Logs in to a saved source, and leaves again.
pub(crate) struct Test {
    name: String,
    saved: Saved,
    words: String,
}

impl Test {
    pub(crate) fn new(name: &str, saved: Saved) -> Self {
        Test {
            name: name.to_string(),
            saved,
            words: String::new(),
        }
    }
}

impl Work for Test {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, _: &mut Bench<'_>) -> Result<(), EngineError> {
        let name = &self.name;
        let opened = sources::of_saved(name, &self.saved, None)
            .and_then(|origin| open(&origin.source, origin.options, &Silent));
        let failed = |error: OpenError| EngineError::plain(format!("{name}: {error}"));
        self.words = match opened {
            Ok(mut connection) => {
                let b = connection.bearings();
                format!("{name} is fine: {} {} let you in.", b.family, b.version)
            }
            Err(error) if error.trouble == Trouble::Login => format!(
                "{name} answers and wants a password, which is asked for when it is opened."
            ),
            Err(error) => return Err(failed(error)),
        };
        Ok(())
    }
}

impl Task for Test {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        match how {
            Ok(()) => turn.say(self.words, Tone::Active),
            Err(error) => turn.say(error.message, Tone::Danger),
        }
        Next::Keep
    }
}
