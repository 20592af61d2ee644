//! `/figures` and `/sample`: statements of our own about a table. A large table is gone through in a sample, which
//! the server takes where it can.

use idle_tide_draw::picture::grouped;
use idle_tide_lang::command::Parsed;
use idle_tide_lang::dialect::Family;

use super::{Needs, Verb, known_table, statement};
use crate::failure::Failure;
use crate::page::Tone;
use crate::session::{Next, Turn};

/// From this many rows on, figures are taken of a sample of about as many.
const FIGURES_OF: u64 = 500_000;

/// A command that reads rows of a table.
pub(crate) struct Reading(&'static str);

pub(crate) static FIGURES: Reading = Reading("figures");
pub(crate) static SAMPLE: Reading = Reading("sample");

impl Verb for Reading {
    fn name(&self) -> &'static str {
        self.0
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Catalog
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let name = parsed.argument(0).unwrap_or_default();
        let table = known_table(turn.session, parsed, name)?;
        let all = match turn.session.dialect.is_flow() {
            true => format!("from {table}"),
            false => format!("select * from {table}"),
        };
        if self.0 == "sample" {
            let count = parsed.argument(1).unwrap_or("10");
            let some = match turn.session.dialect.family {
                Family::Tabular => format!("select top ({count}) * from {table}"),
                _ => format!("{all} limit {count}"),
            };
            return Ok(statement::Run::reading(some).go());
        }
        let sampled = sample(turn, parsed, name);
        let catalog = &turn.session.catalog;
        let known_as = catalog
            .table(name)
            .map(|object| catalog.shortest_name(object));
        let run = statement::Run::reading(all + &sampled);
        Ok(run.into_figures(known_as.unwrap_or_default()).go())
    }
}

/// What makes the statement read a sample of a large table, which is said; nothing for a small one.
fn sample(turn: &mut Turn<'_>, parsed: &Parsed, name: &str) -> String {
    let Some(object) = turn.session.catalog.table(name) else {
        return String::new();
    };
    let rows = object.rows.unwrap_or(0);
    if rows <= FIGURES_OF || object.is_view() || parsed.has("all") {
        return String::new();
    }
    let share = FIGURES_OF as f64 / rows as f64;
    turn.say(
        format!(
            "From a sample: about {:.1} % of {} rows. /figures {name} --all reads every row.",
            share * 100.0,
            grouped(rows)
        ),
        Tone::Care,
    );
    match turn.session.dialect.family {
        Family::Postgres => format!(" tablesample system ({:.4})", share * 100.0),
        Family::Mariadb => format!(" where rand() < {share:.6}"),
        Family::Documents => format!(" sample {FIGURES_OF}"),
        Family::Tabular => format!(" tablesample system ({:.4} percent)", share * 100.0),
        Family::Sqlite => format!(" where abs(random() % 1000000) < {:.0}", share * 1e6),
    }
}
