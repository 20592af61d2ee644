//! Statements of this and earlier sessions, in a file of the user's state directory that only the user can
//! read. One JSON object a line, appended in one write; a line that was cut off by a crash is skipped.

use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

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
#[derive(Debug, Default)]
pub struct History {
    items: Vec<Item>,
    /// Items of earlier sessions come first.
    earlier: usize,
    path: Option<PathBuf>,
}

impl History {
    /// Reads the history kept at `path`; a file that is not there is an empty history.
    ///
    /// # Errors
    /// If the file is there and cannot be read.
    pub fn open(path: &Path) -> io::Result<Self> {
        let mut items: Vec<Item> = Vec::new();
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
            path: Some(path.to_path_buf()),
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
    /// If it cannot be written; it is then kept for this session.
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
        let Some(path) = &self.path else {
            return Ok(());
        };
        if line.len() > LONGEST {
            return Ok(());
        }
        private(path.parent());
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
        whole.extend_from_slice(&line);
        whole.push(b'\n');
        file.write_all(&whole)
    }
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

fn private(dir: Option<&Path>) {
    use std::os::unix::fs::DirBuilderExt;
    if let Some(dir) = dir {
        // If it fails, opening the file says why.
        let _ = std::fs::DirBuilder::new()
            .recursive(true)
            .mode(0o700)
            .create(dir);
    }
}

fn write_whole(path: &Path, items: &[Item]) -> io::Result<()> {
    let mut bytes = Vec::new();
    for item in items {
        serde_json::to_writer(&mut bytes, item)?;
        bytes.push(b'\n');
    }
    replace(path, &bytes)
}

/// Writes a file so that a crash at any moment leaves the old or the new one; readable by its owner only.
///
/// # Errors
/// If the directory cannot be made or the file not written.
pub fn replace(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let dir = path.parent().unwrap_or(Path::new("."));
    private(Some(dir));
    let mut place = tempfile::NamedTempFile::new_in(dir)?;
    place.write_all(bytes)?;
    place.as_file().sync_all()?;
    place.persist(path).map_err(|error| error.error)?;
    Ok(())
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
        let texts: Vec<_> = History::open(&path)
            .expect("opens")
            .items()
            .iter()
            .map(|item| item.text.clone())
            .collect();
        assert_eq!(texts, ["select 1;\nselect 'ü';", "select 2;"]);
    }
}
