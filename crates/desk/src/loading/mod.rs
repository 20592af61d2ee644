//! A file on its way into a table or a collection: what it holds is looked at and shown ([`look`]), fitted to where it goes
//! ([`fit`]), and then its rows go in ([`put`]), all or nothing unless batches were asked for, and what came of it is counted.

mod beside;
mod fit;
mod look;
mod propose;
mod put;

pub(crate) use fit::{Target, Wishes};
pub(crate) use look::Look;
pub use propose::{Change, Proposed, Reading};
