//! Two results compared: the task that does it, for `/compare` and behind a statement that runs once more.

use std::fmt::Write;
use std::sync::Arc;

use idle_tide_core::column_labels;
use idle_tide_core::compare::{
    By, Comparison, Pairing, SideBySide, compare, find_key, pair, side_by_side,
};
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_draw::picture::{counted, grouped};
use idle_tide_engines::EngineError;
use parking_lot::RwLock;

use crate::covering::Covering;
use crate::entry::{Content, Entry, State};
use crate::page::{Page, Tone};
use crate::session::{Next, Task, Turn};
use crate::sheet::{Sheet, read};
use crate::since::Since;
use crate::task::{Bench, EntryId, Lane, Work, stopped};

/// Memory that the rows which differ may use before they go to disk, in bytes.
const MEMORY: u64 = 64 * 1024 * 1024;
/// A result of more rows than this is compared with an earlier one of the same statement only when that is asked for.
const OF_ITSELF: u64 = 1_000_000;

/// A result that is compared.
#[derive(Clone)]
pub(crate) struct One {
    entry: EntryId,
    set: Arc<RwLock<ResultSet>>,
}

impl One {
    /// The result of an entry, once it is there.
    ///
    /// # Errors
    /// In words, where there is none.
    pub(crate) fn of(entry: &Entry) -> Result<Self, String> {
        let number = entry.number;
        match entry.sheet() {
            _ if entry.state == State::Running => {
                Err(format!("The rows of entry {number} are still arriving."))
            }
            Some(sheet) if sheet.given_up => Err(format!(
                "Entry {number} gave up its rows to keep within the disk budget. /again {number} runs it once more."
            )),
            Some(sheet) => Ok(One {
                entry: number,
                set: Arc::clone(&sheet.set),
            }),
            None => Err(format!("Entry {number} has no rows to compare.")),
        }
    }
}

/// Compares two results.
pub(crate) struct Compare {
    before: One,
    after: One,
    /// Names of the columns that tell rows apart; found where there are none.
    on: Vec<String>,
    /// How far apart numbers may be.
    within: f64,
    room: Arc<Budget>,
    covering: Covering,
    found: Option<(Pairing, By, Comparison)>,
    rows: Option<SideBySide>,
    /// The entry of a statement that ran once more; an entry of its own where there is none.
    behind: Option<EntryId>,
}

impl Compare {
    pub(crate) fn new(turn: &Turn<'_>, before: One, after: One) -> Self {
        Compare {
            before,
            after,
            on: Vec::new(),
            within: 0.0,
            room: Arc::clone(&turn.services.memory),
            covering: turn.services.covering.clone(),
            found: None,
            rows: None,
            behind: None,
        }
    }

    /// By these columns, with numbers as far apart as this.
    pub(crate) fn on(self, on: Vec<String>, within: f64) -> Self {
        Compare { on, within, ..self }
    }

    /// The comparison of the turn's own entry with the latest of the same statement in the same place, if there is one
    /// and neither is very large.
    pub(crate) fn with_earlier(turn: &Turn<'_>, set: &Arc<RwLock<ResultSet>>) -> Option<Self> {
        let own = turn.entries.get(turn.entry?)?;
        let before = earlier_of(turn.entries.all(), own)?;
        let before = One::of(before).ok()?;
        let small = |set: &RwLock<ResultSet>| read(set).len() <= OF_ITSELF;
        if own.continues.is_some() || !small(set) || !small(&before.set) {
            return None;
        }
        let after = One {
            entry: own.number,
            set: Arc::clone(set),
        };
        let behind = Some(own.number);
        Some(Compare {
            behind,
            ..Self::new(turn, before, after)
        })
    }
}

/// The latest entry before one that ran the same statement in the same place and has its rows.
pub(crate) fn earlier_of<'a>(all: &'a [Entry], own: &Entry) -> Option<&'a Entry> {
    let before = all.iter().rev().filter(|entry| entry.number < own.number);
    let mut same = before.filter(|entry| {
        entry.is_statement
            && entry.continues.is_none()
            && entry.state == State::Done
            && entry.text == own.text
            && entry.place == own.place
    });
    same.find(|entry| entry.sheet().is_some_and(|sheet| !sheet.given_up))
}

/// The columns of a key by their names.
fn named(
    pairing: &Pairing,
    on: &[String],
    before: &[String],
    after: &[String],
) -> Result<By, String> {
    let mut key = Vec::new();
    for name in on {
        let known = |label: &String| label.eq_ignore_ascii_case(name);
        let found = pairing.both.iter().position(|(_, new)| known(&after[*new]));
        key.push(found.ok_or_else(|| {
            let in_one = before.iter().chain(after).any(known);
            let both: Vec<&str> = pairing
                .both
                .iter()
                .map(|(_, new)| after[*new].as_str())
                .collect();
            match (in_one, both.is_empty()) {
                (true, _) => {
                    format!("Only one of the two has a column {name}; a key stands in both.")
                }
                (false, true) => "The two have no column in common.".to_string(),
                (false, false) => format!(
                    "There is no column {name} in them. Both have {}.",
                    both.join(", ")
                ),
            }
        })?);
    }
    Ok(By::Key(key))
}

