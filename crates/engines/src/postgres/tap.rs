//! Listens to what the server sends (PostgreSQL protocol 3.0, "Message Formats") while the driver reads it,
//! for what the driver keeps to itself: the transaction's state, the parameters the server reports, and
//! where the columns of a result come from. It changes nothing, but ends a link on which a message is announced
//! that no server of this kind sends, before memory is taken for it.

use idle_tide_core::limits::Limit;
use std::collections::{HashMap, VecDeque};
use std::io;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::task::{Context, Poll, ready};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// The longest message before the login is done, in bytes.
const BEFORE_LOGIN: usize = 1 << 20;
/// The longest message of all, in bytes: a row has to be in memory, several times over while it is read.
fn longest() -> usize {
    Limit::Message.value() as usize
}

/// A column as the server describes it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Described {
    pub name: String,
    /// The table's object identifier; 0 where there is none.
    pub table: u32,
    /// Its number in the table.
    pub number: i16,
    /// The type's object identifier.
    pub kind: u32,
    /// What was said in brackets after the type, as the server codes it; -1 for nothing.
    pub modifier: i32,
}

/// What was heard.
#[derive(Debug, Default)]
pub(super) struct Heard {
    /// `I` idle, `T` in a transaction, `E` in one that failed; 0 before the first.
    pub state: u8,
    pub parameters: HashMap<String, String>,
    pub described: VecDeque<Vec<Described>>,
    /// The server wants a password.
    pub asks: bool,
    /// The server said good-bye or the link ended.
    pub ended: bool,
    /// Why it was ended here.
    pub why: Option<String>,
}

/// What was heard, shared.
#[derive(Debug, Clone, Default)]
pub(super) struct Ear(Arc<Mutex<Heard>>);

impl Ear {
    pub(super) fn lock(&self) -> MutexGuard<'_, Heard> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A stream that is listened to.
pub(super) struct Tap<S> {
    inner: S,
    ear: Ear,
    /// Type and length of the message being read.
    head: [u8; 5],
    head_length: usize,
    /// Bytes of the message that are still to come.
    left: usize,
    /// The message, where it is of interest.
    body: Vec<u8>,
}

impl<S> Tap<S> {
    pub(super) fn new(inner: S, ear: Ear) -> Self {
        Tap {
            inner,
            ear,
            head: [0; 5],
            head_length: 0,
            left: 0,
            body: Vec::new(),
        }
    }

    fn hear(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            if self.head_length < 5 {
                let take = (5 - self.head_length).min(bytes.len());
                self.head[self.head_length..self.head_length + take]
                    .copy_from_slice(&bytes[..take]);
                self.head_length += take;
                bytes = &bytes[take..];
                if self.head_length < 5 {
                    return Ok(());
                }
                let [_, length @ ..] = self.head;
                self.left = (u32::from_be_bytes(length) as usize).saturating_sub(4);
                let logged_in = self.ear.lock().state != 0;
                if self.left > if logged_in { longest() } else { BEFORE_LOGIN } {
                    let why = too_long(self.left, logged_in);
                    self.ear.lock().why = Some(why.clone());
                    return Err(io::Error::other(why));
                }
                self.body.clear();
            }
            let take = self.left.min(bytes.len());
            if matches!(self.head[0], b'Z' | b'S' | b'T' | b'R') {
                self.body.extend_from_slice(&bytes[..take]);
            }
            self.left -= take;
            bytes = &bytes[take..];
            if self.left == 0 {
                self.message();
                self.head_length = 0;
            }
        }
        Ok(())
    }

    fn message(&mut self) {
        let body = &self.body;
        match self.head[0] {
            // Authentication: 0 is that it is done, everything else asks for something.
            b'R' => self.ear.lock().asks |= body.get(..4).is_some_and(|code| code != [0; 4]),
            b'Z' => self.ear.lock().state = body.first().copied().unwrap_or(b'I'),
            b'S' => {
                let mut parts = body.split(|byte| *byte == 0).map(String::from_utf8_lossy);
                if let (Some(name), Some(value)) = (parts.next(), parts.next()) {
                    self.ear.lock().parameters.insert(name.into(), value.into());
                }
            }
            b'T' => {
                if let Some(columns) = described(body) {
                    self.ear.lock().described.push_back(columns);
                }
            }
            _ => {}
        }
    }
}

