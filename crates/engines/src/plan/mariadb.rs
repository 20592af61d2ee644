//! Plans of MariaDB: JSON in which names hold objects.

use idle_tide_core::plan::{Plan, Step};
use serde_json::Value as Json;

use super::{number, parsed, words};
use crate::engine::EngineError;

/// MariaDB nests what it does in objects by its name; a name that holds objects is a step.
pub(super) fn of_mariadb(rows: &[Vec<String>]) -> Result<Plan, EngineError> {
    const LISTS: &[&str] = &[
        "nested_loop",
        "query_specifications",
        "subqueries",
        "attached_subqueries",
        "optimized_away_subqueries",
        "select_list_subqueries",
        "order_by_subqueries",
    ];
    const FACTS: &[&str] = &[
        "cost_info",
        "used_columns",
        "query_optimization",
        "buffers",
        "r_engine_stats",
        "rowid_filter",
        "index_merge",
    ];
    fn parts(json: &Json, depth: usize) -> Vec<Step> {
        let Some(fields) = json.as_object().filter(|_| depth < 100) else {
            return Vec::new();
        };
        let mut list = Vec::new();
        for (name, value) in fields {
            match value {
                Json::Array(items) if LISTS.contains(&name.as_str()) => {
                    for item in items {
                        list.extend(parts(item, depth + 1));
                    }
                }
                Json::Object(_) if name == "query_block" => {
                    // The block itself says little; what is in it counts.
                    list.extend(block(value, depth + 1));
                }
                Json::Object(_) if !FACTS.contains(&name.as_str()) => {
                    list.push(step(name, value, depth + 1))
                }
                _ => {}
            }
        }
        list
    }
    fn block(json: &Json, depth: usize) -> Vec<Step> {
        let inner = parts(json, depth);
        let number_of = number(json, "select_id");
        let time = number(json, "r_total_time_ms");
        let cost = number(json, "cost")
            .or_else(|| json.get("cost_info").and_then(|c| number(c, "query_cost")));
        vec![Step {
            what: match number_of {
                Some(n) if n > 1.0 => format!("query {n}"),
                _ => "query".into(),
            },
            details: words(json, "message").into_iter().collect(),
            time,
            cost,
            runs: number(json, "r_loops"),
            parts: inner,
            ..Step::default()
        }]
    }
    fn step(name: &str, json: &Json, depth: usize) -> Step {
        let runs = number(json, "r_loops");
        let each = runs.unwrap_or(1.0).max(1.0);
        let mut details = Vec::new();
        for (field, label) in [
            ("key", "by"),
            ("ref", "with"),
            ("sort_key", "by"),
            ("attached_condition", "keeps"),
            ("index_condition", "where"),
        ] {
            details.extend(words(json, field).map(|value| format!("{label} {value}")));
        }
        let access = words(json, "access_type");
        let what = match access.as_deref() {
            Some("ALL") => "every row of".into(),
            Some("index") => "every row, in the order of an index, of".into(),
            Some("const" | "system" | "eq_ref") => "one row of".into(),
            Some("ref" | "ref_or_null") => "looks up in".into(),
            Some("range") => "a range of".into(),
            Some(other) => other.to_string(),
            None => name.replace(['_', '-'], " "),
        };
        Step {
            what,
            on: words(json, "table_name").unwrap_or_default(),
            details,
            expected: number(json, "rows")
                .or_else(|| number(json, "rows_examined_per_scan"))
                .map(|rows| rows * each),
            rows: number(json, "r_rows")
                .or_else(|| number(json, "r_output_rows"))
                .map(|rows| rows * each),
            runs,
            cost: number(json, "cost")
                .or_else(|| json.get("cost_info").and_then(|c| number(c, "prefix_cost"))),
            time: number(json, "r_total_time_ms").or_else(|| {
                number(json, "r_table_time_ms")
                    .map(|t| t + number(json, "r_other_time_ms").unwrap_or(0.0))
            }),
            parts: parts(json, depth),
        }
    }
    let (json, text) = parsed(rows)?;
    Ok(Plan {
        steps: parts(&json, 0),
        text,
        ..Plan::default()
    })
}
