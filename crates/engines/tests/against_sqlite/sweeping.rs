//! What the guard says of a condition against what the database does with it: a statement of which is said that it empties a
//! table does, and one that would empty any table is known to.

use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::statement::{Sweep, summary};
use proptest::prelude::*;

fn operand() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => Just("a".to_string()),
        2 => Just("b".to_string()),
        1 => Just("t.a".to_string()),
        1 => Just("0".to_string()),
        2 => Just("1".to_string()),
        1 => Just("'x'".to_string()),
        1 => Just("(a)".to_string()),
    ]
}

fn column() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => Just("a".to_string()),
        2 => Just("b".to_string()),
        1 => Just("t.a".to_string()),
        1 => Just("(a)".to_string()),
    ]
}

fn condition() -> impl Strategy<Value = String> {
    let comparison = prop_oneof![
        Just("="),
        Just("=="),
        Just("<>"),
        Just("!="),
        Just("<"),
        Just(">="),
        Just("is"),
        Just("is not"),
        Just("is not distinct from"),
        Just("is distinct from"),
        Just("like"),
        Just("not like"),
    ];
    let leaf = prop_oneof![
        6 => (column(), comparison, operand()).prop_map(|(a, how, b)| format!("{a} {how} {b}")),
        2 => (column(), prop_oneof![Just("is null"), Just("is not null"), Just("isnull"), Just("notnull")])
            .prop_map(|(a, how)| format!("{a} {how}")),
        1 => (column(), operand(), operand(), any::<bool>()).prop_map(|(a, b, c, not)| {
            format!("{a} {}between {b} and {c}", if not { "not " } else { "" })
        }),
        1 => (column(), proptest::collection::vec(operand(), 1..3), any::<bool>()).prop_map(|(a, list, not)| {
            format!("{a} {}in ({})", if not { "not " } else { "" }, list.join(", "))
        }),
        2 => prop_oneof![Just("true"), Just("false"), Just("1"), Just("0"), Just("2 > 1"), Just("1 = 1")].prop_map(String::from),
        1 => Just("exists (select 1)".to_string()),
    ];
    leaf.prop_recursive(3, 12, 2, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} and {b}")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} or {b}")),
            inner.clone().prop_map(|a| format!("not {a}")),
            inner.clone().prop_map(|a| format!("({a})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

/// Two tables of every pair of some values: with nulls, and without.
fn tables() -> rusqlite::Connection {
    let file = rusqlite::Connection::open_in_memory().expect("opens");
    file.execute_batch(
        "create table v (a); insert into v values (null), (-1), (0), (1), (2), ('x'), ('y'), ('');
         create table with_nulls as select one.a as a, other.a as b from v one, v other;
         create table without as select * from with_nulls where a is not null and b is not null;",
    )
    .expect("made");
    file
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn what_empties_a_table_is_known_and_nothing_else_is_said_to(condition in condition()) {
        let file = tables();
        let empties = |table: &str| {
            let left = format!("select count(*) from {table} t where ({condition}) is not true");
            let left: i64 = file.query_row(&left, [], |row| row.get(0)).expect("counts");
            left == 0
        };
        let statement = format!("delete from t where {condition}");
        let found = summary(&statement, &SQLITE);
        let said = found.sweeps.iter().any(|sweep| matches!(sweep, Sweep::DeleteAll { .. }));
        // Which columns may be null is not known: that an equal column is null somewhere is not said.
        prop_assert!(!said || empties("without"), "said of {}", statement);
    }
}

/// What people write where a condition has to stand, so that all rows go.
#[test]
fn conditions_that_choose_nothing_are_known() {
    let file = tables();
    for condition in [
        "1",
        "1 = 1",
        "true",
        "not false",
        "not 0",
        "a = a or a is null",
        "a is a",
        "a is null or a is not null",
        "a isnull or a notnull",
        "(a is not null) or b = 1 or t.a is null",
        "not (a is null and a is not null)",
        "not a is null or a is null",
        "b = 1 or (2 > 1 and not (1 <> 1))",
        "a in (select a from t) or a is null",
        "exists (select 1)",
        "'x' = 'x'",
        "a = 1 or not (b = 2 and 1 = 0)",
    ] {
        let left = format!(
            "select count(*) from with_nulls t where ({}) is not true",
            condition.replace("from t", "from with_nulls")
        );
        let left: i64 = file.query_row(&left, [], |row| row.get(0)).expect("counts");
        assert_eq!(left, 0, "{condition}");
        let found = summary(&format!("delete from t where {condition}"), &SQLITE);
        assert!(
            matches!(found.sweeps[..], [Sweep::DeleteAll { .. }]),
            "{condition}: {found:?}"
        );
    }
}
