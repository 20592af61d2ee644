//! Rows as they travel: one flat buffer a batch, cheap to fill while an engine steps, cheap to hand
//! to another thread, and readable at any row. It knows nothing of columns' names or types.
//!
//! ```
//! use idle_tide_core::{RowBatch, ValueRef};
//! let mut batch = RowBatch::new();
//! batch.push(ValueRef::Integer(7));
//! batch.push(ValueRef::Text("Grey Heron"));
//! batch.end_row();
//! assert_eq!(batch.row(0).get(1), ValueRef::Text("Grey Heron"));
//! ```

use std::sync::Arc;

use crate::document::bson;
use crate::document::path::Path;
use crate::value::ValueRef;

const NULL: u8 = 0;
const FALSE: u8 = 1;
const TRUE: u8 = 2;
const INTEGER: u8 = 3;
const FLOAT: u8 = 4;
const TEXT: u8 = 5;
const RAW_TEXT: u8 = 6;
const BYTES: u8 = 7;
const NUMBER: u8 = 8;
const MISSING: u8 = 9;
const BSON: u8 = 10;
/// Lengths below this stand in the tag's own byte after it; 255 announces eight bytes of length.
const LONG: u8 = 255;

/// A run of rows in one buffer: per value a tag byte, then eight bytes of a number or a length and
/// the bytes of a text.
#[derive(Debug, Clone, Default)]
pub struct RowBatch {
    bytes: Vec<u8>,
    /// Where each row begins in `bytes`.
    starts: Vec<usize>,
    open: usize,
    /// Where the columns are in the rows' documents, if each row is one.
    paths: Option<Arc<Paths>>,
}

/// Where columns are in documents.
pub type Paths = Vec<Arc<Path>>;

impl RowBatch {
    /// An empty batch.
    pub fn new() -> Self {
        Self::default()
    }

    /// An empty batch with room for `bytes` bytes and `rows` rows.
    pub fn with_capacity(bytes: usize, rows: usize) -> Self {
        RowBatch {
            bytes: Vec::with_capacity(bytes),
            starts: Vec::with_capacity(rows),
            open: 0,
            paths: None,
        }
    }

    /// Appends one value to the row being filled.
    #[inline]
    pub fn push(&mut self, value: ValueRef<'_>) {
        match value {
            ValueRef::Null => self.bytes.push(NULL),
            ValueRef::Boolean(b) => self.bytes.push(if b { TRUE } else { FALSE }),
            ValueRef::Integer(i) => self.push_eight(INTEGER, i.to_le_bytes()),
            ValueRef::Float(f) => self.push_eight(FLOAT, f.to_le_bytes()),
            ValueRef::Number(n) => self.push_bytes(NUMBER, n.as_bytes()),
            ValueRef::Text(t) => self.push_bytes(TEXT, t.as_bytes()),
            ValueRef::RawText(b) => self.push_bytes(RAW_TEXT, b),
            ValueRef::Bytes(b) => self.push_bytes(BYTES, b),
            ValueRef::Missing => self.bytes.push(MISSING),
            ValueRef::Bson(tag, value) => {
                self.bytes.extend_from_slice(&[BSON, tag]);
                self.push_bytes(BYTES, value);
            }
        }
    }

    /// Appends text as an engine gave it. Whether it is UTF-8 is found when it is read: text that is not
    /// reads as [`ValueRef::RawText`].
    #[inline]
    pub fn push_text(&mut self, bytes: &[u8]) {
        self.push_bytes(TEXT, bytes);
    }

    /// Appends the digits of an exact number as they stand.
    #[inline]
    pub fn push_number(&mut self, digits: &[u8]) {
        self.push_bytes(NUMBER, digits);
    }

    #[inline]
    fn push_eight(&mut self, tag: u8, eight: [u8; 8]) {
        let mut nine = [tag; 9];
        nine[1..].copy_from_slice(&eight);
        self.bytes.extend_from_slice(&nine);
    }

