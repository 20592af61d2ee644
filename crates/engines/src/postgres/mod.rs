//! PostgreSQL over its own protocol (version 3.0). Statements go as they are, by the simple query, so that
//! every value arrives as the server's own text; rows stream and the link holds them back when nobody takes
//! them. One statement is sent once. The driver runs in the connection's thread.

mod apart;
pub(crate) mod catalog;
mod complaint;
mod define;
pub(crate) mod hello;
mod link;
mod listing;
mod piece;
mod reading;
mod tap;
mod types;

use std::collections::HashMap;
use std::pin::pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use futures_util::{SinkExt, StreamExt, poll};
use idle_tide_core::batch::Encoded;
use idle_tide_core::{Catalog, Column, Object, Row, RowBatch, ValueRef};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::{POSTGRES, POSTGRES_BACKSLASH};
use idle_tide_lang::statement::{Effect, data_of, summary};
use secrecy::{ExposeSecret, SecretString};
use tokio::runtime::Runtime;
use tokio_postgres::{Client, SimpleQueryMessage};

use crate::address::Address;
use crate::engine::{
    Access, Bearings, Beside, Connection, Control, Describe, EngineError, Fault, Idle, LinkState,
    Listing, Outcome, Query, Served, ServerBearings, Sink,
};
use crate::gather::{Gather, HAND_OVER};
use crate::load::{Destination, Existing, NotPut, with_inserts};
use crate::reach::Reach;
use crate::served::{
    Answer, CUT, REST, Reading, ServerControl, Ticketed, Tickets, count_small, explain_read_only,
    may_move, measured, not_while_refusing, runtime,
};
use crate::trouble::{Ask, OpenError, Trouble};
pub(crate) use reading::acting;
use tap::Ear;

/// The major versions that the tests run against (docs/versions.md).
const TESTED: &[&str] = &["13", "15", "17", "18"];
/// Of more objects the sizes are not taken from their files.
const MOST_MEASURED: usize = 5_000;
/// The oldest major version that is spoken to.
const OLDEST: u32 = 10;

/// Where a column of a result comes from.
#[derive(Debug, Clone)]
struct Origin {
    table: String,
    column: String,
    declared: String,
    key: bool,
    optional: bool,
}

/// What the catalog tells about columns and types; shared by connections to one database.
#[derive(Debug, Default)]
struct Known {
    origins: HashMap<(u32, i16), Origin>,
    types: HashMap<u32, String>,
}

