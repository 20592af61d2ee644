//! Comparing two results: which rows one has and the other has not, and which differ. Rows are told apart by columns that
//! make a key, or by their place. Results that are in the order of their key are gone through side by side. Others are read
//! once each, row by row; memory grows with the number of rows (40 bytes each) and not with their width; only rows that
//! differ are read again.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::hash::Hasher;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering as AtomicOrder};
use std::time::Duration;

use foldhash::fast::{FixedState, FoldHasher};

use crate::batch::{Row, RowBatch};
use crate::column::{Column, column_labels};
use crate::decimal;
use crate::order::each_row;
use crate::result::{Budget, ResultSet};
use crate::value::ValueRef;

/// The columns of two results that belong together.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pairing {
    /// Columns of one name in both, by number before and after, in the order of those after.
    pub both: Vec<(usize, usize)>,
    /// Columns that only the first has.
    pub only_before: Vec<usize>,
    /// Columns that only the second has.
    pub only_after: Vec<usize>,
}

/// Finds the columns that belong together: those of one label, else of one label without regard to ASCII case.
pub fn pair(before: &[Column], after: &[Column]) -> Pairing {
    let (old, new) = (column_labels(before), column_labels(after));
    let mut taken = vec![false; old.len()];
    let mut both = Vec::new();
    let mut only_after = Vec::new();
    for (at, label) in new.iter().enumerate() {
        let mut of = (0..old.len()).filter(|known| !taken[*known]);
        let found = of.clone().find(|known| old[*known] == *label);
        match found.or_else(|| of.find(|known| old[*known].eq_ignore_ascii_case(label))) {
            Some(known) => {
                taken[known] = true;
                both.push((known, at));
            }
            None => only_after.push(at),
        }
    }
    Pairing {
        both,
        only_before: (0..old.len()).filter(|at| !taken[*at]).collect(),
        only_after,
    }
}

/// How rows are told apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum By {
    /// By the values of these columns, which are numbers of [`Pairing::both`]. Of rows with one key the first belongs to
    /// the first, the second to the second, and so on.
    Key(Vec<usize>),
    /// By their place.
    Place,
}

/// A row that is not the same in both; rows are counted from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Difference {
    /// Only the second has it.
    Added(u32),
    /// Only the first has it.
    Removed(u32),
    /// Both have it, with other values.
    Changed(u32, u32),
}

/// What a comparison found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Comparison {
    /// The rows that differ, in the order of the second result, removed ones where they stood in the first.
    pub rows: Vec<Difference>,
    /// Rows that only the second has.
    pub added: u64,
    /// Rows that only the first has.
    pub removed: u64,
    /// Rows that differ.
    pub changed: u64,
    /// Rows that are the same.
    pub same: u64,
    /// Rows, of both, whose key stood in an earlier row of the same result.
    pub repeated: u64,
    /// For each pair of columns, in how many rows the values differ.
    pub differing: Vec<u64>,
    /// For each pair of columns the kinds of its values before and after, where they have none in common.
    pub kinds: Vec<Option<(&'static str, &'static str)>>,
}

impl Comparison {
    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }
}

/// Kinds of values that were met, as bits.
#[derive(Clone, Copy, Default)]
struct Kinds(u8);

const KINDS: [&str; 7] = [
    "numbers",
    "texts",
    "bytes",
    "booleans",
    "dates",
    "identifiers",
    "values of other kinds",
];

impl Kinds {
    fn add(&mut self, value: ValueRef<'_>) {
        let bit = match value.rank() {
            0 => return,
            1 => 0,
            2 => 1,
            5 => 2,
            7 => 3,
            8 => 4,
            6 => 5,
            _ => 6,
        };
        self.0 |= 1 << bit;
    }

    fn word(self) -> &'static str {
        match self.0.count_ones() {
            1 => KINDS[self.0.trailing_zeros() as usize % KINDS.len()],
            _ => "values of several kinds",
        }
    }
}

