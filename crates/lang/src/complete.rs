//! What could be typed next: commands and their arguments, keywords, tables, columns of the tables
//! named in the statement (also through aliases), functions. Works on half-typed text and on what the
//! catalog holds now; it never waits for anything.

use std::ops::Range;

use idle_tide_core::{Catalog, Object};
use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

use crate::command::{self, Argument};
use crate::dialect::Dialect;
use crate::scope::{Scope, scope};
use crate::token::{Token, TokenKind, tokens};

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
    complete_sql(text, cursor, asked, from)
}

fn complete_command(text: &str, cursor: usize, from: &Sources<'_>) -> Completion {
    let start = text.len() - text.trim_start().len();
    if cursor < start || text[..cursor].contains('\n') {
        return Completion::default();
    }
    let line = &text[start..cursor];
    let parts = command::parts(line);
    let at_blank = line.ends_with(char::is_whitespace);
    let name = parts.first().map_or("", |part| part.text.as_str());
    if parts.len() <= 1 && !at_blank {
        let candidates = command::COMMANDS.iter().map(|c| Candidate {
            label: format!("/{}", c.name),
            detail: c.summary.to_string(),
            offer: Offer::Command,
            insert: if c.arguments.is_empty() {
                format!("/{}", c.name)
            } else {
                format!("/{} ", c.name)
            },
        });
        return ranked(start..cursor, name, candidates.collect(), true);
    }
    let Some(found) = command::find(name.trim_start_matches('/')) else {
        return Completion::default();
    };
    let (word, span) = match parts.last() {
        Some(part) if !at_blank => (part.text.as_str(), start + part.span.start..cursor),
        _ => ("", cursor..cursor),
    };
    if found.arguments.first() == Some(&Argument::Rest) {
        // A condition: the columns of the current result.
        let tail = line
            .rfind(|c: char| !(c.is_alphanumeric() || c == '_' || c == '.'))
            .map_or(0, |at| at + 1);
        let word = &line[tail..];
        let list = from
            .columns
            .iter()
            .map(|label| plain_candidate(label, "column", Offer::Column));
        return ranked(start + tail..cursor, word, list.collect(), !word.is_empty());
    }
    let before = &parts[1..parts.len() - usize::from(!at_blank)];
    let last_option = before
        .last()
        .and_then(|part| part.text.strip_prefix("--"))
        .and_then(|name| found.options.iter().find(|o| o.name == name))
        .and_then(|option| option.value);
    let mut list = Vec::new();
    if let Some(kind) = last_option {
        argument_candidates(kind, word, from, &mut list);
    } else if word.starts_with("--") {
        list.extend(found.options.iter().map(|option| Candidate {
            label: format!("--{}", option.name),
            detail: String::new(),
            offer: Offer::Command,
            insert: format!("--{}", option.name),
        }));
    } else {
        let position = before
            .iter()
            .filter(|part| !part.text.starts_with("--"))
            .count();
        let kind = found.arguments.get(position).or_else(|| {
            (found.count.1 == usize::MAX)
                .then(|| found.arguments.last())
                .flatten()
        });
        if let Some(kind) = kind {
            argument_candidates(*kind, word, from, &mut list);
        }
    }
    ranked(span, word, list, true)
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
    }
}

