//! `/export`: the current result, or a drawing, into a file, in a thread of its own.

use idle_tide_draw::export::{OPTIONS, SQL, names, names_in_words};
use idle_tide_draw::picture::{bytes, lasting};
use idle_tide_draw::{Format, Layout};
use idle_tide_engines::EngineError;
use idle_tide_lang::command::{CommandError, Parsed};
use idle_tide_lang::join;

use super::{Verb, view};
use crate::entry::Content;
use crate::export::{DRAWINGS, Drawn, Target, Watch, drawn, expand, export, export_drawing};
use crate::failure::{self, Failure, plain};
use crate::guard::Question;
use crate::pace::Pace;
use crate::page::{Line, Page, Tone};
use crate::replacing::same_file;
use crate::session::{Next, Session, Task, Turn};
use crate::sheet::{Sheet, read};
use crate::task::{Bench, Lane, Progress, Work};

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
        let target = match name.strip_prefix('|') {
            Some(command) => Target::Program(command.trim().to_string()),
            None => Target::File(expand(name)),
        };
        let source = turn.session.origin.as_ref().map(|origin| &origin.source);
        let files = source.map(|source| source.files()).unwrap_or_default();
        if let Target::File(path) = &target
            && files.iter().any(|file| same_file(file, path))
        {
            return Err(plain(format!(
                "{name} is what is read here; name another file."
            )));
        }
        let ending = match &target {
            Target::File(_) => name.rsplit_once('.').map(|(_, ending)| ending),
            Target::Program(_) => None,
        };
        let asked = parsed.value("as").or(ending).map(str::to_ascii_lowercase);
        // A result that is shown as text is still that result.
        if let Some(entry) = turn.shown()
            && matches!(entry.content, Content::Page(_))
            && entry.came_from.is_some()
        {
            turn.shown = entry.came_from;
        }
        let what = match turn.shown().and_then(drawn) {
            Some(drawn) => {
                let format = asked.unwrap_or_default();
                if !DRAWINGS.contains(&format.as_str()) || matches!(target, Target::Program(_)) {
                    return Err(plain(format!(
                        "A drawing is written to a file as svg, pdf or text. Say it: /export {name} --as svg"
                    )));
                }
                What::Drawing(drawn, format)
            }
            None => {
                let mut sheet = view::complete_sheet(turn)?.clone();
                sheet.revealed = parsed.has("revealed");
                let layout = layout(turn.session, parsed, name, asked.as_deref(), &sheet)?;
                What::Rows(Box::new(sheet), Box::new(layout))
            }
        };
        let there = match &target {
            Target::File(path) => std::fs::metadata(path).ok().filter(|there| there.is_file()),
            Target::Program(_) => None,
        };
        let task = ToFile {
            what,
            target,
            words: String::new(),
        };
        match there {
            Some(there) if !parsed.has("replace") => Ok(ask(name, &there, task)),
            _ => {
                turn.start(task);
                Ok(Next::Keep)
            }
        }
    }
}

/// Asks before a file is replaced.
fn ask(name: &str, there: &std::fs::Metadata, task: ToFile) -> Next {
    let mut page = Page::new();
    page.say(Tone::Heading, format!("{name} is there already."));
    page.gap();
    let age = there.modified().ok().and_then(|at| at.elapsed().ok());
    let age = age.map_or(String::new(), |age| {
        format!(", written {} ago", lasting(age))
    });
    page.line(Line::new().and(Tone::Plain, format!("It has {}{age}.", bytes(there.len()))));
    let question = Question {
        page,
        yes: "replaces it".into(),
        no: "leaves it".into(),
    };
    Next::Ask(
        question,
        Box::new(move |turn| {
            turn.start(task);
            // What is written stays in sight, not the question.
            let from = turn.shown.and_then(|number| turn.entries.place_of(number));
            if let Some(place) = from {
                turn.entries.current = place;
            }
            Next::Done(Content::Nothing)
        }),
    )
}

fn layout(
    session: &Session,
    parsed: &Parsed,
    name: &str,
    asked: Option<&str>,
    sheet: &Sheet,
) -> Result<Layout, Failure> {
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
    laid_out(session, parsed, format, Some(sheet))
}

/// A format with what the options of a command ask of it, for rows of a session.
pub(super) fn laid_out(
    session: &Session,
    parsed: &Parsed,
    format: &'static Format,
    sheet: Option<&Sheet>,
) -> Result<Layout, Failure> {
    let mut layout = Layout::of(format).from(session.dialect);
    for (option, value) in &parsed.options {
        if OPTIONS.iter().any(|(name, ..)| name == option) {
            let value = value.as_ref().map(|part| part.text.as_str());
            layout.set(option, value).map_err(plain)?;
        }
    }
    if let Some(sheet) = sheet {
        put_into(session, &mut layout, sheet)?;
    }
    Ok(layout)
}

/// Names the table of inserts: the one asked for, or the one that the rows come from, as the dialect writes it.
fn put_into(session: &Session, layout: &mut Layout, sheet: &Sheet) -> Result<(), Failure> {
    if *layout.format != SQL {
        return Ok(());
    }
    if layout.dialect.is_flow() {
        return Err(plain(
            "Inserts are SQL, and this database has none: say whose with --dialect, or take jsonl, which keeps documents as they are.",
        ));
    }
    let set = read(&sheet.set);
    let mut origins = set.columns().iter().map(|column| column.origin.as_ref());
    let first = origins.next().flatten().map(|(table, _)| table);
    let same = |origin: Option<&(String, String)>| origin.map(|(table, _)| table) == first;
    layout.table = match (&layout.table, first) {
        (Some(name), _) => Some(layout.dialect.quote_path(name)),
        (None, Some(table)) if origins.all(same) => Some(match session.catalog.table(table) {
            Some(object) if layout.dialect.family == session.dialect.family => {
                join::written(object, &session.catalog, layout.dialect)
            }
            _ => layout.dialect.quote_name(table),
        }),
        _ => {
            return Err(plain(
                "These rows do not come from one table. Say where they are to go: --table NAME.",
            ));
        }
    };
    Ok(())
}

enum What {
    Rows(Box<Sheet>, Box<Layout>),
    /// A drawing, and the format asked for.
    Drawing(Box<dyn Drawn>, String),
}

/// Writes the file.
struct ToFile {
    what: What,
    target: Target,
    /// What was written.
    words: String,
}

impl Work for ToFile {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let done = match (&self.what, &self.target) {
            (What::Rows(sheet, layout), target) => {
                let pace = Pace::new("written");
                let watch = Watch {
                    stopped: &|| at.stopped(),
                    tell: &|done, all| {
                        if let Some(words) = pace.words(done, Some(all)) {
                            at.reporter.tell(Progress::Said(words));
                        }
                    },
                };
                export(sheet, target, (**layout).clone(), &watch)
            }
            (What::Drawing(drawn, format), Target::File(path)) => {
                export_drawing(&**drawn, path, format)
            }
            (What::Drawing(..), Target::Program(_)) => return Ok(()),
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
