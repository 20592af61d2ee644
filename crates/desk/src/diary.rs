//! A session as a file that people read and that runs again: Markdown with each statement in a fenced block, what it came to,
//! and its result as a table. Here it is written, read back, and a result compared with what was recorded.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;

use idle_tide_core::{ValueRef, decimal};
use idle_tide_draw::export::markdown_text;
use idle_tide_draw::picture::{counted, grouped};
use idle_tide_engines::Bearings;
use idle_tide_lang::Dialect;
use idle_tide_lang::token::{TokenKind, tokens};
use parking_lot::Mutex;
use pulldown_cmark::{CodeBlockKind, Event, Options, Parser, Tag, TagEnd};

use crate::covering::WORD;
use crate::entry::{Content, Entry, State};
use crate::export::{Replacing, drawn, export_drawing};
use crate::holding::Holding;
use crate::sheet::{Sheet, read};

/// Rows of a result that are recorded, unless another number is asked for.
pub const ROWS: u64 = 200;

/// A diary that is being written. The file is whole at every moment: it is replaced, not added to, in a thread of its own.
pub struct Diary {
    /// The file.
    pub path: PathBuf,
    /// The session whose entries it has.
    pub(crate) session: u32,
    /// Where in the list of entries the next one stands.
    pub(crate) at: usize,
    rows: u64,
    text: String,
    to_file: Option<Sender<String>>,
    thread: Option<JoinHandle<()>>,
    failed: Arc<Mutex<Option<String>>>,
}

/// The session that a diary is kept of.
pub(crate) struct Kept<'a> {
    /// Its number.
    pub(crate) number: u32,
    /// The name of its source.
    pub(crate) source: &'a str,
    /// Where it is.
    pub(crate) bearings: &'a Bearings,
}

