//! A stand-in for servers over the Tabular Data Stream: it speaks the public protocol 7.4 over an embedded database, for
//! practice and for tests, where no such server can be installed. Encryption, logins, batches, calls of the procedures
//! that drivers call, stops, transactions, messages and errors with their numbers and lines, and the views by which a
//! database tells what is in it. Of the language it knows a part; what it does not know it says.

mod batch;
mod define;
mod execute;
mod functions;
mod link;
mod plan;
mod schema;
mod translate;

use std::collections::HashMap;
use std::io;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use idle_tide_tabular::login::{Encryption, Login, Prelogin, VERSION};
use idle_tide_tabular::packet::{FIRST_SIZE, kind};
use idle_tide_tabular::request::{Call, Transaction, read_batch, read_calls, read_transaction};
use idle_tide_tabular::token::{
    DoneOf, put_done, put_environment, put_login, put_message, put_returned,
};
use idle_tide_tabular::types::{LATIN, id};
use idle_tide_tabular::value::{Room, read};
use idle_tide_tabular::{Done, Environment, Take, TypeInfo, Value};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

use execute::{Failure, Session, Variable, parameters_of};
use link::Link;

/// The name that the stand-in has in logins.
pub const PROGRAM: &str = "Brackwater stand-in";

/// How a stand-in is to be.
#[derive(Debug, Clone)]
pub struct Options {
    /// Where it listens; port 0 for any.
    pub listen: SocketAddr,
    /// Users, their passwords, and whether they may do everything.
    pub users: Vec<(String, String, bool)>,
    /// Users whose passwords have expired.
    pub expired: Vec<String>,
    /// The files of a certificate and its key: then it encrypts.
    pub certificate: Option<(PathBuf, PathBuf)>,
    /// Whether it takes nothing that is not encrypted.
    pub requires_encryption: bool,
    /// Where its databases lie; a folder that goes with it where none is given.
    pub folder: Option<PathBuf>,
    /// Databases besides `master`.
    pub databases: Vec<String>,
    /// How long a lock is waited for.
    pub lock_patience: Duration,
}

impl Options {
    /// A stand-in with one user on this machine.
    pub fn new(user: &str, password: &str) -> Self {
        Options {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            users: vec![(user.into(), password.into(), true)],
            expired: Vec::new(),
            certificate: None,
            requires_encryption: false,
            folder: None,
            databases: vec!["harbour".into()],
            lock_patience: Duration::from_secs(5),
        }
    }
}

/// What the sessions of a stand-in have in common.
pub(crate) struct Shared {
    users: Mutex<HashMap<String, (String, bool)>>,
    expired: Mutex<Vec<String>>,
    folder: PathBuf,
    tls: Option<Arc<ServerConfig>>,
    requires_encryption: bool,
    transactions: AtomicU64,
    sessions: AtomicI64,
    pub(crate) lock_patience: Duration,
}

impl Shared {
    fn users(&self) -> std::sync::MutexGuard<'_, HashMap<String, (String, bool)>> {
        self.users.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn knows(&self, user: &str, password: &str) -> bool {
        self.users()
            .get(&user.to_lowercase())
            .is_some_and(|(own, _)| own == password)
    }

    pub(crate) fn is_all_powerful(&self, user: &str) -> bool {
        self.users()
            .get(&user.to_lowercase())
            .is_some_and(|(_, all)| *all)
    }

    pub(crate) fn set_password(&self, user: &str, password: &str) {
        let mut users = self.users();
        users.entry(user.to_lowercase()).or_default().0 = password.to_string();
        let mut expired = self.expired.lock().unwrap_or_else(PoisonError::into_inner);
        expired.retain(|own| !own.eq_ignore_ascii_case(user));
    }

    pub(crate) fn next_transaction(&self) -> u64 {
        self.transactions.fetch_add(1, Ordering::Relaxed)
    }

    /// The name of a database as it was made, and its file.
    pub(crate) fn database(&self, name: &str) -> Option<(String, PathBuf)> {
        std::fs::read_dir(&self.folder)
            .ok()?
            .flatten()
            .find_map(|entry| {
                let file = entry.file_name().to_string_lossy().into_owned();
                let own = file.strip_suffix(".db")?;
                own.eq_ignore_ascii_case(name)
                    .then(|| (own.to_string(), entry.path()))
            })
    }

