//! What is written is read back by readers that others made, and is what it was.

use std::io::Cursor;

use calamine::{Data, Reader, Xlsx};
use idle_tide_core::{Column, RowBatch, ValueRef};
use idle_tide_draw::export::{CSV, HTML, MARKDOWN, PARQUET, RAW, SHEET, SQL, TEXT, writer};
use idle_tide_draw::{Format, Layout};
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;

fn declared(name: &str, declared: &str) -> Column {
    Column {
        declared: Some(declared.into()),
        ..Column::named(name)
    }
}

fn columns() -> Vec<Column> {
    vec![
        declared("n", "bigint"),
        declared("dues", "numeric(6,2)"),
        declared("x", "double"),
        declared("note", "text"),
        declared("day", "date"),
        declared("at", "timestamp"),
        declared("zoned", "timestamptz"),
        declared("raw", "bytea"),
        declared("ok", "boolean"),
        declared("who", "uuid"),
        declared("doc", "json"),
    ]
}

const HARD: &str = "=1+1 | <b>&\"'\\ ; ,\n\ttwo # `c` *x* \u{1f30a} é";

fn rows() -> RowBatch {
    let mut batch = RowBatch::new();
    batch.push_row([
        ValueRef::Integer(-7),
        ValueRef::Number("1240.50"),
        ValueRef::Float(0.1),
        ValueRef::Text(HARD),
        ValueRef::Text("2031-03-01"),
        ValueRef::Text("2031-03-01 12:30:15.250000"),
        ValueRef::Text("2031-03-01 12:30:15+05:30"),
        ValueRef::Bytes(&[0, 255]),
        ValueRef::Boolean(true),
        ValueRef::Text("6f1e7a0c-2f5b-4c53-9f0e-0a1b2c3d4e5f"),
        ValueRef::Text("{\"a\": [1]}"),
    ]);
    batch.push_row([
        ValueRef::Integer(9_007_199_254_740_993),
        ValueRef::Number("-0.05"),
        ValueRef::Float(f64::MAX),
        ValueRef::Text(""),
        ValueRef::Text("1815-06-18"),
        ValueRef::Text("9999-12-31 23:59:59"),
        ValueRef::Text("2031-03-01 00:00:00+00"),
        ValueRef::Bytes(b""),
        ValueRef::Boolean(false),
        ValueRef::Text("00000000-0000-0000-0000-000000000001"),
        ValueRef::Text("[]"),
    ]);
    batch.push_row(std::iter::repeat_n(ValueRef::Null, 11));
    batch
}

fn written(layout: Layout) -> (Vec<u8>, Vec<String>) {
    let mut out = Vec::new();
    let mut made = writer(layout, &mut out);
    made.columns(&columns()).expect("columns");
    made.rows(&rows()).expect("rows");
    made.finish().expect("the end");
    let remarks = made.remarks();
    drop(made);
    (out, remarks)
}

fn of(format: &'static Format) -> Vec<u8> {
    written(Layout::of(format)).0
}

#[test]
fn a_spreadsheet_keeps_what_it_can_and_says_what_stays_text() {
    let (bytes, remarks) = written(Layout::of(&SHEET));
    let mut book: Xlsx<_> = Xlsx::new(Cursor::new(bytes)).expect("a spreadsheet");
    let sheet = book.worksheet_range("rows").expect("the sheet");
    let cell = |row: u32, column: u32| sheet.get_value((row, column)).cloned();
    let text = |text: &str| Some(Data::String(text.into()));
    assert_eq!(cell(0, 3), text("note"));
    assert_eq!(cell(1, 0), Some(Data::Float(-7.0)));
    assert_eq!(cell(1, 1), Some(Data::Float(1240.5)));
    // What would be a formula is a text.
    assert_eq!(cell(1, 3), text(HARD));
    let day = cell(1, 4).expect("a day");
    assert!(
        matches!(&day, Data::DateTime(at) if at.as_f64() == 47_908.0),
        "{day:?}"
    );
    let at = cell(1, 5).expect("a moment");
    let wanted = 47_908.0 + (12.0 * 3600.0 + 30.0 * 60.0 + 15.25) / 86_400.0;
    assert!(
        matches!(&at, Data::DateTime(at) if (at.as_f64() - wanted).abs() < 1e-7),
        "{at:?}"
    );
    assert_eq!(cell(1, 7), text("00ff"));
    assert_eq!(cell(1, 8), Some(Data::Bool(true)));
    // A spreadsheet would round the one and knows no day of the other.
    assert_eq!(cell(2, 0), text("9007199254740993"));
    assert_eq!(cell(2, 4), text("1815-06-18"));
    assert_eq!(cell(2, 1), Some(Data::Float(-0.05)));
    assert!(matches!(cell(3, 1), None | Some(Data::Empty)));
    assert!(
        remarks.iter().any(|words| words.contains("stayed text")),
        "{remarks:?}"
    );
}

