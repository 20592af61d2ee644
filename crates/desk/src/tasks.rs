//! Long work over rows that are there: order and filter, figures of a column, a search. Each goes in a thread of its
//! own and heeds a stop.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use idle_tide_core::Figures;
use idle_tide_core::order::each_row;
use idle_tide_draw::picture::grouped;
use idle_tide_engines::EngineError;

use crate::entry::Entry;
use crate::face::Request;
use crate::page::Tone;
use crate::session::{Next, Task, Turn, Watched};
use crate::sheet::{Sheet, arranged, find, read};
use crate::task::{Bench, EntryId, Lane, Progress, Work};

/// Puts the rows of an entry in order and chooses among them.
pub(crate) struct Arrange {
    entry: EntryId,
    sheet: Sheet,
    order: Option<(usize, bool)>,
    filter: Option<String>,
    stop: Arc<AtomicBool>,
    rows: Result<Option<Vec<u32>>, String>,
}

impl Arrange {
    /// Takes the place of what is being worked out for the entry.
    pub(crate) fn new(
        entry: EntryId,
        sheet: &mut Sheet,
        order: Option<(usize, bool)>,
        filter: Option<String>,
    ) -> Self {
        let doing = if filter.is_some() {
            "filtering"
        } else {
            "ordering"
        };
        Arrange {
            entry,
            stop: sheet.work(doing),
            sheet: sheet.clone(),
            order,
            filter,
            rows: Ok(None),
        }
    }
}

impl Work for Arrange {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let stopped = || self.stop.load(Ordering::Relaxed) || at.stopped();
        let set = read(&self.sheet.set);
        self.rows = arranged(&set, self.order, self.filter.as_deref(), &stopped);
        Ok(())
    }
}

impl Task for Arrange {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let sheet = turn.entries.get_mut(self.entry).and_then(Entry::sheet_mut);
        // Something else took its place, or it was stopped.
        let Some(sheet) = sheet.filter(|sheet| sheet.works_for(&self.stop)) else {
            return Next::Keep;
        };
        sheet.working = None;
        if self.stop.load(Ordering::Relaxed) {
            turn.say("It was stopped; the rows stay as they were.", Tone::Plain);
            return Next::Keep;
        }
        if let Err(error) = how {
            turn.say(error.message, Tone::Danger);
            return Next::Keep;
        }
        match self.rows {
            Ok(rows) => {
                let all = read(&sheet.set).len();
                let words = match (&rows, &self.filter) {
                    (Some(rows), Some(filter)) => Some(format!(
                        "{} of {} rows: {filter}",
                        grouped(rows.len() as u64),
                        grouped(all)
                    )),
                    _ => None,
                };
                sheet.view.order = self.order;
                sheet.view.filter = self.filter;
                sheet.view.rows = rows.map(Arc::new);
                if let Some(words) = words {
                    turn.say(words, Tone::Active);
                }
            }
            Err(words) => turn.say(words, Tone::Danger),
        }
        Next::Keep
    }
}

/// Gathers the figures of a column: at once for what is there, and again as more rows arrive.
pub(crate) struct Watch {
    entry: EntryId,
    column: usize,
    sheet: Sheet,
    /// Set when no more rows will come.
    complete: Arc<AtomicBool>,
    stop: Arc<AtomicBool>,
}

impl Watch {
    pub(crate) fn new(entry: &Entry, sheet: &Sheet, column: usize) -> Self {
        Watch {
            entry: entry.number,
            column,
            sheet: sheet.clone(),
            complete: Arc::clone(&entry.complete),
            stop: Arc::default(),
        }
    }
}

impl Work for Watch {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let stopped = || self.stop.load(Ordering::Relaxed) || at.stopped();
        let failed = |error: std::io::Error| EngineError::plain(error.to_string());
        let (set, rows, column) = (&self.sheet.set, &self.sheet.view.rows, self.column);
        let mut figures = Figures::default();
        let mut batch = 0;
        loop {
            let last = self.complete.load(Ordering::Acquire);
            match rows {
                Some(rows) => each_row(&read(set), Some(rows), &stopped, &mut |_, row| {
                    figures.add(row.get(column));
                    true
                })
                .map_err(failed)?,
                // A lock for each batch, so that arriving rows do not wait for long.
                None => {
                    while !stopped() && batch < read(set).batches() {
                        let (_, rows) = read(set).batch(batch).map_err(failed)?;
                        rows.rows().for_each(|row| figures.add(row.get(column)));
                        batch += 1;
                    }
                }
            }
            if stopped() {
                return Ok(());
            }
            let told = Box::new(figures.clone());
            at.reporter
                .tell(Progress::Figures(self.entry, column, told));
            if last || rows.is_some() {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(300));
        }
    }
}

impl Task for Watch {
    fn begin(&mut self, turn: &mut Turn<'_>) {
        let before = turn.services.watched.replace(Watched {
            entry: self.entry,
            column: self.column,
            rows: self
                .sheet
                .view
                .rows
                .as_ref()
                .map(|rows| Arc::as_ptr(rows) as usize),
            figures: None,
            stop: Arc::clone(&self.stop),
        });
        if let Some(before) = before {
            before.stop.store(true, Ordering::Relaxed);
        }
    }

    fn ended(self: Box<Self>, _: &mut Turn<'_>, _: Result<(), EngineError>) -> Next {
        // Figures that could not be gathered are not shown.
        Next::Keep
    }
}

/// Looks for a text in the rows of an entry.
pub(crate) struct Find {
    entry: EntryId,
    sheet: Sheet,
    text: String,
    from: (u64, usize),
    back: bool,
    stop: Arc<AtomicBool>,
    found: Option<(u64, usize)>,
}

impl Find {
    pub(crate) fn new(
        entry: EntryId,
        sheet: Sheet,
        text: &str,
        from: (u64, usize),
        back: bool,
    ) -> Self {
        Find {
            entry,
            sheet,
            text: text.to_string(),
            from,
            back,
            stop: Arc::default(),
            found: None,
        }
    }
}

impl Work for Find {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let stopped = || self.stop.load(Ordering::Relaxed) || at.stopped();
        let found = find(&self.sheet, &self.text, self.from, self.back, &stopped);
        self.found = found.map_err(|error| EngineError::plain(error.to_string()))?;
        Ok(())
    }
}

impl Task for Find {
    fn begin(&mut self, turn: &mut Turn<'_>) {
        // The sheet knows what is worked out for it, and stops that for something newer.
        if let Some(sheet) = turn.entries.get_mut(self.entry).and_then(Entry::sheet_mut) {
            self.stop = sheet.work("finding");
        }
    }

    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let sheet = turn.entries.get_mut(self.entry).and_then(Entry::sheet_mut);
        let Some(sheet) = sheet.filter(|sheet| sheet.works_for(&self.stop)) else {
            return Next::Keep;
        };
        sheet.working = None;
        match (how, self.found) {
            (Err(error), _) => turn.say(
                format!("The rows cannot be searched: {}", error.message),
                Tone::Danger,
            ),
            (Ok(()), Some((row, column))) => turn.request(Request::GoTo(self.entry, row, column)),
            (Ok(()), None) if self.stop.load(Ordering::Relaxed) => {
                turn.say("The search was stopped.", Tone::Plain);
            }
            (Ok(()), None) => turn.say(format!("No shown column holds {}.", self.text), Tone::Care),
        }
        Next::Keep
    }
}
