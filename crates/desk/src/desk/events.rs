//! What has happened in the connection's thread and in the background, and what it means for entries.

use idle_tide_lang::remark::remarks;

use super::*;

impl Desk {
    /// Answers an event.
    pub fn handle(&mut self, event: Event) {
        match event {
            Event::Of(number, event) => return self.handle_of(number, *event),
            Event::Opened(number, opened) => self.opened(number, opened),
            Event::Asks(number, asked) => self.asks(number, asked),
            Event::PasswordChanged(done) => self.password_changed(done),
            Event::Listed { ticket, query } => self.listed(ticket, query),
            Event::NoBeside => self.no_beside(),
            Event::Found(found, answers) => self.found = (found, answers),
            Event::Another {
                ticket,
                before,
                set,
            } => self.another_result(ticket, *before, set),
            Event::Rows { ticket } => self.rows_arrived(ticket),
            Event::Done {
                ticket,
                result,
                took,
                bearings,
            } => {
                let before = std::mem::replace(&mut self.here.bearings, *bearings);
                self.statement_ended(ticket, result, took, before.transaction.is_some());
            }
            Event::Names(names) => {
                // What is known in full stays until all of it is there anew.
                if !self.here.catalog_known {
                    self.here.catalog = Arc::from(names);
                }
            }
            Event::Catalog(read) => self.catalog_read(read),
            Event::Counted { ticket, counts } => self.counted(ticket, counts),
            Event::Planned {
                ticket,
                plan,
                took,
                bearings,
            } => self.planned(ticket, plan, took, *bearings),
            Event::Staged {
                ticket,
                stages,
                bearings,
            } => self.staged(ticket, stages, *bearings),
            Event::Refusing(done) => self.writes_set(done),
            Event::Arranged {
                entry,
                order,
                filter,
                rows,
            } => {
                self.arranged(entry, order, filter, rows);
            }
            Event::Figures {
                entry,
                column,
                figures,
            } => {
                if let Some(watched) = &mut self.watched
                    && (watched.entry, watched.column) == (entry, column)
                {
                    watched.figures = Some(*figures);
                }
            }
            Event::Exported(done) => {
                self.exporting = false;
                self.notice = Some(match done {
                    Ok(text) => Notice {
                        text,
                        tone: Tone::Active,
                    },
                    Err(text) => Notice {
                        text,
                        tone: Tone::Danger,
                    },
                });
            }
        }
        self.pump();
    }

    /// Answers an event of a session, which may be in the background.
    fn handle_of(&mut self, number: u32, event: Event) {
        if self.here.number == number {
            return self.handle(event);
        }
        let Some(at) = self
            .others
            .iter()
            .position(|session| session.number == number)
        else {
            // It was closed.
            return;
        };
        std::mem::swap(&mut self.here, &mut self.others[at]);
        self.behind = true;
        let opening = self.opening.take();
        self.handle(event);
        self.opening = opening;
        self.behind = false;
        std::mem::swap(&mut self.here, &mut self.others[at]);
    }

    /// A further result of a statement: an entry of its own.
    fn another_result(&mut self, ticket: u64, before: Outcome, set: Arc<RwLock<ResultSet>>) {
        // Further results carry the statement's ticket; the latest entry of it is the one that ended.
        let Some(at) = self
            .entries
            .iter()
            .rposition(|e| e.number == ticket as u32 || e.continues == Some(ticket as u32))
        else {
            return;
        };
        let (number, text) = (self.entries[at].number, self.entries[at].text.clone());
        self.entries[at].outcome = Some(before);
        self.entries[at].took = self.entries[at].started.map(|started| started.elapsed());
        let content = self.entries[at].content.clone();
        self.end_entry(number, State::Done, content);
        let new = self.new_entry(&text, true);
        self.entries[new].continues = Some(ticket as u32);
        self.entries[new].state = State::Running;
        self.entries[new].started = Some(Instant::now());
        self.entries[new].content = Content::Rows(Sheet::new(set));
    }

