//! How far long work is, in words, said now and then.

use std::cell::Cell;
use std::time::{Duration, Instant};

use idle_tide_draw::picture::{grouped, lasting};

/// How often it is said, and how long work goes on before it is said at all.
const EVERY: Duration = Duration::from_millis(400);

/// The pace of work that counts rows.
pub struct Pace {
    /// What is done with the rows, as a participle.
    done: &'static str,
    started: Instant,
    said: Cell<Instant>,
}

impl Pace {
    /// Begins now; `done` says what is done with the rows: `written`.
    pub fn new(done: &'static str) -> Self {
        let now = Instant::now();
        Pace {
            done,
            started: now,
            said: Cell::new(now),
        }
    }

    /// What is to be said of so many rows of all, if it is time to say something: the time left only where all are known.
    pub fn words(&self, rows: u64, all: Option<u64>) -> Option<String> {
        let now = Instant::now();
        if now - self.said.get() < EVERY {
            return None;
        }
        self.said.set(now);
        Some(self.at(rows, all, now - self.started))
    }

    fn at(&self, rows: u64, all: Option<u64>, took: Duration) -> String {
        let done = self.done;
        let rate = rows as f64 / took.as_secs_f64().max(0.001);
        match all.filter(|all| *all >= rows && rows > 0) {
            Some(all) => {
                let left = Duration::from_secs_f64((all - rows) as f64 / rate);
                let share = rows * 100 / all.max(1);
                format!(
                    "{} of {} rows {done}, {share} %, about {} left",
                    grouped(rows),
                    grouped(all),
                    lasting(left)
                )
            }
            None => format!(
                "{} rows {done}, {} a second",
                grouped(rows),
                grouped(rate as u64)
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_time_left_is_said_only_where_the_end_is_known() {
        let pace = Pace::new("written");
        let words = pace.at(250_000, Some(1_000_000), Duration::from_secs(1));
        assert!(
            words.starts_with("250 000 of 1 000 000 rows written, 25 %, about 3"),
            "{words}"
        );
        let words = pace.at(2_000, None, Duration::from_secs(2));
        assert_eq!(words, "2 000 rows written, 1 000 a second");
        assert_eq!(pace.words(1, None), None);
    }
}