#[test]
fn a_text_that_no_cell_holds_is_refused_with_its_place() {
    let mut out = Vec::new();
    let mut made = writer(Layout::of(&SHEET), &mut out);
    made.columns(&[Column::named("note")]).expect("columns");
    let long = "x".repeat(32_768);
    let mut batch = RowBatch::new();
    batch.push_row([ValueRef::Text("short")]);
    batch.push_row([ValueRef::Text(&long)]);
    let refused = made.rows(&batch).expect_err("too long").to_string();
    assert!(refused.starts_with("row 2, note: "), "{refused}");
}

#[test]
fn columns_keep_their_types() {
    let file = SerializedFileReader::new(bytes::Bytes::from(of(&PARQUET))).expect("a file");
    let rows: Vec<_> = file
        .get_row_iter(None)
        .expect("rows")
        .map(|row| row.expect("a row").into_columns())
        .collect();
    let value = |row: usize, name: &str| {
        let mut found = rows[row].iter().filter(|(other, _)| other == name);
        found
            .next()
            .map(|(_, value)| value.clone())
            .expect("a column")
    };
    assert_eq!(value(0, "n"), Field::Long(-7));
    assert_eq!(value(1, "n"), Field::Long(9_007_199_254_740_993));
    assert_eq!(value(0, "dues").to_string(), "1240.50");
    assert_eq!(value(1, "dues").to_string(), "-0.05");
    assert_eq!(value(1, "x"), Field::Double(f64::MAX));
    assert_eq!(value(0, "note"), Field::Str(HARD.into()));
    assert_eq!(value(0, "day"), Field::Date(22_339));
    assert_eq!(value(1, "day"), Field::Date(-56_445));
    assert_eq!(
        value(0, "at"),
        Field::TimestampMicros(1_930_134_615_250_000)
    );
    // Half past twelve where it is five and a half hours later than universal time.
    assert_eq!(
        value(0, "zoned"),
        Field::TimestampMicros(1_930_134_615_000_000 - 19_800_000_000)
    );
    assert!(matches!(value(0, "raw"), Field::Bytes(raw) if raw.data() == [0, 255]));
    assert_eq!(value(1, "ok"), Field::Bool(false));
    assert!(rows[2].iter().all(|(_, value)| *value == Field::Null));
    let schema = file.metadata().file_metadata().schema_descr();
    let logical = |at: usize| format!("{:?}", schema.column(at).logical_type_ref());
    assert!(
        logical(9).contains("Uuid") && logical(10).contains("Json"),
        "{}",
        logical(9)
    );
}

#[test]
fn pages_and_tables_hold_the_text_and_nothing_of_it_is_markup() {
    let page = String::from_utf8(of(&HTML)).expect("UTF-8");
    let read = tl::parse(&page, tl::ParserOptions::default()).expect("HTML");
    let cells: Vec<_> = read.query_selector("td").expect("cells").collect();
    assert_eq!(cells.len(), 33);
    let inner = cells[3]
        .get(read.parser())
        .expect("a cell")
        .inner_text(read.parser());
    let plain = inner
        .replace("&lt;", "<")
        .replace("&gt;", ">")
        .replace("&quot;", "\"")
        .replace("&amp;", "&");
    assert_eq!(plain, HARD);
    assert!(read.query_selector("b").expect("none").next().is_none());

    let table = String::from_utf8(of(&MARKDOWN)).expect("UTF-8");
    let mut texts = vec![String::new()];
    for event in pulldown_cmark::Parser::new_ext(&table, pulldown_cmark::Options::ENABLE_TABLES) {
        use pulldown_cmark::{Event, Tag, TagEnd};
        match event {
            Event::Text(text) => texts.last_mut().expect("one").push_str(&text),
            Event::InlineHtml(tag) => {
                assert_eq!(&*tag, "<br>");
                texts.last_mut().expect("one").push('\n');
            }
            Event::End(TagEnd::TableCell) => texts.push(String::new()),
            Event::Start(Tag::Link { .. } | Tag::Emphasis | Tag::CodeBlock(_)) | Event::Code(_) => {
                panic!("markup in {table}")
            }
            _ => {}
        }
    }
    assert_eq!(texts[11 + 3], HARD.replace('\t', "\u{fffd}"));
}

