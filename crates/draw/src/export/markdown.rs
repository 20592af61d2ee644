//! A table of Markdown (GitHub Flavored Markdown, 4.10), numbers to the right. Whatever has a meaning there is
//! escaped, so that a value can begin no markup; line breaks are `<br>`.

use std::io::{self, Write};

use idle_tide_core::{Column, Row, ValueRef, column_labels};

use super::{Format, Kept, Layout, RowWriter};

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
            kept: Kept::new(),
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

/// Keeps rows until it is known which columns are numbers.
struct Markdown<W> {
    out: W,
    layout: Layout,
    kept: Kept,
}

fn escape(text: &str, into: &mut String) {
    let mut characters = text.chars().peekable();
    while let Some(character) = characters.next() {
        match character {
            '\\' | '`' | '*' | '_' | '[' | ']' | '|' | '~' => {
                into.push('\\');
                into.push(character);
            }
            '<' => into.push_str("&lt;"),
            '>' => into.push_str("&gt;"),
            '&' => into.push_str("&amp;"),
            '\r' if characters.peek() == Some(&'\n') => {}
            '\n' | '\r' => into.push_str("<br>"),
            character if character.is_control() => into.push('\u{fffd}'),
            character => into.push(character),
        }
    }
}

impl<W: Write> RowWriter for Markdown<W> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.kept.columns(columns);
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        self.kept.row(row)
    }

    fn finish(&mut self) -> io::Result<()> {
        let rows = self.kept.whole()?;
        let labels = column_labels(rows.columns());
        if labels.is_empty() {
            return self.out.flush();
        }
        // A column is one of numbers if it holds a number and nothing else but nulls.
        let (mut some, mut all) = (vec![false; labels.len()], vec![true; labels.len()]);
        for at in 0..rows.batches() {
            let (_, batch) = rows.batch(at)?;
            for row in batch.rows() {
                for (column, value) in row.values().enumerate().take(labels.len()) {
                    let number = matches!(
                        value,
                        ValueRef::Integer(_) | ValueRef::Float(_) | ValueRef::Number(_)
                    );
                    some[column] |= number;
                    all[column] &= number || value.is_null();
                }
            }
        }
        let mut line = String::new();
        if self.layout.header {
            for label in &labels {
                line.push_str("| ");
                escape(label, &mut line);
                line.push(' ');
            }
        } else {
            // A table has a head; it may be empty.
            line.push_str(&"|  ".repeat(labels.len()));
        }
        writeln!(self.out, "{line}|")?;
        let right = |column: usize| some[column] && all[column];
        let rules =
            (0..labels.len()).map(|column| if right(column) { "| ---: " } else { "| --- " });
        writeln!(self.out, "{}|", rules.collect::<String>())?;
        let mut plain = Vec::new();
        for at in 0..rows.batches() {
            let (_, batch) = rows.batch(at)?;
            for row in batch.rows() {
                line.clear();
                for value in row.values().take(labels.len()) {
                    line.push_str("| ");
                    if value.is_null() {
                        escape(self.layout.null.as_deref().unwrap_or_default(), &mut line);
                    } else {
                        plain.clear();
                        value.write_plain(&mut plain);
                        escape(&String::from_utf8_lossy(&plain), &mut line);
                    }
                    line.push(' ');
                }
                writeln!(self.out, "{line}|")?;
            }
        }
        self.out.flush()
    }
}
