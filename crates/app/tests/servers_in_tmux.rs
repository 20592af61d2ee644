//! Whole tasks against the private servers, in the real program: arriving with a hidden password, looking
//! around, asking, stopping, coming as somebody else, a new password; and no secret left behind.

mod terminal;

use std::path::Path;
use std::process::Command;

use idle_tide_standin::{Options, Standin};
use terminal::{OWNER, Tmux, has_mysql, load, owner, place};

/// Every file under a folder that holds one of the words.
fn holding(dir: &Path, words: &[&str]) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(dir).expect("a folder").flatten() {
        let path = entry.path();
        let kind = entry.file_type().expect("a kind");
        if kind.is_dir() {
            found.extend(holding(&path, words));
        } else if kind.is_file() {
            let bytes = std::fs::read(&path).unwrap_or_default();
            let text = String::from_utf8_lossy(&bytes);
            if words.iter().any(|word| text.contains(word)) {
                found.push(path.display().to_string());
            }
        }
    }
    found
}

/// What is to run first runs when the server has let one in.
#[test]
fn first_waits_for_the_server() {
    let t = Tmux::open(142, 42);
    let program = env!("CARGO_BIN_EXE_idle-tide");
    let port = place("HAVEN_POSTGRES_PORT");
    t.line(&format!(
        "{program} postgres://haven@127.0.0.1:{port}/postgres --first 'select 40 + 2 as answer; select 43 as more'"
    ));
    t.until("Password of haven");
    t.types(OWNER);
    t.keys(&["Enter"]);
    t.until("more");
    // The arrival, and both statements.
    t.until("1  2  3");
}

struct Family {
    scheme: &'static str,
    port: String,
    /// A database that is always there.
    first: &'static str,
    /// Words of the bearings.
    version: &'static str,
    sleep: &'static str,
    begin: &'static str,
    /// What gives the mate a password, without it.
    new_password: &'static str,
    make_mate: &'static [&'static str],
}

impl Family {
    fn seven(&self) -> String {
        let (top, limit) = match self.scheme {
            "tds" => ("top 7 ", ""),
            _ => ("", " limit 7"),
        };
        format!(
            "select {top}v.name, b.code from visits s join vessels v on v.id = s.vessel_id join berths b on b.id = s.berth_id order by s.id{limit};"
        )
    }
}

