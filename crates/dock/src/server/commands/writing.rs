//! Commands that write.

use super::*;

impl Connection {
    pub(super) fn written(&self, database: &str, written: Written) -> Result<(), Failed> {
        let mut store = self.write();
        match written {
            Written::Out(name, documents) => {
                let mut fresh = Collection::new();
                if let Some(old) = store.collection(database, &name) {
                    for index in old.indexes.iter().skip(1) {
                        fresh.add_index(index.spec.clone(), &name)?;
                    }
                }
                for document in documents {
                    fresh.insert(with_id(document), &format!("{database}.{name}"))?;
                }
                *store.collection_mut(database, &name) = fresh;
            }
            Written::Merge {
                into,
                on,
                matched,
                not_matched,
                documents,
            } => {
                let full = format!("{database}.{into}");
                let collection = store.collection_mut(database, &into);
                let by_id = on.len() == 1 && on[0] == "_id";
                let has_index = |paths: &[String]| {
                    collection.indexes.iter().any(|i| {
                        i.unique
                            && i.paths.len() == paths.len()
                            && paths.iter().all(|p| i.paths.contains(p))
                    })
                };
                if !by_id && !has_index(&on) {
                    return Err(Failed::new(
                        51183,
                        "Cannot find index to verify that join fields will be unique",
                    ));
                }
                for document in documents {
                    let keys: Vec<Datum> = on
                        .iter()
                        .map(|p| {
                            crate::server::expression::at_path(&document, p).unwrap_or(Datum::Null)
                        })
                        .collect();
                    let place = if by_id {
                        document.get("_id").and_then(|id| collection.place_of(id))
                    } else {
                        collection.documents.iter().position(|d| {
                            on.iter().zip(&keys).all(|(p, k)| {
                                let value =
                                    crate::server::expression::at_path(d, p).unwrap_or(Datum::Null);
                                idle_tide_core::document::compare::order(&value, k).is_eq()
                            })
                        })
                    };
                    match (place, matched.as_str(), not_matched.as_str()) {
                        (Some(_), "fail", _) => {
                            return Err(collection.has_already(&on, &keys, &full));
                        }
                        (Some(_), "keepExisting", _) | (None, _, "discard") => {}
                        (Some(at), how, _) => {
                            let old = (*collection.documents[at]).clone();
                            let mut new = if how == "merge" {
                                old.clone()
                            } else {
                                Document::new()
                            };
                            if let (Some(id), true) = (old.get("_id"), how != "merge") {
                                new.set("_id", id.clone());
                            }
                            for (name, value) in document.fields {
                                if name == "_id" && old.get("_id").is_some_and(|id| *id != value) {
                                    return Err(Failed::new(
                                        66,
                                        "$merge failed to update the matching document: the _id field cannot be changed",
                                    ));
                                }
                                new.set(&name, value);
                            }
                            collection.replace(at, new, &full)?;
                        }
                        (None, _, "fail") => {
                            return Err(Failed::new(
                                13113,
                                "$merge could not find a matching document in the target collection",
                            ));
                        }
                        (None, ..) => collection.insert(with_id(document), &full)?,
                    }
                }
            }
        }
        Ok(())
    }

    pub(super) fn insert(&self, database: &str, command: &Document) -> Reply {
        let name = collection_name(command)?;
        let documents = list(command, "documents")?;
        let ordered = command.get("ordered").is_none_or(|o| truth(Some(o)));
        let full = format!("{database}.{name}");
        let mut store = self.write();
        let (mut count, mut errors) = (0_i32, Vec::new());
        for (at, document) in documents.iter().enumerate() {
            let done = match document {
                Datum::Object(document) => storable(document).and_then(|()| {
                    store
                        .collection_mut(database, name)
                        .insert(with_id(document.clone()), &full)
                }),
                _ => Err(Failed::new(14, "an element of 'documents' is no object")),
            };
            match done {
                Ok(()) => count += 1,
                Err(error) => {
                    errors.push(write_error(at, &error));
                    if ordered {
                        break;
                    }
                }
            }
        }
        Ok(with_errors(document! { "n": count }, errors))
    }

