//! Files into tables and collections and out again, on every family, as a script does it: nothing is lost on the way, and what
//! does not fit is told with its line.

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

const OWNER: &str = "the owner's secret";

fn tide(at: &Path, arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_idle-tide"))
        .args(arguments)
        .current_dir(at)
        .env("HOME", at)
        .env("PGPASSWORD", OWNER)
        .env("MYSQL_PWD", OWNER)
        .stdin(Stdio::null())
        .output()
        .expect("runs")
}

fn words(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

/// A database of each family of tables, empty, by its address.
fn sources(dir: &Path, name: &str) -> Vec<(&'static str, String)> {
    std::fs::write(dir.join("t.db"), "").expect("made");
    let mut list = vec![("sqlite", dir.join("t.db").display().to_string())];
    for scheme in ["postgres", "mariadb", "mysql"] {
        let variable = format!("HAVEN_{}_PORT", scheme.to_uppercase());
        let port = match std::env::var(&variable) {
            Ok(port) => port,
            // It is left out where it could not be made; scripts/test-servers says so.
            Err(_) if scheme == "mysql" => continue,
            Err(_) => panic!(
                "{variable} is not set: these tests need the servers that scripts/test starts"
            ),
        };
        let address = |database: &str| format!("{scheme}://haven@127.0.0.1:{port}/{database}");
        let admin = address(if scheme == "postgres" { "postgres" } else { "" });
        let (drop, create) = (
            format!("drop database if exists {name}"),
            format!("create database {name}"),
        );
        let made = tide(dir, &["run", &admin, "--writes", "free", &drop, &create]);
        assert!(made.status.success(), "{}", words(&made));
        list.push((scheme, address(name)));
    }
    list
}

struct Ran {
    out: String,
    err: String,
    code: i32,
}

struct At<'a> {
    dir: &'a Path,
    address: &'a str,
}

impl At<'_> {
    fn call(&self, command: &str, arguments: &[&str]) -> Ran {
        let ran = tide(self.dir, &[&[command, self.address], arguments].concat());
        Ran {
            out: String::from_utf8_lossy(&ran.stdout).into_owned(),
            err: words(&ran),
            code: ran.status.code().unwrap_or(-1),
        }
    }

    fn well(&self, command: &str, arguments: &[&str]) -> String {
        let ran = self.call(command, arguments);
        assert_eq!(
            ran.code, 0,
            "{} {command} {arguments:?}: {}{}",
            self.address, ran.out, ran.err
        );
        ran.out
    }

    fn rows(&self, statement: &str) -> String {
        self.well(
            "run",
            &[
                statement,
                "--format",
                "csv",
                "--no-header",
                "--null",
                "NULL",
            ],
        )
    }
}

fn write(dir: &Path, name: &str, text: &str) -> PathBuf {
    let path = dir.join(name);
    std::fs::write(&path, text).expect("written");
    path
}

const HARD: &str = "id,name,dues,seen,at,doc,raw\n\
1,\"it's \"\"Grey\"\", \\ and\n\ttwo 🌊 $$\",1240.50,2031-03-01,2031-03-01 12:30:15.250000,\"{\"\"a\"\": [1, null]}\",00ff10\n\
2,\"\",-0.05,1815-06-18,1999-12-31 23:59:59,[],\"\"\n\
3,,,,,,\n\
4,\\N,12345678.99,2000-02-29,2031-01-01 00:00:00,\"\"\"x\"\"\",61\n";

