//! What somebody new to documents does, in the real program, over files and over the wire against the practice server: see what is there,
//! ask, compare, group, look at the stages, save, check, drop.

mod terminal;

use std::path::Path;
use std::process::Command;

use terminal::{Tmux, practice};

/// Submits a flow and waits for what it comes to.
fn ask(t: &Tmux, flow: &str, outcome: &str) -> String {
    t.types(flow);
    t.keys(&["F5"]);
    t.when(&format!("{outcome} of {flow}"), |screen| {
        screen.contains(outcome)
    })
}

fn use_it(t: &Tmux) {
    t.line("/collections");
    let screen = t.when("the collections", |s| {
        s.contains("landings") && s.contains("watch_log") && s.contains("3 rows")
    });
    assert!(screen.contains("collection"));
    t.line("/shape landings");
    t.when("the shape", |s| {
        s.contains("lines.species") && s.contains("list of object") && s.contains("text in a list")
    });
    ask(t, "from landings count", "4000");
    ask(t, "from landings where port = 'Brackwater' count", "1960");
    ask(t, "from landings distinct lines.species", "12 documents");
    // Every comparison, and how they combine.
    for (condition, count) in [
        ("number = 7", "1"),
        ("number <> 7", "3999"),
        ("number < 7", "6"),
        ("number <= 7", "7"),
        ("number > 3990", "10"),
        ("number >= 3990", "11"),
        ("number between 10 and 19", "10"),
        ("number in (1, 2, 9999)", "2"),
        ("number not in (1, 2)", "3998"),
        ("number < 3 or number > 3999 and not number = 4000", "2"),
        ("note is missing and number <= 0", "0"),
    ] {
        t.types(&format!("from landings where {condition} count as found"));
        t.keys(&["F5"]);
        t.when(&format!("{count} of {condition}"), |s| {
            let asked = s
                .lines()
                .take(4)
                .any(|l| l.contains(condition) && l.contains("1 document"));
            asked
                && s.lines()
                    .any(|l| l.trim_start_matches(['▌', ' ']).trim() == count)
        });
    }
    let flow = "from landings where port = 'Brackwater' unnest lines group by species: lines.species { landings: count(), kg: sum(lines.kg) } where kg >= 9000 order by kg desc";
    let screen = ask(t, flow, "6 documents");
    assert!(screen.find("brown crab") < screen.find("whelk"), "{screen}");
    // Its stages, with their numbers.
    t.types("/stages");
    t.keys(&["Enter"]);
    let screen = t.when("the stages", |s| {
        s.contains("2 040 dropped") && s.contains("8 899")
    });
    assert!(
        screen.contains("1 960 became 8 899") && screen.contains("6 dropped"),
        "{screen}"
    );
    // Saved, checked, dropped.
    t.types(&format!("{flow} save into heavy"));
    t.keys(&["F5"]);
    t.when("it is saved", |s| {
        s.contains("came into being") || s.contains("heavy holds 6 documents")
    });
    ask(t, "from heavy count as kept", "kept");
    t.when("six", |s| {
        s.lines()
            .any(|l| l.trim_start_matches(['▌', ' ']).trim() == "6")
    });
    t.types("drop collection heavy");
    t.keys(&["F5"]);
    t.until("This removes the collection heavy with all 6 documents.");
    t.keys(&["y"]);
    t.until("The collection heavy was removed");
    // SQL gets a friendly word, and its like as a flow.
    t.types("select * from landings limit 2");
    t.keys(&["F5"]);
    t.until("This database takes flows, not SQL.");
    t.keys(&["Tab", "F5"]);
    t.until("2 documents");
}

#[test]
fn documents_in_files() {
    let t = Tmux::open(142, 42);
    t.start("demo --docs");
    use_it(&t);
}

#[test]
fn doubts_parameters_and_links() {
    let t = Tmux::open(142, 42);
    t.start("demo --docs");
    // What is doubtful is said while it is written, and mended.
    t.until("/help flows");
    t.types("from landings where prt = 'Outer Spit' ");
    t.until("documents looked at has prt. The nearest is port.");
    t.keys(&["Tab"]);
    t.until("Tab offers port");
    t.keys(&["Tab"]);
    t.until("from landings where port = 'Outer Spit'");
    t.keys(&["C-e", "C-u"]);
    t.types("from landings group by port { kg: sum(lines.kg) }");
    t.until("unnest lines makes one document of each element");
    t.keys(&["C-e", "C-u"]);
    // Values are asked for; leaving runs nothing and loses nothing.
    let flow = "from landings where port = :port and number < :below count as asked";
    t.types(flow);
    t.keys(&["F5"]);
    t.until("Value of :port");
    t.types("Outer Spit");
    t.keys(&["Enter"]);
    t.until("Value of :below");
    t.keys(&["Escape"]);
    t.when("it was not run, and is there still", |s| {
        s.contains("It was not run.") && s.matches(flow).count() == 2
    });
    t.keys(&["F5"]);
    t.until("Value of :port");
    t.types("Brackwater");
    t.keys(&["Enter"]);
    t.until("Value of :below");
    t.types("4");
    t.keys(&["Enter"]);
    t.when("three landings", |s| {
        s.lines()
            .any(|l| l.trim_start_matches(['▌', ' ']).trim() == "3")
    });
    // Links are guessed, checked against the data, and written as a join.
    t.keys(&["F6"]);
    t.until("3 collections · 1 link");
    t.keys(&["c"]);
    t.until("4 000 of 4 000 values match");
    t.keys(&["Escape"]);
    t.line("/route landings surveys");
    t.until("each document gets a list of what is found");
    t.keys(&["Escape", "j"]);
    t.until("join surveys as s on vessel.call_sign = s.vessel.call_sign");
}

