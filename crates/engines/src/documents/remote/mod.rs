//! Servers that speak BSON over the public wire protocol, through the official driver. Nothing is ever sent twice: the driver's own retries are
//! off, unless the address turns them on. What a server may not know (explain, users, sampling) is asked for, and its absence is said.

mod bearings;
mod catalog;
mod complaint;
mod flow;
mod plan;
mod transaction;
mod write;

use std::borrow::Cow;
use std::cell::Cell;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::Poll;
use std::time::Duration;

use idle_tide_core::document::shape::Shape;
use idle_tide_core::document::{Datum, Document, bson};
use idle_tide_core::plan::{Plan, Step as PlanStep};
use idle_tide_core::{Catalog, Database as CatalogDatabase, Index, document};
use idle_tide_dock::flow::{Chain, FlowError, Limits, Places};
use idle_tide_lang::Dialect;
use idle_tide_lang::correct::Complaint;
use idle_tide_lang::dialect::FLOW;
use idle_tide_lang::flow::ast::{
    Flow, Path, Source, Span, StageKind, Statement, Transaction, Write,
};
use idle_tide_lang::flow::compile::{Answer, Command, Target, compile, writes};
use mongodb::bson::RawDocumentBuf;
use mongodb::error::{ErrorKind, WriteFailure};
use mongodb::options::ClientOptions;
use mongodb::{Client, ClientSession, Database};
use secrecy::{ExposeSecret, SecretString};
use tokio::runtime::Runtime;
use tokio::sync::Notify;

use super::local::from_earlier;
use super::rows::Documents;
use complaint::{of_code, of_driver, unreachable};
use plan::plan_of;

use super::{
    Cancel, SHAPE_SAMPLE, WireAddress, context, definition_of, id_index, not_there, object_of,
    script_of, understood, with_ids,
};
use crate::engine::{
    Access, Bearings, Beside, Collections, Connection, Control, Describe, Earlier, EngineError,
    Fault, LinkState, Listing, Outcome, Query, Served, ServerBearings, Sink,
};
use crate::trouble::{Ask, OpenError, Trouble};

/// How long a server is looked for.
const LOOK: Duration = Duration::from_secs(8);
/// Collections whose documents are sampled for the catalog; of more only the names are known at first.
const SAMPLED: usize = 200;

/// A session with a document server.
pub struct Remote {
    runtime: Runtime,
    client: Client,
    database: Database,
    address: WireAddress,
    control: Arc<RemoteControl>,
    bearings: Bearings,
    /// Whether every command takes a comment, by which it is found again to be stopped.
    comments: bool,
    refusing: bool,
    earlier: Option<Earlier>,
    /// The driver's session of an open transaction; away while a command of it runs.
    session: Cell<Option<ClientSession>>,
    /// Whether a command of the open transaction failed, which ends it on the server.
    failed: Cell<bool>,
}

impl Drop for Remote {
    /// What an open transaction holds on the server is let go at once.
    fn drop(&mut self) {
        if let Some(mut session) = self.session.take() {
            let end = async {
                let _ =
                    tokio::time::timeout(Duration::from_secs(1), session.abort_transaction()).await;
            };
            self.runtime.block_on(end);
        }
    }
}

/// What other threads may touch.
struct RemoteControl {
    cancel: Cancel,
    notify: Notify,
    address: WireAddress,
    running: AtomicU64,
}

fn mark(ticket: u64) -> String {
    format!("idle-tide {}-{ticket}", std::process::id())
}

impl Control for RemoteControl {
    fn cancel(&self, ticket: u64) {
        self.cancel.cancel(ticket);
        if self.running.load(Ordering::SeqCst) != ticket {
            return;
        }
        let address = self.address.clone();
        // The server is told on a connection of its own; the one that waits is let go at the same time.
        std::thread::spawn(move || {
            let _ = stop_operation(&address, &mark(ticket));
        });
        self.notify.notify_one();
    }

