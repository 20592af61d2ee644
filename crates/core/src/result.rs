//! A result: its columns and all its rows, in memory up to a budget and after that in a spill file
//! that has no name, so that it is gone when the process is, also after a crash. Any row can be read
//! at any time while more are appended.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
use std::os::unix::fs::FileExt;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use crate::batch::{Paths, RowBatch};
use crate::column::Column;
use crate::limits::Limit;
use crate::value::Value;

/// Memory that several results share.
#[derive(Debug)]
pub struct Budget {
    limit: u64,
    used: AtomicU64,
}

impl Budget {
    /// A budget of `limit` bytes.
    pub fn new(limit: u64) -> Arc<Self> {
        Arc::new(Budget {
            limit,
            used: AtomicU64::new(0),
        })
    }

    /// Bytes in use.
    pub fn used(&self) -> u64 {
        self.used.load(Ordering::Relaxed)
    }

    fn take(&self, bytes: u64) -> bool {
        if self.used.fetch_add(bytes, Ordering::Relaxed) + bytes > self.limit {
            self.give_back(bytes);
            return false;
        }
        true
    }

    fn give_back(&self, bytes: u64) {
        self.used.fetch_sub(bytes, Ordering::Relaxed);
    }
}

#[derive(Debug)]
enum Place {
    Memory(Arc<RowBatch>),
    Disk { offset: u64, length: usize },
}

#[derive(Debug)]
struct Segment {
    first: u64,
    rows: usize,
    place: Place,
}

/// How many batches read back from disk are kept at hand.
const CACHED: usize = 24;

/// Columns and rows. Rows are appended in batches and read by number, counted from 0.
#[derive(Debug)]
pub struct ResultSet {
    columns: Vec<Column>,
    segments: Vec<Segment>,
    rows: u64,
    budget: Arc<Budget>,
    /// The most this result alone may hold in memory, in bytes.
    own_limit: u64,
    in_memory: u64,
    on_disk: u64,
    /// The most it may hold on disk.
    disk_limit: u64,
    spill: Option<File>,
    /// Where the columns are in the rows' documents, if each row is one.
    paths: Option<Arc<Paths>>,
    cache: std::sync::Mutex<VecDeque<(usize, Arc<RowBatch>)>>,
}

impl ResultSet {
    /// An empty result that may hold `own_limit` bytes in memory as far as `budget` allows.
    pub fn new(columns: Vec<Column>, budget: Arc<Budget>, own_limit: u64) -> Self {
        ResultSet {
            columns,
            segments: Vec::new(),
            rows: 0,
            budget,
            own_limit,
            in_memory: 0,
            on_disk: 0,
            disk_limit: Limit::ResultsDisk.value(),
            spill: None,
            paths: None,
            cache: std::sync::Mutex::new(VecDeque::new()),
        }
        .with_paths()
    }

    /// The same with another limit of disk, in bytes.
    #[must_use]
    pub fn with_disk(mut self, limit: u64) -> Self {
        self.disk_limit = limit;
        self
    }

    fn with_paths(mut self) -> Self {
        let paths: Option<Paths> = self.columns.iter().map(|c| c.path.clone()).collect();
        self.paths = paths.filter(|paths| !paths.is_empty()).map(Arc::new);
        self
    }

    /// Takes notice of more columns of documents; those known keep their numbers and may be described anew.
    pub fn set_columns(&mut self, columns: Vec<Column>) {
        self.columns = columns;
        let paths: Option<Paths> = self.columns.iter().map(|c| c.path.clone()).collect();
        self.paths = paths.map(Arc::new);
    }

    /// Where the columns are in the rows' documents; nothing if the rows are none.
    pub fn paths(&self) -> Arc<Paths> {
        self.paths.clone().unwrap_or_default()
    }

    /// Whether the rows are documents.
    pub fn holds_documents(&self) -> bool {
        self.paths.is_some()
    }

    /// A small result made of owned rows, for lists of our own.
    pub fn of_rows(columns: Vec<Column>, rows: Vec<Vec<Value>>) -> Self {
        let mut batch = RowBatch::new();
        for row in &rows {
            batch.push_row(row.iter().map(Value::as_ref));
        }
        let mut result = ResultSet::new(columns, Budget::new(u64::MAX), u64::MAX);
        result.rows = batch.len() as u64;
        if !batch.is_empty() {
            result.segments.push(Segment {
                first: 0,
                rows: batch.len(),
                place: Place::Memory(Arc::new(batch)),
            });
        }
        result
    }

    /// The columns.
    pub fn columns(&self) -> &[Column] {
        &self.columns
    }

    /// Number of rows so far.
    pub fn len(&self) -> u64 {
        self.rows
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.rows == 0
    }

    /// Bytes held in memory.
    pub fn in_memory(&self) -> u64 {
        self.in_memory
    }

    /// Bytes in the spill file.
    pub fn on_disk(&self) -> u64 {
        self.on_disk
    }

