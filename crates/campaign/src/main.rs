//! The campaign: what the program promises, tried from outside by somebody who means to break it. Each row of the table
//! says how often it was tried, how often it held and what broke; what cannot be tried on a machine is told.
//!
//! `scripts/campaign` builds the program, starts private servers and runs this. With names of rows only those are run;
//! `--write FILE` puts the table into a file, between the marks that stand there for it.

#![allow(clippy::too_many_lines)]

#[cfg(test)]
mod circles;
mod field;
mod fuzz;
#[cfg(test)]
mod invariants;
mod peers;
mod rows;
mod screen;
#[cfg(test)]
mod supply;
mod tally;

use std::process::ExitCode;
use std::time::{Duration, Instant};

use field::Field;
use rows::ROWS;
use tally::Tally;

/// No row begins later than this: the longest takes ten minutes, and all of it is to end within an hour.
const LAST: Duration = Duration::from_secs(48 * 60);
const BEGIN: &str = "<!-- the campaign's table -->\n";
const END: &str = "<!-- its end -->";

fn main() -> ExitCode {
    match campaign() {
        Ok(true) => ExitCode::SUCCESS,
        Ok(false) => ExitCode::FAILURE,
        Err(words) => {
            eprintln!("campaign: {words}");
            ExitCode::from(2)
        }
    }
}

/// Whether all of it held.
fn campaign() -> Result<bool, String> {
    let (mut only, mut into) = (Vec::new(), None);
    let mut arguments = std::env::args().skip(1);
    while let Some(argument) = arguments.next() {
        match argument.as_str() {
            "--fuzz" => {
                let name = arguments.next().ok_or("--fuzz needs a target")?;
                let kept = arguments.next().ok_or("--fuzz needs a file")?;
                return fuzz::one(&name, kept.as_ref()).map(|()| true);
            }
            "--write" => into = Some(arguments.next().ok_or("--write needs a file")?),
            name if ROWS.iter().any(|row| row.name == name) => only.push(argument),
            name => {
                let names: Vec<&str> = ROWS.iter().map(|row| row.name).collect();
                return Err(format!(
                    "there is no row {name}; there are {}",
                    names.join(", ")
                ));
            }
        }
    }
    let field = Field::new()?;
    let start = Instant::now();
    let mut lines = Vec::new();
    let mut broken = 0;
    for row in ROWS {
        if !only.is_empty() && !only.iter().any(|name| name == row.name) {
            continue;
        }
        eprintln!("{}", row.name);
        let begun = Instant::now();
        let mut tally = match start.elapsed() < LAST {
            true => (row.run)(&field),
            false => Tally::not_tried("there was no time left"),
        };
        tally.took = begun.elapsed();
        broken += tally.broken.len();
        let line = tally.line(row.name, row.promise, &today());
        println!("{line}");
        lines.push(line);
    }
    if let Some(path) = into {
        let text = std::fs::read_to_string(&path).map_err(|error| format!("{path}: {error}"))?;
        let written = with_table(&text, &lines)
            .ok_or_else(|| format!("{path} has no marks for the table"))?;
        std::fs::write(&path, written).map_err(|error| format!("{path}: {error}"))?;
    }
    Ok(broken == 0)
}

/// The day, as the machine tells it.
fn today() -> String {
    let day = std::process::Command::new("date").arg("+%F").output();
    let day = day.map(|done| String::from_utf8_lossy(&done.stdout).trim().to_string());
    day.unwrap_or_default()
}

/// The text with these rows in its table: a row that was run takes the place of the one of its name.
fn with_table(text: &str, lines: &[String]) -> Option<String> {
    let (before, rest) = text.split_once(BEGIN)?;
    let (table, after) = rest.split_once(END)?;
    let name_of = |line: &str| line.split('|').nth(1).map(|name| name.trim().to_string());
    let mut rows: Vec<String> = table.lines().map(str::to_string).collect();
    for line in lines {
        let name = name_of(line);
        match rows.iter().position(|row| name_of(row) == name) {
            Some(at) => rows[at].clone_from(line),
            None => {
                let at = rows.iter().rposition(|row| row.starts_with('|'))?;
                rows.insert(at + 1, line.clone());
            }
        }
    }
    Some(format!("{before}{BEGIN}{}\n{END}{after}", rows.join("\n")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_row_takes_the_place_of_the_one_of_its_name() {
        let text = format!("a\n{BEGIN}| row | n |\n|---|---|\n| one | 1 |\n{END}\nb\n");
        let new = with_table(&text, &["| one | 2 |".into(), "| two | 3 |".into()]).expect("marks");
        let table = "| row | n |\n|---|---|\n| one | 2 |\n| two | 3 |\n";
        assert_eq!(new, format!("a\n{BEGIN}{table}{END}\nb\n"));
        assert!(with_table("no marks", &[]).is_none());
    }
}
