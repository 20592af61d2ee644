//! The work of the measurements against servers, ours and bare. Which servers, the environment says
//! (scripts/test-servers).

use std::hint::black_box;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::pin::pin;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use idle_tide_desk::export::{Replacing, Streaming};
use idle_tide_desk::{Desk, Options, State, Writes};
use idle_tide_draw::Layout;
use idle_tide_draw::export::CSV;
use idle_tide_engines::{Connection, OpenOptions, Silent, Sink, Source, open};
use mysql_async::prelude::Queryable;
use tokio_postgres::SimpleQueryMessage;

use crate::work::Shared;

const QUERY: &str = "select * from big";
const SECRET: &str = "the owner's secret";

/// Whether there are servers to measure against.
pub fn are_there() -> bool {
    is_there("postgres") && is_there("mariadb")
}

/// Whether there is a server of a family; MySQL is left out where scripts/test-servers could not make it.
pub fn is_there(family: &str) -> bool {
    std::env::var(format!("HAVEN_{}_PORT", family.to_uppercase())).is_ok()
}

fn port(family: &str) -> u16 {
    let name = format!("HAVEN_{}_PORT", family.to_uppercase());
    std::env::var(name)
        .expect("a server")
        .parse()
        .expect("a port")
}

fn url(family: &str, port: u16) -> String {
    format!("{family}://haven:the%20owner%27s%20secret@127.0.0.1:{port}/bench?tls=off")
}

fn connect(url: &str) -> Box<dyn Connection> {
    open(
        &Source::parse(url).expect("an address"),
        OpenOptions::default(),
        &Silent,
    )
    .unwrap_or_else(|error| panic!("{error}"))
}

struct Nowhere;

impl Sink for Nowhere {
    fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: idle_tide_core::RowBatch) -> std::io::Result<()> {
        Ok(())
    }
}

/// Makes the table of a million rows on each server.
pub fn prepare() {
    let of_mysql = OF_MARIADB.replace(
        "seq_1_to_1000000",
        "(with recursive d (n) as (select 0 union all select n + 1 from d where n < 999) select a.n * 1000 + b.n + 1 as seq from d a, d b) s",
    );
    for (family, first, fill) in [
        (
            "postgres",
            "postgres",
            "insert into big select n, to_char(to_timestamp(1924992000 + n * 600), 'YYYY-MM-DD HH24:MI:SS'), 'Vessel ' || (n * 7919 % 480), 'quay ' || (n * 104729 % 100003), (n % 331) / 100.0 + 0.5, (n * 13 % 96000) / 7.0, n % 14, case n % 5 when 0 then null when 1 then 'dries, at low water' else 'alongside' end from generate_series(1::bigint, 1000000) n",
        ),
        ("mariadb", "", OF_MARIADB),
        ("mysql", "", of_mysql.as_str()),
    ] {
        if !is_there(family) {
            continue;
        }
        let admin = url(family, port(family)).replace("/bench?", &format!("/{first}?"));
        let mut c = connect(&admin);
        for sql in ["drop database if exists bench", "create database bench"] {
            c.run(1, sql, &mut Nowhere).expect("made");
        }
        let mut c = connect(&url(family, port(family)));
        let double = if family == "postgres" {
            "double precision"
        } else {
            "double"
        };
        let make = format!(
            "create table big (id bigint primary key, at varchar(40), vessel varchar(40), quay varchar(40), draught {double}, dues {double}, crew integer, note varchar(40))"
        );
        c.run(2, &make, &mut Nowhere).expect("made");
        c.run(3, fill, &mut Nowhere).expect("filled");
    }
}

const OF_MARIADB: &str = "insert into big select seq, date_format(from_unixtime(1924992000 + seq * 100), '%Y-%m-%d %H:%i:%s'), concat('Vessel ', seq * 7919 % 480), concat('quay ', seq * 104729 % 100003), (seq % 331) / 100.0 + 0.5, (seq * 13 % 96000) / 7.0, seq % 14, case seq % 5 when 0 then null when 1 then 'dries, at low water' else 'alongside' end from seq_1_to_1000000";

/// Makes 10 000 tables, some hundred in each statement: a transaction can hold only so many locks.
pub fn prepare_tables() {
    let admin = url("postgres", port("postgres"));
    let mut c = connect(&admin.replace("/bench?", "/postgres?"));
    for sql in [
        "drop database if exists bench_tables",
        "create database bench_tables",
    ] {
        c.run(1, sql, &mut Nowhere).expect("made");
    }
    let mut c = connect(&admin.replace("/bench?", "/bench_tables?"));
    let columns: Vec<String> = (1..10).map(|n| format!("column_{n} text")).collect();
    for part in 0..100 {
        let sql = format!(
            "do $$ begin for n in {}..{} loop execute format('create table table_%s (id integer primary key, {})', n); end loop; end $$",
            part * 100,
            part * 100 + 99,
            columns.join(", ")
        );
        c.run(2, &sql, &mut Nowhere).expect("made");
    }
    c.run(3, "analyze", &mut Nowhere).expect("done");
}

