//! What the errors of MariaDB and MySQL mean: their numbers (the servers' error lists) in neutral words, with
//! the place in the statement where they tell one, and trouble on the way in.

use idle_tide_lang::correct::Complaint;
use mysql_async::{DriverError, Error, IoError, ServerError};

use crate::address::Address;
use crate::engine::{EngineError, Fault};
use crate::trouble::{OpenError, Trouble};

/// What is said when nothing but a new password is taken.
pub(super) const EXPIRED: &str = "The password of this user has expired: the server takes nothing before a new one. /change-password gives it.";

/// The text between the first pair of single quotes, and what follows it.
fn quoted(message: &str) -> Option<&str> {
    message.split('\'').nth(1)
}

/// An error of the server about a statement.
pub(super) fn of_server(error: &ServerError, statement: &str) -> EngineError {
    let message = error.message.as_str();
    let name = || quoted(message).unwrap_or_default().to_string();
    let last = |name: String| name.rsplit('.').next().unwrap_or_default().to_string();
    let mut offset = None;
    let complaint = match error.code {
        1146 => Complaint::NoSuchTable(last(name())),
        1054 => Complaint::NoSuchColumn(name()),
        1052 => Complaint::AmbiguousColumn(name()),
        1305 => Complaint::NoSuchFunction(last(
            message
                .split_whitespace()
                .nth(1)
                .unwrap_or_default()
                .to_string(),
        )),
        1064 => match message.split_once("near '") {
            Some((_, near)) => {
                let near = near.rsplit_once("' at line").map_or(near, |(near, _)| near);
                let near = near.trim_end();
                // The words stand at the first place that goes on like them.
                offset = (!near.is_empty()).then(|| statement.find(near)).flatten();
                let token = near.split_whitespace().next().unwrap_or_default();
                match token {
                    "" => Complaint::Incomplete,
                    token => Complaint::Syntax(token.chars().take(40).collect()),
                }
            }
            None => Complaint::Other,
        },
        _ => Complaint::Other,
    };
    let (fault, advice) = match error.code {
        1317 => (Fault::Cancelled, None),
        1290 | 1792 | 1836 => (Fault::ReadOnly, None),
        1205 | 1213 => (Fault::Locked, None),
        1048 | 1062 | 1169 | 1216 | 1217 | 1364 | 1451 | 1452 | 1557 | 1586 | 3819 | 4025 => {
            (Fault::Constraint, None)
        }
        1820 => (
            Fault::Denied,
            Some(EXPIRED.to_string()),
        ),
        3948 | 4166 => (
            Fault::Denied,
            Some(
                "This server takes no files of the machines that work with it: whoever runs it sets local_infile."
                    .to_string(),
            ),
        ),
        1046 => (
            Fault::Statement,
            Some(
                "No database is chosen yet. /use NAME goes to one; /databases lists them."
                    .to_string(),
            ),
        ),
        1044 | 1142 | 1143 | 1227 | 1370 => (Fault::Denied, None),
        1969 | 3024 => (
            Fault::Other,
            Some(
                "It took longer than this session allows (max_statement_time, max_execution_time)."
                    .to_string(),
            ),
        ),
        1053 | 1077 | 1079 | 1152 | 1184 | 1927 | 4031 => (Fault::Lost, None),
        1021 | 1114 | 3 | 5 => (Fault::Disk, None),
        1054 | 1052 | 1064 | 1146 | 1305 | 1051 | 1091 => (Fault::Statement, None),
        _ => (Fault::Other, None),
    };
    EngineError {
        fault,
        message: message.to_string(),
        code: format!("{} {}", error.code, error.state),
        complaint,
        offset,
        advice,
        notes: Vec::new(),
    }
}

