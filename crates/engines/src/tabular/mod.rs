//! Servers over the Tabular Data Stream. The protocol is read and written by `idle-tide-tabular`, since the one driver that
//! there is makes binary numbers of amounts of money and keeps notices, counts and further errors to itself. What is
//! submitted is one batch and is sent whole; its results come one after the other. What runs is asked to stop on its own
//! connection, and the answer to that is waited for.

mod catalog;
mod complaint;
mod define;
pub(crate) mod hello;
mod link;
mod listing;
mod reading;

use std::sync::Arc;
use std::time::{Duration, Instant};

use idle_tide_core::{Catalog, Column, Object, RowBatch, ValueRef};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::TABULAR;
use idle_tide_lang::statement::{Effect, summary};
use idle_tide_tabular::packet::kind;
use idle_tide_tabular::token::Row;
use idle_tide_tabular::{Done, Field, Message, Room, Token, Value, request};
use secrecy::{ExposeSecret, SecretString};
use tokio::runtime::Runtime;
use tokio::time::timeout;

use crate::address::{Address, SecretFor};
use crate::engine::{
    Access, Bearings, Beside, Connection, Control, Describe, EngineError, Fault, Idle, LinkState,
    Listing, Outcome, Query, Served, ServerBearings, Sink,
};
use crate::gather::{Gather, HAND_OVER};
use crate::idle_link::is_closed;
use crate::reach::{End, PATIENCE, Reach};
use crate::served::{
    Answer, CUT, REST, ServerControl, Stop, Ticketed, Tickets, count_small, explain_read_only,
    keep_notice, may_move, may_write_until_its_end, not_while_refusing, runtime,
};
use crate::trouble::{Ask, OpenError};
use link::{Link, NotIn};

/// Messages that only repeat what the bearings say: another database, another language.
const REPEATED: [i32; 3] = [5701, 5702, 5703];

/// What the servers call themselves that the protocol was made for.
const MADE_BY_ITS_INVENTOR: &str = "Microsoft SQL Server";

/// A connection to one server over the Tabular Data Stream.
pub struct Tabular {
    runtime: Runtime,
    link: Link,
    tickets: Arc<Tickets>,
    address: Address,
    reach: Arc<Reach>,
    transaction: Option<Instant>,
    refusing: bool,
    gone: bool,
    bearings: Bearings,
    stale: bool,
    /// How long the session waits for locks, in the server's words.
    lock_timeout: String,
}

/// What a batch came to.
#[derive(Default)]
struct Came {
    outcome: Outcome,
    /// What was said on the way, all of it with the last result.
    notes: Vec<String>,
    errors: Vec<Message>,
    /// Whether the server stopped it because it was asked to.
    stopped: bool,
    /// What took the rows failed.
    failed: Option<EngineError>,
}

/// Keeps the values of an answer of our own.
#[derive(Default)]
struct Texts(Answer);

