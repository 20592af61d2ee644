//! The stages of aggregation pipelines (public reference of aggregation stages), over documents in memory.

mod group;
mod join;
mod project;
mod series;
mod window;

use std::cmp::Ordering;
use std::collections::HashMap;

use idle_tide_core::document::compare::Key;
use idle_tide_core::document::number::{Deviation, Sum};
use idle_tide_core::document::{Datum, Document};

use super::expression::{Variables, at_path, evaluate, truth};
use super::query::Filter;
use super::{Failed, type_name};
use crate::convert;

use group::{accumulate, bucket, bucket_auto, group};
use join::{graph_lookup, lookup, union_with};
pub use project::project;
pub(super) use project::{add_fields, take_out};
use series::{densify, fill};
use window::set_window_fields;

type Result<T> = std::result::Result<T, Failed>;

/// What a pipeline reads and writes beside its own documents.
pub trait Collections {
    /// The documents of a collection or view of the present database.
    ///
    /// # Errors
    /// If the pipeline of a view fails.
    fn documents(&self, name: &str) -> Result<Vec<Document>>;
}

/// What is written at the end of a pipeline.
#[derive(Debug, Clone, PartialEq)]
pub enum Written {
    /// Everything in a collection is replaced.
    Out(String, Vec<Document>),
    /// Documents are merged into a collection: the fields they are matched by, what happens to matched ones and to others.
    Merge {
        /// The collection.
        into: String,
        /// Fields they are matched by.
        on: Vec<String>,
        /// `replace`, `merge`, `keepExisting` or `fail`.
        matched: String,
        /// `insert`, `discard` or `fail`.
        not_matched: String,
        /// The documents.
        documents: Vec<Document>,
    },
}

fn bad(code: i32, words: impl Into<String>) -> Failed {
    Failed::new(code, words)
}

/// The sum as servers give it: whole numbers that overflow become doubles.
pub fn total(sum: &Sum) -> Datum {
    sum.total().unwrap_or_else(|_| {
        sum.mean()
            .and_then(|m| m.as_f64())
            .map_or(Datum::Null, |m| Datum::Double(m * sum.count as f64))
    })
}

/// What a document is sorted by at a path: of a list its smallest element, downwards its largest.
fn sort_value(document: &Document, path: &str, down: bool, variables: &Variables) -> Datum {
    match at_path(document, path) {
        None => Datum::Null,
        Some(Datum::List(list)) => list
            .into_iter()
            .reduce(|a, b| {
                if (variables.order(&b, &a) == Ordering::Less) == down {
                    a
                } else {
                    b
                }
            })
            .unwrap_or(Datum::Undefined),
        Some(value) => value,
    }
}

/// The order of two documents by the keys of a sort.
pub fn compare_by(keys: &Document, a: &Document, b: &Document, variables: &Variables) -> Ordering {
    for (path, direction) in &keys.fields {
        let down = direction.as_i64() == Some(-1);
        let (x, y) = (
            sort_value(a, path, down, variables),
            sort_value(b, path, down, variables),
        );
        let found = if down {
            variables.order(&y, &x)
        } else {
            variables.order(&x, &y)
        };
        if found.is_ne() {
            return found;
        }
    }
    Ordering::Equal
}

/// Runs a pipeline; what its last stage writes comes out beside the documents.
///
/// # Errors
/// With the documented codes.
pub fn run(
    pipeline: &[Datum],
    mut documents: Vec<Document>,
    collections: &dyn Collections,
    variables: &Variables,
) -> Result<(Vec<Document>, Option<Written>)> {
    let mut at = 0;
    while let Some(stage) = pipeline.get(at) {
        let stage = stage
            .as_object()
            .ok_or_else(|| bad(14, "Each element of the 'pipeline' array must be an object"))?;
        let [(name, argument)] = stage.fields.as_slice() else {
            return Err(bad(
                40323,
                "A pipeline stage specification object must contain exactly one field.",
            ));
        };
        match name.as_str() {
            "$out" | "$merge" => {
                if at + 1 != pipeline.len() {
                    return Err(bad(
                        40601,
                        format!("{name} can only be the final stage in the pipeline"),
                    ));
                }
                return Ok((Vec::new(), Some(written(name, argument, documents)?)));
            }
            _ => documents = one(name, argument, documents, collections, variables)?,
        }
        at += 1;
    }
    Ok((documents, None))
}

