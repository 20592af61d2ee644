//! The terminal application: the full screen and the shell mode, two faces of the desk. It draws and
//! takes keys; what a key means for the session is the desk's business.
#![deny(missing_docs)]

pub mod app;
pub mod arguments;
pub mod calls;
pub mod checking;
pub mod cli;
pub mod cli_layout;
pub mod clipboard;
pub mod completing;
mod composer;
pub mod guide;
pub mod keys;
pub mod opening;
pub mod picture;
mod practice;
mod press;
pub mod shell;
pub mod terminal;
pub mod theme;
pub mod views;
