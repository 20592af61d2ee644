//! What could be typed next: commands and their arguments, keywords, tables, columns of the tables
//! named in the statement (also through aliases), functions. Works on half-typed text and on what the
//! catalog holds now; it never waits for anything.

use std::ops::Range;

use idle_tide_core::{Catalog, Kind, Object};
use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

use crate::command::{self, Argument};
use crate::dialect::Dialect;
use crate::join::{condition, written};
use crate::multiply::joins;
use crate::query::{Joined, Of, query};
use crate::scope::{Scope, scope};
use crate::token::{Token, TokenKind, significant, tokens};
use crate::visible::View;

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
            span: None,
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
            span: None,
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
        span: None,
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

fn complete_sql(text: &str, cursor: usize, asked: bool, from: &Sources<'_>) -> Completion {
    // Only the statement around the cursor counts.
    let (start, end) = statement_around(text, cursor, from.dialect);
    let text = &text[start..end];
    let at = cursor - start;
    let mut all = tokens(text, from.dialect);
    // A name whose quotes nobody has closed yet would swallow the rest: it ends at the cursor.
    let unclosed = all
        .iter()
        .find(|t| t.kind == TokenKind::QuotedName && !t.closed && t.start < at && at <= t.end);
    let mended = unclosed.map(|token| {
        let quote = match text[token.start..].chars().next() {
            Some('[') => ']',
            Some(quote) => quote,
            None => '"',
        };
        format!("{}{quote}{}", &text[..at], &text[at..])
    });
    let text = match &mended {
        Some(mended) => {
            all = tokens(mended, from.dialect);
            mended.as_str()
        }
        None => text,
    };
    let significant = significant(&all);
    let query = query(text, &significant, from.dialect);
    let view = View {
        text,
        list: &significant,
        query: &query,
        catalog: from.catalog,
    };
    let block = query.block_at(at);
    if let Some(mut values) = values(&view, block, &all, at) {
        values.span = start + values.span.start..start + values.span.end;
        return values;
    }
    let (word, word_at) = word_before(text, &all, at);
    // Within the quotes of a name, names are offered in quotes.
    let quoted = all
        .iter()
        .any(|t| t.kind == TokenKind::QuotedName && t.start == word_at && word_at < at);
    let place = place(text, &all, word_at, at, from.dialect);
    let named = scope(text, &all, at, from.dialect);
    let tables_seen = view.tables(block);
    let mut list = Vec::new();
    match &place {
        Place::Nothing => return Completion::default(),
        Place::Start => list.extend(from.dialect.starts.iter().map(|word| keyword(word))),
        Place::Table => tables(&named, word, from, &mut list),
        Place::Join => {
            list.extend(linked_tables(&view, block, at, from.dialect));
            tables(&named, word, from, &mut list);
            let mut seen = std::collections::HashSet::new();
            list.retain(|candidate| seen.insert(candidate.label.clone()));
        }
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
            let last = qualifier.rsplit('.').next().unwrap_or(qualifier);
            for joined in &tables_seen {
                let full =
                    matches!(&joined.of, Of::Table(name) if name.eq_ignore_ascii_case(qualifier));
                let by_alias = joined
                    .qualifier()
                    .is_some_and(|q| q.eq_ignore_ascii_case(last));
                if full || by_alias && !qualifier.contains('.') {
                    list.extend(columns_of(&view, joined, from.dialect));
                }
            }
            if list.is_empty() {
                for object in from.catalog.tables() {
                    if object.schema.eq_ignore_ascii_case(qualifier) {
                        list.push(table(object, from.dialect));
                    }
                }
            }
            // A table that nobody has named yet shows its columns too.
            if list.is_empty()
                && let Some(object) = from.catalog.table(qualifier)
            {
                let fields = object.fields.iter();
                list.extend(fields.map(|f| column(object, &f.name, from.dialect)));
            }
            dedupe_columns(&mut list);
        }
        Place::Expression | Place::On => {
            if place == Place::On {
                list.extend(conditions(&view, block, at, from.dialect));
            }
            let mut columns = Vec::new();
            for joined in &tables_seen {
                columns.extend(columns_of(&view, joined, from.dialect));
            }
            dedupe_columns(&mut columns);
            list.extend(columns);
            for joined in &tables_seen {
                if let Some(alias) = &joined.alias {
                    let what = match &joined.of {
                        Of::Table(name) => format!("stands for {name}"),
                        _ => "stands for what is in the brackets".into(),
                    };
                    list.push(Candidate {
                        label: alias.clone(),
                        detail: what,
                        offer: Offer::Table,
                        insert: from.dialect.quote_name(alias),
                        span: None,
                    });
                }
            }
            if !word.is_empty() || asked {
                functions(from, &mut list);
                list.extend(from.dialect.keywords.iter().map(|word| keyword(word)));
                tables(&named, word, from, &mut list);
            }
        }
    }
    let open = matches!(
        place,
        Place::Table | Place::Join | Place::On | Place::InsertColumns | Place::Qualified(_)
    );
    // What counts a thing once instead of several times, where the cursor is at it or the list was asked for.
    let corrections = corrections(text, start, at, asked && word.is_empty(), from);
    if word.is_empty() && !asked && !open {
        return Completion {
            span: cursor..cursor,
            candidates: corrections,
            common: None,
        };
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
    if !asked && !quoted && list.iter().any(exact) {
        return Completion::default();
    }
    if quoted {
        list.retain(|c| matches!(c.offer, Offer::Column | Offer::Table));
        let quote = from.dialect.name_quote;
        for candidate in &mut list {
            let inside = candidate.label.replace(quote, &format!("{quote}{quote}"));
            candidate.insert = format!("{quote}{inside}{quote}");
        }
        // A closing quote that is there already is replaced with the name.
        let closed = all
            .iter()
            .find(|t| t.start == word_at && t.closed && mended.is_none());
        if let Some(token) = closed {
            let span = start + token.start..start + token.end;
            list.iter_mut().for_each(|c| c.span = Some(span.clone()));
        }
    }
    let word = if quoted { &word[1..] } else { word };
    let mut completion = ranked(
        start + word_at..cursor,
        word,
        list,
        !word.is_empty() || asked || open,
    );
    if quoted {
        completion.common = None;
    }
    completion.candidates.splice(0..0, corrections);
    completion
}

