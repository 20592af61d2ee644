//! Flow, the language for document databases (docs/flow.md): tokens, parser, checks, formatter, and compilation to the
//! command documents of servers. The same expressions serve filters over any result. Nothing here runs anything.

pub mod ast;
pub mod check;
pub mod compile;
mod format;
pub mod functions;
pub mod made;
mod parse;
pub mod token;
pub mod translate;

use std::ops::Range;

pub use format::{format, format_expr, literal, stage_text};
pub use parse::whole_number;
pub(crate) use parse::whole_number as ast_whole_number;
pub use parse::{Parsed, expression, is_write_command, parse, script, sounds_like_sql};

/// Something wrong with what was typed, with its place and the way out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct FlowError {
    /// What is wrong and what was expected, in whole sentences.
    pub message: String,
    /// The place in the text, in bytes.
    pub span: Range<usize>,
    /// What could stand there instead, best first.
    pub nearest: Vec<String>,
}

impl FlowError {
    /// An error at a place.
    pub fn at(span: Range<usize>, message: impl Into<String>) -> Self {
        FlowError {
            message: message.into(),
            span,
            nearest: Vec::new(),
        }
    }
}