fn whole_task(family: &Family) {
    let (scheme, port) = (family.scheme, &family.port);
    let (mate, new) = ("the mate's word", "the mate's new word");
    let admin = format!("{scheme}://haven@127.0.0.1:{port}/{}", family.first);
    owner(
        &admin,
        &["drop database if exists a_task", "create database a_task"],
    );
    load(&format!("{scheme}://haven@127.0.0.1:{port}/a_task"));
    for sql in family.make_mate {
        let on = if sql.starts_with("grant") {
            "a_task"
        } else {
            family.first
        };
        owner(&format!("{scheme}://haven@127.0.0.1:{port}/{on}"), &[sql]);
    }

    let t = Tmux::open(142, 42);
    let program = env!("CARGO_BIN_EXE_idle-tide");
    t.line(&format!(
        "{program} {scheme}://haven@127.0.0.1:{port}/{}",
        family.first
    ));
    t.until("Password of haven");
    t.types("not this");
    t.keys(&["Enter"]);
    t.until("not right. Password");
    t.types(OWNER);
    let screen = t.until("shows nowhere");
    assert!(!screen.contains("owner"), "{screen}");
    t.keys(&["Enter"]);
    t.until("Try ");
    t.until(family.version);
    t.until("as haven (all-powerful)");
    let arguments = std::fs::read(format!("/proc/{}/cmdline", t.pid())).expect("arguments");
    assert!(!String::from_utf8_lossy(&arguments).contains("secret"));

    t.line("/bearings");
    t.until("time zone");
    t.line("/databases");
    t.until("a_task");
    t.line("/use a_task");
    t.when("the other database", |screen| {
        screen
            .lines()
            .next()
            .is_some_and(|top| top.contains(" a_task "))
    });
    t.line("/tables");
    t.until("visit_services");
    t.line("/about visits");
    t.until("where the vessel lay");
    t.line(&family.seven());
    t.until("7 rows");
    // A slip is mended from the catalog.
    t.line("select nam from vessels;");
    t.until("Nearest");
    t.keys(&["C-c"]);
    t.line(family.sleep);
    t.until("Ctrl-C");
    t.keys(&["C-c"]);
    t.until("stopped");
    t.line("select 40 + 2 as answer;");
    t.until("answer");

    // A transaction shows, and leaving it is asked about.
    t.line(family.begin);
    t.until("transaction open");
    t.line("/reopen --as mate");
    t.until("Leaving this connection");
    t.keys(&["n"]);
    t.until("It was not run");
    t.keys(&["C-c"]);
    t.line("rollback;");
    t.until("no transaction");

    // As somebody who may see less, and back.
    t.line("/reopen --as mate");
    t.until("Password of mate");
    t.line(mate);
    t.when("the mate", |screen| {
        screen
            .lines()
            .next()
            .is_some_and(|top| top.contains("as mate") && !top.contains("all-powerful"))
    });
    t.line("select * from dues;");
    t.until("may not read dues: the right select");
    t.keys(&["C-c"]);
    t.line("select count(*) as seen from berths;");
    t.until("48");
    t.line("/change-password");
    t.until("The new password of mate");
    t.line(new);
    t.until("once more");
    t.line(new);
    t.until("You have a new password");
    t.line("/back");
    t.when("the owner", |screen| {
        screen
            .lines()
            .next()
            .is_some_and(|top| top.contains("as haven"))
    });
    // A password in a statement is covered before it is kept.
    t.line(&format!("{} 'typed in clear';", family.new_password));
    t.until(":?secret");
    t.when("no running", |screen| !screen.contains("typed in clear"));
    t.line(&format!("{} :?word;", family.new_password));
    t.until("Value of :?word");
    t.line(new);
    t.until("mate");
    t.line("/quit");
    t.until("ready>");

    // Back with the new one.
    t.line("clear");
    t.line(&format!(
        "{program} {scheme}://mate@127.0.0.1:{port}/a_task"
    ));
    t.until("Password of mate");
    t.line(new);
    t.until("Try ");
    t.line("/quit");
    t.until("ready>");
    let left = holding(t.home(), &[OWNER, mate, new, "typed in clear", "not this"]);
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_whole_task_on_postgres() {
    whole_task(&Family {
        scheme: "postgres",
        port: place("HAVEN_POSTGRES_PORT"),
        first: "postgres",
        version: "PostgreSQL 15",
        sleep: "select pg_sleep(60);",
        begin: "begin;",
        new_password: "alter role mate password",
        make_mate: &[
            "drop role if exists mate",
            "create role mate login password 'the mate''s word'",
            "grant select on berths to mate",
        ],
    });
}

#[test]
fn a_whole_task_on_mariadb() {
    whole_task(&Family {
        scheme: "mariadb",
        port: place("HAVEN_MARIADB_PORT"),
        first: "",
        version: "MariaDB 10.11",
        sleep: "select count(*) from visits a, visits b, visits c;",
        begin: "begin;",
        new_password: "alter user mate identified by",
        make_mate: &[
            "drop user if exists mate",
            "create user mate identified by 'the mate''s word'",
            "grant select on a_task.berths to mate",
        ],
    });
}

#[test]
fn a_whole_task_on_mysql() {
    if !has_mysql() {
        return;
    }
    whole_task(&Family {
        scheme: "mysql",
        port: place("HAVEN_MYSQL_PORT"),
        first: "",
        version: "MySQL ",
        sleep: "select sleep(60);",
        begin: "begin;",
        new_password: "alter user mate identified by",
        make_mate: &[
            "drop user if exists mate",
            "create user mate identified by 'the mate''s word'",
            "grant select on a_task.berths to mate",
        ],
    });
}

#[test]
fn a_whole_task_over_the_tabular_data_stream() {
    let standin = Standin::start(&Options::new("haven", OWNER)).expect("started");
    whole_task(&Family {
        scheme: "tds",
        port: standin.address.port().to_string(),
        first: "harbour",
        version: "Tabular Data Stream 16",
        sleep: "waitfor delay '0:1:0';",
        begin: "begin transaction;",
        new_password: "alter login mate with password =",
        make_mate: &[
            "create login mate with password = 'the mate''s word'",
            "grant select on berths to mate",
        ],
    });
}

/// A role is taken again on the way into a database that is open to it alone.
#[test]
fn what_only_a_role_may_enter_is_reopened() {
    if !has_mysql() {
        return;
    }
    let port = place("HAVEN_MYSQL_PORT");
    owner(
        &format!("mysql://haven@127.0.0.1:{port}/"),
        &[
            "drop database if exists locker",
            "create database locker",
            "create table locker.keys_of (a integer)",
            "drop role if exists keeper",
            "drop user if exists pilot",
            "create role keeper",
            "create user pilot identified by 'pw'",
            "grant select on locker.* to keeper",
            "grant keeper to pilot",
        ],
    );
    let t = Tmux::open(142, 42);
    let program = env!("CARGO_BIN_EXE_idle-tide");
    t.line(&format!("{program} mysql://pilot@127.0.0.1:{port}/"));
    t.until("Password of pilot");
    t.line("pw");
    t.until("Try ");
    t.line("set role keeper;");
    t.until("Done");
    t.line("/use locker");
    t.when("the database", |screen| {
        let top = screen.lines().next();
        top.is_some_and(|top| top.contains(" locker "))
    });
    t.line("/reopen");
    t.when("a second arrival, in the role", |screen| {
        screen.contains("in the role keeper") && screen.contains("Try ")
    });
    t.line("select count(*) as seen from keys_of;");
    t.until("seen");
}

#[test]
fn a_lost_connection_is_said_and_reopened_on_the_users_key() {
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
        ("mysql-b", "mysql", "harbour"),
    ] {
        if scheme == "mysql" && !has_mysql() {
            continue;
        }
        let port = place(&format!(
            "HAVEN_{}_PORT",
            server.to_uppercase().replace('-', "_")
        ));
        let address = format!("{scheme}://haven@127.0.0.1:{port}/{database}");
        owner(
            &address,
            &[
                "drop table if exists tides_kept",
                "create table tides_kept (a integer)",
            ],
        );
        let t = Tmux::open(142, 42);
        t.line(&format!("{} {address}", env!("CARGO_BIN_EXE_idle-tide")));
        t.until("Password of haven");
        t.line(OWNER);
        t.until("Try ");
        t.line(match scheme {
            "postgres" => "set statement_timeout = '77s';",
            _ => "set lock_wait_timeout = 77;",
        });
        t.until("Done");
        t.line("begin;");
        t.until("transaction open");
        t.line("insert into tides_kept values (1);");
        t.until("1 row inserted");
        run("kill", server);
        t.line("insert into tides_kept values (2);");
        t.until("connection lost");
        t.until("nothing of it is kept");
        run("begin", server);
        // The statement stays in the composer; a key connects anew.
        t.until("Esc R");
        t.keys(&["Escape"]);
        t.until("connects anew");
        t.keys(&["r"]);
        t.when("the arrival", |screen| {
            screen.contains("Try ") && !screen.contains("connection lost")
        });
        t.keys(&["Escape"]);
        t.until("completes");
        t.keys(&["C-c"]);
        t.line(if scheme == "postgres" {
            "show statement_timeout;"
        } else {
            "select @@lock_wait_timeout;"
        });
        t.until("77");
        t.line("select count(*) as kept from tides_kept;");
        t.when("that no row was kept", |screen| {
            let value = |line: &str| line.trim_start_matches(['▌', ' ']).trim() == "0";
            screen.lines().any(value)
        });
        t.line("/quit");
        t.until("ready>");
    }
}
