//! The type of a column, found from its values: the narrowest one that keeps every value as it is. Texts are looked at as
//! they stand in files, values as databases give them.

use jiff::civil;

use crate::value::ValueRef;

/// A type of a column, without the words of a database.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ColumnType {
    /// True and false.
    Boolean,
    /// Whole numbers of 64 bits.
    Integer,
    /// Decimal numbers: all digits, and those behind the point.
    Decimal(u32, u32),
    /// Binary numbers of 64 bits (IEEE 754).
    Float,
    /// A day (ISO 8601).
    Date,
    /// A time of day.
    Time,
    /// A day and time of day without a zone.
    Moment,
    /// The same with a zone or an offset.
    ZonedMoment,
    /// A universally unique identifier (RFC 9562).
    Uuid,
    /// JSON (RFC 8259): an object or a list.
    Json,
    /// Bytes.
    Bytes,
    /// Text.
    Text,
}

/// The types by their names, without the size of decimals.
pub const NAMED: &[(&str, ColumnType)] = &[
    ("boolean", ColumnType::Boolean),
    ("integer", ColumnType::Integer),
    ("decimal", ColumnType::Decimal(0, 0)),
    ("float", ColumnType::Float),
    ("date", ColumnType::Date),
    ("time", ColumnType::Time),
    ("timestamp", ColumnType::Moment),
    ("timestamptz", ColumnType::ZonedMoment),
    ("uuid", ColumnType::Uuid),
    ("json", ColumnType::Json),
    ("bytes", ColumnType::Bytes),
    ("text", ColumnType::Text),
];

impl ColumnType {
    /// Its name.
    pub fn name(self) -> &'static str {
        let same =
            |other: &ColumnType| std::mem::discriminant(other) == std::mem::discriminant(&self);
        let found = NAMED.iter().find(|(_, other)| same(other));
        found.map_or("text", |(name, _)| name)
    }

    /// The type of a name; `decimal(12,2)` has its size.
    pub fn named(name: &str) -> Option<Self> {
        let name = name.trim().to_ascii_lowercase();
        if let Some(size) = name.strip_prefix("decimal(") {
            let (digits, scale) = size.strip_suffix(')')?.split_once(',')?;
            let (digits, scale) = (digits.trim().parse().ok()?, scale.trim().parse().ok()?);
            return (digits > 0 && scale <= digits).then_some(ColumnType::Decimal(digits, scale));
        }
        let found = NAMED.iter().find(|(other, _)| *other == name);
        found.map(|(_, found)| *found)
    }

    /// Whether its values stand to the right.
    pub fn is_number(self) -> bool {
        matches!(
            self,
            ColumnType::Integer | ColumnType::Decimal(..) | ColumnType::Float
        )
    }

    /// Whether a text is a value of it as it stands.
    pub fn takes(self, text: &str) -> bool {
        match self {
            ColumnType::Text => true,
            ColumnType::Bytes => is_hexadecimal(text),
            // A leading zero or plus is lost in numbers; who asks for them gets them.
            ColumnType::Integer => text.trim().parse::<i64>().is_ok(),
            ColumnType::Float => text.trim().parse::<f64>().is_ok(),
            ColumnType::Decimal(digits, scale) => match decimal_digits(text.trim()) {
                Some((before, after)) => {
                    digits == 0 || (before <= digits - scale && after <= scale)
                }
                None => false,
            },
            _ => could_be(text) & self.bit() != 0,
        }
    }

    fn bit(self) -> u16 {
        match self {
            ColumnType::Boolean => BOOLEAN,
            ColumnType::Integer => INTEGER,
            ColumnType::Decimal(..) => DECIMAL,
            ColumnType::Float => FLOAT,
            ColumnType::Date => DATE,
            ColumnType::Time => TIME,
            ColumnType::Moment => MOMENT,
            ColumnType::ZonedMoment => ZONED,
            ColumnType::Uuid => UUID,
            ColumnType::Json => JSON,
            ColumnType::Bytes | ColumnType::Text => 0,
        }
    }
}

