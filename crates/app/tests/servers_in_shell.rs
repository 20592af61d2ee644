//! The program without a screen against the private servers: scripts as one transaction, files that the
//! servers' backup programs write, values without loss, and passwords where nobody can be asked.

#![allow(clippy::too_many_lines)]

use std::path::PathBuf;
use std::process::{Command, Output, Stdio};

const OWNER: &str = "the owner's secret";

fn place(name: &str) -> String {
    std::env::var(name).unwrap_or_else(|_| {
        panic!("{name} is not set: these tests need the servers that scripts/test starts")
    })
}

fn address(scheme: &str, database: &str) -> String {
    let port = place(&format!("HAVEN_{}_PORT", scheme.to_uppercase()));
    format!("{scheme}://haven@127.0.0.1:{port}/{database}")
}

/// One server of each kind. MySQL is left out where it could not be made; scripts/test-servers says so.
fn schemes() -> Vec<&'static str> {
    let mysql = std::env::var("HAVEN_MYSQL_PORT").is_ok();
    let all = ["postgres", "mariadb", "mysql"];
    all.into_iter().filter(|s| *s != "mysql" || mysql).collect()
}

fn tide(arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_idle-tide"))
        .args(arguments)
        .env("PGPASSWORD", OWNER)
        .env("MYSQL_PWD", OWNER)
        .stdin(Stdio::null())
        .output()
        .expect("runs")
}

fn out(arguments: &[&str]) -> String {
    let done = tide(arguments);
    assert!(
        done.status.success(),
        "{arguments:?}: {}",
        String::from_utf8_lossy(&done.stderr)
    );
    String::from_utf8_lossy(&done.stdout).into_owned()
}

fn database(scheme: &str, name: &str) -> String {
    let admin = address(scheme, if scheme == "postgres" { "postgres" } else { "" });
    out(&[
        "run",
        &admin,
        "--writes",
        "free",
        &format!("drop database if exists {name}"),
        &format!("create database {name}"),
    ]);
    address(scheme, name)
}

/// The newest program of this name that the server's packages brought.
fn backup_program(name: &str) -> PathBuf {
    let mut found: Vec<PathBuf> = std::fs::read_dir("/usr/lib/postgresql")
        .into_iter()
        .flatten()
        .flatten()
        .map(|entry| entry.path().join("bin").join(name))
        .filter(|path| path.exists())
        .collect();
    found.sort();
    found.pop().unwrap_or_else(|| PathBuf::from(name))
}

#[test]
fn a_script_together_is_taken_back_whole() {
    for scheme in schemes() {
        let at = database(scheme, "together");
        out(&[
            "run",
            &at,
            "create table log (a integer primary key)",
            "insert into log values (1)",
        ]);
        let dir = tempfile::tempdir().expect("dir");
        let script = dir.path().join("script.sql");
        std::fs::write(&script, "insert into log values (2);\ninsert into log values (1);\ninsert into log values (3);\n").expect("written");
        let script = script.display().to_string();
        let done = tide(&["run", &at, "--file", &script, "--together"]);
        let words = String::from_utf8_lossy(&done.stderr);
        assert_eq!(done.status.code(), Some(1), "{words}");
        assert!(
            words.contains("line 2") && words.contains("taken back"),
            "{words}"
        );
        assert_eq!(
            out(&[
                "run",
                &at,
                "select a from log",
                "--format",
                "csv",
                "--no-header"
            ]),
            "1\n"
        );
        std::fs::write(
            &script,
            "insert into log values (2);\ninsert into log values (3);\n",
        )
        .expect("written");
        out(&["run", &at, "--file", &script, "--together"]);
        assert_eq!(
            out(&[
                "run",
                &at,
                "select count(*) from log",
                "--format",
                "csv",
                "--no-header"
            ]),
            "3\n"
        );
    }
}

