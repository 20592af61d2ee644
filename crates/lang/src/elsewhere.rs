//! Words that people bring from elsewhere: `help`, `quit`, `show tables`, `describe x`. Gives the
//! command of ours that does what they ask for; it decides nothing about running it.

use crate::dialect::{Dialect, SQLITE};
use crate::token::{significant, tokens};

/// The command for a word that stands alone on the line and is no statement of any server.
pub fn bare_word(text: &str) -> Option<&'static str> {
    let word = text.trim().trim_end_matches(';').trim_end();
    match word.to_ascii_lowercase().as_str() {
        "help" => Some("/help"),
        "quit" | "exit" => Some("/quit"),
        _ => None,
    }
}

/// The command that answers a statement which other servers know and the one spoken to does not.
pub fn matching_command(text: &str, dialect: &Dialect) -> Option<String> {
    let command = of_tables(text)?;
    Some(match command.as_str() {
        "/tables" | "/views" if dialect.is_flow() => "/collections".into(),
        _ => command,
    })
}

fn of_tables(text: &str) -> Option<String> {
    let list = significant(&tokens(text, &SQLITE));
    let word = |at: usize| -> String {
        list.get(at)
            .and_then(|token| token.name(text))
            .unwrap_or_default()
    };
    let lower = |at: usize| word(at).to_ascii_lowercase();
    let argument = |at: usize| {
        let name = word(at);
        if name.is_empty() {
            None
        } else if name.contains(char::is_whitespace) {
            Some(format!("\"{name}\""))
        } else {
            Some(name)
        }
    };
    let about = |at| argument(at).map(|name| format!("/about {name}"));
    match lower(0).as_str() {
        "describe" | "desc" => about(if lower(1) == "table" { 2 } else { 1 }),
        "use" => Some("/bearings".into()),
        "show" => match lower(1).as_str() {
            "tables" | "full" | "collections" => Some("/tables".into()),
            "views" => Some("/views".into()),
            "columns" | "fields" => about(3),
            "index" | "indexes" | "indices" | "keys" => {
                Some(argument(3).map_or("/indexes".into(), |name| format!("/indexes {name}")))
            }
            "create" => argument(3).map(|name| format!("/definition {name}")),
            "databases" | "schemas" | "status" | "variables" => Some("/bearings".into()),
            _ => Some("/tables".into()),
        },
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_find_their_command() {
        assert_eq!(bare_word(" Exit; "), Some("/quit"));
        assert_eq!(bare_word("exit now"), None);
        let command = |text| matching_command(text, &SQLITE);
        assert_eq!(command("show tables;").as_deref(), Some("/tables"));
        assert_eq!(command("describe visits").as_deref(), Some("/about visits"));
        assert_eq!(
            command("show create table dues;").as_deref(),
            Some("/definition dues")
        );
        assert_eq!(command("select 1"), None);
        assert_eq!(command("desc"), None);
        let collections = matching_command("show collections", &crate::dialect::FLOW);
        assert_eq!(collections.as_deref(), Some("/collections"));
    }
}
