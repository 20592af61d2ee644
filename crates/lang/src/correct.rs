//! What an error most likely means and how to mend it: the place, plain words, and corrections as edits
//! of the statement. It turns a server's complaint into advice; it never runs anything.

use std::ops::Range;

use idle_tide_core::Catalog;

use crate::dialect::Dialect;
use crate::open::{Opened, open_parts};
use crate::scope::{TableUse, scope};
use crate::token::{Token, TokenKind, significant, tokens};

/// The words of `candidates` nearest to `word`, best first, at most `count`; none that are too far to
/// be a slip (optimal string alignment distance, with a bonus for a common start).
pub fn nearest<'a>(
    word: &str,
    candidates: impl IntoIterator<Item = &'a str>,
    count: usize,
) -> Vec<String> {
    let lower = word.to_lowercase();
    let limit = (lower.chars().count() / 3 + 1).min(4);
    let mut found: Vec<(usize, usize, &str)> = Vec::new();
    for candidate in candidates {
        let other = candidate.to_lowercase();
        let length = other.chars().count().abs_diff(lower.chars().count());
        let starts = lower.chars().count() >= 3 && other.starts_with(&lower);
        if length > limit && !starts {
            continue;
        }
        let distance = strsim::osa_distance(&lower, &other);
        if (distance <= limit || starts) && !found.iter().any(|(_, _, known)| *known == candidate) {
            found.push((distance.min(limit), length, candidate));
        }
    }
    found.sort();
    found.truncate(count);
    found.iter().map(|(_, _, word)| word.to_string()).collect()
}

/// What a server complained about, in neutral words. An engine reads it from its own messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Complaint {
    /// No table or view of this name.
    NoSuchTable(String),
    /// No column of this name, as the server wrote it (`b.quay`).
    NoSuchColumn(String),
    /// A column name that several tables have.
    AmbiguousColumn(String),
    /// No function of this name.
    NoSuchFunction(String),
    /// Not understood at this token.
    Syntax(String),
    /// The statement ends too early.
    Incomplete,
    /// A token that cannot be read.
    BadToken(String),
    /// Anything else.
    Other,
}

/// A replacement in the statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edit {
    /// What is replaced, in bytes.
    pub span: Range<usize>,
    /// By what.
    pub text: String,
}

/// One way to mend the statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Correction {
    /// What will stand there.
    pub label: String,
    /// Why, in a few words.
    pub detail: String,
    /// The change.
    pub edit: Edit,
}

/// What is wrong, where, and what would mend it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Advice {
    /// One sentence in plain words; empty when the server's own words are the best there are.
    pub headline: String,
    /// The place in the statement, in bytes.
    pub span: Option<Range<usize>>,
    /// Ways to mend it, likeliest first.
    pub corrections: Vec<Correction>,
}

/// Advice for a complaint about `text`; `offset` is the byte the server pointed at, if it did.
pub fn advise(
    text: &str,
    complaint: &Complaint,
    offset: Option<usize>,
    catalog: &Catalog,
    dialect: &Dialect,
) -> Advice {
    let all = tokens(text, dialect);
    let list = significant(&all);
    let case = Case {
        text,
        all: &all,
        list: &list,
        offset,
        catalog,
        dialect,
    };
    match complaint {
        Complaint::NoSuchTable(name) => case.no_table(name),
        Complaint::NoSuchColumn(name) => case.no_column(name),
        Complaint::AmbiguousColumn(name) => case.ambiguous(name),
        Complaint::NoSuchFunction(name) => case.no_function(name),
        Complaint::Syntax(near) => case.syntax(near),
        Complaint::Incomplete => case.incomplete(),
        Complaint::BadToken(token) => case.bad_token(token),
        Complaint::Other => Advice {
            span: offset
                .and_then(|at| case.token_at(at))
                .map(|t| t.start..t.end),
            ..Advice::default()
        },
    }
}

struct Case<'a> {
    text: &'a str,
    all: &'a [Token],
    list: &'a [Token],
    offset: Option<usize>,
    catalog: &'a Catalog,
    dialect: &'a Dialect,
}

