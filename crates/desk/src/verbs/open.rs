//! Opening sources, opening them anew, going to another database or user, and closing. Opening is done in a thread
//! of its own; what it asks is asked in the session that it was begun in.

use std::sync::mpsc::channel;

use idle_tide_engines::address::Secrets;
use idle_tide_engines::{
    Ask, Bearings, Connection, EngineError, Nowhere, OpenError, OpenOptions, Overrides, Source,
    Trouble, open,
};
use idle_tide_lang::command::Parsed;
use idle_tide_lang::dialect::Family;
use secrecy::SecretString;

use super::{Needs, Verb, statement};
use crate::ask::Asked;
use crate::failure::{self, Failure, plain};
use crate::guard::Question;
use crate::origin::Origin;
use crate::page::{Page, Tone};
use crate::session::{Entering, How, Next, Task, Turn};
use crate::settings::{Saved, Tone as SourceTone};
use crate::sources::of_saved;
use crate::task::{Bench, Lane, Progress, Reporter, Work};

/// `/open`.
pub(crate) struct Open;
pub(crate) static OPEN: Open = Open;

impl Verb for Open {
    fn name(&self) -> &'static str {
        "open"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let text = parsed.argument(0).unwrap_or_default();
        let settings = turn.services.settings();
        if let Some(saved) = settings.sources.get(text) {
            return Ok(Next::Go(Box::new(Opening {
                what: What::Saved(text.into(), Box::new(saved.clone())),
                ..Opening::of(text, How::New)
            })));
        }
        let more = Overrides {
            via: parsed.value("via").map(str::to_string),
            through: parsed.value("through").map(str::to_string),
            ..Overrides::default()
        };
        let source = Source::parse_with(text, &more).map_err(|mut error| {
            let saved = settings.sources.keys().map(String::as_str);
            if let Some(near) = idle_tide_lang::correct::nearest(text, saved, 2).first() {
                error
                    .checks
                    .push(format!("A saved source is called {near}."));
            }
            failure::of_opening(&error)
        })?;
        // What stood in the address was taken out of it when it was typed.
        if let Some(secret) = turn.waiting.password.clone() {
            source.set_password(secret);
        }
        let origin = Origin {
            name: source.name(),
            source,
            options: OpenOptions {
                write: parsed.has("write"),
                keep_going: parsed.has("keep-going"),
                ..OpenOptions::default()
            },
            tone: SourceTone::Calm,
        };
        Ok(Next::Go(Box::new(Opening::known(origin, How::New))))
    }
}

/// A command that takes the session elsewhere.
pub(crate) struct Elsewhere {
    name: &'static str,
    go: fn(&mut Turn<'_>, &Parsed) -> Result<Next, Failure>,
}

pub(crate) static BACK: Elsewhere = Elsewhere {
    name: "back",
    go: |turn, _| {
        let Some(before) = turn.session.before.last().cloned() else {
            return Err(plain(
                "There is nobody to go back to; /reopen --as USER comes as somebody else.",
            ));
        };
        Ok(leave(turn, before, false, Leaving::Back))
    },
};
pub(crate) static CLOSE: Elsewhere = Elsewhere {
    name: "close",
    go: |turn, _| Ok(ask_to_leave(turn, Box::new(|_| Next::Close))),
};
pub(crate) static REOPEN: Elsewhere = Elsewhere {
    name: "reopen",
    go: reopen,
};
pub(crate) static USE: Elsewhere = Elsewhere {
    name: "use",
    go: use_database,
};

impl Verb for Elsewhere {
    fn name(&self) -> &'static str {
        self.name
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Session
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        (self.go)(turn, parsed)
    }
}

/// What opened the session.
fn origin_of(turn: &Turn<'_>) -> Result<Origin, Failure> {
    turn.session.origin.clone().ok_or_else(|| {
        plain("How this session was opened is not known, so it cannot be opened again.")
    })
}

