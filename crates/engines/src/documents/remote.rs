//! Servers that speak BSON over the public wire protocol, through the official driver. Nothing is ever sent twice: the driver's own retries are
//! off, unless the address turns them on. What a server may not know (explain, users, sampling) is asked for, and its absence is said.

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
use super::{
    Cancel, SHAPE_SAMPLE, WireAddress, context, definition_of, id_index, not_there, object_of,
    script_of, understood, with_ids,
};
use crate::engine::{
    Access, Bearings, Beside, Connection, Control, Earlier, EngineError, Fault, LinkState, Listing,
    Outcome, Query, ServerBearings, Sink,
};
use crate::source::{Ask, OpenError, Trouble};

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
    Ok(bson::tree(&bytes))
}

/// A refused duplicate in plain words; the message names the collection, the index and the values.
fn duplicate_words(message: &str) -> Option<String> {
    let (_, rest) = message.split_once("collection: ")?;
    let (place, rest) = rest.split_once(" index: ")?;
    let (index, key) = rest.split_once(" dup key: ")?;
    let collection = place.split_once('.').map_or(place, |(_, name)| name);
    let taken = match index.trim() {
        "_id_" => "each identifier stands for one document.".to_string(),
        index => format!("the index {index} takes each value once."),
    };
    Some(format!(
        "{collection} has a document with {} already: {taken}",
        key.trim()
    ))
}

