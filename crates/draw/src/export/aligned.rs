//! Text with its columns aligned by blanks.

use std::borrow::Cow;
use std::io::{self, Write};
use std::sync::mpsc::sync_channel;

use idle_tide_core::batch::Encoded;
use idle_tide_core::{Column, Row, RowBatch, ValueRef, column_labels};
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
            cells: Cells::default(),
        })
    },
};

struct Aligned<W> {
    out: W,
    layout: Layout,
    /// The rows: as texts that only have to be put in their places, or as they are where they may still become records.
    kept: Kept,
    /// The widest value of each column so far, and whether it has a number.
    widths: Vec<usize>,
    numbers: Vec<bool>,
    cells: Cells,
}

/// Values as the texts of cells: a number is a number of its digits, null stays null, a text that takes as many columns as it has bytes is a
/// text, and any other is a text of bytes, whose width is to be measured.
#[derive(Default)]
struct Cells {
    batch: RowBatch,
    digits: Vec<u8>,
}

impl Cells {
    /// The values of a batch.
    fn of(batch: &RowBatch, layout: &Layout) -> RowBatch {
        let mut cells = Cells::default();
        for row in batch.rows() {
            for value in row.encoded() {
                cells.push(value, layout);
            }
            cells.batch.end_row();
        }
        cells.batch
    }

    /// Adds a value; its width, and whether it is a number.
    fn push(&mut self, value: Encoded<'_>, layout: &Layout) -> (usize, bool) {
        let number = match value {
            Encoded::Integer(_) | Encoded::Float(_) => {
                self.digits.clear();
                value.read().write_plain(&mut self.digits);
                Some(self.digits.as_slice())
            }
            Encoded::Number(digits) => Some(digits),
            _ => None,
        };
        if let Some(digits) = number {
            self.batch.push_number(digits);
            return (digits.len(), true);
        }
        match value {
            Encoded::Null | Encoded::Missing => {
                self.batch.push(ValueRef::Null);
                return (null_of(layout).width(), false);
            }
            Encoded::Text(text) if is_plain(text) => {
                self.batch.push_text(text);
                return (text.len(), false);
            }
            _ => {}
        }
        let shown = layout.shown(value.read());
        let text = shown.text();
        match shown.look {
            Look::Number => self.batch.push_number(text.as_bytes()),
            _ if is_plain(text.as_bytes()) => self.batch.push_text(text.as_bytes()),
            _ => self.batch.push(ValueRef::RawText(text.as_bytes())),
        }
        (shown.width, shown.look == Look::Number)
    }
}

fn null_of(layout: &Layout) -> Cow<'_, str> {
    match &layout.null {
        None => "null".into(),
        Some(text) => show_text(text, usize::MAX / 4).text().into(),
    }
}

/// Whether a text is shown as it stands, a column a byte.
fn is_plain(text: &[u8]) -> bool {
    text.iter().all(|byte| matches!(byte, 0x20..=0x7e))
        && text.last().is_some_and(|last| *last != b' ')
}

