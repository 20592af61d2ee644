//! Parquet files: the types of their columns, and their rows as fields. Rows come from the library's own assembly of records, but for columns
//! whose values it does not give as they are, which are read beside it.

use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use idle_tide_core::ValueRef;
use idle_tide_core::column_type::ColumnType;
use idle_tide_core::document::Datum;
use idle_tide_core::document::extended::{self, Form as Json};
use parquet::basic::{ConvertedType, LogicalType, Repetition, TimeUnit, Type as Physical};
use parquet::column::reader::ColumnReader;
use parquet::data_type::Int96;
use parquet::errors::ParquetError;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;
use parquet::schema::types::Type;

use crate::{Fields, Mark, Seen, Take, Trouble};

fn of_parquet(error: ParquetError) -> Trouble {
    Trouble(format!("The file cannot be read as Parquet: {error}."))
}

/// The columns of a Parquet file: names and types.
pub(crate) fn columns_of(path: &Path) -> Result<(Vec<(String, ColumnType)>, u64), Trouble> {
    let reader = SerializedFileReader::new(File::open(path)?).map_err(of_parquet)?;
    let about = reader.metadata().file_metadata();
    let fields = about.schema_descr().root_schema().get_fields();
    for field in fields.iter().filter(|field| field.is_group()) {
        if let Some(inner) = interval_within(field) {
            return Err(Trouble(format!(
                "{} holds intervals within it ({}), which are read only where they are a column of their own.",
                field.name(),
                inner.name()
            )));
        }
    }
    let columns = fields.iter().map(|field| {
        let info = field.get_basic_info();
        let of = match (info.logical_type_ref(), info.converted_type()) {
            _ if field.is_group() => ColumnType::Json,
            (_, ConvertedType::INTERVAL) => ColumnType::Text,
            (Some(LogicalType::Decimal(decimal)), _) => ColumnType::Decimal(
                decimal.precision.unsigned_abs(),
                decimal.scale.unsigned_abs(),
            ),
            (_, ConvertedType::DECIMAL) => ColumnType::Decimal(0, 0),
            (Some(LogicalType::Timestamp(at)), _) if !at.is_adjusted_to_u_t_c => ColumnType::Moment,
            (Some(LogicalType::Timestamp(_)), _)
            | (_, ConvertedType::TIMESTAMP_MILLIS | ConvertedType::TIMESTAMP_MICROS) => {
                ColumnType::ZonedMoment
            }
            (Some(LogicalType::Time(_)), _) => ColumnType::Time,
            (Some(LogicalType::Float16), _) => ColumnType::Float,
            // The largest of them are none of 64 bits with a sign.
            (_, ConvertedType::UINT_64) => ColumnType::Decimal(20, 0),
            (Some(LogicalType::Uuid), _) => ColumnType::Uuid,
            (Some(LogicalType::Json), _) | (_, ConvertedType::JSON) => ColumnType::Json,
            (_, ConvertedType::DATE) => ColumnType::Date,
            (_, ConvertedType::TIME_MILLIS | ConvertedType::TIME_MICROS) => ColumnType::Time,
            (Some(LogicalType::String | LogicalType::Enum), _)
            | (_, ConvertedType::UTF8 | ConvertedType::ENUM) => ColumnType::Text,
            _ => match field.get_physical_type() {
                Physical::BOOLEAN => ColumnType::Boolean,
                Physical::INT32 | Physical::INT64 => ColumnType::Integer,
                Physical::FLOAT | Physical::DOUBLE => ColumnType::Float,
                Physical::INT96 => ColumnType::Moment,
                _ => ColumnType::Bytes,
            },
        };
        (field.name().to_string(), of)
    });
    let rows = u64::try_from(about.num_rows()).unwrap_or(0);
    Ok((columns.collect(), rows))
}

/// Whether values are moments or times in nanoseconds, which the library hands over as plain numbers.
fn in_nanoseconds(column: &Type) -> bool {
    let unit = match column.get_basic_info().logical_type_ref() {
        Some(LogicalType::Timestamp(at)) => &at.unit,
        Some(LogicalType::Time(at)) => &at.unit,
        _ => return false,
    };
    matches!(unit, TimeUnit::NANOS)
}

