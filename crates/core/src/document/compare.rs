//! The order of document values. [`order`] is the total order that BSON servers document for sorting; [`same_kind`] compares
//! only within a kind, as the flow language does; [`Key`] groups values that are equal.

use std::cmp::Ordering;
use std::hash::{Hash, Hasher};

use super::{Datum, Document};

/// Places of kinds in the order of mixed kinds.
pub fn rank(value: &Datum) -> u8 {
    match value {
        Datum::MinKey => 0,
        Datum::Undefined => 1,
        Datum::Null => 2,
        Datum::Int(_) | Datum::Long(_) | Datum::Double(_) | Datum::Decimal(_) => 3,
        Datum::Text(_) | Datum::Symbol(_) => 4,
        Datum::Object(_) => 5,
        Datum::List(_) => 6,
        Datum::Bytes(_) => 7,
        Datum::Id(_) => 8,
        Datum::Boolean(_) => 9,
        Datum::Date(_) => 10,
        Datum::Timestamp(..) => 11,
        Datum::Regex(_) => 12,
        Datum::Pointer(_) => 13,
        Datum::Code(_) => 14,
        Datum::ScopedCode(_) => 15,
        Datum::MaxKey => 16,
    }
}

/// The exact order of two numbers; `None` if one of them is not a number in the sense of IEEE 754.
#[inline]
pub fn numbers(a: &Datum, b: &Datum) -> Option<Ordering> {
    Some(match (a, b) {
        (Datum::Int(x), Datum::Int(y)) => x.cmp(y),
        (Datum::Double(x), Datum::Double(y)) => return x.partial_cmp(y),
        (Datum::Int(x), Datum::Double(y)) => return f64::from(*x).partial_cmp(y),
        (Datum::Double(x), Datum::Int(y)) => return x.partial_cmp(&f64::from(*y)),
        (Datum::Int(x), Datum::Long(y)) => i64::from(*x).cmp(y),
        (Datum::Long(x), Datum::Int(y)) => x.cmp(&i64::from(*y)),
        (Datum::Long(x), Datum::Long(y)) => x.cmp(y),
        (Datum::Long(x), Datum::Double(y)) => return long_to_double(*x, *y),
        (Datum::Double(x), Datum::Long(y)) => return Some(long_to_double(*y, *x)?.reverse()),
        (Datum::Decimal(x), Datum::Decimal(y)) => return x.order(*y),
        (Datum::Decimal(x), Datum::Double(y)) => return x.order_f64(*y),
        (Datum::Double(x), Datum::Decimal(y)) => return Some(y.order_f64(*x)?.reverse()),
        (Datum::Decimal(x), y) => return x.order(super::Decimal128::of_i64(y.as_i64()?)),
        (x, Datum::Decimal(y)) => return super::Decimal128::of_i64(x.as_i64()?).order(*y),
        _ => return None,
    })
}

fn long_to_double(a: i64, b: f64) -> Option<Ordering> {
    if b.is_nan() {
        return None;
    }
    if b >= 9_223_372_036_854_775_808.0 {
        return Some(Ordering::Less);
    }
    if b < -9_223_372_036_854_775_808.0 {
        return Some(Ordering::Greater);
    }
    let whole = b.trunc();
    Some(
        a.cmp(&(whole as i64))
            .then_with(|| 0.0_f64.total_cmp(&(b - whole + 0.0))),
    )
}

/// Whether a number is not one in the sense of IEEE 754.
pub fn is_nan(value: &Datum) -> bool {
    match value {
        Datum::Double(f) => f.is_nan(),
        Datum::Decimal(d) => d.is_nan(),
        _ => false,
    }
}