    pub(crate) fn create(&self, name: &str) -> Result<(), String> {
        if !name
            .chars()
            .all(|c| c.is_alphanumeric() || c == '_' || c == '-')
            || name.is_empty()
        {
            return Err(format!("the name {name} for a database"));
        }
        if self.database(name).is_some() {
            return Ok(());
        }
        let fail = |error: rusqlite::Error| error.to_string();
        let connection =
            rusqlite::Connection::open(self.folder.join(format!("{name}.db"))).map_err(fail)?;
        let views = schema::EMPTY.replace(" text", " nvarchar_text(4000)");
        connection
            .execute_batch(&format!(
                "pragma journal_mode = wal; pragma synchronous = off; create table t_names (full text primary key, object_id int);\n{views}\n{};\n\
                 create table \"sys.databases\" (name nvarchar_text(128), database_id int, collation_name nvarchar_text(128), state_desc nvarchar_text(60), is_read_only bit_int, user_access_desc nvarchar_text(60));",
                schema::types()
            ))
            .map_err(fail)?;
        self.tell_databases();
        Ok(())
    }

    /// Takes a database away; whether it was there.
    pub(crate) fn remove(&self, name: &str) -> bool {
        let Some((_, path)) = self.database(name) else {
            return false;
        };
        for ending in ["db", "db-wal", "db-shm"] {
            let _ = std::fs::remove_file(path.with_extension(ending));
        }
        self.tell_databases();
        true
    }

    /// Every database knows of the others.
    fn tell_databases(&self) {
        let names: Vec<String> = std::fs::read_dir(&self.folder)
            .into_iter()
            .flatten()
            .flatten()
            .filter_map(|entry| {
                entry
                    .file_name()
                    .to_string_lossy()
                    .strip_suffix(".db")
                    .map(str::to_string)
            })
            .collect();
        for own in &names {
            let Ok(connection) = rusqlite::Connection::open(self.folder.join(format!("{own}.db")))
            else {
                continue;
            };
            let _ = connection.execute("delete from \"sys.databases\"", []);
            for (at, name) in names.iter().enumerate() {
                let _ = connection.execute("insert into \"sys.databases\" values (?1, ?2, 'Latin1_General_CI_AS', 'ONLINE', 0, 'MULTI_USER')", rusqlite::params![name, at as i64 + 1]);
            }
        }
    }
}

/// A stand-in that runs until it is dropped.
pub struct Standin {
    /// Where it listens.
    pub address: SocketAddr,
    stopping: Arc<AtomicBool>,
    streams: Arc<Mutex<Vec<TcpStream>>>,
    accepting: Option<std::thread::JoinHandle<()>>,
    _folder: Option<tempfile::TempDir>,
}

fn configured(options: &Options) -> Result<Option<Arc<ServerConfig>>, String> {
    let Some((certificate, key)) = &options.certificate else {
        return Ok(None);
    };
    let fail = |error: &dyn std::fmt::Display| {
        format!("the certificate or its key cannot be read: {error}")
    };
    let chain: Result<Vec<_>, _> = CertificateDer::pem_file_iter(certificate)
        .map_err(|error| fail(&error))?
        .collect();
    let key = PrivateKeyDer::from_pem_file(key).map_err(|error| fail(&error))?;
    // With encryption inside of packets, version 1.2 is the newest that servers of this protocol speak.
    let config =
        ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
            .with_protocol_versions(&[&rustls::version::TLS12])
            .map_err(|error| fail(&error))?
            .with_no_client_auth()
            .with_single_cert(chain.map_err(|error| fail(&error))?, key)
            .map_err(|error| fail(&error))?;
    Ok(Some(Arc::new(config)))
}

