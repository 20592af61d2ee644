//! Collections in files: flows evaluated as the files are read, changes written beside a file and swapped in.

use std::borrow::Cow;
use std::io;
use std::path::Path as FilePath;
use std::sync::Arc;
use std::time::{Duration, Instant};

use idle_tide_core::document::compare::Key;
use idle_tide_core::document::shape::Shape;
use idle_tide_core::document::{Datum, Document, bson};
use idle_tide_core::plan::{Plan, Step as PlanStep};
use idle_tide_core::{Catalog, Object};
use idle_tide_dock::files::{self, Collection, Folder, Form, Trouble, Writing};
use idle_tide_dock::flow::{Chain, Change, FlowError, Limits, Places, Program};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::FLOW;
use idle_tide_lang::flow::ast::{Definition, Flow, Path, Source, Statement, Transaction, Write};

use super::rows::Documents;
use super::{
    Cancel, SHAPE_SAMPLE, context, definition_of, new_id, not_there, object_of, script_of,
    understood, with_ids,
};
use crate::engine::{
    Access, Bearings, Collections, Connection, Control, Describe, Earlier, EngineError, Fault,
    Listing, Outcome, Query, Sink,
};
use crate::trouble::OpenError;

/// How long documents are counted that nobody wants to see.
const COUNTING: Duration = Duration::from_millis(500);

/// A session on files that hold documents.
pub struct Local {
    folder: Folder,
    cancel: Arc<Cancel>,
    refusing: bool,
    keep_going: bool,
    earlier: Option<Earlier>,
    /// Since when a transaction has been open.
    transaction: Option<Instant>,
}

/// The other collections of the same folder, for joins and saves.
struct Beside<'a> {
    folder: &'a Folder,
    may_write: bool,
    notes: Vec<String>,
    made: Vec<String>,
}

fn io_words(what: &str, error: &io::Error) -> String {
    format!("{what} cannot be read: {error}.")
}

impl Local {
    /// Opens a file or a folder. Without `write` nothing is changed. With `keep_going` what cannot be understood is passed over and counted.
    ///
    /// # Errors
    /// If it does not exist or cannot be read.
    pub fn open(path: &FilePath, write: bool, keep_going: bool) -> Result<Self, OpenError> {
        let folder = Folder::open(path, write).map_err(|error| {
            OpenError::plain(match error.kind() {
                io::ErrorKind::NotFound => format!("There is no file or folder {}. docs:PATH opens one; /practice start has a server to try.", path.display()),
                _ => format!("{} cannot be opened: {error}.", path.display()),
            })
        })?;
        folder
            .collections()
            .map_err(|error| OpenError::plain(io_words(&path.display().to_string(), &error)))?;
        Ok(Local {
            folder,
            cancel: Arc::default(),
            refusing: false,
            keep_going,
            earlier: None,
            transaction: None,
        })
    }

    fn all_collections(&self) -> Result<Vec<Collection>, EngineError> {
        self.folder.collections().map_err(|e| {
            EngineError::plain(io_words(&self.folder.path().display().to_string(), &e))
        })
    }

    fn names(&self) -> Vec<String> {
        self.folder
            .collections()
            .unwrap_or_default()
            .into_iter()
            .map(|c| c.name)
            .collect()
    }

    fn find(&self, name: &str) -> Result<Option<Collection>, EngineError> {
        Ok(self.all_collections()?.into_iter().find(|c| c.name == name))
    }

    /// Reads a collection; what is broken ends it, or is counted.
    fn read(
        &self,
        collection: &Collection,
        notes: &mut Vec<String>,
        take: &mut dyn FnMut(Document) -> Result<bool, EngineError>,
    ) -> Result<(), EngineError> {
        let cancel = Arc::clone(&self.cancel);
        let mut until = 0_u32;
        let mut guarded = |document: Document| {
            until += 1;
            if until.is_multiple_of(256) && cancel.is_cancelled() {
                return Err(EngineError::cancelled());
            }
            take(document)
        };
        let mut problems: Vec<String> = Vec::new();
        let mut count = 0_u64;
        let mut tell = |broken: files::Broken| {
            count += 1;
            if problems.len() < 5 {
                problems.push(broken.to_string());
            }
        };
        let done = files::read(
            &self.folder.now(&collection.path),
            &mut guarded,
            if self.keep_going {
                Some(&mut tell)
            } else {
                None
            },
        );
        if count > 0 {
            notes.push(format!(
                "{count} documents of {} could not be understood and are left out: {}.",
                collection.name,
                problems.join("; ")
            ));
        }
        done.map_err(|trouble| match trouble {
            Trouble::Taker(error) => error,
            Trouble::Io(error) => EngineError { fault: Fault::Disk, ..EngineError::plain(io_words(&collection.path.display().to_string(), &error)) },
            Trouble::Broken(broken) => EngineError {
                fault: Fault::Damaged,
                ..EngineError::plain(format!(
                    "{} cannot be understood at {broken}. Open it with --keep-going to leave out what is broken and read the rest.",
                    collection.path.display()
                ))
            },
        })
    }

