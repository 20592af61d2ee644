//! The way to a server: direct, through a secure shell (RFC 4251 to 4254), or over the standard input and
//! output of a command. The last two end at a loopback port of our own, so that every driver can use them;
//! it takes only as many connections as were announced, and only from this process.

use std::collections::VecDeque;
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::time::Duration;

use russh::client::{self, AuthResult, Handle};
use russh::keys::agent::AgentIdentity;
use russh::keys::agent::client::AgentClient;
use russh::keys::{PrivateKeyWithHashAlg, known_hosts};
use secrecy::{ExposeSecret, SecretString};
use tokio::io::{AsyncReadExt, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};

use crate::address::{Address, SecretFor, SshHost, Way};
use crate::trouble::{Ask, OpenError, Trouble};

/// How long reaching a server may take.
pub(crate) const PATIENCE: Duration = Duration::from_secs(15);

/// Where a driver connects to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum End {
    /// Host and port.
    Tcp(String, u16),
    /// A local socket.
    Unix(PathBuf),
}

/// An open way; it stays open as long as this is held.
pub(crate) struct Reach {
    end: End,
    announced: Option<Arc<AtomicU32>>,
    /// The last lines that the command or the secure shell said.
    said: Arc<Mutex<VecDeque<String>>>,
    /// Ends the thread when dropped.
    _stop: Option<tokio::sync::oneshot::Sender<()>>,
}

impl Reach {
    /// Opens the way that an address asks for.
    pub(crate) fn open(address: &Address, ask: &dyn Ask) -> Result<Arc<Self>, OpenError> {
        let end = match &address.socket {
            Some(path) => End::Unix(path.clone()),
            None => End::Tcp(address.host.clone(), address.port),
        };
        let said = Arc::default();
        if address.way == Way::Direct {
            return Ok(Arc::new(Reach {
                end,
                announced: None,
                said,
                _stop: None,
            }));
        }
        // The way's thread asks its questions here until it says what came of it.
        let (questions, asked) = mpsc::channel();
        let (stop, stopped) = tokio::sync::oneshot::channel();
        let announced = Arc::new(AtomicU32::new(0));
        let carrier = Carrier {
            address: address.clone(),
            announced: Arc::clone(&announced),
            said: Arc::clone(&said),
        };
        std::thread::Builder::new()
            .name("way".into())
            .spawn(move || carrier.carry(Asker { questions }, stopped))
            .map_err(|error| OpenError::plain(format!("No thread could be started: {error}.")))?;
        loop {
            match asked.recv() {
                Ok(Question::Opened(port)) => {
                    return Ok(Arc::new(Reach {
                        end: End::Tcp(Ipv4Addr::LOCALHOST.to_string(), port),
                        announced: Some(announced),
                        said,
                        _stop: Some(stop),
                    }));
                }
                Ok(Question::Failed(error)) => return Err(error),
                Ok(Question::Secret(what, reply)) => drop(reply.send(ask.secret(&what))),
                Ok(Question::Allow(question, details, reply)) => {
                    let _ = reply.send(ask.allow(&question, &details));
                }
                Err(_) => {
                    return Err(OpenError::plain(
                        "A fault inside this program ended the way in.",
                    ));
                }
            }
        }
    }

    /// Where to connect to now, once.
    pub(crate) fn end(&self) -> End {
        if let Some(announced) = &self.announced {
            announced.fetch_add(1, Ordering::SeqCst);
        }
        self.end.clone()
    }

    /// What the way said last, for an error.
    pub(crate) fn last_words(&self) -> Option<String> {
        let said = self.said.lock().unwrap_or_else(PoisonError::into_inner);
        (!said.is_empty()).then(|| said.iter().cloned().collect::<Vec<_>>().join(" "))
    }
}

/// What the way's thread tells whoever opens it, who can ask the user.
enum Question {
    Opened(u16),
    Failed(OpenError),
    Secret(String, mpsc::Sender<Option<SecretString>>),
    Allow(String, Vec<String>, mpsc::Sender<bool>),
}