/// The columns of a table as candidates.
fn columns_of(view: &View<'_>, joined: &Joined, dialect: &Dialect) -> Vec<Candidate> {
    if let Some(object) = view.object(joined) {
        let fields = object.fields.iter();
        return fields.map(|f| column(object, &f.name, dialect)).collect();
    }
    let columns = view.columns(joined).into_iter();
    columns
        .map(|seen| Candidate {
            detail: match seen.from {
                Some((object, field)) => field_detail(object, &field.name),
                None => String::new(),
            },
            insert: dialect.quote_name(&seen.name),
            label: seen.name,
            offer: Offer::Column,
            span: None,
        })
        .collect()
}

/// The functions of the dialect and of the database.
fn functions(from: &Sources<'_>, list: &mut Vec<Candidate>) {
    let of_dialect = from.dialect.functions.iter();
    list.extend(of_dialect.map(|(name, arguments)| Candidate {
        label: format!("{name}({arguments})"),
        detail: "function".into(),
        offer: Offer::Function,
        insert: format!("{name}("),
        span: None,
    }));
    let own = from.catalog.objects.iter();
    let own = own.filter(|object| object.kind == Kind::Function && !object.helper);
    list.extend(own.take(MOST).map(|object| Candidate {
        label: format!("{}({})", object.name, object.signature),
        detail: "function of this database".into(),
        offer: Offer::Function,
        insert: format!("{}(", written(object, from.catalog, from.dialect)),
        span: None,
    }));
}

