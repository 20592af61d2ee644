//! Putting the rows of a result in order by one column, and choosing rows, without touching the
//! result: both give a list of row numbers. Memory grows with the number of rows, not their width;
//! texts are kept up to a limit and read again from the result past it.

use std::cmp::Ordering;
use std::io;

use crate::batch::Row;
use crate::document::bson;
use crate::result::ResultSet;
use crate::value::ValueRef;

/// Bytes of text that ordering keeps at hand.
const KEPT_TEXT: usize = 96 * 1024 * 1024;

struct Key {
    rank: u8,
    /// The number's order, or the first eight bytes of a text.
    prefix: u64,
    /// Where the rest of a text is kept, if it is longer than the prefix.
    tail: Tail,
    row: u32,
}

#[derive(Clone, Copy)]
enum Tail {
    None,
    Kept(usize, usize),
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
            ValueRef::Number(_) => {
                tail = Tail::InResult;
                float_order(value.as_number().unwrap_or_default())
            }
            ValueRef::Boolean(b) => u64::from(b),
            ValueRef::Null | ValueRef::Missing => 0,
            ValueRef::Bson(bson::DATE, bytes) => {
                let date = bytes.try_into().map_or(0, i64::from_le_bytes);
                (date as u64) ^ (1 << 63)
            }
            ValueRef::Bson(..) => {
                tail = Tail::InResult;
                value.as_number().map_or(0, float_order)
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
    let failed = std::cell::RefCell::new(None);
    keys.sort_unstable_by(|a, b| {
        let order = a
            .rank
            .cmp(&b.rank)
            .then(a.prefix.cmp(&b.prefix))
            .then_with(|| match (a.tail, b.tail) {
                (Tail::None, Tail::None) => Ordering::Equal,
                (Tail::Kept(a, an), Tail::Kept(b, bn)) => kept[a..a + an].cmp(&kept[b..b + bn]),
                // A text of up to eight bytes against a longer one with the same start.
                (Tail::None, Tail::Kept(..)) => Ordering::Less,
                (Tail::Kept(..), Tail::None) => Ordering::Greater,
                _ => match (result.locate(a.row.into()), result.locate(b.row.into())) {
                    (Ok((x, i)), Ok((y, j))) => x.row(i).get(column).order(y.row(j).get(column)),
                    (Err(e), _) | (_, Err(e)) => {
                        failed.borrow_mut().get_or_insert(e);
                        Ordering::Equal
                    }
                },
            });
        let order = if descending { order.reverse() } else { order };
        order.then(a.row.cmp(&b.row))
    });
    match failed.into_inner() {
        Some(error) => Err(error),
        None => Ok(keys.iter().map(|key| key.row).collect()),
    }
}

fn text_prefix(bytes: &[u8], kept: &mut Vec<u8>, tail: &mut Tail) -> u64 {
    let mut eight = [0; 8];
    let head = bytes.len().min(8);
    eight[..head].copy_from_slice(&bytes[..head]);
    let ends_in_nul = bytes.get(..8).unwrap_or(bytes).contains(&0);
    if ends_in_nul {
        *tail = Tail::InResult;
    } else if bytes.len() > 8 {
        *tail = if kept.len() + bytes.len() <= KEPT_TEXT {
            let start = kept.len();
            kept.extend_from_slice(&bytes[8..]);
            Tail::Kept(start, bytes.len() - 8)
        } else {
            Tail::InResult
        };
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
    for at in 0..result.batches() {
        if stop() {
            return Err(stopped());
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
    use crate::result::Column;
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

    #[test]
    fn a_stop_ends_the_work() {
        let result = ResultSet::of_rows(vec![Column::named("v")], vec![vec![Value::Null]]);
        let error = order_rows(&result, 0, false, None, &|| true).expect_err("stops");
        assert_eq!(error.kind(), io::ErrorKind::Interrupted);
    }
}