/// What the catalog is built from, asked by the bare driver and thrown away.
fn questions(port: u16) {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .expect("a runtime");
    runtime.block_on(async {
        let client = bare_client(port, "bench_tables").await;
        for sql in idle_tide_engines::catalog_questions() {
            black_box(client.simple_query(&sql).await.expect("answers"));
        }
    });
}

/// The bare driver, connected.
async fn bare_client(port: u16, database: &str) -> tokio_postgres::Client {
    let mut config = tokio_postgres::Config::new();
    config
        .host("127.0.0.1")
        .port(port)
        .user("haven")
        .password(SECRET)
        .dbname(database);
    let connected = config.connect(tokio_postgres::NoTls).await;
    let (client, connection) = connected.expect("connects");
    tokio::spawn(connection);
    client
}

/// Does the work of this name; `false` if there is none.
pub fn run(name: &str, dir: &Path) -> bool {
    let Some((family, what)) = name.split_once(':') else {
        return false;
    };
    match what {
        "catalog" => {
            let url = url(family, port(family)).replace("/bench?", "/bench_tables?");
            let catalog = connect(&url)
                .describe()
                .catalog(1, &mut |_| {})
                .expect("read");
            assert!(catalog.tables().count() == 10_000);
            black_box(catalog);
        }
        "questions" => questions(port(family)),
        "hold" => drop(hold(family, port(family), CHANGE, Writes::Ask)),
        "twice" => twice(family),
        "load" => {
            let mut c = connect(&url(family, port(family)));
            c.run(1, "drop table if exists loaded", &mut Nowhere)
                .expect("gone");
            crate::travel::load(c, &dir.join("rows.csv"));
        }
        "put" => put(family, dir),
        "export" => export(family, dir),
        "decode" if family == "postgres" => postgres(port(family), None),
        "decode" => mariadb(port(family), None),
        _ => return false,
    }
    true
}

/// Changes a tenth of the table.
const CHANGE: &str = "update big set crew = crew + 1 where id <= 100000";

/// Runs a change in a desk, which holds it under `ask` and takes it back; how long the change took.
fn hold(family: &str, port: u16, change: &str, writes: Writes) -> Duration {
    let (sender, inbox) = std::sync::mpsc::channel();
    let options = Options {
        source: "bench".into(),
        writes,
        places: None,
        stream: None,
    };
    let notify = Arc::new(move |event| drop(sender.send(event)));
    let mut desk = Desk::new(connect(&url(family, port)), options, notify);
    let until = |desk: &mut Desk, done: &dyn Fn(&Desk) -> bool| {
        while !done(desk) {
            desk.handle(inbox.recv().expect("an event"));
        }
    };
    desk.arrive();
    until(&mut desk, &|desk| {
        desk.entry().is_some_and(|e| e.state == State::Done)
    });
    let start = Instant::now();
    desk.submit(&format!("{change};"));
    until(&mut desk, &|desk| !desk.is_busy());
    let took = start.elapsed();
    if writes == Writes::Ask {
        let entry = desk.entry().expect("the change");
        assert!(entry.sheet().is_some(), "{entry:?}");
        desk.submit("/take-back");
        until(&mut desk, &|desk| desk.session().held().is_none());
    }
    took
}

/// The same by the bare driver: the rows before, the change, the rows after, and everything taken back.
fn twice(family: &str) {
    let read = "select * from big where id <= 100000";
    let (begin, back) = ("begin", "rollback");
    runtime().block_on(async {
        match family {
            "postgres" => {
                let client = bare_client(port(family), "bench").await;
                for sql in [begin, read, CHANGE, read, back] {
                    black_box(client.simple_query(sql).await.expect("runs"));
                }
            }
            _ => {
                let mut conn = bare_mariadb(family).await;
                for sql in [begin, read, CHANGE, read, back] {
                    let rows: Vec<mysql_async::Row> = conn.query(sql).await.expect("runs");
                    black_box(rows);
                }
            }
        }
    });
}

/// The bare driver, connected.
async fn bare_mariadb(family: &str) -> mysql_async::Conn {
    let options = mysql_async::OptsBuilder::default()
        .ip_or_hostname("127.0.0.1")
        .tcp_port(port(family))
        .user(Some("haven"))
        .pass(Some(SECRET))
        .db_name(Some("bench"))
        .prefer_socket(false);
    mysql_async::Conn::new(options).await.expect("connects")
}

