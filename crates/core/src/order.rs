//! Putting the rows of a result in order by one column, and choosing rows, without touching the
//! result: both give a list of row numbers. Memory grows with the number of rows, not their width;
//! texts are kept up to a limit and read again from the result past it.

use std::cmp::Ordering;
use std::io;

use crate::batch::Row;
use crate::decimal::{self, is_decimal};
use crate::document::bson;
use crate::document::decimal128::{Decimal128, Parts};
use crate::result::ResultSet;
use crate::value::ValueRef;

/// Bytes of text that ordering keeps at hand.
const KEPT_TEXT: usize = 96 * 1024 * 1024;

/// Rows that are sorted between two looks at whether to stop.
const CHUNK: usize = 32 * 1024;

#[derive(Clone, Copy)]
struct Key {
    rank: u8,
    /// The number's order, or the first eight bytes of a text.
    prefix: u64,
    tail: Tail,
    row: u32,
}

/// What the prefix leaves open.
#[derive(Clone, Copy)]
enum Tail {
    /// Nothing.
    None,
    /// Nothing among digits of this kind: so few that no two numbers have one float.
    Few,
    /// The last four bytes of an identifier.
    Rest(u32),
    /// The rest of a text, or all digits of a number in an order of bytes; where it is kept, and its length.
    Kept(u32, u32),
    /// It has to be read again.
    InResult,
}

/// Maps a float to an integer with the same order.
fn float_order(number: f64) -> u64 {
    if number.is_nan() {
        return u64::MAX;
    }
    let bits = (number + 0.0).to_bits();
    if bits >> 63 == 1 {
        !bits
    } else {
        bits | 1 << 63
    }
}

/// Row numbers of `result` in the order of `column`, equal rows in their first order; `rows` are the
/// rows to take (all when `None`). `stop` is asked now and then and ends the work early.
///
/// # Errors
/// If the spill file cannot be read, there are more than 2³² rows, or `stop` said so
/// ([`io::ErrorKind::Interrupted`]).
pub fn order_rows(
    result: &ResultSet,
    column: usize,
    descending: bool,
    rows: Option<&[u32]>,
    stop: &dyn Fn() -> bool,
) -> io::Result<Vec<u32>> {
    let mut kept: Vec<u8> = Vec::new();
    let mut keys = Vec::new();
    each_row(result, rows, stop, &mut |number, row| {
        let value = row.get(column);
        let mut tail = Tail::None;
        let prefix = match value {
            ValueRef::Integer(i) => {
                // Integers that a float cannot hold are compared again, exactly.
                if i.unsigned_abs() > 1 << 53 {
                    tail = Tail::InResult;
                }
                float_order(i as f64)
            }
            ValueRef::Float(f) => {
                if f.abs() > 9e15 {
                    tail = Tail::InResult;
                }
                float_order(f)
            }
            ValueRef::Number(digits) => number_prefix(digits, &mut kept, &mut tail),
            ValueRef::Boolean(b) => u64::from(b),
            ValueRef::Null | ValueRef::Missing => 0,
            ValueRef::Bson(bson::DATE, bytes) => {
                let date = bytes.try_into().map_or(0, i64::from_le_bytes);
                (date as u64) ^ (1 << 63)
            }
            ValueRef::Bson(bson::ID, bytes) => match bytes.split_first_chunk::<8>() {
                Some((first, rest)) => {
                    tail = Tail::Rest(rest.try_into().map_or(0, u32::from_be_bytes));
                    u64::from_be_bytes(*first)
                }
                None => 0,
            },
            ValueRef::Bson(bson::DECIMAL, bytes) if short_decimal(bytes).is_some() => {
                tail = Tail::Few;
                short_decimal(bytes).map_or(0, float_order)
            }
            ValueRef::Bson(kind, _) => {
                let digits = (kind == bson::DECIMAL).then(|| value.plain());
                match digits.filter(|digits| is_decimal(digits.as_bytes())) {
                    Some(digits) => number_prefix(&digits, &mut kept, &mut tail),
                    None => {
                        tail = Tail::InResult;
                        value.as_number().map_or(0, float_order)
                    }
                }
            }
            ValueRef::Text(t) => text_prefix(t.as_bytes(), &mut kept, &mut tail),
            ValueRef::RawText(b) | ValueRef::Bytes(b) => text_prefix(b, &mut kept, &mut tail),
        };
        keys.push(Key {
            rank: value.rank(),
            prefix,
            tail,
            row: number,
        });
        true
    })?;
    let mut failed = None;
    let mut order = |a: &Key, b: &Key| {
        let tails = || match (a.tail, b.tail) {
            (Tail::None, Tail::None) | (Tail::Few, Tail::Few) => Ordering::Equal,
            (Tail::Rest(a), Tail::Rest(b)) => a.cmp(&b),
            (Tail::Kept(..), Tail::Kept(..)) => of_kept(&kept, a.tail).cmp(of_kept(&kept, b.tail)),
            // A text of up to eight bytes against a longer one with the same start.
            (Tail::None, Tail::Kept(..)) if a.rank != NUMBER => Ordering::Less,
            (Tail::Kept(..), Tail::None) if a.rank != NUMBER => Ordering::Greater,
            _ => match (result.locate(a.row.into()), result.locate(b.row.into())) {
                (Ok((x, i)), Ok((y, j))) => x.row(i).get(column).order(y.row(j).get(column)),
                (Err(e), _) | (_, Err(e)) => {
                    failed.get_or_insert(e);
                    Ordering::Equal
                }
            },
        };
        let order = a
            .rank
            .cmp(&b.rank)
            .then(a.prefix.cmp(&b.prefix))
            .then_with(tails);
        let order = if descending { order.reverse() } else { order };
        order.then(a.row.cmp(&b.row))
    };
    sort(&mut keys, &mut order, stop)?;
    match failed {
        Some(error) => Err(error),
        None => Ok(keys.iter().map(|key| key.row).collect()),
    }
}

