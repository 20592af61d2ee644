//! What a desk says to its face: words, text that goes back into the composer, and what only a face can do.

use std::path::PathBuf;

use idle_tide_lang::correct::Correction;

use crate::clipboard::Asked;
use crate::page::Tone;
use crate::task::EntryId;

/// What only a face can do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Request {
    /// Leave.
    Quit,
    /// Open this text in the editor.
    Edit(String),
    /// Put this text into the composer.
    Recall(String),
    /// Put this text into the composer, unless something else was typed there, and go on reading or writing.
    Offer(String),
    /// Show a row as a record; the current one when `None`, else counted from 1.
    Record(Option<u64>),
    /// Show the current document, as text or as an outline.
    Document(bool),
    /// Change the theme, or say which there are.
    Theme(Option<String>),
    /// Open the guide at a topic.
    Guide(String),
    /// Write the card of commands and keys to this file.
    Card(PathBuf),
    /// Show the entries.
    Entries,
    /// Copy something of the current entry.
    Clipboard(Box<Asked>),
    /// Follow the link of the current cell, to a table if one is named.
    Follow(Option<String>),
    /// Show the sources.
    Sources,
    /// Show the catalog, at an object if one is named.
    Catalog(Option<String>),
    /// Go to reading.
    Read,
    /// Clear the view.
    Clear,
    /// Ring the bell.
    Bell,
    /// Go to a place of the rows of an entry: a row, and a column among those shown.
    GoTo(EntryId, u64, usize),
}

/// Text that goes back into the composer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Returned {
    /// The text: what failed, and the rest of its submission.
    pub text: String,
    /// The place that is wrong, in bytes of `text`.
    pub place: Option<std::ops::Range<usize>>,
    /// What would mend it.
    pub corrections: Vec<Correction>,
}

/// A word about something that made no entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// The words.
    pub text: String,
    /// Their tone.
    pub tone: Tone,
}
