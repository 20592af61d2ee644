//! A session that is played without a screen: what is submitted, what comes back.
#![allow(dead_code)]

use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use idle_tide_desk::{Content, Desk, Entry, Event, Options, State, Writes, sheet};
use idle_tide_engines::sqlite::Sqlite;
use idle_tide_engines::{Connection, Nowhere, OpenOptions, Silent, Source, open};

/// A session in which writes are free, and another connection beside it.
pub struct Session {
    pub desk: Desk,
    pub inbox: Receiver<Event>,
    other: Sqlite,
    pub dir: tempfile::TempDir,
}

impl Session {
    /// Over a file with three berths, which the other connection has open, too.
    pub fn new() -> Self {
        let dir = tempfile::tempdir().expect("a folder");
        let path = dir.path().join("harbour.db");
        std::fs::File::create(&path).expect("makes it");
        let open = |path: &Path| Sqlite::file(path, true, &mut || ()).expect("opens");
        let mut other = open(&path);
        for sql in [
            "create table berths (id integer primary key, port text, metres real)",
            "insert into berths values (1, 'Quay', 20), (2, 'Cove', 12.5), (3, 'Spit', null)",
        ] {
            other.run(0, sql, &mut Nowhere).expect("makes a table");
        }
        Self::arrived(Box::new(open(&path)), other, dir)
    }

    /// Over a folder of documents with this collection as JSON lines.
    pub fn documents(name: &str, lines: &str) -> Self {
        let dir = tempfile::tempdir().expect("a folder");
        std::fs::write(dir.path().join(format!("{name}.jsonl")), lines).expect("written");
        let address = format!("docs:{}", dir.path().display());
        let options = OpenOptions {
            write: true,
            ..OpenOptions::default()
        };
        let source = Source::parse(&address).expect("an address");
        let connection = open(&source, options, &Silent).unwrap_or_else(|e| panic!("{e}"));
        Self::arrived(connection, Sqlite::memory().expect("opens"), dir)
    }

    fn arrived(connection: Box<dyn Connection>, other: Sqlite, dir: tempfile::TempDir) -> Self {
        let (sender, inbox) = channel();
        let options = Options {
            source: "test".into(),
            writes: Writes::Free,
            places: None,
            stream: None,
        };
        let notify = Arc::new(move |event| {
            let _ = sender.send(event);
        });
        let mut session = Session {
            desk: Desk::new(connection, options, notify),
            inbox,
            other,
            dir,
        };
        session.desk.arrive();
        session.until(|desk| desk.entry().is_some_and(|entry| entry.state == State::Done));
        session
    }

    pub fn other(&mut self, sql: &str) {
        self.other
            .run(0, sql, &mut Nowhere)
            .expect("runs elsewhere");
    }

    pub fn until(&mut self, done: impl Fn(&Desk) -> bool) {
        let start = Instant::now();
        while !done(&self.desk) {
            let (entry, notice) = (self.desk.entry(), self.desk.notice());
            assert!(
                start.elapsed() < Duration::from_secs(20),
                "never happened: {entry:?} {notice:?}"
            );
            if let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(20)) {
                self.desk.handle(event);
            }
        }
    }

    pub fn run(&mut self, text: &str) -> &Entry {
        self.desk.submit(text);
        self.until(|desk| !desk.is_busy());
        self.desk.entry().expect("an entry")
    }

    pub fn rows(&self, number: u32) -> Vec<String> {
        let mut entries = self.desk.entries().iter();
        let entry = entries
            .find(|entry| entry.number == number)
            .expect("the entry");
        let set = sheet::read(&entry.sheet().expect("rows").set);
        let row = |at: u64| -> Vec<String> {
            let columns = 0..set.columns().len();
            columns
                .map(|column| set.value(at, column).expect("a value").as_ref().plain())
                .collect()
        };
        (0..set.len()).map(|at| row(at).join("|")).collect()
    }

    pub fn words(&self) -> String {
        self.desk
            .entry()
            .and_then(Entry::head)
            .map_or(String::new(), |page| page.text())
    }

    /// What is refused of a command, in words.
    pub fn refused(&mut self, text: &str) -> String {
        match &self.run(text).content {
            Content::Failure(failure) => failure.headline.clone(),
            other => panic!("{text}: {other:?}"),
        }
    }

    /// The picture shown, once its numbers are those of its result, as text.
    pub fn picture(&mut self, fits: impl Fn(&str) -> bool) -> String {
        let start = Instant::now();
        loop {
            self.desk.renew_chart();
            let chart = self.desk.entry().and_then(Entry::chart).expect("a picture");
            let text = chart
                .scene(70, 16)
                .map_or(String::new(), |scene| scene.text());
            if fits(&text) {
                return text;
            }
            assert!(
                start.elapsed() < Duration::from_secs(20),
                "never so: {text}"
            );
            if let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(20)) {
                self.desk.handle(event);
            }
        }
    }
}
