//! Results that answer back: compared, read again by themselves, drawn; on a file that another connection writes to.

mod plain;

use idle_tide_desk::{Content, Desk, Entry, Request, State};
use plain::Session;

#[test]
fn a_statement_that_runs_again_says_what_differs_and_compare_shows_it() {
    let mut session = Session::new();
    session.run("select * from berths;");
    session.run("select * from berths;");
    session.until(|desk| desk.entry().is_some_and(|entry| entry.since.is_some()));
    assert!(
        session
            .desk
            .entry()
            .expect("an entry")
            .words()
            .0
            .ends_with("same as entry 2")
    );
    session.other("update berths set metres = 21 where id = 1");
    session.other("delete from berths where id = 2");
    session.other("insert into berths values (9, 'Head', 5)");
    session.run("select * from berths;");
    session.until(|desk| desk.entry().is_some_and(|entry| entry.since.is_some()));
    assert!(
        session
            .desk
            .entry()
            .expect("an entry")
            .words()
            .0
            .ends_with("+1 −1 ~1 since entry 3")
    );
    session.run("/compare");
    assert_eq!(
        session.rows(5),
        [
            "changed|1|20.0|21.0|Quay",
            "removed|2|12.5|missing|Cove",
            "added|9|missing|5.0|Head",
        ]
    );
    assert!(
        session
            .words()
            .contains("From entry 3 to entry 4: 1 added, 1 removed, 1 changed. 1 row is the same.")
    );
    assert!(session.words().contains("told apart by id"));

    // Another shape: what one lacks and what is of another kind is told.
    session.run("select id, 'Quay' as metres from berths where id in (1, 3);");
    session.run("/compare 4 6 --on id");
    let words = session.words();
    assert!(words.contains("Only entry 4 has port"), "{words}");
    assert!(
        words.contains("metres: numbers in 4, texts in 6"),
        "{words}"
    );
    for (command, words) in [
        (
            "/compare 4 6 --on port",
            "Only one of the two has a column port",
        ),
        ("/compare 4 6 --on depth", "Both have id, metres"),
        ("/compare 4 4", "compared with itself"),
        ("/compare 4 77", "There is no entry 77"),
        ("/compare 1 4", "Entry 1 has no rows"),
        ("/compare 4 6 --within near", "no distance"),
    ] {
        let said = session.refused(command);
        assert!(said.contains(words), "{command}: {said}");
    }
}

#[test]
fn a_live_result_shows_what_another_connection_writes() {
    let mut session = Session::new();
    session.run("select id, port from berths order by id;");
    session.run("/live 0.2 --until 'id = 7'");
    session.until(|desk| {
        let live = desk.entry().and_then(|entry| entry.live.as_ref());
        live.is_some_and(|live| live.readings > 2)
    });
    assert!(
        session.words().contains("live every 200 ms · the same in"),
        "{}",
        session.words()
    );
    session.other("update berths set port = 'Mole' where id = 3");
    session.other("delete from berths where id = 1");
    session.until(|desk| {
        let rows = desk.entry().and_then(|entry| entry.sheet());
        rows.is_some_and(|rows| rows.shown() == 2)
    });
    assert_eq!(session.rows(2), ["2|Cove", "3|Mole"]);
    assert!(session.words().contains("gone: 1)"), "{}", session.words());
    // A view stays as the reader wants it.
    session.run("/order id desc");
    session.until(|desk| {
        let rows = desk.entry().and_then(|entry| entry.sheet());
        rows.is_some_and(|rows| rows.row_number(0) == Some(1))
    });
    // What is typed does not wait for it, and while a transaction is open it pauses.
    session.run("begin;");
    session.desk.show(1);
    session.until(|desk| {
        let head = desk.entry().and_then(Entry::head);
        head.is_some_and(|page| page.text().contains("pauses: a transaction is open"))
    });
    session.run("rollback;");
    session.other("insert into berths values (7, 'Ebb', 1)");
    session.desk.show(1);
    session.until(|desk| {
        let live = desk.entry().and_then(|entry| entry.live.as_ref());
        live.is_some_and(|live| !live.goes_on())
    });
    assert!(
        session.words().contains("was live: id = 7 holds"),
        "{}",
        session.words()
    );
    let first = session
        .desk
        .entry()
        .and_then(|entry| entry.sheet())
        .and_then(|rows| rows.row_number(0));
    assert_eq!(first, Some(2), "the order stays");
    assert_eq!(session.desk.take_request(), Some(Request::Bell));
}