/// Whether the library's records do not give the values of a column as they are: of moments of the old form, in 96 bits, they lose what is
/// below a millisecond, and intervals they do not know.
fn is_read_beside(column: &Type) -> bool {
    column.is_primitive()
        && column.get_basic_info().repetition() != Repetition::REPEATED
        && (column.get_physical_type() == Physical::INT96 || is_interval(column))
}

fn is_interval(column: &Type) -> bool {
    column.get_basic_info().converted_type() == ConvertedType::INTERVAL
}

/// The first interval within a column that is nested, if there is one.
fn interval_within(column: &Type) -> Option<&Type> {
    match column.is_primitive() {
        true => is_interval(column).then_some(column),
        false => column
            .get_fields()
            .iter()
            .find_map(|inner| interval_within(inner)),
    }
}

/// The values of a column that are read beside the records, as texts; one group of rows is held at a time.
struct Beside<'a> {
    file: &'a SerializedFileReader<File>,
    leaf: usize,
    group: usize,
    values: std::vec::IntoIter<Option<String>>,
}

impl Iterator for Beside<'_> {
    type Item = Result<Option<String>, Trouble>;

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            if let Some(value) = self.values.next() {
                return Some(Ok(value));
            }
            if self.group == self.file.num_row_groups() {
                return None;
            }
            match self.whole_group() {
                Ok(values) => self.values = values.into_iter(),
                Err(error) => return Some(Err(of_parquet(error))),
            }
            self.group += 1;
        }
    }
}

impl Beside<'_> {
    fn whole_group(&self) -> Result<Vec<Option<String>>, ParquetError> {
        let group = self.file.get_row_group(self.group)?;
        let count = usize::try_from(group.metadata().num_rows()).unwrap_or(0);
        let mut levels = Vec::new();
        let texts: Vec<String> = match group.get_column_reader(self.leaf)? {
            ColumnReader::Int96ColumnReader(mut column) => {
                let mut list = Vec::new();
                column.read_records(count, Some(&mut levels), None, &mut list)?;
                list.iter().map(old_moment).collect()
            }
            ColumnReader::FixedLenByteArrayColumnReader(mut column) => {
                let mut list = Vec::new();
                column.read_records(count, Some(&mut levels), None, &mut list)?;
                list.iter().map(|value| interval(value.data())).collect()
            }
            _ => Vec::new(),
        };
        let mut texts = texts.into_iter();
        // Where nothing can be null there are no levels.
        if levels.is_empty() {
            return Ok(texts.map(Some).collect());
        }
        let one = |level: &i16| (*level > 0).then(|| texts.next().unwrap_or_default());
        Ok(levels.iter().map(one).collect())
    }
}

/// A moment of the old form: nanoseconds of a day, and the Julian day.
fn old_moment(at: &Int96) -> String {
    const EPOCH: i128 = 2_440_588;
    let [low, high, day] = [0, 1, 2].map(|part| i128::from(at.data()[part]));
    let nanos = (day - EPOCH) * DAY + (high << 32 | low);
    moment_of(nanos, ColumnType::Moment)
}

/// An interval (months, days and milliseconds, four bytes each) as ISO 8601 writes it.
fn interval(bytes: &[u8]) -> String {
    let part = |at: usize| {
        let four = bytes.get(at..at + 4).and_then(|four| four.try_into().ok());
        four.map_or(0, u32::from_le_bytes)
    };
    let (months, days, millis) = (part(0), part(4), part(8));
    let mut text = String::from("P");
    for (count, unit) in [(months / 12, 'Y'), (months % 12, 'M'), (days, 'D')] {
        if count > 0 {
            text += &format!("{count}{unit}");
        }
    }
    match (millis / 1_000, millis % 1_000) {
        (0, 0) if text.len() > 1 => {}
        (seconds, 0) => text += &format!("T{seconds}S"),
        (seconds, rest) => text += &format!("T{seconds}.{rest:03}S"),
    }
    text
}