fn written(name: &str, argument: &Datum, documents: Vec<Document>) -> Result<Written> {
    let target = |value: Option<&Datum>| -> Option<String> {
        match value? {
            Datum::Text(name) => Some(name.to_string()),
            Datum::Object(o) => o.get("coll").and_then(Datum::as_text).map(str::to_string),
            _ => None,
        }
    };
    if name == "$out" {
        let into = target(Some(argument))
            .ok_or_else(|| bad(16990, "$out needs the name of a collection"))?;
        return Ok(Written::Out(into, documents));
    }
    let (into, on, matched, not_matched) = match argument {
        Datum::Object(o) => {
            let on = match o.get("on") {
                Some(Datum::Text(one)) => vec![one.to_string()],
                Some(Datum::List(list)) => list
                    .iter()
                    .filter_map(|v| v.as_text().map(str::to_string))
                    .collect(),
                _ => vec!["_id".into()],
            };
            let word = |field: &str, usual: &str| {
                o.get(field)
                    .and_then(Datum::as_text)
                    .unwrap_or(usual)
                    .to_string()
            };
            (
                target(o.get("into")),
                on,
                word("whenMatched", "merge"),
                word("whenNotMatched", "insert"),
            )
        }
        other => (
            target(Some(other)),
            vec!["_id".into()],
            "merge".into(),
            "insert".into(),
        ),
    };
    let into = into.ok_or_else(|| bad(51178, "$merge needs the name of a collection"))?;
    Ok(Written::Merge {
        into,
        on,
        matched,
        not_matched,
        documents,
    })
}

/// The count that a stage like `$limit` takes.
fn count(name: &str, argument: &Datum, least: i64) -> Result<usize> {
    match argument.as_i64() {
        Some(n) if n >= least => Ok(usize::try_from(n).unwrap_or(usize::MAX)),
        _ => Err(bad(
            15958,
            format!(
                "the {name} must be {}",
                if least > 0 {
                    "positive"
                } else {
                    "a number from 0 on"
                }
            ),
        )),
    }
}

fn object<'a>(name: &str, argument: &'a Datum) -> Result<&'a Document> {
    argument
        .as_object()
        .ok_or_else(|| bad(15981, format!("the {name} specification must be an object")))
}

fn one(
    name: &str,
    argument: &Datum,
    documents: Vec<Document>,
    collections: &dyn Collections,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let each = |f: &dyn Fn(Document) -> Result<Document>| {
        let checked = documents
            .iter()
            .map(|d| variables.check().and_then(|()| f(d.clone())));
        checked.collect::<Result<Vec<_>>>()
    };
    match name {
        "$match" => matched(argument, documents, variables),
        "$limit" => {
            let most = count(name, argument, 1)?;
            Ok(documents.into_iter().take(most).collect())
        }
        "$skip" => {
            let first = count(name, argument, 0)?;
            Ok(documents.into_iter().skip(first).collect())
        }
        "$sort" => {
            let keys = object(name, argument)?;
            let mut documents = documents;
            documents.sort_by(|a, b| compare_by(keys, a, b, variables));
            Ok(documents)
        }
        "$count" => counted(argument, &documents),
        "$replaceWith" | "$replaceRoot" => {
            let e = if name == "$replaceRoot" {
                object(name, argument)?
                    .get("newRoot")
                    .unwrap_or(&Datum::Null)
            } else {
                argument
            };
            each(&|document| match evaluate(e, &document, variables)? {
                Some(Datum::Object(new)) => Ok(new),
                other => Err(bad(
                    40228,
                    format!(
                        "'newRoot' expression must evaluate to an object, but resulting value was of type {}",
                        other.as_ref().map_or("missing", type_name)
                    ),
                )),
            })
        }
        "$addFields" | "$set" => {
            let fields = object(name, argument)?;
            each(&|document| add_fields(document, fields, variables))
        }
        "$unset" => {
            let paths: Vec<&str> = match argument {
                Datum::List(list) => list.iter().filter_map(Datum::as_text).collect(),
                one => one.as_text().into_iter().collect(),
            };
            each(&|mut document| {
                for path in &paths {
                    let parts: Vec<&str> = path.split('.').collect();
                    take_out(&mut document, &parts);
                }
                Ok(document)
            })
        }
        "$project" => {
            let fields = object(name, argument)?;
            if fields.is_empty() {
                return Err(bad(
                    51272,
                    "Invalid $project :: caused by :: projection specification must have at least one field",
                ));
            }
            each(&|document| project(&document, fields, variables))
        }
        "$unwind" => unwind(argument, documents),
        "$group" => group(object(name, argument)?, &documents, variables),
        "$sortByCount" => {
            let spec = Document::new()
                .with("_id", argument.clone())
                .with("count", Document::new().with("$sum", 1));
            let mut groups = group(&spec, &documents, variables)?;
            let keys = Document::new().with("count", -1);
            groups.sort_by(|a, b| compare_by(&keys, a, b, variables));
            Ok(groups)
        }
        "$sample" => sampled(argument, documents, variables),
        "$lookup" => lookup(object(name, argument)?, documents, collections, variables),
        "$unionWith" => union_with(argument, documents, collections, variables),
        "$facet" => facet(argument, &documents, collections, variables),
        "$bucketAuto" => bucket_auto(object(name, argument)?, documents, variables),
        "$bucket" => bucket(object(name, argument)?, &documents, variables),
        "$documents" => typed_in(argument, variables),
        "$graphLookup" => graph_lookup(object(name, argument)?, documents, collections, variables),
        "$redact" => redact(argument, documents, variables),
        "$densify" => densify(object(name, argument)?, documents, variables),
        "$fill" => fill(object(name, argument)?, documents, variables),
        "$setWindowFields" => set_window_fields(object(name, argument)?, documents, variables),
        "$changeStream" | "$changeStreamSplitLargeEvent" => Err(bad(
            40573,
            "The $changeStream stage is not there: the practice server has no change streams",
        )),
        "$geoNear" | "$search" | "$searchMeta" | "$vectorSearch" => Err(bad(
            40324,
            format!("{name}: the practice server has no geometry and no search"),
        )),
        "$collStats" | "$currentOp" | "$indexStats" | "$listLocalSessions" | "$listSessions"
        | "$planCacheStats" => Err(bad(
            40602,
            format!("{name} is only valid as the first stage in a pipeline"),
        )),
        other => Err(bad(
            40324,
            format!("Unrecognized pipeline stage name: '{other}'"),
        )),
    }
}

