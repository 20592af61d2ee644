//! Conversions between kinds, as `$convert` and its short forms do them.

use idle_tide_core::document::{Datum, Decimal128, Kind, id_of, time};

use super::{Failed, type_name};
use crate::convert;

/// A value of a kind, for its name.
pub(super) fn sample(kind: Kind) -> Datum {
    match kind {
        Kind::Text => "".into(),
        Kind::Int => Datum::Int(0),
        Kind::Long => Datum::Long(0),
        Kind::Decimal => Datum::Decimal(Decimal128::NAN),
        Kind::Boolean => false.into(),
        Kind::Date => Datum::Date(0),
        Kind::Id => Datum::Id([0; 12]),
        _ => Datum::Double(0.0),
    }
}

/// The value as another kind.
///
/// # Errors
/// With the documented code where there is no such conversion, or the value does not fit.
pub fn converted(value: &Datum, to: &str) -> Result<Datum, Failed> {
    let none = || {
        Failed::new(
            241,
            format!(
                "Unsupported conversion from {} to {to} in $convert with no onError value",
                type_name(value)
            ),
        )
    };
    let over = || {
        Failed::new(
            241,
            format!(
                "Conversion would overflow target type in $convert with no onError value: {}",
                convert::text(value).unwrap_or_default()
            ),
        )
    };
    Ok(match to {
        "string" => convert::text(value).ok_or_else(none)?.into(),
        "bool" => match value {
            v if v.is_number() => (v.as_f64() != Some(0.0)).into(),
            Datum::Boolean(b) => (*b).into(),
            _ => true.into(),
        },
        "double" => match value {
            v if v.is_number() => Datum::Double(v.as_f64().ok_or_else(none)?),
            Datum::Boolean(b) => Datum::Double(f64::from(u8::from(*b))),
            Datum::Date(ms) => Datum::Double(*ms as f64),
            Datum::Text(t) => Datum::Double(convert::double_of_text(t).ok_or_else(none)?),
            _ => return Err(none()),
        },
        "decimal" => match value {
            Datum::Decimal(_) => value.clone(),
            Datum::Double(f) => Datum::Decimal(Decimal128::of_f64(*f)),
            Datum::Int(_) | Datum::Long(_) => {
                Datum::Decimal(Decimal128::of_i64(value.as_i64().unwrap_or_default()))
            }
            Datum::Boolean(b) => Datum::Decimal(Decimal128::of_i64(i64::from(*b))),
            Datum::Date(ms) => Datum::Decimal(Decimal128::of_i64(*ms)),
            Datum::Text(t) => Datum::Decimal(t.parse().map_err(|()| none())?),
            _ => return Err(none()),
        },
        "long" | "int" => {
            let whole = match value {
                v if v.is_number() => convert::whole_part(v).ok_or_else(over)?,
                Datum::Boolean(b) => i64::from(*b),
                Datum::Date(ms) if to == "long" => *ms,
                Datum::Text(t) => t.parse().map_err(|_| none())?,
                _ => return Err(none()),
            };
            if to == "int" {
                Datum::Int(i32::try_from(whole).map_err(|_| over())?)
            } else {
                Datum::Long(whole)
            }
        }
        "date" => match value {
            Datum::Date(_) => value.clone(),
            Datum::Id(id) => {
                Datum::Date(i64::from(u32::from_be_bytes([id[0], id[1], id[2], id[3]])) * 1_000)
            }
            Datum::Text(t) => Datum::Date(time::read(t, &time::TimeZone::UTC).ok_or_else(none)?),
            Datum::Long(_) | Datum::Double(_) | Datum::Decimal(_) => {
                Datum::Date(convert::whole_part(value).ok_or_else(over)?)
            }
            _ => return Err(none()),
        },
        "objectId" => match value {
            Datum::Id(_) => value.clone(),
            Datum::Text(t) => Datum::Id(id_of(t).ok_or_else(none)?),
            _ => return Err(none()),
        },
        _ => return Err(none()),
    })
}
