//! Looking around: drawings of links and what the data says of guesses, steps along a link, plans.

use idle_tide_core::Value;
use idle_tide_core::plan::Plan;

use super::*;
use crate::follow::{self, Cell, Step};
use idle_tide_lang::flow::translate;
use idle_tide_lang::parameter::parameters;

impl Desk {
    /// The drawing that `/links` or `/route` asks for.
    pub(super) fn drawing(&self, parsed: &Parsed) -> Result<Links, Failure> {
        let catalog = Arc::clone(&self.here.catalog);
        let mut named = Vec::new();
        for part in &parsed.arguments {
            let table = catalog.table(&part.text).and_then(|o| catalog.place_of(o));
            match table {
                Some(at) if !named.contains(&at) => named.push(at),
                Some(_) => {}
                None => return Err(self.no_such_object(parsed, &part.text)),
            }
        }
        let is_route = parsed.command.name == "route";
        if is_route && named.len() < 2 {
            return Err(failure::plain("A way needs two different tables."));
        }
        let distance = match parsed.value("distance") {
            Some(number) => number.parse().unwrap_or(1),
            None => usize::from(!is_route),
        };
        let ties = Arc::clone(self.here.ties());
        let guessed = !parsed.has("declared");
        let focus = named.clone();
        let links = Links::new(catalog, ties, self.here.dialect, focus, distance, guessed);
        let mut links = links.map_err(failure::plain)?;
        if is_route {
            links.chosen = named;
            links.find_ways().map_err(failure::plain)?;
        }
        Ok(links)
    }

    /// Has the guessed links of a drawing checked against the data: how many values find a row.
    pub fn check_links(&mut self, entry: u32) {
        let Some(at) = self.place_of(entry) else {
            return;
        };
        let questions = self.entries[at]
            .links()
            .map_or(Vec::new(), Links::questions);
        if questions.is_empty() {
            return self.say(
                "No guessed link is drawn, so there is none to check.",
                Tone::Plain,
            );
        }
        if self.here.busy.is_some() || self.entries[at].session != self.here.number {
            return self.say(
                "Something else runs, or the drawing is of another session.",
                Tone::Care,
            );
        }
        self.entries[at].state = State::Running;
        self.entries[at].started = Some(Instant::now());
        let (places, questions): (Vec<usize>, Vec<[String; 2]>) = questions.into_iter().unzip();
        self.here.busy = Some(Busy {
            entry,
            statement: String::new(),
            waiting: Waiting::alone("", true),
            doing: Doing::Checking(places),
            secrets: Vec::new(),
        });
        self.here.worker.send(Job::Count {
            ticket: u64::from(entry),
            questions: questions.into_iter().flatten().collect(),
        });
    }

    /// The numbers for guessed links came.
    pub(super) fn links_checked(
        &mut self,
        busy: &Busy,
        places: &[usize],
        answers: Result<Vec<Option<u64>>, EngineError>,
    ) {
        let Some(at) = self.place_of(busy.entry) else {
            return;
        };
        self.entries[at].state = State::Done;
        self.entries[at].started = None;
        match answers {
            Ok(answers) => {
                if let Some(links) = self.entries[at].links_mut() {
                    for (place, pair) in places.iter().zip(answers.chunks(2)) {
                        if let [Some(all), Some(matching)] = pair {
                            links.checked.insert(*place, (*all, *matching));
                        }
                    }
                }
            }
            Err(error) if error.fault == Fault::Cancelled => {
                self.say("The check was stopped.", Tone::Plain);
            }
            Err(error) => self.say(format!("The check failed: {}", error.message), Tone::Danger),
        }
    }

    /// Goes from a cell of the current result over its link: to the row it refers to, or to the rows that refer
    /// to its row (counted first where several tables do). `row` counts the rows shown, `column` all columns of
    /// the result; `into` names the table to go to. The step is an entry of its own.
    pub fn follow(&mut self, row: u64, column: usize, into: Option<&str>) {
        let step = match self.next_step(row, column, into) {
            Ok(step) => step,
            Err(words) => return self.say(words, Tone::Care),
        };
        let from = self.entry().map(|entry| entry.number);
        let (statement, follows) = match step {
            Step::Rows(statement) => (statement, Vec::new()),
            Step::Counts(statement, follows) => (statement, follows),
        };
        let before = self.entries.len();
        self.submit_piece(&statement, false);
        if let Some(entry) = self.entries.get_mut(before) {
            entry.came_from = from;
            entry.follows = follows;
            if !entry.follows.is_empty() {
                self.say(
                    "L on a row goes to the rows it counts; Backspace goes back.",
                    Tone::Plain,
                );
            }
        } else {
            self.say("Something else runs; the step waits for it.", Tone::Plain);
        }
    }

