//! The rows of the campaign, a file each.

use crate::field::Field;
use crate::tally::Tally;

mod files;
mod guard;
mod hidden;
mod kills;
mod servers;
mod writers;

/// One thing that is promised, and how it is tried.
pub struct Row {
    /// Its name on the command line and in the table.
    pub name: &'static str,
    /// What is promised.
    pub promise: &'static str,
    /// Tries it.
    pub run: fn(&Field) -> Tally,
}

/// All rows, in the order in which they are run.
pub const ROWS: &[Row] = &[
    Row {
        name: "hidden-writes",
        promise: "a session that refuses writes writes nothing",
        run: hidden::run,
    },
    Row {
        name: "guard",
        promise: "what sweeps is asked about, and nothing else is",
        run: guard::run,
    },
    Row {
        name: "writers",
        promise: "what is stored and what was reported as failed are what was attempted",
        run: writers::run,
    },
    Row {
        name: "kills",
        promise: "the old or the new is there, never a half",
        run: kills::run,
    },
    Row {
        name: "hostile-servers",
        promise: "a way out in every state, in words, with bounded memory",
        run: servers::run,
    },
    Row {
        name: "hostile-files",
        promise: "any file ends in words and in bounded memory, and is left as it was",
        run: files::run,
    },
];
