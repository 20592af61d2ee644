//! Values as they lie in rows (MS-TDS 2.2.5.5): read without loss, and written.

use std::fmt::Write as _;

use jiff::civil::{Date, DateTime, Time};
use jiff::{SignedDuration, Span};

use crate::collation;
use crate::take::{Malformed, Take, to_wide, wrong};
use crate::types::{ANY, Layout, TypeInfo, id};

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

fn day(days: i64, since: Date) -> Option<Date> {
    let span = Span::new().try_days(days).ok()?;
    since.checked_add(span).ok()
}

const FIRST: Date = Date::constant(1, 1, 1);
const TURN: Date = Date::constant(1900, 1, 1);

/// A time of day out of so many units of ten to the power of minus `scale` seconds.
fn time_of_day(units: u64, scale: u8, out: &mut String) {
    let one = 10_u64.pow(u32::from(scale));
    let (seconds, rest) = (units / one, units % one);
    let (hour, minute, second) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    let _ = write!(out, "{hour:02}:{minute:02}:{second:02}");
    if scale > 0 {
        let width = usize::from(scale);
        let _ = write!(out, ".{rest:0width$}");
    }
}

fn bad_day<T>() -> Result<T, Malformed> {
    wrong("a day outside of the years 1 to 9999")
}

#[inline]
fn of_content<'a>(
    info: &TypeInfo,
    content: &'a [u8],
    text: &'a mut String,
    bytes: &'a mut Vec<u8>,
) -> Result<Value<'a>, Malformed> {
    let sized = |sizes: &[usize]| match sizes.contains(&content.len()) {
        true => Ok(()),
        false => wrong(format!(
            "a value of {} with {} bytes",
            info.words(),
            content.len()
        )),
    };
    Ok(match info.id {
        id::TINYINT | id::SMALLINT | id::INT | id::BIGINT | id::INTN => {
            sized(&[1, 2, 4, 8])?;
            let number = whole(content);
            Value::Integer(match content.len() {
                1 => number as i64,
                2 => i64::from(number as u16 as i16),
                4 => i64::from(number as u32 as i32),
                _ => number as i64,
            })
        }
        id::BIT | id::BITN => {
            sized(&[1])?;
            Value::Bit(content[0] != 0)
        }
        id::REAL | id::FLOAT | id::FLOATN => {
            sized(&[4, 8])?;
            Value::Float(match <[u8; 4]>::try_from(content) {
                // The number that its shortest digits say.
                Ok(four) => {
                    let number = f32::from_le_bytes(four);
                    number.to_string().parse().unwrap_or(f64::from(number))
                }
                Err(_) => f64::from_bits(whole(content)),
            })
        }
        id::DECIMAL | id::NUMERIC => {
            sized(&[5, 9, 13, 17])?;
            let magnitude = content[1..]
                .iter()
                .rev()
                .fold(0_u128, |number, byte| number << 8 | u128::from(*byte));
            digits(
                content[0] == 0 && magnitude > 0,
                magnitude,
                info.scale,
                text,
            );
            Value::Number(text)
        }
        id::MONEY | id::SMALLMONEY | id::MONEYN => {
            sized(&[4, 8])?;
            let amount = match content.len() {
                4 => i64::from(whole(content) as u32 as i32),
                _ => (whole(&content[..4]) << 32 | whole(&content[4..])) as i64,
            };
            digits(amount < 0, u128::from(amount.unsigned_abs()), 4, text);
            Value::Number(text)
        }
        id::DATETIME | id::SMALLDATETIME | id::DATETIMEN => {
            sized(&[4, 8])?;
            text.clear();
            let (days, units, scale) = match content.len() {
                4 => (whole(&content[..2]) as i64, whole(&content[2..]) * 60, 0),
                _ => {
                    let days = i64::from(whole(&content[..4]) as u32 as i32);
                    // Three hundredths of a second, told in thousandths.
                    (days, (whole(&content[4..]) * 10 + 1) / 3, 3)
                }
            };
            let Some(date) = day(days, TURN) else {
                return bad_day();
            };
            let _ = write!(text, "{date} ");
            time_of_day(units, scale, text);
            Value::Text(text)
        }
        id::DATE => {
            sized(&[3])?;
            let Some(date) = day(whole(content) as i64, FIRST) else {
                return bad_day();
            };
            text.clear();
            let _ = write!(text, "{date}");
            Value::Text(text)
        }
        id::TIME => {
            sized(&[3, 4, 5])?;
            text.clear();
            time_of_day(whole(content), info.scale, text);
            Value::Text(text)
        }
        id::DATETIME2 => {
            sized(&[6, 7, 8])?;
            let (time, date) = content.split_at(content.len() - 3);
            let Some(date) = day(whole(date) as i64, FIRST) else {
                return bad_day();
            };
            text.clear();
            let _ = write!(text, "{date} ");
            time_of_day(whole(time), info.scale, text);
            Value::Text(text)
        }
        id::DATETIMEOFFSET => {
            sized(&[8, 9, 10])?;
            let (time, rest) = content.split_at(content.len() - 5);
            let minutes = i64::from(whole(&rest[3..]) as u16 as i16);
            // Both are told in universal time; what people read is the time where the offset holds.
            let one = 10_i64.pow(u32::from(info.scale));
            let units = whole(time) as i64 + minutes * 60 * one;
            let all = 86_400 * one;
            let Some(date) = day(whole(&rest[..3]) as i64 + units.div_euclid(all), FIRST) else {
                return bad_day();
            };
            text.clear();
            let _ = write!(text, "{date} ");
            time_of_day(units.rem_euclid(all) as u64, info.scale, text);
            let sign = if minutes < 0 { '-' } else { '+' };
            let minutes = minutes.unsigned_abs();
            let _ = write!(text, " {sign}{:02}:{:02}", minutes / 60, minutes % 60);
            Value::Text(text)
        }
        id::GUID => {
            sized(&[16])?;
            text.clear();
            for (at, from) in [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15]
                .iter()
                .enumerate()
            {
                if matches!(at, 4 | 6 | 8 | 10) {
                    text.push('-');
                }
                let _ = write!(text, "{:02X}", content[*from]);
            }
            Value::Text(text)
        }
        id::NVARCHAR | id::NCHAR | id::NTEXT | id::XML => wide(content, text, bytes)?,
        id::VARCHAR | id::CHAR | id::TEXT => narrow(content, info.collation, text),
        id::JSON => match std::str::from_utf8(content) {
            Ok(read) => Value::Text(read),
            Err(_) => Value::RawText(content),
        },
        _ => Value::Bytes(content),
    })
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

