//! Plans of servers over the Tabular Data Stream: XML of the public schema `showplan`, a step an element `RelOp`.

use idle_tide_core::plan::{Plan, Step};
use roxmltree::{Document, Node};

use crate::engine::EngineError;

fn number(node: Node<'_, '_>, name: &str) -> Option<f64> {
    node.attribute(name)?.parse().ok()
}

fn is(node: &Node<'_, '_>, name: &str) -> bool {
    node.tag_name().name() == name
}

/// What lies in a step and not in one of its parts.
fn own<'a, 'b>(step: Node<'a, 'b>) -> Vec<Node<'a, 'b>> {
    let (mut found, mut left) = (Vec::new(), step.children().collect::<Vec<_>>());
    while let Some(node) = left.pop() {
        if !is(&node, "RelOp") {
            left.extend(node.children());
        }
        found.push(node);
    }
    found.reverse();
    found
}

fn bare(name: &str) -> String {
    name.trim_start_matches('[')
        .trim_end_matches(']')
        .to_string()
}

fn step(node: Node<'_, '_>) -> Step {
    let inside = own(node);
    let mut what = node
        .attribute("PhysicalOp")
        .unwrap_or_default()
        .to_lowercase();
    let logical = node
        .attribute("LogicalOp")
        .unwrap_or_default()
        .to_lowercase();
    if !logical.is_empty() && logical != what {
        what = format!("{what}, {logical}");
    }
    let object = inside.iter().find(|node| is(node, "Object"));
    let of = |name: &str| object.and_then(|object| object.attribute(name)).map(bare);
    let mut on = of("Table").unwrap_or_default();
    if let Some(alias) = of("Alias").filter(|alias| *alias != on) {
        on = format!("{on} {alias}").trim().to_string();
    }
    let mut details: Vec<String> = of("Index")
        .map(|index| format!("by {index}"))
        .into_iter()
        .collect();
    for node in &inside {
        let label = match node.tag_name().name() {
            "SeekPredicates" => "where",
            "Predicate" => "keeps",
            _ => continue,
        };
        let words = node
            .descendants()
            .find_map(|node| node.attribute("ScalarString"));
        details.extend(words.map(|words| format!("{label} {words}")));
    }
    let threads: Vec<Node<'_, '_>> = inside
        .iter()
        .filter(|node| is(node, "RunTimeCountersPerThread"))
        .copied()
        .collect();
    let sum = |name: &str| {
        let each: Vec<f64> = threads
            .iter()
            .filter_map(|thread| number(*thread, name))
            .collect();
        (!each.is_empty()).then(|| each.iter().sum())
    };
    let longest = threads
        .iter()
        .filter_map(|thread| number(*thread, "ActualElapsedms"))
        .reduce(f64::max);
    let mut parts: Vec<Step> = inside
        .iter()
        .filter(|node| is(node, "RelOp"))
        .map(|node| step(*node))
        .collect();
    parts.retain(|part| !part.what.is_empty());
    Step {
        what,
        on,
        details,
        expected: number(node, "EstimateRows"),
        rows: sum("ActualRows"),
        runs: sum("ActualExecutions"),
        cost: number(node, "EstimatedTotalSubtreeCost"),
        time: longest,
        parts,
    }
}

/// The answer while `showplan_xml` or `statistics xml` is on: the XML stands in the last row that begins with it.
pub(super) fn of_tabular(rows: &[Vec<String>]) -> Result<Plan, EngineError> {
    let texts = rows.iter().filter_map(|row| row.first());
    let found: Vec<&String> = texts
        .filter(|text| text.trim_start().starts_with("<ShowPlanXML"))
        .collect();
    let Some(text) = found.last() else {
        return Err(EngineError::plain(
            "The server told no plan. It asks for a right of its own (showplan).",
        ));
    };
    let unread = |error: roxmltree::Error| {
        EngineError::plain(format!("The server's plan could not be read: {error}."))
    };
    let document = Document::parse(text).map_err(unread)?;
    let plans = document.descendants().filter(|node| is(node, "QueryPlan"));
    let steps: Vec<Step> = plans
        .flat_map(|plan| {
            plan.children()
                .filter(|node| is(node, "RelOp"))
                .map(step)
                .collect::<Vec<_>>()
        })
        .collect();
    let missing = document
        .descendants()
        .filter(|node| is(node, "MissingIndex"))
        .filter_map(|node| node.attribute("Table"));
    let notes = missing
        .map(|table| format!("The server misses an index of {}.", bare(table)))
        .collect();
    Ok(Plan {
        steps,
        text: text.to_string(),
        notes,
        ..Plan::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_stand_in_each_other_with_their_numbers() {
        let xml = r#"<ShowPlanXML xmlns="x"><BatchSequence><Batch><Statements><StmtSimple><QueryPlan>
          <RelOp PhysicalOp="Nested Loops" LogicalOp="Inner Join" EstimateRows="3" EstimatedTotalSubtreeCost="0.5"><NestedLoops>
            <RelOp PhysicalOp="Index Seek" LogicalOp="Index Seek" EstimateRows="1" EstimatedTotalSubtreeCost="0.1">
              <RunTimeInformation><RunTimeCountersPerThread ActualRows="2" ActualExecutions="1" ActualElapsedms="7"/><RunTimeCountersPerThread ActualRows="3" ActualExecutions="1" ActualElapsedms="9"/></RunTimeInformation>
              <IndexScan><Object Table="[visits]" Index="[by_vessel]" Alias="[s]"/><SeekPredicates><X ScalarString="[s].[id]=(4)"/></SeekPredicates></IndexScan></RelOp>
          </NestedLoops></RelOp></QueryPlan></StmtSimple></Statements></Batch></BatchSequence></ShowPlanXML>"#;
        let plan = of_tabular(&[vec!["a row".into()], vec![xml.into()]]).expect("a plan");
        let outer = &plan.steps[0];
        assert_eq!(
            (outer.what.as_str(), outer.expected, outer.parts.len()),
            ("nested loops, inner join", Some(3.0), 1)
        );
        let inner = &outer.parts[0];
        assert_eq!(
            (inner.what.as_str(), inner.on.as_str()),
            ("index seek", "visits s")
        );
        assert_eq!(inner.details, ["by by_vessel", "where [s].[id]=(4)"]);
        assert_eq!(
            (inner.rows, inner.runs, inner.time),
            (Some(5.0), Some(2.0), Some(9.0))
        );
        assert!(of_tabular(&[vec!["<ShowPlanXML".into()]]).is_err() && of_tabular(&[]).is_err());
    }
}