impl Standin {
    /// Starts one.
    ///
    /// # Errors
    /// In words, if it cannot listen there, or a file is not what it should be.
    pub fn start(options: &Options) -> Result<Self, String> {
        let (folder, kept) = match &options.folder {
            Some(folder) => (folder.clone(), None),
            None => {
                let kept = tempfile::tempdir().map_err(|error| error.to_string())?;
                (kept.path().to_path_buf(), Some(kept))
            }
        };
        std::fs::create_dir_all(&folder)
            .map_err(|error| format!("{}: {error}", folder.display()))?;
        let shared = Arc::new(Shared {
            users: Mutex::new(
                options
                    .users
                    .iter()
                    .map(|(user, password, all)| (user.to_lowercase(), (password.clone(), *all)))
                    .collect(),
            ),
            expired: Mutex::new(options.expired.clone()),
            folder,
            tls: configured(options)?,
            requires_encryption: options.requires_encryption,
            transactions: AtomicU64::new(0x0000_0042_0000_0001),
            sessions: AtomicI64::new(51),
            lock_patience: options.lock_patience,
        });
        shared.create("master")?;
        for name in &options.databases {
            shared.create(name)?;
        }
        let listener = TcpListener::bind(options.listen)
            .map_err(|error| format!("{}: {error}", options.listen))?;
        let address = listener.local_addr().map_err(|error| error.to_string())?;
        let stopping = Arc::new(AtomicBool::new(false));
        let streams: Arc<Mutex<Vec<TcpStream>>> = Arc::default();
        let (stop, open) = (Arc::clone(&stopping), Arc::clone(&streams));
        let accepting = std::thread::spawn(move || {
            for stream in listener.incoming() {
                if stop.load(Ordering::SeqCst) {
                    return;
                }
                let Ok(stream) = stream else { continue };
                let _ = stream.set_nodelay(true);
                if let Ok(copy) = stream.try_clone() {
                    open.lock()
                        .unwrap_or_else(PoisonError::into_inner)
                        .push(copy);
                }
                let shared = Arc::clone(&shared);
                std::thread::spawn(move || {
                    // A connection that breaks off ends with its thread.
                    let _ = serve(stream, &shared);
                });
            }
        });
        Ok(Standin {
            address,
            stopping,
            streams,
            accepting: Some(accepting),
            _folder: kept,
        })
    }
}

impl Drop for Standin {
    fn drop(&mut self) {
        self.stopping.store(true, Ordering::SeqCst);
        let _ = TcpStream::connect_timeout(&self.address, Duration::from_secs(1));
        if let Some(accepting) = self.accepting.take() {
            let _ = accepting.join();
        }
        for stream in self
            .streams
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .drain(..)
        {
            let _ = stream.shutdown(std::net::Shutdown::Both);
        }
    }
}

fn broken(words: impl Into<String>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, words.into())
}

fn malformed(error: idle_tide_tabular::Malformed) -> io::Error {
    broken(error.to_string())
}

fn refuse(link: &mut Link, failure: &Failure) -> io::Result<()> {
    let mut out = Vec::new();
    put_message(&failure.message(1), &mut out);
    put_done(Done::bare(DoneOf::Statement, Done::ERROR), &mut out);
    link.say(&out)?;
    link.end()
}

