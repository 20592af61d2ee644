//! The desk itself: entries in their order, what waits, what is asked, and the answers to events. It
//! runs in one thread and never waits; the connection works in its own.

mod commands;
mod events;
mod looking;
mod opening;
mod run;
mod session;

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Catalog, Column, Figures};
use idle_tide_engines::address::without_password;
use idle_tide_engines::{Access, Bearings, Connection, EngineError, Fault, Outcome, Sink};
use idle_tide_lang::command::{self, Parsed};
use idle_tide_lang::correct::Correction;
use idle_tide_lang::dialect::Family;
use idle_tide_lang::secret;
use idle_tide_lang::split::{PieceKind, pieces};
use idle_tide_lang::statement::{Effect, Sweep, summary};
use idle_tide_lang::{Dialect, elsewhere};
use parking_lot::RwLock;
use secrecy::{ExposeSecret, SecretString};

use crate::about;
use crate::arrival;
use crate::entry::{Content, Entry, State};
use crate::failure::{self, Failure};
use crate::guard::{self, Count, Question};
use crate::history::History;
use crate::links::Links;
use crate::lists;
use crate::page::{Line, Page, Tone};
use crate::settings::{Places, Visit, visit};
use crate::sheet::{Sheet, gather_figures, read};
use crate::worker::{Event, IntoFigures, IntoResult, Job, Notify, OwnListing, ReadCatalog};
use opening::{Filling, How, Opening};

pub use opening::{Asking, Wanted};
pub use session::{Origin, Session};

/// How writes are treated.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Writes {
    /// Those that sweep are asked about.
    Ask,
    /// They run.
    Free,
    /// The engine refuses them.
    None,
}

impl Writes {
    /// The way of this name; asking for any other.
    pub fn named(word: &str) -> Self {
        match word.to_ascii_lowercase().as_str() {
            "free" => Writes::Free,
            "none" => Writes::None,
            _ => Writes::Ask,
        }
    }
}

/// Memory that one result may use before it goes to disk, in bytes.
const RESULT_MEMORY: u64 = 128 * 1024 * 1024;
/// Memory that all results together may use.
const ALL_MEMORY: u64 = 256 * 1024 * 1024;
/// Disk that all results together may use.
const DISK: u64 = 2_000_000_000;
/// From this many rows on, figures are taken of a sample of about as many.
const FIGURES_OF: u64 = 500_000;
/// A database of more objects than this is read again only when its objects may have changed.
const LARGE: usize = 2_000;
/// How long rows are counted for lists and the arrival card.
const COUNTING: Duration = Duration::from_millis(250);

/// Makes the sink that a statement's rows go to.
pub type MakeSink = Box<dyn FnMut() -> Box<dyn Sink + Send>>;

/// How a desk is set up.
pub struct Options {
    /// The short name of the source.
    pub source: String,
    /// How writes are treated at first.
    pub writes: Writes,
    /// Where things are remembered; nowhere when `None`.
    pub places: Option<Places>,
    /// Takes rows as they come instead of keeping them as results.
    pub stream: Option<MakeSink>,
}

/// What only a face can do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Request {
    /// Leave.
    Quit,
    /// Open this text in the editor.
    Edit(String),
    /// Put this text into the composer.
    Recall(String),
    /// Show a row as a record; the current one when `None`, else counted from 1.
    Record(Option<u64>),
    /// Show the current document, as text or as an outline.
    Document(bool),
    /// Change the theme, or say which there are.
    Theme(Option<String>),
    /// Open the guide at a topic.
    Guide(String),
    /// Show the entries.
    Entries,
    /// Follow the link of the current cell, to a table if one is named.
    Follow(Option<String>),
    /// Show the sources.
    Sources,
    /// Show the catalog, at an object if one is named.
    Catalog(Option<String>),
    /// Clear the view.
    Clear,
}

/// Text that goes back into the composer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Returned {
    /// The text: what failed, and the rest of its submission.
    pub text: String,
    /// The place that is wrong, in bytes of `text`.
    pub place: Option<std::ops::Range<usize>>,
    /// What would mend it.
    pub corrections: Vec<Correction>,
}

/// A word about something that made no entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// The words.
    pub text: String,
    /// Their tone.
    pub tone: Tone,
}

/// A piece of a submission that waits.
struct Waiting {
    /// The whole submission.
    submission: Arc<str>,
    /// Where the piece begins and ends in it.
    span: std::ops::Range<usize>,
    is_command: bool,
    /// Statements of the submission before it.
    before: usize,
    /// Literals that were covered in the submission, by their parameters.
    given: Arc<Vec<(String, SecretString)>>,
}

impl Waiting {
    /// A piece that is a submission of its own.
    fn alone(text: &str, is_command: bool) -> Self {
        Waiting {
            span: 0..text.len(),
            submission: text.into(),
            is_command,
            before: 0,
            given: Arc::default(),
        }
    }
}