    fn refuse(&self) -> Option<EngineError> {
        let words = if !self.folder.writable {
            format!(
                "{} is opened for reading. Open it with --write to change it.",
                self.folder.path().display()
            )
        } else if self.refusing {
            "This session refuses writes; /writes ask allows them again.".to_string()
        } else {
            return None;
        };
        Some(EngineError {
            fault: Fault::ReadOnly,
            ..EngineError::plain(words)
        })
    }

    fn flow(&mut self, flow: &Flow, sink: &mut dyn Sink) -> Result<Outcome, EngineError> {
        let mut outcome = Outcome {
            returns_rows: true,
            ..Outcome::default()
        };
        let context = context();
        let writable = self.folder.writable && !self.refusing;
        let mut beside = Beside {
            folder: &self.folder,
            may_write: writable,
            notes: Vec::new(),
            made: Vec::new(),
        };
        let mut chain = Chain::new(&flow.stages, &context, Limits::default(), &mut beside)
            .map_err(EngineError::of_flow)?;
        let mut rows = Documents::new(sink);
        let mut failed: Option<EngineError> = None;
        let mut on = |document: Cow<'_, Document>| match rows.take(&document) {
            Ok(()) => Ok(true),
            Err(error) => {
                failed = Some(error);
                Ok(false)
            }
        };
        match &flow.source {
            Source::Collection(name) => match self.find(&name.name)? {
                Some(collection) => {
                    let mut notes = Vec::new();
                    self.read(&collection, &mut notes, &mut |document| {
                        chain
                            .take(Cow::Owned(document), &mut on)
                            .map_err(EngineError::of_flow)
                    })?;
                    outcome.notes.extend(notes);
                }
                None => outcome.notes.push(not_there(&name.name, &self.names())),
            },
            Source::Typed(typed) => {
                let Some(Datum::List(list)) = typed.constant() else {
                    return Err(EngineError::of_flow(FlowError::at(
                        typed.span.clone(),
                        "Documents that are typed in are plain values, nothing computed.",
                    )));
                };
                for document in list {
                    let Datum::Object(document) = document else {
                        return Err(EngineError::of_flow(FlowError::at(
                            typed.span.clone(),
                            "Only objects can be documents.",
                        )));
                    };
                    if !chain
                        .take(Cow::Owned(document), &mut on)
                        .map_err(EngineError::of_flow)?
                    {
                        break;
                    }
                }
            }
            Source::Result(number) => from_earlier(
                self.earlier.as_ref(),
                *number,
                flow,
                &self.cancel,
                &mut |document| chain.take(Cow::Owned(document), &mut on),
            )?,
        }
        chain
            .end(&mut on, &mut beside)
            .map_err(EngineError::of_flow)?;
        let (notes, made) = (
            std::mem::take(&mut beside.notes),
            std::mem::take(&mut beside.made),
        );
        outcome.notes.extend(notes);
        if let Some(error) = failed {
            return Err(error);
        }
        if flow
            .stages
            .last()
            .is_some_and(|s| matches!(s.kind, idle_tide_lang::flow::ast::StageKind::Save { .. }))
        {
            outcome.returns_rows = false;
            outcome.made = made;
            return Ok(outcome);
        }
        if let Some(note) = rows.end()? {
            outcome.notes.push(note);
        }
        Ok(outcome)
    }

    fn write(&mut self, write: &Write) -> Result<Outcome, EngineError> {
        if let Some(error) = self.refuse() {
            return Err(error);
        }
        let context = context();
        let mut outcome = Outcome::default();
        let name = match write {
            Write::Insert { collection, .. }
            | Write::Update { collection, .. }
            | Write::Delete { collection, .. }
            | Write::Empty { collection } => &collection.name,
        };
        let found = self.find(name)?;
        match write {
            Write::Insert { documents, .. } => {
                let list = match documents.constant() {
                    Some(Datum::List(list)) => list,
                    Some(one) => vec![one],
                    None => {
                        return Err(EngineError::of_flow(FlowError::at(
                            documents.span.clone(),
                            "The values of insert are data, not expressions: texts go in quotes.",
                        )));
                    }
                };
                let count = list.len() as u64;
                let (list, ids) = with_ids(list)?;
                let mut beside = Beside {
                    folder: &self.folder,
                    may_write: true,
                    notes: Vec::new(),
                    made: Vec::new(),
                };
                beside.add(name, list).map_err(|words| EngineError {
                    fault: Fault::Constraint,
                    ..EngineError::plain(words)
                })?;
                outcome.changed = Some(count);
                outcome.new_ids = ids;
                outcome.made = beside
                    .made
                    .into_iter()
                    .filter(|m| m.contains("came into being"))
                    .collect();
            }
            Write::Update {
                predicate,
                set,
                remove,
                ..
            } => {
                let Some(collection) = found else {
                    outcome.notes.push(not_there(name, &self.names()));
                    outcome.changed = Some(0);
                    return Ok(outcome);
                };
                let predicate = predicate
                    .as_ref()
                    .map(|p| Program::new(p, &context))
                    .transpose()
                    .map_err(EngineError::of_flow)?;
                let change = Change::new(set, remove, &context).map_err(EngineError::of_flow)?;
                let (mut matched, mut changed) = (0, 0);
                self.rewrite(&collection, &mut |document| {
                    if predicate
                        .as_ref()
                        .is_some_and(|p| !p.holds(&document).unwrap_or(false))
                    {
                        return Ok(Some(document));
                    }
                    matched += 1;
                    let after = change.apply(&document)?;
                    changed += u64::from(after.is_some());
                    Ok(Some(after.unwrap_or(document)))
                })?;
                outcome.changed = Some(changed);
                if matched != changed {
                    outcome.notes.push(format!(
                        "{matched} fit the condition; {} of them had these values already.",
                        matched - changed
                    ));
                }
            }
            Write::Delete { predicate, .. } => {
                let Some(collection) = found else {
                    outcome.notes.push(not_there(name, &self.names()));
                    outcome.changed = Some(0);
                    return Ok(outcome);
                };
                let predicate = predicate
                    .as_ref()
                    .map(|p| Program::new(p, &context))
                    .transpose()
                    .map_err(EngineError::of_flow)?;
                outcome.changed = Some(self.delete(&collection, predicate.as_ref())?);
            }
            Write::Empty { .. } => match found {
                Some(collection) => outcome.changed = Some(self.delete(&collection, None)?),
                None => {
                    outcome.notes.push(not_there(name, &self.names()));
                    outcome.changed = Some(0);
                }
            },
        }
        Ok(outcome)
    }

    fn delete(
        &self,
        collection: &Collection,
        predicate: Option<&Program>,
    ) -> Result<u64, EngineError> {
        let mut gone = 0;
        self.rewrite(collection, &mut |document| {
            let goes = match predicate {
                Some(predicate) => predicate.holds(&document)?,
                None => true,
            };
            gone += u64::from(goes);
            Ok((!goes).then_some(document))
        })?;
        Ok(gone)
    }

    /// Writes a collection anew with what `change` makes of each document.
    fn rewrite(
        &self,
        collection: &Collection,
        change: &mut dyn FnMut(Document) -> Result<Option<Document>, FlowError>,
    ) -> Result<(), EngineError> {
        let failed = |e: &io::Error| disk(&collection.path, e);
        let form = form_of(collection).map_err(|e| failed(&e))?;
        let mut writing = Writing::begin(&collection.path, form).map_err(|e| failed(&e))?;
        // What is broken would be lost.
        let strict = Local {
            keep_going: false,
            folder: self.folder.clone(),
            cancel: Arc::clone(&self.cancel),
            refusing: false,
            earlier: None,
            transaction: self.transaction,
        };
        strict.read(collection, &mut Vec::new(), &mut |document| {
            if let Some(document) = change(document).map_err(EngineError::of_flow)? {
                writing.put(&document).map_err(|e| failed(&e))?;
            }
            Ok(true)
        })?;
        writing
            .end_in(&self.folder)
            .map(drop)
            .map_err(|e| failed(&e))
    }

    /// Begins or ends a transaction: changed files wait beside their places until all are put there.
    fn transact(&mut self, what: Transaction) -> Result<Outcome, EngineError> {
        let open = self.folder.in_transaction();
        match what {
            Transaction::Begin if open => {
                return Err(EngineError::plain(
                    "A transaction is open already;  commit;  or  rollback;  ends it.",
                ));
            }
            Transaction::Begin => {
                self.folder.begin();
                self.transaction = Some(Instant::now());
                return Ok(Outcome::default());
            }
            _ if !open => {
                return Err(EngineError::plain(
                    "No transaction is open;  begin;  opens one.",
                ));
            }
            _ => self.transaction = None,
        }
        match what {
            Transaction::Commit => self.folder.commit().map_err(|words| EngineError {
                fault: Fault::Constraint,
                ..EngineError::plain(words)
            })?,
            _ => self.folder.roll_back(),
        }
        Ok(Outcome::default())
    }

    fn define_statement(&mut self, definition: &Definition) -> Result<Outcome, EngineError> {
        if let Some(error) = self.refuse() {
            return Err(error);
        }
        if self.folder.in_transaction() {
            return Err(EngineError::plain(
                "In a transaction over files only documents change;  commit;  or  rollback;  ends it.",
            ));
        }
        let mut outcome = Outcome::default();
        match definition {
            Definition::CreateCollection(name) => {
                if self.find(&name.name)?.is_some() {
                    return Err(EngineError {
                        fault: Fault::Statement,
                        ..EngineError::plain(format!(
                            "There is a collection {} already.",
                            name.name
                        ))
                    });
                }
                let path = self
                    .folder
                    .new_path(&name.name)
                    .map_err(EngineError::plain)?;
                files::write(&path, Form::Lines, &mut std::iter::empty())
                    .map_err(|e| disk(&path, &e))?;
                outcome.made.push(format!(
                    "The collection {} was made, in {}.",
                    name.name,
                    path.display()
                ));
            }
            Definition::DropCollection(name) => {
                let Some(collection) = self.find(&name.name)? else {
                    return Err(EngineError {
                        fault: Fault::Statement,
                        ..EngineError::plain(not_there(&name.name, &self.names()))
                    });
                };
                std::fs::remove_file(&collection.path).map_err(|e| disk(&collection.path, &e))?;
                outcome.made.push(format!(
                    "The collection {} was removed, and its file {}.",
                    name.name,
                    collection.path.display()
                ));
            }
            Definition::Rename { from, to } => {
                let Some(collection) = self.find(&from.name)? else {
                    return Err(EngineError {
                        fault: Fault::Statement,
                        ..EngineError::plain(not_there(&from.name, &self.names()))
                    });
                };
                if self.find(&to.name)?.is_some() {
                    return Err(EngineError {
                        fault: Fault::Statement,
                        ..EngineError::plain(format!("There is a collection {} already.", to.name))
                    });
                }
                let mut path = self.folder.new_path(&to.name).map_err(EngineError::plain)?;
                if let Some(ending) = collection.path.extension() {
                    path.set_extension(ending);
                }
                std::fs::rename(&collection.path, &path).map_err(|e| disk(&path, &e))?;
                outcome.made.push(format!(
                    "The collection {} is called {} now.",
                    from.name, to.name
                ));
            }
            Definition::CreateIndex { .. } | Definition::DropIndex { .. } => {
                return Err(EngineError::plain(
                    "Files have no indexes: every read goes through the whole file.",
                ));
            }
            Definition::DropDatabase(_) => {
                return Err(EngineError::plain(
                    "A folder is not removed from here; its collections are, one by one (drop collection NAME).",
                ));
            }
            Definition::CreateUser { .. }
            | Definition::ChangePassword { .. }
            | Definition::DropUser(_) => {
                return Err(EngineError::plain(
                    "Files have no users: whoever can read them can read everything in them.",
                ));
            }
        }
        Ok(outcome)
    }
}

