//! Missing and stray quotes, brackets and commas: every place where one sign more or less makes a statement that can be
//! read, the likeliest first. Whether it can be read, a parser of SQL says that knows no server; what is likely, the names
//! that are known and the texts that come of it.

use std::collections::HashSet;

use sqlparser::dialect::{
    Dialect as ParserDialect, MsSqlDialect, MySqlDialect, PostgreSqlDialect, SQLiteDialect,
};
use sqlparser::parser::Parser;

use super::{Case, Correction, Edit};
use crate::dialect::Family;
use crate::token::{Token, TokenKind, significant, tokens};

/// Statements longer than this are not tried, in bytes.
const LONGEST: usize = 6_000;
/// The most tries, those nearest to the place of the error.
const TRIES: usize = 1_500;
/// Nesting that the parser follows.
const DEEPEST: usize = 60;

/// A sign put in or taken out.
#[derive(Clone, Copy)]
struct Try {
    at: usize,
    sign: char,
    puts: bool,
}

impl Try {
    fn apply(self, text: &str) -> String {
        let mut changed = String::with_capacity(text.len() + 1);
        changed.push_str(&text[..self.at]);
        match self.puts {
            true => {
                changed.push(self.sign);
                changed.push_str(&text[self.at..]);
            }
            false => changed.push_str(&text[self.at + 1..]),
        }
        changed
    }
}

