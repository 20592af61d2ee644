//! Rows as statements of SQL that put them into a table again, several rows a statement (ISO/IEC 9075-2, 14.11), in the words
//! of a dialect; with the statement that makes the table where that is asked for.

use std::io::{self, Write};

use idle_tide_core::column_type::Evidence;
use idle_tide_core::{Column, Row, column_labels};

use super::{BUFFER, Format, Kept, Layout, RowWriter};

/// Statements of SQL.
pub static SQL: Format = Format {
    name: "sql",
    label: "SQL inserts",
    endings: &[],
    for_people: false,
    nested: false,
    binary: false,
    options: &["table", "dialect", "create"],
    make: |layout, out| {
        Box::new(Inserts {
            out,
            kept: layout.create.then(|| (Kept::new(), Vec::new())),
            layout,
            head: String::new(),
            buffer: String::with_capacity(BUFFER + 4_096),
            rows: 0,
        })
    },
};

/// Rows of one statement, at most.
const ROWS: usize = 200;

struct Inserts<'a> {
    out: Box<dyn Write + Send + 'a>,
    layout: Layout,
    /// Rows that are kept until the types of their columns are known, and what is known of them.
    kept: Option<(Kept, Vec<Evidence>)>,
    /// How every statement begins.
    head: String,
    buffer: String,
    /// Rows of the statement that is being written.
    rows: usize,
}

impl Inserts<'_> {
    /// The table: as it was asked for, or the one from which all columns come.
    fn table(&self, columns: &[Column]) -> String {
        let dialect = self.layout.dialect;
        let origin = |column: &Column| column.origin.as_ref().map(|(table, _)| table.clone());
        match (&self.layout.table, columns.first().and_then(origin)) {
            (Some(name), _) => dialect.quote_path(name),
            (None, Some(table)) if columns.iter().all(|c| origin(c).as_ref() == Some(&table)) => {
                dialect.quote_path(&table)
            }
            _ => "result".into(),
        }
    }

    fn names(&self, columns: &[Column]) -> Vec<String> {
        let labels = column_labels(columns);
        let quoted = |label: &String| self.layout.dialect.quote_name(label);
        labels.iter().map(quoted).collect()
    }

    fn create(&self, columns: &[Column], found: &[Evidence]) -> String {
        let dialect = self.layout.dialect;
        let columns_of = self.names(columns).into_iter().zip(columns).zip(found);
        let one = |((name, column), evidence): ((String, &Column), &Evidence)| {
            let declared = column.declared.as_ref().filter(|_| self.layout.declared);
            let words = match declared {
                Some(words) if !words.trim().is_empty() => words.clone(),
                _ => dialect.type_words(evidence.column_type(), column.key),
            };
            let null = if column.key { " not null" } else { "" };
            format!("  {name} {words}{null}")
        };
        let mut lines: Vec<String> = columns_of.map(one).collect();
        let keys = self.names(columns).into_iter().zip(columns);
        let keys: Vec<_> = keys.filter(|(_, c)| c.key).map(|(name, _)| name).collect();
        if !keys.is_empty() {
            lines.push(format!("  primary key ({})", keys.join(", ")));
        }
        let table = self.table(columns);
        format!("create table {table} (\n{}\n);\n", lines.join(",\n"))
    }

    fn write_row(&mut self, row: Row<'_>) -> io::Result<()> {
        if self.rows == 0 {
            self.buffer.push_str(&self.head);
        } else {
            self.buffer.push_str(",\n");
        }
        self.buffer.push('(');
        for (at, value) in row.values().enumerate() {
            if at > 0 {
                self.buffer.push_str(", ");
            }
            self.layout.dialect.write_literal(value, &mut self.buffer);
        }
        self.buffer.push(')');
        self.rows += 1;
        if self.rows == ROWS || self.buffer.len() >= BUFFER {
            self.end_statement()?;
        }
        Ok(())
    }

    fn end_statement(&mut self) -> io::Result<()> {
        if self.rows > 0 {
            self.buffer.push_str(";\n");
            self.rows = 0;
        }
        self.out.write_all(self.buffer.as_bytes())?;
        self.buffer.clear();
        Ok(())
    }
}

impl RowWriter for Inserts<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        let (table, names) = (self.table(columns), self.names(columns));
        self.head = format!("insert into {table} ({}) values\n", names.join(", "));
        if let Some((kept, found)) = &mut self.kept {
            kept.columns(columns);
            found.resize(columns.len(), Evidence::default());
        }
        Ok(())
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        let Some((kept, found)) = &mut self.kept else {
            return self.write_row(row);
        };
        kept.see(row, found);
        kept.row(row)
    }

    fn finish(&mut self) -> io::Result<()> {
        if let Some((mut kept, found)) = self.kept.take() {
            let rows = kept.whole()?;
            let create = self.create(rows.columns(), &found);
            self.buffer.push_str(&create);
            for at in 0..rows.batches() {
                let (_, batch) = rows.batch(at)?;
                batch.rows().try_for_each(|row| self.write_row(row))?;
            }
        }
        self.end_statement()?;
        self.out.flush()
    }
}
