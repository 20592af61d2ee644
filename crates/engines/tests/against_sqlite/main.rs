//! What is said of statements, offered for them and made of them, against SQLite itself.

mod agreement;
mod chosen;
mod multiplied;
mod offered;
mod sweeping;
mod translated;
mod ways;

use idle_tide_core::{Catalog, Column, RowBatch};
use idle_tide_engines::sqlite::Sqlite;
use idle_tide_engines::{Connection, Sink};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::split::pieces;

/// Takes rows and keeps none.
pub struct Nothing;

impl Sink for Nothing {
    fn columns(&mut self, _: Vec<Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, _: RowBatch) -> std::io::Result<()> {
        Ok(())
    }
}

/// A database with a schema, and what is known of it.
pub fn made(schema: &str) -> (Sqlite, Catalog) {
    let mut source = Sqlite::memory().expect("opens");
    for piece in pieces(schema, &SQLITE) {
        let text = &schema[piece.start as usize..piece.end as usize];
        source
            .run(1, text, &mut Nothing)
            .unwrap_or_else(|error| panic!("{text}: {error}"));
    }
    let catalog = source.describe().catalog(1, &mut |_| {}).expect("read");
    (source, catalog)
}
