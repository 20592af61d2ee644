//! Columns in a Parquet file (the public format, version 2.6 logical types), compressed with Snappy. The types of the columns
//! are found from all their values, so rows are kept, on disk where they are many, until the last one is there. Since the first rows mostly tell,
//! the file is begun with what they say, in a thread of its own; a row that says otherwise makes it begin anew at the end.

use std::borrow::Cow;
use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Seek, Write};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;

use idle_tide_core::batch::Encoded;
use idle_tide_core::column_type::{ColumnType, Evidence, date, date_and_time, time};
use idle_tide_core::{Column, Row, RowBatch, ValueRef, column_labels};
use parquet::basic::{Compression, LogicalType, Repetition, TimeUnit, Type as Physical};
use parquet::column::writer::ColumnWriter;
use parquet::data_type::{ByteArray, FixedLenByteArray};
use parquet::errors::ParquetError;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::{ColumnPath, Type};

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
            begun: None,
            tries: true,
        })
    },
};

/// Encoded bytes of the rows of one group.
const GROUP: usize = 4 * 1024 * 1024;

struct Columnar<'a> {
    out: Option<Box<dyn Write + Send + 'a>>,
    kept: Kept,
    found: Vec<Evidence>,
    /// The file with the types that the rows have had so far.
    begun: Option<Begun>,
    /// Whether no row has said otherwise yet.
    tries: bool,
}

/// A file that is being written by a thread, a group of rows at a time.
struct Begun {
    types: Vec<Stored>,
    group: Vec<Gathered>,
    size: usize,
    groups: Option<SyncSender<Vec<Gathered>>>,
    thread: Option<JoinHandle<io::Result<File>>>,
}

impl Begun {
    /// Begins a file of columns of these names that are of what was found of them.
    fn new(labels: &[String], found: &[Evidence]) -> io::Result<Self> {
        let types = types_of(found);
        let mut fields = Vec::new();
        for (label, of) in labels.iter().zip(&types) {
            fields.push(Arc::new(field(label, *of).map_err(failed)?));
        }
        let schema = Type::group_type_builder("rows")
            .with_fields(fields)
            .build()
            .map_err(failed)?;
        // Few groups wait: memory stays small.
        let (sender, groups) = sync_channel(1);
        let thread = std::thread::spawn(move || write(schema, &groups));
        Ok(Begun {
            group: empty(&types),
            types,
            size: 0,
            groups: Some(sender),
            thread: Some(thread),
        })
    }

    fn rows(&mut self, batch: &RowBatch) -> io::Result<()> {
        self.size += batch.encoded();
        for row in batch.rows() {
            let mut values = row.encoded();
            for column in &mut self.group {
                // A row may be shorter than the others.
                column.take(values.next().unwrap_or(Encoded::Null))?;
            }
        }
        match self.size < GROUP {
            true => Ok(()),
            false => self.hand_over(),
        }
    }

    fn hand_over(&mut self) -> io::Result<()> {
        let group = std::mem::replace(&mut self.group, empty(&self.types));
        self.size = 0;
        let sent = self.groups.as_ref().map(|groups| groups.send(group));
        match sent {
            Some(Ok(())) => Ok(()),
            // The thread ended early: its error says why.
            _ => self.joined().map(drop),
        }
    }

    fn joined(&mut self) -> io::Result<File> {
        self.groups = None;
        let ended = self.thread.take().and_then(|thread| thread.join().ok());
        ended.unwrap_or_else(|| Err(io::Error::other("the thread that writes columns failed")))
    }

    /// The whole file, from its beginning.
    fn end(mut self) -> io::Result<File> {
        if self.size > 0 {
            self.hand_over()?;
        }
        let mut file = self.joined()?;
        file.rewind()?;
        Ok(file)
    }
}

/// How the values of a column are stored: their type, and whether texts are UTF-8.
type Stored = (ColumnType, bool);

fn types_of(found: &[Evidence]) -> Vec<Stored> {
    let one = |evidence: &Evidence| (evidence.column_type(), evidence.not_utf8 == 0);
    found.iter().map(one).collect()
}

fn empty(types: &[Stored]) -> Vec<Gathered> {
    types.iter().map(|(of, _)| Gathered::new(*of)).collect()
}