/// The total order over all values: by [`rank`]; what is not a number comes before all numbers, -0 equals 0, text goes by
/// its bytes, objects field by field (kind, name, value), lists element by element.
pub fn order(a: &Datum, b: &Datum) -> Ordering {
    match (a, b) {
        (Datum::Text(x), Datum::Text(y)) => x.as_bytes().cmp(y.as_bytes()),
        (Datum::Id(x), Datum::Id(y)) => x.cmp(y),
        (Datum::Date(x), Datum::Date(y)) => x.cmp(y),
        (Datum::Boolean(x), Datum::Boolean(y)) => x.cmp(y),
        (Datum::List(x), Datum::List(y)) => lists(x, y),
        (Datum::Object(x), Datum::Object(y)) => documents(x, y),
        (Datum::Timestamp(x, i), Datum::Timestamp(y, j)) => (x, i).cmp(&(y, j)),
        (Datum::Bytes(x), Datum::Bytes(y)) => (x.1.len(), x.0, &x.1).cmp(&(y.1.len(), y.0, &y.1)),
        (Datum::Regex(x), Datum::Regex(y)) => x.cmp(y),
        (Datum::Code(x), Datum::Code(y)) => x.cmp(y),
        (Datum::Pointer(x), Datum::Pointer(y)) => x.cmp(y),
        (Datum::ScopedCode(x), Datum::ScopedCode(y)) => {
            x.0.cmp(&y.0).then_with(|| documents(&x.1, &y.1))
        }
        (x, y) if x.is_number() && y.is_number() => {
            numbers(x, y).unwrap_or_else(|| is_nan(y).cmp(&is_nan(x)))
        }
        (x, y) => rank(x)
            .cmp(&rank(y))
            .then_with(|| x.as_text().cmp(&y.as_text())),
    }
}

fn lists(a: &[Datum], b: &[Datum]) -> Ordering {
    a.iter()
        .zip(b)
        .map(|(x, y)| order(x, y))
        .find(|found| found.is_ne())
        .unwrap_or_else(|| a.len().cmp(&b.len()))
}

/// The order of two documents.
pub fn documents(a: &Document, b: &Document) -> Ordering {
    a.fields
        .iter()
        .zip(&b.fields)
        .map(|((name, x), (other, y))| {
            rank(x)
                .cmp(&rank(y))
                .then_with(|| name.as_bytes().cmp(other.as_bytes()))
                .then_with(|| order(x, y))
        })
        .find(|found| found.is_ne())
        .unwrap_or_else(|| a.len().cmp(&b.len()))
}

/// The order of two values of one kind, where all number kinds are one. `None` for different kinds, for null, and where one is
/// not a number; two that are not numbers are equal.
#[inline]
pub fn same_kind(a: &Datum, b: &Datum) -> Option<Ordering> {
    if a.is_number() && b.is_number() {
        return numbers(a, b).or_else(|| (is_nan(a) && is_nan(b)).then_some(Ordering::Equal));
    }
    if a.is_null() || rank(a) != rank(b) {
        return None;
    }
    Some(order(a, b))
}

/// A value as the key of a group: equal numbers of different kinds are one key, and all that are not numbers are one.
#[derive(Debug, Clone)]
pub struct Key(pub Datum);

impl PartialEq for Key {
    fn eq(&self, other: &Self) -> bool {
        order(&self.0, &other.0).is_eq()
    }
}
impl Eq for Key {}
impl PartialOrd for Key {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}
impl Ord for Key {
    fn cmp(&self, other: &Self) -> Ordering {
        order(&self.0, &other.0)
    }
}
impl Hash for Key {
    fn hash<H: Hasher>(&self, state: &mut H) {
        hash(&self.0, state);
    }
}

