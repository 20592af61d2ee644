//! Opening sources, closing them, going from one to another, and what has to be asked on the way. Opening
//! runs in a thread of its own; what it asks comes here and is put to the user.

use std::sync::mpsc::Sender;

use idle_tide_engines::address::Secrets;
use idle_tide_engines::{
    Ask, Connection, EngineError, OpenError, OpenOptions, Overrides, Sink, Source, Trouble, open,
};
use idle_tide_lang::parameter::{Parameter, typed_literal};
use secrecy::SecretString;

use super::session::{Beside, Origin, Session};
use super::*;
use crate::sources;
use crate::worker::{Asked, Opened};

/// What is asked with hidden input, or to be allowed.
pub struct Asking {
    /// What is asked.
    pub what: String,
    /// Further words.
    pub details: Vec<String>,
    /// What the answer is.
    pub wanted: Wanted,
    to: To,
}

/// What an answer is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// A text that shows nowhere.
    Secret,
    /// A text.
    Value,
    /// Yes or no.
    Consent,
}

/// Who wants the answer.
enum To {
    OpenerSecret(u32, Sender<Option<SecretString>>),
    OpenerAllow(Sender<bool>),
    /// A parameter of the statement that waits.
    Parameter(Parameter),
    /// The new password, for the first time or once more.
    NewPassword(Option<SecretString>),
}

/// How what is opened takes its place.
#[derive(Debug, Clone)]
pub(super) enum How {
    /// Beside what is open.
    New,
    /// In the place of the current session. What is there to be restored is.
    Instead {
        /// Database, role and settings are restored.
        restore: bool,
        /// What was there comes back with /back.
        keep: bool,
    },
}

/// A source that is being opened.
pub(super) struct Opening {
    number: u32,
    entry: u32,
    waiting: Waiting,
    origin: Origin,
    how: How,
}

/// A statement that waits for its parameters.
pub(super) struct Filling {
    pub(super) busy: Busy,
    pub(super) missing: Vec<Parameter>,
}

/// Passes questions on to the desk's thread.
struct Asker {
    number: u32,
    notify: Notify,
}

impl Ask for Asker {
    fn secret(&self, what: &str) -> Option<SecretString> {
        let (reply, answer) = std::sync::mpsc::channel();
        (self.notify)(Event::Asks(self.number, Asked::Secret(what.into(), reply)));
        answer.recv().ok()?
    }

    fn allow(&self, question: &str, details: &[String]) -> bool {
        let (reply, answer) = std::sync::mpsc::channel();
        let asked = Asked::Allow(question.into(), details.to_vec(), reply);
        (self.notify)(Event::Asks(self.number, asked));
        answer.recv().unwrap_or(false)
    }

    fn tell(&self, word: &str) {
        (self.notify)(Event::Asks(self.number, Asked::Word(word.into())));
    }
}

/// Takes nothing.
struct Nowhere;

impl Sink for Nowhere {
    fn columns(&mut self, _: Vec<Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: idle_tide_core::RowBatch) -> std::io::Result<()> {
        Ok(())
    }
}

/// Brings a new connection to where the one before was.
fn restore(
    connection: &mut dyn Connection,
    bearings: &Bearings,
    settings: &[String],
) -> Result<(), EngineError> {
    connection.follow(bearings)?;
    for statement in settings {
        connection.run(u64::from(u32::MAX), statement, &mut Nowhere)?;
    }
    Ok(())
}

impl Desk {
    /// All sessions, the current one first.
    pub fn sessions(&self) -> impl Iterator<Item = &Session> {
        std::iter::once(&self.here)
            .chain(&self.others)
            .filter(|session| !session.is_nowhere())
    }

    /// The current session.
    pub fn session(&self) -> &Session {
        &self.here
    }

    /// Makes another session the current one.
    pub fn go_to(&mut self, number: u32) {
        // What is being opened or asked belongs to the session that is here.
        if self.opening.is_some() || self.filling.is_some() || !self.asking.is_empty() {
            self.say(
                "Something is being opened or asked here; finish it first, or stop it with Ctrl-C.",
                Tone::Care,
            );
            return;
        }
        if let Some(at) = self
            .others
            .iter()
            .position(|session| session.number == number)
        {
            std::mem::swap(&mut self.here, &mut self.others[at]);
            let latest = self
                .entries
                .iter()
                .rposition(|entry| entry.session == number);
            self.current = latest.unwrap_or(self.current);
            self.pump();
        }
    }