fn export(family: &str, dir: &Path) {
    let mut connection = connect(&url(family, port(family)));
    let file = Replacing::begin(&dir.join("out.csv")).expect("begun");
    let file = Arc::new(std::sync::Mutex::new(Some(file)));
    let mut sink = Streaming::new(Layout::of(&CSV), Shared(Arc::clone(&file)));
    connection.run(1, QUERY, &mut sink).expect("runs");
    Sink::end(&mut sink).expect("ends");
    let whole = file.lock().expect("file").take().expect("file");
    assert!(whole.commit().expect("in place") > 50_000_000);
}

/// The bare driver: copy where there is one, else inserts of a thousand rows in one transaction.
fn put(family: &str, dir: &Path) {
    let text = std::fs::read_to_string(dir.join("rows.csv")).expect("there");
    runtime().block_on(async {
        if family == "postgres" {
            use futures_util::SinkExt;
            let client = bare_client(port(family), "bench").await;
            client
                .batch_execute("drop table if exists loaded")
                .await
                .expect("gone");
            client
                .batch_execute(crate::travel::MAKE)
                .await
                .expect("made");
            let into = client
                .copy_in("copy loaded from stdin (format csv, header)")
                .await;
            let mut into = pin!(into.expect("begun"));
            for part in text.as_bytes().chunks(64 * 1024) {
                into.send(bytes::Bytes::copy_from_slice(part))
                    .await
                    .expect("sent");
            }
            assert_eq!(into.finish().await.expect("in"), 1_000_000);
            return;
        }
        let mut conn = bare_mariadb(family).await;
        let make = crate::travel::MAKE.replace("timestamp", "datetime");
        for sql in ["drop table if exists loaded", &make, "begin"] {
            conn.query_drop(sql).await.expect("done");
        }
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let mut record = csv::StringRecord::new();
        let mut statement = String::new();
        let mut count = 0;
        while reader.read_record(&mut record).expect("a row") {
            statement.push_str(if statement.is_empty() {
                "insert into loaded values ("
            } else {
                ", ("
            });
            for (at, value) in record.iter().enumerate() {
                let comma = if at > 0 { ", " } else { "" };
                statement.push_str(comma);
                match (at, value) {
                    (_, "") => statement.push_str("null"),
                    (0 | 4 | 5 | 6, number) => statement.push_str(number),
                    (_, text) => {
                        statement.push('\'');
                        statement.push_str(text);
                        statement.push('\'');
                    }
                }
            }
            statement.push(')');
            count += 1;
            if count % 1_000 == 0 {
                conn.query_drop(&statement).await.expect("in");
                statement.clear();
            }
        }
        conn.query_drop("commit").await.expect("kept");
    });
}

fn runtime() -> tokio::runtime::Runtime {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .expect("a runtime")
}

/// What a value is read as: two are integers, two floats, the rest texts.
fn read(at: usize, text: &str) -> u64 {
    match at {
        0 | 6 => text.parse::<i64>().expect("an integer") as u64,
        4 | 5 => text.parse::<f64>().expect("a float") as u64,
        _ => text.len() as u64,
    }
}

/// The bare driver's loop; with `first` it notes when the first row came, and ends.
fn postgres(port: u16, first: Option<&mut (Duration, Duration)>) {
    runtime().block_on(async {
        let start = Instant::now();
        let client = bare_client(port, "bench").await;
        let opened = start.elapsed();
        let start = Instant::now();
        let mut rows = pin!(client.simple_query_raw(QUERY).await.expect("runs"));
        let mut total = 0_u64;
        while let Some(message) = rows.next().await {
            if let SimpleQueryMessage::Row(row) = message.expect("a row") {
                if let Some(first) = first {
                    *first = (opened, start.elapsed());
                    return;
                }
                for at in 0..row.len() {
                    if let Some(text) = row.get(at) {
                        total = total.wrapping_add(black_box(read(at, text)));
                    }
                }
            }
        }
        black_box(total);
    });
}

fn mariadb(port: u16, first: Option<&mut (Duration, Duration)>) {
    runtime().block_on(async {
        let start = Instant::now();
        let options = mysql_async::OptsBuilder::default()
            .ip_or_hostname("127.0.0.1")
            .tcp_port(port)
            .user(Some("haven"))
            .pass(Some(SECRET))
            .db_name(Some("bench"))
            .prefer_socket(false);
        let mut conn = mysql_async::Conn::new(options).await.expect("connects");
        let opened = start.elapsed();
        let start = Instant::now();
        let mut result = conn.query_iter(QUERY).await.expect("runs");
        let mut total = 0_u64;
        while let Some(row) = result.next().await.expect("a row") {
            if let Some(first) = first {
                *first = (opened, start.elapsed());
                return;
            }
            for at in 0..row.len() {
                if let Some(mysql_async::Value::Bytes(bytes)) = row.as_ref(at) {
                    let text = std::str::from_utf8(bytes).expect("text");
                    total = total.wrapping_add(black_box(read(at, text)));
                }
            }
        }
        black_box(total);
    });
}