/// Writes groups of rows to a file without a name.
fn write(schema: Type, groups: &Receiver<Vec<Gathered>>) -> io::Result<File> {
    let mut groups = groups.iter().peekable();
    let mut settings = WriterProperties::builder()
        .set_compression(Compression::SNAPPY)
        .set_created_by("idle-tide".into())
        .set_statistics_enabled(EnabledStatistics::Chunk);
    // A list of the different values is larger than the values where these hardly come again.
    for (column, gathered) in schema
        .get_fields()
        .iter()
        .zip(groups.peek().into_iter().flatten())
    {
        let path = ColumnPath::new(vec![column.name().to_string()]);
        settings = settings.set_column_dictionary_enabled(path, gathered.repeats());
    }
    let settings = settings.build();
    let out = tempfile::tempfile()?;
    let mut file =
        SerializedFileWriter::new(out, Arc::new(schema), Arc::new(settings)).map_err(failed)?;
    for group in groups {
        let mut written = file.next_row_group().map_err(failed)?;
        for column in group {
            let next = written.next_column().map_err(failed)?;
            let Some(mut writer) = next else { break };
            column.write(writer.untyped())?;
            writer.close().map_err(failed)?;
        }
        written.close().map_err(failed)?;
    }
    file.into_inner().map_err(failed)
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
fn field(name: &str, (of, is_utf8): Stored) -> Result<Type, ParquetError> {
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
        ColumnType::Text if !is_utf8 => (Physical::BYTE_ARRAY, None),
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
fn unscaled(text: &str, scale: u32) -> Option<[u8; 16]> {
    let (digits, negative) = match text.strip_prefix('-') {
        Some(digits) => (digits, true),
        None => (text, false),
    };
    let mut number: i128 = 0;
    let mut after = None;
    for byte in digits.bytes() {
        match (byte, after) {
            (b'.', None) => after = Some(0),
            (b'0'..=b'9', _) => {
                after = after.map(|count: u32| count + 1);
                number = number
                    .checked_mul(10)?
                    .checked_add(i128::from(byte - b'0'))?;
            }
            _ => return None,
        }
    }
    let missing = scale.checked_sub(after.unwrap_or(0))?;
    number = number.checked_mul(10_i128.checked_pow(missing)?)?;
    Some(if negative { -number } else { number }.to_be_bytes())
}

fn uuid(text: &str) -> Option<[u8; 16]> {
    let mut number: u128 = 0;
    let mut count = 0;
    for byte in text.bytes().filter(|byte| *byte != b'-') {
        number = number << 4 | u128::from(char::from(byte).to_digit(16)?);
        count += 1;
    }
    (count == 32).then(|| number.to_be_bytes())
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

/// The values of one column of a group of rows, gathered as the rows come, and where there are nulls.
struct Gathered {
    of: ColumnType,
    values: Values,
    levels: Vec<i16>,
}

enum Values {
    Boolean(Vec<bool>),
    Days(Vec<i32>),
    Whole(Vec<i64>),
    Float(Vec<f64>),
    /// Values of sixteen bytes, one after the other.
    Sixteen(Vec<u8>),
    /// Texts or bytes, one after the other, and where each ends.
    Runs(Vec<u8>, Vec<usize>),
}

impl Gathered {
    fn new(of: ColumnType) -> Self {
        let values = match of {
            ColumnType::Boolean => Values::Boolean(Vec::new()),
            ColumnType::Date => Values::Days(Vec::new()),
            ColumnType::Integer
            | ColumnType::Time
            | ColumnType::Moment
            | ColumnType::ZonedMoment => Values::Whole(Vec::new()),
            ColumnType::Float => Values::Float(Vec::new()),
            ColumnType::Decimal(..) | ColumnType::Uuid => Values::Sixteen(Vec::new()),
            ColumnType::Json | ColumnType::Bytes | ColumnType::Text => {
                Values::Runs(Vec::new(), Vec::new())
            }
        };
        Gathered {
            of,
            values,
            levels: Vec::new(),
        }
    }

    fn take(&mut self, value: Encoded<'_>) -> io::Result<()> {
        let is_null = matches!(value, Encoded::Null | Encoded::Missing);
        self.levels.push(i16::from(!is_null));
        match (value, &mut self.values) {
            _ if is_null => return Ok(()),
            // What comes as it lies in the file is not looked at again.
            (Encoded::Text(bytes) | Encoded::Number(bytes), Values::Runs(all, ends)) => {
                all.extend_from_slice(bytes);
                ends.push(all.len());
                return Ok(());
            }
            (Encoded::Float(number), Values::Float(list)) => {
                list.push(number);
                return Ok(());
            }
            _ => {}
        }
        let value = value.read();
        match self.keep(value).is_some() {
            true => Ok(()),
            false => {
                let words = format!("{} is not of its column's type", value.plain());
                Err(io::Error::other(words))
            }
        }
    }

    /// Whether values come again: of the first ones at least every second is one of those before.
    fn repeats(&self) -> bool {
        fn most<T: std::hash::Hash + Eq>(values: impl Iterator<Item = T>) -> bool {
            let (mut count, mut distinct) = (0, HashSet::new());
            for value in values.take(1_000) {
                count += 1;
                distinct.insert(value);
            }
            distinct.len() * 2 <= count
        }
        match &self.values {
            Values::Boolean(_) => false,
            Values::Days(list) => most(list.iter()),
            Values::Whole(list) => most(list.iter()),
            Values::Float(list) => most(list.iter().map(|number| number.to_bits())),
            Values::Sixteen(all) => most(all.chunks(16)),
            Values::Runs(all, ends) => {
                let begins = std::iter::once(&0).chain(ends);
                most(begins.zip(ends).map(|(from, to)| &all[*from..*to]))
            }
        }
    }

    /// Keeps a value that is no null; nothing where it is not of the type.
    fn keep(&mut self, value: ValueRef<'_>) -> Option<()> {
        let text = match (value, &self.values) {
            (ValueRef::Text(text) | ValueRef::Number(text), _) => Cow::Borrowed(text),
            // These are kept as they stand.
            (_, Values::Runs(..) | Values::Float(_)) => Cow::Borrowed(""),
            (ValueRef::Integer(_), Values::Whole(_)) => Cow::Borrowed(""),
            (other, _) => Cow::Owned(other.plain()),
        };
        match (&mut self.values, self.of) {
            (Values::Boolean(list), _) => list.push(match value {
                ValueRef::Boolean(yes) => yes,
                _ => text.parse().ok()?,
            }),
            (Values::Days(list), _) => list.push(since_epoch(date(&text)?)?),
            (Values::Whole(list), of) => list.push(match (of, value) {
                (ColumnType::Integer, ValueRef::Integer(number)) => number,
                (ColumnType::Integer, _) => text.parse().ok()?,
                (ColumnType::Time, _) => since_midnight(time(&text)?),
                _ => micros(&text)?,
            }),
            (Values::Float(list), _) => list.push(value.as_number()?),
            (Values::Sixteen(list), ColumnType::Decimal(_, scale)) => {
                list.extend_from_slice(&unscaled(&text, scale)?);
            }
            (Values::Sixteen(list), _) => list.extend_from_slice(&uuid(&text)?),
            (Values::Runs(all, ends), _) => {
                match value {
                    ValueRef::Bytes(bytes) | ValueRef::RawText(bytes) => {
                        all.extend_from_slice(bytes);
                    }
                    other => other.write_plain(all),
                }
                ends.push(all.len());
            }
        }
        Some(())
    }

    fn write(self, writer: &mut ColumnWriter<'_>) -> io::Result<()> {
        let levels = Some(self.levels.as_slice());
        let written = match (writer, self.values) {
            (ColumnWriter::BoolColumnWriter(w), Values::Boolean(list)) => {
                w.write_batch(&list, levels, None)
            }
            (ColumnWriter::Int32ColumnWriter(w), Values::Days(list)) => {
                w.write_batch(&list, levels, None)
            }
            (ColumnWriter::Int64ColumnWriter(w), Values::Whole(list)) => {
                w.write_batch(&list, levels, None)
            }
            (ColumnWriter::DoubleColumnWriter(w), Values::Float(list)) => {
                w.write_batch(&list, levels, None)
            }
            (ColumnWriter::FixedLenByteArrayColumnWriter(w), Values::Sixteen(list)) => {
                let all = bytes::Bytes::from(list);
                let places = (0..all.len()).step_by(16);
                let parts = places.map(|at| ByteArray::from(all.slice(at..at + 16)).into());
                let parts: Vec<FixedLenByteArray> = parts.collect();
                w.write_batch(&parts, levels, None)
            }
            (ColumnWriter::ByteArrayColumnWriter(w), Values::Runs(all, ends)) => {
                let all = bytes::Bytes::from(all);
                let mut from = 0;
                let parts = ends.into_iter().map(|end| {
                    let value = all.slice(from..end);
                    from = end;
                    ByteArray::from(value)
                });
                let parts: Vec<ByteArray> = parts.collect();
                w.write_batch(&parts, levels, None)
            }
            _ => return Err(io::Error::other("a column has a type that is not written")),
        };
        written.map(drop).map_err(failed)
    }
}

impl RowWriter for Columnar<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.kept.columns(columns);
        self.found.resize(columns.len(), Evidence::default());
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        self.kept.see(row, &mut self.found);
        match self.kept.push(row) {
            Some(batch) => self.full(batch),
            None => Ok(()),
        }
    }

    fn finish(&mut self) -> io::Result<()> {
        let Some(mut out) = self.out.take() else {
            return Ok(());
        };
        let last = std::mem::take(&mut self.kept.batch);
        self.full(last)?;
        let begun = match self.begun.take() {
            Some(begun) => begun,
            None => self.begin()?,
        };
        io::copy(&mut begun.end()?, &mut out)?;
        out.flush()
    }
}

impl Columnar<'_> {
    /// A batch is full: its rows go to the file that is begun, if they are of its types, and are kept.
    fn full(&mut self, batch: RowBatch) -> io::Result<()> {
        let others = |begun: &Begun| begun.types != types_of(&self.found);
        if self.begun.as_ref().is_some_and(others) {
            (self.begun, self.tries) = (None, false);
        }
        if let Some(begun) = &mut self.begun {
            begun.rows(&batch)?;
        }
        self.kept.rows.append(batch)?;
        if self.begun.is_none() && self.tries && self.kept.rows.in_memory() >= GROUP as u64 {
            self.begun = Some(self.begin()?);
        }
        Ok(())
    }

    /// Begins the file with all rows that are kept.
    fn begin(&self) -> io::Result<Begun> {
        let rows = &self.kept.rows;
        let mut begun = Begun::new(&column_labels(rows.columns()), &self.found)?;
        for at in 0..rows.batches() {
            begun.rows(&rows.batch(at)?.1)?;
        }
        Ok(begun)
    }
}
