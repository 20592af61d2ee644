//! Commands that change the view of the current result, take it away, or ask the face for something. They
//! make no entry of their own.

use idle_tide_draw::{Format, Layout};
use idle_tide_lang::command::Parsed;
use idle_tide_lang::correct::{Correction, Edit};

use super::{Desk, Request};
use crate::entry::{Content, Entry, State};
use crate::export::{expand, export_drawing};
use crate::failure::{Failure, plain};
use crate::page::Tone;
use crate::sheet::{Sheet, read};

impl Desk {
    pub(crate) fn view_command(&mut self, parsed: &Parsed, text: &str) -> Result<(), Failure> {
        let first = parsed.argument(0);
        match parsed.command.name {
            "quit" => self.requests.push_back(Request::Quit),
            "clear" => self.requests.push_back(Request::Clear),
            "entries" => self.requests.push_back(Request::Entries),
            "sources" => self.requests.push_back(Request::Sources),
            "follow" => self
                .requests
                .push_back(Request::Follow(first.map(str::to_string))),
            "catalog" => self
                .requests
                .push_back(Request::Catalog(first.map(str::to_string))),
            "help" => self.requests.push_back(Request::Guide(parsed.rest.clone())),
            "keys" => self.requests.push_back(Request::Guide("keys".into())),
            "one-page" => self.requests.push_back(Request::Guide("one page".into())),
            "theme" => self
                .requests
                .push_back(Request::Theme(first.map(str::to_ascii_lowercase))),
            "record" => {
                self.sheet()?;
                let row = first.and_then(|row| row.parse().ok());
                self.requests.push_back(Request::Record(row));
            }
            "outline" | "text" => {
                let sheet = self.sheet()?;
                if !read(&sheet.set).holds_documents() {
                    return Err(plain(
                        "The rows of this result are no documents; /record shows one field per line.",
                    ));
                }
                self.requests
                    .push_back(Request::Document(parsed.command.name == "text"));
            }
            "recall" => {
                let statement = self.statement_of(first)?;
                self.requests.push_back(Request::Recall(statement));
            }
            "edit" => {
                let statement = match first {
                    Some(_) => self.statement_of(first)?,
                    // Without a number an entry that is no statement gives an empty page.
                    None => self.statement_of(None).unwrap_or_default(),
                };
                self.requests.push_back(Request::Edit(statement));
            }
            "bearings" => {
                let page = crate::arrival::bearings_page(
                    &self.here.source,
                    &self.here.bearings,
                    self.here.writes,
                );
                self.finished_entry(text, Content::Page(page));
            }
            "order" => self.order(parsed)?,
            "filter" => self.filter(parsed)?,
            "columns" => self.columns(parsed)?,
            "export" => self.start_export(parsed)?,
            name => return Err(plain(format!("/{name} is not known here."))),
        }
        Ok(())
    }

    /// The current result.
    fn sheet(&mut self) -> Result<&mut Sheet, Failure> {
        let current = self.current;
        match self
            .entries
            .get_mut(current)
            .and_then(|entry| entry.sheet_mut())
        {
            Some(sheet) if sheet.given_up => Err(plain(
                "This result gave up its rows to keep within the disk budget. /again runs it once more.",
            )),
            Some(sheet) => Ok(sheet),
            None => Err(plain(
                "The current entry has no rows. Show one that has, or run a query.",
            )),
        }
    }

    /// The current result once all its rows are there.
    fn complete_sheet(&mut self) -> Result<&mut Sheet, Failure> {
        if self
            .entry()
            .is_some_and(|entry| entry.state == State::Running)
        {
            return Err(plain(
                "Its rows are still arriving. Wait for the last, or stop it with Ctrl-C.",
            ));
        }
        self.sheet()
    }

    fn column(&mut self, name: &str, span: &std::ops::Range<usize>) -> Result<usize, Failure> {
        let sheet = self.sheet()?;
        sheet.column(name).ok_or_else(|| {
            let nearest =
                idle_tide_lang::correct::nearest(name, sheet.labels.iter().map(String::as_str), 3);
            Failure {
                place: Some(span.clone()),
                corrections: nearest
                    .iter()
                    .map(|near| Correction {
                        label: near.clone(),
                        detail: "column".into(),
                        edit: Edit {
                            span: span.clone(),
                            text: near.clone(),
                        },
                    })
                    .collect(),
                ..plain(format!("This result has no column {name}."))
            }
        })
    }

