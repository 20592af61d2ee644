//! The desk without a screen: statements from the command line, a file or standard input; results on
//! standard output or in a file, messages on standard error, an exit code that says whether all went well.

pub mod exit;
mod input;
mod output;

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, BufRead, IsTerminal, Read, Write};
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use idle_tide_core::catalog::Catalog;
use idle_tide_core::result::ResultSet;
use idle_tide_desk::diary::{Block, Came, differences, orders};
use idle_tide_desk::drawing::Told;
use idle_tide_desk::export::{Replacing, Results, Streaming, Watch, write_sheet};
use idle_tide_desk::replacing::same_file;
use idle_tide_desk::{Content, Desk, Event, Options, Request, State, Wanted};
use idle_tide_draw::export::{SQL, TEXT, names_in_words};
use idle_tide_draw::marks::Visible;
use idle_tide_draw::picture::{bytes, counted, lasting};
use idle_tide_draw::{Format, Layout};
use idle_tide_engines::{Ask, Fault, OpenError, Source};
use idle_tide_lang::statement::{Effect, summary};
use idle_tide_lang::{Dialect, parameter};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use exit::{Stop, stop};
use input::{from_arguments, from_blocks, from_reader, is_diary, read_diary};
use output::{First, LIMITED, Numbered, Output, RawOut, Target, Writing};

use crate::arguments::{Lent, Run, Server};
use crate::checking::{Gather, Gathered, of_sheet};
use crate::guide;
use crate::keys::Keymap;
use crate::opening::{self, Kept, tell as say};
use crate::picture::{Form, Picture};

/// So many entries are gone back to, where each is written as it comes.
const KEPT_ENTRIES: usize = 500;

enum Message {
    Desk(Box<Event>),
    /// A signal, by its number.
    Interrupt(i32),
}

/// How one statement ended.
enum Ended {
    Well,
    /// With this exit code.
    Badly(i32),
    /// Whoever read the results has had enough.
    Enough,
    /// Stopped by a signal, by its number.
    Interrupted(i32),
    /// It took longer than it may.
    TooLong,
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
    /// Only results and errors are said.
    quiet: bool,
    timeout: Option<Duration>,
    /// Rows of each result that are written.
    limit: Option<u64>,
    /// Values by the names of parameters, and those that were used.
    parameters: Vec<(String, String)>,
    used: HashSet<String>,
    /// What writing the results has to say of them.
    remarks: Arc<Mutex<Vec<String>>>,
    /// Whether rows beyond the limit are read to the end, since to stop would end a transaction.
    drains: Arc<AtomicBool>,
    /// Results that are compared instead of written.
    gathered: Gathered,
}

/// Runs; answers the exit code.
pub fn run(run: &Run) -> i32 {
    match start(run) {
        Ok(code) => code,
        Err(stop) => {
            say(&stop.words);
            stop.code
        }
    }
}

