//! The state of the full screen: what is written, what is read, what lies over it. Keys are taken in
//! `press`, drawing is done in `views`.

use std::collections::HashMap;
use std::path::PathBuf;

use idle_tide_desk::export::DRAWINGS;
use idle_tide_desk::settings::Settings;
use idle_tide_desk::{Content, Desk, Event, Request, State, Tone, Wanted};
use idle_tide_draw::Format;
use idle_tide_draw::chart::Hit;
use idle_tide_draw::export::names;
use idle_tide_lang::complete::{Completion, Sources as Known, complete};
use idle_tide_lang::correct::Correction;
use ratatui::layout::Rect;

use crate::composer::Composer;
use crate::guide;
use crate::keys::{Keymap, Place};
use crate::theme::{Theme, ThemeName};
use crate::views::catalog::state::CatalogView;
use crate::views::view::{Act, Stack};

/// Where typed keys go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Focus {
    /// Into the composer.
    Write,
    /// To the result.
    Read,
}

/// A line that is asked for while reading.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Prompt {
    /// Text to find.
    Find(String),
    /// Number of a row.
    Row(String),
}

/// Where a result is being read.
#[derive(Debug, Clone, Default)]
pub struct Grid {
    /// First row shown.
    pub top: u64,
    /// The current row.
    pub row: u64,
    /// The current column, among those shown.
    pub column: usize,
    /// First column shown, among those shown.
    pub left: usize,
    /// Rows that are marked, by their numbers in the result.
    pub marked: std::collections::BTreeSet<u64>,
    /// The row that was marked last, among those shown.
    pub last_marked: Option<u64>,
    /// Widest value seen of each column, by its number.
    pub widths: HashMap<usize, usize>,
}

/// Where a drawing is being looked at.
#[derive(Debug, Clone, Copy)]
pub struct Looking {
    /// First column shown.
    pub x: usize,
    /// First row shown.
    pub y: usize,
    /// The table at hand.
    pub at: usize,
    /// Whether the table at hand is brought into sight.
    pub follow: bool,
}

impl Default for Looking {
    fn default() -> Self {
        Looking {
            x: 0,
            y: 0,
            at: 0,
            follow: true,
        }
    }
}

/// Where the reader is on a picture.
#[derive(Debug, Clone, Default)]
pub struct Marked {
    /// Which of the marks.
    pub at: usize,
    /// The marks as they were drawn last.
    pub hits: Vec<Hit>,
}

/// The list of completions or corrections.
#[derive(Debug, Clone, Default)]
pub struct Choices {
    /// What is offered.
    pub completion: Completion,
    /// What is marked.
    pub at: usize,
    /// Corrections, when these are what is offered.
    pub corrections: Vec<Correction>,
    /// Whether the list is open.
    pub open: bool,
}

