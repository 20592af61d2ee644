//! What belongs to a session stays with it, whatever is on the screen; what fails or panics ends its own entry and
//! nothing else; what takes long can be stopped. On connections that act on cue.

mod scripted;

use std::path::Path;
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use idle_tide_core::Value;
use idle_tide_desk::settings::Places;
use idle_tide_desk::{Content, Desk, Event, Options, State, Wanted, Writes, sheet};
use idle_tide_engines::Fault;
use idle_tide_lang::Dialect;
use scripted::{Cue, Script, Scripted};

struct Harbour {
    desk: Desk,
    inbox: Receiver<Event>,
    dir: tempfile::TempDir,
}

impl Harbour {
    fn new(script: &Arc<Script>) -> Self {
        let dir = tempfile::tempdir().expect("dir");
        let (sender, inbox) = channel();
        let place = |name: &str| dir.path().join(name);
        let options = Options {
            source: "north".into(),
            writes: Writes::Ask,
            places: Some(Places {
                settings: place("settings.toml"),
                history: place("history.jsonl"),
                visits: place("visits.json"),
                drafts: place("drafts"),
                holds: place("holds"),
            }),
            stream: None,
        };
        let notify = Arc::new(move |event| {
            let _ = sender.send(event);
        });
        let connection = Box::new(Scripted(Arc::clone(script)));
        let mut harbour = Harbour {
            desk: Desk::new(connection, options, notify),
            inbox,
            dir,
        };
        harbour.desk.arrive();
        harbour
    }

    fn until(&mut self, what: &str, done: impl Fn(&Desk) -> bool) {
        let start = Instant::now();
        while !done(&self.desk) {
            assert!(
                start.elapsed() < Duration::from_secs(20),
                "never came: {what}; {:?}",
                self.desk.notice()
            );
            if let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(20)) {
                self.desk.handle(event);
            }
        }
    }

    fn idle(&mut self) {
        self.until("quiet", |desk| !desk.is_busy());
    }

    fn run(&mut self, text: &str) -> &idle_tide_desk::Entry {
        self.desk.submit(text);
        self.idle();
        self.desk.entry().expect("an entry")
    }

    /// A database file with a table `t`, opened as a second session.
    fn open_south(&mut self) {
        let path = self.dir.path().join("south.db");
        std::fs::write(&path, "").expect("made");
        self.desk
            .submit(&format!("/open {} --write", path.display()));
        self.until("south", |desk| desk.source() == "south" && !desk.is_busy());
        self.run("create table t (k);");
    }

    fn go(&mut self, name: &str) {
        let number = self
            .desk
            .sessions()
            .find(|s| s.name() == name)
            .map(|s| s.number());
        self.desk.go_to(number.expect("an open session"));
    }

    fn path(&self, name: &str) -> String {
        self.dir.path().join(name).display().to_string()
    }
}

fn waits() -> Arc<Script> {
    Script::new(&[("select 'slow'", Cue::Wait)])
}

fn only(desk: &Desk) -> Value {
    let set = &desk
        .entry()
        .and_then(|entry| entry.sheet())
        .expect("rows")
        .set;
    sheet::read(set).value(0, 0).expect("a value")
}

fn words(entry: &idle_tide_desk::Entry) -> String {
    match &entry.content {
        Content::Page(page) => page.text(),
        Content::Failure(failure) => format!("{} {}", failure.headline, failure.changed),
        other => format!("{other:?}"),
    }
}

#[test]
fn a_value_that_is_given_goes_to_the_session_that_asked_for_it() {
    let north = waits();
    let mut h = Harbour::new(&north);
    h.open_south();
    h.go("north");
    h.desk.submit("select 'slow'; insert into t values (:?k);");
    h.go("south");
    north.let_go();
    // It asks where it was typed, and not here.
    h.until("the insert's turn", |desk| {
        desk.sessions().any(|s| s.name() == "north" && s.asks())
    });
    assert!(h.desk.asking().is_none());
    h.run("select count(*) from t;");
    assert_eq!(only(&h.desk), Value::Integer(0));
    h.go("north");
    assert_eq!(
        h.desk.asking().map(|asking| asking.wanted),
        Some(Wanted::Secret)
    );
    h.desk.answer_secret(Some("seven".into()));
    h.idle();
    assert!(
        north
            .ran()
            .contains(&"insert into t values ('seven');".to_string()),
        "{:?}",
        north.ran()
    );
    h.go("south");
    h.run("select count(*) from t;");
    assert_eq!(only(&h.desk), Value::Integer(0), "nothing was written here");
}

