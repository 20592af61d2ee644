//! IEEE 754-2008 decimals of 34 digits in the binary integer encoding that BSON uses: text both ways, order and
//! arithmetic. A value keeps its exponent, so `1.50` stays `1.50`.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

pub use bigdecimal::RoundingMode as Rounding;
use bigdecimal::num_bigint::BigInt;
use bigdecimal::{BigDecimal, ToPrimitive, Zero};

/// A decimal in the sixteen bytes of BSON, least significant first.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Decimal128(pub [u8; 16]);

const BIAS: i32 = 6176;
const LARGEST_EXPONENT: i32 = 6111;
const LARGEST: u128 = 10_u128.pow(34) - 1;

/// A decimal taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Parts {
    /// Sign (true for minus), coefficient, exponent of ten.
    Finite(bool, u128, i32),
    /// Infinity with its sign.
    Infinity(bool),
    /// Not a number.
    NaN,
}

impl Decimal128 {
    /// Not a number.
    pub const NAN: Decimal128 = Decimal128([0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x7c]);

    /// Takes it apart.
    pub fn parts(self) -> Parts {
        let bits = u128::from_le_bytes(self.0);
        let minus = bits >> 127 == 1;
        match (bits >> 122) & 0x1f {
            0x1f => return Parts::NaN,
            0x1e => return Parts::Infinity(minus),
            _ => {}
        }
        // Coefficients of the other form are past 34 digits and stand for zero.
        if (bits >> 125) & 3 == 3 {
            let exponent = ((bits >> 111) & 0x3fff) as i32 - BIAS;
            return Parts::Finite(minus, 0, exponent);
        }
        let exponent = ((bits >> 113) & 0x3fff) as i32 - BIAS;
        let coefficient = bits & ((1 << 113) - 1);
        let coefficient = if coefficient > LARGEST {
            0
        } else {
            coefficient
        };
        Parts::Finite(minus, coefficient, exponent)
    }

    /// Puts it together; `None` if it does not fit without losing a digit.
    pub fn of_parts(parts: Parts) -> Option<Self> {
        let bits = match parts {
            Parts::NaN => return Some(Self::NAN),
            Parts::Infinity(minus) => u128::from(minus) << 127 | 0x1e << 122,
            Parts::Finite(minus, mut coefficient, mut exponent) => {
                while exponent > LARGEST_EXPONENT && coefficient != 0 && coefficient <= LARGEST / 10
                {
                    coefficient *= 10;
                    exponent -= 1;
                }
                while (exponent < -BIAS || coefficient > LARGEST)
                    && coefficient % 10 == 0
                    && coefficient != 0
                {
                    coefficient /= 10;
                    exponent += 1;
                }
                if coefficient == 0 {
                    exponent = exponent.clamp(-BIAS, LARGEST_EXPONENT);
                }
                if coefficient > LARGEST || !(-BIAS..=LARGEST_EXPONENT).contains(&exponent) {
                    return None;
                }
                u128::from(minus) << 127 | ((exponent + BIAS) as u128) << 113 | coefficient
            }
        };
        Some(Decimal128(bits.to_le_bytes()))
    }

    /// The nearest double.
    pub fn to_f64(self) -> f64 {
        match self.parts() {
            Parts::NaN => f64::NAN,
            Parts::Infinity(minus) => {
                if minus {
                    f64::NEG_INFINITY
                } else {
                    f64::INFINITY
                }
            }
            Parts::Finite(minus, coefficient, exponent) => {
                let size: f64 = format!("{coefficient}e{exponent}")
                    .parse()
                    .unwrap_or(f64::NAN);
                if minus { -size } else { size }
            }
        }
    }

    /// The decimal with the digits of a double's shortest text; doubles hold up to 17, so none is lost.
    pub fn of_f64(number: f64) -> Self {
        if number.is_nan() {
            return Self::NAN;
        }
        if number.is_infinite() {
            return Self::of_parts(Parts::Infinity(number < 0.0)).unwrap_or(Self::NAN);
        }
        format!("{number:e}").parse().unwrap_or(Self::NAN)
    }

