//! What the messages of servers of this family mean: their numbers (the servers' list of errors) in neutral words, with
//! the place in the batch, and trouble on the way in.

use idle_tide_lang::correct::Complaint;
use idle_tide_tabular::Message;

use super::link::NotIn;
use crate::address::Address;
use crate::engine::{EngineError, Fault};
use crate::trouble::{OpenError, Trouble};

/// The text between the first pair of single quotes.
fn quoted(message: &str) -> String {
    message.split('\'').nth(1).unwrap_or_default().to_string()
}

/// The byte at which a line of a batch begins; lines are counted from 1.
fn line_start(batch: &str, line: u32) -> usize {
    let before = (line as usize).saturating_sub(1);
    match before {
        0 => 0,
        before => batch
            .match_indices('\n')
            .nth(before - 1)
            .map_or(0, |(at, _)| at + 1),
    }
}

/// Where a message points: the word that it names, from its line on, or the first word of the line.
fn place(batch: &str, message: &Message, word: &str) -> Option<usize> {
    // What comes from a procedure counts that one's lines.
    if !message.procedure.is_empty() {
        return None;
    }
    let start = line_start(batch, message.line);
    let rest = &batch[start..];
    let lower = rest.to_lowercase();
    let found = match word.is_empty() || lower.len() != rest.len() {
        true => None,
        false => lower.find(&word.to_lowercase()),
    };
    let blank = rest.len() - rest.trim_start().len();
    Some(start + found.unwrap_or(blank)).filter(|at| *at < batch.len())
}

/// An error of the server about a batch.
pub(super) fn of_message(message: &Message, batch: &str) -> EngineError {
    let text = message.text.as_str();
    let last = |name: String| name.rsplit('.').next().unwrap_or_default().to_string();
    let word = quoted(text);
    let complaint = match message.number {
        208 => Complaint::NoSuchTable(last(word.clone())),
        207 => Complaint::NoSuchColumn(word.clone()),
        209 => Complaint::AmbiguousColumn(word.clone()),
        195 => Complaint::NoSuchFunction(word.clone()),
        102 | 156 | 319 if !word.is_empty() => Complaint::Syntax(word.clone()),
        102 | 105 | 113 => Complaint::Incomplete,
        _ => Complaint::Other,
    };
    let (fault, advice) = match message.number {
        3906 | 3908 | 978 => (Fault::ReadOnly, None),
        1222 => (Fault::Locked, None),
        1205 => (
            Fault::Locked,
            Some(
                "Two sessions waited for each other, and the server chose this one to go back: its transaction is gone. Run it again.",
            ),
        ),
        515 | 547 | 2601 | 2627 | 2628 | 8152 | 8115 | 220 | 1505 => (Fault::Constraint, None),
        229 | 230 | 262 | 297 | 300 | 371 | 916 | 15_247 => (Fault::Denied, None),
        // Which of both it is, the server does not say.
        3701 | 15_151 => (Fault::Statement, None),
        824 | 823 | 5242 | 5243 | 8928 => (Fault::Damaged, None),
        1101 | 1105 | 9002 => (Fault::Disk, None),
        102 | 105 | 113 | 137 | 156 | 195 | 207 | 208 | 209 | 241 | 245 | 319 | 2812 => {
            (Fault::Statement, None)
        }
        _ => (Fault::Other, None),
    };
    let advice = match (message.number, advice) {
        (3701 | 15_151, _) if !word.is_empty() => Some(format!(
            "{word} is not there, or the present user may not do this to it; the server does not say which."
        )),
        (_, advice) => advice.map(str::to_string),
    };
    let procedure = match message.procedure.as_str() {
        "" => String::new(),
        name => format!(", in {name}"),
    };
    EngineError {
        fault,
        message: message.text.clone(),
        code: format!(
            "{}, severity {}, state {}, line {}{procedure}",
            message.number, message.class, message.state, message.line
        ),
        offset: place(batch, message, &word),
        complaint,
        advice,
        notes: Vec::new(),
    }
}

/// A message as a line.
pub(super) fn in_a_line(message: &Message) -> String {
    match message.number {
        0 | 50_000 => message.text.clone(),
        number => format!("{} ({number})", message.text),
    }
}

