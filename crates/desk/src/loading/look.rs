//! The first look at a file, and what would happen as a page.

use std::io::Write;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use idle_tide_core::column_type::ColumnType;
use idle_tide_draw::picture::{bytes, counted, grouped};
use idle_tide_engines::{EngineError, Fault};
use idle_tide_intake::{Form, Kind, Proposal, Spooled, Trouble, check, look, spool};
use parking_lot::RwLock;

use super::fit::{Target, Wishes, fit};
use super::propose::{Proposed, rows, words};
use super::put::Load;
use crate::covering::Covering;
use crate::entry::Content;
use crate::face::Request;
use crate::failure::plain;
use crate::page::{Line, Page, Tone};
use crate::session::{Next, Task, Turn};
use crate::sheet::Sheet;
use crate::task::{Bench, Lane, Work, stopped};

/// Looks at a file.
pub(crate) struct Look {
    pub path: PathBuf,
    /// What stands behind the command itself, in the place of a file.
    pub pasted: Option<String>,
    pub wishes: Wishes,
    pub target: Target,
    /// The command that proposes it, without what was pasted behind it.
    pub command: String,
    /// Which names are covered.
    pub covering: Covering,
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
        let file = match &self.pasted {
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
            let on_screen = turn.services.stream.is_none() && !self.wishes.go;
            let table = !self.target.dialect.is_flow();
            let loads = match (problems.is_empty(), stands) {
                (true, true) => Some(" --go"),
                (true, false) => Some(" --bad skip --go"),
                (false, _) => None,
            };
            let pasted = self.pasted.take();
            let proposed = Proposed::new(&self.command, pasted, &proposal, table, loads);
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
            if let Some(text) = proposed.loads() {
                turn.request(Request::Offer(text.to_string()));
            }
            if !on_screen {
                return Next::Done(Content::Page(page));
            }
            turn.request(Request::Read);
            if let Some(own) = turn.own() {
                own.above = Some(page);
                own.proposed = Some(Box::new(proposed));
            }
            let sheet = Sheet::new(Arc::new(RwLock::new(rows(&proposal, &self.covering))));
            return Next::Done(Content::Rows(sheet));
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
                let front = counted(shape.skip, "row");
                let names = match (shape.header, shape.skip, self.wishes.asked.skip) {
                    (true, 0, _) => "names in the first line".to_string(),
                    (false, 0, _) => "no names in it".into(),
                    (true, _, Some(_)) => format!("names below the first {front}, left out"),
                    (false, _, _) => format!("no names in it, the first {front} left out"),
                    (true, 1, None) => {
                        "names below a title, left out (--skip-rows 0 takes it)".into()
                    }
                    (true, more, None) => format!(
                        "names below {more} rows of titles, left out (--skip-rows 0 takes them)"
                    ),
                };
                let quotes = match shape.quotes {
                    true => "",
                    false => ", quotes are signs like any others",
                };
                format!("{sign}, {names}{quotes}, {}", shape.encoding.name())
            }
            Kind::Documents => "documents".into(),
            Kind::Columnar => "Parquet".into(),
        });
        facts.push(bytes(file.size));
        if file.packed {
            facts.push("packed".into());
        }
        page.say(Tone::Faint, facts.join(" · "));
        if !on_screen {
            page.gap();
            self.columns(proposal, &mut page);
        }
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
            (true, 0) if on_screen => {
                "F5 loads it; Enter on a cell below changes what becomes of its column."
            }
            (true, 0) => "/load with --go loads it; idle-tide load does without --dry.",
            (true, _) if on_screen => {
                "F5 loads the others and writes these beside (--bad skip); Enter on a cell below changes what becomes of its column."
            }
            (true, _) => {
                "--bad skip leaves these rows out, and writes them beside; --type COLUMN=text takes a column as it is."
            }
            (false, _) if on_screen => {
                "This has to be settled first; Enter on a cell below changes what becomes of its column."
            }
            (false, _) => "This has to be settled first.",
        };
        page.say(Tone::Active, next);
        let more = match (self.target.dialect.is_flow(), shape.kind) {
            (false, Kind::Separated) if on_screen => {
                "S, H, Q, Y and --skip-rows change how the file is read; --existing says what becomes of rows that are there."
            }
            (true, Kind::Separated) if on_screen => {
                "S, H, Q, Y and --skip-rows change how the file is read."
            }
            (false, _) if on_screen => "--existing says what becomes of rows that are there.",
            (true, Kind::Documents) => "Documents go into the collection as they are.",
            (true, Kind::Separated) => {
                "--type, --name, --form and --leave-out change a column, --separator, --encoding and --null how it is read."
            }
            (true, Kind::Columnar) => "--type, --name, --form and --leave-out change a column.",
            (false, Kind::Separated) => {
                "--type, --name, --form, --key and --leave-out change a column, --separator, --encoding and --null how it is read."
            }
            (false, _) => "--type, --name, --form, --key and --leave-out change a column.",
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

    /// The columns as lines, where there is no screen.
    fn columns(&self, proposal: &Proposal, page: &mut Page) {
        let rows: Vec<[String; 4]> = proposal
            .columns
            .iter()
            .map(|column| {
                let [becomes, of, written, nulls, examples] = words(column, &self.covering);
                let to = match becomes == column.from || column.skip {
                    true => becomes,
                    false => format!("{} → {becomes}", column.from),
                };
                let key = if column.key { " key" } else { "" };
                let written = match written.as_str() {
                    "" => String::new(),
                    written => format!(", {written}"),
                };
                let nulls = match nulls.as_str() {
                    "" => String::new(),
                    nulls => format!("{nulls} null"),
                };
                [to, format!("{of}{written}{key}"), nulls, examples]
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
