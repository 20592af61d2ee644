//! Functions that statements of the family call and the embedded database does not have.

use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use jiff::civil::DateTime;
use jiff::{Span, Timestamp, Unit};
use rusqlite::functions::{Aggregate, Context, FunctionFlags};
use rusqlite::types::{Value, ValueRef};
use rusqlite::{Connection, Error, Result};

/// What a session's functions tell.
pub(crate) struct Told {
    pub(crate) database: String,
    pub(crate) login: String,
    pub(crate) all_powerful: bool,
    pub(crate) identity: AtomicI64,
}

/// The version that the stand-in says it has.
pub(crate) const VERSION: &str = "16.0.4105.2";

fn trouble(words: impl Into<String>) -> Error {
    Error::UserFunctionError(words.into().into())
}

fn text(context: &Context<'_>, at: usize) -> Option<String> {
    if at >= context.len() {
        return None;
    }
    Some(match context.get_raw(at) {
        ValueRef::Null => return None,
        ValueRef::Integer(number) => number.to_string(),
        ValueRef::Real(number) => number.to_string(),
        ValueRef::Text(bytes) | ValueRef::Blob(bytes) => {
            String::from_utf8_lossy(bytes).into_owned()
        }
    })
}

fn number(context: &Context<'_>, at: usize) -> Option<i64> {
    text(context, at)?.trim().parse().ok()
}

/// A moment out of what people write.
fn moment(text: &str) -> Option<DateTime> {
    let text = text.trim();
    let text = match text.rfind(['+', '-']) {
        Some(at) if at > 10 => text[..at].trim(),
        _ => text.trim_end_matches('Z'),
    };
    text.parse()
        .ok()
        .or_else(|| {
            text.parse::<jiff::civil::Date>()
                .ok()
                .map(|date| date.at(0, 0, 0, 0))
        })
        .or_else(|| Some(jiff::civil::date(1900, 1, 1).to_datetime(text.parse().ok()?)))
}

fn spelled(moment: DateTime) -> String {
    let whole = moment.strftime("%Y-%m-%d %H:%M:%S").to_string();
    match moment.subsec_nanosecond() {
        0 => whole,
        nanos => format!("{whole}.{:07}", nanos / 100),
    }
}

fn now() -> DateTime {
    Timestamp::now()
        .to_zoned_datetime(jiff::tz::TimeZone::UTC)
        .datetime()
}

fn unit(name: &str) -> Result<Unit> {
    Ok(match name {
        "year" | "yy" | "yyyy" => Unit::Year,
        "month" | "mm" | "m" => Unit::Month,
        "week" | "wk" | "ww" => Unit::Week,
        "day" | "dd" | "d" => Unit::Day,
        "hour" | "hh" => Unit::Hour,
        "minute" | "mi" | "n" => Unit::Minute,
        "second" | "ss" | "s" => Unit::Second,
        "millisecond" | "ms" => Unit::Millisecond,
        other => {
            return Err(trouble(format!(
                "{other} is no part of a date that is known"
            )));
        }
    })
}

fn part(name: &str, when: DateTime) -> Result<i64> {
    if matches!(name, "weekday" | "dw") {
        return Ok(i64::from(when.weekday().to_sunday_one_offset()));
    }
    match name {
        "quarter" | "qq" | "q" => return Ok((i64::from(when.month()) + 2) / 3),
        "dayofyear" | "dy" | "y" => return Ok(i64::from(when.date().day_of_year())),
        _ => {}
    }
    Ok(match unit(name)? {
        Unit::Year => i64::from(when.year()),
        Unit::Month => i64::from(when.month()),
        Unit::Week => i64::from(when.date().iso_week_date().week()),
        Unit::Day => i64::from(when.day()),
        Unit::Hour => i64::from(when.hour()),
        Unit::Minute => i64::from(when.minute()),
        Unit::Second => i64::from(when.second()),
        _ => i64::from(when.millisecond()),
    })
}

