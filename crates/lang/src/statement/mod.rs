//! What a statement does: whether it reads, writes, defines or cannot be known, which objects it names, and
//! whether it sweeps: touches every row of a table or takes an object away. It reads tokens, not the database,
//! so it says what the statement asks for, not what will happen.

mod batch;
mod change;
mod condition;
mod flow;
mod sql;

use std::fmt;

pub use change::{Change, Chosen, Does, change};

use crate::dialect::{Bodies, Dialect, Family};
use crate::token::{TokenKind, significant, tokens};

/// What a statement does, as far as its words tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// Reads.
    Read,
    /// Inserts, updates or deletes rows.
    Write,
    /// Creates, alters or drops objects.
    Definition,
    /// Begins or ends a transaction.
    Transaction,
    /// Settings, rights, maintenance.
    Other,
    /// Runs what its words do not tell: a procedure, a prepared statement, a block.
    Unknown,
}

/// The name of an object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// Its parts with dots between them, quotes taken off.
    pub shown: String,
    /// As it stands in the statement, quotes and all.
    pub written: String,
}

impl fmt::Display for Named {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.shown)
    }
}

/// A statement that touches everything, or takes something away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sweep {
    /// Deletes every row of a table.
    DeleteAll {
        /// The table.
        table: Named,
        /// At most so many rows.
        limit: Option<u64>,
        /// Empties it without looking at rows; true where what refers to it is emptied too.
        truncates: Option<bool>,
    },
    /// Deletes the rows of a table that another one chooses; how many its words do not tell.
    DeleteMatching {
        /// The table.
        table: Named,
    },
    /// Updates every row of a table.
    UpdateAll {
        /// The table.
        table: Named,
        /// At most so many rows.
        limit: Option<u64>,
    },
    /// Drops an object.
    Drop {
        /// The word for what it is: `table`, `view`, `owned` for all that a role owns.
        kind: String,
        /// Its name.
        name: Named,
        /// Whether what depends on it goes too.
        cascade: bool,
        /// Whether another one comes in its place.
        replaced: bool,
    },
    /// Replaces everything in a collection.
    Replace {
        /// The collection.
        table: Named,
    },
    /// Drops a column of a table.
    DropColumn {
        /// The table.
        table: Named,
        /// The column.
        column: String,
    },
    /// Takes parts of a table away.
    Part {
        /// What they are: `partition`, `primary key`, `index`, `constraint`, `history`.
        kind: String,
        /// Their names, where they have some.
        parts: Vec<String>,
        /// The table.
        table: Named,
    },
    /// Runs a text that is put together only when it runs.
    Unread {
        /// The word that runs it.
        how: String,
    },
}

/// On what a statement makes its work depend.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Given {
    /// On nothing.
    #[default]
    Nothing,
    /// `if exists`, `if not exists`: there may be nothing to do.
    Existence,
    /// `or replace`, and inserts that change rows which are there.
    Replacing,
}

/// What the words of a statement say about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Summary {
    /// The word that says what it does, lower case; after `with` the word of the main statement.
    pub verb: String,
    /// What it does.
    pub effect: Effect,
    /// Everything that it sweeps.
    pub sweeps: Vec<Sweep>,
    /// The kind of object that a definition is about, in its own word; of `copy` the end that is not the table:
    /// `stdin`, `stdout` or `server`.
    pub kind: Option<String>,
    /// On what it depends.
    pub given: Given,
    /// The objects that a write or definition names.
    pub targets: Vec<Named>,
    /// Functions that a query calls and this program does not know; they may do anything.
    pub calls: Vec<String>,
    /// Whether the server ends an open transaction before it, and keeps what that changed.
    pub commits: bool,
}

impl Summary {
    /// Nothing but a word and its effect.
    pub fn new(verb: &str, effect: Effect) -> Self {
        Summary {
            verb: verb.to_string(),
            effect,
            sweeps: Vec::new(),
            kind: None,
            given: Given::Nothing,
            targets: Vec::new(),
            calls: Vec::new(),
            commits: false,
        }
    }

