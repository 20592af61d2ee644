//! Changes that are held, on real databases: what is seen before they are kept, what others see, and what happens to
//! them when something goes wrong. One suite for all relational families, and what only some of them do.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use idle_tide_core::{Column, RowBatch, Value};
use idle_tide_desk::holding::Holding;
use idle_tide_desk::settings::Places;
use idle_tide_desk::{Content, Desk, Entry, Event, Options, State, Writes, sheet};
use idle_tide_engines::{Ask, Connection, OpenOptions, Sink, Source, open};
use secrecy::SecretString;

/// Where a test works: an address that any number of connections can open.
struct Berth {
    address: String,
    dir: tempfile::TempDir,
}

struct NoAnswer;

impl Ask for NoAnswer {
    fn secret(&self, what: &str) -> Option<SecretString> {
        panic!("{what}?")
    }
    fn allow(&self, _: &str, _: &[String]) -> bool {
        true
    }
    fn tell(&self, _: &str) {}
}

/// Keeps the last value.
struct Last(Option<Value>);

impl Sink for Last {
    fn columns(&mut self, _: Vec<Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> std::io::Result<()> {
        self.0 = batch.rows().last().map(|row| row.get(0).to_owned());
        Ok(())
    }
}

fn run(connection: &mut dyn Connection, sql: &str) -> String {
    let mut last = Last(None);
    let ran = connection.run(1, sql, &mut last);
    ran.unwrap_or_else(|error| panic!("{sql}: {error}"));
    last.0.map_or(String::new(), |value| value.as_ref().plain())
}

/// SQLite, and one server of each kind. MySQL is left out where it could not be made; scripts/test-servers says so.
fn families() -> Vec<&'static str> {
    let mysql = std::env::var("HAVEN_MYSQL_PORT").is_ok();
    let all = ["sqlite", "postgres", "mariadb", "mysql"];
    all.into_iter().filter(|f| *f != "mysql" || mysql).collect()
}

impl Berth {
    /// A database of its own with berths and ropes.
    fn new(family: &str, name: &str) -> Self {
        let dir = tempfile::tempdir().expect("dir");
        let address = match family {
            "sqlite" => {
                let file = dir.path().join("berths.db");
                std::fs::write(&file, "").expect("made");
                file.display().to_string()
            }
            family => {
                let port = format!("HAVEN_{}_PORT", family.to_uppercase());
                let port = std::env::var(&port).unwrap_or_else(|_| {
                    panic!("{port} is not set: scripts/test starts the servers")
                });
                let of = |database: &str| {
                    format!("{family}://haven:the%20owner%27s%20secret@127.0.0.1:{port}/{database}")
                };
                let first = if family == "postgres" { "postgres" } else { "" };
                let mut admin = connect(&of(first));
                run(&mut *admin, &format!("drop database if exists {name}"));
                run(&mut *admin, &format!("create database {name}"));
                of(name)
            }
        };
        let berth = Berth { address, dir };
        let mut other = berth.other();
        for sql in [
            "create table berths (id integer primary key, quay varchar(9), depth integer)",
            "create table ropes (id integer primary key, berth integer references berths (id) on delete cascade)",
            "insert into berths values (1, 'N', 3), (2, 'N', 4), (3, 'E', 5)",
            "insert into ropes values (1, 1), (2, 1), (3, 3)",
        ] {
            run(&mut *other, sql);
        }
        berth
    }

    /// Somebody else.
    fn other(&self) -> Box<dyn Connection> {
        connect(&self.address)
    }

    fn session(&self) -> Session {
        self.session_with("")
    }

    fn session_with(&self, settings: &str) -> Session {
        let places = places(self.dir.path());
        std::fs::write(&places.settings, settings).expect("written");
        let (sender, inbox) = channel();
        let options = Options {
            source: "berths".into(),
            writes: Writes::Ask,
            places: Some(places),
            stream: None,
        };
        let notify = Arc::new(move |event| {
            let _ = sender.send(event);
        });
        let mut session = Session {
            desk: Desk::new(self.other(), options, notify),
            inbox,
        };
        session.desk.arrive();
        session.until("arrived", |desk| {
            desk.entry().is_some_and(|entry| entry.state == State::Done)
        });
        session
    }
}

