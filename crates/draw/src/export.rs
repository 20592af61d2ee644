//! Rows as files and as text for pasting: CSV (RFC 4180), TSV, JSON and JSON lines (RFC 8259), aligned
//! text, one field per line. Writers take batches as they come and hold one batch, except the aligned
//! text, which has to see every row before it knows its widths and keeps them in a result of its own.

use std::io::{self, Write};

use idle_tide_core::batch::Encoded;
use idle_tide_core::document::bson::Element;
use idle_tide_core::document::extended;
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Column, Row, RowBatch, ValueRef, column_labels};
use unicode_width::UnicodeWidthStr;

use crate::marks::{Look, show_text, show_whole};

/// The formats.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Comma-separated values; null is nothing, empty text is `""`.
    Csv,
    /// The same with tabs.
    Tsv,
    /// One JSON array of objects.
    Json,
    /// One JSON object a line.
    JsonLines,
    /// Columns aligned with blanks.
    Text,
    /// One field per line, an empty line between rows.
    Record,
}

impl Format {
    /// The format of this name.
    pub fn named(name: &str) -> Option<Self> {
        Some(match name.to_ascii_lowercase().as_str() {
            "csv" => Format::Csv,
            "tsv" => Format::Tsv,
            "json" => Format::Json,
            "jsonl" => Format::JsonLines,
            "text" => Format::Text,
            "record" => Format::Record,
            _ => return None,
        })
    }

    /// The format a file name asks for by its ending.
    pub fn of_file(name: &str) -> Option<Self> {
        let (_, ending) = name.rsplit_once('.')?;
        match ending.to_ascii_lowercase().as_str() {
            "txt" => Some(Format::Text),
            "ndjson" => Some(Format::JsonLines),
            "tab" => Some(Format::Tsv),
            ending => Format::named(ending),
        }
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Format::Csv => "CSV",
            Format::Tsv => "TSV",
            Format::Json => "JSON",
            Format::JsonLines => "JSON lines",
            Format::Text => "text",
            Format::Record => "record",
        }
    }
}

/// A format and how it is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Layout {
    /// The format.
    pub format: Format,
    /// Whether the names of the columns come first.
    pub header: bool,
    /// Whether the aligned text has lines between its columns and under its header.
    pub lines: bool,
}

impl Layout {
    /// The plain layout of a format: with a header, without lines.
    pub fn of(format: Format) -> Self {
        Layout {
            format,
            header: true,
            lines: false,
        }
    }
}

/// Takes columns, then rows, then the end.
pub trait RowWriter {
    /// The columns, before the first row.
    ///
    /// # Errors
    /// Those of the output.
    fn columns(&mut self, columns: &[Column]) -> io::Result<()>;

    /// More columns of documents are known; those before keep their numbers.
    fn more_columns(&mut self, columns: &[Column]) {
        let _ = columns;
    }

    /// One row.
    ///
    /// # Errors
    /// Those of the output.
    fn row(&mut self, row: Row<'_>) -> io::Result<()>;

    /// All rows of a batch.
    ///
    /// # Errors
    /// Those of the output.
    fn rows(&mut self, batch: &RowBatch) -> io::Result<()> {
        batch.rows().try_for_each(|row| self.row(row))
    }

    /// The end; everything is handed to the output.
    ///
    /// # Errors
    /// Those of the output.
    fn finish(&mut self) -> io::Result<()>;
}

/// A writer for the layout onto `out`.
pub fn writer<'a>(layout: Layout, out: impl Write + 'a) -> Box<dyn RowWriter + 'a> {
    let inner = plain_writer(layout, out);
    match layout.format {
        Format::Json | Format::JsonLines => inner,
        _ => Box::new(Held {
            inner,
            documents: None,
        }),
    }
}

/// Keeps documents until all their columns are known; other rows go through.
struct Held<'a> {
    inner: Box<dyn RowWriter + 'a>,
    documents: Option<(ResultSet, RowBatch)>,
}

