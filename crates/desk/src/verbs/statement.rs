//! A statement on its way: its parameters are asked for, it is classified once, the guard counts and asks, it runs,
//! and what came of it is said. It runs in the session in which it was typed: nothing here can reach another.

use std::collections::{HashMap, VecDeque};
use std::io;
use std::sync::Arc;

use idle_tide_core::limits::Limit;
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Column, Document, Figures, RowBatch, column_labels};
use idle_tide_engines::address::without_password;
use idle_tide_engines::{Access, Connection, Earlier, EngineError, Fault, Outcome, Sink, Source};
use idle_tide_lang::Dialect;
use idle_tide_lang::correct::Complaint;
use idle_tide_lang::dialect::Family;
use idle_tide_lang::parameter::{
    Parameter, fill, fill_variables, is_of_users, parameters, typed_literal,
};
use idle_tide_lang::remarks::remarks;
use idle_tide_lang::secret;
use idle_tide_lang::statement::{Change, Effect, Summary, change, may_be_half_done, summary};
use parking_lot::RwLock;
use secrecy::{ExposeSecret, SecretString};

use crate::ask::Wanted;
use crate::catalog::ReadCatalog;
use crate::changed_rows::Rows;
use crate::comparing::Compare;
use crate::count::count_all;
use crate::entries::rows;
use crate::entry::Content;
use crate::failure::{self, Failure};
use crate::guard::{self, Count, Counted, Question};
use crate::lists;
use crate::look::{self, Look, Statement, Way};
use crate::outcome::{self, Around};
use crate::page::{Page, Tone};
use crate::repeated::{WithoutSecrets, said, without};
use crate::reversible::protected;
use crate::session::{Check, Next, Secrets, Task, Turn, Wanting};
use crate::settings::{Tone as SourceTone, Writes};
use crate::sheet::{Sheet, read};
use crate::task::{Bench, Lane, Progress, Reporter, Work};

/// A database of more objects than this is read again only when its objects may have changed.
const LARGE: usize = 2_000;
/// A change of so many rows is asked about before it is held.
const LARGE_CHANGE: u64 = 100_000;
/// Rows that are shown of a change which cannot be held.
const SAMPLE: usize = 4;
/// Settings of a session that are remembered, to set them again on a new connection.
const MOST_SETTINGS: usize = 200;

/// What was typed, without its secrets.
pub(crate) struct Covered {
    pub(crate) text: Arc<str>,
    /// The literals that were taken out, by their parameters.
    pub(crate) given: Arc<Secrets>,
    /// The password that stood in an address.
    pub(crate) password: Option<SecretString>,
}

/// Takes the secrets out of what was typed.
pub(crate) fn cover(typed: &str, dialect: &Dialect) -> Covered {
    let plain = |text: &str| Covered {
        text: text.into(),
        given: Arc::default(),
        password: None,
    };
    if typed.trim_start().starts_with('/') && typed.contains("://") {
        let text = without_password(typed);
        if text == typed {
            return plain(typed);
        }
        let address = typed.split_whitespace().find(|part| part.contains("://"));
        let address = address.map(|address| address.trim_matches(['\'', '"']));
        let source = address.and_then(|address| Source::parse(address).ok());
        return Covered {
            password: source.and_then(|source| source.password()),
            ..plain(&text)
        };
    }
    let covered = match typed.trim_start().starts_with('=') {
        true => secret::cover_script(typed, dialect),
        false => secret::cover(typed, dialect),
    };
    match covered {
        Some(covered) => Covered {
            given: Arc::new(
                covered
                    .secrets
                    .into_iter()
                    .map(|(name, value)| (name, value.into()))
                    .collect(),
            ),
            ..plain(&covered.text)
        },
        None => plain(typed),
    }
}

/// A statement before it runs.
struct Typed {
    text: String,
    /// Parameters that have values, and the literals that are put in their places.
    secrets: Secrets,
}

/// A statement with the functions and variables of scripts in their places.
///
/// # Errors
/// If a function is called that cannot be put in its place.
pub(crate) fn with_variables(turn: &Turn<'_>, mut text: String) -> Result<String, Failure> {
    let state = &turn.services.script;
    if turn.session.dialect.is_flow()
        && let Some(put) = state
            .known(|known| known.in_statement(&text))
            .map_err(|e| failure::of_flow(&e))?
    {
        text = put;
    }
    let variables = &state.variables;
    Ok(match variables.is_empty() {
        true => text,
        false => fill_variables(&text, turn.session.dialect, &|name| {
            variables.get(name).cloned()
        }),
    })
}

