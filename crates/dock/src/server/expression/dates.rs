//! Dates: `$year`, `$dateAdd`, `$dateTrunc`, `$dateToString` and their like, in the time zone that they are given.

use jiff::civil::{DateTime, Weekday, date};
use jiff::tz::{Offset, TimeZone};
use jiff::{Span, Timestamp, ToSpan};

use super::*;

const HOUR: i64 = 3_600_000;

/// A zone by its name in the public database of zones, or by its offset: `+05:30`, `-0800`, `+03`.
fn zone_named(name: &str) -> Result<TimeZone> {
    let unknown = || {
        bad(
            40485,
            format!("unrecognized time zone identifier: \"{name}\""),
        )
    };
    let Some(sign) = name.chars().next().filter(|c| matches!(c, '+' | '-')) else {
        if matches!(name, "UTC" | "GMT" | "Z") {
            return Ok(TimeZone::UTC);
        }
        return TimeZone::get(name).map_err(|_| unknown());
    };
    let digits: String = name[1..].chars().filter(|c| *c != ':').collect();
    let number = |part: Option<&str>| part.map_or(Ok(0), str::parse::<i32>);
    let (hours, minutes) = (
        number(digits.get(..2)).map_err(|_| unknown())?,
        number(digits.get(2..4)).map_err(|_| unknown())?,
    );
    if digits.len() < 2 || digits.len() == 3 || digits.len() > 4 {
        return Err(unknown());
    }
    let seconds = (hours * 60 + minutes) * 60 * if sign == '-' { -1 } else { 1 };
    Offset::from_seconds(seconds)
        .map(TimeZone::fixed)
        .map_err(|_| unknown())
}

fn offset_at(zone: &TimeZone, ms: i64) -> i64 {
    Timestamp::from_millisecond(ms).map_or(0, |at| i64::from(zone.to_offset(at).seconds()) * 1_000)
}

/// What a clock in the zone shows; `None` out of the calendar.
fn local(zone: &TimeZone, ms: i64) -> Option<DateTime> {
    time::parts(ms.checked_add(offset_at(zone, ms))?)
}

/// The moment at which a clock in the zone shows this; in a gap the one after it, of two the first.
fn moment(zone: &TimeZone, at: DateTime) -> Option<i64> {
    let found = zone.to_ambiguous_timestamp(at).compatible().ok()?;
    Some(found.as_millisecond())
}

fn out_of_calendar() -> Failed {
    bad(5_166_406, "the date is out of the calendar")
}

/// What an operator over dates works with; `None` if something is null, and so the answer.
impl Call<'_> {
    fn zone(&self) -> Result<Option<TimeZone>> {
        match self.argument.as_object().and_then(|o| o.get("timezone")) {
            None => Ok(Some(TimeZone::UTC)),
            Some(e) => match self.eval(e)? {
                Some(Datum::Text(name)) => zone_named(&name).map(Some),
                value if null_or(&value) => Ok(None),
                Some(other) => Err(bad(
                    40517,
                    format!(
                        "timezone must evaluate to a string, found {}",
                        type_name(&other)
                    ),
                )),
                None => Ok(None),
            },
        }
    }

    fn whole(&self, field: &str) -> Result<Option<i64>> {
        match self.named(field)? {
            value if null_or(&value) => Ok(None),
            Some(value) => value.as_i64().map(Some).ok_or_else(|| {
                bad(
                    40515,
                    format!(
                        "'{field}' must evaluate to an integer, found {} with value {}",
                        type_name(&value),
                        convert::text(&value).unwrap_or_default()
                    ),
                )
            }),
            None => Ok(None),
        }
    }

    fn gives(&self, field: &str) -> bool {
        self.argument
            .as_object()
            .is_some_and(|o| o.get(field).is_some())
    }

    fn unit(&self) -> Result<Option<String>> {
        const UNITS: &[&str] = &[
            "year",
            "quarter",
            "month",
            "week",
            "day",
            "hour",
            "minute",
            "second",
            "millisecond",
        ];
        match self.text_of(&self.named("unit")?, 5_439_013)? {
            Some(unit) if UNITS.contains(&unit.as_str()) => Ok(Some(unit)),
            Some(unit) => Err(bad(9, format!("unknown time unit value: {unit}"))),
            None => Ok(None),
        }
    }

    /// On which day weeks begin; on Sunday, unless another is named.
    fn week_start(&self) -> Result<Weekday> {
        let Some(name) = self.text_of(&self.named("startOfWeek")?, 5_439_015)? else {
            return Ok(Weekday::Sunday);
        };
        Ok(match name.to_ascii_lowercase().as_str() {
            "mon" | "monday" => Weekday::Monday,
            "tue" | "tuesday" => Weekday::Tuesday,
            "wed" | "wednesday" => Weekday::Wednesday,
            "thu" | "thursday" => Weekday::Thursday,
            "fri" | "friday" => Weekday::Friday,
            "sat" | "saturday" => Weekday::Saturday,
            "sun" | "sunday" => Weekday::Sunday,
            _ => return Err(bad(9, format!("unknown day of week value: {name}"))),
        })
    }
}

