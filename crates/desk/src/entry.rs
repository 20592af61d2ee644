//! A numbered entry: what was submitted, how it stands, what came of it.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use idle_tide_core::ValueRef;
use idle_tide_draw::picture::{counted, lasting, trend};
use idle_tide_engines::Outcome;

use crate::chart::Chart;
use crate::failure::Failure;
use crate::holding::Holding;
use crate::links::Links;
use crate::live::Live;
use crate::loading::Proposed;
use crate::page::{Line, Page, Tone};
use crate::sheet::{Sheet, read};
use crate::since::Since;
use crate::stages::Stages;

/// How an entry stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// Waits for those before it.
    Waiting,
    /// Waits for the user's answer.
    Asking,
    /// Runs.
    Running,
    /// Ended well.
    Done,
    /// Was refused.
    Failed,
    /// Was stopped by the user.
    Stopped,
    /// Was not run: the user said no.
    NotRun,
}

/// What is shown for an entry.
#[derive(Debug, Clone)]
pub enum Content {
    /// Nothing yet.
    Nothing,
    /// Rows.
    Rows(Sheet),
    /// Text.
    Page(Page),
    /// A drawing of tables and links.
    Links(Box<Links>),
    /// A picture of a result.
    Chart(Box<Chart>),
    /// A flow stage by stage.
    Stages(Box<Stages>),
    /// An error.
    Failure(Failure),
}

/// An entry.
#[derive(Debug)]
pub struct Entry {
    /// Its number, counted from 1.
    pub number: u32,
    /// The number of the session it belongs to.
    pub session: u32,
    /// The source and the database it ran on.
    pub place: (String, String),
    /// What was submitted.
    pub text: String,
    /// What its statement changes: rows or documents.
    pub thing: &'static str,
    /// Whether it is a statement (and not a command or a card).
    pub is_statement: bool,
    /// How it stands.
    pub state: State,
    /// What is shown.
    pub content: Content,
    /// When it began to run.
    pub started: Option<Instant>,
    /// How long it took.
    pub took: Option<Duration>,
    /// What the engine said of it.
    pub outcome: Option<Outcome>,
    /// The entry whose statement gave this further result.
    pub continues: Option<u32>,
    /// The entry from which a link was followed to this one.
    pub came_from: Option<u32>,
    /// The statements that its rows stand for, where they count the rows of others.
    pub follows: Vec<String>,
    /// How its change stands, if it is one that is looked at before it is kept.
    pub holding: Option<Holding>,
    /// The name by which questions across results know it, beside its number.
    pub called: Option<String>,
    /// How its rows differ from an earlier result of the same statement, once that is known.
    pub since: Option<Since>,
    /// How it stands as a result that is read again and again.
    pub live: Option<Live>,
    /// What stands above its rows.
    pub above: Option<Page>,
    /// The proposal for a file that its rows are.
    pub proposed: Option<Box<Proposed>>,
    /// Set when no more rows will come.
    pub complete: Arc<AtomicBool>,
}

impl Entry {
    /// An entry that waits. Its number is given when it is added to the others.
    pub(crate) fn new(
        session: u32,
        place: (String, String),
        text: &str,
        thing: &'static str,
        is_statement: bool,
    ) -> Self {
        Entry {
            number: 0,
            session,
            place,
            text: text.to_string(),
            thing,
            is_statement,
            state: State::Waiting,
            content: Content::Nothing,
            started: None,
            took: None,
            outcome: None,
            continues: None,
            came_from: None,
            follows: Vec::new(),
            holding: None,
            called: None,
            since: None,
            live: None,
            above: None,
            proposed: None,
            complete: Arc::default(),
        }
    }

    /// The rows, if there are any to show.
    pub fn sheet(&self) -> Option<&Sheet> {
        match &self.content {
            Content::Rows(sheet) => Some(sheet),
            _ => None,
        }
    }

    /// The same, to change the view.
    pub fn sheet_mut(&mut self) -> Option<&mut Sheet> {
        match &mut self.content {
            Content::Rows(sheet) => Some(sheet),
            _ => None,
        }
    }

    /// The drawing, if it is one.
    pub fn links(&self) -> Option<&Links> {
        match &self.content {
            Content::Links(links) => Some(links),
            _ => None,
        }
    }

    /// The same, to change it.
    pub fn links_mut(&mut self) -> Option<&mut Links> {
        match &mut self.content {
            Content::Links(links) => Some(links),
            _ => None,
        }
    }

    /// The picture, if it is one.
    pub fn chart(&self) -> Option<&Chart> {
        match &self.content {
            Content::Chart(chart) => Some(chart),
            _ => None,
        }
    }

    /// The flow stage by stage, if it is that.
    pub fn stages(&self) -> Option<&Stages> {
        match &self.content {
            Content::Stages(stages) => Some(stages),
            _ => None,
        }
    }

