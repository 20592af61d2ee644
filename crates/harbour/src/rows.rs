//! The rows of each table. Money and measures are whole hundredths before they become numbers, so that
//! the values come out clean.

use std::collections::HashMap;

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
    let mut filling = Filling {
        lists: words(),
        random: Random(settings.seed),
        readings: settings.readings,
        take,
        signs: Vec::new(),
        arrivals: Vec::new(),
    };
    filling.owners()?;
    filling.vessels()?;
    filling.quays()?;
    filling.berths()?;
    filling.visits()?;
    filling.dues()?;
    filling.services()?;
    filling.visit_services()?;
    filling.cargo()?;
    filling.gauges()?;
    filling.readings()?;
    filling.tides()?;
    filling.weather()?;
    filling.keepers()?;
    filling.watches()?;
    filling.work_orders()?;
    filling.incidents()?;
    filling.tows()?;
    filling.charts()?;
    filling.notices()?;
    filling.hull_surveys()
}

/// The words of a list; one empty one where there is none.
fn list<'a>(lists: &'a HashMap<&'static str, Vec<&'static str>>, name: &str) -> &'a [&'static str] {
    lists.get(name).map_or(&[""][..], Vec::as_slice)
}

/// What the tables have in common while they are filled, a method each in their order: every one draws its numbers where the
/// one before left off.
struct Filling<'a, 't, E> {
    lists: HashMap<&'static str, Vec<&'static str>>,
    random: Random,
    readings: u64,
    take: &'a mut Take<'t, E>,
    /// The call signs of the vessels.
    signs: Vec<Option<String>>,
    /// When each visit began.
    arrivals: Vec<i64>,
}

impl<E> Filling<'_, '_, E> {
    fn person(&mut self) -> String {
        format!(
            "{} {}",
            self.random.pick(list(&self.lists, "first name")),
            self.random.pick(list(&self.lists, "last name"))
        )
    }

    fn owners(&mut self) -> Result<(), E> {
        for id in 1..=210_i64 {
            let kind =
                ["person", "person", "person", "company", "trust"][self.random.below(5) as usize];
            let mut name = self.person();
            if kind != "person" {
                name = format!(
                    "{} & Daughters",
                    self.random.pick(list(&self.lists, "last name"))
                );
            }
            let handle = name.to_lowercase().replace(" & ", "-").replace(' ', ".");
            let phone = (!self.random.once_in(5)).then(|| {
                format!(
                    "0{} {:06}",
                    self.random.between(20, 79),
                    self.random.below(1_000_000)
                )
            });
            let email = (!self.random.once_in(3)).then(|| format!("{handle}@haven.example"));
            (self.take)(
                "owners",
                &[
                    id.into(),
                    name.into(),
                    kind.into(),
                    phone.into(),
                    email.into(),
                    self.random.between(1998, 2031).to_string().into(),
                ],
            )?;
        }
        Ok(())
    }

    fn vessels(&mut self) -> Result<(), E> {
        for id in 1..=VESSELS as i64 {
            let name = format!(
                "{} {}",
                self.random
                    .pick(list(&self.lists, "first half of a vessel")),
                self.random
                    .pick(list(&self.lists, "second half of a vessel"))
            );
            let sign = (!self.random.once_in(12)).then(|| format!("BH{:04}", 1_000 + id * 7));
            self.signs.push(sign.clone());
            let rig = self
                .random
                .pick(&["sloop", "ketch", "motor", "smack", "barge", "tug"]);
            let note: Value = match self.random.below(14) {
                0 => "".into(),
                1 => text(self.random.pick(list(&self.lists, "berth note"))),
                2 => "crew of one, and a dog 🐕".into(),
                _ => Value::Null,
            };
            let built = (!self.random.once_in(6)).then(|| self.random.between(1889, 2030));
            (self.take)(
                "vessels",
                &[
                    id.into(),
                    name.into(),
                    self.random.between(1, 210).into(),
                    sign.into(),
                    hundredths(self.random.between(480, 3_900)),
                    hundredths(self.random.between(60, 390)),
                    built.into(),
                    rig.into(),
                    note,
                ],
            )?;
        }
        Ok(())
    }

    fn quays(&mut self) -> Result<(), E> {
        for (code, name, faces, built) in QUAYS {
            (self.take)(
                "quays",
                &[code.into(), name.into(), faces.into(), built.into()],
            )?;
        }
        Ok(())
    }

    fn berths(&mut self) -> Result<(), E> {
        for id in 1..=48_i64 {
            let (quay, ..) = QUAYS[(id as usize - 1) / 12];
            let dries = quay == "D" || self.random.once_in(4);
            let depth = if dries {
                self.random.between(-90, 40)
            } else {
                self.random.between(150, 520)
            };
            (self.take)(
                "berths",
                &[
                    id.into(),
                    quay.into(),
                    format!("{quay}{:02}", (id - 1) % 12 + 1).into(),
                    hundredths(depth),
                    i64::from(dries).into(),
                    i64::from(self.random.once_in(6)).into(),
                ],
            )?;
        }
        Ok(())
    }

