//! Databases, collections and indexes.

use super::*;

impl Connection {
    pub(super) fn list_databases(&self, command: &Document, variables: &Variables) -> Reply {
        let filter = Filter::new(object(command, "filter").unwrap_or(&Document::new()))?;
        let only_names = wanted(command, "nameOnly");
        let store = self.read();
        let (mut all, mut total) = (Vec::new(), 0_i64);
        for (name, collections) in &store.databases {
            let size: usize = collections
                .values()
                .flat_map(|c| &c.documents)
                .map(|d| d.size())
                .sum();
            let described =
                document! { "name": name.as_str(), "sizeOnDisk": size as i64, "empty": size == 0 };
            if filter.matches(&described, variables)? {
                total += size as i64;
                all.push(if only_names {
                    document! { "name": name.as_str() }.into()
                } else {
                    Datum::from(described)
                });
            }
        }
        Ok(document! { "databases": Datum::List(all), "totalSize": total })
    }

    pub(super) fn list_collections(
        &self,
        database: &str,
        command: &Document,
        variables: &Variables,
    ) -> Reply {
        let filter = Filter::new(object(command, "filter").unwrap_or(&Document::new()))?;
        let store = self.read();
        let mut all = Vec::new();
        for name in store
            .databases
            .get(database)
            .map(BTreeMap::keys)
            .into_iter()
            .flatten()
        {
            let described = document! {
                "name": name.as_str(),
                "type": "collection",
                "options": Document::new(),
                "info": document! { "readOnly": false },
                "idIndex": document! { "v": 2, "key": document! { "_id": 1 }, "name": "_id_" },
            };
            if filter.matches(&described, variables)? {
                all.push(Arc::new(described));
            }
        }
        for view in store.views(database) {
            let full = text(view, "_id").unwrap_or_default();
            let options = view
                .fields
                .iter()
                .filter(|(name, _)| name != "_id")
                .cloned();
            let described = document! {
                "name": full.split_once('.').map_or(full, |(_, name)| name),
                "type": "view",
                "options": Document { fields: options.collect() },
                "info": document! { "readOnly": true },
            };
            if filter.matches(&described, variables)? {
                all.push(Arc::new(described));
            }
        }
        all.sort_by(|a, b| text(a, "name").cmp(&text(b, "name")));
        drop(store);
        self.cursor(
            &format!("{database}.$cmd.listCollections"),
            all,
            None,
            false,
        )
    }

    pub(super) fn create(
        &self,
        database: &str,
        command: &Document,
        variables: &Variables,
    ) -> Reply {
        let name = collection_name(command)?;
        let unknown = [
            "capped",
            "timeseries",
            "validator",
            "clusteredIndex",
            "collation",
        ];
        if let Some(option) = unknown.iter().find(|option| wanted(command, option)) {
            return Err(Failed::new(
                72,
                format!(
                    "the practice server makes plain collections and views only, without {option}"
                ),
            ));
        }
        let mut store = self.write();
        if store.collection(database, name).is_some() || store.view(database, name).is_some() {
            return Err(Failed::new(
                48,
                format!("Collection {database}.{name} already exists."),
            ));
        }
        if let Some(on) = command.get("viewOn") {
            let on = on
                .as_text()
                .filter(|on| !on.is_empty())
                .ok_or_else(|| Failed::new(73, "'viewOn' has to be the name of a collection"))?;
            let pipeline = list(command, "pipeline").unwrap_or_default();
            let others = Others {
                store: &store,
                database,
                variables,
                depth: 0,
            };
            // What is wrong with it is said now and not when it is read.
            let (_, written) = stages::run(pipeline, Vec::new(), &others, variables)?;
            if written.is_some() {
                return Err(Failed::new(
                    167,
                    "$out and $merge cannot be used in a view definition",
                ));
            }
            store.add_view(database, name, on, pipeline)?;
            return Ok(Document::new());
        }
        store.collection_mut(database, name);
        Ok(Document::new())
    }

