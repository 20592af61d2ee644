//! Plans: what each family is asked, and its answer as a tree. A statement that writes is never run for it; one
//! that reads is run to be measured, where the server measures, in a transaction that may only read.

use std::io;

use idle_tide_core::plan::{Plan, Step};
use idle_tide_core::{Column, RowBatch};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;
use idle_tide_lang::statement::{Effect, called, summary};
use serde_json::Value as Json;

use crate::engine::{Bearings, Connection, EngineError, Fault, Sink};

/// A ticket that no entry has: what it names cannot be cancelled.
const OURS: u64 = 0;

/// Keeps rows as plain texts.
#[derive(Default)]
struct Texts(Vec<Vec<String>>);

impl Sink for Texts {
    fn columns(&mut self, _: Vec<Column>) -> io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.0.extend(
            batch
                .rows()
                .map(|row| row.values().map(|value| value.plain()).collect::<Vec<_>>()),
        );
        Ok(())
    }
}

/// How a family that speaks SQL is asked for a plan.
struct Way {
    family: Family,
    /// What stands before a statement that is planned only.
    asking: &'static str,
    /// What stands before one that is run to be measured.
    measuring: &'static str,
    /// Whether this server measures.
    measures: fn(&Bearings) -> bool,
    /// Begins a transaction that may only read.
    begin: &'static str,
    /// Asks for one of these functions that may do more than read.
    acting: Option<fn(&[String], &Dialect) -> String>,
    read: fn(&[Vec<String>]) -> Result<Plan, EngineError>,
    /// What its plans lack.
    note: Option<&'static str>,
}

static WAYS: &[Way] = &[
    Way {
        family: Family::Sqlite,
        asking: "explain query plan",
        measuring: "",
        measures: |_| false,
        begin: "",
        acting: None,
        read: |rows| Ok(of_sqlite(rows)),
        note: Some("SQLite tells which tables it goes through and by which index, and no numbers."),
    },
    Way {
        family: Family::Postgres,
        asking: "explain (format json)",
        measuring: "explain (analyze, buffers, format json)",
        measures: |_| true,
        begin: "begin read only",
        acting: Some(crate::postgres::acting),
        read: of_postgres,
        note: None,
    },
    Way {
        family: Family::Mariadb,
        asking: "explain format=json",
        measuring: "analyze format=json",
        measures: |bearings| bearings.family == "MariaDB",
        begin: "start transaction read only",
        acting: Some(crate::mariadb::acting),
        read: of_mariadb,
        note: None,
    },
];

/// The plan of a statement. `measure` runs it where that is safe and the server measures.
///
/// # Errors
/// Those of the server.
pub fn plan(
    connection: &mut dyn Connection,
    ticket: u64,
    statement: &str,
    measure: bool,
) -> Result<Plan, EngineError> {
    let dialect = connection.dialect();
    if dialect.is_flow() {
        let collections = connection.collections();
        let collections =
            collections.ok_or_else(|| EngineError::plain("This database takes no flows."))?;
        return collections.flow_plan(ticket, statement, measure);
    }
    let statement = statement.trim().trim_end_matches(';');
    let bearings = connection.bearings();
    let about = summary(statement, dialect);
    let reads = about.effect == Effect::Read;
    let in_transaction = bearings.transaction.is_some();
    let way = WAYS.iter().find(|way| way.family == dialect.family);
    let way = way.ok_or_else(|| EngineError::plain("This family tells no plans."))?;
    let can_measure = (way.measures)(&bearings);
    let may_run = measure && reads && !in_transaction && can_measure;
    // A read-only transaction does not hold what a function does outside of it: files, other connections.
    let acting = match way.acting {
        Some(acting) if may_run => {
            let names = called(statement, dialect);
            let mut named = Texts::default();
            if !names.is_empty() {
                connection.run(ticket, &acting(&names, dialect), &mut named)?;
            }
            named.0.into_iter().flatten().next()
        }
        _ => None,
    };
    let measured = may_run && acting.is_none();
    let question = format!(
        "{} {statement}",
        if measured { way.measuring } else { way.asking }
    );
    let mut answer = Texts::default();
    if measured {
        // A session that refuses writes lets nobody begin a transaction of another kind: what it runs may only
        // read in any case.
        let begun = match connection.run(OURS, way.begin, &mut Texts::default()) {
            Ok(_) => true,
            Err(error) if error.fault == Fault::ReadOnly => false,
            Err(error) => return Err(error),
        };
        let asked = connection.run(ticket, &question, &mut answer);
        if begun {
            connection.run(OURS, "rollback", &mut Texts::default())?;
        }
        asked.map_err(|error| moved(error, &question, statement))?;
    } else {
        connection
            .run(ticket, &question, &mut answer)
            .map_err(|error| moved(error, &question, statement))?;
    }
    let mut plan = (way.read)(&answer.0)?;
    plan.measured = measured;
    let acts = acting.map(|name| {
        format!("It was planned and not run: it calls {name}, which may do more than read.")
    });
    let note = if !reads {
        Some("It was planned and not run: it writes.")
    } else if acts.is_some() {
        acts.as_deref()
    } else if in_transaction && measure && can_measure {
        Some(
            "It was planned and not run: a transaction is open, and running it could change what that sees.",
        )
    } else if measure {
        way.note
    } else {
        None
    };
    plan.notes.extend(note.map(str::to_string));
    Ok(plan)
}

