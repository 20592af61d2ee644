//! The trait that every family implements, and what passes through it.

use std::io;
use std::sync::Arc;
use std::time::{Duration, Instant};

use idle_tide_core::{Catalog, Column, RowBatch};
use idle_tide_lang::Dialect;
use idle_tide_lang::correct::Complaint;

/// Whether the session can change data at all.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Access {
    /// It can.
    Writable,
    /// It cannot; the words say why, and the way out.
    ReadOnly(String),
}

/// Where the session is, from what the engine reports.
#[derive(Debug, Clone)]
pub struct Bearings {
    /// The family, as its makers write it.
    pub family: &'static str,
    /// The version that answers.
    pub version: String,
    /// The database: for a file its name.
    pub database: String,
    /// Where it lies: for a file its path; `None` in memory.
    pub place: Option<String>,
    /// Whether it can be written.
    pub access: Access,
    /// Since when a transaction has been open.
    pub transaction: Option<Instant>,
    /// Everything else worth knowing, as name and value.
    pub facts: Vec<(String, String)>,
    /// What is unusual, in whole sentences.
    pub warnings: Vec<String>,
}

/// What a statement came to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Whether it gives rows (perhaps none).
    pub returns_rows: bool,
    /// Rows inserted, updated or deleted, for statements that do.
    pub changed: Option<u64>,
    /// The key of the one row that was inserted.
    pub new_key: Option<i64>,
    /// What the statement left unusual, in whole sentences.
    pub notes: Vec<String>,
}

/// What kind of fault an error is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The statement is wrong.
    Statement,
    /// It was cancelled.
    Cancelled,
    /// Something else holds a lock; it was waited for as long as the limit says.
    Locked,
    /// The session only reads.
    ReadOnly,
    /// A rule of the schema forbids it.
    Constraint,
    /// The file is damaged or is no database.
    Damaged,
    /// The disk is full or cannot be read or written.
    Disk,
    /// What took the rows failed.
    Sink,
    /// Anything else.
    Other,
}

/// An error of an engine.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{message}")]
pub struct EngineError {
    /// What kind it is.
    pub fault: Fault,
    /// The server's own words.
    pub message: String,
    /// The server's own code.
    pub code: String,
    /// What it means in neutral words, for corrections.
    pub complaint: Complaint,
    /// The byte of the statement the server points at.
    pub offset: Option<usize>,
    /// What is wrong and what to do, in our words, where the server's are not enough.
    pub advice: Option<String>,
}

/// Takes what a statement gives.
pub trait Sink {
    /// The columns, before the first row.
    ///
    /// # Errors
    /// If they cannot be taken; the statement then ends with [`Fault::Sink`].
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()>;

    /// The next rows.
    ///
    /// # Errors
    /// As [`Sink::columns`].
    fn rows(&mut self, batch: RowBatch) -> io::Result<()>;

    /// Nothing more comes; called once, also after an error.
    ///
    /// # Errors
    /// If what was taken before cannot be brought to its end.
    fn end(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The side of a connection that other threads may touch while a statement runs.
pub trait Control: Send + Sync {
    /// Cancels the run with this ticket, if it is the one that runs or is yet to start.
    fn cancel(&self, ticket: u64);

    /// How long the present statement has waited for a lock, and the limit.
    fn waiting(&self) -> Option<(Duration, Duration)>;
}

/// A connection to one database. It stays in one thread; [`Connection::control`] is its other side.
pub trait Connection: Send {
    /// The dialect it speaks.
    fn dialect(&self) -> &'static Dialect;

    /// The side for other threads.
    fn control(&self) -> Arc<dyn Control>;

    /// Where the session is now.
    fn bearings(&mut self) -> Bearings;

    /// What is in the database. Row counts are left out.
    ///
    /// # Errors
    /// If the server refuses.
    fn catalog(&mut self) -> Result<Catalog, EngineError>;

    /// Counts the rows of tables, as far as it gets within `limit`.
    fn count_rows(&mut self, catalog: &mut Catalog, limit: Duration);

    /// Runs one statement under a ticket that [`Control::cancel`] can name. Rows go to `sink` in batches
    /// as they come; a slow statement hands over what it has at least every 50 ms.
    ///
    /// # Errors
    /// If the server refuses it, it is cancelled, or the sink fails. Rows handed over before stay.
    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError>;

    /// Makes the engine itself refuse every write, or ends that.
    ///
    /// # Errors
    /// If it cannot.
    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError>;
}