/// A count as an aggregation that gives it as `n`.
fn counted(command: &Document) -> Document {
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

/// An error of the driver or the server.
fn of_driver(error: &mongodb::error::Error, _writes: bool) -> EngineError {
    let make = |fault, message: String, code: String, advice: Option<String>| EngineError {
        fault,
        message,
        code,
        complaint: Complaint::Other,
        offset: None,
        advice,
    };
    match &*error.kind {
        ErrorKind::Command(command) => of_code(command.code, &command.code_name, &command.message),
        ErrorKind::Write(WriteFailure::WriteError(write)) => of_code(
            write.code,
            write.code_name.as_deref().unwrap_or_default(),
            &write.message,
        ),
        ErrorKind::ServerSelection { .. } => {
            make(Fault::NotSent, error.to_string(), String::new(), None)
        }
        ErrorKind::ConnectionPoolCleared { .. } => {
            make(Fault::NotSent, error.to_string(), String::new(), None)
        }
        ErrorKind::Io(io) => make(Fault::Lost, io.to_string(), String::new(), None),
        ErrorKind::Authentication { message, .. } => {
            make(Fault::Other, message.clone(), "18".into(), None)
        }
        _ => make(Fault::Other, error.to_string(), String::new(), None),
    }
}

fn of_code(code: i32, name: &str, message: &str) -> EngineError {
    let (fault, advice) = match code {
        11000 => (Fault::Constraint, duplicate_words(message)),
        11601 | 11600 | 237 => (Fault::Cancelled, None),
        50 => (Fault::Other, Some("The server's own limit of time was reached.".to_string())),
        13 => (Fault::Other, Some("This user may not do that. /access says what it may.".to_string())),
        43 => (Fault::Other, Some("The server has dropped the cursor (after ten minutes without a request, or a restart). What came before is here; run it again for the rest.".to_string())),
        241 if message.contains("overflow") => (Fault::Statement, Some("A whole number leaves the range of 64 bits; write one side with a point, as in 1.0.".to_string())),
        112 => (Fault::Statement, Some("Another change came in between, so this transaction was given up: nothing of it is kept. Do it once more.".to_string())),
        251 => (Fault::Statement, Some("The server knows this transaction no longer: nothing of it is kept. It was open for too long, or it was given up.".to_string())),
        263 => (Fault::Statement, Some(format!("Within a transaction the server does not do this: {message}."))),
        51183 => (Fault::Statement, Some("save into ... by a path needs a unique index on that path:  create unique index on collection (path);".to_string())),
        10107 | 13435 | 189 | 91 => (Fault::Other, Some("This member of the replica set takes no writes now.".to_string())),
        _ => (Fault::Statement, None),
    };
    EngineError {
        fault,
        message: message.to_string(),
        code: format!("{code} {name}").trim().to_string(),
        complaint: Complaint::Other,
        offset: None,
        advice,
    }
}

/// Why a server could not be reached.
fn unreachable(error: &mongodb::error::Error, address: &WireAddress) -> OpenError {
    let said = Some(error.to_string());
    let make = |trouble, headline: String, checks: Vec<&str>| OpenError {
        trouble,
        headline,
        checks: checks.into_iter().map(str::to_string).collect(),
        said: said.clone(),
    };
    let text = error.to_string();
    match &*error.kind {
        ErrorKind::Authentication { .. } => make(
            Trouble::Login,
            format!("{} did not accept the user or the password.", address.hosts),
            vec!["Check both, and in which database the user was made (authSource)."],
        ),
        ErrorKind::Command(c) if c.code == 18 => make(
            Trouble::Login,
            format!("{} did not accept the user or the password.", address.hosts),
            vec!["Check both, and in which database the user was made (authSource)."],
        ),
        ErrorKind::Command(c) if c.code == 13 => make(
            Trouble::Login,
            format!("{} wants to know who you are.", address.hosts),
            vec![
                "Name the user in the address: mongodb://USER@HOST/DATABASE. The password is asked for.",
            ],
        ),
        ErrorKind::DnsResolve { .. } => make(
            Trouble::NameNotFound,
            format!("The name in {} is not known.", address.text),
            vec!["Check the name, and that this machine can look it up."],
        ),
        ErrorKind::InvalidArgument { message, .. } => make(
            Trouble::Other,
            format!("The address is not understood: {message}."),
            vec![],
        ),
        ErrorKind::InvalidTlsConfig { message, .. } => make(
            Trouble::Tls,
            format!("Encryption cannot be set up: {message}."),
            vec![],
        ),
        _ if text.contains("refused") => make(
            Trouble::Refused,
            format!("Nothing listens at {}.", address.hosts),
            vec!["Is the server running, and is this its port? /practice start has one to try."],
        ),
        _ if text.contains("certificate") || text.contains("tls") || text.contains("TLS") => make(
            Trouble::Tls,
            format!(
                "{} did not prove who it is, or encryption could not be agreed on.",
                address.hosts
            ),
            vec!["tlsCAFile=PATH in the address names who may vouch for it."],
        ),
        _ => make(
            Trouble::NoRoute,
            format!("{} does not answer.", address.hosts),
            vec!["Check host and port, and that nothing between here and there holds it back."],
        ),
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

    fn database_names(&self) -> Result<Vec<String>, EngineError> {
        let admin = self.client.database("admin");
        let command = document! { "listDatabases": 1, "nameOnly": true };
        let found = self.wait(reply(&admin, &command))?;
        let list = found
            .get("databases")
            .and_then(Datum::as_list)
            .unwrap_or_default();
        Ok(list
            .iter()
            .filter_map(|d| d.as_object()?.get("name")?.as_text().map(str::to_string))
            .collect())
    }

    fn find_bearings(&mut self) {
        let hello = self
            .ask(&document! { "hello": 1 })
            .or_else(|_| self.ask(&document! { "isMaster": 1 }))
            .unwrap_or_default();
        let build = self.ask(&document! { "buildInfo": 1 }).unwrap_or_default();
        let status = self
            .ask(&document! { "connectionStatus": 1 })
            .unwrap_or_default();
        let text =
            |d: &Document, name: &str| d.get(name).and_then(Datum::as_text).map(str::to_string);
        let info = status
            .get("authInfo")
            .and_then(Datum::as_object)
            .cloned()
            .unwrap_or_default();
        let user = info
            .get("authenticatedUsers")
            .and_then(Datum::as_list)
            .and_then(|l| l.first())
            .and_then(Datum::as_object)
            .and_then(|u| text(u, "user"));
        let roles: Vec<String> = info
            .get("authenticatedUserRoles")
            .and_then(Datum::as_list)
            .unwrap_or_default()
            .iter()
            .filter_map(|r| text(r.as_object()?, "role"))
            .collect();
        self.comments = hello
            .get("maxWireVersion")
            .and_then(Datum::as_i64)
            .unwrap_or(0)
            >= 9;
        let mut facts = Vec::new();
        let practice = text(&build, "practiceServer");
        if let Some(words) = &practice {
            facts.push(("what it is".into(), words.clone()));
        }
        match text(&hello, "setName") {
            Some(name) => {
                facts.push(("replica set".into(), name));
                if let Some(me) = text(&hello, "me") {
                    facts.push(("member".into(), me));
                }
                let role = if hello
                    .get("isWritablePrimary")
                    .or_else(|| hello.get("ismaster"))
                    == Some(&Datum::Boolean(true))
                {
                    "primary"
                } else {
                    "secondary"
                };
                facts.push(("role of the member".into(), role.into()));
            }
            None => facts.push((
                "transactions".into(),
                "none: a server alone has none".into(),
            )),
        }
        let router = text(&hello, "msg").as_deref() == Some("isdbgrid");
        let has_transactions = hello.get("setName").is_some() || router;
        facts.push((
            "read preference".into(),
            self.address
                .option("readPreference")
                .unwrap_or_else(|| "primary".into()),
        ));
        let retries: Vec<&str> = ["retryReads", "retryWrites"]
            .into_iter()
            .filter(|o| self.address.option(o).as_deref() == Some("true"))
            .collect();
        let mut warnings = Vec::new();
        if !retries.is_empty() {
            warnings.push(format!(
                "The address turns on {}: the driver may send a statement a second time by itself.",
                retries.join(" and ")
            ));
        }
        let tls = matches!(self.client_options_tls(), Some(true));
        let insecure = self
            .address
            .option("tlsInsecure")
            .or_else(|| self.address.option("tlsAllowInvalidCertificates"))
            .as_deref()
            == Some("true");
        let link = if tls {
            LinkState::Encrypted {
                version: "TLS".into(),
                verified: !insecure,
            }
        } else {
            LinkState::Open
        };
        self.bearings = Bearings {
            version: if practice.is_some() {
                "practice server".into()
            } else {
                text(&build, "version").unwrap_or_default()
            },
            database: self.database.name().to_string(),
            access: Access::Writable,
            server: Some(ServerBearings {
                place: self.address.hosts.clone(),
                local: self.address.is_local(),
                way: String::new(),
                user: user.unwrap_or_else(|| "nobody".into()),
                role: None,
                all_powerful: roles.iter().any(|r| r == "root"),
                search_path: Vec::new(),
                time_zone: "UTC".into(),
                link,
                identity: text(&hello, "setName").unwrap_or_else(|| self.address.hosts.clone()),
            }),
            facts,
            warnings,
            has_transactions,
            ..Bearings::of("documents")
        };
    }

    fn client_options_tls(&self) -> Option<bool> {
        let given = self
            .address
            .option("tls")
            .or_else(|| self.address.option("ssl"));
        match given.as_deref() {
            Some("true") => Some(true),
            Some(_) => Some(false),
            None => Some(self.address.text.starts_with("mongodb+srv://")),
        }
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

    /// Does something with the session of the open transaction, if there is one. What fails in a transaction ends it.
    fn in_transaction<T>(
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
    fn answer(&self, database: &Database, command: &Document) -> Result<Document, EngineError> {
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
    fn transaction(&mut self, what: Transaction) -> Result<Outcome, EngineError> {
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

    /// Hands over the documents of a cursor as their bytes, until `take` answers false.
    fn stream(
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
                    if !take(cursor.current().as_bytes())? {
                        break;
                    }
                }
                Ok(())
            })
        })
    }

    /// The same, never as a part of a transaction.
    fn stream_outside(
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
                    Ok(true) if take(cursor.current().as_bytes())? => {}
                    Ok(_) => return Ok(()),
                    Err(error) => return Err(of_driver(&error, false)),
                }
            }
        })
    }

    fn flow(
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
        let rows = std::cell::RefCell::new(Documents::new(sink));
        let mut count = 0_u64;
        let saves = flow.stages.iter().find_map(|s| match &s.kind {
            StageKind::Save { collection, .. } => Some(collection.name.clone()),
            _ => None,
        });
        if plan.here.is_empty() && plan.command.is_some() {
            let command = plan
                .command
                .as_ref()
                .ok_or_else(|| EngineError::plain("There is nothing to send."))?;
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
            if count == 0
                && let Some(document) = &plan.when_empty
            {
                rows.borrow_mut().take(document)?;
            }
        } else {
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
        }
        if plan.command.is_none() && plan.here.is_empty() {
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
        }
        if let Some(name) = saves {
            outcome.returns_rows = false;
            if outcome.made.is_empty() {
                let holds = self
                    .ask(&document! { "count": name.as_str() })
                    .ok()
                    .and_then(|r| r.get("n").and_then(Datum::as_i64));
                outcome.made.push(match holds {
                    Some(n) => format!("Saved: {name} holds {n} documents now."),
                    None => format!("Saved into {name}."),
                });
            }
            return Ok(outcome);
        }
        if let Some(note) = rows.into_inner().end()? {
            outcome.notes.push(note);
        }
        if let Some(name) = super::collection_of(flow)
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

    fn collection_names(&self) -> Result<Vec<String>, EngineError> {
        Ok(self
            .collections()?
            .into_iter()
            .filter_map(|c| c.get("name").and_then(Datum::as_text).map(str::to_string))
            .collect())
    }

    fn exists(&self, name: &str) -> bool {
        let filter = document! { "name": name };
        let command = document! { "listCollections": 1, "filter": filter, "nameOnly": true, "cursor": Document::new() };
        self.all(&command).is_ok_and(|list| !list.is_empty())
    }

    fn collections(&self) -> Result<Vec<Document>, EngineError> {
        let mut list = self.all(&document! { "listCollections": 1, "cursor": Document::new() })?;
        list.sort_by(|a, b| {
            a.get("name")
                .and_then(Datum::as_text)
                .cmp(&b.get("name").and_then(Datum::as_text))
        });
        Ok(list)
    }

    /// All documents of a cursor that is known to be short.
    fn all(&self, command: &Document) -> Result<Vec<Document>, EngineError> {
        let command = Command {
            document: command.clone(),
            target: Target::Here,
            answer: Answer::Cursor,
        };
        let mut list = Vec::new();
        self.each(&command, &mut |document| {
            list.push(document);
            true
        })?;
        Ok(list)
    }

    /// The documents of a cursor, until `take` answers false.
    fn each(
        &self,
        command: &Command,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<(), EngineError> {
        let ticket = self.control.running.load(Ordering::SeqCst);
        self.stream_outside(
            ticket,
            command,
            &mut |bytes| Ok(take(bson::tree(bytes))),
            &mut || Ok(()),
        )
        .map(drop)
    }

    fn write(
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

    fn definition(&mut self, statement: &Statement) -> Result<Outcome, EngineError> {
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

    fn call(
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

    fn read_catalog(&self, first: &mut dyn FnMut(Catalog)) -> Result<Catalog, EngineError> {
        let mut catalog = Catalog::default();
        let here = self.database.name().to_string();
        catalog.databases = self
            .database_names()
            .unwrap_or_else(|_| vec![here.clone()])
            .into_iter()
            .map(|name| CatalogDatabase {
                here: name == here,
                name,
                detail: String::new(),
            })
            .collect();
        let list = self.collections()?;
        for found in &list {
            let name = found
                .get("name")
                .and_then(Datum::as_text)
                .unwrap_or_default();
            let mut object = object_of(name, Shape::default());
            object.shape = None;
            object.helper = name.starts_with("system.");
            if found.get("type").and_then(Datum::as_text) == Some("view") {
                object.kind = idle_tide_core::Kind::View;
                object.definition = found.get("options").map(idle_tide_lang::flow::literal);
            }
            if let Some(Datum::Object(options)) = found.get("options") {
                for (name, value) in options.fields.iter().filter(|(n, _)| n != "pipeline") {
                    object
                        .facts
                        .push((name.to_string(), idle_tide_lang::flow::literal(value)));
                }
            }
            catalog.objects.push(object);
        }
        if list.len() > 40 {
            let mut names = catalog.clone();
            names.names_only = true;
            first(names);
        }
        for (at, object) in catalog.objects.iter_mut().enumerate() {
            if at >= SAMPLED || object.helper {
                continue;
            }
            let mut shape = Shape::default();
            let most = if list.len() > 40 { 100 } else { SHAPE_SAMPLE };
            self.sample(&object.name, most, &mut |document| {
                shape.meet(&bson::encode(&document));
                true
            })?;
            let sampled = object_of(&object.name, shape);
            object.fields = sampled.fields;
            object.shape = sampled.shape;
            if object.kind == idle_tide_core::Kind::Collection {
                object.indexes = self.indexes(&object.name);
                if object.indexes.is_empty() {
                    object.indexes.push(id_index());
                }
                object.definition = Some(definition_of(object));
            }
        }
        Ok(catalog)
    }

    /// Hands over documents of a collection, chosen by chance where there are more than `most`, until `take` answers
    /// false; gives how many there are in all, if the server says so.
    fn sample(
        &self,
        name: &str,
        most: u64,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<Option<u64>, EngineError> {
        let counted = self.ask(&document! { "count": name });
        if let Err(error) = &counted
            && error.fault == Fault::Cancelled
        {
            return Err(error.clone());
        }
        let count = counted
            .ok()
            .and_then(|r| r.get("n").and_then(Datum::as_i64));
        let count = count.and_then(|n| u64::try_from(n).ok());
        let size = i64::try_from(most).unwrap_or(i64::MAX);
        if count.is_some_and(|count| count > most) {
            let stage = document! { "$sample": document! { "size": Datum::integer(size) } };
            let command = document! { "aggregate": name, "pipeline": Datum::List(vec![stage.into()]), "cursor": Document::new() };
            match self.all(&command) {
                Ok(list) => {
                    // Nothing is taken before it is known that the server can sample.
                    let _ = list.into_iter().all(take);
                    return Ok(count);
                }
                Err(error) if error.fault == Fault::Cancelled => return Err(error),
                // A server that cannot sample gives its first ones.
                Err(_) => {}
            }
        }
        let command = Command {
            document: document! { "find": name, "limit": Datum::integer(size) },
            target: Target::Here,
            answer: Answer::Cursor,
        };
        self.each(&command, take)?;
        Ok(count)
    }

    fn indexes(&self, name: &str) -> Vec<Index> {
        let found = self
            .all(&document! { "listIndexes": name, "cursor": Document::new() })
            .unwrap_or_default();
        found
            .iter()
            .map(|spec| {
                let key = spec
                    .get("key")
                    .and_then(Datum::as_object)
                    .cloned()
                    .unwrap_or_default();
                let columns = key
                    .fields
                    .iter()
                    .map(|(path, how)| match how.as_i64() {
                        Some(1) => path.to_string(),
                        Some(-1) => format!("{path} desc"),
                        _ => format!("{path}: {}", idle_tide_lang::flow::literal(how)),
                    })
                    .collect();
                let is = |name: &str| spec.get(name) == Some(&Datum::Boolean(true));
                let id = key.len() == 1 && key.fields[0].0 == "_id";
                Index {
                    name: spec
                        .get("name")
                        .and_then(Datum::as_text)
                        .unwrap_or_default()
                        .to_string(),
                    columns,
                    unique: is("unique") || id,
                    automatic: id,
                    primary: id,
                    condition: spec
                        .get("partialFilterExpression")
                        .map(idle_tide_lang::flow::literal),
                    method: spec
                        .get("expireAfterSeconds")
                        .and_then(Datum::as_i64)
                        .map(|s| format!("expires after {s} s")),
                    ..Index::default()
                }
            })
            .collect()
    }
}

fn typed_documents(typed: &idle_tide_lang::flow::ast::Expr) -> Result<Vec<Document>, EngineError> {
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
fn at_its_stage(mut error: EngineError, flow: &Flow, places: &[Span]) -> EngineError {
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
struct There<'a> {
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

/// A step of a plan, from the server's own tree.
fn step(of: &Document) -> PlanStep {
    let text = |name: &str| {
        of.get(name)
            .and_then(Datum::as_text)
            .unwrap_or_default()
            .to_string()
    };
    let number = |name: &str| of.get(name).and_then(Datum::as_f64);
    let mut details = Vec::new();
    for name in [
        "filter",
        "keyPattern",
        "indexBounds",
        "sortPattern",
        "limitAmount",
        "direction",
    ] {
        if let Some(value) = of
            .get(name)
            .filter(|v| !matches!(v, Datum::Object(o) if o.is_empty()))
        {
            details.push(format!("{name} {}", idle_tide_lang::flow::literal(value)));
        }
    }
    let mut parts: Vec<PlanStep> = Vec::new();
    for name in ["inputStage", "outerStage", "innerStage", "queryPlan"] {
        if let Some(Datum::Object(inner)) = of.get(name) {
            parts.push(step(inner));
        }
    }
    for inner in of
        .get("inputStages")
        .and_then(Datum::as_list)
        .unwrap_or_default()
    {
        if let Datum::Object(inner) = inner {
            parts.push(step(inner));
        }
    }
    PlanStep {
        what: text("stage"),
        on: text("indexName"),
        details,
        rows: number("nReturned"),
        time: number("executionTimeMillisEstimate"),
        runs: None,
        parts,
        ..PlanStep::default()
    }
}

fn plan_of(found: &Document) -> PlanStep {
    let inner = |d: &Document, a: &str, b: &str| {
        d.get(a)
            .and_then(Datum::as_object)
            .and_then(|o| o.get(b))
            .and_then(Datum::as_object)
            .map(step)
    };
    let cursor = |d: &Document| {
        inner(d, "executionStats", "executionStages")
            .or_else(|| inner(d, "queryPlanner", "winningPlan"))
    };
    let mut below = cursor(found);
    for stage in found
        .get("stages")
        .and_then(Datum::as_list)
        .unwrap_or_default()
    {
        let Some((name, value)) = stage.as_object().and_then(|s| s.fields.first()) else {
            continue;
        };
        if name == "$cursor" {
            below = value.as_object().and_then(cursor);
            continue;
        }
        below = Some(PlanStep {
            what: name.to_string(),
            details: vec![idle_tide_lang::flow::literal(value)],
            parts: below.into_iter().collect(),
            ..PlanStep::default()
        });
    }
    below.unwrap_or_default()
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

    fn beside(&self) -> Option<Beside> {
        let address = self.address.with_database(self.database.name());
        Some(Box::new(move || {
            Remote::open(&address, &crate::source::Silent)
                .map(|c| Box::new(c) as Box<dyn Connection>)
        }))
    }

    fn follow(&mut self, bearings: &Bearings) -> Result<(), EngineError> {
        if self.database.name() != bearings.database {
            self.database = self.client.database(&bearings.database);
        }
        Ok(())
    }

    fn documents(
        &mut self,
        ticket: u64,
        collection: &str,
        most: u64,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<Option<u64>, EngineError> {
        self.under(ticket, |this| this.sample(collection, most, take))
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
                let list = found
                    .get("databases")
                    .and_then(Datum::as_list)
                    .unwrap_or_default()
                    .to_vec();
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
                            .filter_map(|r| {
                                let r = r.as_object()?;
                                Some(format!("{} on {}", r.get("role")?.as_text()?, r.get("db")?.as_text()?))
                            })
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
                let list = ["authenticatedUserPrivileges", "authenticatedUserRoles"]
                    .iter()
                    .find_map(|name| {
                        info.get(name)
                            .and_then(Datum::as_list)
                            .filter(|l| !l.is_empty())
                    });
                let note = if list.is_none() {
                    "Nobody is logged in: what is open to all is allowed."
                } else {
                    "What the present user may."
                };
                Ok(Query {
                    sql: typed(list.unwrap_or_default().to_vec()),
                    note: Some(note.into()),
                })
            }
        }
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

    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError> {
        self.refusing = refuse;
        Ok(())
    }
}