/// What the guard says of a sweep on real servers, whose statement it is told: what goes, with its numbers, all
/// the names; and somebody who may delete but not read is asked without numbers, also inside a transaction.
#[test]
fn sweeps_on_servers_are_told_in_full() {
    let asked = |at: &str, statements: &[&str]| {
        let mut arguments = vec!["run", at];
        arguments.extend(statements);
        let done = tide(&arguments);
        assert_eq!(done.status.code(), Some(4), "{statements:?} ran unasked");
        String::from_utf8_lossy(&done.stderr).into_owned()
    };
    let setup = [
        "create table visits (id integer primary key, crew integer)",
        "create table dues (visit_id integer references visits (id) on delete cascade)",
        "create view busy as select * from visits",
        "insert into visits values (1, 1), (2, 2), (3, 3)",
        "insert into dues values (1), (2)",
    ];
    let mut cases: Vec<(&str, &[&str], &[&str])> = vec![
        (
            "both",
            &["delete from visits where id = id"],
            &["all 3 rows of visits", "2 rows of dues"],
        ),
        (
            "both",
            &["drop table dues, visits"],
            &["table dues with all 2 rows", "table visits with all 3 rows"],
        ),
        (
            "mariadb",
            &["delete v from visits v"],
            &["all 3 rows of visits"],
        ),
        (
            "mariadb",
            &["drop database sweeping"],
            &["3 tables and views"],
        ),
        (
            "mariadb",
            &["create or replace table visits (a int)"],
            &["visits with all 3 rows and makes another"],
        ),
        (
            "mariadb",
            &["alter table visits add x int, drop primary key"],
            &["the primary key of visits"],
        ),
        (
            "mariadb",
            &["execute immediate 'delete from dues'"],
            &["all 2 rows of dues"],
        ),
        (
            "postgres",
            &["drop table visits cascade"],
            &["1 view that reads it", "What depends on it goes too"],
        ),
        (
            "postgres",
            &["truncate visits cascade"],
            &["all 3 rows of visits", "2 rows of dues"],
        ),
        (
            "postgres",
            &["with gone as (delete from dues returning *) select 1"],
            &["all 2 rows of dues"],
        ),
        (
            "postgres",
            &["drop schema public cascade"],
            &["3 tables and views", "Everything in it goes"],
        ),
        (
            "postgres",
            &["do $$ begin delete from dues; end $$"],
            &["all 2 rows of dues"],
        ),
        (
            "postgres",
            &["set role sweeper", "delete from visits"],
            &["every row of visits"],
        ),
        (
            "postgres",
            &["set role sweeper", "begin", "delete from visits"],
            &["every row of visits"],
        ),
    ];
    for scheme in schemes() {
        let at = database(scheme, "sweeping");
        let mut arguments = vec!["run", at.as_str()];
        arguments.extend(setup);
        if scheme == "postgres" {
            arguments.extend([
                "drop role if exists sweeper",
                "create role sweeper",
                "grant delete on visits to sweeper",
            ]);
            arguments.extend(["--writes", "free"]);
        }
        out(&arguments);
        for (of, statements, words) in cases
            .iter_mut()
            .filter(|(of, ..)| *of == "both" || *of == scheme)
        {
            let said = asked(&at, statements);
            for words in *words {
                assert!(said.contains(words), "{of} {statements:?}: {said}");
            }
        }
        // What was there or not before is not claimed.
        let said = out(&["run", &at, "create table if not exists visits (id integer)"]);
        assert!(!said.contains("was made"), "{said}");
        // A limit that leaves rows is no sweep.
        if scheme != "postgres" {
            out(&["run", &at, "delete from visits order by id desc limit 1"]);
            // A block of MariaDB, which is no beginning of a transaction.
            if scheme == "mariadb" {
                let said = out(&["run", &at, "begin not atomic select 1; end"]);
                assert!(!said.contains("transaction"), "{said}");
            }
        } else {
            out(&[
                "run",
                &at,
                "drop owned by sweeper",
                "drop role sweeper",
                "--writes",
                "free",
            ]);
        }
    }
}

