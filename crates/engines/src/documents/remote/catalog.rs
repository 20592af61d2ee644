//! Collections, samples of their documents, their indexes.

use super::*;

impl Remote {
    pub(super) fn database_names(&self) -> Result<Vec<String>, EngineError> {
        let admin = self.client.database("admin");
        let command = document! { "listDatabases": 1, "nameOnly": true };
        let found = self.wait(reply(&admin, &command))?;
        let list = found
            .get("databases")
            .and_then(Datum::as_list)
            .unwrap_or_default();
        Ok(list
            .iter()
            .filter_map(|d| d.as_object()?.get("name")?.as_text().map(str::to_string))
            .collect())
    }

    pub(super) fn collection_names(&self) -> Result<Vec<String>, EngineError> {
        Ok(self
            .all_collections()?
            .into_iter()
            .filter_map(|c| c.get("name").and_then(Datum::as_text).map(str::to_string))
            .collect())
    }

    pub(super) fn exists(&self, name: &str) -> bool {
        let filter = document! { "name": name };
        let command = document! { "listCollections": 1, "filter": filter, "nameOnly": true, "cursor": Document::new() };
        self.all(&command).is_ok_and(|list| !list.is_empty())
    }

    pub(super) fn all_collections(&self) -> Result<Vec<Document>, EngineError> {
        let mut list = self.all(&document! { "listCollections": 1, "cursor": Document::new() })?;
        list.sort_by(|a, b| {
            a.get("name")
                .and_then(Datum::as_text)
                .cmp(&b.get("name").and_then(Datum::as_text))
        });
        Ok(list)
    }

    /// All documents of a cursor that is known to be short.
    pub(super) fn all(&self, command: &Document) -> Result<Vec<Document>, EngineError> {
        let command = Command {
            document: command.clone(),
            target: Target::Here,
            answer: Answer::Cursor,
        };
        let mut list = Vec::new();
        self.each(&command, &mut |document| {
            list.push(document);
            true
        })?;
        Ok(list)
    }

    /// The documents of a cursor, until `take` answers false.
    pub(super) fn each(
        &self,
        command: &Command,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<(), EngineError> {
        let ticket = self.control.running.load(Ordering::SeqCst);
        self.stream_outside(
            ticket,
            command,
            &mut |bytes| Ok(take(bson::tree(bytes))),
            &mut || Ok(()),
        )
        .map(drop)
    }

    pub(super) fn read_catalog(
        &self,
        first: &mut dyn FnMut(Catalog),
    ) -> Result<Catalog, EngineError> {
        let mut catalog = Catalog::default();
        let here = self.database.name().to_string();
        catalog.databases = self
            .database_names()
            .unwrap_or_else(|_| vec![here.clone()])
            .into_iter()
            .map(|name| CatalogDatabase {
                here: name == here,
                name,
                detail: String::new(),
            })
            .collect();
        let list = self.all_collections()?;
        for found in &list {
            let name = found
                .get("name")
                .and_then(Datum::as_text)
                .unwrap_or_default();
            let mut object = object_of(name, Shape::default());
            object.shape = None;
            object.helper = name.starts_with("system.");
            if found.get("type").and_then(Datum::as_text) == Some("view") {
                object.kind = idle_tide_core::Kind::View;
                object.definition = found.get("options").map(idle_tide_lang::flow::literal);
            }
            if let Some(Datum::Object(options)) = found.get("options") {
                for (name, value) in options.fields.iter().filter(|(n, _)| n != "pipeline") {
                    object
                        .facts
                        .push((name.to_string(), idle_tide_lang::flow::literal(value)));
                }
            }
            catalog.objects.push(object);
        }
        if list.len() > 40 {
            let mut names = catalog.clone();
            names.names_only = true;
            first(names);
        }
        for (at, object) in catalog.objects.iter_mut().enumerate() {
            if at >= SAMPLED || object.helper {
                continue;
            }
            let mut shape = Shape::default();
            let most = if list.len() > 40 { 100 } else { SHAPE_SAMPLE };
            self.sample(&object.name, most, &mut |document| {
                shape.meet(&bson::encode(&document));
                true
            })?;
            let sampled = object_of(&object.name, shape);
            object.fields = sampled.fields;
            object.shape = sampled.shape;
            if object.kind == idle_tide_core::Kind::Collection {
                object.indexes = self.indexes(&object.name);
                if object.indexes.is_empty() {
                    object.indexes.push(id_index());
                }
                object.definition = Some(definition_of(object));
            }
        }
        Ok(catalog)
    }

    /// Hands over documents of a collection, chosen by chance where there are more than `most`, until `take` answers
    /// false; gives how many there are in all, if the server says so.
    pub(super) fn sample(
        &self,
        name: &str,
        most: u64,
        take: &mut dyn FnMut(Document) -> bool,
    ) -> Result<Option<u64>, EngineError> {
        let counted = self.ask(&document! { "count": name });
        if let Err(error) = &counted
            && error.fault == Fault::Cancelled
        {
            return Err(error.clone());
        }
        let count = counted
            .ok()
            .and_then(|r| r.get("n").and_then(Datum::as_i64));
        let count = count.and_then(|n| u64::try_from(n).ok());
        let size = i64::try_from(most).unwrap_or(i64::MAX);
        if count.is_some_and(|count| count > most) {
            let stage = document! { "$sample": document! { "size": Datum::integer(size) } };
            let command = document! { "aggregate": name, "pipeline": Datum::List(vec![stage.into()]), "cursor": Document::new() };
            match self.all(&command) {
                Ok(list) => {
                    // Nothing is taken before it is known that the server can sample.
                    let _ = list.into_iter().all(take);
                    return Ok(count);
                }
                Err(error) if error.fault == Fault::Cancelled => return Err(error),
                // A server that cannot sample gives its first ones.
                Err(_) => {}
            }
        }
        let command = Command {
            document: document! { "find": name, "limit": Datum::integer(size) },
            target: Target::Here,
            answer: Answer::Cursor,
        };
        self.each(&command, take)?;
        Ok(count)
    }

    pub(super) fn indexes(&self, name: &str) -> Vec<Index> {
        let found = self
            .all(&document! { "listIndexes": name, "cursor": Document::new() })
            .unwrap_or_default();
        found
            .iter()
            .map(|spec| {
                let key = spec
                    .get("key")
                    .and_then(Datum::as_object)
                    .cloned()
                    .unwrap_or_default();
                let columns = key
                    .fields
                    .iter()
                    .map(|(path, how)| match how.as_i64() {
                        Some(1) => path.to_string(),
                        Some(-1) => format!("{path} desc"),
                        _ => format!("{path}: {}", idle_tide_lang::flow::literal(how)),
                    })
                    .collect();
                let is = |name: &str| spec.get(name) == Some(&Datum::Boolean(true));
                let id = key.len() == 1 && key.fields[0].0 == "_id";
                Index {
                    name: spec
                        .get("name")
                        .and_then(Datum::as_text)
                        .unwrap_or_default()
                        .to_string(),
                    columns,
                    unique: is("unique") || id,
                    automatic: id,
                    primary: id,
                    condition: spec
                        .get("partialFilterExpression")
                        .map(idle_tide_lang::flow::literal),
                    method: spec
                        .get("expireAfterSeconds")
                        .and_then(Datum::as_i64)
                        .map(|s| format!("expires after {s} s")),
                    ..Index::default()
                }
            })
            .collect()
    }
}
