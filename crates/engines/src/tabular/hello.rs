//! How a server of this family is known before anybody logs in: it answers what comes before the login with its version.

use std::io::{Read, Write};

use idle_tide_tabular::login::{Encryption, Prelogin};
use idle_tide_tabular::packet::{FIRST_SIZE, HEADER, header, kind, packets};

use crate::nearby::{Hello, link};

/// What the server at a port of this machine says, if it is one.
pub(crate) fn hello(port: u16) -> Option<Hello> {
    let mut stream = link(port)?;
    let ours = Prelogin {
        version: (0, 1, 0),
        encryption: Encryption::None,
    };
    let bytes = packets(kind::PRELOGIN, &ours.encode(), FIRST_SIZE);
    stream.write_all(&bytes).ok()?;
    let mut head = [0; HEADER];
    stream.read_exact(&mut head).ok()?;
    let head = header(head).ok().filter(|head| head.kind == kind::ANSWER)?;
    let mut content = vec![0; head.content.min(FIRST_SIZE)];
    stream.read_exact(&mut content).ok()?;
    let (major, minor, build) = Prelogin::decode(&content).ok()?.version;
    Some(Hello {
        name: "Tabular Data Stream",
        says: format!("{major}.{minor}.{build}"),
    })
}
