//! What the driver and the servers complain of, in neutral words.

use super::*;

/// A refused duplicate in plain words; the message names the collection, the index and the values.
pub(super) fn duplicate_words(message: &str) -> Option<String> {
    let (_, rest) = message.split_once("collection: ")?;
    let (place, rest) = rest.split_once(" index: ")?;
    let (index, key) = rest.split_once(" dup key: ")?;
    let collection = place.split_once('.').map_or(place, |(_, name)| name);
    let taken = match index.trim() {
        "_id_" => "each identifier stands for one document.".to_string(),
        index => format!("the index {index} takes each value once."),
    };
    Some(format!(
        "{collection} has a document with {} already: {taken}",
        key.trim()
    ))
}

/// An error of the driver or the server.
pub(super) fn of_driver(error: &mongodb::error::Error, _writes: bool) -> EngineError {
    let make = |fault, message: String, code: String, advice: Option<String>| EngineError {
        fault,
        message,
        code,
        complaint: Complaint::Other,
        offset: None,
        advice,
        notes: Vec::new(),
    };
    match &*error.kind {
        ErrorKind::Command(command) => of_code(command.code, &command.code_name, &command.message),
        ErrorKind::Write(WriteFailure::WriteError(write)) => of_code(
            write.code,
            write.code_name.as_deref().unwrap_or_default(),
            &write.message,
        ),
        ErrorKind::ServerSelection { .. } | ErrorKind::ConnectionPoolCleared { .. } => {
            make(Fault::NotSent, own_words(error), String::new(), None)
        }
        ErrorKind::Io(io) => make(Fault::Lost, io.to_string(), String::new(), None),
        ErrorKind::Authentication { message, .. } => {
            make(Fault::Other, message.clone(), "18".into(), None)
        }
        _ => make(Fault::Other, own_words(error), String::new(), None),
    }
}

/// What went wrong, out of the account that the driver gives of itself: what it says of each server, or of the error.
fn own_words(error: &mongodb::error::Error) -> String {
    inner_words(&error.to_string())
}

fn inner_words(account: &str) -> String {
    let of_servers: Vec<&str> = account
        .split("Error: Kind: ")
        .skip(1)
        .filter_map(|rest| rest.split(", labels: ").next())
        .collect();
    match of_servers.first() {
        Some(first) => first.to_string(),
        None => {
            let whole = account.strip_prefix("Kind: ").unwrap_or(account);
            let whole = whole.split(", labels: ").next().unwrap_or(whole);
            whole.to_string()
        }
    }
}

pub(super) fn of_code(code: i32, name: &str, message: &str) -> EngineError {
    let (fault, advice) = match code {
        11000 => (Fault::Constraint, duplicate_words(message)),
        11601 | 11600 | 237 => (Fault::Cancelled, None),
        50 => (Fault::Other, Some("The server's own limit of time was reached.".to_string())),
        13 => (Fault::Other, Some("This user may not do that. /access says what it may.".to_string())),
        43 => (Fault::Other, Some("The server has dropped the cursor (after ten minutes without a request, or a restart). What came before is here; run it again for the rest.".to_string())),
        241 if message.contains("overflow") => (Fault::Statement, Some("A whole number leaves the range of 64 bits; write one side with a point, as in 1.0.".to_string())),
        112 => (Fault::Statement, Some("Another change came in between, so this transaction was given up: nothing of it is kept. Do it once more.".to_string())),
        251 => (Fault::Statement, Some("The server knows this transaction no longer: nothing of it is kept. It was open for too long, or it was given up.".to_string())),
        263 => (Fault::Statement, Some(format!("Within a transaction the server does not do this: {message}."))),
        51183 => (Fault::Statement, Some("save into ... by a path needs a unique index on that path:  create unique index on collection (path);".to_string())),
        10107 | 13435 | 189 | 91 => (Fault::Other, Some("This member of the replica set takes no writes now.".to_string())),
        _ => (Fault::Statement, None),
    };
    EngineError {
        fault,
        message: message.to_string(),
        code: format!("{code} {name}").trim().to_string(),
        complaint: Complaint::Other,
        offset: None,
        advice,
        notes: Vec::new(),
    }
}

