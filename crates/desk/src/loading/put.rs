//! The rows of a file into a table or a collection.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use idle_tide_core::ValueRef;
use idle_tide_core::column_type::ColumnType;
use idle_tide_core::document::{Datum, Document};
use idle_tide_draw::picture::{bytes, counted, grouped, lasting};
use idle_tide_engines::load::{Destination, Existing, NotPut};
use idle_tide_engines::{Connection, EngineError, Fault};
use idle_tide_intake::{Bad, Batch, Kind, Proposal, Spooled, Trouble, documents, rows, rows_by};
use idle_tide_lang::dialect::Family;

use super::beside::Beside;
use super::fit::{Target, Wishes, create, keys_of};
use crate::entry::Content;
use crate::holding::capital;
use crate::pace::Pace;
use crate::page::{Page, Tone};
use crate::session::{Check, Next, Task, Turn};
use crate::task::{Bench, Lane, Progress, Work, stopped};
use crate::verbs::statement;

/// What came of a load.
#[derive(Debug, Default)]
struct Done {
    /// Rows of the file that fit, and those that do not.
    read: u64,
    refused: u64,
    /// Where these were written.
    beside: Option<PathBuf>,
    /// Rows that are there now, and those that were kept before a failure.
    stored: u64,
    kept: u64,
    /// Whether the table was made.
    made: bool,
    /// Whether it is there without rows after a failure, since it could not be dropped.
    left: bool,
    /// Whether the connection was lost while rows were being kept.
    in_doubt: bool,
    /// Whether it stands in a transaction of the user's.
    in_transaction: bool,
    took: Duration,
}

/// Loads a file.
pub(super) struct Load {
    file: Spooled,
    proposal: Proposal,
    wishes: Wishes,
    target: Target,
    path: PathBuf,
    done: Done,
}

/// Rows that a reading thread hands over.
type Feed = Receiver<Batch>;
/// What that thread ends with: rows that do not fit, and where they were written.
type Reading = JoinHandle<Result<(u64, Option<PathBuf>), Trouble>>;

impl Load {
    /// A load of a file as it was proposed.
    pub(super) fn new(
        file: Spooled,
        proposal: Proposal,
        wishes: Wishes,
        target: Target,
        path: PathBuf,
    ) -> Self {
        Load {
            file,
            proposal,
            wishes,
            target,
            path,
            done: Done::default(),
        }
    }

    /// Reads in a thread of its own, so that reading and writing go on side by side.
    fn read(&self, stop: &Arc<AtomicBool>) -> (Feed, Reading) {
        let (sender, feed) = sync_channel(4);
        let (path, proposal) = (self.file.path().to_path_buf(), self.proposal.clone());
        let mut beside = Beside::of(&self.path, &proposal);
        let (stop, skips) = (Arc::clone(stop), self.wishes.skips_bad);
        let every = self.wishes.batch.unwrap_or(u64::MAX);
        let reading = std::thread::spawn(move || {
            rows_by(
                &path,
                &proposal,
                every,
                // Nobody takes more once the load has failed.
                &mut |batch| Ok(!stop.load(Ordering::Relaxed) && sender.send(batch).is_ok()),
                &mut |bad, fields| match skips {
                    true => beside.put(&bad, fields),
                    false => Err(Trouble(format!(
                        "{bad}. /load without --go shows every row that does not fit; --bad skip leaves them out."
                    ))),
                },
            )?;
            beside.end()
        });
        (feed, reading)
    }

