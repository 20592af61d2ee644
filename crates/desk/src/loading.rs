//! A file on its way into a table or a collection: what it holds is looked at and shown, and then its rows go in, all or nothing
//! unless batches were asked for, and what came of it is counted.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, sync_channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use idle_tide_core::column_type::ColumnType;
use idle_tide_core::document::{Datum, Document};
use idle_tide_core::{Catalog, Column, Object, RowBatch, ValueRef};
use idle_tide_draw::Layout;
use idle_tide_draw::export::{CSV, writer};
use idle_tide_draw::picture::{bytes, counted, grouped, lasting};
use idle_tide_engines::load::{Destination, Existing, NotPut};
use idle_tide_engines::{Connection, EngineError, Fault};
use idle_tide_intake::{
    Asked, Bad, Batch, Fields, Form, Kind, Proposal, Spooled, Trouble, check, documents, look,
    rows, spool,
};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;

use crate::entry::Content;
use crate::export::Replacing;
use crate::failure::plain;
use crate::pace::Pace;
use crate::page::{Line, Page, Tone};
use crate::session::{Check, Next, Task, Turn};
use crate::task::{Bench, Lane, Progress, Work, stopped};
use crate::verbs::statement;

/// What is asked of a load.
#[derive(Debug, Clone, Default)]
pub(crate) struct Wishes {
    /// Whether rows go in, and not only what would happen is shown.
    pub go: bool,
    /// How the file is read.
    pub asked: Asked,
    /// Columns of the file with new names, types, forms.
    pub names: Vec<(String, String)>,
    pub types: Vec<(String, ColumnType)>,
    pub forms: Vec<(String, Form)>,
    /// Columns that stay out, and those of the key.
    pub left_out: Vec<String>,
    pub keys: Vec<String>,
    /// Rows whose key is there.
    pub existing: Option<Existing>,
    /// Whether rows that do not fit are left out, and the load goes on.
    pub skips_bad: bool,
    /// Rows after which what is there is kept; all or nothing without.
    pub batch: Option<u64>,
}

/// The table or collection.
#[derive(Debug, Clone)]
pub(crate) struct Target {
    /// Its name for people, and as a statement writes it.
    pub name: String,
    pub written: String,
    /// The table as it is, if it is there.
    pub object: Option<Object>,
    pub dialect: &'static Dialect,
}

impl Target {
    /// What a name stands for here.
    pub fn of(name: &str, catalog: &Catalog, dialect: &'static Dialect) -> Self {
        let object = catalog.table(name);
        let written = match object {
            Some(object) => idle_tide_lang::join::written(object, catalog, dialect),
            None if dialect.is_flow() => name.to_string(),
            None => dialect.quote_path(name),
        };
        Target {
            name: object.map_or(name, |object| &object.name).to_string(),
            written,
            object: object.cloned(),
            dialect,
        }
    }
}

/// The type that a column of a table takes, as far as its declared type says; nothing where it takes what comes.
fn declared_type(declared: &str, dialect: &Dialect) -> Option<ColumnType> {
    let declared = declared.to_ascii_lowercase();
    let name = declared.split('(').next().unwrap_or_default().trim();
    let size = || {
        let inner = declared.split_once('(')?.1.split(')').next()?;
        let (digits, scale) = inner.split_once(',').unwrap_or((inner, "0"));
        let digits = digits.trim().parse().ok()?;
        Some(ColumnType::Decimal(digits, scale.trim().parse().ok()?))
    };
    let has = |words: &[&str]| words.iter().any(|word| name.contains(word));
    let sqlite = dialect.family == Family::Sqlite;
    Some(match () {
        () if has(&["interval", "range", "point"]) => ColumnType::Text,
        () if name.ends_with("[]") => ColumnType::Text,
        () if has(&["int", "serial"]) => ColumnType::Integer,
        () if has(&["num", "dec"]) && sqlite => ColumnType::Decimal(0, 0),
        () if has(&["num", "dec"]) => size().unwrap_or(ColumnType::Decimal(0, 0)),
        () if has(&["real", "floa", "doub"]) => ColumnType::Float,
        () if has(&["char", "text", "clob"]) => ColumnType::Text,
        () if has(&["blob", "bytea", "binary"]) => ColumnType::Bytes,
        // Any value fits, and which one is meant shows in the file.
        () if sqlite => return None,
        () if has(&["bool"]) => ColumnType::Boolean,
        () if has(&["timestamptz", "with time zone"]) => ColumnType::ZonedMoment,
        () if has(&["timestamp", "datetime"]) => ColumnType::Moment,
        () if name == "date" => ColumnType::Date,
        () if name == "time" || name.starts_with("time without") => ColumnType::Time,
        () if name == "uuid" => ColumnType::Uuid,
        () if has(&["json"]) => ColumnType::Json,
        () => ColumnType::Text,
    })
}

