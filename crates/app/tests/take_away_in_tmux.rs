//! In the real program: a file is brought in with a bad line found and left out, a result is taken away in every format and over
//! the clipboard, and a session becomes a diary that runs again.

mod terminal;

use std::path::Path;
use std::process::{Command, Output};

use idle_tide_draw::export::FORMATS;
use idle_tide_standin::{Options, Standin};
use terminal::{OWNER, Tmux, has_mysql, owner, place, practice};

#[test]
fn a_file_comes_in_and_goes_out_in_every_format() {
    let t = Tmux::open(142, 42);
    let file = |name: &str| t.home().join(name);
    let mut text = String::from("id;level;note\n");
    for row in 1..=1_500 {
        text.push_str(&format!("{row};{},25;row {row}\n", row % 50));
    }
    text.push_str("1501;low;\n");
    std::fs::write(file("levels.csv"), text).expect("written");
    std::fs::write(file("t.db"), "").expect("made");
    t.start("$HOME/t.db --write");
    t.line("/load ~/levels.csv");
    t.until("line 1502, level: 'low' is no decimal(4,2)");
    // Its column as text takes that line, too; then it is to be numbers again, and the line stays out.
    t.keys(&["Down", "Enter"]);
    t.until("--type level=");
    t.keys(&["t", "e", "x", "Tab", "Enter"]);
    t.until("/load ~/levels.csv --into levels --type level=text --go");
    t.keys(&["Enter"]);
    t.until("--type level=");
    t.keys(&["d", "e", "c", "Tab", "Enter"]);
    t.until("line 1502, level: 'low' is no decimal");
    // The command that loads it is there to be run.
    t.until("--type level=decimal --bad skip --go");
    t.keys(&["F5"]);
    let screen = t.until("1 500 rows in levels");
    for part in [
        "1 500 rows loaded into levels.",
        "1 501 rows: 1 500 loaded, 1 that did not fit",
        "levels.refused.csv",
    ] {
        assert!(screen.contains(part), "{part}: {screen}");
    }
    t.line("select * from levels order by id limit 3;");
    t.until("row 3");
    // Raw is for one value.
    for format in FORMATS.iter().filter(|format| format.name != "raw") {
        t.line(&format!("/export ~/out.{0} --as {0}", format.name));
        t.until(&format!("3 rows as {}", format.label));
        assert!(
            file(&format!("out.{}", format.name)).exists(),
            "{}",
            format.name
        );
    }
    // What is there is asked about, and stays.
    t.line("/export ~/out.csv");
    t.until("is there already");
    t.keys(&["n"]);
    t.until("It was not run");
    t.keys(&["C-u", "Escape", ","]);
    t.until("row 1 of 3");
    t.line("/export \"| tr a-z A-Z > $HOME/program.txt\" --as csv");
    t.until("'s input");
    let given = std::fs::read_to_string(file("program.txt")).expect("given");
    assert!(
        given.starts_with("ID,LEVEL,NOTE\n1,1.25,ROW 1\n"),
        "{given}"
    );

    // The bytes that the terminal takes for its clipboard.
    t.tmux(&["set-option", "-s", "set-clipboard", "on"]);
    let taken = |words: &str| {
        t.until(words);
        String::from_utf8_lossy(&t.tmux(&["show-buffer"]).stdout).into_owned()
    };
    t.keys(&["c"]);
    assert_eq!(taken("Sent the value of id"), "1");
    t.keys(&["Space", "Down", "m", "c"]);
    assert_eq!(
        taken("Sent 3 rows as TSV"),
        "id\tlevel\tnote\n1\t1.25\trow 1\n2\t2.25\trow 2\n3\t3.25\trow 3\n"
    );
    t.keys(&["Escape"]);
    t.line("/clipboard result --as sql --table copy_of");
    assert!(
        taken("Sent 3 rows as SQL inserts")
            .starts_with("insert into copy_of (id, level, note) values\n(1, 1.25, 'row 1')")
    );
    t.line("/layout text --lines");
    t.until("1 ┆");
    t.line("/export ~/laid-out.csv");
    t.until("3 rows as CSV");
    // A table that is pasted below the command.
    t.tmux(&[
        "set-buffer",
        "-b",
        "pasted",
        "/load - --into pasted --go\na\tb\n1\tx y\n2\t\n",
    ]);
    t.tmux(&["paste-buffer", "-p", "-b", "pasted"]);
    t.until("2");
    t.keys(&["F5"]);
    t.until("2 rows loaded into pasted.");
    t.line("select count(*) as n, max(b) as b from pasted;");
    t.until("x y");
    t.line("/clipboard result --null x");
    t.until("These options need a format");
}

fn run(home: &Path, arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_idle-tide"))
        .args(arguments)
        .env("HOME", home)
        .env("PGPASSWORD", OWNER)
        .env("MYSQL_PWD", OWNER)
        .env("IDLE_TIDE_TDS_PASSWORD", OWNER)
        .output()
        .expect("runs")
}

