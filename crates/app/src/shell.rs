//! The desk without a screen: statements from the command line, a file or standard input; results on
//! standard output or in a file, messages on standard error, an exit code that says whether all went well.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, BufRead, IsTerminal, Read, Write};
use std::path::Path;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use idle_tide_desk::export::{Replacing, Streaming, write_sheet};
use idle_tide_desk::replacing::same_file;
use idle_tide_desk::{Content, Desk, Event, Options, Request, State, Wanted};
use idle_tide_draw::export::{TEXT, names_in_words};
use idle_tide_draw::marks::Visible;
use idle_tide_draw::{Format, Layout};
use idle_tide_engines::{Ask, Source};
use idle_tide_lang::split::{PieceKind, Statements};
use idle_tide_lang::statement::{Effect, summary};
use idle_tide_lang::{Dialect, binary};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use crate::cli::{self, Kept, Run, tell as say};
use crate::guide;
use crate::keys::Keymap;

/// Where results go: shared by the threads that write.
#[derive(Clone)]
struct Output(Arc<Mutex<Target>>);

enum Target {
    Standard(Box<dyn Write + Send>),
    File(Box<Option<Replacing>>),
}

impl Write for Output {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match &mut *self.0.lock().unwrap_or_else(PoisonError::into_inner) {
            Target::Standard(out) => out.write(bytes),
            Target::File(file) => match &mut **file {
                Some(file) => file.write(bytes),
                None => Err(io::ErrorKind::BrokenPipe.into()),
            },
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match &mut *self.0.lock().unwrap_or_else(PoisonError::into_inner) {
            Target::Standard(out) => out.flush(),
            Target::File(file) => file.as_mut().as_mut().map_or(Ok(()), Write::flush),
        }
    }
}

enum Message {
    Desk(Box<Event>),
    /// A signal, by its number.
    Interrupt(i32),
}

/// How one statement ended.
enum Ended {
    Well,
    Badly,
    /// Whoever read the results has had enough.
    Enough,
    /// Stopped by a signal, by its number.
    Interrupted(i32),
    /// `quit` was among the statements.
    Quit,
}

struct Session {
    desk: Desk,
    inbox: Receiver<Message>,
    output: Output,
    layout: Layout,
    /// Whether somebody sits there who can answer.
    can_ask: bool,
    /// Whether results go to standard output.
    standard: bool,
    results: u32,
}

/// Runs; answers the exit code.
pub fn run(run: &Run) -> i32 {
    match start(run) {
        Ok(code) => code,
        Err(words) => {
            say(&words);
            1
        }
    }
}

