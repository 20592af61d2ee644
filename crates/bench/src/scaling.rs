//! What grows with its input must not grow with its square: the same work on twice as much, as a ratio to that on
//! once; and ordering by values that take longer to compare, as a ratio to ordering by integers.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::channel;
use std::time::Instant;

use idle_tide_core::document::extended::{Form, text};
use idle_tide_core::document::{Datum, Decimal128, Document, bson};
use idle_tide_desk::entry::State;
use idle_tide_desk::{Desk, Options, Writes};
use idle_tide_engines::{OpenOptions, Silent, Source, open};

use crate::work::until;

const STATEMENTS: usize = 10_000;
const VIEWS: usize = 20_000;
const TABLES: usize = 5_000;
const KEYS: usize = 10_000;
const ORDERED: usize = 200_000;

/// Makes the files.
pub fn prepare(dir: &Path) {
    let make = |name: &str, sql: &mut dyn Iterator<Item = String>| {
        let connection = rusqlite::Connection::open(dir.join(name)).expect("opens");
        connection
            .execute_batch("pragma journal_mode = off; pragma synchronous = off; begin; create table quays (code, name);")
            .expect("begun");
        sql.for_each(|sql| connection.execute_batch(&sql).expect("made"));
        connection.execute_batch("commit").expect("kept");
    };
    let view = |n| format!("create view v{n} as select code, name from quays where code > {n}");
    make("views.db", &mut (0..VIEWS).map(view));
    for (times, name) in [(1, "tables-1.db"), (2, "tables-2.db")] {
        let table = |n| format!("create table berths_{n} (code integer primary key, depth)");
        make(name, &mut (0..TABLES * times).map(table));
    }
    for (times, name) in [(1, "keys-1"), (2, "keys-2")] {
        std::fs::create_dir_all(dir.join(name)).expect("folder");
        let mut file = File::create(dir.join(name).join("wide.jsonl")).expect("made");
        let fields: Vec<String> = (0..KEYS * times)
            .map(|n| format!("\"field_{n}\": {n}"))
            .collect();
        writeln!(file, "{{ {} }}", fields.join(", ")).expect("written");
    }
    std::fs::create_dir_all(dir.join("ordered")).expect("folder");
    let file = File::create(dir.join("ordered").join("mixed.jsonl")).expect("made");
    let mut file = BufWriter::new(file);
    for n in 0..ORDERED {
        let mixed = (n * 7919) % 1_000_003;
        let decimal: Decimal128 = format!("{mixed}.25").parse().expect("a number");
        let mut id = [7; 12];
        id[8..].copy_from_slice(&(mixed as u32).to_be_bytes());
        let document = Document::new()
            .with("whole", Datum::Long(mixed as i64))
            .with("exact", Datum::Decimal(decimal))
            .with("mark", Datum::Id(id));
        let line = text(&bson::encode(&document), Form::Relaxed);
        writeln!(file, "{line}").expect("written");
    }
}

/// Does the work of this name; answers the seconds that count. `None` if it is not one of these.
pub fn run(name: &str, dir: &Path) -> Option<f64> {
    let file = |name: &str| Source::File(dir.join(name));
    let folder = |name: &str| Source::Documents(dir.join(name));
    let statements = |times: usize| "select 1;\n".repeat(STATEMENTS * times);
    Some(match name {
        "statements-1" => submitted(&Source::Memory, &statements(1), State::Done),
        "statements-2" => submitted(&Source::Memory, &statements(2), State::Done),
        "views" => submitted(&file("views.db"), "/views", State::Done),
        "views-bare" => bare_views(&dir.join("views.db")),
        "error-1" => submitted(
            &file("tables-1.db"),
            "select * from brths_77;",
            State::Failed,
        ),
        "error-2" => submitted(
            &file("tables-2.db"),
            "select * from brths_77;",
            State::Failed,
        ),
        "shape-1" => submitted(&folder("keys-1"), "/shape wide", State::Done),
        "shape-2" => submitted(&folder("keys-2"), "/shape wide", State::Done),
        "order-integers" => ordered(dir, "whole"),
        "order-decimals" => ordered(dir, "exact"),
        "order-identifiers" => ordered(dir, "mark"),
        _ => return None,
    })
}

/// A session of this source.
fn session(source: &Source) -> (Desk, std::sync::mpsc::Receiver<idle_tide_desk::Event>) {
    let connection = open(source, OpenOptions::default(), &Silent).expect("opens");
    let (sender, inbox) = channel();
    let options = Options {
        source: "scaling".into(),
        writes: Writes::Ask,
        places: None,
        stream: None,
    };
    let notify = Arc::new(move |event| {
        let _ = sender.send(event);
    });
    (Desk::new(connection, options, notify), inbox)
}

/// Opens the source, submits a text, waits for its end.
fn submitted(source: &Source, text: &str, ends: State) -> f64 {
    let begun = Instant::now();
    let (mut desk, inbox) = session(source);
    desk.submit(text);
    until(&mut desk, &inbox, |desk| !desk.is_busy());
    let seconds = begun.elapsed().as_secs_f64();
    assert_eq!(desk.entry().map(|entry| entry.state), Some(ends));
    seconds
}

/// What the engine itself takes to tell the columns of every view.
fn bare_views(path: &Path) -> f64 {
    let begun = Instant::now();
    let connection = rusqlite::Connection::open(path).expect("opens");
    let sql =
        "select count(*) from sqlite_schema s, pragma_table_xinfo(s.name) where s.type = 'view'";
    let columns: i64 = connection
        .query_row(sql, [], |row| row.get(0))
        .expect("read");
    assert!(columns > 0);
    begun.elapsed().as_secs_f64()
}

/// Orders all documents by a field.
fn ordered(dir: &Path, field: &str) -> f64 {
    let (mut desk, inbox) = session(&Source::Documents(dir.join("ordered")));
    desk.submit("from mixed");
    until(&mut desk, &inbox, |desk| !desk.is_busy());
    let sheet = desk.entry().and_then(|entry| entry.sheet()).expect("rows");
    assert_eq!(sheet.shown(), ORDERED as u64);
    let column = sheet
        .labels
        .iter()
        .position(|label| label == field)
        .expect("a column");
    let begun = Instant::now();
    desk.order_by(Some((column, false)))
        .expect("all rows are there");
    until(&mut desk, &inbox, |desk| {
        let sheet = desk.entry().and_then(|entry| entry.sheet());
        sheet.is_some_and(|sheet| sheet.view.order.is_some())
    });
    begun.elapsed().as_secs_f64()
}
