//! The figures of a column: counts, extremes, sum, mean, the commonest values and its spread, gathered in
//! one pass in bounded memory. It says when a figure is a lower bound because memory was bounded.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use crate::decimal;
use crate::document::bson;
use crate::round::{interval_of, intervals};
use crate::value::{Value, ValueRef};

/// A number of ours with its digits grouped in threes by thin gaps, as in `1 284 000`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(digit);
    }
    out
}

/// Different values counted exactly up to this many; past it [`Figures::different`] is a lower bound.
const DIFFERENT_LIMIT: usize = 200_000;
/// Values whose text is kept for the list of commonest ones.
const NAMED_LIMIT: usize = 10_000;
/// Numbers kept for the picture of the spread.
const SAMPLE: usize = 4_096;
/// Text of at most this many bytes takes part in the list of commonest values.
const NAMED_BYTES: usize = 200;

/// Running figures of one column.
#[derive(Debug, Clone, Default)]
pub struct Figures {
    /// Values seen, nulls among them.
    pub rows: u64,
    /// Nulls among them.
    pub nulls: u64,
    /// Integers and floats among them.
    pub numbers: u64,
    /// Texts among them.
    pub texts: u64,
    /// Byte values among them.
    pub bytes: u64,
    /// Smallest value that is not null, in the order of [`ValueRef::order`].
    pub least: Option<Value>,
    /// Largest value that is not null.
    pub most: Option<Value>,
    /// Sum of the integers, exact.
    integer_sum: i128,
    /// Sum of the floats, compensated (Neumaier 1974).
    float_sum: f64,
    float_compensation: f64,
    floats: u64,
    /// Sum of the exact decimal numbers.
    exact: decimal::Sum,
    exact_float: f64,
    exacts: u64,
    /// Shortest text, in characters.
    pub shortest: Option<usize>,
    /// Longest text, in characters.
    pub longest: Option<usize>,
    seen: HashMap<u64, u64>,
    full: bool,
    named: HashMap<u64, Value>,
    sample: Vec<f64>,
    sample_state: u64,
}

fn hash(value: ValueRef<'_>) -> u64 {
    let mut hasher = DefaultHasher::new();
    match value {
        ValueRef::Null | ValueRef::Missing => 0_u8.hash(&mut hasher),
        ValueRef::Bson(tag, bytes) => (7_u8, tag, bytes).hash(&mut hasher),
        ValueRef::Boolean(b) => (1_u8, b).hash(&mut hasher),
        ValueRef::Integer(i) => (2_u8, (i as f64).to_bits(), i).hash(&mut hasher),
        ValueRef::Float(f) if f.fract() == 0.0 && f.abs() < 9e15 => {
            (2_u8, (f + 0.0).to_bits(), f as i64).hash(&mut hasher);
        }
        ValueRef::Float(f) => (3_u8, f.to_bits()).hash(&mut hasher),
        ValueRef::Number(n) => match decimal::shortest(n).parse::<i64>() {
            Ok(i) => return hash(ValueRef::Integer(i)),
            Err(_) => (6_u8, decimal::shortest(n)).hash(&mut hasher),
        },
        ValueRef::Text(t) => (4_u8, t.as_bytes()).hash(&mut hasher),
        ValueRef::RawText(b) => (4_u8, b).hash(&mut hasher),
        ValueRef::Bytes(b) => (5_u8, b).hash(&mut hasher),
    }
    hasher.finish()
}

