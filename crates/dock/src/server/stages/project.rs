//! Fields kept, left out and added: `$project`, `$addFields`, `$unset`.

use std::borrow::Cow;

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

/// The fields of a projection by their paths: an object of plain names stands for what is within the field.
fn by_paths(fields: &Document) -> Result<Cow<'_, Document>> {
    let nested = |value: &Datum| match value {
        Datum::Object(o) => o.fields.first().is_none_or(|(n, _)| !n.starts_with('$')),
        _ => false,
    };
    if !fields.fields.iter().any(|(_, value)| nested(value)) {
        return Ok(Cow::Borrowed(fields));
    }
    let mut out = Document::new();
    for (path, value) in &fields.fields {
        match value {
            Datum::Object(o) if o.is_empty() => {
                return Err(bad(
                    51270,
                    "An empty sub-projection is not a valid value. Found empty object at path",
                ));
            }
            Datum::Object(o) if nested(value) => {
                for (name, value) in by_paths(o)?.fields.iter() {
                    out.fields
                        .push((format!("{path}.{name}").into(), value.clone()));
                }
            }
            value => out.fields.push((path.clone(), value.clone())),
        }
    }
    Ok(Cow::Owned(out))
}

/// A projection: fields kept or left out, and computed ones.
pub fn project(document: &Document, fields: &Document, variables: &Variables) -> Result<Document> {
    let fields = &*by_paths(fields)?;
    let plain = |v: &Datum| v.is_number() || matches!(v, Datum::Boolean(_));
    let excludes = fields
        .fields
        .iter()
        .filter(|(n, _)| n != "_id")
        .any(|(_, v)| plain(v) && !truth(Some(v)));
    // A list that is cut leaves the other fields where nothing is said to be kept.
    let only_out = fields
        .fields
        .iter()
        .all(|(n, v)| n == "_id" && plain(v) && !truth(Some(v)) || cut(v).is_some());
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
    if excludes || only_out {
        let mut out = document.clone();
        for (path, value) in &fields.fields {
            let parts: Vec<&str> = path.split('.').collect();
            if plain(value) && !truth(Some(value)) {
                take_out(&mut out, &parts);
            } else if let Some(n) = cut(value) {
                slice_at(&mut out, &parts, n, variables)?;
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
            && o.fields
                .first()
                .is_some_and(|(n, _)| cut(value).is_some() || n == "$elemMatch" || n == "$meta")
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
        if let Some(n) = cut(e) {
            let parts: Vec<&str> = path.split('.').collect();
            slice_at(&mut out, &parts, n, variables)?;
            continue;
        }
        if let Datum::Object(o) = e {
            match o.fields.first().map(|(n, v)| (n.as_str(), v)) {
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

/// Keeps a part of the lists at a path.
fn slice_at(out: &mut Document, path: &[&str], n: &Datum, variables: &Variables) -> Result<()> {
    let Some((first, rest)) = path.split_first() else {
        return Ok(());
    };
    let Some(value) = out.get_mut(first) else {
        return Ok(());
    };
    match value {
        Datum::List(list) if rest.is_empty() => {
            let whole = Document::new().with("$literal", Datum::List(std::mem::take(list)));
            let mut arguments = vec![Datum::from(whole)];
            match n {
                Datum::List(both) => arguments.extend(both.iter().cloned()),
                n => arguments.push(n.clone()),
            }
            let call = Document::new().with("$slice", Datum::List(arguments));
            let part = evaluate(&call.into(), &Document::new(), variables)?;
            *value = part.unwrap_or(Datum::Null);
        }
        Datum::Object(inner) => slice_at(inner, rest, n, variables)?,
        Datum::List(list) => {
            for element in list {
                if let Datum::Object(inner) = element {
                    slice_at(inner, rest, n, variables)?;
                }
            }
        }
        _ => {}
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

/// The numbers of a `$slice` that cuts the list at its own path; none of one that is an expression.
fn cut(projection: &Datum) -> Option<&Datum> {
    let (name, n) = projection.as_object()?.fields.first()?;
    let numbers = match n {
        Datum::List(list) => list.iter().all(|n| n.as_i64().is_some()),
        one => one.as_i64().is_some(),
    };
    (name == "$slice" && numbers).then_some(n)
}
