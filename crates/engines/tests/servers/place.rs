//! Where the servers of the tests are, and how to open connections to them.

use std::io;

use idle_tide_core::{Column, Row, RowBatch, Value};
use idle_tide_engines::{
    Ask, Connection, EngineError, OpenError, OpenOptions, Outcome, Sink, Source, open,
};
use secrecy::SecretString;

/// A place from the environment.
pub fn place(name: &str) -> String {
    std::env::var(name).unwrap_or_else(|_| {
        panic!("{name} is not set: these tests need the servers that scripts/test starts (scripts/test-servers with cargo test)")
    })
}

/// One server of each kind. MySQL is left out where it could not be made; scripts/test-servers says so at the end.
pub fn servers() -> Vec<&'static str> {
    let mysql = std::env::var("HAVEN_MYSQL_PORT").is_ok();
    let all = ["postgres", "mariadb", "mysql"];
    all.into_iter().filter(|s| *s != "mysql" || mysql).collect()
}

/// Many rows of MySQL, which has no sequence tables: those of four lists, each with each.
pub const MANY_OF_MYSQL: &str = "select a.id from information_schema.collations a, information_schema.collations b, information_schema.collations c, information_schema.collations d";

/// A database that every server of a kind has.
pub fn first(server: &str) -> &'static str {
    if server.starts_with("postgres") {
        "postgres"
    } else {
        "harbour"
    }
}

/// A port at which nobody listens.
pub fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.local_addr().expect("an address").port()
}

/// For tests that need the second servers as they are: others end them.
pub static SECOND: std::sync::Mutex<()> = std::sync::Mutex::new(());

/// The address of a server, with a password.
pub fn url(server: &str, database: &str) -> String {
    let port = place(&format!(
        "HAVEN_{}_PORT",
        server.to_uppercase().replace('-', "_")
    ));
    let scheme = server.split('-').next().unwrap_or_default();
    format!("{scheme}://haven:the%20owner%27s%20secret@127.0.0.1:{port}/{database}")
}

/// Answers with these secrets, one after the other.
pub struct Answers(pub std::sync::Mutex<Vec<&'static str>>, pub bool);

impl Ask for Answers {
    fn secret(&self, _: &str) -> Option<SecretString> {
        self.0.lock().expect("no panic").pop().map(Into::into)
    }
    fn allow(&self, _: &str, _: &[String]) -> bool {
        self.1
    }
    fn tell(&self, _: &str) {}
}

/// Opens an address, with secrets for what is asked (the last one first).
pub fn open_with(
    address: &str,
    secrets: Vec<&'static str>,
) -> Result<Box<dyn Connection>, OpenError> {
    open(
        &Source::parse(address)?,
        OpenOptions::default(),
        &Answers(std::sync::Mutex::new(secrets), true),
    )
}

/// Opens a server's database.
pub fn connect(server: &str, database: &str) -> Box<dyn Connection> {
    open_with(&url(server, database), Vec::new())
        .unwrap_or_else(|error| panic!("{server}: {error}"))
}

/// Keeps everything.
#[derive(Default)]
pub struct Keep {
    pub columns: Vec<Vec<Column>>,
    pub rows: Vec<Vec<Vec<Value>>>,
}

impl Sink for Keep {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.columns.push(columns);
        self.rows.push(Vec::new());
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        let rows = batch
            .rows()
            .map(|row: Row<'_>| row.values().map(|v| v.to_owned()).collect());
        self.rows.last_mut().expect("columns first").extend(rows);
        Ok(())
    }
}

/// Runs a statement and keeps all it gives.
pub fn run(connection: &mut dyn Connection, sql: &str) -> Result<(Outcome, Keep), EngineError> {
    static TICKET: std::sync::atomic::AtomicU64 = std::sync::atomic::AtomicU64::new(1_000);
    let ticket = TICKET.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
    let mut keep = Keep::default();
    let outcome = connection.run(ticket, sql, &mut keep)?;
    Ok((outcome, keep))
}

/// The plain text of the only value a query gives.
pub fn one(connection: &mut dyn Connection, sql: &str) -> String {
    let (_, keep) = run(connection, sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    keep.rows[0][0][0].as_ref().plain()
}

/// A database of its own for a test.
pub fn own(server: &str, name: &str) -> Box<dyn Connection> {
    let mut admin = connect(server, first(server));
    run(&mut *admin, &format!("drop database if exists {name}")).expect("dropped");
    run(&mut *admin, &format!("create database {name}")).expect("made");
    connect(server, name)
}
