//! The Tabular Data Stream, version 7.4, as its public specification (MS-TDS) has it: packets, the messages of both
//! ends, types with their values, and the tokens of answers. Nothing here opens a connection. A client reads what a
//! server writes and the other way round; every length is checked before it is believed.

mod collation;
pub mod login;
pub mod packet;
pub mod request;
pub mod take;
pub mod token;
pub mod types;
pub mod value;

pub use take::{Malformed, Take};
pub use token::{Done, Environment, Field, Message, Token};
pub use types::{Layout, TypeInfo};
pub use value::{Room, Value};
