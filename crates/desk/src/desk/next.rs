//! What becomes of an entry: it goes on, asks, waits for a value, or ends.

use super::*;

impl Desk {
    /// Does what is to happen next to an entry, or to what was submitted and has none yet.
    pub(super) fn apply(&mut self, at: usize, waiting: Waiting, entry: Option<u32>, next: Next) {
        let makes_none = matches!(next, Next::Keep | Next::Close) && entry.is_none();
        let mut turn = self.turn(at, &waiting, entry);
        let number = match entry {
            Some(number) => number,
            None if makes_none => 0,
            None => turn.make_entry(waiting.text(), !waiting.is_command),
        };
        if let (Some((from, follows)), Some(own)) = (&waiting.step, turn.own()) {
            own.came_from = Some(*from);
            own.follows.clone_from(follows);
        }
        match next {
            Next::Go(mut job) => {
                job.begin(&mut turn);
                turn.show_state(State::Running, None);
                if let Some(own) = turn.own() {
                    own.started = Some(Instant::now());
                }
                let doing = Doing::Away(self.send(at, job));
                self.await_in(at, number, waiting, doing);
            }
            Next::Ask(question, step) => {
                let page = Content::Page(question.page.clone());
                turn.show_state(State::Asking, Some(page));
                self.await_in(at, number, waiting, Doing::Asking(question, step));
            }
            Next::Want(wanting, answer) => {
                turn.show_state(State::Asking, None);
                turn.session.asking.push_back(Asking {
                    what: wanting.what,
                    details: wanting.details,
                    wanted: wanting.wanted,
                    to: To::Entry(answer),
                });
                self.await_in(at, number, waiting, Doing::Wanting);
            }
            Next::Done(content) => self.entries.end(number, State::Done, content),
            Next::Stopped(content) => {
                self.entries.end(number, State::Stopped, content);
                self.sessions[at].give_back(&waiting, waiting.span.end, Returned::default());
            }
            Next::NotRun => {
                let mut page = Page::new();
                page.say(Tone::Heading, "It was not run. Nothing was changed.");
                page.gap();
                page.say(Tone::Faint, "The statement is back in the composer.");
                self.not_run(at, number, &waiting, page);
            }
            Next::Fail(failure) => {
                let content = Content::Failure((*failure).clone());
                self.fail(at, number, &waiting, content, *failure);
            }
            Next::FailKeeping(content, failure) => {
                self.fail(at, number, &waiting, content, *failure)
            }
            Next::Keep => {
                if let Some(own) = turn.own() {
                    own.state = State::Done;
                }
            }
            Next::Close => {
                if let Some(number) = entry {
                    self.entries.end(number, State::Done, Content::Nothing);
                }
                self.close(at);
            }
            Next::Enter(entering) => self.enter(at, number, &waiting, *entering),
        }
    }

    fn await_in(&mut self, at: usize, entry: u32, waiting: Waiting, doing: Doing) {
        self.sessions[at].busy = Some(Busy {
            entry,
            waiting,
            doing,
        });
    }

    pub(super) fn not_run(&mut self, at: usize, number: u32, waiting: &Waiting, page: Page) {
        self.entries.end(number, State::NotRun, Content::Page(page));
        self.sessions[at].give_back(waiting, waiting.span.start, Returned::default());
    }

    pub(super) fn fail(
        &mut self,
        at: usize,
        number: u32,
        waiting: &Waiting,
        content: Content,
        failure: failure::Failure,
    ) {
        let session = self.sessions[at].number;
        let (why, said) = (&failure.headline, &failure.said);
        tracing::warn!(session, entry = number, ?why, ?said, "refused");
        self.entries.end(number, State::Failed, content);
        let returned = Returned {
            text: String::new(),
            place: failure.place,
            corrections: failure.corrections,
        };
        self.sessions[at].give_back(waiting, waiting.span.start, returned);
    }
}