/// The rank of numbers.
const NUMBER: u8 = 1;

fn of_kept(kept: &[u8], tail: Tail) -> &[u8] {
    match tail {
        Tail::Kept(start, length) => &kept[start as usize..(start + length) as usize],
        _ => &[],
    }
}

/// Sorts, and looks now and then whether to stop: chunks first, which are then merged two by two.
fn sort(
    keys: &mut Vec<Key>,
    order: &mut dyn FnMut(&Key, &Key) -> Ordering,
    stop: &dyn Fn() -> bool,
) -> io::Result<()> {
    let stopped = || match stop() {
        true => Err(io::Error::from(io::ErrorKind::Interrupted)),
        false => Ok(()),
    };
    for chunk in keys.chunks_mut(CHUNK) {
        stopped()?;
        chunk.sort_unstable_by(&mut *order);
    }
    let mut width = CHUNK;
    let mut merged = Vec::new();
    while width < keys.len() {
        merged.clear();
        merged.reserve(keys.len());
        for pair in keys.chunks(2 * width) {
            let (mut left, mut right) = pair.split_at(width.min(pair.len()));
            while let (Some(a), Some(b)) = (left.first(), right.first()) {
                if merged.len().is_multiple_of(CHUNK) {
                    stopped()?;
                }
                if order(b, a) == Ordering::Less {
                    merged.push(*b);
                    right = &right[1..];
                } else {
                    merged.push(*a);
                    left = &left[1..];
                }
            }
            merged.extend_from_slice(left);
            merged.extend_from_slice(right);
        }
        std::mem::swap(keys, &mut merged);
        width *= 2;
    }
    Ok(())
}

/// The float nearest to a number in digits, and what that leaves open.
fn number_prefix(digits: &str, kept: &mut Vec<u8>, tail: &mut Tail) -> u64 {
    // Fifteen digits a float tells apart.
    *tail = if digits.len() <= 15 {
        Tail::Few
    } else {
        keep(kept, |kept| decimal::write_ordered(digits, kept))
    };
    float_order(digits.parse().unwrap_or_default())
}

