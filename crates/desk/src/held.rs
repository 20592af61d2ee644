//! A change that is held: it ran inside a transaction that only this session sees, its rows are shown as they were and
//! as they would be, and it is kept or taken back by a word of the user, or taken back by itself when its time is over.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use idle_tide_engines::{EngineError, Fault};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;

use crate::catalog::ReadCatalog;
use crate::changed_rows::Rows;
use crate::entry::{Content, Entry};
use crate::holding::{Held, Holding, capital};
use crate::page::{Page, Tone};
use crate::reversible::{SETTLING, keep, protected, run_all, take_back};
use crate::session::{Check, Next, Task, Turn};
use crate::task::{Bench, EntryId, Lane, Work};

/// How often the server is asked who waits for a held change.
const ASKED_EVERY: Duration = Duration::from_secs(3);
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
        turn.start(ReadCatalog::behind());
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
        None => entry.content = Content::Page(page),
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
        if let Some(question) = who_waits(turn.session.dialect) {
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
fn who_waits(dialect: &Dialect) -> Option<&'static str> {
    match dialect.family {
        Family::Postgres => Some(
            "select distinct coalesce(u.usename, 'somebody') from pg_catalog.pg_locks l left join pg_catalog.pg_stat_get_activity(null) a on a.pid = l.pid left join pg_catalog.pg_user u on u.usesysid = a.usesysid where not l.granted and pg_catalog.pg_backend_pid() = any(pg_catalog.pg_blocking_pids(l.pid))",
        ),
        Family::Mariadb if dialect.name == "MySQL" => Some(
            "select distinct r.processlist_user from performance_schema.data_lock_waits w join performance_schema.threads r on r.thread_id = w.requesting_thread_id join performance_schema.threads b on b.thread_id = w.blocking_thread_id where b.processlist_id = connection_id()",
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
        let mut found = Rows::default();
        protected(at.connection()?, |connection| {
            connection.run(ticket, self.question, &mut found)
        })?;
        let users = found.rows.iter().map(|row| row[0].as_ref().plain());
        self.found = users.collect();
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
