//! The commands: what each takes and answers is in the public command reference.

mod collections;
mod failpoint;
mod reading;
mod session;
mod transaction;
mod writing;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU16, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use idle_tide_core::document;
use idle_tide_core::document::compare::Key;
use idle_tide_core::document::{Datum, Document, bson};

use super::Failed;
use super::expression::{Variables, evaluate, truth};
use super::login::{Exchange, User};
use super::query::Filter;
use super::stages::{self, Written};
use super::store::{Collection, Store, Versions};
use super::update::{Update, seed};

type Reply = Result<Document, Failed>;

/// How the server behaves.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// Announce a replica set of this name, and with it retryable writes (for tests).
    pub replica_set: Option<String>,
    /// Whether logging in is asked for.
    pub login: bool,
    /// Obey `practiceCut`, which cuts links, and `configureFailPoint` (for tests).
    pub tests: bool,
}

/// The largest document that is stored.
const LARGEST_DOCUMENT: usize = 16 << 20;
/// Bytes of a batch.
const BATCH: usize = 12 << 20;

struct Cursor {
    namespace: String,
    rest: std::vec::IntoIter<Arc<Document>>,
    head: Option<Arc<Document>>,
}

struct Operation {
    command: Document,
    database: String,
    started: Instant,
    killed: Arc<AtomicBool>,
}

/// The server's state, shared by its connections.
pub struct Server {
    store: RwLock<Store>,
    settings: Settings,
    users: RwLock<Vec<User>>,
    cursors: Mutex<HashMap<i64, Cursor>>,
    next: AtomicI64,
    operations: Mutex<BTreeMap<i64, Operation>>,
    counters: Mutex<BTreeMap<String, u64>>,
    cut: Mutex<Option<(String, u64)>>,
    fail_point: Mutex<Option<failpoint::FailPoint>>,
    /// When each session was used last, in milliseconds since 1970.
    sessions: Mutex<BTreeMap<Vec<u8>, i64>>,
    /// The number and the answer of each session's last write that may be tried again.
    answered: Mutex<HashMap<Vec<u8>, (i64, Document)>>,
    transactions: Mutex<HashMap<Vec<u8>, Transaction>>,
    /// The number of the last transaction that each session committed: a commit may be asked for again.
    committed: Mutex<HashMap<Vec<u8>, i64>>,
    port: AtomicU16,
    started: Instant,
    connections: AtomicU64,
}

/// What is known of one connection.
pub struct Connection {
    server: Arc<Server>,
    number: u64,
    user: Option<User>,
    exchange: Option<Exchange>,
    /// What the program at the other end calls itself.
    application: Option<String>,
    /// What the command that runs works on, where it is a part of a transaction.
    within: Option<Arc<RwLock<Store>>>,
}

/// A transaction that is open.
struct Transaction {
    number: i64,
    began: Instant,
    store: Arc<RwLock<Store>>,
    before: Versions,
}