/// Writes bytes that are the same for values that count as the same: numbers by their value whatever their kind, other
/// values by what is read of them. Null, and what is not there, are the same; an empty text is something else.
fn write_same(value: ValueRef<'_>, out: &mut Vec<u8>) {
    let number = |digits: &str, out: &mut Vec<u8>| {
        out.push(2);
        decimal::write_ordered(digits, out);
    };
    match value {
        ValueRef::Null | ValueRef::Missing => return out.push(0),
        ValueRef::Integer(whole) => {
            out.push(1);
            return out.extend_from_slice(&whole.to_le_bytes());
        }
        ValueRef::Float(real) if real.trunc() == real && real.abs() < 9e15 => {
            return write_same(ValueRef::Integer(real as i64), out);
        }
        _ => {}
    }
    if let ValueRef::Text(text) = value
        && !text.starts_with(|first: char| first.is_ascii_digit() || first == '-')
    {
        out.push(3);
        out.extend_from_slice(&(text.len() as u32).to_le_bytes());
        return out.extend_from_slice(text.as_bytes());
    }
    let at = out.len();
    out.extend_from_slice(&[3; 5]);
    value.write_plain(out);
    let text = std::str::from_utf8(&out[at + 5..]).unwrap_or_default();
    let digits = !text.is_empty() && text.len() < 400 && decimal::is_decimal(text.as_bytes());
    let short = match digits {
        true => decimal::shortest(text),
        false => String::new(),
    };
    // A text is a number where it is written as one would be: 7 is, 007 is a text of its own.
    if digits && (value.rank() == 1 || (value.rank() == 2 && short == text)) {
        out.truncate(at);
        match short.parse::<i64>() {
            Ok(whole) if whole.to_string() == short => write_same(ValueRef::Integer(whole), out),
            _ => number(&short, out),
        }
        return;
    }
    let length = (out.len() - at - 5) as u32;
    out[at + 1..at + 5].copy_from_slice(&length.to_le_bytes());
}

/// Whether two values count as the same; numbers may be as far apart as `within`.
pub fn same(before: ValueRef<'_>, after: ValueRef<'_>, within: f64) -> bool {
    if within > 0.0
        && let (Some(a), Some(b)) = (before.as_number(), after.as_number())
        && (a - b).abs() <= within
    {
        return true;
    }
    match (before, after) {
        (ValueRef::Integer(a), ValueRef::Integer(b)) => return a == b,
        (ValueRef::Text(a), ValueRef::Text(b)) if a == b => return true,
        _ => {}
    }
    let (mut a, mut b) = (Vec::new(), Vec::new());
    write_same(before, &mut a);
    write_same(after, &mut b);
    a == b
}

/// A row of one side: its key, its content, its number.
#[derive(Clone, Copy)]
struct Print {
    key: u128,
    content: u64,
    row: u32,
}

fn hash(bytes: &[u8], seed: u64) -> u64 {
    let mut hasher: FoldHasher<'_> =
        std::hash::BuildHasher::build_hasher(&FixedState::with_seed(seed));
    hasher.write(bytes);
    hasher.finish()
}

struct Side {
    prints: Vec<Print>,
    kinds: Vec<Kinds>,
    repeated: u64,
}

/// Reads a side: what tells its rows apart, in the order of keys.
fn side(
    set: &ResultSet,
    columns: &[usize],
    key: &[usize],
    stop: &dyn Fn() -> bool,
) -> io::Result<Side> {
    let mut kinds = vec![Kinds::default(); columns.len()];
    let mut prints = Vec::with_capacity(set.len() as usize);
    let mut bytes = Vec::new();
    let mut ends = vec![0; columns.len()];
    let mut key_bytes = Vec::new();
    let in_front = key.iter().copied().eq(0..key.len());
    each_row(set, None, stop, &mut |number, row| {
        bytes.clear();
        let values: Vec<ValueRef<'_>> = row.values().collect();
        for (at, column) in columns.iter().enumerate() {
            let value = values.get(*column).copied().unwrap_or(ValueRef::Null);
            kinds[at].add(value);
            write_same(value, &mut bytes);
            ends[at] = bytes.len();
        }
        let of_key = match in_front {
            true => &bytes[..key.last().map_or(0, |last| ends[*last])],
            false => {
                key_bytes.clear();
                for part in key {
                    let from = part.checked_sub(1).map_or(0, |before| ends[before]);
                    key_bytes.extend_from_slice(&bytes[from..ends[*part]]);
                }
                &key_bytes
            }
        };
        let key = u128::from(hash(of_key, 1)) << 64 | u128::from(hash(of_key, 2));
        prints.push(Print {
            key,
            content: hash(&bytes, 3),
            row: number,
        });
        true
    })?;
    prints.sort_unstable_by_key(|print| (print.key, print.row));
    let repeats = prints.windows(2).filter(|two| two[0].key == two[1].key);
    Ok(Side {
        repeated: repeats.count() as u64,
        prints,
        kinds,
    })
}

