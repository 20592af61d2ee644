//! Documents of other collections: `$lookup`, `$graphLookup`, `$unionWith`.

use super::*;

pub(super) fn lookup(
    spec: &Document,
    documents: Vec<Document>,
    collections: &dyn Collections,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let text = |name: &str| spec.get(name).and_then(Datum::as_text);
    let name = text("as").ok_or_else(|| bad(9, "$lookup needs 'as'"))?;
    let others = collections.documents(text("from").unwrap_or_default())?;
    let pipeline = spec.get("pipeline").and_then(Datum::as_list);
    // Values at the foreign field, each with the documents that have it; lists by their elements.
    let mut by: HashMap<Key, Vec<usize>> = HashMap::new();
    if let Some(foreign) = text("foreignField") {
        for (at, other) in others.iter().enumerate() {
            for value in join_values(other, foreign) {
                let list = by
                    .entry(Key(variables.folded(&value).into_owned()))
                    .or_default();
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
                        .filter_map(|v| by.get(&Key(variables.folded(&v).into_owned())))
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

/// `$graphLookup`: what can be reached, each document once, with the number of steps where it is asked for.
pub(super) fn graph_lookup(
    spec: &Document,
    documents: Vec<Document>,
    collections: &dyn Collections,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let text = |name: &str| {
        spec.get(name).and_then(Datum::as_text).ok_or_else(|| {
            bad(
                40105,
                format!("$graphLookup requires '{name}' to be specified as a string"),
            )
        })
    };
    let (from, to, name) = (
        text("connectFromField")?,
        text("connectToField")?,
        text("as")?,
    );
    let mut others = collections.documents(text("from")?)?;
    let start = spec
        .get("startWith")
        .ok_or_else(|| bad(40105, "$graphLookup requires 'startWith'"))?;
    let deepest = match spec.get("maxDepth") {
        None => usize::MAX,
        Some(most) => count("maxDepth", most, 0)?,
    };
    if let Some(restriction) = spec.get("restrictSearchWithMatch") {
        others = matched(restriction, others, variables)?;
    }
    let mut by: HashMap<Key, Vec<usize>> = HashMap::new();
    for (at, other) in others.iter().enumerate() {
        for value in join_values(other, to) {
            by.entry(Key(variables.folded(&value).into_owned()))
                .or_default()
                .push(at);
        }
    }
    let mut out = Vec::new();
    for mut document in documents {
        let mut edge = match evaluate(start, &document, variables)? {
            Some(Datum::List(list)) => list,
            value => vec![value.unwrap_or(Datum::Null)],
        };
        let mut found: Vec<Option<usize>> = vec![None; others.len()];
        let mut reached = Vec::new();
        let mut depth = 0;
        while !edge.is_empty() && depth <= deepest {
            let mut next = Vec::new();
            for value in edge {
                variables.check()?;
                for at in by
                    .get(&Key(variables.folded(&value).into_owned()))
                    .into_iter()
                    .flatten()
                {
                    if found[*at].is_none() {
                        found[*at] = Some(depth);
                        reached.push(*at);
                        next.extend(
                            join_values(&others[*at], from)
                                .into_iter()
                                .filter(|v| !matches!(v, Datum::List(_))),
                        );
                    }
                }
            }
            edge = next;
            depth += 1;
        }
        let reached = reached.into_iter().map(|at| {
            let mut other = others[at].clone();
            if let (Some(field), Some(depth)) =
                (spec.get("depthField").and_then(Datum::as_text), found[at])
            {
                other.set(field, Datum::Long(depth as i64));
            }
            Datum::Object(other)
        });
        document.set(name, Datum::List(reached.collect()));
        out.push(document);
    }
    Ok(out)
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

pub(super) fn union_with(
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
            collections.documents(&other)?,
            collections,
            variables,
        )?
        .0,
    );
    Ok(documents)
}
