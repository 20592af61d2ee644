//! SQLite files and memory, through the library itself. Runs in the thread it is given to; a statement
//! is cancelled from another thread by ticket; a lock is waited for up to five seconds, visibly.

pub mod between;
mod catalog;
mod complaint;
mod control;
mod create;
mod demo;
mod open;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use idle_tide_core::batch::Encoded;
use idle_tide_core::{Catalog, Column, RowBatch, ValueRef};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::statement::{Effect, Given, Summary, summary};
use rusqlite::Statement;
use rusqlite::fallible_iterator::FallibleIterator;
use rusqlite::hooks::{AuthAction, Authorization};
use rusqlite::types::ValueRef as Raw;

use crate::engine::{
    Access, Bearings, Connection, Control, Describe, EngineError, Fault, Listing, Outcome, Query,
    Sink,
};
use crate::gather::Gather;
use crate::load::{Destination, NotPut};
use control::Shared;
use open::Opened;

pub use demo::{make_demo, make_harbour};

/// How long a lock is waited for.
pub const LOCK_LIMIT: Duration = Duration::from_secs(5);
/// A connection to one SQLite database.
pub struct Sqlite {
    connection: rusqlite::Connection,
    opened: Opened,
    shared: Arc<Shared>,
    transaction: Option<Instant>,
    refusing: bool,
}

impl Sqlite {
    /// An empty database in memory.
    ///
    /// # Errors
    /// If there is no memory for it.
    pub fn memory() -> Result<Self, EngineError> {
        let connection = rusqlite::Connection::open_in_memory().map_err(complaint::read)?;
        Self::prepared(connection, Opened::memory())
    }

    /// A file. Without `write` neither it nor its folder is changed by a byte. `waiting` is called once
    /// if a lock has to be waited for.
    ///
    /// # Errors
    /// If it is missing, is no database, is locked, or was left in the middle of a write.
    pub fn file(path: &Path, write: bool, waiting: &mut dyn FnMut()) -> Result<Self, EngineError> {
        let (connection, opened) = open::open_file(path, write)?;
        let this = Self::prepared(connection, opened)?;
        let shared = Arc::clone(&this.shared);
        // The first read shows whether it is a database and whether somebody holds it.
        let first = std::thread::spawn(move || {
            let read = this
                .connection
                .query_row("select count(*) from sqlite_schema", [], |_| Ok(()));
            (this, read)
        });
        let mut told = false;
        while !first.is_finished() {
            if !told && shared.waiting().is_some() {
                told = true;
                waiting();
            }
            std::thread::sleep(Duration::from_micros(200));
        }
        let (this, read) = first
            .join()
            .map_err(|_| complaint::other("The file could not be read."))?;
        read.map_err(|error| complaint::opening(error, path))?;
        Ok(this)
    }

    fn prepared(connection: rusqlite::Connection, opened: Opened) -> Result<Self, EngineError> {
        let shared = Arc::new(Shared::default());
        let mut this = Sqlite {
            connection,
            opened,
            shared,
            transaction: None,
            refusing: false,
        };
        this.install()?;
        Ok(this)
    }

    /// Sets the handlers that a connection needs, also after it was opened anew.
    fn install(&mut self) -> Result<(), EngineError> {
        let shared = Arc::clone(&self.shared);
        self.connection
            .progress_handler(2_000, Some(move || shared.is_cancelled()))
            .map_err(complaint::read)?;
        let shared = Arc::clone(&self.shared);
        self.connection
            .busy_handler(Some(move |times| shared.wait(times)))
            .map_err(complaint::read)?;
        self.shared
            .set_interrupt(self.connection.get_interrupt_handle());
        self.refuse_writes(self.refusing)
    }

    /// Opens the file anew when it changed under a connection that could not see it.
    fn refresh(&mut self) -> Result<(), EngineError> {
        if self.connection.is_autocommit()
            && let Some((connection, opened)) = self.opened.reopen_if_changed()?
        {
            self.connection = connection;
            self.opened = opened;
            self.install()?;
        }
        Ok(())
    }

    /// Does something under a ticket; what was cancelled before it began does not begin.
    fn under<T>(
        &mut self,
        ticket: u64,
        work: impl FnOnce(&mut Self) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        self.shared.begin(ticket);
        let done = if self.shared.is_cancelled() {
            Err(complaint::cancelled())
        } else {
            work(self)
        };
        self.shared.end();
        done
    }