/// The layout that is asked for; its dialect is that of the source once it is open.
fn layout_of(run: &Run) -> Result<Layout, Stop> {
    if run.chart.is_some() {
        return Ok(Layout::of(&TEXT));
    }
    let format = match (&run.output.format, &run.output.output) {
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
    if format.binary && run.output.output.is_none() && io::stdout().is_terminal() {
        return Err(format!(
            "{} is no text for a terminal. Give it a file with --output.",
            format.name
        )
        .into());
    }
    let for_terminal = run.output.format.is_none() && run.output.output.is_none();
    let terminal = for_terminal && io::stdout().is_terminal();
    let size = terminal.then(|| crossterm::terminal::size().ok()).flatten();
    Ok(Layout {
        fits: size.map(|(columns, _)| usize::from(columns)),
        ..Layout::of(format)
    })
}

/// How pictures are written, if results are drawn.
fn form_of(run: &Run) -> Result<Option<Form>, Stop> {
    let Some(asked) = &run.chart else {
        return Ok(None);
    };
    idle_tide_desk::drawing::check_asked(asked)?;
    let Some(path) = &run.output.output else {
        return Ok(Some(Form::Text));
    };
    let form = Form::of_file(&path.to_string_lossy());
    form.map(Some).ok_or_else(|| {
        let path = path.display();
        format!("{path} does not end like a picture: .svg, .pdf or .txt.").into()
    })
}

/// Where the results go.
fn target_of(run: &Run) -> Result<Target, Stop> {
    let Some(path) = &run.output.output else {
        // Exact bytes for a pipe or file, marks for a terminal.
        return Ok(match io::stdout().is_terminal() {
            true => Target::Standard(Box::new(Visible::new(io::stdout()))),
            false => Target::Standard(Box::new(RawOut)),
        });
    };
    let name = path.to_string_lossy();
    if name.contains("{n}") {
        return Ok(Target::Numbered(Numbered {
            pattern: name.into_owned(),
            replace: run.output.replace,
            number: 0,
            file: None,
        }));
    }
    let stop = |words: String| stop(exit::NOT_WRITTEN, words);
    if !run.output.replace && path.is_file() {
        return Err(stop(format!(
            "{name} is there already; --replace writes it anew."
        )));
    }
    let file = Replacing::begin(path);
    let file = file.map_err(|e| stop(format!("{name} cannot be written: {e}.")))?;
    Ok(Target::File(Box::new(Some(file))))
}

/// Where the statements come from, if not from the arguments.
fn input_of(run: &Run) -> Result<Option<Box<dyn Read>>, Stop> {
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
    Ok(input)
}

fn start(run: &Run) -> Result<i32, Stop> {
    let mut layout = layout_of(run)?;
    let form = form_of(run)?;
    // Input is opened first: nothing happens when it is not there.
    let input = input_of(run)?;
    // From here on an interrupt stops what runs and leaves no half-written file.
    let (sender, inbox) = channel();
    heed_signals(sender.clone())?;
    let kept = Kept::read();
    let mut origin =
        opening::named(&run.source, &kept, &run.server, run.write).map_err(not_opened)?;
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
    let writes = opening::writes_of(&origin, &kept, run.writes)?;
    if let Some(path) = &run.output.output {
        refuse_the_source(path, &origin.source)?;
    }
    let mut connection = opening::open(&origin.source, origin.options).map_err(not_opened)?;
    let dialect = connection.dialect();
    layout = layout.from(dialect);
    run.output.layout.set(&mut layout)?;
    inserts_into(&mut layout, run, dialect)?;
    let output = Output(Arc::new(Mutex::new(Writing {
        target: target_of(run)?,
        begun: false,
        another: false,
        one_each: layout.format.binary || form.is_some_and(Form::is_a_document),
        bytes: 0,
    })));
    let (remarks, drains) = (Arc::<Mutex<Vec<String>>>::default(), Arc::default());
    let gathered = Gathered::default();
    // A picture says what its columns are in; one whose catalog cannot be read says less.
    let catalog = match form {
        // Fields of documents have no comments.
        Some(_) if !dialect.is_flow() => connection
            .describe()
            .catalog(0, &mut |_| ())
            .unwrap_or_default(),
        _ => Catalog::default(),
    };
    let catalog = Arc::new(catalog);
    let events = sender;
    let stream = output.clone();
    let mut desk = Desk::new(
        connection,
        Options {
            source: origin.name.clone(),
            writes,
            places: None,
            stream: Some(Box::new({
                let (layout, limit) = (layout.clone(), run.limit);
                let (remarks, drains) = (Arc::clone(&remarks), Arc::clone(&drains));
                let gathered = Arc::clone(&gathered);
                let chart = run.chart.clone().zip(form);
                move |statement| {
                    if let Some((asked, form)) = &chart {
                        let told = Told {
                            statement: statement.to_string(),
                            catalog: Arc::clone(&catalog),
                            dialect,
                        };
                        return Box::new(Picture::new(asked, told, *form, stream.clone()));
                    }
                    let is_checked = gathered.lock().is_ok_and(|all| all.is_some());
                    if is_checked {
                        return Box::new(Gather::new(Arc::clone(&gathered)));
                    }
                    let streaming = Streaming::new(layout.clone(), stream.clone());
                    Box::new(First {
                        inner: streaming,
                        left: limit,
                        remarks: Arc::clone(&remarks),
                        drains: Arc::clone(&drains),
                    })
                }
            })),
        },
        Arc::new(move |event| {
            let _ = events.send(Message::Desk(Box::new(event)));
        }),
    );
    for lent in &run.across {
        desk.lend(&lent.name, rows_of(lent, &kept)?);
    }
    let mut session = Session {
        desk,
        inbox,
        output,
        layout,
        can_ask: io::stdin().is_terminal() && io::stderr().is_terminal(),
        standard: run.output.output.is_none(),
        results: 0,
        quiet: run.quiet,
        timeout: run.timeout,
        limit: run.limit,
        parameters: run.parameters.clone(),
        used: HashSet::new(),
        remarks,
        drains,
        gathered,
    };
    let code = session.all(run, input)?;
    let unused = session.parameters.iter().map(|(name, _)| name.clone());
    for name in unused.filter(|name| !session.used.contains(name)) {
        say(&format!(
            "--param {name} has no place: no statement has :?{name}."
        ));
    }
    session.close(run.output.output.as_deref(), code)
}

/// Why a source was not opened.
fn not_opened(error: OpenError) -> Stop {
    stop(exit::NOT_OPENED, error.to_string())
}

/// The rows of a statement on another source, which is only read.
fn rows_of(lent: &Lent, kept: &Kept) -> Result<ResultSet, Stop> {
    let of = |words: String| format!("{}: {words}", lent.name);
    let origin =
        opening::named(&lent.source, kept, &Server::default(), false).map_err(not_opened)?;
    let mut connection = opening::open(&origin.source, origin.options).map_err(not_opened)?;
    let mut rows = idle_tide_desk::across::Keep::default();
    let read = connection
        .refuse_writes(true)
        .and_then(|()| connection.run(1, &lent.statement, &mut rows));
    match read {
        Ok(_) if rows.begun => Ok(rows.set),
        Ok(_) => Err(of("its statement gives no rows.".into()).into()),
        Err(error) => Err(of(error.message).into()),
    }
}

/// Inserts need a table, and SQL.
fn inserts_into(layout: &mut Layout, run: &Run, dialect: &Dialect) -> Result<(), Stop> {
    if *layout.format != SQL {
        return Ok(());
    }
    if layout.dialect.is_flow() {
        return Err("Inserts are SQL, and this database has none: say whose with --dialect, or take jsonl, which keeps documents as they are.".into());
    }
    let whole = run.whole.then(|| run.statements.first()).flatten();
    let name = layout.table.as_ref().or(whole);
    layout.table = name.map(|name| layout.dialect.quote_path(name));
    // Types of another family's words would not be understood.
    layout.declared &= layout.dialect.family == dialect.family;
    Ok(())
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
fn refuse_the_source(path: &Path, source: &Source) -> Result<(), Stop> {
    if source.files().iter().any(|file| same_file(file, path)) {
        return Err(format!(
            "{} is what is read; name another file for the results.",
            path.display()
        )
        .into());
    }
    Ok(())
}

impl Session {
    fn all(&mut self, run: &Run, input: Option<Box<dyn Read>>) -> Result<i32, Stop> {
        let mut code = 0;
        if run.together {
            self.quiet(self.desk.dialect().begin())?;
        }
        let mut from_input = match input {
            Some(reader) if is_diary(run) => {
                let blocks = read_diary(reader, run)?;
                if run.check {
                    return self.check(run, blocks);
                }
                from_blocks(blocks, run, self.desk.dialect())
            }
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
            None if run.whole => {
                let dialect = self.desk.dialect();
                let name = dialect.quote_path(run.statements.first().map_or("", String::as_str));
                let all = match dialect.is_flow() {
                    true => format!("from {name}"),
                    false => format!("select * from {name}"),
                };
                from_arguments(&[all], dialect)
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
                Ended::Badly(of) => {
                    code = if code == 0 { of } else { code };
                    if !run.keep_going {
                        break;
                    }
                }
                Ended::Enough | Ended::Quit => break,
                Ended::TooLong => {
                    code = exit::TOO_LONG;
                    break;
                }
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

    /// Runs the blocks of a diary and compares what they come to with what was recorded.
    fn check(&mut self, run: &Run, blocks: Vec<Block>) -> Result<i32, Stop> {
        let (all, mut differ) = (blocks.len() as u64, 0);
        for block in blocks {
            let (results, refused, changed) = match self.again(&block)? {
                Ok(came) => came,
                Err(Ended::Interrupted(signal)) => return Ok(128 + signal),
                Err(_) => return Ok(exit::TOO_LONG),
            };
            let mut lines = Vec::new();
            match (block.refused, &refused) {
                (true, None) => lines.push("it was refused, and is not any more".to_string()),
                (false, Some(words)) => lines.push(format!("it is refused now: {words}")),
                _ => {}
            }
            if let Some(recorded) = block.changed.filter(|count| Some(*count) != changed) {
                let now = changed.map_or("none".into(), |count| counted(count, "row"));
                lines.push(format!("{now} changed now, and {recorded} recorded"));
            }
            let ordered = orders(&block.text, self.desk.dialect());
            for (at, recorded) in block.results.iter().enumerate() {
                match results.get(at) {
                    Some(came) => lines.extend(differences(recorded, came, ordered)),
                    None if recorded.count == Some(0) || refused.is_some() => {}
                    None => lines.push("it gives no result any more".into()),
                }
            }
            if lines.is_empty() {
                continue;
            }
            differ += 1;
            let place = run.file.as_deref().unwrap_or(Path::new("")).display();
            let text = crate::app::one_line(&block.text, 80);
            let mut words = format!("{place}, line {}: {text}\n", block.line);
            for line in lines {
                words.push_str(&format!("  {line}\n"));
            }
            let mut out = self.output.clone();
            out.write_all(words.as_bytes()).map_err(|error| {
                stop(exit::NOT_WRITTEN, format!("It cannot be written: {error}."))
            })?;
        }
        if differ == 0 {
            if !self.quiet {
                say(&format!(
                    "{} came to what was recorded.",
                    counted(all, "block")
                ));
            }
            return Ok(0);
        }
        say(&format!(
            "{differ} of {} did not come to what was recorded.",
            counted(all, "block")
        ));
        Ok(exit::DIFFERS)
    }

    /// Runs a block of a diary: its results, why it was refused, how many rows it changed; or what stopped it.
    #[allow(clippy::type_complexity)]
    fn again(
        &mut self,
        block: &Block,
    ) -> Result<Result<(Vec<Came>, Option<String>, Option<u64>), Ended>, Stop> {
        let (mut results, mut refused, mut changed) = (Vec::new(), None, None);
        let texts = std::slice::from_ref(&block.text);
        let mut pieces = from_arguments(texts, self.desk.dialect());
        while let Some(piece) = pieces(self.desk.dialect()) {
            let (text, is_command, _) = piece?;
            let given = self.given(&text);
            let before = self.desk.entries().len();
            if let Ok(mut gathered) = self.gathered.lock() {
                *gathered = Some(Vec::new());
            }
            self.desk.submit_piece(&text, is_command, given);
            if let Some(ended) = self.wait() {
                return Ok(Err(ended));
            }
            self.desk.take_returned();
            self.desk.take_request();
            if let Ok(mut gathered) = self.gathered.lock() {
                results.extend(gathered.take().unwrap_or_default());
            }
            for entry in self.desk.entries().get(before..).unwrap_or_default() {
                match &entry.content {
                    Content::Failure(failure) => refused = Some(failure.headline.clone()),
                    _ if entry.state == State::NotRun => {
                        refused = Some("it was asked about, and nobody said yes".into());
                    }
                    Content::Rows(sheet) => results.push(of_sheet(sheet)),
                    _ => {}
                }
                let count = entry.outcome.as_ref().and_then(|outcome| outcome.changed);
                changed = count.or(changed);
            }
        }
        Ok(Ok((results, refused, changed)))
    }

    /// Puts an output file in its place if all went well.
    fn close(self, path: Option<&Path>, code: i32) -> Result<i32, Stop> {
        let name = path.map_or(String::new(), |path| path.display().to_string());
        let not_written = |words: String| stop(exit::NOT_WRITTEN, words);
        match &mut self.output.lock().target {
            Target::Standard(out) => match out.flush() {
                Err(error) if error.kind() != io::ErrorKind::BrokenPipe => Err(not_written(
                    format!("Standard output cannot be written: {error}."),
                )),
                _ => Ok(code),
            },
            Target::Numbered(files) => {
                let number = files.number;
                if code == 0 {
                    files.end().map_err(|e| {
                        not_written(format!("The file of result {number} was not written: {e}."))
                    })?;
                    if !self.quiet {
                        say(&format!(
                            "{} in {name}.",
                            counted(u64::from(number), "result")
                        ));
                    }
                } else if files.file.take().is_some() {
                    say(&format!("The file of result {number} was not written."));
                }
                Ok(code)
            }
            Target::File(file) => {
                match file.take() {
                    Some(file) if code == 0 => {
                        file.commit().map_err(|e| {
                            not_written(format!(
                                "{name} was not written: {e}. What was there is unchanged."
                            ))
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
        let started = Instant::now();
        let mut late = false;
        let mut shown = false;
        while self.desk.is_busy() {
            if !late && self.timeout.is_some_and(|most| started.elapsed() > most) {
                late = true;
                self.desk.cancel();
            }
            shown |= self.show_progress(started);
            if let Some(asking) = self.desk.asking() {
                match asking.wanted {
                    Wanted::Secret => {
                        let secret = opening::AtTerminal.secret(&asking.what);
                        self.desk.answer_secret(secret);
                    }
                    Wanted::Value => {
                        let value = opening::AtTerminal.value(&asking.what, &asking.details);
                        self.desk.answer_secret(value.map(Into::into));
                    }
                    Wanted::Consent => {
                        let yes = opening::AtTerminal.allow(&asking.what, &asking.details);
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
            let patience = Duration::from_millis(if self.timeout.is_some() { 20 } else { 500 });
            match self.inbox.recv_timeout(patience) {
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
        if shown {
            eprint!("\r\x1b[K");
        }
        match interrupted {
            None if late => Some(Ended::TooLong),
            Some(0) => Some(Ended::Enough),
            Some(signal) => Some(Ended::Interrupted(signal)),
            None => None,
        }
    }

    /// Says how far it is where somebody sees it and nothing else is written there; whether it did.
    fn show_progress(&self, started: Instant) -> bool {
        let sees = io::stderr().is_terminal() && !(self.standard && io::stdout().is_terminal());
        if !sees || self.quiet || started.elapsed() < Duration::from_secs(1) {
            return false;
        }
        let size = bytes(self.output.lock().bytes);
        eprint!(
            "\r\x1b[Kidle-tide: {size} written, {}",
            lasting(started.elapsed())
        );
        true
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
    fn quiet(&mut self, statement: &str) -> Result<(), Stop> {
        self.desk.submit_piece(statement, false, Vec::new());
        self.wait();
        match self.desk.entry().map(|entry| (entry.state, &entry.content)) {
            Some((State::Failed, Content::Failure(failure))) => {
                Err(failure.headline.clone().into())
            }
            _ => Ok(()),
        }
    }

    /// The literals of parameters that were given by name, as the session writes them now.
    fn given(&mut self, text: &str) -> Vec<(String, secrecy::SecretString)> {
        if self.parameters.is_empty() {
            return Vec::new();
        }
        let dialect = self.desk.dialect();
        let wanted = parameter::parameters(text, dialect);
        let mut list = Vec::new();
        for (name, value) in &self.parameters {
            if wanted.iter().any(|parameter| parameter.name == *name) {
                self.used.insert(name.clone());
                let literal = parameter::given_literal(value, dialect);
                list.push((name.clone(), literal.into()));
            }
        }
        list
    }

    fn one(&mut self, text: &str, is_command: bool, place: &str) -> Result<Ended, Stop> {
        // Results one after the other stand apart in the layouts for reading.
        if self.results > 0 && self.layout.format.for_people {
            let reads = summary(text, self.desk.dialect()).effect == Effect::Read;
            if reads || is_command {
                let _ = self.output.apart();
            }
        }
        let _ = self.output.another();
        let in_transaction = self.desk.bearings().transaction.is_some();
        self.drains.store(in_transaction, Ordering::Relaxed);
        let given = self.given(text);
        self.desk.let_go_of_entries(KEPT_ENTRIES);
        let before = self.desk.entries().len();
        self.desk.hush();
        self.desk.submit_piece(text, is_command, given);
        if let Some(ended) = self.wait() {
            match &ended {
                Ended::Enough => {}
                Ended::TooLong => say(&format!(
                    "{place}It took longer than --timeout lets it, and was stopped."
                )),
                _ => say(&format!("{place}It was stopped.")),
            }
            return Ok(ended);
        }
        if let Some(notice) = self.desk.notice().filter(|_| !self.quiet) {
            say(&notice.text);
        }
        let remarks =
            std::mem::take(&mut *self.remarks.lock().unwrap_or_else(PoisonError::into_inner));
        for remark in remarks.iter().filter(|_| !self.quiet) {
            say(&format!("{place}{remark}."));
        }
        let mut join = String::new();
        if let Some(request) = self.desk.take_request() {
            match request {
                // The way between tables, as a statement.
                Request::Recall(text) => join = format!("\n{text}\n"),
                // What it offers is in its own words.
                Request::Offer(_) => {}
                Request::Quit => return Ok(Ended::Quit),
                Request::Card(path) => {
                    let keys = Keymap::read(&self.desk.settings().keys).0;
                    return match guide::write_card(&path, &keys) {
                        Ok(words) => {
                            say(&words);
                            Ok(Ended::Well)
                        }
                        Err(words) => {
                            say(&format!("{place}{words}"));
                            Ok(Ended::Badly(exit::NOT_WRITTEN))
                        }
                    };
                }
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
                    return Ok(Ended::Badly(exit::FAILED));
                }
            }
        }
        self.desk.take_returned();
        self.came_to(before, &join, place)
    }

    /// What the last entry since there were so many came to; `join` goes behind a drawing of links.
    fn came_to(&mut self, before: usize, join: &str, place: &str) -> Result<Ended, Stop> {
        let Some(entry) = self.desk.entries().get(before..).and_then(|new| new.last()) else {
            return Ok(Ended::Well);
        };
        let failed = entry.state != State::Done;
        let mut code = exit::NOT_ALLOWED;
        match &entry.content {
            Content::Failure(failure) => {
                let broken = io::Error::from(io::ErrorKind::BrokenPipe);
                if let Some((_, code)) = &failure.said
                    && *code == broken.kind().to_string()
                {
                    return Ok(Ended::Enough);
                }
                if failure
                    .said
                    .as_ref()
                    .is_some_and(|(said, _)| said == LIMITED)
                {
                    self.results += 1;
                    return Ok(Ended::Well);
                }
                code = match failure.fault {
                    Some(Fault::Lost | Fault::NotSent) => exit::LOST,
                    // Without the system's words the rows are not what was to be made of them.
                    Some(Fault::Sink) if failure.said.is_some() => exit::NOT_WRITTEN,
                    _ => exit::FAILED,
                };
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
                let text = links.page().text() + join;
                return self.written(self.output.clone().write_all(text.as_bytes()), place);
            }
            Content::Page(_) if entry.is_statement && failed => {}
            Content::Page(page) if failed => {
                code = exit::FAILED;
                say(page.text().trim_end());
            }
            Content::Page(_) if entry.is_statement && self.quiet => {}
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
                let (mut out, layout) = (self.output.clone(), self.layout.clone());
                let sheet = &sheet.first(self.limit.unwrap_or(u64::MAX));
                let done = write_sheet(sheet, layout, &mut out, &Watch::NOBODY);
                return self.written(done.map(drop), place);
            }
            // Rows are written as they come, so that there are none to draw.
            Content::Chart(_) | Content::Nothing => self.results += 1,
        }
        Ok(if failed {
            Ended::Badly(code)
        } else {
            Ended::Well
        })
    }

    fn written(&self, done: io::Result<()>, place: &str) -> Result<Ended, Stop> {
        match done {
            Ok(()) => Ok(Ended::Well),
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => Ok(Ended::Enough),
            Err(error) => Err(stop(
                exit::NOT_WRITTEN,
                format!("{place}The result cannot be written: {error}."),
            )),
        }
    }
}
