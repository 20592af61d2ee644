//! The thread that owns a connection: takes jobs one after the other, tells what comes of them.

use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::{Duration, Instant};

use idle_tide_core::links::{self, Tie};
use idle_tide_core::plan::Plan;
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Catalog, Column, Figures, RowBatch, Value};
use idle_tide_engines::plan;
use idle_tide_engines::{
    Bearings, Beside, Connection, Control, EngineError, Fault, Listing, OpenError, Outcome, Query,
    Sink,
};
use parking_lot::RwLock;
use secrecy::SecretString;

/// Something happened; the desk takes it with `Desk::handle`.
#[derive(Debug)]
pub enum Event {
    /// Rows arrived.
    Rows {
        /// The statement's ticket.
        ticket: u64,
    },
    /// A statement ended.
    Done {
        /// Its ticket.
        ticket: u64,
        /// What came of it.
        result: Result<Outcome, EngineError>,
        /// How long it took.
        took: Duration,
        /// Where the session is now.
        bearings: Box<Bearings>,
    },
    /// The names in a large catalog; the rest follows.
    Names(Box<Catalog>),
    /// The catalog was read, or could not be.
    Catalog(Result<Box<ReadCatalog>, EngineError>),
    /// Numbers for the guard: one for each question, where it could be counted.
    Counted {
        /// The ticket of the statement that waits for them.
        ticket: u64,
        /// The counts, none for what is not there; or why nothing could be counted.
        counts: Result<Vec<Option<u64>>, EngineError>,
    },
    /// A plan, or why there is none.
    Planned {
        /// The ticket of the entry that waits for it.
        ticket: u64,
        /// The plan.
        plan: Result<Box<Plan>, EngineError>,
        /// How long it took.
        took: Duration,
        /// Where the session is now.
        bearings: Box<Bearings>,
    },
    /// A flow was looked at stage by stage, or could not be.
    Staged {
        /// The ticket of the entry that waits for it.
        ticket: u64,
        /// Its stages.
        stages: Result<Box<crate::stages::Stages>, EngineError>,
        /// Where the session is now.
        bearings: Box<Bearings>,
    },
    /// Writes are refused by the engine from now on, or no longer.
    Refusing(Result<bool, EngineError>),
    /// Rows were put in order and chosen.
    Arranged {
        /// The entry.
        entry: u32,
        /// The order asked for.
        order: Option<(usize, bool)>,
        /// The condition asked for.
        filter: Option<String>,
        /// The rows, or why there are none.
        rows: Result<Option<Arc<Vec<u32>>>, String>,
    },
    /// Figures of a column, perhaps of the rows so far.
    Figures {
        /// The entry.
        entry: u32,
        /// The column.
        column: usize,
        /// Its figures.
        figures: Box<Figures>,
    },
    /// An export ended, in words.
    Exported(Result<String, String>),
    /// A further result of a statement begins, which is an entry of its own.
    Another {
        /// The statement's ticket.
        ticket: u64,
        /// What came of the result before.
        before: Box<Outcome>,
        /// Where its rows will be.
        set: Arc<RwLock<ResultSet>>,
    },
    /// Something of a session, by the session's number.
    Of(u32, Box<Event>),
    /// A source was opened, or could not be.
    Opened(u32, Opened),
    /// Whoever opens a source asks something.
    Asks(u32, Asked),
    /// The password was changed, or could not be.
    PasswordChanged(Result<(), EngineError>),
    /// The statement that answers a listing.
    Listed {
        /// The entry that waits for it.
        ticket: u64,
        /// The statement, or why there is none.
        query: Result<Query, String>,
    },
    /// The second connection could not be opened; the first does its work.
    NoBeside,
    /// What was found on this machine, and which saved sources answer.
    Found(Vec<crate::sources::Found>, Vec<(String, bool)>),
}

/// A catalog that was read, and what was made of it where it was read.
#[derive(Debug)]
pub struct ReadCatalog {
    /// The catalog.
    pub catalog: Arc<Catalog>,
    /// Its links, guessed ones after those declared.
    pub ties: Arc<Vec<Tie>>,
    /// The statements that make everything, if they were wanted.
    pub script: Option<String>,
}

/// A connection that was opened, or why there is none.
pub struct Opened(pub Result<Box<dyn Connection>, OpenError>);

impl std::fmt::Debug for Opened {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(if self.0.is_ok() {
            "Opened"
        } else {
            "NotOpened"
        })
    }
}

/// What whoever opens a source wants to know; it waits for the answer.
pub enum Asked {
    /// A secret; what for.
    Secret(String, Sender<Option<SecretString>>),
    /// Whether to go on, and details.
    Allow(String, Vec<String>, Sender<bool>),
    /// Nothing: a word on how far it is.
    Word(String),
}

impl std::fmt::Debug for Asked {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Asked")
    }
}

/// How events reach the desk's thread.
pub type Notify = Arc<dyn Fn(Event) + Send + Sync>;