/// Reads both sides, at the same time.
fn sides(
    (before, old): (&ResultSet, &[usize]),
    (after, new): (&ResultSet, &[usize]),
    key: &[usize],
    stop: &dyn Fn() -> bool,
) -> io::Result<(Side, Side)> {
    let halt = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let second = scope.spawn(|| side(after, new, key, &|| halt.load(AtomicOrder::Relaxed)));
        let first = side(before, old, key, stop);
        while !second.is_finished() {
            if first.is_err() || stop() {
                halt.store(true, AtomicOrder::Relaxed);
            }
            std::thread::sleep(Duration::from_millis(1));
        }
        let second = second.join();
        let second = second.unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        Ok((first?, second?))
    })
}

/// Whether no two rows have the same values in these columns, and none of them is null. A result without rows has no key.
///
/// # Errors
/// If rows cannot be read, or `stop` said so ([`io::ErrorKind::Interrupted`]).
pub fn tells_apart(
    set: &ResultSet,
    columns: &[usize],
    stop: &dyn Fn() -> bool,
) -> io::Result<bool> {
    let mut seen = std::collections::HashSet::with_capacity(set.len() as usize);
    let mut fine = !set.is_empty() && !columns.is_empty();
    let mut bytes = Vec::new();
    each_row(set, None, stop, &mut |_, row| {
        bytes.clear();
        for column in columns {
            let value = row.get(*column);
            fine &= !value.is_null();
            write_same(value, &mut bytes);
        }
        let key = u128::from(hash(&bytes, 1)) << 64 | u128::from(hash(&bytes, 2));
        fine = fine && seen.insert(key);
        fine
    })?;
    Ok(fine)
}

/// Goes through a result row by row.
struct Cursor<'a> {
    set: &'a ResultSet,
    /// The batch at hand, its number, and the row within it.
    batch: Option<std::sync::Arc<RowBatch>>,
    number: usize,
    within: usize,
    /// The row's number in the result.
    row: u32,
    /// The last row of the batch before.
    before: Option<(std::sync::Arc<RowBatch>, usize)>,
}

impl<'a> Cursor<'a> {
    fn new(set: &'a ResultSet) -> io::Result<Self> {
        let mut cursor = Cursor {
            set,
            batch: None,
            number: 0,
            within: 0,
            row: 0,
            before: None,
        };
        cursor.load()?;
        Ok(cursor)
    }

    /// Makes the batch at hand one that has a row.
    fn load(&mut self) -> io::Result<()> {
        while self
            .batch
            .as_ref()
            .is_none_or(|batch| self.within >= batch.len())
        {
            if let Some(batch) = self.batch.take()
                && !batch.is_empty()
            {
                let last = batch.len() - 1;
                self.before = Some((batch, last));
            }
            if self.number >= self.set.batches() {
                return Ok(());
            }
            self.batch = Some(self.set.batch(self.number)?.1);
            self.number += 1;
            self.within = 0;
        }
        Ok(())
    }

    fn here(&self) -> Option<Row<'_>> {
        self.batch.as_ref().map(|batch| batch.row(self.within))
    }

    /// The row before this one.
    fn earlier(&self) -> Option<Row<'_>> {
        match (self.within, &self.batch, &self.before) {
            (1.., Some(batch), _) => Some(batch.row(self.within - 1)),
            (_, _, Some((batch, at))) => Some(batch.row(*at)),
            _ => None,
        }
    }

    fn next(&mut self) -> io::Result<()> {
        self.within += 1;
        self.row += 1;
        self.load()
    }
}

/// How two rows stand to each other by their keys; nothing where a key is null or of kinds that have no order together.
fn key_order(a: Row<'_>, b: Row<'_>, key: &[(usize, usize)]) -> Option<Ordering> {
    for (x, y) in key {
        let (x, y) = (a.get(*x), b.get(*y));
        if x.is_null() || y.is_null() || x.rank() != y.rank() {
            return None;
        }
        match x.order(y) {
            Ordering::Equal => {}
            other => return Some(other),
        }
    }
    Some(Ordering::Equal)
}

