//! The stages of aggregation pipelines (public reference of aggregation stages), over documents in memory.

use std::cmp::Ordering;
use std::collections::HashMap;

use idle_tide_core::document::compare::{Key, order};
use idle_tide_core::document::number::{Deviation, Sum};
use idle_tide_core::document::{Datum, Document};

use super::expression::{Variables, at_path, evaluate, truth};
use super::query::Filter;
use super::{Failed, type_name};
use crate::convert;

type Result<T> = std::result::Result<T, Failed>;

/// What a pipeline reads and writes beside its own documents.
pub trait Collections {
    /// The documents of a collection of the present database.
    fn documents(&self, name: &str) -> Vec<Document>;
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
fn sort_value(document: &Document, path: &str, down: bool) -> Datum {
    match at_path(document, path) {
        None => Datum::Null,
        Some(Datum::List(list)) => list
            .into_iter()
            .reduce(|a, b| {
                if (order(&b, &a) == Ordering::Less) == down {
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
pub fn compare_by(keys: &Document, a: &Document, b: &Document) -> Ordering {
    for (path, direction) in &keys.fields {
        let down = direction.as_i64() == Some(-1);
        let (x, y) = (sort_value(a, path, down), sort_value(b, path, down));
        let found = if down { order(&y, &x) } else { order(&x, &y) };
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
            documents.sort_by(|a, b| compare_by(keys, a, b));
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
            groups.sort_by(|a, b| compare_by(&keys, a, b));
            Ok(groups)
        }
        "$sample" => sampled(argument, documents, variables),
        "$lookup" => lookup(object(name, argument)?, documents, collections, variables),
        "$unionWith" => union_with(argument, documents, collections, variables),
        "$facet" => facet(argument, &documents, collections, variables),
        "$bucketAuto" => bucket_auto(object(name, argument)?, documents, variables),
        "$bucket" => bucket(object(name, argument)?, &documents, variables),
        "$documents" => typed_in(argument, variables),
        other => Err(bad(
            40324,
            format!("Unrecognized pipeline stage name: '{other}'"),
        )),
    }
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

fn union_with(
    argument: &Datum,
    mut documents: Vec<Document>,
    collections: &dyn Collections,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let (other, pipeline) = match argument {
        Datum::Text(other) => (other.to_string(), Vec::new()),
        argument => {
            let o = object("$unionWith", argument)?;
            let pipeline = o
                .get("pipeline")
                .and_then(Datum::as_list)
                .unwrap_or_default()
                .to_vec();
            (
                o.get("coll")
                    .and_then(Datum::as_text)
                    .unwrap_or_default()
                    .to_string(),
                pipeline,
            )
        }
    };
    documents.extend(
        run(
            &pipeline,
            collections.documents(&other),
            collections,
            variables,
        )?
        .0,
    );
    Ok(documents)
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

/// Adds computed fields; an object of plain names goes into the object that is there.
pub(super) fn add_fields(
    document: Document,
    fields: &Document,
    variables: &Variables,
) -> Result<Document> {
    let mut out = document.clone();
    for (path, e) in &fields.fields {
        let parts: Vec<&str> = path.split('.').collect();
        add_at(&mut out, &parts, e, &document, variables)?;
    }
    Ok(out)
}

fn add_at(
    out: &mut Document,
    path: &[&str],
    e: &Datum,
    document: &Document,
    variables: &Variables,
) -> Result<()> {
    let Some((name, rest)) = path.split_first() else {
        return Ok(());
    };
    if !rest.is_empty() {
        if out.get(name).is_none() {
            out.set(name, Document::new());
        }
        if let Some(inner) = out.get_mut(name) {
            add_within(inner, rest, e, document, variables)?;
        }
        return Ok(());
    }
    if let Datum::Object(nested) = e
        && !nested
            .fields
            .first()
            .is_some_and(|(n, _)| n.starts_with('$'))
        && !nested.is_empty()
    {
        for (inner, e) in &nested.fields {
            let path = [*name, inner.as_str()];
            add_at(out, &path, e, document, variables)?;
        }
        return Ok(());
    }
    match evaluate(e, document, variables)? {
        Some(value) => out.set(name, value),
        None => {
            out.remove(name);
        }
    }
    Ok(())
}

fn add_within(
    inner: &mut Datum,
    path: &[&str],
    e: &Datum,
    document: &Document,
    variables: &Variables,
) -> Result<()> {
    match inner {
        Datum::Object(o) => add_at(o, path, e, document, variables),
        Datum::List(list) => list
            .iter_mut()
            .try_for_each(|v| add_within(v, path, e, document, variables)),
        other => {
            let mut o = Document::new();
            add_at(&mut o, path, e, document, variables)?;
            *other = o.into();
            Ok(())
        }
    }
}

/// Takes the field at a path out, through lists in each element.
pub(super) fn take_out(document: &mut Document, path: &[&str]) {
    let Some((name, rest)) = path.split_first() else {
        return;
    };
    if rest.is_empty() {
        document.remove(name);
    } else if let Some(value) = document.get_mut(name) {
        take_out_value(value, rest);
    }
}

fn take_out_value(value: &mut Datum, path: &[&str]) {
    match value {
        Datum::Object(inner) => take_out(inner, path),
        Datum::List(list) => list.iter_mut().for_each(|v| take_out_value(v, path)),
        _ => {}
    }
}

/// A projection: fields kept or left out, and computed ones.
pub fn project(document: &Document, fields: &Document, variables: &Variables) -> Result<Document> {
    let plain = |v: &Datum| v.is_number() || matches!(v, Datum::Boolean(_));
    let excludes = fields
        .fields
        .iter()
        .filter(|(n, _)| n != "_id")
        .any(|(_, v)| plain(v) && !truth(Some(v)));
    let only_id = fields
        .fields
        .iter()
        .all(|(n, v)| n == "_id" && plain(v) && !truth(Some(v)));
    if let Some((path, _)) = fields
        .fields
        .iter()
        .find(|(n, v)| excludes && n != "_id" && plain(v) && truth(Some(v)))
    {
        return Err(bad(
            31254,
            format!("Cannot do inclusion on field {path} in exclusion projection"),
        ));
    }
    if excludes || only_id {
        let mut out = document.clone();
        for (path, value) in &fields.fields {
            if plain(value) && !truth(Some(value)) {
                let parts: Vec<&str> = path.split('.').collect();
                take_out(&mut out, &parts);
            }
        }
        return Ok(out);
    }
    let mut out = Document::new();
    let with_id = fields.get("_id").is_none_or(|v| truth(Some(v)));
    let mut kept: Vec<Vec<&str>> = Vec::new();
    for (path, value) in &fields.fields {
        if plain(value) && truth(Some(value)) {
            kept.push(path.split('.').collect());
        } else if let Datum::Object(o) = value
            && o.fields.first().is_some_and(|(n, v)| {
                n == "$slice" && of_the_path(v) || n == "$elemMatch" || n == "$meta"
            })
        {
            kept.push(path.split('.').collect());
        }
    }
    for (name, value) in &document.fields {
        if name == "_id" {
            if with_id {
                out.fields.push((name.clone(), value.clone()));
            }
            continue;
        }
        let within: Vec<&[&str]> = kept
            .iter()
            .filter(|p| p[0] == name)
            .map(|p| &p[1..])
            .collect();
        if within.is_empty() {
            continue;
        }
        if let Some(value) = keep(value, &within) {
            out.fields.push((name.clone(), value));
        }
    }
    for (path, e) in &fields.fields {
        if plain(e) || path == "_id" && plain(e) {
            continue;
        }
        if let Datum::Object(o) = e {
            match o.fields.first().map(|(n, v)| (n.as_str(), v)) {
                Some(("$slice", n)) if of_the_path(n) => {
                    slice_at(&mut out, path, n, document, variables)?;
                    continue;
                }
                Some(("$elemMatch", inner)) => {
                    first_match_at(&mut out, path, inner, variables)?;
                    continue;
                }
                Some(("$meta", _)) => continue,
                _ => {}
            }
        }
        let parts: Vec<&str> = path.split('.').collect();
        add_at(&mut out, &parts, e, document, variables)?;
    }
    Ok(out)
}

/// Keeps a part of the list at a path.
fn slice_at(
    out: &mut Document,
    path: &str,
    n: &Datum,
    document: &Document,
    variables: &Variables,
) -> Result<()> {
    if let Some(list) = out.get(path).cloned() {
        let call = Document::new().with(
            "$slice",
            match n {
                Datum::List(both) => Datum::List(
                    [
                        vec![Document::new().with("$literal", list).into()],
                        both.clone(),
                    ]
                    .concat(),
                ),
                n => Datum::List(vec![
                    Document::new().with("$literal", list).into(),
                    n.clone(),
                ]),
            },
        );
        if let Some(value) = evaluate(&call.into(), document, variables)? {
            out.set(path, value);
        }
    }
    Ok(())
}

/// Keeps of the list at a path the first element that fits.
fn first_match_at(
    out: &mut Document,
    path: &str,
    inner: &Datum,
    variables: &Variables,
) -> Result<()> {
    let filter =
        Filter::new(&Document::new().with("v", Document::new().with("$elemMatch", inner.clone())))?;
    let list = out
        .get(path)
        .and_then(Datum::as_list)
        .unwrap_or_default()
        .to_vec();
    let mut first = None;
    for element in list {
        let alone = Document::new().with("v", Datum::List(vec![element.clone()]));
        if first.is_none() && filter.matches(&alone, variables)? {
            first = Some(element);
        }
    }
    match first {
        Some(element) => out.set(path, Datum::List(vec![element])),
        None => {
            out.remove(path);
        }
    }
    Ok(())
}

fn keep(value: &Datum, paths: &[&[&str]]) -> Option<Datum> {
    if paths.iter().any(|p| p.is_empty()) {
        return Some(value.clone());
    }
    match value {
        Datum::Object(inner) => {
            let mut out = Document::new();
            for (name, value) in &inner.fields {
                let within: Vec<&[&str]> = paths
                    .iter()
                    .filter(|p| p[0] == name)
                    .map(|p| &p[1..])
                    .collect();
                if !within.is_empty()
                    && let Some(value) = keep(value, &within)
                {
                    out.fields.push((name.clone(), value));
                }
            }
            Some(out.into())
        }
        Datum::List(list) => Some(Datum::List(
            list.iter().filter_map(|v| keep(v, paths)).collect(),
        )),
        _ => None,
    }
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

/// Whether a `$slice` is one of numbers, which cuts the list at its own path, and not an expression.
fn of_the_path(slice: &Datum) -> bool {
    match slice {
        Datum::List(list) => list.iter().all(|n| n.as_i64().is_some()),
        one => one.as_i64().is_some(),
    }
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

fn group(spec: &Document, documents: &[Document], variables: &Variables) -> Result<Vec<Document>> {
    let id = spec
        .get("_id")
        .ok_or_else(|| bad(15955, "a group specification must include an _id"))?;
    let mut places: HashMap<Key, usize> = HashMap::new();
    let mut groups: Vec<(Datum, Vec<usize>)> = Vec::new();
    for (at, document) in documents.iter().enumerate() {
        variables.check()?;
        let key = evaluate(id, document, variables)?.unwrap_or(Datum::Null);
        let place = *places.entry(Key(key.clone())).or_insert_with(|| {
            groups.push((key, Vec::new()));
            groups.len() - 1
        });
        groups[place].1.push(at);
    }
    groups
        .into_iter()
        .map(|(key, members)| {
            let mut out = Document::new().with("_id", key);
            for (name, accumulator) in spec.fields.iter().filter(|(n, _)| n != "_id") {
                let members = members.iter().map(|at| &documents[*at]);
                out.set(name, accumulate(accumulator, members, variables)?);
            }
            Ok(out)
        })
        .collect()
}

fn accumulate<'a>(
    accumulator: &Datum,
    members: impl Iterator<Item = &'a Document>,
    variables: &Variables,
) -> Result<Datum> {
    let spec = accumulator
        .as_object()
        .filter(|o| o.len() == 1)
        .ok_or_else(|| bad(40234, "The field must be an accumulator object"))?;
    let (name, e) = &spec.fields[0];
    let mut values = Vec::new();
    let e = if name == "$percentile" || name == "$median" {
        e.as_object()
            .and_then(|o| o.get("input"))
            .unwrap_or(&Datum::Null)
    } else {
        e
    };
    for document in members {
        if name == "$count" {
            values.push(None);
        } else {
            values.push(evaluate(e, document, variables)?);
        }
    }
    let present = values.iter().flatten();
    Ok(match name.as_str() {
        "$count" => Datum::integer(values.len() as i64),
        "$sum" | "$avg" => {
            let mut sum = Sum::default();
            present.for_each(|v| sum.add(v));
            if name == "$sum" {
                total(&sum)
            } else {
                sum.mean().unwrap_or(Datum::Null)
            }
        }
        "$min" => present
            .filter(|v| !v.is_null())
            .reduce(|a, b| if order(b, a).is_lt() { b } else { a })
            .cloned()
            .unwrap_or(Datum::Null),
        "$max" => present
            .filter(|v| !v.is_null())
            .reduce(|a, b| if order(b, a).is_gt() { b } else { a })
            .cloned()
            .unwrap_or(Datum::Null),
        "$first" => values.first().cloned().flatten().unwrap_or(Datum::Null),
        "$last" => values.last().cloned().flatten().unwrap_or(Datum::Null),
        "$push" => Datum::List(present.cloned().collect()),
        "$addToSet" => {
            let mut seen = std::collections::HashSet::new();
            Datum::List(
                present
                    .filter(|v| seen.insert(Key((*v).clone())))
                    .cloned()
                    .collect(),
            )
        }
        "$stdDevSamp" | "$stdDevPop" => {
            let mut deviation = Deviation::default();
            present.for_each(|v| deviation.add(v));
            let found = if name == "$stdDevPop" {
                deviation.population()
            } else {
                deviation.sample()
            };
            found.map_or(Datum::Null, Datum::Double)
        }
        "$percentile" | "$median" => {
            let mut numbers: Vec<f64> = present.filter_map(Datum::as_f64).collect();
            numbers.sort_by(f64::total_cmp);
            let at = |share: f64| {
                convert::percentile(&numbers, share).map_or(Datum::Null, Datum::Double)
            };
            if name == "$median" {
                at(0.5)
            } else {
                let shares = spec.fields[0]
                    .1
                    .as_object()
                    .and_then(|o| o.get("p"))
                    .and_then(Datum::as_list)
                    .unwrap_or_default();
                Datum::List(
                    shares
                        .iter()
                        .map(|p| at(p.as_f64().unwrap_or(0.5)))
                        .collect(),
                )
            }
        }
        "$mergeObjects" => {
            let mut out = Document::new();
            for value in present.filter_map(Datum::as_object) {
                value.fields.iter().for_each(|(n, v)| out.set(n, v.clone()));
            }
            out.into()
        }
        other => return Err(bad(15952, format!("unknown group operator '{other}'"))),
    })
}

fn lookup(
    spec: &Document,
    documents: Vec<Document>,
    collections: &dyn Collections,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let text = |name: &str| spec.get(name).and_then(Datum::as_text);
    let name = text("as").ok_or_else(|| bad(9, "$lookup needs 'as'"))?;
    let others = collections.documents(text("from").unwrap_or_default());
    let pipeline = spec.get("pipeline").and_then(Datum::as_list);
    // Values at the foreign field, each with the documents that have it; lists by their elements.
    let mut by: HashMap<Key, Vec<usize>> = HashMap::new();
    if let Some(foreign) = text("foreignField") {
        for (at, other) in others.iter().enumerate() {
            for value in join_values(other, foreign) {
                let list = by.entry(Key(value)).or_default();
                if list.last() != Some(&at) {
                    list.push(at);
                }
            }
        }
    }
    documents
        .into_iter()
        .map(|mut document| {
            variables.check()?;
            let mut matched: Vec<Document> = match text("localField") {
                Some(local) => {
                    let mut found: Vec<usize> = join_values(&document, local)
                        .into_iter()
                        .filter_map(|v| by.get(&Key(v)))
                        .flatten()
                        .copied()
                        .collect();
                    found.sort_unstable();
                    found.dedup();
                    found.into_iter().map(|at| others[at].clone()).collect()
                }
                None => others.clone(),
            };
            if let Some(pipeline) = pipeline {
                let mut scope = variables.clone();
                for (variable, e) in &spec
                    .get("let")
                    .and_then(Datum::as_object)
                    .cloned()
                    .unwrap_or_default()
                    .fields
                {
                    scope = scope.with(variable, evaluate(e, &document, variables)?);
                }
                matched = run(pipeline, matched, collections, &scope)?.0;
            }
            document.set(
                name,
                Datum::List(matched.into_iter().map(Datum::Object).collect()),
            );
            Ok(document)
        })
        .collect()
}

/// The values that a join goes by: what is there, and the elements of lists; null for what is not there.
fn join_values(document: &Document, path: &str) -> Vec<Datum> {
    fn walk(value: Option<&Datum>, rest: &[&str], out: &mut Vec<Datum>) {
        match (rest.split_first(), value) {
            (None, Some(Datum::List(list))) => {
                out.extend(list.iter().cloned());
                out.push(Datum::List(list.clone()));
            }
            (None, Some(Datum::Undefined) | None) => out.push(Datum::Null),
            (None, Some(value)) => out.push(value.clone()),
            (Some((name, more)), Some(Datum::Object(inner))) => walk(inner.get(name), more, out),
            (Some((name, more)), Some(Datum::List(list))) => {
                for element in list {
                    if let Datum::Object(inner) = element {
                        walk(inner.get(name), more, out);
                    }
                }
            }
            (Some(_), _) => out.push(Datum::Null),
        }
    }
    let mut parts = path.split('.');
    let first = parts.next().unwrap_or_default();
    let rest: Vec<&str> = parts.collect();
    let mut out = Vec::new();
    walk(document.get(first), &rest, &mut out);
    out
}

fn bucket_auto(
    spec: &Document,
    documents: Vec<Document>,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let by = spec.get("groupBy").ok_or_else(|| {
        bad(
            40246,
            "$bucketAuto requires 'groupBy' and 'buckets' to be specified",
        )
    })?;
    let wanted = spec
        .get("buckets")
        .and_then(Datum::as_i64)
        .filter(|n| *n > 0)
        .ok_or_else(|| {
            bad(
                40243,
                "The $bucketAuto 'buckets' field must be greater than 0",
            )
        })?;
    let mut held = documents
        .into_iter()
        .map(|d| Ok((evaluate(by, &d, variables)?.unwrap_or(Datum::Null), d)))
        .collect::<Result<Vec<_>>>()?;
    held.sort_by(|a, b| order(&a.0, &b.0));
    let equal = |at: usize| {
        held.get(at + 1)
            .is_some_and(|next| order(&held[at].0, &next.0).is_eq())
    };
    let sizes = convert::bands(&equal, held.len(), wanted as usize);
    let usual = Document::new().with("count", Document::new().with("$sum", 1));
    let output = spec
        .get("output")
        .and_then(Datum::as_object)
        .unwrap_or(&usual);
    let mut start = 0;
    let mut out = Vec::new();
    for size in sizes {
        let band = &held[start..start + size];
        let max = held
            .get(start + size)
            .map_or_else(|| band[size - 1].0.clone(), |next| next.0.clone());
        let id = Document::new()
            .with("min", band[0].0.clone())
            .with("max", max);
        let mut document = Document::new().with("_id", id);
        for (name, accumulator) in &output.fields {
            document.set(
                name,
                accumulate(accumulator, band.iter().map(|(_, d)| d), variables)?,
            );
        }
        out.push(document);
        start += size;
    }
    Ok(out)
}

fn bucket(spec: &Document, documents: &[Document], variables: &Variables) -> Result<Vec<Document>> {
    let by = spec.get("groupBy").ok_or_else(|| {
        bad(
            40198,
            "$bucket requires 'groupBy' and 'boundaries' to be specified",
        )
    })?;
    let limits = spec
        .get("boundaries")
        .and_then(Datum::as_list)
        .filter(|l| l.len() > 1)
        .ok_or_else(|| {
            bad(
                40192,
                "The $bucket 'boundaries' field must have at least 2 values",
            )
        })?;
    let usual = Document::new().with("count", Document::new().with("$sum", 1));
    let output = spec
        .get("output")
        .and_then(Datum::as_object)
        .unwrap_or(&usual);
    let mut members: Vec<Vec<&Document>> = vec![Vec::new(); limits.len()];
    for document in documents {
        let value = evaluate(by, document, variables)?.unwrap_or(Datum::Null);
        let place = limits
            .windows(2)
            .position(|pair| order(&value, &pair[0]).is_ge() && order(&value, &pair[1]).is_lt());
        match (place, spec.get("default")) {
            (Some(place), _) => members[place].push(document),
            (None, Some(_)) => members[limits.len() - 1].push(document),
            (None, None) => {
                return Err(bad(
                    40066,
                    "$switch could not find a matching branch for an input, and no default was specified.",
                ));
            }
        }
    }
    let mut out = Vec::new();
    for (at, band) in members
        .into_iter()
        .enumerate()
        .filter(|(_, band)| !band.is_empty())
    {
        let id = if at + 1 < limits.len() {
            limits[at].clone()
        } else {
            spec.get("default").cloned().unwrap_or(Datum::Null)
        };
        let mut document = Document::new().with("_id", id);
        for (name, accumulator) in &output.fields {
            document.set(
                name,
                accumulate(accumulator, band.iter().copied(), variables)?,
            );
        }
        out.push(document);
    }
    Ok(out)
}
