//! Plans of MySQL: a tree of lines (since version 8.0), each with its estimate and what was measured at one run of it; or
//! rows, one a table, for statements that have no tree.

use idle_tide_core::plan::{Plan, Step};

/// The answer of `explain format=tree`, or of `explain analyze`; without steps where the server has no tree for it.
pub(super) fn of_tree(rows: &[Vec<String>]) -> Plan {
    let text: Vec<&str> = rows.iter().flatten().map(String::as_str).collect();
    let text = text.join("\n");
    // A line that begins no step belongs to the one before: a text in a condition may have several.
    let mut lines: Vec<(usize, String)> = Vec::new();
    for line in text.lines() {
        let inner = line.trim_start_matches(' ');
        match (inner.strip_prefix("-> "), lines.last_mut()) {
            (Some(words), _) => lines.push((line.len() - inner.len(), words.to_string())),
            (None, Some((_, before))) if !inner.is_empty() => {
                before.push(' ');
                before.push_str(inner);
            }
            _ => {}
        }
    }
    lines.retain(|(_, words)| !words.starts_with("<not executable"));
    let mut at = 0;
    let steps = parts(&lines, &mut at, 0, 0);
    Plan {
        steps,
        text: text.trim_end().to_string(),
        ..Plan::default()
    }
}

/// The steps that stand at least so far to the right, from a line on.
fn parts(lines: &[(usize, String)], at: &mut usize, from: usize, depth: usize) -> Vec<Step> {
    let mut list: Vec<Step> = Vec::new();
    while let Some((indent, words)) = lines.get(*at).filter(|(indent, _)| *indent >= from) {
        *at += 1;
        let mut step = step(words);
        if depth < 200 {
            step.parts = parts(lines, at, indent + 1, depth + 1);
        }
        list.push(step);
    }
    list
}

/// What the server says in front of a table, and how it is said here.
const ON: &[(&str, &str)] = &[
    ("table scan", "every row of"),
    ("index scan", "every row, in the order of an index, of"),
    ("index range scan", "a range of"),
    ("single-row index lookup", "one row of"),
    ("index lookup", "looks up in"),
];

fn step(line: &str) -> Step {
    let (words, measured) = last_group(line, "actual time=");
    let never = words.ends_with("(never executed)");
    let (words, estimate) = last_group(
        words.trim_end_matches("(never executed)").trim_end(),
        "cost=",
    );
    let runs = measured.and_then(|group| number(group, "loops="));
    let each = runs.unwrap_or(1.0).max(1.0);
    let mut step = Step {
        expected: estimate
            .and_then(|group| number(group, "rows="))
            .map(|rows| rows * each),
        cost: estimate.and_then(|group| number(group, "cost=")),
        rows: measured
            .and_then(|group| number(group, "rows="))
            .map(|rows| rows * each),
        time: measured
            .and_then(|group| number(group, "time="))
            .map(|time| time * each),
        runs: runs.or(never.then_some(0.0)),
        ..Step::default()
    };
    let on = words.split_once(" on ").and_then(|(head, rest)| {
        let head = head.to_lowercase().replace("covering ", "");
        let (_, what) = ON.iter().find(|(said, _)| *said == head)?;
        Some((what, rest))
    });
    if let Some((what, rest)) = on {
        let (table, by) = rest
            .split_once(" using ")
            .map_or((rest, None), |(table, by)| (table, Some(by)));
        step.what = what.to_string();
        step.on = table.to_string();
        step.details.extend(by.map(|by| format!("by {by}")));
        return step;
    }
    let labels = [("Filter", "keeps "), ("Sort", "by "), ("Select", "")];
    match words.split_once(": ") {
        Some((head, rest)) => {
            let label = labels.iter().find(|(name, _)| head.starts_with(name));
            let label = label.map_or("", |(_, label)| label);
            step.what = head.to_lowercase();
            step.details.push(format!("{label}{}", rest.trim()));
        }
        None => match words.split_once(" (") {
            Some((head, rest)) => {
                step.what = head.to_lowercase();
                step.details
                    .push(rest.trim_end_matches(')').trim().to_string());
            }
            None => step.what = words.to_lowercase(),
        },
    }
    step
}