    fn fill_table(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let (ticket, stop) = (at.ticket, Arc::clone(at.stop));
        let reporter = at.reporter.clone();
        let connection = at.connection()?;
        let bearings = connection.bearings();
        self.done.in_transaction = bearings.transaction.is_some();
        let makes = self.target.object.is_none();
        // There a table that is made ends the transaction that is open.
        let commits = self.target.dialect.family == Family::Mariadb;
        if makes && commits && self.done.in_transaction {
            return Err(EngineError::plain(format!(
                "A transaction is open, and this server would end it before {} is made. Keep it or take it back first.",
                self.target.name
            )));
        }
        let own = !self.done.in_transaction;
        if !own && self.wishes.batch.is_some() {
            return Err(EngineError::plain(
                "A transaction is open, and --batch would keep parts of it. Keep it or take it back first, or leave --batch out.",
            ));
        }
        let begin = self.target.dialect.begin();
        let quiet = |connection: &mut dyn Connection, sql: &str| {
            statement::run_quietly(connection, ticket, sql)
        };
        // What was sent and not answered may have happened.
        let keep = |connection: &mut dyn Connection, in_doubt: &mut bool| {
            let kept = quiet(connection, "commit");
            *in_doubt = matches!(&kept, Err(error) if error.fault == Fault::Lost);
            kept
        };
        if makes && commits {
            quiet(connection, &create(&self.proposal, &self.target))?;
            self.done.made = true;
        }
        if own {
            quiet(connection, begin)?;
        }
        let mut put_all = || -> Result<(), EngineError> {
            if makes && !commits {
                quiet(connection, &create(&self.proposal, &self.target))?;
                self.done.made = true;
            }
            let columns = self.proposal.columns.iter().filter(|column| !column.skip);
            let destination = Destination {
                table: self.target.written.clone(),
                columns: columns
                    .map(|c| self.target.dialect.quote_name(&c.name))
                    .collect(),
                keys: keys_of(&self.proposal, &self.target, &self.wishes),
                existing: self.wishes.existing.unwrap_or(Existing::Refuse),
            };
            let pace = Pace::new("loaded");
            let all = self.proposal.rows.saturating_sub(self.proposal.bad_count);
            let mut since = 0;
            let (feed, reading) = self.read(&stop);
            for batch in &feed {
                if stop.load(Ordering::Relaxed) {
                    return Err(stopped());
                }
                let stored = connection.put(ticket, &destination, &batch.rows);
                let stored = stored.map_err(|refused| named(refused, &batch))?;
                self.done.stored += stored;
                self.done.read += batch.rows.len() as u64;
                since += batch.rows.len() as u64;
                if own && self.wishes.batch.is_some_and(|size| since >= size) {
                    keep(connection, &mut self.done.in_doubt)?;
                    self.done.kept = self.done.stored;
                    quiet(connection, begin)?;
                    since = 0;
                }
                if let Some(words) = pace.words(self.done.read, Some(all)) {
                    reporter.tell(Progress::Said(words));
                }
            }
            let ended = reading
                .join()
                .map_err(|_| EngineError::plain("The thread that read the file failed."))?;
            if stop.load(Ordering::Relaxed) {
                return Err(stopped());
            }
            let (refused, beside) = ended.map_err(|trouble| EngineError::plain(trouble.0))?;
            (self.done.refused, self.done.beside) = (refused, beside);
            if own {
                keep(connection, &mut self.done.in_doubt)?;
            }
            Ok(())
        };
        let done = put_all();
        if done.is_err() {
            if own {
                // The link may be gone, and the transaction with it.
                let _ = quiet(connection, "rollback");
            }
            if self.done.made && commits && self.done.kept == 0 && !self.done.in_doubt {
                let gone = quiet(connection, &format!("drop table {}", self.target.written));
                self.done.left = gone.is_err();
            }
        }
        done
    }

