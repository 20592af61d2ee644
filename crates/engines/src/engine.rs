//! The trait that every family implements, and what passes through it.

use std::io;
use std::sync::Arc;
use std::time::{Duration, Instant};

use idle_tide_core::{Catalog, Column, Document, Object, RowBatch};
use idle_tide_lang::Dialect;
use idle_tide_lang::correct::Complaint;
use secrecy::SecretString;

use crate::destination::Destination;
use crate::trouble::OpenError;

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
    /// Whether there are transactions here.
    pub has_transactions: bool,
    /// Since when a transaction has been open.
    pub transaction: Option<Instant>,
    /// The transaction failed and can only be rolled back.
    pub transaction_failed: bool,
    /// What a server says; `None` for a database within this program.
    pub server: Option<ServerBearings>,
    /// Everything else worth knowing, as name and value.
    pub facts: Vec<(String, String)>,
    /// What is unusual, in whole sentences.
    pub warnings: Vec<String>,
}

impl Bearings {
    /// Bearings of which nothing but the family is known yet.
    pub fn of(family: &'static str) -> Self {
        Bearings {
            family,
            version: String::new(),
            database: String::new(),
            place: None,
            access: Access::Writable,
            has_transactions: true,
            transaction: None,
            transaction_failed: false,
            server: None,
            facts: Vec::new(),
            warnings: Vec::new(),
        }
    }
}

/// How the link to a server is protected.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LinkState {
    /// A socket of this machine.
    Socket,
    /// Encrypted.
    Encrypted {
        /// The protocol's version, `TLS 1.3`.
        version: String,
        /// What the server proved of itself.
        proof: Proof,
    },
    /// Not encrypted.
    Open,
}

/// What a server's certificate was asked to prove.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Proof {
    /// Nothing.
    None,
    /// That an authority that is trusted made it, for whatever name.
    Authority,
    /// That too, and that it is for the host that was addressed.
    Name,
}

/// Where a session with a server is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServerBearings {
    /// Host and port, or the socket, as addressed.
    pub place: String,
    /// Whether that is this machine (seen from the end of the way in).
    pub local: bool,
    /// The way in, in words; empty when it is direct.
    pub way: String,
    /// Who logged in; with the host part where the family has one.
    pub user: String,
    /// Whose rights count now: a role, if another than the user's own was taken.
    pub role: Option<String>,
    /// Whether that one may do everything.
    pub all_powerful: bool,
    /// The schemas that are searched.
    pub search_path: Vec<String>,
    /// The session's time zone.
    pub time_zone: String,
    /// How the link is protected.
    pub link: LinkState,
    /// What tells this server from every other: an identifier of its own.
    pub identity: String,
    /// The number the server has for this session; 0 where it has none.
    pub process: i64,
}

/// What was heard of a server while nothing ran.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Idle {
    /// What others sent, in words, that was not told before; the next statement repeats it.
    pub heard: Vec<String>,
    /// Whether the connection has ended.
    pub lost: bool,
}

/// What a command of lists asks an engine for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Listing<'a> {
    /// Databases; `true` for sizes too.
    Databases(bool),
    /// Users and roles; `true` for their attributes and memberships.
    Roles(bool),
    /// Who may do what: by object, or all when no name is given.
    Access(Option<&'a str>),
}

/// A statement that answers a [`Listing`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Query {
    /// The statement.
    pub sql: String,
    /// What the answer leaves out, in a whole sentence.
    pub note: Option<String>,
}

/// Hands over the rows of an earlier entry as documents until `take` answers false; says in words why it cannot.
pub type Earlier =
    Arc<dyn Fn(u32, &mut dyn FnMut(Document) -> bool) -> Result<(), String> + Send + Sync>;

/// Opens a second connection with the same user, for reading the catalog behind the first.
pub type Beside = Box<dyn FnOnce() -> Result<Box<dyn Connection>, OpenError> + Send>;

