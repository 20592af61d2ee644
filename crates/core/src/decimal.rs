//! Exact decimal numbers as digits, `-12.340`: telling, comparing and adding them without rounding. The
//! digits are kept as the engine wrote them, trailing zeros too.

use std::cmp::Ordering;

/// Whether `bytes` are digits of a decimal number: an optional sign, digits, perhaps a point and digits.
#[inline]
pub fn is_decimal(bytes: &[u8]) -> bool {
    let digits = bytes.strip_prefix(b"-").unwrap_or(bytes);
    let mut points = 0;
    !digits.is_empty()
        && digits[0] != b'.'
        && digits[digits.len() - 1] != b'.'
        && digits.iter().all(|byte| match byte {
            b'.' => {
                points += 1;
                points == 1
            }
            byte => byte.is_ascii_digit(),
        })
}

/// Sign, digits before the point without leading zeros, digits after it without trailing ones.
fn parts(text: &str) -> (bool, &str, &str) {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let whole = whole.trim_start_matches('0');
    let fraction = fraction.trim_end_matches('0');
    let zero = whole.is_empty() && fraction.is_empty();
    (text.starts_with('-') && !zero, whole, fraction)
}

/// Compares two decimal numbers by value: `1.0` equals `1`.
pub fn compare(a: &str, b: &str) -> Ordering {
    let ((a_negative, a_whole, a_fraction), (b_negative, b_whole, b_fraction)) =
        (parts(a), parts(b));
    let size = || (a_whole.len(), a_whole, a_fraction).cmp(&(b_whole.len(), b_whole, b_fraction));
    match (a_negative, b_negative) {
        (false, true) => Ordering::Greater,
        (true, false) => Ordering::Less,
        (false, false) => size(),
        (true, true) => size().reverse(),
    }
}

/// Writes bytes that compare as the numbers do: equal numbers give equal bytes.
pub fn write_ordered(text: &str, out: &mut Vec<u8>) {
    let (negative, whole, fraction) = parts(text);
    let start = out.len();
    out.push(1);
    out.extend_from_slice(&(whole.len() as u32).to_be_bytes());
    out.extend_from_slice(whole.as_bytes());
    out.extend_from_slice(fraction.as_bytes());
    if negative {
        // What is larger without its sign is smaller with it; so is what has more digits.
        out.push(0);
        out[start..].iter_mut().for_each(|byte| *byte = !*byte);
        out[start] = 0;
    }
}

/// The number without zeros that change nothing: equal numbers give equal digits.
pub fn shortest(text: &str) -> String {
    let (negative, whole, fraction) = parts(text);
    let sign = if negative { "-" } else { "" };
    let whole = if whole.is_empty() { "0" } else { whole };
    let point = if fraction.is_empty() { "" } else { "." };
    format!("{sign}{whole}{point}{fraction}")
}

/// A sum of decimal numbers, exact as long as it fits 38 digits.
#[derive(Debug, Clone, Copy, Default)]
pub struct Sum {
    unscaled: i128,
    scale: u32,
    lost: bool,
}

impl Sum {
    /// Adds a number.
    pub fn add(&mut self, text: &str) {
        let fraction = text.split_once('.').map_or(0, |(_, f)| f.len()) as u32;
        let digits: Option<i128> = text.replace('.', "").parse().ok();
        let scaled = |number: i128, by: u32| number.checked_mul(10_i128.checked_pow(by)?);
        let scale = self.scale.max(fraction);
        let sum = digits
            .and_then(|digits| scaled(digits, scale - fraction))
            .zip(scaled(self.unscaled, scale - self.scale))
            .and_then(|(a, b)| a.checked_add(b));
        match sum {
            Some(sum) => (self.unscaled, self.scale) = (sum, scale),
            None => self.lost = true,
        }
    }

    /// The sum in digits; `None` once it did not fit.
    pub fn total(&self) -> Option<String> {
        if self.lost {
            return None;
        }
        let digits = format!(
            "{:0>width$}",
            self.unscaled.unsigned_abs(),
            width = self.scale as usize + 1
        );
        let (whole, fraction) = digits.split_at(digits.len() - self.scale as usize);
        let sign = if self.unscaled < 0 { "-" } else { "" };
        let point = if fraction.is_empty() { "" } else { "." };
        Some(format!("{sign}{whole}{point}{fraction}"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_no_decimal_number_is_told() {
        for number in ["0", "-1.50", "007", "18446744073709551615"] {
            assert!(is_decimal(number.as_bytes()), "{number}");
        }
        for other in ["", "-", ".5", "5.", "1e5", "NaN", "1.2.3", "+1"] {
            assert!(!is_decimal(other.as_bytes()), "{other}");
        }
        assert_eq!(shortest("-0.00"), "0");
        assert_eq!(shortest("0012.340"), "12.34");
        let mut sum = Sum::default();
        for number in ["0.10", "-2", "0.005"] {
            sum.add(number);
        }
        assert_eq!(sum.total().as_deref(), Some("-1.895"));
        sum.add(&"9".repeat(60));
        assert_eq!(sum.total(), None);
    }

    proptest! {
        #[test]
        fn decimals_compare_like_integers(a in -100_000_i64..100_000, b in -100_000_i64..100_000, zeros in 0_usize..3) {
            let text = |n: i64, zeros: usize| {
                let sign = if n < 0 { "-" } else { "" };
                format!("{sign}{}.{:02}{}", n.abs() / 100, n.abs() % 100, "0".repeat(zeros))
            };
            prop_assert_eq!(compare(&text(a, 0), &text(b, zeros)), a.cmp(&b));
        }
    }
}
