//! What could be typed next: commands and their arguments, keywords, tables, columns of the tables
//! named in the statement (also through aliases), functions. Works on half-typed text and on what the
//! catalog holds now; it never waits for anything.

mod command_line;
mod flow;
mod linked;
pub mod making;
mod place;
mod statement;

use std::ops::Range;

use idle_tide_core::catalog::IndexedName;
use idle_tide_core::{Catalog, Object};
use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

use crate::dialect::Dialect;
use crate::join::written;
use command_line::complete_command;
use statement::{complete_sql, corrections};

/// What is offered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Offer {
    /// A column.
    Column,
    /// A table, view or common table, or an alias.
    Table,
    /// A keyword.
    Keyword,
    /// A function.
    Function,
    /// A value.
    Value,
    /// A condition, or another piece of a statement.
    Piece,
    /// A command, option or argument of one.
    Command,
}

/// One candidate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Candidate {
    /// What is shown.
    pub label: String,
    /// A few words about it.
    pub detail: String,
    /// What it is.
    pub offer: Offer,
    /// What is inserted.
    pub insert: String,
    /// What it replaces, where that is not what the others replace; in bytes.
    pub span: Option<Range<usize>>,
}

/// Candidates for the word at the cursor.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Completion {
    /// What an accepted candidate replaces, in bytes.
    pub span: Range<usize>,
    /// Best first.
    pub candidates: Vec<Candidate>,
    /// What all candidates that begin with the typed word have in common, if it is longer than it.
    pub common: Option<String>,
}

/// What completion may draw from.
#[derive(Debug)]
pub struct Sources<'a> {
    /// The objects of the database.
    pub catalog: &'a Catalog,
    /// The dialect typed.
    pub dialect: &'static Dialect,
    /// Labels of the current result's columns.
    pub columns: &'a [String],
    /// Numbers of entries with their statements.
    pub entries: &'a [(u32, String)],
    /// Names that the command at hand takes (sources, databases), with a word on each.
    pub names: &'a [(String, String)],
    /// Topics of the guide.
    pub topics: &'a [&'static str],
}

/// At most this many candidates are given.
const MOST: usize = 200;

/// Candidates at byte `cursor` of `text`. `asked` is true when the user asked for the list, so that it
/// opens without a typed word too.
pub fn complete(text: &str, cursor: usize, asked: bool, from: &Sources<'_>) -> Completion {
    let cursor = cursor.min(text.len());
    if text.trim_start().starts_with('/')
        && text.trim_start()[1..]
            .chars()
            .next()
            .is_none_or(|c| c.is_ascii_alphabetic())
    {
        return complete_command(text, cursor, from);
    }
    if from.dialect.is_flow() {
        return flow::complete_flow(text, cursor, asked, from);
    }
    complete_sql(text, cursor, asked, from)
}
fn plain_candidate(text: &str, detail: &str, offer: Offer) -> Candidate {
    let insert = if text.contains(char::is_whitespace) && offer != Offer::Keyword {
        format!("\"{text}\"")
    } else {
        text.to_string()
    };
    Candidate {
        label: text.to_string(),
        detail: detail.to_string(),
        offer,
        insert,
        span: None,
    }
}

fn table_detail(object: &Object) -> String {
    match object.rows {
        Some(rows) => format!("{}, {} rows", object.kind.word(), rows),
        None => object.kind.word().to_string(),
    }
}

/// The type of a column with key and link, as the completion list says it.
pub fn field_detail(object: &Object, name: &str) -> String {
    let Some(field) = object.field(name) else {
        return String::new();
    };
    let mut detail = field.declared.to_lowercase();
    if field.key.is_some() {
        detail.push_str(" key");
    }
    if let Some(link) = object.link_of(name) {
        detail.push_str(&format!(" → {}", link.table));
    }
    detail.trim_start().to_string()
}

/// The bytes of the statement that `cursor` stands in.
pub fn statement_around(text: &str, cursor: usize, dialect: &'static Dialect) -> (usize, usize) {
    for piece in crate::split::pieces(text, dialect) {
        let ended = piece.ended && cursor == piece.end as usize;
        if cursor <= piece.end as usize && !ended {
            return ((piece.start as usize).min(cursor), piece.end as usize);
        }
    }
    (cursor, text.len())
}