#[test]
fn what_waits_in_the_background_is_about_its_own_entry() {
    let north = waits();
    let mut h = Harbour::new(&north);
    h.open_south();
    h.go("north");
    let file = h.path("out.csv");
    h.desk.submit(&format!(
        "select 'slow'; /export {file}\n/filter n = 2\nselect 5;"
    ));
    let asked = h.desk.entry().expect("an entry").number;
    h.go("south");
    h.run("select 70 as n union all select 2;");
    let seen = h.desk.entry().expect("an entry").number;
    north.let_go();
    h.until("all of it", |desk| desk.sessions().all(|s| !s.is_busy()));
    assert_eq!(std::fs::read_to_string(&file).expect("written"), "n\n1\n");
    let entry = |h: &Harbour, number| {
        let found = h.desk.entries().iter().find(|entry| entry.number == number);
        found
            .and_then(|entry| entry.sheet())
            .map(|sheet| (sheet.shown(), sheet.view.filter.clone()))
    };
    h.until("the filter", |desk| {
        let found = desk.entries().iter().find(|entry| entry.number == asked);
        found
            .and_then(|e| e.sheet())
            .is_some_and(|s| s.view.filter.is_some())
    });
    assert_eq!(entry(&h, asked).map(|found| found.0), Some(0));
    assert_eq!(
        entry(&h, seen),
        Some((2, None)),
        "what is seen in front stays as it is"
    );
}

#[test]
fn what_is_opened_in_the_background_is_there_and_does_not_come_to_the_front() {
    let north = waits();
    let mut h = Harbour::new(&north);
    h.open_south();
    h.go("north");
    let east = h.path("east.db");
    std::fs::write(&east, "").expect("made");
    h.desk.submit(&format!(
        "select 'slow'; /open {east} --write\ncreate table e (n);"
    ));
    h.go("south");
    north.let_go();
    h.until("east", |desk| {
        desk.sessions().any(|s| s.name() == "east" && !s.is_busy())
    });
    assert_eq!(h.desk.source(), "south");
    h.go("east");
    assert_eq!(h.run("select count(*) from e;").state, State::Done);
    assert!(
        !north.ran().iter().any(|ran| ran.starts_with("create")),
        "{:?}",
        north.ran()
    );
}

#[test]
fn a_text_that_is_refused_in_the_background_comes_back_there() {
    let north = waits();
    north
        .cues
        .lock()
        .expect("lock")
        .insert("insert".into(), Cue::Fail(Fault::Statement));
    let mut h = Harbour::new(&north);
    h.open_south();
    h.go("north");
    h.desk.submit("select 'slow'; insert into t values (1);");
    h.go("south");
    north.let_go();
    h.until("the end", |desk| desk.sessions().all(|s| !s.is_busy()));
    assert!(h.desk.take_returned().is_none());
    h.go("north");
    let returned = h.desk.take_returned().expect("it waited here");
    assert_eq!(returned.text, "insert into t values (1);");
}

#[test]
fn a_definition_is_read_for_it_even_while_the_catalog_is_being_read() {
    let beside = Script::new(&[]);
    let north = Arc::new(Script {
        beside: Some(Arc::clone(&beside)),
        ..Script::default()
    });
    let mut h = Harbour::new(&north);
    let entry = h.run("create table x (n); /definition t");
    assert!(words(entry).contains("made on request"), "{}", words(entry));
    assert!(
        beside.ran().contains(&"define".to_string()),
        "over the second connection"
    );
    assert!(!north.ran().contains(&"catalog".to_string()));
}

#[test]
fn a_test_of_a_source_does_not_end_the_mark_of_an_export() {
    let mut h = Harbour::new(&Script::new(&[]));
    std::fs::write(
        h.path("settings.toml"),
        format!("[sources.shed]\naddress = \"{}\"\n", h.path("nowhere.db")),
    )
    .expect("written");
    h.run("select 1;");
    // A pipe that nobody reads yet keeps the export waiting.
    let pipe = h.path("pipe.csv");
    let made = std::process::Command::new("mkfifo").arg(&pipe).status();
    assert!(made.expect("mkfifo runs").success());
    h.desk.submit(&format!("/export {pipe}"));
    assert!(h.desk.is_busy());
    h.desk.test_source("shed");
    h.until("the test", |desk| {
        desk.notice().is_some_and(|n| n.text.contains("no file"))
    });
    assert!(h.desk.is_busy(), "the export goes on");
    assert_eq!(
        std::fs::read_to_string(Path::new(&pipe)).expect("read"),
        "n\n1\n"
    );
    h.idle();
    assert!(
        h.desk.notice().is_some_and(|n| n.text.contains("as CSV")),
        "{:?}",
        h.desk.notice()
    );
}

