//! The rows of the campaign, a file each.

use crate::field::Field;
use crate::tally::Tally;

mod faults;
mod files;
mod guard;
mod hidden;
mod hostile_text;
mod kills;
mod long;
mod secrets;
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
        name: "faults",
        promise: "full disks, closed pipes, signals, lost and resized terminals end in words, and nothing is lost",
        run: faults::run,
    },
    Row {
        name: "hostile-text",
        promise: "nothing in the data reaches a terminal as a command or a page as markup",
        run: hostile_text::run,
    },
    Row {
        name: "secrets",
        promise: "a secret that was typed is in no file, on no screen and in no list of processes",
        run: secrets::run,
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
    Row {
        name: "fuzzing",
        promise: "no input makes a reader panic or hang, and what is understood is understood again",
        run: crate::fuzz::run,
    },
    Row {
        name: "long-session",
        promise: "memory and open files stay flat",
        run: long::run,
    },
];