    fn next_step(&self, row: u64, column: usize, into: Option<&str>) -> Result<Step, String> {
        let none = "The current entry has no rows to follow a link from.";
        let entry = self.entry().ok_or(none)?;
        if entry.session != self.here.number {
            return Err("This result is of another session; go there to follow its links.".into());
        }
        let sheet = entry.sheet().ok_or(none)?;
        let number = sheet.row_number(row).ok_or("There is no row here.")?;
        if let Some(statement) = entry.follows.get(number as usize) {
            return Ok(Step::Rows(statement.clone()));
        }
        let set = read(&sheet.set);
        let columns = set.columns();
        if column >= columns.len() {
            return Err("There is no column here.".into());
        }
        let values: Result<Vec<Value>, _> =
            (0..columns.len()).map(|at| set.value(number, at)).collect();
        let values =
            values.map_err(|error| format!("The row could not be read again: {error}."))?;
        let collection = match self.here.dialect.is_flow() {
            true => translate::collection_of(&entry.text),
            false => None,
        };
        // Documents that only went through know their collection.
        let columns: Vec<idle_tide_core::Column> = columns
            .iter()
            .map(|column| idle_tide_core::Column {
                origin: match &collection {
                    Some(name) => Some((name.clone(), column.name.to_string())),
                    None => column.origin.clone(),
                },
                ..column.clone()
            })
            .collect();
        let cell = Cell {
            columns: &columns,
            row: &values,
            column,
        };
        follow::step(
            &cell,
            into,
            &self.here.catalog,
            self.here.ties(),
            self.here.dialect,
        )
    }

    /// Shows the entry from which a link was followed to the current one.
    pub fn step_back(&mut self) {
        let from = self.entry().and_then(|entry| entry.came_from);
        match from.and_then(|number| self.place_of(number)) {
            Some(at) => self.show(at),
            None => self.say("No link was followed to this entry.", Tone::Plain),
        }
    }

    /// The entries from which links were followed to the current one, the first one first.
    pub fn trail(&self) -> Vec<u32> {
        let mut trail = Vec::new();
        let mut at = self.entry();
        while let Some(number) = at.and_then(|entry| entry.came_from) {
            if trail.contains(&number) {
                break;
            }
            trail.insert(0, number);
            at = self.entries.iter().find(|entry| entry.number == number);
        }
        trail
    }

    /// Begins `/plan`.
    pub(super) fn start_plan(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: &Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        let (measure, rest) = match parsed.rest.strip_prefix("--estimate") {
            Some(rest) => (false, rest.trim()),
            None => (true, parsed.rest.as_str()),
        };
        let statement = match rest {
            "" => match self.statement_of(None) {
                Ok(statement) if !statement.starts_with('/') => statement,
                Ok(_) => {
                    let words = "The current entry is no statement. Show one that is, or write it: /plan select …";
                    return Err(Box::new((waiting, failure::plain(words))));
                }
                Err(failure) => return Err(Box::new((waiting, failure))),
            },
            rest => rest.to_string(),
        };
        let code = pieces(&statement, self.here.dialect);
        let mut code = code.iter().filter(|piece| piece.has_code);
        let statement = match (code.next(), code.next()) {
            (Some(one), None) => statement[one.start as usize..one.end as usize].to_string(),
            _ => {
                return Err(Box::new((
                    waiting,
                    failure::plain("A plan is of one statement."),
                )));
            }
        };
        if !parameters(&statement, self.here.dialect).is_empty() {
            let words =
                "A statement with parameters has no plan here; write values in their places.";
            return Err(Box::new((waiting, failure::plain(words))));
        }
        let at = self.new_entry(text, false);
        self.entries[at].state = State::Running;
        self.entries[at].started = Some(Instant::now());
        let entry = self.entries[at].number;
        self.here.worker.send(Job::Plan {
            ticket: u64::from(entry),
            statement: statement.clone(),
            measure,
        });
        self.here.busy = Some(Busy {
            entry,
            statement,
            waiting,
            doing: Doing::Planning,
            secrets: Vec::new(),
        });
        Ok(())
    }

