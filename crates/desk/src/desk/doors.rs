//! How sessions come, go, and take the place of each other.

use super::*;
use crate::face::Request;
use crate::origin::Origin;
use crate::session::{Entering, How};
use crate::verbs::open::Opening;

impl Desk {
    /// All sessions, the current one first, then those opened latest.
    pub fn sessions(&self) -> impl Iterator<Item = &Session> {
        let others = self.sessions.iter().enumerate().rev();
        let others = others
            .filter(|(at, _)| *at != self.here)
            .map(|(_, session)| session);
        std::iter::once(&self.sessions[self.here])
            .chain(others)
            .filter(|session| !session.is_nowhere())
    }

    /// The current session.
    pub fn session(&self) -> &Session {
        &self.sessions[self.here]
    }

    /// Says what opened the session, so that it can be opened again.
    pub fn came_from(&mut self, origin: Origin) {
        self.sessions[self.here].origin = Some(origin);
    }

    /// Makes another session the current one. What runs, waits and is asked in the one before stays with it.
    pub fn go_to(&mut self, number: SessionId) {
        let Some(at) = self.place_of(number).filter(|at| *at != self.here) else {
            return;
        };
        self.here = at;
        if let Some(latest) = self.entries.latest_of(number)
            && let Some(place) = self.entries.place_of(latest)
        {
            self.entries.current = place;
        }
        self.settle();
    }

    /// Opens a source without anybody having typed it; `first` is submitted in it on arrival.
    pub fn open_source(&mut self, text: &str, origin: Origin, first: Option<&str>) {
        let waiting = Waiting::alone(text, true);
        let mut opening = Opening::known(origin, How::New);
        opening.first = first.map(str::to_string);
        self.apply(self.here, waiting, None, Next::Go(Box::new(opening)));
        self.settle();
    }

    /// Ends a session. What was asked in it is answered by the end of its channel.
    pub(super) fn close(&mut self, at: usize) {
        let here = self.sessions[self.here].number;
        let gone = self.sessions.remove(at);
        tracing::info!(session = gone.number, source = ?gone.source, "is closed");
        if here != gone.number {
            self.here = self.place_of(here).unwrap_or(0);
            return self.say(format!("{} is closed.", gone.source), Tone::Plain);
        }
        // The one that was opened latest, or none.
        self.here = self.sessions.len() - 1;
        let session = &mut self.sessions[self.here];
        let words = if session.is_nowhere() {
            session.requests.push_back(Request::Sources);
            format!("{} is closed. F9 opens another source.", gone.source)
        } else {
            format!("{} is closed; this is {}.", gone.source, session.source)
        };
        self.say(words, Tone::Plain);
    }

    /// A connection that was opened takes its place: a session of its own, or that of the session it was opened in.
    pub(super) fn enter(&mut self, at: usize, entry: u32, waiting: &Waiting, entering: Entering) {
        let Entering {
            connection,
            origin,
            how,
            first,
        } = entering;
        let front = at == self.here;
        let settings = self.services.read_settings();
        let saved = settings
            .as_ref()
            .ok()
            .and_then(|s| s.sources.get(&origin.name));
        let trouble = match &settings {
            Ok(_) => saved.and_then(|saved| saved.trouble(&origin.name)),
            Err(words) => Some(crate::settings::unreadable(words)),
        };
        let asked = match &settings {
            Ok(_) => saved.and_then(|saved| saved.ways_of_writes().0),
            // Whatever they say, it is not weaker than this.
            Err(_) => Some(Writes::None),
        };
        let writes = match (how, asked) {
            (How::Instead { .. }, _) => self.sessions[at].writes,
            (How::New, Some(writes)) => writes,
            (How::New, None) => self.services.default_writes,
        };
        let number = match how {
            How::New => {
                self.next_session += 1;
                self.next_session
            }
            How::Instead { .. } => self.sessions[at].number,
        };
        let mut session = Session::new(
            number,
            connection,
            origin.name.clone(),
            writes,
            &self.notify,
        );
        let before = &mut self.sessions[at];
        // What was submitted together with it runs in what it opened.
        session.queue = before.take_rest(waiting);
        if let How::Instead { restore, keep } = how {
            session.before = std::mem::take(&mut before.before);
            if keep && let Some(origin) = before.origin.clone() {
                session.before.push(origin);
            }
            if restore {
                session.settings = std::mem::take(&mut before.settings);
            }
            session.queue.append(&mut before.queue);
            session.requests = std::mem::take(&mut before.requests);
        }
        session.origin = Some(origin);
        session.arriving = Some(entry);
        if writes == Writes::None {
            session
                .starts
                .push(Box::new(verbs::writes::Refuse::at_first()));
        }
        session.starts.push(Box::new(ReadCatalog::behind()));
        if let Some(own) = self.entries.get_mut(entry) {
            own.session = number;
            own.place = session.place();
            own.took = own.started.map(|started| started.elapsed());
        }
        let number = session.number;
        let (b, source) = (&session.bearings, &session.source);
        let server = b
            .server
            .as_ref()
            .map(|server| (&server.place, &server.user, &server.link));
        tracing::info!(session = number, ?source, family = b.family, version = ?b.version, ?server, "is open");
        match how {
            How::Instead { .. } => self.sessions[at] = session,
            How::New => {
                let words = format!("{} is open; F9 goes there.", session.source);
                self.sessions.push(session);
                if front {
                    self.here = self.sessions.len() - 1;
                } else {
                    self.say(words, Tone::Active);
                }
            }
        }
        if let Some(trouble) = trouble {
            self.say(trouble, Tone::Danger);
        }
        if let (Some(first), Some(at)) = (first, self.place_of(number)) {
            self.submit_in(at, &first);
        }
    }
}
