//! MariaDB and MySQL over their own protocol, in its text form, so that every value arrives as the server's
//! own text. One connection serves a session for its whole life and never goes another way than the one
//! addressed; rows stream; one statement is sent once. The driver runs in the connection's thread.

mod catalog;
mod complaint;
pub(crate) mod hello;
mod listing;
mod local;
mod reading;
mod roles;
mod types;

use std::pin::pin;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::poll;
use idle_tide_core::{Catalog, Object, RowBatch, ValueRef};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::{MARIADB, mariadb};
use idle_tide_lang::statement::{Effect, called, summary};
use mysql_async::consts::StatusFlags;
use mysql_async::prelude::Queryable;
use mysql_async::{ClientIdentity, Conn, DriverError, Error, Opts, OptsBuilder, SslOpts, Value};
use secrecy::{ExposeSecret, SecretString};
use tokio::runtime::Runtime;
use tokio::time::timeout;

use crate::address::{Address, SecretFor, TlsMode};
use crate::engine::{
    Access, Bearings, Beside, Connection, Control, Describe, EngineError, Fault, Idle, LinkState,
    Listing, Outcome, Proof, Query, Served, ServerBearings, Sink,
};
use crate::gather::{Gather, HAND_OVER};
use crate::idle_link::{Link, is_closed};
use crate::reach::{End, PATIENCE, Reach};
use crate::served::{
    Answer, CUT, REST, ServerControl, Stop, Ticketed, Tickets, count_small, explain_read_only,
    may_move, may_write_until_its_end, not_while_refusing, runtime,
};
use crate::trouble::{Ask, OpenError, Trouble};
use local::Local;
pub(crate) use reading::acting;
use types::How;

/// The versions of MariaDB that the tests run against (docs/versions.md).
const TESTED: &[&str] = &["10.5", "10.11", "11.8"];
/// Those of MySQL.
const TESTED_MYSQL: &[&str] = &["9.7"];

/// Tables that somebody keeps others from reading. MySQL's shortest wait for one is a second; MariaDB waits not at all.
const LOCKED: &str = "select object_name from performance_schema.metadata_locks where object_schema = database() and object_type = 'TABLE' \
    and lock_status = 'GRANTED' and lock_type in ('EXCLUSIVE', 'SHARED_NO_READ_WRITE')";

/// A connection to one MariaDB or MySQL server.
pub struct Mariadb {
    runtime: Runtime,
    /// `None` once it was closed because the server could not be asked to stop.
    conn: Option<Conn>,
    tickets: Arc<Tickets>,
    address: Address,
    reach: Arc<Reach>,
    dialect: &'static Dialect,
    is_mysql: bool,
    /// The port at which the server says it listens.
    says_port: Option<u16>,
    transaction: Option<Instant>,
    refusing: bool,
    gone: bool,
    bearings: Bearings,
    stale: bool,
    /// Whether the session compares as the tables do.
    collated: bool,
    /// The link as this machine knows it, where it does.
    link: Option<Link>,
    link_was_seen: bool,
}

fn options(
    address: &Address,
    reach: &Reach,
    password: Option<&SecretString>,
    encrypt: bool,
) -> Result<Opts, OpenError> {
    let mut builder = OptsBuilder::default()
        .user(Some(&address.user))
        .pass(password.map(|p| p.expose_secret().to_string()))
        .db_name(Some(&address.database).filter(|name| !name.is_empty()))
        // Never by another way than the one addressed.
        .prefer_socket(false)
        .stmt_cache_size(0)
        // The servers' own limits count; asking for them would be one more journey.
        .max_allowed_packet(Some(1 << 30))
        .wait_timeout(Some(28_800))
        .client_found_rows(false)
        .tcp_nodelay(true);
    builder = match reach.end() {
        End::Unix(path) => builder.socket(Some(path.display().to_string())),
        End::Tcp(host, port) => builder.ip_or_hostname(host).tcp_port(port),
    };
    if encrypt {
        let proof = address.tls_mode().proof();
        let verify = proof != Proof::None;
        // Whether the name alone is wrong the driver reads in the words of the error, and the words that it looks for stand
        // in them no longer: a name that has them is not that of any certificate, and the words are there.
        let name = match proof {
            Proof::Authority => "NotValidForName".to_string(),
            Proof::None | Proof::Name => address.host.clone(),
        };
        let mut tls = SslOpts::default()
            .with_danger_tls_hostname_override(Some(name))
            .with_danger_accept_invalid_certs(!verify)
            .with_danger_skip_domain_validation(proof != Proof::Name);
        if verify {
            let roots = crate::tls::authorities(address)?;
            tls = tls
                .with_root_certs(roots.into_iter().map(|root| root.to_vec().into()).collect())
                .with_disable_built_in_roots(address.tls.authority.is_some());
        }
        match (&address.tls.certificate, &address.tls.key) {
            (Some(certificate), Some(key)) => {
                tls = tls.with_client_identity(Some(ClientIdentity::new(
                    certificate.clone().into(),
                    key.clone().into(),
                )));
            }
            (None, None) => {}
            _ => {
                return Err(crate::tls::config(address)
                    .err()
                    .unwrap_or_else(|| OpenError::plain("A certificate needs its key.")));
            }
        }
        builder = builder.ssl_opts(tls);
    }
    Ok(builder.into())
}

