//! The practice server's commands and operators, those that flows never compile to among them. What is expected is worked out by hand from
//! the public command reference.

#![allow(clippy::too_many_lines)]

mod edges;
mod expressions;
mod served;
mod stages;

use idle_tide_core::document::extended::{Form, read_document, text_of};
use idle_tide_core::document::{Datum, Document};
use idle_tide_dock::server::{Conversation, Server, Settings, Store};

fn document(text: &str) -> Document {
    read_document(text).unwrap_or_else(|error| panic!("{text}: {error:?}"))
}

/// A server of its own with the documents of a collection `c`, one JSON text each.
struct Place(Conversation);

impl Place {
    fn with(documents: &[&str]) -> Self {
        let mut store = Store::default();
        let list = documents.iter().map(|text| document(text)).collect();
        store.fill("haven", "c", list).expect("filled");
        Place(Conversation::new(Server::new(store, Settings::default())))
    }

    fn answer(&mut self, command: &str) -> Document {
        let reply = self.0.answer("haven", &document(command));
        reply.expect("an answer")
    }

    /// The answer of a command that is to succeed.
    fn ask(&mut self, command: &str) -> Document {
        let reply = self.answer(command);
        assert_eq!(
            reply.get("ok"),
            Some(&Datum::Double(1.0)),
            "{command}: {reply:?}"
        );
        reply
    }

    /// The code of a command that is to fail.
    fn code(&mut self, command: &str) -> i64 {
        let reply = self.answer(command);
        let code = reply.get("code").and_then(Datum::as_i64);
        code.unwrap_or_else(|| panic!("{command}: {reply:?}"))
    }

    /// The first batch of a cursor, one JSON text a document.
    fn batch(&mut self, command: &str) -> Vec<String> {
        let reply = self.ask(command);
        let batch = reply.get("cursor").and_then(Datum::as_object);
        let batch = batch.and_then(|c| c.get("firstBatch")?.as_list());
        batch
            .unwrap_or_else(|| panic!("{command}: {reply:?}"))
            .iter()
            .map(json)
            .collect()
    }

    /// What an expression comes to over the first document.
    fn value(&mut self, expression: &str) -> String {
        let found = self.batch(&computing(expression));
        let whole = found.first().expect("a document");
        let value = whole
            .strip_prefix("{\"x\":")
            .and_then(|v| v.strip_suffix('}'));
        value.unwrap_or("nothing").to_string()
    }