/// A connection to one PostgreSQL database.
pub struct Postgres {
    runtime: Runtime,
    client: Client,
    ear: Ear,
    notices: Arc<Mutex<Vec<String>>>,
    /// How many of those were told while nothing ran.
    told: usize,
    tickets: Arc<Tickets>,
    address: Address,
    reach: Arc<Reach>,
    link: LinkState,
    known: Arc<Mutex<Known>>,
    dialect: &'static Dialect,
    /// The port at which the server says it was reached.
    says_port: Option<u16>,
    transaction: Option<Instant>,
    refusing: bool,
    /// The bearings as last asked for, and whether something may have moved them since.
    bearings: Bearings,
    stale: bool,
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Postgres {
    /// Logs in.
    ///
    /// # Errors
    /// If the server cannot be reached, is not who it should be, or refuses.
    pub(crate) fn open(
        address: &Address,
        reach: Arc<Reach>,
        ask: &dyn Ask,
    ) -> Result<Self, OpenError> {
        let unnamed = address.database.is_empty();
        let of_database = |name: &str| Address {
            database: name.to_string(),
            ..address.clone()
        };
        let named = if unnamed {
            of_database(&address.user)
        } else {
            address.clone()
        };
        let mut attempt = |password: Option<SecretString>| {
            let opened = Self::log_in(&named, &reach, password.as_ref());
            match opened {
                // Nobody named a database: the one that nearly every server has shows the others.
                Err(error) if unnamed && error.trouble == Trouble::NoDatabase => {
                    Self::log_in(&of_database("postgres"), &reach, password.as_ref())
                }
                opened => opened,
            }
        };
        crate::served::log_in(address, ask, &mut attempt)?.prepared(unnamed)
    }

    fn log_in(
        address: &Address,
        reach: &Arc<Reach>,
        password: Option<&SecretString>,
    ) -> Result<Self, OpenError> {
        let runtime = runtime()?;
        let ear = Ear::default();
        let notices = Arc::default();
        let (client, link) =
            runtime.block_on(link::log_in(address, reach, password, &ear, &notices))?;
        let version = ear
            .lock()
            .parameters
            .get("server_version")
            .cloned()
            .unwrap_or_default();
        let major = version
            .split(['.', ' '])
            .next()
            .and_then(|major| major.parse::<u32>().ok());
        if major.is_some_and(|major| major < OLDEST) {
            return Err(OpenError {
                trouble: Trouble::TooOld,
                headline: format!(
                    "PostgreSQL {version} is too old to be spoken to; {OLDEST} and later can be."
                ),
                checks: Vec::new(),
                said: None,
            });
        }
        let tickets = Tickets::new(link::stop(
            address,
            reach,
            &client,
            matches!(link, LinkState::Encrypted { .. }),
        ));
        let bearings = Bearings {
            // What a distributor adds is among the facts.
            version: version.split(' ').next().unwrap_or_default().to_string(),
            database: address.database.clone(),
            place: Some(address.place()),
            ..Bearings::of("PostgreSQL")
        };
        Ok(Postgres {
            runtime,
            client,
            ear,
            notices,
            told: 0,
            tickets,
            address: address.clone(),
            reach: Arc::clone(reach),
            link,
            known: Arc::default(),
            dialect: &POSTGRES,
            says_port: None,
            transaction: None,
            refusing: false,
            bearings,
            stale: true,
        })
    }

    fn prepared(mut self, unnamed: bool) -> Result<Self, OpenError> {
        self.ask_bearings()?;
        let major = self
            .bearings
            .version
            .split(['.', ' '])
            .next()
            .and_then(|v| v.parse().ok())
            .unwrap_or(0);
        let untested = crate::served::untested(&major.to_string(), TESTED);
        self.bearings.warnings.extend(untested);
        if unnamed {
            self.bearings.warnings.push(format!(
                "No database was named; this is {}. /databases lists them, /use NAME goes to one.",
                self.address.database
            ));
        }
        self.bearings
            .warnings
            .extend(crate::served::other_port(&self.address, self.says_port));
        for note in &self.address.notes {
            self.bearings.warnings.push(note.clone());
        }
        if matches!(self.link, LinkState::Open) && !self.address.is_local() {
            self.bearings.warnings.push(
                "The link to the server is not encrypted: others on the way can read it.".into(),
            );
        }
        Ok(self)
    }

    /// The server's version as a number, 150 004 for 15.4.
    fn version_number(&self) -> u32 {
        let mut parts = self.bearings.version.split(['.', ' ', 'b', 'r', 'd']);
        let mut part = || parts.next().and_then(|part| part.parse::<u32>().ok());
        part().unwrap_or(0) * 10_000 + part().unwrap_or(0)
    }

    /// Asks a question of our own whose answer is small.
    fn ask(&self, sql: &str) -> Result<Answer, EngineError> {
        let answer = self.runtime.block_on(self.client.simple_query(sql));
        self.ear.lock().described.clear();
        let rows = answer.map_err(|error| self.failed(&error, sql))?;
        let rows = rows.into_iter().filter_map(|message| match message {
            SimpleQueryMessage::Row(row) => Some(row),
            _ => None,
        });
        let text = |value: Option<&str>| value.map(str::to_string);
        rows.map(|row| (0..row.len()).map(|at| row.try_get(at).map(text)).collect())
            .collect::<Result<_, _>>()
            .map_err(|error| self.failed(&error, sql))
    }

    /// Asks a question that waits for no lock and leaves no trace in a transaction; nothing if it fails.
    fn without_waiting(&self, sql: &str) -> Option<Answer> {
        let question = format!("set local lock_timeout = '50ms'; {sql}");
        if self.ear.lock().state != b'T' {
            // Two statements that are sent together are a transaction by themselves.
            return self.ask(&question).ok();
        }
        let back = "rollback to savepoint counting; release savepoint counting";
        let answer = self.ask(&format!("savepoint counting; {question}; {back}"));
        if answer.is_err() {
            let _ = self.ask(back);
        }
        answer.ok()
    }

    /// Takes the sizes of tables with their indexes from their files; those of the last analysis stand where that takes too
    /// long, or a table is locked.
    fn measure(&self, catalog: &mut Catalog) {
        if catalog.objects.len() > MOST_MEASURED {
            return;
        }
        let rows = self.without_waiting(&format!(
            "select n.nspname, c.relname, pg_total_relation_size(c.oid) from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
             where c.relkind in ('r', 'm') and {} and not exists (select from pg_catalog.pg_locks l where l.relation = c.oid and l.mode = 'AccessExclusiveLock')",
            catalog::OWN
        ));
        measured(catalog, rows.unwrap_or_default());
    }

    /// Closes the connection where the server could not be asked to stop what runs.
    fn cut_off<T>(&mut self, result: &Result<T, EngineError>) {
        if matches!(result, Err(error) if error.code == CUT) {
            self.close();
        }
    }

    /// Closes the connection: it lives in its runtime, and ends with it.
    fn close(&mut self) {
        self.ear.lock().ended = true;
        if let Ok(fresh) = runtime() {
            std::mem::replace(&mut self.runtime, fresh).shutdown_background();
        }
    }

    /// One question that tells everything about where the session is.
    fn ask_bearings(&mut self) -> Result<(), EngineError> {
        let rows = self.ask(
            "select current_database(), session_user, current_user, \
             (select rolsuper from pg_catalog.pg_roles where rolname = current_user), \
             array_to_string(current_schemas(false), ','), current_setting('TimeZone'), \
             current_setting('default_transaction_read_only'), pg_is_in_recovery(), \
             coalesce((select oid::text || '/' from pg_catalog.pg_database where datname = current_database()), '') \
               || coalesce(inet_server_addr()::text, ''), \
             current_setting('server_encoding'), \
             (select datcollate from pg_catalog.pg_database where datname = current_database()), \
             pg_backend_pid(), date_trunc('second', pg_postmaster_start_time()), \
             version(), \
             current_setting('transaction_isolation'), current_setting('statement_timeout'), \
             case when has_function_privilege('pg_catalog.pg_control_system()', 'execute') then \
               (select system_identifier::text from pg_catalog.pg_control_system()) else '' end, \
             inet_server_port()",
        )?;
        let mut row = rows
            .into_iter()
            .next()
            .unwrap_or_default()
            .into_iter()
            .map(Option::unwrap_or_default);
        let mut next = || row.next().unwrap_or_default();
        self.bearings.database = next();
        let (user, role) = (next(), next());
        let all_powerful = next() == "t";
        let search_path = next()
            .split(',')
            .filter(|s| !s.is_empty())
            .map(str::to_string)
            .collect();
        let time_zone = next();
        let read_only = next() == "on";
        let standby = next() == "t";
        let place_of_answer = next();
        let encoding = next();
        let collation = next();
        let process = next();
        let since = next();
        let whole_version = next();
        let isolation = next();
        let timeout = next();
        let system = next();
        self.says_port = next().parse().ok();
        let identity = if system.is_empty() {
            place_of_answer
        } else {
            format!("system {system}")
        };
        self.bearings.access = if standby {
            Access::ReadOnly("This server is a standby that follows another; it only reads. Writes go to the one it follows.".into())
        } else if read_only && !self.refusing {
            Access::ReadOnly(
                "The server makes this session read-only (default_transaction_read_only is on)."
                    .into(),
            )
        } else {
            Access::Writable
        };
        self.bearings.server = Some(ServerBearings {
            process: process.parse().unwrap_or(0),
            place: self.address.place(),
            local: self.address.is_local(),
            way: self.address.way_words(),
            role: (role != user).then_some(role),
            user,
            all_powerful,
            search_path,
            time_zone,
            link: self.link.clone(),
            identity,
        });
        self.bearings.facts = vec![
            ("says of itself".into(), whole_version),
            ("runs since".into(), since),
            (
                "system".into(),
                if system.is_empty() {
                    "may not be read by this user".into()
                } else {
                    system
                },
            ),
            ("process".into(), process),
            ("encoding".into(), encoding),
            ("collation".into(), collation),
            ("isolation".into(), isolation),
            (
                "statement limit".into(),
                if timeout == "0" {
                    "none".into()
                } else {
                    timeout
                },
            ),
        ];
        self.stale = false;
        Ok(())
    }

    /// Whether the link has ended; what arrived since is read first.
    fn is_gone(&self) -> bool {
        self.runtime.block_on(async {
            for _ in 0..3 {
                tokio::task::yield_now().await;
            }
        });
        self.client.is_closed() || self.ear.lock().ended
    }

    fn failed(&self, error: &tokio_postgres::Error, statement: &str) -> EngineError {
        if let Some(server) = error.as_db_error() {
            return complaint::of_server(server, statement);
        }
        let said = std::error::Error::source(error)
            .map_or_else(|| error.to_string(), |source| format!("{error}: {source}"));
        if error.is_closed()
            || self.client.is_closed()
            || self.ear.lock().ended
            || std::error::Error::source(error).is_some_and(|source| source.is::<std::io::Error>())
        {
            return EngineError {
                fault: Fault::Lost,
                message: match self
                    .ear
                    .lock()
                    .why
                    .clone()
                    .or_else(|| self.reach.last_words())
                {
                    Some(words) => format!("{said}; {words}"),
                    None => said,
                },
                code: "connection".into(),
                advice: None,
                ..EngineError::plain("")
            };
        }
        let mut plain = EngineError::plain(said);
        if statement.contains('\0') {
            plain.fault = Fault::Statement;
            plain.offset = statement.find('\0');
            plain.advice = Some("The statement holds a NUL byte, which no text of PostgreSQL can hold. Take it out.".into());
        }
        plain
    }

    /// The columns of a result from what was heard of them.
    fn columns(&self, names: &[String]) -> (Vec<Column>, Vec<Reading>) {
        let described = self.ear.lock().described.pop_front().unwrap_or_default();
        let known = locked(&self.known);
        names
            .iter()
            .enumerate()
            .map(|(at, name)| {
                let Some(of) = described.get(at).filter(|of| of.name == *name) else {
                    return (Column::named(name), Reading::Text);
                };
                let origin = known.origins.get(&(of.table, of.number));
                let declared = types::named(of.kind, of.modifier, &known.types);
                let column = Column {
                    name: name.clone(),
                    declared: match origin {
                        Some(origin) if declared.is_empty() => Some(origin.declared.clone()),
                        _ => Some(declared).filter(|declared| !declared.is_empty()),
                    },
                    origin: origin.map(|o| (o.table.clone(), o.column.clone())),
                    key: origin.is_some_and(|o| o.key),
                    optional: origin.map(|o| o.optional),
                    path: None,
                };
                (column, types::reading(of.kind))
            })
            .unzip()
    }

    /// Sends the statement and hands over what comes.
    async fn stream(&self, statement: &str, sink: &mut dyn Sink) -> Result<Outcome, EngineError> {
        self.ear.lock().described.clear();
        let verb = summary(statement, self.dialect);
        if verb.verb == "copy" {
            return self.copy(statement, sink).await;
        }
        let counts = matches!(verb.verb.as_str(), "insert" | "update" | "delete" | "merge")
            || verb.effect == Effect::Write;
        let failed = |error| self.failed(&error, statement);
        let mut messages = pin!(
            self.client
                .simple_query_raw(statement)
                .await
                .map_err(failed)?
        );
        let mut gather = Gather::new(sink);
        let mut outcome = Outcome::default();
        let mut readings: Vec<Reading> = Vec::new();
        let mut results = 0;
        let mut room = Vec::new();
        loop {
            let message = match poll!(messages.next()) {
                std::task::Poll::Ready(message) => message,
                // What was gathered is shown in time also when nothing more comes.
                std::task::Poll::Pending if gather.holds_rows() => {
                    match tokio::time::timeout(HAND_OVER, messages.next()).await {
                        Ok(message) => message,
                        Err(_) => {
                            gather.hand_over()?;
                            continue;
                        }
                    }
                }
                std::task::Poll::Pending => messages.next().await,
            };
            match message {
                None => break,
                Some(Ok(SimpleQueryMessage::Row(row))) => {
                    for (at, reading) in readings.iter().enumerate() {
                        match row.try_get(at) {
                            Ok(Some(text)) => {
                                reading.push(text.as_bytes(), &mut gather.batch, &mut room)
                            }
                            Ok(None) => gather.batch.push(ValueRef::Null),
                            Err(_) => {
                                return Err(EngineError::plain(format!(
                                    "The value of column {} is not UTF-8, though the server said it would be: its encoding is SQL_ASCII. Read it with convert_to or as bytea.",
                                    at + 1
                                )));
                            }
                        }
                    }
                    gather.end_row()?;
                }
                Some(Ok(SimpleQueryMessage::RowDescription(columns))) => {
                    let names: Vec<String> = columns.iter().map(|c| c.name().to_string()).collect();
                    let sink = gather.sink()?;
                    if results > 0 {
                        sink.another(outcome.clone())
                            .map_err(|e| EngineError::of_sink(&e))?;
                        outcome = Outcome::default();
                    }
                    results += 1;
                    outcome.returns_rows = true;
                    let (columns, how) = self.columns(&names);
                    readings = how;
                    sink.columns(columns)
                        .map_err(|e| EngineError::of_sink(&e))?;
                }
                Some(Ok(SimpleQueryMessage::CommandComplete(rows))) => {
                    if counts {
                        outcome.changed = Some(rows);
                    }
                }
                Some(Ok(_)) => {}
                Some(Err(error)) => {
                    gather.hand_over()?;
                    return Err(failed(error));
                }
            }
        }
        gather.hand_over()?;
        Ok(outcome)
    }

    /// Rows into a table, as the text form of copy writes them.
    async fn copy_rows(&self, head: &str, rows: &RowBatch) -> Result<u64, EngineError> {
        let failed = |error: tokio_postgres::Error| {
            let place = error
                .as_db_error()
                .and_then(|e| e.where_())
                .map(str::to_string);
            let mut failed = self.failed(&error, head);
            failed.notes.extend(place);
            // It is a statement of this program's own, whose text means nothing to the user.
            failed.offset = None;
            failed
        };
        let mut into = pin!(
            self.client
                .copy_in::<_, Bytes>(head)
                .await
                .map_err(failed)?
        );
        let mut data = Vec::with_capacity(64 * 1024 + 4_096);
        for row in rows.rows() {
            copied(row, &mut data);
            if data.len() >= 64 * 1024 {
                let part = std::mem::replace(&mut data, Vec::with_capacity(64 * 1024 + 4_096));
                into.send(part.into()).await.map_err(failed)?;
            }
        }
        into.send(data.into()).await.map_err(failed)?;
        into.finish().await.map_err(failed)
    }

    /// Rows into a table from data behind the statement, or out of one.
    async fn copy(&self, statement: &str, sink: &mut dyn Sink) -> Result<Outcome, EngineError> {
        let failed = |error| self.failed(&error, statement);
        let verb = summary(statement, self.dialect);
        let mut outcome = Outcome::default();
        if let Some((head, data)) = data_of(statement, self.dialect) {
            let mut into = pin!(self.client.copy_in(head).await.map_err(failed)?);
            for chunk in data.as_bytes().chunks(64 * 1024) {
                into.send(Bytes::copy_from_slice(chunk))
                    .await
                    .map_err(failed)?;
            }
            outcome.changed = Some(into.finish().await.map_err(failed)?);
            return Ok(outcome);
        }
        let end = verb.kind.as_deref().unwrap_or_default();
        if end == "stdin" {
            let mut error = EngineError::plain("There are no data behind this statement.");
            error.fault = Fault::Statement;
            error.advice = Some("The data stand in the lines after the statement's semicolon; a line with \\. alone ends them.".into());
            return Err(error);
        }
        if end == "stdout" {
            let mut from = pin!(
                self.client
                    .copy_out(statement.trim_end().trim_end_matches(';'))
                    .await
                    .map_err(failed)?
            );
            outcome.returns_rows = true;
            if sink.bytes(&[]).map_err(|e| EngineError::of_sink(&e))? {
                while let Some(part) = from.next().await {
                    sink.bytes(&part.map_err(failed)?)
                        .map_err(|e| EngineError::of_sink(&e))?;
                }
                return Ok(outcome);
            }
            let mut gather = Gather::new(sink);
            gather
                .sink()?
                .columns(vec![Column::named("line")])
                .map_err(|e| EngineError::of_sink(&e))?;
            let mut held: Vec<u8> = Vec::new();
            while let Some(part) = from.next().await {
                held.extend_from_slice(&part.map_err(failed)?);
                while let Some(end) = held.iter().position(|byte| *byte == b'\n') {
                    gather.batch.push_text(&held[..end]);
                    gather.end_row()?;
                    held.drain(..=end);
                }
            }
            gather.hand_over()?;
            return Ok(outcome);
        }
        // From or into a file of the server.
        let rows = self
            .client
            .execute_raw(
                statement.trim_end().trim_end_matches(';'),
                Vec::<String>::new(),
            )
            .await
            .map_err(failed)?;
        outcome.changed = Some(rows);
        Ok(outcome)
    }
}

/// Appends a row in the text form of copy.
fn copied(row: Row<'_>, data: &mut Vec<u8>) {
    for (at, value) in row.encoded().enumerate() {
        if at > 0 {
            data.push(b'\t');
        }
        match value {
            Encoded::Null | Encoded::Missing => data.extend_from_slice(b"\\N"),
            Encoded::Bytes(_) => {
                data.extend_from_slice(b"\\\\x");
                value.read().write_plain(data);
            }
            Encoded::Text(text) => {
                let mut rest = text;
                while let Some(at) = rest
                    .iter()
                    .position(|b| matches!(b, b'\\' | b'\t' | b'\n' | b'\r'))
                {
                    data.extend_from_slice(&rest[..at]);
                    data.push(b'\\');
                    data.push(match rest[at] {
                        b'\t' => b't',
                        b'\n' => b'n',
                        b'\r' => b'r',
                        other => other,
                    });
                    rest = &rest[at + 1..];
                }
                data.extend_from_slice(rest);
            }
            value => value.read().write_plain(data),
        }
    }
    data.push(b'\n');
}

impl Ticketed for Postgres {
    fn tickets(&self) -> &Tickets {
        &self.tickets
    }

