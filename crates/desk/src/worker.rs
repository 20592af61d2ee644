//! The thread that owns a connection: takes jobs one after the other, tells what comes of them.

use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::{Duration, Instant};

use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Catalog, Column, Figures, RowBatch, Value};
use idle_tide_engines::{Bearings, Connection, Control, EngineError, Fault, Outcome, Sink};
use parking_lot::RwLock;

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
    /// The catalog was read.
    Catalog(Result<Box<Catalog>, EngineError>),
    /// Numbers for the guard: one for each question, where it could be counted.
    Counted {
        /// The ticket of the statement that waits for them.
        ticket: u64,
        /// The counts, none for what is not there; or why nothing could be counted.
        counts: Result<Vec<Option<u64>>, EngineError>,
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
    Catalog {
        limit: Duration,
    },
    RefuseWrites(bool),
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

    pub(crate) fn send(&self, job: Job) {
        // The thread ends only when this sender is dropped.
        let _ = self.jobs.send(job);
    }
}

fn work(connection: &mut dyn Connection, inbox: &Receiver<Job>, notify: &Notify) {
    while let Ok(job) = inbox.recv() {
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
            Job::Count { ticket, questions } => {
                let counts = questions
                    .iter()
                    .map(|question| count(connection, ticket, question))
                    .collect();
                notify(Event::Counted { ticket, counts });
            }
            Job::Catalog { limit } => {
                let read = connection.catalog().map(|mut catalog| {
                    connection.count_rows(&mut catalog, limit);
                    Box::new(catalog)
                });
                notify(Event::Catalog(read));
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

impl Sink for IntoResult {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        *self.set.write() = ResultSet::new(columns, Arc::clone(&self.budget), self.own_limit);
        (self.notify)(Event::Rows {
            ticket: self.ticket,
        });
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.set.write().append(batch)?;
        (self.notify)(Event::Rows {
            ticket: self.ticket,
        });
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
