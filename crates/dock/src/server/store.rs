//! Databases and collections in memory, with unique indexes enforced, kept in a folder where that is wanted: a file a collection, written
//! beside and swapped in.

use std::collections::{BTreeMap, HashMap};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use idle_tide_core::document::compare::{Key, order};
use idle_tide_core::document::extended::{Form as JsonForm, text_of};
use idle_tide_core::document::{Datum, Document};

use super::Failed;
use super::expression::at_path;
use crate::files::{self, Form};

/// An index.
#[derive(Debug, Clone)]
pub struct Index {
    /// Its description as it was given, with its name.
    pub spec: Document,
    /// Its paths.
    pub paths: Vec<String>,
    /// Whether it allows a value only once.
    pub unique: bool,
    sparse: bool,
    places: HashMap<Vec<Key>, usize>,
}

/// A collection.
#[derive(Debug, Clone)]
pub struct Collection {
    /// The documents, in the order in which they came.
    pub documents: Vec<Arc<Document>>,
    /// The indexes; the one over identifiers is first.
    pub indexes: Vec<Index>,
    dirty: bool,
    /// Another number after every change.
    version: u64,
}

/// The collection in which a database keeps its views, as servers do.
const VIEWS: &str = "system.views";

/// The next number for a change, of all collections.
static VERSION: AtomicU64 = AtomicU64::new(1);

/// The number of the last change, by database and collection.
pub(super) type Versions = BTreeMap<(String, String), u64>;

/// Everything there is.
#[derive(Debug, Default)]
pub struct Store {
    /// Collections by database and name.
    pub databases: BTreeMap<String, BTreeMap<String, Collection>>,
    folder: Option<PathBuf>,
    gone: Vec<PathBuf>,
}

impl Index {
    /// An index as it is described, over nothing yet.
    pub(super) fn new(spec: Document) -> Self {
        let key = spec
            .get("key")
            .and_then(Datum::as_object)
            .cloned()
            .unwrap_or_default();
        let is = |name: &str| spec.get(name) == Some(&Datum::Boolean(true));
        let identifiers = key.len() == 1 && key.fields[0].0 == "_id";
        Index {
            paths: key
                .fields
                .iter()
                .map(|(path, _)| path.to_string())
                .collect(),
            unique: is("unique") || identifiers,
            sparse: is("sparse"),
            spec,
            places: HashMap::new(),
        }
    }

    /// Its name.
    pub fn name(&self) -> &str {
        self.spec
            .get("name")
            .and_then(Datum::as_text)
            .unwrap_or_default()
    }

    /// The keys of a document in this index; several where a path leads to a list.
    fn keys(&self, document: &Document) -> Vec<Vec<Key>> {
        let mut keys: Vec<Vec<Key>> = vec![Vec::new()];
        let mut there = false;
        for path in &self.paths {
            let value = at_path(document, path);
            there |= value.is_some();
            let values = match value {
                Some(Datum::List(list)) if !list.is_empty() => list,
                other => vec![other.unwrap_or(Datum::Null)],
            };
            keys = keys
                .into_iter()
                .flat_map(|key| {
                    values.iter().map(move |value| {
                        let mut key = key.clone();
                        key.push(Key(value.clone()));
                        key
                    })
                })
                .collect();
        }
        if self.sparse && !there {
            Vec::new()
        } else {
            keys
        }
    }

    /// Whether a key of a document is from the one bound on, and before the other.
    pub(super) fn lies_between(
        &self,
        document: &Document,
        min: Option<&Document>,
        max: Option<&Document>,
    ) -> bool {
        let direction = self.spec.get("key").and_then(Datum::as_object);
        let compare = |key: &[Key], bound: &Document| {
            for ((value, (_, limit)), at) in key.iter().zip(&bound.fields).zip(0..) {
                let down = direction.is_some_and(|d| d.fields[at].1.as_i64() == Some(-1));
                let found = order(&value.0, limit);
                if found.is_ne() {
                    return if down { found.reverse() } else { found };
                }
            }
            std::cmp::Ordering::Equal
        };
        self.keys(document).iter().any(|key| {
            min.is_none_or(|min| compare(key, min).is_ge())
                && max.is_none_or(|max| compare(key, max).is_lt())
        })
    }

    fn duplicate(&self, key: &[Key], collection: &str) -> Failed {
        let mut value = Document::new();
        for (path, key) in self.paths.iter().zip(key) {
            value.fields.push((path.as_str().into(), key.0.clone()));
        }
        let shown: Vec<String> = value
            .fields
            .iter()
            .map(|(path, value)| format!("{path}: {}", text_of(value, JsonForm::Relaxed)))
            .collect();
        let pattern = self.spec.get("key").cloned().unwrap_or(Datum::Null);
        Failed::new(
            11000,
            format!(
                "E11000 duplicate key error collection: {collection} index: {} dup key: {{ {} }}",
                self.name(),
                shown.join(", ")
            ),
        )
        .with(
            Document::new()
                .with("keyPattern", pattern)
                .with("keyValue", value),
        )
    }
}

