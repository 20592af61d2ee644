//! Numbers: `$add`, `$round`, `$sum` and their like.

use super::*;

/// `$add`, `$multiply`.
pub(super) fn add_or_multiply(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let mut total = Datum::Int(i32::from(name == "$multiply"));
    let mut date = false;
    for value in call.several()? {
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

/// `$subtract`.
pub(super) fn subtract(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let list = call.exactly(2)?;
    let (Some(a), Some(b)) = (&list[0], &list[1]) else {
        return some(Datum::Null);
    };
    match (a, b) {
        (a, b) if a.is_null() || b.is_null() => some(Datum::Null),
        (Datum::Date(a), Datum::Date(b)) => some(Datum::Long(a.wrapping_sub(*b))),
        (Datum::Date(a), b) => some(Datum::Date(
            a - convert::whole_part(b).ok_or_else(|| no_number(NoNumber::NotNumbers, name))?,
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

/// `$divide`, `$mod`.
pub(super) fn divide_or_mod(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let list = call.exactly(2)?;
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

/// `$abs`, `$ceil`, `$floor`, `$trunc`, `$round`.
pub(super) fn round(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let list = call.several()?;
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

/// `$exp`, `$sqrt`, `$ln`, `$log10`.
pub(super) fn transcendental(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let value = call.one()?;
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
            if name == "$ln" { 28766 } else { 28761 },
            format!("{name}'s argument must be a positive number, but is {x}"),
        )),
        "$ln" => some(Datum::Double(x.ln())),
        _ => some(Datum::Double(x.log10())),
    }
}

/// `$log`: of a number, to a base.
pub(super) fn logarithm(call: &Call<'_>) -> Answer {
    let list = call.exactly(2)?;
    if list.iter().any(null_or) {
        return some(Datum::Null);
    }
    let number = |at: usize| {
        let found = list[at].as_ref().and_then(Datum::as_f64);
        found.ok_or_else(|| no_number(NoNumber::NotNumbers, call.name))
    };
    let (x, base) = (number(0)?, number(1)?);
    if x <= 0.0 {
        return Err(bad(
            28758,
            format!("$log's argument must be a positive number, but is {x}"),
        ));
    }
    if base <= 0.0 || base == 1.0 {
        return Err(bad(
            28759,
            format!("$log's base must be a positive number not equal to 1, but is {base}"),
        ));
    }
    some(Datum::Double(x.ln() / base.ln()))
}

/// `$sin`, `$acosh`, `$degreesToRadians` and their like, in radians.
pub(super) fn trigonometry(call: &Call<'_>) -> Answer {
    let value = call.one()?;
    if null_or(&value) {
        return some(Datum::Null);
    }
    let Some(x) = value.as_ref().and_then(Datum::as_f64) else {
        return Err(no_number(NoNumber::NotNumbers, call.name));
    };
    let within = match call.name {
        "$acos" | "$asin" | "$atanh" => (-1.0..=1.0).contains(&x) || x.is_nan(),
        "$acosh" => x >= 1.0 || x.is_nan(),
        "$sin" | "$cos" | "$tan" => !x.is_infinite(),
        _ => true,
    };
    if !within {
        return Err(bad(50989, format!("cannot apply {} to {x}", call.name)));
    }
    some(Datum::Double(match call.name {
        "$sin" => x.sin(),
        "$cos" => x.cos(),
        "$tan" => x.tan(),
        "$asin" => x.asin(),
        "$acos" => x.acos(),
        "$atan" => x.atan(),
        "$sinh" => x.sinh(),
        "$cosh" => x.cosh(),
        "$tanh" => x.tanh(),
        "$asinh" => x.asinh(),
        "$acosh" => x.acosh(),
        "$atanh" => x.atanh(),
        "$degreesToRadians" => x.to_radians(),
        _ => x.to_degrees(),
    }))
}

/// `$atan2`.
pub(super) fn angle(call: &Call<'_>) -> Answer {
    let list = call.exactly(2)?;
    if list.iter().any(null_or) {
        return some(Datum::Null);
    }
    match (
        list[0].as_ref().and_then(Datum::as_f64),
        list[1].as_ref().and_then(Datum::as_f64),
    ) {
        (Some(y), Some(x)) => some(Datum::Double(y.atan2(x))),
        _ => Err(no_number(NoNumber::NotNumbers, call.name)),
    }
}

/// `$pow`.
pub(super) fn pow(call: &Call<'_>) -> Answer {
    let Call { name, .. } = *call;

    let list = call.exactly(2)?;
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

/// `$sum`, `$avg`, `$min`, `$max`, `$stdDevSamp`, `$stdDevPop`.
pub(super) fn summary(call: &Call<'_>) -> Answer {
    let Call { name, argument, .. } = *call;

    let values = match argument {
        Datum::List(list) => list
            .iter()
            .map(|e| call.eval(e))
            .collect::<Result<Vec<_>>>()?,
        // One argument alone stands for the elements of its list.
        single => match call.eval(single)? {
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
                some(crate::server::stages::total(&sum))
            }
        }
    }
}

/// `$rand`.
pub(super) fn random(call: &Call<'_>) -> Answer {
    let Call {
        document,
        variables,
        ..
    } = *call;

    let state = (variables.now as u64)
        .wrapping_mul(0x9e37_79b9_7f4a_7c15)
        .wrapping_add(document as *const Document as u64);
    some(Datum::Double((state >> 11) as f64 / (1_u64 << 53) as f64))
}