    /// The entry that takes what comes of a statement now.
    fn latest_of(&self, ticket: u64) -> Option<usize> {
        let number = ticket as u32;
        self.entries
            .iter()
            .rposition(|e| e.number == number || e.continues == Some(number))
    }

    /// The statement of a list came.
    fn listed(&mut self, ticket: u64, query: Result<idle_tide_engines::Query, String>) {
        let waits = |busy: &mut Busy| {
            u64::from(busy.entry) == ticket && matches!(busy.doing, Doing::Listing(_))
        };
        let Some(mut busy) = self.here.busy.take_if(waits) else {
            return;
        };
        match query {
            Ok(query) => {
                if let Some(note) = query.note {
                    self.say(note, Tone::Faint);
                }
                busy.statement = match &busy.doing {
                    Doing::Listing(Some(pattern)) => {
                        lists::narrowed(&query.sql, pattern, self.here.dialect)
                    }
                    _ => query.sql,
                };
                busy.doing = Doing::Statement(Effect::Read);
                self.start_statement(busy);
            }
            Err(words) => self.fail(busy.entry, &busy.waiting, failure::plain(words)),
        }
    }

    pub(super) fn rows_arrived(&mut self, ticket: u64) {
        if let Some(at) = self.latest_of(ticket)
            && let Content::Rows(sheet) = &mut self.entries[at].content
        {
            sheet.meet_columns();
        }
        let disk = |entry: &Entry| entry.sheet().map_or(0, |sheet| read(&sheet.set).on_disk());
        let used: u64 = self.entries.iter().map(disk).sum();
        if used <= DISK {
            return;
        }
        // The oldest result that is neither shown nor arriving gives up its rows.
        let current = self.current;
        let oldest = self.entries.iter().enumerate().position(|(at, entry)| {
            at != current && entry.state != State::Running && disk(entry) > 0
        });
        match oldest.and_then(|at| self.entries[at].sheet_mut()) {
            Some(sheet) => {
                let columns = read(&sheet.set).columns().to_vec();
                let empty = ResultSet::of_rows(columns, Vec::new());
                sheet.set = Arc::new(RwLock::new(empty));
                sheet.view.rows = None;
                sheet.given_up = true;
            }
            None => {
                self.here.worker.control.cancel(ticket);
                self.say("Results may use 2.0 GB of disk, and this one does: it was stopped there. Its rows so far are kept.", Tone::Care);
            }
        }
    }