/// The rows of a Parquet file one after the other.
pub(crate) fn fields(path: &Path, take: &mut Take<'_>) -> Result<(), Trouble> {
    let (columns, count) = columns_of(path)?;
    let names: Vec<String> = columns.iter().map(|(name, _)| name.clone()).collect();
    let reader = SerializedFileReader::new(File::open(path)?).map_err(of_parquet)?;
    let about = reader.metadata().file_metadata().schema_descr();
    let in_schema = about.root_schema().get_fields();
    let nanoseconds: Vec<bool> = in_schema.iter().map(|of| in_nanoseconds(of)).collect();
    let mut beside: Vec<Option<Beside<'_>>> = Vec::new();
    for (at, column) in in_schema.iter().enumerate() {
        let leaf = (0..about.num_columns()).find(|leaf| about.get_column_root_idx(*leaf) == at);
        let leaf = leaf.filter(|_| is_read_beside(column));
        beside.push(leaf.map(|leaf| Beside {
            file: &reader,
            leaf,
            group: 0,
            values: Vec::new().into_iter(),
        }));
    }
    let others = in_schema
        .iter()
        .zip(&beside)
        .filter(|(_, beside)| beside.is_none());
    let others: Vec<Arc<Type>> = others.map(|(column, _)| Arc::clone(column)).collect();
    let mut rows = match others.len() {
        0 => None,
        all if all == in_schema.len() => Some(reader.get_row_iter(None)),
        _ => {
            let root = Type::group_type_builder(about.root_schema().name()).with_fields(others);
            Some(
                root.build()
                    .and_then(|root| reader.get_row_iter(Some(root))),
            )
        }
    }
    .transpose()
    .map_err(of_parquet)?;
    let mut fields = Fields::default();
    for at in 0..count {
        let row = match &mut rows {
            Some(rows) => match rows.next() {
                Some(row) => Some(row.map_err(of_parquet)?),
                None => break,
            },
            None => None,
        };
        let mut of_row = row.iter().flat_map(|row| row.get_column_iter());
        fields.clear();
        fields.line = at + 1;
        for (((_, of), nanos), beside) in columns.iter().zip(&nanoseconds).zip(&mut beside) {
            match beside {
                Some(beside) => match beside.next().transpose()?.flatten() {
                    Some(text) => fields.push(text.as_bytes(), Mark::Quoted),
                    None => fields.push(&[], Mark::Null),
                },
                None => {
                    if let Some((_, field)) = of_row.next() {
                        one(field, *of, *nanos, &mut fields);
                    }
                }
            }
        }
        drop(of_row);
        if !take(Seen::Row(&fields, &names))? {
            return Ok(());
        }
    }
    Ok(())
}

/// Adds a value of the library's records to a row.
fn one(field: &Field, of: ColumnType, nanos: bool, fields: &mut Fields) {
    match field {
        Field::Null => fields.push(&[], Mark::Null),
        Field::Long(at) if nanos => {
            let text = match of {
                ColumnType::Time => time_of(i128::from(*at)),
                of => moment_of(i128::from(*at), of),
            };
            fields.push(text.as_bytes(), Mark::Quoted);
        }
        // A file may call text what is no UTF-8.
        Field::Bytes(bytes) if of == ColumnType::Uuid && bytes.data().len() == 16 => {
            let hex = ValueRef::Bytes(bytes.data()).plain();
            let parts = [
                &hex[..8],
                &hex[8..12],
                &hex[12..16],
                &hex[16..20],
                &hex[20..],
            ];
            fields.push(parts.join("-").as_bytes(), Mark::Quoted);
        }
        Field::Bytes(bytes) if matches!(of, ColumnType::Text | ColumnType::Json) => {
            fields.push(bytes.data(), Mark::Quoted);
        }
        Field::Str(text) => fields.push(text.as_bytes(), Mark::Quoted),
        field => fields.push(plain(field, of).as_bytes(), Mark::Quoted),
    }
}

