//! Rows on their way to a sink: gathered into batches, and handed over when there are enough of them or it
//! is time, so that a slow statement shows what it has.

use std::time::{Duration, Instant};

use idle_tide_core::RowBatch;

use crate::engine::{EngineError, Sink};

/// A batch is handed over at this many bytes.
const BATCH_BYTES: usize = 256 * 1024;
/// A slow statement hands over what it has after this long.
pub(crate) const HAND_OVER: Duration = Duration::from_millis(50);

/// Gathers rows and hands them over in time.
pub(crate) struct Gather<'a> {
    sink: &'a mut dyn Sink,
    pub(crate) batch: RowBatch,
    last: Instant,
    until_look: u32,
    stride: u32,
}

impl<'a> Gather<'a> {
    pub(crate) fn new(sink: &'a mut dyn Sink) -> Self {
        Gather {
            sink,
            batch: RowBatch::with_capacity(4_096, 64),
            last: Instant::now(),
            until_look: 1,
            stride: 1,
        }
    }

    /// The sink, after what was gathered went to it.
    pub(crate) fn sink(&mut self) -> Result<&mut dyn Sink, EngineError> {
        self.hand_over()?;
        Ok(self.sink)
    }

    /// Ends a row; hands over when there is enough or it is time.
    #[inline(always)]
    pub(crate) fn end_row(&mut self) -> Result<(), EngineError> {
        self.batch.end_row();
        let mut full = self.batch.encoded() >= BATCH_BYTES;
        // Looking at the clock costs more than a fast row: look less often while rows come fast.
        self.until_look -= 1;
        if self.until_look == 0 {
            let elapsed = self.last.elapsed();
            full |= elapsed >= HAND_OVER;
            self.stride = if elapsed >= HAND_OVER / 2 {
                1
            } else {
                (self.stride * 2).min(128)
            };
            self.until_look = self.stride;
        }
        if full { self.hand_over() } else { Ok(()) }
    }

    /// Hands over what there is.
    #[inline(never)]
    pub(crate) fn hand_over(&mut self) -> Result<(), EngineError> {
        self.last = Instant::now();
        if self.batch.is_empty() {
            return Ok(());
        }
        let room = self.batch.encoded().min(BATCH_BYTES);
        let rows = self.batch.len();
        let next = RowBatch::with_capacity(room + room / 8, rows + rows / 8);
        let full = std::mem::replace(&mut self.batch, next);
        self.sink
            .rows(full)
            .map_err(|error| EngineError::of_sink(&error))
    }

    /// Whether rows wait to be handed over.
    pub(crate) fn holds_rows(&self) -> bool {
        !self.batch.is_empty()
    }
}
