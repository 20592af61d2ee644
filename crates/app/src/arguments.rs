//! What stands on the command line: what is opened and how, what is run, where results go.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use idle_tide_draw::export::names_in_words;
use idle_tide_engines::Overrides;

use crate::cli_layout::LayoutOptions;

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
    pub(crate) fn overrides(&self) -> Overrides {
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
    pub(crate) source: Option<String>,
    #[command(flatten)]
    pub(crate) server: Server,
    /// Open a file for writing too
    #[arg(long)]
    pub(crate) write: bool,
    /// demo: its documents instead of its tables
    #[arg(long)]
    pub(crate) docs: bool,
    /// Documents in files: leave out what cannot be understood and read the rest
    #[arg(long)]
    pub(crate) keep_going: bool,
    /// Make a new database file and open it
    #[arg(long, value_name = "FILE", conflicts_with = "source")]
    pub(crate) new: Option<PathBuf>,
    /// demo: how many tide gauge readings there are
    #[arg(long, value_name = "N")]
    pub(crate) readings: Option<u64>,
    /// demo: make the practice harbour anew
    #[arg(long)]
    pub(crate) fresh: bool,
    /// demo: load the practice harbour into a database of a server, and leave
    #[arg(long, value_name = "SOURCE")]
    pub(crate) into: Option<String>,
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
    pub across: Vec<Lent>,
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

/// A result that a question across results names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lent {
    /// Its name.
    pub name: String,
    /// Its source.
    pub source: String,
    /// Its statement.
    pub statement: String,
}
