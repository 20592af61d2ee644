//! Documents without a server: the evaluator of the flow language, collections in files, and the practice server that speaks the public BSON
//! wire protocol. The evaluator knows no files and no clock; files are read as streams and replaced whole.
#![deny(missing_docs)]

pub mod convert;
pub mod files;
pub mod flow;
pub mod harbour;
pub mod server;
