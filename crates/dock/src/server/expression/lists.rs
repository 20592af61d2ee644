//! Lists: `$map`, `$slice`, `$in` and their like.

use super::*;

/// `$map`, `$filter`.
pub(super) fn map_or_filter(call: &Call<'_>) -> Answer {
    let Call {
        name,
        argument,
        document,
        variables,
    } = *call;

    let object = argument.as_object().ok_or_else(|| {
        bad(
            16878,
            format!("{name} only supports an object as its argument"),
        )
    })?;
    let list = match call.named("input")? {
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
        .unwrap_or(&Datum::Null);
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

/// `$reduce`.
pub(super) fn reduce(call: &Call<'_>) -> Answer {
    let Call {
        argument,
        document,
        variables,
        ..
    } = *call;

    let object = argument
        .as_object()
        .ok_or_else(|| bad(40075, "$reduce requires an object"))?;
    let list = match call.named("input")? {
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
    let mut value = call.named("initialValue")?;
    let inner = object.get("in").unwrap_or(&Datum::Null);
    let mut scope = variables.clone();
    for element in list {
        scope.names.insert("this".into(), Some(element));
        scope.names.insert("value".into(), value);
        value = evaluate(inner, document, &scope)?;
    }
    Ok(value)
}

/// `$anyElementTrue`, `$allElementsTrue`.
pub(super) fn any_or_all(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;
    match call.one()? {
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
    }
}

/// `$in`.
pub(super) fn is_in(call: &Call<'_>) -> Answer {
    let list = call.exactly(2)?;
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
            .is_some_and(|v| items.iter().any(|i| call.variables.order(i, v).is_eq())),
    )
}

/// `$arrayElemAt`, `$first`, `$last`.
pub(super) fn element(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let mut list = call.several()?;
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

/// `$concatArrays`.
pub(super) fn concat(call: &Call<'_>) -> Answer {
    let mut out = Vec::new();
    for value in call.several()? {
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

/// `$size`.
pub(super) fn size(call: &Call<'_>) -> Answer {
    match call.one()? {
        Some(Datum::List(list)) => some(Datum::integer(list.len() as i64)),
        other => Err(bad(
            17124,
            format!(
                "The argument to $size must be an array, but was of type: {}",
                other.as_ref().map_or("missing", type_name)
            ),
        )),
    }
}

/// `$slice`.
pub(super) fn slice(call: &Call<'_>) -> Answer {
    let list = call.several()?;
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

/// `$sortArray`.
pub(super) fn sort(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

    let Some(Datum::List(mut list)) = call.named("input")? else {
        return some(Datum::Null);
    };
    match argument.as_object().and_then(|o| o.get("sortBy")) {
        Some(Datum::Object(keys)) => {
            let keys = keys.clone();
            list.sort_by(|a, b| match (a, b) {
                (Datum::Object(a), Datum::Object(b)) => {
                    crate::server::stages::compare_by(&keys, a, b, call.variables)
                }
                (a, b) => call.variables.order(a, b),
            });
        }
        other => {
            let down = other.and_then(Datum::as_i64) == Some(-1);
            list.sort_by(|a, b| {
                if down {
                    call.variables.order(b, a)
                } else {
                    call.variables.order(a, b)
                }
            });
        }
    }
    some(Datum::List(list))
}

/// Fails for what is no list, and gives nothing for null.
fn list_of(call: &Call<'_>, value: Option<Datum>, code: i32) -> Result<Option<Vec<Datum>>> {
    match value {
        Some(Datum::List(list)) => Ok(Some(list)),
        value if null_or(&value) => Ok(None),
        other => Err(bad(
            code,
            format!(
                "{} needs an array, found: {}",
                call.name,
                other.as_ref().map_or("missing", type_name)
            ),
        )),
    }
}

/// `$reverseArray`.
pub(super) fn reverse(call: &Call<'_>) -> Answer {
    Ok(Some(match list_of(call, call.one()?, 34435)? {
        Some(mut list) => {
            list.reverse();
            Datum::List(list)
        }
        None => Datum::Null,
    }))
}

/// `$firstN`, `$lastN`, `$minN`, `$maxN`: of the smallest and largest, nulls are left out.
pub(super) fn some_of(call: &Call<'_>) -> Answer {
    let count = call.named("n")?;
    let count = count
        .as_ref()
        .and_then(Datum::as_i64)
        .filter(|n| *n > 0)
        .ok_or_else(|| bad(5_787_902, "'n' must be a positive integral value"))?;
    let list = list_of(call, call.named("input")?, 5_788_200)?;
    let list =
        list.ok_or_else(|| bad(5_788_200, format!("{} needs an array, not null", call.name)))?;
    some(Datum::List(taken(
        call.name,
        list,
        usize::try_from(count).unwrap_or(usize::MAX),
        call.variables,
    )))
}

/// So many of the first, last, smallest or largest.
pub(in crate::server) fn taken(
    name: &str,
    mut list: Vec<Datum>,
    count: usize,
    variables: &Variables,
) -> Vec<Datum> {
    match name {
        "$lastN" => {
            list.drain(..list.len().saturating_sub(count));
        }
        "$minN" | "$maxN" => {
            list.retain(|v| !v.is_null());
            list.sort_by(|a, b| {
                if name == "$minN" {
                    variables.order(a, b)
                } else {
                    variables.order(b, a)
                }
            });
        }
        _ => {}
    }
    list.truncate(count);
    list
}

/// `$range`: whole numbers from a start to before an end.
pub(super) fn range(call: &Call<'_>) -> Answer {
    let list = call.several()?;
    let whole = |at: usize, what: &str| {
        let found = list
            .get(at)
            .and_then(|v| v.as_ref())
            .and_then(Datum::as_i64);
        found.and_then(|n| i32::try_from(n).ok()).ok_or_else(|| {
            bad(
                34443,
                format!("$range requires a 32-bit whole number as its {what}"),
            )
        })
    };
    let (start, end) = (whole(0, "start")?, whole(1, "end")?);
    let step = if list.len() > 2 { whole(2, "step")? } else { 1 };
    if step == 0 {
        return Err(bad(34449, "$range requires a non-zero step value"));
    }
    let mut out = Vec::new();
    let mut at = i64::from(start);
    while if step > 0 {
        at < i64::from(end)
    } else {
        at > i64::from(end)
    } {
        if out.len() % 10_000 == 0 {
            call.variables.check()?;
        }
        out.push(Datum::integer(at));
        at += i64::from(step);
    }
    some(Datum::List(out))
}

/// `$indexOfArray`.
pub(super) fn place(call: &Call<'_>) -> Answer {
    let list = call.several()?;
    let Some(items) = list_of(call, list.first().cloned().flatten(), 40090)? else {
        return some(Datum::Null);
    };
    let Some(wanted) = list.get(1).cloned().flatten() else {
        return some(Datum::Int(-1));
    };
    let bound =
        |at: usize, usual: usize| match list.get(at).map(|v| v.as_ref().and_then(Datum::as_i64)) {
            None => Ok(usual),
            Some(Some(n)) if n >= 0 => Ok(usize::try_from(n).unwrap_or(usize::MAX)),
            Some(_) => Err(bad(
                40096,
                "$indexOfArray needs whole numbers from 0 on as start and end",
            )),
        };
    let (from, to) = (bound(2, 0)?, bound(3, items.len())?.min(items.len()));
    let found = (from..to).find(|at| call.variables.order(&items[*at], &wanted).is_eq());
    some(found.map_or(Datum::Int(-1), |at| Datum::integer(at as i64)))
}

/// `$zip`.
pub(super) fn zip(call: &Call<'_>) -> Answer {
    let inputs = call
        .argument
        .as_object()
        .and_then(|o| o.get("inputs")?.as_list());
    let inputs = inputs.ok_or_else(|| bad(34461, "inputs must be an array of expressions"))?;
    let mut lists = Vec::new();
    for e in inputs {
        match list_of(call, call.eval(e)?, 34468)? {
            Some(list) => lists.push(list),
            None => return some(Datum::Null),
        }
    }
    let longest = truth(call.named("useLongestLength")?.as_ref());
    let lengths = lists.iter().map(Vec::len);
    let length = if longest {
        lengths.max()
    } else {
        lengths.min()
    };
    let defaults = list_of(call, call.named("defaults")?, 34462)?;
    if defaults.is_some() && !longest {
        return Err(bad(
            34466,
            "cannot specify defaults unless useLongestLength is true",
        ));
    }
    let rows = (0..length.unwrap_or(0)).map(|at| {
        let row = lists.iter().enumerate().map(|(number, list)| {
            let usual = || defaults.as_ref().and_then(|d| d.get(number).cloned());
            list.get(at).cloned().or_else(usual).unwrap_or(Datum::Null)
        });
        Datum::List(row.collect())
    });
    some(Datum::List(rows.collect()))
}

/// `$arrayToObject`: pairs, or objects of `k` and `v`; the last of a name counts.
pub(super) fn to_object(call: &Call<'_>) -> Answer {
    let Some(list) = list_of(call, call.one()?, 40386)? else {
        return some(Datum::Null);
    };
    let mut out = Document::new();
    for element in list {
        let (name, value) = match element {
            Datum::List(pair) => <[Datum; 2]>::try_from(pair)
                .map(|[k, v]| (k, v))
                .map_err(|_| bad(40397, "$arrayToObject requires an array of size 2 arrays"))?,
            Datum::Object(o) if o.len() == 2 => match (o.get("k"), o.get("v")) {
                (Some(k), Some(v)) => (k.clone(), v.clone()),
                _ => {
                    return Err(bad(
                        40393,
                        "$arrayToObject requires an object with keys 'k' and 'v'",
                    ));
                }
            },
            _ => {
                return Err(bad(
                    40398,
                    "$arrayToObject requires pairs, or objects with keys 'k' and 'v'",
                ));
            }
        };
        let name = name
            .as_text()
            .ok_or_else(|| bad(40395, "$arrayToObject requires names that are strings"))?;
        if name.contains('\0') {
            return Err(bad(4_940_400, "a name cannot hold a null byte"));
        }
        out.set(name, value);
    }
    some(out.into())
}
