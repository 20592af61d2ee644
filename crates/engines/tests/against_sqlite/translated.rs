//! A statement of SQL and the flow that is offered for it give the same rows, and so do a flow and the SQL for it.

use std::io;

use idle_tide_core::{Column, RowBatch, Value};
use idle_tide_engines::{Connection, OpenOptions, Silent, Sink, Source, open};
use idle_tide_lang::flow::translate::{flow_for_sql, sql_for_flow};
use proptest::prelude::*;

#[derive(Default)]
struct Rows {
    columns: Vec<Column>,
    rows: Vec<Vec<Value>>,
}

impl Sink for Rows {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.columns = columns;
        Ok(())
    }
    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.columns = columns;
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        let owned = batch
            .rows()
            .map(|row| row.values().map(|v| v.to_owned()).collect());
        self.rows.extend(owned);
        Ok(())
    }
}

const PORTS: [&str; 4] = ["Quay", "Cove", "Spit", "Mole"];

/// The visits of the tests: id, port, crew, kg.
fn visits() -> Vec<(i64, &'static str, i64, f64)> {
    (0..40)
        .map(|n| {
            (
                n,
                PORTS[(n * 7 % 4) as usize],
                n * 5 % 7,
                (n * 37 % 23) as f64 / 2.0,
            )
        })
        .collect()
}

/// The same rows as a database and as a folder of documents.
fn both() -> (tempfile::TempDir, rusqlite::Connection, Box<dyn Connection>) {
    let dir = tempfile::tempdir().expect("a folder");
    let file = rusqlite::Connection::open_in_memory().expect("opens");
    file.execute_batch("create table visits (id integer, port text, crew integer, kg real)")
        .expect("made");
    let mut lines = String::new();
    for (id, port, crew, kg) in visits() {
        file.execute(
            "insert into visits values (?, ?, ?, ?)",
            rusqlite::params![id, port, crew, kg],
        )
        .expect("in");
        lines.push_str(&format!("{{\"_id\": {id}, \"id\": {id}, \"port\": \"{port}\", \"crew\": {crew}, \"kg\": {kg:?}}}\n"));
    }
    std::fs::write(dir.path().join("visits.jsonl"), lines).expect("written");
    let source = Source::parse(&format!("docs:{}", dir.path().display())).expect("a source");
    let documents = open(&source, OpenOptions::default(), &Silent).expect("opens");
    (dir, file, documents)
}

fn number(text: &str) -> String {
    text.parse::<f64>()
        .map_or(text.to_string(), |number| format!("{number:.6}"))
}

/// The rows that the database gives; each value as text, numbers in one form.
fn of_database(file: &rusqlite::Connection, sql: &str) -> Result<Vec<Vec<String>>, String> {
    let mut statement = file.prepare(sql).map_err(|error| error.to_string())?;
    let count = statement.column_count();
    let mut rows = statement.query([]).map_err(|error| error.to_string())?;
    let mut all = Vec::new();
    while let Some(row) = rows.next().map_err(|error| error.to_string())? {
        let value = |at: usize| match row.get_ref(at).expect("a value") {
            rusqlite::types::ValueRef::Null => "null".to_string(),
            rusqlite::types::ValueRef::Integer(n) => number(&n.to_string()),
            rusqlite::types::ValueRef::Real(n) => number(&n.to_string()),
            rusqlite::types::ValueRef::Text(text) => String::from_utf8_lossy(text).into_owned(),
            other => format!("{other:?}"),
        };
        all.push((0..count).map(value).collect());
    }
    Ok(all)
}

/// The rows that a flow gives, without what is there beside the fields: identifiers, and how often each value of `distinct` is there.
fn of_documents(documents: &mut dyn Connection, flow: &str) -> Result<Vec<Vec<String>>, String> {
    let mut rows = Rows::default();
    documents
        .run(1, flow, &mut rows)
        .map_err(|error| error.message)?;
    let kept: Vec<usize> = (0..rows.columns.len())
        .filter(|at| {
            let name = rows.columns[*at].name.as_str();
            name != "_id" && !(name == "count" && flow.contains(" distinct "))
        })
        .collect();
    let row = |row: &Vec<Value>| {
        let value = |at: &usize| number(&row[*at].as_ref().plain());
        kept.iter().map(value).collect()
    };
    Ok(rows.rows.iter().map(row).collect())
}

/// Rows in any order, each with its values in any order: names and places of columns differ between the languages.
fn loose(rows: &[Vec<String>]) -> Vec<Vec<String>> {
    let mut rows: Vec<Vec<String>> = rows.to_vec();
    rows.iter_mut().for_each(|row| row.sort());
    rows.sort();
    rows
}

