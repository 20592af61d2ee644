//! The two tasks that take turns where a result is live: a wait in a thread of its own and a reading on the connection of its
//! session. A reading never overlaps another, and what is typed comes first: it waits while something runs in its session.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use idle_tide_core::Figures;
use idle_tide_core::compare::{By, Difference, compare, find_key, pair};
use idle_tide_core::order::each_row;
use idle_tide_core::result::ResultSet;
use idle_tide_engines::{EngineError, Fault};
use parking_lot::RwLock;

use crate::entry::{Content, Entry, State};
use crate::face::Request;
use crate::filter::Filter;
use crate::live::{Asked, Live, Mark, Standing};
use crate::page::Tone;
use crate::session::{Next, Task, Turn};
use crate::sheet::{Sheet, arranged, now, read};
use crate::since::Since;
use crate::task::{Bench, EntryId, Lane, Work, fault};
use crate::verbs::statement::{Run, with_variables};

/// Results of more rows than this are replaced without marks.
const MARKED: u64 = 200_000;
/// Values of a trend that are kept.
const TREND: usize = 60;
/// How often a wait looks whether it is to end, at most.
const LOOK: Duration = Duration::from_millis(50);
/// Rows that are gone and named.
const NAMED: usize = 3;

/// Makes an entry that has rows live from now on. Its statement is one that only reads.
pub(crate) fn begin(turn: &mut Turn<'_>, number: EntryId, asked: Asked) {
    let Some(entry) = turn.entries.get_mut(number) else {
        return;
    };
    if let Some(before) = &mut entry.live {
        before.end("it began anew");
    }
    let mut live = Live {
        every: asked.every,
        standing: Standing::Waits,
        readings: 1,
        changed: None,
        marks: HashMap::new(),
        gone: Vec::new(),
        alerted: false,
        trend: None,
        stop: Arc::default(),
        asked,
    };
    if let Content::Rows(sheet) = &entry.content {
        let set = read(&sheet.set);
        live.trend = trend_of(&set, live.asked.trend.as_deref()).map(|name| (name, Vec::new()));
        follow(&mut live.trend, &set);
    }
    let wait = Wait::new(number, &live);
    entry.live = Some(live);
    turn.start(wait);
}

/// The column to follow: the one asked for, or the first that holds numbers where there is one row.
fn trend_of(set: &ResultSet, asked: Option<&str>) -> Option<String> {
    if let Some(name) = asked {
        return Some(name.to_string());
    }
    let columns = set.columns().iter().enumerate();
    let number = |at: usize| {
        set.value(0, at)
            .is_ok_and(|value| value.as_ref().as_number().is_some())
    };
    let mut numbers = columns.filter(|(at, _)| set.len() == 1 && number(*at));
    numbers.next().map(|(_, column)| column.name.clone())
}

/// Adds the sum of the column that is followed.
fn follow(trend: &mut Option<(String, Vec<f64>)>, set: &ResultSet) {
    let Some((name, values)) = trend else {
        return;
    };
    let mut columns = set.columns().iter();
    let Some(at) = columns.position(|column| column.name.eq_ignore_ascii_case(name)) else {
        return;
    };
    let mut figures = Figures::default();
    let read = each_row(set, None, &|| false, &mut |_, row| {
        figures.add(row.get(at));
        true
    });
    let sum = figures.sum().and_then(|sum| sum.as_ref().as_number());
    if let (Ok(()), Some(sum)) = (read, sum) {
        values.push(sum);
        if values.len() > TREND {
            values.remove(0);
        }
    }
}

/// Waits until the next reading is due.
struct Wait {
    entry: EntryId,
    due: Instant,
    stop: Arc<AtomicBool>,
}

impl Wait {
    fn new(entry: EntryId, live: &Live) -> Self {
        Wait {
            entry,
            due: Instant::now() + live.every,
            stop: Arc::clone(&live.stop),
        }
    }

    fn shortly(self) -> Next {
        Next::Go(Box::new(Wait {
            due: Instant::now() + LOOK * 4,
            ..self
        }))
    }
}

impl Work for Wait {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        while !at.stopped() && !self.stop.load(Ordering::Relaxed) {
            let left = self.due.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            std::thread::sleep(left.min(LOOK));
        }
        Ok(())
    }
}