#[test]
fn what_the_backup_programs_write_runs() {
    let dir = tempfile::tempdir().expect("dir");
    let file = dir.path().join("dump.sql").display().to_string();
    let counts = |at: &str| {
        out(&[
            "run",
            at,
            "select (select count(*) from visits), (select count(*) from readings), (select sum(amount) from dues), (select count(*) from hull_surveys), (select max(length(report)) from incidents), (select count(*) from owed)",
            "--format",
            "csv",
            "--no-header",
        ])
    };
    // What no value may break: quotes, backslashes, line breaks, semicolons, the end of inline data.
    let odd = "insert into quays (code, name, faces, built) values ('Q;', 'it''s \\\\. ; \"odd\"\n\\.\n$$x$$ -- no', E'\\t\\\\', null)";
    let at = database("postgres", "dump_from");
    out(&["demo", "--readings", "500", "--into", &at]);
    out(&[
        "run",
        &at,
        odd,
        "create function twice(n int) returns int language plpgsql as $$ begin return n * 2; end $$",
    ]);
    let made = Command::new(backup_program("pg_dump"))
        .args([
            "-h",
            "127.0.0.1",
            "-p",
            &place("HAVEN_POSTGRES_PORT"),
            "-U",
            "haven",
            "-f",
            &file,
            "dump_from",
        ])
        .env("PGPASSWORD", OWNER)
        .status();
    assert!(made.expect("pg_dump runs").success());
    let back = database("postgres", "dump_to");
    out(&[
        "run", &back, "--file", &file, "--writes", "free", "--format", "csv",
    ]);
    assert_eq!(counts(&at), counts(&back));
    let same = "select code, name, faces from quays order by 1";
    assert_eq!(
        out(&["run", &at, same, "--format", "json"]),
        out(&["run", &back, same, "--format", "json"])
    );
    assert_eq!(
        out(&[
            "run",
            &back,
            "select twice(21)",
            "--format",
            "csv",
            "--no-header"
        ]),
        "42\n"
    );

    let at = database("mariadb", "dump_from");
    out(&["demo", "--readings", "500", "--into", &at]);
    out(&[
        "run",
        &at,
        &odd.replace("E'\\t\\\\'", "'\\t\\\\'"),
        "create procedure count_up(in n int) begin declare i int default 0; while i < n do set i = i + 1; end while; select i as reached; end",
        "create event tidy on schedule every 1 year do begin delete from notices where title = 'a;b'; end",
    ]);
    let made = Command::new("mariadb-dump")
        .args([
            "--no-defaults",
            "-h",
            "127.0.0.1",
            "-P",
            &place("HAVEN_MARIADB_PORT"),
            "-u",
            "haven",
            "--routines",
            "--events",
            "--triggers",
            "-r",
            &file,
            "dump_from",
        ])
        .env("MYSQL_PWD", OWNER)
        .status();
    assert!(made.expect("mariadb-dump runs").success());
    let back = database("mariadb", "dump_to");
    out(&[
        "run", &back, "--file", &file, "--writes", "free", "--format", "csv",
    ]);
    assert_eq!(counts(&at), counts(&back));
    assert_eq!(
        out(&["run", &at, same, "--format", "json"]),
        out(&["run", &back, same, "--format", "json"])
    );
    assert_eq!(
        out(&[
            "run",
            &back,
            "call count_up(3)",
            "--format",
            "csv",
            "--no-header"
        ]),
        "3\n"
    );
    assert!(out(&["run", &back, "show events"]).contains("tidy"));
}

#[test]
fn values_leave_as_they_came() {
    let cases = [
        (
            "postgres",
            "postgres",
            "select 123456789012345678901234567890.10 as n, 18446744073709551615::numeric as u, '0044-03-15 BC'::date as d, '{1,null}'::int[] as a, '{\"b\": 1}'::jsonb as j, '\\x00ff'::bytea as b, true as t, null::int as x, 'a\"b,\n' as q, 'NaN'::numeric as nan, '10:00+05:30'::timetz as z",
        ),
        (
            "mariadb",
            "",
            "select cast(123456789012345678901234567890.10 as decimal(40,2)) as n, 18446744073709551615 as u, cast('0000-00-00' as date) as d, '[1,null]' as a, '{\"b\": 1}' as j, x'00ff' as b, true as t, null as x, 'a\"b,\\n' as q, 1e0/3 as nan, cast('-838:59:59.5' as time(1)) as z",
        ),
    ];
    for (scheme, database, sql) in cases {
        let at = address(scheme, database);
        let csv = out(&["run", &at, sql, "--format", "csv", "--no-header"]);
        let json = out(&["run", &at, sql, "--format", "jsonl"]);
        let text = out(&["run", &at, sql]);
        for part in [
            "123456789012345678901234567890.10",
            "18446744073709551615",
            "00ff",
        ] {
            assert!(
                csv.contains(part) && json.contains(part) && text.contains(part),
                "{scheme} {part}: {csv}{json}{text}"
            );
        }
        assert!(csv.contains("\"a\"\"b,\n\""), "{csv}");
        assert!(
            json.contains("\"n\":123456789012345678901234567890.10") && json.contains("\"x\":null"),
            "{json}"
        );
        let parts = match scheme {
            "postgres" => ["0044-03-15 BC", "NaN", "10:00:00+05:30"],
            _ => ["0000-00-00", "0.3333333333333333", "-838:59:59.5"],
        };
        // MariaDB makes null of a date it does not take in this mode.
        for part in &parts[usize::from(scheme != "postgres")..] {
            assert!(
                csv.contains(part) && json.contains(part),
                "{scheme} {part}: {csv}{json}"
            );
        }
    }
}