impl Figures {
    /// Adds one value.
    pub fn add(&mut self, value: ValueRef<'_>) {
        self.rows += 1;
        match value {
            ValueRef::Null | ValueRef::Missing => {
                self.nulls += 1;
                return;
            }
            ValueRef::Integer(i) => {
                self.numbers += 1;
                self.integer_sum += i128::from(i);
                self.keep_number(i as f64);
            }
            ValueRef::Float(f) => {
                self.numbers += 1;
                self.floats += 1;
                let total = self.float_sum + f;
                self.float_compensation += if self.float_sum.abs() >= f.abs() {
                    (self.float_sum - total) + f
                } else {
                    (f - total) + self.float_sum
                };
                self.float_sum = total;
                self.keep_number(f);
            }
            ValueRef::Number(n) => {
                self.numbers += 1;
                self.exacts += 1;
                self.exact.add(n);
                let float = value.as_number().unwrap_or_default();
                self.exact_float += float;
                self.keep_number(float);
            }
            ValueRef::Text(t) => self.add_text(t.chars().count()),
            ValueRef::RawText(b) => self.add_text(String::from_utf8_lossy(b).chars().count()),
            ValueRef::Bytes(_) => self.bytes += 1,
            ValueRef::Bson(bson::DECIMAL, _) => {
                self.rows -= 1;
                return self.add(ValueRef::Number(&value.plain()));
            }
            ValueRef::Boolean(_) | ValueRef::Bson(..) => {}
        }
        if self
            .least
            .as_ref()
            .is_none_or(|least| value.order(least.as_ref()).is_lt())
        {
            self.least = Some(value.to_owned());
        }
        if self
            .most
            .as_ref()
            .is_none_or(|most| value.order(most.as_ref()).is_gt())
        {
            self.most = Some(value.to_owned());
        }
        let key = hash(value);
        if let Some(times) = self.seen.get_mut(&key) {
            *times += 1;
        } else if self.seen.len() < DIFFERENT_LIMIT {
            self.seen.insert(key, 1);
            let small = match value {
                ValueRef::Text(t) => t.len() <= NAMED_BYTES,
                ValueRef::RawText(b) | ValueRef::Bytes(b) | ValueRef::Bson(_, b) => {
                    b.len() <= NAMED_BYTES
                }
                _ => true,
            };
            if small && self.named.len() < NAMED_LIMIT {
                self.named.insert(key, value.to_owned());
            }
        } else {
            self.full = true;
        }
    }

    fn add_text(&mut self, characters: usize) {
        self.texts += 1;
        self.shortest = Some(self.shortest.map_or(characters, |s| s.min(characters)));
        self.longest = Some(self.longest.map_or(characters, |l| l.max(characters)));
    }

    /// Keeps an even sample of the numbers (Vitter 1985, algorithm R, with a fixed generator).
    fn keep_number(&mut self, number: f64) {
        if !number.is_finite() {
            return;
        }
        if self.sample.len() < SAMPLE {
            self.sample.push(number);
            return;
        }
        self.sample_state = self
            .sample_state
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        let at = ((u128::from(self.sample_state) * u128::from(self.numbers)) >> 64) as usize;
        if let Some(place) = self.sample.get_mut(at) {
            *place = number;
        }
    }

    /// Number of different values that are not null, and whether it is exact.
    pub fn different(&self) -> (u64, bool) {
        (self.seen.len() as u64, !self.full)
    }

    /// Sum of all numbers, if there is one: exact as long as no float is among them and it fits.
    pub fn sum(&self) -> Option<Value> {
        if self.numbers == 0 {
            return None;
        }
        if self.floats == 0
            && self.exacts == 0
            && let Ok(sum) = i64::try_from(self.integer_sum)
        {
            return Some(Value::Integer(sum));
        }
        if self.floats == 0
            && let (mut exact, Ok(whole)) = (self.exact, i64::try_from(self.integer_sum))
        {
            exact.add(itoa::Buffer::new().format(whole));
            if let Some(sum) = exact.total() {
                return Some(Value::Number(sum));
            }
        }
        let total =
            self.integer_sum as f64 + self.exact_float + (self.float_sum + self.float_compensation);
        Some(Value::Float(total))
    }

    /// Mean of all numbers.
    pub fn mean(&self) -> Option<f64> {
        let sum = self.sum()?.as_ref().as_number()?;
        Some(sum / self.numbers as f64)
    }

    /// The commonest values with their counts, commonest first, ties by value.
    pub fn commonest(&self, count: usize) -> Vec<(&Value, u64)> {
        let mut list: Vec<_> = self
            .named
            .iter()
            .map(|(key, value)| (value, self.seen[key]))
            .collect();
        list.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.as_ref().order(b.0.as_ref())));
        list.truncate(count);
        list
    }

    /// How the numbers spread over `bins` ranges of equal width from least to most, from an even sample.
    /// Empty when there are no two different numbers.
    pub fn spread(&self, bins: usize) -> Vec<u64> {
        let least = self.sample.iter().copied().fold(f64::INFINITY, f64::min);
        let most = self
            .sample
            .iter()
            .copied()
            .fold(f64::NEG_INFINITY, f64::max);
        let width = most - least;
        if bins == 0 || !(width > 0.0 && width.is_finite()) {
            return Vec::new();
        }
        let mut counts = vec![0; bins];
        for number in &self.sample {
            let at = ((number - least) / width * bins as f64) as usize;
            counts[at.min(bins - 1)] += 1;
        }
        counts
    }
}