/// The connection broke off, or what came is not of this protocol.
pub(super) fn of_io(error: &std::io::Error, last_words: Option<String>) -> EngineError {
    let mut said = match error.kind() {
        std::io::ErrorKind::UnexpectedEof => "the server closed the connection".to_string(),
        _ => error.to_string(),
    };
    if let Some(words) = last_words {
        said = format!("{said}; {words}");
    }
    EngineError {
        fault: Fault::Lost,
        code: "connection".into(),
        advice: None,
        ..EngineError::plain(said)
    }
}

/// The numbers that say that a password has to be changed before anything else.
pub(super) const EXPIRED: [i32; 2] = [18_487, 18_488];

/// Why nobody got in.
pub(super) fn of_login(error: NotIn, address: &Address, last_words: Option<String>) -> OpenError {
    let place = address.place();
    let make = |trouble, headline: String, check: &str, said: String| OpenError {
        trouble,
        headline,
        checks: vec![check.to_string()],
        said: Some(said),
    };
    let messages = match error {
        NotIn::Open(error) => return error,
        NotIn::Io(error) if error.kind() == std::io::ErrorKind::InvalidData => {
            return make(
                Trouble::Other,
                format!("{place} does not speak as a server over the Tabular Data Stream does."),
                "Check the port: another kind of server may listen there.",
                error.to_string(),
            );
        }
        NotIn::Io(error) => return crate::served::unreachable(address, &error, last_words),
        NotIn::Refused(messages) => messages,
    };
    let Some(first) = messages.first() else {
        return make(
            Trouble::Other,
            format!("{place} does not let anybody in, and does not say why."),
            "Its own log may say more.",
            String::new(),
        );
    };
    let all: Vec<String> = messages
        .iter()
        .map(|m| format!("{}, {}", m.text.trim_end_matches('.'), m.number))
        .collect();
    let said = all.join("; ");
    let has = |number: i32| messages.iter().any(|message| message.number == number);
    if has(4060) {
        return make(
            Trouble::NoDatabase,
            format!(
                "{place} has no database {}, or {} may not enter it.",
                address.database, address.user
            ),
            "Leave it out of the address: then the usual one of this login is opened, and /databases lists all.",
            said,
        );
    }
    if messages
        .iter()
        .any(|message| EXPIRED.contains(&message.number))
    {
        return make(
            Trouble::Login,
            format!("The password of {} has expired at {place}.", address.user),
            "A new one has to be given at the login; in the full screen it is asked for.",
            said,
        );
    }
    match first.number {
        18_456 | 18_452 => make(
            Trouble::Login,
            format!(
                "{place} does not let {} in with this password.",
                address.user
            ),
            "Check the login's name. Servers can be set to take logins of the system only; then whoever runs it allows those with passwords.",
            said,
        ),
        18_486 => make(
            Trouble::Login,
            format!("{} is locked out of {place}.", address.user),
            "Whoever runs it unlocks the login.",
            said,
        ),
        18_470 => make(
            Trouble::Login,
            format!("{} is switched off at {place}.", address.user),
            "Whoever runs it switches the login on.",
            said,
        ),
        17_809 | 17_300 => make(
            Trouble::TooMany,
            format!("{place} takes no more connections."),
            "Others have to leave first.",
            said,
        ),
        _ => make(
            Trouble::Other,
            format!("{place} refuses: {}.", first.text.trim_end_matches('.')),
            "Its own log may say more.",
            said,
        ),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_error_points_at_its_word_in_its_line() {
        let mut message = Message {
            number: 207,
            class: 16,
            text: "Invalid column name 'Quay'.".into(),
            line: 2,
            ..Message::default()
        };
        let batch = "select quay\nfrom t where quay = 1";
        assert_eq!(of_message(&message, batch).offset, Some(25));
        message.text = "Something else.".into();
        assert_eq!(of_message(&message, batch).offset, Some(12));
        message.procedure = "dbo.p".into();
        assert_eq!(of_message(&message, batch).offset, None);
        (message.procedure, message.line) = (String::new(), 40);
        assert_eq!(of_message(&message, batch).offset, Some(0));
    }
}