    pub(super) fn statement_ended(
        &mut self,
        ticket: u64,
        result: Result<Outcome, EngineError>,
        took: Duration,
        in_transaction: bool,
    ) {
        let number = ticket as u32;
        if self
            .here
            .busy
            .as_ref()
            .is_none_or(|busy| busy.entry != number)
        {
            return;
        }
        let (Some(mut busy), Some(at)) = (self.here.busy.take(), self.latest_of(ticket)) else {
            return;
        };
        let number = self.entries[at].number;
        busy.entry = number;
        self.entries[at].took = Some(took);
        let kept = match &self.entries[at].content {
            Content::Rows(sheet) if !sheet.labels.is_empty() => Some(sheet.clone()),
            _ => None,
        };
        let effect = match busy.doing {
            Doing::Statement(effect) => effect,
            _ => Effect::Read,
        };
        self.here.lost |=
            matches!(&result, Err(e) if matches!(e.fault, Fault::Lost | Fault::NotSent));
        match result {
            Ok(outcome) => {
                self.remember_setting(&busy, effect);
                let content = match (&busy.doing, kept) {
                    (Doing::Figures(gathered, table), _) => {
                        let gathered = gathered.read();
                        let set = lists::figures(&gathered);
                        self.here.figures.insert(table.clone(), gathered.clone());
                        Content::Rows(Sheet::new(Arc::new(RwLock::new(set))))
                    }
                    (_, Some(sheet)) => Content::Rows(sheet),
                    _ if outcome.returns_rows => Content::Nothing,
                    _ => Content::Page(self.message(&busy.statement, &outcome)),
                };
                let mut content = content;
                match (&mut content, outcome.notes.as_slice()) {
                    (Content::Page(page), notes @ [_, ..]) if self.stream.is_none() => {
                        page.gap();
                        for note in notes {
                            page.say(Tone::Care, note.clone());
                        }
                    }
                    (_, [note]) => self.say(note.clone(), Tone::Care),
                    (_, [note, more @ ..]) => {
                        self.say(format!("{note} (and {} more)", more.len()), Tone::Care)
                    }
                    _ => {}
                }
                if let (Effect::Read, Content::Rows(_), true) =
                    (effect, &content, self.stream.is_none())
                {
                    let dialect = self.here.dialect;
                    let remarks = remarks(&busy.statement, &self.here.catalog, dialect);
                    if let Some(remark) = remarks.said.into_iter().next() {
                        let way = remark.edit.filter(|_| !dialect.is_flow());
                        let way = way.map(|e| format!(" {} takes each once.", e.text));
                        self.say(
                            format!("{}{}", remark.words, way.unwrap_or_default()),
                            Tone::Care,
                        );
                    }
                }
                if effect == Effect::Write && matches!(content, Content::Page(_)) {
                    let target = summary(&busy.statement, self.here.dialect).target;
                    self.here.check = target.map(|table| (number, table));
                }
                self.entries[at].outcome = Some(outcome);
                self.end_entry(number, State::Done, content);
            }
            Err(error) if error.fault == Fault::Cancelled => {
                let content = kept.map_or_else(
                    || {
                        let mut page = Page::new();
                        page.say(Tone::Heading, "It was stopped. Nothing was changed.");
                        Content::Page(page)
                    },
                    Content::Rows,
                );
                self.end_entry(number, State::Stopped, content);
                let rest = busy.waiting.submission[busy.waiting.span.end..]
                    .trim()
                    .to_string();
                self.here
                    .queue
                    .retain(|other| !Arc::ptr_eq(&other.submission, &busy.waiting.submission));
                if !rest.is_empty() {
                    self.returned = Some(Returned {
                        text: rest,
                        ..Returned::default()
                    });
                }
            }
            Err(error) if self.here.lost => self.lost(&busy, &error, in_transaction, kept),
            Err(error) if self.needs_catalog() => {
                // What is nearest to a slip is known only with the catalog.
                self.await_catalog(busy, Then::Failure(error));
            }
            Err(error) => self.statement_failed(&busy, &error),
        }
        if effect != Effect::Read {
            self.here.figures.clear();
        }
        // Rows counted before would be wrong now.
        // After each write to a large database the whole catalog would be too much.
        let too_large = effect == Effect::Write && self.here.catalog.objects.len() > LARGE;
        if !too_large
            && matches!(
                effect,
                Effect::Definition | Effect::Write | Effect::Transaction | Effect::Other
            )
            && self.stream.is_none()
            && !self.here.lost
            && !self.here.bearings.transaction_failed
        {
            self.read_catalog();
        }
    }

    /// Remembers what a statement set for the session, to set it again on a new connection.
    fn remember_setting(&mut self, busy: &Busy, effect: Effect) {
        let words: Vec<String> = busy
            .statement
            .split_whitespace()
            .take(4)
            .map(|word| word.to_ascii_lowercase())
            .collect();
        let word = |at: usize| words.get(at).map_or("", String::as_str);
        if effect == Effect::Definition
            && (word(1).starts_with("temp") || word(3).starts_with("temp"))
        {
            self.here.has_temporary = true;
        }
        let of_session = !matches!(
            word(1),
            "local" | "transaction" | "role" | "password" | "global" | "constraints" | "default"
        );
        if word(0) == "set"
            && of_session
            && busy.secrets.is_empty()
            && self.here.bearings.transaction.is_none()
            && self.here.settings.len() < 200
        {
            self.here.settings.push(busy.statement.clone());
        }
    }

