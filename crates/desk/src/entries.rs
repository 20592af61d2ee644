//! The entries of all sessions in their order, the one that is shown, and the disk that their results share.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use idle_tide_core::limits::Limit;
use idle_tide_core::result::ResultSet;
use parking_lot::RwLock;

use crate::entry::{Content, Entry, State};
use crate::sheet::{Sheet, read};
use crate::task::{EntryId, SessionId};

/// The entries.
#[derive(Debug, Default)]
pub struct Entries {
    list: Vec<Entry>,
    /// Where the one that is shown stands.
    pub(crate) current: usize,
}

impl Entries {
    /// All, oldest first.
    pub fn all(&self) -> &[Entry] {
        &self.list
    }

    /// The one that is shown.
    pub fn shown(&self) -> Option<&Entry> {
        self.list.get(self.current)
    }

    /// The one that is shown, to change it.
    pub(crate) fn shown_mut(&mut self) -> Option<&mut Entry> {
        self.list.get_mut(self.current)
    }

    /// Where an entry stands.
    pub(crate) fn place_of(&self, number: EntryId) -> Option<usize> {
        // They are numbered in their order.
        self.list
            .binary_search_by_key(&number, |entry| entry.number)
            .ok()
    }

    /// An entry by its number.
    pub fn get(&self, number: EntryId) -> Option<&Entry> {
        self.list.get(self.place_of(number)?)
    }

    /// The same, to change it.
    pub(crate) fn get_mut(&mut self, number: EntryId) -> Option<&mut Entry> {
        let at = self.place_of(number)?;
        self.list.get_mut(at)
    }

    /// Adds an entry, which gets the next number; shows it if asked to.
    pub(crate) fn add(&mut self, entry: Entry, show: bool) -> EntryId {
        let number = self.list.last().map_or(1, |last| last.number + 1);
        self.list.push(Entry { number, ..entry });
        if show {
            self.current = self.list.len() - 1;
        }
        number
    }

    /// Lets go of what is long over and has no rows, when there are twice as many entries as are to be kept: a file of
    /// statements may have millions.
    pub(crate) fn let_go(&mut self, keep: usize) {
        if self.list.len() < 2 * keep {
            return;
        }
        let shown = self.shown().map(|entry| entry.number);
        let last = self.list.len() - keep;
        let mut at = 0;
        self.list.retain(|entry| {
            at += 1;
            at > last || entry.sheet().is_some() || Some(entry.number) == shown
        });
        let place = shown.and_then(|number| self.place_of(number));
        self.current = place.unwrap_or_default();
    }

    /// Ends an entry.
    pub(crate) fn end(&mut self, number: EntryId, state: State, content: Content) {
        if let Some(entry) = self.get_mut(number) {
            entry.state = state;
            entry.content = content;
            entry.complete.store(true, Ordering::Release);
        }
    }

    /// The latest entry of a session.
    pub(crate) fn latest_of(&self, session: SessionId) -> Option<EntryId> {
        let found = self
            .list
            .iter()
            .rev()
            .find(|entry| entry.session == session);
        found.map(|entry| entry.number)
    }

    /// The entry that takes what comes of a statement now: its own, or that of its latest further result.
    pub(crate) fn taking(&self, statement: EntryId) -> EntryId {
        // Further results come behind the statement, which is one of the last.
        let behind = self.place_of(statement).map_or(0, |at| at + 1);
        let further = |entry: &&Entry| entry.continues == Some(statement);
        let latest = self.list[behind..].iter().rev().find(further);
        latest.map_or(statement, |entry| entry.number)
    }

    /// Keeps results within the disk that they share: the oldest that is neither shown nor arriving gives up its
    /// rows. False if there is none, and too much is used. `grown` is the one whose rows arrive.
    pub(crate) fn keep_within_disk(&mut self, grown: EntryId) -> bool {
        let disk = |entry: &Entry| entry.sheet().map_or(0, |sheet| read(&sheet.set).on_disk());
        if self.get(grown).is_none_or(|entry| disk(entry) == 0) {
            return true;
        }
        if self.list.iter().map(disk).sum::<u64>() <= Limit::ResultsDisk.value() {
            return true;
        }
        let current = self.current;
        let oldest = self.list.iter().enumerate().position(|(at, entry)| {
            at != current && entry.state != State::Running && disk(entry) > 0
        });
        let Some(sheet) = oldest.and_then(|at| self.list[at].sheet_mut()) else {
            return false;
        };
        let columns = read(&sheet.set).columns().to_vec();
        sheet.set = Arc::new(RwLock::new(ResultSet::of_rows(columns, Vec::new())));
        sheet.view.rows = None;
        sheet.given_up = true;
        true
    }
}

/// Rows that are finished as they are made.
pub(crate) fn rows(set: ResultSet) -> Content {
    Content::Rows(Sheet::new(Arc::new(RwLock::new(set))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_long_over_goes_and_numbers_stay() {
        let mut entries = Entries::default();
        let place = ("a".to_string(), "b".to_string());
        for n in 0..20 {
            entries.add(
                Entry::new(1, place.clone(), &n.to_string(), "row", true),
                n == 3,
            );
            entries.let_go(5);
        }
        assert_eq!(entries.shown().map(|entry| entry.number), Some(4));
        assert_eq!(entries.get(20).map(|entry| entry.text.as_str()), Some("19"));
        assert!(entries.get(2).is_none() && entries.all().len() < 12);
    }
}
