//! Parquet files with columns of every kind, as other programs write them: their types are told, their values read without loss, and what is nested
//! comes as JSON.

use std::fs::File;
use std::sync::Arc;

use idle_tide_intake::{Asked, look, rows, spool};
use parquet::data_type::{
    BoolType, ByteArray, ByteArrayType, DoubleType, FixedLenByteArray, FixedLenByteArrayType,
    FloatType, Int32Type, Int64Type, Int96, Int96Type,
};
use parquet::file::writer::{SerializedColumnWriter, SerializedFileWriter};
use parquet::schema::parser::parse_message_type;

const SCHEMA: &str = "message harbour {
    required boolean dries;
    required int32 small (INTEGER(8, true));
    required int32 unsigned (INTEGER(32, false));
    required int64 large (INTEGER(64, false));
    required int64 id;
    required float draught;
    required double depth;
    required fixed_len_byte_array(2) half (FLOAT16);
    required int32 price (DECIMAL(9, 2));
    required int64 dues (DECIMAL(18, 4));
    required fixed_len_byte_array(16) sum (DECIMAL(38, 6));
    required binary rate (DECIMAL(20, 3));
    required int32 day (DATE);
    required int32 at_millis (TIME(MILLIS, true));
    required int64 at_micros (TIME(MICROS, true));
    required int64 at_nanos (TIME(NANOS, true));
    required int64 millis (TIMESTAMP(MILLIS, true));
    required int64 micros (TIMESTAMP(MICROS, false));
    required int64 nanos (TIMESTAMP(NANOS, true));
    required int64 local_nanos (TIMESTAMP(NANOS, false));
    required int96 old;
    required fixed_len_byte_array(12) stay (INTERVAL);
    required fixed_len_byte_array(16) key (UUID);
    required binary name (STRING);
    required binary kind (ENUM);
    required binary note (JSON);
    required binary photo;
    required group place { required double lat; required binary name (STRING); }
    required group tags (LIST) { repeated group list { required binary element (STRING); } }
    required group crew (MAP) { repeated group key_value { required binary key (STRING); required int32 value; } }
}";

type Fill = Box<dyn FnOnce(&mut SerializedColumnWriter<'_>)>;

macro_rules! column {
    ($of:ty, $value:expr) => {
        Box::new(move |column: &mut SerializedColumnWriter<'_>| {
            let value = $value;
            column
                .typed::<$of>()
                .write_batch(&[value], None, None)
                .expect("written");
        }) as Fill
    };
}