/// Keeps, leaves out or goes into each object by what an expression says of it.
fn redact(e: &Datum, documents: Vec<Document>, variables: &Variables) -> Result<Vec<Document>> {
    const WORDS: [&str; 3] = ["DESCEND", "PRUNE", "KEEP"];

    fn decided(e: &Datum, document: Document, scope: &Variables) -> Result<Option<Document>> {
        scope.check()?;
        let word = evaluate(e, &document, scope)?;
        match word.as_ref().and_then(Datum::as_text) {
            Some("KEEP") => Ok(Some(document)),
            Some("PRUNE") => Ok(None),
            Some("DESCEND") => {
                let mut out = Document::new();
                for (name, value) in document.fields {
                    if let Some(value) = below(e, value, scope)? {
                        out.fields.push((name, value));
                    }
                }
                Ok(Some(out))
            }
            _ => Err(bad(
                17053,
                "$redact must resolve to $$DESCEND, $$PRUNE or $$KEEP",
            )),
        }
    }

    fn below(e: &Datum, value: Datum, scope: &Variables) -> Result<Option<Datum>> {
        Ok(match value {
            Datum::Object(inner) => decided(e, inner, scope)?.map(Datum::Object),
            Datum::List(list) => {
                let kept = list.into_iter().map(|v| below(e, v, scope));
                Some(Datum::List(
                    kept.filter_map(Result::transpose).collect::<Result<_>>()?,
                ))
            }
            other => Some(other),
        })
    }

    let scope = WORDS.iter().fold(variables.clone(), |scope, word| {
        scope.with(word, Some((*word).into()))
    });
    documents
        .into_iter()
        .filter_map(|document| decided(e, document, &scope).transpose())
        .collect()
}

fn typed_in(argument: &Datum, variables: &Variables) -> Result<Vec<Document>> {
    match evaluate(argument, &Document::new(), variables)? {
        Some(Datum::List(list)) => list
            .into_iter()
            .map(|d| match d {
                Datum::Object(d) => Ok(d),
                _ => Err(bad(40228, "$documents needs an array of objects")),
            })
            .collect(),
        _ => Err(bad(5_858_203, "$documents needs an array")),
    }
}