impl Task for Wait {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, _: Result<(), EngineError>) -> Next {
        if self.stop.load(Ordering::Relaxed) {
            return Next::Keep;
        }
        let session = &turn.session;
        let (lost, busy) = (session.lost, session.is_busy());
        let open = session.bearings.transaction.is_some();
        let Some(entry) = turn.entries.get_mut(self.entry) else {
            return Next::Keep;
        };
        let Some(live) = &mut entry.live else {
            return Next::Keep;
        };
        if lost {
            live.end("the connection was lost");
            return Next::Keep;
        }
        if open && !live.asked.in_transaction {
            live.standing = Standing::Pauses("a transaction is open");
            return self.shortly();
        }
        if busy {
            live.standing = Standing::Pauses("something else runs");
            return self.shortly();
        }
        live.standing = Standing::Waits;
        let Some(sheet) = entry.sheet().cloned() else {
            return Next::Keep;
        };
        let text = entry.text.clone();
        let Some(live) = &entry.live else {
            return Next::Keep;
        };
        let (asked, stop) = (live.asked.clone(), Arc::clone(&live.stop));
        let text = match with_variables(turn, text) {
            Ok(text) => text,
            Err(failure) => {
                let live = turn
                    .entries
                    .get_mut(self.entry)
                    .and_then(|entry| entry.live.as_mut());
                if let Some(live) = live {
                    live.end(failure.headline);
                }
                return Next::Keep;
            }
        };
        let reading = Reading {
            entry: self.entry,
            run: Run::reading(text),
            asked,
            stop,
            sheet,
            set: Arc::new(RwLock::new(ResultSet::of_rows(Vec::new(), Vec::new()))),
            began: Instant::now(),
            took: Duration::ZERO,
            found: None,
        };
        Next::Go(Box::new(reading))
    }
}

/// What a reading found.
#[derive(Default)]
struct Found {
    /// How the rows differ; nothing if they do not.
    since: Option<Since>,
    marks: HashMap<u32, Mark>,
    gone: Vec<String>,
    /// The rows as they are shown, by the order and the filter of the view.
    rows: Option<Vec<u32>>,
    until: bool,
    alert: bool,
}

/// Reads the rows again.
struct Reading {
    entry: EntryId,
    run: Run,
    asked: Asked,
    stop: Arc<AtomicBool>,
    /// What is shown now.
    sheet: Sheet,
    /// What is read.
    set: Arc<RwLock<ResultSet>>,
    began: Instant,
    took: Duration,
    found: Option<Found>,
}

impl Reading {
    /// What differs from what is shown.
    fn look(&self, stopped: &dyn Fn() -> bool) -> Result<Found, EngineError> {
        let failed = |error: std::io::Error| EngineError::plain(error.to_string());
        let (old, new) = (read(&self.sheet.set), read(&self.set));
        let view = &self.sheet.view;
        let mut found = Found {
            until: satisfied(&new, self.asked.until.as_deref())?,
            alert: satisfied(&new, self.asked.alert.as_deref())?,
            ..Found::default()
        };
        let counted = |added, removed, changed| Since {
            entry: self.entry,
            added,
            removed,
            changed,
        };
        if old.len().max(new.len()) > MARKED {
            let (a, b) = (old.len(), new.len());
            found.since = Some(counted(b.saturating_sub(a), a.saturating_sub(b), 0));
        } else {
            let pairing = pair(old.columns(), new.columns());
            let by = find_key(&old, &new, &pairing, stopped).map_err(failed)?;
            let all = compare(&old, &new, &pairing, &by, 0.0, stopped).map_err(failed)?;
            let same_columns = pairing.only_before.is_empty() && pairing.only_after.is_empty();
            if !all.is_empty() || !same_columns {
                found.since = Some(counted(all.added, all.removed, all.changed));
            }
            for row in &all.rows {
                match *row {
                    Difference::Added(row) => {
                        found.marks.insert(row, Mark::New);
                    }
                    Difference::Changed(was, is) => {
                        let (a, b) = (
                            old.locate(was.into()).map_err(failed)?,
                            new.locate(is.into()).map_err(failed)?,
                        );
                        let (a, b) = (a.0.row(a.1), b.0.row(b.1));
                        let differs = |(old, new): &&(usize, usize)| {
                            !idle_tide_core::compare::same(a.get(*old), b.get(*new), 0.0)
                        };
                        let columns = pairing.both.iter().filter(differs).map(|both| both.1);
                        found.marks.insert(is, Mark::Changed(columns.collect()));
                    }
                    Difference::Removed(row) if found.gone.len() < NAMED => {
                        if let By::Key(key) = &by {
                            let (batch, at) = old.locate(row.into()).map_err(failed)?;
                            let row = batch.row(at);
                            let covers = |column: usize| self.sheet.covers(column, row.get(column));
                            let parts = key.iter().map(|at| pairing.both[*at].0);
                            let parts = parts.map(|column| match covers(column) {
                                true => crate::covering::WORD.to_string(),
                                false => row.get(column).plain().chars().take(20).collect(),
                            });
                            found.gone.push(parts.collect::<Vec<String>>().join(" "));
                        }
                    }
                    Difference::Removed(_) => {}
                }
            }
        }
        if found.since.is_some() {
            let order = view
                .order
                .filter(|(column, _)| *column < new.columns().len());
            let rows = arranged(&new, order, view.filter.as_deref(), stopped);
            found.rows = rows.map_err(EngineError::plain)?;
        }
        Ok(found)
    }
}

