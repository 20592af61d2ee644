//! Commands that read, and their cursors.

use super::*;
use crate::server::store::Index;

impl Connection {
    /// The reply of a cursor: its first batch, and its number if there is more.
    pub(super) fn cursor(
        &self,
        namespace: &str,
        documents: Vec<Arc<Document>>,
        batch: Option<i64>,
        single: bool,
    ) -> Reply {
        let most = batch.map_or(101, |b| {
            usize::try_from(b.unsigned_abs()).unwrap_or(usize::MAX)
        });
        let mut cursor = Cursor {
            namespace: namespace.into(),
            rest: documents.into_iter(),
            head: None,
        };
        let first = cursor.batch(most);
        let left = !single && cursor.has_more();
        let mut id = 0;
        if left {
            id = self.server.number();
            lock(&self.server.cursors).insert(id, cursor);
        }
        Ok(
            document! { "cursor": document! { "firstBatch": Datum::List(first), "id": Datum::Long(id), "ns": namespace } },
        )
    }

    pub(super) fn get_more(&self, command: &Document) -> Reply {
        let id = command.get("getMore").and_then(Datum::as_i64).unwrap_or(0);
        let most = command
            .get("batchSize")
            .and_then(Datum::as_i64)
            .filter(|b| *b > 0)
            .map_or(usize::MAX, |b| b as usize);
        let taken = lock(&self.server.cursors).remove(&id);
        let Some(mut cursor) = taken else {
            return Err(Failed::new(43, format!("cursor id {id} not found")));
        };
        let next = cursor.batch(most);
        let namespace = cursor.namespace.clone();
        let left = cursor.has_more();
        if left {
            lock(&self.server.cursors).insert(id, cursor);
        }
        Ok(
            document! { "cursor": document! { "nextBatch": Datum::List(next), "id": Datum::Long(if left { id } else { 0 }), "ns": namespace } },
        )
    }

    /// The documents that match, in the order in which they came; at most so many.
    pub(super) fn matching(
        &self,
        database: &str,
        name: &str,
        filter: &Filter,
        variables: &Variables,
        most: usize,
    ) -> Result<Vec<Arc<Document>>, Failed> {
        let store = self.read();
        let documents = if store.view(database, name).is_some() {
            let others = Others {
                store: &store,
                database,
                variables,
                depth: 0,
            };
            let found = stages::Collections::documents(&others, name)?;
            found.into_iter().map(Arc::new).collect()
        } else {
            let Some(collection) = store.collection(database, name) else {
                return Ok(Vec::new());
            };
            if let Some(id) = filter.identifier(variables) {
                let found = collection
                    .place_of(id)
                    .map(|at| Arc::clone(&collection.documents[at]));
                return match found {
                    Some(document) if filter.matches(&document, variables)? => Ok(vec![document]),
                    _ => Ok(Vec::new()),
                };
            }
            // Others may write while this looks.
            collection.documents.clone()
        };
        drop(store);
        if matches!(filter, Filter::And(parts) if parts.is_empty()) && most == usize::MAX {
            return Ok(documents);
        }
        let mut found = Vec::new();
        for document in documents {
            variables.check()?;
            if filter.matches(&document, variables)? {
                found.push(document);
                if found.len() >= most {
                    break;
                }
            }
        }
        Ok(found)
    }

