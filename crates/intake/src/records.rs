//! The rows of a file of any kind, as fields and as values of the types that were agreed on.

use std::collections::HashMap;
use std::io;
use std::path::Path;

use idle_tide_core::column_type::ColumnType;
use idle_tide_core::document::bson;
use idle_tide_core::document::extended::{self, Form as Json};
use idle_tide_core::document::{Datum, Document};
use idle_tide_core::{RowBatch, ValueRef};
use idle_tide_dock::files::{self, Trouble as Broken};
use parquet::basic::{ConvertedType, LogicalType, TimeUnit, Type as Physical};
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;

use crate::convert::put;
use crate::file::{Kind, text_of};
use crate::plan::{ColumnPlan, Proposal, Shape};
use crate::separated::{Came, Separated, shortened};
use crate::{Bad, Fields, Mark, Trouble};

/// What a file gives.
pub(crate) enum Seen<'a> {
    /// A row; of documents with the names of its fields so far.
    Row(&'a Fields, &'a [String]),
    /// What is none.
    Bad(Bad),
}

/// Takes what a file gives, and answers whether it wants more.
pub(crate) type Take<'a> = dyn FnMut(Seen<'_>) -> Result<bool, Trouble> + 'a;

/// The rows of a file one after the other, the header left out; `names` are the columns that are known.
pub(crate) fn fields(
    path: &Path,
    shape: &Shape,
    names: &[String],
    take: &mut Take<'_>,
) -> Result<(), Trouble> {
    match shape.kind {
        Kind::Separated => separated(path, shape, names, take),
        Kind::Documents => of_documents(path, names, take),
        Kind::Columnar => of_columns(path, take),
    }
}

fn separated(
    path: &Path,
    shape: &Shape,
    names: &[String],
    take: &mut Take<'_>,
) -> Result<(), Trouble> {
    let mut reader = Separated::new(text_of(path, shape.encoding)?, shape.separator);
    if !shape.quotes {
        reader = reader.without_quotes();
    }
    let mut fields = Fields::default();
    let mut skip = shape.skip + u64::from(shape.header);
    loop {
        let seen = match reader.next(&mut fields)? {
            Came::End => return Ok(()),
            _ if skip > 0 => {
                skip -= 1;
                continue;
            }
            Came::Row => Seen::Row(&fields, names),
            Came::Bad(bad) => Seen::Bad(bad),
        };
        if !take(seen)? {
            return Ok(());
        }
    }
}

/// The documents of a file, and what is broken in it with its place.
///
/// # Errors
/// Those of the file, and of whoever takes them.
pub fn documents(
    path: &Path,
    take: &mut dyn FnMut(Document) -> Result<bool, Trouble>,
    broken: &mut dyn FnMut(Bad),
) -> Result<(), Trouble> {
    let mut tell = |problem: files::Broken| {
        let why = match problem.line {
            0 => format!("at byte {}: {}", problem.column, problem.message),
            _ => format!("{}, at sign {}", problem.message, problem.column),
        };
        broken(Bad::row(problem.line.max(1), why));
    };
    match files::read(path, take, Some(&mut tell)) {
        Ok(()) => Ok(()),
        Err(Broken::Io(error)) => Err(error.into()),
        Err(Broken::Taker(trouble)) => Err(trouble),
        Err(Broken::Broken(problem)) => Err(Trouble(format!("The file is broken: {problem}."))),
    }
}

fn of_documents(path: &Path, known: &[String], take: &mut Take<'_>) -> Result<(), Trouble> {
    let mut names: Vec<String> = known.to_vec();
    let places = names
        .iter()
        .cloned()
        .enumerate()
        .map(|(at, name)| (name, at));
    let mut places: HashMap<String, usize> = places.collect();
    let mut fields = Fields::default();
    let mut cells: Vec<Option<(Vec<u8>, Mark)>> = Vec::new();
    let mut row = 0;
    let mut bad = Vec::new();
    let read = documents(
        path,
        &mut |document| {
            row += 1;
            cells.clear();
            cells.resize(names.len(), None);
            let bytes = bson::encode(&document);
            for element in bson::elements(&bytes) {
                let name = String::from_utf8_lossy(element.name);
                let at = match places.get(&*name) {
                    Some(at) => *at,
                    None => {
                        names.push(name.to_string());
                        places.insert(name.to_string(), names.len() - 1);
                        cells.push(None);
                        names.len() - 1
                    }
                };
                let value = ValueRef::of_element(&element);
                let mark = match value {
                    ValueRef::Null => Mark::Null,
                    ValueRef::Text(_) => Mark::Text,
                    _ if element.tag == bson::ID => Mark::Text,
                    _ => Mark::Plain,
                };
                let mut plain = Vec::new();
                value.write_plain(&mut plain);
                if cells[at].replace((plain, mark)).is_some() {
                    // A table would keep one of the two.
                    let why = "is a field that the document has twice".into();
                    return take(Seen::Bad(Bad {
                        column: Some(name.into_owned()),
                        ..Bad::row(row, why)
                    }));
                }
            }
            fields.clear();
            fields.line = row;
            for cell in &cells {
                match cell {
                    Some((plain, mark)) => fields.push(plain, *mark),
                    None => fields.push(&[], Mark::Missing),
                }
            }
            take(Seen::Row(&fields, &names))
        },
        &mut |broken| bad.push(broken),
    );
    bad.into_iter()
        .try_for_each(|bad| take(Seen::Bad(bad)).map(drop))?;
    read
}

