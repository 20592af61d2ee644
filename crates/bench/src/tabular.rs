//! A million rows over the Tabular Data Stream, ours and the bare driver's: a server that has its answer ready sends the
//! same bytes to both, so that only the reading ends differ.

use std::hint::black_box;
use std::io::Write;
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::time::Instant;

use futures_util::TryStreamExt;
use idle_tide_desk::export::{Replacing, Streaming};
use idle_tide_draw::Layout;
use idle_tide_draw::export::CSV;
use idle_tide_engines::{OpenOptions, Silent, Sink, Source, open};
use idle_tide_tabular::login::{Encryption, Prelogin, VERSION};
use idle_tide_tabular::packet::{kind, packets, read_message};
use idle_tide_tabular::token::{
    DoneOf, put_columns, put_done, put_environment, put_login, put_row,
};
use idle_tide_tabular::types::id;
use idle_tide_tabular::{Done, Environment, Field, TypeInfo, Value};
use tiberius::{AuthMethod, Client, ColumnData, Config, EncryptionLevel, QueryItem};
use tokio_util::compat::TokioAsyncWriteCompatExt;

use crate::work::Shared;

const ROWS: i64 = 1_000_000;
const SIZE: usize = 16_000;

fn done(rows: u64) -> Done {
    Done {
        of: DoneOf::Statement,
        status: Done::COUNT,
        command: Done::SELECT,
        rows,
    }
}

fn field(name: &str, info: TypeInfo) -> Field {
    Field {
        name: name.into(),
        info,
        nullable: true,
    }
}

/// The rows, as one message: whole numbers, moments, texts, decimals, floats, nulls.
fn rows() -> Vec<u8> {
    let fields = [
        field("id", TypeInfo::of(id::INTN, 8)),
        field("at", TypeInfo::scaled(id::DATETIME2, 0)),
        field("vessel", TypeInfo::of(id::NVARCHAR, 80)),
        field("quay", TypeInfo::of(id::NVARCHAR, 80)),
        field("draught", TypeInfo::decimal(9, 2)),
        field("dues", TypeInfo::of(id::FLOATN, 8)),
        field("crew", TypeInfo::of(id::INTN, 4)),
        field("note", TypeInfo::of(id::NVARCHAR, 80)),
    ];
    let mut out = Vec::with_capacity(200 << 20);
    put_columns(&fields, &mut out);
    for n in 1..=ROWS {
        let at = format!("2031-01-{:02} {:02}:{:02}:00", 1 + n % 28, n % 24, n % 60);
        let (vessel, quay) = (
            format!("Vessel {}", n * 7919 % 480),
            format!("quay {}", n * 104_729 % 100_003),
        );
        let draught = format!("{}.{:02}", n % 4, n % 100);
        let note = match n % 5 {
            0 => Value::Null,
            1 => Value::Text("dries, at low water"),
            _ => Value::Text("alongside"),
        };
        let values = [
            Value::Integer(n),
            Value::Text(&at),
            Value::Text(&vessel),
            Value::Text(&quay),
            Value::Number(&draught),
            Value::Float((n * 13 % 96_000) as f64 / 7.0),
            Value::Integer(n % 14),
            note,
        ];
        put_row(&fields, values, &mut out).expect("fits");
    }
    put_done(done(ROWS as u64), &mut out);
    packets(kind::ANSWER, &out, SIZE)
}

/// What stands in the bearings.
fn bearings() -> Vec<u8> {
    let fields: Vec<Field> = (0..16)
        .map(|_| field("x", TypeInfo::of(id::NVARCHAR, 80)))
        .collect();
    let mut out = Vec::new();
    put_columns(&fields, &mut out);
    put_row(&fields, (0..16).map(|_| Value::Text("16")), &mut out).expect("fits");
    put_done(done(1), &mut out);
    packets(kind::ANSWER, &out, SIZE)
}

fn message(stream: &mut TcpStream) -> Option<Vec<u8>> {
    read_message(stream, 1 << 20)
        .ok()
        .map(|(_, message)| message)
}

