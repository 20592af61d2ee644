//! A flow stage by stage: documents in and out of each, what was dropped, how long it took, samples of both, and the compiled form. The
//! numbers are exact where the collection is small, and from a stated sample otherwise.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};

use idle_tide_core::RowBatch;
use idle_tide_core::document::extended::{Form, text_of};
use idle_tide_core::document::paths::Finder;
use idle_tide_core::document::{Datum, Document, bson};
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_dock::flow::{Context, Counts, FlowError, Limits, Places, observe};
use idle_tide_draw::picture::{counted, grouped, lasting};
use idle_tide_engines::{Connection, EngineError};
use idle_tide_lang::flow::ast::{Flow, Path, Source, Stage, Statement};
use idle_tide_lang::flow::{compile, format, stage_text};

use crate::page::{Line, Page, Tone};

/// More documents than these are sampled.
pub const MOST: u64 = 20_000;
/// Documents kept of what passed and of what was dropped.
const KEPT: usize = 40;

/// A flow, looked at stage by stage.
#[derive(Debug, Clone)]
pub struct Stages {
    /// The flow.
    pub flow: Flow,
    /// The stages that are left out for now, by number.
    pub left_out: HashSet<usize>,
    /// What each stage did, as far as it got; stages left out did nothing.
    pub counts: Vec<Option<Counts>>,
    /// Documents that were read.
    pub read: u64,
    /// Documents there are in all, where that is known.
    pub all: Option<u64>,
    /// What went wrong, and at which stage.
    pub failed: Option<(usize, String)>,
    /// The compiled form of each stage, on one line.
    pub compiled: Vec<String>,
    /// The stage that is looked at; 0 is the source.
    pub at: usize,
    /// Whether the compiled form is shown instead of the samples.
    pub shows_compiled: bool,
}

struct Others<'a> {
    connection: &'a mut dyn Connection,
    ticket: u64,
    stop: &'a AtomicBool,
}

impl Places for Others<'_> {
    fn read(
        &mut self,
        collection: &str,
        take: &mut dyn FnMut(Document) -> Result<bool, FlowError>,
    ) -> Result<(), String> {
        let mut failed = None;
        let collections = self.connection.collections();
        collections
            .ok_or("This database has no collections.")?
            .documents(
                self.ticket,
                collection,
                u64::MAX >> 1,
                &mut |document| match take(document) {
                    Ok(more) => more && !self.stop.load(Ordering::Relaxed),
                    Err(error) => {
                        failed = Some(error.message);
                        false
                    }
                },
            )
            .map_err(|e| e.message)?;
        failed.map_or(Ok(()), Err)
    }
    fn save(&mut self, _: &str, _: Vec<Document>, _: Option<&Path>, _: bool) -> Result<(), String> {
        Ok(())
    }
    fn raw(&mut self, _: &[Datum], _: Vec<Document>) -> Result<Vec<Document>, String> {
        Err("What raw stages do is not seen from here; leave the stage out (Space), or run the flow.".into())
    }
}

/// Reads the flow's collection and runs its stages over it, one after the other.
///
/// # Errors
/// If it is no flow over a collection, that cannot be read, or it is stopped.
pub fn look(
    connection: &mut dyn Connection,
    ticket: u64,
    stop: &AtomicBool,
    text: &str,
    left_out: &HashSet<usize>,
) -> Result<Stages, EngineError> {
    let zone = idle_tide_core::document::time::TimeZone::UTC;
    let statement = idle_tide_lang::flow::parse(text, &zone)
        .whole()
        .map_err(EngineError::of_flow)?;
    let Statement::Flow(flow) = statement else {
        return Err(EngineError::plain(
            "Only a flow has stages: from collection where ... group by ...",
        ));
    };
    let mut documents = Vec::new();
    let mut read = 0;
    let all;
    match &flow.source {
        Source::Collection(name) => {
            let collections = connection.collections();
            let collections = collections
                .ok_or_else(|| EngineError::plain("This database has no collections."))?;
            let found = collections.documents(ticket, &name.name, MOST, &mut |document| {
                documents.push(document);
                read += 1;
                read < MOST
            })?;
            // A source that chose by chance, or stopped, may not know how many there are.
            all = found.or((read < MOST).then_some(read));
        }
        Source::Typed(typed) => {
            for document in typed
                .constant()
                .as_ref()
                .and_then(Datum::as_list)
                .unwrap_or_default()
            {
                documents.extend(document.as_object().cloned());
            }
            read = documents.len() as u64;
            all = Some(read);
        }
        Source::Result(_) => {
            return Err(EngineError::plain(
                "The stages of a flow over an earlier result are not looked at; run it.",
            ));
        }
    }
    let kept: Vec<(usize, Stage)> = flow
        .stages
        .iter()
        .cloned()
        .enumerate()
        .filter(|(at, _)| !left_out.contains(at))
        .collect();
    let stages: Vec<Stage> = kept.iter().map(|(_, stage)| stage.clone()).collect();
    let context = Context {
        script: false,
        now: crate::sheet::now(),
        seed: 20_310_301,
        digits: false,
    };
    let mut counts = Vec::new();
    let done = observe(
        &stages,
        documents,
        &context,
        Limits::default(),
        &mut Others {
            connection,
            ticket,
            stop,
        },
        KEPT,
        &mut counts,
    );
    let mut by_stage: Vec<Option<Counts>> = vec![None; flow.stages.len()];
    for ((at, _), count) in kept.iter().zip(counts) {
        by_stage[*at] = Some(count);
    }
    let failed = done
        .err()
        .map(|(at, error)| (kept.get(at).map_or(0, |(n, _)| *n), error.message));
    let compiled = flow
        .stages
        .iter()
        .map(
            |stage| match compile::pipeline(std::slice::from_ref(stage)) {
                Ok((list, _)) => list
                    .iter()
                    .map(|s| text_of(s, Form::Relaxed))
                    .collect::<Vec<_>>()
                    .join(", "),
                Err(_) => "computed here, not on a server".into(),
            },
        )
        .collect();
    let at = flow.stages.len();
    Ok(Stages {
        flow,
        left_out: left_out.clone(),
        counts: by_stage,
        read,
        all,
        failed,
        compiled,
        at,
        shows_compiled: false,
    })
}

