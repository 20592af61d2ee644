//! Rows as files and as text for pasting. Each format is a file here and a row of [`FORMATS`], from which every list
//! of names comes. Writers take batches as they come and hold one batch, except the aligned text, which has to see
//! every row before it knows its widths and keeps them in a result of its own.

mod aligned;
mod columnar;
mod encoding;
mod html;
mod inserts;
mod json;
mod markdown;
mod raw;
mod record;
mod separated;
mod sheet;

use std::io::{self, Write};

use idle_tide_core::column_type::Evidence;
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Column, Row, RowBatch, ValueRef};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::SQLITE;

use crate::marks::{Shown, show_text, show_whole};

/// A format of rows.
#[derive(Debug)]
pub struct Format {
    /// Its name, which is also the usual ending of its files.
    pub name: &'static str,
    /// Its name in a sentence.
    pub label: &'static str,
    /// Further endings of its files.
    pub endings: &'static [&'static str],
    /// Whether it is for people, so that results one after the other stand apart.
    pub for_people: bool,
    /// Whether its bytes are no text.
    pub binary: bool,
    /// The options of [`OPTIONS`] that say something to it.
    pub options: &'static [&'static str],
    /// Whether it takes documents as they are; others need all columns before the first row.
    nested: bool,
    make: for<'a> fn(Layout, Box<dyn Write + Send + 'a>) -> Box<dyn RowWriter + 'a>,
}

/// All formats.
pub static FORMATS: &[&Format] = &[
    &separated::CSV,
    &separated::TSV,
    &json::JSON,
    &json::JSON_LINES,
    &json::CANONICAL,
    &json::RELAXED,
    &markdown::MARKDOWN,
    &html::HTML,
    &inserts::SQL,
    &sheet::SHEET,
    &columnar::PARQUET,
    &aligned::TEXT,
    &record::RECORD,
    &raw::RAW,
];

pub use aligned::TEXT;
pub use columnar::PARQUET;
pub use encoding::Encoding;
pub use html::HTML;
pub use inserts::SQL;
pub use json::{CANONICAL, JSON, JSON_LINES, RELAXED};
pub use markdown::{MARKDOWN, markdown_text};
pub use raw::RAW;
pub use record::RECORD;
pub use separated::{CSV, TSV};
pub use sheet::SHEET;

impl PartialEq for Format {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}
impl Eq for Format {}

impl Format {
    /// The format of this name.
    pub fn named(name: &str) -> Option<&'static Self> {
        FORMATS
            .iter()
            .copied()
            .find(|format| format.name.eq_ignore_ascii_case(name))
    }

    /// The format a file name asks for by its ending.
    pub fn of_file(name: &str) -> Option<&'static Self> {
        let (_, ending) = name.rsplit_once('.')?;
        let has = |format: &&Format| {
            format
                .endings
                .iter()
                .any(|other| other.eq_ignore_ascii_case(ending))
        };
        Self::named(ending).or_else(|| FORMATS.iter().copied().find(has))
    }
}

/// The names of all formats.
pub fn names() -> impl Iterator<Item = &'static str> {
    FORMATS.iter().map(|format| format.name)
}

/// The same as words of a sentence: `csv, tsv or json`.
pub fn names_in_words() -> String {
    let names: Vec<_> = names().collect();
    match names.split_last() {
        Some((last, [])) => last.to_string(),
        Some((last, others)) => format!("{} or {last}", others.join(", ")),
        None => String::new(),
    }
}

/// What can be asked of a format: the option, what its value is if it has one, and what it does.
pub static OPTIONS: &[(&str, Option<&str>, &str)] = &[
    ("no-header", None, "leaves the names of the columns out"),
    (
        "lines",
        None,
        "lines between the columns and under the names",
    ),
    (
        "separator",
        Some("SIGN"),
        "what stands between values: one sign, or tab",
    ),
    (
        "quote-all",
        None,
        "puts every value in quotes, not only those that need them",
    ),
    ("null", Some("TEXT"), "what stands for null"),
    (
        "encoding",
        Some("NAME"),
        "utf-8, utf-8-bom, utf-16 or latin1",
    ),
    (
        "table",
        Some("NAME"),
        "the table that the rows are put into",
    ),
    (
        "dialect",
        Some("NAME"),
        "whose SQL: sqlite, postgres, mariadb, mysql or tds",
    ),
    (
        "create",
        None,
        "begins with the statement that makes the table",
    ),
];

