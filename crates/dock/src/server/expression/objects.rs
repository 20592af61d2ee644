//! Objects: `$mergeObjects`, `$objectToArray`, `$getField`, `$setField`.

use super::*;

/// `$mergeObjects`.
pub(super) fn merge(call: &Call<'_>) -> Answer {
    let mut out = Document::new();
    for value in call.several()? {
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

/// `$objectToArray`.
pub(super) fn to_list(call: &Call<'_>) -> Answer {
    match call.one()? {
        Some(Datum::Object(o)) => some(Datum::List(
            o.fields
                .into_iter()
                .map(|(k, v)| Document::new().with("k", k.as_str()).with("v", v).into())
                .collect(),
        )),
        None | Some(Datum::Null | Datum::Undefined) => some(Datum::Null),
        Some(_) => Err(bad(40390, "$objectToArray requires a document input")),
    }
}

/// `$getField`.
pub(super) fn field(call: &Call<'_>) -> Answer {
    let Call {
        argument, document, ..
    } = *call;

    let (field_name, input) = match argument {
        Datum::Object(o) if o.get("field").is_some() => (
            call.eval(o.get("field").unwrap_or(&Datum::Null))?,
            call.named("input")?,
        ),
        other => (call.eval(other)?, Some(Datum::Object(document.clone()))),
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

/// `$setField`, `$unsetField`: a name is taken as it stands, with its dots and signs.
pub(super) fn set_field(call: &Call<'_>) -> Answer {
    let name = call.named("field")?;
    let name = name.as_ref().and_then(Datum::as_text).ok_or_else(|| {
        bad(
            4_161_107,
            format!("{} requires 'field' to be a constant string", call.name),
        )
    })?;
    let mut out = match call.named("input")? {
        Some(Datum::Object(o)) => o,
        value if null_or(&value) => return some(Datum::Null),
        other => {
            return Err(bad(
                4_161_105,
                format!(
                    "{} requires 'input' to evaluate to type Object, found {}",
                    call.name,
                    other.as_ref().map_or("missing", type_name)
                ),
            ));
        }
    };
    let value = if call.name == "$setField" {
        call.named("value")?
    } else {
        None
    };
    match value {
        Some(value) => out.set(name, value),
        None => {
            out.remove(name);
        }
    }
    some(out.into())
}
