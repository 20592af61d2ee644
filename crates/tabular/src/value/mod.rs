//! Values as they lie in rows (MS-TDS 2.2.5.5): read without loss, and written.

use std::fmt::Write as _;

mod moment;
mod written;

pub use written::write;

use crate::collation;
use crate::take::{Malformed, Take, wrong};
use crate::types::{Layout, TypeInfo, id};

/// A value, read.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Value<'a> {
    /// None.
    Null,
    /// A truth value.
    Bit(bool),
    /// A whole number.
    Integer(i64),
    /// A float of 32 or 64 bits.
    Float(f64),
    /// A decimal or an amount of money, all digits.
    Number(&'a str),
    /// Text, a moment, an identifier.
    Text(&'a str),
    /// Text that cannot be read in its code page; of UTF-16 with halves of pairs, these as three bytes each.
    RawText(&'a [u8]),
    /// Bytes.
    Bytes(&'a [u8]),
}

/// Room that values are read into.
#[derive(Debug, Default)]
pub struct Room {
    text: String,
    bytes: Vec<u8>,
    parts: Vec<u8>,
}

const NO_PARTS: u64 = u64::MAX;

/// Goes past a value; `in_parts` remembers, where the bytes end too early, that its parts had begun.
///
/// # Errors
/// [`Malformed::Short`] where more has to come; `take` then stands where to go on.
#[inline]
pub fn pass(info: &TypeInfo, take: &mut Take<'_>, in_parts: &mut bool) -> Result<(), Malformed> {
    let before = take.at;
    let short = |take: &mut Take<'_>, error| {
        take.at = before;
        Err(error)
    };
    let length = match info.layout() {
        Layout::Fixed(length) => Ok(length),
        Layout::Byte => take.u8().map(usize::from),
        Layout::Two => take.u16().map(|length| match length {
            0xffff => 0,
            length => usize::from(length),
        }),
        Layout::Four => take.u32().map(|length| length as usize),
        Layout::Pointer => take.u8().and_then(|length| match length {
            0 => Ok(0),
            length => {
                take.slice(usize::from(length) + 8)?;
                take.u32().map(|length| length as usize)
            }
        }),
        Layout::Parts => {
            if !*in_parts {
                match take.u64() {
                    Ok(NO_PARTS) => return Ok(()),
                    Ok(_) => *in_parts = true,
                    Err(error) => return short(take, error),
                }
            }
            loop {
                let at = take.at;
                let part = take.u32().and_then(|length| {
                    take.slice(length as usize)?;
                    Ok(length)
                });
                match part {
                    Ok(0) => {
                        *in_parts = false;
                        return Ok(());
                    }
                    Ok(_) => {}
                    Err(error) => {
                        take.at = at;
                        return Err(error);
                    }
                }
            }
        }
    };
    match length.and_then(|length| take.slice(length)) {
        Ok(_) => Ok(()),
        Err(error) => short(take, error),
    }
}

/// Reads a value.
///
/// # Errors
/// If it is not one of its type.
#[inline]
pub fn read<'r, 'a: 'r>(
    info: &TypeInfo,
    take: &mut Take<'a>,
    room: &'r mut Room,
) -> Result<Value<'r>, Malformed> {
    match info.layout() {
        Layout::Fixed(0) => Ok(Value::Null),
        Layout::Fixed(length) => of_bytes(info, take.slice(length)?, room),
        Layout::Byte => match take.u8()? {
            0 => Ok(Value::Null),
            length => of_bytes(info, take.slice(usize::from(length))?, room),
        },
        Layout::Two => match take.u16()? {
            0xffff => Ok(Value::Null),
            length => of_bytes(info, take.slice(usize::from(length))?, room),
        },
        Layout::Four => match take.u32()? {
            0 => Ok(Value::Null),
            length => variant(take.slice(length as usize)?, room),
        },
        Layout::Pointer => match take.u8()? {
            0 => Ok(Value::Null),
            length => {
                take.slice(usize::from(length) + 8)?;
                let length = take.u32()?;
                of_bytes(info, take.slice(length as usize)?, room)
            }
        },
        Layout::Parts => {
            if take.u64()? == NO_PARTS {
                return Ok(Value::Null);
            }
            let mut parts = std::mem::take(&mut room.parts);
            parts.clear();
            loop {
                let length = take.u32()?;
                if length == 0 {
                    break;
                }
                parts.extend(take.slice(length as usize)?);
            }
            room.parts = parts;
            let Room { text, bytes, parts } = room;
            of_content(info, parts, text, bytes)
        }
    }
}