    pub(super) fn rename(&self, command: &Document) -> Reply {
        let split = |full: Option<&str>| {
            full.and_then(|f| f.split_once('.'))
                .map(|(a, b)| (a.to_string(), b.to_string()))
        };
        let (Some(from), Some(to)) = (
            split(text(command, "renameCollection")),
            split(text(command, "to")),
        ) else {
            return Err(Failed::new(73, "Invalid namespace specified"));
        };
        let mut store = self.write();
        if store.view(&from.0, &from.1).is_some() {
            return Err(Failed::new(
                166,
                format!("cannot rename view: {}.{}", from.0, from.1),
            ));
        }
        let Some(collection) = store.collection(&from.0, &from.1).cloned() else {
            return Err(Failed::new(
                26,
                format!("Source collection {}.{} does not exist", from.0, from.1),
            ));
        };
        if store.collection(&to.0, &to.1).is_some() {
            if !wanted(command, "dropTarget") {
                return Err(Failed::new(48, "target namespace exists"));
            }
            store.drop_collection(&to.0, &to.1);
        }
        store.drop_collection(&from.0, &from.1);
        let place = store.collection_mut(&to.0, &to.1);
        *place = collection;
        place.touch();
        Ok(Document::new())
    }

    pub(super) fn list_indexes(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let store = self.read();
        let Some(collection) = store.collection(database, name) else {
            return Err(Failed::new(
                26,
                format!("ns does not exist: {database}.{name}"),
            ));
        };
        let all = collection
            .indexes
            .iter()
            .map(|i| Arc::new(i.spec.clone()))
            .collect();
        drop(store);
        self.cursor(&format!("{database}.{name}"), all, None, false)
    }

    pub(super) fn create_indexes(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let mut store = self.write();
        let new = store.collection(database, name).is_none();
        let collection = store.collection_mut(database, name);
        let before = collection.indexes.len();
        for spec in list(command, "indexes")? {
            let mut spec = spec
                .as_object()
                .cloned()
                .ok_or_else(|| Failed::new(14, "an index is an object"))?;
            if spec.get("v").is_none() {
                spec.fields.insert(0, ("v".into(), 2.into()));
            }
            if object(&spec, "collation").is_some_and(|c| text(c, "locale") != Some("simple")) {
                return Err(Failed::new(
                    67,
                    "the practice server's indexes know no collation",
                ));
            }
            collection.add_index(spec, &format!("{database}.{name}"))?;
        }
        Ok(
            document! { "numIndexesBefore": before as i32, "numIndexesAfter": collection.indexes.len() as i32, "createdCollectionAutomatically": new },
        )
    }

    pub(super) fn drop_indexes(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let mut store = self.write();
        if store.collection(database, name).is_none() {
            return Err(Failed::new(26, format!("ns not found {database}.{name}")));
        }
        let collection = store.collection_mut(database, name);
        let was = collection.indexes.len();
        let which = command.get("index").cloned().unwrap_or(Datum::Null);
        let fits = |spec: &Document| match &which {
            Datum::Text(name) => name == "*" || text(spec, "name") == Some(name),
            Datum::List(names) => names.iter().any(|n| n.as_text() == text(spec, "name")),
            Datum::Object(key) => object(spec, "key") == Some(key),
            _ => false,
        };
        if which.as_text() == Some("_id_") {
            return Err(Failed::new(72, "cannot drop _id index"));
        }
        let mut first = true;
        collection
            .indexes
            .retain(|i| std::mem::take(&mut first) || !fits(&i.spec));
        if collection.indexes.len() == was && which.as_text() != Some("*") {
            return Err(Failed::new(
                27,
                format!(
                    "index not found with name [{}]",
                    which.as_text().unwrap_or("?")
                ),
            ));
        }
        collection.touch();
        Ok(document! { "nIndexesWas": was as i32 })
    }

    /// `drop`.
    pub(super) fn drop_collection(&mut self, request: &Request<'_>) -> Reply {
        let Request {
            database, command, ..
        } = *request;

        let name = collection_name(command)?;
        let mut store = self.write();
        if store.drop_view(database, name) {
            return Ok(document! { "ns": format!("{database}.{name}") });
        }
        let indexes = store.collection(database, name).map(|c| c.indexes.len());
        store.drop_collection(database, name);
        match indexes {
            Some(indexes) => {
                Ok(document! { "nIndexesWas": indexes as i32, "ns": format!("{database}.{name}") })
            }
            None => Ok(Document::new()),
        }
    }

    /// `dropDatabase`.
    pub(super) fn drop_database(&mut self, request: &Request<'_>) -> Reply {
        let Request { database, .. } = *request;

        let mut store = self.write();
        let names: Vec<String> = store
            .databases
            .get(database)
            .map_or_else(Vec::new, |c| c.keys().cloned().collect());
        for name in &names {
            store.drop_collection(database, name);
        }
        Ok(if names.is_empty() {
            Document::new()
        } else {
            document! { "dropped": database }
        })
    }
}
