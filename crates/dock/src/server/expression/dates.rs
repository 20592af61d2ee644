//! Dates: `$year`, `$dateTrunc`, `$dateToString` and their like.

use super::*;

/// `$dateFromString`.
pub(super) fn from_text(call: &Call<'_>) -> Answer {
    let Call { argument, .. } = *call;

    let Some(value) = call.named("dateString")?.filter(|v| !v.is_null()) else {
        return call.named("onNull").map(|v| v.or(Some(Datum::Null)));
    };
    let found = value
        .as_text()
        .and_then(|t| time::read(t, &time::TimeZone::UTC));
    match (found, argument.as_object().and_then(|o| o.get("onError"))) {
        (Some(ms), _) => some(Datum::Date(ms)),
        (None, Some(other)) => call.eval(other),
        (None, None) => Err(bad(
            241,
            format!(
                "Error parsing date string '{}'",
                value.as_text().unwrap_or_default()
            ),
        )),
    }
}

/// `$year`, `$month`, `$dayOfMonth`, `$hour`, `$minute`, `$second`, `$millisecond`, `$isoDayOfWeek`, `$dayOfWeek`, `$dayOfYear`.
pub(super) fn part(call: &Call<'_>) -> Answer {
    let Call { name, argument, .. } = *call;

    let value = match argument {
        Datum::Object(o) if o.get("date").is_some() => call.named("date")?,
        _ => call.one()?,
    };
    let Some(parts) = date_of(&value)?.and_then(time::parts) else {
        return some(Datum::Null);
    };
    some(Datum::Int(match name {
        "$year" => parts.year().into(),
        "$month" => parts.month().into(),
        "$dayOfMonth" => parts.day().into(),
        "$hour" => parts.hour().into(),
        "$minute" => parts.minute().into(),
        "$second" => parts.second().into(),
        "$millisecond" => parts.millisecond().into(),
        "$isoDayOfWeek" => parts.weekday().to_monday_one_offset().into(),
        "$dayOfWeek" => parts.weekday().to_sunday_one_offset().into(),
        _ => parts.date().day_of_year().into(),
    }))
}

/// `$dateTrunc`.
pub(super) fn truncate(call: &Call<'_>) -> Answer {
    let Some(ms) = date_of(&call.named("date")?)? else {
        return some(Datum::Null);
    };
    let unit = call
        .text_of(&call.named("unit")?, 5_439_013)?
        .unwrap_or_default();
    time::truncate(ms, &unit)
        .map(|ms| Some(Datum::Date(ms)))
        .ok_or_else(|| bad(9, format!("unknown time unit value: {unit}")))
}

/// `$dateToString`.
pub(super) fn to_text(call: &Call<'_>) -> Answer {
    let Some(ms) = date_of(&call.named("date")?)? else {
        return call.named("onNull").map(|v| v.or(Some(Datum::Null)));
    };
    let format = call
        .text_of(&call.named("format")?, 18_533)?
        .unwrap_or_else(|| "%Y-%m-%dT%H:%M:%S.%LZ".into());
    time::formatted(ms, &format)
        .map(|text| Some(text.into()))
        .ok_or_else(|| bad(18_536, format!("Invalid format string {format}")))
}