#[test]
fn without_a_terminal_a_missing_password_fails_and_says_so() {
    for scheme in schemes() {
        let at = address(scheme, if scheme == "postgres" { "postgres" } else { "" });
        let done = Command::new("setsid")
            .args([
                "-w",
                env!("CARGO_BIN_EXE_idle-tide"),
                "run",
                &at,
                "select 1",
            ])
            .env_remove("PGPASSWORD")
            .env_remove("MYSQL_PWD")
            .stdin(Stdio::null())
            .output()
            .expect("runs");
        let words = String::from_utf8_lossy(&done.stderr);
        assert_eq!(done.status.code(), Some(3), "{words}");
        assert!(
            words.contains("no terminal to ask on") && words.to_lowercase().contains("password"),
            "{words}"
        );
        // One in the address works, is hidden, and is said to be seen by others.
        let with = at.replace("haven@", "haven:the%20owner%27s%20secret@");
        let done = Command::new(env!("CARGO_BIN_EXE_idle-tide"))
            .args(["run", &with, "select 1 as one", "/bearings"])
            .env_remove("PGPASSWORD")
            .env_remove("MYSQL_PWD")
            .output()
            .expect("runs");
        let words = String::from_utf8_lossy(&done.stderr);
        assert!(
            done.status.success() && words.contains("others on this machine can read it"),
            "{words}"
        );
        let said = format!("{words}{}", String::from_utf8_lossy(&done.stdout));
        assert!(!said.contains("owner"), "{said}");
        // Databases without a session.
        assert!(out(&["databases", &at, "--format", "csv"]).contains("name,"));
    }
}

/// A statement may change how the next ones are written: they are cut by that.
#[test]
fn a_mode_that_is_set_counts_from_the_next_statement_on() {
    let at = database("mariadb", "modes");
    let script = "set sql_mode = 'ORACLE'; create package tide as function height return int; end; \
        create package body tide as function height return int as x int; begin x := 7; return x; end; end; \
        begin select 5 as five; select tide.height() as height; end; drop package tide;";
    let said = out(&["run", &at, "--writes", "free", script]);
    assert_eq!(said, "five\n   5\n\nheight\n     7\n");
    let quoted = "set sql_mode = 'ANSI_QUOTES'; select \"a;b\" from (select 1 as \"a;b\") x";
    assert_eq!(out(&["run", &at, quoted]), "a;b\n  1\n");
    // By lines of a file too.
    let dir = tempfile::tempdir().expect("dir");
    let file = dir.path().join("script.sql");
    std::fs::write(&file, "set sql_mode = 'ORACLE';\ndeclare y int := 4; begin select y as y; end;\nselect nothing;\n")
        .expect("written");
    let done = tide(&["run", &at, "--file", &file.display().to_string()]);
    assert_eq!(String::from_utf8_lossy(&done.stdout).trim_end(), "y\n4");
    let said = String::from_utf8_lossy(&done.stderr);
    assert!(said.contains("line 3:"), "{said}");
}

#[test]
fn what_a_server_copies_out_arrives_byte_for_byte() {
    let at = database("postgres", "copied_out");
    out(&[
        "run",
        &at,
        "create table t (a integer, b text)",
        "insert into t values (1, E'x\\ty'), (2, null), (3, 'ü \"q\"')",
    ]);
    assert_eq!(
        out(&["run", &at, "copy t to stdout"]),
        "1\tx\\ty\n2\t\\N\n3\tü \"q\"\n"
    );
    assert_eq!(
        out(&["run", &at, "copy t to stdout (format csv, header)"]),
        "a,b\n1,x\ty\n2,\n3,\"ü \"\"q\"\"\"\n"
    );
    let bytes = tide(&["run", &at, "copy t to stdout (format binary)"]).stdout;
    assert!(bytes.starts_with(b"PGCOPY\n\xff\r\n\0") && bytes.ends_with(b"\xff\xff"));
    assert_eq!(
        out(&["run", &at, "copy (select 1 where false) to stdout"]),
        ""
    );
    // Where a format is asked for, its lines are rows.
    assert_eq!(
        out(&["run", &at, "copy (select 1) to stdout", "--format", "csv"]),
        "line\n1\n"
    );
}