    /// The connection was lost: what is known is said, and nothing is sent again.
    fn lost(
        &mut self,
        busy: &Busy,
        error: &EngineError,
        in_transaction: bool,
        kept: Option<Sheet>,
    ) {
        self.here.bearings.transaction = None;
        self.here.bearings.transaction_failed = false;
        let about = summary(&busy.statement, self.here.dialect);
        let failure = failure::of_loss(error, &about, in_transaction);
        match kept {
            Some(sheet) => {
                self.say(
                    format!("{} {}", failure.headline, failure.changed),
                    Tone::Danger,
                );
                self.end_entry(busy.entry, State::Failed, Content::Rows(sheet));
                self.give_back(&busy.waiting, None, Vec::new());
            }
            None => self.fail(busy.entry, &busy.waiting, failure),
        }
    }

    pub(super) fn statement_failed(&mut self, busy: &Busy, error: &EngineError) {
        let mut error = error.clone();
        // What the server repeats of a statement may hold its secrets.
        for (_, literal) in &busy.secrets {
            let literal = literal.expose_secret();
            let inside = literal.trim_matches(['\'', '"', '$']);
            for secret in [literal, inside].into_iter().filter(|s| !s.is_empty()) {
                error.message = error.message.replace(secret, "…");
                error.advice = error.advice.map(|advice| advice.replace(secret, "…"));
            }
            error.complaint = idle_tide_lang::correct::Complaint::Other;
            error.offset = None;
        }
        let shown = if busy.secrets.is_empty() {
            busy.statement.as_str()
        } else {
            &busy.waiting.submission[busy.waiting.span.clone()]
        };
        let error = &error;
        let mut failure = failure::of_statement(
            shown,
            error,
            &self.here.catalog,
            self.here.dialect,
            self.here.bearings.transaction.is_some(),
            busy.waiting.before,
        );
        if self.here.bearings.transaction_failed {
            let failed = "The transaction failed with it, and nothing of it will be kept:  rollback;  ends it.";
            failure.changed = failed.into();
        }
        let entry = self.place_of(busy.entry).map(|at| &self.entries[at]);
        let kept = entry
            .and_then(Entry::sheet)
            .filter(|sheet| !read(&sheet.set).is_empty())
            .cloned();
        match kept {
            // Rows that came before the error stay.
            Some(sheet) => {
                self.say(
                    format!("It ended early: {}", failure.headline),
                    Tone::Danger,
                );
                self.end_entry(busy.entry, State::Failed, Content::Rows(sheet));
                self.give_back(&busy.waiting, failure.place, failure.corrections);
            }
            None => self.fail(busy.entry, &busy.waiting, failure),
        }
    }

    /// The check after a write, done for the user: what the table holds now, where it could be counted.
    fn say_what_is_there(&mut self) {
        let Some((entry, table)) = self.here.check.take() else {
            return;
        };
        let rows = self
            .here
            .catalog
            .table(&table)
            .and_then(|object| object.rows);
        let (Some(rows), Some(at)) = (rows, self.place_of(entry)) else {
            return;
        };
        if let Content::Page(page) = &mut self.entries[at].content {
            if page.lines.len() == 1 {
                page.gap();
            }
            page.line(
                Line::new()
                    .column(Tone::Faint, "now", 10)
                    .and(Tone::Number, idle_tide_draw::picture::grouped(rows))
                    .and(
                        Tone::Plain,
                        format!(
                            " {}{} in {table}",
                            self.here.dialect.row(),
                            if rows == 1 { "" } else { "s" }
                        ),
                    ),
            );
        }
    }

