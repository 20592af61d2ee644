//! The work of the measurements on documents, ours and bare: in files, evaluated, and from the practice server, which runs in the process
//! that measures.

use std::borrow::Cow;
use std::collections::HashMap;
use std::fs::File;
use std::hint::black_box;
use std::io::{BufRead, BufReader, BufWriter, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Instant;

use futures_util::TryStreamExt;
use idle_tide_core::document::extended::{Form, text};
use idle_tide_core::document::time::TimeZone;
use idle_tide_core::document::{Datum, Document, bson};
use idle_tide_desk::export::{Replacing, Streaming};
use idle_tide_dock::flow::{Chain, Context, FlowError, Limits, Places};
use idle_tide_dock::server::{Listening, Server, Settings, Store, listen};
use idle_tide_draw::Layout;
use idle_tide_draw::export::JSON_LINES;
use idle_tide_engines::{OpenOptions, Silent, Source, open};
use idle_tide_lang::flow::ast::{Path as FieldPath, Statement};
use idle_tide_lang::flow::parse;

use crate::work::Shared;

const DOCUMENTS: u64 = 1_000_000;
const DATABASE: &str = "bench";
const COLLECTION: &str = "big";
/// Where the children learn the ports: the practice server's and the echo's.
const PORTS: &str = "ports";
const LINKS: usize = 100;
const QUERIES: usize = 200;

fn document(n: u64) -> Document {
    let line = |at: u64| {
        let species = ["bass", "sole", "plaice", "whiting", "crab"][(n + at) as usize % 5];
        Datum::Object(
            Document::new()
                .with("species", species)
                .with("kg", ((n * 31 + at * 17) % 900) as f64 / 10.0),
        )
    };
    let mut made = Document::new()
        .with("_id", Datum::Int(n as i32))
        .with("number", Datum::Long(n as i64))
        .with(
            "landed",
            Datum::Date(1_924_992_000_000 + n as i64 * 600_000),
        )
        .with("port", format!("port {}", n * 7919 % 480).as_str())
        .with("quay", format!("quay {}", n * 104_729 % 100_003).as_str())
        .with("dues", (n * 13 % 96_000) as f64 / 7.0)
        .with("crew", Datum::Int((n % 14) as i32))
        .with(
            "skipper",
            Document::new()
                .with("name", "Ada Merrow")
                .with("years", Datum::Int((n / 480 % 40) as i32)),
        )
        .with("lines", Datum::List((0..n % 3).map(line).collect()));
    if !n.is_multiple_of(5) {
        made.set("note", "alongside, dries at low water");
    }
    made
}

/// The servers that the children ask; they end with this process.
pub struct Harbour {
    _practice: Listening,
}

/// Makes the files, and starts the practice server and an echo that answers with frames of the same size.
pub fn prepare(dir: &Path) -> Harbour {
    let make =
        |name: &str| BufWriter::with_capacity(1 << 20, File::create(dir.join(name)).expect("made"));
    let (mut lines, mut dump) = (make("big.jsonl"), make("big.bson"));
    let mut held = Vec::with_capacity(DOCUMENTS as usize);
    for n in 1..=DOCUMENTS {
        let document = document(n);
        let bytes = bson::encode(&document);
        dump.write_all(&bytes).expect("written");
        lines
            .write_all(text(&bytes, Form::Lossless).as_bytes())
            .expect("written");
        lines.write_all(b"\n").expect("written");
        held.push(document);
    }
    lines.flush().expect("written");
    dump.flush().expect("written");
    let mut store = Store::default();
    store.fill(DATABASE, COLLECTION, held).expect("filled");
    let practice = listen(Server::new(store, Settings::default()), 0, None).expect("listens");
    let mut link = TcpStream::connect(practice.address).expect("connects");
    link.write_all(&question(1, 4711)).expect("sent");
    let answer = frame(&mut link);
    let echo = TcpListener::bind(("127.0.0.1", 0)).expect("listens");
    let ports = format!(
        "{} {}",
        practice.address.port(),
        echo.local_addr().expect("an address").port()
    );
    std::fs::write(dir.join(PORTS), ports).expect("written");
    std::thread::spawn(move || {
        for stream in echo.incoming() {
            let (mut stream, answer) = (stream.expect("a link"), answer.clone());
            let _ = stream.set_nodelay(true);
            std::thread::spawn(move || {
                let mut room = vec![0; 64 * 1024];
                while stream.read(&mut room).is_ok_and(|count| count > 0)
                    && stream.write_all(&answer).is_ok()
                {}
            });
        }
    });
    Harbour {
        _practice: practice,
    }
}

fn ports(dir: &Path) -> (u16, u16) {
    let text = std::fs::read_to_string(dir.join(PORTS)).expect("prepared");
    let mut words = text
        .split_whitespace()
        .map(|word| word.parse().expect("a port"));
    (
        words.next().expect("a port"),
        words.next().expect("two ports"),
    )
}

/// Does the work of this name, if it is one of these; the seconds that count, if these are not all of them.
pub fn run(name: &str, dir: &Path) -> Option<Option<f64>> {
    match name {
        "documents:json" => read_ours(&dir.join("big.jsonl")),
        "documents:json-bare" => {
            let mut file = reader(&dir.join("big.jsonl"));
            let (mut line, mut count) = (Vec::new(), 0_u64);
            while file.read_until(b'\n', &mut line).expect("read") > 0 {
                let value: serde_json::Value = serde_json::from_slice(&line).expect("JSON");
                black_box(&value);
                count += 1;
                line.clear();
            }
            assert_eq!(count, DOCUMENTS);
        }
        "documents:bson" => read_ours(&dir.join("big.bson")),
        "documents:bson-bare" => {
            let mut file = reader(&dir.join("big.bson"));
            for _ in 0..DOCUMENTS {
                let value = mongodb::bson::Document::from_reader(&mut file).expect("BSON");
                black_box(&value);
            }
        }
        "documents:few" => return Some(Some(evaluated(dir, "port"))),
        "documents:few-bare" => return Some(Some(by_hand(dir, "port"))),
        "documents:many" => return Some(Some(evaluated(dir, "quay"))),
        "documents:many-bare" => return Some(Some(by_hand(dir, "quay"))),
        "documents:export" => export(dir),
        "documents:drive" => drive::<mongodb::bson::Document>(dir),
        "documents:drive-raw" => drive::<mongodb::bson::RawDocumentBuf>(dir),
        "documents:queries" => return Some(Some(asked(ports(dir).0))),
        "documents:echo" => return Some(Some(asked(ports(dir).1))),
        _ => return None,
    }
    Some(None)
}

fn reader(path: &Path) -> BufReader<File> {
    BufReader::with_capacity(256 * 1024, File::open(path).expect("opens"))
}

fn read_ours(path: &Path) {
    let mut count = 0_u64;
    idle_tide_dock::files::read::<std::convert::Infallible>(
        path,
        &mut |document| {
            black_box(&document);
            count += 1;
            Ok(true)
        },
        None,
    )
    .expect("reads");
    assert_eq!(count, DOCUMENTS);
}

fn parsed(dir: &Path) -> Vec<Document> {
    let mut held = Vec::new();
    idle_tide_dock::files::read::<std::convert::Infallible>(
        &dir.join("big.bson"),
        &mut |document| {
            held.push(document);
            Ok(true)
        },
        None,
    )
    .expect("reads");
    held
}

struct Alone;

impl Places for Alone {
    fn read(
        &mut self,
        _: &str,
        _: &mut dyn FnMut(Document) -> Result<bool, FlowError>,
    ) -> Result<(), String> {
        Err("alone".into())
    }
    fn save(
        &mut self,
        _: &str,
        _: Vec<Document>,
        _: Option<&FieldPath>,
        _: bool,
    ) -> Result<(), String> {
        Err("alone".into())
    }
    fn raw(&mut self, _: &[Datum], _: Vec<Document>) -> Result<Vec<Document>, String> {
        Err("alone".into())
    }
}

/// A flow over parsed documents; the seconds without the reading.
fn evaluated(dir: &Path, key: &str) -> f64 {
    let held = parsed(dir);
    let start = Instant::now();
    let flow = format!(
        "from big where skipper.years >= 10 and port <> 'port 7' group by {key} {{ n: count(), dues: sum(dues), largest: max(crew) }} order by dues desc, {key}"
    );
    let Ok(Statement::Flow(flow)) = parse(&flow, &TimeZone::UTC).whole() else {
        panic!("a flow")
    };
    let mut chain = Chain::new(
        &flow.stages,
        &Context::default(),
        Limits::default(),
        &mut Alone,
    )
    .expect("prepared");
    let mut out = Vec::new();
    let mut sink = |document: Cow<'_, Document>| {
        out.push(document.into_owned());
        Ok(true)
    };
    for document in &held {
        chain
            .take(Cow::Borrowed(document), &mut sink)
            .expect("taken");
    }
    chain.end(&mut sink, &mut Alone).expect("ends");
    let seconds = start.elapsed().as_secs_f64();
    assert!(out.len() > 400);
    black_box(out);
    seconds
}

