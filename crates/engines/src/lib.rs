//! Database families behind one trait: open, bearings, catalog, run, cancel. A family is one module; it
//! streams rows in batches, reports what the server says and never repeats a statement. It knows
//! nothing of entries, screens or what the user typed besides the statement itself.
#![deny(missing_docs)]

mod engine;
mod source;
pub mod sqlite;

pub use engine::{Access, Bearings, Connection, Control, EngineError, Fault, Outcome, Sink};
pub use source::{OpenError, OpenOptions, Source, demo_file, open};
