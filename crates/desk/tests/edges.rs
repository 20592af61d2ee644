//! What stands in the way of loads, scripts, filters and files that are run, and what is said of it; what is kept where they fail.

mod plain;

use idle_tide_desk::failure::of_loss;
use idle_tide_desk::history::History;
use idle_tide_desk::{Content, State};
use idle_tide_engines::{EngineError, Fault};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::statement::summary;
use plain::Session;

/// What an entry says, whatever it is: its page, what stands above its rows, its failure.
fn said(session: &mut Session, text: &str) -> String {
    let entry = session.run(text);
    match (&entry.content, &entry.above) {
        (Content::Page(page), _) | (Content::Rows(_), Some(page)) => page.text(),
        (Content::Failure(failure), _) => format!("{} {}", failure.headline, failure.changed),
        (other, _) => format!("{other:?}"),
    }
}

fn each(session: &mut Session, lines: &[(&str, &str)]) {
    for (text, words) in lines {
        let found = said(session, text);
        assert!(
            found.contains(words),
            "{text}\n  said: {found}\n  expected: {words}"
        );
        session.desk.take_returned();
    }
}

#[test]
fn what_stands_in_the_way_of_a_load_is_said_before_anything_is_loaded() {
    let mut session = Session::new();
    session.run("create table plain (a integer); create table levels (id integer primary key, level numeric, day date, note text);");
    each(
        &mut session,
        &[
            (
                "/load - --into levels --type nothere=text\nid;level\n1;2\n",
                "The file has no column nothere.",
            ),
            (
                "/load - --into levels --type leve=text\nid;level\n1;2\n",
                "Is it level?",
            ),
            (
                "/load - --into levels --name 3=x\nid;level\n1;2\n",
                "no column 3",
            ),
            (
                "/load - --into levels --leave-out id --leave-out 2\nid;level\n1;2\n",
                "Every column is left out.",
            ),
            (
                "/load - --into plain --existing replace\na\n1\n",
                "no primary key by which a row could be replaced",
            ),
            (
                "/load - --into levels --separator ,\n{\"id\": 1}\n",
                "are for values between separators",
            ),
            (
                "/load - --into levels --type id=whole\nid\n1\n",
                "There is no type whole",
            ),
            (
                "/load - --into levels --form id=roman\nid\n1\n",
                "There is no form roman",
            ),
            (
                "/load - --into levels --separator ab\nid\n1\n",
                "cannot stand between values",
            ),
            (
                "/load - --into levels --name id\nid\n1\n",
                "is written COLUMN=",
            ),
            ("/load - --into levels\nid;depth\n1;2\n", "depth"),
            ("/load nowhere.csv --into levels", "nowhere.csv"),
            ("begin", "A transaction is open."),
            (
                "/load - --into levels --batch 1 --go\nid;level\n1;2\n",
                "--batch would keep parts of it",
            ),
            ("rollback", "What the transaction changed is taken back."),
        ],
    );
    session.run("select count(*) from levels;");
    let number = session.desk.entry().expect("an entry").number;
    assert_eq!(session.rows(number), ["0"]);
}

