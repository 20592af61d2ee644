//! A change that is held, as others see it: what it did, since when, how it stands, and what is kept in mind of it for
//! whoever starts after a crash.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use crate::page::Tone;
use crate::task::EntryId;

/// How long a change is held before it is taken back by itself, unless the settings say otherwise.
pub(crate) const HOLD: Duration = Duration::from_secs(10 * 60);
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
    pub(crate) over: Arc<AtomicBool>,
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

pub(crate) fn capital(words: &str) -> String {
    let mut letters = words.chars();
    match letters.next() {
        Some(first) => first.to_uppercase().chain(letters).collect(),
        None => String::new(),
    }
}