    #[inline]
    fn push_bytes(&mut self, tag: u8, bytes: &[u8]) {
        if bytes.len() < usize::from(LONG) {
            self.bytes.extend_from_slice(&[tag, bytes.len() as u8]);
        } else {
            self.bytes.extend_from_slice(&[tag, LONG]);
            self.bytes
                .extend_from_slice(&(bytes.len() as u64).to_le_bytes());
        }
        self.bytes.extend_from_slice(bytes);
    }

    /// Ends the row being filled.
    #[inline]
    pub fn end_row(&mut self) {
        self.starts.push(self.open);
        self.open = self.bytes.len();
    }

    /// Takes back what was appended of a row that is not ended.
    pub fn drop_open_row(&mut self) {
        self.bytes.truncate(self.open);
    }

    /// Appends a row that is a document. All rows of a batch are documents or none is.
    #[inline]
    pub fn push_document(&mut self, document: &[u8]) {
        self.push_bytes(BYTES, document);
        self.end_row();
    }

    /// Makes the rows documents, with columns at these paths.
    pub fn set_paths(&mut self, paths: Arc<Paths>) {
        self.paths = Some(paths);
    }

    /// Appends one whole row.
    pub fn push_row<'a>(&mut self, values: impl IntoIterator<Item = ValueRef<'a>>) {
        for value in values {
            self.push(value);
        }
        self.end_row();
    }

    /// Appends a row of another batch as it stands there; of a document what its columns hold.
    pub fn push_copy(&mut self, row: Row<'_>) {
        match row.paths {
            None => {
                self.bytes.extend_from_slice(row.bytes);
                self.end_row();
            }
            Some(_) => self.push_row(row.values()),
        }
    }

    /// Number of rows.
    pub fn len(&self) -> usize {
        self.starts.len()
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.starts.is_empty()
    }

    /// Bytes of memory this batch uses.
    pub fn size(&self) -> usize {
        self.bytes.capacity() + self.starts.capacity() * size_of::<usize>()
    }

    /// Bytes of encoded values so far.
    #[inline]
    pub fn encoded(&self) -> usize {
        self.bytes.len()
    }

    /// Row `index`, counted from 0.
    ///
    /// # Panics
    /// If there is no such row.
    pub fn row(&self, index: usize) -> Row<'_> {
        let start = self.starts[index];
        let end = self.starts.get(index + 1).copied().unwrap_or(self.open);
        Row {
            bytes: &self.bytes[start..end],
            paths: self.paths.as_deref().map(Vec::as_slice),
        }
    }

    /// All rows in order.
    pub fn rows(&self) -> impl Iterator<Item = Row<'_>> {
        (0..self.len()).map(|index| self.row(index))
    }

    /// Gives memory back that was reserved and not used.
    pub fn shrink(&mut self) {
        self.bytes.shrink_to_fit();
        self.starts.shrink_to_fit();
    }

    /// The batch as bytes for a spill file: number of rows, their starts, their values.
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(8 * (self.starts.len() + 1) + self.bytes.len());
        out.extend_from_slice(&(self.starts.len() as u64).to_le_bytes());
        for start in &self.starts {
            out.extend_from_slice(&(*start as u64).to_le_bytes());
        }
        out.extend_from_slice(&self.bytes[..self.open]);
        out
    }

    /// Reads back what [`RowBatch::to_bytes`] wrote; `None` if the bytes are not such a batch.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let eight = |at: usize| -> Option<usize> {
            let part = bytes.get(at..at + 8)?;
            Some(u64::from_le_bytes(part.try_into().ok()?) as usize)
        };
        let rows = eight(0)?;
        let head = rows.checked_mul(8)?.checked_add(8)?;
        let values = bytes.get(head..)?.to_vec();
        let mut starts = Vec::with_capacity(rows);
        for row in 0..rows {
            let start = eight(8 * (row + 1))?;
            if start > values.len() {
                return None;
            }
            starts.push(start);
        }
        Some(RowBatch {
            open: values.len(),
            bytes: values,
            starts,
            paths: None,
        })
    }
}

