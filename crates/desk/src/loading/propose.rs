//! What is proposed for the columns of a file, as rows of which each cell can be changed: by an option of the command that
//! proposed it, so that the command always says all that was changed.

use idle_tide_core::{Column, ResultSet, Value};
use idle_tide_draw::picture::grouped;
use idle_tide_intake::{ColumnPlan, Form, Kind, Proposal, Shape};
use idle_tide_lang::command::{Parsed, Part, parse};

use crate::covering::{Covering, WORD, looks_secret};

/// The columns of a proposal, in their order.
const COLUMNS: [&str; 7] = [
    "in the file",
    "becomes",
    "type",
    "written",
    "key",
    "nulls",
    "examples",
];

/// A proposal that is shown, and how it was asked for.
#[derive(Debug, Clone)]
pub struct Proposed {
    /// The command, which only looks.
    command: String,
    /// What stands behind it in the place of a file.
    pasted: Option<String>,
    columns: Vec<Shown>,
    /// Whether it goes into a table.
    table: bool,
    /// How rows between separators are read.
    shape: Option<Shape>,
    /// The command that loads it as it is proposed; without the rows that do not fit, where there are some. Nothing where
    /// something has to be settled first.
    loads: Option<String>,
}

#[derive(Debug, Clone)]
struct Shown {
    /// What the command calls it.
    reference: String,
    /// All that it may have been called by: its names and its number.
    names: [String; 3],
    skip: bool,
}

impl Shown {
    fn is_called(&self, name: &str) -> bool {
        self.names.iter().any(|own| own.eq_ignore_ascii_case(name))
    }
}

/// What of the way a file is read can be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reading {
    /// What stands between values.
    Separator,
    /// Whether the first row has the names.
    Header,
    /// Whether quotes hold values together.
    Quotes,
    /// How its bytes become characters.
    Encoding,
}

/// How a proposal is changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// By this, which can run at once.
    Run(String),
    /// By this, of which the end is missing.
    Complete(String),
}

impl Proposed {
    /// A proposal, by the command that asked for it, and what has to be added so that it loads, if it can.
    pub(super) fn new(
        command: &str,
        pasted: Option<String>,
        proposal: &Proposal,
        table: bool,
        loads: Option<&str>,
    ) -> Self {
        let shown = |at: usize| {
            let column = &proposal.columns[at];
            Shown {
                reference: reference(&proposal.columns, at),
                names: [
                    column.from.clone(),
                    column.name.clone(),
                    (at + 1).to_string(),
                ],
                skip: column.skip,
            }
        };
        // Documents go into a collection as they are.
        let columns = match !table && proposal.shape.kind == Kind::Documents {
            true => Vec::new(),
            false => (0..proposal.columns.len()).map(shown).collect(),
        };
        let mut proposed = Proposed {
            command: command.to_string(),
            pasted,
            columns,
            table,
            shape: (proposal.shape.kind == Kind::Separated).then(|| proposal.shape.clone()),
            loads: None,
        };
        proposed.loads = loads.map(|how| proposed.with_pasted(format!("{command}{how}")));
        proposed
    }

    /// The command that loads it as it is proposed; without the rows that do not fit, where there are some. Nothing where
    /// something has to be settled first.
    pub fn loads(&self) -> Option<&str> {
        self.loads.as_deref()
    }

    /// How a cell is changed, by its row and column; nothing where there is nothing to change.
    pub fn change(&self, row: u64, column: usize) -> Option<Change> {
        let shown = self.columns.get(usize::try_from(row).ok()?)?;
        let name = shown.reference.as_str();
        let parsed = parse(&self.command).ok()?;
        let of_this = |value: &str| shown.is_called(value);
        let pair = |value: &str| value.rsplit_once('=').is_some_and(|(of, _)| of_this(of));
        let run = |parsed: Parsed| self.run(&parsed);
        let complete = |mut parsed: Parsed, option: &str| {
            let drop = |found: &str, value: &str| found == option && pair(value);
            forget(&mut parsed, drop);
            let line = format!("{} --{option} {name}=", parsed.written());
            Some(Change::Complete(self.with_pasted(line)))
        };
        match *COLUMNS.get(column)? {
            // Left out by the command: it comes in again. Otherwise it goes out.
            "in the file" | "becomes" if shown.skip => {
                let mut parsed = parsed;
                forget(&mut parsed, |found, value| {
                    found == "leave-out" && of_this(value)
                });
                run(parsed)
            }
            "in the file" => run(with(parsed, "leave-out", name)),
            "becomes" => complete(parsed, "name"),
            "type" => complete(parsed, "type"),
            "written" => complete(parsed, "form"),
            "key" if self.table => {
                let mut parsed = parsed;
                let count = parsed.options.len();
                forget(&mut parsed, |found, value| found == "key" && of_this(value));
                match parsed.options.len() < count {
                    true => run(parsed),
                    false => run(with(parsed, "key", name)),
                }
            }
            "nulls" if self.shape.is_some() => {
                let mut parsed = parsed;
                forget(&mut parsed, |found, _| found == "null");
                let line = format!("{} --null ", parsed.written());
                Some(Change::Complete(self.with_pasted(line)))
            }
            _ => None,
        }
    }