/// An error of the driver while a statement ran.
pub(super) fn of_driver(error: &Error, statement: &str, last_words: Option<String>) -> EngineError {
    if let Error::Server(server) = error {
        return of_server(server, statement);
    }
    let mut said = match error {
        Error::Io(IoError::Io(io)) => io.to_string(),
        error => error.to_string(),
    };
    let lost = matches!(
        error,
        Error::Io(_)
            | Error::Driver(DriverError::ConnectionClosed)
            | Error::Driver(DriverError::PacketOutOfOrder)
    );
    if let Some(words) = last_words.filter(|_| lost) {
        said = format!("{said}; {words}");
    }
    if lost {
        return EngineError {
            fault: Fault::Lost,
            code: "connection".into(),
            advice: None,
            ..EngineError::plain(said)
        };
    }
    let mut plain = EngineError::plain(said.clone());
    if said.to_lowercase().contains("local infile") || said.to_lowercase().contains("local_infile")
    {
        plain.fault = Fault::Statement;
        plain.advice = Some("A file of this machine is not sent on a server's word. Read the file here and insert its rows.".into());
    }
    plain
}

/// An error of the driver while it logs in.
pub(super) fn of_login(error: &Error, address: &Address, last_words: Option<String>) -> OpenError {
    let place = address.place();
    let make = |trouble, headline: String, check: &str, said: String| OpenError {
        trouble,
        headline,
        checks: vec![check.to_string()],
        said: Some(said),
    };
    match error {
        Error::Io(IoError::Tls(error)) => crate::tls::trouble(&address.host, &error.to_string()),
        Error::Io(IoError::Io(io)) => {
            let words = io.to_string();
            if words.contains("certificate") {
                return crate::tls::trouble(&address.host, &words);
            }
            crate::served::unreachable(address, io, last_words)
        }
        Error::Driver(DriverError::ConnectionClosed) => {
            let io = std::io::Error::other("the other side closed the connection");
            crate::served::unreachable(address, &io, last_words)
        }
        Error::Driver(DriverError::NoClientSslFlagFromServer) => make(
            Trouble::Tls,
            format!("{place} does not offer encryption."),
            "Whoever runs it can turn it on. tls=try in the address goes on without; others on the way can then read everything.",
            error.to_string(),
        ),
        Error::Driver(DriverError::UnknownAuthPlugin { name }) => make(
            Trouble::Login,
            format!(
                "{place} does not let {} in: it asks for a login of the kind {name}, which this program does not have.",
                address.user
            ),
            "A server asks so where it does not know the user, too. Check the name; an account of that kind needs another (alter user NAME identified with caching_sha2_password by ...).",
            error.to_string(),
        ),
        Error::Server(server) => {
            let said = format!("{}, {}", server.message, server.code);
            match server.code {
                1045 | 1698 => make(
                    Trouble::Login,
                    format!(
                        "{place} does not let {} in with this password.",
                        address.user
                    ),
                    "Check the user's name and the host part of the account: the server knows users by name and by where they come from.",
                    said,
                ),
                1049 => make(
                    Trouble::NoDatabase,
                    format!("{place} has no database {}.", address.database),
                    "Leave it out of the address: then none is chosen, and /databases lists them.",
                    said,
                ),
                1044 => make(
                    Trouble::NoDatabase,
                    format!(
                        "{} may not enter the database {}.",
                        address.user, address.database
                    ),
                    "Leave it out of the address and see with /databases which may be entered.",
                    said,
                ),
                1862 => make(
                    Trouble::Login,
                    format!(
                        "The password of {} has expired at {place}, and the server lets nobody in with it.",
                        address.user
                    ),
                    "Whoever runs it gives a new one: alter user NAME identified by, or turns disconnect_on_expired_password off; then /change-password can be used here.",
                    said,
                ),
                1040 | 1203 | 1226 => make(
                    Trouble::TooMany,
                    format!("{place} takes no more connections."),
                    "Others have to leave first, or whoever runs it raises max_connections.",
                    said,
                ),
                1129 | 1130 => make(
                    Trouble::Login,
                    format!("{place} takes no connections from this machine."),
                    "Its accounts name the hosts that users may come from.",
                    said,
                ),
                _ => make(
                    Trouble::Other,
                    format!("{place} refuses: {}.", server.message.trim_end_matches('.')),
                    "Its own log may say more.",
                    said,
                ),
            }
        }
        error => make(
            Trouble::Other,
            format!("{place} does not speak as a MariaDB or MySQL server does."),
            "Check the port: another kind of server may listen there.",
            error.to_string(),
        ),
    }
}
