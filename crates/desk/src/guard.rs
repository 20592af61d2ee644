//! The guard: a statement that sweeps (touches every row, or removes an object) is asked about with the
//! numbers that would go. It says which numbers it needs and makes the question from them.

use idle_tide_core::{Catalog, Kind};
use idle_tide_draw::picture::counted;
use idle_tide_lang::Dialect;
use idle_tide_lang::statement::Sweep;

use crate::page::{Line, Page, Tone};

/// A question to the user, with what would happen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// What would happen, with its numbers.
    pub page: Page,
    /// What the answer yes does, in a few words.
    pub yes: String,
    /// What the answer no does.
    pub no: String,
}

/// A count that the question needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Count {
    /// The query that counts.
    pub query: String,
    /// The referring table it is about; `None` for the table itself.
    pub referring: Option<String>,
}

fn quoted(name: &str, dialect: &Dialect) -> String {
    name.split('.')
        .map(|part| dialect.quote_name(part))
        .collect::<Vec<_>>()
        .join(".")
}

/// The counts that a sweep needs: of the table, and for a delete of the rows that go with it.
pub fn counts(sweep: &Sweep, catalog: &Catalog, dialect: &Dialect) -> Vec<Count> {
    let (table, cascades) = match sweep {
        Sweep::DeleteAll { table } => (table, true),
        Sweep::Replace { table } => (table, false),
        Sweep::UpdateAll { table } | Sweep::DropColumn { table, .. } => (table, false),
        Sweep::Drop { kind, name } if kind == "table" || kind == "collection" => (name, false),
        Sweep::Drop { .. } => return Vec::new(),
    };
    let mut list = vec![Count {
        query: dialect.count_of(&quoted(table, dialect)),
        referring: None,
    }];
    if cascades {
        let referring = catalog.table(table).into_iter();
        for (object, link) in referring.flat_map(|table| catalog.referring(table)) {
            if link.on_delete == "cascade" {
                let filled: Vec<String> = link
                    .columns
                    .iter()
                    .map(|column| format!("{} is not null", dialect.quote_name(column)))
                    .collect();
                list.push(Count {
                    query: format!(
                        "select count(*) from {} where {}",
                        dialect.quote_name(&object.name),
                        filled.join(" and ")
                    ),
                    referring: Some(object.name.clone()),
                });
            }
        }
    }
    list
}