fn reopen(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<Next, Failure> {
    let mut origin = origin_of(turn)?;
    let database = turn.session.bearings.database.clone();
    let Some(user) = parsed.value("as") else {
        origin.source.set_database(&database);
        return Ok(leave(turn, origin, true, Leaving::Same));
    };
    match &mut origin.source {
        Source::Server(address) => {
            address.user = user.to_string();
            address.database = database;
            address.secrets = Secrets::default();
        }
        Source::Wire(address) => {
            let as_user = address.with_database(&database).with_user(user);
            **address = as_user.map_err(|error| failure::of_opening(&error))?;
        }
        _ => return Err(plain("A file has no users. /reopen opens it anew.")),
    }
    Ok(leave(turn, origin, false, Leaving::AsUser))
}

fn use_database(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<Next, Failure> {
    let database = parsed.argument(0).unwrap_or_default();
    let dialect = turn.session.dialect;
    let on_the_spot = match dialect.family {
        Family::Mariadb | Family::Tabular => Some(dialect.quote_name(database)),
        Family::Documents if turn.session.bearings.server.is_some() => Some(database.to_string()),
        Family::Documents | Family::Postgres | Family::Sqlite => None,
    };
    if let Some(database) = on_the_spot {
        return Ok(statement::Run::of(format!("use {database}"), dialect).go());
    }
    let mut origin = origin_of(turn)?;
    match &origin.source {
        Source::Server(_) | Source::Wire(_) => origin.source.set_database(database),
        Source::Documents(_) | Source::DemoDocuments => {
            return Err(plain(
                "A folder of documents is one database. /open docs:PATH opens another beside it.",
            ));
        }
        Source::Demo | Source::File(_) | Source::Memory => {
            return Err(plain(
                "A file holds one database. attach 'FILE' as NAME; opens another beside it.",
            ));
        }
    }
    Ok(leave(turn, origin, false, Leaving::Same))
}

/// What leaving is for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Leaving {
    /// The same user.
    Same,
    /// Another user; the one before is remembered.
    AsUser,
    /// The user before.
    Back,
}

/// Leaves the connection for another one, after asking where a transaction is open.
fn leave(turn: &mut Turn<'_>, origin: Origin, restore: bool, leaving: Leaving) -> Next {
    let how = How::Instead {
        restore,
        keep: leaving == Leaving::AsUser,
    };
    ask_to_leave(
        turn,
        Box::new(move |turn| {
            if leaving == Leaving::Back {
                turn.session.before.pop();
            }
            let mut opening = Opening::known(origin, how);
            if restore {
                opening.restore =
                    Some((turn.session.bearings.clone(), turn.session.settings.clone()));
            }
            Next::Go(Box::new(opening))
        }),
    )
}

/// Goes on at once, or asks first where a transaction is open; what is lost has none any more.
fn ask_to_leave(turn: &mut Turn<'_>, then: crate::session::Step) -> Next {
    let open = turn
        .session
        .bearings
        .transaction
        .filter(|_| !turn.session.lost);
    let Some(since) = open else {
        return then(turn);
    };
    let mut page = Page::new();
    page.say(
        Tone::Heading,
        "A transaction is open here. Leaving this connection takes back what it changed.",
    );
    page.gap();
    let lasting = idle_tide_draw::picture::lasting(since.elapsed());
    page.say(
        Tone::Faint,
        format!("It has been open for {lasting}. commit; keeps what it changed."),
    );
    let question = Question {
        page,
        yes: "leaves it, and takes the changes back".into(),
        no: "stays".into(),
    };
    Next::Ask(question, then)
}

/// What is opened.
enum What {
    Known(Box<Origin>),
    /// A saved source; its password may come from a command, which takes its time.
    Saved(String, Box<Saved>),
    /// It was opened already.
    Taken,
}

/// A connection, and what opened it.
type Opened = (Box<dyn Connection>, Origin);

/// Opens a source.
pub(crate) struct Opening {
    name: String,
    what: What,
    how: How,
    /// Where the session was and what was set in it, to be restored.
    restore: Option<(Bearings, Vec<String>)>,
    opened: Option<Result<Opened, OpenError>>,
    /// What is submitted on arrival.
    pub(crate) first: Option<String>,
}

impl Opening {
    fn of(name: &str, how: How) -> Self {
        Opening {
            name: name.to_string(),
            what: What::Taken,
            how,
            restore: None,
            opened: None,
            first: None,
        }
    }

    /// Of a source that is known.
    pub(crate) fn known(origin: Origin, how: How) -> Self {
        Opening {
            what: What::Known(Box::new(origin.clone())),
            ..Self::of(&origin.name, how)
        }
    }

    fn open(&mut self, at: &mut Bench<'_>) -> Result<Opened, OpenError> {
        let origin = match std::mem::replace(&mut self.what, What::Taken) {
            What::Known(origin) => *origin,
            What::Saved(name, saved) => of_saved(&name, &saved, None)?,
            What::Taken => return Err(OpenError::cancelled()),
        };
        let asker = Asker(at.reporter.clone());
        let in_a_role = self.restore.as_ref().is_some_and(|(bearings, _)| {
            let server = bearings.server.as_ref();
            server.is_some_and(|server| server.role.is_some())
        });
        let mut connection = match open(&origin.source, origin.options, &asker) {
            // It may be open to the role alone, which is taken before it is entered.
            Err(error) if in_a_role && error.trouble == Trouble::NoDatabase => {
                let mut server = origin.source.clone();
                server.set_database("");
                open(&server, origin.options, &asker)?
            }
            opened => opened?,
        };
        if let Some((bearings, settings)) = &self.restore {
            if let Some(server) = connection.served() {
                server.follow(bearings)?;
            }
            for statement in settings {
                connection.run(at.ticket, statement, &mut Nowhere)?;
            }
        }
        Ok((connection, origin))
    }
}

impl Work for Opening {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        self.opened = Some(self.open(at));
        Ok(())
    }
}

impl Task for Opening {
    fn given_up(&self) -> Option<Page> {
        let mut page = Page::new();
        page.say(Tone::Heading, format!("{} was not opened.", self.name));
        Some(page)
    }

    fn ended(self: Box<Self>, _: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        match (self.opened, how) {
            (Some(Ok((connection, origin))), Ok(())) => Next::Enter(Box::new(Entering {
                connection,
                origin,
                how: self.how,
                first: self.first,
            })),
            (Some(Err(error)), _) if error.trouble == Trouble::Cancelled => Next::NotRun,
            (Some(Err(error)), _) => failure::of_opening(&error).into(),
            (_, Err(error)) => Next::refuse(format!("{} was not opened: {error}.", self.name)),
            (None, Ok(())) => Next::NotRun,
        }
    }
}

/// Passes questions on to the desk's thread.
struct Asker(Reporter);

impl Ask for Asker {
    fn secret(&self, what: &str) -> Option<SecretString> {
        let (reply, answer) = channel();
        self.0
            .tell(Progress::Asks(Asked::Secret(what.into(), reply)));
        answer.recv().ok()?
    }

    fn allow(&self, question: &str, details: &[String]) -> bool {
        let (reply, answer) = channel();
        let asked = Asked::Allow(question.into(), details.to_vec(), reply);
        self.0.tell(Progress::Asks(asked));
        answer.recv().unwrap_or(false)
    }

    fn tell(&self, word: &str) {
        self.0.tell(Progress::Asks(Asked::Word(word.into())));
    }
}