    /// A whole number.
    pub fn of_i64(number: i64) -> Self {
        let parts = Parts::Finite(number < 0, u128::from(number.unsigned_abs()), 0);
        Self::of_parts(parts).unwrap_or(Self::NAN)
    }

    fn big(self) -> Option<BigDecimal> {
        match self.parts() {
            Parts::Finite(minus, coefficient, exponent) => {
                let mut digits = BigInt::from(coefficient);
                if minus {
                    digits = -digits;
                }
                Some(BigDecimal::new(digits, i64::from(-exponent)))
            }
            _ => None,
        }
    }

    /// Rounds to 34 digits, half to even; past the largest exponent it is infinity.
    fn of_big(number: &BigDecimal) -> Self {
        let mut number = number.clone();
        if number.digits() > 34 {
            let most = std::num::NonZeroU64::new(34).expect("not zero");
            number = number.with_precision_round(most, Rounding::HalfEven);
        }
        let (digits, scale) = number.as_bigint_and_exponent();
        let minus = digits < BigInt::zero();
        let size = if minus { -digits } else { digits };
        let exponent = i32::try_from(-scale).unwrap_or(if scale > 0 { i32::MIN } else { i32::MAX });
        let Some(coefficient) = size.to_u128() else {
            return Self::NAN;
        };
        if let Some(fits) = Self::of_parts(Parts::Finite(minus, coefficient, exponent)) {
            return fits;
        }
        if exponent > 0 {
            return Self::of_parts(Parts::Infinity(minus)).unwrap_or(Self::NAN);
        }
        // Below the smallest exponent digits are given up, down to zero.
        let lost = u32::try_from(-BIAS - exponent).unwrap_or(u32::MAX).min(38);
        let coefficient = coefficient / 10_u128.pow(lost);
        Self::of_parts(Parts::Finite(minus, coefficient, -BIAS)).unwrap_or(Self::NAN)
    }

    /// Computes with two decimals; what is infinite or not a number is computed as doubles are.
    fn with(
        self,
        other: Self,
        exact: impl Fn(&BigDecimal, &BigDecimal) -> Option<BigDecimal>,
        rough: impl Fn(f64, f64) -> f64,
    ) -> Self {
        match (self.big(), other.big()) {
            (Some(a), Some(b)) => exact(&a, &b).map_or_else(
                || Self::of_f64(rough(self.to_f64(), other.to_f64())),
                |c| Self::of_big(&c),
            ),
            _ => Self::of_f64(rough(self.to_f64(), other.to_f64())),
        }
    }

    /// The sum.
    #[must_use]
    pub fn plus(self, other: Self) -> Self {
        self.with(other, |a, b| near(a, b).then(|| a + b), |a, b| a + b)
    }

    /// The difference.
    #[must_use]
    pub fn minus(self, other: Self) -> Self {
        self.with(other, |a, b| near(a, b).then(|| a - b), |a, b| a - b)
    }

    /// The product.
    #[must_use]
    pub fn times(self, other: Self) -> Self {
        self.with(other, |a, b| Some(a * b), |a, b| a * b)
    }

    /// The quotient; not a number for a divisor of zero.
    #[must_use]
    pub fn over(self, other: Self) -> Self {
        self.with(
            other,
            |a, b| (!b.is_zero()).then(|| (a / b).normalized()),
            |_, _| f64::NAN,
        )
    }

    /// The remainder with the sign of the first.
    #[must_use]
    pub fn remainder(self, other: Self) -> Self {
        self.with(
            other,
            |a, b| (!b.is_zero() && near(a, b)).then(|| a % b),
            |a, b| a % b,
        )
    }

    /// Rounded to so many places after the point, half to even; negative places round before it.
    #[must_use]
    pub fn round(self, places: i64, mode: Rounding) -> Self {
        match self.big() {
            Some(big) => Self::of_big(&big.with_scale_round(places.clamp(-6200, 6200), mode)),
            None => self,
        }
    }

    /// Whether it is not a number.
    pub fn is_nan(self) -> bool {
        self.parts() == Parts::NaN
    }