impl Choices {
    /// Number of choices.
    pub fn len(&self) -> usize {
        if self.corrections.is_empty() {
            self.completion.candidates.len()
        } else {
            self.corrections.len()
        }
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

/// Places on the screen that answer to the mouse.
#[derive(Debug, Clone, Default)]
pub struct Spots {
    /// Rows of the result: first line, first row, number of rows.
    pub rows: Option<(u16, u64, u64)>,
    /// Columns of the result: from, to, place among those shown.
    pub columns: Vec<(u16, u16, usize)>,
    /// Line of the columns' names.
    pub names: u16,
    /// Entries in the entry line: line, from, to, place.
    pub entries: Vec<(u16, u16, u16, usize)>,
    /// First line of the composer.
    pub composer: u16,
    /// First column of the composer's text, first line shown.
    pub text: (u16, usize),
    /// Lines of a list that lies over: line and place.
    pub list: Vec<(u16, usize)>,
    /// Lines of the catalog's columns: column, where, place.
    pub catalog: Vec<(usize, Rect, usize)>,
    /// Where a drawing is, and the column and row of it that stand there first.
    pub drawing: Option<(Rect, usize, usize)>,
}

impl Spots {
    /// The place of the list's line that stands in this line of the screen.
    pub(crate) fn line(&self, y: u16) -> Option<usize> {
        let found = self.list.iter().find(|(line, _)| *line == y);
        found.map(|(_, place)| *place)
    }
}

/// The full screen.
pub struct App {
    /// Places in documents that are closed in the outline.
    pub(crate) closed: std::collections::HashSet<String>,
    /// The session.
    pub desk: Desk,
    /// What is written.
    pub composer: Composer,
    /// Where keys go.
    pub focus: Focus,
    /// What lies over the desk.
    pub(crate) stack: Stack,
    /// What is typed where nothing is shown.
    pub hidden: String,
    /// What is asked for while reading.
    pub prompt: Option<Prompt>,
    /// The list at the cursor.
    pub choices: Choices,
    /// The place of the last error in the composer, as long as the text is as it was.
    pub(crate) marked: Option<(u64, std::ops::Range<usize>)>,
    /// After an error Enter runs, wherever the cursor is, until a new line is begun.
    pub(crate) mending: bool,
    /// Where each result is read, by the entry's number.
    pub(crate) grids: HashMap<u32, Grid>,
    /// The catalog view, as it was left.
    pub catalog: CatalogView,
    /// Where each drawing is looked at, by the entry's number.
    pub drawings: HashMap<u32, Looking>,
    /// Where the reader is on each picture of a result.
    pub charts: HashMap<u32, Marked>,
    /// First line and column shown of each text, by the entry's number.
    pub texts: HashMap<u32, (usize, usize)>,
    /// The line last found in each text, by the entry's number.
    pub(crate) found_lines: HashMap<u32, usize>,
    /// Whether the view was cleared.
    pub(crate) cleared: bool,
    /// Text last searched in results.
    pub(crate) found: String,
    /// The colours.
    pub theme: Theme,
    /// Whether to leave.
    pub leaving: bool,
    /// Whether leaving is asked about because a transaction is open.
    pub(crate) asks_to_leave: bool,
    /// Text to open in the editor.
    pub edit: Option<String>,
    /// Text for the clipboard, and what it is.
    pub(crate) copied: Option<(String, String)>,
    /// Whether the bell is to ring.
    pub(crate) rings: bool,
    /// Whether the screen is to be drawn anew from nothing.
    pub redraw: bool,
    /// Counts frames while something moves.
    pub(crate) frame: u64,
    /// Where the settings are kept.
    pub(crate) settings: Option<PathBuf>,
    /// Places that answer to the mouse.
    pub spots: Spots,
    /// Lines of the result's rows in the last frame, for paging.
    pub(crate) page: u64,
    /// The first key of a two-key chord.
    pub(crate) chord: bool,
    /// First line of the composer that is shown.
    pub(crate) composer_top: usize,
    /// Whether a command is being written that was begun while reading: reading goes on after it.
    pub(crate) from_reading: bool,
    /// A command that was refused and has not been touched since, by the composer's revision.
    pub(crate) refused: Option<u64>,
    /// What was offered in the composer and has not been touched since, by the composer's revision.
    pub(crate) offer: Option<u64>,
    /// The cell of a proposal that was changed last: where the next one is read.
    pub(crate) proposal_at: Grid,
    /// Whether the figures of the current column stand beside the rows, where there is room.
    pub beside: bool,
    /// Keys of one's own.
    pub keymap: Keymap,
    /// The session in which half-written text of earlier was last offered.
    offered: u32,
}

impl App {
    /// Where the next key acts, first the innermost. What acts everywhere is not among them.
    pub fn places(&self) -> Vec<Place> {
        let place = match self.in_front() {
            _ if (self.desk.asking()).is_some_and(|a| a.wanted == Wanted::Consent) => {
                Place::Question
            }
            _ if self.desk.asking().is_some() => Place::Hidden,
            _ if self.asks_to_leave || self.desk.question().is_some() => Place::Question,
            None if self.prompt.is_some() => return Vec::new(),
            None if self.focus == Focus::Write => {
                let completes = self.choices.open
                    && !self.choices.is_empty()
                    && self.choices.corrections.is_empty();
                return match completes {
                    true => vec![Place::Completing, Place::Writing],
                    false => vec![Place::Writing],
                };
            }
            None if self.reads_links() => Place::Links,
            None if self.reads_stages() => Place::Stages,
            None if self.reads_chart() => Place::Chart,
            None if self.reads_rows() => Place::Rows,
            None => Place::Text,
            Some(place) => place,
        };
        let reads = self.is_bare() && self.focus == Focus::Read;
        let asks = matches!(place, Place::Question | Place::Hidden);
        let mut places = Vec::new();
        if self.desk.session().held().is_some() && reads && !asks {
            places.push(Place::Held);
        }
        if place == Place::Rows && self.reads_proposal() {
            places.push(Place::Proposal);
        }
        places.push(place);
        places
    }

    /// The screen of a session.
    pub fn new(desk: Desk, theme: Theme, settings: Option<PathBuf>) -> Self {
        App {
            closed: Default::default(),
            desk,
            composer: Composer::default(),
            focus: Focus::Write,
            stack: Stack::default(),
            hidden: String::new(),
            prompt: None,
            choices: Choices::default(),
            marked: None,
            mending: false,
            grids: HashMap::new(),
            catalog: CatalogView::default(),
            drawings: HashMap::new(),
            charts: HashMap::new(),
            texts: HashMap::new(),
            found_lines: HashMap::new(),
            cleared: false,
            found: String::new(),
            theme,
            leaving: false,
            asks_to_leave: false,
            edit: None,
            copied: None,
            rings: false,
            redraw: false,
            frame: 0,
            settings,
            spots: Spots::default(),
            page: 10,
            chord: false,
            composer_top: 0,
            from_reading: false,
            refused: None,
            offer: None,
            // Its type is what is changed most often.
            proposal_at: Grid {
                column: 2,
                ..Grid::default()
            },
            beside: true,
            keymap: Keymap::default(),
            offered: 0,
        }
    }

    /// Takes an event of the session.
    pub fn event(&mut self, event: Event) {
        let before = self.desk.entries().len();
        self.desk.handle(event);
        self.with_view(|view, app| {
            view.refresh(app);
            ((), Act::Stay)
        });
        self.settle(before);
    }

    /// Submits what was typed.
    pub fn submit(&mut self, text: &str) {
        let before = self.desk.entries().len();
        self.choices = Choices::default();
        self.marked = None;
        self.mending = false;
        self.desk.submit(text);
        let reading = std::mem::take(&mut self.from_reading) && text.starts_with('/');
        if reading && self.desk.entries().len() == before {
            self.focus = Focus::Read;
        }
        self.settle(before);
    }

    /// Answers what the desk asks of its face.
    pub(crate) fn settle(&mut self, entries_before: usize) {
        if self.desk.entries().len() > entries_before {
            self.cleared = false;
            self.prompt = None;
            self.close_views_of_entry();
        }
        // Who goes on typing is not taken away from it: letters are keys in reading.
        let types = self.focus == Focus::Write && !self.composer.is_blank();
        if let Some(returned) = self.desk.take_returned() {
            self.take_back(&returned.text, returned.place, returned.corrections);
        }
        while let Some(request) = self.desk.take_request() {
            match request {
                Request::Read if types => {}
                request => self.answer(request),
            }
        }
        self.offer_draft();
    }

    /// Puts back what a program that ended badly left half-written on this source.
    fn offer_draft(&mut self) {
        let number = self.desk.session().number();
        if self.offered == number || self.desk.session().is_nowhere() || !self.composer.is_blank() {
            return;
        }
        self.offered = number;
        if let Some(text) = self.desk.take_draft() {
            self.composer.set(&text);
            self.desk.say(
                "This was half-written when the program ended last; Ctrl-C clears it.",
                Tone::Care,
            );
        }
    }

    /// Puts a refused text back, unless something else is being written; then it waits in the recall.
    fn take_back(
        &mut self,
        text: &str,
        place: Option<std::ops::Range<usize>>,
        corrections: Vec<Correction>,
    ) {
        if !self.composer.is_blank() {
            return;
        }
        self.composer.set(text);
        self.focus = Focus::Write;
        self.close_views();
        self.mending = true;
        self.refused = text.starts_with('/').then_some(self.composer.revision());
        if let Some(place) = place {
            let end = place.end.min(text.len());
            let empty = place.start >= end;
            self.composer.set_cursor(end);
            if !empty {
                self.marked = Some((self.composer.revision(), place.start..end));
            }
        }
        self.choices = Choices {
            open: !corrections.is_empty(),
            corrections,
            ..Choices::default()
        };
    }

    fn answer(&mut self, request: Request) {
        match request {
            Request::Quit => self.leave(),
            Request::Edit(text) => self.edit = Some(text),
            Request::Recall(text) => {
                self.composer.set(&text);
                self.focus = Focus::Write;
            }
            Request::Offer(text) => {
                self.put_offer_away();
                if self.composer.is_blank() {
                    self.composer.set(&text);
                    self.offer = Some(self.composer.revision());
                }
            }
            Request::Record(row) => {
                if let Some(row) = row {
                    self.go_to_row(row.saturating_sub(1));
                }
                self.open_record();
            }
            Request::Document(text) => self.open_document(text),
            Request::Theme(None) => {
                let words = format!(
                    "The theme is {}; there are deep, shoal and plain.",
                    self.theme.name.name()
                );
                self.desk.say(words, Tone::Plain);
            }
            Request::Theme(Some(name)) => {
                if let Some(name) = ThemeName::named(&name) {
                    self.set_theme(name);
                }
            }
            Request::Guide(topic) => self.open_guide(&topic),
            Request::Card(path) => match guide::write_card(&path, &self.keymap) {
                Ok(words) => self.desk.say(words, Tone::Active),
                Err(words) => self.desk.say(words, Tone::Care),
            },
            Request::Entries => self.open_entries(false),
            Request::Sources => self.open_sources(),
            Request::Clipboard(asked) => self.copy(&asked),
            Request::Follow(table) => self.follow(table.as_deref()),
            Request::Catalog(name) => {
                self.open_catalog();
                if let Some(name) = name {
                    self.catalog.go_to(&name);
                }
            }
            Request::Read => {
                self.close_views();
                self.focus = Focus::Read;
            }
            Request::Bell => self.rings = true,
            Request::Clear => {
                self.cleared = true;
                self.focus = Focus::Write;
            }
            Request::GoTo(entry, row, column) => {
                let grid = self.grids.entry(entry).or_default();
                (grid.row, grid.column) = (row, column);
                self.desk.hush();
            }
        }
    }

    /// What was offered in the composer and not touched makes room.
    pub(crate) fn put_offer_away(&mut self) {
        if self.offer.take() == Some(self.composer.revision()) {
            self.composer.set("");
        }
    }

    /// The text that is on its way to the clipboard, and what it is.
    pub fn copied(&self) -> Option<&(String, String)> {
        self.copied.as_ref()
    }

    /// Copies something of the current entry.
    pub(crate) fn copy(&mut self, asked: &idle_tide_desk::clipboard::Asked) {
        let Some(entry) = self.desk.entry() else {
            return self.desk.say("There is no entry yet.", Tone::Care);
        };
        let grid = self.grids.get(&entry.number).cloned().unwrap_or_default();
        let marked: Vec<u64> = grid.marked.iter().copied().collect();
        let at = idle_tide_desk::clipboard::At {
            row: grid.row,
            column: grid.column,
            marked: &marked,
        };
        match idle_tide_desk::clipboard::text_of(entry, at, asked) {
            Ok((text, what)) => self.copied = Some((text, what)),
            Err(words) => self.desk.say(words, Tone::Care),
        }
    }

    fn set_theme(&mut self, name: ThemeName) {
        self.theme.name = name;
        self.redraw = true;
        let Some(path) = self.settings.clone() else {
            return;
        };
        let theme = Some(name.name().to_string());
        match Settings::change(&path, |settings| settings.theme = theme) {
            Ok(_) => self.desk.say(
                format!("The theme is {} from now on.", name.name()),
                Tone::Plain,
            ),
            Err(error) => self.desk.say(
                format!(
                    "The theme is {} for this session; it could not be kept: {error}",
                    name.name()
                ),
                Tone::Care,
            ),
        }
    }

    /// Leaves, or asks first when a transaction is open.
    pub fn leave(&mut self) {
        if self.desk.sessions().any(|s| s.holds_something()) {
            self.asks_to_leave = true;
        } else {
            self.leaving = true;
        }
    }

    /// Where the current result is read.
    pub fn grid(&mut self) -> Option<&mut Grid> {
        let number = self.desk.entry()?.number;
        self.desk.entry()?.sheet()?;
        Some(self.grids.entry(number).or_default())
    }

    /// Makes a row the current one.
    pub fn go_to_row(&mut self, row: u64) {
        let shown = self
            .desk
            .entry()
            .and_then(|e| e.sheet())
            .map_or(0, |s| s.shown());
        if let Some(grid) = self.grid() {
            grid.row = row.min(shown.saturating_sub(1));
        }
    }

    /// Whether the entry that is shown has rows to move in.
    pub fn reads_rows(&self) -> bool {
        !self.cleared
            && matches!(
                self.desk.entry().map(|e| &e.content),
                Some(Content::Rows(_))
            )
    }

    /// Whether something moves on the screen by itself.
    pub fn is_moving(&self) -> bool {
        self.desk.is_busy() && self.desk.question().is_none()
    }

    /// Works out what could stand at the cursor. `asked` when the user asked for the list.
    pub fn complete(&mut self, asked: bool) {
        let entries: Vec<(u32, String)> = if self.composer.text().starts_with('/') {
            self.desk
                .entries()
                .iter()
                .map(|e| (e.number, one_line(&e.text, 60)))
                .collect()
        } else {
            Vec::new()
        };
        let columns = self
            .desk
            .entry()
            .and_then(|e| e.sheet())
            .map_or(Vec::new(), |s| s.labels.clone());
        let names: Vec<(String, String)> = if self.composer.text().starts_with("/open") {
            let sources = self.desk.settings().sources.into_iter();
            let mut names: Vec<_> = sources.map(|(name, saved)| (name, saved.address)).collect();
            names.push(("demo".into(), "the practice harbour".into()));
            names
        } else if self.composer.text().starts_with("/export") {
            let rows = names().map(|name| (name.to_string(), "rows".to_string()));
            let drawings = DRAWINGS
                .iter()
                .map(|name| (name.to_string(), "a drawing".to_string()));
            let mut known: Vec<_> = rows.collect();
            known.extend(
                drawings.filter(|(name, _)| Format::named(name).is_none() && name != "txt"),
            );
            known
        } else if self.composer.text().starts_with("/use") {
            self.desk.known_databases()
        } else {
            Vec::new()
        };
        let own = self.complete_across(asked);
        if let Some(completion) = own.or_else(|| self.complete_script(asked)) {
            self.choices = Choices {
                open: !completion.candidates.is_empty(),
                completion,
                ..Choices::default()
            };
            return;
        }
        let catalog = std::sync::Arc::clone(self.desk.catalog());
        let mut completion = complete(
            self.composer.text(),
            self.composer.cursor(),
            asked,
            &Known {
                catalog: &catalog,
                dialect: self.desk.dialect(),
                columns: &columns,
                entries: &entries,
                names: &names,
                topics: guide::TOPICS,
            },
        );
        self.offer_own_functions(&mut completion);
        self.choices = Choices {
            open: !completion.candidates.is_empty(),
            completion,
            at: 0,
            corrections: Vec::new(),
        };
    }
}

/// A text on one line, blanks and line breaks as one blank, at most `most` characters.
pub fn one_line(text: &str, most: usize) -> String {
    let mut line = String::new();
    for word in text.split_whitespace() {
        if !line.is_empty() {
            line.push(' ');
        }
        line.push_str(word);
        if line.len() > most * 4 {
            break;
        }
    }
    if line.chars().count() > most {
        line = line.chars().take(most.saturating_sub(1)).collect();
        line.push('…');
    }
    line
}

/// Whether an entry's outcome is still open.
pub fn is_open(state: State) -> bool {
    matches!(state, State::Waiting | State::Asking | State::Running)
}
