//! A result as it is read: the rows that arrive, which columns are shown in which order, and the rows put
//! in order or chosen. Long work runs in a thread of its own and can be superseded.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use idle_tide_core::order::{choose_rows, order_rows};
use idle_tide_core::result::ResultSet;
use idle_tide_core::{Column, ValueRef, column_labels};
use parking_lot::{RwLock, RwLockReadGuard};

use crate::covering::{Covering, is_secret};
use crate::filter::Filter;

/// What is said of a result whose rows were given up.
pub(crate) const GIVEN_UP: &str =
    "This result gave up its rows to keep within the disk budget. /again runs it once more.";

/// What the reader asked to see.
#[derive(Debug, Clone, Default)]
pub struct View {
    /// Columns shown, by number, in order.
    pub columns: Vec<usize>,
    /// Whether the first shown column stays while the others scroll.
    pub frozen: bool,
    /// The column that orders the rows, and whether downwards.
    pub order: Option<(usize, bool)>,
    /// The condition that rows satisfy.
    pub filter: Option<String>,
    /// The rows that are shown, in order; all as they came when `None`.
    pub rows: Option<Arc<Vec<u32>>>,
}

/// A result and its view.
#[derive(Debug, Clone)]
pub struct Sheet {
    /// The rows; they may still be arriving.
    pub set: Arc<RwLock<ResultSet>>,
    /// The view.
    pub view: View,
    /// Names that tell all columns apart.
    pub labels: Vec<String>,
    /// What is being worked out, if anything.
    pub working: Option<&'static str>,
    /// Which names are covered.
    pub covering: Covering,
    /// Whether what is covered is shown all the same.
    pub revealed: bool,
    /// The columns that are covered by their names.
    covered: Vec<bool>,
    /// Pairs of columns: a value before, and the same after.
    pub pairs: Vec<(usize, usize)>,
    /// Whether its rows were given up to keep within the disk budget.
    pub given_up: bool,
    stop: Arc<AtomicBool>,
}

/// Reads a result. One thread may hold several of these at once: a writer that waits does not come
/// between them.
pub fn read(set: &RwLock<ResultSet>) -> RwLockReadGuard<'_, ResultSet> {
    set.read_recursive()
}

impl Sheet {
    /// A sheet over a result.
    pub fn new(set: Arc<RwLock<ResultSet>>) -> Self {
        let mut sheet = Sheet {
            set,
            view: View::default(),
            labels: Vec::new(),
            working: None,
            covering: Covering::default(),
            revealed: false,
            covered: Vec::new(),
            pairs: Vec::new(),
            given_up: false,
            stop: Arc::default(),
        };
        sheet.meet_columns();
        sheet
    }

    /// Takes notice of the columns once they are known.
    pub fn meet_columns(&mut self) {
        let labels = column_labels(read(&self.set).columns());
        if labels.len() > self.labels.len()
            && !self.labels.is_empty()
            && labels.starts_with(&self.labels)
        {
            // More columns of documents: those shown stay as they are.
            self.view.columns.extend(self.labels.len()..labels.len());
            self.labels = labels;
        } else if labels.len() != self.labels.len() {
            self.view.columns = (0..labels.len()).collect();
            self.labels = labels;
        }
        if self.covered.len() != self.labels.len() {
            self.cover();
        }
    }

    /// The same sheet with other names covered.
    pub fn covered_by(mut self, covering: Covering) -> Self {
        self.covering = covering;
        self.cover();
        self
    }

    fn cover(&mut self) {
        let set = read(&self.set);
        let of = |column: &Column| {
            let origin = column.origin.as_ref().map(|(_, name)| name.as_str());
            self.covering.covers(&column.name) || origin.is_some_and(|o| self.covering.covers(o))
        };
        self.covered = set.columns().iter().map(of).collect();
    }

    /// The columns that are covered by their names, as long as they are not revealed.
    pub fn covered_columns(&self) -> Vec<usize> {
        let all = 0..self.covered.len();
        all.filter(|column| !self.revealed && self.covered[*column])
            .collect()
    }

    /// Whether a value of a column is covered.
    pub fn covers(&self, column: usize, value: ValueRef<'_>) -> bool {
        let named = self.covered.get(column).copied().unwrap_or(false);
        !self.revealed && !value.is_null() && (named || is_secret(value))
    }

    /// Number of rows that are shown.
    pub fn shown(&self) -> u64 {
        match &self.view.rows {
            Some(rows) => rows.len() as u64,
            None => read(&self.set).len(),
        }
    }

    /// The same with its first rows only, as they are shown.
    pub fn first(&self, most: u64) -> Sheet {
        let mut first = self.clone();
        if self.shown() > most {
            let numbers = (0..most).filter_map(|at| self.row_number(at));
            let numbers = numbers.filter_map(|number| u32::try_from(number).ok());
            first.view.rows = Some(Arc::new(numbers.collect()));
        }
        first
    }