    /// Appends a batch.
    ///
    /// # Errors
    /// If the memory budget is used up and the spill file cannot be made or written, or would be larger than it may
    /// be ([`io::ErrorKind::QuotaExceeded`]); what was there before stays.
    pub fn append(&mut self, mut batch: RowBatch) -> io::Result<()> {
        if batch.is_empty() {
            return Ok(());
        }
        batch.shrink();
        if let Some(paths) = &self.paths {
            batch.set_paths(Arc::clone(paths));
        }
        let rows = batch.len();
        let size = batch.size() as u64;
        let fits = self.spill.is_none()
            && self.in_memory + size <= self.own_limit
            && self.budget.take(size);
        let place = if fits {
            self.in_memory += size;
            Place::Memory(Arc::new(batch))
        } else {
            let bytes = batch.to_bytes();
            let offset = self.on_disk;
            if offset + bytes.len() as u64 > self.disk_limit {
                let most = self.disk_limit as f64 / 1e9;
                return Err(io::Error::new(
                    io::ErrorKind::QuotaExceeded,
                    format!("a result may use {most:.1} GB of disk, and this one would use more"),
                ));
            }
            let file = match &mut self.spill {
                Some(file) => file,
                none => none.insert(tempfile::tempfile()?),
            };
            file.seek(SeekFrom::Start(offset))?;
            file.write_all(&bytes)?;
            self.on_disk += bytes.len() as u64;
            Place::Disk {
                offset,
                length: bytes.len(),
            }
        };
        self.segments.push(Segment {
            first: self.rows,
            rows,
            place,
        });
        self.rows += rows as u64;
        Ok(())
    }

    /// The batch that holds row `index`, and the row's number within it.
    ///
    /// # Errors
    /// If there is no such row, or the spill file cannot be read.
    pub fn locate(&self, index: u64) -> io::Result<(Arc<RowBatch>, usize)> {
        if index >= self.rows {
            return Err(io::Error::new(
                io::ErrorKind::InvalidInput,
                format!("there is no row {} in {} rows", index + 1, self.rows),
            ));
        }
        let at = self.segments.partition_point(|s| s.first <= index) - 1;
        let within = (index - self.segments[at].first) as usize;
        Ok((self.segment(at, true)?, within))
    }

    fn segment(&self, at: usize, keep: bool) -> io::Result<Arc<RowBatch>> {
        let (offset, length) = match &self.segments[at].place {
            Place::Memory(batch) => return Ok(Arc::clone(batch)),
            Place::Disk { offset, length } => (*offset, *length),
        };
        let mut cache = self
            .cache
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some((_, batch)) = cache.iter().find(|(number, _)| *number == at) {
            return Ok(Arc::clone(batch));
        }
        let mut bytes = vec![0; length];
        let file = self.spill.as_ref().ok_or(io::ErrorKind::NotFound)?;
        file.read_exact_at(&mut bytes, offset)?;
        let mut batch = RowBatch::from_bytes(&bytes)
            .filter(|batch| batch.len() == self.segments[at].rows)
            .ok_or_else(|| {
                io::Error::new(
                    io::ErrorKind::InvalidData,
                    "the spill file of this result was damaged",
                )
            })?;
        if let Some(paths) = &self.paths {
            batch.set_paths(Arc::clone(paths));
        }
        let batch = Arc::new(batch);
        if keep {
            cache.push_front((at, Arc::clone(&batch)));
            cache.truncate(CACHED);
        }
        Ok(batch)
    }

    /// How many batches there are; each is read by [`ResultSet::batch`].
    pub fn batches(&self) -> usize {
        self.segments.len()
    }

    /// Batch `at` (counted from 0) and the number of its first row. What is read from disk is not kept.
    ///
    /// # Errors
    /// If the spill file cannot be read.
    pub fn batch(&self, at: usize) -> io::Result<(u64, Arc<RowBatch>)> {
        Ok((self.segments[at].first, self.segment(at, false)?))
    }

    /// The value at a row and a column, copied.
    ///
    /// # Errors
    /// As [`ResultSet::locate`].
    pub fn value(&self, row: u64, column: usize) -> io::Result<Value> {
        let (batch, within) = self.locate(row)?;
        Ok(batch.row(within).get(column).to_owned())
    }
}

impl Drop for ResultSet {
    fn drop(&mut self) {
        self.budget.give_back(self.in_memory);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::ValueRef;

    fn batch(from: i64, to: i64) -> RowBatch {
        let mut batch = RowBatch::new();
        for number in from..to {
            batch.push_row([ValueRef::Integer(number), ValueRef::Text("tide")]);
        }
        batch
    }

    #[test]
    fn rows_past_the_budget_go_to_disk_and_come_back() {
        let budget = Budget::new(40_000);
        let mut result = ResultSet::new(vec![Column::named("n")], Arc::clone(&budget), 20_000);
        for start in (0..10_000).step_by(100) {
            result.append(batch(start, start + 100)).expect("append");
        }
        assert_eq!(result.len(), 10_000);
        assert!(result.on_disk() > 100_000 && result.in_memory() <= 20_000);
        for row in [0, 99, 100, 5_050, 9_999, 3] {
            assert_eq!(
                result.value(row, 0).expect("row"),
                Value::Integer(row as i64)
            );
        }
        assert!(result.locate(10_000).is_err());
        drop(result);
        assert_eq!(budget.used(), 0, "memory is given back");
    }

    #[test]
    fn a_result_that_would_fill_the_disk_is_stopped_and_keeps_what_it_has() {
        let result = ResultSet::new(vec![Column::named("n")], Budget::new(0), 0);
        let mut result = result.with_disk(20_000);
        let failed = (0..100).map(|n| result.append(batch(n * 100, n * 100 + 100)));
        let failed = failed.filter_map(Result::err).next().expect("too much");
        assert_eq!(failed.kind(), io::ErrorKind::QuotaExceeded);
        assert!(result.on_disk() <= 20_000 && result.len() >= 100);
        assert_eq!(result.value(99, 0).expect("row"), Value::Integer(99));
    }
}
