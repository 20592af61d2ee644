//! The desk itself: which session gets its turn, which task an event belongs to, and what becomes of its entry. It
//! runs in one thread and never waits; what a command does is in `verbs`, what is done elsewhere in tasks.

mod acts;
mod away;
mod doors;
mod next;
mod state;

use std::sync::Arc;
use std::time::{Duration, Instant};

use idle_tide_core::limits::Limit;
use idle_tide_core::result::Budget;
use idle_tide_engines::{Bearings, Connection, EngineError, Idle};
use idle_tide_lang::Dialect;
use idle_tide_lang::command;
use idle_tide_lang::elsewhere;
use idle_tide_lang::split::{PieceKind, pieces};

use crate::ask::{Asked, Wanted};
use crate::catalog::ReadCatalog;
use crate::covering::Covering;
use crate::draft::Drafts;
use crate::entries::Entries;
use crate::entry::{Content, State};
use crate::face::{Notice, Returned};
use crate::failure;
use crate::held;
use crate::history::History;
use crate::page::{Page, Tone};
use crate::session::{
    Asking, Away, Busy, Doing, Event, Job, MakeSink, Next, Notify, Services, Session, To, Turn,
    Waiting,
};
use crate::settings::{Places, Settings, Writes};
use crate::sheet::Sheet;
use crate::task::{Lane, Progress, SessionId, TaskId, fault};
use crate::verbs::{self, statement};
use crate::worker::{Errand, free};

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

/// The sessions, the entries of all, and what they share.
pub struct Desk {
    /// The first is no source at all; it is worked with while nothing else is open.
    sessions: Vec<Session>,
    /// Where the session stands that is worked with.
    here: usize,
    entries: Entries,
    services: Services,
    notify: Notify,
    next_session: SessionId,
    next_task: TaskId,
}

impl Desk {
    /// A desk with a session on an open connection. Events reach [`Desk::handle`] by way of `notify`.
    pub fn new(connection: Box<dyn Connection>, options: Options, notify: Notify) -> Self {
        let name = options.source.clone();
        let mut desk = Self::empty(options, notify);
        let writes = desk.services.default_writes;
        desk.next_session = 1;
        desk.sessions
            .push(Session::new(1, connection, name, writes, &desk.notify));
        desk.here = 1;
        if writes == Writes::None {
            desk.start(1, Box::new(verbs::writes::Refuse::at_first()));
        }
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
        let settings = options
            .places
            .as_ref()
            .map(|places| Settings::read(&places.settings));
        let settings = settings.and_then(Result::ok).unwrap_or_default();
        let covered = settings.covered;
        Desk {
            sessions: vec![Session::nowhere(options.writes)],
            here: 0,
            entries: Entries::default(),
            services: Services {
                drafts: options
                    .places
                    .as_ref()
                    .map(|places| Drafts::new(&places.drafts)),
                holds: options
                    .places
                    .as_ref()
                    .map(|places| Drafts::new(&places.holds)),
                places: options.places,
                history,
                notice: trouble.map(|text| Notice {
                    text,
                    tone: Tone::Care,
                }),
                memory: Budget::new(Limit::ResultsMemory.value()),
                stream: options.stream,
                diary: None,
                default_writes: options.writes,
                covering: Covering::of(covered),
                found: Default::default(),
                looking: false,
                watched: None,
                lent: Vec::new(),
                script: idle_tide_dock::flow::script::State::default(),
                practice: None,
            },
            notify,
            next_session: 0,
            next_task: 0,
        }
    }

    /// Takes what was typed: statements and commands, run in order. Secrets in it are covered at once.
    pub fn submit(&mut self, text: &str) {
        self.services.notice = None;
        self.submit_in(self.here, text);
    }

    fn submit_in(&mut self, at: usize, text: &str) {
        let typed: Arc<str> = match elsewhere::bare_word(text) {
            Some(command) => command.into(),
            None => text.into(),
        };
        let session = &self.sessions[at];
        if let Some(command) = with_rows(&typed) {
            // Rows that are pasted are no statement to be had again.
            let kept = self.services.history.add(&session.source, command);
            if let Err(error) = kept {
                self.say(
                    format!("The command could not be kept: {error}."),
                    Tone::Care,
                );
            }
            return self.enqueue(at, vec![Waiting::alone(&typed, true)]);
        }
        let covered = statement::cover(&typed, session.dialect);
        if let Err(error) = self.services.history.add(&session.source, &covered.text) {
            let words = format!("The statement could not be kept for later sessions: {error}.");
            self.say(words, Tone::Care);
        }
        let session = &self.sessions[at];
        let mut before = 0;
        let mut list = Vec::new();
        for piece in pieces(&covered.text, session.dialect) {
            if !piece.has_code {
                continue;
            }
            let is_command = piece.kind == PieceKind::Command;
            list.push(Waiting {
                span: piece.start as usize..piece.end as usize,
                submission: Arc::clone(&covered.text),
                is_command,
                before,
                given: Arc::clone(&covered.given),
                password: covered.password.clone(),
                ..Waiting::alone("", is_command)
            });
            before += usize::from(!is_command);
        }
        self.enqueue(at, list);
    }