/// `$dateFromString`.
pub(super) fn from_text(call: &Call<'_>) -> Answer {
    let Some(value) = call.named("dateString")?.filter(|v| !v.is_null()) else {
        return call.named("onNull").map(|v| v.or(Some(Datum::Null)));
    };
    let Some(zone) = call.zone()? else {
        return some(Datum::Null);
    };
    let found = match (
        value.as_text(),
        call.text_of(&call.named("format")?, 40684)?,
    ) {
        (Some(text), Some(format)) => by_format(text, &format, &zone),
        (Some(text), None) => time::read(text, &zone),
        (None, _) => None,
    };
    match (found, call.gives("onError")) {
        (Some(ms), _) => some(Datum::Date(ms)),
        (None, true) => call.named("onError"),
        (None, false) => Err(bad(
            241,
            format!(
                "Error parsing date string '{}'",
                value.as_text().unwrap_or_default()
            ),
        )),
    }
}

fn by_format(text: &str, format: &str, zone: &TimeZone) -> Option<i64> {
    let format = format.replace("%L", "%f");
    let read = jiff::fmt::strtime::parse(&format, text).ok()?;
    if let Ok(at) = read.to_timestamp() {
        return Some(at.as_millisecond());
    }
    let day = read.to_date().ok()?;
    moment(zone, day.to_datetime(read.to_time().unwrap_or_default()))
}

/// The first day of the year is in week 0, unless weeks begin with it.
fn week_of_year(at: DateTime) -> i32 {
    let past = i32::from(at.date().day_of_year()) - 1;
    (past + 7 - i32::from(at.weekday().to_sunday_zero_offset())) / 7
}

/// `$year`, `$month`, `$dayOfMonth`, `$hour`, `$minute`, `$second`, `$millisecond`, `$isoDayOfWeek`, `$dayOfWeek`, `$dayOfYear`, `$week`,
/// `$isoWeek`, `$isoWeekYear`.
pub(super) fn part(call: &Call<'_>) -> Answer {
    let (value, zone) = if call.gives("date") {
        (call.named("date")?, call.zone()?)
    } else {
        (call.one()?, Some(TimeZone::UTC))
    };
    let (Some(ms), Some(zone)) = (date_of(&value)?, zone) else {
        return some(Datum::Null);
    };
    let Some(parts) = local(&zone, ms) else {
        return some(Datum::Null);
    };
    some(match call.name {
        "$year" => Datum::Int(parts.year().into()),
        "$month" => Datum::Int(parts.month().into()),
        "$dayOfMonth" => Datum::Int(parts.day().into()),
        "$hour" => Datum::Int(parts.hour().into()),
        "$minute" => Datum::Int(parts.minute().into()),
        "$second" => Datum::Int(parts.second().into()),
        "$millisecond" => Datum::Int(parts.millisecond().into()),
        "$isoDayOfWeek" => Datum::Int(parts.weekday().to_monday_one_offset().into()),
        "$dayOfWeek" => Datum::Int(parts.weekday().to_sunday_one_offset().into()),
        "$week" => Datum::Int(week_of_year(parts)),
        "$isoWeek" => Datum::Int(parts.date().iso_week_date().week().into()),
        "$isoWeekYear" => Datum::Long(parts.date().iso_week_date().year().into()),
        _ => Datum::Int(parts.date().day_of_year().into()),
    })
}