/// A connection from its first packet to its end.
fn serve(stream: TcpStream, shared: &Arc<Shared>) -> io::Result<()> {
    let _ = stream.set_read_timeout(Some(Duration::from_secs(30)));
    let patient = stream.try_clone()?;
    let mut link = Link::new(stream);
    let Some((kind::PRELOGIN, _, content)) = link.message()? else {
        return Err(broken("no message before the login"));
    };
    let theirs = Prelogin::decode(&content).map_err(malformed)?;
    let ours = match (&shared.tls, theirs.encryption) {
        (None, _) => Encryption::None,
        (Some(_), _) if shared.requires_encryption => Encryption::Required,
        (Some(_), Encryption::On | Encryption::Required) => Encryption::On,
        (Some(_), Encryption::LoginOnly) => Encryption::LoginOnly,
        (Some(_), Encryption::None) => Encryption::None,
    };
    link.say(
        &Prelogin {
            version: (16, 0, 4105),
            encryption: ours,
        }
        .encode(),
    )?;
    link.end()?;
    let encrypts = match (ours, theirs.encryption) {
        (Encryption::None, _) => false,
        (Encryption::Required, Encryption::None) => return Ok(()),
        _ => true,
    };
    if encrypts && let Some(tls) = &shared.tls {
        link.encrypt(Arc::clone(tls))?;
    }
    let Some((kind::LOGIN, _, content)) = link.message()? else {
        return Err(broken("no login"));
    };
    if ours == Encryption::LoginOnly {
        link.lay_open();
    }
    let login = Login::decode(&content).map_err(malformed)?;
    if !shared.knows(&login.user, &login.password) {
        return refuse(
            &mut link,
            &Failure::of(
                18_456,
                14,
                format!("Login failed for user '{}'.", login.user),
            ),
        );
    }
    let expired = {
        let expired = shared
            .expired
            .lock()
            .unwrap_or_else(PoisonError::into_inner);
        expired
            .iter()
            .any(|own| own.eq_ignore_ascii_case(&login.user))
    };
    match (&login.new_password, expired) {
        (Some(new), _) => shared.set_password(&login.user, new),
        (None, true) => {
            return refuse(
                &mut link,
                &Failure::of(
                    18_488,
                    14,
                    format!(
                        "Login failed for user '{}'. Reason: The password of the account must be changed.",
                        login.user
                    ),
                ),
            );
        }
        (None, false) => {}
    }
    let database = if login.database.is_empty() {
        "master"
    } else {
        &login.database
    };
    let size = (login.packet_size as usize).clamp(512, 32_767);
    let number = shared.sessions.fetch_add(1, Ordering::Relaxed);
    let link = Arc::new(Mutex::new(link));
    let mut session = match Session::new(
        Arc::clone(&link),
        Arc::clone(shared),
        &login.user,
        database,
        number,
    ) {
        Ok(session) => session,
        Err(_) => {
            let failure = Failure::of(
                4060,
                11,
                format!(
                    "Cannot open database \"{database}\" requested by the login. The login failed."
                ),
            );
            return refuse(
                &mut link.lock().unwrap_or_else(PoisonError::into_inner),
                &failure,
            );
        }
    };
    let mut out = Vec::new();
    put_environment(
        &Environment::Database(session.database.clone()),
        "master",
        &mut out,
    );
    put_environment(&Environment::Collation(LATIN), "", &mut out);
    put_login(login.version.min(VERSION), PROGRAM, (16, 0, 4105), &mut out);
    put_environment(
        &Environment::PacketSize(size),
        &FIRST_SIZE.to_string(),
        &mut out,
    );
    put_done(Done::bare(DoneOf::Statement, 0), &mut out);
    {
        let mut link = link.lock().unwrap_or_else(PoisonError::into_inner);
        link.say(&out)?;
        link.end()?;
        link.size = size;
    }
    let _ = patient.set_read_timeout(None);
    let mut prepared: HashMap<i32, (String, String)> = HashMap::new();
    loop {
        let message = link
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .message()?;
        let Some((of, status, content)) = message else {
            return Ok(());
        };
        if status & idle_tide_tabular::packet::RESET != 0 {
            session.reset().map_err(|failure| broken(failure.text))?;
        }
        match of {
            kind::BATCH => {
                session.within = false;
                session.batch(&read_batch(&content).map_err(malformed)?)?;
            }
            kind::CALL => {
                for call in read_calls(&content).map_err(malformed)? {
                    session.within = true;
                    let done = call_procedure(&mut session, call, &mut prepared);
                    session.finish(done.map(drop), Some(0))?;
                    session.within = false;
                }
            }
            kind::TRANSACTION => {
                let (what, again) = read_transaction(&content).map_err(malformed)?;
                let done = match what {
                    Transaction::Begin => session.begin(),
                    Transaction::Commit => session.commit(),
                    Transaction::Rollback => session.roll_back(),
                    Transaction::Other(_) => {
                        Err(Failure::unknown("this message about transactions"))
                    }
                };
                let done = if again {
                    done.and_then(|()| session.begin())
                } else {
                    done
                };
                if let Err(failure) = &done {
                    let _ = session.tell(failure, 1);
                }
                session.finish(done, None)?;
            }
            // What it would have stopped has ended.
            kind::ATTENTION => {
                let mut out = Vec::new();
                put_done(Done::bare(DoneOf::Statement, Done::ATTENTION), &mut out);
                let mut link = link.lock().unwrap_or_else(PoisonError::into_inner);
                link.say(&out)?;
                link.end()?;
            }
            _ => {
                let failure = Failure::unknown("this kind of message");
                let _ = session.tell(&failure, 1);
                session.finish(Err(failure), None)?;
            }
        }
    }
}

