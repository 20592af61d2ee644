//! One field per line, an empty line between rows.

use std::io::{self, Write};

use idle_tide_core::{Column, Row, column_labels};
use unicode_width::UnicodeWidthStr;

use super::{Format, Layout, RowWriter};
use crate::marks::show_text;

/// One field per line.
pub static RECORD: Format = Format {
    name: "record",
    label: "record",
    endings: &[],
    for_people: true,
    binary: false,
    options: &["no-header", "null"],
    nested: false,
    make: |layout, out| {
        Box::new(Record {
            out,
            names: Vec::new(),
            layout,
            first: true,
        })
    },
};

struct Record<W> {
    out: W,
    names: Vec<String>,
    layout: Layout,
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
            let shown = self.layout.shown(value);
            if self.layout.header {
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