#[test]
fn one_value_leaves_as_its_bytes() {
    let raw = |rows: &[&[u8]]| {
        let mut out = Vec::new();
        let mut made = writer(Layout::of(&RAW), &mut out);
        made.columns(&[Column::named("picture")]).expect("columns");
        let mut batch = RowBatch::new();
        rows.iter()
            .for_each(|row| batch.push_row([ValueRef::Bytes(row)]));
        let done = made.rows(&batch).and_then(|()| made.finish());
        drop(made);
        done.map(|()| out).map_err(|error| error.to_string())
    };
    assert_eq!(raw(&[&[0, 255, b'\n']]), Ok(vec![0, 255, b'\n']));
    assert!(raw(&[b"a", b"b"]).is_err_and(|words| words.contains("one value")));
    assert!(raw(&[]).is_err());
}

#[test]
fn separators_quotes_nulls_and_encodings_are_as_asked() {
    let mut layout = Layout::of(&CSV);
    for (option, value) in [("separator", ";"), ("null", "\\N"), ("encoding", "utf-16")] {
        layout.set(option, Some(value)).expect("an option");
    }
    let (bytes, _) = written(layout);
    let units: Vec<u16> = bytes
        .chunks_exact(2)
        .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
        .collect();
    let text = String::from_utf16(&units).expect("UTF-16");
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(b';')
        .from_reader(text.trim_start_matches('\u{feff}').as_bytes());
    let rows: Vec<_> = reader.records().map(|row| row.expect("a row")).collect();
    assert_eq!((&rows[0][3], &rows[2][3]), (HARD, "\\N"));

    let mut sql = Layout::of(&SQL);
    let refused = sql.set("separator", Some(";")).expect_err("says nothing");
    assert_eq!(refused, "--separator says nothing to sql; it is for csv.");
    assert!(Layout::of(&CSV).set("separator", Some("ab")).is_err());
}

const MANY: i64 = 45_000;

fn note(n: i64) -> String {
    let quay = "~".repeat(n as usize % 90);
    let end = if n % 3 == 0 { 'é' } else { 'e' };
    format!(
        "berth {} at the far end of the long quay, {quay}{end}",
        n % 977
    )
}

/// Many rows of a number and a text; `late` is what stands in the place of the last number.
fn many(layout: Layout, late: Option<&str>) -> Vec<u8> {
    let columns = [declared("n", "bigint"), declared("note", "text")];
    let mut out = Vec::new();
    let mut made = writer(layout, &mut out);
    made.columns(&columns).expect("columns");
    for first in (0..MANY).step_by(1_000) {
        let mut batch = RowBatch::new();
        for n in first..first + 1_000 {
            let number = match late {
                Some(text) if n + 1 == MANY => ValueRef::Text(text),
                _ => ValueRef::Integer(n),
            };
            batch.push_row([number, ValueRef::Text(&note(n))]);
        }
        made.rows(&batch).expect("rows");
    }
    made.finish().expect("the end");
    drop(made);
    out
}

/// What several threads make of many rows stands in their order, and none of it is missing.
#[test]
fn many_rows_stay_in_their_order() {
    for fits in [None, Some(1_000)] {
        let layout = Layout {
            fits,
            ..Layout::of(&TEXT)
        };
        let text = String::from_utf8(many(layout, None)).expect("text");
        let mut lines = text.lines();
        assert_eq!(lines.next(), Some("    n  note"));
        for n in 0..MANY {
            let line = format!("{n:>5}  {}", note(n));
            assert_eq!(lines.next(), Some(line.as_str()));
        }
        assert_eq!(lines.next(), None);
    }
}

/// The types of a Parquet file are those of all rows, also where the last one says otherwise than those with which it was begun.
#[test]
fn many_rows_are_columns_of_the_type_of_all() {
    for late in [None, Some("x"), Some("9007199254740993")] {
        let made = bytes::Bytes::from(many(Layout::of(&PARQUET), late));
        let file = SerializedFileReader::new(made).expect("reads");
        assert!(file.num_row_groups() > 1, "more than one group");
        let mut count = 0;
        for (at, row) in (0..).zip(file.get_row_iter(None).expect("rows")) {
            let row = row.expect("a row");
            let mut fields = row.get_column_iter().map(|(_, field)| field.clone());
            let number = match late {
                None => Field::Long(at),
                Some(text) if at + 1 == MANY => Field::Str(text.into()),
                Some(_) => Field::Str(at.to_string()),
            };
            assert_eq!(fields.next(), Some(number));
            assert_eq!(fields.next(), Some(Field::Str(note(at))));
            count += 1;
        }
        assert_eq!(count, MANY);
    }
}