/// Feeds a value to a hasher so that values equal in [`order`] hash alike.
pub fn hash<H: Hasher>(value: &Datum, state: &mut H) {
    rank(value).hash(state);
    match value {
        Datum::Int(i) => f64::from(*i).to_bits().hash(state),
        Datum::Long(_) | Datum::Double(_) | Datum::Decimal(_) => {
            // Numbers that are equal have the same nearest double.
            let f = value.as_f64().unwrap_or_default();
            let f = if f.is_nan() { f64::NAN } else { f + 0.0 };
            let f = if f == 0.0 { 0.0 } else { f };
            f.to_bits().hash(state);
        }
        Datum::Text(text) => text.as_bytes().hash(state),
        Datum::Symbol(text) => text.as_bytes().hash(state),
        Datum::Object(document) => {
            for (name, value) in &document.fields {
                name.as_bytes().hash(state);
                hash(value, state);
            }
        }
        Datum::List(list) => {
            list.len().hash(state);
            list.iter().for_each(|value| hash(value, state));
        }
        Datum::Bytes(both) => both.hash(state),
        Datum::Id(id) => id.hash(state),
        Datum::Boolean(truth) => truth.hash(state),
        Datum::Date(date) => date.hash(state),
        Datum::Timestamp(time, increment) => (time, increment).hash(state),
        Datum::Regex(both) => both.hash(state),
        Datum::Code(text) => text.hash(state),
        Datum::ScopedCode(both) => both.0.hash(state),
        Datum::Pointer(both) => both.hash(state),
        Datum::Null | Datum::Undefined | Datum::MinKey | Datum::MaxKey => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document;

    #[test]
    fn mixed_kinds_stand_in_the_documented_order() {
        let list: Vec<Datum> = vec![
            Datum::MinKey,
            Datum::Null,
            Datum::Double(f64::NAN),
            Datum::Double(f64::NEG_INFINITY),
            Datum::Long(i64::MIN),
            Datum::Int(-1),
            Datum::Double(-0.0),
            Datum::Decimal("0.1".parse().unwrap_or(document::Decimal128::NAN)),
            Datum::Double(0.1),
            Datum::Long(i64::MAX - 1),
            Datum::Long(i64::MAX),
            Datum::Double(i64::MAX as f64),
            "".into(),
            "Z".into(),
            "a".into(),
            "ab".into(),
            Document::new().into(),
            document! { "a": 1 }.into(),
            document! { "b": 1 }.into(),
            document! { "a": "x" }.into(),
            Datum::List(vec![]),
            vec![1].into(),
            vec![1, 2].into(),
            Datum::Bytes(Box::new((0, vec![9]))),
            Datum::Bytes(Box::new((0, vec![1, 1]))),
            Datum::Id([0; 12]),
            false.into(),
            true.into(),
            Datum::Date(-5),
            Datum::Date(5),
            Datum::Timestamp(1, 2),
            Datum::Regex(Box::new(("a".into(), String::new()))),
            Datum::MaxKey,
        ];
        for (at, a) in list.iter().enumerate() {
            for (to, b) in list.iter().enumerate() {
                assert_eq!(order(a, b), at.cmp(&to), "{a:?} {b:?}");
            }
        }
    }

    #[test]
    fn equal_numbers_are_one_key_and_kinds_never_mix() {
        use std::collections::HashSet;
        let dec = |text: &str| Datum::Decimal(text.parse().unwrap_or(document::Decimal128::NAN));
        let ones = [
            Datum::Int(1),
            Datum::Long(1),
            Datum::Double(1.0),
            dec("1.00"),
        ];
        assert_eq!(ones.map(Key).into_iter().collect::<HashSet<_>>().len(), 1);
        let zeros = [Datum::Int(0), Datum::Double(-0.0), dec("-0")];
        assert_eq!(zeros.map(Key).into_iter().collect::<HashSet<_>>().len(), 1);
        assert_eq!(same_kind(&"1".into(), &1.into()), None);
        assert_eq!(same_kind(&Datum::Null, &Datum::Null), None);
        let nan = Datum::Double(f64::NAN);
        assert_eq!(same_kind(&nan, &dec("NaN")), Some(Ordering::Equal));
        assert_eq!(same_kind(&nan, &1.into()), None);
    }
}