/// The same by a loop over the same parsed documents.
fn by_hand(dir: &Path, key: &str) -> f64 {
    let held = parsed(dir);
    let start = Instant::now();
    let mut groups: HashMap<&str, (u64, f64, i64)> = HashMap::new();
    for document in &held {
        let years = document
            .get("skipper")
            .and_then(Datum::as_object)
            .and_then(|skipper| skipper.get("years"))
            .and_then(Datum::as_f64);
        if years.is_none_or(|years| years < 10.0)
            || document.get("port").and_then(Datum::as_text) == Some("port 7")
        {
            continue;
        }
        let Some(name) = document.get(key).and_then(Datum::as_text) else {
            continue;
        };
        let group = groups.entry(name).or_insert((0, 0.0, i64::MIN));
        group.0 += 1;
        group.1 += document.get("dues").and_then(Datum::as_f64).unwrap_or(0.0);
        let crew = document.get("crew").and_then(Datum::as_i64);
        group.2 = group.2.max(crew.unwrap_or(i64::MIN));
    }
    let mut list: Vec<_> = groups.into_iter().collect();
    list.sort_by(|a, b| b.1.1.total_cmp(&a.1.1).then_with(|| a.0.cmp(b.0)));
    let out: Vec<Document> = list
        .into_iter()
        .map(|(name, (n, dues, largest))| {
            Document::new()
                .with(key, name)
                .with("n", Datum::integer(n as i64))
                .with("dues", dues)
                .with("largest", Datum::integer(largest))
        })
        .collect();
    let seconds = start.elapsed().as_secs_f64();
    assert!(out.len() > 400);
    black_box(out);
    seconds
}