fn repeated_texts(texts: [&'static str; 2]) -> Fill {
    Box::new(move |column| {
        let values = texts.map(ByteArray::from);
        let typed = column.typed::<ByteArrayType>();
        typed
            .write_batch(&values, Some(&[1, 1]), Some(&[0, 1]))
            .expect("written");
    })
}

fn fixed(bytes: &[u8]) -> FixedLenByteArray {
    FixedLenByteArray::from(bytes.to_vec())
}

fn months_days_millis(months: u32, days: u32, millis: u32) -> FixedLenByteArray {
    let parts = [months, days, millis].map(u32::to_le_bytes);
    fixed(&parts.concat())
}

#[test]
#[allow(clippy::too_many_lines)]
fn columns_of_every_kind_are_read_without_loss() {
    let moment = 1_930_108_320_i64;
    let fills: Vec<Fill> = vec![
        column!(BoolType, true),
        column!(Int32Type, -5),
        column!(Int32Type, -1),
        column!(Int64Type, -1),
        column!(Int64Type, i64::MIN),
        column!(FloatType, 2.7_f32),
        column!(DoubleType, 0.1),
        column!(FixedLenByteArrayType, fixed(&[0x00, 0x3e])),
        column!(Int32Type, -12_345),
        column!(Int64Type, 5),
        column!(
            FixedLenByteArrayType,
            fixed(&(-1_234_567_890_123_456_789_i128).to_be_bytes())
        ),
        column!(ByteArrayType, ByteArray::from(vec![0x01, 0x00, 0x05])),
        column!(Int32Type, 22_338),
        column!(Int32Type, 18_720_250),
        column!(Int64Type, 18_720_000_001),
        column!(Int64Type, 18_720_000_001_000),
        column!(Int64Type, moment * 1_000 + 250),
        column!(Int64Type, moment * 1_000_000 + 1),
        column!(Int64Type, moment * 1_000_000_000 + 1_000),
        column!(Int64Type, -1_000_000_000),
        {
            // 2031-03-01 is the Julian day 2462927; nanoseconds of the day before it.
            let mut old = Int96::new();
            let nanos = 18_720_250_001_000_u64;
            old.set_data(nanos as u32, (nanos >> 32) as u32, 2_462_927);
            column!(Int96Type, old)
        },
        column!(FixedLenByteArrayType, months_days_millis(14, 3, 4_005)),
        column!(FixedLenByteArrayType, fixed(&[0x6f; 16])),
        column!(ByteArrayType, ByteArray::from("Heron, \"grey\"")),
        column!(ByteArrayType, ByteArray::from("ketch")),
        column!(ByteArrayType, ByteArray::from("{\"a\": 1}")),
        column!(ByteArrayType, ByteArray::from(vec![0, 255])),
        column!(DoubleType, 54.5),
        column!(ByteArrayType, ByteArray::from("Mole")),
        repeated_texts(["ice", "fog"]),
        repeated_texts(["mate", "cook"]),
        Box::new(|column| {
            let typed = column.typed::<Int32Type>();
            typed
                .write_batch(&[2, 1], Some(&[1, 1]), Some(&[0, 1]))
                .expect("written");
        }),
    ];
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("harbour.parquet");
    let schema = Arc::new(parse_message_type(SCHEMA).expect("a schema"));
    let file = File::create(&path).expect("made");
    let mut writer = SerializedFileWriter::new(file, schema, Arc::default()).expect("begins");
    let mut group = writer.next_row_group().expect("a group");
    for fill in fills {
        let mut column = group.next_column().expect("goes on").expect("a column");
        fill(&mut column);
        column.close().expect("ends");
    }
    assert!(
        group.next_column().expect("goes on").is_none(),
        "every column is filled"
    );
    group.close().expect("ends");
    writer.close().expect("ends");

    let file = spool(&path, &|| false).expect("there");
    let proposal =
        look(&file, &Asked::default(), &|| false).unwrap_or_else(|trouble| panic!("{}", trouble.0));
    let mut found = Vec::new();
    rows(
        file.path(),
        &proposal,
        &mut |batch| {
            for row in batch.rows.rows() {
                found.extend(row.values().map(|value| value.plain()));
            }
            Ok(true)
        },
        &mut |bad, _| panic!("{bad}"),
    )
    .expect("reads");
    let expected = [
        ("dries", "boolean", "true"),
        ("small", "integer", "-5"),
        ("unsigned", "integer", "4294967295"),
        ("large", "decimal(20,0)", "18446744073709551615"),
        ("id", "integer", "-9223372036854775808"),
        ("draught", "float", "2.7"),
        ("depth", "float", "0.1"),
        ("half", "float", "1.5"),
        ("price", "decimal(9,2)", "-123.45"),
        ("dues", "decimal(18,4)", "0.0005"),
        ("sum", "decimal(38,6)", "-1234567890123.456789"),
        ("rate", "decimal(20,3)", "65.541"),
        ("day", "date", "2031-02-28"),
        ("at_millis", "time", "05:12:00.250000"),
        ("at_micros", "time", "05:12:00.000001"),
        ("at_nanos", "time", "05:12:00.000001"),
        ("millis", "timestamptz", "2031-03-01 05:12:00.250000+00:00"),
        ("micros", "timestamp", "2031-03-01 05:12:00.000001"),
        ("nanos", "timestamptz", "2031-03-01 05:12:00.000001+00:00"),
        ("local_nanos", "timestamp", "1969-12-31 23:59:59"),
        ("old", "timestamp", "2031-03-01 05:12:00.250001"),
        ("stay", "text", "P1Y2M3DT4.005S"),
        ("key", "uuid", "6f6f6f6f-6f6f-6f6f-6f6f-6f6f6f6f6f6f"),
        ("name", "text", "Heron, \"grey\""),
        ("kind", "text", "ketch"),
        ("note", "json", "{\"a\": 1}"),
        ("photo", "bytes", "00ff"),
        ("place", "json", "{\"lat\":54.5,\"name\":\"Mole\"}"),
        ("tags", "json", "[\"ice\",\"fog\"]"),
        ("crew", "json", "{\"mate\":2,\"cook\":1}"),
    ];
    let told: Vec<(String, String, String)> = proposal
        .columns
        .iter()
        .zip(found)
        .map(|(column, value)| (column.from.clone(), column.column_type.to_string(), value))
        .collect();
    assert_eq!(told.len(), expected.len());
    let wrong: Vec<_> = told
        .iter()
        .zip(expected)
        .filter(|((name, of, value), expected)| {
            (name.as_str(), of.as_str(), value.as_str()) != *expected
        })
        .collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
}

/// What no database keeps is told with its row, and not cut off: a moment with digits below a millionth of a second.
#[test]
fn nanoseconds_that_would_be_lost_are_refused() {
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("at.parquet");
    let schema = "message t { required int64 at (TIMESTAMP(NANOS, true)); }";
    let schema = Arc::new(parse_message_type(schema).expect("a schema"));
    let file = File::create(&path).expect("made");
    let mut writer = SerializedFileWriter::new(file, schema, Arc::default()).expect("begins");
    let mut group = writer.next_row_group().expect("a group");
    let mut column = group.next_column().expect("goes on").expect("a column");
    let typed = column.typed::<Int64Type>();
    typed
        .write_batch(&[1_000_000_000, 1_000_000_001], None, None)
        .expect("written");
    column.close().expect("ends");
    group.close().expect("ends");
    writer.close().expect("ends");
    let file = spool(&path, &|| false).expect("there");
    let proposal =
        look(&file, &Asked::default(), &|| false).unwrap_or_else(|trouble| panic!("{}", trouble.0));
    let (mut kept, mut refused) = (0, Vec::new());
    rows(
        file.path(),
        &proposal,
        &mut |batch| {
            kept += batch.rows.len();
            Ok(true)
        },
        &mut |bad, _| {
            refused.push(bad.to_string());
            Ok(())
        },
    )
    .expect("reads");
    assert_eq!((kept, refused.len()), (1, 1), "{refused:?}");
    assert!(
        refused[0].contains("1970-01-01 00:00:01.000000001+00:00"),
        "{refused:?}"
    );
}

/// Columns that are read beside the library's records stay with their rows: over several groups, with nulls, with and without other columns.
#[test]
fn old_moments_and_intervals_stay_with_their_rows() {
    for with_number in [false, true] {
        let number = if with_number { "optional int32 n;" } else { "" };
        let schema = format!(
            "message t {{ optional int96 at; {number} optional fixed_len_byte_array(12) stay (INTERVAL); }}"
        );
        let schema = Arc::new(parse_message_type(&schema).expect("a schema"));
        let dir = tempfile::tempdir().expect("a folder");
        let path = dir.path().join("t.parquet");
        let file = File::create(&path).expect("made");
        let mut writer = SerializedFileWriter::new(file, schema, Arc::default()).expect("begins");
        // The first group has a null in the middle, the second one at its beginning.
        for (day, levels) in [(2_440_588, [1, 0, 1]), (2_440_688, [0, 1, 1])] {
            let mut group = writer.next_row_group().expect("a group");
            let mut column = group.next_column().expect("goes on").expect("a column");
            let moment = |day| {
                let mut at = Int96::new();
                at.set_data(1_000, 0, day);
                at
            };
            let typed = column.typed::<Int96Type>();
            typed
                .write_batch(&[moment(day), moment(day + 1)], Some(&levels), None)
                .expect("written");
            column.close().expect("ends");
            if with_number {
                let mut column = group.next_column().expect("goes on").expect("a column");
                let typed = column.typed::<Int32Type>();
                let numbers: Vec<i32> = (0..3).collect();
                typed
                    .write_batch(&numbers, Some(&[1, 1, 1]), None)
                    .expect("written");
                column.close().expect("ends");
            }
            let mut column = group.next_column().expect("goes on").expect("a column");
            let stays = [
                months_days_millis(0, 0, 0),
                months_days_millis(12, 0, 60_000),
            ];
            let typed = column.typed::<FixedLenByteArrayType>();
            typed
                .write_batch(&stays, Some(&levels), None)
                .expect("written");
            column.close().expect("ends");
            group.close().expect("ends");
        }
        writer.close().expect("ends");
        let file = spool(&path, &|| false).expect("there");
        let proposal = look(&file, &Asked::default(), &|| false)
            .unwrap_or_else(|trouble| panic!("{}", trouble.0));
        let mut found = Vec::new();
        let mut keep = |batch: idle_tide_intake::Batch| {
            for row in batch.rows.rows() {
                let values: Vec<_> = row.values().map(|value| value.plain()).collect();
                found.push(values.join(" "));
            }
            Ok(true)
        };
        rows(file.path(), &proposal, &mut keep, &mut |bad, _| {
            panic!("{bad}")
        })
        .expect("reads");
        let number = |n: u32| {
            if with_number {
                format!("{n} ")
            } else {
                String::new()
            }
        };
        let wanted = [
            format!("1970-01-01 00:00:00.000001 {}PT0S", number(0)),
            format!("null {}null", number(1)),
            format!("1970-01-02 00:00:00.000001 {}P1YT60S", number(2)),
            format!("null {}null", number(0)),
            format!("1970-04-11 00:00:00.000001 {}PT0S", number(1)),
            format!("1970-04-12 00:00:00.000001 {}P1YT60S", number(2)),
        ];
        assert_eq!(found, wanted);
    }
}

#[test]
fn intervals_within_others_are_refused_by_their_name() {
    let schema =
        "message t { required group trip { required fixed_len_byte_array(12) stay (INTERVAL); } }";
    let schema = Arc::new(parse_message_type(schema).expect("a schema"));
    let dir = tempfile::tempdir().expect("a folder");
    let path = dir.path().join("t.parquet");
    let file = File::create(&path).expect("made");
    let writer = SerializedFileWriter::new(file, schema, Arc::default()).expect("begins");
    writer.close().expect("ends");
    let file = spool(&path, &|| false).expect("there");
    let told = look(&file, &Asked::default(), &|| false).expect_err("refused");
    assert!(
        told.0.contains("trip holds intervals within it (stay)"),
        "{told}"
    );
}