    /// What is asked with hidden input, or to be allowed, first.
    pub fn asking(&self) -> Option<&Asking> {
        self.asking.front()
    }

    /// Whether a source is being opened; its name.
    pub fn opening(&self) -> Option<&str> {
        self.opening
            .as_ref()
            .map(|opening| opening.origin.name.as_str())
    }

    /// Answers a question for a secret or a value; `None` goes no further.
    pub fn answer_secret(&mut self, secret: Option<SecretString>) {
        let Some(asking) = self.asking.pop_front() else {
            return;
        };
        match (asking.to, secret) {
            (To::OpenerSecret(number, reply), secret) => {
                let on = self.opening.as_ref().is_some_and(|o| o.number == number);
                if secret.is_none() && on {
                    self.cancel_opening();
                }
                // One that was given up listens no longer.
                let _ = reply.send(secret);
            }
            (To::OpenerAllow(reply), _) => drop(reply.send(false)),
            (To::Parameter(parameter), Some(given)) => self.parameter_given(&parameter, given),
            (To::Parameter(_), None) => {
                self.asking
                    .retain(|asking| !matches!(asking.to, To::Parameter(_)));
                if let Some(filling) = self.filling.take() {
                    self.not_run(&filling.busy);
                    self.pump();
                }
            }
            (To::NewPassword(None), Some(first)) => self.asking.push_back(Asking {
                what: "The new password once more".into(),
                details: Vec::new(),
                wanted: Wanted::Secret,
                to: To::NewPassword(Some(first)),
            }),
            (To::NewPassword(Some(first)), Some(second)) => self.new_password(&first, second),
            (To::NewPassword(_), None) => {
                if let Some(busy) = self.here.busy.take() {
                    self.not_run(&busy);
                }
                self.pump();
            }
        }
    }

    /// Answers whether to go on.
    pub fn answer_allow(&mut self, yes: bool) {
        let Some(asking) = self.asking.pop_front() else {
            return;
        };
        match asking.to {
            To::OpenerAllow(reply) => drop(reply.send(yes)),
            to => {
                self.asking.push_front(Asking { to, ..asking });
                self.answer_secret(None);
            }
        }
    }

    pub(super) fn asks(&mut self, number: u32, asked: Asked) {
        // One that was given up is told so by the end of its channel.
        if self
            .opening
            .as_ref()
            .is_none_or(|opening| opening.number != number)
        {
            return;
        }
        let (what, details, wanted, to) = match asked {
            Asked::Secret(what, reply) => {
                let to = To::OpenerSecret(number, reply);
                (what, Vec::new(), Wanted::Secret, to)
            }
            Asked::Allow(what, details, reply) => {
                (what, details, Wanted::Consent, To::OpenerAllow(reply))
            }
            Asked::Word(word) => return self.say(format!("{word}."), Tone::Care),
        };
        self.asking.push_back(Asking {
            what,
            details,
            wanted,
            to,
        });
    }

    /// Asks for the parameters of a statement.
    pub(super) fn ask_parameters(&mut self, filling: Filling) {
        for parameter in &filling.missing {
            let name = &parameter.name;
            self.asking.push_back(match parameter.hidden {
                true => Asking {
                    what: format!("Value of :?{name}"),
                    details: Vec::new(),
                    wanted: Wanted::Secret,
                    to: To::Parameter(parameter.clone()),
                },
                false => Asking {
                    what: format!("Value of :{name}"),
                    details: vec![
                        "A number, true, false, null, date '2031-03-01', a list [1, 2] as they are written in flows; anything else is a text.".into(),
                    ],
                    wanted: Wanted::Value,
                    to: To::Parameter(parameter.clone()),
                },
            });
        }
        self.filling = Some(filling);
    }