/// A name of a column of the file, or its number.
fn place_of(proposal: &Proposal, wanted: &str) -> Result<usize, String> {
    let same = |name: &str| name.eq_ignore_ascii_case(wanted);
    let columns = &proposal.columns;
    let found = columns.iter().position(|c| same(&c.from) || same(&c.name));
    let numbered = || wanted.parse::<usize>().ok()?.checked_sub(1);
    let found = found.or_else(|| numbered().filter(|at| *at < columns.len()));
    found.ok_or_else(|| {
        let names = columns.iter().map(|c| c.from.as_str());
        let nearest = idle_tide_lang::correct::nearest(wanted, names, 1);
        let nearest = nearest
            .first()
            .map_or(String::new(), |name| format!(" Is it {name}?"));
        format!("The file has no column {wanted}.{nearest}")
    })
}

/// Changes a proposal as it was wished and as the table needs it; answers what stands in the way.
fn fit(proposal: &mut Proposal, wishes: &Wishes, target: &Target) -> Result<Vec<String>, String> {
    let documents = target.dialect.is_flow();
    let whole = documents && proposal.shape.kind == Kind::Documents;
    let changed = !wishes.names.is_empty()
        || !wishes.types.is_empty()
        || !wishes.left_out.is_empty()
        || !wishes.forms.is_empty();
    if whole && changed {
        return Err(
            "Documents go into a collection as they are; a flow with save changes them on the way."
                .into(),
        );
    }
    if documents && (!wishes.keys.is_empty() || wishes.existing.is_some()) {
        return Err("A collection has the key _id and refuses a second document with one; --key and --existing are for tables.".into());
    }
    for (column, name) in &wishes.names {
        let at = place_of(proposal, column)?;
        proposal.columns[at].name.clone_from(name);
    }
    for column in &wishes.left_out {
        let at = place_of(proposal, column)?;
        proposal.columns[at].skip = true;
    }
    for column in &wishes.keys {
        let at = place_of(proposal, column)?;
        proposal.columns[at].key = true;
    }
    proposal.no_nul = target.dialect.family == Family::Postgres;
    let mut problems = Vec::new();
    if let Some(object) = target.object.as_ref().filter(|_| !documents) {
        problems = match_table(proposal, object, target.dialect);
    }
    for (column, form) in &wishes.forms {
        let at = place_of(proposal, column)?;
        let of = &mut proposal.columns[at];
        of.form = *form;
        if of.column_type == ColumnType::Text {
            of.column_type = match form {
                Form::Plain => ColumnType::Text,
                Form::CommaDecimal => ColumnType::Decimal(0, 0),
                Form::DayFirst | Form::MonthFirst => ColumnType::Date,
            };
        }
    }
    for (column, of) in &wishes.types {
        let at = place_of(proposal, column)?;
        proposal.columns[at].column_type = *of;
    }
    if proposal.columns.iter().all(|column| column.skip) {
        problems.push("Every column is left out.".into());
    }
    let existing = wishes.existing.unwrap_or(Existing::Refuse);
    if existing == Existing::Replace && keys_of(proposal, target).is_empty() {
        problems.push(format!(
            "{} has no primary key by which a row could be replaced: name one with --key.",
            target.name
        ));
    }
    Ok(problems)
}