/// One row of a [`RowBatch`].
#[derive(Debug, Clone, Copy)]
pub struct Row<'a> {
    bytes: &'a [u8],
    paths: Option<&'a [Arc<Path>]>,
}

impl<'a> Row<'a> {
    /// The value of column `index`, counted from 0; null where the row is shorter, and missing where its document has
    /// no such field.
    pub fn get(&self, index: usize) -> ValueRef<'a> {
        let Some(paths) = self.paths else {
            // Values that are passed over are not looked at.
            return self
                .encoded()
                .nth(index)
                .map_or(ValueRef::Null, Encoded::read);
        };
        let document = self.document().unwrap_or_default();
        match paths.get(index) {
            Some(path) => at_path(document, path)
                .map_or(ValueRef::Missing, |found| ValueRef::of_element(&found)),
            None => ValueRef::Missing,
        }
    }

    /// Whether two rows are the same byte by byte as they stand in their batches.
    pub fn is_same_as(&self, other: &Row<'_>) -> bool {
        self.bytes == other.bytes
    }

    /// The row's document, if the rows are documents.
    #[inline]
    pub fn document(&self) -> Option<&'a [u8]> {
        self.paths?;
        match (EncodedValues {
            rest: self.bytes,
            fields: None,
        })
        .next()
        {
            Some(Encoded::Bytes(document)) => Some(document),
            _ => None,
        }
    }

    /// The values from the first column to the last.
    pub fn values(&self) -> Values<'a> {
        Values(self.encoded())
    }

    /// The values as they stand in the batch: text is not looked at again, which makes this the quickest
    /// way to write them somewhere.
    pub fn encoded(&self) -> EncodedValues<'a> {
        match self.paths {
            None => EncodedValues {
                rest: self.bytes,
                fields: None,
            },
            Some(paths) => EncodedValues {
                rest: &[],
                fields: Some((self.document().unwrap_or_default(), paths)),
            },
        }
    }
}

fn at_path<'a>(document: &'a [u8], path: &Path) -> Option<bson::Element<'a>> {
    bson::find(document, path.iter().map(|name| name.as_str()))
}

/// A value as it stands in a batch.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Encoded<'a> {
    /// SQL null.
    Null,
    /// True or false.
    Boolean(bool),
    /// A 64-bit signed integer.
    Integer(i64),
    /// A 64-bit IEEE 754 number.
    Float(f64),
    /// The digits of an exact decimal number.
    Number(&'a [u8]),
    /// Text as the engine gave it, which is not looked at yet.
    Text(&'a [u8]),
    /// Text whose bytes are not valid UTF-8.
    RawText(&'a [u8]),
    /// Bytes.
    Bytes(&'a [u8]),
    /// A field that a document does not have.
    Missing,
    /// A value of a document: its BSON type byte and its bytes.
    Bson(u8, &'a [u8]),
}

impl<'a> Encoded<'a> {
    /// The value; text and digits that are no UTF-8 are raw text.
    #[inline]
    pub fn read(self) -> ValueRef<'a> {
        match self {
            Encoded::Null => ValueRef::Null,
            Encoded::Boolean(b) => ValueRef::Boolean(b),
            Encoded::Integer(i) => ValueRef::Integer(i),
            Encoded::Float(f) => ValueRef::Float(f),
            Encoded::Number(digits) => {
                std::str::from_utf8(digits).map_or(ValueRef::RawText(digits), ValueRef::Number)
            }
            Encoded::Text(bytes) => {
                std::str::from_utf8(bytes).map_or(ValueRef::RawText(bytes), ValueRef::Text)
            }
            Encoded::RawText(bytes) => ValueRef::RawText(bytes),
            Encoded::Bytes(bytes) => ValueRef::Bytes(bytes),
            Encoded::Missing => ValueRef::Missing,
            Encoded::Bson(tag, bytes) => ValueRef::Bson(tag, bytes),
        }
    }
}

/// Iterator over the encoded values of a [`Row`].
#[derive(Debug, Clone)]
pub struct EncodedValues<'a> {
    rest: &'a [u8],
    /// The document and the paths that are left, if the rows are documents.
    fields: Option<(&'a [u8], &'a [Arc<Path>])>,
}

impl<'a> EncodedValues<'a> {
    #[inline]
    fn take(&mut self, count: usize) -> &'a [u8] {
        let (head, tail) = self.rest.split_at(count.min(self.rest.len()));
        self.rest = tail;
        head
    }

    #[inline]
    fn eight(&mut self) -> [u8; 8] {
        self.take(8).try_into().unwrap_or([0; 8])
    }

    #[inline]
    fn long(&mut self) -> &'a [u8] {
        let length = match self.take(1) {
            [LONG] => u64::from_le_bytes(self.eight()) as usize,
            [short] => usize::from(*short),
            _ => 0,
        };
        self.take(length)
    }
}

