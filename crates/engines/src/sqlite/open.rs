//! Opening a file so that reading it leaves no trace: not a byte of the file, not a file beside it. A file
//! in write-ahead mode needs three cases, told apart here and named to the user.

use std::fs::{self, File, Metadata};
use std::io::Read;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use rusqlite::OpenFlags;

use super::{complaint, real_path};
use crate::engine::{Access, EngineError, Fault};

/// How a file was opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Mode {
    Memory,
    /// For reading and writing.
    Writing,
    /// For reading, with the file's own locks.
    Reading,
    /// In write-ahead mode with nobody else there: read as it lies, without locks.
    AsItLies,
    /// In write-ahead mode, with its log: the log's index is read and not written.
    WithLog,
    /// In write-ahead mode with a log but no index: read from a private copy.
    Copy,
}

/// What tells that a file is still the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Stamp {
    inode: u64,
    size: u64,
    modified: (i64, i64),
    log: u64,
}

/// An opened database and how it was opened.
#[derive(Debug)]
pub(super) struct Opened {
    path: Option<PathBuf>,
    mode: Mode,
    stamp: Option<Stamp>,
    /// Holds the private copy as long as it is open.
    _copy: Option<tempfile::TempDir>,
}

fn beside(path: &Path, suffix: &str) -> PathBuf {
    let mut name = path.as_os_str().to_owned();
    name.push(suffix);
    PathBuf::from(name)
}

fn stamp(path: &Path) -> Option<Stamp> {
    let meta = fs::metadata(path).ok()?;
    Some(Stamp {
        inode: meta.ino(),
        size: meta.len(),
        modified: (meta.mtime(), meta.mtime_nsec()),
        log: fs::metadata(beside(path, "-wal")).map_or(0, |m| m.len()),
    })
}

/// The path as a `file:` URI (RFC 8089, escapes of RFC 3986) with a query.
fn uri(path: &Path, query: &str) -> String {
    let mut uri = String::from("file:");
    for byte in path.as_os_str().as_bytes() {
        if byte.is_ascii_alphanumeric() || b"/-._~".contains(byte) {
            uri.push(*byte as char);
        } else {
            uri.push_str(&format!("%{byte:02X}"));
        }
    }
    uri + "?" + query
}

fn refuse(fault: Fault, words: String) -> EngineError {
    let mut error = complaint::other(&words);
    error.fault = fault;
    error.code = "not opened".into();
    error
}

/// Looks at the file before SQLite does, for errors in plain words; answers whether it is in write-ahead mode.
fn look(path: &Path) -> Result<bool, EngineError> {
    let shown = path.display();
    let meta: Metadata = fs::metadata(path).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => refuse(
            Fault::Disk,
            format!("There is no file {shown}. --new makes one."),
        ),
        _ => refuse(Fault::Disk, format!("{shown} cannot be opened: {error}.")),
    })?;
    if !meta.is_file() {
        return Err(refuse(Fault::Disk, format!("{shown} is not a file.")));
    }
    let mut head = Vec::with_capacity(20);
    File::open(path)
        .and_then(|file| file.take(20).read_to_end(&mut head))
        .map_err(|error| refuse(Fault::Disk, format!("{shown} cannot be read: {error}.")))?;
    if head.is_empty() {
        return Ok(false);
    }
    if !head.starts_with(b"SQLite format 3\0") {
        return Err(refuse(
            Fault::Damaged,
            format!(
                "{shown} is not a SQLite database: it does not begin like one. It may be another kind of file, or encrypted."
            ),
        ));
    }
    Ok(head.get(18..20) == Some(&[2, 2]))
}