fn keyword(word: &str) -> Candidate {
    plain_candidate(word, "", Offer::Keyword)
}

fn column(object: &Object, name: &str, dialect: &Dialect) -> Candidate {
    Candidate {
        label: name.to_string(),
        detail: field_detail(object, name),
        offer: Offer::Column,
        insert: dialect.quote_name(name),
        span: None,
    }
}

fn table(object: &Object, dialect: &Dialect) -> Candidate {
    Candidate {
        label: object.name.clone(),
        detail: table_detail(object),
        offer: Offer::Table,
        insert: dialect.quote_name(&object.name),
        span: None,
    }
}

fn tables(common: &[String], word: &str, from: &Sources<'_>, list: &mut Vec<Candidate>) {
    list.extend(
        common
            .iter()
            .map(|name| plain_candidate(name, "defined above", Offer::Table)),
    );
    list.extend(
        fitting_tables(word, from)
            .into_iter()
            .map(|object| Candidate {
                insert: written(object, from.catalog, from.dialect),
                ..table(object, from.dialect)
            }),
    );
}

/// Tables and views whose names begin with `word`, and if these are few all that hold its letters in
/// their order. A large catalog is looked through without copying its names.
fn fitting_tables<'a>(word: &str, from: &Sources<'a>) -> Vec<&'a Object> {
    let lower = word.to_lowercase();
    let index = from.catalog.name_index();
    let tables = || {
        index
            .names()
            .filter(|name| name.kind.has_rows() && !name.helper)
    };
    let object = |name: IndexedName<'_>| &from.catalog.objects[name.at];
    let starting = tables().filter(|name| name.lower.starts_with(&lower));
    let mut list: Vec<&Object> = starting.take(MOST).map(object).collect();
    if list.len() < MOST {
        let holds = |name: &IndexedName<'_>| {
            let mut rest = name.lower.bytes();
            let held = lower.bytes().all(|wanted| rest.any(|byte| byte == wanted));
            held && !name.lower.starts_with(&lower)
        };
        list.extend(tables().filter(holds).take(5 * MOST).map(object));
    }
    list
}

/// Puts candidates that fit `word` in order: those that begin with it first, then fuzzy ones.
fn ranked(span: Range<usize>, word: &str, list: Vec<Candidate>, open: bool) -> Completion {
    if !open {
        return Completion::default();
    }
    let mut matcher = Matcher::new(Config::DEFAULT);
    let pattern = Pattern::new(
        word,
        CaseMatching::Ignore,
        Normalization::Smart,
        AtomKind::Fuzzy,
    );
    let lower = word.to_lowercase();
    let mut buffer = Vec::new();
    let mut scored: Vec<(bool, u8, u32, usize, Candidate)> = Vec::new();
    for (at, candidate) in list.into_iter().enumerate() {
        let label = candidate.label.to_lowercase();
        // A column with its table counts by its own name, too.
        let own = label
            .rsplit('.')
            .next()
            .filter(|_| candidate.offer == Offer::Column);
        let starts = label.starts_with(&lower) || own.is_some_and(|own| own.starts_with(&lower));
        let score = if word.is_empty() {
            Some(0)
        } else {
            pattern.score(Utf32Str::new(&candidate.label, &mut buffer), &mut matcher)
        };
        // A loose match of a keyword or function is noise.
        let loose = !starts && matches!(candidate.offer, Offer::Keyword | Offer::Function);
        if let Some(score) = score
            && !loose
        {
            let group = match candidate.offer {
                Offer::Column | Offer::Command | Offer::Value | Offer::Piece => 0,
                Offer::Table => 1,
                Offer::Keyword => 2,
                Offer::Function => 3,
            };
            scored.push((!starts, group, u32::MAX - score, at, candidate));
        }
    }
    scored.sort_by_key(|(loose, group, score, at, candidate)| {
        if *loose {
            (true, 0, *score, candidate.label.len())
        } else {
            (false, *group, 0, *at)
        }
    });
    scored.truncate(MOST);
    let candidates: Vec<Candidate> = scored.into_iter().map(|(.., c)| c).collect();
    if candidates.len() == 1 && candidates[0].insert.eq_ignore_ascii_case(word) {
        return Completion::default();
    }
    let common = common_start(word, &candidates);
    Completion {
        span,
        candidates,
        common,
    }
}