impl Diary {
    /// Begins one for the entries from `at` on; what is in the file already stays before it.
    ///
    /// # Errors
    /// In words, if the file cannot be read or written.
    pub(crate) fn begin(
        path: &Path,
        session: &Kept<'_>,
        at: usize,
        rows: u64,
    ) -> Result<Self, String> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => format!("{}\n\n", text.trim_end()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
            Err(error) => return Err(format!("{} cannot be read: {error}.", path.display())),
        };
        let mut diary = Diary {
            path: path.to_path_buf(),
            session: session.number,
            at,
            rows,
            text: text + &head(session),
            to_file: None,
            thread: None,
            failed: Arc::default(),
        };
        write(path, &diary.text)?;
        let (sender, inbox) = channel();
        let (place, failed) = (path.to_path_buf(), Arc::clone(&diary.failed));
        diary.to_file = Some(sender);
        diary.thread = Some(std::thread::spawn(move || keep(&place, &inbox, &failed)));
        Ok(diary)
    }

    /// Adds an entry that has ended.
    pub(crate) fn add(&mut self, entry: &Entry, dialect: &Dialect) {
        let written = self.written(entry, dialect);
        if written.is_empty() {
            return;
        }
        self.text.push_str(&written);
        if let Some(sender) = &self.to_file {
            // Nobody takes it where the thread has failed, which is said at the end.
            let _ = sender.send(self.text.clone());
        }
    }

    /// What could not be written, in words, once.
    pub(crate) fn trouble(&self) -> Option<String> {
        self.failed.lock().take()
    }

    /// Ends it; everything is in the file then.
    ///
    /// # Errors
    /// In words, if it could not be written.
    pub(crate) fn end(mut self) -> Result<PathBuf, String> {
        self.finish();
        match self.failed.lock().take() {
            Some(words) => Err(words),
            None => Ok(self.path.clone()),
        }
    }

    fn finish(&mut self) {
        self.to_file = None;
        if let Some(thread) = self.thread.take() {
            // A thread that failed left its words.
            let _ = thread.join();
        }
    }

    fn written(&self, entry: &Entry, dialect: &Dialect) -> String {
        let quiet = [
            "arrival",
            "/diary",
            "/keep",
            "/take-back",
            "/clipboard",
            "/quit",
        ];
        let first = entry.text.split_whitespace().next().unwrap_or_default();
        if quiet.contains(&first) || matches!(entry.state, State::NotRun) {
            return String::new();
        }
        let mut text = String::new();
        if entry.continues.is_none() {
            let kind = match (entry.is_statement, dialect.is_flow()) {
                _ if entry.holding == Some(Holding::TakenBack) => "taken-back",
                // What stands on the results of other entries is no statement that runs again.
                (false, _) if matches!(first, "/across" | "/chart" | "/compare" | "rows") => {
                    "shown"
                }
                (false, _) => "command",
                (true, true) => "flow",
                (true, false) => "sql",
            };
            // A fence that nothing in the text ends.
            let mut fence = "```".to_string();
            while entry.text.contains(&fence) {
                fence.push('`');
            }
            text.push_str(&format!(
                "{fence}{kind}\n{}\n{fence}\n\n",
                entry.text.trim_end()
            ));
        }
        text.push_str(&self.came_to(entry));
        text.push('\n');
        text
    }

    /// What an entry came to.
    fn came_to(&self, entry: &Entry) -> String {
        let thing = entry.row();
        match (&entry.content, entry.state) {
            (Content::Failure(failure), _) => {
                format!("Refused: {}\n", markdown_text(&failure.headline))
            }
            (_, State::Failed) => "Refused.\n".into(),
            (_, State::Stopped) => "Stopped.\n".into(),
            // Rows that were looked at while a change was held are no result, nor is what was proposed for a file.
            (Content::Rows(sheet), _) if entry.holding.is_none() && entry.proposed.is_none() => {
                self.table(sheet, thing)
            }
            (Content::Links(_) | Content::Chart(_), _) => {
                let Some(drawn) = drawn(entry) else {
                    return "Nothing was drawn.\n".into();
                };
                let what = match entry.content {
                    Content::Links(_) => "links",
                    _ => "chart",
                };
                let name = format!("{}-{}.svg", stem(&self.path), entry.number);
                let place = self.path.with_file_name(&name);
                match export_drawing(&*drawn, &place, "svg") {
                    Ok(_) => format!("![{what}]({name})\n"),
                    Err(words) => format!("{}\n", markdown_text(&words)),
                }
            }
            _ => match entry.outcome.as_ref().and_then(|outcome| outcome.changed) {
                Some(changed) => format!("{} changed.\n", counted(changed, entry.thing)),
                None => "Done.\n".into(),
            },
        }
    }

    fn table(&self, sheet: &Sheet, thing: &str) -> String {
        let set = read(&sheet.set);
        let all = sheet.shown();
        let shown = all.min(self.rows);
        let mut text = match shown < all {
            true => format!(
                "{}, the first {} of them.\n\n",
                counted(all, thing),
                grouped(shown)
            ),
            false => format!("{}.\n\n", counted(all, thing)),
        };
        let columns = &sheet.view.columns;
        if columns.is_empty() {
            return text;
        }
        let names = columns.iter().map(|at| markdown_text(&sheet.labels[*at]));
        text.push_str(&line(names));
        text.push_str(&line(columns.iter().map(|_| "---".to_string())));
        for at in 0..shown {
            let Some(Ok((batch, within))) = sheet.row_number(at).map(|number| set.locate(number))
            else {
                break;
            };
            let row = batch.row(within);
            let values: Vec<ValueRef<'_>> = row.values().collect();
            let cells = columns.iter().map(|column| {
                let value = values.get(*column).copied().unwrap_or(ValueRef::Null);
                match value {
                    value if value.is_null() => "*null*".to_string(),
                    value if sheet.covers(*column, value) => WORD.to_string(),
                    value => markdown_text(&value.plain()),
                }
            });
            text.push_str(&line(cells));
        }
        text
    }
}

impl Drop for Diary {
    fn drop(&mut self) {
        self.finish();
    }
}

fn stem(path: &Path) -> String {
    let stem = path.file_stem().unwrap_or_default();
    stem.to_string_lossy().into_owned()
}

fn line(cells: impl Iterator<Item = String>) -> String {
    let cells: String = cells.map(|cell| format!(" {cell} |")).collect();
    format!("|{cells}\n")
}

