//! Sources: those the user saved, and servers that listen on this machine. Looking for servers logs in to
//! none: it reads the system's lists of listening sockets, and says hello only where the family speaks first.

use std::collections::BTreeSet;
use std::io::{Read, Seek};
use std::net::{SocketAddr, TcpStream};
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use idle_tide_engines::address::SERVED;
use idle_tide_engines::families::FAMILIES;
use idle_tide_engines::{OpenError, OpenOptions, Overrides, Source};

use crate::origin::Origin;
use crate::settings::{Saved, Writes};

/// A server that listens on this machine.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Found {
    /// The family's name.
    pub family: &'static str,
    /// Its address.
    pub address: String,
    /// Its port or socket.
    pub place: String,
    /// What it says of itself before anybody logs in, if anything.
    pub says: String,
}

/// Ports of this machine on which something listens.
fn listening() -> BTreeSet<u16> {
    let mut ports = BTreeSet::new();
    for table in ["/proc/net/tcp", "/proc/net/tcp6"] {
        for line in std::fs::read_to_string(table)
            .unwrap_or_default()
            .lines()
            .skip(1)
        {
            let fields: Vec<&str> = line.split_ascii_whitespace().collect();
            // 0A is the state of a socket that listens.
            if fields.get(3) != Some(&"0A") {
                continue;
            }
            let local = fields.get(1).and_then(|local| local.rsplit_once(':'));
            if let Some(port) = local.and_then(|(_, port)| u16::from_str_radix(port, 16).ok()) {
                ports.insert(port);
            }
        }
    }
    ports
}

fn sockets(name: &str) -> Vec<PathBuf> {
    let table = std::fs::read_to_string("/proc/net/unix").unwrap_or_default();
    table
        .lines()
        .filter_map(|line| line.split_ascii_whitespace().nth(7))
        .filter(|path| {
            path.starts_with('/')
                && path
                    .rsplit('/')
                    .next()
                    .is_some_and(|file| file.contains(name))
        })
        .map(PathBuf::from)
        .collect()
}

/// Servers that listen on this machine. It may take a second.
pub fn look() -> Vec<Found> {
    let mut found = Vec::new();
    for port in listening() {
        for known in FAMILIES {
            let near = |usual: &u16| (*usual..usual.saturating_add(8)).contains(&port);
            if known.ports.iter().any(near)
                && let Some(hello) = (known.hello)(port)
            {
                found.push(Found {
                    family: hello.name,
                    address: format!("{}://127.0.0.1:{port}/", known.scheme),
                    place: format!("port {port}"),
                    says: hello.says,
                });
            }
        }
    }
    for served in SERVED {
        let mut paths: Vec<PathBuf> = served
            .socket_names
            .iter()
            .flat_map(|name| sockets(name))
            .collect();
        // Where the system has no list of sockets, the usual places are looked at.
        if !std::path::Path::new("/proc/net/unix").exists() {
            paths.extend(
                served
                    .usual_sockets(served.port)
                    .into_iter()
                    .filter(|path| path.exists()),
            );
        }
        found.extend(paths.into_iter().map(|path| Found {
            family: served.name,
            address: format!("{}:///?socket={}", served.schemes[0], path.display()),
            place: path.display().to_string(),
            says: String::new(),
        }));
    }
    found.sort();
    found.dedup();
    found
}

/// Whether something answers where a source leads to; `None` where that is not asked (a file, a way in).
pub fn answers(source: &Source) -> Option<bool> {
    match source {
        Source::File(path) => Some(path.exists()),
        Source::Server(address) => {
            if address.way != idle_tide_engines::address::Way::Direct {
                return None;
            }
            if let Some(socket) = &address.socket {
                return Some(std::os::unix::net::UnixStream::connect(socket).is_ok());
            }
            use std::net::ToSocketAddrs;
            let places = (address.host.as_str(), address.port).to_socket_addrs();
            let connects = |place: SocketAddr| {
                TcpStream::connect_timeout(&place, Duration::from_secs(2)).is_ok()
            };
            Some(places.is_ok_and(|mut places| places.any(connects)))
        }
        Source::Documents(path) => Some(path.exists()),
        Source::Wire(address) if address.text.starts_with("mongodb://") => {
            use std::net::ToSocketAddrs;
            let connects = |host: &str| {
                let named = host
                    .rsplit_once(':')
                    .is_some_and(|(_, port)| port.parse::<u16>().is_ok());
                let host = if named {
                    host.to_string()
                } else {
                    format!("{host}:27017")
                };
                let places = host.to_socket_addrs();
                places.is_ok_and(|mut places| {
                    places.any(|place| {
                        TcpStream::connect_timeout(&place, Duration::from_secs(2)).is_ok()
                    })
                })
            };
            Some(address.hosts.split(',').any(connects))
        }
        // Which hosts a name stands for is found by asking for it.
        Source::Wire(_) => None,
        Source::Demo | Source::DemoDocuments | Source::Memory => Some(true),
    }
}

