//! Changes, definitions, and commands that are called as they are.

use super::*;

impl Remote {
    pub(super) fn write(
        &mut self,
        ticket: u64,
        statement: &Statement,
        write: &Write,
    ) -> Result<Outcome, EngineError> {
        let plan = compile(statement).map_err(EngineError::of_flow)?;
        let mut command = plan
            .command
            .ok_or_else(|| EngineError::plain("There is nothing to send."))?
            .document;
        let mut outcome = Outcome::default();
        let name = command
            .fields
            .first()
            .and_then(|(_, v)| v.as_text())
            .unwrap_or_default()
            .to_string();
        let inserts = matches!(write, Write::Insert { .. });
        let mut new = false;
        if let Some(Datum::List(list)) = command.remove("documents") {
            let (documents, ids) = with_ids(list)?;
            outcome.new_ids = ids;
            new = !self.exists(&name);
            if let Some(large) = documents
                .iter()
                .map(|d| bson::encode(d).len())
                .find(|n| *n > 16 << 20)
            {
                return Err(EngineError {
                    fault: Fault::Statement,
                    ..EngineError::plain(format!(
                        "A document of {:.1} MB is too large: a server stores at most 16 MB.",
                        large as f64 / 1_048_576.0
                    ))
                });
            }
            command.set(
                "documents",
                Datum::List(documents.into_iter().map(Datum::Object).collect()),
            );
        }
        let command = self.marked(ticket, command);
        let database = self.database.clone();
        let found = self.answer(&database, &command)?;
        let number = |name: &str| {
            found
                .get(name)
                .and_then(Datum::as_i64)
                .and_then(|n| u64::try_from(n).ok())
        };
        if let Some(Datum::List(errors)) = found.get("writeErrors")
            && let Some(Datum::Object(first)) = errors.first()
        {
            let code = first.get("code").and_then(Datum::as_i64).unwrap_or(0) as i32;
            let mut error = of_code(
                code,
                "",
                first
                    .get("errmsg")
                    .and_then(Datum::as_text)
                    .unwrap_or_default(),
            );
            let open = self.bearings.transaction.is_some();
            self.failed.set(open);
            if inserts && !open && number("n").unwrap_or(0) > 0 {
                error.advice = Some(format!(
                    "{} of the documents went in before this one was refused: {}",
                    number("n").unwrap_or(0),
                    error.advice.as_deref().unwrap_or(&error.message)
                ));
            }
            return Err(error);
        }
        outcome.changed = number(if matches!(write, Write::Update { .. }) {
            "nModified"
        } else {
            "n"
        });
        if let (Write::Update { .. }, Some(matched), Some(changed)) =
            (write, number("n"), outcome.changed)
            && matched > changed
        {
            outcome.notes.push(format!(
                "{matched} fit the condition; {} of them had these values already.",
                matched - changed
            ));
        }
        if outcome.changed == Some(0) && !inserts && !self.exists(&name) {
            outcome.notes.push(not_there(
                &name,
                &self.collection_names().unwrap_or_default(),
            ));
        }
        if new {
            outcome.made.push(format!(
                "The collection {name} came into being in {}.",
                self.database.name()
            ));
        }
        Ok(outcome)
    }

    /// Inserts documents as they come, in commands of some hundred; gives how many went in.
    pub(super) fn insert_many(
        &mut self,
        ticket: u64,
        collection: &str,
        next: &mut dyn FnMut() -> Result<Option<Document>, EngineError>,
    ) -> Result<u64, EngineError> {
        let database = self.database.clone();
        let mut stored = 0;
        loop {
            let (mut list, mut size) = (Vec::new(), 0);
            let mut ended = false;
            while list.len() < 1_000 && size < 4 << 20 {
                let Some(document) = next()? else {
                    ended = true;
                    break;
                };
                size += bson::encode(&document).len();
                list.push(Datum::Object(document));
            }
            if !list.is_empty() {
                let (documents, _) = with_ids(list)?;
                let documents = documents.into_iter().map(Datum::Object).collect();
                let command = document! { "insert": collection, "documents": Datum::List(documents), "ordered": true };
                let found = self.answer(&database, &self.marked(ticket, command))?;
                let count = found.get("n").and_then(Datum::as_i64).unwrap_or(0);
                stored += u64::try_from(count).unwrap_or(0);
                if let Some(Datum::List(errors)) = found.get("writeErrors")
                    && let Some(Datum::Object(first)) = errors.first()
                {
                    let code = first.get("code").and_then(Datum::as_i64).unwrap_or(0) as i32;
                    let said = first.get("errmsg").and_then(Datum::as_text);
                    let mut error = of_code(code, "", said.unwrap_or_default());
                    let open = self.bearings.transaction.is_some();
                    self.failed.set(open);
                    let words = error.advice.as_deref().unwrap_or(&error.message);
                    error.advice = Some(match open {
                        true => words.to_string(),
                        false => format!(
                            "{stored} of the documents went in before this one was refused: {words}"
                        ),
                    });
                    return Err(error);
                }
            }
            if ended {
                return Ok(stored);
            }
        }
    }

