//! The first look at a file, and what would happen as a page.

use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use idle_tide_core::column_type::ColumnType;
use idle_tide_draw::picture::{bytes, counted, grouped};
use idle_tide_engines::{EngineError, Fault};
use idle_tide_intake::{Form, Kind, Proposal, Spooled, Trouble, check, look, spool};

use super::fit::{Target, Wishes, fit};
use super::put::Load;
use crate::entry::Content;
use crate::failure::plain;
use crate::page::{Line, Page, Tone};
use crate::session::{Next, Task, Turn};
use crate::task::{Bench, Lane, Work, stopped};

/// Looks at a file.
pub(crate) struct Look {
    pub path: PathBuf,
    /// What stands behind the command itself, in the place of a file.
    pub pasted: Option<String>,
    pub wishes: Wishes,
    pub target: Target,
    /// The command that loads it as it was proposed.
    pub command: String,
    pub found: Option<(Spooled, Proposal, Vec<String>)>,
}

impl Work for Look {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let stop = Arc::clone(at.stop);
        let is_stopped = || stop.load(Ordering::Relaxed);
        let of = |trouble: Trouble| match stop.load(Ordering::Relaxed) {
            true => stopped(),
            false => EngineError::plain(trouble.0),
        };
        let file = match self.pasted.take() {
            Some(text) => {
                let mut pasted = tempfile::Builder::new()
                    .prefix(".idle-tide-")
                    .tempfile()
                    .map_err(|e| EngineError::plain(e.to_string()))?;
                pasted
                    .write_all(text.as_bytes())
                    .map_err(|e| EngineError::plain(e.to_string()))?;
                // It is taken for standard input, so that it is kept.
                let size = text.len() as u64;
                Spooled::own(pasted, size)
            }
            None => spool(&self.path, &is_stopped).map_err(of)?,
        };
        let mut proposal = look(&file, &self.wishes.asked, &is_stopped).map_err(of)?;
        let before: Vec<_> = types_of(&proposal);
        let problems =
            fit(&mut proposal, &self.wishes, &self.target).map_err(EngineError::plain)?;
        // Who loads at once learns of a row that does not fit when it comes, and everything is taken back.
        let in_doubt = types_of(&proposal) != before || proposal.no_nul && proposal.has_nul;
        if in_doubt && (!self.wishes.go || self.target.dialect.is_flow()) {
            check(file.path(), &mut proposal, &is_stopped).map_err(of)?;
        }
        self.found = Some((file, proposal, problems));
        Ok(())
    }
}

fn types_of(proposal: &Proposal) -> Vec<(ColumnType, Form, bool)> {
    let columns = proposal.columns.iter();
    columns.map(|c| (c.column_type, c.form, c.skip)).collect()
}

impl Task for Look {
    fn ended(mut self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let Some((file, proposal, problems)) = self.found.take().filter(|_| how.is_ok()) else {
            return match how {
                Err(error) if error.fault == Fault::Cancelled => Next::Stopped(Content::Nothing),
                Err(error) => plain(error.message).into(),
                Ok(()) => Next::Keep,
            };
        };
        let stands = problems.is_empty() && (proposal.bad_count == 0 || self.wishes.skips_bad);
        if !self.wishes.go || !stands {
            let on_screen = turn.services.stream.is_none();
            let mut page = self.proposed(&file, &proposal, &problems, on_screen);
            if self.wishes.go {
                let words = match problems.is_empty() {
                    true => format!(
                        "{} not fit, so nothing was loaded.",
                        do_not(proposal.bad_count)
                    ),
                    false => format!("Nothing was loaded. {}", problems[0]),
                };
                page.gap();
                page.say(Tone::Danger, words.clone());
                return Next::FailKeeping(Content::Page(page), Box::new(plain(words)));
            }
            if stands {
                turn.request(crate::face::Request::Recall(format!(
                    "{} --go",
                    self.command
                )));
            }
            return Next::Done(Content::Page(page));
        }
        Next::Go(Box::new(Load::new(
            file,
            proposal,
            self.wishes,
            self.target,
            self.path,
        )))
    }
}