/// A link that holds everything back for a while, in both directions.
fn delayed(to: u16, by: Duration) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("an address").port();
    std::thread::spawn(move || {
        for near in listener.incoming().flatten() {
            let far = TcpStream::connect(("127.0.0.1", to)).expect("the server");
            for stream in [&near, &far] {
                stream.set_nodelay(true).expect("set");
            }
            let pairs = [
                (
                    near.try_clone().expect("clones"),
                    far.try_clone().expect("clones"),
                ),
                (far, near),
            ];
            for (mut from, mut to) in pairs {
                let (sender, receiver) = std::sync::mpsc::channel::<(Instant, Vec<u8>)>();
                std::thread::spawn(move || {
                    let mut bytes = [0; 65_536];
                    while let Ok(count @ 1..) = from.read(&mut bytes) {
                        if sender
                            .send((Instant::now() + by, bytes[..count].to_vec()))
                            .is_err()
                        {
                            return;
                        }
                    }
                });
                std::thread::spawn(move || {
                    for (at, bytes) in receiver {
                        std::thread::sleep(at.saturating_duration_since(Instant::now()));
                        if to.write_all(&bytes).is_err() {
                            return;
                        }
                    }
                    let _ = to.shutdown(std::net::Shutdown::Both);
                });
            }
        }
    });
    port
}

/// When the first rows come.
struct First(Instant, Option<Duration>);

impl Sink for First {
    fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: idle_tide_core::RowBatch) -> std::io::Result<()> {
        self.1 = self.1.or(Some(self.0.elapsed()));
        Err(std::io::Error::other("enough"))
    }
}

fn median(mut list: Vec<Duration>) -> Duration {
    list.sort();
    list[list.len() / 2]
}

/// Prints when first rows come, and how many round trips opening takes, beside the bare driver.
pub fn report() {
    println!("\n| what | ours, median | bare, median | |\n|---|---|---|---|");
    for family in ["postgres", "mariadb", "mysql"] {
        if !is_there(family) {
            continue;
        }
        let (mut ours, mut bare) = (Vec::new(), Vec::new());
        for _ in 0..9 {
            let mut first = Default::default();
            match family {
                "postgres" => postgres(port(family), Some(&mut first)),
                _ => mariadb(port(family), Some(&mut first)),
            }
            bare.push(first.1);
            let mut connection = connect(&url(family, port(family)));
            let mut sink = First(Instant::now(), None);
            let _ = connection.run(1, QUERY, &mut sink);
            ours.push(sink.1.expect("rows"));
        }
        let (ours, bare) = (median(ours), median(bare));
        let bound = bare.mul_f64(1.2) + Duration::from_millis(17);
        println!(
            "| {family}: first rows of a million | {:.1} ms | {:.1} ms | bound 1.2 times and a frame: {:.1} ms{} |",
            ours.as_secs_f64() * 1e3,
            bare.as_secs_f64() * 1e3,
            bound.as_secs_f64() * 1e3,
            if ours > bound { " above" } else { "" }
        );
        // There and back takes a tenth of a second: what is more than the bare driver are round trips.
        let slow = delayed(port(family), Duration::from_millis(50));
        let start = Instant::now();
        let mut connection = connect(&url(family, slow));
        connection.bearings();
        let ours = start.elapsed();
        let mut first = Default::default();
        match family {
            "postgres" => postgres(slow, Some(&mut first)),
            _ => mariadb(slow, Some(&mut first)),
        }
        println!(
            "| {family}: opening over a link of 50 ms each way | {:.0} ms | {:.0} ms | {:.1} round trips more; bound 1 |",
            ours.as_secs_f64() * 1e3,
            first.0.as_secs_f64() * 1e3,
            (ours.as_secs_f64() - first.0.as_secs_f64()) / 0.1
        );
        let change = "update big set crew = crew + 1 where id between 500 and 509 and crew < 99";
        let held = hold(family, slow, change, Writes::Ask);
        let free = hold(family, slow, change, Writes::Free);
        println!(
            "| {family}: an update of 10 rows of a million that is looked at, and one that is not, over that link | {:.0} ms | {:.0} ms | {:.1} round trips more; bound 2 |",
            held.as_secs_f64() * 1e3,
            free.as_secs_f64() * 1e3,
            (held.as_secs_f64() - free.as_secs_f64()) / 0.1
        );
    }
}
