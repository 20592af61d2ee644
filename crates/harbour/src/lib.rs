//! The practice harbour, Brackwater Haven: made-up data from a seeded generator, with the flaws real
//! data has. Gives rows for any database to take; it knows no database itself. The same settings give
//! the same rows on every machine.
#![deny(missing_docs)]

pub mod documents;
mod random;
mod rows;
pub mod served;

use std::collections::HashMap;

use idle_tide_core::Value;

pub use rows::generate;

/// The statements that make the tables in SQLite, with comments.
pub const SQLITE_SCHEMA: &str = include_str!("../../../demo/harbour-sqlite.sql");
const WORDS: &str = include_str!("../../../demo/words.txt");
/// Columns of plate thicknesses in the wide table of hull surveys.
const PLATES: usize = 56;

/// What the generator is asked for.
#[derive(Debug, Clone, Copy)]
pub struct Settings {
    /// Seed of the generator.
    pub seed: u64,
    /// Number of tide gauge readings.
    pub readings: u64,
}

/// Readings made unless more are asked for.
pub const READINGS: u64 = 20_000;

impl Default for Settings {
    fn default() -> Self {
        Settings {
            seed: 2031,
            readings: READINGS,
        }
    }
}

/// Takes one row: the table's name and its values in the order of its columns.
pub type Take<'a, E> = dyn FnMut(&'static str, &[Value]) -> Result<(), E> + 'a;

/// The statement that makes the wide table: 60 columns, one row a survey.
pub fn wide_table() -> String {
    let mut sql = String::from(
        "create table hull_surveys ( -- thickness of every plate, in millimetres\n  id integer primary key,\n  vessel_id integer not null references vessels (id),\n  surveyed_on date not null,\n  surveyor text",
    );
    for plate in 1..=PLATES {
        sql.push_str(&format!(",\n  plate_{plate:02}_mm numeric(4,1)"));
    }
    sql.push_str("\n);");
    sql
}

/// The lists of `demo/words.txt` by name.
fn words() -> HashMap<&'static str, Vec<&'static str>> {
    let mut lists: HashMap<_, Vec<_>> = HashMap::new();
    let mut name = "";
    for line in WORDS.lines().filter(|line| !line.starts_with('#')) {
        match line.strip_prefix('[').and_then(|l| l.strip_suffix(']')) {
            Some(next) => name = next,
            None => lists.entry(name).or_default().push(line),
        }
    }
    lists
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_settings_give_the_same_rows() {
        let take = |readings| {
            let mut all = Vec::new();
            let settings = Settings {
                readings,
                ..Settings::default()
            };
            let done: Result<(), ()> = generate(&settings, &mut |table, row: &[Value]| {
                all.push((table, row.to_vec()));
                Ok(())
            });
            done.expect("taken");
            all
        };
        let (one, two) = (take(READINGS), take(READINGS));
        assert!(one == two);
        assert!((55_000..70_000).contains(&one.len()), "{} rows", one.len());
        assert_eq!(take(READINGS + 500).len(), one.len() + 500);
    }
}
