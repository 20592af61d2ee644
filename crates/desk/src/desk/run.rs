//! What is submitted, cut into pieces, run one after the other; what is asked; what goes back.

use super::*;

impl Desk {
    /// Takes what was typed: statements and commands, run in order.
    pub fn submit(&mut self, text: &str) {
        self.notice = None;
        let submission: Arc<str> = match elsewhere::bare_word(text) {
            Some(command) => command.into(),
            None => text.into(),
        };
        if let Err(error) = self.history.add(&self.source, text) {
            self.say(
                format!("The statement could not be kept for later sessions: {error}."),
                Tone::Care,
            );
        }
        let mut before = 0;
        for piece in pieces(&submission, self.dialect)
            .iter()
            .filter(|piece| piece.has_code)
        {
            let is_command = piece.kind == PieceKind::Command;
            self.queue.push_back(Waiting {
                submission: Arc::clone(&submission),
                span: piece.start as usize..piece.end as usize,
                is_command,
                before,
            });
            before += usize::from(!is_command);
        }
        self.pump();
    }

    /// Runs one statement or command that was already cut out.
    pub fn submit_piece(&mut self, text: &str, is_command: bool) {
        self.queue.push_back(Waiting {
            submission: text.into(),
            span: 0..text.len(),
            is_command,
            before: 0,
        });
        self.pump();
    }

    /// Stops what runs. What waited after it in the same submission goes back into the composer.
    pub fn cancel(&mut self) -> bool {
        let Some(busy) = &self.busy else {
            return false;
        };
        match busy.doing {
            Doing::Asking => self.answer(false),
            _ => self.worker.control.cancel(u64::from(busy.entry)),
        }
        true
    }

    /// Answers the question.
    pub fn answer(&mut self, yes: bool) {
        if self.question.take().is_none() {
            return;
        }
        let Some(busy) = self.busy.take() else {
            return;
        };
        if yes {
            self.start_statement(busy);
            return;
        }
        self.not_run(&busy);
        self.pump();
    }

    /// Ends an entry that the user did not want run; its text goes back.
    pub(super) fn not_run(&mut self, busy: &Busy) {
        let mut page = Page::new();
        page.say(Tone::Heading, "It was not run. Nothing was changed.");
        page.gap();
        page.say(Tone::Faint, "The statement is back in the composer.");
        self.end_entry(busy.entry, State::NotRun, Content::Page(page));
        self.give_back(&busy.waiting, None, Vec::new());
    }

    pub(super) fn new_entry(&mut self, text: &str, is_statement: bool) -> usize {
        let number = self.entries.last().map_or(1, |last| last.number + 1);
        // The view follows what runs.
        self.entries.push(Entry {
            number,
            text: text.trim().to_string(),
            is_statement,
            state: State::Waiting,
            content: Content::Nothing,
            started: None,
            took: None,
            outcome: None,
            complete: Arc::default(),
        });
        self.current = self.entries.len() - 1;
        self.current
    }

    /// An entry that is finished as it is made.
    pub(crate) fn finished_entry(&mut self, text: &str, content: Content) {
        let at = self.new_entry(text, false);
        let number = self.entries[at].number;
        self.end_entry(number, State::Done, content);
    }

    pub(super) fn end_entry(&mut self, number: u32, state: State, content: Content) {
        if let Some(at) = self.place_of(number) {
            let entry = &mut self.entries[at];
            entry.state = state;
            entry.content = content;
            entry.complete.store(true, Ordering::Release);
        }
    }

    /// Starts what waits first, unless something runs or is asked.
    pub(super) fn pump(&mut self) {
        while self.busy.is_none() && self.question.is_none() {
            let Some(next) = self.queue.pop_front() else {
                return;
            };
            let text = next.submission[next.span.clone()].to_string();
            if next.is_command {
                self.start_command(next, &text);
            } else {
                self.prepare_statement(next, text);
            }
        }
    }

    pub(super) fn start_command(&mut self, waiting: Waiting, text: &str) {
        let parsed = match command::parse(text) {
            Ok(parsed) => parsed,
            Err(error) => {
                let at = self.new_entry(text, false);
                let number = self.entries[at].number;
                self.fail(number, &waiting, failure::of_command(&error));
                return;
            }
        };
        if let Err(failure) = self.command(waiting, text, parsed) {
            let (waiting, failure) = *failure;
            let at = self.new_entry(text, false);
            let number = self.entries[at].number;
            self.fail(number, &waiting, failure);
        }
    }

