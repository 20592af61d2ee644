//! Half-written text, and what is held, kept so that it is there after a crash: a file for each running program in a folder of the
//! user's state directory, readable by its owner only, gone when nothing is half-written. Whoever starts next on the
//! same source takes over what a program that is no longer there has left.

use std::path::{Path, PathBuf};
use std::sync::mpsc::Sender;
use std::thread::JoinHandle;
use std::time::{Duration, SystemTime};

use idle_tide_lang::{Dialect, secret};
use serde::{Deserialize, Serialize};

use crate::replacing::replace;
use crate::worker::writer;

/// What nobody took over for this long is not kept any longer.
const KEPT: Duration = Duration::from_secs(90 * 24 * 3600);

/// A half-written text.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
struct Draft {
    source: String,
    text: String,
    /// When the program that keeps it began; its number alone may be another's by now.
    #[serde(default)]
    began: Option<String>,
}

/// The half-written text of this program.
pub(crate) struct Drafts {
    dir: PathBuf,
    last: Option<Draft>,
    changes: Option<Sender<Option<Draft>>>,
    thread: Option<JoinHandle<()>>,
}

impl Drop for Drafts {
    /// What is to be kept, or not any longer, is settled before the program ends.
    fn drop(&mut self) {
        self.changes = None;
        if let Some(thread) = self.thread.take() {
            // It has no more to say.
            let _ = thread.join();
        }
    }
}

impl Drafts {
    /// Keeps drafts in a folder, which is made when it is needed.
    pub(crate) fn new(dir: &Path) -> Self {
        let own = dir.join(format!("{}.json", std::process::id()));
        // A slow disk holds nobody up; what cannot be kept is not worth a word while somebody types.
        let (changes, thread) = writer(move |draft: Option<Draft>| {
            let done = match draft.as_ref().map(serde_json::to_vec) {
                Some(Ok(bytes)) => replace(&own, &bytes),
                _ => std::fs::remove_file(&own),
            };
            if let Err(error) = done {
                tracing::debug!(?error, "the half-written text is not kept");
            }
        });
        Drafts {
            dir: dir.to_path_buf(),
            last: None,
            changes: Some(changes),
            thread: Some(thread),
        }
    }

    /// Keeps a text, without the secrets in it; forgets the one before where it is blank.
    pub(crate) fn keep(&mut self, source: &str, text: &str, dialect: &Dialect) {
        let text = (!text.trim().is_empty()).then(|| {
            secret::cover(text, dialect).map_or_else(|| text.to_string(), |covered| covered.text)
        });
        self.note(source, text);
    }

    /// Keeps words of our own; forgets those before where there are none.
    pub(crate) fn note(&mut self, source: &str, words: Option<String>) {
        let draft = words.map(|text| Draft {
            source: source.to_string(),
            text,
            began: began(std::process::id()),
        });
        if draft != self.last {
            self.last.clone_from(&draft);
            if let Some(changes) = &self.changes {
                // The thread ends only with this sender.
                let _ = changes.send(draft);
            }
        }
    }

    /// What a program that is no longer there left half-written on a source; it is taken out of its file.
    pub(crate) fn take_over(&self, source: &str) -> Option<String> {
        let files = std::fs::read_dir(&self.dir).ok()?.flatten();
        let mut found = None;
        for path in files.map(|file| file.path()) {
            let writer = path
                .file_stem()
                .and_then(|name| name.to_str()?.parse::<u32>().ok());
            let Some(writer) = writer else {
                continue;
            };
            let draft = std::fs::read(&path)
                .ok()
                .and_then(|bytes| serde_json::from_slice::<Draft>(&bytes).ok());
            if is_there(writer, draft.as_ref()) {
                continue;
            }
            let changed = path.metadata().and_then(|there| there.modified()).ok();
            let age = changed.and_then(|at| SystemTime::now().duration_since(at).ok());
            match draft {
                Some(draft) if draft.source == source && found.is_none() => {
                    found = Some(draft.text)
                }
                Some(_) if age.is_none_or(|age| age < KEPT) => continue,
                _ => {}
            }
            // Taken over, damaged, or of long ago.
            let _ = std::fs::remove_file(&path);
        }
        found
    }
}

/// When a process began, in the system's own count; `None` where it does not run or nobody says (proc(5), `starttime`).
fn began(process: u32) -> Option<String> {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // The name in brackets may hold anything.
    let (_, rest) = stat.rsplit_once(')')?;
    rest.split_whitespace().nth(19).map(str::to_string)
}

/// Whether the process that keeps a draft runs; counted as running where the system does not say.
fn is_there(process: u32, draft: Option<&Draft>) -> bool {
    if !Path::new("/proc/self").exists() {
        return true;
    }
    let now = began(process);
    match draft.and_then(|draft| draft.began.as_ref()) {
        Some(then) => now.as_ref() == Some(then),
        None => now.is_some(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::POSTGRES;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn what_a_dead_program_left_is_taken_over_once_on_its_source() {
        let dir = tempfile::tempdir().expect("dir");
        let mut drafts = Drafts::new(dir.path());
        drafts.keep(
            "harbour",
            "alter user mate password 'spring tide' ; select",
            &POSTGRES,
        );
        let own = dir.path().join(format!("{}.json", std::process::id()));
        let start = std::time::Instant::now();
        while !own.exists() {
            assert!(start.elapsed() < Duration::from_secs(10), "never written");
            std::thread::yield_now();
        }
        let mode = own.metadata().expect("there").permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        // The one who writes it is there still.
        assert_eq!(drafts.take_over("harbour"), None);
        // Its number was given to another process since, which began at another time.
        let left = std::fs::read_to_string(&own).expect("read");
        let mine = began(std::process::id()).expect("runs");
        let other = left.replace(&format!("\"{mine}\""), "\"1\"");
        assert_ne!(other, left);
        std::fs::write(
            dir.path()
                .join(format!("{}.json", std::os::unix::process::parent_id())),
            other,
        )
        .expect("written");
        assert!(drafts.take_over("harbour").is_some());
        std::fs::rename(&own, dir.path().join("4194999.json")).expect("moved");
        std::fs::write(dir.path().join("4194998.json"), "{\"source\":").expect("written");
        assert_eq!(drafts.take_over("elsewhere"), None);
        let text = drafts.take_over("harbour").expect("kept");
        assert!(
            text.contains("select") && !text.contains("spring"),
            "{text}"
        );
        assert_eq!(drafts.take_over("harbour"), None);
        assert_eq!(std::fs::read_dir(dir.path()).expect("there").count(), 0);
    }
}
