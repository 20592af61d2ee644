//! The rows of the campaign, a file each.

use crate::field::Field;
use crate::tally::Tally;

mod hidden;

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
pub const ROWS: &[Row] = &[Row {
    name: "hidden-writes",
    promise: "a session that refuses writes writes nothing",
    run: hidden::run,
}];