impl RowWriter for Held<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        if columns.is_empty() || columns.iter().any(|column| column.path.is_none()) {
            return self.inner.columns(columns);
        }
        let rows = ResultSet::new(columns.to_vec(), Budget::new(HELD), HELD);
        self.documents = Some((rows, RowBatch::new()));
        Ok(())
    }

    fn more_columns(&mut self, columns: &[Column]) {
        if let Some((rows, _)) = &mut self.documents {
            rows.set_columns(columns.to_vec());
        }
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        let (Some((rows, batch)), Some(document)) = (&mut self.documents, row.document()) else {
            return self.inner.row(row);
        };
        batch.push_document(document);
        if batch.encoded() > BUFFER {
            rows.append(std::mem::take(batch))?;
        }
        Ok(())
    }

    fn finish(&mut self) -> io::Result<()> {
        if let Some((mut rows, batch)) = self.documents.take() {
            rows.append(batch)?;
            self.inner.columns(rows.columns())?;
            let columns = rows.columns().to_vec();
            rows.set_columns(columns);
            for at in 0..rows.batches() {
                let (_, batch) = rows.batch(at)?;
                // A batch of the time before all columns were known knows fewer.
                let mut whole = (*batch).clone();
                whole.set_paths(rows.paths());
                self.inner.rows(&whole)?;
            }
        }
        self.inner.finish()
    }
}

fn plain_writer<'a>(layout: Layout, out: impl Write + 'a) -> Box<dyn RowWriter + 'a> {
    match layout.format {
        Format::Csv | Format::Tsv => Box::new(Separated {
            out,
            separator: if layout.format == Format::Csv {
                b','
            } else {
                b'\t'
            },
            header: layout.header,
            buffer: Vec::with_capacity(BUFFER + 4_096),
            width: 0,
        }),
        Format::Json | Format::JsonLines => Box::new(Json {
            out,
            array: layout.format == Format::Json,
            names: Vec::new(),
            buffer: Vec::with_capacity(BUFFER + 4_096),
            first: true,
        }),
        Format::Text => Box::new(Aligned {
            out,
            layout,
            rows: ResultSet::new(Vec::new(), Budget::new(HELD), HELD),
            batch: RowBatch::new(),
        }),
        Format::Record => Box::new(Record {
            out,
            names: Vec::new(),
            header: layout.header,
            first: true,
        }),
    }
}

const BUFFER: usize = 64 * 1024;
/// Bytes the aligned text keeps in memory before it uses a file.
const HELD: u64 = 32 * 1024 * 1024;

struct Separated<W> {
    out: W,
    separator: u8,
    header: bool,
    buffer: Vec<u8>,
    width: usize,
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

struct Json<W> {
    out: W,
    array: bool,
    /// Each name as a JSON string with its colon.
    names: Vec<Vec<u8>>,
    buffer: Vec<u8>,
    first: bool,
}

fn json_text(out: &mut Vec<u8>, text: &str) -> io::Result<()> {
    serde_json::to_writer(out, text).map_err(io::Error::from)
}

impl<W: Write> Json<W> {
    fn end_row(&mut self) -> io::Result<()> {
        if !self.array {
            self.buffer.push(b'\n');
        }
        if self.buffer.len() >= BUFFER {
            self.out.write_all(&self.buffer)?;
            self.buffer.clear();
        }
        Ok(())
    }
}

impl<W: Write> RowWriter for Json<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        for label in column_labels(columns) {
            let mut name = Vec::new();
            json_text(&mut name, &label)?;
            name.push(b':');
            self.names.push(name);
        }
        if self.array {
            self.buffer.push(b'[');
        }
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        let out = &mut self.buffer;
        if self.array {
            out.extend_from_slice(if self.first { b"\n" } else { b",\n" });
        }
        self.first = false;
        if let Some(document) = row.document() {
            extended::write(document, extended::Form::Lossless, out);
            return self.end_row();
        }
        out.push(b'{');
        for (at, (name, value)) in self.names.iter().zip(row.values()).enumerate() {
            if at > 0 {
                out.push(b',');
            }
            out.extend_from_slice(name);
            match value {
                ValueRef::Null | ValueRef::Missing => out.extend_from_slice(b"null"),
                ValueRef::Bson(tag, value) => {
                    let element = Element {
                        name: b"",
                        tag,
                        value,
                    };
                    extended::write_value(&element, extended::Form::Lossless, out);
                }
                ValueRef::Text(text) => json_text(out, text)?,
                ValueRef::RawText(bytes) => json_text(out, &String::from_utf8_lossy(bytes))?,
                ValueRef::Bytes(_) => json_text(out, &value.plain())?,
                ValueRef::Float(f) if !f.is_finite() => json_text(out, &value.plain())?,
                // JSON knows no leading zeros.
                ValueRef::Number(n)
                    if n.trim_start_matches('-').starts_with('0')
                        && !n.contains("0.")
                        && n != "0" =>
                {
                    json_text(out, n)?;
                }
                value => value.write_plain(out),
            }
        }
        out.push(b'}');
        self.end_row()
    }

    fn finish(&mut self) -> io::Result<()> {
        if self.array {
            self.buffer
                .extend_from_slice(if self.first { b"]\n" } else { b"\n]\n" });
        }
        self.out.write_all(&self.buffer)?;
        self.buffer.clear();
        self.out.flush()
    }
}

