//! Makes the practice harbour as a SQLite file: beside its place first, then moved there whole.

use std::path::Path;

use idle_tide_core::Value;
use idle_tide_harbour::{SQLITE_SCHEMA, Settings, generate, wide_table};
use rusqlite::types::ToSqlOutput;
use rusqlite::{CachedStatement, ToSql};

use super::complaint;
use crate::engine::EngineError;
use crate::trouble::OpenError;

struct Bound<'a>(&'a Value);

impl ToSql for Bound<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        use rusqlite::types::ValueRef as Raw;
        Ok(ToSqlOutput::Borrowed(match self.0 {
            Value::Null | Value::Missing => Raw::Null,
            Value::Boolean(b) => Raw::Integer(i64::from(*b)),
            Value::Integer(i) => Raw::Integer(*i),
            Value::Float(f) => Raw::Real(*f),
            Value::Number(n) => Raw::Text(n.as_bytes()),
            Value::Text(t) => Raw::Text(t.as_bytes()),
            Value::RawText(b) => Raw::Text(b),
            Value::Bytes(b) | Value::Bson(_, b) => Raw::Blob(b),
        }))
    }
}

/// Makes the harbour at `path`, replacing what is there.
///
/// # Errors
/// If the directory cannot be written.
pub fn make_harbour(path: &Path, settings: &Settings) -> Result<(), OpenError> {
    let words = |error: &dyn std::fmt::Display| {
        OpenError::plain(format!(
            "The practice harbour cannot be made at {}: {error}.",
            path.display()
        ))
    };
    let dir = path.parent().unwrap_or(Path::new("."));
    let place = idle_tide_core::unfinished::file_in(dir).map_err(|e| words(&e))?;
    fill(place.path(), settings).map_err(|e| words(&e))?;
    place.persist(path).map_err(|e| words(&e.error))?;
    Ok(())
}

fn fill(path: &Path, settings: &Settings) -> Result<(), EngineError> {
    let mut connection = rusqlite::Connection::open(path).map_err(complaint::read)?;
    connection
        .execute_batch(
            "pragma journal_mode = off; pragma synchronous = off; pragma foreign_keys = off;",
        )
        .map_err(complaint::read)?;
    connection.set_prepared_statement_cache_capacity(40);
    let transaction = connection.transaction().map_err(complaint::read)?;
    transaction
        .execute_batch(SQLITE_SCHEMA)
        .and_then(|()| transaction.execute_batch(&wide_table()))
        .map_err(complaint::read)?;
    let mut open: Option<(&'static str, CachedStatement<'_>)> = None;
    generate(settings, &mut |table, row| {
        let statement = match &mut open {
            Some((name, statement)) if *name == table => statement,
            _ => {
                let marks = vec!["?"; row.len()].join(", ");
                let sql = format!("insert into {table} values ({marks})");
                &mut open.insert((table, transaction.prepare_cached(&sql)?)).1
            }
        };
        statement
            .execute(rusqlite::params_from_iter(row.iter().map(Bound)))
            .map(drop)
    })
    .map_err(complaint::read)?;
    drop(open);
    transaction
        .commit()
        .and_then(|()| connection.execute_batch("pragma optimize"))
        .map_err(complaint::read)
}

/// Makes the harbour with so many tide gauge readings at `path`, replacing what is there.
///
/// # Errors
/// As [`make_harbour`].
pub fn make_demo(path: &Path, readings: u64) -> Result<(), OpenError> {
    make_harbour(
        path,
        &Settings {
            readings,
            ..Settings::default()
        },
    )
}
