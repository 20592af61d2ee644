//! Values between separators (RFC 4180): null is nothing, empty text is `""`.

use std::io::{self, Write};

use idle_tide_core::batch::Encoded;
use idle_tide_core::{Column, Row, ValueRef, column_labels};

use super::{BUFFER, Format, Layout, RowWriter};

/// Comma-separated values.
pub static CSV: Format = Format {
    name: "csv",
    label: "CSV",
    endings: &[],
    for_people: false,
    nested: false,
    make: |layout, out| Box::new(Separated::new(b',', layout, out)),
};

/// The same with tabs.
pub static TSV: Format = Format {
    name: "tsv",
    label: "TSV",
    endings: &["tab"],
    for_people: false,
    nested: false,
    make: |layout, out| Box::new(Separated::new(b'\t', layout, out)),
};

struct Separated<W> {
    out: W,
    separator: u8,
    header: bool,
    buffer: Vec<u8>,
    width: usize,
}

impl<W: Write> Separated<W> {
    fn new(separator: u8, layout: Layout, out: W) -> Self {
        Separated {
            out,
            separator,
            header: layout.header,
            buffer: Vec::with_capacity(BUFFER + 4_096),
            width: 0,
        }
    }
}

/// Whether one of the eight bytes in `word` is zero (Warren, Hacker's Delight, 6-1).
fn has_zero(word: u64) -> bool {
    word.wrapping_sub(0x0101_0101_0101_0101) & !word & 0x8080_8080_8080_8080 != 0
}

/// Whether a reader would take the field for something else unless it stands in quotes.
#[inline]
fn needs_quotes(bytes: &[u8], separator: u8) -> bool {
    let (Some(first), Some(last)) = (bytes.first(), bytes.last()) else {
        return true;
    };
    if *first == b' ' || *last == b' ' {
        return true;
    }
    let every = |byte: u8| u64::from(byte) * 0x0101_0101_0101_0101;
    let special = |word: u64| {
        has_zero(word ^ every(separator))
            | has_zero(word ^ every(b'"'))
            | has_zero(word ^ every(b'\n'))
            | has_zero(word ^ every(b'\r'))
    };
    let word = |part: &[u8]| u64::from_le_bytes(part.try_into().unwrap_or([0; 8]));
    match bytes.len() {
        // The last eight bytes overlap those before.
        length @ 8.. => {
            bytes.chunks_exact(8).any(|part| special(word(part)))
                || special(word(&bytes[length - 8..]))
        }
        length => {
            let mut eight = [0; 8];
            eight[..length].copy_from_slice(bytes);
            special(u64::from_le_bytes(eight))
        }
    }
}

/// Appends a field, in quotes where it needs them.
#[inline]
fn field(out: &mut Vec<u8>, bytes: &[u8], separator: u8) {
    if !needs_quotes(bytes, separator) {
        out.extend_from_slice(bytes);
        return;
    }
    out.push(b'"');
    let mut rest = bytes;
    while let Some(at) = memchr::memchr(b'"', rest) {
        out.extend_from_slice(&rest[..=at]);
        out.push(b'"');
        rest = &rest[at + 1..];
    }
    out.extend_from_slice(rest);
    out.push(b'"');
}

impl<W: Write> RowWriter for Separated<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.width = columns.len();
        if self.header {
            for (at, label) in column_labels(columns).iter().enumerate() {
                if at > 0 {
                    self.buffer.push(self.separator);
                }
                field(&mut self.buffer, label.as_bytes(), self.separator);
            }
            self.buffer.push(b'\n');
        }
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        let buffer = &mut self.buffer;
        let start = buffer.len();
        for (at, value) in row.encoded().enumerate() {
            if at > 0 {
                buffer.push(self.separator);
            }
            match value {
                Encoded::Null | Encoded::Missing => {}
                Encoded::Bson(tag, bytes) => {
                    let mut plain = Vec::new();
                    ValueRef::Bson(tag, bytes).write_plain(&mut plain);
                    field(buffer, &plain, self.separator);
                }
                Encoded::Text(bytes) | Encoded::RawText(bytes) => {
                    field(buffer, bytes, self.separator);
                }
                Encoded::Number(digits) => buffer.extend_from_slice(digits),
                Encoded::Integer(i) => ValueRef::Integer(i).write_plain(buffer),
                Encoded::Float(f) => ValueRef::Float(f).write_plain(buffer),
                Encoded::Boolean(b) => ValueRef::Boolean(b).write_plain(buffer),
                Encoded::Bytes(bytes) => ValueRef::Bytes(bytes).write_plain(buffer),
            }
        }
        // A lone null would be an empty line, which readers skip.
        if self.width == 1 && buffer.len() == start {
            buffer.extend_from_slice(b"\"\"");
        }
        buffer.push(b'\n');
        if buffer.len() >= BUFFER {
            self.out.write_all(buffer)?;
            buffer.clear();
        }
        Ok(())
    }

    fn finish(&mut self) -> io::Result<()> {
        self.out.write_all(&self.buffer)?;
        self.buffer.clear();
        self.out.flush()
    }
}
