//! Arithmetic over document numbers: whole numbers stay whole (32 bits widen to 64), a double makes the result a double, a
//! decimal makes it a decimal.

use super::{Datum, Decimal128};

/// What is computed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operation {
    /// Sum.
    Add,
    /// Difference.
    Subtract,
    /// Product.
    Multiply,
    /// Quotient; of whole numbers a double.
    Divide,
    /// Remainder with the sign of the first.
    Remainder,
}

/// Why there is no result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoNumber {
    /// One of them is no number.
    NotNumbers,
    /// The result leaves the range of 64-bit integers.
    Overflow,
    /// Division by zero.
    ByZero,
}

fn decimal(value: &Datum) -> Decimal128 {
    match value {
        Datum::Decimal(d) => *d,
        Datum::Double(f) => Decimal128::of_f64(*f),
        other => Decimal128::of_i64(other.as_i64().unwrap_or_default()),
    }
}

fn whole(value: &Datum) -> Option<(i64, bool)> {
    match value {
        Datum::Int(i) => Some((i64::from(*i), true)),
        Datum::Long(i) => Some((*i, false)),
        _ => None,
    }
}

/// Computes. Division by zero is [`NoNumber::ByZero`], also of doubles.
///
/// # Errors
/// [`NoNumber`].
pub fn compute(operation: Operation, a: &Datum, b: &Datum) -> Result<Datum, NoNumber> {
    use Operation as O;
    if !a.is_number() || !b.is_number() {
        return Err(NoNumber::NotNumbers);
    }
    let divides = matches!(operation, O::Divide | O::Remainder);
    if divides
        && b.as_f64() == Some(0.0)
        && !matches!(b, Datum::Decimal(d) if d.to_string().bytes().any(|c| matches!(c, b'1'..=b'9')))
    {
        return Err(NoNumber::ByZero);
    }
    if let (Some((x, short)), Some((y, also))) = (whole(a), whole(b)) {
        let result = match operation {
            O::Add => x.checked_add(y),
            O::Subtract => x.checked_sub(y),
            O::Multiply => x.checked_mul(y),
            O::Remainder => Some(x.wrapping_rem(y)),
            O::Divide => return Ok(Datum::Double(x as f64 / y as f64)),
        };
        let result = result.ok_or(NoNumber::Overflow)?;
        return Ok(match i32::try_from(result) {
            Ok(fits) if short && also => Datum::Int(fits),
            _ => Datum::Long(result),
        });
    }
    if matches!(a, Datum::Decimal(_)) || matches!(b, Datum::Decimal(_)) {
        let (x, y) = (decimal(a), decimal(b));
        return Ok(Datum::Decimal(match operation {
            O::Add => x.plus(y),
            O::Subtract => x.minus(y),
            O::Multiply => x.times(y),
            O::Divide => x.over(y),
            O::Remainder => x.remainder(y),
        }));
    }
    let (x, y) = (
        a.as_f64().unwrap_or_default(),
        b.as_f64().unwrap_or_default(),
    );
    Ok(Datum::Double(match operation {
        O::Add => x + y,
        O::Subtract => x - y,
        O::Multiply => x * y,
        O::Divide => x / y,
        O::Remainder => x % y,
    }))
}

/// A running sum: exact for whole numbers as long as they fit, compensated for doubles (Neumaier, 1974), exact to 34 digits
/// for decimals.
#[derive(Debug, Clone, Default)]
pub struct Sum {
    whole: i128,
    wide: bool,
    real: f64,
    lost: f64,
    has_real: bool,
    decimal: Option<Decimal128>,
    /// How many numbers went in.
    pub count: u64,
}

impl Sum {
    /// Adds a number; what is none is passed over.
    #[inline]
    pub fn add(&mut self, value: &Datum) {
        match value {
            Datum::Int(i) => self.whole += i128::from(*i),
            Datum::Long(i) => {
                self.whole += i128::from(*i);
                self.wide = true;
            }
            Datum::Double(f) => {
                self.has_real = true;
                let sum = self.real + f;
                if sum.is_finite() {
                    self.lost += if self.real.abs() >= f.abs() {
                        (self.real - sum) + f
                    } else {
                        (f - sum) + self.real
                    };
                }
                self.real = sum;
            }
            Datum::Decimal(d) => {
                self.decimal = Some(self.decimal.map_or(*d, |sum| sum.plus(*d)));
            }
            _ => return,
        }
        self.count += 1;
    }

    /// Adds what another one holds.
    pub fn merge(&mut self, other: &Sum) {
        let count = self.count + other.count;
        self.whole += other.whole;
        self.wide |= other.wide;
        if other.has_real {
            self.add(&Datum::Double(other.real));
            self.lost += other.lost;
        }
        if let Some(decimal) = other.decimal {
            self.add(&Datum::Decimal(decimal));
        }
        self.count = count;
    }