    /// Runs a command; those that only change the view are answered in `commands`.
    pub(super) fn command(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        match parsed.command.name {
            "tables" | "views" | "indexes" | "about" | "definition" | "figures" | "sample" => {
                let at = self.new_entry(text, false);
                self.entries[at].state = State::Running;
                self.await_catalog(
                    Busy {
                        entry: self.entries[at].number,
                        statement: String::new(),
                        waiting,
                        doing: Doing::Asking,
                    },
                    Then::Command(parsed),
                );
            }
            "again" => match self.statement_of(parsed.argument(0)) {
                Ok(statement) => {
                    let is_command = statement.starts_with('/') && !statement.starts_with("/*");
                    self.queue.push_front(Waiting {
                        span: 0..statement.len(),
                        submission: statement.into(),
                        is_command,
                        before: 0,
                    });
                }
                Err(failure) => return Err(Box::new((waiting, failure))),
            },
            "writes" => return self.set_writes(waiting, text, &parsed),
            _ => {
                if let Err(failure) = self.view_command(&parsed, text) {
                    return Err(Box::new((waiting, failure)));
                }
            }
        }
        Ok(())
    }

    /// The table that a command names, quoted for a statement; nearly right names are offered.
    pub(super) fn known_table(&self, parsed: &Parsed, name: &str) -> Result<String, Failure> {
        if let Some(object) = self.catalog.table(name) {
            let quoted = self.dialect.quote_name(&object.name);
            return Ok(if self.catalog.needs_no_schema(object) {
                quoted
            } else {
                format!("{}.{quoted}", self.dialect.quote_name(&object.schema))
            });
        }
        Err(self.no_such_object(parsed, name))
    }

    pub(super) fn no_such_object(&self, parsed: &Parsed, name: &str) -> Failure {
        let names = self
            .catalog
            .objects
            .iter()
            .filter(|o| !o.helper)
            .map(|o| o.name.as_str());
        let span = parsed
            .arguments
            .first()
            .map_or(0..0, |part| part.span.clone());
        failure::of_command(&command::CommandError {
            message: format!("There is no table or view {name}."),
            span,
            nearest: idle_tide_lang::correct::nearest(name, names, 4),
        })
    }

    /// The statement of an entry by number, or of the one shown.
    pub(crate) fn statement_of(&self, number: Option<&str>) -> Result<String, Failure> {
        let entry = match number {
            Some(number) => {
                let found = number.parse().ok().and_then(|n: u32| self.place_of(n));
                found.and_then(|at| self.entries.get(at)).ok_or_else(|| {
                    failure::plain(format!(
                        "There is no entry {number}; there are {} so far.",
                        self.entries.len()
                    ))
                })?
            }
            None => self
                .entry()
                .ok_or_else(|| failure::plain("There is no entry yet."))?,
        };
        if entry.text == "arrival" {
            return Err(failure::plain(
                "The arrival card is no statement. Show an entry that is one, or name its number.",
            ));
        }
        Ok(entry.text.clone())
    }

    pub(super) fn set_writes(
        &mut self,
        waiting: Waiting,
        text: &str,
        parsed: &Parsed,
    ) -> Result<(), Box<(Waiting, Failure)>> {
        let Some(word) = parsed.argument(0) else {
            let words = arrival::writes_words(self.writes, &self.bearings.access);
            self.say(format!("This session {words}."), Tone::Plain);
            return Ok(());
        };
        let wanted = match word.to_ascii_lowercase().as_str() {
            "free" => Writes::Free,
            "none" => Writes::None,
            _ => Writes::Ask,
        };
        if let (Access::ReadOnly(why), false) = (&self.bearings.access, wanted == Writes::None) {
            let failure = failure::plain(why.clone());
            return Err(Box::new((waiting, failure)));
        }
        let at = self.new_entry(text, false);
        self.entries[at].state = State::Running;
        self.busy = Some(Busy {
            entry: self.entries[at].number,
            statement: String::new(),
            waiting,
            doing: Doing::Refusing(wanted),
        });
        self.worker.send(Job::RefuseWrites(wanted == Writes::None));
        Ok(())
    }

