//! From what the user named to an open connection: `demo`, a path, `sqlite:PATH`, `sqlite::memory:`.

use std::fs;
use std::path::{Path, PathBuf};

use crate::engine::{Connection, EngineError};
use crate::sqlite;

/// What the user named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Source {
    /// The practice harbour.
    Demo,
    /// A database file.
    File(PathBuf),
    /// A database in memory.
    Memory,
}

/// How to open it.
#[derive(Debug, Clone, Copy, Default)]
pub struct OpenOptions {
    /// Open a file for writing too.
    pub write: bool,
    /// Make the file; it must not exist.
    pub new: bool,
}

/// Why a source cannot be opened, in whole sentences with the way out.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{0}")]
pub struct OpenError(pub String);

impl From<EngineError> for OpenError {
    fn from(error: EngineError) -> Self {
        OpenError(match error.advice {
            Some(advice) => format!("{advice} ({}, {})", error.message, error.code),
            None => format!("{} ({})", error.message, error.code),
        })
    }
}

impl Source {
    /// Reads what the user named.
    ///
    /// # Errors
    /// If it is an address of a family this program does not open.
    pub fn parse(text: &str) -> Result<Self, OpenError> {
        if text == "demo" {
            return Ok(Source::Demo);
        }
        if text == ":memory:" || text == "sqlite::memory:" {
            return Ok(Source::Memory);
        }
        if let Some(path) = text.strip_prefix("sqlite:") {
            let path = path.strip_prefix("//").unwrap_or(path);
            if path.is_empty() {
                return Err(OpenError(
                    "sqlite: needs a path: sqlite:PATH, or sqlite::memory:.".into(),
                ));
            }
            return Ok(Source::File(PathBuf::from(path)));
        }
        if let Some((scheme, _)) = text.split_once("://")
            && !scheme.contains('/')
        {
            return Err(OpenError(format!(
                "Addresses that begin with {scheme}: cannot be opened. What can: a path of a SQLite file, sqlite:PATH, sqlite::memory:, demo."
            )));
        }
        if text.is_empty() {
            return Err(OpenError(
                "The source has no name. Name a file, or demo.".into(),
            ));
        }
        Ok(Source::File(PathBuf::from(text)))
    }

    /// The short name the bearings show.
    pub fn name(&self) -> String {
        match self {
            Source::Demo => "Brackwater Haven".into(),
            Source::Memory => "memory".into(),
            Source::File(path) => path.file_stem().map_or_else(
                || path.display().to_string(),
                |name| name.to_string_lossy().into_owned(),
            ),
        }
    }
}

/// Where the practice harbour with so many readings is kept, in the user's data directory.
///
/// # Errors
/// If the user has no data directory or it cannot be made.
pub fn demo_file(readings: u64) -> Result<PathBuf, OpenError> {
    let dirs = directories::ProjectDirs::from("", "", "idle-tide").ok_or_else(|| {
        OpenError("There is no home directory to keep the practice harbour in. Set HOME.".into())
    })?;
    let dir = dirs.data_dir();
    fs::create_dir_all(dir).map_err(|e| {
        OpenError(format!(
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

/// Opens a source. `waiting` is called once if a lock has to be waited for.
///
/// # Errors
/// If the file is missing, is no database, is locked, or cannot be made.
pub fn open(
    source: &Source,
    options: OpenOptions,
    waiting: &mut dyn FnMut(),
) -> Result<Box<dyn Connection>, OpenError> {
    Ok(match source {
        Source::Memory => Box::new(sqlite::Sqlite::memory()?),
        Source::Demo => {
            let path = demo_file(idle_tide_harbour::READINGS)?;
            if !path.exists() {
                sqlite::make_harbour(&path, &idle_tide_harbour::Settings::default())?;
            }
            Box::new(sqlite::Sqlite::file(&path, true, waiting)?)
        }
        Source::File(path) if options.new => {
            make_empty(path)?;
            Box::new(sqlite::Sqlite::file(path, true, waiting)?)
        }
        Source::File(path) => Box::new(sqlite::Sqlite::file(path, options.write, waiting)?),
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
            OpenError(match error.kind() {
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
        assert!(Source::parse("postgres://haven").is_err());
        assert!(Source::parse("").is_err());
    }
}
