//! The work of each measurement, ours and bare.

use std::fs::File;
use std::hint::black_box;
use std::io::{BufWriter, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};

use idle_tide_desk::export::{Replacing, Streaming};
use idle_tide_desk::{Desk, Event, Options, Writes, sheet};
use idle_tide_draw::Layout;
use idle_tide_draw::export::CSV;
use idle_tide_engines::Connection;
use idle_tide_engines::sqlite::Sqlite;
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::split::Splitter;

const QUERY: &str = "select * from big";
const ORDERED: &str = "select * from big order by quay";

/// Makes the database and the file of statements.
pub fn prepare(dir: &Path) {
    prepare_rows(dir);
    prepare_statements(dir);
}

/// Makes the database.
pub fn prepare_rows(dir: &Path) {
    let connection = rusqlite::Connection::open(dir.join("big.db")).expect("opens");
    connection
        .execute_batch(
            "pragma journal_mode = off; pragma synchronous = off;
            create table big (id integer primary key, at text, vessel text, quay text, draught real, dues real, crew integer, note text);
            with recursive r (n) as (select 1 union all select n + 1 from r where n < 1000000)
            insert into big select n, datetime(1924992000 + n * 600, 'unixepoch'),
              'Vessel ' || (n * 7919 % 480), 'quay ' || (n * 104729 % 100003), (n % 331) / 100.0 + 0.5, (n * 13 % 96000) / 7.0, n % 14,
              case n % 5 when 0 then null when 1 then 'dries, at low water' else 'alongside' end from r;",
        )
        .expect("made");
}

fn prepare_statements(dir: &Path) {
    let block = "insert into visits (id, vessel, note) values (4711, 'Grey Heron', 'asks for the crane; \"not before ten\"');\n-- a line about the next one; with a semicolon\nupdate berths set depth_m = 2.75, dries = 0 where code = 'N07' and depth_m between 1 and 3;\nselect v.name, count(*) as visits\n  from visits s join vessels v on v.id = s.vessel_id /* linked */\n  group by v.name order by 2 desc;\n";
    let mut file =
        BufWriter::with_capacity(1 << 20, File::create(dir.join("big.sql")).expect("made"));
    let mut written = 0;
    while written < 1_000_000_000 {
        file.write_all(block.as_bytes()).expect("written");
        written += block.len();
    }
}

/// Does the work of this name.
pub fn run(name: &str, dir: &Path) {
    match name {
        "prepare" => prepare(dir),
        "decode" => decode(dir, QUERY),
        "decode-order" => decode(dir, ORDERED),
        "export" => export(dir),
        "result" => {
            let (desk, _) = loaded(dir);
            let rows = desk.entry().and_then(|e| e.sheet()).expect("rows");
            assert_eq!(rows.shown(), 1_000_000);
            let last = sheet::read(&rows.set)
                .value(999_999, 0)
                .expect("the last row");
            black_box(last);
        }
        "order" => {
            let (mut desk, inbox) = loaded(dir);
            desk.order_by(Some((3, false))).expect("all rows are there");
            until(&mut desk, &inbox, |d| {
                d.entry()
                    .and_then(|e| e.sheet())
                    .is_some_and(|s| s.view.order.is_some())
            });
            let rows = desk.entry().and_then(|e| e.sheet()).expect("rows");
            let last = rows.row_number(999_999).expect("a row");
            black_box(sheet::read(&rows.set).value(last, 3).expect("a value"));
        }
        "split" => {
            let mut splitter = Splitter::new(&SQLITE, false);
            let mut count = 0_u64;
            each_chunk(dir, |chunk| splitter.feed(chunk, &mut |_| count += 1));
            splitter.finish(&mut |_| count += 1);
            assert!(count > 3_000_000);
        }
        "count-lines" => {
            let mut count = 0_u64;
            each_chunk(dir, |chunk| {
                for byte in chunk {
                    // One byte after the other, as a reader of bytes sees them.
                    if black_box(*byte) == b'\n' {
                        count += 1;
                    }
                }
            });
            assert!(count > 3_000_000);
        }
        other => panic!("no work {other}"),
    }
}

/// The bare driver's loop: steps and decodes every value.
pub fn decode(dir: &Path, query: &str) {
    let connection = rusqlite::Connection::open(dir.join("big.db")).expect("opens");
    let mut statement = connection.prepare(query).expect("prepared");
    let width = statement.column_count();
    let mut rows = statement.query([]).expect("runs");
    let mut total = 0_u64;
    while let Some(row) = rows.next().expect("a row") {
        for column in 0..width {
            use rusqlite::types::ValueRef as V;
            match row.get_ref(column).expect("a value") {
                V::Null => {}
                V::Integer(i) => total = total.wrapping_add(black_box(i) as u64),
                V::Real(f) => total = total.wrapping_add(black_box(f) as u64),
                V::Text(t) => {
                    total += black_box(std::str::from_utf8(t).expect("text")).len() as u64
                }
                V::Blob(b) => total += black_box(b).len() as u64,
            }
        }
    }
    black_box(total);
}

fn export(dir: &Path) {
    let mut connection = Sqlite::file(&dir.join("big.db"), false, &mut || {}).expect("opens");
    let file = Replacing::begin(&dir.join("out.csv")).expect("begun");
    let file = Arc::new(std::sync::Mutex::new(Some(file)));
    let mut sink = Streaming::new(Layout::of(&CSV), Shared(Arc::clone(&file)));
    connection.run(1, QUERY, &mut sink).expect("runs");
    idle_tide_engines::Sink::end(&mut sink).expect("ends");
    let whole = file.lock().expect("file").take().expect("file");
    assert!(whole.commit().expect("in place") > 50_000_000);
}

/// The writing thread's end of a file that is put in its place afterwards.
pub struct Shared(pub Arc<std::sync::Mutex<Option<Replacing>>>);

impl Write for Shared {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0
            .lock()
            .expect("file")
            .as_mut()
            .expect("file")
            .write(bytes)
    }
    fn flush(&mut self) -> std::io::Result<()> {
        self.0.lock().expect("file").as_mut().expect("file").flush()
    }
}

impl idle_tide_desk::export::Results for Shared {}

pub fn until(desk: &mut Desk, inbox: &Receiver<Event>, done: impl Fn(&Desk) -> bool) {
    while !done(desk) {
        desk.handle(inbox.recv().expect("an event"));
    }
}

/// A session with the million rows in a result.
pub fn loaded(dir: &Path) -> (Desk, Receiver<Event>) {
    asked(dir, QUERY)
}

/// A session with the result of a query.
pub fn asked(dir: &Path, query: &str) -> (Desk, Receiver<Event>) {
    let connection = Sqlite::file(&dir.join("big.db"), false, &mut || {}).expect("opens");
    let (sender, inbox) = channel();
    let options = Options {
        source: "big".into(),
        writes: Writes::Ask,
        places: None,
        stream: None,
    };
    let notify = Arc::new(move |event| {
        let _ = sender.send(event);
    });
    let mut desk = Desk::new(Box::new(connection), options, notify);
    desk.submit(&format!("{query};"));
    until(&mut desk, &inbox, |desk| !desk.is_busy());
    (desk, inbox)
}

fn each_chunk(dir: &Path, mut take: impl FnMut(&[u8])) {
    let mut file = File::open(dir.join("big.sql")).expect("opens");
    let mut chunk = vec![0; 128 * 1024];
    loop {
        match file.read(&mut chunk).expect("read") {
            0 => return,
            count => take(&chunk[..count]),
        }
    }
}