/// Links between the table that is being joined and those before it, as conditions.
fn conditions(
    view: &View<'_>,
    block: Option<usize>,
    at: usize,
    dialect: &Dialect,
) -> Vec<Candidate> {
    let Some(block) = block.map(|at| &view.query.blocks[at]) else {
        return Vec::new();
    };
    let before: Vec<&Joined> = block.tables.iter().filter(|t| t.end <= at).collect();
    let Some((new, earlier)) = before.split_last() else {
        return Vec::new();
    };
    let mut list = Vec::new();
    for other in earlier {
        let (Some(a), Some(b)) = (view.object(new), view.object(other)) else {
            continue;
        };
        for tie in ties_between(view.catalog, a, b) {
            let (new, other) = (
                new.qualifier().unwrap_or_default(),
                other.qualifier().unwrap_or_default(),
            );
            let (ours, theirs) = match std::ptr::eq(tie.here, a) {
                true => (tie.columns, tie.theirs),
                false => (tie.theirs, tie.columns),
            };
            let text = condition((new, ours), (other, theirs), dialect);
            list.push(Candidate {
                label: text.clone(),
                detail: if tie.many(a) {
                    "the link; several rows each".into()
                } else {
                    "the link".into()
                },
                offer: Offer::Piece,
                insert: text,
                span: None,
            });
        }
    }
    list
}

/// A declared link between two objects.
struct Between<'a> {
    here: &'a Object,
    columns: &'a [String],
    theirs: &'a [String],
}

impl Between<'_> {
    /// Whether joining `new` over it may find several rows.
    fn many(&self, new: &Object) -> bool {
        let columns: Vec<&str> = self.columns.iter().map(String::as_str).collect();
        std::ptr::eq(self.here, new) && !new.is_unique(&columns)
    }
}

fn ties_between<'a>(catalog: &Catalog, a: &'a Object, b: &'a Object) -> Vec<Between<'a>> {
    let mut found = Vec::new();
    let mut pairs = vec![(a, b)];
    if !std::ptr::eq(a, b) {
        pairs.push((b, a));
    }
    for (here, there) in pairs {
        for link in &here.links {
            if catalog
                .target(here, link)
                .is_some_and(|target| std::ptr::eq(target, there))
            {
                found.push(Between {
                    here,
                    columns: &link.columns,
                    theirs: &link.their_columns,
                });
            }
        }
    }
    found
}

/// The tables that link to one that is there, or that one there links to.
fn linked_tables(
    view: &View<'_>,
    block: Option<usize>,
    at: usize,
    dialect: &Dialect,
) -> Vec<Candidate> {
    let Some(block) = block.map(|at| &view.query.blocks[at]) else {
        return Vec::new();
    };
    let mut list: Vec<Candidate> = Vec::new();
    let mut offer = |object: &Object, by: &Object, many: bool| {
        if object.helper || list.iter().any(|c| c.label == object.name) {
            return;
        }
        list.push(Candidate {
            label: object.name.clone(),
            detail: format!(
                "linked to {}{}",
                by.name,
                if many { ", many each" } else { "" }
            ),
            offer: Offer::Table,
            insert: written(object, view.catalog, dialect),
            span: None,
        });
    };
    for joined in block.tables.iter().filter(|t| t.end <= at) {
        let Some(object) = view.object(joined) else {
            continue;
        };
        for link in &object.links {
            if let Some(target) = view.catalog.target(object, link) {
                offer(target, object, false);
            }
        }
        for (other, link) in view.catalog.referring(object) {
            let columns: Vec<&str> = link.columns.iter().map(String::as_str).collect();
            offer(other, object, !other.is_unique(&columns));
        }
    }
    list
}

