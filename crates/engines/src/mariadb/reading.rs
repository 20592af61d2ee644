//! What a session that refuses writes lets through. Every statement runs inside a transaction that may only read;
//! the server lets statements through it that are not part of one, and routines may end it. So what cannot be
//! known is not sent.

use idle_tide_lang::Dialect;
use idle_tide_lang::statement::{Effect, Summary};
use idle_tide_lang::token::{TokenKind, significant, tokens};

use crate::served::{acting_function, refused_by_words};

/// What begins such a transaction.
pub(super) const BEGIN: &str = "start transaction read only";

/// Statements that may run.
const MAY: &[&str] = &[
    "",
    "begin",
    "checksum",
    "commit",
    "deallocate",
    "desc",
    "describe",
    "do",
    "explain",
    "handler",
    "help",
    "release",
    "rollback",
    "savepoint",
    "select",
    "set",
    "show",
    "start",
    "use",
    "values",
    "with",
    "table",
];
/// Of these, those that need no transaction around them.
const ALONE: &[&str] = &["desc", "describe", "help", "show", "use"];
/// Words that have no place in a statement that only reads: settings of the whole server or kept ones, files,
/// sequences, and what would end it.
const WORDS: &[&str] = &[
    "default",
    "dumpfile",
    "global",
    "nextval",
    "outfile",
    "password",
    "persist",
    "persist_only",
    "setval",
    "transaction_read_only",
    "tx_read_only",
    "write",
    "sql_log_bin",
];

/// A question for one function of these names whose work is not known; nothing if there is none.
pub(crate) fn acting(names: &[String], dialect: &Dialect) -> String {
    let quoted: Vec<String> = names.iter().map(|name| dialect.quote_text(name)).collect();
    format!(
        "select routine_name from information_schema.routines where routine_type = 'FUNCTION' and lower(routine_name) in ({}) limit 1",
        quoted.join(", ")
    )
}

/// Whether a transaction has to stand around a statement.
pub(super) fn needs_transaction(about: &Summary) -> bool {
    about.effect != Effect::Transaction && !ALONE.contains(&about.verb.as_str())
}

/// Why a statement is not sent while writes are refused. `ask` answers [`acting`].
pub(super) fn refused(
    statement: &str,
    about: &Summary,
    dialect: &Dialect,
    ask: &mut dyn FnMut(&str) -> Option<String>,
) -> Option<String> {
    let verb = about.verb.as_str();
    let unknown = about.effect == Effect::Unknown && verb != "do" || verb == "prepare";
    if let Some(why) = refused_by_words(about, unknown, MAY) {
        return Some(why);
    }
    if matches!(verb, "begin" | "start") && about.effect != Effect::Transaction {
        return Some(format!("{verb} changes what lies outside of transactions"));
    }
    let list = significant(&tokens(statement, dialect));
    let mut words = list
        .iter()
        .filter(|token| matches!(token.kind, TokenKind::Word | TokenKind::QuotedName));
    // `@@global.x` is one token.
    let found = words.find_map(|token| {
        let name = token.name(statement)?.to_ascii_lowercase();
        let mut parts = name.trim_start_matches('@').split('.');
        let word = parts.find(|part| WORDS.contains(part));
        word.map(str::to_string)
    });
    let next = list.windows(3).any(|three| {
        ["next", "value", "for"]
            .iter()
            .zip(three)
            .all(|(word, token)| token.is_word(statement, word))
    });
    // A column may be called so, where nothing is set or written to a file.
    let excused = matches!(
        found.as_deref(),
        Some("default" | "password" | "write" | "global" | "persist")
    ) && !matches!(verb, "set" | "begin" | "start")
        && !statement.contains("@@");
    if let Some(word) = found.filter(|_| !excused) {
        return Some(format!("{word} reaches beyond what only reads"));
    }
    if next {
        return Some("it moves a sequence on".to_string());
    }
    let acting = acting_function(statement, dialect, acting, ask)?;
    Some(format!(
        "what the function {acting} does cannot be known before"
    ))
}