fn connect(address: &str) -> Box<dyn Connection> {
    let source = Source::parse(address).expect("an address");
    let options = OpenOptions {
        write: true,
        ..OpenOptions::default()
    };
    open(&source, options, &NoAnswer).unwrap_or_else(|error| panic!("{address}: {error}"))
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

struct Session {
    desk: Desk,
    inbox: Receiver<Event>,
}

impl Session {
    fn until(&mut self, what: &str, done: impl Fn(&Desk) -> bool) {
        let start = Instant::now();
        while !done(&self.desk) {
            assert!(
                start.elapsed() < Duration::from_secs(30),
                "never {what}: {:?} {:?}",
                self.desk.entry(),
                self.desk.notice()
            );
            if let Ok(event) = self.inbox.recv_timeout(Duration::from_millis(50)) {
                self.desk.handle(event);
            }
        }
    }

    fn run(&mut self, text: &str) -> &Entry {
        self.desk.submit(text);
        self.until("done", |desk| !desk.is_busy() || desk.question().is_some());
        self.desk.entry().expect("an entry")
    }

    /// Submits a change, which is held; what is said of it.
    fn hold(&mut self, text: &str) -> String {
        let entry = self.run(text);
        assert_eq!(entry.holding, Some(Holding::Held), "{text}: {entry:?}");
        said(entry)
    }

    /// Ends what is held; how its entry stands then, and what it says.
    fn settle(&mut self, command: &str) -> (Option<Holding>, String) {
        let entry = self.desk.session().held().expect("held").entry;
        self.desk.submit(command);
        self.settled(entry)
    }

    fn settled(&mut self, entry: u32) -> (Option<Holding>, String) {
        self.until("settled", |desk| desk.session().held().is_none());
        let entries = self.desk.entries();
        let entry = entries.iter().find(|e| e.number == entry).expect("there");
        (entry.holding, said(entry))
    }

    /// The rows of the entry that is shown, their column names first.
    fn rows(&self) -> Vec<String> {
        let rows = self.desk.entry().and_then(|e| e.sheet()).expect("rows");
        let set = sheet::read(&rows.set);
        let mut list = vec![rows.labels.join(" ")];
        for row in 0..set.len() {
            let values = (0..rows.labels.len())
                .map(|column| set.value(row, column).expect("there").as_ref().plain());
            list.push(values.collect::<Vec<_>>().join(" "));
        }
        list
    }
}

/// What an entry says: the page above its rows, its page, or its failure.
fn said(entry: &Entry) -> String {
    match (&entry.above, &entry.content) {
        (Some(page), _) | (None, Content::Page(page)) => page.text(),
        (_, Content::Failure(failure)) => format!("{} {}", failure.headline, failure.changed),
        (_, other) => panic!("nothing said: {other:?}"),
    }
}

const DEPTHS: &str = "select sum(depth) from berths";

#[test]
fn a_change_is_seen_before_and_after_and_by_nobody_else() {
    for family in families() {
        let berth = Berth::new(family, "held_seen");
        let mut other = berth.other();
        let mut s = berth.session();
        let text = s.hold("update berths set depth = depth + 10 where quay = 'N'; select 1;");
        assert!(
            text.contains("2 rows of berths changed: held"),
            "{family}: {text}"
        );
        assert_eq!(
            s.rows(),
            ["id depth before depth after quay", "1 3 13 N", "2 4 14 N"],
            "{family}"
        );
        // What was submitted behind it waits in the composer.
        assert_eq!(s.desk.take_returned().expect("returned").text, "select 1;");
        assert_eq!(run(&mut *other, DEPTHS), "12", "{family}");
        let (holding, text) = s.settle("/take-back");
        assert_eq!(holding, Some(Holding::TakenBack), "{family}");
        assert!(text.contains("as it was before"), "{family}: {text}");
        s.run(&format!("{DEPTHS};"));
        assert_eq!(s.rows()[1], "12", "{family}");

        // A name with its schema is read as well.
        let schema = match family {
            "sqlite" => "main",
            "postgres" => "public",
            _ => "held_seen",
        };
        s.hold(&format!("update {schema}.berths set depth = 7;"));
        assert_eq!(s.rows().len(), 4, "{family}");
        s.settle("/take-back");
        if ["sqlite", "postgres"].contains(&family) {
            s.hold(&format!(
                "update {schema}.berths as b set depth = 7 from berths c where c.id = b.id;"
            ));
            s.settle("/take-back");
        }
        let before = s.desk.entries().len();
        s.hold("update berths set depth = 0;");
        assert_eq!(s.rows().len(), 4);
        let (holding, _) = s.settle("/keep");
        assert_eq!(holding, Some(Holding::Kept), "{family}");
        assert_eq!(run(&mut *other, DEPTHS), "0", "{family}");
        assert!(s.desk.bearings().transaction.is_none());
        // The check after it says what the table holds now.
        s.until("checked", |desk| {
            said(&desk.entries()[before]).contains("3 rows in berths")
        });
        assert!(
            s.run("/keep").state == State::Failed,
            "nothing is held any more"
        );
    }
}

#[test]
fn what_goes_with_it_is_counted_and_new_rows_are_shown() {
    for family in families() {
        let berth = Berth::new(family, "held_counted");
        let reading = Arc::new(AtomicBool::new(family == "mariadb"));
        let reads = reading.clone();
        let mut other = berth.other();
        // Somebody who reads a server's table of transactions all the time keeps it from being of now.
        let reader = std::thread::spawn(move || {
            while reads.load(Ordering::Relaxed) {
                run(
                    &mut *other,
                    "select count(*) from information_schema.innodb_trx",
                );
                std::thread::sleep(Duration::from_millis(20));
            }
        });
        let mut s = berth.session();
        let text = s.hold("delete from berths where depth < 5;");
        assert!(
            text.contains("2 rows deleted from berths: held"),
            "{family}: {text}"
        );
        assert!(
            text.contains("by links and triggers: 2 rows of ropes."),
            "{family}: {text}"
        );
        assert_eq!(s.rows()[1..], ["1 N 3", "2 N 4"], "{family}");
        s.settle("/take-back");
        s.hold("insert into berths select id + 10, quay, depth from berths;");
        assert_eq!(s.rows()[1..], ["11 N 3", "12 N 4", "13 E 5"], "{family}");
        s.settle("/take-back");
        // A trigger writes elsewhere.
        let trigger = match family {
            "sqlite" => {
                "create trigger w after update on berths begin insert into ropes select max(id) + 1, 2 from ropes; end"
            }
            "postgres" => {
                "create function w() returns trigger language plpgsql as $$ begin insert into ropes select max(id) + 1, 2 from ropes; return new; end $$; create trigger w after update on berths for each row execute function w()"
            }
            _ => {
                "create trigger w after update on berths for each row insert into ropes values (new.id + 90, 2)"
            }
        };
        s.run(&format!("{trigger};"));
        s.run("/about berths");
        let text = s.hold("update berths set depth = 1 where quay = 'N';");
        let words = match family {
            "postgres" => "by links and triggers: 2 rows of ropes.",
            _ => "by links and triggers: 2 rows of other tables.",
        };
        assert!(text.contains(words), "{family}: {text}");
        s.settle("/keep");
        reading.store(false, Ordering::Relaxed);
        reader.join().expect("read");
    }
}

#[test]
fn nothing_else_is_written_meanwhile_and_a_slip_takes_nothing_with_it() {
    for family in families() {
        let berth = Berth::new(family, "held_meanwhile");
        let mut s = berth.session();
        s.hold("update berths set depth = 9 where quay = 'N';");
        for refused in [
            "insert into berths values (7, 'S', 1);",
            "commit;",
            "begin;",
            "create table t (n integer);",
            "delete from ropes;",
        ] {
            let entry = s.run(refused);
            assert_eq!(entry.state, State::Failed, "{family}: {refused}");
            assert!(said(entry).contains("A change is held"), "{}", said(entry));
        }
        assert_eq!(s.run("select dept from berths;").state, State::Failed);
        s.run(&format!("{DEPTHS};"));
        assert_eq!(
            s.rows()[1],
            "23",
            "{family}: the session sees its own change"
        );
        s.run("/about berths");
        assert_eq!(s.settle("/keep").0, Some(Holding::Kept), "{family}");
        assert_eq!(run(&mut *berth.other(), DEPTHS), "23", "{family}");
    }
}

#[test]
fn what_is_refused_or_changes_nothing_is_not_held() {
    for family in families() {
        let berth = Berth::new(family, "held_refused");
        let mut s = berth.session();
        for (text, state) in [
            ("update berths set id = 2 where quay = 'N';", State::Failed),
            (
                "update berths set dept = 2 where quay = 'N';",
                State::Failed,
            ),
            (
                "update berths set depth = 2 where qua = 'N';",
                State::Failed,
            ),
            ("update berths set depth = 2 where quay = 'Z';", State::Done),
            ("delete from berths where id in (7, 8);", State::Done),
            (
                "insert into berths values (7, 'S', 1), (8, 'S', 1);",
                State::Done,
            ),
        ] {
            let entry = s.run(text);
            assert_eq!(
                (entry.state, entry.holding),
                (state, None),
                "{family}: {text}"
            );
            assert!(s.desk.session().held().is_none() && s.desk.bearings().transaction.is_none());
            s.desk.take_returned();
        }
        // A slip in the condition is told of the statement that was typed.
        s.run("update berths set depth = 2 where qua = 'N';");
        let returned = s.desk.take_returned().expect("returned");
        assert_eq!(returned.place, Some(34..37), "{family}: {}", returned.text);
        assert_eq!(run(&mut *berth.other(), "select count(*) from berths"), "5");
        // By a key of few rows it goes straight through; from how many on it does not is a setting.
        let entry = s.run("update berths set depth = 1 where id in (7, 8);");
        assert_eq!((entry.state, entry.holding), (State::Done, None));
        let mut s = berth.session_with("look-from = 1\n");
        s.hold("update berths set depth = 1 where id = 2;");
        s.settle("/take-back");
    }
}

#[test]
fn it_stands_in_a_transaction_of_the_user_too() {
    for family in families() {
        let berth = Berth::new(family, "held_within");
        let mut s = berth.session();
        s.run("begin;");
        s.run("insert into berths values (7, 'S', 100);");
        // Once it has looked at its catalog in a transaction, this server makes no savepoint in it.
        if family == "mariadb" {
            s.run("update berths set depth = 0;");
            let question = s.desk.question().expect("asked").page.text();
            assert!(question.contains("This changes all 4 rows"), "{question}");
            assert!(question.contains("SAVEPOINT"), "{question}");
            s.desk.answer(false);
            continue;
        }
        s.hold("update berths set depth = 0;");
        s.settle("/take-back");
        s.hold("delete from berths where quay = 'E';");
        let (_, text) = s.settle("/keep");
        assert!(text.contains("commit; keeps that"), "{family}: {text}");
        assert_eq!(run(&mut *berth.other(), DEPTHS), "12", "{family}");
        s.run("commit;");
        assert_eq!(run(&mut *berth.other(), DEPTHS), "107", "{family}");
    }
}

#[test]
fn its_time_is_over() {
    let berth = Berth::new("sqlite", "held_time");
    let mut s = berth.session_with("hold-minutes = 0.01\n");
    let text = s.hold("update berths set depth = 0;");
    assert!(
        text.contains("after 600 ms that happens by itself"),
        "{text}"
    );
    let entry = s.desk.entry().expect("held").number;
    let (holding, text) = s.settled(entry);
    assert_eq!(holding, Some(Holding::TakenBack));
    assert!(text.contains("Its time was over"), "{text}");
    assert_eq!(run(&mut *berth.other(), DEPTHS), "12");
    // Who wants none held is asked with the numbers.
    let mut s = berth.session_with("hold-minutes = 0\n");
    s.run("update berths set depth = 0 where depth > 3;");
    let question = s.desk.question().expect("asked").page.text();
    assert!(
        question.contains("This changes 2 rows of berths.") && question.contains("hold-minutes"),
        "{question}"
    );
    s.desk.answer(true);
    s.until("done", |desk| !desk.is_busy());
    assert_eq!(run(&mut *berth.other(), DEPTHS), "3");
}

/// The program is gone while it holds: nothing is kept, and who comes next is told.
#[test]
fn who_comes_after_a_crash_is_told() {
    let berth = Berth::new("sqlite", "held_crash");
    let mut s = berth.session();
    s.hold("update berths set depth = 0;");
    let holds = berth.dir.path().join("holds");
    let own = holds.join(format!("{}.json", std::process::id()));
    let start = Instant::now();
    while !own.exists() {
        assert!(
            start.elapsed() < Duration::from_secs(10),
            "never kept in mind"
        );
        std::thread::yield_now();
    }
    let left = std::fs::read(&own).expect("read");
    s.settle("/take-back");
    while own.exists() {
        assert!(
            start.elapsed() < Duration::from_secs(10),
            "kept in mind for ever"
        );
        std::thread::yield_now();
    }
    std::fs::write(holds.join("4194999.json"), left).expect("left behind");
    let s = berth.session();
    let card = said(&s.desk.entries()[0]);
    assert!(
        card.contains("3 rows of berths changed: this was held when the program ended"),
        "{card}"
    );
}

/// How a server is told to end a session, and what tells a session's number.
const SERVERS: [(&str, &str, &str); 3] = [
    (
        "postgres",
        "select pg_terminate_backend({})",
        "select pg_backend_pid()",
    ),
    ("mariadb", "kill {}", "select connection_id()"),
    ("mysql", "kill {}", "select connection_id()"),
];

#[test]
fn a_lost_connection_takes_it_back() {
    for (family, kill, own) in SERVERS {
        if !families().contains(&family) {
            continue;
        }
        let berth = Berth::new(family, "held_lost");
        let mut other = berth.other();
        let mut s = berth.session();
        s.run(&format!("{own};"));
        let number = s.rows()[1].clone();
        s.hold("update berths set depth = 0;");
        let entry = s.desk.session().held().expect("held").entry;
        run(&mut *other, &kill.replace("{}", &number));
        s.desk.submit("/keep");
        let (holding, text) = s.settled(entry);
        // It was sent, and no answer came; or the end was heard before.
        assert!(
            matches!(holding, Some(Holding::Unknown | Holding::TakenBack)),
            "{family}: {text}"
        );
        assert!(s.desk.session().is_lost(), "{family}");
        assert_eq!(run(&mut *other, DEPTHS), "12", "{family}");
    }
}

/// What comes while nothing runs is told without a statement: what others sent, and the end of the connection, which
/// takes a held change back.
#[test]
fn an_idle_connection_is_listened_to() {
    let berth = Berth::new("postgres", "held_idle");
    let mut other = berth.other();
    let mut s = berth.session();
    s.run("select pg_backend_pid();");
    let number = s.rows()[1].clone();
    s.run("listen tides;");
    run(&mut *other, "notify tides, 'springs'");
    s.until("the notification", |desk| {
        desk.notice()
            .is_some_and(|notice| notice.text == "heard on tides: springs")
    });
    s.hold("update berths set depth = 0;");
    let entry = s.desk.session().held().expect("held").entry;
    run(
        &mut *other,
        &format!("select pg_terminate_backend({number})"),
    );
    let (holding, text) = s.settled(entry);
    assert_eq!(holding, Some(Holding::TakenBack), "{text}");
    assert!(s.desk.session().is_lost() && s.desk.bearings().transaction.is_none());
    assert_eq!(run(&mut *other, DEPTHS), "12");
}

/// The end of a link is told while nothing is asked on it.
#[test]
fn an_idle_connection_that_ends_is_told() {
    for (family, kill, own) in SERVERS {
        if !families().contains(&family) {
            continue;
        }
        let berth = Berth::new(family, "held_ended");
        let mut other = berth.other();
        let mut s = berth.session();
        s.run(&format!("{own};"));
        let number = s.rows()[1].clone();
        s.run("begin;");
        run(&mut *other, &kill.replace("{}", &number));
        s.until("the end", |desk| desk.session().is_lost());
        let notice = s.desk.notice().expect("said").text.clone();
        assert!(
            notice.contains("lost while nothing ran")
                && notice.contains("taken back by the server"),
            "{family}: {notice}"
        );
        // What is sent after it is told the same.
        let told = said(s.run("insert into berths values (8, 'S', 1);"));
        assert!(told.contains("nothing of it is kept"), "{family}: {told}");
    }
}

/// Whoever waits for a lock is told who holds it.
#[test]
fn a_lock_that_is_waited_for_is_told() {
    for (family, ..) in SERVERS {
        if !families().contains(&family) {
            continue;
        }
        let berth = Berth::new(family, "held_blocked");
        let mut other = berth.other();
        let mut s = berth.session();
        run(&mut *other, "begin");
        run(&mut *other, "update berths set depth = 7 where id = 1");
        s.desk.submit("update berths set depth = 8 where id = 1;");
        s.until("who holds it", |desk| {
            let words = desk.blocked().unwrap_or_default();
            words.starts_with("waits for a lock that haven holds (process ")
                && words.contains(", idle ")
        });
        run(&mut *other, "commit");
        s.until("done", |desk| !desk.is_busy());
        assert!(s.desk.blocked().is_none());
        let depth = "select depth from berths where id = 1";
        assert_eq!(run(&mut *other, depth), "8", "{family}");
    }
}

#[test]
fn who_waits_for_it_is_told() {
    for family in families().into_iter().filter(|f| *f != "sqlite") {
        let berth = Berth::new(family, "held_waits");
        let mut other = berth.other();
        let mut s = berth.session();
        s.hold("update berths set depth = 0 where quay = 'N';");
        let waits = std::thread::spawn(move || {
            run(
                &mut *other,
                "update berths set depth = depth + 1 where id = 1",
            )
        });
        s.until("waited for", |desk| {
            let held = desk.session().held().expect("held");
            held.waits == ["haven"]
        });
        s.settle("/keep");
        waits.join().expect("goes on");
        assert_eq!(
            run(&mut *berth.other(), "select depth from berths where id = 1"),
            "1"
        );
    }
}

/// A condition that has to hold at the end keeps it from being kept.
#[test]
fn what_cannot_be_kept_is_taken_back() {
    let berth = Berth::new("postgres", "held_deferred");
    run(
        &mut *berth.other(),
        "create table marks (id integer primary key, berth integer references berths (id) deferrable initially deferred)",
    );
    run(
        &mut *berth.other(),
        "insert into marks values (1, 1), (2, 2)",
    );
    let mut s = berth.session();
    s.hold("update marks set berth = 77 where berth < 3;");
    let (holding, text) = s.settle("/keep");
    assert_eq!(holding, Some(Holding::TakenBack));
    assert!(
        text.contains("was not kept") && text.contains("foreign key"),
        "{text}"
    );
    assert!(s.desk.bearings().transaction.is_none());
    assert_eq!(
        run(&mut *berth.other(), "select max(berth) from marks"),
        "2"
    );
}

/// What its storage engine cannot take back is asked about with its numbers.
#[test]
fn what_cannot_be_taken_back_says_so_before() {
    for family in families() {
        if family.starts_with('m') {
            cannot_be_taken_back(family);
        }
    }
}

fn cannot_be_taken_back(family: &str) {
    let berth = Berth::new(family, "held_engine");
    run(
        &mut *berth.other(),
        "create table buoys (id integer primary key, lit integer) engine = MyISAM",
    );
    run(
        &mut *berth.other(),
        "insert into buoys values (1, 0), (2, 0), (3, 1)",
    );
    let mut s = berth.session();
    for (text, words) in [
        (
            "update buoys set lit = 1 where lit = 0;",
            "This changes 2 rows of buoys.",
        ),
        ("delete from buoys;", "This deletes all 3 rows of buoys."),
    ] {
        s.run(text);
        let question = s.desk.question().expect("asked").page.text();
        assert!(question.contains(words), "{question}");
        assert!(
            question.contains("the storage engine MyISAM takes nothing back"),
            "{question}"
        );
        s.desk.answer(false);
        s.desk.take_returned();
    }
    assert_eq!(run(&mut *berth.other(), "select sum(lit) from buoys"), "1");
}

#[test]
fn a_stop_in_the_middle_leaves_nothing() {
    for (family, slow) in [
        ("postgres", "pg_sleep(60)::text = ''"),
        ("mariadb", "sleep(60) = 0"),
        ("mysql", "sleep(60) = 0"),
    ] {
        if !families().contains(&family) {
            continue;
        }
        let berth = Berth::new(family, "held_stopped");
        let mut s = berth.session();
        s.desk
            .submit(&format!("update berths set depth = 0 where {slow};"));
        s.until("away", |desk| {
            desk.running().is_some_and(|entry| entry.started.is_some())
        });
        std::thread::sleep(Duration::from_millis(300));
        s.desk.cancel();
        s.until("stopped", |desk| !desk.is_busy());
        assert_eq!(
            s.desk.entry().expect("entry").state,
            State::Stopped,
            "{family}"
        );
        assert!(s.desk.bearings().transaction.is_none(), "{family}");
        assert_eq!(run(&mut *berth.other(), DEPTHS), "12", "{family}");
    }
}

/// Rows without columns are rows still.
#[test]
fn rows_without_columns_are_no_missing_documents() {
    let berth = Berth::new("postgres", "held_columns");
    let mut s = berth.session();
    let entry = s.run("select from berths;");
    let told = format!("{} {}", said(entry), entry.words().0);
    assert!(
        told.starts_with("Rows without columns.")
            && !told.contains("document")
            && !told.contains("0 rows"),
        "{told}"
    );
}

/// A flow that gives nothing says so, and a slip in the flow of a command is shown where it was typed.
#[test]
fn flows_without_documents_and_with_slips() {
    let folder = tempfile::tempdir().expect("dir");
    std::fs::write(folder.path().join("landings.jsonl"), "{\"number\": 1}\n").expect("written");
    let berth = Berth {
        address: format!("docs:{}", folder.path().display()),
        dir: tempfile::tempdir().expect("dir"),
    };
    let mut s = berth.session();
    let entry = s.run("from landings where number > 1;");
    assert!(said(entry).starts_with("No documents."), "{}", said(entry));
    assert!(entry.words().0.starts_with("0 documents"));
    // Nothing is asked of what is not there.
    for text in ["empty nowhere;", "drop collection nowhere;"] {
        let entry = s.run(text);
        let told = format!("{} {:?}", said(entry), entry.outcome);
        assert!(told.contains("There is no collection nowhere"), "{told}");
        assert!(!told.contains("is there still"), "{told}");
    }
    let text = "/stages from landings where number > 0 fold count() as n";
    assert_eq!(s.run(text).state, State::Failed);
    let place = s.desk.take_returned().expect("returned").place;
    let place = place.expect("a place");
    assert_eq!(&text[place], "(");
}

/// Documents are looked at in the same way: in files, which are changed whole when the change is kept, and on servers
/// that have transactions. On others the numbers are asked about first.
#[test]
fn documents_are_looked_at_too() {
    use idle_tide_dock::server::{Server, Settings, Store, listen};
    let folder = tempfile::tempdir().expect("dir");
    let lines = folder.path().join("landings.jsonl");
    idle_tide_dock::files::write(
        &lines,
        idle_tide_dock::files::Form::Lines,
        &mut idle_tide_dock::harbour::collection("landings", 40)
            .into_iter()
            .map(Ok),
    )
    .expect("written");
    let served = |replica_set: Option<&str>| {
        let mut store = Store::default();
        let landings = idle_tide_dock::harbour::collection("landings", 40);
        store.fill("haven", "landings", landings).expect("filled");
        let settings = Settings {
            replica_set: replica_set.map(Into::into),
            ..Settings::default()
        };
        listen(Server::new(store, settings), 0, None).expect("listens")
    };
    let (set, alone) = (served(Some("haven")), served(None));
    let address = |port: u16| format!("mongodb://127.0.0.1:{port}/haven");
    for (place, held) in [
        (format!("docs:{}", folder.path().display()), true),
        (
            format!("{}?replicaSet=haven", address(set.address.port())),
            true,
        ),
        (address(alone.address.port()), false),
    ] {
        let berth = Berth {
            address: place,
            dir: tempfile::tempdir().expect("dir"),
        };
        let mut other = berth.other();
        let mut count = |condition: &str| {
            run(
                &mut *other,
                &format!("from landings where {condition} count"),
            )
        };
        let mut s = berth.session();
        let change = "update landings where number between 2 and 20 set port = 'Outer Spit', seen.by = 'mate';";
        if !held {
            s.run(change);
            let question = s.desk.question().expect("asked").page.text();
            assert!(
                question.contains("This changes 19 documents of landings.")
                    && question.contains("no transactions here")
                    && question.contains("Some of them, as they are:")
                    && question.contains("number 2 "),
                "{question}"
            );
            s.desk.answer(true);
            s.until("done", |desk| !desk.is_busy());
            assert_eq!(count("seen.by = 'mate'"), "19");
            continue;
        }
        let text = s.hold(change);
        assert!(
            text.contains("19 documents of landings changed: held"),
            "{text}"
        );
        let rows = s.rows();
        assert!(
            rows[0].starts_with("_id") && rows[0].contains("port before port after"),
            "{}",
            rows[0]
        );
        assert!(rows[0].contains("seen.by after"), "{}", rows[0]);
        assert_eq!(rows.len(), 20);
        assert_eq!(count("seen.by = 'mate'"), "0");
        assert_eq!(s.settle("/take-back").0, Some(Holding::TakenBack));
        assert_eq!(count("seen.by = 'mate'"), "0");
        s.hold("delete from landings where number < 10;");
        assert_eq!(s.settle("/keep").0, Some(Holding::Kept));
        assert_eq!(count("number > 0"), "31");
        // A few by their identifier go straight through.
        let entry = s.run("delete from landings where _id = 4;");
        assert_eq!(entry.holding, None);
        s.hold("empty landings;");
        let (holding, text) = s.settle("/keep");
        assert_eq!(holding, Some(Holding::Kept), "{text}");
        assert_eq!(count("number > 0"), "0");
    }
}

/// Who lacks a right is told which one.
#[test]
fn a_missing_right_is_named() {
    for family in families().into_iter().filter(|f| *f != "sqlite") {
        let berth = Berth::new(family, "held_rights");
        let mut owner = berth.other();
        let (user, grant) = match family {
            "postgres" => ("held_mate", "grant select on berths to held_mate"),
            _ => (
                "held_mate",
                "grant select on held_rights.berths to held_mate",
            ),
        };
        let make = match family {
            "postgres" => format!("create role {user} login password 'word'"),
            _ => format!("create user {user} identified by 'word'"),
        };
        if family == "postgres" {
            // So it is by itself from version 15 on.
            run(&mut *owner, "revoke create on schema public from public");
        }
        run(&mut *owner, &format!("drop user if exists {user}"));
        run(&mut *owner, &make);
        run(&mut *owner, grant);
        let mate = Berth {
            address: berth
                .address
                .replace("haven:the%20owner%27s%20secret", &format!("{user}:word")),
            dir: tempfile::tempdir().expect("dir"),
        };
        let mut s = mate.session();
        for (text, words) in [
            (
                "update berths set depth = 1 where quay = 'N';",
                "the right update",
            ),
            ("delete from berths;", "the right delete"),
            (
                "insert into berths values (9, 'N', 1);",
                "the right insert is missing on berths",
            ),
            (
                "select * from ropes;",
                "may not read ropes: the right select is missing",
            ),
            ("create table t (n integer);", "the right create"),
        ] {
            let said = said(s.run(text));
            assert!(said.contains(words), "{family}: {text}: {said}");
            assert!(s.desk.bearings().transaction.is_none(), "{family}: {text}");
            s.desk.take_returned();
        }
        drop(s);
        run(
            &mut *berth.other(),
            &grant.replace("grant", "revoke").replace(" to ", " from "),
        );
        run(&mut *berth.other(), &format!("drop user {user}"));
    }
}
