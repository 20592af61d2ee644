//! Whole sessions without a screen: what is submitted, what comes back, what is asked, what is remembered.

use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use idle_tide_core::Value;
use idle_tide_desk::settings::Places;
use idle_tide_desk::{Content, Desk, Entry, Event, Options, Request, State, Writes, sheet};
use idle_tide_engines::sqlite::Sqlite;

struct Session {
    desk: Desk,
    inbox: Receiver<Event>,
}

fn places(dir: &Path) -> Places {
    Places {
        settings: dir.join("settings.toml"),
        history: dir.join("history.jsonl"),
        visits: dir.join("visits.json"),
        drafts: dir.join("drafts"),
        holds: dir.join("holds"),
    }
}

impl Session {
    fn new(connection: Sqlite, places: Option<Places>) -> Self {
        let (sender, inbox) = channel();
        let options = Options {
            source: "test".into(),
            writes: Writes::Ask,
            places,
            stream: None,
        };
        let notify = Arc::new(move |event| {
            let _ = sender.send(event);
        });
        let mut session = Session {
            desk: Desk::new(Box::new(connection), options, notify),
            inbox,
        };
        session.desk.arrive();
        session.until(|desk| desk.entry().is_some_and(|entry| entry.state == State::Done));
        session
    }

    fn memory() -> Self {
        Self::new(Sqlite::memory().expect("opens"), None)
    }

    fn until(&mut self, done: impl Fn(&Desk) -> bool) {
        let start = Instant::now();
        while !done(&self.desk) {
            assert!(
                start.elapsed() < Duration::from_secs(20),
                "never happened: {:?} {:?}",
                self.desk.entry(),
                self.desk.notice()
            );
            if let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(50)) {
                self.desk.handle(event);
            }
        }
    }

    /// Submits and waits until nothing runs, or something is asked.
    fn run(&mut self, text: &str) -> &Entry {
        self.desk.submit(text);
        self.until(|desk| !desk.is_busy() || desk.question().is_some());
        // The catalog follows a write.
        while let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(30)) {
            self.desk.handle(event);
        }
        self.desk.entry().expect("an entry")
    }

    /// Submits and waits until the view has settled.
    fn view(&mut self, text: &str) {
        self.run(text);
        self.until(|desk| {
            desk.entry()
                .and_then(|e| e.sheet())
                .is_none_or(|s| s.working.is_none())
        });
    }

    /// Submits; what is asked, or said of the change that is held, which is taken back.
    fn asked(&mut self, text: &str) -> Option<String> {
        self.run(text);
        if let Some(question) = self.desk.question() {
            assert!(!question.yes.is_empty());
            let text = question.page.text();
            self.desk.cancel();
            assert!(self.desk.question().is_none(), "Ctrl-C is a no");
            self.desk.take_returned();
            return Some(text);
        }
        self.desk.session().held()?;
        let entry = self.desk.entry().expect("an entry");
        let text = match (&entry.above, &entry.content) {
            (Some(page), _) | (None, Content::Page(page)) => page.text(),
            (_, other) => panic!("nothing said: {other:?}"),
        };
        self.settle("/take-back");
        Some(text)
    }

    /// Keeps a held change or takes it back.
    fn settle(&mut self, command: &str) {
        self.desk.submit(command);
        self.until(|desk| desk.session().held().is_none());
        self.until(|desk| !desk.is_busy());
    }

    fn column(&self, column: usize) -> Vec<Value> {
        let sheet = self.desk.entry().and_then(|e| e.sheet()).expect("rows");
        (0..sheet.shown())
            .map(|at| {
                let row = sheet.row_number(at).expect("row");
                sheet::read(&sheet.set).value(row, column).expect("value")
            })
            .collect()
    }
}

fn page(entry: &Entry) -> String {
    match &entry.content {
        Content::Rows(_) => entry.above.as_ref().expect("a page").text(),
        Content::Page(page) => page.text(),
        Content::Failure(failure) => failure.headline.clone(),
        other => panic!("no page: {other:?}"),
    }
}

#[test]
fn several_statements_run_in_order_and_stop_at_the_first_error() {
    let mut s = Session::memory();
    s.run("create table t (n); insert into t values (1), (2); select nn from t; select 3;");
    let states: Vec<_> = s.desk.entries().iter().skip(1).map(|e| e.state).collect();
    assert_eq!(states, [State::Done, State::Done, State::Failed]);
    let returned = s.desk.take_returned().expect("returned");
    assert_eq!(returned.text, "select nn from t; select 3;");
    assert_eq!(returned.place, Some(7..9));
    assert_eq!(returned.corrections[0].label, "n");
    let Content::Failure(failure) = &s.desk.entries()[3].content else {
        panic!("a failure")
    };
    assert!(
        failure.changed.contains("2 statements before it ran"),
        "{}",
        failure.changed
    );
    assert!(page(&s.desk.entries()[2]).contains("2 rows inserted into t"));
}

#[test]
fn sweeping_writes_are_asked_about_with_their_numbers() {
    let mut s = Session::memory();
    s.run("create table visits (id integer primary key); create table dues (id integer primary key, visit_id references visits on delete cascade); create index dx on dues (visit_id);");
    s.run("insert into visits values (1), (2), (3); insert into dues (visit_id) values (1), (1);");
    s.run("update visits set id = id where id = 2;");
    assert!(
        s.desk.question().is_none(),
        "a conditioned write goes straight through"
    );

    s.run("delete from visits; select 1;");
    let held = page(s.desk.entry().expect("entry"));
    assert_eq!(s.desk.take_returned().expect("returned").text, "select 1;");
    assert!(held.contains("3 rows deleted from visits"), "{held}");
    assert!(held.contains("2 rows of dues"), "{held}");
    s.settle("/take-back");
    s.run("select count(*) from visits;");
    assert_eq!(s.column(0), [Value::Integer(3)]);

    s.run("drop table dues; select 1;");
    let question = s.desk.question().expect("asked").page.text();
    assert!(
        question.contains("dues with all 2 rows") && question.contains("1 index"),
        "{question}"
    );
    s.desk.answer(false);
    assert_eq!(s.desk.entry().map(|e| e.state), Some(State::NotRun));
    assert_eq!(
        s.desk.take_returned().expect("returned").text,
        "drop table dues; select 1;"
    );
    s.run("drop table dues;");
    s.desk.answer(true);
    s.until(|desk| !desk.is_busy());
    s.run("delete from visits where 1 = 1;");
    s.settle("/keep");
    assert!(page(s.desk.entry().expect("entry")).contains("3 rows deleted from visits"));

    s.run("/writes free");
    s.run("update visits set id = 9;");
    assert!(s.desk.question().is_none());
    s.run("/writes none");
    let words = page(s.run("insert into visits values (7);"));
    assert!(words.contains("refuses writes"), "{words}");
    s.run("/writes ask");
    assert_eq!(s.run("insert into visits values (7);").state, State::Done);
    // The check after a write is done for the user.
    assert!(page(s.run("update visits set id = 8 where id = 7;")).contains("1 row in visits"));
    s.run("insert into visits values (9), (10);");
    // What the table holds now follows, when it was counted.
    s.until(|desk| {
        desk.entry()
            .is_some_and(|e| page(e).contains("3 rows in visits"))
    });
    // What is not there fails by itself.
    assert!(page(s.run("delete from nowhere;")).contains("no table or view nowhere"));
}

