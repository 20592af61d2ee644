//! Script lines (`= …`), and the commands about what scripts leave: `/variables`, `/forget`, `/run`.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::mpsc::channel;

use idle_tide_core::document::time::TimeZone;
use idle_tide_core::document::{Datum, Document, bson};
use idle_tide_core::limits::Limit;
use idle_tide_core::result::ResultSet;
use idle_tide_core::{Column, RowBatch, Value};
use idle_tide_dock::flow::Context;
use idle_tide_dock::flow::script::{Around, Limits, STOPPED, State, printed, run};
use idle_tide_draw::picture::counted;
use idle_tide_engines::{Connection, EngineError, Fault, Outcome, Sink};
use idle_tide_lang::Dialect;
use idle_tide_lang::command::Parsed;
use idle_tide_lang::flow::{FlowError, script};
use idle_tide_lang::parameter::{fill, fill_variables, parameters};
use idle_tide_lang::split::{PieceKind, pieces};
use idle_tide_lang::statement::{Effect, summary};
use parking_lot::RwLock;
use secrecy::ExposeSecret;

use super::Verb;
use super::statement::earlier;
use crate::ask::Asked;
use crate::catalog::ReadCatalog;
use crate::entries::rows as rows_content;
use crate::entry::Content;
use crate::export::expand;
use crate::failure::{self, Failure, plain};
use crate::page::{Line as PageLine, Page, Tone};
use crate::session::{Next, Secrets, Task, Turn, Waiting};
use crate::settings::Writes;
use crate::sheet::now;
use crate::task::{Bench, Lane, Progress, Reporter, Work};

/// The largest file that is run from the full screen, in bytes.
const MOST_FILE: u64 = 64 * 1024 * 1024;

/// Begins script lines.
pub(crate) fn start(turn: &mut Turn<'_>, text: &str) -> Next {
    let lines = match script(text, &TimeZone::UTC) {
        Ok(lines) => lines,
        Err(error) => return failure::of_flow(&error).into(),
    };
    let sets: Sets = turn
        .entries
        .all()
        .iter()
        .filter_map(|entry| Some((entry.number, Arc::clone(&entry.sheet()?.set))))
        .collect();
    let session = &turn.session;
    Next::Go(Box::new(Script {
        lines,
        state: std::mem::take(&mut turn.services.script),
        sets,
        dialect: session.dialect,
        asks: session.writes == Writes::Ask,
        held: session.held.is_some(),
        nowhere: session.is_nowhere(),
        secrets: Arc::clone(&turn.waiting.given),
        paper: Paper::default(),
        error: None,
    }))
}

type Sets = HashMap<u32, Arc<RwLock<ResultSet>>>;

/// What a script left.
#[derive(Default)]
struct Paper {
    printed: Vec<String>,
    shown: Vec<Datum>,
    /// Whether it changed something.
    wrote: bool,
}

/// Runs script lines.
struct Script {
    lines: Vec<idle_tide_lang::flow::ast::Line>,
    state: State,
    sets: Sets,
    dialect: &'static Dialect,
    /// Whether changes that sweep are asked about.
    asks: bool,
    /// Whether a change is held.
    held: bool,
    nowhere: bool,
    /// Literals that were covered in its statements, by their parameters.
    secrets: Arc<Secrets>,
    paper: Paper,
    error: Option<FlowError>,
}

impl Work for Script {
    fn lane(&self) -> Lane {
        match self.nowhere {
            true => Lane::Free,
            false => Lane::Connection,
        }
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let context = Context {
            now: now(),
            script: true,
            ..Context::default()
        };
        let mut around = Outside {
            connection: at.connection.as_deref_mut(),
            ticket: at.ticket,
            stop: at.stop,
            reporter: at.reporter,
            sets: &self.sets,
            dialect: self.dialect,
            asks: self.asks,
            held: self.held,
            secrets: &self.secrets,
            paper: &mut self.paper,
        };
        self.error = run(
            &self.lines,
            &mut self.state,
            &mut around,
            &context,
            &Limits::default(),
        )
        .err();
        Ok(())
    }
}

