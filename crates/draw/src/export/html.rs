//! A page of HTML with one table. Nothing in the data can begin markup: what has a meaning there is a reference, and
//! characters that HTML does not allow are replaced.

use std::io::{self, Write};

use idle_tide_core::{Column, Row, ValueRef, column_labels};

use super::{BUFFER, Format, Layout, RowWriter};

/// A page of HTML.
pub static HTML: Format = Format {
    name: "html",
    label: "HTML",
    endings: &["htm"],
    for_people: false,
    nested: false,
    binary: false,
    options: &["no-header", "null"],
    make: |layout, out| {
        Box::new(Html {
            out,
            layout,
            text: String::with_capacity(BUFFER + 4_096),
            plain: Vec::new(),
        })
    },
};

const HEAD: &str = "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>Rows</title>\n<style>\n\
body { font: 14px/1.45 system-ui, sans-serif; margin: 2em; color: #1b2a33; background: #ffffff; }\n\
table { border-collapse: collapse; }\n\
th, td { text-align: left; vertical-align: top; padding: .3em .9em; border-bottom: 1px solid #c9d4da; }\n\
td { white-space: pre-wrap; }\n\
.number { text-align: right; font-variant-numeric: tabular-nums; }\n\
.null { color: #6b7b84; }\n\
</style>\n</head>\n<body>\n<table>\n";

struct Html<'a> {
    out: Box<dyn Write + Send + 'a>,
    layout: Layout,
    text: String,
    plain: Vec<u8>,
}

fn escape(text: &str, into: &mut String) {
    for character in text.chars() {
        match character {
            '&' => into.push_str("&amp;"),
            '<' => into.push_str("&lt;"),
            '>' => into.push_str("&gt;"),
            '"' => into.push_str("&quot;"),
            '\n' | '\t' => into.push(character),
            // A reader would make a plain line break of it.
            '\r' => into.push_str("&#13;"),
            character if character.is_control() => into.push('\u{fffd}'),
            character => into.push(character),
        }
    }
}

impl RowWriter for Html<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.text.push_str(HEAD);
        if self.layout.header {
            self.text.push_str("<thead>\n<tr>");
            for label in column_labels(columns) {
                self.text.push_str("<th>");
                escape(&label, &mut self.text);
                self.text.push_str("</th>");
            }
            self.text.push_str("</tr>\n</thead>\n");
        }
        self.text.push_str("<tbody>\n");
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        self.text.push_str("<tr>");
        for value in row.values() {
            match value {
                ValueRef::Null | ValueRef::Missing => {
                    self.text.push_str("<td class=\"null\">");
                    escape(
                        self.layout.null.as_deref().unwrap_or_default(),
                        &mut self.text,
                    );
                }
                ValueRef::Integer(_) | ValueRef::Float(_) | ValueRef::Number(_) => {
                    self.text.push_str("<td class=\"number\">");
                    escape(&value.plain(), &mut self.text);
                }
                value => {
                    self.text.push_str("<td>");
                    self.plain.clear();
                    value.write_plain(&mut self.plain);
                    escape(&String::from_utf8_lossy(&self.plain), &mut self.text);
                }
            }
            self.text.push_str("</td>");
        }
        self.text.push_str("</tr>\n");
        if self.text.len() >= BUFFER {
            self.out.write_all(self.text.as_bytes())?;
            self.text.clear();
        }
        Ok(())
    }

    fn finish(&mut self) -> io::Result<()> {
        self.text.push_str("</tbody>\n</table>\n</body>\n</html>\n");
        self.out.write_all(self.text.as_bytes())?;
        self.text.clear();
        self.out.flush()
    }
}
