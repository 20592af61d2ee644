//! Values between separators (RFC 4180): null is nothing, empty text is `""`.

use std::io::{self, Write};

use idle_tide_core::batch::Encoded;
use idle_tide_core::{Column, Row, ValueRef, column_labels};

use super::{BUFFER, Format, Layout, RowWriter, bytes_below};

/// Comma-separated values.
pub static CSV: Format = Format {
    name: "csv",
    label: "CSV",
    endings: &[],
    for_people: false,
    binary: false,
    options: &["no-header", "separator", "quote-all", "null", "encoding"],
    nested: false,
    make: |layout, out| Box::new(Separated::new(b',', layout, out)),
};

/// The same with tabs.
pub static TSV: Format = Format {
    name: "tsv",
    label: "TSV",
    endings: &["tab"],
    for_people: false,
    binary: false,
    options: &["no-header", "quote-all", "null", "encoding"],
    nested: false,
    make: |layout, out| Box::new(Separated::new(b'\t', layout, out)),
};

struct Separated<W> {
    out: W,
    separator: u8,
    header: bool,
    quote_all: bool,
    null: Vec<u8>,
    buffer: Vec<u8>,
    width: usize,
}

impl<W: Write> Separated<W> {
    fn new(separator: u8, layout: Layout, out: W) -> Self {
        Separated {
            out,
            separator: layout.separator.unwrap_or(separator),
            header: layout.header,
            quote_all: layout.quote_all,
            null: layout.null.unwrap_or_default().into_bytes(),
            buffer: Vec::with_capacity(BUFFER + 4_096),
            width: 0,
        }
    }
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
    let has_zero = |word: u64| bytes_below(word, 1) != 0;
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
    if needs_quotes(bytes, separator) {
        quoted(out, bytes);
    } else {
        out.extend_from_slice(bytes);
    }
}

fn quoted(out: &mut Vec<u8>, bytes: &[u8]) {
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

impl<W> Separated<W> {
    /// The fields of a row where more is asked for than what is usual: each value as its bytes first.
    fn careful_row(&mut self, row: Row<'_>) {
        let mut plain = Vec::new();
        for (at, value) in row.values().enumerate() {
            if at > 0 {
                self.buffer.push(self.separator);
            }
            if value.is_null() {
                self.buffer.extend_from_slice(&self.null);
                continue;
            }
            plain.clear();
            value.write_plain(&mut plain);
            // A text that reads like null is told apart by its quotes.
            let like_null = plain == self.null || plain.contains(&self.separator);
            if self.quote_all || like_null {
                quoted(&mut self.buffer, &plain);
            } else {
                field(&mut self.buffer, &plain, self.separator);
            }
        }
    }
}

impl<W: Write> RowWriter for Separated<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.width = columns.len();
        if self.header {
            for (at, label) in column_labels(columns).iter().enumerate() {
                if at > 0 {
                    self.buffer.push(self.separator);
                }
                if self.quote_all {
                    quoted(&mut self.buffer, label.as_bytes());
                } else {
                    field(&mut self.buffer, label.as_bytes(), self.separator);
                }
            }
            self.buffer.push(b'\n');
        }
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        let start = self.buffer.len();
        let careful = self.quote_all || self.separator == b'.' || self.separator == b'-';
        let plain = !careful && self.null.is_empty();
        if !plain {
            self.careful_row(row);
        }
        let buffer = &mut self.buffer;
        for (at, value) in row.encoded().enumerate().take_while(|_| plain) {
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
                // No bytes are no null.
                Encoded::Bytes([]) => buffer.extend_from_slice(b"\"\""),
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
