//! What a column can be in a picture, by its values.

use std::collections::HashSet;

use crate::column_type;
use crate::document::bson;
use crate::order::each_row;
use crate::result::ResultSet;
use crate::value::ValueRef;

/// Rows that are looked at.
const LOOKED_AT: u64 = 2_000;

/// What a column can be in a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Days, or days and times.
    Time,
    /// Numbers that measure something.
    Number,
    /// Whole numbers that tell rows apart: a key, or what refers to one.
    Key,
    /// Texts or truth values, and how many different ones were met.
    Category(usize),
    /// Anything else, and columns without a value.
    Nothing,
}

/// Seconds since 1970-01-01T00:00:00Z of a value that is a day, a day and time, or a date of a document. What has no
/// offset is taken as UTC.
pub(super) fn seconds(value: ValueRef<'_>) -> Option<f64> {
    match value {
        ValueRef::Bson(bson::DATE, bytes) => {
            let millis = i64::from_le_bytes(bytes.try_into().ok()?);
            Some(millis as f64 / 1e3)
        }
        ValueRef::Text(text) if text.len() >= 10 && text.as_bytes()[4] == b'-' => {
            let of = |at: jiff::civil::DateTime, offset: i32| {
                let (hour, minute) = (i32::from(at.hour()), i32::from(at.minute()));
                let time = hour * 3_600 + minute * 60 + i32::from(at.second()) - offset;
                let nanos = f64::from(at.subsec_nanosecond());
                let date = at.date();
                let (month, day) = (date.month().unsigned_abs(), date.day().unsigned_abs());
                let days = days(i64::from(date.year()), month, day);
                days as f64 * 86_400.0 + f64::from(time) + nanos / 1e9
            };
            if let Some(((year, month, day), time)) = column_type::plain_moment(text.as_bytes()) {
                let days = days(i64::from(year), month, day);
                return Some(days as f64 * 86_400.0 + f64::from(time.unwrap_or(0)));
            }
            if text.len() == 10 {
                return column_type::date(text)
                    .map(|day| of(day.to_datetime(jiff::civil::Time::midnight()), 0));
            }
            let (at, offset) = column_type::date_and_time(text)?;
            Some(of(at, offset.unwrap_or(0)))
        }
        _ => None,
    }
}

/// Days since 1970-01-01 in the proleptic calendar: of years that begin in March, so that the odd day comes last.
fn days(year: i64, month: u8, day: u8) -> i64 {
    let month = i64::from(month);
    let (year, month) = if month > 2 {
        (year, month - 3)
    } else {
        (year - 1, month + 9)
    };
    let of_year = (153 * month + 2) / 5 + i64::from(day) - 1;
    year * 365 + year.div_euclid(4) - year.div_euclid(100) + year.div_euclid(400) + of_year
        - 719_468
}

/// A finite number.
pub(super) fn number(value: ValueRef<'_>) -> Option<f64> {
    value.as_number().filter(|number| number.is_finite())
}

/// What each column can be, by its declaration and its first rows.
pub fn roles(set: &ResultSet) -> Vec<Role> {
    #[derive(Default, Clone)]
    struct Seen {
        numbers: u64,
        whole: u64,
        times: u64,
        words: u64,
        others: u64,
        different: HashSet<String>,
    }
    let mut seen = vec![Seen::default(); set.columns().len()];
    let mut rows = 0;
    let read = each_row(set, None, &|| false, &mut |_, row| {
        for (at, seen) in seen.iter_mut().enumerate() {
            let value = row.get(at);
            match value {
                ValueRef::Null | ValueRef::Missing => {}
                _ if seconds(value).is_some() => {
                    seen.times += 1;
                }
                _ if value.as_number().is_some() => {
                    seen.numbers += 1;
                    let whole = value
                        .as_number()
                        .is_some_and(|number| number.fract() == 0.0);
                    seen.whole += u64::from(whole && !matches!(value, ValueRef::Float(_)));
                }
                ValueRef::Text(_) | ValueRef::Boolean(_) => {
                    seen.words += 1;
                    seen.different.insert(value.plain());
                }
                _ => seen.others += 1,
            }
        }
        rows += 1;
        rows < LOOKED_AT
    });
    if read.is_err() {
        return vec![Role::Nothing; seen.len()];
    }
    let refers = |name: &str| {
        let name = name.to_ascii_lowercase();
        name == "id" || name == "rowid" || name.ends_with("_id") || name.ends_with("_no")
    };
    let all = seen.iter().zip(set.columns());
    all.map(|(seen, column)| {
        let most = seen
            .numbers
            .max(seen.times)
            .max(seen.words)
            .max(seen.others);
        match most {
            0 => Role::Nothing,
            _ if seen.times == most => Role::Time,
            _ if seen.numbers == most
                && seen.whole == seen.numbers
                && (column.key || refers(&column.name)) =>
            {
                Role::Key
            }
            _ if seen.numbers == most => Role::Number,
            _ if seen.words == most => Role::Category(seen.different.len()),
            _ => Role::Nothing,
        }
    })
    .collect()
}

/// The greatest number of each column without its sign, of the first rows.
pub(super) fn sizes(set: &ResultSet) -> Vec<f64> {
    let mut sizes = vec![0.0_f64; set.columns().len()];
    let mut rows = 0;
    let read = each_row(set, None, &|| false, &mut |_, row| {
        for (at, size) in sizes.iter_mut().enumerate() {
            *size = size.max(number(row.get(at)).map_or(0.0, f64::abs));
        }
        rows += 1;
        rows < LOOKED_AT
    });
    // What cannot be read has no size.
    match read {
        Ok(()) => sizes,
        Err(_) => vec![0.0; sizes.len()],
    }
}