    /// A plan came, or why there is none.
    /// Begins `/stages`: the flow that follows, or that of the current entry.
    pub(super) fn start_stages(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: &Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        if !self.here.dialect.is_flow() {
            let words = "Stages are those of a flow, and this database takes SQL; /plan shows how a statement runs.";
            return Err(Box::new((waiting, failure::plain(words))));
        }
        let statement = match parsed.rest.as_str() {
            "" => match self.statement_of(None) {
                Ok(statement) if !statement.starts_with('/') => statement,
                Ok(_) => {
                    return Err(Box::new((
                        waiting,
                        failure::plain(
                            "The current entry is no flow. Show one that is, or write it: /stages from ...",
                        ),
                    )));
                }
                Err(failure) => return Err(Box::new((waiting, failure))),
            },
            rest => rest.to_string(),
        };
        if !parameters(&statement, self.here.dialect).is_empty() {
            let words = "The stages of a flow with parameters cannot be counted; write values in their places.";
            return Err(Box::new((waiting, failure::plain(words))));
        }
        let at = self.new_entry(text, false);
        self.look_at_stages(at, waiting, statement, std::collections::HashSet::new());
        Ok(())
    }

    fn look_at_stages(
        &mut self,
        at: usize,
        waiting: Waiting,
        statement: String,
        left_out: std::collections::HashSet<usize>,
    ) {
        self.entries[at].state = State::Running;
        self.entries[at].started = Some(Instant::now());
        let entry = self.entries[at].number;
        self.here.worker.send(Job::Stages {
            ticket: u64::from(entry),
            statement: statement.clone(),
            left_out,
        });
        self.here.busy = Some(Busy {
            entry,
            statement,
            waiting,
            doing: Doing::Staging,
            secrets: Vec::new(),
        });
    }

    /// The stages of an entry, to move through them.
    pub fn stages_mut(&mut self, entry: u32) -> Option<&mut crate::stages::Stages> {
        let at = self.place_of(entry)?;
        self.entries[at].stages_mut()
    }

    /// Leaves the stage that is looked at out, or puts it back, and counts again.
    pub fn toggle_stage(&mut self, entry: u32) {
        let Some(at) = self.place_of(entry) else {
            return;
        };
        if self.here.busy.is_some() || self.entries[at].session != self.here.number {
            return self.say(
                "Something else runs, or the flow is of another session.",
                Tone::Care,
            );
        }
        let Some(stages) = self.entries[at].stages() else {
            return;
        };
        let Some(number) = stages.at.checked_sub(1) else {
            return self.say("The collection itself cannot be left out.", Tone::Plain);
        };
        let mut left_out = stages.left_out.clone();
        if !left_out.remove(&number) {
            left_out.insert(number);
        }
        let flow = idle_tide_lang::flow::ast::Statement::Flow(stages.flow.clone());
        self.look_at_stages(
            at,
            Waiting::alone("", true),
            idle_tide_lang::flow::format(&flow),
            left_out,
        );
    }

    pub(super) fn staged(
        &mut self,
        ticket: u64,
        stages: Result<Box<crate::stages::Stages>, EngineError>,
        bearings: Bearings,
    ) {
        self.here.bearings = bearings;
        let waits = |busy: &mut Busy| {
            u64::from(busy.entry) == ticket && matches!(busy.doing, Doing::Staging)
        };
        let Some(busy) = self.here.busy.take_if(waits) else {
            return;
        };
        let before = self
            .place_of(busy.entry)
            .and_then(|at| self.entries[at].stages().map(|s| (s.at, s.shows_compiled)));
        match stages {
            Ok(mut stages) => {
                if let Some((at, compiled)) = before {
                    stages.at = at.min(stages.flow.stages.len());
                    stages.shows_compiled = compiled;
                }
                if let Some(at) = self.place_of(busy.entry) {
                    self.entries[at].started = None;
                }
                self.end_entry(busy.entry, State::Done, Content::Stages(stages));
            }
            Err(error) => {
                self.here.lost |= matches!(error.fault, Fault::Lost | Fault::NotSent);
                let failure = failure::of_statement(
                    &busy.statement,
                    &error,
                    &self.here.catalog,
                    self.here.dialect,
                    false,
                    0,
                );
                // Its place is one of the flow, not of the command.
                self.fail(
                    busy.entry,
                    &busy.waiting,
                    Failure {
                        place: None,
                        corrections: Vec::new(),
                        ..failure
                    },
                );
            }
        }
        self.pump();
    }

