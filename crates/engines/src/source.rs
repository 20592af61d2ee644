//! From what the user named to an open connection: `demo`, a path, `sqlite:PATH`, `sqlite::memory:`, or the
//! address of a server. What has to be asked on the way (a password, a host key) is asked of [`Ask`].

use std::fs;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};

use secrecy::SecretString;

use crate::address::{Address, Overrides, SERVED, SecretFor, schemes_in_words};
use crate::documents::WireAddress;
use crate::engine::Connection;
use crate::members;
use crate::reach::Reach;
use crate::trouble::{Ask, OpenError};
use crate::{documents, families, sqlite};

/// What the user named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// The practice harbour.
    Demo,
    /// A database file.
    File(PathBuf),
    /// A database in memory.
    Memory,
    /// The practice harbour's documents, in files.
    DemoDocuments,
    /// Documents in a file or a folder of files.
    Documents(PathBuf),
    /// A database of a server.
    Server(Box<Address>),
    /// A database of a document server.
    Wire(Box<WireAddress>),
}

/// How to open it.
#[derive(Debug, Clone, Copy, Default)]
pub struct OpenOptions {
    /// Open a file for writing too.
    pub write: bool,
    /// Make the file; it must not exist.
    pub new: bool,
    /// Leave out documents that cannot be understood and read the rest.
    pub keep_going: bool,
}

impl Source {
    /// Reads what the user named, with the process's environment.
    ///
    /// # Errors
    /// If it is an address of a family this program does not open, or a damaged one.
    pub fn parse(text: &str) -> Result<Self, OpenError> {
        Self::parse_with(text, &Overrides::default())
    }

    /// The same with what else was said.
    ///
    /// # Errors
    /// As [`Source::parse`].
    pub fn parse_with(text: &str, more: &Overrides) -> Result<Self, OpenError> {
        if WireAddress::is_one(text) {
            if more.via.is_some() || more.through.is_some() {
                return Err(OpenError::plain(
                    "Document servers are reached directly: --via and --through are for the relational ones so far.",
                ));
            }
            if more.host.is_some() || more.port.is_some() {
                return Err(OpenError::plain(
                    "The hosts and ports of a document server stand in its address: mongodb://HOST:PORT/DATABASE.",
                ));
            }
            let address = WireAddress::parse(text, more.database.as_deref())?;
            return Ok(Source::Wire(Box::new(match &more.user {
                Some(user) => address.with_user(user)?,
                None => address,
            })));
        }
        let plain = *more == Overrides::default();
        if Address::is_one(text) {
            let address = Address::parse(text, more, &|name| std::env::var(name).ok())?;
            return Ok(Source::Server(Box::new(address)));
        }
        // A scheme alone leaves the rest to options and the environment.
        for scheme in SERVED
            .iter()
            .flat_map(|served| served.schemes.iter().copied())
        {
            if text == scheme || text.strip_suffix(':') == Some(scheme) {
                return Self::parse_with(&format!("{scheme}://"), more);
            }
        }
        if !plain {
            return Err(OpenError::plain(format!(
                "--host, --port, --user, --database, --via and --through belong to a server: name its family as the source, postgres, mariadb or tds, instead of {text}."
            )));
        }
        if text == "demo" {
            return Ok(Source::Demo);
        }
        if text == "demo-docs" {
            return Ok(Source::DemoDocuments);
        }
        if let Some(path) = text.strip_prefix("docs:") {
            if path.is_empty() {
                return Err(OpenError::plain(
                    "docs: needs a path: docs:PATH, a file or a folder of JSON, JSON lines or BSON.",
                ));
            }
            return Ok(Source::Documents(PathBuf::from(path)));
        }
        if text == ":memory:" || text == "sqlite::memory:" {
            return Ok(Source::Memory);
        }
        if let Some(path) = text.strip_prefix("sqlite:") {
            let path = path.strip_prefix("//").unwrap_or(path);
            if path.is_empty() {
                return Err(OpenError::plain(
                    "sqlite: needs a path: sqlite:PATH, or sqlite::memory:.",
                ));
            }
            return Ok(Source::File(PathBuf::from(path)));
        }
        if let Some((scheme, _)) = text.split_once("://")
            && !scheme.contains('/')
        {
            return Err(OpenError::plain(format!(
                "Addresses that begin with {scheme}: cannot be opened. What can: {}, mongodb://, a path of a SQLite file, sqlite:PATH, sqlite::memory:, docs:PATH, demo, demo-docs.",
                schemes_in_words()
            )));
        }
        let ending = text
            .rsplit('.')
            .next()
            .unwrap_or_default()
            .to_ascii_lowercase();
        if text.contains('.') && ["json", "jsonl", "ndjson", "bson"].contains(&ending.as_str()) {
            return Ok(Source::Documents(PathBuf::from(text)));
        }
        if text.is_empty() {
            return Err(OpenError::plain(
                "The source has no name. Name a file, an address, or demo.",
            ));
        }
        Ok(Source::File(PathBuf::from(text)))
    }