impl std::fmt::Display for ColumnType {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            ColumnType::Decimal(digits, scale) if *digits > 0 => {
                write!(f, "decimal({digits},{scale})")
            }
            other => f.write_str(other.name()),
        }
    }
}

const BOOLEAN: u16 = 1;
const INTEGER: u16 = 1 << 1;
const DECIMAL: u16 = 1 << 2;
const FLOAT: u16 = 1 << 3;
const DATE: u16 = 1 << 4;
const TIME: u16 = 1 << 5;
const MOMENT: u16 = 1 << 6;
const ZONED: u16 = 1 << 7;
const UUID: u16 = 1 << 8;
const JSON: u16 = 1 << 9;
const ALL: u16 = (1 << 10) - 1;

/// The largest decimal that every server keeps (38 digits).
const MOST_DIGITS: u32 = 38;

/// What is known of the type of a column after some of its values.
#[derive(Debug, Clone)]
pub struct Evidence {
    possible: u16,
    /// How many texts could be of the same types, by these; there are few such kinds of text.
    tallies: Vec<(u16, u64)>,
    before_point: u32,
    after_point: u32,
    /// Values that were bytes.
    bytes: u64,
    /// Texts whose bytes are no UTF-8.
    pub not_utf8: u64,
    /// Values that are no null.
    pub values: u64,
    /// Nulls.
    pub nulls: u64,
    /// Characters of the longest text, at most bytes.
    pub longest: usize,
}

impl Default for Evidence {
    fn default() -> Self {
        Evidence {
            possible: ALL,
            tallies: Vec::new(),
            before_point: 0,
            after_point: 0,
            bytes: 0,
            not_utf8: 0,
            values: 0,
            nulls: 0,
            longest: 0,
        }
    }
}

impl Evidence {
    /// A text as it stands in a file.
    #[inline]
    pub fn text(&mut self, text: &str) {
        // Most values of most columns are plain numbers, or texts of a column that has shown to be one.
        if let Some((mask, before, after)) = plain_number(text.as_bytes()) {
            return self.tally(text, mask, Some((before, after)));
        }
        if self.is_text() {
            return self.tally(text, 0, None);
        }
        let mask = match plain_moment(text.as_bytes()) {
            Some((_, Some(_))) => MOMENT,
            Some((_, None)) => DATE,
            None => could_be(text),
        };
        self.seen(text, mask);
    }

    /// Adds what was found in other values of the same column.
    pub fn merge(&mut self, other: &Evidence) {
        self.possible &= other.possible;
        for (mask, count) in &other.tallies {
            match self.tallies.iter_mut().find(|(own, _)| own == mask) {
                Some((_, own)) => *own += count,
                None => self.tallies.push((*mask, *count)),
            }
        }
        self.digits(other.before_point, other.after_point);
        self.bytes += other.bytes;
        self.not_utf8 += other.not_utf8;
        self.values += other.values;
        self.nulls += other.nulls;
        self.longest = self.longest.max(other.longest);
    }

    /// A decimal with so many digits before and behind its point.
    #[inline]
    fn digits(&mut self, before: u32, after: u32) {
        self.before_point = self.before_point.max(before);
        self.after_point = self.after_point.max(after);
        if self.before_point + self.after_point > MOST_DIGITS {
            self.possible &= !DECIMAL;
        }
    }

    /// Whether enough texts were seen to know that they are nothing else.
    fn is_text(&self) -> bool {
        self.possible == 0
            && self.values > 1_000
            && self
                .tallies
                .first()
                .is_some_and(|(mask, count)| *mask == 0 && *count > self.values / 2)
    }

    fn seen(&mut self, text: &str, mask: u16) {
        let digits = match mask & DECIMAL {
            0 => None,
            _ => decimal_digits(text),
        };
        self.tally(text, mask, digits);
    }

    #[inline]
    fn tally(&mut self, text: &str, mask: u16, digits: Option<(u32, u32)>) {
        self.values += 1;
        self.longest = self.longest.max(text.len());
        self.possible &= mask;
        match self.tallies.iter_mut().find(|(other, _)| *other == mask) {
            Some((_, count)) => *count += 1,
            None => self.tallies.push((mask, 1)),
        }
        if let Some((before, after)) = digits {
            self.digits(before, after);
        }
    }

