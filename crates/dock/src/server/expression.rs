//! The aggregation expressions of servers (public reference of aggregation operators), evaluated on one document. Values of all kinds are
//! compared by the one order over all of them.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use idle_tide_core::document::compare::order;
use idle_tide_core::document::number::{self, Deviation, NoNumber, Operation, Sum};
use idle_tide_core::document::{Datum, Document, time};

use super::query::compiled;
use super::{Failed, kind_of_name, type_name};
use crate::convert::{self, Way};

type Result<T> = std::result::Result<T, Failed>;

/// What expressions can name beside the document's fields.
#[derive(Debug, Clone, Default)]
pub struct Variables {
    pub(super) names: HashMap<String, Option<Datum>>,
    /// The present moment, in milliseconds since 1970.
    pub now: i64,
    /// Set when whoever asked has had enough.
    pub killed: Option<Arc<AtomicBool>>,
}

impl Variables {
    /// Whether to go on.
    ///
    /// # Errors
    /// If the operation was killed.
    #[inline]
    pub fn check(&self) -> Result<()> {
        match &self.killed {
            Some(killed) if killed.load(Ordering::Relaxed) => {
                Err(Failed::new(11601, "operation was interrupted"))
            }
            _ => Ok(()),
        }
    }

    /// With one more variable.
    #[must_use]
    pub fn with(&self, name: &str, value: Option<Datum>) -> Self {
        let mut more = self.clone();
        more.names.insert(name.to_string(), value);
        more
    }
}

/// Whether a value counts as true: everything but false, null, zero and what is not there.
pub fn truth(value: Option<&Datum>) -> bool {
    match value {
        None | Some(Datum::Null | Datum::Undefined) => false,
        Some(Datum::Boolean(b)) => *b,
        Some(number) if number.is_number() => number.as_f64() != Some(0.0),
        Some(_) => true,
    }
}

fn along(value: &Datum, path: &[&str]) -> Option<Datum> {
    let Some((name, rest)) = path.split_first() else {
        return Some(value.clone());
    };
    match value {
        Datum::Object(document) => along(document.get(name)?, rest),
        Datum::List(list) => Some(Datum::List(
            list.iter()
                .filter(|e| matches!(e, Datum::Object(_) | Datum::List(_)))
                .filter_map(|e| along(e, path))
                .collect(),
        )),
        _ => None,
    }
}

/// The value at a dotted path of a document; through lists the list of what is there.
pub fn at_path(document: &Document, path: &str) -> Option<Datum> {
    let mut parts = path.split('.');
    let first = document.get(parts.next()?)?;
    let rest: Vec<&str> = parts.collect();
    along(first, &rest)
}

fn bad(code: i32, words: impl Into<String>) -> Failed {
    Failed::new(code, words)
}

fn null_or(value: &Option<Datum>) -> bool {
    value.as_ref().is_none_or(Datum::is_null)
}

/// The value of an expression; `None` where there is none.
///
/// # Errors
/// With the documented codes.
pub fn evaluate(e: &Datum, document: &Document, variables: &Variables) -> Result<Option<Datum>> {
    match e {
        Datum::Text(text) if text.starts_with("$$") => variable(&text[2..], document, variables),
        Datum::Text(text) if text.starts_with('$') => Ok(at_path(document, &text[1..])),
        Datum::List(list) => {
            let values = list
                .iter()
                .map(|e| Ok(evaluate(e, document, variables)?.unwrap_or(Datum::Null)));
            Ok(Some(Datum::List(values.collect::<Result<_>>()?)))
        }
        Datum::Object(object) => {
            if let [(name, argument)] = object.fields.as_slice()
                && name.starts_with('$')
            {
                return operator(name, argument, document, variables);
            }
            let mut out = Document::new();
            for (name, value) in &object.fields {
                if name.starts_with('$') {
                    return Err(bad(
                        16410,
                        format!(
                            "FieldPath field names may not start with '$'. Consider using $getField or $setField: {name}"
                        ),
                    ));
                }
                if let Some(value) = evaluate(value, document, variables)? {
                    out.fields.push((name.clone(), value));
                }
            }
            Ok(Some(out.into()))
        }
        other => Ok(Some(other.clone())),
    }
}