/// How many bytes a time of day takes.
fn time_bytes(scale: u8) -> usize {
    match scale {
        0..=2 => 3,
        3..=4 => 4,
        _ => 5,
    }
}

fn parsed<T: std::str::FromStr>(text: &str, what: &str) -> Result<T, String> {
    text.trim()
        .parse()
        .map_err(|_| format!("{text} is no {what}"))
}

/// A moment out of a text: a date, a time, or both.
fn moment(text: &str) -> Result<DateTime, String> {
    let text = text.trim();
    if let Ok(whole) = text.parse::<DateTime>() {
        return Ok(whole);
    }
    if let Ok(date) = text.parse::<Date>() {
        return Ok(date.to_datetime(Time::midnight()));
    }
    let time: Time = parsed(text, "date or time")?;
    Ok(TURN.to_datetime(time))
}

fn days(date: Date, since: Date) -> i64 {
    date.duration_since(since).as_hours() / 24
}

fn units(time: Time, scale: u8) -> u64 {
    let since = time.duration_since(Time::midnight()).as_nanos() as u64;
    since / 10_u64.pow(9 - u32::from(scale))
}

/// A number with `scale` digits behind its point, without the point.
fn scaled(text: &str, scale: u8) -> Result<i128, String> {
    let text = text.trim();
    let (negative, plain) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text),
    };
    let (before, after) = plain.split_once('.').unwrap_or((plain, ""));
    let mut after: String = after.chars().take(usize::from(scale)).collect();
    while after.len() < usize::from(scale) {
        after.push('0');
    }
    let number: i128 = parsed(&format!("{before}{after}"), "number")?;
    Ok(if negative { -number } else { number })
}

