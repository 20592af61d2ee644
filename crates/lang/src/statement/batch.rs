//! A batch of statements, read as one: what it does is the most that any of its statements does. Statements of this
//! family need no semicolons, so that a batch is cut at the words that begin one.

use super::sql::{Reader, word_of};
use super::{Effect, Summary};
use crate::dialect::{Dialect, TABULAR};
use crate::query::{closes_at, divided};
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

/// What is called: of a text that is run, in brackets or by `sp_executesql`, what it would take away, or that it cannot be read.
fn called(reader: Reader<'_>, one: &[Token], verb: &str) -> Summary {
    let text = reader.text;
    let given = |list: &[Token]| match list {
        [name, sign, ..] if name.of(text).starts_with('@') && sign.of(text) == "=" => 2,
        _ => 0,
    };
    // What it answers may be kept: exec @answer = ...
    let rest = one.get(1..).unwrap_or_default();
    let rest = &rest[given(rest)..];
    let words = match rest {
        [open, ..] if open.kind == TokenKind::Open => {
            let close = closes_at(rest).unwrap_or(rest.len());
            Some(&rest[1..close])
        }
        _ => {
            let is_name = |token: &Token| {
                let kinds = [TokenKind::Word, TokenKind::QuotedName, TokenKind::Dot];
                kinds.contains(&token.kind) && !token.of(text).starts_with('@')
            };
            let end = rest.iter().take_while(|token| is_name(token)).count();
            let last = rest[..end].last().and_then(|token| token.name(text));
            let runs = last.is_some_and(|name| name.eq_ignore_ascii_case("sp_executesql"));
            let first = &rest[end..];
            let all = divided(&first[given(first)..]);
            runs.then(|| all.first().copied().unwrap_or_default())
        }
    };
    let inner = words.map(|words| match words {
        [only] if only.kind == TokenKind::Text => {
            read_at(&reader.literal(only), reader.dialect, reader.depth + 1)
        }
        words => reader.dynamic(words, verb),
    });
    Summary {
        sweeps: inner.map_or_else(Vec::new, |inner| inner.sweeps),
        ..Summary::new(verb, Effect::Unknown)
    }
}

/// Summarises a batch.
pub(super) fn read(text: &str, dialect: &Dialect) -> Summary {
    read_at(text, dialect, 0)
}

/// Summarises a batch that stands so deep within texts that are run.
fn read_at(text: &str, dialect: &Dialect, depth: usize) -> Summary {
    let list = significant(&tokens(text, dialect));
    let reader = Reader {
        text,
        dialect,
        depth,
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
            "exec" | "execute" => called(reader, one, &verb),
            // A procedure may be called by its name alone where a batch begins.
            _ if one.as_ptr() == list.as_ptr()
                && !dialect.starts.contains(&verb.as_str())
                && one[0].kind != TokenKind::Open =>
            {
                Summary::new(&verb, Effect::Unknown)
            }
            "insert" => {
                let mut summary = reader.statement(one);
                let calls = |token: &Token| {
                    matches!(word_of(text, Some(token)).as_str(), "exec" | "execute")
                };
                // The rows of a procedure or of a text that is run.
                if let Some(at) = one.iter().position(calls) {
                    summary
                        .sweeps
                        .extend(called(reader, &one[at..], &verb).sweeps);
                }
                summary
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