    /// A text that is known to be one, so that it is no number even if it looks like one.
    pub fn said_text(&mut self, text: &str) {
        self.seen(text, could_be(text) & (DATE | TIME | MOMENT | ZONED | UUID));
    }

    /// The type of almost all of the texts, where it is narrower than that of all: at most `few` of them do not fit it. Text where
    /// there is no such type.
    pub fn mostly(&self, few: u64) -> ColumnType {
        let all = self.column_type();
        if all != ColumnType::Text {
            return all;
        }
        let order = [
            BOOLEAN, INTEGER, DECIMAL, FLOAT, DATE, MOMENT, ZONED, TIME, UUID, JSON,
        ];
        let fits = |bit: u16| {
            let fitting = self.tallies.iter().filter(|(mask, _)| mask & bit != 0);
            let fitting: u64 = fitting.map(|(_, count)| count).sum();
            fitting > 0 && self.values - fitting <= few
        };
        let found = order.into_iter().find(|bit| fits(*bit));
        found.map_or(ColumnType::Text, |bit| {
            Evidence {
                possible: bit,
                ..self.clone()
            }
            .column_type()
        })
    }

    /// A value as a database gives it; `moments` says that its column is declared to hold dates, times or the like, so that
    /// a text is looked at too.
    pub fn value(&mut self, value: ValueRef<'_>, moments: bool) {
        match value {
            ValueRef::Null | ValueRef::Missing => self.nulls += 1,
            ValueRef::Boolean(_) => self.only(BOOLEAN),
            ValueRef::Integer(number) => {
                self.only(INTEGER | DECIMAL | FLOAT);
                self.before_point = self
                    .before_point
                    .max(number.unsigned_abs().max(1).ilog10() + 1);
                // What a binary number cannot keep is none.
                if number.unsigned_abs() > 1 << 53 {
                    self.possible &= !FLOAT;
                }
            }
            ValueRef::Float(_) => self.only(FLOAT),
            ValueRef::Number(digits) => {
                self.only(DECIMAL | FLOAT);
                match decimal_digits(digits) {
                    Some((before, after)) => {
                        self.digits(before, after);
                        if digits.parse::<f64>().map(|f| f.to_string()).as_deref() != Ok(digits) {
                            self.possible &= !FLOAT;
                        }
                    }
                    None => self.possible = 0,
                }
            }
            ValueRef::Text(text) if moments => {
                self.text(text);
                self.possible &= DATE | TIME | MOMENT | ZONED | UUID | JSON;
            }
            ValueRef::Bytes(bytes) => {
                self.only(0);
                self.bytes += 1;
                self.longest = self.longest.max(bytes.len());
            }
            ValueRef::Text(text) => {
                self.only(0);
                self.longest = self.longest.max(text.len());
            }
            ValueRef::RawText(_) => {
                self.only(0);
                self.not_utf8 += 1;
            }
            ValueRef::Bson(..) => self.only(0),
        }
    }

    fn only(&mut self, types: u16) {
        self.values += 1;
        self.possible &= types;
    }

    /// The narrowest type that takes all values; text where there was none.
    pub fn column_type(&self) -> ColumnType {
        if self.values == 0 {
            return ColumnType::Text;
        }
        let is = |bit: u16| self.possible & bit != 0;
        match () {
            () if self.bytes == self.values => ColumnType::Bytes,
            () if is(BOOLEAN) => ColumnType::Boolean,
            () if is(INTEGER) => ColumnType::Integer,
            () if is(DECIMAL) => {
                let digits = (self.before_point + self.after_point).max(1);
                ColumnType::Decimal(digits, self.after_point)
            }
            () if is(FLOAT) => ColumnType::Float,
            () if is(DATE) => ColumnType::Date,
            () if is(MOMENT) => ColumnType::Moment,
            () if is(ZONED) => ColumnType::ZonedMoment,
            () if is(TIME) => ColumnType::Time,
            () if is(UUID) => ColumnType::Uuid,
            () if is(JSON) => ColumnType::Json,
            () => ColumnType::Text,
        }
    }
}

