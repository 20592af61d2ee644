//! The tasks that draw a result: its numbers are gathered, gathered anew once its rows are others, and the rows behind a mark are
//! found. What arguments ask for is drawn of a result that no entry has, too.

use std::sync::Arc;

use idle_tide_core::catalog::Catalog;
use idle_tide_core::chart::{Data, Key, Kind, gather, rows_of};
use idle_tide_core::result::ResultSet;
use idle_tide_draw::chart::Scene;
use idle_tide_engines::{EngineError, Fault};
use idle_tide_lang::Dialect;
use idle_tide_lang::command::Parsed;

use crate::chart::{Chart, Stamp, choose};
use crate::entry::{Content, Entry, State};
use crate::failure::{Failure, plain};
use crate::page::Tone;
use crate::session::{Next, Task, Turn};
use crate::sheet::{Sheet, read};
use crate::task::{Bench, EntryId, Lane, Work, stopped};

/// Where the rows of a picture come from, so that it knows what its columns are in.
#[derive(Debug, Clone)]
pub struct Told {
    /// The statement that gave the rows.
    pub statement: String,
    /// What is known of its tables.
    pub catalog: Arc<Catalog>,
    /// Whose statement it is.
    pub dialect: &'static Dialect,
}

/// The picture that the arguments of `/chart` ask for, of a result that no entry has; in so many columns and rows of cells.
///
/// # Errors
/// In words, if it cannot be made.
pub fn as_asked(
    set: &ResultSet,
    told: &Told,
    asked: &str,
    size: (usize, usize),
) -> Result<Scene, String> {
    let parsed = parsed(asked)?;
    let spec = idle_tide_core::chart::propose(set, parsed.argument(0).and_then(Kind::named))?;
    let mut chart = Chart::of(0, set, spec);
    chart.take_units(set.columns(), &told.statement, &told.catalog, told.dialect);
    choose(&mut chart, &parsed).map_err(|failure| failure.headline)?;
    let data = gather(set, None, &chart.spec, &|| false).map_err(|error| error.to_string())?;
    chart.take_first(data);
    chart
        .scene(size.0, size.1)
        .ok_or_else(|| "There is nothing to draw.".into())
}

/// Whether the arguments of `/chart` are understood.
///
/// # Errors
/// In words, if they are not.
pub fn check_asked(asked: &str) -> Result<(), String> {
    parsed(asked).map(drop)
}

fn parsed(asked: &str) -> Result<Parsed, String> {
    idle_tide_lang::command::parse(&format!("/chart {asked}")).map_err(|error| error.message)
}

/// A picture shows no column whose values are covered.
pub(crate) fn refuse_covered(chart: &Chart, sheet: &Sheet) -> Result<(), Failure> {
    match chart.covered(sheet) {
        Some(name) => Err(plain(format!(
            "{name} is covered, because it looks like a secret. /reveal shows it, and then it can be drawn."
        ))),
        None => Ok(()),
    }
}

/// The picture of an entry and the rows that it draws.
pub(crate) fn drawn<'a>(turn: &'a Turn<'_>, number: u32) -> Option<(&'a Entry, &'a Sheet)> {
    let entry = turn.entries.get(number)?;
    let Content::Chart(chart) = &entry.content else {
        return None;
    };
    Some((entry, turn.entries.get(chart.of)?.sheet()?))
}

/// What gathers its numbers, if they are no longer those of its result.
pub(crate) fn renewal(chart: &mut Chart, number: EntryId, sheet: &Sheet) -> Option<Gather> {
    let stamp = Stamp::of(sheet, &chart.spec);
    if chart.working || chart.stamp.as_ref() == Some(&stamp) {
        return None;
    }
    chart.working = true;
    Some(Gather {
        entry: number,
        sheet: sheet.clone(),
        stamp,
        data: None,
    })
}

/// Makes a picture: it is shown once its numbers are there.
pub(crate) struct First {
    chart: Chart,
    gather: Gather,
}

