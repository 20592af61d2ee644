//! Collections in files: what is changed is changed as a whole or not at all, in the form the file had.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use idle_tide_engines::{Connection, Fault, OpenOptions, Silent, Source, open};

use crate::place::{connect, run};

fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = fs::read_dir(folder)
        .expect("a folder")
        .map(|entry| entry.expect("an entry").file_name().display().to_string())
        .collect();
    names.sort();
    names
}

fn opened(path: &Path, options: OpenOptions) -> Box<dyn Connection> {
    let source = Source::parse(&format!("docs:{}", path.display())).expect("a source");
    open(&source, options, &Silent).unwrap_or_else(|e| panic!("{e}"))
}

/// More documents than are looked at are counted, or it is said that their number is not known; never taken for all.
#[test]
fn documents_beyond_those_that_are_wanted_are_counted() {
    let folder = tempfile::tempdir().expect("a folder");
    let lines: String = (0..2_500).map(|n| format!("{{\"_id\":{n}}}\n")).collect();
    fs::write(folder.path().join("many.jsonl"), lines).expect("written");
    let mut files = connect(&format!("docs:{}", folder.path().display()));
    for (most, stop, wanted) in [
        (2_000, u64::MAX, 2_000),
        (3_000, u64::MAX, 2_500),
        (2_000, 30, 30),
    ] {
        let mut seen = 0;
        let all = files
            .collections()
            .expect("a document database")
            .documents(1, "many", most, &mut |_| {
                seen += 1;
                seen < stop
            })
            .expect("read");
        assert_eq!((seen, all), (wanted, Some(2_500)), "{most} {stop}");
    }
    files.control().cancel(2);
    let error = files
        .collections()
        .expect("a document database")
        .documents(2, "many", 9, &mut |_| true)
        .expect_err("stopped");
    assert_eq!(error.fault, Fault::Cancelled);
}

#[test]
fn every_form_of_file_is_changed_in_its_own_form() {
    let lines = "{\"_id\":1,\"a\":1}\n{\"_id\":2,\"a\":{\"$numberDecimal\":\"0.10\"}}\n";
    let array =
        "[\n{\"_id\": 1, \"a\": 1},\n{\"_id\": 2, \"a\": {\"$numberDecimal\": \"0.10\"}}\n]\n";
    for (name, before, after) in [
        (
            "notes.jsonl",
            lines.as_bytes().to_vec(),
            Some("{\"_id\":2,\"a\":{\"$numberDecimal\":\"0.10\"},\"b\":[1,null]}\n{\"_id\":3}\n"),
        ),
        (
            "notes.json",
            array.as_bytes().to_vec(),
            Some(
                "[\n{\"_id\":2,\"a\":{\"$numberDecimal\":\"0.10\"},\"b\":[1,null]},\n{\"_id\":3}\n]\n",
            ),
        ),
        ("notes.bson", Vec::new(), None),
    ] {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join(name);
        fs::write(&path, &before).expect("written");
        fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).expect("set");
        let mut files = connect(&format!("docs:{}", folder.path().display()));
        if before.is_empty() {
            let both = "insert into notes [{ _id: 1, a: 1 }, { _id: 2, a: decimal '0.10' }]";
            run(&mut *files, both).expect("inserted");
        }
        for statement in [
            "update notes where a = decimal '0.10' set b = [1, null]",
            "delete from notes where a = 1",
            "insert into notes { _id: 3 }",
        ] {
            let (_, outcome) =
                run(&mut *files, statement).unwrap_or_else(|e| panic!("{statement}: {e}"));
            assert_eq!(outcome.changed, Some(1), "{statement}");
        }
        if let Some(after) = after {
            assert_eq!(fs::read_to_string(&path).expect("read"), after, "{name}");
        }
        let (rows, _) = run(&mut *files, "from notes order by _id").expect("read");
        assert_eq!(rows.len(), 2, "{name}: {rows:?}");
        assert_eq!(names(folder.path()), [name]);
        let mode = fs::metadata(&path).expect("there").permissions().mode();
        assert_eq!(mode & 0o777, 0o640, "{name}");
    }
}