/// Begins a statement that was typed.
pub(crate) fn start(turn: &mut Turn<'_>, text: String) -> Next {
    if turn.session.is_nowhere() {
        return failure::nowhere().into();
    }
    let dialect = turn.session.dialect;
    let text = match with_variables(turn, text) {
        Ok(text) => text,
        Err(failure) => return failure.into(),
    };
    let typed = Typed {
        secrets: turn.waiting.given.to_vec(),
        text: secret::left_out(&text, dialect).unwrap_or(text),
    };
    let mut missing = VecDeque::from(parameters(&typed.text, dialect));
    missing.retain(|p| typed.secrets.iter().all(|(given, _)| *given != p.name));
    if turn.session.bearings.server.is_none() && is_of_users(&typed.text, dialect) {
        // A file has no users, and says so without a password.
        missing.clear();
    }
    ask_for(turn, typed, missing)
}

/// Asks for the values that are missing, one after the other, and goes on.
fn ask_for(turn: &mut Turn<'_>, mut typed: Typed, mut missing: VecDeque<Parameter>) -> Next {
    let Some(parameter) = missing.pop_front() else {
        return check(turn, typed);
    };
    let name = &parameter.name;
    let wanting = match parameter.hidden {
        true => Wanting {
            what: format!("Value of :?{name}"),
            details: Vec::new(),
            wanted: Wanted::Secret,
        },
        false => Wanting {
            what: format!("Value of :{name}"),
            details: vec![
                "A number, true, false, null, date '2031-03-01', a list [1, 2] as they are written in flows; anything else is a text.".into(),
            ],
            wanted: Wanted::Value,
        },
    };
    let answer = move |turn: &mut Turn<'_>, given: SecretString| {
        let given = given.expose_secret();
        let dialect = turn.session.dialect;
        let literal = match parameter.hidden {
            true => dialect.quote_text(given),
            false => typed_literal(given, dialect),
        };
        typed.secrets.push((parameter.name.clone(), literal.into()));
        if parameter.hidden && missing.is_empty() {
            turn.say(
                "What you gave was put into the statement as a text, quoted by the rules of the server.",
                Tone::Faint,
            );
        }
        ask_for(turn, typed, missing)
    };
    Next::Want(wanting, Box::new(answer))
}

/// Puts the values in their places, classifies the statement, and asks first where it sweeps.
fn check(turn: &mut Turn<'_>, typed: Typed) -> Next {
    let dialect = turn.session.dialect;
    let Typed { mut text, secrets } = typed;
    if !secrets.is_empty() {
        text = fill(&text, dialect, &|name| {
            let found = secrets.iter().find(|(given, _)| given == name);
            found.map(|(_, literal)| literal.expose_secret().to_string())
        });
    }
    let mut run = Run::of(text, dialect);
    run.secrets = secrets;
    if let Some(held) = &turn.session.held
        && run.about.effect != Effect::Read
    {
        return failure::is_held(held).into();
    }
    let writable = turn.session.bearings.access == Access::Writable;
    if !writable || turn.session.writes != Writes::Ask {
        return run.go();
    }
    // A script has nobody who looks.
    if turn.services.stream.is_none() {
        run.change = change(&run.text, dialect).map(|change| (change, Way::Straight));
    }
    let ends = run.about.commits && turn.session.bearings.transaction.is_some();
    if run.about.sweeps.is_empty() && !ends && run.change.is_none() {
        return run.go();
    }
    if turn.needs_catalog() {
        return Next::Go(Box::new(ReadCatalog::then(move |turn| decide(turn, run))));
    }
    decide(turn, run)
}

/// Decides with the catalog whether it runs, is looked at, or is asked about with its numbers.
fn decide(turn: &mut Turn<'_>, mut run: Run) -> Next {
    if let Some((change, way)) = &mut run.change {
        *way = look::way(turn, change);
    }
    ask(turn, run)
}

