//! A batch of statements, read as one: what it does is the most that any of its statements does. Statements of this
//! family need no semicolons, so that a batch is cut at the words that begin one.

use super::sql::{Reader, word_of};
use super::{Effect, Summary};
use crate::dialect::{Dialect, TABULAR};
use crate::token::{Token, TokenKind, significant, tokens};

/// Words that begin a statement besides those of the dialect, or end one.
const AROUND: &[&str] = &["else", "end"];

/// What a statement drops that begins so.
const OBJECTS: &[&str] = &[
    "database",
    "function",
    "login",
    "proc",
    "procedure",
    "role",
    "schema",
    "sequence",
    "server",
    "synonym",
    "table",
    "trigger",
    "type",
    "user",
    "view",
];

/// How much a statement may do, the most last.
fn weight(effect: Effect) -> u8 {
    match effect {
        Effect::Read => 0,
        Effect::Transaction => 1,
        Effect::Other => 2,
        Effect::Write => 3,
        Effect::Definition => 4,
        Effect::Unknown => 5,
    }
}

/// Whether `word`, the token at `at` of a statement that begins with `verb`, begins another one.
fn begins(text: &str, list: &[Token], start: usize, at: usize, word: &str) -> bool {
    if TABULAR.starts.binary_search(&word).is_err() && !AROUND.contains(&word) {
        return false;
    }
    let before = word_of(text, list.get(at - 1));
    let verb = word_of(text, list.get(start));
    let holds = |words: &[&str]| {
        let mut depth = 0_i32;
        list[start..at].iter().any(|token| {
            depth += i32::from(token.kind == TokenKind::Open);
            depth -= i32::from(token.kind == TokenKind::Close);
            depth == 0 && words.contains(&word_of(text, Some(token)).as_str())
        })
    };
    let after = |words: &[&str]| words.contains(&before.as_str());
    let next = word_of(text, list.get(at + 1));
    // Only words that cannot be names count here: else a name would hide what stands behind it.
    let goes_on = match word {
        // The rows of an insert, of a view or cursor, of a union; or what a common table stands before.
        "select" => {
            after(&[
                "as",
                "all",
                "union",
                "except",
                "intersect",
                "for",
                "distinct",
                "any",
                "some",
            ]) || verb == "insert" && !holds(&["select", "values", "exec", "execute", "default"])
                || verb == "with" && !holds(&["select", "insert", "update", "delete", "merge"])
        }
        // Rows that a procedure gives are inserted; what else it does is not known.
        "exec" | "execute" => after(&["with", "grant", "as"]),
        "set" => {
            let sets = matches!(verb.as_str(), "update" | "merge" | "alter");
            verb != "set" && after(&["update", "on", "delete", "null"]) || sets && !holds(&["set"])
        }
        "update" | "delete" | "insert" => {
            // Behind `set nocount on` another one begins.
            verb != "set" && after(&["then", "for", "of", "on", "grant", "deny", "revoke"])
                || verb == "with" && !holds(&["select", "insert", "update", "delete", "merge"])
        }
        "merge" => verb == "with" || after(&["inner", "left", "option"]),
        // Hints of a table, options of a view.
        "with" => true,
        // Those of a case stand in an expression.
        "end" | "else" => holds(&["case"]),
        "if" => after(&[
            "drop",
            "table",
            "view",
            "procedure",
            "proc",
            "index",
            "function",
            "schema",
            "database",
        ]),
        "fetch" | "open" | "close" => matches!(verb.as_str(), "select" | "with"),
        // Parts of a table; an object is one of its own.
        "drop" => verb == "alter" && !OBJECTS.contains(&next.as_str()),
        "alter" => next == "column",
        "use" => after(&["option"]),
        _ => false,
    };
    !goes_on
}

/// Cuts a batch into statements.
fn statements<'t>(text: &str, list: &'t [Token]) -> Vec<&'t [Token]> {
    let (mut found, mut start, mut depth) = (Vec::new(), 0, 0_i32);
    for (at, token) in list.iter().enumerate() {
        match token.kind {
            TokenKind::Open => depth += 1,
            TokenKind::Close => depth -= 1,
            TokenKind::Semicolon if depth <= 0 => {
                found.push(&list[start..at]);
                start = at + 1;
                depth = 0;
                continue;
            }
            TokenKind::Word if depth <= 0 && at > start => {
                let word = word_of(text, Some(token));
                if begins(text, list, start, at, &word) {
                    found.push(&list[start..at]);
                    start = at;
                }
            }
            _ => {}
        }
    }
    found.push(&list[start..]);
    found.retain(|one| !one.is_empty());
    found
}

/// Summarises a batch.
pub(super) fn read(text: &str, dialect: &Dialect) -> Summary {
    let list = significant(&tokens(text, dialect));
    let reader = Reader {
        text,
        dialect,
        depth: 0,
    };
    // What is kept under a name runs when it is called.
    let kept = |list: &[Token]| {
        let words: Vec<String> = list
            .iter()
            .take(4)
            .map(|token| word_of(text, Some(token)))
            .collect();
        matches!(words.first().map(String::as_str), Some("create" | "alter"))
            && words.iter().any(|word| {
                matches!(
                    word.as_str(),
                    "procedure" | "proc" | "function" | "trigger" | "view"
                )
            })
    };
    if kept(&list) {
        return reader.statement(&list);
    }
    let mut whole: Option<Summary> = None;
    for one in statements(text, &list) {
        let verb = word_of(text, one.first());
        let mut summary = match verb.as_str() {
            "if" | "while" | "else" | "end" | "declare" | "print" | "return" | "goto"
            | "raiserror" | "throw" | "break" | "continue" => Summary::new(&verb, Effect::Read),
            "begin"
                if !matches!(
                    word_of(text, one.get(1)).as_str(),
                    "tran" | "transaction" | "distributed"
                ) =>
            {
                Summary::new(&verb, Effect::Read)
            }
            // A message that it takes out of a queue is gone.
            "waitfor"
                if one
                    .get(1)
                    .is_some_and(|token| token.kind == TokenKind::Open) =>
            {
                Summary::new(&verb, Effect::Unknown)
            }
            "waitfor" => Summary::new(&verb, Effect::Read),
            "save" => Summary::new(&verb, Effect::Transaction),
            "exec" | "execute" => Summary::new(&verb, Effect::Unknown),
            // A procedure may be called by its name alone where a batch begins.
            _ if one.as_ptr() == list.as_ptr()
                && !dialect.starts.contains(&verb.as_str())
                && one[0].kind != TokenKind::Open =>
            {
                Summary::new(&verb, Effect::Unknown)
            }
            _ => reader.statement(one),
        };
        whole = Some(match whole {
            None => summary,
            Some(mut whole) => {
                if weight(summary.effect) > weight(whole.effect) {
                    std::mem::swap(&mut whole.effect, &mut summary.effect);
                    whole.verb = summary.verb;
                    whole.kind = summary.kind;
                    whole.given = summary.given;
                }
                whole.targets.extend(summary.targets);
                whole.sweeps.extend(summary.sweeps);
                whole.calls.extend(summary.calls);
                whole
            }
        });
    }
    whole.unwrap_or_else(|| Summary::new("", Effect::Read))
}

/// How many statements a batch holds.
pub(super) fn count(text: &str, dialect: &Dialect) -> usize {
    statements(text, &significant(&tokens(text, dialect))).len()
}