impl Work for Compare {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let failed = |error: std::io::Error| match error.kind() {
            std::io::ErrorKind::Interrupted => stopped(),
            _ => EngineError::plain(error.to_string()),
        };
        let stop = || at.stopped();
        let (before, after) = (read(&self.before.set), read(&self.after.set));
        let pairing = pair(before.columns(), after.columns());
        let by = match self.on.is_empty() {
            true => find_key(&before, &after, &pairing, &stop).map_err(failed)?,
            false => {
                let labels = |set: &ResultSet| column_labels(set.columns());
                named(&pairing, &self.on, &labels(&before), &labels(&after))
                    .map_err(EngineError::plain)?
            }
        };
        let found = compare(&before, &after, &pairing, &by, self.within, &stop).map_err(failed)?;
        if self.behind.is_none() && !found.is_empty() {
            let called = (
                format!("in {}", self.before.entry),
                format!("in {}", self.after.entry),
            );
            let room = (Arc::clone(&self.room), MEMORY);
            let called = (called.0.as_str(), called.1.as_str());
            let rows = side_by_side(&before, &after, &pairing, &by, &found, called, room, &stop);
            self.rows = Some(rows.map_err(failed)?);
        }
        self.found = Some((pairing, by, found));
        Ok(())
    }
}

impl Task for Compare {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let done = how.map(|()| self.found.as_ref());
        let (pairing, by, found) = match done {
            Ok(Some(found)) => found,
            Ok(None) => return Next::Keep,
            // Behind a statement it is no more than a convenience.
            Err(_) if self.behind.is_some() => return Next::Keep,
            Err(error) if error.fault == idle_tide_engines::Fault::Cancelled => {
                return Next::NotRun;
            }
            Err(error) => return Next::refuse(error.message),
        };
        if let Some(number) = self.behind {
            if let Some(entry) = turn.entries.get_mut(number) {
                entry.since = Some(Since {
                    entry: self.before.entry,
                    added: found.added,
                    removed: found.removed,
                    changed: found.changed,
                });
            }
            return Next::Keep;
        }
        let page = self.page(pairing, by, found);
        let Some(rows) = self.rows else {
            return Next::Done(Content::Page(page));
        };
        if let Some(own) = turn.own() {
            own.above = Some(page);
        }
        let mut sheet = Sheet::new(Arc::new(RwLock::new(rows.result))).covered_by(self.covering);
        sheet.pairs = rows.pairs;
        Next::Done(Content::Rows(sheet))
    }
}

impl Compare {
    /// What was found, in words.
    fn page(&self, pairing: &Pairing, by: &By, found: &Comparison) -> Page {
        let (before, after) = (read(&self.before.set), read(&self.after.set));
        let (old, new) = (self.before.entry, self.after.entry);
        let labels = (
            column_labels(before.columns()),
            column_labels(after.columns()),
        );
        let mut page = Page::new();
        let headline = match found.is_empty() {
            true => format!(
                "Entries {old} and {new} hold the same: {}.",
                counted(found.same, "row")
            ),
            false => {
                let parts = [
                    (found.added, "added"),
                    (found.removed, "removed"),
                    (found.changed, "changed"),
                ];
                let some = parts.iter().filter(|(count, _)| *count > 0);
                let words: Vec<String> = some
                    .map(|(count, word)| format!("{} {word}", grouped(*count)))
                    .collect();
                format!(
                    "From entry {old} to entry {new}: {}. {} the same.",
                    words.join(", "),
                    match found.same {
                        1 => "1 row is".to_string(),
                        0 => "No row is".to_string(),
                        many => format!("{} rows are", grouped(many)),
                    }
                )
            }
        };
        page.say(Tone::Heading, headline);
        let mut how = match by {
            By::Key(key) => {
                let names = key.iter().map(|at| labels.1[pairing.both[*at].1].as_str());
                format!("Rows are told apart by {}.", names.collect::<Vec<_>>().join(", "))
            }
            By::Place if pairing.both.is_empty() => {
                "They have no column in common; only their numbers of rows are compared.".to_string()
            }
            By::Place => "No column tells their rows apart, so they are compared by their places. --on NAME says what does.".to_string(),
        };
        if self.within > 0.0 {
            let _ = write!(
                how,
                " Numbers up to {} apart count as the same.",
                self.within
            );
        }
        page.say(Tone::Faint, how);
        if found.repeated > 0 {
            let key = counted(found.repeated, "row");
            let words = format!(
                "{key} had a key that stood before: of one key the first was compared with the first, the second with the second."
            );
            page.say(Tone::Care, words);
        }
        for (list, labels, entry) in [
            (&pairing.only_before, &labels.0, old),
            (&pairing.only_after, &labels.1, new),
        ] {
            let names: Vec<&str> = list.iter().map(|at| labels[*at].as_str()).collect();
            if !names.is_empty() {
                let words = format!(
                    "Only entry {entry} has {}; it is not compared.",
                    names.join(", ")
                );
                page.say(Tone::Care, words);
            }
        }
        for (at, kinds) in found.kinds.iter().enumerate() {
            if let Some((was, is)) = kinds {
                let name = &labels.1[pairing.both[at].1];
                let words = format!(
                    "{name}: {was} in {old}, {is} in {new}; what reads the same counts as the same."
                );
                page.say(Tone::Care, words);
            }
        }
        page
    }
}
