//! Updates (public reference of update operators): operators, replacement, pipelines, array filters, upserts.

use idle_tide_core::document::compare::order;
use idle_tide_core::document::number::{self, Operation};
use idle_tide_core::document::{Datum, Document};

use super::Failed;
use super::expression::Variables;
use super::query::Filter;
use super::stages;

type Result<T> = std::result::Result<T, Failed>;

/// An update, prepared.
pub enum Update {
    /// Operators, with the filters for elements by name.
    Operators(Document, Vec<(String, Filter)>),
    /// Everything but the identifier is replaced.
    Replace(Document),
    /// A pipeline.
    Pipeline(Vec<Datum>),
}

fn bad(code: i32, words: impl Into<String>) -> Failed {
    Failed::new(code, words)
}

/// Fails if two operators change the same path, or one within the other's.
fn conflicts(operators: &Document) -> Result<()> {
    let mut paths: Vec<&str> = Vec::new();
    for (operator, fields) in &operators.fields {
        let Some(fields) = fields.as_object() else {
            continue;
        };
        for (path, value) in &fields.fields {
            paths.push(path);
            if operator == "$rename" {
                paths.extend(value.as_text());
            }
        }
    }
    paths.sort_unstable();
    for (at, path) in paths.iter().enumerate() {
        let within = |other: &&&str| {
            other
                .strip_prefix(*path)
                .is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
        };
        if let Some(other) = paths[at + 1..].iter().find(within) {
            return Err(bad(
                40,
                format!("Updating the path '{other}' would create a conflict at '{path}'"),
            ));
        }
    }
    Ok(())
}

impl Update {
    /// Prepares an update.
    ///
    /// # Errors
    /// If it mixes operators and fields, or an operator is none.
    pub fn new(update: &Datum, filters: &[Datum]) -> Result<Self> {
        match update {
            Datum::List(stages) => Ok(Update::Pipeline(stages.clone())),
            Datum::Object(document) => {
                let operators = document
                    .fields
                    .iter()
                    .filter(|(n, _)| n.starts_with('$'))
                    .count();
                if operators == 0 {
                    return Ok(Update::Replace(document.clone()));
                }
                if operators != document.len() {
                    return Err(bad(
                        9,
                        "the update operation document must contain atomic operators or none",
                    ));
                }
                conflicts(document)?;
                let mut named = Vec::new();
                for filter in filters.iter().filter_map(Datum::as_object) {
                    let name = filter
                        .fields
                        .first()
                        .map(|(n, _)| n.split('.').next().unwrap_or_default().to_string())
                        .unwrap_or_default();
                    named.push((name, Filter::new(filter)?));
                }
                Ok(Update::Operators(document.clone(), named))
            }
            _ => Err(bad(9, "an update is an object or an array")),
        }
    }

