//! Views, collations, hints, bounds, limits of time, sessions, and commands that are made to fail.

use super::*;

fn ids(place: &mut Place, command: &str) -> String {
    let found = place.batch(command);
    let digits = found
        .iter()
        .map(|one| one.trim_matches(|c: char| !c.is_ascii_digit()).to_string());
    digits.collect::<Vec<_>>().join(" ")
}

fn found(place: &mut Place, more: &str) -> String {
    ids(
        place,
        &format!(r#"{{"find": "c", {more}, "projection": {{"_id": 1}}}}"#),
    )
}

#[test]
fn a_view_is_read_through_and_never_written() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "kg": 5}"#,
        r#"{"_id": 2, "kg": 50}"#,
        r#"{"_id": 3, "kg": 500}"#,
    ]);
    place.ask(
        r#"{"create": "heavy", "viewOn": "c", "pipeline": [{"$match": {"kg": {"$gte": 50}}}]}"#,
    );
    place.ask(r#"{"create": "heaviest", "viewOn": "heavy", "pipeline": [{"$sort": {"kg": -1}}, {"$limit": 1}]}"#);
    assert_eq!(
        ids(
            &mut place,
            r#"{"find": "heavy", "sort": {"_id": 1}, "projection": {"_id": 1}}"#
        ),
        "2 3"
    );
    assert_eq!(
        ids(
            &mut place,
            r#"{"find": "heaviest", "projection": {"_id": 1}}"#
        ),
        "3"
    );
    assert_eq!(
        ids(&mut place, r#"{"find": "heavy", "filter": {"_id": 1}}"#),
        ""
    );
    assert_eq!(
        place.ask(r#"{"count": "heavy"}"#).get("n"),
        Some(&Datum::Int(2))
    );
    let joined = place.batch(
        r#"{"aggregate": "heaviest", "pipeline": [{"$lookup": {"from": "heavy", "pipeline": [], "as": "all"}}, {"$project": {"n": {"$size": "$all"}}}], "cursor": {}}"#,
    );
    assert_eq!(joined, [r#"{"_id":3,"n":2}"#]);
    let listed = place.batch(r#"{"listCollections": 1, "filter": {"type": "view"}}"#);
    assert!(
        listed[0].contains(r#""viewOn":"c""#) && listed[1].contains(r#""name":"heavy""#)
            || listed[1].contains(r#""viewOn":"c""#),
        "{listed:?}"
    );
    for command in [
        r#"{"insert": "heavy", "documents": [{}]}"#,
        r#"{"update": "heavy", "updates": [{"q": {}, "u": {"$set": {"x": 1}}}]}"#,
        r#"{"delete": "heavy", "deletes": [{"q": {}, "limit": 0}]}"#,
        r#"{"createIndexes": "heavy", "indexes": [{"key": {"kg": 1}, "name": "kg_1"}]}"#,
        r#"{"renameCollection": "haven.heavy", "to": "haven.other"}"#,
    ] {
        assert_eq!(place.code(command), 166, "{command}");
    }
    assert_eq!(place.code(r#"{"create": "c", "viewOn": "heavy"}"#), 48);
    assert_eq!(
        place.code(r#"{"create": "wrong", "viewOn": "c", "pipeline": [{"$tide": 1}]}"#),
        40324
    );
    assert_eq!(
        place.code(r#"{"create": "wrong", "viewOn": "c", "pipeline": [{"$out": "d"}]}"#),
        167
    );
    // A view on itself ends, and says so.
    place.ask(r#"{"create": "ring", "viewOn": "ring"}"#);
    assert_eq!(place.code(r#"{"find": "ring"}"#), 165);
    place.ask(r#"{"drop": "heavy"}"#);
    assert_eq!(ids(&mut place, r#"{"find": "heavy"}"#), "");
}

#[test]
fn texts_are_compared_in_the_language_that_is_asked_for() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "t": "Reiher"}"#,
        r#"{"_id": 2, "t": "reiher"}"#,
        r#"{"_id": 3, "t": "Ötter"}"#,
        r#"{"_id": 4, "t": "otter 10"}"#,
        r#"{"_id": 5, "t": "otter 9"}"#,
        r#"{"_id": 6, "t": "zander"}"#,
    ]);
    let weak = r#""collation": {"locale": "en_US", "strength": 2}"#;
    assert_eq!(found(&mut place, r#""filter": {"t": "REIHER"}"#), "");
    assert_eq!(
        found(
            &mut place,
            &format!(r#""filter": {{"t": "REIHER"}}, {weak}"#)
        ),
        "1 2"
    );
    assert_eq!(
        found(
            &mut place,
            &format!(r#""filter": {{"t": {{"$in": ["ZANDER"]}}}}, {weak}"#)
        ),
        "6"
    );
    assert_eq!(
        found(
            &mut place,
            &format!(r#""filter": {{"t": {{"$gt": "S"}}}}, {weak}"#)
        ),
        "6"
    );
    assert_eq!(found(&mut place, r#""sort": {"t": 1}"#), "1 4 5 2 6 3");
    assert_eq!(
        found(
            &mut place,
            r#""sort": {"t": 1}, "collation": {"locale": "de"}"#
        ),
        "3 4 5 2 1 6"
    );
    // Where the letter is one of its own, it comes last.
    assert_eq!(
        found(
            &mut place,
            r#""sort": {"t": 1}, "collation": {"locale": "sv", "numericOrdering": true}"#
        ),
        "5 4 2 1 6 3"
    );
    let groups = place.batch(&format!(
        r#"{{"aggregate": "c", "pipeline": [{{"$match": {{"t": {{"$regex": "eiher"}}}}}}, {{"$group": {{"_id": "$t", "n": {{"$sum": 1}}}}}}], "cursor": {{}}, {weak}}}"#
    ));
    assert_eq!(groups, [r#"{"_id":"Reiher","n":2}"#]);
    let distinct = place.ask(&format!(r#"{{"distinct": "c", "key": "t", {weak}}}"#));
    assert_eq!(
        distinct
            .get("values")
            .and_then(Datum::as_list)
            .map(<[Datum]>::len),
        Some(5)
    );
    place.ask(&format!(
        r#"{{"update": "c", "updates": [{{"q": {{"t": "REIHER"}}, "u": {{"$set": {{"seen": 1}}}}, "multi": true, {weak}}}]}}"#
    ));
    assert_eq!(found(&mut place, r#""filter": {"seen": 1}"#), "1 2");
    let gone = place.ask(&format!(
        r#"{{"delete": "c", "deletes": [{{"q": {{"t": "ZANDER"}}, "limit": 0, {weak}}}, {{"q": {{"t": "OTTER 9"}}, "limit": 0}}]}}"#
    ));
    assert_eq!(gone.get("n"), Some(&Datum::Int(1)));
    let sets = place.batch(&format!(
        r#"{{"aggregate": "c", "pipeline": [{{"$limit": 1}}, {{"$project": {{"_id": 0, "u": {{"$size": {{"$setUnion": [["a", "A"], ["b"]]}}}}, "s": {{"$setIsSubset": [["a"], ["A", "b"]]}}, "d": {{"$setDifference": [["a", "c"], ["A"]]}}}}}}], "cursor": {{}}, {weak}}}"#
    ));
    assert_eq!(sets, [r#"{"u":2,"s":true,"d":["c"]}"#]);
    for (collation, code) in [
        (r#"{"strength": 2}"#, 40414),
        (r#"{"locale": "no such place"}"#, 2),
        (r#"{"locale": "en", "strength": 9}"#, 2),
        (r#"{"locale": "en", "backwards": true}"#, 2),
    ] {
        assert_eq!(
            place.code(&format!(r#"{{"find": "c", "collation": {collation}}}"#)),
            code,
            "{collation}"
        );
    }
}

#[test]
fn hints_name_an_index_and_bounds_lie_in_it() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "a": 1, "b": 9}"#,
        r#"{"_id": 2, "a": 2, "b": 1}"#,
        r#"{"_id": 3, "a": 2, "b": 5}"#,
        r#"{"_id": 4, "a": 3, "b": 0}"#,
    ]);
    place.ask(r#"{"createIndexes": "c", "indexes": [{"key": {"a": 1, "b": -1}, "name": "both"}]}"#);
    assert_eq!(
        found(&mut place, r#""filter": {"a": 2}, "hint": "both""#),
        "2 3"
    );
    assert_eq!(
        found(
            &mut place,
            r#""hint": {"a": 1, "b": -1}, "min": {"a": 2, "b": 4}"#
        ),
        "2 4"
    );
    assert_eq!(
        found(
            &mut place,
            r#""hint": "both", "min": {"a": 2, "b": 9}, "max": {"a": 3, "b": 0}"#
        ),
        "2 3"
    );
    for command in [
        r#"{"find": "c", "hint": "none"}"#,
        r#"{"count": "c", "hint": {"b": 1}}"#,
        r#"{"aggregate": "c", "pipeline": [], "cursor": {}, "hint": "none"}"#,
        r#"{"findAndModify": "c", "query": {}, "remove": true, "hint": "none"}"#,
    ] {
        assert_eq!(place.code(command), 2, "{command}");
    }
    assert_eq!(place.code(r#"{"find": "c", "min": {"a": 1}}"#), 51173);
    assert_eq!(
        place.code(r#"{"find": "c", "hint": "both", "min": {"b": 1}}"#),
        51174
    );
    for command in [
        r#"{"update": "c", "updates": [{"q": {}, "u": {"$set": {"x": 1}}, "hint": "none"}]}"#,
        r#"{"delete": "c", "deletes": [{"q": {}, "limit": 1, "hint": "none"}]}"#,
    ] {
        let reply = place.ask(command);
        let first = reply
            .get("writeErrors")
            .and_then(|e| e.as_list()?.first()?.as_object()?.get("code")?.as_i64());
        assert_eq!(first, Some(2), "{command}");
    }
    assert_eq!(
        place.code(r#"{"update": "c", "updates": [{"q": {}, "u": {"x": 1}, "sort": {"a": 1}}]}"#),
        40415
    );
}

#[test]
fn what_is_there_already_is_named_and_what_cannot_be_stored_is_refused() {
    let mut place = Place::with(&[r#"{"_id": 1, "a": {"b": 7}}"#]);
    place.ask(r#"{"createIndexes": "c", "indexes": [{"key": {"a.b": -1}, "name": "ab", "unique": true}]}"#);
    let reply = place.ask(r#"{"insert": "c", "documents": [{"_id": 2, "a": {"b": 7}}]}"#);
    let error = reply
        .get("writeErrors")
        .and_then(|e| Some(json(e.as_list()?.first()?)));
    let error = error.expect("an error");
    assert!(
        error.contains(r#""keyPattern":{"a.b":-1},"keyValue":{"a.b":7}"#),
        "{error}"
    );
    let reply = place.ask(r#"{"insert": "c", "documents": [{"_id": {"$tide": 1}}]}"#);
    let code = reply
        .get("writeErrors")
        .and_then(|e| e.as_list()?.first()?.as_object()?.get("code")?.as_i64());
    assert_eq!(code, Some(52));
    assert_eq!(
        place.code(r#"{"aggregate": "c", "pipeline": [{"$out": "d"}], "cursor": {}, "readConcern": {"level": "linearizable"}}"#),
        72
    );
    assert_eq!(
        place.code(r#"{"find": "c", "readConcern": {"level": "snapshot"}}"#),
        115
    );
    assert_eq!(place.code(r#"{"find": "c", "tailable": true}"#), 2);
    assert_eq!(
        place.code(r#"{"create": "d", "capped": true, "size": 1}"#),
        72
    );
}

#[test]
fn what_takes_too_long_is_ended() {
    let many: Vec<String> = (0..200).map(|n| format!(r#"{{"_id": {n}}}"#)).collect();
    let mut place = Place::with(&many.iter().map(String::as_str).collect::<Vec<_>>());
    let slow = r#"{"aggregate": "c", "pipeline": [{"$match": {"$expr": {"$gt": [{"$size": {"$range": [0, 2000000]}}, 0]}}}], "cursor": {}, "maxTimeMS": 20}"#;
    assert_eq!(place.code(slow), 50);
    place.ask(r#"{"find": "c", "maxTimeMS": 60000}"#);
}

fn for_tests() -> Place {
    let settings = Settings {
        replica_set: Some("practice".into()),
        tests: true,
        ..Settings::default()
    };
    Place(Conversation::new(Server::new(Store::default(), settings)))
}

fn session(number: i64) -> String {
    format!(
        r#""lsid": {{"id": {{"$uuid": "00112233-4455-6677-8899-aabbccddeeff"}}}}, "txnNumber": {{"$numberLong": "{number}"}}"#
    )
}

#[test]
fn a_write_with_a_number_is_done_once() {
    let mut place = for_tests();
    let add = |number: i64| {
        format!(
            r#"{{"update": "c", "updates": [{{"q": {{"_id": 1}}, "u": {{"$inc": {{"n": 1}}}}, "upsert": true}}], {}}}"#,
            session(number)
        )
    };
    let first = place.ask(&add(1));
    assert_eq!(place.ask(&add(1)).get("n"), first.get("n"));
    place.ask(&add(2));
    assert_eq!(place.batch(r#"{"find": "c"}"#), [r#"{"_id":1,"n":2}"#]);
    assert_eq!(place.code(&add(1)), 225);
    assert_eq!(place.batch(r#"{"aggregate": 1, "pipeline": [{"$listLocalSessions": {}}, {"$project": {"_id": {"$type": "$_id.id"}}}], "cursor": {}}"#), [r#"{"_id":"binData"}"#]);
    place.ask(r#"{"endSessions": [{"id": {"$uuid": "00112233-4455-6677-8899-aabbccddeeff"}}]}"#);
    assert_eq!(
        place.batch(r#"{"aggregate": 1, "pipeline": [{"$listLocalSessions": {}}], "cursor": {}}"#),
        [""; 0]
    );
    let mut alone = Place::with(&[]);
    assert_eq!(alone.code(&add(1)), 20);
}

#[test]
fn commands_fail_as_often_as_they_are_told() {
    let mut place = for_tests();
    let fail = |mode: &str, data: &str| {
        format!(
            r#"{{"configureFailPoint": "failCommand", "mode": {mode}, "data": {{"failCommands": ["insert"], {data}}}}}"#
        )
    };
    let insert = r#"{"insert": "c", "documents": [{}]}"#;
    place.ask(&fail(r#"{"times": 2}"#, r#""errorCode": 91"#));
    assert_eq!((place.code(insert), place.code(insert)), (91, 91));
    place.ask(insert);
    // It did not run; a link that is cut did not run either.
    place.ask(&fail(r#"{"times": 1}"#, r#""closeConnection": true"#));
    assert!(place.0.answer("haven", &document(insert)).is_none());
    assert_eq!(
        place.ask(r#"{"count": "c"}"#).get("n"),
        Some(&Datum::Int(1))
    );
    // It ran, and what it waited for did not come.
    place.ask(&fail(
        r#""alwaysOn""#,
        r#""writeConcernError": {"code": 64, "errmsg": "waited"}"#,
    ));
    let reply = place.ask(insert);
    assert!(reply.get("writeConcernError").is_some());
    place.ask(&fail(r#""off""#, r#""errorCode": 1"#));
    assert!(place.ask(insert).get("writeConcernError").is_none());
    // Only a write that can be known again may be tried again.
    let labelled = |place: &mut Place, command: &str| {
        place.ask(&fail(r#"{"times": 1}"#, r#""errorCode": 11600"#));
        place.answer(command).get("errorLabels").map(json)
    };
    assert_eq!(labelled(&mut place, insert), None);
    let numbered = format!(r#"{{"insert": "c", "documents": [{{}}], {}}}"#, session(7));
    assert_eq!(
        labelled(&mut place, &numbered).as_deref(),
        Some(r#"["RetryableWriteError"]"#)
    );
    let within = format!(
        r#"{{"insert": "c", "documents": [{{}}], "startTransaction": true, "autocommit": false, {}}}"#,
        session(8)
    );
    assert_eq!(
        labelled(&mut place, &within).as_deref(),
        Some(r#"["TransientTransactionError"]"#)
    );
    let mut other = Place::with(&[]);
    assert_eq!(other.code(&fail(r#""alwaysOn""#, r#""errorCode": 1"#)), 59);
}

#[test]
fn views_are_kept_with_their_folder() {
    let folder = tempfile::tempdir().expect("a folder");
    let with = || {
        let store = Store::in_folder(folder.path()).expect("opened");
        Place(Conversation::new(Server::new(store, Settings::default())))
    };
    let mut place = with();
    place.ask(r#"{"insert": "c", "documents": [{"_id": 1}, {"_id": 2}]}"#);
    place.ask(r#"{"create": "second", "viewOn": "c", "pipeline": [{"$match": {"_id": 2}}]}"#);
    drop(place);
    assert_eq!(ids(&mut with(), r#"{"find": "second"}"#), "2");
}