/// Has the numbers counted that are asked about; goes on where there is nothing to ask.
fn ask(turn: &mut Turn<'_>, run: Run) -> Next {
    let ends = run.about.commits && turn.session.bearings.transaction.is_some();
    let lasts =
        matches!(&run.change, Some((change, Way::CannotBeHeld(_))) if change.chosen.is_some());
    if run.about.sweeps.is_empty() && !ends && !lasts {
        return run.proceed(turn);
    }
    let session = &turn.session;
    let mut asked = guard::counts(&run.about.sweeps, &session.catalog, session.dialect);
    if let Some((
        Change {
            chosen: Some(chosen),
            ..
        },
        Way::CannotBeHeld(_),
    )) = &run.change
    {
        asked.push(Count {
            query: chosen.count(),
            sweep: usize::MAX,
            of: Counted::Rows,
        });
    }
    let sample = match &run.change {
        Some((change, Way::CannotBeHeld(_))) => look::sample_of(change, turn.session.dialect),
        _ => None,
    };
    Next::Go(Box::new(Counting {
        run,
        asked,
        counts: Vec::new(),
        sample,
        some: Rows::at_most(SAMPLE),
    }))
}

/// Counts for the guard.
struct Counting {
    run: Run,
    asked: Vec<Count>,
    counts: Vec<Option<u64>>,
    /// The query for a few of the rows that a change chooses which cannot be held, and what it gave.
    sample: Option<String>,
    some: Rows,
}

impl Work for Counting {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let questions: Vec<String> = self.asked.iter().map(|count| count.query.clone()).collect();
        self.counts = count_all(at, &questions)?;
        let ticket = at.ticket;
        if let Some(query) = &self.sample {
            let some = &mut self.some;
            let read = protected(at.connection()?, |connection| {
                connection.run(ticket, query, some)
            });
            // What may not be read is not shown.
            match read {
                Err(error) if error.fault == Fault::Cancelled => return Err(error),
                _ => some.fill(),
            }
        }
        Ok(())
    }
}

impl Task for Counting {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let Counting {
            run,
            asked,
            counts,
            some,
            ..
        } = *self;
        // A sweep that was stopped while it was counted does not run.
        match how {
            Err(error) if error.fault == Fault::Cancelled => return Next::NotRun,
            Err(error) => return run.refused(turn, &error),
            Ok(()) => {}
        }
        let session = &turn.session;
        let sweeps = &run.about.sweeps;
        let transaction = session.bearings.transaction.filter(|_| run.about.commits);
        let lasts = match &run.change {
            Some((change, Way::CannotBeHeld(why))) => Some((change, why.as_str())),
            _ => None,
        };
        let (catalog, dialect) = (&session.catalog, session.dialect);
        let ends = guard::Ends {
            transaction: transaction.map(|since| since.elapsed()),
            within: session.bearings.transaction.is_some() && !run.about.commits,
            lasts,
        };
        let question = guard::question(sweeps, &asked, &counts, catalog, dialect, &ends);
        let held = matches!(run.change, Some((_, Way::Held)));
        let most = counts.iter().flatten().max();
        match question {
            // What is held can be looked at and taken back; only what is large is asked about before it is locked.
            Some(mut question) if !held || most.is_none_or(|rows| *rows > LARGE_CHANGE) => {
                some.show(&mut question.page, &turn.services.covering);
                let careful = session.tone() == SourceTone::Danger;
                let name = guard::name_to_type(sweeps).filter(|_| careful);
                match name.map(str::to_string) {
                    Some(name) => type_name(question, name, run),
                    None => Next::Ask(question, Box::new(|turn| run.proceed(turn))),
                }
            }
            _ => run.proceed(turn),
        }
    }
}

/// Runs a statement of this program's own, of which nothing is shown.
///
/// # Errors
/// Those of the engine.
pub(crate) fn run_quietly(
    connection: &mut dyn idle_tide_engines::Connection,
    ticket: u64,
    sql: &str,
) -> Result<(), EngineError> {
    connection
        .run(ticket, sql, &mut idle_tide_engines::Nowhere)
        .map(drop)
}

/// Asks for the name of what would go, and goes on when it is typed.
fn type_name(question: Question, name: String, run: Run) -> Next {
    let mut lines = question.page.lines.iter().map(|line| line.text());
    let wanting = Wanting {
        what: lines.next().unwrap_or_default(),
        details: lines
            .chain([
                String::new(),
                format!("Much depends on this source. Type {name} and press Enter to do it; Esc leaves everything as it is."),
            ])
            .collect(),
        wanted: Wanted::Value,
    };
    Next::Want(
        wanting,
        Box::new(
            move |turn, given| match given.expose_secret().trim() == name {
                true => run.proceed(turn),
                false => Next::NotRun,
            },
        ),
    )
}

