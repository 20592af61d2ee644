//! Moments as they lie in rows: days since a first one, times of day in units (MS-TDS 2.2.5.5.1.8).

use std::fmt::Write as _;

use jiff::civil::{Date, DateTime, Time};
use jiff::{SignedDuration, Span};

use super::{parsed, unfit, whole};
use crate::take::{Malformed, wrong};
use crate::types::{TypeInfo, id};

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

/// Reads a moment whose bytes are as many as its type has, as text.
///
/// # Errors
/// If its day has no place in the calendar.
pub(super) fn read(info: &TypeInfo, content: &[u8], text: &mut String) -> Result<(), Malformed> {
    text.clear();
    match info.id {
        id::TIME => {
            time_of_day(whole(content), info.scale, text);
            Ok(())
        }
        id::DATE => put_day(whole(content) as i64, FIRST, text),
        id::DATETIME2 => {
            let (time, date) = content.split_at(content.len() - 3);
            put_day(whole(date) as i64, FIRST, text)?;
            text.push(' ');
            time_of_day(whole(time), info.scale, text);
            Ok(())
        }
        id::DATETIMEOFFSET => read_with_offset(info.scale, content, text),
        _ => {
            let (days, units, scale) = match content.len() {
                4 => (whole(&content[..2]) as i64, whole(&content[2..]) * 60, 0),
                _ => {
                    let days = i64::from(whole(&content[..4]) as u32 as i32);
                    // Three hundredths of a second, told in thousandths.
                    (days, (whole(&content[4..]) * 10 + 1) / 3, 3)
                }
            };
            put_day(days, TURN, text)?;
            text.push(' ');
            time_of_day(units, scale, text);
            Ok(())
        }
    }
}

fn read_with_offset(scale: u8, content: &[u8], text: &mut String) -> Result<(), Malformed> {
    let (time, rest) = content.split_at(content.len() - 5);
    let minutes = i64::from(whole(&rest[3..]) as u16 as i16);
    // Both are told in universal time; what people read is the time where the offset holds.
    let one = 10_i64.pow(u32::from(scale));
    let units = whole(time) as i64 + minutes * 60 * one;
    let all = 86_400 * one;
    put_day(
        whole(&rest[..3]) as i64 + units.div_euclid(all),
        FIRST,
        text,
    )?;
    text.push(' ');
    time_of_day(units.rem_euclid(all) as u64, scale, text);
    let sign = if minutes < 0 { '-' } else { '+' };
    let minutes = minutes.unsigned_abs();
    let _ = write!(text, " {sign}{:02}:{:02}", minutes / 60, minutes % 60);
    Ok(())
}

fn put_day(days: i64, since: Date, text: &mut String) -> Result<(), Malformed> {
    match day(days, since) {
        Some(date) => {
            let _ = write!(text, "{date}");
            Ok(())
        }
        None => wrong("a day outside of the years 1 to 9999"),
    }
}

/// The bytes of a moment that stands as text.
///
/// # Errors
/// In words, if the text is none.
pub(super) fn written(info: &TypeInfo, text: &str) -> Result<Vec<u8>, String> {
    let time =
        |time: Time| units(time, info.scale).to_le_bytes()[..time_bytes(info.scale)].to_vec();
    let date = |date: Date| days(date, FIRST).to_le_bytes()[..3].to_vec();
    Ok(match info.id {
        id::DATE => date(moment(text)?.date()),
        id::TIME => time(moment(text)?.time()),
        id::DATETIME2 => {
            let when = moment(text)?;
            [time(when.time()), date(when.date())].concat()
        }
        id::DATETIMEOFFSET => {
            let (local, minutes) = offset(text)?;
            let there = SignedDuration::from_mins(minutes);
            let when = local
                .checked_sub(there)
                .map_err(|error| error.to_string())?;
            let ahead = (minutes as i16).to_le_bytes().to_vec();
            [time(when.time()), date(when.date()), ahead].concat()
        }
        _ => {
            let when = moment(text)?;
            let days = days(when.date(), TURN);
            match info.id == id::SMALLDATETIME || info.length == 4 {
                true => {
                    let small = u16::try_from(days).map_err(|_| unfit(info))?;
                    let mut bytes = small.to_le_bytes().to_vec();
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
    })
}

/// How many bytes a time of day takes.
fn time_bytes(scale: u8) -> usize {
    match scale {
        0..=2 => 3,
        3..=4 => 4,
        _ => 5,
    }
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
