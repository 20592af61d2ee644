//! An open session, which owns all that runs, waits, is asked and comes back in it; and the tasks that work for it.
//! What a task may touch when it is back is a [`Turn`]; what is to happen then is a [`Next`].

use std::collections::{HashMap, VecDeque};
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::Sender;
use std::time::Instant;

use idle_tide_core::links::Tie;
use idle_tide_core::result::Budget;
use idle_tide_core::{Catalog, Column, Figures};
use idle_tide_engines::{Bearings, Connection, EngineError, Sink};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::SQLITE;
use secrecy::SecretString;

use crate::ask::Wanted;
use crate::covering::Covering;
use crate::draft::Drafts;
use crate::entries::Entries;
use crate::entry::{Content, Entry, State};
use crate::face::{Notice, Request, Returned};
use crate::failure::Failure;
use crate::guard::Question;
use crate::history::History;
use crate::holding::{self, Held};
use crate::origin::Origin;
use crate::page::{Page, Tone};
use crate::settings::{Places, Settings, Tone as SourceTone, Writes};
use crate::sources::Found;
use crate::task::{EntryId, Lane, SessionId, TaskId, Work};
use crate::worker::Worker;

/// A task on its way.
pub type Job = Box<dyn Task>;
/// Something happened; the desk takes it with `Desk::handle`.
pub type Event = crate::worker::Event<Job>;
/// How events reach the desk's thread.
pub type Notify = crate::worker::Notify<Job>;

impl std::fmt::Debug for Event {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Event::Ended {
                session, task, how, ..
            } => {
                write!(f, "Ended({session}, {task}, {how:?})")
            }
            Event::NotThere { session, task, .. } => write!(f, "NotThere({session}, {task})"),
            Event::Progress(session, task, progress) => {
                write!(f, "{progress:?}({session}, {task})")
            }
            Event::Idle(session, idle) => write!(f, "{idle:?}({session})"),
        }
    }
}

/// A piece of work that goes to a thread and comes back.
pub trait Task: Work {
    /// Called before it goes; what it needs of the session and its entry it takes here.
    fn begin(&mut self, turn: &mut Turn<'_>) {
        let _ = turn;
    }

    /// It is back: what is to happen next.
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next;

    /// Whether to leave before it ended would lose something.
    fn holds(&self) -> bool {
        false
    }

    /// What is shown for it when it is given up without waiting for it; only for work in a thread of its own.
    fn given_up(&self) -> Option<Page> {
        None
    }
}