/// Compares results that are both in the order of their key, side by side and without keeping anything; nothing where they
/// are not.
fn merge(
    before: &ResultSet,
    after: &ResultSet,
    pairing: &Pairing,
    key: &[usize],
    within: f64,
    stop: &dyn Fn() -> bool,
) -> io::Result<Option<Comparison>> {
    let both: Vec<(usize, usize)> = key.iter().map(|at| pairing.both[*at]).collect();
    let (old_key, new_key): (Vec<_>, Vec<_>) =
        both.iter().map(|(a, b)| ((*a, *a), (*b, *b))).unzip();
    // Where the columns are the same in the same places, equal bytes are equal rows.
    let aligned = pairing.only_before.is_empty()
        && pairing.only_after.is_empty()
        && pairing
            .both
            .iter()
            .enumerate()
            .all(|(at, both)| *both == (at, at))
        && before.holds_documents() == after.holds_documents();
    let mut found = Comparison {
        differing: vec![0; pairing.both.len()],
        ..Comparison::default()
    };
    let mut kinds = vec![(Kinds::default(), Kinds::default()); pairing.both.len()];
    let (mut a, mut b) = (Cursor::new(before)?, Cursor::new(after)?);
    // Whether the row at hand was looked at against the one before it.
    let (mut a_fresh, mut b_fresh) = (true, true);
    // Whether the rows before these were the same byte by byte.
    let mut twins = false;
    let mut alike = 0_u64;
    let mut steps = 0_u64;
    loop {
        steps += 1;
        if steps.is_multiple_of(8_192) && stop() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let rises =
            |cursor: &Cursor<'_>, key: &[(usize, usize)]| match (cursor.earlier(), cursor.here()) {
                (Some(before), Some(here)) => key_order(before, here, key) == Some(Ordering::Less),
                _ => true,
            };
        let same_bytes = match (a.here(), b.here()) {
            (Some(x), Some(y)) => aligned && x.is_same_as(&y),
            _ => false,
        };
        // What is the same as a row that rises, behind the same row, rises too.
        let follows = twins && same_bytes;
        if (a_fresh && !rises(&a, &old_key)) || (b_fresh && !follows && !rises(&b, &new_key)) {
            return Ok(None);
        }
        (a_fresh, b_fresh) = (false, false);
        twins = same_bytes;
        let order = match (a.here(), b.here()) {
            (None, None) => break,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(_), Some(_)) if same_bytes => {
                alike += 1;
                found.same += 1;
                a.next()?;
                b.next()?;
                (a_fresh, b_fresh) = (true, true);
                continue;
            }
            (Some(x), Some(y)) => match key_order(x, y, &both) {
                Some(order) => order,
                None => return Ok(None),
            },
        };
        match order {
            Ordering::Less => {
                found.removed += 1;
                found.rows.push(Difference::Removed(a.row));
            }
            Ordering::Greater => {
                found.added += 1;
                found.rows.push(Difference::Added(b.row));
            }
            Ordering::Equal => {
                let mut differs = false;
                if let (Some(x), Some(y)) = (a.here(), b.here()) {
                    for (at, (old, new)) in pairing.both.iter().enumerate() {
                        let (was, is) = (x.get(*old), y.get(*new));
                        kinds[at].0.add(was);
                        kinds[at].1.add(is);
                        if !same(was, is, within) {
                            found.differing[at] += 1;
                            differs = true;
                        }
                    }
                }
                match differs {
                    true => {
                        found.changed += 1;
                        found.rows.push(Difference::Changed(a.row, b.row));
                    }
                    false => found.same += 1,
                }
            }
        }
        if order != Ordering::Greater {
            a.next()?;
            a_fresh = true;
        }
        if order != Ordering::Less {
            b.next()?;
            b_fresh = true;
        }
    }
    let apart = |(a, b): &(Kinds, Kinds)| alike == 0 && a.0 != 0 && b.0 != 0 && a.0 & b.0 == 0;
    found.kinds = kinds
        .iter()
        .map(|kinds| apart(kinds).then(|| (kinds.0.word(), kinds.1.word())))
        .collect();
    in_order(&mut found.rows);
    Ok(Some(found))
}

/// Puts differences in the order of the second result; a removed row stands before the one that has its place now.
fn in_order(rows: &mut [Difference]) {
    rows.sort_unstable_by_key(|row| match row {
        Difference::Removed(row) => (*row, 0),
        Difference::Added(row) | Difference::Changed(_, row) => (*row, 1),
    });
}

