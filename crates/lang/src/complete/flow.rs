//! What could stand at the cursor of a half-typed flow: words of statements and stages, collections, paths from sampled shapes as they are
//! after the stages before, functions, values of short lists.

use idle_tide_core::document::shape::Shape;
use idle_tide_core::document::time::TimeZone;

use super::{
    Candidate, Completion, Offer, Sources, corrections, plain_candidate, ranked, statement_around,
    tables,
};
use crate::flow::ast::{Source, Stage, StageKind, Statement};
use crate::flow::check::after;
use crate::flow::functions::{AGGREGATES, FUNCTIONS, STAGES, STATEMENTS};
use crate::flow::parse;
use crate::flow::token::{Token, TokenKind, tokens};

/// Where the cursor stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Place {
    Start,
    Collection,
    Value,
    Path,
    Aggregate,
    AfterValue,
    Word(&'static [&'static str]),
    Nothing,
}

/// A field that is there at the cursor.
type Known = (String, String);

pub(super) fn complete_flow(
    text: &str,
    cursor: usize,
    asked: bool,
    from: &Sources<'_>,
) -> Completion {
    let (start, end) = statement_around(text, cursor, from.dialect);
    let statement = &text[start..end];
    let at = cursor - start;
    let all = tokens(statement);
    if all
        .iter()
        .any(|t| t.span.start < at && at <= t.span.end && inside(t, at))
    {
        return Completion::default();
    }
    // The word or path that is being typed.
    let mut word_at = at;
    for token in all.iter().rev().filter(|t| t.span.end <= at) {
        let joins = token.span.end == word_at
            && (token.kind == TokenKind::Word
                || token.kind == TokenKind::Name
                || token.of(statement) == ".");
        if !joins {
            break;
        }
        word_at = token.span.start;
    }
    if let Some(token) = all
        .iter()
        .find(|t| t.kind == TokenKind::Word && t.span.start < at && at < t.span.end)
    {
        word_at = word_at.min(token.span.start);
    }
    let word = &statement[word_at..at];
    let before: Vec<&Token> = all
        .iter()
        .filter(|t| {
            t.span.end <= word_at && !matches!(t.kind, TokenKind::Blank | TokenKind::Comment)
        })
        .collect();
    let place = place(statement, &before);
    let mut fields = fields(statement, word_at, from);
    fields.extend(joining(statement, &before, from));
    let mut list: Vec<Candidate> = Vec::new();
    match place {
        Place::Nothing => return Completion::default(),
        Place::Start => words(&mut list, STATEMENTS, Offer::Keyword),
        Place::Collection => tables(&[], word, from, &mut list),
        Place::Path => paths(&fields, &mut list),
        Place::Value => {
            values(statement, &before, from, &mut list);
            paths(&fields, &mut list);
            functions(&mut list);
            for word in [
                "not",
                "some",
                "case when",
                "date '",
                "timestamp '",
                "true",
                "false",
                "null",
            ] {
                list.push(plain_candidate(word, "", Offer::Keyword));
            }
        }
        Place::Aggregate => {
            list.extend(
                AGGREGATES
                    .iter()
                    .map(|(name, arguments, gives, _)| Candidate {
                        label: format!("{name}("),
                        detail: format!("{arguments}) · {gives}"),
                        offer: Offer::Piece,
                        insert: format!("{name}("),
                        span: None,
                    }),
            )
        }
        Place::AfterValue => {
            words(&mut list, STAGES, Offer::Keyword);
            for word in [
                "and",
                "or",
                "between",
                "in (",
                "like '",
                "is null",
                "is missing",
                "is of",
                "desc",
                "as",
            ] {
                list.push(plain_candidate(word, "", Offer::Keyword));
            }
        }
        Place::Word(options) => list.extend(
            options
                .iter()
                .map(|word| plain_candidate(word, "", Offer::Piece)),
        ),
    }
    let mut completion = ranked(
        start + word_at..cursor,
        word,
        list,
        asked || !word.is_empty(),
    );
    // What is typed goes before what is mended elsewhere, and a name that is still being typed is not mended unasked.
    let mut corrections = corrections(statement, start, at, asked, from);
    if word.is_empty() {
        completion.candidates.splice(0..0, corrections);
    } else if asked || completion.candidates.is_empty() {
        corrections.retain(|c| completion.candidates.iter().all(|k| k.insert != c.insert));
        completion.candidates.append(&mut corrections);
    }
    completion
}

/// The paths that the documents have there.
fn paths(fields: &[(String, String)], list: &mut Vec<Candidate>) {
    list.extend(fields.iter().map(|(name, detail)| Candidate {
        label: name.clone(),
        detail: detail.clone(),
        offer: Offer::Column,
        insert: name.clone(),
        span: None,
    }));
}

