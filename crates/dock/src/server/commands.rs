//! The commands: what each takes and answers is in the public command reference.

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
    /// Obey `practiceCut`, which cuts links (for tests).
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
struct Others<'a> {
    store: &'a Store,
    database: &'a str,
}

impl stages::Collections for Others<'_> {
    fn documents(&self, name: &str) -> Vec<Document> {
        let found = self.store.collection(self.database, name);
        found.map_or_else(Vec::new, |c| {
            c.documents.iter().map(|d| (**d).clone()).collect()
        })
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

impl Connection {
    /// A connection that just began.
    pub fn new(server: Arc<Server>) -> Self {
        let number = server.connections.fetch_add(1, Ordering::SeqCst) + 1;
        Connection {
            server,
            number,
            user: None,
            exchange: None,
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

    /// Runs a command as a part of the transaction that it names, or ends that.
    fn run_in_transaction(
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
        let done = self.run(&name, database, command, &killed);
        if !cheap {
            lock(&self.server.operations).remove(&number);
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
        let mut reply = match done {
            Ok(reply) => reply.with("ok", 1.0),
            Err(error) => {
                let mut reply = document! { "ok": 0.0, "errmsg": error.message.as_str(), "code": error.code, "codeName": error.name() };
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

    fn variables(&self, command: &Document, killed: &Arc<AtomicBool>) -> Variables {
        let mut variables = Variables {
            now: now(),
            killed: Some(Arc::clone(killed)),
            ..Variables::default()
        };
        if let Some(given) = object(command, "let") {
            for (name, value) in &given.fields {
                let value = evaluate(value, &Document::new(), &variables).ok().flatten();
                variables = variables.with(name, value);
            }
        }
        variables
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
        if command.get("autocommit") == Some(&Datum::Boolean(false)) {
            if self.server.settings.replica_set.is_none() {
                return Err(Failed::new(
                    20,
                    "Transaction numbers are only allowed on a replica set member or mongos",
                ));
            }
            return self.run_in_transaction(name, database, command, killed);
        }
        self.run_command(name, database, command, killed)
    }

    fn run_command(
        &mut self,
        name: &str,
        database: &str,
        command: &Document,
        killed: &Arc<AtomicBool>,
    ) -> Reply {
        let variables = self.variables(command, killed);
        match name {
            "hello" | "isMaster" | "ismaster" => {
                let mut reply = self.server.hello(self.number);
                if command.get("saslSupportedMechs").is_some() {
                    reply.set("saslSupportedMechs", vec!["SCRAM-SHA-256"]);
                }
                Ok(reply)
            }
            "ping" | "endSessions" | "killSessions" | "refreshSessions" | "logout"
            | "abortTransaction" | "commitTransaction" => Ok(Document::new()),
            "startSession" => Ok(
                document! { "id": document! { "id": Datum::Bytes(Box::new((4, self.server.number().to_be_bytes().repeat(2)))) }, "timeoutMinutes": 30 },
            ),
            "buildInfo" | "buildinfo" => Ok(document! {
                "version": "7.0.0",
                "versionArray": vec![7, 0, 0, 0],
                "modules": Datum::List(vec![]),
                "practiceServer": format!("Idle Tide practice server {}: a stand-in, not a database to keep things in", env!("CARGO_PKG_VERSION")),
                "maxBsonObjectSize": 16_777_216,
            }),
            "whatsmyuri" => Ok(document! { "you": "127.0.0.1" }),
            "getParameter" => {
                Ok(document! { "featureCompatibilityVersion": document! { "version": "7.0" } })
            }
            "serverStatus" => Ok(self.status()),
            "hostInfo" => Ok(document! { "system": document! { "hostname": "localhost" } }),
            "connectionStatus" => Ok(self.connection_status()),
            "saslStart" => self.sasl_start(database, command),
            "saslContinue" => self.sasl_continue(command),
            "listDatabases" => self.list_databases(command, &variables),
            "listCollections" => self.list_collections(database, command, &variables),
            "create" => self.create(database, command),
            "drop" => {
                let name = collection_name(command)?;
                let mut store = self.write();
                let indexes = store.collection(database, name).map(|c| c.indexes.len());
                store.drop_collection(database, name);
                match indexes {
                    Some(indexes) => Ok(
                        document! { "nIndexesWas": indexes as i32, "ns": format!("{database}.{name}") },
                    ),
                    None => Ok(Document::new()),
                }
            }
            "dropDatabase" => {
                let mut store = self.write();
                let names: Vec<String> = store
                    .databases
                    .get(database)
                    .map_or_else(Vec::new, |c| c.keys().cloned().collect());
                for name in &names {
                    store.drop_collection(database, name);
                }
                Ok(if names.is_empty() {
                    Document::new()
                } else {
                    document! { "dropped": database }
                })
            }
            "renameCollection" => self.rename(command),
            "listIndexes" => self.list_indexes(database, command),
            "createIndexes" => self.create_indexes(database, command),
            "dropIndexes" | "deleteIndexes" => self.drop_indexes(database, command),
            "find" => self.find(database, command, &variables),
            "getMore" => self.get_more(command),
            "killCursors" => {
                let mut cursors = lock(&self.server.cursors);
                let (mut gone, mut unknown) = (Vec::new(), Vec::new());
                for id in list(command, "cursors")? {
                    let known = id.as_i64().is_some_and(|id| cursors.remove(&id).is_some());
                    if known {
                        gone.push(id.clone())
                    } else {
                        unknown.push(id.clone())
                    }
                }
                Ok(
                    document! { "cursorsKilled": Datum::List(gone), "cursorsNotFound": Datum::List(unknown), "cursorsAlive": Datum::List(vec![]), "cursorsUnknown": Datum::List(vec![]) },
                )
            }
            "count" => {
                let filter = Filter::new(object(command, "query").unwrap_or(&Document::new()))?;
                let found = self.matching(
                    database,
                    collection_name(command)?,
                    &filter,
                    &variables,
                    usize::MAX,
                )?;
                let skip = command
                    .get("skip")
                    .and_then(Datum::as_i64)
                    .unwrap_or(0)
                    .max(0) as usize;
                let limit = command
                    .get("limit")
                    .and_then(Datum::as_i64)
                    .filter(|l| *l != 0)
                    .map_or(usize::MAX, |l| l.unsigned_abs() as usize);
                Ok(
                    document! { "n": number_reply(found.len().saturating_sub(skip).min(limit) as u64) },
                )
            }
            "distinct" => self.distinct(database, command, &variables),
            "aggregate" => self.aggregate(database, command, &variables),
            "insert" => self.insert(database, command),
            "update" => self.update(database, command, &variables),
            "delete" => self.delete(database, command, &variables),
            "findAndModify" | "findandmodify" => {
                self.find_and_modify(database, command, &variables)
            }
            "explain" => self.explain(database, command),
            "collStats" | "collstats" => {
                let name = collection_name(command)?;
                let store = self.read();
                let found = store.collection(database, name);
                let count = found.map_or(0, |c| c.documents.len());
                let size: usize = found.map_or(0, |c| c.documents.iter().map(|d| d.size()).sum());
                Ok(
                    document! { "ns": format!("{database}.{name}"), "count": count as i32, "size": size as i64, "storageSize": size as i64, "nindexes": found.map_or(0, |c| c.indexes.len()) as i32 },
                )
            }
            "dbStats" | "dbstats" => {
                let store = self.read();
                let collections = store.databases.get(database);
                let objects: usize =
                    collections.map_or(0, |c| c.values().map(|c| c.documents.len()).sum());
                let size: usize = collections.map_or(0, |c| {
                    c.values()
                        .flat_map(|c| &c.documents)
                        .map(|d| d.size())
                        .sum()
                });
                Ok(
                    document! { "db": database, "collections": collections.map_or(0, BTreeMap::len) as i32, "objects": objects as i64, "dataSize": size as i64 },
                )
            }
            "createUser" | "updateUser" | "dropUser" | "usersInfo" | "rolesInfo" => {
                self.users(name, database, command)
            }
            "currentOp" => {
                let running: Vec<Datum> = lock(&self.server.operations)
                    .iter()
                    .map(|(id, op)| {
                        let mut shown = document! { "opid": *id, "active": true, "op": "command", "ns": format!("{}.$cmd", op.database), "command": op.command.clone(), "microsecs_running": op.started.elapsed().as_micros() as i64 };
                        if let Some(comment) = op.command.get("comment") {
                            shown.set("comment", comment.clone());
                        }
                        shown.into()
                    })
                    .collect();
                Ok(document! { "inprog": Datum::List(running) })
            }
            "killOp" => {
                let id = command.get("op").and_then(Datum::as_i64).unwrap_or(-1);
                if let Some(operation) = lock(&self.server.operations).get(&id) {
                    operation.killed.store(true, Ordering::SeqCst);
                }
                Ok(document! { "info": "attempting to kill op" })
            }
            "practiceCut" if self.server.settings.tests => {
                let which = text(command, "practiceCut").unwrap_or_default().to_string();
                let times = command
                    .get("times")
                    .and_then(Datum::as_i64)
                    .unwrap_or(1)
                    .max(1) as u64;
                *lock(&self.server.cut) = Some((which, times));
                Ok(Document::new())
            }
            other => Err(Failed::new(59, format!("no such command: '{other}'"))),
        }
    }

    fn status(&self) -> Document {
        let counters: Document = lock(&self.server.counters)
            .iter()
            .map(|(name, count)| (name.as_str(), *count as i64))
            .collect();
        document! {
            "host": "localhost",
            "version": "7.0.0",
            "process": "practice server",
            "uptime": self.server.started.elapsed().as_secs_f64(),
            "opcounters": counters,
        }
    }

    fn connection_status(&self) -> Document {
        let (mut users, mut roles) = (Vec::new(), Vec::new());
        if let Some(user) = &self.user {
            users.push(Datum::from(
                document! { "user": user.name.as_str(), "db": user.database.as_str() },
            ));
            roles.extend(user.roles.iter().map(|(role, db)| {
                Datum::from(document! { "role": role.as_str(), "db": db.as_str() })
            }));
        }
        document! { "authInfo": document! { "authenticatedUsers": Datum::List(users), "authenticatedUserRoles": Datum::List(roles) } }
    }

    fn sasl_start(&mut self, database: &str, command: &Document) -> Reply {
        if text(command, "mechanism") != Some("SCRAM-SHA-256") {
            return Err(Failed::new(
                334,
                "Unsupported mechanism; the practice server knows SCRAM-SHA-256",
            ));
        }
        let Some(Datum::Bytes(payload)) = command.get("payload") else {
            return Err(Failed::new(18, "Authentication failed."));
        };
        let users = self
            .server
            .users
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone();
        let find = |name: &str| {
            users
                .iter()
                .find(|u| u.name == name && (u.database == database || database == "admin"))
                .cloned()
        };
        let (exchange, answer) = Exchange::begin(&payload.1, &find)?;
        self.exchange = Some(exchange);
        Ok(
            document! { "conversationId": 1, "done": false, "payload": Datum::Bytes(Box::new((0, answer))) },
        )
    }

    fn sasl_continue(&mut self, command: &Document) -> Reply {
        let (Some(exchange), Some(Datum::Bytes(payload))) =
            (self.exchange.as_mut(), command.get("payload"))
        else {
            return Err(Failed::new(18, "Authentication failed."));
        };
        let (answer, user) = exchange.go_on(&payload.1)?;
        // The client has to see the server's proof before it is done, unless it skips the empty exchange.
        let done = user.is_some();
        if let Some(user) = user {
            self.user = Some(user);
        }
        Ok(
            document! { "conversationId": 1, "done": done, "payload": Datum::Bytes(Box::new((0, answer))) },
        )
    }

    fn list_databases(&self, command: &Document, variables: &Variables) -> Reply {
        let filter = Filter::new(object(command, "filter").unwrap_or(&Document::new()))?;
        let only_names = wanted(command, "nameOnly");
        let store = self.read();
        let (mut all, mut total) = (Vec::new(), 0_i64);
        for (name, collections) in &store.databases {
            let size: usize = collections
                .values()
                .flat_map(|c| &c.documents)
                .map(|d| d.size())
                .sum();
            let described =
                document! { "name": name.as_str(), "sizeOnDisk": size as i64, "empty": size == 0 };
            if filter.matches(&described, variables)? {
                total += size as i64;
                all.push(if only_names {
                    document! { "name": name.as_str() }.into()
                } else {
                    Datum::from(described)
                });
            }
        }
        Ok(document! { "databases": Datum::List(all), "totalSize": total })
    }

    fn list_collections(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let filter = Filter::new(object(command, "filter").unwrap_or(&Document::new()))?;
        let store = self.read();
        let mut all = Vec::new();
        for name in store
            .databases
            .get(database)
            .map(BTreeMap::keys)
            .into_iter()
            .flatten()
        {
            let described = document! {
                "name": name.as_str(),
                "type": "collection",
                "options": Document::new(),
                "info": document! { "readOnly": false },
                "idIndex": document! { "v": 2, "key": document! { "_id": 1 }, "name": "_id_" },
            };
            if filter.matches(&described, variables)? {
                all.push(Arc::new(described));
            }
        }
        drop(store);
        self.cursor(
            &format!("{database}.$cmd.listCollections"),
            all,
            None,
            false,
        )
    }

    /// The reply of a cursor: its first batch, and its number if there is more.
    fn cursor(
        &self,
        namespace: &str,
        documents: Vec<Arc<Document>>,
        batch: Option<i64>,
        single: bool,
    ) -> Reply {
        let most = batch.map_or(101, |b| {
            usize::try_from(b.unsigned_abs()).unwrap_or(usize::MAX)
        });
        let mut cursor = Cursor {
            namespace: namespace.into(),
            rest: documents.into_iter(),
            head: None,
        };
        let first = cursor.batch(most);
        let left = !single && cursor.has_more();
        let mut id = 0;
        if left {
            id = self.server.number();
            lock(&self.server.cursors).insert(id, cursor);
        }
        Ok(
            document! { "cursor": document! { "firstBatch": Datum::List(first), "id": Datum::Long(id), "ns": namespace } },
        )
    }

    fn get_more(&self, command: &Document) -> Reply {
        let id = command.get("getMore").and_then(Datum::as_i64).unwrap_or(0);
        let most = command
            .get("batchSize")
            .and_then(Datum::as_i64)
            .filter(|b| *b > 0)
            .map_or(usize::MAX, |b| b as usize);
        let taken = lock(&self.server.cursors).remove(&id);
        let Some(mut cursor) = taken else {
            return Err(Failed::new(43, format!("cursor id {id} not found")));
        };
        let next = cursor.batch(most);
        let namespace = cursor.namespace.clone();
        let left = cursor.has_more();
        if left {
            lock(&self.server.cursors).insert(id, cursor);
        }
        Ok(
            document! { "cursor": document! { "nextBatch": Datum::List(next), "id": Datum::Long(if left { id } else { 0 }), "ns": namespace } },
        )
    }

    fn create(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        if [
            "capped",
            "timeseries",
            "viewOn",
            "validator",
            "clusteredIndex",
        ]
        .iter()
        .any(|option| wanted(command, option))
        {
            return Err(Failed::new(
                72,
                "the practice server makes plain collections only",
            ));
        }
        let mut store = self.write();
        if store.collection(database, name).is_some() {
            return Err(Failed::new(
                48,
                format!("Collection {database}.{name} already exists."),
            ));
        }
        store.collection_mut(database, name);
        Ok(Document::new())
    }

    fn rename(&self, command: &Document) -> Reply {
        let split = |full: Option<&str>| {
            full.and_then(|f| f.split_once('.'))
                .map(|(a, b)| (a.to_string(), b.to_string()))
        };
        let (Some(from), Some(to)) = (
            split(text(command, "renameCollection")),
            split(text(command, "to")),
        ) else {
            return Err(Failed::new(73, "Invalid namespace specified"));
        };
        let mut store = self.write();
        let Some(collection) = store.collection(&from.0, &from.1).cloned() else {
            return Err(Failed::new(
                26,
                format!("Source collection {}.{} does not exist", from.0, from.1),
            ));
        };
        if store.collection(&to.0, &to.1).is_some() {
            if !wanted(command, "dropTarget") {
                return Err(Failed::new(48, "target namespace exists"));
            }
            store.drop_collection(&to.0, &to.1);
        }
        store.drop_collection(&from.0, &from.1);
        let place = store.collection_mut(&to.0, &to.1);
        *place = collection;
        place.touch();
        Ok(Document::new())
    }

    fn list_indexes(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let store = self.read();
        let Some(collection) = store.collection(database, name) else {
            return Err(Failed::new(
                26,
                format!("ns does not exist: {database}.{name}"),
            ));
        };
        let all = collection
            .indexes
            .iter()
            .map(|i| Arc::new(i.spec.clone()))
            .collect();
        drop(store);
        self.cursor(&format!("{database}.{name}"), all, None, false)
    }

    fn create_indexes(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let mut store = self.write();
        let new = store.collection(database, name).is_none();
        let collection = store.collection_mut(database, name);
        let before = collection.indexes.len();
        for spec in list(command, "indexes")? {
            let mut spec = spec
                .as_object()
                .cloned()
                .ok_or_else(|| Failed::new(14, "an index is an object"))?;
            if spec.get("v").is_none() {
                spec.fields.insert(0, ("v".into(), 2.into()));
            }
            collection.add_index(spec, &format!("{database}.{name}"))?;
        }
        Ok(
            document! { "numIndexesBefore": before as i32, "numIndexesAfter": collection.indexes.len() as i32, "createdCollectionAutomatically": new },
        )
    }

    fn drop_indexes(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let mut store = self.write();
        if store.collection(database, name).is_none() {
            return Err(Failed::new(26, format!("ns not found {database}.{name}")));
        }
        let collection = store.collection_mut(database, name);
        let was = collection.indexes.len();
        let which = command.get("index").cloned().unwrap_or(Datum::Null);
        let fits = |spec: &Document| match &which {
            Datum::Text(name) => name == "*" || text(spec, "name") == Some(name),
            Datum::List(names) => names.iter().any(|n| n.as_text() == text(spec, "name")),
            Datum::Object(key) => object(spec, "key") == Some(key),
            _ => false,
        };
        if which.as_text() == Some("_id_") {
            return Err(Failed::new(72, "cannot drop _id index"));
        }
        let mut first = true;
        collection
            .indexes
            .retain(|i| std::mem::take(&mut first) || !fits(&i.spec));
        if collection.indexes.len() == was && which.as_text() != Some("*") {
            return Err(Failed::new(
                27,
                format!(
                    "index not found with name [{}]",
                    which.as_text().unwrap_or("?")
                ),
            ));
        }
        collection.touch();
        Ok(document! { "nIndexesWas": was as i32 })
    }

    /// The documents that match, in the order in which they came; at most so many.
    fn matching(
        &self,
        database: &str,
        name: &str,
        filter: &Filter,
        variables: &Variables,
        most: usize,
    ) -> Result<Vec<Arc<Document>>, Failed> {
        let store = self.read();
        let Some(collection) = store.collection(database, name) else {
            return Ok(Vec::new());
        };
        if let Some(id) = filter.identifier() {
            let found = collection
                .place_of(id)
                .map(|at| Arc::clone(&collection.documents[at]));
            return match found {
                Some(document) if filter.matches(&document, variables)? => Ok(vec![document]),
                _ => Ok(Vec::new()),
            };
        }
        if matches!(filter, Filter::And(parts) if parts.is_empty()) && most == usize::MAX {
            return Ok(collection.documents.clone());
        }
        // Others may write while this looks.
        let documents = collection.documents.clone();
        drop(store);
        let mut found = Vec::new();
        for document in documents {
            variables.check()?;
            if filter.matches(&document, variables)? {
                found.push(document);
                if found.len() >= most {
                    break;
                }
            }
        }
        Ok(found)
    }

    fn find(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let name = collection_name(command)?;
        let filter = Filter::new(object(command, "filter").unwrap_or(&Document::new()))?;
        let sort = object(command, "sort").filter(|s| !s.is_empty());
        let skip = command.get("skip").and_then(Datum::as_i64).unwrap_or(0);
        let limit = command.get("limit").and_then(Datum::as_i64).unwrap_or(0);
        if skip < 0 || limit < 0 {
            return Err(Failed::new(
                51024,
                "BSON field 'limit' and 'skip' must be >= 0",
            ));
        }
        let most = match (sort, limit) {
            (None, 1..) => usize::try_from(skip + limit).unwrap_or(usize::MAX),
            _ => usize::MAX,
        };
        let mut found = self.matching(database, name, &filter, variables, most)?;
        if let Some(keys) = sort {
            found.sort_by(|a, b| stages::compare_by(keys, a, b));
        }
        let skip = usize::try_from(skip).unwrap_or(usize::MAX);
        if skip > 0 {
            found.drain(..skip.min(found.len()));
        }
        if limit > 0 {
            found.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
        }
        if let Some(projection) = object(command, "projection").filter(|p| !p.is_empty()) {
            found = found
                .iter()
                .map(|d| stages::project(d, projection, variables).map(Arc::new))
                .collect::<Result<_, _>>()?;
        }
        let batch = command.get("batchSize").and_then(Datum::as_i64);
        self.cursor(
            &format!("{database}.{name}"),
            found,
            batch,
            wanted(command, "singleBatch"),
        )
    }

    fn distinct(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let filter = Filter::new(object(command, "query").unwrap_or(&Document::new()))?;
        let path = text(command, "key").ok_or_else(|| Failed::new(9, "distinct needs a key"))?;
        let mut seen = HashSet::new();
        let mut values = Vec::new();
        for document in self.matching(
            database,
            collection_name(command)?,
            &filter,
            variables,
            usize::MAX,
        )? {
            let found = match super::expression::at_path(&document, path) {
                Some(Datum::List(list)) => list,
                Some(value) => vec![value],
                None => continue,
            };
            for value in found {
                if seen.insert(Key(value.clone())) {
                    values.push(value);
                }
            }
        }
        values.sort_by(idle_tide_core::document::compare::order);
        Ok(document! { "values": Datum::List(values) })
    }

    fn aggregate(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let pipeline = list(command, "pipeline")?;
        if wanted(command, "explain") {
            return Ok(explained(command));
        }
        let first = pipeline.first().and_then(Datum::as_object);
        let name = command
            .fields
            .first()
            .and_then(|(_, v)| v.as_text())
            .map(str::to_string);
        let mut rest = pipeline;
        let start: Vec<Document> = match (&name, first) {
            (_, Some(stage)) if stage.get("$currentOp").is_some() => {
                rest = &pipeline[1..];
                lock(&self.server.operations)
                    .iter()
                    .map(|(id, op)| {
                        let mut shown = document! { "opid": *id, "ns": format!("{}.$cmd", op.database), "command": op.command.clone() };
                        if let Some(comment) = op.command.get("comment") {
                            shown.set("comment", comment.clone());
                        }
                        shown
                    })
                    .collect()
            }
            (_, Some(stage)) if stage.get("$collStats").is_some() => {
                rest = &pipeline[1..];
                let store = self.read();
                let count = name
                    .as_deref()
                    .and_then(|n| store.collection(database, n))
                    .map_or(0, |c| c.documents.len());
                vec![document! { "count": count as i32 }]
            }
            (Some(name), _) => {
                // A condition at the front looks into the collection before anything is copied.
                let filter = match first.and_then(|stage| stage.get("$match")) {
                    Some(Datum::Object(filter)) => {
                        rest = &pipeline[1..];
                        Filter::new(filter)?
                    }
                    _ => Filter::And(Vec::new()),
                };
                self.matching(database, name, &filter, variables, usize::MAX)?
                    .iter()
                    .map(|d| (**d).clone())
                    .collect()
            }
            (None, _) => Vec::new(),
        };
        let (out, written) = {
            let store = self.read();
            stages::run(
                rest,
                start,
                &Others {
                    store: &store,
                    database,
                },
                variables,
            )?
        };
        if let Some(written) = written {
            self.written(database, written)?;
        }
        let namespace = format!("{database}.{}", name.as_deref().unwrap_or("$cmd.aggregate"));
        let batch = object(command, "cursor")
            .and_then(|c| c.get("batchSize"))
            .and_then(Datum::as_i64);
        self.cursor(
            &namespace,
            out.into_iter().map(Arc::new).collect(),
            batch,
            false,
        )
    }

    fn written(&self, database: &str, written: Written) -> Result<(), Failed> {
        let mut store = self.write();
        match written {
            Written::Out(name, documents) => {
                let mut fresh = Collection::new();
                if let Some(old) = store.collection(database, &name) {
                    for index in old.indexes.iter().skip(1) {
                        fresh.add_index(index.spec.clone(), &name)?;
                    }
                }
                for document in documents {
                    fresh.insert(with_id(document), &format!("{database}.{name}"))?;
                }
                *store.collection_mut(database, &name) = fresh;
            }
            Written::Merge {
                into,
                on,
                matched,
                not_matched,
                documents,
            } => {
                let full = format!("{database}.{into}");
                let collection = store.collection_mut(database, &into);
                let by_id = on.len() == 1 && on[0] == "_id";
                let has_index = |paths: &[String]| {
                    collection.indexes.iter().any(|i| {
                        i.unique
                            && i.paths.len() == paths.len()
                            && paths.iter().all(|p| i.paths.contains(p))
                    })
                };
                if !by_id && !has_index(&on) {
                    return Err(Failed::new(
                        51183,
                        "Cannot find index to verify that join fields will be unique",
                    ));
                }
                for document in documents {
                    let keys: Vec<Datum> = on
                        .iter()
                        .map(|p| super::expression::at_path(&document, p).unwrap_or(Datum::Null))
                        .collect();
                    let place = if by_id {
                        document.get("_id").and_then(|id| collection.place_of(id))
                    } else {
                        collection.documents.iter().position(|d| {
                            on.iter().zip(&keys).all(|(p, k)| {
                                let value = super::expression::at_path(d, p).unwrap_or(Datum::Null);
                                idle_tide_core::document::compare::order(&value, k).is_eq()
                            })
                        })
                    };
                    match (place, matched.as_str(), not_matched.as_str()) {
                        (Some(_), "fail", _) => {
                            return Err(Failed::new(
                                11000,
                                format!(
                                    "E11000 duplicate key error collection: {full} index: _id_ dup key"
                                ),
                            ));
                        }
                        (Some(_), "keepExisting", _) | (None, _, "discard") => {}
                        (Some(at), how, _) => {
                            let old = (*collection.documents[at]).clone();
                            let mut new = if how == "merge" {
                                old.clone()
                            } else {
                                Document::new()
                            };
                            if let (Some(id), true) = (old.get("_id"), how != "merge") {
                                new.set("_id", id.clone());
                            }
                            for (name, value) in document.fields {
                                if name == "_id" && old.get("_id").is_some_and(|id| *id != value) {
                                    return Err(Failed::new(
                                        66,
                                        "$merge failed to update the matching document: the _id field cannot be changed",
                                    ));
                                }
                                new.set(&name, value);
                            }
                            collection.replace(at, new, &full)?;
                        }
                        (None, _, "fail") => {
                            return Err(Failed::new(
                                13113,
                                "$merge could not find a matching document in the target collection",
                            ));
                        }
                        (None, ..) => collection.insert(with_id(document), &full)?,
                    }
                }
            }
        }
        Ok(())
    }

    fn insert(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let documents = list(command, "documents")?;
        let ordered = command.get("ordered").is_none_or(|o| truth(Some(o)));
        let full = format!("{database}.{name}");
        let mut store = self.write();
        let (mut count, mut errors) = (0_i32, Vec::new());
        for (at, document) in documents.iter().enumerate() {
            let done = match document {
                Datum::Object(document) => storable(document).and_then(|()| {
                    store
                        .collection_mut(database, name)
                        .insert(with_id(document.clone()), &full)
                }),
                _ => Err(Failed::new(14, "an element of 'documents' is no object")),
            };
            match done {
                Ok(()) => count += 1,
                Err(error) => {
                    errors.push(write_error(at, &error));
                    if ordered {
                        break;
                    }
                }
            }
        }
        Ok(with_errors(document! { "n": count }, errors))
    }

    fn update(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let name = collection_name(command)?;
        let ordered = command.get("ordered").is_none_or(|o| truth(Some(o)));
        let (mut matched, mut modified, mut upserted, mut errors) =
            (0_i32, 0_i32, Vec::new(), Vec::new());
        for (at, update) in list(command, "updates")?.iter().enumerate() {
            match self.update_one(database, name, update, variables) {
                Ok((n, changed, new)) => {
                    matched += n;
                    modified += changed;
                    if let Some(id) = new {
                        matched += 1;
                        upserted.push(Datum::from(document! { "index": at as i32, "_id": id }));
                    }
                }
                Err(error) => {
                    errors.push(write_error(at, &error));
                    if ordered {
                        break;
                    }
                }
            }
        }
        let mut reply = document! { "n": matched, "nModified": modified };
        if !upserted.is_empty() {
            reply.set("upserted", Datum::List(upserted));
        }
        Ok(with_errors(reply, errors))
    }

    fn update_one(
        &self,
        database: &str,
        name: &str,
        spec: &Datum,
        variables: &Variables,
    ) -> Result<(i32, i32, Option<Datum>), Failed> {
        let spec = spec
            .as_object()
            .ok_or_else(|| Failed::new(14, "an update is an object"))?;
        let filter = Filter::new(object(spec, "q").unwrap_or(&Document::new()))?;
        let filters = spec
            .get("arrayFilters")
            .and_then(Datum::as_list)
            .unwrap_or_default();
        let update = Update::new(spec.get("u").unwrap_or(&Datum::Null), filters)?;
        let multi = wanted(spec, "multi");
        if multi && matches!(update, Update::Replace(_)) {
            return Err(Failed::new(
                9,
                "multi update is not supported for replacement-style update",
            ));
        }
        let full = format!("{database}.{name}");
        let mut store = self.write();
        let (mut matched, mut modified) = (0, 0);
        if let Some(collection) = store
            .databases
            .get_mut(database)
            .and_then(|d| d.get_mut(name))
        {
            let places: Vec<usize> = match filter.identifier() {
                Some(id) => collection.place_of(id).into_iter().collect(),
                None => (0..collection.documents.len()).collect(),
            };
            for at in places {
                variables.check()?;
                let document = Arc::clone(&collection.documents[at]);
                if !filter.matches(&document, variables)? {
                    continue;
                }
                matched += 1;
                let after = update.apply(&document, &filter, false, variables)?;
                if after != *document {
                    storable(&after)?;
                    collection.replace(at, after, &full)?;
                    modified += 1;
                }
                if !multi {
                    break;
                }
            }
        }
        if matched == 0 && wanted(spec, "upsert") {
            let start = seed(&filter, variables)?;
            let new = with_id(update.apply(&start, &filter, true, variables)?);
            let id = new.get("_id").cloned().unwrap_or(Datum::Null);
            store.collection_mut(database, name).insert(new, &full)?;
            return Ok((0, 0, Some(id)));
        }
        Ok((matched, modified, None))
    }

    fn delete(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let name = collection_name(command)?;
        let mut count = 0;
        for spec in list(command, "deletes")?
            .iter()
            .filter_map(Datum::as_object)
        {
            let filter = Filter::new(object(spec, "q").unwrap_or(&Document::new()))?;
            let one = spec.get("limit").and_then(Datum::as_i64) == Some(1);
            let mut store = self.write();
            let Some(collection) = store
                .databases
                .get_mut(database)
                .and_then(|d| d.get_mut(name))
            else {
                continue;
            };
            let places: Vec<usize> = match filter.identifier() {
                Some(id) => collection.place_of(id).into_iter().collect(),
                None => (0..collection.documents.len()).collect(),
            };
            let mut gone = HashSet::new();
            for at in places {
                if filter.matches(&collection.documents[at], variables)? {
                    gone.insert(at);
                    if one {
                        break;
                    }
                }
            }
            count += gone.len();
            collection.remove(&gone);
        }
        Ok(document! { "n": count as i32 })
    }

    fn find_and_modify(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let name = collection_name(command)?;
        let filter = Filter::new(object(command, "query").unwrap_or(&Document::new()))?;
        let mut found = self.matching(database, name, &filter, variables, usize::MAX)?;
        if let Some(keys) = object(command, "sort") {
            found.sort_by(|a, b| stages::compare_by(keys, a, b));
        }
        let first = found.first().map(|d| (**d).clone());
        let shown = |document: Option<Document>| -> Result<Datum, Failed> {
            Ok(match (document, object(command, "fields")) {
                (None, _) => Datum::Null,
                (Some(d), Some(fields)) if !fields.is_empty() => {
                    stages::project(&d, fields, variables)?.into()
                }
                (Some(d), _) => d.into(),
            })
        };
        let by_id = |document: &Document| {
            Document::new().with(
                "_id",
                Document::new().with("$eq", document.get("_id").cloned().unwrap_or(Datum::Null)),
            )
        };
        if wanted(command, "remove") {
            if let Some(document) = &first {
                let one = document! { "q": by_id(document), "limit": 1 };
                self.delete(
                    database,
                    &document! { "delete": name, "deletes": Datum::List(vec![one.into()]) },
                    variables,
                )?;
            }
            let n = i32::from(first.is_some());
            return Ok(
                document! { "lastErrorObject": document! { "n": n }, "value": shown(first)? },
            );
        }
        let mut spec = Document::new()
            .with(
                "q",
                first.as_ref().map_or_else(
                    || object(command, "query").cloned().unwrap_or_default(),
                    by_id,
                ),
            )
            .with("u", command.get("update").cloned().unwrap_or(Datum::Null))
            .with("upsert", first.is_none() && wanted(command, "upsert"));
        if let Some(filters) = command.get("arrayFilters") {
            spec.set("arrayFilters", filters.clone());
        }
        let (n, _, upserted) = self.update_one(database, name, &spec.into(), variables)?;
        let mut last =
            document! { "n": n + i32::from(upserted.is_some()), "updatedExisting": n > 0 };
        let id = upserted
            .clone()
            .or_else(|| first.as_ref().and_then(|d| d.get("_id").cloned()));
        if let Some(id) = upserted {
            last.set("upserted", id);
        }
        let value = if wanted(command, "new") {
            let store = self.read();
            let after = id.and_then(|id| {
                let collection = store.collection(database, name)?;
                Some((*collection.documents[collection.place_of(&id)?]).clone())
            });
            shown(after)?
        } else {
            shown(first)?
        };
        Ok(document! { "lastErrorObject": last, "value": value })
    }

    fn explain(&self, _: &str, command: &Document) -> Reply {
        let inner =
            object(command, "explain").ok_or_else(|| Failed::new(9, "explain needs a command"))?;
        Ok(explained(inner))
    }

    fn users(&self, name: &str, database: &str, command: &Document) -> Reply {
        let roles = |value: Option<&Datum>| -> Vec<(String, String)> {
            let list = value.and_then(Datum::as_list).unwrap_or_default();
            list.iter()
                .filter_map(|role| match role {
                    Datum::Text(role) => Some((role.to_string(), database.to_string())),
                    Datum::Object(o) => Some((
                        text(o, "role")?.to_string(),
                        text(o, "db").unwrap_or(database).to_string(),
                    )),
                    _ => None,
                })
                .collect()
        };
        if name == "rolesInfo" {
            let all = [
                "read",
                "readWrite",
                "dbAdmin",
                "userAdmin",
                "dbOwner",
                "readAnyDatabase",
                "readWriteAnyDatabase",
                "root",
            ];
            let all = all.map(|role| Datum::from(document! { "role": role, "db": database, "isBuiltin": true, "roles": Datum::List(vec![]), "inheritedRoles": Datum::List(vec![]) }));
            return Ok(document! { "roles": Datum::List(all.to_vec()) });
        }
        let mut users = self
            .server
            .users
            .write()
            .unwrap_or_else(PoisonError::into_inner);
        let wanted_name = command
            .fields
            .first()
            .and_then(|(_, v)| v.as_text())
            .unwrap_or_default()
            .to_string();
        let at = users
            .iter()
            .position(|u| u.name == wanted_name && u.database == database);
        match (name, at) {
            ("usersInfo", _) => {
                let one = match command.fields.first().map(|(_, v)| v) {
                    Some(Datum::Text(name)) => Some(name.to_string()),
                    Some(Datum::Object(o)) => text(o, "user").map(str::to_string),
                    _ => None,
                };
                let shown = users.iter().filter(|u| one.as_ref().is_none_or(|n| u.name == *n)).map(|u| {
                    let roles = u.roles.iter().map(|(r, d)| Datum::from(document! { "role": r.as_str(), "db": d.as_str() })).collect();
                    document! { "_id": format!("{}.{}", u.database, u.name), "user": u.name.as_str(), "db": u.database.as_str(), "roles": Datum::List(roles), "mechanisms": vec!["SCRAM-SHA-256"] }.into()
                });
                Ok(document! { "users": Datum::List(shown.collect()) })
            }
            ("createUser", None) => {
                let password = text(command, "pwd")
                    .filter(|p| !p.is_empty())
                    .ok_or_else(|| Failed::new(2, "a user needs a password"))?;
                users.push(User::new(
                    database,
                    &wanted_name,
                    password,
                    roles(command.get("roles")),
                ));
                Ok(Document::new())
            }
            ("createUser", Some(_)) => Err(Failed::new(
                51003,
                format!("User \"{wanted_name}@{database}\" already exists"),
            )),
            (_, None) => Err(Failed::new(
                11,
                format!("User '{wanted_name}@{database}' not found"),
            )),
            ("updateUser", Some(at)) => {
                let kept = if command.get("roles").is_some() {
                    roles(command.get("roles"))
                } else {
                    users[at].roles.clone()
                };
                match text(command, "pwd") {
                    Some(password) => users[at] = User::new(database, &wanted_name, password, kept),
                    None => users[at].roles = kept,
                }
                Ok(Document::new())
            }
            (_, Some(at)) => {
                users.remove(at);
                Ok(Document::new())
            }
        }
    }
}

fn explained(inner: &Document) -> Document {
    let filter = inner
        .get("filter")
        .or_else(|| inner.get("query"))
        .or_else(|| {
            inner
                .get("pipeline")?
                .as_list()?
                .first()?
                .as_object()?
                .get("$match")
        })
        .cloned()
        .unwrap_or(Datum::Object(Document::new()));
    let by_id = filter
        .as_object()
        .and_then(|f| Filter::new(f).ok())
        .is_some_and(|f| f.identifier().is_some());
    let scan = if by_id {
        document! { "stage": "IDHACK" }
    } else {
        document! { "stage": "COLLSCAN", "filter": filter, "direction": "forward" }
    };
    let mut reply = document! { "explainVersion": "1", "queryPlanner": document! { "winningPlan": scan, "rejectedPlans": Datum::List(vec![]) }, "command": inner.clone() };
    if let Some(pipeline) = inner.get("pipeline") {
        reply.set("stages", pipeline.clone());
    }
    reply
}

fn with_id(mut document: Document) -> Document {
    match document.fields.iter().position(|(name, _)| name == "_id") {
        Some(0) => {}
        Some(at) => {
            let id = document.fields.remove(at);
            document.fields.insert(0, id);
        }
        None => {
            use std::sync::atomic::AtomicU32;
            static COUNTER: AtomicU32 = AtomicU32::new(1);
            let mut id = [0x70; 12];
            id[..4].copy_from_slice(&((now() / 1_000) as u32).to_be_bytes());
            id[4..8].copy_from_slice(&std::process::id().to_be_bytes());
            id[8..].copy_from_slice(&COUNTER.fetch_add(1, Ordering::Relaxed).to_be_bytes());
            document.fields.insert(0, ("_id".into(), Datum::Id(id)));
        }
    }
    document
}

fn storable(document: &Document) -> Result<(), Failed> {
    if matches!(
        document.get("_id"),
        Some(Datum::List(_) | Datum::Regex(_) | Datum::Undefined)
    ) {
        return Err(Failed::new(
            53,
            "The '_id' value cannot be of type array, regex or undefined",
        ));
    }
    if document.size() > LARGEST_DOCUMENT / 4 && bson::encode(document).len() > LARGEST_DOCUMENT {
        return Err(Failed::new(
            10334,
            "BSONObj size is invalid: it is larger than 16777216 bytes",
        ));
    }
    Ok(())
}

fn write_error(at: usize, error: &Failed) -> Datum {
    document! { "index": at as i32, "code": error.code, "errmsg": error.message.as_str() }.into()
}

fn with_errors(mut reply: Document, errors: Vec<Datum>) -> Document {
    if !errors.is_empty() {
        reply.set("writeErrors", Datum::List(errors));
    }
    reply
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