/// What a statement came to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Whether it gives rows (perhaps none).
    pub returns_rows: bool,
    /// Rows inserted, updated or deleted, for statements that do.
    pub changed: Option<u64>,
    /// The key of the one row that was inserted.
    pub new_key: Option<i64>,
    /// The identifiers of the first documents that were inserted, as they are written.
    pub new_ids: Vec<String>,
    /// What came into being, went or got another name, in whole sentences.
    pub made: Vec<String>,
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
    /// The user lacks a right.
    Denied,
    /// The file is damaged or is no database.
    Damaged,
    /// The disk is full or cannot be read or written.
    Disk,
    /// The connection was lost after the statement was sent: whether it happened is not known.
    Lost,
    /// The connection was gone before: the statement was not sent.
    NotSent,
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
    /// What the server said on the way to it.
    pub notes: Vec<String>,
}

impl EngineError {
    /// An error of our own that is only words.
    pub fn plain(words: impl Into<String>) -> Self {
        let words = words.into();
        EngineError {
            fault: Fault::Other,
            message: words.clone(),
            code: String::new(),
            complaint: Complaint::Other,
            offset: None,
            advice: Some(words),
            notes: Vec::new(),
        }
    }

    /// What took the rows failed: the system, or, of the kind [`io::ErrorKind::InvalidInput`], they are not what was
    /// to be made of them, which its words say.
    pub fn of_sink(error: &io::Error) -> Self {
        let message = error.to_string();
        let unfit = error.kind() == io::ErrorKind::InvalidInput;
        EngineError {
            fault: Fault::Sink,
            code: if unfit {
                String::new()
            } else {
                error.kind().to_string()
            },
            advice: unfit.then(|| message.clone()),
            message,
            complaint: Complaint::Other,
            offset: None,
            notes: Vec::new(),
        }
    }

    /// A flow that is not understood or could not be computed.
    pub fn of_flow(error: idle_tide_lang::flow::FlowError) -> Self {
        EngineError {
            fault: Fault::Statement,
            message: error.message.clone(),
            code: String::new(),
            offset: Some(error.span.start),
            complaint: Complaint::Flow(error),
            advice: None,
            notes: Vec::new(),
        }
    }

    /// The user stopped it.
    pub(crate) fn cancelled() -> Self {
        EngineError {
            fault: Fault::Cancelled,
            advice: None,
            ..Self::plain("it was cancelled")
        }
    }
}

impl From<EngineError> for OpenError {
    fn from(error: EngineError) -> Self {
        OpenError::plain(match error.advice {
            Some(advice) => format!("{advice} ({}, {})", error.message, error.code),
            None => format!("{} ({})", error.message, error.code),
        })
    }
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

    /// The next bytes of what the server copies out, as it sends them. Answers false where it comes as rows instead; then
    /// nothing was taken.
    ///
    /// # Errors
    /// As [`Sink::columns`].
    fn bytes(&mut self, part: &[u8]) -> io::Result<bool> {
        let _ = part;
        Ok(false)
    }

    /// A further result of the same statement begins; what came before is complete.
    ///
    /// # Errors
    /// As [`Sink::columns`].
    fn another(&mut self, before: Outcome) -> io::Result<()> {
        let _ = before;
        Ok(())
    }

    /// More is known of the columns of documents: those handed over before keep their numbers, new ones stand after them. Rows that come
    /// from now on may have them.
    ///
    /// # Errors
    /// As [`Sink::columns`].
    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        let _ = columns;
        Ok(())
    }

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

/// What is in a database.
pub trait Describe {
    /// What is in the database. Row counts are left out. Of a large database the names are handed to `first`
    /// before the rest is read. Like every call that may take long it runs under a ticket that
    /// [`Control::cancel`] can name.
    ///
    /// # Errors
    /// If the server refuses, or it is cancelled.
    fn catalog(
        &mut self,
        ticket: u64,
        first: &mut dyn FnMut(Catalog),
    ) -> Result<Catalog, EngineError>;

    /// Finds the statements that would make an object, where the catalog left them out.
    ///
    /// # Errors
    /// If the server refuses, or it is cancelled.
    fn define(&mut self, ticket: u64, object: &mut Object) -> Result<(), EngineError> {
        let _ = (ticket, object);
        Ok(())
    }