    pub(super) fn find(&self, database: &str, command: &Document, variables: &Variables) -> Reply {
        let name = collection_name(command)?;
        let filter = Filter::new(object(command, "filter").unwrap_or(&Document::new()))?;
        let sort = object(command, "sort").filter(|s| !s.is_empty());
        let skip = command.get("skip").and_then(Datum::as_i64).unwrap_or(0);
        let limit = command.get("limit").and_then(Datum::as_i64).unwrap_or(0);
        if skip < 0 || limit < 0 {
            return Err(Failed::new(
                51024,
                "BSON field 'limit' and 'skip' must be >= 0",
            ));
        }
        let within = self.bounds(database, name, command)?;
        let most = match (sort, limit) {
            (None, 1..) if within.is_none() => usize::try_from(skip + limit).unwrap_or(usize::MAX),
            _ => usize::MAX,
        };
        let mut found = self.matching(database, name, &filter, variables, most)?;
        if let Some((index, min, max)) = within {
            found.retain(|d| index.lies_between(d, min, max));
        }
        if let Some(keys) = sort {
            found.sort_by(|a, b| stages::compare_by(keys, a, b, variables));
        }
        let skip = usize::try_from(skip).unwrap_or(usize::MAX);
        if skip > 0 {
            found.drain(..skip.min(found.len()));
        }
        if limit > 0 {
            found.truncate(usize::try_from(limit).unwrap_or(usize::MAX));
        }
        if let Some(projection) = object(command, "projection").filter(|p| !p.is_empty()) {
            found = found
                .iter()
                .map(|d| stages::project(d, projection, variables).map(Arc::new))
                .collect::<Result<_, _>>()?;
        }
        let batch = command.get("batchSize").and_then(Datum::as_i64);
        self.cursor(
            &format!("{database}.{name}"),
            found,
            batch,
            wanted(command, "singleBatch"),
        )
    }

    pub(super) fn distinct(
        &self,
        database: &str,
        command: &Document,
        variables: &Variables,
    ) -> Reply {
        let filter = Filter::new(object(command, "query").unwrap_or(&Document::new()))?;
        let path = text(command, "key").ok_or_else(|| Failed::new(9, "distinct needs a key"))?;
        let mut seen = HashSet::new();
        let mut values = Vec::new();
        for document in self.matching(
            database,
            collection_name(command)?,
            &filter,
            variables,
            usize::MAX,
        )? {
            let found = match crate::server::expression::at_path(&document, path) {
                Some(Datum::List(list)) => list,
                Some(value) => vec![value],
                None => continue,
            };
            for value in found {
                if seen.insert(Key(variables.folded(&value).into_owned())) {
                    values.push(value);
                }
            }
        }
        values.sort_by(|a, b| variables.order(a, b));
        Ok(document! { "values": Datum::List(values) })
    }

    pub(super) fn aggregate(
        &self,
        database: &str,
        command: &Document,
        variables: &Variables,
    ) -> Reply {
        let pipeline = list(command, "pipeline")?;
        let last = pipeline.last().and_then(Datum::as_object);
        let level = object(command, "readConcern").and_then(|c| text(c, "level"));
        if let Some((stage, _)) = last.and_then(|s| s.fields.first())
            && matches!(stage.as_str(), "$out" | "$merge")
            && level == Some("linearizable")
        {
            return Err(Failed::new(
                72,
                format!("{stage} cannot be used with a 'linearizable' read concern level"),
            ));
        }
        if wanted(command, "explain") {
            return Ok(explained(command));
        }
        let first = pipeline.first().and_then(Datum::as_object);
        let name = command
            .fields
            .first()
            .and_then(|(_, v)| v.as_text())
            .map(str::to_string);
        let mut rest = pipeline;
        let start: Vec<Document> = match (&name, first) {
            (_, Some(stage)) if stage.get("$currentOp").is_some() => {
                rest = &pipeline[1..];
                lock(&self.server.operations)
                    .iter()
                    .map(|(id, op)| {
                        let mut shown = document! { "opid": *id, "ns": format!("{}.$cmd", op.database), "command": op.command.clone() };
                        if let Some(comment) = op.command.get("comment") {
                            shown.set("comment", comment.clone());
                        }
                        shown
                    })
                    .collect()
            }
            (_, Some(stage))
                if stage.get("$listLocalSessions").is_some()
                    || stage.get("$listSessions").is_some() =>
            {
                rest = &pipeline[1..];
                self.local_sessions()
            }
            (Some(name), Some(stage)) if stage.get("$indexStats").is_some() => {
                rest = &pipeline[1..];
                let store = self.read();
                let indexes = store
                    .collection(database, name)
                    .map_or(&[][..], |c| &c.indexes);
                indexes.iter().map(|i| {
                    document! { "name": i.name(), "key": i.spec.get("key").cloned().unwrap_or(Datum::Null), "spec": i.spec.clone() }
                }).collect()
            }
            (_, Some(stage)) if stage.get("$planCacheStats").is_some() => {
                rest = &pipeline[1..];
                Vec::new()
            }
            (_, Some(stage)) if stage.get("$collStats").is_some() => {
                rest = &pipeline[1..];
                let store = self.read();
                let count = name
                    .as_deref()
                    .and_then(|n| store.collection(database, n))
                    .map_or(0, |c| c.documents.len());
                vec![document! { "count": count as i32 }]
            }
            (Some(name), _) => {
                self.hinted(database, name, command)?;
                // A condition at the front looks into the collection before anything is copied.
                let alone = first.filter(|stage| stage.len() == 1);
                let filter = match alone.and_then(|stage| stage.get("$match")) {
                    Some(Datum::Object(filter)) => {
                        rest = &pipeline[1..];
                        Filter::new(filter)?
                    }
                    _ => Filter::And(Vec::new()),
                };
                self.matching(database, name, &filter, variables, usize::MAX)?
                    .iter()
                    .map(|d| (**d).clone())
                    .collect()
            }
            (None, _) => Vec::new(),
        };
        let (out, written) = {
            let store = self.read();
            stages::run(
                rest,
                start,
                &Others {
                    store: &store,
                    database,
                    variables,
                    depth: 0,
                },
                variables,
            )?
        };
        if let Some(written) = written {
            self.written(database, written)?;
        }
        let namespace = format!("{database}.{}", name.as_deref().unwrap_or("$cmd.aggregate"));
        let batch = object(command, "cursor")
            .and_then(|c| c.get("batchSize"))
            .and_then(Datum::as_i64);
        self.cursor(
            &namespace,
            out.into_iter().map(Arc::new).collect(),
            batch,
            false,
        )
    }