    fn fill_collection(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let (ticket, stop) = (at.ticket, Arc::clone(at.stop));
        let reporter = at.reporter.clone();
        let connection = at.connection()?;
        self.done.in_transaction = connection.bearings().transaction.is_some();
        self.done.made = self.target.object.is_none();
        let Some(collections) = connection.collections() else {
            return Err(EngineError::plain("There are no collections here."));
        };
        let (sender, feed) = sync_channel::<Document>(512);
        let (path, proposal) = (self.file.path().to_path_buf(), self.proposal.clone());
        let mut beside = Beside::of(&self.path, &proposal);
        let halt = Arc::clone(&stop);
        let reading = std::thread::spawn(move || {
            let goes_on =
                |document| Ok(!halt.load(Ordering::Relaxed) && sender.send(document).is_ok());
            if proposal.shape.kind == Kind::Documents {
                let mut bad = Ok(());
                let mut refuse = |broken: Bad| {
                    if bad.is_ok() {
                        bad = beside.put(&broken, None);
                    }
                };
                documents(&path, &mut |document| goes_on(document), &mut refuse)?;
                bad?;
            } else {
                let mut put = |batch: Batch| {
                    for row in batch.rows.rows() {
                        if !goes_on(document_of(&proposal, row.values()))? {
                            return Ok(false);
                        }
                    }
                    Ok(true)
                };
                rows(&path, &proposal, &mut put, &mut |bad, fields| {
                    beside.put(&bad, fields)
                })?;
            }
            beside.end()
        });
        let pace = Pace::new("loaded");
        let all = self.proposal.rows.saturating_sub(self.proposal.bad_count);
        let mut read = 0;
        let filled = collections.fill(ticket, &self.target.name, &mut || {
            if stop.load(Ordering::Relaxed) {
                return Err(stopped());
            }
            let next = feed.recv().ok();
            read += u64::from(next.is_some());
            if read % 512 == 0
                && let Some(words) = pace.words(read, Some(all))
            {
                reporter.tell(Progress::Said(words));
            }
            Ok(next)
        });
        drop(feed);
        let ended = reading
            .join()
            .map_err(|_| EngineError::plain("The thread that read the file failed."))?;
        self.done.read = read;
        self.done.stored = filled?;
        let (refused, beside) = ended.map_err(|trouble| EngineError::plain(trouble.0))?;
        (self.done.refused, self.done.beside) = (refused, beside);
        Ok(())
    }
}

/// A row as a document: a name with points is a way through objects, and what is null is left out as it was when it was written.
fn document_of<'a>(proposal: &Proposal, values: impl Iterator<Item = ValueRef<'a>>) -> Document {
    fn put(document: &mut Document, path: &str, value: Datum) {
        let parts = path.split_once('.');
        let Some((first, rest)) =
            parts.filter(|(first, rest)| !first.is_empty() && !rest.is_empty())
        else {
            // What lay within keeps its whole name where this has the place of the object.
            if let Some(Datum::Object(inner)) = document.remove(path) {
                for (name, value) in inner.fields {
                    document.set(&format!("{path}.{name}"), value);
                }
            }
            return document.set(path, value);
        };
        match document.get_mut(first) {
            Some(Datum::Object(inner)) => put(inner, rest, value),
            // A field that is no object already: both stay, this one under its whole name.
            Some(_) => document.set(path, value),
            None => {
                let mut inner = Document::new();
                put(&mut inner, rest, value);
                document.set(first, inner);
            }
        }
    }
    let mut document = Document::new();
    let columns = proposal.columns.iter().filter(|column| !column.skip);
    for (column, value) in columns.zip(values) {
        let datum = match (column.column_type, value) {
            (_, ValueRef::Null) => continue,
            (
                ColumnType::Date | ColumnType::Moment | ColumnType::ZonedMoment,
                ValueRef::Text(text),
            ) => {
                let zone = idle_tide_core::document::time::TimeZone::UTC;
                let text = text.replacen(' ', "T", 1);
                match idle_tide_core::document::time::read(&text, &zone) {
                    Some(at) => Datum::Date(at),
                    None => Datum::Text(text.as_str().into()),
                }
            }
            (ColumnType::Json, ValueRef::Text(text)) => {
                idle_tide_core::document::extended::read(text)
                    .unwrap_or_else(|_| Datum::Text(text.into()))
            }
            (_, ValueRef::Number(digits)) => match digits.parse() {
                Ok(decimal) => Datum::Decimal(decimal),
                Err(_) => Datum::Text(digits.into()),
            },
            (_, value) => value.to_datum().unwrap_or(Datum::Null),
        };
        put(&mut document, &column.name, datum);
    }
    document
}

/// The error of a refused row with its line.
fn named(refused: NotPut, batch: &Batch) -> EngineError {
    let mut error = refused.error;
    if let Some(line) = refused.row.and_then(|row| batch.lines.get(row)) {
        error.message = format!("line {line}: {}", error.message);
        error.advice = error.advice.map(|words| format!("Line {line}: {words}"));
    }
    error
}

impl Work for Load {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let started = Instant::now();
        let done = match self.target.dialect.is_flow() {
            true => self.fill_collection(at),
            false => self.fill_table(at),
        };
        self.done.took = started.elapsed();
        done
    }
}