/// Appends a value of a type.
///
/// # Errors
/// In words, if it is not one of that type.
pub fn write(info: &TypeInfo, value: Value<'_>, out: &mut Vec<u8>) -> Result<(), String> {
    if value == Value::Null {
        match info.layout() {
            Layout::Byte | Layout::Pointer => out.push(0),
            Layout::Two => out.extend([0xff, 0xff]),
            Layout::Four => out.extend([0; 4]),
            Layout::Parts => out.extend(NO_PARTS.to_le_bytes()),
            Layout::Fixed(0) => {}
            Layout::Fixed(_) => return Err(format!("{} takes no null", info.words())),
        }
        return Ok(());
    }
    let spelled;
    let text = match value {
        Value::Text(text) | Value::Number(text) => text,
        Value::Integer(number) => {
            spelled = number.to_string();
            &spelled
        }
        Value::Float(number) => {
            spelled = number.to_string();
            &spelled
        }
        Value::Bit(yes) => {
            if yes {
                "1"
            } else {
                "0"
            }
        }
        Value::RawText(bytes) | Value::Bytes(bytes) => {
            spelled = String::from_utf8_lossy(bytes).into_owned();
            &spelled
        }
        Value::Null => "",
    };
    let content: Vec<u8> = match info.id {
        id::INTN | id::TINYINT | id::SMALLINT | id::INT | id::BIGINT => {
            let size = match info.layout() {
                Layout::Fixed(size) => size,
                _ => info.length as usize,
            };
            let number: i64 = match value {
                Value::Float(number) => number as i64,
                _ => parsed(text.split('.').next().unwrap_or_default(), "whole number")?,
            };
            number.to_le_bytes()[..size].to_vec()
        }
        id::BITN | id::BIT => vec![u8::from(!matches!(text, "0" | "false"))],
        id::FLOATN | id::FLOAT | id::REAL => {
            let number: f64 = parsed(text, "number")?;
            match info.id == id::REAL || info.length == 4 {
                true => (number as f32).to_le_bytes().to_vec(),
                false => number.to_le_bytes().to_vec(),
            }
        }
        id::DECIMAL | id::NUMERIC => {
            let number = scaled(text, info.scale)?;
            let mut bytes = vec![u8::from(number >= 0)];
            bytes.extend(number.unsigned_abs().to_le_bytes());
            bytes
        }
        id::MONEYN | id::MONEY | id::SMALLMONEY => {
            let amount = scaled(text, 4)? as i64;
            match info.id == id::SMALLMONEY || info.length == 4 {
                true => (amount as i32).to_le_bytes().to_vec(),
                false => {
                    let mut bytes = ((amount >> 32) as i32).to_le_bytes().to_vec();
                    bytes.extend((amount as u32).to_le_bytes());
                    bytes
                }
            }
        }
        id::DATETIMEN | id::DATETIME | id::SMALLDATETIME => {
            let when = moment(text)?;
            let days = days(when.date(), TURN);
            match info.id == id::SMALLDATETIME || info.length == 4 {
                true => {
                    let mut bytes = (days as u16).to_le_bytes().to_vec();
                    bytes.extend(((units(when.time(), 0) / 60) as u16).to_le_bytes());
                    bytes
                }
                false => {
                    let mut bytes = (days as i32).to_le_bytes().to_vec();
                    let ticks = (units(when.time(), 3) * 3 + 5) / 10;
                    bytes.extend((ticks as u32).to_le_bytes());
                    bytes
                }
            }
        }
        id::DATE => days(moment(text)?.date(), FIRST).to_le_bytes()[..3].to_vec(),
        id::TIME => {
            units(moment(text)?.time(), info.scale).to_le_bytes()[..time_bytes(info.scale)].to_vec()
        }
        id::DATETIME2 => {
            let when = moment(text)?;
            let mut bytes =
                units(when.time(), info.scale).to_le_bytes()[..time_bytes(info.scale)].to_vec();
            bytes.extend(&days(when.date(), FIRST).to_le_bytes()[..3]);
            bytes
        }
        id::DATETIMEOFFSET => {
            let (local, minutes) = offset(text)?;
            let there = SignedDuration::from_mins(minutes);
            let when = local
                .checked_sub(there)
                .map_err(|error| error.to_string())?;
            let mut bytes =
                units(when.time(), info.scale).to_le_bytes()[..time_bytes(info.scale)].to_vec();
            bytes.extend(&days(when.date(), FIRST).to_le_bytes()[..3]);
            bytes.extend((minutes as i16).to_le_bytes());
            bytes
        }
        id::GUID => {
            let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
            let hex: Vec<u8> = digits
                .chunks_exact(2)
                .filter_map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok())
                .collect();
            if hex.len() != 16 {
                return Err(format!("{text} is no identifier"));
            }
            [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15]
                .map(|from| hex[from])
                .to_vec()
        }
        id::NVARCHAR | id::NCHAR | id::NTEXT | id::XML => to_wide(text),
        id::VARCHAR | id::CHAR | id::TEXT => {
            let (bytes, _, _) = encoding_rs::WINDOWS_1252.encode(text);
            bytes.into_owned()
        }
        id::VARIANT => {
            let (of, bytes) = match value {
                Value::Integer(number) => (id::BIGINT, number.to_le_bytes().to_vec()),
                Value::Float(number) => (id::FLOAT, number.to_le_bytes().to_vec()),
                _ => (id::NVARCHAR, to_wide(text)),
            };
            let mut content = vec![of];
            match of {
                id::NVARCHAR => {
                    content.push(7);
                    content.extend(crate::types::LATIN);
                    content.extend(8000_u16.to_le_bytes());
                }
                _ => content.push(0),
            }
            content.extend(bytes);
            content
        }
        _ => match value {
            Value::Bytes(bytes) => bytes.to_vec(),
            _ => text.as_bytes().to_vec(),
        },
    };
    let limit = info.length as usize;
    let is_sized = matches!(info.layout(), Layout::Two) && info.length != ANY;
    if is_sized && content.len() > limit {
        return Err(format!("it does not fit into {}", info.words()));
    }
    match info.layout() {
        Layout::Fixed(_) => {}
        Layout::Byte => out.push(content.len() as u8),
        Layout::Two => out.extend((content.len() as u16).to_le_bytes()),
        Layout::Four => out.extend((content.len() as u32).to_le_bytes()),
        Layout::Pointer => {
            out.push(16);
            out.extend([0; 24]);
            out.extend((content.len() as u32).to_le_bytes());
        }
        Layout::Parts => {
            out.extend((content.len() as u64).to_le_bytes());
            for part in content.chunks(8000) {
                out.extend((part.len() as u32).to_le_bytes());
                out.extend(part);
            }
            out.extend([0; 4]);
            return Ok(());
        }
    }
    out.extend(content);
    Ok(())
}

/// A moment and the minutes by which it is ahead of universal time.
fn offset(text: &str) -> Result<(DateTime, i64), String> {
    let text = text.trim();
    let at = text
        .rfind(['+', '-'])
        .filter(|at| text[*at..].contains(':') && *at > 10);
    let Some(at) = at else {
        return Ok((moment(text.trim_end_matches('Z'))?, 0));
    };
    let (hours, minutes) = text[at + 1..]
        .split_once(':')
        .unwrap_or((&text[at + 1..], "0"));
    let (hours, minutes): (i16, i16) = (parsed(hours, "offset")?, parsed(minutes, "offset")?);
    let minutes = i64::from(hours) * 60 + i64::from(minutes);
    let sign = if text[at..].starts_with('-') { -1 } else { 1 };
    Ok((moment(&text[..at])?, sign * minutes))
}

#[cfg(test)]
mod tests {
    use super::*;

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
