//! The practice server under the official driver's own calls, and our engine over the wire and over files.

#![allow(clippy::too_many_lines)]

mod driver;
mod engine;
mod extended;
mod faults;
mod files;
mod place;
mod secured;
mod statements;
mod transactions;
