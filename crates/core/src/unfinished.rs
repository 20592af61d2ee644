//! Files and folders of ours that are not finished: made beside their places, or in the system's folder for such
//! things, under names that say which process makes them. What a process that is no longer there left is removed
//! when something is made in the same folder again.

use std::collections::HashSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use tempfile::{Builder, NamedTempFile, TempDir};

/// How the names begin, before the number of the process.
const PREFIX: &str = ".idle-tide-";

/// A file in a folder, readable by its owner only, gone when it is dropped.
///
/// # Errors
/// If the folder cannot be written.
pub fn file_in(dir: &Path) -> io::Result<NamedTempFile> {
    sweep_once(dir);
    Builder::new().prefix(&prefix()).tempfile_in(dir)
}

/// The same beside a file, with its ending.
///
/// # Errors
/// As [`file_in`].
pub fn file_beside(path: &Path) -> io::Result<NamedTempFile> {
    let dir = path.parent().filter(|dir| !dir.as_os_str().is_empty());
    let dir = dir.unwrap_or(Path::new("."));
    sweep_once(dir);
    let ending = path.extension().and_then(|ending| ending.to_str());
    let ending = ending.map_or(String::new(), |ending| format!(".{ending}"));
    Builder::new()
        .prefix(&prefix())
        .suffix(&ending)
        .tempfile_in(dir)
}

/// The same in the system's folder, with an ending.
///
/// # Errors
/// As [`file_in`].
pub fn file_ending(ending: &str) -> io::Result<NamedTempFile> {
    let dir = std::env::temp_dir();
    sweep_once(&dir);
    Builder::new()
        .prefix(&prefix())
        .suffix(ending)
        .tempfile_in(dir)
}

/// A folder in the system's folder, for its owner only, gone when it is dropped.
///
/// # Errors
/// As [`file_in`].
pub fn folder() -> io::Result<TempDir> {
    let dir = std::env::temp_dir();
    sweep_once(&dir);
    Builder::new().prefix(&prefix()).tempdir_in(dir)
}

fn prefix() -> String {
    format!("{PREFIX}{}-", std::process::id())
}

fn sweep_once(dir: &Path) {
    static SWEPT: Mutex<Option<HashSet<PathBuf>>> = Mutex::new(None);
    let mut swept = SWEPT.lock().unwrap_or_else(PoisonError::into_inner);
    if swept.get_or_insert_default().insert(dir.to_path_buf()) {
        sweep(dir);
    }
}

/// Removes what processes that are no longer there left in a folder.
fn sweep(dir: &Path) {
    // Where the system does not say which processes there are, everything stays.
    if !Path::new("/proc/self").exists() {
        return;
    }
    for entry in std::fs::read_dir(dir).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let rest = name.to_str().and_then(|name| name.strip_prefix(PREFIX));
        let process = rest.and_then(|rest| rest.split('-').next()?.parse::<u32>().ok());
        if process.is_none_or(|process| Path::new(&format!("/proc/{process}")).exists()) {
            continue;
        }
        // What another user left cannot be removed, and is that user's.
        let _ = match entry.file_type() {
            Ok(kind) if kind.is_dir() => std::fs::remove_dir_all(entry.path()),
            _ => std::fs::remove_file(entry.path()),
        };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_dead_process_left_goes_and_nothing_else() {
        let dir = tempfile::tempdir().expect("dir");
        let at = |name: &str| dir.path().join(name);
        // Numbers of processes end below this one.
        std::fs::create_dir(at(".idle-tide-4194999-abc")).expect("made");
        std::fs::write(at(".idle-tide-4194999-abc/copy.db"), "left").expect("written");
        std::fs::write(at(".idle-tide-4194999-def"), "left").expect("written");
        std::fs::write(at(".idle-tide-1-ghi"), "of a process that runs").expect("written");
        std::fs::write(at("out.csv"), "somebody's").expect("written");
        let own = file_in(dir.path()).expect("made");
        let mut names: Vec<String> = std::fs::read_dir(dir.path())
            .expect("there")
            .map(|entry| entry.expect("entry").file_name().display().to_string())
            .collect();
        names.sort();
        let kept = own
            .path()
            .file_name()
            .expect("a name")
            .display()
            .to_string();
        let mut wanted = vec![".idle-tide-1-ghi".to_string(), kept, "out.csv".into()];
        wanted.sort();
        assert_eq!(names, wanted);
    }
}