impl Load {
    /// What a load that failed left, in words.
    fn kept(&self) -> String {
        let (name, done) = (&self.target.name, &self.done);
        let mut words = match done.kept {
            0 => String::new(),
            kept => {
                let rows = counted(kept, self.target.dialect.row());
                format!("{rows} were kept in batches before; ")
            }
        };
        words.push_str(&match (done.kept, done.in_transaction) {
            _ if done.in_doubt => format!(
                "the connection was lost while {} being kept, and whether they were is not known. Look at {name} before you load anything again.",
                if done.kept == 0 { "the rows were" } else { "those after them were" }
            ),
            (0, true) => {
                "what went in before stands in your transaction; roll it back to take it out.".into()
            }
            (0, false) if done.left => format!(
                "nothing was loaded. {name} was made for it and is still there, without rows: drop table {} removes it.",
                self.target.written
            ),
            // What a collection has is counted by whoever fills it.
            (0, false) if self.target.dialect.is_flow() => String::new(),
            (0, false) => "nothing was loaded.".into(),
            _ => "the rest was not loaded.".into(),
        });
        capital(&words)
    }
}

impl Task for Load {
    fn holds(&self) -> bool {
        true
    }

    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let (name, done) = (&self.target.name, &self.done);
        let thing = self.target.dialect.row();
        if let Err(error) = how {
            let kept = self.kept();
            if error.fault == Fault::Cancelled {
                let mut page = Page::new();
                page.say(Tone::Heading, "The load was stopped.");
                page.say(Tone::Plain, kept);
                return Next::Stopped(Content::Page(page));
            }
            let mut failure = statement::failure(turn, "", &error);
            failure.place = None;
            failure.corrections.clear();
            failure.headline = format!("{} {kept}", failure.headline)
                .trim_end()
                .to_string();
            return failure.into();
        }
        let mut page = Page::new();
        let skipped = done.read - done.stored.min(done.read);
        let rate = done.stored as f64 / done.took.as_secs_f64().max(0.001);
        page.say(
            Tone::Heading,
            format!("{} loaded into {name}.", counted(done.stored, thing)),
        );
        let mut facts = vec![format!(
            "{} in {}",
            bytes(self.file.size),
            lasting(done.took)
        )];
        if done.took > Duration::from_millis(200) && done.stored > 1_000 {
            facts.push(format!("{} a second", grouped(rate as u64)));
        }
        if done.made {
            facts.push(match self.target.dialect.is_flow() {
                true => "the collection is new".to_string(),
                false => "the table was made".to_string(),
            });
        }
        if done.in_transaction {
            facts.push("in your transaction, which is still open".into());
        }
        page.say(Tone::Faint, facts.join(" · "));
        page.gap();
        let all = done.read + done.refused;
        let mut parts = vec![format!("{} loaded", grouped(done.stored))];
        if skipped > 0 {
            parts.push(format!("{} left as they were", grouped(skipped)));
        }
        if done.refused > 0 {
            parts.push(format!("{} that did not fit", grouped(done.refused)));
        }
        page.say(
            Tone::Plain,
            format!(
                "The file has {}: {}.",
                counted(all, thing),
                parts.join(", ")
            ),
        );
        let titles = self.proposal.shape.skip;
        if titles > 0 && self.wishes.asked.skip.is_none() {
            let (rows, them) = match titles {
                1 => ("A title above the names was left out".to_string(), "it"),
                more => (
                    format!("{more} rows of titles above the names were left out"),
                    "them",
                ),
            };
            let words = format!("{rows}; --skip-rows 0 takes {them}.");
            page.say(Tone::Care, words);
        }
        match &done.beside {
            Some(path) => {
                page.say(
                    Tone::Care,
                    format!("Those that did not fit are in {}.", path.display()),
                );
            }
            None if done.refused > 0 => {
                page.say(
                    Tone::Care,
                    "What did not fit could not be read as rows, so it was written nowhere.",
                );
            }
            None => {}
        }
        turn.session.check = turn.entry.map(|entry| Check {
            entry,
            name: self.target.name.clone(),
            made: false,
        });
        turn.session
            .starts
            .push(Box::new(crate::catalog::ReadCatalog::behind()));
        Next::Done(Content::Page(page))
    }
}
