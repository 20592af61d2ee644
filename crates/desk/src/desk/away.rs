//! Tasks on their way: where they go, what they tell from there, and how they come back.

use super::*;
use crate::blocked::Patience;

impl Desk {
    /// Sends a task to its lane.
    pub(super) fn send(&mut self, at: usize, job: Job) -> Away {
        self.next_task += 1;
        let session = &self.sessions[at];
        let lane = session.lane_now(crate::task::Work::lane(&job));
        let away = Away {
            task: self.next_task,
            lane,
            stop: Arc::default(),
            holds: job.holds(),
            given_up: job.given_up(),
            asked: None,
        };
        self.hand_over(at, job, &away);
        let session = &mut self.sessions[at];
        // Whoever waits behind a screen learns what for; a script waits as long as the server says.
        let tells = session.bearings.server.is_some() && self.services.stream.is_none();
        if away.lane == Lane::Connection && tells && !session.patient {
            session.patient = true;
            session.starts.push(Box::new(Patience::default()));
        }
        away
    }

    fn hand_over(&self, at: usize, job: Job, away: &Away) {
        let session = &self.sessions[at];
        let beside = matches!(away.lane, Lane::Beside | Lane::Aside);
        let errand = Errand {
            session: session.number,
            task: away.task,
            work: job,
            stop: Arc::clone(&away.stop),
            bearings: beside.then(|| Box::new(session.bearings.clone())),
        };
        match session.worker_of(away.lane) {
            Some(worker) => {
                if let Err(errand) = worker.send(errand) {
                    let words = "its connection was closed after a fault inside this program";
                    errand.undone(
                        fault(idle_tide_engines::Fault::NotSent, words),
                        &self.notify,
                    );
                }
            }
            None => free(errand, Arc::clone(&self.notify)),
        }
    }

    /// Starts work that no entry waits for.
    pub(super) fn start(&mut self, at: usize, mut job: Job) {
        let waiting = Waiting::alone("", true);
        job.begin(&mut self.turn(at, &waiting, None));
        let away = self.send(at, job);
        self.sessions[at].behind.push(away);
    }

    /// Something came while nothing ran: what others sent is said, and that the connection has ended.
    pub(super) fn heard(&mut self, session: SessionId, idle: Idle) {
        let Some(at) = self.place_of(session) else {
            return;
        };
        // What runs tells of the end itself.
        let session = &mut self.sessions[at];
        let lost = idle.lost && !session.lost && session.busy.is_none();
        let of_whom = match at == self.here {
            true => String::new(),
            false => format!("{}: ", session.source),
        };
        for words in &idle.heard {
            self.say(format!("{of_whom}{words}"), Tone::Active);
        }
        if !lost {
            return;
        }
        let session = &mut self.sessions[at];
        session.lost = true;
        let open = session.bearings.transaction.take().is_some();
        session.lost_open = open;
        session.bearings.transaction_failed = false;
        let of_transaction = match open {
            true => " The transaction that was open is taken back by the server.",
            false => "",
        };
        let is_held = session.held.is_some();
        self.say(
            format!(
                "{of_whom}The connection was lost while nothing ran.{of_transaction} /reopen (or R while reading) connects anew."
            ),
            Tone::Danger,
        );
        if is_held {
            let waiting = Waiting::alone("", true);
            crate::held::gone(&mut self.turn(at, &waiting, None));
        }
    }