/// Connects and logs in; whether the link is encrypted is tried as the address says.
async fn log_in(
    address: &Address,
    reach: &Reach,
    password: Option<&SecretString>,
) -> Result<Conn, OpenError> {
    let mode = address.tls_mode();
    let wants = mode != TlsMode::Off && address.socket.is_none();
    let attempt = async |encrypt: bool| {
        let options = options(address, reach, password, encrypt)?;
        let login = timeout(PATIENCE, Conn::new(options)).await;
        Ok::<_, OpenError>(
            login
                .unwrap_or_else(|_| Err(std::io::Error::from(std::io::ErrorKind::TimedOut).into())),
        )
    };
    let mut opened = attempt(wants).await?;
    if mode == TlsMode::Try
        && matches!(
            opened,
            Err(Error::Driver(DriverError::NoClientSslFlagFromServer))
        )
    {
        opened = attempt(false).await?;
    }
    opened.map_err(|error| {
        // The command or the secure shell may still be saying why.
        complaint::of_login(&error, address, reach.last_words())
    })
}

/// Asks the server, over a connection of its own, to stop what connection `id` runs.
fn stop(address: &Address, reach: &Arc<Reach>, id: u32) -> Stop {
    let (address, reach) = (address.clone(), Arc::clone(reach));
    Box::new(move || {
        let runtime = runtime().map_err(|error| error.to_string())?;
        runtime.block_on(async {
            let password = address.secrets.get(&SecretFor::Database);
            let kill = async {
                let login = log_in(&address, &reach, password.as_ref()).await;
                let mut conn = login.map_err(|error| error.to_string())?;
                let killed = conn.query_drop(format!("kill query {id}")).await;
                // It is asked; how it says goodbye does not matter.
                let _ = conn.disconnect().await;
                killed.map_err(|error| error.to_string())
            };
            let late = |_| Err("it did not answer in time".to_string());
            timeout(PATIENCE, kill).await.unwrap_or_else(late)
        })
    })
}

/// Seconds in the largest unit of which there are at least two.
fn in_words(seconds: u64) -> String {
    let units = [(86_400, "days"), (3_600, "hours"), (60, "minutes")];
    let unit = units.iter().find(|(unit, _)| seconds >= 2 * unit);
    unit.map_or(format!("{seconds} s"), |(unit, name)| {
        format!("{} {name}", seconds / unit)
    })
}

fn not_sent() -> EngineError {
    EngineError {
        fault: Fault::NotSent,
        ..EngineError::plain("the connection had ended before")
    }
}

/// The question that tells where a session is. What only one of the two kinds of servers knows stands in a comment that only that
/// one runs.
const BEARINGS: &str = "select version(), @@version_comment, database(), user(), current_user(), @@hostname, @@port, @@sql_mode, \
     @@session.time_zone, @@system_time_zone, @@global.read_only, @@character_set_server, @@collation_connection, @@collation_database, @@collation_server, connection_id(), \
     @@version_compile_os, @@autocommit, \
     exists (select 1 from information_schema.user_privileges where privilege_type = 'SUPER' \
       and grantee = concat('''', replace(current_user(), '@', '''@'''), '''')) \
     /*M! , current_role(), @@tx_isolation, @@tx_read_only, @@server_id, @@max_statement_time, \
     (select variable_value from information_schema.session_status where variable_name = 'SSL_VERSION'), \
     (select variable_value from information_schema.global_status where variable_name = 'UPTIME'), \
     (select host from information_schema.processlist where id = connection_id()) */ \
     /*!80000 , current_role(), @@transaction_isolation, @@transaction_read_only, @@server_uuid, @@max_execution_time, \
     (select variable_value from performance_schema.session_status where variable_name = 'Ssl_version'), \
     (select variable_value from performance_schema.global_status where variable_name = 'Uptime') */ \
     /*!80022 , (select host from performance_schema.processlist where id = connection_id()) */";

