//! What a row tried, and what came of it.

use std::time::Duration;

/// The count of a row.
#[derive(Debug, Default)]
pub struct Tally {
    /// How many things were tried.
    pub tried: u64,
    /// What broke: what was tried, and what was seen.
    pub broken: Vec<String>,
    /// What was not tried here, and why.
    pub left_out: Vec<String>,
    /// Figures worth telling.
    pub figures: Vec<String>,
    /// The most memory that the program took, in MB.
    pub peak: u64,
    /// How long all of it took.
    pub took: Duration,
}

impl Tally {
    /// A row that was not tried at all.
    pub fn not_tried(why: &str) -> Self {
        Self {
            left_out: vec![why.to_string()],
            ..Self::default()
        }
    }

    /// Counts something that was tried; an error says what was seen.
    pub fn count(&mut self, what: impl AsRef<str>, came: Result<(), String>) {
        self.tried += 1;
        if let Err(seen) = came {
            let line = format!("{}: {}", what.as_ref(), seen);
            eprintln!("    broken: {}", line.replace('\n', "\n      "));
            self.broken.push(line);
        }
    }

    /// Takes in what a part of a row came to.
    pub fn add(&mut self, part: Tally) {
        self.tried += part.tried;
        self.broken.extend(part.broken);
        self.left_out.extend(part.left_out);
        self.figures.push(part.figures.join(", "));
        self.peak = self.peak.max(part.peak);
    }

    /// How many held.
    pub fn held(&self) -> u64 {
        self.tried - self.broken.len() as u64
    }

    /// The row of the table in docs/promises.md.
    pub fn line(&self, name: &str, promise: &str, day: &str) -> String {
        let mut remarks = self.figures.clone();
        remarks.extend(
            self.left_out
                .iter()
                .map(|what| format!("not tried: {what}")),
        );
        let remarks = remarks.join("; ").replace('|', "\\|");
        format!(
            "| {name} | {promise} | {day} | {} | {} | {} | {} s | {} | {remarks} |",
            self.tried,
            self.held(),
            self.broken.len(),
            self.took.as_secs(),
            if self.peak == 0 {
                String::new()
            } else {
                format!("{} MB", self.peak)
            },
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_that_broke_is_counted_as_held() {
        let mut tally = Tally::default();
        tally.count("a", Ok(()));
        tally.count("b", Err("gone".into()));
        tally.left_out.push("c | d".into());
        assert_eq!((tally.tried, tally.held()), (2, 1));
        let line = tally.line("one", "promise", "2031-03-01");
        assert_eq!(
            line,
            "| one | promise | 2031-03-01 | 2 | 1 | 1 | 0 s |  | not tried: c \\| d |"
        );
    }
}