/// How the documents of a collection stand in its file; one that is not in its place yet has a line each.
fn form_of(collection: &Collection) -> io::Result<Form> {
    match collection.path.exists() {
        true => files::form_of(&collection.path),
        false => Ok(Form::Lines),
    }
}

fn disk(path: &FilePath, error: &io::Error) -> EngineError {
    EngineError {
        fault: Fault::Disk,
        ..EngineError::plain(format!(
            "{} cannot be written: {error}. What was there before is there still.",
            path.display()
        ))
    }
}

/// Feeds the rows of an earlier entry to a chain.
pub(super) fn from_earlier(
    earlier: Option<&Earlier>,
    number: u32,
    flow: &Flow,
    cancel: &Cancel,
    take: &mut dyn FnMut(Document) -> Result<bool, FlowError>,
) -> Result<(), EngineError> {
    let Some(earlier) = earlier else {
        return Err(EngineError::of_flow(FlowError::at(
            flow.span.clone(),
            "There are no earlier results here.",
        )));
    };
    let mut failed: Option<EngineError> = None;
    let read = earlier(number, &mut |document| {
        if cancel.is_cancelled() {
            failed = Some(EngineError::cancelled());
            return false;
        }
        match take(document) {
            Ok(more) => more,
            Err(error) => {
                failed = Some(EngineError::of_flow(error));
                false
            }
        }
    });
    read.map_err(|words| EngineError::of_flow(FlowError::at(flow.span.clone(), words)))?;
    failed.map_or(Ok(()), Err)
}