/// The server's place of an error, moved back from the question to the statement in it.
fn moved(mut error: EngineError, question: &str, statement: &str) -> EngineError {
    let before = question.len() - statement.len();
    error.offset = error.offset.and_then(|at| at.checked_sub(before));
    error
}

fn of_sqlite(rows: &[Vec<String>]) -> Plan {
    // Each row: its number, that of the row it belongs to, nothing, and the words.
    fn parts(rows: &[Vec<String>], parent: &str, depth: usize) -> Vec<Step> {
        let own = rows
            .iter()
            .filter(|row| row.len() >= 4 && row[1] == parent && row[0] != row[1]);
        own.map(|row| {
            let words = row[3].as_str();
            let mut step = Step::default();
            let (head, rest) = words
                .split_once(" USING ")
                .map_or((words, None), |(head, rest)| (head, Some(rest)));
            match head.split_once(' ') {
                Some((word @ ("SCAN" | "SEARCH"), table)) => {
                    step.what = match (word, rest) {
                        ("SCAN", None) => "every row of".into(),
                        ("SCAN", Some(_)) => "every row, in the order of an index, of".into(),
                        _ => "looks up in".into(),
                    };
                    step.on = table.to_string();
                    step.details
                        .extend(rest.map(|rest| format!("by {}", rest.to_lowercase())));
                }
                _ => step.what = words.to_lowercase(),
            }
            if depth < 100 {
                step.parts = parts(rows, &row[0], depth + 1);
            }
            step
        })
        .collect()
    }
    let text: Vec<String> = rows.iter().filter_map(|row| row.get(3).cloned()).collect();
    Plan {
        steps: parts(rows, "0", 0),
        text: text.join("\n"),
        ..Plan::default()
    }
}

fn parsed(rows: &[Vec<String>]) -> Result<(Json, String), EngineError> {
    let text: Vec<&str> = rows
        .iter()
        .filter_map(|row| row.first())
        .map(String::as_str)
        .collect();
    let text = text.join("\n");
    let json = serde_json::from_str(&text).map_err(|error| {
        EngineError::plain(format!("The server's plan could not be read: {error}."))
    })?;
    Ok((json, text))
}

fn number(json: &Json, name: &str) -> Option<f64> {
    let value = json.get(name)?;
    value.as_f64().or_else(|| value.as_str()?.parse().ok())
}