    /// The order by value, -0 equal to 0; `None` if one is not a number.
    pub fn order(self, other: Self) -> Option<Ordering> {
        let sign = |parts: Parts| match parts {
            Parts::Infinity(minus) => Some(if minus { -2_i32 } else { 2 }),
            Parts::Finite(_, 0, _) => Some(0),
            Parts::Finite(minus, ..) => Some(if minus { -1 } else { 1 }),
            Parts::NaN => None,
        };
        let (a, b) = (sign(self.parts())?, sign(other.parts())?);
        if a != b || a == 0 || a.abs() == 2 {
            return Some(a.cmp(&b));
        }
        Some(self.big()?.cmp(&other.big()?))
    }

    /// The order against a double by exact value; `None` if one is not a number.
    pub fn order_f64(self, other: f64) -> Option<Ordering> {
        if other.is_nan() {
            return None;
        }
        if other.is_infinite() {
            return self.order(Self::of_f64(other));
        }
        match self.parts() {
            Parts::NaN => None,
            Parts::Infinity(minus) => Some(if minus {
                Ordering::Less
            } else {
                Ordering::Greater
            }),
            Parts::Finite(..) => {
                // A double is a whole number over a power of two, so its decimal expansion ends.
                let rough = self.to_f64();
                if rough != other {
                    return rough.partial_cmp(&other);
                }
                let exact = BigDecimal::try_from(other).ok()?;
                Some(self.big()?.cmp(&exact))
            }
        }
    }
}

/// Whether adding keeps a sensible number of digits: exponents thousands apart need no exact sum.
fn near(a: &BigDecimal, b: &BigDecimal) -> bool {
    (a.fractional_digit_count() - b.fractional_digit_count()).abs() < 13_000
}

impl FromStr for Decimal128 {
    type Err = ();

    /// Reads what the Decimal128 specification allows: digits, point, exponent, `Infinity`, `Inf`, `NaN`. A digit
    /// past the 34th must be zero.
    fn from_str(text: &str) -> Result<Self, ()> {
        let (minus, rest) = match text.as_bytes().first() {
            Some(b'-') => (true, &text[1..]),
            Some(b'+') => (false, &text[1..]),
            _ => (false, text),
        };
        if rest.eq_ignore_ascii_case("nan") {
            return Ok(Self::NAN);
        }
        if rest.eq_ignore_ascii_case("infinity") || rest.eq_ignore_ascii_case("inf") {
            return Self::of_parts(Parts::Infinity(minus)).ok_or(());
        }
        let (digits, exponent) = match rest.find(['e', 'E']) {
            Some(at) => (&rest[..at], rest[at + 1..].parse::<i64>().map_err(|_| ())?),
            None => (rest, 0),
        };
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        if whole.is_empty() && fraction.is_empty()
            || digits.bytes().any(|b| b != b'.' && !b.is_ascii_digit())
            || fraction.contains('.')
        {
            return Err(());
        }
        let mut coefficient: u128 = 0;
        let mut dropped: i64 = 0;
        for digit in whole.bytes().chain(fraction.bytes()) {
            let digit = u128::from(digit - b'0');
            if dropped == 0 && coefficient <= (LARGEST - digit) / 10 {
                coefficient = coefficient * 10 + digit;
            } else if digit == 0 {
                dropped += 1;
            } else {
                return Err(());
            }
        }
        let exponent = exponent
            .checked_sub(fraction.len() as i64)
            .and_then(|e| e.checked_add(dropped))
            .ok_or(())?;
        let exponent = i32::try_from(exponent.clamp(-100_000, 100_000)).map_err(|_| ())?;
        Self::of_parts(Parts::Finite(minus, coefficient, exponent)).ok_or(())
    }
}

