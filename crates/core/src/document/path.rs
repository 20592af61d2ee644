//! The way to a value within a document.

use compact_str::CompactString;

/// The names that lead from a document to a value within it.
pub type Path = Vec<CompactString>;
