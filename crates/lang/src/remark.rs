//! What is said of a statement while it is written and after it ran, without keeping it from running: counts that take things more than once,
//! paths that no document has, kinds that never compare.

use std::ops::Range;

use idle_tide_core::Catalog;
use idle_tide_core::document::time::TimeZone;

use crate::correct::Edit;
use crate::dialect::Dialect;
use crate::{flow, multiply};

/// One remark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// What it is about, in bytes of the statement.
    pub span: Range<usize>,
    /// What is wrong, in whole sentences.
    pub words: String,
    /// What mends it.
    pub edit: Option<Edit>,
}

/// All that is known of a statement.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remarks {
    /// Tables (the byte at which each is named) whose join may multiply the rows before it.
    pub many: Vec<usize>,
    /// What is doubtful, in the order of the text.
    pub said: Vec<Remark>,
}

/// What is known of the statement in `text`, whole or half-typed.
pub fn remarks(text: &str, catalog: &Catalog, dialect: &Dialect) -> Remarks {
    // Nobody reads remarks about a statement as long as this; it is data.
    if text.len() > 20_000 {
        return Remarks::default();
    }
    if !dialect.is_flow() {
        return multiply::joins(text, catalog, dialect);
    }
    let Some(statement) = flow::parse(text, &TimeZone::UTC).statement else {
        return Remarks::default();
    };
    let said = flow::check::remarks(&statement, text, &|name| {
        catalog.table(name)?.shape.as_deref().cloned()
    });
    Remarks {
        many: Vec::new(),
        said,
    }
}