fn words(list: &mut Vec<Candidate>, table: &[(&str, &str, &str)], offer: Offer) {
    list.extend(table.iter().map(|(word, arguments, what)| Candidate {
        label: (*word).to_string(),
        detail: if arguments.is_empty() {
            (*what).to_string()
        } else {
            format!("{arguments} · {what}")
        },
        offer,
        insert: (*word).to_string(),
        span: None,
    }));
}

fn functions(list: &mut Vec<Candidate>) {
    list.extend(FUNCTIONS.iter().map(|f| Candidate {
        label: format!("{}(", f.name),
        detail: format!("{}) · {}", f.arguments, f.gives),
        offer: Offer::Function,
        insert: format!("{}(", f.name),
        span: None,
    }));
}

/// Whether the cursor stands within a token where nothing is completed.
fn inside(token: &Token, at: usize) -> bool {
    match token.kind {
        TokenKind::Text => at < token.span.end,
        TokenKind::Comment | TokenKind::Number | TokenKind::Unclosed => true,
        _ => false,
    }
}

fn place(text: &str, before: &[&Token]) -> Place {
    let Some(last) = before.last() else {
        return Place::Start;
    };
    let of = |back: usize| {
        before
            .len()
            .checked_sub(back + 1)
            .map_or(String::new(), |at| before[at].of(text).to_ascii_lowercase())
    };
    let word = of(0);
    // Within the brackets of a group, after a colon stands an aggregate.
    let open = open_bracket(text, before);
    if last.kind == TokenKind::Sign {
        return match word.as_str() {
            ":" if open == Some("group") => Place::Aggregate,
            ")" | "]" | "}" => Place::AfterValue,
            ";" => Place::Start,
            "." => Place::Path,
            "{" if open == Some("pick") => Place::Path,
            "," if open == Some("pick") => Place::Path,
            "{" | "," if open == Some("group") || open == Some("object") => Place::Nothing,
            _ => Place::Value,
        };
    }
    if matches!(
        last.kind,
        TokenKind::Text | TokenKind::Number | TokenKind::Name
    ) {
        return Place::AfterValue;
    }
    match word.as_str() {
        "from" | "into" | "over" | "empty" | "update" => Place::Collection,
        "all" if of(1) == "update" => Place::Collection,
        "collection" => Place::Collection,
        "join" => Place::Collection,
        "one" if of(1) == "join" => Place::Collection,
        "on" if before
            .iter()
            .any(|t| t.of(text).eq_ignore_ascii_case("index")) =>
        {
            Place::Collection
        }
        "group" => Place::Word(&["by"]),
        "order" => Place::Word(&["by"]),
        "insert" => Place::Word(&["into"]),
        "delete" => Place::Word(&["from", "all from"]),
        "create" => Place::Word(&["collection", "index", "unique index", "user"]),
        "drop" => Place::Word(&["collection", "index", "database", "user"]),
        "rename" => Place::Word(&["collection"]),
        "save" => Place::Word(&["into", "over"]),
        "keeping" => Place::Word(&["empty"]),
        "is" => Place::Word(&[
            "null",
            "missing",
            "not null",
            "not missing",
            "of number",
            "of text",
            "of list",
            "of object",
            "of date",
            "of boolean",
        ]),
        "of" => Place::Word(&[
            "number", "text", "list", "object", "date", "boolean", "id", "bytes", "int", "long",
            "double", "decimal", "null",
        ]),
        "limit" | "offset" | "sample" | "as" | "to" | "call" | "raw" => Place::Nothing,
        "where" | "and" | "or" | "not" | "in" | "like" | "between" | "then" | "else" | "when"
        | "case" | "emit" | "finish" => Place::Value,
        "by" if of(1) == "order" || of(1) == "group" => Place::Path,
        "by" | "set" | "remove" | "unnest" | "distinct" | "without" | "band" | "some" | "on" => {
            Place::Path
        }
        _ => Place::AfterValue,
    }
}

/// What the innermost bracket that is still open belongs to.
fn open_bracket(text: &str, before: &[&Token]) -> Option<&'static str> {
    let mut depth = 0;
    for (at, token) in before.iter().enumerate().rev() {
        match token.of(text) {
            ")" | "]" | "}" => depth += 1,
            "(" | "[" | "{" if depth > 0 => depth -= 1,
            "{" => {
                let stage = before[..at].iter().rev().find_map(|t| {
                    let word = t.of(text).to_ascii_lowercase();
                    STAGES
                        .iter()
                        .find(|(stage, ..)| *stage == word)
                        .map(|(stage, ..)| *stage)
                });
                let directly = at
                    .checked_sub(1)
                    .map(|n| before[n].of(text).to_ascii_lowercase());
                return Some(match (stage, directly.as_deref()) {
                    (Some("pick" | "add"), Some("pick" | "add")) => "pick",
                    (Some("group" | "band"), Some(before)) if before != ":" => "group",
                    _ => "object",
                });
            }
            "(" | "[" => return Some("value"),
            _ => {}
        }
    }
    None
}