    /// The same, to change it.
    pub fn stages_mut(&mut self) -> Option<&mut Stages> {
        match &mut self.content {
            Content::Stages(stages) => Some(stages),
            _ => None,
        }
    }

    /// What stands above its rows now: how it stands as a live result, and what was said of it.
    pub fn head(&self) -> Option<Page> {
        let Some(live) = &self.live else {
            return self.above.clone();
        };
        let (words, tone) = live.words();
        let mut line = Line::new().and(tone, words);
        if let Some((name, values)) = &live.trend
            && values.len() > 1
        {
            let last = values.last().copied().unwrap_or_default();
            let last = ValueRef::Float(last).plain();
            line = line.and(Tone::Faint, format!("   {name} "));
            line = line.and(Tone::Number, last.strip_suffix(".0").unwrap_or(&last));
            line = line.and(Tone::Picture, format!(" {}", trend(values)));
        }
        let mut page = Page::new();
        page.line(line);
        for line in self.above.iter().flat_map(|page| &page.lines) {
            page.line(line.clone());
        }
        Some(page)
    }

    /// How long it has run, or ran.
    pub fn time(&self) -> Duration {
        self.took
            .or_else(|| self.started.map(|start| start.elapsed()))
            .unwrap_or_default()
    }

    /// What its result is made of: row or document; of a proposal the columns of a file.
    pub fn row(&self) -> &'static str {
        match self.sheet() {
            Some(_) if self.proposed.is_some() => "column",
            Some(sheet) if read(&sheet.set).holds_documents() => "document",
            _ => "row",
        }
    }

    /// The outcome in a few words, with their tone.
    pub fn words(&self) -> (String, Tone) {
        let rows = self.sheet().map(|sheet| read(&sheet.set).len());
        let time = lasting(self.time());
        match self.state {
            State::Waiting => ("waits".into(), Tone::Faint),
            State::Asking => ("asks first".into(), Tone::Care),
            State::Running => {
                // Rows come once their columns are known.
                let set = self.sheet().map(|sheet| read(&sheet.set));
                let reads = set.is_some_and(|set| !set.columns().is_empty());
                let word = if reads { "reading" } else { "running" };
                (word.into(), Tone::Active)
            }
            State::Failed => ("refused".into(), Tone::Danger),
            State::NotRun => ("not run".into(), Tone::Care),
            State::Stopped => match rows {
                Some(rows) => (
                    format!("stopped · {} · {time}", counted(rows, self.row())),
                    Tone::Care,
                ),
                None => (format!("stopped · {time}"), Tone::Care),
            },
            State::Done if !self.is_statement => match self.sheet().map(Sheet::shown) {
                Some(rows) => (counted(rows, self.row()), Tone::Faint),
                None if self.stages().is_some() => {
                    let stages = self.stages().map_or(0, |s| s.flow.stages.len() as u64);
                    (counted(stages, "stage"), Tone::Faint)
                }
                None => match self.links() {
                    Some(links) => {
                        let tables = counted(links.tables.len() as u64, links.table());
                        let wires = counted(links.wires.len() as u64, "link");
                        (format!("{tables} · {wires}"), Tone::Faint)
                    }
                    None => {
                        let of = self.chart().map(|chart| format!("of entry {}", chart.of));
                        (of.unwrap_or_default(), Tone::Faint)
                    }
                },
            },
            State::Done if self.holding.is_some() => {
                let changed = self.outcome.as_ref().and_then(|o| o.changed);
                let (words, tone) = self.holding.map_or(("", Tone::Faint), Holding::words);
                let changed = changed.map(|count| format!("{} · ", counted(count, self.thing)));
                (format!("{}{words}", changed.unwrap_or_default()), tone)
            }
            State::Done => match (rows, self.outcome.as_ref().and_then(|o| o.changed)) {
                (Some(rows), _) => {
                    let since = self.since.map(|since| format!(" · {}", since.words()));
                    let rows = counted(rows, self.row());
                    if self.live.as_ref().is_some_and(Live::goes_on) {
                        return (format!("{rows} · {time} · live"), Tone::Active);
                    }
                    let words = format!("{rows} · {time}{}", since.unwrap_or_default());
                    (words, Tone::Faint)
                }
                (None, Some(changed)) => (
                    format!("{} · {time}", counted(changed, self.thing)),
                    Tone::Faint,
                ),
                // Rows without columns are not counted; documents would have brought some.
                (None, None)
                    if self.thing == "document"
                        && self.outcome.as_ref().is_some_and(|o| o.returns_rows) =>
                {
                    (format!("{} · {time}", counted(0, self.thing)), Tone::Faint)
                }
                (None, None) => (format!("done · {time}"), Tone::Faint),
            },
        }
    }
}