    fn visits(&mut self) -> Result<(), E> {
        for id in 1..=VISITS {
            let arrived = START + (id * 2_628 / HALF_HOUR) * HALF_HOUR;
            let berth = id % 48 + 1;
            let stay = self.random.between(2, 150) * HALF_HOUR;
            let left = (id <= VISITS - 31).then(|| time(arrived + stay));
            let note: Value = match self.random.below(9) {
                0 => "".into(),
                1..=3 => text(self.random.pick(list(&self.lists, "berth note"))),
                _ => Value::Null,
            };
            self.arrivals.push(arrived);
            (self.take)(
                "visits",
                &[
                    id.into(),
                    (self.random.below(VESSELS) as i64 + 1).into(),
                    berth.into(),
                    time(arrived),
                    left.unwrap_or(Value::Null),
                    hundredths(self.random.between(55, 390)),
                    self.random.between(1, 14).into(),
                    note,
                ],
            )?;
        }
        Ok(())
    }

    fn dues(&mut self) -> Result<(), E> {
        let mut due = 0_i64;
        for (at, arrived) in self.arrivals.iter().enumerate() {
            for _ in 0..[0, 1, 1, 1, 1, 2][self.random.below(6) as usize] {
                due += 1;
                let paid = (!self.random.once_in(7))
                    .then(|| date(arrived + self.random.between(1, 40) * DAY));
                (self.take)(
                    "dues",
                    &[
                        due.into(),
                        (at as i64 + 1).into(),
                        hundredths(self.random.between(1_200, 96_000) / 50 * 50),
                        date(arrived + DAY),
                        paid.unwrap_or(Value::Null),
                    ],
                )?;
            }
        }
        Ok(())
    }

    fn services(&mut self) -> Result<(), E> {
        for (id, (name, unit, price)) in SERVICES.iter().enumerate() {
            (self.take)(
                "services",
                &[
                    (id as i64 + 1).into(),
                    (*name).into(),
                    (*unit).into(),
                    hundredths(*price),
                ],
            )?;
        }
        Ok(())
    }

    fn visit_services(&mut self) -> Result<(), E> {
        for visit in 1..=VISITS {
            let first = self.random.between(1, 8);
            for step in 0..self.random.between(0, 2) {
                (self.take)(
                    "visit_services",
                    &[
                        visit.into(),
                        ((first + step * 3) % 8 + 1).into(),
                        hundredths(self.random.between(1, 240) * 50),
                    ],
                )?;
            }
        }
        Ok(())
    }

    fn cargo(&mut self) -> Result<(), E> {
        for id in 1..=1_400_i64 {
            let tonnes = (!self.random.once_in(15)).then(|| tenths(self.random.between(5, 4_000)));
            (self.take)(
                "cargo",
                &[
                    id.into(),
                    self.random.between(1, VISITS).into(),
                    self.random.pick(list(&self.lists, "goods")).into(),
                    tonnes.unwrap_or(Value::Null),
                    i64::from(self.random.once_in(20)).into(),
                ],
            )?;
        }
        Ok(())
    }

    fn gauges(&mut self) -> Result<(), E> {
        for (id, name) in GAUGES.iter().enumerate() {
            (self.take)(
                "gauges",
                &[
                    (id as i64 + 1).into(),
                    (*name).into(),
                    hundredths(-20 + 15 * id as i64),
                    date(START - 400 * DAY),
                ],
            )?;
        }
        Ok(())
    }

    fn readings(&mut self) -> Result<(), E> {
        for step in 0..self.readings as i64 {
            let gauge = step % 4;
            let at = START + step / 4 * HALF_HOUR;
            let temperature = 84 + (step / 40 % 96) - 30 + self.random.between(-4, 4);
            let battery =
                (!self.random.once_in(60)).then(|| hundredths(1_260 - step / 4 % 120 / 2));
            (self.take)(
                "readings",
                &[
                    (gauge + 1).into(),
                    time(at),
                    hundredths(tide(at, gauge as f64 * 0.2) + self.random.between(-4, 4)),
                    tenths(temperature),
                    battery.unwrap_or(Value::Null),
                ],
            )?;
        }
        Ok(())
    }