/// Where, who and when.
fn head(session: &Kept<'_>) -> String {
    let bearings = session.bearings;
    let mut facts = vec![now()];
    facts.push(
        format!("{} {}", bearings.family, bearings.version)
            .trim()
            .to_string(),
    );
    if let Some(server) = &bearings.server {
        facts.push(format!("{} on {}", server.user, server.place));
    }
    match bearings.database.as_str() {
        "" => {}
        memory @ "in memory" => facts.push(memory.into()),
        database => facts.push(format!("in {database}")),
    }
    let facts: Vec<_> = facts.iter().map(|fact| markdown_text(fact)).collect();
    format!(
        "# {}\n\n{}\n\n",
        markdown_text(session.source),
        facts.join(" · ")
    )
}

fn now() -> String {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let milliseconds = since.map_or(0, |since| since.as_millis());
    let milliseconds = i64::try_from(milliseconds).unwrap_or(0);
    idle_tide_core::document::time::text(milliseconds / 1_000 * 1_000).unwrap_or_default()
}

fn write(path: &Path, text: &str) -> Result<(), String> {
    use std::io::Write as _;
    let write = || {
        let mut file = Replacing::begin(path)?;
        file.write_all(text.as_bytes())?;
        file.commit()
    };
    write()
        .map(drop)
        .map_err(|error| format!("The diary {} cannot be written: {error}.", path.display()))
}

/// Keeps the file as it was said last.
fn keep(path: &Path, inbox: &Receiver<String>, failed: &Mutex<Option<String>>) {
    while let Ok(mut text) = inbox.recv() {
        while let Ok(newer) = inbox.try_recv() {
            text = newer;
        }
        if let Err(words) = write(path, &text) {
            *failed.lock() = Some(words);
        }
    }
}

/// Whether an entry is at its end, so that it can be recorded.
pub(crate) fn has_ended(entry: &Entry) -> bool {
    let open = matches!(entry.state, State::Waiting | State::Asking | State::Running);
    !open && entry.holding != Some(Holding::Held)
}

/// A value of a recorded table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cell {
    /// Null.
    Null,
    /// Whatever stands there.
    Any,
    /// This text.
    Text(String),
}

/// A recorded result.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Recorded {
    /// The names of its columns.
    pub columns: Vec<String>,
    /// Its rows.
    pub rows: Vec<Vec<Cell>>,
    /// Whether further rows may stand anywhere: a row of `…` only.
    pub open: bool,
    /// How many rows there were, where that is said.
    pub count: Option<u64>,
}

/// A block of a diary that runs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Block {
    /// The line in the file where its text begins.
    pub line: u64,
    /// Its text.
    pub text: String,
    /// Whether it is a command.
    pub is_command: bool,
    /// The results that were recorded.
    pub results: Vec<Recorded>,
    /// Whether it was refused.
    pub refused: bool,
    /// How many rows it changed, where that is said.
    pub changed: Option<u64>,
}

