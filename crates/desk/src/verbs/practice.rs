//! `/practice start` and `/practice stop`: the practice server, in this process.

use std::sync::Arc;

use idle_tide_dock::server::{Listening, Server, Settings, Store, listen};
use idle_tide_engines::EngineError;
use idle_tide_lang::command::Parsed;

use super::Verb;
use crate::entry::Content;
use crate::face::Request;
use crate::failure::{Failure, plain};
use crate::page::{Line, Page, Tone};
use crate::session::{Next, Task, Turn};
use crate::task::{Bench, Lane, Work};

/// The port it listens on where that is free.
const PORT: u16 = 27_117;

pub(crate) struct Practice;

impl Verb for Practice {
    fn name(&self) -> &'static str {
        "practice"
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        if parsed.argument(0) == Some("stop") {
            let Some(listening) = turn.services.practice.take() else {
                return Err(plain(
                    "The practice server is not running. /practice start starts it.",
                ));
            };
            let place = listening.address;
            drop(listening);
            let mut page = Page::new();
            page.say(
                Tone::Heading,
                format!("The practice server at {place} was stopped."),
            );
            page.gap();
            page.say(Tone::Faint, "What was changed on it is gone with it.");
            return Ok(Next::Done(Content::Page(page)));
        }
        match &turn.services.practice {
            Some(listening) => {
                let port = listening.address.port();
                Ok(listens(turn, port))
            }
            None => Ok(Next::Go(Box::new(Start(None)))),
        }
    }
}

/// Makes the harbour's documents and listens.
struct Start(Option<Listening>);

impl Work for Start {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, _: &mut Bench<'_>) -> Result<(), EngineError> {
        let mut store = Store::default();
        for name in idle_tide_harbour::documents::COLLECTIONS {
            let count = idle_tide_harbour::documents::LANDINGS;
            let documents = idle_tide_dock::harbour::collection(name, count);
            // The scenario's identifiers are all different.
            let _ = store.fill("harbour-log", name, documents);
        }
        let server = Server::new(store, Settings::default());
        let started = listen(Arc::clone(&server), PORT, None).or_else(|_| listen(server, 0, None));
        let words = "The practice server cannot listen on this machine";
        self.0 = Some(started.map_err(|error| EngineError::plain(format!("{words}: {error}.")))?);
        Ok(())
    }
}

impl Task for Start {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        match (how, self.0) {
            (Ok(()), Some(listening)) => {
                let port = listening.address.port();
                turn.services.practice = Some(listening);
                listens(turn, port)
            }
            (how, _) => Next::refuse(how.err().map_or(String::new(), |error| error.message)),
        }
    }
}

fn listens(turn: &mut Turn<'_>, port: u16) -> Next {
    let address = format!("mongodb://127.0.0.1:{port}/harbour-log");
    let mut page = Page::new();
    page.say(Tone::Heading, "The practice server listens.");
    page.gap();
    page.line(
        Line::new()
            .column(Tone::Faint, "address", 10)
            .and(Tone::Plain, address.as_str()),
    );
    page.gap();
    page.say(Tone::Faint, "It is a stand-in for practice with the harbour's documents, in memory. It ends with this program, or with /practice stop.");
    turn.request(Request::Recall(format!("/open {address}")));
    Next::Done(Content::Page(page))
}
