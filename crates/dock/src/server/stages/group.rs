//! Groups and what is accumulated over them: `$group`, `$bucket`, `$bucketAuto`.

use super::*;
use crate::server::expression::lists;

pub(super) fn group(
    spec: &Document,
    documents: &[Document],
    variables: &Variables,
) -> Result<Vec<Document>> {
    let id = spec
        .get("_id")
        .ok_or_else(|| bad(15955, "a group specification must include an _id"))?;
    let mut places: HashMap<Key, usize> = HashMap::new();
    let mut groups: Vec<(Datum, Vec<usize>)> = Vec::new();
    for (at, document) in documents.iter().enumerate() {
        variables.check()?;
        let key = evaluate(id, document, variables)?.unwrap_or(Datum::Null);
        let place = *places
            .entry(Key(variables.folded(&key).into_owned()))
            .or_insert_with(|| {
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

pub(super) fn accumulate<'a>(
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
    if matches!(name.as_str(), "$top" | "$bottom" | "$topN" | "$bottomN") {
        return outermost(name, e, members.collect(), variables);
    }
    let many = matches!(name.as_str(), "$firstN" | "$lastN" | "$minN" | "$maxN");
    let e = if many || name == "$percentile" || name == "$median" {
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
            .reduce(|a, b| if variables.order(b, a).is_lt() { b } else { a })
            .cloned()
            .unwrap_or(Datum::Null),
        "$max" => present
            .filter(|v| !v.is_null())
            .reduce(|a, b| if variables.order(b, a).is_gt() { b } else { a })
            .cloned()
            .unwrap_or(Datum::Null),
        "$first" => values.first().cloned().flatten().unwrap_or(Datum::Null),
        "$last" => values.last().cloned().flatten().unwrap_or(Datum::Null),
        "$push" => Datum::List(present.cloned().collect()),
        "$addToSet" => {
            let mut seen = std::collections::HashSet::new();
            Datum::List(
                present
                    .filter(|v| seen.insert(Key(variables.folded(v).into_owned())))
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
        "$firstN" | "$lastN" | "$minN" | "$maxN" => {
            let count = so_many(&spec.fields[0].1, variables)?;
            let values = values
                .into_iter()
                .map(|v| v.unwrap_or(Datum::Null))
                .collect();
            Datum::List(lists::taken(name, values, count, variables))
        }
        "$accumulator" => {
            return Err(bad(
                15952,
                "$accumulator: the practice server runs no JavaScript",
            ));
        }
        other => return Err(bad(15952, format!("unknown group operator '{other}'"))),
    })
}

/// The `n` of an accumulator.
fn so_many(argument: &Datum, variables: &Variables) -> Result<usize> {
    let n = argument
        .as_object()
        .and_then(|o| o.get("n"))
        .unwrap_or(&Datum::Null);
    evaluate(n, &Document::new(), variables)?
        .and_then(|n| n.as_i64())
        .and_then(|n| usize::try_from(n).ok())
        .filter(|n| *n > 0)
        .ok_or_else(|| bad(5_787_908, "'n' must be greater than 0"))
}

/// `$top`, `$bottom`, `$topN`, `$bottomN`: what the documents at one end of an order give.
fn outermost(
    name: &str,
    argument: &Datum,
    mut members: Vec<&Document>,
    variables: &Variables,
) -> Result<Datum> {
    let spec = object(name, argument)?;
    let keys = spec.get("sortBy").and_then(Datum::as_object);
    let (Some(keys), Some(output)) = (keys, spec.get("output")) else {
        return Err(bad(
            5_788_005,
            format!("{name} needs 'sortBy' and 'output'"),
        ));
    };
    members.sort_by(|a, b| compare_by(keys, a, b, variables));
    let one = matches!(name, "$top" | "$bottom");
    let count = if one {
        1
    } else {
        so_many(argument, variables)?
    };
    if name.starts_with("$bottom") {
        members.drain(..members.len().saturating_sub(count));
    }
    members.truncate(count);
    let mut found = Vec::new();
    for document in members {
        found.push(evaluate(output, document, variables)?.unwrap_or(Datum::Null));
    }
    Ok(if one {
        found.pop().unwrap_or(Datum::Null)
    } else {
        Datum::List(found)
    })
}

pub(super) fn bucket_auto(
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
    held.sort_by(|a, b| variables.order(&a.0, &b.0));
    let equal = |at: usize| {
        held.get(at + 1)
            .is_some_and(|next| variables.order(&held[at].0, &next.0).is_eq())
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

pub(super) fn bucket(
    spec: &Document,
    documents: &[Document],
    variables: &Variables,
) -> Result<Vec<Document>> {
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
        let place = limits.windows(2).position(|pair| {
            variables.order(&value, &pair[0]).is_ge() && variables.order(&value, &pair[1]).is_lt()
        });
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
