//! Narrowing a list of names by what was typed: names that hold the letters in their order, the closest first.

use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

/// Judges names by what was typed.
pub struct Narrow {
    pattern: Pattern,
    typed: String,
    matcher: Matcher,
    buffer: Vec<char>,
}

impl Narrow {
    /// By this text.
    pub fn by(typed: &str) -> Self {
        Narrow {
            pattern: Pattern::new(
                typed,
                CaseMatching::Ignore,
                Normalization::Smart,
                AtomKind::Fuzzy,
            ),
            typed: typed.to_lowercase(),
            matcher: Matcher::new(Config::DEFAULT),
            buffer: Vec::new(),
        }
    }

    /// How far a name is from it, less for a better fit; `None` if it does not fit at all.
    pub fn distance(&mut self, name: &str) -> Option<u32> {
        if self.typed.is_empty() {
            return Some(0);
        }
        let score = self
            .pattern
            .score(Utf32Str::new(name, &mut self.buffer), &mut self.matcher)?;
        let head = name.get(..self.typed.len());
        let starts = head.is_some_and(|head| head.eq_ignore_ascii_case(&self.typed));
        // What begins with it comes first, shorter names before longer ones.
        Some(if starts {
            name.len().min(1_000) as u32
        } else {
            100_000 - score.min(90_000)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn closer_names_come_first() {
        let mut narrow = Narrow::by("vis");
        let mut names = ["visit_services", "visits", "invisible", "dues"];
        names.sort_by_key(|name| narrow.distance(name).unwrap_or(u32::MAX));
        assert_eq!(names, ["visits", "visit_services", "invisible", "dues"]);
        assert_eq!(narrow.distance("dues"), None);
        assert_eq!(Narrow::by("").distance("anything"), Some(0));
    }
}
