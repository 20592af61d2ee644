//! The desk itself: entries in their order, what waits, what is asked, and the answers to events. It
//! runs in one thread and never waits; the connection works in its own.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Catalog, Column, Figures};
use idle_tide_engines::{Access, Bearings, Connection, EngineError, Fault, Outcome, Sink};
use idle_tide_lang::command::{self, Parsed};
use idle_tide_lang::correct::Correction;
use idle_tide_lang::split::{PieceKind, pieces};
use idle_tide_lang::statement::{Effect, Sweep, summary};
use idle_tide_lang::{Dialect, elsewhere};
use parking_lot::RwLock;

use crate::about;
use crate::arrival;
use crate::entry::{Content, Entry, State};
use crate::failure::{self, Failure};
use crate::guard::{self, Count, Question};
use crate::history::History;
use crate::page::{Line, Page, Tone};
use crate::settings::{Places, Visit, visit};
use crate::sheet::{Sheet, gather_figures, read};
use crate::worker::{Event, IntoFigures, IntoResult, Job, Notify, Worker};

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

/// Memory that one result may use before it goes to disk, in bytes.
const RESULT_MEMORY: u64 = 128 * 1024 * 1024;
/// Memory that all results together may use.
const ALL_MEMORY: u64 = 256 * 1024 * 1024;
/// Disk that all results together may use.
const DISK: u64 = 2_000_000_000;
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
    /// Change the theme, or say which there are.
    Theme(Option<String>),
    /// Open the guide at a topic.
    Guide(String),
    /// Show the entries.
    Entries,
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
}

/// What an entry in progress waits for.
enum Doing {
    Statement(Effect),
    Figures(Arc<RwLock<Vec<(Column, Figures)>>>),
    /// The catalog, for a command.
    Catalog(Parsed),
    Counting(Sweep, Vec<Count>),
    Asking,
    Refusing(Writes),
}

struct Busy {
    entry: u32,
    /// What runs: the entry's own text, or the statement a command stands for.
    statement: String,
    waiting: Waiting,
    doing: Doing,
}

/// Figures of the column being looked at.
struct Watched {
    entry: u32,
    column: usize,
    rows: Option<usize>,
    figures: Option<Figures>,
    stop: Arc<AtomicBool>,
}

/// The session.
pub struct Desk {
    pub(crate) source: String,
    pub(crate) dialect: &'static Dialect,
    worker: Worker,
    pub(crate) notify: Notify,
    pub(crate) entries: Vec<Entry>,
    pub(crate) current: usize,
    queue: VecDeque<Waiting>,
    busy: Option<Busy>,
    question: Option<Question>,
    pub(crate) catalog: Arc<Catalog>,
    catalog_known: bool,
    pub(crate) bearings: Bearings,
    pub(crate) writes: Writes,
    history: History,
    places: Option<Places>,
    pub(crate) requests: VecDeque<Request>,
    returned: Option<Returned>,
    pub(crate) notice: Option<Notice>,
    memory: Arc<Budget>,
    stream: Option<MakeSink>,
    watched: Option<Watched>,
    exporting: bool,
}

impl Desk {
    /// Begins a session on an open connection. Events reach [`Desk::handle`] by way of `notify`.
    pub fn new(mut connection: Box<dyn Connection>, options: Options, notify: Notify) -> Self {
        let mut trouble = None;
        let history = match &options.places {
            Some(places) => History::open(&places.history).unwrap_or_else(|error| {
                trouble = Some(format!("Earlier statements could not be read: {error}."));
                History::forgetful()
            }),
            None => History::forgetful(),
        };
        let dialect = connection.dialect();
        let bearings = connection.bearings();
        let worker = Worker::start(connection, Arc::clone(&notify));
        let desk = Desk {
            source: options.source,
            dialect,
            worker,
            notify,
            entries: Vec::new(),
            current: 0,
            queue: VecDeque::new(),
            busy: None,
            question: None,
            catalog: Arc::default(),
            catalog_known: false,
            bearings,
            writes: options.writes,
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
            exporting: false,
        };
        if desk.writes == Writes::None {
            desk.worker.send(Job::RefuseWrites(true));
        }
        desk
    }

    /// Makes the arrival card the first entry and reads the catalog.
    pub fn arrive(&mut self) {
        let at = self.new_entry("arrival", false);
        self.entries[at].state = State::Running;
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
        &self.catalog
    }

