//! A table of Markdown (GitHub Flavored Markdown, 4.10), numbers to the right. Whatever has a meaning there is
//! escaped, so that a value can begin no markup; line breaks are `<br>`.

use std::io::{self, Write};

use idle_tide_core::{Column, Row, RowBatch, ValueRef, column_labels};

use super::{BUFFER, Format, Layout, RowWriter};

/// A table of Markdown.
pub static MARKDOWN: Format = Format {
    name: "markdown",
    label: "Markdown",
    endings: &["md"],
    for_people: true,
    binary: false,
    options: &["no-header", "null"],
    nested: false,
    make: |layout, out| {
        Box::new(Markdown {
            out,
            layout,
            labels: Vec::new(),
            first: None,
            text: String::new(),
            plain: Vec::new(),
        })
    },
};

/// A text as a cell of a table, so that it is read as it was; blanks at its ends too.
pub fn markdown_text(text: &str) -> String {
    let mut cell = String::new();
    let inner = text.trim_matches(' ');
    let (before, after) = match inner.is_empty() {
        true => (text.len(), 0),
        false => {
            let before = text.len() - text.trim_start_matches(' ').len();
            (before, text.len() - before - inner.len())
        }
    };
    cell.push_str(&"&#32;".repeat(before));
    escape(inner, &mut cell);
    cell.push_str(&"&#32;".repeat(after));
    cell
}

/// Rows that are looked at before it is said which columns are numbers.
const LOOKED_AT: usize = 1_000;

/// Keeps the first rows until it is known which columns are numbers.
struct Markdown<W> {
    out: W,
    layout: Layout,
    labels: Vec<String>,
    /// The first rows, until the head is written.
    first: Option<RowBatch>,
    text: String,
    plain: Vec<u8>,
}

impl<W: Write> Markdown<W> {
    fn head(&mut self, first: &RowBatch) -> io::Result<()> {
        if self.layout.header {
            for label in &self.labels {
                self.text.push_str("| ");
                escape(label, &mut self.text);
                self.text.push(' ');
            }
        } else {
            // A table has a head; it may be empty.
            self.text.push_str(&"|  ".repeat(self.labels.len()));
        }
        self.text.push_str("|\n");
        // A column is one of numbers if it holds a number and nothing else but nulls.
        let (mut some, mut all) = (
            vec![false; self.labels.len()],
            vec![true; self.labels.len()],
        );
        for row in first.rows() {
            for (column, value) in row.values().enumerate().take(self.labels.len()) {
                let number = matches!(
                    value,
                    ValueRef::Integer(_) | ValueRef::Float(_) | ValueRef::Number(_)
                );
                some[column] |= number;
                all[column] &= number || value.is_null();
            }
        }
        for (some, all) in some.iter().zip(&all) {
            self.text
                .push_str(if *some && *all { "| ---: " } else { "| --- " });
        }
        self.text.push_str("|\n");
        first.rows().try_for_each(|row| self.line(row))
    }

    fn line(&mut self, row: Row<'_>) -> io::Result<()> {
        for value in row.values().take(self.labels.len()) {
            self.text.push_str("| ");
            match value {
                value if value.is_null() => {
                    let null = self.layout.null.as_deref().unwrap_or_default();
                    escape(null, &mut self.text);
                }
                ValueRef::Text(text) => escape(text, &mut self.text),
                value => {
                    self.plain.clear();
                    value.write_plain(&mut self.plain);
                    escape(&String::from_utf8_lossy(&self.plain), &mut self.text);
                }
            }
            self.text.push(' ');
        }
        self.text.push_str("|\n");
        if self.text.len() >= BUFFER {
            self.out.write_all(self.text.as_bytes())?;
            self.text.clear();
        }
        Ok(())
    }
}

impl<W: Write> RowWriter for Markdown<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.labels = column_labels(columns);
        self.first = (!columns.is_empty()).then(RowBatch::new);
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        let Some(first) = &mut self.first else {
            return self.line(row);
        };
        first.push_row(row.values());
        match first.len() < LOOKED_AT {
            true => Ok(()),
            false => {
                let first = self.first.take().unwrap_or_default();
                self.head(&first)
            }
        }
    }

    fn finish(&mut self) -> io::Result<()> {
        if let Some(first) = self.first.take() {
            self.head(&first)?;
        }
        self.out.write_all(self.text.as_bytes())?;
        self.text.clear();
        self.out.flush()
    }
}

fn escape(text: &str, into: &mut String) {
    let mut from = 0;
    let bytes = text.as_bytes();
    // Everything that has a meaning is one byte, but for the control characters behind ASCII.
    for (at, byte) in bytes.iter().enumerate() {
        if !SPECIAL[usize::from(*byte)] || at < from {
            continue;
        }
        into.push_str(&text[from..at]);
        from = at + 1;
        match byte {
            b'\\' | b'`' | b'*' | b'_' | b'[' | b']' | b'|' | b'~' => {
                into.push('\\');
                into.push(char::from(*byte));
            }
            b'<' => into.push_str("&lt;"),
            b'>' => into.push_str("&gt;"),
            b'&' => into.push_str("&amp;"),
            b'\r' if bytes.get(at + 1) == Some(&b'\n') => {}
            b'\n' | b'\r' => into.push_str("<br>"),
            0xc2 => match text[at..].chars().next() {
                Some(character) if character.is_control() => {
                    into.push('\u{fffd}');
                    from = at + character.len_utf8();
                }
                _ => from = at,
            },
            _ => into.push('\u{fffd}'),
        }
    }
    into.push_str(&text[from..]);
}

/// Bytes that are not written as they are, and the first one of those control characters that have two.
static SPECIAL: [bool; 256] = {
    let mut table = [false; 256];
    let mut at = 0;
    while at < 256 {
        table[at] = at < 0x20
            || at == 0x7f
            || at == 0xc2
            || matches!(
                at as u8,
                b'\\' | b'`' | b'*' | b'_' | b'[' | b']' | b'|' | b'~' | b'<' | b'>' | b'&'
            );
        at += 1;
    }
    table
};