/// Work for the connection's thread.
pub(crate) enum Job {
    Run {
        ticket: u64,
        statement: String,
        sink: Box<dyn Sink + Send>,
    },
    Count {
        ticket: u64,
        questions: Vec<String>,
    },
    Plan {
        ticket: u64,
        statement: String,
        measure: bool,
    },
    Stages {
        ticket: u64,
        statement: String,
        left_out: std::collections::HashSet<usize>,
    },
    Earlier(idle_tide_engines::Earlier),
    Catalog {
        limit: Duration,
        /// Where the session is, for a second connection to go there.
        bearings: Box<Bearings>,
        /// The object whose statements are wanted too; those of everything when it is empty.
        define: Option<String>,
    },
    RefuseWrites(bool),
    Listing {
        ticket: u64,
        what: OwnListing,
    },
    ChangePassword(SecretString),
}

/// A listing that can travel.
#[derive(Debug, Clone)]
pub(crate) enum OwnListing {
    Databases(bool),
    Roles(bool),
    Access(Option<String>),
}

/// The desk's end of the thread.
pub(crate) struct Worker {
    jobs: Sender<Job>,
    pub(crate) control: Arc<dyn Control>,
}

impl Worker {
    pub(crate) fn start(mut connection: Box<dyn Connection>, notify: Notify) -> Self {
        let (jobs, inbox) = channel();
        let control = connection.control();
        std::thread::Builder::new()
            .name("connection".into())
            .spawn(move || work(&mut *connection, &inbox, &notify))
            .expect("a thread can be started");
        Worker { jobs, control }
    }

    /// A worker on a second connection, which is opened when it is first needed.
    pub(crate) fn beside(open: Beside, notify: Notify) -> Self {
        let (jobs, inbox) = channel();
        std::thread::Builder::new()
            .name("beside".into())
            .spawn(move || {
                let Ok(first) = inbox.recv() else { return };
                match open() {
                    Ok(mut connection) => {
                        one(&mut *connection, first, true, &notify);
                        while let Ok(job) = inbox.recv() {
                            one(&mut *connection, job, true, &notify);
                        }
                    }
                    Err(_) => notify(Event::NoBeside),
                }
            })
            .expect("a thread can be started");
        Worker {
            jobs,
            control: Arc::new(NoControl),
        }
    }

    /// A worker that does nothing.
    pub(crate) fn nowhere() -> Self {
        Worker {
            jobs: channel().0,
            control: Arc::new(NoControl),
        }
    }

    pub(crate) fn send(&self, job: Job) {
        // The thread ends only when this sender is dropped.
        let _ = self.jobs.send(job);
    }
}

/// Has nothing to cancel.
struct NoControl;

impl Control for NoControl {
    fn cancel(&self, _: u64) {}
    fn waiting(&self) -> Option<(Duration, Duration)> {
        None
    }
}

fn work(connection: &mut dyn Connection, inbox: &Receiver<Job>, notify: &Notify) {
    while let Ok(job) = inbox.recv() {
        one(connection, job, false, notify);
    }
}

/// Reads the catalog, counts what there is time for, and finds the statements that are wanted.
fn read_catalog(
    connection: &mut dyn Connection,
    limit: Duration,
    define: Option<&str>,
    notify: &Notify,
) -> Result<Box<ReadCatalog>, EngineError> {
    let mut catalog = connection.catalog(&mut |names| notify(Event::Names(Box::new(names))))?;
    connection.count_rows(&mut catalog, limit);
    let mut script = None;
    match define {
        Some("") => script = Some(connection.script(&catalog)?),
        Some(name) => {
            let wanted = catalog.named(name).and_then(|o| catalog.place_of(o));
            if let Some(object) = wanted.and_then(|at| catalog.objects.get_mut(at)) {
                connection.define(object)?;
            }
        }
        None => {}
    }
    catalog.name_index();
    // Guessing takes a moment where there are many columns; nobody waits for it here.
    let mut ties = links::declared(&catalog);
    let guessed = links::likely(&catalog, &ties);
    ties.extend(guessed);
    Ok(Box::new(ReadCatalog {
        catalog: Arc::new(catalog),
        ties: Arc::new(ties),
        script,
    }))
}