/// A session becomes a diary, which holds in another database of its kind; a row that changed is shown.
fn diary(first: &str, second: &str, statements: &[(&str, &str)], change: &str, row: &str) {
    let t = Tmux::open(142, 42);
    let program = env!("CARGO_BIN_EXE_idle-tide");
    t.line(&format!(
        "PGPASSWORD=\"{OWNER}\" MYSQL_PWD=\"{OWNER}\" IDLE_TIDE_TDS_PASSWORD=\"{OWNER}\" {program} {first} --write"
    ));
    t.until("Try ");
    t.line("/diary ~/walk.md");
    t.until("From now on everything here is in");
    for (statement, seen) in statements {
        t.line(statement);
        t.until(seen);
        if seen.starts_with("nothing") {
            // What is refused goes back into the composer.
            t.until("refused");
            t.keys(&["C-c"]);
        }
    }
    let last = statements.len() + 1;
    t.line(&format!("/diary ~/last.md --from {last} --to {last}"));
    t.until("1 entry in");
    t.line("/diary stop");
    t.until("is at its end");
    let walk = t.home().join("walk.md").display().to_string();
    let text = std::fs::read_to_string(&walk).expect("a diary");
    assert!(
        text.contains("| *null* |") && text.contains("Refused: "),
        "{text}"
    );
    let again = run(
        t.home(),
        &["run", second, "--write", "--file", &walk, "--check"],
    );
    let words = String::from_utf8_lossy(&again.stdout).into_owned()
        + &String::from_utf8_lossy(&again.stderr);
    assert_eq!(again.status.code(), Some(0), "{first}: {words}\n{text}");
    let last = t.home().join("last.md").display().to_string();
    let check = ["run", first, "--file", &last, "--check"];
    assert_eq!(run(t.home(), &check).status.code(), Some(0), "{first}");
    let changed = run(
        t.home(),
        &["run", first, "--write", "--writes", "free", change],
    );
    assert!(
        changed.status.success(),
        "{}",
        String::from_utf8_lossy(&changed.stderr)
    );
    let differs = run(t.home(), &check);
    let words = String::from_utf8_lossy(&differs.stdout);
    assert_eq!(differs.status.code(), Some(8), "{first}: {words}");
    assert!(
        words.contains(row) && words.contains("recorded  2 | "),
        "{first}: {words}"
    );
}

#[test]
fn a_session_is_a_diary_that_runs_again() {
    let folder = tempfile::tempdir().expect("a folder");
    let place_of = |name: &str| folder.path().join(name).display().to_string();
    for name in ["a.db", "b.db"] {
        std::fs::write(folder.path().join(name), "").expect("made");
    }
    let sql: &[(&str, &str)] = &[
        (
            "create table moorings (id integer primary key, note text);",
            "moorings",
        ),
        (
            "insert into moorings values (1, 'a | *b*'), (2, null), (3, '');",
            "rows in moorings",
        ),
        (
            "select nothing_like_this from moorings;",
            "nothing_like_this",
        ),
        ("/tables", "moorings"),
        ("select id, note from moorings order by id;", "row 1 of 3"),
    ];
    let change = "update moorings set note = 'new' where id = 2";
    diary(
        &place_of("a.db"),
        &place_of("b.db"),
        sql,
        change,
        "now       2 | new",
    );
    let mut schemes = vec!["postgres", "mariadb"];
    schemes.extend(has_mysql().then_some("mysql"));
    for scheme in schemes {
        let port = place(&format!("HAVEN_{}_PORT", scheme.to_uppercase()));
        let address = |name: &str| format!("{scheme}://haven@127.0.0.1:{port}/{name}");
        let admin = address(if scheme == "postgres" { "postgres" } else { "" });
        for name in ["diary_a", "diary_b"] {
            owner(
                &admin,
                &[
                    &format!("drop database if exists {name}"),
                    &format!("create database {name}"),
                ],
            );
        }
        diary(
            &address("diary_a"),
            &address("diary_b"),
            sql,
            change,
            "now       2 | new",
        );
    }
    let [first, second] =
        [(), ()].map(|()| Standin::start(&Options::new("haven", OWNER)).expect("started"));
    let address = |of: &Standin| format!("tds://haven@127.0.0.1:{}/harbour", of.address.port());
    diary(
        &address(&first),
        &address(&second),
        sql,
        change,
        "now       2 | new",
    );
    for name in ["docs_a", "docs_b"] {
        std::fs::create_dir(folder.path().join(name)).expect("made");
        std::fs::write(
            folder.path().join(name).join("other.jsonl"),
            "{\"_id\":1}\n",
        )
        .expect("made");
    }
    let flows: &[(&str, &str)] = &[
        (
            "insert into moorings [{ _id: 1, note: 'a | *b*' }, { _id: 2, note: null }, { _id: 3, note: '' }];",
            "came into being",
        ),
        ("from moorings nothing_like_this;", "nothing_like_this"),
        ("/collections", "moorings"),
        ("from moorings order by _id;", "1 of 3"),
    ];
    let docs = |name: &str| format!("docs:{}", place_of(name));
    let servers = [(), ()].map(|()| practice(&["--empty"]));
    for (first, second) in [
        (docs("docs_a"), docs("docs_b")),
        (servers[0].address.clone(), servers[1].address.clone()),
    ] {
        diary(
            &first,
            &second,
            flows,
            "update moorings set note = 'new' where _id = 2",
            "now       2 | new",
        );
    }
}
