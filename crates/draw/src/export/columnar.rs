//! Columns in a Parquet file (the public format, version 2.6 logical types), compressed with Snappy. The types of the columns
//! are found from all their values, so rows are kept, on disk where they are many, until the last one is there.

use std::io::{self, Write};
use std::sync::Arc;

use idle_tide_core::column_type::{ColumnType, Evidence, date, date_and_time, time};
use idle_tide_core::{Column, Row, RowBatch, ValueRef, column_labels};
use parquet::basic::{Compression, LogicalType, Repetition, TimeUnit, Type as Physical};
use parquet::column::writer::ColumnWriter;
use parquet::data_type::{ByteArray, FixedLenByteArray};
use parquet::errors::ParquetError;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;

use super::{Format, Kept, RowWriter};

/// A Parquet file.
pub static PARQUET: Format = Format {
    name: "parquet",
    label: "Parquet",
    endings: &[],
    for_people: false,
    nested: false,
    binary: true,
    options: &[],
    make: |_, out| {
        Box::new(Columnar {
            out: Some(out),
            kept: Kept::new(),
            found: Vec::new(),
        })
    },
};

/// Encoded bytes of the rows of one group.
const GROUP: usize = 4 * 1024 * 1024;

struct Columnar<'a> {
    out: Option<Box<dyn Write + Send + 'a>>,
    kept: Kept,
    found: Vec<Evidence>,
}

fn failed(error: ParquetError) -> io::Error {
    match error {
        ParquetError::External(inner) => match inner.downcast::<io::Error>() {
            Ok(error) => *error,
            Err(other) => io::Error::other(other),
        },
        other => io::Error::other(other),
    }
}

/// How a column lies in the file.
fn field(name: &str, of: ColumnType, evidence: &Evidence) -> Result<Type, ParquetError> {
    let micros = TimeUnit::MICROS;
    let (physical, logical) = match of {
        ColumnType::Boolean => (Physical::BOOLEAN, None),
        ColumnType::Integer => (Physical::INT64, Some(LogicalType::integer(64, true))),
        ColumnType::Float => (Physical::DOUBLE, None),
        ColumnType::Decimal(..) => (Physical::FIXED_LEN_BYTE_ARRAY, Some(decimal(of))),
        ColumnType::Date => (Physical::INT32, Some(LogicalType::Date)),
        ColumnType::Time => (Physical::INT64, Some(LogicalType::time(false, micros))),
        ColumnType::Moment => (Physical::INT64, Some(LogicalType::timestamp(false, micros))),
        ColumnType::ZonedMoment => (Physical::INT64, Some(LogicalType::timestamp(true, micros))),
        ColumnType::Uuid => (Physical::FIXED_LEN_BYTE_ARRAY, Some(LogicalType::Uuid)),
        ColumnType::Json => (Physical::BYTE_ARRAY, Some(LogicalType::Json)),
        ColumnType::Bytes => (Physical::BYTE_ARRAY, None),
        // What is no UTF-8 must not be called text.
        ColumnType::Text if evidence.not_utf8 > 0 => (Physical::BYTE_ARRAY, None),
        ColumnType::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
    };
    let mut made = Type::primitive_type_builder(name, physical)
        .with_repetition(Repetition::OPTIONAL)
        .with_logical_type(logical);
    if physical == Physical::FIXED_LEN_BYTE_ARRAY {
        made = made.with_length(16);
    }
    if let ColumnType::Decimal(digits, scale) = of {
        let number = |size: u32| i32::try_from(size).unwrap_or(i32::MAX);
        made = made
            .with_precision(number(digits))
            .with_scale(number(scale));
    }
    made.build()
}

fn decimal(of: ColumnType) -> LogicalType {
    let (digits, scale) = match of {
        ColumnType::Decimal(digits, scale) => (digits, scale),
        _ => (1, 0),
    };
    let number = |size: u32| i32::try_from(size).unwrap_or(i32::MAX);
    LogicalType::decimal(number(scale), number(digits))
}

/// A decimal as its digits without the point, in 16 bytes, the largest first.
fn unscaled(text: &str, scale: u32) -> Option<FixedLenByteArray> {
    let (before, after) = text.split_once('.').unwrap_or((text, ""));
    let digits = format!("{before}{after:0<width$}", width = scale as usize);
    let number: i128 = digits.parse().ok()?;
    Some(ByteArray::from(number.to_be_bytes().to_vec()).into())
}

fn uuid(text: &str) -> Option<FixedLenByteArray> {
    let hex: String = text.chars().filter(|c| *c != '-').collect();
    let number = u128::from_str_radix(&hex, 16).ok()?;
    Some(ByteArray::from(number.to_be_bytes().to_vec()).into())
}

/// Microseconds since midnight.
fn since_midnight(at: jiff::civil::Time) -> i64 {
    let seconds =
        (i64::from(at.hour()) * 60 + i64::from(at.minute())) * 60 + i64::from(at.second());
    seconds * 1_000_000 + i64::from(at.subsec_nanosecond()) / 1_000
}

/// Days since 1970-01-01.
fn since_epoch(day: jiff::civil::Date) -> Option<i32> {
    let epoch = jiff::civil::date(1970, 1, 1);
    epoch.until(day).ok().map(|span| span.get_days())
}

/// Microseconds since 1970-01-01, by the clock that is meant or, with an offset, by universal time.
fn micros(text: &str) -> Option<i64> {
    let (at, offset) = date_and_time(text)?;
    let days = i64::from(since_epoch(at.date())?);
    let by_clock = days * 86_400_000_000 + since_midnight(at.time());
    Some(by_clock - i64::from(offset.unwrap_or(0)) * 1_000_000)
}