/// What a number is that is written in the plainest way, and its digits before and behind the point; nothing for any other text, which may be
/// a number too.
#[inline]
fn plain_number(bytes: &[u8]) -> Option<(u16, u32, u32)> {
    let digits = bytes.strip_prefix(b"-").unwrap_or(bytes);
    let count = |part: &[u8]| {
        let end = part.iter().position(|byte| !byte.is_ascii_digit());
        end.unwrap_or(part.len())
    };
    let whole = count(digits);
    // A zero in front has a meaning, but for one alone before a point.
    let zero = digits.first() == Some(&b'0');
    if whole == 0 || zero && whole > 1 {
        return None;
    }
    if whole == digits.len() {
        return match (zero, whole) {
            (true, _) => (bytes == b"0").then_some((INTEGER | DECIMAL | FLOAT, 0, 0)),
            (_, 1..=18) => Some((INTEGER | DECIMAL | FLOAT, whole as u32, 0)),
            _ => None,
        };
    }
    let after = digits.len() - whole - 1;
    if digits[whole] != b'.' || after == 0 || count(&digits[whole + 1..]) < after {
        return None;
    }
    let before = if zero { 0 } else { whole };
    let mask = match before + after {
        0..=15 => DECIMAL | FLOAT,
        _ => DECIMAL,
    };
    Some((
        mask,
        u32::try_from(before).ok()?,
        u32::try_from(after).ok()?,
    ))
}

/// A day, and the seconds of it where a time is written.
pub(crate) type PlainMoment = ((u16, u8, u8), Option<u32>);

/// A day, or a day and a time, that is written in the plainest way (`2031-03-01`, `2031-03-01 12:30:15`); nothing for any other text, which
/// may be one too.
#[inline]
pub(crate) fn plain_moment(bytes: &[u8]) -> Option<PlainMoment> {
    let two = |at: usize| match (
        bytes[at].wrapping_sub(b'0'),
        bytes[at + 1].wrapping_sub(b'0'),
    ) {
        (tens @ 0..=9, ones @ 0..=9) => Some(tens * 10 + ones),
        _ => None,
    };
    if !matches!(bytes.len(), 10 | 19) || bytes[4] != b'-' || bytes[7] != b'-' {
        return None;
    }
    let year = u16::from(two(0)?) * 100 + u16::from(two(2)?);
    let (month, day) = (two(5)?, two(8)?);
    // Leap days are known to the long way.
    const DAYS: [u8; 12] = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let days = DAYS.get(usize::from(month).wrapping_sub(1))?;
    if !(1..=*days).contains(&day) {
        return None;
    }
    if bytes.len() == 10 {
        return Some(((year, month, day), None));
    }
    let (hour, minute, second) = (two(11)?, two(14)?, two(17)?);
    let apart = matches!(bytes[10], b' ' | b'T') && bytes[13] == b':' && bytes[16] == b':';
    let seconds = (u32::from(hour) * 60 + u32::from(minute)) * 60 + u32::from(second);
    let is_time = apart && hour < 24 && minute < 60 && second < 60;
    is_time.then_some(((year, month, day), Some(seconds)))
}

/// The types that a text could be of, as bits.
fn could_be(text: &str) -> u16 {
    let bytes = text.as_bytes();
    let Some(first) = bytes.first() else {
        return 0;
    };
    match first {
        b'0'..=b'9' | b'-' | b'.' => {
            let mut possible = number(text);
            if possible == 0 && bytes.len() >= 5 {
                if bytes[bytes.len().min(5) - 1] == b'-' || bytes.len() == 36 {
                    possible |= moment(text) | uuid(bytes);
                } else if bytes[2] == b':' {
                    possible |= u16::from(time(text).is_some()) * TIME;
                }
            }
            possible | uuid(bytes)
        }
        b't' | b'T' | b'f' | b'F'
            if text.eq_ignore_ascii_case("true") || text.eq_ignore_ascii_case("false") =>
        {
            BOOLEAN
        }
        b'{' | b'[' => match serde_json::from_str::<serde::de::IgnoredAny>(text) {
            Ok(_) => JSON,
            Err(_) => uuid(bytes),
        },
        _ => uuid(bytes),
    }
}