    fn all(&mut self) -> Vec<String> {
        self.batch(r#"{"find": "c", "sort": {"_id": 1}, "projection": {"_id": 0}}"#)
    }
}

/// The command that computes an expression over each document.
fn computing(expression: &str) -> String {
    format!(
        r#"{{"aggregate": "c", "pipeline": [{{"$project": {{"_id": 0, "x": {expression}}}}}], "cursor": {{}}}}"#
    )
}

fn json(value: &Datum) -> String {
    text_of(value, Form::Relaxed)
}

#[test]
fn conditions_find_what_the_reference_says() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "a": 5, "l": [1, 2, 3], "t": "Heron"}"#,
        r#"{"_id": 2, "a": null, "l": [], "t": "heron gull"}"#,
        r#"{"_id": 3, "l": [{"k": 1, "j": "x"}, {"k": 2, "j": "y"}]}"#,
        r#"{"_id": 4, "a": {"$numberDecimal": "5.0"}, "l": [[1, 2]], "t": ["Tern", "Heron"]}"#,
        r#"{"_id": 5, "a": [5, 6], "o": {"x": 1, "y": 2}}"#,
        r#"{"_id": 6, "a": {"$numberDouble": "NaN"}, "o": {"y": 2, "x": 1}}"#,
    ]);
    for (condition, ids) in [
        (r#"{"a": 5}"#, "1 4 5"),
        (r#"{"a": null}"#, "2 3"),
        (r#"{"a": {"$ne": 5}}"#, "2 3 6"),
        (r#"{"a": {"$exists": true}}"#, "1 2 4 5 6"),
        (r#"{"a": {"$gt": 4}}"#, "1 4 5"),
        (r#"{"a": {"$lt": "x"}}"#, ""),
        (r#"{"a": {"$in": [5, null]}}"#, "1 2 3 4 5"),
        (r#"{"a": {"$nin": [5, null]}}"#, "6"),
        (r#"{"a": {"$type": "number"}}"#, "1 4 5 6"),
        (r#"{"a": {"$type": ["null", "decimal"]}}"#, "2 4"),
        (r#"{"a": {"$type": "array"}}"#, "5"),
        (r#"{"a": {"$mod": [2, 1]}}"#, "1 4 5"),
        (r#"{"a": {"$not": {"$gt": 4}}}"#, "2 3 6"),
        (r#"{"$nor": [{"a": 5}, {"a": null}]}"#, "6"),
        (r#"{"$or": [{"_id": 2}, {"_id": {"$gte": 6}}]}"#, "2 6"),
        (r#"{"l": {"$all": [2, 3]}}"#, "1"),
        (r#"{"l": {"$size": 2}}"#, "3"),
        (r#"{"l": [1, 2]}"#, "4"),
        (r#"{"l": {"$elemMatch": {"k": 2, "j": "x"}}}"#, ""),
        (r#"{"l": {"$elemMatch": {"k": {"$gt": 1}, "j": "y"}}}"#, "3"),
        (r#"{"l": {"$elemMatch": {"$gt": 1, "$lt": 3}}}"#, "1"),
        (r#"{"l.k": 2, "l.j": "x"}"#, "3"),
        (r#"{"l.1.k": 2}"#, "3"),
        (r#"{"l.0": 1}"#, "1 4"),
        (r#"{"o": {"x": 1, "y": 2}}"#, "5"),
        (r#"{"o.y": 2}"#, "5 6"),
        (r#"{"t": {"$regex": "^heron", "$options": "i"}}"#, "1 2 4"),
        (
            r#"{"t": {"$regularExpression": {"pattern": "gull$", "options": ""}}}"#,
            "2",
        ),
        (
            r#"{"$expr": {"$eq": [{"$size": {"$ifNull": ["$l", []]}}, 0]}}"#,
            "2 5 6",
        ),
        (r#"{"a": {"$numberDouble": "NaN"}}"#, "6"),
    ] {
        let found = place.batch(&format!(
            r#"{{"find": "c", "filter": {condition}, "sort": {{"_id": 1}}, "projection": {{"_id": 1}}}}"#
        ));
        let found: Vec<String> = found
            .iter()
            .map(|one| one.trim_matches(|c: char| !c.is_ascii_digit()).to_string())
            .collect();
        assert_eq!(found.join(" "), ids, "{condition}");
    }
    for (condition, code) in [
        (r#"{"a": {"$near": 1}}"#, 2),
        (r#"{"$what": []}"#, 2),
        (r#"{"a": {"$in": 5}}"#, 2),
        (r#"{"$or": []}"#, 2),
        (r#"{"a": {"$type": "nothing"}}"#, 2),
        (r#"{"a": {"$mod": [0, 1]}}"#, 2),
    ] {
        let command = format!(r#"{{"find": "c", "filter": {condition}}}"#);
        assert_eq!(place.code(&command), code, "{condition}");
    }
}

#[test]
fn updates_do_what_the_reference_says() {
    for (before, update, after) in [
        (
            r#"{"a": 1}"#,
            r#"{"$set": {"b.c": 2}}"#,
            r#"{"a":1,"b":{"c":2}}"#,
        ),
        (
            r#"{"a": 1, "b": 2}"#,
            r#"{"$unset": {"b": ""}}"#,
            r#"{"a":1}"#,
        ),
        (
            r#"{"a": 1}"#,
            r#"{"$inc": {"a": 2, "b": 5}}"#,
            r#"{"a":3,"b":5}"#,
        ),
        (
            r#"{"a": 3}"#,
            r#"{"$mul": {"a": 2, "b": 5}}"#,
            r#"{"a":6,"b":0}"#,
        ),
        (
            r#"{"a": 3, "b": 3}"#,
            r#"{"$min": {"a": 2, "b": 5, "c": 1}}"#,
            r#"{"a":2,"b":3,"c":1}"#,
        ),
        (
            r#"{"a": 3, "b": 3}"#,
            r#"{"$max": {"a": 2, "b": 5}}"#,
            r#"{"a":3,"b":5}"#,
        ),
        (
            r#"{"a": 3, "b": 4}"#,
            r#"{"$rename": {"a": "z"}}"#,
            r#"{"b":4,"z":3}"#,
        ),
        (
            r#"{"l": [1]}"#,
            r#"{"$push": {"l": 2, "m": 1}}"#,
            r#"{"l":[1,2],"m":[1]}"#,
        ),
        (
            r#"{"l": [5, 1]}"#,
            r#"{"$push": {"l": {"$each": [4, 2], "$sort": 1, "$slice": 3}}}"#,
            r#"{"l":[1,2,4]}"#,
        ),
        (
            r#"{"l": [1, 2]}"#,
            r#"{"$push": {"l": {"$each": [9], "$position": 1}}}"#,
            r#"{"l":[1,9,2]}"#,
        ),
        (
            r#"{"l": [{"k": 2}, {"k": 1}]}"#,
            r#"{"$push": {"l": {"$each": [], "$sort": {"k": 1}}}}"#,
            r#"{"l":[{"k":1},{"k":2}]}"#,
        ),
        (
            r#"{"l": [1, 2]}"#,
            r#"{"$addToSet": {"l": {"$each": [2, 3, 3]}}}"#,
            r#"{"l":[1,2,3]}"#,
        ),
        (
            r#"{"l": [1, 2, 3]}"#,
            r#"{"$pop": {"l": 1}}"#,
            r#"{"l":[1,2]}"#,
        ),
        (
            r#"{"l": [1, 2, 3]}"#,
            r#"{"$pop": {"l": -1}}"#,
            r#"{"l":[2,3]}"#,
        ),
        (
            r#"{"l": [1, 5, 9]}"#,
            r#"{"$pull": {"l": {"$gte": 5}}}"#,
            r#"{"l":[1]}"#,
        ),
        (
            r#"{"l": [{"k": 1, "j": 2}, {"k": 2}]}"#,
            r#"{"$pull": {"l": {"k": 1}}}"#,
            r#"{"l":[{"k":2}]}"#,
        ),
        (
            r#"{"l": [1, 2, 1]}"#,
            r#"{"$pullAll": {"l": [1]}}"#,
            r#"{"l":[2]}"#,
        ),
        (
            r#"{"a": 13}"#,
            r#"{"$bit": {"a": {"and": 10}}}"#,
            r#"{"a":8}"#,
        ),
        (
            r#"{"a": 1}"#,
            r#"{"$setOnInsert": {"b": 1}, "$set": {"a": 2}}"#,
            r#"{"a":2}"#,
        ),
        (r#"{"a": 1, "b": 2}"#, r#"{"z": 9}"#, r#"{"z":9}"#),
        (
            r#"{"a": 1}"#,
            r#"[{"$set": {"b": {"$add": ["$a", 1]}}}, {"$unset": "a"}]"#,
            r#"{"b":2}"#,
        ),
        (
            r#"{"l": [{"k": 1}, {"k": 2}]}"#,
            r#"{"$inc": {"l.$[].k": 10}}"#,
            r#"{"l":[{"k":11},{"k":12}]}"#,
        ),
    ] {
        let mut place = Place::with(&[before]);
        let reply = place.ask(&format!(
            r#"{{"update": "c", "updates": [{{"q": {{}}, "u": {update}}}]}}"#
        ));
        assert_eq!(reply.get("writeErrors"), None, "{update}: {reply:?}");
        assert_eq!(place.all(), [after], "{update}");
    }
    for (before, update, code) in [
        (r#"{"_id": 1}"#, r#"{"$set": {"_id": 2}}"#, 66),
        (r#"{"a": "x"}"#, r#"{"$inc": {"a": 1}}"#, 14),
        (r#"{"a": 1}"#, r#"{"$push": {"a": 1}}"#, 2),
        (r#"{"a": 1}"#, r#"{"$set": {"a.b": 1}}"#, 28),
        (r#"{"a": 1}"#, r#"{"$set": {"a": 1}, "$inc": {"a": 1}}"#, 40),
        (r#"{"a": 1}"#, r#"{"$what": {"a": 1}}"#, 9),
    ] {
        let mut place = Place::with(&[before]);
        let reply = place.answer(&format!(
            r#"{{"update": "c", "updates": [{{"q": {{}}, "u": {update}}}]}}"#
        ));
        let first = reply
            .get("writeErrors")
            .and_then(Datum::as_list)
            .and_then(|l| l.first());
        let found = first.and_then(Datum::as_object).and_then(|e| e.get("code"));
        let found = found.or_else(|| reply.get("code")).and_then(Datum::as_i64);
        assert_eq!(found, Some(code), "{update}: {reply:?}");
        let kept = document(before);
        assert_eq!(
            place
                .ask(r#"{"count": "c"}"#)
                .get("n")
                .and_then(Datum::as_i64),
            Some(1),
            "{kept:?}"
        );
    }
}

#[test]
fn updates_of_several_of_elements_and_of_none() {
    let three = [
        r#"{"_id": 1, "port": "Mill Sluice", "l": [{"k": 1, "ok": false}, {"k": 7, "ok": false}]}"#,
        r#"{"_id": 2, "port": "Outer Spit", "l": []}"#,
        r#"{"_id": 3, "port": "Outer Spit"}"#,
    ];
    for (updates, changed, found, after) in [
        (
            r#"{"q": {"port": "Outer Spit"}, "u": {"$set": {"seen": true}}}"#,
            (1, 1),
            r#"{"seen": true}"#,
            "2",
        ),
        (
            r#"{"q": {"port": "Outer Spit"}, "u": {"$set": {"seen": true}}, "multi": true}"#,
            (2, 2),
            r#"{"seen": true}"#,
            "2 3",
        ),
        (
            r#"{"q": {"l.k": 7}, "u": {"$set": {"l.$.ok": true}}}"#,
            (1, 1),
            r#"{"l": {"$elemMatch": {"k": 7, "ok": true}}}"#,
            "1",
        ),
        (
            r#"{"q": {"_id": 1}, "u": {"$set": {"l.$[big].ok": true}}, "arrayFilters": [{"big.k": {"$gt": 5}}]}"#,
            (1, 1),
            r#"{"l": {"$elemMatch": {"k": 1, "ok": false}}, "l.ok": true}"#,
            "1",
        ),
        (
            r#"{"q": {"_id": 9, "port": "Old Quay"}, "u": {"$set": {"a": 1}, "$setOnInsert": {"b": 2}}, "upsert": true}"#,
            (1, 0),
            r#"{"port": "Old Quay", "a": 1, "b": 2}"#,
            "9",
        ),
        (
            r#"{"q": {"_id": 2}, "u": {"$set": {"port": "Outer Spit"}}}"#,
            (1, 0),
            r#"{"port": "Outer Spit"}"#,
            "2 3",
        ),
    ] {
        let mut place = Place::with(&three);
        let reply = place.ask(&format!(r#"{{"update": "c", "updates": [{updates}]}}"#));
        let number = |name: &str| reply.get(name).and_then(Datum::as_i64);
        assert_eq!(
            (number("n"), number("nModified")),
            (Some(changed.0), Some(changed.1)),
            "{updates}"
        );
        let ids = place.batch(&format!(
            r#"{{"find": "c", "filter": {found}, "sort": {{"_id": 1}}, "projection": {{"_id": 1}}}}"#
        ));
        let ids: Vec<String> = ids
            .iter()
            .map(|one| one.trim_matches(|c: char| !c.is_ascii_digit()).to_string())
            .collect();
        assert_eq!(ids.join(" "), after, "{updates}");
    }
}

#[test]
fn writes_that_are_refused_and_their_order() {
    let mut place = Place::with(&[r#"{"_id": 1}"#]);
    let insert = |ordered: bool| {
        format!(
            r#"{{"insert": "c", "ordered": {ordered}, "documents": [{{"_id": 2}}, {{"_id": 1}}, {{"_id": 3}}]}}"#
        )
    };
    let reply = place.ask(&insert(true));
    assert_eq!(reply.get("n").and_then(Datum::as_i64), Some(1));
    let errors = reply
        .get("writeErrors")
        .and_then(Datum::as_list)
        .expect("an error");
    let first = errors[0].as_object().expect("a document");
    assert_eq!(first.get("index").and_then(Datum::as_i64), Some(1));
    assert_eq!(first.get("code").and_then(Datum::as_i64), Some(11000));
    place.ask(r#"{"delete": "c", "deletes": [{"q": {"_id": 2}, "limit": 1}]}"#);
    let reply = place.ask(&insert(false));
    assert_eq!(reply.get("n").and_then(Datum::as_i64), Some(2));
    // A unique index is enforced for what is there, for inserts and for updates.
    place.ask(r#"{"update": "c", "updates": [{"q": {}, "u": {"$set": {"k": 1}}, "multi": true}]}"#);
    let index =
        r#"{"createIndexes": "c", "indexes": [{"key": {"k": 1}, "name": "k_1", "unique": true}]}"#;
    assert_eq!(place.code(index), 11000);
    place.ask(r#"{"delete": "c", "deletes": [{"q": {"_id": {"$gt": 1}}, "limit": 0}]}"#);
    place.ask(index);
    let reply = place.ask(r#"{"insert": "c", "documents": [{"_id": 5, "k": 1}]}"#);
    assert!(reply.get("writeErrors").is_some());
    place.ask(r#"{"insert": "c", "documents": [{"_id": 6, "k": 2}]}"#);
    let reply =
        place.ask(r#"{"update": "c", "updates": [{"q": {"_id": 6}, "u": {"$set": {"k": 1}}}]}"#);
    assert!(reply.get("writeErrors").is_some());
    place.ask(r#"{"dropIndexes": "c", "index": "k_1"}"#);
    place.ask(r#"{"insert": "c", "documents": [{"_id": 7, "k": 1}]}"#);
    assert_eq!(place.code(r#"{"dropIndexes": "c", "index": "k_1"}"#), 27);
    assert_eq!(place.code(r#"{"dropIndexes": "c", "index": "_id_"}"#), 72);
    assert_eq!(place.code(r#"{"nothing": 1}"#), 59);
    assert_eq!(place.code(r#"{"create": "c"}"#), 48);
}

#[test]
fn one_document_is_found_and_changed_in_one_step() {
    let mut place = Place::with(&[r#"{"_id": 1, "turn": 3}"#, r#"{"_id": 2, "turn": 1}"#]);
    let value = |reply: &Document| reply.get("value").map(json).unwrap_or_default();
    let reply = place
        .ask(r#"{"findAndModify": "c", "sort": {"turn": 1}, "update": {"$inc": {"turn": 10}}}"#);
    assert_eq!(value(&reply), r#"{"_id":2,"turn":1}"#);
    let reply = place.ask(
        r#"{"findAndModify": "c", "query": {"_id": 1}, "update": {"$inc": {"turn": 10}}, "new": true, "fields": {"turn": 1, "_id": 0}}"#,
    );
    assert_eq!(value(&reply), r#"{"turn":13}"#);
    let reply = place.ask(r#"{"findAndModify": "c", "query": {"_id": 1}, "remove": true}"#);
    assert_eq!(value(&reply), r#"{"_id":1,"turn":13}"#);
    let reply = place.ask(r#"{"findAndModify": "c", "query": {"_id": 1}, "remove": true}"#);
    assert_eq!(value(&reply), "null");
    let reply = place.ask(
        r#"{"findAndModify": "c", "query": {"_id": 8}, "update": {"$set": {"a": 1}}, "upsert": true, "new": true}"#,
    );
    assert_eq!(value(&reply), r#"{"_id":8,"a":1}"#);
}

#[test]
fn cursors_hand_over_batches_and_end() {
    let documents: Vec<String> = (1..=10).map(|n| format!(r#"{{"_id": {n}}}"#)).collect();
    let mut place = Place::with(&documents.iter().map(String::as_str).collect::<Vec<_>>());
    let cursor = |reply: &Document| {
        let cursor = reply
            .get("cursor")
            .and_then(Datum::as_object)
            .expect("a cursor");
        let batch = cursor.get("firstBatch").or_else(|| cursor.get("nextBatch"));
        let id = cursor.get("id").and_then(Datum::as_i64).expect("an id");
        (id, batch.and_then(Datum::as_list).map_or(0, <[Datum]>::len))
    };
    let (id, count) = cursor(&place.ask(r#"{"find": "c", "batchSize": 4}"#));
    assert!(id != 0 && count == 4);
    let more = |id: i64| {
        format!(r#"{{"getMore": {{"$numberLong": "{id}"}}, "collection": "c", "batchSize": 4}}"#)
    };
    assert_eq!(cursor(&place.ask(&more(id))), (id, 4));
    assert_eq!(cursor(&place.ask(&more(id))), (0, 2));
    assert_eq!(place.code(&more(id)), 43);
    let (id, _) = cursor(&place.ask(r#"{"find": "c", "batchSize": 4}"#));
    let killed = place.ask(&format!(
        r#"{{"killCursors": "c", "cursors": [{{"$numberLong": "{id}"}}, {{"$numberLong": "1"}}]}}"#
    ));
    assert_eq!(
        killed
            .get("cursorsKilled")
            .and_then(Datum::as_list)
            .map(<[Datum]>::len),
        Some(1)
    );
    assert_eq!(
        killed
            .get("cursorsNotFound")
            .and_then(Datum::as_list)
            .map(<[Datum]>::len),
        Some(1)
    );
    assert_eq!(place.code(&more(id)), 43);
    assert_eq!(
        cursor(&place.ask(r#"{"find": "c", "limit": 3, "skip": 9}"#)),
        (0, 1)
    );
    assert_eq!(
        cursor(&place.ask(r#"{"find": "c", "batchSize": 2, "singleBatch": true}"#)),
        (0, 2)
    );
}
