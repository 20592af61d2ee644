//! One suite over SQLite, PostgreSQL, MariaDB and MySQL. Where a family differs, the difference is a line in
//! [`DIFFERENCES`] with its reason.

use std::time::Duration;

use idle_tide_core::Value;
use idle_tide_engines::sqlite::Sqlite;
use idle_tide_engines::{Access, Connection, Fault};
use idle_tide_lang::correct::Complaint;

use crate::place::{Keep, own, run, servers};

/// What a family does otherwise: the family, the check, what comes instead, and why.
const DIFFERENCES: &[(&str, &str, &str, &str)] = &[
    (
        "MariaDB",
        "definitions are part of a transaction",
        "kept",
        "it commits before every definition",
    ),
    (
        "MySQL",
        "definitions are part of a transaction",
        "kept",
        "it commits before every definition",
    ),
    (
        "SQLite",
        "a text in an integer column is refused",
        "kept",
        "columns have affinities, not types",
    ),
    (
        "MariaDB",
        "exact decimal numbers",
        "Number(\"0.30\")",
        "the sum of literals keeps their scale",
    ),
    (
        "PostgreSQL",
        "exact decimal numbers",
        "Number(\"0.30\")",
        "the sum of literals keeps their scale",
    ),
    (
        "MySQL",
        "exact decimal numbers",
        "Number(\"0.30\")",
        "the sum of literals keeps their scale",
    ),
    (
        "MySQL",
        "true is a boolean",
        "Integer(1)",
        "true is the number 1",
    ),
    (
        "MariaDB",
        "true is a boolean",
        "Integer(1)",
        "true is the number 1",
    ),
    (
        "SQLite",
        "true is a boolean",
        "Integer(1)",
        "true is the number 1",
    ),
    (
        "PostgreSQL",
        "a failed statement leaves a transaction usable",
        "refused",
        "it takes nothing more until rollback",
    ),
];

fn expected(family: &str, check: &str, usual: &str) -> String {
    let differs = DIFFERENCES
        .iter()
        .find(|(f, c, ..)| *f == family && *c == check);
    differs
        .map_or(usual, |(_, _, instead, _)| instead)
        .to_string()
}

fn first(c: &mut dyn Connection, sql: &str) -> Value {
    let (_, keep) = run(c, sql).unwrap_or_else(|error| panic!("{sql}: {error:?}"));
    keep.rows[0][0][0].clone()
}

fn number(c: &mut dyn Connection, sql: &str) -> String {
    first(c, sql).as_ref().plain()
}