impl First {
    pub(crate) fn new(mut chart: Chart, sheet: &Sheet) -> Self {
        // The entry has no number yet.
        let gather = Gather {
            entry: 0,
            stamp: Stamp::of(sheet, &chart.spec),
            sheet: sheet.clone(),
            data: None,
        };
        chart.stamp = Some(gather.stamp.clone());
        chart.working = false;
        First { chart, gather }
    }
}

impl Work for First {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        self.gather.work(at)
    }
}

impl Task for First {
    fn ended(self: Box<Self>, _: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let First { mut chart, gather } = *self;
        match how {
            Ok(()) => {
                if let Some(data) = gather.data {
                    chart.take_first(data);
                    // The numbers are those of the other scale, too.
                    chart.stamp = Some(gather.stamp.with(&chart.spec));
                }
                Next::Done(Content::Chart(Box::new(chart)))
            }
            Err(error) if error.fault == Fault::Cancelled => Next::NotRun,
            Err(error) => Next::refuse(error.message),
        }
    }
}

/// Gathers the numbers of a picture.
pub(crate) struct Gather {
    entry: EntryId,
    sheet: Sheet,
    stamp: Stamp,
    data: Option<Data>,
}

impl Work for Gather {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let set = read(&self.sheet.set);
        let rows = self.sheet.view.rows.as_ref().map(|rows| rows.as_slice());
        let gathered = gather(&set, rows, &self.stamp.spec, &|| at.stopped());
        self.data = Some(gathered.map_err(|error| match error.kind() {
            std::io::ErrorKind::Interrupted => stopped(),
            _ => EngineError::plain(error.to_string()),
        })?);
        Ok(())
    }
}

impl Task for Gather {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let entry = turn.entries.get_mut(self.entry);
        let Some(Content::Chart(chart)) = entry.map(|entry| &mut entry.content) else {
            return Next::Keep;
        };
        chart.working = false;
        chart.stamp = Some(self.stamp);
        match (how, self.data) {
            (Ok(()), Some(data)) => chart.data = Some(Arc::new(data)),
            (Err(error), _) if error.fault != Fault::Cancelled => {
                let words = format!("The picture could not be made: {}", error.message);
                turn.say(words, Tone::Danger);
            }
            _ => {}
        }
        Next::Keep
    }
}

/// Finds the rows behind a mark, and shows them as an entry.
pub(crate) struct Behind {
    chart: EntryId,
    of: EntryId,
    sheet: Sheet,
    data: Arc<Data>,
    mark: (usize, usize, Key),
    words: String,
    rows: Vec<u32>,
}

impl Behind {
    /// The rows behind a mark of an entry's picture; `words` say which mark it is.
    pub(crate) fn new(
        entry: &Entry,
        sheet: &Sheet,
        mark: (usize, usize, Key),
        words: &str,
    ) -> Option<Self> {
        let Content::Chart(chart) = &entry.content else {
            return None;
        };
        Some(Behind {
            chart: entry.number,
            of: chart.of,
            sheet: sheet.clone(),
            data: Arc::clone(chart.data.as_ref()?),
            mark,
            words: words.to_string(),
            rows: Vec::new(),
        })
    }
}

impl Work for Behind {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let set = read(&self.sheet.set);
        let rows = self.sheet.view.rows.as_ref().map(|rows| rows.as_slice());
        let (panel, series, key) = self.mark;
        let found = rows_of(&set, rows, &self.data, panel, series, key, &|| at.stopped());
        self.rows = found.map_err(|error| EngineError::plain(error.to_string()))?;
        Ok(())
    }
}

impl Task for Behind {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        if let Err(error) = how {
            turn.say(error.message, Tone::Danger);
            return Next::Keep;
        }
        let text = format!("rows of entry {} behind {}", self.of, self.words);
        turn.make_entry(&text, false);
        if let Some(own) = turn.own() {
            let mut sheet = self.sheet;
            sheet.view.rows = Some(Arc::new(self.rows));
            own.came_from = Some(self.chart);
            own.content = Content::Rows(sheet);
            own.state = State::Done;
        }
        Next::Keep
    }
}
