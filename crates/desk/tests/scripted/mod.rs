//! A connection that answers, waits, fails and panics on cue, so that what sessions do with it can be tested without
//! a server and without a clock.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::Duration;

use idle_tide_core::{Catalog, Column, Kind, Object, RowBatch, ValueRef};
use idle_tide_engines::{
    Bearings, Beside, Connection, Control, Describe, EngineError, Fault, LinkState, Listing,
    Outcome, Query, Served, ServerBearings, Sink,
};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::SQLITE;

/// What a statement, or the catalog, comes to.
#[derive(Clone)]
pub enum Cue {
    /// One row with this number.
    Row(i64),
    /// Waits until it is let go or cancelled, then gives one row.
    Wait,
    /// Waits until it is let go, and heeds no cancel.
    Deaf,
    /// Panics.
    Panic,
    /// Fails.
    Fail(Fault),
}

/// What happens on a connection, and what did.
#[derive(Default)]
pub struct Script {
    /// What to do for statements that begin with these words; others answer with one row.
    pub cues: Mutex<BTreeMap<String, Cue>>,
    /// Statements that ran, in their order.
    pub ran: Mutex<Vec<String>>,
    pub let_go: Mutex<bool>,
    pub changed: Condvar,
    pub running: AtomicU64,
    pub cancelled: AtomicU64,
    /// Whether it says that it is one to a server.
    pub is_server: bool,
    /// What it says beside every answer.
    pub notes: Vec<String>,
    /// A second connection of its own, if it has one.
    pub beside: Option<Arc<Script>>,
    /// Whose SQL it takes, if not that of files.
    pub dialect: Option<&'static Dialect>,
    /// What stands in its catalog beside the table `t`.
    pub tables: Vec<&'static str>,
}

impl Script {
    pub fn new(cues: &[(&str, Cue)]) -> Arc<Self> {
        let cues = cues
            .iter()
            .map(|(words, cue)| (words.to_string(), cue.clone()));
        Arc::new(Script {
            cues: Mutex::new(cues.collect()),
            ..Script::default()
        })
    }

    /// What waits goes on.
    pub fn let_go(&self) {
        *self.let_go.lock().expect("lock") = true;
        self.changed.notify_all();
    }

    pub fn ran(&self) -> Vec<String> {
        self.ran.lock().expect("lock").clone()
    }

    fn cue(&self, text: &str) -> Cue {
        let cues = self.cues.lock().expect("lock");
        let found = cues
            .iter()
            .find(|(words, _)| text.starts_with(words.as_str()));
        found.map_or(Cue::Row(1), |(_, cue)| cue.clone())
    }

    fn act(&self, ticket: u64, text: &str) -> Result<i64, EngineError> {
        self.ran.lock().expect("lock").push(text.to_string());
        self.running.store(ticket, Ordering::SeqCst);
        match self.cue(text) {
            Cue::Row(number) => Ok(number),
            Cue::Panic => panic!("on cue"),
            Cue::Fail(fault) => Err(EngineError {
                fault,
                advice: None,
                notes: self.notes.clone(),
                ..EngineError::plain("it failed on cue")
            }),
            cue @ (Cue::Wait | Cue::Deaf) => {
                let deaf = matches!(cue, Cue::Deaf);
                let mut let_go = self.let_go.lock().expect("lock");
                while !*let_go && (deaf || self.cancelled.load(Ordering::SeqCst) != ticket) {
                    let waited = self.changed.wait_timeout(let_go, Duration::from_millis(20));
                    let_go = waited.expect("lock").0;
                }
                match !deaf && self.cancelled.load(Ordering::SeqCst) == ticket {
                    true => Err(EngineError {
                        fault: Fault::Cancelled,
                        ..EngineError::plain("cancelled")
                    }),
                    false => Ok(1),
                }
            }
        }
    }
}

impl Control for Script {
    fn cancel(&self, ticket: u64) {
        self.cancelled.store(ticket, Ordering::SeqCst);
        self.changed.notify_all();
    }
    fn waiting(&self) -> Option<(Duration, Duration)> {
        None
    }
}

/// The connection.
pub struct Scripted(pub Arc<Script>);

impl Connection for Scripted {
    fn dialect(&self) -> &'static Dialect {
        self.0.dialect.unwrap_or(&SQLITE)
    }

    fn control(&self) -> Arc<dyn Control> {
        Arc::clone(&self.0) as Arc<dyn Control>
    }

    fn bearings(&mut self) -> Bearings {
        let server = self.0.is_server.then(|| ServerBearings {
            process: 1,
            place: "quay".into(),
            local: true,
            way: String::new(),
            user: "mate".into(),
            role: None,
            all_powerful: false,
            search_path: Vec::new(),
            time_zone: "UTC".into(),
            link: LinkState::Socket,
            identity: "1".into(),
        });
        Bearings {
            server,
            ..Bearings::of("scripted")
        }
    }

    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        let number = self.0.act(ticket, statement)?;
        let reads = statement.starts_with("select");
        if reads {
            sink.columns(vec![Column::named("n")]).expect("taken");
            let mut batch = RowBatch::new();
            batch.push_row([ValueRef::Integer(number)]);
            sink.rows(batch).expect("taken");
        }
        Ok(Outcome {
            returns_rows: reads,
            changed: (!reads).then_some(1),
            notes: self.0.notes.clone(),
            ..Outcome::default()
        })
    }

    fn put(
        &mut self,
        ticket: u64,
        into: &idle_tide_engines::load::Destination,
        rows: &RowBatch,
    ) -> Result<u64, idle_tide_engines::load::NotPut> {
        idle_tide_engines::load::with_inserts(self, ticket, into, rows)
    }

    fn refuse_writes(&mut self, _: bool) -> Result<(), EngineError> {
        Ok(())
    }

    fn describe(&mut self) -> &mut dyn Describe {
        self
    }

    fn served(&mut self) -> Option<&mut dyn Served> {
        Some(self)
    }
}

impl Describe for Scripted {
    fn catalog(&mut self, ticket: u64, _: &mut dyn FnMut(Catalog)) -> Result<Catalog, EngineError> {
        self.0.act(ticket, "catalog")?;
        let mut catalog = Catalog::default();
        for table in ["t"].iter().chain(&self.0.tables) {
            let table = Object::new("main", *table, Kind::Table);
            catalog.objects.push(table);
        }
        Ok(catalog)
    }

    fn define(&mut self, ticket: u64, object: &mut Object) -> Result<(), EngineError> {
        self.0.act(ticket, "define")?;
        object.definition = Some("create table t (made on request)".into());
        Ok(())
    }

    fn script(&mut self, ticket: u64, _: &Catalog) -> Result<String, EngineError> {
        self.0.act(ticket, "script").map(|_| "create all".into())
    }

    fn count_rows(&mut self, _: u64, catalog: &mut Catalog, _: Duration) {
        for object in &mut catalog.objects {
            object.rows = Some(7);
        }
    }

    fn listing(&mut self, _: Listing<'_>) -> Result<Query, String> {
        Err("There is none.".into())
    }
}

impl Served for Scripted {
    fn beside(&self) -> Option<Beside> {
        let script = Arc::clone(self.0.beside.as_ref()?);
        Some(Box::new(move || Ok(Box::new(Scripted(script)))))
    }

    fn follow(&mut self, _: &Bearings) -> Result<(), EngineError> {
        Ok(())
    }

    fn change_password(&mut self, _: &secrecy::SecretString) -> Result<(), EngineError> {
        Ok(())
    }
}