    fn parameter_given(&mut self, parameter: &Parameter, given: SecretString) {
        let Some(filling) = &mut self.filling else {
            return;
        };
        use secrecy::ExposeSecret;
        let typed = given.expose_secret();
        let literal = match parameter.hidden {
            true => self.here.dialect.quote_text(typed),
            false => typed_literal(typed, self.here.dialect),
        };
        filling
            .busy
            .secrets
            .push((parameter.name.clone(), literal.into()));
        filling.missing.retain(|missing| missing != parameter);
        if filling.missing.is_empty()
            && let Some(Filling { busy, .. }) = self.filling.take()
        {
            if parameter.hidden {
                self.say(
                    "What you gave was put into the statement as a text, quoted by the rules of the server.",
                    Tone::Faint,
                );
            }
            self.fill_and_check(busy);
        }
    }

    fn new_password(&mut self, first: &SecretString, second: SecretString) {
        use secrecy::ExposeSecret;
        let Some(busy) = self.here.busy.take() else {
            return;
        };
        let why = if first.expose_secret() != second.expose_secret() {
            Some("The two passwords were not the same.")
        } else if second.expose_secret().is_empty() {
            Some("An empty password was not set.")
        } else {
            None
        };
        if let Some(why) = why {
            self.fail(
                busy.entry,
                &busy.waiting,
                failure::plain(format!("{why} The old one is still yours.")),
            );
            self.pump();
            return;
        }
        self.here.worker.send(Job::ChangePassword(second));
        self.here.busy = Some(busy);
    }

    pub(super) fn ask_new_password(
        &mut self,
        waiting: Waiting,
        text: &str,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        if self.here.bearings.server.is_none() {
            let words = failure::plain("A file has no users, so there is no password to change.");
            return Err(Box::new((waiting, words)));
        }
        let at = self.new_entry(text, false);
        self.entries[at].state = State::Asking;
        let user = self
            .here
            .bearings
            .server
            .as_ref()
            .map(|s| s.user.clone())
            .unwrap_or_default();
        self.asking.push_back(Asking {
            what: format!("The new password of {user}"),
            details: Vec::new(),
            wanted: Wanted::Secret,
            to: To::NewPassword(None),
        });
        self.here.busy = Some(Busy {
            entry: self.entries[at].number,
            statement: String::new(),
            waiting,
            doing: Doing::Password,
            secrets: Vec::new(),
        });
        Ok(())
    }

    pub(super) fn password_changed(&mut self, done: Result<(), EngineError>) {
        let Some(busy) = self
            .here
            .busy
            .take_if(|busy| matches!(busy.doing, Doing::Password))
        else {
            return;
        };
        if let Err(error) = done {
            return self.statement_failed(&busy, &error);
        }
        let mut page = Page::new();
        page.say(Tone::Heading, "You have a new password.");
        page.gap();
        page.say(Tone::Faint, "This session goes on with it. It is in no statement, no history and no file of this program.");
        self.end_entry(busy.entry, State::Done, Content::Page(page));
    }

    /// The source that a name or an address means.
    fn origin_of(&mut self, parsed: &Parsed) -> Result<Origin, OpenError> {
        let text = parsed.argument(0).unwrap_or_default();
        let settings = self.settings();
        if let Some(saved) = settings.sources.get(text) {
            return sources::of_saved(text, saved, None);
        }
        let more = Overrides {
            via: parsed.value("via").map(str::to_string),
            through: parsed.value("through").map(str::to_string),
            ..Overrides::default()
        };
        let source = Source::parse_with(text, &more).map_err(|mut error| {
            let near = idle_tide_lang::correct::nearest(
                text,
                settings.sources.keys().map(String::as_str),
                2,
            );
            if let Some(near) = near.first() {
                error
                    .checks
                    .push(format!("A saved source is called {near}."));
            }
            error
        })?;
        // What stood in the address was taken out of it when it was typed.
        if let Some(secret) = self.spare.take() {
            source.set_password(secret);
        }
        Ok(Origin {
            name: source.name(),
            source,
            options: OpenOptions {
                write: parsed.has("write"),
                keep_going: parsed.has("keep-going"),
                ..OpenOptions::default()
            },
            tone: crate::settings::Tone::Calm,
        })
    }

    /// The settings as they are now.
    pub fn settings(&self) -> crate::settings::Settings {
        let read = self
            .places
            .as_ref()
            .map(|places| crate::settings::Settings::read(&places.settings));
        read.and_then(Result::ok).unwrap_or_default()
    }