impl Stages {
    /// Whether the numbers are from a sample.
    pub fn sampled(&self) -> bool {
        self.all != Some(self.read)
    }

    /// The words of a stage: its word and the rest; 0 is the source.
    pub fn words(&self, at: usize) -> (String, String) {
        match at.checked_sub(1).and_then(|n| self.flow.stages.get(n)) {
            None => {
                let text = format(&Statement::Flow(Flow {
                    stages: Vec::new(),
                    ..self.flow.clone()
                }));
                (
                    "from".into(),
                    text.strip_prefix("from ").unwrap_or(&text).into(),
                )
            }
            Some(stage) => {
                let text = stage_text(stage);
                let word = stage.word();
                (
                    word.into(),
                    text.strip_prefix(word).unwrap_or(&text).trim().into(),
                )
            }
        }
    }

    /// Documents into and out of a stage; 0 is the source. Nothing for a stage that is left out or was not reached.
    pub fn numbers(&self, at: usize) -> Option<(u64, u64)> {
        match at.checked_sub(1) {
            None => Some((self.read, self.read)),
            Some(n) => self.counts.get(n)?.as_ref().map(|c| (c.came, c.went)),
        }
    }

    /// What a stage did to the number of documents, in words.
    pub fn change(&self, at: usize) -> String {
        let (Some(n), Some((came, went))) = (at.checked_sub(1), self.numbers(at)) else {
            return String::new();
        };
        let drops = matches!(
            self.flow.stages.get(n).map(Stage::word),
            Some("where" | "limit" | "offset" | "sample")
        );
        if came == went {
            String::new()
        } else if drops {
            format!("{} dropped", grouped(came.saturating_sub(went)))
        } else {
            format!("{} became {}", grouped(came), grouped(went))
        }
    }

    /// The flow up to a stage as text, without those left out.
    pub fn up_to(&self, at: usize) -> String {
        let stages = self
            .flow
            .stages
            .iter()
            .take(at)
            .enumerate()
            .filter(|(n, _)| !self.left_out.contains(n));
        let flow = Flow {
            stages: stages.map(|(_, s)| s.clone()).collect(),
            ..self.flow.clone()
        };
        format(&Statement::Flow(flow))
    }

    /// Some of what passed the stage that is looked at, and of what it dropped, as results.
    pub fn samples(&self) -> (ResultSet, ResultSet) {
        let none = Counts::default();
        let counts = self
            .at
            .checked_sub(1)
            .and_then(|n| self.counts.get(n)?.as_ref())
            .unwrap_or(&none);
        (rows_of(&counts.passed), rows_of(&counts.dropped))
    }

    /// The table of stages as text, for where there is no screen.
    pub fn page(&self) -> Page {
        let mut page = Page::new();
        page.say(Tone::Faint, self.stated());
        page.gap();
        for at in 0..=self.flow.stages.len() {
            let (word, rest) = self.words(at);
            let (came, went) = match self.numbers(at) {
                Some((came, went)) => (
                    if at == 0 {
                        String::new()
                    } else {
                        grouped(came)
                    },
                    grouped(went),
                ),
                None => (String::new(), "left out".into()),
            };
            let took = at
                .checked_sub(1)
                .and_then(|n| self.counts[n].as_ref())
                .map_or(String::new(), |c| lasting(c.took));
            page.line(
                Line::new()
                    .column(Tone::Heading, &word, 12)
                    .column(
                        Tone::Plain,
                        idle_tide_draw::marks::show_text(&rest, 56).text(),
                        58,
                    )
                    .column(Tone::Number, format!("{came:>9}"), 11)
                    .column(Tone::Number, format!("{went:>9}"), 11)
                    .column(Tone::Faint, &took, 10)
                    .and(Tone::Faint, self.change(at)),
            );
        }
        if let Some((at, words)) = &self.failed {
            page.gap();
            page.say(Tone::Danger, format!("Stage {}: {words}", at + 1));
        }
        page
    }

    /// What the numbers stand for.
    pub fn stated(&self) -> String {
        match self.all {
            Some(all) if all == self.read => {
                format!("Exact: all {} were read.", counted(all, "document"))
            }
            Some(all) => format!(
                "From a sample of {} of {}.",
                grouped(self.read),
                counted(all, "document")
            ),
            None => format!("From a sample of {}.", counted(self.read, "document")),
        }
    }
}

fn rows_of(documents: &[Document]) -> ResultSet {
    let mut finder = Finder::default();
    let mut batch = RowBatch::new();
    for document in documents {
        let bytes = bson::encode(document);
        finder.meet(&bytes);
        batch.push_document(&bytes);
    }
    finder.settle();
    let mut set = ResultSet::new(finder.columns(), Budget::new(u64::MAX), u64::MAX);
    // Memory is all it needs.
    let _ = set.append(batch);
    set
}