/// The float nearest to a decimal of at most fifteen digits, if it is one: both sides of the one division that
/// makes it are exact.
fn short_decimal(bytes: &[u8]) -> Option<f64> {
    let Parts::Finite(minus, digits, exponent) = Decimal128(bytes.try_into().ok()?).parts() else {
        return None;
    };
    if digits >= 10_u128.pow(15) || !(-15..=0).contains(&exponent) {
        return None;
    }
    let number = digits as f64 / 10_f64.powi(-exponent);
    Some(if minus { -number } else { number })
}

/// Keeps some bytes at hand, unless there are too many.
fn keep(kept: &mut Vec<u8>, write: impl FnOnce(&mut Vec<u8>)) -> Tail {
    let start = kept.len();
    write(kept);
    if kept.len() > KEPT_TEXT {
        kept.truncate(start);
        return Tail::InResult;
    }
    Tail::Kept(start as u32, (kept.len() - start) as u32)
}

fn text_prefix(bytes: &[u8], kept: &mut Vec<u8>, tail: &mut Tail) -> u64 {
    let mut eight = [0; 8];
    let head = bytes.len().min(8);
    eight[..head].copy_from_slice(&bytes[..head]);
    let ends_in_nul = bytes.get(..8).unwrap_or(bytes).contains(&0);
    if ends_in_nul {
        *tail = Tail::InResult;
    } else if bytes.len() > 8 {
        *tail = keep(kept, |kept| kept.extend_from_slice(&bytes[8..]));
    }
    u64::from_be_bytes(eight)
}