    /// Commands that open, close and go elsewhere.
    pub(super) fn source_command(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: &Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        let refuse = |waiting, words: &str| Err(Box::new((waiting, failure::plain(words))));
        if parsed.command.name == "open" {
            return match self.origin_of(parsed) {
                Ok(origin) => {
                    self.open_origin(waiting, text, origin, How::New);
                    Ok(())
                }
                Err(error) => Err(Box::new((waiting, failure::of_opening(&error)))),
            };
        }
        if self.here.is_nowhere() {
            return refuse(
                waiting,
                "No source is open. F9 shows sources; /open NAME or ADDRESS opens one.",
            );
        }
        // To end a session one need not know how it began.
        let origin = self.here.origin.clone().or_else(|| {
            (parsed.command.name == "close").then(|| Origin {
                name: self.here.source.clone(),
                source: Source::Memory,
                options: OpenOptions::default(),
                tone: crate::settings::Tone::Calm,
            })
        });
        let Some(mut origin) = origin else {
            return refuse(
                waiting,
                "How this session was opened is not known, so it cannot be opened again.",
            );
        };
        let name = parsed.command.name;
        let how = match name {
            "reopen" => match (parsed.value("as"), &mut origin.source) {
                (Some(user), Source::Server(address)) => {
                    address.user = user.to_string();
                    address.database.clone_from(&self.here.bearings.database);
                    address.secrets = Secrets::default();
                    How::Instead {
                        restore: false,
                        keep: true,
                    }
                }
                (Some(_), _) => {
                    return refuse(waiting, "A file has no users. /reopen opens it anew.");
                }
                (None, source) => {
                    if let Source::Server(address) = source {
                        address.database.clone_from(&self.here.bearings.database);
                    }
                    How::Instead {
                        restore: true,
                        keep: false,
                    }
                }
            },
            "back" => match self.here.before.pop() {
                Some(before) => {
                    origin = before;
                    How::Instead {
                        restore: false,
                        keep: false,
                    }
                }
                None => {
                    return refuse(
                        waiting,
                        "There is nobody to go back to; /reopen --as USER comes as somebody else.",
                    );
                }
            },
            "use" => {
                let database = parsed.argument(0).unwrap_or_default();
                match (self.here.dialect.family, &mut origin.source) {
                    (Family::Mariadb, _) => {
                        let statement = format!("use {}", self.here.dialect.quote_name(database));
                        let at = self.new_entry(text, false);
                        let entry = self.entries[at].number;
                        self.start_statement(Busy {
                            entry,
                            statement,
                            waiting,
                            doing: Doing::Statement(Effect::Other),
                            secrets: Vec::new(),
                        });
                        return Ok(());
                    }
                    (_, Source::Server(address)) => {
                        address.database = database.to_string();
                        How::Instead {
                            restore: false,
                            keep: false,
                        }
                    }
                    _ => {
                        return refuse(
                            waiting,
                            "A file holds one database. attach 'FILE' as NAME; opens another beside it.",
                        );
                    }
                }
            }
            _ => How::Instead {
                restore: false,
                keep: false,
            },
        };
        let close = name == "close";
        // What is lost has no transaction any more.
        if let Some(since) = self.here.bearings.transaction.filter(|_| !self.here.lost) {
            let at = self.new_entry(text, false);
            self.entries[at].state = State::Asking;
            let mut page = Page::new();
            page.say(
                Tone::Heading,
                "A transaction is open here. Leaving this connection takes back what it changed.",
            );
            page.gap();
            page.say(
                Tone::Faint,
                format!(
                    "It has been open for {}. commit; keeps what it changed.",
                    idle_tide_draw::picture::lasting(since.elapsed())
                ),
            );
            self.entries[at].content = Content::Page(page.clone());
            self.here.question = Some(Question {
                page,
                yes: "leaves it, and takes the changes back".into(),
                no: "stays".into(),
            });
            self.here.busy = Some(Busy {
                entry: self.entries[at].number,
                statement: text.to_string(),
                waiting,
                doing: if close {
                    Doing::Closing
                } else {
                    Doing::Leaving(Box::new((origin, how)))
                },
                secrets: Vec::new(),
            });
            return Ok(());
        }
        if close {
            self.close_here();
        } else {
            self.open_origin(waiting, text, origin, how);
        }
        Ok(())
    }