/// Finds the column of a table for each of the file: by name, or by place where the file has no names.
fn match_table(proposal: &mut Proposal, object: &Object, dialect: &Dialect) -> Vec<String> {
    let mut problems = Vec::new();
    let takes = |field: &&idle_tide_core::catalog::Field| !field.generated;
    let fields: Vec<_> = object.fields.iter().filter(takes).collect();
    let plain = |name: &str| -> String {
        let letters = name.chars().filter(|c| c.is_alphanumeric());
        letters.flat_map(char::to_lowercase).collect()
    };
    let by_place = !proposal.shape.header
        && proposal.shape.kind == Kind::Separated
        && proposal
            .columns
            .iter()
            .all(|c| c.name.starts_with("column_"))
        && proposal.columns.len() == fields.len();
    for (at, column) in proposal.columns.iter_mut().enumerate() {
        if column.skip {
            continue;
        }
        let found = match by_place {
            true => fields.get(at),
            false => fields
                .iter()
                .find(|field| field.name == column.name)
                .or_else(|| {
                    fields
                        .iter()
                        .find(|field| plain(&field.name) == plain(&column.name))
                }),
        };
        let Some(field) = found else {
            let names = fields.iter().map(|field| field.name.as_str());
            let nearest = idle_tide_lang::correct::nearest(&column.name, names, 1);
            let nearest = nearest
                .first()
                .map_or(String::from("COLUMN"), String::clone);
            problems.push(format!(
                "{} has no column {}. Give it to one with --name {}={nearest}, or leave it out with --leave-out {}.",
                object.name, column.name, column.from, column.from
            ));
            continue;
        };
        column.name.clone_from(&field.name);
        column.key |= field.key.is_some();
        if let Some(of) = declared_type(&field.declared, dialect) {
            column.column_type = of;
        }
    }
    let given = |name: &str| proposal.columns.iter().any(|c| !c.skip && c.name == name);
    for field in &fields {
        let numbered = field.identity != idle_tide_core::catalog::Identity::default()
            || field.key.is_some() && dialect.family == Family::Sqlite;
        if !field.optional && field.default.is_none() && !numbered && !given(&field.name) {
            problems.push(format!(
                "{} needs a value for {}, and the file has none.",
                object.name, field.name
            ));
        }
    }
    problems
}

/// The columns of the key, as statements write them.
fn keys_of(proposal: &Proposal, target: &Target) -> Vec<String> {
    let quote = |name: &str| target.dialect.quote_name(name);
    if let Some(object) = &target.object {
        let mut keys: Vec<_> = object.fields.iter().filter(|f| f.key.is_some()).collect();
        keys.sort_by_key(|field| field.key);
        if !keys.is_empty() {
            return keys.iter().map(|field| quote(&field.name)).collect();
        }
    }
    let keys = proposal.columns.iter().filter(|c| c.key && !c.skip);
    keys.map(|column| quote(&column.name)).collect()
}