impl Task for Script {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let Script {
            state,
            paper,
            error,
            ..
        } = *self;
        turn.services.script = state;
        if paper.wrote && turn.services.stream.is_none() {
            turn.session.figures.clear();
            turn.start(ReadCatalog::behind());
        }
        let mut page = Page::new();
        for line in &paper.printed {
            for line in line.split('\n') {
                page.line(PageLine::new().and(Tone::Plain, line));
            }
        }
        if paper.printed.is_empty() && paper.shown.is_empty() {
            page.say(
                Tone::Faint,
                "Nothing was printed. /variables shows what there is.",
            );
        }
        let content = match (paper.shown.as_slice(), paper.printed.is_empty()) {
            ([], _) => Content::Page(page),
            ([one], true) => rows_content(as_rows(one)),
            (many, quiet) => {
                // What is shown comes as entries of its own, before the one that says what was printed.
                let text = turn.waiting.text().to_string();
                let own = turn.entry;
                for (at, value) in many.iter().enumerate() {
                    turn.make_entry(&format!("{text} ({} of {})", at + 1, many.len()), false);
                    if let Some(entry) = turn.own() {
                        entry.content = rows_content(as_rows(value));
                        entry.state = crate::entry::State::Done;
                    }
                }
                turn.entry = own;
                if quiet {
                    page.say(
                        Tone::Faint,
                        format!("{} were shown.", counted(many.len() as u64, "list")),
                    );
                }
                Content::Page(page)
            }
        };
        match (how, error) {
            (Err(error), _) => Next::refuse(error.message),
            (Ok(()), None) => Next::Done(content),
            (Ok(()), Some(error)) if error.message == STOPPED => Next::Stopped(content),
            (Ok(()), Some(error)) => {
                let failure = failure::of_flow(&error);
                // What it had printed before stays in sight.
                if paper.printed.is_empty() {
                    return failure.into();
                }
                let mut page = Page::new();
                paper.printed.iter().for_each(|line| {
                    page.say(Tone::Plain, line.clone());
                });
                page.gap();
                page.say(Tone::Danger, failure.headline.clone());
                Next::FailKeeping(Content::Page(page), Box::new(failure))
            }
        }
    }
}

/// A value as rows: a list of objects with their fields as columns, other lists with one column.
fn as_rows(value: &Datum) -> ResultSet {
    let one = std::slice::from_ref(value);
    let list = match value {
        Datum::List(list) => list.as_slice(),
        _ => one,
    };
    let mut columns: Vec<Column> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    for item in list {
        let names: Vec<&str> = match item {
            Datum::Object(object) => object
                .fields
                .iter()
                .map(|(name, _)| name.as_str())
                .collect(),
            _ => vec!["value"],
        };
        for name in names {
            places.entry(name.to_string()).or_insert_with(|| {
                columns.push(Column::named(name));
                columns.len() - 1
            });
        }
    }
    let width = columns.len();
    let rows = list.iter().map(|item| {
        let mut row = vec![Value::Missing; width];
        match item {
            Datum::Object(object) => object
                .fields
                .iter()
                .for_each(|(name, value)| row[places[name.as_str()]] = value_of(value)),
            other => row[places["value"]] = value_of(other),
        }
        row
    });
    ResultSet::of_rows(columns, rows.collect())
}

fn value_of(value: &Datum) -> Value {
    match value {
        Datum::Null => Value::Null,
        Datum::Boolean(yes) => Value::Boolean(*yes),
        Datum::Int(number) => Value::Integer(i64::from(*number)),
        Datum::Long(number) => Value::Integer(*number),
        Datum::Double(number) => Value::Float(*number),
        Datum::Decimal(number)
            if idle_tide_core::decimal::is_decimal(number.to_string().as_bytes()) =>
        {
            Value::Number(number.to_string())
        }
        Datum::Text(text) => Value::Text(text.to_string()),
        Datum::Bytes(bytes) => Value::Bytes(bytes.1.clone()),
        other => Value::Text(printed(other)),
    }
}

/// What is around a script.
struct Outside<'a, 'c> {
    connection: Option<&'a mut (dyn Connection + 'c)>,
    ticket: u64,
    stop: &'a Arc<std::sync::atomic::AtomicBool>,
    reporter: &'a Reporter,
    sets: &'a Sets,
    dialect: &'static Dialect,
    asks: bool,
    held: bool,
    secrets: &'a Secrets,
    paper: &'a mut Paper,
}

/// Rows as objects.
#[derive(Default)]
struct Objects {
    labels: Vec<String>,
    list: Vec<Datum>,
    begun: bool,
}

