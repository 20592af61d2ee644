//! Our engine: the same statements over files and over the wire come to the same.

use idle_tide_core::Kind;
use idle_tide_dock::server::Settings;
use idle_tide_engines::{Connection, Fault, Listing};

use crate::place::{connect, run, server, url};

/// The harbour's landings in a folder, and on a server.
fn both() -> (
    tempfile::TempDir,
    idle_tide_dock::server::Listening,
    Vec<Box<dyn Connection>>,
) {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("landings.bson");
    let landings = idle_tide_dock::harbour::collection("landings", 300);
    idle_tide_dock::files::write(
        &path,
        idle_tide_dock::files::Form::Bson,
        &mut landings.into_iter().map(Ok),
    )
    .expect("written");
    let listening = server(Settings::default());
    let connections = vec![
        connect(&format!("docs:{}", folder.path().display())),
        connect(&url(&listening)),
    ];
    (folder, listening, connections)
}

#[test]
fn the_same_statements_come_to_the_same() {
    let (_folder, _listening, mut connections) = both();
    for statement in [
        "from landings count",
        "from landings where port = 'Brackwater' and lines.kg >= 20 count as n",
        "from landings distinct port",
        "from landings where landed between date '2031-02-01' and date '2031-02-28' order by number pick { number, port } limit 5",
        "from landings unnest lines group by species: lines.species { n: count(), kg: sum(lines.kg) } where n > 20 order by kg desc, species",
        "from landings emit port => size(lines) fold n = 0 then n + value finish n order by key",
        "from landings where number < 3 save into few",
        "from few count",
        "update few where number = 1 set port = upper(port), checked = true remove ice",
        "from few where checked order by number pick { number, port, checked }",
        "insert into few { _id: 7, port: 'X' }",
        "delete from few where _id = 7",
        "from few save over fewer",
        "from fewer count",
        "empty few",
        "from few count",
        "from nowhere",
        "from [{a: 1}, {a: 2}] where a > 1",
        "drop collection few",
        "drop collection fewer",
    ] {
        let answers: Vec<_> = connections
            .iter_mut()
            .map(|c| {
                let (rows, outcome) =
                    run(&mut **c, statement).unwrap_or_else(|e| panic!("{statement}: {e}"));
                (rows, outcome.changed, outcome.returns_rows)
            })
            .collect();
        assert_eq!(answers[0], answers[1], "{statement}");
    }
}

#[test]
fn what_came_into_being_and_what_is_wrong_is_said() {
    let (_folder, _listening, mut connections) = both();
    for connection in &mut connections {
        let (_, outcome) =
            run(&mut **connection, "insert into log [{ a: 1 }, { a: 2 }]").expect("inserted");
        assert_eq!((outcome.changed, outcome.new_ids.len()), (Some(2), 2));
        assert!(
            outcome.made[0].contains("came into being"),
            "{:?}",
            outcome.made
        );
        let id = &outcome.new_ids[0];
        let twice = run(
            &mut **connection,
            &format!("insert into log {{ _id: id '{id}' }}"),
        )
        .expect_err("twice");
        assert_eq!(twice.fault, Fault::Constraint);
        let (rows, outcome) = run(&mut **connection, "from landing").expect("none");
        assert!(
            rows.is_empty() && outcome.notes[0].contains("landings"),
            "{:?}",
            outcome.notes
        );
        let error = run(&mut **connection, "from landings wher a = 1").expect_err("no stage");
        assert_eq!((error.fault, error.offset), (Fault::Statement, Some(14)));
        connection.refuse_writes(true).expect("refused");
        for write in [
            "insert into log { a: 3 }",
            "from log save into other",
            "drop collection log",
            "from log raw [{ $out: 'x' }]",
        ] {
            assert_eq!(
                run(&mut **connection, write).map_err(|e| e.fault).err(),
                Some(Fault::ReadOnly),
                "{write}"
            );
        }
        connection.refuse_writes(false).expect("allowed");
        run(&mut **connection, "drop collection log").expect("dropped");
    }
}

#[test]
fn what_is_there_twice_is_said_in_plain_words() {
    let (_folder, _listening, mut connections) = both();
    run(
        &mut *connections[1],
        "create unique index by_number on landings (number)",
    )
    .expect("made");
    for (statement, words) in [
        (
            "insert into landings { number: 7 }",
            "landings has a document with { number: 7 } already: the index by_number takes each value once.",
        ),
        (
            "insert into landings [{ _id: 'a' }, { _id: 'a', number: 9000 }]",
            "1 of the documents went in before this one was refused: landings has a document with { _id: \"a\" } already: each identifier stands for one document.",
        ),
    ] {
        let error = run(&mut *connections[1], statement).expect_err(statement);
        assert_eq!(error.advice.as_deref(), Some(words), "{statement}");
    }
}

#[test]
fn the_catalog_has_shapes_indexes_and_counts() {
    let (_folder, _listening, mut connections) = both();
    run(
        &mut *connections[1],
        "create unique index by_number on landings (number, landed desc)",
    )
    .expect("made");
    for connection in &mut connections {
        let mut catalog = connection
            .describe()
            .catalog(1, &mut |_| {})
            .expect("a catalog");
        connection
            .describe()
            .count_rows(1, &mut catalog, std::time::Duration::from_secs(5));
        let landings = catalog.table("landings").expect("landings");
        assert_eq!(
            (landings.kind, landings.rows),
            (Kind::Collection, Some(300))
        );
        let kg = landings.field("lines.kg").expect("kg");
        assert!(kg.declared.starts_with("double"), "{}", kg.declared);
        assert!(landings.shape.as_ref().is_some_and(|s| s.sampled == 300));
        let list = connection
            .describe()
            .listing(Listing::Databases(false))
            .expect("a list");
        assert!(list.sql.contains("name: ") && !list.sql.contains("sizeOnDisk"));
    }
    let catalog = connections[1]
        .describe()
        .catalog(1, &mut |_| {})
        .expect("a catalog");
    let index = &catalog.table("landings").expect("landings").indexes[1];
    assert_eq!(
        (
            index.name.as_str(),
            index.unique,
            index.columns.join(", ").as_str()
        ),
        ("by_number", true, "number, landed desc")
    );
    let script = connections[1]
        .describe()
        .script(1, &catalog)
        .expect("a script");
    assert!(
        script.contains("create unique index by_number on landings (number, landed desc);"),
        "{script}"
    );
    let plan = connections[1]
        .collections()
        .expect("a document database")
        .flow_plan(1, "from landings where _id = 1", true)
        .expect("a plan");
    assert!(!plan.steps.is_empty() && plan.text.contains("aggregate"));
}
