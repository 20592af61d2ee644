//! `/across` and `/name`: SQL over the results of earlier entries and over files.

use std::sync::Arc;

use idle_tide_core::catalog::{Field, Kind, Object};
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Catalog, column_labels};
use idle_tide_engines::{EngineError, Fault, Sink};
use idle_tide_lang::command::{CommandError, Parsed};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::statement::{Effect, summary};
use parking_lot::RwLock;

use super::Verb;
use super::statement::IntoResult;
use crate::across::{DOCUMENT, From, Named, Table, Watch, ask, named};
use crate::entries::Entries;
use crate::entry::{Content, Entry};
use crate::export::expand;
use crate::failure::{self, Failure, plain};
use crate::page::Tone;
use crate::session::{Next, Task, Turn};
use crate::sheet::{Sheet, read};
use crate::task::{Bench, Lane, Progress, Work};

/// What the result of an entry is called in questions.
pub(crate) fn table_name(entry: &Entry) -> String {
    entry
        .called
        .clone()
        .unwrap_or_else(|| format!("result_{}", entry.number))
}

/// The results of entries as tables that can be asked about.
pub(crate) fn results(entries: &Entries) -> impl Iterator<Item = (&Entry, &Sheet)> {
    let all = entries.all().iter();
    let rows = all.filter_map(|entry| Some((entry, entry.sheet()?)));
    rows.filter(|(_, sheet)| !sheet.given_up && !sheet.labels.is_empty())
}

/// The same as a catalog, for completion and for what is nearest to a slip.
pub(crate) fn catalog(entries: &Entries) -> Catalog {
    let objects = results(entries).map(|(entry, sheet)| {
        let set = read(&sheet.set);
        let labels = column_labels(set.columns());
        let declared = set
            .columns()
            .iter()
            .map(|column| column.declared.clone().unwrap_or_default());
        let document = set
            .holds_documents()
            .then(|| (DOCUMENT.to_string(), "json".to_string()));
        let fields = labels.into_iter().zip(declared).chain(document);
        Object {
            rows: Some(set.len()),
            fields: fields
                .map(|(name, declared)| Field {
                    name,
                    declared,
                    optional: true,
                    ..Field::default()
                })
                .collect(),
            ..Object::new("main", table_name(entry), Kind::Table)
        }
    });
    Catalog {
        objects: objects.collect(),
        ..Catalog::default()
    }
}

/// `/name`.
pub(crate) struct Name;

impl Verb for Name {
    fn name(&self) -> &'static str {
        "name"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let [number, name] = parsed.arguments.as_slice() else {
            return Err(plain("It is written /name N NAME."));
        };
        let at = |part: &idle_tide_lang::command::Part, words: String| Failure {
            place: Some(part.span.clone()),
            ..plain(words)
        };
        let known = number
            .text
            .parse()
            .ok()
            .and_then(|number| turn.entries.get(number));
        let Some(entry) = known.filter(|entry| entry.sheet().is_some()) else {
            return Err(at(
                number,
                format!("There is no entry {} that has rows.", number.text),
            ));
        };
        let id = entry.number;
        let letters = name.text.chars().all(|c| c.is_alphanumeric() || c == '_');
        let digit = name.text.starts_with(|c: char| c.is_ascii_digit());
        if !letters || digit {
            return Err(at(
                name,
                format!(
                    "{} is no name: letters, digits and _, and no digit first.",
                    name.text
                ),
            ));
        }
        let reserved = name.text.to_lowercase();
        let others = results(turn.entries).filter(|(entry, _)| entry.number != id);
        let hides = others.into_iter().find(|(entry, _)| {
            let number = format!("result_{}", entry.number);
            table_name(entry).to_lowercase() == reserved || number == reserved
        });
        if let Some((entry, _)) = hides {
            let words = format!(
                "{} is the result of entry {} already; one name cannot hide another.",
                name.text, entry.number
            );
            return Err(at(name, words));
        }
        if let Some(entry) = turn.entries.get_mut(id) {
            entry.called = Some(name.text.clone());
        }
        turn.say(
            format!("The result of entry {id} is {} in /across.", name.text),
            Tone::Plain,
        );
        Ok(Next::Keep)
    }
}

/// `/across`.
pub(crate) struct Asks;