    /// The document after the update. `matched` is the position of the element that the query matched (for `$`), `inserting` whether it is made
    /// anew.
    ///
    /// # Errors
    /// With the documented codes.
    pub fn apply(
        &self,
        document: &Document,
        query: &Filter,
        inserting: bool,
        variables: &Variables,
    ) -> Result<Document> {
        let mut out = document.clone();
        match self {
            Update::Replace(new) => {
                let id = document.get("_id").or_else(|| new.get("_id")).cloned();
                out = new.clone();
                if let Some(id) = id {
                    out.remove("_id");
                    out.fields.insert(0, ("_id".into(), id));
                }
            }
            Update::Pipeline(pipeline) => {
                struct Nowhere;
                impl stages::Collections for Nowhere {
                    fn documents(&self, _: &str) -> Result<Vec<Document>> {
                        Ok(Vec::new())
                    }
                }
                for stage in pipeline
                    .iter()
                    .filter_map(Datum::as_object)
                    .flat_map(|s| &s.fields)
                {
                    if !matches!(
                        stage.0.as_str(),
                        "$set"
                            | "$addFields"
                            | "$unset"
                            | "$project"
                            | "$replaceWith"
                            | "$replaceRoot"
                    ) {
                        return Err(bad(
                            72,
                            format!("{} is not allowed to be used within an update", stage.0),
                        ));
                    }
                }
                let (mut list, _) = stages::run(pipeline, vec![out], &Nowhere, variables)?;
                out = list.pop().unwrap_or_default();
                if out.get("_id").is_none()
                    && let Some(id) = document.get("_id")
                {
                    out.fields.insert(0, ("_id".into(), id.clone()));
                }
            }
            Update::Operators(operators, filters) => {
                for (operator, fields) in &operators.fields {
                    if operator == "$setOnInsert" && !inserting {
                        continue;
                    }
                    let fields = fields.as_object().ok_or_else(|| bad(9, format!("Modifiers operate on fields but we found another type for {operator}")))?;
                    for (path, value) in &fields.fields {
                        let parts: Vec<&str> = path.split('.').collect();
                        let to = (operator == "$rename").then(|| value.clone());
                        if let Some(to) = to {
                            let name = to.as_text().ok_or_else(|| {
                                bad(2, "The 'to' field for $rename must be a string")
                            })?;
                            if let Some(moved) = taken(&mut out, &parts) {
                                let parts: Vec<&str> = name.split('.').collect();
                                change_document(
                                    &mut out,
                                    &parts,
                                    &mut |_| Ok(Some(moved.clone())),
                                    &Where {
                                        filters,
                                        query,
                                        document,
                                        variables,
                                    },
                                )?;
                            }
                            continue;
                        }
                        let mut change =
                            |before: Option<Datum>| changed(operator, before, value, variables);
                        let place = Where {
                            filters,
                            query,
                            document,
                            variables,
                        };
                        if matches!(operator.as_str(), "$unset" | "$pull" | "$pullAll" | "$pop")
                            && !exists(&out, &parts)
                        {
                            continue;
                        }
                        change_document(&mut out, &parts, &mut change, &place)?;
                    }
                }
            }
        }
        if let (Some(before), Some(after)) = (document.get("_id"), out.get("_id"))
            && order(before, after).is_ne()
        {
            return Err(bad(
                66,
                "Performing an update on the path '_id' would modify the immutable field '_id'",
            ));
        }
        Ok(out)
    }
}

struct Where<'a> {
    filters: &'a [(String, Filter)],
    query: &'a Filter,
    document: &'a Document,
    variables: &'a Variables,
}

fn exists(document: &Document, path: &[&str]) -> bool {
    let Some((name, rest)) = path.split_first() else {
        return false;
    };
    document
        .get(name)
        .is_some_and(|value| rest.is_empty() || exists_in(value, rest))
}

fn exists_in(value: &Datum, path: &[&str]) -> bool {
    match value {
        Datum::Object(inner) => exists(inner, path),
        Datum::List(list) => {
            path[0].starts_with('$')
                || path[0]
                    .parse::<usize>()
                    .ok()
                    .and_then(|at| list.get(at))
                    .is_some_and(|v| path.len() == 1 || exists_in(v, &path[1..]))
        }
        _ => false,
    }
}

fn taken(document: &mut Document, path: &[&str]) -> Option<Datum> {
    let (name, rest) = path.split_first()?;
    if rest.is_empty() {
        return document.remove(name);
    }
    match document.get_mut(name)? {
        Datum::Object(inner) => taken(inner, rest),
        _ => None,
    }
}

type Change<'a> = dyn FnMut(Option<Datum>) -> Result<Option<Datum>> + 'a;

fn change_document(
    document: &mut Document,
    path: &[&str],
    change: &mut Change<'_>,
    place: &Where<'_>,
) -> Result<()> {
    let Some((name, rest)) = path.split_first() else {
        return Ok(());
    };
    if rest.is_empty() {
        match change(document.get(name).cloned())? {
            Some(value) => document.set(name, value),
            None => {
                document.remove(name);
            }
        }
        return Ok(());
    }
    if document.get(name).is_none() {
        document.set(name, Document::new());
    }
    match document.get_mut(name) {
        Some(inner) => change_value(inner, rest, change, place, name),
        None => Ok(()),
    }
}