/// A format and how it is laid out.
#[derive(Debug, Clone)]
pub struct Layout {
    /// The format.
    pub format: &'static Format,
    /// Whether the names of the columns come first.
    pub header: bool,
    /// Whether the aligned text has lines between its columns and under its header.
    pub lines: bool,
    /// What stands between values, where it is not what is usual for the format.
    pub separator: Option<u8>,
    /// Whether every value stands in quotes.
    pub quote_all: bool,
    /// What stands for null, where it is not what is usual for the format.
    pub null: Option<String>,
    /// How characters become bytes.
    pub encoding: Encoding,
    /// The table of inserts, as a statement writes it; that of the columns when `None`.
    pub table: Option<String>,
    /// Whose SQL it is.
    pub dialect: &'static Dialect,
    /// Whether declared types are those of that dialect.
    pub declared: bool,
    /// Whether the table is made too.
    pub create: bool,
    /// The width of the terminal that the aligned text is for: where it is wider, rows are written as records.
    pub fits: Option<usize>,
}

impl Layout {
    /// The plain layout of a format: with a header, without lines.
    pub fn of(format: &'static Format) -> Self {
        Layout {
            format,
            header: true,
            lines: false,
            separator: None,
            quote_all: false,
            null: None,
            encoding: Encoding::Utf8,
            table: None,
            dialect: &SQLITE,
            declared: false,
            create: false,
            fits: None,
        }
    }

    /// A value as text for people reads it.
    fn shown(&self, value: ValueRef<'_>) -> Shown {
        match &self.null {
            Some(text) if value.is_null() => show_text(text, usize::MAX / 4),
            _ => show_whole(value, usize::MAX / 4),
        }
    }

    /// The same for rows that come from a database of this dialect.
    #[must_use]
    pub fn from(self, dialect: &'static Dialect) -> Self {
        Layout {
            dialect,
            declared: true,
            ..self
        }
    }

    /// Sets one of [`OPTIONS`].
    ///
    /// # Errors
    /// In words, if it says nothing to the format or its value is none.
    pub fn set(&mut self, option: &str, value: Option<&str>) -> Result<(), String> {
        if !self.format.options.contains(&option) {
            let takes: Vec<_> = FORMATS
                .iter()
                .filter(|format| format.options.contains(&option))
                .map(|format| format.name)
                .collect();
            return Err(format!(
                "--{option} says nothing to {}; it is for {}.",
                self.format.name,
                takes.join(", ")
            ));
        }
        let value = value.unwrap_or_default();
        match option {
            "no-header" => self.header = false,
            "lines" => self.lines = true,
            "quote-all" => self.quote_all = true,
            "create" => self.create = true,
            "null" => self.null = Some(value.into()),
            "table" => self.table = Some(value.into()),
            "separator" => self.separator = Some(separator_of(value)?),
            "encoding" => {
                self.encoding = Encoding::named(value).ok_or_else(|| {
                    format!(
                        "There is no encoding {value} here. There are utf-8, utf-8-bom, utf-16 and latin1."
                    )
                })?;
            }
            _ => {
                let dialect = Dialect::named(value).ok_or_else(|| {
                    let names = idle_tide_lang::dialect::NAMES.join(", ");
                    format!("There is no dialect {value}. There are {names}.")
                })?;
                self.declared &= dialect.family == self.dialect.family;
                self.dialect = dialect;
            }
        }
        Ok(())
    }
}

/// The sign between values that an option names.
///
/// # Errors
/// In words, if it is none.
pub fn separator_of(value: &str) -> Result<u8, String> {
    match value.as_bytes() {
        _ if matches!(value, "tab" | "\\t") => Ok(b'\t'),
        [sign]
            if sign.is_ascii()
                && !sign.is_ascii_alphanumeric()
                && !matches!(sign, b'"' | b'\n' | b'\r') =>
        {
            Ok(*sign)
        }
        _ => Err(format!(
            "{value} cannot stand between values. It is one sign, such as ; or |, or tab."
        )),
    }
}

/// Takes columns, then rows, then the end.
pub trait RowWriter {
    /// The columns, before the first row.
    ///
    /// # Errors
    /// Those of the output.
    fn columns(&mut self, columns: &[Column]) -> io::Result<()>;

    /// More columns of documents are known; those before keep their numbers.
    fn more_columns(&mut self, columns: &[Column]) {
        let _ = columns;
    }

