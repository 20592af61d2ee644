//! Statements of this and earlier sessions, in a file of the user's state directory that only the user can
//! read. One JSON object a line, appended in one write by a thread of its own, so that a slow disk holds nobody up; a
//! line that was cut off by a crash is skipped.

use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::Sender;
use std::thread::JoinHandle;
use std::time::{SystemTime, UNIX_EPOCH};

use parking_lot::Mutex;
use serde::{Deserialize, Serialize};

use crate::replacing::{private, replace};
use crate::worker::writer;

/// Statements kept; when the file holds twice as many it is written anew with the latest.
const KEPT: usize = 5_000;
/// A statement longer than this is kept in the session and not in the file.
const LONGEST: usize = 1024 * 1024;

/// One statement that was submitted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Item {
    /// When, in seconds since 1970 UTC.
    pub at: u64,
    /// On which source.
    pub source: String,
    /// The text, whole.
    pub text: String,
}

/// The history.
#[derive(Default)]
pub struct History {
    items: Vec<Item>,
    /// Items of earlier sessions come first.
    earlier: usize,
    file: Option<Appending>,
}

/// The end of a history's file in its thread.
struct Appending {
    lines: Option<Sender<Vec<u8>>>,
    thread: Option<JoinHandle<()>>,
    failed: Arc<Mutex<Option<io::Error>>>,
}

impl Drop for Appending {
    /// What was handed over is written before the program ends.
    fn drop(&mut self) {
        self.lines = None;
        if let Some(thread) = self.thread.take() {
            // It has no more to say than it said.
            let _ = thread.join();
        }
    }
}

impl Appending {
    fn to(path: &Path) -> Self {
        let failed = Arc::<Mutex<Option<io::Error>>>::default();
        let (path, said) = (path.to_path_buf(), Arc::clone(&failed));
        let (lines, thread) = writer(move |line: Vec<u8>| {
            if let Err(error) = append(&path, &line) {
                *said.lock() = Some(error);
            }
        });
        Appending {
            lines: Some(lines),
            thread: Some(thread),
            failed,
        }
    }
}

impl History {
    /// Reads the history kept at `path`; a file that is not there is an empty history.
    ///
    /// # Errors
    /// If the file is there and cannot be read.
    pub fn open(path: &Path) -> io::Result<Self> {
        let mut items: Vec<Item> = Vec::new();
        if std::fs::metadata(path).is_ok_and(|there| !there.is_file()) {
            return Err(io::Error::other("it is no plain file"));
        }
        match File::open(path) {
            Ok(file) => {
                for line in BufReader::new(file).split(b'\n') {
                    if let Ok(item) = serde_json::from_slice(&line?) {
                        items.push(item);
                    }
                }
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => return Err(error),
        }
        if items.len() > 2 * KEPT {
            items.drain(..items.len() - KEPT);
            write_whole(path, &items)?;
        }
        Ok(History {
            earlier: items.len(),
            items,
            file: Some(Appending::to(path)),
        })
    }

    /// A history that is not kept.
    pub fn forgetful() -> Self {
        Self::default()
    }

    /// All items, oldest first.
    pub fn items(&self) -> &[Item] {
        &self.items
    }

    /// Items of earlier sessions, oldest first.
    pub fn earlier(&self) -> &[Item] {
        &self.items[..self.earlier]
    }

    /// Adds a text; one that equals the latest is not kept twice.
    ///
    /// # Errors
    /// If the one before could not be written; it is kept for this session.
    pub fn add(&mut self, source: &str, text: &str) -> io::Result<()> {
        let repeated = self
            .items
            .last()
            .is_some_and(|last| last.text == text && last.source == source);
        if repeated || text.trim().is_empty() {
            return Ok(());
        }
        let item = Item {
            at: SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .map_or(0, |since| since.as_secs()),
            source: source.to_string(),
            text: text.to_string(),
        };
        let line = serde_json::to_vec(&item)?;
        self.items.push(item);
        let Some(file) = &self.file else {
            return Ok(());
        };
        if line.len() <= LONGEST
            && let Some(lines) = &file.lines
        {
            // The thread ends only with this sender.
            let _ = lines.send(line);
        }
        file.failed.lock().take().map_or(Ok(()), Err)
    }
}

/// Adds a line in one write.
fn append(path: &Path, line: &[u8]) -> io::Result<()> {
    if let Some(dir) = path.parent() {
        private(dir);
    }
    let mut file = OpenOptions::new()
        .read(true)
        .append(true)
        .create(true)
        .mode(0o600)
        .open(path)?;
    // A line that a crash cut off is closed first, so that this one stands alone.
    let mut whole = Vec::with_capacity(line.len() + 2);
    if ends_open(&file)? {
        whole.push(b'\n');
    }
    whole.extend_from_slice(line);
    whole.push(b'\n');
    file.write_all(&whole)
}

fn ends_open(file: &File) -> io::Result<bool> {
    use std::os::unix::fs::FileExt;
    let length = file.metadata()?.len();
    if length == 0 {
        return Ok(false);
    }
    let mut last = [0];
    file.read_exact_at(&mut last, length - 1)?;
    Ok(last != *b"\n")
}

fn write_whole(path: &Path, items: &[Item]) -> io::Result<()> {
    let mut bytes = Vec::new();
    for item in items {
        serde_json::to_writer(&mut bytes, item)?;
        bytes.push(b'\n');
    }
    replace(path, &bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn it_is_private_and_survives_a_cut_off_line() {
        let dir = tempfile::tempdir().expect("dir");
        let path = dir.path().join("state/history.jsonl");
        let mut history = History::open(&path).expect("opens");
        history
            .add("demo", "select 1;\nselect 'ü';")
            .expect("added");
        history
            .add("demo", "select 1;\nselect 'ü';")
            .expect("repeated");
        drop(history);
        let mode = std::fs::metadata(&path)
            .expect("there")
            .permissions()
            .mode();
        assert_eq!(mode & 0o777, 0o600);
        let mut file = OpenOptions::new().append(true).open(&path).expect("opens");
        file.write_all(b"{\"at\":1,\"source\":\"demo\",\"te")
            .expect("cut off");
        let mut again = History::open(&path).expect("opens");
        again.add("demo", "select 2;").expect("added");
        drop(again);
        let texts: Vec<_> = History::open(&path)
            .expect("opens")
            .items()
            .iter()
            .map(|item| item.text.clone())
            .collect();
        assert_eq!(texts, ["select 1;\nselect 'ü';", "select 2;"]);
    }
}