fn serve(mut stream: TcpStream, rows: &[u8]) -> Option<()> {
    message(&mut stream)?;
    let hello = Prelogin {
        version: (16, 0, 1),
        encryption: Encryption::None,
    };
    stream
        .write_all(&packets(kind::ANSWER, &hello.encode(), 4096))
        .ok()?;
    message(&mut stream)?;
    let mut login = Vec::new();
    put_login(VERSION, "a server", (16, 0, 1), &mut login);
    put_environment(&Environment::PacketSize(SIZE), "4096", &mut login);
    put_done(
        Done {
            status: 0,
            ..done(0)
        },
        &mut login,
    );
    stream
        .write_all(&packets(kind::ANSWER, &login, 4096))
        .ok()?;
    loop {
        let asked = message(&mut stream)?;
        let about_rows = asked.windows(6).any(|part| part == *b"b\0i\0g\0");
        stream.write_all(if about_rows { rows } else { &[] }).ok()?;
        if !about_rows {
            stream.write_all(&bearings()).ok()?;
        }
    }
}

fn ours(port: u16, dir: &Path) {
    let source = Source::parse(&format!("tds://haven:x@127.0.0.1:{port}/bench?tls=off"));
    let mut connection = open(
        &source.expect("an address"),
        OpenOptions::default(),
        &Silent,
    )
    .unwrap_or_else(|error| panic!("{error}"));
    let file = Replacing::begin(&dir.join("out.csv")).expect("begun");
    let file = Arc::new(std::sync::Mutex::new(Some(file)));
    let mut sink = Streaming::new(Layout::of(&CSV), Shared(Arc::clone(&file)));
    connection
        .run(1, "select * from big", &mut sink)
        .expect("runs");
    Sink::end(&mut sink).expect("ends");
    let whole = file.lock().expect("file").take().expect("file");
    assert!(whole.commit().expect("in place") > 50_000_000);
}

fn bare(port: u16) {
    let runtime = tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .expect("a runtime");
    runtime.block_on(async {
        let mut config = Config::new();
        config.host("127.0.0.1");
        config.port(port);
        config.authentication(AuthMethod::sql_server("haven", "x"));
        config.encryption(EncryptionLevel::NotSupported);
        let stream = tokio::net::TcpStream::connect(("127.0.0.1", port))
            .await
            .expect("reached");
        stream.set_nodelay(true).expect("set");
        let mut client = Client::connect(config, stream.compat_write())
            .await
            .expect("in");
        let mut stream = client
            .simple_query("select * from big")
            .await
            .expect("runs");
        let mut count = 0_u64;
        while let Some(item) = stream.try_next().await.expect("a row") {
            if let QueryItem::Row(row) = item {
                for value in row.into_iter() {
                    count += u64::from(!matches!(black_box(value), ColumnData::I64(None)));
                }
            }
        }
        assert!(count > ROWS as u64);
    });
}

/// Measures and prints.
pub fn table(dir: &Path) {
    let rows = Arc::new(rows());
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("a place").port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let rows = Arc::clone(&rows);
            std::thread::spawn(move || serve(stream, &rows));
        }
    });
    let seconds = |work: &dyn Fn()| {
        let began = Instant::now();
        work();
        began.elapsed().as_secs_f64()
    };
    let mut pairs: Vec<(f64, f64)> = (0..7)
        .map(|_| (seconds(&|| ours(port, dir)), seconds(&|| bare(port))))
        .collect();
    pairs.sort_by(|a, b| (a.0 / a.1).total_cmp(&(b.0 / b.1)));
    let (ours, bare) = pairs[pairs.len() / 2];
    println!("| what | ours | bare | ratio, median of pairs | bound |\n|---|---|---|---|---|");
    println!(
        "| 1 M rows of 8 columns over the Tabular Data Stream to CSV | {ours:.2} s | {bare:.2} s | {:.2} | 1.3 |",
        ours / bare
    );
}
