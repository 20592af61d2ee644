//! Transactions, and commands in them.

use super::*;

impl Remote {
    /// Does something with the session of the open transaction, if there is one. What fails in a transaction ends it.
    pub(super) fn in_transaction<T>(
        &self,
        work: impl FnOnce(Option<&mut ClientSession>) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        let mut session = self.session.take();
        if session.is_none() && self.bearings.transaction.is_some() {
            return Err(EngineError::plain(
                "In a transaction the stages that are computed here cannot read another collection.",
            ));
        }
        let done = work(session.as_mut());
        if session.is_some() && done.is_err() {
            self.failed.set(true);
        }
        self.session.set(session);
        done
    }

    /// Sends a command of the session and takes its answer, unless it is cancelled.
    pub(super) fn answer(
        &self,
        database: &Database,
        command: &Document,
    ) -> Result<Document, EngineError> {
        self.in_transaction(|session| {
            // In a transaction servers count by an aggregation only.
            let counts = command
                .fields
                .first()
                .is_some_and(|(name, _)| name == "count");
            match session {
                Some(session) if counts => {
                    let command = counted(command);
                    let found = self.wait(reply_in(database, &command, Some(session)))?;
                    let first = found.get("cursor").and_then(Datum::as_object);
                    let first = first.and_then(|c| c.get("firstBatch")?.as_list()?.first());
                    let n = first.and_then(|d| d.as_object()?.get("n").cloned());
                    Ok(Document::new().with("n", n.unwrap_or(Datum::Int(0))))
                }
                session => self.wait(reply_in(database, command, session)),
            }
        })
    }

    /// Begins or ends a transaction.
    pub(super) fn transaction(&mut self, what: Transaction) -> Result<Outcome, EngineError> {
        let none = "No transaction is open;  begin;  opens one.";
        let open = self.bearings.transaction.is_some();
        match what {
            Transaction::Begin if open => {
                return Err(EngineError::plain(
                    "A transaction is open already;  commit;  or  rollback;  ends it.",
                ));
            }
            Transaction::Begin if !self.bearings.has_transactions => {
                return Err(EngineError::plain(
                    "This server has no transactions: it stands alone, and only replica sets have them. Every statement counts by itself.",
                ));
            }
            Transaction::Begin => {
                let session = self.runtime.block_on(async {
                    let mut session = self.client.start_session().await?;
                    session.start_transaction().await?;
                    Ok(session)
                });
                let session = session.map_err(|e: mongodb::error::Error| of_driver(&e, false))?;
                self.session.set(Some(session));
                self.failed.set(false);
                self.bearings.transaction = Some(std::time::Instant::now());
                return Ok(Outcome::default());
            }
            _ if !open => return Err(EngineError::plain(none)),
            _ => {}
        }
        let mut session = self
            .session
            .take()
            .ok_or_else(|| EngineError::plain(none))?;
        self.bearings.transaction = None;
        let failed = std::mem::take(&mut self.bearings.transaction_failed);
        let done = self.runtime.block_on(async {
            match what {
                Transaction::Commit => session.commit_transaction().await,
                _ => session.abort_transaction().await,
            }
        });
        match done {
            Ok(()) => Ok(Outcome::default()),
            // What failed is gone on the server already.
            Err(_) if failed && what == Transaction::Rollback => Ok(Outcome::default()),
            Err(error) => Err(of_driver(&error, true)),
        }
    }
}

/// A count as an aggregation that gives it as `n`.
pub(super) fn counted(command: &Document) -> Document {
    let mut pipeline = Vec::new();
    for (field, stage) in [("query", "$match"), ("skip", "$skip"), ("limit", "$limit")] {
        if let Some(value) = command.get(field) {
            pipeline.push(Document::new().with(stage, value.clone()));
        }
    }
    pipeline.push(document! { "$count": "n" });
    let collection = command.fields.first().map(|(_, name)| name.clone());
    Document::new()
        .with("aggregate", collection.unwrap_or(Datum::Null))
        .with(
            "pipeline",
            pipeline.into_iter().map(Datum::Object).collect::<Vec<_>>(),
        )
        .with("cursor", Document::new())
}