impl Look {
    /// What would happen, as a page.
    fn proposed(
        &self,
        file: &Spooled,
        proposal: &Proposal,
        problems: &[String],
        on_screen: bool,
    ) -> Page {
        let mut page = Page::new();
        let shape = &proposal.shape;
        let name = match self.path.as_os_str() == "-" {
            true => "standard input".to_string(),
            false => self.path.display().to_string(),
        };
        let into = match (&self.target.object, self.target.dialect.is_flow()) {
            (Some(_), true) => format!("the collection {}", self.target.name),
            (None, true) => format!("{}, a new collection", self.target.name),
            (Some(_), false) => format!("the table {}", self.target.name),
            (None, false) => format!("{}, a new table", self.target.name),
        };
        page.say(Tone::Heading, format!("{name} into {into}"));
        let mut facts = vec![match proposal.whole {
            true => counted(proposal.rows, "row"),
            false => format!("types from the first {} rows", grouped(proposal.rows)),
        }];
        facts.push(match shape.kind {
            Kind::Separated => {
                let sign = match shape.separator {
                    b'\t' => "tabs".to_string(),
                    sign => format!("{} between values", char::from(sign)),
                };
                let names = match shape.header {
                    true => "names in the first line",
                    false => "no names in it",
                };
                format!("{sign}, {names}, {}", shape.encoding.name())
            }
            Kind::Documents => "documents".into(),
            Kind::Columnar => "Parquet".into(),
        });
        facts.push(bytes(file.size));
        if file.packed {
            facts.push("packed".into());
        }
        page.say(Tone::Faint, facts.join(" · "));
        page.gap();
        self.columns(proposal, &mut page);
        for problem in problems {
            page.gap();
            page.say(Tone::Danger, problem.clone());
        }
        // What is to be done next stands above a list that may be long.
        page.gap();
        if proposal.bad_count > 0 {
            page.say(
                Tone::Care,
                format!("{} not fit.", do_not(proposal.bad_count)),
            );
        }
        let next = match (problems.is_empty(), proposal.bad_count) {
            (true, 0) if on_screen => "The command in the composer loads it.",
            (true, 0) => "/load with --go loads it; idle-tide load does without --dry.",
            (true, _) => {
                "--bad skip leaves these rows out, and writes them beside; --type COLUMN=text takes a column as it is."
            }
            (false, _) => "This has to be settled first.",
        };
        page.say(Tone::Active, next);
        let more = match self.target.dialect.is_flow() {
            true => {
                "--type, --name, --form and --leave-out change a column, --separator, --encoding and --null how it is read."
            }
            false => {
                "--type, --name, --form, --key and --leave-out change a column, --separator, --encoding and --null how it is read."
            }
        };
        page.say(Tone::Faint, more);
        if proposal.bad_count > 0 {
            page.gap();
            for bad in &proposal.bad {
                page.say(Tone::Plain, format!("  {bad}"));
            }
            if proposal.bad.len() as u64 != proposal.bad_count {
                page.say(
                    Tone::Faint,
                    format!("  and so on; the first {} are shown", proposal.bad.len()),
                );
            }
        }
        page
    }

    fn columns(&self, proposal: &Proposal, page: &mut Page) {
        let form = |form: Form| match form {
            Form::Plain => "",
            Form::CommaDecimal => ", decimals behind a comma",
            Form::DayFirst => ", day first",
            Form::MonthFirst => ", month first",
        };
        let rows: Vec<[String; 5]> = proposal
            .columns
            .iter()
            .map(|column| {
                let to = match (column.skip, column.from == column.name) {
                    (true, _) => "left out".to_string(),
                    (false, true) => column.name.clone(),
                    (false, false) => format!("{} → {}", column.from, column.name),
                };
                let key = if column.key { " key" } else { "" };
                let of = format!("{}{}{key}", column.column_type, form(column.form));
                let nulls = match column.evidence.nulls {
                    0 => String::new(),
                    nulls => format!("{} null", grouped(nulls)),
                };
                [to, of, nulls, column.examples.join(" · "), String::new()]
            })
            .collect();
        let width = |at: usize| {
            let widths = rows.iter().map(|row| row[at].chars().count());
            widths.max().unwrap_or(0).min(40) + 3
        };
        for row in &rows {
            let line = Line::new()
                .column(Tone::Plain, row[0].clone(), width(0))
                .column(Tone::Number, row[1].clone(), width(1))
                .column(Tone::Faint, row[2].clone(), width(2))
                .and(Tone::Faint, row[3].clone());
            page.line(line);
        }
    }
}

/// So many rows do; for `not fit` behind it.
fn do_not(rows: u64) -> String {
    let verb = if rows == 1 { "does" } else { "do" };
    format!("{} {verb}", counted(rows, "row"))
}
