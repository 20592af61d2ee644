//! `/links` and `/route`: the drawing of how tables hang together, and the check of its guesses against the data.

use std::sync::Arc;

use idle_tide_engines::{EngineError, Fault};
use idle_tide_lang::command::Parsed;

use super::{Needs, Verb, no_such_object};
use crate::count::count_all;
use crate::entry::{Content, Entry};
use crate::face::Request;
use crate::failure::{Failure, plain};
use crate::links;
use crate::page::Tone;
use crate::session::{Next, Task, Turn};
use crate::task::{Bench, Lane, Work};

/// A command that draws.
pub(crate) struct Links(&'static str);

pub(crate) static LINKS: Links = Links("links");
pub(crate) static ROUTE: Links = Links("route");

impl Verb for Links {
    fn name(&self) -> &'static str {
        self.0
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Catalog
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let links = drawing(turn, parsed, self.0 == "route")?;
        if let Some(join) = links.join() {
            turn.request(Request::Recall(join));
        }
        let check = parsed
            .has("check")
            .then(|| Check::questions_of(&links))
            .flatten();
        let content = Content::Links(Box::new(links));
        Ok(match check {
            Some(check) => {
                // The drawing is there while its guesses are checked.
                if let Some(own) = turn.own() {
                    own.content = content;
                }
                Next::Go(Box::new(check))
            }
            None => Next::Done(content),
        })
    }
}

/// The drawing that a command asks for.
fn drawing(turn: &Turn<'_>, parsed: &Parsed, is_route: bool) -> Result<links::Links, Failure> {
    let session = &turn.session;
    let catalog = Arc::clone(&session.catalog);
    let mut named = Vec::new();
    for part in &parsed.arguments {
        let table = catalog.table(&part.text).and_then(|o| catalog.place_of(o));
        match table {
            Some(at) if !named.contains(&at) => named.push(at),
            Some(_) => {}
            None => return Err(no_such_object(session, parsed, &part.text)),
        }
    }
    if is_route && named.len() < 2 {
        return Err(plain("A way needs two different tables."));
    }
    let distance = match parsed.value("distance") {
        Some(number) => number.parse().unwrap_or(1),
        None => usize::from(!is_route),
    };
    let ties = Arc::clone(session.ties());
    let guessed = !parsed.has("declared");
    let focus = named.clone();
    let links = links::Links::new(catalog, ties, session.dialect, focus, distance, guessed);
    let mut links = links.map_err(plain)?;
    if is_route {
        links.chosen = named;
        links.find_ways().map_err(plain)?;
    }
    Ok(links)
}

/// Counts how many values of the guessed links of a drawing find a row.
pub(crate) struct Check {
    /// The links, by their places in the drawing.
    places: Vec<usize>,
    questions: Vec<String>,
    counts: Vec<Option<u64>>,
}

impl Check {
    /// Of an entry's drawing, if there is a guess on it.
    pub(crate) fn of(entry: &Entry) -> Option<Self> {
        Self::questions_of(entry.links()?)
    }

    fn questions_of(links: &links::Links) -> Option<Self> {
        let (places, questions): (Vec<usize>, Vec<[String; 2]>) =
            links.questions().into_iter().unzip();
        (!places.is_empty()).then(|| Check {
            places,
            questions: questions.into_iter().flatten().collect(),
            counts: Vec::new(),
        })
    }
}

impl Work for Check {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        self.counts = count_all(at, &self.questions)?;
        Ok(())
    }
}

impl Task for Check {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        match how {
            Ok(()) => {
                if let Some(links) = turn.own().and_then(Entry::links_mut) {
                    for (place, pair) in self.places.iter().zip(self.counts.chunks(2)) {
                        if let [Some(all), Some(matching)] = pair {
                            links.checked.insert(*place, (*all, *matching));
                        }
                    }
                }
            }
            Err(error) if error.fault == Fault::Cancelled => {
                turn.say("The check was stopped.", Tone::Plain);
            }
            Err(error) => turn.say(format!("The check failed: {}", error.message), Tone::Danger),
        }
        Next::Keep
    }
}