#[derive(Clone)]
struct Asker {
    questions: mpsc::Sender<Question>,
}

impl Asker {
    fn secret(&self, what: String) -> Option<SecretString> {
        let (reply, answer) = mpsc::channel();
        self.questions.send(Question::Secret(what, reply)).ok()?;
        answer.recv().ok()?
    }

    fn allow(&self, question: String, details: Vec<String>) -> bool {
        let (reply, answer) = mpsc::channel();
        let sent = self
            .questions
            .send(Question::Allow(question, details, reply));
        sent.is_ok() && answer.recv().unwrap_or(false)
    }
}

fn trouble(headline: impl Into<String>, check: &str, said: Option<String>) -> OpenError {
    OpenError {
        trouble: Trouble::Way,
        headline: headline.into(),
        checks: vec![check.to_string()],
        said,
    }
}

/// What the way's thread works with.
struct Carrier {
    address: Address,
    announced: Arc<AtomicU32>,
    said: Arc<Mutex<VecDeque<String>>>,
}

impl Carrier {
    fn carry(self, asker: Asker, stopped: tokio::sync::oneshot::Receiver<()>) {
        // Whoever opens waits for one of these.
        let answers = asker.questions.clone();
        let runtime = match tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
        {
            Ok(runtime) => runtime,
            Err(error) => {
                let _ = answers.send(Question::Failed(OpenError::plain(error.to_string())));
                return;
            }
        };
        runtime.block_on(async move {
            let ready = async {
                let listener =
                    TcpListener::bind((Ipv4Addr::LOCALHOST, 0))
                        .await
                        .map_err(|error| {
                            OpenError::plain(format!(
                                "No port of this machine could be had: {error}."
                            ))
                        })?;
                let port = listener.local_addr().map_or(0, |address| address.port());
                let ssh = match &self.address.way {
                    Way::Ssh(host) => Some(self.shell(host, &asker).await?),
                    _ => None,
                };
                Ok((listener, port, ssh))
            };
            let (listener, ssh) = match ready.await {
                Ok((listener, port, ssh)) => {
                    let _ = answers.send(Question::Opened(port));
                    (listener, ssh.map(Arc::new))
                }
                Err(error) => {
                    let _ = answers.send(Question::Failed(error));
                    return;
                }
            };
            drop(asker);
            let serve = async {
                loop {
                    let Ok((stream, peer)) = listener.accept().await else {
                        continue;
                    };
                    let announced = self
                        .announced
                        .fetch_update(Ordering::SeqCst, Ordering::SeqCst, |n| n.checked_sub(1))
                        .is_ok();
                    if !announced || !is_own(peer, stream.local_addr().ok()) {
                        continue;
                    }
                    let _ = stream.set_nodelay(true);
                    match (&self.address.way, &ssh) {
                        (Way::Command(command), _) => {
                            tokio::spawn(over_command(
                                stream,
                                command.clone(),
                                Arc::clone(&self.said),
                            ));
                        }
                        (_, Some(ssh)) => {
                            let (host, port) = (self.address.host.clone(), self.address.port);
                            tokio::spawn(over_shell(
                                stream,
                                Arc::clone(ssh),
                                host,
                                port,
                                Arc::clone(&self.said),
                            ));
                        }
                        _ => {}
                    }
                }
            };
            tokio::select! {
                () = serve => {}
                _ = stopped => {}
            }
            if let Some(ssh) = ssh {
                let _ = ssh
                    .disconnect(russh::Disconnect::ByApplication, "", "")
                    .await;
            }
        });
    }

