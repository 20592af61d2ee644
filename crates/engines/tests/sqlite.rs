//! The SQLite engine against real files: what it promises about reading, locks, cancelling and writes.

use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::time::{Duration, Instant};

use idle_tide_core::{Column, Kind, RowBatch, Value};
use idle_tide_engines::sqlite::{Sqlite, make_harbour};
use idle_tide_engines::{Access, Connection, EngineError, Fault, Outcome, Sink};
use idle_tide_lang::correct::Complaint;

#[derive(Default)]
struct Rows {
    columns: Vec<Column>,
    rows: Vec<Vec<Value>>,
    batches: usize,
}

impl Sink for Rows {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.columns = columns;
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.batches += 1;
        let owned = batch
            .rows()
            .map(|row| row.values().map(|v| v.to_owned()).collect());
        self.rows.extend(owned);
        Ok(())
    }
}

fn run(connection: &mut Sqlite, sql: &str) -> Result<(Outcome, Rows), EngineError> {
    let mut rows = Rows::default();
    let outcome = connection.run(1, sql, &mut rows)?;
    Ok((outcome, rows))
}

fn one(connection: &mut Sqlite, sql: &str) -> Value {
    run(connection, sql).expect(sql).1.rows[0][0].clone()
}

fn open(path: &Path, write: bool) -> Result<Sqlite, EngineError> {
    Sqlite::file(path, write, &mut || {})
}

/// Every file of a directory with its bytes and time of change.
fn contents(dir: &Path) -> BTreeMap<String, (Vec<u8>, std::time::SystemTime)> {
    std::fs::read_dir(dir)
        .expect("directory")
        .map(|entry| {
            let entry = entry.expect("entry");
            let time = entry.metadata().and_then(|m| m.modified()).expect("time");
            let bytes = std::fs::read(entry.path()).expect("bytes");
            (
                entry.file_name().to_string_lossy().into_owned(),
                (bytes, time),
            )
        })
        .collect()
}

fn raw(path: &Path, sql: &str) -> rusqlite::Connection {
    let connection = rusqlite::Connection::open(path).expect("opens");
    connection.execute_batch(sql).expect("runs");
    connection
}

const WAL: &str = "pragma journal_mode = wal; pragma wal_autocheckpoint = 0;
    create table t (n); insert into t values (1), (2);";

#[test]
fn reading_changes_no_byte_in_any_journal_mode() {
    // The name needs escapes in an address.
    for case in [
        "rollback",
        "wal at rest?#%",
        "wal in use",
        "wal left behind",
        "wal without index",
    ] {
        let dir = tempfile::tempdir().expect("dir");
        let path = dir.path().join(format!("{case}.db"));
        let mut writer = None;
        match case {
            "rollback" => drop(raw(
                &path,
                "create table t (n); insert into t values (1), (2)",
            )),
            "wal at rest?#%" => drop(raw(&path, WAL)),
            "wal in use" => writer = Some(in_another_process(&path)),
            _ => {
                // A process that died: its files as they were in the middle of use.
                let live = dir.path().join("live.db");
                let busy = raw(&live, WAL);
                for suffix in ["", "-wal", "-shm"] {
                    if case == "wal without index" && suffix == "-shm" {
                        continue;
                    }
                    let from = format!("{}{suffix}", live.display());
                    std::fs::copy(from, format!("{}{suffix}", path.display())).expect("copied");
                }
                drop(busy);
                std::fs::remove_file(&live).expect("removed");
            }
        }
        let before = contents(dir.path());
        let mut reader = open(&path, false).expect(case);
        assert_eq!(
            one(&mut reader, "select count(*) from t"),
            Value::Integer(2),
            "{case}"
        );
        let error = run(&mut reader, "insert into t values (3)")
            .err()
            .expect("refused");
        assert_eq!(error.fault, Fault::ReadOnly, "{case}");
        assert!(error.advice.expect("advice").contains("--write"));
        assert!(matches!(reader.bearings().access, Access::ReadOnly(_)));
        assert!(contents(dir.path()) == before, "{case}: while open");
        drop(reader);
        assert!(contents(dir.path()) == before, "{case}: after closing");
        if let Some(mut writer) = writer {
            drop(writer.stdin.take());
            writer.wait().expect("ends");
        }
    }
}