    fn waiting(&self) -> Option<(Duration, Duration)> {
        None
    }
}

/// Finds the operation with a comment and has the server stop it.
fn stop_operation(address: &WireAddress, mark: &str) -> Result<(), EngineError> {
    let runtime = runtime().map_err(|e| EngineError::plain(e.headline))?;
    runtime.block_on(async {
        let client = client(address).await.map_err(|e| of_driver(&e, false))?;
        let admin = client.database("admin");
        let found = reply(&admin, &document! { "currentOp": 1, "active": true }).await?;
        for operation in found
            .get("inprog")
            .and_then(Datum::as_list)
            .unwrap_or_default()
        {
            let Some(operation) = operation.as_object() else {
                continue;
            };
            let inner = operation
                .get("command")
                .and_then(Datum::as_object)
                .and_then(|c| c.get("comment"));
            let comment = operation.get("comment").or(inner).and_then(Datum::as_text);
            if let (Some(comment), Some(id)) = (comment, operation.get("opid"))
                && comment == mark
            {
                reply(
                    &admin,
                    &Document::new().with("killOp", 1).with("op", id.clone()),
                )
                .await?;
            }
        }
        Ok(())
    })
}

fn runtime() -> Result<Runtime, OpenError> {
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .map_err(|error| {
            OpenError::plain(format!(
                "The system gives no means to wait for a server: {error}."
            ))
        })
}

async fn client(address: &WireAddress) -> Result<Client, mongodb::error::Error> {
    let mut options = ClientOptions::parse(address.whole().expose_secret()).await?;
    options.app_name = Some("idle-tide".into());
    options.server_selection_timeout.get_or_insert(LOOK);
    options.connect_timeout.get_or_insert(LOOK);
    // An address that turns retries on is obeyed; by itself nothing is tried twice.
    options.retry_reads = Some(address.option("retryReads").as_deref() == Some("true"));
    options.retry_writes = Some(address.option("retryWrites").as_deref() == Some("true"));
    Client::with_options(options)
}

fn raw(document: &Document) -> Result<RawDocumentBuf, EngineError> {
    RawDocumentBuf::from_bytes(bson::encode(document))
        .map_err(|e| EngineError::plain(format!("This cannot be sent: {e}.")))
}

/// Sends a command and takes its answer.
async fn reply(database: &Database, command: &Document) -> Result<Document, EngineError> {
    reply_in(database, command, None).await
}

/// Sends a command, as a part of a transaction if there is a session with one, and takes its answer.
async fn reply_in(
    database: &Database,
    command: &Document,
    session: Option<&mut ClientSession>,
) -> Result<Document, EngineError> {
    let writes = command
        .fields
        .first()
        .is_some_and(|(name, _)| idle_tide_lang::flow::is_write_command(name));
    let action = database.run_raw_command(raw(command)?);
    let answer = match session {
        Some(session) => action.session(session).await,
        None => action.await,
    };
    let answer = answer.map_err(|e| of_driver(&e, writes))?;
    let bytes = mongodb::bson::to_vec(&answer)
        .map_err(|e| EngineError::plain(format!("The answer cannot be read: {e}.")))?;
    Ok(bson::tree(sound(&bytes)?))
}

/// A document of the server's, if it is one: what reads it goes as deep as it does.
fn sound(bytes: &[u8]) -> Result<&[u8], EngineError> {
    match bson::check(bytes) {
        Ok(()) => Ok(bytes),
        Err(error) => Err(EngineError::plain(format!(
            "The server sent a document that cannot be read: {error}."
        ))),
    }
}

