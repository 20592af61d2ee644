//! What each kind of statement is answered over files and over the wire: what it did, in words, or why it was not done.

use std::sync::Arc;

use idle_tide_core::{Datum, Document};
use idle_tide_dock::server::{Listening, Settings};
use idle_tide_engines::{Connection, EngineError, Fault};

use crate::place::{connect, run, server, url};

/// A folder with the landings and a connection to it, and one to a server with them.
fn both() -> (tempfile::TempDir, Listening, [Box<dyn Connection>; 2]) {
    let folder = tempfile::tempdir().expect("a folder");
    let landings = idle_tide_dock::harbour::collection("landings", 300);
    idle_tide_dock::files::write(
        &folder.path().join("landings.jsonl"),
        idle_tide_dock::files::Form::Lines,
        &mut landings.into_iter().map(Ok),
    )
    .expect("written");
    let listening = server(Settings::default());
    let connections = [
        connect(&format!("docs:{}", folder.path().display())),
        connect(&url(&listening)),
    ];
    (folder, listening, connections)
}

/// What a statement comes to, in words: its documents, how many it changed, what came into being, what is noted; or the kind of
/// its error and the error's words.
fn answer(connection: &mut dyn Connection, statement: &str) -> String {
    match run(connection, statement) {
        Ok((rows, outcome)) => {
            let mut parts = rows;
            parts.extend(outcome.changed.map(|count| format!("changed {count}")));
            parts.extend(outcome.made);
            parts.extend(outcome.notes);
            parts.join(" | ")
        }
        Err(error) => said(&error),
    }
}

fn said(error: &EngineError) -> String {
    let advice = error.advice.as_deref().unwrap_or_default();
    format!("{:?}: {} {advice}", error.fault, error.message)
}

/// A line of a story that is answered alike.
fn alike<'a>(statement: &'a str, part: &'a str) -> (&'a str, &'a str, &'a str) {
    (statement, part, part)
}

/// Runs a story over both: each statement, and a part of what it is answered, of all and of files and of servers alone.
fn story(connections: &mut [Box<dyn Connection>; 2], lines: &[(&str, &str, &str)]) {
    for (statement, files, wire) in lines {
        for (connection, part) in connections.iter_mut().zip([files, wire]) {
            let answer = answer(&mut **connection, statement);
            assert!(
                answer.contains(part),
                "{statement}\n  answered: {answer}\n  expected: {part}"
            );
        }
    }
}

#[test]
fn collections_are_made_renamed_and_removed() {
    let (folder, _listening, mut connections) = both();
    story(
        &mut connections,
        &[
            alike("create collection tides", "The collection tides was made"),
            alike("from tides count as n", "{\"n\":0}"),
            alike("create collection tides", "Statement: "),
            alike("insert into tides { _id: 1 }", "changed 1"),
            alike(
                "rename collection tides to currents",
                "The collection tides is called currents now.",
            ),
            alike("from currents", "{\"_id\":1}"),
            (
                "rename collection tides to swell",
                "Statement: ",
                "Statement: ",
            ),
            alike("rename collection currents to landings", "Statement: "),
            alike("from landings count as n", "{\"n\":300}"),
            (
                "drop collection tides",
                "There is no collection tides",
                "There is no collection tides",
            ),
            alike(
                "drop collection currents",
                "The collection currents was removed",
            ),
            (
                "create index on landings (number)",
                "Files have no indexes",
                "The index number_1 was made on landings.",
            ),
            (
                "create index on landings (number)",
                "Files have no indexes",
                "There was such an index on landings already.",
            ),
            (
                "drop index number_1 on landings",
                "Files have no indexes",
                "The index number_1 of landings was removed.",
            ),
            (
                "drop database shed",
                "A folder is not removed from here",
                "There was no database shed.",
            ),
            (
                "create user mate with roles []",
                "Files have no users",
                "There is no password.",
            ),
        ],
    );
    // What was renamed kept the form of its file, and nothing else lies there.
    let names: Vec<_> = std::fs::read_dir(folder.path())
        .expect("a folder")
        .map(|entry| entry.expect("an entry").file_name())
        .collect();
    assert_eq!(names, ["landings.jsonl"]);
}