fn words(json: &Json, name: &str) -> Option<String> {
    match json.get(name)? {
        Json::String(text) => Some(text.clone()),
        Json::Array(list) => {
            let parts: Vec<String> = list
                .iter()
                .map(|part| {
                    part.as_str()
                        .map_or_else(|| part.to_string(), str::to_string)
                })
                .collect();
            Some(parts.join(", "))
        }
        Json::Null => None,
        other => Some(other.to_string()),
    }
}

fn of_postgres(rows: &[Vec<String>]) -> Result<Plan, EngineError> {
    fn step(json: &Json) -> Step {
        let runs = number(json, "Actual Loops");
        let each = runs.unwrap_or(1.0).max(1.0);
        let mut what = words(json, "Node Type").unwrap_or_default().to_lowercase();
        if what == "modifytable" {
            what = words(json, "Operation").unwrap_or_default().to_lowercase();
        }
        match words(json, "Join Type").as_deref() {
            None | Some("Inner") => {}
            Some(kind) => what = format!("{what}, {}", kind.to_lowercase()),
        }
        let table = words(json, "Relation Name")
            .or_else(|| words(json, "CTE Name"))
            .or_else(|| words(json, "Function Name"));
        let mut on = table.unwrap_or_default();
        if let Some(alias) = words(json, "Alias").filter(|alias| *alias != on) {
            on = format!("{on} {alias}").trim().to_string();
        }
        let mut details = Vec::new();
        for (name, label) in [
            ("Index Name", "by"),
            ("Index Cond", "where"),
            ("Hash Cond", "on"),
            ("Merge Cond", "on"),
            ("Join Filter", "on"),
            ("Recheck Cond", "where"),
            ("Filter", "keeps"),
            ("Sort Key", "by"),
            ("Group Key", "by"),
            ("Sort Method", "with"),
            ("Rows Removed by Filter", "drops"),
            ("Subplan Name", "as"),
            ("Workers Launched", "workers"),
        ] {
            details.extend(words(json, name).map(|value| format!("{label} {value}")));
        }
        let parts = json.get("Plans").and_then(Json::as_array);
        Step {
            what,
            on,
            details,
            expected: number(json, "Plan Rows").map(|rows| rows * each),
            rows: number(json, "Actual Rows").map(|rows| rows * each),
            runs,
            cost: number(json, "Total Cost"),
            time: number(json, "Actual Total Time").map(|time| time * each),
            parts: parts.map_or(Vec::new(), |list| list.iter().map(step).collect()),
        }
    }
    let (json, text) = parsed(rows)?;
    let first = json.get(0).cloned().unwrap_or_default();
    let mut notes = Vec::new();
    if let (Some(planning), Some(running)) = (
        number(&first, "Planning Time"),
        number(&first, "Execution Time"),
    ) {
        notes.push(format!(
            "Planning took {planning:.1} ms, running {running:.1} ms."
        ));
    }
    Ok(Plan {
        steps: first.get("Plan").map(step).into_iter().collect(),
        text,
        notes,
        ..Plan::default()
    })
}

