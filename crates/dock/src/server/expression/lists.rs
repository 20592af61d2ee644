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
            .is_some_and(|v| items.iter().any(|i| order(i, v).is_eq())),
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

/// `$setUnion`.
pub(super) fn union(call: &Call<'_>) -> Answer {
    let mut all: Vec<Datum> = Vec::new();
    for value in call.several()? {
        match value {
            Some(Datum::List(list)) => all.extend(list),
            _ => return some(Datum::Null),
        }
    }
    all.sort_by(order);
    all.dedup_by(|a, b| order(a, b).is_eq());
    some(Datum::List(all))
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
                    crate::server::stages::compare_by(&keys, a, b)
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