    fn pragma(&self, name: &str) -> Option<String> {
        self.connection
            .query_row(&format!("pragma {name}"), [], |row| {
                Ok(match row.get_ref(0)? {
                    Raw::Integer(i) => i.to_string(),
                    Raw::Text(t) => String::from_utf8_lossy(t).into_owned(),
                    _ => String::new(),
                })
            })
            .ok()
    }

    fn run_all(&mut self, text: &str, sink: &mut dyn Sink) -> Result<Outcome, EngineError> {
        if let Some(at) = text.find('\0') {
            let mut error = complaint::other("the statement holds a NUL byte");
            error.fault = Fault::Statement;
            error.offset = Some(at);
            error.advice = Some("The statement holds a NUL byte, and SQLite would stop reading there. Take it out, or write char(0).".into());
            return Err(error);
        }
        let mut outcome = Outcome::default();
        // An error may have ended the transaction and taken it back already: then there is nothing to do.
        let ends = self.connection.is_autocommit() && text.len() < 40;
        if ends
            && matches!(
                text.trim_matches([' ', ';', '\n'])
                    .to_ascii_lowercase()
                    .as_str(),
                "rollback" | "rollback transaction"
            )
        {
            return Ok(outcome);
        }
        let mut batch = rusqlite::Batch::new(&self.connection, text);
        while let Some(mut statement) = batch.next().map_err(complaint::read)? {
            if statement.parameter_count() > 0 {
                let name = statement.parameter_name(1).unwrap_or("?").to_string();
                let mut error = complaint::other("a parameter has no value");
                error.fault = Fault::Statement;
                error.offset = text.find(&name);
                error.advice = Some(format!(
                    "The statement asks for a value for {name}, and there is none. Write the value in its place."
                ));
                return Err(error);
            }
            let before = self.connection.total_changes();
            let writes = !statement.readonly();
            // What gives rows and does not write needs no reading.
            let about = match writes || statement.column_count() == 0 {
                true => summary(text, &SQLITE),
                false => Summary::new("select", Effect::Read),
            };
            let may_skip = about.given == Given::Existence;
            let version = if may_skip {
                self.schema_version()
            } else {
                None
            };
            outcome.returns_rows = statement.column_count() > 0;
            if outcome.returns_rows {
                sink.columns(self.columns(&statement))
                    .map_err(|error| EngineError::of_sink(&error))?;
            }
            stream(&mut statement, sink)?;
            drop(statement);
            if may_skip && version.is_some() && version == self.schema_version() {
                outcome
                    .notes
                    .push("There was nothing to do: it had been done before.".into());
            }
            if writes && about.effect == Effect::Write {
                let changed = if self.connection.total_changes() == before {
                    0
                } else {
                    self.connection.changes()
                };
                outcome.changed = Some(changed);
                if changed == 1 && about.verb == "insert" {
                    outcome.new_key = Some(self.connection.last_insert_rowid());
                }
            }
        }
        Ok(outcome)
    }

    /// Numbers that change with every change of the schema, the session's own included.
    fn schema_version(&self) -> Option<(i64, i64)> {
        let ask = |schema: &str| {
            let pragma = format!("pragma {schema}.schema_version");
            self.connection
                .query_row(&pragma, [], |row| row.get(0))
                .ok()
        };
        ask("main").zip(ask("temp"))
    }

    fn columns(&self, statement: &Statement<'_>) -> Vec<Column> {
        statement
            .columns_with_metadata()
            .zip(statement.columns())
            .map(|(meta, plain)| {
                let origin = meta.table_name().zip(meta.origin_name());
                let known = origin.and_then(|(table, column)| {
                    self.connection
                        .column_metadata(meta.database_name(), table, column)
                        .ok()
                });
                Column {
                    name: meta.name().to_string(),
                    declared: plain.decl_type().map(str::to_lowercase),
                    origin: origin.map(|(table, column)| (table.into(), column.into())),
                    key: known.as_ref().is_some_and(|(_, _, _, key, _)| *key),
                    optional: known
                        .as_ref()
                        .map(|(_, _, not_null, key, _)| !not_null && !key),
                    path: None,
                }
            })
            .collect()
    }
}