impl Verb for Asks {
    fn name(&self) -> &'static str {
        "across"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let sql = parsed.rest.trim_end_matches([';', ' ']).to_string();
        if summary(&sql, &SQLITE).effect != Effect::Read {
            return Err(plain(
                "A question across results is a select; it changes nothing.",
            ));
        }
        let asks = named(&sql);
        let mut tables = Vec::new();
        for name in &asks.tables {
            let lent = turn
                .services
                .lent
                .iter()
                .find(|lent| lent.name.eq_ignore_ascii_case(name));
            if let Some(lent) = lent {
                tables.push(lent.clone());
                continue;
            }
            let found = results(turn.entries).find(|(entry, _)| {
                let number = format!("result_{}", entry.number);
                number.eq_ignore_ascii_case(name) || table_name(entry).eq_ignore_ascii_case(name)
            });
            let Some((entry, sheet)) = found else {
                return Err(unknown(turn, parsed, name));
            };
            if entry.state == crate::entry::State::Running {
                return Err(plain(format!(
                    "The rows of entry {} are still arriving.",
                    entry.number
                )));
            }
            let covered = sheet.covered_columns();
            if let Some(at) = covered.into_iter().find(|at| asks.uses(&sheet.labels[*at])) {
                return Err(plain(format!(
                    "{} of {name} is covered, because it looks like a secret. /reveal on that entry shows it, and then it can be asked about.",
                    sheet.labels[at]
                )));
            }
            tables.push(Table {
                name: name.clone(),
                from: From::Result(Arc::clone(&sheet.set)),
            });
        }
        for path in &asks.files {
            tables.push(Table {
                name: path.clone(),
                from: From::File(expand(path)),
            });
        }
        Ok(Next::Go(Box::new(Across {
            sql,
            at: parsed.rest_at,
            named: asks,
            tables,
            set: Arc::new(RwLock::new(ResultSet::of_rows(Vec::new(), Vec::new()))),
            budget: Arc::clone(&turn.services.memory),
            sink: None,
        })))
    }
}

/// Says that no result has this name, and which names there are.
fn unknown(turn: &Turn<'_>, parsed: &Parsed, name: &str) -> Failure {
    let names: Vec<String> = results(turn.entries)
        .map(|(entry, _)| table_name(entry))
        .collect();
    let there = match names.as_slice() {
        [] => "no entry has rows yet, and a file stands in quotes: from 'prices.csv'".to_string(),
        names => {
            let last: Vec<&str> = names
                .iter()
                .rev()
                .take(6)
                .rev()
                .map(String::as_str)
                .collect();
            format!(
                "there are {}, and files in quotes: from 'prices.csv'",
                last.join(", ")
            )
        }
    };
    let word = name.rsplit('.').next().unwrap_or(name);
    let start = parsed
        .rest
        .find(word)
        .map_or(parsed.rest_at, |at| at + parsed.rest_at);
    failure::of_command(&CommandError {
        message: format!("There is no result {name}; {there}."),
        span: start..start + word.len(),
        nearest: idle_tide_lang::correct::nearest(name, names.iter().map(String::as_str), 3),
    })
}

/// Asks the question.
struct Across {
    sql: String,
    /// Where it begins in what was typed.
    at: usize,
    named: Named,
    tables: Vec<Table>,
    set: Arc<RwLock<ResultSet>>,
    budget: Arc<Budget>,
    sink: Option<Box<dyn Sink + Send>>,
}

impl Work for Across {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let reporter = at.reporter.clone();
        let mut sink = self.sink.take().unwrap_or_else(|| {
            Box::new(IntoResult {
                set: Arc::clone(&self.set),
                budget: Arc::clone(&self.budget),
                reporter: reporter.clone(),
            })
        });
        let watch = Watch {
            stop: at.stop,
            tell: &|words| reporter.tell(Progress::Said(words)),
        };
        let ran = ask(&self.sql, &self.named, &self.tables, &mut *sink, &watch);
        let ended = sink.end();
        ran?;
        ended.map_err(|error| EngineError::of_sink(&error))
    }
}

impl Task for Across {
    fn begin(&mut self, turn: &mut Turn<'_>) {
        let stream = turn.services.stream.as_mut();
        self.sink = stream.map(|make| make(&self.sql));
        if self.sink.is_none() {
            let sheet = self.sheet(turn);
            if let Some(own) = turn.own() {
                own.content = Content::Rows(sheet);
            }
        }
    }

    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let sheet = self.sheet(turn);
        match how {
            Ok(()) if turn.services.stream.is_some() => Next::Done(Content::Nothing),
            Ok(()) => Next::Done(Content::Rows(sheet)),
            Err(error) if error.fault == Fault::Cancelled => Next::Stopped(Content::Rows(sheet)),
            Err(error) => {
                let catalog = catalog(turn.entries);
                let mut failure =
                    failure::of_statement(&self.sql, &error, &catalog, &SQLITE, false, 0);
                failure.changed = String::new();
                let moved =
                    |span: &std::ops::Range<usize>| span.start + self.at..span.end + self.at;
                failure.place = failure.place.as_ref().map(moved);
                for correction in &mut failure.corrections {
                    correction.edit.span = moved(&correction.edit.span);
                }
                failure.into()
            }
        }
    }
}

impl Across {
    fn sheet(&self, turn: &Turn<'_>) -> Sheet {
        Sheet::new(Arc::clone(&self.set)).covered_by(turn.services.covering.clone())
    }
}