    /// One row.
    ///
    /// # Errors
    /// Those of the output.
    fn row(&mut self, row: Row<'_>) -> io::Result<()>;

    /// All rows of a batch.
    ///
    /// # Errors
    /// Those of the output.
    fn rows(&mut self, batch: &RowBatch) -> io::Result<()> {
        batch.rows().try_for_each(|row| self.row(row))
    }

    /// The end; everything is handed to the output.
    ///
    /// # Errors
    /// Those of the output.
    fn finish(&mut self) -> io::Result<()>;

    /// What is not in the output as it was in the rows, in words.
    fn remarks(&self) -> Vec<String> {
        Vec::new()
    }
}

/// A writer for the layout onto `out`.
pub fn writer<'a>(layout: Layout, out: impl Write + Send + 'a) -> Box<dyn RowWriter + 'a> {
    let (make, nested) = (layout.format.make, layout.format.nested);
    let out = layout.encoding.writer(Box::new(out));
    let inner = make(layout, out);
    if nested {
        return inner;
    }
    Box::new(Held {
        inner,
        documents: None,
    })
}

/// Marks in `word` if one of its eight bytes is below `limit`, at most 128; 0 if none is (Warren, Hacker's Delight, 6-1).
#[inline]
fn bytes_below(word: u64, limit: u8) -> u64 {
    const ONES: u64 = 0x0101_0101_0101_0101;
    word.wrapping_sub(ONES * u64::from(limit)) & !word & (ONES << 7)
}

/// Bytes that are gathered before they go out.
const BUFFER: usize = 64 * 1024;
/// Bytes that a writer which has to see every row keeps in memory before it uses a file.
const HELD: u64 = 8 * 1024 * 1024;

/// Rows of a writer that has to see every one before it writes the first: values, not documents.
struct Kept {
    rows: ResultSet,
    batch: RowBatch,
    /// Which columns hold moments and the like.
    moments: Vec<bool>,
}

impl Kept {
    fn new() -> Self {
        Kept {
            rows: ResultSet::new(Vec::new(), Budget::new(HELD), HELD),
            batch: RowBatch::new(),
            moments: Vec::new(),
        }
    }

    fn columns(&mut self, columns: &[Column]) {
        self.moments = columns.iter().map(holds_moments).collect();
        let plain = columns.iter().cloned().map(|column| Column {
            path: None,
            ..column
        });
        self.rows = ResultSet::new(plain.collect(), Budget::new(HELD), HELD);
    }

    /// Adds a row to the batch, which is handed out when it is full.
    fn push(&mut self, row: Row<'_>) -> Option<RowBatch> {
        self.batch.push_copy(row);
        (self.batch.encoded() > BUFFER).then(|| std::mem::take(&mut self.batch))
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        match self.push(row) {
            Some(batch) => self.rows.append(batch),
            None => Ok(()),
        }
    }

    /// Looks at the types of the values of a row.
    fn see(&self, row: Row<'_>, found: &mut [Evidence]) {
        for ((evidence, value), moments) in found.iter_mut().zip(row.values()).zip(&self.moments) {
            evidence.value(value, *moments);
        }
    }

    /// All that was kept.
    fn whole(&mut self) -> io::Result<&mut ResultSet> {
        self.rows.append(std::mem::take(&mut self.batch))?;
        Ok(&mut self.rows)
    }
}

/// Whether a column is declared to hold what has a type of its own in files, and comes as text from databases: days, times,
/// identifiers, JSON.
fn holds_moments(column: &Column) -> bool {
    column.declared.as_deref().is_some_and(|declared| {
        let declared = declared.to_ascii_lowercase();
        ["date", "time", "uuid", "json"]
            .iter()
            .any(|word| declared.contains(word))
    })
}

/// Keeps documents until all their columns are known; other rows go through.
struct Held<'a> {
    inner: Box<dyn RowWriter + 'a>,
    documents: Option<(ResultSet, RowBatch)>,
}

