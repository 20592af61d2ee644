//! The command line: what is opened, how, and by which face.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::channel;

use clap::{Args, Parser, Subcommand, ValueEnum};
use idle_tide_desk::settings::{Places, Settings};
use idle_tide_desk::{Desk, Options, Tone, Writes};
use idle_tide_engines::{Connection, OpenError, OpenOptions, Source, demo_file, sqlite};

use crate::app::App;
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
}

#[derive(Debug, Subcommand)]
enum Sub {
    /// Run statements without a screen: results on standard output, messages on standard error
    Run(Run),
}

/// What to open.
#[derive(Debug, Args)]
pub struct Open {
    /// A database file, sqlite:PATH, sqlite::memory:, or demo (the practice harbour)
    source: Option<String>,
    /// Open a file for writing too
    #[arg(long)]
    write: bool,
    /// Make a new database file and open it
    #[arg(long, value_name = "FILE", conflicts_with = "source")]
    new: Option<PathBuf>,
    /// demo: how many tide gauge readings there are
    #[arg(long, value_name = "N")]
    readings: Option<u64>,
    /// demo: make the practice harbour anew
    #[arg(long)]
    fresh: bool,
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
#[derive(Debug, Args)]
pub struct Run {
    /// A database file, sqlite:PATH, sqlite::memory:, or demo (the practice harbour)
    pub source: String,
    /// Statements, or commands that begin with /
    pub statements: Vec<String>,
    /// Run the statements of a file; - is standard input
    #[arg(long, value_name = "FILE", conflicts_with = "statements")]
    pub file: Option<PathBuf>,
    /// csv, tsv, json, jsonl, text or record
    #[arg(long, value_name = "FORMAT")]
    pub format: Option<String>,
    /// Write the results to a file, whole or not at all
    #[arg(long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Leave the names of the columns out
    #[arg(long)]
    pub no_header: bool,
    /// text: lines between the columns and under the names
    #[arg(long)]
    pub lines: bool,
    /// Go on after an error
    #[arg(long, conflicts_with = "together")]
    pub keep_going: bool,
    /// Make all statements one transaction
    #[arg(long)]
    pub together: bool,
    /// Open a file for writing too
    #[arg(long)]
    pub write: bool,
    /// How writes that touch everything are treated
    #[arg(long, value_name = "HOW", default_value = "ask")]
    pub writes: WritesArgument,
}

/// Runs the program; answers its exit code.
pub fn main() -> i32 {
    let cli = Cli::parse();
    let done = match cli.command {
        Some(Sub::Run(run)) => return shell::run(&run),
        None => desk(&cli),
    };
    done.unwrap_or_else(|error| {
        eprintln!("idle-tide: {error}");
        1
    })
}

/// Opens a source; says so when a lock has to be waited for.
///
/// # Errors
/// In whole sentences, with the way out.
pub fn open(source: &Source, options: OpenOptions) -> Result<Box<dyn Connection>, OpenError> {
    idle_tide_engines::open(source, options, &mut || {
        eprintln!("idle-tide: waiting for another program that holds the file, up to 5 s …");
    })
}

fn source(open: &Open) -> Result<(Source, OpenOptions), OpenError> {
    let mut options = OpenOptions {
        write: open.write,
        new: false,
    };
    if let Some(path) = &open.new {
        options.new = true;
        return Ok((Source::File(path.clone()), options));
    }
    let Some(name) = &open.source else {
        return Err(OpenError::plain(
            "Name a source: a database file, sqlite::memory:, or demo for the practice harbour. --new FILE makes a file. --help tells more.".into(),
        ));
    };
    let source = Source::parse(name)?;
    if source != Source::Demo {
        if open.readings.is_some() || open.fresh {
            return Err(OpenError::plain(
                "--readings and --fresh belong to demo.".into(),
            ));
        }
        return Ok((source, options));
    }
    let Some(readings) = open.readings.or(open.fresh.then_some(20_000)) else {
        return Ok((Source::Demo, options));
    };
    let path = demo_file(readings)?;
    if open.fresh || !path.exists() {
        if readings > 200_000 {
            eprintln!("idle-tide: making the practice harbour with {readings} readings …");
        }
        sqlite::make_demo(&path, readings)?;
    }
    options.write = true;
    Ok((Source::File(path), options))
}

fn desk(cli: &Cli) -> Result<i32, Box<dyn std::error::Error>> {
    let (source, options) = source(&cli.open)?;
    let chosen = match &cli.theme {
        Some(name) => Some(ThemeName::named(name).ok_or_else(|| {
            OpenError::plain(format!(
                "There is no theme {name}. There are deep, shoal and plain."
            ))
        })?),
        None => None,
    };
    let places = Places::of_user();
    let mut trouble = None;
    let settings = places
        .as_ref()
        .map(|places| Settings::read(&places.settings));
    let settings = match settings {
        Some(Ok(settings)) => settings,
        Some(Err(words)) => {
            trouble = Some(words);
            Settings::default()
        }
        None => Settings::default(),
    };
    let kept = settings.theme.as_deref().and_then(ThemeName::named);
    let theme = Theme::from_environment(chosen.or(kept));
    let connection = open(&source, options)?;
    if !std::io::IsTerminal::is_terminal(&std::io::stdout()) {
        return Err(OpenError::plain(
            "The desk needs a terminal. idle-tide run works without one.".into(),
        )
        .into());
    }
    let (sender, inbox) = channel();
    let events = sender.clone();
    let notify = Arc::new(move |event| {
        // The loop has ended when nobody listens; so will this session.
        let _ = events.send(Happening::Desk(event));
    });
    let name = if cli.open.source.as_deref() == Some("demo") {
        Source::Demo.name()
    } else {
        source.name()
    };
    let desk = Desk::new(
        connection,
        Options {
            source: name,
            writes: Writes::Ask,
            places: places.clone(),
            stream: None,
        },
        notify,
    );
    let mut app = App::new(desk, theme, places.map(|places| places.settings));
    app.desk.arrive();
    if let Some(words) = trouble {
        app.desk.say(words, Tone::Care);
    }
    if let Some(first) = &cli.first {
        app.submit(first);
    }
    Ok(terminal::run(app, sender, &inbox)?)
}
