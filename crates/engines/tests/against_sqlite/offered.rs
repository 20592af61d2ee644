//! Completion against the database itself: whatever column or table is offered, the statement with it is one that the
//! database understands.

use std::collections::BTreeSet;

use idle_tide_core::Catalog;
use idle_tide_engines::Connection;
use idle_tide_engines::sqlite::{Sqlite, make_harbour};
use idle_tide_harbour::Settings;
use idle_tide_lang::complete::{Offer, Sources, complete};
use idle_tide_lang::dialect::SQLITE;

/// Statements that lack one name, at `|`; `\n` stands for a new line.
const STATEMENTS: &str = include_str!("offered.txt");

/// What the database says to a statement, which it does not run.
fn said(file: &rusqlite::Connection, sql: &str) -> Option<String> {
    file.prepare(sql).err().map(|error| error.to_string())
}

#[test]
fn what_is_offered_is_understood() {
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("harbour.db");
    make_harbour(&path, &Settings::default()).expect("made");
    let mut source = Sqlite::file(&path, false, &mut || {}).expect("opens");
    let catalog: Catalog = source.describe().catalog(1, &mut |_| {}).expect("read");
    let file = rusqlite::Connection::open(&path).expect("opens");
    let from = Sources {
        catalog: &catalog,
        dialect: &SQLITE,
        columns: &[],
        entries: &[],
        names: &[],
        topics: &[],
    };
    let mut wrong = Vec::new();
    for statement in STATEMENTS.lines() {
        let statement = statement.replace("\\n", "\n");
        let cursor = statement.rfind('|').expect("a place");
        let (before, after) = (&statement[..cursor], &statement[cursor + 1..]);
        let text = format!("{before}{after}");
        let completion = complete(&text, cursor, true, &from);
        let names: Vec<_> = completion
            .candidates
            .iter()
            .filter(|one| matches!(one.offer, Offer::Column | Offer::Table))
            .collect();
        if names.is_empty() {
            wrong.push(format!("{statement}\n    offers no name"));
        }
        for name in names {
            let span = name.span.clone().unwrap_or(completion.span.clone());
            let whole = format!(
                "{}{}{}",
                &text[..span.start],
                name.insert,
                &text[span.end..]
            );
            // The name of a table is the beginning of one of its columns, too.
            let begun = format!(
                "{}{}.{}",
                &text[..span.start],
                name.insert,
                &text[span.end..]
            );
            let behind = complete(&begun, span.start + name.insert.len() + 1, true, &from);
            let mut behind = behind.candidates.iter();
            let begins = name.offer == Offer::Table && behind.any(|one| one.offer == Offer::Column);
            if let Some(error) = said(&file, &whole).filter(|_| !begins) {
                wrong.push(format!("{whole}\n    {error}"));
            }
        }
    }
    // And what it understands is offered, with its table or without.
    let fields = catalog.objects.iter().flat_map(|object| &object.fields);
    let columns: BTreeSet<&str> = fields.map(|field| field.name.as_str()).collect();
    for statement in STATEMENTS.lines() {
        let statement = statement.replace("\\n", "\n");
        let cursor = statement.rfind('|').expect("a place");
        let (before, after) = (&statement[..cursor], &statement[cursor + 1..]);
        let with = |name: &str| said(&file, &format!("{before}{name}{after}"));
        // Where any word is taken nothing can be told.
        if with("no_such_name").is_none() {
            continue;
        }
        let completion = complete(&format!("{before}{after}"), cursor, true, &from);
        // One that is named already is not offered again.
        let again = |name: &str| before.ends_with(&format!("({name}, "));
        for name in columns
            .iter()
            .filter(|name| with(name).is_none() && !again(name))
        {
            let mut offered = completion.candidates.iter();
            let own = |insert: &str| insert.rsplit('.').next() == Some(*name);
            if !offered.any(|one| own(&one.insert)) {
                wrong.push(format!("{statement}\n    lacks {name}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}:\n{}", wrong.len(), wrong.join("\n"));
}