#[test]
fn results_are_ordered_filtered_and_taken_away() {
    let dir = tempfile::tempdir().expect("dir");
    let mut s = Session::memory();
    s.run("with recursive r (n) as (select 1 union all select n + 1 from r where n < 2000) select n, 'quay ' || (n % 3) as quay, case when n % 5 then n end as five from r;");
    s.view("/order n desc");
    assert_eq!(
        s.column(0)[..2],
        [Value::Integer(2000), Value::Integer(1999)]
    );
    s.view("/filter n <= 6 and quay <> 'quay 0'");
    assert_eq!(s.column(0), [5, 4, 2, 1].map(Value::Integer));
    s.run("/columns quay n");
    let path = dir.path().join("out.csv");
    s.run(&format!("/export {}", path.display()));
    let notice = s.desk.notice().expect("a word").text.clone();
    assert!(notice.contains("4 rows of 2 000 as CSV"), "{notice}");
    let csv = std::fs::read_to_string(&path).expect("written");
    assert_eq!(csv, "quay,n\nquay 2,5\nquay 1,4\nquay 2,2\nquay 1,1\n");
    s.view("/filter");
    s.view("/order five");
    assert_eq!(s.column(2)[0], Value::Null);
    s.view("/order");
    assert_eq!(s.column(0)[0], Value::Integer(1));
    let failed = page(s.run("/filter quy = 1"));
    assert!(failed.contains("nearest is quay"), "{failed}");
    let returned = s.desk.take_returned().expect("returned");
    assert_eq!(
        (returned.place, returned.corrections[0].edit.text.as_str()),
        (Some(8..11), "quay")
    );
    assert!(
        s.desk.entries().len() == 3,
        "views make no entries: {}",
        s.desk.entries().len()
    );
}

#[test]
fn an_export_that_fails_leaves_the_old_file() {
    let dir = tempfile::tempdir().expect("dir");
    let mut s = Session::memory();
    s.run("select 1 as n;");
    s.run(&format!("/export {}/none/out.csv", dir.path().display()));
    assert!(
        s.desk
            .notice()
            .expect("a word")
            .text
            .contains("was not written")
    );
    assert!(page(s.run("/export out")).contains("--as csv"));
}

#[test]
fn a_running_statement_is_stopped_and_the_rest_comes_back() {
    let mut s = Session::memory();
    s.desk.submit("with recursive n (i) as (select 1 union all select i + 1 from n) select i from n; select 2;");
    s.until(|desk| {
        desk.running()
            .and_then(|e| e.sheet())
            .is_some_and(|s| s.shown() > 1_000)
    });
    assert!(
        s.desk.order_by(Some((0, true))).is_err(),
        "rows still arrive"
    );
    assert!(s.desk.cancel());
    s.until(|desk| !desk.is_busy());
    let entry = s.desk.entry().expect("entry");
    assert_eq!(entry.state, State::Stopped);
    assert!(entry.sheet().expect("rows").shown() > 1_000);
    assert_eq!(s.desk.take_returned().expect("rest").text, "select 2;");
    assert!(!s.desk.cancel());
}

#[test]
fn rows_that_came_before_an_error_stay() {
    let mut s = Session::memory();
    let entry = s.run("with recursive r (n) as (select 1 union all select n + 1 from r where n < 50000) select case when n = 49999 then abs(-9223372036854775807 - 1) else n end as n from r;");
    assert_eq!(entry.state, State::Failed);
    assert!(entry.sheet().expect("rows").shown() > 40_000);
    assert!(
        s.desk
            .notice()
            .expect("a word")
            .text
            .contains("ended early")
    );
    assert!(s.desk.take_returned().is_some());
}

#[test]
fn transactions_show_and_commands_answer() {
    let mut s = Session::memory();
    s.run("begin; create table t (a integer, b text); insert into t values (1, 'x'), (2, 5), ('three', null);");
    assert!(s.desk.bearings().transaction.is_some());
    let Content::Failure(failure) = &s.run("select;").content else {
        panic!("a failure")
    };
    assert!(failure.changed.contains("still open"));
    s.desk.take_returned();
    s.run("rollback;");
    assert!(s.desk.bearings().transaction.is_none());
    s.run("create table t (a integer, b text); insert into t values (1, 'x'), (2, 'y'), ('three', null);");
    s.run("/figures t");
    assert_eq!(
        s.column(5)[0],
        Value::from("1 text"),
        "values of another kind"
    );
    assert_eq!(s.column(3), [0, 1].map(Value::Integer), "nulls");
    assert_eq!(s.run("/sample t 2").sheet().expect("rows").shown(), 2);
    assert!(page(s.run("/about T")).contains("a  integer"));
    assert!(page(s.run("/abuot t")).contains("no command /abuot"));
    assert_eq!(
        s.desk.take_returned().expect("returned").corrections[0].label,
        "/about"
    );
    assert!(page(s.run("/about tt")).contains("no object tt"));
    assert!(page(s.run("/definition t")).contains("CREATE TABLE t"));
    assert!(page(s.run("/bearings")).contains("in memory"));
    assert!(page(s.run("show tables;")).contains("/tables"));
    assert_eq!(s.run("/tables").sheet().expect("rows").shown(), 1);
    s.run("quit");
    assert_eq!(s.desk.take_request(), Some(Request::Quit));
    s.run("help");
    assert_eq!(s.desk.take_request(), Some(Request::Guide(String::new())));
}

#[test]
fn a_view_that_no_longer_compiles_and_two_thousand_columns() {
    let mut s = Session::memory();
    s.run("/writes free");
    s.run("create table t (n); create view v as select n from t; drop table t;");
    let about = page(s.run("/about v"));
    assert!(about.contains("cannot be read"), "{about}");
    let wide: Vec<String> = (0..2_000).map(|n| format!("{n} as c{n}")).collect();
    let entry = s.run(&format!("select {};", wide.join(", ")));
    assert_eq!(entry.sheet().expect("rows").labels.len(), 2_000);
    let failed = page(s.run("select 1\0;"));
    assert!(failed.contains("NUL byte"), "{failed}");
    s.run("-- nothing but a comment");
    s.run("");
    assert!(page(s.run("select 'never closed")).contains("never closed"));
}

