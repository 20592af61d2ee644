//! Changing without fear, in the real program: a change is seen, taken back and kept; what takes much away explains
//! itself; a table is made over several lines with slips that are mended, filled, checked and removed; a user comes and
//! goes. And what happens to a held change when the program or the server is killed.

mod terminal;

use std::process::Command;

use terminal::{OWNER, Tmux, load, owner, place};

/// The part of the task that every relational family has.
fn change_and_make(t: &Tmux) {
    // Without a condition: seen with its numbers, and taken back.
    t.line("update berths set depth_m = depth_m + 1;");
    let screen = t.until("48 rows of berths changed: held");
    assert!(
        screen.contains("depth_m before") && screen.contains("change held"),
        "{screen}"
    );
    t.keys(&["t"]);
    t.until("Taken back: everything is as it was before.");
    t.until("48 rows · taken back");
    // With one it is kept, and the check shows what is there.
    t.keys(&["Escape"]);
    t.line("update berths set depth_m = depth_m + 1 where quay = 'N';");
    t.until("12 rows of berths changed: held");
    // In the meantime nothing else is written, and what reads runs.
    t.keys(&["Escape"]);
    t.line("delete from tides;");
    t.until("A change is held: 12 rows of berths changed.");
    t.keys(&["C-c"]);
    t.line("select count(*) as seen from berths;");
    t.until("row 1 of 1");
    t.line("/keep");
    t.until("Kept: everybody sees it now.");
    t.line("/entries");
    t.until("12 rows · kept");
    t.keys(&["Escape"]);
    t.keys(&["C-c"]);
    // What takes much away explains itself.
    t.line("drop table visit_services;");
    let screen = t.until("This removes the table visit_services with all 12 020 rows");
    assert!(
        screen.contains("no way back") && screen.contains("would empty it and keep it"),
        "{screen}"
    );
    t.keys(&["n"]);
    t.until("It was not run");
    t.keys(&["C-c"]);
    // A table over several lines, with a bracket forgotten.
    t.line("create table marks (");
    t.line("  id integer primary key,");
    t.line("  name varchar(40),");
    t.line("  lit integer check (lit in (0, 1)");
    t.types(");");
    t.keys(&["F5"]);
    t.until("Tab  takes the correction");
    t.keys(&["Tab", "F5"]);
    let screen = t.until("marks was made");
    assert!(!screen.contains("refused"), "{screen}");
    t.until("optional");
    // Filled, with a quote forgotten.
    t.types("insert into marks values (1, 'Outer Spit, 1), (2, 'Mill Sluice', 0);");
    t.keys(&["F5"]);
    t.until("Tab  takes the correction");
    t.keys(&["Tab", "F5"]);
    t.until("2 rows inserted into marks");
    t.line("select name from marks order by id;");
    t.until("Mill Sluice");
    t.line("update marks set lit = 0 where id = 1;");
    let screen = t.until("1 row of marks changed.");
    assert!(screen.contains("Outer Spit"), "{screen}");
    t.line("drop table marks;");
    t.until("This removes the table marks with all 2 rows");
    t.keys(&["y"]);
    t.until("marks was removed");
}

#[test]
fn a_change_from_look_to_check_on_a_file() {
    let t = Tmux::open(142, 42);
    t.start("demo");
    change_and_make(&t);
    t.line("/quit");
    t.given_back();
}

/// The same on a server, with a user who comes and goes.
fn on_a_server(scheme: &str, first: &str, user: &[&str], truncates: &str) {
    let port = place(&format!("HAVEN_{}_PORT", scheme.to_uppercase()));
    let at = |database: &str| format!("{scheme}://haven@127.0.0.1:{port}/{database}");
    let made = ["drop database if exists changes", "create database changes"];
    owner(&at(first), &made);
    owner(&at(first), &["drop user if exists deckhand"]);
    load(&at("changes"));
    let t = Tmux::open(142, 42);
    t.line(&format!(
        "{} {}",
        env!("CARGO_BIN_EXE_idle-tide"),
        at("changes")
    ));
    t.until("Password of haven");
    t.line(OWNER);
    t.until("Try ");
    change_and_make(&t);
    t.line("truncate table visit_services;");
    let screen = t.until(truncates);
    assert!(screen.contains("way back"), "{screen}");
    t.keys(&["n"]);
    t.until("It was not run");
    t.keys(&["C-c"]);
    // A user for this database, tried, and removed.
    for statement in user {
        t.line(statement);
        // A password that is left out is asked for.
        if statement.starts_with("create user") {
            t.until("Value of :?password");
            t.line("deck");
        }
        t.when("done", |screen| {
            let line = screen.lines().nth(2).unwrap_or_default();
            line.contains("done") && line.contains(&statement[..12])
        });
        t.keys(&["C-c"]);
    }
    t.line("/reopen --as deckhand");
    t.until("Password of deckhand");
    t.line("deck");
    t.when("the deckhand", |screen| {
        let top = screen.lines().next().unwrap_or_default();
        top.contains("as deckhand") && !top.contains("all-powerful")
    });
    t.line("select count(*) as seen from berths;");
    t.until("row 1 of 1");
    t.line("delete from berths where id = 1;");
    t.until("may not delete from berths: the right delete");
    t.keys(&["C-c"]);
    t.line("/back");
    t.when("the owner", |screen| {
        let top = screen.lines().next().unwrap_or_default();
        top.contains("as haven")
    });
    for statement in ["revoke all on berths from deckhand;", "drop user deckhand;"] {
        t.line(statement);
    }
    t.until("removes deckhand");
    t.keys(&["y"]);
    t.until("deckhand was removed");
    t.line("/quit");
    t.until("ready>");
}