/// Another process that has written to the file at `path` and keeps it open until its input ends. Within
/// one process SQLite shares the log's index between connections, which would hide what a reader does.
fn in_another_process(path: &Path) -> std::process::Child {
    use std::io::BufRead;
    let mut child = std::process::Command::new(std::env::current_exe().expect("test program"))
        .args(["--ignored", "--exact", "--nocapture", "keeps_a_file_open"])
        .env("KEEP_OPEN", path)
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .expect("starts");
    let output = io::BufReader::new(child.stdout.take().expect("output"));
    let mut lines = output.lines().map_while(Result::ok);
    assert!(lines.any(|line| line.contains("ready")));
    std::thread::spawn(move || lines.count());
    child
}

#[test]
#[ignore = "started by another test as a process of its own"]
fn keeps_a_file_open() {
    let Some(path) = std::env::var_os("KEEP_OPEN") else {
        return;
    };
    let _writer = raw(Path::new(&path), WAL);
    println!("ready");
    let _ = io::stdin().read_line(&mut String::new());
}

#[test]
fn a_file_read_as_it_lies_is_read_again_when_it_changes() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("a.db");
    drop(raw(&path, WAL));
    let mut reader = open(&path, false).expect("opens");
    assert_eq!(
        one(&mut reader, "select count(*) from t"),
        Value::Integer(2)
    );
    let writer = raw(&path, "insert into t values (3)");
    assert_eq!(
        one(&mut reader, "select count(*) from t"),
        Value::Integer(3)
    );
    drop(writer);
    std::fs::remove_file(&path).expect("removed");
    let warnings = reader.bearings().warnings;
    assert!(warnings[0].contains("no longer at"), "{warnings:?}");
}

#[test]
fn files_that_are_no_database_are_named() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("notes.txt");
    std::fs::write(&path, "not a database, but long enough to be one").expect("written");
    let words = |path: &Path| open(path, false).err().expect("refused").message;
    assert!(words(&path).contains("is not a SQLite database"));
    assert!(words(&dir.path().join("none.db")).contains("There is no file"));
    assert!(words(dir.path()).contains("is not a file"));
    // The head of a database and nothing sound after it.
    let mut bytes = b"SQLite format 3\0".to_vec();
    bytes.resize(4096, 7);
    std::fs::write(&path, bytes).expect("written");
    assert_eq!(
        open(&path, false).err().expect("refused").fault,
        Fault::Damaged
    );
}

#[test]
fn a_lock_is_waited_for_within_the_limit_and_can_be_cancelled() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("a.db");
    let holder = raw(&path, "create table t (n)");
    let mut writer = open(&path, true).expect("opens");
    holder.execute_batch("begin exclusive").expect("locked");
    let control = writer.control();
    let watcher = std::thread::spawn(move || {
        let start = Instant::now();
        while control.waiting().is_none() {
            assert!(
                start.elapsed() < Duration::from_secs(5),
                "never seen waiting"
            );
            std::thread::sleep(Duration::from_millis(5));
        }
        control.cancel(1);
    });
    let error = run(&mut writer, "insert into t values (1)")
        .err()
        .expect("cancelled");
    watcher.join().expect("watched");
    assert!(
        matches!(error.fault, Fault::Locked | Fault::Cancelled),
        "{error:?}"
    );
    let start = Instant::now();
    let mut rows = Rows::default();
    let error = writer
        .run(2, "insert into t values (1)", &mut rows)
        .expect_err("locked");
    assert_eq!(error.fault, Fault::Locked);
    assert!(
        (4_900..8_000).contains(&start.elapsed().as_millis()),
        "waited for the limit"
    );
    holder.execute_batch("commit").expect("freed");
    writer
        .run(3, "insert into t values (1)", &mut rows)
        .expect("free again");
}