#[test]
fn a_change_that_fails_leaves_the_file_as_it_was() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("notes.jsonl");
    let before =
        "{\"_id\":1,\"n\":1}\n{\"_id\":2,\"n\":{\"$numberLong\":\"9223372036854775807\"}}\n";
    fs::write(&path, before).expect("written");
    let mut files = connect(&format!("docs:{}", folder.path().display()));
    for (statement, words) in [
        ("update all notes set n = n + 1", "64-bit"),
        ("update all notes set _id = 5", "cannot be changed"),
        ("insert into notes [{ _id: 3 }, { _id: 2 }]", "_id 2"),
        ("insert into notes [{ _id: 3 }, { _id: 3 }]", "_id 3"),
        (
            "from notes pick { n } save into notes by missing",
            "nothing at missing",
        ),
        ("from [{ _id: 1 }] save into notes", "_id 1"),
    ] {
        let error = run(&mut *files, statement).expect_err(statement);
        let said = error.advice.unwrap_or_default() + &error.message;
        assert!(said.contains(words), "{statement}: {said}");
        assert_eq!(
            fs::read_to_string(&path).expect("read"),
            before,
            "{statement}"
        );
        assert_eq!(names(folder.path()), ["notes.jsonl"], "{statement}");
    }
    // A link is followed: what it leads to is changed, and the link stays one.
    let link = folder.path().join("linked.jsonl");
    std::os::unix::fs::symlink(&path, &link).expect("linked");
    run(&mut *files, "delete from linked where _id = 2").expect("deleted");
    assert_eq!(
        fs::read_to_string(&path).expect("read"),
        "{\"_id\":1,\"n\":1}\n"
    );
    assert!(fs::symlink_metadata(&link).expect("there").is_symlink());
}

