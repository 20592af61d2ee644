//! A database of one question: results of any source come into it as tables, are asked with SQL, and are gone with it. It
//! lies in memory as far as its cache goes, and after that in a file without a name. Exact decimals stay exact: they are
//! texts that compare as numbers, and are added up digit by digit.

use std::cmp::Ordering;

use idle_tide_core::ValueRef;
use idle_tide_core::decimal::{self, Sum, is_decimal};
use rusqlite::functions::{Aggregate, Context, FunctionFlags, WindowAggregate};
use rusqlite::types::{Value, ValueRef as Raw};

use super::{Opened, Sqlite, complaint};
use crate::engine::EngineError;

/// The collation by which digits compare as numbers.
pub const EXACT: &str = "exact";
/// The declared type of a column of exact decimals: texts that compare by [`EXACT`].
pub const DECIMAL: &str = "decimal text";
/// Pages kept in memory, in KiB (the negative form of the pragma).
const CACHE: i64 = -128 * 1024;

impl Sqlite {
    /// An empty database for one question.
    ///
    /// # Errors
    /// If it cannot be made.
    pub fn between() -> Result<Self, EngineError> {
        // An empty path is a private database that goes to disk only where its cache is full.
        let connection = rusqlite::Connection::open("").map_err(complaint::read)?;
        let set = || -> rusqlite::Result<()> {
            connection.pragma_update(None, "journal_mode", "off")?;
            connection.pragma_update(None, "synchronous", "off")?;
            connection.pragma_update(None, "cache_size", CACHE)?;
            connection.pragma_update(None, "temp_store", "file")?;
            connection.create_collation(EXACT, compare)?;
            let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
            connection.create_window_function("sum", 1, flags, Adding { mean: false })?;
            connection.create_window_function("avg", 1, flags, Adding { mean: true })
        };
        set().map_err(complaint::read)?;
        Self::prepared(connection, Opened::memory())
    }
}

/// Digits by their value, other texts byte by byte after them.
fn compare(a: &str, b: &str) -> Ordering {
    match (is_decimal(a.as_bytes()), is_decimal(b.as_bytes())) {
        (true, true) => decimal::compare(a, b),
        (true, false) | (false, true) => match (a.parse::<f64>(), b.parse::<f64>()) {
            (Ok(x), Ok(y)) => ValueRef::Float(x).order(ValueRef::Float(y)),
            _ => is_decimal(b.as_bytes()).cmp(&is_decimal(a.as_bytes())),
        },
        (false, false) => a.cmp(b),
    }
}

/// `sum` and `avg`: whole numbers and decimals without rounding, floats as floats.
struct Adding {
    mean: bool,
}

/// What was added so far.
#[derive(Clone, Copy, Default)]
struct Added {
    whole: i128,
    exact: Sum,
    float: f64,
    wholes: i64,
    exacts: i64,
    floats: i64,
}

impl Added {
    fn add(&mut self, value: Raw<'_>, sign: i64) {
        match value {
            Raw::Null => {}
            Raw::Integer(number) => {
                self.whole += i128::from(number) * i128::from(sign);
                self.wholes += sign;
            }
            Raw::Real(number) => {
                self.float += number * sign as f64;
                self.floats += sign;
            }
            Raw::Text(bytes) if is_decimal(bytes) => {
                let digits = std::str::from_utf8(bytes).unwrap_or("0");
                let turned = match (sign, digits.strip_prefix('-')) {
                    (1, _) => digits.to_string(),
                    (_, Some(positive)) => positive.to_string(),
                    (_, None) => format!("-{digits}"),
                };
                self.exact.add(&turned);
                self.exacts += sign;
            }
            // As the engine itself has it: a number at the start of a text, else nothing.
            Raw::Text(bytes) | Raw::Blob(bytes) => {
                let number = std::str::from_utf8(bytes)
                    .ok()
                    .and_then(|text| text.trim().parse::<f64>().ok());
                self.float += number.unwrap_or(0.0) * sign as f64;
                self.floats += sign;
            }
        }
    }