fn suite(c: &mut dyn Connection) {
    let family = c.bearings().family;
    let kept = |yes: bool| if yes { "kept" } else { "taken back" };
    run(c, "create table berths (id integer primary key, code varchar(10) not null unique, depth numeric(6,2))").expect("made");
    let (outcome, _) = run(
        c,
        "insert into berths values (1, 'N01', 2.50), (2, 'N02', null)",
    )
    .expect("inserted");
    assert_eq!(outcome.changed, Some(2), "{family}");
    let (outcome, _) = run(c, "update berths set depth = 3 where id = 2").expect("changed");
    assert_eq!(outcome.changed, Some(1), "{family}");
    let (outcome, keep) = run(c, "select code, depth from berths where id = 99").expect("read");
    assert!(
        outcome.returns_rows && keep.rows[0].is_empty() && keep.columns[0].len() == 2,
        "{family}"
    );

    // Names, origins and keys of columns. The catalog tells where they come from in every family.
    c.describe().catalog(1, &mut |_| {}).expect("read");
    let (_, keep) = run(
        c,
        "select b.id, b.code as code, 1 + 1 as two from berths b order by b.id",
    )
    .expect("read");
    let columns = &keep.columns[0];
    let names: Vec<&str> = columns.iter().map(|c| c.name.as_str()).collect();
    assert_eq!(names, ["id", "code", "two"], "{family}");
    assert_eq!(
        columns[1].origin,
        Some(("berths".into(), "code".into())),
        "{family}"
    );
    assert!(
        columns[0].key && !columns[1].key && columns[2].origin.is_none(),
        "{family}"
    );
    assert_eq!(columns[1].optional, Some(false), "{family}");

    // Values.
    assert_eq!(
        first(c, "select 9223372036854775807"),
        Value::Integer(i64::MAX),
        "{family}"
    );
    assert_eq!(first(c, "select null"), Value::Null, "{family}");
    assert_eq!(
        first(c, "select ''"),
        Value::Text(String::new()),
        "{family}"
    );
    assert_eq!(
        first(c, "select 'ç 🌊'"),
        Value::Text("ç 🌊".into()),
        "{family}"
    );
    let sum = format!("{:?}", first(c, "select 0.10 + 0.20"));
    assert_eq!(
        sum,
        expected(
            family,
            "exact decimal numbers",
            "Float(0.30000000000000004)"
        ),
        "{family}"
    );
    let truth = format!("{:?}", first(c, "select true"));
    assert_eq!(
        truth,
        expected(family, "true is a boolean", "Boolean(true)"),
        "{family}"
    );

    // Errors in neutral words.
    let complaint = |c: &mut dyn Connection, sql: &str| {
        run(c, sql)
            .err()
            .unwrap_or_else(|| panic!("{sql}"))
            .complaint
    };
    assert_eq!(
        complaint(c, "select * from berth"),
        Complaint::NoSuchTable("berth".into()),
        "{family}"
    );
    assert!(
        matches!(complaint(c, "select b.cod from berths b"), Complaint::NoSuchColumn(name) if name.ends_with("cod")),
        "{family}"
    );
    assert!(
        matches!(complaint(c, "selec 1"), Complaint::Syntax(_)),
        "{family}"
    );
    let fault = |c: &mut dyn Connection, sql: &str| run(c, sql).err().map(|error| error.fault);
    assert_eq!(
        fault(c, "insert into berths values (1, 'N09', 1)"),
        Some(Fault::Constraint),
        "{family}"
    );
    let odd = fault(
        c,
        "insert into berths values (7, 'N07', 1), ('x', 'N08', 1)",
    )
    .is_none();
    let usual = expected(family, "a text in an integer column is refused", "refused");
    // SQLite's key is an integer in earnest; any other column takes what comes.
    if family == "SQLite" {
        run(c, "create table loose (a integer)").expect("made");
        assert_eq!(
            kept(run(c, "insert into loose values ('x')").is_ok()),
            usual
        );
    } else {
        assert!(!odd && usual == "refused", "{family}");
    }
    run(c, "delete from berths where id = 7").expect("deleted");

    // Transactions.
    run(c, "begin").expect("begun");
    assert!(c.bearings().transaction.is_some(), "{family}");
    run(c, "delete from berths").expect("deleted");
    run(c, "rollback").expect("taken back");
    assert!(c.bearings().transaction.is_none(), "{family}");
    assert_eq!(number(c, "select count(*) from berths"), "2", "{family}");
    run(c, "begin").expect("begun");
    run(c, "create table sheds (id integer)").expect("made");
    run(c, "rollback").expect("taken back");
    let still = run(c, "select * from sheds").is_ok();
    assert_eq!(
        kept(still),
        expected(
            family,
            "definitions are part of a transaction",
            "taken back"
        ),
        "{family}"
    );
    run(c, "begin").expect("begun");
    assert!(run(c, "select nothing_here").is_err());
    let usable = if run(c, "select 1").is_ok() {
        "usable"
    } else {
        "refused"
    };
    assert_eq!(
        usable,
        expected(
            family,
            "a failed statement leaves a transaction usable",
            "usable"
        ),
        "{family}"
    );
    run(c, "rollback").expect("ended");

    // The catalog.
    run(c, "create table visits (id integer primary key, berth_id integer not null, foreign key (berth_id) references berths (id) on delete cascade)").expect("made");
    run(
        c,
        "create view deep as select code from berths where depth > 2",
    )
    .expect("made");
    let mut catalog = c.describe().catalog(1, &mut |_| {}).expect("read");
    c.describe()
        .count_rows(1, &mut catalog, Duration::from_secs(5));
    let visits = catalog.table("visits").expect("there");
    assert_eq!(
        (
            visits.links[0].table.as_str(),
            visits.links[0].columns.as_slice()
        ),
        ("berths", &["berth_id".to_string()][..]),
        "{family}"
    );
    assert_eq!(
        visits.links[0].on_delete.to_lowercase(),
        "cascade",
        "{family}"
    );
    assert!(
        catalog.table("deep").is_some_and(|view| view.is_view()),
        "{family}"
    );
    assert!(catalog.needs_no_schema(visits), "{family}");
    let mut berths = catalog.table("berths").expect("there").clone();
    assert_eq!(
        (berths.rows, berths.estimated),
        (Some(2), false),
        "{family}"
    );
    c.describe().define(1, &mut berths).expect("defined");
    assert!(
        berths
            .definition
            .is_some_and(|text| text.to_lowercase().starts_with("create table")),
        "{family}"
    );

    // Refusing writes.
    c.refuse_writes(true).expect("refuses");
    assert!(run(c, "delete from berths").is_err(), "{family}");
    assert_eq!(c.bearings().access, Access::Writable, "{family}");
    c.refuse_writes(false).expect("allows");
    let (outcome, _) = run(c, "delete from visits").expect("deleted");
    assert_eq!(outcome.changed, Some(0), "{family}");

    // A run that was cancelled before it began.
    c.control().cancel(77);
    let error = c
        .run(77, "select 1", &mut Keep::default())
        .expect_err("not run");
    assert_eq!(error.fault, Fault::Cancelled, "{family}");
}

#[test]
fn one_suite_for_all_families() {
    suite(&mut Sqlite::memory().expect("opens"));
    for server in servers() {
        suite(&mut *own(server, "shared"));
    }
}
