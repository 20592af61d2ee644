//! Completion against the database itself: whatever column or table is offered, the statement with it is one that the
//! database understands.

use std::collections::BTreeSet;

use idle_tide_core::Catalog;
use idle_tide_engines::Connection;
use idle_tide_engines::sqlite::{Sqlite, make_harbour};
use idle_tide_harbour::Settings;
use idle_tide_lang::complete::{Offer, Sources, complete};
use idle_tide_lang::dialect::SQLITE;

/// Statements that lack one name, at `|`.
const STATEMENTS: &[&str] = &[
    "select | from visits",
    "select v.| from visits v",
    "select v.| from visits as v",
    "select visits.| from visits",
    "select crew, | from visits",
    "select id + | from visits",
    "select distinct | from visits",
    "select max(|) from dues",
    "select count(distinct |) from berths",
    "select | from visits v join berths b on b.id = v.berth_id",
    "select v.id, | as other from visits v join berths b on b.id = v.berth_id",
    "select b.| from visits v join berths b on b.id = v.berth_id",
    "select * from visits v join berths b on b.| = v.berth_id",
    "select * from visits v join berths b on b.id = v.|",
    "select * from visits v left join berths b on b.id = v.berth_id where | is null",
    "select * from visits v, berths b where v.berth_id = b.|",
    "select * from visits join dues on dues.visit_id = visits.|",
    "select * from visits where | is not null",
    "select * from visits where crew > 3 and | is not null",
    "select * from visits where not | = 1",
    "select * from visits where | in (1, 2)",
    "select * from visits where | between 1 and 2",
    "select * from visits where crew = (select max(|) from visits)",
    "select * from visits where (crew, |) in (select 1, 2)",
    "select * from visits v where exists (select 1 from dues d where d.| = v.id)",
    "select * from visits v where exists (select 1 from dues d where d.visit_id = v.|)",
    "select * from visits v where exists (select 1 from dues d where | = 1)",
    "select (select max(|) from dues) from visits",
    "select (select max(amount) from dues where visit_id = v.|) from visits v",
    "select x.| from (select id, crew as n from visits) x",
    "select | from (select id, crew as n from visits) x",
    "select | from (select id, crew as n from visits)",
    "select x.n from (select |, crew as n from visits) x",
    "select x.| from (select * from dues) x",
    "with t as (select id as visit, crew from visits) select | from t",
    "with t as (select id as visit, crew from visits) select t.| from t",
    "with t (a, b) as (select id, crew from visits) select | from t",
    "with t as (select | from visits) select 1 from t",
    "with t as (select id from visits), u as (select | from t) select 1 from u",
    "with t as (select id from visits) select * from |",
    "with recursive t(n) as (select 1 union all select | + 1 from t where n < 3) select n from t",
    "select * from visits order by |",
    "select * from visits order by crew desc, |",
    "select crew as people from visits order by |",
    "select rig, count(*) as n from vessels group by |",
    "select rig, count(*) as n from vessels group by rig order by |",
    "select rig, count(*) as n from vessels group by rig having max(|) > 1",
    "select id from visits union select | from dues",
    "select | from visits union select id from dues",
    "select case when | > 1 then 2 end from visits",
    "select case crew when 1 then | else 2 end from visits",
    "select sum(|) over (partition by berth_id) from visits",
    "select sum(crew) over (partition by |) from visits",
    "select sum(crew) over (order by |) from visits",
    "select sum(crew) filter (where | > 1) from visits",
    "select sum(crew) over w from visits window w as (partition by |)",
    "select cast(| as text) from visits",
    "select 'it''s', | from visits",
    "select /* | */ crew, | from visits",
    "select crew -- a remark, with v.x\n, | from visits",
    "update visits set | = 1 where id = 1",
    "update visits set crew = | + 1 where id = 1",
    "update visits set crew = 1 where | = 1",
    "update visits set crew = 1, | = 2",
    "update visits set crew = (select | from dues)",
    "delete from dues where | = 1",
    "delete from dues where visit_id in (select | from visits)",
    "delete from dues returning |",
    "insert into dues (|) values (1)",
    "insert into dues (id, |) values (1, 2)",
    "insert into dues (id) select | from visits",
    "insert into dues (id, visit_id) values (1, 2) on conflict (id) do update set | = 2",
    "insert into dues (id, visit_id) values (1, 2) returning |",
    "select * from |",
    "select 1 from | as x",
    "select * from visits, |",
    "select * from visits v join | on 1 = 1",
    "select * from visits v left join | x on 1 = 1",
    "select * from (select * from |)",
    "select * from visits where id in (select 1 from |)",
    "update | set id = 1",
    "delete from |",
    "insert into | (id) values (1)",
    "drop index if exists |",
    "create index i on visits (|)",
    "create index i on | (id)",
    "create view w as select | from visits",
    "create trigger t after insert on visits begin delete from dues where | = 1; end",
    "create trigger t after insert on visits begin delete from dues where visit_id = new.|; end",
    "alter table visits rename column | to x",
    "alter table | add column x",
    "explain query plan select | from visits",
    "select \"crew\", \"|\" from visits",
];

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
    for statement in STATEMENTS {
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
    for statement in STATEMENTS {
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