impl Default for Collection {
    fn default() -> Self {
        Collection::new()
    }
}

impl Collection {
    /// An empty collection.
    pub fn new() -> Self {
        let spec = Document::new()
            .with("v", 2)
            .with("key", Document::new().with("_id", 1))
            .with("name", "_id_");
        Collection {
            documents: Vec::new(),
            indexes: vec![Index::new(spec)],
            dirty: true,
            version: VERSION.fetch_add(1, Ordering::Relaxed),
        }
    }

    /// Takes notice that it changed.
    pub fn touch(&mut self) {
        self.dirty = true;
        self.version = VERSION.fetch_add(1, Ordering::Relaxed);
    }

    /// Adds a document that has an identifier.
    ///
    /// # Errors
    /// If a unique index has its key already.
    pub fn insert(&mut self, document: Document, name: &str) -> Result<(), Failed> {
        let at = self.documents.len();
        let mut all = Vec::new();
        for (number, index) in self.indexes.iter().enumerate().filter(|(_, i)| i.unique) {
            for key in index.keys(&document) {
                if index.places.contains_key(&key) {
                    return Err(index.duplicate(&key, name));
                }
                all.push((number, key));
            }
        }
        for (number, key) in all {
            self.indexes[number].places.insert(key, at);
        }
        self.documents.push(Arc::new(document));
        self.touch();
        Ok(())
    }

    /// The place of the document with this identifier.
    pub fn place_of(&self, id: &Datum) -> Option<usize> {
        self.indexes
            .first()?
            .places
            .get([Key(id.clone())].as_slice())
            .copied()
    }

    /// Puts another document in the place of one.
    ///
    /// # Errors
    /// If a unique index has its key elsewhere.
    pub fn replace(&mut self, at: usize, document: Document, name: &str) -> Result<(), Failed> {
        let mut changes = Vec::new();
        for (number, index) in self.indexes.iter().enumerate().filter(|(_, i)| i.unique) {
            let (old, new) = (index.keys(&self.documents[at]), index.keys(&document));
            for key in &new {
                if index.places.get(key).is_some_and(|place| *place != at) {
                    return Err(index.duplicate(key, name));
                }
            }
            changes.push((number, old, new));
        }
        for (number, old, new) in changes {
            let places = &mut self.indexes[number].places;
            old.iter().for_each(|key| {
                places.remove(key);
            });
            new.into_iter().for_each(|key| {
                places.insert(key, at);
            });
        }
        self.documents[at] = Arc::new(document);
        self.touch();
        Ok(())
    }

    /// The index that a hint names, by its name or its key.
    ///
    /// # Errors
    /// If there is none.
    pub(super) fn index_named(&self, hint: &Datum) -> Result<&Index, Failed> {
        let natural = hint
            .as_object()
            .is_some_and(|key| key.get("$natural").is_some());
        let fits = |index: &&Index| match hint {
            Datum::Text(name) => index.name() == &**name,
            Datum::Object(_) if natural => true,
            other => index.spec.get("key") == Some(other),
        };
        self.indexes
            .iter()
            .find(fits)
            .ok_or_else(|| Failed::new(2, "hint provided does not correspond to an existing index"))
    }

    /// The error that says that the index over these paths has these values already.
    pub(super) fn has_already(&self, paths: &[String], values: &[Datum], name: &str) -> Failed {
        let same = |i: &&Index| {
            i.unique && i.paths.len() == paths.len() && paths.iter().all(|p| i.paths.contains(p))
        };
        let index = self.indexes.iter().find(same).unwrap_or(&self.indexes[0]);
        let key: Vec<Key> = values.iter().cloned().map(Key).collect();
        index.duplicate(&key, name)
    }

    /// Takes documents out, by their places.
    pub fn remove(&mut self, places: &std::collections::HashSet<usize>) {
        if places.is_empty() {
            return;
        }
        let mut at = 0;
        self.documents.retain(|_| {
            at += 1;
            !places.contains(&(at - 1))
        });
        self.touch();
        for number in 0..self.indexes.len() {
            let _ = self.fill(number, "");
        }
    }

    fn fill(&mut self, number: usize, name: &str) -> Result<(), Failed> {
        let Some(index) = self.indexes.get_mut(number).filter(|i| i.unique) else {
            return Ok(());
        };
        index.places.clear();
        for (at, document) in self.documents.iter().enumerate() {
            for key in index.keys(document) {
                if index
                    .places
                    .insert(key.clone(), at)
                    .is_some_and(|before| before != at)
                {
                    return Err(index.duplicate(&key, name));
                }
            }
        }
        Ok(())
    }

