//! Whether the condition of a write chooses anything: `id = id`, `1 = 1`, `… or true` hold for every row. It
//! reads tokens and knows no values, so of most conditions it says that they depend on the row.

use crate::dialect::Dialect;
use crate::token::{Token, TokenKind};

/// When a condition holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Holds {
    /// For every row, as far as can be seen; also where no column is named and the value is not known.
    Always,
    /// For none.
    Never,
    /// For some rows, perhaps.
    Depends,
}

impl Holds {
    /// Of the opposite condition.
    pub(super) fn not(self) -> Self {
        match self {
            Holds::Always => Holds::Never,
            Holds::Never => Holds::Always,
            Holds::Depends => Holds::Depends,
        }
    }
}

/// Brackets deeper than this are not looked into.
pub(super) const DEEPEST: usize = 60;
/// Words that name no column.
const NO_NAMES: &[&str] = &[
    "and",
    "between",
    "cast",
    "collate",
    "current_date",
    "current_time",
    "current_timestamp",
    "current_user",
    "distinct",
    "escape",
    "false",
    "from",
    "ilike",
    "in",
    "interval",
    "is",
    "isnull",
    "like",
    "not",
    "notnull",
    "null",
    "or",
    "regexp",
    "rlike",
    "session_user",
    "true",
    "unknown",
    "xor",
];
/// Functions without a column whose value differs from row to row.
const BY_ROW: &[&str] = &[
    "gen_random_uuid",
    "newid",
    "nextval",
    "rand",
    "random",
    "random_bytes",
    "randomblob",
    "sleep",
    "uuid",
    "uuid_generate_v4",
    "uuid_short",
    "clock_timestamp",
    "pg_sleep",
];

/// A condition's tokens, and the table whose rows it chooses.
#[derive(Clone, Copy)]
pub(super) struct Condition<'a> {
    pub(super) text: &'a str,
    pub(super) dialect: &'a Dialect,
    /// The table's name, quotes taken off.
    pub(super) table: &'a str,
}

