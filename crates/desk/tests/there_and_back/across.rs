//! Results as tables of a question: what comes back is what was there, and decimals are equal where they are.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use idle_tide_core::result::ResultSet;
use idle_tide_core::{Column, Value};
use idle_tide_desk::across::{From, Keep, Table, Watch, ask, named};
use proptest::prelude::*;

fn decimal() -> impl Strategy<Value = String> {
    prop_oneof![
        Just("1.5".to_string()),
        Just("1.50".to_string()),
        Just("-0.05".to_string()),
        Just("0.00".to_string()),
        Just("12345678901234567890.12".to_string()),
        Just("12345678901234567890.13".to_string()),
        "[1-9][0-9]{0,3}\\.[0-9]{1,3}",
    ]
}

fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        1 => Just(Value::Null),
        2 => any::<i64>().prop_map(Value::Integer),
        2 => proptest::num::f64::NORMAL.prop_map(Value::Float),
        3 => decimal().prop_map(Value::Number),
        3 => "\\PC{0,9}".prop_map(Value::Text),
        1 => proptest::collection::vec(any::<u8>(), 0..9).prop_map(Value::Bytes),
    ]
}

/// What a question over one result comes to.
fn answer(sql: &str, set: ResultSet) -> Vec<Vec<Value>> {
    let tables = [Table {
        name: "result_1".into(),
        from: From::Result(Arc::new(parking_lot::RwLock::new(set))),
    }];
    let mut keep = Keep::default();
    let watch = Watch {
        stop: &Arc::new(AtomicBool::new(false)),
        tell: &|_| {},
    };
    ask(sql, &named(sql), &tables, &mut keep, &watch)
        .unwrap_or_else(|error| panic!("{sql}: {error}"));
    let mut rows = Vec::new();
    idle_tide_core::order::each_row(&keep.set, None, &|| false, &mut |_, row| {
        rows.push(row.values().map(|value| value.to_owned()).collect());
        true
    })
    .expect("rows");
    rows
}

fn plain(rows: &[Vec<Value>]) -> Vec<Vec<String>> {
    let one = |value: &Value| value.as_ref().plain();
    rows.iter()
        .map(|row| row.iter().map(one).collect())
        .collect()
}

/// A decimal without the zeros at its end.
fn bare(digits: &str) -> &str {
    match digits.contains('.') {
        true => digits.trim_end_matches('0').trim_end_matches('.'),
        false => digits,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn all_columns_come_back(rows in (1_usize..4).prop_flat_map(|columns| proptest::collection::vec(proptest::collection::vec(value(), columns), 1..20))) {
        let columns = (0..rows[0].len()).map(|at| Column::named(format!("c{at}")));
        let set = ResultSet::of_rows(columns.collect(), rows.clone());
        prop_assert_eq!(plain(&answer("select * from result_1 order by rowid", set)), plain(&rows));
    }

    #[test]
    fn decimals_are_equal_where_they_are(list in proptest::collection::vec(decimal(), 1..12)) {
        let columns = vec![Column { declared: Some("numeric".into()), ..Column::named("d") }];
        let rows = list.iter().map(|digits| vec![Value::Number(digits.clone())]).collect();
        let set = ResultSet::of_rows(columns, rows);
        let pairs = list.iter().flat_map(|a| list.iter().filter(move |b| bare(a) == bare(b))).count();
        let came = answer("select count(*) from result_1 a join result_1 b on a.d = b.d", set);
        prop_assert_eq!(plain(&came), vec![vec![pairs.to_string()]]);
    }
}