/// The document with an identifier, a new one where it has none.
fn with_id(mut document: Document) -> Document {
    if document.get("_id").is_none() {
        document.fields.insert(0, ("_id".into(), new_id()));
    }
    document
}

impl Beside<'_> {
    fn existing(&self, name: &str) -> Result<Option<Collection>, String> {
        self.folder.collection(name).map_err(|e| io_words(name, &e))
    }

    fn each(&self, collection: &Collection, take: &mut dyn FnMut(Document)) -> Result<(), String> {
        let read = files::read::<()>(
            &self.folder.now(&collection.path),
            &mut |d| {
                take(d);
                Ok(true)
            },
            None,
        );
        read.map_err(|trouble| match trouble {
            Trouble::Io(error) => io_words(&collection.name, &error),
            Trouble::Broken(broken) => format!(
                "{} cannot be understood at {broken}.",
                collection.path.display()
            ),
            Trouble::Taker(()) => String::new(),
        })
    }

    /// The collection of a name if it is there, and where and how its file is written.
    fn place(&self, name: &str) -> Result<(Option<Collection>, std::path::PathBuf, Form), String> {
        let existing = self.existing(name)?;
        let (path, form) = match &existing {
            Some(collection) => {
                let form = form_of(collection);
                (
                    collection.path.clone(),
                    form.map_err(|e| io_words(name, &e))?,
                )
            }
            None => (self.folder.new_path(name)?, Form::Lines),
        };
        Ok((existing, path, form))
    }

    /// Says that a collection came into being.
    fn came_into_being(&mut self, name: &str, path: &std::path::Path) {
        self.made.push(format!(
            "The collection {name} came into being, in {}.",
            path.display()
        ));
    }

    /// Adds documents; fails on an identifier that exists.
    fn add(&mut self, name: &str, documents: Vec<Document>) -> Result<u64, String> {
        let mut documents = documents.into_iter();
        self.fill(name, &mut || Ok(documents.next()))
    }

    /// Adds documents as they come; fails on an identifier that exists, and nothing is added then.
    fn fill(
        &mut self,
        name: &str,
        next: &mut dyn FnMut() -> Result<Option<Document>, String>,
    ) -> Result<u64, String> {
        let (existing, path, form) = self.place(name)?;
        let failed = |e: io::Error| disk(&path, &e).message;
        let mut writing = Writing::begin(&path, form).map_err(failed)?;
        let mut ids = std::collections::HashSet::new();
        let mut wrong = None;
        if let Some(collection) = &existing {
            self.each(collection, &mut |document| {
                ids.extend(document.get("_id").map(|id| Key(id.clone())));
                if wrong.is_none() {
                    wrong = writing.put(&document).map_err(failed).err();
                }
            })?;
        }
        if let Some(words) = wrong {
            return Err(words);
        }
        let mut count = 0;
        while let Some(document) = next()? {
            let document = with_id(document);
            if let Some(id) = document.get("_id")
                && !ids.insert(Key(id.clone()))
            {
                return Err(format!(
                    "There is a document with _id {} in {name} already; nothing was added.",
                    idle_tide_lang::flow::literal(id)
                ));
            }
            writing.put(&document).map_err(failed)?;
            count += 1;
        }
        writing.end_in(self.folder).map_err(failed)?;
        if existing.is_none() {
            self.came_into_being(name, &path);
        }
        Ok(count)
    }

    /// Writes a collection anew, or for the first time: what `change` makes of its documents where they are kept, and `more` after them.
    fn put(
        &mut self,
        name: &str,
        keep: bool,
        change: &mut dyn FnMut(Document) -> Result<Document, String>,
        more: &[Document],
    ) -> Result<(), String> {
        let (existing, path, form) = self.place(name)?;
        let failed = |e: io::Error| disk(&path, &e).message;
        let mut writing = Writing::begin(&path, form).map_err(failed)?;
        let mut wrong = None;
        if let Some(collection) = existing.as_ref().filter(|_| keep) {
            self.each(collection, &mut |document| {
                if wrong.is_none() {
                    let written = change(document).and_then(|d| writing.put(&d).map_err(failed));
                    wrong = written.err();
                }
            })?;
        }
        if let Some(words) = wrong {
            return Err(words);
        }
        for document in more {
            writing.put(document).map_err(failed)?;
        }
        writing.end_in(self.folder).map_err(failed)?;
        if existing.is_none() {
            self.came_into_being(name, &path);
        }
        Ok(())
    }
}