impl Remote {
    /// Opens an address. A missing password is asked for.
    ///
    /// # Errors
    /// If the server cannot be reached or refuses.
    pub fn open(address: &WireAddress, ask: &dyn Ask) -> Result<Self, OpenError> {
        if let (Some(user), None) = (&address.user, address.password()) {
            let given = ask
                .secret(&format!("password of {user} at {}", address.hosts))
                .ok_or_else(OpenError::cancelled)?;
            address.set_password(Some(given));
        }
        let runtime = runtime()?;
        let client = runtime
            .block_on(client(address))
            .map_err(|e| unreachable(&e, address))?;
        let name = address.database.clone().unwrap_or_else(|| "test".into());
        let database = client.database(&name);
        let hello = runtime.block_on(async {
            database
                .run_command(mongodb::bson::doc! { "ping": 1 })
                .await
        });
        if let Err(error) = hello {
            let error = unreachable(&error, address);
            if error.trouble == Trouble::Login {
                address.set_password(None);
            }
            return Err(error);
        }
        let control = Arc::new(RemoteControl {
            cancel: Cancel::default(),
            notify: Notify::new(),
            address: address.clone(),
            running: AtomicU64::new(0),
        });
        let mut this = Remote {
            runtime,
            client,
            database,
            address: address.clone(),
            control,
            bearings: Bearings::of("documents"),
            comments: false,
            refusing: false,
            earlier: None,
            session: Cell::new(None),
            failed: Cell::new(false),
        };
        this.find_bearings();
        // Without a database in the address, the first that is not the server's own.
        if address.database.is_none()
            && let Ok(names) = this.database_names()
            && let Some(first) = names
                .iter()
                .find(|n| !matches!(n.as_str(), "admin" | "config" | "local"))
        {
            this.database = this.client.database(first);
            this.bearings.database = first.clone();
        }
        Ok(this)
    }

    /// Asks something of our own, unless it is cancelled.
    fn ask(&self, command: &Document) -> Result<Document, EngineError> {
        let ticket = self.control.running.load(Ordering::SeqCst);
        let command = self.marked(ticket, command.clone());
        self.wait(reply(&self.database, &command))
    }

    /// Does something under a ticket; what was cancelled before it began does not begin.
    fn under<T>(
        &mut self,
        ticket: u64,
        work: impl FnOnce(&mut Self) -> Result<T, EngineError>,
    ) -> Result<T, EngineError> {
        let control = Arc::clone(&self.control);
        control.running.store(ticket, Ordering::SeqCst);
        let done = control.cancel.under(ticket).and_then(|_running| work(self));
        control.running.store(0, Ordering::SeqCst);
        done
    }

    fn place(&self, target: &Target) -> Database {
        match target {
            Target::Here => self.database.clone(),
            Target::Database(name) => self.client.database(name),
        }
    }

    fn marked(&self, ticket: u64, mut command: Document) -> Document {
        let name = command.fields.first().map_or("", |(n, _)| n.as_str());
        let takes = [
            "find",
            "aggregate",
            "count",
            "update",
            "delete",
            "insert",
            "distinct",
        ]
        .contains(&name);
        if self.comments && takes && command.get("comment").is_none() {
            command.set("comment", mark(ticket));
        }
        command
    }

    /// Waits for something of the driver, or until it is cancelled.
    fn wait<T>(
        &self,
        work: impl Future<Output = Result<T, EngineError>>,
    ) -> Result<T, EngineError> {
        let control = Arc::clone(&self.control);
        self.runtime.block_on(async {
            let mut work = std::pin::pin!(work);
            loop {
                tokio::select! {
                    biased;
                    done = &mut work => return done,
                    () = control.notify.notified() => {
                        // A word that came too late for an earlier statement stops nothing.
                        if control.cancel.is_cancelled() {
                            return Err(EngineError::cancelled());
                        }
                    }
                }
            }
        })
    }
}