#[inline]
fn of_bytes<'a>(
    info: &TypeInfo,
    content: &'a [u8],
    room: &'a mut Room,
) -> Result<Value<'a>, Malformed> {
    of_content(info, content, &mut room.text, &mut room.bytes)
}

/// # Errors
/// In words, with what the text was wanted for.
fn parsed<T: std::str::FromStr>(text: &str, what: &str) -> Result<T, String> {
    text.trim()
        .parse()
        .map_err(|_| format!("{text} is no {what}"))
}

/// A value that its type has no room for; it is not cut.
fn unfit(info: &TypeInfo) -> String {
    format!("it does not fit into {}", info.words())
}

fn whole(content: &[u8]) -> u64 {
    content
        .iter()
        .rev()
        .fold(0, |number, byte| number << 8 | u64::from(*byte))
}

/// The digits of a number with a point before the last `scale` of them.
fn digits(negative: bool, magnitude: u128, scale: u8, out: &mut String) {
    out.clear();
    if negative {
        out.push('-');
    }
    let start = out.len();
    let width = usize::from(scale) + 1;
    let _ = write!(out, "{magnitude:0width$}");
    if scale > 0 {
        let point = out.len() - usize::from(scale);
        out.insert(point.max(start), '.');
    }
}

/// How many bytes a value of a type may have; none for those of any length.
fn sizes(of: u8) -> Option<&'static [usize]> {
    Some(match of {
        id::TINYINT | id::SMALLINT | id::INT | id::BIGINT | id::INTN => &[1, 2, 4, 8],
        id::BIT | id::BITN => &[1],
        id::REAL | id::FLOAT | id::FLOATN => &[4, 8],
        id::DECIMAL | id::NUMERIC => &[5, 9, 13, 17],
        id::MONEY | id::SMALLMONEY | id::MONEYN => &[4, 8],
        id::DATETIME | id::SMALLDATETIME | id::DATETIMEN => &[4, 8],
        id::DATE => &[3],
        id::TIME => &[3, 4, 5],
        id::DATETIME2 => &[6, 7, 8],
        id::DATETIMEOFFSET => &[8, 9, 10],
        id::GUID => &[16],
        _ => return None,
    })
}

#[inline]
fn of_content<'a>(
    info: &TypeInfo,
    content: &'a [u8],
    text: &'a mut String,
    bytes: &'a mut Vec<u8>,
) -> Result<Value<'a>, Malformed> {
    if sizes(info.id).is_some_and(|sizes| !sizes.contains(&content.len())) {
        return wrong(format!(
            "a value of {} with {} bytes",
            info.words(),
            content.len()
        ));
    }
    Ok(match info.id {
        id::TINYINT | id::SMALLINT | id::INT | id::BIGINT | id::INTN => integer(content),
        id::BIT | id::BITN => Value::Bit(content[0] != 0),
        id::REAL | id::FLOAT | id::FLOATN => float(content),
        id::DECIMAL | id::NUMERIC => decimal(content, info.scale, text),
        id::MONEY | id::SMALLMONEY | id::MONEYN => money(content, text),
        id::DATETIME
        | id::SMALLDATETIME
        | id::DATETIMEN
        | id::DATE
        | id::TIME
        | id::DATETIME2
        | id::DATETIMEOFFSET => {
            moment::read(info, content, text)?;
            Value::Text(text)
        }
        id::GUID => identifier(content, text),
        id::NVARCHAR | id::NCHAR | id::NTEXT | id::XML => wide(content, text, bytes)?,
        id::VARCHAR | id::CHAR | id::TEXT => narrow(content, info.collation, text),
        id::JSON => match std::str::from_utf8(content) {
            Ok(read) => Value::Text(read),
            Err(_) => Value::RawText(content),
        },
        _ => Value::Bytes(content),
    })
}

fn integer<'a>(content: &[u8]) -> Value<'a> {
    let number = whole(content);
    Value::Integer(match content.len() {
        1 => number as i64,
        2 => i64::from(number as u16 as i16),
        4 => i64::from(number as u32 as i32),
        _ => number as i64,
    })
}

fn float<'a>(content: &[u8]) -> Value<'a> {
    Value::Float(match <[u8; 4]>::try_from(content) {
        // The number that its shortest digits say.
        Ok(four) => {
            let number = f32::from_le_bytes(four);
            number.to_string().parse().unwrap_or(f64::from(number))
        }
        Err(_) => f64::from_bits(whole(content)),
    })
}