/// Figures of every column, as they are gathered.
type Gathered = Arc<RwLock<Vec<(Column, Figures)>>>;

/// Where rows go.
enum Into {
    /// Into a result, which is made when it goes.
    Result,
    /// Into figures of the table of this name.
    Figures(Gathered, String),
}

/// Runs a statement.
pub(crate) struct Run {
    text: String,
    about: Summary,
    /// The change of rows that it is, if it is one that may be looked at first, and what becomes of it.
    change: Option<(Change, Way)>,
    /// The query that reads the rows which it named by their key, for the check after it.
    reads_after: Option<String>,
    /// What that gave.
    now: Option<Rows>,
    /// Whether a change is held in its session, which a refusal must not take with it.
    protects: bool,
    secrets: Secrets,
    into: Into,
    sink: Option<Box<dyn Sink + Send>>,
    set: Option<(Arc<RwLock<ResultSet>>, Arc<Budget>)>,
    earlier: Option<Earlier>,
    /// The transaction when it went.
    around: Around,
    outcome: Option<Outcome>,
}

impl Run {
    /// A statement of our own, or one that needs no questions.
    pub(crate) fn of(text: String, dialect: &Dialect) -> Self {
        let about = summary(&text, dialect);
        Self::about(text, about)
    }

    /// A statement of our own that only reads.
    pub(crate) fn reading(text: String) -> Self {
        Self::about(text, Summary::new("select", Effect::Read))
    }

    fn about(text: String, about: Summary) -> Self {
        Run {
            text,
            about,
            change: None,
            reads_after: None,
            now: None,
            protects: false,
            secrets: Vec::new(),
            into: Into::Result,
            sink: None,
            set: None,
            earlier: None,
            around: Around::default(),
            outcome: None,
        }
    }

    /// Its rows become the figures of a table.
    pub(crate) fn into_figures(self, table: String) -> Self {
        Run {
            into: Into::Figures(Arc::default(), table),
            ..self
        }
    }

    /// Where its rows will be, once it has begun.
    pub(crate) fn result(&self) -> Option<Arc<RwLock<ResultSet>>> {
        self.set.as_ref().map(|(set, _)| Arc::clone(set))
    }

    /// Runs, or is looked at where that was decided.
    fn proceed(mut self, turn: &mut Turn<'_>) -> Next {
        match self.change.take() {
            Some((change, Way::Held)) => Next::Go(Box::new(Look::at(turn, Box::new(self), change))),
            Some((change, Way::Straight)) => {
                self.reads_after = look::afterwards(turn, &change);
                self.go()
            }
            _ => self.go(),
        }
    }

    /// Goes.
    pub(crate) fn go(self) -> Next {
        Next::Go(Box::new(self))
    }

    /// The statement is refused; its place is one of what was typed.
    fn refused(&self, turn: &mut Turn<'_>, error: &EngineError) -> Next {
        let mut error = error.clone();
        // What the server repeats of a statement may hold its secrets.
        if !self.secrets.is_empty() {
            error.message = without(&error.message, &self.secrets);
            error.advice = error.advice.map(|advice| without(&advice, &self.secrets));
            for note in &mut error.notes {
                *note = without(note, &self.secrets);
            }
            error.complaint = idle_tide_lang::correct::Complaint::Other;
            error.offset = None;
        }
        let shown = match self.secrets.is_empty() {
            true => self.text.clone(),
            false => turn.waiting.text().to_string(),
        };
        refused_in(turn, &shown, &error, self.around.before)
    }

