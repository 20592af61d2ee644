//! Where commands, expressions, projections and updates meet what they are not made for, and what they are asked for rarely.

use super::*;

#[test]
fn lists_in_expressions_meet_null_and_what_is_no_list() {
    let mut place = Place::with(&[r#"{"_id": 1, "l": [3, 1, 2], "none": null, "t": "x"}"#]);
    for (expression, expected) in [
        (r#"{"$map": {"input": "$none", "in": 1}}"#, "null"),
        (r#"{"$filter": {"input": "$gone", "cond": true}}"#, "null"),
        (
            r#"{"$reduce": {"input": "$gone", "initialValue": 0, "in": 1}}"#,
            "null",
        ),
        (r#"{"$concatArrays": ["$l", "$none"]}"#, "null"),
        (r#"{"$slice": ["$none", 1]}"#, "null"),
        (r#"{"$slice": ["$l", 9, 2]}"#, "[]"),
        (r#"{"$slice": ["$l", -2, 1]}"#, "[1]"),
        (r#"{"$slice": ["$l", -9, 2]}"#, "[3,1]"),
        (r#"{"$indexOfArray": ["$l", 9]}"#, "-1"),
        (r#"{"$indexOfArray": ["$l", 2, 0, 2]}"#, "-1"),
        (r#"{"$indexOfArray": ["$l", 2, 5]}"#, "-1"),
        (r#"{"$indexOfArray": ["$none", 2]}"#, "null"),
        (r#"{"$reverseArray": "$none"}"#, "null"),
        (r#"{"$zip": {"inputs": ["$l", "$none"]}}"#, "null"),
        (
            r#"{"$zip": {"inputs": ["$l", [7]], "useLongestLength": true, "defaults": [0, 8]}}"#,
            "[[3,7],[1,8],[2,8]]",
        ),
        (r#"{"$arrayToObject": "$none"}"#, "null"),
        (r#"{"$arrayElemAt": ["$l", 9]}"#, "nothing"),
        (r#"{"$arrayElemAt": ["$none", 0]}"#, "null"),
        (
            r#"{"$sortArray": {"input": [{"a": 2, "b": 1}, {"a": 1, "b": 1}, {"a": 1, "b": 2}, 5], "sortBy": {"a": 1, "b": -1}}}"#,
            r#"[5,{"a":1,"b":2},{"a":1,"b":1},{"a":2,"b":1}]"#,
        ),
    ] {
        assert_eq!(place.value(expression), expected, "{expression}");
    }
    for (expression, code) in [
        (r#"{"$map": {"input": "$t", "in": 1}}"#, 16883),
        (
            r#"{"$reduce": {"input": "$t", "initialValue": 0, "in": 1}}"#,
            40080,
        ),
        (r#"{"$anyElementTrue": ["$t"]}"#, 17041),
        (r#"{"$in": [1, "$t"]}"#, 40081),
        (r#"{"$arrayElemAt": ["$t", 0]}"#, 28689),
        (r#"{"$arrayElemAt": ["$l", "$t"]}"#, 28690),
        (r#"{"$concatArrays": ["$l", "$t"]}"#, 28664),
        (r#"{"$zip": {"inputs": ["$l"], "defaults": [0]}}"#, 34466),
        (r#"{"$size": "$t"}"#, 17124),
    ] {
        assert_eq!(place.code(&computing(expression)), code, "{expression}");
    }
}

#[test]
fn a_projection_keeps_parts_of_lists_and_of_what_is_nested() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "l": [1, 2, 3, 4], "o": [{"k": 1, "v": 1}, {"k": 2, "v": 2}], "d": {"a": {"b": 1, "c": 2}, "e": [{"b": 3, "c": 4}, 5]}}"#,
    ]);
    for (projection, expected) in [
        (
            r#"{"_id": 0, "o": 0, "d": 0, "l": {"$slice": 2}}"#,
            r#"{"l":[1,2]}"#,
        ),
        (
            r#"{"_id": 0, "o": 0, "d": 0, "l": {"$slice": [-3, 2]}}"#,
            r#"{"l":[2,3]}"#,
        ),
        // By itself it leaves everything else; below a path it cuts every list there.
        (
            r#"{"d": 0, "o": {"$slice": [1, 5]}}"#,
            r#"{"_id":1,"l":[1,2,3,4],"o":[{"k":2,"v":2}]}"#,
        ),
        (
            r#"{"_id": 0, "o": {"$slice": 1}}"#,
            r#"{"l":[1,2,3,4],"o":[{"k":1,"v":1}],"d":{"a":{"b":1,"c":2},"e":[{"b":3,"c":4},5]}}"#,
        ),
        (
            r#"{"_id": 0, "l": 0, "o": 0, "d.a": 0, "d.e": {"$slice": -1}}"#,
            r#"{"d":{"e":[5]}}"#,
        ),
        (
            r#"{"_id": 0, "d.e": {"$slice": 1}, "o.k": 1}"#,
            r#"{"o":[{"k":1},{"k":2}],"d":{"e":[{"b":3,"c":4}]}}"#,
        ),
        (
            r#"{"_id": 0, "l": {"$slice": -1}, "d.a.c": 1}"#,
            r#"{"l":[4],"d":{"a":{"c":2}}}"#,
        ),
        (
            r#"{"_id": 0, "o": {"$elemMatch": {"k": 2}}}"#,
            r#"{"o":[{"k":2,"v":2}]}"#,
        ),
        (r#"{"_id": 0, "o": {"$elemMatch": {"k": 9}}}"#, "{}"),
        (r#"{"_id": 0, "d.a.b": 1}"#, r#"{"d":{"a":{"b":1}}}"#),
        (r#"{"_id": 0, "d.e.b": 1}"#, r#"{"d":{"e":[{"b":3}]}}"#),
        (
            r#"{"_id": 0, "d": {"e": {"c": 1}}}"#,
            r#"{"d":{"e":[{"c":4}]}}"#,
        ),
        (
            r#"{"_id": 0, "l": 0, "o.v": 0, "d.a": 0, "d.e.b": 0}"#,
            r#"{"o":[{"k":1},{"k":2}],"d":{"e":[{"c":4},5]}}"#,
        ),
        (
            r#"{"_id": 0, "d": {"a": {"sum": {"$add": ["$d.a.b", 1]}}}}"#,
            r#"{"d":{"a":{"sum":2}}}"#,
        ),
        (r#"{"gone.far": 1}"#, r#"{"_id":1}"#),
    ] {
        let command = format!(r#"{{"find": "c", "projection": {projection}}}"#);
        assert_eq!(place.batch(&command), [expected], "{projection}");
    }
    let command = r#"{"find": "c", "projection": {"d": {"a": {}}}}"#;
    assert_eq!(place.code(command), 51270);
    for (stage, expected) in [
        (
            r#"{"$addFields": {"o.n": {"$add": [1, 1]}}}"#,
            r#""o":[{"k":1,"v":1,"n":2},{"k":2,"v":2,"n":2}]"#,
        ),
        (
            r#"{"$addFields": {"l.n": 0}}"#,
            r#""l":[{"n":0},{"n":0},{"n":0},{"n":0}]"#,
        ),
        (
            r#"{"$addFields": {"d.a.b.n": 0}}"#,
            r#""a":{"b":{"n":0},"c":2}"#,
        ),
        (
            r#"{"$unset": ["l", "d", "o.k"]}"#,
            r#"{"_id":1,"o":[{"v":1},{"v":2}]}"#,
        ),
    ] {
        let command = format!(r#"{{"aggregate": "c", "pipeline": [{stage}], "cursor": {{}}}}"#);
        let found = place.batch(&command);
        assert!(found[0].contains(expected), "{stage}: {found:?}");
    }
}

/// Updates one document; gives it as it is then without its identifier, or the code that the write was refused with.
fn updated(document: &str, update: &str, more: &str) -> String {
    let mut place = Place::with(&[document]);
    let command = format!(r#"{{"update": "c", "updates": [{{"q": {{}}, "u": {update}{more}}}]}}"#);
    let reply = place.answer(&command);
    let refused = reply.get("writeErrors").and_then(Datum::as_list);
    let refused = refused.and_then(|list| list.first()?.as_object()?.get("code")?.as_i64());
    match refused.or(reply.get("code").and_then(Datum::as_i64)) {
        Some(code) => {
            assert_eq!(place.all(), Place::with(&[document]).all(), "{command}");
            code.to_string()
        }
        None => place.all().concat(),
    }
}

#[test]
fn updates_reach_into_lists_and_refuse_what_cannot_be() {
    for (before, update, after) in [
        (
            r#"{"a": 1}"#,
            r#"{"$rename": {"a": "b.c"}}"#,
            r#"{"b":{"c":1}}"#,
        ),
        (r#"{"a": 1}"#, r#"{"$rename": {"x": "b"}}"#, r#"{"a":1}"#),
        (r#"{"a": 1}"#, r#"{"$rename": {"a": 5}}"#, "2"),
        (
            r#"{"l": [1]}"#,
            r#"{"$set": {"l.3": 9}}"#,
            r#"{"l":[1,null,null,9]}"#,
        ),
        (
            r#"{"l": [1]}"#,
            r#"{"$set": {"l.2.k": 9}}"#,
            r#"{"l":[1,null,{"k":9}]}"#,
        ),
        (r#"{"l": [1]}"#, r#"{"$set": {"l.x": 9}}"#, "28"),
        (r#"{"l": [1]}"#, r#"{"$set": {"l.0.x": 9}}"#, "28"),
        (r#"{"l": [1]}"#, r#"{"$set": {"l.9999999": 9}}"#, "2"),
        (
            r#"{"l": [1, 2, 3]}"#,
            r#"{"$unset": {"l.1": ""}}"#,
            r#"{"l":[1,null,3]}"#,
        ),
        (
            r#"{"a": {"b": 1}}"#,
            r#"{"$unset": {"a.b.c": ""}}"#,
            r#"{"a":{"b":1}}"#,
        ),
        (
            r#"{"n": 5}"#,
            r#"{"$bit": {"n": {"or": 8}}}"#,
            r#"{"n":13}"#,
        ),
        (
            r#"{"n": 5}"#,
            r#"{"$bit": {"n": {"xor": 1}}}"#,
            r#"{"n":4}"#,
        ),
        (
            r#"{"n": 5}"#,
            r#"{"$bit": {"n": {"and": 4}}}"#,
            r#"{"n":4}"#,
        ),
        (r#"{"n": 5}"#, r#"{"$bit": {"n": {"nand": 4}}}"#, "2"),
        (r#"{"n": "5"}"#, r#"{"$inc": {"n": 1}}"#, "14"),
        (r#"{"n": 5}"#, r#"{"$inc": {"n": "1"}}"#, "14"),
        (r#"{"n": 5}"#, r#"{"$push": {"n": 1}}"#, "2"),
        (
            r#"{"l": [1, 2, 3, 4]}"#,
            r#"{"$push": {"l": {"$each": [5], "$slice": -2}}}"#,
            r#"{"l":[4,5]}"#,
        ),
        (
            r#"{"l": [1, 2, 3]}"#,
            r#"{"$push": {"l": {"$each": [0], "$position": -1}}}"#,
            r#"{"l":[1,2,0,3]}"#,
        ),
        (
            r#"{"l": [1, 2, 3]}"#,
            r#"{"$push": {"l": {"$each": [0], "$position": -9}}}"#,
            r#"{"l":[0,1,2,3]}"#,
        ),
        (
            r#"{"l": [2, 1]}"#,
            r#"{"$push": {"l": {"$each": [3], "$sort": -1}}}"#,
            r#"{"l":[3,2,1]}"#,
        ),
        (
            r#"{"l": [{"k": 2}, {"k": 1}]}"#,
            r#"{"$push": {"l": {"$each": [{"k": 0}], "$sort": {"k": 1}, "$slice": 2}}}"#,
            r#"{"l":[{"k":0},{"k":1}]}"#,
        ),
        (
            r#"{"l": [1, 2]}"#,
            r#"{"$push": {"l": {"$each": [], "$slice": 0}}}"#,
            r#"{"l":[]}"#,
        ),
        (
            r#"{"l": [1, 2, 1]}"#,
            r#"{"$pull": {"l": {"$in": [1, 9]}}}"#,
            r#"{"l":[2]}"#,
        ),
        (
            r#"{"l": [1]}"#,
            r#"{"$addToSet": {"l": {"$each": [1, 2, 2]}}}"#,
            r#"{"l":[1,2]}"#,
        ),
        (
            r#"{"a": 1}"#,
            r#"[{"$set": {"x": {"$add": ["$a", 1]}}}, {"$unset": "a"}]"#,
            r#"{"x":2}"#,
        ),
        (
            r#"{"a": 1}"#,
            r#"[{"$replaceWith": {"y": "$a"}}]"#,
            r#"{"y":1}"#,
        ),
        (r#"{"a": 1}"#, r#"[{"$group": {"_id": 1}}]"#, "72"),
        (r#"{"a": 1}"#, r#"{"$set": {"a": 2}, "b": 1}"#, "9"),
        (r#"{"a": 1}"#, r#"{"$setLater": {"a": 2}}"#, "9"),
        (r#"{"a": 1}"#, r#"{"$set": {"_id": 7}}"#, "66"),
        (r#"{"a": 1}"#, r#"{"$set": {"a": 2, "a.b": 3}}"#, "40"),
    ] {
        let before = before.replacen('{', r#"{"_id": 1, "#, 1);
        assert_eq!(updated(&before, update, ""), after, "{before} {update}");
    }
    let lines = r#"{"_id": 1, "l": [{"k": 1, "n": [1, 5]}, {"k": 2, "n": [5]}]}"#;
    for (update, more, after) in [
        (
            r#"{"$set": {"l.$[e].v": 0}}"#,
            r#", "arrayFilters": [{"e.k": 2}]"#,
            r#"{"l":[{"k":1,"n":[1,5]},{"k":2,"n":[5],"v":0}]}"#,
        ),
        (
            r#"{"$inc": {"l.$[].n.$[big]": 10}}"#,
            r#", "arrayFilters": [{"big": {"$gt": 4}}]"#,
            r#"{"l":[{"k":1,"n":[1,15]},{"k":2,"n":[15]}]}"#,
        ),
        (r#"{"$set": {"l.$[e].v": 0}}"#, "", "2"),
        (r#"{"k": 1}"#, r#", "multi": true"#, "9"),
    ] {
        assert_eq!(updated(lines, update, more), after, "{update}{more}");
    }
}

#[test]
fn merging_into_a_collection_does_what_is_asked_of_what_is_there_and_what_is_not() {
    let merge = |options: &str| {
        let mut place = Place::with(&[r#"{"_id": 1, "kg": 5}"#, r#"{"_id": 2, "kg": 7}"#]);
        place.ask(r#"{"insert": "m", "documents": [{"_id": 2, "kg": 0, "note": "x"}, {"_id": 3, "kg": 9}]}"#);
        place.ask(r#"{"createIndexes": "m", "indexes": [{"key": {"kg": 1}, "name": "kg_1", "unique": true}]}"#);
        let stage = format!(r#"{{"$merge": {{"into": "m"{options}}}}}"#);
        let reply = place.answer(&format!(
            r#"{{"aggregate": "c", "pipeline": [{stage}], "cursor": {{}}}}"#
        ));
        match reply.get("code").and_then(Datum::as_i64) {
            Some(code) => code.to_string(),
            None => place.batch(r#"{"find": "m", "sort": {"_id": 1}}"#).concat(),
        }
    };
    let third = r#"{"_id":3,"kg":9}"#;
    let first = r#"{"_id":1,"kg":5}"#;
    for (options, expected) in [
        (
            "",
            format!(r#"{first}{{"_id":2,"kg":7,"note":"x"}}{third}"#),
        ),
        (
            r#", "whenMatched": "replace""#,
            format!(r#"{first}{{"_id":2,"kg":7}}{third}"#),
        ),
        (
            r#", "whenMatched": "keepExisting", "whenNotMatched": "discard""#,
            format!(r#"{{"_id":2,"kg":0,"note":"x"}}{third}"#),
        ),
        (r#", "whenMatched": "fail""#, "11000".into()),
        (r#", "whenNotMatched": "fail""#, "13113".into()),
        (r#", "on": "note""#, "51183".into()),
        (r#", "on": ["kg", "note"]"#, "51183".into()),
    ] {
        assert_eq!(merge(options), expected, "{options}");
    }
}

#[test]
fn collections_databases_and_their_numbers() {
    let mut place = Place::with(&[r#"{"_id": 1, "a": 5}"#, r#"{"_id": 2}"#]);
    let number = |reply: &Document, name: &str| reply.get(name).and_then(Datum::as_f64);
    let stats = place.ask(r#"{"collStats": "c"}"#);
    assert_eq!(
        (number(&stats, "count"), stats.get("ns")),
        (Some(2.0), Some(&"haven.c".into()))
    );
    assert!(
        number(&stats, "size").is_some_and(|size| size > 20.0),
        "{stats:?}"
    );
    assert_eq!(
        number(&place.ask(r#"{"collStats": "gone"}"#), "count"),
        Some(0.0)
    );
    let stats = place.ask(r#"{"dbStats": 1}"#);
    assert_eq!(
        (number(&stats, "objects"), number(&stats, "collections")),
        (Some(2.0), Some(1.0))
    );
    for (command, code) in [
        (r#"{"renameCollection": "haven.gone", "to": "haven.d"}"#, 26),
        (r#"{"renameCollection": "c", "to": "d"}"#, 73),
        (r#"{"listIndexes": "gone"}"#, 26),
        (r#"{"dropIndexes": "gone", "index": "*"}"#, 26),
        (r#"{"dropIndexes": "c", "index": "gone_1"}"#, 27),
        (r#"{"dropIndexes": "c", "index": "_id_"}"#, 72),
        (r#"{"create": "c", "capped": true, "size": 100}"#, 72),
        (r#"{"count": "c", "skip": -1}"#, 51024),
        (r#"{"find": "c", "limit": -1}"#, 51024),
    ] {
        assert_eq!(place.code(command), code, "{command}");
    }
    place.ask(r#"{"create": "d"}"#);
    place.ask(r#"{"createIndexes": "c", "indexes": [{"key": {"a": 1}, "name": "a_1"}, {"key": {"b": -1}, "name": "b_-1"}]}"#);
    assert_eq!(
        place.code(r#"{"renameCollection": "haven.c", "to": "haven.d"}"#),
        48
    );
    place.ask(r#"{"renameCollection": "haven.c", "to": "haven.d", "dropTarget": true}"#);
    assert_eq!(number(&place.ask(r#"{"count": "d"}"#), "n"), Some(2.0));
    assert_eq!(number(&place.ask(r#"{"count": "c"}"#), "n"), Some(0.0));
    let indexes = |place: &mut Place| place.batch(r#"{"listIndexes": "d"}"#).len();
    assert_eq!(indexes(&mut place), 3, "they go along");
    place.ask(r#"{"dropIndexes": "d", "index": {"a": 1}}"#);
    assert_eq!(indexes(&mut place), 2);
    place.ask(r#"{"dropIndexes": "d", "index": ["b_-1"]}"#);
    assert_eq!(indexes(&mut place), 1);
    assert_eq!(
        place.ask(r#"{"dropDatabase": 1}"#).get("dropped"),
        Some(&"haven".into())
    );
    assert_eq!(place.ask(r#"{"dropDatabase": 1}"#).get("dropped"), None);
    assert_eq!(number(&place.ask(r#"{"count": "d"}"#), "n"), Some(0.0));
}

#[test]
fn what_a_server_says_of_itself_and_of_its_users() {
    let mut place = Place::with(&[r#"{"_id": 1}"#]);
    let status = place.ask(r#"{"serverStatus": 1}"#);
    let counters = status.get("opcounters").and_then(Datum::as_object);
    assert!(
        counters.is_some() && status.get("version").is_some(),
        "{status:?}"
    );
    let session = place.ask(r#"{"startSession": 1}"#);
    let id = session.get("id").and_then(|id| id.as_object()?.get("id"));
    let Some(Datum::Bytes(id)) = id else {
        panic!("{session:?}");
    };
    assert_eq!((id.0, id.1.len()), (4, 16), "a UUID");
    // Its own question is all that runs; nothing happens where nothing of that number does.
    let running = place.ask(r#"{"currentOp": 1}"#);
    assert!(
        running
            .get("inprog")
            .and_then(Datum::as_list)
            .is_some_and(|list| list.len() <= 1)
    );
    place.ask(r#"{"killOp": 1, "op": 4711}"#);
    let roles = place.ask(r#"{"rolesInfo": 1, "showBuiltinRoles": true}"#);
    assert!(
        roles
            .get("roles")
            .and_then(Datum::as_list)
            .is_some_and(|list| list.len() > 5)
    );

    place.ask(r#"{"createUser": "mate", "pwd": "low water", "roles": ["read", {"role": "dbAdmin", "db": "shed"}]}"#);
    for (command, code) in [
        (r#"{"createUser": "mate", "pwd": "x", "roles": []}"#, 51003),
        (r#"{"updateUser": "nobody", "pwd": "x"}"#, 11),
        (r#"{"dropUser": "nobody"}"#, 11),
    ] {
        assert_eq!(place.code(command), code, "{command}");
    }
    let users = |place: &mut Place, which: &str| {
        let reply = place.ask(&format!(r#"{{"usersInfo": {which}}}"#));
        let list = reply
            .get("users")
            .and_then(Datum::as_list)
            .map(<[Datum]>::to_vec);
        list.unwrap_or_default()
            .iter()
            .map(json)
            .collect::<Vec<_>>()
    };
    for which in [
        "1",
        r#""mate""#,
        r#"{"user": "mate", "db": "haven"}"#,
        r#"{"forAllDBs": true}"#,
    ] {
        let found = users(&mut place, which);
        assert_eq!(found.len(), 1, "{which}");
        assert!(
            found[0].contains(r#"{"role":"dbAdmin","db":"shed"}"#),
            "{found:?}"
        );
        assert!(
            !found[0].contains("low water") && !found[0].contains("pwd"),
            "{found:?}"
        );
    }
    assert!(users(&mut place, r#"{"user": "mate", "db": "shed"}"#).is_empty());
    place.ask(r#"{"updateUser": "mate", "roles": []}"#);
    assert!(!users(&mut place, "1")[0].contains("dbAdmin"));
    place.ask(r#"{"dropUser": "mate"}"#);
    assert!(users(&mut place, "1").is_empty());
}

#[test]
fn numbers_and_dates_meet_what_they_cannot_be_made_of() {
    let mut place = Place::with(&[
        r#"{"_id": {"$oid": "6fb3f2000000000000000001"}, "n": 7, "t": "x", "none": null, "d": {"$date": "2031-03-09T13:45:06.789Z"}, "s": {"$timestamp": {"t": 1930000000, "i": 3}}}"#,
    ]);
    for (expression, expected) in [
        (
            r#"{"$add": ["$d", 1000]}"#,
            r#"{"$date":"2031-03-09T13:45:07.789Z"}"#,
        ),
        (
            r#"{"$subtract": ["$d", 789]}"#,
            r#"{"$date":"2031-03-09T13:45:06Z"}"#,
        ),
        (r#"{"$subtract": ["$d", "$d"]}"#, "0"),
        (r#"{"$add": ["$n", "$none"]}"#, "null"),
        (r#"{"$divide": ["$none", 2]}"#, "null"),
        (r#"{"$pow": [2, "$none"]}"#, "null"),
        (r#"{"$pow": [2, 0.5]}"#, "1.4142135623730951"),
        (r#"{"$pow": [2, -1]}"#, "0.5"),
        (r#"{"$sqrt": "$none"}"#, "null"),
        (r#"{"$log10": 1000}"#, "3.0"),
        (r#"{"$abs": -5}"#, "5"),
        (r#"{"$trunc": [-7.85, 1]}"#, "-7.8"),
        (r#"{"$year": "$none"}"#, "null"),
        (r#"{"$year": "$_id"}"#, "2029"),
        (r#"{"$year": "$s"}"#, "2031"),
        (r#"{"$tsSecond": "$s"}"#, "1930000000"),
        (r#"{"$tsIncrement": "$s"}"#, "3"),
        (r#"{"$tsSecond": "$none"}"#, "null"),
        (
            r#"{"$dateAdd": {"startDate": {"$date": "2031-01-31T00:00:00Z"}, "unit": "month", "amount": 1}}"#,
            r#"{"$date":"2031-02-28T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateSubtract": {"startDate": "$d", "unit": "day", "amount": 1, "timezone": "America/New_York"}}"#,
            r#"{"$date":"2031-03-08T14:45:06.789Z"}"#,
        ),
        (
            r#"{"$dateAdd": {"startDate": "$none", "unit": "day", "amount": 1}}"#,
            "null",
        ),
        (
            r#"{"$dateToString": {"date": "$d", "format": "%H:%M:%S.%L %z %Z %j %u %V %G %%"}}"#,
            r#""13:45:06.789 +0000 +0 068 7 10 2031 %""#,
        ),
        (
            r#"{"$dateToString": {"date": "$d", "format": "%H:%M %z", "timezone": "America/New_York"}}"#,
            r#""09:45 -0400""#,
        ),
        (
            r#"{"$dateToString": {"date": "$none", "onNull": "never"}}"#,
            r#""never""#,
        ),
        (
            r#"{"$dateFromString": {"dateString": "no date", "onError": "bad"}}"#,
            r#""bad""#,
        ),
        (
            r#"{"$dateFromString": {"dateString": "$none", "onNull": 0}}"#,
            "0",
        ),
        (
            r#"{"$dateFromString": {"dateString": "2031-03-09", "timezone": "+02:00"}}"#,
            r#"{"$date":"2031-03-08T22:00:00Z"}"#,
        ),
        (
            r#"{"$dateFromParts": {"year": 2031, "month": 14}}"#,
            r#"{"$date":"2032-02-01T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateFromParts": {"isoWeekYear": 2031, "isoWeek": 1, "isoDayOfWeek": 1}}"#,
            r#"{"$date":"2030-12-30T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateToParts": {"date": "$d", "iso8601": true}}"#,
            r#"{"isoWeekYear":2031,"isoWeek":10,"isoDayOfWeek":7,"hour":13,"minute":45,"second":6,"millisecond":789}"#,
        ),
        (r#"{"$isoWeek": "$d"}"#, "10"),
        (r#"{"$week": "$d"}"#, "10"),
        (r#"{"$dayOfYear": "$d"}"#, "68"),
        (
            r#"{"$dateTrunc": {"date": "$none", "unit": "day"}}"#,
            "null",
        ),
    ] {
        assert_eq!(place.value(expression), expected, "{expression}");
    }
    for (expression, code) in [
        (r#"{"$sqrt": -1}"#, 28714),
        (r#"{"$ln": 0}"#, 28766),
        (r#"{"$log10": -1}"#, 28761),
        (r#"{"$log": [0, 10]}"#, 28758),
        (r#"{"$pow": [0, -1]}"#, 28764),
        (r#"{"$add": ["$t", 1]}"#, 14),
        (r#"{"$multiply": ["$t", 1]}"#, 14),
        (r#"{"$year": "$t"}"#, 16006),
        (r#"{"$toDate": "no date"}"#, 241),
        (
            r#"{"$dateTrunc": {"date": "$d", "unit": "week", "startOfWeek": "someday"}}"#,
            9,
        ),
        (
            r#"{"$dateTrunc": {"date": "$d", "unit": "day", "binSize": 0}}"#,
            5_439_018,
        ),
        (
            r#"{"$dateFromParts": {"year": 2031, "month": 40000}}"#,
            31034,
        ),
        (r#"{"$dateToString": {"date": "$d", "timezone": 5}}"#, 40517),
        (r#"{"$tsSecond": "$n"}"#, 5_687_301),
        (r#"{"$toUpper": {"$concat": ["$t", "$n"]}}"#, 16702),
    ] {
        assert_eq!(place.code(&computing(expression)), code, "{expression}");
    }
}

#[test]
fn conditions_and_pipelines_that_are_none_are_refused() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "t": "Tern", "l": [1, 2]}"#,
        r#"{"_id": 2, "t": "heron", "l": [2]}"#,
    ]);
    for (filter, ids) in [
        (
            r#"{"t": {"$in": [{"$regularExpression": {"pattern": "^T", "options": ""}}, "x"]}}"#,
            "1",
        ),
        (r#"{"t": {"$regex": "^T", "$options": "i"}}"#, "1"),
        (r#"{"t": {"$not": {"$regex": "^T"}}}"#, "2"),
        (r#"{"l": {"$all": [1, 2]}}"#, "1"),
        (r#"{"t": {"$gt": {"$minKey": 1}}}"#, "1 2"),
        (r#"{"t": {"$lt": {"$maxKey": 1}}}"#, "1 2"),
        (r#"{"$sampleRate": 1}"#, "1 2"),
        (r#"{"$sampleRate": 0}"#, ""),
        (
            r#"{"$and": [{"l": 2}, {"$or": [{"t": "heron"}, {"t": "x"}]}]}"#,
            "2",
        ),
        (r#"{"$nor": [{"t": "heron"}]}"#, "1"),
    ] {
        let command = format!(r#"{{"find": "c", "filter": {filter}, "projection": {{"_id": 1}}}}"#);
        let found: Vec<String> = place
            .batch(&command)
            .iter()
            .map(|one| one.trim_matches(|c: char| !c.is_ascii_digit()).to_string())
            .collect();
        assert_eq!(found.join(" "), ids, "{filter}");
    }
    for (filter, code) in [
        (r#"{"$sampleRate": 2}"#, 2),
        (r#"{"$and": [5]}"#, 2),
        (r#"{"$and": []}"#, 2),
        (r#"{"t": {"$not": 5}}"#, 2),
        (r#"{"t": {"$regex": "("}}"#, 51091),
        (r#"{"t": {"$later": 1}}"#, 2),
        (r#"{"$later": 1}"#, 2),
        (r#"{"l": {"$size": -1}}"#, 2),
        (r#"{"l": {"$in": 5}}"#, 2),
        (r#"{"l": {"$type": "tide"}}"#, 2),
    ] {
        assert_eq!(
            place.code(&format!(r#"{{"find": "c", "filter": {filter}}}"#)),
            code,
            "{filter}"
        );
    }
    for (pipeline, code) in [
        (r#"[{"$match": {}, "$limit": 1}]"#, 40323),
        (r#"[{"$out": "x"}, {"$limit": 1}]"#, 40601),
        (r#"[{"$replaceRoot": {"newRoot": "$t"}}]"#, 40228),
        (r#"[{"$tide": 1}]"#, 40324),
        (r#"[5]"#, 14),
    ] {
        let command = format!(r#"{{"aggregate": "c", "pipeline": {pipeline}, "cursor": {{}}}}"#);
        assert_eq!(place.code(&command), code, "{pipeline}");
    }
    let typed = r#"{"aggregate": 1, "pipeline": [{"$documents": [{"a": 1}, {"a": {"$add": [1, 1]}}]}, {"$match": {"a": 2}}], "cursor": {}}"#;
    assert_eq!(place.batch(typed), [r#"{"a":2}"#]);
    let summed = r#"{"aggregate": "c", "pipeline": [{"$group": {"_id": null, "n": {"$sum": 9223372036854775807}}}], "cursor": {}}"#;
    assert_eq!(
        place.batch(summed),
        [r#"{"_id":null,"n":1.8446744073709552e+19}"#]
    );
}
