//! How a server of this family is known before anybody logs in: it answers what comes before the login with its version.

use std::io::Write;

use idle_tide_tabular::login::{Encryption, Prelogin};
use idle_tide_tabular::packet::{FIRST_SIZE, kind, packets, read_message};

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
    let (_, content) = read_message(&mut stream, FIRST_SIZE)
        .ok()
        .filter(|(of, _)| *of == kind::ANSWER)?;
    let (major, minor, build) = Prelogin::decode(&content).ok()?.version;
    Some(Hello {
        name: "Tabular Data Stream",
        says: format!("{major}.{minor}.{build}"),
    })
}