struct Record<W> {
    out: W,
    names: Vec<String>,
    header: bool,
    first: bool,
}

impl<W: Write> RowWriter for Record<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        let labels = column_labels(columns);
        let shown: Vec<String> = labels
            .iter()
            .map(|label| show_text(label, 60).text())
            .collect();
        let width = shown.iter().map(|label| label.width()).max().unwrap_or(0);
        self.names = shown
            .into_iter()
            .map(|label| format!("{label}{}", " ".repeat(width - label.width())))
            .collect();
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        if !self.first {
            writeln!(self.out)?;
        }
        self.first = false;
        for (name, value) in self.names.iter().zip(row.values()) {
            let shown = show_whole(value, usize::MAX / 4);
            if self.header {
                writeln!(self.out, "{name}  {}", shown.text())?;
            } else {
                writeln!(self.out, "{}", shown.text())?;
            }
        }
        Ok(())
    }

    fn finish(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

struct Aligned<W> {
    out: W,
    layout: Layout,
    rows: ResultSet,
    batch: RowBatch,
}

impl<W: Write> RowWriter for Aligned<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        // Values are kept, not documents.
        let plain = columns.iter().cloned().map(|column| Column {
            path: None,
            ..column
        });
        self.rows = ResultSet::new(plain.collect(), Budget::new(HELD), HELD);
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        self.batch.push_row(row.values());
        if self.batch.encoded() > BUFFER {
            self.rows.append(std::mem::take(&mut self.batch))?;
        }
        Ok(())
    }

    fn finish(&mut self) -> io::Result<()> {
        self.rows.append(std::mem::take(&mut self.batch))?;
        let most = usize::MAX / 4;
        let labels: Vec<String> = column_labels(self.rows.columns())
            .iter()
            .map(|label| show_text(label, most).text())
            .collect();
        if labels.is_empty() {
            return self.out.flush();
        }
        let mut widths: Vec<usize> = labels
            .iter()
            .map(|label| if self.layout.header { label.width() } else { 0 })
            .collect();
        let mut numbers = vec![false; labels.len()];
        for at in 0..self.rows.batches() {
            let (_, batch) = self.rows.batch(at)?;
            for row in batch.rows() {
                for (column, value) in row.values().enumerate().take(widths.len()) {
                    let shown = show_whole(value, most);
                    widths[column] = widths[column].max(shown.width);
                    numbers[column] |= shown.look == Look::Number;
                }
            }
        }
        let gap = if self.layout.lines { " ┆ " } else { "  " };
        let mut line = String::new();
        let put = |line: &mut String, column: usize, text: &str, width: usize, right: bool| {
            if column > 0 {
                line.push_str(gap);
            }
            let fill = " ".repeat(widths[column].saturating_sub(width));
            if right {
                line.push_str(&fill);
            }
            line.push_str(text);
            if !right {
                line.push_str(&fill);
            }
        };
        if self.layout.header {
            for (column, label) in labels.iter().enumerate() {
                put(&mut line, column, label, label.width(), numbers[column]);
            }
            writeln!(self.out, "{}", line.trim_end())?;
            if self.layout.lines {
                let parts: Vec<String> = widths.iter().map(|width| "╌".repeat(*width)).collect();
                writeln!(self.out, "{}", parts.join("╌╌╌"))?;
            }
        }
        for at in 0..self.rows.batches() {
            let (_, batch) = self.rows.batch(at)?;
            for row in batch.rows() {
                line.clear();
                for (column, value) in row.values().enumerate().take(labels.len()) {
                    let shown = show_whole(value, most);
                    let right =
                        shown.look == Look::Number || numbers[column] && shown.look == Look::Null;
                    put(&mut line, column, &shown.text(), shown.width, right);
                }
                writeln!(self.out, "{}", line.trim_end())?;
            }
        }
        self.out.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(layout: Layout) -> String {
        let columns = [
            Column {
                origin: Some(("vessels".into(), "name".into())),
                ..Column::named("name")
            },
            Column {
                origin: Some(("quays".into(), "name".into())),
                ..Column::named("name")
            },
            Column::named("dues"),
        ];
        let mut batch = RowBatch::new();
        batch.push_row([
            ValueRef::Text("Grey, \"Heron\""),
            ValueRef::Null,
            ValueRef::Float(1240.5),
        ]);
        batch.push_row([
            ValueRef::Text("two\nlines"),
            ValueRef::Text(""),
            ValueRef::Integer(7),
        ]);
        batch.push_row([
            ValueRef::RawText(&[b'a', 0xff]),
            ValueRef::Bytes(&[1, 255]),
            ValueRef::Null,
        ]);
        let mut out = Vec::new();
        let mut writer = writer(layout, &mut out);
        writer.columns(&columns).expect("columns");
        writer.rows(&batch).expect("rows");
        writer.finish().expect("end");
        drop(writer);
        String::from_utf8_lossy(&out).into_owned()
    }

    #[test]
    fn every_layout() {
        let lines = |format| written(Layout::of(format));
        assert_eq!(
            lines(Format::Csv),
            "vessels.name,quays.name,dues\n\"Grey, \"\"Heron\"\"\",,1240.5\n\"two\nlines\",\"\",7\na\u{fffd},01ff,\n"
        );
        assert_eq!(
            lines(Format::Json),
            "[\n{\"vessels.name\":\"Grey, \\\"Heron\\\"\",\"quays.name\":null,\"dues\":1240.5},\n{\"vessels.name\":\"two\\nlines\",\"quays.name\":\"\",\"dues\":7},\n{\"vessels.name\":\"a\u{fffd}\",\"quays.name\":\"01ff\",\"dues\":null}\n]\n"
        );
        assert_eq!(
            lines(Format::Text),
            "vessels.name   quays.name    dues\nGrey, \"Heron\"  null        1240.5\ntwo¶lines      ''               7\na⟨ff⟩          x'01ff'       null\n"
        );
        let ruled = written(Layout {
            format: Format::Text,
            header: true,
            lines: true,
        });
        assert!(
            ruled
                .lines()
                .nth(1)
                .is_some_and(|rule| rule.chars().all(|c| c == '╌')),
            "{ruled}"
        );
        assert!(
            lines(Format::Record)
                .starts_with("vessels.name  Grey, \"Heron\"\nquays.name    null\n")
        );
        let bare = written(Layout {
            format: Format::Tsv,
            header: false,
            lines: false,
        });
        assert!(bare.starts_with("\"Grey, \"\"Heron\"\"\"\t\t1240.5\n"));
        assert_eq!(lines(Format::JsonLines).lines().count(), 3);
    }

    #[test]
    fn other_readers_read_what_is_written() {
        let csv = written(Layout::of(Format::Csv));
        let mut reader = csv::Reader::from_reader(csv.as_bytes());
        let rows: Vec<_> = reader.records().map(|r| r.expect("a row")).collect();
        assert_eq!(&rows[0][0], "Grey, \"Heron\"");
        assert_eq!(&rows[1][0], "two\nlines");
        let json: serde_json::Value =
            serde_json::from_str(&written(Layout::of(Format::Json))).expect("JSON");
        assert_eq!(json[1]["vessels.name"], "two\nlines");
    }

    #[test]
    fn nothing_is_still_valid() {
        let mut out = Vec::new();
        let mut json = writer(Layout::of(Format::Json), &mut out);
        json.columns(&[Column::named("n")]).expect("columns");
        json.finish().expect("end");
        drop(json);
        assert_eq!(out, b"[]\n");
    }
}