fn change_value(
    value: &mut Datum,
    path: &[&str],
    change: &mut Change<'_>,
    place: &Where<'_>,
    above: &str,
) -> Result<()> {
    let Some((step, rest)) = path.split_first() else {
        if let Some(new) = change(Some(value.clone()))? {
            *value = new;
        } else {
            *value = Datum::Null;
        }
        return Ok(());
    };
    match value {
        Datum::Object(inner) => change_document(inner, path, change, place),
        Datum::List(list) => match *step {
            "$[]" => list
                .iter_mut()
                .try_for_each(|v| change_value(v, rest, change, place, above)),
            "$" => {
                // The first element that the query matched.
                let mut found = None;
                for (at, element) in list.iter().enumerate() {
                    let mut alone = place.document.clone();
                    alone.set(above, Datum::List(vec![element.clone()]));
                    if found.is_none() && place.query.matches(&alone, place.variables)? {
                        found = Some(at);
                    }
                }
                let at = found.ok_or_else(|| {
                    bad(
                        2,
                        "The positional operator did not find the match needed from the query.",
                    )
                })?;
                change_value(&mut list[at], rest, change, place, above)
            }
            step if step.starts_with("$[") && step.ends_with(']') => {
                let name = &step[2..step.len() - 1];
                let (_, filter) =
                    place
                        .filters
                        .iter()
                        .find(|(n, _)| n == name)
                        .ok_or_else(|| {
                            bad(2, format!("No array filter found for identifier '{name}'"))
                        })?;
                for element in list.iter_mut() {
                    if filter.matches(
                        &Document::new().with(name, element.clone()),
                        place.variables,
                    )? {
                        change_value(element, rest, change, place, above)?;
                    }
                }
                Ok(())
            }
            step => {
                let at: usize = step.parse().map_err(|_| {
                    bad(
                        28,
                        format!("Cannot create field '{step}' in element {{{above}: an array}}"),
                    )
                })?;
                if at > list.len() + 1_500_000 {
                    return Err(bad(
                        2,
                        "can't backfill array to larger than 1500000 elements",
                    ));
                }
                while list.len() <= at {
                    list.push(Datum::Null);
                }
                if rest.is_empty() {
                    list[at] = change(Some(list[at].clone()))?.unwrap_or(Datum::Null);
                    return Ok(());
                }
                if list[at] == Datum::Null {
                    list[at] = Document::new().into();
                }
                change_value(&mut list[at], rest, change, place, step)
            }
        },
        _ => Err(bad(
            28,
            format!("Cannot create field '{step}' in element {{{above}: a plain value}}"),
        )),
    }
}

/// The list that an operator of lists works on.
fn list_of(before: Option<Datum>) -> Result<Vec<Datum>> {
    match before {
        None => Ok(Vec::new()),
        Some(Datum::List(list)) => Ok(list),
        Some(other) => Err(bad(
            2,
            format!(
                "The field must be an array but is of type {}",
                super::type_name(&other)
            ),
        )),
    }
}

fn changed(
    operator: &str,
    before: Option<Datum>,
    value: &Datum,
    variables: &Variables,
) -> Result<Option<Datum>> {
    Ok(match operator {
        "$set" | "$setOnInsert" => Some(value.clone()),
        "$unset" => None,
        "$inc" | "$mul" => {
            let operation = if operator == "$inc" {
                Operation::Add
            } else {
                Operation::Multiply
            };
            let start = before.unwrap_or(Datum::Int(0));
            let done = number::compute(operation, &start, value);
            Some(done.map_err(|_| bad(14, format!("Cannot apply {operator} to a value of non-numeric type, or the result does not fit")))?)
        }
        "$min" => Some(match before {
            Some(before) if order(&before, value).is_le() => before,
            _ => value.clone(),
        }),
        "$max" => Some(match before {
            Some(before) if order(&before, value).is_ge() => before,
            _ => value.clone(),
        }),
        "$currentDate" => Some(Datum::Date(variables.now)),
        "$push" | "$addToSet" => Some(pushed(operator, before, value, variables)?),
        "$pop" => Some(popped(before, value)?),
        "$pull" | "$pullAll" => Some(pulled(operator, before, value, variables)?),
        "$bit" => Some(bits(before.as_ref(), value)?),
        other => return Err(bad(9, format!("Unknown modifier: {other}"))),
    })
}

