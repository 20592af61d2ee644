//! The embedded database's plan in the XML that servers of the family tell plans in.

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('"', "&quot;")
}

fn step(steps: &[(i64, i64, String)], at: usize, out: &mut String) {
    let (number, _, words) = &steps[at];
    let mut parts = words.split_whitespace();
    let (first, second) = (
        parts.next().unwrap_or_default(),
        parts.next().unwrap_or_default(),
    );
    let index = words
        .split_once("INDEX ")
        .map(|(_, rest)| rest.split_whitespace().next().unwrap_or_default());
    let (operator, object) = match (first, index) {
        ("SCAN", None) if second != "CONSTANT" => ("Table Scan", Some(second)),
        ("SCAN", Some(_)) => ("Index Scan", Some(second)),
        ("SEARCH", Some(_)) => ("Index Seek", Some(second)),
        ("SEARCH", None) => ("Clustered Index Seek", Some(second)),
        ("USE", _) => ("Sort", None),
        _ => ("Compute Scalar", None),
    };
    out.push_str(&format!(
        "<RelOp NodeId=\"{number}\" PhysicalOp=\"{operator}\" LogicalOp=\"{operator}\" EstimateRows=\"{}\" EstimatedTotalSubtreeCost=\"{}\">",
        if first == "SCAN" { "1000" } else { "10" },
        if first == "SCAN" { "0.5" } else { "0.003" },
    ));
    let tag = operator.split_whitespace().next_back().unwrap_or("Step");
    out.push_str(&format!("<{tag}>"));
    if let Some(object) = object {
        let index = index.map_or(String::new(), |index| {
            format!(" Index=\"[{}]\"", escaped(index))
        });
        out.push_str(&format!(
            "<Object Schema=\"[dbo]\" Table=\"[{}]\"{index}/>",
            escaped(object)
        ));
    }
    for (below, (_, parent, _)) in steps.iter().enumerate() {
        if parent == number {
            step(steps, below, out);
        }
    }
    out.push_str(&format!("</{tag}></RelOp>"));
}

/// The XML of steps: number, the number of the one above, and words.
pub(crate) fn xml(
    steps: &[(i64, i64, String)],
    statement: &str,
    measured: Option<(u64, std::time::Duration)>,
) -> String {
    let mut inside = String::new();
    let run = measured.map_or(String::new(), |(rows, took)| {
        format!(
            "<RunTimeInformation><RunTimeCountersPerThread Thread=\"0\" ActualRows=\"{rows}\" ActualExecutions=\"1\" ActualElapsedms=\"{}\"/></RunTimeInformation>",
            took.as_millis()
        )
    });
    for (at, (_, parent, _)) in steps.iter().enumerate() {
        if *parent == 0 {
            step(steps, at, &mut inside);
        }
    }
    format!(
        "<ShowPlanXML xmlns=\"http://schemas.microsoft.com/sqlserver/2004/07/showplan\" Version=\"1.564\"><BatchSequence><Batch><Statements>\
         <StmtSimple StatementText=\"{}\" StatementType=\"SELECT\" StatementSubTreeCost=\"0.5\" StatementEstRows=\"1000\"><QueryPlan>\
         <RelOp NodeId=\"0\" PhysicalOp=\"Nested Loops\" LogicalOp=\"Inner Join\" EstimateRows=\"1000\" EstimatedTotalSubtreeCost=\"0.5\">\
         {run}<NestedLoops>{inside}</NestedLoops></RelOp></QueryPlan></StmtSimple></Statements></Batch></BatchSequence></ShowPlanXML>",
        escaped(statement)
    )
}
