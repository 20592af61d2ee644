//! The server's end of a connection: packets in and out, encrypted or not, and a look at whether the client wants what
//! runs to stop.

use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::sync::Arc;

use idle_tide_tabular::packet::{FIRST_SIZE, HEADER, Header, header, kind, packets};
use rustls::{ServerConfig, ServerConnection};

/// No message is longer.
const LONGEST: usize = 64 << 20;

fn broken(words: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, words.into())
}

/// A connection.
pub(crate) struct Link {
    stream: TcpStream,
    tls: Option<Box<ServerConnection>>,
    came: Vec<u8>,
    /// The size of packets.
    pub(crate) size: usize,
    answer: Vec<u8>,
    number: u8,
}

/// The stream while encryption is agreed on: each flight stands in packets of what comes before the login.
struct Wrapped<'a> {
    stream: &'a mut TcpStream,
    came: Vec<u8>,
    goes: Vec<u8>,
}

impl Read for Wrapped<'_> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        if self.came.is_empty() {
            let mut head = [0; HEADER];
            self.stream.read_exact(&mut head)?;
            let head = header(head).map_err(|error| broken(error.to_string()))?;
            if head.kind != kind::PRELOGIN {
                return Err(broken("something else than encryption"));
            }
            self.came = vec![0; head.content];
            self.stream.read_exact(&mut self.came)?;
        }
        let count = out.len().min(self.came.len());
        out[..count].copy_from_slice(&self.came[..count]);
        self.came.drain(..count);
        Ok(count)
    }
}

impl Write for Wrapped<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.goes.extend(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.goes.is_empty() {
            return Ok(());
        }
        let bytes = packets(kind::PRELOGIN, &std::mem::take(&mut self.goes), FIRST_SIZE);
        self.stream.write_all(&bytes)
    }
}

impl Link {
    pub(crate) fn new(stream: TcpStream) -> Self {
        Link {
            stream,
            tls: None,
            came: Vec::new(),
            size: FIRST_SIZE,
            answer: Vec::new(),
            number: 1,
        }
    }

    /// Agrees on encryption, inside of packets.
    pub(crate) fn encrypt(&mut self, config: Arc<ServerConfig>) -> io::Result<()> {
        let mut tls = ServerConnection::new(config).map_err(|error| broken(error.to_string()))?;
        let mut wrapped = Wrapped {
            stream: &mut self.stream,
            came: std::mem::take(&mut self.came),
            goes: Vec::new(),
        };
        while tls.is_handshaking() || tls.wants_write() {
            tls.complete_io(&mut wrapped)?;
            wrapped.flush()?;
        }
        self.tls = Some(Box::new(tls));
        Ok(())
    }

    /// The login alone was encrypted.
    pub(crate) fn lay_open(&mut self) {
        self.tls = None;
    }

    fn fill(&mut self) -> io::Result<usize> {
        let mut room = [0; 16 * 1024];
        let count = match &mut self.tls {
            None => self.stream.read(&mut room)?,
            Some(tls) => rustls::Stream::new(tls.as_mut(), &mut self.stream).read(&mut room)?,
        };
        self.came.extend(&room[..count]);
        Ok(count)
    }

    fn packet(&mut self) -> io::Result<Option<(Header, Vec<u8>)>> {
        let Some(head) = self.came.first_chunk::<HEADER>() else {
            return Ok(None);
        };
        let head = header(*head).map_err(|error| broken(error.to_string()))?;
        if self.came.len() < HEADER + head.content {
            return Ok(None);
        }
        let content = self.came[HEADER..HEADER + head.content].to_vec();
        self.came.drain(..HEADER + head.content);
        Ok(Some((head, content)))
    }

    /// The next message: its kind, the bits of its first packet, and its content. `None` at the end of the connection.
    pub(crate) fn message(&mut self) -> io::Result<Option<(u8, u8, Vec<u8>)>> {
        let mut message: Option<(u8, u8, Vec<u8>)> = None;
        loop {
            while let Some((head, content)) = self.packet()? {
                let message = message.get_or_insert((head.kind, head.status, Vec::new()));
                message.2.extend(content);
                if message.2.len() > LONGEST {
                    return Err(broken("a message of more than 64 MB"));
                }
                if head.status & 1 != 0 {
                    return Ok(Some(std::mem::take(message)));
                }
            }
            if self.fill()? == 0 {
                return Ok(None);
            }
        }
    }

    /// Whether the client asks for a stop, or is gone; waits for nothing.
    pub(crate) fn wants_stop(&mut self) -> bool {
        if self.stream.set_nonblocking(true).is_err() {
            return true;
        }
        let filled = self.fill();
        let _ = self.stream.set_nonblocking(false);
        match filled {
            Ok(0) => return true,
            Err(error) if error.kind() != io::ErrorKind::WouldBlock => return true,
            _ => {}
        }
        matches!(self.came.first(), Some(&kind::ATTENTION)) && self.came.len() >= HEADER
    }

    /// Takes the request to stop that came, if there is one.
    pub(crate) fn take_stop(&mut self) -> bool {
        let came = matches!(self.came.first(), Some(&kind::ATTENTION));
        if came {
            let _ = self.packet();
        }
        came
    }

    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        match &mut self.tls {
            None => self.stream.write_all(bytes),
            Some(tls) => {
                let mut stream = rustls::Stream::new(tls.as_mut(), &mut self.stream);
                stream.write_all(bytes)?;
                stream.flush()
            }
        }
    }

    fn send_packet(&mut self, count: usize, last: bool) -> io::Result<()> {
        let content: Vec<u8> = self.answer.drain(..count).collect();
        let mut bytes = vec![kind::ANSWER, u8::from(last)];
        bytes.extend(((count + HEADER) as u16).to_be_bytes());
        bytes.extend([0, 0, self.number, 0]);
        bytes.extend(content);
        self.number = self.number.wrapping_add(1);
        self.send(&bytes)
    }

    /// Appends to the answer; full packets go at once.
    pub(crate) fn say(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.answer.extend(bytes);
        let room = self.size - HEADER;
        while self.answer.len() > room {
            self.send_packet(room, false)?;
        }
        Ok(())
    }

    /// Sends what there is without ending the answer.
    pub(crate) fn flush(&mut self) -> io::Result<()> {
        match self.answer.len() {
            0 => Ok(()),
            count => self.send_packet(count, false),
        }
    }

    /// Ends the answer.
    pub(crate) fn end(&mut self) -> io::Result<()> {
        self.send_packet(self.answer.len(), true)?;
        self.number = 1;
        Ok(())
    }
}
