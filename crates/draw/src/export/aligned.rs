//! Text with its columns aligned by blanks.

use std::io::{self, Write};

use idle_tide_core::{Column, Row, column_labels};
use unicode_width::UnicodeWidthStr;

use super::{Format, Kept, Layout, RowWriter};
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
        })
    },
};

struct Aligned<W> {
    out: W,
    layout: Layout,
    kept: Kept,
}

impl<W: Write> RowWriter for Aligned<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.kept.columns(columns);
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        self.kept.row(row)
    }

    fn finish(&mut self) -> io::Result<()> {
        let rows = self.kept.whole()?;
        let most = usize::MAX / 4;
        let labels: Vec<String> = column_labels(rows.columns())
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
        for at in 0..rows.batches() {
            let (_, batch) = rows.batch(at)?;
            for row in batch.rows() {
                for (column, value) in row.values().enumerate().take(widths.len()) {
                    let shown = self.layout.shown(value);
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
        for at in 0..rows.batches() {
            let (_, batch) = rows.batch(at)?;
            for row in batch.rows() {
                line.clear();
                for (column, value) in row.values().enumerate().take(labels.len()) {
                    let shown = self.layout.shown(value);
                    let right = shown.look == Look::Number || numbers[column] && value.is_null();
                    put(&mut line, column, &shown.text(), shown.width, right);
                }
                writeln!(self.out, "{}", line.trim_end())?;
            }
        }
        self.out.flush()
    }
}
