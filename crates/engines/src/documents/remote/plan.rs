//! The server's plan as a tree.

use super::*;

/// A step of a plan, from the server's own tree.
pub(super) fn step(of: &Document) -> PlanStep {
    let text = |name: &str| {
        of.get(name)
            .and_then(Datum::as_text)
            .unwrap_or_default()
            .to_string()
    };
    let number = |name: &str| of.get(name).and_then(Datum::as_f64);
    let mut details = Vec::new();
    for name in [
        "filter",
        "keyPattern",
        "indexBounds",
        "sortPattern",
        "limitAmount",
        "direction",
    ] {
        if let Some(value) = of
            .get(name)
            .filter(|v| !matches!(v, Datum::Object(o) if o.is_empty()))
        {
            details.push(format!("{name} {}", idle_tide_lang::flow::literal(value)));
        }
    }
    let mut parts: Vec<PlanStep> = Vec::new();
    for name in ["inputStage", "outerStage", "innerStage", "queryPlan"] {
        if let Some(Datum::Object(inner)) = of.get(name) {
            parts.push(step(inner));
        }
    }
    for inner in of
        .get("inputStages")
        .and_then(Datum::as_list)
        .unwrap_or_default()
    {
        if let Datum::Object(inner) = inner {
            parts.push(step(inner));
        }
    }
    PlanStep {
        what: text("stage"),
        on: text("indexName"),
        details,
        rows: number("nReturned"),
        time: number("executionTimeMillisEstimate"),
        runs: None,
        parts,
        ..PlanStep::default()
    }
}

pub(super) fn plan_of(found: &Document) -> PlanStep {
    let inner = |d: &Document, a: &str, b: &str| {
        d.get(a)
            .and_then(Datum::as_object)
            .and_then(|o| o.get(b))
            .and_then(Datum::as_object)
            .map(step)
    };
    let cursor = |d: &Document| {
        inner(d, "executionStats", "executionStages")
            .or_else(|| inner(d, "queryPlanner", "winningPlan"))
    };
    let mut below = cursor(found);
    for stage in found
        .get("stages")
        .and_then(Datum::as_list)
        .unwrap_or_default()
    {
        let Some((name, value)) = stage.as_object().and_then(|s| s.fields.first()) else {
            continue;
        };
        if name == "$cursor" {
            below = value.as_object().and_then(cursor);
            continue;
        }
        below = Some(PlanStep {
            what: name.to_string(),
            details: vec![idle_tide_lang::flow::literal(value)],
            parts: below.into_iter().collect(),
            ..PlanStep::default()
        });
    }
    below.unwrap_or_default()
}