/// What a form, a type and a name do to the values of a file; a file without names goes by its places.
#[test]
fn what_is_asked_of_columns_is_done_to_their_values() {
    let mut session = Session::new();
    session
        .run("create table levels (id integer primary key, level numeric, day date, note text);");
    for (load, row) in [
        // Days first, decimals behind a comma, a text that looks like a number.
        (
            "/load - --into levels --form day=dmy --go\nid;level;day;note\n1;2,5;03/04/2031;007\n",
            "1|2.5|2031-04-03|007",
        ),
        (
            "/load - --into levels --form day=mdy --go\nid;level;day;note\n2;2,5;03/04/2031;x\n",
            "2|2.5|2031-03-04|x",
        ),
        (
            "/load - --into levels --no-header --go\n3;4,25;2031-03-01;by place\n",
            "3|4.25|2031-03-01|by place",
        ),
        (
            "/load - --into levels --name number=id --name depth=level --leave-out when --go\nnumber;depth;when\n4;1;2031-03-01\n",
            "4|1|null|null",
        ),
        (
            "/load - --into levels --null - --go\nid;level;note\n5;-;-\n",
            "5|null|null|null",
        ),
        (
            "/load - --into levels --no-quotes --go\nid;note\n6;\"so\n",
            "6|null|null|\"so",
        ),
        (
            "/load - --into levels --skip-rows 2 --go\nfrom the gauge\nof the mole\nid;level\n7;3\n",
            "7|3|null|null",
        ),
        (
            "/load - --into levels --go\nfrom the gauge\nid;level\n8;2\n",
            "8|2|null|null",
        ),
    ] {
        let loaded = said(&mut session, load);
        assert!(
            loaded.contains("1 row loaded into levels."),
            "{load}: {loaded}"
        );
        let id = &row[..1];
        session.run(&format!("select * from levels where id = {id};"));
        let number = session.desk.entry().expect("an entry").number;
        assert_eq!(session.rows(number), [row], "{load}");
    }
}

/// In batches what went in before an error stays and is counted; without them nothing does.
#[test]
fn a_load_that_fails_says_what_was_kept() {
    let mut session = Session::new();
    session.run("create table levels (id integer primary key, level integer);");
    let mut rows = String::from("id;level\n");
    // The last one is there already.
    for id in (1..=3_000).chain([7]) {
        rows.push_str(&format!("{id};{}\n", id % 9));
    }
    let failed = said(&mut session, &format!("/load - --into levels --go\n{rows}"));
    assert!(failed.contains("Nothing was loaded."), "{failed}");
    let failed = said(
        &mut session,
        &format!("/load - --into levels --batch 100 --go\n{rows}"),
    );
    assert!(
        failed.contains("3 000 rows were kept in batches before"),
        "{failed}"
    );
    session.run("select count(*) from levels;");
    let number = session.desk.entry().expect("an entry").number;
    assert_eq!(session.rows(number), ["3000"]);
    // What is no whole batch yet goes with the row that is refused.
    let one = said(
        &mut session,
        "/load - --into levels --batch 2 --go\nid;level\n4001;1\n4002;1\n4003;1\n7;1\n",
    );
    assert!(one.contains("2 rows were kept in batches before"), "{one}");
    // In a transaction of the user's own it is for the user to say.
    session.run("delete from levels; begin;");
    let failed = said(&mut session, &format!("/load - --into levels --go\n{rows}"));
    assert!(
        failed.contains("stands in your transaction; roll it back"),
        "{failed}"
    );
    session.run("rollback;");
}

#[test]
fn rows_become_documents_with_objects_and_lists_within() {
    let mut session = Session::documents("log", "{\"_id\": 1}\n");
    let loaded = said(
        &mut session,
        "/load - --into sights --type tags=json --go\n_id;when;price;tags;vessel.name;vessel.crew;odd\n1;2031-03-01 05:12:00;0.10;\"[1, {\"\"a\"\": 2}]\";Heron;4;\n2;2031-03-02 00:00:00;12.50;;Tern;;x\n",
    );
    assert!(
        loaded.contains("2 documents loaded into sights."),
        "{loaded}"
    );
    let number = session.run("from sights order by _id").number;
    let rows = session.rows(number);
    for part in ["Heron", "0.10", "2031-03-01"] {
        assert!(rows[0].contains(part), "{part}: {rows:?}");
    }
    let one = session.run("from sights where tags.a = 2 and vessel.name = 'Heron' and vessel.crew = 4 and odd is missing count as n").number;
    assert_eq!(session.rows(one), ["1"]);
    // A name and what would lie within it: both stay, whichever comes first.
    for (header, row) in [("_id;a;a.b", "3;1;2"), ("_id;a.b;a", "4;2;1")] {
        said(
            &mut session,
            &format!("/load - --into mixed --go\n{header}\n{row}\n"),
        );
    }
    session.run("from mixed where a = 1 and `a.b` = 2 count as n");
    let number = session.desk.entry().expect("an entry").number;
    assert_eq!(session.rows(number), ["2"]);
    each(
        &mut session,
        &[
            (
                "/load - --into log --name a=b\n{\"a\": 1}\n",
                "Documents go into a collection as they are",
            ),
            (
                "/load - --into log --key a\na\n1\n",
                "A collection has the key _id",
            ),
            (
                "/load - --into log --batch 5\na\n1\n",
                "--batch is for tables",
            ),
            ("/load - --into log --go\n{\"_id\": 1}\n", "1"),
        ],
    );
    let count = session.run("from log count as n").number;
    assert_eq!(session.rows(count), ["1"]);
}

