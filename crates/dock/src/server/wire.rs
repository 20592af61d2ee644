//! The public wire protocol: OP_MSG with checksums and document sequences, and the older messages of the first handshake. A connection is a
//! thread; a frame that is damaged ends its connection and nothing else.

use std::io::{self, BufReader, BufWriter, Read, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use idle_tide_core::document::{Datum, Document, bson};

use super::commands::{Connection, Server};

/// The largest message, as it is announced.
pub const LARGEST: usize = 48_000_000;
const MSG: i32 = 2013;
const QUERY: i32 = 2004;
const REPLY: i32 = 1;
/// A checksum stands at the end.
const CHECKSUM: u32 = 1;
/// No answer is wanted.
const MORE_TO_COME: u32 = 2;
/// Flags that have to be understood.
const REQUIRED: u32 = 0xffff;

/// What a client sent.
#[derive(Debug, Clone, PartialEq)]
pub struct Request {
    /// Its number.
    pub id: i32,
    /// The command, with its document sequences as lists.
    pub command: Document,
    /// The database.
    pub database: String,
    /// Whether it came as one of the older messages.
    pub old: bool,
    /// Whether an answer is wanted.
    pub wants_answer: bool,
    /// Whether it had a checksum.
    pub checksum: bool,
}

fn wrong(words: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, words.to_string())
}

fn four(bytes: &[u8], at: usize) -> io::Result<u32> {
    let part = bytes
        .get(at..at + 4)
        .ok_or_else(|| wrong("a message is cut off"))?;
    Ok(u32::from_le_bytes([part[0], part[1], part[2], part[3]]))
}

/// Understands a whole message (its length included).
///
/// # Errors
/// If it is none that is known, or damaged.
pub fn understood(message: &[u8]) -> io::Result<Request> {
    if message.len() < 16 || four(message, 0)? as usize != message.len() {
        return Err(wrong("a message says another length than it has"));
    }
    let id = four(message, 4)? as i32;
    match four(message, 12)? as i32 {
        MSG => of_msg(message, id),
        QUERY => of_query(message, id),
        _ => Err(wrong("a message of a kind that is not spoken here")),
    }
}

fn document_at(bytes: &[u8], at: usize) -> io::Result<(Document, usize)> {
    let length = four(bytes, at)? as usize;
    let part = at
        .checked_add(length)
        .and_then(|end| bytes.get(at..end))
        .ok_or_else(|| wrong("a document is cut off"))?;
    let document = bson::decode(part).map_err(|error| wrong(&error.to_string()))?;
    Ok((document, at + length))
}

fn text_at(bytes: &[u8], at: usize) -> io::Result<(&str, usize)> {
    let rest = bytes.get(at..).ok_or_else(|| wrong("a name is cut off"))?;
    let end = rest
        .iter()
        .position(|b| *b == 0)
        .ok_or_else(|| wrong("a name is cut off"))?;
    let text = std::str::from_utf8(&rest[..end]).map_err(|_| wrong("a name is not UTF-8"))?;
    Ok((text, at + end + 1))
}

fn of_msg(message: &[u8], id: i32) -> io::Result<Request> {
    let flags = four(message, 16)?;
    if flags & REQUIRED & !(CHECKSUM | MORE_TO_COME) != 0 {
        return Err(wrong("a message with flags that are not known"));
    }
    let mut end = message.len();
    let checksum = flags & CHECKSUM != 0;
    if checksum {
        end = end
            .checked_sub(4)
            .filter(|end| *end >= 20)
            .ok_or_else(|| wrong("a message is cut off"))?;
        if crc32c::crc32c(&message[..end]) != four(message, end)? {
            return Err(wrong("a checksum is wrong"));
        }
    }
    let bytes = &message[..end];
    let mut at = 20;
    let mut command: Option<Document> = None;
    let mut sequences: Vec<(String, Vec<Datum>)> = Vec::new();
    while at < end {
        let kind = bytes[at];
        at += 1;
        match kind {
            0 => {
                let (document, next) = document_at(bytes, at)?;
                if command.replace(document).is_some() {
                    return Err(wrong("a message with two commands"));
                }
                at = next;
            }
            1 => {
                let size = four(bytes, at)? as usize;
                let stop = at
                    .checked_add(size)
                    .filter(|stop| *stop <= end && size >= 5)
                    .ok_or_else(|| wrong("a sequence is cut off"))?;
                let (name, mut inner) = text_at(&bytes[..stop], at + 4)?;
                let mut list = Vec::new();
                while inner < stop {
                    let (document, next) = document_at(&bytes[..stop], inner)?;
                    list.push(Datum::Object(document));
                    inner = next;
                }
                sequences.push((name.to_string(), list));
                at = stop;
            }
            _ => return Err(wrong("a message with a section of an unknown kind")),
        }
    }
    let mut command = command.ok_or_else(|| wrong("a message without a command"))?;
    for (name, list) in sequences {
        command.set(&name, Datum::List(list));
    }
    let database = command
        .get("$db")
        .and_then(Datum::as_text)
        .unwrap_or("admin")
        .to_string();
    Ok(Request {
        id,
        command,
        database,
        old: false,
        wants_answer: flags & MORE_TO_COME == 0,
        checksum,
    })
}

