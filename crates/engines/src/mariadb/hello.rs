//! How a server of this family is known before anybody logs in: it speaks first, and says its version.

use std::io::Read;

use crate::nearby::{Hello, link};

/// What the server at a port of this machine says, if it is one.
pub(crate) fn hello(port: u16) -> Option<Hello> {
    let mut bytes = [0; 128];
    let count = link(port)?.read(&mut bytes).ok()?;
    // Three bytes of length, a number, the protocol (10), and the version up to a zero.
    let version = bytes.get(..count)?.get(4..)?.strip_prefix(&[10])?;
    let end = version.iter().position(|byte| *byte == 0)?;
    let whole = String::from_utf8_lossy(&version[..end]);
    let whole = whole.trim_start_matches("5.5.5-");
    Some(Hello {
        name: if whole.contains("MariaDB") {
            "MariaDB"
        } else {
            "MySQL"
        },
        says: whole.split('-').next().unwrap_or_default().to_string(),
    })
}
