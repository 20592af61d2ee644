//! What fails, in the numbers and words of the server.

use idle_tide_tabular::Message;
use rusqlite::ErrorCode;

/// Why a statement failed, as the server says it; of a class up to 10 it is a notice.
#[derive(Debug, Clone)]
pub(crate) struct Failure {
    pub(crate) number: i32,
    pub(crate) class: u8,
    pub(crate) state: u8,
    pub(crate) text: String,
}

/// The client asked for a stop.
pub(crate) const STOPPED: i32 = -1;
/// The connection is gone.
pub(crate) const GONE: i32 = -2;

impl Failure {
    pub(crate) fn of(number: i32, class: u8, text: impl Into<String>) -> Self {
        Failure {
            number,
            class,
            state: 1,
            text: text.into(),
        }
    }

    fn with_state(self, state: u8) -> Self {
        Failure { state, ..self }
    }

    /// What the stand-in does not have.
    pub(crate) fn unknown(what: impl std::fmt::Display) -> Self {
        Self::of(40_000, 16, format!("The stand-in does not know {what}."))
    }

    /// The message that tells it.
    pub(crate) fn message(&self, line: u32) -> Message {
        Message {
            number: self.number,
            state: self.state,
            class: self.class,
            text: self.text.clone(),
            server: "brackwater".into(),
            procedure: String::new(),
            line,
        }
    }

    /// Whether the rest of the batch does not run either.
    pub(crate) fn ends_batch(&self) -> bool {
        matches!(
            self.number,
            STOPPED
                | GONE
                | 102
                | 137
                | 195
                | 207
                | 208
                | 209
                | 241
                | 245
                | 1222
                | 2812
                | 40_000
                | 50_000..
        )
    }
}

impl From<rusqlite::Error> for Failure {
    fn from(error: rusqlite::Error) -> Self {
        let words = match &error {
            rusqlite::Error::SqliteFailure(_, Some(words)) => words.clone(),
            rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
            other => other.to_string(),
        };
        error
            .sqlite_error_code()
            .and_then(|code| by_code(code, &words))
            .or_else(|| of_names(&words))
            .or_else(|| of_rules(&words))
            .unwrap_or_else(|| by_words(words))
    }
}

/// What the embedded database tells by a code.
fn by_code(code: ErrorCode, words: &str) -> Option<Failure> {
    Some(match code {
        ErrorCode::AuthorizationForStatementDenied => {
            // `access to dues.id is prohibited`.
            let name = words.strip_prefix("access to ").unwrap_or_default();
            let (right, name) = match name.split('.').next() {
                None | Some("") => ("INSERT", "this table"),
                Some(name) => ("SELECT", name),
            };
            let text =
                format!("The {right} permission was denied on the object '{name}', schema 'dbo'.");
            Failure::of(229, 14, text).with_state(5)
        }
        ErrorCode::OperationInterrupted => Failure::of(STOPPED, 0, "stopped"),
        ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => {
            Failure::of(1222, 16, "Lock request time out period exceeded.").with_state(51)
        }
        _ => return None,
    })
}

fn last_part(name: &str) -> &str {
    name.rsplit('.').next().unwrap_or_default()
}

/// Names that are not there, or are twice.
fn of_names(words: &str) -> Option<Failure> {
    let after = |start: &str| words.strip_prefix(start).map(str::trim);
    if let Some(name) = after("no such table:") {
        let name = name.trim_start_matches("main.");
        return Some(Failure::of(
            208,
            16,
            format!("Invalid object name '{name}'."),
        ));
    }
    if let Some(name) = after("no such column:") {
        let name = last_part(name).split(" - ").next().unwrap_or_default();
        return Some(Failure::of(
            207,
            16,
            format!("Invalid column name '{name}'."),
        ));
    }
    if let Some(name) = after("ambiguous column name:") {
        let text = format!("Ambiguous column name '{}'.", last_part(name));
        return Some(Failure::of(209, 16, text));
    }
    if let Some(name) = after("no such function:") {
        let text = format!("'{name}' is not a recognized built-in function name.");
        return Some(Failure::of(195, 15, text).with_state(10));
    }
    if words.contains("already exists") {
        let name = words.split_whitespace().nth(1).unwrap_or_default();
        let text = format!(
            "There is already an object named '{}' in the database.",
            name.trim_matches('"')
        );
        return Some(Failure::of(2714, 16, text).with_state(6));
    }
    None
}