/// A value of a Parquet file as a text of its type.
fn plain(field: &Field, of: ColumnType) -> String {
    match field {
        Field::Group(_) | Field::ListInternal(_) | Field::MapInternal(_) => {
            extended::text_of(&datum(field), Json::Relaxed)
        }
        Field::Bytes(bytes) => ValueRef::Bytes(bytes.data()).plain(),
        Field::Double(number) => ValueRef::Float(*number).plain(),
        // The digits that tell it from others of its size.
        Field::Float(number) => number.to_string(),
        Field::Date(days) => day_of(i64::from(*days)).map_or(String::new(), |day| day.to_string()),
        Field::TimeMillis(at) => time_of(i128::from(*at) * 1_000_000),
        Field::TimeMicros(at) => time_of(i128::from(*at) * 1_000),
        Field::TimestampMillis(at) => moment_of(i128::from(*at) * 1_000_000, of),
        Field::TimestampMicros(at) => moment_of(i128::from(*at) * 1_000, of),
        other => other.to_string(),
    }
}

fn day_of(days: i64) -> Option<jiff::civil::Date> {
    let days = jiff::Span::new().try_days(days).ok()?;
    jiff::civil::date(1970, 1, 1).checked_add(days).ok()
}

/// Nanoseconds of a day.
const DAY: i128 = 86_400_000_000_000;

/// A time of day, in nanoseconds since midnight, with as many digits behind the second as it needs.
fn time_of(nanos: i128) -> String {
    let (seconds, fraction) = (nanos / 1_000_000_000, nanos % 1_000_000_000);
    let at = format!(
        "{:02}:{:02}:{:02}",
        seconds / 3_600,
        seconds / 60 % 60,
        seconds % 60
    );
    match (fraction, fraction % 1_000) {
        (0, _) => at,
        (fraction, 0) => format!("{at}.{:06}", fraction / 1_000),
        (fraction, _) => format!("{at}.{fraction:09}"),
    }
}

/// A moment, in nanoseconds since 1970.
fn moment_of(nanos: i128, of: ColumnType) -> String {
    let day = i64::try_from(nanos.div_euclid(DAY)).ok().and_then(day_of);
    let zone = if of == ColumnType::ZonedMoment {
        "+00:00"
    } else {
        ""
    };
    day.map_or(String::new(), |day| {
        format!("{day} {}{zone}", time_of(nanos.rem_euclid(DAY)))
    })
}

/// What is nested in a Parquet file, as a document.
fn datum(field: &Field) -> Datum {
    match field {
        Field::Null => Datum::Null,
        Field::Bool(yes) => Datum::Boolean(*yes),
        Field::Byte(number) => Datum::Int(i32::from(*number)),
        Field::Short(number) => Datum::Int(i32::from(*number)),
        Field::Int(number) => Datum::Int(*number),
        Field::Long(number) => Datum::Long(*number),
        Field::UByte(number) => Datum::Int(i32::from(*number)),
        Field::UShort(number) => Datum::Int(i32::from(*number)),
        Field::UInt(number) => Datum::Long(i64::from(*number)),
        Field::ULong(number) => match i64::try_from(*number) {
            Ok(number) => Datum::Long(number),
            Err(_) => number
                .to_string()
                .parse()
                .map_or(Datum::Null, Datum::Decimal),
        },
        Field::Double(number) => Datum::Double(*number),
        Field::Float(number) => Datum::Double(f64::from(*number)),
        Field::Str(text) => Datum::Text(text.as_str().into()),
        Field::Group(row) => {
            let fields = row
                .get_column_iter()
                .map(|(name, field)| (name.clone(), datum(field)));
            Datum::Object(fields.collect())
        }
        Field::ListInternal(list) => Datum::List(list.elements().iter().map(datum).collect()),
        Field::MapInternal(map) => {
            let pairs = map.entries().iter().map(|(key, value)| {
                let key = match key {
                    Field::Str(text) => text.clone(),
                    other => plain(other, ColumnType::Text),
                };
                (key, datum(value))
            });
            Datum::Object(pairs.collect())
        }
        other => Datum::Text(plain(other, ColumnType::Text).as_str().into()),
    }
}