/// The blocks of a diary, also of one that was written by hand: fenced as `sql`, `flow` or `command`.
pub fn blocks(text: &str) -> Vec<Block> {
    let mut list: Vec<Block> = Vec::new();
    let mut inside = false;
    let mut ours = false;
    let mut said = String::new();
    let mut cell: Option<(String, bool)> = None;
    let mut row: Vec<Cell> = Vec::new();
    let mut count = None;
    for (event, span) in Parser::new_ext(text, Options::ENABLE_TABLES).into_offset_iter() {
        match event {
            Event::Start(Tag::CodeBlock(CodeBlockKind::Fenced(info))) => {
                let kind = info.split_whitespace().next().unwrap_or_default();
                inside = matches!(kind, "sql" | "flow" | "command");
                // What follows another block is no result of the one before.
                ours = inside;
                if inside {
                    let before = text[..span.start].matches('\n').count() as u64;
                    list.push(Block {
                        line: before + 2,
                        is_command: kind == "command",
                        ..Block::default()
                    });
                }
                count = None;
            }
            Event::End(TagEnd::CodeBlock) => inside = false,
            Event::Text(part) if inside => {
                if let Some(block) = list.last_mut() {
                    block.text.push_str(&part);
                }
            }
            Event::Start(Tag::Heading { .. }) => ours = false,
            Event::Start(Tag::Paragraph) => said.clear(),
            Event::End(TagEnd::Paragraph) if ours => {
                if let Some(block) = list.last_mut() {
                    note(block, &said, &mut count);
                }
            }
            Event::Start(Tag::Table(_)) if ours => {
                if let Some(block) = list.last_mut() {
                    block.results.push(Recorded {
                        count: count.take(),
                        ..Recorded::default()
                    });
                }
            }
            Event::Start(Tag::TableHead | Tag::TableRow) => row.clear(),
            Event::Start(Tag::TableCell) => cell = Some((String::new(), false)),
            Event::Start(Tag::Emphasis) => {
                if let Some((_, emphasis)) = &mut cell {
                    *emphasis = true;
                }
            }
            Event::Text(part) | Event::Code(part) => match &mut cell {
                Some((text, _)) => text.push_str(&part),
                None => said.push_str(&part),
            },
            Event::SoftBreak | Event::HardBreak => said.push(' '),
            Event::InlineHtml(tag) if &*tag == "<br>" => {
                if let Some((text, _)) = &mut cell {
                    text.push('\n');
                }
            }
            Event::End(TagEnd::TableCell) => {
                let (text, emphasis) = cell.take().unwrap_or_default();
                row.push(match text.as_str() {
                    "null" if emphasis => Cell::Null,
                    "…" => Cell::Any,
                    _ => Cell::Text(text),
                });
            }
            Event::End(TagEnd::TableHead) if ours => {
                let name = |cell: &Cell| match cell {
                    Cell::Text(text) => text.clone(),
                    Cell::Any => "…".into(),
                    Cell::Null => "null".into(),
                };
                if let Some(result) = list.last_mut().and_then(|block| block.results.last_mut()) {
                    result.columns = row.iter().map(name).collect();
                }
            }
            Event::End(TagEnd::TableRow) if ours => {
                if let Some(result) = list.last_mut().and_then(|block| block.results.last_mut()) {
                    let any = row
                        .iter()
                        .all(|cell| *cell == Cell::Any || *cell == Cell::Text(String::new()));
                    match any && row.contains(&Cell::Any) {
                        true => result.open = true,
                        false => result.rows.push(std::mem::take(&mut row)),
                    }
                }
            }
            _ => {}
        }
    }
    for block in &mut list {
        block.text = block.text.trim_end().to_string();
    }
    list
}

/// What a sentence behind a block says of it.
fn note(block: &mut Block, said: &str, count: &mut Option<u64>) {
    if said.starts_with("Refused") {
        block.refused = true;
        return;
    }
    let digits = said
        .char_indices()
        .find(|(_, c)| !c.is_ascii_digit() && !c.is_whitespace());
    let Some((end, _)) = digits.filter(|(end, _)| *end > 0) else {
        return;
    };
    let plain: String = said[..end].chars().filter(char::is_ascii_digit).collect();
    let (Ok(number), rest) = (plain.parse::<u64>(), &said[end..]) else {
        return;
    };
    let words: Vec<&str> = rest.split([' ', '.', ',']).collect();
    let is_count = matches!(
        words.first(),
        Some(&("row" | "rows" | "document" | "documents"))
    );
    match (is_count, words.get(1)) {
        (true, Some(&"changed")) => block.changed = Some(number),
        (true, _) => {
            *count = Some(number);
            // A result without rows may have no table.
            if number == 0 {
                block.results.push(Recorded {
                    count: Some(0),
                    ..Recorded::default()
                });
                *count = None;
            }
        }
        _ => {}
    }
}

/// A result as it came this time.
#[derive(Debug, Clone, Default)]
pub struct Came {
    /// The names of its columns.
    pub columns: Vec<String>,
    /// Its first rows, null as `None`.
    pub rows: Vec<Vec<Option<String>>>,
    /// How many rows there are.
    pub count: u64,
}

/// Whether a statement orders its rows: not one within brackets of it.
pub fn orders(text: &str, dialect: &Dialect) -> bool {
    let mut depth = 0_usize;
    let list = tokens(text, dialect);
    let list: Vec<_> = list
        .iter()
        .filter(|token| !matches!(token.kind, TokenKind::Space | TokenKind::Comment))
        .map(|token| token.of(text).to_ascii_lowercase())
        .collect();
    for (at, word) in list.iter().enumerate() {
        match word.as_str() {
            "(" | "{" | "[" => depth += 1,
            ")" | "}" | "]" => depth = depth.saturating_sub(1),
            "order" if depth == 0 && list.get(at + 1).is_some_and(|next| next == "by") => {
                return true;
            }
            _ => {}
        }
    }
    false
}