#[test]
fn an_endless_query_is_cancelled_and_keeps_its_rows() {
    let mut memory = Sqlite::memory().expect("opens");
    let endless =
        "with recursive n (i) as (select 1 union all select i + 1 from n) select i from n";
    let mut attempt = |ticket: u64| {
        let control = memory.control();
        let watcher = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(150));
            control.cancel(ticket);
            Instant::now()
        });
        let mut rows = Rows::default();
        let error = memory
            .run(ticket, endless, &mut rows)
            .expect_err("cancelled");
        let late = watcher.join().expect("asked").elapsed();
        assert_eq!(error.fault, Fault::Cancelled);
        assert!(rows.rows.len() > 1_000, "rows so far are kept");
        late
    };
    // A busy machine may be late; a fault would always be.
    let quick = (7..12).any(|ticket| attempt(ticket) < Duration::from_millis(200));
    assert!(quick, "never within 200 ms");
    assert_eq!(
        one(&mut memory, "select 1"),
        Value::Integer(1),
        "the session goes on"
    );
}

#[test]
fn slow_rows_arrive_one_by_one() {
    let mut memory = Sqlite::memory().expect("opens");
    // Each row costs far more than the time after which rows are handed over.
    let slow = "with recursive r (i) as (select 1 union all select i + 1 from r where i < 4)
        select i, (with recursive n (k) as (select 1 union all select k + 1 from n where k < 2000000 + i)
        select max(k) from n) from r";
    let (_, rows) = run(&mut memory, slow).expect("runs");
    assert_eq!(rows.rows.len(), 4);
    assert!(rows.batches >= 3, "{} batches", rows.batches);
}

#[test]
fn refused_writes_are_refused_by_the_engine() {
    let mut memory = Sqlite::memory().expect("opens");
    run(&mut memory, "create table t (n); create index ti on t (n)").expect("made");
    memory.refuse_writes(true).expect("refuses");
    for sql in [
        "insert into t values (1)",
        "with x as (select 1 as n) insert into t select n from x",
        "with x as (select 1) delete from t",
        "update t set n = 1 returning n",
        "replace into t values (1)",
        "drop table t",
        "create table u (n)",
        "create temp table u (n)",
        "alter table t add column m",
        "pragma query_only = off",
        "pragma QUERY_ONLY(0)",
        "pragma user_version = 7",
        "pragma writable_schema = on",
        "attach ':memory:' as other",
        "create index i on t (n)",
        "reindex",
        "vacuum",
        "explain analyze delete from t",
    ] {
        assert!(run(&mut memory, sql).is_err(), "{sql}");
    }
    assert_eq!(
        one(&mut memory, "select count(*) from t"),
        Value::Integer(0)
    );
    memory.refuse_writes(false).expect("allows");
    let (outcome, _) = run(&mut memory, "insert into t values (1)").expect("allowed");
    assert_eq!((outcome.changed, outcome.new_key), (Some(1), Some(1)));
}

/// A file opened to be read stays as it is, and nothing comes into being beside it, in every way of opening it and
/// whatever is tried: other files, other settings, allowing writes again.
#[test]
fn a_file_opened_to_be_read_is_never_a_way_to_write() {
    let dir = tempfile::tempdir().expect("dir");
    let at = |name: &str| dir.path().join(name);
    drop(raw(
        &at("plain.db"),
        "create table t (n); insert into t values (1)",
    ));
    drop(raw(
        &at("other.db"),
        "create table o (n); insert into o values (7)",
    ));
    let log = raw(
        &at("log.db"),
        "pragma journal_mode = wal; pragma wal_autocheckpoint = 0; create table t (n); insert into t values (1)",
    );
    // With its log and without the log's index: it is read from a private copy.
    let apart = tempfile::tempdir().expect("dir");
    let with_log = apart.path().join("log.db");
    for name in ["log.db", "log.db-wal"] {
        std::fs::copy(at(name), apart.path().join(name)).expect("copied");
    }
    drop(log);
    let before = [contents(dir.path()), contents(apart.path())];
    for path in [at("plain.db"), at("log.db"), with_log.clone()] {
        let name = path.display();
        let mut session = open(&path, false).expect("opens");
        session.refuse_writes(true).expect("refuses");
        session.refuse_writes(false).expect("as the user asked");
        let attach = |other: &str| format!("attach '{}' as o", at(other).display());
        for sql in [
            "insert into t values (2)".to_string(),
            "pragma query_only = off".into(),
            "pragma journal_mode = delete".into(),
            format!("vacuum into '{}'", at("new.db").display()),
            attach("none.db"),
            attach("log.db"),
            format!("attach '{}' as o", with_log.display()),
            format!("attach 'file:{}?mode=rwc' as o", at("new.db").display()),
            format!("attach '{}' || '' as o", at("log.db").display()),
        ] {
            let error = run(&mut session, &sql).map(|_| ()).expect_err(&sql);
            assert_eq!(error.fault, Fault::ReadOnly, "{name}: {sql}: {error:?}");
        }
        // Another plain file is read beside it, and not written.
        run(&mut session, &attach("other.db")).expect("attached");
        assert_eq!(one(&mut session, "select n from o.o"), Value::Integer(7));
        assert!(run(&mut session, "insert into o.o values (8)").is_err());
        assert_eq!(
            one(&mut session, "select count(*) from t"),
            Value::Integer(1)
        );
    }
    assert_eq!([contents(dir.path()), contents(apart.path())], before);
}

