//! Work that travels: a piece of work is one value that goes to a thread with what it needs, and comes back with
//! what it found. Here is what such a thread gives it. It knows engines, and neither sessions nor entries.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use idle_tide_core::result::ResultSet;
use idle_tide_core::{Catalog, Figures};
use idle_tide_engines::{Connection, EngineError, Fault, Outcome};
use parking_lot::RwLock;

use crate::ask::Asked;

/// The number of an entry, counted from 1.
pub type EntryId = u32;
/// The number of a session; 0 is where no source is open.
pub type SessionId = u32;
/// The number of a task. A connection knows what it runs by it, so that a late cancel hits nothing else.
pub type TaskId = u64;

/// Where work is done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lane {
    /// On the session's connection, one after the other.
    Connection,
    /// On the second connection where there is one, else on the first.
    Beside,
    /// On the second connection, or not at all.
    Aside,
    /// In a thread of its own, without a connection.
    Free,
}

/// What is told of work that goes on.
pub enum Progress {
    /// Rows arrived.
    Rows,
    /// A further result of the statement begins.
    Another {
        /// What came of the result before.
        before: Box<Outcome>,
        /// Where its rows will be.
        set: Arc<RwLock<ResultSet>>,
    },
    /// The names in a large catalog; the rest follows.
    Names(Box<Catalog>),
    /// Figures of a column of an entry, of the rows so far.
    Figures(EntryId, usize, Box<Figures>),
    /// Something is asked; the work waits for the answer.
    Asks(Asked),
    /// How far it is, in words.
    Said(String),
}

impl std::fmt::Debug for Progress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Progress::Rows => "Rows",
            Progress::Another { .. } => "Another",
            Progress::Names(_) => "Names",
            Progress::Figures(..) => "Figures",
            Progress::Asks(_) => "Asks",
            Progress::Said(_) => "Said",
        })
    }
}

/// Tells the desk how far work is, from any thread.
#[derive(Clone)]
pub struct Reporter(pub(crate) Arc<dyn Fn(Progress) + Send + Sync>);

impl Reporter {
    /// Tells.
    pub fn tell(&self, progress: Progress) {
        (self.0)(progress);
    }
}

/// What a thread gives to work.
pub struct Bench<'a> {
    /// The connection of its lane; none in a thread of its own.
    pub connection: Option<&'a mut dyn Connection>,
    /// The ticket under which a connection runs it.
    pub ticket: TaskId,
    /// Set when it is to stop.
    pub stop: &'a Arc<AtomicBool>,
    /// Where to tell how far it is.
    pub reporter: &'a Reporter,
}

impl Bench<'_> {
    /// The connection.
    ///
    /// # Errors
    /// Where there is none.
    pub fn connection(&mut self) -> Result<&mut dyn Connection, EngineError> {
        match &mut self.connection {
            Some(connection) => Ok(&mut **connection),
            None => Err(EngineError::plain("No source is open here.")),
        }
    }

    /// Whether it is to stop.
    pub fn stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

/// The part of a task that is done elsewhere.
pub trait Work: Send {
    /// Where.
    fn lane(&self) -> Lane;

    /// Does it; what is found stays in the work itself.
    ///
    /// # Errors
    /// Those of the engine; the task learns of them when it is back.
    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError>;
}

impl<W: Work + ?Sized> Work for Box<W> {
    fn lane(&self) -> Lane {
        (**self).lane()
    }
    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        (**self).work(at)
    }
}

/// An error of this program's own making.
pub fn fault(kind: Fault, words: &str) -> EngineError {
    EngineError {
        fault: kind,
        code: "fault".into(),
        advice: None,
        ..EngineError::plain(words)
    }
}

/// It was stopped by the user.
pub fn stopped() -> EngineError {
    fault(Fault::Cancelled, "it was stopped")
}