    pub(super) fn explain(&self, _: &str, command: &Document) -> Reply {
        let inner =
            object(command, "explain").ok_or_else(|| Failed::new(9, "explain needs a command"))?;
        Ok(explained(inner))
    }

    /// `killCursors`.
    pub(super) fn kill_cursors(&mut self, request: &Request<'_>) -> Reply {
        let Request { command, .. } = *request;

        let mut cursors = lock(&self.server.cursors);
        let (mut gone, mut unknown) = (Vec::new(), Vec::new());
        for id in list(command, "cursors")? {
            let known = id.as_i64().is_some_and(|id| cursors.remove(&id).is_some());
            if known {
                gone.push(id.clone())
            } else {
                unknown.push(id.clone())
            }
        }
        Ok(
            document! { "cursorsKilled": Datum::List(gone), "cursorsNotFound": Datum::List(unknown), "cursorsAlive": Datum::List(vec![]), "cursorsUnknown": Datum::List(vec![]) },
        )
    }

    /// `count`.
    pub(super) fn count(&mut self, request: &Request<'_>) -> Reply {
        let Request {
            database,
            command,
            variables,
            ..
        } = *request;

        let filter = Filter::new(object(command, "query").unwrap_or(&Document::new()))?;
        self.hinted(database, collection_name(command)?, command)?;
        let found = self.matching(
            database,
            collection_name(command)?,
            &filter,
            variables,
            usize::MAX,
        )?;
        let skip = command.get("skip").and_then(Datum::as_i64).unwrap_or(0);
        let Ok(skip) = usize::try_from(skip) else {
            return Err(Failed::new(51024, "BSON field 'skip' must be >= 0"));
        };
        let limit = command
            .get("limit")
            .and_then(Datum::as_i64)
            .filter(|l| *l != 0)
            .map_or(usize::MAX, |l| l.unsigned_abs() as usize);
        Ok(document! { "n": number_reply(found.len().saturating_sub(skip).min(limit) as u64) })
    }

