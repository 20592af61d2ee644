//! What the server's errors mean: their codes (SQLSTATE, PostgreSQL appendix A) in neutral words, with the
//! place in the statement, and trouble on the way in.

use idle_tide_lang::correct::Complaint;
use tokio_postgres::error::{DbError, ErrorPosition, SqlState};

use crate::address::Address;
use crate::engine::{EngineError, Fault};
use crate::trouble::{OpenError, Trouble};

/// The text between the first pair of double quotes.
fn quoted(message: &str) -> Option<&str> {
    message.split('"').nth(1)
}

/// The server's own words: message, detail and hint.
pub(super) fn words(error: &DbError) -> String {
    let mut words = error.message().to_string();
    for more in [error.detail(), error.hint()].into_iter().flatten() {
        words.push_str(if words.ends_with('.') { " " } else { ". " });
        words.push_str(more);
    }
    words
}

/// An error of the server about a statement.
pub(super) fn of_server(error: &DbError, statement: &str) -> EngineError {
    let code = error.code();
    let message = error.message();
    let name = || quoted(message).unwrap_or_default().to_string();
    let plain_name = || name().rsplit('.').next().unwrap_or_default().to_string();
    let complaint = match code {
        c if *c == SqlState::UNDEFINED_TABLE => Complaint::NoSuchTable(name()),
        c if *c == SqlState::UNDEFINED_COLUMN => match message.strip_prefix("column ") {
            // Qualified names stand without quotes.
            Some(rest) if !rest.starts_with('"') => Complaint::NoSuchColumn(
                rest.split(" does not")
                    .next()
                    .unwrap_or_default()
                    .to_string(),
            ),
            _ => Complaint::NoSuchColumn(plain_name()),
        },
        c if *c == SqlState::AMBIGUOUS_COLUMN => Complaint::AmbiguousColumn(name()),
        c if *c == SqlState::UNDEFINED_FUNCTION => Complaint::NoSuchFunction(
            message
                .trim_start_matches("function ")
                .split('(')
                .next()
                .unwrap_or_default()
                .to_string(),
        ),
        c if *c == SqlState::SYNTAX_ERROR && message.contains("end of input") => {
            Complaint::Incomplete
        }
        c if *c == SqlState::SYNTAX_ERROR => Complaint::Syntax(name()),
        _ => Complaint::Other,
    };
    let offset = match error.position() {
        // Counted in characters, from one.
        Some(ErrorPosition::Original(at)) => statement
            .char_indices()
            .nth((*at as usize).saturating_sub(1))
            .map(|(byte, _)| byte),
        _ => None,
    };
    let (fault, advice) = match code {
        c if *c == SqlState::QUERY_CANCELED && message.contains("user request") => (Fault::Cancelled, None),
        c if *c == SqlState::QUERY_CANCELED => (
            Fault::Other,
            Some("It took longer than this session's statement_timeout allows. show statement_timeout; says how long that is.".to_string()),
        ),
        c if *c == SqlState::READ_ONLY_SQL_TRANSACTION => (Fault::ReadOnly, None),
        c if *c == SqlState::LOCK_NOT_AVAILABLE || *c == SqlState::T_R_DEADLOCK_DETECTED => (Fault::Locked, None),
        c if *c == SqlState::IN_FAILED_SQL_TRANSACTION => (
            Fault::Other,
            Some("An earlier statement of this transaction failed, so the server takes nothing more in it. rollback; ends it; what it did is taken back.".to_string()),
        ),
        c if *c == SqlState::INSUFFICIENT_PRIVILEGE => (Fault::Denied, None),
        c if matches!(c.code(), "57P01" | "57P02" | "57P03" | "57P05") => (Fault::Lost, None),
        // An error of the server about a link of its own; one about the link to it is no error of the server.
        c if c.code().starts_with("08") => (
            Fault::Other,
            Some("A part of it lies on another server, which does not answer the one here. /about NAME shows which part lies where; the other parts can be read by their own names.".to_string()),
        ),
        c if c.code().starts_with("23") => (Fault::Constraint, None),
        c if c.code().starts_with("42") => (Fault::Statement, None),
        c if c.code().starts_with("53") => (Fault::Disk, None),
        _ => (Fault::Other, None),
    };
    EngineError {
        fault,
        message: words(error),
        code: code.code().to_string(),
        complaint,
        offset,
        advice,
        notes: Vec::new(),
    }
}

/// An error of the driver while it logs in; `wants_password` is whether the server asked for one and none was given.
pub(super) fn of_login(
    error: &tokio_postgres::Error,
    address: &Address,
    last_words: Option<String>,
    wants_password: bool,
) -> OpenError {
    let Some(server) = error.as_db_error() else {
        let source = std::error::Error::source(error);
        if let Some(io) = source.and_then(|source| source.downcast_ref::<std::io::Error>()) {
            return crate::served::unreachable(address, io, last_words);
        }
        let words = match source {
            Some(source) => format!("{error}: {source}"),
            None => error.to_string(),
        };
        let trouble = match wants_password {
            true => Trouble::Login,
            false => Trouble::Other,
        };
        return OpenError {
            trouble,
            headline: match trouble {
                Trouble::Login => format!("{} wants a password for {}.", address.place(), address.user),
                _ => format!("{} does not speak as a PostgreSQL server does.", address.place()),
            },
            checks: match trouble {
                Trouble::Login => vec!["Give it when it is asked for; PGPASSWORD and a saved source's password command work without asking.".into()],
                _ => vec!["Check the port: another kind of server may listen there.".into()],
            },
            said: Some(words),
        };
    };
    let make = |trouble, headline: String, check: &str| OpenError {
        trouble,
        headline,
        checks: vec![check.to_string()],
        said: Some(format!("{}, {}", words(server), server.code().code())),
    };
    let place = address.place();
    match server.code().code() {
        "28P01" => make(
            Trouble::Login,
            format!("{place} does not accept this password of {}.", address.user),
            "Check the user's name too: an unknown user gets the same answer.",
        ),
        "28000" => make(
            Trouble::Login,
            format!("{place} does not let {} in from here.", address.user),
            "Its access rules (pg_hba.conf) name users, databases, addresses and whether the link has to be encrypted.",
        ),
        "3D000" => make(
            Trouble::NoDatabase,
            format!(
                "{place} has no database {}.",
                if address.database.is_empty() {
                    &address.user
                } else {
                    &address.database
                }
            ),
            "/databases in an open session lists them, and so does idle-tide databases with the same address from the shell; postgres exists almost everywhere.",
        ),
        "53300" => make(
            Trouble::TooMany,
            format!("{place} takes no more connections."),
            "Others have to leave first, or whoever runs it raises max_connections.",
        ),
        "57P03" => make(
            Trouble::Refused,
            format!("{place} is starting or stopping."),
            "Try again in a moment.",
        ),
        _ => make(
            Trouble::Other,
            format!(
                "{place} refuses: {}.",
                server.message().trim_end_matches('.')
            ),
            "Its own log may say more.",
        ),
    }
}
