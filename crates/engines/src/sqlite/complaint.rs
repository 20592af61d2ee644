//! SQLite's own messages and codes turned into neutral complaints and plain advice.

use std::path::Path;

use idle_tide_lang::correct::Complaint;
use rusqlite::ErrorCode;

use super::LOCK_LIMIT;
use crate::engine::{EngineError, Fault};

/// An error that is not SQLite's.
pub(super) fn other(message: &str) -> EngineError {
    EngineError {
        fault: Fault::Other,
        message: message.to_string(),
        code: String::new(),
        complaint: Complaint::Other,
        offset: None,
        advice: None,
        notes: Vec::new(),
    }
}

/// A run that was cancelled before it began.
pub(super) fn cancelled() -> EngineError {
    EngineError {
        fault: Fault::Cancelled,
        ..other("cancelled before it began")
    }
}

/// Primary result codes by name (sqlite.org, "Result and Error Codes").
fn code_name(code: i32) -> &'static str {
    match code & 0xff {
        1 => "SQLITE_ERROR",
        3 => "SQLITE_PERM",
        4 => "SQLITE_ABORT",
        5 => "SQLITE_BUSY",
        6 => "SQLITE_LOCKED",
        7 => "SQLITE_NOMEM",
        8 => "SQLITE_READONLY",
        9 => "SQLITE_INTERRUPT",
        10 => "SQLITE_IOERR",
        11 => "SQLITE_CORRUPT",
        13 => "SQLITE_FULL",
        14 => "SQLITE_CANTOPEN",
        15 => "SQLITE_PROTOCOL",
        17 => "SQLITE_SCHEMA",
        18 => "SQLITE_TOOBIG",
        19 => "SQLITE_CONSTRAINT",
        20 => "SQLITE_MISMATCH",
        21 => "SQLITE_MISUSE",
        23 => "SQLITE_AUTH",
        25 => "SQLITE_RANGE",
        26 => "SQLITE_NOTADB",
        _ => "SQLITE",
    }
}

/// Reads an error of the library.
pub(super) fn read(error: rusqlite::Error) -> EngineError {
    let (code, message, offset) = match &error {
        rusqlite::Error::SqlInputError {
            error, msg, offset, ..
        } => (*error, msg.clone(), usize::try_from(*offset).ok()),
        rusqlite::Error::SqliteFailure(error, message) => (
            *error,
            message.clone().unwrap_or_else(|| error.to_string()),
            None,
        ),
        rusqlite::Error::NulError(_) => return other("the statement holds a NUL byte"),
        error => return other(&error.to_string()),
    };
    let fault = match code.code {
        ErrorCode::OperationInterrupted => Fault::Cancelled,
        ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => Fault::Locked,
        ErrorCode::ReadOnly | ErrorCode::AuthorizationForStatementDenied => Fault::ReadOnly,
        ErrorCode::ConstraintViolation => Fault::Constraint,
        ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase => Fault::Damaged,
        ErrorCode::DiskFull | ErrorCode::SystemIoFailure | ErrorCode::CannotOpen => Fault::Disk,
        _ => Fault::Statement,
    };
    EngineError {
        fault,
        code: format!("{} {}", code_name(code.extended_code), code.extended_code),
        complaint: complaint(&message),
        advice: advice(fault, &message),
        notes: Vec::new(),
        message,
        offset,
    }
}

/// Reads an error met while opening the file at `path`.
pub(super) fn opening(error: rusqlite::Error, path: &Path) -> EngineError {
    let mut error = read(error);
    let path = path.display();
    error.advice = Some(match error.fault {
        Fault::Locked => format!(
            "{path} is locked: another program is writing to it. It was waited for {} s; try again when that is done.",
            LOCK_LIMIT.as_secs()
        ),
        Fault::Damaged => {
            format!("{path} is not a SQLite database, or it is encrypted or damaged.")
        }
        Fault::ReadOnly => format!(
            "{path} was left in the middle of a write. Open it with --write, so that SQLite can mend it, or mend a copy."
        ),
        _ => format!("{path} cannot be opened."),
    });
    error
}

fn complaint(message: &str) -> Complaint {
    let after = |start: &str| {
        message
            .strip_prefix(start)
            .map(|rest| rest.trim().to_string())
    };
    if let Some(name) = after("no such table: ") {
        return Complaint::NoSuchTable(name);
    }
    if let Some(name) = after("no such column: ") {
        // Newer versions add a hint about quotes.
        let name = name.split(" - ").next().unwrap_or(&name);
        return Complaint::NoSuchColumn(name.trim_matches('"').to_string());
    }
    if let Some(rest) = message.strip_prefix("table ")
        && let Some((_, name)) = rest.split_once(" has no column named ")
    {
        return Complaint::NoSuchColumn(name.to_string());
    }
    if let Some(name) = after("ambiguous column name: ") {
        return Complaint::AmbiguousColumn(name);
    }
    if let Some(name) = after("no such function: ") {
        return Complaint::NoSuchFunction(name);
    }
    if message == "incomplete input" {
        return Complaint::Incomplete;
    }
    if let Some(token) = after("unrecognized token: ") {
        return Complaint::BadToken(token.trim_matches('"').to_string());
    }
    if let Some(rest) = message.strip_prefix("near \"")
        && let Some((token, _)) = rest.rsplit_once("\": ")
    {
        return Complaint::Syntax(token.to_string());
    }
    Complaint::Other
}

fn advice(fault: Fault, message: &str) -> Option<String> {
    let named = |start: &str| {
        message.strip_prefix(start).map(|rest| {
            let columns: Vec<&str> = rest
                .split(", ")
                .filter_map(|name| name.split_once('.').map(|(_, column)| column))
                .collect();
            let table = rest.split('.').next().unwrap_or("").to_string();
            (table, columns.join(" and "))
        })
    };
    match fault {
        Fault::Locked => Some(format!(
            "Another program holds the database locked. It was waited for {} s. /again tries once more.",
            LOCK_LIMIT.as_secs()
        )),
        Fault::Damaged => Some("The file is damaged, or is no SQLite database any more.".into()),
        Fault::Disk => Some("The disk is full, or the file cannot be read or written.".into()),
        Fault::Constraint => {
            if let Some((table, columns)) = named("UNIQUE constraint failed: ") {
                return Some(format!(
                    "Another row of {table} already has this {columns}."
                ));
            }
            if let Some((table, columns)) = named("NOT NULL constraint failed: ") {
                return Some(format!("The column {columns} of {table} needs a value."));
            }
            if let Some(rule) = message.strip_prefix("CHECK constraint failed: ") {
                return Some(format!("A value breaks the rule {rule}."));
            }
            if message.starts_with("FOREIGN KEY") {
                return Some("A row that this one refers to does not exist, or other rows still refer to it.".into());
            }
            None
        }
        _ if message.contains("no such module") => {
            Some("The table needs an extension of SQLite that is not here.".into())
        }
        _ => None,
    }
}