/// `$dateToParts`.
pub(super) fn to_parts(call: &Call<'_>) -> Answer {
    let (Some(ms), Some(zone)) = (date_of(&call.named("date")?)?, call.zone()?) else {
        return some(Datum::Null);
    };
    let at = local(&zone, ms).ok_or_else(out_of_calendar)?;
    let whole = |n: i32| Datum::Int(n);
    let mut out = Document::new();
    if truth(call.named("iso8601")?.as_ref()) {
        let week = at.date().iso_week_date();
        out.set("isoWeekYear", whole(week.year().into()));
        out.set("isoWeek", whole(week.week().into()));
        out.set(
            "isoDayOfWeek",
            whole(at.weekday().to_monday_one_offset().into()),
        );
    } else {
        out.set("year", whole(at.year().into()));
        out.set("month", whole(at.month().into()));
        out.set("day", whole(at.day().into()));
    }
    out.set("hour", whole(at.hour().into()));
    out.set("minute", whole(at.minute().into()));
    out.set("second", whole(at.second().into()));
    out.set("millisecond", whole(at.millisecond().into()));
    some(out.into())
}

/// `$dateFromParts`: what is beyond its range is carried over.
pub(super) fn from_parts(call: &Call<'_>) -> Answer {
    let Some(zone) = call.zone()? else {
        return some(Datum::Null);
    };
    let mut missing = false;
    let mut field = |name: &str, usual: i64| -> Result<i64> {
        if !call.gives(name) {
            return Ok(usual);
        }
        let found = call.whole(name)?;
        missing |= found.is_none();
        Ok(found.unwrap_or(usual))
    };
    let iso = call.gives("isoWeekYear");
    let (year, middle, day) = if iso {
        (
            field("isoWeekYear", 1970)?,
            field("isoWeek", 1)?,
            field("isoDayOfWeek", 1)?,
        )
    } else {
        (field("year", 0)?, field("month", 1)?, field("day", 1)?)
    };
    let (hour, minute, second) = (field("hour", 0)?, field("minute", 0)?, field("second", 0)?);
    let millisecond = field("millisecond", 0)?;
    if missing {
        return some(Datum::Null);
    }
    if !iso && !call.gives("year") {
        return Err(bad(
            40516,
            "$dateFromParts requires either 'year' or 'isoWeekYear' to be present",
        ));
    }
    if !(1..=9999).contains(&year) {
        return Err(bad(
            40523,
            format!("'year' must evaluate to an integer in the range 1 to 9999, found {year}"),
        ));
    }
    let within = |n: i64| (-32_768..=32_767).contains(&n);
    if ![middle, day, hour, minute].into_iter().all(within) {
        return Err(bad(
            31034,
            "'month', 'day', 'hour' and 'minute' must be between -32768 and 32767",
        ));
    }
    let start = if iso {
        // The week with the fourth of January is the first.
        let fourth = date(year as i16, 1, 4);
        let back = i64::from(fourth.weekday().to_monday_zero_offset());
        fourth
            .checked_sub(back.days())
            .and_then(|d| d.checked_add(Span::new().try_days((middle - 1) * 7)?))
    } else {
        date(year as i16, 1, 1).checked_add((middle - 1).months())
    };
    let found = start
        .and_then(|d| d.checked_add(Span::new().try_days(day - 1)?))
        .map(|d| d.to_datetime(jiff::civil::Time::midnight()))
        .ok()
        .and_then(|at| {
            time::milliseconds(at)?.checked_add(
                hour * HOUR + minute * 60_000 + second.checked_mul(1_000)? + millisecond,
            )
        })
        .and_then(time::parts)
        .and_then(|at| moment(&zone, at));
    found
        .map(|ms| Some(Datum::Date(ms)))
        .ok_or_else(out_of_calendar)
}

/// `$dateAdd`, `$dateSubtract`: days and longer by the calendar of the zone, shorter units as time that passes.
pub(super) fn add(call: &Call<'_>) -> Answer {
    let (Some(ms), Some(unit), Some(amount), Some(zone)) = (
        date_of(&call.named("startDate")?)?,
        call.unit()?,
        call.whole("amount")?,
        call.zone()?,
    ) else {
        return some(Datum::Null);
    };
    let amount = if call.name == "$dateSubtract" {
        amount.checked_neg()
    } else {
        Some(amount)
    };
    let found = amount.and_then(|n| moved(ms, &unit, n, &zone));
    found
        .map(|ms| Some(Datum::Date(ms)))
        .ok_or_else(out_of_calendar)
}