    pub(super) fn update(
        &self,
        database: &str,
        command: &Document,
        variables: &Variables,
    ) -> Reply {
        let name = collection_name(command)?;
        let ordered = command.get("ordered").is_none_or(|o| truth(Some(o)));
        let (mut matched, mut modified, mut upserted, mut errors) =
            (0_i32, 0_i32, Vec::new(), Vec::new());
        for (at, update) in entries(command, "updates", UPDATE_FIELDS)?
            .iter()
            .enumerate()
        {
            match self.update_one(database, name, update, variables) {
                Ok((n, changed, new)) => {
                    matched += n;
                    modified += changed;
                    if let Some(id) = new {
                        matched += 1;
                        upserted.push(Datum::from(document! { "index": at as i32, "_id": id }));
                    }
                }
                Err(error) => {
                    errors.push(write_error(at, &error));
                    if ordered {
                        break;
                    }
                }
            }
        }
        let mut reply = document! { "n": matched, "nModified": modified };
        if !upserted.is_empty() {
            reply.set("upserted", Datum::List(upserted));
        }
        Ok(with_errors(reply, errors))
    }

    pub(super) fn update_one(
        &self,
        database: &str,
        name: &str,
        spec: &Datum,
        variables: &Variables,
    ) -> Result<(i32, i32, Option<Datum>), Failed> {
        let spec = spec
            .as_object()
            .ok_or_else(|| Failed::new(14, "an update is an object"))?;
        self.hinted(database, name, spec)?;
        let variables = &*variables.collated(spec.get("collation"))?;
        let filter = Filter::new(object(spec, "q").unwrap_or(&Document::new()))?;
        let filters = spec
            .get("arrayFilters")
            .and_then(Datum::as_list)
            .unwrap_or_default();
        let update = Update::new(spec.get("u").unwrap_or(&Datum::Null), filters)?;
        let multi = wanted(spec, "multi");
        if multi && matches!(update, Update::Replace(_)) {
            return Err(Failed::new(
                9,
                "multi update is not supported for replacement-style update",
            ));
        }
        let full = format!("{database}.{name}");
        let mut store = self.write();
        let (mut matched, mut modified) = (0, 0);
        if let Some(collection) = store
            .databases
            .get_mut(database)
            .and_then(|d| d.get_mut(name))
        {
            let places: Vec<usize> = match filter.identifier(variables) {
                Some(id) => collection.place_of(id).into_iter().collect(),
                None => (0..collection.documents.len()).collect(),
            };
            for at in places {
                variables.check()?;
                let document = Arc::clone(&collection.documents[at]);
                if !filter.matches(&document, variables)? {
                    continue;
                }
                matched += 1;
                let after = update.apply(&document, &filter, false, variables)?;
                if after != *document {
                    storable(&after)?;
                    collection.replace(at, after, &full)?;
                    modified += 1;
                }
                if !multi {
                    break;
                }
            }
        }
        if matched == 0 && wanted(spec, "upsert") {
            let start = seed(&filter, variables)?;
            let new = with_id(update.apply(&start, &filter, true, variables)?);
            storable(&new)?;
            let id = new.get("_id").cloned().unwrap_or(Datum::Null);
            store.collection_mut(database, name).insert(new, &full)?;
            return Ok((0, 0, Some(id)));
        }
        Ok((matched, modified, None))
    }

