//! The harbour's documents: landings with their lines, the watch log, surveys of hulls. With the flaws real documents have: fields that are
//! not there, null, a number kept as text, a price without a species, an emoji, a list that is empty.

use idle_tide_core::document::{Datum, Decimal128, Document};

use crate::random::Random;
use crate::words;

/// Landings made.
pub const LANDINGS: u64 = 4_000;
/// Entries of the watch log made.
pub const WATCHES: u64 = 6_000;
/// Surveys made.
pub const SURVEYS: u64 = 2_000;

/// The collections, in the order in which they are made.
pub const COLLECTIONS: [&str; 3] = ["landings", "surveys", "watch_log"];

/// Milliseconds of 2031-01-01 00:00 UTC since 1970.
const START: i64 = 1_924_992_000_000;
const HOUR: i64 = 3_600_000;
const SPECIES: [(&str, i64, i64, i64); 11] = [
    // Species, how common, kilograms in tenths, price in cents.
    ("brown crab", 22, 420, 310),
    ("bass", 14, 160, 1_450),
    ("cuttlefish", 12, 300, 420),
    ("whelk", 11, 800, 130),
    ("plaice", 10, 240, 520),
    ("sole", 8, 110, 1_380),
    ("mullet", 6, 130, 610),
    ("lobster", 7, 70, 2_150),
    ("shrimp", 5, 60, 980),
    ("dab", 4, 90, 240),
    ("spider crab", 5, 330, 180),
];
const PORTS: [&str; 4] = ["Brackwater", "Saltmarsh Quay", "Outer Spit", "Mill Sluice"];
const SKIES: [&str; 5] = ["clear", "broken", "overcast", "fog", "rain"];
const FROM: [&str; 8] = ["N", "NE", "E", "SE", "S", "SW", "W", "NW"];

fn id(collection: u8, number: u64, second: i64) -> Datum {
    let mut id = [0; 12];
    id[..4].copy_from_slice(&(second as u32).to_be_bytes());
    id[4] = collection;
    id[5..].copy_from_slice(&number.to_be_bytes()[1..]);
    Datum::Id(id)
}

fn tenths(number: i64) -> Datum {
    Datum::Double(number as f64 / 10.0)
}

fn hundredths(number: i64) -> Datum {
    Datum::Double(number as f64 / 100.0)
}

fn decimal(cents: i64) -> Datum {
    let text = format!("{}.{:02}", cents / 100, cents % 100);
    Datum::Decimal(text.parse().unwrap_or(Decimal128::NAN))
}