/// MariaDB and MySQL nest what they do in objects by its name; a name that holds objects is a step.
fn of_mariadb(rows: &[Vec<String>]) -> Result<Plan, EngineError> {
    const LISTS: &[&str] = &[
        "nested_loop",
        "query_specifications",
        "subqueries",
        "attached_subqueries",
        "optimized_away_subqueries",
        "select_list_subqueries",
        "order_by_subqueries",
    ];
    const FACTS: &[&str] = &[
        "cost_info",
        "used_columns",
        "query_optimization",
        "buffers",
        "r_engine_stats",
        "rowid_filter",
        "index_merge",
    ];
    fn parts(json: &Json, depth: usize) -> Vec<Step> {
        let Some(fields) = json.as_object().filter(|_| depth < 100) else {
            return Vec::new();
        };
        let mut list = Vec::new();
        for (name, value) in fields {
            match value {
                Json::Array(items) if LISTS.contains(&name.as_str()) => {
                    for item in items {
                        list.extend(parts(item, depth + 1));
                    }
                }
                Json::Object(_) if name == "query_block" => {
                    // The block itself says little; what is in it counts.
                    list.extend(block(value, depth + 1));
                }
                Json::Object(_) if !FACTS.contains(&name.as_str()) => {
                    list.push(step(name, value, depth + 1))
                }
                _ => {}
            }
        }
        list
    }
    fn block(json: &Json, depth: usize) -> Vec<Step> {
        let inner = parts(json, depth);
        let number_of = number(json, "select_id");
        let time = number(json, "r_total_time_ms");
        let cost = number(json, "cost")
            .or_else(|| json.get("cost_info").and_then(|c| number(c, "query_cost")));
        vec![Step {
            what: match number_of {
                Some(n) if n > 1.0 => format!("query {n}"),
                _ => "query".into(),
            },
            details: words(json, "message").into_iter().collect(),
            time,
            cost,
            runs: number(json, "r_loops"),
            parts: inner,
            ..Step::default()
        }]
    }
    fn step(name: &str, json: &Json, depth: usize) -> Step {
        let runs = number(json, "r_loops");
        let each = runs.unwrap_or(1.0).max(1.0);
        let mut details = Vec::new();
        for (field, label) in [
            ("key", "by"),
            ("ref", "with"),
            ("sort_key", "by"),
            ("attached_condition", "keeps"),
            ("index_condition", "where"),
        ] {
            details.extend(words(json, field).map(|value| format!("{label} {value}")));
        }
        let access = words(json, "access_type");
        let what = match access.as_deref() {
            Some("ALL") => "every row of".into(),
            Some("index") => "every row, in the order of an index, of".into(),
            Some("const" | "system" | "eq_ref") => "one row of".into(),
            Some("ref" | "ref_or_null") => "looks up in".into(),
            Some("range") => "a range of".into(),
            Some(other) => other.to_string(),
            None => name.replace(['_', '-'], " "),
        };
        Step {
            what,
            on: words(json, "table_name").unwrap_or_default(),
            details,
            expected: number(json, "rows")
                .or_else(|| number(json, "rows_examined_per_scan"))
                .map(|rows| rows * each),
            rows: number(json, "r_rows")
                .or_else(|| number(json, "r_output_rows"))
                .map(|rows| rows * each),
            runs,
            cost: number(json, "cost")
                .or_else(|| json.get("cost_info").and_then(|c| number(c, "prefix_cost"))),
            time: number(json, "r_total_time_ms").or_else(|| {
                number(json, "r_table_time_ms")
                    .map(|t| t + number(json, "r_other_time_ms").unwrap_or(0.0))
            }),
            parts: parts(json, depth),
        }
    }
    let (json, text) = parsed(rows)?;
    Ok(Plan {
        steps: parts(&json, 0),
        text,
        ..Plan::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_of_sqlite_become_a_tree() {
        let row = |id: &str, parent: &str, words: &str| {
            vec![id.into(), parent.into(), "0".into(), words.into()]
        };
        let plan = of_sqlite(&[
            row("3", "0", "SCAN s"),
            row("5", "0", "SEARCH v USING INTEGER PRIMARY KEY (rowid=?)"),
            row("9", "0", "CORRELATED SCALAR SUBQUERY 1"),
            row("12", "9", "SCAN d USING COVERING INDEX dues_by_visit"),
        ]);
        let walk: Vec<(usize, &str, &str)> = plan
            .walk()
            .into_iter()
            .map(|(depth, s)| (depth, s.what.as_str(), s.on.as_str()))
            .collect();
        assert_eq!(
            walk,
            [
                (0, "every row of", "s"),
                (0, "looks up in", "v"),
                (0, "correlated scalar subquery 1", ""),
                (1, "every row, in the order of an index, of", "d"),
            ]
        );
        assert_eq!(plan.steps[1].details, ["by integer primary key (rowid=?)"]);
    }

    #[test]
    fn a_plan_that_is_no_json_is_said() {
        let error = of_postgres(&[vec!["Seq Scan on t".into()]]).expect_err("no json");
        assert!(error.message.contains("could not be read"));
    }
}