fn of_parquet(error: parquet::errors::ParquetError) -> Trouble {
    Trouble(format!("The file cannot be read as Parquet: {error}."))
}

/// The columns of a Parquet file: names and types.
pub(crate) fn columns_of(path: &Path) -> Result<(Vec<(String, ColumnType)>, u64), Trouble> {
    let reader = SerializedFileReader::new(std::fs::File::open(path)?).map_err(of_parquet)?;
    let about = reader.metadata().file_metadata();
    let fields = about.schema_descr().root_schema().get_fields();
    let columns = fields.iter().map(|field| {
        let info = field.get_basic_info();
        let of = match (info.logical_type_ref(), info.converted_type()) {
            _ if field.is_group() => ColumnType::Json,
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
fn in_nanoseconds(column: &parquet::schema::types::Type) -> bool {
    let unit = match column.get_basic_info().logical_type_ref() {
        Some(LogicalType::Timestamp(at)) => &at.unit,
        Some(LogicalType::Time(at)) => &at.unit,
        _ => return false,
    };
    matches!(unit, TimeUnit::NANOS)
}

fn of_columns(path: &Path, take: &mut Take<'_>) -> Result<(), Trouble> {
    let (columns, _) = columns_of(path)?;
    let names: Vec<String> = columns.iter().map(|(name, _)| name.clone()).collect();
    let reader = SerializedFileReader::new(std::fs::File::open(path)?).map_err(of_parquet)?;
    let about = reader.metadata().file_metadata().schema_descr();
    let in_schema = about.root_schema().get_fields().iter();
    let nanoseconds: Vec<bool> = in_schema.map(|column| in_nanoseconds(column)).collect();
    let mut fields = Fields::default();
    for (at, row) in reader.get_row_iter(None).map_err(of_parquet)?.enumerate() {
        let row = row.map_err(of_parquet)?;
        fields.clear();
        fields.line = at as u64 + 1;
        for (((_, field), (_, of)), nanos) in row.get_column_iter().zip(&columns).zip(&nanoseconds)
        {
            match field {
                Field::Null => fields.push(&[], Mark::Null),
                Field::Long(at) if *nanos => {
                    let text = match of {
                        ColumnType::Time => time_of(i128::from(*at)),
                        of => moment_of(i128::from(*at), *of),
                    };
                    fields.push(text.as_bytes(), Mark::Quoted);
                }
                // A file may call text what is no UTF-8.
                Field::Bytes(bytes) if *of == ColumnType::Uuid && bytes.data().len() == 16 => {
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
                field => {
                    fields.push(plain(field, *of).as_bytes(), Mark::Quoted);
                }
            }
        }
        if !take(Seen::Row(&fields, &names))? {
            return Ok(());
        }
    }
    Ok(())
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
    const DAY: i128 = 86_400_000_000_000;
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

/// Rows of values with the lines where they stand.
#[derive(Debug, Default)]
pub struct Batch {
    /// The rows.
    pub rows: RowBatch,
    /// The line, or the number, of each.
    pub lines: Vec<u64>,
}

/// Takes a row that does not fit, with its fields where it could be cut into them.
pub type Refuse<'a> = dyn FnMut(Bad, Option<&Fields>) -> Result<(), Trouble> + 'a;

/// Bytes of a batch.
const BATCH: usize = 256 * 1024;

/// The rows of a file as values of the types of a proposal, in batches, until `take` answers false. What does not fit goes to
/// `refuse`, with its fields as they stand in the file.
///
/// # Errors
/// Those of the file, and of whoever takes the rows.
pub fn rows(
    path: &Path,
    proposal: &Proposal,
    take: &mut dyn FnMut(Batch) -> Result<bool, Trouble>,
    refuse: &mut Refuse<'_>,
) -> Result<(), Trouble> {
    rows_by(path, proposal, u64::MAX, take, refuse)
}

/// The same, where a batch ends after every so many rows besides.
///
/// # Errors
/// Likewise.
pub fn rows_by(
    path: &Path,
    proposal: &Proposal,
    every: u64,
    take: &mut dyn FnMut(Batch) -> Result<bool, Trouble>,
    refuse: &mut Refuse<'_>,
) -> Result<(), Trouble> {
    let mut batch = Batch::default();
    let mut goes_on = true;
    let mut left = every;
    let names: Vec<String> = proposal.columns.iter().map(|c| c.from.clone()).collect();
    fields(path, &proposal.shape, &names, &mut |seen| {
        let (fields, known) = match seen {
            Seen::Row(fields, known) => (fields, known),
            Seen::Bad(bad) => {
                refuse(bad, None)?;
                return Ok(true);
            }
        };
        match convert(fields, known, proposal, &mut batch.rows) {
            Ok(()) => {
                batch.lines.push(fields.line);
                left -= 1;
            }
            Err(bad) => refuse(bad, Some(fields))?,
        }
        if left == 0 || batch.rows.encoded() >= BATCH {
            goes_on = take(std::mem::take(&mut batch))?;
            if left == 0 {
                left = every;
            }
        }
        Ok(goes_on)
    })?;
    if goes_on && !batch.lines.is_empty() {
        take(batch)?;
    }
    Ok(())
}

/// Puts a row into a batch; the whole of it or nothing.
fn convert(
    fields: &Fields,
    known: &[String],
    proposal: &Proposal,
    into: &mut RowBatch,
) -> Result<(), Bad> {
    let columns = &proposal.columns;
    if proposal.shape.kind == Kind::Separated && fields.len() != columns.len() {
        let values = |count: usize| match count {
            1 => "1 value".to_string(),
            many => format!("{many} values"),
        };
        let why = format!(
            "has {}, and the others have {}",
            values(fields.len()),
            columns.len()
        );
        return Err(Bad::row(fields.line, why));
    }
    if let Some(new) = known.get(columns.len()) {
        let why = "is a field that no document had before".into();
        return Err(Bad {
            column: Some(new.clone()),
            ..Bad::row(fields.line, why)
        });
    }
    for (at, column) in columns
        .iter()
        .enumerate()
        .filter(|(_, column)| !column.skip)
    {
        let (bytes, mark) = fields.get(at);
        if let Err(why) = value(bytes, mark, column, proposal, into) {
            into.drop_open_row();
            return Err(Bad {
                column: Some(column.from.clone()),
                text: shortened(bytes),
                ..Bad::row(fields.line, why)
            });
        }
    }
    into.end_row();
    Ok(())
}

/// Whether a field is null.
pub(crate) fn is_null(bytes: &[u8], mark: Mark, of: ColumnType, null: Option<&str>) -> bool {
    match mark {
        Mark::Null | Mark::Missing => true,
        Mark::Text => false,
        // Nothing is a text, or no bytes, only.
        Mark::Quoted => bytes.is_empty() && !matches!(of, ColumnType::Text | ColumnType::Bytes),
        Mark::Plain => match null {
            Some(null) => bytes == null.as_bytes() || bytes.is_empty() && of != ColumnType::Text,
            None => bytes.is_empty(),
        },
    }
}

fn value(
    bytes: &[u8],
    mark: Mark,
    column: &ColumnPlan,
    proposal: &Proposal,
    into: &mut RowBatch,
) -> Result<(), String> {
    if is_null(bytes, mark, column.column_type, proposal.null.as_deref()) {
        into.push(ValueRef::Null);
        return Ok(());
    }
    let text = std::str::from_utf8(bytes)
        .map_err(|_| "is no UTF-8; --encoding says what the file is written in".to_string())?;
    if text.contains('\0') && column.column_type == ColumnType::Text && proposal.no_nul {
        return Err("holds a NUL, which this database keeps in no text".into());
    }
    put(text, column.column_type, column.form, into)
}

impl From<Trouble> for io::Error {
    fn from(trouble: Trouble) -> Self {
        io::Error::other(trouble.0)
    }
}