fn moved(ms: i64, unit: &str, n: i64, zone: &TimeZone) -> Option<i64> {
    let span = match unit {
        "year" => Span::new().try_years(n),
        "quarter" => Span::new().try_months(n.checked_mul(3)?),
        "month" => Span::new().try_months(n),
        "week" => Span::new().try_days(n.checked_mul(7)?),
        "day" => Span::new().try_days(n),
        unit => return ms.checked_add(n.checked_mul(length(unit)?)?),
    };
    moment(zone, local(zone, ms)?.checked_add(span.ok()?).ok()?)
}

/// A moment so many units later, in UTC.
pub(in crate::server) fn shifted(ms: i64, unit: &str, n: i64) -> Option<i64> {
    moved(ms, unit, n, &TimeZone::UTC)
}

/// Milliseconds of a unit that is always as long; `None` for others.
pub(in crate::server) fn length(unit: &str) -> Option<i64> {
    Some(match unit {
        "week" => 7 * time::DAY,
        "day" => time::DAY,
        "hour" => HOUR,
        "minute" => 60_000,
        "second" => 1_000,
        "millisecond" => 1,
        _ => return None,
    })
}

/// Months since the year 0.
fn months(at: DateTime) -> i64 {
    i64::from(at.year()) * 12 + i64::from(at.month()) - 1
}

/// `$dateDiff`: how many beginnings of the unit lie between.
pub(super) fn difference(call: &Call<'_>) -> Answer {
    let (Some(start), Some(end), Some(unit), Some(zone)) = (
        date_of(&call.named("startDate")?)?,
        date_of(&call.named("endDate")?)?,
        call.unit()?,
        call.zone()?,
    ) else {
        return some(Datum::Null);
    };
    let first = call.week_start()?;
    let clock = |ms: i64| ms + offset_at(&zone, ms);
    let (Some(a), Some(b)) = (local(&zone, start), local(&zone, end)) else {
        return Err(out_of_calendar());
    };
    some(Datum::Long(match unit.as_str() {
        "year" => i64::from(b.year()) - i64::from(a.year()),
        "quarter" => months(b).div_euclid(3) - months(a).div_euclid(3),
        "month" => months(b) - months(a),
        "week" => {
            let week = |ms: i64| (clock(ms).div_euclid(time::DAY) - first_day(first)).div_euclid(7);
            week(end) - week(start)
        }
        "day" => clock(end).div_euclid(time::DAY) - clock(start).div_euclid(time::DAY),
        unit => {
            let length = length(unit).unwrap_or(1);
            // An offset of half an hour shifts the hours.
            let units = |ms: i64| (ms + offset_at(&zone, ms) % HOUR).div_euclid(length);
            units(end) - units(start)
        }
    }))
}

/// The number of the first such day of the week since 1970, which began with a Thursday.
fn first_day(weekday: Weekday) -> i64 {
    i64::from(Weekday::Thursday.until(weekday))
}

/// `$dateTrunc`: in bins that are counted from the beginning of 2000.
pub(super) fn truncate(call: &Call<'_>) -> Answer {
    let (Some(ms), Some(unit), Some(zone)) =
        (date_of(&call.named("date")?)?, call.unit()?, call.zone()?)
    else {
        return some(Datum::Null);
    };
    let size = match call.argument.as_object().and_then(|o| o.get("binSize")) {
        None => 1,
        Some(_) => match call.whole("binSize")? {
            None => return some(Datum::Null),
            Some(size) if size > 0 => size,
            Some(_) => return Err(bad(5_439_018, "binSize must be positive")),
        },
    };
    let first = call.week_start()?;
    let at = local(&zone, ms).ok_or_else(out_of_calendar)?;
    let anchor = time::milliseconds(date(2000, 1, 1).to_datetime(jiff::civil::Time::midnight()))
        .unwrap_or(0);
    let bin = |value: i64, from: i64, step: i64| from + (value - from).div_euclid(step) * step;
    let begun = match unit.as_str() {
        "year" | "quarter" | "month" => {
            let step = size
                * match unit.as_str() {
                    "year" => 12,
                    "quarter" => 3,
                    _ => 1,
                };
            let month = bin(months(at), 2000 * 12, step);
            i16::try_from(month.div_euclid(12)).ok().and_then(|year| {
                let day = jiff::civil::Date::new(year, (month.rem_euclid(12) + 1) as i8, 1).ok()?;
                moment(&zone, day.to_datetime(jiff::civil::Time::midnight()))
            })
        }
        "week" | "day" => {
            let from = if unit == "week" {
                anchor / time::DAY + i64::from(Weekday::Saturday.until(first))
            } else {
                anchor / time::DAY
            };
            let day = (ms + offset_at(&zone, ms)).div_euclid(time::DAY);
            let step = size * if unit == "week" { 7 } else { 1 };
            time::parts(bin(day, from, step) * time::DAY).and_then(|at| moment(&zone, at))
        }
        unit => {
            // An offset of half an hour shifts the hours.
            let from = anchor - offset_at(&zone, anchor);
            Some(bin(
                ms,
                from,
                size.saturating_mul(length(unit).unwrap_or(1)),
            ))
        }
    };
    begun
        .map(|ms| Some(Datum::Date(ms)))
        .ok_or_else(out_of_calendar)
}