#[test]
fn the_next_visit_says_what_is_different() {
    let dir = tempfile::tempdir().expect("dir");
    let file = dir.path().join("a.db");
    std::fs::write(&file, "").expect("made");
    let visit = |text: &str| {
        let connection = Sqlite::file(&file, true, &mut || {}).expect("opens");
        let mut s = Session::new(connection, Some(places(dir.path())));
        let card = page(&s.desk.entries()[0]);
        s.run(text);
        card
    };
    assert!(visit("create table t (n);").contains("first visit"));
    assert!(visit("select 1;").contains("1 table now; last time there were 0"));
    assert!(visit("select 1;").contains("Nothing is different"));
    let history = std::fs::read_to_string(dir.path().join("history.jsonl")).expect("kept");
    assert_eq!(history.lines().count(), 2);
}

#[test]
fn every_kind_of_sweep_says_what_would_go() {
    let mut s = Session::memory();
    s.run("create table quays (code text primary key, name text); create table berths (id integer primary key, quay references quays (code), depth); create view deep as select * from berths where depth > 2; create index by_quay on berths (quay); create trigger t after insert on berths begin select 1; end;");
    s.run("insert into quays values ('N', 'North Steps'); insert into berths (quay, depth) values ('N', 3), ('N', 1);");
    for (statement, words) in [
        (
            "update berths set depth = 0;",
            &["2 rows of berths changed: held"][..],
        ),
        (
            "update quays set name = 'x' where true;",
            &["1 row of quays changed: held"],
        ),
        (
            "drop table berths;",
            &[
                "the table berths with all 2 rows",
                "1 index",
                "1 trigger",
                "would empty it",
            ],
        ),
        (
            "drop table quays;",
            &["quays with the only row", "links to it from berths"],
        ),
        ("drop view deep;", &["the view deep", "No row is lost"]),
        (
            "drop index by_quay;",
            &["the index by_quay", "No row is lost"],
        ),
        ("drop trigger t;", &["the trigger t"]),
        (
            "alter table berths drop column depth;",
            &["the column depth of berths", "all 2 rows"],
        ),
        (
            "with c as (select 1) delete from main.berths;",
            &["2 rows deleted from main.berths: held"],
        ),
    ] {
        let text = s.asked(statement);
        let text = text.unwrap_or_else(|| panic!("{statement} was not asked about"));
        for words in words {
            assert!(text.contains(words), "{statement}: {text}");
        }
    }
    s.run("select (select count(*) from berths), (select count(*) from quays);");
    assert_eq!(
        (s.column(0), s.column(1)),
        (vec![Value::Integer(2)], vec![Value::Integer(1)])
    );
}

/// Several objects are all named, views that break are told, a limit below the number of rows is no sweep, and
/// what is not there is left to the engine.
#[test]
fn sweeps_are_told_in_full_and_nothing_else_is_asked_about() {
    let mut s = Session::memory();
    s.run("create table quays (code text primary key); create table berths (quay references quays on delete set null); create table notes (n); create view deep as select * from berths; insert into quays values ('N'), ('S'); insert into berths values ('N');");
    let mut asked = |statement: &str| s.asked(statement);
    let text = asked("drop table berths;").expect("asked");
    assert!(text.contains("read by the view deep"), "{text}");
    let text = asked("delete from quays where code = code;").expect("asked");
    assert!(
        text.contains("2 rows deleted from quays")
            && text.contains("With them, by links and triggers: 1 row of berths."),
        "{text}"
    );
    let text = asked("insert or replace into quays select * from quays;").expect("asked");
    assert!(text.contains("2 rows inserted into quays: held"), "{text}");
    for statement in [
        "delete from nowhere;",
        "drop table if exists nowhere;",
        "delete from notes where 1 = 0;",
        "delete from 'notes' where 1 = 1 or n = 3;",
        "update quays set code = 'E' where code in ('N', 'Z');",
    ] {
        assert_eq!(asked(statement), None, "{statement}");
    }
}

/// What is said afterwards is what happened, also where nothing did.
#[test]
fn what_was_done_is_told_as_it_was() {
    let mut s = Session::memory();
    for (statement, words) in [
        ("create table t (n);", "t was made."),
        ("create table if not exists t (n);", "t is there."),
        ("create table if not exists u (n);", "u was made."),
        ("drop view if exists nowhere;", "nowhere is not there now."),
        ("create temp table if not exists t2 (n);", "t2 was made."),
        ("create index i on t (n);", "i was made."),
        (
            "replace into t values (1);",
            "Inserted into t or changed there: 1 row",
        ),
        ("insert into t values (2);", "1 row inserted into t."),
        ("begin;", "A transaction is open."),
        ("rollback;", "taken back."),
        // A full disk ends the transaction by itself; the rollback that follows is right, and finds nothing.
        ("pragma max_page_count = 20;", ""),
        ("begin;", "A transaction is open."),
        ("insert into t values (zeroblob(500000));", "full"),
        (
            "rollback;",
            "No transaction was open, so nothing was taken back.",
        ),
    ] {
        s.run(statement);
        if s.desk.question().is_some() {
            s.desk.answer(true);
            s.until(|desk| !desk.is_busy());
        }
        let entry = s.desk.entry().expect("entry");
        if !words.is_empty() {
            assert!(page(entry).contains(words), "{statement}: {}", page(entry));
        }
    }
}

/// An engine names a column by its expression, and with it the secret that stands there.
#[test]
fn names_of_columns_hold_no_secret() {
    let mut s = Session::memory();
    let entry = s.run("select 1 = (select 1 where 'a' = crew and password = 'hush-hush') from (select 'a' as crew, 'b' as password)");
    let set = Arc::clone(&entry.sheet().expect("rows").set);
    let name = set.read().columns()[0].name.clone();
    assert!(
        name.contains("password = …") && !name.contains("hush"),
        "{name}"
    );
}

/// A secret of one letter is not taken out of every word of the engine's answer.
#[test]
fn short_secrets_garble_nothing() {
    let mut s = Session::memory();
    s.run("select set_config('app.password', 'e', 1);");
    let entry = s.desk.entry().expect("entry");
    assert!(!entry.text.contains("'e'"), "{}", entry.text);
    let Content::Failure(failure) = &entry.content else {
        panic!("a failure")
    };
    let said = failure.said.as_ref().map_or("", |(words, _)| words);
    assert!(
        format!("{} {said}", failure.headline).contains("set_config"),
        "{failure:?}"
    );
}