    /// The statements that make everything again in an empty database, in an order that works there.
    ///
    /// # Errors
    /// If the server refuses, or it is cancelled.
    fn script(&mut self, ticket: u64, catalog: &Catalog) -> Result<String, EngineError>;

    /// Counts the rows of tables, as far as it gets within `limit` or before it is cancelled.
    fn count_rows(&mut self, ticket: u64, catalog: &mut Catalog, limit: Duration);

    /// The statement that answers a listing.
    ///
    /// # Errors
    /// A whole sentence, where the family has no such thing.
    fn listing(&mut self, what: Listing<'_>) -> Result<Query, String>;
}

/// What document databases do besides.
pub trait Collections {
    /// Hands over documents of a collection, at most so many, until `take` answers false; gives how many there are in all, if that is
    /// known. More than `most` are chosen by chance where the source can do that.
    ///
    /// # Errors
    /// If the collection cannot be read, it is cancelled.
    fn documents(
        &mut self,
        ticket: u64,
        collection: &str,
        most: u64,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<Option<u64>, EngineError>;

    /// How a flow would run, as a tree; `measure` runs it.
    ///
    /// # Errors
    /// If the source cannot say, it is cancelled.
    fn flow_plan(
        &mut self,
        ticket: u64,
        statement: &str,
        measure: bool,
    ) -> Result<idle_tide_core::plan::Plan, EngineError>;

    /// Puts documents into a collection, which comes into being where it is not there; gives how many went in.
    ///
    /// # Errors
    /// Those of the engine and of `next`; the words say what went in before.
    fn fill(
        &mut self,
        ticket: u64,
        collection: &str,
        next: &mut dyn FnMut() -> Result<Option<Document>, EngineError>,
    ) -> Result<u64, EngineError>;

    /// Where flows find the results of earlier entries.
    fn set_earlier(&mut self, earlier: Earlier);
}

/// What servers do besides.
pub trait Served {
    /// How to open a second connection beside this one; `None` where one does for everything.
    fn beside(&self) -> Option<Beside>;

    /// Goes to where another connection of the same user is: its database and role.
    ///
    /// # Errors
    /// If the server refuses.
    fn follow(&mut self, bearings: &Bearings) -> Result<(), EngineError>;

    /// Gives the present user a new password. It is in no statement that is shown or kept.
    ///
    /// # Errors
    /// If the server refuses.
    fn change_password(&mut self, new: &SecretString) -> Result<(), EngineError>;
}

/// Why rows were not put into a table, and the one that was refused, where that is known: its place among them.
#[derive(Debug, Clone)]
pub struct NotPut {
    /// The error.
    pub error: EngineError,
    /// The place of the row.
    pub row: Option<usize>,
}

impl From<EngineError> for NotPut {
    fn from(error: EngineError) -> Self {
        NotPut { error, row: None }
    }
}

/// A connection to one database. It stays in one thread; [`Connection::control`] is its other side.
pub trait Connection: Send {
    /// The dialect it speaks.
    fn dialect(&self) -> &'static Dialect;

    /// The side for other threads.
    fn control(&self) -> Arc<dyn Control>;

    /// Where the session is now.
    fn bearings(&mut self) -> Bearings;

    /// What came from the server while nothing ran. Only what has arrived is read; the server is asked nothing.
    fn idle(&mut self) -> Idle {
        Idle::default()
    }

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

    /// Puts rows into a table, by the fastest way there is; gives how many are there because of it.
    ///
    /// # Errors
    /// [`NotPut`], with the row that is refused where that is known. Rows before it may be there.
    fn put(&mut self, ticket: u64, into: &Destination, rows: &RowBatch) -> Result<u64, NotPut> {
        let _ = (ticket, into, rows);
        Err(EngineError::plain("Collections take documents, not rows.").into())
    }

    /// Makes the engine itself refuse every write, or ends that.
    ///
    /// # Errors
    /// If it cannot.
    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError>;

    /// What is in the database.
    fn describe(&mut self) -> &mut dyn Describe;

    /// The side of a document database; `None` for others.
    fn collections(&mut self) -> Option<&mut dyn Collections> {
        None
    }

    /// The side of a server; `None` for files.
    fn served(&mut self) -> Option<&mut dyn Served> {
        None
    }
}