/// Makes every document, collection by collection; landings as many as asked for.
///
/// # Errors
/// The first error of `take`.
pub fn documents<E>(
    landings: u64,
    take: &mut dyn FnMut(&'static str, Document) -> Result<(), E>,
) -> Result<(), E> {
    let lists = words();
    let list = |name: &str| lists.get(name).map_or(&[""][..], Vec::as_slice);
    let mut random = Random(2031);
    let r = &mut random;
    let mut vessels = Vec::new();
    for number in 0..64 {
        let name = format!(
            "{} {}",
            r.pick(list("first half of a vessel")),
            r.pick(list("second half of a vessel"))
        );
        let skipper = person(r, &lists);
        vessels.push((
            format!("BH{}", 101 + number * 7),
            name,
            skipper,
            r.between(2, 38),
        ));
    }
    let step = 365 * 24 * HOUR / landings.max(1) as i64;
    for number in 0..landings {
        let at = START + number as i64 * step + r.between(0, step.min(HOUR));
        take("landings", landing(r, number, at, &vessels))?;
    }
    for number in 0..SURVEYS {
        take("surveys", survey(r, number, &vessels, &lists))?;
    }
    for number in 0..WATCHES {
        take("watch_log", watch(r, number, landings, &vessels, &lists))?;
    }
    Ok(())
}

/// Lists of words by their names.
type Lists = std::collections::HashMap<&'static str, Vec<&'static str>>;

fn person(r: &mut Random, lists: &Lists) -> String {
    let list = |name: &str| lists.get(name).map_or(&[""][..], Vec::as_slice);
    format!(
        "{} {}",
        r.pick(list("first name")),
        r.pick(list("last name"))
    )
}

fn survey(
    r: &mut Random,
    number: u64,
    vessels: &[(String, String, String, i64)],
    lists: &Lists,
) -> Document {
    let at = START + r.between(0, 364) * 24 * HOUR;
    let (call_sign, name, ..) = &vessels[r.below(64) as usize];
    let mut findings = Vec::new();
    for _ in 0..r.below(5) {
        let plates: Vec<Datum> = (0..r.below(4))
            .map(|_| {
                Document::new()
                    .with("plate", Datum::integer(r.between(1, 56)))
                    .with("mm", tenths(r.between(38, 92)))
                    .into()
            })
            .collect();
        let part = r.pick(&[
            "hull below the water",
            "rudder",
            "shaft",
            "deck",
            "bilge",
            "keel bolts",
        ]);
        let mut finding = Document::new()
            .with("part", part)
            .with("grade", Datum::integer(r.between(1, 5)))
            .with("plates", Datum::List(plates));
        if r.once_in(3) {
            finding.set(
                "note",
                r.pick(&[
                    "weeping seam, watch it",
                    "pitted; \"as last year\"",
                    "to be renewed\nbefore winter",
                ]),
            );
        }
        findings.push(Datum::from(finding));
    }
    let worst = findings
        .iter()
        .filter_map(|f| f.as_object()?.get("grade")?.as_i64())
        .max()
        .unwrap_or(0);
    let mut survey = Document::new()
        .with("_id", id(2, number, at / 1_000))
        .with(
            "vessel",
            Document::new()
                .with("call_sign", call_sign.as_str())
                .with("name", name.as_str()),
        )
        .with("surveyed", Datum::Date(at))
        .with("surveyor", person(r, lists))
        .with("findings", Datum::List(findings))
        .with("passed", worst < 5)
        .with("cost", decimal(r.between(18_000, 96_000)));
    if r.once_in(12) {
        survey.set("paid", Datum::Null);
    } else if !r.once_in(9) {
        survey.set("paid", Datum::Date(at + r.between(3, 60) * 24 * HOUR));
    }
    if r.once_in(40) {
        let stamp = (0..8).map(|_| r.below(256) as u8).collect();
        survey.set("stamp", Datum::Bytes(Box::new((0, stamp))));
    }
    survey
}

fn watch(
    r: &mut Random,
    number: u64,
    landings: u64,
    vessels: &[(String, String, String, i64)],
    lists: &Lists,
) -> Document {
    let at = START + number as i64 * 365 * 24 * HOUR / WATCHES as i64;
    let hour = at.div_euclid(HOUR).rem_euclid(24);
    let watch = ["middle", "morning", "forenoon", "afternoon", "dog", "first"][(hour / 4) as usize];
    let mut weather = Document::new()
        .with(
            "wind",
            Document::new()
                .with("force", Datum::integer(r.between(0, 9)))
                .with("from", r.pick(&FROM)),
        )
        .with("sky", r.pick(&SKIES))
        .with("pressure", tenths(r.between(9_780, 10_380)));
    if !r.once_in(6) {
        weather.set("visibility", tenths(r.between(2, 200)));
    }
    let events: Vec<Datum> = (0..r.below(4))
        .map(|_| event(r, at, landings, vessels).into())
        .collect();
    let mut entry = Document::new()
        .with("_id", id(3, number, at / 1_000))
        .with("at", Datum::Date(at))
        .with("watch", watch)
        .with("officer", person(r, lists))
        .with("weather", weather)
        .with("tide_cm", Datum::integer(r.between(40, 690)))
        .with("events", Datum::List(events));
    if r.once_in(20) {
        entry.set(
            "remark",
            r.pick(&[
                "quiet ⚓ night",
                "lamp 4 out, again",
                "said: \"never twice\", then did",
            ]),
        );
    }
    entry
}

fn landing(
    r: &mut Random,
    number: u64,
    at: i64,
    vessels: &[(String, String, String, i64)],
) -> Document {
    let (call_sign, name, skipper, years) = &vessels[r.below(64) as usize];
    let mut lines = Vec::new();
    for _ in 0..1 + r.below(5) + r.below(4) {
        let mut chance = r.below(104) as i64;
        let found = SPECIES.iter().find(|(_, common, ..)| {
            chance -= common;
            chance < 0
        });
        let (species, _, kg, price) = found.copied().unwrap_or(("dab", 4, 90, 240));
        let kg = r.between(kg / 5, kg * 2);
        let mut line = Document::new()
            .with(
                "species",
                if r.once_in(400) {
                    Datum::Null
                } else {
                    species.into()
                },
            )
            .with("kg", tenths(kg))
            .with(
                "price",
                hundredths(r.between(price * 7 / 10, price * 14 / 10)),
            );
        if r.once_in(300) {
            line.set("kg", format!("{}.{}", kg / 10, kg % 10));
        }
        if r.once_in(4) {
            line.set("grade", r.pick(&["A", "B", "C"]));
        }
        lines.push(Datum::from(line));
    }
    if r.once_in(150) {
        lines.clear();
    }
    let mut landing = Document::new()
        .with("_id", id(1, number, at / 1_000))
        .with("number", Datum::integer(number as i64 + 1))
        .with("landed", Datum::Date(at - at % 60_000))
        .with(
            "port",
            if r.once_in(3) {
                "Brackwater"
            } else {
                r.pick(&PORTS)
            },
        )
        .with(
            "vessel",
            Document::new()
                .with("call_sign", call_sign.as_str())
                .with("name", name.as_str()),
        )
        .with(
            "skipper",
            Document::new()
                .with("name", skipper.as_str())
                .with("years", Datum::integer(*years)),
        )
        .with("lines", Datum::List(lines));
    if !r.once_in(5) {
        landing.set("ice", r.once_in(2));
    }
    match r.below(10) {
        0 => landing.set("buyer", Datum::Null),
        1..=6 => landing.set(
            "buyer",
            r.pick(&[
                "Fenwick & Daughters",
                "Quay Market",
                "Saltmarsh Smokery",
                "Harbour Kitchen",
            ]),
        ),
        _ => {}
    }
    if r.once_in(25) {
        landing.set(
            "note",
            r.pick(&[
                "short of ice, sold at once",
                "two boxes back to sea",
                "weighed twice: \"wet\"",
                "gear lost 🦀 off the spit",
            ]),
        );
    }
    landing
}

fn event(
    r: &mut Random,
    at: i64,
    landings: u64,
    vessels: &[(String, String, String, i64)],
) -> Document {
    let kind = r.pick(&["arrival", "departure", "landing", "call", "repair"]);
    let mut event = Document::new()
        .with("at", Datum::Date(at + r.between(0, 87) * 60_000))
        .with("kind", kind);
    match kind {
        "landing" => {
            let number = r.below(landings.max(1));
            event.set("landing", Datum::integer(number as i64 + 1));
        }
        "arrival" | "departure" => event.set("vessel", vessels[r.below(64) as usize].0.as_str()),
        _ => event.set(
            "text",
            r.pick(&[
                "lock held for the ebb",
                "radio check",
                "fender replaced",
                "tow asked for, not sent",
            ]),
        ),
    }
    event
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document::bson::encode;

    #[test]
    fn the_documents_are_the_same_every_time() {
        let all = || {
            let mut list = Vec::new();
            let done: Result<(), ()> = documents(500, &mut |name, document| {
                list.push((name, encode(&document)));
                Ok(())
            });
            done.expect("taken");
            list
        };
        let once = all();
        assert!(once == all());
        assert_eq!(once.len() as u64, 500 + WATCHES + SURVEYS);
    }
}
