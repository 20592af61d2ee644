//! Rows into files of every format, and files into tables.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::channel;

use idle_tide_desk::export::{Results, Streaming};
use idle_tide_desk::{Desk, Options, State, Writes};
use idle_tide_draw::{Format, Layout};
use idle_tide_engines::Connection;
use idle_tide_engines::sqlite::Sqlite;

use crate::work::until;

const QUERY: &str = "select * from big";
/// The statement that makes the table of the bare side.
pub const MAKE: &str = "create table loaded (id bigint, at timestamp, vessel varchar(40), quay varchar(40), draught double precision, dues double precision, crew integer, note varchar(40))";

/// Writes the file of a million rows, and one of a gigabyte.
pub fn prepare(dir: &Path) {
    let mut connection = Sqlite::file(&dir.join("big.db"), false, &mut || {}).expect("opens");
    let format = Format::named("csv").expect("CSV");
    let out = File::create(dir.join("rows.csv")).expect("made");
    let mut sink = Streaming::new(Layout::of(format), Buffered(BufWriter::new(out)));
    connection.run(1, QUERY, &mut sink).expect("runs");
    idle_tide_engines::Sink::end(&mut sink).expect("ends");
    let rows = std::fs::read(dir.join("rows.csv")).expect("there");
    let head = rows.iter().position(|byte| *byte == b'\n').expect("a line") + 1;
    let mut large = BufWriter::new(File::create(dir.join("large.csv")).expect("made"));
    large.write_all(&rows).expect("written");
    for _ in 0..1_000_000_000 / rows.len() {
        large.write_all(&rows[head..]).expect("written");
    }
}

struct Buffered(BufWriter<File>);

impl Write for Buffered {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.write(bytes)
    }
    fn flush(&mut self) -> std::io::Result<()> {
        self.0.flush()
    }
}

impl Results for Buffered {}

/// Does the work of this name; `false` if there is none.
pub fn run(name: &str, dir: &Path) -> bool {
    match name.split_once(':') {
        Some(("away", format)) => away(dir, format),
        Some(("bring", "load")) => {
            let path = dir.join("ours.db");
            // A run before may have left one.
            let _ = std::fs::remove_file(&path);
            File::create(&path).expect("made");
            let connection = Sqlite::file(&path, true, &mut || {}).expect("opens");
            load(Box::new(connection), &dir.join("rows.csv"));
        }
        Some(("bring", "bare")) => inserts(dir),
        Some(("bring", "types")) => {
            let file = idle_tide_intake::spool(&dir.join("large.csv"), &|| false).expect("there");
            let asked = idle_tide_intake::Asked::default();
            let found = idle_tide_intake::look(&file, &asked, &|| false).expect("a proposal");
            assert!(found.columns.len() == 8 && found.bad_count == 0);
        }
        Some(("bring", "split")) => {
            let mut reader = csv::Reader::from_path(dir.join("large.csv")).expect("opens");
            let (mut record, mut fields) = (csv::ByteRecord::new(), 0);
            while reader.read_byte_record(&mut record).expect("a row") {
                fields += record.len();
            }
            assert!(fields > 8_000_000);
        }
        _ => return false,
    }
    true
}

fn away(dir: &Path, format: &str) {
    let mut connection = Sqlite::file(&dir.join("big.db"), false, &mut || {}).expect("opens");
    let format = Format::named(format).expect("a format");
    let out = File::create(dir.join("out")).expect("made");
    let mut sink = Streaming::new(Layout::of(format), Buffered(BufWriter::new(out)));
    connection.run(1, QUERY, &mut sink).expect("runs");
    idle_tide_engines::Sink::end(&mut sink).expect("ends");
    assert_eq!(sink.written.rows, 1_000_000);
}

/// Loads a file in a desk.
pub fn load(connection: Box<dyn Connection>, file: &Path) {
    let (sender, inbox) = channel();
    let options = Options {
        source: "bench".into(),
        writes: Writes::Free,
        places: None,
        stream: None,
    };
    let notify = Arc::new(move |event| drop(sender.send(event)));
    let mut desk = Desk::new(connection, options, notify);
    desk.submit(&format!("/load {} --into loaded --go", file.display()));
    until(&mut desk, &inbox, |desk| !desk.is_busy());
    let entry = desk.entry().expect("the load");
    assert!(entry.state == State::Done, "{entry:?}");
}

/// The bare driver: a statement that is prepared once, in one transaction, and values of the right kinds.
fn inserts(dir: &Path) {
    let path = dir.join("bare.db");
    let _ = std::fs::remove_file(&path);
    let mut connection = rusqlite::Connection::open(&path).expect("opens");
    connection.execute_batch(MAKE).expect("made");
    let whole = connection.transaction().expect("begun");
    {
        let mut insert = whole
            .prepare("insert into loaded values (?, ?, ?, ?, ?, ?, ?, ?)")
            .expect("prepared");
        let mut reader = csv::Reader::from_path(dir.join("rows.csv")).expect("opens");
        let mut record = csv::StringRecord::new();
        while reader.read_record(&mut record).expect("a row") {
            let number = |at: usize| record[at].parse::<i64>().expect("a number");
            let float = |at: usize| record[at].parse::<f64>().expect("a number");
            let note = (!record[7].is_empty()).then_some(&record[7]);
            insert
                .execute((
                    number(0),
                    &record[1],
                    &record[2],
                    &record[3],
                    float(4),
                    float(5),
                    number(6),
                    note,
                ))
                .expect("in");
        }
    }
    whole.commit().expect("kept");
}