/// The statement that makes the table.
fn create(proposal: &Proposal, target: &Target) -> String {
    let dialect = target.dialect;
    let mut lines: Vec<String> = proposal
        .columns
        .iter()
        .filter(|column| !column.skip)
        .map(|column| {
            let name = dialect.quote_name(&column.name);
            let words = dialect.type_words(column.column_type, column.key);
            let null = if column.key { " not null" } else { "" };
            format!("  {name} {words}{null}")
        })
        .collect();
    let keys = keys_of(proposal, target);
    if !keys.is_empty() {
        lines.push(format!("  primary key ({})", keys.join(", ")));
    }
    format!(
        "create table {} (\n{}\n)",
        target.written,
        lines.join(",\n")
    )
}

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
        if types_of(&proposal) != before || proposal.no_nul {
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
        Next::Go(Box::new(Load {
            file,
            proposal,
            wishes: self.wishes,
            target: self.target,
            path: self.path,
            done: Done::default(),
        }))
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
        if proposal.bad_count > 0 {
            page.gap();
            page.say(
                Tone::Care,
                format!("{} not fit:", do_not(proposal.bad_count)),
            );
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
        page.gap();
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

/// What came of a load.
#[derive(Debug, Default)]
struct Done {
    /// Rows of the file that fit, and those that do not.
    read: u64,
    refused: u64,
    /// Where these were written.
    beside: Option<PathBuf>,
    /// Rows that are there now, and those that were kept before a failure.
    stored: u64,
    kept: u64,
    /// Whether the table was made.
    made: bool,
    /// Whether it stands in a transaction of the user's.
    in_transaction: bool,
    took: Duration,
}

/// Loads a file.
struct Load {
    file: Spooled,
    proposal: Proposal,
    wishes: Wishes,
    target: Target,
    path: PathBuf,
    done: Done,
}

/// Rows that a reading thread hands over.
type Feed = Receiver<Batch>;
/// What that thread ends with: rows that do not fit, and where they were written.
type Reading = JoinHandle<Result<(u64, Option<PathBuf>), Trouble>>;

/// Writes rows that do not fit into a file beside, which can be loaded again.
struct Beside {
    path: PathBuf,
    file: Option<Replacing>,
    head: Vec<u8>,
    separator: u8,
    count: u64,
}

impl Beside {
    fn of(path: &Path, proposal: &Proposal) -> Self {
        let name = match path.as_os_str() == "-" {
            true => "standard-input".into(),
            false => path
                .file_stem()
                .unwrap_or_default()
                .to_string_lossy()
                .into_owned(),
        };
        let folder = path.parent().filter(|_| path.as_os_str() != "-");
        let mut beside = Beside {
            path: folder
                .unwrap_or(Path::new(""))
                .join(format!("{name}.refused.csv")),
            file: None,
            head: Vec::new(),
            separator: b',',
            count: 0,
        };
        if proposal.shape.kind == Kind::Separated {
            beside.separator = proposal.shape.separator;
        }
        if proposal.shape.header || proposal.shape.kind != Kind::Separated {
            let names: Vec<_> = proposal.columns.iter().map(|c| c.from.as_str()).collect();
            beside.head =
                beside.line(&names.iter().map(|n| Some(n.as_bytes())).collect::<Vec<_>>());
        }
        beside
    }

    /// A row between separators.
    fn line(&self, values: &[Option<&[u8]>]) -> Vec<u8> {
        let mut out = Vec::new();
        let layout = Layout {
            separator: Some(self.separator),
            header: false,
            ..Layout::of(&CSV)
        };
        let columns: Vec<_> = values.iter().map(|_| Column::default()).collect();
        let mut batch = RowBatch::new();
        batch.push_row(values.iter().map(|value| match value {
            Some(bytes) => ValueRef::RawText(bytes),
            None => ValueRef::Null,
        }));
        let mut made = writer(layout, &mut out);
        // Writing into memory does not fail.
        let _ = made
            .columns(&columns)
            .and_then(|()| made.rows(&batch))
            .and_then(|()| made.finish());
        drop(made);
        out
    }

    fn put(&mut self, bad: &Bad, fields: Option<&Fields>) -> Result<(), Trouble> {
        self.count += 1;
        let line = match fields {
            Some(fields) => {
                let null = |at: usize| {
                    let (bytes, mark) = fields.get(at);
                    (mark != idle_tide_intake::Mark::Null
                        && mark != idle_tide_intake::Mark::Missing)
                        .then_some(bytes)
                };
                self.line(&(0..fields.len()).map(null).collect::<Vec<_>>())
            }
            None if bad.raw.is_empty() => return Ok(()),
            None => [&bad.raw[..], b"\n"].concat(),
        };
        let file = match &mut self.file {
            Some(file) => file,
            None => {
                let mut file = Replacing::begin(&self.path)?;
                file.write_all(&self.head)?;
                self.file.insert(file)
            }
        };
        Ok(file.write_all(&line)?)
    }

    fn end(self) -> Result<(u64, Option<PathBuf>), Trouble> {
        match self.file {
            Some(file) => {
                file.commit()?;
                Ok((self.count, Some(self.path)))
            }
            None => Ok((self.count, None)),
        }
    }
}

impl Load {
    /// Reads in a thread of its own, so that reading and writing go on side by side.
    fn read(&self, stop: &Arc<AtomicBool>) -> (Feed, Reading) {
        let (sender, feed) = sync_channel(4);
        let (path, proposal) = (self.file.path().to_path_buf(), self.proposal.clone());
        let mut beside = Beside::of(&self.path, &proposal);
        let stop = Arc::clone(stop);
        let reading = std::thread::spawn(move || {
            rows(
                &path,
                &proposal,
                // Nobody takes more once the load has failed.
                &mut |batch| Ok(!stop.load(Ordering::Relaxed) && sender.send(batch).is_ok()),
                &mut |bad, fields| beside.put(&bad, fields),
            )?;
            beside.end()
        });
        (feed, reading)
    }

    fn into_table(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let (ticket, stop) = (at.ticket, Arc::clone(at.stop));
        let reporter = at.reporter.clone();
        let connection = at.connection()?;
        let bearings = connection.bearings();
        self.done.in_transaction = bearings.transaction.is_some();
        let makes = self.target.object.is_none();
        // There a table that is made ends the transaction that is open.
        let commits = self.target.dialect.family == Family::Mariadb;
        if makes && commits && self.done.in_transaction {
            return Err(EngineError::plain(format!(
                "A transaction is open, and this server would end it before {} is made. Keep it or take it back first.",
                self.target.name
            )));
        }
        let own = !self.done.in_transaction;
        let quiet = |connection: &mut dyn Connection, sql: &str| {
            statement::run_quietly(connection, ticket, sql)
        };
        if makes && commits {
            quiet(connection, &create(&self.proposal, &self.target))?;
            self.done.made = true;
        }
        if own {
            quiet(connection, "begin")?;
        }
        let mut put_all = || -> Result<(), EngineError> {
            if makes && !commits {
                quiet(connection, &create(&self.proposal, &self.target))?;
                self.done.made = true;
            }
            let columns = self.proposal.columns.iter().filter(|column| !column.skip);
            let destination = Destination {
                table: self.target.written.clone(),
                columns: columns
                    .map(|c| self.target.dialect.quote_name(&c.name))
                    .collect(),
                keys: keys_of(&self.proposal, &self.target),
                existing: self.wishes.existing.unwrap_or(Existing::Refuse),
            };
            let pace = Pace::new("loaded");
            let all = self.proposal.rows.saturating_sub(self.proposal.bad_count);
            let mut since = 0;
            let (feed, reading) = self.read(&stop);
            for batch in &feed {
                if stop.load(Ordering::Relaxed) {
                    return Err(stopped());
                }
                let stored = connection.put(ticket, &destination, &batch.rows);
                let stored = stored.map_err(|refused| named(refused, &batch))?;
                self.done.stored += stored;
                self.done.read += batch.rows.len() as u64;
                since += batch.rows.len() as u64;
                if own && self.wishes.batch.is_some_and(|size| since >= size) {
                    quiet(connection, "commit")?;
                    self.done.kept = self.done.stored;
                    quiet(connection, "begin")?;
                    since = 0;
                }
                if let Some(words) = pace.words(self.done.read, Some(all)) {
                    reporter.tell(Progress::Said(words));
                }
            }
            let ended = reading
                .join()
                .map_err(|_| EngineError::plain("The thread that read the file failed."))?;
            if stop.load(Ordering::Relaxed) {
                return Err(stopped());
            }
            let (refused, beside) = ended.map_err(|trouble| EngineError::plain(trouble.0))?;
            (self.done.refused, self.done.beside) = (refused, beside);
            if own {
                quiet(connection, "commit")?;
            }
            Ok(())
        };
        let done = put_all();
        if done.is_err() {
            if own {
                // The link may be gone, and the transaction with it.
                let _ = quiet(connection, "rollback");
            }
            if self.done.made && commits && self.done.kept == 0 {
                let _ = quiet(connection, &format!("drop table {}", self.target.written));
            }
        }
        done
    }

    fn into_collection(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let (ticket, stop) = (at.ticket, Arc::clone(at.stop));
        let reporter = at.reporter.clone();
        let connection = at.connection()?;
        self.done.in_transaction = connection.bearings().transaction.is_some();
        self.done.made = self.target.object.is_none();
        let Some(collections) = connection.collections() else {
            return Err(EngineError::plain("There are no collections here."));
        };
        let (sender, feed) = sync_channel::<Document>(512);
        let (path, proposal) = (self.file.path().to_path_buf(), self.proposal.clone());
        let mut beside = Beside::of(&self.path, &proposal);
        let halt = Arc::clone(&stop);
        let reading = std::thread::spawn(move || {
            let goes_on =
                |document| Ok(!halt.load(Ordering::Relaxed) && sender.send(document).is_ok());
            if proposal.shape.kind == Kind::Documents {
                let mut bad = Ok(());
                let mut refuse = |broken: Bad| {
                    if bad.is_ok() {
                        bad = beside.put(&broken, None);
                    }
                };
                documents(&path, &mut |document| goes_on(document), &mut refuse)?;
                bad?;
            } else {
                let mut put = |batch: Batch| {
                    for row in batch.rows.rows() {
                        if !goes_on(document_of(&proposal, row.values()))? {
                            return Ok(false);
                        }
                    }
                    Ok(true)
                };
                rows(&path, &proposal, &mut put, &mut |bad, fields| {
                    beside.put(&bad, fields)
                })?;
            }
            beside.end()
        });
        let pace = Pace::new("loaded");
        let all = self.proposal.rows.saturating_sub(self.proposal.bad_count);
        let mut read = 0;
        let filled = collections.fill(ticket, &self.target.name, &mut || {
            if stop.load(Ordering::Relaxed) {
                return Err(stopped());
            }
            let next = feed.recv().ok();
            read += u64::from(next.is_some());
            if read % 512 == 0
                && let Some(words) = pace.words(read, Some(all))
            {
                reporter.tell(Progress::Said(words));
            }
            Ok(next)
        });
        drop(feed);
        let ended = reading
            .join()
            .map_err(|_| EngineError::plain("The thread that read the file failed."))?;
        self.done.read = read;
        self.done.stored = filled?;
        let (refused, beside) = ended.map_err(|trouble| EngineError::plain(trouble.0))?;
        (self.done.refused, self.done.beside) = (refused, beside);
        Ok(())
    }
}

/// A row as a document: a name with points is a way through objects, and what is null is left out as it was when it was written.
fn document_of<'a>(proposal: &Proposal, values: impl Iterator<Item = ValueRef<'a>>) -> Document {
    fn put(document: &mut Document, path: &str, value: Datum) {
        match path.split_once('.') {
            Some((first, rest)) if !first.is_empty() && !rest.is_empty() => {
                if !matches!(document.get(first), Some(Datum::Object(_))) {
                    document.set(first, Datum::Object(Document::new()));
                }
                if let Some(Datum::Object(inner)) = document.get_mut(first) {
                    put(inner, rest, value);
                }
            }
            _ => document.set(path, value),
        }
    }
    let mut document = Document::new();
    let columns = proposal.columns.iter().filter(|column| !column.skip);
    for (column, value) in columns.zip(values) {
        let datum = match (column.column_type, value) {
            (_, ValueRef::Null) => continue,
            (
                ColumnType::Date | ColumnType::Moment | ColumnType::ZonedMoment,
                ValueRef::Text(text),
            ) => {
                let zone = idle_tide_core::document::time::TimeZone::UTC;
                let text = text.replacen(' ', "T", 1);
                match idle_tide_core::document::time::read(&text, &zone) {
                    Some(at) => Datum::Date(at),
                    None => Datum::Text(text.as_str().into()),
                }
            }
            (ColumnType::Json, ValueRef::Text(text)) => {
                idle_tide_core::document::extended::read(text)
                    .unwrap_or_else(|_| Datum::Text(text.into()))
            }
            (_, ValueRef::Number(digits)) => match digits.parse() {
                Ok(decimal) => Datum::Decimal(decimal),
                Err(_) => Datum::Text(digits.into()),
            },
            (_, value) => value.to_datum().unwrap_or(Datum::Null),
        };
        put(&mut document, &column.name, datum);
    }
    document
}

/// The error of a refused row with its line.
fn named(refused: NotPut, batch: &Batch) -> EngineError {
    let mut error = refused.error;
    if let Some(line) = refused.row.and_then(|row| batch.lines.get(row)) {
        error.message = format!("line {line}: {}", error.message);
        error.advice = error.advice.map(|words| format!("Line {line}: {words}"));
    }
    error
}

impl Work for Load {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let started = Instant::now();
        let done = match self.target.dialect.is_flow() {
            true => self.into_collection(at),
            false => self.into_table(at),
        };
        self.done.took = started.elapsed();
        done
    }
}