#[test]
fn errors_carry_their_place_and_meaning() {
    let mut memory = Sqlite::memory().expect("opens");
    run(
        &mut memory,
        "create table visits (id integer primary key, berth_id not null)",
    )
    .expect("made");
    let mut error = |sql: &str| run(&mut memory, sql).err().expect(sql);
    let e = error("select v.bert_id from visits v");
    assert_eq!(e.complaint, Complaint::NoSuchColumn("v.bert_id".into()));
    assert_eq!((e.offset, e.code.as_str()), (Some(7), "SQLITE_ERROR 1"));
    assert_eq!(
        error("insert into visits (x) values (1)").complaint,
        Complaint::NoSuchColumn("x".into())
    );
    assert_eq!(
        error("select * form visits").complaint,
        Complaint::Syntax("form".into())
    );
    assert_eq!(error("select (1").complaint, Complaint::Incomplete);
    assert_eq!(
        error("select 'a").complaint,
        Complaint::BadToken("'a".into())
    );
    assert!(
        error("insert into visits values (1, null)")
            .advice
            .expect("words")
            .contains("berth_id of visits")
    );
    assert!(error("select :who").advice.expect("words").contains(":who"));
    assert_eq!(error("select 1\0").offset, Some(8));
}

#[test]
fn hostile_data_arrives_whole() {
    let mut memory = Sqlite::memory().expect("opens");
    let value = one(&mut memory, "select cast(x'ff61' as text)");
    assert_eq!(value, Value::RawText(vec![0xff, 0x61]));
    let wide: Vec<String> = (0..2_000).map(|n| format!("{n} as c{n}")).collect();
    let (_, rows) =
        run(&mut memory, &format!("select {}", wide.join(", "))).expect("2 000 columns");
    assert_eq!(
        (rows.columns.len(), &rows.rows[0][1_999]),
        (2_000, &Value::Integer(1_999))
    );
    let long = format!("select '{}'", "x".repeat(1_000_000));
    assert_eq!(one(&mut memory, &long), Value::Text("x".repeat(1_000_000)));
    run(
        &mut memory,
        "create table t (n); create view v as select n from t; drop table t",
    )
    .expect("made");
    let catalog = memory.describe().catalog(1, &mut |_| {}).expect("read");
    let view = catalog.table("v").expect("listed");
    assert!(
        view.broken
            .as_ref()
            .expect("broken")
            .contains("no such table"),
        "{view:?}"
    );
}