/// Boundaries between two moments.
fn between(of: Unit, from: DateTime, to: DateTime) -> i64 {
    let seconds = |when: DateTime| {
        when.duration_since(jiff::civil::date(1900, 1, 1).at(0, 0, 0, 0))
            .as_secs()
    };
    let (a, b) = (seconds(from), seconds(to));
    match of {
        Unit::Year => i64::from(to.year()) - i64::from(from.year()),
        Unit::Month => {
            (i64::from(to.year()) - i64::from(from.year())) * 12 + i64::from(to.month())
                - i64::from(from.month())
        }
        Unit::Week => b.div_euclid(604_800) - a.div_euclid(604_800),
        Unit::Day => b.div_euclid(86_400) - a.div_euclid(86_400),
        Unit::Hour => b.div_euclid(3_600) - a.div_euclid(3_600),
        Unit::Minute => b.div_euclid(60) - a.div_euclid(60),
        Unit::Second => b - a,
        _ => to.duration_since(from).as_millis() as i64,
    }
}

/// A sum that keeps every digit of decimals.
struct Sum;

#[derive(Default)]
pub(crate) struct Total {
    exact: i128,
    scale: u32,
    float: f64,
    any: bool,
    is_float: bool,
    is_decimal: bool,
}

impl Aggregate<Total, Option<Value>> for Sum {
    fn init(&self, _: &mut Context<'_>) -> Result<Total> {
        Ok(Total::default())
    }

    fn step(&self, context: &mut Context<'_>, total: &mut Total) -> Result<()> {
        let (digits, scale) = match context.get_raw(0) {
            ValueRef::Null => return Ok(()),
            ValueRef::Integer(number) => (i128::from(number), 0),
            ValueRef::Real(number) => {
                total.any = true;
                total.is_float = true;
                total.float += number;
                return Ok(());
            }
            ValueRef::Text(bytes) | ValueRef::Blob(bytes) => {
                let text = String::from_utf8_lossy(bytes).into_owned();
                let (before, after) = text.split_once('.').unwrap_or((&text, ""));
                total.is_decimal = true;
                let digits = format!("{before}{after}")
                    .parse()
                    .map_err(|_| trouble(format!("{text} is no number")))?;
                (digits, after.len() as u32)
            }
        };
        total.any = true;
        let wider = total.scale.max(scale);
        total.exact =
            total.exact * 10_i128.pow(wider - total.scale) + digits * 10_i128.pow(wider - scale);
        total.scale = wider;
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, total: Option<Total>) -> Result<Option<Value>> {
        let Some(total) = total.filter(|total| total.any) else {
            return Ok(None);
        };
        if total.is_float {
            let exact = total.exact as f64 / 10_f64.powi(total.scale as i32);
            return Ok(Some(Value::Real(total.float + exact)));
        }
        if !total.is_decimal {
            return i64::try_from(total.exact)
                .map(|sum| Some(Value::Integer(sum)))
                .map_err(|_| trouble("Arithmetic overflow"));
        }
        Ok(Some(Value::Text(decimal(total.exact, total.scale))))
    }
}

fn decimal(number: i128, scale: u32) -> String {
    let width = scale as usize + 1;
    let digits = format!("{:0width$}", number.unsigned_abs());
    let (before, after) = digits.split_at(digits.len() - scale as usize);
    let sign = if number < 0 { "-" } else { "" };
    match scale {
        0 => format!("{sign}{before}"),
        _ => format!("{sign}{before}.{after}"),
    }
}

/// A text or a number as a decimal with so many digits behind its point, rounded.
fn to_decimal(text: &str, scale: u32) -> Option<String> {
    let text = match text.contains(['e', 'E']) {
        true => format!(
            "{:.*}",
            scale as usize + 1,
            text.trim().parse::<f64>().ok()?
        ),
        false => text.trim().to_string(),
    };
    let (negative, plain) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text.as_str()),
    };
    let (before, after) = plain.split_once('.').unwrap_or((plain, ""));
    let kept: String = after
        .chars()
        .chain(std::iter::repeat('0'))
        .take(scale as usize)
        .collect();
    let mut number: i128 = format!("{before}{kept}").parse().ok()?;
    if after
        .as_bytes()
        .get(scale as usize)
        .is_some_and(|digit| *digit >= b'5')
    {
        number += 1;
    }
    Some(decimal(if negative { -number } else { number }, scale))
}

