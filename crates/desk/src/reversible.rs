//! What can be taken back: how it begins and ends on a connection, and work within it that is refused without taking it
//! along. It knows connections, and neither sessions nor entries.

use idle_tide_engines::{Connection, EngineError, Fault, Nowhere};
use idle_tide_lang::dialect::Family;

/// A ticket that no task has, so that nobody cancels it: what takes a change back is not stopped halfway.
pub(crate) const SETTLING: u64 = u64::MAX / 2;

/// Runs statements of our own that give nothing, one after the other.
///
/// # Errors
/// That of the first that is refused.
pub(crate) fn run_all(
    connection: &mut dyn Connection,
    ticket: u64,
    statements: &[&str],
) -> Result<Vec<String>, EngineError> {
    let mut notes = Vec::new();
    for statement in statements {
        notes.extend(connection.run(ticket, statement, &mut Nowhere)?.notes);
    }
    Ok(notes)
}

/// A point within a transaction: what sets it, what goes back to it, what gives it up.
struct Point {
    set: &'static str,
    back: &'static [&'static str],
    release: &'static [&'static str],
}

fn point(family: Family) -> Point {
    match family {
        // There one lasts until its transaction ends.
        Family::Tabular => Point {
            set: "save transaction idle_tide_held",
            back: &["rollback transaction idle_tide_held"],
            release: &[],
        },
        _ => Point {
            set: "savepoint idle_tide_held",
            back: &[
                "rollback to savepoint idle_tide_held",
                "release savepoint idle_tide_held",
            ],
            release: &["release savepoint idle_tide_held"],
        },
    }
}

/// The statement that begins what can be taken back.
pub(crate) fn beginning(family: Family, within: bool) -> &'static str {
    match (within, family) {
        (true, family) => point(family).set,
        // A later write could not wait for the lock of somebody else.
        (false, Family::Sqlite) => "begin immediate",
        // Where a block may stand alone, begin opens one.
        (false, Family::Mariadb) => "start transaction",
        (false, Family::Tabular) => "begin transaction",
        (false, _) => "begin",
    }
}

/// Begins what can be taken back.
pub(crate) fn begin(
    connection: &mut dyn Connection,
    ticket: u64,
    within: bool,
) -> Result<(), EngineError> {
    let statement = beginning(connection.dialect().family, within);
    run_all(connection, ticket, &[statement]).map(drop)
}

/// Takes back what was done since [`begin`]; nothing stops it halfway.
pub(crate) fn take_back(
    connection: &mut dyn Connection,
    within: bool,
) -> Result<Vec<String>, EngineError> {
    let statements = match within {
        true => point(connection.dialect().family).back,
        false => &["rollback"],
    };
    run_all(connection, SETTLING, statements)
}

/// Keeps what was done since [`begin`].
pub(crate) fn keep(
    connection: &mut dyn Connection,
    within: bool,
) -> Result<Vec<String>, EngineError> {
    let statements = match within {
        true => point(connection.dialect().family).release,
        false => &["commit"],
    };
    run_all(connection, SETTLING, statements)
}

/// Does work in a held change, so that a refusal does not take the change with it.
pub(crate) fn protected<T>(
    connection: &mut dyn Connection,
    work: impl FnOnce(&mut dyn Connection) -> Result<T, EngineError>,
) -> Result<T, EngineError> {
    if connection.dialect().family != Family::Postgres {
        return work(connection);
    }
    run_all(connection, SETTLING, &["savepoint idle_tide_reading"])?;
    let done = work(connection);
    let lost = |error: &EngineError| matches!(error.fault, Fault::Lost | Fault::NotSent);
    match &done {
        Err(error) if lost(error) => {}
        Err(_) => {
            let back = ["rollback to savepoint idle_tide_reading"];
            run_all(connection, SETTLING, &back)?;
        }
        Ok(_) => drop(run_all(
            connection,
            SETTLING,
            &["release savepoint idle_tide_reading"],
        )?),
    }
    done
}
