//! Flows: what the server computes, and what is computed here of what it gives.

use std::cell::RefCell;

use idle_tide_lang::flow::compile::{Command, Plan as Compiled};

use super::*;

impl Remote {
    /// Hands over the documents of a cursor as their bytes, until `take` answers false.
    pub(super) fn stream(
        &self,
        ticket: u64,
        command: &Command,
        take: &mut dyn FnMut(&[u8]) -> Result<bool, EngineError>,
        rest: &mut dyn FnMut() -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let database = self.place(&command.target);
        if self.bearings.transaction.is_none() {
            return self.stream_outside(ticket, command, take, rest);
        }
        let document = raw(&self.marked(ticket, command.document.clone()))?;
        self.in_transaction(|session| {
            let Some(session) = session else {
                return Ok(());
            };
            self.wait(async {
                let action = database
                    .run_raw_cursor_command(document)
                    .session(&mut *session);
                let mut cursor = action.await.map_err(|e| of_driver(&e, false))?;
                while cursor
                    .advance(session)
                    .await
                    .map_err(|e| of_driver(&e, false))?
                {
                    if self.control.cancel.is_cancelled() {
                        return Err(EngineError::cancelled());
                    }
                    if !take(sound(cursor.current().as_bytes())?)? {
                        break;
                    }
                }
                Ok(())
            })
        })
    }

    /// The same, never as a part of a transaction.
    pub(super) fn stream_outside(
        &self,
        ticket: u64,
        command: &Command,
        take: &mut dyn FnMut(&[u8]) -> Result<bool, EngineError>,
        rest: &mut dyn FnMut() -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let database = self.place(&command.target);
        let document = raw(&self.marked(ticket, command.document.clone()))?;
        let mut cursor = self.wait(async {
            database
                .run_raw_cursor_command(document)
                .await
                .map_err(|e| of_driver(&e, false))
        })?;
        self.wait(async {
            loop {
                let more = {
                    let mut next = std::pin::pin!(cursor.advance());
                    match futures_util::poll!(&mut next) {
                        Poll::Ready(more) => more,
                        // What is at hand is shown before the server is waited for any longer.
                        Poll::Pending => tokio::select! {
                            biased;
                            more = &mut next => more,
                            () = tokio::time::sleep(Duration::from_millis(40)) => {
                                rest()?;
                                next.await
                            }
                        },
                    }
                };
                if self.control.cancel.is_cancelled() {
                    return Err(EngineError::cancelled());
                }
                match more {
                    Ok(true) if take(sound(cursor.current().as_bytes())?)? => {}
                    Ok(_) => return Ok(()),
                    Err(error) => return Err(of_driver(&error, false)),
                }
            }
        })
    }

    pub(super) fn flow(
        &mut self,
        ticket: u64,
        statement: &Statement,
        flow: &Flow,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        let plan = compile(statement).map_err(EngineError::of_flow)?;
        let mut outcome = Outcome {
            returns_rows: true,
            ..Outcome::default()
        };
        let rows = RefCell::new(Documents::new(sink));
        let mut count = 0_u64;
        match &plan.command {
            Some(command) if plan.here.is_empty() => {
                count = self.all_there(ticket, flow, &plan, command, &rows)?;
                if count == 0
                    && let Some(document) = &plan.when_empty
                {
                    rows.borrow_mut().take(document)?;
                }
            }
            None if plan.here.is_empty() => self.as_it_is(flow, &rows)?,
            _ => self.chained(ticket, flow, &plan, &rows, &mut outcome)?,
        }
        let saves = flow.stages.iter().find_map(|s| match &s.kind {
            StageKind::Save { collection, .. } => Some(collection.name.as_str()),
            _ => None,
        });
        if let Some(name) = saves {
            self.say_saved(name, &mut outcome);
            return Ok(outcome);
        }
        if let Some(note) = rows.into_inner().end()? {
            outcome.notes.push(note);
        }
        if let Some(name) = crate::documents::collection_of(flow)
            && count == 0
            && !self.exists(name)
        {
            outcome.notes.push(not_there(
                name,
                &self.collection_names().unwrap_or_default(),
            ));
        }
        Ok(outcome)
    }