    /// How the way the file is read is changed; nothing where its rows do not stand between separators.
    pub fn read_otherwise(&self, what: Reading) -> Option<Change> {
        let shape = self.shape.as_ref()?;
        let mut parsed = parse(&self.command).ok()?;
        let options: &[&str] = match what {
            Reading::Separator => &["separator"],
            Reading::Header => &["header", "no-header"],
            Reading::Quotes => &["no-quotes"],
            Reading::Encoding => &["encoding"],
        };
        forget(&mut parsed, |found, _| options.contains(&found));
        let option = match what {
            Reading::Header if shape.header => "no-header",
            Reading::Quotes if !shape.quotes => return self.run(&parsed),
            _ => options[0],
        };
        match what {
            Reading::Header | Reading::Quotes => {
                parsed.options.push((option, None));
                self.run(&parsed)
            }
            Reading::Separator | Reading::Encoding => {
                let line = format!("{} --{option} ", parsed.written());
                Some(Change::Complete(self.with_pasted(line)))
            }
        }
    }

    fn run(&self, parsed: &Parsed) -> Option<Change> {
        Some(Change::Run(self.with_pasted(parsed.written())))
    }

    fn with_pasted(&self, command: String) -> String {
        match &self.pasted {
            Some(rows) => format!("{command}\n{rows}"),
            None => command,
        }
    }
}

fn with(mut parsed: Parsed, option: &'static str, value: &str) -> Parsed {
    let text = value.to_string();
    parsed
        .options
        .push((option, Some(Part { text, span: 0..0 })));
    parsed
}

fn forget(parsed: &mut Parsed, drop: impl Fn(&str, &str) -> bool) {
    let value = |part: &Option<Part>| part.as_ref().map_or(String::new(), |p| p.text.clone());
    parsed
        .options
        .retain(|(name, part)| !drop(name, &value(part)));
}

/// What a command calls a column: its name where that is a plain word and no other has it, else its number.
fn reference(columns: &[ColumnPlan], at: usize) -> String {
    let name = &columns[at].from;
    let word = |c: char| c.is_alphanumeric() || c == '_';
    let is_word = name.chars().all(word) && name.chars().any(char::is_alphabetic);
    let same = |other: &ColumnPlan| {
        other.from.eq_ignore_ascii_case(name) || other.name.eq_ignore_ascii_case(name)
    };
    let others = columns.iter().enumerate();
    let alone = !others
        .clone()
        .any(|(other, column)| other != at && same(column));
    match is_word && alone {
        true => name.clone(),
        false => (at + 1).to_string(),
    }
}

/// What becomes of a column, in words: its name, its type, how its values are written, its nulls, examples.
pub(super) fn words(column: &ColumnPlan, covering: &Covering) -> [String; 5] {
    let becomes = match column.skip {
        true => "left out".to_string(),
        false => column.name.clone(),
    };
    let written = match column.form {
        Form::Plain => "",
        Form::CommaDecimal => "decimals behind a comma",
        Form::DayFirst => "day first",
        Form::MonthFirst => "month first",
    };
    let nulls = match column.evidence.nulls {
        0 => String::new(),
        nulls => grouped(nulls),
    };
    let covered = covering.covers(&column.from) || covering.covers(&column.name);
    let example = |text: &String| match covered || looks_secret(text) {
        true => WORD.to_string(),
        false => text.clone(),
    };
    let examples: Vec<String> = column.examples.iter().map(example).collect();
    let of = column.column_type.to_string();
    [becomes, of, written.into(), nulls, examples.join(" · ")]
}