#[test]
fn all_that_a_server_says_beside_its_answer_is_told() {
    let said = ["notice: ebb", "notice: flood"];
    let script = Arc::new(Script {
        notes: said.map(str::to_string).to_vec(),
        cues: Mutex::new([("select 2".to_string(), Cue::Fail(Fault::Other))].into()),
        ..Script::default()
    });
    let mut harbour = Harbour::new(&script);
    harbour.idle();
    for text in ["select 1;", "insert into t values (1);", "select 2;"] {
        let entry = harbour.run(text);
        let told = match (&entry.content, &entry.above) {
            (Content::Rows(_), Some(above)) => above.text(),
            (Content::Page(page), _) => page.text(),
            (Content::Failure(failure), _) => failure.notes.join("\n"),
            (other, _) => panic!("{text}: {other:?}"),
        };
        assert!(
            said.iter().all(|words| told.contains(words)),
            "{text}: {told}"
        );
    }
}

#[test]
fn a_panic_ends_its_entry_and_nobody_waits_for_ever() {
    let script = Script::new(&[
        ("select 'reef'", Cue::Panic),
        ("explain", Cue::Panic),
        ("select count(*) from \"t\"", Cue::Panic),
        ("select count(*) from t", Cue::Panic),
        ("define", Cue::Panic),
    ]);
    let mut h = Harbour::new(&script);
    for text in [
        "select 'reef';",
        "/plan select 2",
        "delete from t;",
        "/definition t",
    ] {
        let entry = h.run(text);
        assert_ne!(entry.state, State::Running, "{text}");
        assert_ne!(entry.state, State::Done, "{text}: {}", words(entry));
        assert!(h.desk.question().is_none());
        h.desk.take_returned();
        assert_eq!(h.run("select 3;").state, State::Done, "after {text}");
    }
    assert!(!script.ran().contains(&"delete from t;".to_string()));
}

#[test]
fn a_panic_on_a_connection_to_a_server_closes_it() {
    let script = Arc::new(Script {
        is_server: true,
        ..Script::default()
    });
    script
        .cues
        .lock()
        .expect("lock")
        .insert("insert".into(), Cue::Panic);
    let mut h = Harbour::new(&script);
    let said = words(h.run("insert into t values (1);"));
    assert!(said.contains("whether it happened is not known"), "{said}");
    let said = words(h.run("select 3;"));
    assert!(said.contains("was not sent"), "{said}");
    assert!(!script.ran().contains(&"select 3;".to_string()));
}

#[test]
fn what_takes_long_is_stopped() {
    for (cue, text) in [
        ("catalog", "/tables"),
        ("define", "/definition t"),
        ("script", "/definition"),
        ("explain", "/plan select 2"),
        ("select count(*) from", "delete from t;"),
        ("select 'slow'", "select 'slow';"),
    ] {
        let script = Script::new(&[]);
        let mut h = Harbour::new(&script);
        h.until("the arrival", |desk| {
            desk.entry().is_some_and(|e| e.state == State::Done)
        });
        script
            .cues
            .lock()
            .expect("lock")
            .insert(cue.into(), Cue::Wait);
        h.desk.submit(text);
        let ran = |script: &Script| script.ran().iter().any(|ran| ran.starts_with(cue));
        h.until(text, |_| ran(&script));
        assert!(h.desk.cancel(), "{text}");
        h.idle();
        let state = h.desk.entry().expect("an entry").state;
        assert!(
            matches!(state, State::Stopped | State::NotRun),
            "{text}: {state:?}"
        );
        assert!(!script.ran().contains(&"delete from t;".to_string()));
    }
}

#[test]
fn an_arrival_that_takes_long_is_stopped_and_the_card_is_there() {
    let mut h = Harbour::new(&Script::new(&[("catalog", Cue::Wait)]));
    h.until("a moment", |desk| desk.entry().is_some());
    assert!(h.desk.cancel());
    h.until("the card", |desk| {
        desk.entry().is_some_and(|e| e.state == State::Done)
    });
    assert_eq!(h.run("select 4;").state, State::Done);
}

#[test]
fn a_second_connection_that_is_lost_is_done_without() {
    let beside = Script::new(&[("catalog", Cue::Fail(Fault::Lost))]);
    let north = Arc::new(Script {
        beside: Some(beside),
        ..Script::default()
    });
    let mut h = Harbour::new(&north);
    h.until("the card", |desk| {
        desk.entry().is_some_and(|e| e.state == State::Done)
    });
    assert_eq!(h.run("/tables").sheet().expect("rows").shown(), 1);
    assert!(north.ran().contains(&"catalog".to_string()));
    assert!(!h.desk.session().is_lost());
}

