//! Results, orders and figures against the plain way of doing the same with everything in memory.

use idle_tide_core::column::Column;
use idle_tide_core::order::{choose_rows, order_rows};
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Figures, RowBatch, Value, ValueRef};
use proptest::prelude::*;

fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Boolean),
        (-3_i64..3).prop_map(Value::Integer),
        any::<i64>().prop_map(Value::Integer),
        (-3_i32..3).prop_map(|n| Value::Float(f64::from(n) / 2.0)),
        any::<f64>()
            .prop_filter("a number", |f| !f.is_nan())
            .prop_map(Value::Float),
        (-40_i32..40).prop_map(|n| Value::Number(format!("{:.2}", f64::from(n) / 4.0))),
        "[ab\u{0}ü]{0,12}".prop_map(Value::Text),
        proptest::collection::vec(any::<u8>(), 0..12).prop_map(Value::Bytes),
        Just(Value::RawText(vec![0xff, b'a'])),
    ]
}

fn set(rows: &[Vec<Value>], batch_size: usize, memory: u64) -> ResultSet {
    let columns = vec![Column::named("a"), Column::named("b")];
    let mut set = ResultSet::new(columns, Budget::new(memory), memory);
    for part in rows.chunks(batch_size) {
        let mut batch = RowBatch::new();
        for row in part {
            batch.push_row(row.iter().map(Value::as_ref));
        }
        set.append(batch).expect("appended");
    }
    set
}

fn rows() -> impl Strategy<Value = Vec<Vec<Value>>> {
    proptest::collection::vec(proptest::collection::vec(value(), 2..=2), 0..60)
}

proptest! {
    #[test]
    fn every_row_comes_back_from_memory_or_disk(rows in rows(), size in 1_usize..9, memory in 0_u64..2_000) {
        let set = set(&rows, size, memory);
        prop_assert_eq!(set.len(), rows.len() as u64);
        prop_assert!(set.in_memory() <= memory);
        // From the end to the start, so that what is kept at hand is of no help.
        for (at, row) in rows.iter().enumerate().rev() {
            for (column, value) in row.iter().enumerate() {
                prop_assert_eq!(&set.value(at as u64, column).expect("value"), value);
            }
        }
    }

    #[test]
    fn the_order_is_that_of_a_stable_sort(rows in rows(), size in 1_usize..9, down in any::<bool>()) {
        let set = set(&rows, size, 600);
        let mut plain: Vec<u32> = (0..rows.len() as u32).collect();
        plain.sort_by(|x, y| {
            let order = rows[*x as usize][0].as_ref().order(rows[*y as usize][0].as_ref());
            if down { order.reverse() } else { order }
        });
        let ours = order_rows(&set, 0, down, None, &|| false).expect("ordered");
        prop_assert_eq!(ours, plain);
    }

    #[test]
    fn choosing_keeps_the_rows_that_fit(rows in rows(), size in 1_usize..9) {
        let set = set(&rows, size, 600);
        let chosen = choose_rows(&set, None, &|| false, &mut |row| row.get(1).is_null()).expect("chosen");
        let plain: Vec<u32> = (0..rows.len() as u32).filter(|at| rows[*at as usize][1] == Value::Null).collect();
        prop_assert_eq!(chosen, plain);
    }

    #[test]
    fn figures_count_what_is_there(rows in rows()) {
        let mut figures = Figures::default();
        rows.iter().for_each(|row| figures.add(row[0].as_ref()));
        let there: Vec<ValueRef<'_>> = rows.iter().map(|row| row[0].as_ref()).filter(|v| !v.is_null()).collect();
        prop_assert_eq!(figures.rows, rows.len() as u64);
        prop_assert_eq!(figures.nulls, (rows.len() - there.len()) as u64);
        prop_assert_eq!(figures.numbers, there.iter().filter(|v| v.as_number().is_some()).count() as u64);
        let least = there.iter().copied().min_by(|a, b| a.order(*b)).map(ValueRef::to_owned);
        prop_assert_eq!(figures.least.clone(), least);
        let counted: u64 = figures.commonest(usize::MAX).iter().map(|(_, count)| count).sum();
        prop_assert_eq!(counted, there.len() as u64);
        prop_assert!(figures.different().1);
    }

    #[test]
    fn bytes_that_are_no_batch_are_no_batch(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
        if let Some(batch) = RowBatch::from_bytes(&bytes) {
            for row in batch.rows() {
                row.values().count();
            }
        }
    }
}
