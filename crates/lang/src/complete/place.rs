//! What the grammar expects at the cursor, from the tokens before it.

use crate::dialect::Dialect;
use crate::scope::scope;
use crate::token::{Token, TokenKind};

/// What the grammar expects at the cursor.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Place {
    /// The first word of a statement.
    Start,
    Table,
    /// A table that is joined to others.
    Join,
    /// The condition of a join.
    On,
    /// Columns of the insert's table, in its brackets.
    InsertColumns,
    /// After `name.`, or `schema.name.`.
    Qualified(String),
    Expression,
    /// In a text, a comment or a new alias: nothing to offer.
    Nothing,
}

pub(super) fn word_before<'a>(text: &'a str, all: &[Token], cursor: usize) -> (&'a str, usize) {
    let token = all
        .iter()
        .find(|token| token.start < cursor && cursor <= token.end);
    match token {
        Some(token) if token.kind == TokenKind::Word => (&text[token.start..cursor], token.start),
        // A name in quotes that are still open, or with the cursor before the closing one.
        Some(token)
            if token.kind == TokenKind::QuotedName && (!token.closed || cursor < token.end) =>
        {
            (&text[token.start..cursor], token.start)
        }
        _ => ("", cursor),
    }
}

pub(super) fn place(
    text: &str,
    all: &[Token],
    word_at: usize,
    cursor: usize,
    dialect: &Dialect,
) -> Place {
    let inside = all
        .iter()
        .find(|token| token.start < cursor && cursor <= token.end);
    if let Some(token) = inside {
        let within = cursor < token.end || !token.closed || token.kind == TokenKind::Comment;
        let closed_comment = token.closed && cursor == token.end && text[..cursor].ends_with("*/");
        if matches!(token.kind, TokenKind::Text | TokenKind::Comment) && within && !closed_comment {
            return Place::Nothing;
        }
        if matches!(token.kind, TokenKind::Number | TokenKind::Parameter) {
            return Place::Nothing;
        }
    }
    let before: Vec<&Token> = all
        .iter()
        .filter(|token| token.counts() && token.end <= word_at)
        .collect();
    let word = |back: usize| -> String {
        before
            .len()
            .checked_sub(back)
            .and_then(|at| before.get(at))
            .filter(|token| token.kind == TokenKind::Word)
            .map(|token| token.of(text).to_ascii_lowercase())
            .unwrap_or_default()
    };
    let Some(last) = before.last() else {
        return Place::Start;
    };
    match last.kind {
        TokenKind::Dot => {
            let part = |back: usize| {
                let at = before.len().checked_sub(back)?;
                before[at].name(text)
            };
            let behind_dot = before.len() >= 4 && before[before.len() - 3].kind == TokenKind::Dot;
            return match (part(2), behind_dot.then(|| part(4)).flatten()) {
                (Some(name), Some(schema)) => Place::Qualified(format!("{schema}.{name}")),
                (Some(name), None) => Place::Qualified(name),
                (None, _) => Place::Nothing,
            };
        }
        TokenKind::Word => match word(1).as_str() {
            "join" => return Place::Join,
            "on" => return Place::On,
            "from" | "into" | "update" | "table" => return Place::Table,
            "as" => return Place::Nothing,
            _ => {}
        },
        TokenKind::Open | TokenKind::Comma => {
            let insert = scope(text, all, cursor, dialect).insert;
            if insert.is_some_and(|insert| insert.in_columns) {
                return Place::InsertColumns;
            }
            // A comma within the list of tables.
            if last.kind == TokenKind::Comma {
                let mut depth = 0;
                for token in before.iter().rev() {
                    match token.kind {
                        TokenKind::Close => depth += 1,
                        TokenKind::Open if depth == 0 => break,
                        TokenKind::Open => depth -= 1,
                        TokenKind::Word if depth == 0 => {
                            match token.of(text).to_ascii_lowercase().as_str() {
                                "from" => return Place::Table,
                                "select" | "where" | "by" | "set" | "values" | "having" | "on"
                                | "returning" => break,
                                _ => {}
                            }
                        }
                        _ => {}
                    }
                }
            }
        }
        _ => {}
    }
    Place::Expression
}
