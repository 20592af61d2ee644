//! A change that is held: it ran inside a transaction that only this session sees, its rows are shown as they were and
//! as they would be, and it is kept or taken back by a word of the user, or taken back by itself when its time is over.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use idle_tide_core::RowBatch;
use idle_tide_engines::{Connection, EngineError, Fault, Sink};
use idle_tide_lang::dialect::Family;

use crate::entry::Entry;
use crate::page::{Page, Tone};
use crate::session::{Check, Next, Task, Turn};
use crate::task::{Bench, EntryId, Lane, Work};

/// How long a change is held before it is taken back by itself, unless the settings say otherwise.
pub(crate) const HOLD: Duration = Duration::from_secs(10 * 60);
/// How often the server is asked who waits for a held change.
const ASKED_EVERY: Duration = Duration::from_secs(3);
/// A ticket that no task has, so that nobody cancels it: what takes a change back is not stopped halfway.
const SETTLING: u64 = u64::MAX / 2;

/// A change that is held in a session.
#[derive(Debug, Clone)]
pub struct Held {
    /// The entry that shows it.
    pub entry: EntryId,
    /// What it did, in words: `12 rows of berths changed`.
    pub what: String,
    /// The table that it changed.
    pub table: String,
    /// Since when.
    pub since: Instant,
    /// After which time it is taken back by itself.
    pub limit: Duration,
    /// Who waits for it, where the server tells.
    pub waits: Vec<String>,
    /// Whether it stands in a transaction that the user began.
    pub(crate) within: bool,
    /// Whether it is being kept or taken back.
    pub(crate) settling: bool,
    /// Set when nobody has to look after it any more.
    over: Arc<AtomicBool>,
}

impl Held {
    pub(crate) fn new(
        entry: EntryId,
        what: String,
        table: &str,
        within: bool,
        limit: Duration,
    ) -> Self {
        Held {
            entry,
            what,
            table: table.to_string(),
            since: Instant::now(),
            limit,
            waits: Vec::new(),
            within,
            settling: false,
            over: Arc::default(),
        }
    }

    /// How long until it is taken back by itself.
    pub fn left(&self) -> Duration {
        self.limit.saturating_sub(self.since.elapsed())
    }
}

/// How an entry's change stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holding {
    /// It is held.
    Held,
    /// It was kept.
    Kept,
    /// It was taken back.
    TakenBack,
    /// Whether it was kept is not known.
    Unknown,
}

impl Holding {
    /// Its words, with their tone.
    pub fn words(self) -> (&'static str, Tone) {
        match self {
            Holding::Held => ("held", Tone::Care),
            Holding::Kept => ("kept", Tone::Faint),
            Holding::TakenBack => ("taken back", Tone::Faint),
            Holding::Unknown => ("not known", Tone::Danger),
        }
    }
}

/// Runs statements of our own that give nothing, one after the other.
///
/// # Errors
/// That of the first that is refused.
pub(crate) fn run_all(
    connection: &mut dyn Connection,
    ticket: u64,
    statements: &[&str],
) -> Result<Vec<String>, EngineError> {
    let mut notes = Vec::new();
    for statement in statements {
        notes.extend(connection.run(ticket, statement, &mut Nothing)?.notes);
    }
    Ok(notes)
}

/// The statement that begins what can be taken back.
pub(crate) fn beginning(family: Family, within: bool) -> &'static str {
    match (within, family) {
        (true, _) => "savepoint idle_tide_held",
        // A later write could not wait for the lock of somebody else.
        (false, Family::Sqlite) => "begin immediate",
        (false, _) => "begin",
    }
}

/// Begins what can be taken back.
pub(crate) fn begin(
    connection: &mut dyn Connection,
    ticket: u64,
    within: bool,
) -> Result<(), EngineError> {
    let statement = beginning(connection.dialect().family, within);
    run_all(connection, ticket, &[statement]).map(drop)
}

/// Takes back what was done since [`begin`]; nothing stops it halfway.
pub(crate) fn take_back(
    connection: &mut dyn Connection,
    within: bool,
) -> Result<Vec<String>, EngineError> {
    let statements: &[&str] = match within {
        true => &[
            "rollback to savepoint idle_tide_held",
            "release savepoint idle_tide_held",
        ],
        false => &["rollback"],
    };
    run_all(connection, SETTLING, statements)
}

/// Keeps what was done since [`begin`].
pub(crate) fn keep(
    connection: &mut dyn Connection,
    within: bool,
) -> Result<Vec<String>, EngineError> {
    let statement = match within {
        true => "release savepoint idle_tide_held",
        false => "commit",
    };
    run_all(connection, SETTLING, &[statement])
}

