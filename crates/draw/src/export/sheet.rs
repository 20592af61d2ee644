//! A spreadsheet (ECMA-376, Office Open XML): numbers, days and truth values as what they are, every other value as text, also
//! one that begins with `=`. The names stand in a first row that stays in sight. What a spreadsheet cannot keep as it is,
//! numbers of more than 15 digits and days before 1900, stays text and is said.

use std::io::{self, Write};

use idle_tide_core::column_type::{date, date_and_time, decimal_digits, time};
use idle_tide_core::{Column, Row, ValueRef, column_labels};
use rust_xlsxwriter::{ExcelDateTime, Format as Style, Workbook, Worksheet, XlsxError};

use super::{Format, RowWriter, holds_moments};

/// A spreadsheet.
pub static SHEET: Format = Format {
    name: "xlsx",
    label: "a spreadsheet",
    endings: &[],
    for_people: false,
    nested: false,
    binary: true,
    options: &["no-header"],
    make: |layout, out| Box::new(Sheet::new(layout.header, out)),
};

/// Rows of one sheet, and characters of one cell, of the format.
const ROWS: u32 = 1_048_576;
const CHARACTERS: usize = 32_767;

struct Sheet<'a> {
    out: Box<dyn Write + Send + 'a>,
    book: Workbook,
    header: bool,
    labels: Vec<String>,
    /// Whether a column is declared to hold days or times.
    moments: Vec<bool>,
    /// The next row of the sheet that is being written, and rows so far.
    at: u32,
    rows: u64,
    /// Numbers and days that stay text.
    as_text: u64,
    bold: Style,
    day: Style,
    moment: Style,
    clock: Style,
    /// Decimals, by how many digits stand behind the point.
    decimals: Vec<Style>,
}

fn failed(error: XlsxError) -> io::Error {
    match error {
        XlsxError::IoError(error) => error,
        other => io::Error::other(other),
    }
}

impl<'a> Sheet<'a> {
    fn new(header: bool, out: Box<dyn Write + Send + 'a>) -> Self {
        let decimal = |places: usize| Style::new().set_num_format(format!("0.{:0<places$}", ""));
        let mut book = Workbook::new();
        // The usual level takes three times as long for an eighth less.
        book.set_zip_compression_level(2);
        Sheet {
            out,
            book,
            header,
            labels: Vec::new(),
            moments: Vec::new(),
            at: 0,
            rows: 0,
            as_text: 0,
            bold: Style::new().set_bold(),
            day: Style::new().set_num_format("yyyy-mm-dd"),
            moment: Style::new().set_num_format("yyyy-mm-dd hh:mm:ss"),
            clock: Style::new().set_num_format("hh:mm:ss"),
            decimals: (1..=10).map(decimal).collect(),
        }
    }

    fn begin(&mut self) -> io::Result<()> {
        let number = self.book.worksheets().len() + 1;
        let made = self
            .book
            .add_worksheet_with_constant_memory()
            .map_err(failed)?;
        let name = match number {
            1 => "rows".to_string(),
            more => format!("rows {more}"),
        };
        made.set_name(name).map_err(failed)?;
        self.at = 0;
        if self.header {
            for (column, label) in self.labels.iter().enumerate() {
                let column = place(column)?;
                let width = label.chars().count().clamp(8, 40) + 3;
                made.set_column_width(column, width as f64)
                    .map_err(failed)?;
                made.write_string_with_format(0, column, label, &self.bold)
                    .map_err(failed)?;
            }
            made.set_freeze_panes(1, 0).map_err(failed)?;
            self.at = 1;
        }
        Ok(())
    }
}

fn place(column: usize) -> io::Result<u16> {
    match u16::try_from(column) {
        Ok(column) if column < 16_384 => Ok(column),
        _ => Err(io::Error::other(
            "a spreadsheet has 16 384 columns at most, and this result has more",
        )),
    }
}

/// Fifteen digits are what a spreadsheet keeps of a number.
fn is_kept(digits: &str) -> bool {
    decimal_digits(digits).is_some_and(|(before, after)| before + after <= 15)
}

/// A day as a spreadsheet counts it, with the time of day.
fn excel(at: jiff::civil::DateTime) -> Option<ExcelDateTime> {
    let part = |number: i8| u8::try_from(number).unwrap_or(0);
    let year = u16::try_from(at.year()).ok()?;
    if year < 1900 {
        return None;
    }
    let day = ExcelDateTime::from_ymd(year, part(at.month()), part(at.day())).ok()?;
    let second = f64::from(at.second()) + f64::from(at.subsec_nanosecond()) / 1e9;
    day.and_hms(u16::from(part(at.hour())), part(at.minute()), second)
        .ok()
}

