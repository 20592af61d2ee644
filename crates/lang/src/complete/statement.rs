//! What could be typed next in a statement: columns that the place sees, tables, functions, keywords, values.

use std::collections::{HashMap, HashSet};
use std::ops::Range;

use idle_tide_core::{Field, Kind};

use super::linked::{conditions, linked_tables};
use super::making;
use super::place::{Place, place, word_before};
use super::{
    Candidate, Completion, MOST, Offer, Sources, column, field_detail, keyword, ranked,
    statement_around, table, tables,
};
use crate::dialect::Dialect;
use crate::join::written;
use crate::query::{Joined, Of, query};
use crate::remarks::remarks;
use crate::scope::{Scope, made_on, scope};
use crate::token::{Token, TokenKind, significant, tokens};
use crate::visible::View;

pub(super) fn complete_sql(
    text: &str,
    cursor: usize,
    asked: bool,
    from: &Sources<'_>,
) -> Completion {
    // Only the statement around the cursor counts.
    let (start, end) = statement_around(text, cursor, from.dialect);
    let text = &text[start..end];
    let at = cursor - start;
    let mut all = tokens(text, from.dialect);
    let mended = closed_at(text, &all, at);
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
    let counts = significant.iter().take_while(|token| token.end <= word_at);
    let before: Vec<Token> = counts.copied().collect();
    let making = making::options(text, &before, asked, from.dialect);
    let makes = making.is_some();
    list.extend(making.unwrap_or_default());
    if place == Place::Nothing && !makes {
        return Completion::default();
    }
    let here = Here {
        view: &view,
        block,
        at,
        word,
        asked,
        named: &named,
        tables: &tables_seen,
        from,
    };
    if !(makes && matches!(place, Place::Nothing | Place::Expression)) {
        here.offer(&place, &mut list);
    }
    let open = matches!(
        place,
        Place::Table | Place::Join | Place::On | Place::InsertColumns | Place::Qualified(_)
    ) || makes;
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
    // A name of nothing, as two quotes make it, is no offer.
    list.retain(|candidate| !candidate.insert.is_empty());
    if quoted {
        // A closing quote that is there already is replaced with the name.
        let closed = all
            .iter()
            .find(|t| t.start == word_at && t.closed && mended.is_none());
        let span = closed.map(|token| start + token.start..start + token.end);
        in_quotes(&mut list, span, from.dialect);
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

/// The text with the quotes closed at the cursor of a name that nobody has closed yet and that would swallow the rest.
fn closed_at(text: &str, all: &[Token], at: usize) -> Option<String> {
    let unclosed = all
        .iter()
        .find(|t| t.kind == TokenKind::QuotedName && !t.closed && t.start < at && at <= t.end);
    unclosed.map(|token| {
        let quote = match text[token.start..].chars().next() {
            Some('[') => ']',
            Some(quote) => quote,
            None => '"',
        };
        format!("{}{quote}{}", &text[..at], &text[at..])
    })
}

/// Names alone, in quotes; `span` is what each takes the place of, if that is more than what is typed.
fn in_quotes(list: &mut Vec<Candidate>, span: Option<Range<usize>>, dialect: &Dialect) {
    list.retain(|c| matches!(c.offer, Offer::Column | Offer::Table));
    let quote = dialect.name_quote;
    for candidate in list {
        let inside = candidate.label.replace(quote, &format!("{quote}{quote}"));
        candidate.insert = format!("{quote}{inside}{quote}");
        if span.is_some() {
            candidate.span.clone_from(&span);
        }
    }
}

/// The place of the cursor, and what is known there.
struct Here<'a> {
    view: &'a View<'a>,
    block: Option<usize>,
    at: usize,
    word: &'a str,
    asked: bool,
    named: &'a Scope,
    tables: &'a [&'a Joined],
    from: &'a Sources<'a>,
}