/// The digits before and behind the point of a decimal number in plain notation, without leading zeros.
pub fn decimal_digits(text: &str) -> Option<(u32, u32)> {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (before, after) = digits.split_once('.').unwrap_or((digits, ""));
    let all = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit());
    if before.is_empty() || !all(before) || !all(after) || (digits.ends_with('.')) {
        return None;
    }
    let before = before.trim_start_matches('0').len();
    Some((
        u32::try_from(before).ok()?,
        u32::try_from(after.len()).ok()?,
    ))
}

/// What kinds of number a text is. A leading zero has a meaning that numbers do not keep, and so has a `-0`.
fn number(text: &str) -> u16 {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let bytes = digits.as_bytes();
    let padded = bytes.len() > 1 && bytes[0] == b'0' && bytes[1].is_ascii_digit();
    if padded || bytes.is_empty() {
        return 0;
    }
    if bytes.iter().all(u8::is_ascii_digit) {
        if text == "-0" {
            return 0;
        }
        return match text.parse::<i64>() {
            Ok(_) => INTEGER | DECIMAL | FLOAT,
            // A binary number would not keep it.
            Err(_) => DECIMAL,
        };
    }
    match decimal_digits(text) {
        // Seventeen digits are what a binary number tells apart.
        Some((before, after)) if before + after <= 15 => DECIMAL | FLOAT,
        Some(_) => DECIMAL,
        None if bytes[0].is_ascii_digit() && bytes[bytes.len() - 1].is_ascii_digit() => {
            let plain = bytes
                .iter()
                .all(|b| matches!(b, b'0'..=b'9' | b'.' | b'e' | b'E' | b'+' | b'-'));
            u16::from(plain && text.parse::<f64>().is_ok_and(f64::is_finite)) * FLOAT
        }
        None => 0,
    }
}

fn uuid(bytes: &[u8]) -> u16 {
    let is = bytes.len() == 36
        && bytes.iter().enumerate().all(|(at, byte)| match at {
            8 | 13 | 18 | 23 => *byte == b'-',
            _ => byte.is_ascii_hexdigit(),
        });
    u16::from(is) * UUID
}