fn decimal<'a>(content: &[u8], scale: u8, text: &'a mut String) -> Value<'a> {
    let magnitude = content[1..]
        .iter()
        .rev()
        .fold(0_u128, |number, byte| number << 8 | u128::from(*byte));
    digits(content[0] == 0 && magnitude > 0, magnitude, scale, text);
    Value::Number(text)
}

fn money<'a>(content: &[u8], text: &'a mut String) -> Value<'a> {
    let amount = match content.len() {
        4 => i64::from(whole(content) as u32 as i32),
        _ => (whole(&content[..4]) << 32 | whole(&content[4..])) as i64,
    };
    digits(amount < 0, u128::from(amount.unsigned_abs()), 4, text);
    Value::Number(text)
}

/// Which byte of an identifier stands where in its text: its first three groups lie with the last byte first.
const IDENTIFIER: [usize; 16] = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];

fn identifier<'a>(content: &[u8], text: &'a mut String) -> Value<'a> {
    text.clear();
    for (at, from) in IDENTIFIER.into_iter().enumerate() {
        if matches!(at, 4 | 6 | 8 | 10) {
            text.push('-');
        }
        let _ = write!(text, "{:02X}", content[from]);
    }
    Value::Text(text)
}

fn narrow<'a>(content: &'a [u8], page: [u8; 5], text: &'a mut String) -> Value<'a> {
    match collation::decode(content, page) {
        Some(std::borrow::Cow::Borrowed(read)) => Value::Text(read),
        Some(std::borrow::Cow::Owned(read)) => {
            *text = read;
            Value::Text(text)
        }
        None => Value::RawText(content),
    }
}

fn wide<'a>(
    content: &[u8],
    text: &'a mut String,
    bytes: &'a mut Vec<u8>,
) -> Result<Value<'a>, Malformed> {
    if content.len() % 2 == 1 {
        return wrong("a text of two bytes a character with an odd number of them");
    }
    bytes.clear();
    if content
        .chunks_exact(2)
        .all(|pair| pair[1] == 0 && pair[0] < 0x80)
    {
        bytes.extend(content.iter().step_by(2));
        return Ok(Value::Text(std::str::from_utf8(bytes).unwrap_or_default()));
    }
    let read = encoding_rs::UTF_16LE.decode_without_bom_handling_and_without_replacement(content);
    if let Some(read) = read {
        *text = read.into_owned();
        return Ok(Value::Text(text));
    }
    let units = content
        .chunks_exact(2)
        .map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    for c in char::decode_utf16(units) {
        match c {
            Ok(c) => bytes.extend(c.encode_utf8(&mut [0; 4]).as_bytes()),
            Err(half) => {
                let half = half.unpaired_surrogate();
                bytes.extend([
                    0xe0 | (half >> 12) as u8,
                    0x80 | (half >> 6 & 0x3f) as u8,
                    0x80 | (half & 0x3f) as u8,
                ]);
            }
        }
    }
    Ok(Value::RawText(bytes))
}