    pub(super) fn delete(
        &self,
        database: &str,
        command: &Document,
        variables: &Variables,
    ) -> Reply {
        let name = collection_name(command)?;
        let ordered = command.get("ordered").is_none_or(|o| truth(Some(o)));
        let (mut count, mut errors) = (0, Vec::new());
        for (at, spec) in entries(command, "deletes", DELETE_FIELDS)?
            .iter()
            .enumerate()
        {
            match self.delete_one(database, name, spec, variables) {
                Ok(gone) => count += gone,
                Err(error) => {
                    errors.push(write_error(at, &error));
                    if ordered {
                        break;
                    }
                }
            }
        }
        Ok(with_errors(document! { "n": count as i32 }, errors))
    }

    fn delete_one(
        &self,
        database: &str,
        name: &str,
        spec: &Datum,
        variables: &Variables,
    ) -> Result<usize, Failed> {
        let spec = spec
            .as_object()
            .ok_or_else(|| Failed::new(14, "a delete is an object"))?;
        self.hinted(database, name, spec)?;
        let variables = &*variables.collated(spec.get("collation"))?;
        let filter = Filter::new(object(spec, "q").unwrap_or(&Document::new()))?;
        let one = spec.get("limit").and_then(Datum::as_i64) == Some(1);
        let mut store = self.write();
        let Some(collection) = store
            .databases
            .get_mut(database)
            .and_then(|d| d.get_mut(name))
        else {
            return Ok(0);
        };
        let places: Vec<usize> = match filter.identifier(variables) {
            Some(id) => collection.place_of(id).into_iter().collect(),
            None => (0..collection.documents.len()).collect(),
        };
        let mut gone = HashSet::new();
        for at in places {
            variables.check()?;
            if filter.matches(&collection.documents[at], variables)? {
                gone.insert(at);
                if one {
                    break;
                }
            }
        }
        collection.remove(&gone);
        Ok(gone.len())
    }

    pub(super) fn find_and_modify(
        &self,
        database: &str,
        command: &Document,
        variables: &Variables,
    ) -> Reply {
        let name = collection_name(command)?;
        let filter = Filter::new(object(command, "query").unwrap_or(&Document::new()))?;
        self.hinted(database, name, command)?;
        let mut found = self.matching(database, name, &filter, variables, usize::MAX)?;
        if let Some(keys) = object(command, "sort") {
            found.sort_by(|a, b| stages::compare_by(keys, a, b, variables));
        }
        let first = found.first().map(|d| (**d).clone());
        let shown = |document: Option<Document>| -> Result<Datum, Failed> {
            Ok(match (document, object(command, "fields")) {
                (None, _) => Datum::Null,
                (Some(d), Some(fields)) if !fields.is_empty() => {
                    stages::project(&d, fields, variables)?.into()
                }
                (Some(d), _) => d.into(),
            })
        };
        let by_id = |document: &Document| {
            Document::new().with(
                "_id",
                Document::new().with("$eq", document.get("_id").cloned().unwrap_or(Datum::Null)),
            )
        };
        if wanted(command, "remove") {
            if let Some(document) = &first {
                let one = document! { "q": by_id(document), "limit": 1 };
                self.delete(
                    database,
                    &document! { "delete": name, "deletes": Datum::List(vec![one.into()]) },
                    variables,
                )?;
            }
            let n = i32::from(first.is_some());
            return Ok(
                document! { "lastErrorObject": document! { "n": n }, "value": shown(first)? },
            );
        }
        let mut spec = Document::new()
            .with(
                "q",
                first.as_ref().map_or_else(
                    || object(command, "query").cloned().unwrap_or_default(),
                    by_id,
                ),
            )
            .with("u", command.get("update").cloned().unwrap_or(Datum::Null))
            .with("upsert", first.is_none() && wanted(command, "upsert"));
        if let Some(filters) = command.get("arrayFilters") {
            spec.set("arrayFilters", filters.clone());
        }
        let (n, _, upserted) = self.update_one(database, name, &spec.into(), variables)?;
        let mut last =
            document! { "n": n + i32::from(upserted.is_some()), "updatedExisting": n > 0 };
        let id = upserted
            .clone()
            .or_else(|| first.as_ref().and_then(|d| d.get("_id").cloned()));
        if let Some(id) = upserted {
            last.set("upserted", id);
        }
        let value = if wanted(command, "new") {
            let store = self.read();
            let after = id.and_then(|id| {
                let collection = store.collection(database, name)?;
                Some((*collection.documents[collection.place_of(&id)?]).clone())
            });
            shown(after)?
        } else {
            shown(first)?
        };
        Ok(document! { "lastErrorObject": last, "value": value })
    }
}

