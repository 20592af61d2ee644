//! Packets: what a message is cut into on its way (MS-TDS 2.2.3).

use std::io::{self, Read};

use crate::take::{Malformed, wrong};

/// The bytes before the content of a packet.
pub const HEADER: usize = 8;
/// The size of packets until the login agrees on another.
pub const FIRST_SIZE: usize = 4096;
/// No packet is larger.
pub const LARGEST: usize = 32_767;

/// The kinds of messages.
pub mod kind {
    /// A batch of statements.
    pub const BATCH: u8 = 1;
    /// Calls of procedures.
    pub const CALL: u8 = 3;
    /// The server's answer.
    pub const ANSWER: u8 = 4;
    /// Stop what runs.
    pub const ATTENTION: u8 = 6;
    /// Rows of a bulk load.
    pub const BULK: u8 = 7;
    /// Beginning and ending transactions.
    pub const TRANSACTION: u8 = 14;
    /// The login.
    pub const LOGIN: u8 = 16;
    /// What comes before the login.
    pub const PRELOGIN: u8 = 18;
}

/// Set in the last packet of a message.
pub const END: u8 = 1;
/// Set where the session is to be as after its login.
pub const RESET: u8 = 8;

/// The head of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Header {
    /// The kind of its message.
    pub kind: u8,
    /// [`END`] and others.
    pub status: u8,
    /// How many bytes of content follow.
    pub content: usize,
}

/// Reads the head of a packet.
///
/// # Errors
/// If its length cannot be.
pub fn header(bytes: [u8; HEADER]) -> Result<Header, Malformed> {
    let length = usize::from(u16::from_be_bytes([bytes[2], bytes[3]]));
    if length < HEADER {
        return wrong(format!(
            "a packet says that it has {length} bytes; its head alone has {HEADER}"
        ));
    }
    Ok(Header {
        kind: bytes[0],
        status: bytes[1],
        content: length - HEADER,
    })
}

/// Reads a whole message of at most `most` bytes, from a stream that waits.
///
/// # Errors
/// Those of the stream, and where a length cannot be or the message is longer.
pub fn read_message(stream: &mut impl Read, most: usize) -> io::Result<(u8, Vec<u8>)> {
    let wrong = |words: String| io::Error::new(io::ErrorKind::InvalidData, words);
    let mut message = Vec::new();
    loop {
        let mut head = [0; HEADER];
        stream.read_exact(&mut head)?;
        let head = header(head).map_err(|error| wrong(error.to_string()))?;
        let start = message.len();
        if start + head.content > most {
            return Err(wrong(format!("a message of more than {most} bytes")));
        }
        message.resize(start + head.content, 0);
        stream.read_exact(&mut message[start..])?;
        if head.status & END != 0 {
            return Ok((head.kind, message));
        }
    }
}

/// Cuts a message into packets of at most `size` bytes.
pub fn packets(kind: u8, message: &[u8], size: usize) -> Vec<u8> {
    let room = size.clamp(512, LARGEST) - HEADER;
    let mut out = Vec::with_capacity(message.len() + HEADER * (message.len() / room + 1));
    let mut parts = message.chunks(room).peekable();
    let mut number = 1_u8;
    loop {
        let part = parts.next().unwrap_or_default();
        let last = parts.peek().is_none();
        let length = (part.len() + HEADER) as u16;
        out.extend([kind, u8::from(last)]);
        out.extend(length.to_be_bytes());
        out.extend([0, 0, number, 0]);
        out.extend(part);
        number = number.wrapping_add(1);
        if last {
            return out;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_is_cut_and_only_its_last_packet_ends_it() {
        let bytes = packets(kind::BATCH, &[7; 1200], 512);
        let (mut at, mut parts) = (0, Vec::new());
        while at < bytes.len() {
            let head = header(bytes[at..at + HEADER].try_into().unwrap()).unwrap();
            parts.push((head.status, head.content));
            at += HEADER + head.content;
        }
        assert_eq!(parts, [(0, 504), (0, 504), (1, 192)]);
        let whole = read_message(&mut &bytes[..], 1200).unwrap();
        assert_eq!(whole, (kind::BATCH, vec![7; 1200]));
        assert!(read_message(&mut &bytes[..], 1199).is_err());
        assert!(read_message(&mut &bytes[..900], 1200).is_err());
        assert_eq!(
            packets(kind::ATTENTION, &[], 4096),
            [6, 1, 0, 8, 0, 0, 1, 0]
        );
        assert!(header([4, 1, 0, 7, 0, 0, 0, 0]).is_err());
    }
}
