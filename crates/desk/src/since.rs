//! How a result differs from an earlier one, in numbers.

use idle_tide_draw::picture::grouped;

use crate::task::EntryId;

/// How a result differs from an earlier one of the same statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Since {
    /// The entry of the earlier one.
    pub entry: EntryId,
    /// Rows that are new.
    pub added: u64,
    /// Rows that are gone.
    pub removed: u64,
    /// Rows that differ.
    pub changed: u64,
}

impl Since {
    /// In a few words: `+2 −1 ~4 since entry 7`.
    pub fn words(&self) -> String {
        let numbers = self.numbers();
        match numbers.is_empty() {
            true => format!("same as entry {}", self.entry),
            false => format!("{numbers} since entry {}", self.entry),
        }
    }

    /// The numbers alone: `+2 −1 ~4`; nothing where nothing differs.
    pub fn numbers(&self) -> String {
        let parts = [("+", self.added), ("−", self.removed), ("~", self.changed)];
        let some = parts.iter().filter(|(_, count)| *count > 0);
        let words: Vec<String> = some
            .map(|(sign, count)| format!("{sign}{}", grouped(*count)))
            .collect();
        words.join(" ")
    }
}
