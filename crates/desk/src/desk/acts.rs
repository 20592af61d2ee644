//! What a face does without a command: steps along links, orders of columns, figures of the column that is looked
//! at, a search, the check of a drawing, and looks at this machine.

use idle_tide_core::chart::Key;
use idle_tide_core::{Column, Figures, Value};
use idle_tide_lang::flow::translate;

use super::*;
use crate::chart::Turned;
use crate::drawing::{self, Behind};
use crate::entry::Entry;
use crate::failure::Failure;
use crate::follow::{self, Cell, Step};
use crate::found::{Look, Test};
use crate::sheet::read;
use crate::tasks::{Find, Watch};
use crate::verbs::{links, stages, view};

impl Desk {
    /// The turn of something that the user did with what is shown.
    fn act<T>(&mut self, act: impl FnOnce(&mut Turn<'_>) -> T) -> T {
        let waiting = Waiting {
            shown: self.entries.shown().map(|entry| entry.number),
            ..Waiting::alone("", true)
        };
        let here = self.here;
        let done = act(&mut self.turn(here, &waiting, None));
        self.settle();
        done
    }

    /// Keeps what is half-written, so that it is there after a crash.
    pub fn keep_draft(&mut self, text: &str) {
        let session = &self.sessions[self.here];
        if let Some(drafts) = &mut self.services.drafts {
            drafts.keep(&session.source, text, session.dialect);
        }
    }

    /// What a program that ended badly left half-written on this source, once.
    pub fn take_draft(&mut self) -> Option<String> {
        let drafts = self.services.drafts.as_ref()?;
        drafts.take_over(&self.session().source)
    }

    /// Reads the catalog again; what others changed is there then.
    pub fn refresh_catalog(&mut self) {
        if !self.session().is_nowhere() {
            self.act(|turn| {
                turn.say("The catalog is being read again.", Tone::Faint);
                turn.start(ReadCatalog::behind());
            });
        }
    }

    /// Orders the rows of the current result by a column, downwards if true; as they came when `None`.
    ///
    /// # Errors
    /// If there is no result, or its rows are still arriving.
    pub fn order_by(&mut self, order: Option<(usize, bool)>) -> Result<(), Failure> {
        self.act(|turn| view::order_by(turn, order))
    }

    /// The figures of a column of the entry shown, as far as they are known; asks for them if they are not.
    pub fn figures(&mut self, column: usize) -> Option<&Figures> {
        let entry = self.entries.shown()?;
        let sheet = entry.sheet()?;
        let rows = sheet
            .view
            .rows
            .as_ref()
            .map(|rows| Arc::as_ptr(rows) as usize);
        let same = self.services.watched.as_ref().is_some_and(|watched| {
            (watched.entry, watched.column, watched.rows) == (entry.number, column, rows)
        });
        if !same {
            let watch = Watch::new(entry, sheet, column);
            self.act(|turn| turn.start(watch));
        }
        self.services.watched.as_ref()?.figures.as_ref()
    }

    /// Looks in the rows of the entry shown for the next row from a place on that holds a text, or the one before;
    /// it is gone to when it is found.
    pub fn find(&mut self, text: &str, from: (u64, usize), back: bool) {
        let Some(entry) = self.entries.shown() else {
            return;
        };
        if let Some(sheet) = entry.sheet() {
            let find = Find::new(entry.number, sheet.clone(), text, from, back);
            self.act(|turn| turn.start(find));
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
        let Some(from) = self.entry().map(|entry| entry.number) else {
            return;
        };
        let (statement, follows) = match step {
            Step::Rows(statement) => (statement, Vec::new()),
            Step::Counts(statement, follows) => (statement, follows),
        };
        let counts = !follows.is_empty();
        let before = self.entries.all().len();
        let waiting = Waiting {
            step: Some((from, follows)),
            ..Waiting::alone(&statement, false)
        };
        self.enqueue(self.here, vec![waiting]);
        if self.entries.all().len() == before {
            self.say("Something else runs; the step waits for it.", Tone::Plain);
        } else if counts {
            let words = "L on a row goes to the rows it counts; Backspace goes back.";
            self.say(words, Tone::Plain);
        }
    }

    fn next_step(&self, row: u64, column: usize, into: Option<&str>) -> Result<Step, String> {
        let none = "The current entry has no rows to follow a link from.";
        let entry = self.entry().ok_or(none)?;
        let session = self.session();
        if entry.session != session.number {
            return Err("This result is of another session; go there to follow its links.".into());
        }
        let sheet = entry.sheet().ok_or(none)?;
        let number = sheet.row_number(row).ok_or("There is no row here.")?;
        if let Some(statement) = entry.follows.get(number as usize) {
            return Ok(Step::Rows(statement.clone()));
        }
        let set = read(&sheet.set);
        if column >= set.columns().len() {
            return Err("There is no column here.".into());
        }
        let values = (0..set.columns().len()).map(|at| set.value(number, at));
        let values: Result<Vec<Value>, _> = values.collect();
        let values = values.map_err(|e| format!("The row could not be read again: {e}."))?;
        let collection = match session.dialect.is_flow() {
            true => translate::collection_of(&entry.text),
            false => None,
        };
        // Documents that only went through know their collection.
        let known = |column: &Column| Column {
            origin: match &collection {
                Some(name) => Some((name.clone(), column.name.to_string())),
                None => column.origin.clone(),
            },
            ..column.clone()
        };
        let columns: Vec<Column> = set.columns().iter().map(known).collect();
        let cell = Cell {
            columns: &columns,
            row: &values,
            column,
        };
        follow::step(
            &cell,
            into,
            &session.catalog,
            session.ties(),
            session.dialect,
        )
    }

    /// Shows the entry from which a link was followed to the current one.
    pub fn step_back(&mut self) {
        let from = self.entry().and_then(|entry| entry.came_from);
        match from.and_then(|number| self.entries.place_of(number)) {
            Some(at) => self.show(at),
            None => self.say("No link was followed to this entry.", Tone::Plain),
        }
    }

    /// Has the guessed links of a drawing checked against the data: how many values find a row.
    pub fn check_links(&mut self, entry: u32) {
        let Some(check) = self.entries.get(entry).and_then(links::Check::of) else {
            let words = "No guessed link is drawn, so there is none to check.";
            return self.say(words, Tone::Plain);
        };
        self.work_on(entry, Box::new(check), "the drawing");
    }

    /// Has the numbers of the picture shown gathered anew, if its result is no longer what it was drawn from.
    pub fn renew_chart(&mut self) {
        let Some((number, of)) = self.entry().and_then(|e| Some((e.number, e.chart()?.of))) else {
            return;
        };
        let sheet = self.entries.get(of).and_then(Entry::sheet).cloned();
        let Some(sheet) = sheet.filter(|sheet| !sheet.given_up) else {
            return;
        };
        let entry = self.entries.get_mut(number);
        let Some(Content::Chart(chart)) = entry.map(|entry| &mut entry.content) else {
            return;
        };
        if chart.covered(&sheet).is_none()
            && let Some(gather) = drawing::renewal(chart, number, &sheet)
        {
            self.act(|turn| turn.start(gather));
        }
    }

    /// Changes the picture of an entry.
    pub fn turn_chart(&mut self, entry: u32, turned: Turned) {
        let said = self.act(|turn| {
            let sheet = drawing::drawn(turn, entry).map(|(_, sheet)| sheet.clone())?;
            let Content::Chart(shown) = &mut turn.entries.get_mut(entry)?.content else {
                return None;
            };
            let mut changed = (**shown).clone();
            if let Some(words) = changed.turn(turned, &sheet) {
                return Some(words.to_string());
            }
            match drawing::refuse_covered(&changed, &sheet) {
                Ok(()) => **shown = changed,
                Err(failure) => return Some(failure.headline),
            }
            None
        });
        if let Some(words) = said {
            self.say(words, Tone::Care);
        }
    }

    /// Shows the rows that stand behind a mark of an entry's picture, as an entry of their own.
    pub fn rows_behind(&mut self, entry: u32, mark: (usize, usize, Key), words: &str) {
        self.act(|turn| {
            let behind = drawing::drawn(turn, entry);
            let behind = behind.and_then(|(entry, sheet)| Behind::new(entry, sheet, mark, words));
            if let Some(behind) = behind {
                turn.start(behind);
            }
        });
    }

    /// Leaves the stage that is looked at out, or puts it back, and counts again.
    pub fn toggle_stage(&mut self, entry: u32) {
        let Some(shown) = self.entries.get(entry).and_then(Entry::stages) else {
            return;
        };
        match stages::Count::toggled(shown) {
            Some(count) => self.work_on(entry, Box::new(count), "the flow"),
            None => self.say("The collection itself cannot be left out.", Tone::Plain),
        }
    }

    /// Has a task work on an entry that is there already.
    fn work_on(&mut self, entry: u32, job: Job, what: &str) {
        let session = self.session();
        let of = self.entries.get(entry).map(|entry| entry.session);
        if session.busy.is_some() || of != Some(session.number) {
            let words = format!("Something else runs, or {what} is of another session.");
            return self.say(words, Tone::Care);
        }
        let waiting = Waiting::alone("", true);
        self.apply(self.here, waiting, Some(entry), Next::Go(job));
    }

    /// Looks for servers on this machine, and whether saved sources answer; [`Desk::found`] tells.
    pub fn look_for_servers(&mut self) {
        let saved = self.settings().sources;
        self.services.looking = true;
        self.start(0, Box::new(Look::new(saved)));
    }

    /// Logs in to a saved source, and leaves again; a notice says what came of it.
    pub fn test_source(&mut self, name: &str) {
        if let Some(saved) = self.settings().sources.get(name) {
            let test = Test::new(name, saved.clone());
            self.say(format!("Testing {name} …"), Tone::Plain);
            self.start(0, Box::new(test));
        }
    }
}