/// What an entry in progress waits for.
enum Doing {
    Statement(Effect),
    /// The figures of the table of this name.
    Figures(Arc<RwLock<Vec<(Column, Figures)>>>, String),
    /// The catalog, for what comes then.
    Catalog(Then),
    Counting(Sweep, Vec<Count>),
    /// The numbers for guessed links of a drawing, by their places.
    Checking(Vec<usize>),
    Asking,
    Refusing(Writes),
    /// The statement of a list, and the pattern that names are narrowed by.
    Listing(Option<String>),
    /// The plan of a statement.
    Planning,
    /// The stages of a flow.
    Staging,
    /// A new password.
    Password,
    /// The answer whether to end this session.
    Closing,
    /// The answer whether to leave it for another connection.
    Leaving(Box<(Origin, How)>),
    /// The answer whether to run here what ran elsewhere.
    Elsewhere,
}

/// What the catalog is needed for.
enum Then {
    /// A command that shows or reads objects.
    Command(Parsed),
    /// Advice on an error.
    Failure(EngineError),
    /// The numbers that a sweep would take.
    Guard(Sweep),
}

struct Busy {
    entry: u32,
    /// What runs: the entry's own text, or the statement a command stands for.
    statement: String,
    waiting: Waiting,
    doing: Doing,
    /// Hidden parameters and the literals that are put in their places.
    secrets: Vec<(String, SecretString)>,
}

/// Figures of the column being looked at.
struct Watched {
    entry: u32,
    column: usize,
    rows: Option<usize>,
    figures: Option<Figures>,
    stop: Arc<AtomicBool>,
}

/// The session that is worked with, others in the background, and the entries of all.
pub struct Desk {
    /// The session that is worked with. While an event of another is answered, that one stands here.
    pub(crate) here: Session,
    others: Vec<Session>,
    /// An event of a session in the background is being answered: the view stays where it is.
    behind: bool,
    next_session: u32,
    next_opening: u32,
    opening: Option<Opening>,
    filling: Option<Filling>,
    asking: VecDeque<Asking>,
    /// A password taken out of an address that was typed.
    spare: Option<SecretString>,
    default_writes: Writes,
    found: (Vec<crate::sources::Found>, Vec<(String, bool)>),
    pub(crate) notify: Notify,
    pub(crate) entries: Vec<Entry>,
    pub(crate) current: usize,
    history: History,
    places: Option<Places>,
    pub(crate) requests: VecDeque<Request>,
    returned: Option<Returned>,
    pub(crate) notice: Option<Notice>,
    memory: Arc<Budget>,
    stream: Option<MakeSink>,
    watched: Option<Watched>,
    exporting: bool,
    practice: Option<idle_tide_dock::server::Listening>,
}

impl Desk {
    /// A desk with a session on an open connection. Events reach [`Desk::handle`] by way of `notify`.
    pub fn new(connection: Box<dyn Connection>, options: Options, notify: Notify) -> Self {
        let name = options.source.clone();
        let mut desk = Self::empty(options, notify);
        desk.next_session = 1;
        desk.here = Session::new(1, connection, name, desk.default_writes, &desk.notify);
        desk
    }

    /// A desk with no source open.
    pub fn empty(options: Options, notify: Notify) -> Self {
        let mut trouble = None;
        let history = match &options.places {
            Some(places) => History::open(&places.history).unwrap_or_else(|error| {
                trouble = Some(format!("Earlier statements could not be read: {error}."));
                History::forgetful()
            }),
            None => History::forgetful(),
        };
        Desk {
            here: Session::nowhere(options.writes),
            others: Vec::new(),
            behind: false,
            next_session: 0,
            next_opening: 0,
            opening: None,
            filling: None,
            asking: VecDeque::new(),
            spare: None,
            default_writes: options.writes,
            found: Default::default(),
            notify,
            entries: Vec::new(),
            current: 0,
            history,
            places: options.places,
            requests: VecDeque::new(),
            returned: None,
            notice: trouble.map(|text| Notice {
                text,
                tone: Tone::Care,
            }),
            memory: Budget::new(ALL_MEMORY),
            stream: options.stream,
            watched: None,
            practice: None,
            exporting: false,
        }
    }

    /// Says what opened the session, so that it can be opened again.
    pub fn came_from(&mut self, origin: Origin) {
        self.here.origin = Some(origin);
    }

    /// Makes the arrival card the first entry and reads the catalog.
    pub fn arrive(&mut self) {
        let at = self.new_entry("arrival", false);
        self.entries[at].state = State::Running;
        self.here.arriving = Some(self.entries[at].number);
        self.read_catalog();
    }

    /// All entries, oldest first.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// Where in [`Desk::entries`] the entry stands that is shown.
    pub fn current(&self) -> usize {
        self.current
    }

    /// The entry that is shown.
    pub fn entry(&self) -> Option<&Entry> {
        self.entries.get(self.current)
    }

    /// The drawing of the entry that is shown, to change it.
    pub fn links_mut(&mut self) -> Option<&mut Links> {
        self.entries.get_mut(self.current)?.links_mut()
    }

    /// The rows of the entry that is shown, to change their view.
    pub fn sheet_mut(&mut self) -> Option<&mut Sheet> {
        self.entries.get_mut(self.current)?.sheet_mut()
    }

