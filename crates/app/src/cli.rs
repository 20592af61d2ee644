//! The command line: what is opened, how, and by which face.

use std::ffi::OsString;
use std::io::{BufRead, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::channel;

use clap::{Args, CommandFactory, Parser, Subcommand, ValueEnum};
use idle_tide_desk::export::expand;
use idle_tide_desk::settings::{Places, Settings, unreadable};
use idle_tide_desk::{Desk, Options, Origin, Tone, Writes};
use idle_tide_draw::export::names_in_words;
use idle_tide_draw::marks::show_text;
use idle_tide_engines::address::without_password;
use idle_tide_engines::{
    Ask, Connection, OpenError, OpenOptions, Overrides, Source, demo_file, sqlite,
};
use secrecy::SecretString;

use crate::app::App;
use crate::calls::Call;
use crate::cli_layout::LayoutOptions;
use crate::keys::Keymap;
use crate::shell;
use crate::terminal::{self, Happening};
use crate::theme::{Theme, ThemeName};

/// Work with a database in a terminal: explore it, ask, read the results.
#[derive(Debug, Parser)]
#[command(name = "idle-tide", version, args_conflicts_with_subcommands = true)]
struct Cli {
    #[command(subcommand)]
    command: Option<Sub>,
    #[command(flatten)]
    open: Open,
    /// Run this on arrival and stay
    #[arg(long, value_name = "STATEMENT")]
    first: Option<String>,
    /// The colours: deep for dark grounds, shoal for light ones, plain for none
    #[arg(long, value_name = "NAME")]
    theme: Option<String>,
    /// Write down what happens in a file that only you can read
    #[arg(long, value_name = "FILE", global = true)]
    log: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
enum Sub {
    /// Run statements without a screen: results on standard output, messages on standard error
    Run(Box<Run>),
    #[command(flatten)]
    Call(Call),
    /// Serve the harbour's documents on this machine, for practice and tests
    PracticeServer(crate::practice::Practice),
    /// Write the completion of this command line for a shell to standard output
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write the manual pages into a folder
    Man {
        /// The folder, which must be there
        folder: PathBuf,
    },
}

/// What a server is reached by, beside its address.
#[derive(Debug, Clone, Default, Args)]
pub struct Server {
    /// The server's host, or a folder or path of its local socket
    #[arg(long, value_name = "HOST")]
    host: Option<String>,
    /// Its port
    #[arg(long, value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    port: Option<u16>,
    /// The user
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// The database
    #[arg(long, value_name = "NAME")]
    database: Option<String>,
    /// Go through a secure shell: user@host or user@host:port
    #[arg(long, value_name = "HOST")]
    via: Option<String>,
    /// A command whose standard input and output carry the connection
    #[arg(long, value_name = "COMMAND")]
    through: Option<String>,
}

impl Server {
    fn overrides(&self) -> Overrides {
        Overrides {
            host: self.host.clone(),
            port: self.port,
            user: self.user.clone(),
            database: self.database.clone(),
            via: self.via.clone(),
            through: self.through.clone(),
        }
    }
}

/// What to open.
#[derive(Debug, Args)]
pub struct Open {
    /// An address (postgres://…, mysql://…, mariadb://…), a saved name, a database file, sqlite:PATH,
    /// sqlite::memory:, or demo (the practice harbour); without one, the sources are shown
    source: Option<String>,
    #[command(flatten)]
    server: Server,
    /// Open a file for writing too
    #[arg(long)]
    write: bool,
    /// demo: its documents instead of its tables
    #[arg(long)]
    docs: bool,
    /// Documents in files: leave out what cannot be understood and read the rest
    #[arg(long)]
    keep_going: bool,
    /// Make a new database file and open it
    #[arg(long, value_name = "FILE", conflicts_with = "source")]
    new: Option<PathBuf>,
    /// demo: how many tide gauge readings there are
    #[arg(long, value_name = "N")]
    readings: Option<u64>,
    /// demo: make the practice harbour anew
    #[arg(long)]
    fresh: bool,
    /// demo: load the practice harbour into a database of a server, and leave
    #[arg(long, value_name = "SOURCE")]
    into: Option<String>,
}

/// How writes are treated.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum WritesArgument {
    /// Those that sweep are asked about, and refused where nobody can answer
    Ask,
    /// They run
    Free,
    /// The engine refuses them
    None,
}

/// Options of `run`.
#[derive(Debug, Default, Args)]
pub struct Run {
    /// An address, a saved name, a database file, sqlite:PATH, sqlite::memory:, or demo
    pub source: String,
    /// What a server is reached by
    #[command(flatten)]
    pub server: Server,
    /// Statements, or commands that begin with /
    pub statements: Vec<String>,
    /// Run the statements of a file, or the blocks of a diary (.md); - is standard input
    #[arg(long, value_name = "FILE", conflicts_with = "statements")]
    pub file: Option<PathBuf>,
    /// With a diary as the file: compare every result with the recorded one
    #[arg(long, requires = "file", conflicts_with_all = ["format", "limit", "together", "keep_going"])]
    pub check: bool,
    /// Give :?NAME in statements (:NAME in flows) a value: a number, a text, null, a list [1, 2]
    #[arg(long = "param", value_name = "NAME=VALUE", value_parser = parameter)]
    pub parameters: Vec<(String, String)>,
    /// How the results are written
    #[command(flatten)]
    pub output: Output,
    /// Draw each result instead of writing its rows: a kind and options as in /chart, or "" for what fits. --output ends in .svg, .pdf or .txt
    #[arg(long, value_name = "KIND", conflicts_with_all = ["format", "limit", "check"], allow_hyphen_values = true)]
    pub chart: Option<String>,
    /// Leave out everything but results and errors
    #[arg(long)]
    pub quiet: bool,
    /// Write only the first N rows of each result
    #[arg(long, value_name = "N")]
    pub limit: Option<u64>,
    /// Stop a statement that takes longer than this
    #[arg(long, value_name = "SECONDS", value_parser = seconds)]
    pub timeout: Option<std::time::Duration>,
    /// Go on after an error
    #[arg(long, conflicts_with = "together")]
    pub keep_going: bool,
    /// Make all statements one transaction
    #[arg(long)]
    pub together: bool,
    /// Open a file for writing too
    #[arg(long)]
    pub write: bool,
    /// Make the database file, which must not be there
    #[arg(long)]
    pub new: bool,
    /// How writes that touch everything are treated
    #[arg(long, value_name = "HOW")]
    pub writes: Option<WritesArgument>,
    /// Results of other sources that a question across results names.
    #[arg(skip)]
    pub across: Vec<crate::calls::Lent>,
    /// Whether the one statement is the name of a table or collection, all of which is meant.
    #[arg(skip)]
    pub whole: bool,
}

/// How and where results are written.
#[derive(Debug, Clone, Default, Args)]
pub struct Output {
    /// How the results are written
    #[arg(long, value_name = "FORMAT", help = names_in_words())]
    pub format: Option<String>,
    /// Write the results to a file, whole or not at all; an n in braces in its name is the number of the result
    #[arg(long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Replace a file that is there
    #[arg(long)]
    pub replace: bool,
    /// What is asked of the format
    #[command(flatten)]
    pub layout: LayoutOptions,
}

fn parameter(text: &str) -> Result<(String, String), String> {
    let pair = text.split_once('=').filter(|(name, _)| !name.is_empty());
    let pair = pair.ok_or("it is written NAME=VALUE")?;
    Ok((pair.0.trim_start_matches([':', '?']).into(), pair.1.into()))
}

fn seconds(text: &str) -> Result<std::time::Duration, String> {
    let number = text.parse::<f64>().ok().filter(|n| *n > 0.0 && *n < 1e9);
    let number = number.ok_or("it is a number of seconds, such as 30 or 0.5")?;
    Ok(std::time::Duration::from_secs_f64(number))
}

/// A statement that begins with a comment looks like an option: a blank before it tells them apart.
fn statement_or_option(argument: OsString) -> OsString {
    match argument.to_str().and_then(|text| text.strip_prefix("--")) {
        Some(rest) if rest.starts_with(char::is_whitespace) => {
            let mut apart = OsString::from(" ");
            apart.push(argument);
            apart
        }
        _ => argument,
    }
}

/// The command line, for completions and manual pages.
fn command() -> clap::Command {
    Cli::command().after_help(shell::exit::WORDS)
}

/// Runs the program; answers its exit code.
pub fn main() -> i32 {
    let cli = match Cli::try_parse_from(std::env::args_os().map(statement_or_option)) {
        Ok(cli) => cli,
        // What is asked for is no error; what is wrong may be quoted.
        Err(error) if !error.use_stderr() => error.exit(),
        Err(error) => {
            tell(error.to_string().trim_end());
            return error.exit_code();
        }
    };
    if let Some(path) = cli.log.clone().or_else(|| {
        Kept::read()
            .settings
            .log
            .map(|path| expand(&path.to_string_lossy()))
    }) && let Err(error) = idle_tide_desk::log::begin(&path)
    {
        tell(&format!(
            "The log {} cannot be written: {error}.",
            path.display()
        ));
        return 1;
    }
    let done = match cli.command {
        Some(Sub::Run(run)) => return shell::run(&run),
        Some(Sub::PracticeServer(options)) => crate::practice::run(&options),
        Some(Sub::Call(call)) => return shell::run(&call.run()),
        Some(Sub::Completions { shell }) => {
            let mut out = Vec::new();
            clap_complete::generate(shell, &mut command(), "idle-tide", &mut out);
            return shell::exit::of_output(std::io::stdout().write_all(&out));
        }
        Some(Sub::Man { folder }) => {
            return shell::exit::of_output(clap_mangen::generate_to(command(), folder));
        }
        None if cli.open.into.is_some() => load(&cli.open),
        None => desk(&cli),
    };
    done.unwrap_or_else(|error| {
        tell(&error.to_string());
        1
    })
}

/// Asks on the controlling terminal.
pub struct AtTerminal;

impl AtTerminal {
    /// Asks for a text; `None` without a terminal, which is said.
    pub fn value(&self, what: &str, details: &[String]) -> Option<String> {
        let Ok(terminal) = std::fs::File::open("/dev/tty") else {
            tell(&format!(
                "{what} is needed, and there is no terminal to ask on."
            ));
            return None;
        };
        for detail in details {
            tell(detail);
        }
        eprint!("idle-tide: {}: ", show_text(what, 400).text());
        let mut typed = String::new();
        let read = std::io::BufReader::new(terminal).read_line(&mut typed);
        let given = read.is_ok_and(|count| count > 0);
        given.then(|| typed.trim_end_matches(['\n', '\r']).to_string())
    }
}

impl Ask for AtTerminal {
    fn secret(&self, what: &str) -> Option<SecretString> {
        let typed =
            rpassword::prompt_password(format!("idle-tide: {}: ", show_text(what, 400).text()));
        match typed {
            Ok(secret) => Some(secret.into()),
            Err(_) => {
                tell(&format!(
                    "{what} is needed, and there is no terminal to ask on."
                ));
                None
            }
        }
    }

    fn allow(&self, question: &str, details: &[String]) -> bool {
        tell(question);
        for detail in details {
            tell(detail);
        }
        let Ok(terminal) = std::fs::File::open("/dev/tty") else {
            eprintln!("idle-tide: there is no terminal to answer on; it goes no further.");
            return false;
        };
        eprint!("idle-tide: y goes on; anything else does not: ");
        let mut answer = String::new();
        std::io::BufReader::new(terminal)
            .read_line(&mut answer)
            .is_ok()
            && matches!(answer.trim(), "y" | "Y" | "yes")
    }

    fn tell(&self, word: &str) {
        tell(&format!("{word} …"));
    }
}

/// Opens a source; what has to be asked is asked on the controlling terminal.
///
/// # Errors
/// In whole sentences, with the way out.
pub fn open(source: &Source, options: OpenOptions) -> Result<Box<dyn Connection>, OpenError> {
    idle_tide_engines::open(source, options, &AtTerminal)
}

/// Words on standard error, with marks where a terminal would obey.
pub fn tell(words: &str) {
    for line in words.lines() {
        // If standard error is closed there is nobody to tell.
        let _ = writeln!(
            std::io::stderr(),
            "idle-tide: {}",
            show_text(line, 4_000).text()
        );
    }
}

/// The settings, or what is wrong with them.
pub struct Kept {
    settings: Settings,
    /// Why they could not be read, and what follows.
    pub trouble: Option<String>,
    /// What is wrong in them and was left out.
    pub doubts: Vec<String>,
}

impl Kept {
    /// Reads them, and makes their limits those of the process. What cannot be read is said and stops nothing; nothing is written then.
    pub fn read() -> Self {
        let read = Places::of_user().map(|places| Settings::read(&places.settings));
        match read {
            Some(Err(words)) => Kept {
                settings: Settings::default(),
                trouble: Some(unreadable(&words)),
                doubts: Vec::new(),
            },
            read => {
                let settings = read.and_then(Result::ok).unwrap_or_default();
                Kept {
                    doubts: settings.set_limits(),
                    settings,
                    trouble: None,
                }
            }
        }
    }
}

/// What a name on the command line means: a saved source, an address, a file.
///
/// # Errors
/// If it is damaged, or its password command fails.
pub fn named(name: &str, kept: &Kept, server: &Server, write: bool) -> Result<Origin, OpenError> {
    let more = server.overrides();
    if let Some(saved) = kept.settings.sources.get(name) {
        if more != Overrides::default() {
            return Err(OpenError::plain(format!(
                "{name} is a saved source; change it there (F9) instead of with options."
            )));
        }
        return idle_tide_desk::sources::of_saved(name, saved, None);
    }
    let mut source = Source::parse_with(name, &more)?;
    if let Source::Server(address) = &mut source
        && without_password(name) != name
    {
        address.notes.push("The password stood in the command line, where others on this machine can read it. Leave it out and it is asked for.".into());
    }
    Ok(Origin {
        name: source.name(),
        source,
        options: OpenOptions {
            write,
            ..OpenOptions::default()
        },
        tone: idle_tide_desk::settings::Tone::Calm,
    })
}

/// How writes are treated on a source: as it was saved, else as it is asked for. What was saved as none cannot be
/// made weaker by an option; nor can settings that cannot be read.
///
/// # Errors
/// If it was saved as none and something weaker is asked for.
pub fn writes_of(
    origin: &Origin,
    kept: &Kept,
    asked: Option<WritesArgument>,
) -> Result<Writes, String> {
    if let Some(trouble) = &kept.trouble {
        tell(trouble);
        return Ok(Writes::None);
    }
    for doubt in &kept.doubts {
        tell(doubt);
    }
    let saved = kept.settings.sources.get(&origin.name);
    if let Some(trouble) = saved.and_then(|saved| saved.trouble(&origin.name)) {
        tell(&trouble);
    }
    let saved = saved.and_then(|saved| saved.ways_of_writes().0);
    let asked = asked.map(|asked| match asked {
        WritesArgument::Ask => Writes::Ask,
        WritesArgument::Free => Writes::Free,
        WritesArgument::None => Writes::None,
    });
    match (saved, asked) {
        (Some(Writes::None), Some(asked)) if asked != Writes::None => Err(format!(
            "{} is saved with writes = \"none\": nothing is written to it. F9 changes that.",
            origin.name
        )),
        (saved, asked) => Ok(asked.or(saved).unwrap_or(Writes::Ask)),
    }
}

/// Loads the practice harbour into a server's database.
fn load(open: &Open) -> Result<i32, Box<dyn std::error::Error>> {
    if open.source.as_deref() != Some("demo") {
        return Err(
            OpenError::plain("--into belongs to demo: idle-tide demo --into SOURCE.").into(),
        );
    }
    let into = open.into.as_deref().unwrap_or_default();
    let origin = named(into, &Kept::read(), &open.server, true)?;
    let mut connection = self::open(&origin.source, origin.options)?;
    let settings = idle_tide_harbour::Settings {
        readings: open.readings.unwrap_or(idle_tide_harbour::READINGS),
        ..Default::default()
    };
    tell(&format!(
        "loading the practice harbour into {} …",
        origin.name
    ));
    let tables = idle_tide_engines::load_harbour(&mut *connection, &settings).map_err(|error| {
        OpenError::plain(format!(
            "{} The harbour was not loaded; an empty database takes it.",
            OpenError::from(error)
        ))
    })?;
    eprintln!("idle-tide: {tables} tables are there.");
    Ok(0)
}

fn of(name: String, source: Source, options: OpenOptions) -> Origin {
    Origin {
        name,
        source,
        options,
        tone: idle_tide_desk::settings::Tone::Calm,
    }
}

fn source(open: &Open, kept: &Kept) -> Result<Option<Origin>, OpenError> {
    let mut options = OpenOptions {
        write: open.write,
        keep_going: open.keep_going,
        ..OpenOptions::default()
    };
    if let Some(path) = &open.new {
        options.new = true;
        let source = Source::File(path.clone());
        return Ok(Some(of(source.name(), source, options)));
    }
    if open.docs {
        if open.source.as_deref() != Some("demo") {
            return Err(OpenError::plain(
                "--docs belongs to demo: idle-tide demo --docs.",
            ));
        }
        return Ok(Some(of(
            Source::DemoDocuments.name(),
            Source::DemoDocuments,
            options,
        )));
    }
    let Some(name) = &open.source else {
        if open.server.overrides() != Overrides::default() {
            return Err(OpenError::plain(
                "Name the family as the source: idle-tide postgres --host … or idle-tide mariadb --host ….",
            ));
        }
        return Ok(None);
    };
    let mut origin = named(name, kept, &open.server, open.write)?;
    origin.options.keep_going = open.keep_going;
    if origin.source != Source::Demo {
        if open.readings.is_some() || open.fresh {
            return Err(OpenError::plain("--readings and --fresh belong to demo."));
        }
        return Ok(Some(origin));
    }
    let Some(readings) = open.readings.or(open.fresh.then_some(20_000)) else {
        return Ok(Some(origin));
    };
    let path = demo_file(readings)?;
    if open.fresh || !path.exists() {
        if readings > 200_000 {
            eprintln!("idle-tide: making the practice harbour with {readings} readings …");
        }
        sqlite::make_demo(&path, readings)?;
    }
    options.write = true;
    Ok(Some(of(Source::Demo.name(), Source::File(path), options)))
}

fn desk(cli: &Cli) -> Result<i32, Box<dyn std::error::Error>> {
    let kept = Kept::read();
    let origin = source(&cli.open, &kept)?;
    let chosen = match &cli.theme {
        Some(name) => Some(ThemeName::named(name).ok_or_else(|| {
            OpenError::plain(format!(
                "There is no theme {name}. There are deep, shoal and plain."
            ))
        })?),
        None => None,
    };
    let places = Places::of_user();
    let theme = kept.settings.theme.as_deref().and_then(ThemeName::named);
    let theme = Theme::from_environment(chosen.or(theme));
    if !std::io::IsTerminal::is_terminal(&std::io::stdout()) {
        return Err(OpenError::plain(
            "The desk needs a terminal. idle-tide run works without one.",
        )
        .into());
    }
    let (sender, inbox) = channel();
    let events = sender.clone();
    let notify = Arc::new(move |event| {
        // The loop has ended when nobody listens; so will this session.
        let _ = events.send(Happening::Desk(Box::new(event)));
    });
    let writes = match &origin {
        Some(origin) => writes_of(origin, &kept, None)?,
        None => Writes::Ask,
    };
    let setup = Options {
        source: origin
            .as_ref()
            .map(|origin| origin.name.clone())
            .unwrap_or_default(),
        writes: Writes::Ask,
        places: places.clone(),
        stream: None,
    };
    let settings = places.map(|places| places.settings);
    let mut app = match origin {
        // A file is open at once; a server may ask something first, on the screen.
        Some(origin) if !matches!(origin.source, Source::Server(_)) => {
            let connection = open(&origin.source, origin.options)?;
            let mut app = App::new(
                Desk::new(connection, Options { writes, ..setup }, notify),
                theme,
                settings,
            );
            app.desk.came_from(origin);
            app.desk.arrive();
            app
        }
        Some(origin) => {
            let mut app = App::new(Desk::empty(setup, notify), theme, settings);
            let saved = app.desk.settings().sources.contains_key(&origin.name);
            let what = if saved {
                origin.name.clone()
            } else {
                origin.source.address()
            };
            app.desk
                .open_source(&format!("/open {what}"), origin, cli.first.as_deref());
            app
        }
        None => {
            let mut app = App::new(Desk::empty(setup, notify), theme, settings);
            app.open_sources();
            app
        }
    };
    let (keymap, clashes) = Keymap::read(&kept.settings.keys);
    app.keymap = keymap;
    if let Some(words) = clashes.first().or(kept.doubts.first()) {
        app.desk.say(words, Tone::Care);
    }
    if let Some(words) = &kept.trouble {
        app.desk.say(words, Tone::Danger);
    }
    // Where something is still being opened, it comes first.
    if let Some(first) = cli.first.as_deref().filter(|_| !app.desk.is_busy()) {
        app.submit(first);
    }
    Ok(terminal::run(app, sender, &inbox)?)
}
