//! The rows of each table. Money and measures are whole hundredths before they become numbers, so that
//! the values come out clean.

use idle_tide_core::Value;

use crate::random::Random;
use crate::{PLATES, Settings, Take, words};

const QUAYS: [(&str, &str, &str, Option<i64>); 4] = [
    ("N", "North Steps", "south", Some(1874)),
    ("E", "Mill Sluice", "west", Some(1911)),
    ("W", "Outer Spit", "east", None),
    ("D", "Drying Hard", "north", Some(1790)),
];
const GAUGES: [&str; 4] = ["Outer Spit", "North Steps", "Mill Sluice", "Lock Cill"];
const SERVICES: [(&str, &str, i64); 8] = [
    ("fresh water", "m3", 450),
    ("shore power", "kWh", 38),
    ("crane", "hour", 9_500),
    ("pilot", "passage", 18_000),
    ("line handling", "visit", 4_500),
    ("waste", "bag", 600),
    ("diesel", "litre", 162),
    ("ice", "kg", 24),
];
const VESSELS: u64 = 480;
const VISITS: i64 = 12_000;
const HALF_HOUR: i64 = 1_800;
/// Seconds of 2031-01-01 00:00 since 1970.
const START: i64 = 1_924_992_000;
const DAY: i64 = 86_400;

/// Day number since 1970 to year, month, day (Hinnant, "days from civil", 2013).
fn civil(days: i64) -> (i64, i64, i64) {
    let z = days + 719_468;
    let era = z.div_euclid(146_097);
    let doe = z.rem_euclid(146_097);
    let yoe = (doe - doe / 1_460 + doe / 36_524 - doe / 146_096) / 365;
    let doy = doe - (365 * yoe + yoe / 4 - yoe / 100);
    let mp = (5 * doy + 2) / 153;
    let month = if mp < 10 { mp + 3 } else { mp - 9 };
    let year = yoe + era * 400 + i64::from(month <= 2);
    (year, month, doy - (153 * mp + 2) / 5 + 1)
}

fn date(second: i64) -> Value {
    let (y, m, d) = civil(second.div_euclid(DAY));
    format!("{y:04}-{m:02}-{d:02}").into()
}

fn time(second: i64) -> Value {
    let (y, m, d) = civil(second.div_euclid(DAY));
    let (h, min) = (
        second.rem_euclid(DAY) / 3_600,
        second.rem_euclid(3_600) / 60,
    );
    format!("{y:04}-{m:02}-{d:02} {h:02}:{min:02}").into()
}

fn hundredths(number: i64) -> Value {
    Value::Float(number as f64 / 100.0)
}

fn tenths(number: i64) -> Value {
    Value::Float(number as f64 / 10.0)
}

fn text(words: &str) -> Value {
    Value::Text(words.replace('|', "\n"))
}

/// Level of the tide in centimetres: a half-day wave under a fortnight's.
fn tide(second: i64, phase: f64) -> i64 {
    let hours = (second - START) as f64 / 3_600.0 + phase;
    let turn = std::f64::consts::TAU;
    let springs = 1.0 + 0.28 * (hours / 354.4 * turn).cos();
    (330.0 + 195.0 * springs * (hours / 12.42 * turn).cos()) as i64
}

