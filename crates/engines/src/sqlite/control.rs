//! What other threads may touch while a statement runs: cancelling it, and seeing that it waits.

use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use rusqlite::InterruptHandle;

use super::LOCK_LIMIT;
use crate::engine::Control;

/// State shared between a connection's thread and everybody else.
pub(super) struct Shared {
    epoch: Instant,
    /// The ticket that runs; 0 when none does.
    running: AtomicU64,
    /// The last ticket that was cancelled.
    cancelled: AtomicU64,
    /// Milliseconds since `epoch` at which waiting for a lock began; -1 when none is waited for.
    waiting_since: AtomicI64,
    /// Milliseconds since `epoch` at which what runs has to end; -1 for never.
    deadline: AtomicI64,
    /// Set while what is asked is not worth waiting for a lock.
    hurried: AtomicBool,
    interrupt: Mutex<Option<InterruptHandle>>,
}

impl Default for Shared {
    fn default() -> Self {
        Shared {
            epoch: Instant::now(),
            running: AtomicU64::new(0),
            cancelled: AtomicU64::new(0),
            waiting_since: AtomicI64::new(-1),
            deadline: AtomicI64::new(-1),
            hurried: AtomicBool::new(false),
            interrupt: Mutex::new(None),
        }
    }
}

impl Shared {
    fn now(&self) -> i64 {
        self.epoch.elapsed().as_millis() as i64
    }

    pub(super) fn set_interrupt(&self, handle: InterruptHandle) {
        *self
            .interrupt
            .lock()
            .unwrap_or_else(PoisonError::into_inner) = Some(handle);
    }

    pub(super) fn begin(&self, ticket: u64) {
        self.running.store(ticket, Ordering::SeqCst);
    }

    pub(super) fn end(&self) {
        self.running.store(0, Ordering::SeqCst);
        self.waiting_since.store(-1, Ordering::SeqCst);
    }

    /// From now on no lock is waited for, or again.
    pub(super) fn hurry(&self, hurried: bool) {
        self.hurried.store(hurried, Ordering::SeqCst);
    }

    pub(super) fn set_deadline(&self, deadline: Option<Instant>) {
        let at = deadline.map_or(-1, |at| {
            at.saturating_duration_since(self.epoch).as_millis() as i64
        });
        self.deadline.store(at, Ordering::SeqCst);
    }

    /// Asked by the engine every few thousand steps.
    pub(super) fn is_cancelled(&self) -> bool {
        let running = self.running.load(Ordering::Relaxed);
        if running != 0 {
            // Whoever makes progress waits no longer.
            if self.waiting_since.load(Ordering::Relaxed) >= 0 {
                self.waiting_since.store(-1, Ordering::Relaxed);
            }
            if self.cancelled.load(Ordering::Relaxed) == running {
                return true;
            }
        }
        let deadline = self.deadline.load(Ordering::Relaxed);
        deadline >= 0 && self.now() > deadline
    }

    /// Called by the engine when a lock is held by somebody else; answers whether to try again.
    pub(super) fn wait(&self, times: i32) -> bool {
        if self.hurried.load(Ordering::SeqCst) {
            return false;
        }
        let now = self.now();
        if times == 0 || self.waiting_since.load(Ordering::SeqCst) < 0 {
            self.waiting_since.store(now, Ordering::SeqCst);
        }
        let waited = now - self.waiting_since.load(Ordering::SeqCst);
        if waited >= LOCK_LIMIT.as_millis() as i64 || self.is_cancelled_while_waiting() {
            self.waiting_since.store(-1, Ordering::SeqCst);
            return false;
        }
        std::thread::sleep(Duration::from_millis(if times < 5 { 2 } else { 20 }));
        true
    }

    fn is_cancelled_while_waiting(&self) -> bool {
        let running = self.running.load(Ordering::SeqCst);
        running != 0 && self.cancelled.load(Ordering::SeqCst) == running
    }

    /// How long a lock has been waited for.
    pub(super) fn waited(&self) -> Option<Duration> {
        let since = self.waiting_since.load(Ordering::SeqCst);
        (since >= 0).then(|| Duration::from_millis((self.now() - since).max(0) as u64))
    }
}

impl Control for Shared {
    fn cancel(&self, ticket: u64) {
        self.cancelled.store(ticket, Ordering::SeqCst);
        if self.running.load(Ordering::SeqCst) == ticket
            && let Some(handle) = &*self
                .interrupt
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
        {
            handle.interrupt();
        }
    }

    fn waiting(&self) -> Option<(Duration, Duration)> {
        // The first moments are not worth a word.
        self.waited()
            .filter(|waited| *waited > Duration::from_millis(60))
            .map(|waited| (waited, LOCK_LIMIT))
    }
}