    /// Makes an index; whether it is new.
    ///
    /// # Errors
    /// If another one has its name, or the documents have a key twice.
    pub fn add_index(&mut self, spec: Document, name: &str) -> Result<bool, Failed> {
        let new = Index::new(spec);
        if new.paths.is_empty() || new.paths.iter().any(|p| p.is_empty() || p.starts_with('$')) {
            return Err(Failed::new(
                67,
                "an index needs paths, and none of them begins with a $",
            ));
        }
        if let Some(known) = self.indexes.iter().find(|i| i.name() == new.name()) {
            return if known.spec.get("key") == new.spec.get("key") && known.unique == new.unique {
                Ok(false)
            } else {
                Err(Failed::new(
                    86,
                    format!(
                        "An existing index has the same name as the requested index: {}",
                        new.name()
                    ),
                ))
            };
        }
        if self
            .indexes
            .iter()
            .any(|i| i.spec.get("key") == new.spec.get("key"))
        {
            return Err(Failed::new(
                85,
                "Index already exists with a different name",
            ));
        }
        self.indexes.push(new);
        if let Err(error) = self.fill(self.indexes.len() - 1, name) {
            self.indexes.pop();
            return Err(error);
        }
        self.touch();
        Ok(true)
    }
}

impl Store {
    /// A store that is kept in a folder: a folder a database, a file a collection.
    ///
    /// # Errors
    /// If the folder cannot be made or read, or a file in it is damaged.
    pub fn in_folder(folder: &Path) -> io::Result<Self> {
        std::fs::create_dir_all(folder)?;
        let mut store = Store {
            folder: Some(folder.to_path_buf()),
            ..Store::default()
        };
        for database in std::fs::read_dir(folder)? {
            let database = database?.path();
            let (true, Some(name)) = (
                database.is_dir(),
                database.file_name().and_then(|n| n.to_str()),
            ) else {
                continue;
            };
            for found in files::Folder::open(&database, true)?.collections()? {
                let mut collection = Collection::new();
                let full = format!("{name}.{}", found.name);
                let read = files::read::<Failed>(
                    &found.path,
                    &mut |document| match document.get("$indexes") {
                        Some(Datum::List(list)) => {
                            for spec in list.iter().filter_map(Datum::as_object) {
                                collection.add_index(spec.clone(), &full)?;
                            }
                            Ok(true)
                        }
                        _ => collection.insert(document, &full).map(|()| true),
                    },
                    None,
                );
                read.map_err(|trouble| match trouble {
                    files::Trouble::Io(error) => error,
                    files::Trouble::Broken(broken) => {
                        io::Error::other(format!("{}: {broken}", found.path.display()))
                    }
                    files::Trouble::Taker(error) => {
                        io::Error::other(format!("{}: {error}", found.path.display()))
                    }
                })?;
                collection.dirty = false;
                store
                    .databases
                    .entry(name.into())
                    .or_default()
                    .insert(found.name, collection);
            }
        }
        Ok(store)
    }

    /// Puts documents into a collection, which is made where it is not there.
    ///
    /// # Errors
    /// If an identifier comes twice.
    pub fn fill(
        &mut self,
        database: &str,
        collection: &str,
        documents: Vec<Document>,
    ) -> Result<(), Failed> {
        let place = self
            .databases
            .entry(database.into())
            .or_default()
            .entry(collection.into())
            .or_default();
        documents
            .into_iter()
            .try_for_each(|document| place.insert(document, collection))
    }

    /// A collection, if it is there.
    pub fn collection(&self, database: &str, name: &str) -> Option<&Collection> {
        self.databases.get(database)?.get(name)
    }

    /// The views of a database, as they are kept in its collection of views.
    pub(super) fn views(&self, database: &str) -> impl Iterator<Item = &Document> {
        let kept = self.collection(database, VIEWS);
        kept.into_iter().flat_map(|c| &c.documents).map(|d| &**d)
    }

    /// A view: what it is on, and its pipeline.
    pub(super) fn view(&self, database: &str, name: &str) -> Option<&Document> {
        let kept = self.collection(database, VIEWS)?;
        let at = kept.place_of(&format!("{database}.{name}").into())?;
        Some(&kept.documents[at])
    }

    /// Makes a view.
    ///
    /// # Errors
    /// If there is one of the name.
    pub(super) fn add_view(
        &mut self,
        database: &str,
        name: &str,
        on: &str,
        pipeline: &[Datum],
    ) -> Result<(), Failed> {
        let view = Document::new()
            .with("_id", format!("{database}.{name}"))
            .with("viewOn", on)
            .with("pipeline", Datum::List(pipeline.to_vec()));
        self.collection_mut(database, VIEWS)
            .insert(view, &format!("{database}.{VIEWS}"))
    }