    /// `collStats`, `collstats`.
    pub(super) fn collection_stats(&mut self, request: &Request<'_>) -> Reply {
        let Request {
            database, command, ..
        } = *request;

        let name = collection_name(command)?;
        let store = self.read();
        let found = store.collection(database, name);
        let count = found.map_or(0, |c| c.documents.len());
        let size: usize = found.map_or(0, |c| c.documents.iter().map(|d| d.size()).sum());
        Ok(
            document! { "ns": format!("{database}.{name}"), "count": count as i32, "size": size as i64, "storageSize": size as i64, "nindexes": found.map_or(0, |c| c.indexes.len()) as i32 },
        )
    }

    /// `dbStats`, `dbstats`.
    pub(super) fn database_stats(&mut self, request: &Request<'_>) -> Reply {
        let Request { database, .. } = *request;

        let store = self.read();
        let collections = store.databases.get(database);
        let objects: usize = collections.map_or(0, |c| c.values().map(|c| c.documents.len()).sum());
        let size: usize = collections.map_or(0, |c| {
            c.values()
                .flat_map(|c| &c.documents)
                .map(|d| d.size())
                .sum()
        });
        Ok(
            document! { "db": database, "collections": collections.map_or(0, BTreeMap::len) as i32, "objects": objects as i64, "dataSize": size as i64 },
        )
    }
}

impl Connection {
    /// Fails if a hint names no index.
    pub(super) fn hinted(
        &self,
        database: &str,
        name: &str,
        command: &Document,
    ) -> Result<(), Failed> {
        let Some(hint) = command.get("hint").filter(|h| !h.is_null()) else {
            return Ok(());
        };
        let store = self.read();
        match store.collection(database, name) {
            Some(collection) => collection.index_named(hint).map(|_| ()),
            None => Ok(()),
        }
    }

    /// The index and the bounds of its keys that a `find` names: from the least on, and before the greatest.
    #[allow(clippy::type_complexity)]
    fn bounds<'c>(
        &self,
        database: &str,
        name: &str,
        command: &'c Document,
    ) -> Result<Option<(Index, Option<&'c Document>, Option<&'c Document>)>, Failed> {
        self.hinted(database, name, command)?;
        if wanted(command, "tailable") {
            return Err(Failed::new(
                2,
                "tailable cursor requested on non capped collection; the practice server has no capped ones",
            ));
        }
        let bound = |which: &str| object(command, which).filter(|b| !b.is_empty());
        let (min, max) = (bound("min"), bound("max"));
        if min.is_none() && max.is_none() {
            return Ok(None);
        }
        let hint = command.get("hint").ok_or_else(|| {
            Failed::new(
                51173,
                "When using min()/max() a hint of which index to use must be provided",
            )
        })?;
        let store = self.read();
        let Some(collection) = store.collection(database, name) else {
            return Ok(None);
        };
        let index = collection.index_named(hint)?;
        for given in [min, max].into_iter().flatten() {
            if !given
                .fields
                .iter()
                .map(|(path, _)| path.as_str())
                .eq(index.paths.iter().map(String::as_str))
            {
                return Err(Failed::new(
                    51174,
                    "The min and max must name the paths of the index in its order",
                ));
            }
        }
        Ok(Some((Index::new(index.spec.clone()), min, max)))
    }
}

pub(super) fn explained(inner: &Document) -> Document {
    let filter = inner
        .get("filter")
        .or_else(|| inner.get("query"))
        .or_else(|| {
            inner
                .get("pipeline")?
                .as_list()?
                .first()?
                .as_object()?
                .get("$match")
        })
        .cloned()
        .unwrap_or(Datum::Object(Document::new()));
    let by_id = filter
        .as_object()
        .and_then(|f| Filter::new(f).ok())
        .is_some_and(|f| f.identifier(&Variables::default()).is_some());
    let scan = if by_id {
        document! { "stage": "IDHACK" }
    } else {
        document! { "stage": "COLLSCAN", "filter": filter, "direction": "forward" }
    };
    let mut reply = document! { "explainVersion": "1", "queryPlanner": document! { "winningPlan": scan, "rejectedPlans": Datum::List(vec![]) }, "command": inner.clone() };
    if let Some(pipeline) = inner.get("pipeline") {
        reply.set("stages", pipeline.clone());
    }
    reply
}
