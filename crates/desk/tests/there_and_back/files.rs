//! What is exported and loaded again is what it was: the program's own writers and readers against each other, over values
//! that look like others.

use idle_tide_core::{Column, RowBatch, ValueRef};
use idle_tide_draw::export::{FORMATS, writer};
use idle_tide_draw::{Format, Layout};
use idle_tide_intake::{Asked, look, rows, spool};
use proptest::prelude::*;

/// Texts that a reader may take for something else than they are.
const TEXTS: [&str; 42] = [
    "007",
    "00",
    "1E400",
    "+5",
    "-5",
    "-0",
    " 5",
    "5 ",
    "1.0",
    "0.10",
    ".5",
    "5.",
    "1_000",
    "0x1F",
    "NaN",
    "inf",
    "-Infinity",
    "true",
    "T",
    "no",
    "NULL",
    "null",
    "\\N",
    "12:30",
    "2031-03-01",
    "2031-02-30",
    "2031-03-01 12:30:15",
    "2031-03-01T12:30:15Z",
    "99999999999999999999",
    "9223372036854775808",
    "0.1234567890123456789012345678901234567890",
    "6f1e7a0c-2f5b-4c53-9f0e-0a1b2c3d4e5f",
    "{\"a\": 1}",
    "[1, 2]",
    "a,b",
    "a;b",
    "a\tb",
    "say \"so\"",
    "two\nlines",
    "\r\nends\r\n",
    "'",
    "港 🚢",
];

fn any_column(rows: usize) -> impl Strategy<Value = Vec<Option<String>>> {
    // Columns mostly hold values of one or two looks, and nulls.
    let looks = (0..TEXTS.len(), 0..TEXTS.len());
    (
        looks,
        proptest::collection::vec((0_u8..10, any::<bool>()), rows),
    )
        .prop_map(|((one, other), picks)| {
            let pick = |(null, first): (u8, bool)| {
                let text = if first { one } else { other };
                (null > 0).then(|| TEXTS[text].to_string())
            };
            picks.into_iter().map(pick).collect()
        })
}

fn any_table() -> impl Strategy<Value = Vec<Vec<Option<String>>>> {
    // A null alone in its line is written like an empty text: an empty line would be none.
    (1_usize..12, 2_usize..5)
        .prop_flat_map(|(rows, columns)| proptest::collection::vec(any_column(rows), columns))
}

/// Writes a table of texts and reads it as `/load` does: the values as texts, and what did not fit.
fn there_and_back(
    format: &'static Format,
    table: &[Vec<Option<String>>],
) -> (Vec<Vec<Option<String>>>, Vec<String>) {
    let mut out = Vec::new();
    let mut made = writer(Layout::of(format), &mut out);
    let names = (0..table.len()).map(|at| Column {
        declared: Some("text".into()),
        ..Column::named(format!("column {at}"))
    });
    made.columns(&names.collect::<Vec<_>>()).expect("columns");
    let mut batch = RowBatch::new();
    for row in 0..table[0].len() {
        batch.push_row(table.iter().map(|column| match &column[row] {
            Some(text) => ValueRef::Text(text),
            None => ValueRef::Null,
        }));
    }
    made.rows(&batch).expect("rows");
    made.finish().expect("the end");
    drop(made);
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join(format!("out.{}", format.name));
    std::fs::write(&path, out).expect("written");

    let file = spool(&path, &|| false).expect("there");
    let proposal = look(&file, &Asked::default(), &|| false).expect("read");
    let mut back = vec![Vec::new(); table.len()];
    let mut bad = Vec::new();
    rows(
        file.path(),
        &proposal,
        &mut |batch| {
            for row in batch.rows.rows() {
                for (column, value) in back.iter_mut().zip(row.values()) {
                    column.push((!value.is_null()).then(|| value.plain()));
                }
            }
            Ok(true)
        },
        &mut |why, _| {
            bad.push(why.to_string());
            Ok(())
        },
    )
    .expect("rows");
    (back, bad)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    /// Nothing is refused, no null becomes a text or a text a null, and no value is another one.
    #[test]
    fn a_table_of_texts_comes_back_as_it_was(table in any_table()) {
        for name in ["csv", "tsv", "json", "jsonl", "parquet"] {
            let format = FORMATS.iter().find(|format| format.name == name).expect("a format");
            let (back, bad) = there_and_back(format, &table);
            prop_assert!(bad.is_empty(), "{name}: {bad:?}");
            prop_assert_eq!(&back, &table, "{}", name);
        }
    }
}
