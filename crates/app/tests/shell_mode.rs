//! The program without a screen, as a script calls it: output, messages, exit codes.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Output, Stdio};

struct Shell {
    dir: tempfile::TempDir,
}

impl Shell {
    fn new() -> Self {
        Shell {
            dir: tempfile::tempdir().expect("dir"),
        }
    }

    fn path(&self, name: &str) -> String {
        self.dir.path().join(name).display().to_string()
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_idle-tide"));
        command
            .args(arguments)
            .env("HOME", self.dir.path())
            .stdin(Stdio::null());
        for name in ["XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME"] {
            command.env(name, self.dir.path().join(name));
        }
        command
    }

    fn run(&self, arguments: &[&str]) -> Ran {
        Ran::from(self.command(arguments).output().expect("runs"))
    }

    fn with_input(&self, arguments: &[&str], input: &[u8]) -> Ran {
        let mut child = self
            .command(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("starts");
        child
            .stdin
            .take()
            .expect("input")
            .write_all(input)
            .expect("written");
        Ran::from(child.wait_with_output().expect("ends"))
    }
}

struct Ran {
    out: String,
    err: String,
    code: i32,
}

impl From<Output> for Ran {
    fn from(output: Output) -> Self {
        Ran {
            out: String::from_utf8_lossy(&output.stdout).into_owned(),
            err: String::from_utf8_lossy(&output.stderr).into_owned(),
            code: output.status.code().unwrap_or(-1),
        }
    }
}

#[test]
fn results_on_standard_output_and_messages_on_standard_error() {
    let s = Shell::new();
    let ran = s.run(&[
        "run",
        "demo",
        "select count(*) as n from vessels",
        "--format",
        "csv",
    ]);
    assert_eq!(
        (ran.out.as_str(), ran.err.as_str(), ran.code),
        ("n\n480\n", "", 0)
    );
    let ran = s.run(&["run", "demo", "select nme from vessels", "--format", "csv"]);
    assert_eq!((ran.out.as_str(), ran.code), ("", 1));
    for words in ["There is no column nme", "SQLITE_ERROR", "Nearest: name"] {
        assert!(ran.err.contains(words), "{}", ran.err);
    }
    let ran = s.run(&["run", "demo", "/tables quay*", "--format", "jsonl"]);
    assert_eq!(
        ran.out,
        "{\"name\":\"quays\",\"kind\":\"table\",\"rows\":4}\n"
    );
    let ran = s.run(&[
        "run",
        "demo",
        "select code, name from quays order by code",
        "select 1 as one",
        "--no-header",
    ]);
    assert_eq!(
        ran.out,
        "D  Drying Hard\nE  Mill Sluice\nN  North Steps\nW  Outer Spit\n\n1\n"
    );
    let ran = s.run(&[
        "run",
        "demo",
        "-- a note\nselect 1 as one",
        "--format",
        "csv",
    ]);
    assert_eq!((ran.out.as_str(), ran.code), ("one\n1\n", 0), "{}", ran.err);
    let made = s.path("made.db");
    let make = [
        "run",
        &made,
        "--new",
        "create table t (n); insert into t values (7)",
    ];
    assert_eq!(s.run(&make).code, 0);
    assert!(s.run(&make).err.contains("exists already"));
    for (arguments, words) in [
        (
            &["run", "demo", "select 1", "--format", "xml"][..],
            "no format xml",
        ),
        (
            &["run", "nowhere.db", "select 1"],
            "There is no file nowhere.db",
        ),
        (&["run", "oak://haven/x", "select 1"], "postgres"),
        (&["run", "demo", "--new", "select 1"], "this source is none"),
        (&["run", "demo", "/* nothing */"], "nothing to run"),
        (&["run", "demo", "/tabels"], "no command /tabels"),
        (&[], "needs a terminal"),
        (&["demo"], "needs a terminal"),
    ] {
        let ran = s.run(arguments);
        assert!(
            ran.code != 0 && ran.err.contains(words) && ran.out.is_empty(),
            "{arguments:?}: {}",
            ran.err
        );
    }
}

#[test]
fn files_standard_input_going_on_and_together() {
    let s = Shell::new();
    let db = s.path("new.db");
    std::fs::write(&db, "").expect("made");
    let script = s.path("make.sql");
    std::fs::write(&script, "\u{feff}-- a comment; with a semicolon\ncreate table t (n integer primary key, w text);\ninsert into t values (1, 'a;b'),\n (2, 'c');\ninsert into t values (1, 'again');\ninsert into t values (3, 'd');\n").expect("written");

    let ran = s.run(&["run", &db, "--write", "--file", &script, "--together"]);
    assert_eq!(ran.code, 1);
    assert!(
        ran.err.contains("line 5")
            && ran.err.contains("already has this n")
            && ran.err.contains("taken back"),
        "{}",
        ran.err
    );
    let ran = s.run(&[
        "run",
        &db,
        "select count(*) from sqlite_schema",
        "--no-header",
    ]);
    assert_eq!(ran.out, "0\n", "nothing was kept");

    let ran = s.run(&["run", &db, "--write", "--file", &script, "--keep-going"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    let ran = s.with_input(
        &["run", &db, "--format", "tsv"],
        b"select n, w from t order by n;\n",
    );
    assert_eq!(
        (ran.out.as_str(), ran.code),
        ("n\tw\n1\ta;b\n2\tc\n3\td\n", 0)
    );

    let ran = s.run(&["run", &db, "insert into t values (9, 'x')"]);
    assert!(ran.code == 1 && ran.err.contains("--write"), "{}", ran.err);
    let ran = s.run(&["run", &db, "--write", "delete from t"]);
    assert!(
        ran.code == 4 && ran.err.contains("all 3 rows of t") && ran.err.contains("--writes free"),
        "{}",
        ran.err
    );
    let ran = s.run(&["run", &db, "--write", "--writes", "free", "delete from t"]);
    assert!(
        ran.code == 0 && ran.err.contains("3 rows deleted"),
        "{}",
        ran.err
    );

    let ran = s.with_input(&["run", &db], b"select 1;\nselect 'never closed\n;");
    assert!(
        ran.code == 1 && ran.err.contains("line 2") && ran.err.contains("never closed"),
        "{}",
        ran.err
    );
    let ran = s.with_input(&["run", &db], b"select 1;\nselect '\xff';");
    assert!(
        ran.code == 1 && ran.err.contains("line 2: the text is not UTF-8"),
        "{}",
        ran.err
    );
    let ran = s.with_input(&["run", &db], b"");
    assert_eq!((ran.code, ran.out.as_str()), (0, ""));
}

#[test]
fn exact_bytes_a_closed_pipe_and_a_full_disk() {
    let s = Shell::new();
    let output = s
        .command(&[
            "run",
            "sqlite::memory:",
            "select cast(x'611b5b324aff' as text) as v",
            "--format",
            "csv",
            "--no-header",
        ])
        .output()
        .expect("runs");
    assert_eq!(output.stdout, b"a\x1b[2J\xff\n", "exact bytes when piped");

    let program = env!("CARGO_BIN_EXE_idle-tide");
    let script = format!(
        "{program} run demo 'select * from readings' --format csv | head -1; exit ${{PIPESTATUS[0]}}"
    );
    let output = Command::new("bash")
        .args(["-c", &script])
        .env("HOME", s.dir.path())
        .output()
        .expect("runs");
    assert_eq!(
        (output.status.code(), output.stderr.as_slice()),
        (Some(0), &b""[..]),
        "a closed pipe is no error"
    );
    assert_eq!(output.stdout, b"gauge_id,at,level_m,temp_c,battery_v\n");

    // A limit on the size of files stands for a full disk.
    let file = s.path("out.csv");
    std::fs::write(&file, "old").expect("written");
    let script = format!(
        "trap '' XFSZ; ulimit -f 64; {program} run demo 'select * from readings' --output {file} --replace"
    );
    let output = Command::new("bash")
        .args(["-c", &script])
        .env("HOME", s.dir.path())
        .output()
        .expect("runs");
    let err = String::from_utf8_lossy(&output.stderr);
    assert!(
        output.status.code() == Some(7) && err.contains("unchanged"),
        "{err}"
    );
    assert_eq!(std::fs::read_to_string(&file).expect("there"), "old");
    assert_eq!(left_over(s.dir.path()), Vec::<String>::new());

    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(&file, PermissionsExt::from_mode(0o640)).expect("set");
    let all = ["run", "demo", "select * from readings", "--output", &file];
    let ran = s.run(&all);
    assert!(
        ran.code == 7 && ran.err.contains("--replace"),
        "{}",
        ran.err
    );
    assert_eq!(std::fs::read_to_string(&file).expect("there"), "old");
    let ran = s.run(&[&all[..], &["--replace"]].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(
        std::fs::read_to_string(&file)
            .expect("there")
            .lines()
            .count(),
        20_001
    );
    // What was there keeps its mode; a new file is its owner's only.
    let mode = |file: &str| {
        let there = std::fs::metadata(file).expect("there");
        there.permissions().mode() & 0o777
    };
    assert_eq!(mode(&file), 0o640);
    let new = s.path("new.csv");
    let ran = s.run(&["run", "demo", "select 1", "--output", &new]);
    assert_eq!((ran.code, mode(&new)), (0, 0o600), "{}", ran.err);
}

fn left_over(dir: &Path) -> Vec<String> {
    std::fs::read_dir(dir)
        .expect("dir")
        .map(|e| e.expect("entry").file_name().to_string_lossy().into_owned())
        .filter(|name| name.starts_with(".idle-tide-"))
        .collect()
}

#[test]
fn layouts_and_commands_for_pasting() {
    let s = Shell::new();
    let run = |arguments: &[&str]| s.run(&[&["run", "demo"], arguments].concat()).out;
    let query = "select code, built, name from quays order by code limit 2";
    let ruled = run(&[query, "--lines"]);
    let expected = [
        "code ┆ built ┆ name",
        &"╌".repeat(26),
        "D    ┆  1790 ┆ Drying Hard",
        "E    ┆  1911 ┆ Mill Sluice",
    ];
    assert_eq!(ruled.lines().collect::<Vec<_>>(), expected);
    assert_eq!(
        run(&[query, "--format", "record", "--no-header"]),
        "D\n1790\nDrying Hard\n\nE\n1911\nMill Sluice\n"
    );
    assert_eq!(
        run(&[query, "--format", "json"]),
        "[\n{\"code\":\"D\",\"built\":1790,\"name\":\"Drying Hard\"},\n{\"code\":\"E\",\"built\":1911,\"name\":\"Mill Sluice\"}\n]\n"
    );
    assert!(run(&["/about quays"]).contains("where one can lie"));
    assert!(run(&["/definition owed"]).contains("CREATE VIEW owed"));
    assert!(run(&["/figures keepers", "--format", "csv"]).starts_with("column,type,rows,"));
    assert_eq!(
        run(&["/sample services 2", "--format", "csv"])
            .lines()
            .count(),
        3
    );
    assert!(run(&["/help conditions"]).contains("/filter keeps the rows"));
    assert!(run(&["/bearings"]).contains("harbour.db"));
    assert_eq!(
        run(&["select 1", "quit", "select 2"]).lines().count(),
        2,
        "quit ends the run"
    );
    let ran = s.run(&["run", "demo", "/theme deep"]);
    assert!(
        ran.code == 1 && ran.err.contains("full screen only"),
        "{}",
        ran.err
    );
    let ran = s.run(&["run", "demo", "show tables"]);
    assert!(ran.code == 1 && ran.err.contains("/tables"), "{}", ran.err);
}

#[test]
fn parameters_limits_and_times() {
    let s = Shell::new();
    let run =
        |arguments: &[&str]| s.run(&[&["run", "demo", "--format", "csv"], arguments].concat());
    let ran = run(&[
        "select :?n + 1 as n, typeof(:?t) as t, 3 in (:?list) as l",
        "--param",
        "n=41",
        "--param",
        "t='41'",
        "--param",
        "list=[1, 3]",
    ]);
    assert_eq!(
        (ran.out.as_str(), ran.code),
        ("n,t,l\n42,text,1\n", 0),
        "{}",
        ran.err
    );
    // What would be SQL is a text.
    let ran = run(&[
        "select :?x as x",
        "--param",
        "x=1) from no --",
        "--param",
        "y=1",
    ]);
    assert_eq!(ran.out, "x\n1) from no --\n");
    assert!(ran.err.contains("--param y has no place"), "{}", ran.err);
    let ran = run(&[
        "select id from vessels order by id",
        "select 7 as n",
        "--limit",
        "2",
    ]);
    assert_eq!(
        (ran.out.as_str(), ran.code),
        ("id\n1\n2\nn\n7\n", 0),
        "{}",
        ran.err
    );
    let endless =
        "with recursive c(n) as (select 1 union all select n + 1 from c) select max(n) from c";
    let ran = run(&[endless, "--timeout", "0.3"]);
    assert!(
        ran.code == 6 && ran.err.contains("--timeout"),
        "{}",
        ran.err
    );
    let ran = run(&["select 1 as n", "--lines"]);
    assert!(
        ran.code == 1 && ran.err.contains("it is for text"),
        "{}",
        ran.err
    );
    // Rows of commands are limited too.
    let ran = run(&["/tables", "--limit", "2"]);
    assert_eq!(ran.out.lines().count(), 3, "{}", ran.out);
    let ran = s.run(&["list", "demo-docs", "--format", "csv", "--no-header"]);
    assert!(
        ran.code == 0 && ran.out.contains("landings"),
        "{}{}",
        ran.out,
        ran.err
    );
    let ran = s.run(&["check", "postgres://127.0.0.1:1/none"]);
    assert_eq!(ran.code, 3, "{}", ran.err);
}

#[test]
fn each_result_gets_a_file_where_one_cannot_hold_two() {
    let s = Shell::new();
    let two = ["run", "demo", "select 1 as a", "select 2 as b", "--output"];
    let one = s.path("both.parquet");
    let ran = s.run(&[&two[..], &[&one]].concat());
    assert!(ran.code == 7 && ran.err.contains("{n}"), "{}", ran.err);
    assert!(!Path::new(&one).exists());
    let ran = s.run(&[&two[..], &[&s.path("result-{n}.csv"), "--quiet"]].concat());
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    let read = |name: &str| std::fs::read_to_string(s.path(name)).expect("there");
    assert_eq!(read("result-1.csv") + &read("result-2.csv"), "a\n1\nb\n2\n");
}

/// What was written as SQL makes the same rows again, whatever they hold.
#[test]
fn inserts_make_the_rows_again() {
    let s = Shell::new();
    let (db, copy, file) = (s.path("a.db"), s.path("b.db"), s.path("t.sql"));
    let hard = "create table \"order\" (id integer primary key, \"a b\" text, x real, raw blob, n numeric);\
        insert into \"order\" values (1, 'it''s \\ ; -- \u{1f30a}' || char(10) || char(0) || 'z', 9e999, x'00ff', 1.5), (2, null, -0.1, x'', 12345678901234567890), (3, '', 1e300, null, 'text');\
        insert into \"order\" with recursive c(v) as (select 4 union all select v + 1 from c where v < 500) select v, 'row ' || v, v / 3.0, null, v from c";
    let ran = s.with_input(&["run", &db, "--new"], hard.as_bytes());
    assert_eq!(ran.code, 0, "{}", ran.err);
    let ran = s.run(&["export", &db, "order", &file, "--create"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let ran = s.run(&["run", &copy, "--new", "--file", &file, "--together"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let dump = |db: &str| {
        let all = "select id, hex(\"a b\"), typeof(x), x, hex(raw), typeof(n), n from \"order\" order by id";
        s.run(&["run", db, all, "--format", "csv"]).out
    };
    assert_eq!(dump(&copy).lines().count(), 501);
    assert_eq!(dump(&copy), dump(&db));
}

#[test]
fn the_card_goes_on_paper() {
    let s = Shell::new();
    let (pdf, odd) = (s.path("card.pdf"), s.path("card.doc"));
    let ran = s.run(&["run", "sqlite::memory:", &format!("/one-page {pdf}")]);
    assert_eq!((ran.code, ran.out.as_str()), (0, ""), "{}", ran.err);
    let made = std::fs::read(&pdf).expect("made");
    assert!(made.starts_with(b"%PDF") && made.len() > 10_000);
    // What is there stays; what is no form of paper is refused.
    for (file, words) in [(&pdf, "is there already"), (&odd, "written as svg, pdf")] {
        let ran = s.run(&["run", "sqlite::memory:", &format!("/one-page {file}")]);
        assert_eq!(ran.code, 7, "{}", ran.err);
        assert!(ran.err.contains(words), "{}", ran.err);
    }
    assert_eq!(std::fs::read(&pdf).expect("still there"), made);
}

#[test]
fn completions_and_manual_pages_tell_the_options_of_formats() {
    let s = Shell::new();
    for shell in ["bash", "zsh", "fish"] {
        let ran = s.run(&["completions", shell]);
        assert!(
            ran.code == 0 && ran.out.contains("quote-all"),
            "{shell}: {}",
            ran.err
        );
    }
    let ran = s.run(&["man", s.dir.path().to_str().expect("a path")]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let page = std::fs::read_to_string(s.path("idle-tide-run.1")).expect("a page");
    assert!(page.starts_with(".") && page.contains("parquet") && page.contains("timeout"));
    let first = std::fs::read_to_string(s.path("idle-tide.1")).expect("a page");
    assert!(first.contains("Exit codes"));
}

#[test]
fn an_endless_statement_ends_with_the_interrupt() {
    let s = Shell::new();
    let endless =
        "with recursive n (i) as (select 1 union all select i + 1 from n) select i from n";
    let file = s.path("out.csv");
    let mut child = s
        .command(&["run", "sqlite::memory:", endless, "--output", &file])
        .stderr(Stdio::piped())
        .spawn()
        .expect("starts");
    // The place of the file is taken beside it as soon as rows arrive.
    let start = std::time::Instant::now();
    while left_over(s.dir.path()).is_empty() {
        if start.elapsed().as_secs() >= 20 {
            child.kill().expect("ends");
            panic!("no rows");
        }
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    let asked = Command::new("kill")
        .args(["-s", "INT", &child.id().to_string()])
        .status()
        .expect("kill runs");
    assert!(asked.success());
    let ran = Ran::from(child.wait_with_output().expect("ends"));
    assert_eq!(ran.code, 130, "{}", ran.err);
    assert!(
        ran.err.contains("stopped") && ran.err.contains("was not written"),
        "{}",
        ran.err
    );
    assert!(!Path::new(&file).exists() && left_over(s.dir.path()).is_empty());
}

#[test]
fn an_output_never_destroys_what_it_is_not_to_replace() {
    let s = Shell::new();
    let db = s.path("books.db");
    make_file(&db);
    let before = std::fs::read(&db).expect("there");
    let link = s.path("link.csv");
    std::os::unix::fs::symlink(&db, &link).expect("linked");
    for output in [&db, &link] {
        let ran = s.run(&[
            "run", &db, "select 1", "--format", "csv", "--output", output,
        ]);
        assert_eq!(ran.code, 1);
        assert!(ran.err.contains("is what is read"), "{}", ran.err);
    }
    assert_eq!(std::fs::read(&db).expect("there"), before);
    // A standard stream is written to, whatever it leads to.
    let ran = s.run(&[
        "run",
        &db,
        "select 7 as n",
        "--format",
        "csv",
        "--output",
        "/dev/stdout",
    ]);
    assert_eq!((ran.out.as_str(), ran.code), ("n\n7\n", 0), "{}", ran.err);
}

fn make_file(path: &str) {
    let s = Shell::new();
    let made = s.run(&["run", path, "create table t (n)", "--write"]);
    assert_eq!(made.code, 3, "a file is not made unasked: {}", made.err);
    std::fs::write(path, "").expect("made");
    let made = s.run(&["run", path, "create table t (n)", "--write"]);
    assert_eq!(made.code, 0, "{}", made.err);
}

#[test]
fn a_source_that_was_saved_to_be_read_only_is_never_written() {
    let s = Shell::new();
    let db = s.path("books.db");
    make_file(&db);
    let settings = s.path("XDG_CONFIG_HOME/idle-tide/settings.toml");
    std::fs::create_dir_all(Path::new(&settings).parent().expect("a folder")).expect("made");
    for (word, told) in [("none", false), ("nnoe", true)] {
        let saved = format!("[sources.books]\naddress = \"{db}\"\nwrites = \"{word}\"\n");
        std::fs::write(&settings, saved).expect("written");
        let ran = s.run(&["run", "books", "insert into t values (1)"]);
        assert_eq!(ran.code, 1, "{}", ran.err);
        assert_eq!(
            ran.err.contains("none of ask, free and none"),
            told,
            "{}",
            ran.err
        );
        let ran = s.run(&[
            "run",
            "books",
            "--writes",
            "free",
            "insert into t values (1)",
        ]);
        assert!(ran.err.contains("nothing is written to it"), "{}", ran.err);
    }
    let ran = s.run(&["run", &db, "select count(*) as n from t", "--format", "csv"]);
    assert_eq!(ran.out, "n\n0\n");
}

/// Limits of the settings count, and what cannot be one is told and changes nothing.
#[test]
fn limits_are_those_of_the_settings() {
    let s = Shell::new();
    let db = s.path("books.db");
    make_file(&db);
    let settings = s.path("XDG_CONFIG_HOME/idle-tide/settings.toml");
    std::fs::create_dir_all(Path::new(&settings).parent().expect("a folder")).expect("made");
    let limits = "[limits]\nscript-rows = 3\nresults-disk-mb = 0\nnothing = 5\n";
    std::fs::write(&settings, limits).expect("written");
    let many = "= n = rows('select 1 as a union select 2 union select 3 union select 4')";
    let ran = s.run(&["run", &db, many]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(ran.err.contains("more than 3 rows"), "{}", ran.err);
    assert!(
        ran.err.contains("results-disk-mb cannot be 0"),
        "{}",
        ran.err
    );
    assert!(ran.err.contains("no limit nothing"), "{}", ran.err);
    let few = "= n = rows('select 1 as a union select 2 union select 3')";
    let ran = s.run(&["run", &db, few]);
    assert_eq!(ran.code, 0, "{}", ran.err);
}

#[test]
fn settings_that_cannot_be_read_stop_nothing_and_nothing_is_written() {
    let s = Shell::new();
    let db = s.path("books.db");
    make_file(&db);
    let settings = s.path("XDG_CONFIG_HOME/idle-tide/settings.toml");
    std::fs::create_dir_all(Path::new(&settings).parent().expect("a folder")).expect("made");
    std::fs::write(&settings, "[sources.books]\nwrites = \"none\n# \u{1b}[2J").expect("written");
    let ran = s.run(&[
        "run",
        &db,
        "--write",
        "--writes",
        "free",
        "insert into t values (1)",
    ]);
    assert_eq!(ran.code, 1);
    assert!(
        ran.err.contains("nothing is written") && ran.err.contains("refuses writes"),
        "{}",
        ran.err
    );
    assert!(
        !ran.err.contains('\u{1b}'),
        "what is quoted of it is no control sequence"
    );
    let ran = s.run(&["run", &db, "select count(*) as n from t", "--format", "csv"]);
    assert_eq!((ran.out.as_str(), ran.code), ("n\n0\n", 0));
}

#[test]
fn a_log_tells_what_happened_and_keeps_secrets() {
    let s = Shell::new();
    let log = s.path("sub/what.log");
    let ran = s.run(&[
        "run",
        "demo",
        "select nme from vessels",
        "create user mate password 'spring tide'",
        "--keep-going",
        "--log",
        &log,
    ]);
    assert_eq!(ran.code, 1);
    let text = std::fs::read_to_string(&log).expect("a log");
    for words in [
        "select nme from vessels",
        "There is no column nme",
        "session=1",
        "create user mate",
    ] {
        assert!(text.contains(words), "no {words} in:\n{text}");
    }
    assert!(!text.contains("spring"), "{text}");
    use std::os::unix::fs::PermissionsExt;
    let mode = std::fs::metadata(&log).expect("there").permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
    // A name of the settings does as well, and /log shows it.
    let settings = s.path("XDG_CONFIG_HOME/idle-tide/settings.toml");
    std::fs::create_dir_all(Path::new(&settings).parent().expect("a folder")).expect("made");
    std::fs::write(&settings, format!("log = \"{log}\"\n")).expect("written");
    let ran = s.run(&["run", "demo", "/log"]);
    assert!(
        ran.out.contains(&log) && ran.out.contains("begins"),
        "{}",
        ran.out
    );
    std::fs::remove_file(&settings).expect("gone");
    assert!(
        s.run(&["run", "demo", "/log"])
            .err
            .contains("No log is kept")
    );
}

/// Sends a signal, and waits for the end.
fn ends_after(mut child: std::process::Child, signal: &str) -> Option<i32> {
    let id = child.id().to_string();
    Command::new("kill")
        .args([signal, &id])
        .status()
        .expect("kill runs");
    let start = std::time::Instant::now();
    loop {
        if let Some(status) = child.try_wait().expect("waited") {
            return status.code();
        }
        assert!(
            start.elapsed() < std::time::Duration::from_secs(20),
            "it does not end"
        );
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}

#[test]
fn a_server_that_says_nothing_does_not_hold_a_script() {
    let s = Shell::new();
    for (signal, code) in [("-TERM", 143), ("-HUP", 129), ("-INT", 130)] {
        let mut command = s.command(&[
            "run",
            "postgres://mate@quay.example/books",
            "--through",
            "sleep 100",
            "select 1",
        ]);
        let child = command
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("starts");
        // It has begun when its own child runs.
        let children = format!("/proc/{0}/task/{0}/children", child.id());
        let start = std::time::Instant::now();
        let begun = || {
            let tasks = std::fs::read_dir(format!("/proc/{}/task", child.id()))
                .into_iter()
                .flatten()
                .flatten();
            tasks
                .map(|task| task.path().join("children"))
                .any(|path| std::fs::read_to_string(path).is_ok_and(|text| !text.trim().is_empty()))
        };
        while !begun() {
            assert!(
                start.elapsed() < std::time::Duration::from_secs(20),
                "{children}"
            );
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
        assert_eq!(ends_after(child, signal), Some(code));
    }
}

/// Text is written when all rows are there; a reader that is gone ends the statement all the same.
#[test]
fn a_reader_that_is_gone_ends_what_has_no_end() {
    let s = Shell::new();
    let endless =
        "with recursive n (i) as (select 1 union all select i + 1 from n) select i from n";
    let mut child = s
        .command(&["run", "demo", endless])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("starts");
    drop(child.stdout.take());
    let start = std::time::Instant::now();
    while child.try_wait().expect("waited").is_none() {
        assert!(
            start.elapsed() < std::time::Duration::from_secs(20),
            "it goes on"
        );
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}

#[test]
fn documents_go_out_in_the_form_that_was_asked_for() {
    let s = Shell::new();
    let file = s.path("landings.jsonl");
    let line = r#"{"a":1,"b":{"$numberLong":"2"},"c":1.5,"d":{"$date":"2031-05-01T06:00:00Z"}}"#;
    std::fs::write(&file, format!("{line}\n")).expect("made");
    let written = |format: &str| {
        let ran = s.run(&[
            "run",
            &format!("docs:{file}"),
            "from landings",
            "--format",
            format,
        ]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        ran.out.trim_end().to_string()
    };
    assert_eq!(written("jsonl"), line);
    assert_eq!(
        written("relaxed"),
        r#"{"a":1,"b":2,"c":1.5,"d":{"$date":"2031-05-01T06:00:00Z"}}"#
    );
    assert_eq!(
        written("canonical"),
        r#"{"a":{"$numberInt":"1"},"b":{"$numberLong":"2"},"c":{"$numberDouble":"1.5"},"d":{"$date":{"$numberLong":"1935381600000"}}}"#
    );
}

#[test]
fn what_goes_too_deep_is_refused_in_words() {
    let s = Shell::new();
    let file = s.path("landings.jsonl");
    std::fs::write(&file, "{\"kg\": 1}\n").expect("made");
    let documents = format!("docs:{file}");
    let deep = |before: &str, unit: &str, middle: &str, end: &str| {
        format!(
            "{before}{}{middle}{}",
            unit.repeat(5_000),
            end.repeat(5_000)
        )
    };
    for (source, statement) in [
        (
            "demo",
            deep("select 1 from visits where 1", " and crew = 1", "", ""),
        ),
        ("demo", deep("select ", "(", "1", ")")),
        ("demo", deep("select ", "case when 1 then ", "1", " end")),
        (
            &documents,
            deep("from landings where kg = 1", " and kg = 1", "", ""),
        ),
        (&documents, deep("from landings where kg = ", "[", "", "]")),
        (&documents, deep("from landings", " where kg = 1", "", "")),
    ] {
        let ran = s.with_input(&["run", source], statement.as_bytes());
        let start: String = statement.chars().take(60).collect();
        assert_eq!(ran.code, 1, "{start}: {}", ran.err);
        assert!(
            ["too large", "limit", "too deep", "more than"]
                .iter()
                .any(|words| ran.err.contains(words)),
            "{start}: {}",
            ran.err
        );
    }
    std::fs::write(
        &file,
        format!("{}1{}\n", "{\"a\":".repeat(5_000), "}".repeat(5_000)),
    )
    .expect("made");
    let ran = s.run(&["run", &documents, "from landings"]);
    assert!(
        ran.code == 1 && ran.err.contains("deeper than"),
        "{}",
        ran.err
    );
}

#[test]
fn a_shape_says_how_many_documents_it_was_read_from() {
    let s = Shell::new();
    let file = s.path("landings.jsonl");
    let documents = format!("docs:{file}");
    for (content, words) in [
        ("{\"kg\": 1}\n", "Every document was read: 1.\n"),
        ("{\"kg\": 1}\n{}\n", "Every document was read: 2.\n"),
    ] {
        std::fs::write(&file, content).expect("made");
        let ran = s.run(&["run", &documents, "/shape landings"]);
        assert!(ran.err.ends_with(words), "{}", ran.err);
    }
}

/// Ten writers on one file: what is not stored is reported.
#[test]
fn ten_scripts_write_to_one_file_and_no_row_is_lost_silently() {
    const ROWS: usize = 60;
    let shell = Shell::new();
    let file = shell.path("busy.db");
    let make = "create table t (writer integer, n integer)";
    assert_eq!(shell.run(&["run", &file, "--new", make]).code, 0);
    let writers: Vec<_> = (0..10)
        .map(|writer| {
            let script = shell.path(&format!("{writer}.sql"));
            let lines = (0..ROWS).map(|n| format!("insert into t values ({writer}, {n});\n"));
            std::fs::write(&script, lines.collect::<String>()).expect("written");
            let arguments = ["run", &file, "--write", "--keep-going", "--file", &script];
            let mut command = shell.command(&arguments);
            command.stdout(Stdio::piped()).stderr(Stdio::piped());
            command.spawn().expect("starts")
        })
        .collect();
    let mut stored = 0;
    let mut refused = 0;
    for writer in writers {
        let ran = Ran::from(writer.wait_with_output().expect("ends"));
        let said = ran.err.matches("1 row inserted into t.").count();
        let failed = ran.err.matches("holds the database locked").count();
        assert_eq!(said + failed, ROWS, "{}", ran.err);
        assert_eq!(ran.code == 0, failed == 0, "{}", ran.err);
        stored += said;
        refused += failed;
    }
    assert_eq!(stored + refused, 10 * ROWS);
    let count = shell.run(&[
        "run",
        &file,
        "--format",
        "csv",
        "--no-header",
        "select count(*) from t",
    ]);
    assert_eq!(count.out.trim(), stored.to_string());
}

/// Questions over results of two sources and a file, and results that are drawn instead of written.
#[test]
fn questions_across_sources_and_pictures_without_a_screen() {
    let shell = Shell::new();
    let fees = shell.path("fees.csv");
    std::fs::write(&fees, "rig,fee\ntug,7.25\nsmack,10.50\n").expect("written");
    let ran = shell.run(&[
        "across",
        "--from",
        "v=demo:select rig, count(*) as vessels from vessels group by rig",
        "--from",
        "l=demo:select rig, max(length_m) as longest from vessels group by rig;",
        &format!("select v.rig, v.vessels > 0 as some, l.longest > 1 as long, f.fee -- exact\n from v join l using (rig) join '{fees}' f using (rig) order by f.fee"),
        "--format",
        "csv",
    ]);
    assert_eq!(
        ran.out, "rig,some,long,fee\ntug,1,1,7.25\nsmack,1,1,10.50\n",
        "{}",
        ran.err
    );
    let refused = shell.run(&[
        "across",
        "--from",
        "v=demo:with x as (select 1) delete from vessels",
        "select * from v",
    ]);
    assert!(
        refused.code == 1 && refused.err.contains("v: "),
        "{}",
        refused.err
    );
    let unknown = shell.run(&["across", "select * from somewhere"]);
    assert!(
        unknown.code == 1 && unknown.err.contains("There is no result somewhere"),
        "{}",
        unknown.err
    );

    let drawn = shell.run(&[
        "run",
        "demo",
        "select rig, count(*) as vessels from vessels group by rig",
        "--chart",
        "bars --ordered",
    ]);
    assert!(
        drawn.out.starts_with("vessels by rig") && drawn.out.contains("▕█"),
        "{}",
        drawn.out
    );
    // What a column is in stands in its comment, and a mean of it is in the same.
    let tides = shell.path("tides.db");
    let make = "create table tides (\n  quay text not null,\n  level numeric -- above chart datum, in metres\n); insert into tides values ('Quay', 3.5), ('Cove', 2.5)";
    assert_eq!(shell.run(&["run", &tides, "--new", make]).code, 0);
    for (statement, title) in [
        ("select quay, level from tides", "level (metres) by quay"),
        (
            "select quay, avg(level) as mean from tides group by quay",
            "mean (metres) by quay",
        ),
    ] {
        let drawn = shell.run(&["run", &tides, statement, "--chart", "bars"]);
        assert!(drawn.out.starts_with(title), "{}", drawn.out);
    }
    for (file, begins) in [
        ("a.svg", "<?xml"),
        ("a.pdf", "%PDF"),
        ("a.txt", "vessels by rig"),
    ] {
        let path = shell.path(file);
        let ran = shell.run(&[
            "run",
            "demo",
            "select rig, count(*) as vessels from vessels group by rig",
            "--chart",
            "",
            "--output",
            &path,
        ]);
        assert_eq!(ran.code, 0, "{}", ran.err);
        let bytes = std::fs::read(&path).expect("the picture");
        assert!(bytes.starts_with(begins.as_bytes()), "{file}");
    }
    for (chart, output, words) in [
        ("pie", "b.svg", "pie is not one of"),
        ("bars", "b.csv", "does not end like a picture"),
        ("bars --x depth", "b.svg", "no column depth"),
        ("points", "b.svg", "needs two numbers"),
    ] {
        let path = shell.path(output);
        let ran = shell.run(&[
            "run",
            "demo",
            "select rig, 'x' as name from vessels",
            "--chart",
            chart,
            "--output",
            &path,
        ]);
        // The rows could be written; it is the picture that cannot be made.
        assert!(
            ran.code == 1 && ran.err.contains(words) && !ran.err.contains("rows could not"),
            "{chart}: {}",
            ran.err
        );
        assert!(!std::path::Path::new(&path).exists(), "{chart}");
    }
}

/// What is called wrongly, or finds nothing to do, says what and what to do instead, on standard error alone.
#[test]
fn calls_that_cannot_be_are_refused_in_words() {
    let s = Shell::new();
    make_file(&s.path("t.db"));
    let (db, there) = (s.path("t.db"), s.path("there.csv"));
    std::fs::write(&there, "kept\n").expect("written");
    std::fs::write(s.path("walk.md"), "# A walk\n\nNothing runs here.\n").expect("written");
    let (walk, missing) = (s.path("walk.md"), s.path("missing.sql"));
    let numbered = s.path("out-{n}.csv");
    std::fs::write(s.path("out-2.csv"), "kept\n").expect("written");
    let odd = s.path("out.odd");
    let mut wrong = Vec::new();
    for (arguments, words) in [
        (&["run", &db, "--file", &missing][..], "cannot be read"),
        (&["run", &db, "--file", &walk], "has no block that runs"),
        (
            &["run", &db, "select 1", "--output", &there],
            "is there already",
        ),
        (
            &["run", &db, "select 1", "--output", &odd],
            "does not end like a format",
        ),
        (
            &["run", &db, "select 1", "--format", "tape"],
            "There is no format tape",
        ),
        (
            &["run", &db, "select 1; select 2", "--output", &numbered],
            "is there already; --replace",
        ),
        (
            &["run", &db, "select 1", "--chart", "bars", "--output", &odd],
            "does not end like a picture",
        ),
        (
            &["run", &db, "select 1", "--chart", "pie"],
            "pie is not one of",
        ),
        (
            &["run", &db, "select 'x' as t", "--chart", "points"],
            "needs two numbers",
        ),
        (
            &[
                "run",
                "demo-docs",
                "from landings limit 1",
                "--format",
                "sql",
            ],
            "say whose with --dialect",
        ),
        (&["demo", "--theme", "neon"], "neon"),
        (&[&db, "--docs"], "--docs belongs to demo"),
        (&[&db, "--fresh"], "belong to demo"),
        (&["load", &there, "--into", "t"], "t"),
        (&["open", "--nothing"], "--nothing"),
    ] {
        let ran = s.run(arguments);
        if ran.code == 0 || !ran.err.contains(words) {
            wrong.push(format!("{arguments:?}: {} {}", ran.code, ran.err));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    for (name, kept) in [("there.csv", "kept\n"), ("out-2.csv", "kept\n")] {
        let text = std::fs::read_to_string(s.path(name)).expect("read");
        assert_eq!(text, kept, "{name}");
    }
    assert!(
        left_over(s.dir.path()).is_empty(),
        "{:?}",
        left_over(s.dir.path())
    );
}

/// Drawings and stages come out as text, and each result as its own picture.
#[test]
fn what_is_drawn_on_a_screen_is_text_without_one() {
    let s = Shell::new();
    for (source, command, parts) in [
        (
            "demo",
            "/links visits",
            &["visits", "berths", "vessels"][..],
        ),
        (
            "demo-docs",
            "/stages from landings where port = 'Brackwater' limit 3",
            &["from", "where", "limit", "all 4 000 documents"],
        ),
        (
            "demo",
            "/plan select * from visits where id = 3",
            &["visits"],
        ),
    ] {
        let ran = s.run(&["run", source, command]);
        assert_eq!(ran.code, 0, "{command}: {}", ran.err);
        for part in parts {
            assert!(ran.out.contains(part), "{command}: {part}: {}", ran.out);
        }
    }
    let ran = s.run(&[
        "run",
        "demo",
        "select code as quay, 2 as berths from quays; select name as keeper, length(name) as letters from keepers;",
        "--chart",
        "bars",
    ]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    for title in ["berths by quay", "letters by keeper"] {
        assert!(ran.out.contains(title), "{title}: {}", ran.out);
    }
}

/// The practice servers with a login and a folder: who does not know the password is not let in, a signal ends them well, and what they held is
/// there when they come again.
#[test]
fn practice_servers_keep_what_they_hold_and_let_in_who_knows_the_password() {
    use std::io::{BufRead, BufReader};
    let s = Shell::new();
    let kept = [s.path("kept-tds"), s.path("kept-documents")];
    let start = |more: &[&str], kept: &str| {
        let arguments = [
            &[
                "practice-server",
                "--port",
                "0",
                "--empty",
                "--login",
                "mate",
                "--data",
                kept,
            ],
            more,
        ]
        .concat();
        let mut child = s
            .command(&arguments)
            .env("IDLE_TIDE_PRACTICE_PASSWORD", "low water")
            .stdout(Stdio::piped())
            .spawn()
            .expect("starts");
        let mut words = BufReader::new(child.stdout.take().expect("its words"));
        let mut line = String::new();
        words.read_line(&mut line).expect("says where");
        let address = line
            .split_whitespace()
            .last()
            .expect("an address")
            .to_string();
        assert!(!line.contains("low water"), "{line}");
        // What it says at its end is read too.
        std::thread::spawn(move || std::io::copy(&mut words, &mut std::io::sink()));
        (child, address)
    };
    let run = |address: &str, password: &str, statement: &str| {
        let (scheme, rest) = address.split_once("://").expect("an address");
        let rest = rest.trim_start_matches("mate@");
        let address = match scheme {
            "tds" => format!("tds://mate@{rest}"),
            _ => format!(
                "{scheme}://mate:{}@{rest}?authSource=admin",
                password.replace(' ', "%20")
            ),
        };
        let mut command = s.command(&[
            "run", &address, "--write", "--writes", "free", "--format", "jsonl", statement,
        ]);
        command.env("IDLE_TIDE_TDS_PASSWORD", password);
        Ran::from(command.output().expect("runs"))
    };
    for (more, kept, write, read, found) in [
        (
            &["--tds"][..],
            &kept[0],
            "create table notes (n int); insert into notes values (7)",
            "select n from notes",
            "{\"n\":7}\n",
        ),
        (
            &[][..],
            &kept[1],
            "insert into notes { _id: 7 }",
            "from notes",
            "{\"_id\":7}\n",
        ),
    ] {
        for round in 0..2 {
            let (child, address) = start(more, kept);
            let refused = run(&address, "high water", read);
            assert!(
                refused.code != 0 && refused.out.is_empty(),
                "{more:?}: {} {}",
                refused.out,
                refused.err
            );
            assert!(!refused.err.contains("high water"), "{}", refused.err);
            if round == 0 {
                let written = run(&address, "low water", write);
                assert_eq!(written.code, 0, "{more:?}: {}", written.err);
            }
            let rows = run(&address, "low water", read);
            assert_eq!(
                (rows.code, rows.out.as_str()),
                (0, found),
                "{more:?} {round}: {}",
                rows.err
            );
            assert_eq!(ends_after(child, "-INT"), Some(0), "{more:?}");
        }
    }
    // Without a password there is no login.
    let mut command = s.command(&[
        "practice-server",
        "--port",
        "0",
        "--empty",
        "--login",
        "mate",
    ]);
    let refused = Ran::from(
        command
            .env("IDLE_TIDE_PRACTICE_PASSWORD", "")
            .output()
            .expect("runs"),
    );
    assert!(
        refused.code != 0 && refused.err.contains("A login needs a password."),
        "{}",
        refused.err
    );
}

/// What reports have in front of the names of their columns is found, said, and taken where it is asked for.
#[test]
fn titles_in_front_of_a_file_are_left_out() {
    let shell = Shell::new();
    let (db, file) = (shell.path("landings.db"), shell.path("landings.csv"));
    assert_eq!(
        shell.run(&["run", &db, "--new", "create table t (n)"]).code,
        0
    );
    let titles = "Landings\nBrackwater Haven\n";
    for (front, options, words) in [
        ("", vec![], "names in the first line"),
        (
            &titles[..9],
            vec![],
            "names below a title, left out (--skip-rows 0 takes it)",
        ),
        (
            titles,
            vec![],
            "names below 2 rows of titles, left out (--skip-rows 0 takes them)",
        ),
        (
            titles,
            vec!["--skip-rows", "2"],
            "names below the first 2 rows, left out",
        ),
        (
            titles,
            vec!["--skip-rows", "3", "--no-header"],
            "no names in it, the first 3 rows left out",
        ),
        (titles, vec!["--skip-rows", "0"], "2 rows do not fit"),
    ] {
        std::fs::write(&file, format!("{front}id,kg\n1,2.5\n")).expect("written");
        let load = ["load", &db, &file, "--into", "landings", "--dry"];
        let arguments: Vec<&str> = load.into_iter().chain(["--"]).chain(options).collect();
        let told = shell.run(&arguments);
        assert!(
            told.out.contains(words),
            "{front:?}: {}{}",
            told.out,
            told.err
        );
    }
    // Nothing is left out in silence where nobody looks at the proposal.
    std::fs::write(&file, format!("{titles}id,kg\n1,2.5\n")).expect("written");
    let told = shell.run(&["load", &db, &file, "--into", "landings"]);
    let said = format!("{}{}", told.out, told.err);
    let words = "2 rows of titles above the names were left out; --skip-rows 0 takes them.";
    assert!(told.code == 0 && said.contains(words), "{said}");
}