/// A line without its last group of numbers in brackets, if that has this word, and the group.
fn last_group<'a>(line: &'a str, word: &str) -> (&'a str, Option<&'a str>) {
    let line = line.trim_end();
    let found = line.rfind(&format!("({word}"));
    match found.filter(|at| line[*at..].find(')') == Some(line.len() - at - 1)) {
        Some(at) => (line[..at].trim_end(), Some(&line[at..])),
        None => (line, None),
    }
}

/// A number behind a word; the second one of a range.
fn number(group: &str, word: &str) -> Option<f64> {
    let (_, rest) = group.split_once(word)?;
    let text = rest.split([' ', ')']).next()?;
    text.rsplit("..").next()?.parse().ok()
}

/// The answer of `explain format=traditional`: a row a table, in the order in which they are gone through.
pub(super) fn of_rows(rows: &[Vec<String>]) -> Plan {
    let steps = rows.iter().filter_map(|row| {
        let [_, kind, table, _, access, _, key, _, _, expected, .., more] = &row[..] else {
            return None;
        };
        let what = match access.as_str() {
            "ALL" => "every row of",
            "index" => "every row, in the order of an index, of",
            "const" | "system" | "eq_ref" => "one row of",
            "ref" | "ref_or_null" => "looks up in",
            "range" => "a range of",
            "" => kind.as_str(),
            other => other,
        };
        let by = (!key.is_empty()).then(|| format!("by {key}"));
        Some(Step {
            what: what.to_lowercase(),
            on: table.clone(),
            details: by
                .into_iter()
                .chain((!more.is_empty()).then(|| more.to_lowercase()))
                .collect(),
            expected: expected.parse().ok(),
            ..Step::default()
        })
    });
    let text: Vec<String> = rows.iter().map(|row| row.join("  ")).collect();
    Plan {
        steps: steps.collect(),
        text: text.join("\n"),
        ..Plan::default()
    }
}

#[cfg(test)]
mod tests {
    use super::super::outline;
    use super::*;

    #[test]
    fn lines_become_a_tree_with_numbers_of_all_runs() {
        let plan = of_tree(&[vec![
            "-> Limit: 3 row(s)  (actual time=39.5..39.5 rows=3 loops=1)\n    -> Sort: v.arrived, limit input to 3 row(s) per chunk  (cost=9489 rows=12115) (actual time=39.5..39.5 rows=3 loops=1)\n        -> Nested loop inner join  (cost=1e+3 rows=4) (never executed)\n            -> Filter: (d.note = 'a\nb (cost=2) -> c')  (cost=0.5..0.6 rows=1) (actual time=0.5e-3..0.2 rows=0.5 loops=10)\n                -> Covering index scan on dues using dues_by_visit  (cost=1009 rows=12115)\n            -> Single-row index lookup on v using PRIMARY (id = dues.visit_id)  (cost=3029 rows=1) (actual time=0.001..0.002 rows=1 loops=10054)\n".into(),
        ]]);
        assert_eq!(
            outline(&plan),
            [
                (0, "limit", ""),
                (1, "sort", ""),
                (2, "nested loop inner join", ""),
                (3, "filter", ""),
                (4, "every row, in the order of an index, of", "dues"),
                (3, "one row of", "v"),
            ]
        );
        let walk = plan.walk();
        assert_eq!(walk[3].1.details, ["keeps (d.note = 'a b (cost=2) -> c')"]);
        let numbers = |at: usize| {
            let step = walk[at].1;
            (step.expected, step.rows, step.runs, step.cost)
        };
        assert_eq!(numbers(2), (Some(4.0), None, Some(0.0), Some(1000.0)));
        assert_eq!(numbers(3), (Some(10.0), Some(5.0), Some(10.0), Some(0.6)));
        assert_eq!(walk[3].1.time, Some(2.0));
        assert_eq!(walk[5].1.details, ["by PRIMARY (id = dues.visit_id)"]);
        let none = vec!["-> <not executable by iterator executor>\n".to_string()];
        assert!(of_tree(&[none]).steps.is_empty());
    }
}
