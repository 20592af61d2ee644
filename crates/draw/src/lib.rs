//! How values look and how they leave: safe display of any text, text layouts, export writers, small
//! pictures, drawings as cells, SVG and PDF. Everything here turns data into characters; it knows no terminal and opens no file.
#![deny(missing_docs)]

pub mod card;
pub mod chart;
pub mod export;
pub mod links;
pub mod marks;
pub mod pdf;
pub mod picture;

pub use export::{Format, Layout, RowWriter, writer};
pub use marks::{Look, Shown, show_text, show_value};