/// What is done in the desk's thread once something is known.
pub type Step = Box<dyn FnOnce(&mut Turn<'_>) -> Next + Send>;
/// The same with what was given.
pub type Answer = Box<dyn FnOnce(&mut Turn<'_>, SecretString) -> Next + Send>;

/// What happens to an entry next.
pub enum Next {
    /// It ends well.
    Done(Content),
    /// It was stopped by the user; what was submitted behind it goes back.
    Stopped(Content),
    /// The user did not want it; its text goes back.
    NotRun,
    /// It is refused; its text goes back, marked.
    Fail(Box<Failure>),
    /// It is refused, and what came before the error stays.
    FailKeeping(Content, Box<Failure>),
    /// Another task goes.
    Go(Job),
    /// The user is asked, and it goes on if the answer is yes.
    Ask(Question, Step),
    /// The user is asked for a value, and it goes on with that.
    Want(Wanting, Answer),
    /// Nothing more: an entry that is there stays as it is, and none is made.
    Keep,
    /// The session ends.
    Close,
    /// A session takes its place.
    Enter(Box<Entering>),
}

impl Next {
    /// Refused, in one sentence.
    pub(crate) fn refuse(words: impl Into<String>) -> Self {
        crate::failure::plain(words).into()
    }
}

impl From<Failure> for Next {
    fn from(failure: Failure) -> Self {
        Next::Fail(Box::new(failure))
    }
}

/// A value that is asked for.
#[derive(Debug, Clone)]
pub struct Wanting {
    /// What is asked.
    pub what: String,
    /// Further words.
    pub details: Vec<String>,
    /// What the answer is.
    pub wanted: Wanted,
}

/// Who wants an answer.
pub(crate) enum To {
    /// Whoever opens a source, for a secret.
    Opener(Sender<Option<SecretString>>),
    /// The same, for leave to go on.
    Allow(Sender<bool>),
    /// The entry in progress.
    Entry(Answer),
}

/// What is asked with hidden input, or to be allowed.
pub struct Asking {
    /// What is asked.
    pub what: String,
    /// Further words.
    pub details: Vec<String>,
    /// What the answer is.
    pub wanted: Wanted,
    pub(crate) to: To,
}

/// A connection that was opened, and the place it takes.
pub struct Entering {
    /// The connection.
    pub(crate) connection: Box<dyn Connection>,
    /// What opened it.
    pub(crate) origin: Origin,
    /// How it takes its place.
    pub(crate) how: How,
    /// What is submitted in it on arrival.
    pub(crate) first: Option<String>,
}

/// How what is opened takes its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// Beside what is open.
    New,
    /// In the place of the session. What is there to be restored is.
    Instead {
        /// Database, role and settings are restored.
        restore: bool,
        /// What was there comes back with /back.
        keep: bool,
    },
}

/// Hidden parameters of a statement, and the literals that are put in their places.
pub type Secrets = Vec<(String, SecretString)>;

/// A piece of a submission that waits for its turn.
#[derive(Clone)]
pub(crate) struct Waiting {
    /// The whole submission.
    pub(crate) submission: Arc<str>,
    /// Where the piece begins and ends in it.
    pub(crate) span: Range<usize>,
    pub(crate) is_command: bool,
    /// Statements of the submission before it.
    pub(crate) before: usize,
    /// Literals that were covered in the submission, by their parameters.
    pub(crate) given: Arc<Secrets>,
    /// A password that was taken out of an address in it.
    pub(crate) password: Option<SecretString>,
    /// The entry that was shown when it was submitted; the session's latest at its turn when `None`.
    pub(crate) shown: Option<EntryId>,
    /// The entry from which a link was followed to this one, and the statements that its rows stand for.
    pub(crate) step: Option<(EntryId, Vec<String>)>,
}

impl Waiting {
    /// A piece that is a submission of its own.
    pub(crate) fn alone(text: &str, is_command: bool) -> Self {
        Waiting {
            span: 0..text.len(),
            submission: text.into(),
            is_command,
            before: 0,
            given: Arc::default(),
            password: None,
            shown: None,
            step: None,
        }
    }

    /// The piece.
    pub(crate) fn text(&self) -> &str {
        &self.submission[self.span.clone()]
    }

    fn is_of(&self, other: &Waiting) -> bool {
        Arc::ptr_eq(&self.submission, &other.submission)
    }
}

/// Work that is away.
pub(crate) struct Away {
    pub(crate) task: TaskId,
    pub(crate) lane: Lane,
    pub(crate) stop: Arc<AtomicBool>,
    pub(crate) holds: bool,
    pub(crate) given_up: Option<Page>,
    /// When it was asked to stop.
    pub(crate) asked: Option<Instant>,
}

/// What the entry in progress waits for.
pub(crate) enum Doing {
    /// Work that is away.
    Away(Away),
    /// A yes or no.
    Asking(Question, Step),
    /// A value; who wants it stands among what is asked.
    Wanting,
}

/// The entry in progress.
pub(crate) struct Busy {
    pub(crate) entry: EntryId,
    pub(crate) waiting: Waiting,
    pub(crate) doing: Doing,
}

/// The check after a change.
pub(crate) struct Check {
    /// The entry of the change.
    pub(crate) entry: EntryId,
    /// The object that it wrote to, or made.
    pub(crate) name: String,
    /// Whether it made it: it is shown in full then; else how many rows it holds now.
    pub(crate) made: bool,
}

/// An open session.
pub struct Session {
    pub(crate) number: SessionId,
    /// `None` where no source is open.
    pub(crate) origin: Option<Origin>,
    pub(crate) source: String,
    pub(crate) dialect: &'static Dialect,
    pub(crate) worker: Worker<Job>,
    /// The second connection; one does for everything when `None`.
    pub(crate) beside: Option<Worker<Job>>,
    pub(crate) queue: VecDeque<Waiting>,
    pub(crate) busy: Option<Busy>,
    /// Work that no entry waits for.
    pub(crate) behind: Vec<Away>,
    /// Work that is to go behind the entry in progress.
    pub(crate) starts: Vec<Job>,
    pub(crate) asking: VecDeque<Asking>,
    pub(crate) requests: VecDeque<Request>,
    pub(crate) returned: Option<Returned>,
    pub(crate) catalog: Arc<Catalog>,
    /// The links of the catalog, guessed ones after those declared.
    pub(crate) ties: Arc<Vec<Tie>>,
    pub(crate) catalog_known: bool,
    /// How many times reading the catalog began, and which of them gave what is known.
    pub(crate) catalog_readings: (u64, u64),
    /// The entry that becomes the arrival card.
    pub(crate) arriving: Option<EntryId>,
    /// Figures that were gathered, by their tables.
    pub(crate) figures: HashMap<String, Vec<(Column, Figures)>>,
    pub(crate) bearings: Bearings,
    pub(crate) writes: Writes,
    /// What the catalog that is read next is to say of a change.
    pub(crate) check: Option<Check>,
    /// Whether the connection was lost while nothing ran, and a transaction with it.
    pub(crate) lost_open: bool,
    /// Whether somebody looks after what takes long.
    pub(crate) patient: bool,
    /// What is known of the lock that a task waits for, in words.
    pub(crate) blocked: Option<(TaskId, String)>,
    /// Statements that ran in the transaction that is open.
    pub(crate) in_transaction: u64,
    /// A change that is held until it is kept or taken back.
    pub(crate) held: Option<Held>,
    /// The link was lost.
    pub(crate) lost: bool,
    /// Statements that set something for the session, to set it again on a new connection.
    pub(crate) settings: Vec<String>,
    /// Objects that only this connection sees were made.
    pub(crate) has_temporary: bool,
    /// What was open before another user came in its place.
    pub(crate) before: Vec<Origin>,
}

impl Session {
    /// A session on an open connection.
    pub(crate) fn new(
        number: SessionId,
        mut connection: Box<dyn Connection>,
        name: String,
        writes: Writes,
        notify: &Notify,
    ) -> Self {
        let bearings = connection.bearings();
        let beside = connection.served().and_then(|server| server.beside());
        Session {
            number,
            source: name,
            dialect: connection.dialect(),
            beside: beside.map(|open| Worker::beside(open, Arc::clone(notify))),
            worker: Worker::start(
                connection,
                bearings.server.is_some(),
                number,
                Arc::clone(notify),
            ),
            bearings,
            ..Self::nowhere(writes)
        }
    }

    /// What stands in the place of a session while no source is open.
    pub(crate) fn nowhere(writes: Writes) -> Self {
        Session {
            number: 0,
            origin: None,
            source: String::new(),
            dialect: &SQLITE,
            worker: Worker::nowhere(),
            beside: None,
            queue: VecDeque::new(),
            busy: None,
            behind: Vec::new(),
            starts: Vec::new(),
            asking: VecDeque::new(),
            requests: VecDeque::new(),
            returned: None,
            catalog: Arc::default(),
            ties: Arc::default(),
            catalog_known: false,
            catalog_readings: (0, 0),
            arriving: None,
            figures: HashMap::new(),
            bearings: Bearings::of(""),
            writes,
            check: None,
            lost_open: false,
            patient: false,
            blocked: None,
            in_transaction: 0,
            held: None,
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
    pub fn number(&self) -> SessionId {
        self.number
    }

    /// How many statements ran in the transaction that is open.
    pub fn in_transaction(&self) -> u64 {
        self.in_transaction
    }

    /// The change that is held in it.
    pub fn held(&self) -> Option<&Held> {
        self.held.as_ref()
    }

    /// Whether to leave it would take something back.
    pub fn holds_something(&self) -> bool {
        self.bearings.transaction.is_some() && !self.lost
    }

    /// Whether its connection was lost.
    pub fn is_lost(&self) -> bool {
        self.lost
    }

    /// Whether something runs, waits or is asked in it.
    pub fn is_busy(&self) -> bool {
        self.busy.is_some() || !self.queue.is_empty() || self.behind.iter().any(|away| away.holds)
    }

    /// What is asked in it, to be answered with yes or no.
    pub fn question(&self) -> Option<&Question> {
        match &self.busy.as_ref()?.doing {
            Doing::Asking(question, _) => Some(question),
            _ => None,
        }
    }

    /// Whether something is asked in it.
    pub fn asks(&self) -> bool {
        self.question().is_some() || !self.asking.is_empty()
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

    /// The source and the database that entries made now run on.
    pub(crate) fn place(&self) -> (String, String) {
        (self.source.clone(), self.bearings.database.clone())
    }

    /// Where work of a lane is done now: in a transaction, and while there are objects that only the first
    /// connection sees, the second one knows too little.
    pub(crate) fn lane_now(&self, lane: Lane) -> Lane {
        // In a transaction that failed the server answers nothing.
        let uncommitted = (self.bearings.transaction.is_some() || self.has_temporary)
            && !self.bearings.transaction_failed;
        match lane {
            Lane::Beside if self.beside.is_none() || uncommitted => Lane::Connection,
            lane => lane,
        }
    }

    /// The worker of a lane.
    pub(crate) fn worker_of(&self, lane: Lane) -> Option<&Worker<Job>> {
        match lane {
            Lane::Connection => Some(&self.worker),
            Lane::Beside | Lane::Aside => self.beside.as_ref(),
            Lane::Free => None,
        }
    }

    /// Has work that is away stopped.
    pub(crate) fn stop(&self, away: &Away) {
        away.stop.store(true, Ordering::Relaxed);
        if let Some(worker) = self.worker_of(away.lane) {
            worker.cancel(away.task);
        }
    }

    /// Gives a submission back from a piece on: the rest of it does not run.
    pub(crate) fn give_back(&mut self, waiting: &Waiting, from: usize, returned: Returned) {
        self.queue.retain(|other| !other.is_of(waiting));
        let text = waiting.submission[from..].trim_end();
        let text = match returned.place {
            Some(_) => text.to_string(),
            None => text.trim_start().to_string(),
        };
        if !text.is_empty() {
            self.returned = Some(Returned { text, ..returned });
        }
    }

    /// Takes out of the queue what was submitted together with a piece.
    pub(crate) fn take_rest(&mut self, waiting: &Waiting) -> VecDeque<Waiting> {
        let (with, rest) = std::mem::take(&mut self.queue)
            .into_iter()
            .partition(|other: &Waiting| other.is_of(waiting));
        self.queue = rest;
        with
    }
}

/// Makes the sink that the rows of this statement go to.
pub type MakeSink = Box<dyn FnMut(&str) -> Box<dyn Sink + Send>>;

/// Figures of the column being looked at.
pub(crate) struct Watched {
    pub(crate) entry: EntryId,
    pub(crate) column: usize,
    /// Which rows they are of.
    pub(crate) rows: Option<usize>,
    pub(crate) figures: Option<Figures>,
    pub(crate) stop: Arc<AtomicBool>,
}

/// What all sessions share.
pub(crate) struct Services {
    pub(crate) places: Option<Places>,
    pub(crate) history: History,
    pub(crate) notice: Option<Notice>,
    /// Memory of all results together.
    pub(crate) memory: Arc<Budget>,
    /// Takes rows as they come instead of keeping them as results.
    pub(crate) stream: Option<MakeSink>,
    pub(crate) default_writes: Writes,
    /// Which names are covered.
    pub(crate) covering: Covering,
    /// The diary that is kept.
    pub(crate) diary: Option<crate::diary::Diary>,
    /// Servers found on this machine, and which saved sources answer.
    pub(crate) found: (Vec<Found>, Vec<(String, bool)>),
    /// Whether this machine is being looked at.
    pub(crate) looking: bool,
    pub(crate) watched: Option<Watched>,
    /// Variables and functions of scripts.
    pub(crate) script: idle_tide_dock::flow::script::State,
    /// Results of no entry that questions across results may name.
    pub(crate) lent: Vec<crate::across::Table>,
    pub(crate) practice: Option<idle_tide_dock::server::Listening>,
    /// Half-written text, where it is kept.
    pub(crate) drafts: Option<Drafts>,
    /// What is held, for whoever starts after a crash.
    pub(crate) holds: Option<Drafts>,
}

impl Services {
    /// Keeps in mind what is held on a source, and whether it is being kept; nothing any more when `None`.
    pub(crate) fn held_is(&mut self, source: &str, held: Option<(&str, bool)>) {
        if let Some(holds) = &mut self.holds {
            let words = held.map(|(what, keeps)| holding::in_mind(what, keeps));
            holds.note(source, words);
        }
    }

    /// The settings as they are now; those of nobody where they cannot be read.
    pub(crate) fn settings(&self) -> Settings {
        self.read_settings().unwrap_or_default()
    }

    /// The settings as they are now.
    ///
    /// # Errors
    /// In words, if the file cannot be read.
    pub(crate) fn read_settings(&self) -> Result<Settings, String> {
        match &self.places {
            Some(places) => Settings::read(&places.settings),
            None => Ok(Settings::default()),
        }
    }
}

/// What a task, a command or a statement may touch in the desk's thread: its own session, its own entry, the words
/// that are said, and what all share. It cannot reach another session.
pub struct Turn<'a> {
    pub(crate) session: &'a mut Session,
    pub(crate) entries: &'a mut Entries,
    pub(crate) services: &'a mut Services,
    /// What was submitted.
    pub(crate) waiting: &'a Waiting,
    /// Its entry, if it has one yet.
    pub(crate) entry: Option<EntryId>,
    /// The entry that was shown when it was submitted.
    pub(crate) shown: Option<EntryId>,
    /// Whether its session is the one that is worked with.
    pub(crate) front: bool,
}

impl Turn<'_> {
    /// Says something that makes no entry; what comes from the background says from where.
    pub(crate) fn say(&mut self, text: impl Into<String>, tone: Tone) {
        let mut text = text.into();
        if !self.front && !self.session.is_nowhere() {
            text = format!("{}: {text}", self.session.source);
        }
        self.services.notice = Some(Notice { text, tone });
    }

    /// Asks the face for what only it can do; it is done when the session is in front.
    pub(crate) fn request(&mut self, request: Request) {
        self.session.requests.push_back(request);
    }

    /// Starts work that no entry waits for.
    pub(crate) fn start(&mut self, task: impl Task + 'static) {
        self.session.starts.push(Box::new(task));
    }

    /// Its own entry.
    pub(crate) fn own(&mut self) -> Option<&mut Entry> {
        self.entries.get_mut(self.entry?)
    }

    /// The entry that was shown when it was submitted.
    pub(crate) fn shown(&self) -> Option<&Entry> {
        self.entries.get(self.shown?)
    }

    /// Whether what is known of the catalog may be behind: it is read again only where results are kept.
    pub(crate) fn needs_catalog(&self) -> bool {
        !self.session.catalog_known || self.services.stream.is_some()
    }

    /// Makes an entry for what was submitted; the view follows what runs in front.
    pub(crate) fn make_entry(&mut self, text: &str, is_statement: bool) -> EntryId {
        let number = self.entries.add(
            Entry::new(
                self.session.number,
                self.session.place(),
                text.trim(),
                self.session.dialect.row(),
                is_statement,
            ),
            self.front,
        );
        self.entry = Some(number);
        number
    }

    /// Shows an entry's state and content while it is in progress.
    pub(crate) fn show_state(&mut self, state: State, content: Option<Content>) {
        if let Some(entry) = self.own() {
            entry.state = state;
            if let Some(content) = content {
                entry.content = content;
            }
        }
    }
}
