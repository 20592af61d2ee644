//! How a document server is known before anybody logs in: it answers `buildInfo` by OP_MSG (the public wire protocol).

use std::io::{Read, Write};

use idle_tide_core::document;
use idle_tide_core::document::{Datum, bson};

use crate::nearby::{Hello, link};

/// What the server at a port of this machine says, if it is one.
pub(crate) fn hello(port: u16) -> Option<Hello> {
    let command = document! { "buildInfo": 1, "$db": "admin" };
    let mut message = vec![0; 21];
    bson::write(&command, &mut message);
    let length = u32::try_from(message.len()).ok()?;
    message[..4].copy_from_slice(&length.to_le_bytes());
    message[12..16].copy_from_slice(&2013_u32.to_le_bytes());
    let mut stream = link(port)?;
    stream.write_all(&message).ok()?;
    let mut head = [0; 21];
    stream.read_exact(&mut head).ok()?;
    let length = u32::from_le_bytes(head[..4].try_into().ok()?) as usize;
    if head[12..16] != 2013_u32.to_le_bytes() || !(26..64 * 1024).contains(&length) {
        return None;
    }
    let mut answer = vec![0; length - 21];
    stream.read_exact(&mut answer).ok()?;
    let answer = bson::decode(&answer).ok()?;
    let text = |name: &str| {
        answer
            .get(name)
            .and_then(Datum::as_text)
            .map(str::to_string)
    };
    Some(match text("practiceServer") {
        Some(_) => Hello {
            name: "practice server",
            says: String::new(),
        },
        None => Hello {
            name: "documents",
            says: text("version").unwrap_or_default(),
        },
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::nearby::PATIENCE;
    use idle_tide_dock::server::{Server, Settings, Store, listen};
    use std::net::Ipv4Addr;

    #[test]
    fn a_document_server_says_what_it_is_and_nothing_else_does() {
        let server = Server::new(Store::default(), Settings::default());
        let listening = listen(server, 0, None).expect("listens");
        let said = hello(listening.address.port()).expect("it says");
        assert_eq!(said.name, "practice server");
        // One that speaks something else, and one that says nothing at all.
        let other = std::net::TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).expect("listens");
        let port = other.local_addr().expect("an address").port();
        let speaks = std::thread::spawn(move || {
            let (mut first, _) = other.accept().expect("a link");
            first.write_all(&[200; 100]).expect("said");
            let silent = other.accept().expect("a link");
            std::thread::sleep(PATIENCE * 2);
            drop((first, silent));
        });
        assert_eq!(hello(port), None);
        assert_eq!(hello(port), None);
        speaks.join().expect("ended");
    }
}
