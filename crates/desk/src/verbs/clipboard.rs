//! `/clipboard`: something of the current entry, for the face to copy; `/layout`: the result as text, to be selected.

use idle_tide_draw::export::{OPTIONS, names_in_words};
use idle_tide_draw::picture::grouped;
use idle_tide_draw::{Format, Layout};
use idle_tide_lang::Dialect;
use idle_tide_lang::command::Parsed;

use super::{Verb, view};
use crate::clipboard::{Asked, PARTS};
use crate::entry::Content;
use crate::export::{Watch, write_sheet};
use crate::face::Request;
use crate::failure::{Failure, plain};
use crate::page::{Line, Page, Tone};
use crate::session::{Next, Turn};
use crate::sheet::read;

/// The layout that options ask for, of a format that is text.
fn layout_of(
    parsed: &Parsed,
    format: Option<&str>,
    dialect: &'static Dialect,
) -> Result<Option<Layout>, Failure> {
    let Some(name) = format else {
        return Ok(None);
    };
    let format = Format::named(name)
        .filter(|format| !format.binary)
        .ok_or_else(|| {
            plain(format!(
                "{name} is no format of text. There are {}.",
                names_in_words()
            ))
        })?;
    let mut layout = Layout::of(format).from(dialect);
    for (option, value) in &parsed.options {
        if OPTIONS.iter().any(|(name, ..)| name == option) {
            let value = value.as_ref().map(|part| part.text.as_str());
            layout.set(option, value).map_err(plain)?;
        }
    }
    Ok(Some(layout))
}

pub(crate) struct Clipboard;

impl Verb for Clipboard {
    fn name(&self) -> &'static str {
        "clipboard"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let word = parsed.argument(0).map(str::to_ascii_lowercase);
        let part = word.and_then(|word| {
            let found = PARTS.iter().find(|(name, _)| *name == word);
            found.map(|(_, part)| *part)
        });
        let layout = layout_of(parsed, parsed.value("as"), turn.session.dialect)?;
        turn.request(Request::Clipboard(Box::new(Asked { part, layout })));
        Ok(Next::Keep)
    }
}

/// Rows of a result that are shown as text.
const ROWS: usize = 5_000;

pub(crate) struct AsText;

impl Verb for AsText {
    fn name(&self) -> &'static str {
        "layout"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let name = parsed.argument(0).unwrap_or("text");
        let Some(layout) = layout_of(parsed, Some(name), turn.session.dialect)? else {
            return Ok(Next::Keep);
        };
        let label = layout.format.label;
        let mut sheet = view::complete_sheet(turn)?.clone();
        let all = sheet.shown();
        if all > ROWS as u64 {
            let first = match &sheet.view.rows {
                Some(rows) => rows[..ROWS].to_vec(),
                None => (0..ROWS as u32).collect(),
            };
            sheet.view.rows = Some(first.into());
        }
        let from = turn.shown().map_or(0, |entry| entry.number);
        let mut out = Vec::new();
        write_sheet(&sheet, layout, &mut out, &Watch::NOBODY)
            .map_err(|error| plain(format!("It cannot be laid out: {error}.")))?;
        let mut page = Page::new();
        if all > ROWS as u64 {
            let words = format!(
                "The first {} of {} rows; /export writes all.",
                grouped(ROWS as u64),
                grouped(read(&sheet.set).len())
            );
            page.say(Tone::Faint, words);
            page.gap();
        }
        for line in String::from_utf8_lossy(&out).lines() {
            page.line(Line::new().and(Tone::Plain, line.to_string()));
        }
        turn.make_entry(&format!("entry {from} as {label}"), false);
        if let Some(own) = turn.own() {
            own.came_from = Some(from);
        }
        Ok(Next::Done(Content::Page(page)))
    }
}
