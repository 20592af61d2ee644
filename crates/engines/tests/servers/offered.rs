//! Completion against the servers: a column that is offered is no name that they do not know, or cannot tell from
//! another.

use idle_tide_engines::{Connection, load_harbour};
use idle_tide_lang::complete::{Offer, Sources, complete};
use idle_tide_lang::correct::Complaint;

use crate::place::{own, run, servers};

/// The statements of the test on SQLite, of which each server is asked what it understands.
const STATEMENTS: &str = include_str!("../against_sqlite/offered.txt");

/// What a server finds wrong with the names of a statement that it explains and does not run.
fn complaint(c: &mut dyn Connection, sql: &str) -> Option<Complaint> {
    let error = run(c, &format!("explain {sql}")).err()?;
    matches!(
        error.complaint,
        Complaint::NoSuchColumn(_) | Complaint::NoSuchTable(_) | Complaint::AmbiguousColumn(_)
    )
    .then_some(error.complaint)
}

#[test]
fn what_is_offered_is_known_to_the_server() {
    for server in servers() {
        let mut c = own(server, "offered");
        let settings = idle_tide_harbour::Settings {
            readings: 10,
            ..Default::default()
        };
        load_harbour(&mut *c, &settings).expect("loaded");
        let catalog = c.describe().catalog(1, &mut |_| {}).expect("read");
        let from = Sources {
            catalog: &catalog,
            dialect: c.dialect(),
            columns: &[],
            entries: &[],
            names: &[],
            topics: &[],
        };
        let (mut wrong, mut asked) = (Vec::new(), 0);
        for statement in STATEMENTS.lines() {
            let explained = ["select", "with", "update", "delete", "insert"];
            if !explained.iter().any(|word| statement.starts_with(word)) {
                continue;
            }
            let statement = statement.replace("\\n", "\n");
            let cursor = statement.rfind('|').expect("a place");
            let (before, after) = (&statement[..cursor], &statement[cursor + 1..]);
            let text = format!("{before}{after}");
            let completion = complete(&text, cursor, true, &from);
            let columns = completion.candidates.iter();
            for one in columns.filter(|one| one.offer == Offer::Column) {
                let span = one.span.clone().unwrap_or(completion.span.clone());
                let whole = format!("{}{}{}", &text[..span.start], one.insert, &text[span.end..]);
                asked += 1;
                if let Some(why) = complaint(&mut *c, &whole) {
                    wrong.push(format!("{whole}\n    {why:?}"));
                }
            }
        }
        assert!(asked > 300, "{server}: {asked}");
        assert!(
            wrong.is_empty(),
            "{server}, {} of {asked}:\n{}",
            wrong.len(),
            wrong.join("\n")
        );
    }
}
