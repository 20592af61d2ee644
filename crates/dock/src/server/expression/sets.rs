//! Lists as sets, in which order and repetition do not count: `$setUnion`, `$setIsSubset` and their like.

use std::collections::BTreeSet;

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

fn set(list: &[Datum]) -> BTreeSet<Ordered> {
    list.iter().cloned().map(Ordered).collect()
}

/// A value in the order of all values.
struct Ordered(Datum);

impl PartialEq for Ordered {
    fn eq(&self, other: &Self) -> bool {
        order(&self.0, &other.0).is_eq()
    }
}

impl Eq for Ordered {}

impl PartialOrd for Ordered {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Ordered {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        order(&self.0, &other.0)
    }
}

/// `$setUnion`, `$setIntersection`: in the order of all values.
pub(super) fn combine(call: &Call<'_>) -> Answer {
    let Some(lists) = lists(call)? else {
        return some(Datum::Null);
    };
    let mut sets = lists.iter().map(|l| set(l));
    let mut found = sets.next().unwrap_or_default();
    for other in sets {
        if call.name == "$setUnion" {
            found.extend(other);
        } else {
            found.retain(|v| other.contains(v));
        }
    }
    some(Datum::List(found.into_iter().map(|v| v.0).collect()))
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
    let mut gone: std::collections::HashSet<Key> = b.into_iter().map(Key).collect();
    some(Datum::List(
        a.into_iter()
            .filter(|v| gone.insert(Key(v.clone())))
            .collect(),
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
    truth_of(set(&a).is_subset(&set(&b)))
}

/// `$setEquals`.
pub(super) fn equal(call: &Call<'_>) -> Answer {
    let lists = lists(call)?.ok_or_else(|| needs_lists(call))?;
    if lists.len() < 2 {
        return Err(bad(17045, "$setEquals needs at least two arguments"));
    }
    let sets: Vec<_> = lists.iter().map(|l| set(l)).collect();
    truth_of(sets.windows(2).all(|pair| pair[0] == pair[1]))
}