impl RowWriter for Held<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        if columns.is_empty() || columns.iter().any(|column| column.path.is_none()) {
            return self.inner.columns(columns);
        }
        let rows = ResultSet::new(columns.to_vec(), Budget::new(HELD), HELD);
        self.documents = Some((rows, RowBatch::new()));
        Ok(())
    }

    fn more_columns(&mut self, columns: &[Column]) {
        if let Some((rows, _)) = &mut self.documents {
            rows.set_columns(columns.to_vec());
        }
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        let (Some((rows, batch)), Some(document)) = (&mut self.documents, row.document()) else {
            return self.inner.row(row);
        };
        batch.push_document(document);
        if batch.encoded() > BUFFER {
            rows.append(std::mem::take(batch))?;
        }
        Ok(())
    }

    fn rows(&mut self, batch: &RowBatch) -> io::Result<()> {
        match self.documents {
            // What goes through goes through as a whole.
            None => self.inner.rows(batch),
            Some(_) => batch.rows().try_for_each(|row| self.row(row)),
        }
    }

    fn finish(&mut self) -> io::Result<()> {
        if let Some((mut rows, batch)) = self.documents.take() {
            rows.append(batch)?;
            self.inner.columns(rows.columns())?;
            let columns = rows.columns().to_vec();
            rows.set_columns(columns);
            for at in 0..rows.batches() {
                let (_, batch) = rows.batch(at)?;
                // A batch of the time before all columns were known knows fewer.
                let mut whole = (*batch).clone();
                whole.set_paths(rows.paths());
                self.inner.rows(&whole)?;
            }
        }
        self.inner.finish()
    }

    fn remarks(&self) -> Vec<String> {
        self.inner.remarks()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(layout: Layout) -> String {
        let columns = [
            Column {
                origin: Some(("vessels".into(), "name".into())),
                ..Column::named("name")
            },
            Column {
                origin: Some(("quays".into(), "name".into())),
                ..Column::named("name")
            },
            Column::named("dues"),
        ];
        let mut batch = RowBatch::new();
        batch.push_row([
            ValueRef::Text("Grey, \"Heron\""),
            ValueRef::Null,
            ValueRef::Float(1240.5),
        ]);
        batch.push_row([
            ValueRef::Text("two\nlines"),
            ValueRef::Text(""),
            ValueRef::Integer(7),
        ]);
        batch.push_row([
            ValueRef::RawText(&[b'a', 0xff]),
            ValueRef::Bytes(&[1, 255]),
            ValueRef::Null,
        ]);
        let mut out = Vec::new();
        let mut writer = writer(layout, &mut out);
        writer.columns(&columns).expect("columns");
        writer.rows(&batch).expect("rows");
        writer.finish().expect("end");
        drop(writer);
        String::from_utf8_lossy(&out).into_owned()
    }

    #[test]
    fn every_layout() {
        let lines = |format: &'static Format| written(Layout::of(format));
        assert_eq!(
            lines(&CSV),
            "vessels.name,quays.name,dues\n\"Grey, \"\"Heron\"\"\",,1240.5\n\"two\nlines\",\"\",7\na\u{fffd},01ff,\n"
        );
        assert_eq!(
            lines(&JSON),
            "[\n{\"vessels.name\":\"Grey, \\\"Heron\\\"\",\"quays.name\":null,\"dues\":1240.5},\n{\"vessels.name\":\"two\\nlines\",\"quays.name\":\"\",\"dues\":7},\n{\"vessels.name\":\"a\u{fffd}\",\"quays.name\":\"01ff\",\"dues\":null}\n]\n"
        );
        assert_eq!(
            lines(&TEXT),
            "vessels.name   quays.name    dues\nGrey, \"Heron\"  null        1240.5\ntwo¶lines      ''               7\na⟨ff⟩          x'01ff'       null\n"
        );
        let ruled = written(Layout {
            lines: true,
            ..Layout::of(&TEXT)
        });
        assert!(
            ruled
                .lines()
                .nth(1)
                .is_some_and(|rule| rule.chars().all(|c| c == '╌')),
            "{ruled}"
        );
        assert!(lines(&RECORD).starts_with("vessels.name  Grey, \"Heron\"\nquays.name    null\n"));
        // For a terminal that is too narrow for a table, rows are records.
        let fits = |columns| {
            written(Layout {
                fits: Some(columns),
                ..Layout::of(&TEXT)
            })
        };
        assert_eq!(fits(20), lines(&RECORD));
        assert_eq!(fits(200), lines(&TEXT));
        let bare = written(Layout {
            header: false,
            ..Layout::of(&TSV)
        });
        assert!(bare.starts_with("\"Grey, \"\"Heron\"\"\"\t\t1240.5\n"));
        assert_eq!(lines(&JSON_LINES).lines().count(), 3);
        assert_eq!(
            lines(&MARKDOWN),
            "| vessels.name | quays.name | dues |\n| --- | --- | ---: |\n| Grey, \"Heron\" |  | 1240.5 |\n| two<br>lines |  | 7 |\n| a\u{fffd} | 01ff |  |\n"
        );
    }

    #[test]
    fn other_readers_read_what_is_written() {
        let csv = written(Layout::of(&CSV));
        let mut reader = csv::Reader::from_reader(csv.as_bytes());
        let rows: Vec<_> = reader.records().map(|r| r.expect("a row")).collect();
        assert_eq!(&rows[0][0], "Grey, \"Heron\"");
        assert_eq!(&rows[1][0], "two\nlines");
        let json: serde_json::Value =
            serde_json::from_str(&written(Layout::of(&JSON))).expect("JSON");
        assert_eq!(json[1]["vessels.name"], "two\nlines");
    }

    #[test]
    fn every_format_is_found_by_its_name_and_its_endings() {
        for format in FORMATS {
            assert_eq!(Format::named(&format.name.to_uppercase()), Some(*format));
            for ending in std::iter::once(&format.name).chain(format.endings) {
                assert_eq!(Format::of_file(&format!("a.b.{ending}")), Some(*format));
            }
        }
        assert_eq!(Format::of_file("csv"), None);
        assert!(
            names_in_words().starts_with("csv, tsv, ") && names_in_words().ends_with(" or raw")
        );
    }

    /// Nothing in the data begins a table, a tag or a link of its own.
    #[test]
    fn markdown_holds_what_stands_in_it() {
        let mut out = Vec::new();
        let mut made = writer(Layout::of(&MARKDOWN), &mut out);
        made.columns(&[Column::named("a|b")]).expect("columns");
        let mut batch = RowBatch::new();
        batch.push_row([ValueRef::Text("x | <b>*y*</b> [z](q) `w` \\ _v_\r\n& #")]);
        made.rows(&batch).expect("rows");
        made.finish().expect("end");
        drop(made);
        let text = String::from_utf8(out).expect("UTF-8");
        assert_eq!(
            text,
            "| a\\|b |\n| --- |\n| x \\| &lt;b&gt;\\*y\\*&lt;/b&gt; \\[z\\](q) \\`w\\` \\\\ \\_v\\_<br>&amp; # |\n"
        );
    }

    #[test]
    fn what_a_json_column_holds_is_json_and_what_only_claims_to_be_is_text() {
        let columns = [
            Column {
                declared: Some("JSONB".into()),
                ..Column::named("doc")
            },
            Column {
                declared: Some("text".into()),
                ..Column::named("plain")
            },
        ];
        let deep = "[".repeat(200) + &"]".repeat(200);
        let texts = [
            "{\"a\" :\n [1, 2.50],\r\n \"b\\n\": null}\n",
            "12345678901234567890.10",
            "{\"a\": }",
            "",
            "NaN",
            deep.as_str(),
        ];
        let mut batch = RowBatch::new();
        for text in texts {
            batch.push_row([ValueRef::Text(text), ValueRef::Text("{\"a\": 1}")]);
        }
        batch.push_row([ValueRef::Null, ValueRef::Null]);
        let mut out = Vec::new();
        let mut lines = writer(Layout::of(&JSON_LINES), &mut out);
        lines.columns(&columns).expect("columns");
        lines.rows(&batch).expect("rows");
        lines.finish().expect("end");
        drop(lines);
        let out = String::from_utf8(out).expect("UTF-8");
        let plain = r#","plain":"{\"a\": 1}"}"#;
        let wanted = [
            r#"{"a" :  [1, 2.50],   "b\n": null}"#.to_string(),
            "12345678901234567890.10".into(),
            r#""{\"a\": }""#.into(),
            r#""""#.into(),
            r#""NaN""#.into(),
            deep.clone(),
        ]
        .map(|doc| format!(r#"{{"doc":{doc}{plain}"#));
        let mut seen: Vec<&str> = out.lines().collect();
        assert_eq!(seen.pop(), Some(r#"{"doc":null,"plain":null}"#));
        assert_eq!(seen, wanted);
    }

    #[test]
    fn nothing_is_still_valid() {
        let mut out = Vec::new();
        let mut json = writer(Layout::of(&JSON), &mut out);
        json.columns(&[Column::named("n")]).expect("columns");
        json.finish().expect("end");
        drop(json);
        assert_eq!(out, b"[]\n");
    }
}
