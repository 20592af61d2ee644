//! Values, results, figures and the catalog: what every part of Idle Tide talks about.
//!
//! This crate promises to hold any value a database yields without loss and any number of rows in a
//! bounded amount of memory. It knows no database, no interface and no clock, and does no input or
//! output but a result's own spill file.
#![deny(missing_docs)]

pub mod batch;
pub mod catalog;
pub mod chart;
pub mod column;
pub mod column_type;
pub mod compare;
pub mod decimal;
pub mod document;
pub mod figures;
pub mod limits;
pub mod links;
pub mod order;
pub mod plan;
pub mod result;
pub mod round;
pub mod unfinished;
pub mod value;

pub use batch::{Row, RowBatch};
pub use catalog::{Catalog, Check, Database, Field, Identity, Index, Kind, Link, Object};
pub use column::{Column, column_labels};
pub use document::{Datum, Document};
pub use figures::Figures;
pub use result::ResultSet;
pub use value::{Value, ValueRef};