    /// What the statement gave, as the content of its entry.
    fn content(&self, turn: &mut Turn<'_>, outcome: &Outcome, kept: Option<Sheet>) -> Content {
        match (&self.into, kept) {
            (Into::Figures(gathered, table), _) => {
                let gathered = gathered.read().clone();
                let content = rows(lists::figures(&gathered, &turn.services.covering));
                turn.session.figures.insert(table.clone(), gathered);
                content
            }
            (_, Some(sheet)) => Content::Rows(sheet),
            // Rows that went to a stream.
            _ if outcome.returns_rows && turn.services.stream.is_some() => Content::Nothing,
            // Documents bring their own columns; rows may have none.
            _ if outcome.returns_rows => {
                let (heading, more) = match turn.session.dialect.is_flow() {
                    true => (
                        "No documents.",
                        "It ran to its end and gave none. /stages shows after which stage none is left.",
                    ),
                    false => (
                        "Rows without columns.",
                        "There is nothing to show of them; count(*) tells how many there are.",
                    ),
                };
                let mut page = Page::new();
                page.say(Tone::Heading, heading);
                page.gap();
                page.say(Tone::Faint, more);
                Content::Page(page)
            }
            _ => {
                let around = Around {
                    after: turn.session.bearings.transaction.is_some(),
                    ..self.around
                };
                let thing = turn.session.dialect.row();
                Content::Page(outcome::page(&self.about, outcome, around, thing))
            }
        }
    }

    /// It ran.
    fn done(&self, turn: &mut Turn<'_>, outcome: Outcome, kept: Option<Sheet>) -> Next {
        self.remember_setting(turn);
        let mut content = self.content(turn, &outcome, kept);
        let keeps = turn.services.stream.is_none();
        match (&mut content, outcome.notes.as_slice()) {
            (_, []) => {}
            (Content::Page(page), notes) if keeps => {
                page.gap();
                for note in notes {
                    page.say(Tone::Care, note.clone());
                }
            }
            (_, [note]) => turn.say(note.clone(), Tone::Care),
            // One line has no room for several; they stand above the rows.
            (Content::Rows(_), notes) if keeps => {
                let mut page = Page::new();
                for note in notes {
                    page.say(Tone::Care, note.clone());
                }
                if let Some(own) = turn.own() {
                    own.above = Some(page);
                }
            }
            (_, notes) => turn.say(notes.join("\n"), Tone::Care),
        }
        if self.about.effect == Effect::Read
            && keeps
            && let Content::Rows(sheet) = &content
        {
            self.say_doubts(turn);
            if let Some(compare) = Compare::with_earlier(turn, &sheet.set) {
                turn.start(compare);
            }
        }
        let makes = self.about.effect == Effect::Definition && self.about.verb == "create";
        if (makes || self.about.effect == Effect::Write) && matches!(content, Content::Page(_)) {
            let name = self.about.target().map(str::to_string);
            turn.session.check = turn.entry.zip(name).map(|(entry, name)| Check {
                entry,
                name,
                made: makes,
            });
        }
        if let (Content::Page(page), Some(rows)) = (&content, self.rows_now(turn)) {
            let above = page.clone();
            if let Some(own) = turn.own() {
                own.above = Some(above);
            }
            content = Content::Rows(rows);
        }
        if let Some(own) = turn.own() {
            own.outcome = Some(outcome);
        }
        Next::Done(content)
    }

    /// The rows as they are now, of a change that named them by their key.
    fn rows_now(&self, turn: &Turn<'_>) -> Option<Sheet> {
        let rows = self.now.as_ref()?;
        let covering = turn.services.covering.clone();
        let set = ResultSet::of_rows(rows.columns.clone(), rows.rows.clone());
        let sheet = Sheet::new(Arc::new(RwLock::new(set)));
        (!rows.rows.is_empty()).then(|| sheet.covered_by(covering))
    }

    /// What is doubtful in a statement that read.
    fn say_doubts(&self, turn: &mut Turn<'_>) {
        let dialect = turn.session.dialect;
        let remarks = remarks(&self.text, &turn.session.catalog, dialect);
        if let Some(remark) = remarks.said.into_iter().next() {
            let way = remark.edit.filter(|_| !dialect.is_flow());
            let way = way.map(|edit| format!(" {} takes each once.", edit.text));
            turn.say(
                format!("{}{}", remark.words, way.unwrap_or_default()),
                Tone::Care,
            );
        }
    }

    /// The connection was lost: what is known is said, and nothing is sent again.
    fn lost(&self, turn: &mut Turn<'_>, error: &EngineError, kept: Option<Sheet>) -> Next {
        turn.session.lost = true;
        turn.session.bearings.transaction = None;
        turn.session.bearings.transaction_failed = false;
        let failure = failure::of_loss(error, &self.about, self.around.before);
        let Some(sheet) = kept else {
            return failure.into();
        };
        turn.say(
            format!("{} {}", failure.headline, failure.changed),
            Tone::Danger,
        );
        let failure = failure::plain(failure.headline);
        Next::FailKeeping(Content::Rows(sheet), Box::new(failure))
    }

