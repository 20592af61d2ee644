//! What the families of servers have in common: a runtime in the connection's thread, cancelling by
//! ticket so that a late cancel hits nothing else, and a login that asks for what is missing.

use idle_tide_core::limits::Limit;
use std::cell::Cell;
use std::collections::HashMap;
use std::net::ToSocketAddrs;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use idle_tide_core::decimal::is_decimal;
use idle_tide_core::{Catalog, Kind, Object, RowBatch, ValueRef};
use idle_tide_lang::Dialect;
use idle_tide_lang::statement::{Effect, Summary, called};
use secrecy::SecretString;

use crate::address::{Address, SecretFor};
use crate::engine::{Access, Control, EngineError, Fault};
use crate::trouble::{Ask, OpenError, Trouble};

/// A runtime that runs in the thread of whoever waits for it.
pub(crate) fn runtime() -> Result<tokio::runtime::Runtime, OpenError> {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|error| {
            OpenError::plain(format!(
                "The system gives no means to wait for a server: {error}."
            ))
        })
}

/// How a value that arrives as the server's text is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Reading {
    /// A 64-bit integer, or digits where it does not fit.
    Integer,
    /// A float.
    Float,
    /// An exact decimal number.
    Number,
    /// `t` or `f`.
    Boolean,
    /// Text as it is.
    Text,
    /// Bytes as they are.
    Bytes,
    /// Bytes as `\x` and hexadecimal digits.
    HexBytes,
}

impl Reading {
    /// Puts a value into a batch.
    #[inline]
    pub(crate) fn push(self, bytes: &[u8], batch: &mut RowBatch, room: &mut Vec<u8>) {
        let text = || std::str::from_utf8(bytes).unwrap_or("");
        match self {
            Reading::Text => batch.push_text(bytes),
            Reading::Integer => match integer(bytes) {
                Some(number) => batch.push(ValueRef::Integer(number)),
                None => Reading::Number.push(bytes, batch, room),
            },
            Reading::Number if is_decimal(bytes) => batch.push(ValueRef::Number(text())),
            Reading::Float | Reading::Number => match text().parse() {
                Ok(number) => batch.push(ValueRef::Float(number)),
                Err(_) => batch.push_text(bytes),
            },
            Reading::Boolean => batch.push(ValueRef::Boolean(bytes == b"t")),
            Reading::Bytes => batch.push(ValueRef::Bytes(bytes)),
            Reading::HexBytes => match bytes.strip_prefix(b"\\x") {
                Some(digits) => {
                    room.clear();
                    let half = |byte: u8| (byte as char).to_digit(16).unwrap_or(0) as u8;
                    room.extend(
                        digits
                            .chunks_exact(2)
                            .map(|pair| half(pair[0]) << 4 | half(pair[1])),
                    );
                    batch.push(ValueRef::Bytes(room));
                }
                None => batch.push_text(bytes),
            },
        }
    }
}

/// An integer whose digits say no more than its value: no leading zeros.
#[inline]
fn integer(bytes: &[u8]) -> Option<i64> {
    let digits = bytes.strip_prefix(b"-").unwrap_or(bytes);
    if digits.is_empty() || digits.len() > 18 || digits[0] == b'0' && bytes.len() > 1 {
        // The longest are read with care.
        let text = std::str::from_utf8(bytes).ok()?;
        let number: i64 = text.parse().ok()?;
        return (number.to_string() == text).then_some(number);
    }
    let mut number = 0_i64;
    for digit in digits {
        if !digit.is_ascii_digit() {
            return None;
        }
        number = number * 10 + i64::from(digit - b'0');
    }
    Some(if digits.len() < bytes.len() {
        -number
    } else {
        number
    })
}

/// A connection to a server whose questions are asked under tickets.
pub(crate) trait Ticketed {
    /// What its tickets are kept in.
    fn tickets(&self) -> &Tickets;

    /// What was cancelled late must not hit the next statement; what is left is read to its end.
    fn settle(&mut self);

    /// Asks questions of our own under a ticket.
    fn under<T>(
        &mut self,
        ticket: u64,
        work: impl FnOnce(&mut Self) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        if !self.tickets().begin(ticket) {
            self.tickets().end();
            return Err(EngineError::cancelled());
        }
        LACKING.set(false);
        let done = work(self);
        if self.tickets().end() {
            self.settle();
            return Err(EngineError::cancelled());
        }
        match done {
            // What was made of it would be no truth.
            Ok(_) if LACKING.take() => Err(EngineError::plain(
                "The server left out columns that it was asked for, so that its answer tells nothing.",
            )),
            done => done,
        }
    }
}