    /// Ends the current session.
    pub(super) fn close_here(&mut self) {
        let name = self.here.source.clone();
        let next = match self.others.len() {
            0 => Session::nowhere(self.default_writes),
            _ => self.others.remove(0),
        };
        self.here = next;
        let words = if self.here.is_nowhere() {
            self.requests.push_back(Request::Sources);
            format!("{name} is closed. F9 opens another source.")
        } else {
            format!("{name} is closed; this is {}.", self.here.source)
        };
        self.say(words, Tone::Plain);
    }

    /// Opens a source without anybody having typed it.
    pub fn open_source(&mut self, text: &str, origin: Origin) {
        let text: Arc<str> = text.into();
        let waiting = Waiting {
            span: 0..text.len(),
            submission: Arc::clone(&text),
            is_command: true,
            before: 0,
            given: Arc::default(),
        };
        self.open_origin(waiting, &text, origin, How::New);
    }

    pub(super) fn open_origin(&mut self, waiting: Waiting, text: &str, origin: Origin, how: How) {
        let at = self.new_entry(text, false);
        self.entries[at].state = State::Running;
        self.entries[at].started = Some(Instant::now());
        self.begin_opening(self.entries[at].number, waiting, origin, how);
    }

    pub(super) fn begin_opening(&mut self, entry: u32, waiting: Waiting, origin: Origin, how: How) {
        self.next_opening += 1;
        let number = self.next_opening;
        let notify = Arc::clone(&self.notify);
        let (source, options) = (origin.source.clone(), origin.options);
        let go_back_to = match &how {
            How::Instead { restore: true, .. } => {
                Some((self.here.bearings.clone(), self.here.settings.clone()))
            }
            _ => None,
        };
        self.opening = Some(Opening {
            number,
            entry,
            waiting,
            origin,
            how,
        });
        std::thread::spawn(move || {
            let asker = Asker {
                number,
                notify: Arc::clone(&notify),
            };
            let opened = open(&source, options, &asker).and_then(|mut connection| {
                if let Some((bearings, settings)) = go_back_to {
                    restore(&mut *connection, &bearings, &settings)?;
                }
                Ok(connection)
            });
            notify(Event::Opened(number, Opened(opened)));
        });
    }

    /// Gives up what is being opened.
    pub(super) fn cancel_opening(&mut self) -> bool {
        let Some(opening) = self.opening.take() else {
            return false;
        };
        self.asking
            .retain(|asking| !matches!(asking.to, To::OpenerSecret(..) | To::OpenerAllow(..)));
        let mut page = Page::new();
        page.say(
            Tone::Heading,
            format!("{} was not opened.", opening.origin.name),
        );
        self.end_entry(opening.entry, State::NotRun, Content::Page(page));
        self.give_back(&opening.waiting, None, Vec::new());
        true
    }

