//! Bits of whole numbers: `$bitAnd`, `$bitNot` and their like.

use super::*;

fn bits(value: &Datum, name: &str) -> Result<i64> {
    match value {
        Datum::Int(n) => Ok(i64::from(*n)),
        Datum::Long(n) => Ok(*n),
        other => Err(bad(
            14,
            format!(
                "{name} only supports int and long operands, not {}",
                type_name(other)
            ),
        )),
    }
}

/// The narrower of the kinds, unless a long was among what was given.
fn number(n: i64, long: bool) -> Datum {
    match i32::try_from(n) {
        Ok(small) if !long => Datum::Int(small),
        _ => Datum::Long(n),
    }
}

/// `$bitAnd`, `$bitOr`, `$bitXor`.
pub(super) fn combine(call: &Call<'_>) -> Answer {
    let mut found = if call.name == "$bitAnd" { -1 } else { 0 };
    let mut long = false;
    for value in call.several()? {
        let Some(value) = value.filter(|v| !v.is_null()) else {
            return some(Datum::Null);
        };
        let n = bits(&value, call.name)?;
        long |= matches!(value, Datum::Long(_));
        found = match call.name {
            "$bitAnd" => found & n,
            "$bitOr" => found | n,
            _ => found ^ n,
        };
    }
    some(number(found, long))
}

/// `$bitNot`.
pub(super) fn not(call: &Call<'_>) -> Answer {
    let Some(value) = call.one()?.filter(|v| !v.is_null()) else {
        return some(Datum::Null);
    };
    some(number(
        !bits(&value, call.name)?,
        matches!(value, Datum::Long(_)),
    ))
}