impl Sink for Texts {
    fn columns(&mut self, _: Vec<Column>) -> std::io::Result<()> {
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> std::io::Result<()> {
        self.0.extend(batch.rows().map(|row| {
            row.values()
                .map(|value| match value {
                    ValueRef::Null => None,
                    ValueRef::Boolean(yes) => Some(u8::from(yes).to_string()),
                    value => Some(value.plain()),
                })
                .collect()
        }));
        Ok(())
    }
}

fn not_sent() -> EngineError {
    EngineError {
        fault: Fault::NotSent,
        ..EngineError::plain("the connection had ended before")
    }
}

/// A name as a literal and a bracketed name in one: `[a]]b]`.
fn bracketed(name: &str) -> String {
    format!("[{}]", name.replace(']', "]]"))
}

fn columns_of(fields: &[Field]) -> Vec<Column> {
    let each = fields.iter().enumerate().map(|(at, field)| Column {
        declared: Some(field.info.words()),
        optional: Some(field.nullable),
        // The server gives none to what is computed.
        ..Column::named(match field.name.as_str() {
            "" => format!("column {}", at + 1),
            name => name.to_string(),
        })
    });
    each.collect()
}

#[inline]
fn push(value: Value<'_>, batch: &mut RowBatch) {
    batch.push(match value {
        Value::Null => ValueRef::Null,
        Value::Bit(yes) => ValueRef::Boolean(yes),
        Value::Integer(number) => ValueRef::Integer(number),
        Value::Float(number) => ValueRef::Float(number),
        Value::Number(digits) => ValueRef::Number(digits),
        Value::Text(text) => ValueRef::Text(text),
        Value::RawText(bytes) => ValueRef::RawText(bytes),
        Value::Bytes(bytes) => ValueRef::Bytes(bytes),
    });
}

/// Waits for more of an answer. What was gathered is shown in time also when nothing more comes.
async fn wait(link: &mut Link, gather: &mut Gather<'_>, came: &mut Came) -> std::io::Result<()> {
    let more = match (link.stopping, gather.holds_rows()) {
        (true, _) => match timeout(REST, link.more()).await {
            Ok(more) => more?,
            Err(_) => return Err(std::io::ErrorKind::TimedOut.into()),
        },
        (false, false) => link.more().await?,
        (false, true) => match timeout(HAND_OVER, link.more()).await {
            Ok(more) => more?,
            Err(_) => match gather.hand_over() {
                Ok(()) => true,
                Err(error) => {
                    came.failed.get_or_insert(error);
                    false
                }
            },
        },
    };
    match more {
        true => Ok(()),
        false => link.stop().await,
    }
}

/// Sends a batch and reads its whole answer.
async fn stream(link: &mut Link, batch: &str, sink: &mut dyn Sink) -> std::io::Result<Came> {
    link.stopping = false;
    let message = request::batch(batch, link.transaction);
    link.send(kind::BATCH, &message).await?;
    let mut gather = Gather::new(sink);
    let (mut came, mut room, mut fields) = (Came::default(), Room::default(), Arc::new(Vec::new()));
    let fail =
        |came: &mut Came, error: EngineError| came.failed = came.failed.take().or(Some(error));
    loop {
        let token = match link.ready()? {
            Some(token) => token,
            None => {
                wait(link, &mut gather, &mut came).await?;
                continue;
            }
        };
        match token {
            Token::Row {
                start,
                end,
                with_nulls,
            } => {
                if came.failed.is_some() || link.stopping {
                    continue;
                }
                let mut row = Row::new(&fields, &link.came[start..end], with_nulls);
                while let Some(value) = row.next(&mut room) {
                    let value = value.map_err(|error| {
                        std::io::Error::new(std::io::ErrorKind::InvalidData, error.to_string())
                    })?;
                    push(value, &mut gather.batch);
                }
                if let Err(error) = gather.end_row() {
                    fail(&mut came, error);
                    link.stop().await?;
                }
            }
            Token::Columns(new) => {
                fields = new;
                if came.failed.is_some() || link.stopping {
                    continue;
                }
                let columns = columns_of(&fields);
                let before = &came.outcome;
                let another = before.returns_rows || before.changed.is_some();
                let taken = gather.sink().and_then(|sink| {
                    let taken = match another {
                        true => sink.another(std::mem::take(&mut came.outcome)),
                        false => Ok(()),
                    };
                    let taken = taken.and_then(|()| sink.columns(columns));
                    taken.map_err(|error| EngineError::of_sink(&error))
                });
                came.outcome.returns_rows = true;
                if let Err(error) = taken {
                    fail(&mut came, error);
                    link.stop().await?;
                }
            }
            Token::Done(done) => {
                came.stopped |= done.status & Done::ATTENTION != 0;
                if done.counts() && done.command != Done::SELECT {
                    if came.outcome.returns_rows && came.failed.is_none() && !link.stopping {
                        let before = std::mem::take(&mut came.outcome);
                        let told = gather.sink().and_then(|sink| {
                            sink.another(before)
                                .map_err(|error| EngineError::of_sink(&error))
                        });
                        if let Err(error) = told {
                            fail(&mut came, error);
                        }
                    }
                    let changed = came.outcome.changed.unwrap_or(0) + done.rows;
                    came.outcome.changed = Some(changed);
                }
                if link.at_end() {
                    if link.stopping && !came.stopped {
                        // The answer was complete before the request to stop arrived; that has an answer of its own.
                        link.next_answer();
                        continue;
                    }
                    break;
                }
            }
            Token::Error(message) => came.errors.push(message),
            Token::Info(message) if !REPEATED.contains(&message.number) => {
                keep_notice(&mut came.notes, complaint::in_a_line(&message));
            }
            _ => {}
        }
    }
    link.stopping = false;
    came.outcome.notes = std::mem::take(&mut came.notes);
    if came.failed.is_none()
        && let Err(error) = gather.hand_over()
    {
        came.failed = Some(error);
    }
    Ok(came)
}

impl Tabular {
    /// Logs in.
    ///
    /// # Errors
    /// If the server cannot be reached, is not who it should be, or refuses.
    pub(crate) fn open(
        address: &Address,
        reach: Arc<Reach>,
        ask: &dyn Ask,
    ) -> Result<Self, OpenError> {
        let mut this = crate::served::log_in(address, ask, &mut |password| {
            Self::connect(address, &reach, password.as_ref(), ask)
        })?;
        this.ask_bearings()?;
        if this.bearings.family == MADE_BY_ITS_INVENTOR {
            this.bearings.warnings.push(
                "This program was tested against a stand-in, and against no server of this family (docs/tabular.md).".into(),
            );
        }
        for note in &address.notes {
            this.bearings.warnings.push(note.clone());
        }
        if this.link.state == LinkState::Open && !address.is_local() {
            this.bearings.warnings.push(
                "The link to the server is not encrypted: others on the way can read it.".into(),
            );
        }
        Ok(this)
    }