impl Places for Beside<'_> {
    fn read(
        &mut self,
        collection: &str,
        take: &mut dyn FnMut(Document) -> Result<bool, FlowError>,
    ) -> Result<(), String> {
        let Some(found) = self.existing(collection)? else {
            let names: Vec<String> = self
                .folder
                .collections()
                .unwrap_or_default()
                .into_iter()
                .map(|c| c.name)
                .collect();
            self.notes.push(not_there(collection, &names));
            return Ok(());
        };
        let mut failed = None;
        self.each(&found, &mut |document| {
            if failed.is_none()
                && let Err(error) = take(document)
            {
                failed = Some(error.message);
            }
        })?;
        failed.map_or(Ok(()), Err)
    }

    fn save(
        &mut self,
        collection: &str,
        documents: Vec<Document>,
        by: Option<&Path>,
        over: bool,
    ) -> Result<(), String> {
        if !self.may_write {
            return Err(format!(
                "{} is opened for reading. Open it with --write to save into it.",
                self.folder.path().display()
            ));
        }
        let count = documents.len();
        let words = |n: usize| {
            if n == 1 {
                "1 document".to_string()
            } else {
                format!("{n} documents")
            }
        };
        if over {
            let all: Vec<Document> = documents.into_iter().map(with_id).collect();
            self.put(collection, false, &mut Ok, &all)?;
            self.made.push(format!(
                "{} stand in {collection} now, and nothing else.",
                words(count)
            ));
        } else if let Some(path) = by {
            let (replaced, added) = self.replace_by(collection, documents, path)?;
            self.made.push(format!(
                "{} replaced and {} added in {collection}.",
                words(replaced),
                words(added)
            ));
        } else {
            self.add(collection, documents)?;
            self.made
                .push(format!("{} added to {collection}.", words(count)));
        }
        Ok(())
    }

    fn raw(&mut self, _: &[Datum], _: Vec<Document>) -> Result<Vec<Document>, String> {
        Err("raw stages are a server's own, and these are files. /practice start has a server that knows them.".into())
    }
}

