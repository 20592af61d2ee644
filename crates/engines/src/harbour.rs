//! Loading the practice harbour into a server's database, so that there is something to try things on.

use idle_tide_harbour::served::{Flavour, fill, schema};
use idle_tide_lang::dialect::Family;

use crate::engine::{Connection, EngineError};
use crate::load::Nowhere;

/// Makes the harbour's tables where the connection is, and fills them; the rows in one transaction. Gives
/// the number of tables.
///
/// # Errors
/// If a table of one of its names is there already, or the server refuses.
pub fn load_harbour(
    connection: &mut dyn Connection,
    settings: &idle_tide_harbour::Settings,
) -> Result<usize, EngineError> {
    let flavour = match connection.dialect().family {
        Family::Postgres => Flavour::Postgres,
        Family::Mariadb => Flavour::Mariadb,
        Family::Tabular => Flavour::Tabular,
        Family::Sqlite | Family::Documents => {
            return Err(EngineError::plain(
                "This loads the harbour into a server; idle-tide demo makes it as a file.",
            ));
        }
    };
    let begin = connection.dialect().begin();
    let mut run = |sql: &str| connection.run(0, sql, &mut Nowhere).map(drop);
    let statements = schema(flavour);
    // In one family the tables too are part of the transaction.
    if flavour != Flavour::Mariadb {
        run(begin)?;
    }
    let mut made = || -> Result<(), EngineError> {
        for statement in &statements {
            run(statement)?;
        }
        if flavour == Flavour::Mariadb {
            run(begin)?;
        }
        fill(flavour, settings, &mut run)?;
        run("commit")
    };
    let done = made();
    if done.is_err() {
        let _ = run("rollback");
    }
    done?;
    if flavour == Flavour::Postgres {
        let _ = run("analyze");
    }
    Ok(statements
        .iter()
        .filter(|s| s.starts_with("create table"))
        .count())
}