#[test]
fn transactions_and_users_over_the_wire() {
    let server = practice(&["--replica-set", "haven"]);
    let t = Tmux::open(142, 42);
    t.start(&server.address);
    t.until("/help flows");
    t.types("begin");
    t.keys(&["F5"]);
    t.until("transaction open");
    t.types("delete from landings where number > 10");
    t.keys(&["F5"]);
    t.until("3 990 documents deleted from landings.");
    ask(&t, "from landings count as left", "left");
    t.when("ten are left", |s| {
        s.lines()
            .any(|l| l.trim_start_matches(['▌', ' ']).trim() == "10")
    });
    t.types("rollback");
    t.keys(&["F5"]);
    t.when("it is taken back", |s| {
        s.contains("taken back") && s.contains("no transaction")
    });
    ask(&t, "from landings count as again", "again");
    t.when("all are there", |s| {
        s.lines()
            .any(|l| l.trim_start_matches(['▌', ' ']).trim() == "4000")
    });
    t.types("create user mate with roles ['read']");
    t.keys(&["F5"]);
    t.until("Value of :?password");
    t.types("low water");
    t.keys(&["Enter"]);
    let screen = t.until("The user mate was made");
    assert!(!screen.contains("low water"), "{screen}");
    t.line("/roles");
    t.until("mate");
}

/// Another database, the catalog's list of them, and coming anew, on a document server.
#[test]
fn going_elsewhere_on_a_document_server() {
    let server = practice(&[]);
    let t = Tmux::open(142, 42);
    t.start(&server.address);
    t.until("/help flows");
    t.line("/use sheds");
    t.when("the other database", |s| {
        s.lines().next().is_some_and(|top| top.contains(" sheds "))
    });
    ask(&t, "insert into tools { _id: 1 }", "came into being");
    t.line("/use harbour-log");
    t.when("the first again", |s| {
        s.lines()
            .next()
            .is_some_and(|top| top.contains("harbour-log"))
    });
    ask(&t, "from landings count as found", "found");
    // The catalog has both databases, and goes to the other one.
    t.keys(&["F2"]);
    t.until("sheds");
    t.keys(&["Left"]);
    t.types("sheds");
    t.until("goes to sheds");
    t.keys(&["Enter"]);
    t.when("there", |s| {
        s.lines().next().is_some_and(|top| top.contains(" sheds "))
    });
    t.keys(&["Escape"]);
    t.line("/reopen");
    t.until("Try ");
    let screen = t.when("the same database", |s| {
        s.lines().next().is_some_and(|top| top.contains(" sheds "))
    });
    assert!(!screen.contains("file"), "{screen}");
    ask(&t, "from tools count as kept", "kept");
}

#[test]
fn documents_over_the_wire() {
    let server = practice(&[]);
    let t = Tmux::open(142, 42);
    t.start(&server.address);
    use_it(&t);
}

/// What a statement gives, as JSON lines; with a folder for what the program keeps.
fn rows_of(state: &Path, address: &str, statement: &str) -> String {
    let done = Command::new(env!("CARGO_BIN_EXE_idle-tide"))
        .args(["run", address, "--format", "jsonl", statement])
        .env("XDG_STATE_HOME", state)
        .output()
        .expect("runs");
    assert!(
        done.status.success(),
        "{}",
        String::from_utf8_lossy(&done.stderr)
    );
    String::from_utf8_lossy(&done.stdout).into_owned()
}

#[test]
fn what_the_practice_server_acknowledged_survives_a_kill() {
    let dir = tempfile::tempdir().expect("dir");
    let kept = dir.path().join("kept").display().to_string();
    let run = |address: &str, statement: &str| rows_of(dir.path(), address, statement);
    for round in 1..=3 {
        let mut server = practice(&["--data", &kept, "--empty"]);
        run(
            &server.address,
            &format!("insert into notes {{ _id: {round} }}"),
        );
        server.child.kill().expect("killed");
        server.child.wait().expect("gone");
    }
    let server = practice(&["--data", &kept, "--empty"]);
    let all = run(&server.address, "from notes order by _id");
    assert_eq!(all, "{\"_id\":1}\n{\"_id\":2}\n{\"_id\":3}\n");
}

#[test]
fn what_the_practice_server_keeps_is_whole_after_its_end() {
    let dir = tempfile::tempdir().expect("dir");
    let folder = dir.path().join("kept");
    let kept = folder.display().to_string();
    let run = |address: &str, statement: &str| rows_of(dir.path(), address, statement);
    {
        let server = practice(&["--data", &kept, "--empty"]);
        run(
            &server.address,
            "insert into notes [{ _id: 1, a: 'x' }, { _id: 2, b: [1, 2.5] }]",
        );
        run(&server.address, "create unique index by_a on notes (a)");
    }
    let again = practice(&["--data", &kept, "--empty"]);
    assert_eq!(
        run(&again.address, "from notes order by _id"),
        "{\"_id\":1,\"a\":\"x\"}\n{\"_id\":2,\"b\":[1,2.5]}\n"
    );
}