    fn settle(&mut self) {
        for _ in 0..3 {
            if self.is_gone() {
                return;
            }
            // The clock is that of the runtime.
            let empty = async {
                let asked = self.client.simple_query("");
                tokio::time::timeout(REST, asked).await
            };
            match self.runtime.block_on(empty) {
                Ok(Ok(_)) => return,
                Ok(Err(_)) => {}
                Err(_) => {
                    tracing::warn!("the server goes on with what it was asked to stop");
                    return self.close();
                }
            }
        }
    }
}

impl Connection for Postgres {
    fn dialect(&self) -> &'static Dialect {
        self.dialect
    }

    fn control(&self) -> Arc<dyn Control> {
        Arc::new(ServerControl(Arc::clone(&self.tickets)))
    }

    fn bearings(&mut self) -> Bearings {
        let state = self.ear.lock().state;
        if self.stale && state != b'E' && !self.is_gone() {
            // What cannot be asked now is asked the next time.
            let _ = self.ask_bearings();
        }
        let heard = self.ear.lock();
        self.bearings.transaction = self.transaction;
        self.bearings.transaction_failed = heard.state == b'E';
        if let (Some(zone), Some(server)) =
            (heard.parameters.get("TimeZone"), &mut self.bearings.server)
        {
            server.time_zone.clone_from(zone);
        }
        self.bearings.clone()
    }

