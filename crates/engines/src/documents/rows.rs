//! Documents on their way to a sink: gathered into batches whose columns are the paths of the documents.

use std::sync::Arc;
use std::time::Instant;

use idle_tide_core::batch::Paths;
use idle_tide_core::document::paths::Finder;
use idle_tide_core::document::{Document, bson};
use idle_tide_core::{Column, RowBatch};

use crate::engine::{EngineError, Sink};
use crate::gather::HAND_OVER;

/// A batch is handed over at this many bytes.
const BATCH_BYTES: usize = 256 * 1024;

/// Gathers documents and hands them over in time.
pub(super) struct Documents<'a> {
    sink: &'a mut dyn Sink,
    batch: RowBatch,
    finder: Finder,
    paths: Arc<Paths>,
    began: bool,
    last: Instant,
    until_look: u32,
    room: Vec<u8>,
    count: u64,
}

impl<'a> Documents<'a> {
    pub(super) fn new(sink: &'a mut dyn Sink) -> Self {
        Documents {
            sink,
            batch: RowBatch::new(),
            finder: Finder::default(),
            paths: Arc::default(),
            began: false,
            last: Instant::now(),
            until_look: 1,
            room: Vec::new(),
            count: 0,
        }
    }

    /// Takes a document.
    pub(super) fn take(&mut self, document: &Document) -> Result<(), EngineError> {
        let mut room = std::mem::take(&mut self.room);
        room.clear();
        bson::write(document, &mut room);
        let done = self.take_bytes(&room);
        self.room = room;
        done
    }

    /// Takes a document as its bytes.
    pub(super) fn take_bytes(&mut self, document: &[u8]) -> Result<(), EngineError> {
        self.finder.meet(document);
        self.batch.push_document(document);
        self.count += 1;
        let mut full = self.batch.encoded() >= BATCH_BYTES;
        self.until_look -= 1;
        if self.until_look == 0 {
            self.until_look = 64;
            full |= self.last.elapsed() >= HAND_OVER;
        }
        if full { self.hand_over() } else { Ok(()) }
    }

    fn columns(&self) -> Vec<Column> {
        self.finder.columns()
    }

    /// Hands over what there is.
    pub(super) fn hand_over(&mut self) -> Result<(), EngineError> {
        self.last = Instant::now();
        let failed = |error: std::io::Error| EngineError::of_sink(&error);
        let new = self.finder.settle();
        if !self.began {
            self.began = true;
            self.sink.columns(self.columns()).map_err(failed)?;
        } else if new {
            self.sink.more_columns(self.columns()).map_err(failed)?;
        }
        if new {
            self.paths = Arc::new(self.columns().into_iter().filter_map(|c| c.path).collect());
        }
        if self.batch.is_empty() {
            return Ok(());
        }
        let mut full = std::mem::take(&mut self.batch);
        full.set_paths(Arc::clone(&self.paths));
        self.sink.rows(full).map_err(failed)
    }

    /// Hands over the rest and what is known of the columns now; says what the columns leave out.
    pub(super) fn end(mut self) -> Result<Option<String>, EngineError> {
        self.hand_over()?;
        self.sink
            .more_columns(self.columns())
            .map_err(|error| EngineError::of_sink(&error))?;
        Ok(self.finder.left_out().then(|| {
            format!("The documents have more than {} paths; those beyond are no columns, but in the documents (/outline, /text).", idle_tide_core::document::paths::MOST)
        }))
    }
}