/// The columns of a proposal as rows.
pub(super) fn rows(proposal: &Proposal, covering: &Covering) -> ResultSet {
    let rows = proposal.columns.iter().map(|column| {
        let [becomes, of, written, nulls, examples] = words(column, covering);
        let key = if column.key && !column.skip {
            "key"
        } else {
            ""
        };
        let cells = [
            column.from.clone(),
            becomes,
            of,
            written,
            key.into(),
            nulls,
            examples,
        ];
        cells
            .map(|cell| {
                if cell.is_empty() {
                    Value::Missing
                } else {
                    cell.into()
                }
            })
            .into()
    });
    ResultSet::of_rows(COLUMNS.map(Column::named).into(), rows.collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_intake::{Encoding, FORMS};
    use idle_tide_lang::command::LOADED_FORMS;

    fn shape(header: bool, quotes: bool) -> Shape {
        Shape {
            kind: Kind::Separated,
            encoding: Encoding::Utf8,
            separator: b',',
            quotes,
            header,
            skip: 0,
        }
    }

    fn proposed(command: &str, columns: &[(&str, bool)]) -> Proposed {
        Proposed {
            command: command.into(),
            pasted: None,
            columns: columns
                .iter()
                .enumerate()
                .map(|(at, (reference, skip))| Shown {
                    reference: reference.to_string(),
                    names: [
                        reference.to_string(),
                        format!("{reference} as it was"),
                        (at + 1).to_string(),
                    ],
                    skip: *skip,
                })
                .collect(),
            table: true,
            shape: Some(shape(true, true)),
            loads: None,
        }
    }

    #[test]
    fn the_list_offers_every_form() {
        let known: Vec<&str> = FORMS.iter().map(|(name, _)| *name).collect();
        assert_eq!(known, LOADED_FORMS);
    }

    #[test]
    fn every_cell_is_changed_by_an_option_that_takes_the_place_of_the_one_before() {
        let run = |text: &str| Some(Change::Run(text.into()));
        let complete = |text: &str| Some(Change::Complete(text.into()));
        let command = "/load 'a b.csv' --type Price=text --key id --null - --into t";
        let shown = proposed(command, &[("id", false), ("price", false), ("note", true)]);
        let first = "/load \"a b.csv\" --type Price=text";
        for (row, column, change) in [
            (
                1,
                0,
                run(&format!(
                    "{first} --key id --null - --into t --leave-out price"
                )),
            ),
            (
                1,
                1,
                complete(&format!("{first} --key id --null - --into t --name price=")),
            ),
            (
                1,
                2,
                complete("/load \"a b.csv\" --key id --null - --into t --type price="),
            ),
            (
                1,
                3,
                complete(&format!("{first} --key id --null - --into t --form price=")),
            ),
            (0, 4, run(&format!("{first} --null - --into t"))),
            (
                1,
                4,
                run(&format!("{first} --key id --null - --into t --key price")),
            ),
            (
                1,
                5,
                complete(&format!("{first} --key id --into t --null ")),
            ),
            (1, 6, None),
            (9, 0, None),
        ] {
            assert_eq!(shown.change(row, column), change, "{row} {column}");
        }
        let out = proposed("/load a.csv --leave-out note --into t", &[("note", true)]);
        let by_number = proposed("/load a.csv --leave-out 1 --into t", &[("note", true)]);
        let by_name = "/load a.csv --leave-out 'note as it was' --into t";
        let by_name = proposed(by_name, &[("note", true)]);
        for out in [out, by_number, by_name] {
            for column in [0, 1] {
                assert_eq!(out.change(0, column), run("/load a.csv --into t"));
            }
        }
    }

    #[test]
    fn the_way_a_file_is_read_is_changed_by_one_option_that_takes_the_place_of_the_one_before() {
        let asked = "/load a.csv --separator ; --header --encoding latin1 --no-quotes --null -";
        let mut shown = proposed(asked, &[]);
        let run = |text: &str| Some(Change::Run(format!("/load a.csv {text}\n1;2")));
        let complete = |text: &str| Some(Change::Complete(format!("/load a.csv {text}\n1;2")));
        shown.pasted = Some("1;2".into());
        shown.shape = Some(shape(true, false));
        for (what, change) in [
            (
                Reading::Separator,
                complete("--header --encoding latin1 --no-quotes --null - --separator "),
            ),
            (
                Reading::Header,
                run("--separator \";\" --encoding latin1 --no-quotes --null - --no-header"),
            ),
            (
                Reading::Quotes,
                run("--separator \";\" --header --encoding latin1 --null -"),
            ),
            (
                Reading::Encoding,
                complete("--separator \";\" --header --no-quotes --null - --encoding "),
            ),
        ] {
            assert_eq!(shown.read_otherwise(what), change, "{what:?}");
        }
        // What was found without being asked for is changed like what was asked for.
        let mut found = proposed("/load a.csv", &[]);
        let run = |text: &str| Some(Change::Run(format!("/load a.csv {text}")));
        assert_eq!(found.read_otherwise(Reading::Quotes), run("--no-quotes"));
        found.shape = Some(shape(false, true));
        assert_eq!(found.read_otherwise(Reading::Header), run("--header"));
        found.shape = None;
        assert_eq!(found.read_otherwise(Reading::Header), None);
    }
}
