//! Database families behind one trait: open, bearings, catalog, run, cancel. A family is one module; it
//! streams rows in batches, reports what the server says and never repeats a statement. It knows
//! nothing of entries, screens or what the user typed besides the statement itself.
#![deny(missing_docs)]

pub mod address;
mod destination;
pub mod documents;
mod engine;
pub mod families;
mod gather;
mod harbour;
mod idle_link;
pub mod load;
mod mariadb;
mod members;
mod nearby;
pub mod plan;
mod postgres;
mod reach;
mod served;
mod source;
pub mod sqlite;
mod tabular;
mod tls;
mod trouble;

pub use address::{Address, Overrides};
pub use engine::{
    Access, Bearings, Beside, Collections, Connection, Control, Describe, Earlier, EngineError,
    Fault, Idle, LinkState, Listing, Outcome, Proof, Query, Served, ServerBearings, Sink,
};
pub use harbour::load_harbour;
pub use load::Nowhere;
pub use postgres::catalog::catalog_questions;
pub use source::{OpenOptions, Source, demo_file, open};
pub use trouble::{Ask, OpenError, Silent, Trouble};