    /// Remembers what it set for the session, to set it again on a new connection.
    fn remember_setting(&self, turn: &mut Turn<'_>) {
        let words: Vec<String> = self
            .text
            .split_whitespace()
            .take(4)
            .map(str::to_ascii_lowercase)
            .collect();
        let word = |at: usize| words.get(at).map_or("", String::as_str);
        let session = &mut turn.session;
        let temporary = word(1).starts_with("temp") || word(3).starts_with("temp");
        session.has_temporary |= self.about.effect == Effect::Definition && temporary;
        let of_session = !matches!(
            word(1),
            "local" | "transaction" | "role" | "password" | "global" | "constraints" | "default"
        );
        if word(0) == "set"
            && of_session
            && self.secrets.is_empty()
            && session.bearings.transaction.is_none()
            && session.settings.len() < MOST_SETTINGS
        {
            session.settings.push(self.text.clone());
        }
    }

    /// Has the catalog read again where it may have changed.
    fn refresh(&self, turn: &mut Turn<'_>) {
        let effect = self.about.effect;
        if effect == Effect::Read {
            return;
        }
        // Rows counted before would be wrong now.
        turn.session.figures.clear();
        // After each write to a large database the whole catalog would be too much.
        let too_large = effect == Effect::Write && turn.session.catalog.objects.len() > LARGE;
        let may = turn.services.stream.is_none()
            && !turn.session.lost
            && !turn.session.bearings.transaction_failed;
        if may && !too_large {
            turn.start(ReadCatalog::behind());
        }
    }
}

impl Statement for Run {
    fn text(&self) -> &str {
        &self.text
    }

    fn asks_instead(mut self: Box<Self>, turn: &mut Turn<'_>, change: Change, why: String) -> Next {
        self.change = Some((change, Way::CannotBeHeld(why)));
        ask(turn, *self)
    }

    fn notes_around(&mut self, turn: &Turn<'_>) {
        let session = &turn.session;
        self.protects = session.held.is_some();
        self.around = Around {
            before: session.bearings.transaction.is_some() || session.lost_open,
            failed: session.bearings.transaction_failed,
            after: false,
            begins_anew: session.dialect.family == Family::Mariadb,
        };
    }

    fn ended_well(&self, turn: &mut Turn<'_>, outcome: Outcome) -> Next {
        let next = self.done(turn, outcome, None);
        self.refresh(turn);
        next
    }

    fn ended_badly(self: Box<Self>, turn: &mut Turn<'_>, error: EngineError) -> Next {
        let kept = match turn.own().map(|own| &own.content) {
            Some(Content::Rows(sheet)) if !sheet.labels.is_empty() => Some(sheet.clone()),
            _ => None,
        };
        self.refresh(turn);
        if error.fault == Fault::Cancelled {
            return Next::Stopped(match kept {
                Some(sheet) => Content::Rows(sheet),
                None => {
                    let mut page = Page::new();
                    let half = may_be_half_done(&self.text, turn.session.dialect);
                    page.say(
                        Tone::Heading,
                        match half {
                            false => "It was stopped. Nothing was changed.",
                            true => "It was stopped.",
                        },
                    );
                    if half {
                        let open = turn.session.bearings.transaction.is_some();
                        page.say(Tone::Care, failure::half_done(open));
                    }
                    Content::Page(page)
                }
            });
        }
        if turn.session.lost || is_lost(&error) {
            return self.lost(turn, &error, kept);
        }
        if turn.needs_catalog() {
            // What is nearest to a slip is known only with the catalog.
            let advise = move |turn: &mut Turn<'_>| self.refused(turn, &error);
            return Next::Go(Box::new(ReadCatalog::then(advise)));
        }
        self.refused(turn, &error)
    }
}