impl Case<'_> {
    /// One sign more or less that makes the statement readable, likeliest first.
    pub(super) fn signs(&self) -> Vec<Correction> {
        let text = self.text;
        if text.len() > LONGEST {
            return Vec::new();
        }
        let wrong = self.offset.unwrap_or(text.len());
        let mut tries = self.tries();
        if self.reads(text) {
            // The server is stricter: only what stands beside its place may be meant.
            let before = self.list.iter().rev().find(|token| token.end <= wrong);
            let from = before.map_or(wrong, |token| token.start);
            tries.retain(|one| (from..=wrong).contains(&one.at));
        }
        tries.sort_by_key(|one| one.at.abs_diff(wrong));
        tries.truncate(TRIES);
        let known = self.known_names();
        let mut found: Vec<(usize, Try)> = tries
            .into_iter()
            .filter_map(|one| {
                let changed = one.apply(text);
                let list = tokens(&changed, self.dialect);
                let closed = list.iter().all(|token| token.closed);
                if !closed || !self.reads(&changed) {
                    return None;
                }
                let near = one.at.abs_diff(wrong).min(60) / 4;
                let cost = self.unlikely(&changed, &significant(&list), &known) + near;
                // A sign that stands twice was typed twice.
                let twice = !one.puts
                    && (text[..one.at].ends_with(one.sign)
                        || text[one.at + 1..].starts_with(one.sign));
                Some((cost + if twice { 0 } else { 6 }, one))
            })
            .collect();
        found.sort_by_key(|(cost, one)| (*cost, one.at.abs_diff(wrong)));
        found.dedup_by_key(|(_, one)| one.apply(text));
        found
            .into_iter()
            .take(4)
            .map(|(_, one)| self.said(one))
            .collect()
    }

    /// What is offered for a try.
    fn said(&self, one: Try) -> Correction {
        let detail = match (one.puts, one.sign) {
            (true, ',') => "a comma was missing",
            (true, '(') => "opens the bracket that is closed later",
            (true, ')') => "closes the bracket",
            (true, _) => "a quote was missing",
            (false, ',') => "without the comma",
            (false, '(' | ')') => "without the bracket",
            (false, _) => "without the quote",
        };
        let around = self.around(one);
        Correction {
            label: around,
            detail: detail.into(),
            edit: Edit {
                span: one.at..one.at + usize::from(!one.puts),
                text: match one.puts {
                    true => one.sign.to_string(),
                    false => String::new(),
                },
            },
        }
    }

    /// The place after the try, a few letters to each side.
    fn around(&self, one: Try) -> String {
        let changed = one.apply(self.text);
        let edge = |at: usize, by: isize| {
            let mut at = at.saturating_add_signed(by).min(changed.len());
            while !changed.is_char_boundary(at) {
                at -= 1;
            }
            at
        };
        let (from, to) = (edge(one.at, -10), edge(one.at, 11));
        changed[from..to].trim().replace('\n', " ")
    }

    /// Whether a text is one statement that can be read.
    fn reads(&self, text: &str) -> bool {
        let dialect: &dyn ParserDialect = match self.dialect.family {
            Family::Sqlite => &SQLiteDialect {},
            Family::Postgres => &PostgreSqlDialect {},
            Family::Mariadb => &MySqlDialect {},
            Family::Tabular => &MsSqlDialect {},
            Family::Documents => return true,
        };
        let parser = Parser::new(dialect).with_recursion_limit(DEEPEST);
        let parsed = parser
            .try_with_sql(text)
            .and_then(|mut parser| parser.parse_statements());
        parsed.is_ok_and(|list| list.len() == 1)
    }

    /// Signs at every edge of a word or sign, also within texts, which may hold what is no text.
    fn tries(&self) -> Vec<Try> {
        let text = self.text;
        let mut edges: Vec<usize> = vec![0, text.len()];
        let mut before = ' ';
        let kind = |c: char| match c {
            c if c.is_alphanumeric() || c == '_' => 0,
            c if c.is_whitespace() => 1,
            _ => 2,
        };
        for (at, c) in text.char_indices() {
            if kind(c) != kind(before) || kind(c) == 2 {
                edges.push(at);
            }
            before = c;
        }
        edges.sort_unstable();
        edges.dedup();
        let mut list = Vec::new();
        for at in edges {
            for sign in ['\'', '(', ')', ','] {
                list.push(Try {
                    at,
                    sign,
                    puts: true,
                });
            }
        }
        for (at, sign) in text.char_indices() {
            if matches!(sign, '\'' | '(' | ')' | ',') {
                list.push(Try {
                    at,
                    sign,
                    puts: false,
                });
            }
        }
        list
    }

    /// Names that are known: of objects and columns, lower case.
    pub(super) fn known_names(&self) -> HashSet<String> {
        let objects = self.catalog.objects.iter();
        objects
            .flat_map(|object| {
                let fields = object.fields.iter().map(|field| field.name.to_lowercase());
                fields.chain([object.name.to_lowercase()])
            })
            .collect()
    }

    /// How unlikely a statement is: words that name nothing, texts that look like SQL, names for what needs none.
    fn unlikely(&self, text: &str, list: &[Token], known: &HashSet<String>) -> usize {
        let word = |at: usize| list.get(at).map_or("", |token| token.of(text));
        let mut cost = 0;
        for (at, token) in list.iter().enumerate() {
            match token.kind {
                TokenKind::Text => cost += unlike_text(token.of(text), self),
                TokenKind::Word => {
                    let own = token.of(text);
                    let lower = own.to_lowercase();
                    let called = list.get(at + 1).is_some_and(|t| t.kind == TokenKind::Open);
                    // What is called is a function, and no column with nothing behind it.
                    let empty = word(at + 2) == ")" && known.contains(&lower);
                    let function = called
                        && !empty
                        && (self
                            .dialect
                            .functions
                            .iter()
                            .any(|(name, _)| name.eq_ignore_ascii_case(own))
                            || known.contains(&lower));
                    let is_name = match called {
                        true => function || self.dialect.is_keyword(own),
                        false => known.contains(&lower) || self.dialect.is_keyword(own),
                    };
                    // A name that the statement gives itself stands twice in it, or behind `as`.
                    let given = at > 0 && word(at - 1).eq_ignore_ascii_case("as")
                        || list
                            .iter()
                            .filter(|t| t.of(text).eq_ignore_ascii_case(own))
                            .count()
                            > 1;
                    if !is_name && !given {
                        cost += 8;
                    }
                    // A word behind a name or a text, as an alias that nobody meant.
                    let behind = at.checked_sub(1).and_then(|before| list.get(before));
                    let alias = behind.is_some_and(|before| {
                        matches!(before.kind, TokenKind::Text | TokenKind::Number)
                            || before.kind == TokenKind::Word
                                && known.contains(&before.of(text).to_lowercase())
                    });
                    if alias && known.contains(&lower) && !self.dialect.is_keyword(own) {
                        cost += 6;
                    }
                }
                _ => {}
            }
        }
        cost
    }
}

/// How little a text in quotes looks like one.
pub(super) fn unlike_text(text: &str, case: &Case<'_>) -> usize {
    let inner = text.trim_matches('\'');
    let signs = inner.matches([',', '(', ')', '=', ';', '\'']).count();
    let keywords = inner
        .split(|c: char| !c.is_alphanumeric() && c != '_')
        .filter(|word| word.len() > 1 && case.dialect.is_keyword(word))
        .count();
    let ends = inner.starts_with(' ') || inner.ends_with(' ');
    signs * 4 + keywords * 3 + usize::from(ends) * 5
}