fn start(run: &Run) -> Result<i32, String> {
    let format = match (&run.format, &run.output) {
        (Some(name), _) => Format::named(name)
            .ok_or_else(|| format!("There is no format {name}. There are {}.", names_in_words()))?,
        (None, Some(path)) => Format::of_file(&path.to_string_lossy()).ok_or_else(|| {
            format!(
                "{} does not end like a format. Say it with --format.",
                path.display()
            )
        })?,
        (None, None) => &TEXT,
    };
    let layout = Layout {
        format,
        header: !run.no_header,
        lines: run.lines,
    };
    // Input is opened first: nothing happens when it is not there.
    let input: Option<Box<dyn Read>> = match &run.file {
        Some(path) if path.as_os_str() == "-" => Some(Box::new(io::stdin())),
        Some(path) => {
            Some(Box::new(File::open(path).map_err(|e| {
                format!("{} cannot be read: {e}.", path.display())
            })?))
        }
        None if run.statements.is_empty() => {
            if io::stdin().is_terminal() {
                return Err("There is no statement. Give one in quotes, a --file, or statements on standard input.".into());
            }
            Some(Box::new(io::stdin()))
        }
        None => None,
    };
    // From here on an interrupt stops what runs and leaves no half-written file.
    let (sender, inbox) = channel();
    heed_signals(sender.clone())?;
    let kept = Kept::read();
    let mut origin =
        cli::named(&run.source, &kept, &run.server, run.write).map_err(|e| e.to_string())?;
    origin.options.keep_going = run.keep_going;
    if run.new {
        if !matches!(origin.source, Source::File(_)) {
            return Err("--new makes a database file, and this source is none.".into());
        }
        origin.options.new = true;
    }
    if let Source::Server(address) = &origin.source {
        for note in &address.notes {
            say(note);
        }
    }
    let writes = cli::writes_of(&origin, &kept, run.writes)?;
    if let Some(path) = &run.output {
        refuse_the_source(path, &origin.source)?;
    }
    let connection = cli::open(&origin.source, origin.options).map_err(|e| e.to_string())?;
    let target = match &run.output {
        Some(path) => {
            Target::File(Box::new(Some(Replacing::begin(path).map_err(|e| {
                format!("{} cannot be written: {e}.", path.display())
            })?)))
        }
        // Exact bytes for a pipe or file, marks for a terminal.
        None if io::stdout().is_terminal() => {
            Target::Standard(Box::new(Visible::new(io::stdout())))
        }
        None => Target::Standard(Box::new(RawOut)),
    };
    let output = Output(Arc::new(Mutex::new(target)));
    let events = sender;
    let stream = output.clone();
    let desk = Desk::new(
        connection,
        Options {
            source: origin.name.clone(),
            writes,
            places: None,
            stream: Some(Box::new(move || {
                Box::new(Streaming::new(layout, stream.clone()))
            })),
        },
        Arc::new(move |event| {
            let _ = events.send(Message::Desk(Box::new(event)));
        }),
    );
    let mut session = Session {
        desk,
        inbox,
        output,
        layout,
        can_ask: io::stdin().is_terminal() && io::stderr().is_terminal(),
        standard: run.output.is_none(),
        results: 0,
    };
    let code = session.all(run, input)?;
    session.close(run.output.as_deref(), code)
}

/// How long what runs may take to stop after a signal.
const PATIENCE: Duration = Duration::from_secs(2);

