//! A plan as a page: a tree of steps with their numbers, the costly one marked, the server's own text below.

use idle_tide_core::Catalog;
use idle_tide_core::plan::{Plan, Step};
use idle_tide_draw::picture::grouped;
use idle_tide_lang::scope::scope;
use idle_tide_lang::{Dialect, tokens};

use crate::page::{Line, Page, Tone};

fn count(number: Option<f64>) -> String {
    number.map_or(String::new(), |n| grouped(n.round().max(0.0) as u64))
}

fn time(number: Option<f64>) -> String {
    match number {
        Some(ms) if ms >= 1_000.0 => format!("{:.2} s", ms / 1_000.0),
        Some(ms) if ms >= 10.0 => format!("{ms:.0} ms"),
        Some(ms) => format!("{ms:.2} ms"),
        None => String::new(),
    }
}

/// Where neither times nor costs are told: the step that goes through most rows, by what the catalog knows.
fn widest(plan: &Plan, catalog: &Catalog, statement: &str, dialect: &Dialect) -> Option<usize> {
    let named = scope(statement, &tokens(statement, dialect), 0, dialect).tables;
    let rows = |step: &Step| {
        if !step.what.starts_with("every row") {
            return None;
        }
        let word = step.on.split_whitespace().last()?;
        // A plan may know a table by its alias only.
        let alias = named
            .iter()
            .find(|table| table.qualifier().eq_ignore_ascii_case(word));
        let table = alias.map_or(word, |table| table.name.as_str());
        catalog.table(table)?.rows.filter(|rows| *rows >= 1_000)
    };
    let walk = plan.walk();
    let known = walk
        .iter()
        .enumerate()
        .filter_map(|(at, (_, step))| rows(step).map(|rows| (rows, at)));
    known.max().map(|(_, at)| at)
}

/// The page of a plan.
pub fn page(plan: &Plan, statement: &str, catalog: &Catalog, dialect: &Dialect) -> Page {
    let mut page = Page::new();
    let heading = if plan.measured {
        "How it ran"
    } else {
        "How it would run"
    };
    page.say(Tone::Heading, heading);
    for note in &plan.notes {
        page.say(Tone::Faint, note.clone());
    }
    page.gap();
    let walk = plan.walk();
    let costly = plan.costliest();
    let marked = costly
        .map(|(at, _)| at)
        .or_else(|| widest(plan, catalog, statement, dialect).filter(|_| costly.is_none()));
    type Show = fn(&Step) -> String;
    let all: [(&str, Show); 5] = [
        ("own time", |s| time(s.own_time())),
        ("own cost", |s| {
            if s.time.is_some() {
                String::new()
            } else {
                s.own_cost().map_or(String::new(), |c| format!("{c:.1}"))
            }
        }),
        ("rows", |s| count(s.rows)),
        ("expected", |s| count(s.expected)),
        ("runs", |s| {
            s.runs
                .filter(|runs| *runs > 1.0)
                .map_or(String::new(), |runs| count(Some(runs)))
        }),
    ];
    let shown: Vec<(&str, Show, usize)> = all
        .into_iter()
        .map(|(name, show)| {
            let widest = walk
                .iter()
                .map(|(_, step)| show(step).chars().count())
                .max()
                .unwrap_or(0);
            (
                name,
                show,
                if widest == 0 {
                    0
                } else {
                    widest.max(name.chars().count())
                },
            )
        })
        .filter(|(.., width)| *width > 0)
        .collect();
    let mut head = Line::new();
    for (name, _, width) in &shown {
        head = head.and(Tone::Faint, format!("{name:>width$}  "));
    }
    page.line(head.and(Tone::Faint, "step"));
    for (at, (depth, step)) in walk.iter().enumerate() {
        let is_marked = marked == Some(at);
        let mut line = Line::new();
        for (_, show, width) in &shown {
            let text = format!("{:>width$}  ", show(step));
            line = line.and(if is_marked { Tone::Care } else { Tone::Number }, text);
        }
        line = line.and(Tone::Faint, "│ ".repeat(*depth)).and(
            if is_marked { Tone::Care } else { Tone::Heading },
            step.what.clone(),
        );
        if !step.on.is_empty() {
            line = line.and(Tone::Active, format!(" {}", step.on));
        }
        if is_marked {
            let words = match costly {
                Some((_, share)) if plan.measured => {
                    format!("   {:.0} % of the time", share * 100.0)
                }
                Some((_, share)) => format!("   {:.0} % of the cost", share * 100.0),
                None => "   goes through the most rows".into(),
            };
            line = line.and(Tone::Care, words);
        }
        page.line(line);
        let indent: usize = shown.iter().map(|(.., width)| width + 2).sum();
        for detail in &step.details {
            page.line(
                Line::new()
                    .and(Tone::Plain, " ".repeat(indent))
                    .and(Tone::Faint, "│ ".repeat(depth + 1))
                    .and(Tone::Faint, detail.clone()),
            );
        }
    }
    page.gap();
    page.say(Tone::Heading, "Of");
    page.sql(statement, dialect);
    page.gap();
    page.say(Tone::Heading, "The server's own text");
    for line in plan.text.lines() {
        page.say(Tone::Faint, line);
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::catalog::{Kind, Object};
    use idle_tide_lang::dialect::{POSTGRES, SQLITE};

    #[test]
    fn numbers_stand_in_columns_and_the_costly_step_is_marked() {
        let step = |what: &str, on: &str, time: f64, rows: f64, parts| Step {
            what: what.into(),
            on: on.into(),
            time: Some(time),
            rows: Some(rows),
            expected: Some(rows / 2.0),
            parts,
            ..Step::default()
        };
        let mut scan = step("seq scan", "dues", 1_200.0, 12_027.0, Vec::new());
        scan.details = vec!["keeps (paid_on is null)".into()];
        let plan = Plan {
            steps: vec![step("aggregate", "", 1_200.5, 1.0, vec![scan])],
            measured: true,
            text: "[the server's words]".into(),
            notes: vec!["Planning took 1 ms.".into()],
        };
        let text = page(&plan, "select 1", &Catalog::default(), &POSTGRES).text();
        let expected = "How it ran
Planning took 1 ms.

own time    rows  expected  step
 0.50 ms       1         1  aggregate
  1.20 s  12 027     6 014  │ seq scan dues   100 % of the time
                            │ │ keeps (paid_on is null)
";
        assert!(text.starts_with(expected), "{text}");
        assert!(text.contains("[the server's words]"));
    }

    #[test]
    fn without_numbers_the_largest_table_gone_through_is_marked() {
        let table = |name: &str, rows| Object {
            rows: Some(rows),
            ..Object::new("main", name, Kind::Table)
        };
        let catalog = Catalog {
            objects: vec![table("owners", 3_000), table("visits", 12_000)],
            path: vec!["main".into()],
            ..Catalog::default()
        };
        let step = |what: &str, on: &str| Step {
            what: what.into(),
            on: on.into(),
            ..Step::default()
        };
        let plan = Plan {
            steps: vec![
                step("every row of", "o"),
                step("every row of", "s"),
                step("looks up in", "s"),
            ],
            ..Plan::default()
        };
        let text = page(&plan, "select * from owners o, visits s", &catalog, &SQLITE).text();
        assert!(
            text.contains("every row of s   goes through the most rows"),
            "{text}"
        );
        assert!(!text.contains("every row of o   goes"));
    }
}
