//! The client's end of a connection: packets, encryption inside of them while it is agreed on, and what runs asked to stop.

use idle_tide_core::limits::Limit;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use bytes::{Buf, BytesMut};
use idle_tide_tabular::login::{Encryption, Login, Prelogin};
use idle_tide_tabular::packet::{FIRST_SIZE, HEADER, header, kind, packets};
use idle_tide_tabular::token::Reader;
use idle_tide_tabular::{Environment, Malformed, Message, Take, Token};
use secrecy::{ExposeSecret, SecretString};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, ReadBuf};
use tokio::net::TcpStream;
use tokio::sync::Notify;

use crate::address::{Address, TlsMode};
use crate::engine::LinkState;
use crate::reach::{End, Reach};
use crate::trouble::{OpenError, Trouble};

/// One value is not longer, nor one message around it.
const LONGEST: usize = 1 << 30;

fn broken(words: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, words.into())
}

/// A stream on which encryption is agreed inside of packets, and which passes everything afterwards.
struct Wrapped {
    stream: TcpStream,
    agreed: bool,
    /// Of the packet that comes: its head, and how much of its content is missing.
    head: Vec<u8>,
    missing: usize,
    goes: Vec<u8>,
}

impl AsyncRead for Wrapped {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        out: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let this = &mut *self;
        if this.agreed {
            return Pin::new(&mut this.stream).poll_read(cx, out);
        }
        while this.missing == 0 {
            let mut room = [0; HEADER];
            let mut buffer = ReadBuf::new(&mut room[..HEADER - this.head.len()]);
            std::task::ready!(Pin::new(&mut this.stream).poll_read(cx, &mut buffer))?;
            if buffer.filled().is_empty() {
                return Poll::Ready(Ok(()));
            }
            this.head.extend(buffer.filled());
            if let Ok(head) = <[u8; HEADER]>::try_from(&this.head[..]) {
                this.missing = header(head)
                    .map_err(|error| broken(error.to_string()))?
                    .content;
                this.head.clear();
            }
        }
        let mut part = out.take(this.missing);
        std::task::ready!(Pin::new(&mut this.stream).poll_read(cx, &mut part))?;
        let count = part.filled().len();
        this.missing -= count;
        out.advance(count);
        Poll::Ready(Ok(()))
    }
}

impl Wrapped {
    fn poll_send(&mut self, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        while !self.goes.is_empty() {
            let sent = std::task::ready!(Pin::new(&mut self.stream).poll_write(cx, &self.goes))?;
            if sent == 0 {
                return Poll::Ready(Err(io::ErrorKind::WriteZero.into()));
            }
            self.goes.drain(..sent);
        }
        Poll::Ready(Ok(()))
    }
}