/// The first signal asks what runs to stop; the second one, or two seconds, end the program wherever it is, with the
/// terminal as it was and no unfinished file left behind. The exit code is the signal's own.
fn heed_signals(sender: Sender<Message>) -> Result<(), String> {
    let mut signals = signal_hook::iterator::Signals::new([SIGINT, SIGTERM, SIGHUP])
        .map_err(|e| e.to_string())?;
    // A password that is asked for is typed without echo.
    let terminal = File::open("/dev/tty").ok();
    let modes = terminal.and_then(|tty| Some((rustix::termios::tcgetattr(&tty).ok()?, tty)));
    std::thread::spawn(move || {
        let mut ends = None;
        loop {
            for signal in signals.pending() {
                // Nobody may be listening: the program is asking, or opening.
                let _ = sender.send(Message::Interrupt(signal));
                let second = ends.is_some();
                let (_, at) = *ends.get_or_insert_with(|| (signal, Instant::now() + PATIENCE));
                ends = Some((signal, if second { Instant::now() } else { at }));
            }
            if let Some((signal, _)) = ends.filter(|(_, at)| Instant::now() >= *at) {
                if let Some((modes, tty)) = &modes {
                    let now = rustix::termios::OptionalActions::Now;
                    // What cannot be given back stays as it is.
                    let _ = rustix::termios::tcsetattr(tty, now, modes);
                }
                idle_tide_desk::replacing::leave_nothing_unfinished();
                std::process::exit(128 + signal);
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    });
    Ok(())
}

/// Whether whoever read standard output is gone.
fn nobody_reads() -> bool {
    use rustix::event::{PollFd, PollFlags, Timespec, poll};
    let out = io::stdout();
    let mut asked = [PollFd::new(&out, PollFlags::empty())];
    let now = Timespec::default();
    poll(&mut asked, Some(&now)).is_ok_and(|count| count > 0)
        && asked[0]
            .revents()
            .intersects(PollFlags::ERR | PollFlags::NVAL)
}

/// What is read must not be what is written.
fn refuse_the_source(path: &Path, source: &Source) -> Result<(), String> {
    if source.files().iter().any(|file| same_file(file, path)) {
        return Err(format!(
            "{} is what is read; name another file for the results.",
            path.display()
        ));
    }
    Ok(())
}

/// Standard output without the line buffering of [`io::Stdout`], so that exact bytes go out in large parts.
struct RawOut;

impl Write for RawOut {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let mut out = io::stdout().lock();
        out.write_all(bytes)?;
        Ok(bytes.len())
    }
    fn flush(&mut self) -> io::Result<()> {
        io::stdout().flush()
    }
}

impl Session {
    fn all(&mut self, run: &Run, input: Option<Box<dyn Read>>) -> Result<i32, String> {
        let mut code = 0;
        if run.together {
            self.quiet("begin")?;
        }
        let mut from_input = match input {
            Some(reader) => {
                let name = run
                    .file
                    .as_deref()
                    .filter(|p| p.as_os_str() != "-")
                    .map_or_else(
                        || "standard input".to_string(),
                        |path| path.display().to_string(),
                    );
                from_reader(reader, name, self.desk.dialect())
            }
            None => from_arguments(&run.statements, self.desk.dialect()),
        };
        while let Some(next) = from_input(self.desk.dialect()) {
            let (text, is_command, place) = next?;
            let about = (run.together && !is_command).then(|| summary(&text, self.desk.dialect()));
            if let Some(about) =
                about.filter(|about| about.effect == Effect::Transaction || about.commits)
            {
                let why = match about.commits && about.effect != Effect::Transaction {
                    true => ", and this server would end it before this statement",
                    false => "",
                };
                let text = crate::app::one_line(text.trim(), 60);
                say(&format!(
                    "{place}With --together everything is one transaction{why}; take {text} out."
                ));
                code = 1;
                break;
            }
            match self.one(&text, is_command, &place)? {
                // What a statement that commits by itself has kept cannot be taken back.
                Ended::Well if run.together && self.desk.bearings().transaction.is_none() => {
                    say(&format!(
                        "{place}This ended the transaction: the server kept everything so far, and it cannot be taken back. The rest was not run."
                    ));
                    return Ok(1);
                }
                Ended::Well => {}
                Ended::Badly => {
                    code = 1;
                    if !run.keep_going {
                        break;
                    }
                }
                Ended::Enough | Ended::Quit => break,
                Ended::Interrupted(signal) => {
                    code = 128 + signal;
                    break;
                }
            }
        }
        if run.together {
            let open = self.desk.bearings().transaction.is_some();
            self.quiet(if code == 0 { "commit" } else { "rollback" })?;
            match (code, open) {
                (0, _) => {}
                (_, true) => say("Everything was taken back."),
                (_, false) => say(
                    "The transaction was gone before: the server took back what it had changed.",
                ),
            }
        }
        Ok(code)
    }

    /// Puts an output file in its place if all went well.
    fn close(self, path: Option<&Path>, code: i32) -> Result<i32, String> {
        let mut target = self.output.0.lock().unwrap_or_else(PoisonError::into_inner);
        match &mut *target {
            Target::Standard(out) => match out.flush() {
                Err(error) if error.kind() != io::ErrorKind::BrokenPipe => {
                    Err(format!("Standard output cannot be written: {error}."))
                }
                _ => Ok(code),
            },
            Target::File(file) => {
                let name = path.map_or(String::new(), |path| path.display().to_string());
                match file.take() {
                    Some(file) if code == 0 => {
                        file.commit().map_err(|e| {
                            format!("{name} was not written: {e}. What was there is unchanged.")
                        })?;
                    }
                    Some(file) if file.writes_through() => {
                        say(&format!("{name} has only what came before the end."));
                    }
                    _ => say(&format!(
                        "{name} was not written; what was there is unchanged."
                    )),
                }
                Ok(code)
            }
        }
    }

    fn wait(&mut self) -> Option<Ended> {
        let mut interrupted = None;
        while self.desk.is_busy() {
            if let Some(asking) = self.desk.asking() {
                match asking.wanted {
                    Wanted::Secret => {
                        let secret = cli::AtTerminal.secret(&asking.what);
                        self.desk.answer_secret(secret);
                    }
                    Wanted::Value => {
                        let value = cli::AtTerminal.value(&asking.what, &asking.details);
                        self.desk.answer_secret(value.map(Into::into));
                    }
                    Wanted::Consent => {
                        let yes = cli::AtTerminal.allow(&asking.what, &asking.details);
                        self.desk.answer_allow(yes);
                    }
                }
                continue;
            }
            if self.desk.question().is_some() {
                let yes = self.ask();
                self.desk.answer(yes);
                continue;
            }
            match self.inbox.recv_timeout(Duration::from_millis(500)) {
                Ok(Message::Desk(event)) => self.desk.handle(*event),
                Ok(Message::Interrupt(signal)) => {
                    interrupted = Some(signal);
                    self.desk.cancel();
                }
                // What is held back until all rows are there would never notice.
                Err(RecvTimeoutError::Timeout)
                    if self.standard && interrupted.is_none() && nobody_reads() =>
                {
                    interrupted = Some(0);
                    self.desk.cancel();
                }
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return Some(Ended::Interrupted(SIGINT)),
            }
        }
        match interrupted {
            Some(0) => Some(Ended::Enough),
            Some(signal) => Some(Ended::Interrupted(signal)),
            None => None,
        }
    }

    fn ask(&mut self) -> bool {
        let Some(question) = self.desk.question() else {
            return false;
        };
        say(question.page.text().trim_end());
        if !self.can_ask {
            say("It was not run. --writes free runs it without asking.");
            return false;
        }
        eprint!("idle-tide: y {}; anything else leaves it: ", question.yes);
        let mut answer = String::new();
        io::stdin().lock().read_line(&mut answer).is_ok()
            && matches!(answer.trim(), "y" | "Y" | "yes")
    }

    /// Runs a statement of our own.
    fn quiet(&mut self, statement: &str) -> Result<(), String> {
        self.desk.submit_piece(statement, false);
        self.wait();
        match self.desk.entry().map(|entry| (entry.state, &entry.content)) {
            Some((State::Failed, Content::Failure(failure))) => Err(failure.headline.clone()),
            _ => Ok(()),
        }
    }

    fn one(&mut self, text: &str, is_command: bool, place: &str) -> Result<Ended, String> {
        // Results one after the other stand apart in the layouts for reading.
        if self.results > 0 && self.layout.format.for_people {
            let reads = summary(text, self.desk.dialect()).effect == Effect::Read;
            if reads || is_command {
                let _ = self.output.write_all(b"\n");
            }
        }
        let before = self.desk.entries().len();
        self.desk.hush();
        self.desk.submit_piece(text, is_command);
        if let Some(ended) = self.wait() {
            if !matches!(ended, Ended::Enough) {
                say(&format!("{place}It was stopped."));
            }
            return Ok(ended);
        }
        if let Some(notice) = self.desk.notice() {
            say(&notice.text);
        }
        let mut join = String::new();
        if let Some(request) = self.desk.take_request() {
            match request {
                // The way between tables, as a statement.
                Request::Recall(text) => join = format!("\n{text}\n"),
                Request::Quit => return Ok(Ended::Quit),
                Request::Guide(topic) => {
                    let keys = Keymap::read(&self.desk.settings().keys).0;
                    let page = match topic.as_str() {
                        "" => guide::page("one page", 96, &keys),
                        known if guide::TOPICS.contains(&known) => guide::page(known, 96, &keys),
                        other => guide::search(other, 96, &keys),
                    };
                    let text = page.text();
                    return self.written(self.output.clone().write_all(text.as_bytes()), place);
                }
                _ => {
                    say(&format!(
                        "{place}{} works on the full screen only.",
                        text.trim()
                    ));
                    return Ok(Ended::Badly);
                }
            }
        }
        self.desk.take_returned();
        let Some(entry) = self.desk.entries().get(before..).and_then(|new| new.last()) else {
            return Ok(Ended::Well);
        };
        let failed = entry.state != State::Done;
        match &entry.content {
            Content::Failure(failure) => {
                let broken = io::Error::from(io::ErrorKind::BrokenPipe);
                if let Some((_, code)) = &failure.said
                    && *code == broken.kind().to_string()
                {
                    return Ok(Ended::Enough);
                }
                for note in &failure.notes {
                    say(note);
                }
                let mut words = format!("{place}{}", failure.headline);
                if let Some((message, code)) = &failure.said {
                    let who = if failure.by_system {
                        "system"
                    } else {
                        "server"
                    };
                    words.push_str(&format!("\nThe {who} said: {message} ({code})"));
                }
                if let Some(nearest) = failure.corrections.first() {
                    words.push_str(&format!("\nNearest: {}", nearest.label));
                }
                say(&words);
            }
            Content::Stages(stages) => {
                self.results += 1;
                let text = stages.page().text();
                return self.written(self.output.clone().write_all(text.as_bytes()), place);
            }
            Content::Links(links) => {
                self.results += 1;
                let text = links.page().text() + &join;
                return self.written(self.output.clone().write_all(text.as_bytes()), place);
            }
            Content::Page(page) if entry.is_statement && failed => {}
            Content::Page(page) if entry.is_statement => {
                let text = page.text();
                say(text.lines().next().unwrap_or(""));
            }
            Content::Page(page) => {
                self.results += 1;
                let text = page.text();
                return self.written(self.output.clone().write_all(text.as_bytes()), place);
            }
            Content::Rows(sheet) => {
                self.results += 1;
                let done =
                    write_sheet(sheet, self.layout, &mut self.output.clone(), &|| false).map(drop);
                return self.written(done, place);
            }
            Content::Nothing => self.results += 1,
        }
        Ok(if failed { Ended::Badly } else { Ended::Well })
    }

    fn written(&self, done: io::Result<()>, place: &str) -> Result<Ended, String> {
        match done {
            Ok(()) => Ok(Ended::Well),
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(Ended::Enough),
            Err(error) => Err(format!("{place}The result cannot be written: {error}.")),
        }
    }
}

type Next = Result<(String, bool, String), String>;

/// What is to run next, cut by the dialect of the session at that time: a statement may change it.
type Input = Box<dyn FnMut(&'static Dialect) -> Option<Next>>;

fn from_arguments(statements: &[String], dialect: &'static Dialect) -> Input {
    let many = statements.len() > 1;
    let place = move |at: usize| match many {
        true => format!("statement {}: ", at + 1),
        false => String::new(),
    };
    let mut list: VecDeque<_> = statements
        .iter()
        .map(|text| Statements::new(io::Cursor::new(text.clone().into_bytes()), dialect))
        .enumerate()
        .collect();
    let mut empty = true;
    Box::new(move |dialect| {
        loop {
            let (at, statements) = list.front_mut()?;
            statements.speak(dialect);
            let place = place(*at);
            if let Some((piece, bytes)) = statements.find_map(Result::ok) {
                empty = false;
                let text = String::from_utf8_lossy(&bytes).into_owned();
                return Some(Ok((text, piece.kind == PieceKind::Command, place)));
            }
            list.pop_front();
            if std::mem::replace(&mut empty, true) {
                return Some(Err(format!("{place}There is nothing to run in it.")));
            }
        }
    })
}

fn from_reader(reader: Box<dyn Read>, name: String, dialect: &'static Dialect) -> Input {
    let mut statements = Statements::new(reader, dialect);
    let mut at_start = true;
    Box::new(move |dialect| {
        statements.speak(dialect);
        let next = statements.next()?;
        let at_start = std::mem::take(&mut at_start);
        let (piece, mut bytes) = match next {
            Ok(next) => next,
            Err(error) => return Some(Err(format!("{name} cannot be read: {error}."))),
        };
        // A mark of the encoding at the start of a file is not part of its first statement.
        if at_start && bytes.starts_with(b"\xef\xbb\xbf") {
            bytes.drain(..3);
        }
        // Backup programs write bytes as they are into literals.
        let text = match binary::as_text(&bytes, dialect) {
            Some(text) => text,
            None => {
                let valid = std::str::from_utf8(&bytes).map_or_else(|e| e.valid_up_to(), str::len);
                let line = piece.line
                    + bytes[..valid].iter().filter(|byte| **byte == b'\n').count() as u64;
                return Some(Err(format!("{name}, line {line}: the text is not UTF-8.")));
            }
        };
        let place = format!("{name}, line {}: ", piece.line);
        Some(Ok((text, piece.kind == PieceKind::Command, place)))
    })
}