    /// Logs in to the secure-shell host.
    async fn shell(&self, host: &SshHost, asker: &Asker) -> Result<Handle<HostKey>, OpenError> {
        let refused = Arc::new(Mutex::new(None));
        let check = HostKey {
            host: host.clone(),
            asker: asker.clone(),
            refused: Arc::clone(&refused),
        };
        let config = client::Config {
            keepalive_interval: Some(Duration::from_secs(20)),
            nodelay: true,
            ..client::Config::default()
        };
        let place = format!("{}:{}", host.host, host.port);
        let stream = tokio::time::timeout(
            PATIENCE,
            TcpStream::connect((host.host.as_str(), host.port)),
        )
        .await
        .unwrap_or_else(|_| Err(std::io::ErrorKind::TimedOut.into()))
        .map_err(|error| {
            trouble(
                format!("The secure-shell host {place} does not answer."),
                "Check its name and port, and that this machine has a way there.",
                Some(error.to_string()),
            )
        })?;
        // A question about the host key may take as long as the user likes.
        let mut session = client::connect_stream(Arc::new(config), stream, check)
            .await
            .map_err(|error| {
                let own = refused
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .take();
                own.unwrap_or_else(|| {
                    trouble(
                        format!("{place} could not agree with us on a secure shell."),
                        "Check that a secure-shell server listens on this port.",
                        Some(error.to_string()),
                    )
                })
            })?;
        if self.log_in(&mut session, host, asker).await? {
            return Ok(session);
        }
        Err(trouble(
            format!("{place} does not let {} in.", host.user),
            "Check the account, and that the host knows one of your keys; via-key in the address names a key file.",
            None,
        ))
    }

    async fn log_in(
        &self,
        session: &mut Handle<HostKey>,
        host: &SshHost,
        asker: &Asker,
    ) -> Result<bool, OpenError> {
        let failed = |error: russh::Error| {
            trouble(
                "The secure-shell host ended the login.",
                "Try again; some hosts allow only a few attempts.",
                Some(error.to_string()),
            )
        };
        let hash = session
            .best_supported_rsa_hash()
            .await
            .ok()
            .flatten()
            .flatten();
        // A key that was named is the one that counts; else the agent, then the usual files.
        if host.key.is_none()
            && let Ok(agent) = AgentClient::connect_env().await
        {
            let mut agent = agent.dynamic();
            for identity in agent
                .request_identities()
                .await
                .unwrap_or_default()
                .into_iter()
                .take(6)
            {
                let AgentIdentity::PublicKey { key, .. } = identity else {
                    continue;
                };
                let outcome = session
                    .authenticate_publickey_with(&host.user, key, hash, &mut agent)
                    .await;
                if matches!(outcome, Ok(AuthResult::Success)) {
                    return Ok(true);
                }
            }
        }
        let files: Vec<PathBuf> = match &host.key {
            Some(file) => vec![file.clone()],
            None => {
                let home = std::env::var("HOME").unwrap_or_default();
                ["id_ed25519", "id_ecdsa", "id_rsa"]
                    .iter()
                    .map(|name| Path::new(&home).join(".ssh").join(name))
                    .filter(|path| path.exists())
                    .collect()
            }
        };
        for file in files {
            let Some(key) = self.key(&file, host.key.is_some(), asker)? else {
                continue;
            };
            let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
            let outcome = session
                .authenticate_publickey(&host.user, key)
                .await
                .map_err(failed)?;
            if outcome.success() {
                return Ok(true);
            }
        }
        if host.key.is_some() {
            return Ok(false);
        }
        let what = SecretFor::SshAccount;
        for _ in 0..3 {
            let password = match self.address.secrets.get(&what) {
                Some(password) => password,
                None => {
                    let words = format!(
                        "Password of {} on the secure-shell host {}",
                        host.user, host.host
                    );
                    asker.secret(words).ok_or_else(OpenError::cancelled)?
                }
            };
            let outcome = session
                .authenticate_password(&host.user, password.expose_secret())
                .await
                .map_err(failed)?;
            match outcome {
                AuthResult::Success => {
                    self.address.secrets.set(what, Some(password));
                    return Ok(true);
                }
                AuthResult::Failure {
                    remaining_methods, ..
                } => {
                    self.address.secrets.set(what.clone(), None);
                    if !remaining_methods.contains(&russh::MethodKind::Password) {
                        return Ok(false);
                    }
                }
            }
        }
        Ok(false)
    }