    fn idle(&mut self) -> Idle {
        let lost = self.is_gone();
        let notices = locked(&self.notices);
        let sent: Vec<&String> = notices
            .iter()
            .filter(|words| words.starts_with(link::HEARD))
            .collect();
        let heard = sent.iter().skip(self.told).map(|words| (*words).clone());
        let heard: Vec<String> = heard.collect();
        self.told = sent.len();
        Idle { heard, lost }
    }

    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        if statement.trim_start().starts_with('\\') {
            let mut error =
                EngineError::plain("This line is for another program, not for the server.");
            error.fault = Fault::Statement;
            error.advice = Some("A line that begins with a backslash is no SQL and was not sent. If it changes the database, say that with /use or in the address, and take the line out.".into());
            return Err(error);
        }
        if self.is_gone() {
            return Err(EngineError {
                fault: Fault::NotSent,
                ..EngineError::plain("the connection had ended before")
            });
        }
        let was_in_transaction = self.ear.lock().state != b'I';
        let about = summary(statement, self.dialect);
        let mut around = false;
        if self.refusing {
            let mut ask = |sql: &str| self.ask(sql).ok()?.into_iter().flatten().next()?;
            if let Some(why) = reading::refused(statement, &about, self.dialect, &mut ask) {
                return Err(not_while_refusing(&why));
            }
            if !was_in_transaction && about.effect != Effect::Transaction {
                self.ask(reading::BEGIN)?;
                around = true;
            }
        }
        // What was said to questions of our own is of no statement; what others sent is for whoever listens.
        locked(&self.notices).retain(|words| words.starts_with(link::HEARD));
        if !self.tickets.begin(ticket) {
            self.tickets.end();
            return Err(EngineError::cancelled());
        }
        let work = self.tickets.unless_cut(self.stream(statement, sink));
        let result = self.runtime.block_on(work);
        self.cut_off(&result);
        let mut interrupted = matches!(&result, Err(error) if error.fault == Fault::Sink);
        if interrupted {
            // Nobody takes the rest: the server need not send it.
            let encrypted = matches!(self.link, LinkState::Encrypted { .. });
            let stop = link::stop(&self.address, &self.reach, &self.client, encrypted);
            if let Err(words) = stop() {
                tracing::debug!(?words, "the rest of a result is not stopped");
            }
        }
        interrupted |= self.tickets.end();
        if interrupted {
            self.settle();
        }
        if around && !self.is_gone() {
            // What it set for the session stays.
            let ended = self.ask(if result.is_ok() { "commit" } else { "rollback" });
            if let (true, Err(error)) = (result.is_ok(), ended) {
                return Err(error);
            }
        } else if self.refusing && self.ear.lock().state == b'T' && !was_in_transaction {
            self.ask(reading::BIND)?;
        }
        self.stale |=
            may_move(statement, &about) || result.is_err() || statement.contains("set_config");
        let heard = self.ear.lock();
        self.transaction = match heard.state {
            b'I' => None,
            _ => self.transaction.or_else(|| Some(Instant::now())),
        };
        let plain = heard
            .parameters
            .get("standard_conforming_strings")
            .is_none_or(|v| v == "on");
        self.dialect = if plain {
            &POSTGRES
        } else {
            &POSTGRES_BACKSLASH
        };
        drop(heard);
        let notes = std::mem::take(&mut *locked(&self.notices));
        self.told = 0;
        match result {
            Ok(mut outcome) => {
                outcome.notes = notes;
                Ok(outcome)
            }
            Err(mut error) => {
                explain_read_only(&mut error, &self.bearings.access, self.refusing);
                error.notes = notes;
                Err(error)
            }
        }
    }

    fn put(&mut self, ticket: u64, into: &Destination, rows: &RowBatch) -> Result<u64, NotPut> {
        if into.existing != Existing::Refuse || self.refusing {
            return with_inserts(self, ticket, into, rows);
        }
        if self.is_gone() {
            let words = "the connection had ended before";
            return Err(EngineError {
                fault: Fault::NotSent,
                ..EngineError::plain(words)
            }
            .into());
        }
        if !self.tickets.begin(ticket) {
            self.tickets.end();
            return Err(EngineError::cancelled().into());
        }
        let head = format!(
            "copy {} ({}) from stdin",
            into.table,
            into.columns.join(", ")
        );
        let work = self.tickets.unless_cut(self.copy_rows(&head, rows));
        let result = self.runtime.block_on(work);
        self.cut_off(&result);
        if self.tickets.end() {
            self.settle();
        }
        self.stale = true;
        result.map_err(|mut error| {
            // The place stands in the words of where it happened: COPY t, line 3, column n.
            let place = error.notes.iter().find_map(|words| {
                let (_, rest) = words.strip_prefix("COPY ")?.split_once(", line ")?;
                let digits: String = rest.chars().take_while(char::is_ascii_digit).collect();
                digits.parse::<usize>().ok()?.checked_sub(1)
            });
            error.notes.retain(|words| !words.starts_with("COPY "));
            NotPut { error, row: place }
        })
    }

    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError> {
        self.ask(if refuse {
            "set default_transaction_read_only = on"
        } else {
            "reset default_transaction_read_only"
        })?;
        if refuse && self.ear.lock().state == b'T' {
            self.ask(reading::BIND)?;
        }
        self.refusing = refuse;
        self.stale = true;
        Ok(())
    }

    fn describe(&mut self) -> &mut dyn Describe {
        self
    }

    fn served(&mut self) -> Option<&mut dyn Served> {
        Some(self)
    }
}

