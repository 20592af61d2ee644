//! `/export`: the current result, or a drawing, into a file, in a thread of its own.

use std::path::PathBuf;

use idle_tide_draw::export::{names, names_in_words};
use idle_tide_draw::{Format, Layout};
use idle_tide_engines::EngineError;
use idle_tide_lang::command::{CommandError, Parsed};

use super::{Verb, view};
use crate::export::{DRAWINGS, expand, export, export_drawing};
use crate::failure::{self, Failure, plain};
use crate::links::Links;
use crate::page::Tone;
use crate::replacing::same_file;
use crate::session::{Next, Task, Turn};
use crate::sheet::Sheet;
use crate::task::{Bench, Lane, Work};

pub(crate) struct Export;

impl Verb for Export {
    fn name(&self) -> &'static str {
        "export"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let name = parsed.argument(0).unwrap_or_default();
        let path = expand(name);
        let source = turn.session.origin.as_ref().map(|origin| &origin.source);
        let files = source.map(|source| source.files()).unwrap_or_default();
        if files.iter().any(|file| same_file(file, &path)) {
            return Err(plain(format!(
                "{name} is what is read here; name another file."
            )));
        }
        let ending = name.rsplit_once('.').map(|(_, ending)| ending);
        let asked = parsed.value("as").or(ending).map(str::to_ascii_lowercase);
        let what = match turn.shown().and_then(|entry| entry.links()) {
            Some(links) => {
                let format = asked.unwrap_or_default();
                if !DRAWINGS.contains(&format.as_str()) {
                    return Err(plain(format!(
                        "A drawing is written as svg, pdf or text. Say it: /export {name} --as svg"
                    )));
                }
                What::Drawing(Box::new(links.clone()), format)
            }
            None => {
                let mut sheet = view::complete_sheet(turn)?.clone();
                sheet.revealed = parsed.has("revealed");
                What::Rows(Box::new(sheet), layout(parsed, name, asked.as_deref())?)
            }
        };
        turn.start(ToFile {
            what,
            path,
            words: String::new(),
        });
        Ok(Next::Keep)
    }
}

fn layout(parsed: &Parsed, name: &str, asked: Option<&str>) -> Result<Layout, Failure> {
    if let Some("svg" | "pdf") = asked {
        return Err(plain(
            "SVG and PDF are for drawings, and this entry has rows. /links makes a drawing.",
        ));
    }
    let format = match parsed.option("as") {
        Some(part) => Format::named(&part.text).ok_or_else(|| {
            failure::of_command(&CommandError {
                message: format!(
                    "{} is no format. There are {}.",
                    part.text,
                    names_in_words()
                ),
                span: part.span.clone(),
                nearest: idle_tide_lang::correct::nearest(&part.text, names(), 3),
            })
        })?,
        None => Format::of_file(name).ok_or_else(|| {
            plain(format!(
                "{name} does not end like a format. Say it: /export {name} --as {}.",
                names_in_words()
            ))
        })?,
    };
    Ok(Layout {
        format,
        header: !parsed.has("no-header"),
        lines: parsed.has("lines"),
    })
}

enum What {
    Rows(Box<Sheet>, Layout),
    /// A drawing, and the format asked for.
    Drawing(Box<Links>, String),
}

/// Writes the file.
struct ToFile {
    what: What,
    path: PathBuf,
    /// What was written.
    words: String,
}

impl Work for ToFile {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let done = match &self.what {
            What::Rows(sheet, layout) => export(sheet, &self.path, *layout, &|| at.stopped()),
            What::Drawing(links, format) => export_drawing(links, &self.path, format),
        };
        self.words = done.map_err(EngineError::plain)?;
        Ok(())
    }
}

impl Task for ToFile {
    fn holds(&self) -> bool {
        true
    }

    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        match how {
            Ok(()) => turn.say(self.words, Tone::Active),
            Err(error) => turn.say(error.message, Tone::Danger),
        }
        Next::Keep
    }
}