#[test]
fn a_change_from_look_to_check_on_postgres() {
    on_a_server(
        "postgres",
        "postgres",
        &[
            "create user deckhand password;",
            "grant select on berths to deckhand;",
        ],
        "This deletes all 12 020 rows of visit_services",
    );
}

#[test]
fn a_change_from_look_to_check_on_mariadb() {
    on_a_server(
        "mariadb",
        "",
        &[
            "create user deckhand identified by;",
            "grant select on changes.berths to deckhand;",
        ],
        "This deletes all 12 020 rows of visit_services",
    );
}

#[test]
fn a_change_from_look_to_check_on_documents() {
    let t = Tmux::open(142, 42);
    t.start("demo --docs");
    t.line("update all landings set checked = true;");
    t.until("documents of landings changed: held");
    t.keys(&["t"]);
    t.until("Taken back");
    t.keys(&["Escape"]);
    t.line("update landings where number < 10 set port = 'Outer Spit';");
    let screen = t.until("documents of landings changed: held");
    assert!(
        screen.contains("port before") && screen.contains("port after"),
        "{screen}"
    );
    t.keys(&["k"]);
    t.until("Kept");
    t.keys(&["Escape"]);
    t.line("insert into marks { name: 'Outer Spit', lit: true };");
    t.until("came into being");
    t.line("from marks;");
    t.until("Outer Spit");
    t.line("drop collection marks;");
    t.until("This removes the collection marks");
    t.keys(&["y"]);
    t.until("was removed");
    t.line("/quit");
    t.given_back();
}

/// The program or the server is killed while a change is held: the data are as before, and who comes next is told.
#[test]
fn killed_while_a_change_is_held() {
    let t = Tmux::open(142, 42);
    let file = t.home().join("held.db");
    t.start(&format!("--new {}", file.display()));
    t.line("create table t (id integer primary key, n integer);");
    t.until("t was made");
    t.line("insert into t values (1, 1), (2, 1);");
    t.until("2 rows inserted");
    t.line("update t set n = 9;");
    t.until("2 rows of t changed: held");
    // What is held is kept in mind before the program can be killed.
    let holds = t.home().join("state/idle-tide/holds");
    t.when("kept in mind", |_| {
        // One that is still being written has another name.
        let whole = |file: std::fs::DirEntry| {
            let path = file.path();
            path.extension().is_some_and(|ending| ending == "json")
        };
        holds
            .read_dir()
            .is_ok_and(|files| files.flatten().any(whole))
    });
    Command::new("kill")
        .args(["-9", &t.pid()])
        .status()
        .expect("killed");
    t.until("backagain");
    t.line("reset; clear");
    t.start(&format!("{} --write", file.display()));
    t.until("2 rows of t changed: this was held when the program ended");
    t.line("select sum(n) as left_over from t;");
    t.when("the old rows", |screen| {
        screen.contains("left_over") && screen.contains("sum 2")
    });
    t.line("/quit");
    t.until("backagain");

    let control = place("HAVEN_CONTROL");
    let run = |verb: &str, server: &str| {
        let done = Command::new(&control)
            .args([verb, &place("HAVEN_SERVERS"), server])
            .status();
        assert!(done.expect("starts").success());
    };
    for (server, scheme, database) in [
        ("postgres-b", "postgres", "postgres"),
        ("mariadb-b", "mariadb", "harbour"),
    ] {
        let name = server.to_uppercase().replace('-', "_");
        let port = place(&format!("HAVEN_{name}_PORT"));
        let address = format!("{scheme}://haven@127.0.0.1:{port}/{database}");
        // The private servers write to the disk in their own time.
        let at_once = match scheme {
            "mariadb" => "set global innodb_flush_log_at_trx_commit = 1",
            _ => "checkpoint",
        };
        owner(
            &address,
            &[
                at_once,
                "drop table if exists tides_held",
                "create table tides_held (id integer primary key, n integer)",
                "insert into tides_held values (1, 1), (2, 1)",
            ],
        );
        let t = Tmux::open(142, 42);
        t.line(&format!("{} {address}", env!("CARGO_BIN_EXE_idle-tide")));
        t.until("Password of haven");
        t.line(OWNER);
        t.until("Try ");
        t.line("update tides_held set n = 9;");
        t.until("2 rows of tides_held changed: held");
        run("kill", server);
        t.when("that it is lost", |screen| {
            screen.contains("connection lost") || {
                t.keys(&["k"]);
                false
            }
        });
        t.when("what became of it", |screen| {
            screen.contains("taken back") || screen.contains("not known")
        });
        run("begin", server);
        t.keys(&["r"]);
        t.when("the arrival", |screen| {
            screen.contains("Try ") && !screen.contains("connection lost")
        });
        t.keys(&["Escape"]);
        t.line("select sum(n) as left_over from tides_held;");
        t.when("the old rows", |screen| {
            screen.contains("left_over") && screen.contains("sum 2")
        });
        t.line("/quit");
        t.until("ready>");
    }
}
