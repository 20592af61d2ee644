//! Dates as text: ISO 8601 / RFC 3339 in and out, days, and the parts of a date. Everything is in UTC or at an offset
//! that is handed in.

use jiff::civil;
pub use jiff::tz::TimeZone;
use jiff::{Span, Timestamp, Unit};

/// Year, month, day and time.
pub type Parts = civil::DateTime;

/// Milliseconds of a day.
pub const DAY: i64 = 86_400_000;

const EPOCH: civil::Date = civil::Date::constant(1970, 1, 1);

/// A moment as RFC 3339 in UTC, with milliseconds where there are any; `None` before year 0 or after 9999.
pub fn text(milliseconds: i64) -> Option<String> {
    let at = parts(milliseconds)?;
    if at.year() < 0 {
        return None;
    }
    Some(if milliseconds.rem_euclid(1000) == 0 {
        at.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
    } else {
        at.strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string()
    })
}

/// A moment for people: `2031-03-01 05:12`, with seconds and milliseconds where there are any; as plain milliseconds
/// where it is out of the calendar.
pub fn readable(milliseconds: i64) -> String {
    match text(milliseconds) {
        Some(text) => text
            .strip_suffix(":00Z")
            .or_else(|| text.strip_suffix('Z'))
            .unwrap_or(&text)
            .replace('T', " "),
        None => format!("{milliseconds} ms"),
    }
}

/// Reads RFC 3339 (`2031-03-01T05:12:00Z`, with any offset). A blank may stand for the T; seconds may be left out; without an offset it is
/// in `zone`. A date alone is its first moment.
pub fn read(text: &str, zone: &TimeZone) -> Option<i64> {
    let text = text.trim();
    if let Some(utc) = text.strip_suffix(['Z', 'z'])
        && let Ok(at) = utc.parse::<civil::DateTime>()
    {
        return milliseconds(at);
    }
    if let Ok(moment) = text.parse::<Timestamp>() {
        return Some(moment.as_millisecond());
    }
    if let Some(start) = day(text, zone) {
        return Some(start.0);
    }
    if !text.contains([' ', 'T', 't']) {
        return None;
    }
    let local: civil::DateTime = text.parse().ok()?;
    moment(local, zone)
}

/// The moment of a local time; in a gap the one after it, of two the first.
fn moment(local: civil::DateTime, zone: &TimeZone) -> Option<i64> {
    if *zone == TimeZone::UTC {
        return milliseconds(local);
    }
    let at = zone.to_ambiguous_timestamp(local).compatible().ok()?;
    Some(at.as_millisecond())
}

/// The first moment of a day written `2031-03-01`, and that of the next.
pub fn day(text: &str, zone: &TimeZone) -> Option<(i64, i64)> {
    let shape = text.len() == 10 && text.as_bytes()[4] == b'-' && text.as_bytes()[7] == b'-';
    let date: civil::Date = text.trim().parse().ok().filter(|_| shape)?;
    let start = |date: civil::Date| moment(date.to_datetime(civil::Time::midnight()), zone);
    let end = match date.tomorrow() {
        Ok(next) => start(next)?,
        Err(_) => start(date)? + DAY,
    };
    Some((start(date)?, end))
}

/// Year, month, day and time of a moment in UTC; `None` where it is out of the calendar.
pub fn parts(milliseconds: i64) -> Option<civil::DateTime> {
    let days = Span::new().try_days(milliseconds.div_euclid(DAY)).ok()?;
    let rest = Span::new().milliseconds(milliseconds.rem_euclid(DAY));
    let date = EPOCH.checked_add(days).ok()?;
    date.to_datetime(civil::Time::midnight())
        .checked_add(rest)
        .ok()
}

/// Milliseconds since 1970 of a moment in UTC; `None` where it is out of the calendar.
pub fn milliseconds(at: civil::DateTime) -> Option<i64> {
    let days = EPOCH.until(at.date()).ok()?.get_days();
    let time = civil::Time::midnight().until(at.time()).ok()?;
    Some(i64::from(days) * DAY + time.total(Unit::Millisecond).ok()?.floor() as i64)
}

/// The moment at which a unit began: `year`, `quarter`, `month`, `week` (on Monday), `day`, `hour`, `minute`, `second`.
pub fn truncate(milliseconds: i64, unit: &str) -> Option<i64> {
    let at = parts(milliseconds)?;
    let date = |year, month, day| civil::Date::new(year, month, day).ok();
    let day = at.date();
    let day = match unit {
        "year" => date(at.year(), 1, 1)?,
        "quarter" => date(at.year(), (at.month() - 1) / 3 * 3 + 1, 1)?,
        "month" => date(at.year(), at.month(), 1)?,
        "week" => {
            let back = i64::from(at.weekday().to_monday_zero_offset());
            return Some((milliseconds.div_euclid(DAY) - back) * DAY);
        }
        "day" => day,
        "hour" => return Some(milliseconds.div_euclid(3_600_000) * 3_600_000),
        "minute" => return Some(milliseconds.div_euclid(60_000) * 60_000),
        "second" => return Some(milliseconds.div_euclid(1_000) * 1_000),
        _ => return None,
    };
    moment(day.to_datetime(civil::Time::midnight()), &TimeZone::UTC)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_read_and_written() {
        let utc = TimeZone::UTC;
        for (written, milliseconds) in [
            ("1970-01-01T00:00:00Z", 0),
            ("1969-12-31T23:59:59.999Z", -1),
            ("2031-03-01T05:12:00Z", 1_930_108_320_000),
            ("9999-12-31T23:59:59.999Z", 253_402_300_799_999),
        ] {
            assert_eq!(read(written, &utc), Some(milliseconds), "{written}");
            assert_eq!(text(milliseconds).as_deref(), Some(written));
        }
        assert_eq!(text(253_402_300_800_000), None);
        assert_eq!(readable(253_402_300_800_000), "253402300800000 ms");
        assert_eq!(readable(0), "1970-01-01 00:00");
        assert_eq!(
            read("2031-03-01 05:12+02:00", &utc),
            read("2031-03-01T03:12:00Z", &utc)
        );
        assert_eq!(read("2031-03-01", &utc), read("2031-03-01T00:00:00Z", &utc));
        assert_eq!(day("2031-02-28", &utc).map(|(a, b)| b - a), Some(DAY));
        for bad in ["2031-02-30", "2031-3-1", "soon", "", "12"] {
            assert_eq!(read(bad, &utc), None, "{bad}");
        }
    }

    #[test]
    fn units_begin_where_the_calendar_says() {
        let at = |text: &str| read(text, &TimeZone::UTC).expect(text);
        let moment = at("2031-05-15T13:45:59.5Z");
        for (unit, start) in [
            ("year", "2031-01-01"),
            ("quarter", "2031-04-01"),
            ("month", "2031-05-01"),
            ("week", "2031-05-12"),
            ("day", "2031-05-15"),
            ("hour", "2031-05-15T13:00Z"),
            ("minute", "2031-05-15T13:45Z"),
            ("second", "2031-05-15T13:45:59Z"),
        ] {
            assert_eq!(truncate(moment, unit), Some(at(start)), "{unit}");
        }
        assert_eq!(truncate(moment, "tide"), None);
    }
}
