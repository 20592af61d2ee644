//! `/change-password`: the new password is asked for twice, hidden, and is in no statement.

use idle_tide_engines::EngineError;
use idle_tide_lang::command::Parsed;
use secrecy::{ExposeSecret, SecretString};

use super::{Needs, Verb, statement};
use crate::ask::Wanted;
use crate::entry::Content;
use crate::failure::{Failure, plain};
use crate::page::{Page, Tone};
use crate::session::{Next, Task, Turn, Wanting};
use crate::task::{Bench, Lane, Work};

pub(crate) struct ChangePassword;

impl Verb for ChangePassword {
    fn name(&self) -> &'static str {
        "change-password"
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Session
    }

    fn start(&self, turn: &mut Turn<'_>, _: &Parsed, _: Option<String>) -> Result<Next, Failure> {
        let Some(server) = &turn.session.bearings.server else {
            return Err(plain(
                "A file has no users, so there is no password to change.",
            ));
        };
        let first = format!("The new password of {}", server.user);
        Ok(Next::Want(
            hidden(first),
            Box::new(|_, first| {
                let again = hidden("The new password once more".into());
                Next::Want(again, Box::new(move |_, second| agreed(&first, second)))
            }),
        ))
    }
}

fn hidden(what: String) -> Wanting {
    Wanting {
        what,
        details: Vec::new(),
        wanted: Wanted::Secret,
    }
}

fn agreed(first: &SecretString, second: SecretString) -> Next {
    let why = if first.expose_secret() != second.expose_secret() {
        "The two passwords were not the same."
    } else if second.expose_secret().is_empty() {
        "An empty password was not set."
    } else {
        return Next::Go(Box::new(Change(second)));
    };
    Next::refuse(format!("{why} The old one is still yours."))
}

struct Change(SecretString);

impl Work for Change {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        match at.connection()?.served() {
            Some(server) => server.change_password(&self.0),
            None => Err(EngineError::plain(
                "A file has no users, so there is no password to change.",
            )),
        }
    }
}

impl Task for Change {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        if let Err(error) = how {
            return statement::refused(turn, "", &error);
        }
        let mut page = Page::new();
        page.say(Tone::Heading, "You have a new password.");
        page.gap();
        page.say(Tone::Faint, "This session goes on with it. It is in no statement, no history and no file of this program.");
        Next::Done(Content::Page(page))
    }
}