fn is_hexadecimal(text: &str) -> bool {
    text.len().is_multiple_of(2) && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

/// Two, or four, digits as a number.
fn digits(bytes: &[u8]) -> Option<i16> {
    let all = bytes.iter().all(u8::is_ascii_digit);
    all.then(|| {
        let add = |sum: i16, byte: &u8| sum * 10 + i16::from(byte - b'0');
        bytes.iter().fold(0, add)
    })
}

/// A day written as `2031-03-01`.
pub fn date(text: &str) -> Option<civil::Date> {
    let bytes = text.as_bytes();
    if bytes.len() != 10 || bytes[4] != b'-' || bytes[7] != b'-' {
        return None;
    }
    let (year, month, day) = (
        digits(&bytes[..4])?,
        digits(&bytes[5..7])?,
        digits(&bytes[8..])?,
    );
    civil::Date::new(year, i8::try_from(month).ok()?, i8::try_from(day).ok()?).ok()
}

/// A time of day written as `12:30`, `12:30:15` or with up to six digits of a second, which is what servers keep.
pub fn time(text: &str) -> Option<civil::Time> {
    let bytes = text.as_bytes();
    if bytes.len() < 5 || bytes[2] != b':' {
        return None;
    }
    let (hour, minute) = (digits(&bytes[..2])?, digits(&bytes[3..5])?);
    let (mut second, mut nanos) = (0, 0);
    if bytes.len() > 5 {
        if bytes.len() < 8 || bytes[5] != b':' {
            return None;
        }
        second = digits(&bytes[6..8])?;
        if bytes.len() > 8 {
            let fraction = text[8..].strip_prefix('.')?;
            let valid = (1..=6).contains(&fraction.len())
                && fraction.bytes().all(|byte| byte.is_ascii_digit());
            if !valid {
                return None;
            }
            nanos = format!("{fraction:0<9}").parse().ok()?;
        }
    }
    let part = |number: i16| i8::try_from(number).ok();
    civil::Time::new(part(hour)?, part(minute)?, part(second)?, nanos).ok()
}

/// A day and time of day, `2031-03-01 12:30:15.5` or with a `T`, and the offset from universal time in seconds where one is
/// written (`Z`, `+00`, `+05:30`, `+0530`).
pub fn date_and_time(text: &str) -> Option<(civil::DateTime, Option<i32>)> {
    let day = date(text.get(..10)?)?;
    let rest = text.get(10..)?;
    let rest = rest.strip_prefix([' ', 'T', 't'])?;
    let cut = rest.find(['Z', 'z', '+', '-']).unwrap_or(rest.len());
    let (at, zone) = rest.split_at(cut);
    let at = day.to_datetime(time(at.trim_end())?);
    Some((
        at,
        if zone.is_empty() {
            None
        } else {
            Some(offset(zone)?)
        },
    ))
}

fn offset(zone: &str) -> Option<i32> {
    if zone.eq_ignore_ascii_case("z") {
        return Some(0);
    }
    let (sign, rest) = (if zone.starts_with('-') { -1 } else { 1 }, &zone[1..]);
    let plain: String = rest.chars().filter(|c| *c != ':').collect();
    let (hours, minutes) = match plain.len() {
        2 => (digits(plain.as_bytes())?, 0),
        4 => (
            digits(&plain.as_bytes()[..2])?,
            digits(&plain.as_bytes()[2..])?,
        ),
        _ => return None,
    };
    Some(sign * (i32::from(hours) * 3600 + i32::from(minutes) * 60))
}

fn moment(text: &str) -> u16 {
    if date(text).is_some() {
        return DATE;
    }
    match date_and_time(text) {
        Some((_, None)) => MOMENT,
        Some((_, Some(_))) => ZONED,
        None => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(texts: &[&str]) -> String {
        let mut evidence = Evidence::default();
        texts.iter().for_each(|text| evidence.text(text));
        evidence.column_type().to_string()
    }

    #[test]
    fn the_narrowest_type_that_keeps_every_text() {
        let table: &[(&[&str], &str)] = &[
            (&["1", "-20", "0"], "integer"),
            (&["1", "9223372036854775808"], "decimal(19,0)"),
            (&["1", "2.50", "-0.125"], "decimal(4,3)"),
            (&["1.5", "2e10"], "float"),
            // What a binary number would not keep is no number.
            (&["123456789012345678.1", "1e5"], "text"),
            (&["01", "2"], "text"),
            (&["-0"], "text"),
            (&["1", "x"], "text"),
            (&["1.", "2"], "text"),
            (&["+1"], "text"),
            (&["1e999"], "text"),
            (&["true", "FALSE"], "boolean"),
            (&["true", "1"], "text"),
            (&["2031-03-01", "1899-12-31"], "date"),
            (&["2031-02-30"], "text"),
            (&["2031-03-01", "2031-03-01 10:00"], "text"),
            (&["2031-03-01 10:00:01.5", "2031-03-01T10:00"], "timestamp"),
            (
                &["2031-03-01T10:00Z", "2031-03-01 10:00:00+05:30"],
                "timestamptz",
            ),
            (&["10:30", "23:59:59.123456"], "time"),
            (&["24:00"], "text"),
            (&["6f1e7a0c-2f5b-4c53-9f0e-0a1b2c3d4e5f"], "uuid"),
            (&["a1e7a0c1-2f5b-4c53-9f0e-0a1b2c3d4e5f"], "uuid"),
            (&["{\"a\": 1}", "[1]"], "json"),
            (&["[1, 2"], "text"),
            (&[""], "text"),
            (&[], "text"),
        ];
        for (texts, wanted) in table {
            assert_eq!(of(texts), *wanted, "{texts:?}");
            let found = ColumnType::named(wanted).expect("a type");
            assert!(texts.iter().all(|text| found.takes(text)), "{texts:?}");
        }
    }

    proptest::proptest! {
        /// The short way says of a number what the long way says of it.
        #[test]
        fn the_short_way_is_the_long_way(text in "-?[0-9]{0,20}\\.?[0-9]{0,20}") {
            if let Some((mask, before, after)) = plain_number(text.as_bytes()) {
                proptest::prop_assert_eq!(decimal_digits(&text), Some((before, after)));
                proptest::prop_assert_eq!(could_be(&text), mask);
            }
        }
    }

    proptest::proptest! {
        /// Likewise of a moment.
        #[test]
        fn the_short_way_of_a_moment_is_the_long_way(text in "[0-9]{4}-[01][0-9]-[0-3][0-9]([ Tt-][0-2][0-9]:[0-6][0-9][:.][0-6][0-9])?") {
            if let Some(((year, month, day), seconds)) = plain_moment(text.as_bytes()) {
                let found = date_and_time(&text).map(|(at, _)| at);
                let found = found.or_else(|| date(&text).map(|day| day.at(0, 0, 0, 0)));
                let day = civil::date(year.cast_signed(), month.cast_signed(), day.cast_signed());
                let at = day.at(0, 0, 0, 0) + jiff::Span::new().seconds(seconds.unwrap_or(0));
                proptest::prop_assert_eq!(found, Some(at));
                proptest::prop_assert_eq!(could_be(&text), if seconds.is_some() { MOMENT } else { DATE });
            }
        }

        /// What was found in two parts is what is found in the whole.
        #[test]
        fn parts_come_together(texts in proptest::collection::vec("(-?[0-9]{1,20}(\\.[0-9]{1,20})?|2031-03-01|true|x)", 0..6), cut in 0_usize..6) {
            let found = |texts: &[String]| {
                let mut evidence = Evidence::default();
                texts.iter().for_each(|text| evidence.text(text));
                evidence
            };
            let (before, after) = texts.split_at(cut.min(texts.len()));
            let mut both = found(before);
            both.merge(&found(after));
            let whole = found(&texts);
            proptest::prop_assert_eq!(both.column_type(), whole.column_type());
            for few in 0..3 {
                proptest::prop_assert_eq!(both.mostly(few), whole.mostly(few));
            }
            proptest::prop_assert_eq!((both.values, both.longest), (whole.values, whole.longest));
        }
    }

    #[test]
    fn a_few_values_that_do_not_fit_are_not_what_the_column_is() {
        let mut evidence = Evidence::default();
        (0..1_000).for_each(|number| evidence.text(&format!("{number}.25")));
        evidence.text("n/a");
        assert_eq!(evidence.column_type(), ColumnType::Text);
        assert_eq!(evidence.mostly(1), ColumnType::Decimal(5, 2));
        assert_eq!(evidence.mostly(0), ColumnType::Text);
        let mut said = Evidence::default();
        said.said_text("5");
        assert_eq!(said.column_type(), ColumnType::Text);
    }

    #[test]
    fn values_of_databases_and_what_a_type_takes() {
        let mut evidence = Evidence::default();
        for value in [
            ValueRef::Integer(7),
            ValueRef::Null,
            ValueRef::Number("1.25"),
        ] {
            evidence.value(value, false);
        }
        assert_eq!(evidence.column_type(), ColumnType::Decimal(3, 2));
        assert_eq!((evidence.values, evidence.nulls), (2, 1));
        let mut big = Evidence::default();
        big.value(ValueRef::Integer(i64::MAX), false);
        big.value(ValueRef::Float(0.5), false);
        assert_eq!(big.column_type(), ColumnType::Text);
        let mut moments = Evidence::default();
        moments.value(ValueRef::Text("2031-03-01"), true);
        assert_eq!(moments.column_type(), ColumnType::Date);
        moments.value(ValueRef::Text("infinity"), true);
        assert_eq!(moments.column_type(), ColumnType::Text);
        assert!(!ColumnType::Decimal(4, 2).takes("123.4"));
        assert!(ColumnType::Decimal(4, 2).takes("-12.34"));
        assert!(ColumnType::Bytes.takes("00ff") && !ColumnType::Bytes.takes("0g"));
        assert_eq!(ColumnType::named("decimal(2,3)"), None);
        assert_eq!(ColumnType::named("number"), None);
    }
}