impl Beside<'_> {
    /// Replaces documents that have the same value at a path and adds the rest; gives how many of each.
    fn replace_by(
        &mut self,
        name: &str,
        documents: Vec<Document>,
        path: &Path,
    ) -> Result<(usize, usize), String> {
        let at = |document: &Document| -> Option<Datum> {
            let mut value = Datum::Object(document.clone());
            for step in path.names()? {
                value = value.as_object()?.get(step)?.clone();
            }
            Some(value)
        };
        let (mut new, mut order) = (std::collections::HashMap::new(), Vec::new());
        for document in documents {
            let Some(value) = at(&document) else {
                return Err(format!(
                    "A document has nothing at {}, by which documents are replaced; nothing was saved.",
                    path.written()
                ));
            };
            // Of several with one value the last one stays.
            if new.insert(Key(value.clone()), document).is_none() {
                order.push(Key(value));
            }
        }
        // What is there is known by its place; the first with a value is replaced.
        let mut taken = std::collections::HashSet::new();
        let existing = self.existing(name)?;
        if let Some(collection) = &existing {
            self.each(collection, &mut |document| {
                if let Some(value) = at(&document).map(Key)
                    && new.contains_key(&value)
                {
                    taken.insert(value);
                }
            })?;
        }
        let more: Vec<Document> = order
            .iter()
            .filter(|value| !taken.contains(*value))
            .filter_map(|value| new.get(value).cloned())
            .map(|mut document| {
                if path.written() != "_id" {
                    document.remove("_id");
                }
                with_id(document)
            })
            .collect();
        let mut left = taken.clone();
        self.put(
            name,
            true,
            &mut |document| {
                let value = at(&document).map(Key).filter(|value| left.remove(value));
                let Some(mut replacing) = value.and_then(|value| new.remove(&value)) else {
                    return Ok(document);
                };
                let id = document.get("_id").cloned().unwrap_or_else(new_id);
                replacing.remove("_id");
                replacing.fields.insert(0, ("_id".into(), id));
                Ok(replacing)
            },
            &more,
        )?;
        Ok((taken.len(), more.len()))
    }
}

