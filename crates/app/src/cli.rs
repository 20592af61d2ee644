//! The command line: what is opened, how, and by which face.

use std::ffi::OsString;
use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::channel;

use clap::{CommandFactory, Parser, Subcommand};
use idle_tide_desk::export::expand;
use idle_tide_desk::settings::Places;
use idle_tide_desk::{Desk, Options, Origin, Tone, Writes};
use idle_tide_engines::{OpenError, OpenOptions, Overrides, Source, demo_file, sqlite};

use crate::app::App;
use crate::arguments::{Open, Run};
use crate::calls::Call;
use crate::keys::Keymap;
use crate::opening::{Kept, named, open, tell, writes_of};
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

/// Loads the practice harbour into a server's database.
fn load(open: &Open) -> Result<i32, Box<dyn std::error::Error>> {
    if open.source.as_deref() != Some("demo") {
        return Err(
            OpenError::plain("--into belongs to demo: idle-tide demo --into SOURCE.").into(),
        );
    }
    let into = open.into.as_deref().unwrap_or_default();
    let origin = named(into, &Kept::read(), &open.server, true)?;
    let mut connection = crate::opening::open(&origin.source, origin.options)?;
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