/// A value that brings its type (`sql_variant`).
fn variant<'a>(content: &'a [u8], room: &'a mut Room) -> Result<Value<'a>, Malformed> {
    let mut take = Take::new(content);
    let (of, count) = (take.u8()?, usize::from(take.u8()?));
    let properties = take.slice(count)?;
    let mut info = TypeInfo::of(of, 0);
    match (of, properties) {
        (id::DECIMAL | id::NUMERIC, [precision, scale]) => {
            (info.precision, info.scale) = (*precision, (*scale).min(38));
        }
        (id::TIME | id::DATETIME2 | id::DATETIMEOFFSET, [scale]) if *scale <= 7 => {
            info.scale = *scale
        }
        (id::VARCHAR | id::CHAR | id::NVARCHAR | id::NCHAR, [a, b, c, d, e, ..]) => {
            info.collation = [*a, *b, *c, *d, *e];
        }
        _ => {}
    }
    of_bytes(&info, &content[take.at..], room)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::types::ANY;

    fn there_and_back(info: &TypeInfo, value: Value<'_>) -> String {
        let mut bytes = Vec::new();
        write(info, value, &mut bytes).unwrap();
        let mut passing = Take::new(&bytes);
        pass(info, &mut passing, &mut false).unwrap();
        assert_eq!(passing.left(), 0, "{info:?}");
        // Bytes that end too early are no value.
        for end in 0..bytes.len() {
            assert_eq!(
                pass(info, &mut Take::new(&bytes[..end]), &mut false),
                Err(Malformed::Short)
            );
        }
        let mut room = Room::default();
        let read = read(info, &mut Take::new(&bytes), &mut room).unwrap();
        match read {
            Value::Text(text) | Value::Number(text) => text.to_string(),
            other => format!("{other:?}"),
        }
    }

    #[test]
    fn days_that_no_calendar_has_are_no_value() {
        let mut bytes = i32::MAX.to_le_bytes().to_vec();
        bytes.extend([0; 4]);
        let mut room = Room::default();
        let came = read(
            &TypeInfo::of(id::DATETIME, 8),
            &mut Take::new(&bytes),
            &mut room,
        );
        assert!(came.is_err(), "{came:?}");
        let mut out = Vec::new();
        let late = Value::Text("2031-03-01 07:00:00 +9223372036854775807:00");
        assert!(write(&TypeInfo::scaled(id::DATETIMEOFFSET, 0), late, &mut out).is_err());
    }

    #[test]
    fn values_lose_nothing() {
        let text = |info: &TypeInfo, value: &str| {
            assert_eq!(there_and_back(info, Value::Text(value)), value, "{info:?}")
        };
        text(
            &TypeInfo::decimal(38, 4),
            "-9999999999999999999999999999999999.9999",
        );
        text(
            &TypeInfo::decimal(38, 38),
            "0.00000000000000000000000000000000000001",
        );
        text(&TypeInfo::decimal(5, 0), "0");
        for money in [
            "922337203685477.5807",
            "-922337203685477.5808",
            "-0.0001",
            "0.0000",
        ] {
            text(&TypeInfo::of(id::MONEYN, 8), money);
        }
        text(&TypeInfo::of(id::MONEYN, 4), "-214748.3648");
        text(&TypeInfo::of(id::DATE, 0), "0001-01-01");
        text(&TypeInfo::of(id::DATE, 0), "9999-12-31");
        text(
            &TypeInfo::scaled(id::DATETIME2, 7),
            "9999-12-31 23:59:59.9999999",
        );
        text(&TypeInfo::scaled(id::DATETIME2, 0), "0001-01-01 00:00:00");
        text(
            &TypeInfo::scaled(id::DATETIMEOFFSET, 7),
            "2026-03-01 00:30:00.1234567 +13:45",
        );
        text(
            &TypeInfo::scaled(id::DATETIMEOFFSET, 3),
            "2026-03-01 00:30:00.123 -09:30",
        );
        text(&TypeInfo::scaled(id::TIME, 5), "23:59:59.99999");
        text(&TypeInfo::of(id::DATETIMEN, 8), "1753-01-01 00:00:00.003");
        text(&TypeInfo::of(id::DATETIMEN, 8), "9999-12-31 23:59:59.997");
        text(&TypeInfo::of(id::DATETIMEN, 4), "2079-06-06 23:59:00");
        text(
            &TypeInfo::of(id::GUID, 16),
            "6F9619FF-8B86-D011-B42D-00C04FC964FF",
        );
        text(&TypeInfo::of(id::NVARCHAR, 200), "Brøn 港 🚢");
        text(&TypeInfo::of(id::NVARCHAR, ANY), &"tide ".repeat(5000));
        text(&TypeInfo::of(id::VARCHAR, 20), "é");
        text(&TypeInfo::of(id::XML, 0), "<a/>");
        text(&TypeInfo::of(id::VARIANT, 8009), "any");
        for number in [i64::MIN, -1, i64::MAX] {
            let read = there_and_back(&TypeInfo::of(id::INTN, 8), Value::Integer(number));
            assert_eq!(read, format!("Integer({number})"));
        }
        assert_eq!(
            there_and_back(&TypeInfo::of(id::INTN, 1), Value::Integer(255)),
            "Integer(255)"
        );
        assert_eq!(
            there_and_back(&TypeInfo::of(id::INTN, 2), Value::Integer(-2)),
            "Integer(-2)"
        );
        assert_eq!(
            there_and_back(&TypeInfo::of(id::FLOATN, 4), Value::Float(0.1)),
            "Float(0.1)"
        );
        assert_eq!(
            there_and_back(&TypeInfo::of(id::FLOATN, 8), Value::Float(-5e-324)),
            "Float(-5e-324)"
        );
        assert_eq!(
            there_and_back(&TypeInfo::of(id::VARBINARY, ANY), Value::Bytes(&[0, 255])),
            "Bytes([0, 255])"
        );
        assert_eq!(
            there_and_back(&TypeInfo::of(id::BITN, 1), Value::Bit(true)),
            "Bit(true)"
        );
        assert_eq!(
            there_and_back(&TypeInfo::of(id::NVARCHAR, ANY), Value::Null),
            "Null"
        );
    }

    #[test]
    fn what_does_not_fit_is_refused_and_not_cut() {
        for (info, text) in [
            (TypeInfo::of(id::INTN, 1), "256"),
            (TypeInfo::of(id::INTN, 1), "-1"),
            (TypeInfo::of(id::SMALLINT, 0), "32768"),
            (TypeInfo::of(id::INTN, 4), "-2147483649"),
            (TypeInfo::of(id::MONEYN, 4), "214748.3648"),
            (TypeInfo::of(id::MONEYN, 8), "922337203685477.5808"),
            (TypeInfo::decimal(5, 2), "1000.00"),
            (TypeInfo::decimal(5, 2), "-1000"),
            (TypeInfo::of(id::DATETIMEN, 4), "1899-12-31 00:00:00"),
            (TypeInfo::of(id::DATETIMEN, 4), "2079-06-07 00:00:00"),
            (TypeInfo::of(id::NVARCHAR, 4), "abc"),
            (TypeInfo::of(id::VARCHAR, 2), "abc"),
        ] {
            let mut out = Vec::new();
            let said = write(&info, Value::Text(text), &mut out).expect_err(text);
            assert!(said.starts_with("it does not fit into "), "{text}: {said}");
            assert!(out.is_empty(), "{text}");
        }
        for (info, text) in [
            (TypeInfo::of(id::INTN, 4), "a tide"),
            (TypeInfo::of(id::GUID, 16), "6F9619FF"),
            (TypeInfo::of(id::DATE, 0), "2031-02-30"),
            (TypeInfo::scaled(id::TIME, 0), "noon"),
            (TypeInfo::of(id::FLOATN, 8), "1,5"),
        ] {
            assert!(
                write(&info, Value::Text(text), &mut Vec::new()).is_err(),
                "{text}"
            );
        }
    }

    proptest::proptest! {
        /// Whatever a value is, it is read as it was written.
        #[test]
        fn any_value_comes_back(
            number in proptest::num::i64::ANY,
            digits in -(10_i128.pow(37))..10_i128.pow(37),
            scale in 0_u8..=37,
            (year, day) in (1_i16..=9999, 1_u16..=365),
            (seconds, part) in (0_u64..86_400, 0_u64..10_000_000),
            ahead in -840_i64..=840,
            text in "\\PC{0,40}",
            bytes in proptest::collection::vec(proptest::num::u8::ANY, 0..60),
        ) {
            let same = |info: &TypeInfo, value: Value<'_>, wanted: &str| {
                assert_eq!(there_and_back(info, value), wanted, "{info:?}");
            };
            same(&TypeInfo::of(id::INTN, 8), Value::Integer(number), &format!("Integer({number})"));
            let mut decimal = String::new();
            super::digits(digits < 0, digits.unsigned_abs(), scale, &mut decimal);
            same(&TypeInfo::decimal(38, scale), Value::Number(&decimal), &decimal);
            let date = jiff::civil::date(year, 1, 1).checked_add(jiff::Span::new().days(day - 1));
            let date = date.expect("a day");
            same(&TypeInfo::of(id::DATE, 0), Value::Text(&date.to_string()), &date.to_string());
            let (hour, minute, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
            let time = format!("{hour:02}:{minute:02}:{second:02}.{part:07}");
            same(&TypeInfo::scaled(id::TIME, 7), Value::Text(&time), &time);
            let moment = format!("{date} {time}");
            same(&TypeInfo::scaled(id::DATETIME2, 7), Value::Text(&moment), &moment);
            // In universal time it has to be a day of the calendar, too.
            if (2..9999).contains(&year) {
                let sign = if ahead < 0 { '-' } else { '+' };
                let ahead = ahead.unsigned_abs();
                let zoned = format!("{moment} {sign}{:02}:{:02}", ahead / 60, ahead % 60);
                same(&TypeInfo::scaled(id::DATETIMEOFFSET, 7), Value::Text(&zoned), &zoned);
            }
            same(&TypeInfo::of(id::NVARCHAR, ANY), Value::Text(&text), &text);
            same(&TypeInfo::of(id::VARBINARY, ANY), Value::Bytes(&bytes), &format!("Bytes({bytes:?})"));
        }
    }

    #[test]
    fn half_a_pair_of_two_byte_text_is_kept() {
        let mut room = Room::default();
        let bytes = [4, 0, 0x41, 0, 0x3d, 0xd8];
        let read = read(
            &TypeInfo::of(id::NVARCHAR, 10),
            &mut Take::new(&bytes),
            &mut room,
        );
        assert_eq!(read, Ok(Value::RawText(&[0x41, 0xed, 0xa0, 0xbd])));
    }
}
