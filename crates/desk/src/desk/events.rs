//! What has happened in the connection's thread and in the background, and what it means for entries.

use super::*;

impl Desk {
    /// Answers an event.
    pub fn handle(&mut self, event: Event) {
        match event {
            Event::Rows { ticket } => self.rows_arrived(ticket),
            Event::Done {
                ticket,
                result,
                took,
                bearings,
            } => {
                self.bearings = *bearings;
                self.statement_ended(ticket, result, took);
            }
            Event::Catalog(read) => self.catalog_read(read),
            Event::Counted { ticket, counts } => self.counted(ticket, counts),
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

    pub(super) fn rows_arrived(&mut self, ticket: u64) {
        if let Some(at) = self.place_of(ticket as u32)
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
                self.worker.control.cancel(ticket);
                self.say("Results may use 2.0 GB of disk, and this one does: it was stopped there. Its rows so far are kept.", Tone::Care);
            }
        }
    }

    pub(super) fn statement_ended(
        &mut self,
        ticket: u64,
        result: Result<Outcome, EngineError>,
        took: Duration,
    ) {
        let number = ticket as u32;
        if self.busy.as_ref().is_none_or(|busy| busy.entry != number) {
            return;
        }
        let (Some(busy), Some(at)) = (self.busy.take(), self.place_of(number)) else {
            return;
        };
        self.entries[at].took = Some(took);
        let kept = match &self.entries[at].content {
            Content::Rows(sheet) if !sheet.labels.is_empty() => Some(sheet.clone()),
            _ => None,
        };
        let effect = match busy.doing {
            Doing::Statement(effect) => effect,
            _ => Effect::Read,
        };
        match result {
            Ok(outcome) => {
                let content = match (&busy.doing, kept) {
                    (Doing::Figures(gathered), _) => {
                        let gathered = gathered.read();
                        let set = about::figures(&gathered);
                        Content::Rows(Sheet::new(Arc::new(RwLock::new(set))))
                    }
                    (_, Some(sheet)) => Content::Rows(sheet),
                    _ if outcome.returns_rows => Content::Nothing,
                    _ => Content::Page(self.message(&busy.statement, &outcome)),
                };
                if let Some(note) = outcome.notes.first() {
                    self.say(note.clone(), Tone::Care);
                }
                if effect == Effect::Write && matches!(content, Content::Page(_)) {
                    let target = summary(&busy.statement, self.dialect).target;
                    self.check = target.map(|table| (number, table));
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
                self.queue
                    .retain(|other| !Arc::ptr_eq(&other.submission, &busy.waiting.submission));
                if !rest.is_empty() {
                    self.returned = Some(Returned {
                        text: rest,
                        ..Returned::default()
                    });
                }
            }
            Err(error) if self.needs_catalog() => {
                // What is nearest to a slip is known only with the catalog.
                self.await_catalog(busy, Then::Failure(error));
            }
            Err(error) => self.statement_failed(&busy, &error),
        }
        // Rows counted before would be wrong now.
        if matches!(
            effect,
            Effect::Definition | Effect::Write | Effect::Transaction | Effect::Other
        ) && self.stream.is_none()
        {
            self.read_catalog();
        }
    }

    pub(super) fn statement_failed(&mut self, busy: &Busy, error: &EngineError) {
        let failure = failure::of_statement(
            &busy.statement,
            error,
            &self.catalog,
            self.dialect,
            self.bearings.transaction.is_some(),
            busy.waiting.before,
        );
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
        let Some((entry, table)) = self.check.take() else {
            return;
        };
        let rows = self.catalog.table(&table).and_then(|object| object.rows);
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
                        format!(" {} in {table}", if rows == 1 { "row" } else { "rows" }),
                    ),
            );
        }
    }

    /// What was made or changed, in words and numbers.
    pub(super) fn message(&self, statement: &str, outcome: &Outcome) -> Page {
        let about = summary(statement, self.dialect);
        let mut page = Page::new();
        let target = about.target.unwrap_or_default();
        let rows = |count: u64| idle_tide_draw::picture::counted(count, "row");
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
            _ => "Done.".to_string(),
        };
        page.say(Tone::Heading, headline);
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

    pub(super) fn catalog_read(&mut self, read: Result<Box<Catalog>, EngineError>) {
        let catalog = match read {
            Ok(catalog) => {
                self.catalog = Arc::from(catalog);
                Arc::clone(&self.catalog)
            }
            Err(error) => {
                self.say(
                    format!("The catalog could not be read: {}", error.message),
                    Tone::Danger,
                );
                Arc::clone(&self.catalog)
            }
        };
        self.say_what_is_there();
        if !self.catalog_known {
            self.catalog_known = true;
            self.fill_arrival(&catalog);
        }
        let Some(mut busy) = self
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
        let content = match parsed.command.name {
            "tables" => sheet(about::list(&catalog, false, pattern, parsed.has("full"))),
            "views" => sheet(about::list(&catalog, true, pattern, parsed.has("full"))),
            "indexes" => sheet(about::indexes(&catalog, pattern)),
            name => {
                let object = parsed.argument(0).map(|name| {
                    catalog.table(name).or_else(|| {
                        catalog
                            .objects
                            .iter()
                            .find(|o| o.name.eq_ignore_ascii_case(name))
                    })
                });
                match object {
                    Some(None) => {
                        let failure = self.no_such_object(&parsed, pattern);
                        self.fail(entry, &waiting, failure);
                        return;
                    }
                    Some(Some(object)) if name == "about" => {
                        Content::Page(about::object_page(object, &catalog, self.dialect))
                    }
                    object => Content::Page(about::definition_page(
                        object.flatten(),
                        &catalog,
                        self.dialect,
                    )),
                }
            }
        };
        self.end_entry(entry, State::Done, content);
    }

    pub(super) fn fill_arrival(&mut self, catalog: &Catalog) {
        let Some(at) = self
            .entries
            .iter()
            .position(|entry| entry.text == "arrival")
        else {
            return;
        };
        let now = Visit {
            at: SystemTime::now()
                .duration_since(UNIX_EPOCH)
                .map_or(0, |since| since.as_secs()),
            server: format!("{} {}", self.bearings.family, self.bearings.version),
            place: self
                .bearings
                .place
                .clone()
                .unwrap_or_else(|| "memory".into()),
            tables: catalog.tables().count() as u64,
        };
        let last = self
            .places
            .as_ref()
            .and_then(|places| visit(&places.visits, &self.source, &now).unwrap_or_default());
        let page = arrival::card(
            &self.source,
            &self.bearings,
            self.writes,
            catalog,
            last.as_ref(),
            &now,
        );
        let number = self.entries[at].number;
        self.end_entry(number, State::Done, Content::Page(page));
    }

    pub(super) fn counted(&mut self, ticket: u64, answers: Result<Vec<Option<u64>>, EngineError>) {
        let Some(busy) = self.busy.take_if(|busy| u64::from(busy.entry) == ticket) else {
            return;
        };
        // Without its numbers a sweep does not run.
        let answers = match answers {
            Ok(answers) => answers,
            Err(error) if error.fault == Fault::Cancelled => return self.not_run(&busy),
            Err(error) => return self.statement_failed(&busy, &error),
        };
        let question = match &busy.doing {
            Doing::Counting(sweep, counts) => {
                guard::question(sweep, counts, &answers, &self.catalog)
            }
            _ => None,
        };
        match question {
            // What cannot be counted is not there; the server says so itself.
            None => self.start_statement(busy),
            Some(question) => {
                if let Some(at) = self.place_of(busy.entry) {
                    self.entries[at].content = Content::Page(question.page.clone());
                }
                self.question = Some(question);
                self.busy = Some(Busy {
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
        self.writes = wanted;
        let mut page = Page::new();
        page.say(
            Tone::Heading,
            format!(
                "This session {}.",
                arrival::writes_words(wanted, &self.bearings.access)
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