    /// Reads a private key; one that was not named and cannot be read is passed over.
    fn key(
        &self,
        file: &Path,
        named: bool,
        asker: &Asker,
    ) -> Result<Option<russh::keys::PrivateKey>, OpenError> {
        let what = SecretFor::SshKey(file.to_path_buf());
        let mut phrase = self.address.secrets.get(&what);
        for _ in 0..4 {
            let read =
                russh::keys::load_secret_key(file, phrase.as_ref().map(|p| p.expose_secret()));
            let encrypted = match read {
                Ok(key) => {
                    self.address.secrets.set(what, phrase);
                    return Ok(Some(key));
                }
                Err(russh::keys::Error::KeyIsEncrypted) => true,
                Err(_) if phrase.is_some() => true,
                Err(error) if named => {
                    return Err(trouble(
                        format!("The key file {} cannot be used.", file.display()),
                        "It has to be a private key that you can read.",
                        Some(error.to_string()),
                    ));
                }
                Err(_) => false,
            };
            if !encrypted {
                return Ok(None);
            }
            let words = format!("Passphrase of the key {}", file.display());
            phrase = Some(asker.secret(words).ok_or_else(OpenError::cancelled)?);
        }
        Ok(None)
    }
}

/// Checks the key of the secure-shell host.
struct HostKey {
    host: SshHost,
    asker: Asker,
    refused: Arc<Mutex<Option<OpenError>>>,
}

impl client::Handler for HostKey {
    type Error = russh::Error;

    async fn check_server_key(
        &mut self,
        offered: &russh::keys::PublicKeyOrCertificate,
    ) -> Result<bool, Self::Error> {
        let key = offered.public_key();
        let (host, port) = (self.host.host.as_str(), self.host.port);
        let print = key.fingerprint(russh::keys::HashAlg::Sha256).to_string();
        let refuse = |error: OpenError| {
            *self.refused.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
            Ok(false)
        };
        let file = self
            .host
            .known
            .clone()
            .or_else(|| std::env::home_dir().map(|home| home.join(".ssh").join("known_hosts")));
        let Some(file) = file else {
            return refuse(trouble(
                "There is no home directory with known host keys.",
                "Set HOME, or name a file with via-known-hosts in the address.",
                None,
            ));
        };
        match known_hosts::check_known_hosts_path(host, port, &key, &file) {
            Ok(true) => return Ok(true),
            Err(russh::keys::Error::KeyChanged { line }) => {
                return refuse(trouble(
                    format!(
                        "The key of {host}:{port} is not the one that is known for it. It was not trusted, and nothing was sent."
                    ),
                    &format!(
                        "Either the host was set up anew or somebody stands in between. Ask whoever runs it; only then take line {line} out of {}.",
                        file.display()
                    ),
                    Some(format!("it offers {print}")),
                ));
            }
            Ok(false) | Err(_) => {}
        }
        let known = known_hosts::known_host_keys_path(host, port, &file).unwrap_or_default();
        let mut details = vec![
            format!("Its key is {print} ({}).", key.algorithm()),
            format!(
                "Compare it with what whoever runs the host told you. If you go on, it is remembered in {}.",
                file.display()
            ),
        ];
        if !known.is_empty() {
            details.insert(0, "A key of another kind is known for it; an attacker could offer a new kind on purpose.".into());
        }
        if !self.asker.allow(
            format!("The host {host}:{port} is not known here. Go on?"),
            details,
        ) {
            return refuse(trouble(
                format!("The key of {host}:{port} was not accepted."),
                "Nothing was sent to it.",
                Some(format!("it offers {print}")),
            ));
        }
        if let Err(error) = known_hosts::learn_known_hosts_path(host, port, &key, &file) {
            let question = format!("The key could not be remembered: {error}. Go on without?");
            if !self.asker.allow(question, Vec::new()) {
                return refuse(trouble(
                    format!("The key of {host}:{port} could not be remembered."),
                    "Nothing was sent to it.",
                    Some(error.to_string()),
                ));
            }
        }
        Ok(true)
    }
}

fn say(said: &Mutex<VecDeque<String>>, line: &str) {
    let mut said = said.lock().unwrap_or_else(PoisonError::into_inner);
    if said.len() >= 4 {
        said.pop_front();
    }
    said.push_back(line.trim().chars().take(300).collect());
}

