//! Queries that count, for the guard and for changes that are looked at.

use std::io;

use idle_tide_core::{Column, RowBatch, Value};
use idle_tide_engines::{Connection, EngineError, Fault, Sink};
use idle_tide_lang::dialect::Family;

use crate::task::Bench;

/// Runs queries that count; `None` for each whose object is not there or may not be read.
pub(crate) fn count_all(
    at: &mut Bench<'_>,
    questions: &[String],
) -> Result<Vec<Option<u64>>, EngineError> {
    let ticket = at.ticket;
    let connection = at.connection()?;
    // A refused count would take an open transaction of such a server with it.
    let guarded = connection.dialect().family == Family::Postgres
        && connection.bearings().transaction.is_some();
    let own = |connection: &mut dyn Connection, sql: &str| -> Result<(), EngineError> {
        if guarded {
            connection.run(ticket, sql, &mut OneValue(None))?;
        }
        Ok(())
    };
    let mut counts = Vec::with_capacity(questions.len());
    for question in questions {
        own(connection, "savepoint idle_tide_count")?;
        let count = count_one(connection, ticket, question);
        if count.as_ref().is_ok_and(Option::is_none) {
            own(connection, "rollback to savepoint idle_tide_count")?;
        }
        own(connection, "release savepoint idle_tide_count")?;
        counts.push(count?);
    }
    Ok(counts)
}

/// Runs a query that counts; `None` if what it counts is not there or may not be read.
pub(crate) fn count_one(
    connection: &mut dyn Connection,
    ticket: u64,
    question: &str,
) -> Result<Option<u64>, EngineError> {
    let mut one = OneValue(None);
    match connection.run(ticket, question, &mut one) {
        Ok(_) => Ok(match one.0 {
            Some(Value::Integer(count)) => u64::try_from(count).ok(),
            _ => None,
        }),
        Err(error) => match error.fault {
            Fault::Statement | Fault::Other | Fault::ReadOnly | Fault::Denied => Ok(None),
            _ => Err(error),
        },
    }
}

struct OneValue(Option<Value>);

impl Sink for OneValue {
    fn columns(&mut self, _: Vec<Column>) -> io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.0 = Some(batch.row(0).get(0).to_owned());
        Ok(())
    }
}