fn bits(before: Option<&Datum>, value: &Datum) -> Result<Datum> {
    let number = before.and_then(Datum::as_i64).unwrap_or(0);
    let mut result = number;
    for (name, operand) in &value.as_object().cloned().unwrap_or_default().fields {
        let operand = operand
            .as_i64()
            .ok_or_else(|| bad(2, "$bit needs integers"))?;
        result = match name.as_str() {
            "and" => result & operand,
            "or" => result | operand,
            "xor" => result ^ operand,
            _ => return Err(bad(2, "$bit knows and, or, xor")),
        };
    }
    Ok(Datum::integer(result))
}

fn popped(before: Option<Datum>, value: &Datum) -> Result<Datum> {
    let mut list = list_of(before)?;
    if !list.is_empty() {
        if value.as_i64() == Some(-1) {
            list.remove(0);
        } else {
            list.pop();
        }
    }
    Ok(Datum::List(list))
}

fn pulled(
    operator: &str,
    before: Option<Datum>,
    value: &Datum,
    variables: &Variables,
) -> Result<Datum> {
    let mut list = list_of(before)?;
    if operator == "$pullAll" {
        let gone = value.as_list().unwrap_or_default();
        list.retain(|v| !gone.iter().any(|g| order(g, v).is_eq()));
    } else {
        let mut kept = Vec::new();
        for element in list {
            let goes = match (value, &element) {
                (Datum::Object(o), Datum::Object(inner))
                    if !o.fields.first().is_some_and(|(n, _)| n.starts_with('$')) =>
                {
                    Filter::new(o)?.matches(inner, variables)?
                }
                (condition, element) => {
                    let filter = Filter::new(&Document::new().with("v", condition.clone()))?;
                    filter.matches(&Document::new().with("v", element.clone()), variables)?
                }
            };
            if !goes {
                kept.push(element);
            }
        }
        list = kept;
    }
    Ok(Datum::List(list))
}

fn pushed(
    operator: &str,
    before: Option<Datum>,
    value: &Datum,
    variables: &Variables,
) -> Result<Datum> {
    let mut list = list_of(before)?;
    let each = value
        .as_object()
        .and_then(|o| o.get("$each"))
        .and_then(Datum::as_list);
    let values = each.map_or_else(|| vec![value.clone()], <[Datum]>::to_vec);
    let modifier = |name: &str| {
        value
            .as_object()
            .filter(|_| each.is_some())
            .and_then(|o| o.get(name))
    };
    if operator == "$addToSet" {
        for value in values {
            if !list.iter().any(|v| variables.order(v, &value).is_eq()) {
                list.push(value);
            }
        }
    } else {
        let at = modifier("$position")
            .and_then(Datum::as_i64)
            .map_or(list.len(), |p| {
                let p = if p < 0 {
                    (list.len() as i64 + p).max(0)
                } else {
                    p
                };
                usize::try_from(p).unwrap_or(0).min(list.len())
            });
        list.splice(at..at, values);
    }
    match modifier("$sort") {
        Some(Datum::Object(keys)) => list.sort_by(|a, b| match (a, b) {
            (Datum::Object(a), Datum::Object(b)) => stages::compare_by(keys, a, b, variables),
            (a, b) => variables.order(a, b),
        }),
        Some(direction) => {
            let down = direction.as_i64() == Some(-1);
            list.sort_by(|a, b| {
                if down {
                    variables.order(b, a)
                } else {
                    variables.order(a, b)
                }
            });
        }
        None => {}
    }
    if let Some(slice) = modifier("$slice").and_then(Datum::as_i64) {
        if slice >= 0 {
            list.truncate(slice as usize);
        } else {
            let drop = list.len().saturating_sub(slice.unsigned_abs() as usize);
            list.drain(..drop);
        }
    }
    Ok(Datum::List(list))
}

/// The document that an upsert begins with: the equalities of its query.
///
/// # Errors
/// If they contradict each other.
pub fn seed(query: &Filter, variables: &Variables) -> Result<Document> {
    let mut found = Vec::new();
    query.equalities(&mut found);
    let mut document = Document::new();
    for (path, value) in found {
        let parts: Vec<&str> = path.iter().map(String::as_str).collect();
        let place = Where {
            filters: &[],
            query,
            document: &Document::new(),
            variables,
        };
        change_document(
            &mut document,
            &parts,
            &mut |_| Ok(Some(value.clone())),
            &place,
        )?;
    }
    Ok(document)
}
