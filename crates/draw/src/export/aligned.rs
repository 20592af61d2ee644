//! Text with its columns aligned by blanks.

use std::io::{self, Write};

use idle_tide_core::{Column, Row, ValueRef, column_labels};
use unicode_width::UnicodeWidthStr;

use super::{BUFFER, Format, Kept, Layout, RECORD, RowWriter};
use crate::marks::{Look, show_text};

/// Columns aligned with blanks.
pub static TEXT: Format = Format {
    name: "text",
    label: "text",
    endings: &["txt"],
    for_people: true,
    binary: false,
    options: &["no-header", "lines", "null"],
    nested: false,
    make: |layout, out| {
        Box::new(Aligned {
            out,
            layout,
            kept: Kept::new(),
            widths: Vec::new(),
            numbers: Vec::new(),
            plain: Vec::new(),
        })
    },
};

struct Aligned<W> {
    out: W,
    layout: Layout,
    kept: Kept,
    /// The widest value of each column so far, and whether it has a number.
    widths: Vec<usize>,
    numbers: Vec<bool>,
    plain: Vec<u8>,
}

impl<W: Write + Send> RowWriter for Aligned<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.kept.columns(columns);
        self.widths = vec![0; columns.len()];
        self.numbers = vec![false; columns.len()];
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        for (column, value) in row.values().enumerate().take(self.widths.len()) {
            let (width, is_number) = match plainly(value, &self.layout, &mut self.plain) {
                Some(is_number) => (self.plain.len(), is_number),
                None => {
                    let shown = self.layout.shown(value);
                    (shown.width, shown.look == Look::Number)
                }
            };
            self.widths[column] = self.widths[column].max(width);
            self.numbers[column] |= is_number;
        }
        self.kept.row(row)
    }

    fn finish(&mut self) -> io::Result<()> {
        let rows = self.kept.whole()?;
        let labels: Vec<String> = column_labels(rows.columns())
            .iter()
            .map(|label| show_text(label, usize::MAX / 4).text())
            .collect();
        if labels.is_empty() {
            return self.out.flush();
        }
        let widest = |(label, width): (&String, &usize)| match self.layout.header {
            true => label.width().max(*width),
            false => *width,
        };
        let widths: Vec<usize> = labels.iter().zip(&self.widths).map(widest).collect();
        let whole = widths.iter().sum::<usize>() + widths.len().saturating_sub(1) * 2;
        if self.layout.fits.is_some_and(|fits| whole > fits) && !rows.is_empty() {
            let layout = Layout {
                format: &RECORD,
                fits: None,
                ..self.layout.clone()
            };
            let mut records = super::writer(layout, &mut self.out);
            records.columns(rows.columns())?;
            for at in 0..rows.batches() {
                records.rows(&rows.batch(at)?.1)?;
            }
            return records.finish();
        }
        let gap = if self.layout.lines { " ┆ " } else { "  " };
        let (mut line, mut out) = (String::new(), Vec::new());
        let put = |line: &mut String, column: usize, text: &str, width: usize, right: bool| {
            if column > 0 {
                line.push_str(gap);
            }
            let fill = std::iter::repeat_n(' ', widths[column].saturating_sub(width));
            if right {
                line.extend(fill.clone());
            }
            line.push_str(text);
            if !right {
                line.extend(fill);
            }
        };
        if self.layout.header {
            for (column, label) in labels.iter().enumerate() {
                put(
                    &mut line,
                    column,
                    label,
                    label.width(),
                    self.numbers[column],
                );
            }
            writeln!(out, "{}", line.trim_end())?;
            if self.layout.lines {
                let parts: Vec<String> = widths.iter().map(|width| "╌".repeat(*width)).collect();
                writeln!(out, "{}", parts.join("╌╌╌"))?;
            }
        }
        for at in 0..rows.batches() {
            let (_, batch) = rows.batch(at)?;
            for row in batch.rows() {
                line.clear();
                for (column, value) in row.values().enumerate().take(labels.len()) {
                    let of_numbers = self.numbers[column] && value.is_null();
                    if let Some(is_number) = plainly(value, &self.layout, &mut self.plain) {
                        let text = std::str::from_utf8(&self.plain).unwrap_or_default();
                        put(&mut line, column, text, text.len(), is_number || of_numbers);
                        continue;
                    }
                    let shown = self.layout.shown(value);
                    let right = shown.look == Look::Number || of_numbers;
                    put(&mut line, column, &shown.text(), shown.width, right);
                }
                out.extend_from_slice(line.trim_end().as_bytes());
                out.push(b'\n');
                if out.len() >= BUFFER {
                    self.out.write_all(&out)?;
                    out.clear();
                }
            }
        }
        self.out.write_all(&out)?;
        self.out.flush()
    }
}

/// Writes a value that is shown as it stands: a number, null, or a text of plain ASCII, which is as wide as it has bytes. Whether
/// it is a number; `None`, and nothing to be used, where it has to be looked at sign by sign.
fn plainly(value: ValueRef<'_>, layout: &Layout, plain: &mut Vec<u8>) -> Option<bool> {
    plain.clear();
    let text = match value {
        ValueRef::Integer(_) | ValueRef::Float(_) => {
            value.write_plain(plain);
            return Some(true);
        }
        ValueRef::Null => layout.null.as_deref().unwrap_or("null"),
        ValueRef::Text(text) => text,
        _ => return None,
    };
    let bytes = text.as_bytes();
    let as_it_stands = bytes.iter().all(|byte| matches!(byte, 0x20..=0x7e))
        && bytes.last().is_some_and(|last| *last != b' ');
    as_it_stands.then(|| {
        plain.extend_from_slice(bytes);
        false
    })
}