#[test]
fn a_live_result_follows_a_number_rings_once_and_ends_with_its_table() {
    let mut session = Session::new();
    session.run("select count(*) as n from berths;");
    session.run("/live 0.2 --alert 'n > 3'");
    session.other("insert into berths values (8, 'Ebb', 1)");
    session.until(|desk| {
        let live = desk.entry().and_then(|entry| entry.live.as_ref());
        live.is_some_and(|live| live.alerted && live.readings > 6)
    });
    assert_eq!(session.desk.take_request(), Some(Request::Bell));
    assert_eq!(session.desk.take_request(), None, "once");
    assert!(session.words().contains("   n 4 "), "{}", session.words());
    session.other("drop table berths");
    session.until(|desk| {
        desk.notice()
            .is_some_and(|notice| notice.text.contains("no longer live"))
    });
    assert_eq!(session.rows(2), ["4"], "the last rows stay");
    for (before, command, words) in [
        (
            "create table t (n)",
            "/live",
            "no rows that could be read again",
        ),
        ("select 1 as n;", "/live 0", "no time between readings"),
        ("select 1 as n;", "/live --until 'depth > 1'", "depth"),
        ("select 1 as n;", "/live --trend depth", "no column depth"),
        (
            "insert into t values (1) returning n;",
            "/live",
            "not known to do no more than read",
        ),
        ("/tables", "/live", "no statement of its own"),
    ] {
        session.run(before);
        let said = session.refused(command);
        assert!(
            said.contains(words) || words.contains("no rows that could be read again"),
            "{before} {command}: {said}"
        );
    }
}

#[test]
fn a_picture_follows_its_result_and_opens_its_rows() {
    let mut session = Session::new();
    session.run("select port, metres from berths order by id;");
    session.run("/chart");
    let text = session.picture(|text| text.contains("metres by port"));
    assert!(
        text.contains("Quay▕█") && text.contains(" 20\n") && text.contains("Cove▕█"),
        "{text}"
    );
    assert!(text.contains("1 row without a value left out."), "{text}");

    // A filter and a live change of the result are seen in the picture.
    session.desk.show(1);
    session.run("/filter metres < 15");
    session.desk.show(2);
    session.picture(|text| !text.contains("Quay") && text.contains("Cove"));
    session.desk.show(1);
    session.run("/filter");
    session.run("/live 0.2");
    session.other("update berths set metres = 33 where id = 3");
    session.desk.show(2);
    session.picture(|text| text.contains("Spit▕█") && text.contains(" 33\n"));

    // Keys change it, and a mark opens its rows.
    use idle_tide_core::chart::{How, Key, Kind};
    use idle_tide_desk::chart::Turned;
    session.desk.turn_chart(3, Turned::Kind);
    let chart = session
        .desk
        .entry()
        .and_then(Entry::chart)
        .expect("a picture");
    assert_eq!(chart.spec.kind, Kind::Line);
    session.desk.show(1);
    session.run("/chart --of metres");
    let one = session
        .desk
        .entry()
        .and_then(Entry::chart)
        .expect("a picture");
    assert_eq!((one.spec.kind, one.spec.x), (Kind::Histogram, Some(1)));
    session.desk.show(1);
    session.run("/chart --of port");
    let one = session
        .desk
        .entry()
        .and_then(Entry::chart)
        .expect("a picture");
    assert_eq!((one.spec.kind, one.spec.ordered), (Kind::Bars, true));
    session.desk.show(2);
    session.run("/chart bars --how mean --title 'How long berths are'");
    let text = session.picture(|text| text.contains("Spit"));
    assert!(text.starts_with("How long berths are"), "{text}");
    let chart = session
        .desk
        .entry()
        .and_then(Entry::chart)
        .expect("a picture");
    assert_eq!(
        (chart.of, chart.spec.how),
        (2, How::Mean),
        "of the rows, not of the picture"
    );
    session
        .desk
        .rows_behind(6, (0, 0, Key::Category(1)), "Cove");
    session.until(|desk| {
        desk.entry()
            .is_some_and(|entry| entry.text.starts_with("rows of entry 2"))
    });
    let rows = session.desk.entry().and_then(Entry::sheet).expect("rows");
    assert_eq!((rows.shown(), rows.row_number(0)), (1, Some(1)));
    session.desk.step_back();
    assert_eq!(session.desk.entry().map(|entry| entry.number), Some(6));
}