impl Connection for Remote {
    fn dialect(&self) -> &'static Dialect {
        &FLOW
    }

    fn control(&self) -> Arc<dyn Control> {
        Arc::clone(&self.control) as Arc<dyn Control>
    }

    fn bearings(&mut self) -> Bearings {
        self.bearings.database = self.database.name().to_string();
        self.bearings.clone()
    }

    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        self.control.cancel.begin(ticket);
        self.control.running.store(ticket, Ordering::SeqCst);
        let done = if self.control.cancel.is_cancelled() {
            Err(EngineError::cancelled())
        } else if let Some(name) = statement.strip_prefix("use ") {
            self.database = self.client.database(name.trim().trim_end_matches(';'));
            Ok(Outcome::default())
        } else {
            understood(statement).and_then(|parsed| {
                if let Statement::Transaction(what) = parsed {
                    return self.transaction(what);
                }
                if self.bearings.transaction_failed {
                    return Err(EngineError::plain(
                        "The transaction failed and nothing of it will be kept;  rollback;  ends it.",
                    ));
                }
                if self.refusing && writes(&parsed) {
                    return Err(EngineError {
                        fault: Fault::ReadOnly,
                        ..EngineError::plain(
                            "This session refuses writes; /writes ask allows them again.",
                        )
                    });
                }
                match &parsed {
                    Statement::Flow(flow) => self.flow(ticket, &parsed, flow, sink),
                    Statement::Write(write) => self.write(ticket, &parsed, write),
                    Statement::Definition(_) => self.definition(&parsed),
                    Statement::Call(_) => self.call(ticket, &parsed, sink),
                    Statement::Transaction(_) => Ok(Outcome::default()),
                }
            })
        };
        if let Err(error) = &done
            && error.fault == Fault::Lost
        {
            self.session.set(None);
            self.bearings.transaction = None;
        }
        self.bearings.transaction_failed |=
            self.failed.take() && self.bearings.transaction.is_some();
        self.control.running.store(0, Ordering::SeqCst);
        self.control.cancel.end();
        done
    }

    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError> {
        self.refusing = refuse;
        Ok(())
    }

    fn describe(&mut self) -> &mut dyn Describe {
        self
    }

    fn collections(&mut self) -> Option<&mut dyn Collections> {
        Some(self)
    }

    fn served(&mut self) -> Option<&mut dyn Served> {
        Some(self)
    }
}

impl Describe for Remote {
    fn catalog(
        &mut self,
        ticket: u64,
        first: &mut dyn FnMut(Catalog),
    ) -> Result<Catalog, EngineError> {
        self.under(ticket, |this| this.read_catalog(first))
    }

    fn script(&mut self, _: u64, catalog: &Catalog) -> Result<String, EngineError> {
        Ok(script_of(catalog))
    }

    fn count_rows(&mut self, ticket: u64, catalog: &mut Catalog, limit: Duration) {
        let start = std::time::Instant::now();
        for object in &mut catalog.objects {
            if start.elapsed() > limit.max(Duration::from_millis(50)) {
                return;
            }
            let count = document! { "count": object.name.as_str() };
            let found = self.under(ticket, |this| this.ask(&count));
            object.rows = found
                .ok()
                .and_then(|r| r.get("n").and_then(Datum::as_i64))
                .and_then(|n| u64::try_from(n).ok());
        }
    }