/// A transaction that is open for longer is given up.
const LONGEST_TRANSACTION: Duration = Duration::from_secs(60);

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn now() -> i64 {
    let since = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

impl Server {
    /// A server over a store.
    pub fn new(store: Store, settings: Settings) -> Arc<Self> {
        Arc::new(Server {
            store: RwLock::new(store),
            settings,
            users: RwLock::default(),
            cursors: Mutex::default(),
            next: AtomicI64::new(now() & 0xffff_ffff),
            operations: Mutex::default(),
            counters: Mutex::default(),
            cut: Mutex::default(),
            fail_point: Mutex::default(),
            sessions: Mutex::default(),
            answered: Mutex::default(),
            transactions: Mutex::default(),
            committed: Mutex::default(),
            port: AtomicU16::new(0),
            started: Instant::now(),
            connections: AtomicU64::new(0),
        })
    }

    /// Adds a user, as the command `createUser` does.
    pub fn add_user(&self, database: &str, name: &str, password: &str, roles: &[&str]) {
        let roles = roles
            .iter()
            .map(|r| ((*r).to_string(), database.to_string()))
            .collect();
        let user = User::new(database, name, password, roles);
        self.users
            .write()
            .unwrap_or_else(PoisonError::into_inner)
            .push(user);
    }

    pub(super) fn listens_on(&self, port: u16) {
        self.port.store(port, Ordering::SeqCst);
    }

    /// Writes what the store keeps.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn keep(&self) -> io::Result<()> {
        let store = self.store.read().unwrap_or_else(PoisonError::into_inner);
        let keeps = store.keeps();
        drop(store);
        if !keeps {
            return Ok(());
        }
        self.store
            .write()
            .unwrap_or_else(PoisonError::into_inner)
            .keep()
    }

    /// Has everything that runs end soon.
    pub(super) fn stop_operations(&self) {
        for operation in lock(&self.operations).values() {
            operation.killed.store(true, Ordering::SeqCst);
        }
    }

    fn number(&self) -> i64 {
        self.next.fetch_add(1, Ordering::SeqCst)
    }

    /// How often a command came.
    pub fn count_of(&self, command: &str) -> u64 {
        lock(&self.counters).get(command).copied().unwrap_or(0)
    }

    fn hello(&self, number: u64) -> Document {
        let primary = true;
        let mut reply = document! {
            "helloOk": true,
            "ismaster": primary,
            "isWritablePrimary": primary,
            "maxBsonObjectSize": 16_777_216,
            "maxMessageSizeBytes": 48_000_000,
            "maxWriteBatchSize": 100_000,
            "localTime": Datum::Date(now()),
            "logicalSessionTimeoutMinutes": 30,
            "connectionId": number as i64,
            "minWireVersion": 0,
            "maxWireVersion": 21,
            "readOnly": false,
        };
        if let Some(name) = &self.settings.replica_set {
            let me = format!("127.0.0.1:{}", self.port.load(Ordering::SeqCst));
            reply.set("setName", name.as_str());
            reply.set("setVersion", 1);
            reply.set("secondary", false);
            reply.set("hosts", Datum::List(vec![me.as_str().into()]));
            reply.set("primary", me.as_str());
            reply.set("me", me.as_str());
        }
        reply
    }
}

/// The documents of a database, for pipelines that look into other collections.
#[derive(Clone, Copy)]
struct Others<'a> {
    store: &'a Store,
    database: &'a str,
    variables: &'a Variables,
    /// How many views it is below.
    depth: usize,
}

/// So many views may stand on one another.
const DEEPEST_VIEW: usize = 20;

impl stages::Collections for Others<'_> {
    fn documents(&self, name: &str) -> Result<Vec<Document>, Failed> {
        if let Some(view) = self.store.view(self.database, name) {
            if self.depth >= DEEPEST_VIEW {
                return Err(Failed::new(
                    165,
                    format!("View depth limit exceeded; maximum depth is {DEEPEST_VIEW}"),
                ));
            }
            let below = Others {
                depth: self.depth + 1,
                ..*self
            };
            let base = below.documents(text(view, "viewOn").unwrap_or_default())?;
            let pipeline = list(view, "pipeline").unwrap_or_default();
            let variables = Variables {
                names: HashMap::new(),
                ..self.variables.clone()
            };
            return stages::run(pipeline, base, &below, &variables).map(|(found, _)| found);
        }
        let found = self.store.collection(self.database, name);
        Ok(found.map_or_else(Vec::new, |c| {
            c.documents.iter().map(|d| (**d).clone()).collect()
        }))
    }
}

fn text<'a>(command: &'a Document, name: &str) -> Option<&'a str> {
    command.get(name).and_then(Datum::as_text)
}

fn object<'a>(command: &'a Document, name: &str) -> Option<&'a Document> {
    command.get(name).and_then(Datum::as_object)
}

fn list<'a>(command: &'a Document, name: &str) -> Result<&'a [Datum], Failed> {
    command
        .get(name)
        .and_then(Datum::as_list)
        .ok_or_else(|| Failed::new(9, format!("{name} has to be an array")))
}