fn value_of(info: &TypeInfo, bytes: &[u8]) -> rusqlite::types::Value {
    use rusqlite::types::Value as Own;
    let mut room = Room::default();
    match read(info, &mut Take::new(bytes), &mut room) {
        Ok(Value::Bit(yes)) => Own::Integer(i64::from(yes)),
        Ok(Value::Integer(number)) => Own::Integer(number),
        Ok(Value::Float(number)) => Own::Real(number),
        Ok(Value::Text(text) | Value::Number(text)) => Own::Text(text.to_string()),
        Ok(Value::RawText(bytes) | Value::Bytes(bytes)) => Own::Blob(bytes.to_vec()),
        Ok(Value::Null) | Err(_) => Own::Null,
    }
}

fn text_of(call: &Call, at: usize) -> String {
    match call.parameters.get(at).map(|p| value_of(&p.info, &p.value)) {
        Some(rusqlite::types::Value::Text(text)) => text,
        _ => String::new(),
    }
}

/// The procedures that drivers call.
fn call_procedure(
    session: &mut Session,
    call: Call,
    prepared: &mut HashMap<i32, (String, String)>,
) -> Result<i32, Failure> {
    let variables = |names: &str, from: usize| -> HashMap<String, Variable> {
        let names = parameters_of(names);
        call.parameters
            .iter()
            .skip(from)
            .enumerate()
            .filter_map(|(at, parameter)| {
                let name = match parameter.name.is_empty() {
                    true => names.get(at)?.0.clone(),
                    false => parameter.name.to_lowercase(),
                };
                let value = value_of(&parameter.info, &parameter.value);
                Some((
                    name,
                    Variable {
                        info: parameter.info.clone(),
                        value,
                    },
                ))
            })
            .collect()
    };
    let handle = |at: usize| match call.parameters.get(at).map(|p| value_of(&p.info, &p.value)) {
        Some(rusqlite::types::Value::Integer(number)) => number as i32,
        _ => 0,
    };
    let name = call.name.to_lowercase();
    match name.rsplit('.').next().unwrap_or_default() {
        "sp_executesql" => session.inside(variables(&text_of(&call, 1), 2), &text_of(&call, 0)),
        "sp_prepare" | "sp_prepexec" => {
            let number = prepared.len() as i32 + 1;
            let (names, text) = (text_of(&call, 1), text_of(&call, 2));
            prepared.insert(number, (names.clone(), text.clone()));
            let mut out = Vec::new();
            put_returned(
                0,
                "@handle",
                &TypeInfo::of(id::INTN, 4),
                Value::Integer(i64::from(number)),
                &mut out,
            )
            .map_err(Failure::unknown)?;
            let done = match name.ends_with("exec") {
                true => session.inside(variables(&names, 3), &text),
                false => Ok(0),
            };
            session.say(&out)?;
            done
        }
        "sp_execute" => {
            let Some((names, text)) = prepared.get(&handle(0)).cloned() else {
                let failure = Failure::of(
                    8179,
                    16,
                    format!(
                        "Could not find prepared statement with handle {}.",
                        handle(0)
                    ),
                );
                session.tell(&failure, 1)?;
                return Err(failure);
            };
            session.inside(variables(&names, 1), &text)
        }
        "sp_unprepare" => {
            prepared.remove(&handle(0));
            Ok(0)
        }
        _ => {
            let arguments: Vec<String> = (0..call.parameters.len())
                .map(|at| format!("@p{at}"))
                .collect();
            let mut given = HashMap::new();
            let mut words = Vec::new();
            for (parameter, own) in call.parameters.iter().zip(&arguments) {
                given.insert(
                    own.clone(),
                    Variable {
                        info: parameter.info.clone(),
                        value: value_of(&parameter.info, &parameter.value),
                    },
                );
                words.push(match parameter.name.is_empty() {
                    true => own.clone(),
                    false => format!("{} = {own}", parameter.name),
                });
            }
            session.inside(given, &format!("exec {} {}", call.name, words.join(", ")))
        }
    }
}
