//! Sources: those the user saved, and servers that listen on this machine. Looking for servers logs in to
//! none: it reads the system's lists of listening sockets, and says hello only where the family speaks first.

use std::collections::BTreeSet;
use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Duration;

use idle_tide_engines::address::{SecretFor, usual_port, usual_sockets};
use idle_tide_engines::{OpenError, OpenOptions, Overrides, Source};
use idle_tide_lang::dialect::Family;

use crate::desk::Origin;
use crate::settings::Saved;

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
    if let Source::Server(address) = &source
        && user.is_none()
    {
        let what = SecretFor::Database;
        if let Some(password) = &saved.password {
            address.secrets.set(what, Some(password.clone().into()));
        } else if let Some(command) = &saved.password_command {
            address
                .secrets
                .set(what, Some(password_from(command)?.into()));
        } else if saved.keyring == Some(true)
            && let Some(password) = from_keyring(&address.url())
        {
            address.secrets.set(what, Some(password.into()));
        }
    }
    Ok(Origin {
        name: name.to_string(),
        source,
        options: OpenOptions {
            write: saved.writes.as_deref() != Some("none"),
            ..OpenOptions::default()
        },
        tone: saved.tone.unwrap_or_default(),
    })
}

/// What a command prints in its first line.
fn password_from(command: &str) -> Result<String, OpenError> {
    let failed = |words: String| {
        OpenError::plain(format!(
            "The password command of this source failed: {words}. The source's settings name it."
        ))
    };
    let output = Command::new("/bin/sh")
        .args(["-c", command])
        .stdin(Stdio::null())
        .stderr(Stdio::piped())
        .output()
        .map_err(|error| failed(error.to_string()))?;
    if !output.status.success() {
        let said = String::from_utf8_lossy(&output.stderr);
        return Err(failed(
            said.lines()
                .next()
                .unwrap_or("it ended badly")
                .trim()
                .to_string(),
        ));
    }
    let text = String::from_utf8_lossy(&output.stdout);
    match text.lines().next().unwrap_or_default() {
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
    use secrecy::ExposeSecret;

    #[test]
    fn a_password_command_gives_its_first_line_or_says_why_not() {
        assert_eq!(
            password_from("printf 'low water\\nmore'").expect("a line"),
            "low water"
        );
        let error = password_from("echo no such thing >&2; exit 3").expect_err("fails");
        assert!(error.to_string().contains("no such thing"));
        assert!(password_from("true").is_err());
        let saved = Saved {
            address: "postgres://mate@haven/books".into(),
            password_command: Some("echo spring".into()),
            ..Saved::default()
        };
        let origin = of_saved("books", &saved, None).expect("a source");
        let Source::Server(address) = origin.source else {
            panic!("a server");
        };
        let secret = address.secrets.get(&SecretFor::Database).expect("given");
        assert_eq!(secret.expose_secret(), "spring");
        // Another user has another password.
        let other = of_saved("books", &saved, Some("pilot")).expect("a source");
        let Source::Server(address) = other.source else {
            panic!("a server");
        };
        assert!(address.secrets.get(&SecretFor::Database).is_none());
    }
}