impl AsyncWrite for Wrapped {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        if self.agreed {
            return Pin::new(&mut self.stream).poll_write(cx, bytes);
        }
        std::task::ready!(self.poll_send(cx))?;
        self.goes = packets(kind::PRELOGIN, bytes, FIRST_SIZE);
        Poll::Ready(Ok(bytes.len()))
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        std::task::ready!(self.poll_send(cx))?;
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

type Tls = tokio_rustls::client::TlsStream<Wrapped>;

enum Stream {
    /// While it is taken to be encrypted.
    None,
    Plain(TcpStream),
    Tls(Box<Tls>),
}

/// A connection to a server.
pub(super) struct Link {
    stream: Stream,
    /// What came and belongs to no message yet.
    raw: BytesMut,
    /// The content of the message that comes; what was read of it goes now and then.
    pub(super) came: Vec<u8>,
    at: usize,
    /// Whether all of the message came.
    ended: bool,
    reader: Reader,
    size: usize,
    /// The transaction that statements belong to; 0 for none.
    pub(super) transaction: u64,
    pub(super) database: String,
    /// What the server says it is, and its version.
    pub(super) program: String,
    pub(super) number: (u8, u8, u16),
    /// Rung where what runs is to stop.
    pub(super) attention: Arc<Notify>,
    /// Whether the server was asked to stop and has not answered yet.
    pub(super) stopping: bool,
    pub(super) state: LinkState,
    /// This side's port.
    pub(super) own_port: Option<u16>,
}

/// Why nobody got in.
pub(super) enum NotIn {
    /// The network or the protocol.
    Io(io::Error),
    /// The server says no.
    Refused(Vec<Message>),
    Open(OpenError),
}

impl From<io::Error> for NotIn {
    fn from(error: io::Error) -> Self {
        NotIn::Io(error)
    }
}

impl Link {
    /// Connects and logs in; `new` is the password from now on where the old one has expired.
    pub(super) async fn log_in(
        address: &Address,
        reach: &Reach,
        password: Option<&SecretString>,
        new: Option<&SecretString>,
    ) -> Result<Self, NotIn> {
        let stream = match reach.end() {
            End::Tcp(host, port) => TcpStream::connect((host.as_str(), port)).await?,
            End::Unix(_) => {
                return Err(NotIn::Open(OpenError::plain(
                    "Servers of this family have no sockets of this machine: name a host and a port.",
                )));
            }
        };
        stream.set_nodelay(true)?;
        let own_port = stream.local_addr().ok().map(|place| place.port());
        let mode = address.tls_mode();
        let mut link = Link {
            stream: Stream::Plain(stream),
            raw: BytesMut::with_capacity(64 * 1024),
            came: Vec::new(),
            at: 0,
            ended: true,
            reader: Reader::default(),
            size: FIRST_SIZE,
            transaction: 0,
            database: String::new(),
            program: String::new(),
            number: (0, 0, 0),
            attention: Arc::default(),
            stopping: false,
            state: LinkState::Open,
            own_port,
        };
        let ours = Prelogin {
            version: (0, 1, 0),
            encryption: if mode == TlsMode::Off {
                Encryption::None
            } else {
                Encryption::On
            },
        };
        link.send(kind::PRELOGIN, &ours.encode()).await?;
        let answer = link.whole_message().await?;
        let theirs = Prelogin::decode(&answer).map_err(|error| broken(error.to_string()))?;
        let place = address.place();
        let encrypts = match (mode, theirs.encryption) {
            (TlsMode::Off, Encryption::Required) => {
                return Err(NotIn::Open(OpenError {
                    trouble: Trouble::Tls,
                    headline: format!("{place} takes nothing that is not encrypted."),
                    checks: vec!["Leave tls=off out of the address.".into()],
                    said: None,
                }));
            }
            (TlsMode::Off, _) => false,
            (TlsMode::Try, Encryption::None) => false,
            (_, Encryption::None) => {
                return Err(NotIn::Open(OpenError {
                    trouble: Trouble::Tls,
                    headline: format!("{place} does not offer encryption."),
                    checks: vec!["Whoever runs it can turn it on. tls=try in the address goes on without; others on the way can then read everything.".into()],
                    said: None,
                }));
            }
            _ => true,
        };
        if encrypts {
            link.encrypt(address).await?;
        }
        let login = Login {
            version: idle_tide_tabular::login::VERSION,
            packet_size: 32_000,
            process: std::process::id(),
            host: String::new(),
            user: address.user.clone(),
            password: password.map_or(String::new(), |p| p.expose_secret().to_string()),
            new_password: new.map(|p| p.expose_secret().to_string()),
            program: "Idle Tide".into(),
            server: address.host.clone(),
            database: address.database.clone(),
            only_reads: address.wants == crate::address::Wants::Reads,
        };
        link.send(kind::LOGIN, &login.encode()).await?;
        let (mut refused, mut taken) = (Vec::new(), false);
        loop {
            match link.token().await? {
                Token::Error(message) => refused.push(message),
                Token::Login {
                    program, number, ..
                } => {
                    taken = true;
                    (link.program, link.number) = (program, number);
                }
                Token::Environment(Environment::Elsewhere(host, port)) => {
                    return Err(NotIn::Open(OpenError {
                        trouble: Trouble::Other,
                        headline: format!(
                            "{place} sends to {host}:{port}, and this program does not follow by itself."
                        ),
                        checks: vec![format!(
                            "Name that host and port in the address: tds://{host}:{port}/."
                        )],
                        said: None,
                    }));
                }
                Token::Done(done)
                    if link.at_end() && done.status & idle_tide_tabular::Done::MORE == 0 =>
                {
                    break;
                }
                _ => {}
            }
        }
        match taken {
            true => Ok(link),
            false => Err(NotIn::Refused(refused)),
        }
    }

    async fn encrypt(&mut self, address: &Address) -> Result<(), NotIn> {
        let Stream::Plain(stream) = std::mem::replace(&mut self.stream, Stream::None) else {
            return Ok(());
        };
        let wrapped = Wrapped {
            stream,
            agreed: false,
            head: Vec::new(),
            missing: 0,
            goes: Vec::new(),
        };
        let mut tls = crate::tls::encrypt(address, wrapped)
            .await
            .map_err(NotIn::Open)?;
        tls.get_mut().0.agreed = true;
        let version = tls.get_ref().1.protocol_version();
        self.state = LinkState::Encrypted {
            version: crate::tls::version_in_words(version),
            proof: address.tls_mode().proof(),
        };
        self.stream = Stream::Tls(Box::new(tls));
        Ok(())
    }