impl Connection for Local {
    fn dialect(&self) -> &'static Dialect {
        &FLOW
    }

    fn control(&self) -> Arc<dyn Control> {
        Arc::clone(&self.cancel) as Arc<dyn Control>
    }

    fn bearings(&mut self) -> Bearings {
        let access = if self.folder.writable {
            Access::Writable
        } else {
            Access::ReadOnly(
                "These files are opened for reading. Open them with --write to change them.".into(),
            )
        };
        let collections = self.folder.collections().unwrap_or_default();
        let bytes: u64 = collections.iter().map(|c| c.bytes).sum();
        Bearings {
            version: "in files".into(),
            database: self.folder.name(),
            place: Some(self.folder.path().display().to_string()),
            access,
            facts: vec![
                ("collections".into(), collections.len().to_string()),
                ("bytes of files".into(), bytes.to_string()),
            ],
            transaction: self.transaction,
            ..Bearings::of("documents")
        }
    }

    fn run(
        &mut self,
        ticket: u64,
        statement: &str,
        sink: &mut dyn Sink,
    ) -> Result<Outcome, EngineError> {
        let running = Arc::clone(&self.cancel);
        let _running = running.under(ticket)?;
        understood(statement).and_then(|statement| match &statement {
            Statement::Flow(flow) => {
                let saves = idle_tide_lang::flow::compile::writes(&statement);
                match self.refuse().filter(|_| saves) {
                    Some(error) => Err(error),
                    None => self.flow(flow, sink),
                }
            }
            Statement::Write(write) => self.write(write),
            Statement::Definition(definition) => self.define_statement(definition),
            Statement::Call(_) => Err(EngineError::plain(
                "call sends a command to a server, and these are files.",
            )),
            Statement::Transaction(what) => self.transact(*what),
        })
    }

    fn refuse_writes(&mut self, refuse: bool) -> Result<(), EngineError> {
        self.refusing = refuse;
        Ok(())
    }

    fn describe(&mut self) -> &mut dyn Describe {
        self
    }

    fn collections(&mut self) -> Option<&mut dyn Collections> {
        Some(self)
    }
}

impl Describe for Local {
    fn catalog(&mut self, ticket: u64, _: &mut dyn FnMut(Catalog)) -> Result<Catalog, EngineError> {
        let running = Arc::clone(&self.cancel);
        let _running = running.under(ticket)?;
        let mut catalog = Catalog::default();
        let here = idle_tide_core::Database {
            name: self.folder.name(),
            here: true,
            detail: self.folder.path().display().to_string(),
        };
        catalog.databases.push(here);
        for collection in self.all_collections()? {
            let mut shape = Shape::default();
            let read = self.read(&collection, &mut Vec::new(), &mut |document| {
                shape.meet(&bson::encode(&document));
                Ok(shape.sampled < SHAPE_SAMPLE)
            });
            let mut object = object_of(&collection.name, shape);
            object.bytes = Some(collection.bytes);
            object.indexes = Vec::new();
            object
                .facts
                .push(("file".into(), collection.path.display().to_string()));
            object.definition = Some(definition_of(&object));
            if let Err(error) = read {
                if error.fault == Fault::Cancelled {
                    return Err(error);
                }
                object.broken = Some(error.advice.unwrap_or(error.message));
            }
            catalog.objects.push(object);
        }
        Ok(catalog)
    }

    fn script(&mut self, _: u64, catalog: &Catalog) -> Result<String, EngineError> {
        Ok(script_of(catalog))
    }

    fn define(&mut self, _: u64, object: &mut Object) -> Result<(), EngineError> {
        object.definition = Some(definition_of(object));
        Ok(())
    }

