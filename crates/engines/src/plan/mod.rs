//! Plans: what each family is asked, and its answer as a tree. A statement that writes is never run for it; one
//! that reads is run to be measured, where the server measures, in a transaction that may only read.

mod mariadb;
mod mysql;
mod postgres;
mod sqlite;
mod tabular;

use std::io;

use idle_tide_core::plan::Plan;
use idle_tide_core::{Column, RowBatch};
use idle_tide_lang::Dialect;
use idle_tide_lang::statement::{Effect, called, summary};
use serde_json::Value as Json;

use crate::engine::{Connection, EngineError, Fault, Sink};

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

type FromRows = fn(&[Vec<String>]) -> Plan;

/// How a kind of server that speaks SQL is asked for a plan.
struct Way {
    /// The name of its dialect.
    of: &'static str,
    /// What stands before a statement that is planned only.
    asking: &'static str,
    /// What stands before one that is run to be measured; empty where nothing is measured.
    measuring: &'static str,
    /// Begins a transaction that may only read.
    begin: &'static str,
    /// Asks for one of these functions that may do more than read.
    acting: Option<fn(&[String], &Dialect) -> String>,
    read: fn(&[Vec<String>]) -> Result<Plan, EngineError>,
    /// What is asked instead where the first answer tells nothing.
    instead: Option<(&'static str, FromRows)>,
    /// What turns the telling of plans on and off around a statement: planned only, and run.
    around: Option<[(&'static str, &'static str); 2]>,
    /// What its plans lack.
    note: Option<&'static str>,
}

static WAYS: &[Way] = &[
    Way {
        of: "SQLite",
        asking: "explain query plan",
        measuring: "",
        begin: "",
        acting: None,
        read: |rows| Ok(sqlite::of_sqlite(rows)),
        instead: None,
        around: None,
        note: Some("SQLite tells which tables it goes through and by which index, and no numbers."),
    },
    Way {
        of: "PostgreSQL",
        asking: "explain (verbose, format json)",
        measuring: "explain (analyze, verbose, buffers, format json)",
        begin: "begin read only",
        acting: Some(crate::postgres::acting),
        read: postgres::of_postgres,
        instead: None,
        around: None,
        note: None,
    },
    Way {
        of: "MariaDB",
        asking: "explain format=json",
        measuring: "analyze format=json",
        begin: "start transaction read only",
        acting: Some(crate::mariadb::acting),
        read: mariadb::of_mariadb,
        instead: None,
        around: None,
        note: None,
    },
    Way {
        of: "MySQL",
        asking: "explain format=tree",
        measuring: "explain analyze format=tree",
        begin: "start transaction read only",
        acting: Some(crate::mariadb::acting),
        read: |rows| Ok(mysql::of_tree(rows)),
        // What its new executor does not run yet has no tree.
        instead: Some(("explain format=traditional", mysql::of_rows)),
        around: None,
        note: None,
    },
    Way {
        of: "Transact-SQL",
        asking: "",
        measuring: " ",
        begin: "begin transaction",
        // Functions change nothing there.
        acting: None,
        read: tabular::of_tabular,
        instead: None,
        around: Some([
            ("set showplan_xml on", "set showplan_xml off"),
            ("set statistics xml on", "set statistics xml off"),
        ]),
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
    let way = WAYS.iter().find(|way| way.of == dialect.name);
    let way = way.ok_or_else(|| EngineError::plain("This family tells no plans."))?;
    let can_measure = !way.measuring.is_empty();
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
    let before = if measured { way.measuring } else { way.asking };
    let question = match way.around {
        Some(_) => statement.to_string(),
        None => format!("{before} {statement}"),
    };
    let around = way.around.map(|around| around[usize::from(measured)]);
    if let Some((on, _)) = around {
        connection.run(OURS, on, &mut Texts::default())?;
    }
    let asked = ask(connection, ticket, way, (&question, statement), measured);
    if let Some((_, off)) = around {
        connection.run(OURS, off, &mut Texts::default())?;
    }
    let answer = asked?;
    let mut plan = (way.read)(&answer.0)?;
    if let (Some((asking, read)), true) = (way.instead, plan.steps.is_empty()) {
        let mut answer = Texts::default();
        connection.run(ticket, &format!("{asking} {statement}"), &mut answer)?;
        plan = read(&answer.0);
    }
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

/// Runs the question, in a transaction that may only read where the statement in it runs too.
fn ask(
    connection: &mut dyn Connection,
    ticket: u64,
    way: &Way,
    (question, statement): (&str, &str),
    measured: bool,
) -> Result<Texts, EngineError> {
    let mut answer = Texts::default();
    if measured {
        // A session that refuses writes lets nobody begin a transaction of another kind: what it runs may only
        // read in any case.
        let begun = match connection.run(OURS, way.begin, &mut Texts::default()) {
            Ok(_) => true,
            Err(error) if error.fault == Fault::ReadOnly => false,
            Err(error) => return Err(error),
        };
        let asked = connection.run(ticket, question, &mut answer);
        if begun {
            connection.run(OURS, "rollback", &mut Texts::default())?;
        }
        asked.map_err(|error| moved(error, question, statement))?;
    } else {
        connection
            .run(ticket, question, &mut answer)
            .map_err(|error| moved(error, question, statement))?;
    }
    Ok(answer)
}

/// The server's place of an error, moved back from the question to the statement in it.
fn moved(mut error: EngineError, question: &str, statement: &str) -> EngineError {
    let before = question.len() - statement.len();
    error.offset = error.offset.and_then(|at| at.checked_sub(before));
    error
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

/// How deep each step of a plan stands, what it does and on what.
#[cfg(test)]
fn outline(plan: &Plan) -> Vec<(usize, &str, &str)> {
    let steps = plan.walk().into_iter();
    steps
        .map(|(depth, step)| (depth, step.what.as_str(), step.on.as_str()))
        .collect()
}