    /// Where the session is.
    pub fn bearings(&self) -> &Bearings {
        &self.bearings
    }

    /// The short name of the source.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// How writes are treated.
    pub fn writes(&self) -> Writes {
        self.writes
    }

    /// The dialect that is typed.
    pub fn dialect(&self) -> &'static Dialect {
        self.dialect
    }

    /// Statements of this and earlier sessions.
    pub fn history(&self) -> &History {
        &self.history
    }

    /// What is asked.
    pub fn question(&self) -> Option<&Question> {
        self.question.as_ref()
    }

    /// Whether something runs or waits.
    pub fn is_busy(&self) -> bool {
        self.busy.is_some() || !self.queue.is_empty() || self.exporting
    }

    /// The entry that runs, if one does.
    pub fn running(&self) -> Option<&Entry> {
        let number = self.busy.as_ref()?.entry;
        self.entries.iter().find(|entry| entry.number == number)
    }

    /// Statements and commands that wait.
    pub fn waiting(&self) -> usize {
        self.queue.len()
    }

    /// How long the running statement has waited for a lock, and the limit.
    pub fn lock_wait(&self) -> Option<(Duration, Duration)> {
        self.busy
            .as_ref()
            .and_then(|_| self.worker.control.waiting())
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

    /// Takes what was typed: statements and commands, run in order.
    pub fn submit(&mut self, text: &str) {
        self.notice = None;
        let submission: Arc<str> = match elsewhere::bare_word(text) {
            Some(command) => command.into(),
            None => text.into(),
        };
        if let Err(error) = self.history.add(&self.source, text) {
            self.say(
                format!("The statement could not be kept for later sessions: {error}."),
                Tone::Care,
            );
        }
        let mut before = 0;
        for piece in pieces(&submission, self.dialect)
            .iter()
            .filter(|piece| piece.has_code)
        {
            let is_command = piece.kind == PieceKind::Command;
            self.queue.push_back(Waiting {
                submission: Arc::clone(&submission),
                span: piece.start as usize..piece.end as usize,
                is_command,
                before,
            });
            before += usize::from(!is_command);
        }
        self.pump();
    }

    /// Runs one statement or command that was already cut out.
    pub fn submit_piece(&mut self, text: &str, is_command: bool) {
        self.queue.push_back(Waiting {
            submission: text.into(),
            span: 0..text.len(),
            is_command,
            before: 0,
        });
        self.pump();
    }

    /// Stops what runs. What waited after it in the same submission goes back into the composer.
    pub fn cancel(&mut self) -> bool {
        let Some(busy) = &self.busy else {
            return false;
        };
        match busy.doing {
            Doing::Asking => self.answer(false),
            _ => self.worker.control.cancel(u64::from(busy.entry)),
        }
        true
    }

    /// Answers the question.
    pub fn answer(&mut self, yes: bool) {
        if self.question.take().is_none() {
            return;
        }
        let Some(busy) = self.busy.take() else {
            return;
        };
        if yes {
            self.start_statement(busy);
            return;
        }
        let mut page = Page::new();
        page.say(Tone::Heading, "It was not run. Nothing was changed.");
        page.gap();
        page.say(Tone::Faint, "The statement is back in the composer.");
        self.end_entry(busy.entry, State::NotRun, Content::Page(page));
        self.give_back(&busy.waiting, None, Vec::new());
        self.pump();
    }

    fn new_entry(&mut self, text: &str, is_statement: bool) -> usize {
        let number = self.entries.last().map_or(1, |last| last.number + 1);
        // The view follows what runs.
        self.entries.push(Entry {
            number,
            text: text.trim().to_string(),
            is_statement,
            state: State::Waiting,
            content: Content::Nothing,
            started: None,
            took: None,
            outcome: None,
            complete: Arc::default(),
        });
        self.current = self.entries.len() - 1;
        self.current
    }

    /// An entry that is finished as it is made.
    pub(crate) fn finished_entry(&mut self, text: &str, content: Content) {
        let at = self.new_entry(text, false);
        let number = self.entries[at].number;
        self.end_entry(number, State::Done, content);
    }

    pub(crate) fn place_of(&self, number: u32) -> Option<usize> {
        self.entries.iter().position(|entry| entry.number == number)
    }

    fn end_entry(&mut self, number: u32, state: State, content: Content) {
        if let Some(at) = self.place_of(number) {
            let entry = &mut self.entries[at];
            entry.state = state;
            entry.content = content;
            entry.complete.store(true, Ordering::Release);
        }
    }

    /// Starts what waits first, unless something runs or is asked.
    fn pump(&mut self) {
        while self.busy.is_none() && self.question.is_none() {
            let Some(next) = self.queue.pop_front() else {
                return;
            };
            let text = next.submission[next.span.clone()].to_string();
            if next.is_command {
                self.start_command(next, &text);
            } else {
                self.prepare_statement(next, text);
            }
        }
    }

    fn start_command(&mut self, waiting: Waiting, text: &str) {
        let parsed = match command::parse(text) {
            Ok(parsed) => parsed,
            Err(error) => {
                let at = self.new_entry(text, false);
                let number = self.entries[at].number;
                self.fail(number, &waiting, failure::of_command(&error));
                return;
            }
        };
        if let Err(failure) = self.command(waiting, text, parsed) {
            let (waiting, failure) = *failure;
            let at = self.new_entry(text, false);
            let number = self.entries[at].number;
            self.fail(number, &waiting, failure);
        }
    }

    /// Runs a command; those that only change the view are answered in `commands`.
    fn command(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        match parsed.command.name {
            "tables" | "views" | "indexes" | "about" | "definition" => {
                let at = self.new_entry(text, false);
                self.entries[at].state = State::Running;
                self.busy = Some(Busy {
                    entry: self.entries[at].number,
                    statement: String::new(),
                    waiting,
                    doing: Doing::Catalog(parsed),
                });
                self.read_catalog();
            }
            "figures" | "sample" => {
                let name = parsed.argument(0).unwrap_or_default();
                let table = match self.known_table(&parsed, name) {
                    Ok(table) => table,
                    Err(failure) => return Err(Box::new((waiting, failure))),
                };
                let at = self.new_entry(text, false);
                let mut busy = Busy {
                    entry: self.entries[at].number,
                    statement: format!("select * from {table}"),
                    waiting,
                    doing: Doing::Statement(Effect::Read),
                };
                if parsed.command.name == "sample" {
                    let count = parsed.argument(1).unwrap_or("10");
                    busy.statement.push_str(&format!(" limit {count}"));
                } else {
                    busy.doing = Doing::Figures(Arc::default());
                }
                self.start_statement(busy);
            }
            "again" => match self.statement_of(parsed.argument(0)) {
                Ok(statement) => {
                    let is_command = statement.starts_with('/') && !statement.starts_with("/*");
                    self.queue.push_front(Waiting {
                        span: 0..statement.len(),
                        submission: statement.into(),
                        is_command,
                        before: 0,
                    });
                }
                Err(failure) => return Err(Box::new((waiting, failure))),
            },
            "writes" => return self.set_writes(waiting, text, &parsed),
            _ => {
                if let Err(failure) = self.view_command(&parsed, text) {
                    return Err(Box::new((waiting, failure)));
                }
            }
        }
        Ok(())
    }

    /// The table that a command names, quoted for a statement; nearly right names are offered.
    fn known_table(&self, parsed: &Parsed, name: &str) -> Result<String, Failure> {
        if let Some(object) = self.catalog.table(name) {
            let quoted = self.dialect.quote_name(&object.name);
            return Ok(if object.schema == "main" {
                quoted
            } else {
                format!("{}.{quoted}", self.dialect.quote_name(&object.schema))
            });
        }
        Err(self.no_such_object(parsed, name))
    }

    fn no_such_object(&self, parsed: &Parsed, name: &str) -> Failure {
        let names = self
            .catalog
            .objects
            .iter()
            .filter(|o| !o.helper)
            .map(|o| o.name.as_str());
        let span = parsed
            .arguments
            .first()
            .map_or(0..0, |part| part.span.clone());
        failure::of_command(&command::CommandError {
            message: format!("There is no table or view {name}."),
            span,
            nearest: idle_tide_lang::correct::nearest(name, names, 4),
        })
    }

    /// The statement of an entry by number, or of the one shown.
    pub(crate) fn statement_of(&self, number: Option<&str>) -> Result<String, Failure> {
        let entry = match number {
            Some(number) => {
                let found = number.parse().ok().and_then(|n: u32| self.place_of(n));
                found.and_then(|at| self.entries.get(at)).ok_or_else(|| {
                    failure::plain(format!(
                        "There is no entry {number}; there are {} so far.",
                        self.entries.len()
                    ))
                })?
            }
            None => self
                .entry()
                .ok_or_else(|| failure::plain("There is no entry yet."))?,
        };
        if entry.text == "arrival" {
            return Err(failure::plain(
                "The arrival card is no statement. Show an entry that is one, or name its number.",
            ));
        }
        Ok(entry.text.clone())
    }

    fn set_writes(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: &Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        let Some(word) = parsed.argument(0) else {
            let words = arrival::writes_words(self.writes, &self.bearings.access);
            self.say(format!("This session {words}."), Tone::Plain);
            return Ok(());
        };
        let wanted = match word.to_ascii_lowercase().as_str() {
            "free" => Writes::Free,
            "none" => Writes::None,
            _ => Writes::Ask,
        };
        if let (Access::ReadOnly(why), false) = (&self.bearings.access, wanted == Writes::None) {
            let failure = failure::plain(why.clone());
            return Err(Box::new((waiting, failure)));
        }
        let at = self.new_entry(text, false);
        self.entries[at].state = State::Running;
        self.busy = Some(Busy {
            entry: self.entries[at].number,
            statement: String::new(),
            waiting,
            doing: Doing::Refusing(wanted),
        });
        self.worker.send(Job::RefuseWrites(wanted == Writes::None));
        Ok(())
    }

    fn prepare_statement(&mut self, waiting: Waiting, text: String) {
        let about = summary(&text, self.dialect);
        let at = self.new_entry(&text, true);
        let entry = self.entries[at].number;
        let mut busy = Busy {
            entry,
            statement: text,
            waiting,
            doing: Doing::Statement(about.effect),
        };
        let writable = self.bearings.access == Access::Writable;
        if let (Some(sweep), Writes::Ask, true) = (about.sweep, self.writes, writable) {
            let counts = guard::counts(&sweep, &self.catalog, self.dialect);
            self.entries[at].state = State::Asking;
            self.worker.send(Job::Count {
                ticket: u64::from(entry),
                questions: counts.iter().map(|count| count.query.clone()).collect(),
            });
            busy.doing = Doing::Counting(sweep, counts);
            self.busy = Some(busy);
            return;
        }
        self.start_statement(busy);
    }

    fn start_statement(&mut self, mut busy: Busy) {
        let Some(at) = self.place_of(busy.entry) else {
            return;
        };
        if matches!(busy.doing, Doing::Asking | Doing::Counting(..)) {
            busy.doing = Doing::Statement(summary(&busy.statement, self.dialect).effect);
        }
        let ticket = u64::from(busy.entry);
        let sink: Box<dyn Sink + Send> = match (&busy.doing, &mut self.stream) {
            (Doing::Figures(columns), _) => Box::new(IntoFigures {
                columns: Arc::clone(columns),
            }),
            (_, Some(make)) => make(),
            (_, None) => {
                let set = Arc::new(RwLock::new(ResultSet::of_rows(Vec::new(), Vec::new())));
                self.entries[at].content = Content::Rows(Sheet::new(Arc::clone(&set)));
                Box::new(IntoResult {
                    set,
                    budget: Arc::clone(&self.memory),
                    own_limit: RESULT_MEMORY,
                    ticket,
                    notify: Arc::clone(&self.notify),
                })
            }
        };
        self.entries[at].state = State::Running;
        self.entries[at].started = Some(Instant::now());
        self.worker.send(Job::Run {
            ticket,
            statement: busy.statement.clone(),
            sink,
        });
        self.busy = Some(busy);
    }

    /// Ends an entry as refused; its text and the rest of its submission go back into the composer.
    fn fail(&mut self, number: u32, waiting: &Waiting, failure: Failure) {
        let corrections = failure.corrections.clone();
        let place = failure.place.clone();
        self.end_entry(number, State::Failed, Content::Failure(failure));
        self.give_back(waiting, place, corrections);
    }

    fn give_back(
        &mut self,
        waiting: &Waiting,
        place: Option<std::ops::Range<usize>>,
        corrections: Vec<Correction>,
    ) {
        // The rest of the submission does not run.
        self.queue
            .retain(|other| !Arc::ptr_eq(&other.submission, &waiting.submission));
        self.returned = Some(Returned {
            text: waiting.submission[waiting.span.start..]
                .trim_end()
                .to_string(),
            place,
            corrections,
        });
    }

    fn read_catalog(&self) {
        self.worker.send(Job::Catalog { limit: COUNTING });
    }

    /// Answers an event.
    pub fn handle(&mut self, event: Event) {
        match event {
            Event::Started { .. } => {}
            Event::Rows { ticket } => self.rows_arrived(ticket),
            Event::Done {
                ticket,
                result,
                took,
                bearings,
            } => {
                self.bearings = *bearings;
                self.statement_ended(ticket, result, took);
            }
            Event::Catalog(read) => self.catalog_read(read),
            Event::Counted { ticket, counts } => self.counted(ticket, &counts),
            Event::Refusing(done) => self.writes_set(done),
            Event::Arranged {
                entry,
                order,
                filter,
                rows,
            } => {
                self.arranged(entry, order, filter, rows);
            }
            Event::Figures {
                entry,
                column,
                figures,
            } => {
                if let Some(watched) = &mut self.watched
                    && (watched.entry, watched.column) == (entry, column)
                {
                    watched.figures = Some(*figures);
                }
            }
            Event::Exported(done) => {
                self.exporting = false;
                self.notice = Some(match done {
                    Ok(text) => Notice {
                        text,
                        tone: Tone::Active,
                    },
                    Err(text) => Notice {
                        text,
                        tone: Tone::Danger,
                    },
                });
            }
        }
        self.pump();
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

    fn rows_arrived(&mut self, ticket: u64) {
        if let Some(at) = self.place_of(ticket as u32)
            && let Content::Rows(sheet) = &mut self.entries[at].content
        {
            sheet.meet_columns();
        }
        let disk = |entry: &Entry| entry.sheet().map_or(0, |sheet| read(&sheet.set).on_disk());
        let used: u64 = self.entries.iter().map(disk).sum();
        if used <= DISK {
            return;
        }
        // The oldest result that is neither shown nor arriving gives up its rows.
        let current = self.current;
        let oldest = self.entries.iter().enumerate().position(|(at, entry)| {
            at != current && entry.state != State::Running && disk(entry) > 0
        });
        match oldest.and_then(|at| self.entries[at].sheet_mut()) {
            Some(sheet) => {
                let columns = read(&sheet.set).columns().to_vec();
                let empty = ResultSet::of_rows(columns, Vec::new());
                sheet.set = Arc::new(RwLock::new(empty));
                sheet.view.rows = None;
                sheet.given_up = true;
            }
            None => {
                self.worker.control.cancel(ticket);
                self.say("Results may use 2.0 GB of disk, and this one does: it was stopped there. Its rows so far are kept.", Tone::Care);
            }
        }
    }

    fn statement_ended(
        &mut self,
        ticket: u64,
        result: Result<Outcome, EngineError>,
        took: Duration,
    ) {
        let number = ticket as u32;
        if self.busy.as_ref().is_none_or(|busy| busy.entry != number) {
            return;
        }
        let (Some(busy), Some(at)) = (self.busy.take(), self.place_of(number)) else {
            return;
        };
        self.entries[at].took = Some(took);
        let kept = match &self.entries[at].content {
            Content::Rows(sheet) if !sheet.labels.is_empty() => Some(sheet.clone()),
            _ => None,
        };
        let effect = match busy.doing {
            Doing::Statement(effect) => effect,
            _ => Effect::Read,
        };
        match result {
            Ok(outcome) => {
                let content = match (&busy.doing, kept) {
                    (Doing::Figures(gathered), _) => {
                        let gathered = gathered.read();
                        let set = about::figures(&gathered);
                        Content::Rows(Sheet::new(Arc::new(RwLock::new(set))))
                    }
                    (_, Some(sheet)) => Content::Rows(sheet),
                    _ if outcome.returns_rows => Content::Nothing,
                    _ => Content::Page(self.message(&busy.statement, &outcome)),
                };
                if let Some(note) = outcome.notes.first() {
                    self.say(note.clone(), Tone::Care);
                }
                self.entries[at].outcome = Some(outcome);
                self.end_entry(number, State::Done, content);
            }
            Err(error) if error.fault == Fault::Cancelled => {
                let content = kept.map_or_else(
                    || {
                        let mut page = Page::new();
                        page.say(Tone::Heading, "It was stopped. Nothing was changed.");
                        Content::Page(page)
                    },
                    Content::Rows,
                );
                self.end_entry(number, State::Stopped, content);
                let rest = busy.waiting.submission[busy.waiting.span.end..]
                    .trim()
                    .to_string();
                self.queue
                    .retain(|other| !Arc::ptr_eq(&other.submission, &busy.waiting.submission));
                if !rest.is_empty() {
                    self.returned = Some(Returned {
                        text: rest,
                        ..Returned::default()
                    });
                }
            }
            Err(error) => {
                let failure = failure::of_statement(
                    &busy.statement,
                    &error,
                    &self.catalog,
                    self.dialect,
                    self.bearings.transaction.is_some(),
                    busy.waiting.before,
                );
                match kept.filter(|sheet| !read(&sheet.set).is_empty()) {
                    // Rows that came before the error stay.
                    Some(sheet) => {
                        self.say(
                            format!("It ended early: {}", failure.headline),
                            Tone::Danger,
                        );
                        self.end_entry(number, State::Failed, Content::Rows(sheet));
                        self.give_back(&busy.waiting, failure.place, failure.corrections);
                    }
                    None => self.fail(number, &busy.waiting, failure),
                }
            }
        }
        // Rows counted before would be wrong now.
        if matches!(
            effect,
            Effect::Definition | Effect::Write | Effect::Transaction | Effect::Other
        ) && self.stream.is_none()
        {
            self.read_catalog();
        }
    }

    /// What was made or changed, in words and numbers.
    fn message(&self, statement: &str, outcome: &Outcome) -> Page {
        let about = summary(statement, self.dialect);
        let mut page = Page::new();
        let target = about.target.unwrap_or_default();
        let rows = |count: u64| idle_tide_draw::picture::counted(count, "row");
        let headline = match (about.verb.as_str(), outcome.changed) {
            ("insert" | "replace", Some(count)) => {
                format!("{} inserted into {target}.", rows(count))
            }
            ("update", Some(count)) => format!("{} of {target} changed.", rows(count)),
            ("delete", Some(count)) => format!("{} deleted from {target}.", rows(count)),
            ("create", _) => format!("{target} was made."),
            ("alter", _) => format!("{target} was altered."),
            ("drop", _) => format!("{target} was removed."),
            ("begin" | "savepoint", _) => "A transaction is open.".to_string(),
            ("commit" | "end", _) => "What the transaction changed is kept.".to_string(),
            ("rollback", _) => "What the transaction changed is taken back.".to_string(),
            _ => "Done.".to_string(),
        };
        page.say(Tone::Heading, headline);
        if let Some(key) = outcome.new_key {
            page.gap();
            page.line(
                Line::new()
                    .column(Tone::Faint, "new key", 10)
                    .and(Tone::Number, key.to_string()),
            );
        }
        if about.verb == "begin" {
            page.gap();
            page.say(
                Tone::Faint,
                "commit; keeps what follows, rollback; takes it back.",
            );
        }
        page
    }

    fn catalog_read(&mut self, read: Result<Box<Catalog>, EngineError>) {
        let catalog = match read {
            Ok(catalog) => {
                self.catalog = Arc::from(catalog);
                Arc::clone(&self.catalog)
            }
            Err(error) => {
                self.say(
                    format!("The catalog could not be read: {}", error.message),
                    Tone::Danger,
                );
                Arc::clone(&self.catalog)
            }
        };
        if !self.catalog_known {
            self.catalog_known = true;
            self.fill_arrival(&catalog);
        }
        if !matches!(
            &self.busy,
            Some(Busy {
                doing: Doing::Catalog(_),
                ..
            })
        ) {
            return;
        }
        let Some(Busy {
            entry,
            waiting,
            doing: Doing::Catalog(parsed),
            ..
        }) = self.busy.take()
        else {
            return;
        };
        let sheet = |set| Content::Rows(Sheet::new(Arc::new(RwLock::new(set))));
        let pattern = parsed.argument(0).unwrap_or("*");
        let content = match parsed.command.name {
            "tables" => sheet(about::list(&catalog, false, pattern, parsed.has("full"))),
            "views" => sheet(about::list(&catalog, true, pattern, parsed.has("full"))),
            "indexes" => sheet(about::indexes(&catalog, pattern)),
            name => {
                let object = parsed.argument(0).map(|name| {
                    catalog.table(name).or_else(|| {
                        catalog
                            .objects
                            .iter()
                            .find(|o| o.name.eq_ignore_ascii_case(name))
                    })
                });
                match object {
                    Some(None) => {
                        let failure = self.no_such_object(&parsed, pattern);
                        self.fail(entry, &waiting, failure);
                        return;
                    }
                    Some(Some(object)) if name == "about" => {
                        Content::Page(about::object_page(object, &catalog, self.dialect))
                    }
                    object => Content::Page(about::definition_page(
                        object.flatten(),
                        &catalog,
                        self.dialect,
                    )),
                }
            }
        };
        self.end_entry(entry, State::Done, content);
    }

    fn fill_arrival(&mut self, catalog: &Catalog) {
        let Some(at) = self
            .entries
            .iter()
            .position(|entry| entry.text == "arrival")
        else {
            return;
        };
        let now = Visit {
            at: SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .map_or(0, |since| since.as_secs()),
            server: format!("{} {}", self.bearings.family, self.bearings.version),
            place: self
                .bearings
                .place
                .clone()
                .unwrap_or_else(|| "memory".into()),
            tables: catalog.tables().count() as u64,
        };
        let last = self
            .places
            .as_ref()
            .and_then(|places| visit(&places.visits, &self.source, &now).unwrap_or_default());
        let page = arrival::card(
            &self.source,
            &self.bearings,
            self.writes,
            catalog,
            last.as_ref(),
            &now,
        );
        let number = self.entries[at].number;
        self.end_entry(number, State::Done, Content::Page(page));
    }

    fn counted(&mut self, ticket: u64, answers: &[Option<u64>]) {
        let Some(busy) = self.busy.take_if(|busy| u64::from(busy.entry) == ticket) else {
            return;
        };
        let question = match &busy.doing {
            Doing::Counting(sweep, counts) => {
                guard::question(sweep, counts, answers, &self.catalog)
            }
            _ => None,
        };
        match question {
            // What cannot be counted is not there; the server says so itself.
            None => self.start_statement(busy),
            Some(question) => {
                if let Some(at) = self.place_of(busy.entry) {
                    self.entries[at].content = Content::Page(question.page.clone());
                }
                self.question = Some(question);
                self.busy = Some(Busy {
                    doing: Doing::Asking,
                    ..busy
                });
            }
        }
    }

    fn writes_set(&mut self, done: Result<bool, EngineError>) {
        let Some(Busy {
            entry,
            waiting,
            doing: Doing::Refusing(wanted),
            ..
        }) = self
            .busy
            .take_if(|busy| matches!(busy.doing, Doing::Refusing(_)))
        else {
            return;
        };
        if let Err(error) = done {
            let failure =
                failure::plain(format!("The engine does not do that: {}.", error.message));
            self.fail(entry, &waiting, failure);
            return;
        }
        self.writes = wanted;
        let mut page = Page::new();
        page.say(
            Tone::Heading,
            format!(
                "This session {}.",
                arrival::writes_words(wanted, &self.bearings.access)
            ),
        );
        page.gap();
        page.say(Tone::Faint, match wanted {
            Writes::None => "The engine itself refuses every write, whatever the statement looks like.",
            Writes::Free => "Every statement runs at once, also one that deletes everything.",
            Writes::Ask => "An update or delete of every row and every drop are asked about, with their numbers. Other writes run at once.",
        });
        self.end_entry(entry, State::Done, Content::Page(page));
    }

    fn arranged(
        &mut self,
        entry: u32,
        order: Option<(usize, bool)>,
        filter: Option<String>,
        rows: Result<Option<Arc<Vec<u32>>>, String>,
    ) {
        let Some(sheet) = self
            .place_of(entry)
            .and_then(|at| self.entries[at].sheet_mut())
        else {
            return;
        };
        sheet.working = None;
        match rows {
            Ok(rows) => {
                let all = read(&sheet.set).len();
                let words = match (&rows, &filter) {
                    (Some(rows), Some(filter)) => Some(format!(
                        "{} of {} rows: {filter}",
                        idle_tide_draw::picture::grouped(rows.len() as u64),
                        idle_tide_draw::picture::grouped(all)
                    )),
                    _ => None,
                };
                sheet.view.order = order;
                sheet.view.filter = filter;
                sheet.view.rows = rows;
                if let Some(words) = words {
                    self.say(words, Tone::Active);
                }
            }
            Err(message) => self.say(message, Tone::Danger),
        }
    }
}