fn of_query(message: &[u8], id: i32) -> io::Result<Request> {
    let (name, at) = text_at(message, 20)?;
    let database = name
        .strip_suffix(".$cmd")
        .ok_or_else(|| wrong("an old message that is no command"))?
        .to_string();
    let (command, _) = document_at(message, at + 8)?;
    // The command may stand within a wrapper.
    let command = match command.get("$query") {
        Some(Datum::Object(inner)) => inner.clone(),
        _ => command,
    };
    Ok(Request {
        id,
        command,
        database,
        old: true,
        wants_answer: true,
        checksum: false,
    })
}

/// The answer to a request, as a whole message.
pub fn answer(request: &Request, number: i32, reply: &Document) -> Vec<u8> {
    let mut out = vec![0; 16];
    let kind = if request.old {
        out.extend_from_slice(&[8, 0, 0, 0]);
        out.extend_from_slice(&[0; 12]);
        out.extend_from_slice(&1_i32.to_le_bytes());
        REPLY
    } else {
        out.extend_from_slice(&(if request.checksum { CHECKSUM } else { 0 }).to_le_bytes());
        out.push(0);
        MSG
    };
    bson::write(reply, &mut out);
    let length = out.len()
        + if request.checksum && !request.old {
            4
        } else {
            0
        };
    out[..4].copy_from_slice(&(length as u32).to_le_bytes());
    out[4..8].copy_from_slice(&number.to_le_bytes());
    out[8..12].copy_from_slice(&request.id.to_le_bytes());
    out[12..16].copy_from_slice(&kind.to_le_bytes());
    if request.checksum && !request.old {
        let sum = crc32c::crc32c(&out);
        out.extend_from_slice(&sum.to_le_bytes());
    }
    out
}

/// The certificate and key of a server that encrypts.
#[derive(Clone)]
pub struct Tls(Arc<rustls::ServerConfig>);

impl Tls {
    /// From PEM files.
    ///
    /// # Errors
    /// If they cannot be read or do not belong together.
    pub fn of_files(certificate: &std::path::Path, key: &std::path::Path) -> io::Result<Self> {
        use rustls_pki_types::pem::PemObject;
        let words = |error: &dyn std::fmt::Display, path: &std::path::Path| {
            io::Error::other(format!("{}: {error}", path.display()))
        };
        let chain = rustls_pki_types::CertificateDer::pem_file_iter(certificate)
            .and_then(Iterator::collect::<Result<Vec<_>, _>>)
            .map_err(|e| words(&e, certificate))?;
        let secret =
            rustls_pki_types::PrivateKeyDer::from_pem_file(key).map_err(|e| words(&e, key))?;
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = rustls::ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(io::Error::other)?
            .with_no_client_auth()
            .with_single_cert(chain, secret)
            .map_err(io::Error::other)?;
        Ok(Tls(Arc::new(config)))
    }
}

/// A server that listens; it ends when this is dropped.
pub struct Listening {
    /// Where it listens.
    pub address: SocketAddr,
    server: Arc<Server>,
    stop: Arc<AtomicBool>,
    open: Arc<Mutex<Vec<TcpStream>>>,
    threads: Vec<JoinHandle<()>>,
}