    fn connect(
        address: &Address,
        reach: &Arc<Reach>,
        password: Option<&SecretString>,
        ask: &dyn Ask,
    ) -> Result<Self, OpenError> {
        let runtime = runtime()?;
        let log_in = |new: Option<&SecretString>| {
            runtime.block_on(async {
                timeout(PATIENCE, Link::log_in(address, reach, password, new))
                    .await
                    .unwrap_or_else(|_| {
                        Err(NotIn::Io(std::io::Error::from(
                            std::io::ErrorKind::TimedOut,
                        )))
                    })
            })
        };
        let mut opened = log_in(None);
        if let Err(NotIn::Refused(messages)) = &opened
            && messages
                .iter()
                .any(|m| complaint::EXPIRED.contains(&m.number))
        {
            let words = format!(
                "The password of {} on {} has expired. New password",
                address.user,
                address.place()
            );
            if let Some(new) = ask.secret(&words) {
                opened = log_in(Some(&new));
                if opened.is_ok() {
                    address.secrets.set(SecretFor::Database, Some(new));
                }
            }
        }
        let link =
            opened.map_err(|error| complaint::of_login(error, address, reach.last_words()))?;
        let attention = Arc::clone(&link.attention);
        let stop: Stop = Box::new(move || {
            attention.notify_one();
            Ok(())
        });
        let family = match link.program.contains("SQL Server") {
            true => MADE_BY_ITS_INVENTOR,
            false => "Tabular Data Stream",
        };
        Ok(Tabular {
            tickets: Tickets::new(stop),
            bearings: Bearings {
                database: link.database.clone(),
                place: Some(address.place()),
                ..Bearings::of(family)
            },
            runtime,
            link,
            address: address.clone(),
            reach: Arc::clone(reach),
            transaction: None,
            refusing: false,
            gone: false,
            stale: true,
            lock_timeout: "-1".into(),
        })
    }

    /// Runs a batch and reads its answer, whatever comes.
    fn send(&mut self, batch: &str, sink: &mut dyn Sink) -> Result<Came, EngineError> {
        let (link, tickets) = (&mut self.link, &self.tickets);
        let came = self.runtime.block_on(async {
            // An error of the link is no error of waiting for it.
            let done = tickets.unless_cut(async { Ok(stream(link, batch, sink).await) });
            done.await
        });
        let came = match came {
            Ok(Ok(came)) => came,
            Ok(Err(error)) => {
                self.gone = true;
                let late = error.kind() == std::io::ErrorKind::TimedOut;
                let mut failed = complaint::of_io(&error, self.reach.last_words());
                if late {
                    failed.code = CUT.into();
                    failed.message =
                        "the server did not stop in time; the connection was closed".into();
                }
                return Err(failed);
            }
            Err(error) => {
                self.gone = true;
                return Err(error);
            }
        };
        let open = self.link.transaction != 0;
        self.transaction = open.then(|| self.transaction.unwrap_or_else(Instant::now));
        Ok(came)
    }

    /// Asks a question of our own whose answer is small.
    fn ask(&mut self, sql: &str) -> Result<Answer, EngineError> {
        if self.gone {
            return Err(not_sent());
        }
        let mut texts = Texts::default();
        let came = self.send(sql, &mut texts)?;
        match came.errors.first() {
            Some(error) => Err(complaint::of_message(error, sql)),
            None => Ok(texts.0),
        }
    }