fn facet(
    argument: &Datum,
    documents: &[Document],
    collections: &dyn Collections,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let mut out = Document::new();
    for (field, pipeline) in &object("$facet", argument)?.fields {
        let pipeline = pipeline
            .as_list()
            .ok_or_else(|| bad(40170, "arguments to $facet must be arrays"))?;
        let (inner, _) = run(pipeline, documents.to_vec(), collections, variables)?;
        out.set(
            field,
            Datum::List(inner.into_iter().map(Datum::Object).collect()),
        );
    }
    Ok(vec![out])
}

fn sampled(
    argument: &Datum,
    mut documents: Vec<Document>,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let wanted = count(
        "$sample",
        object("$sample", argument)?
            .get("size")
            .unwrap_or(&Datum::Null),
        1,
    )?;
    let mut state = variables.now as u64 | 1;
    for at in (1..documents.len()).rev() {
        state ^= state >> 12;
        state ^= state << 25;
        state ^= state >> 27;
        documents.swap(
            at,
            (state.wrapping_mul(0x2545_f491_4f6c_dd1d) % (at as u64 + 1)) as usize,
        );
    }
    documents.truncate(wanted);
    Ok(documents)
}

fn counted(argument: &Datum, documents: &[Document]) -> Result<Vec<Document>> {
    let field = argument
        .as_text()
        .filter(|f| !f.is_empty())
        .ok_or_else(|| bad(40156, "the count field must be a non-empty string"))?;
    if documents.is_empty() {
        return Ok(Vec::new());
    }
    Ok(vec![
        Document::new().with(field, Datum::integer(documents.len() as i64)),
    ])
}

fn matched(
    argument: &Datum,
    documents: Vec<Document>,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let filter = Filter::new(
        object("$match", argument)
            .map_err(|_| bad(15959, "the match filter must be an expression in an object"))?,
    )?;
    let mut kept = Vec::new();
    for document in documents {
        variables.check()?;
        if filter.matches(&document, variables)? {
            kept.push(document);
        }
    }
    Ok(kept)
}

fn unwind(argument: &Datum, documents: Vec<Document>) -> Result<Vec<Document>> {
    let (path, keeping, index) = match argument {
        Datum::Text(path) => (path.to_string(), false, None),
        argument => {
            let o = object("$unwind", argument)?;
            let path = o
                .get("path")
                .and_then(Datum::as_text)
                .unwrap_or_default()
                .to_string();
            let index = o
                .get("includeArrayIndex")
                .and_then(Datum::as_text)
                .map(str::to_string);
            (path, truth(o.get("preserveNullAndEmptyArrays")), index)
        }
    };
    let Some(path) = path.strip_prefix('$') else {
        return Err(bad(
            28818,
            format!("path option to $unwind stage should be prefixed with a '$': {path}"),
        ));
    };
    let parts: Vec<&str> = path.split('.').collect();
    let mut out = Vec::new();
    for document in documents {
        match inside(&document, &parts).cloned() {
            Some(Datum::List(list)) if !list.is_empty() => {
                for (at, element) in list.into_iter().enumerate() {
                    let mut one = document.clone();
                    put_inside(&mut one, &parts, Some(element));
                    if let Some(index) = &index {
                        one.set(index, at as i64);
                    }
                    out.push(one);
                }
            }
            None | Some(Datum::Null | Datum::Undefined | Datum::List(_)) if !keeping => {}
            other => {
                let mut one = document;
                if matches!(other, Some(Datum::List(_))) {
                    put_inside(&mut one, &parts, None);
                }
                // What is no element of a list has no place in one.
                if let Some(index) = &index {
                    one.set(index, Datum::Null);
                }
                out.push(one);
            }
        }
    }
    Ok(out)
}

fn inside<'a>(document: &'a Document, path: &[&str]) -> Option<&'a Datum> {
    let (name, rest) = path.split_first()?;
    let value = document.get(name)?;
    if rest.is_empty() {
        Some(value)
    } else {
        inside(value.as_object()?, rest)
    }
}

fn put_inside(document: &mut Document, path: &[&str], value: Option<Datum>) {
    let Some((name, rest)) = path.split_first() else {
        return;
    };
    if !rest.is_empty() {
        if let Some(Datum::Object(inner)) = document.get_mut(name) {
            put_inside(inner, rest, value);
        }
        return;
    }
    match value {
        Some(value) => document.set(name, value),
        None => {
            document.remove(name);
        }
    }
}