#[test]
fn what_cannot_be_said_to_a_collection_is_refused_and_nothing_is_changed() {
    let (_folder, _listening, mut connections) = both();
    story(
        &mut connections,
        &[
            alike("insert into landings 5", "Statement: "),
            alike("insert into landings [5]", "Only objects can be"),
            alike(
                "insert into landings { a: number + 1 }",
                "data, not expressions",
            ),
            alike("from [5] limit 1", "Only objects can be documents."),
            alike("from [{ a: 1 + number }] limit 1", "nothing computed"),
            alike(
                "update landings where number = 1 set number = 1",
                "1 fit the condition; 1 of them had these values already.",
            ),
            alike(
                "update landing where number = 1 set number = 2",
                "changed 0",
            ),
            alike(
                "delete from landing where number = 1",
                "There is no collection landing",
            ),
            alike("commit", "No transaction is open"),
            alike("rollback", "No transaction is open"),
            ("call { ping: 1 }", "these are files", "\"ok\":1"),
            (
                "from landings raw [{ $limit: 2 }] count as n",
                "raw stages are a server's own",
                "{\"n\":2}",
            ),
            (
                "from landings emit port => 1 raw [{ $limit: 2 }]",
                "raw stages are a server's own",
                "raw stages are the server's",
            ),
            alike("from landings count as n", "{\"n\":300}"),
        ],
    );
}

/// What comes behind `emit` is computed here, also over the wire: joins read the other collection, what is saved is sent.
#[test]
fn what_is_computed_here_joins_and_saves_as_a_server_would() {
    let (_folder, _listening, mut connections) = both();
    let by_port = "from landings where number <= 40 emit port => 1 fold n = 0 then n + value pick { port: key, n }";
    let save = |how: &str| format!("{by_port} save {how}");
    let counted = "from ports count as n";
    let (into, by, over) = (
        save("into ports"),
        save("into ports by port"),
        save("over ports"),
    );
    let ports = answer(&mut *connections[0], by_port);
    let count = ports.matches("\"port\"").count();
    assert!(count > 2, "{ports}");
    let (once, twice) = (
        format!("{{\"n\":{count}}}"),
        format!("{{\"n\":{}}}", 2 * count),
    );
    story(
        &mut connections,
        &[
            alike(by_port, &ports),
            alike(&into, " documents "),
            alike(counted, &once),
            // By a path those with the same value make room; over it everything does.
            alike(&by, " documents "),
            alike(counted, &once),
            alike(&into, " documents "),
            alike(counted, &twice),
            alike(&over, "ports"),
            alike(counted, &once),
            alike(
                "from landings emit port => 1 fold n = 0 then n + value join one ports as p on key = p.port add { same: p.n = n } distinct same",
                &format!("\"count\":{count}"),
            ),
            alike("from landings sample 7 count as n", "{\"n\":7}"),
            alike("from landings sample 4000 count as n", "{\"n\":300}"),
            alike(
                "from landings emit port => 1 sample 0 count as n",
                "{\"n\":0}",
            ),
            alike(
                "from landings emit port => 1 sample 9 count as n",
                "{\"n\":9}",
            ),
            alike(
                "from landings emit port => 1 sample 900 count as n",
                "{\"n\":300}",
            ),
        ],
    );
    for connection in &mut connections {
        connection.refuse_writes(true).expect("refused");
        let refused = run(&mut **connection, &into).expect_err("refused");
        assert_eq!(refused.fault, Fault::ReadOnly, "{refused}");
    }
}