fn too_long(length: usize, logged_in: bool) -> String {
    match logged_in {
        true => format!(
            "the server announces one message of {} MB, and {} MB is the most that is taken; read such a value in parts, with substring",
            length >> 20,
            longest() >> 20
        ),
        false => format!(
            "it announces a message of {} MB before the login is done, which no such server sends",
            length >> 20
        ),
    }
}

fn described(body: &[u8]) -> Option<Vec<Described>> {
    let count = u16::from_be_bytes(body.get(..2)?.try_into().ok()?);
    let mut rest = &body[2..];
    let mut columns = Vec::with_capacity(count.into());
    for _ in 0..count {
        let end = rest.iter().position(|byte| *byte == 0)?;
        let fixed = rest.get(end + 1..end + 19)?;
        let four = |at: usize| -> Option<[u8; 4]> { fixed.get(at..at + 4)?.try_into().ok() };
        columns.push(Described {
            name: String::from_utf8_lossy(&rest[..end]).into_owned(),
            table: u32::from_be_bytes(four(0)?),
            number: i16::from_be_bytes([fixed[4], fixed[5]]),
            kind: u32::from_be_bytes(four(6)?),
            modifier: i32::from_be_bytes(four(12)?),
        });
        rest = &rest[end + 19..];
    }
    Some(columns)
}

impl<S: AsyncRead + Unpin> AsyncRead for Tap<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let read = ready!(Pin::new(&mut self.inner).poll_read(context, buffer));
        let new = &buffer.filled()[before..];
        if new.is_empty() || read.is_err() {
            self.ear.lock().ended = true;
        }
        Poll::Ready(read.and(self.hear(new)))
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Tap<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(context, bytes)
    }
    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(context)
    }
    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn message(kind: u8, body: &[u8]) -> Vec<u8> {
        let mut bytes = vec![kind];
        bytes.extend_from_slice(&(body.len() as u32 + 4).to_be_bytes());
        bytes.extend_from_slice(body);
        bytes
    }

    #[test]
    fn messages_are_heard_in_any_pieces() {
        let mut column = vec![0, 1];
        column.extend_from_slice(b"tide\0");
        column.extend_from_slice(&[0, 0, 0, 9, 0, 2, 0, 0, 0, 23, 0, 4, 0, 0, 0, 7, 0, 0]);
        let bytes = [
            message(b'S', b"TimeZone\0UTC\0"),
            message(b'T', &column),
            message(b'D', &[7; 300]),
            message(b'Z', b"T"),
        ]
        .concat();
        for size in [1, 3, 1_000] {
            let ear = Ear::default();
            let mut tap = Tap::new((), ear.clone());
            for piece in bytes.chunks(size) {
                tap.hear(piece).expect("taken");
            }
            let heard = ear.lock();
            assert_eq!(
                (heard.state, heard.parameters["TimeZone"].as_str()),
                (b'T', "UTC")
            );
            let expected = Described {
                name: "tide".into(),
                table: 9,
                number: 2,
                kind: 23,
                modifier: 7,
            };
            assert_eq!(heard.described, [vec![expected]]);
        }
    }

    #[test]
    fn lengths_are_not_believed() {
        let long = |length: u32| [&b"D"[..], &length.to_be_bytes()].concat();
        let mut tap = Tap::new((), Ear::default());
        assert!(tap.hear(&long(2 << 20)).is_err(), "before the login");
        let mut tap = Tap::new((), Ear::default());
        tap.hear(&message(b'Z', b"I")).expect("logged in");
        assert!(tap.hear(&long(2 << 20)).is_ok());
        let mut tap = Tap::new((), Ear::default());
        tap.hear(&message(b'Z', b"I")).expect("logged in");
        assert!(tap.hear(&long(1_500_000_000)).is_err());
    }
}
