//! Predicates as the query language of servers, with plain operators wherever they mean the same, so that indexes serve.

use idle_tide_core::document::{Datum, Document, Kind};

use super::super::FlowError;
use super::super::ast::{Expr, KindWord, Node, Operator, Path, Step};
use super::expression::{Compiler, Result, like_pattern, mirrored, op, type_name};

/// The query document of a predicate.
///
/// # Errors
/// If a part cannot be computed on a server.
pub fn filter(predicate: &Expr) -> std::result::Result<Document, FlowError> {
    all_of(&[predicate])
}

/// The query document of predicates that all have to hold.
pub(super) fn all_of(predicates: &[&Expr]) -> Result<Document> {
    let mut parts = Vec::new();
    for predicate in predicates {
        conjuncts(predicate, &mut parts);
    }
    let documents: Vec<Document> = parts.into_iter().map(one).collect::<Result<_>>()?;
    Ok(merged(documents))
}

/// The paths that plain operators of a predicate look at, for plans and indexes.
pub fn predicate_fields(predicate: &Expr) -> Vec<String> {
    let mut found = Vec::new();
    predicate.visit(&mut |e| {
        if let Node::Path(path) = &e.node {
            found.push(path.written());
        }
    });
    found
}

fn conjuncts<'a>(e: &'a Expr, list: &mut Vec<&'a Expr>) {
    match &e.node {
        Node::Binary(Operator::And, a, b) => {
            conjuncts(a, list);
            conjuncts(b, list);
        }
        _ => list.push(e),
    }
}

/// One document out of several: side by side where their fields differ.
fn merged(documents: Vec<Document>) -> Document {
    let mut all = Document::new();
    let mut rest: Vec<Datum> = Vec::new();
    for document in documents {
        let clash = document
            .fields
            .iter()
            .any(|(name, _)| all.get(name).is_some() || name == "$and");
        if clash {
            rest.push(document.into());
        } else {
            all.fields.extend(document.fields);
        }
    }
    if !rest.is_empty() {
        let mut every = Vec::new();
        if !all.is_empty() {
            every.push(all.into());
        }
        every.extend(rest);
        return Document::new().with("$and", Datum::List(every));
    }
    all
}

fn one(e: &Expr) -> Result<Document> {
    match plain(e) {
        Some(document) => document,
        None => Ok(Document::new().with("$expr", Compiler::default().truth(e)?)),
    }
}

/// A path as the query language writes it, with positions as names.
fn query_path(path: &Path) -> Option<String> {
    let steps: Option<Vec<String>> = path
        .steps
        .iter()
        .map(|step| match step {
            Step::Name(name)
                if !name.is_empty() && !name.contains('.') && !name.starts_with('$') =>
            {
                Some(name.clone())
            }
            Step::Index(index) if *index >= 0 => Some(index.to_string()),
            _ => None,
        })
        .collect();
    steps.map(|steps| steps.join("."))
}

fn path_of(e: &Expr) -> Option<String> {
    match &e.node {
        Node::Path(path) => query_path(path),
        _ => None,
    }
}

/// A value that the query language compares as the flow language does.
fn plain_value(e: &Expr) -> Option<Datum> {
    if matches!(e.node, Node::Day(..)) {
        return None;
    }
    e.constant().filter(|value| {
        !matches!(
            value.kind(),
            Kind::Null | Kind::Undefined | Kind::Regex | Kind::MinKey | Kind::MaxKey
        )
    })
}

fn field(path: String, operator: &str, value: Datum) -> Document {
    let test = if operator == "$eq" && !matches!(value, Datum::Object(_)) {
        value
    } else {
        op(operator, value)
    };
    Document::new().with(&path, test)
}

fn nor(inner: Document) -> Document {
    // Not equal has an operator of its own.
    if let [(path, Datum::Object(test))] = inner.fields.as_slice()
        && let [(operator, value)] = test.fields.as_slice()
    {
        match operator.as_str() {
            "$in" => return Document::new().with(path, op("$nin", value.clone())),
            "$regex" | "$gt" | "$gte" | "$lt" | "$lte" | "$elemMatch" => {
                return Document::new().with(path, op("$not", test.clone()));
            }
            _ => {}
        }
    }
    Document::new().with("$nor", Datum::List(vec![inner.into()]))
}