    fn listing(&mut self, what: Listing<'_>) -> Result<Query, String> {
        let typed = |list: Vec<Datum>| {
            format!("from {}", idle_tide_lang::flow::literal(&Datum::List(list)))
        };
        let words = |error: EngineError| error.advice.unwrap_or(error.message);
        match what {
            Listing::Databases(_) => {
                let admin = self.client.database("admin");
                let found = self
                    .runtime
                    .block_on(reply(&admin, &document! { "listDatabases": 1 }))
                    .map_err(words)?;
                let list = found.get("databases").and_then(Datum::as_list);
                let list = list.unwrap_or_default().iter().filter_map(Datum::as_object);
                let list = list.map(|d| {
                    let field = |name: &str| d.get(name).cloned().unwrap_or(Datum::Null);
                    document! { "name": field("name"), "bytes": field("sizeOnDisk") }.into()
                });
                let list = list.collect();
                Ok(Query {
                    sql: typed(list),
                    note: Some("/use NAME goes there.".into()),
                })
            }
            Listing::Roles(_) => {
                let found = self
                    .ask(&document! { "usersInfo": 1 })
                    .map_err(|e| format!("This server tells of no users: {}.", words(e)))?;
                let list = found
                    .get("users")
                    .and_then(Datum::as_list)
                    .unwrap_or_default()
                    .iter()
                    .filter_map(Datum::as_object)
                    .map(|u| {
                        let roles: Vec<String> = u
                            .get("roles")
                            .and_then(Datum::as_list)
                            .unwrap_or_default()
                            .iter()
                            .filter_map(|r| Some(role(r.as_object()?)))
                            .collect();
                        let field = |name: &str| u.get(name).cloned().unwrap_or(Datum::Null);
                        document! { "name": field("user"), "database": field("db"), "roles": roles.join(", ") }.into()
                    })
                    .collect::<Vec<_>>();
                Ok(Query {
                    sql: typed(list),
                    note: Some(
                        "Users of this database; those of others are in theirs (/use NAME).".into(),
                    ),
                })
            }
            Listing::Access(_) => {
                let found = self
                    .ask(&document! { "connectionStatus": 1, "showPrivileges": true })
                    .map_err(words)?;
                let info = found
                    .get("authInfo")
                    .and_then(Datum::as_object)
                    .cloned()
                    .unwrap_or_default();
                let of = |name: &str| {
                    let list = info.get(name).and_then(Datum::as_list).unwrap_or_default();
                    list.iter().filter_map(Datum::as_object)
                };
                let mut list: Vec<Datum> = of("authenticatedUserPrivileges").map(right).collect();
                // A server that tells no rights still tells the roles.
                if list.is_empty() {
                    list = of("authenticatedUserRoles")
                        .map(|r| document! { "role": role(r) }.into())
                        .collect();
                }
                let note = if list.is_empty() {
                    "Nobody is logged in: what is open to all is allowed."
                } else {
                    "What the present user may."
                };
                Ok(Query {
                    sql: typed(list),
                    note: Some(note.into()),
                })
            }
        }
    }
}

/// A role and the database it belongs to, in words.
fn role(role: &Document) -> String {
    let field = |name: &str| role.get(name).and_then(Datum::as_text).unwrap_or_default();
    format!("{} on {}", field("role"), field("db"))
}

/// One of the privileges that `connectionStatus` tells: what it is about, and what may be done with it.
fn right(of: &Document) -> Datum {
    let resource = of.get("resource").and_then(Datum::as_object);
    let field = |name: &str| resource?.get(name).and_then(Datum::as_text);
    let on = match (field("db"), field("collection")) {
        (Some(""), Some("")) => "every database".to_string(),
        (Some(db), Some("")) => format!("every collection of {db}"),
        (Some(""), Some(name)) => format!("{name} of every database"),
        (Some(db), Some(name)) => format!("{db}.{name}"),
        _ if resource.is_some_and(|r| r.get("anyResource").is_some()) => "everything".into(),
        _ => "the whole server".into(),
    };
    let actions = of
        .get("actions")
        .and_then(Datum::as_list)
        .unwrap_or_default();
    let may: Vec<&str> = actions.iter().filter_map(Datum::as_text).collect();
    document! { "on": on, "rights": may.join(", ") }.into()
}