/// Says why a write was refused, where the server only says that it was.
pub(crate) fn explain_read_only(error: &mut EngineError, access: &Access, refusing: bool) {
    if error.fault != Fault::ReadOnly || error.advice.is_some() {
        return;
    }
    error.advice = Some(match access {
        Access::ReadOnly(why) => why.clone(),
        Access::Writable if refusing => {
            "This session refuses writes, and the server sees to it; /writes ask allows them again."
                .into()
        }
        Access::Writable => "The transaction only reads.".into(),
    });
}

/// A statement is not sent, because this session refuses writes and `why`.
pub(crate) fn not_while_refusing(why: &str) -> EngineError {
    EngineError {
        fault: Fault::ReadOnly,
        ..EngineError::plain(format!(
            "This session refuses writes, and {why}; /writes ask allows it again."
        ))
    }
}

/// Writes cannot be refused now, because a transaction began before.
pub(crate) fn may_write_until_its_end() -> EngineError {
    EngineError::plain(
        "a transaction is open that may write until its end; commit; or rollback; comes first",
    )
}

/// Whether the session may be elsewhere after a statement, or be another one: what reads or writes leaves it where it is,
/// and so does a plain `begin`.
pub(crate) fn may_move(statement: &str, about: &Summary) -> bool {
    let rest = statement
        .trim_start()
        .get("begin".len()..)
        .unwrap_or_default();
    let plain = matches!(rest.trim_start().chars().next(), None | Some(';'));
    let begins = about.effect == Effect::Transaction && about.verb == "begin" && plain;
    !begins && !matches!(about.effect, Effect::Read | Effect::Write)
}

/// Why a statement is not sent while writes are refused, as far as its words tell; `unknown` is whether what it does
/// cannot be known before, `may` are the statements that may run.
pub(crate) fn refused_by_words(about: &Summary, unknown: bool, may: &[&str]) -> Option<String> {
    let verb = about.verb.as_str();
    if matches!(about.effect, Effect::Write | Effect::Definition) {
        return Some(format!("{verb} writes"));
    }
    if unknown {
        return Some(format!("what {verb} does cannot be known before"));
    }
    let outside = !may.contains(&verb);
    outside.then(|| format!("{verb} changes what lies outside of transactions"))
}

/// A function that a statement calls and that may do more than read. `question` asks the server for one of these
/// names, `ask` gives its answer.
pub(crate) fn acting_function(
    statement: &str,
    dialect: &Dialect,
    question: fn(&[String], &Dialect) -> String,
    ask: &mut dyn FnMut(&str) -> Option<String>,
) -> Option<String> {
    let called = called(statement, dialect);
    match called.is_empty() {
        true => None,
        false => ask(&question(&called, dialect)),
    }
}

/// Keeps what a server says beside its answer, up to the limit, and says when there was more.
pub(crate) fn keep_notice(notices: &mut Vec<String>, words: String) {
    let most = Limit::Notices.value() as usize;
    match notices.len() {
        count if count < most => notices.push(words),
        count if count == most => notices.push(format!(
            "The server said more; these are the first {most} messages."
        )),
        _ => {}
    }
}

/// The answer to a question of our own: rows of texts.
pub(crate) type Answer = Vec<Told>;

thread_local! {
    /// Whether a row was asked for a column that the server left out, since the last question of [`Ticketed::under`].
    static LACKING: Cell<bool> = const { Cell::new(false) };
}

/// One row of it. A server that leaves out what it was asked for has told nothing there, and its whole answer fails.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Told(Vec<Option<String>>);

impl Told {
    /// A column, taken out.
    pub(crate) fn take(&mut self, at: usize) -> Option<String> {
        match self.0.get_mut(at) {
            Some(value) => value.take(),
            None => {
                LACKING.set(true);
                None
            }
        }
    }

    /// The first column, taken out.
    pub(crate) fn first(self) -> Option<String> {
        self.0.into_iter().next().flatten()
    }
}

impl std::ops::Index<usize> for Told {
    type Output = Option<String>;

    fn index(&self, at: usize) -> &Option<String> {
        self.0.get(at).unwrap_or_else(|| {
            LACKING.set(true);
            &None
        })
    }
}

