//! Rows written as inserts, run by the database: the same rows again, and nothing of them is a statement.

use idle_tide_core::{Column, RowBatch, Value};
use idle_tide_draw::Layout;
use idle_tide_draw::export::{SQL, writer};
use proptest::prelude::*;
use rusqlite::types::Value as Kept;

fn value() -> impl Strategy<Value = Value> {
    let text = prop_oneof![
        Just("'; drop table t; --".to_string()),
        Just("it''s".to_string()),
        Just("a\\'b".to_string()),
        Just("\0".to_string()),
        Just("two\r\nlines;\n".to_string()),
        Just("/* ?1 :p $1 @x */".to_string()),
        any::<String>(),
    ];
    prop_oneof![
        Just(Value::Null),
        any::<i64>().prop_map(Value::Integer),
        prop_oneof![
            any::<f64>(),
            Just(f64::MAX),
            Just(f64::MIN_POSITIVE),
            Just(5e-324),
            Just(-0.0),
            Just(f64::INFINITY),
            Just(f64::NEG_INFINITY)
        ]
        .prop_filter("no number is no value of the database", |number| !number
            .is_nan())
        .prop_map(Value::Float),
        text.prop_map(Value::Text),
        proptest::collection::vec(any::<u8>(), 0..20).prop_map(Value::Bytes),
    ]
}

/// The value as the database keeps it.
fn kept(value: &Value) -> Kept {
    match value {
        Value::Null => Kept::Null,
        Value::Integer(number) => Kept::Integer(*number),
        Value::Float(number) => Kept::Real(*number),
        Value::Text(text) => Kept::Text(text.to_string()),
        Value::Bytes(bytes) => Kept::Blob(bytes.to_vec()),
        other => panic!("{other:?}"),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn the_rows_come_back(
        rows in (1_usize..4).prop_flat_map(|columns| proptest::collection::vec(proptest::collection::vec(value(), columns), 1..30)),
        name in prop_oneof![Just("t".to_string()), Just("a \"b\" c".to_string()), Just("select".to_string()), "[a-z ']{1,9}"],
    ) {
        let mut layout = Layout::of(&SQL);
        // Who asks for a table has it quoted.
        let table = idle_tide_lang::dialect::SQLITE.quote_name(&name);
        layout.set("table", Some(&table)).expect("an option");
        layout.set("dialect", Some("sqlite")).expect("an option");
        let mut out = Vec::new();
        let mut made = writer(layout, &mut out);
        let columns: Vec<String> = (0..rows[0].len()).map(|at| format!("{name}'{at}")).collect();
        made.columns(&columns.iter().map(Column::named).collect::<Vec<_>>()).expect("columns");
        let mut batch = RowBatch::new();
        rows.iter().for_each(|row| batch.push_row(row.iter().map(Value::as_ref)));
        made.rows(&batch).expect("rows");
        made.finish().expect("the end");
        drop(made);
        let sql = String::from_utf8(out).expect("text");

        let file = rusqlite::Connection::open_in_memory().expect("opens");
        let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
        let list: Vec<String> = columns.iter().map(|column| quoted(column)).collect();
        file.execute_batch(&format!("create table {} ({})", quoted(&name), list.join(", "))).expect("made");
        file.execute_batch(&sql).map_err(|error| TestCaseError::fail(format!("{error}: {sql}")))?;
        let mut statement = file.prepare(&format!("select * from {} order by rowid", quoted(&name))).expect("there");
        let mut back = statement.query([]).expect("runs");
        for row in &rows {
            let came = back.next().expect("read").expect("a row");
            for (at, value) in row.iter().enumerate() {
                let (came, wanted): (Kept, Kept) = (came.get(at).expect("a value"), kept(value));
                prop_assert_eq!(came, wanted, "{}", sql);
            }
        }
        prop_assert!(back.next().expect("read").is_none());
    }
}