    fn tides(&mut self) -> Result<(), E> {
        for day in 0..365_i64 {
            for high in 0..2 {
                let at = START + day * DAY + high * 44_700 + day * 3_000 % 44_700;
                let height = 330 + 195 + (day % 15 - 7).abs() * 12;
                (self.take)(
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
        Ok(())
    }

    fn weather(&mut self) -> Result<(), E> {
        for step in 0..1_460_i64 {
            let wind = self.random.between(0, 34);
            let gust = (wind > 8).then(|| wind + self.random.between(4, 18));
            let sky =
                (!self.random.once_in(25)).then(|| self.random.pick(list(&self.lists, "sky")));
            (self.take)(
                "weather",
                &[
                    time(START + step * 6 * 3_600),
                    wind.into(),
                    gust.into(),
                    self.random
                        .pick(&["N", "NE", "E", "SE", "S", "SW", "W", "NW"])
                        .into(),
                    tenths(self.random.between(9_720, 10_420)),
                    sky.into(),
                ],
            )?;
        }
        Ok(())
    }

    fn keepers(&mut self) -> Result<(), E> {
        for id in 1..=14_i64 {
            let hash = format!("pbk${:016x}{:016x}", self.random.next(), self.random.next());
            let name = self.person();
            (self.take)(
                "keepers",
                &[
                    id.into(),
                    name.into(),
                    self.random
                        .pick(&["watch", "watch", "mate", "harbour master"])
                        .into(),
                    hash.into(),
                ],
            )?;
        }
        Ok(())
    }

    fn watches(&mut self) -> Result<(), E> {
        for id in 1..=1_095_i64 {
            let starts = START + (id - 1) * 8 * 3_600;
            (self.take)(
                "watches",
                &[
                    id.into(),
                    self.random.between(1, 14).into(),
                    self.random.pick(&["tower", "lock", "launch"]).into(),
                    time(starts),
                    time(starts + 8 * 3_600),
                ],
            )?;
        }
        Ok(())
    }

    fn work_orders(&mut self) -> Result<(), E> {
        for id in 1..=640_i64 {
            let opened = START + self.random.between(0, 360) * DAY;
            let closed =
                (!self.random.once_in(4)).then(|| date(opened + self.random.between(0, 60) * DAY));
            let by = closed.is_some().then(|| self.random.between(1, 14));
            let berth = (!self.random.once_in(8)).then(|| self.random.between(1, 48));
            let cost: Value = match self.random.below(12) {
                0 => Value::Null,
                1 => "about 40".into(),
                2 => "1,250.00".into(),
                _ => format!(
                    "{}.{:02}",
                    self.random.between(8, 1_900),
                    self.random.between(0, 3) * 25
                )
                .into(),
            };
            (self.take)(
                "work_orders",
                &[
                    id.into(),
                    berth.into(),
                    date(opened),
                    closed.unwrap_or(Value::Null),
                    self.random.between(1, 5).into(),
                    by.into(),
                    self.random.pick(list(&self.lists, "work")).into(),
                    cost,
                ],
            )?;
        }
        Ok(())
    }

    fn incidents(&mut self) -> Result<(), E> {
        for id in 1..=180_i64 {
            let visit = (!self.random.once_in(6)).then(|| self.random.between(1, VISITS));
            let at = START + self.random.between(0, 17_000) * HALF_HOUR;
            (self.take)(
                "incidents",
                &[
                    id.into(),
                    visit.into(),
                    time(at),
                    self.random.between(1, 4).into(),
                    text(self.random.pick(list(&self.lists, "report"))),
                ],
            )?;
        }
        Ok(())
    }

    fn tows(&mut self) -> Result<(), E> {
        for id in 1..=520_i64 {
            let sign = self
                .random
                .pick(&self.signs.iter().map(Option::as_deref).collect::<Vec<_>>());
            (self.take)(
                "tows",
                &[
                    id.into(),
                    sign.into(),
                    time(START + self.random.between(0, 17_000) * HALF_HOUR),
                    self.random.between(15, 240).into(),
                    tenths(self.random.between(80, 900)),
                ],
            )?;
        }
        Ok(())
    }

    fn charts(&mut self) -> Result<(), E> {
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
            let seal: Vec<u8> = (0..4)
                .flat_map(|_| self.random.next().to_le_bytes())
                .collect();
            (self.take)(
                "charts",
                &[
                    (id as i64 + 1).into(),
                    (*title).into(),
                    self.random.between(1, 9).into(),
                    Value::Bytes(seal),
                ],
            )?;
        }
        Ok(())
    }

    fn notices(&mut self) -> Result<(), E> {
        for number in 1..=90_i64 {
            let work = self.random.pick(list(&self.lists, "work"));
            let (_, quay, ..) = self.random.pick(&QUAYS);
            (self.take)(
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
        Ok(())
    }

    fn hull_surveys(&mut self) -> Result<(), E> {
        for id in 1..=220_i64 {
            let mut row: Vec<Value> = vec![
                id.into(),
                self.random.between(1, VESSELS as i64).into(),
                date(START + self.random.between(0, 360) * DAY),
                self.person().into(),
            ];
            for _ in 0..PLATES {
                row.push(if self.random.once_in(9) {
                    Value::Null
                } else {
                    tenths(self.random.between(28, 120))
                });
            }
            (self.take)("hull_surveys", &row)?;
        }
        Ok(())
    }
}