impl Work for Run {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let (ticket, reporter) = (at.ticket, at.reporter.clone());
        let connection = at.connection()?;
        if let Some(earlier) = self.earlier.take()
            && let Some(collections) = connection.collections()
        {
            collections.set_earlier(earlier);
        }
        let mut sink: Box<dyn Sink + Send> = match (&self.into, self.set.take(), self.sink.take()) {
            (Into::Figures(gathered, _), _, _) => Box::new(IntoFigures(Arc::clone(gathered))),
            (_, Some((set, budget)), _) => Box::new(IntoResult {
                set,
                budget,
                reporter,
            }),
            (_, None, Some(sink)) => sink,
            (_, None, None) => return Err(EngineError::plain("Its rows have no place to go.")),
        };
        if !self.secrets.is_empty() {
            sink = Box::new(WithoutSecrets {
                sink,
                secrets: self.secrets.clone(),
            });
        }
        let text = &self.text;
        let ran = match self.protects {
            true => protected(connection, |connection| {
                connection.run(ticket, text, &mut *sink)
            }),
            false => connection.run(ticket, text, &mut *sink),
        };
        // A sink that writes elsewhere ends its work, and may fail, only now.
        let ended = sink.end();
        if let (Ok(_), Some(query)) = (&ran, &self.reads_after) {
            let mut rows = Rows::default();
            let mut read =
                |connection: &mut dyn Connection| connection.run(ticket, query, &mut rows);
            let read = match connection.bearings().transaction.is_some() {
                true => protected(connection, read),
                false => read(connection),
            };
            rows.fill();
            // What may not be read is not shown.
            self.now = read.is_ok().then_some(rows);
        }
        self.outcome = Some(said(ran?, &self.secrets));
        ended.map_err(|error| EngineError::of_sink(&error))
    }
}

impl Task for Run {
    fn begin(&mut self, turn: &mut Turn<'_>) {
        self.notes_around(turn);
        if turn.session.dialect.is_flow() && self.text.contains("result") {
            // A flow may read what earlier entries gave.
            let sets: HashMap<u32, Arc<RwLock<ResultSet>>> = turn
                .entries
                .all()
                .iter()
                .filter_map(|entry| Some((entry.number, Arc::clone(&entry.sheet()?.set))))
                .collect();
            self.earlier = Some(Arc::new(move |number, take| earlier(&sets, number, take)));
        }
        match (&self.into, &mut turn.services.stream) {
            (Into::Figures(..), _) => {}
            (_, Some(make)) => self.sink = Some(make(&self.text)),
            (_, None) => {
                let set = Arc::new(RwLock::new(ResultSet::of_rows(Vec::new(), Vec::new())));
                let budget = Arc::clone(&turn.services.memory);
                self.set = Some((Arc::clone(&set), budget));
                let covering = turn.services.covering.clone();
                if let Some(own) = turn.own() {
                    own.content = Content::Rows(Sheet::new(set).covered_by(covering));
                }
            }
        }
    }

    fn ended(mut self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        if let Err(error) = how {
            return self.ended_badly(turn, error);
        }
        let kept = match turn.own().map(|own| &own.content) {
            Some(Content::Rows(sheet)) if !sheet.labels.is_empty() => Some(sheet.clone()),
            _ => None,
        };
        let session = &mut turn.session;
        session.in_transaction = match (self.around.before, session.bearings.transaction) {
            (true, Some(_)) => session.in_transaction + 1,
            _ => 0,
        };
        let outcome = self.outcome.take().unwrap_or_default();
        let next = self.done(turn, outcome, kept);
        self.refresh(turn);
        next
    }
}

fn is_lost(error: &EngineError) -> bool {
    matches!(error.fault, Fault::Lost | Fault::NotSent)
}

/// A refused statement in plain words. `text` is what the places are of.
pub(crate) fn failure(turn: &mut Turn<'_>, text: &str, error: &EngineError) -> Failure {
    failure_in(turn, text, error, false)
}

/// The same, with whether a transaction was open before.
fn failure_in(turn: &mut Turn<'_>, text: &str, error: &EngineError, before: bool) -> Failure {
    turn.session.lost |= is_lost(error);
    let session = &turn.session;
    let mut failure = failure::of_statement(
        text,
        error,
        &session.catalog,
        session.dialect,
        session.bearings.transaction.is_some(),
        turn.waiting.before,
    );
    // What is not understood does not begin.
    let understood = !matches!(
        error.complaint,
        Complaint::Syntax(_) | Complaint::Incomplete | Complaint::BadToken(_)
    );
    if understood && may_be_half_done(text, session.dialect) {
        failure.changed = failure::half_done(session.bearings.transaction.is_some()).into();
    }
    if before && session.bearings.transaction.is_none() && !session.lost {
        failure.changed =
            "The transaction is gone with it: the server took back what it had changed.".into();
    }
    if session.bearings.transaction_failed {
        failure.changed =
            "The transaction failed with it, and nothing of it will be kept:  rollback;  ends it."
                .into();
    }
    failure
}