    /// The number in the result of the row shown at place `at`.
    pub fn row_number(&self, at: u64) -> Option<u64> {
        match &self.view.rows {
            Some(rows) => rows
                .get(usize::try_from(at).ok()?)
                .map(|row| u64::from(*row)),
            None => (at < read(&self.set).len()).then_some(at),
        }
    }

    /// The column of this label or name, without regard to ASCII case.
    pub fn column(&self, name: &str) -> Option<usize> {
        let by = |f: &dyn Fn(usize) -> bool| (0..self.labels.len()).find(|at| f(*at));
        by(&|at| self.labels[at] == name)
            .or_else(|| by(&|at| self.labels[at].eq_ignore_ascii_case(name)))
            .or_else(|| {
                let set = read(&self.set);
                by(&|at| set.columns()[at].name.eq_ignore_ascii_case(name))
            })
    }

    /// Something is worked out for it from now on, in the place of what was; answers what stops it.
    pub(crate) fn work(&mut self, doing: &'static str) -> Arc<AtomicBool> {
        self.stop.store(true, Ordering::Relaxed);
        self.stop = Arc::default();
        self.working = Some(doing);
        Arc::clone(&self.stop)
    }

    /// Whether what is worked out is what this stops.
    pub(crate) fn works_for(&self, stop: &Arc<AtomicBool>) -> bool {
        Arc::ptr_eq(&self.stop, stop)
    }

    /// Stops what is worked out for it; false if nothing is.
    pub fn stop_working(&self) -> bool {
        if self.working.is_some() {
            self.stop.store(true, Ordering::Relaxed);
        }
        self.working.is_some()
    }
}

/// Milliseconds since 1970.
pub(crate) fn now() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    i64::try_from(since.unwrap_or_default().as_millis()).unwrap_or(i64::MAX)
}

/// The rows that satisfy `filter`, in `order`; all as they came when `None`.
///
/// # Errors
/// In words, if the condition cannot be worked out for a row, or rows cannot be read.
pub(crate) fn arranged(
    set: &ResultSet,
    order: Option<(usize, bool)>,
    filter: Option<&str>,
    stop: &dyn Fn() -> bool,
) -> Result<Option<Vec<u32>>, String> {
    let mut rows = None;
    if let Some(text) = filter {
        let bound = Filter::new(text, set.columns(), now()).map_err(|error| error.message)?;
        let mut failed = None;
        let chosen = choose_rows(set, None, stop, &mut |row| match bound.holds(row) {
            Ok(holds) => holds,
            Err(error) => {
                failed.get_or_insert(error.message);
                false
            }
        });
        if let Some(message) = failed {
            return Err(message);
        }
        rows = Some(chosen.map_err(|error| error.to_string())?);
    }
    if let Some((column, descending)) = order {
        let ordered = order_rows(set, column, descending, rows.as_deref(), stop);
        rows = Some(ordered.map_err(|error| error.to_string())?);
    }
    Ok(rows)
}

/// The first row from place `from` on (going round once, backwards if `back`) that holds `text` in a
/// shown column, without regard to case; its place and its column. Nothing once it is `stopped`.
///
/// # Errors
/// If rows cannot be read.
pub(crate) fn find(
    sheet: &Sheet,
    text: &str,
    from: (u64, usize),
    back: bool,
    stopped: &dyn Fn() -> bool,
) -> std::io::Result<Option<(u64, usize)>> {
    let needle = text.to_lowercase();
    let shown = sheet.shown();
    let width = sheet.view.columns.len();
    if shown == 0 || width == 0 || needle.is_empty() {
        return Ok(None);
    }
    let set = read(&sheet.set);
    for step in 0..=shown {
        if step % 256 == 0 && stopped() {
            return Ok(None);
        }
        let place = if back {
            (from.0 + shown - step % shown) % shown
        } else {
            (from.0 + step) % shown
        };
        let Some(number) = sheet.row_number(place) else {
            continue;
        };
        let (batch, within) = set.locate(number)?;
        let row = batch.row(within);
        let mut hit = None;
        for (at, column) in sheet.view.columns.iter().enumerate() {
            // In the first row look past the current cell, and before it when coming round.
            let past = if back { at < from.1 } else { at > from.1 };
            if (step == 0 && !past) || (step == shown && past) {
                continue;
            }
            let value = row.get(*column);
            if !value.is_null() && value.plain().to_lowercase().contains(&needle) {
                hit = Some((place, at));
                if !back {
                    break;
                }
            }
        }
        if hit.is_some() {
            return Ok(hit);
        }
    }
    Ok(None)
}