/// Numbers that are kept as text, in the order of numbers.
pub(crate) fn as_numbers(a: &str, b: &str) -> std::cmp::Ordering {
    let whole = |text: &str| {
        to_decimal(text, 18).and_then(|text| text.replace('.', "").parse::<i128>().ok())
    };
    match (whole(a), whole(b)) {
        (Some(a), Some(b)) => a.cmp(&b),
        _ => a.cmp(b),
    }
}

type Body = Box<
    dyn Fn(&Context<'_>) -> Result<Option<Value>>
        + Send
        + Sync
        + std::panic::RefUnwindSafe
        + std::panic::UnwindSafe
        + 'static,
>;

/// What gives a function to a connection.
type Add<'a> = dyn Fn(&str, Body) -> Result<()> + 'a;

/// Gives a connection the functions.
pub(crate) fn install(connection: &Connection, told: &Arc<Told>) -> Result<()> {
    let add = |name: &str, body: Body| {
        let flags = FunctionFlags::SQLITE_UTF8;
        connection.create_scalar_function(format!("t_{name}").as_str(), -1, flags, move |context| {
            body(context)
        })
    };
    connection.create_collation("numbers", as_numbers)?;
    connection.create_aggregate_function("t_sum", 1, FunctionFlags::SQLITE_UTF8, Sum)?;
    // What try_cast calls gives nothing where the other fails.
    let tried = |name: &str, body: Body| match name {
        "integer" | "decimal" | "moment" => {
            let body = Arc::new(body);
            let same = Arc::clone(&body);
            add(name, Box::new(move |c| body(c)))?;
            let or_null = move |c: &Context<'_>| Ok(same(c).unwrap_or_default());
            add(&format!("try_{name}"), Box::new(or_null))
        }
        _ => add(name, body),
    };
    of_numbers(&tried)?;
    of_moments(&tried)?;
    of_text(&add)?;
    of_mathematics(&add)?;
    of_the_session(&add, told)?;
    of_the_server(&add)
}

fn a_text(text: String) -> Result<Option<Value>> {
    Ok(Some(Value::Text(text)))
}

fn of_numbers(add: &Add<'_>) -> Result<()> {
    add(
        "plus",
        Box::new(move |c| {
            Ok(match (c.get_raw(0), c.get_raw(1)) {
                (ValueRef::Null, _) | (_, ValueRef::Null) => None,
                (ValueRef::Integer(a), ValueRef::Integer(b)) => Some(Value::Integer(
                    a.checked_add(b)
                        .ok_or_else(|| trouble("Arithmetic overflow"))?,
                )),
                (ValueRef::Real(a), ValueRef::Real(b)) => Some(Value::Real(a + b)),
                (ValueRef::Real(a), ValueRef::Integer(b))
                | (ValueRef::Integer(b), ValueRef::Real(a)) => Some(Value::Real(a + b as f64)),
                (ValueRef::Text(_), ValueRef::Text(_)) => Some(Value::Text(
                    text(c, 0).unwrap_or_default() + &text(c, 1).unwrap_or_default(),
                )),
                _ => {
                    let sides = (
                        text(c, 0).unwrap_or_default(),
                        text(c, 1).unwrap_or_default(),
                    );
                    match (sides.0.trim().parse::<f64>(), sides.1.trim().parse::<f64>()) {
                        (Ok(a), Ok(b)) => Some(Value::Real(a + b)),
                        (Err(_), _) => {
                            return Err(trouble(format!(
                                "Conversion failed when converting the varchar value '{}' to data type int.",
                                sides.0
                            )));
                        }
                        _ => {
                            return Err(trouble(format!(
                                "Conversion failed when converting the varchar value '{}' to data type int.",
                                sides.1
                            )));
                        }
                    }
                }
            })
        }),
    )?;
    add(
        "divide",
        Box::new(|c| {
            let (a, b) = (c.get_raw(0), c.get_raw(1));
            if let (ValueRef::Integer(a), ValueRef::Integer(b)) = (a, b) {
                return match a.checked_div(b) {
                    Some(whole) => Ok(Some(Value::Integer(whole))),
                    None => Err(trouble("Divide by zero error encountered.")),
                };
            }
            let sides = text(c, 0).zip(text(c, 1));
            let Some((a, b)) =
                sides.and_then(|(a, b)| a.parse::<f64>().ok().zip(b.parse::<f64>().ok()))
            else {
                return Ok(None);
            };
            match b {
                0.0 => Err(trouble("Divide by zero error encountered.")),
                b => Ok(Some(Value::Real(a / b))),
            }
        }),
    )?;
    add(
        "integer",
        Box::new(|c| {
            let Some(given) = text(c, 0) else {
                return Ok(None);
            };
            let name = text(c, 1).unwrap_or_default();
            let whole = given
                .trim()
                .split('.')
                .next()
                .unwrap_or_default()
                .to_string();
            let number: i64 = match (c.get_raw(0), whole.parse()) {
                (_, Ok(number)) => number,
                (ValueRef::Real(number), _) => number as i64,
                _ => {
                    return Err(trouble(format!(
                        "Conversion failed when converting the varchar value '{given}' to data type {name}."
                    )));
                }
            };
            let fits = match name.as_str() {
                "int" => i32::try_from(number).is_ok(),
                "smallint" => i16::try_from(number).is_ok(),
                "tinyint" => u8::try_from(number).is_ok(),
                _ => true,
            };
            match fits {
                true => Ok(Some(Value::Integer(number))),
                false => Err(trouble(format!(
                    "Arithmetic overflow error converting expression to data type {name}."
                ))),
            }
        }),
    )?;
    add(
        "decimal",
        Box::new(|c| {
            let Some(given) = text(c, 0) else {
                return Ok(None);
            };
            let scale = number(c, 1).unwrap_or(0) as u32;
            to_decimal(&given, scale)
                .map(|text| Some(Value::Text(text)))
                .ok_or_else(|| trouble("Error converting data type varchar to numeric."))
        }),
    )
}

fn of_moments(add: &Add<'_>) -> Result<()> {
    for name in ["getdate", "current_timestamp", "getutcdate"] {
        add(
            name,
            Box::new(move |_| a_text(now().strftime("%Y-%m-%d %H:%M:%S%.3f").to_string())),
        )?;
    }
    for name in ["sysdatetime", "sysutcdatetime"] {
        add(name, Box::new(move |_| a_text(spelled(now()))))?;
    }
    add(
        "sysdatetimeoffset",
        Box::new(move |_| a_text(format!("{} +00:00", spelled(now())))),
    )?;
    add(
        "moment",
        Box::new(|c| {
            let Some(given) = text(c, 0) else {
                return Ok(None);
            };
            let when = moment(&given).ok_or_else(|| {
                trouble("Conversion failed when converting date and/or time from character string.")
            })?;
            let zone = given
                .rfind(['+', '-'])
                .filter(|at| *at > 10)
                .map_or("", |at| &given[at..]);
            Ok(Some(Value::Text(match zone {
                "" => spelled(when),
                zone => format!("{} {zone}", spelled(when)),
            })))
        }),
    )?;
    add(
        "datepart",
        Box::new(|c| {
            let (Some(name), Some(when)) = (text(c, 0), text(c, 1).and_then(|text| moment(&text)))
            else {
                return Ok(None);
            };
            Ok(Some(Value::Integer(part(&name, when)?)))
        }),
    )?;
    add(
        "datename",
        Box::new(|c| {
            let (Some(name), Some(when)) = (text(c, 0), text(c, 1).and_then(|text| moment(&text)))
            else {
                return Ok(None);
            };
            Ok(Some(Value::Text(match name.as_str() {
                "month" | "mm" | "m" => when.strftime("%B").to_string(),
                "weekday" | "dw" => when.strftime("%A").to_string(),
                other => part(other, when)?.to_string(),
            })))
        }),
    )?;
    for (name, of) in [("year", "year"), ("month", "month"), ("day", "day")] {
        add(
            name,
            Box::new(move |c| {
                let Some(when) = text(c, 0).and_then(|text| moment(&text)) else {
                    return Ok(None);
                };
                Ok(Some(Value::Integer(part(of, when)?)))
            }),
        )?;
    }
    add(
        "datediff",
        Box::new(|c| {
            let (Some(name), Some(from), Some(to)) = (
                text(c, 0),
                text(c, 1).and_then(|t| moment(&t)),
                text(c, 2).and_then(|t| moment(&t)),
            ) else {
                return Ok(None);
            };
            Ok(Some(Value::Integer(between(unit(&name)?, from, to))))
        }),
    )?;
    add(
        "dateadd",
        Box::new(|c| {
            let (Some(name), Some(count), Some(when)) = (
                text(c, 0),
                number(c, 1),
                text(c, 2).and_then(|t| moment(&t)),
            ) else {
                return Ok(None);
            };
            let span = match unit(&name)? {
                Unit::Year => Span::new().years(count),
                Unit::Month => Span::new().months(count),
                Unit::Week => Span::new().weeks(count),
                Unit::Day => Span::new().days(count),
                Unit::Hour => Span::new().hours(count),
                Unit::Minute => Span::new().minutes(count),
                Unit::Second => Span::new().seconds(count),
                _ => Span::new().milliseconds(count),
            };
            let moved = when
                .checked_add(span)
                .map_err(|error| trouble(error.to_string()))?;
            Ok(Some(Value::Text(spelled(moved))))
        }),
    )
}

/// What is calculated of numbers, and whether texts are some or days.
fn of_mathematics(add: &Add<'_>) -> Result<()> {
    for (name, upwards) in [("ceiling", true), ("floor", false)] {
        add(
            name,
            Box::new(move |c| {
                let rounded = |given: f64| match upwards {
                    true => given.ceil(),
                    false => given.floor(),
                };
                Ok(match c.get_raw(0) {
                    ValueRef::Integer(whole) => Some(Value::Integer(whole)),
                    ValueRef::Real(given) => Some(Value::Real(rounded(given))),
                    _ => text(c, 0)
                        .and_then(|given| given.trim().parse::<f64>().ok())
                        .map(|given| Value::Text(format!("{:.0}", rounded(given)))),
                })
            }),
        )?;
    }
    add(
        "power",
        Box::new(|c| {
            let (Some(base), Some(to)) = (text(c, 0), text(c, 1)) else {
                return Ok(None);
            };
            let wrong = || trouble("Error converting data type varchar to float.");
            let to: f64 = to.parse().map_err(|_| wrong())?;
            let number = base.parse::<f64>().map_err(|_| wrong())?.powf(to);
            // It has the type of what is raised.
            Ok(Some(match c.get_raw(0) {
                ValueRef::Integer(_) => Value::Integer(number.trunc() as i64),
                _ => Value::Real(number),
            }))
        }),
    )?;
    add(
        "sqrt",
        Box::new(|c| {
            let Some(number) = text(c, 0).and_then(|given| given.parse::<f64>().ok()) else {
                return Ok(None);
            };
            match number < 0.0 {
                true => Err(trouble("An invalid floating point operation occurred.")),
                false => Ok(Some(Value::Real(number.sqrt()))),
            }
        }),
    )?;
    add(
        "isnumeric",
        Box::new(|c| {
            let is_one = text(c, 0).is_some_and(|given| given.trim().parse::<f64>().is_ok());
            Ok(Some(Value::Integer(i64::from(is_one))))
        }),
    )?;
    add(
        "isdate",
        Box::new(|c| {
            let is_one = text(c, 0).is_some_and(|given| moment(&given).is_some());
            Ok(Some(Value::Integer(i64::from(is_one))))
        }),
    )?;
    add(
        "eomonth",
        Box::new(|c| {
            let day = text(c, 0).and_then(|given| moment(&given));
            let months = Span::new().months(number(c, 1).unwrap_or(0));
            let last = day.and_then(|day| day.date().checked_add(months).ok());
            Ok(last.map(|day| Value::Text(day.last_of_month().to_string())))
        }),
    )?;
    add(
        "choose",
        Box::new(|c| {
            let at = number(c, 0).and_then(|at| usize::try_from(at).ok());
            match at.filter(|at| (1..c.len()).contains(at)) {
                Some(at) => c.get::<Value>(at).map(Some),
                None => Ok(None),
            }
        }),
    )
}

fn of_text(add: &Add<'_>) -> Result<()> {
    for (name, upwards) in [("upper", true), ("lower", false)] {
        add(
            name,
            Box::new(move |c| {
                Ok(text(c, 0).map(|text| match upwards {
                    true => Value::Text(text.to_uppercase()),
                    false => Value::Text(text.to_lowercase()),
                }))
            }),
        )?;
    }
    add(
        "ascii",
        Box::new(|c| {
            let first = text(c, 0).and_then(|text| text.chars().next());
            let code = first.map(|first| match u32::from(first) {
                code @ 0..=255 => i64::from(code),
                _ => 63,
            });
            Ok(code.map(Value::Integer))
        }),
    )?;
    add(
        "nchar",
        Box::new(|c| {
            let code = number(c, 0).and_then(|code| u32::try_from(code).ok());
            let letter = code.and_then(char::from_u32);
            Ok(letter.map(|letter| Value::Text(letter.to_string())))
        }),
    )?;
    add(
        "stuff",
        Box::new(|c| {
            let (Some(whole), Some(start), Some(count)) = (text(c, 0), number(c, 1), number(c, 2))
            else {
                return Ok(None);
            };
            let letters: Vec<char> = whole.chars().collect();
            let Some(start) = usize::try_from(start - 1)
                .ok()
                .filter(|start| *start < letters.len())
            else {
                return Ok(None);
            };
            let Ok(count) = usize::try_from(count) else {
                return Ok(None);
            };
            let end = (start + count).min(letters.len());
            let mut made: String = letters[..start].iter().collect();
            made.push_str(&text(c, 3).unwrap_or_default());
            made.extend(&letters[end..]);
            Ok(Some(Value::Text(made)))
        }),
    )?;
    add(
        "len",
        Box::new(|c| {
            Ok(text(c, 0)
                .map(|text| Value::Integer(text.trim_end_matches(' ').chars().count() as i64)))
        }),
    )?;
    add(
        "left",
        Box::new(|c| {
            Ok(text(c, 0)
                .zip(number(c, 1))
                .map(|(text, n)| Value::Text(text.chars().take(n.max(0) as usize).collect())))
        }),
    )?;
    add(
        "right",
        Box::new(|c| {
            Ok(text(c, 0).zip(number(c, 1)).map(|(text, n)| {
                let skip = text.chars().count().saturating_sub(n.max(0) as usize);
                Value::Text(text.chars().skip(skip).collect())
            }))
        }),
    )?;
    add(
        "reverse",
        Box::new(|c| Ok(text(c, 0).map(|text| Value::Text(text.chars().rev().collect())))),
    )?;
    add(
        "replicate",
        Box::new(|c| {
            Ok(text(c, 0)
                .zip(number(c, 1))
                .map(|(text, n)| Value::Text(text.repeat(n.clamp(0, 1 << 20) as usize))))
        }),
    )?;
    add(
        "space",
        Box::new(|c| Ok(number(c, 0).map(|n| Value::Text(" ".repeat(n.clamp(0, 8000) as usize))))),
    )?;
    add(
        "charindex",
        Box::new(|c| {
            Ok(text(c, 0).zip(text(c, 1)).map(|(part, whole)| {
                let (part, whole) = (part.to_lowercase(), whole.to_lowercase());
                Value::Integer(
                    whole
                        .find(&part)
                        .map_or(0, |at| whole[..at].chars().count() as i64 + 1),
                )
            }))
        }),
    )?;
    add(
        "quotename",
        Box::new(|c| {
            Ok(text(c, 0).map(|name| match text(c, 1).as_deref() {
                Some("'") => Value::Text(format!("'{}'", name.replace('\'', "''"))),
                _ => Value::Text(format!("[{}]", name.replace(']', "]]"))),
            }))
        }),
    )
}

/// An identifier that was not given before.
fn new_identifier() -> String {
    let mut bytes = [0_u8; 16];
    // No secret hangs on them.
    let seed = Timestamp::now().as_nanosecond() as u128;
    let count = COUNT.fetch_add(1, Ordering::Relaxed) as u128;
    bytes.copy_from_slice(
        &(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c835) ^ (count << 64) ^ count)
            .to_le_bytes(),
    );
    let hex: String = bytes.iter().map(|byte| format!("{byte:02X}")).collect();
    format!(
        "{}-{}-{}-{}-{}",
        &hex[..8],
        &hex[8..12],
        &hex[12..16],
        &hex[16..20],
        &hex[20..]
    )
}