    fn count_rows(&mut self, ticket: u64, catalog: &mut Catalog, limit: Duration) {
        let running = Arc::clone(&self.cancel);
        let Ok(_running) = running.under(ticket) else {
            return;
        };
        self.cancel.set_deadline(Some(limit));
        let cancel = Arc::clone(&self.cancel);
        for object in &mut catalog.objects {
            let Ok(Some(collection)) = self.find(&object.name) else {
                continue;
            };
            let (mut count, mut late) = (0_u64, false);
            let read = self.read(&collection, &mut Vec::new(), &mut |_| {
                count += 1;
                late = count.is_multiple_of(512) && cancel.is_late();
                Ok(!late)
            });
            if read.is_ok() && !late {
                object.rows = Some(count);
            }
        }
        self.cancel.set_deadline(None);
    }

    fn listing(&mut self, what: Listing<'_>) -> Result<Query, String> {
        match what {
            Listing::Databases(_) => Ok(Query {
                sql: format!(
                    "from [{{name: {}, path: {}}}]",
                    idle_tide_lang::flow::literal(&self.folder.name().into()),
                    idle_tide_lang::flow::literal(&self.folder.path().display().to_string().into())
                ),
                note: Some(
                    "A folder of files is one database; /open docs:PATH opens another beside it."
                        .into(),
                ),
            }),
            Listing::Roles(_) | Listing::Access(_) => Err(
                "Files have no users: whoever can read them can read everything in them.".into(),
            ),
        }
    }
}

impl Collections for Local {
    fn documents(
        &mut self,
        ticket: u64,
        collection: &str,
        most: u64,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<Option<u64>, EngineError> {
        let running = Arc::clone(&self.cancel);
        let _running = running.under(ticket)?;
        let Some(found) = self.find(collection)? else {
            return Ok(Some(0));
        };
        let cancel = Arc::clone(&self.cancel);
        let (mut count, mut wanted, mut to_its_end) = (0_u64, true, true);
        let read = self.read(&found, &mut Vec::new(), &mut |document| {
            count += 1;
            if wanted {
                wanted = count <= most && take(document);
                if !wanted {
                    // The rest is only counted, if that does not take long.
                    cancel.set_deadline(Some(COUNTING));
                }
            } else if count.is_multiple_of(512) && cancel.is_late() {
                to_its_end = false;
            }
            Ok(to_its_end)
        });
        self.cancel.set_deadline(None);
        read.map(|()| to_its_end.then_some(count))
    }

    fn fill(
        &mut self,
        ticket: u64,
        collection: &str,
        next: &mut dyn FnMut() -> Result<Option<Document>, EngineError>,
    ) -> Result<u64, EngineError> {
        if let Some(error) = self.refuse() {
            return Err(error);
        }
        let running = Arc::clone(&self.cancel);
        let _running = running.under(ticket)?;
        let mut beside = Beside {
            folder: &self.folder,
            may_write: true,
            notes: Vec::new(),
            made: Vec::new(),
        };
        let mut failed = None;
        let filled = beside.fill(collection, &mut || match next() {
            Ok(document) => Ok(document),
            Err(error) => {
                let words = error.message.clone();
                failed = Some(error);
                Err(words)
            }
        });
        filled.map_err(|words| {
            failed.unwrap_or_else(|| EngineError {
                fault: Fault::Constraint,
                ..EngineError::plain(words)
            })
        })
    }

    fn flow_plan(&mut self, _: u64, statement: &str, _: bool) -> Result<Plan, EngineError> {
        let Statement::Flow(flow) = understood(statement)? else {
            return Err(EngineError::plain(
                "A plan is for what reads: from collection ...",
            ));
        };
        let name = super::collection_of(&flow)
            .unwrap_or("documents typed in")
            .to_string();
        let mut step = PlanStep {
            what: "read the whole file".into(),
            on: name,
            ..PlanStep::default()
        };
        for stage in &flow.stages {
            let text = idle_tide_lang::flow::stage_text(stage);
            let word = stage.word();
            step = PlanStep {
                what: word.into(),
                details: vec![text.strip_prefix(word).unwrap_or(&text).trim().to_string()],
                parts: vec![step],
                ..PlanStep::default()
            };
        }
        Ok(Plan {
            steps: vec![step],
            text: idle_tide_lang::flow::format(&Statement::Flow(flow)),
            notes: vec!["Files have no indexes: the stages run here, one after the other, as the file is read. F7 shows what each takes and gives.".into()],
            ..Plan::default()
        })
    }

    fn set_earlier(&mut self, earlier: Earlier) {
        self.earlier = Some(earlier);
    }
}
