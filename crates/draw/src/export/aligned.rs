//! Text with its columns aligned by blanks.

use std::io::{self, Write};

use idle_tide_core::batch::Encoded;
use idle_tide_core::{Column, Row, column_labels};
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
        let null = self.layout.null.as_deref().unwrap_or("null").as_bytes();
        for (column, value) in row.encoded().enumerate().take(self.widths.len()) {
            let (width, is_number) = match plainly(value, null, &mut self.plain) {
                Some((text, is_number)) => (text.len(), is_number),
                None => {
                    let shown = self.layout.shown(value.read());
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
        let mut out: Vec<u8> = Vec::new();
        let put = |line: &mut Vec<u8>, column: usize, text: &[u8], width: usize, right: bool| {
            if column > 0 {
                line.extend_from_slice(gap.as_bytes());
            }
            let fill = widths[column].saturating_sub(width);
            let before = if right { fill } else { 0 };
            line.resize(line.len() + before, b' ');
            line.extend_from_slice(text);
            line.resize(line.len() + fill - before, b' ');
        };
        // Nothing is left of blanks at the end of a line.
        let end = |line: &mut Vec<u8>, start: usize| {
            let blanks = line[start..].iter().rev().take_while(|byte| **byte == b' ');
            line.truncate(line.len() - blanks.count());
            line.push(b'\n');
        };
        if self.layout.header {
            for (column, label) in labels.iter().enumerate() {
                let right = self.numbers[column];
                put(&mut out, column, label.as_bytes(), label.width(), right);
            }
            end(&mut out, 0);
            if self.layout.lines {
                let parts: Vec<String> = widths.iter().map(|width| "╌".repeat(*width)).collect();
                writeln!(out, "{}", parts.join("╌╌╌"))?;
            }
        }
        let null = self.layout.null.as_deref().unwrap_or("null").as_bytes();
        for at in 0..rows.batches() {
            let (_, batch) = rows.batch(at)?;
            for row in batch.rows() {
                let start = out.len();
                for (column, value) in row.encoded().enumerate().take(labels.len()) {
                    let is_null = matches!(value, Encoded::Null | Encoded::Missing);
                    let of_numbers = self.numbers[column] && is_null;
                    if let Some((text, is_number)) = plainly(value, null, &mut self.plain) {
                        put(&mut out, column, text, text.len(), is_number || of_numbers);
                        continue;
                    }
                    let shown = self.layout.shown(value.read());
                    let right = shown.look == Look::Number || of_numbers;
                    put(
                        &mut out,
                        column,
                        shown.text().as_bytes(),
                        shown.width,
                        right,
                    );
                }
                end(&mut out, start);
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

/// A value that is shown as it stands: a number, null, or a text of plain ASCII, which is as wide as it has bytes; and whether it is
/// a number. `None` where it has to be looked at sign by sign.
fn plainly<'a>(
    value: Encoded<'a>,
    null: &'a [u8],
    written: &'a mut Vec<u8>,
) -> Option<(&'a [u8], bool)> {
    let (text, is_number) = match value {
        Encoded::Integer(_) | Encoded::Float(_) => {
            written.clear();
            value.read().write_plain(written);
            return Some((written, true));
        }
        Encoded::Null => (null, false),
        Encoded::Text(text) => (text, false),
        Encoded::Number(digits) => (digits, true),
        _ => return None,
    };
    let as_it_stands = text.iter().all(|byte| matches!(byte, 0x20..=0x7e))
        && text.last().is_some_and(|last| *last != b' ');
    as_it_stands.then_some((text, is_number))
}
