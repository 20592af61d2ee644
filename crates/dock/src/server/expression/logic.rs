//! Choices and comparisons: `$and`, `$cond`, `$eq` and their like.

use super::*;

/// `$literal`.
pub(super) fn literal(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;
    some(argument.clone())
}

/// `$and`.
pub(super) fn and(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

    for e in argument.as_list().unwrap_or(std::slice::from_ref(argument)) {
        if !truth(call.eval(e)?.as_ref()) {
            return truth_of(false);
        }
    }
    truth_of(true)
}

/// `$or`.
pub(super) fn or(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

    for e in argument.as_list().unwrap_or(std::slice::from_ref(argument)) {
        if truth(call.eval(e)?.as_ref()) {
            return truth_of(true);
        }
    }
    truth_of(false)
}

/// `$not`.
pub(super) fn not(call: &Call<'_>) -> Answer {
    truth_of(!truth(call.one()?.as_ref()))
}

/// `$eq`, `$ne`, `$lt`, `$lte`, `$gt`, `$gte`, `$cmp`.
pub(super) fn compare(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let list = call.exactly(2)?;
    // What is not there is less than everything.
    let found = match (&list[0], &list[1]) {
        (None, None) => std::cmp::Ordering::Equal,
        (None, Some(Datum::MinKey)) => std::cmp::Ordering::Greater,
        (Some(Datum::MinKey), None) => std::cmp::Ordering::Less,
        (None, Some(_)) => std::cmp::Ordering::Less,
        (Some(_), None) => std::cmp::Ordering::Greater,
        (Some(a), Some(b)) => call.variables.order(a, b),
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

/// `$cond`.
pub(super) fn cond(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

    let (test, yes, no) = match argument {
        Datum::List(list) if list.len() == 3 => (&list[0], &list[1], &list[2]),
        Datum::Object(o) => (
            o.get("if").unwrap_or(&Datum::Null),
            o.get("then").unwrap_or(&Datum::Null),
            o.get("else").unwrap_or(&Datum::Null),
        ),
        _ => return Err(bad(16020, "Expression $cond takes exactly 3 arguments.")),
    };
    call.eval(if truth(call.eval(test)?.as_ref()) {
        yes
    } else {
        no
    })
}

/// `$switch`.
pub(super) fn switch(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

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
        if truth(
            call.eval(branch.get("case").unwrap_or(&Datum::Null))?
                .as_ref(),
        ) {
            return call.eval(branch.get("then").unwrap_or(&Datum::Null));
        }
    }
    match object.get("default") {
        Some(default) => call.eval(default),
        None => Err(bad(
            40066,
            "$switch could not find a matching branch for an input, and no default was specified.",
        )),
    }
}

/// `$ifNull`.
pub(super) fn if_null(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

    let list = argument
        .as_list()
        .ok_or_else(|| bad(1257300, "$ifNull needs at least two arguments"))?;
    let mut last = None;
    for e in list {
        last = call.eval(e)?;
        if !null_or(&last) {
            return Ok(last);
        }
    }
    Ok(last)
}

/// `$let`.
pub(super) fn with_names(call: &Call<'_>) -> Answer {
    let Call {
        argument,
        document,
        variables,
        ..
    } = *call;

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
        inner.names.insert(name.to_string(), call.eval(value)?);
    }
    evaluate(object.get("in").unwrap_or(&Datum::Null), document, &inner)
}