/// Our engine from the practice server into a file of JSON lines.
fn export(dir: &Path) {
    let url = format!("mongodb://127.0.0.1:{}/{DATABASE}", ports(dir).0);
    let source = Source::parse(&url).expect("an address");
    let mut connection = open(&source, OpenOptions::default(), &Silent).expect("opens");
    let file = Replacing::begin(&dir.join("out.jsonl")).expect("begun");
    let file = Arc::new(Mutex::new(Some(file)));
    let mut sink = Streaming::new(Layout::of(&JSON_LINES), Shared(Arc::clone(&file)));
    connection
        .run(1, &format!("from {COLLECTION}"), &mut sink)
        .expect("runs");
    idle_tide_engines::Sink::end(&mut sink).expect("ends");
    let whole = file.lock().expect("file").take().expect("file");
    assert!(whole.commit().expect("in place") > 100_000_000);
}

/// The bare driver's loop: every document is decoded, or its bytes taken as they are, and nothing is formatted.
fn drive<T>(dir: &Path)
where
    T: serde::de::DeserializeOwned + Unpin + Send + Sync,
{
    let url = format!("mongodb://127.0.0.1:{}/{DATABASE}", ports(dir).0);
    let work = async {
        let client = mongodb::Client::with_uri_str(url).await.expect("connects");
        let collection = client.database(DATABASE).collection::<T>(COLLECTION);
        let mut cursor = collection
            .find(mongodb::bson::doc! {})
            .await
            .expect("finds");
        let mut count = 0;
        while let Some(document) = cursor.try_next().await.expect("reads") {
            black_box(&document);
            count += 1;
        }
        assert_eq!(count, DOCUMENTS);
    };
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .expect("a runtime")
        .block_on(work);
}

fn question(number: i32, id: i32) -> Vec<u8> {
    let command = Document::new()
        .with("find", COLLECTION)
        .with("filter", Document::new().with("_id", Datum::Int(id)))
        .with("limit", Datum::Int(1))
        .with("singleBatch", true)
        .with("$db", DATABASE);
    let mut message = vec![0; 16];
    message.extend_from_slice(&[0; 5]);
    bson::write(&command, &mut message);
    let length = message.len() as u32;
    message[..4].copy_from_slice(&length.to_le_bytes());
    message[4..8].copy_from_slice(&number.to_le_bytes());
    message[12..16].copy_from_slice(&2013_u32.to_le_bytes());
    message
}

fn frame(link: &mut TcpStream) -> Vec<u8> {
    let mut answer = vec![0; 4];
    link.read_exact(&mut answer).expect("an answer");
    let length = u32::from_le_bytes([answer[0], answer[1], answer[2], answer[3]]) as usize;
    answer.resize(length, 0);
    link.read_exact(&mut answer[4..]).expect("an answer");
    answer
}

/// Point queries over a hundred links at the same time; the seconds that they take.
fn asked(port: u16) -> f64 {
    let mut links: Vec<TcpStream> = (0..LINKS)
        .map(|_| {
            let link = TcpStream::connect(("127.0.0.1", port)).expect("connects");
            link.set_nodelay(true).expect("set");
            link
        })
        .collect();
    let start = Instant::now();
    for round in 0..QUERIES {
        for (at, link) in links.iter_mut().enumerate() {
            let id = (round * 7919 + at * 104_729) as i32 % 1_000_000 + 1;
            link.write_all(&question(round as i32, id)).expect("sent");
        }
        for link in &mut links {
            assert!(frame(link).len() > 200);
        }
    }
    start.elapsed().as_secs_f64()
}
