//! The rows of a file of any kind, as fields and as values of the types that were agreed on.

use std::collections::HashMap;
use std::io;
use std::path::Path;

use idle_tide_core::column_type::ColumnType;
use idle_tide_core::document::Document;
use idle_tide_core::document::bson;
use idle_tide_core::{RowBatch, ValueRef};
use idle_tide_dock::files::{self, Trouble as Broken};

use crate::columnar;
use crate::convert::put;
use crate::file::{Kind, text_of};
use crate::plan::{ColumnPlan, Proposal, Shape};
use crate::separated::{Came, Separated, shortened};
use crate::{Bad, Fields, Mark, Seen, Take, Trouble};

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
        Kind::Columnar => columnar::fields(path, take),
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

/// Bytes of a batch: servers wait between two of them.
const BATCH: usize = 1024 * 1024;

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
    let whole = fields.text();
    for (at, column) in columns
        .iter()
        .enumerate()
        .filter(|(_, column)| !column.skip)
    {
        let (bytes, mark) = fields.get(at);
        let text = whole.and_then(|text| fields.part(text, at));
        if let Err(why) = value(bytes, text, mark, column, proposal, into) {
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

/// Puts a field into a batch; `text` is the field where it is known to be UTF-8.
fn value(
    bytes: &[u8],
    text: Option<&str>,
    mark: Mark,
    column: &ColumnPlan,
    proposal: &Proposal,
    into: &mut RowBatch,
) -> Result<(), String> {
    if is_null(bytes, mark, column.column_type, proposal.null.as_deref()) {
        into.push(ValueRef::Null);
        return Ok(());
    }
    let text = match text {
        Some(text) => text,
        None => std::str::from_utf8(bytes)
            .map_err(|_| "is no UTF-8; --encoding says what the file is written in".to_string())?,
    };
    if proposal.no_nul && column.column_type == ColumnType::Text && text.contains('\0') {
        return Err("holds a NUL, which this database keeps in no text".into());
    }
    put(text, column.column_type, column.form, into)
}

impl From<Trouble> for io::Error {
    fn from(trouble: Trouble) -> Self {
        io::Error::other(trouble.0)
    }
}
