//! Rows from files: comma-separated and the like, JSON, Extended JSON, BSON, Parquet, each also in gzip. What a file holds is
//! found by reading it ([`look`]) and is a [`Proposal`] that can be changed; [`rows`] then gives its rows as values of the types
//! that were agreed on, and every line that does not fit, with its place and the reason.

mod columnar;
mod convert;
mod file;
mod gather;
mod look;
mod plan;
mod records;
mod separated;

pub use convert::{FORMS, Form};
pub use file::{Encoding, Kind, Spooled, spool};
pub use look::{check, look};
pub use plan::{Asked, ColumnPlan, Proposal, Shape};
pub use records::{Batch, Refuse, documents, rows, rows_by};
pub use separated::Separated;

/// A line, or a document, that does not fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bad {
    /// The line in the file, counted from 1; of files without lines the number of the row.
    pub line: u64,
    /// The column, where it is one column that does not fit.
    pub column: Option<String>,
    /// What stands there, shortened.
    pub text: String,
    /// Why it does not fit.
    pub why: String,
    /// The line as it is, where it could not be cut into fields.
    pub raw: Vec<u8>,
}

impl std::fmt::Display for Bad {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "line {}", self.line)?;
        if let Some(column) = &self.column {
            write!(f, ", {column}")?;
        }
        match self.text.as_str() {
            "" => write!(f, ": {}", self.why),
            text => write!(f, ": {text} {}", self.why),
        }
    }
}

impl Bad {
    /// A row that does not fit, of which nothing more is known.
    pub(crate) fn row(line: u64, why: String) -> Self {
        Bad {
            line,
            column: None,
            text: String::new(),
            why,
            raw: Vec::new(),
        }
    }
}

/// Why a file cannot be read at all, in a sentence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble(pub String);

impl std::fmt::Display for Trouble {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Trouble {}

impl From<std::io::Error> for Trouble {
    fn from(error: std::io::Error) -> Self {
        Trouble(format!("The file cannot be read: {error}."))
    }
}

/// How a field stands in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    /// As it is.
    Plain,
    /// In quotes: it is no null, even if nothing stands in them.
    Quoted,
    /// A text of JSON or BSON, which is no number even if it looks like one.
    Text,
    /// Null.
    Null,
    /// Nothing: the document has no such field.
    Missing,
}

/// The fields of one row as they stand in a file, in one buffer that is used again.
#[derive(Debug, Clone, Default)]
pub struct Fields {
    bytes: Vec<u8>,
    ends: Vec<(usize, Mark)>,
    /// Where the row began: a line, or the number of the row.
    pub line: u64,
}

impl Fields {
    /// Empties it.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.ends.clear();
    }

    /// How many fields there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// Adds a field.
    pub fn push(&mut self, bytes: &[u8], mark: Mark) {
        self.bytes.extend_from_slice(bytes);
        self.end(mark);
    }

    fn end(&mut self, mark: Mark) {
        self.ends.push((self.bytes.len(), mark));
    }

    /// Whether a NUL is among the bytes.
    pub(crate) fn has_nul(&self) -> bool {
        memchr::memchr(0, &self.bytes).is_some()
    }

    /// All bytes as text, where they are UTF-8.
    pub(crate) fn text(&self) -> Option<&str> {
        std::str::from_utf8(&self.bytes).ok()
    }

    /// A field within that text; nothing if a character is cut at its end, or the row has fewer fields.
    pub(crate) fn part<'a>(&self, text: &'a str, at: usize) -> Option<&'a str> {
        let (end, _) = self.ends.get(at)?;
        let start = match at.checked_sub(1) {
            Some(before) => self.ends[before].0,
            None => 0,
        };
        text.get(start..*end)
    }

    /// A field; nothing where the row has fewer.
    pub fn get(&self, at: usize) -> (&[u8], Mark) {
        let Some((end, mark)) = self.ends.get(at) else {
            return (&[], Mark::Missing);
        };
        let start = match at.checked_sub(1) {
            Some(before) => self.ends[before].0,
            None => 0,
        };
        (&self.bytes[start..*end], *mark)
    }
}

/// What a file gives.
pub(crate) enum Seen<'a> {
    /// A row; of documents with the names of its fields so far.
    Row(&'a Fields, &'a [String]),
    /// What is none.
    Bad(Bad),
}

/// Takes what a file gives, and answers whether it wants more.
pub(crate) type Take<'a> = dyn FnMut(Seen<'_>) -> Result<bool, Trouble> + 'a;