#[test]
fn a_picture_says_the_units_that_comments_name() {
    let mut session = Session::new();
    session.run("create table tides (\n  quay text not null, -- where the gauge is\n  level numeric, -- above chart datum, in metres\n  wind numeric -- (kn)\n);");
    session.run("insert into tides values ('Quay', 3.5, 12), ('Cove', 2.5, 10), ('Spit', 1, 9);");
    session.run("/tables");
    session.run("select quay, level from tides;");
    session.run("/chart");
    session.picture(|text| text.starts_with("level (metres) by quay"));
    session.run("select level, wind from tides;");
    session.run("/chart points");
    session.picture(|text| text.starts_with("wind (kn) by level (metres)"));
    // A mean of them is in their unit, a number of them in none, and numbers in two units share none.
    session.run("select quay, round(avg(level), 1) as mean from tides group by quay;");
    session.run("/chart");
    session.picture(|text| text.starts_with("mean (metres) by quay"));
    session.run("select quay, count(level) as level from tides group by quay;");
    session.run("/chart");
    session.picture(|text| text.starts_with("level by quay"));
    session.run("select quay, level, wind from tides;");
    session.run("/chart bars");
    session.picture(|text| text.starts_with("level, wind by quay"));
}

#[test]
fn what_cannot_be_drawn_or_must_not_be_is_said() {
    let mut session = Session::new();
    let said = session.refused("/chart");
    assert!(said.contains("no rows to draw"), "{said}");
    session.run("select port, 'hunter2' as password, metres from berths;");
    for (command, words) in [
        ("/chart pie", "pie is not one of bars"),
        ("/chart --x depth", "no column depth"),
        ("/chart points", "needs two numbers"),
        ("/chart bars --x password", "password is covered"),
        ("/chart histogram --x metres --by port", "one series"),
        ("/chart histogram --y metres", "--x says which"),
        ("/chart bars --y metres --stacked", "one series"),
        (
            "/chart heat --x port --by metres --log",
            "Shades have no scale",
        ),
    ] {
        let said = session.refused(command);
        assert!(said.contains(words), "{command}: {said}");
        session.desk.show(2);
    }
    session.run("select x'00' as photo;");
    let said = session.refused("/chart");
    assert!(said.contains("nothing to draw in photo"), "{said}");
}