#[test]
fn a_flow_goes_on_with_an_earlier_result() {
    let (_folder, _listening, mut connections) = both();
    for connection in &mut connections {
        let none = answer(&mut **connection, "from result 3");
        assert!(none.contains("no earlier result"), "{none}");
        let earlier = Arc::new(
            |number: u32, take: &mut dyn FnMut(Document) -> bool| match number {
                3 => {
                    let rows = (1..=5).map(|n| Document::new().with("n", Datum::Int(n)));
                    for document in rows {
                        if !take(document) {
                            break;
                        }
                    }
                    Ok(())
                }
                _ => Err(format!("There is no entry {number} with rows.")),
            },
        );
        let collections = connection.collections().expect("a document database");
        collections.set_earlier(earlier);
        for (statement, part) in [
            (
                "from result 3",
                "{\"n\":1} | {\"n\":2} | {\"n\":3} | {\"n\":4} | {\"n\":5}",
            ),
            ("from result 3 where n > 3", "{\"n\":4} | {\"n\":5}"),
            ("from result 3 limit 1", "{\"n\":1}"),
            (
                "from result 3 emit n % 2 => n fold s = 0 then s + value order by key",
                "{\"key\":0,\"s\":6} | {\"key\":1,\"s\":9}",
            ),
            ("from result 3 save into kept", "kept"),
            ("from kept count as n", "{\"n\":5}"),
            ("from result 4", "There is no entry 4 with rows."),
            (
                "from result 3 add { m: n + 9223372036854775807 }",
                "Statement: ",
            ),
        ] {
            let answer = answer(&mut **connection, statement);
            assert!(answer.contains(part), "{statement}: {answer}");
        }
    }
}

/// Documents are filled in from outside until they end or one is refused; what went in before is said.
#[test]
fn a_collection_is_filled_from_outside() {
    let (_folder, _listening, mut connections) = both();
    for connection in &mut connections {
        let mut left = (1..=2_500).map(|n| Document::new().with("_id", Datum::Int(n)));
        let filled = connection
            .collections()
            .expect("a document database")
            .fill(7, "many", &mut || Ok(left.next()))
            .expect("filled");
        assert_eq!(filled, 2_500);
        assert_eq!(
            answer(&mut **connection, "from many count as n"),
            "{\"n\":2500}"
        );
        // One that is there already, and a source that fails.
        let mut twice = [9_001, 4].into_iter();
        let error = connection
            .collections()
            .expect("a document database")
            .fill(8, "many", &mut || {
                Ok(twice
                    .next()
                    .map(|n| Document::new().with("_id", Datum::Int(n))))
            })
            .expect_err("twice");
        assert_eq!(error.fault, Fault::Constraint, "{}", said(&error));
        let error = connection
            .collections()
            .expect("a document database")
            .fill(9, "other", &mut || {
                Err(EngineError::plain("line 3 is cut short"))
            })
            .expect_err("cut");
        assert!(error.message.contains("line 3 is cut short"), "{error}");
        let left = answer(&mut **connection, "from many where _id > 2500 count as n");
        assert!(left == "{\"n\":0}" || left == "{\"n\":1}", "{left}");
    }
}

#[test]
fn plans_are_for_what_reads() {
    let (_folder, _listening, mut connections) = both();
    for (at, connection) in connections.iter_mut().enumerate() {
        let collections = connection.collections().expect("a document database");
        let flow = "from landings where number < 3 emit port => 1 fold n = 0 then n + value";
        let plan = collections.flow_plan(1, flow, false).expect("a plan");
        let notes = plan.notes.join(" ");
        let words = [
            "Files have no indexes",
            "From emit on the stages are computed here",
        ];
        assert!(notes.contains(words[at]), "{notes}");
        assert!(!plan.steps.is_empty() && !plan.text.is_empty());
        for statement in ["delete all from landings", "drop collection landings"] {
            let error = collections
                .flow_plan(2, statement, true)
                .expect_err(statement);
            assert!(error.message.contains("for what reads"), "{error}");
        }
        assert!(
            collections
                .flow_plan(3, "from landings wher x", false)
                .is_err()
        );
        let count = answer(&mut **connection, "from landings count as n");
        assert_eq!(count, "{\"n\":300}", "a plan changes nothing");
    }
}