/// The texts and bytes of a column of some batches, as parts of one run of bytes, and where they are.
fn texts(batches: &[Arc<RowBatch>], column: usize) -> (Vec<ByteArray>, Vec<i16>) {
    let (mut all, mut ends, mut levels) = (Vec::new(), Vec::new(), Vec::new());
    for row in batches.iter().flat_map(|batch| batch.rows()) {
        let value = row.get(column);
        levels.push(i16::from(!value.is_null()));
        match value {
            value if value.is_null() => continue,
            ValueRef::Bytes(bytes) | ValueRef::RawText(bytes) => all.extend_from_slice(bytes),
            ValueRef::Text(text) => all.extend_from_slice(text.as_bytes()),
            other => other.write_plain(&mut all),
        }
        ends.push(all.len());
    }
    let all = bytes::Bytes::from(all);
    let mut from = 0;
    let values = ends.into_iter().map(|end| {
        let value = all.slice(from..end);
        from = end;
        ByteArray::from(value)
    });
    (values.collect(), levels)
}

/// The values of a column of some batches that `take` keeps, and where they are.
fn collect<T>(
    batches: &[Arc<RowBatch>],
    column: usize,
    take: impl Fn(ValueRef<'_>) -> Option<T>,
) -> io::Result<(Vec<T>, Vec<i16>)> {
    let (mut values, mut levels) = (Vec::new(), Vec::new());
    for batch in batches {
        for row in batch.rows() {
            let value = row.get(column);
            if value.is_null() {
                levels.push(0);
                continue;
            }
            let Some(value) = take(value) else {
                let words = format!("{} is not of its column's type", value.plain());
                return Err(io::Error::other(words));
            };
            values.push(value);
            levels.push(1);
        }
    }
    Ok((values, levels))
}

fn write_column(
    writer: &mut ColumnWriter<'_>,
    of: ColumnType,
    batches: &[Arc<RowBatch>],
    column: usize,
) -> io::Result<()> {
    macro_rules! write {
        ($writer:expr, $take:expr) => {{
            let (values, levels) = collect(batches, column, $take)?;
            $writer
                .write_batch(&values, Some(&levels), None)
                .map_err(failed)?;
        }};
    }
    let plain = |value: ValueRef<'_>| value.plain();
    match (writer, of) {
        (ColumnWriter::BoolColumnWriter(w), _) => {
            write!(w, |value| match value {
                ValueRef::Boolean(yes) => Some(yes),
                other => other.plain().parse().ok(),
            });
        }
        (ColumnWriter::Int32ColumnWriter(w), _) => {
            write!(w, |value| since_epoch(date(&plain(value))?))
        }
        (ColumnWriter::Int64ColumnWriter(w), ColumnType::Integer) => {
            write!(w, |value| match value {
                ValueRef::Integer(number) => Some(number),
                other => other.plain().parse().ok(),
            });
        }
        (ColumnWriter::Int64ColumnWriter(w), ColumnType::Time) => {
            write!(w, |value| time(&plain(value)).map(since_midnight));
        }
        (ColumnWriter::Int64ColumnWriter(w), _) => write!(w, |value| micros(&plain(value))),
        (ColumnWriter::DoubleColumnWriter(w), _) => write!(w, |value| value.as_number()),
        (ColumnWriter::FixedLenByteArrayColumnWriter(w), ColumnType::Decimal(_, scale)) => {
            write!(w, |value| unscaled(&plain(value), scale));
        }
        (ColumnWriter::FixedLenByteArrayColumnWriter(w), _) => {
            write!(w, |value| uuid(&plain(value)));
        }
        (ColumnWriter::ByteArrayColumnWriter(w), _) => {
            let (values, levels) = texts(batches, column);
            w.write_batch(&values, Some(&levels), None)
                .map_err(failed)?;
        }
        _ => return Err(io::Error::other("a column has a type that is not written")),
    }
    Ok(())
}

impl RowWriter for Columnar<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.kept.columns(columns);
        self.found.resize(columns.len(), Evidence::default());
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        self.kept.see(row, &mut self.found)
    }

    fn finish(&mut self) -> io::Result<()> {
        let Some(out) = self.out.take() else {
            return Ok(());
        };
        let rows = self.kept.whole()?;
        let types: Vec<_> = self.found.iter().map(Evidence::column_type).collect();
        let labels = column_labels(rows.columns());
        let mut fields = Vec::new();
        for ((label, of), evidence) in labels.iter().zip(&types).zip(&self.found) {
            fields.push(Arc::new(field(label, *of, evidence).map_err(failed)?));
        }
        let schema = Type::group_type_builder("rows")
            .with_fields(fields)
            .build()
            .map_err(failed)?;
        let settings = WriterProperties::builder()
            .set_compression(Compression::SNAPPY)
            .set_created_by("idle-tide".into())
            .set_statistics_enabled(EnabledStatistics::Chunk)
            .build();
        let mut file =
            SerializedFileWriter::new(out, Arc::new(schema), Arc::new(settings)).map_err(failed)?;
        let mut group: Vec<Arc<RowBatch>> = Vec::new();
        for at in 0..rows.batches() {
            group.push(rows.batch(at)?.1);
            let size: usize = group.iter().map(|batch| batch.encoded()).sum();
            if size < GROUP && at + 1 < rows.batches() {
                continue;
            }
            let mut written = file.next_row_group().map_err(failed)?;
            for (column, of) in types.iter().enumerate() {
                let next = written.next_column().map_err(failed)?;
                let Some(mut writer) = next else { break };
                write_column(writer.untyped(), *of, &group, column)?;
                writer.close().map_err(failed)?;
            }
            written.close().map_err(failed)?;
            group.clear();
        }
        file.finish().map_err(failed)?;
        file.inner_mut().flush()
    }
}
