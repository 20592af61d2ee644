//! What is submitted, cut into pieces, run one after the other; what is asked; what goes back.

use idle_tide_lang::join;
use idle_tide_lang::parameter::{fill, is_of_users, parameters};

use super::*;

impl Desk {
    /// Takes what was typed: statements and commands, run in order. Secrets in it are covered at once.
    pub fn submit(&mut self, text: &str) {
        self.notice = None;
        let typed: Arc<str> = match elsewhere::bare_word(text) {
            Some(command) => command.into(),
            None => text.into(),
        };
        let (submission, given) = self.cover(&typed);
        if let Err(error) = self.history.add(&self.here.source, &submission) {
            self.say(
                format!("The statement could not be kept for later sessions: {error}."),
                Tone::Care,
            );
        }
        let mut before = 0;
        for piece in pieces(&submission, self.here.dialect)
            .iter()
            .filter(|piece| piece.has_code)
        {
            let is_command = piece.kind == PieceKind::Command;
            self.here.queue.push_back(Waiting {
                submission: Arc::clone(&submission),
                span: piece.start as usize..piece.end as usize,
                is_command,
                before,
                given: Arc::clone(&given),
            });
            before += usize::from(!is_command);
        }
        self.pump();
    }

    /// The text without its secrets, and these.
    fn cover(&mut self, typed: &str) -> (Arc<str>, Arc<Vec<(String, SecretString)>>) {
        let mut text = typed.to_string();
        if typed.trim_start().starts_with('/') && typed.contains("://") {
            text = without_password(typed);
            if text != typed {
                let address = typed.split_whitespace().find(|part| part.contains("://"));
                let address = address.map(|a| a.trim_matches(['\'', '"']));
                let source = address.map(idle_tide_engines::Source::parse);
                self.spare = source.and_then(|source| source.ok()?.password());
            }
            return (text.into(), Arc::default());
        }
        match secret::cover(&text, self.here.dialect) {
            Some(covered) => {
                let given = covered
                    .secrets
                    .into_iter()
                    .map(|(name, value)| (name, value.into()));
                (covered.text.into(), Arc::new(given.collect()))
            }
            None => (text.into(), Arc::default()),
        }
    }

    /// Runs one statement or command that was already cut out.
    pub fn submit_piece(&mut self, text: &str, is_command: bool) {
        let (text, given) = self.cover(text);
        self.here.queue.push_back(Waiting {
            given,
            ..Waiting::alone(&text, is_command)
        });
        self.pump();
    }

    /// Stops what runs. What waited after it in the same submission goes back into the composer.
    pub fn cancel(&mut self) -> bool {
        if !self.asking.is_empty() {
            self.answer_secret(None);
            return true;
        }
        let Some(busy) = &self.here.busy else {
            return self.cancel_opening();
        };
        match busy.doing {
            Doing::Asking | Doing::Closing | Doing::Leaving(_) | Doing::Elsewhere => {
                self.answer(false)
            }
            _ => self.here.worker.control.cancel(u64::from(busy.entry)),
        }
        true
    }