fn done(document: Document) -> Option<Result<Document>> {
    Some(Ok(document))
}

/// The query document if plain operators can say it.
fn plain(e: &Expr) -> Option<Result<Document>> {
    match &e.node {
        Node::Literal(Datum::Boolean(true)) => done(Document::new()),
        Node::Path(path) => done(field(query_path(path)?, "$eq", true.into())),
        Node::Binary(Operator::And, ..) => {
            let mut parts = Vec::new();
            conjuncts(e, &mut parts);
            Some(
                parts
                    .into_iter()
                    .map(one)
                    .collect::<Result<Vec<_>>>()
                    .map(merged),
            )
        }
        Node::Binary(Operator::Or, ..) => {
            let mut parts = Vec::new();
            alternatives(e, &mut parts);
            let plain: Option<Vec<Result<Document>>> = parts.into_iter().map(plain).collect();
            Some(
                plain?
                    .into_iter()
                    .collect::<Result<Vec<_>>>()
                    .map(|list| Document::new().with("$or", list)),
            )
        }
        Node::Not(inner) => Some(plain(inner)?.map(nor)),
        Node::Binary(operator, a, b) if operator.compares() => compared(*operator, a, b),
        Node::In(a, items, not) => {
            let path = path_of(a)?;
            let values: Option<Vec<Datum>> = items.iter().map(plain_value).collect();
            done(Document::new().with(
                &path,
                op(if *not { "$nin" } else { "$in" }, Datum::List(values?)),
            ))
        }
        Node::InList(a, list, not) => in_list(a, list, *not),
        Node::Like(a, pattern, not) => like(a, pattern, *not),
        Node::Between(a, low, high, not) => between(a, low, high, *not),
        Node::IsMissing(a, not) => {
            let name = single(a)?;
            done(Document::new().with(&name, op("$exists", *not)))
        }
        Node::IsNull(a, not) => {
            let name = single(a)?;
            if *not {
                return None;
            }
            let list = Document::new().with(&name, op("$not", op("$type", "array")));
            done(Document::new().with("$and", vec![Document::new().with(&name, Datum::Null), list]))
        }
        Node::IsOf(a, KindWord::One(Kind::List), false) => {
            done(Document::new().with(&single(a)?, op("$type", "array")))
        }
        Node::IsOf(a, kind, false) => is_of(a, kind),
        Node::Some(path, predicate) => some(path, predicate),
        _ => None,
    }
}

fn some(path: &Path, predicate: &Expr) -> Option<Result<Document>> {
    // Through several lists the query language enters more than this does.
    if path.steps.len() > 1 || has_negation(predicate) {
        return None;
    }
    let inner = plain(predicate)?;
    Some(inner.map(|inner| {
        Document::new().with(
            &query_path(path).unwrap_or_default(),
            op("$elemMatch", inner),
        )
    }))
}

fn is_of(a: &Expr, kind: &KindWord) -> Option<Result<Document>> {
    let name = single(a)?;
    let word = match kind {
        KindWord::Number => "number",
        KindWord::One(Kind::Code | Kind::List) => return None,
        KindWord::One(kind) => type_name(*kind),
    };
    let list = Document::new().with(&name, op("$not", op("$type", "array")));
    done(Document::new().with(
        "$and",
        vec![Document::new().with(&name, op("$type", word)), list],
    ))
}

fn between(a: &Expr, low: &Expr, high: &Expr, not: bool) -> Option<Result<Document>> {
    let Node::Path(path) = &a.node else {
        return None;
    };
    let name = query_path(path)?;
    let limit = |e: &Expr, upper: bool| match e.node {
        Node::Day(_, end) if upper => Some(("$lt", Datum::Date(end))),
        Node::Day(start, _) => Some(("$gte", Datum::Date(start))),
        _ => Some((if upper { "$lte" } else { "$gte" }, plain_value(e)?)),
    };
    let (low, high) = (limit(low, false)?, limit(high, true)?);
    if !low.1.kind().is_number() && low.1.kind() != high.1.kind()
        || low.1.kind().is_number() != high.1.kind().is_number()
    {
        return None;
    }
    let range = Document::new().with(low.0, low.1).with(high.0, high.1);
    within(path, name, range, not)
}