    /// One question that tells everything about where the session is.
    fn ask_bearings(&mut self) -> Result<(), EngineError> {
        let rows = self.ask(
            "select cast(serverproperty('ProductVersion') as nvarchar(128)), cast(serverproperty('Edition') as nvarchar(128)), \
             cast(@@servername as nvarchar(128)), db_name(), original_login(), suser_sname(), user_name(), is_srvrolemember('sysadmin'), @@spid, \
             cast(databasepropertyex(db_name(), 'Updateability') as nvarchar(60)), cast(databasepropertyex(db_name(), 'Collation') as nvarchar(128)), \
             schema_name(), cast(@@language as nvarchar(128)), @@lock_timeout, cast(sysdatetimeoffset() as nvarchar(40)), cast(@@version as nvarchar(300))",
        )?;
        let mut row = rows.into_iter().next().unwrap_or_default().into_iter();
        let mut next = || row.next().flatten().unwrap_or_default();
        let (version, edition, server) = (next(), next(), next());
        let (database, login, acting, user) = (next(), next(), next(), next());
        let all_powerful = next() == "1";
        let process = next();
        let (updates, collation, schema) = (next(), next(), next());
        let (language, lock_timeout, now, whole) = (next(), next(), next(), next());
        self.bearings.version = version;
        self.bearings.database = database;
        self.bearings.access = match updates.as_str() {
            "READ_ONLY" => Access::ReadOnly(
                "This database only reads: it is a copy that follows another, or was set to read_only.".into(),
            ),
            _ => Access::Writable,
        };
        let zone = now.get(now.len().saturating_sub(6)..).unwrap_or_default();
        self.bearings.server = Some(ServerBearings {
            place: self.address.place(),
            local: self.address.is_local(),
            way: self.address.way_words(),
            role: (acting != login).then(|| acting.clone()),
            user: login.clone(),
            all_powerful,
            search_path: Some(schema)
                .filter(|schema| !schema.is_empty())
                .into_iter()
                .collect(),
            time_zone: format!("{zone}, the server's"),
            link: self.link.state.clone(),
            identity: format!("{server}, database {}", self.bearings.database),
            process: process.parse().unwrap_or(0),
        });
        let wait = match lock_timeout.as_str() {
            "-1" => "waits for locks without a limit".to_string(),
            milliseconds => format!("waits {milliseconds} ms for locks"),
        };
        self.lock_timeout = lock_timeout;
        self.bearings.facts = vec![
            (
                "says of itself".into(),
                whole.lines().next().unwrap_or_default().trim().to_string(),
            ),
            ("edition".into(), edition),
            ("its own name".into(), server),
            ("user here".into(), user),
            ("process".into(), process),
            ("collation".into(), collation),
            ("language".into(), language),
            ("locks".into(), wait),
        ];
        self.stale = false;
        Ok(())
    }
}

impl Ticketed for Tabular {
    fn tickets(&self) -> &Tickets {
        &self.tickets
    }

    fn settle(&mut self) {
        // A request to stop that came too late must not stop what comes next.
        let attention = Arc::clone(&self.link.attention);
        self.runtime.block_on(async {
            let _ = timeout(Duration::ZERO, attention.notified()).await;
        });
    }
}

impl Connection for Tabular {
    fn dialect(&self) -> &'static Dialect {
        &TABULAR
    }

    fn control(&self) -> Arc<dyn Control> {
        Arc::new(ServerControl(Arc::clone(&self.tickets)))
    }

    fn bearings(&mut self) -> Bearings {
        if self.stale && !self.gone {
            // What cannot be asked now is asked the next time.
            let _ = self.ask_bearings();
        }
        self.bearings.transaction = self.transaction;
        self.bearings.clone()
    }

