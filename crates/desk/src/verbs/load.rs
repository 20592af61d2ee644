//! `/load`: a file into a table or a collection; what would happen first, and with `--go` what is to happen.

use idle_tide_core::column_type::{ColumnType, NAMED};
use idle_tide_draw::export::separator_of;
use idle_tide_engines::load::Existing;
use idle_tide_intake::{Encoding, FORMS, Form};
use idle_tide_lang::command::Parsed;

use super::{Needs, Verb};
use crate::export::expand;
use crate::failure::{self, Failure, plain};
use crate::loading::{Look, Target, Wishes};
use crate::session::{Next, Turn};
use crate::settings::Writes;

pub(crate) struct Load;

impl Verb for Load {
    fn name(&self) -> &'static str {
        "load"
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Catalog
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let file = parsed.argument(0).unwrap_or_default();
        let wishes = wishes(parsed).map_err(plain)?;
        let name = match parsed.value("into") {
            Some(name) => name.to_string(),
            None => name_of(file)?,
        };
        if wishes.go {
            may_write(turn)?;
        }
        let text = turn.waiting.text();
        let (command, pasted) = match text.split_once('\n') {
            Some((command, rows)) => (command, Some(rows.to_string())),
            None => (text, None),
        };
        if file == "-" && pasted.is_none() && turn.services.stream.is_none() {
            return Err(plain(
                "Here is no standard input. Paste the rows below the command: /load - --into NAME, and then the lines; F5 runs it.",
            ));
        }
        let mut command = command.trim_end().to_string();
        if parsed.value("into").is_none() {
            command.push_str(&format!(" --into {name}"));
        }
        Ok(Next::Go(Box::new(Look {
            path: match file {
                "-" => file.into(),
                file => expand(file),
            },
            target: Target::of(&name, &turn.session.catalog, turn.session.dialect),
            pasted,
            wishes,
            command,
            covering: turn.services.covering.clone(),
            found: None,
        })))
    }
}

/// Whether rows may go in here at all.
fn may_write(turn: &Turn<'_>) -> Result<(), Failure> {
    if let Some(held) = &turn.session.held {
        return Err(failure::is_held(held));
    }
    if turn.session.writes == Writes::None {
        return Err(plain(
            "This session writes nothing. /writes ask lets it write again.",
        ));
    }
    Ok(())
}

/// A name for a table after that of its file.
fn name_of(file: &str) -> Result<String, Failure> {
    let name = file.rsplit('/').next().unwrap_or_default();
    let stem = name.split('.').next().unwrap_or_default();
    let plain_name: String = stem
        .chars()
        .map(|c| {
            if c.is_alphanumeric() {
                c.to_ascii_lowercase()
            } else {
                '_'
            }
        })
        .collect();
    match plain_name.chars().next() {
        Some(first) if first.is_alphabetic() => Ok(plain_name),
        _ => Err(plain("Say where the rows are to go: --into NAME.")),
    }
}

fn wishes(parsed: &Parsed) -> Result<Wishes, String> {
    let mut wishes = Wishes::default();
    for (option, value) in &parsed.options {
        let value = value.as_ref().map_or("", |part| part.text.as_str());
        let pair = || {
            value
                .rsplit_once('=')
                .map(|(column, what)| (column.to_string(), what.trim().to_string()))
                .ok_or_else(|| format!("--{option} is written COLUMN=…, and {value} is not."))
        };
        match *option {
            "go" => wishes.go = true,
            "separator" => wishes.asked.separator = Some(separator_of(value)?),
            "header" => wishes.asked.header = Some(true),
            "no-header" => wishes.asked.header = Some(false),
            "no-quotes" => wishes.asked.no_quotes = true,
            "null" => wishes.asked.null = Some(value.into()),
            "skip-rows" => wishes.asked.skip = value.parse().ok(),
            "encoding" => {
                let found = Encoding::named(value);
                wishes.asked.encoding =
                    Some(found.ok_or_else(|| format!("There is no encoding {value} here."))?);
            }
            "name" => wishes.names.push(pair()?),
            "type" => {
                let (column, of) = pair()?;
                let found = ColumnType::named(&of).ok_or_else(|| {
                    let names: Vec<_> = NAMED.iter().map(|(name, _)| *name).collect();
                    format!(
                        "There is no type {of}. There are {}, and decimal(12,2).",
                        names.join(", ")
                    )
                })?;
                wishes.types.push((column, found));
            }
            "form" => {
                let (column, form) = pair()?;
                let found = Form::named(&form).ok_or_else(|| {
                    let names: Vec<_> = FORMS.iter().map(|(name, _)| *name).collect();
                    format!("There is no form {form}. There are {}.", names.join(", "))
                })?;
                wishes.forms.push((column, found));
            }
            "leave-out" => wishes.left_out.push(value.into()),
            "key" => wishes.keys.push(value.into()),
            "existing" => {
                wishes.existing = Some(match value {
                    "skip" => Existing::Skip,
                    "replace" => Existing::Replace,
                    _ => Existing::Refuse,
                });
            }
            "bad" => wishes.skips_bad = value == "skip",
            "batch" => wishes.batch = value.parse().ok().filter(|size| *size > 0),
            _ => {}
        }
    }
    Ok(wishes)
}
