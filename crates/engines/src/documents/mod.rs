//! Document databases: files on this machine, and servers that speak BSON over the public wire protocol. Both take flows; files are
//! evaluated here, servers get the compiled form.

mod address;
pub(crate) mod hello;
mod local;
mod remote;
mod rows;

pub use address::WireAddress;
pub use local::Local;
pub use remote::Remote;

use std::collections::hash_map::RandomState;
use std::hash::{BuildHasher, Hasher};
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use idle_tide_core::document::shape::Shape;
use idle_tide_core::document::{Datum, Document};
use idle_tide_core::{Catalog, Field, Index, Kind, Object};
use idle_tide_dock::flow::Context;
use idle_tide_lang::flow::ast::{Flow, Source, Statement};

use crate::engine::{Control, EngineError};

/// Documents that a shape is inferred from.
pub const SHAPE_SAMPLE: u64 = 1_000;

/// Milliseconds since 1970.
fn now() -> i64 {
    let since = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}

/// What expressions need of this moment.
fn context() -> Context {
    Context {
        script: false,
        now: now(),
        seed: RandomState::new().build_hasher().finish(),
        digits: false,
    }
}

/// A new identifier: seconds, five bytes of chance that stay, a counter (the public ObjectId specification).
fn new_id() -> Datum {
    static COUNTER: AtomicU32 = AtomicU32::new(0);
    static CHANCE: std::sync::OnceLock<u64> = std::sync::OnceLock::new();
    let chance = *CHANCE.get_or_init(|| RandomState::new().build_hasher().finish());
    let count = COUNTER
        .fetch_add(1, Ordering::Relaxed)
        .wrapping_add(chance as u32);
    let seconds = u32::try_from(now() / 1_000).unwrap_or(u32::MAX);
    let mut id = [0; 12];
    id[..4].copy_from_slice(&seconds.to_be_bytes());
    id[4..9].copy_from_slice(&chance.to_be_bytes()[3..]);
    id[9..].copy_from_slice(&count.to_be_bytes()[1..]);
    Datum::Id(id)
}

/// The documents of an insert with an identifier each, and these as they are written.
fn with_ids(documents: Vec<Datum>) -> Result<(Vec<Document>, Vec<String>), EngineError> {
    let mut ids = Vec::new();
    let mut list = Vec::new();
    for document in documents {
        let Datum::Object(mut document) = document else {
            return Err(EngineError::plain(
                "Only objects can be put into a collection.",
            ));
        };
        if document.get("_id").is_none() {
            document.fields.insert(0, ("_id".into(), new_id()));
        }
        if let Some(id) = document.get("_id")
            && ids.len() < 20
        {
            ids.push(match id {
                Datum::Id(bytes) => idle_tide_core::document::id_text(bytes),
                other => idle_tide_lang::flow::literal(other),
            });
        }
        list.push(document);
    }
    Ok((list, ids))
}

/// Understands a statement.
fn understood(text: &str) -> Result<Statement, EngineError> {
    let zone = idle_tide_core::document::time::TimeZone::UTC;
    idle_tide_lang::flow::parse(text, &zone)
        .whole()
        .map_err(EngineError::of_flow)
}

/// The collection that a flow reads, if it reads one.
fn collection_of(flow: &Flow) -> Option<&str> {
    match &flow.source {
        Source::Collection(name) => Some(&name.name),
        _ => None,
    }
}

/// The sentence for a collection that is not there.
fn not_there(name: &str, known: &[String]) -> String {
    let nearest = idle_tide_lang::correct::nearest(name, known.iter().map(String::as_str), 1);
    match nearest.first() {
        Some(other) => format!(
            "There is no collection {name}, so there are no documents. The nearest name is {other}."
        ),
        None => format!("There is no collection {name}, so there are no documents."),
    }
}

/// A collection for the catalog, from a sample of its documents.
fn object_of(name: &str, shape: Shape) -> Object {
    let mut object = Object::new("", name, Kind::Collection);
    for field in &shape.fields {
        object.fields.push(Field {
            name: field.name(),
            declared: field.words(),
            optional: field.present < shape.sampled || field.in_list,
            key: (field.path.len() == 1 && field.path[0] == "_id").then_some(0),
            choices: field
                .choices
                .clone()
                .filter(|c| c.len() > 1 && shape.sampled > 20)
                .unwrap_or_default(),
            ..Field::default()
        });
    }
    object.shape = Some(std::sync::Arc::new(shape));
    object
}

/// The index over identifiers that every collection has.
fn id_index() -> Index {
    Index {
        name: "_id_".into(),
        columns: vec!["_id".into()],
        unique: true,
        automatic: true,
        primary: true,
        ..Index::default()
    }
}

/// The statements that make the collections and their indexes again.
fn script_of(catalog: &Catalog) -> String {
    let mut text = String::new();
    for object in &catalog.objects {
        if object.kind != Kind::Collection {
            continue;
        }
        text.push_str(&definition_of(object));
    }
    text
}

/// The statements that make one collection and its indexes again.
fn definition_of(object: &Object) -> String {
    use idle_tide_core::document::paths::written;
    let name = written(object.name.split('.'));
    let mut text = format!("create collection {name};\n");
    for index in object.indexes.iter().filter(|index| !index.automatic) {
        let unique = if index.unique { "unique " } else { "" };
        let plain = index.columns.iter().all(|c| !c.contains(": "));
        if plain {
            text.push_str(&format!(
                "create {unique}index {} on {name} ({});\n",
                written([index.name.as_str()]),
                index.columns.join(", ")
            ));
        } else {
            text.push_str(&format!(
                "-- the index {} ({}) is of a kind that the flow language does not make\n",
                index.name,
                index.columns.join(", ")
            ));
        }
    }
    text
}

/// What other threads may touch: cancelling the present statement.
#[derive(Default)]
struct Cancel {
    running: AtomicU64,
    cancelled: AtomicU64,
    /// Set while something without a ticket has to end soon.
    deadline: std::sync::Mutex<Option<std::time::Instant>>,
}

/// Something runs under a ticket as long as it is held.
struct Running<'a>(&'a Cancel);

impl Drop for Running<'_> {
    fn drop(&mut self) {
        self.0.end();
    }
}

impl Cancel {
    fn begin(&self, ticket: u64) {
        self.running.store(ticket, Ordering::SeqCst);
    }

    /// Begins something under a ticket; what was cancelled before does not begin.
    fn under(&self, ticket: u64) -> Result<Running<'_>, EngineError> {
        self.begin(ticket);
        let running = Running(self);
        if self.is_cancelled() {
            return Err(EngineError::cancelled());
        }
        Ok(running)
    }

    fn end(&self) {
        self.running.store(0, Ordering::SeqCst);
    }

    fn is_cancelled(&self) -> bool {
        let running = self.running.load(Ordering::Relaxed);
        running != 0 && self.cancelled.load(Ordering::Relaxed) == running
    }

    fn set_deadline(&self, limit: Option<Duration>) {
        *self
            .deadline
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner) =
            limit.map(|l| std::time::Instant::now() + l);
    }

    fn is_late(&self) -> bool {
        let deadline = self
            .deadline
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner);
        deadline.is_some_and(|at| std::time::Instant::now() > at)
    }
}

impl Control for Cancel {
    fn cancel(&self, ticket: u64) {
        self.cancelled.store(ticket, Ordering::SeqCst);
    }

    fn waiting(&self) -> Option<(Duration, Duration)> {
        None
    }
}
