//! `/clipboard`: something of the current entry, for the face to copy; `/layout`: the result as text, to be selected.

use idle_tide_draw::export::names_in_words;
use idle_tide_draw::picture::grouped;
use idle_tide_draw::{Format, Layout};
use idle_tide_lang::command::Parsed;

use super::export::laid_out;
use super::{Verb, view};
use crate::clipboard::{Asked, PARTS};
use crate::entry::Content;
use crate::export::{Watch, write_sheet};
use crate::face::Request;
use crate::failure::{Failure, plain};
use crate::page::{Line, Page, Tone};
use crate::session::{Next, Turn};

/// The layout that a command asks for, of a format that is text, for the rows that are shown.
fn layout_of(turn: &Turn<'_>, parsed: &Parsed, name: &str) -> Result<Layout, Failure> {
    let format = Format::named(name)
        .filter(|format| !format.binary)
        .ok_or_else(|| {
            plain(format!(
                "{name} is no format of text. There are {}.",
                names_in_words()
            ))
        })?;
    let sheet = turn.shown().and_then(|entry| entry.sheet());
    laid_out(turn.session, parsed, format, sheet)
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
        let layout = match parsed.value("as") {
            Some(name) => Some(layout_of(turn, parsed, name)?),
            None if parsed.options.is_empty() => None,
            None => return Err(plain("These options need a format: --as csv, say.")),
        };
        turn.request(Request::Clipboard(Box::new(Asked { part, layout })));
        Ok(Next::Keep)
    }
}

/// Rows of a result that are shown as text.
const ROWS: u64 = 5_000;

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
        let layout = layout_of(turn, parsed, name)?;
        let label = layout.format.label;
        let sheet = view::complete_sheet(turn)?;
        let (all, sheet) = (sheet.shown(), sheet.first(ROWS));
        let from = turn.shown().map_or(0, |entry| entry.number);
        let mut out = Vec::new();
        write_sheet(&sheet, layout, &mut out, &Watch::NOBODY)
            .map_err(|error| plain(format!("It cannot be laid out: {error}.")))?;
        let mut page = Page::new();
        if all > ROWS {
            let words = format!(
                "The first {} of {} rows; /export writes all.",
                grouped(ROWS),
                grouped(all)
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