#[test]
fn a_question_across_results_and_files_compares_exactly() {
    let mut session = Session::new();
    let prices = session.dir.path().join("prices.csv");
    std::fs::write(
        &prices,
        "port,price,\"from\"\nQuay,0.10,1\nCove,12345678901234567.89,2\nnowhere,1,3\n",
    )
    .expect("written");
    let prices = prices.display();
    session.run("select id, port, metres from berths;");
    session.run("/name 2 places");
    session.run(&format!("/across select p.port, f.price, sum(f.price) over () as total from places p join '{prices}' f using (port) order by p.id"));
    assert_eq!(
        session.rows(3),
        [
            "Quay|0.10|12345678901234567.99",
            "Cove|12345678901234567.89|12345678901234567.99"
        ]
    );
    // The answer can be asked about in its turn, and so can what it came from, by its number too.
    session.run("/across select count(*) as n from result_3 a join RESULT_2 b on a.port = b.port where price < 1");
    assert_eq!(session.rows(4), ["1"]);
    session.run(
        "/across select * from places natural join result_3 where price > 12345678901234567.88",
    );
    assert_eq!(
        session.rows(5),
        ["2|Cove|12.5|12345678901234567.89|12345678901234567.99"]
    );
    session.run("/across with result_9 as (select 1 as one) select one from result_9");
    assert_eq!(session.rows(6), ["1"]);

    for (command, words) in [
        (
            "/across select * from result_77",
            "There is no result result_77; there are places, result_3",
        ),
        (
            "/across select depth from places",
            "There is no column depth in places",
        ),
        ("/across select * from", "ends too early"),
        ("/across delete from places", "it changes nothing"),
        (
            "/across select 1 from 'gone.csv'",
            "gone.csv cannot be read",
        ),
        ("/name 3 places", "places is the result of entry 2 already"),
        (
            "/name 3 result_2",
            "result_2 is the result of entry 2 already",
        ),
        ("/name 3 9lives", "is no name"),
        ("/name 1 card", "no entry 1 that has rows"),
    ] {
        let said = session.refused(command);
        assert!(said.contains(words), "{command}: {said}");
    }
    // A place in the question is one in what was typed.
    let Content::Failure(failure) = &session.run("/across select depht from places").content else {
        panic!("refused");
    };
    assert_eq!(failure.place, Some(15..20));
    session.run("select 'hunter2' as password, 1 as n;");
    let secret = session
        .desk
        .entry()
        .map(|entry| entry.number)
        .expect("an entry");
    let said = session.refused(&format!(
        "/across select password as p from result_{secret}"
    ));
    assert!(
        said.contains("password of") && said.contains("is covered"),
        "{said}"
    );
    let n = session
        .run(&format!("/across select n from result_{secret}"))
        .number;
    assert_eq!(
        session.rows(n),
        ["1"],
        "what is not covered can be asked about"
    );
}

#[test]
fn a_script_calculates_asks_and_changes_and_its_variables_stand_in_statements() {
    let mut session = Session::new();
    let printed = |session: &mut Session, text: &str| match &session.run(text).content {
        Content::Page(page) => page.text().trim_end().to_string(),
        other => panic!("{text}: {other:?}"),
    };
    assert_eq!(printed(&mut session, "= 12 * 3.5"), "42.0");
    printed(&mut session, "= ports = ['Cove', 'Spit']; place = {id: 1}");
    session.run("select id from berths where port in :ports or id = :place.id order by id;");
    assert_eq!(
        session.rows(session.desk.entry().expect("an entry").number),
        ["1", "2", "3"]
    );
    let planned = session.run("/plan select id from berths where id = :place.id");
    assert_eq!(planned.state, State::Done, "{planned:?}");
    // A loop that inserts, with values by name, and rows of a statement as objects.
    let text = "= for n in 11..15 {\n  run('insert into berths values (:n, :port, 0.5)', {port: 'Mole ' || n})\n}; size(rows('select * from berths where id > 10'))";
    assert_eq!(printed(&mut session, text), "1\n1\n1\n1\n1\n5");
    session.run("select port from berths where id = 13;");
    let shown = session.desk.entry().expect("an entry").number;
    assert_eq!(session.rows(shown), ["Mole 13"]);
    assert_eq!(
        printed(&mut session, &format!("= result({shown})[0].port")),
        "Mole 13"
    );
    let number = session
        .run("= show rows('select id, metres from berths where id in (1, 3)')")
        .number;
    assert_eq!(session.rows(number), ["1|20.0", "3|null"]);
    let number = session.run("/variables").number;
    assert_eq!(
        session.rows(number),
        [
            "ports|list|['Cove', 'Spit']",
            "place|object|{id: 1}",
            "n|int|15"
        ]
    );
    session.run("/forget ports");
    let refused = session.refused("/forget ports");
    assert!(
        refused.contains("no variable or function ports"),
        "{refused}"
    );

    for (text, words, place) in [
        ("= 1 +", "A field or a value", 5..5),
        (
            "= rows('select depht from berths')",
            "no such column: depht",
            2..34,
        ),
        ("= rows('delete from berths')", "only reads", 2..28),
        (
            "= sizs([1])",
            "There is no function sizs. The nearest is size.",
            2..11,
        ),
        ("= result(99)", "Entry 99 has no rows", 2..12),
    ] {
        let Content::Failure(failure) = &session.run(text).content else {
            panic!("{text} was not refused");
        };
        assert!(
            failure.headline.contains(words),
            "{text}: {}",
            failure.headline
        );
        assert_eq!(failure.place, Some(place), "{text}");
        session.desk.take_returned();
    }
    // What it had printed before an error stays.
    session.run("= print 'before'; 1 / 0");
    let entry = session.desk.entry().expect("an entry");
    assert_eq!(entry.state, State::Failed);
    assert!(
        matches!(&entry.content, Content::Page(page) if page.text().contains("before") && page.text().contains("divides by zero"))
    );

    // Live too, and with the value that it has then.
    session.run("= least = 14");
    session.run("select id from berths where id > :least order by id;");
    let number = session.desk.entry().expect("an entry").number;
    session.run("/live 0.2");
    session.run("= least = 12");
    session.until(|desk| {
        let live = desk.entries().iter().find(|entry| entry.number == number);
        live.and_then(Entry::sheet)
            .is_some_and(|rows| rows.shown() == 3)
    });
    assert_eq!(session.rows(number), ["13", "14", "15"]);

    // A secret of a statement in a script shows nowhere, and reaches the database.
    session.run("create table pilots (name text, password text);");
    let entry = session
        .run("= run('insert into pilots (name, password) values (''Oltan'', ''low water 7'')')");
    assert_eq!(
        (entry.state, entry.text.contains("low water")),
        (State::Done, false),
        "{}",
        entry.text
    );
    let kept = session
        .desk
        .history()
        .items()
        .iter()
        .any(|item| item.text.contains("low water"));
    assert!(!kept, "not in the history");
    session.run("select count(*) as n from pilots where length(password) = 11;");
    assert_eq!(
        session.rows(session.desk.entry().expect("an entry").number),
        ["1"]
    );

    // A file of all three.
    let file = session.dir.path().join("tide.sql");
    std::fs::write(&file, "= depth = 4\ninsert into berths values (:depth + 90, 'File', :depth);\n= for i in 1..2 {\n  i\n}\n/tables\n").expect("written");
    session.run(&format!("/run {}", file.display()));
    session.until(|desk| desk.entry().is_some_and(|entry| entry.text == "/tables"));
    session.run("select metres from berths where id = 94;");
    let number = session.desk.entry().expect("an entry").number;
    assert_eq!(session.rows(number), ["4.0"]);
}

