//! Plans of SQLite: a row a step, each with the number of the one it belongs to.

use idle_tide_core::plan::{Plan, Step};

/// The rows of `explain query plan` as a tree.
pub(super) fn of_sqlite(rows: &[Vec<String>]) -> Plan {
    // Each row: its number, that of the row it belongs to, nothing, and the words.
    fn parts(rows: &[Vec<String>], parent: &str, depth: usize) -> Vec<Step> {
        let own = rows
            .iter()
            .filter(|row| row.len() >= 4 && row[1] == parent && row[0] != row[1]);
        own.map(|row| {
            let words = row[3].as_str();
            let mut step = Step::default();
            let (head, rest) = words
                .split_once(" USING ")
                .map_or((words, None), |(head, rest)| (head, Some(rest)));
            match head.split_once(' ') {
                Some((word @ ("SCAN" | "SEARCH"), table)) => {
                    step.what = match (word, rest) {
                        ("SCAN", None) => "every row of".into(),
                        ("SCAN", Some(_)) => "every row, in the order of an index, of".into(),
                        _ => "looks up in".into(),
                    };
                    step.on = table.to_string();
                    step.details
                        .extend(rest.map(|rest| format!("by {}", rest.to_lowercase())));
                }
                _ => step.what = words.to_lowercase(),
            }
            if depth < 100 {
                step.parts = parts(rows, &row[0], depth + 1);
            }
            step
        })
        .collect()
    }
    let text: Vec<String> = rows.iter().filter_map(|row| row.get(3).cloned()).collect();
    Plan {
        steps: parts(rows, "0", 0),
        text: text.join("\n"),
        ..Plan::default()
    }
}

#[cfg(test)]
mod tests {
    use super::super::outline;
    use super::*;

    #[test]
    fn rows_of_sqlite_become_a_tree() {
        let row = |id: &str, parent: &str, words: &str| {
            vec![id.into(), parent.into(), "0".into(), words.into()]
        };
        let plan = of_sqlite(&[
            row("3", "0", "SCAN s"),
            row("5", "0", "SEARCH v USING INTEGER PRIMARY KEY (rowid=?)"),
            row("9", "0", "CORRELATED SCALAR SUBQUERY 1"),
            row("12", "9", "SCAN d USING COVERING INDEX dues_by_visit"),
        ]);
        assert_eq!(
            outline(&plan),
            [
                (0, "every row of", "s"),
                (0, "looks up in", "v"),
                (0, "correlated scalar subquery 1", ""),
                (1, "every row, in the order of an index, of", "d"),
            ]
        );
        assert_eq!(plan.steps[1].details, ["by integer primary key (rowid=?)"]);
    }
}