/// Refused; rows that came before the error stay.
pub(crate) fn refused(turn: &mut Turn<'_>, text: &str, error: &EngineError) -> Next {
    refused_in(turn, text, error, false)
}

/// The same, with whether a transaction was open before.
fn refused_in(turn: &mut Turn<'_>, text: &str, error: &EngineError, before: bool) -> Next {
    let failure = failure_in(turn, text, error, before);
    let sheet = turn.own().and_then(|own| own.sheet());
    let kept = sheet.filter(|sheet| !read(&sheet.set).is_empty()).cloned();
    let Some(sheet) = kept else {
        return failure.into();
    };
    turn.say(
        format!("It ended early: {}", failure.headline),
        Tone::Danger,
    );
    Next::FailKeeping(Content::Rows(sheet), Box::new(failure))
}

/// Stopped by the user, or what else is to happen.
pub(crate) fn stopped_or(
    turn: &mut Turn<'_>,
    error: &EngineError,
    otherwise: impl FnOnce(&mut Turn<'_>) -> Next,
) -> Next {
    if error.fault != Fault::Cancelled {
        return otherwise(turn);
    }
    let mut page = Page::new();
    page.say(Tone::Heading, "It was stopped. Nothing was changed.");
    Next::Stopped(Content::Page(page))
}

/// Hands over the rows of an earlier entry as documents.
pub(crate) fn earlier(
    sets: &HashMap<u32, Arc<RwLock<ResultSet>>>,
    number: u32,
    take: &mut dyn FnMut(Document) -> bool,
) -> Result<(), String> {
    let Some(set) = sets.get(&number) else {
        return Err(format!(
            "Entry {number} has no rows. F3 shows the entries and their numbers."
        ));
    };
    let set = read(set);
    let labels = column_labels(set.columns());
    for at in 0..set.batches() {
        let (_, batch) = set.batch(at).map_err(|error| error.to_string())?;
        for row in batch.rows() {
            let document = match row.document() {
                Some(bytes) => idle_tide_core::document::bson::tree(bytes),
                None => labels
                    .iter()
                    .zip(row.values())
                    .filter_map(|(label, value)| Some((label.as_str(), value.to_datum()?)))
                    .collect(),
            };
            if !take(document) {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// Puts rows into a result that others read at the same time.
pub(crate) struct IntoResult {
    pub(crate) set: Arc<RwLock<ResultSet>>,
    pub(crate) budget: Arc<Budget>,
    pub(crate) reporter: Reporter,
}

impl Sink for IntoResult {
    fn another(&mut self, before: Outcome) -> io::Result<()> {
        self.set = Arc::new(RwLock::new(ResultSet::of_rows(Vec::new(), Vec::new())));
        self.reporter.tell(Progress::Another {
            before: Box::new(before),
            set: Arc::clone(&self.set),
        });
        Ok(())
    }

    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        *self.set.write() = ResultSet::new(
            columns,
            Arc::clone(&self.budget),
            Limit::ResultMemory.value(),
        );
        self.reporter.tell(Progress::Rows);
        Ok(())
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.set.write().set_columns(columns);
        self.reporter.tell(Progress::Rows);
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.set.write().append(batch)?;
        self.reporter.tell(Progress::Rows);
        Ok(())
    }
}

/// Gathers figures of every column and keeps no row.
struct IntoFigures(Gathered);

impl Sink for IntoFigures {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        let fresh = columns
            .into_iter()
            .map(|column| (column, Figures::default()));
        *self.0.write() = fresh.collect();
        Ok(())
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        let mut list = self.0.write();
        for (at, column) in columns.into_iter().enumerate() {
            match list.get_mut(at) {
                Some((known, _)) => *known = column,
                None => list.push((column, Figures::default())),
            }
        }
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        let mut list = self.0.write();
        for row in batch.rows() {
            for ((_, figures), value) in list.iter_mut().zip(row.values()) {
                figures.add(value);
            }
        }
        Ok(())
    }
}
