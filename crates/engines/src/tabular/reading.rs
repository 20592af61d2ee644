//! What a session that refuses writes lets through. No session of this family only reads: what may write is not sent, and
//! what is sent runs in a transaction that is taken back.

use idle_tide_lang::dialect::TABULAR;
use idle_tide_lang::statement::{Effect, Summary, called};
use idle_tide_lang::token::{significant, tokens};

use crate::served::refused_by_words;

/// Words that may lead a batch.
const MAY: &[&str] = &[
    "",
    "begin",
    "break",
    "commit",
    "continue",
    "declare",
    "else",
    "end",
    "goto",
    "if",
    "print",
    "raiserror",
    "return",
    "rollback",
    "save",
    "select",
    "set",
    "throw",
    "use",
    "values",
    "waitfor",
    "while",
    "with",
];

/// What sends a text to another server or opens a file there, outside of the transaction.
const ELSEWHERE: &[&str] = &["opendatasource", "openquery", "openrowset"];

/// Why a batch is not sent while writes are refused.
pub(super) fn refused(batch: &str, about: &Summary) -> Option<String> {
    let unknown = about.effect == Effect::Unknown;
    if let Some(why) = refused_by_words(about, unknown, MAY) {
        return Some(why);
    }
    let called = called(batch, &TABULAR);
    if let Some(name) = ELSEWHERE
        .iter()
        .find(|name| called.iter().any(|c| c == *name))
    {
        return Some(format!("what {name} does cannot be known before"));
    }
    // A transaction does not take it back.
    let list = significant(&tokens(batch, &TABULAR));
    let moves = list.windows(3).any(|three| {
        let words = ["next", "value", "for"];
        words
            .iter()
            .zip(three)
            .all(|(word, token)| token.is_word(batch, word))
    });
    moves.then(|| "it moves a sequence on".to_string())
}
