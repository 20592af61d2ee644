//! One value of a row, owned or borrowed. It keeps exactly what the engine yielded and decides
//! nothing about how a value is shown, beyond its plain text.

use std::cmp::Ordering;
use std::fmt::Write as _;

use crate::decimal;
use crate::document::bson::{self, Element};
use crate::document::extended::{self, Form};
use crate::document::{self, Datum, compare};

/// A value borrowed from a [`crate::RowBatch`] or from an engine's own buffer.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum ValueRef<'a> {
    /// SQL null.
    Null,
    /// True or false.
    Boolean(bool),
    /// A 64-bit signed integer.
    Integer(i64),
    /// A 64-bit IEEE 754 number.
    Float(f64),
    /// An exact decimal number of any precision, as its digits ([`crate::decimal::is_decimal`]).
    Number(&'a str),
    /// Text in UTF-8.
    Text(&'a str),
    /// A value the engine calls text but whose bytes are not valid UTF-8.
    RawText(&'a [u8]),
    /// Bytes.
    Bytes(&'a [u8]),
    /// A field that a document does not have.
    Missing,
    /// A value of a document that has no form above: its BSON type byte and its bytes.
    Bson(u8, &'a [u8]),
}

/// An owned [`ValueRef`].
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// SQL null.
    Null,
    /// True or false.
    Boolean(bool),
    /// A 64-bit signed integer.
    Integer(i64),
    /// A 64-bit IEEE 754 number.
    Float(f64),
    /// An exact decimal number of any precision, as its digits.
    Number(String),
    /// Text in UTF-8.
    Text(String),
    /// Text whose bytes are not valid UTF-8.
    RawText(Vec<u8>),
    /// Bytes.
    Bytes(Vec<u8>),
    /// A field that a document does not have.
    Missing,
    /// A value of a document that has no form above: its BSON type byte and its bytes.
    Bson(u8, Vec<u8>),
}

impl Value {
    /// Borrows this value.
    pub fn as_ref(&self) -> ValueRef<'_> {
        match self {
            Value::Null => ValueRef::Null,
            Value::Boolean(b) => ValueRef::Boolean(*b),
            Value::Integer(i) => ValueRef::Integer(*i),
            Value::Float(f) => ValueRef::Float(*f),
            Value::Number(n) => ValueRef::Number(n),
            Value::Text(t) => ValueRef::Text(t),
            Value::RawText(b) => ValueRef::RawText(b),
            Value::Bytes(b) => ValueRef::Bytes(b),
            Value::Missing => ValueRef::Missing,
            Value::Bson(tag, bytes) => ValueRef::Bson(*tag, bytes),
        }
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Value::Text(text.to_string())
    }
}
impl From<String> for Value {
    fn from(text: String) -> Self {
        Value::Text(text)
    }
}
impl From<i64> for Value {
    fn from(number: i64) -> Self {
        Value::Integer(number)
    }
}
impl From<f64> for Value {
    fn from(number: f64) -> Self {
        Value::Float(number)
    }
}
impl<T: Into<Value>> From<Option<T>> for Value {
    fn from(value: Option<T>) -> Self {
        value.map_or(Value::Null, Into::into)
    }
}

impl<'a> ValueRef<'a> {
    /// Copies this value.
    pub fn to_owned(self) -> Value {
        match self {
            ValueRef::Null => Value::Null,
            ValueRef::Boolean(b) => Value::Boolean(b),
            ValueRef::Integer(i) => Value::Integer(i),
            ValueRef::Float(f) => Value::Float(f),
            ValueRef::Number(n) => Value::Number(n.to_string()),
            ValueRef::Text(t) => Value::Text(t.to_string()),
            ValueRef::RawText(b) => Value::RawText(b.to_vec()),
            ValueRef::Bytes(b) => Value::Bytes(b.to_vec()),
            ValueRef::Missing => Value::Missing,
            ValueRef::Bson(tag, bytes) => Value::Bson(tag, bytes.to_vec()),
        }
    }

    /// The value of an element of a document.
    #[inline]
    pub fn of_element(element: &Element<'a>) -> Self {
        let value = element.value;
        match element.tag {
            bson::NULL => ValueRef::Null,
            bson::BOOLEAN => ValueRef::Boolean(value == [1]),
            bson::INT => ValueRef::Integer(value.try_into().map_or(0, i32::from_le_bytes).into()),
            bson::LONG => ValueRef::Integer(value.try_into().map_or(0, i64::from_le_bytes)),
            bson::DOUBLE => ValueRef::Float(value.try_into().map_or(0.0, f64::from_le_bytes)),
            bson::TEXT => {
                let text = element.text().unwrap_or_default();
                std::str::from_utf8(text).map_or(ValueRef::RawText(text), ValueRef::Text)
            }
            bson::BYTES if value.get(4) == Some(&0) => ValueRef::Bytes(&value[5..]),
            tag => ValueRef::Bson(tag, value),
        }
    }

    /// The same value as one of a document; what documents cannot hold becomes text, and digits past 34 a double.
    pub fn to_datum(self) -> Option<Datum> {
        Some(match self {
            ValueRef::Missing => return None,
            ValueRef::Null => Datum::Null,
            ValueRef::Boolean(b) => Datum::Boolean(b),
            ValueRef::Integer(i) => Datum::integer(i),
            ValueRef::Float(f) => Datum::Double(f),
            ValueRef::Number(n) => match n.parse() {
                Ok(decimal) => Datum::Decimal(decimal),
                Err(()) => Datum::Double(n.parse().unwrap_or(f64::NAN)),
            },
            ValueRef::Text(t) => Datum::Text(t.into()),
            ValueRef::RawText(b) => Datum::Text(String::from_utf8_lossy(b).into()),
            ValueRef::Bytes(b) => Datum::Bytes(Box::new((0, b.to_vec()))),
            ValueRef::Bson(tag, value) => Element {
                name: b"",
                tag,
                value,
            }
            .datum(),
        })
    }

    /// Whether this is null, or a field that is not there.
    pub fn is_null(self) -> bool {
        matches!(self, ValueRef::Null | ValueRef::Missing)
    }

    /// The value as a number, if it is one.
    pub fn as_number(self) -> Option<f64> {
        match self {
            ValueRef::Integer(i) => Some(i as f64),
            ValueRef::Float(f) => Some(f),
            ValueRef::Number(n) => n.parse().ok(),
            ValueRef::Bson(bson::DECIMAL, _) => self.to_datum()?.as_f64(),
            _ => None,
        }
    }

    /// The trade's word for the kind of this value: null, boolean, integer, real, number, text, bytes, or that of a
    /// document's value.
    pub fn kind(self) -> &'static str {
        match self {
            ValueRef::Null => "null",
            ValueRef::Boolean(_) => "boolean",
            ValueRef::Integer(_) => "integer",
            ValueRef::Float(_) => "real",
            ValueRef::Number(_) => "number",
            ValueRef::Text(_) | ValueRef::RawText(_) => "text",
            ValueRef::Bytes(_) => "bytes",
            ValueRef::Missing => "missing",
            ValueRef::Bson(tag, _) => document::Kind::of_tag(tag).map_or("", document::Kind::word),
        }
    }

    /// Appends the exact bytes an export writes: nothing for null and what is not there, decimal digits for numbers (the
    /// shortest that read back as the same number), text as it is, bytes as lower-case hexadecimal.
    #[inline]
    pub fn write_plain(self, out: &mut Vec<u8>) {
        match self {
            ValueRef::Null | ValueRef::Missing => {}
            ValueRef::Bson(tag, value) => write_bson(
                &Element {
                    name: b"",
                    tag,
                    value,
                },
                out,
            ),
            ValueRef::Boolean(b) => out.extend_from_slice(if b { b"true" } else { b"false" }),
            ValueRef::Integer(i) => {
                out.extend_from_slice(itoa::Buffer::new().format(i).as_bytes());
            }
            ValueRef::Float(f) => out.extend_from_slice(zmij::Buffer::new().format(f).as_bytes()),
            ValueRef::Number(t) | ValueRef::Text(t) => out.extend_from_slice(t.as_bytes()),
            ValueRef::RawText(b) => out.extend_from_slice(b),
            ValueRef::Bytes(b) => {
                for byte in b {
                    let digits = b"0123456789abcdef";
                    out.push(digits[usize::from(byte >> 4)]);
                    out.push(digits[usize::from(byte & 15)]);
                }
            }
        }
    }

    /// The value as one line of plain text, for messages: null is `null`, bytes are hexadecimal.
    pub fn plain(self) -> String {
        match self {
            ValueRef::Null => "null".into(),
            ValueRef::Missing => "missing".into(),
            ValueRef::Bytes(b) => {
                let mut text = String::with_capacity(2 * b.len());
                for byte in b {
                    let _ = write!(text, "{byte:02x}");
                }
                text
            }
            other => {
                let mut bytes = Vec::new();
                other.write_plain(&mut bytes);
                String::from_utf8_lossy(&bytes).into_owned()
            }
        }
    }

    /// The rank of this value's kind when values of different kinds are put in order: null and missing, numbers,
    /// text, objects, lists, bytes, identifiers, booleans, dates, the rest.
    pub fn rank(self) -> u8 {
        match self {
            ValueRef::Bson(tag, _) => match tag {
                bson::DECIMAL => 1,
                bson::SYMBOL => 2,
                bson::OBJECT => 3,
                bson::LIST => 4,
                bson::BYTES => 5,
                bson::ID => 6,
                bson::DATE => 8,
                bson::MIN_KEY | bson::UNDEFINED => 0,
                other => other | 0x80,
            },
            ValueRef::Null | ValueRef::Missing => 0,
            ValueRef::Integer(_) | ValueRef::Float(_) | ValueRef::Number(_) => 1,
            ValueRef::Text(_) | ValueRef::RawText(_) => 2,
            ValueRef::Bytes(_) => 5,
            ValueRef::Boolean(_) => 7,
        }
    }

    /// A total order over all values: by [`ValueRef::rank`], then numbers by value (integers and
    /// floats compared exactly, -0.0 equal to 0.0, what is not a number last), text and bytes byte by byte.
    pub fn order(self, other: ValueRef<'_>) -> Ordering {
        use ValueRef::{Boolean, Bson, Bytes, Float, Integer, Number, RawText, Text};
        match (self, other) {
            (Integer(a), Integer(b)) => a.cmp(&b),
            (Float(a), Float(b)) => floats(a, b),
            (Integer(a), Float(b)) => integer_to_float(a, b),
            (Float(a), Integer(b)) => integer_to_float(b, a).reverse(),
            (Number(a), Number(b)) => decimal::compare(a, b),
            (Number(a), Integer(b)) => decimal::compare(a, itoa::Buffer::new().format(b)),
            (Integer(a), Number(b)) => decimal::compare(itoa::Buffer::new().format(a), b),
            (Number(a), Float(b)) => number_to_float(a, b),
            (Float(a), Number(b)) => number_to_float(b, a).reverse(),
            (Boolean(a), Boolean(b)) => a.cmp(&b),
            (Text(a), Text(b)) => a.cmp(b),
            (Text(a), RawText(b)) => a.as_bytes().cmp(b),
            (RawText(a), Text(b)) => a.cmp(b.as_bytes()),
            (RawText(a), RawText(b)) | (Bytes(a), Bytes(b)) => a.cmp(b),
            (a @ Bson(..), b) | (a, b @ Bson(..)) if a.rank() == b.rank() => {
                let (a, b) = (a.to_datum(), b.to_datum());
                a.zip(b)
                    .map_or(Ordering::Equal, |(a, b)| compare::order(&a, &b))
            }
            (a, b) => a.rank().cmp(&b.rank()),
        }
    }
}

/// Identifiers, dates and decimals as people write them; everything else as relaxed Extended JSON.
fn write_bson(element: &Element<'_>, out: &mut Vec<u8>) {
    match element.datum() {
        Datum::Id(id) => out.extend_from_slice(document::id_text(&id).as_bytes()),
        Datum::Decimal(decimal) => out.extend_from_slice(decimal.to_string().as_bytes()),
        Datum::Date(date) => match document::time::text(date) {
            Some(text) => out.extend_from_slice(text.as_bytes()),
            None => extended::write_value(element, Form::Relaxed, out),
        },
        Datum::Bytes(both) if both.0 == 4 && both.1.len() == 16 => {
            for (at, byte) in both.1.iter().enumerate() {
                if matches!(at, 4 | 6 | 8 | 10) {
                    out.push(b'-');
                }
                out.extend_from_slice(format!("{byte:02x}").as_bytes());
            }
        }
        _ => extended::write_value(element, Form::Relaxed, out),
    }
}

/// Compares floats so that the order is total together with that of integers.
fn floats(a: f64, b: f64) -> Ordering {
    a.partial_cmp(&b)
        .unwrap_or_else(|| a.is_nan().cmp(&b.is_nan()))
}

/// Compares exact digits with a float, whose own decimal expansion is finite.
fn number_to_float(a: &str, b: f64) -> Ordering {
    if b.is_finite() {
        return decimal::compare(a, &format!("{b:.1074}"));
    }
    if b == f64::NEG_INFINITY {
        Ordering::Greater
    } else {
        Ordering::Less
    }
}

/// Compares an integer with a float without rounding the integer.
fn integer_to_float(a: i64, b: f64) -> Ordering {
    if b.is_nan() || b >= 9_223_372_036_854_775_808.0 {
        return Ordering::Less;
    }
    if b < -9_223_372_036_854_775_808.0 {
        return Ordering::Greater;
    }
    let whole = b.trunc();
    a.cmp(&(whole as i64)).then_with(|| floats(0.0, b - whole))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn integers_and_floats_compare_exactly() {
        let big = i64::MAX - 1;
        assert_eq!(
            ValueRef::Integer(big).order(ValueRef::Float(big as f64)),
            Ordering::Less
        );
        assert_eq!(
            ValueRef::Integer(2).order(ValueRef::Float(2.0)),
            Ordering::Equal
        );
        assert_eq!(
            ValueRef::Integer(2).order(ValueRef::Float(2.5)),
            Ordering::Less
        );
        assert_eq!(
            ValueRef::Float(-2.5).order(ValueRef::Integer(-2)),
            Ordering::Less
        );
    }

    #[test]
    fn zero_is_one_number_and_what_is_none_comes_last() {
        let (minus, zero) = (ValueRef::Float(-0.0), ValueRef::Integer(0));
        assert_eq!(minus.order(ValueRef::Float(0.0)), Ordering::Equal);
        assert_eq!(
            (minus.order(zero), zero.order(minus)),
            (Ordering::Equal, Ordering::Equal)
        );
        for nan in [f64::NAN, -f64::NAN].map(ValueRef::Float) {
            assert_eq!(nan.order(zero), Ordering::Greater);
            assert_eq!(zero.order(nan), Ordering::Less);
            assert_eq!(ValueRef::Float(f64::INFINITY).order(nan), Ordering::Less);
            assert_eq!(nan.order(nan), Ordering::Equal);
        }
    }

    #[test]
    fn digits_compare_exactly_with_every_number() {
        let (small, large) = (
            ValueRef::Number("0.1"),
            ValueRef::Number("18446744073709551615"),
        );
        assert_eq!(small.order(ValueRef::Float(0.1)), Ordering::Less);
        assert_eq!(large.order(ValueRef::Integer(i64::MAX)), Ordering::Greater);
        assert_eq!(large.order(ValueRef::Float(f64::INFINITY)), Ordering::Less);
        assert_eq!(
            ValueRef::Integer(-3).order(ValueRef::Number("-3.00")),
            Ordering::Equal
        );
        assert_eq!(ValueRef::Float(f64::NAN).order(large), Ordering::Greater);
    }

    #[test]
    fn plain_text_reads_back_as_the_same_number() {
        assert_eq!(ValueRef::Float(0.1 + 0.2).plain(), "0.30000000000000004");
        assert_eq!(ValueRef::Float(1e300).plain(), "1e+300");
        assert_eq!(ValueRef::Bytes(&[0, 255]).plain(), "00ff");
    }
}