    fn order(&mut self, parsed: &Parsed) -> Result<(), Failure> {
        let order = match parsed.arguments.first() {
            None => None,
            Some(part) => {
                let column = self.column(&part.text, &part.span)?;
                Some((
                    column,
                    parsed
                        .argument(1)
                        .is_some_and(|word| word.eq_ignore_ascii_case("desc")),
                ))
            }
        };
        self.order_by(order)
    }

    /// Orders the rows of the current result by a column, downwards if true; as they came when `None`.
    ///
    /// # Errors
    /// If there is no result, or its rows are still arriving.
    pub fn order_by(&mut self, order: Option<(usize, bool)>) -> Result<(), Failure> {
        let filter = self.complete_sheet()?.view.filter.clone();
        self.arrange(order, filter);
        Ok(())
    }

    fn arrange(&mut self, order: Option<(usize, bool)>, filter: Option<String>) {
        let notify = std::sync::Arc::clone(&self.notify);
        let Some(entry) = self.entries.get_mut(self.current) else {
            return;
        };
        let number = entry.number;
        if let Some(sheet) = entry.sheet_mut() {
            sheet.arrange(number, order, filter, &notify);
        }
    }

    fn filter(&mut self, parsed: &Parsed) -> Result<(), Failure> {
        let order = self.complete_sheet()?.view.order;
        if parsed.rest.is_empty() {
            self.arrange(order, None);
            return Ok(());
        }
        let bound = {
            let sheet = self.sheet()?;
            let set = read(&sheet.set);
            crate::filter::Filter::new(&parsed.rest, set.columns(), crate::sheet::now())
        };
        if let Err(error) = bound {
            let at = |span: &std::ops::Range<usize>| {
                span.start + parsed.rest_at..span.end + parsed.rest_at
            };
            return Err(Failure {
                place: Some(at(&error.span)),
                corrections: error
                    .nearest
                    .iter()
                    .map(|near| Correction {
                        label: near.clone(),
                        detail: String::new(),
                        edit: Edit {
                            span: at(&error.span),
                            text: near.clone(),
                        },
                    })
                    .collect(),
                ..plain(error.message)
            });
        }
        self.arrange(order, Some(parsed.rest.clone()));
        Ok(())
    }

    fn columns(&mut self, parsed: &Parsed) -> Result<(), Failure> {
        let mut chosen = Vec::new();
        for part in &parsed.arguments {
            chosen.push(self.column(&part.text, &part.span)?);
        }
        let mut hidden = Vec::new();
        for (name, value) in &parsed.options {
            if let ("hide", Some(part)) = (*name, value) {
                hidden.push(self.column(&part.text, &part.span)?);
            }
        }
        let all = parsed.has("all");
        let sheet = self.sheet()?;
        if all {
            sheet.view.columns = (0..sheet.labels.len()).collect();
        }
        if !chosen.is_empty() {
            sheet.view.columns = chosen;
        }
        let left: Vec<usize> = sheet
            .view
            .columns
            .iter()
            .copied()
            .filter(|at| !hidden.contains(at))
            .collect();
        if left.is_empty() {
            return Err(plain(
                "One column has to stay. /columns --all brings all back.",
            ));
        }
        sheet.view.columns = left;
        let words = format!(
            "{} of {} columns are shown.",
            sheet.view.columns.len(),
            sheet.labels.len()
        );
        self.say(words, Tone::Plain);
        Ok(())
    }

    fn start_export(&mut self, parsed: &Parsed) -> Result<(), Failure> {
        let name = parsed.argument(0).unwrap_or_default();
        if let Some(links) = self.entry().and_then(Entry::links) {
            let ending = name
                .rsplit_once('.')
                .map(|(_, ending)| ending.to_ascii_lowercase());
            let format = parsed.value("as").map(str::to_ascii_lowercase).or(ending);
            let done = export_drawing(links, &expand(name), format.as_deref().unwrap_or_default());
            let words = done.map_err(plain)?;
            self.say(words, Tone::Active);
            return Ok(());
        }
        let sheet = self.complete_sheet()?.clone();
        if let Some("svg" | "pdf") = parsed.value("as").or(name.rsplit_once('.').map(|(_, e)| e)) {
            return Err(plain(
                "SVG and PDF are for drawings, and this entry has rows. /links makes a drawing.",
            ));
        }
        let format = match parsed.value("as") {
            Some(format) => Format::named(format),
            None => Format::of_file(name),
        };
        let Some(format) = format else {
            return Err(plain(format!(
                "{name} does not end like a format. Say it: /export {name} --as csv, tsv, json, jsonl, text or record."
            )));
        };
        let layout = Layout {
            format,
            header: !parsed.has("no-header"),
            lines: parsed.has("lines"),
        };
        self.export(sheet, expand(name), layout);
        Ok(())
    }
}