    fn idle(&mut self) -> Idle {
        if let (Some(own), End::Tcp(_, theirs)) = (self.link.own_port, self.reach.end()) {
            self.gone |= is_closed(crate::idle_link::Link { own, theirs }) == Some(true);
        }
        Idle {
            lost: self.gone,
            ..Idle::default()
        }
    }

    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        if self.gone {
            return Err(not_sent());
        }
        let about = summary(statement, &TABULAR);
        if self.refusing
            && let Some(why) = reading::refused(statement, &about)
        {
            return Err(not_while_refusing(&why));
        }
        let around =
            self.refusing && self.transaction.is_none() && about.effect != Effect::Transaction;
        if around {
            self.ask("begin transaction")?;
        }
        if !self.tickets.begin(ticket) {
            self.tickets.end();
            return Err(EngineError::cancelled());
        }
        let came = self.send(statement, sink);
        let cancelled = self.tickets.end();
        if cancelled && !self.gone {
            self.settle();
        }
        self.stale |= may_move(statement, &about) || came.is_err();
        let result = came.and_then(|mut came| {
            if let Some(failed) = came.failed.take() {
                return Err(failed);
            }
            if came.stopped && cancelled {
                return Err(EngineError::cancelled());
            }
            match came.errors.split_first() {
                None => Ok(came.outcome),
                Some((first, others)) => {
                    let mut error = complaint::of_message(first, statement);
                    error.notes = came.outcome.notes;
                    error.notes.extend(others.iter().map(complaint::in_a_line));
                    explain_read_only(&mut error, &self.bearings.access, self.refusing);
                    Err(error)
                }
            }
        });
        if around && !self.gone {
            // Whatever it did is taken back.
            self.ask("if @@trancount > 0 rollback transaction")?;
        }
        result
    }

    fn put(
        &mut self,
        ticket: u64,
        into: &crate::load::Destination,
        rows: &RowBatch,
    ) -> Result<u64, crate::load::NotPut> {
        if into.existing != crate::load::Existing::Refuse {
            return Err(EngineError::plain(
                "Rows whose key is there can only be refused by servers of this family so far: load into a new table, and merge that.",
            )
            .into());
        }
        crate::load::with_inserts(self, ticket, into, rows)
    }

    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError> {
        if refuse && self.transaction.is_some() {
            return Err(may_write_until_its_end());
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

impl Describe for Tabular {
    fn catalog(
        &mut self,
        ticket: u64,
        first: &mut dyn FnMut(Catalog),
    ) -> Result<Catalog, EngineError> {
        self.under(ticket, |this| catalog::read(this, first))
    }

    fn define(&mut self, ticket: u64, object: &mut Object) -> Result<(), EngineError> {
        self.under(ticket, |this| define::define(this, object))
    }

    fn script(&mut self, ticket: u64, catalog: &Catalog) -> Result<String, EngineError> {
        self.under(ticket, |this| define::script(this, catalog))
    }

    fn count_rows(&mut self, ticket: u64, catalog: &mut Catalog, limit: Duration) {
        // Tables that were not counted keep the server's numbers.
        let _ = self.under(ticket, |this| {
            let before = this.lock_timeout.clone();
            count_small(catalog, &[], limit, &TABULAR, &mut |sql| {
                this.ask("set lock_timeout 0").ok()?;
                let answer = this.ask(sql).ok();
                let _ = this.ask(&format!("set lock_timeout {before}"));
                answer
            });
            Ok(())
        });
    }

    fn listing(&mut self, what: Listing<'_>) -> Result<Query, String> {
        Ok(listing::listing(what))
    }
}

impl Served for Tabular {
    fn beside(&self) -> Option<Beside> {
        let (mut address, reach) = (self.address.clone(), Arc::clone(&self.reach));
        address.database.clone_from(&self.bearings.database);
        Some(Box::new(move || {
            let mut other =
                crate::served::log_in(&address, &crate::trouble::Silent, &mut |password| {
                    Self::connect(&address, &reach, password.as_ref(), &crate::trouble::Silent)
                })?;
            other.ask_bearings()?;
            Ok(Box::new(other))
        }))
    }

    fn follow(&mut self, bearings: &Bearings) -> Result<(), EngineError> {
        if self.bearings.database != bearings.database && !bearings.database.is_empty() {
            self.ask(&format!("use {}", bracketed(&bearings.database)))?;
            self.stale = true;
        }
        if self.stale {
            self.ask_bearings()?;
        }
        Ok(())
    }

    fn change_password(&mut self, new: &SecretString) -> Result<(), EngineError> {
        let quoted = |text: &str| format!("N'{}'", text.replace('\'', "''"));
        let old = self.address.secrets.get(&SecretFor::Database);
        let old = old.map(|old| format!(" old_password = {}", quoted(old.expose_secret())));
        let sql = format!(
            "alter login {} with password = {}{}",
            bracketed(&self.address.user),
            quoted(new.expose_secret()),
            old.unwrap_or_default()
        );
        self.ask(&sql).map_err(|mut error| {
            // What the server repeats of the statement holds the password.
            error.message = error.message.replace(new.expose_secret(), "…");
            error.offset = None;
            error
        })?;
        self.address
            .secrets
            .set(SecretFor::Database, Some(new.clone()));
        Ok(())
    }
}