#[test]
fn the_harbour_is_made_and_described() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("harbour.db");
    make_harbour(&path, &idle_tide_harbour::Settings::default()).expect("made");
    let mut harbour = open(&path, true).expect("opens");
    assert_eq!(
        one(
            &mut harbour,
            "select count(*) from pragma_foreign_key_check"
        ),
        Value::Integer(0)
    );
    let mut catalog = harbour.describe().catalog(1, &mut |_| {}).expect("read");
    harbour
        .describe()
        .count_rows(1, &mut catalog, Duration::from_secs(20));
    let tables = catalog.tables().filter(|o| o.kind != Kind::View).count();
    assert!((20..25).contains(&tables), "{tables} tables");
    let visits = catalog.table("VISITS").expect("visits");
    assert_eq!(visits.rows, Some(12_000));
    assert_eq!(visits.comment.as_deref(), Some("one stay of one vessel"));
    assert_eq!(
        visits.field("berth_id").and_then(|f| f.comment.as_deref()),
        Some("where the vessel lay")
    );
    assert_eq!(
        visits.field("crew").and_then(|f| f.comment.as_deref()),
        None
    );
    assert_eq!(
        visits.link_of("vessel_id").map(|l| l.table.as_str()),
        Some("vessels")
    );
    assert!(
        visits
            .indexes
            .iter()
            .any(|i| i.name == "one_per_tide" && i.unique && i.columns == ["berth_id", "arrived"])
    );
    assert_eq!(
        catalog
            .referring(catalog.table("visits").expect("there"))
            .count(),
        4
    );
    assert_eq!(
        catalog.table("hull_surveys").map(|o| o.fields.len()),
        Some(60)
    );
    assert!(
        catalog
            .objects
            .iter()
            .any(|o| o.helper && o.name.starts_with("notices_"))
    );
    let (_, rows) = run(
        &mut harbour,
        "select v.name, q.name, count(*) n from vessels v, quays q",
    )
    .expect("runs");
    assert_eq!(
        rows.columns[0].origin,
        Some(("vessels".into(), "name".into()))
    );
    assert_eq!(
        (rows.columns[0].optional, rows.columns[2].optional),
        (Some(false), None)
    );
}

#[test]
fn ten_writers_lose_no_row_silently() {
    const WRITERS: i64 = 10;
    const ROWS: i64 = 200;
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("shared.db");
    drop(raw(
        &path,
        "pragma synchronous = off; create table t (writer, n)",
    ));
    let writers: Vec<_> = (0..WRITERS)
        .map(|writer| {
            let path = path.clone();
            std::thread::spawn(move || {
                let mut connection = open(&path, true).expect("opens");
                run(&mut connection, "pragma synchronous = off").expect("set");
                let mut failed = 0;
                for n in 0..ROWS {
                    match run(
                        &mut connection,
                        &format!("insert into t values ({writer}, {n})"),
                    ) {
                        Ok((outcome, _)) => assert_eq!(outcome.changed, Some(1)),
                        Err(error) => {
                            assert_eq!(error.fault, Fault::Locked, "{error:?}");
                            failed += 1;
                        }
                    }
                }
                failed
            })
        })
        .collect();
    let failed: i64 = writers.into_iter().map(|w| w.join().expect("ended")).sum();
    let mut reader = open(&path, false).expect("opens");
    let stored = one(&mut reader, "select count(*) from t");
    assert_eq!(
        stored,
        Value::Integer(WRITERS * ROWS - failed),
        "{failed} were reported"
    );
}

#[test]
fn a_run_that_was_cancelled_before_it_began_does_not_begin() {
    let mut memory = Sqlite::memory().expect("opens");
    run(&mut memory, "create table t (n); insert into t values (1)").expect("made");
    memory.control().cancel(9);
    let error = memory
        .run(9, "delete from t", &mut Rows::default())
        .expect_err("cancelled");
    assert_eq!(error.fault, Fault::Cancelled);
    assert_eq!(
        one(&mut memory, "select count(*) from t"),
        Value::Integer(1)
    );
}

/// What two databases have to agree in.
fn shape(catalog: &idle_tide_core::Catalog) -> Vec<idle_tide_core::Object> {
    let mut objects = catalog.objects.clone();
    objects.retain(|object| !object.helper);
    objects
}