/// Makes every row, table by table, parents before children.
///
/// # Errors
/// The first error of `take`.
pub fn generate<E>(settings: &Settings, take: &mut Take<'_, E>) -> Result<(), E> {
    let lists = words();
    let list = |name: &str| lists.get(name).map_or(&[""][..], Vec::as_slice);
    let mut random = Random(settings.seed);
    let r = &mut random;
    let person = |r: &mut Random| {
        format!(
            "{} {}",
            r.pick(list("first name")),
            r.pick(list("last name"))
        )
    };

    for id in 1..=210_i64 {
        let kind = ["person", "person", "person", "company", "trust"][r.below(5) as usize];
        let mut name = person(r);
        if kind != "person" {
            name = format!("{} & Daughters", r.pick(list("last name")));
        }
        let handle = name.to_lowercase().replace(" & ", "-").replace(' ', ".");
        let phone =
            (!r.once_in(5)).then(|| format!("0{} {:06}", r.between(20, 79), r.below(1_000_000)));
        let email = (!r.once_in(3)).then(|| format!("{handle}@haven.example"));
        take(
            "owners",
            &[
                id.into(),
                name.into(),
                kind.into(),
                phone.into(),
                email.into(),
                r.between(1998, 2031).to_string().into(),
            ],
        )?;
    }
    let mut signs = Vec::new();
    for id in 1..=VESSELS as i64 {
        let name = format!(
            "{} {}",
            r.pick(list("first half of a vessel")),
            r.pick(list("second half of a vessel"))
        );
        let sign = (!r.once_in(12)).then(|| format!("BH{:04}", 1_000 + id * 7));
        signs.push(sign.clone());
        let rig = r.pick(&["sloop", "ketch", "motor", "smack", "barge", "tug"]);
        let note: Value = match r.below(14) {
            0 => "".into(),
            1 => text(r.pick(list("berth note"))),
            2 => "crew of one, and a dog 🐕".into(),
            _ => Value::Null,
        };
        let built = (!r.once_in(6)).then(|| r.between(1889, 2030));
        take(
            "vessels",
            &[
                id.into(),
                name.into(),
                r.between(1, 210).into(),
                sign.into(),
                hundredths(r.between(480, 3_900)),
                hundredths(r.between(60, 390)),
                built.into(),
                rig.into(),
                note,
            ],
        )?;
    }
    for (code, name, faces, built) in QUAYS {
        take(
            "quays",
            &[code.into(), name.into(), faces.into(), built.into()],
        )?;
    }
    for id in 1..=48_i64 {
        let (quay, ..) = QUAYS[(id as usize - 1) / 12];
        let dries = quay == "D" || r.once_in(4);
        let depth = if dries {
            r.between(-90, 40)
        } else {
            r.between(150, 520)
        };
        take(
            "berths",
            &[
                id.into(),
                quay.into(),
                format!("{quay}{:02}", (id - 1) % 12 + 1).into(),
                hundredths(depth),
                i64::from(dries).into(),
                i64::from(r.once_in(6)).into(),
            ],
        )?;
    }
    let mut arrivals = Vec::new();
    for id in 1..=VISITS {
        let arrived = START + (id * 2_628 / HALF_HOUR) * HALF_HOUR;
        let berth = id % 48 + 1;
        let stay = r.between(2, 150) * HALF_HOUR;
        let left = (id <= VISITS - 31).then(|| time(arrived + stay));
        let note: Value = match r.below(9) {
            0 => "".into(),
            1..=3 => text(r.pick(list("berth note"))),
            _ => Value::Null,
        };
        arrivals.push(arrived);
        take(
            "visits",
            &[
                id.into(),
                (r.below(VESSELS) as i64 + 1).into(),
                berth.into(),
                time(arrived),
                left.unwrap_or(Value::Null),
                hundredths(r.between(55, 390)),
                r.between(1, 14).into(),
                note,
            ],
        )?;
    }
    let mut due = 0_i64;
    for (at, arrived) in arrivals.iter().enumerate() {
        for _ in 0..[0, 1, 1, 1, 1, 2][r.below(6) as usize] {
            due += 1;
            let paid = (!r.once_in(7)).then(|| date(arrived + r.between(1, 40) * DAY));
            take(
                "dues",
                &[
                    due.into(),
                    (at as i64 + 1).into(),
                    hundredths(r.between(1_200, 96_000) / 50 * 50),
                    date(arrived + DAY),
                    paid.unwrap_or(Value::Null),
                ],
            )?;
        }
    }
    for (id, (name, unit, price)) in SERVICES.iter().enumerate() {
        take(
            "services",
            &[
                (id as i64 + 1).into(),
                (*name).into(),
                (*unit).into(),
                hundredths(*price),
            ],
        )?;
    }
    for visit in 1..=VISITS {
        let first = r.between(1, 8);
        for step in 0..r.between(0, 2) {
            take(
                "visit_services",
                &[
                    visit.into(),
                    ((first + step * 3) % 8 + 1).into(),
                    hundredths(r.between(1, 240) * 50),
                ],
            )?;
        }
    }
    for id in 1..=1_400_i64 {
        let tonnes = (!r.once_in(15)).then(|| tenths(r.between(5, 4_000)));
        take(
            "cargo",
            &[
                id.into(),
                r.between(1, VISITS).into(),
                r.pick(list("goods")).into(),
                tonnes.unwrap_or(Value::Null),
                i64::from(r.once_in(20)).into(),
            ],
        )?;
    }
    for (id, name) in GAUGES.iter().enumerate() {
        take(
            "gauges",
            &[
                (id as i64 + 1).into(),
                (*name).into(),
                hundredths(-20 + 15 * id as i64),
                date(START - 400 * DAY),
            ],
        )?;
    }
    for step in 0..settings.readings as i64 {
        let gauge = step % 4;
        let at = START + step / 4 * HALF_HOUR;
        let temperature = 84 + (step / 40 % 96) - 30 + r.between(-4, 4);
        let battery = (!r.once_in(60)).then(|| hundredths(1_260 - step / 4 % 120 / 2));
        take(
            "readings",
            &[
                (gauge + 1).into(),
                time(at),
                hundredths(tide(at, gauge as f64 * 0.2) + r.between(-4, 4)),
                tenths(temperature),
                battery.unwrap_or(Value::Null),
            ],
        )?;
    }
    for day in 0..365_i64 {
        for high in 0..2 {
            let at = START + day * DAY + high * 44_700 + day * 3_000 % 44_700;
            let height = 330 + 195 + (day % 15 - 7).abs() * 12;
            take(
                "tides",
                &[
                    date(START + day * DAY),
                    (high + 1).into(),
                    time(at),
                    hundredths(height),
                    i64::from(height > 570).into(),
                ],
            )?;
        }
    }
    for step in 0..1_460_i64 {
        let wind = r.between(0, 34);
        let gust = (wind > 8).then(|| wind + r.between(4, 18));
        let sky = (!r.once_in(25)).then(|| r.pick(list("sky")));
        take(
            "weather",
            &[
                time(START + step * 6 * 3_600),
                wind.into(),
                gust.into(),
                r.pick(&["N", "NE", "E", "SE", "S", "SW", "W", "NW"]).into(),
                tenths(r.between(9_720, 10_420)),
                sky.into(),
            ],
        )?;
    }
    for id in 1..=14_i64 {
        let hash = format!("pbk${:016x}{:016x}", r.next(), r.next());
        take(
            "keepers",
            &[
                id.into(),
                person(r).into(),
                r.pick(&["watch", "watch", "mate", "harbour master"]).into(),
                hash.into(),
            ],
        )?;
    }
    for id in 1..=1_095_i64 {
        let starts = START + (id - 1) * 8 * 3_600;
        take(
            "watches",
            &[
                id.into(),
                r.between(1, 14).into(),
                r.pick(&["tower", "lock", "launch"]).into(),
                time(starts),
                time(starts + 8 * 3_600),
            ],
        )?;
    }
    for id in 1..=640_i64 {
        let opened = START + r.between(0, 360) * DAY;
        let closed = (!r.once_in(4)).then(|| date(opened + r.between(0, 60) * DAY));
        let by = closed.is_some().then(|| r.between(1, 14));
        let berth = (!r.once_in(8)).then(|| r.between(1, 48));
        let cost: Value = match r.below(12) {
            0 => Value::Null,
            1 => "about 40".into(),
            2 => "1,250.00".into(),
            _ => format!("{}.{:02}", r.between(8, 1_900), r.between(0, 3) * 25).into(),
        };
        take(
            "work_orders",
            &[
                id.into(),
                berth.into(),
                date(opened),
                closed.unwrap_or(Value::Null),
                r.between(1, 5).into(),
                by.into(),
                r.pick(list("work")).into(),
                cost,
            ],
        )?;
    }
    for id in 1..=180_i64 {
        let visit = (!r.once_in(6)).then(|| r.between(1, VISITS));
        let at = START + r.between(0, 17_000) * HALF_HOUR;
        take(
            "incidents",
            &[
                id.into(),
                visit.into(),
                time(at),
                r.between(1, 4).into(),
                text(r.pick(list("report"))),
            ],
        )?;
    }
    for id in 1..=520_i64 {
        let sign = r.pick(&signs.iter().map(Option::as_deref).collect::<Vec<_>>());
        take(
            "tows",
            &[
                id.into(),
                sign.into(),
                time(START + r.between(0, 17_000) * HALF_HOUR),
                r.between(15, 240).into(),
                tenths(r.between(80, 900)),
            ],
        )?;
    }
    for (id, title) in [
        "Approaches",
        "Inner basin",
        "Outer spit and bar",
        "The drying hard",
        "Mill sluice",
    ]
    .iter()
    .enumerate()
    {
        let seal: Vec<u8> = (0..4).flat_map(|_| r.next().to_le_bytes()).collect();
        take(
            "charts",
            &[
                (id as i64 + 1).into(),
                (*title).into(),
                r.between(1, 9).into(),
                Value::Bytes(seal),
            ],
        )?;
    }
    for number in 1..=90_i64 {
        let work = r.pick(list("work"));
        let (_, quay, ..) = r.pick(&QUAYS);
        take(
            "notices",
            &[
                format!("Notice {number} of 2031").into(),
                format!(
                    "{quay}: {}. Keep clear from high water.",
                    work.to_lowercase()
                )
                .into(),
            ],
        )?;
    }
    for id in 1..=220_i64 {
        let mut row: Vec<Value> = vec![
            id.into(),
            r.between(1, VESSELS as i64).into(),
            date(START + r.between(0, 360) * DAY),
            person(r).into(),
        ];
        for _ in 0..PLATES {
            row.push(if r.once_in(9) {
                Value::Null
            } else {
                tenths(r.between(28, 120))
            });
        }
        take("hull_surveys", &row)?;
    }
    Ok(())
}