    /// Whether nothing can be changed by it, as far as is known.
    pub fn only_reads(&self) -> bool {
        self.effect == Effect::Read && self.calls.is_empty()
    }

    fn writing(verb: &str, target: Option<Named>, sweeps: Vec<Sweep>) -> Self {
        Summary {
            sweeps,
            targets: target.into_iter().collect(),
            ..Summary::new(verb, Effect::Write)
        }
    }

    /// The objects that it names in one sentence, quotes taken off: `a`, `a and b`, `a, b and c`.
    pub fn names(&self) -> String {
        let names: Vec<&str> = self
            .targets
            .iter()
            .map(|name| name.shown.as_str())
            .collect();
        match names.split_last() {
            Some((last, [])) => last.to_string(),
            Some((last, before)) => format!("{} and {last}", before.join(", ")),
            None => format!("the {}", self.kind.as_deref().unwrap_or("object")),
        }
    }

    /// The object that it names first, quotes taken off.
    pub fn target(&self) -> Option<&str> {
        self.targets.first().map(|name| name.shown.as_str())
    }
}

/// The statement and the data behind it, for `copy … from stdin;` with its lines of data. The line that ends
/// them is left out.
pub fn data_of<'a>(text: &'a str, dialect: &Dialect) -> Option<(&'a str, &'a str)> {
    let head = head(text, dialect);
    let data = text[head.len()..].strip_prefix(';')?;
    let data = data.split_once('\n').map(|(_, data)| data)?;
    let end = data
        .rfind("\\.")
        .filter(|at| data[at + 2..].trim().is_empty())?;
    Some((head, &data[..end]))
}

/// The part of a text that is SQL: all of it, but for `copy … from stdin` up to its semicolon, because data of
/// any size follow.
fn head<'a>(text: &'a str, dialect: &Dialect) -> &'a str {
    const LONGEST: usize = 64 * 1024;
    if dialect.family != Family::Postgres || !text.contains("\\.") {
        return text;
    }
    let mut end = text.len().min(LONGEST);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let start = &text[..end];
    let list = significant(&tokens(start, dialect));
    if !list
        .first()
        .is_some_and(|token| token.is_word(start, "copy"))
    {
        return text;
    }
    let semicolon = list.iter().find(|token| token.kind == TokenKind::Semicolon);
    semicolon.map_or(text, |token| &text[..token.start])
}

/// Summarises one statement.
pub fn summary(text: &str, dialect: &Dialect) -> Summary {
    match dialect.is_flow() {
        true => flow::read(text),
        false if dialect.bodies == Bodies::Batch => batch::read(text, dialect),
        false => sql::read(head(text, dialect), dialect),
    }
}

/// Whether a part of it may have been done and kept when it fails or is stopped, where no transaction is open: it holds
/// several statements, or runs what its words do not tell.
pub fn may_be_half_done(text: &str, dialect: &Dialect) -> bool {
    let about = summary(text, dialect);
    match dialect.family {
        _ if about.effect == Effect::Read => false,
        Family::Tabular => about.effect == Effect::Unknown || batch::count(text, dialect) > 1,
        Family::Mariadb => about.effect == Effect::Unknown,
        // A procedure may keep what it did on its way.
        Family::Postgres => about.verb == "call" || about.verb == "do",
        Family::Sqlite | Family::Documents => false,
    }
}

/// The names that stand before an opening bracket, lower case: every function that is called, and perhaps others.
pub fn called(text: &str, dialect: &Dialect) -> Vec<String> {
    let list = significant(&tokens(text, dialect));
    let mut found: Vec<String> = list
        .windows(2)
        .filter(|pair| pair[1].kind == TokenKind::Open)
        .filter_map(|pair| Some(pair[0].name(text)?.to_lowercase()))
        .collect();
    found.sort();
    found.dedup();
    found
}
