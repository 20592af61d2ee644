//! Commands in a transaction.

use super::*;

impl Connection {
    /// Runs a command as a part of the transaction that it names, or ends that.
    pub(super) fn run_in_transaction(
        &mut self,
        name: &str,
        database: &str,
        command: &Document,
        killed: &Arc<AtomicBool>,
    ) -> Reply {
        let session = object(command, "lsid").and_then(|s| s.get("id"));
        let (Some(Datum::Bytes(id)), Some(number)) =
            (session, command.get("txnNumber").and_then(Datum::as_i64))
        else {
            return Err(Failed::new(72, "a transaction needs lsid and txnNumber"));
        };
        let id = id.1.clone();
        let gone = || {
            Failed::new(
                251,
                format!(
                    "Given transaction number {number} does not match any in-progress transactions"
                ),
            )
        };
        let mut open = lock(&self.server.transactions);
        open.retain(|_, t| t.began.elapsed() < LONGEST_TRANSACTION);
        match name {
            "commitTransaction" if lock(&self.server.committed).get(&id) == Some(&number) => {
                return Ok(Document::new());
            }
            "commitTransaction" => {
                let found = open
                    .remove(&id)
                    .filter(|t| t.number == number)
                    .ok_or_else(gone)?;
                drop(open);
                let store = Arc::try_unwrap(found.store).map_err(|_| gone())?;
                let store = store.into_inner().unwrap_or_else(PoisonError::into_inner);
                self.write().take_over(store, &found.before)?;
                let mut committed = lock(&self.server.committed);
                if committed.len() > 10_000 {
                    committed.clear();
                }
                committed.insert(id, number);
                return Ok(Document::new());
            }
            "abortTransaction" => {
                let found = open.remove(&id).filter(|t| t.number == number);
                return found.map(|_| Document::new()).ok_or_else(gone);
            }
            "find" | "getMore" | "killCursors" | "aggregate" | "distinct" | "insert" | "update"
            | "delete" | "findAndModify" | "create" | "createIndexes" => {}
            other => {
                return Err(Failed::new(
                    263,
                    format!("Cannot run '{other}' in a multi-document transaction"),
                ));
            }
        }
        let stages = list(command, "pipeline").unwrap_or_default();
        let last = stages.last().and_then(Datum::as_object);
        if last.is_some_and(|s| s.get("$out").is_some() || s.get("$merge").is_some()) {
            return Err(Failed::new(
                263,
                "$out and $merge cannot be used in a transaction",
            ));
        }
        if wanted(command, "startTransaction") {
            let (store, before) = self.read().snapshot();
            let begun = Transaction {
                number,
                began: Instant::now(),
                store: Arc::new(RwLock::new(store)),
                before,
            };
            open.insert(id.clone(), begun);
        }
        let found = open
            .get(&id)
            .filter(|t| t.number == number)
            .ok_or_else(gone)?;
        self.within = Some(Arc::clone(&found.store));
        drop(open);
        let done = self.run_command(name, database, command, killed);
        self.within = None;
        // What fails in a transaction ends it.
        let refused = |reply: &Document| reply.get("writeErrors").is_some();
        if done.as_ref().map_or(true, refused) {
            lock(&self.server.transactions).remove(&id);
        }
        done
    }
}