/// Does work in a held change, so that a refusal does not take the change with it.
pub(crate) fn protected<T>(
    connection: &mut dyn Connection,
    work: impl FnOnce(&mut dyn Connection) -> Result<T, EngineError>,
) -> Result<T, EngineError> {
    if connection.dialect().family != Family::Postgres {
        return work(connection);
    }
    run_all(connection, SETTLING, &["savepoint idle_tide_reading"])?;
    let done = work(connection);
    let lost = |error: &EngineError| matches!(error.fault, Fault::Lost | Fault::NotSent);
    match &done {
        Err(error) if lost(error) => {}
        Err(_) => {
            let back = ["rollback to savepoint idle_tide_reading"];
            run_all(connection, SETTLING, &back)?;
        }
        Ok(_) => drop(run_all(
            connection,
            SETTLING,
            &["release savepoint idle_tide_reading"],
        )?),
    }
    done
}

/// Takes nothing.
pub(crate) struct Nothing;

impl Sink for Nothing {
    fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: RowBatch) -> std::io::Result<()> {
        Ok(())
    }
}

/// Keeps a held change, or takes it back.
pub(crate) struct Settle {
    keep: bool,
    within: bool,
    /// Its time is over.
    by_itself: bool,
    notes: Vec<String>,
}

impl Settle {
    /// Begins to settle what is held in a session; `None` if nothing is, or it is being settled.
    pub(crate) fn begin(turn: &mut Turn<'_>, keep: bool, by_itself: bool) -> Option<Self> {
        let held = turn.session.held.as_mut().filter(|held| !held.settling)?;
        held.settling = true;
        let within = held.within;
        if keep {
            turn.services
                .held_is(&turn.session.source, Some((&held.what, true)));
        }
        Some(Settle {
            keep,
            within,
            by_itself,
            notes: Vec::new(),
        })
    }
}

impl Work for Settle {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let connection = at.connection()?;
        let ended = match self.keep {
            true => keep(connection, self.within),
            false => take_back(connection, self.within),
        };
        if ended.is_err() {
            // Whether the transaction is open still is known for sure after one more answer.
            let _ = run_all(connection, SETTLING, &["select 1"]);
        }
        self.notes = ended?;
        Ok(())
    }
}

impl Task for Settle {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let lost = |error: &EngineError| matches!(error.fault, Fault::Lost | Fault::NotSent);
        let open = turn.session.bearings.transaction.is_some() && !turn.session.lost;
        match how {
            Ok(()) if self.keep => {
                let words = match self.within {
                    true => "Kept, as far as the transaction it stands in is: commit; keeps that.",
                    false => "Kept: everybody sees it now.",
                };
                let notes = self.notes.join(" ");
                settled(
                    turn,
                    Holding::Kept,
                    &format!("{words} {notes}"),
                    Tone::Active,
                );
            }
            Ok(()) => {
                let words = match self.by_itself {
                    true => {
                        "Its time was over, and nobody kept it: it was taken back. Everything is as it was before."
                    }
                    false => "Taken back: everything is as it was before.",
                };
                // What a server could not take back it says.
                let tone = if self.notes.is_empty() {
                    Tone::Active
                } else {
                    Tone::Danger
                };
                let words = format!("{words} {}", self.notes.join(" "));
                settled(turn, Holding::TakenBack, &words, tone);
            }
            Err(error) if lost(&error) => {
                let in_doubt = self.keep && !self.within && error.fault == Fault::Lost;
                turn.session.lost = true;
                turn.session.bearings.transaction = None;
                match in_doubt {
                    true => settled(
                        turn,
                        Holding::Unknown,
                        "The connection was lost while it was being kept: whether it was is not known. Look at the rows before you do it again.",
                        Tone::Danger,
                    ),
                    false => gone(turn),
                }
            }
            // A lock, or a condition that has to hold at the end: it can be tried again.
            Err(error) if open => {
                if let Some(held) = &mut turn.session.held {
                    held.settling = false;
                }
                let words = format!("It is held still: {}", error.message);
                turn.say(words, Tone::Danger);
            }
            Err(error) => {
                let words = format!(
                    "It was not kept, and the server took it back: {}",
                    error.message
                );
                settled(turn, Holding::TakenBack, &words, Tone::Danger);
            }
        }
        Next::Keep
    }
}

/// The server took the change back with the connection or the transaction.
pub(crate) fn gone(turn: &mut Turn<'_>) {
    let words = match turn.session.lost {
        true => {
            "The connection was lost while the change was held: the server takes it back, and nothing of it is kept."
        }
        false => {
            "The server ended the transaction in which the change was held: it is taken back, and nothing of it is kept."
        }
    };
    settled(turn, Holding::TakenBack, words, Tone::Danger);
}

/// It is not held any more.
fn settled(turn: &mut Turn<'_>, holding: Holding, words: &str, tone: Tone) {
    let Some(held) = turn.session.held.take() else {
        return;
    };
    held.over.store(true, Ordering::Relaxed);
    turn.services.held_is(&turn.session.source, None);
    turn.session.figures.clear();
    if holding == Holding::Kept {
        turn.session.check = Some(Check {
            entry: held.entry,
            name: held.table.clone(),
            made: false,
        });
    }
    if !turn.session.lost {
        turn.start(crate::catalog::ReadCatalog::behind());
    }
    let words = words.trim();
    if let Some(entry) = turn.entries.get_mut(held.entry) {
        entry.holding = Some(holding);
        let mut page = Page::of_sentences();
        let what = capital(&held.what);
        let heading = match holding {
            Holding::Kept => Tone::Heading,
            _ => Tone::Care,
        };
        page.say(heading, format!("{what}. {words}"));
        show_above(entry, page);
    }
    turn.say(words, tone);
}