    /// A flow that runs on the server as a whole; how many documents it gave.
    fn all_there(
        &mut self,
        ticket: u64,
        flow: &Flow,
        plan: &Compiled,
        command: &Command,
        rows: &RefCell<Documents<'_>>,
    ) -> Result<u64, EngineError> {
        let mut count = 0_u64;
        let at_stage = |error: EngineError| at_its_stage(error, flow, &plan.places);
        match &command.answer {
            Answer::Count(name) => {
                let database = self.place(&command.target);
                let document = self.marked(ticket, command.document.clone());
                let found = self.answer(&database, &document)?;
                let n = found.get("n").cloned().unwrap_or(Datum::Int(0));
                rows.borrow_mut().take(&Document::new().with(name, n))?;
                count = 1;
            }
            _ => self
                .stream(
                    ticket,
                    command,
                    &mut |bytes| {
                        count += 1;
                        rows.borrow_mut().take_bytes(bytes).map(|()| true)
                    },
                    &mut || rows.borrow_mut().hand_over(),
                )
                .map_err(at_stage)?,
        }
        Ok(count)
    }

    /// A flow of which stages run here.
    fn chained(
        &mut self,
        ticket: u64,
        flow: &Flow,
        plan: &Compiled,
        rows: &RefCell<Documents<'_>>,
        outcome: &mut Outcome,
    ) -> Result<(), EngineError> {
        let context = context();
        let mut places = There {
            remote: self,
            notes: Vec::new(),
            made: Vec::new(),
        };
        let mut chain = Chain::new(&plan.here, &context, Limits::default(), &mut places)
            .map_err(EngineError::of_flow)?;
        let mut failed = None;
        let mut on = |document: Cow<'_, Document>| match rows.borrow_mut().take(&document) {
            Ok(()) => Ok(true),
            Err(error) => {
                failed = Some(error);
                Ok(false)
            }
        };
        match (&plan.command, &flow.source) {
            (Some(command), _) => self.stream(
                ticket,
                command,
                &mut |bytes| {
                    chain
                        .take(Cow::Owned(bson::tree(bytes)), &mut on)
                        .map_err(EngineError::of_flow)
                },
                &mut || Ok(()),
            )?,
            (None, Source::Result(number)) => {
                from_earlier(
                    self.earlier.as_ref(),
                    *number,
                    flow,
                    &self.control.cancel,
                    &mut |document| chain.take(Cow::Owned(document), &mut on),
                )?;
            }
            (None, Source::Typed(typed)) => {
                for document in typed_documents(typed)? {
                    if !chain
                        .take(Cow::Owned(document), &mut on)
                        .map_err(EngineError::of_flow)?
                    {
                        break;
                    }
                }
            }
            (None, Source::Collection(_)) => {}
        }
        chain
            .end(&mut on, &mut places)
            .map_err(EngineError::of_flow)?;
        outcome.notes = places.notes;
        outcome.made = places.made;
        if let Some(error) = failed {
            return Err(error);
        }
        Ok(())
    }

    /// Documents that no stage touches: typed ones, and those of an earlier entry.
    fn as_it_is(&mut self, flow: &Flow, rows: &RefCell<Documents<'_>>) -> Result<(), EngineError> {
        match &flow.source {
            Source::Typed(typed) => {
                for document in typed_documents(typed)? {
                    rows.borrow_mut().take(&document)?;
                }
            }
            Source::Result(number) => {
                from_earlier(
                    self.earlier.as_ref(),
                    *number,
                    flow,
                    &self.control.cancel,
                    &mut |document| {
                        rows.borrow_mut()
                            .take(&document)
                            .map(|()| true)
                            .map_err(|e| FlowError::at(0..0, e.message))
                    },
                )?;
            }
            Source::Collection(_) => {}
        }
        Ok(())
    }

    /// What is said of what was saved.
    fn say_saved(&mut self, name: &str, outcome: &mut Outcome) {
        outcome.returns_rows = false;
        if outcome.made.is_empty() {
            let holds = self
                .ask(&document! { "count": name })
                .ok()
                .and_then(|r| r.get("n").and_then(Datum::as_i64));
            outcome.made.push(match holds {
                Some(n) => format!("Saved: {name} holds {n} documents now."),
                None => format!("Saved into {name}."),
            });
        }
    }
}

pub(super) fn typed_documents(
    typed: &idle_tide_lang::flow::ast::Expr,
) -> Result<Vec<Document>, EngineError> {
    let list = match typed.constant() {
        Some(Datum::List(list)) => list,
        _ => {
            return Err(EngineError::of_flow(FlowError::at(
                typed.span.clone(),
                "Documents that are typed in are plain values, nothing computed.",
            )));
        }
    };
    list.into_iter()
        .map(|d| match d {
            Datum::Object(d) => Ok(d),
            _ => Err(EngineError::of_flow(FlowError::at(
                typed.span.clone(),
                "Only objects can be documents.",
            ))),
        })
        .collect()
}