impl Describe for Postgres {
    fn catalog(
        &mut self,
        ticket: u64,
        first: &mut dyn FnMut(Catalog),
    ) -> Result<Catalog, EngineError> {
        self.under(ticket, |this| catalog::read(this, first))
    }

    fn count_rows(&mut self, ticket: u64, catalog: &mut Catalog, limit: Duration) {
        if self.ear.lock().state == b'E' {
            return;
        }
        // Tables that were not counted keep their estimates.
        let _ = self.under(ticket, |this| {
            if limit > Duration::ZERO {
                this.measure(catalog);
            }
            count_small(catalog, &[], limit, this.dialect, &mut |sql| {
                this.without_waiting(sql)
            });
            Ok(())
        });
    }

    fn define(&mut self, ticket: u64, object: &mut Object) -> Result<(), EngineError> {
        self.under(ticket, |this| define::define(this, object))
    }

    fn script(&mut self, ticket: u64, _: &Catalog) -> Result<String, EngineError> {
        self.under(ticket, |this| define::script(this))
    }

    fn listing(&mut self, what: Listing<'_>) -> Result<Query, String> {
        Ok(listing::listing(what))
    }
}

impl Served for Postgres {
    fn beside(&self) -> Option<Beside> {
        let (address, reach) = (self.address.clone(), Arc::clone(&self.reach));
        let known = Arc::clone(&self.known);
        Some(Box::new(move || {
            let mut other =
                crate::served::log_in(&address, &crate::trouble::Silent, &mut |password| {
                    Self::log_in(&address, &reach, password.as_ref())
                })?;
            other.known = known;
            Ok(Box::new(other))
        }))
    }