    fn total(&self, mean: bool) -> Value {
        let count = self.wholes + self.exacts + self.floats;
        if count == 0 {
            return Value::Null;
        }
        let mut exact = self.exact;
        exact.add(&self.whole.to_string());
        let digits = exact.total().filter(|_| self.floats == 0);
        match digits {
            Some(digits) if mean => {
                Value::Real(digits.parse::<f64>().unwrap_or(f64::NAN) / count as f64)
            }
            Some(digits) if self.exacts == 0 => match digits.parse() {
                Ok(number) => Value::Integer(number),
                Err(_) => Value::Text(digits),
            },
            Some(digits) => Value::Text(digits),
            None => {
                let exact: f64 = self
                    .exact
                    .total()
                    .and_then(|digits| digits.parse().ok())
                    .unwrap_or(f64::NAN);
                let sum =
                    self.float + self.whole as f64 + if self.exacts == 0 { 0.0 } else { exact };
                Value::Real(if mean { sum / count as f64 } else { sum })
            }
        }
    }
}

impl Aggregate<Added, Value> for Adding {
    fn init(&self, _: &mut Context<'_>) -> rusqlite::Result<Added> {
        Ok(Added::default())
    }

    fn step(&self, context: &mut Context<'_>, added: &mut Added) -> rusqlite::Result<()> {
        added.add(context.get_raw(0), 1);
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, added: Option<Added>) -> rusqlite::Result<Value> {
        Ok(added.map_or(Value::Null, |added| added.total(self.mean)))
    }
}

impl WindowAggregate<Added, Value> for Adding {
    fn value(&self, added: Option<&mut Added>) -> rusqlite::Result<Value> {
        Ok(added.map_or(Value::Null, |added| added.total(self.mean)))
    }

    fn inverse(&self, context: &mut Context<'_>, added: &mut Added) -> rusqlite::Result<()> {
        added.add(context.get_raw(0), -1);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ask(sql: &str) -> Vec<String> {
        let made = Sqlite::between().expect("made");
        made.connection
            .execute_batch(
                "create table d (n 'decimal text' collate exact, whole collate exact, kind);
                 insert into d values ('0.10', 1, 'a'), ('0.2', 2, 'a'), ('10', 9007199254740993, 'b'), ('9.99', null, 'b')",
            )
            .expect("a table");
        let mut statement = made.connection.prepare(sql).expect("understood");
        let rows = statement.query_map([], |row| {
            Ok(match row.get_ref(0)? {
                Raw::Null => "null".into(),
                Raw::Integer(n) => n.to_string(),
                Raw::Real(n) => format!("{n} real"),
                Raw::Text(t) => String::from_utf8_lossy(t).into_owned(),
                Raw::Blob(_) => "bytes".into(),
            })
        });
        rows.expect("runs").collect::<Result<_, _>>().expect("rows")
    }

    #[test]
    fn decimals_compare_and_add_up_exactly() {
        assert_eq!(
            ask("select n from d order by n"),
            ["0.10", "0.2", "9.99", "10"]
        );
        assert_eq!(ask("select sum(n) from d group by kind"), ["0.30", "19.99"]);
        assert_eq!(ask("select sum(whole) from d"), ["9007199254740996"]);
        assert_eq!(ask("select avg(n) from d where kind = 'b'"), ["9.995 real"]);
        assert_eq!(ask("select max(n) from d"), ["10"]);
        assert_eq!(ask("select count(*) from d where n = 0.1"), ["1"]);
        assert_eq!(ask("select count(*) from d where n > 9"), ["2"]);
        assert_eq!(
            ask("select sum(n) over (order by rowid rows 1 preceding) from d"),
            ["0.10", "0.30", "10.20", "19.99"]
        );
        assert_eq!(ask("select sum(n) from d where false"), ["null"]);
        assert_eq!(
            ask("select sum(n * 2) from d where kind = 'a'"),
            ["0.6000000000000001 real"]
        );
    }

    /// A whole number and a decimal of one value meet in a join, whichever stands first.
    #[test]
    fn whole_numbers_and_decimals_join_by_value() {
        let made = |on: &str| {
            ask(&format!(
                "select count(*) from d join (select '2.0' as p) f on {on}"
            ))
        };
        for on in ["d.n = 0.2", "0.20 = d.n"] {
            assert_eq!(
                ask(&format!("select count(*) from d where {on}")),
                ["1"],
                "{on}"
            );
        }
        assert_eq!(made("f.p = d.kind"), ["0"]);
        assert_eq!(
            ask("select count(*) from d a join d b on a.whole * 10 = b.n"),
            ["1"]
        );
        assert_eq!(
            ask("select count(*) from d a join d b on b.n = a.whole * 10"),
            ["1"]
        );
    }
}