impl Condition<'_> {
    fn word(&self, token: &Token) -> String {
        match token.kind {
            TokenKind::Word => token.of(self.text).to_ascii_lowercase(),
            _ => String::new(),
        }
    }

    /// When the condition of these tokens holds.
    pub(super) fn holds(&self, list: &[Token]) -> Holds {
        self.any(list, 0)
    }

    /// Cuts at words or signs outside brackets; `between … and …` is not cut, nor is `case … end`.
    pub(super) fn cut<'t>(&self, list: &'t [Token], words: &[&str]) -> Vec<&'t [Token]> {
        let (mut parts, mut start, mut depth, mut between) = (Vec::new(), 0, 0_usize, 0_usize);
        for (at, token) in list.iter().enumerate() {
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close => depth = depth.saturating_sub(1),
                TokenKind::Word | TokenKind::Operator if depth == 0 => {
                    let word = token.of(self.text).to_ascii_lowercase();
                    match word.as_str() {
                        "between" => between += 1,
                        "and" if between > 0 => between -= 1,
                        word if words.contains(&word) => {
                            parts.push(&list[start..at]);
                            start = at + 1;
                        }
                        _ => {}
                    }
                }
                _ => {}
            }
        }
        parts.push(&list[start..]);
        parts
    }

    fn any(&self, list: &[Token], depth: usize) -> Holds {
        if depth > DEEPEST {
            return Holds::Depends;
        }
        let pipes_are_or = self.dialect.executable_comments;
        let parts = match pipes_are_or {
            true => self.cut(list, &["or", "||"]),
            false => self.cut(list, &["or"]),
        };
        let opposed = self.asks_both_ways(&parts);
        let parts: Vec<Holds> = parts.iter().map(|part| self.all(part, depth)).collect();
        if opposed || parts.contains(&Holds::Always) {
            Holds::Always
        } else if parts.iter().all(|part| *part == Holds::Never) {
            Holds::Never
        } else {
            Holds::Depends
        }
    }

    /// Whether one part says that something is null and another that it is not: one of them holds, and never both.
    fn asks_both_ways(&self, parts: &[&[Token]]) -> bool {
        if parts.len() < 2 {
            return false;
        }
        let tests: Vec<(&[Token], bool)> = parts.iter().filter_map(|p| self.null_test(p)).collect();
        tests.iter().enumerate().any(|(at, (left, is_null))| {
            let mut others = tests[at + 1..].iter();
            others.any(|(right, other)| is_null != other && self.same(left, right))
        })
    }

    /// What a condition asks to be null, and true; or not to be, and false.
    fn null_test<'t>(&self, mut list: &'t [Token]) -> Option<(&'t [Token], bool)> {
        let mut negated = false;
        for _ in 0..DEEPEST {
            match (self.inside(list), list) {
                (Some(inside), _) => list = inside,
                (_, [first, rest @ ..]) if self.word(first) == "not" => {
                    (list, negated) = (rest, !negated);
                }
                _ => break,
            }
        }
        let word = |back: usize| {
            let at = list.len().checked_sub(back);
            at.map_or(String::new(), |at| self.word(&list[at]))
        };
        let (taken, is_null) = match (word(3).as_str(), word(2).as_str(), word(1).as_str()) {
            ("is", "not", "null") => (3, false),
            (_, "is", "null") => (2, true),
            (_, "not", "null") => (2, false),
            (_, _, "isnull") => (1, true),
            (_, _, "notnull") => (1, false),
            _ => return None,
        };
        // A comparison of more than this is another question.
        let of = &list[..list.len() - taken];
        matches!(of.len(), 1 | 3).then_some((of, is_null != negated))
    }

    fn all(&self, list: &[Token], depth: usize) -> Holds {
        let parts = self.cut(list, &["and", "&&"]);
        let opposed = self.asks_both_ways(&parts);
        let parts: Vec<Holds> = parts.iter().map(|part| self.one(part, depth)).collect();
        if opposed || parts.contains(&Holds::Never) {
            Holds::Never
        } else if parts.iter().all(|part| *part == Holds::Always) {
            Holds::Always
        } else {
            Holds::Depends
        }
    }

    /// The inside of brackets that hold all of the tokens.
    pub(super) fn inside<'t>(&self, list: &'t [Token]) -> Option<&'t [Token]> {
        let [first, middle @ .., last] = list else {
            return None;
        };
        let mut depth = 0_i32;
        let closed_early = middle.iter().any(|token| {
            depth += i32::from(token.kind == TokenKind::Open)
                - i32::from(token.kind == TokenKind::Close);
            depth < 0
        });
        (first.kind == TokenKind::Open && last.kind == TokenKind::Close && !closed_early)
            .then_some(middle)
    }

    fn one(&self, list: &[Token], depth: usize) -> Holds {
        let Some(first) = list.first().filter(|_| depth <= DEEPEST) else {
            return Holds::Depends;
        };
        if self.word(first) == "not" || first.of(self.text) == "!" {
            return self.one(&list[1..], depth + 1).not();
        }
        if let Some(inside) = self.inside(list) {
            return match self.word(inside.first().unwrap_or(first)).as_str() {
                "select" | "with" | "values" => Holds::Depends,
                _ => self.any(inside, depth + 1),
            };
        }
        if self.word(first) == "exists" {
            let reads = list.iter().any(|token| self.word(token) == "from");
            return if reads { Holds::Depends } else { Holds::Always };
        }
        if let Some(holds) = self.comparison(list) {
            return holds;
        }
        match list {
            [one] => match self.word(one).as_str() {
                "true" => Holds::Always,
                "false" | "null" => Holds::Never,
                _ if one.kind == TokenKind::Number => match number(one.of(self.text)) {
                    Some(0.0) => Holds::Never,
                    _ => Holds::Always,
                },
                _ => self.constant(list),
            },
            _ => self.constant(list),
        }
    }

    /// A comparison of two sides.
    fn comparison(&self, list: &[Token]) -> Option<Holds> {
        const SIGNS: &[&str] = &["=", "==", "<=>", "<>", "!=", "<", "<=", ">", ">="];
        const WORDS: &[&str] = &[
            "is", "like", "ilike", "glob", "regexp", "rlike", "in", "between",
        ];
        let mut depth = 0_usize;
        let at = list.iter().position(|token| {
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close => depth = depth.saturating_sub(1),
                _ => {}
            }
            let sign = token.of(self.text).to_ascii_lowercase();
            depth == 0
                && (token.kind == TokenKind::Operator && SIGNS.contains(&sign.as_str())
                    || token.kind == TokenKind::Word && WORDS.contains(&sign.as_str()))
        })?;
        let mut sign = list[at].of(self.text).to_ascii_lowercase();
        let mut left = &list[..at];
        let mut right = &list[at + 1..];
        let mut negated = false;
        if let Some((last, before)) = left.split_last()
            && self.word(last) == "not"
        {
            (left, negated) = (before, true);
        }
        // `> =` is written as one sign in some dialects and as two tokens here.
        if let [next, rest @ ..] = right
            && next.of(self.text) == "="
        {
            sign.push('=');
            right = rest;
        }
        if sign == "is" {
            if let [not, rest @ ..] = right
                && self.word(not) == "not"
            {
                (right, negated) = (rest, true);
            }
            if let [distinct, from, rest @ ..] = right
                && self.word(distinct) == "distinct"
                && self.word(from) == "from"
            {
                (right, negated) = (rest, !negated);
            }
        }
        let plain = match sign.as_str() {
            "=" | "==" | "<=>" | "<=" | ">=" | "is" | "like" | "ilike" | "glob" => {
                self.same(left, right).then_some(Holds::Always)
            }
            "<>" | "!=" | "<" | ">" => self.same(left, right).then_some(Holds::Never),
            "between" => {
                let ends = self.cut(right, &["and"]);
                let same = ends.iter().all(|end| self.same(left, end));
                (same && ends.len() == 2).then_some(Holds::Always)
            }
            "in" => self.within(left, right).then_some(Holds::Always),
            _ => None,
        };
        let plain = plain.or_else(|| self.compared(left, &sign, right));
        plain.map(|holds| if negated { holds.not() } else { holds })
    }

    /// Whether two sides are the same column or expression, with or without the table's name before it.
    fn same(&self, left: &[Token], right: &[Token]) -> bool {
        let bare = |list: &[Token]| -> Vec<String> {
            let mut list = list;
            while let Some(inside) = self.inside(list) {
                list = inside;
            }
            if let [_, dot, name] = list
                && dot.kind == TokenKind::Dot
            {
                return vec![self.plain(name)];
            }
            list.iter().map(|token| self.plain(token)).collect()
        };
        // Columns of one name in two tables are two.
        let of = |list: &[Token]| match list {
            [table, dot, _] if dot.kind == TokenKind::Dot => Some(self.plain(table)),
            _ => None,
        };
        if let (Some(left), Some(right)) = (of(left), of(right))
            && left != right
        {
            return false;
        }
        let by_row = left
            .iter()
            .any(|token| BY_ROW.contains(&self.word(token).as_str()));
        !left.is_empty() && !by_row && bare(left) == bare(right)
    }

    fn plain(&self, token: &Token) -> String {
        match token.name(self.text) {
            Some(name) => name.to_lowercase(),
            None => token.of(self.text).to_string(),
        }
    }

    /// Whether `x in (…)` lists `x` itself, or asks the same column of the whole table.
    fn within(&self, left: &[Token], right: &[Token]) -> bool {
        let Some(inside) = self.inside(right) else {
            return false;
        };
        if inside
            .first()
            .is_some_and(|token| self.word(token) == "select")
        {
            let from = inside.iter().position(|token| self.word(token) == "from");
            let Some(from) = from else {
                return false;
            };
            let names: Vec<String> = inside[from + 1..]
                .iter()
                .filter(|token| token.kind != TokenKind::Dot)
                .map(|token| self.plain(token))
                .collect();
            let own: Vec<String> = self.table.split('.').map(str::to_lowercase).collect();
            return self.same(left, &inside[1..from])
                && (names == own || names.last() == own.last() && names.len() == 1);
        }
        let mut depth = 0_usize;
        inside
            .split(|token| {
                match token.kind {
                    TokenKind::Open => depth += 1,
                    TokenKind::Close => depth = depth.saturating_sub(1),
                    _ => {}
                }
                depth == 0 && token.kind == TokenKind::Comma
            })
            .any(|one| self.same(left, one))
    }

    /// A comparison of two numbers or two texts that are written out.
    fn compared(&self, left: &[Token], sign: &str, right: &[Token]) -> Option<Holds> {
        let ([left], [right]) = (left, right) else {
            return None;
        };
        let numbers = number(left.of(self.text)).zip(number(right.of(self.text)));
        let order = match (left.kind, right.kind) {
            (TokenKind::Number, TokenKind::Number) => numbers.and_then(|(a, b)| a.partial_cmp(&b)),
            (TokenKind::Text, TokenKind::Text)
                if matches!(sign, "=" | "==" | "<>" | "!=" | "is") =>
            {
                Some(left.of(self.text).cmp(right.of(self.text)))
            }
            _ => None,
        }?;
        let holds = match sign {
            "=" | "==" | "<=>" | "is" => order.is_eq(),
            "<>" | "!=" => order.is_ne(),
            "<" => order.is_lt(),
            "<=" => order.is_le(),
            ">" => order.is_gt(),
            ">=" => order.is_ge(),
            _ => return None,
        };
        Some(if holds { Holds::Always } else { Holds::Never })
    }

    /// What names no column holds for every row or for none; it counts as every.
    fn constant(&self, list: &[Token]) -> Holds {
        let names = list.iter().enumerate().any(|(at, token)| match token.kind {
            TokenKind::QuotedName | TokenKind::Parameter => true,
            TokenKind::Word => {
                let word = self.word(token);
                let called = list
                    .get(at + 1)
                    .is_some_and(|next| next.kind == TokenKind::Open);
                match called {
                    true => BY_ROW.contains(&word.as_str()) || word == "select",
                    false => !NO_NAMES.contains(&word.as_str()),
                }
            }
            _ => false,
        });
        if names { Holds::Depends } else { Holds::Always }
    }
}

fn number(text: &str) -> Option<f64> {
    text.parse().ok()
}