    /// Runs one statement or command that was already cut out; of its parameters those are not asked for whose names and
    /// literals are `given`.
    pub fn submit_piece(&mut self, text: &str, is_command: bool, given: crate::session::Secrets) {
        let covered = statement::cover(text, self.sessions[self.here].dialect);
        let mut all = given;
        all.extend(covered.given.iter().cloned());
        let waiting = Waiting {
            given: Arc::new(all),
            password: covered.password,
            ..Waiting::alone(&covered.text, is_command)
        };
        self.enqueue(self.here, vec![waiting]);
    }

    /// Puts pieces behind what waits in a session. What is shown now is what the first of them is about,
    /// unless something else comes before it.
    fn enqueue(&mut self, at: usize, mut list: Vec<Waiting>) {
        let session = &mut self.sessions[at];
        if let (Some(first), true) = (list.first_mut(), session.queue.is_empty()) {
            first.shown = self.entries.shown().map(|entry| entry.number);
        }
        session.queue.extend(list);
        self.settle();
    }

    /// Answers an event.
    pub fn handle(&mut self, event: Event) {
        match event {
            Event::Progress(session, task, progress) => self.progress(session, task, progress),
            Event::NotThere {
                session,
                task,
                work,
            } => self.not_there(session, task, work),
            Event::Ended {
                session,
                task,
                work,
                how,
                took,
                bearings,
            } => self.ended(session, task, work, how, took, bearings),
            Event::Idle(session, idle) => self.heard(session, idle),
        }
        self.settle();
    }

    fn place_of(&self, session: SessionId) -> Option<usize> {
        self.sessions.iter().position(|s| s.number == session)
    }

    /// A turn of a session for a piece of a submission.
    fn turn<'a>(&'a mut self, at: usize, waiting: &'a Waiting, entry: Option<u32>) -> Turn<'a> {
        let session = &mut self.sessions[at];
        let shown = waiting
            .shown
            .or_else(|| self.entries.latest_of(session.number));
        Turn {
            front: at == self.here,
            session,
            entries: &mut self.entries,
            services: &mut self.services,
            waiting,
            entry,
            shown,
        }
    }

    /// Starts what was left to start, and what waits for its turn, in every session.
    fn settle(&mut self) {
        let mut at = 0;
        while at < self.sessions.len() {
            for job in std::mem::take(&mut self.sessions[at].starts) {
                self.start(at, job);
            }
            self.notice_what_is_gone(at);
            let session = &mut self.sessions[at];
            // What is being kept or taken back comes first.
            let settles = session.held.as_ref().is_some_and(|held| held.settling);
            if session.busy.is_none()
                && !settles
                && let Some(waiting) = session.queue.pop_front()
            {
                self.begin(at, waiting);
                // What it did may have changed which sessions there are.
                at = 0;
            } else {
                at += 1;
            }
        }
        self.record();
    }

    /// Puts what has ended into the diary, in its order.
    fn record(&mut self) {
        let Some(diary) = &mut self.services.diary else {
            return;
        };
        while let Some(entry) = self.entries.all().get(diary.at) {
            if entry.session == diary.session {
                if !crate::diary::has_ended(entry) {
                    break;
                }
                let session = self.sessions.iter().find(|s| s.number == entry.session);
                let dialect = session.map_or(&idle_tide_lang::dialect::SQLITE, |s| s.dialect);
                diary.add(entry, dialect);
            }
            diary.at += 1;
        }
        if let Some(words) = diary.trouble() {
            self.say(words, Tone::Danger);
        }
    }

    /// A change that was held goes with its connection or its transaction.
    fn notice_what_is_gone(&mut self, at: usize) {
        let session = &self.sessions[at];
        let holds = session.held.as_ref().is_some_and(|held| !held.settling);
        let open = session.bearings.transaction.is_some() && !session.lost;
        if holds && !open && session.busy.is_none() {
            held::gone(&mut self.turn(at, &Waiting::alone("", true), None));
        }
    }

    /// Begins a piece of a submission.
    fn begin(&mut self, at: usize, waiting: Waiting) {
        let text = waiting.text().to_string();
        let session = &self.sessions[at];
        tracing::info!(session = session.number, source = ?session.source, ?text, "begins");
        let mut turn = self.turn(at, &waiting, None);
        let next = if waiting.is_command && text.starts_with('=') {
            crate::verbs::script::start(&mut turn, &text)
        } else if waiting.is_command {
            // What stands below a command is for it, and no part of it.
            match command::parse(text.lines().next().unwrap_or_default()) {
                Ok(parsed) => verbs::begin(&mut turn, parsed),
                Err(error) => failure::of_command(&error).into(),
            }
        } else {
            turn.make_entry(&text, true);
            statement::start(&mut turn, text)
        };
        let entry = turn.entry;
        self.apply(at, waiting, entry, next);
    }

    /// Makes the arrival card the first entry and reads the catalog.
    pub fn arrive(&mut self) {
        let waiting = Waiting::alone("", true);
        let at = self.here;
        let mut turn = self.turn(at, &waiting, None);
        let number = turn.make_entry("arrival", false);
        turn.show_state(State::Running, None);
        turn.session.arriving = Some(number);
        turn.start(ReadCatalog::behind());
        self.settle();
    }
}

/// The command of a text that is a load of the rows below it.
fn with_rows(text: &str) -> Option<&str> {
    let (command, rows) = text.trim_start().split_once('\n')?;
    let mut words = command.split_whitespace();
    let loads = words.next() == Some("/load") && words.next() == Some("-");
    (loads && !rows.trim().is_empty()).then_some(command)
}
