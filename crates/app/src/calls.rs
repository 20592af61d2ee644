//! Calls of the program that are one command of the desk each, so that scripts need no statement for them.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::arguments::{Lent, Output, Run, Server};

/// A call that is one command.
#[derive(Debug, Subcommand)]
pub enum Call {
    /// Try whether a source answers and lets one in; say what it is
    Check(Of),
    /// List the databases of a server
    Databases(List),
    /// List tables and views, or collections
    List(List),
    /// One object in full: columns, keys, indexes, links, definition
    About(Named),
    /// The statements that make an object again, or everything
    Definition(Named),
    /// Write a table, or what a statement gives, to a file
    Export(Export),
    /// Load rows of a file into a table or collection
    Load(Load),
    /// Ask with SQL across the results of statements on any sources, and files
    Across(Across),
}

/// A question across results.
#[derive(Debug, Args)]
pub struct Across {
    /// A result, the name it has in the question, its source and its statement
    #[arg(long, value_name = "NAME=SOURCE:STATEMENT", value_parser = lent)]
    from: Vec<Lent>,
    /// The question; files stand in quotes: from 'prices.csv'
    sql: String,
    /// Draw the answer: a kind and options as in /chart, or "" for what fits
    #[arg(
        long,
        value_name = "KIND",
        allow_hyphen_values = true,
        conflicts_with = "format"
    )]
    chart: Option<String>,
    #[command(flatten)]
    output: Output,
}

/// Words with which statements begin that give rows.
const BEGIN: [&str; 7] = ["select", "with", "from", "values", "table", "show", "call"];

fn lent(text: &str) -> Result<Lent, String> {
    let how = "it is written NAME=SOURCE:STATEMENT, such as a=demo:'select * from vessels'";
    let (name, rest) = text.split_once('=').ok_or(how)?;
    // A source has colons of its own; the statement begins behind the first that a statement can follow.
    let begins = |at: &usize| {
        let after = rest[at + 1..].trim_start();
        BEGIN.iter().any(|word| {
            let head = after
                .get(..word.len())
                .is_some_and(|head| head.eq_ignore_ascii_case(word));
            head && after[word.len()..].starts_with(|c: char| !c.is_alphanumeric() && c != '_')
        })
    };
    let mut colons = rest.match_indices(':').map(|(at, _)| at);
    let at = colons.find(begins).ok_or(how)?;
    let letters = |c: char| c.is_alphanumeric() || c == '_';
    if name.is_empty() || !name.chars().all(letters) {
        return Err(format!(
            "{name} is no name for a result: letters, digits and _."
        ));
    }
    Ok(Lent {
        name: name.into(),
        source: rest[..at].into(),
        statement: rest[at + 1..].trim().trim_end_matches(';').into(),
    })
}

/// A source.
#[derive(Debug, Args)]
pub struct Of {
    /// An address, a saved name, a database file or demo
    source: String,
    #[command(flatten)]
    server: Server,
}

/// A list of a source.
#[derive(Debug, Args)]
pub struct List {
    #[command(flatten)]
    of: Of,
    /// Only those whose names fit; * stands for anything
    pattern: Option<String>,
    /// Sizes and more too
    #[arg(long)]
    full: bool,
    #[command(flatten)]
    output: Output,
}

/// An object of a source.
#[derive(Debug, Args)]
pub struct Named {
    #[command(flatten)]
    of: Of,
    /// The object
    name: Option<String>,
}

/// What is exported.
#[derive(Debug, Args)]
pub struct Export {
    #[command(flatten)]
    of: Of,
    /// A table or collection, or a statement
    what: String,
    /// The file; its ending is its format unless --format says otherwise
    file: PathBuf,
    #[command(flatten)]
    output: Output,
}

/// What is loaded.
#[derive(Debug, Args)]
pub struct Load {
    #[command(flatten)]
    of: Of,
    /// The file; - is standard input
    file: String,
    /// The table or collection; it is made where it is not there
    #[arg(long, value_name = "NAME")]
    into: String,
    /// Only show what would happen
    #[arg(long)]
    dry: bool,
    /// Further options of /load, such as --separator ';' or --key id
    #[arg(last = true)]
    options: Vec<String>,
}

/// A word of a command, in quotes where it needs them.
fn word(text: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || "_-./:=*".contains(c);
    match !text.is_empty() && text.chars().all(plain) {
        true => text.to_string(),
        false if text.contains('"') => format!("'{text}'"),
        false => format!("\"{text}\""),
    }
}

impl Call {
    /// The same as a run of statements.
    pub fn run(self) -> Run {
        let of = |of: Of, command: String| Run {
            source: of.source,
            server: of.server,
            statements: vec![command],
            ..Run::default()
        };
        let listed = |name: &str, list: List| {
            let pattern = list
                .pattern
                .map_or(String::new(), |p| format!(" {}", word(&p)));
            let full = if list.full { " --full" } else { "" };
            Run {
                output: list.output,
                ..of(list.of, format!("/{name}{pattern}{full}"))
            }
        };
        let named = |command: &str, of_name: Named| {
            let name = of_name
                .name
                .map_or(String::new(), |n| format!(" {}", word(&n)));
            of(of_name.of, format!("/{command}{name}"))
        };
        match self {
            Call::Check(source) => of(source, "/bearings".into()),
            Call::Databases(list) => listed("databases", list),
            Call::List(list) => listed("tables", list),
            Call::About(object) => named("about", object),
            Call::Definition(object) => named("definition", object),
            Call::Export(export) => {
                let is_name = !export.what.contains(char::is_whitespace);
                Run {
                    whole: is_name,
                    output: Output {
                        output: Some(export.file),
                        ..export.output
                    },
                    ..of(export.of, export.what)
                }
            }
            Call::Across(across) => Run {
                source: "sqlite::memory:".into(),
                statements: vec![format!(
                    "/across {}",
                    idle_tide_desk::across::one_line(&across.sql)
                )],
                across: across.from,
                chart: across.chart,
                output: across.output,
                ..Run::default()
            },
            Call::Load(load) => {
                let options: Vec<_> = load.options.iter().map(|text| word(text)).collect();
                let go = if load.dry { "" } else { " --go" };
                let command = format!(
                    "/load {} --into {}{go} {}",
                    word(&load.file),
                    word(&load.into),
                    options.join(" ")
                );
                Run {
                    // What only looks needs no leave to write.
                    write: !load.dry,
                    ..of(load.of, command.trim_end().to_string())
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_question_names_is_told_from_the_colons_of_its_source() {
        let parts = |text: &str| lent(text).map(|l| (l.name, l.source, l.statement));
        for (text, source, statement) in [
            (
                "a=demo:select * from vessels;",
                "demo",
                "select * from vessels",
            ),
            (
                "a=postgres://mate@quay:5432/books:with x as (select 1) select * from x",
                "postgres://mate@quay:5432/books",
                "with x as (select 1) select * from x",
            ),
            (
                "a=sqlite:/srv/from:here.db: from landings",
                "sqlite:/srv/from:here.db",
                "from landings",
            ),
            (
                "a=books:FROM landings where t = 'a:select b'",
                "books",
                "FROM landings where t = 'a:select b'",
            ),
        ] {
            assert_eq!(
                parts(text),
                Ok(("a".into(), source.into(), statement.into())),
                "{text}"
            );
        }
        for text in [
            "demo:select 1",
            "a=demo",
            "a b=demo:select 1",
            "=demo:select 1",
            "a=demo:selection",
        ] {
            assert!(lent(text).is_err(), "{text}");
        }
    }
}