/// Whether a row satisfies a condition.
fn satisfied(set: &ResultSet, condition: Option<&str>) -> Result<bool, EngineError> {
    let Some(condition) = condition else {
        return Ok(false);
    };
    let failed = |words: String| EngineError::plain(format!("{condition}: {words}"));
    let filter = Filter::new(condition, set.columns(), now()).map_err(|e| failed(e.message))?;
    let mut holds = Ok(false);
    let read = each_row(set, None, &|| false, &mut |_, row| {
        holds = filter.holds(row).map_err(|error| failed(error.message));
        matches!(holds, Ok(false))
    });
    read.map_err(|error| failed(error.to_string()))?;
    holds
}

impl Work for Reading {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        if self.stop.load(Ordering::Relaxed) {
            return Err(fault(Fault::Cancelled, "it was stopped"));
        }
        let began = Instant::now();
        self.run.work(at)?;
        self.took = began.elapsed();
        let stopped = || at.stopped();
        self.found = Some(self.look(&stopped)?);
        Ok(())
    }
}

impl Task for Reading {
    fn begin(&mut self, turn: &mut Turn<'_>) {
        self.run.begin(turn);
        if let Some(set) = self.run.result() {
            self.set = set;
        }
    }

    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let number = self.entry;
        if self.stop.load(Ordering::Relaxed) {
            return Next::Keep;
        }
        if let Err(error) = &how
            && matches!(error.fault, Fault::Lost | Fault::NotSent)
        {
            turn.session.lost = true;
        }
        let Some(entry) = turn.entries.get_mut(number) else {
            return Next::Keep;
        };
        let (Some(live), Content::Rows(sheet)) = (&mut entry.live, &mut entry.content) else {
            return Next::Keep;
        };
        let found = match how {
            Ok(()) => self.found.unwrap_or_default(),
            Err(error) if error.fault == Fault::Cancelled => {
                live.end("it was stopped");
                return Next::Keep;
            }
            Err(error) => {
                live.end("it was refused");
                let words = format!("Entry {number} is no longer live: {}", error.message);
                turn.say(words, Tone::Danger);
                return Next::Keep;
            }
        };
        live.readings += 1;
        // A slow server is asked no more than a third of the time.
        live.every = live.asked.every.max(self.took * 3);
        if let Some(since) = found.since {
            let mut fresh = Sheet::new(Arc::clone(&self.set)).covered_by(sheet.covering.clone());
            fresh.revealed = sheet.revealed;
            if fresh.labels == sheet.labels {
                fresh.view = sheet.view.clone();
            }
            fresh.view.rows = found.rows.map(Arc::new);
            *sheet = fresh;
            live.marks = found.marks;
            live.gone = found.gone;
            live.changed = Some((Instant::now(), since));
        }
        follow(&mut live.trend, &read(&sheet.set));
        entry.took = Some(self.took);
        entry.started = Some(self.began);
        let rings = found.alert && !live.alerted;
        live.alerted = found.alert;
        let until = found
            .until
            .then(|| live.asked.until.clone().unwrap_or_default());
        if let Some(until) = &until {
            live.end(format!("{until} holds"));
        }
        let alert = live.asked.alert.clone().unwrap_or_default();
        let next = until.is_none().then(|| Wait::new(number, live));
        if rings {
            turn.say(format!("Entry {number}: {alert} holds."), Tone::Danger);
        }
        if let Some(until) = &until {
            turn.say(
                format!("Entry {number}: {until} holds; it is no longer live."),
                Tone::Active,
            );
        }
        if rings || until.is_some() {
            turn.request(Request::Bell);
        }
        match next {
            Some(wait) => Next::Go(Box::new(wait)),
            None => Next::Keep,
        }
    }
}

/// Ends what is live on an entry; whether something was.
pub(crate) fn stop(entry: &mut Entry) -> bool {
    match &mut entry.live {
        Some(live) if live.goes_on() => {
            live.end("it was stopped");
            true
        }
        _ => false,
    }
}

/// Whether an entry can be live, and why not, in words.
pub(crate) fn refusal(entry: &Entry) -> Option<String> {
    let number = entry.number;
    match entry.state {
        State::Running => Some(format!("The rows of entry {number} are still arriving.")),
        _ if !entry.is_statement || entry.continues.is_some() => Some(format!(
            "Entry {number} is no statement of its own; only a statement that reads can be live."
        )),
        State::Done if entry.sheet().is_some() => None,
        _ => Some(format!(
            "Entry {number} has no rows that could be read again."
        )),
    }
}