fn same(recorded: &Cell, came: &Option<String>) -> bool {
    match (recorded, came) {
        (Cell::Any, _) | (Cell::Null, None) => true,
        (Cell::Text(recorded), Some(came)) => {
            let came = plain(came);
            let numbers =
                decimal::is_decimal(recorded.as_bytes()) && decimal::is_decimal(came.as_bytes());
            *recorded == came || numbers && decimal::compare(recorded, &came).is_eq()
        }
        _ => false,
    }
}

/// A text as a table of Markdown gives it back.
fn plain(text: &str) -> String {
    let text = text.replace("\r\n", "\n").replace('\r', "\n");
    let kept = |c: char| {
        if c.is_control() && c != '\n' {
            '\u{fffd}'
        } else {
            c
        }
    };
    text.chars().map(kept).collect()
}

/// Lines that a difference shows of each side.
const SHOWN: usize = 10;

/// How a result differs from the recorded one, in lines; none where it does not. Columns are known by their names, rows by their
/// order only where the statement orders them.
pub fn differences(recorded: &Recorded, came: &Came, ordered: bool) -> Vec<String> {
    let mut lines = Vec::new();
    let cut = recorded
        .count
        .is_some_and(|count| count > recorded.rows.len() as u64);
    let expected = recorded.count.unwrap_or(recorded.rows.len() as u64);
    let as_many = recorded.open || came.count == expected;
    if !as_many {
        lines.push(format!(
            "{} now, and {} recorded",
            counted(came.count, "row"),
            grouped(expected)
        ));
    }
    if recorded.columns.is_empty() {
        return lines;
    }
    let place = |name: &String| came.columns.iter().position(|other| plain(other) == *name);
    let mut places = Vec::new();
    for name in &recorded.columns {
        match place(name) {
            Some(at) => places.push(at),
            None => lines.push(format!("there is no column {name} any more")),
        }
    }
    for name in &came.columns {
        if !recorded.columns.contains(&plain(name)) {
            lines.push(format!("the column {name} is new"));
        }
    }
    if places.len() != recorded.columns.len() {
        return lines;
    }
    let fits = |row: &Vec<Cell>, other: &Vec<Option<String>>| {
        let cells = row.iter().zip(&places);
        cells.clone().count() == places.len()
            && cells
                .into_iter()
                .all(|(cell, at)| other.get(*at).is_some_and(|o| same(cell, o)))
    };
    // Which rows came is known only of those that were recorded, or of all where they are in order.
    if cut && !ordered {
        return lines;
    }
    let (mut gone, mut new) = (Vec::new(), Vec::new());
    if ordered && !recorded.open {
        let most = if cut { recorded.rows.len() } else { usize::MAX };
        let came_rows = came.rows.iter().take(most);
        let mut rest: Vec<_> = came_rows.collect();
        rest.reverse();
        for row in &recorded.rows {
            match rest.pop() {
                Some(other) if fits(row, other) => {}
                Some(other) => {
                    gone.push(row);
                    new.push(other);
                }
                None => gone.push(row),
            }
        }
        new.extend(rest.into_iter().rev());
    } else {
        let mut rest: Vec<Option<&Vec<Option<String>>>> = came.rows.iter().map(Some).collect();
        for row in &recorded.rows {
            let found = rest
                .iter_mut()
                .find(|other| other.is_some_and(|other| fits(row, other)));
            match found {
                Some(found) => *found = None,
                None => gone.push(row),
            }
        }
        if !recorded.open {
            new.extend(rest.into_iter().flatten());
        }
    }
    let recorded_line = |row: &&Vec<Cell>| {
        let cells = row.iter().map(|cell| match cell {
            Cell::Null => "null".to_string(),
            Cell::Any => "…".into(),
            Cell::Text(text) => text.clone(),
        });
        cells.collect::<Vec<_>>().join(" | ")
    };
    let came_line = |row: &&Vec<Option<String>>| {
        let cell = |at: &usize| {
            row.get(*at)
                .cloned()
                .flatten()
                .unwrap_or_else(|| "null".into())
        };
        places.iter().map(cell).collect::<Vec<_>>().join(" | ")
    };
    lines.extend(
        gone.iter()
            .take(SHOWN)
            .map(|row| format!("recorded  {}", recorded_line(row))),
    );
    lines.extend(
        new.iter()
            .take(SHOWN)
            .map(|row| format!("now       {}", came_line(row))),
    );
    let more = gone.len().saturating_sub(SHOWN) + new.len().saturating_sub(SHOWN);
    if more > 0 {
        lines.push(format!("and {more} more"));
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::{FLOW, POSTGRES};

    fn text(cell: &str) -> Cell {
        Cell::Text(cell.into())
    }

    #[test]
    fn a_diary_by_hand_is_read() {
        let diary = "# Quays\n\nSome words with 3 rows.\n\n```sql\nselect *\nfrom quays;\n```\n\n2 rows.\n\n| code | name |\n|---|---|\n| N | North \\| *Steps* |\n| *null* | a<br>b &amp; … |\n\nMore words.\n\n~~~flow\nfrom log\n~~~\n\n| a |\n|---|\n| … |\n\n```text\nnot this\n```\n\n| x |\n|---|\n| 1 |\n\n````command\n/tables\n````\n\n```sql\ninsert into t values (1);\n```\n\n1 row changed.\n\n```sql\nbad;\n```\n\nRefused: it is *no* SQL.\n";
        let list = blocks(diary);
        let texts: Vec<_> = list
            .iter()
            .map(|b| (b.text.as_str(), b.line, b.is_command))
            .collect();
        assert_eq!(
            texts,
            [
                ("select *\nfrom quays;", 6, false),
                ("from log", 20, false),
                ("/tables", 36, true),
                ("insert into t values (1);", 40, false),
                ("bad;", 46, false)
            ]
        );
        let first = &list[0].results[0];
        assert_eq!(
            (first.columns.as_slice(), first.count),
            (&["code".to_string(), "name".into()][..], Some(2))
        );
        assert_eq!(
            first.rows,
            [
                vec![text("N"), text("North | Steps")],
                vec![Cell::Null, text("a\nb & …")]
            ]
        );
        assert!(list[1].results[0].open && list[1].results[0].rows.is_empty());
        assert!(list[2].results.is_empty());
        assert_eq!((list[3].changed, list[4].refused), (Some(1), true));
    }

    #[test]
    fn what_is_written_into_a_table_is_read_as_it_was() {
        for value in [
            "a|b",
            "*null*",
            "null",
            " x ",
            "line\nbreak",
            "<b>&amp;",
            "`c` [l](m) _i_ \\",
            "",
            "…x",
            "# h",
            "1. a",
            "~~s~~",
        ] {
            let table = format!(
                "```sql\nx\n```\n\n| c |\n|---|\n| {} |\n",
                markdown_text(value)
            );
            let list = blocks(&table);
            assert_eq!(list[0].results[0].rows, [vec![text(value)]], "{table}");
        }
    }

    #[test]
    fn rows_are_compared_by_name_and_in_order_only_where_that_is_asked() {
        let recorded = Recorded {
            columns: vec!["a".into(), "b".into()],
            rows: vec![vec![text("1"), Cell::Null], vec![text("2.50"), Cell::Any]],
            ..Recorded::default()
        };
        let row = |a: &str, b: Option<&str>| vec![b.map(str::to_string), Some(a.to_string())];
        let mut came = Came {
            columns: vec!["b".into(), "a".into()],
            rows: vec![row("2.5", Some("x")), row("1", None)],
            count: 2,
        };
        assert_eq!(differences(&recorded, &came, false), Vec::<String>::new());
        assert_eq!(differences(&recorded, &came, true).len(), 4);
        came.rows[1] = row("1", Some("y"));
        assert_eq!(
            differences(&recorded, &came, false),
            ["recorded  1 | null", "now       1 | y"]
        );
        came.columns[0] = "c".into();
        assert_eq!(
            differences(&recorded, &came, false),
            ["there is no column b any more", "the column c is new"]
        );
    }

    #[test]
    fn a_statement_orders_its_own_rows_or_not() {
        assert!(orders("select 1 order  by 1", &POSTGRES));
        assert!(orders("from log order by at desc", &FLOW));
        assert!(!orders(
            "select * from (select 1 order by 1) t -- order by",
            &POSTGRES
        ));
        assert!(!orders(
            "select row_number() over (order by a) from t",
            &POSTGRES
        ));
    }
}