    /// Answers the question.
    pub fn answer(&mut self, yes: bool) {
        if self.here.question.take().is_none() {
            return;
        }
        let Some(busy) = self.here.busy.take() else {
            return;
        };
        match (yes, busy.doing) {
            (true, Doing::Closing) => {
                self.end_entry(busy.entry, State::Done, Content::Nothing);
                self.close_here();
            }
            (true, Doing::Leaving(to)) => {
                let (origin, how) = *to;
                if let Some(at) = self.place_of(busy.entry) {
                    self.entries[at].state = State::Running;
                }
                self.begin_opening(busy.entry, busy.waiting, origin, how);
            }
            (true, Doing::Elsewhere) => {
                let is_command =
                    busy.statement.starts_with('/') && !busy.statement.starts_with("/*");
                self.end_entry(busy.entry, State::Done, Content::Nothing);
                self.here
                    .queue
                    .push_front(Waiting::alone(&busy.statement, is_command));
                self.pump();
            }
            (true, doing) => self.start_statement(Busy { doing, ..busy }),
            (false, doing) => {
                self.not_run(&Busy { doing, ..busy });
                self.pump();
            }
        }
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
            session: self.here.number,
            place: (
                self.here.source.clone(),
                self.here.bearings.database.clone(),
            ),
            text: text.trim().to_string(),
            thing: self.here.dialect.row(),
            is_statement,
            state: State::Waiting,
            content: Content::Nothing,
            started: None,
            took: None,
            outcome: None,
            continues: None,
            came_from: None,
            follows: Vec::new(),
            complete: Arc::default(),
        });
        if !self.behind {
            self.current = self.entries.len() - 1;
        }
        self.entries.len() - 1
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
        while self.here.busy.is_none()
            && self.here.question.is_none()
            && self.opening.is_none()
            && self.filling.is_none()
        {
            let Some(next) = self.here.queue.pop_front() else {
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
            "open" | "reopen" | "back" | "close" | "use" => {
                return self.source_command(waiting, text, &parsed);
            }
            "change-password" => return self.ask_new_password(waiting, text),
            "plan" if !self.here.is_nowhere() => return self.start_plan(waiting, text, &parsed),
            "stages" if !self.here.is_nowhere() => {
                return self.start_stages(waiting, text, &parsed);
            }
            "practice" => return self.practice(waiting, text, &parsed),
            "tables" | "views" | "indexes" | "about" | "definition" | "figures" | "sample"
            | "databases" | "roles" | "access" | "schemas" | "sequences" | "functions" | "find"
            | "links" | "route" | "plan" | "follow" | "collections" | "shape" | "stages"
                if self.here.is_nowhere() =>
            {
                return Err(Box::new((waiting, failure::nowhere())));
            }
            "databases" | "roles" | "access" => {
                let what = match parsed.command.name {
                    "databases" => OwnListing::Databases(parsed.has("full")),
                    "roles" => OwnListing::Roles(parsed.has("full")),
                    _ => OwnListing::Access(parsed.argument(0).map(str::to_string)),
                };
                let pattern = match parsed.command.name {
                    "access" => None,
                    _ => parsed.argument(0).map(str::to_string),
                };
                let at = self.new_entry(text, false);
                self.entries[at].state = State::Running;
                let entry = self.entries[at].number;
                self.here.busy = Some(Busy {
                    entry,
                    statement: String::new(),
                    waiting,
                    doing: Doing::Listing(pattern),
                    secrets: Vec::new(),
                });
                self.here.worker.send(Job::Listing {
                    ticket: u64::from(entry),
                    what,
                });
            }
            "tables" | "views" | "indexes" | "schemas" | "sequences" | "functions" | "find"
            | "links" | "route" | "about" | "definition" | "figures" | "sample" | "collections"
            | "shape" => {
                let at = self.new_entry(text, false);
                self.entries[at].state = State::Running;
                self.await_catalog(
                    Busy {
                        entry: self.entries[at].number,
                        statement: String::new(),
                        waiting,
                        doing: Doing::Asking,
                        secrets: Vec::new(),
                    },
                    Then::Command(parsed),
                );
            }
            "again" => match self.statement_of(parsed.argument(0)) {
                Ok(statement) => self.once_more(waiting, text, &parsed, statement),
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

    /// Runs a statement again; asked about where it ran somewhere else before.
    fn once_more(&mut self, waiting: Waiting, text: &str, parsed: &Parsed, statement: String) {
        let entry = match parsed.argument(0).and_then(|n| n.parse().ok()) {
            Some(number) => self.place_of(number),
            None => Some(self.current),
        };
        let here = (
            self.here.source.clone(),
            self.here.bearings.database.clone(),
        );
        let there = entry.map(|at| {
            (
                self.entries[at].place.clone(),
                self.entries[at].is_statement,
            )
        });
        let is_command = statement.starts_with('/') && !statement.starts_with("/*");
        match there {
            Some((there, true)) if there != here => {
                let place = |(source, database): &(String, String)| match database.as_str() {
                    "" => source.clone(),
                    database => format!("{database} on {source}"),
                };
                let mut page = Page::new();
                page.say(
                    Tone::Heading,
                    format!(
                        "This ran in {}; you are in {} now.",
                        place(&there),
                        place(&here)
                    ),
                );
                page.gap();
                page.line(Line::new().and(
                    Tone::Plain,
                    statement.lines().next().unwrap_or_default().to_string(),
                ));
                let at = self.new_entry(text, false);
                self.entries[at].state = State::Asking;
                self.entries[at].content = Content::Page(page.clone());
                self.here.question = Some(Question {
                    page,
                    yes: format!("runs it in {}", place(&here)),
                    no: "leaves it".into(),
                });
                self.here.busy = Some(Busy {
                    entry: self.entries[at].number,
                    statement,
                    waiting,
                    doing: Doing::Elsewhere,
                    secrets: Vec::new(),
                });
            }
            _ => self
                .here
                .queue
                .push_front(Waiting::alone(&statement, is_command)),
        }
    }

    /// The table that a command names, quoted for a statement; nearly right names are offered.
    pub(super) fn known_table(&self, parsed: &Parsed, name: &str) -> Result<String, Failure> {
        if let Some(object) = self.here.catalog.table(name) {
            return Ok(join::written(object, &self.here.catalog, self.here.dialect));
        }
        Err(self.no_such_object(parsed, name))
    }

    /// Says that there is no object of the name that one of the arguments is.
    pub(super) fn no_such_object(&self, parsed: &Parsed, name: &str) -> Failure {
        let objects = self.here.catalog.objects.iter();
        let names = objects.filter(|o| !o.helper).map(|o| o.name.as_str());
        let span = parsed
            .arguments
            .iter()
            .find(|part| part.text == name)
            .map_or(0..0, |part| part.span.clone());
        let what = match parsed.command.name {
            "about" | "definition" => "object",
            _ if self.here.dialect.is_flow() => "collection",
            _ => "table or view",
        };
        failure::of_command(&command::CommandError {
            message: format!("There is no {what} {name} here."),
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
        if entry.text == "arrival" || entry.text.starts_with("/change-password") {
            return Err(failure::plain(
                "This entry is no statement. Show one that is, or name its number.",
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
            let words = arrival::writes_words(self.here.writes, &self.here.bearings.access);
            self.say(format!("This session {words}."), Tone::Plain);
            return Ok(());
        };
        let wanted = match word.to_ascii_lowercase().as_str() {
            "free" => Writes::Free,
            "none" => Writes::None,
            _ => Writes::Ask,
        };
        if let (Access::ReadOnly(why), false) = (&self.here.bearings.access, wanted == Writes::None)
        {
            let failure = failure::plain(why.clone());
            return Err(Box::new((waiting, failure)));
        }
        let at = self.new_entry(text, false);
        self.entries[at].state = State::Running;
        self.here.busy = Some(Busy {
            entry: self.entries[at].number,
            statement: String::new(),
            waiting,
            doing: Doing::Refusing(wanted),
            secrets: Vec::new(),
        });
        self.here
            .worker
            .send(Job::RefuseWrites(wanted == Writes::None));
        Ok(())
    }

    pub(super) fn prepare_statement(&mut self, waiting: Waiting, text: String) {
        let at = self.new_entry(&text, true);
        let entry = self.entries[at].number;
        if self.here.is_nowhere() {
            return self.fail(entry, &waiting, failure::nowhere());
        }
        let busy = Busy {
            entry,
            statement: text,
            secrets: waiting.given.to_vec(),
            waiting,
            doing: Doing::Asking,
        };
        let mut missing = parameters(&busy.statement, self.here.dialect);
        missing.retain(|p| busy.secrets.iter().all(|(given, _)| *given != p.name));
        if self.here.bearings.server.is_none() && is_of_users(&busy.statement, self.here.dialect) {
            // A file has no users, and says so without a password.
            missing.clear();
        }
        if missing.is_empty() {
            self.fill_and_check(busy);
        } else {
            self.entries[at].state = State::Asking;
            self.ask_parameters(Filling { busy, missing });
        }
    }

    /// Puts parameters in their places and goes on to the guard.
    pub(super) fn fill_and_check(&mut self, mut busy: Busy) {
        if !busy.secrets.is_empty() {
            let secrets = &busy.secrets;
            busy.statement = fill(&busy.statement, self.here.dialect, &|name| {
                let found = secrets.iter().find(|(given, _)| given == name);
                found.map(|(_, literal)| literal.expose_secret().to_string())
            });
        }
        let about = summary(&busy.statement, self.here.dialect);
        busy.doing = Doing::Statement(about.effect);
        let writable = self.here.bearings.access == Access::Writable;
        if let (Some(sweep), Writes::Ask, true) = (about.sweep, self.here.writes, writable) {
            if let Some(at) = self.place_of(busy.entry) {
                self.entries[at].state = State::Asking;
            }
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
        !self.here.catalog_known || self.stream.is_some()
    }

    /// Reads the catalog and goes on with `then`.
    pub(super) fn await_catalog(&mut self, mut busy: Busy, then: Then) {
        let limit = match then {
            Then::Command(_) => COUNTING,
            _ => Duration::ZERO,
        };
        let define = match &then {
            Then::Command(parsed) if matches!(parsed.command.name, "about" | "definition") => {
                Some(parsed.argument(0).unwrap_or_default().to_string())
            }
            _ => None,
        };
        busy.doing = Doing::Catalog(then);
        self.here.busy = Some(busy);
        self.here.send_catalog(self.catalog_job(limit, define));
    }

    /// Has the rows counted that a sweep would take.
    pub(super) fn count_for(&mut self, mut busy: Busy, sweep: Sweep) {
        let counts = guard::counts(&sweep, &self.here.catalog, self.here.dialect);
        self.here.worker.send(Job::Count {
            ticket: u64::from(busy.entry),
            questions: counts.iter().map(|count| count.query.clone()).collect(),
        });
        busy.doing = Doing::Counting(sweep, counts);
        self.here.busy = Some(busy);
    }

    /// Begins `/figures` or `/sample`.
    pub(super) fn start_reading(&mut self, mut busy: Busy, parsed: &Parsed) {
        let name = parsed.argument(0).unwrap_or_default();
        match self.known_table(parsed, name) {
            Ok(table) => {
                busy.statement = format!(
                    "{} {table}",
                    if self.here.dialect.is_flow() {
                        "from"
                    } else {
                        "select * from"
                    }
                );
            }
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
        } else if let Some(object) = self.here.catalog.table(name) {
            let table = self.here.catalog.shortest_name(object);
            let rows = object.rows.unwrap_or(0);
            // Of a large table a sample does; the server takes it where it can.
            if rows > FIGURES_OF && !object.is_view() && !parsed.has("all") {
                let share = FIGURES_OF as f64 / rows as f64;
                busy.statement.push_str(&match self.here.dialect.family {
                    Family::Postgres => format!(" tablesample system ({:.4})", share * 100.0),
                    Family::Mariadb => format!(" where rand() < {share:.6}"),
                    Family::Documents => format!(" sample {FIGURES_OF}"),
                    Family::Sqlite => {
                        format!(" where abs(random() % 1000000) < {:.0}", share * 1e6)
                    }
                });
                self.say(
                    format!(
                        "From a sample: about {:.1} % of {} rows. /figures {name} --all reads every row.",
                        share * 100.0,
                        idle_tide_draw::picture::grouped(rows)
                    ),
                    Tone::Care,
                );
            }
            busy.doing = Doing::Figures(Arc::default(), table);
        }
        self.start_statement(busy);
    }

    pub(super) fn start_statement(&mut self, mut busy: Busy) {
        let Some(at) = self.place_of(busy.entry) else {
            return;
        };
        if matches!(busy.doing, Doing::Asking | Doing::Counting(..)) {
            busy.doing = Doing::Statement(summary(&busy.statement, self.here.dialect).effect);
        }
        let ticket = u64::from(busy.entry);
        let sink: Box<dyn Sink + Send> = match (&busy.doing, &mut self.stream) {
            (Doing::Figures(columns, _), _) => Box::new(IntoFigures {
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
        if self.here.dialect.is_flow() {
            // A flow may read what earlier entries gave.
            let sets: std::collections::HashMap<u32, Arc<RwLock<ResultSet>>> = self
                .entries
                .iter()
                .filter_map(|e| Some((e.number, Arc::clone(&e.sheet()?.set))))
                .collect();
            self.here
                .worker
                .send(Job::Earlier(Arc::new(move |number, take| {
                    earlier(&sets, number, take)
                })));
        }
        self.entries[at].state = State::Running;
        self.entries[at].started = Some(Instant::now());
        self.here.worker.send(Job::Run {
            ticket,
            statement: busy.statement.clone(),
            sink,
        });
        self.here.busy = Some(busy);
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
        self.here
            .queue
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

/// Hands over the rows of an earlier entry as documents.
fn earlier(
    sets: &std::collections::HashMap<u32, Arc<RwLock<ResultSet>>>,
    number: u32,
    take: &mut dyn FnMut(idle_tide_core::Document) -> bool,
) -> Result<(), String> {
    let Some(set) = sets.get(&number) else {
        return Err(format!(
            "Entry {number} has no rows. F3 shows the entries and their numbers."
        ));
    };
    let set = crate::sheet::read(set);
    let labels = idle_tide_core::column_labels(set.columns());
    for at in 0..set.batches() {
        let (_, batch) = set.batch(at).map_err(|error| error.to_string())?;
        for row in batch.rows() {
            let document = match row.document() {
                Some(bytes) => idle_tide_core::document::bson::tree(bytes),
                None => labels
                    .iter()
                    .zip(row.values())
                    .filter_map(|(label, value)| Some((label.as_str(), value.to_datum()?)))
                    .collect(),
            };
            if !take(document) {
                return Ok(());
            }
        }
    }
    Ok(())
}