impl<'a> Iterator for EncodedValues<'a> {
    type Item = Encoded<'a>;

    #[inline]
    fn next(&mut self) -> Option<Encoded<'a>> {
        if let Some((document, paths)) = &mut self.fields {
            let (path, rest) = paths.split_first()?;
            *paths = rest;
            return Some(
                match at_path(document, path).map(|found| ValueRef::of_element(&found)) {
                    None => Encoded::Missing,
                    Some(value) => Encoded::of_value(value),
                },
            );
        }
        let (&tag, rest) = self.rest.split_first()?;
        self.rest = rest;
        Some(match tag {
            MISSING => Encoded::Missing,
            BSON => {
                let tag = self.take(1).first().copied().unwrap_or_default();
                self.take(1);
                Encoded::Bson(tag, self.long())
            }
            FALSE => Encoded::Boolean(false),
            TRUE => Encoded::Boolean(true),
            INTEGER => Encoded::Integer(i64::from_le_bytes(self.eight())),
            FLOAT => Encoded::Float(f64::from_le_bytes(self.eight())),
            NUMBER => Encoded::Number(self.long()),
            TEXT => Encoded::Text(self.long()),
            RAW_TEXT => Encoded::RawText(self.long()),
            BYTES => Encoded::Bytes(self.long()),
            _ => Encoded::Null,
        })
    }

    /// The value `count` places further on; those between are passed over by their lengths alone.
    #[inline]
    fn nth(&mut self, count: usize) -> Option<Encoded<'a>> {
        if self.fields.is_some() {
            for _ in 0..count {
                self.next()?;
            }
            return self.next();
        }
        let mut rest = self.rest;
        for _ in 0..count {
            let (&tag, after) = rest.split_first()?;
            let length = match tag {
                INTEGER | FLOAT => 8,
                TEXT | RAW_TEXT | BYTES | NUMBER => length_of_long(after),
                // The kind of a value of a document, and the tag of its bytes.
                BSON => 2 + length_of_long(after.get(2..).unwrap_or_default()),
                _ => 0,
            };
            rest = after.get(length..).unwrap_or_default();
        }
        self.rest = rest;
        self.next()
    }
}

/// Bytes that a text takes from its length on.
#[inline]
fn length_of_long(bytes: &[u8]) -> usize {
    match bytes.first() {
        Some(&LONG) => {
            let eight = bytes.get(1..9).and_then(|eight| eight.try_into().ok());
            let length = u64::from_le_bytes(eight.unwrap_or_default());
            usize::try_from(length)
                .unwrap_or(usize::MAX)
                .saturating_add(9)
        }
        Some(short) => 1 + usize::from(*short),
        None => 0,
    }
}

impl<'a> Encoded<'a> {
    fn of_value(value: ValueRef<'a>) -> Self {
        match value {
            ValueRef::Null => Encoded::Null,
            ValueRef::Missing => Encoded::Missing,
            ValueRef::Boolean(b) => Encoded::Boolean(b),
            ValueRef::Integer(i) => Encoded::Integer(i),
            ValueRef::Float(f) => Encoded::Float(f),
            ValueRef::Number(n) => Encoded::Number(n.as_bytes()),
            ValueRef::Text(t) => Encoded::Text(t.as_bytes()),
            ValueRef::RawText(b) => Encoded::RawText(b),
            ValueRef::Bytes(b) => Encoded::Bytes(b),
            ValueRef::Bson(tag, bytes) => Encoded::Bson(tag, bytes),
        }
    }
}