/// The source that a saved one names, with its password where it says how to get it.
///
/// # Errors
/// If its address is damaged, or its password command fails.
pub fn of_saved(name: &str, saved: &Saved, user: Option<&str>) -> Result<Origin, OpenError> {
    let more = Overrides {
        via: saved.via.clone(),
        through: saved.through.clone(),
        user: user.map(str::to_string),
        ..Overrides::default()
    };
    let source = Source::parse_with(&saved.address, &more)?;
    if user.is_none() {
        if let Some(password) = &saved.password {
            source.set_password(password.clone().into());
        } else if let Some(command) = &saved.password_command {
            source.set_password(password_from(command, PASSWORD_LIMIT)?.into());
        } else if saved.keyring == Some(true)
            && let Some(password) = from_keyring(&source.address())
        {
            source.set_password(password.into());
        }
    }
    Ok(Origin {
        name: name.to_string(),
        source,
        options: OpenOptions {
            write: saved.ways_of_writes().0 != Some(Writes::None),
            ..OpenOptions::default()
        },
        tone: saved.tone.unwrap_or_default(),
    })
}

/// How long a password command may take.
const PASSWORD_LIMIT: Duration = Duration::from_secs(60);

/// What a command prints in its first line, within a limit.
fn password_from(command: &str, limit: Duration) -> Result<String, OpenError> {
    let failed = |words: String| {
        OpenError::plain(format!(
            "The password command of this source failed: {words}. The source's settings name it."
        ))
    };
    let system = |error: std::io::Error| failed(error.to_string());
    // What it prints goes into files that have no name, so that nothing waits for a pipe that a child holds open.
    let (mut out, mut said) = (
        tempfile::tempfile().map_err(system)?,
        tempfile::tempfile().map_err(system)?,
    );
    let mut child = Command::new("/bin/sh")
        .args(["-c", command])
        .stdin(Stdio::null())
        .stdout(out.try_clone().map_err(system)?)
        .stderr(said.try_clone().map_err(system)?)
        .process_group(0)
        .spawn()
        .map_err(system)?;
    let end = Instant::now() + limit;
    let status = loop {
        match child.try_wait().map_err(system)? {
            Some(status) => break status,
            None if Instant::now() >= end => {
                // Ending what it started is as much as can be done.
                let _ = child.kill();
                let _ = child.wait();
                return Err(failed(format!(
                    "it did not end within {} s",
                    limit.as_secs()
                )));
            }
            None => std::thread::sleep(Duration::from_millis(5)),
        }
    };
    let first_line = |file: &mut std::fs::File| {
        let mut bytes = Vec::new();
        file.rewind()?;
        file.take(64 * 1024).read_to_end(&mut bytes)?;
        let text = String::from_utf8_lossy(&bytes).into_owned();
        Ok(text.lines().next().unwrap_or_default().to_string())
    };
    if !status.success() {
        let line = first_line(&mut said).map_err(system)?;
        let line = line.trim();
        return Err(failed(
            if line.is_empty() {
                "it ended badly"
            } else {
                line
            }
            .to_string(),
        ));
    }
    match first_line(&mut out).map_err(system)?.as_str() {
        "" => Err(failed("it printed nothing".into())),
        line => Ok(line.to_string()),
    }
}

fn entry(url: &str) -> Option<keyring::Entry> {
    keyring::Entry::new("idle-tide", url).ok()
}

/// The password that the system's key store has for an address.
pub fn from_keyring(url: &str) -> Option<String> {
    entry(url)?.get_password().ok()
}

/// Keeps a password in the system's key store; says why where it cannot.
///
/// # Errors
/// In words, if there is no key store or it refuses.
pub fn into_keyring(url: &str, password: &str) -> Result<(), String> {
    let entry = entry(url).ok_or("this system has no key store")?;
    entry
        .set_password(password)
        .map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_dock::server::{Server, Settings, Store, listen};
    use secrecy::ExposeSecret;

    #[test]
    fn whether_something_answers_is_told_by_a_link() {
        let server = Server::new(Store::default(), Settings::default());
        let listening = listen(server, 0, None).expect("listens");
        let port = listening.address.port();
        let source = Source::parse(&format!("mongodb://127.0.0.1:{port}/x")).expect("an address");
        assert_eq!(answers(&source), Some(true));
        drop(listening);
    }

    #[test]
    fn a_password_command_gives_its_first_line_or_says_why_not() {
        assert_eq!(
            password_from("printf 'low water\\nmore'", PASSWORD_LIMIT).expect("a line"),
            "low water"
        );
        let error =
            password_from("echo no such thing >&2; exit 3", PASSWORD_LIMIT).expect_err("fails");
        assert!(error.to_string().contains("no such thing"));
        assert!(password_from("true", PASSWORD_LIMIT).is_err());
        // One that never ends, and one whose child never does.
        let error = password_from("sleep 600", Duration::from_millis(40)).expect_err("late");
        assert!(error.to_string().contains("did not end"), "{error}");
        let word = password_from("sleep 600 & echo neap", PASSWORD_LIMIT).expect("a line");
        assert_eq!(word, "neap");
        let saved = Saved {
            address: "postgres://mate@haven/books".into(),
            password_command: Some("echo spring".into()),
            ..Saved::default()
        };
        let origin = of_saved("books", &saved, None).expect("a source");
        let secret = origin.source.password().expect("given");
        assert_eq!(secret.expose_secret(), "spring");
        // Another user has another password.
        let other = of_saved("books", &saved, Some("pilot")).expect("a source");
        assert!(other.source.password().is_none());
        let saved = Saved {
            address: "mongodb://mate@haven/log".into(),
            ..saved
        };
        let origin = of_saved("log", &saved, None).expect("a source");
        assert!(origin.source.password().is_some());
        let other = of_saved("log", &saved, Some("pilot")).expect("a source");
        assert!(other.source.password().is_none());
        assert_eq!(other.source.address(), "mongodb://pilot@haven/log");
    }
}