    /// The short name the bearings show.
    pub fn name(&self) -> String {
        match self {
            Source::Demo => "Brackwater Haven".into(),
            Source::DemoDocuments => "Brackwater".into(),
            Source::Memory => "memory".into(),
            Source::File(path) | Source::Documents(path) => path.file_stem().map_or_else(
                || path.display().to_string(),
                |name| name.to_string_lossy().into_owned(),
            ),
            Source::Wire(address) => address.hosts.clone(),
            Source::Server(address) => match &address.socket {
                Some(_) => "this machine".into(),
                None => address.host.clone(),
            },
        }
    }

    /// The password of its database user, if it is known.
    pub fn password(&self) -> Option<SecretString> {
        match self {
            Source::Server(address) => address.secrets.get(&SecretFor::Database),
            Source::Wire(address) => address.password(),
            _ => None,
        }
    }

    /// Gives it the password of its database user.
    pub fn set_password(&self, password: SecretString) {
        match self {
            Source::Server(address) => address.secrets.set(SecretFor::Database, Some(password)),
            Source::Wire(address) => address.set_password(Some(password)),
            _ => {}
        }
    }

    /// The files it reads from or writes to, as far as they are of its own; a file that is not there is among them.
    pub fn files(&self) -> Vec<PathBuf> {
        match self {
            Source::File(path) => ["", "-wal", "-shm", "-journal"]
                .iter()
                .map(|ending| {
                    let mut name = path.as_os_str().to_owned();
                    name.push(ending);
                    PathBuf::from(name)
                })
                .collect(),
            Source::Documents(path) => match fs::read_dir(path) {
                Ok(inside) => inside.flatten().map(|entry| entry.path()).collect(),
                Err(_) => vec![path.clone()],
            },
            Source::Demo => demo_file(idle_tide_harbour::READINGS)
                .map(|path| Source::File(path).files())
                .unwrap_or_default(),
            Source::DemoDocuments => demo_file(idle_tide_harbour::READINGS)
                .map(|path| Source::Documents(path.with_file_name("harbour-log")).files())
                .unwrap_or_default(),
            Source::Memory | Source::Server(_) | Source::Wire(_) => Vec::new(),
        }
    }

    /// Makes it lead to another database of its server; what is no server stays as it is.
    pub fn set_database(&mut self, database: &str) {
        match self {
            Source::Server(address) => address.database = database.to_string(),
            Source::Wire(address) => **address = address.with_database(database),
            _ => {}
        }
    }

    /// What names it again, without secrets.
    pub fn address(&self) -> String {
        match self {
            Source::Demo => "demo".into(),
            Source::DemoDocuments => "demo-docs".into(),
            Source::Documents(path) => format!("docs:{}", path.display()),
            Source::Memory => "sqlite::memory:".into(),
            Source::File(path) => format!("sqlite:{}", path.display()),
            Source::Server(address) => address.url(),
            Source::Wire(address) => address.text.clone(),
        }
    }
}

/// Where the practice harbour with so many readings is kept, in the user's data directory.
///
/// # Errors
/// If the user has no data directory or it cannot be made.
pub fn demo_file(readings: u64) -> Result<PathBuf, OpenError> {
    let dirs = directories::ProjectDirs::from("", "", "idle-tide").ok_or_else(|| {
        OpenError::plain("There is no home directory to keep the practice harbour in. Set HOME.")
    })?;
    let dir = dirs.data_dir();
    fs::create_dir_all(dir).map_err(|e| {
        OpenError::plain(format!(
            "The directory {} cannot be made: {e}.",
            dir.display()
        ))
    })?;
    let name = if readings == idle_tide_harbour::READINGS {
        "harbour.db".to_string()
    } else {
        format!("harbour-{readings}.db")
    };
    Ok(dir.join(name))
}