#[test]
fn a_catalog_that_was_read_late_does_not_take_the_place_of_a_newer_one() {
    let beside = Arc::new(Script {
        tables: vec!["old"],
        cues: Mutex::new([("catalog".to_string(), Cue::Wait)].into()),
        ..Script::default()
    });
    let north = Arc::new(Script {
        tables: vec!["new"],
        beside: Some(Arc::clone(&beside)),
        ..Script::default()
    });
    let mut h = Harbour::new(&north);
    h.run("insert into t values (1);");
    // Only the first connection sees what is temporary.
    h.run("create temporary table x (n);");
    h.until("the newer one", |desk| {
        desk.catalog().table("new").is_some()
    });
    beside.let_go();
    h.until("the check of the insert, with the older one", |desk| {
        desk.entries()
            .iter()
            .any(|entry| words(entry).contains("7 rows in t"))
    });
    assert!(h.desk.catalog().table("new").is_some());
}

#[test]
fn an_order_is_stopped_and_the_rows_stay() {
    let mut h = Harbour::new(&Script::new(&[]));
    h.open_south();
    h.run("with recursive r (n) as (select 1 union all select n + 1 from r where n < 400000) select n, 'quay ' || (n % 9) as q from r;");
    h.desk.submit("/order q");
    assert!(h.desk.cancel(), "it is being ordered");
    h.until("the end of it", |desk| {
        let sheet = desk.entry().and_then(|entry| entry.sheet());
        sheet.is_some_and(|sheet| sheet.working.is_none())
    });
    let sheet = h
        .desk
        .entry()
        .and_then(|entry| entry.sheet())
        .expect("rows");
    assert_eq!((sheet.shown(), sheet.view.order), (400_000, None));
}

/// A connection that heeds no stop is given up when it is asked again; what comes of it later changes nothing.
#[test]
fn what_does_not_stop_is_given_up() {
    let script = Script::new(&[("insert", Cue::Deaf)]);
    let mut h = Harbour::new(&script);
    h.desk.submit("insert into t values (1); select 2;");
    h.until("it runs", |_| {
        script.ran().iter().any(|ran| ran.starts_with("insert"))
    });
    assert!(h.desk.cancel());
    assert!(h.desk.is_stopping());
    let start = Instant::now();
    while h.desk.is_busy() {
        assert!(start.elapsed() < Duration::from_secs(20), "never given up");
        h.desk.cancel();
        std::thread::sleep(Duration::from_millis(50));
    }
    assert!(
        start.elapsed() > Duration::from_secs(1),
        "it had time to stop"
    );
    let said = words(h.desk.entry().expect("an entry"));
    assert!(said.contains("Whether it happened is not known"), "{said}");
    let returned = h.desk.take_returned().expect("the text");
    assert_eq!(returned.text, "insert into t values (1); select 2;");
    script.let_go();
    let said = words(h.run("select 3;"));
    assert!(said.contains("was not sent"), "{said}");
    assert!(h.desk.session().is_lost());
}

/// What a load that was cut off left is told as far as it is known.
#[test]
fn a_load_that_is_cut_off_says_what_it_left() {
    let lost = |words: &'static str| (words, Cue::Fail(Fault::Lost));
    let mariadb = Dialect::named("mariadb");
    let nothing = "Nothing was loaded.";
    let table = [
        (vec![lost("insert")], None, "", nothing),
        (
            vec![lost("commit")],
            None,
            "",
            "The connection was lost while the rows were being kept, and whether they were is not known. Look at levels",
        ),
        (
            vec![lost("commit")],
            None,
            "--batch 1",
            "The connection was lost while the rows were",
        ),
        // There a table that is made is there at once, and cannot be dropped over a link that is gone.
        (
            vec![lost("insert"), lost("drop")],
            mariadb,
            "",
            "Nothing was loaded. levels was made for it and is still there, without rows: drop table levels removes it.",
        ),
        (
            vec![("insert", Cue::Fail(Fault::Constraint))],
            mariadb,
            "",
            nothing,
        ),
    ];
    for (cues, dialect, options, words) in table {
        let script = Arc::new(Script {
            cues: Mutex::new(
                cues.iter()
                    .map(|(w, cue)| (w.to_string(), cue.clone()))
                    .collect(),
            ),
            dialect,
            ..Script::default()
        });
        let mut harbour = Harbour::new(&script);
        harbour.run(&format!(
            "/load - --into levels --go {options}\nid;level\n1;2,5\n2;3,5\n"
        ));
        let entry = harbour.desk.entry().expect("the load");
        let Content::Failure(failure) = &entry.content else {
            panic!("{entry:?}");
        };
        assert!(failure.headline.contains(words), "{}", failure.headline);
        let dropped = script.ran().iter().any(|ran| ran == "drop table levels");
        assert_eq!(dropped, dialect.is_some(), "{:?}", script.ran());
    }
}
