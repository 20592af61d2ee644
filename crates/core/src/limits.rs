//! What is kept within bounds, and by how much: one table with the usual values, which the settings may change
//! (`[limits]`). They bound the whole process, so that they are set once, where it begins.

use std::sync::atomic::{AtomicU64, Ordering};

/// Something that has a limit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Limit {
    /// Memory of one result.
    ResultMemory,
    /// Memory of all results together.
    ResultsMemory,
    /// Disk of all results together.
    ResultsDisk,
    /// One message of a server.
    Message,
    /// Columns of one result.
    Columns,
    /// What a server says besides its answer, of one statement.
    Notices,
    /// Lines of a script that are carried out.
    ScriptSteps,
    /// Rows that a script takes.
    ScriptRows,
}

/// A row of the table.
#[derive(Debug)]
pub struct Row {
    /// What is bounded.
    pub limit: Limit,
    /// Its name in the settings.
    pub name: &'static str,
    /// The usual value.
    pub usual: u64,
    /// The least and the most that can be set.
    pub range: (u64, u64),
    /// How much one of the value is: bytes of a megabyte, or one.
    pub unit: u64,
    /// What it is, and what is said or done where it is met.
    pub what: &'static str,
}

const MB: u64 = 1 << 20;

/// All limits, each at the place of its number.
pub const LIMITS: [Row; 8] = [
    Row {
        limit: Limit::ResultMemory,
        name: "result-memory-mb",
        usual: 128,
        range: (1, 1 << 20),
        unit: MB,
        what: "memory of one result; the rest of its rows goes to the disk",
    },
    Row {
        limit: Limit::ResultsMemory,
        name: "results-memory-mb",
        usual: 256,
        range: (1, 1 << 20),
        unit: MB,
        what: "memory of all results; what more comes goes to the disk",
    },
    Row {
        limit: Limit::ResultsDisk,
        name: "results-disk-mb",
        usual: 2_000,
        range: (1, 1 << 20),
        unit: 1_000_000,
        what: "disk of all results; the oldest give up their rows, a single one that is larger is stopped and keeps what it has",
    },
    Row {
        limit: Limit::Message,
        name: "message-mb",
        usual: 512,
        range: (1, 2_047),
        unit: MB,
        what: "one row or message of a PostgreSQL server; the statement ends with the size it announced",
    },
    Row {
        limit: Limit::Columns,
        name: "columns",
        usual: 8_192,
        range: (16, 65_535),
        unit: 1,
        what: "columns of one result over the Tabular Data Stream; the connection ends with the count it announced",
    },
    Row {
        limit: Limit::Notices,
        name: "notices",
        usual: 200,
        range: (1, 1_000_000),
        unit: 1,
        what: "messages of a server beside its answer; the last one says that there were more",
    },
    Row {
        limit: Limit::ScriptSteps,
        name: "script-steps",
        usual: 20_000_000,
        range: (1, u64::MAX),
        unit: 1,
        what: "lines of a script that are carried out; it ends there and says so",
    },
    Row {
        limit: Limit::ScriptRows,
        name: "script-rows",
        usual: 200_000,
        range: (1, 100_000_000),
        unit: 1,
        what: "rows that a script takes from a statement or a result; more are refused",
    },
];

/// What was set; 0 where nothing was.
static SET: [AtomicU64; LIMITS.len()] = [const { AtomicU64::new(0) }; LIMITS.len()];

impl Limit {
    /// How much it is now, in bytes or whatever it counts.
    pub fn value(self) -> u64 {
        let row = &LIMITS[self as usize];
        let set = SET[self as usize].load(Ordering::Relaxed);
        let value = if set == 0 { row.usual } else { set };
        value.saturating_mul(row.unit)
    }
}

/// Sets a limit by its name.
///
/// # Errors
/// In a sentence, if there is none of this name or it cannot be this much; the usual value counts then.
pub fn set(name: &str, value: i64) -> Result<(), String> {
    let Some(at) = LIMITS.iter().position(|row| row.name == name) else {
        let names: Vec<&str> = LIMITS.iter().map(|row| row.name).collect();
        return Err(format!(
            "There is no limit {name} in the settings. Those there are: {}.",
            names.join(", ")
        ));
    };
    let row = &LIMITS[at];
    let (least, most) = row.range;
    match u64::try_from(value) {
        Ok(value) if (least..=most).contains(&value) => {
            SET[at].store(value, Ordering::Relaxed);
            Ok(())
        }
        _ => Err(format!(
            "The limit {name} cannot be {value}: it is from {least} to {most}. The usual {} counts.",
            row.usual
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn limits_have_their_rows_and_ranges() {
        for (at, row) in LIMITS.iter().enumerate() {
            assert_eq!(row.limit as usize, at, "{}", row.name);
            assert!((row.range.0..=row.range.1).contains(&row.usual));
            assert_eq!(row.limit.value(), row.usual * row.unit);
        }
        assert!(set("nothing", 5).is_err_and(|words| words.contains("notices, script-steps")));
        assert!(set("notices", 0).is_err_and(|words| words.contains("from 1 to 1000000")));
        assert!(set("notices", -3).is_err());
        set("notices", 7).expect("set");
        assert_eq!(Limit::Notices.value(), 7);
    }
}
