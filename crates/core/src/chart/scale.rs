//! Scales: where ticks stand, and what is written at them. Numbers go by 1, 2 and 5 times a power of ten; times by steps
//! of the calendar (Gregorian, UTC), written as in ISO 8601.

pub use crate::round::step;
use jiff::civil::{self, DateTime};

/// A tick: its value, and its words.
pub type Tick = (f64, String);

/// A scale from a least value to a most one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scale {
    /// The value at its beginning.
    pub least: f64,
    /// The value at its end; greater.
    pub most: f64,
    /// What it measures.
    pub of: Of,
}

/// What a scale measures.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Of {
    /// Numbers.
    Numbers,
    /// Numbers, by their logarithm; all are greater than zero.
    Powers,
    /// Seconds since 1970.
    Times,
}

impl Scale {
    /// A scale that has room for these values; one of zero length is made wider.
    pub fn over(least: f64, most: f64, of: Of) -> Self {
        let (mut least, mut most) = (least.min(most), most.max(least));
        if least == most || !least.is_finite() || !most.is_finite() {
            let centre = if least.is_finite() { least } else { 0.0 };
            (least, most) = match of {
                Of::Numbers if centre == 0.0 => (0.0, 1.0),
                Of::Numbers => (centre - centre.abs() / 2.0, centre + centre.abs() / 2.0),
                Of::Powers => (centre / 2.0, centre * 2.0),
                Of::Times => (centre - 43_200.0, centre + 43_200.0),
            };
        }
        let floor = match of {
            Of::Powers => f64::MIN_POSITIVE,
            _ => -f64::MAX,
        };
        Scale {
            least: least.clamp(floor, f64::MAX),
            most: most.clamp(floor, f64::MAX),
            of,
        }
    }

    /// The step between so many ticks of numbers; the widest of scales does not overflow.
    fn step(&self, most: usize) -> f64 {
        let ticks = most.max(1) as f64;
        step(self.most / ticks - self.least / ticks, 1)
    }

    /// The same, to its next ticks on both sides.
    #[must_use]
    pub fn rounded(self, most_ticks: usize) -> Self {
        match self.of {
            Of::Numbers => {
                let step = self.step(most_ticks);
                let within = |number: f64| number.clamp(-f64::MAX, f64::MAX);
                Scale {
                    least: within((self.least / step + 1e-9).floor() * step),
                    most: within((self.most / step - 1e-9).ceil() * step),
                    ..self
                }
            }
            Of::Powers => Scale {
                least: 10_f64.powf(self.least.log10().floor()),
                most: 10_f64
                    .powf(self.most.log10().ceil())
                    .max(10_f64.powf(self.least.log10().floor() + 1.0))
                    .min(f64::MAX),
                ..self
            },
            Of::Times => self,
        }
    }

    /// Where a value stands, from 0 at the beginning to 1 at the end.
    pub fn place(&self, value: f64) -> f64 {
        let (value, least, most) = match self.of {
            // A gap stays one; `max` would give the other number.
            Of::Powers if value.is_nan() => return value,
            Of::Powers => (
                value.max(f64::MIN_POSITIVE).log10(),
                self.least.log10(),
                self.most.log10(),
            ),
            _ => (value, self.least, self.most),
        };
        // Halved, so that the widest of scales does not overflow.
        (value / 2.0 - least / 2.0) / (most / 2.0 - least / 2.0)
    }

    /// The value at a place.
    pub fn at(&self, place: f64) -> f64 {
        match self.of {
            Of::Powers => {
                10_f64.powf(self.least.log10() + place * (self.most.log10() - self.least.log10()))
            }
            _ => self.least * (1.0 - place) + self.most * place,
        }
    }

    /// Its ticks, at most as many as named and at least one where there is room for it.
    pub fn ticks(&self, most: usize) -> Vec<Tick> {
        match self.of {
            Of::Numbers => self.number_ticks(most),
            Of::Powers => self.power_ticks(most),
            Of::Times => self.time_ticks(most),
        }
    }

    fn number_ticks(&self, most: usize) -> Vec<Tick> {
        let bounds = |step: f64| {
            let first = (self.least / step - 1e-9).ceil();
            (first, (self.most / step + 1e-9).floor() - first)
        };
        // A round step may be so long that none of it falls inside.
        let steps = (most..most + 4).map(|most| self.step(most));
        let mut steps = steps.skip_while(|step| bounds(*step).1 < 0.0);
        let Some(step) = steps.next() else {
            return Vec::new();
        };
        let (first, count) = bounds(step);
        let ticks = (0..=(count as usize).min(200)).map(|at| (first + at as f64) * step);
        let largest = self.least.abs().max(self.most.abs());
        ticks
            .map(|tick| (tick, number_words(tick, step, largest)))
            .collect()
    }