fn one(connection: &mut dyn Connection, job: Job, is_beside: bool, notify: &Notify) {
    {
        match job {
            Job::Run {
                ticket,
                statement,
                mut sink,
            } => {
                let start = Instant::now();
                let run = || connection.run(ticket, &statement, &mut *sink);
                let mut result = catch_unwind(AssertUnwindSafe(run)).unwrap_or_else(|_| {
                    let words = "a fault inside this program ended the statement";
                    Err(failed(Fault::Other, words.into(), "fault".into()))
                });
                let took = start.elapsed();
                // A sink that writes elsewhere ends its work, and may fail, only now.
                if let Err(error) = sink.end()
                    && result.is_ok()
                {
                    let code = error.kind().to_string();
                    result = Err(failed(Fault::Sink, error.to_string(), code));
                }
                let bearings = Box::new(connection.bearings());
                notify(Event::Done {
                    ticket,
                    result,
                    took,
                    bearings,
                });
            }
            Job::Plan {
                ticket,
                statement,
                measure,
            } => {
                let start = Instant::now();
                let plan = plan::plan(connection, ticket, &statement, measure).map(Box::new);
                notify(Event::Planned {
                    ticket,
                    plan,
                    took: start.elapsed(),
                    bearings: Box::new(connection.bearings()),
                });
            }
            Job::Stages {
                ticket,
                statement,
                left_out,
            } => {
                let stages = crate::stages::look(connection, &statement, &left_out).map(Box::new);
                let bearings = Box::new(connection.bearings());
                notify(Event::Staged {
                    ticket,
                    stages,
                    bearings,
                });
            }
            Job::Earlier(earlier) => connection.set_earlier(earlier),
            Job::Count { ticket, questions } => {
                let counts = questions
                    .iter()
                    .map(|question| count(connection, ticket, question))
                    .collect();
                notify(Event::Counted { ticket, counts });
            }
            Job::Catalog {
                limit,
                bearings,
                define,
            } => {
                let there = if is_beside {
                    connection.follow(&bearings)
                } else {
                    Ok(())
                };
                let read =
                    there.and_then(|()| read_catalog(connection, limit, define.as_deref(), notify));
                // A second connection that ended is not needed to go on.
                let lost = |e: &EngineError| matches!(e.fault, Fault::Lost | Fault::NotSent);
                match read {
                    Err(error) if is_beside && lost(&error) => notify(Event::NoBeside),
                    read => notify(Event::Catalog(read)),
                }
            }
            Job::Listing { ticket, what } => {
                let query = connection.listing(match &what {
                    OwnListing::Databases(full) => Listing::Databases(*full),
                    OwnListing::Roles(full) => Listing::Roles(*full),
                    OwnListing::Access(name) => Listing::Access(name.as_deref()),
                });
                notify(Event::Listed { ticket, query });
            }
            Job::ChangePassword(new) => {
                notify(Event::PasswordChanged(connection.change_password(&new)));
            }
            Job::RefuseWrites(refuse) => {
                let done = connection.refuse_writes(refuse).map(|()| refuse);
                notify(Event::Refusing(done));
            }
        }
    }
}

/// Runs a query that counts; `None` if what it names is not there.
fn count(
    connection: &mut dyn Connection,
    ticket: u64,
    question: &str,
) -> Result<Option<u64>, EngineError> {
    let mut one = OneValue(None);
    match connection.run(ticket, question, &mut one) {
        Ok(_) => Ok(match one.0 {
            Some(Value::Integer(count)) => u64::try_from(count).ok(),
            _ => None,
        }),
        Err(error) if error.fault == Fault::Statement => Ok(None),
        Err(error) => Err(error),
    }
}

fn failed(fault: Fault, message: String, code: String) -> EngineError {
    EngineError {
        fault,
        message,
        code,
        complaint: idle_tide_lang::correct::Complaint::Other,
        offset: None,
        advice: None,
    }
}

struct OneValue(Option<Value>);

impl Sink for OneValue {
    fn columns(&mut self, _: Vec<Column>) -> io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.0 = Some(batch.row(0).get(0).to_owned());
        Ok(())
    }
}

/// Puts rows into a result that others read at the same time.
pub(crate) struct IntoResult {
    pub(crate) set: Arc<RwLock<ResultSet>>,
    pub(crate) budget: Arc<Budget>,
    pub(crate) own_limit: u64,
    pub(crate) ticket: u64,
    pub(crate) notify: Notify,
}

impl IntoResult {
    fn tell_rows(&self) {
        (self.notify)(Event::Rows {
            ticket: self.ticket,
        });
    }
}

impl Sink for IntoResult {
    fn another(&mut self, before: Outcome) -> io::Result<()> {
        self.set = Arc::new(RwLock::new(ResultSet::of_rows(Vec::new(), Vec::new())));
        (self.notify)(Event::Another {
            ticket: self.ticket,
            before: Box::new(before),
            set: Arc::clone(&self.set),
        });
        Ok(())
    }

    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        *self.set.write() = ResultSet::new(columns, Arc::clone(&self.budget), self.own_limit);
        self.tell_rows();
        Ok(())
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.set.write().set_columns(columns);
        self.tell_rows();
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.set.write().append(batch)?;
        self.tell_rows();
        Ok(())
    }
}

/// Gathers figures of every column and keeps no row.
pub(crate) struct IntoFigures {
    pub(crate) columns: Arc<RwLock<Vec<(Column, Figures)>>>,
}

impl Sink for IntoFigures {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        let mut list = self.columns.write();
        *list = columns
            .into_iter()
            .map(|c| (c, Figures::default()))
            .collect();
        Ok(())
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        let mut list = self.columns.write();
        for (at, column) in columns.into_iter().enumerate() {
            match list.get_mut(at) {
                Some((known, _)) => *known = column,
                None => list.push((column, Figures::default())),
            }
        }
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        let mut list = self.columns.write();
        for row in batch.rows() {
            for ((_, figures), value) in list.iter_mut().zip(row.values()) {
                figures.add(value);
            }
        }
        Ok(())
    }
}