/// Row numbers for which `keep` answers true, out of `rows` (all when `None`).
///
/// # Errors
/// As [`order_rows`].
pub fn choose_rows(
    result: &ResultSet,
    rows: Option<&[u32]>,
    stop: &dyn Fn() -> bool,
    keep: &mut dyn FnMut(Row<'_>) -> bool,
) -> io::Result<Vec<u32>> {
    let mut chosen = Vec::new();
    each_row(result, rows, stop, &mut |number, row| {
        if keep(row) {
            chosen.push(number);
        }
        true
    })?;
    Ok(chosen)
}

/// Hands every row of `rows` (all when `None`) to `visit` with its number, until it answers false.
///
/// # Errors
/// As [`order_rows`].
pub fn each_row(
    result: &ResultSet,
    rows: Option<&[u32]>,
    stop: &dyn Fn() -> bool,
    visit: &mut dyn FnMut(u32, Row<'_>) -> bool,
) -> io::Result<()> {
    if result.len() > u64::from(u32::MAX) {
        return Err(io::Error::other("more than 4 294 967 295 rows"));
    }
    let stopped = || io::Error::from(io::ErrorKind::Interrupted);
    if let Some(rows) = rows {
        for (at, &number) in rows.iter().enumerate() {
            if at % 4_096 == 0 && stop() {
                return Err(stopped());
            }
            let (batch, within) = result.locate(number.into())?;
            if !visit(number, batch.row(within)) {
                return Ok(());
            }
        }
        return Ok(());
    }
    each_row_of(result, 0..result.batches(), stop, visit)
}

/// The same of every row of some batches.
///
/// # Errors
/// As [`order_rows`].
pub(crate) fn each_row_of(
    result: &ResultSet,
    batches: std::ops::Range<usize>,
    stop: &dyn Fn() -> bool,
    visit: &mut dyn FnMut(u32, Row<'_>) -> bool,
) -> io::Result<()> {
    for at in batches {
        if stop() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let (first, batch) = result.batch(at)?;
        for (within, row) in batch.rows().enumerate() {
            if !visit(first as u32 + within as u32, row) {
                return Ok(());
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::column::Column;
    use crate::value::Value;

    #[test]
    fn the_order_agrees_with_the_order_of_values() {
        let mut rows: Vec<Vec<Value>> = vec![
            vec!["Marsh Harrier".into()],
            vec!["Marsh Ha".into()],
            vec!["Marsh Harbour".into()],
            vec![Value::Null],
            vec![Value::Integer(i64::MAX)],
            vec![Value::Integer(i64::MAX - 1)],
            vec![Value::Float(i64::MAX as f64)],
            vec![Value::Float(-0.5)],
            vec![Value::Bytes(vec![0])],
            vec![Value::Bytes(vec![0, 0])],
            vec![Value::Boolean(true)],
            vec!["".into()],
            vec!["a\0b".into()],
            vec!["a".into()],
        ];
        let result = ResultSet::of_rows(vec![Column::named("v")], rows.clone());
        let up = order_rows(&result, 0, false, None, &|| false).expect("order");
        let got: Vec<_> = up.iter().map(|r| rows[*r as usize].clone()).collect();
        let mut down = order_rows(&result, 0, true, None, &|| false).expect("order");
        down.reverse();
        assert_eq!(up, down, "no two values here are equal");
        rows.sort_by(|a, b| a[0].as_ref().order(b[0].as_ref()));
        assert_eq!(got, rows);
    }

    /// Digits, identifiers and floats among each other are ordered as their values are, also where their first
    /// digits, bytes or nearest floats are the same, in more chunks than one and with a spill file.
    #[test]
    fn digits_and_identifiers_are_ordered_exactly() {
        let number = |text: &str| Value::Number(text.into());
        let id = |last: u8| {
            let mut bytes = [7, 0, 0, 7, 7, 7, 7, 7, 0, 0, 0, 0];
            bytes[11] = last;
            Value::Bson(bson::ID, bytes.to_vec())
        };
        let decimal = |text: &str| {
            let decimal: Decimal128 = text.parse().expect("a number");
            Value::Bson(bson::DECIMAL, decimal.0.to_vec())
        };
        let few = [
            number("-12.5"),
            number("-12.50000000000000001"),
            number("0.1"),
            Value::Float(0.1),
            number("0.10000000000000000"),
            number("0.10000000000000000001"),
            number("9007199254740993"),
            number("9007199254740992.5"),
            Value::Integer(9_007_199_254_740_992),
            number("18446744073709551615"),
            number("1.0"),
            Value::Integer(1),
            id(1),
            id(9),
            id(3),
            decimal("-12.50"),
            decimal("0.1"),
            decimal("0.1000000000000000000001"),
            decimal("1E+3"),
            decimal("123456789012345"),
            decimal("0.000000000000001"),
            decimal("-0"),
        ];
        let count = CHUNK * 2 + 77;
        let rows: Vec<Vec<Value>> = (0..count)
            .map(|at| vec![few[at * 7 % few.len()].clone()])
            .collect();
        let mut wanted: Vec<u32> = (0..count as u32).collect();
        wanted.sort_by(|a, b| {
            rows[*a as usize][0]
                .as_ref()
                .order(rows[*b as usize][0].as_ref())
        });
        let result = ResultSet::of_rows(vec![Column::named("v")], rows);
        let got = order_rows(&result, 0, false, None, &|| false).expect("order");
        assert_eq!(got, wanted);
    }

    #[test]
    fn a_stop_ends_the_work_also_while_it_sorts() {
        let rows = (0..CHUNK * 8).map(|n| vec![Value::Integer((n * 7919 % 10_007) as i64)]);
        let result = ResultSet::of_rows(vec![Column::named("v")], rows.collect());
        let asked = std::cell::Cell::new(0);
        for late in [0, result.batches() + 2, result.batches() + 12] {
            asked.set(0);
            let stop = || asked.replace(asked.get() + 1) >= late;
            let error = order_rows(&result, 0, false, None, &stop).expect_err("stops");
            assert_eq!(error.kind(), io::ErrorKind::Interrupted);
        }
    }
}