    fn power_ticks(&self, most: usize) -> Vec<Tick> {
        let (first, last) = (
            self.least.log10().ceil() as i32,
            self.most.log10().floor() as i32,
        );
        let every = ((last - first + 1).max(1) as usize)
            .div_ceil(most.max(1))
            .max(1);
        let powers = (first..=last).step_by(every);
        let ticks: Vec<Tick> = powers
            .map(|power| 10_f64.powi(power))
            .map(|tick| (tick, number_words(tick, tick, tick)))
            .collect();
        match ticks.is_empty() {
            true => self.number_ticks(most),
            false => ticks,
        }
    }

    fn time_ticks(&self, most: usize) -> Vec<Tick> {
        let length = self.most - self.least;
        let fits = |seconds: f64| length / seconds <= most.max(1) as f64;
        let known = STEPS.iter().find(|step| fits(step.seconds()));
        let step = known.copied().unwrap_or_else(|| {
            let years = step(length / (365.25 * 86_400.0), most).max(1.0);
            Step::Years(years.min(1_000.0) as i16)
        });
        let mut ticks = Vec::new();
        let Some(begin) = moment(self.least) else {
            return Vec::new();
        };
        let mut at = Some(step.floor(begin));
        while let Some(moment) = at {
            let seconds = seconds(moment);
            if seconds > self.most + 1e-6 || ticks.len() > 200 {
                break;
            }
            if seconds >= self.least - 1e-6 {
                ticks.push((seconds, step.words(moment)));
            }
            at = step.next(moment);
        }
        ticks
    }
}

/// A number as it stands at a tick: as many decimals as the step needs, thousands apart; millions and more by their
/// prefix of the SI (M, G, T, P).
pub fn number_words(number: f64, step: f64, largest: f64) -> String {
    let (by, prefix) = match largest {
        l if l >= 1e18 => return format!("{number:.2e}"),
        l if l >= 1e15 => (1e15, " P"),
        l if l >= 1e12 => (1e12, " T"),
        l if l >= 1e9 => (1e9, " G"),
        l if l >= 1e6 => (1e6, " M"),
        l if l > 0.0 && l < 1e-5 => return format!("{number:.1e}"),
        _ => (1.0, ""),
    };
    let (number, step) = (number / by, step / by);
    let decimals = (-(step.abs().log10() + 1e-9).floor()).clamp(0.0, 9.0) as usize;
    let text = format!("{number:.decimals$}");
    let text = if text.trim_start_matches(['-', '0', '.']).is_empty() {
        text.trim_start_matches('-').to_string()
    } else {
        text
    };
    let (whole, fraction) = text
        .split_once('.')
        .map_or((text.as_str(), ""), |(w, f)| (w, f));
    let (sign, digits) = whole
        .strip_prefix('-')
        .map_or(("", whole), |digits| ("−", digits));
    let grouped = digits
        .parse()
        .map_or_else(|_| digits.to_string(), crate::figures::grouped);
    let point = if fraction.is_empty() { "" } else { "." };
    let prefix = if number == 0.0 { "" } else { prefix };
    format!("{sign}{grouped}{point}{fraction}{prefix}")
}

/// A number on its own: up to six digits that matter.
pub fn plain_words(number: f64) -> String {
    if number == 0.0 || !number.is_finite() {
        return if number == 0.0 {
            "0".into()
        } else {
            number.to_string()
        };
    }
    let size = number.abs().log10().floor();
    if !(-5.0..15.0).contains(&size) {
        return format!("{number:.3e}");
    }
    let decimals = (5.0 - size).clamp(0.0, 9.0) as usize;
    let text = format!("{number:.decimals$}");
    let short = match text.contains('.') {
        true => text.trim_end_matches('0').trim_end_matches('.'),
        false => &text,
    };
    let decimals = short
        .split_once('.')
        .map_or(0, |(_, fraction)| fraction.len());
    number_words(
        number,
        10_f64.powi(-(decimals as i32)),
        number.abs().min(9e5),
    )
}

/// A number on its own where there is little room: up to three digits that matter, millions and more by their prefix.
pub fn short_words(number: f64) -> String {
    if number == 0.0 || !number.is_finite() {
        return plain_words(number);
    }
    let size = number.abs();
    let step = 10_f64.powf(size.log10().floor() - 2.0);
    let whole = if size < 1e6 { step.min(1.0) } else { step };
    number_words(number, whole, size)
}

