//! Values turned into others, as both the flow language and the aggregation operators of servers do it.

use idle_tide_core::document::number::NoNumber;
use idle_tide_core::document::{Datum, Decimal128, id_text, time};

/// A number as text, the way the servers' own conversion writes it: whole doubles without a point.
pub fn number_text(value: &Datum) -> Option<String> {
    Some(match value {
        Datum::Int(i) => i.to_string(),
        Datum::Long(i) => i.to_string(),
        Datum::Decimal(d) => d.to_string(),
        Datum::Double(f) if f.is_nan() => "NaN".into(),
        Datum::Double(f) if f.is_infinite() => {
            if *f > 0.0 { "Infinity" } else { "-Infinity" }.into()
        }
        Datum::Double(f) if f.trunc() == *f && f.abs() < 1e15 => format!("{f:.0}"),
        Datum::Double(f) => {
            let text = format!("{f:e}");
            let (digits, exponent) = text.split_once('e').unwrap_or((&text, "0"));
            match exponent.parse::<i32>().unwrap_or(0) {
                exponent if (-5..15).contains(&exponent) => f.to_string(),
                exponent => format!("{digits}e{exponent:+03}"),
            }
        }
        _ => return None,
    })
}

/// A number, boolean, date, identifier or text as text.
pub fn text(value: &Datum) -> Option<String> {
    Some(match value {
        Datum::Text(t) => t.to_string(),
        Datum::Boolean(b) => b.to_string(),
        Datum::Id(id) => id_text(id),
        Datum::Date(ms) => {
            let text = time::text(*ms)?;
            if text.contains('.') {
                text
            } else {
                text.replace('Z', ".000Z")
            }
        }
        other => return number_text(other),
    })
}

/// Whether a text reads as a plain decimal number.
pub fn is_number_text(text: &str) -> bool {
    let unsigned = text.strip_prefix(['+', '-']).unwrap_or(text);
    let (digits, exponent) = match unsigned.find(['e', 'E']) {
        Some(at) => (&unsigned[..at], Some(&unsigned[at + 1..])),
        None => (unsigned, None),
    };
    let all_digits = |t: &str| t.bytes().all(|b| b.is_ascii_digit());
    let mantissa = match digits.split_once('.') {
        Some((whole, fraction)) => {
            all_digits(whole) && all_digits(fraction) && !(whole.is_empty() && fraction.is_empty())
        }
        None => all_digits(digits) && !digits.is_empty(),
    };
    let exponent = exponent.is_none_or(|e| {
        let digits = e.strip_prefix(['+', '-']).unwrap_or(e);
        !digits.is_empty() && all_digits(digits)
    });
    mantissa && exponent
}

/// A text as a double.
pub fn double_of_text(text: &str) -> Option<f64> {
    is_number_text(text)
        .then(|| text.parse().ok())
        .flatten()
        .filter(|f: &f64| f.is_finite())
}

/// The whole part of a number as a 64-bit integer, if it fits.
pub fn whole_part(value: &Datum) -> Option<i64> {
    match value {
        Datum::Int(i) => Some(i64::from(*i)),
        Datum::Long(i) => Some(*i),
        Datum::Double(f)
            if f.is_finite()
                && *f < 9_223_372_036_854_775_808.0
                && *f >= -9_223_372_036_854_775_808.0 =>
        {
            Some(*f as i64)
        }
        Datum::Decimal(d) if !d.is_nan() => {
            let whole = d.round(0, bigdecimal_down());
            Datum::Decimal(whole).as_i64()
        }
        _ => None,
    }
}

fn bigdecimal_down() -> idle_tide_core::document::decimal128::Rounding {
    idle_tide_core::document::decimal128::Rounding::Down
}

/// The number without its sign.
///
/// # Errors
/// If the smallest integer has no counterpart.
pub fn abs(value: &Datum) -> Result<Datum, NoNumber> {
    Ok(match value {
        Datum::Int(i) => Datum::integer(i64::from(*i).abs()),
        Datum::Long(i) => Datum::Long(i.checked_abs().ok_or(NoNumber::Overflow)?),
        Datum::Double(f) => Datum::Double(f.abs()),
        Datum::Decimal(d) => match d.to_string().strip_prefix('-') {
            Some(digits) => Datum::Decimal(digits.parse().unwrap_or(*d)),
            None => value.clone(),
        },
        _ => return Err(NoNumber::NotNumbers),
    })
}

/// Which way a number is made whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// To the next whole number upwards.
    Up,
    /// Downwards.
    Down,
    /// Towards zero.
    Trunc,
    /// To the nearest, half to even.
    Nearest,
}