/// Opens the file at `path`.
pub(super) fn open_file(
    path: &Path,
    write: bool,
) -> Result<(rusqlite::Connection, Opened), EngineError> {
    let log = look(path)?;
    let path = real_path(path);
    let read = OpenFlags::SQLITE_OPEN_READ_ONLY
        | OpenFlags::SQLITE_OPEN_URI
        | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let open = |uri: String, flags| {
        rusqlite::Connection::open_with_flags(uri, flags).map_err(|e| complaint::opening(e, &path))
    };
    let mut copy = None;
    let (connection, mode) = if write {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_URI
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = open(uri(&path, "mode=rw"), flags)?;
        if connection.is_readonly(rusqlite::MAIN_DB).unwrap_or(false) {
            return Err(refuse(
                Fault::Disk,
                format!(
                    "{} may not be written by you. Open it without --write to read it.",
                    path.display()
                ),
            ));
        }
        (connection, Mode::Writing)
    } else if !log {
        (open(uri(&path, "mode=ro"), read)?, Mode::Reading)
    } else if fs::metadata(beside(&path, "-wal")).map_or(0, |m| m.len()) == 0 {
        (
            open(uri(&path, "mode=ro&immutable=1"), read)?,
            Mode::AsItLies,
        )
    } else if beside(&path, "-shm").exists() {
        (
            open(uri(&path, "mode=ro&readonly_shm=1"), read)?,
            Mode::WithLog,
        )
    } else {
        let words = |error: std::io::Error| {
            refuse(
                Fault::Disk,
                format!(
                    "{} has a log that must be read from a private copy, and the copy cannot be made: {error}.",
                    path.display()
                ),
            )
        };
        let dir = idle_tide_core::unfinished::folder().map_err(words)?;
        let place = dir.path().join("copy.db");
        fs::copy(&path, &place).map_err(words)?;
        fs::copy(beside(&path, "-wal"), beside(&place, "-wal")).map_err(words)?;
        copy = Some(dir);
        // The copy is ours: its log is worked into it, and then it is opened as any other file that is only read.
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_URI;
        open(uri(&place, "mode=rw"), flags)?
            .query_row("pragma wal_checkpoint(truncate)", [], |_| Ok(()))
            .map_err(|e| complaint::opening(e, &path))?;
        let connection = open(uri(&place, "mode=ro&immutable=1"), read)?;
        (connection, Mode::Copy)
    };
    let opened = Opened {
        stamp: stamp(&path),
        path: Some(path),
        mode,
        _copy: copy,
    };
    Ok((connection, opened))
}

/// Whether reading a further file beside one that is only read leaves no trace: it has to be there, and to be no
/// file in write-ahead mode, which is worked in even to be read. What is made anew (`vacuum into`) is not there.
/// A name that is no constant is not known beforehand, and refused.
pub(super) fn may_attach(name: &str) -> bool {
    if name.is_empty() || name == ":memory:" {
        return true;
    }
    let path = match name.strip_prefix("file:") {
        Some(uri) => {
            let (path, query) = uri.split_once('?').unwrap_or((uri, ""));
            if path == ":memory:" || query.split('&').any(|part| part == "mode=memory") {
                return true;
            }
            let path = path.strip_prefix("//").unwrap_or(path);
            percent_encoding::percent_decode_str(path)
                .decode_utf8_lossy()
                .into_owned()
        }
        None => name.to_string(),
    };
    let path = Path::new(&path);
    fs::metadata(path).is_ok_and(|meta| meta.len() > 0) && look(path).is_ok_and(|log| !log)
}

impl Opened {
    pub(super) fn memory() -> Self {
        Opened {
            path: None,
            mode: Mode::Memory,
            stamp: None,
            _copy: None,
        }
    }

    pub(super) fn path(&self) -> Option<&Path> {
        self.path.as_deref()
    }

    pub(super) fn name(&self) -> String {
        match self.path.as_ref().and_then(|path| path.file_name()) {
            Some(name) => name.to_string_lossy().into_owned(),
            None => "in memory".into(),
        }
    }

    pub(super) fn access(&self) -> Access {
        match self.mode {
            Mode::Memory | Mode::Writing => Access::Writable,
            _ => Access::ReadOnly(
                "The file was opened to be read only. Open it with --write to change it.".into(),
            ),
        }
    }

    /// Whether it was opened to be read only.
    pub(super) fn only_reads(&self) -> bool {
        !matches!(self.mode, Mode::Memory | Mode::Writing)
    }

    pub(super) fn how(&self) -> &'static str {
        match self.mode {
            Mode::Memory => "in memory; gone when the session ends",
            Mode::Writing => "for reading and writing",
            Mode::Reading => "for reading only",
            Mode::AsItLies => "for reading only, as it lies (write-ahead mode, nobody else there)",
            Mode::WithLog => "for reading only, with its write-ahead log",
            Mode::Copy => {
                "for reading only, from a private copy (its write-ahead log has no index)"
            }
        }
    }

    /// Sentences about what happened to the file since it was opened.
    pub(super) fn warnings(&self) -> Vec<String> {
        let (Some(path), Some(then)) = (&self.path, self.stamp) else {
            return Vec::new();
        };
        match stamp(path) {
            None => vec![format!(
                "The file is no longer at {}; this session still holds what was there.",
                path.display()
            )],
            Some(now) if now.inode != then.inode => vec![format!(
                "Another file lies at {} now; this session still holds the one it opened.",
                path.display()
            )],
            _ => Vec::new(),
        }
    }

    /// A new connection, if the file was opened in a way that cannot see changes and it changed.
    pub(super) fn reopen_if_changed(
        &self,
    ) -> Result<Option<(rusqlite::Connection, Opened)>, EngineError> {
        let Some(path) = &self.path else {
            return Ok(None);
        };
        if !matches!(self.mode, Mode::AsItLies | Mode::Copy) {
            return Ok(None);
        }
        match stamp(path) {
            Some(now) if Some(now) != self.stamp => open_file(path, false).map(Some),
            _ => Ok(None),
        }
    }
}