impl Case<'_> {
    fn token_at(&self, offset: usize) -> Option<Token> {
        self.list
            .iter()
            .find(|token| token.start <= offset && offset < token.end)
            .copied()
    }

    /// The token that carries the last part of `name`, from the server's place if it gave one.
    fn named(&self, name: &str) -> Option<Token> {
        let last = name.rsplit('.').next().unwrap_or(name);
        let from = self.offset.unwrap_or(0);
        let is = |token: &&Token| {
            let plain = token.name(self.text).or_else(|| {
                (token.kind == TokenKind::Text)
                    .then(|| token.of(self.text).trim_matches('\'').to_string())
            });
            plain.is_some_and(|plain| plain.eq_ignore_ascii_case(last))
        };
        let after = self.list.iter().filter(|token| token.end > from).find(is);
        after.or_else(|| self.list.iter().find(is)).copied()
    }

    fn replace(&self, token: Token, text: &str, label: &str, detail: String) -> Correction {
        Correction {
            label: label.to_string(),
            detail,
            edit: Edit {
                span: token.start..token.end,
                text: text.to_string(),
            },
        }
    }

    fn no_table(&self, name: &str) -> Advice {
        let token = self.named(name);
        let plain = name.rsplit('.').next().unwrap_or(name);
        let names = self.catalog.tables().map(|object| object.name.as_str());
        let corrections = token.map_or(Vec::new(), |token| {
            nearest(plain, names, 4)
                .into_iter()
                .map(|near| {
                    let detail = self
                        .catalog
                        .table(&near)
                        .map(|object| match object.rows {
                            Some(rows) => format!("{}, {rows} rows", object.kind.word()),
                            None => object.kind.word().to_string(),
                        })
                        .unwrap_or_default();
                    self.replace(token, &self.dialect.quote_name(&near), &near, detail)
                })
                .collect()
        });
        Advice {
            headline: format!("There is no table or view {name}."),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    /// The tables of the statement, with those of the catalog that exist.
    fn tables(&self) -> Vec<TableUse> {
        scope(self.text, self.all, 0, self.dialect).tables
    }

    fn no_column(&self, name: &str) -> Advice {
        let token = self.named(name);
        let mut parts = name.rsplit('.');
        let plain = parts.next().unwrap_or(name);
        let qualifier = parts.next();
        let tables = self.tables();
        let fits = |table: &&TableUse| {
            qualifier.is_none_or(|qualifier| table.qualifier().eq_ignore_ascii_case(qualifier))
        };
        let mut corrections = Vec::new();
        let mut place = String::new();
        if let Some(token) = token {
            // A text in double quotes where the server looked for a column.
            let written = token.of(self.text);
            if written.starts_with('"') {
                let inner = token.name(self.text).unwrap_or_default();
                let quoted = format!("'{}'", inner.replace('\'', "''"));
                corrections.push(self.replace(
                    token,
                    &quoted,
                    &quoted,
                    "a text, in single quotes".into(),
                ));
            }
            let mut known: Vec<(&str, &TableUse)> = Vec::new();
            for table in tables.iter().filter(fits) {
                if let Some(object) = self.catalog.table(&table.name) {
                    known.extend(
                        object
                            .fields
                            .iter()
                            .map(|field| (field.name.as_str(), table)),
                    );
                }
            }
            for near in nearest(plain, known.iter().map(|(field, _)| *field), 4) {
                let owner = known
                    .iter()
                    .find(|(field, _)| *field == near)
                    .map(|(_, t)| *t);
                let detail = owner
                    .map(|owner| self.describe(&owner.name, &near))
                    .unwrap_or_default();
                corrections.push(self.replace(
                    token,
                    &self.dialect.quote_name(&near),
                    &near,
                    detail,
                ));
            }
            if let Some(qualifier) = qualifier {
                if let Some(table) = tables.iter().find(fits) {
                    place = format!(" in {}", table.name);
                    // The same column of another table of the statement.
                    for other in tables.iter().filter(|t| !fits(t)) {
                        let Some(object) = self.catalog.table(&other.name) else {
                            continue;
                        };
                        if let Some(field) = object.field(plain) {
                            let start = token.start - qualifier.len() - 1;
                            let text = format!(
                                "{}.{}",
                                other.qualifier(),
                                self.dialect.quote_name(&field.name)
                            );
                            corrections.push(Correction {
                                label: text.clone(),
                                detail: self.describe(&other.name, &field.name),
                                edit: Edit {
                                    span: start..token.end,
                                    text,
                                },
                            });
                        }
                    }
                } else {
                    return self.no_qualifier(qualifier, &tables, token);
                }
            } else if tables.len() == 1 {
                place = format!(" in {}", tables[0].name);
            }
        }
        Advice {
            headline: format!("There is no column {plain}{place}."),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    /// `x.name` where no table of the statement is called x.
    fn no_qualifier(&self, qualifier: &str, tables: &[TableUse], column: Token) -> Advice {
        let at = self
            .list
            .iter()
            .position(|token| token.start == column.start);
        let token = at.and_then(|at| at.checked_sub(2)).map(|at| self.list[at]);
        let corrections = token.map_or(Vec::new(), |token| {
            let mut names = nearest(qualifier, tables.iter().map(TableUse::qualifier), 3);
            for table in tables {
                let has = self
                    .catalog
                    .table(&table.name)
                    .is_some_and(|object| object.field(column.of(self.text)).is_some());
                if has && !names.iter().any(|name| name == table.qualifier()) {
                    names.push(table.qualifier().to_string());
                }
            }
            names
                .into_iter()
                .map(|name| {
                    let detail = tables
                        .iter()
                        .find(|table| table.qualifier() == name)
                        .map_or(String::new(), |table| format!("stands for {}", table.name));
                    self.replace(token, &name, &name, detail)
                })
                .collect()
        });
        Advice {
            headline: format!("No table of this statement is called {qualifier}."),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    /// A column's type and link in a few words, for a correction's detail.
    fn describe(&self, table: &str, column: &str) -> String {
        let Some(object) = self.catalog.table(table) else {
            return String::new();
        };
        let declared = object.field(column).map_or("", |f| f.declared.as_str());
        let link = object
            .link_of(column)
            .map_or(String::new(), |link| format!(", links to {}", link.table));
        let what = if declared.is_empty() {
            "column"
        } else {
            declared
        };
        format!("{} in {table}{link}", what.to_lowercase())
    }

    fn ambiguous(&self, name: &str) -> Advice {
        let token = self.named(name);
        let owners: Vec<TableUse> = self
            .tables()
            .into_iter()
            .filter(|table| {
                self.catalog
                    .table(&table.name)
                    .is_some_and(|object| object.field(name).is_some())
            })
            .collect();
        let corrections = token.map_or(Vec::new(), |token| {
            owners
                .iter()
                .map(|table| {
                    let text = format!(
                        "{}.{}",
                        self.dialect.quote_name(table.qualifier()),
                        token.of(self.text)
                    );
                    self.replace(token, &text, &text, format!("the one of {}", table.name))
                })
                .collect()
        });
        let names: Vec<_> = owners.iter().map(|table| table.name.clone()).collect();
        Advice {
            headline: if names.is_empty() {
                format!("{name} could be a column of more than one table.")
            } else {
                format!(
                    "{} each have a column {name}: say which.",
                    names.join(" and ")
                )
            },
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    fn no_function(&self, name: &str) -> Advice {
        let token = self.named(name);
        let names = self.dialect.functions.iter().map(|(name, _)| *name);
        let corrections = token.map_or(Vec::new(), |token| {
            nearest(name, names, 4)
                .into_iter()
                .map(|near| {
                    let arguments = self.dialect.functions.iter().find(|(f, _)| *f == near);
                    let detail = arguments.map_or(String::new(), |(_, a)| format!("({a})"));
                    self.replace(token, &near, &near, detail)
                })
                .collect()
        });
        Advice {
            headline: format!("{} has no function {name}.", self.dialect.name),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    fn syntax(&self, near: &str) -> Advice {
        let at = self
            .offset
            .and_then(|offset| {
                self.list
                    .iter()
                    .position(|t| t.start <= offset && offset < t.end)
            })
            .or_else(|| self.list.iter().position(|t| t.of(self.text) == near));
        let Some(at) = at else {
            return Advice {
                headline: format!("The statement is not understood at {near}."),
                ..Advice::default()
            };
        };
        let here = self.list[at];
        let before = at.checked_sub(1).map(|at| self.list[at]);
        let mut corrections = Vec::new();
        let mut span = here.start..here.end;
        let mut headline = if at == 0 {
            format!("No statement begins with {}.", here.of(self.text))
        } else {
            format!("The statement is not understood at {}.", here.of(self.text))
        };
        // A quote inside a text: 'O'Brien'.
        if let Some(before) = before
            && before.kind == TokenKind::Text
            && before.end == here.start
        {
            headline = "A quote inside a text has to be written twice.".into();
            corrections.push(Correction {
                label: "''".into(),
                detail: "the quote written twice".into(),
                edit: Edit {
                    span: before.end - 1..before.end,
                    text: "''".into(),
                },
            });
            span = before.end - 1..here.end;
        }
        // An operator torn apart by a blank: `< =`.
        if let Some(before) = before
            && before.kind == TokenKind::Operator
            && here.kind == TokenKind::Operator
        {
            let joined = format!("{}{}", before.of(self.text), here.of(self.text));
            if ["<=", ">=", "<>", "!=", "||"].contains(&joined.as_str()) {
                corrections.push(Correction {
                    label: joined.clone(),
                    detail: "without the blank".into(),
                    edit: Edit {
                        span: before.start..here.end,
                        text: joined,
                    },
                });
            }
        }
        // A comma before a word that ends the list, or twice.
        if let Some(before) = before
            && before.kind == TokenKind::Comma
            && (self.dialect.is_keyword(here.of(self.text))
                || matches!(
                    here.kind,
                    TokenKind::Comma | TokenKind::Close | TokenKind::Semicolon
                ))
        {
            headline = "There is a comma too many.".into();
            corrections.push(Correction {
                label: here.of(self.text).to_string(),
                detail: "without the comma before it".into(),
                edit: Edit {
                    span: before.start..before.end,
                    text: String::new(),
                },
            });
            span = before.start..before.end;
        }
        if here.kind == TokenKind::Semicolon {
            headline = "The statement ends too early.".into();
            let open = open_parts(self.text, self.all);
            if let Some(part) = open.iter().rev().find(|part| part.what == Opened::Bracket) {
                headline = format!("A bracket opened on line {} is never closed.", part.line);
                corrections.push(Correction {
                    label: ")".into(),
                    detail: "closes the bracket".into(),
                    edit: Edit {
                        span: here.start..here.start,
                        text: ")".into(),
                    },
                });
                span = part.at..part.at + 1;
            }
        } else if here.kind == TokenKind::Close && corrections.is_empty() {
            let mut depth = 0_i32;
            for token in &self.list[..=at] {
                depth += match token.kind {
                    TokenKind::Open => 1,
                    TokenKind::Close => -1,
                    _ => 0,
                };
            }
            if depth < 0 {
                headline = "This bracket closes nothing.".into();
                corrections.push(self.replace(
                    here,
                    "",
                    "without )",
                    "takes the bracket out".into(),
                ));
            }
        }
        // A misspelt keyword stands here, or just before, where it was taken for a name or an alias.
        let start = at == 0 || self.list[at - 1].kind == TokenKind::Semicolon;
        for token in [Some(here), before].into_iter().flatten() {
            if token.kind != TokenKind::Word || self.dialect.is_keyword(token.of(self.text)) {
                continue;
            }
            let word = token.of(self.text);
            let is_column = |table: &TableUse| {
                let object = self.catalog.table(&table.name);
                object.is_some_and(|object| object.field(word).is_some())
            };
            let is_name = self.catalog.table(word).is_some() || self.tables().iter().any(is_column);
            if is_name || word.len() < 3 {
                continue;
            }
            let words = if start {
                self.dialect.starts
            } else {
                self.dialect.keywords
            };
            let mut found = false;
            for near in self.keywords_near(word, words) {
                found = true;
                corrections.push(self.replace(token, &near, &near, "keyword".into()));
            }
            if found {
                if !(start && token.start == here.start) {
                    headline = format!("{word} is not a word of {} here.", self.dialect.name);
                }
                span = token.start..token.end;
                break;
            }
        }
        Advice {
            headline,
            span: Some(span),
            corrections,
        }
    }

    /// Keywords that `word` could be a slip of, also two with the blank missing.
    fn keywords_near(&self, word: &str, words: &[&str]) -> Vec<String> {
        let lower = word.to_lowercase();
        let mut list = Vec::new();
        for cut in 2..lower.len().saturating_sub(1) {
            if let (Some(a), Some(b)) = (lower.get(..cut), lower.get(cut..))
                && self.dialect.is_keyword(a)
                && self.dialect.is_keyword(b)
            {
                list.push(format!("{a} {b}"));
            }
        }
        // Words that a query is made of come before rarer ones at the same distance.
        const COMMON: &[&str] = &[
            "select", "from", "where", "join", "on", "group", "order", "by", "having", "limit",
            "insert", "into", "values", "update", "set", "delete", "create", "table", "and", "or",
            "not", "null", "like", "between", "distinct", "union", "left", "as", "desc", "asc",
        ];
        let common = COMMON.iter().copied().filter(|word| words.contains(word));
        let mut near: Vec<String> = nearest(&lower, common, 3);
        near.extend(nearest(&lower, words.iter().copied(), 3));
        for word in near {
            if strsim::osa_distance(&lower, &word) <= 2 && !list.contains(&word) {
                list.push(word);
            }
        }
        list.truncate(3);
        list
    }

    fn incomplete(&self) -> Advice {
        let end = self.text.trim_end().trim_end_matches(';').trim_end().len();
        let open = open_parts(self.text, self.all);
        let Some(part) = open.last() else {
            return Advice {
                headline: "The statement ends too early.".into(),
                span: Some(end..self.text.len()),
                corrections: Vec::new(),
            };
        };
        let close = match part.what {
            Opened::Bracket => ")",
            Opened::Quote => "'",
            Opened::Name => match self.text.as_bytes()[part.at] {
                b'[' => "]",
                b'`' => "`",
                _ => "\"",
            },
            Opened::Comment => "*/",
            Opened::Block => " end",
        };
        Advice {
            headline: format!(
                "A {} opened on line {} is never closed.",
                part.what.word(),
                part.line
            ),
            span: Some(part.at..part.at + 1),
            corrections: vec![Correction {
                label: close.trim().to_string(),
                detail: format!("closes the {}", part.what.word()),
                edit: Edit {
                    span: end..end,
                    text: close.to_string(),
                },
            }],
        }
    }

    fn bad_token(&self, token: &str) -> Advice {
        let open = self.all.iter().find(|token| !token.closed);
        let Some(open) = open else {
            let found = self.offset.and_then(|at| self.token_at(at));
            return Advice {
                headline: format!("{token} has no meaning in {}.", self.dialect.name),
                span: found.map(|token| token.start..token.end),
                corrections: Vec::new(),
            };
        };
        let mut advice = self.incomplete();
        // `Heron'` without its opening quote: the one that stands alone closes a text.
        let before = self.list.iter().rev().find(|token| token.end <= open.start);
        if let Some(before) = before
            && before.kind == TokenKind::Word
            && before.end == open.start
        {
            let mut first = *before;
            for token in self
                .list
                .iter()
                .rev()
                .skip_while(|t| t.start >= before.start)
            {
                if token.kind != TokenKind::Word || self.dialect.is_keyword(token.of(self.text)) {
                    break;
                }
                first = *token;
            }
            advice.corrections.insert(
                0,
                Correction {
                    label: format!("'{}'", &self.text[first.start..before.end]),
                    detail: "the quote before it was missing".into(),
                    edit: Edit {
                        span: first.start..first.start,
                        text: "'".into(),
                    },
                },
            );
        }
        advice
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;
    use idle_tide_core::{Field, Kind, Link, Object};

    fn catalog() -> Catalog {
        let table = |name: &str, fields: &[&str]| {
            let mut object = Object::new("main", name, Kind::Table);
            object.fields = fields
                .iter()
                .map(|field| Field {
                    name: field.to_string(),
                    declared: "INTEGER".into(),
                    ..Field::default()
                })
                .collect();
            object
        };
        let mut berths = table("berths", &["id", "quay_id", "code"]);
        berths.links.push(Link {
            columns: vec!["quay_id".into()],
            table: "quays".into(),
            ..Link::default()
        });
        Catalog {
            objects: vec![
                berths,
                table("quays", &["id", "name"]),
                table("visits", &["id", "berth_id"]),
            ],
        }
    }

    /// The statement after the first correction.
    fn mended(text: &str, complaint: &Complaint, offset: Option<usize>) -> (String, String) {
        let advice = advise(text, complaint, offset, &catalog(), &SQLITE);
        let mut mended = text.to_string();
        if let Some(first) = advice.corrections.first() {
            mended.replace_range(first.edit.span.clone(), &first.edit.text);
        }
        (mended, advice.headline)
    }

    #[test]
    fn slips_in_names_are_mended() {
        let text = "select b.qauy_id from visits v join berths b on b.id = v.berth_id;";
        let (fixed, headline) = mended(text, &Complaint::NoSuchColumn("b.qauy_id".into()), Some(7));
        assert_eq!(fixed, text.replace("qauy_id", "quay_id"));
        assert_eq!(headline, "There is no column qauy_id in berths.");
        let (fixed, _) = mended(
            "select 1 from vists",
            &Complaint::NoSuchTable("vists".into()),
            None,
        );
        assert_eq!(fixed, "select 1 from visits");
        let text = "select name from quays where name = \"North\"";
        let (fixed, _) = mended(text, &Complaint::NoSuchColumn("North".into()), None);
        assert_eq!(fixed, "select name from quays where name = 'North'");
        let text = "select x.code from berths b";
        let (fixed, headline) = mended(text, &Complaint::NoSuchColumn("x.code".into()), Some(7));
        assert_eq!(fixed, "select b.code from berths b");
        assert!(headline.contains("called x"));
        let text = "select id from berths b, quays q";
        let (fixed, headline) = mended(text, &Complaint::AmbiguousColumn("id".into()), None);
        assert_eq!(fixed, "select b.id from berths b, quays q");
        assert!(headline.starts_with("berths and quays each have"));
        let (fixed, _) = mended(
            "select lenght(1)",
            &Complaint::NoSuchFunction("lenght".into()),
            None,
        );
        assert_eq!(fixed, "select length(1)");
    }

    #[test]
    fn slips_in_the_grammar_are_mended() {
        let near = |word: &str| Complaint::Syntax(word.into());
        for (text, at, fixed) in [
            ("selct 1", "selct", "select 1"),
            ("select * form visits", "form", "select * from visits"),
            (
                "select * from visits wher id = 1",
                "id",
                "select * from visits where id = 1",
            ),
            (
                "select * from visits orderby id",
                "id",
                "select * from visits order by id",
            ),
            ("select id, from visits", "from", "select id from visits"),
            (
                "select * from visits where id < = 3",
                "=",
                "select * from visits where id <= 3",
            ),
            ("select 'O'Brien'", "Brien", "select 'O''Brien'"),
            ("select (1 + 2;", ";", "select (1 + 2);"),
            ("select 1)", ")", "select 1"),
        ] {
            let offset = text.rfind(at);
            assert_eq!(mended(text, &near(at), offset).0, fixed);
        }
        assert_eq!(
            mended("select (1", &Complaint::Incomplete, None).0,
            "select (1)"
        );
        let bad = Complaint::BadToken("'".into());
        assert_eq!(
            mended("select * from quays where name = North Steps'", &bad, None).0,
            "select * from quays where name = 'North Steps'"
        );
        assert_eq!(mended("select 'North", &bad, None).0, "select 'North'");
    }
}