/// Iterator over the values of a [`Row`].
#[derive(Debug, Clone)]
pub struct Values<'a>(EncodedValues<'a>);

impl<'a> Iterator for Values<'a> {
    type Item = ValueRef<'a>;

    #[inline]
    fn next(&mut self) -> Option<ValueRef<'a>> {
        self.0.next().map(Encoded::read)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// To pass over values is the same as to read them and look away, also where bytes are missing.
    #[test]
    fn passing_over_values_is_reading_them() {
        let long = "x".repeat(300);
        let mut batch = RowBatch::new();
        batch.push_row([
            ValueRef::Null,
            ValueRef::Text(&long),
            ValueRef::Integer(7),
            ValueRef::Bson(bson::ID, &[7; 12]),
            ValueRef::Bytes(&[1, 2]),
            ValueRef::Float(1.5),
            ValueRef::Text("end"),
        ]);
        let whole = batch.to_bytes();
        for end in 16..=whole.len() {
            let cut = RowBatch::from_bytes(&whole[..end]).expect("a batch");
            let read: Vec<Encoded<'_>> = {
                let mut values = cut.row(0).encoded();
                std::iter::from_fn(|| values.next()).collect()
            };
            for at in 0..9 {
                assert_eq!(
                    cut.row(0).encoded().nth(at),
                    read.get(at).copied(),
                    "{end} {at}"
                );
            }
        }
    }

    #[test]
    fn every_kind_survives_a_batch_and_a_spill_file() {
        let long = "x".repeat(70_000);
        let row = [
            ValueRef::Null,
            ValueRef::Boolean(true),
            ValueRef::Integer(i64::MIN),
            ValueRef::Float(-0.0),
            ValueRef::Number("-12.340"),
            ValueRef::Text(""),
            ValueRef::Text(&long),
            ValueRef::RawText(&[0xff, 0xfe]),
            ValueRef::Bytes(&[0, 1, 2]),
            ValueRef::Missing,
            ValueRef::Bson(bson::ID, &[7; 12]),
        ];
        let mut batch = RowBatch::new();
        batch.push_row(row);
        batch.push_row([ValueRef::Integer(1)]);
        let back = RowBatch::from_bytes(&batch.to_bytes()).expect("reads back");
        for copy in [&batch, &back] {
            assert_eq!(copy.len(), 2);
            assert_eq!(copy.row(0).values().collect::<Vec<_>>(), row);
            assert_eq!(copy.row(1).get(0), ValueRef::Integer(1));
            assert_eq!(copy.row(1).get(5), ValueRef::Null);
        }
    }

    #[test]
    fn the_columns_of_documents_are_paths() {
        let paths = |list: &[&[&str]]| -> Arc<Paths> {
            Arc::new(
                list.iter()
                    .map(|p| Arc::new(p.iter().map(|n| (*n).into()).collect()))
                    .collect(),
            )
        };
        let document = crate::document! { "a": 1, "o": crate::document! { "t": "x" } };
        let mut batch = RowBatch::new();
        batch.push_document(&bson::encode(&document));
        batch.set_paths(paths(&[&["o", "t"], &["a"], &["none"], &["o"]]));
        let row = batch.row(0);
        let values: Vec<_> = row.values().collect();
        assert_eq!(
            values[..3],
            [ValueRef::Text("x"), ValueRef::Integer(1), ValueRef::Missing]
        );
        assert!(matches!(values[3], ValueRef::Bson(bson::OBJECT, _)));
        assert_eq!((row.get(0), row.get(9)), (values[0], ValueRef::Missing));
    }

    #[test]
    fn damaged_bytes_are_refused_not_read() {
        assert!(RowBatch::from_bytes(&[1, 2, 3]).is_none());
        assert!(RowBatch::from_bytes(&u64::MAX.to_le_bytes()).is_none());
    }
}