#[test]
fn slips_are_answered_in_plain_words() {
    let mut s = Session::memory();
    s.run("create table visits (id integer primary key, note text not null check (length(note) < 9)); create table dues (visit_id references visits); insert into visits values (1, 'a');");
    for (statement, words) in [
        ("select * form visits;", "form is not a word of SQLite here"),
        ("selct 1;", "No statement begins with selct"),
        ("select (1;", "never closed"),
        ("select id, from visits;", "a comma too many"),
        ("select * from vsits;", "no table or view vsits"),
        ("select lenght(note) from visits;", "no function lenght"),
        ("select v.id from visits s;", "called v"),
        ("insert into visits values (1, 'b');", "already has this id"),
        ("insert into visits values (2, null);", "needs a value"),
        (
            "insert into visits values (2, 'far too long');",
            "breaks the rule length(note) < 9",
        ),
        ("insert into dues values (7);", "refers to does not exist"),
        ("select :who;", "asks for a value for :who"),
        ("describe visits;", "the command /about visits"),
        (
            "select 1 from visits where note = 'O'Brien';",
            "written twice",
        ),
        ("select #;", "has no meaning"),
        ("select 1 . . 2;", "not understood at \".\"."),
    ] {
        let headline = page(s.run(statement));
        assert!(headline.contains(words), "{statement}: {headline}");
        assert_eq!(s.desk.take_returned().expect("returned").text, statement);
    }
}

#[test]
fn commands_refuse_what_they_cannot_do() {
    let mut s = Session::memory();
    for (command, words) in [
        ("/order n", "has no rows"),
        ("/export out.csv", "has no rows"),
        ("/record", "has no rows"),
        ("/recall 99", "no entry 99"),
        ("/figures nowhere", "no table or view nowhere"),
        ("/theme loud", "not one of deep, shoal, plain"),
        ("/tables --all", "no option --all"),
        ("/sample", "Something is missing"),
    ] {
        let failed = page(s.run(command));
        assert!(failed.contains(words), "{command}: {failed}");
        s.desk.take_returned();
    }
    s.run("select 1 as n;");
    assert!(page(s.run("/columns --hide n")).contains("One column has to stay"));
    s.desk.take_returned();
    s.run("/writes");
    assert!(
        s.desk
            .notice()
            .expect("a word")
            .text
            .contains("looks at changes first")
    );
    let number = s
        .desk
        .entries()
        .iter()
        .find(|e| e.is_statement)
        .expect("entry")
        .number;
    s.run(&format!("/again {number}"));
    assert_eq!(s.column(0), [Value::Integer(1)]);
    s.run(&format!("/recall {number}"));
    assert_eq!(
        s.desk.take_request(),
        Some(Request::Recall("select 1 as n;".into()))
    );
    s.desk.show(0);
    assert!(page(s.run("/again")).contains("is no statement"));
}

/// A process that adds to the history until it is killed leaves whole lines, of which at most the last is cut.
#[test]
fn history_survives_a_kill_at_any_moment() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("history.jsonl");
    let mut last = 0;
    for round in 0..6 {
        let mut child = std::process::Command::new(std::env::current_exe().expect("test program"))
            .args(["--ignored", "--exact", "adds_to_a_history"])
            .env("HISTORY", &path)
            .stdout(std::process::Stdio::null())
            .spawn()
            .expect("starts");
        let start = Instant::now();
        let size = || std::fs::metadata(&path).map_or(0, |m| m.len());
        let before = size();
        while size() < before + 2_000 + 700 * round {
            assert!(
                start.elapsed() < Duration::from_secs(20),
                "nothing was added"
            );
            std::thread::sleep(Duration::from_millis(1));
        }
        child.kill().expect("killed");
        child.wait().expect("ended");
        let history = idle_tide_desk::history::History::open(&path).expect("opens");
        let items = history.items();
        assert!(items.len() > last, "what was added stays");
        assert!(
            items
                .iter()
                .all(|item| item.text.starts_with("select '") && item.text.ends_with("' as word;"))
        );
        last = items.len();
    }
}

#[test]
#[ignore = "started by another test as a process of its own"]
fn adds_to_a_history() {
    let Some(path) = std::env::var_os("HISTORY") else {
        return;
    };
    let mut history = idle_tide_desk::history::History::open(Path::new(&path)).expect("opens");
    for n in 0.. {
        history
            .add(
                "demo",
                &format!("select '{n} {}' as word;", "y".repeat(n % 90)),
            )
            .expect("added");
    }
}

/// What `/definition` says makes the same database again.
#[test]
fn the_definition_of_all_makes_an_equal_database() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("harbour.db");
    idle_tide_engines::sqlite::make_demo(&path, 40).expect("made");
    let harbour = Sqlite::file(&path, false, &mut || {}).expect("opens");
    let mut first = Session::new(harbour, None);
    let definition = page(first.run("/definition"));
    let mut second = Session::memory();
    second.run("/writes free");
    second.run(&definition);
    let failed = second
        .desk
        .entries()
        .iter()
        .find(|entry| entry.state == State::Failed);
    assert!(failed.is_none(), "{failed:?}");
    second.run("/tables");
    let shape = |session: &Session| -> Vec<_> {
        let objects = session
            .desk
            .catalog()
            .objects
            .iter()
            .filter(|object| !object.helper);
        objects
            .map(|o| {
                (
                    o.name.clone(),
                    o.kind,
                    o.comment.clone(),
                    o.fields.clone(),
                    o.links.clone(),
                )
            })
            .collect()
    };
    assert_eq!(shape(&first).len(), shape(&second).len());
    for (ours, theirs) in shape(&second).into_iter().zip(shape(&first)) {
        assert_eq!(ours, theirs);
    }
}

#[test]
fn lists_take_patterns() {
    let mut s = Session::memory();
    s.run("create table visits (id integer primary key); create table visit_services (id unique); create view visits_today as select * from visits; create index by_id on visits (id); create virtual table notices using fts5 (body);");
    let names = |s: &Session| -> Vec<String> {
        s.column(0)
            .iter()
            .map(|value| value.as_ref().plain())
            .collect()
    };
    s.run("/tables visit*");
    assert_eq!(names(&s), ["visit_services", "visits"]);
    s.run("/tables visit?");
    assert_eq!(names(&s), ["visits"]);
    s.run("/views");
    assert_eq!(names(&s), ["visits_today"]);
    s.run("/indexes by");
    assert_eq!(names(&s), ["by_id"]);
    s.run("/tables notices*");
    assert_eq!(names(&s), ["notices"], "helper tables are folded away");
    s.run("/tables notices* --full");
    assert!(names(&s).len() > 3, "and shown in full");
    s.run("/tables zzz");
    assert!(names(&s).is_empty());
}

/// Ctrl-C while the guard counts, or a lock that keeps it from counting, must not let the statement run.
#[test]
fn a_sweep_that_could_not_be_counted_does_not_run() {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("a.db");
    std::fs::write(&path, "").expect("made");
    let mut s = Session::new(Sqlite::file(&path, true, &mut || {}).expect("opens"), None);
    s.run("create table t (n); insert into t values (1), (2);");
    for _ in 0..20 {
        s.desk.submit("delete from t;");
        assert!(s.desk.cancel(), "it is being counted");
        s.until(|desk| !desk.is_busy() || desk.session().held().is_some());
        // Either it was stopped in time, or it is held.
        if s.desk.session().held().is_some() {
            s.settle("/take-back");
        } else {
            let state = s.desk.entry().map(|entry| entry.state);
            assert!(
                matches!(state, Some(State::NotRun | State::Stopped)),
                "{state:?}"
            );
        }
        s.desk.take_returned();
    }
    let mut holder = Session::new(Sqlite::file(&path, true, &mut || {}).expect("opens"), None);
    holder.run("begin exclusive;");
    let words = page(s.run("delete from t;"));
    assert!(words.contains("holds the database locked"), "{words}");
    assert!(s.desk.question().is_none() && s.desk.session().held().is_none());
    holder.run("rollback;");
    s.run("select count(*) from t;");
    assert_eq!(s.column(0), [Value::Integer(2)], "no row is gone");
}