fn wanted(command: &Document, name: &str) -> bool {
    truth(command.get(name))
}

/// The collection that a command names as its first value.
fn collection_name(command: &Document) -> Result<&str, Failed> {
    match command.fields.first().and_then(|(_, v)| v.as_text()) {
        Some("") | None => Err(Failed::new(73, "Invalid namespace specified")),
        Some(name) if name.contains('\0') || name.starts_with('.') => {
            Err(Failed::new(73, "Invalid namespace specified"))
        }
        Some(name) => Ok(name),
    }
}

fn number_reply(n: u64) -> Datum {
    Datum::integer(i64::try_from(n).unwrap_or(i64::MAX))
}

/// A command at work.
struct Request<'a> {
    name: &'a str,
    database: &'a str,
    command: &'a Document,
    variables: &'a Variables,
}

/// What a command does.
type Handler = fn(&mut Connection, &Request<'_>) -> Reply;

/// All commands by their names.
#[rustfmt::skip]
static COMMANDS: &[(&str, Handler)] = &[
    ("hello", Connection::hello),
    ("isMaster", Connection::hello),
    ("ismaster", Connection::hello),
    ("ping", |_, _| Ok(Document::new())),
    ("endSessions", |this, r| this.end_sessions(r.command)),
    ("killSessions", |_, _| Ok(Document::new())),
    ("refreshSessions", |_, _| Ok(Document::new())),
    ("logout", |_, _| Ok(Document::new())),
    ("abortTransaction", |_, _| Ok(Document::new())),
    ("commitTransaction", |_, _| Ok(Document::new())),
    ("startSession", Connection::start_session),
    ("buildInfo", Connection::build_info),
    ("buildinfo", Connection::build_info),
    ("whatsmyuri", |_, _| Ok(document! { "you": "127.0.0.1" })),
    ("getParameter", |this, _| Ok(document! { "featureCompatibilityVersion": document! { "version": "7.0" }, "enableTestCommands": this.server.settings.tests })),
    ("getCmdLineOpts", |_, _| Ok(document! { "argv": Datum::List(vec![]), "parsed": Document::new() })),
    ("serverStatus", |this, _| Ok(this.status())),
    ("hostInfo", |_, _| Ok(document! { "system": document! { "hostname": "localhost" } })),
    ("connectionStatus", |this, _| Ok(this.connection_status())),
    ("saslStart", |this, r| this.sasl_start(r.database, r.command)),
    ("saslContinue", |this, r| this.sasl_continue(r.command)),
    ("listDatabases", |this, r| this.list_databases(r.command, r.variables)),
    ("listCollections", |this, r| this.list_collections(r.database, r.command, r.variables)),
    ("create", |this, r| this.create(r.database, r.command, r.variables)),
    ("drop", Connection::drop_collection),
    ("dropDatabase", Connection::drop_database),
    ("renameCollection", |this, r| this.rename(r.command)),
    ("listIndexes", |this, r| this.list_indexes(r.database, r.command)),
    ("createIndexes", |this, r| this.create_indexes(r.database, r.command)),
    ("dropIndexes", |this, r| this.drop_indexes(r.database, r.command)),
    ("deleteIndexes", |this, r| this.drop_indexes(r.database, r.command)),
    ("find", |this, r| this.find(r.database, r.command, r.variables)),
    ("getMore", |this, r| this.get_more(r.command)),
    ("killCursors", Connection::kill_cursors),
    ("count", Connection::count),
    ("distinct", |this, r| this.distinct(r.database, r.command, r.variables)),
    ("aggregate", |this, r| this.aggregate(r.database, r.command, r.variables)),
    ("insert", |this, r| this.insert(r.database, r.command)),
    ("update", |this, r| this.update(r.database, r.command, r.variables)),
    ("delete", |this, r| this.delete(r.database, r.command, r.variables)),
    ("findAndModify", |this, r| this.find_and_modify(r.database, r.command, r.variables)),
    ("findandmodify", |this, r| this.find_and_modify(r.database, r.command, r.variables)),
    ("explain", |this, r| this.explain(r.database, r.command)),
    ("collStats", Connection::collection_stats),
    ("collstats", Connection::collection_stats),
    ("dbStats", Connection::database_stats),
    ("dbstats", Connection::database_stats),
    ("createUser", |this, r| this.users(r.name, r.database, r.command)),
    ("updateUser", |this, r| this.users(r.name, r.database, r.command)),
    ("dropUser", |this, r| this.users(r.name, r.database, r.command)),
    ("usersInfo", |this, r| this.users(r.name, r.database, r.command)),
    ("rolesInfo", |this, r| this.users(r.name, r.database, r.command)),
    ("currentOp", Connection::current_op),
    ("killOp", Connection::kill_op),
    ("practiceCut", Connection::practice_cut),
    ("configureFailPoint", Connection::configure_fail_point),
];

/// Commands that change nothing, and are asked often.
const READS: &[&str] = &[
    "buildInfo",
    "count",
    "distinct",
    "explain",
    "find",
    "getParameter",
    "killCursors",
    "listCollections",
    "listDatabases",
    "listIndexes",
    "saslStart",
    "saslContinue",
];

/// Commands that need documents of the collection's own.
const NOT_ON_VIEWS: &[&str] = &[
    "insert",
    "update",
    "delete",
    "findAndModify",
    "findandmodify",
    "createIndexes",
    "dropIndexes",
    "deleteIndexes",
    "listIndexes",
    "collStats",
    "collstats",
];

/// The identifier of the session that a command belongs to.
fn session_of(command: &Document) -> Option<&[u8]> {
    match object(command, "lsid")?.get("id")? {
        Datum::Bytes(id) => Some(&id.1),
        _ => None,
    }
}

fn no_such(name: &str) -> Failed {
    Failed::new(59, format!("no such command: '{name}'"))
}

impl Connection {
    /// A connection that just began.
    pub fn new(server: Arc<Server>) -> Self {
        let number = server.connections.fetch_add(1, Ordering::SeqCst) + 1;
        Connection {
            server,
            number,
            user: None,
            exchange: None,
            application: None,
            within: None,
        }
    }

    fn store(&self) -> &RwLock<Store> {
        self.within.as_deref().unwrap_or(&self.server.store)
    }

    fn read(&self) -> std::sync::RwLockReadGuard<'_, Store> {
        self.store().read().unwrap_or_else(PoisonError::into_inner)
    }

    fn write(&self) -> std::sync::RwLockWriteGuard<'_, Store> {
        self.store().write().unwrap_or_else(PoisonError::into_inner)
    }

    /// The answer to a command; `None` if the link is to be cut instead of answering.
    pub fn answer(&mut self, database: &str, command: &Document) -> Option<Document> {
        let name = command
            .fields
            .first()
            .map_or("", |(name, _)| name.as_str())
            .to_string();
        *lock(&self.server.counters).entry(name.clone()).or_default() += 1;
        let number = self.server.number();
        let killed = Arc::new(AtomicBool::new(false));
        let cheap = matches!(
            name.as_str(),
            "hello" | "isMaster" | "ismaster" | "ping" | "getMore" | "currentOp" | "killOp"
        );
        if !cheap {
            let shown = Document {
                fields: command
                    .fields
                    .iter()
                    .filter(|(n, _)| {
                        !matches!(n.as_str(), "documents" | "updates" | "deletes" | "pwd")
                    })
                    .cloned()
                    .collect(),
            };
            lock(&self.server.operations).insert(
                number,
                Operation {
                    command: shown,
                    database: database.into(),
                    started: Instant::now(),
                    killed: Arc::clone(&killed),
                },
            );
        }
        let fails = self.fails(&name, command);
        let done = match &fails {
            Some(failpoint::Fails::Cut | failpoint::Fails::Instead(_)) => Ok(Document::new()),
            _ => self.run(&name, database, command, &killed),
        };
        let done = done.and_then(|reply| {
            // What is acknowledged survives the end of the process.
            if !cheap && !READS.contains(&name.as_str()) {
                self.server.keep().map_err(|error| {
                    Failed::new(14_031, format!("it could not be written: {error}"))
                })?;
            }
            Ok(reply)
        });
        if !cheap {
            lock(&self.server.operations).remove(&number);
        }
        if matches!(fails, Some(failpoint::Fails::Cut)) {
            return None;
        }
        if self.server.settings.tests {
            let mut cut = lock(&self.server.cut);
            if let Some((which, left)) = cut.as_mut()
                && *which == name
            {
                *left -= 1;
                if *left == 0 {
                    *cut = None;
                }
                return None;
            }
        }
        let mut reply = match (done, fails) {
            (_, Some(failpoint::Fails::Instead(reply))) => reply,
            (Ok(mut reply), Some(failpoint::Fails::Beside(more))) => {
                reply.fields.extend(more.fields);
                reply.with("ok", 1.0)
            }
            (Ok(reply), _) => reply.with("ok", 1.0),
            (Err(error), _) => {
                let mut reply = error.detailed(document! { "ok": 0.0, "errmsg": error.message.as_str(), "code": error.code, "codeName": error.name() });
                // A write that may be tried again is said to be one.
                if self.server.settings.replica_set.is_some() && error.code == 91 {
                    reply.set("errorLabels", vec!["RetryableWriteError"]);
                }
                // A transaction that another change came in the way of may be done once more.
                if matches!(error.code, 112 | 251) {
                    reply.set("errorLabels", vec!["TransientTransactionError"]);
                }
                reply
            }
        };
        if self.server.settings.replica_set.is_some() {
            let time = Datum::Timestamp((now() / 1_000) as u32, 1);
            reply.set("operationTime", time.clone());
            let signature =
                document! { "hash": Datum::Bytes(Box::new((0, vec![0; 20]))), "keyId": 0_i64 };
            reply.set(
                "$clusterTime",
                document! { "clusterTime": time, "signature": signature },
            );
        }
        Some(reply)
    }

    fn variables(&self, command: &Document, killed: &Arc<AtomicBool>) -> Result<Variables, Failed> {
        let most = command
            .get("maxTimeMS")
            .and_then(Datum::as_i64)
            .filter(|ms| *ms > 0);
        let until =
            most.and_then(|ms| Instant::now().checked_add(Duration::from_millis(ms as u64)));
        let mut variables = Variables {
            now: now(),
            killed: Some(Arc::clone(killed)),
            until,
            ..Variables::default()
        };
        if let Some(given) = object(command, "let") {
            for (name, value) in &given.fields {
                let value = evaluate(value, &Document::new(), &variables).ok().flatten();
                variables = variables.with(name, value);
            }
        }
        // Entries of `updates` and `deletes` have their own; of `create` it is that of the collection.
        let collation = command
            .get("collation")
            .filter(|_| text(command, "create").is_none());
        variables
            .collated(collation)
            .map(std::borrow::Cow::into_owned)
    }

    fn may_write(&self, name: &str) -> Result<(), Failed> {
        const OPEN: &[&str] = &[
            "hello",
            "isMaster",
            "ismaster",
            "ping",
            "saslStart",
            "saslContinue",
            "buildInfo",
            "buildinfo",
            "connectionStatus",
            "endSessions",
            "logout",
            "whatsmyuri",
        ];
        if !self.server.settings.login || OPEN.contains(&name) {
            return Ok(());
        }
        let Some(user) = &self.user else {
            return Err(Failed::new(
                13,
                format!("command {name} requires authentication"),
            ));
        };
        const WRITES: &[&str] = &[
            "insert",
            "update",
            "delete",
            "findAndModify",
            "findandmodify",
            "create",
            "drop",
            "dropDatabase",
            "createIndexes",
            "dropIndexes",
            "renameCollection",
            "createUser",
            "updateUser",
            "dropUser",
            "bulkWrite",
        ];
        let only_reads = user.roles.iter().all(|(role, _)| {
            matches!(role.as_str(), "read" | "readAnyDatabase" | "clusterMonitor")
        });
        if only_reads && WRITES.contains(&name) {
            return Err(Failed::new(
                13,
                format!("not authorized on this database to execute command {name}"),
            ));
        }
        Ok(())
    }

    fn run(
        &mut self,
        name: &str,
        database: &str,
        command: &Document,
        killed: &Arc<AtomicBool>,
    ) -> Reply {
        self.may_write(name)?;
        if database.is_empty()
            || database.contains(['/', '\\', ' ', '"', '$', '\0', '.']) && database != "$external"
        {
            return Err(Failed::new(
                73,
                format!("Invalid database name: '{database}'"),
            ));
        }
        let within = command.get("autocommit") == Some(&Datum::Boolean(false));
        let numbered = within || command.get("txnNumber").is_some();
        if numbered && self.server.settings.replica_set.is_none() {
            return Err(Failed::new(
                20,
                "Transaction numbers are only allowed on a replica set member or mongos",
            ));
        }
        if within {
            return self.run_in_transaction(name, database, command, killed);
        }
        if object(command, "readConcern").and_then(|c| text(c, "level")) == Some("snapshot") {
            return Err(Failed::new(
                115,
                "the practice server keeps no snapshots to read from outside of transactions",
            ));
        }
        self.run_once(name, database, command, killed)
    }

    /// A write with a number is done once, however often it is asked for.
    fn run_once(
        &mut self,
        name: &str,
        database: &str,
        command: &Document,
        killed: &Arc<AtomicBool>,
    ) -> Reply {
        let (Some(session), Some(number)) = (
            session_of(command),
            command.get("txnNumber").and_then(Datum::as_i64),
        ) else {
            return self.run_command(name, database, command, killed);
        };
        match lock(&self.server.answered).get(session) {
            Some((known, reply)) if *known == number => return Ok(reply.clone()),
            Some((known, _)) if *known > number => {
                return Err(Failed::new(
                    225,
                    format!(
                        "Cannot start transaction {number} on the session because a newer one {known} has already started"
                    ),
                ));
            }
            _ => {}
        }
        let reply = self.run_command(name, database, command, killed)?;
        let mut answered = lock(&self.server.answered);
        if answered.len() > 10_000 {
            answered.clear();
        }
        answered.insert(session.to_vec(), (number, reply.clone()));
        Ok(reply)
    }

    fn run_command(
        &mut self,
        name: &str,
        database: &str,
        command: &Document,
        killed: &Arc<AtomicBool>,
    ) -> Reply {
        let variables = &self.variables(command, killed)?;
        if let Some(session) = session_of(command) {
            let mut sessions = lock(&self.server.sessions);
            if sessions.len() > 100_000 {
                sessions.clear();
            }
            sessions.insert(session.to_vec(), now());
        }
        if NOT_ON_VIEWS.contains(&name)
            && let Some(view) = command.fields.first().and_then(|(_, v)| v.as_text())
            && self.read().view(database, view).is_some()
        {
            return Err(Failed::new(
                166,
                format!("Namespace {database}.{view} is a view, not a collection"),
            ));
        }
        let found = COMMANDS.iter().find(|(known, _)| *known == name);
        let (_, handler) = found.ok_or_else(|| no_such(name))?;
        handler(
            self,
            &Request {
                name,
                database,
                command,
                variables,
            },
        )
    }
}

impl Cursor {
    fn has_more(&mut self) -> bool {
        if self.head.is_none() {
            self.head = self.rest.next();
        }
        self.head.is_some()
    }

    /// The next documents, as many as are wanted and fit into an answer.
    fn batch(&mut self, most: usize) -> Vec<Datum> {
        let mut batch = Vec::new();
        let mut bytes = 0;
        while batch.len() < most && self.has_more() {
            let Some(next) = self.head.take() else { break };
            let size = next.size();
            if !batch.is_empty() && bytes + size > BATCH {
                self.head = Some(next);
                break;
            }
            bytes += size;
            batch.push(Datum::Object((*next).clone()));
        }
        batch
    }
}