    fn follow(&mut self, bearings: &Bearings) -> Result<(), EngineError> {
        let Some(server) = &bearings.server else {
            return Ok(());
        };
        let path: Vec<String> = server
            .search_path
            .iter()
            .map(|s| POSTGRES.quote_name(s))
            .collect();
        let role = match &server.role {
            Some(role) => POSTGRES.quote_name(role),
            None => "none".into(),
        };
        let path = if path.is_empty() {
            "''".into()
        } else {
            path.join(", ")
        };
        self.ask(&format!("set role {role}; set search_path = {path}"))?;
        Ok(())
    }

    fn change_password(&mut self, new: &SecretString) -> Result<(), EngineError> {
        // Only the verifier travels, so the server's log cannot hold the password either.
        let verifier = postgres_protocol::password::scram_sha_256(new.expose_secret().as_bytes());
        let user = self
            .bearings
            .server
            .as_ref()
            .map(|s| s.user.clone())
            .unwrap_or_default();
        let role = format!("\"{}\"", user.replace('"', "\"\""));
        self.ask(&format!(
            "alter role {role} password {}",
            POSTGRES.quote_text(&verifier)
        ))?;
        let what = crate::address::SecretFor::Database;
        self.address.secrets.set(what, Some(new.clone()));
        Ok(())
    }
}
