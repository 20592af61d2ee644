//! A connection from its first packet to its end.

use std::collections::HashMap;
use std::io;
use std::net::TcpStream;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
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

use crate::execute::{Session, Variable};
use crate::failure::Failure;
use crate::link::Link;
use crate::procedure::parameters_of;
use crate::{PROGRAM, Shared};

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

/// Serves a connection until it ends.
///
/// # Errors
/// If the client breaks the protocol, or goes.
pub(crate) fn serve(stream: TcpStream, shared: &Arc<Shared>) -> io::Result<()> {
    let _ = stream.set_read_timeout(Some(Duration::from_secs(30)));
    let patient = stream.try_clone()?;
    let mut link = Link::new(stream);
    let Some(encryption) = agree(&mut link, shared)? else {
        return Ok(());
    };
    let Some(login) = log_in(&mut link, shared, encryption)? else {
        return Ok(());
    };
    let link = Arc::new(Mutex::new(link));
    let Some(mut session) = open(&link, shared, &login)? else {
        return Ok(());
    };
    greet(&link, &session.database, &login)?;
    let _ = patient.set_read_timeout(None);
    let mut prepared = Prepared::default();
    loop {
        let message = held(&link).message()?;
        let Some((of, status, content)) = message else {
            return Ok(());
        };
        if status & idle_tide_tabular::packet::RESET != 0 {
            session.reset().map_err(|failure| broken(failure.text))?;
        }
        answer(&mut session, &link, &mut prepared, of, &content)?;
    }
}

fn held(link: &Mutex<Link>) -> MutexGuard<'_, Link> {
    link.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The first two messages: what is encrypted, and then it is; nothing if the client does not want what has to be.
fn agree(link: &mut Link, shared: &Shared) -> io::Result<Option<Encryption>> {
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
        (Encryption::Required, Encryption::None) => return Ok(None),
        _ => true,
    };
    if encrypts && let Some(tls) = &shared.tls {
        link.encrypt(Arc::clone(tls))?;
    }
    Ok(Some(ours))
}

/// Who it is; nothing if that was refused.
fn log_in(link: &mut Link, shared: &Shared, encryption: Encryption) -> io::Result<Option<Login>> {
    let Some((kind::LOGIN, _, content)) = link.message()? else {
        return Err(broken("no login"));
    };
    if encryption == Encryption::LoginOnly {
        link.lay_open();
    }
    let login = Login::decode(&content).map_err(malformed)?;
    if !shared.knows(&login.user, &login.password) {
        refuse(
            link,
            &Failure::of(
                18_456,
                14,
                format!("Login failed for user '{}'.", login.user),
            ),
        )?;
        return Ok(None);
    }
    let expired = shared.wants_password_of(&login.user);
    match (&login.new_password, expired) {
        (Some(new), _) => shared.set_password(&login.user, new),
        (None, true) => {
            refuse(
                link,
                &Failure::of(
                    18_488,
                    14,
                    format!(
                        "Login failed for user '{}'. Reason: The password of the account must be changed.",
                        login.user
                    ),
                ),
            )?;
            return Ok(None);
        }
        (None, false) => {}
    }
    Ok(Some(login))
}

/// A session in the database that the login names; nothing if there is none of that name.
fn open(
    link: &Arc<Mutex<Link>>,
    shared: &Arc<Shared>,
    login: &Login,
) -> io::Result<Option<Session>> {
    let database = match login.database.as_str() {
        "" => "master",
        database => database,
    };
    let number = shared.sessions.fetch_add(1, Ordering::Relaxed);
    let session = Session::new(
        Arc::clone(link),
        Arc::clone(shared),
        &login.user,
        database,
        number,
    );
    if let Ok(session) = session {
        return Ok(Some(session));
    }
    let words =
        format!("Cannot open database \"{database}\" requested by the login. The login failed.");
    refuse(&mut held(link), &Failure::of(4060, 11, words))?;
    Ok(None)
}

/// What a client is told when it has logged in.
fn greet(link: &Mutex<Link>, database: &str, login: &Login) -> io::Result<()> {
    let size = (login.packet_size as usize).clamp(512, 32_767);
    let mut out = Vec::new();
    put_environment(
        &Environment::Database(database.to_string()),
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
    let mut link = held(link);
    link.say(&out)?;
    link.end()?;
    link.size = size;
    Ok(())
}

/// Answers one message.
fn answer(
    session: &mut Session,
    link: &Mutex<Link>,
    prepared: &mut Prepared,
    of: u8,
    content: &[u8],
) -> io::Result<()> {
    match of {
        kind::BATCH => {
            session.within = false;
            session.batch(&read_batch(content).map_err(malformed)?)?;
        }
        kind::CALL => {
            for call in read_calls(content).map_err(malformed)? {
                session.within = true;
                let done = call_procedure(session, call, prepared);
                session.finish(done.map(drop), Some(0))?;
                session.within = false;
            }
        }
        kind::TRANSACTION => {
            let (what, again) = read_transaction(content).map_err(malformed)?;
            session.transaction(what, again)?;
        }
        // What it would have stopped has ended.
        kind::ATTENTION => {
            let mut out = Vec::new();
            put_done(Done::bare(DoneOf::Statement, Done::ATTENTION), &mut out);
            let mut link = held(link);
            link.say(&out)?;
            link.end()?;
        }
        _ => {
            let failure = Failure::unknown("this kind of message");
            let _ = session.tell(&failure, 1);
            session.finish(Err(failure), None)?;
        }
    }
    Ok(())
}

impl Session {
    /// A message of the driver about the transaction; `again` begins the next one.
    fn transaction(&mut self, what: Transaction, again: bool) -> io::Result<()> {
        let done = match what {
            Transaction::Begin => self.begin(),
            Transaction::Commit => self.commit(),
            Transaction::Rollback => self.roll_back(),
            Transaction::Other(_) => Err(Failure::unknown("this message about transactions")),
        };
        let done = if again {
            done.and_then(|()| self.begin())
        } else {
            done
        };
        if let Err(failure) = &done {
            let _ = self.tell(failure, 1);
        }
        self.finish(done, None)
    }
}

/// Statements that a driver has had prepared: by their handle the declarations of their parameters, and their text.
#[derive(Default)]
struct Prepared {
    statements: HashMap<i32, (String, String)>,
    last: i32,
}

impl Prepared {
    /// Keeps one; a handle is never given twice.
    fn keep(&mut self, names: &str, text: &str) -> i32 {
        self.last += 1;
        self.statements
            .insert(self.last, (names.to_string(), text.to_string()));
        self.last
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
    prepared: &mut Prepared,
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
            let (names, text) = (text_of(&call, 1), text_of(&call, 2));
            let number = prepared.keep(&names, &text);
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
            let Some((names, text)) = prepared.statements.get(&handle(0)).cloned() else {
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
            prepared.statements.remove(&handle(0));
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_handle_is_never_given_twice() {
        let mut prepared = Prepared::default();
        let (first, second) = (prepared.keep("", "select 1"), prepared.keep("", "select 2"));
        prepared.statements.remove(&first);
        let third = prepared.keep("@a int", "select @a");
        assert!(
            third != second,
            "{third} is still that of another statement"
        );
        assert_eq!(prepared.statements[&second].1, "select 2");
        assert_eq!(prepared.statements[&third].0, "@a int");
    }
}