    /// Shows another entry, by its place.
    pub fn show(&mut self, at: usize) {
        self.current = at.min(self.entries.len().saturating_sub(1));
    }

    /// The objects of the database, as last read.
    pub fn catalog(&self) -> &Arc<Catalog> {
        &self.here.catalog
    }

    /// The figures of a table, if they were gathered in this session.
    pub fn figures_of(&self, table: &str) -> Option<&[(Column, Figures)]> {
        self.here.figures.get(table).map(Vec::as_slice)
    }

    /// Where the session is.
    pub fn bearings(&self) -> &Bearings {
        &self.here.bearings
    }

    /// The short name of the source.
    pub fn source(&self) -> &str {
        &self.here.source
    }

    /// How writes are treated.
    pub fn writes(&self) -> Writes {
        self.here.writes
    }

    /// The dialect that is typed.
    pub fn dialect(&self) -> &'static Dialect {
        self.here.dialect
    }

    /// Statements of this and earlier sessions.
    pub fn history(&self) -> &History {
        &self.history
    }

    /// What is asked.
    pub fn question(&self) -> Option<&Question> {
        self.here.question.as_ref()
    }

    /// Whether something runs or waits.
    pub fn is_busy(&self) -> bool {
        self.here.is_busy() || self.exporting || self.opening.is_some() || self.filling.is_some()
    }

    /// The entry that runs, if one does.
    pub fn running(&self) -> Option<&Entry> {
        let number = match (&self.here.busy, &self.opening) {
            (Some(busy), _) => busy.entry,
            (None, Some(_)) => {
                return self
                    .entries
                    .iter()
                    .rev()
                    .find(|e| e.state == State::Running);
            }
            (None, None) => return None,
        };
        self.entries.iter().find(|entry| entry.number == number)
    }

    /// Statements and commands that wait.
    pub fn waiting(&self) -> usize {
        self.here.queue.len()
    }

    /// How long the running statement has waited for a lock, and the limit.
    pub fn lock_wait(&self) -> Option<(Duration, Duration)> {
        self.here
            .busy
            .as_ref()
            .and_then(|_| self.here.worker.control.waiting())
    }

    /// What a face is asked to do.
    pub fn take_request(&mut self) -> Option<Request> {
        self.requests.pop_front()
    }

    /// What goes back into the composer.
    pub fn take_returned(&mut self) -> Option<Returned> {
        self.returned.take()
    }

    /// A word about something that made no entry.
    pub fn notice(&self) -> Option<&Notice> {
        self.notice.as_ref()
    }

    /// Says something that makes no entry.
    pub fn say(&mut self, text: impl Into<String>, tone: Tone) {
        self.notice = Some(Notice {
            text: text.into(),
            tone,
        });
    }

    /// Takes the word away.
    pub fn hush(&mut self) {
        self.notice = None;
    }

    /// The figures of a column of the entry shown, as far as they are known; asks for them if they are not.
    pub fn figures(&mut self, column: usize) -> Option<&Figures> {
        let entry = self.entries.get(self.current)?;
        let sheet = entry.sheet()?;
        let rows = sheet
            .view
            .rows
            .as_ref()
            .map(|rows| Arc::as_ptr(rows) as usize);
        let same = self.watched.as_ref().is_some_and(|watched| {
            (watched.entry, watched.column, watched.rows) == (entry.number, column, rows)
        });
        if !same {
            if let Some(watched) = self.watched.take() {
                watched.stop.store(true, Ordering::Relaxed);
            }
            let stop = Arc::new(AtomicBool::new(false));
            gather_figures(
                sheet,
                entry.number,
                column,
                Arc::clone(&entry.complete),
                Arc::clone(&stop),
                &self.notify,
            );
            self.watched = Some(Watched {
                entry: entry.number,
                column,
                rows,
                figures: None,
                stop,
            });
        }
        self.watched.as_ref()?.figures.as_ref()
    }

    pub(crate) fn place_of(&self, number: u32) -> Option<usize> {
        self.entries.iter().position(|entry| entry.number == number)
    }

    /// Reads the catalog again; what others changed is there then.
    pub fn refresh_catalog(&mut self) {
        if !self.here.is_nowhere() {
            self.say("The catalog is being read again.", Tone::Faint);
            self.read_catalog();
        }
    }

    fn read_catalog(&self) {
        self.here.send_catalog(self.catalog_job(COUNTING, None));
    }

    fn catalog_job(&self, limit: Duration, define: Option<String>) -> Job {
        Job::Catalog {
            limit,
            bearings: Box::new(self.here.bearings.clone()),
            define,
        }
    }

    /// Runs an export in the background; [`Event::Exported`] ends it.
    pub(crate) fn export(
        &mut self,
        sheet: Sheet,
        path: std::path::PathBuf,
        layout: idle_tide_draw::Layout,
    ) {
        self.exporting = true;
        let notify = Arc::clone(&self.notify);
        std::thread::spawn(move || {
            notify(Event::Exported(crate::export::export(
                &sheet, &path, layout,
            )));
        });
    }
}