impl Mariadb {
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
            Self::connect(address, &reach, password.as_ref())
        })?;
        match this.ask_bearings() {
            // The rest is asked when there is a new one.
            Err(error) if error.code.starts_with("1820 ") => {
                this.bearings.warnings.push(complaint::EXPIRED.into());
                return Ok(this);
            }
            asked => asked?,
        }
        let version = this.bearings.version.clone();
        let tested = if this.is_mysql { TESTED_MYSQL } else { TESTED };
        let untested = crate::served::untested(&version, tested);
        this.bearings.warnings.extend(untested);
        this.bearings
            .warnings
            .extend(crate::served::other_port(address, this.says_port));
        for note in &address.notes {
            this.bearings.warnings.push(note.clone());
        }
        let open = this
            .bearings
            .server
            .as_ref()
            .is_some_and(|s| s.link == LinkState::Open);
        if open && !address.is_local() {
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
    ) -> Result<Self, OpenError> {
        let runtime = runtime()?;
        let conn = runtime.block_on(log_in(address, reach, password))?;
        let tickets = Tickets::new(stop(address, reach, conn.id()));
        if conn.server_version() < (5, 7, 0) {
            let (a, b, c) = conn.server_version();
            return Err(OpenError {
                trouble: Trouble::TooOld,
                headline: format!(
                    "This server, version {a}.{b}.{c}, is too old to be spoken to; MySQL 5.7, MariaDB 10.2 and later can be."
                ),
                checks: Vec::new(),
                said: None,
            });
        }
        Ok(Mariadb {
            runtime,
            conn: Some(conn),
            tickets,
            address: address.clone(),
            reach: Arc::clone(reach),
            dialect: MARIADB,
            is_mysql: false,
            says_port: None,
            transaction: None,
            refusing: false,
            gone: false,
            bearings: Bearings {
                database: address.database.clone(),
                place: Some(address.place()),
                ..Bearings::of("MariaDB")
            },
            stale: true,
            collated: false,
            link: None,
            link_was_seen: false,
        })
    }

    /// Asks a question of our own whose answer is small.
    fn ask(&mut self, sql: &str) -> Result<Answer, EngineError> {
        let Some(conn) = &mut self.conn else {
            return Err(not_sent());
        };
        let answer: Result<Vec<mysql_async::Row>, Error> = self.runtime.block_on(conn.query(sql));
        let rows = answer.map_err(|error| self.failed(&error, sql))?;
        Ok(rows
            .into_iter()
            .map(|row| {
                row.unwrap()
                    .into_iter()
                    .map(|value| match value {
                        Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
                        _ => None,
                    })
                    .collect()
            })
            .collect())
    }

    fn failed(&mut self, error: &Error, statement: &str) -> EngineError {
        let failed = complaint::of_driver(error, statement, self.reach.last_words());
        self.gone |= failed.fault == Fault::Lost;
        failed
    }

    /// Closes the connection: it lives in its runtime, and ends with it.
    fn cut_off(&mut self) {
        self.gone = true;
        if let Ok(fresh) = runtime() {
            let before = std::mem::replace(&mut self.runtime, fresh);
            let conn = self.conn.take();
            {
                let _inside = before.enter();
                drop(conn);
            }
            before.shutdown_background();
        }
    }

    /// One question that tells everything about where the session is.
    fn ask_bearings(&mut self) -> Result<(), EngineError> {
        let rows = self.ask(BEARINGS)?;
        let mut row = rows.into_iter().next().unwrap_or_default().into_iter();
        let mut next = || row.next().flatten().unwrap_or_default();
        let whole = next();
        let comment = next();
        self.is_mysql = !whole.to_lowercase().contains("mariadb");
        self.bearings.family = if self.is_mysql { "MySQL" } else { "MariaDB" };
        self.bearings.version = whole.split('-').next().unwrap_or_default().to_string();
        self.bearings.database = next();
        let (login, user) = (next(), next());
        let (hostname, port) = (next(), next());
        self.says_port = port.parse().ok();
        let mode = next();
        self.dialect = mariadb(self.is_mysql, &mode);
        let (zone, system_zone) = (next(), next());
        let read_only = next() == "1";
        let (charset, mut collation, usual) = (next(), next(), [next(), next()]);
        let (process, os, autocommit) = (next(), next(), next());
        let all_powerful = next() == "1";
        let role = roles::shown(&next());
        let isolation = next();
        let session_reads_only = next() == "1";
        let server = next();
        let limit = next();
        let tls = next();
        let uptime = next();
        // `HOST:PORT`, as the server sees this side; behind a way or a translation no socket here has that port.
        let seen = next();
        let own = seen
            .rsplit_once(':')
            .and_then(|(_, port)| port.parse().ok());
        if let (Some(own), End::Tcp(_, theirs)) = (own, self.reach.end()) {
            self.link = Some(Link { own, theirs });
        }
        self.bearings.access = if session_reads_only && !self.refusing {
            Access::ReadOnly(
                "The server makes this session's transactions read-only (tx_read_only is on)."
                    .into(),
            )
        } else if read_only && !all_powerful {
            Access::ReadOnly(
                "This server only reads (read_only is on); writes go to the one it follows.".into(),
            )
        } else {
            Access::Writable
        };
        let link = match (&self.address.socket, tls.as_str()) {
            (Some(_), _) => LinkState::Socket,
            (None, "") => LinkState::Open,
            (None, version) => LinkState::Encrypted {
                version: version.replace("TLSv", "TLS "),
                proof: self.address.tls_mode().proof(),
            },
        };
        self.bearings.server = Some(ServerBearings {
            process: process.parse().unwrap_or(0),
            place: self.address.place(),
            local: self.address.is_local(),
            way: self.address.way_words(),
            user: user.clone(),
            role,
            all_powerful,
            search_path: Vec::new(),
            time_zone: if zone == "SYSTEM" {
                format!("{system_zone}, the server's")
            } else {
                zone
            },
            link,
            identity: format!("{hostname}:{port}, server {server}"),
        });
        let or_none = |text: String, none: &str| {
            if text.is_empty() || text.trim_end_matches(['0', '.']).is_empty() {
                none.to_string()
            } else {
                text
            }
        };
        if !std::mem::replace(&mut self.collated, true) {
            let characters = |of: &String| of.split('_').next().unwrap_or_default().to_string();
            let mut same = usual.iter();
            let own = same.find(|usual| characters(usual) == characters(&collation));
            // The driver's own choice differs from that of the tables, and the server compares no variable with them then.
            if let Some(own) = own.filter(|own| **own != collation) {
                self.ask(&format!("set collation_connection = {own}"))?;
                collation.clone_from(own);
            }
        }
        self.bearings.facts = vec![
            ("says of itself".into(), format!("{whole}, {comment}, {os}")),
            ("its own name".into(), format!("{hostname}:{port}")),
            ("logged in as".into(), login),
            ("runs for".into(), in_words(uptime.parse().unwrap_or(0))),
            ("process".into(), process),
            ("server's characters".into(), charset),
            ("collation".into(), collation),
            ("modes".into(), or_none(mode.replace(',', ", "), "none")),
            (
                "isolation".into(),
                isolation.to_lowercase().replace('-', " "),
            ),
            (
                "each statement alone".into(),
                if autocommit == "1" {
                    "yes (autocommit)"
                } else {
                    "no: commit; keeps what was written"
                }
                .into(),
            ),
            ("statement limit".into(), or_none(limit, "none")),
        ];
        self.stale = false;
        Ok(())
    }

    /// The first of the warnings that the server has of the last statement, and how many there are.
    fn take_warnings(&mut self, count: u16, notes: &mut Vec<String>) {
        for row in self.ask("show warnings limit 20").unwrap_or_default() {
            if let (Some(level), Some(code), Some(message)) = (&row[0], &row[1], &row[2]) {
                notes.push(format!("{}: {message} ({code})", level.to_lowercase()));
            }
        }
        if count > 20 {
            notes.push(format!("These are the first 20 of {count} warnings."));
        }
    }

    /// Whether the link has ended while nothing ran.
    fn is_gone(&self) -> bool {
        self.gone || self.conn.as_ref().is_none_or(Conn::is_disconnected)
    }

    /// Sends the statement and hands over what comes.
    async fn stream(
        conn: &mut Conn,
        statement: &str,
        counts: bool,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, Stopped> {
        let mut result = conn.query_iter(statement).await.map_err(Stopped::Driver)?;
        let mut gather = Gather::new(sink);
        let mut outcome = Outcome::default();
        let mut results = 0;
        let mut room = Vec::new();
        loop {
            let columns = result.columns();
            let columns = columns.as_deref().unwrap_or_default();
            let with_rows = !columns.is_empty();
            let how: Vec<How> = columns.iter().map(types::how).collect();
            if with_rows {
                let sink = gather.sink()?;
                if results > 0 {
                    sink.another(outcome.clone())
                        .map_err(|e| EngineError::of_sink(&e))?;
                    outcome = Outcome::default();
                }
                results += 1;
                outcome.returns_rows = true;
                sink.columns(columns.iter().map(types::column).collect())
                    .map_err(|e| EngineError::of_sink(&e))?;
            } else {
                if counts {
                    outcome.changed = Some(result.affected_rows());
                }
                outcome.new_key = result
                    .last_insert_id()
                    .filter(|key| *key > 0)
                    .and_then(|key| i64::try_from(key).ok());
            }
            loop {
                let row = {
                    let mut next = pin!(result.next());
                    match poll!(next.as_mut()) {
                        std::task::Poll::Ready(row) => row,
                        std::task::Poll::Pending => loop {
                            // What was gathered is shown in time also when nothing more comes.
                            if !gather.holds_rows() {
                                break next.await;
                            }
                            match timeout(HAND_OVER, next.as_mut()).await {
                                Ok(row) => break row,
                                Err(_) => gather.hand_over()?,
                            }
                        },
                    }
                };
                let row = match row {
                    Ok(Some(row)) => row,
                    Ok(None) => break,
                    Err(error) => {
                        gather.hand_over()?;
                        return Err(Stopped::Driver(error));
                    }
                };
                for (at, how) in how.iter().enumerate() {
                    match (row.as_ref(at), how) {
                        (Some(Value::Bytes(bytes)), How::As(reading)) => {
                            reading.push(bytes, &mut gather.batch, &mut room);
                        }
                        (Some(Value::Bytes(bytes)), How::Bits(count)) => {
                            types::bits(bytes, *count, &mut room);
                            gather.batch.push_text(&room);
                        }
                        (Some(Value::Bytes(bytes)), How::Vector) => {
                            types::vector(bytes, &mut room);
                            gather.batch.push_text(&room);
                        }
                        _ => gather.batch.push(ValueRef::Null),
                    }
                }
                gather.end_row()?;
            }
            if result.is_empty() {
                // An error behind a result waits until the next one is asked for.
                if let Err(error) = result.next().await {
                    gather.hand_over()?;
                    return Err(Stopped::Driver(error));
                }
                break;
            }
        }
        gather.hand_over()?;
        Ok(outcome)
    }
}