/// Compares two results. Numbers may be as far apart as `within` and count as the same.
///
/// # Errors
/// If rows cannot be read, there are more than 2³² of them, or `stop` said so ([`io::ErrorKind::Interrupted`]).
pub fn compare(
    before: &ResultSet,
    after: &ResultSet,
    pairing: &Pairing,
    by: &By,
    within: f64,
    stop: &dyn Fn() -> bool,
) -> io::Result<Comparison> {
    let old: Vec<usize> = pairing.both.iter().map(|(old, _)| *old).collect();
    let new: Vec<usize> = pairing.both.iter().map(|(_, new)| *new).collect();
    let mut found = Comparison {
        differing: vec![0; pairing.both.len()],
        ..Comparison::default()
    };
    let key: &[usize] = match by {
        By::Key(key) => key,
        By::Place => &[],
    };
    if !key.is_empty()
        && let Some(found) = merge(before, after, pairing, key, within, stop)?
    {
        return Ok(found);
    }
    let (mut a, mut b) = sides((before, &old), (after, &new), key, stop)?;
    if let By::Place = by {
        // A place is a key of its own.
        for print in a.prints.iter_mut().chain(&mut b.prints) {
            print.key = u128::from(print.row);
        }
        (a.repeated, b.repeated) = (0, 0);
    }
    found.repeated = a.repeated + b.repeated;
    let apart = |a: &Kinds, b: &Kinds| a.0 != 0 && b.0 != 0 && a.0 & b.0 == 0;
    let kinds = a.kinds.iter().zip(&b.kinds);
    found.kinds = kinds
        .map(|(a, b)| apart(a, b).then(|| (a.word(), b.word())))
        .collect();
    // Both are in the order of their keys.
    let (mut left, mut right) = (a.prints.iter().peekable(), b.prints.iter().peekable());
    let mut pairs = Vec::new();
    loop {
        let order = match (left.peek(), right.peek()) {
            (None, None) => break,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(a), Some(b)) => a.key.cmp(&b.key),
        };
        let one = (order != Ordering::Greater).then(|| left.next()).flatten();
        let other = (order != Ordering::Less).then(|| right.next()).flatten();
        match (one, other) {
            (Some(a), Some(b)) if a.content == b.content => found.same += 1,
            (Some(a), Some(b)) => pairs.push((b.row, a.row)),
            (Some(a), None) => found.rows.push(Difference::Removed(a.row)),
            (None, Some(b)) => found.rows.push(Difference::Added(b.row)),
            (None, None) => {}
        }
    }
    drop((a.prints, b.prints));
    let (all, gone) = (found.rows.len() as u64, |row: &&Difference| {
        matches!(row, Difference::Removed(_))
    });
    found.removed = found.rows.iter().filter(gone).count() as u64;
    found.added = all - found.removed;
    pairs.sort_unstable();
    for (at, (new_row, old_row)) in pairs.into_iter().enumerate() {
        if at % 4_096 == 0 && stop() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let (old_batch, old_at) = before.locate(old_row.into())?;
        let (new_batch, new_at) = after.locate(new_row.into())?;
        let (old_row_, new_row_) = (old_batch.row(old_at), new_batch.row(new_at));
        let mut differs = false;
        for (at, (old, new)) in pairing.both.iter().enumerate() {
            if !same(old_row_.get(*old), new_row_.get(*new), within) {
                found.differing[at] += 1;
                differs = true;
            }
        }
        match differs {
            true => {
                found.changed += 1;
                found.rows.push(Difference::Changed(old_row, new_row));
            }
            false => found.same += 1,
        }
    }
    in_order(&mut found.rows);
    Ok(found)
}

/// The rows that differ, as a result of their own.
#[derive(Debug)]
pub struct SideBySide {
    /// `change` (added, removed or changed), the key, two columns for each in which some row differs, the others.
    pub result: ResultSet,
    /// Which columns are a value before and the same after.
    pub pairs: Vec<(usize, usize)>,
}

/// Where a column of the rows that differ comes from.
enum From {
    Change,
    Before(usize),
    After(usize),
    /// The second result's, or the first's where the second has no such row.
    Either(usize, usize),
}