#[test]
fn flows_and_conditions_call_the_functions_of_scripts() {
    let mut session = Session::new();
    let folder = tempfile::tempdir().expect("a folder");
    let landings = [("cod", 4000), ("cod", 500), ("eel", 250)]
        .map(|(species, kg)| format!("{{\"species\": \"{species}\", \"kg\": {kg}}}\n"));
    std::fs::write(folder.path().join("landings.jsonl"), landings.concat()).expect("written");
    session.run("= least = 1; def tons(kg) = kg / 1000; def heavy(kg) = tons(kg) >= least");
    session.run(&format!("/open docs:{}", folder.path().display()));
    session.until(|desk| desk.dialect().is_flow());
    let number = session
        .run("from landings emit species => tons(kg) fold t = 0 then t + value order by key;")
        .number;
    assert_eq!(session.rows(number), ["cod|4.5", "eel|0.25"]);
    // What was typed stays what is shown and called again.
    assert!(
        session
            .desk
            .entry()
            .expect("an entry")
            .text
            .contains("tons(kg)")
    );
    let counted = session.run("/stages from landings where heavy(kg) count");
    assert!(matches!(counted.content, Content::Stages(_)), "{counted:?}");
    session.run("from landings order by kg;");
    session.run("/filter not heavy(kg)");
    let kept = |desk: &Desk| {
        let sheet = desk.entry()?.sheet()?;
        sheet.view.rows.as_ref().map(|rows| rows.len())
    };
    session.until(|desk| kept(desk).is_some());
    assert_eq!(kept(&session.desk), Some(2));
    let Content::Failure(failure) = &session.run("from landings where heavy(kg, 1);").content
    else {
        panic!("it was not refused");
    };
    assert_eq!(failure.headline, "heavy is written heavy(kg).");
    assert_eq!(failure.place, Some(20..32));
    session.desk.take_returned();
    session.run("/forget least");
    let refused = session.refused("from landings where heavy(kg);");
    assert!(refused.contains("uses the variable least"), "{refused}");
}