    /// Sends a message.
    pub(super) async fn send(&mut self, of: u8, message: &[u8]) -> io::Result<()> {
        let bytes = packets(of, message, self.size);
        match &mut self.stream {
            Stream::None => return Err(io::ErrorKind::NotConnected.into()),
            Stream::Plain(stream) => stream.write_all(&bytes).await?,
            Stream::Tls(stream) => {
                stream.write_all(&bytes).await?;
                stream.flush().await?;
            }
        }
        if of != kind::ATTENTION {
            self.came.clear();
            self.at = 0;
            self.ended = false;
            self.reader = Reader::default();
        }
        Ok(())
    }

    /// Takes in the next packet. It can be given up and begun again.
    async fn fill(&mut self) -> io::Result<()> {
        loop {
            if let Some(head) = self.raw.first_chunk::<HEADER>() {
                let head = header(*head).map_err(|error| broken(error.to_string()))?;
                if head.kind != kind::ANSWER && head.kind != kind::PRELOGIN {
                    return Err(broken("the other side does not speak this protocol"));
                }
                if self.raw.len() >= HEADER + head.content {
                    self.raw.advance(HEADER);
                    if self.at > 64 * 1024 {
                        self.came.drain(..self.at);
                        self.at = 0;
                    }
                    if self.came.len() > LONGEST {
                        return Err(broken("a value of more than 1 GB"));
                    }
                    self.came.extend(&self.raw[..head.content]);
                    self.raw.advance(head.content);
                    self.ended = head.status & idle_tide_tabular::packet::END != 0;
                    return Ok(());
                }
            }
            self.raw.reserve(64 * 1024);
            let count = match &mut self.stream {
                Stream::None => 0,
                Stream::Plain(stream) => stream.read_buf(&mut self.raw).await?,
                Stream::Tls(stream) => stream.read_buf(&mut self.raw).await?,
            };
            if count == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
        }
    }

    async fn whole_message(&mut self) -> io::Result<Vec<u8>> {
        while !self.ended {
            self.fill().await?;
            if self.came.len() > FIRST_SIZE {
                return Err(broken("an answer before the login that is too long"));
            }
        }
        Ok(std::mem::take(&mut self.came))
    }

    /// Whether all of the answer was read.
    pub(super) fn at_end(&self) -> bool {
        self.ended && self.at >= self.came.len()
    }

    /// The next token, if it came already.
    #[inline]
    pub(super) fn ready(&mut self) -> io::Result<Option<Token>> {
        let mut take = Take {
            bytes: &self.came,
            at: self.at,
        };
        match self.reader.next(&mut take) {
            Ok(token) => {
                self.at = take.at;
                if let Token::Columns(fields) = &token
                    // The servers' own limit for a result is 4 096.
                    && fields.len() as u64 > Limit::Columns.value()
                {
                    return Err(broken(format!("a result of {} columns", fields.len())));
                }
                if let Token::Environment(change) = &token {
                    self.heed(change);
                }
                Ok(Some(token))
            }
            Err(Malformed::Short) if !self.ended => Ok(None),
            Err(error) => Err(broken(error.to_string())),
        }
    }

    fn heed(&mut self, change: &Environment) {
        match change {
            Environment::Database(name) => self.database.clone_from(name),
            Environment::PacketSize(size) => self.size = *size,
            Environment::Begun(descriptor) => self.transaction = *descriptor,
            Environment::Committed | Environment::RolledBack => self.transaction = 0,
            _ => {}
        }
    }

    /// Waits for more of the answer; false where what runs is to stop first. It can be given up and begun again.
    pub(super) async fn more(&mut self) -> io::Result<bool> {
        if self.stopping {
            return self.fill().await.map(|()| true);
        }
        let attention = Arc::clone(&self.attention);
        tokio::select! {
            biased;
            filled = self.fill() => filled.map(|()| true),
            () = attention.notified() => Ok(false),
        }
    }

    /// The next token, whatever else is wanted.
    async fn token(&mut self) -> io::Result<Token> {
        loop {
            if let Some(token) = self.ready()? {
                return Ok(token);
            }
            self.fill().await?;
        }
    }

    /// Another answer follows: the one to the request to stop.
    pub(super) fn next_answer(&mut self) {
        self.ended = false;
    }

    /// Asks the server to stop, where nobody takes the rest.
    pub(super) async fn stop(&mut self) -> io::Result<()> {
        if !std::mem::replace(&mut self.stopping, true) {
            self.send(kind::ATTENTION, &[]).await?;
        }
        Ok(())
    }
}
