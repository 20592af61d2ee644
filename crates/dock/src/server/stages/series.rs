//! Gaps in series: `$densify` adds the documents that are missing, `$fill` the values.

use super::*;
use crate::server::expression::dates;

/// A place in a series: a number, or a moment.
#[derive(Clone, Copy)]
enum Step {
    Number(f64, bool),
    Time(i64),
}

/// The documents by the values at some paths, in the order of these.
pub(super) fn partitions(
    by: &dyn Fn(&Document) -> Result<Datum>,
    documents: Vec<Document>,
    variables: &Variables,
) -> Result<Vec<(Datum, Vec<Document>)>> {
    let mut places: HashMap<Key, usize> = HashMap::new();
    let mut found: Vec<(Datum, Vec<Document>)> = Vec::new();
    for document in documents {
        variables.check()?;
        let key = by(&document)?;
        let place = *places
            .entry(Key(variables.folded(&key).into_owned()))
            .or_insert_with(|| {
                found.push((key, Vec::new()));
                found.len() - 1
            });
        found[place].1.push(document);
    }
    found.sort_by(|a, b| variables.order(&a.0, &b.0));
    Ok(found)
}

/// The values at the paths of `partitionByFields`, as an object.
fn by_fields<'a>(spec: &'a Document) -> impl Fn(&Document) -> Result<Datum> + 'a {
    |document| {
        let fields = spec
            .get("partitionByFields")
            .and_then(Datum::as_list)
            .unwrap_or_default();
        let mut key = Document::new();
        for path in fields.iter().filter_map(Datum::as_text) {
            if let Some(value) = at_path(document, path) {
                key.fields.push((path.into(), value));
            }
        }
        Ok(key.into())
    }
}

/// At most so many documents are added.
const MOST_ADDED: usize = 500_000;

/// `$densify`.
pub(super) fn densify(
    spec: &Document,
    documents: Vec<Document>,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let path = spec
        .get("field")
        .and_then(Datum::as_text)
        .ok_or_else(|| bad(40414, "$densify needs a 'field'"))?;
    let range = spec
        .get("range")
        .and_then(Datum::as_object)
        .ok_or_else(|| bad(40414, "$densify needs a 'range'"))?;
    let step = range
        .get("step")
        .and_then(Datum::as_f64)
        .filter(|s| *s > 0.0)
        .ok_or_else(|| bad(5_733_401, "the step of $densify must be positive"))?;
    let unit = range.get("unit").and_then(Datum::as_text);
    let place = |value: &Datum| match (value, unit) {
        (Datum::Date(ms), Some(_)) => Ok(Step::Time(*ms)),
        (number, None) if number.is_number() => Ok(Step::Number(
            number.as_f64().unwrap_or(0.0),
            matches!(number, Datum::Double(_) | Datum::Decimal(_)) || step.fract() != 0.0,
        )),
        _ => Err(bad(
            5_733_201,
            "$densify needs numbers without a unit, or dates with one",
        )),
    };
    // So many steps after a place.
    let after = |start: Step, count: i64| -> Result<Datum> {
        Ok(match start {
            Step::Number(x, real) => {
                let x = x + step * count as f64;
                if real {
                    Datum::Double(x)
                } else {
                    Datum::integer(x as i64)
                }
            }
            Step::Time(ms) => Datum::Date(
                dates::shifted(
                    ms,
                    unit.unwrap_or_default(),
                    (step as i64).saturating_mul(count),
                )
                .ok_or_else(|| bad(2, "a date of $densify is out of the calendar"))?,
            ),
        })
    };
    let value_of = |document: &Document| at_path(document, path).filter(|v| !v.is_null());
    let (present, absent): (Vec<_>, Vec<_>) =
        documents.into_iter().partition(|d| value_of(d).is_some());
    let ends = |documents: &[Document]| {
        let values = || documents.iter().filter_map(value_of);
        let least = values().reduce(|a, b| {
            if variables.order(&b, &a).is_lt() {
                b
            } else {
                a
            }
        });
        let most = values().reduce(|a, b| {
            if variables.order(&b, &a).is_gt() {
                b
            } else {
                a
            }
        });
        least.zip(most)
    };
    let all = ends(&present);
    let mut added = 0;
    let mut out = absent;
    for (key, members) in partitions(&by_fields(spec), present, variables)? {
        let (least, most) = match range.get("bounds") {
            Some(Datum::List(both)) if both.len() == 2 => (both[0].clone(), both[1].clone()),
            Some(Datum::Text(word)) if &**word == "partition" => match ends(&members) {
                Some(both) => both,
                None => continue,
            },
            Some(Datum::Text(word)) if &**word == "full" => match &all {
                Some(both) => both.clone(),
                None => continue,
            },
            _ => {
                return Err(bad(
                    5_946_802,
                    "the bounds of $densify are 'full', 'partition' or two values",
                ));
            }
        };
        let known: std::collections::HashSet<Key> =
            members.iter().filter_map(value_of).map(Key).collect();
        let start = place(&least)?;
        let mut dense = members;
        for count in 0.. {
            let value = after(start, count)?;
            if !variables.order(&value, &most).is_lt() {
                break;
            }
            if known.contains(&Key(value.clone())) {
                continue;
            }
            added += 1;
            if added > MOST_ADDED {
                return Err(bad(
                    5_897_900,
                    format!("$densify would add more than {MOST_ADDED} documents"),
                ));
            }
            let mut new = Document::new();
            for (path, value) in key.as_object().map(|k| &k.fields).into_iter().flatten() {
                set_at(&mut new, path, value.clone(), variables)?;
            }
            set_at(&mut new, path, value, variables)?;
            dense.push(new);
        }
        let order = Document::new().with(path, 1);
        dense.sort_by(|a, b| compare_by(&order, a, b, variables));
        out.extend(dense);
    }
    Ok(out)
}

