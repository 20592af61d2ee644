//! Lists as sets, in which order and repetition do not count: `$setUnion`, `$setIsSubset` and their like.

use idle_tide_core::document::compare::Key;

use super::*;

/// The lists as they were given; `None` if one is null.
fn lists(call: &Call<'_>) -> Result<Option<Vec<Vec<Datum>>>> {
    let mut out = Vec::new();
    for value in call.several()? {
        match value {
            Some(Datum::List(list)) => out.push(list),
            value if null_or(&value) => return Ok(None),
            other => {
                return Err(bad(
                    17048,
                    format!(
                        "All operands of {} must be arrays. One argument is of type: {}",
                        call.name,
                        other.as_ref().map_or("missing", type_name)
                    ),
                ));
            }
        }
    }
    Ok(Some(out))
}

/// Each value once, in the order of all values.
fn set(call: &Call<'_>, mut list: Vec<Datum>) -> Vec<Datum> {
    list.sort_by(|a, b| call.variables.order(a, b));
    list.dedup_by(|a, b| call.variables.order(a, b).is_eq());
    list
}

fn holds(call: &Call<'_>, set: &[Datum], value: &Datum) -> bool {
    set.binary_search_by(|known| call.variables.order(known, value))
        .is_ok()
}

/// `$setUnion`, `$setIntersection`: in the order of all values.
pub(super) fn combine(call: &Call<'_>) -> Answer {
    let Some(lists) = lists(call)? else {
        return some(Datum::Null);
    };
    if call.name == "$setUnion" {
        return some(Datum::List(set(call, lists.concat())));
    }
    let mut sets = lists.into_iter().map(|list| set(call, list));
    let mut found = sets.next().unwrap_or_default();
    for other in sets {
        found.retain(|v| holds(call, &other, v));
    }
    some(Datum::List(found))
}

fn two(call: &Call<'_>) -> Result<Option<[Vec<Datum>; 2]>> {
    call.exactly(2)?;
    Ok(lists(call)?.and_then(|both| both.try_into().ok()))
}

/// `$setDifference`: what is in the first and not in the second, in the order in which it came, each once.
pub(super) fn difference(call: &Call<'_>) -> Answer {
    let Some([a, b]) = two(call)? else {
        return some(Datum::Null);
    };
    let key = |v: &Datum| Key(call.variables.folded(v).into_owned());
    let mut gone: std::collections::HashSet<Key> = b.iter().map(key).collect();
    some(Datum::List(
        a.into_iter().filter(|v| gone.insert(key(v))).collect(),
    ))
}

fn needs_lists(call: &Call<'_>) -> Failed {
    bad(
        17046,
        format!(
            "both operands of {} must be arrays, and are not null",
            call.name
        ),
    )
}

/// `$setIsSubset`.
pub(super) fn is_subset(call: &Call<'_>) -> Answer {
    let [a, b] = two(call)?.ok_or_else(|| needs_lists(call))?;
    let whole = set(call, b);
    truth_of(a.iter().all(|v| holds(call, &whole, v)))
}

/// `$setEquals`.
pub(super) fn equal(call: &Call<'_>) -> Answer {
    let lists = lists(call)?.ok_or_else(|| needs_lists(call))?;
    if lists.len() < 2 {
        return Err(bad(17045, "$setEquals needs at least two arguments"));
    }
    let sets: Vec<_> = lists.into_iter().map(|list| set(call, list)).collect();
    let same = |a: &Datum, b: &Datum| call.variables.order(a, b).is_eq();
    truth_of(sets.windows(2).all(|pair| {
        pair[0].len() == pair[1].len() && pair[0].iter().zip(&pair[1]).all(|(a, b)| same(a, b))
    }))
}