    /// A task is back.
    pub(super) fn ended(
        &mut self,
        session: SessionId,
        task: TaskId,
        job: Job,
        how: Result<(), EngineError>,
        took: Duration,
        bearings: Option<(Box<Bearings>, &'static Dialect)>,
    ) {
        let (fault, took) = (how.as_ref().err().map(|error| error.fault), took);
        tracing::debug!(session, task, ?fault, ?took, "a task is back");
        // Of a session that was closed nobody waits for anything.
        let Some(at) = self.place_of(session) else {
            return;
        };
        // What was given up has nothing to say any more.
        if let Some((bearings, dialect)) = bearings.filter(|_| !self.sessions[at].lost) {
            self.sessions[at].bearings = *bearings;
            self.sessions[at].dialect = dialect;
        }
        let behind = &mut self.sessions[at].behind;
        if let Some(place) = behind.iter().position(|away| away.task == task) {
            behind.remove(place);
            let waiting = Waiting::alone("", true);
            let mut turn = self.turn(at, &waiting, None);
            match job.ended(&mut turn, how) {
                Next::Fail(failure) => turn.say(failure.headline, Tone::Danger),
                Next::Go(next) => self.start(at, next),
                _ => {}
            }
            return;
        }
        let waits = |busy: &mut Busy| matches!(&busy.doing, Doing::Away(away) if away.task == task);
        let Some(Busy { entry, waiting, .. }) = self.sessions[at].busy.take_if(waits) else {
            return;
        };
        let taking = self.entries.taking(entry);
        if let Some(own) = self.entries.get_mut(taking) {
            own.took = Some(took);
        }
        let mut turn = self.turn(at, &waiting, Some(taking));
        let next = job.ended(&mut turn, how);
        self.apply(at, waiting, Some(taking), next);
    }

    /// The second connection is not there: the first does the work of both from now on.
    pub(super) fn not_there(&mut self, session: SessionId, task: TaskId, job: Job) {
        tracing::warn!(session, task, "the second connection is not there");
        let Some(at) = self.place_of(session) else {
            return;
        };
        let session = &mut self.sessions[at];
        session.beside = None;
        let behind = session.behind.iter_mut();
        let mut away = behind.chain(match &mut session.busy {
            Some(Busy {
                doing: Doing::Away(away),
                ..
            }) => Some(away),
            _ => None,
        });
        let Some(away) = away.find(|away| away.task == task) else {
            return;
        };
        // What only a second connection is for comes back undone.
        if away.lane != Lane::Aside {
            away.lane = Lane::Connection;
        }
        let again = Away {
            task,
            lane: away.lane,
            stop: Arc::clone(&away.stop),
            holds: away.holds,
            given_up: None,
            asked: away.asked,
        };
        self.hand_over(at, job, &again);
    }

    /// Work tells how far it is.
    pub(super) fn progress(&mut self, session: SessionId, task: TaskId, progress: Progress) {
        let Some(at) = self.place_of(session) else {
            return;
        };
        let session = &self.sessions[at];
        let of_entry = session
            .busy
            .as_ref()
            .filter(|busy| matches!(&busy.doing, Doing::Away(away) if away.task == task));
        let entry = of_entry.map(|busy| self.entries.taking(busy.entry));
        match (progress, entry) {
            (Progress::Rows, Some(number)) => {
                if let Some(sheet) = self.entries.get_mut(number).and_then(|e| e.sheet_mut()) {
                    sheet.meet_columns();
                }
                if !self.entries.keep_within_disk(number) {
                    self.sessions[at].worker.cancel(task);
                    self.say("Results may use 2.0 GB of disk, and this one does: it was stopped there. Its rows so far are kept.", Tone::Care);
                }
            }
            (Progress::Another { before, set }, Some(number)) => {
                let statement = of_entry.map_or(number, |busy| busy.entry);
                self.further(at, statement, number, *before, Sheet::new(set));
            }
            (Progress::Names(names), _) if !session.catalog_known => {
                // What is known in full stays until all of it is there anew.
                self.sessions[at].catalog = Arc::from(names);
            }
            (Progress::Figures(entry, column, figures), _) => {
                if let Some(watched) = &mut self.services.watched
                    && (watched.entry, watched.column) == (entry, column)
                {
                    watched.figures = Some(*figures);
                }
            }
            // One that was given up is told so by the end of its channel.
            (Progress::Asks(asked), Some(_)) => self.asks(at, asked),
            // What a script does shows in its end.
            (Progress::Said(words), _) if self.services.stream.is_none() => {
                let waiting = Waiting::alone("", true);
                self.turn(at, &waiting, None).say(words, Tone::Faint);
            }
            _ => {}
        }
    }

    /// A further result of a statement: an entry of its own.
    fn further(
        &mut self,
        at: usize,
        statement: u32,
        number: u32,
        before: idle_tide_engines::Outcome,
        sheet: Sheet,
    ) {
        let Some(entry) = self.entries.get_mut(number) else {
            return;
        };
        entry.outcome = Some(before);
        entry.took = entry.started.map(|started| started.elapsed());
        let (text, content) = (entry.text.clone(), entry.content.clone());
        self.entries.end(number, State::Done, content);
        let waiting = Waiting::alone("", false);
        let mut turn = self.turn(at, &waiting, None);
        turn.make_entry(&text, true);
        if let Some(new) = turn.own() {
            new.continues = Some(statement);
            new.state = State::Running;
            new.started = Some(Instant::now());
            new.content = Content::Rows(sheet);
        }
    }

    fn asks(&mut self, at: usize, asked: Asked) {
        let (what, details, wanted, to) = match asked {
            Asked::Secret(what, reply) => (what, Vec::new(), Wanted::Secret, To::Opener(reply)),
            Asked::Allow(what, details, reply) => {
                (what, details, Wanted::Consent, To::Allow(reply))
            }
            Asked::Word(word) => {
                let waiting = Waiting::alone("", true);
                return self
                    .turn(at, &waiting, None)
                    .say(format!("{word}."), Tone::Care);
            }
        };
        self.sessions[at].asking.push_back(Asking {
            what,
            details,
            wanted,
            to,
        });
    }
}