fn argument_candidates(kind: Argument, word: &str, from: &Sources<'_>, list: &mut Vec<Candidate>) {
    match kind {
        Argument::Table | Argument::Pattern => {
            for object in fitting_tables(word, from) {
                list.push(plain_candidate(
                    &object.name,
                    &table_detail(object),
                    Offer::Table,
                ));
            }
        }
        Argument::Column => {
            list.extend(
                from.columns
                    .iter()
                    .map(|c| plain_candidate(c, "column", Offer::Column)),
            );
        }
        Argument::Words(words) => {
            list.extend(
                words
                    .iter()
                    .map(|word| plain_candidate(word, "", Offer::Command)),
            );
        }
        Argument::Entry => list.extend(
            from.entries
                .iter()
                .rev()
                .map(|(number, text)| plain_candidate(&number.to_string(), text, Offer::Command)),
        ),
        Argument::Topic => {
            list.extend(
                from.topics
                    .iter()
                    .map(|topic| plain_candidate(topic, "", Offer::Command)),
            );
        }
        Argument::Source | Argument::Database => list.extend(
            from.names
                .iter()
                .map(|(name, detail)| plain_candidate(name, detail, Offer::Command)),
        ),
        Argument::Number | Argument::Text | Argument::File | Argument::Rest => {}
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

/// What the grammar expects at the cursor.
#[derive(Debug, PartialEq, Eq)]
enum Place {
    /// The first word of a statement.
    Start,
    Table,
    /// Columns of the insert's table, in its brackets.
    InsertColumns,
    /// After `name.`.
    Qualified(String),
    Expression,
    /// In a text, a comment or a new alias: nothing to offer.
    Nothing,
}

fn complete_sql(text: &str, cursor: usize, asked: bool, from: &Sources<'_>) -> Completion {
    // Only the statement around the cursor counts.
    let (start, end) = statement_around(text, cursor, from.dialect);
    let text = &text[start..end];
    let at = cursor - start;
    let all = tokens(text, from.dialect);
    let (word, word_at) = word_before(text, &all, at);
    let place = place(text, &all, word_at, at, from.dialect);
    let named = scope(text, &all, at, from.dialect);
    let mut list = Vec::new();
    match &place {
        Place::Nothing => return Completion::default(),
        Place::Start => list.extend(from.dialect.starts.iter().map(|word| keyword(word))),
        Place::Table => tables(&named, word, from, &mut list),
        Place::InsertColumns => {
            if let Some(object) = named
                .insert
                .as_ref()
                .and_then(|i| from.catalog.table(&i.table))
            {
                let used = named
                    .insert
                    .as_ref()
                    .map_or(&[][..], |insert| &insert.columns);
                let free = object.fields.iter().filter(|f| !used.contains(&f.name));
                list.extend(free.map(|field| column(object, &field.name, from.dialect)));
            }
        }
        Place::Qualified(qualifier) => {
            for table in &named.tables {
                if table.qualifier().eq_ignore_ascii_case(qualifier)
                    && let Some(object) = from.catalog.table(&table.name)
                {
                    list.extend(
                        object
                            .fields
                            .iter()
                            .map(|f| column(object, &f.name, from.dialect)),
                    );
                }
            }
            if list.is_empty() {
                for object in from.catalog.tables() {
                    if object.schema.eq_ignore_ascii_case(qualifier) {
                        list.push(table(object, from.dialect));
                    }
                }
            }
        }
        Place::Expression => {
            if word.is_empty() && !asked {
                return Completion::default();
            }
            for used in &named.tables {
                if let Some(object) = from.catalog.table(&used.name) {
                    list.extend(
                        object
                            .fields
                            .iter()
                            .map(|f| column(object, &f.name, from.dialect)),
                    );
                }
            }
            dedupe_columns(&mut list);
            for used in &named.tables {
                if let Some(alias) = &used.alias {
                    list.push(Candidate {
                        label: alias.clone(),
                        detail: format!("stands for {}", used.name),
                        offer: Offer::Table,
                        insert: alias.clone(),
                    });
                }
            }
            list.extend(
                from.dialect
                    .functions
                    .iter()
                    .map(|(name, arguments)| Candidate {
                        label: format!("{name}({arguments})"),
                        detail: "function".into(),
                        offer: Offer::Function,
                        insert: format!("{name}("),
                    }),
            );
            list.extend(from.dialect.keywords.iter().map(|word| keyword(word)));
            tables(&named, word, from, &mut list);
        }
    }
    let open = matches!(
        place,
        Place::Table | Place::InsertColumns | Place::Qualified(_)
    );
    if word.is_empty() && !asked && !open {
        return Completion::default();
    }
    // Keywords are inserted in the case the user types in.
    if word.len() > 1 && word.chars().all(|c| !c.is_lowercase()) {
        for candidate in list.iter_mut().filter(|c| c.offer == Offer::Keyword) {
            candidate.label = candidate.label.to_uppercase();
            candidate.insert = candidate.insert.to_uppercase();
        }
    }
    let exact = |candidate: &Candidate| {
        candidate.offer == Offer::Keyword && candidate.label.eq_ignore_ascii_case(word)
    };
    // A keyword typed in full needs no list: the next blank ends it.
    if !asked && list.iter().any(exact) {
        return Completion::default();
    }
    ranked(
        start + word_at..cursor,
        word,
        list,
        !word.is_empty() || asked || open,
    )
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

fn word_before<'a>(text: &'a str, all: &[Token], cursor: usize) -> (&'a str, usize) {
    let token = all
        .iter()
        .find(|token| token.start < cursor && cursor <= token.end);
    match token {
        Some(token) if token.kind == TokenKind::Word => (&text[token.start..cursor], token.start),
        _ => ("", cursor),
    }
}

fn place(text: &str, all: &[Token], word_at: usize, cursor: usize, dialect: &Dialect) -> Place {
    let inside = all
        .iter()
        .find(|token| token.start < cursor && cursor <= token.end);
    if let Some(token) = inside {
        let within = cursor < token.end || !token.closed || token.kind == TokenKind::Comment;
        let closed_comment = token.closed && cursor == token.end && text[..cursor].ends_with("*/");
        if matches!(
            token.kind,
            TokenKind::Text | TokenKind::QuotedName | TokenKind::Comment
        ) && within
            && !closed_comment
        {
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
            let name = before
                .len()
                .checked_sub(2)
                .and_then(|at| before[at].name(text));
            return name.map_or(Place::Nothing, Place::Qualified);
        }
        TokenKind::Word => match word(1).as_str() {
            "from" | "join" | "into" | "update" | "table" => return Place::Table,
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

fn keyword(word: &str) -> Candidate {
    plain_candidate(word, "", Offer::Keyword)
}

fn column(object: &Object, name: &str, dialect: &Dialect) -> Candidate {
    Candidate {
        label: name.to_string(),
        detail: field_detail(object, name),
        offer: Offer::Column,
        insert: dialect.quote_name(name),
    }
}

fn table(object: &Object, dialect: &Dialect) -> Candidate {
    Candidate {
        label: object.name.clone(),
        detail: table_detail(object),
        offer: Offer::Table,
        insert: dialect.quote_name(&object.name),
    }
}

fn tables(named: &Scope, word: &str, from: &Sources<'_>, list: &mut Vec<Candidate>) {
    list.extend(
        named
            .common
            .iter()
            .map(|name| plain_candidate(name, "defined above", Offer::Table)),
    );
    list.extend(
        fitting_tables(word, from)
            .into_iter()
            .map(|object| table(object, from.dialect)),
    );
}

/// Tables and views whose names begin with `word`, and if these are few all that hold its letters in
/// their order. A large catalog is looked through without copying its names.
fn fitting_tables<'a>(word: &str, from: &Sources<'a>) -> Vec<&'a Object> {
    let starts = |object: &&Object| {
        let head = object.name.as_bytes().get(..word.len());
        head.is_some_and(|head| head.eq_ignore_ascii_case(word.as_bytes()))
    };
    let mut list: Vec<&Object> = from.catalog.tables().filter(starts).take(MOST).collect();
    if list.len() < MOST {
        let holds = |object: &&Object| {
            let mut rest = object.name.bytes();
            word.bytes()
                .all(|wanted| rest.any(|byte| byte.eq_ignore_ascii_case(&wanted)))
        };
        let more = from
            .catalog
            .tables()
            .filter(|object| holds(object) && !starts(object));
        list.extend(more.take(5 * MOST));
    }
    list
}

/// A column that several tables of the statement have is offered once.
fn dedupe_columns(list: &mut Vec<Candidate>) {
    let mut seen = std::collections::HashMap::new();
    let mut kept: Vec<Candidate> = Vec::new();
    for candidate in list.drain(..) {
        match seen.get(&candidate.label) {
            None => {
                seen.insert(candidate.label.clone(), kept.len());
                kept.push(candidate);
            }
            Some(at) => {
                let at: usize = *at;
                kept[at].detail = "in several tables".into();
            }
        }
    }
    *list = kept;
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
        let starts = candidate.label.to_lowercase().starts_with(&lower);
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
                Offer::Column | Offer::Command => 0,
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
    use idle_tide_core::{Field, Kind};

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
            ],
            ..Catalog::default()
        };
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
    fn commands_and_their_arguments() {
        assert_eq!(offers("/def"), ["/definition"]);
        assert_eq!(offers("/").len(), command::COMMANDS.len());
        assert_eq!(offers("/about ves")[0], "vessels");
        assert_eq!(offers("/export f.csv --as js"), ["json", "jsonl"]);
        assert_eq!(offers("/order am"), ["amount"]);
        assert_eq!(offers("/order amount d"), ["desc"]);
        assert_eq!(offers("/filter raised_on > '2031' and am"), ["amount"]);
        assert_eq!(offers("/again "), ["3"]);
        assert_eq!(offers("/tables --"), ["--full"]);
    }
}
