//! The session of Idle Tide without a screen: takes what was typed, gives numbered entries. The guard,
//! history, ordering and filtering of results, export and the arrival card live here; the full screen and
//! the shell mode are two faces of it. It knows no terminal.
#![deny(missing_docs)]

pub mod about;
pub mod arrival;
mod desk;
pub mod entry;
pub mod export;
pub mod failure;
pub mod filter;
pub mod follow;
pub mod guard;
pub mod history;
pub mod links;
pub mod lists;
pub mod outline;
pub mod page;
pub mod plan;
pub mod settings;
pub mod sheet;
pub mod sources;
pub mod stages;
pub mod worker;

pub use desk::{Asking, Desk, Notice, Options, Origin, Request, Returned, Session, Wanted, Writes};
pub use entry::{Content, Entry, State};
pub use failure::Failure;
pub use guard::Question;
pub use links::Links;
pub use page::{Line, Page, Span, Tone};
pub use sheet::{Sheet, View};
pub use worker::Event;