/// Why a server could not be reached.
pub(super) fn unreachable(error: &mongodb::error::Error, address: &WireAddress) -> OpenError {
    let said = match &*error.kind {
        ErrorKind::Authentication { message, .. } => message.clone(),
        ErrorKind::Command(command) => format!("{}, {}", command.message, command.code),
        _ => own_words(error),
    };
    let make = |trouble, headline: String, checks: Vec<&str>| OpenError {
        trouble,
        headline,
        checks: checks.into_iter().map(str::to_string).collect(),
        said: Some(said.clone()),
    };
    let refused = || {
        let place = match (address.login_database(), &address.database) {
            (Some(database), _) => format!("The user was looked for in the database {database}, as authSource in the address says."),
            (None, Some(database)) => format!(
                "The user was looked for in the database {database}, which the address names; authSource=admin in it looks where most users are made."
            ),
            (None, None) => "The user was looked for in the database admin; authSource=NAME in the address looks in another one.".to_string(),
        };
        make(
            Trouble::Login,
            format!("{} did not accept the user or the password.", address.hosts),
            vec!["Check both.", &place],
        )
    };
    let text = error.to_string();
    match &*error.kind {
        ErrorKind::Authentication { .. } => refused(),
        ErrorKind::Command(c) if c.code == 18 => refused(),
        ErrorKind::Command(c) if c.code == 13 => make(
            Trouble::Login,
            format!("{} wants to know who you are.", address.hosts),
            vec![
                "Name the user in the address: mongodb://USER@HOST/DATABASE. The password is asked for.",
            ],
        ),
        ErrorKind::DnsResolve { .. } => make(
            Trouble::NameNotFound,
            format!("The name in {} is not known.", address.text),
            vec!["Check the name, and that this machine can look it up."],
        ),
        ErrorKind::InvalidArgument { message, .. } => make(
            Trouble::Other,
            format!("The address is not understood: {message}."),
            vec![],
        ),
        ErrorKind::InvalidTlsConfig { message, .. } => make(
            Trouble::Tls,
            format!("Encryption cannot be set up: {message}."),
            vec![],
        ),
        _ if text.contains("failed to lookup address") => make(
            Trouble::NameNotFound,
            format!("The name in {} is not known.", address.hosts),
            vec!["Check the name, and that this machine can look it up."],
        ),
        _ if text.contains("refused") => make(
            Trouble::Refused,
            format!("Nothing listens at {}.", address.hosts),
            vec!["Is the server running, and is this its port? /practice start has one to try."],
        ),
        _ if text.contains("certificate") || text.contains("tls") || text.contains("TLS") => make(
            Trouble::Tls,
            format!(
                "{} did not prove who it is, or encryption could not be agreed on.",
                address.hosts
            ),
            vec!["tlsCAFile=PATH in the address names who may vouch for it."],
        ),
        _ => make(
            Trouble::NoRoute,
            format!("{} does not answer.", address.hosts),
            vec!["Check host and port, and that nothing between here and there holds it back."],
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_drivers_account_is_cut_to_what_went_wrong() {
        for (account, words) in [
            (
                "Kind: Server selection timeout: No available servers. Topology: { Type: Unknown, Servers: [ { Address: quay:27017, Type: Unknown, Error: Kind: I/O error: Connection refused (os error 111), labels: {\"x\"}, source: None, server response: None } ] }, labels: {}, source: None",
                "I/O error: Connection refused (os error 111)",
            ),
            (
                "Kind: Invalid argument: no such option, labels: {}, source: None",
                "Invalid argument: no such option",
            ),
            ("something else", "something else"),
        ] {
            assert_eq!(inner_words(account), words);
        }
    }
}
