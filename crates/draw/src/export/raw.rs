//! The bytes of one value as they are: a picture out of a column of bytes, a long text.

use std::io::{self, Write};

use idle_tide_core::{Column, Row, ValueRef};

use super::{Format, RowWriter};

/// One value.
pub static RAW: Format = Format {
    name: "raw",
    label: "the bytes of one value",
    endings: &["bin"],
    for_people: false,
    nested: false,
    binary: true,
    options: &[],
    make: |_, out| {
        Box::new(Raw {
            out,
            width: 0,
            rows: 0,
        })
    },
};

struct Raw<'a> {
    out: Box<dyn Write + Send + 'a>,
    width: usize,
    rows: u64,
}

impl RowWriter for Raw<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.width = columns.len();
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        self.rows += 1;
        if self.rows > 1 || self.width != 1 {
            return Err(io::Error::other(
                "raw takes one value, and this result has more; a statement that gives one row and one column does",
            ));
        }
        match row.get(0) {
            ValueRef::Null | ValueRef::Missing => {
                Err(io::Error::other("the value is null, which has no bytes"))
            }
            ValueRef::Bytes(bytes) | ValueRef::RawText(bytes) => self.out.write_all(bytes),
            ValueRef::Text(text) => self.out.write_all(text.as_bytes()),
            other => self.out.write_all(other.plain().as_bytes()),
        }
    }

    fn finish(&mut self) -> io::Result<()> {
        match self.rows {
            0 => Err(io::Error::other("there is no row, and so no value")),
            _ => self.out.flush(),
        }
    }
}