    /// What was made or changed, in words and numbers.
    pub(super) fn message(&self, statement: &str, outcome: &Outcome) -> Page {
        let about = summary(statement, self.here.dialect);
        let mut page = Page::new();
        let target = about.target.unwrap_or_default();
        let rows = |count: u64| idle_tide_draw::picture::counted(count, self.here.dialect.row());
        let headline = match (about.verb.as_str(), outcome.changed) {
            ("insert" | "replace", Some(count)) => {
                format!("{} inserted into {target}.", rows(count))
            }
            ("update", Some(count)) => format!("{} of {target} changed.", rows(count)),
            ("delete", Some(count)) => format!("{} deleted from {target}.", rows(count)),
            ("create", _) => format!("{target} was made."),
            ("alter", _) => format!("{target} was altered."),
            ("drop", _) => format!("{target} was removed."),
            ("begin" | "savepoint", _) => "A transaction is open.".to_string(),
            ("commit" | "end", _) => "What the transaction changed is kept.".to_string(),
            ("rollback", _) => "What the transaction changed is taken back.".to_string(),
            ("empty", Some(count)) => format!(
                "{} removed from {target}; the collection is there still.",
                rows(count)
            ),
            _ => "Done.".to_string(),
        };
        let mut made = outcome.made.iter();
        // What a document source says it did is said in its own words.
        let headline = match (about.verb.as_str(), made.len()) {
            ("insert" | "update" | "delete" | "empty", _) | (_, 0) => headline,
            _ => made.next().cloned().unwrap_or(headline),
        };
        page.say(Tone::Heading, headline);
        for sentence in made {
            page.say(Tone::Plain, sentence.clone());
        }
        if let Some(first) = outcome.new_ids.first() {
            page.gap();
            for (at, id) in outcome.new_ids.iter().enumerate() {
                let label = match (at, first) {
                    (0, _) if outcome.new_ids.len() == 1 => "new id",
                    (0, _) => "new ids",
                    _ => "",
                };
                page.line(
                    Line::new()
                        .column(Tone::Faint, label, 10)
                        .and(Tone::Number, id.clone()),
                );
            }
            let more = outcome
                .changed
                .unwrap_or(0)
                .saturating_sub(outcome.new_ids.len() as u64);
            if more > 0 {
                page.line(
                    Line::new()
                        .column(Tone::Faint, "", 10)
                        .and(Tone::Faint, format!("and {more} more")),
                );
            }
        }
        if let Some(key) = outcome.new_key {
            page.gap();
            page.line(
                Line::new()
                    .column(Tone::Faint, "new key", 10)
                    .and(Tone::Number, key.to_string()),
            );
        }
        if about.verb == "begin" {
            page.gap();
            page.say(
                Tone::Faint,
                "commit; keeps what follows, rollback; takes it back.",
            );
        }
        page
    }

