//! `/log`: where the log is, and its last lines.

use idle_tide_lang::command::Parsed;

use super::Verb;
use crate::entry::Content;
use crate::failure::{Failure, plain};
use crate::log;
use crate::page::{Line, Page, Tone};
use crate::session::{Next, Turn};

/// Lines that are shown unless a number says otherwise.
const LINES: usize = 30;

pub(crate) struct Log;

impl Verb for Log {
    fn name(&self) -> &'static str {
        "log"
    }

    fn start(&self, _: &mut Turn<'_>, parsed: &Parsed, _: Option<String>) -> Result<Next, Failure> {
        let Some(path) = log::place() else {
            return Err(plain(
                "No log is kept. idle-tide --log FILE keeps one, or log = \"FILE\" in the settings.",
            ));
        };
        let most = parsed
            .argument(0)
            .and_then(|n| n.parse().ok())
            .unwrap_or(LINES);
        let lines = log::last_lines(path, most)
            .map_err(|error| plain(format!("{} cannot be read: {error}.", path.display())))?;
        let mut page = Page::new();
        page.line(
            Line::new()
                .and(Tone::Heading, path.display().to_string())
                .and(Tone::Faint, "  the log of this program, its last lines"),
        );
        page.gap();
        for line in lines {
            let (time, rest) = line.split_once(' ').unwrap_or(("", &line));
            let (level, words) = rest.trim_start().split_once(' ').unwrap_or(("", rest));
            let tone = match level {
                "ERROR" | "WARN" => Tone::Care,
                _ => Tone::Plain,
            };
            page.line(
                Line::new()
                    .column(Tone::Faint, time, 29)
                    .and(tone, words.to_string()),
            );
        }
        Ok(Next::Done(Content::Page(page)))
    }
}