/// Makes a number whole at so many places after the point; negative places count before it. Kinds stay.
///
/// # Errors
/// [`NoNumber`].
pub fn round(value: &Datum, places: i64, way: Way) -> Result<Datum, NoNumber> {
    use idle_tide_core::document::decimal128::Rounding;
    let mode = match way {
        Way::Up => Rounding::Ceiling,
        Way::Down => Rounding::Floor,
        Way::Trunc => Rounding::Down,
        Way::Nearest => Rounding::HalfEven,
    };
    Ok(match value {
        Datum::Int(_) | Datum::Long(_) if places >= 0 => value.clone(),
        Datum::Int(_) | Datum::Long(_) => {
            let number = value.as_i64().unwrap_or_default();
            let rounded = Decimal128::of_i64(number).round(places, mode);
            let plain = whole_part(&Datum::Decimal(rounded)).ok_or(NoNumber::Overflow)?;
            match (value, i32::try_from(plain)) {
                (Datum::Int(_), Ok(fits)) => Datum::Int(fits),
                _ => Datum::Long(plain),
            }
        }
        Datum::Double(f) if !f.is_finite() => value.clone(),
        Datum::Double(f) if places == 0 => Datum::Double(match way {
            Way::Up => f.ceil(),
            Way::Down => f.floor(),
            Way::Trunc => f.trunc(),
            Way::Nearest => f.round_ties_even(),
        }),
        Datum::Double(f) => Datum::Double(Decimal128::of_f64(*f).round(places, mode).to_f64()),
        Datum::Decimal(d) => Datum::Decimal(d.round(places, mode)),
        _ => return Err(NoNumber::NotNumbers),
    })
}

/// The characters from `from` (counted from 0), so many of them.
pub fn characters(text: &str, from: usize, count: usize) -> &str {
    let at = |n: usize| text.char_indices().nth(n).map_or(text.len(), |(at, _)| at);
    if text.is_ascii() {
        let start = from.min(text.len());
        return &text[start..start.saturating_add(count).min(text.len())];
    }
    let start = at(from);
    let rest = &text[start..];
    let end = rest
        .char_indices()
        .nth(count)
        .map_or(rest.len(), |(at, _)| at);
    &rest[..end]
}

/// The number below which a share of sorted numbers lies: the one at the nearest rank.
pub fn percentile(sorted: &[f64], share: f64) -> Option<f64> {
    let rank = (share * sorted.len() as f64).ceil() as usize;
    sorted.get(rank.max(1) - 1).copied()
}

/// Cuts values in order into bands of about the same number; equal values stay together. Gives how many each takes.
pub fn bands(equal_to_next: &dyn Fn(usize) -> bool, values: usize, wanted: usize) -> Vec<usize> {
    let size = ((values as f64 / wanted as f64).round() as usize).max(1);
    let mut sizes = Vec::new();
    let mut at = 0;
    while at < values && sizes.len() < wanted {
        let mut end = if sizes.len() + 1 == wanted {
            values
        } else {
            (at + size).min(values)
        };
        while end < values && equal_to_next(end - 1) {
            end += 1;
        }
        sizes.push(end - at);
        at = end;
    }
    sizes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_and_write_as_servers_do() {
        for (value, written) in [
            (Datum::Double(1.0), "1"),
            (Datum::Double(0.1), "0.1"),
            (Datum::Double(1e20), "1e+20"),
            (Datum::Double(-1.5e-7), "-1.5e-07"),
            (Datum::Double(f64::NAN), "NaN"),
            (Datum::Long(-5), "-5"),
            (Datum::Date(0), "1970-01-01T00:00:00.000Z"),
        ] {
            assert_eq!(text(&value).as_deref(), Some(written));
        }
        for good in ["1", "-1.5", ".5", "5.", "1e3", "+2E-1"] {
            assert!(double_of_text(good).is_some(), "{good}");
        }
        for bad in ["", ".", "1 ", "0x1", "e5", "1e", "NaN", "1e999"] {
            assert!(double_of_text(bad).is_none(), "{bad}");
        }
    }

    #[test]
    fn rounding_is_half_to_even_and_keeps_the_kind() {
        assert_eq!(
            round(&Datum::Double(2.5), 0, Way::Nearest),
            Ok(Datum::Double(2.0))
        );
        assert_eq!(
            round(&Datum::Double(2.345), 1, Way::Nearest),
            Ok(Datum::Double(2.3))
        );
        assert_eq!(round(&Datum::Int(25), -1, Way::Nearest), Ok(Datum::Int(20)));
        assert_eq!(round(&Datum::Int(-25), -1, Way::Trunc), Ok(Datum::Int(-20)));
        assert_eq!(abs(&Datum::Long(i64::MIN)), Err(NoNumber::Overflow));
        assert_eq!(characters("häfen", 1, 2), "äf");
        assert_eq!(characters("ab", 5, 2), "");
        assert_eq!(percentile(&[1.0, 2.0, 3.0, 4.0], 0.5), Some(2.0));
        assert_eq!(percentile(&[], 0.5), None);
        let values = [1, 1, 1, 2, 3, 4];
        assert_eq!(
            bands(&|at| values.get(at) == values.get(at + 1), 6, 3),
            [3, 2, 1]
        );
    }
}
