//! The flow language evaluated on documents at hand, one after the other: each stage takes documents and hands on what it makes of them.
//! Only groups, orders and joins hold anything, within limits.

mod change;
mod collect;
mod expr;
mod run;
pub mod script;
mod sort;

pub use change::Change;
pub use expr::{Context, Program, like, test_row};
pub use run::{Chain, Counts, Go, Limits, Places, observe};

pub use idle_tide_lang::flow::FlowError;