fn shape_of(name: &str, from: &Sources<'_>) -> Option<Shape> {
    from.catalog.table(name)?.shape.as_deref().cloned()
}

fn of_shape(shape: &Shape) -> Vec<Known> {
    shape.fields.iter().map(|f| (f.name(), f.words())).collect()
}

/// The fields that are there before the stage at the cursor.
fn fields(statement: &str, at: usize, from: &Sources<'_>) -> Vec<Known> {
    let parsed = parse(statement, &TimeZone::UTC)
        .statement
        .or_else(|| parse(&statement[..at], &TimeZone::UTC).statement);
    match parsed {
        Some(Statement::Flow(flow)) => {
            let mut shape = match &flow.source {
                Source::Collection(name) => shape_of(&name.name, from),
                _ => None,
            };
            let mut known = shape.as_ref().map(of_shape).unwrap_or_default();
            for stage in flow.stages.iter().filter(|s| s.span.end < at) {
                known = after_stage(stage, &mut shape, known, from);
            }
            known
        }
        Some(Statement::Write(write)) => {
            use crate::flow::ast::Write;
            let (Write::Insert { collection, .. }
            | Write::Update { collection, .. }
            | Write::Delete { collection, .. }
            | Write::Empty { collection }) = &write;
            shape_of(&collection.name, from)
                .as_ref()
                .map(of_shape)
                .unwrap_or_default()
        }
        _ => {
            // Of a write that is only begun the collection may be named already.
            let named = tokens(statement)
                .into_iter()
                .find_map(|t| shape_of(t.of(statement), from));
            named.as_ref().map(of_shape).unwrap_or_default()
        }
    }
}

/// The paths of the collection of a join that is being written, under its name.
fn joining(text: &str, before: &[&Token], from: &Sources<'_>) -> Vec<Known> {
    let is = |t: &&&Token, word: &str| t.of(text).eq_ignore_ascii_case(word);
    let Some(at) = before.iter().rposition(|t| is(&t, "join")) else {
        return Vec::new();
    };
    let rest = &before[at + 1..];
    let rest = if rest.first().is_some_and(|t| is(&t, "one")) {
        &rest[1..]
    } else {
        rest
    };
    match rest {
        [collection, word, name, ..] if is(&word, "as") => shape_of(collection.of(text), from)
            .map(|shape| {
                of_shape(&shape)
                    .into_iter()
                    .map(|(path, kind)| (format!("{}.{path}", name.of(text)), kind))
                    .collect()
            })
            .unwrap_or_default(),
        _ => Vec::new(),
    }
}

fn after_stage(
    stage: &Stage,
    shape: &mut Option<Shape>,
    known: Vec<Known>,
    from: &Sources<'_>,
) -> Vec<Known> {
    *shape = after(stage, shape.take());
    let made = |name: &str, what: &str| (name.to_string(), what.to_string());
    match &stage.kind {
        StageKind::Pick(fields) => fields
            .iter()
            .map(|f| made(&f.name.name, "picked"))
            .collect(),
        StageKind::Add(fields) => {
            let mut known = known;
            known.extend(fields.iter().map(|f| made(&f.name.name, "added")));
            known
        }
        StageKind::Group(keys, aggregates) => keys
            .iter()
            .map(|k| made(&k.name.name, "key of the group"))
            .chain(
                aggregates
                    .iter()
                    .map(|a| made(&a.name.name, "of the group")),
            )
            .collect(),
        StageKind::Distinct(_) => {
            vec![made("value", "different value"), made("count", "how often")]
        }
        StageKind::Count(name) => vec![made(&name.name, "how many")],
        StageKind::Band { aggregates, .. } => {
            let mut list = vec![made("from", "lower limit"), made("to", "upper limit")];
            list.extend(aggregates.iter().map(|a| made(&a.name.name, "of the band")));
            if aggregates.is_empty() {
                list.push(made("count", "how many"));
            }
            list
        }
        StageKind::Join {
            collection, name, ..
        } => {
            let mut known = known;
            known.push(made(&name.name, "matches"));
            if let Some(shape) = shape_of(&collection.name, from) {
                known.extend(
                    of_shape(&shape)
                        .into_iter()
                        .map(|(path, kind)| (format!("{}.{path}", name.name), kind)),
                );
            }
            known
        }
        StageKind::Unnest {
            name: Some(name), ..
        } => {
            let mut known = known;
            known.push(made(&name.name, "element"));
            known
        }
        StageKind::Emit(..) | StageKind::Finish(_) => {
            vec![made("key", "key"), made("value", "value")]
        }
        StageKind::Fold(name, ..) => vec![made("key", "key"), made(&name.name, "folded")],
        _ => shape.as_ref().map(of_shape).unwrap_or(known),
    }
}

