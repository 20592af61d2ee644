//! The values that a check allows a column to hold, where it lists them. Only conditions of that one shape
//! are understood; any other gives nothing.

use crate::dialect::{MARIADB, POSTGRES};
use crate::token::{TokenKind, significant, tokens};

/// The texts of `column in ('a', 'b')`, or of the same as PostgreSQL writes it out again
/// (`column = any (array['a'::text, …])`); empty for any other condition.
pub fn listed(condition: &str, column: &str) -> Vec<String> {
    let dialect = if condition.contains('`') {
        MARIADB
    } else {
        &POSTGRES
    };
    let all = tokens(condition, dialect);
    let list = significant(&all);
    let mut values = Vec::new();
    let (mut about, mut lists) = (false, false);
    for (at, token) in list.iter().enumerate() {
        let of_type = at > 0 && list[at - 1].of(condition).ends_with(':');
        match token.kind {
            TokenKind::Text => {
                let text = token.of(condition);
                let inside = text.trim_start_matches(|c: char| c != '\'');
                match inside.strip_prefix('\'').and_then(|t| t.strip_suffix('\'')) {
                    Some(value) => values.push(value.replace("''", "'")),
                    None => return Vec::new(),
                }
            }
            TokenKind::Word | TokenKind::QuotedName => {
                let word = token.name(condition).unwrap_or_default();
                if word.eq_ignore_ascii_case(column) {
                    about = true;
                } else if token.is_word(condition, "in") || token.is_word(condition, "any") {
                    lists = true;
                } else if !(of_type
                    || token.is_word(condition, "array")
                    || token.is_word(condition, "varying"))
                {
                    return Vec::new();
                }
            }
            TokenKind::Number => return Vec::new(),
            _ => {}
        }
    }
    if about && lists && !condition.contains(['<', '>', '!']) {
        values
    } else {
        Vec::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_plain_lists_are_taken() {
        let kinds = ["person", "it's"];
        assert_eq!(listed("kind in ('person', 'it''s')", "kind"), kinds);
        assert_eq!(listed("`kind` in ('person','it''s')", "KIND"), kinds);
        assert_eq!(
            listed(
                "(kind = ANY (ARRAY['person'::text, 'it''s'::text]))",
                "kind"
            ),
            kinds
        );
        assert_eq!(
            listed(
                "((kind)::text = ANY ((ARRAY['person'::character varying, 'it''s'::character varying])::text[]))",
                "kind"
            ),
            kinds
        );
        for other in [
            "kind not in ('a')",
            "kind in ('a') or loud",
            "rank in ('a')",
            "kind <> 'a'",
            "lower(kind) in ('a')",
            "kind in (1, 2)",
        ] {
            assert!(listed(other, "kind").is_empty(), "{other}");
        }
    }
}