    /// The sum so far; 0 of nothing.
    ///
    /// # Errors
    /// [`NoNumber::Overflow`] if whole numbers leave 64 bits.
    pub fn total(&self) -> Result<Datum, NoNumber> {
        if let Some(decimal) = self.decimal {
            let mut total = decimal;
            if self.whole != 0 {
                let whole: Decimal128 = self
                    .whole
                    .to_string()
                    .parse()
                    .map_err(|()| NoNumber::Overflow)?;
                total = total.plus(whole);
            }
            if self.has_real {
                total = total.plus(Decimal128::of_f64(self.real + self.lost));
            }
            return Ok(Datum::Decimal(total));
        }
        if self.has_real {
            return Ok(Datum::Double(self.whole as f64 + (self.real + self.lost)));
        }
        match i32::try_from(self.whole) {
            Ok(fits) if !self.wide => Ok(Datum::Int(fits)),
            _ => i64::try_from(self.whole)
                .map(Datum::Long)
                .map_err(|_| NoNumber::Overflow),
        }
    }

    /// The mean; `None` of nothing.
    pub fn mean(&self) -> Option<Datum> {
        if self.count == 0 {
            return None;
        }
        if let Some(decimal) = self.decimal {
            let mut total = decimal;
            if self.whole != 0 {
                total = total.plus(self.whole.to_string().parse().unwrap_or(Decimal128::NAN));
            }
            if self.has_real {
                total = total.plus(Decimal128::of_f64(self.real + self.lost));
            }
            let count = i64::try_from(self.count).unwrap_or(i64::MAX);
            return Some(Datum::Decimal(total.over(Decimal128::of_i64(count))));
        }
        let total = self.whole as f64
            + if self.has_real {
                self.real + self.lost
            } else {
                0.0
            };
        Some(Datum::Double(total / self.count as f64))
    }
}

/// A running sample standard deviation (Welford, 1962).
#[derive(Debug, Clone, Default)]
pub struct Deviation {
    count: u64,
    mean: f64,
    squares: f64,
}

impl Deviation {
    /// Adds a number; what is none is passed over.
    pub fn add(&mut self, value: &Datum) {
        let Some(x) = value.as_f64() else { return };
        self.count += 1;
        let delta = x - self.mean;
        self.mean += delta / self.count as f64;
        self.squares += delta * (x - self.mean);
    }

    /// The deviation of a sample; `None` of fewer than two numbers.
    pub fn sample(&self) -> Option<f64> {
        (self.count > 1).then(|| (self.squares / (self.count - 1) as f64).sqrt())
    }

    /// The deviation of a whole population; `None` of none.
    pub fn population(&self) -> Option<f64> {
        (self.count > 0).then(|| (self.squares / self.count as f64).sqrt())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_widen_as_documented() {
        use Operation as O;
        let dec = |text: &str| Datum::Decimal(text.parse().unwrap_or(Decimal128::NAN));
        for (operation, a, b, result) in [
            (O::Add, Datum::Int(1), Datum::Int(2), Ok(Datum::Int(3))),
            (
                O::Add,
                Datum::Int(i32::MAX),
                Datum::Int(1),
                Ok(Datum::Long(1 << 31)),
            ),
            (O::Add, Datum::Long(1), Datum::Int(1), Ok(Datum::Long(2))),
            (
                O::Add,
                Datum::Long(i64::MAX),
                Datum::Int(1),
                Err(NoNumber::Overflow),
            ),
            (
                O::Divide,
                Datum::Int(7),
                Datum::Int(2),
                Ok(Datum::Double(3.5)),
            ),
            (
                O::Divide,
                Datum::Int(8),
                Datum::Int(2),
                Ok(Datum::Double(4.0)),
            ),
            (
                O::Divide,
                Datum::Int(8),
                Datum::Double(0.0),
                Err(NoNumber::ByZero),
            ),
            (
                O::Remainder,
                Datum::Int(-7),
                Datum::Int(4),
                Ok(Datum::Int(-3)),
            ),
            (
                O::Remainder,
                Datum::Long(i64::MIN),
                Datum::Int(-1),
                Ok(Datum::Long(0)),
            ),
            (
                O::Multiply,
                Datum::Double(0.5),
                Datum::Int(3),
                Ok(Datum::Double(1.5)),
            ),
            (O::Add, dec("0.1"), Datum::Double(0.2), Ok(dec("0.3"))),
            (O::Divide, Datum::Int(1), dec("1E-6000"), Ok(dec("1E+6000"))),
            (O::Add, "1".into(), Datum::Int(1), Err(NoNumber::NotNumbers)),
        ] {
            assert_eq!(
                compute(operation, &a, &b),
                result,
                "{operation:?} {a:?} {b:?}"
            );
        }
    }

    #[test]
    fn sums_do_not_drift() {
        let mut sum = Sum::default();
        for _ in 0..10 {
            sum.add(&Datum::Double(0.1));
        }
        assert_eq!(sum.total(), Ok(Datum::Double(1.0)));
        let mut long = Sum::default();
        long.add(&Datum::Long(i64::MAX));
        long.add(&Datum::Int(1));
        assert_eq!(long.total(), Err(NoNumber::Overflow));
        long.add(&Datum::Int(-1));
        assert_eq!(long.total(), Ok(Datum::Long(i64::MAX)));
        let mut deviation = Deviation::default();
        for i in [2, 4, 4, 4, 5, 5, 7, 9] {
            deviation.add(&Datum::Int(i));
        }
        assert_eq!(deviation.population(), Some(2.0));
    }
}