fn like(a: &Expr, pattern: &Expr, not: bool) -> Option<Result<Document>> {
    let path = path_of(a)?;
    let Some(Datum::Text(pattern)) = pattern.constant() else {
        return None;
    };
    let regex = Document::new()
        .with("$regex", like_pattern(&pattern))
        .with("$options", "s");
    let test: Datum = if not { op("$not", regex) } else { regex.into() };
    done(Document::new().with(&path, test))
}

fn in_list(a: &Expr, list: &Expr, not: bool) -> Option<Result<Document>> {
    let path = path_of(a)?;
    let Some(Datum::List(values)) = list.constant() else {
        return None;
    };
    if values
        .iter()
        .any(|v| matches!(v.kind(), Kind::Null | Kind::Undefined | Kind::Regex))
    {
        return None;
    }
    done(Document::new().with(
        &path,
        op(if not { "$nin" } else { "$in" }, Datum::List(values)),
    ))
}

fn compared(operator: Operator, a: &Expr, b: &Expr) -> Option<Result<Document>> {
    let (operator, path, value) = match (path_of(a), path_of(b)) {
        (Some(path), None) => (operator, path, b),
        (None, Some(path)) => (mirrored(operator), path, a),
        _ => return None,
    };
    if let Node::Day(start, end) = value.node {
        return day(operator, path, start, end, a, b);
    }
    let value = plain_value(value)?;
    let ordered = !matches!(operator, Operator::Equal | Operator::NotEqual);
    if ordered && matches!(value.kind(), Kind::Object | Kind::List | Kind::Boolean) {
        return None;
    }
    let sign = match operator {
        Operator::Equal => "$eq",
        Operator::NotEqual => "$ne",
        Operator::Less => "$lt",
        Operator::LessOrEqual => "$lte",
        Operator::Greater => "$gt",
        _ => "$gte",
    };
    done(field(path, sign, value))
}

/// Whether a predicate could hold for what is no object.
fn has_negation(e: &Expr) -> bool {
    let mut found = false;
    e.visit(&mut |e| {
        found |= match &e.node {
            Node::Not(_)
            | Node::Binary(Operator::NotEqual, ..)
            | Node::IsNull(..)
            | Node::IsMissing(..) => true,
            Node::In(_, _, not)
            | Node::InList(_, _, not)
            | Node::Like(_, _, not)
            | Node::Between(.., not)
            | Node::IsOf(_, _, not) => *not,
            Node::Literal(Datum::Boolean(_)) => true,
            _ => false,
        }
    });
    found
}

fn single(e: &Expr) -> Option<String> {
    match &e.node {
        Node::Path(path) if path.steps.len() == 1 => query_path(path),
        _ => None,
    }
}

fn alternatives<'a>(e: &'a Expr, list: &mut Vec<&'a Expr>) {
    match &e.node {
        Node::Binary(Operator::Or, a, b) => {
            alternatives(a, list);
            alternatives(b, list);
        }
        _ => list.push(e),
    }
}

/// Both limits of a range on the same element.
fn within(path: &Path, name: String, range: Document, not: bool) -> Option<Result<Document>> {
    if path.steps.len() > 1 {
        return None;
    }
    let plain = Document::new().with(
        "$and",
        vec![
            Document::new().with(&name, range.clone()),
            Document::new().with(&name, op("$not", op("$type", "array"))),
        ],
    );
    let element = Document::new().with(&name, op("$elemMatch", range));
    let found = Document::new().with("$or", vec![plain, element]);
    Some(Ok(if not { nor(found) } else { found }))
}

fn day(
    operator: Operator,
    path: String,
    start: i64,
    end: i64,
    a: &Expr,
    b: &Expr,
) -> Option<Result<Document>> {
    let (start, end) = (Datum::Date(start), Datum::Date(end));
    Some(Ok(match operator {
        Operator::Less => field(path, "$lt", start),
        Operator::LessOrEqual => field(path, "$lt", end),
        Operator::Greater => field(path, "$gte", end),
        Operator::GreaterOrEqual => field(path, "$gte", start),
        _ => {
            let side = if matches!(a.node, Node::Path(_)) {
                a
            } else {
                b
            };
            let Node::Path(at) = &side.node else {
                return None;
            };
            let range = Document::new().with("$gte", start).with("$lt", end);
            return within(at, path, range, operator == Operator::NotEqual);
        }
    }))
}