#[test]
fn scripts_show_what_they_are_asked_to_and_say_what_they_cannot() {
    let mut session = Session::new();
    each(
        &mut session,
        &[
            ("/variables", "There are no variables yet."),
            ("= rows()", "It is written rows('statement')"),
            ("= rows('select :?pin')", "is not kept"),
            ("= rows('selct 1')", "takes a statement that only reads"),
            (
                "= rows('select nothere from berths')",
                "no such column: nothere",
            ),
            ("= l = [1]; l[0] = 5", "An element of a list cannot be set"),
            ("/forget nobody", "There is no variable or function nobody"),
        ],
    );
    let several = "= show [1, 2]; show [{a: true}, {a: 0.5}, {b: 'x'}]; print('done')";
    session.run(several);
    let mut entries = session.desk.entries().iter();
    let own = entries
        .find(|entry| entry.text == several)
        .expect("its own");
    let Content::Page(page) = &own.content else {
        panic!("{own:?}");
    };
    assert!(page.text().contains("done"), "{}", page.text());
    let shown: Vec<_> = session
        .desk
        .entries()
        .iter()
        .filter(|entry| entry.text.contains(" of 2)"))
        .map(|entry| entry.number)
        .collect();
    assert_eq!(shown.len(), 2);
    assert_eq!(session.rows(shown[0]), ["1", "2"]);
    assert_eq!(
        session.rows(shown[1]),
        ["true|missing", "0.5|missing", "missing|x"]
    );
    session.run("/forget");
    let none = said(&mut session, "/variables");
    assert!(none.contains("There are no variables yet."), "{none}");
}

#[test]
fn a_file_that_is_run_has_something_to_run_and_runs_no_other() {
    let mut session = Session::new();
    let dir = tempfile::tempdir().expect("a folder");
    let file = |name: &str, text: &str| {
        let path = dir.path().join(name);
        std::fs::write(&path, text).expect("written");
        path.display().to_string()
    };
    let empty = file("empty.sql", "-- nothing\n\n");
    let nested = file("nested.sql", "select 1;\n/run other.sql\n");
    let large = file("large.sql", "");
    let sparse = std::fs::OpenOptions::new().write(true).open(&large);
    let sparse = sparse.expect("opens");
    sparse.set_len(70 << 20).expect("has room");
    let missing = dir.path().join("missing.sql").display().to_string();
    let good = file("good.sql", "= n = 2;\nselect :n + 1 as three;\n");
    for (path, words) in [
        (&empty, "There is nothing to run in"),
        (&nested, "line 2: a file that is run cannot run another"),
        (&large, "is larger than"),
        (&missing, "cannot be read"),
    ] {
        let refused = session.refused(&format!("/run {path}"));
        assert!(refused.contains(words), "{refused}");
    }
    session.run(&format!("/run {good}"));
    session.until(|desk| !desk.is_busy());
    let entry = session.desk.entry().expect("an entry");
    assert_eq!(entry.state, State::Done);
    let number = entry.number;
    assert_eq!(session.rows(number), ["3"]);
}

