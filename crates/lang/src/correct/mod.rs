//! What an error most likely means and how to mend it: the place, plain words, and corrections as edits
//! of the statement. It turns a server's complaint into advice; it never runs anything.

mod grammar;
mod names;
mod signs;

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
    /// A flow or expression that is not understood or cannot be computed.
    Flow(crate::flow::FlowError),
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
    if let Complaint::Flow(error) = complaint {
        return of_flow(text, error);
    }
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
        Complaint::Syntax(near) => case.with_signs(case.syntax(near)),
        Complaint::Incomplete => case.with_signs(case.incomplete()),
        Complaint::BadToken(token) => case.with_signs(case.bad_token(token)),
        Complaint::Flow(_) | Complaint::Other => Advice {
            span: offset
                .and_then(|at| case.token_at(at))
                .map(|t| t.start..t.end),
            ..Advice::default()
        },
    }
}

/// The advice that an error of the flow language carries with it.
fn of_flow(text: &str, error: &crate::flow::FlowError) -> Advice {
    let correction = |words: &String| {
        let whole = error.span == (0..text.len());
        let lead = text
            .get(error.span.clone())
            .filter(|t| t.starts_with(' '))
            .map_or("", |_| " ");
        Correction {
            label: words.clone(),
            detail: if whole {
                "the same as a flow"
            } else {
                "instead"
            }
            .into(),
            edit: Edit {
                span: error.span.clone(),
                text: format!("{lead}{words}"),
            },
        }
    };
    Advice {
        headline: error.message.clone(),
        span: Some(error.span.clone()),
        corrections: error.nearest.iter().map(correction).collect(),
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
    /// Puts signs that make the statement readable before what else is offered, but for what is surer than they are: a
    /// keyword that is one letter off, a quote inside a text, an operator torn apart.
    fn with_signs(&self, mut advice: Advice) -> Advice {
        let known = self.known_names();
        let open = self.all.iter().any(|token| !token.closed);
        let sure = |one: &Correction| {
            let was = self.text[one.edit.span.clone()].to_lowercase();
            match one.detail.as_str() {
                // A word within a text whose quote is missing is no slip.
                "keyword" if open || known.contains(&was) => false,
                "keyword" => one.label.contains(' ') || strsim::osa_distance(&was, &one.label) <= 1,
                // Not where the text before it looks like SQL.
                "the quote written twice" => {
                    let mut texts = self.list.iter();
                    let text = texts.find(|token| token.end == one.edit.span.end);
                    text.is_some_and(|text| signs::unlike_text(text.of(self.text), self) == 0)
                }
                "without the blank" => true,
                _ => false,
            }
        };
        let (mut first, rest): (Vec<_>, Vec<_>) = advice.corrections.into_iter().partition(sure);
        first.extend(self.signs());
        first.extend(rest);
        let mut seen = Vec::new();
        first.retain(|one| {
            let fresh = !seen.contains(&one.edit);
            seen.push(one.edit.clone());
            fresh
        });
        advice.corrections = first;
        advice
    }

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
            path: vec!["main".into()],
            objects: vec![
                berths,
                table("quays", &["id", "name"]),
                table("visits", &["id", "berth_id"]),
            ],
            ..Catalog::default()
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