    pub(super) fn catalog_read(&mut self, read: Result<Box<ReadCatalog>, EngineError>) {
        let mut script = None;
        let catalog = match read {
            Ok(read) => {
                script = read.script;
                self.here.ties = read.ties;
                self.here.catalog = read.catalog;
                Arc::clone(&self.here.catalog)
            }
            Err(error) => {
                self.say(
                    format!("The catalog could not be read: {}", error.message),
                    Tone::Danger,
                );
                Arc::clone(&self.here.catalog)
            }
        };
        self.say_what_is_there();
        self.here.catalog_known = true;
        if let Some(entry) = self.here.arriving.take() {
            self.fill_arrival(entry, &catalog);
        }
        let Some(mut busy) = self
            .here
            .busy
            .take_if(|busy| matches!(busy.doing, Doing::Catalog(_)))
        else {
            return;
        };
        let parsed = match std::mem::replace(&mut busy.doing, Doing::Asking) {
            Doing::Catalog(Then::Failure(error)) => return self.statement_failed(&busy, &error),
            Doing::Catalog(Then::Guard(sweep)) => return self.count_for(busy, sweep),
            Doing::Catalog(Then::Command(parsed)) => parsed,
            _ => return,
        };
        if matches!(parsed.command.name, "figures" | "sample") {
            return self.start_reading(busy, &parsed);
        }
        let Busy { entry, waiting, .. } = busy;
        let sheet = |set| Content::Rows(Sheet::new(Arc::new(RwLock::new(set))));
        let pattern = parsed.argument(0).unwrap_or("*");
        let full = parsed.has("full");
        let content = match parsed.command.name {
            "indexes" => sheet(lists::indexes(&catalog, pattern, full)),
            "schemas" if catalog.schemas.is_empty() => {
                let words =
                    "This family has no schemas within a database; /databases lists the databases.";
                return self.fail(entry, &waiting, failure::plain(words));
            }
            "schemas" => sheet(lists::schemas(&catalog, pattern)),
            "find" => sheet(lists::find(&catalog, &parsed.rest)),
            "tables" if self.here.dialect.is_flow() => {
                sheet(lists::list(&catalog, "collections", pattern, full))
            }
            "collections" if !self.here.dialect.is_flow() => {
                sheet(lists::list(&catalog, "tables", pattern, full))
            }
            "shape" => {
                let Some(object) = catalog.table(pattern) else {
                    let failure = self.no_such_object(&parsed, pattern);
                    self.fail(entry, &waiting, failure);
                    return;
                };
                match &object.shape {
                    Some(shape) => {
                        let looked = idle_tide_draw::picture::counted(shape.sampled, "document");
                        let words = match object.rows {
                            Some(all) if all == shape.sampled => format!("From all {looked}."),
                            Some(all) => format!(
                                "From a sample of {looked} of {}.",
                                idle_tide_draw::picture::grouped(all)
                            ),
                            None => format!("From a sample of {looked}."),
                        };
                        self.say(words, Tone::Plain);
                        sheet(lists::shape(shape))
                    }
                    None => {
                        let words = format!(
                            "A {} has its columns declared: /about {pattern} shows them.",
                            object.kind.word()
                        );
                        return self.fail(entry, &waiting, failure::plain(words));
                    }
                }
            }
            "tables" | "views" | "sequences" | "functions" | "collections" => {
                sheet(lists::list(&catalog, parsed.command.name, pattern, full))
            }
            "definition" if parsed.arguments.is_empty() => {
                let page = about::definition_page(script.as_deref(), self.here.dialect);
                Content::Page(page)
            }
            "links" | "route" => match self.drawing(&parsed) {
                Ok(links) => Content::Links(Box::new(links)),
                Err(failure) => return self.fail(entry, &waiting, failure),
            },
            name => {
                let Some(object) = catalog.named(pattern) else {
                    let failure = self.no_such_object(&parsed, pattern);
                    self.fail(entry, &waiting, failure);
                    return;
                };
                Content::Page(match name {
                    "about" => {
                        about::object_page(object, self.here.ties(), &catalog, self.here.dialect)
                    }
                    _ => about::definition_page(object.definition.as_deref(), self.here.dialect),
                })
            }
        };
        let join = match &content {
            Content::Links(links) => links.join(),
            _ => None,
        };
        self.end_entry(entry, State::Done, content);
        if let Some(join) = join {
            self.requests.push_back(Request::Recall(join));
        }
        if parsed.has("check") {
            self.check_links(entry);
        }
    }

    pub(super) fn fill_arrival(&mut self, entry: u32, catalog: &Catalog) {
        let server = self.here.bearings.server.as_ref();
        let now = Visit {
            at: SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .map_or(0, |since| since.as_secs()),
            server: format!(
                "{} {}",
                self.here.bearings.family, self.here.bearings.version
            ),
            place: self
                .here
                .bearings
                .place
                .clone()
                .unwrap_or_else(|| "memory".into()),
            tables: catalog.tables().count() as u64,
            identity: server.map(|s| s.identity.clone()).unwrap_or_default(),
            user: server.map(|s| s.user.clone()).unwrap_or_default(),
        };
        // What was not saved under a name is known by its address.
        let known_as = match self.here.origin.as_ref().map(|origin| &origin.source) {
            Some(source @ idle_tide_engines::Source::Server(_))
                if source.name() == self.here.source =>
            {
                source.address()
            }
            _ => self.here.source.clone(),
        };
        let last = self
            .places
            .as_ref()
            .and_then(|places| visit(&places.visits, &known_as, &now).unwrap_or_default());
        let page = arrival::card(
            &self.here.source,
            &self.here.bearings,
            self.here.writes,
            catalog,
            last.as_ref(),
            &now,
        );
        self.end_entry(entry, State::Done, Content::Page(page));
    }