#[test]
fn a_condition_over_rows_names_one_column() {
    let mut session = Session::new();
    session.run("select a.id, b.id, a.port from berths a join berths b on a.id <= b.id;");
    for (filter, words) in [
        ("/filter id > 1", "id stands for several columns"),
        ("/filter prot = 'Quay'", "the nearest is port"),
        ("/filter port[0] = 'Q'", "hold no lists"),
        ("/filter zzzzzz = 1", "It has "),
    ] {
        let refused = session.refused(filter);
        assert!(refused.contains(words), "{filter}: {refused}");
        session.desk.show(1);
    }
}

/// What is known after a connection was lost depends on what was sent and on the transaction around it; nothing more is said.
#[test]
fn a_lost_connection_says_what_is_known_and_no_more() {
    for (fault, statement, open, headline, known) in [
        (
            Fault::NotSent,
            "update t set a = 1",
            false,
            "before this was sent",
            "nothing was changed by it",
        ),
        (
            Fault::NotSent,
            "update t set a = 1",
            true,
            "and with it the transaction",
            "nothing of it is kept",
        ),
        (
            Fault::Lost,
            "select 1",
            false,
            "while it was read",
            "Nothing was changed.",
        ),
        (
            Fault::Lost,
            "update t set a = 1",
            false,
            "whether it happened is not known",
            "Look at t before you do it again",
        ),
        (
            Fault::Lost,
            "vacuum",
            false,
            "whether it happened is not known",
            "Look before you do it again",
        ),
        (
            Fault::Lost,
            "update t set a = 1",
            true,
            "inside a transaction",
            "nothing of it is kept",
        ),
        (
            Fault::Lost,
            "commit",
            true,
            "while the transaction was being ended",
            "Whether the server kept it is not known",
        ),
    ] {
        let error = EngineError {
            fault,
            ..EngineError::plain("broken pipe")
        };
        let failure = of_loss(&error, &summary(statement, &SQLITE), open);
        assert!(
            failure.headline.contains(headline),
            "{statement}: {}",
            failure.headline
        );
        assert!(
            failure.changed.contains(known),
            "{statement}: {}",
            failure.changed
        );
        assert!(failure.by_system, "no server said it");
        assert!(failure.changed.contains("/reopen"), "{}", failure.changed);
    }
}

/// A history that has grown long is cut to its newest part; what is no history is not taken for one, and not written over.
#[test]
fn a_long_history_keeps_its_newest_part() {
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("history.jsonl");
    let mut history = History::open(&path).expect("opens");
    for n in 1..=3 {
        history.add("haven", &format!("select {n};")).expect("kept");
    }
    drop(history);
    let line = std::fs::read_to_string(&path).expect("written");
    let first = line.lines().next().expect("a line").to_string();
    let mut long = String::new();
    for n in 1..=10_001 {
        long.push_str(&first.replace("select 1;", &format!("select {n};")));
        long.push('\n');
    }
    long.push_str("no history at all\n");
    std::fs::write(&path, &long).expect("written");
    drop(History::open(&path).expect("opens"));
    let kept = std::fs::read_to_string(&path).expect("read");
    assert_eq!(kept.lines().count(), 5_000);
    assert!(kept.contains("select 10001;") && !kept.contains("select 5001;"));
    assert!(History::open(dir.path()).is_err(), "a folder is none");
}

