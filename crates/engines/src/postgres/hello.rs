//! How a server of this family is known before anybody logs in: it answers a question for encryption with one letter.

use std::io::{Read, Write};

use crate::nearby::{Hello, link};

/// What the server at a port of this machine says, if it is one.
pub(crate) fn hello(port: u16) -> Option<Hello> {
    let mut stream = link(port)?;
    stream.write_all(&[0, 0, 0, 8, 4, 210, 22, 47]).ok()?;
    let mut answer = [0];
    stream.read_exact(&mut answer).ok()?;
    matches!(answer[0], b'S' | b'N').then(|| Hello {
        name: "PostgreSQL",
        says: String::new(),
    })
}
