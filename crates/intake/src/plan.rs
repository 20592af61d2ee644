//! How a file is to be loaded: how its rows are read, what becomes of its columns, and what is asked for of that.

use idle_tide_core::column_type::{ColumnType, Evidence};

use crate::Bad;
use crate::convert::Form;
use crate::file::{Encoding, Kind};

/// How the rows of a file are read.
#[derive(Debug, Clone)]
pub struct Shape {
    /// The kind of the file.
    pub kind: Kind,
    /// How its bytes become characters.
    pub encoding: Encoding,
    /// What stands between values.
    pub separator: u8,
    /// Whether quotes hold values together.
    pub quotes: bool,
    /// Whether the first row has the names.
    pub header: bool,
    /// Rows before that.
    pub skip: u64,
}

/// A column of a file, and what becomes of it.
#[derive(Debug, Clone)]
pub struct ColumnPlan {
    /// Its name in the file.
    pub from: String,
    /// Its name in the table.
    pub name: String,
    /// Its type.
    pub column_type: ColumnType,
    /// How its values are written.
    pub form: Form,
    /// Whether it is left out.
    pub skip: bool,
    /// Whether it is part of the key.
    pub key: bool,
    /// Values, nulls and the longest text.
    pub evidence: Evidence,
    /// Its first values.
    pub examples: Vec<String>,
}

/// How a file is to be loaded.
#[derive(Debug, Clone)]
pub struct Proposal {
    /// How it is read.
    pub shape: Shape,
    /// Its columns.
    pub columns: Vec<ColumnPlan>,
    /// What stands for null beside nothing at all.
    pub null: Option<String>,
    /// Whether the database keeps no NUL in a text, and whether there is one.
    pub no_nul: bool,
    /// Whether a text holds a NUL.
    pub has_nul: bool,
    /// Rows that were looked at, and whether these are all.
    pub rows: u64,
    /// Whether all rows were looked at.
    pub whole: bool,
    /// What does not fit, the first of it, and how much there is.
    pub bad: Vec<Bad>,
    /// How many rows do not fit.
    pub bad_count: u64,
}

impl Proposal {
    /// A proposal of which nothing but how the file is read is known yet.
    pub(crate) fn of(shape: Shape, null: Option<String>) -> Self {
        Proposal {
            shape,
            columns: Vec::new(),
            null,
            no_nul: false,
            has_nul: false,
            rows: 0,
            whole: true,
            bad: Vec::new(),
            bad_count: 0,
        }
    }
}

/// What is asked of a file, where it is not to be found.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// What stands between values.
    pub separator: Option<u8>,
    /// Whether the first row has the names.
    pub header: Option<bool>,
    /// Whether quotes are signs like any others.
    pub no_quotes: bool,
    /// The encoding.
    pub encoding: Option<Encoding>,
    /// What stands for null.
    pub null: Option<String>,
    /// Rows that are passed over before the first one; titles in front of it are found where nothing is asked.
    pub skip: Option<u64>,
}
