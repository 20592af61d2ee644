//! Texts of files as values of types, and the forms in which people write numbers and days.

use std::borrow::Cow;

use idle_tide_core::column_type::{ColumnType, date, date_and_time, time};
use idle_tide_core::{RowBatch, ValueRef};

/// How values of a column are written, where it is not the plain way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Form {
    /// As databases write them.
    #[default]
    Plain,
    /// Numbers with a comma before their decimals and points between thousands: `1.240,50`.
    CommaDecimal,
    /// Days with the day first: `1.3.2031`, `01/03/2031`.
    DayFirst,
    /// Days with the month first: `3/1/2031`.
    MonthFirst,
}

/// The forms by their names.
pub const FORMS: &[(&str, Form)] = &[
    ("plain", Form::Plain),
    ("comma", Form::CommaDecimal),
    ("dmy", Form::DayFirst),
    ("mdy", Form::MonthFirst),
];

impl Form {
    /// The form of a name.
    pub fn named(name: &str) -> Option<Self> {
        let found = FORMS.iter().find(|(other, _)| *other == name);
        found.map(|(_, form)| *form)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        let found = FORMS.iter().find(|(_, form)| *form == self);
        found.map_or("plain", |(name, _)| name)
    }

    /// A text in the plain way; as it is where it is not of this form.
    pub fn plain<'a>(self, text: &'a str) -> Cow<'a, str> {
        let made = match self {
            Form::Plain => None,
            Form::CommaDecimal => comma_decimal(text),
            Form::DayFirst => day(text, true),
            Form::MonthFirst => day(text, false),
        };
        made.map_or(Cow::Borrowed(text), Cow::Owned)
    }
}

fn comma_decimal(text: &str) -> Option<String> {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (before, after) = digits.split_once(',').unwrap_or((digits, ""));
    let groups: Vec<&str> = before.split('.').collect();
    let all = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    let grouped = groups.len() == 1
        || groups[0].len() <= 3 && groups[1..].iter().all(|group| group.len() == 3);
    if !groups.iter().all(|group| all(group)) || !grouped || digits.ends_with(',') {
        return None;
    }
    if !after.is_empty() && !all(after) {
        return None;
    }
    let sign = if text.starts_with('-') { "-" } else { "" };
    let point = if after.is_empty() { "" } else { "." };
    Some(format!("{sign}{}{point}{after}", groups.concat()))
}

fn day(text: &str, day_first: bool) -> Option<String> {
    let (written, rest) = match text.split_once(' ') {
        Some((day, time)) => (day, Some(time)),
        None => (text, None),
    };
    let sign = written
        .find(['.', '/', '-'])
        .map(|at| written.as_bytes()[at])?;
    let parts: Vec<&str> = written.split(char::from(sign)).collect();
    let [first, second, year] = parts[..] else {
        return None;
    };
    if year.len() != 4 || first.len() > 2 || second.len() > 2 {
        return None;
    }
    let (day, month) = if day_first {
        (first, second)
    } else {
        (second, first)
    };
    let plain = format!("{year}-{month:0>2}-{day:0>2}");
    date(&plain)?;
    Some(match rest {
        Some(at) => {
            time(at)?;
            format!("{plain} {at}")
        }
        None => plain,
    })
}

/// Puts a text into a batch as a value of a type; why not, where it is none.
///
/// # Errors
/// In words that go on behind the text: `is no integer`.
pub(crate) fn put(
    text: &str,
    of: ColumnType,
    form: Form,
    batch: &mut RowBatch,
) -> Result<(), String> {
    let text = form.plain(text);
    let no = || format!("is no {of}");
    match of {
        ColumnType::Text => batch.push(ValueRef::Text(&text)),
        ColumnType::Integer => {
            let number = text.trim().parse().map_err(|_| no())?;
            batch.push(ValueRef::Integer(number));
        }
        ColumnType::Float => {
            let number: f64 = text.trim().parse().map_err(|_| no())?;
            batch.push(ValueRef::Float(number));
        }
        ColumnType::Decimal(..) if of.takes(&text) => batch.push(ValueRef::Number(text.trim())),
        ColumnType::Boolean => {
            let yes = ["true", "t", "yes", "1"]
                .iter()
                .any(|word| text.eq_ignore_ascii_case(word));
            let not = ["false", "f", "no", "0"]
                .iter()
                .any(|word| text.eq_ignore_ascii_case(word));
            if !yes && !not {
                return Err(no());
            }
            batch.push(ValueRef::Boolean(yes));
        }
        ColumnType::Date if date(&text).is_some() => batch.push(ValueRef::Text(&text)),
        ColumnType::Time if time(&text).is_some() => batch.push(ValueRef::Text(&text)),
        ColumnType::Moment | ColumnType::ZonedMoment => {
            let zoned = match date_and_time(&text) {
                Some((_, zone)) => zone.is_some(),
                // A day is its beginning.
                None => date(&text).map(|_| false).ok_or_else(no)?,
            };
            if zoned && of == ColumnType::Moment {
                return Err("has an offset, which the type does not keep".into());
            }
            batch.push(ValueRef::Text(&text));
        }
        ColumnType::Bytes => {
            let hex = text.strip_prefix("\\x").unwrap_or(&text);
            if !of.takes(hex) {
                return Err("are no bytes in hexadecimal".into());
            }
            let digit = |at: usize| u8::from_str_radix(&hex[at..at + 2], 16);
            let bytes: Result<Vec<u8>, _> = (0..hex.len()).step_by(2).map(digit).collect();
            batch.push(ValueRef::Bytes(&bytes.map_err(|_| no())?));
        }
        ColumnType::Uuid | ColumnType::Json if of.takes(&text) => batch.push(ValueRef::Text(&text)),
        _ => return Err(no()),
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms_of_people_become_plain() {
        for (form, text, plain) in [
            (Form::CommaDecimal, "1.240,50", "1240.50"),
            (Form::CommaDecimal, "-7", "-7"),
            (Form::CommaDecimal, "1.24,5", "1.24,5"),
            (Form::CommaDecimal, "a,5", "a,5"),
            (Form::DayFirst, "1.3.2031", "2031-03-01"),
            (Form::DayFirst, "01/03/2031 10:30", "2031-03-01 10:30"),
            (Form::DayFirst, "31.2.2031", "31.2.2031"),
            (Form::MonthFirst, "3/1/2031", "2031-03-01"),
            (Form::MonthFirst, "13/1/2031", "13/1/2031"),
        ] {
            assert_eq!(form.plain(text), plain, "{form:?} {text}");
        }
    }

    #[test]
    fn what_is_no_value_says_why() {
        let mut batch = RowBatch::new();
        let mut why = |text: &str, of: &str| {
            let of = ColumnType::named(of).expect("a type");
            put(text, of, Form::Plain, &mut batch).err()
        };
        assert_eq!(why("7", "integer"), None);
        assert_eq!(why("x", "integer").as_deref(), Some("is no integer"));
        assert_eq!(
            why("12.345", "decimal(4,2)").as_deref(),
            Some("is no decimal(4,2)")
        );
        assert_eq!(why("2031-03-01", "timestamp"), None);
        assert!(why("2031-03-01 10:00Z", "timestamp").is_some_and(|w| w.contains("offset")));
        assert_eq!(why("yes", "boolean"), None);
        assert_eq!(
            why("0g", "bytes").as_deref(),
            Some("are no bytes in hexadecimal")
        );
        assert_eq!(why("{", "json").as_deref(), Some("is no json"));
    }
}
