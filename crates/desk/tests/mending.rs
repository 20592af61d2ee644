//! Missing and misplaced quotes, brackets and commas: what is offered first mends them. Statements of the harbour, of
//! dumps and of the guide lose or get one sign each in turn, and the engine says whether the mending is taken.

use idle_tide_core::{Catalog, Column, RowBatch};
use idle_tide_desk::failure::of_statement;
use idle_tide_engines::sqlite::Sqlite;
use idle_tide_engines::{Connection, EngineError, Sink};
use idle_tide_lang::correct::Edit;
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::split::pieces;
use idle_tide_lang::token::{TokenKind, tokens};

struct Nothing;

impl Sink for Nothing {
    fn columns(&mut self, _: Vec<Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: RowBatch) -> std::io::Result<()> {
        Ok(())
    }
}

/// Statements as they are typed, read from dumps, and stand in the guide.
const STATEMENTS: &[&str] = &[
    "select id, name, rig from vessels where rig in ('sloop', 'ketch') order by name;",
    "select v.name, b.code from visits s join vessels v on v.id = s.vessel_id join berths b on b.id = s.berth_id where s.left_at is null;",
    "select count(*), max(amount) from dues where paid_on is null and raised_on > '2031-03-01';",
    "select quay, count(*) as berths from berths group by quay having count(*) > 3 order by count(*) desc;",
    "select name, (select count(*) from visits where vessel_id = vessels.id) as visits from vessels limit 10;",
    "select upper(name), coalesce(call_sign, 'none') from vessels where length_m between 10 and 20;",
    "select case when dries = 1 then 'dries' else 'afloat' end as bed, count(*) from berths group by 1;",
    "with late as (select visit_id, amount from dues where paid_on is null) select count(*), sum(amount) from late;",
    "select distinct substr(arrived, 1, 7) as month from visits order by month;",
    "select round(avg(draught_m), 2), min(crew) from visits where note <> '' and crew in (2, 3, 4);",
    "select * from vessels where name like 'Grey%' and (built < 1950 or built is null);",
    "insert into owners (id, name, kind) values (900, 'Ilva Underquay', 'person');",
    "insert into owners (id, name, kind, phone) values (901, 'A & Daughters', 'company', null), (902, 'B', 'trust', '020 111');",
    "insert into gauges values (9, 'Outer Spit', -0.2, '2030-01-01');",
    "insert into quays values ('N', 'North Steps', 'south', 1874), ('E', 'Mill Sluice', 'west', 1911);",
    "insert into dues (visit_id, amount, raised_on) select id, 12.5, '2031-01-01' from visits where id < 5;",
    "update berths set depth_m = depth_m + 0.25, crane = 1 where quay = 'N' and id in (1, 2, 3);",
    "update vessels set name = 'Grey Heron', rig = 'ketch' where call_sign = 'BH1007';",
    "update visits set note = coalesce(note, '') || ' checked' where (crew > 4 and draught_m > 2);",
    "delete from dues where paid_on is null and visit_id in (select id from visits where left_at is null);",
    "delete from incidents where severity = 1 or report like '%dog%';",
    "create table marks (id integer primary key, berth_id integer not null references berths (id), note text default 'none', lit boolean);",
    "create table lights (name text, colour text check (colour in ('red', 'green')), height decimal(6, 2), primary key (name, colour));",
    "create index by_owner on vessels (owner_id, name);",
    "create view idle as select name, rig from vessels where id not in (select vessel_id from visits);",
];

fn explains(connection: &mut dyn Connection, text: &str) -> Result<(), EngineError> {
    connection
        .run(1, &format!("explain {text}"), &mut Nothing)
        .map(drop)
}

/// The statement with one sign less or one more, at every place that has one.
fn broken(text: &str) -> Vec<(String, String)> {
    let mut list = Vec::new();
    for (at, sign) in text.char_indices() {
        if !matches!(sign, '\'' | '(' | ')' | ',') {
            continue;
        }
        let mut less = text.to_string();
        less.remove(at);
        list.push((format!("without {sign} at {at}"), less));
        let mut more = text.to_string();
        more.insert(at, sign);
        list.push((format!("one more {sign} at {at}"), more));
    }
    list
}

fn mended(text: &str, edit: &Edit) -> String {
    let mut text = text.to_string();
    text.replace_range(edit.span.clone(), &edit.text);
    text
}

/// The harbour without rows, and what is in it.
fn harbour() -> (Sqlite, Catalog) {
    let mut connection = Sqlite::memory().expect("opens");
    for piece in pieces(idle_tide_harbour::SQLITE_SCHEMA, &SQLITE) {
        let text = &idle_tide_harbour::SQLITE_SCHEMA[piece.start as usize..piece.end as usize];
        connection.run(1, text, &mut Nothing).expect("made");
    }
    let catalog = connection.describe().catalog(2, &mut |_| {}).expect("read");
    (connection, catalog)
}