impl Here<'_> {
    /// What could stand at a place.
    fn offer(&self, place: &Place, list: &mut Vec<Candidate>) {
        match place {
            Place::Nothing => {}
            Place::Start => list.extend(self.from.dialect.starts.iter().map(|word| keyword(word))),
            Place::Table => tables(&self.named.common, self.word, self.from, list),
            Place::Join => {
                list.extend(linked_tables(
                    self.view,
                    self.block,
                    self.at,
                    self.from.dialect,
                ));
                tables(&self.named.common, self.word, self.from, list);
                each_once(list);
            }
            Place::InsertColumns => {
                if let Some(object) = self
                    .named
                    .insert
                    .as_ref()
                    .and_then(|i| self.from.catalog.table(&i.table))
                {
                    let used = self
                        .named
                        .insert
                        .as_ref()
                        .map_or(&[][..], |insert| &insert.columns);
                    let free = object.fields.iter().filter(|f| !used.contains(&f.name));
                    list.extend(free.map(|field| column(object, &field.name, self.from.dialect)));
                }
            }
            Place::Qualified(qualifier) => {
                let last = qualifier.rsplit('.').next().unwrap_or(qualifier);
                for joined in self.tables {
                    let full = matches!(&joined.of, Of::Table(name) if name.eq_ignore_ascii_case(qualifier));
                    let by_alias = joined
                        .qualifier()
                        .is_some_and(|q| q.eq_ignore_ascii_case(last));
                    if full || by_alias && !qualifier.contains('.') {
                        list.extend(columns_of(self.view, joined, self.from.dialect));
                    }
                }
                if list.is_empty() {
                    for object in self.from.catalog.tables() {
                        if object.schema.eq_ignore_ascii_case(qualifier) {
                            list.push(table(object, self.from.dialect));
                        }
                    }
                }
                // The row that a trigger is about.
                if list.is_empty() && matches!(last.to_ascii_lowercase().as_str(), "new" | "old") {
                    list.extend(self.columns_made_on("trigger"));
                }
                // A table that nobody has named yet shows its columns too.
                if list.is_empty()
                    && let Some(object) = self.from.catalog.table(qualifier)
                {
                    let fields = object.fields.iter();
                    list.extend(fields.map(|f| column(object, &f.name, self.from.dialect)));
                }
                each_once(list);
            }
            Place::Expression | Place::On => {
                if *place == Place::On {
                    list.extend(conditions(
                        self.view,
                        self.block,
                        self.at,
                        self.from.dialect,
                    ));
                }
                self.columns(list);
                let indexed = self.columns_made_on("index");
                if !indexed.is_empty() {
                    list.extend(indexed);
                    return;
                }
                for joined in self.tables {
                    if let Some(alias) = &joined.alias {
                        let what = match &joined.of {
                            Of::Table(name) => format!("stands for {name}"),
                            _ => "stands for what is in the brackets".into(),
                        };
                        list.push(Candidate {
                            label: alias.clone(),
                            detail: what,
                            offer: Offer::Table,
                            insert: self.from.dialect.quote_name(alias),
                            span: None,
                        });
                    }
                }
                if !self.word.is_empty() || self.asked {
                    functions(self.from, list);
                    list.extend(self.from.dialect.keywords.iter().map(|word| keyword(word)));
                    // Where tables are named, others are offered once their names are begun.
                    if self.tables.is_empty() || !self.word.is_empty() {
                        tables(&self.named.common, self.word, self.from, list);
                    }
                }
            }
        }
    }

    /// The columns of the table on which a trigger or an index is being made.
    fn columns_made_on(&self, what: &str) -> Vec<Candidate> {
        let table = made_on(self.view.text, self.view.list, what);
        let object = table.and_then(|table| self.from.catalog.table(&table));
        object.map_or(Vec::new(), |object| {
            let fields = object.fields.iter();
            let candidate = |field: &Field| column(object, &field.name, self.from.dialect);
            fields.map(candidate).collect()
        })
    }

    /// The columns of all tables. What several have is offered with the table of each, but for the first that a block inside
    /// of others has alone, and for columns that a join makes one.
    fn columns(&self, list: &mut Vec<Candidate>) {
        let own = self
            .block
            .map_or(0, |block| self.view.query.blocks[block].tables.len());
        let merged = |joined: &Joined, name: &str| {
            let mut using = joined.using.iter();
            joined.natural || using.any(|column| column.eq_ignore_ascii_case(name))
        };
        let of_tables: Vec<(usize, &Joined, Candidate)> = (0..)
            .zip(self.tables)
            .flat_map(|(at, joined)| {
                let columns = columns_of(self.view, joined, self.from.dialect).into_iter();
                columns.map(move |column| (at, *joined, column))
            })
            .collect();
        let mut places: HashMap<String, Vec<usize>> = HashMap::new();
        for (at, joined, column) in &of_tables {
            let all = places.entry(column.label.to_lowercase()).or_default();
            if all.is_empty() || !merged(joined, &column.label) {
                all.push(*at);
            }
        }
        for (at, joined, mut column) in of_tables {
            let all = &places[&column.label.to_lowercase()];
            let inside = all.iter().filter(|at| **at < own).count();
            let is_plain = all[0] == at && (all.len() == 1 || inside == 1);
            if !all.contains(&at) {
                continue;
            }
            if let Some(qualifier) = joined.qualifier().filter(|_| !is_plain) {
                column.label = format!("{qualifier}.{}", column.label);
                let qualifier = self.from.dialect.quote_name(qualifier);
                column.insert = format!("{qualifier}.{}", column.insert);
            }
            list.push(column);
        }
    }
}

/// Leaves the first of those that are called alike.
fn each_once(list: &mut Vec<Candidate>) {
    let mut seen = HashSet::new();
    list.retain(|candidate| seen.insert(candidate.label.clone()));
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
    let index = from.catalog.name_index();
    let own = index
        .names()
        .filter(|n| n.kind == Kind::Function && !n.helper);
    let own = own.map(|name| &from.catalog.objects[name.at]);
    list.extend(own.take(MOST).map(|object| Candidate {
        label: format!("{}({})", object.name, object.signature),
        detail: "function of this database".into(),
        offer: Offer::Function,
        insert: format!("{}(", written(object, from.catalog, from.dialect)),
        span: None,
    }));
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

/// What mends what is doubtful in the statement, where the cursor stands behind it or everything is asked for.
pub(super) fn corrections(
    text: &str,
    start: usize,
    at: usize,
    asked: bool,
    from: &Sources<'_>,
) -> Vec<Candidate> {
    remarks(text, from.catalog, from.dialect)
        .said
        .into_iter()
        .filter(|remark| asked || remark.span.end == at)
        .filter_map(|remark| {
            let edit = remark.edit?;
            Some(Candidate {
                label: edit.text.trim_end().to_string(),
                detail: remark.words,
                offer: Offer::Piece,
                insert: edit.text,
                span: Some(start + edit.span.start..start + edit.span.end),
            })
        })
        .collect()
}
