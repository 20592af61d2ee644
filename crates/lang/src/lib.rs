//! Everything that is typed into Idle Tide, as text: SQL tokens and statements, commands, expressions,
//! completion and corrections.
//!
//! This crate promises to understand half-typed text and any bytes without panicking, and to say where
//! in the text everything stands. It knows no database connection, no terminal and no clock.
#![deny(missing_docs)]

pub mod binary;
pub mod choices;
pub mod command;
pub mod complete;
pub mod correct;
pub mod dialect;
pub mod elsewhere;
pub mod flow;
pub mod holds;
pub mod join;
pub mod measured;
pub mod multiply;
pub mod narrow;
pub mod open;
pub mod parameter;
pub mod query;
pub mod remark;
pub mod remarks;
pub mod scope;
pub mod secret;
pub mod split;
pub mod statement;
pub mod token;
pub mod visible;

pub use dialect::Dialect;
pub use token::{Token, TokenKind, tokens};