/// The values of a short list, after a path and an operator.
fn values(text: &str, before: &[&Token], from: &Sources<'_>, list: &mut Vec<Candidate>) {
    let [.., path, operator] = before else { return };
    let compares = ["=", "<>", "!=", "(", ",", "in"]
        .contains(&operator.of(text).to_ascii_lowercase().as_str());
    if !compares {
        return;
    }
    let path = match operator.of(text) {
        "(" | "," => before
            .iter()
            .rposition(|t| t.of(text).eq_ignore_ascii_case("in"))
            .and_then(|at| before.get(at.checked_sub(1)?))
            .copied(),
        _ => Some(*path),
    };
    let Some(path) = path else { return };
    // The whole path ends with this name.
    let start = before
        .iter()
        .rev()
        .skip_while(|t| t.span.start >= path.span.end)
        .take_while(|t| t.kind == TokenKind::Word || t.of(text) == ".")
        .fold(
            (path.span.start, path.span.start + 1),
            |(start, wanted), t| {
                if t.span.end == wanted || t.span.start == path.span.start || t.span.end == start {
                    (t.span.start.min(start), wanted)
                } else {
                    (start, 0)
                }
            },
        )
        .0;
    let name = &text[start..path.span.end];
    for object in &from.catalog.objects {
        let Some(field) = object
            .shape
            .as_ref()
            .and_then(|s| s.fields.iter().find(|f| f.name() == name))
        else {
            continue;
        };
        for choice in field.choices.iter().flatten() {
            let text = format!("'{}'", choice.replace('\'', "''"));
            if !list.iter().any(|c| c.label == text) {
                list.push(Candidate {
                    label: text.clone(),
                    detail: format!("a value of {name}"),
                    offer: Offer::Value,
                    insert: text,
                    span: None,
                });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::complete;
    use crate::dialect::FLOW;
    use idle_tide_core::document::bson::encode;
    use idle_tide_core::{Catalog, Datum, Kind, Object, document};

    fn offers(marked: &str) -> Vec<String> {
        let mut catalog = Catalog::default();
        let mut shape = Shape::default();
        for port in ["Brackwater", "Outer Spit"] {
            let line = Datum::from(document! { "species": "bass", "kg": 2.5 });
            shape.meet(&encode(&document! { "_id": 1, "port": port, "landed": Datum::Date(0), "lines": Datum::List(vec![line]) }));
        }
        for name in ["landings", "surveys"] {
            let mut object = Object::new("", name, Kind::Collection);
            object.shape = Some(std::sync::Arc::new(shape.clone()));
            catalog.objects.push(object);
        }
        let cursor = marked.find('|').expect("a cursor");
        let text = marked.replacen('|', "", 1);
        let sources = Sources {
            catalog: &catalog,
            dialect: &FLOW,
            columns: &[],
            entries: &[],
            names: &[],
            topics: &[],
        };
        complete(&text, cursor, true, &sources)
            .candidates
            .into_iter()
            .map(|c| c.insert)
            .collect()
    }

    #[test]
    fn every_place_offers_what_can_stand_there() {
        for (marked, first) in [
            ("|", "call"),
            ("fr|", "from"),
            ("from la|", "landings"),
            ("from landings wh|", "where"),
            ("from landings where po|", "port"),
            ("from landings where lines.k|", "lines.kg"),
            ("from landings where port = |", "'Brackwater'"),
            ("from landings where port in ('x', |", "'Brackwater'"),
            ("from landings where port = 'x' an|", "and"),
            ("from landings where upp|", "upper("),
            ("from landings where port is |", "null"),
            ("from landings group |", "by"),
            ("from landings group by port { n: co|", "count("),
            (
                "from landings group by port { n: count() } order by |",
                "port",
            ),
            (
                "from landings group by port { total: count() } where to|",
                "total",
            ),
            ("from landings pick { po|", "port"),
            ("from landings join |", "landings"),
            ("from landings join surveys as s on port = s.po|", "s.port"),
            ("update landings set po|", "port"),
            (
                "from landings group by port { kg: sum(lines.kg) } |",
                "unnest lines\n",
            ),
            ("from landings where prt = 'x' order by zz|", "port"),
            ("delete |", "from"),
            ("from landings; from su|", "surveys"),
            ("from landings emit port => 1 fold n = 0 then |", "key"),
        ] {
            let found = offers(marked);
            assert!(
                found.iter().take(3).any(|c| c == first),
                "{marked}: {:?}",
                &found[..found.len().min(6)]
            );
        }
        for nothing in [
            "from landings where port = 'Br|",
            "from landings -- wh|",
            "from landings limit |",
        ] {
            assert_eq!(offers(nothing), Vec::<String>::new(), "{nothing}");
        }
    }
}