pub(super) fn with_id(mut document: Document) -> Document {
    match document.fields.iter().position(|(name, _)| name == "_id") {
        Some(0) => {}
        Some(at) => {
            let id = document.fields.remove(at);
            document.fields.insert(0, id);
        }
        None => {
            use std::sync::atomic::AtomicU32;
            static COUNTER: AtomicU32 = AtomicU32::new(1);
            let mut id = [0x70; 12];
            id[..4].copy_from_slice(&((now() / 1_000) as u32).to_be_bytes());
            id[4..8].copy_from_slice(&std::process::id().to_be_bytes());
            id[8..].copy_from_slice(&COUNTER.fetch_add(1, Ordering::Relaxed).to_be_bytes());
            document.fields.insert(0, ("_id".into(), Datum::Id(id)));
        }
    }
    document
}

pub(super) fn storable(document: &Document) -> Result<(), Failed> {
    if matches!(
        document.get("_id"),
        Some(Datum::List(_) | Datum::Regex(_) | Datum::Undefined)
    ) {
        return Err(Failed::new(
            53,
            "The '_id' value cannot be of type array, regex or undefined",
        ));
    }
    if let Some((name, _)) =
        object(document, "_id").and_then(|id| id.fields.iter().find(|(n, _)| n.starts_with('$')))
        && !matches!(name.as_str(), "$ref" | "$id" | "$db")
    {
        return Err(Failed::new(
            52,
            format!(
                "_id fields may not contain '$'-prefixed fields: {name} is not valid for storage."
            ),
        ));
    }
    if document.size() > LARGEST_DOCUMENT / 4 && bson::encode(document).len() > LARGEST_DOCUMENT {
        return Err(Failed::new(
            10334,
            "BSONObj size is invalid: it is larger than 16777216 bytes",
        ));
    }
    Ok(())
}

/// What an entry of `updates` can have in the version that the server says it is.
const UPDATE_FIELDS: &[&str] = &[
    "q",
    "u",
    "c",
    "multi",
    "upsert",
    "arrayFilters",
    "hint",
    "collation",
    "upsertSupplied",
    "sampleId",
];
/// The same of `deletes`.
const DELETE_FIELDS: &[&str] = &["q", "limit", "hint", "collation", "sampleId"];

/// The entries of a command that writes; fails for a field that they do not have, before anything is written.
fn entries<'c>(command: &'c Document, name: &str, known: &[&str]) -> Result<&'c [Datum], Failed> {
    let entries = list(command, name)?;
    for entry in entries.iter().filter_map(Datum::as_object) {
        if let Some((field, _)) = entry
            .fields
            .iter()
            .find(|(n, _)| !known.contains(&n.as_str()))
        {
            let place = command.fields.first().map_or("", |(n, _)| n.as_str());
            return Err(Failed::new(
                40415,
                format!("BSON field '{place}.{name}.{field}' is an unknown field."),
            ));
        }
    }
    Ok(entries)
}

pub(super) fn write_error(at: usize, error: &Failed) -> Datum {
    error
        .detailed(
            document! { "index": at as i32, "code": error.code, "errmsg": error.message.as_str() },
        )
        .into()
}

pub(super) fn with_errors(mut reply: Document, errors: Vec<Datum>) -> Document {
    if !errors.is_empty() {
        reply.set("writeErrors", Datum::List(errors));
    }
    reply
}