impl RowWriter for Sheet<'_> {
    fn columns(&mut self, columns: &[Column]) -> io::Result<()> {
        self.labels = column_labels(columns);
        self.moments = columns.iter().map(holds_moments).collect();
        self.begin()
    }

    fn row(&mut self, row: Row<'_>) -> io::Result<()> {
        if self.at == ROWS {
            self.begin()?;
        }
        let (at, rows) = (self.at, self.rows);
        self.at += 1;
        self.rows += 1;
        let last = self.book.worksheets_mut().last_mut();
        let sheet: &mut Worksheet = last.ok_or_else(|| io::Error::other("no sheet was begun"))?;
        for (column, value) in row.values().enumerate() {
            let cell = place(column)?;
            let done = match value {
                ValueRef::Null | ValueRef::Missing => continue,
                ValueRef::Boolean(yes) => sheet.write_boolean(at, cell, yes),
                ValueRef::Integer(number) if number.unsigned_abs() < 1_000_000_000_000_000 => {
                    sheet.write_number(at, cell, number as f64)
                }
                ValueRef::Float(number) if number.is_finite() => {
                    sheet.write_number(at, cell, number)
                }
                ValueRef::Number(digits) if is_kept(digits) => {
                    let number: f64 = digits.parse().unwrap_or_default();
                    let places = digits.split_once('.').map_or(0, |(_, after)| after.len());
                    match places.checked_sub(1).and_then(|at| self.decimals.get(at)) {
                        Some(style) => sheet.write_number_with_format(at, cell, number, style),
                        None => sheet.write_number(at, cell, number),
                    }
                }
                value => {
                    let text = value.plain();
                    let dated = match value {
                        ValueRef::Text(_) if self.moments[column] => dated(&text),
                        _ => None,
                    };
                    let dated = dated.and_then(|(kind, at)| Some((kind, excel(at)?)));
                    let style = |kind| match kind {
                        Dated::Day => &self.day,
                        Dated::Moment => &self.moment,
                        Dated::Clock => &self.clock,
                    };
                    if let Some((kind, excel)) = dated {
                        sheet.write_datetime_with_format(at, cell, excel, style(kind))
                    } else {
                        let is_text = matches!(value, ValueRef::Text(_)) && !self.moments[column];
                        let is_bytes = matches!(value, ValueRef::Bytes(_) | ValueRef::RawText(_));
                        self.as_text += u64::from(!is_text && !is_bytes);
                        let length = text.chars().count();
                        if length > CHARACTERS {
                            let label = &self.labels[column];
                            return Err(io::Error::other(format!(
                                "row {}, {label}: a cell of a spreadsheet holds 32 767 characters, and this text has {length}; csv or parquet keep it",
                                rows + 1
                            )));
                        }
                        // An empty cell would be a null.
                        sheet.write_string(at, cell, text)
                    }
                }
            };
            done.map_err(failed)?;
        }
        Ok(())
    }

    fn finish(&mut self) -> io::Result<()> {
        if self.book.worksheets().is_empty() {
            self.begin()?;
        }
        self.book.save_to_writer(&mut self.out).map_err(failed)?;
        self.out.flush()
    }

    fn remarks(&self) -> Vec<String> {
        let mut list = Vec::new();
        let sheets = self.rows.div_ceil(u64::from(ROWS) - u64::from(self.header));
        if sheets > 1 {
            list.push(format!(
                "in {sheets} sheets, since one holds 1 048 576 rows"
            ));
        }
        if self.as_text > 0 {
            list.push(format!(
                "{} that a spreadsheet would change stayed text (more than 15 digits, days before 1900 or with an offset)",
                match self.as_text {
                    1 => "one value".to_string(),
                    many => format!("{many} values"),
                }
            ));
        }
        list
    }
}

#[derive(Clone, Copy)]
enum Dated {
    Day,
    Moment,
    Clock,
}

/// What a text of a column of days and times says.
fn dated(text: &str) -> Option<(Dated, jiff::civil::DateTime)> {
    if let Some(day) = date(text) {
        return Some((Dated::Day, day.at(0, 0, 0, 0)));
    }
    match date_and_time(text) {
        Some((at, None)) => Some((Dated::Moment, at)),
        Some(_) => None,
        None => {
            let origin = jiff::civil::date(1900, 1, 1);
            time(text).map(|at| (Dated::Clock, origin.to_datetime(at)))
        }
    }
}
