//! Sources: those the user saved, and servers that listen on this machine. Looking for servers logs in to
//! none: it reads the system's lists of listening sockets, and says hello only where the family speaks first.

use std::collections::BTreeSet;
use std::io::{Read, Seek, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use idle_tide_core::document;
use idle_tide_core::document::{Datum, bson};
use idle_tide_engines::address::{usual_port, usual_sockets};
use idle_tide_engines::{OpenError, OpenOptions, Overrides, Source};
use idle_tide_lang::dialect::Family;

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

/// How our own stand-in is called.
const PRACTICE: &str = "practice server";

/// How long a server of this machine may take to say something.
const PATIENCE: Duration = Duration::from_millis(400);

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

/// Whether the port is one where a family usually listens, or one near it for a second server.
fn is_usual(port: u16, family: Family) -> bool {
    let usual = usual_port(family);
    (usual..usual + 8).contains(&port)
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

/// What a server that speaks first says of its version.
fn greeting(port: u16) -> Option<String> {
    let place = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
    let mut stream = TcpStream::connect_timeout(&place, PATIENCE).ok()?;
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
    let mut bytes = [0; 128];
    let count = stream.read(&mut bytes).ok()?;
    // Three bytes of length, a number, the protocol (10), and the version up to a zero.
    let version = bytes.get(..count)?.get(4..)?.strip_prefix(&[10])?;
    let end = version.iter().position(|byte| *byte == 0)?;
    Some(
        String::from_utf8_lossy(&version[..end])
            .trim_start_matches("5.5.5-")
            .to_string(),
    )
}

/// Whether what listens answers a question for encryption as this family does.
fn answers_postgres(port: u16) -> bool {
    let place = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
    let asked = || {
        let mut stream = TcpStream::connect_timeout(&place, PATIENCE).ok()?;
        stream.set_read_timeout(Some(PATIENCE)).ok()?;
        stream.write_all(&[0, 0, 0, 8, 4, 210, 22, 47]).ok()?;
        let mut answer = [0];
        stream.read_exact(&mut answer).ok()?;
        matches!(answer[0], b'S' | b'N').then_some(())
    };
    asked().is_some()
}

/// What a document server says of itself before anybody logs in (`buildInfo` by OP_MSG, the public wire protocol).
fn build_of_documents(port: u16) -> Option<String> {
    let command = document! { "buildInfo": 1, "$db": "admin" };
    let mut message = vec![0; 21];
    bson::write(&command, &mut message);
    let length = u32::try_from(message.len()).ok()?;
    message[..4].copy_from_slice(&length.to_le_bytes());
    message[12..16].copy_from_slice(&2013_u32.to_le_bytes());
    let place = SocketAddr::from((Ipv4Addr::LOCALHOST, port));
    let mut stream = TcpStream::connect_timeout(&place, PATIENCE).ok()?;
    stream.set_read_timeout(Some(PATIENCE)).ok()?;
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
    if text("practiceServer").is_some() {
        return Some(PRACTICE.into());
    }
    Some(text("version").unwrap_or_default())
}

/// Servers that listen on this machine. It may take a second.
pub fn look() -> Vec<Found> {
    let mut found = Vec::new();
    let ports = listening();
    for port in &ports {
        if is_usual(*port, Family::Postgres) && answers_postgres(*port) {
            found.push(Found {
                family: "PostgreSQL",
                address: format!("postgres://127.0.0.1:{port}/"),
                place: format!("port {port}"),
                says: String::new(),
            });
        }
        if is_usual(*port, Family::Mariadb)
            && let Some(says) = greeting(*port)
        {
            let family = if says.contains("MariaDB") {
                "MariaDB"
            } else {
                "MySQL"
            };
            found.push(Found {
                family,
                address: format!("mariadb://127.0.0.1:{port}/"),
                place: format!("port {port}"),
                says: says.split('-').next().unwrap_or_default().to_string(),
            });
        }
    }
    for port in &ports {
        let practice = (27117..27125).contains(port);
        if (practice || is_usual(*port, Family::Documents))
            && let Some(says) = build_of_documents(*port)
        {
            let practice = says == PRACTICE;
            found.push(Found {
                family: if practice { PRACTICE } else { "documents" },
                address: format!("mongodb://127.0.0.1:{port}/"),
                place: format!("port {port}"),
                says: if practice { String::new() } else { says },
            });
        }
    }
    let mut at_sockets: Vec<(&'static str, &'static str, PathBuf)> = Vec::new();
    at_sockets.extend(
        sockets(".s.PGSQL.")
            .into_iter()
            .map(|p| ("PostgreSQL", "postgres", p)),
    );
    for name in ["mysqld.sock", "mysql.sock", "mariadb.sock"] {
        at_sockets.extend(
            sockets(name)
                .into_iter()
                .map(|p| ("MariaDB or MySQL", "mariadb", p)),
        );
    }
    for family in [Family::Postgres, Family::Mariadb] {
        let (name, scheme) = match family {
            Family::Postgres => ("PostgreSQL", "postgres"),
            _ => ("MariaDB or MySQL", "mariadb"),
        };
        // Where the system has no list of sockets, the usual places are looked at.
        for path in usual_sockets(family, usual_port(family)) {
            if !std::path::Path::new("/proc/net/unix").exists() && path.exists() {
                at_sockets.push((name, scheme, path));
            }
        }
    }
    for (family, scheme, path) in at_sockets {
        found.push(Found {
            family,
            address: format!("{scheme}:///?socket={}", path.display()),
            place: path.display().to_string(),
            says: String::new(),
        });
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
    fn a_document_server_says_what_it_is_and_nothing_else_does() {
        let server = Server::new(Store::default(), Settings::default());
        let listening = listen(server, 0, None).expect("listens");
        let port = listening.address.port();
        assert_eq!(build_of_documents(port).as_deref(), Some("practice server"));
        let source = Source::parse(&format!("mongodb://127.0.0.1:{port}/x")).expect("an address");
        assert_eq!(answers(&source), Some(true));
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
        assert_eq!(build_of_documents(port), None);
        assert_eq!(build_of_documents(port), None);
        speaks.join().expect("ended");
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