async fn over_shell(
    mut stream: TcpStream,
    ssh: Arc<Handle<HostKey>>,
    host: String,
    port: u16,
    said: Arc<Mutex<VecDeque<String>>>,
) {
    match ssh
        .channel_open_direct_tcpip(host, u32::from(port), "127.0.0.1", 0)
        .await
    {
        Ok(channel) => {
            let mut channel = channel.into_stream();
            let _ = copy_bidirectional(&mut stream, &mut channel).await;
        }
        Err(error) => say(
            &said,
            &format!("The secure-shell host cannot reach the server: {error}."),
        ),
    }
}

async fn over_command(stream: TcpStream, command: String, said: Arc<Mutex<VecDeque<String>>>) {
    let child = tokio::process::Command::new("/bin/sh")
        .arg("-c")
        .arg(&command)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn();
    let mut child = match child {
        Ok(child) => child,
        Err(error) => {
            return say(
                &said,
                &format!("The command could not be started: {error}."),
            );
        }
    };
    let (Some(mut input), Some(mut output), Some(errors)) =
        (child.stdin.take(), child.stdout.take(), child.stderr.take())
    else {
        return;
    };
    let heard = Arc::clone(&said);
    let listen = tokio::spawn(async move {
        let mut text = Vec::new();
        // Enough to say what went wrong.
        let _ = errors.take(64 * 1024).read_to_end(&mut text).await;
        for line in String::from_utf8_lossy(&text).lines() {
            say(&heard, line);
        }
    });
    let (mut from, mut to) = stream.into_split();
    tokio::select! {
        _ = tokio::io::copy(&mut from, &mut input) => {}
        _ = tokio::io::copy(&mut output, &mut to) => {}
    }
    drop(input);
    drop(to);
    let ended = tokio::time::timeout(Duration::from_secs(2), child.wait()).await;
    if let Ok(Ok(status)) = ended
        && !status.success()
    {
        say(&said, &format!("The command ended with {status}."));
    }
    let _ = listen.await;
}

/// Whether the other end of a loopback connection belongs to this process, as far as the system tells: it
/// lists sockets by their numbers, and a process its own.
fn is_own(peer: SocketAddr, own: Option<SocketAddr>) -> bool {
    let (Ok(table), Some(own)) = (std::fs::read_to_string("/proc/net/tcp"), own) else {
        return !Path::new("/proc/net/tcp").exists();
    };
    let number = |address: SocketAddr| format!("0100007F:{:04X}", address.port());
    let (theirs, ours) = (number(peer), number(own));
    let inode = table.lines().find_map(|line| {
        let fields: Vec<&str> = line.split_ascii_whitespace().collect();
        (fields.get(1) == Some(&theirs.as_str()) && fields.get(2) == Some(&ours.as_str()))
            .then(|| fields.get(9).map(|inode| format!("socket:[{inode}]")))
            .flatten()
    });
    let Some(inode) = inode else {
        return false;
    };
    let Ok(list) = std::fs::read_dir("/proc/self/fd") else {
        return false;
    };
    list.flatten()
        .filter_map(|entry| std::fs::read_link(entry.path()).ok())
        .any(|target| target.to_string_lossy() == inode)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_connection_of_another_process_is_told() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("port");
        let place = listener.local_addr().expect("address");
        let _own = std::net::TcpStream::connect(place).expect("connects");
        let (accepted, peer) = listener.accept().expect("accepted");
        assert!(is_own(peer, accepted.local_addr().ok()));
        let mut other = std::process::Command::new("bash")
            .args([
                "-c",
                &format!("exec 3<>/dev/tcp/127.0.0.1/{}; read -r", place.port()),
            ])
            .stdin(Stdio::piped())
            .spawn()
            .expect("starts");
        let (accepted, peer) = listener.accept().expect("accepted");
        assert!(!is_own(peer, accepted.local_addr().ok()));
        other.kill().expect("ends");
        other.wait().expect("ends");
    }
}
