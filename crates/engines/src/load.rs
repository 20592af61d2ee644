//! Rows into a table, many at once, by inserts of several rows: for servers without a faster way.

use std::io;

use idle_tide_core::{Column, RowBatch};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;

pub use crate::destination::{Destination, Existing};
pub use crate::engine::NotPut;
use crate::engine::{Connection, EngineError, Fault, Sink};

/// Takes nothing.
#[derive(Debug)]
pub struct Nowhere;

impl Sink for Nowhere {
    fn columns(&mut self, _: Vec<Column>) -> io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: RowBatch) -> io::Result<()> {
        Ok(())
    }
}

/// What PostgreSQL says of a statement that would replace a row twice (cardinality_violation).
const TWICE: &str = "21000";

/// Rows of one statement, at most, and about as many bytes.
const ROWS: usize = 1_000;
const BYTES: usize = 512 * 1024;

/// Puts rows into a table with inserts of several rows; gives how many are there because of it. Inside a transaction a refused row
/// is looked for, so that it can be named.
///
/// # Errors
/// [`NotPut`]; rows before it may be there, which a transaction takes back.
pub fn with_inserts(
    connection: &mut dyn Connection,
    ticket: u64,
    into: &Destination,
    batch: &RowBatch,
) -> Result<u64, NotPut> {
    let dialect = connection.dialect();
    let (head, tail) = (into.head(), into.tail(dialect));
    let (mut at, mut stored) = (0, 0);
    while at < batch.len() {
        let mut statement = head.clone();
        let from = at;
        while at < batch.len() && at - from < ROWS && statement.len() < BYTES {
            write_row(&mut statement, batch, at, at == from, dialect);
            at += 1;
        }
        statement.push_str(&tail);
        // There one statement replaces no row twice; a file may have a key more than once, and its last row counts.
        let guarded = into.existing == Existing::Replace && dialect.family == Family::Postgres;
        if guarded {
            connection.run(ticket, "savepoint idle_tide_rows", &mut Nowhere)?;
        }
        let mut ran = connection.run(ticket, &statement, &mut Nowhere);
        if guarded && ran.as_ref().is_err_and(|error| error.code == TWICE) {
            connection.run(ticket, "rollback to savepoint idle_tide_rows", &mut Nowhere)?;
            for row in from..at {
                let mut one = head.clone();
                write_row(&mut one, batch, row, true, dialect);
                one.push_str(&tail);
                ran = connection.run(ticket, &one, &mut Nowhere);
                if let Err(error) = ran {
                    return Err(NotPut {
                        error,
                        row: Some(row),
                    });
                }
            }
        }
        match ran {
            Ok(outcome) => {
                let all = (at - from) as u64;
                stored += match (into.existing, outcome.changed) {
                    (Existing::Skip, Some(changed)) => changed.min(all),
                    _ => all,
                };
            }
            Err(error) => {
                let row = refused_row(connection, ticket, (&head, &tail), batch, from..at, &error);
                return Err(NotPut { error, row });
            }
        }
    }
    Ok(stored)
}

fn write_row(statement: &mut String, batch: &RowBatch, at: usize, first: bool, dialect: &Dialect) {
    statement.push_str(if first { "(" } else { ", (" });
    for (column, value) in batch.row(at).values().enumerate() {
        if column > 0 {
            statement.push_str(", ");
        }
        dialect.write_literal(value, statement);
    }
    statement.push(')');
}

/// The row of a refused statement that is refused by itself.
fn refused_row(
    connection: &mut dyn Connection,
    ticket: u64,
    (head, tail): (&str, &str),
    batch: &RowBatch,
    rows: std::ops::Range<usize>,
    error: &EngineError,
) -> Option<usize> {
    if rows.len() == 1 {
        return Some(rows.start);
    }
    let bearings = connection.bearings();
    let stands = bearings.transaction.is_some() && !bearings.transaction_failed;
    let of_a_row = matches!(
        error.fault,
        Fault::Statement | Fault::Constraint | Fault::Other
    );
    if !stands || !of_a_row {
        return None;
    }
    for at in rows {
        let mut statement = head.to_string();
        write_row(&mut statement, batch, at, true, connection.dialect());
        statement.push_str(tail);
        if connection.run(ticket, &statement, &mut Nowhere).is_err() {
            return Some(at);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::{MARIADB, POSTGRES};

    #[test]
    fn rows_whose_key_is_there_are_refused_skipped_or_replaced() {
        let mut into = Destination {
            table: "t".into(),
            columns: vec!["id".into(), "name".into()],
            keys: vec!["id".into()],
            existing: Existing::Refuse,
        };
        assert_eq!(into.tail(&POSTGRES), "");
        into.existing = Existing::Replace;
        assert_eq!(
            into.tail(&POSTGRES),
            " on conflict (id) do update set name = excluded.name"
        );
        assert_eq!(
            into.tail(MARIADB),
            " on duplicate key update name = values(name)"
        );
        into.existing = Existing::Skip;
        assert_eq!(into.tail(&POSTGRES), " on conflict do nothing");
        assert_eq!(into.tail(MARIADB), " on duplicate key update id = id");
        into.existing = Existing::Replace;
        into.columns.pop();
        assert_eq!(into.tail(&POSTGRES), " on conflict do nothing");
    }
}