/// Why a statement ended early.
enum Stopped {
    Driver(Error),
    Ours(EngineError),
}

impl From<EngineError> for Stopped {
    fn from(error: EngineError) -> Self {
        Stopped::Ours(error)
    }
}

impl Ticketed for Mariadb {
    fn tickets(&self) -> &Tickets {
        &self.tickets
    }

    fn settle(&mut self) {
        for _ in 0..3 {
            let gone = self.is_gone();
            let Some(conn) = self.conn.as_mut().filter(|_| !gone) else {
                return;
            };
            let rest = self
                .runtime
                .block_on(async { timeout(REST, conn.query_drop("do 0")).await });
            match rest {
                Ok(Ok(())) => return,
                Ok(Err(_)) => {}
                Err(_) => {
                    tracing::warn!("the server goes on with what it was asked to stop");
                    return self.cut_off();
                }
            }
        }
    }
}

impl Connection for Mariadb {
    fn dialect(&self) -> &'static Dialect {
        self.dialect
    }

    fn control(&self) -> Arc<dyn Control> {
        Arc::new(ServerControl(Arc::clone(&self.tickets)))
    }

    fn bearings(&mut self) -> Bearings {
        if self.stale && !self.is_gone() {
            // What cannot be asked now is asked the next time.
            let _ = self.ask_bearings();
        }
        self.bearings.transaction = self.transaction;
        self.bearings.clone()
    }

    fn idle(&mut self) -> Idle {
        // A link that was known and is not any more was broken off.
        let known = self.link.map(is_closed);
        match known {
            Some(Some(false)) => self.link_was_seen = true,
            Some(Some(true)) => self.gone = true,
            Some(None) if self.link_was_seen => self.gone = true,
            _ => {}
        }
        Idle {
            lost: self.is_gone(),
            ..Idle::default()
        }
    }

    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        if self.is_gone() {
            return Err(not_sent());
        }
        let about = summary(statement, self.dialect);
        let mut around = false;
        if self.refusing {
            let dialect = self.dialect;
            let mut ask = |sql: &str| self.ask(sql).ok()?.into_iter().flatten().next()?;
            if let Some(why) = reading::refused(statement, &about, dialect, &mut ask) {
                return Err(not_while_refusing(&why));
            }
            if self.transaction.is_none() {
                self.ask("set session transaction read only")?;
                if reading::needs_transaction(&about) {
                    self.ask(reading::BEGIN)?;
                    around = true;
                }
            }
        }
        if !self.tickets.begin(ticket) {
            self.tickets.end();
            return Err(EngineError::cancelled());
        }
        let counts = about.effect == Effect::Write;
        let Some(conn) = &mut self.conn else {
            return Err(not_sent());
        };
        let id = conn.id();
        let local = match Local::of(statement, self.dialect, conn) {
            Ok(local) => local,
            Err(error) => {
                self.tickets.end();
                return Err(error);
            }
        };
        let (stream, tickets) = (Self::stream(conn, statement, counts, sink), &self.tickets);
        let result = self.runtime.block_on(async {
            // An error of the driver is no error of waiting for it.
            let done = tickets.unless_cut(async { Ok(stream.await) });
            done.await.unwrap_or_else(|cut| Err(Stopped::Ours(cut)))
        });
        let sent = local.map(Local::close);
        let mut interrupted = false;
        let mut result = result.map_err(|stopped| match stopped {
            Stopped::Driver(error) => self.failed(&error, statement),
            Stopped::Ours(error) if error.code == CUT => {
                self.cut_off();
                error
            }
            Stopped::Ours(error) => {
                // Nobody takes the rest: the server need not send it.
                if let Err(words) = stop(&self.address, &self.reach, id)() {
                    tracing::debug!(?words, "the rest of a result is not stopped");
                }
                interrupted = true;
                error
            }
        });
        interrupted |= self.tickets.end();
        if interrupted {
            self.settle();
        }
        // A pause that is stopped ends with a row that says so.
        if interrupted
            && result.is_ok()
            && called(statement, self.dialect).iter().any(|f| f == "sleep")
        {
            result = Err(EngineError::cancelled());
        }
        // A comment alone is nothing to the server.
        if matches!(&result, Err(error) if error.code.starts_with("1065 ")) {
            result = Ok(Outcome::default());
        }
        if result.is_err() && self.transaction.is_some() && !interrupted {
            // An error says nothing of the transaction, and may have ended it: the next answer tells.
            self.settle();
        }
        let conn = self.conn.as_ref();
        let warnings = conn.map_or(0, Conn::get_warnings);
        let flags = conn.and_then(|conn| conn.last_ok_packet().map(|ok| ok.status_flags()));
        if let Some(flags) = flags {
            self.transaction = flags
                .contains(StatusFlags::SERVER_STATUS_IN_TRANS)
                .then(|| self.transaction.unwrap_or_else(Instant::now));
        }
        self.stale |= may_move(statement, &about) || result.is_err();
        let result = match result {
            Ok(mut outcome) => {
                outcome.notes.extend(sent);
                if warnings > 0 && about.verb != "show" && !interrupted {
                    self.take_warnings(warnings, &mut outcome.notes);
                }
                Ok(outcome)
            }
            Err(mut error) => {
                explain_read_only(&mut error, &self.bearings.access, self.refusing);
                Err(error)
            }
        };
        if around && !self.is_gone() {
            self.ask("rollback")?;
            self.transaction = None;
        }
        result
    }

    fn put(
        &mut self,
        ticket: u64,
        into: &crate::load::Destination,
        rows: &RowBatch,
    ) -> Result<u64, crate::load::NotPut> {
        crate::load::with_inserts(self, ticket, into, rows)
    }

    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError> {
        if refuse && self.transaction.is_some() {
            return Err(may_write_until_its_end());
        }
        self.ask(if refuse {
            "set session transaction read only"
        } else {
            "set session transaction read write"
        })?;
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

impl Describe for Mariadb {
    fn catalog(
        &mut self,
        ticket: u64,
        first: &mut dyn FnMut(Catalog),
    ) -> Result<Catalog, EngineError> {
        self.under(ticket, |this| catalog::read(this, first))
    }

    fn script(&mut self, ticket: u64, catalog: &Catalog) -> Result<String, EngineError> {
        self.under(ticket, |this| catalog::script(this, catalog))
    }

    fn count_rows(&mut self, ticket: u64, catalog: &mut Catalog, limit: Duration) {
        // Tables that were not counted keep their estimates.
        let _ = self.under(ticket, |this| {
            if limit > Duration::ZERO {
                catalog::measure(this, catalog);
            }
            let locked = match this.is_mysql {
                true => this.ask(LOCKED).unwrap_or_default(),
                false => Vec::new(),
            };
            let locked: Vec<String> = locked.into_iter().flatten().flatten().collect();
            count_small(catalog, &locked, limit, this.dialect, &mut |sql| {
                let without_waiting = match this.is_mysql {
                    true => {
                        sql.replacen("select", "select /*+ set_var(lock_wait_timeout = 1) */", 1)
                    }
                    false => format!("set statement lock_wait_timeout = 0 for {sql}"),
                };
                this.ask(&without_waiting).ok()
            });
            Ok(())
        });
    }

    fn define(&mut self, ticket: u64, object: &mut Object) -> Result<(), EngineError> {
        self.under(ticket, |this| catalog::define(this, object))
    }

    fn listing(&mut self, what: Listing<'_>) -> Result<Query, String> {
        Ok(listing::listing(self, what))
    }
}

impl Served for Mariadb {
    fn beside(&self) -> Option<Beside> {
        let (mut address, reach) = (self.address.clone(), Arc::clone(&self.reach));
        address.database.clone_from(&self.bearings.database);
        // A database may be open to the role alone, which is taken after the login.
        let role = self.bearings.server.as_ref().and_then(|s| s.role.as_ref());
        if role.is_some() {
            address.database.clear();
        }
        Some(Box::new(move || {
            let mut other =
                crate::served::log_in(&address, &crate::trouble::Silent, &mut |password| {
                    Self::connect(&address, &reach, password.as_ref())
                })?;
            other.ask_bearings()?;
            Ok(Box::new(other))
        }))
    }

    fn follow(&mut self, bearings: &Bearings) -> Result<(), EngineError> {
        let mine = self.bearings.server.as_ref().and_then(|s| s.role.clone());
        let theirs = bearings.server.as_ref().and_then(|s| s.role.clone());
        if mine != theirs {
            let take = roles::take(theirs.as_deref(), self.is_mysql, self.dialect);
            self.ask(&take)?;
            self.stale = true;
        }
        if self.bearings.database != bearings.database && !bearings.database.is_empty() {
            self.ask(&format!(
                "use {}",
                self.dialect.quote_name(&bearings.database)
            ))?;
            self.stale = true;
        }
        if self.stale {
            self.ask_bearings()?;
        }
        Ok(())
    }

    fn change_password(&mut self, new: &SecretString) -> Result<(), EngineError> {
        let literal = self.dialect.quote_text(new.expose_secret());
        // Nobody needs a right for this statement when it is about their own account.
        let value = if self.is_mysql {
            literal.clone()
        } else {
            format!("password({literal})")
        };
        let result = self.ask(&format!("set password = {value}"));
        result.map_err(|mut error| {
            // What the server repeats of the statement holds the password.
            error.message = error
                .message
                .replace(new.expose_secret(), "…")
                .replace(&literal, "…");
            error.offset = None;
            error
        })?;
        self.address
            .secrets
            .set(SecretFor::Database, Some(new.clone()));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_long_a_server_runs_is_told_in_one_unit() {
        for (seconds, words) in [
            (0, "0 s"),
            (119, "119 s"),
            (120, "2 minutes"),
            (7_300, "2 hours"),
            (86_400 * 40 + 5, "40 days"),
        ] {
            assert_eq!(in_words(seconds), words);
        }
    }
}