fn variable(text: &str, document: &Document, variables: &Variables) -> Result<Option<Datum>> {
    let (name, path) = text
        .split_once('.')
        .map_or((text, None), |(n, p)| (n, Some(p)));
    let root;
    let value = match name {
        "ROOT" | "CURRENT" => {
            root = Datum::Object(document.clone());
            Some(&root)
        }
        "REMOVE" => None,
        "NOW" => {
            root = Datum::Date(variables.now);
            Some(&root)
        }
        name => variables
            .names
            .get(name)
            .ok_or_else(|| bad(17276, format!("Use of undefined variable: {name}")))?
            .as_ref(),
    };
    let Some(value) = value else { return Ok(None) };
    match path {
        None => Ok(Some(value.clone())),
        Some(path) => {
            let parts: Vec<&str> = path.split('.').collect();
            Ok(along(value, &parts))
        }
    }
}

fn no_number(error: NoNumber, name: &str) -> Failed {
    match error {
        NoNumber::NotNumbers => bad(14, format!("{name} only supports numeric types")),
        NoNumber::Overflow => bad(28, format!("{name}: long overflow")),
        NoNumber::ByZero => bad(2, format!("can't {name} by zero")),
    }
}

#[allow(clippy::too_many_lines)]
fn operator(
    name: &str,
    argument: &Datum,
    document: &Document,
    variables: &Variables,
) -> Result<Option<Datum>> {
    let eval = |e: &Datum| evaluate(e, document, variables);
    // Arguments of operators that take a list of them; one alone stands for a list of one.
    let several = || -> Result<Vec<Option<Datum>>> {
        match argument {
            Datum::List(list) => list.iter().map(&eval).collect(),
            one => Ok(vec![eval(one)?]),
        }
    };
    let exactly = |count: usize| -> Result<Vec<Option<Datum>>> {
        let list = several()?;
        if list.len() == count {
            return Ok(list);
        }
        Err(bad(
            16020,
            format!(
                "Expression {name} takes exactly {count} arguments. {} were passed in.",
                list.len()
            ),
        ))
    };
    let one = || -> Result<Option<Datum>> { Ok(exactly(1)?.remove(0)) };
    let named = |field: &str| -> Result<Option<Datum>> {
        match argument.as_object().and_then(|o| o.get(field)) {
            Some(e) => eval(e),
            None => Ok(None),
        }
    };
    let some = |value: Datum| Ok(Some(value));
    let truth_of = |b: bool| Ok(Some(Datum::Boolean(b)));
    let text_of = |value: &Option<Datum>, code: i32| -> Result<Option<String>> {
        match value {
            None | Some(Datum::Null | Datum::Undefined) => Ok(None),
            Some(Datum::Text(text)) => Ok(Some(text.to_string())),
            Some(other) => Err(bad(
                code,
                format!(
                    "{name} requires a string argument, found: {}",
                    type_name(other)
                ),
            )),
        }
    };
    let date_of = |value: &Option<Datum>| -> Result<Option<i64>> {
        match value {
            None | Some(Datum::Null | Datum::Undefined) => Ok(None),
            Some(Datum::Date(ms)) => Ok(Some(*ms)),
            Some(Datum::Id(id)) => Ok(Some(
                i64::from(u32::from_be_bytes([id[0], id[1], id[2], id[3]])) * 1_000,
            )),
            Some(Datum::Timestamp(seconds, _)) => Ok(Some(i64::from(*seconds) * 1_000)),
            Some(other) => Err(bad(
                16006,
                format!("can't convert from BSON type {} to Date", type_name(other)),
            )),
        }
    };
    let absent = &Datum::Null;
    match name {
        "$literal" => some(argument.clone()),
        "$and" => {
            for e in argument.as_list().unwrap_or(std::slice::from_ref(argument)) {
                if !truth(eval(e)?.as_ref()) {
                    return truth_of(false);
                }
            }
            truth_of(true)
        }
        "$or" => {
            for e in argument.as_list().unwrap_or(std::slice::from_ref(argument)) {
                if truth(eval(e)?.as_ref()) {
                    return truth_of(true);
                }
            }
            truth_of(false)
        }
        "$not" => truth_of(!truth(one()?.as_ref())),
        "$eq" | "$ne" | "$lt" | "$lte" | "$gt" | "$gte" | "$cmp" => {
            let list = exactly(2)?;
            // What is not there is less than everything.
            let found = match (&list[0], &list[1]) {
                (None, None) => std::cmp::Ordering::Equal,
                (None, Some(Datum::MinKey)) => std::cmp::Ordering::Greater,
                (Some(Datum::MinKey), None) => std::cmp::Ordering::Less,
                (None, Some(_)) => std::cmp::Ordering::Less,
                (Some(_), None) => std::cmp::Ordering::Greater,
                (Some(a), Some(b)) => order(a, b),
            };
            match name {
                "$eq" => truth_of(found.is_eq()),
                "$ne" => truth_of(found.is_ne()),
                "$lt" => truth_of(found.is_lt()),
                "$lte" => truth_of(found.is_le()),
                "$gt" => truth_of(found.is_gt()),
                "$gte" => truth_of(found.is_ge()),
                _ => some(Datum::Int(found as i32)),
            }
        }
        "$cond" => {
            let (test, yes, no) = match argument {
                Datum::List(list) if list.len() == 3 => (&list[0], &list[1], &list[2]),
                Datum::Object(o) => (
                    o.get("if").unwrap_or(absent),
                    o.get("then").unwrap_or(absent),
                    o.get("else").unwrap_or(absent),
                ),
                _ => return Err(bad(16020, "Expression $cond takes exactly 3 arguments.")),
            };
            eval(if truth(eval(test)?.as_ref()) { yes } else { no })
        }
        "$switch" => {
            let object = argument
                .as_object()
                .ok_or_else(|| bad(40060, "$switch requires an object as an argument"))?;
            for branch in object
                .get("branches")
                .and_then(Datum::as_list)
                .unwrap_or_default()
            {
                let branch = branch
                    .as_object()
                    .ok_or_else(|| bad(40062, "$switch requires each branch to be an object"))?;
                if truth(eval(branch.get("case").unwrap_or(absent))?.as_ref()) {
                    return eval(branch.get("then").unwrap_or(absent));
                }
            }
            match object.get("default") {
                Some(default) => eval(default),
                None => Err(bad(
                    40066,
                    "$switch could not find a matching branch for an input, and no default was specified.",
                )),
            }
        }
        "$ifNull" => {
            let list = argument
                .as_list()
                .ok_or_else(|| bad(1257300, "$ifNull needs at least two arguments"))?;
            let mut last = None;
            for e in list {
                last = eval(e)?;
                if !null_or(&last) {
                    return Ok(last);
                }
            }
            Ok(last)
        }
        "$let" => {
            let object = argument
                .as_object()
                .ok_or_else(|| bad(16874, "$let only supports an object as its argument"))?;
            let mut inner = variables.clone();
            for (name, value) in &object
                .get("vars")
                .and_then(Datum::as_object)
                .cloned()
                .unwrap_or_default()
                .fields
            {
                inner.names.insert(name.to_string(), eval(value)?);
            }
            evaluate(object.get("in").unwrap_or(absent), document, &inner)
        }
        "$map" | "$filter" => {
            let object = argument.as_object().ok_or_else(|| {
                bad(
                    16878,
                    format!("{name} only supports an object as its argument"),
                )
            })?;
            let list = match named("input")? {
                None | Some(Datum::Null | Datum::Undefined) => return some(Datum::Null),
                Some(Datum::List(list)) => list,
                Some(other) => {
                    return Err(bad(
                        16883,
                        format!("input to {name} must be an array not {}", type_name(&other)),
                    ));
                }
            };
            let each = object
                .get("as")
                .and_then(Datum::as_text)
                .unwrap_or("this")
                .to_string();
            let inner = object
                .get(if name == "$map" { "in" } else { "cond" })
                .unwrap_or(absent);
            let mut out = Vec::new();
            let mut scope = variables.clone();
            for element in list {
                scope.names.insert(each.clone(), Some(element.clone()));
                let value = evaluate(inner, document, &scope)?;
                if name == "$map" {
                    out.push(value.unwrap_or(Datum::Null));
                } else if truth(value.as_ref()) {
                    out.push(element);
                }
            }
            some(Datum::List(out))
        }
        "$reduce" => {
            let object = argument
                .as_object()
                .ok_or_else(|| bad(40075, "$reduce requires an object"))?;
            let list = match named("input")? {
                None | Some(Datum::Null | Datum::Undefined) => return some(Datum::Null),
                Some(Datum::List(list)) => list,
                Some(other) => {
                    return Err(bad(
                        40080,
                        format!(
                            "$reduce requires that 'input' be an array, found: {}",
                            type_name(&other)
                        ),
                    ));
                }
            };
            let mut value = named("initialValue")?;
            let inner = object.get("in").unwrap_or(absent);
            let mut scope = variables.clone();
            for element in list {
                scope.names.insert("this".into(), Some(element));
                scope.names.insert("value".into(), value);
                value = evaluate(inner, document, &scope)?;
            }
            Ok(value)
        }
        "$anyElementTrue" | "$allElementsTrue" => match one()? {
            Some(Datum::List(list)) => {
                let mut each = list.iter().map(|v| truth(Some(v)));
                truth_of(if name == "$anyElementTrue" {
                    each.any(|b| b)
                } else {
                    each.all(|b| b)
                })
            }
            other => Err(bad(
                17041,
                format!(
                    "{name}'s argument must be an array, but is {}",
                    other.as_ref().map_or("missing", type_name)
                ),
            )),
        },
        "$isArray" => truth_of(matches!(one()?, Some(Datum::List(_)))),
        "$isNumber" => truth_of(one()?.is_some_and(|v| v.is_number())),
        "$type" => some(one()?.as_ref().map_or("missing", type_name).into()),
        "$in" => {
            let list = exactly(2)?;
            let Some(Datum::List(items)) = &list[1] else {
                return Err(bad(
                    40081,
                    format!(
                        "$in requires an array as a second argument, found: {}",
                        list[1].as_ref().map_or("missing", type_name)
                    ),
                ));
            };
            truth_of(
                list[0]
                    .as_ref()
                    .is_some_and(|v| items.iter().any(|i| order(i, v).is_eq())),
            )
        }
        "$arrayElemAt" | "$first" | "$last" => {
            let mut list = several()?;
            let index = match name {
                "$first" => Some(Datum::Int(0)),
                "$last" => Some(Datum::Int(-1)),
                _ => list.get(1).cloned().flatten(),
            };
            let value = list.remove(0);
            if null_or(&value) || null_or(&index) {
                return some(Datum::Null);
            }
            let Some(Datum::List(items)) = value else {
                return Err(bad(
                    28689,
                    format!(
                        "{name}'s first argument must be an array, but is {}",
                        value.as_ref().map_or("missing", type_name)
                    ),
                ));
            };
            let index = index.as_ref().and_then(Datum::as_i64).ok_or_else(|| {
                bad(
                    28690,
                    "$arrayElemAt's second argument must be a numeric value",
                )
            })?;
            let at = if index < 0 {
                index + items.len() as i64
            } else {
                index
            };
            Ok(usize::try_from(at)
                .ok()
                .and_then(|at| items.into_iter().nth(at)))
        }
        "$concatArrays" => {
            let mut out = Vec::new();
            for value in several()? {
                match value {
                    Some(Datum::List(list)) => out.extend(list),
                    None | Some(Datum::Null | Datum::Undefined) => return some(Datum::Null),
                    Some(other) => {
                        return Err(bad(
                            28664,
                            format!(
                                "$concatArrays only supports arrays, not {}",
                                type_name(&other)
                            ),
                        ));
                    }
                }
            }
            some(Datum::List(out))
        }
        "$size" => match one()? {
            Some(Datum::List(list)) => some(Datum::integer(list.len() as i64)),
            other => Err(bad(
                17124,
                format!(
                    "The argument to $size must be an array, but was of type: {}",
                    other.as_ref().map_or("missing", type_name)
                ),
            )),
        },
        "$slice" => {
            let list = several()?;
            let Some(Some(Datum::List(items))) = list.first() else {
                return some(Datum::Null);
            };
            let number = |at: usize| {
                list.get(at)
                    .and_then(|v| v.as_ref())
                    .and_then(Datum::as_i64)
            };
            let length = items.len() as i64;
            let (start, count) = match (number(1), number(2)) {
                (Some(position), Some(count)) => (
                    if position < 0 {
                        (length + position).max(0)
                    } else {
                        position.min(length)
                    },
                    count,
                ),
                (Some(count), None) if count < 0 => ((length + count).max(0), -count),
                (Some(count), None) => (0, count),
                _ => return some(Datum::Null),
            };
            some(Datum::List(
                items
                    .iter()
                    .skip(start as usize)
                    .take(count.max(0) as usize)
                    .cloned()
                    .collect(),
            ))
        }
        "$setUnion" => {
            let mut all: Vec<Datum> = Vec::new();
            for value in several()? {
                match value {
                    Some(Datum::List(list)) => all.extend(list),
                    _ => return some(Datum::Null),
                }
            }
            all.sort_by(order);
            all.dedup_by(|a, b| order(a, b).is_eq());
            some(Datum::List(all))
        }
        "$sortArray" => {
            let Some(Datum::List(mut list)) = named("input")? else {
                return some(Datum::Null);
            };
            match argument.as_object().and_then(|o| o.get("sortBy")) {
                Some(Datum::Object(keys)) => {
                    let keys = keys.clone();
                    list.sort_by(|a, b| match (a, b) {
                        (Datum::Object(a), Datum::Object(b)) => {
                            super::stages::compare_by(&keys, a, b)
                        }
                        (a, b) => order(a, b),
                    });
                }
                other => {
                    let down = other.and_then(Datum::as_i64) == Some(-1);
                    list.sort_by(|a, b| if down { order(b, a) } else { order(a, b) });
                }
            }
            some(Datum::List(list))
        }
        "$mergeObjects" => {
            let mut out = Document::new();
            for value in several()? {
                match value {
                    Some(Datum::Object(inner)) => {
                        inner.fields.into_iter().for_each(|(n, v)| out.set(&n, v))
                    }
                    None | Some(Datum::Null | Datum::Undefined) => {}
                    Some(other) => {
                        return Err(bad(
                            40400,
                            format!(
                                "$mergeObjects requires object inputs, but input {} is not",
                                type_name(&other)
                            ),
                        ));
                    }
                }
            }
            some(out.into())
        }
        "$objectToArray" => match one()? {
            Some(Datum::Object(o)) => some(Datum::List(
                o.fields
                    .into_iter()
                    .map(|(k, v)| Document::new().with("k", k.as_str()).with("v", v).into())
                    .collect(),
            )),
            None | Some(Datum::Null | Datum::Undefined) => some(Datum::Null),
            Some(_) => Err(bad(40390, "$objectToArray requires a document input")),
        },
        "$getField" => {
            let (field_name, input) = match argument {
                Datum::Object(o) if o.get("field").is_some() => {
                    (eval(o.get("field").unwrap_or(absent))?, named("input")?)
                }
                other => (eval(other)?, Some(Datum::Object(document.clone()))),
            };
            let wanted = field_name
                .as_ref()
                .and_then(Datum::as_text)
                .unwrap_or_default();
            match input {
                Some(Datum::Object(o)) => Ok(o.get(wanted).cloned()),
                None => Ok(None),
                Some(value) if value.is_null() => some(Datum::Null),
                Some(_) => Ok(None),
            }
        }
        "$add" | "$multiply" => {
            let mut total = Datum::Int(i32::from(name == "$multiply"));
            let mut date = false;
            for value in several()? {
                let Some(value) = value.filter(|v| !v.is_null()) else {
                    return some(Datum::Null);
                };
                let value = match value {
                    Datum::Date(ms) if name == "$add" => {
                        date = true;
                        Datum::Long(ms)
                    }
                    other => other,
                };
                let operation = if name == "$add" {
                    Operation::Add
                } else {
                    Operation::Multiply
                };
                total = match number::compute(operation, &total, &value) {
                    Ok(number) => number,
                    // Whole numbers that overflow become doubles.
                    Err(NoNumber::Overflow) => {
                        let (a, b) = (total.as_f64().unwrap_or(0.0), value.as_f64().unwrap_or(0.0));
                        Datum::Double(if name == "$add" { a + b } else { a * b })
                    }
                    Err(error) => return Err(no_number(error, name)),
                };
            }
            some(if date {
                Datum::Date(convert::whole_part(&total).unwrap_or(0))
            } else {
                total
            })
        }
        "$subtract" => {
            let list = exactly(2)?;
            let (Some(a), Some(b)) = (&list[0], &list[1]) else {
                return some(Datum::Null);
            };
            match (a, b) {
                (a, b) if a.is_null() || b.is_null() => some(Datum::Null),
                (Datum::Date(a), Datum::Date(b)) => some(Datum::Long(a.wrapping_sub(*b))),
                (Datum::Date(a), b) => some(Datum::Date(
                    a - convert::whole_part(b)
                        .ok_or_else(|| no_number(NoNumber::NotNumbers, name))?,
                )),
                (a, b) => match number::compute(Operation::Subtract, a, b) {
                    Ok(number) => some(number),
                    Err(NoNumber::Overflow) => some(Datum::Double(
                        a.as_f64().unwrap_or(0.0) - b.as_f64().unwrap_or(0.0),
                    )),
                    Err(error) => Err(no_number(error, name)),
                },
            }
        }
        "$divide" | "$mod" => {
            let list = exactly(2)?;
            let (Some(a), Some(b)) = (&list[0], &list[1]) else {
                return some(Datum::Null);
            };
            if a.is_null() || b.is_null() {
                return some(Datum::Null);
            }
            let operation = if name == "$divide" {
                Operation::Divide
            } else {
                Operation::Remainder
            };
            number::compute(operation, a, b)
                .map(Some)
                .map_err(|e| no_number(e, name))
        }
        "$abs" | "$ceil" | "$floor" | "$trunc" | "$round" => {
            let list = several()?;
            let Some(Some(value)) = list.first().filter(|v| !null_or(v)) else {
                return some(Datum::Null);
            };
            let places = list
                .get(1)
                .and_then(|v| v.as_ref())
                .and_then(Datum::as_i64)
                .unwrap_or(0);
            let done = match name {
                "$abs" => convert::abs(value),
                "$ceil" => convert::round(value, 0, Way::Up),
                "$floor" => convert::round(value, 0, Way::Down),
                "$trunc" => convert::round(value, places, Way::Trunc),
                _ => convert::round(value, places, Way::Nearest),
            };
            done.map(Some).map_err(|e| no_number(e, name))
        }
        "$exp" | "$sqrt" | "$ln" | "$log10" => {
            let value = one()?;
            if null_or(&value) {
                return some(Datum::Null);
            }
            let Some(x) = value.as_ref().and_then(Datum::as_f64) else {
                return Err(no_number(NoNumber::NotNumbers, name));
            };
            match name {
                "$exp" => some(Datum::Double(x.exp())),
                "$sqrt" if x < 0.0 => Err(bad(
                    28714,
                    "$sqrt's argument must be greater than or equal to 0",
                )),
                "$sqrt" => some(Datum::Double(x.sqrt())),
                _ if x <= 0.0 => Err(bad(
                    28766,
                    format!("{name}'s argument must be a positive number, but is {x}"),
                )),
                "$ln" => some(Datum::Double(x.ln())),
                _ => some(Datum::Double(x.log10())),
            }
        }
        "$pow" => {
            let list = exactly(2)?;
            let (Some(a), Some(b)) = (&list[0], &list[1]) else {
                return some(Datum::Null);
            };
            if a.is_null() || b.is_null() {
                return some(Datum::Null);
            }
            let (Some(x), Some(y)) = (a.as_f64(), b.as_f64()) else {
                return Err(no_number(NoNumber::NotNumbers, name));
            };
            if x == 0.0 && y < 0.0 {
                return Err(bad(
                    28764,
                    "$pow cannot take a base of 0 and a negative exponent",
                ));
            }
            let real = x.powf(y);
            let whole = !matches!(a, Datum::Double(_) | Datum::Decimal(_))
                && !matches!(b, Datum::Double(_) | Datum::Decimal(_));
            some(if whole && y >= 0.0 && real.abs() < 9e15 {
                Datum::integer(real as i64)
            } else {
                Datum::Double(real)
            })
        }
        "$sum" | "$avg" | "$min" | "$max" | "$stdDevSamp" | "$stdDevPop" => {
            let values = match argument {
                Datum::List(list) => list.iter().map(&eval).collect::<Result<Vec<_>>>()?,
                // One argument alone stands for the elements of its list.
                single => match eval(single)? {
                    Some(Datum::List(list)) => list.into_iter().map(Some).collect(),
                    other => vec![other],
                },
            };
            let values = values.into_iter().flatten();
            match name {
                "$min" => Ok(Some(
                    values
                        .filter(|v| !v.is_null())
                        .reduce(|a, b| if order(&b, &a).is_lt() { b } else { a })
                        .unwrap_or(Datum::Null),
                )),
                "$max" => Ok(Some(
                    values
                        .filter(|v| !v.is_null())
                        .reduce(|a, b| if order(&b, &a).is_gt() { b } else { a })
                        .unwrap_or(Datum::Null),
                )),
                "$stdDevSamp" | "$stdDevPop" => {
                    let mut deviation = Deviation::default();
                    values.for_each(|v| deviation.add(&v));
                    let found = if name == "$stdDevPop" {
                        deviation.population()
                    } else {
                        deviation.sample()
                    };
                    some(found.map_or(Datum::Null, Datum::Double))
                }
                _ => {
                    let mut sum = Sum::default();
                    values.for_each(|v| sum.add(&v));
                    if name == "$avg" {
                        some(sum.mean().unwrap_or(Datum::Null))
                    } else {
                        some(super::stages::total(&sum))
                    }
                }
            }
        }
        "$concat" => {
            let mut out = String::new();
            for value in several()? {
                match text_of(&value, 16702)? {
                    Some(text) => out.push_str(&text),
                    None => return some(Datum::Null),
                }
            }
            some(out.into())
        }
        "$toLower" | "$toUpper" => {
            let value = one()?;
            let text = value.as_ref().and_then(convert::text).unwrap_or_default();
            some(
                if name == "$toLower" {
                    text.to_ascii_lowercase()
                } else {
                    text.to_ascii_uppercase()
                }
                .into(),
            )
        }
        "$strLenCP" => match one()? {
            Some(Datum::Text(text)) => some(Datum::integer(text.chars().count() as i64)),
            other => Err(bad(
                34471,
                format!(
                    "$strLenCP requires a string argument, found: {}",
                    other.as_ref().map_or("missing", type_name)
                ),
            )),
        },
        "$substrCP" => {
            let list = exactly(3)?;
            let text = list[0].as_ref().and_then(convert::text).unwrap_or_default();
            let whole = |at: usize| {
                list[at]
                    .as_ref()
                    .and_then(Datum::as_i64)
                    .and_then(|n| usize::try_from(n).ok())
            };
            match (whole(1), whole(2)) {
                (Some(from), Some(count)) => some(convert::characters(&text, from, count).into()),
                _ => Err(bad(
                    34452,
                    "$substrCP: lengths and starts must be integers from 0 on",
                )),
            }
        }
        "$indexOfCP" => {
            let list = several()?;
            let (Some(text), Some(part)) = (
                text_of(&list[0], 40093)?,
                text_of(list.get(1).unwrap_or(&None), 40094)?,
            ) else {
                return some(Datum::Null);
            };
            some(Datum::integer(
                text.find(&part)
                    .map_or(-1, |at| text[..at].chars().count() as i64),
            ))
        }
        "$split" => {
            let list = exactly(2)?;
            let (Some(text), Some(by)) = (text_of(&list[0], 40085)?, text_of(&list[1], 40086)?)
            else {
                return some(Datum::Null);
            };
            if by.is_empty() {
                return Err(bad(40087, "$split requires a non-empty separator"));
            }
            some(Datum::List(text.split(&by).map(Datum::from).collect()))
        }
        "$replaceAll" | "$replaceOne" => {
            let (input, find, by) = (
                text_of(&named("input")?, 51746)?,
                text_of(&named("find")?, 51745)?,
                text_of(&named("replacement")?, 51744)?,
            );
            let (Some(input), Some(find), Some(by)) = (input, find, by) else {
                return some(Datum::Null);
            };
            some(
                if name == "$replaceAll" {
                    input.replace(&find, &by)
                } else {
                    input.replacen(&find, &by, 1)
                }
                .into(),
            )
        }
        "$trim" | "$ltrim" | "$rtrim" => {
            let Some(text) = text_of(&named("input")?, 50699)? else {
                return some(Datum::Null);
            };
            let chars: Vec<char> = match text_of(&named("chars")?, 50700)? {
                Some(chars) => chars.chars().collect(),
                None => "\0\t\n\u{b}\u{c}\r \u{a0}\u{1680}\u{2000}\u{2001}\u{2002}\u{2003}\u{2004}\u{2005}\u{2006}\u{2007}\u{2008}\u{2009}\u{200a}".chars().collect(),
            };
            let is = |c: char| chars.contains(&c);
            some(
                match name {
                    "$trim" => text.trim_matches(is),
                    "$ltrim" => text.trim_start_matches(is),
                    _ => text.trim_end_matches(is),
                }
                .into(),
            )
        }
        "$regexMatch" => {
            let Some(text) = text_of(&named("input")?, 51104)? else {
                return truth_of(false);
            };
            let (pattern, mut options) = match named("regex")? {
                Some(Datum::Regex(both)) => *both,
                Some(Datum::Text(text)) => (text.to_string(), String::new()),
                _ => return truth_of(false),
            };
            if let Some(more) = text_of(&named("options")?, 51106)? {
                options.push_str(&more);
            }
            truth_of(compiled(&pattern, &options)?.is_match(&text))
        }
        "$toString" | "$toDouble" | "$toLong" | "$toInt" | "$toDecimal" | "$toBool" | "$toDate"
        | "$toObjectId" => {
            let value = one()?;
            if null_or(&value) {
                return some(Datum::Null);
            }
            let to = match name {
                "$toString" => "string",
                "$toDouble" => "double",
                "$toLong" => "long",
                "$toInt" => "int",
                "$toDecimal" => "decimal",
                "$toBool" => "bool",
                "$toDate" => "date",
                _ => "objectId",
            };
            let value = value.unwrap_or(Datum::Null);
            super::conversion::converted(&value, to).map(Some)
        }
        "$convert" => {
            let Some(value) = named("input")?.filter(|v| !v.is_null()) else {
                return named("onNull").map(|v| v.or(Some(Datum::Null)));
            };
            let to = match named("to")? {
                Some(Datum::Text(to)) => to.to_string(),
                Some(Datum::Null) | None => return some(Datum::Null),
                Some(number) => kind_of_name(&number)?
                    .map_or("double", |kind| type_name(&super::conversion::sample(kind)))
                    .to_string(),
            };
            match (
                super::conversion::converted(&value, &to),
                argument.as_object().and_then(|o| o.get("onError")),
            ) {
                (Ok(value), _) => some(value),
                (Err(_), Some(other)) => eval(other),
                (Err(error), None) => Err(error),
            }
        }
        "$dateFromString" => {
            let Some(value) = named("dateString")?.filter(|v| !v.is_null()) else {
                return named("onNull").map(|v| v.or(Some(Datum::Null)));
            };
            let found = value
                .as_text()
                .and_then(|t| time::read(t, &time::TimeZone::UTC));
            match (found, argument.as_object().and_then(|o| o.get("onError"))) {
                (Some(ms), _) => some(Datum::Date(ms)),
                (None, Some(other)) => eval(other),
                (None, None) => Err(bad(
                    241,
                    format!(
                        "Error parsing date string '{}'",
                        value.as_text().unwrap_or_default()
                    ),
                )),
            }
        }
        "$year" | "$month" | "$dayOfMonth" | "$hour" | "$minute" | "$second" | "$millisecond"
        | "$isoDayOfWeek" | "$dayOfWeek" | "$dayOfYear" => {
            let value = match argument {
                Datum::Object(o) if o.get("date").is_some() => named("date")?,
                _ => one()?,
            };
            let Some(parts) = date_of(&value)?.and_then(time::parts) else {
                return some(Datum::Null);
            };
            some(Datum::Int(match name {
                "$year" => parts.year().into(),
                "$month" => parts.month().into(),
                "$dayOfMonth" => parts.day().into(),
                "$hour" => parts.hour().into(),
                "$minute" => parts.minute().into(),
                "$second" => parts.second().into(),
                "$millisecond" => parts.millisecond().into(),
                "$isoDayOfWeek" => parts.weekday().to_monday_one_offset().into(),
                "$dayOfWeek" => parts.weekday().to_sunday_one_offset().into(),
                _ => parts.date().day_of_year().into(),
            }))
        }
        "$dateTrunc" => {
            let Some(ms) = date_of(&named("date")?)? else {
                return some(Datum::Null);
            };
            let unit = text_of(&named("unit")?, 5_439_013)?.unwrap_or_default();
            time::truncate(ms, &unit)
                .map(|ms| Some(Datum::Date(ms)))
                .ok_or_else(|| bad(9, format!("unknown time unit value: {unit}")))
        }
        "$dateToString" => {
            let Some(ms) = date_of(&named("date")?)? else {
                return named("onNull").map(|v| v.or(Some(Datum::Null)));
            };
            let format = text_of(&named("format")?, 18_533)?
                .unwrap_or_else(|| "%Y-%m-%dT%H:%M:%S.%LZ".into());
            time::formatted(ms, &format)
                .map(|text| Some(text.into()))
                .ok_or_else(|| bad(18_536, format!("Invalid format string {format}")))
        }
        "$rand" => {
            let state = (variables.now as u64)
                .wrapping_mul(0x9e37_79b9_7f4a_7c15)
                .wrapping_add(document as *const Document as u64);
            some(Datum::Double((state >> 11) as f64 / (1_u64 << 53) as f64))
        }
        other => Err(bad(168, format!("Unrecognized expression '{other}'"))),
    }
}