/// Steps through the rows and hands them over in batches.
fn stream(statement: &mut Statement<'_>, sink: &mut dyn Sink) -> Result<(), EngineError> {
    let width = statement.column_count();
    let mut rows = statement.raw_query();
    let mut gather = Gather::new(sink);
    loop {
        let row = match rows.next() {
            Ok(Some(row)) => row,
            Ok(None) => return gather.hand_over(),
            Err(error) => {
                gather.hand_over()?;
                return Err(complaint::read(error));
            }
        };
        let batch = &mut gather.batch;
        for column in 0..width {
            match row.get_ref(column).map_err(complaint::read)? {
                Raw::Null => batch.push(ValueRef::Null),
                Raw::Integer(i) => batch.push(ValueRef::Integer(i)),
                Raw::Real(f) => batch.push(ValueRef::Float(f)),
                Raw::Text(t) => batch.push_text(t),
                Raw::Blob(b) => batch.push(ValueRef::Bytes(b)),
            }
        }
        gather.end_row()?;
    }
}

impl Connection for Sqlite {
    fn dialect(&self) -> &'static Dialect {
        &SQLITE
    }

    fn control(&self) -> Arc<dyn Control> {
        Arc::clone(&self.shared) as Arc<dyn Control>
    }

    fn bearings(&mut self) -> Bearings {
        let mut facts = Vec::new();
        // What is locked has no facts to tell just now.
        self.shared.hurry(true);
        for (label, pragma) in [
            ("encoding", "encoding"),
            ("journal", "journal_mode"),
            ("page size", "page_size"),
            ("pages", "page_count"),
            ("foreign keys", "foreign_keys"),
            ("user version", "user_version"),
            ("application id", "application_id"),
        ] {
            if let Some(mut value) = self.pragma(pragma) {
                if pragma == "foreign_keys" {
                    value = if value == "1" {
                        "enforced"
                    } else {
                        "not enforced"
                    }
                    .into();
                }
                facts.push((label.to_string(), value));
            }
        }
        self.shared.hurry(false);
        facts.push(("opened".into(), self.opened.how().into()));
        Bearings {
            family: "SQLite",
            version: rusqlite::version().to_string(),
            database: self.opened.name(),
            place: self.opened.path().map(|path| path.display().to_string()),
            access: self.opened.access(),
            has_transactions: true,
            transaction: self.transaction,
            transaction_failed: false,
            server: None,
            facts,
            warnings: self.opened.warnings(),
        }
    }

    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        let result = self.under(ticket, |this| {
            this.refresh()?;
            this.run_all(statement, sink)
        });
        self.transaction = if self.connection.is_autocommit() {
            None
        } else {
            self.transaction.or_else(|| Some(Instant::now()))
        };
        let mut outcome = result.map_err(|mut error| {
            if error.fault == Fault::ReadOnly && error.advice.is_none() {
                let attaches = statement.trim_start().get(..6);
                let attaches = attaches.is_some_and(|word| word.eq_ignore_ascii_case("attach"));
                error.advice = Some(match self.opened.access() {
                    Access::ReadOnly(_) if attaches => "A file is read beside one that is only read where that leaves no trace: it has to be there, and not in write-ahead mode. /open reads it in a session of its own.".into(),
                    Access::ReadOnly(why) => why,
                    Access::Writable => {
                        "This session refuses writes; /writes ask allows them again.".into()
                    }
                });
            }
            error
        })?;
        outcome.notes.extend(self.opened.warnings());
        Ok(outcome)
    }

    fn put(&mut self, ticket: u64, into: &Destination, rows: &RowBatch) -> Result<u64, NotPut> {
        let mut row = None;
        let done = self.under(ticket, |this| {
            let places = vec!["?"; into.columns.len()].join(", ");
            let text = format!("{}({places}){}", into.head(), into.tail(&SQLITE));
            let mut insert = this
                .connection
                .prepare_cached(&text)
                .map_err(complaint::read)?;
            let mut stored = 0;
            for (at, values) in rows.rows().enumerate() {
                row = Some(at);
                for (place, value) in values.encoded().enumerate() {
                    bind(&mut insert, place + 1, value).map_err(complaint::read)?;
                }
                stored += insert.raw_execute().map_err(complaint::read)? as u64;
            }
            Ok(stored)
        });
        done.map_err(|error| NotPut { error, row })
    }

    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError> {
        self.connection
            .authorizer(None::<fn(rusqlite::hooks::AuthContext<'_>) -> Authorization>)
            .map_err(complaint::read)?;
        let only_reads = self.opened.only_reads();
        if !only_reads {
            self.connection
                .pragma_update(None, "query_only", refuse)
                .map_err(complaint::read)?;
        }
        self.refusing = refuse;
        if refuse || only_reads {
            self.connection
                .authorizer(Some(move |context: rusqlite::hooks::AuthContext<'_>| {
                    authorize(&context.action, refuse)
                }))
                .map_err(complaint::read)?;
        }
        Ok(())
    }

    fn describe(&mut self) -> &mut dyn Describe {
        self
    }
}