    pub(super) fn opened(&mut self, number: u32, opened: Opened) {
        let Some(opening) = self.opening.take_if(|opening| opening.number == number) else {
            return;
        };
        let connection = match opened.0 {
            Ok(connection) => connection,
            Err(error) if error.trouble == Trouble::Cancelled => {
                self.opening = Some(opening);
                self.cancel_opening();
                return;
            }
            Err(error) => {
                self.fail(opening.entry, &opening.waiting, failure::of_opening(&error));
                self.pump();
                return;
            }
        };
        let Opening {
            entry,
            waiting,
            origin,
            how,
            ..
        } = opening;
        let number = match how {
            How::New => {
                self.next_session += 1;
                self.next_session
            }
            How::Instead { .. } => self.here.number,
        };
        let saved = self.settings().sources.get(&origin.name).cloned();
        let writes = match (&how, saved.and_then(|saved| saved.writes)) {
            (How::Instead { .. }, _) => self.here.writes,
            (_, Some(word)) => Writes::named(&word),
            (_, None) => self.default_writes,
        };
        let mut session = Session::new(
            number,
            connection,
            origin.name.clone(),
            writes,
            &self.notify,
        );
        if let How::Instead { restore, keep } = &how {
            session.before = std::mem::take(&mut self.here.before);
            if *keep && let Some(origin) = self.here.origin.clone() {
                session.before.push(origin);
            }
            if *restore {
                session.settings = std::mem::take(&mut self.here.settings);
            }
        }
        session.origin = Some(origin);
        session.arriving = Some(entry);
        session.catalog_known = false;
        // What was submitted together with it runs in what it opened.
        let (with, rest) = std::mem::take(&mut self.here.queue)
            .into_iter()
            .partition(|other: &Waiting| Arc::ptr_eq(&other.submission, &waiting.submission));
        self.here.queue = rest;
        session.queue = with;
        let before = std::mem::replace(&mut self.here, session);
        if matches!(how, How::New) && !before.is_nowhere() {
            self.others.insert(0, before);
        }
        if let Some(at) = self.place_of(entry) {
            self.entries[at].session = number;
            self.entries[at].place = (
                self.here.source.clone(),
                self.here.bearings.database.clone(),
            );
            self.entries[at].took = self.entries[at].started.map(|started| started.elapsed());
        }
        self.read_catalog();
        self.pump();
    }

    /// Looks for servers on this machine, and whether saved sources answer; [`Event::Found`] tells.
    pub fn look_for_servers(&self) {
        let saved: Vec<(String, Source)> = self
            .settings()
            .sources
            .iter()
            .filter_map(|(name, saved)| {
                let source = sources::of_saved(
                    name,
                    &crate::settings::Saved {
                        // Nobody is logged in, so no password is fetched.
                        password_command: None,
                        keyring: None,
                        password: None,
                        ..saved.clone()
                    },
                    None,
                )
                .ok()?
                .source;
                Some((name.clone(), source))
            })
            .collect();
        let notify = Arc::clone(&self.notify);
        std::thread::spawn(move || {
            let found = sources::look();
            let answers = saved
                .iter()
                .filter_map(|(name, source)| Some((name.clone(), sources::answers(source)?)))
                .collect();
            notify(Event::Found(found, answers));
        });
    }

    /// Databases of the server, from the latest list of them that this session showed.
    pub fn known_databases(&self) -> Vec<(String, String)> {
        let listed = |entry: &&Entry| {
            entry.session == self.here.number && entry.text.starts_with("/databases")
        };
        let sheet = self
            .entries
            .iter()
            .rev()
            .find(listed)
            .and_then(Entry::sheet);
        let Some(sheet) = sheet else {
            return Vec::new();
        };
        let set = read(&sheet.set);
        let rows = 0..set.len().min(2_000);
        rows.filter_map(|row| set.value(row, 0).ok().map(|value| value.as_ref().plain()))
            .map(|name| (name, "database".to_string()))
            .collect()
    }

    /// Logs in to a saved source, and leaves again; a notice says what came of it.
    pub fn test_source(&mut self, name: &str) {
        let settings = self.settings();
        let Some(saved) = settings.sources.get(name) else {
            return;
        };
        let (name, origin) = (name.to_string(), sources::of_saved(name, saved, None));
        self.say(format!("Testing {name} …"), Tone::Plain);
        let notify = Arc::clone(&self.notify);
        std::thread::spawn(move || {
            let opened = origin.and_then(|origin| {
                open(&origin.source, origin.options, &idle_tide_engines::Silent)
            });
            notify(Event::Exported(match opened {
                Ok(mut connection) => {
                    let b = connection.bearings();
                    Ok(format!(
                        "{name} is fine: {} {} let you in.",
                        b.family, b.version
                    ))
                }
                Err(error) if error.trouble == Trouble::Login => Ok(format!(
                    "{name} answers and wants a password, which is asked for when it is opened."
                )),
                Err(error) => Err(format!("{name}: {error}")),
            }));
        });
    }

    /// Servers found on this machine, and which saved sources answer.
    pub fn found(&self) -> (&[sources::Found], &[(String, bool)]) {
        (&self.found.0, &self.found.1)
    }

    pub(super) fn no_beside(&mut self) {
        // What waits for the catalog gets it over the first connection.
        self.here.beside = Beside::None;
        self.read_catalog();
    }
}