impl<W: Write + Send> RowWriter for Aligned<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.kept.columns(columns);
        self.widths = vec![0; columns.len()];
        self.numbers = vec![false; columns.len()];
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        for (column, value) in row.encoded().enumerate().take(self.widths.len()) {
            let (width, is_number) = self.cells.push(value, &self.layout);
            self.widths[column] = self.widths[column].max(width);
            self.numbers[column] |= is_number;
        }
        self.cells.batch.end_row();
        if self.layout.fits.is_some() {
            self.cells.batch = RowBatch::new();
            return self.kept.row(row);
        }
        if self.cells.batch.encoded() > BUFFER {
            self.kept
                .rows
                .append(std::mem::take(&mut self.cells.batch))?;
        }
        Ok(())
    }

    fn finish(&mut self) -> io::Result<()> {
        self.kept.rows.append(match self.layout.fits {
            Some(_) => std::mem::take(&mut self.kept.batch),
            None => std::mem::take(&mut self.cells.batch),
        })?;
        let rows = &self.kept.rows;
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
        let null = null_of(&self.layout);
        let lines = Lines {
            gap: if self.layout.lines { " ┆ " } else { "  " },
            null: (null.as_bytes(), null.width()),
            widths: &widths,
            numbers: &self.numbers,
        };
        if self.layout.header {
            let mut head = Vec::new();
            for (column, label) in labels.iter().enumerate() {
                let right = self.numbers[column];
                lines.put(&mut head, column, label.as_bytes(), label.width(), right);
            }
            lines.end(&mut head, 0);
            self.out.write_all(&head)?;
            if self.layout.lines {
                let parts: Vec<String> = widths.iter().map(|width| "╌".repeat(*width)).collect();
                writeln!(self.out, "{}", parts.join("╌╌╌"))?;
            }
        }
        let layout = &self.layout;
        let part = |number: usize| {
            let mut out = Vec::new();
            let first = number * PART;
            for at in first..rows.batches().min(first + PART) {
                let (_, batch) = rows.batch(at)?;
                match layout.fits {
                    Some(_) => lines.batch(&Cells::of(&batch, layout), &mut out),
                    None => lines.batch(&batch, &mut out),
                }
            }
            Ok(out)
        };
        in_order(rows.batches().div_ceil(PART), &part, &mut |part| {
            self.out.write_all(part)
        })?;
        self.out.flush()
    }
}

/// Batches of one part of the text.
const PART: usize = 8;

/// Makes parts in two threads, and hands them over in their order.
fn in_order(
    count: usize,
    make: &(dyn Fn(usize) -> io::Result<Vec<u8>> + Sync),
    put: &mut dyn FnMut(&[u8]) -> io::Result<()>,
) -> io::Result<()> {
    std::thread::scope(|scope| {
        let (sender, others) = sync_channel(2);
        if count > 1 {
            scope.spawn(move || {
                let mut odd = (1..count).step_by(2);
                // Nobody takes more once the output has failed.
                odd.all(|number| sender.send(make(number)).is_ok())
            });
        }
        (0..count).try_for_each(|number| {
            let part = match number % 2 {
                0 => make(number),
                _ => others.recv().map_err(io::Error::other)?,
            };
            put(&part?)
        })
    })
}

/// Lines of cells.
struct Lines<'a> {
    gap: &'static str,
    /// What stands for null, and how wide it is.
    null: (&'a [u8], usize),
    widths: &'a [usize],
    numbers: &'a [bool],
}

impl Lines<'_> {
    fn put(&self, line: &mut Vec<u8>, column: usize, text: &[u8], width: usize, right: bool) {
        if column > 0 {
            line.extend_from_slice(self.gap.as_bytes());
        }
        let fill = self.widths[column].saturating_sub(width);
        let before = if right { fill } else { 0 };
        line.resize(line.len() + before, b' ');
        line.extend_from_slice(text);
        line.resize(line.len() + fill - before, b' ');
    }

    /// Ends a line; nothing is left of blanks at its end.
    fn end(&self, line: &mut Vec<u8>, start: usize) {
        let blanks = line[start..].iter().rev().take_while(|byte| **byte == b' ');
        line.truncate(line.len() - blanks.count());
        line.push(b'\n');
    }

    fn batch(&self, cells: &RowBatch, out: &mut Vec<u8>) {
        for row in cells.rows() {
            let start = out.len();
            for (column, value) in row.encoded().enumerate().take(self.widths.len()) {
                let (text, width, right) = match value {
                    Encoded::Number(text) => (text, text.len(), true),
                    Encoded::Text(text) => (text, text.len(), false),
                    Encoded::RawText(text) => (text, String::from_utf8_lossy(text).width(), false),
                    _ => (self.null.0, self.null.1, self.numbers[column]),
                };
                self.put(out, column, text, width, right);
            }
            self.end(out, start);
        }
    }
}
