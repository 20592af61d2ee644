//! What a creating statement of SQLite says that no pragma tells: comments, checks and collations.

use idle_tide_core::catalog::{Check, Kind, Object};
use idle_tide_lang::choices;
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::token::{Token, TokenKind, significant, tokens};

/// Reads the comments of a creating statement: the first one before the first column (or of a view) belongs
/// to the object, one that ends a column's line belongs to that column.
pub(super) fn comments(definition: &str, object: &mut Object) {
    let list = tokens(definition, &SQLITE);
    let mut depth = 0_i32;
    let mut current: Option<usize> = None;
    let mut at_start = false;
    // A comment behind a comma on the same line belongs to the column before the comma.
    let mut previous: Option<usize> = None;
    let mut line_broken = true;
    for token in &list {
        match token.kind {
            TokenKind::Open => {
                depth += 1;
                at_start = depth == 1;
            }
            TokenKind::Close => depth -= 1,
            TokenKind::Comma if depth == 1 => {
                previous = current.take();
                at_start = true;
                line_broken = false;
            }
            TokenKind::Space if token.of(definition).contains('\n') => line_broken = true,
            TokenKind::Word | TokenKind::QuotedName if at_start && depth == 1 => {
                at_start = false;
                let name = token.name(definition).unwrap_or_default();
                current = object
                    .fields
                    .iter()
                    .position(|field| field.name.eq_ignore_ascii_case(&name));
            }
            TokenKind::Comment => {
                let words = token.of(definition);
                let words = words
                    .trim_start_matches("--")
                    .trim_start_matches("/*")
                    .trim_end_matches("*/")
                    .trim()
                    .to_string();
                let field = current.or(previous.filter(|_| !line_broken));
                match field.and_then(|at| object.fields.get_mut(at)) {
                    Some(field) if object.kind != Kind::View => {
                        field.comment.get_or_insert(words);
                    }
                    _ if object.comment.is_none() && (depth <= 1) => {
                        object.comment = Some(words);
                    }
                    _ => {}
                }
            }
            _ => {}
        }
    }
}

/// Reads the checks of a creating statement, and the collations of its columns.
pub(super) fn checks(definition: &str, object: &mut Object) {
    let all = tokens(definition, &SQLITE);
    let list = significant(&all);
    let mut depth = 0_i32;
    let mut at_start = false;
    let mut current: Option<usize> = None;
    let mut at = 0;
    while let Some(token) = list.get(at) {
        match token.kind {
            TokenKind::Open => {
                depth += 1;
                at_start = depth == 1;
            }
            TokenKind::Close => depth -= 1,
            TokenKind::Comma if depth == 1 => at_start = true,
            TokenKind::Word | TokenKind::QuotedName if at_start && depth == 1 => {
                at_start = false;
                let name = token.name(definition).unwrap_or_default();
                current = object
                    .fields
                    .iter()
                    .position(|field| field.name.eq_ignore_ascii_case(&name));
                // A table's own check begins where a column would.
                if token.is_word(definition, "check") || token.is_word(definition, "constraint") {
                    current = None;
                    continue_with(definition, &list, &mut at, object);
                    continue;
                }
            }
            TokenKind::Word if depth == 1 && token.is_word(definition, "check") => {
                continue_with(definition, &list, &mut at, object);
                continue;
            }
            TokenKind::Word if depth == 1 && token.is_word(definition, "collate") => {
                let name = list.get(at + 1).and_then(|next| next.name(definition));
                if let (Some(field), Some(name)) = (current, name) {
                    object.fields[field].collation =
                        Some(name).filter(|name| !name.eq_ignore_ascii_case("binary"));
                }
            }
            _ => {}
        }
        at += 1;
    }
}

/// Takes the check that begins at token `at`, if one does, and goes past it.
fn continue_with(definition: &str, list: &[Token], at: &mut usize, object: &mut Object) {
    let mut name = String::new();
    let mut place = *at;
    if list[place].is_word(definition, "constraint") {
        name = list
            .get(place + 1)
            .and_then(|token| token.name(definition))
            .unwrap_or_default();
        place += 2;
    } else if place >= 2 && list[place - 2].is_word(definition, "constraint") {
        name = list[place - 1].name(definition).unwrap_or_default();
    }
    let opened = list
        .get(place)
        .is_some_and(|token| token.is_word(definition, "check"))
        && list.get(place + 1).map(|token| token.kind) == Some(TokenKind::Open);
    if !opened {
        *at += 1;
        return;
    }
    let mut depth = 0;
    let first = place + 1;
    for (end, token) in list.iter().enumerate().skip(first) {
        match token.kind {
            TokenKind::Open => depth += 1,
            TokenKind::Close => depth -= 1,
            _ => {}
        }
        if depth == 0 {
            let condition = definition[list[first].end..token.start].trim().to_string();
            for field in &mut object.fields {
                if field.choices.is_empty() {
                    field.choices = choices::listed(&condition, &field.name);
                }
            }
            object.checks.push(Check { name, condition });
            *at = end + 1;
            return;
        }
    }
    *at = list.len();
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::Field;

    fn read(definition: &str, columns: &[&str]) -> Object {
        let mut object = Object::new("main", "t", Kind::Table);
        object.fields = columns
            .iter()
            .map(|name| Field {
                name: name.to_string(),
                ..Field::default()
            })
            .collect();
        checks(definition, &mut object);
        object
    }

    #[test]
    fn checks_and_collations_are_read_wherever_they_stand() {
        let t = read(
            "create table t (a text collate NoCase check (a in ('x', ')')), \"check\" integer constraint \"low; tide\" check ((\"check\") > (0)), b text default 'check (no)' /* check (no) */, constraint whole check (a <> b), check (b <> 'q'))",
            &["a", "check", "b"],
        );
        let found: Vec<(&str, &str)> = t
            .checks
            .iter()
            .map(|c| (c.name.as_str(), c.condition.as_str()))
            .collect();
        assert_eq!(
            found,
            [
                ("", "a in ('x', ')')"),
                ("low; tide", "(\"check\") > (0)"),
                ("whole", "a <> b"),
                ("", "b <> 'q'"),
            ]
        );
        assert_eq!(t.fields[0].collation.as_deref(), Some("NoCase"));
        assert_eq!(t.fields[0].choices, ["x", ")"]);
        // What never closes is no check, and no fault either.
        assert!(
            read("create table t (a check (a > 1", &["a"])
                .checks
                .is_empty()
        );
        assert!(read("create table t (a check", &["a"]).checks.is_empty());
    }
}