/// The folder of the practice harbour's documents, in the user's data directory; it is made where it is not there.
///
/// # Errors
/// If the user has no data directory or it cannot be made.
pub fn demo_documents() -> Result<PathBuf, OpenError> {
    let path = demo_file(idle_tide_harbour::READINGS)?.with_file_name("harbour-log");
    idle_tide_dock::harbour::make_folder(&path).map_err(|error| {
        OpenError::plain(format!(
            "The harbour's documents cannot be made at {}: {error}.",
            path.display()
        ))
    })?;
    Ok(path)
}

/// Opens a source.
///
/// # Errors
/// If the file is missing, is no database, is locked, or cannot be made; if the server cannot be reached,
/// refuses, or is not who it should be; if the user did not want to go on.
pub fn open(
    source: &Source,
    options: OpenOptions,
    ask: &dyn Ask,
) -> Result<Box<dyn Connection>, OpenError> {
    // A driver may fall over an answer that no server gives.
    let opened = catch_unwind(AssertUnwindSafe(|| open_it(source, options, ask)));
    opened.unwrap_or_else(|_| {
        Err(OpenError::plain(
            "What answered there sent something that no such server sends, and nothing can be made of it.",
        ))
    })
}

fn open_it(
    source: &Source,
    options: OpenOptions,
    ask: &dyn Ask,
) -> Result<Box<dyn Connection>, OpenError> {
    let waiting = &mut || ask.tell("waits for a lock that somebody else holds on the file");
    Ok(match source {
        Source::Memory => Box::new(sqlite::Sqlite::memory()?),
        Source::Demo => {
            let path = demo_file(idle_tide_harbour::READINGS)?;
            if !path.exists() {
                sqlite::make_harbour(&path, &idle_tide_harbour::Settings::default())?;
            }
            Box::new(sqlite::Sqlite::file(&path, true, waiting)?)
        }
        Source::DemoDocuments => {
            let path = demo_documents()?;
            Box::new(documents::Local::open(&path, true, options.keep_going)?)
        }
        Source::Documents(path) => Box::new(documents::Local::open(
            path,
            options.write,
            options.keep_going,
        )?),
        Source::File(path) if options.new => {
            make_empty(path)?;
            Box::new(sqlite::Sqlite::file(path, true, waiting)?)
        }
        Source::File(path) => Box::new(sqlite::Sqlite::file(path, options.write, waiting)?),
        Source::Wire(address) => Box::new(documents::Remote::open(address, ask)?),
        Source::Server(address) => {
            let family = families::of(address.family);
            let open = family.and_then(|family| family.open).ok_or_else(|| {
                OpenError::plain(format!("{} has no server to open.", address.served().name))
            })?;
            members::open(address, &mut |one| open(one, Reach::open(one, ask)?, ask))?
        }
    })
}

fn make_empty(path: &Path) -> Result<(), OpenError> {
    fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .open(path)
        .map(drop)
        .map_err(|error| {
            let path = path.display();
            OpenError::plain(match error.kind() {
                std::io::ErrorKind::AlreadyExists => format!(
                    "{path} exists already. Open it without --new, and with --write to change it."
                ),
                std::io::ErrorKind::NotFound => {
                    format!("{path} cannot be made: its directory does not exist.")
                }
                _ => format!("{path} cannot be made: {error}."),
            })
        })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sources_are_told_apart() {
        let parse = |text: &str| Source::parse(text).expect("a source");
        assert_eq!(parse("demo"), Source::Demo);
        assert_eq!(parse("./demo"), Source::File("./demo".into()));
        assert_eq!(parse("sqlite::memory:"), Source::Memory);
        assert_eq!(parse("sqlite:a b.db"), Source::File("a b.db".into()));
        assert!(matches!(parse("postgres://haven"), Source::Server(_)));
        assert!(matches!(parse("mariadb"), Source::Server(_)));
        assert!(Source::parse("oak://haven").is_err());
        assert!(Source::parse("").is_err());
        let over = Overrides {
            port: Some(1),
            ..Overrides::default()
        };
        assert!(Source::parse_with("demo", &over).is_err());
    }
}