impl IntoIterator for Told {
    type Item = Option<String>;
    type IntoIter = std::vec::IntoIter<Option<String>>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

impl FromIterator<Option<String>> for Told {
    fn from_iter<T: IntoIterator<Item = Option<String>>>(values: T) -> Self {
        Self(values.into_iter().collect())
    }
}

/// Tables are counted below this size. (Those of the MySQL family take 9 MB as soon as they have a few thousand rows.)
const SMALL: u64 = 12 << 20;
/// So many bytes of tables are counted in one question.
const AT_ONCE: u64 = 32 << 20;

/// Counts the rows of small tables as far as there is time, many in one question, since the way to the server
/// may be long; the others keep the server's estimates. `ask` is given a `select`, waits for no lock, and gives nothing
/// where a table may not be read or is locked; then each of those tables is asked for alone. Those that are known to be
/// `locked` are not asked for.
pub(crate) fn count_small(
    catalog: &mut Catalog,
    locked: &[String],
    limit: Duration,
    dialect: &Dialect,
    ask: &mut dyn FnMut(&str) -> Option<Answer>,
) {
    let end = Instant::now() + limit;
    let is_small = |o: &&mut Object| {
        o.kind == Kind::Table
            && !o.helper
            && o.bytes.is_some_and(|bytes| bytes < SMALL)
            && !locked.contains(&o.name)
    };
    let mut small: Vec<&mut Object> = catalog.objects.iter_mut().filter(is_small).collect();
    small.sort_by_key(|object| object.bytes);
    let mut left = &mut small[..];
    while !left.is_empty() && Instant::now() < end {
        let mut bytes = 0;
        let fits = left.iter().position(|o| {
            bytes += o.bytes.unwrap_or(0);
            bytes > AT_ONCE
        });
        let many = fits.unwrap_or(left.len()).clamp(1, 40);
        let (group, rest) = left.split_at_mut(many);
        left = rest;
        if count(group, dialect, ask) || group.len() == 1 {
            continue;
        }
        for one in group.chunks_mut(1) {
            if Instant::now() >= end {
                return;
            }
            count(one, dialect, ask);
        }
    }
}

/// Puts sizes, by schema and name, into the catalog.
pub(crate) fn measured(catalog: &mut Catalog, rows: Answer) {
    let sizes: HashMap<(String, String), u64> = rows
        .into_iter()
        .filter_map(|row| {
            let name = (row[0].clone()?, row[1].clone()?);
            Some((name, row[2].as_ref()?.parse().ok()?))
        })
        .collect();
    for object in &mut catalog.objects {
        let size = sizes.get(&(object.schema.clone(), object.name.clone()));
        if let (Some(size), true) = (size, object.kind != Kind::View) {
            object.bytes = Some(*size);
        }
    }
}

/// Counts the rows of some tables in one question. Answers whether that was possible.
fn count(
    tables: &mut [&mut Object],
    dialect: &Dialect,
    ask: &mut dyn FnMut(&str) -> Option<Answer>,
) -> bool {
    let parts = tables.iter().map(|o| {
        let (schema, name) = (dialect.quote_name(&o.schema), dialect.quote_name(&o.name));
        format!("(select count(*) from {schema}.{name})")
    });
    let parts: Vec<String> = parts.collect();
    let Some(rows) = ask(&format!("select {}", parts.join(", "))) else {
        return false;
    };
    for (object, count) in tables.iter_mut().zip(rows.into_iter().flatten()) {
        object.rows = count.and_then(|count| count.parse().ok());
        object.estimated = false;
    }
    true
}

/// Asks the server to stop what a connection runs; it runs in a thread of its own and may block. Says in words why it
/// could not be asked.
pub(crate) type Stop = Box<dyn Fn() -> Result<(), String> + Send + Sync>;

/// How long what is left of a stopped statement is waited for; then its connection is closed.
pub(crate) const REST: Duration = Duration::from_secs(10);

/// The code of an error where the connection was closed because the server could not be asked to stop.
pub(crate) const CUT: &str = "closed";

/// The ticket of no run.
const IDLE: u64 = u64::MAX - 1;

/// State shared between a connection's thread and everybody else.
pub(crate) struct Tickets {
    running: AtomicU64,
    cancelled: AtomicU64,
    /// Cancels that are on their way to the server.
    on_the_way: Mutex<u32>,
    arrived: Condvar,
    stop: Mutex<Option<Arc<Stop>>>,
    /// Rung when the server cannot be asked to stop what runs.
    cut: tokio::sync::Notify,
    refusal: Mutex<Option<String>>,
}

impl Tickets {
    pub(crate) fn new(stop: Stop) -> Arc<Self> {
        Arc::new(Tickets {
            running: AtomicU64::new(IDLE),
            // No ticket yet.
            cancelled: AtomicU64::new(u64::MAX),
            on_the_way: Mutex::new(0),
            arrived: Condvar::new(),
            stop: Mutex::new(Some(Arc::new(stop))),
            cut: tokio::sync::Notify::new(),
            refusal: Mutex::new(None),
        })
    }

