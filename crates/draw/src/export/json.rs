//! JSON (RFC 8259): one array of objects, or one object a line. Documents go out as Extended JSON (version 2 of the public
//! specification): in the canonical or the relaxed form where that was asked for, else relaxed as far as every kind is kept;
//! what a column of the type `json` holds goes out as JSON where it is JSON, and else as text.

use std::io::{self, Write};

use idle_tide_core::batch::Encoded;
use idle_tide_core::document::bson::Element;
use idle_tide_core::document::extended::{self, Form};
use idle_tide_core::{Column, Row, ValueRef, column_labels};

use super::{BUFFER, Format, RowWriter, bytes_below};

/// One array of objects.
pub static JSON: Format = Format {
    name: "json",
    label: "JSON",
    endings: &[],
    for_people: false,
    binary: false,
    options: &[],
    nested: true,
    make: |_, out| Box::new(Json::new(true, Form::Lossless, out)),
};

/// One object a line.
pub static JSON_LINES: Format = Format {
    name: "jsonl",
    label: "JSON lines",
    endings: &["ndjson"],
    for_people: false,
    binary: false,
    options: &[],
    nested: true,
    make: |_, out| Box::new(Json::new(false, Form::Lossless, out)),
};

/// One object a line, documents in the canonical form: every kind is named.
pub static CANONICAL: Format = Format {
    name: "canonical",
    label: "canonical Extended JSON, a document a line",
    endings: &[],
    for_people: false,
    binary: false,
    options: &[],
    nested: true,
    make: |_, out| Box::new(Json::new(false, Form::Canonical, out)),
};

/// One object a line, documents in the relaxed form: numbers and dates as people write them.
pub static RELAXED: Format = Format {
    name: "relaxed",
    label: "relaxed Extended JSON, a document a line",
    endings: &[],
    for_people: false,
    binary: false,
    options: &[],
    nested: true,
    make: |_, out| Box::new(Json::new(false, Form::Relaxed, out)),
};

struct Json<W> {
    out: W,
    array: bool,
    form: Form,
    /// Each name as a JSON string with its colon, and a comma before it.
    names: Vec<Vec<u8>>,
    /// Which columns were declared to hold JSON.
    holds_json: Vec<bool>,
    buffer: Vec<u8>,
    first: bool,
}

fn json_text(out: &mut Vec<u8>, text: &str) -> io::Result<()> {
    if !needs_escapes(text.as_bytes()) {
        out.push(b'"');
        out.extend_from_slice(text.as_bytes());
        out.push(b'"');
        return Ok(());
    }
    serde_json::to_writer(out, text).map_err(io::Error::from)
}

/// Whether a byte is a quote, a backslash or a control character, eight at a time.
fn needs_escapes(bytes: &[u8]) -> bool {
    let every = |byte: u8| u64::from(byte) * 0x0101_0101_0101_0101;
    let special = |word: u64| {
        bytes_below(word, 0x20)
            | bytes_below(word ^ every(b'"'), 1)
            | bytes_below(word ^ every(b'\\'), 1)
            != 0
    };
    let mut chunks = bytes.chunks_exact(8);
    let word = |part: &[u8]| u64::from_le_bytes(part.try_into().unwrap_or([0; 8]));
    chunks.by_ref().any(|part| special(word(part)))
        || chunks
            .remainder()
            .iter()
            .any(|byte| matches!(byte, 0..0x20 | b'"' | b'\\'))
}

/// Whether a column's type says JSON. Only the name counts: an engine may let anything into it.
fn is_json(column: &Column) -> bool {
    column.declared.as_deref().is_some_and(|declared| {
        declared.eq_ignore_ascii_case("json") || declared.eq_ignore_ascii_case("jsonb")
    })
}

/// Writes a text as the JSON it is, digit by digit and on one line: a line break can stand between its signs only. False,
/// and nothing written, where it is no JSON.
fn json_value(out: &mut Vec<u8>, text: &str) -> bool {
    let parses = serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok();
    if parses {
        let on_one_line = |byte: u8| {
            if matches!(byte, b'\n' | b'\r') {
                b' '
            } else {
                byte
            }
        };
        out.extend(text.trim().bytes().map(on_one_line));
    }
    parses
}

impl<W: Write> Json<W> {
    fn new(array: bool, form: Form, out: W) -> Self {
        Json {
            out,
            array,
            form,
            names: Vec::new(),
            holds_json: Vec::new(),
            buffer: Vec::with_capacity(BUFFER + 4_096),
            first: true,
        }
    }

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
            let mut name = vec![b','];
            json_text(&mut name, &label)?;
            name.push(b':');
            self.names.push(name);
        }
        self.holds_json = columns.iter().map(is_json).collect();
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
            extended::write(document, self.form, out);
            return self.end_row();
        }
        out.push(b'{');
        for (at, (name, value)) in self.names.iter().zip(row.encoded()).enumerate() {
            // A comma stands before every name, and not before the first.
            out.extend_from_slice(&name[usize::from(at == 0)..]);
            // What is plain ASCII needs no look at its characters.
            if let Encoded::Text(bytes) = value
                && !self.holds_json[at]
                && bytes.is_ascii()
                && !needs_escapes(bytes)
            {
                out.push(b'"');
                out.extend_from_slice(bytes);
                out.push(b'"');
                continue;
            }
            let value = value.read();
            match value {
                ValueRef::Null | ValueRef::Missing => out.extend_from_slice(b"null"),
                ValueRef::Bson(tag, value) => {
                    let element = Element {
                        name: b"",
                        tag,
                        value,
                    };
                    extended::write_value(&element, self.form, out);
                }
                ValueRef::Text(text) if self.holds_json[at] && json_value(out, text) => {}
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