/// Rows that a key, a check or a column does not take.
fn of_rules(words: &str) -> Option<Failure> {
    let after = |start: &str| words.strip_prefix(start).map(str::trim);
    if let Some(columns) = after("UNIQUE constraint failed:") {
        let table = columns.split('.').next().unwrap_or_default();
        return Some(Failure::of(
            2627,
            14,
            format!(
                "Violation of PRIMARY KEY or UNIQUE KEY constraint. Cannot insert duplicate key in object 'dbo.{table}' ({columns})."
            ),
        ));
    }
    if words.starts_with("FOREIGN KEY constraint failed") {
        let text = "The statement conflicted with a FOREIGN KEY constraint.";
        return Some(Failure::of(547, 16, text));
    }
    if let Some(name) = after("CHECK constraint failed:") {
        let text = format!("The statement conflicted with the CHECK constraint \"{name}\".");
        return Some(Failure::of(547, 16, text));
    }
    let column = after("NOT NULL constraint failed:")?;
    let (table, column) = column.rsplit_once('.').unwrap_or(("", column));
    let text = format!(
        "Cannot insert the value NULL into column '{column}', table 'dbo.{table}'; column does not allow nulls. INSERT fails."
    );
    Some(Failure::of(515, 16, text).with_state(2))
}

/// What our own functions say in the server's words: how they begin, number and state.
const SAID: [(&str, i32, u8); 5] = [
    ("Divide by zero", 8134, 1),
    ("Arithmetic overflow", 8115, 2),
    ("Conversion failed when converting date", 241, 1),
    ("Conversion failed", 245, 1),
    ("Error converting", 8114, 5),
];

fn by_words(words: String) -> Failure {
    if let Some((_, rest)) = words.split_once("near \"") {
        let at = rest.split('"').next().unwrap_or_default();
        return Failure::of(102, 15, format!("Incorrect syntax near '{at}'."));
    }
    let said = SAID.iter().find(|(begin, ..)| words.starts_with(begin));
    let (number, state) = said.map_or((40_000, 1), |(_, number, state)| (*number, *state));
    Failure::of(number, 16, words).with_state(state)
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        Self::of(GONE, 0, error.to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_embedded_databases_words_become_the_servers_numbers() {
        let connection = rusqlite::Connection::open_in_memory().unwrap();
        connection
            .execute_batch(
                "create table dues (id integer primary key, berth integer not null, cents integer constraint paid check (cents > 0));
                 create table paid (id integer references dues(id));
                 insert into dues values (1, 7, 10); pragma foreign_keys = on",
            )
            .unwrap();
        for (sql, number, class, words) in [
            (
                "select * from moorings",
                208,
                16,
                "Invalid object name 'moorings'.",
            ),
            (
                "select dues.tide from dues",
                207,
                16,
                "Invalid column name 'tide'.",
            ),
            (
                "select id from dues join paid",
                209,
                16,
                "Ambiguous column name 'id'.",
            ),
            (
                "select tide(1)",
                195,
                15,
                "'tide' is not a recognized built-in function name.",
            ),
            (
                "insert into dues values (1, 7, 10)",
                2627,
                14,
                "'dbo.dues' (dues.id)",
            ),
            (
                "insert into dues values (2, null, 10)",
                515,
                16,
                "column 'berth', table 'dbo.dues'",
            ),
            (
                "insert into dues values (2, 7, 0)",
                547,
                16,
                "CHECK constraint \"paid\"",
            ),
            (
                "insert into paid values (9)",
                547,
                16,
                "FOREIGN KEY constraint",
            ),
            (
                "create table dues (id)",
                2714,
                16,
                "There is already an object named 'dues'",
            ),
            (
                "select 1 frm dues where",
                102,
                15,
                "Incorrect syntax near 'dues'.",
            ),
        ] {
            let failure = Failure::from(connection.execute_batch(sql).unwrap_err());
            assert_eq!(
                (failure.number, failure.class),
                (number, class),
                "{sql}: {failure:?}"
            );
            assert!(failure.text.contains(words), "{sql}: {failure:?}");
        }
        // Clients tell faults of one number apart by their state.
        let states = |words: &str| {
            let failure = by_words(words.to_string());
            (failure.number, failure.state)
        };
        assert_eq!(states("Arithmetic overflow error"), (8115, 2));
        assert_eq!(
            states("Error converting data type varchar to numeric."),
            (8114, 5)
        );
        assert_eq!(
            states("Conversion failed when converting the varchar value"),
            (245, 1)
        );
        assert_eq!(
            states("Conversion failed when converting date and/or time"),
            (241, 1)
        );
        assert_eq!(states("something else"), (40_000, 1));
    }
}