/// Intervals of one width, and how many of the numbers fall into each.
#[derive(Debug, Clone, PartialEq)]
pub struct Bins {
    /// Where the first begins.
    pub from: f64,
    /// The width of each.
    pub width: f64,
    /// Numbers in each, of those that were looked at.
    pub counts: Vec<u64>,
    /// Whether these are a sample of all.
    pub sampled: bool,
}

impl Figures {
    /// How the numbers spread over at most about `most` intervals whose ends are round numbers; nothing where no two numbers
    /// differ. Whole numbers have intervals of whole numbers.
    pub fn bins(&self, most: usize) -> Option<Bins> {
        let finite = || self.sample.iter().copied().filter(|n| n.is_finite());
        let least = finite().fold(f64::INFINITY, f64::min);
        let largest = finite().fold(f64::NEG_INFINITY, f64::max);
        let length = largest - least;
        if !(length > 0.0 && length.is_finite()) {
            return None;
        }
        let whole = self.floats == 0 && self.exacts == 0;
        let (from, width, count) = intervals(least, largest, most, whole);
        let mut counts = vec![0; count];
        finite().for_each(|number| counts[interval_of(number, from, width).min(count - 1)] += 1);
        Some(Bins {
            from,
            width,
            counts,
            sampled: self.numbers > self.sample.len() as u64,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn intervals_have_round_ends_and_hold_every_number() {
        let of = |values: &[f64]| {
            let mut figures = Figures::default();
            values.iter().for_each(|v| figures.add(ValueRef::Float(*v)));
            figures.bins(5)
        };
        let bins = of(&[0.5, 3.9, 4.0, 12.0]).expect("bins");
        assert_eq!((bins.from, bins.width, bins.sampled), (0.0, 5.0, false));
        assert_eq!(bins.counts, [3, 0, 1]);
        assert_eq!(
            of(&[-0.3, 0.3]).map(|bins| (bins.width, bins.counts.len())),
            Some((0.2, 4))
        );
        assert_eq!(of(&[7.0, 7.0]), None);
        assert_eq!(of(&[f64::INFINITY, f64::NAN, 1.0]), None);
        let mut whole = Figures::default();
        [1, 2, 2, 3]
            .into_iter()
            .for_each(|n| whole.add(ValueRef::Integer(n)));
        let bins = whole.bins(9).expect("bins");
        assert_eq!((bins.width, bins.counts), (1.0, vec![1, 2, 1]));
        let mut many = Figures::default();
        (0..10_000).for_each(|n| many.add(ValueRef::Integer(n)));
        assert!(many.bins(9).is_some_and(|bins| bins.sampled));
    }

    #[test]
    fn figures_of_a_mixed_column() {
        let mut figures = Figures::default();
        for value in [
            ValueRef::Integer(2),
            ValueRef::Float(0.1),
            ValueRef::Float(0.2),
            ValueRef::Null,
            ValueRef::Text("12"),
            ValueRef::Integer(2),
            ValueRef::Float(2.0),
        ] {
            figures.add(value);
        }
        assert_eq!((figures.rows, figures.nulls, figures.numbers), (7, 1, 5));
        assert_eq!(figures.sum(), Some(Value::Float(6.3)));
        assert_eq!(figures.least, Some(Value::Float(0.1)));
        assert_eq!(figures.most, Some(Value::Text("12".into())));
        assert_eq!(figures.different(), (4, true), "2 and 2.0 are one value");
        assert_eq!(figures.commonest(1), [(&Value::Integer(2), 3)]);
    }

    #[test]
    fn a_sum_of_integers_stays_exact_and_the_spread_counts_all() {
        let mut figures = Figures::default();
        for number in 0..1_000 {
            figures.add(ValueRef::Integer(i64::MAX / 2_000 + number));
        }
        let exact = (i64::MAX / 2_000) * 1_000 + 499_500;
        assert_eq!(figures.sum(), Some(Value::Integer(exact)));
        assert_eq!(figures.spread(10), vec![100; 10]);
    }
}
