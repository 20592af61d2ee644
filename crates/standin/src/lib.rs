//! A stand-in for servers over the Tabular Data Stream: it speaks the public protocol 7.4 over an embedded database, for
//! practice and for tests, where no such server can be installed. Encryption, logins, batches, calls of the procedures
//! that drivers call, stops, transactions, messages and errors with their numbers and lines, and the views by which a
//! database tells what is in it. Of the language it knows a part; what it does not know it says.

mod batch;
mod define;
mod execute;
mod failure;
mod functions;
mod link;
mod plan;
mod procedure;
mod schema;
mod serve;
mod translate;

use std::collections::HashMap;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};

use serve::serve;

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
    pub(crate) tls: Option<Arc<ServerConfig>>,
    pub(crate) requires_encryption: bool,
    transactions: AtomicU64,
    pub(crate) sessions: AtomicI64,
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

    /// Whether a user's password has expired.
    pub(crate) fn wants_password_of(&self, user: &str) -> bool {
        let expired = self.expired.lock().unwrap_or_else(PoisonError::into_inner);
        expired.iter().any(|own| own.eq_ignore_ascii_case(user))
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