/// Puts the rows that differ side by side. `called` says what is before and after, for the names of columns.
///
/// # Errors
/// If rows cannot be read or written, or `stop` said so ([`io::ErrorKind::Interrupted`]).
#[allow(clippy::too_many_arguments)]
pub fn side_by_side(
    before: &ResultSet,
    after: &ResultSet,
    pairing: &Pairing,
    by: &By,
    found: &Comparison,
    called: (&str, &str),
    room: (std::sync::Arc<Budget>, u64),
    stop: &dyn Fn() -> bool,
) -> io::Result<SideBySide> {
    let mut columns = vec![Column::named("change")];
    let mut from = vec![From::Change];
    let mut pairs = Vec::new();
    let (old, new) = (before.columns(), after.columns());
    let plain = |column: &Column| Column {
        path: None,
        ..column.clone()
    };
    let key: &[usize] = match by {
        By::Key(key) => key,
        By::Place => &[],
    };
    for part in key {
        let (a, b) = pairing.both[*part];
        columns.push(plain(&new[b]));
        from.push(From::Either(a, b));
    }
    let others = (0..pairing.both.len()).filter(|at| !key.contains(at));
    let (differ, agree): (Vec<usize>, Vec<usize>) = others.partition(|at| found.differing[*at] > 0);
    for at in differ {
        let (a, b) = pairing.both[at];
        pairs.push((columns.len(), columns.len() + 1));
        for (column, called) in [(&old[a], called.0), (&new[b], called.1)] {
            columns.push(Column {
                name: format!("{} {called}", column.name),
                ..plain(column)
            });
        }
        from.extend([From::Before(a), From::After(b)]);
    }
    for at in agree {
        let (a, b) = pairing.both[at];
        columns.push(plain(&new[b]));
        from.push(From::Either(a, b));
    }
    for at in &pairing.only_before {
        columns.push(plain(&old[*at]));
        from.push(From::Before(*at));
    }
    for at in &pairing.only_after {
        columns.push(plain(&new[*at]));
        from.push(From::After(*at));
    }
    let mut result = ResultSet::new(columns, room.0, room.1);
    let mut batch = RowBatch::new();
    for (number, row) in found.rows.iter().enumerate() {
        if number % 4_096 == 0 && stop() {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let (word, was, is) = match *row {
            Difference::Added(row) => ("added", None, Some(row)),
            Difference::Removed(row) => ("removed", Some(row), None),
            Difference::Changed(was, is) => ("changed", Some(was), Some(is)),
        };
        let was = was.map(|row| before.locate(row.into())).transpose()?;
        let is = is.map(|row| after.locate(row.into())).transpose()?;
        let row_of = |place: &'_ Option<(std::sync::Arc<RowBatch>, usize)>, column: usize| {
            let row: Option<Row<'_>> = place.as_ref().map(|(batch, at)| batch.row(*at));
            row.map_or(crate::Value::Missing, |row| row.get(column).to_owned())
        };
        let values = from.iter().map(|from| match from {
            From::Change => crate::Value::Text(word.into()),
            From::Before(column) => row_of(&was, *column),
            From::After(column) => row_of(&is, *column),
            From::Either(old, _) if is.is_none() => row_of(&was, *old),
            From::Either(_, new) => row_of(&is, *new),
        });
        let values: Vec<crate::Value> = values.collect();
        batch.push_row(values.iter().map(crate::Value::as_ref));
        if batch.encoded() > 256 * 1024 {
            result.append(std::mem::take(&mut batch))?;
        }
    }
    result.append(batch)?;
    Ok(SideBySide { result, pairs })
}