/// Points at the stage that the server complained about, where it names one.
pub(super) fn at_its_stage(mut error: EngineError, flow: &Flow, places: &[Span]) -> EngineError {
    if error.fault != Fault::Statement {
        return error;
    }
    let words = error.message.clone();
    let kinds: [(&str, &str); 6] = [
        ("$unwind", "unnest"),
        ("$group", "group"),
        ("$lookup", "join"),
        ("$merge", "save"),
        ("$out", "save"),
        ("$sort", "order"),
    ];
    let found = kinds
        .iter()
        .find(|(name, _)| words.contains(name))
        .and_then(|(_, word)| flow.stages.iter().find(|s| s.word().starts_with(word)));
    let span = match (found, flow.stages.as_slice(), places) {
        (Some(stage), ..) => Some(stage.span.clone()),
        (None, [only], _) => Some(only.span.clone()),
        _ => None,
    };
    if let Some(span) = span {
        let sentence = error
            .advice
            .clone()
            .unwrap_or_else(|| format!("The server refuses this stage: {words}."));
        error.offset = Some(span.start);
        error.complaint = Complaint::Flow(FlowError::at(span, sentence));
    }
    error
}

/// The server's collections, for stages that are computed here.
pub(super) struct There<'a> {
    remote: &'a Remote,
    notes: Vec<String>,
    made: Vec<String>,
}

impl Places for There<'_> {
    fn read(
        &mut self,
        collection: &str,
        take: &mut dyn FnMut(Document) -> Result<bool, FlowError>,
    ) -> Result<(), String> {
        let command = Command {
            document: document! { "find": collection },
            target: Target::Here,
            answer: Answer::Cursor,
        };
        let done = self.remote.stream(
            self.remote.control.running.load(Ordering::SeqCst),
            &command,
            &mut |bytes| take(bson::tree(bytes)).map_err(EngineError::of_flow),
            &mut || Ok(()),
        );
        done.map_err(|e| e.message)
    }

    fn save(
        &mut self,
        collection: &str,
        documents: Vec<Document>,
        by: Option<&Path>,
        over: bool,
    ) -> Result<(), String> {
        if self.remote.refusing {
            return Err("This session refuses writes; /writes ask allows them again.".into());
        }
        let count = documents.len();
        let ask = |command: &Document| -> Result<Document, String> {
            let found = self.remote.ask(command).map_err(|e| e.message)?;
            match found
                .get("writeErrors")
                .and_then(Datum::as_list)
                .and_then(|l| l.first())
                .and_then(Datum::as_object)
            {
                Some(error) => Err(error
                    .get("errmsg")
                    .and_then(Datum::as_text)
                    .unwrap_or("a document was refused")
                    .to_string()),
                None => Ok(found),
            }
        };
        if over {
            let everything = document! { "q": Document::new(), "limit": 0 };
            ask(
                &document! { "delete": collection, "deletes": Datum::List(vec![everything.into()]) },
            )?;
        }
        for chunk in documents.chunks(1_000) {
            match by {
                Some(path) => {
                    let name = path.written();
                    let updates: Vec<Datum> = chunk
                        .iter()
                        .map(|d| {
                            let mut value = Some(Datum::Object(d.clone()));
                            for step in path.names().unwrap_or_default() {
                                value = value.and_then(|v| v.as_object()?.get(step).cloned());
                            }
                            let mut d = d.clone();
                            if name != "_id" {
                                d.remove("_id");
                            }
                            let q = Document::new().with(
                                &name,
                                Document::new().with("$eq", value.unwrap_or(Datum::Null)),
                            );
                            document! { "q": q, "u": d, "upsert": true }.into()
                        })
                        .collect();
                    ask(&document! { "update": collection, "updates": Datum::List(updates) })?;
                }
                None => {
                    let (list, _) = with_ids(chunk.iter().cloned().map(Datum::Object).collect())
                        .map_err(|e| e.message)?;
                    ask(
                        &document! { "insert": collection, "documents": Datum::List(list.into_iter().map(Datum::Object).collect()) },
                    )?;
                }
            }
        }
        self.made
            .push(format!("{count} documents saved into {collection}."));
        Ok(())
    }

    fn raw(&mut self, _: &[Datum], _: Vec<Document>) -> Result<Vec<Document>, String> {
        Err("After emit everything is computed here, and raw stages are the server's.".into())
    }
}
