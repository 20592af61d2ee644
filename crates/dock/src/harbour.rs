//! The scenario's documents as files: made beside their place first, then moved there whole.

use std::io;
use std::path::Path;

use idle_tide_core::document::Document;
use idle_tide_harbour::documents::{COLLECTIONS, LANDINGS, documents};

/// The scenario's documents of one collection.
pub fn collection(name: &str, landings: u64) -> Vec<Document> {
    let mut list = Vec::new();
    let done: Result<(), std::convert::Infallible> =
        documents(landings, &mut |collection, document| {
            if collection == name {
                list.push(document);
            }
            Ok(())
        });
    match done {
        Ok(()) => list,
    }
}

/// Makes the folder of the scenario's collections, if it is not there.
///
/// # Errors
/// If it cannot be written.
pub fn make_folder(folder: &Path) -> io::Result<()> {
    if folder.exists() {
        return Ok(());
    }
    let parent = folder.parent().unwrap_or(Path::new("."));
    let beside = tempfile::tempdir_in(parent)?;
    for name in COLLECTIONS {
        let path = beside.path().join(format!("{name}.jsonl"));
        crate::files::write(
            &path,
            crate::files::Form::Lines,
            &mut collection(name, LANDINGS).into_iter().map(Ok),
        )?;
    }
    std::fs::rename(beside.keep(), folder)
}
