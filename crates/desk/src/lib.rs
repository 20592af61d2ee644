//! The session of Idle Tide without a screen: takes what was typed, gives numbered entries. The guard,
//! history, ordering and filtering of results, export and the arrival card live here; the full screen and
//! the shell mode are two faces of it. It knows no terminal.
#![deny(missing_docs)]

pub mod about;
pub mod across;
pub mod arrival;
mod ask;
mod blocked;
mod catalog;
mod changed_rows;
pub mod chart;
pub mod clipboard;
mod comparing;
mod count;
pub mod covering;
mod desk;
pub mod diary;
mod draft;
mod entries;
pub mod entry;
pub mod export;
mod face;
pub mod failure;
pub mod filter;
pub mod follow;
mod found;
pub mod guard;
mod held;
pub mod history;
pub mod holding;
pub mod links;
pub mod lists;
pub mod live;
mod loading;
pub mod log;
mod look;
mod origin;
mod outcome;
pub mod outline;
mod pace;
pub mod page;
pub mod plan;
mod repeated;
pub mod replacing;
mod reversible;
mod session;
pub mod settings;
pub mod sheet;
pub mod sources;
pub mod stages;
pub mod task;
mod tasks;
mod verbs;
mod worker;

pub use ask::Wanted;
pub use desk::{Desk, Options};
pub use entry::{Content, Entry, State};
pub use face::{Notice, Request, Returned};
pub use failure::Failure;
pub use guard::Question;
pub use links::Links;
pub use origin::Origin;
pub use page::{Line, Page, Span, Tone};
pub use session::{Asking, Event, Notify, Session};
pub use settings::Writes;
pub use sheet::{Sheet, View};
