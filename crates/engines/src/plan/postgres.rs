//! Plans of PostgreSQL: JSON, with all numbers of a step at one run of it.

use idle_tide_core::plan::{Plan, Step};
use serde_json::Value as Json;

use super::{number, parsed, words};
use crate::engine::EngineError;

/// The answer of `explain (format json)`.
pub(super) fn of_postgres(rows: &[Vec<String>]) -> Result<Plan, EngineError> {
    fn step(json: &Json) -> Step {
        let runs = number(json, "Actual Loops");
        let each = runs.unwrap_or(1.0).max(1.0);
        let mut what = words(json, "Node Type").unwrap_or_default().to_lowercase();
        if what == "modifytable" {
            what = words(json, "Operation").unwrap_or_default().to_lowercase();
        }
        match words(json, "Join Type").as_deref() {
            None | Some("Inner") => {}
            Some(kind) => what = format!("{what}, {}", kind.to_lowercase()),
        }
        let table = words(json, "Relation Name")
            .or_else(|| words(json, "CTE Name"))
            .or_else(|| words(json, "Function Name"));
        let mut on = table.unwrap_or_default();
        if let Some(alias) = words(json, "Alias").filter(|alias| *alias != on) {
            on = format!("{on} {alias}").trim().to_string();
        }
        let mut details = Vec::new();
        for (name, label) in [
            ("Index Name", "by"),
            ("Index Cond", "where"),
            ("Hash Cond", "on"),
            ("Merge Cond", "on"),
            ("Join Filter", "on"),
            ("Recheck Cond", "where"),
            ("Filter", "keeps"),
            ("Sort Key", "by"),
            ("Group Key", "by"),
            ("Sort Method", "with"),
            ("Rows Removed by Filter", "drops"),
            ("Subplan Name", "as"),
            ("Workers Launched", "workers"),
            ("Relations", "of"),
            ("Remote SQL", "sends"),
        ] {
            details.extend(words(json, name).map(|value| format!("{label} {value}")));
        }
        let parts = json.get("Plans").and_then(Json::as_array);
        Step {
            what,
            on,
            details,
            expected: number(json, "Plan Rows").map(|rows| rows * each),
            rows: number(json, "Actual Rows").map(|rows| rows * each),
            runs,
            cost: number(json, "Total Cost"),
            time: number(json, "Actual Total Time").map(|time| time * each),
            parts: parts.map_or(Vec::new(), |list| list.iter().map(step).collect()),
        }
    }
    let (json, text) = parsed(rows)?;
    let first = json.get(0).cloned().unwrap_or_default();
    let mut notes = Vec::new();
    if let (Some(planning), Some(running)) = (
        number(&first, "Planning Time"),
        number(&first, "Execution Time"),
    ) {
        notes.push(format!(
            "Planning took {planning:.1} ms, running {running:.1} ms."
        ));
    }
    Ok(Plan {
        steps: first.get("Plan").map(step).into_iter().collect(),
        text,
        notes,
        ..Plan::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_that_is_no_json_is_said() {
        let error = of_postgres(&[vec!["Seq Scan on t".into()]]).expect_err("no json");
        assert!(error.message.contains("could not be read"));
    }
}