/// Puts a value at a dotted path.
pub(super) fn set_at(
    document: &mut Document,
    path: &str,
    value: Datum,
    variables: &Variables,
) -> Result<()> {
    let parts: Vec<&str> = path.split('.').collect();
    let literal = Document::new().with("$literal", value);
    project::add_at(
        document,
        &parts,
        &literal.into(),
        &Document::new(),
        variables,
    )
}

/// `$fill`: a value for what is null or not there, or what comes before, or what lies between.
pub(super) fn fill(
    spec: &Document,
    documents: Vec<Document>,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let output = spec
        .get("output")
        .and_then(Datum::as_object)
        .filter(|o| !o.is_empty())
        .ok_or_else(|| bad(40414, "$fill needs an 'output'"))?;
    let (mut values, mut windows) = (Document::new(), Document::new());
    for (path, how) in &output.fields {
        let how = object("$fill", how)?;
        let own = format!("${path}");
        match (how.get("value"), how.get("method").and_then(Datum::as_text)) {
            (Some(value), None) => {
                let either = Datum::List(vec![own.into(), value.clone()]);
                values
                    .fields
                    .push((path.clone(), Document::new().with("$ifNull", either).into()));
            }
            (None, Some("locf")) => windows.set(path, Document::new().with("$locf", own)),
            (None, Some("linear")) => windows.set(path, Document::new().with("$linearFill", own)),
            _ => {
                return Err(bad(
                    6_050_202,
                    "each output of $fill has a 'value', or a 'method' that is linear or locf",
                ));
            }
        }
    }
    let mut documents = documents;
    if !windows.is_empty() {
        let by = match spec.get("partitionBy") {
            Some(e) => e.clone(),
            None => {
                let fields = spec
                    .get("partitionByFields")
                    .and_then(Datum::as_list)
                    .unwrap_or_default();
                let named = fields
                    .iter()
                    .filter_map(Datum::as_text)
                    .map(|path| Datum::from(format!("${path}")));
                Datum::List(named.collect())
            }
        };
        let mut whole = Document::new()
            .with("partitionBy", by)
            .with("output", windows);
        if let Some(keys) = spec.get("sortBy") {
            whole.set("sortBy", keys.clone());
        }
        documents = set_window_fields(&whole, documents, variables)?;
    }
    documents
        .into_iter()
        .map(|d| add_fields(d, &values, variables))
        .collect()
}
