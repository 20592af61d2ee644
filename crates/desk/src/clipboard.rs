//! What goes to the clipboard: a value, rows, columns, a result, a statement, in any format that is text. How it gets there
//! is the face's business.

use std::io::{self, Write};
use std::sync::Arc;

use idle_tide_draw::export::{CSV, JSON_LINES, TSV};
use idle_tide_draw::picture::{bytes, counted};
use idle_tide_draw::{Format, Layout};

use crate::entry::{Content, Entry};
use crate::export::{Watch, write_sheet};
use crate::sheet::{Sheet, read};

/// What of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// The current value.
    Cell,
    /// The current row.
    Row,
    /// The values of the current column.
    Column,
    /// The rows that are marked.
    Marked,
    /// All rows, or the whole text of a page.
    Result,
    /// The statement.
    Statement,
}

/// The parts by the words for them.
pub const PARTS: &[(&str, Part)] = &[
    ("cell", Part::Cell),
    ("row", Part::Row),
    ("column", Part::Column),
    ("marked", Part::Marked),
    ("result", Part::Result),
    ("statement", Part::Statement),
];

/// What is asked for: a part, else what is at hand; a layout, else what suits the part.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// The part.
    pub part: Option<Part>,
    /// The layout.
    pub layout: Option<Layout>,
}

impl PartialEq for Asked {
    fn eq(&self, other: &Self) -> bool {
        self.part == other.part
            && self.layout.as_ref().map(|l| l.format) == other.layout.as_ref().map(|l| l.format)
    }
}
impl Eq for Asked {}

/// Where an entry is being read.
#[derive(Debug, Clone, Copy)]
pub struct At<'a> {
    /// The current row, among those shown.
    pub row: u64,
    /// The current column, among those shown.
    pub column: usize,
    /// Rows that are marked, by their numbers in the result.
    pub marked: &'a [u64],
}

/// What is said of a value that is covered.
pub const COVERED: &str = "This value is covered. /reveal shows it, and then it can be copied.";

/// Bytes that are gathered at most.
const MOST: usize = 16 * 1024 * 1024;

/// Gathers text up to a limit.
struct Gathered(Vec<u8>);

impl Write for Gathered {
    fn write(&mut self, part: &[u8]) -> io::Result<usize> {
        if self.0.len() + part.len() > MOST {
            let most = bytes(MOST as u64);
            return Err(io::Error::other(format!(
                "it is more than {most}, which is much for a clipboard; /export writes it to a file"
            )));
        }
        self.0.extend_from_slice(part);
        Ok(part.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The text of a part of an entry, and what it is in words.
///
/// # Errors
/// In words, where there is no such part or it is too long.
pub fn text_of(entry: &Entry, at: At<'_>, asked: &Asked) -> Result<(String, String), String> {
    if asked.part == Some(Part::Statement) {
        return Ok((entry.text.clone(), "the statement".into()));
    }
    let sheet = match &entry.content {
        Content::Rows(sheet) => sheet,
        Content::Page(page) if matches!(asked.part, None | Some(Part::Result)) => {
            return Ok((page.text(), "the text of this entry".into()));
        }
        _ => return Err("There are no rows here to copy from.".into()),
    };
    let part = asked.part.unwrap_or(match at.marked.is_empty() {
        true => Part::Cell,
        false => Part::Marked,
    });
    if part == Part::Cell && asked.layout.is_none() {
        return cell(sheet, at);
    }
    let (chosen, words) = chosen(sheet, at, part)?;
    let layout = asked.layout.clone().unwrap_or_else(|| {
        let documents = read(&sheet.set).holds_documents();
        let format: &'static Format = match part {
            Part::Column | Part::Cell => &CSV,
            _ if documents => &JSON_LINES,
            _ => &TSV,
        };
        Layout {
            header: !matches!(part, Part::Column | Part::Cell | Part::Row),
            ..Layout::of(format)
        }
    });
    let label = layout.format.label;
    let mut out = Gathered(Vec::new());
    write_sheet(&chosen, layout, &mut out, &Watch::NOBODY)
        .map_err(|error| format!("It was not copied: {error}."))?;
    let text = String::from_utf8_lossy(&out.0).into_owned();
    Ok((text, format!("{words} as {label}")))
}

/// The exact text of the current value.
fn cell(sheet: &Sheet, at: At<'_>) -> Result<(String, String), String> {
    let none = || "There is no value here.".to_string();
    let column = *sheet.view.columns.get(at.column).ok_or_else(none)?;
    let number = sheet.row_number(at.row).ok_or_else(none)?;
    let set = read(&sheet.set);
    let (batch, within) = set.locate(number).map_err(|error| error.to_string())?;
    let value = batch.row(within).get(column);
    if sheet.covers(column, value) {
        return Err(COVERED.into());
    }
    if value.is_null() {
        return Err("This value is null, and a clipboard has no null.".into());
    }
    let label = &sheet.labels[column];
    Ok((value.plain(), format!("the value of {label}")))
}

/// A sheet of what is chosen, and words for it.
fn chosen(sheet: &Sheet, at: At<'_>, part: Part) -> Result<(Sheet, String), String> {
    let mut chosen = sheet.clone();
    let row = |number: u64| u32::try_from(number).unwrap_or(u32::MAX);
    if matches!(part, Part::Cell | Part::Column) {
        let column = sheet.view.columns.get(at.column).copied();
        let column = column.ok_or("There is no column here.")?;
        chosen.view.columns = vec![column];
    }
    match part {
        Part::Cell | Part::Row => {
            let number = sheet.row_number(at.row).ok_or("There is no row here.")?;
            chosen.view.rows = Some(Arc::new(vec![row(number)]));
        }
        Part::Marked => {
            let marked = at.marked.iter().copied().map(row);
            let marked: std::collections::HashSet<u32> = marked.collect();
            // In the order in which they are shown.
            let rows: Vec<u32> = match &sheet.view.rows {
                Some(rows) => rows
                    .iter()
                    .copied()
                    .filter(|n| marked.contains(n))
                    .collect(),
                None => {
                    let mut rows: Vec<_> = marked.into_iter().collect();
                    rows.sort_unstable();
                    rows
                }
            };
            if rows.is_empty() {
                return Err("No row that is shown is marked. Space marks one.".into());
            }
            chosen.view.rows = Some(Arc::new(rows));
        }
        Part::Column | Part::Result | Part::Statement => {}
    }
    let rows = counted(chosen.shown(), "row");
    let words = match part {
        Part::Cell => "the value".to_string(),
        Part::Row => "this row".into(),
        Part::Column => format!("{} of {rows}", sheet.labels[chosen.view.columns[0]]),
        _ => rows,
    };
    Ok((chosen, words))
}
