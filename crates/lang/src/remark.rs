//! What is said of a statement while it is written and after it ran, without keeping it from running.

use std::ops::Range;

use crate::correct::Edit;

/// One remark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// What it is about, in bytes of the statement.
    pub span: Range<usize>,
    /// What is wrong, in whole sentences.
    pub words: String,
    /// What mends it.
    pub edit: Option<Edit>,
    /// Whether it is about a name only, so that nothing is certain while the name is still being typed.
    pub of_name: bool,
}

/// All that is known of a statement.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remarks {
    /// Tables (the byte at which each is named) whose join may multiply the rows before it.
    pub many: Vec<usize>,
    /// What is doubtful, in the order of the text.
    pub said: Vec<Remark>,
}
