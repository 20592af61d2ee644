//! Fields kept, left out and added: `$project`, `$addFields`, `$unset`.

use super::*;

/// Adds computed fields; an object of plain names goes into the object that is there.
pub(in crate::server) fn add_fields(
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

pub(super) fn add_at(
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
pub(in crate::server) fn take_out(document: &mut Document, path: &[&str]) {
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

/// Whether a `$slice` is one of numbers, which cuts the list at its own path, and not an expression.
fn of_the_path(slice: &Datum) -> bool {
    match slice {
        Datum::List(list) => list.iter().all(|n| n.as_i64().is_some()),
        one => one.as_i64().is_some(),
    }
}