/// Gives a value to a place of a statement; a text as it stands.
fn bind(
    statement: &mut rusqlite::Statement<'_>,
    place: usize,
    value: Encoded<'_>,
) -> rusqlite::Result<()> {
    match value {
        Encoded::Null | Encoded::Missing => {
            statement.raw_bind_parameter(place, rusqlite::types::Null)
        }
        Encoded::Boolean(yes) => statement.raw_bind_parameter(place, yes),
        Encoded::Integer(number) => statement.raw_bind_parameter(place, number),
        Encoded::Float(number) => statement.raw_bind_parameter(place, number),
        Encoded::Bytes(bytes) => statement.raw_bind_parameter(place, bytes),
        Encoded::RawText(text) | Encoded::Number(text) | Encoded::Text(text) => {
            let text = rusqlite::types::ToSqlOutput::Borrowed(Raw::Text(text));
            statement.raw_bind_parameter(place, text)
        }
        Encoded::Bson(..) => statement.raw_bind_parameter(place, value.read().plain()),
    }
}

impl Describe for Sqlite {
    fn catalog(&mut self, ticket: u64, _: &mut dyn FnMut(Catalog)) -> Result<Catalog, EngineError> {
        self.under(ticket, |this| {
            this.refresh()?;
            catalog::read(&this.connection).map_err(complaint::read)
        })
    }

    fn script(&mut self, ticket: u64, catalog: &Catalog) -> Result<String, EngineError> {
        self.under(ticket, |this| {
            catalog::script(&this.connection, catalog).map_err(complaint::read)
        })
    }

    fn count_rows(&mut self, ticket: u64, catalog: &mut Catalog, limit: Duration) {
        self.shared.begin(ticket);
        self.shared.set_deadline(Some(Instant::now() + limit));
        for object in &mut catalog.objects {
            if object.kind != idle_tide_core::Kind::Table || object.helper {
                continue;
            }
            let sql = format!(
                "select count(*) from {}.{}",
                SQLITE.quote_name(&object.schema),
                SQLITE.quote_name(&object.name)
            );
            let count = self
                .connection
                .query_row(&sql, [], |row| row.get::<_, i64>(0));
            object.rows = count.ok().and_then(|count| u64::try_from(count).ok());
        }
        self.shared.set_deadline(None);
        self.shared.end();
    }

    fn listing(&mut self, what: Listing<'_>) -> Result<Query, String> {
        match what {
            Listing::Databases(full) => Ok(Query {
                sql: if full {
                    "select l.name, l.file, (select page_count from pragma_page_count(l.name)) * (select page_size from pragma_page_size(l.name)) as bytes, \
                     (select encoding from pragma_encoding) as encoding from pragma_database_list l".into()
                } else {
                    "select name, file from pragma_database_list".into()
                },
                note: Some("attach 'FILE' as NAME; opens another file beside this one.".into()),
            }),
            Listing::Roles(_) | Listing::Access(_) => Err(
                "SQLite has no users: whoever can read the file can read everything in it.".into(),
            ),
        }
    }
}

/// Pragmas that would undo that writes are refused, or write themselves.
const WRITING_PRAGMAS: [&str; 5] = [
    "query_only",
    "writable_schema",
    "journal_mode",
    "user_version",
    "application_id",
];

/// What a session that writes nothing may do: the setting itself must not be undone by a statement, nor evaded by
/// another file. Where only the file was opened to be read (`refuse` is false), other files may be read beside it
/// if that leaves no trace.
fn authorize(action: &AuthAction<'_>, refuse: bool) -> Authorization {
    let denied = match action {
        AuthAction::Pragma {
            pragma_name,
            pragma_value: Some(_),
        } => WRITING_PRAGMAS
            .iter()
            .any(|name| pragma_name.eq_ignore_ascii_case(name)),
        AuthAction::Attach { filename } => refuse || !open::may_attach(filename),
        // A name that is worked out while it runs comes without its text.
        AuthAction::Unknown { code, .. } => *code == rusqlite::ffi::SQLITE_ATTACH,
        AuthAction::Reindex { .. } => true,
        _ => false,
    };
    if denied {
        Authorization::Deny
    } else {
        Authorization::Allow
    }
}

/// The file a path leads to, links followed; the path itself where that fails.
fn real_path(path: &Path) -> PathBuf {
    std::fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf())
}
