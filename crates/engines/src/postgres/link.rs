//! The link to the server: connecting, asking for encryption (protocol 3.0, "SSL Session Encryption"),
//! logging in, and the second link that a cancel takes.

use std::sync::{Arc, Mutex, PoisonError};

use futures_util::future::poll_fn;
use secrecy::{ExposeSecret, SecretString};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, UnixStream};
use tokio::time::timeout;
use tokio_postgres::config::SslMode;
use tokio_postgres::{AsyncMessage, Client, Config, NoTls};

use super::complaint;
use super::tap::{Ear, Tap};
use crate::address::{Address, TlsMode};
use crate::engine::LinkState;
use crate::reach::{End, PATIENCE, Reach};
use crate::served::{Stop, keep_notice, unreachable};
use crate::tls;
use crate::trouble::{OpenError, Trouble};

/// Whatever carries the bytes.
pub(super) trait Carries: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Carries for T {}

/// The code that asks for encryption.
const ASK_FOR_TLS: [u8; 8] = [0, 0, 0, 8, 4, 210, 22, 47];

async fn connect(
    address: &Address,
    reach: &Reach,
) -> Result<(Box<dyn Carries>, LinkState), OpenError> {
    let fail = |error: std::io::Error| unreachable(address, &error, reach.last_words());
    let slow = || std::io::Error::from(std::io::ErrorKind::TimedOut);
    let mut stream: Box<dyn Carries> = match reach.end() {
        End::Unix(path) => {
            let stream = UnixStream::connect(path).await.map_err(fail)?;
            return Ok((Box::new(stream), LinkState::Socket));
        }
        End::Tcp(host, port) => {
            let stream = timeout(PATIENCE, TcpStream::connect((host.as_str(), port)))
                .await
                .unwrap_or_else(|_| Err(slow()))
                .map_err(fail)?;
            let _ = stream.set_nodelay(true);
            Box::new(stream)
        }
    };
    let mode = address.tls_mode();
    if mode == TlsMode::Off {
        return Ok((stream, LinkState::Open));
    }
    stream.write_all(&ASK_FOR_TLS).await.map_err(fail)?;
    let mut answer = [0];
    timeout(PATIENCE, stream.read_exact(&mut answer))
        .await
        .unwrap_or_else(|_| Err(slow()))
        .map_err(fail)?;
    match answer[0] {
        b'S' => {
            let encrypted = tls::encrypt(address, stream).await?;
            let version = encrypted.get_ref().1.protocol_version();
            let state = LinkState::Encrypted {
                version: tls::version_in_words(version),
                proof: mode.proof(),
            };
            Ok((Box::new(encrypted), state))
        }
        b'N' if mode == TlsMode::Try => Ok((stream, LinkState::Open)),
        b'N' => Err(OpenError {
            trouble: Trouble::Tls,
            headline: format!("{} does not offer encryption.", address.place()),
            checks: vec!["Whoever runs it can turn it on. tls=try in the address goes on without; others on the way can then read everything.".into()],
            said: None,
        }),
        _ => Err(OpenError {
            trouble: Trouble::Other,
            headline: format!("{} does not speak as a PostgreSQL server does.", address.place()),
            checks: vec!["Check the port: another kind of server may listen there.".into()],
            said: None,
        }),
    }
}

/// How the words of a notification begin, which another session sent to a channel that this one listens to.
pub(super) const HEARD: &str = "heard on";

/// Connects and logs in; what the server says on its own goes to `notices`.
pub(super) async fn log_in(
    address: &Address,
    reach: &Reach,
    password: Option<&SecretString>,
    ear: &Ear,
    notices: &Arc<Mutex<Vec<String>>>,
) -> Result<(Client, LinkState), OpenError> {
    let (stream, link) = connect(address, reach).await?;
    let mut config = Config::new();
    config
        .user(&address.user)
        .dbname(&address.database)
        .application_name("Idle Tide")
        .ssl_mode(SslMode::Disable);
    if let Some(password) = password {
        config.password(password.expose_secret());
    }
    let mut options = String::new();
    for (name, value) in &address.settings {
        match name.as_str() {
            "application_name" => {
                config.application_name(value);
            }
            "options" => options.push_str(value),
            name => options.push_str(&format!(" -c {name}={}", value.replace(' ', "\\ "))),
        }
    }
    if !options.is_empty() {
        config.options(options.trim());
    }
    let login = config.connect_raw(Tap::new(stream, ear.clone()), NoTls);
    let (client, mut connection) = timeout(PATIENCE, login)
        .await
        .map_err(|_| {
            unreachable(
                address,
                &std::io::ErrorKind::TimedOut.into(),
                reach.last_words(),
            )
        })?
        .map_err(|error| {
            let wants = password.is_none() && ear.lock().asks;
            complaint::of_login(&error, address, reach.last_words(), wants)
        })?;
    let notices = Arc::clone(notices);
    let ear = ear.clone();
    tokio::spawn(async move {
        while let Some(message) = poll_fn(|context| connection.poll_message(context)).await {
            let words = match message {
                Ok(AsyncMessage::Notice(notice)) => {
                    format!(
                        "{}: {}",
                        notice.severity().to_lowercase(),
                        complaint::words(&notice)
                    )
                }
                Ok(AsyncMessage::Notification(note)) => {
                    format!("{HEARD} {}: {}", note.channel(), note.payload())
                }
                Ok(_) => continue,
                Err(_) => break,
            };
            let mut notices = notices.lock().unwrap_or_else(PoisonError::into_inner);
            keep_notice(&mut notices, words);
        }
        ear.lock().ended = true;
    });
    Ok((client, link))
}

/// Asks the server, over a link of its own, to stop what `client` runs. Returns when the server has it.
pub(super) fn stop(
    address: &Address,
    reach: &Arc<Reach>,
    client: &Client,
    encrypted: bool,
) -> Stop {
    let (mut address, reach, token) = (address.clone(), Arc::clone(reach), client.cancel_token());
    if !encrypted {
        address.tls.mode = Some(TlsMode::Off);
    }
    Box::new(move || {
        let runtime = crate::served::runtime().map_err(|error| error.to_string())?;
        runtime.block_on(async {
            let cancel = async {
                let (stream, _) = connect(&address, &reach).await.map_err(|e| e.to_string())?;
                let asked = token.cancel_query_raw(stream, NoTls).await;
                asked.map_err(|error| error.to_string())
            };
            let late = |_| Err("it did not answer in time".to_string());
            timeout(PATIENCE, cancel).await.unwrap_or_else(late)
        })
    })
}