/// A step of the calendar.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Step {
    Seconds(i64),
    Days(i64),
    Months(i16),
    Years(i16),
}

const STEPS: [Step; 30] = [
    Step::Seconds(1),
    Step::Seconds(2),
    Step::Seconds(5),
    Step::Seconds(10),
    Step::Seconds(15),
    Step::Seconds(30),
    Step::Seconds(60),
    Step::Seconds(120),
    Step::Seconds(300),
    Step::Seconds(600),
    Step::Seconds(900),
    Step::Seconds(1_800),
    Step::Seconds(3_600),
    Step::Seconds(7_200),
    Step::Seconds(10_800),
    Step::Seconds(21_600),
    Step::Seconds(43_200),
    Step::Days(1),
    Step::Days(2),
    Step::Days(7),
    Step::Days(14),
    Step::Months(1),
    Step::Months(2),
    Step::Months(3),
    Step::Months(6),
    Step::Years(1),
    Step::Years(2),
    Step::Years(5),
    Step::Years(10),
    Step::Years(20),
];

impl Step {
    /// About so many seconds.
    fn seconds(self) -> f64 {
        match self {
            Step::Seconds(seconds) => seconds as f64,
            Step::Days(days) => days as f64 * 86_400.0,
            Step::Months(months) => f64::from(months) * 30.437 * 86_400.0,
            Step::Years(years) => f64::from(years) * 365.25 * 86_400.0,
        }
    }

    /// The latest step that is not after a moment.
    fn floor(self, at: DateTime) -> DateTime {
        let day = at.date();
        let midnight = |day: civil::Date| day.to_datetime(civil::Time::midnight());
        let first = |year: i16, month: i16| {
            let month = i8::try_from(month).unwrap_or(1);
            midnight(civil::Date::new(year, month, 1).unwrap_or(day))
        };
        match self {
            Step::Seconds(step) => {
                let within = at.time().duration_since(civil::Time::midnight()).as_secs();
                let within = jiff::SignedDuration::from_secs(within - within.rem_euclid(step));
                midnight(day).checked_add(within).unwrap_or(at)
            }
            Step::Days(step) => {
                // Weeks begin on a Monday (ISO 8601), as did 1970-01-05.
                let since = day.duration_since(civil::date(1970, 1, 5)).as_secs() / 86_400;
                let back = jiff::Span::new().days(since.rem_euclid(step));
                midnight(day).checked_sub(back).unwrap_or(at)
            }
            Step::Months(step) => {
                let month = i16::from(day.month()) - 1;
                first(day.year(), month - month.rem_euclid(step) + 1)
            }
            Step::Years(step) => first(day.year() - day.year().rem_euclid(step), 1),
        }
    }

    fn next(self, at: DateTime) -> Option<DateTime> {
        let span = jiff::Span::new();
        let span = match self {
            Step::Seconds(seconds) => span.seconds(seconds),
            Step::Days(days) => span.days(days),
            Step::Months(months) => span.months(months),
            Step::Years(years) => span.years(years),
        };
        at.checked_add(span).ok()
    }

    fn words(self, at: DateTime) -> String {
        let format = match self {
            Step::Seconds(_) if at.time() == civil::Time::midnight() => "%m-%d",
            Step::Seconds(step) if step < 60 => "%H:%M:%S",
            Step::Seconds(_) => "%H:%M",
            Step::Days(_) if at.date().month() == 1 && at.date().day() <= 7 => "%Y-%m-%d",
            Step::Days(_) => "%m-%d",
            Step::Months(_) => "%Y-%m",
            Step::Years(_) => "%Y",
        };
        at.strftime(format).to_string()
    }
}

fn seconds(at: DateTime) -> f64 {
    let days = at.date().duration_since(civil::date(1970, 1, 1)).as_secs();
    days as f64
        + at.time()
            .duration_since(civil::Time::midnight())
            .as_secs_f64()
}

fn moment(seconds: f64) -> Option<DateTime> {
    let whole = jiff::Timestamp::from_second(seconds.floor() as i64).ok()?;
    Some(jiff::tz::Offset::UTC.to_datetime(whole))
}

/// A moment in words: its day alone where it is midnight.
pub fn time_words(at: f64) -> String {
    let Some(moment) = moment(at) else {
        return plain_words(at);
    };
    let format = match (moment.time() == civil::Time::midnight(), moment.second()) {
        (true, _) => "%Y-%m-%d",
        (_, 0) => "%Y-%m-%d %H:%M",
        _ => "%Y-%m-%d %H:%M:%S",
    };
    moment.strftime(format).to_string()
}
