//! A diary that runs again without a screen, and the results compared with those that were recorded.

use std::io;
use std::sync::{Arc, Mutex, PoisonError};

use idle_tide_core::{Column, RowBatch, column_labels};
use idle_tide_desk::Sheet;
use idle_tide_desk::diary::Came;
use idle_tide_desk::sheet::read;
use idle_tide_engines::{Outcome, Sink};

/// Rows of a result that are kept to be compared.
const ROWS: usize = 20_000;

/// Results that are gathered instead of written; nothing is gathered while it is `None`.
pub type Gathered = Arc<Mutex<Option<Vec<Came>>>>;

/// Takes results to be compared.
pub struct Gather {
    all: Gathered,
    came: Came,
    begun: bool,
}

impl Gather {
    /// Takes them into `all`.
    pub fn new(all: Gathered) -> Self {
        Gather {
            all,
            came: Came::default(),
            begun: false,
        }
    }

    fn close(&mut self) {
        if std::mem::take(&mut self.begun) {
            let came = std::mem::take(&mut self.came);
            let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
            all.get_or_insert_default().push(came);
        }
    }
}

fn put(came: &mut Came, batch: &RowBatch) {
    came.count += batch.len() as u64;
    let room = ROWS.saturating_sub(came.rows.len());
    for row in batch.rows().take(room) {
        let values = row.values();
        let text = |value: idle_tide_core::ValueRef<'_>| (!value.is_null()).then(|| value.plain());
        came.rows.push(values.map(text).collect());
    }
}

impl Sink for Gather {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.came.columns = column_labels(&columns);
        self.begun = true;
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        put(&mut self.came, &batch);
        Ok(())
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.came.columns = column_labels(&columns);
        Ok(())
    }

    fn another(&mut self, _: Outcome) -> io::Result<()> {
        self.close();
        self.begun = true;
        Ok(())
    }

    fn end(&mut self) -> io::Result<()> {
        self.close();
        Ok(())
    }
}

/// A result that was kept, to be compared.
pub fn of_sheet(sheet: &Sheet) -> Came {
    let set = read(&sheet.set);
    let mut came = Came {
        columns: sheet.labels.clone(),
        ..Came::default()
    };
    for at in 0..set.batches() {
        // What cannot be read any more is missing, and shows.
        if let Ok((_, batch)) = set.batch(at) {
            put(&mut came, &batch);
        }
    }
    came
}
