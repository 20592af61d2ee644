//! One open session: its connection, what is known of its database, what runs and waits in it. A desk has
//! one that is worked with, and perhaps others in the background.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

use idle_tide_core::links::Tie;
use idle_tide_core::{Catalog, Column, Figures};
use idle_tide_engines::{Bearings, Connection, OpenOptions, Source};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::SQLITE;

use super::{Busy, Job, Waiting, Writes};
use crate::guard::Question;
use crate::settings::Tone as SourceTone;
use crate::worker::{Event, Notify, Worker};

/// What opened a session, to open it again.
#[derive(Debug, Clone)]
pub struct Origin {
    /// The name it is known by.
    pub name: String,
    /// What was opened.
    pub source: Source,
    /// How.
    pub options: OpenOptions,
    /// How carefully it is to be treated.
    pub tone: SourceTone,
}

/// How the second connection stands.
pub(super) enum Beside {
    /// One connection does for everything.
    None,
    /// The catalog is read over it.
    Open(Worker),
}

/// An open session.
pub struct Session {
    pub(crate) number: u32,
    /// `None` where no source is open.
    pub(crate) origin: Option<Origin>,
    pub(crate) source: String,
    pub(crate) dialect: &'static Dialect,
    pub(super) worker: Worker,
    pub(super) beside: Beside,
    pub(super) queue: VecDeque<Waiting>,
    pub(super) busy: Option<Busy>,
    pub(crate) question: Option<Question>,
    pub(crate) catalog: Arc<Catalog>,
    /// The links of the catalog, guessed ones after those declared.
    pub(super) ties: Arc<Vec<Tie>>,
    pub(super) catalog_known: bool,
    /// The entry that becomes the arrival card.
    pub(super) arriving: Option<u32>,
    /// Figures that were gathered, by their tables.
    pub(super) figures: HashMap<String, Vec<(Column, Figures)>>,
    pub(crate) bearings: Bearings,
    pub(crate) writes: Writes,
    /// An entry that wrote to a table: the catalog that is read next says what the table holds now.
    pub(super) check: Option<(u32, String)>,
    /// The link was lost.
    pub(crate) lost: bool,
    /// Statements that set something for the session, to set it again on a new connection.
    pub(super) settings: Vec<String>,
    /// Objects that only this connection sees were made.
    pub(super) has_temporary: bool,
    /// What was open before another user came in its place.
    pub(super) before: Vec<Origin>,
}

/// The events of a session's threads, marked with its number.
pub(super) fn marked(number: u32, notify: &Notify) -> Notify {
    let notify = Arc::clone(notify);
    Arc::new(move |event| notify(Event::Of(number, Box::new(event))))
}

impl Session {
    /// A session on an open connection.
    pub(super) fn new(
        number: u32,
        mut connection: Box<dyn Connection>,
        name: String,
        writes: Writes,
        notify: &Notify,
    ) -> Self {
        let notify = marked(number, notify);
        let bearings = connection.bearings();
        let beside = match connection.beside() {
            Some(open) => Beside::Open(Worker::beside(open, Arc::clone(&notify))),
            None => Beside::None,
        };
        let session = Session {
            number,
            source: name,
            dialect: connection.dialect(),
            bearings,
            beside,
            worker: Worker::start(connection, notify),
            ..Self::nowhere(writes)
        };
        if writes == Writes::None {
            session.worker.send(Job::RefuseWrites(true));
        }
        session
    }

    /// What stands in the place of a session while no source is open.
    pub(super) fn nowhere(writes: Writes) -> Self {
        Session {
            number: 0,
            origin: None,
            source: String::new(),
            dialect: &SQLITE,
            worker: Worker::nowhere(),
            beside: Beside::None,
            queue: VecDeque::new(),
            busy: None,
            question: None,
            catalog: Arc::default(),
            ties: Arc::default(),
            catalog_known: false,
            arriving: None,
            figures: HashMap::new(),
            bearings: Bearings::of(""),
            writes,
            check: None,
            lost: false,
            settings: Vec::new(),
            has_temporary: false,
            before: Vec::new(),
        }
    }

    /// Whether there is no source behind it.
    pub fn is_nowhere(&self) -> bool {
        self.number == 0
    }

    /// The name of its source.
    pub fn name(&self) -> &str {
        &self.source
    }

    /// Where it is.
    pub fn bearings(&self) -> &Bearings {
        &self.bearings
    }

    /// How it treats writes.
    pub fn writes(&self) -> Writes {
        self.writes
    }

    /// Its number, which its entries carry.
    pub fn number(&self) -> u32 {
        self.number
    }

    /// Whether its connection was lost.
    pub fn is_lost(&self) -> bool {
        self.lost
    }

    /// Whether something runs, waits or is asked in it.
    pub fn is_busy(&self) -> bool {
        self.busy.is_some() || !self.queue.is_empty()
    }

    /// Whether something is asked in it.
    pub fn asks(&self) -> bool {
        self.question.is_some()
    }

    /// How carefully it is to be treated.
    pub fn tone(&self) -> SourceTone {
        self.origin
            .as_ref()
            .map_or(SourceTone::Calm, |origin| origin.tone)
    }

    /// The links of the catalog, guessed ones after those declared.
    pub fn ties(&self) -> &Arc<Vec<Tie>> {
        &self.ties
    }

    /// Sends work that reads the catalog to where it disturbs least.
    pub(super) fn send_catalog(&self, job: Job) {
        // In a transaction that failed the server answers nothing.
        let uncommitted = (self.bearings.transaction.is_some() || self.has_temporary)
            && !self.bearings.transaction_failed;
        match &self.beside {
            Beside::Open(worker) if !uncommitted => worker.send(job),
            _ => self.worker.send(job),
        }
    }
}