#[test]
fn saving_by_a_path_replaces_and_adds() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("prices.jsonl");
    fs::write(
        &path,
        "{\"_id\":1,\"species\":\"bass\",\"kg\":1}\n{\"_id\":2,\"species\":\"sole\",\"kg\":2}\n",
    )
    .expect("written");
    let mut files = connect(&format!("docs:{}", folder.path().display()));
    let typed = "from [{ species: 'sole', kg: 20 }, { species: 'crab', kg: 3 }, { species: 'crab', kg: 30 }] save into prices by species";
    let (_, outcome) = run(&mut *files, typed).expect("saved");
    assert_eq!(
        outcome.made.join(" "),
        "1 document replaced and 1 document added in prices."
    );
    let (rows, _) = run(&mut *files, "from prices order by kg pick { species, kg }").expect("read");
    assert_eq!(
        rows,
        [
            r#"{"species":"bass","kg":1}"#,
            r#"{"species":"sole","kg":20}"#,
            r#"{"species":"crab","kg":30}"#,
        ]
    );
    // What is replaced keeps its identifier.
    let (rows, _) = run(&mut *files, "from prices where _id = 2 pick { kg }").expect("read");
    assert_eq!(rows, [r#"{"kg":20}"#]);
}

#[test]
fn what_is_broken_is_named_and_never_written_over() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("log.jsonl");
    let mut text = String::new();
    for n in 1..=70_010 {
        match n {
            70_000 => text.push_str("{\"_id\":70000,\"a\":[1,}\n"),
            n => text.push_str(&format!("{{\"_id\":{n}}}\n")),
        }
    }
    fs::write(&path, &text).expect("written");
    let mut strict = opened(
        folder.path(),
        OpenOptions {
            write: true,
            ..OpenOptions::default()
        },
    );
    let error = run(&mut *strict, "from log count").expect_err("broken");
    let said = error.advice.unwrap_or_default() + &error.message;
    assert!(said.contains("70000") || said.contains("70 000"), "{said}");
    assert!(said.contains("keep-going"), "{said}");
    let mut going = opened(
        folder.path(),
        OpenOptions {
            write: true,
            keep_going: true,
            ..OpenOptions::default()
        },
    );
    let (rows, outcome) = run(&mut *going, "from log count").expect("counted");
    assert_eq!(rows, [r#"{"count":70009}"#]);
    assert!(!outcome.notes.is_empty());
    // To write it anew would lose what cannot be read.
    for statement in [
        "delete from log where _id = 1",
        "insert into log { _id: 'x' }",
    ] {
        assert!(run(&mut *going, statement).is_err(), "{statement}");
        assert!(
            fs::read_to_string(&path).expect("read") == text,
            "{statement}"
        );
    }
}

#[test]
fn files_are_for_reading_unless_it_is_said() {
    let folder = tempfile::tempdir().expect("a folder");
    fs::write(folder.path().join("notes.jsonl"), "{\"_id\":1}\n").expect("written");
    let mut files = opened(folder.path(), OpenOptions::default());
    for statement in [
        "insert into notes { a: 1 }",
        "delete all from notes",
        "drop collection notes",
        "create collection more",
        "rename collection notes to more",
        "from notes save into more",
    ] {
        let error = run(&mut *files, statement).expect_err(statement);
        assert_eq!(error.fault, Fault::ReadOnly, "{statement}: {error:?}");
        let said = error.advice.unwrap_or_default() + &error.message;
        assert!(said.contains("--write"), "{statement}: {said}");
    }
    assert_eq!(names(folder.path()), ["notes.jsonl"]);
}

/// Files that are changed in a transaction wait beside their places: read there by this session, seen by nobody else,
/// put there together, and not over what another program wrote meanwhile.
#[test]
fn transactions_over_files_are_kept_or_taken_back() {
    let dir = tempfile::tempdir().expect("a folder");
    let path = |name: &str| dir.path().join(name);
    let before = "{\"_id\":1,\"kg\":2}\n{\"_id\":2,\"kg\":3}\n";
    fs::write(path("lines.jsonl"), before).expect("written");
    fs::write(path("array.json"), "[{\"_id\":1,\"kg\":2}]\n").expect("written");
    let address = format!("docs:{}", dir.path().display());
    let mut here = connect(&address);
    let say = |here: &mut dyn Connection, statement: &str| {
        let (rows, _) = run(here, statement).unwrap_or_else(|e| panic!("{statement}: {e:?}"));
        rows.concat()
    };
    let made = |name: &str| path(name).exists();
    for (end, kept) in [("rollback", false), ("commit", true)] {
        say(&mut *here, "begin");
        assert!(here.bearings().transaction.is_some());
        say(&mut *here, "update lines where kg = 2 set kg = 9");
        say(&mut *here, "update lines where kg = 9 set kg = 10");
        say(&mut *here, "delete all from array");
        say(&mut *here, "insert into fresh { _id: 7 }");
        assert_eq!(
            say(&mut *here, "from lines where kg = 10 pick { _id }"),
            r#"{"_id":1}"#
        );
        assert_eq!(say(&mut *here, "from array count"), r#"{"count":0}"#);
        assert_eq!(say(&mut *here, "from fresh"), r#"{"_id":7}"#);
        assert!(
            run(&mut *here, "drop collection lines").is_err() && run(&mut *here, "begin").is_err()
        );
        assert_eq!(
            fs::read_to_string(path("lines.jsonl")).expect("read"),
            before
        );
        assert!(!made("fresh.jsonl"));
        say(&mut *here, end);
        assert!(here.bearings().transaction.is_none());
        assert_eq!(made("fresh.jsonl"), kept);
        let array = fs::read_to_string(path("array.json")).expect("read");
        assert_eq!(array.contains("kg"), !kept, "{array}");
        assert!(array.trim_start().starts_with('['), "{array}");
    }
    // Another program writes meanwhile.
    say(&mut *here, "begin");
    say(&mut *here, "delete all from lines");
    say(&mut *here, "delete all from fresh");
    fs::write(path("lines.jsonl"), "{\"_id\":5}\n").expect("written");
    let error = run(&mut *here, "commit").expect_err("changed meanwhile");
    assert!(
        error.message.contains("was changed by another program"),
        "{error:?}"
    );
    assert!(here.bearings().transaction.is_none());
    assert_eq!(say(&mut *here, "from lines"), r#"{"_id":5}"#);
    assert_eq!(say(&mut *here, "from fresh"), r#"{"_id":7}"#);
    // Nothing is left beside.
    assert_eq!(fs::read_dir(dir.path()).expect("read").count(), 3);
}