/// What a table gives as CSV makes the same table again; Parquet and SQL do too.
#[test]
fn what_goes_out_comes_in_again_on_every_family() {
    let folder = tempfile::tempdir().expect("a folder");
    let dir = folder.path();
    write(dir, "hard.csv", HARD);
    for (family, address) in sources(dir, "take_away") {
        let at = At {
            dir,
            address: &address,
        };
        at.well(
            "load",
            &[
                "hard.csv",
                "--into",
                "hard",
                "--",
                "--key",
                "id",
                "--type",
                "raw=bytes",
                "--type",
                "doc=text",
            ],
        );
        let all = "select * from hard order by id";
        let before = at.rows(all);
        assert_eq!(before.matches("NULL").count(), 6, "{family}: {before}");
        assert!(
            before.contains("it's \"\"Grey\"\", \\ and\n\ttwo 🌊 $$\""),
            "{family}: {before}"
        );
        for (format, more) in [
            ("csv", None),
            ("parquet", None),
            ("jsonl", None),
            ("sql", Some("again_sql")),
        ] {
            let file = format!("{family}.{format}");
            let into = format!("again_{format}");
            match more {
                // Statements name their table themselves.
                Some(table) => {
                    at.well(
                        "run",
                        &[all, "--output", &file, "--table", table, "--create"],
                    );
                    at.well("run", &["--write", "--file", &file]);
                }
                None => {
                    at.well("export", &["hard", &file]);
                    at.well(
                        "load",
                        &[
                            &file,
                            "--into",
                            &into,
                            "--",
                            "--type",
                            "raw=bytes",
                            "--type",
                            "doc=text",
                            "--type",
                            "name=text",
                        ],
                    );
                }
            }
            let after = at.rows(&format!("select * from {into} order by id"));
            assert_eq!(after, before, "{family} {format}");
        }
    }
}

/// A bad line is found before anything is done, can be left out and is kept beside; a refused row is named by its line and takes
/// everything back.
#[test]
fn what_does_not_fit_is_told_with_its_line_and_nothing_is_half_there() {
    let folder = tempfile::tempdir().expect("a folder");
    let dir = folder.path();
    let mut text = String::from("id,level\n");
    for row in 1..=5_000 {
        text.push_str(&format!("{row},{}.5\n", row % 90));
    }
    write(dir, "levels.csv", &format!("{text}5001,low\n5002\n"));
    write(dir, "twice.csv", &format!("{text}17,1.5\n"));
    write(dir, "more.csv", "id,level\n17,99.5\n6000,7.5\n");
    for (family, address) in sources(dir, "bring_in") {
        let at = At {
            dir,
            address: &address,
        };
        let refused = at.call("load", &["levels.csv", "--into", "levels"]);
        assert_eq!(refused.code, 1, "{family}");
        for part in [
            "line 5002, level: 'low' is no decimal(3,1)",
            "line 5003: has 1 value",
            "nothing was loaded",
        ] {
            assert!(
                refused.err.contains(part),
                "{family} {part}: {}",
                refused.err
            );
        }
        assert_ne!(
            at.call("run", &["select 1 from levels"]).code,
            0,
            "{family}: no table is left"
        );
        let refused = at.call(
            "load",
            &["twice.csv", "--into", "levels", "--", "--key", "id"],
        );
        assert_eq!(refused.code, 1, "{family}");
        assert!(
            refused.err.to_lowercase().contains("line 5002: "),
            "{family}: {}",
            refused.err
        );
        assert_ne!(
            at.call("run", &["select 1 from levels"]).code,
            0,
            "{family}: no table is left"
        );

        let loaded = at.well(
            "load",
            &[
                "levels.csv",
                "--into",
                "levels",
                "--",
                "--key",
                "id",
                "--bad",
                "skip",
            ],
        );
        assert!(
            loaded.contains("The file has 5 002 rows: 5 000 loaded, 2 that did not fit."),
            "{family}: {loaded}"
        );
        let beside = std::fs::read_to_string(dir.join("levels.refused.csv")).expect("beside");
        assert_eq!(beside, "id,level\n5001,low\n5002\n", "{family}");
        assert_eq!(
            at.rows("select count(*), sum(level) from levels"),
            format!("5000,{}.0\n", sum()),
            "{family}"
        );

        let taken = at.call("load", &["more.csv", "--into", "levels"]);
        assert!(
            taken.code == 1 && taken.err.contains("Nothing was loaded"),
            "{family}: {}",
            taken.err
        );
        let skipped = at.well(
            "load",
            &["more.csv", "--into", "levels", "--", "--existing", "skip"],
        );
        assert!(
            skipped.contains("1 loaded, 1 left as they were"),
            "{family}: {skipped}"
        );
        assert_eq!(
            at.rows("select level from levels where id in (17, 6000) order by id"),
            "17.5\n7.5\n",
            "{family}"
        );
        at.well(
            "load",
            &[
                "more.csv",
                "--into",
                "levels",
                "--",
                "--existing",
                "replace",
            ],
        );
        assert_eq!(
            at.rows("select level from levels where id in (17, 6000) order by id"),
            "99.5\n7.5\n",
            "{family}"
        );
        let other = at.call(
            "load",
            &["more.csv", "--into", "levels", "--", "--name", "level=lvel"],
        );
        assert!(
            other.code == 1 && other.err.contains("--name level=level"),
            "{family}: {}",
            other.err
        );
    }
}