    pub(super) fn counted(&mut self, ticket: u64, answers: Result<Vec<Option<u64>>, EngineError>) {
        let Some(busy) = self
            .here
            .busy
            .take_if(|busy| u64::from(busy.entry) == ticket)
        else {
            return;
        };
        if let Doing::Checking(places) = &busy.doing {
            let places = places.clone();
            return self.links_checked(&busy, &places, answers);
        }
        // Without its numbers a sweep does not run.
        let answers = match answers {
            Ok(answers) => answers,
            Err(error) if error.fault == Fault::Cancelled => return self.not_run(&busy),
            Err(error) => return self.statement_failed(&busy, &error),
        };
        let question = match &busy.doing {
            Doing::Counting(sweep, counts) => guard::question(
                sweep,
                counts,
                &answers,
                &self.here.catalog,
                self.here.dialect,
            ),
            _ => None,
        };
        match question {
            // What cannot be counted is not there; the server says so itself.
            None => self.start_statement(busy),
            Some(question) => {
                if let Some(at) = self.place_of(busy.entry) {
                    self.entries[at].content = Content::Page(question.page.clone());
                }
                self.here.question = Some(question);
                self.here.busy = Some(Busy {
                    doing: Doing::Asking,
                    ..busy
                });
            }
        }
    }

    pub(super) fn writes_set(&mut self, done: Result<bool, EngineError>) {
        let Some(Busy {
            entry,
            waiting,
            doing: Doing::Refusing(wanted),
            ..
        }) = self
            .here
            .busy
            .take_if(|busy| matches!(busy.doing, Doing::Refusing(_)))
        else {
            return;
        };
        if let Err(error) = done {
            let failure =
                failure::plain(format!("The engine does not do that: {}.", error.message));
            self.fail(entry, &waiting, failure);
            return;
        }
        self.here.writes = wanted;
        let mut page = Page::new();
        page.say(
            Tone::Heading,
            format!(
                "This session {}.",
                arrival::writes_words(wanted, &self.here.bearings.access)
            ),
        );
        page.gap();
        page.say(Tone::Faint, match wanted {
            Writes::None => "The engine itself refuses every write, whatever the statement looks like.",
            Writes::Free => "Every statement runs at once, also one that deletes everything.",
            Writes::Ask => "An update or delete of every row and every drop are asked about, with their numbers. Other writes run at once.",
        });
        self.end_entry(entry, State::Done, Content::Page(page));
    }

    pub(super) fn arranged(
        &mut self,
        entry: u32,
        order: Option<(usize, bool)>,
        filter: Option<String>,
        rows: Result<Option<Arc<Vec<u32>>>, String>,
    ) {
        let Some(sheet) = self
            .place_of(entry)
            .and_then(|at| self.entries[at].sheet_mut())
        else {
            return;
        };
        sheet.working = None;
        match rows {
            Ok(rows) => {
                let all = read(&sheet.set).len();
                let words = match (&rows, &filter) {
                    (Some(rows), Some(filter)) => Some(format!(
                        "{} of {} rows: {filter}",
                        idle_tide_draw::picture::grouped(rows.len() as u64),
                        idle_tide_draw::picture::grouped(all)
                    )),
                    _ => None,
                };
                sheet.view.order = order;
                sheet.view.filter = filter;
                sheet.view.rows = rows;
                if let Some(words) = words {
                    self.say(words, Tone::Active);
                }
            }
            Err(message) => self.say(message, Tone::Danger),
        }
    }
}