    /// `/practice start` and `/practice stop`.
    pub(super) fn practice(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: &Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        use idle_tide_dock::server::{Server, Settings, Store, listen};
        let address = |port: u16| format!("mongodb://127.0.0.1:{port}/harbour-log");
        let mut page = Page::new();
        match parsed.argument(0) {
            Some("stop") => match self.practice.take() {
                Some(listening) => {
                    let place = listening.address;
                    drop(listening);
                    page.say(
                        Tone::Heading,
                        format!("The practice server at {place} was stopped."),
                    );
                    page.gap();
                    page.say(Tone::Faint, "What was changed on it is gone with it.");
                }
                None => {
                    return Err(Box::new((
                        waiting,
                        failure::plain(
                            "The practice server is not running. /practice start starts it.",
                        ),
                    )));
                }
            },
            _ => {
                if self.practice.is_none() {
                    let mut store = Store::default();
                    for name in idle_tide_harbour::documents::COLLECTIONS {
                        let documents = idle_tide_dock::harbour::collection(
                            name,
                            idle_tide_harbour::documents::LANDINGS,
                        );
                        // The scenario's identifiers are all different.
                        let _ = store.fill("harbour-log", name, documents);
                    }
                    let server = Server::new(store, Settings::default());
                    let started = listen(std::sync::Arc::clone(&server), 27_117, None)
                        .or_else(|_| listen(server, 0, None));
                    match started {
                        Ok(listening) => self.practice = Some(listening),
                        Err(error) => {
                            return Err(Box::new((
                                waiting,
                                failure::plain(format!(
                                    "The practice server cannot listen on this machine: {error}."
                                )),
                            )));
                        }
                    }
                }
                let port = self.practice.as_ref().map_or(0, |l| l.address.port());
                page.say(Tone::Heading, "The practice server listens.");
                page.gap();
                page.line(
                    Line::new()
                        .column(Tone::Faint, "address", 10)
                        .and(Tone::Plain, address(port)),
                );
                page.gap();
                page.say(Tone::Faint, "It is a stand-in for practice with the harbour's documents, in memory. It ends with this program, or with /practice stop.");
                self.requests
                    .push_back(Request::Recall(format!("/open {}", address(port))));
            }
        }
        self.finished_entry(text, Content::Page(page));
        Ok(())
    }

    pub(super) fn planned(
        &mut self,
        ticket: u64,
        plan: Result<Box<Plan>, EngineError>,
        took: Duration,
        bearings: Bearings,
    ) {
        self.here.bearings = bearings;
        let waits = |busy: &mut Busy| {
            u64::from(busy.entry) == ticket && matches!(busy.doing, Doing::Planning)
        };
        let Some(busy) = self.here.busy.take_if(waits) else {
            return;
        };
        if let Some(at) = self.place_of(busy.entry) {
            self.entries[at].took = Some(took);
        }
        match plan {
            Ok(plan) => {
                let page = crate::plan::page(
                    &plan,
                    &busy.statement,
                    &self.here.catalog,
                    self.here.dialect,
                );
                self.end_entry(busy.entry, State::Done, Content::Page(page));
            }
            Err(error) if error.fault == Fault::Cancelled => {
                let mut page = Page::new();
                page.say(Tone::Heading, "It was stopped. Nothing was changed.");
                self.end_entry(busy.entry, State::Stopped, Content::Page(page));
            }
            Err(error) => {
                self.here.lost |= matches!(error.fault, Fault::Lost | Fault::NotSent);
                let mut failure = failure::of_statement(
                    &busy.statement,
                    &error,
                    &self.here.catalog,
                    self.here.dialect,
                    self.here.bearings.transaction.is_some(),
                    0,
                );
                // The place is one of the statement, which stands somewhere in the command.
                let shift =
                    busy.waiting.submission[busy.waiting.span.clone()].find(&busy.statement);
                match shift {
                    Some(shift) => {
                        let moved =
                            |span: &std::ops::Range<usize>| span.start + shift..span.end + shift;
                        failure.place = failure.place.as_ref().map(moved);
                        for correction in &mut failure.corrections {
                            correction.edit.span = moved(&correction.edit.span);
                        }
                    }
                    None => {
                        failure.place = None;
                        failure.corrections.clear();
                    }
                }
                self.fail(busy.entry, &busy.waiting, failure);
            }
        }
    }
}