fn of_the_session(add: &Add<'_>, told: &Arc<Told>) -> Result<()> {
    add("newid", Box::new(|_| a_text(new_identifier())))?;
    for name in ["original_login", "suser_sname", "suser_name"] {
        let told = Arc::clone(told);
        add(
            name,
            Box::new(move |_| Ok(Some(Value::Text(told.login.clone())))),
        )?;
    }
    let of = Arc::clone(told);
    add(
        "user_name",
        Box::new(move |_| {
            Ok(Some(Value::Text(if of.all_powerful {
                "dbo".into()
            } else {
                of.login.clone()
            })))
        }),
    )?;
    let of = Arc::clone(told);
    add(
        "db_name",
        Box::new(move |_| Ok(Some(Value::Text(of.database.clone())))),
    )?;
    add("db_id", Box::new(|_| Ok(Some(Value::Integer(5)))))?;
    for name in [
        "is_srvrolemember",
        "is_member",
        "is_rolemember",
        "has_perms_by_name",
    ] {
        let told = Arc::clone(told);
        add(
            name,
            Box::new(move |_| Ok(Some(Value::Integer(i64::from(told.all_powerful))))),
        )?;
    }
    let of = Arc::clone(told);
    add(
        "scope_identity",
        Box::new(move |_| {
            let identity = of.identity.load(Ordering::Relaxed);
            Ok((identity > 0).then_some(Value::Integer(identity)))
        }),
    )
}

