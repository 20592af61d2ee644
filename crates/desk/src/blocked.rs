//! Who holds the lock that the work in progress waits for. A server says nothing of that while it waits, so it is asked on
//! the second connection once the work has taken a while; without a second connection nobody is asked.

use std::time::{Duration, Instant};

use idle_tide_core::Value;
use idle_tide_engines::EngineError;
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;

use crate::changed_rows::Rows;
use crate::session::{Busy, Doing, Next, Task, Turn};
use crate::task::{Bench, Lane, TaskId, Work};

/// How often is looked whether something takes long; what is there a second time does.
const LOOKS_EVERY: Duration = Duration::from_secs(1);

/// Looks after a session while something runs in it.
#[derive(Default)]
pub(crate) struct Patience {
    /// What ran the last time.
    before: Option<TaskId>,
}

/// What runs on the connection of a session.
fn on_connection(busy: Option<&Busy>) -> Option<TaskId> {
    match &busy?.doing {
        Doing::Away(away) if away.lane == Lane::Connection => Some(away.task),
        _ => None,
    }
}

impl Work for Patience {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let wakes = Instant::now() + LOOKS_EVERY;
        while Instant::now() < wakes && !at.stopped() {
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }
}

impl Task for Patience {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, _: Result<(), EngineError>) -> Next {
        let session = &mut turn.session;
        let running = on_connection(session.busy.as_ref());
        session.blocked = session
            .blocked
            .take()
            .filter(|(task, _)| running == Some(*task));
        let Some(task) = running else {
            session.patient = false;
            return Next::Keep;
        };
        let process = session
            .bearings
            .server
            .as_ref()
            .map(|server| server.process);
        let question = process.and_then(|process| who_holds(session.dialect, process));
        if let Some(question) = question.filter(|_| self.before == running) {
            turn.start(WhoHolds {
                task,
                question,
                found: Rows::default(),
            });
        }
        Next::Go(Box::new(Patience { before: running }))
    }
}

/// The question that answers for whom a process waits: the user, the process, what it does, and for how many seconds; a row
/// without a user where only the wait is known. `None` where nobody tells.
fn who_holds(dialect: &Dialect, process: i64) -> Option<String> {
    match (dialect.family, dialect.name) {
        (Family::Postgres, _) => Some(format!(
            "select coalesce(a.usename::text, 'somebody'), b.pid::text, coalesce(a.state, ''), coalesce(extract(epoch from now() - a.state_change)::bigint, 0)::text \
             from unnest(pg_catalog.pg_blocking_pids({process})) b (pid) left join pg_catalog.pg_stat_activity a on a.pid = b.pid"
        )),
        (Family::Mariadb, "MySQL") => Some(format!(
            "select h.processlist_user, h.processlist_id, h.processlist_command, h.processlist_time from performance_schema.data_lock_waits w \
               join performance_schema.threads r on r.thread_id = w.requesting_thread_id join performance_schema.threads h on h.thread_id = w.blocking_thread_id \
               where r.processlist_id = {process} \
             union select h.processlist_user, h.processlist_id, h.processlist_command, h.processlist_time from performance_schema.metadata_locks p \
               join performance_schema.threads r on r.thread_id = p.owner_thread_id \
               join performance_schema.metadata_locks g on g.object_schema = p.object_schema and g.object_name = p.object_name and g.lock_status = 'GRANTED' \
               join performance_schema.threads h on h.thread_id = g.owner_thread_id \
               where p.lock_status = 'PENDING' and r.processlist_id = {process} and h.processlist_id <> {process}"
        )),
        (Family::Mariadb, _) => Some(format!(
            "select p.user, p.id, p.command, p.time from information_schema.innodb_lock_waits w join information_schema.innodb_trx r on r.trx_id = w.requesting_trx_id \
               join information_schema.innodb_trx b on b.trx_id = w.blocking_trx_id join information_schema.processlist p on p.id = b.trx_mysql_thread_id \
               where r.trx_mysql_thread_id = {process} \
             union select '', 0, '', time from information_schema.processlist where id = {process} and state like 'Waiting for table%lock'"
        )),
        _ => None,
    }
}

/// Asks it.
struct WhoHolds {
    task: TaskId,
    question: String,
    found: Rows,
}

impl Work for WhoHolds {
    fn lane(&self) -> Lane {
        Lane::Aside
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let ticket = at.ticket;
        at.connection()?
            .run(ticket, &self.question, &mut self.found)
            .map(drop)
    }
}

impl Task for WhoHolds {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, _: Result<(), EngineError>) -> Next {
        let session = &mut turn.session;
        if on_connection(session.busy.as_ref()) == Some(self.task) {
            let plain = |row: &Vec<Value>| [0, 1, 2, 3].map(|at| row[at].as_ref().plain());
            let found: Vec<_> = self.found.rows.iter().map(plain).collect();
            session.blocked = words(&found).map(|words| (self.task, words));
        }
        Next::Keep
    }
}

fn words(found: &[[String; 4]]) -> Option<String> {
    let [user, process, does, seconds] = found.first()?;
    if user.is_empty() {
        return Some("waits for a lock; who holds it this server does not tell".into());
    }
    let since = Duration::from_secs(seconds.parse().unwrap_or(0));
    let seconds = idle_tide_draw::picture::lasting(since).replace(".0 s", " s");
    let does = match does.to_lowercase().as_str() {
        "" => String::new(),
        "sleep" => format!(", idle for {seconds}"),
        idle if idle.starts_with("idle in transaction") => {
            format!(", idle in a transaction for {seconds}")
        }
        _ => format!(", at work for {seconds}"),
    };
    let more = match found.len() {
        1 => String::new(),
        many => format!(" and {} more", many - 1),
    };
    Some(format!(
        "waits for a lock that {user} holds (process {process}{does}){more}"
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_holds_a_lock_is_told_in_words() {
        let row = |row: [&str; 4]| row.map(str::to_string);
        let of = |rows: &[[&str; 4]]| {
            let rows: Vec<_> = rows.iter().map(|r| row(*r)).collect();
            words(&rows).unwrap_or_default()
        };
        assert_eq!(of(&[]), "");
        assert_eq!(
            of(&[["mate", "12", "idle in transaction", "31"]]),
            "waits for a lock that mate holds (process 12, idle in a transaction for 31 s)"
        );
        assert!(
            of(&[["mate", "12", "Sleep", "3"], ["bo", "13", "Query", "1"]])
                .ends_with("idle for 3 s) and 1 more")
        );
        assert!(of(&[["mate", "12", "", "0"]]).ends_with("(process 12)"));
        assert!(of(&[["", "0", "", "3"]]).contains("does not tell"));
    }
}