#[test]
fn a_nasty_schema_is_made_again() {
    let mut first = Sqlite::memory().expect("opens");
    for sql in [
        "create table \"Select\" (\"From\" integer primary key autoincrement, \"a.b\" text collate nocase not null default 'it''s; \"x\"', \"emoji ⛵\" text check (\"emoji ⛵\" in ('sloop', 'ket''ch')), [br ack] any, `tick` blob default x'00', doubled as (\"From\" * 2) stored, constraint \"odd; check\" check (\"a.b\" <> 'x;y'), unique (\"a.b\", tick)) -- ends; here",
        "create table loops (id integer primary key, parent references loops on delete set null on update cascade, other references circle)",
        "create table circle (id integer primary key, loop_id not null references loops (id) deferrable initially deferred)",
        "create table pairs (a any, b integer, c text, primary key (b, a)) without rowid, strict",
        "create table twice (x references circle, y references circle, p, q, foreign key (p, q) references pairs)",
        "create unique index \"some rows\" on \"Select\" (lower(\"a.b\"), tick desc) where \"From\" > 1 and tick is not null",
        "create view z_first as select \"From\" as n from \"Select\"",
        "create view a_second (more) as select n + 1 from z_first",
        "create view broken as select naught from nowhere",
        "create trigger \"before ; all\" before insert on \"Select\" begin select 'a;b'; update loops set other = new.tick; end",
        "create trigger instead instead of insert on z_first begin insert into loops values (new.n, null, null); end",
        "create virtual table words using fts5 (body)",
        "create temp table passing (x integer primary key, y check (y > 0))",
        "create index temp.passing_y on passing (y)",
        "create temp view glance as select * from passing",
    ] {
        run(&mut first, sql).unwrap_or_else(|error| panic!("{error}\n{sql}"));
    }
    let before = first.describe().catalog(1, &mut |_| {}).expect("read");
    let script = first.describe().script(1, &before).expect("written");
    let mut second = Sqlite::memory().expect("opens");
    run(&mut second, &script).unwrap_or_else(|error| panic!("{error}\n{script}"));
    let after = second.describe().catalog(1, &mut |_| {}).expect("read");
    assert_eq!(shape(&after).len(), shape(&before).len(), "{script}");
    for (after, before) in shape(&after).iter().zip(shape(&before)) {
        assert_eq!(*after, before);
    }
    // What is read from the statements: checks, their lists, collations, a broken view.
    let select = before.table("Select").expect("there");
    assert_eq!(select.checks.len(), 2);
    assert_eq!(
        select.field("emoji ⛵").map(|f| f.choices.clone()),
        Some(vec!["sloop".to_string(), "ket'ch".into()])
    );
    assert_eq!(
        select.field("a.b").and_then(|f| f.collation.as_deref()),
        Some("nocase")
    );
    assert!(
        before
            .table("broken")
            .is_some_and(|view| view.broken.is_some())
    );
    let to_pairs = &before.table("twice").expect("there").links;
    assert!(
        to_pairs.iter().any(|link| link.their_columns == ["b", "a"]),
        "{to_pairs:?}"
    );
}

/// Of the links that the harbour declares, how many would be guessed if it declared none, and how many guesses
/// would be wrong.
#[test]
fn few_guessed_links_are_false() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("harbour.db");
    idle_tide_engines::sqlite::make_demo(&path, 10).expect("made");
    let mut harbour = Sqlite::file(&path, false, &mut || {}).expect("opens");
    let mut catalog = harbour.describe().catalog(1, &mut |_| {}).expect("read");
    let named =
        |catalog: &idle_tide_core::Catalog, ties: &[idle_tide_core::links::Tie]| -> Vec<String> {
            let name = |at: usize| catalog.objects[at].name.as_str();
            ties.iter()
                .map(|tie| {
                    format!(
                        "{}.{} {}.{}",
                        name(tie.from),
                        tie.columns[0],
                        name(tie.to),
                        tie.their_columns[0]
                    )
                })
                .collect()
        };
    let mut truth = named(&catalog, &idle_tide_core::links::declared(&catalog));
    let guessed_as_it_is = named(
        &catalog,
        &idle_tide_core::links::likely(&catalog, &idle_tide_core::links::declared(&catalog)),
    );
    // The tug's owner knows call signs only.
    assert_eq!(guessed_as_it_is, ["tows.vessel vessels.call_sign"]);
    truth.extend(guessed_as_it_is);
    for object in &mut catalog.objects {
        object.links.clear();
    }
    let guessed = named(&catalog, &idle_tide_core::links::likely(&catalog, &[]));
    let right = guessed.iter().filter(|guess| truth.contains(guess)).count();
    let wrong: Vec<_> = guessed
        .iter()
        .filter(|guess| !truth.contains(guess))
        .collect();
    assert!(
        right >= 4 * wrong.len() && right * 4 >= truth.len() * 3,
        "{right} of {} right, wrong: {wrong:?}",
        truth.len()
    );
}