impl Task for Load {
    fn holds(&self) -> bool {
        true
    }

    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let (name, done) = (&self.target.name, &self.done);
        let thing = self.target.dialect.row();
        if let Err(error) = how {
            let kept = match (
                done.kept,
                done.in_transaction,
                self.target.dialect.is_flow(),
            ) {
                (0, false, false) => "Nothing was loaded.".to_string(),
                (0, true, _) => {
                    "What went in before stands in your transaction; roll it back to take it out."
                        .into()
                }
                (0, false, true) => String::new(),
                (kept, ..) => format!(
                    "{} were kept in batches before; the rest was not loaded.",
                    counted(kept, thing)
                ),
            };
            if error.fault == Fault::Cancelled {
                let mut page = Page::new();
                page.say(Tone::Heading, "The load was stopped.");
                page.say(Tone::Plain, kept);
                return Next::Stopped(Content::Page(page));
            }
            let mut failure = statement::failure(turn, "", &error);
            failure.place = None;
            failure.corrections.clear();
            failure.headline = format!("{} {kept}", failure.headline)
                .trim_end()
                .to_string();
            return failure.into();
        }
        let mut page = Page::new();
        let skipped = done.read - done.stored.min(done.read);
        let rate = done.stored as f64 / done.took.as_secs_f64().max(0.001);
        page.say(
            Tone::Heading,
            format!("{} loaded into {name}.", counted(done.stored, thing)),
        );
        let mut facts = vec![format!(
            "{} in {}",
            bytes(self.file.size),
            lasting(done.took)
        )];
        if done.took > Duration::from_millis(200) {
            facts.push(format!("{} a second", grouped(rate as u64)));
        }
        if done.made {
            facts.push(match self.target.dialect.is_flow() {
                true => "the collection is new".to_string(),
                false => "the table was made".to_string(),
            });
        }
        if done.in_transaction {
            facts.push("in your transaction, which is still open".into());
        }
        page.say(Tone::Faint, facts.join(" · "));
        page.gap();
        let all = done.read + done.refused;
        let mut parts = vec![format!("{} loaded", grouped(done.stored))];
        if skipped > 0 {
            parts.push(format!("{} left as they were", grouped(skipped)));
        }
        if done.refused > 0 {
            parts.push(format!("{} that did not fit", grouped(done.refused)));
        }
        page.say(
            Tone::Plain,
            format!(
                "The file has {}: {}.",
                counted(all, thing),
                parts.join(", ")
            ),
        );
        match &done.beside {
            Some(path) => {
                page.say(
                    Tone::Care,
                    format!("Those that did not fit are in {}.", path.display()),
                );
            }
            None if done.refused > 0 => {
                page.say(
                    Tone::Care,
                    "What did not fit could not be read as rows, so it was written nowhere.",
                );
            }
            None => {}
        }
        turn.session.check = turn.entry.map(|entry| Check {
            entry,
            name: self.target.name.clone(),
            made: false,
        });
        turn.session
            .starts
            .push(Box::new(crate::catalog::ReadCatalog::behind()));
        Next::Done(Content::Page(page))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::{MARIADB, POSTGRES, SQLITE};

    #[test]
    fn declared_types_take_what_they_say() {
        let of = |declared: &str, dialect: &'static Dialect| {
            declared_type(declared, dialect).map(|of| of.to_string())
        };
        let some = |words: &str| Some(words.to_string());
        assert_eq!(of("numeric(12,2)", &POSTGRES), some("decimal(12,2)"));
        assert_eq!(
            of("timestamp with time zone", &POSTGRES),
            some("timestamptz")
        );
        assert_eq!(of("integer[]", &POSTGRES), some("text"));
        assert_eq!(of("interval", &POSTGRES), some("text"));
        assert_eq!(of("int(11) unsigned", MARIADB), some("integer"));
        assert_eq!(of("datetime(6)", MARIADB), some("timestamp"));
        assert_eq!(of("VARCHAR(20)", &SQLITE), some("text"));
        assert_eq!(of("date", &SQLITE), None);
        assert_eq!(of("", &SQLITE), None);
    }
}