    pub(super) fn definition(&mut self, statement: &Statement) -> Result<Outcome, EngineError> {
        use idle_tide_lang::flow::ast::Definition as D;
        let Statement::Definition(definition) = statement else {
            return Ok(Outcome::default());
        };
        let plan = compile(statement).map_err(EngineError::of_flow)?;
        let mut command = plan
            .command
            .ok_or_else(|| EngineError::plain("There is nothing to send."))?;
        if let D::ChangePassword { of: None, .. } = definition {
            let new = command.document.get("pwd").and_then(Datum::as_text);
            self.change_password(&new.unwrap_or_default().into())?;
            return Ok(Outcome {
                made: vec!["Your password was changed.".into()],
                ..Outcome::default()
            });
        }
        if let D::Rename { from, to } = definition {
            let here = self.database.name();
            command.document = document! { "renameCollection": format!("{here}.{}", from.name), "to": format!("{here}.{}", to.name) };
        }
        let database = self.place(&command.target);
        let known = self.database_names().unwrap_or_default();
        let found = self.answer(&database, &command.document)?;
        let nothing = found.get("ns").is_none() && found.get("dropped").is_none();
        let here = self.database.name();
        let sentence = match definition {
            D::CreateCollection(name) => {
                format!("The collection {} was made in {here}.", name.name)
            }
            D::CreateIndex { collection, .. } => {
                let name = command
                    .document
                    .get("indexes")
                    .and_then(Datum::as_list)
                    .and_then(|l| l.first())
                    .and_then(Datum::as_object)
                    .and_then(|i| i.get("name"))
                    .and_then(Datum::as_text)
                    .unwrap_or_default();
                if found.get("numIndexesBefore") == found.get("numIndexesAfter") {
                    format!("There was such an index on {} already.", collection.name)
                } else {
                    format!("The index {name} was made on {}.", collection.name)
                }
            }
            D::DropCollection(name) if nothing => {
                not_there(&name.name, &self.collection_names().unwrap_or_default())
            }
            D::DropCollection(name) => {
                format!("The collection {} was removed from {here}.", name.name)
            }
            D::DropDatabase(name) if !known.contains(&name.name) => {
                format!("There was no database {}.", name.name)
            }
            D::DropDatabase(name) => format!("The database {} was removed.", name.name),
            D::DropIndex { name, collection } => format!(
                "The index {} of {} was removed.",
                name.name, collection.name
            ),
            D::Rename { from, to } => {
                format!("The collection {} is called {} now.", from.name, to.name)
            }
            D::DropUser(name) => format!("The user {} was removed.", name.name),
            D::CreateUser { name, roles, .. } => format!(
                "The user {} was made in {here}, where it logs in{}.",
                name.name,
                if roles.is_empty() {
                    "; it has no roles yet, so it may do nothing"
                } else {
                    ""
                }
            ),
            D::ChangePassword { of, .. } => format!(
                "The password of {} was changed.",
                of.as_ref().map_or("", |name| name.name.as_str())
            ),
        };
        let mut outcome = Outcome {
            made: vec![sentence],
            ..Outcome::default()
        };
        if matches!(definition, D::CreateCollection(_)) && !known.iter().any(|n| n == here) {
            outcome
                .made
                .push(format!("The database {here} came into being with it."));
        }
        Ok(outcome)
    }

    pub(super) fn call(
        &mut self,
        ticket: u64,
        statement: &Statement,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        let plan = compile(statement).map_err(EngineError::of_flow)?;
        let command = plan
            .command
            .ok_or_else(|| EngineError::plain("There is nothing to send."))?;
        let mut rows = Documents::new(sink);
        if command.answer == Answer::Cursor {
            self.stream(
                ticket,
                &command,
                &mut |bytes| rows.take_bytes(bytes).map(|()| true),
                &mut || Ok(()),
            )?;
        } else {
            let admin = [
                "listDatabases",
                "renameCollection",
                "currentOp",
                "killOp",
                "replSetGetStatus",
            ];
            let name = command
                .document
                .fields
                .first()
                .map_or("", |(n, _)| n.as_str())
                .to_string();
            let database = if admin.contains(&name.as_str()) {
                self.client.database("admin")
            } else {
                self.database.clone()
            };
            let found = self.answer(&database, &command.document)?;
            rows.take(&found)?;
        }
        rows.end()?;
        Ok(Outcome {
            returns_rows: true,
            ..Outcome::default()
        })
    }
}