impl Collections for Remote {
    fn documents(
        &mut self,
        ticket: u64,
        collection: &str,
        most: u64,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<Option<u64>, EngineError> {
        self.under(ticket, |this| this.sample(collection, most, take))
    }

    fn fill(
        &mut self,
        ticket: u64,
        collection: &str,
        next: &mut dyn FnMut() -> Result<Option<Document>, EngineError>,
    ) -> Result<u64, EngineError> {
        self.under(ticket, |this| this.insert_many(ticket, collection, next))
    }

    fn flow_plan(
        &mut self,
        ticket: u64,
        statement: &str,
        measure: bool,
    ) -> Result<Plan, EngineError> {
        let parsed = understood(statement)?;
        let Statement::Flow(_) = &parsed else {
            return Err(EngineError::plain(
                "A plan is for what reads: from collection ...",
            ));
        };
        let writes = writes(&parsed);
        let plan = compile(&parsed).map_err(EngineError::of_flow)?;
        let Some(command) = plan.command else {
            return Err(EngineError::plain(
                "This is computed here altogether; F7 shows its stages.",
            ));
        };
        let measure = measure && !writes;
        let verbosity = if measure {
            "executionStats"
        } else {
            "queryPlanner"
        };
        let explain = document! { "explain": command.document.clone(), "verbosity": verbosity };
        let found = self
            .under(ticket, |this| this.ask(&explain))
            .map_err(|error| {
                let cancelled = error.fault == Fault::Cancelled;
                let words = format!("The server explains nothing ({}).", error.message);
                EngineError {
                    advice: (!cancelled).then_some(words),
                    ..error
                }
            })?;
        let top = plan_of(&found);
        let measured = measure && top.rows.is_some();
        let mut notes = Vec::new();
        if !plan.here.is_empty() {
            notes.push(
                "From emit on the stages are computed here, after what the server gives."
                    .to_string(),
            );
        }
        if measure && !measured {
            notes.push("The server planned it and told no times.".to_string());
        }
        let compiled = idle_tide_core::document::extended::text_of(
            &command.document.into(),
            idle_tide_core::document::extended::Form::Relaxed,
        );
        Ok(Plan {
            steps: vec![top],
            measured,
            text: compiled,
            notes,
        })
    }

    fn set_earlier(&mut self, earlier: Earlier) {
        self.earlier = Some(earlier);
    }
}

impl Served for Remote {
    fn beside(&self) -> Option<Beside> {
        let address = self.address.with_database(self.database.name());
        Some(Box::new(move || {
            Remote::open(&address, &crate::trouble::Silent)
                .map(|c| Box::new(c) as Box<dyn Connection>)
        }))
    }

    fn follow(&mut self, bearings: &Bearings) -> Result<(), EngineError> {
        if self.database.name() != bearings.database {
            self.database = self.client.database(&bearings.database);
        }
        Ok(())
    }

    fn change_password(&mut self, new: &SecretString) -> Result<(), EngineError> {
        let Some(user) = self.address.user.clone() else {
            return Err(EngineError::plain(
                "Nobody is logged in here, so there is no password to change.",
            ));
        };
        let place = self
            .address
            .option("authSource")
            .or_else(|| self.address.database.clone())
            .unwrap_or_else(|| "admin".into());
        let database = self.client.database(&place);
        self.runtime.block_on(reply(
            &database,
            &document! { "updateUser": user, "pwd": new.expose_secret() },
        ))?;
        self.address.set_password(Some(new.clone()));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document::extended::{Form, text_of};

    #[test]
    fn rights_are_told_in_words() {
        for (resource, on) in [
            (
                document! { "db": "haven", "collection": "" },
                "every collection of haven",
            ),
            (
                document! { "db": "haven", "collection": "landings" },
                "haven.landings",
            ),
            (document! { "db": "", "collection": "" }, "every database"),
            (
                document! { "db": "", "collection": "views" },
                "views of every database",
            ),
            (document! { "cluster": true }, "the whole server"),
            (document! { "anyResource": true }, "everything"),
        ] {
            let actions = Datum::List(vec!["find".into(), "insert".into()]);
            let told = right(&document! { "resource": resource, "actions": actions });
            let wanted = format!(r#"{{"on":"{on}","rights":"find, insert"}}"#);
            assert_eq!(text_of(&told, Form::Relaxed), wanted);
        }
    }
}
