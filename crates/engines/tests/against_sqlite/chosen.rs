//! The rows that a change is said to choose, before it runs, are those that the database then changes.

use std::collections::BTreeSet;

use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::statement::{Change, change};
use proptest::prelude::*;

fn harbour() -> rusqlite::Connection {
    let file = rusqlite::Connection::open_in_memory().expect("opens");
    file.execute_batch(
        "create table berths (id integer primary key, quay text, depth integer, note text);
         create table visits (id integer primary key, berth integer, crew integer);
         create table moorings (quay text, number integer, rope text, primary key (quay, number));
         with recursive n(i) as (select 1 union all select i + 1 from n where i < 12)
         insert into berths select i, char(65 + i % 4), i * 7 % 5, case i % 3 when 0 then null else 'x' || i end from n;
         with recursive n(i) as (select 1 union all select i + 1 from n where i < 30)
         insert into visits select i, i * 5 % 14, i % 6 from n;
         with recursive n(i) as (select 0 union all select i + 1 from n where i < 11)
         insert into moorings select char(65 + i % 3), i / 3, 'rope ' || i from n;",
    )
    .expect("made");
    file
}

/// Conditions on the berths, whose columns are called with `q` before them.
fn condition(q: &'static str) -> impl Strategy<Value = String> {
    let number = 0_i64..14;
    let leaf = prop_oneof![
        3 => number.clone().prop_map(move |n| format!("{q}id = {n}")),
        1 => number.clone().prop_map(move |n| format!("{n} = {q}id")),
        2 => proptest::collection::vec(number.clone(), 1..4).prop_map(move |list| {
            let list: Vec<String> = list.iter().map(i64::to_string).collect();
            format!("{q}id in ({})", list.join(", "))
        }),
        1 => (number.clone(), number.clone()).prop_map(move |(a, b)| format!("{q}id between {a} and {b}")),
        1 => number.clone().prop_map(move |n| format!("{q}depth > {n}")),
        1 => Just(format!("{q}quay = 'A'")),
        1 => Just(format!("{q}note is null")),
        1 => number.clone().prop_map(move |n| format!("exists (select 1 from visits v where v.berth = {q}id and v.crew = {n})")),
        1 => number.prop_map(move |n| format!("{q}id in (select berth from visits where crew < {n})")),
        1 => Just("1 = 1".to_string()),
    ];
    leaf.prop_recursive(2, 6, 2, |inner| {
        prop_oneof![
            3 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} and {b}")),
            2 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} or {b}")),
            1 => inner.clone().prop_map(|a| format!("not {a}")),
            2 => inner.prop_map(|a| format!("({a})")),
        ]
    })
}

fn statement() -> impl Strategy<Value = String> {
    prop_oneof![
        condition("").prop_map(|c| format!("update berths set depth = depth + 1 where {c}")),
        condition("b.").prop_map(|c| format!("update berths as b set note = 'new', depth = 2 where {c}")),
        condition("berths.").prop_map(|c| format!("update or ignore berths set note = (select max(crew) from visits) where {c}")),
        condition("").prop_map(|c| format!("delete from berths where {c}")),
        condition("b.").prop_map(|c| format!("delete from berths as b where {c};")),
        condition("").prop_map(|c| format!("with busy as (select berth from visits where crew > 3) delete from berths where id in (select berth from busy) and ({c})")),
        condition("berths.").prop_map(|c| format!("update berths set depth = v.crew from visits v where v.berth = berths.id and ({c})")),
        condition("b.").prop_map(|c| format!("update berths as b set depth = w.n from (select berth, count(*) n from visits group by berth) w where w.berth = b.id and ({c})")),
        condition("").prop_map(|c| format!("update berths set depth = 1 /* where id = 3 */ where {c} -- and id = 4")),
        Just("delete from berths".to_string()),
    ]
}

/// The statement with what makes it give the rows that it changed.
fn returning(statement: &str, column: &str) -> String {
    // A remark at the end would swallow it.
    format!("{}\nreturning {column}", statement.trim_end_matches(';'))
}

fn numbers(file: &rusqlite::Connection, sql: &str) -> Vec<i64> {
    let mut statement = file
        .prepare(sql)
        .unwrap_or_else(|error| panic!("{sql}: {error}"));
    let rows = statement.query_map([], |row| row.get(0)).expect("runs");
    rows.map(|row| row.expect("a row")).collect()
}

fn of(statement: &str) -> Change {
    change(statement, &SQLITE).unwrap_or_else(|| panic!("no change: {statement}"))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    #[test]
    fn the_rows_that_are_said_are_the_rows_that_change(statement in statement()) {
        let file = harbour();
        let found = of(&statement);
        let chosen = found.chosen.as_ref().expect("can be read");
        let before = numbers(&file, &chosen.query(&format!("{}.rowid", chosen.called)));
        let count = numbers(&file, &chosen.count())[0];
        let changed: BTreeSet<i64> = numbers(&file, &returning(&statement, "rowid")).into_iter().collect();
        let said: BTreeSet<i64> = before.iter().copied().collect();
        prop_assert_eq!(&said, &changed, "{}", statement);
        // Of tables that are joined a row may be met more than once, and that is said.
        prop_assert!(count as usize == changed.len() || chosen.joined && count as usize > changed.len(), "{count} of {statement}");
        if let Some(most) = found.rows_by_key(&["id"]) {
            prop_assert!(changed.len() <= most, "{} of {most} by {statement}", changed.len());
        }
    }
}

#[test]
fn single_rows_are_named_by_a_whole_key_and_no_part_of_it() {
    let file = harbour();
    for (condition, most) in [
        ("quay = 'A' and number = 1", Some(1)),
        ("number = 1 and quay in ('A', 'B')", Some(2)),
        (
            "(quay = 'A') and (number in (0, 1, 2)) and rope like '%r%'",
            Some(3),
        ),
        ("quay = 'A'", None),
        ("number = 1", None),
        ("quay = 'A' or number = 1", None),
        ("quay = 'A' and not number = 1", None),
        ("quay = rope and number = 1", None),
        ("quay = 'A' and number = number", None),
        ("quay = 'A' and number > 1", None),
    ] {
        let statement = format!("delete from moorings where {condition}");
        let found = of(&statement).rows_by_key(&["quay", "number"]);
        assert_eq!(found, most, "{condition}");
        let changed = numbers(
            &file,
            &format!("select count(*) from moorings where {condition}"),
        )[0];
        assert!(
            most.is_none_or(|most| changed as usize <= most),
            "{condition}"
        );
    }
    // Brackets in brackets end somewhere.
    let deep = format!(
        "delete from moorings where {}quay = 'A'{}",
        "(".repeat(50_000),
        ")".repeat(50_000)
    );
    assert_eq!(of(&deep).rows_by_key(&["quay"]), None);
}
