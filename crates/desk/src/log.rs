//! The log: what happened, for whoever looks for the reason afterwards. Off unless asked for; a file that only its
//! owner can read. Only this program's own events are in it: drivers may say what they send. Statements stand in it as
//! they were submitted, secrets covered.

use std::fs::{File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use tracing_subscriber::filter::{LevelFilter, Targets};
use tracing_subscriber::fmt;
use tracing_subscriber::prelude::*;

/// Bytes at the end of a log in which its last lines are looked for.
const TAIL: u64 = 64 * 1024;

static PLACE: OnceLock<PathBuf> = OnceLock::new();

/// Begins a log: adds to the file at `path`, which is made where it is not there. A process has one log.
///
/// # Errors
/// If the file cannot be written, or there is a log already.
pub fn begin(path: &Path) -> io::Result<()> {
    if path.metadata().is_ok_and(|there| !there.is_file()) {
        return Err(io::Error::other("it is no plain file"));
    }
    if let Some(dir) = path.parent().filter(|dir| !dir.as_os_str().is_empty()) {
        crate::replacing::private(dir);
    }
    let file = OpenOptions::new()
        .append(true)
        .create(true)
        .mode(0o600)
        .open(path)?;
    let own = Targets::new()
        .with_default(LevelFilter::OFF)
        .with_target("idle_tide", LevelFilter::DEBUG);
    let lines = fmt::layer()
        .with_ansi(false)
        .with_target(false)
        .with_writer(std::sync::Mutex::new(file))
        .with_filter(own);
    tracing_subscriber::registry()
        .with(lines)
        .try_init()
        .map_err(io::Error::other)?;
    let _ = PLACE.set(std::path::absolute(path)?);
    tracing::info!(
        version = env!("CARGO_PKG_VERSION"),
        process = std::process::id(),
        "begins"
    );
    Ok(())
}

/// Where the log is, if there is one.
pub fn place() -> Option<&'static Path> {
    PLACE.get().map(PathBuf::as_path)
}

/// The last lines of a log, at most so many.
///
/// # Errors
/// If it cannot be read.
pub fn last_lines(path: &Path, most: usize) -> io::Result<Vec<String>> {
    let mut file = File::open(path)?;
    let from = file.metadata()?.len().saturating_sub(TAIL);
    file.seek(SeekFrom::Start(from))?;
    let mut bytes = Vec::new();
    file.take(TAIL).read_to_end(&mut bytes)?;
    let text = String::from_utf8_lossy(&bytes);
    // What begins in the middle of a line is left out.
    let lines: Vec<&str> = text.lines().skip(usize::from(from > 0)).collect();
    let first = lines.len().saturating_sub(most);
    Ok(lines[first..].iter().map(|line| line.to_string()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_lines_are_whole_ones() {
        let dir = tempfile::tempdir().expect("dir");
        let path = dir.path().join("a.log");
        let lines: Vec<String> = (0..5_000)
            .map(|n| format!("line {n} of a long log"))
            .collect();
        std::fs::write(&path, lines.join("\n") + "\n").expect("written");
        let last = last_lines(&path, 3).expect("read");
        assert_eq!(last, &lines[4_997..]);
        let many = last_lines(&path, 1_000_000).expect("read");
        assert!(
            many.len() < 5_000 && lines.contains(&many[0]),
            "{}",
            many[0]
        );
        assert!(begin(dir.path()).is_err(), "a folder is no log");
    }
}