    /// Begins a run; false if it was cancelled before.
    pub(crate) fn begin(&self, ticket: u64) -> bool {
        self.running.store(ticket, Ordering::SeqCst);
        self.cancelled.load(Ordering::SeqCst) != ticket
    }

    /// Waits for what a server does, unless it is to be stopped and cannot be told: then the connection has to be
    /// closed, and the error says why.
    pub(crate) async fn unless_cut<T>(
        &self,
        work: impl Future<Output = Result<T, EngineError>>,
    ) -> Result<T, EngineError> {
        let mut work = std::pin::pin!(work);
        loop {
            tokio::select! {
                biased;
                done = &mut work => return done,
                () = self.cut.notified() => {
                    let mut refusal = self.refusal.lock().unwrap_or_else(PoisonError::into_inner);
                    // A word that came too late for an earlier run cuts nothing.
                    if let Some(words) = refusal.take() && self.is_cancelled() {
                        return Err(EngineError {
                            fault: Fault::Lost,
                            code: CUT.into(),
                            ..EngineError::plain(format!("the server could not be asked to stop it ({words}); the connection was closed"))
                        });
                    }
                }
            }
        }
    }

    pub(crate) fn is_cancelled(&self) -> bool {
        let running = self.running.load(Ordering::SeqCst);
        running != IDLE && self.cancelled.load(Ordering::SeqCst) == running
    }

    /// Ends a run. Waits for a cancel that is on its way, so that it cannot hit what comes next; true if
    /// there was one.
    pub(crate) fn end(&self) -> bool {
        let was = self.is_cancelled();
        self.running.store(IDLE, Ordering::SeqCst);
        let mut count = self
            .on_the_way
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        let limit = Instant::now() + Duration::from_secs(5);
        while *count > 0 && Instant::now() < limit {
            let waited = self.arrived.wait_timeout(count, Duration::from_millis(100));
            count = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
        was
    }
}

/// The tickets of a connection as its [`Control`].
pub(crate) struct ServerControl(pub(crate) Arc<Tickets>);

impl Control for ServerControl {
    fn cancel(&self, ticket: u64) {
        let tickets = &self.0;
        let before = tickets.cancelled.swap(ticket, Ordering::SeqCst);
        if before == ticket || tickets.running.load(Ordering::SeqCst) != ticket {
            return;
        }
        let stop = tickets
            .stop
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        let Some(stop) = stop else { return };
        *tickets
            .on_the_way
            .lock()
            .unwrap_or_else(PoisonError::into_inner) += 1;
        let shared = Arc::clone(tickets);
        // The one who cancels does not wait for the server.
        std::thread::spawn(move || {
            if shared.running.load(Ordering::SeqCst) == ticket
                && let Err(words) = stop()
            {
                tracing::warn!(ticket, ?words, "the server could not be asked to stop");
                let mut refusal = shared
                    .refusal
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner);
                *refusal = Some(words);
                shared.cut.notify_one();
            }
            *shared
                .on_the_way
                .lock()
                .unwrap_or_else(PoisonError::into_inner) -= 1;
            shared.arrived.notify_all();
        });
    }

