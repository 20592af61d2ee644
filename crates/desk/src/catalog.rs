//! Reading the catalog: behind everything else, or for a command that goes on with it. It fills the arrival card and
//! says after a write what a table holds now.

use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use idle_tide_core::Catalog;
use idle_tide_core::links::{self, Tie};
use idle_tide_engines::{EngineError, Fault, Source};

use crate::about;
use crate::arrival;
use crate::entry::{Content, State};
use crate::holding;
use crate::page::{Line, Page, Tone};
use crate::session::{Check, Next, Task, Turn};
use crate::settings::{Visit, visit};
use crate::task::{Bench, Lane, Progress, Work};

/// How long rows are counted for lists and the arrival card.
const COUNTING: Duration = Duration::from_millis(250);

/// What the catalog is read for. It gets the statements that make everything, where they were wanted.
type Then = Box<dyn FnOnce(&mut Turn<'_>, Option<String>) -> Next + Send>;

struct Read {
    catalog: Catalog,
    ties: Vec<Tie>,
    script: Option<String>,
}

/// Reads the catalog.
pub(crate) struct ReadCatalog {
    counting: Duration,
    /// The object whose statements are wanted too; those of everything when it is empty.
    define: Option<String>,
    then: Option<Then>,
    for_command: bool,
    read: Option<Read>,
    /// What it is to say of the change before it; one that began earlier does not know of that.
    check: Option<Check>,
    /// Which reading of the session it is.
    number: u64,
}

impl ReadCatalog {
    /// Behind everything else.
    pub(crate) fn behind() -> Self {
        ReadCatalog {
            counting: COUNTING,
            define: None,
            then: None,
            for_command: false,
            read: None,
            check: None,
            number: 0,
        }
    }

    /// For what comes then: advice, or the numbers of a sweep.
    pub(crate) fn then(then: impl FnOnce(&mut Turn<'_>) -> Next + Send + 'static) -> Self {
        ReadCatalog {
            counting: Duration::ZERO,
            then: Some(Box::new(|turn, _| then(turn))),
            ..Self::behind()
        }
    }

    /// For a command, which wants the statements of an object, or of everything when that is empty.
    pub(crate) fn for_command(define: Option<String>, then: Then) -> Self {
        ReadCatalog {
            define,
            for_command: true,
            then: Some(then),
            ..Self::behind()
        }
    }
}

impl Work for ReadCatalog {
    fn lane(&self) -> Lane {
        Lane::Beside
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let (reporter, ticket) = (at.reporter.clone(), at.ticket);
        let connection = at.connection()?;
        let mut first = |names| reporter.tell(Progress::Names(Box::new(names)));
        let mut catalog = connection.describe().catalog(ticket, &mut first)?;
        connection
            .describe()
            .count_rows(ticket, &mut catalog, self.counting);
        let mut script = None;
        match self.define.as_deref() {
            Some("") => script = Some(connection.describe().script(ticket, &catalog)?),
            Some(name) => {
                let wanted = catalog.named(name).and_then(|o| catalog.place_of(o));
                if let Some(object) = wanted.and_then(|at| catalog.objects.get_mut(at)) {
                    connection.describe().define(ticket, object)?;
                }
            }
            None => {}
        }
        catalog.name_index();
        // Guessing takes a moment where there are many columns; nobody waits for it here.
        let mut ties = links::declared(&catalog);
        ties.extend(links::likely(&catalog, &ties));
        self.read = Some(Read {
            catalog,
            ties,
            script,
        });
        Ok(())
    }
}

impl Task for ReadCatalog {
    fn begin(&mut self, turn: &mut Turn<'_>) {
        self.check = turn.session.check.take();
        turn.session.catalog_readings.0 += 1;
        self.number = turn.session.catalog_readings.0;
    }

    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let ReadCatalog {
            read,
            then,
            for_command,
            check,
            number,
            ..
        } = *self;
        let mut script = None;
        if let Some(read) = read {
            script = read.script;
            // What began later, on the other connection, knows more.
            if number > turn.session.catalog_readings.1 {
                turn.session.catalog_readings.1 = number;
                turn.session.catalog = Arc::new(read.catalog);
                turn.session.ties = Arc::new(read.ties);
            }
        }
        let stopped = how
            .as_ref()
            .is_err_and(|error| error.fault == Fault::Cancelled);
        let failed = how.err().filter(|_| !stopped);
        let failed =
            failed.map(|error| format!("The catalog could not be read: {}", error.message));
        let unseen = &turn.session.catalog.unseen;
        if !unseen.is_empty() {
            tracing::info!(
                session = turn.session.number,
                ?unseen,
                "parts of the catalog are not seen"
            );
        }
        if let Some(words) = &failed {
            turn.say(words, Tone::Danger);
        }
        if let Some(check) = check {
            say_what_is_there(turn, check);
        }
        turn.session.catalog_known = true;
        if let Some(entry) = turn.session.arriving.take() {
            fill_arrival(turn, entry);
        }
        match then {
            Some(_) if stopped => {
                let mut page = Page::new();
                page.say(Tone::Heading, "It was stopped. Nothing was changed.");
                Next::Stopped(Content::Page(page))
            }
            // What a command would show could be behind.
            Some(_) if for_command && failed.is_some() => Next::refuse(failed.unwrap_or_default()),
            Some(then) => then(turn, script),
            None => Next::Keep,
        }
    }
}

/// The check after a write, done for the user: what the table holds now, where it could be counted.
fn say_what_is_there(turn: &mut Turn<'_>, check: Check) {
    let Check { entry, name, made } = check;
    if made {
        return show_what_was_made(turn, entry, &name);
    }
    let table = name;
    let rows = turn
        .session
        .catalog
        .table(&table)
        .and_then(|object| object.rows);
    let thing = turn.session.dialect.row();
    let (Some(rows), Some(entry)) = (rows, turn.entries.get_mut(entry)) else {
        return;
    };
    let page = match (&mut entry.content, &mut entry.above) {
        (Content::Page(page), _) | (_, Some(page)) => Some(page),
        _ => None,
    };
    if let Some(page) = page {
        if page.lines.len() == 1 {
            page.gap();
        }
        let many = if rows == 1 { "" } else { "s" };
        page.line(
            Line::new()
                .column(Tone::Faint, "now", 10)
                .and(Tone::Number, idle_tide_draw::picture::grouped(rows))
                .and(Tone::Plain, format!(" {thing}{many} in {table}")),
        );
    }
}

/// What was made, in full.
fn show_what_was_made(turn: &mut Turn<'_>, entry: u32, name: &str) {
    let session = &turn.session;
    let Some(object) = session
        .catalog
        .named(name)
        .filter(|object| object.has_rows())
    else {
        return;
    };
    let full = about::object_page(object, session.ties(), &session.catalog, session.dialect);
    if let Some(Content::Page(page)) = turn.entries.get_mut(entry).map(|e| &mut e.content) {
        page.gap();
        page.lines.extend(full.lines);
    }
}

/// Makes an entry the arrival card.
fn fill_arrival(turn: &mut Turn<'_>, entry: u32) {
    let session = &turn.session;
    let server = session.bearings.server.as_ref();
    let now = Visit {
        at: SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .map_or(0, |since| since.as_secs()),
        server: format!("{} {}", session.bearings.family, session.bearings.version),
        place: session
            .bearings
            .place
            .clone()
            .unwrap_or_else(|| "memory".into()),
        tables: session.catalog.tables().count() as u64,
        identity: server.map(|s| s.identity.clone()).unwrap_or_default(),
        user: server.map(|s| s.user.clone()).unwrap_or_default(),
    };
    // What was not saved under a name is known by its address.
    let known_as = match session.origin.as_ref().map(|origin| &origin.source) {
        Some(source @ Source::Server(_)) if source.name() == session.source => source.address(),
        _ => session.source.clone(),
    };
    let places = turn.services.places.as_ref();
    let last = places.and_then(|places| visit(&places.visits, &known_as, &now).unwrap_or_default());
    let holds = turn.services.holds.as_ref();
    let left = holds.and_then(|holds| holds.take_over(&session.source));
    let left = left.map(|words| holding::left_behind(&words));
    let page = arrival::card(
        &session.source,
        &session.bearings,
        session.writes,
        &session.catalog,
        last.as_ref(),
        &now,
        left.as_deref(),
    );
    turn.entries.end(entry, State::Done, Content::Page(page));
}