fn of_the_server(add: &Add<'_>) -> Result<()> {
    add(
        "serverproperty",
        Box::new(|c| {
            Ok(
                match text(c, 0).unwrap_or_default().to_lowercase().as_str() {
                    "productversion" => Some(Value::Text(VERSION.into())),
                    "edition" => Some(Value::Text("Stand-in".into())),
                    "servername" | "machinename" => Some(Value::Text("brackwater".into())),
                    "engineedition" => Some(Value::Integer(3)),
                    "collation" => Some(Value::Text("Latin1_General_CI_AS".into())),
                    _ => None,
                },
            )
        }),
    )?;
    add(
        "connectionproperty",
        Box::new(|c| {
            Ok(
                match text(c, 0).unwrap_or_default().to_lowercase().as_str() {
                    "net_transport" => Some(Value::Text("TCP".into())),
                    "protocol_type" => Some(Value::Text("TSQL".into())),
                    _ => None,
                },
            )
        }),
    )?;
    add(
        "databasepropertyex",
        Box::new(|c| {
            Ok(
                match text(c, 1).unwrap_or_default().to_lowercase().as_str() {
                    "updateability" => Some(Value::Text("READ_WRITE".into())),
                    "collation" => Some(Value::Text("Latin1_General_CI_AS".into())),
                    "status" => Some(Value::Text("ONLINE".into())),
                    _ => None,
                },
            )
        }),
    )
}

static COUNT: AtomicI64 = AtomicI64::new(1);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn decimals_are_rounded_and_ordered_as_numbers() {
        for (given, scale, made) in [
            ("1.005", 2, "1.01"),
            ("-0.5", 0, "-1"),
            ("12", 2, "12.00"),
            ("9999999999999999999999.99", 2, "9999999999999999999999.99"),
        ] {
            assert_eq!(to_decimal(given, scale).as_deref(), Some(made));
        }
        assert!(
            as_numbers("9.50", "10").is_lt()
                && as_numbers("1.0", "1.00").is_eq()
                && as_numbers("-2", "1").is_lt()
        );
    }

    #[test]
    fn dates_are_told_by_their_boundaries() {
        let day = |text: &str| moment(text).unwrap();
        assert_eq!(between(Unit::Year, day("2025-12-31"), day("2026-01-01")), 1);
        assert_eq!(
            between(Unit::Day, day("2026-01-01 23:59:59"), day("2026-01-02")),
            1
        );
        assert_eq!(
            spelled(day("2026-01-02T03:04:05.5")),
            "2026-01-02 03:04:05.5000000"
        );
    }
}