    fn waiting(&self) -> Option<(Duration, Duration)> {
        None
    }
}

/// Logs in; asks for the password when the server wants one and there is none that fits, at most three
/// times.
pub(crate) fn log_in<T>(
    address: &Address,
    ask: &dyn Ask,
    attempt: &mut dyn FnMut(Option<SecretString>) -> Result<T, OpenError>,
) -> Result<T, OpenError> {
    let given = address.secrets.get(&SecretFor::Database);
    let mut last = match attempt(given.clone()) {
        Err(error) if error.trouble == Trouble::Login => error,
        other => return other,
    };
    let place = address.place();
    for attempted in [given.is_some(), true, true] {
        let again = if attempted {
            "That was not right. "
        } else {
            ""
        };
        let words = format!("{again}Password of {} on {place}", address.user);
        let Some(password) = ask.secret(&words) else {
            return Err(last);
        };
        match attempt(Some(password.clone())) {
            Err(error) if error.trouble == Trouble::Login => last = error,
            Ok(done) => {
                address.secrets.set(SecretFor::Database, Some(password));
                return Ok(done);
            }
            other => return other,
        }
    }
    Err(last)
}

/// What is said of a version that the tests do not run against; `tested` has the parts of a version that count, the oldest
/// first.
pub(crate) fn untested(version: &str, tested: &[&str]) -> Option<String> {
    let parts = |text: &str| -> Vec<u32> {
        text.split('.')
            .filter_map(|part| part.parse().ok())
            .collect()
    };
    let own = parts(version);
    if tested.iter().any(|tested| own.starts_with(&parts(tested))) {
        return None;
    }
    let (oldest, newest) = (parts(tested.first()?), parts(tested.last()?));
    let word = match () {
        () if own < oldest => "is older than what",
        () if own > newest => "is newer than what",
        () => "lies between those that",
    };
    Some(format!(
        "This server's version {word} this program is tested with ({}).",
        tested.join(", ")
    ))
}

/// A word where the server says it was reached at another port than the one addressed: something between
/// forwards, or another server than the one meant answers.
pub(crate) fn other_port(address: &Address, says: Option<u16>) -> Option<String> {
    let direct = address.socket.is_none() && address.way == crate::address::Way::Direct;
    let says = says.filter(|says| direct && *says != address.port)?;
    Some(format!(
        "The server that answers says its port is {says}; the address says {}. Something in between forwards the connection.",
        address.port
    ))
}

/// Trouble of the network in words.
pub(crate) fn unreachable(
    address: &Address,
    error: &std::io::Error,
    last_words: Option<String>,
) -> OpenError {
    use std::io::ErrorKind as K;
    let place = address.place();
    let said = Some(match last_words {
        Some(words) => format!("{error}; {words}"),
        None => error.to_string(),
    });
    let make = |trouble, headline: String, check: &str| OpenError {
        trouble,
        headline,
        checks: vec![check.to_string()],
        said: said.clone(),
    };
    if !address.way_words().is_empty() {
        return make(
            Trouble::Way,
            format!("{place} could not be reached {}.", address.way_words()),
            "Check that the other end of the way has the server under this host and port.",
        );
    }
    // That a name is not known has no kind of its own.
    let answered = matches!(
        error.kind(),
        K::ConnectionRefused | K::TimedOut | K::ConnectionReset | K::UnexpectedEof
    );
    if !answered
        && address.socket.is_none()
        && (address.host.as_str(), 1).to_socket_addrs().is_err()
    {
        return make(
            Trouble::NameNotFound,
            format!("The host {} is not known.", address.host),
            "Check how it is spelled, and whether its name service can be reached from here.",
        );
    }
    match error.kind() {
        K::ConnectionRefused => make(
            Trouble::Refused,
            format!("Nothing answers at {place}."),
            if address.is_local() {
                "Check that the server runs and listens on this port; F9 shows what was found on this machine."
            } else {
                "Check that the server runs, that it listens on this port for other machines, and the port itself."
            },
        ),
        K::NotFound => make(
            Trouble::Refused,
            format!("There is no socket {place}."),
            "Check that the server runs; its settings say where its socket is.",
        ),
        K::PermissionDenied => make(
            Trouble::Refused,
            format!("The socket {place} may not be used by you."),
            "Ask whoever runs the server, or use its port.",
        ),
        K::TimedOut | K::HostUnreachable | K::NetworkUnreachable => make(
            Trouble::NoRoute,
            format!("{place} does not answer."),
            "Check that this machine has a way there: a firewall, a private network, or --via a host that has one.",
        ),
        _ => make(
            Trouble::Other,
            format!("The connection with {place} ended before it began."),
            "Check that a server of this family listens there.",
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn integers_keep_every_digit() {
        for text in ["0", "-1", "9223372036854775807", "-9223372036854775808"] {
            assert_eq!(
                integer(text.as_bytes()).map(|n| n.to_string()).as_deref(),
                Some(text)
            );
        }
        // What has more to say than a number stays as it is.
        for text in ["00042", "18446744073709551615", "-0", "", "-", "1e3"] {
            assert_eq!(integer(text.as_bytes()), None, "{text}");
        }
    }

    #[test]
    fn a_version_that_is_not_tested_is_said() {
        let tested = ["10.5", "10.11", "11.8"];
        let word = |version: &str| untested(version, &tested).unwrap_or_default();
        for same in ["10.5.23", "10.11", "11.8.9"] {
            assert_eq!(word(same), "");
        }
        assert!(word("10.4.3").contains("is older"));
        assert!(word("10.6.1").contains("lies between"));
        assert!(word("12.0").contains("is newer"));
        assert!(untested("9", &["13", "15"]).is_some_and(|w| w.contains("13, 15")));
    }
}