#[test]
fn several_sessions_stand_beside_each_other() {
    let dir = tempfile::tempdir().expect("dir");
    let path = |name: &str| dir.path().join(name).display().to_string();
    for name in ["north.db", "south.db"] {
        let mut made = Sqlite::memory().expect("opens");
        let sql = format!("vacuum into '{}'", path(name));
        idle_tide_engines::Connection::run(&mut made, 1, "create table t (a)", &mut Ignored)
            .expect("made");
        idle_tide_engines::Connection::run(&mut made, 2, &sql, &mut Ignored).expect("written");
    }
    let mut s = Session::new(Sqlite::memory().expect("opens"), Some(places(dir.path())));
    let idle = |s: &mut Session| s.until(|desk| !desk.is_busy());
    s.desk.submit("create table here (a);");
    idle(&mut s);
    s.desk.submit(&format!(
        "/open {} --write\ninsert into t values (1);",
        path("north.db")
    ));
    idle(&mut s);
    // What was submitted with it ran in what it opened.
    assert_eq!(s.desk.source(), "north");
    assert_eq!(
        s.desk
            .entry()
            .and_then(|e| e.outcome.as_ref())
            .and_then(|o| o.changed),
        Some(1)
    );
    assert_eq!(s.desk.sessions().count(), 2);
    s.desk.submit("select a from t;");
    idle(&mut s);
    let (asked, number) = (
        s.desk.entry().expect("entry").number,
        s.desk.session().number(),
    );
    assert_eq!(s.desk.entry().expect("entry").place.0, "north");
    s.desk.submit(&format!("/open {}", path("south.db")));
    idle(&mut s);
    assert_eq!(s.desk.source(), "south");
    // Running it elsewhere asks; no leaves it, yes runs it here.
    s.desk.submit(&format!("/again {asked}"));
    s.until(|desk| desk.question().is_some());
    assert!(
        s.desk
            .question()
            .expect("asked")
            .page
            .text()
            .contains("north")
    );
    s.desk.answer(false);
    idle(&mut s);
    s.desk.submit(&format!("/again {asked}"));
    s.until(|desk| desk.question().is_some());
    s.desk.answer(true);
    idle(&mut s);
    assert_eq!(
        s.desk.entry().and_then(|e| e.sheet()).map(|s| s.shown()),
        Some(0)
    );
    // Back to the first, whose own rows are there.
    s.desk.go_to(number);
    assert_eq!(s.desk.source(), "north");
    s.desk.submit(&format!("/again {asked}"));
    idle(&mut s);
    assert_eq!(
        s.desk.entry().and_then(|e| e.sheet()).map(|s| s.shown()),
        Some(1)
    );
    // A transaction is not left without a word.
    s.desk.submit("begin;");
    idle(&mut s);
    s.desk.submit("/close");
    s.until(|desk| desk.question().is_some());
    s.desk.answer(true);
    for left in [1, 0] {
        idle(&mut s);
        s.desk.submit("/close");
        idle(&mut s);
        assert_eq!(s.desk.sessions().count(), left);
    }
    s.desk.submit("select 1;");
    idle(&mut s);
    let Content::Failure(failure) = &s.desk.entry().expect("entry").content else {
        panic!("nothing is open");
    };
    assert!(failure.headline.contains("No source is open"));
    // What cannot be opened says so, and the command comes back.
    s.desk.submit("/open nowhere.db");
    idle(&mut s);
    assert!(matches!(
        &s.desk.entry().expect("entry").content,
        Content::Failure(_)
    ));
    assert_eq!(
        s.desk.take_returned().expect("the command").text,
        "/open nowhere.db"
    );
}

struct Ignored;

impl idle_tide_engines::Sink for Ignored {
    fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: idle_tide_core::RowBatch) -> std::io::Result<()> {
        Ok(())
    }
}

/// A session on the harbour.
fn harbour() -> (Session, tempfile::TempDir) {
    let dir = tempfile::tempdir().expect("dir");
    let path = dir.path().join("harbour.db");
    idle_tide_engines::sqlite::make_demo(&path, 40).expect("made");
    let connection = Sqlite::file(&path, true, &mut || {}).expect("opens");
    (Session::new(connection, None), dir)
}

fn recalled(session: &mut Session) -> Option<String> {
    match session.desk.take_request() {
        Some(Request::Recall(text)) => Some(text),
        _ => None,
    }
}

#[test]
fn a_way_over_a_bridge_with_other_names_gives_a_join_that_runs() {
    let mut s = Session::memory();
    s.run(
        "create table sailors (no integer primary key, name text);
         create table crafts (code text primary key);
         create table musters (who integer references sailors, ship text references crafts (code), unique (who, ship));
         create table lone (id integer primary key);
         insert into sailors values (1, 'a'), (2, 'b'), (3, 'c');
         insert into crafts values ('x'), ('y');
         insert into musters values (1, 'x'), (1, 'y'), (2, 'x'), (3, null);",
    );
    let entry = s.run("/route sailors crafts");
    let words: Vec<String> = entry
        .links()
        .expect("a drawing")
        .way_words()
        .iter()
        .map(|l| l.text())
        .collect();
    assert_eq!(words[0], "the way  sailors → many musters → crafts");
    assert!(
        words[1].contains("rows without musters.ship are left out"),
        "{words:?}"
    );
    let join = recalled(&mut s).expect("the join goes into the composer");
    assert_eq!(
        join,
        "select *\nfrom sailors s\njoin musters m on m.who = s.\"no\"\njoin crafts c on c.code = m.ship"
            .replace("\"no\"", &idle_tide_lang::dialect::SQLITE.quote_name("no"))
    );
    let entry = s.run(&format!("{};", join.replace("*", "count(*)")));
    assert_eq!(entry.state, State::Done);
    assert_eq!(s.column(0), [Value::Integer(3)]);
    // What cannot be gone is said.
    let Content::Failure(failure) = &s.run("/route sailors craft").content else {
        panic!("no such table");
    };
    assert_eq!(failure.corrections[0].label, "crafts");
    assert_eq!(failure.place, Some(15..20));
    let entry = s.run("/route sailors lone");
    let words = entry.links().expect("a drawing").way_words()[0].text();
    assert!(words.contains("No links lead"), "{words}");
    assert!(page(s.run("/route sailors sailors")).contains("two different"));
}