    /// Takes a view out; whether it was there.
    pub(super) fn drop_view(&mut self, database: &str, name: &str) -> bool {
        let Some(kept) = self
            .databases
            .get_mut(database)
            .and_then(|d| d.get_mut(VIEWS))
        else {
            return false;
        };
        let place = kept.place_of(&format!("{database}.{name}").into());
        kept.remove(&place.into_iter().collect());
        place.is_some()
    }

    /// A collection, made where it is not there.
    pub fn collection_mut(&mut self, database: &str, name: &str) -> &mut Collection {
        self.databases
            .entry(database.into())
            .or_default()
            .entry(name.into())
            .or_default()
    }

    fn file(&self, database: &str, name: &str) -> Option<PathBuf> {
        Some(
            self.folder
                .as_ref()?
                .join(database)
                .join(format!("{name}.bson")),
        )
    }

    /// What there is, for a transaction; and the number of the last change of every collection.
    pub(super) fn snapshot(&self) -> (Store, Versions) {
        let store = Store {
            databases: self.databases.clone(),
            ..Store::default()
        };
        let versions = store.versions();
        (store, versions)
    }

    fn versions(&self) -> Versions {
        self.databases
            .iter()
            .flat_map(|(database, collections)| {
                collections.iter().map(move |(name, collection)| {
                    ((database.clone(), name.clone()), collection.version)
                })
            })
            .collect()
    }

    /// Takes over what a transaction changed since `before`.
    ///
    /// # Errors
    /// If something else was changed in the same collection meanwhile; nothing is taken over then.
    pub(super) fn take_over(&mut self, from: Store, before: &Versions) -> Result<(), Failed> {
        let after = from.versions();
        let now = self.versions();
        let changed: Vec<(String, String)> = after
            .iter()
            .filter(|(place, version)| before.get(*place) != Some(version))
            .map(|(place, _)| place.clone())
            .collect();
        if let Some(place) = changed
            .iter()
            .find(|place| now.get(*place) != before.get(*place))
        {
            return Err(Failed::new(
                112,
                format!(
                    "WriteConflict error: {}.{} was changed outside of this transaction",
                    place.0, place.1
                ),
            ));
        }
        let mut from = from;
        for (database, name) in changed {
            let found = from
                .databases
                .get_mut(&database)
                .and_then(|d| d.remove(&name));
            if let Some(collection) = found {
                *self.collection_mut(&database, &name) = collection;
            }
        }
        Ok(())
    }

    /// Takes a collection out; whether it was there.
    pub fn drop_collection(&mut self, database: &str, name: &str) -> bool {
        let file = self.file(database, name);
        let Some(collections) = self.databases.get_mut(database) else {
            return false;
        };
        let was = collections.remove(name).is_some();
        if collections.is_empty() {
            self.databases.remove(database);
        }
        self.gone.extend(file.filter(|_| was));
        was
    }

    /// Whether it is kept in a folder.
    pub fn keeps(&self) -> bool {
        self.folder.is_some()
    }

    /// Writes what changed since the last time; each file whole or not at all.
    ///
    /// # Errors
    /// If a file cannot be written; the others are nevertheless.
    pub fn keep(&mut self) -> io::Result<()> {
        let mut failed = None;
        for path in std::mem::take(&mut self.gone) {
            if let Err(error) = std::fs::remove_file(&path)
                && error.kind() != io::ErrorKind::NotFound
            {
                failed = Some(error);
            }
        }
        let Some(folder) = self.folder.clone() else {
            return failed.map_or(Ok(()), Err);
        };
        for (database, collections) in &mut self.databases {
            for (name, collection) in collections.iter_mut().filter(|(_, c)| c.dirty) {
                let place = folder.join(database);
                let done = std::fs::create_dir_all(&place).and_then(|()| {
                    let indexes: Vec<Datum> = collection
                        .indexes
                        .iter()
                        .skip(1)
                        .map(|i| i.spec.clone().into())
                        .collect();
                    let head = (!indexes.is_empty())
                        .then(|| Ok(Document::new().with("$indexes", Datum::List(indexes))));
                    let documents = collection.documents.iter().map(|d| Ok((**d).clone()));
                    files::write(
                        &place.join(format!("{name}.bson")),
                        Form::Bson,
                        &mut head.into_iter().chain(documents),
                    )
                });
                match done {
                    Ok(_) => collection.dirty = false,
                    Err(error) => failed = Some(error),
                }
            }
        }
        failed.map_or(Ok(()), Err)
    }
}