    pub(super) fn prepare_statement(&mut self, waiting: Waiting, text: String) {
        let about = summary(&text, self.dialect);
        let at = self.new_entry(&text, true);
        let entry = self.entries[at].number;
        let busy = Busy {
            entry,
            statement: text,
            waiting,
            doing: Doing::Statement(about.effect),
        };
        let writable = self.bearings.access == Access::Writable;
        if let (Some(sweep), Writes::Ask, true) = (about.sweep, self.writes, writable) {
            self.entries[at].state = State::Asking;
            if self.needs_catalog() {
                self.await_catalog(busy, Then::Guard(sweep));
            } else {
                self.count_for(busy, sweep);
            }
            return;
        }
        self.start_statement(busy);
    }

    /// Whether what is known of the catalog may be behind: it is read again only where results are kept.
    pub(super) fn needs_catalog(&self) -> bool {
        !self.catalog_known || self.stream.is_some()
    }

    /// Reads the catalog and goes on with `then`.
    pub(super) fn await_catalog(&mut self, mut busy: Busy, then: Then) {
        let limit = match then {
            Then::Command(_) => COUNTING,
            _ => Duration::ZERO,
        };
        busy.doing = Doing::Catalog(then);
        self.busy = Some(busy);
        self.worker.send(Job::Catalog { limit });
    }

    /// Has the rows counted that a sweep would take.
    pub(super) fn count_for(&mut self, mut busy: Busy, sweep: Sweep) {
        let counts = guard::counts(&sweep, &self.catalog, self.dialect);
        self.worker.send(Job::Count {
            ticket: u64::from(busy.entry),
            questions: counts.iter().map(|count| count.query.clone()).collect(),
        });
        busy.doing = Doing::Counting(sweep, counts);
        self.busy = Some(busy);
    }

    /// Begins `/figures` or `/sample`.
    pub(super) fn start_reading(&mut self, mut busy: Busy, parsed: &Parsed) {
        let name = parsed.argument(0).unwrap_or_default();
        match self.known_table(parsed, name) {
            Ok(table) => busy.statement = format!("select * from {table}"),
            Err(failure) => {
                let entry = busy.entry;
                self.fail(entry, &busy.waiting, failure);
                return;
            }
        }
        busy.doing = Doing::Statement(Effect::Read);
        if parsed.command.name == "sample" {
            let count = parsed.argument(1).unwrap_or("10");
            busy.statement.push_str(&format!(" limit {count}"));
        } else {
            busy.doing = Doing::Figures(Arc::default());
        }
        self.start_statement(busy);
    }

    pub(super) fn start_statement(&mut self, mut busy: Busy) {
        let Some(at) = self.place_of(busy.entry) else {
            return;
        };
        if matches!(busy.doing, Doing::Asking | Doing::Counting(..)) {
            busy.doing = Doing::Statement(summary(&busy.statement, self.dialect).effect);
        }
        let ticket = u64::from(busy.entry);
        let sink: Box<dyn Sink + Send> = match (&busy.doing, &mut self.stream) {
            (Doing::Figures(columns), _) => Box::new(IntoFigures {
                columns: Arc::clone(columns),
            }),
            (_, Some(make)) => make(),
            (_, None) => {
                let set = Arc::new(RwLock::new(ResultSet::of_rows(Vec::new(), Vec::new())));
                self.entries[at].content = Content::Rows(Sheet::new(Arc::clone(&set)));
                Box::new(IntoResult {
                    set,
                    budget: Arc::clone(&self.memory),
                    own_limit: RESULT_MEMORY,
                    ticket,
                    notify: Arc::clone(&self.notify),
                })
            }
        };
        self.entries[at].state = State::Running;
        self.entries[at].started = Some(Instant::now());
        self.worker.send(Job::Run {
            ticket,
            statement: busy.statement.clone(),
            sink,
        });
        self.busy = Some(busy);
    }

    /// Ends an entry as refused; its text and the rest of its submission go back into the composer.
    pub(super) fn fail(&mut self, number: u32, waiting: &Waiting, failure: Failure) {
        let corrections = failure.corrections.clone();
        let place = failure.place.clone();
        self.end_entry(number, State::Failed, Content::Failure(failure));
        self.give_back(waiting, place, corrections);
    }

    pub(super) fn give_back(
        &mut self,
        waiting: &Waiting,
        place: Option<std::ops::Range<usize>>,
        corrections: Vec<Correction>,
    ) {
        // The rest of the submission does not run.
        self.queue
            .retain(|other| !Arc::ptr_eq(&other.submission, &waiting.submission));
        self.returned = Some(Returned {
            text: waiting.submission[waiting.span.start..]
                .trim_end()
                .to_string(),
            place,
            corrections,
        });
    }
}