#[test]
fn guessed_links_are_checked_against_the_data() {
    let mut s = Session::memory();
    s.run("create table vessels (id integer primary key, call_sign text unique); create table tows (id integer primary key, vessel text);
           insert into vessels values (1, 'A'), (2, 'B'); insert into tows values (1, 'A'), (2, 'A'), (3, 'Z'), (4, null);");
    s.run("/links --check");
    s.until(|desk| !desk.is_busy());
    let links = s.desk.entry().and_then(|e| e.links()).expect("a drawing");
    let words = links.checked_words()[0].text();
    assert_eq!(
        words,
        "tows.vessel → vessels.call_sign  2 of 3 values match"
    );
    // Without guesses there is nothing to draw between them.
    let entry = s.run("/links --declared");
    assert!(entry.links().expect("a drawing").wires.is_empty());
    assert!(page(s.run("/links tows --distance far")).contains("needs a number"));
}

#[test]
fn steps_along_links_leave_a_trail() {
    let (mut s, _dir) = harbour();
    s.run("select v.id, v.name, v.owner_id, count(*) as n from vessels v join visits s on s.vessel_id = v.id group by v.id order by v.id limit 3;");
    let first = s.desk.entry().map(|e| e.number);
    let follow = |s: &mut Session, row, column, into: Option<&str>| {
        s.desk.follow(row, column, into);
        s.until(|desk| !desk.is_busy());
    };
    follow(&mut s, 1, 2, None);
    assert!(
        s.desk
            .entry()
            .is_some_and(|e| e.text.starts_with("select * from owners where id = "))
    );
    let owner = s.column(0);
    assert_eq!(owner.len(), 1);
    // From the owner to the vessels that refer to it, among them the one that it began with.
    follow(&mut s, 0, 0, None);
    assert!(s.desk.entry().is_some_and(|e| {
        e.text
            .starts_with("select * from vessels where owner_id = ")
    }));
    assert!(s.column(0).contains(&Value::Integer(2)));
    assert_eq!(s.desk.trail().first().copied(), first);
    // Several tables refer to a vessel: they are counted, and a row of the counts goes on.
    follow(&mut s, 0, 0, None);
    let tables = s.column(0);
    assert!(
        tables.contains(&Value::from("visits")) && tables.contains(&Value::from("hull_surveys")),
        "{tables:?}"
    );
    let at = tables
        .iter()
        .position(|t| *t == Value::from("visits"))
        .expect("there");
    let Value::Integer(count) = s.column(2)[at] else {
        panic!("a count");
    };
    follow(&mut s, at as u64, 0, None);
    assert_eq!(s.column(0).len() as i64, count);
    assert_eq!(s.desk.trail().len(), 4);
    s.desk.step_back();
    assert_eq!(s.column(0), tables);
    // What leads nowhere is said, and nothing runs.
    s.desk.show(1);
    let entries = s.desk.entries().len();
    s.desk.follow(0, 3, None);
    assert!(
        s.desk
            .notice()
            .is_some_and(|n| n.text.contains("does not come from a column"))
    );
    assert_eq!(s.desk.entries().len(), entries);
}

/// The pixels of a page that are not white, of a PDF drawn by poppler.
fn ink(pdf: &Path) -> usize {
    let out = pdf.with_extension("");
    let done = std::process::Command::new("pdftoppm")
        .args(["-r", "60", "-singlefile"])
        .args([pdf, &out])
        .status()
        .expect("pdftoppm runs; scripts/setup --tests installs it");
    assert!(done.success());
    let ppm = std::fs::read(out.with_extension("ppm")).expect("a picture");
    ppm.chunks(3)
        .filter(|pixel| pixel.iter().any(|part| *part < 200))
        .count()
}

#[test]
fn a_drawing_leaves_as_svg_and_pdf_that_others_can_read() {
    let (mut s, dir) = harbour();
    s.run("/links");
    for name in ["links.svg", "links.pdf", "links.txt"] {
        s.run(&format!("/export {}", dir.path().join(name).display()));
        let words = s.desk.notice().map(|n| n.text.clone()).unwrap_or_default();
        assert!(words.contains("The drawing as"), "{words}");
    }
    // Another program draws the SVG, and its text is text.
    let drawn = dir.path().join("again.pdf");
    let done = std::process::Command::new("rsvg-convert")
        .args(["-f", "pdf", "-o"])
        .args([&drawn, &dir.path().join("links.svg")])
        .status()
        .expect("rsvg-convert runs; scripts/setup --tests installs it");
    assert!(done.success());
    let svg = std::fs::read_to_string(dir.path().join("links.svg")).expect("svg");
    assert!(
        svg.contains(">visit_services<")
            && svg.contains("stroke-dasharray")
            && svg.contains("guessed")
    );
    let pdf = dir.path().join("links.pdf");
    for file in [&drawn, &pdf] {
        assert!(
            ink(file) > 5_000,
            "{}: {} dark pixels",
            file.display(),
            ink(file)
        );
        let text = std::process::Command::new("pdftotext")
            .args(["-layout".as_ref(), file.as_os_str(), "-".as_ref()])
            .output();
        let text = String::from_utf8_lossy(&text.expect("pdftotext runs").stdout).into_owned();
        for word in ["visit_services", "vessel_id", "12 000", "guessed"] {
            assert!(
                text.contains(word),
                "{} has no {word}:\n{text}",
                file.display()
            );
        }
    }
    // A drawing is no table, and the other way round.
    s.run("/export drawing.csv");
    assert!(s.desk.entry().is_some_and(|e| e.state == State::Failed));
    s.run("select 1;");
    s.run("/export rows.svg");
    let Some(Content::Failure(failure)) = s.desk.entry().map(|e| &e.content) else {
        panic!("rows are no drawing");
    };
    assert!(failure.headline.contains("/links"), "{}", failure.headline);
}

#[test]
fn plans_are_trees_and_run_nothing_that_writes() {
    let (mut s, _dir) = harbour();
    let plan =
        page(s.run("/plan select v.name from visits s join vessels v on v.id = s.vessel_id + 0"));
    assert!(plan.contains("of s   goes through the most rows"), "{plan}");
    assert!(plan.contains("looks up in v"), "{plan}");
    let plan = page(s.run("/plan delete from dues"));
    assert!(plan.contains("planned and not run"), "{plan}");
    s.run("select count(*) from dues;");
    assert_ne!(s.column(0), [Value::Integer(0)]);
    // Of the current entry, when no statement is named.
    assert!(page(s.run("/plan")).contains("select count(*) from dues"));
    // An error is marked within the command.
    let Content::Failure(failure) = &s.run("/plan select nme from vessels").content else {
        panic!("no such column");
    };
    assert_eq!(failure.place, Some(13..16));
    assert_eq!(failure.corrections[0].edit.text, "name");
    assert!(page(s.run("/plan select 1; select 2")).contains("one statement"));
}

#[test]
fn counts_of_what_repeats_are_said_with_the_result() {
    let (mut s, _dir) = harbour();
    s.run("select count(o.id) from owners o join vessels v on v.owner_id = o.id;");
    let said = s.desk.notice().map(|n| n.text.clone()).unwrap_or_default();
    assert!(
        said.contains("count takes each row of owners as often as vessels match it")
            && said.contains("count(distinct o.id)"),
        "{said}"
    );
    s.run("select count(v.id) from owners o join vessels v on v.owner_id = o.id;");
    assert!(s.desk.notice().is_none(), "{:?}", s.desk.notice());
}

#[test]
fn lists_by_kind_and_everything_by_name() {
    let (mut s, _dir) = harbour();
    s.run("/find call sign");
    let (names, by) = (s.column(0), s.column(3));
    assert!(
        names.contains(&Value::from("vessel")) && by.contains(&Value::from("its comment")),
        "{names:?}"
    );
    s.run("/find visit_");
    assert_eq!(
        s.column(0)[0],
        Value::from("visit_services"),
        "names that begin with it come first"
    );
    s.run("/tables vis* --full");
    assert_eq!(
        s.column(0),
        [Value::from("visit_services"), Value::from("visits")]
    );
    s.run("/indexes dues --full");
    assert_eq!(s.column(2), [Value::from("visit_id")]);
    s.run("/functions");
    assert!(s.column(0).is_empty());
    let about = page(s.run("/about Vessels"));
    for words in [
        "→ owners",
        "numbers itself",
        "Referred to by",
        "Likely links, not declared",
        "tows (vessel) → vessels (call_sign)",
    ] {
        assert!(about.contains(words), "no {words} in:\n{about}");
    }
    let about = page(s.run("/about work_orders"));
    assert!(about.contains("priority between 1 and 5"), "{about}");
    // The definition of one object has its indexes and triggers with it.
    let definition = page(s.run("/definition dues"));
    assert!(
        definition.contains("dues_by_visit") && definition.contains("dues_not_negative"),
        "{definition}"
    );
    // What is gone by now is said with what is nearest.
    s.run("/writes free");
    s.run("drop table tows;");
    let Content::Failure(failure) = &s.run("/about tows").content else {
        panic!("it is gone");
    };
    assert!(
        failure.headline.contains("no object tows"),
        "{}",
        failure.headline
    );
}

#[test]
fn figures_of_a_large_table_come_from_a_sample_that_says_so() {
    let mut s = Session::memory();
    s.run("create table big (n integer); insert into big with recursive c (n) as (select 1 union all select n + 1 from c where n < 600000) select n from c;");
    s.run("/figures big");
    let said = s.desk.notice().map(|n| n.text.clone()).unwrap_or_default();
    assert!(said.contains("83.3 % of 600 000 rows"), "{said}");
    let Value::Integer(rows) = s.column(2)[0] else {
        panic!("a number of rows");
    };
    assert!((450_000..550_000).contains(&rows), "{rows}");
    s.run("/figures big --all");
    assert_eq!(s.column(2), [Value::Integer(600_000)]);
}

#[test]
fn a_branch_of_a_way_and_a_distance_are_said() {
    let (mut s, _dir) = harbour();
    let entry = s.run("/route owners dues quays");
    let words = entry.links().expect("a drawing").way_words()[0].text();
    assert_eq!(
        words,
        "the way  owners → many vessels → many visits → many dues, and visits → berths → quays"
    );
    let count = |s: &mut Session, text: &str| s.run(text).links().map_or(0, |l| l.tables.len());
    assert_eq!(count(&mut s, "/links owners"), 2);
    let further = count(&mut s, "/links owners --distance 2");
    assert!(further > 3 && further < count(&mut s, "/links"));
    assert_eq!(count(&mut s, "/links keepers quays --distance 0"), 2);
}

/// What looks like a secret is covered where it is shown and written, until it is asked for.
#[test]
fn secrets_in_results_are_covered_until_asked_for() {
    let dir = tempfile::tempdir().expect("dir");
    let hash = "$2b$12$GhvMmNVjRW29ulnudl.LbuAnUtN/LRfe1JsBm1Xu6LE3059z5Tr8m";
    let mut s = Session::new(Sqlite::memory().expect("opens"), Some(places(dir.path())));
    s.run(&format!(
        "create table keepers (id integer primary key, name text, pass_hash text, note text); insert into keepers values (1, 'mate', 'low water', '{hash}'), (2, 'pilot', null, 'plain');"
    ));
    s.run("select name, pass_hash as mark, note from keepers;");
    let covered = |s: &Session| {
        let rows = s.desk.entry().and_then(|e| e.sheet()).expect("rows");
        let set = sheet::read(&rows.set);
        let one = |row, column| {
            let value: Value = set.value(row, column).expect("there");
            rows.covers(column, value.as_ref())
        };
        [one(0, 0), one(0, 1), one(1, 1), one(0, 2), one(1, 2)]
    };
    // Under another name too; null covers nothing.
    assert_eq!(covered(&s), [false, true, false, true, false]);
    let path = dir.path().join("out.csv");
    let export = |s: &mut Session, options: &str| {
        s.desk
            .submit(&format!("/export {} {options}", path.display()));
        s.until(|desk| desk.notice().is_some_and(|n| n.text.contains("out.csv")));
        let notice = s.desk.notice().expect("said").text.clone();
        s.desk.hush();
        (std::fs::read_to_string(&path).expect("written"), notice)
    };
    let (text, notice) = export(&mut s, "");
    assert_eq!(
        text,
        "name,mark,note\nmate,covered,covered\npilot,,covered\n"
    );
    assert!(
        notice.contains("mark, note is covered in it, --revealed"),
        "{notice}"
    );
    // What is there is asked about first, and stays unless the answer is yes.
    s.desk
        .submit(&format!("/export {} --revealed", path.display()));
    s.until(|desk| desk.question().is_some());
    s.desk.answer(false);
    s.until(|desk| !desk.is_busy());
    assert_eq!(std::fs::read_to_string(&path).expect("there"), text);
    s.desk.show(s.desk.current() - 1);
    let (text, notice) = export(&mut s, "--revealed --replace");
    assert!(text.contains("low water") && text.contains(hash), "{text}");
    assert!(!notice.contains("covered"), "{notice}");
    s.view("/reveal");
    assert_eq!(covered(&s), [false; 5]);
    s.view("/reveal");
    assert_eq!(covered(&s), [false, true, false, true, false]);
    s.run("/figures keepers");
    let rows = s.desk.entry().and_then(|e| e.sheet()).expect("rows");
    let set = sheet::read(&rows.set);
    for row in 0..set.len() {
        for column in 0..set.columns().len() {
            let text = set.value(row, column).expect("there").as_ref().plain();
            assert!(
                !text.contains("low water") && !text.contains(hash),
                "{text}"
            );
        }
    }
    // The settings say what is covered.
    std::fs::write(dir.path().join("settings.toml"), "covered = [\"name\"]\n").expect("written");
    let mut s = Session::new(Sqlite::memory().expect("opens"), Some(places(dir.path())));
    s.run("select 'a' as name, 'b' as password;");
    let rows = s.desk.entry().and_then(|e| e.sheet()).expect("rows");
    assert_eq!(rows.covered_columns(), [0]);
}

/// On a source of which much depends, what takes an object away wants its name typed.
#[test]
fn dangerous_sources_want_the_name_typed() {
    let dir = tempfile::tempdir().expect("dir");
    let file = dir.path().join("tides.db");
    std::fs::write(&file, "").expect("made");
    let settings = format!(
        "[sources.tides]\naddress = '{}'\ntone = 'danger'\nwrites = 'ask'\n",
        file.display()
    );
    std::fs::write(dir.path().join("settings.toml"), settings).expect("written");
    let mut s = Session::new(Sqlite::memory().expect("opens"), Some(places(dir.path())));
    s.desk.submit("/open tides --write");
    s.until(|desk| desk.source() == "tides" && !desk.is_busy());
    s.run("create table \"High Water\" (n integer); insert into \"High Water\" values (1);");
    for (typed, there) in [("high water", true), ("High Water", false)] {
        s.desk.submit("drop table \"High Water\";");
        s.until(|desk| desk.asking().is_some());
        let asking = s.desk.asking().expect("asked");
        let text = format!("{} {}", asking.what, asking.details.join(" "));
        assert!(text.contains("Type High Water and press Enter"), "{text}");
        assert!(
            text.contains("with the only row") && text.contains("no way back"),
            "{text}"
        );
        s.desk.answer_secret(Some(typed.to_string().into()));
        s.until(|desk| !desk.is_busy());
        s.desk.take_returned();
        s.run("select count(*) from sqlite_schema;");
        assert_eq!(s.column(0), [Value::Integer(i64::from(there))], "{typed}");
    }
    // Other writes are not in the way.
    s.run("create view v as select 1; create table t (n integer primary key); insert into t values (1);");
    assert!(s.desk.asking().is_none());
}

/// The check after a change: the rows as they are now, and what was made in full.
#[test]
fn a_change_is_followed_by_its_check() {
    let mut s = Session::memory();
    s.run("create table visits (id integer primary key, note text default 'none');");
    s.until(|desk| page(&desk.entries()[1]).contains("otherwise 'none'"));
    s.run("insert into visits values (1, 'a'), (2, 'b');");
    let entry = s.run("update visits set note = 'c' where id in (1, 2);");
    assert!(
        page(entry).contains("2 rows of visits changed."),
        "{}",
        page(entry)
    );
    assert_eq!(s.column(1), [Value::from("c"), Value::from("c")]);
    // Not where its key is another one now, nor where writes are free.
    let entry = s.run("update visits set id = 9 where id = 2;");
    assert!(entry.sheet().is_none());
    s.run("begin; insert into visits values (3, 'x'); update visits set note = 'y' where id = 3;");
    assert_eq!(s.desk.session().in_transaction(), 2);
    s.run("commit;");
    assert_eq!(s.desk.session().in_transaction(), 0);
    s.run("/writes free");
    assert!(
        s.run("update visits set note = 'd' where id = 1;")
            .sheet()
            .is_none()
    );
}

/// A file is proposed as rows with the command that loads it, which leaves out what does not fit; nothing is loaded before.
#[test]
fn a_file_is_proposed_with_the_command_that_loads_it() {
    let mut s = Session::memory();
    s.run("create table levels (id integer primary key, level integer not null);");
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("levels.csv");
    std::fs::write(&path, "id;level\n1;7\n2;low\n").expect("written");
    let command = format!("/load {} --into levels", path.display());
    let loads = |s: &mut Session, command: &str| {
        let entry = s.run(command);
        assert!(entry.sheet().is_some(), "{command}");
        let proposed = entry.proposed.as_ref().expect("a proposal");
        let text = proposed.loads().map(str::to_string);
        let offered = std::iter::from_fn(|| s.desk.take_request()).find_map(|request| {
            let Request::Offer(text) = request else {
                return None;
            };
            Some(text)
        });
        assert_eq!(offered, text, "{command}");
        text
    };
    let text = loads(&mut s, &command);
    assert_eq!(text, Some(format!("{command} --bad skip --go")));
    let text = text.expect("a command");
    // What has to be settled first cannot be loaded.
    assert_eq!(loads(&mut s, &format!("{command} --leave-out level")), None);
    let count = |s: &mut Session| {
        let entry = s.run("select count(*) as n from levels;");
        let set = sheet::read(&entry.sheet().expect("rows").set);
        set.value(0, 0).expect("a value")
    };
    assert_eq!(count(&mut s), Value::Integer(0));
    s.run(&text);
    assert_eq!(count(&mut s), Value::Integer(1));
}

/// A diary has what was seen, covered where it was covered, and every state of its file is a whole one.
#[test]
fn a_diary_tells_what_was_seen_and_no_secret() {
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("walk.md");
    let name = path.display().to_string();
    let mut s = Session::memory();
    s.run("create table mates (name text, password text); insert into mates values ('Auk', 'herring gull'), (null, 'x');");
    s.run(&format!("/diary {name} --rows 1"));
    s.run("select name, password from mates;");
    s.run("select nothing from mates;");
    s.run("select 1; select 2;");
    s.run("/load - --into levels\nid;level\n1;2,5\n");
    s.run("/diary stop");
    let text = std::fs::read_to_string(&path).expect("a diary");
    assert!(!text.contains("herring"), "{text}");
    for part in [
        "# test\n\n20",
        "```sql\nselect name, password from mates;\n```\n\n2 rows, the first 1 of them.\n\n| name | password |\n| --- | --- |\n| Auk | covered |\n",
        "```sql\nselect nothing from mates;\n```\n\nRefused: ",
        "```sql\nselect 2;\n```\n\n1 row.\n",
        "```command\n/load - --into levels\nid;level\n1;2,5\n```\n\nDone.\n",
    ] {
        assert!(text.contains(part), "{part}\n---\n{text}");
    }
    // It is not written any more, and another one goes on behind it.
    s.run("select 3;");
    assert_eq!(std::fs::read_to_string(&path).expect("a diary"), text);
    s.run(&format!("/diary {name} --from 1 --to 3"));
    let more = std::fs::read_to_string(&path).expect("a diary");
    assert!(
        more.starts_with(text.trim_end()) && more.contains("create table mates"),
        "{more}"
    );
    assert_eq!(idle_tide_desk::diary::blocks(&more).len(), 7, "{more}");
    assert!(
        more.contains(" · in memory\n") && !more.contains("in in"),
        "{more}"
    );
}