/// Listens on a port of this machine; 0 for any that is free. What the store keeps is written about every second and at the end.
///
/// # Errors
/// If the port is taken.
pub fn listen(server: Arc<Server>, port: u16, tls: Option<Tls>) -> io::Result<Listening> {
    let listener = TcpListener::bind(("127.0.0.1", port))?;
    let address = listener.local_addr()?;
    server.listens_on(address.port());
    let stop = Arc::new(AtomicBool::new(false));
    let open: Arc<Mutex<Vec<TcpStream>>> = Arc::default();
    let accepting = {
        let (server, stop, open) = (Arc::clone(&server), Arc::clone(&stop), Arc::clone(&open));
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                if stop.load(Ordering::SeqCst) {
                    return;
                }
                let Ok(stream) = stream else { continue };
                if let Ok(copy) = stream.try_clone() {
                    let mut list = open.lock().unwrap_or_else(PoisonError::into_inner);
                    list.retain(|s| s.peer_addr().is_ok());
                    list.push(copy);
                }
                let (server, tls) = (Arc::clone(&server), tls.clone());
                std::thread::spawn(move || {
                    // A client that goes away, or talks nonsense, ends its own connection only.
                    let whole = stream.try_clone();
                    let _ = serve(&server, stream, tls);
                    // A copy of it is held for cutting; the link ends nevertheless.
                    if let Ok(whole) = whole {
                        let _ = whole.shutdown(Shutdown::Both);
                    }
                });
            }
        })
    };
    let keeping = {
        let (server, stop) = (Arc::clone(&server), Arc::clone(&stop));
        std::thread::spawn(move || {
            while !stop.load(Ordering::SeqCst) {
                for _ in 0..10 {
                    std::thread::park_timeout(Duration::from_millis(100));
                    if stop.load(Ordering::SeqCst) {
                        return;
                    }
                }
                let _ = server.keep();
            }
        })
    };
    Ok(Listening {
        address,
        server,
        stop,
        open,
        threads: vec![accepting, keeping],
    })
}

impl Listening {
    /// The server.
    pub fn server(&self) -> &Arc<Server> {
        &self.server
    }

    /// Cuts every connection as it is.
    pub fn cut(&self) {
        for stream in self
            .open
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .drain(..)
        {
            let _ = stream.shutdown(Shutdown::Both);
        }
    }

    /// Ends it and writes what it keeps.
    ///
    /// # Errors
    /// If that cannot be written.
    pub fn end(mut self) -> io::Result<()> {
        self.finish();
        self.server.keep()
    }

    fn finish(&mut self) {
        if self.stop.swap(true, Ordering::SeqCst) {
            return;
        }
        self.server.stop_operations();
        // The accepting thread waits for a connection: it gets one.
        drop(TcpStream::connect(self.address));
        self.cut();
        for thread in self.threads.drain(..) {
            thread.thread().unpark();
            let _ = thread.join();
        }
    }
}

impl Drop for Listening {
    fn drop(&mut self) {
        self.finish();
        let _ = self.server.keep();
    }
}

fn serve(server: &Arc<Server>, stream: TcpStream, tls: Option<Tls>) -> io::Result<()> {
    stream.set_nodelay(true)?;
    match tls {
        None => {
            let reader = BufReader::with_capacity(64 * 1024, stream.try_clone()?);
            talk(server, reader, stream)
        }
        Some(Tls(config)) => {
            let session = rustls::ServerConnection::new(config).map_err(io::Error::other)?;
            let both = std::rc::Rc::new(std::cell::RefCell::new(rustls::StreamOwned::new(
                session, stream,
            )));
            talk(server, Side(std::rc::Rc::clone(&both)), Side(both))
        }
    }
}

/// One side of an encrypted stream that is read and written by one thread.
struct Side(
    std::rc::Rc<std::cell::RefCell<rustls::StreamOwned<rustls::ServerConnection, TcpStream>>>,
);

impl Read for Side {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        self.0.borrow_mut().read(bytes)
    }
}

impl Write for Side {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.borrow_mut().write(bytes)
    }
    fn flush(&mut self) -> io::Result<()> {
        self.0.borrow_mut().flush()
    }
}

fn talk(server: &Arc<Server>, mut reader: impl Read, writer: impl Write) -> io::Result<()> {
    let mut writer = BufWriter::with_capacity(64 * 1024, writer);
    let mut connection = Connection::new(Arc::clone(server));
    let mut number = 0_i32;
    let mut message = Vec::new();
    loop {
        let mut head = [0; 4];
        reader.read_exact(&mut head)?;
        let length = u32::from_le_bytes(head) as usize;
        if !(16..=LARGEST + 16_384).contains(&length) {
            return Err(wrong("a message of an impossible length"));
        }
        message.clear();
        message.extend_from_slice(&head);
        // What is announced need not come: room is made for what does.
        if reader
            .by_ref()
            .take(length as u64 - 4)
            .read_to_end(&mut message)?
            + 4
            < length
        {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        let request = understood(&message)?;
        let Some(reply) = connection.answer(&request.database, &request.command) else {
            // The link is to be cut after the command ran.
            return Ok(());
        };
        number = number.wrapping_add(1);
        if request.wants_answer {
            writer.write_all(&answer(&request, number, &reply))?;
            writer.flush()?;
        }
    }
}