/// The few values that the column before a comparison may hold, where the cursor stands behind it or in a text.
fn values(view: &View<'_>, block: Option<usize>, all: &[Token], at: usize) -> Option<Completion> {
    let text = view.text;
    let inside = all
        .iter()
        .find(|t| t.start < at && at <= t.end && t.kind == TokenKind::Text);
    let inside = inside.filter(|t| at < t.end || !t.closed);
    let typed = match inside {
        Some(token) => text.get(token.start + 1..at)?,
        None => "",
    };
    let (span, end) = match inside {
        // A text that nobody has closed yet reaches on; only what is before the cursor is replaced.
        Some(token) if token.closed => (token.start..token.end, token.start),
        Some(token) => (token.start..at, token.start),
        None => (at..at, at),
    };
    let before: Vec<&Token> = all.iter().filter(|t| t.counts() && t.end <= end).collect();
    if inside.is_none()
        && before
            .last()
            .is_some_and(|t| t.end == at && t.kind == TokenKind::Word)
    {
        return None;
    }
    // `column =`, `column in (`, `column in ('a',`.
    let mut rest = before.as_slice();
    let is = |token: &Token, word: &str| token.is_word(text, word);
    if matches!(rest.last(), Some(t) if matches!(t.kind, TokenKind::Open | TokenKind::Comma)) {
        while let [more @ .., last] = rest
            && matches!(
                last.kind,
                TokenKind::Open | TokenKind::Comma | TokenKind::Text
            )
        {
            rest = more;
        }
        rest = match rest {
            [more @ .., last] if is(last, "in") => more,
            _ => return None,
        };
        if let [more @ .., last] = rest
            && is(last, "not")
        {
            rest = more;
        }
    } else {
        rest = match rest {
            [more @ .., last]
                if last.kind == TokenKind::Operator
                    && matches!(last.of(text), "=" | "<>" | "!=") =>
            {
                more
            }
            _ => return None,
        };
    }
    let (qualifier, name) = match rest {
        [.., table, dot, column] if dot.kind == TokenKind::Dot => {
            (table.name(text), column.name(text)?)
        }
        [.., column] => (None, column.name(text)?),
        [] => return None,
    };
    let seen = view.find(block, qualifier.as_deref(), &name)?;
    let (_, field) = seen.from?;
    let plain = field.declared.to_ascii_lowercase().starts_with("bool");
    let choices: Vec<String> = match field.choices.is_empty() {
        false => field.choices.clone(),
        true if plain && inside.is_none() => vec!["true".into(), "false".into()],
        true => return None,
    };
    let list = choices
        .into_iter()
        .map(|value| Candidate {
            detail: format!("value of {}", field.name),
            insert: if plain {
                value.clone()
            } else {
                format!("'{}'", value.replace('\'', "''"))
            },
            label: value,
            offer: Offer::Value,
            span: None,
        })
        .collect();
    let mut completion = ranked(span, typed, list, true);
    completion.common = None;
    (!completion.candidates.is_empty()).then_some(completion)
}

/// Forms of a count that take each thing once, for counts that take some more often.
fn corrections(
    text: &str,
    start: usize,
    at: usize,
    asked: bool,
    from: &Sources<'_>,
) -> Vec<Candidate> {
    let repeated = joins(text, from.catalog, from.dialect).repeated;
    repeated
        .into_iter()
        .filter(|repeated| asked || repeated.span.end == at)
        .filter_map(|repeated| {
            let correction = repeated.correction?;
            Some(Candidate {
                label: correction.clone(),
                detail: repeated.words,
                offer: Offer::Piece,
                insert: correction,
                span: Some(start + repeated.span.start..start + repeated.span.end),
            })
        })
        .collect()
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
        // A name in quotes that are still open, or with the cursor before the closing one.
        Some(token)
            if token.kind == TokenKind::QuotedName && (!token.closed || cursor < token.end) =>
        {
            (&text[token.start..cursor], token.start)
        }
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
            .map(|object| Candidate {
                insert: written(object, from.catalog, from.dialect),
                ..table(object, from.dialect)
            }),
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
    use idle_tide_core::{Field, Link};

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