/// Columns of a pairing that are likely to tell rows apart: what both results call a key, `_id`, and after that each
/// column that is the first few of both; the first that does so in both results is the one to take.
///
/// # Errors
/// If rows cannot be read, or `stop` said so ([`io::ErrorKind::Interrupted`]).
pub fn find_key(
    before: &ResultSet,
    after: &ResultSet,
    pairing: &Pairing,
    stop: &dyn Fn() -> bool,
) -> io::Result<By> {
    let (old, new) = (before.columns(), after.columns());
    let both = || pairing.both.iter().enumerate();
    let declared = both().filter(|(_, (a, b))| old[*a].key && new[*b].key);
    let mut tried: Vec<Vec<usize>> = vec![declared.map(|(at, _)| at).collect()];
    let ids = both().filter(|(_, (a, b))| old[*a].name == "_id" && new[*b].name == "_id");
    tried.push(ids.map(|(at, _)| at).collect());
    for count in 1..=pairing.both.len().saturating_sub(1).min(3) {
        tried.push((0..count).collect());
    }
    let mut known: HashMap<Vec<usize>, bool> = HashMap::new();
    for key in tried.into_iter().filter(|key| !key.is_empty()) {
        if known.contains_key(&key) {
            continue;
        }
        let of = |which: fn(&(usize, usize)) -> usize| -> Vec<usize> {
            key.iter().map(|at| which(&pairing.both[*at])).collect()
        };
        let fine = (before.is_empty() || tells_apart(before, &of(|both| both.0), stop)?)
            && (after.is_empty() || tells_apart(after, &of(|both| both.1), stop)?);
        if fine && !(before.is_empty() && after.is_empty()) {
            return Ok(By::Key(key));
        }
        known.insert(key, fine);
    }
    Ok(By::Place)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Value;

    fn never() -> bool {
        false
    }

    fn set(names: &[&str], rows: Vec<Vec<Value>>) -> ResultSet {
        ResultSet::of_rows(
            names.iter().map(|name| Column::named(*name)).collect(),
            rows,
        )
    }

    fn row(id: i64, port: &str, kg: Value) -> Vec<Value> {
        vec![Value::Integer(id), Value::Text(port.into()), kg]
    }

    fn kg(digits: &str) -> Value {
        Value::Number(digits.into())
    }

    fn compared(before: &ResultSet, after: &ResultSet, by: By, within: f64) -> Comparison {
        let pairing = pair(before.columns(), after.columns());
        compare(before, after, &pairing, &by, within, &never).expect("compares")
    }

    fn lines(before: &ResultSet, after: &ResultSet, by: By) -> Vec<String> {
        let pairing = pair(before.columns(), after.columns());
        let found = compare(before, after, &pairing, &by, 0.0, &never).expect("compares");
        let room = (Budget::new(u64::MAX), u64::MAX);
        let called = ("in 3", "in 7");
        let both = side_by_side(before, after, &pairing, &by, &found, called, room, &never);
        let both = both.expect("rows").result;
        let names = both.columns().iter().map(|c| c.name.clone());
        let mut lines = vec![names.collect::<Vec<_>>().join("|")];
        each_row(&both, None, &never, &mut |_, row| {
            let cells: Vec<String> = row.values().map(ValueRef::plain).collect();
            lines.push(cells.join("|"));
            true
        })
        .expect("rows");
        lines
    }

    #[test]
    fn rows_are_added_removed_and_changed_by_their_key_in_any_order() {
        let before = set(
            &["id", "port", "kg"],
            vec![
                row(1, "Quay", kg("2.50")),
                row(2, "Cove", kg("7")),
                row(3, "Sound", Value::Null),
            ],
        );
        let after = set(
            &["id", "port", "kg"],
            vec![
                row(4, "Spit", kg("1")),
                row(3, "Sound", kg("0")),
                row(1, "Quay", Value::Float(2.5)),
            ],
        );
        assert_eq!(
            lines(&before, &after, By::Key(vec![0])),
            [
                "change|id|kg in 3|kg in 7|port",
                "added|4|missing|1|Spit",
                "removed|2|7|missing|Cove",
                "changed|3|null|0|Sound",
            ]
        );
        let found = compared(&before, &after, By::Key(vec![0]), 0.0);
        assert_eq!(
            (found.added, found.removed, found.changed, found.same),
            (1, 1, 1, 1)
        );
        let found = compared(&before, &after, By::Place, 0.0);
        assert_eq!((found.changed, found.same), (3, 0));
        let far = compared(
            &set(&["n"], vec![vec![kg("1.00")]]),
            &set(&["n"], vec![vec![kg("1.01")]]),
            By::Place,
            0.02,
        );
        assert_eq!((far.changed, far.same), (0, 1));
    }

    #[test]
    fn what_reads_the_same_is_the_same_and_other_kinds_are_told() {
        let before = set(
            &["n", "t"],
            vec![vec![Value::Integer(5), Value::Boolean(true)]],
        );
        let after = set(
            &["N", "t"],
            vec![vec![Value::Text("5".into()), Value::Text("yes".into())]],
        );
        let found = compared(&before, &after, By::Place, 0.0);
        assert_eq!(found.differing, [0, 1]);
        assert_eq!(
            found.kinds,
            [Some(("numbers", "texts")), Some(("booleans", "texts"))]
        );
        for (a, b, equal) in [
            (Value::Null, Value::Missing, true),
            (Value::Null, Value::Text(String::new()), false),
            (
                kg("9007199254740993"),
                Value::Float(9007199254740992.0),
                false,
            ),
            (kg("0.10"), Value::Float(0.1), true),
            (Value::Text("a".into()), Value::Bytes(vec![0x61]), false),
            (Value::Text("007".into()), Value::Text("7".into()), false),
        ] {
            assert_eq!(same(a.as_ref(), b.as_ref(), 0.0), equal, "{a:?} {b:?}");
        }
    }

    #[test]
    fn a_key_that_stands_twice_pairs_in_order_and_is_told() {
        let of = |list: &[(i64, i64)]| {
            let rows = list.iter();
            let rows = rows.map(|(a, b)| vec![Value::Integer(*a), Value::Integer(*b)]);
            set(&["id", "n"], rows.collect())
        };
        let (before, after) = (of(&[(1, 1), (1, 2), (2, 3)]), of(&[(1, 1), (1, 9), (1, 4)]));
        let found = compared(&before, &after, By::Key(vec![0]), 0.0);
        assert_eq!(
            found.rows,
            [
                Difference::Changed(1, 1),
                Difference::Removed(2),
                Difference::Added(2),
            ]
        );
        assert_eq!(found.repeated, 3);
    }

    /// One that is not in the order of its key is not taken for one, also where rows are the same byte by byte.
    #[test]
    fn rows_in_another_order_are_the_same_rows() {
        let of = |list: &[i64]| {
            let rows = list
                .iter()
                .map(|id| vec![Value::Integer(*id), Value::Integer(0)]);
            set(&["id", "n"], rows.collect())
        };
        for (before, after) in [
            (&[5, 17][..], &[17, 5][..]),
            (&[1, 2, 3, 4], &[1, 3, 2, 4]),
            (&[1, 2, 3], &[3, 1, 2]),
        ] {
            let found = compared(&of(before), &of(after), By::Key(vec![0]), 0.0);
            assert!(found.is_empty(), "{before:?} {after:?}: {found:?}");
            assert_eq!(found.same, before.len() as u64);
        }
    }

    #[test]
    fn the_key_is_found_in_what_both_results_show() {
        let pairs = |before: &ResultSet, after: &ResultSet| {
            let pairing = pair(before.columns(), after.columns());
            find_key(before, after, &pairing, &never).expect("reads")
        };
        let plain = set(
            &["port", "day", "n"],
            vec![
                vec![Value::Text("Quay".into()), Value::Integer(1), kg("1")],
                vec![Value::Text("Quay".into()), Value::Integer(2), kg("1")],
            ],
        );
        assert_eq!(pairs(&plain, &plain), By::Key(vec![0, 1]));
        let alike = set(&["n"], vec![vec![kg("1")], vec![kg("1")]]);
        assert_eq!(pairs(&alike, &alike), By::Place);
        let mut columns = plain.columns().to_vec();
        columns[1].key = true;
        let keyed = ResultSet::of_rows(columns, vec![row(7, "a", kg("1"))]);
        assert_eq!(pairs(&keyed, &keyed), By::Key(vec![1]));
    }

    proptest::proptest! {
        /// What is said of two lists of rows is what a plain look at them gives.
        #[test]
        fn it_agrees_with_a_plain_look(
            a in proptest::collection::btree_map(0_i64..40, 0_i64..3, 0..30),
            b in proptest::collection::btree_map(0_i64..40, 0_i64..3, 0..30),
        ) {
            let of = |map: &std::collections::BTreeMap<i64, i64>| {
                let rows = map.iter().map(|(k, v)| vec![Value::Integer(*k), Value::Integer(*v)]);
                set(&["k", "v"], rows.collect())
            };
            let found = compared(&of(&a), &of(&b), By::Key(vec![0]), 0.0);
            // The same rows in another order go the other way, and come to the same.
            let turned = |map: &std::collections::BTreeMap<i64, i64>| {
                let rows = map.iter().rev().map(|(k, v)| vec![Value::Integer(*k), Value::Integer(*v)]);
                set(&["k", "v"], rows.collect())
            };
            let other = compared(&of(&a), &turned(&b), By::Key(vec![0]), 0.0);
            proptest::prop_assert_eq!((other.added, other.removed, other.changed, other.same), (found.added, found.removed, found.changed, found.same));
            let added = b.keys().filter(|k| !a.contains_key(k)).count() as u64;
            let removed = a.keys().filter(|k| !b.contains_key(k)).count() as u64;
            let changed = a.iter().filter(|(k, v)| b.get(k).is_some_and(|w| w != *v)).count() as u64;
            proptest::prop_assert_eq!((found.added, found.removed, found.changed), (added, removed, changed));
            proptest::prop_assert_eq!(found.rows.len() as u64, added + removed + changed);
        }
    }
}