/// Puts a page above the rows of an entry; it is the content where there are no rows.
pub(crate) fn show_above(entry: &mut Entry, page: Page) {
    match entry.sheet() {
        Some(_) => entry.above = Some(page),
        None => entry.content = crate::entry::Content::Page(page),
    }
}

/// A held change in a file: what it is, and whether it is being kept.
pub(crate) fn in_mind(what: &str, keeps: bool) -> String {
    match keeps {
        true => format!("{KEEPS}{what}"),
        false => what.to_string(),
    }
}

/// What stands in front of a change that is being kept.
const KEEPS: &str = "keeps: ";

/// What is said of a change that a program held which is gone, from [`in_mind`].
pub(crate) fn left_behind(kept_in_mind: &str) -> String {
    match kept_in_mind.strip_prefix(KEEPS) {
        Some(what) => format!(
            "{}: the program ended while this was being kept, and whether it was is not known. Look at the rows.",
            capital(what)
        ),
        None => format!(
            "{}: this was held when the program ended, so it was taken back. Nothing of it was kept.",
            capital(kept_in_mind)
        ),
    }
}

fn capital(words: &str) -> String {
    let mut letters = words.chars();
    match letters.next() {
        Some(first) => first.to_uppercase().chain(letters).collect(),
        None => String::new(),
    }
}

/// Looks after a held change: asks now and then who waits for it, and has it taken back when its time is over.
pub(crate) struct Watch {
    entry: EntryId,
    until: Instant,
    over: Arc<AtomicBool>,
}

impl Watch {
    pub(crate) fn over(held: &Held) -> Self {
        Watch {
            entry: held.entry,
            until: held.since + held.limit,
            over: Arc::clone(&held.over),
        }
    }
}

impl Work for Watch {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let wakes = self.until.min(Instant::now() + ASKED_EVERY);
        while Instant::now() < wakes && !self.over.load(Ordering::Relaxed) && !at.stopped() {
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }
}

impl Task for Watch {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, _: Result<(), EngineError>) -> Next {
        let held = turn.session.held.as_ref();
        if held.is_none_or(|held| held.entry != self.entry) {
            return Next::Keep;
        }
        if Instant::now() >= self.until {
            if let Some(settle) = Settle::begin(turn, false, true) {
                turn.start(settle);
            }
            return Next::Keep;
        }
        if let Some(question) = who_waits(turn.session.dialect.family) {
            turn.start(WhoWaits {
                entry: self.entry,
                question,
                found: Vec::new(),
            });
        }
        Next::Go(Box::new(Watch {
            entry: self.entry,
            until: self.until,
            over: Arc::clone(&self.over),
        }))
    }
}

/// The question that answers who waits for what this session holds; `None` where nobody tells.
fn who_waits(family: Family) -> Option<&'static str> {
    match family {
        Family::Postgres => Some(
            "select distinct coalesce(u.usename, 'somebody') from pg_catalog.pg_locks l left join pg_catalog.pg_stat_get_activity(null) a on a.pid = l.pid left join pg_catalog.pg_user u on u.usesysid = a.usesysid where not l.granted and pg_catalog.pg_backend_pid() = any(pg_catalog.pg_blocking_pids(l.pid))",
        ),
        Family::Mariadb => Some(
            "select distinct p.user from information_schema.innodb_lock_waits w join information_schema.innodb_trx r on r.trx_id = w.requesting_trx_id join information_schema.innodb_trx b on b.trx_id = w.blocking_trx_id join information_schema.processlist p on p.id = r.trx_mysql_thread_id where b.trx_mysql_thread_id = connection_id()",
        ),
        _ => None,
    }
}

/// Asks who waits.
struct WhoWaits {
    entry: EntryId,
    question: &'static str,
    found: Vec<String>,
}

impl Work for WhoWaits {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let ticket = at.ticket;
        let mut found = Words(Vec::new());
        protected(at.connection()?, |connection| {
            connection.run(ticket, self.question, &mut found)
        })?;
        self.found = found.0;
        Ok(())
    }
}

impl Task for WhoWaits {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, _: Result<(), EngineError>) -> Next {
        // Where it may not be asked, nobody is known to wait.
        if let Some(held) = turn.session.held.as_mut()
            && held.entry == self.entry
        {
            held.waits = self.found;
        }
        Next::Keep
    }
}

struct Words(Vec<String>);

impl Sink for Words {
    fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> std::io::Result<()> {
        let words = batch.rows().map(|row| row.get(0).plain());
        self.0.extend(words);
        Ok(())
    }
}