/// Commands that this family, this entry or this name has no answer for say why and what there is instead.
#[test]
fn commands_that_have_no_answer_say_what_there_is_instead() {
    let mut session = Session::new();
    session.run("select id, port from berths order by id;");
    let of_rows = session.desk.entry().expect("an entry").number;
    let mut wrong = Vec::new();
    let mut refused = |session: &mut Session, text: &str, words: &str| {
        let found = said(session, text);
        if !found.contains(words) {
            wrong.push(format!("{text}: {found}"));
        }
        session.desk.take_returned();
        let place = session
            .desk
            .entries()
            .iter()
            .position(|e| e.number == of_rows);
        session.desk.show(place.expect("it is there"));
    };
    for (text, words) in [
        ("/back", "There is nobody to go back to"),
        ("/order prot", "This result has no column prot."),
        ("/columns --hide prot", "no column prot"),
        (
            "/shape berths",
            "A table has its columns declared: /about berths",
        ),
        ("/about nothing_here", "nothing_here"),
        ("/definition berth", "There is no object berth here."),
        ("/sample nothing_here", "nothing_here"),
        ("/export x.csv --as tape", "tape is no format"),
        ("/export x.tape", "format"),
        ("/stages select 1", "Stages are those of a flow"),
        (
            "/open nowhere://h/x",
            "Addresses that begin with nowhere: cannot be opened.",
        ),
        ("/theme neon", "neon is not one of"),
        ("/live 0.01", "0.2"),
        ("/live soon", "soon"),
        ("/live 2 --trend depth", "This result has no column depth."),
        ("/live 2 --until 'depth > 1'", "depth"),
        ("/compare 4711", "4711"),
        ("/again 4711", "4711"),
        ("/recall 4711", "4711"),
        ("/name 4711 x", "4711"),
        ("/change-password", "no users"),
        ("/access berths", "SQLite has no users"),
        ("/roles", "SQLite has no users"),
        ("/across select * from result_4711", "4711"),
        ("/layout tape", "tape is no format"),
        ("/figures nothing_here", "nothing_here"),
        (
            "/plan delete from berths",
            "It was planned and not run: it writes.",
        ),
    ] {
        refused(&mut session, text, words);
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn flows_go_on_with_the_rows_of_an_entry() {
    let mut session = Session::documents(
        "log",
        "{\"_id\": 1, \"port\": \"Quay\"}\n{\"_id\": 2, \"port\": \"Cove\"}\n",
    );
    let first = session.run("from log where _id > 0").number;
    let number = session
        .run(&format!(
            "from result {first} where port = 'Cove' pick {{ port }}"
        ))
        .number;
    assert_eq!(session.rows(number), ["Cove"]);
    each(
        &mut session,
        &[
            ("from result 4711", "4711"),
            ("/plan delete all from log", "A plan is for what reads"),
            ("/stages delete all from log", "Only a flow has stages"),
            ("/access log", "Files have no users"),
            ("select * from log", "from log"),
        ],
    );
}

/// Rows become inserts of every dialect that can be named, on the screen as in the shell.
#[test]
fn rows_are_written_in_every_dialect_that_can_be_named() {
    let mut session = Session::new();
    session.run("select id, port, metres from berths where id = 1;");
    let path = session.dir.path().join("berths.sql").display().to_string();
    let lines = [
        (
            "sqlite",
            "insert into \"two words\" (id, port, metres) values\n(1, 'Quay', 20.0);",
        ),
        (
            "postgres",
            "insert into \"two words\" (id, port, metres) values\n(1, 'Quay', 20.0);",
        ),
        (
            "mariadb",
            "insert into `two words` (id, port, metres) values\n(1, 'Quay', 20.0);",
        ),
        (
            "mysql",
            "insert into `two words` (id, port, metres) values\n(1, 'Quay', 20.0);",
        ),
        (
            "tds",
            "insert into \"two words\" (id, port, metres) values\n(1, 'Quay', 20.0);",
        ),
    ];
    let named: Vec<&str> = lines.iter().map(|(dialect, _)| *dialect).collect();
    assert_eq!(named, idle_tide_lang::dialect::NAMES);
    for (dialect, line) in lines {
        session.run(&format!(
            "/export {path} --table 'two words' --dialect {dialect} --replace"
        ));
        session.until(|desk| !desk.is_busy());
        let text =
            std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{dialect}: {error}"));
        assert!(text.contains(line), "{dialect}: {text}");
        std::fs::remove_file(&path).expect("there");
    }
}
