//! Lists that only the server can give: databases, users and roles, who may do what. The engine says with which
//! statement, and that runs.

use idle_tide_engines::{EngineError, Listing, Query};
use idle_tide_lang::command::Parsed;

use super::{Needs, Verb, statement};
use crate::failure::Failure;
use crate::lists;
use crate::page::Tone;
use crate::session::{Next, Task, Turn};
use crate::task::{Bench, Lane, Work};

/// A command that lists what the server knows.
pub(crate) struct Served {
    name: &'static str,
    what: fn(&Parsed) -> Wanted,
}

pub(crate) static ACCESS: Served = Served {
    name: "access",
    what: |parsed| Wanted::Access(parsed.argument(0).map(str::to_string)),
};
pub(crate) static DATABASES: Served = Served {
    name: "databases",
    what: |parsed| Wanted::Databases(parsed.has("full")),
};
pub(crate) static ROLES: Served = Served {
    name: "roles",
    what: |parsed| Wanted::Roles(parsed.has("full")),
};

/// A listing that can travel.
enum Wanted {
    Databases(bool),
    Roles(bool),
    Access(Option<String>),
}

impl Verb for Served {
    fn name(&self) -> &'static str {
        self.name
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Session
    }

    fn start(&self, _: &mut Turn<'_>, parsed: &Parsed, _: Option<String>) -> Result<Next, Failure> {
        let wanted = (self.what)(parsed);
        Ok(Next::Go(Box::new(Ask {
            pattern: match wanted {
                Wanted::Access(_) => None,
                _ => parsed.argument(0).map(str::to_string),
            },
            wanted,
            query: Err(String::new()),
        })))
    }
}

/// Asks the engine for the statement.
struct Ask {
    wanted: Wanted,
    /// What the names are narrowed by.
    pattern: Option<String>,
    query: Result<Query, String>,
}

impl Work for Ask {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        self.query = at.connection()?.describe().listing(match &self.wanted {
            Wanted::Databases(full) => Listing::Databases(*full),
            Wanted::Roles(full) => Listing::Roles(*full),
            Wanted::Access(name) => Listing::Access(name.as_deref()),
        });
        Ok(())
    }
}

impl Task for Ask {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        if let Err(error) = how {
            return statement::refused(turn, "", &error);
        }
        match self.query {
            Ok(query) => {
                if let Some(note) = query.note {
                    turn.say(note, Tone::Faint);
                }
                let sql = match &self.pattern {
                    Some(pattern) => lists::narrowed(&query.sql, pattern, turn.session.dialect),
                    None => query.sql,
                };
                statement::Run::reading(sql).go()
            }
            Err(words) => Next::refuse(words),
        }
    }
}
