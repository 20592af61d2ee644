//! Kinds, and what is made of one another: `$type`, `$convert` and their like.

use super::*;

/// `$isArray`.
pub(super) fn is_list(call: &Call<'_>) -> Answer {
    truth_of(matches!(call.one()?, Some(Datum::List(_))))
}

/// `$isNumber`.
pub(super) fn is_number(call: &Call<'_>) -> Answer {
    truth_of(call.one()?.is_some_and(|v| v.is_number()))
}

/// `$type`.
pub(super) fn kind(call: &Call<'_>) -> Answer {
    some(call.one()?.as_ref().map_or("missing", type_name).into())
}

/// `$toString`, `$toDouble`, `$toLong`, `$toInt`, `$toDecimal`, `$toBool`, `$toDate`, `$toObjectId`.
pub(super) fn to_kind(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let value = call.one()?;
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
    crate::server::conversion::converted(&value, to).map(Some)
}

/// `$convert`.
pub(super) fn convert_to(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

    let Some(value) = call.named("input")?.filter(|v| !v.is_null()) else {
        return call.named("onNull").map(|v| v.or(Some(Datum::Null)));
    };
    let to = match call.named("to")? {
        Some(Datum::Text(to)) => to.to_string(),
        Some(Datum::Null) | None => return some(Datum::Null),
        Some(number) => kind_of_name(&number)?
            .map_or("double", |kind| {
                type_name(&crate::server::conversion::sample(kind))
            })
            .to_string(),
    };
    match (
        crate::server::conversion::converted(&value, &to),
        argument.as_object().and_then(|o| o.get("onError")),
    ) {
        (Ok(value), _) => some(value),
        (Err(_), Some(other)) => call.eval(other),
        (Err(error), None) => Err(error),
    }
}

/// `$bsonSize`: bytes of an object.
pub(super) fn object_size(call: &Call<'_>) -> Answer {
    match call.one()? {
        Some(Datum::Object(o)) => some(Datum::integer(
            idle_tide_core::document::bson::encode(&o).len() as i64,
        )),
        value if null_or(&value) => some(Datum::Null),
        other => Err(bad(
            31393,
            format!(
                "$bsonSize requires a document input, found: {}",
                other.as_ref().map_or("missing", type_name)
            ),
        )),
    }
}

/// `$binarySize`: bytes of a text or of binary data.
pub(super) fn binary_size(call: &Call<'_>) -> Answer {
    match call.one()? {
        Some(Datum::Text(text)) => some(Datum::integer(text.len() as i64)),
        Some(Datum::Bytes(both)) => some(Datum::integer(both.1.len() as i64)),
        value if null_or(&value) => some(Datum::Null),
        other => Err(bad(
            51276,
            format!(
                "$binarySize requires a string or BinData argument, found: {}",
                other.as_ref().map_or("missing", type_name)
            ),
        )),
    }
}