#[test]
fn what_is_offered_first_mends_a_missing_or_a_stray_sign() {
    let (mut connection, catalog) = harbour();
    let (mut cases, mut offered, mut good) = (0, 0, 0);
    let (mut bad, mut open, mut renamed) = (Vec::new(), Vec::new(), Vec::new());
    for statement in STATEMENTS {
        explains(&mut connection, statement).unwrap_or_else(|e| panic!("{statement}: {e}"));
        for (what, text) in broken(statement) {
            connection.run(3, "begin", &mut Nothing).expect("begun");
            let ran = connection.run(3, &text, &mut Nothing);
            connection
                .run(3, "rollback", &mut Nothing)
                .expect("taken back");
            // What is taken all the same is another statement, and nobody knows which was meant.
            let Err(error) = ran else {
                continue;
            };
            cases += 1;
            let failure = of_statement(&text, &error, &catalog, &SQLITE, false, 0);
            let Some(first) = failure.corrections.first() else {
                bad.push(format!("nothing   {what}: {text}   ({})", error.message));
                continue;
            };
            offered += 1;
            let now = mended(&text, &first.edit);
            let list = tokens(&now, &SQLITE);
            if !list.iter().all(|token| token.closed) {
                open.push(format!("{what}: {now}"));
            }
            let was = &text[first.edit.span.clone()];
            let renames = tokens(was, &SQLITE).iter().any(|token| {
                token.kind == TokenKind::Word
                    && statement.contains(was)
                    && first.edit.text != was
                    && catalog
                        .objects
                        .iter()
                        .any(|o| o.field(token.of(was)).is_some())
            });
            if renames {
                renamed.push(format!("{what}: {now}"));
            }
            match explains(&mut connection, &now) {
                Ok(()) => good += 1,
                Err(error) => bad.push(format!("{what}: {now}   ({})", error.message)),
            }
        }
    }
    assert!(cases >= 300, "{cases}");
    assert!(open.is_empty(), "a quote is left open: {open:#?}");
    assert!(
        renamed.is_empty(),
        "a name that was right is another one now: {renamed:#?}"
    );
    // Measured: 421 offers for 424 cases, 377 of them taken.
    assert!(good * 10 >= offered * 8, "{good} of {offered}: {bad:#?}");
    assert!(offered * 10 >= cases * 9, "{offered} of {cases}: {bad:#?}");
}

/// The words of a statement, each misspelled in the ways that fingers do: a letter is left out, comes twice, or changes its place.
fn misspelled(text: &str) -> Vec<(String, String)> {
    let mut list = Vec::new();
    for token in tokens(text, &SQLITE) {
        let word = token.of(text);
        if token.kind != TokenKind::Word || word.len() < 4 || !word.is_ascii() {
            continue;
        }
        // One place in the middle of each is enough.
        let at = token.start + word.len() / 2;
        let letter = &text[at..=at];
        let before = &text[at - 1..at];
        for (what, letters) in [
            ("less", before.to_string()),
            ("twice", format!("{before}{letter}{letter}")),
            ("swapped", format!("{letter}{before}")),
        ] {
            let changed = format!("{}{letters}{}", &text[..at - 1], &text[at + 1..]);
            if changed != text {
                list.push((format!("{word} {what}"), changed));
            }
        }
    }
    list
}

#[test]
fn what_is_offered_first_mends_a_misspelled_word() {
    let (mut connection, catalog) = harbour();
    let (mut cases, mut same) = (0, 0);
    let mut bad = Vec::new();
    for statement in STATEMENTS {
        for (what, text) in misspelled(statement) {
            let Err(error) = explains(&mut connection, &text) else {
                continue;
            };
            // The place is one in the statement as it was typed.
            let error = match connection.run(3, &text, &mut Nothing) {
                Err(error) => error,
                Ok(_) => panic!("{text}: {error:?}"),
            };
            cases += 1;
            let failure = of_statement(&text, &error, &catalog, &SQLITE, false, 0);
            match failure.corrections.first() {
                None => bad.push(format!("{what}: nothing for {text} ({})", error.message)),
                Some(first) if mended(&text, &first.edit) == *statement => same += 1,
                Some(first) => bad.push(format!(
                    "{what}: {} ({})",
                    mended(&text, &first.edit),
                    error.message
                )),
            }
        }
    }
    assert!(cases >= 300, "{cases}");
    // Measured: 613 of 630; of the others most offer what is understood, too.
    assert!(same * 100 >= cases * 97, "{same} of {cases}: {bad:#?}");
}