impl fmt::Display for Decimal128 {
    /// The text of the Decimal128 specification: scientific where the exponent is above zero or small.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (minus, coefficient, exponent) = match self.parts() {
            Parts::NaN => return f.write_str("NaN"),
            Parts::Infinity(minus) => {
                return f.write_str(if minus { "-Infinity" } else { "Infinity" });
            }
            Parts::Finite(minus, coefficient, exponent) => (minus, coefficient, exponent),
        };
        if minus {
            f.write_str("-")?;
        }
        let digits = coefficient.to_string();
        let scientific = exponent + digits.len() as i32 - 1;
        if exponent > 0 || scientific < -6 {
            f.write_str(&digits[..1])?;
            if digits.len() > 1 {
                write!(f, ".{}", &digits[1..])?;
            }
            return write!(f, "E{scientific:+}");
        }
        let places = -exponent as usize;
        if places == 0 {
            f.write_str(&digits)
        } else if digits.len() > places {
            let (whole, fraction) = digits.split_at(digits.len() - places);
            write!(f, "{whole}.{fraction}")
        } else {
            write!(f, "0.{digits:0>places$}")
        }
    }
}

impl fmt::Debug for Decimal128 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "decimal {self}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(text: &str) -> Decimal128 {
        text.parse().unwrap_or_else(|()| panic!("{text}"))
    }

    #[test]
    fn text_is_kept_as_the_specification_writes_it() {
        for (text, written) in [
            ("0", "0"),
            ("-0", "-0"),
            ("0.001234", "0.001234"),
            ("0.0000001", "1E-7"),
            ("12.50", "12.50"),
            ("1E+3", "1E+3"),
            ("123e5", "1.23E+7"),
            (
                "9.999999999999999999999999999999999E+6144",
                "9.999999999999999999999999999999999E+6144",
            ),
            ("1E-6176", "1E-6176"),
            ("1E+6144", "1.000000000000000000000000000000000E+6144"),
            ("infinity", "Infinity"),
            ("-Inf", "-Infinity"),
            ("nan", "NaN"),
            (".5", "0.5"),
            ("5.", "5"),
            (
                "1000000000000000000000000000000000000000",
                "1.000000000000000000000000000000000E+39",
            ),
        ] {
            assert_eq!(of(text).to_string(), written, "{text}");
            assert_eq!(of(written).0, of(text).0, "{text}");
        }
        for bad in [
            "",
            ".",
            "e5",
            "1e",
            "1.2.3",
            "1,5",
            "--1",
            "12345678901234567890123456789012345",
            "1E+6145",
            "1E-6177",
            "E+1",
            " 1",
        ] {
            assert!(bad.parse::<Decimal128>().is_err(), "{bad}");
        }
    }

    #[test]
    fn bytes_are_those_of_the_specification() {
        // From the layout of IEEE 754-2008, 3.5.2: bias 6176, exponent above the 113 bits of the coefficient.
        let mut one = [0; 16];
        one[0] = 1;
        one[14] = 0x40;
        one[15] = 0x30;
        assert_eq!(of("1").0, one);
        assert_eq!(of("-1").0[15], 0xb0);
        assert_eq!(of("Infinity").0[15], 0x78);
        assert_eq!(of("NaN").0[15], 0x7c);
    }

    #[test]
    fn order_and_arithmetic_are_exact() {
        use Ordering::{Equal, Greater, Less};
        assert_eq!(of("0.1").plus(of("0.2")).to_string(), "0.3");
        assert_eq!(
            of("1").over(of("3")).to_string(),
            "0.3333333333333333333333333333333333"
        );
        assert_eq!(of("7").over(of("2")).to_string(), "3.5");
        assert!(of("1").over(of("0")).is_nan());
        assert_eq!(of("9E+6144").times(of("10")).to_string(), "Infinity");
        assert_eq!(of("7.5").remainder(of("2")).to_string(), "1.5");
        assert_eq!(of("2.50").order(of("2.5")), Some(Equal));
        assert_eq!(of("-0").order(of("0")), Some(Equal));
        assert_eq!(of("1E+6000").order(of("-1E+6000")), Some(Greater));
        assert_eq!(of("NaN").order(of("1")), None);
        assert_eq!(
            of("0.1").order_f64(0.1),
            Some(Less),
            "0.1 as a double is a little more"
        );
        assert_eq!(of("0.5").order_f64(0.5), Some(Equal));
        assert_eq!(of("1E+400").order_f64(f64::MAX), Some(Greater));
        assert_eq!(Decimal128::of_f64(0.1).to_string(), "0.1");
        assert_eq!(
            Decimal128::of_i64(i64::MIN).to_string(),
            "-9223372036854775808"
        );
    }
}