#[test]
fn several_results_of_one_statement_come_one_after_the_other() {
    for scheme in schemes().into_iter().filter(|s| *s != "postgres") {
        let at = database(scheme, "several_out");
        out(&[
            "run",
            &at,
            "create procedure two() begin select 1 as a; select 2 as b, 'x' as c; end",
        ]);
        assert_eq!(out(&["run", &at, "call two()"]), "a\n1\n\nb  c\n2  x\n");
        assert_eq!(
            out(&["run", &at, "call two()", "--format", "jsonl"]),
            "{\"a\":1}\n{\"b\":2,\"c\":\"x\"}\n"
        );
        // What fails behind a result is not passed over, and is not the error of what comes next.
        out(&[
            "run",
            &at,
            "create procedure half() begin select 1 as a; select nothing_here; end",
        ]);
        let done = tide(&["run", &at, "--keep-going", "call half()", "select 3 as c"]);
        let said = String::from_utf8_lossy(&done.stderr);
        assert_eq!(done.status.code(), Some(1), "{scheme}: {said}");
        assert!(
            said.contains("statement 1") && said.contains("nothing_here"),
            "{said}"
        );
        let shown = String::from_utf8_lossy(&done.stdout).replace("\n\n", "\n");
        assert_eq!(shown, "a\n1\nc\n3\n");
    }
}

/// What is said of a transaction is what the server made of it.
#[test]
fn transactions_are_told_as_the_server_made_of_them() {
    let said = |at: &str, statements: &[&str]| {
        let mut arguments = vec!["run", at, "--keep-going", "--writes", "free"];
        arguments.extend(statements);
        String::from_utf8_lossy(&tide(&arguments).stderr).into_owned()
    };
    let count = |at: &str| {
        out(&[
            "run",
            at,
            "select count(*) from log",
            "--format",
            "csv",
            "--no-header",
        ])
    };
    let p = database("postgres", "truths");
    out(&["run", &p, "create table log (a integer primary key)"]);
    let words = said(
        &p,
        &[
            "begin",
            "insert into log values (1)",
            "select nothing",
            "commit",
            "rollback",
        ],
    );
    assert!(
        words.contains("kept nothing") && words.contains("nothing was taken back"),
        "{words}"
    );
    assert_eq!(count(&p), "0\n");

    for scheme in schemes().into_iter().filter(|s| *s != "postgres") {
        let m = database(scheme, "truths");
        out(&["run", &m, "create table log (a integer primary key)"]);
        let words = said(
            &m,
            &[
                "begin",
                "insert into log values (1)",
                "create table other (a integer)",
                "rollback",
            ],
        );
        assert!(words.contains("nothing was taken back"), "{words}");
        assert_eq!(count(&m), "1\n");
        // Together, what would end the transaction by itself is not run, and everything before it is taken back.
        let together = [
            "run",
            &m,
            "--together",
            "insert into log values (2)",
            "create table third (a integer)",
            "insert into log values (3)",
        ];
        let done = tide(&together);
        let words = String::from_utf8_lossy(&done.stderr);
        assert_eq!(done.status.code(), Some(1), "{words}");
        assert!(
            words.contains("would end it before") && words.contains("taken back"),
            "{words}"
        );
        assert_eq!(count(&m), "1\n");
        // Where the user is asked, so is this.
        let done = tide(&[
            "run",
            &m,
            "begin",
            "insert into log values (2)",
            "create table third (a integer)",
        ]);
        let words = String::from_utf8_lossy(&done.stderr);
        assert_eq!(done.status.code(), Some(4), "{words}");
        assert!(words.contains("keeps what it has changed"), "{words}");
        assert_eq!(count(&m), "1\n");
    }
}

/// What this program refuses itself is not said to be the server's word.
#[test]
fn a_refusal_of_our_own_is_not_put_into_the_servers_mouth() {
    for scheme in schemes() {
        let at = database(scheme, "refusing");
        let done = tide(&["run", &at, "--writes", "none", "call nothing()"]);
        let words = String::from_utf8_lossy(&done.stderr);
        assert_eq!(done.status.code(), Some(1), "{words}");
        assert!(
            words.contains("what call does cannot be known") && !words.contains("said"),
            "{words}"
        );
    }
}