/// Rows are known by the key that was named, where the table holds that unique.
#[test]
fn rows_are_replaced_by_the_key_that_is_named() {
    let folder = tempfile::tempdir().expect("a folder");
    let dir = folder.path();
    write(dir, "crew.csv", "id,badge,name\n7,B2,Wren\n3,B3,Ling\n");
    for (family, address) in sources(dir, "named_key") {
        let at = At {
            dir,
            address: &address,
        };
        for statement in [
            "create table crew (id integer primary key, badge varchar(10) not null unique, name varchar(20))",
            "insert into crew values (1, 'B1', 'Skua'), (2, 'B2', 'Tern')",
        ] {
            at.well("run", &["--write", statement]);
        }
        let load = |key: &'static str| {
            [
                "crew.csv",
                "--into",
                "crew",
                "--",
                "--existing",
                "replace",
                "--key",
                key,
            ]
        };
        let refused = at.call("load", &load("name"));
        assert!(
            refused.code == 1
                && refused.err.contains("crew does not hold name unique")
                && refused.err.contains("id; badge"),
            "{family}: {}",
            refused.err
        );
        at.well("load", &load("badge"));
        assert_eq!(
            at.rows("select badge, name, id from crew order by badge"),
            "B1,Skua,1\nB2,Wren,7\nB3,Ling,3\n",
            "{family}"
        );
    }
}

fn sum() -> String {
    let tenths: u64 = (1..=5_000_u64).map(|row| (row % 90) * 10 + 5).sum();
    format!("{}", tenths / 10)
}

/// A file of documents goes into a collection as it is; rows become documents, their names ways through objects.
#[test]
fn collections_take_documents_and_rows() {
    let folder = tempfile::tempdir().expect("a folder");
    let dir = folder.path();
    std::fs::create_dir(dir.join("docs")).expect("a folder");
    write(dir, "docs/other.jsonl", "{\"_id\":1}\n");
    let documents = "{\"_id\":1,\"note\":\"fog\",\"at\":{\"$date\":\"2031-03-01T05:12:00Z\"},\"n\":{\"$numberDecimal\":\"1.50\"}}\n{\"_id\":2,\"big\":9007199254740993,\"list\":[1,{\"a\":null}]}\n";
    write(dir, "log.jsonl", documents);
    write(
        dir,
        "rows.csv",
        "_id,place.port,place.quay,seen\n1,Old Quay,N,2031-03-01 10:00\n2,Grey Point,,\n",
    );
    let address = format!("docs:{}", dir.join("docs").display());
    let at = At {
        dir,
        address: &address,
    };
    let loaded = at.well("load", &["log.jsonl", "--into", "log"]);
    assert!(loaded.contains("2 documents loaded into log."), "{loaded}");
    assert_eq!(
        at.well("run", &["from log order by _id", "--format", "jsonl"]),
        documents
    );
    let again = at.call("load", &["log.jsonl", "--into", "log"]);
    assert!(
        again.code == 1 && again.err.contains("_id 1 in log already"),
        "{}",
        again.err
    );
    assert_eq!(
        at.well("run", &["from log count", "--format", "csv", "--no-header"])
            .trim(),
        "2"
    );
    at.well("load", &["rows.csv", "--into", "sights"]);
    assert_eq!(
        at.well("run", &["from sights order by _id", "--format", "jsonl"]),
        "{\"_id\":1,\"place\":{\"port\":\"Old Quay\",\"quay\":\"N\"},\"seen\":{\"$date\":\"2031-03-01T10:00:00Z\"}}\n{\"_id\":2,\"place\":{\"port\":\"Grey Point\"}}\n"
    );
    let refused = at.call(
        "load",
        &["log.jsonl", "--into", "log", "--", "--type", "note=integer"],
    );
    assert!(refused.err.contains("as they are"), "{}", refused.err);
    // What would say nothing is refused.
    for (option, value, words) in [
        ("--separator", ";", "between separators"),
        ("--batch", "5", "for tables"),
    ] {
        let refused = at.call("load", &["log.jsonl", "--into", "log", "--", option, value]);
        assert!(
            refused.code == 1 && refused.err.contains(words),
            "{}",
            refused.err
        );
    }
}