/// A date by the documented specifiers; `None` if one is unknown.
fn formatted(at: DateTime, offset: i64, format: &str) -> Option<String> {
    use std::fmt::Write as _;

    let mut out = String::new();
    let mut rest = format.chars();
    while let Some(c) = rest.next() {
        if c != '%' {
            out.push(c);
            continue;
        }
        let week = at.date().iso_week_date();
        let minutes = offset / 60_000;
        let sign = if minutes < 0 { '-' } else { '+' };
        let _ = match rest.next()? {
            'Y' => write!(out, "{:04}", at.year()),
            'm' => write!(out, "{:02}", at.month()),
            'd' => write!(out, "{:02}", at.day()),
            'H' => write!(out, "{:02}", at.hour()),
            'M' => write!(out, "{:02}", at.minute()),
            'S' => write!(out, "{:02}", at.second()),
            'L' => write!(out, "{:03}", at.millisecond()),
            'j' => write!(out, "{:03}", at.date().day_of_year()),
            'u' => write!(out, "{}", at.weekday().to_monday_one_offset()),
            'w' => write!(out, "{}", at.weekday().to_sunday_one_offset()),
            'U' => write!(out, "{:02}", week_of_year(at)),
            'V' => write!(out, "{:02}", week.week()),
            'G' => write!(out, "{:04}", week.year()),
            'b' | 'B' => {
                let name = jiff::fmt::strtime::format("%B", at).ok()?;
                out.push_str(if format.contains("%B") {
                    &name
                } else {
                    name.get(..3)?
                });
                Ok(())
            }
            'z' => write!(
                out,
                "{sign}{:02}{:02}",
                minutes.abs() / 60,
                minutes.abs() % 60
            ),
            'Z' => write!(out, "{sign}{}", minutes.abs()),
            '%' => {
                out.push('%');
                Ok(())
            }
            _ => return None,
        };
    }
    Some(out)
}

/// `$dateToString`.
pub(super) fn to_text(call: &Call<'_>) -> Answer {
    let Some(ms) = date_of(&call.named("date")?)? else {
        return call.named("onNull").map(|v| v.or(Some(Datum::Null)));
    };
    let Some(zone) = call.zone()? else {
        return some(Datum::Null);
    };
    let usual = if zone == TimeZone::UTC {
        "%Y-%m-%dT%H:%M:%S.%LZ"
    } else {
        "%Y-%m-%dT%H:%M:%S.%L"
    };
    let format = call
        .text_of(&call.named("format")?, 18_533)?
        .unwrap_or_else(|| usual.into());
    let at = local(&zone, ms).ok_or_else(out_of_calendar)?;
    formatted(at, offset_at(&zone, ms), &format)
        .map(|text| Some(text.into()))
        .ok_or_else(|| bad(18_536, format!("Invalid format string {format}")))
}

/// `$tsSecond`, `$tsIncrement`.
pub(super) fn of_timestamp(call: &Call<'_>) -> Answer {
    match call.one()? {
        Some(Datum::Timestamp(seconds, increment)) => {
            some(Datum::Long(i64::from(if call.name == "$tsSecond" {
                seconds
            } else {
                increment
            })))
        }
        value if null_or(&value) => some(Datum::Null),
        other => Err(bad(
            5_687_301,
            format!(
                "Argument to {} must be a timestamp, but is {}",
                call.name,
                other.as_ref().map_or("missing", type_name)
            ),
        )),
    }
}