impl Sink for Objects {
    fn columns(&mut self, columns: Vec<Column>) -> std::io::Result<()> {
        self.begun = true;
        self.more_columns(columns)
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> std::io::Result<()> {
        self.labels = idle_tide_core::column_labels(&columns);
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> std::io::Result<()> {
        for row in batch.rows() {
            if self.list.len() as u64 >= Limit::ScriptRows.value() {
                return Err(std::io::Error::other(too_many()));
            }
            self.list.push(Datum::Object(match row.document() {
                Some(bytes) => bson::tree(bytes),
                None => {
                    let fields = self.labels.iter().zip(row.values());
                    // A field that is null is there, so that it can be asked for.
                    fields
                        .map(|(label, value)| {
                            (label.as_str(), value.to_datum().unwrap_or(Datum::Null))
                        })
                        .collect()
                }
            }));
        }
        Ok(())
    }
}

impl Outside<'_, '_> {
    /// Runs a statement; the rows that it gave, if it gives some, and what came of it.
    fn statement(
        &mut self,
        arguments: &[Datum],
        variables: &Document,
        reads: bool,
    ) -> Result<(Objects, Outcome), String> {
        let name = if reads { "rows" } else { "run" };
        let (text, given) = match arguments {
            [Datum::Text(text)] => (text.as_str(), None),
            [Datum::Text(text), Datum::Object(given)] => (text.as_str(), Some(given)),
            _ => {
                return Err(format!(
                    "It is written {name}('statement') or {name}('statement', {{name: value}})."
                ));
            }
        };
        let variable = |name: &str| {
            let given = given.and_then(|given| given.get(name));
            given.or_else(|| variables.get(name)).cloned()
        };
        let text = fill_variables(text.trim().trim_end_matches(';'), self.dialect, &variable);
        let secret = |name: &str| {
            let found = self.secrets.iter().find(|(known, _)| known == name);
            found.map(|(_, literal)| literal.expose_secret().to_string())
        };
        let covered = text;
        let text = fill(&covered, self.dialect, &secret);
        if let Some(missing) = parameters(&text, self.dialect)
            .into_iter()
            .find(|parameter| parameter.hidden)
        {
            return Err(format!(
                "The value of :?{} is not kept. Write it into the statement again.",
                missing.name
            ));
        }
        let about = summary(&text, self.dialect);
        let Some(connection) = self.connection.as_deref_mut() else {
            return Err("No source is open, so no statement can run. F9 shows the sources.".into());
        };
        if reads && about.effect != Effect::Read {
            return Err("rows takes a statement that only reads; run takes any.".into());
        }
        if self.held && about.effect != Effect::Read {
            return Err(
                "A change is held in this session. /keep or /take-back ends that first.".into(),
            );
        }
        if self.asks && !about.sweeps.is_empty() {
            let (reply, answer) = channel();
            let details = vec![
                covered,
                String::new(),
                "It is part of a script, and sweeps.".into(),
            ];
            self.reporter.tell(Progress::Asks(Asked::Allow(
                "Run this statement?".into(),
                details,
                reply,
            )));
            if !answer.recv().unwrap_or(false) {
                return Err("It was not run; the script ended there.".into());
            }
        }
        self.paper.wrote |= about.effect != Effect::Read;
        let mut rows = Objects::default();
        match connection.run(self.ticket, &text, &mut rows) {
            Ok(outcome) => Ok((rows, outcome)),
            Err(error) if error.fault == Fault::Cancelled => Err(STOPPED.into()),
            Err(error) => {
                // What the server repeats of a statement may hold its secrets.
                let literals = self
                    .secrets
                    .iter()
                    .map(|(_, literal)| literal.expose_secret());
                let insides = literals.map(|literal| literal.trim_matches(['\'', '"']));
                let shown = insides.filter(|inside| inside.chars().count() > 3);
                Err(shown.fold(error.message, |message, inside| {
                    message.replace(inside, "…")
                }))
            }
        }
    }
}

impl Around for Outside<'_, '_> {
    fn call(
        &mut self,
        name: &str,
        arguments: Vec<Datum>,
        variables: &Document,
    ) -> Result<Datum, String> {
        match name {
            "result" => {
                let number = match arguments.as_slice() {
                    [number] => number
                        .as_i64()
                        .and_then(|number| u32::try_from(number).ok()),
                    _ => None,
                };
                let number =
                    number.ok_or("It is written result(N), with the number of an entry.")?;
                let (mut list, most) = (Vec::new(), Limit::ScriptRows.value());
                earlier(self.sets, number, &mut |document| {
                    list.push(Datum::Object(document));
                    list.len() as u64 <= most
                })?;
                match list.len() as u64 > most {
                    true => Err(too_many()),
                    false => Ok(Datum::List(list)),
                }
            }
            "rows" => {
                let (rows, _) = self.statement(&arguments, variables, true)?;
                Ok(Datum::List(rows.list))
            }
            _ => {
                let (rows, outcome) = self.statement(&arguments, variables, false)?;
                Ok(match (rows.begun, outcome.changed) {
                    (true, _) => Datum::List(rows.list),
                    (false, Some(changed)) => {
                        Datum::integer(i64::try_from(changed).unwrap_or(i64::MAX))
                    }
                    (false, None) => Datum::Null,
                })
            }
        }
    }

    fn print(&mut self, value: &Datum) {
        self.paper.printed.push(printed(value));
    }

    fn show(&mut self, value: Datum) {
        self.paper.shown.push(value);
    }

    fn stopped(&self) -> bool {
        self.stop.load(std::sync::atomic::Ordering::Relaxed)
    }
}

/// A command about what scripts leave.
pub(crate) struct Left(&'static str);

pub(crate) static VARIABLES: Left = Left("variables");
pub(crate) static FORGET: Left = Left("forget");
pub(crate) static RUN: Left = Left("run");

impl Verb for Left {
    fn name(&self) -> &'static str {
        self.0
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        match self.0 {
            "variables" => Ok(Next::Done(variables(turn))),
            "forget" => forget(turn, parsed),
            _ => run_file(turn, parsed),
        }
    }
}

fn variables(turn: &Turn<'_>) -> Content {
    let state = &turn.services.script;
    if state.variables.is_empty() && state.functions.is_empty() {
        let mut page = Page::new();
        page.say(Tone::Heading, "There are no variables yet.");
        page.gap();
        page.say(
            Tone::Faint,
            "= name = value  makes one;  :name  stands for it in a statement.",
        );
        return Content::Page(page);
    }
    let short = |text: String| -> String {
        let cut: String = text.chars().take(400).collect();
        if cut.len() < text.len() {
            format!("{cut}…")
        } else {
            cut
        }
    };
    let text = |text: &str| Value::Text(text.into());
    let values = state.variables.fields.iter().map(|(name, value)| {
        vec![
            text(name),
            text(value.kind().word()),
            Value::Text(short(printed(value))),
        ]
    });
    let functions = state.functions.iter().map(|function| {
        let written = format!("{}({})", function.name, function.arguments.join(", "));
        let gives = idle_tide_lang::flow::format_expr(&function.gives);
        vec![
            Value::Text(written),
            text("function"),
            Value::Text(short(gives)),
        ]
    });
    let columns = ["name", "kind", "value"].map(Column::named);
    rows_content(ResultSet::of_rows(
        columns.into(),
        values.chain(functions).collect(),
    ))
}

fn forget(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<Next, Failure> {
    let state = &mut turn.services.script;
    let Some(part) = parsed.arguments.first() else {
        let count = state.variables.len() + state.functions.len();
        *state = State::default();
        turn.say(
            format!("{} forgotten.", counted(count as u64, "name")),
            Tone::Plain,
        );
        return Ok(Next::Keep);
    };
    let name = part.text.as_str();
    let known = state.functions.len();
    state.functions.retain(|function| function.name != name);
    if state.variables.remove(name).is_none() && state.functions.len() == known {
        let names = state.variables.fields.iter().map(|(name, _)| name.as_str());
        let all = names.chain(
            state
                .functions
                .iter()
                .map(|function| function.name.as_str()),
        );
        return Err(failure::of_command(
            &idle_tide_lang::command::CommandError {
                message: format!("There is no variable or function {name}."),
                span: part.span.clone(),
                nearest: idle_tide_lang::correct::nearest(name, all, 3),
            },
        ));
    }
    turn.say(format!("{name} is forgotten."), Tone::Plain);
    Ok(Next::Keep)
}

/// What is said where there are more rows than a script takes.
fn too_many() -> String {
    let most = idle_tide_draw::picture::grouped(Limit::ScriptRows.value());
    format!("it gives more than {most} rows, which is more than a script takes")
}

/// Puts what a file holds, statements, commands and script lines, before what waits.
fn run_file(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<Next, Failure> {
    let name = parsed.argument(0).unwrap_or_default();
    let path = expand(name);
    let failed = |error: std::io::Error| plain(format!("{name} cannot be read: {error}."));
    let size = std::fs::metadata(&path).map_err(failed)?.len();
    if size > MOST_FILE {
        return Err(plain(format!(
            "{name} is larger than {}. A file of any size runs without a screen: idle-tide run SOURCE --file {name}",
            idle_tide_draw::picture::bytes(MOST_FILE)
        )));
    }
    let text = std::fs::read_to_string(&path).map_err(failed)?;
    let covered = super::statement::cover(&text, turn.session.dialect);
    let mut list = Vec::new();
    for piece in pieces(&covered.text, turn.session.dialect) {
        if !piece.has_code {
            continue;
        }
        let is_command = piece.kind == PieceKind::Command;
        let part = &covered.text[piece.start as usize..piece.end as usize];
        if is_command && part.trim_start().starts_with("/run") {
            return Err(plain(format!(
                "{name}, line {}: a file that is run cannot run another.",
                piece.line
            )));
        }
        list.push(Waiting {
            submission: Arc::clone(&covered.text),
            span: piece.start as usize..piece.end as usize,
            before: list.len(),
            given: Arc::clone(&covered.given),
            ..Waiting::alone("", is_command)
        });
    }
    if list.is_empty() {
        return Err(plain(format!("There is nothing to run in {name}.")));
    }
    turn.say(
        format!(
            "{} of {name} run one after the other.",
            counted(list.len() as u64, "piece")
        ),
        Tone::Plain,
    );
    for waiting in list.into_iter().rev() {
        turn.session.queue.push_front(waiting);
    }
    Ok(Next::Keep)
}