/// The question, from the counts in the order of [`counts`]. `None` if the table cannot be counted: then
/// the statement will fail by itself and say why.
pub fn question(
    sweep: &Sweep,
    asked: &[Count],
    answers: &[Option<u64>],
    catalog: &Catalog,
    dialect: &Dialect,
) -> Option<Question> {
    // A collection that is not there will be made.
    if matches!(sweep, Sweep::Replace { .. }) && answers.first().copied().flatten() == Some(0) {
        return None;
    }
    let rows = match asked.first() {
        Some(_) => Some(answers.first().copied().flatten()?),
        None => None,
    };
    let number = |count: u64| counted(count, dialect.row());
    let all = rows.map_or(String::new(), |rows| match rows {
        1 => format!("the only {}", dialect.row()),
        rows => format!("all {}", number(rows)),
    });
    let mut page = Page::new();
    let (yes, after): (String, String) = match sweep {
        Sweep::DeleteAll { table } => {
            page.say(Tone::Heading, format!("This deletes {all} of {table}."));
            page.gap();
            for (count, answer) in asked.iter().zip(answers).skip(1) {
                if let (Some(referring), Some(answer @ 1..)) = (&count.referring, answer) {
                    page.line(
                        Line::new()
                            .and(Tone::Care, "with them ")
                            .and(Tone::Number, number(*answer))
                            .and(Tone::Plain, format!(" of {referring}, which refer to them")),
                    );
                }
            }
            (
                format!("deletes {all}"),
                if dialect.is_flow() {
                    format!(
                        "The collection stays, with its indexes and empty. drop collection {table} would remove it."
                    )
                } else {
                    "Deleting every row empties the table and keeps it, with its columns, indexes and links. drop table would remove it.".into()
                },
            )
        }
        Sweep::UpdateAll { table } => {
            page.say(Tone::Heading, format!("This changes {all} of {table}."));
            page.gap();
            (
                format!("changes {all}"),
                format!(
                    "There is no condition that chooses {0}s: every {0} gets the new values.",
                    dialect.row()
                ),
            )
        }
        Sweep::Replace { table } => {
            page.say(Tone::Heading, format!("This replaces {all} of {table}."));
            page.gap();
            (
                format!("replaces {all}"),
                format!("save into {table} would add to what is there."),
            )
        }
        Sweep::Drop { kind, name } if kind == "collection" => {
            page.say(
                Tone::Heading,
                format!("This removes the collection {name} with {all}."),
            );
            page.gap();
            let indexes = catalog.table(name).map_or(0, |o| {
                o.indexes.iter().filter(|index| !index.automatic).count()
            });
            if indexes > 0 {
                let words = if indexes == 1 {
                    "1 index".to_string()
                } else {
                    format!("{indexes} indexes")
                };
                page.line(
                    Line::new()
                        .and(Tone::Care, "with it ")
                        .and(Tone::Plain, words),
                );
            }
            (
                format!("removes {name}"),
                format!(
                    "Dropping removes the collection itself. empty {name} would remove its documents and keep it."
                ),
            )
        }
        Sweep::Drop { kind, name } if kind == "table" => {
            let plain = name.rsplit('.').next().unwrap_or(name);
            page.say(
                Tone::Heading,
                format!("This removes the table {name} with {all}."),
            );
            page.gap();
            let indexes = catalog.table(name).map_or(0, |o| {
                o.indexes.iter().filter(|index| !index.automatic).count()
            });
            let triggers = catalog
                .objects
                .iter()
                .filter(|o| o.kind == Kind::Trigger && o.table.as_deref() == Some(plain))
                .count();
            let referring: Vec<&str> = catalog
                .table(name)
                .into_iter()
                .flat_map(|table| catalog.referring(table))
                .map(|(object, _)| object.name.as_str())
                .collect();
            for (count, one) in [(indexes, "index"), (triggers, "trigger")] {
                if count > 0 {
                    let many = if one == "index" && count > 1 {
                        "indexes".into()
                    } else {
                        counted(count as u64, one)
                    };
                    let words = if many == "indexes" {
                        format!("{count} indexes")
                    } else {
                        many
                    };
                    page.line(
                        Line::new()
                            .and(Tone::Care, "with it ")
                            .and(Tone::Plain, words),
                    );
                }
            }
            if !referring.is_empty() {
                page.line(
                    Line::new()
                        .and(Tone::Care, "links to it from ")
                        .and(Tone::Plain, referring.join(", ")),
                );
            }
            (
                format!("removes {name}"),
                "Dropping removes the table itself. delete from would empty it and keep it.".into(),
            )
        }
        Sweep::Drop { kind, name } => {
            page.say(Tone::Heading, format!("This removes the {kind} {name}."));
            page.gap();
            let lost = if kind == "database" {
                "Everything in it goes with it."
            } else {
                "No row is lost by this."
            };
            (
                format!("removes {name}"),
                lost.replace("row", dialect.row()),
            )
        }
        Sweep::DropColumn { table, column } => {
            page.say(
                Tone::Heading,
                format!("This removes the column {column} of {table}, with its values in {all}."),
            );
            page.gap();
            (
                format!("removes {column}"),
                "The other columns stay.".into(),
            )
        }
    };
    if page.lines.last().is_some_and(|line| !line.spans.is_empty()) {
        page.gap();
    }
    page.say(Tone::Faint, after);
    Some(Question {
        page,
        yes,
        no: "leaves everything as it is; the statement stays in the composer".into(),
    })
}
