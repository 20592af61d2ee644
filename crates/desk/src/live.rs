//! A result that is read again and again: what is asked of it, how it stands, what changed in it.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use idle_tide_draw::picture::lasting;

use crate::page::Tone;
use crate::since::Since;

/// What is asked of a live result.
#[derive(Debug, Clone)]
pub(crate) struct Asked {
    /// Time from one reading to the next.
    pub(crate) every: Duration,
    /// It ends once a row satisfies this.
    pub(crate) until: Option<String>,
    /// The bell rings once a row satisfies this that none did before.
    pub(crate) alert: Option<String>,
    /// The column whose sum is followed.
    pub(crate) trend: Option<String>,
    /// Whether it goes on inside a transaction.
    pub(crate) in_transaction: bool,
}

/// How a live result stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// It is read again when its time has come.
    Waits,
    /// It waits for something, in words.
    Pauses(&'static str),
    /// It has ended, in words.
    Ended(String),
}

/// What happened to a row at the last change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mark {
    /// It is new.
    New,
    /// These columns have other values.
    Changed(Vec<usize>),
}

/// A result that is read again and again.
#[derive(Debug)]
pub struct Live {
    pub(crate) asked: Asked,
    /// Time from one reading to the next as it is now: longer where the server is slow.
    pub every: Duration,
    /// How it stands.
    pub standing: Standing,
    /// Readings that came back, the first one included.
    pub readings: u64,
    /// When its rows changed last, and how.
    pub changed: Option<(Instant, Since)>,
    /// The rows that changed then, by their number.
    pub marks: HashMap<u32, Mark>,
    /// The keys of rows that went then, a few of them.
    pub gone: Vec<String>,
    /// Whether the alert is on.
    pub alerted: bool,
    /// What is followed: the name of a column, and its sums.
    pub trend: Option<(String, Vec<f64>)>,
    pub(crate) stop: Arc<AtomicBool>,
}

impl Live {
    /// Whether it goes on.
    pub fn goes_on(&self) -> bool {
        !matches!(self.standing, Standing::Ended(_))
    }

    /// How fresh the marks are: 1 at the change, 0 when they have faded.
    pub fn freshness(&self) -> f64 {
        let fades = (self.every * 4).max(Duration::from_secs(8)).as_secs_f64();
        let age = |(at, _): &(Instant, Since)| at.elapsed().as_secs_f64() / fades;
        self.changed
            .as_ref()
            .map_or(0.0, |changed| (1.0 - age(changed)).max(0.0))
    }

    /// How it stands, in a few words.
    pub fn words(&self) -> (String, Tone) {
        let every = lasting(self.every);
        let changed = self.changed.as_ref().map(|(at, since)| {
            let numbers = since.numbers();
            let gone = match self.gone.as_slice() {
                [] => String::new(),
                names => format!(" (gone: {})", names.join(", ")),
            };
            let age = at.elapsed().as_secs();
            let age = match age {
                0..60 => format!("{age} s"),
                _ => format!("{} min", age / 60),
            };
            format!(" · changed {age} ago {numbers}{gone}")
        });
        let changed = changed.unwrap_or_else(|| match self.readings {
            0 | 1 => String::new(),
            many => format!(" · the same in {many} readings"),
        });
        let alert = if self.alerted { "alert · " } else { "" };
        let (words, tone) = match &self.standing {
            Standing::Waits => (format!("live every {every}"), Tone::Active),
            Standing::Pauses(why) => (format!("live, pauses: {why}"), Tone::Care),
            Standing::Ended(why) => (format!("was live: {why}"), Tone::Faint),
        };
        let tone = if self.alerted { Tone::Danger } else { tone };
        (format!("{alert}{words}{changed}"), tone)
    }

    pub(crate) fn end(&mut self, why: impl Into<String>) {
        self.stop.store(true, Ordering::Relaxed);
        self.standing = Standing::Ended(why.into());
    }
}