fn sql() -> impl Strategy<Value = String> {
    let column = prop_oneof![Just("port"), Just("crew"), Just("kg"), Just("id")];
    let condition = prop_oneof![
        (
            prop_oneof![Just("crew"), Just("kg"), Just("id")],
            "=|<>|<|<=|>|>=",
            0_i64..12
        )
            .prop_map(|(a, o, n)| format!("{a} {o} {n}")),
        (0..4_usize).prop_map(|at| format!("port = '{}'", PORTS[at])),
        Just("port like '%o%'".to_string()),
        Just("port in ('Quay', 'Spit')".to_string()),
        (1_i64..4, 3_i64..7).prop_map(|(a, b)| format!("crew between {a} and {b}")),
        Just("port is not null".to_string()),
        Just("not crew = 3".to_string()),
    ];
    let filter = prop_oneof![
        2 => Just(String::new()),
        3 => condition.clone().prop_map(|c| format!(" where {c}")),
        1 => (condition.clone(), "and|or", condition).prop_map(|(a, o, b)| format!(" where {a} {o} {b}")),
    ];
    let order = (column.clone(), any::<bool>())
        .prop_map(|(c, d)| format!(" order by {c}{}, id", if d { " desc" } else { "" }));
    let limit = prop_oneof![
        3 => Just(String::new()),
        1 => (1_u8..9).prop_map(|n| format!(" limit {n}")),
        1 => (1_u8..9, 0_u8..9).prop_map(|(n, o)| format!(" limit {n} offset {o}")),
    ];
    let list = prop_oneof![
        Just("*".to_string()),
        Just("id, port".to_string()),
        Just("id, crew as people".to_string()),
        Just("port p, kg, id".to_string()),
        Just("visits.id, visits.kg".to_string()),
    ];
    let plain =
        (list, filter.clone(), order, limit.clone()).prop_map(|(list, filter, order, limit)| {
            format!("select {list} from visits{filter}{order}{limit}")
        });
    let aggregate = prop_oneof![
        Just("count(*)"),
        Just("count(*) as n"),
        Just("sum(kg)"),
        Just("max(kg) as most"),
        Just("avg(crew)"),
        Just("min(id)"),
        Just("count(distinct crew) as kinds"),
        Just("count(kg)"),
    ];
    let key = prop_oneof![Just("port"), Just("crew")];
    let grouped = (
        key.clone(),
        proptest::collection::vec(aggregate.clone(), 1..3),
        filter.clone(),
        0_u8..5,
    )
        .prop_map(|(key, list, filter, end)| {
            let list = list.join(", ");
            let end = match end {
                0 => " having count(*) > 4".to_string(),
                1 => format!(" order by {key} desc"),
                2 => format!(" order by count(*) desc, {key} limit 2"),
                3 => " having sum(kg) > 20 order by sum(kg) limit 3".to_string(),
                _ => String::new(),
            };
            format!("select {key}, {list} from visits{filter} group by {key}{end}")
        });
    let whole = (proptest::collection::vec(aggregate, 1..3), filter.clone())
        .prop_map(|(list, filter)| format!("select {} from visits{filter}", list.join(", ")));
    let distinct = (key, filter)
        .prop_map(|(key, filter)| format!("select distinct {key} from visits{filter}"));
    let ordered_by_name = limit.prop_map(|limit| {
        format!("select id, crew as people from visits order by people desc, id{limit}")
    });
    prop_oneof![4 => plain, 4 => grouped, 2 => whole, 1 => distinct, 1 => ordered_by_name]
}

/// Stages in any order, many of which no simple statement says.
fn flow() -> impl Strategy<Value = String> {
    let stage = prop_oneof![
        2 => (0_i64..9).prop_map(|n| format!("where kg > {n}")),
        1 => Just("where crew = 1 or port = 'Cove'".to_string()),
        1 => Just("where not (crew < 3 and kg < 8)".to_string()),
        2 => Just("order by port, id".to_string()),
        1 => Just("order by kg desc, id".to_string()),
        1 => (1_u8..9).prop_map(|n| format!("limit {n}")),
        1 => (1_u8..9).prop_map(|n| format!("offset {n}")),
        1 => Just("pick { id, port }".to_string()),
        1 => Just("pick { id, weight: kg }".to_string()),
        1 => Just("count".to_string()),
        1 => Just("group by port { n: count(), most: max(kg) }".to_string()),
        1 => Just("group by p: port { kinds: count(different crew) } order by kinds, p".to_string()),
        1 => Just("group { all: sum(kg) }".to_string()),
    ];
    proptest::collection::vec(stage, 1..5)
        .prop_map(|stages| format!("from visits {}", stages.join(" ")))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn a_flow_and_the_sql_for_it_give_the_same_rows(flow in flow()) {
        // Rows that nobody has put in order are in any.
        prop_assume!(!flow.contains("limit") && !flow.contains("offset") || flow.contains("order by"));
        let (_dir, file, mut documents) = both();
        let Some(sql) = sql_for_flow(&flow) else {
            return Ok(());
        };
        let fail = |words: String| TestCaseError::fail(format!("{flow}\n{sql}\n{words}"));
        let theirs = of_database(&file, &sql).map_err(fail)?;
        prop_assume!(!(sql.contains("sum(") && theirs.iter().flatten().any(|value| value == "null")));
        let ours = of_documents(&mut *documents, &flow).map_err(fail)?;
        prop_assert_eq!(loose(&ours), loose(&theirs), "{}\n{}", flow, sql);
    }

    #[test]
    fn sql_and_the_flow_for_it_give_the_same_rows(sql in sql()) {
        let (_dir, file, mut documents) = both();
        let Some(flow) = flow_for_sql(&sql) else {
            return Ok(());
        };
        let theirs = of_database(&file, &sql).expect("understood");
        // Of no documents the sum is 0, of no rows it is null: the languages differ.
        prop_assume!(!(sql.contains("sum(") && theirs.iter().flatten().any(|value| value == "null")));
        let ours = of_documents(&mut *documents, &flow).map_err(|words| TestCaseError::fail(format!("{sql}\n{flow}\n{words}")))?;
        prop_assert_eq!(loose(&ours), loose(&theirs), "{}\n{}", sql, flow);
        // And back.
        if let Some(back) = sql_for_flow(&flow).filter(|_| !flow.contains(" distinct ")) {
            let again = of_database(&file, &back).map_err(|words| TestCaseError::fail(format!("{flow}\n{back}\n{words}")))?;
            prop_assert_eq!(loose(&again), loose(&ours), "{}\n{}", flow, back);
        }
    }
}