fn common_start(word: &str, candidates: &[Candidate]) -> Option<String> {
    if word.is_empty() {
        return None;
    }
    let lower = word.to_lowercase();
    let mut starting = candidates
        .iter()
        .filter(|c| c.insert.to_lowercase().starts_with(&lower))
        .map(|c| c.insert.as_str());
    let mut common = starting.next()?.to_string();
    for other in starting {
        let length = common
            .char_indices()
            .zip(other.chars())
            .find(|((_, a), b)| a != b)
            .map_or(common.len().min(other.len()), |((at, _), _)| at);
        common.truncate(length);
    }
    (common.len() > word.len()).then_some(common)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;
    use idle_tide_core::{Field, Kind, Link};

    fn offers(text: &str) -> Vec<String> {
        completion(text)
            .candidates
            .into_iter()
            .map(|c| c.label)
            .collect()
    }

    fn completion(text: &str) -> Completion {
        let table = |name: &str, fields: &[&str]| {
            let mut object = Object::new("main", name, Kind::Table);
            object.fields = fields
                .iter()
                .map(|field| Field {
                    name: field.to_string(),
                    ..Field::default()
                })
                .collect();
            object
        };
        let catalog = Catalog {
            path: vec!["main".into()],
            objects: vec![
                table("vessels", &["id", "name", "owner_id"]),
                table("visit services", &["id"]),
                table("visits", &["id", "vessel_id", "arrived"]),
                table("owners", &["id", "Full Name", "kind", "dries"]),
                Object {
                    signature: "draught numeric".into(),
                    ..Object::new("main", "berth_fee", Kind::Function)
                },
                Object {
                    ..table("sheds", &["id"])
                },
            ],
            ..Catalog::default()
        };
        let mut catalog = catalog;
        let link = |columns: &str, table: &str| Link {
            columns: vec![columns.into()],
            table: table.into(),
            their_columns: vec!["id".into()],
            ..Link::default()
        };
        for object in &mut catalog.objects {
            if let Some(field) = object.fields.first_mut() {
                field.key = Some(1);
            }
            match object.name.as_str() {
                "visits" => object.links.push(link("vessel_id", "vessels")),
                "vessels" => object.links.push(link("owner_id", "owners")),
                "owners" => {
                    object.fields[2].choices = vec!["person".into(), "it's".into()];
                    object.fields[3].declared = "boolean".into();
                }
                "sheds" => object.schema = "quay".into(),
                _ => {}
            }
        }
        let cursor = text.find('|').unwrap_or(text.len());
        let text = text.replacen('|', "", 1);
        complete(
            &text,
            cursor,
            false,
            &Sources {
                catalog: &catalog,
                dialect: &SQLITE,
                columns: &["amount".into(), "raised_on".into()],
                entries: &[(3, "select 1".into())],
                names: &[("harbour".into(), String::new())],
                topics: &["writing"],
            },
        )
    }

    #[test]
    fn the_place_decides_what_is_offered() {
        assert_eq!(offers("sel"), ["select"]);
        assert_eq!(offers("select * from vis"), ["visit services", "visits"]);
        assert_eq!(offers("select * from visits, ves")[0], "vessels");
        assert_eq!(offers("select v.o| from vessels v"), ["owner_id"]);
        assert_eq!(
            offers("select s.| from visits s"),
            ["id", "vessel_id", "arrived"]
        );
        assert_eq!(offers("select * from visits where arr")[0], "arrived");
        assert_eq!(offers("insert into visits (id, "), ["vessel_id", "arrived"]);
        assert!(offers("select 'from vis").is_empty());
        assert!(offers("select 1 -- from vis").is_empty());
        assert!(
            offers("select 1 from").is_empty(),
            "a word typed in full needs no list"
        );
        assert_eq!(offers("select 1; sel"), ["select"]);
    }

    #[test]
    fn fuzzy_and_common_starts() {
        assert!(offers("select * from vsts").contains(&"visits".to_string()));
        assert_eq!(completion("select * from v").common, None);
        assert_eq!(
            completion("select vess| from visits").common.as_deref(),
            Some("vessel")
        );
        assert_eq!(
            completion("select * from vis").candidates[0].insert,
            "\"visit services\""
        );
        assert_eq!(offers("SELE"), ["SELECT"]);
    }

    #[test]
    fn joins_offer_what_is_linked_and_then_the_condition() {
        assert_eq!(
            offers("select * from vessels v join ")[..2],
            ["owners", "visits"]
        );
        assert_eq!(
            offers("select * from vessels v join visits s on ")[0],
            "s.vessel_id = v.id"
        );
        let both =
            offers("select * from visits s join vessels v on v.id = s.vessel_id join owners on ");
        assert_eq!(both[0], "owners.id = v.owner_id");
        assert!(
            offers("select * from visits s join vessels v on v.id = s.")
                .contains(&"vessel_id".to_string())
        );
    }

    #[test]
    fn queries_in_brackets_and_common_tables_have_columns() {
        assert_eq!(
            offers("select q.| from (select id as n, s.arrived from visits s) q"),
            ["n", "arrived"]
        );
        assert_eq!(
            offers("with a (x, y) as (select * from visits) select a.| from a"),
            ["x", "y", "arrived"]
        );
        assert_eq!(offers("with a as (select 1 as one) select * from ")[0], "a");
        // A query within sees the tables around it; one beside it does not.
        let inner =
            offers("select * from vessels v where exists (select 1 from visits s where ves|)");
        assert_eq!(inner[0], "vessel_id");
        assert!(!offers("select arr| from vessels").contains(&"arrived".to_string()));
        assert_eq!(offers("select (select ow|) from vessels")[0], "owner_id");
    }

    #[test]
    fn names_with_schemas_and_in_quotes() {
        assert_eq!(offers("select * from quay."), ["sheds"]);
        assert_eq!(
            completion("select * from she").candidates[0].insert,
            "quay.sheds"
        );
        assert_eq!(offers("select quay.sheds.| from quay.sheds"), ["id"]);
        let quoted = completion("select \"fu| from owners");
        assert_eq!(
            (quoted.candidates[0].insert.as_str(), quoted.span),
            ("\"Full Name\"", 7..10)
        );
        let closed = &completion("select \"fu|\" from owners").candidates[0];
        assert_eq!(closed.span, Some(7..11));
        assert_eq!(
            completion("select o.| from owners o").candidates[1].insert,
            "\"Full Name\""
        );
    }

    #[test]
    fn short_lists_of_values_follow_a_comparison() {
        let of = |text: &str| -> Vec<String> {
            completion(text)
                .candidates
                .into_iter()
                .map(|c| c.insert)
                .collect()
        };
        assert_eq!(
            of("select * from owners where kind = "),
            ["'person'", "'it''s'"]
        );
        assert_eq!(
            of("select * from owners o where o.kind in ('person', "),
            ["'person'", "'it''s'"]
        );
        assert_eq!(of("select * from owners where dries = "), ["true", "false"]);
        let inside = completion("select * from owners where kind <> 'pe|' and id = 1");
        assert_eq!((inside.candidates.len(), inside.span), (1, 35..39));
        let open = completion("select * from owners where kind = 'pe");
        assert_eq!(
            (open.candidates[0].insert.as_str(), open.span),
            ("'person'", 34..37)
        );
        assert!(of("select * from owners where id = ").is_empty());
        assert!(of("select 'a' || 'pe").is_empty());
    }

    #[test]
    fn own_functions_show_their_arguments_and_repeating_counts_their_correction() {
        assert_eq!(offers("select bert"), ["berth_fee(draught numeric)"]);
        let text = "select count(*)| from owners o join vessels v on v.owner_id = o.id";
        let correction = &completion(text).candidates[0];
        assert_eq!(correction.insert, "count(distinct o.id)");
        assert_eq!(correction.span, Some(7..15));
        assert!(
            correction.detail.contains("vessels"),
            "{}",
            correction.detail
        );
    }

    #[test]
    fn commands_and_their_arguments() {
        assert_eq!(offers("/def"), ["/definition"]);
        assert_eq!(offers("/").len(), crate::command::COMMANDS.len());
        assert_eq!(offers("/about ves")[0], "vessels");
        assert_eq!(offers("/writes no"), ["none"]);
        assert_eq!(offers("/order am"), ["amount"]);
        assert_eq!(offers("/order amount d"), ["desc"]);
        assert_eq!(offers("/filter raised_on > '2031' and am"), ["amount"]);
        assert_eq!(offers("/again "), ["3"]);
        assert_eq!(offers("/tables --"), ["--full"]);
    }
}
