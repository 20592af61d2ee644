//! Stages.

use super::*;

#[test]
fn stages_give_what_the_reference_says() {
    let documents = [
        r#"{"_id": 1, "port": "M", "kg": 5, "l": ["a", "b"]}"#,
        r#"{"_id": 2, "port": "O", "kg": 7, "l": []}"#,
        r#"{"_id": 3, "port": "M", "kg": 12, "l": ["b"]}"#,
        r#"{"_id": 4, "kg": 20}"#,
    ];
    for (stages, expected) in [
        (
            r#"[{"$sortByCount": "$port"}, {"$limit": 1}]"#,
            vec![r#"{"_id":"M","count":2}"#],
        ),
        (r#"[{"$count": "n"}]"#, vec![r#"{"n":4}"#]),
        (
            r#"[{"$bucket": {"groupBy": "$kg", "boundaries": [0, 10, 15], "default": "more", "output": {"n": {"$sum": 1}}}}]"#,
            vec![
                r#"{"_id":0,"n":2}"#,
                r#"{"_id":10,"n":1}"#,
                r#"{"_id":"more","n":1}"#,
            ],
        ),
        (
            r#"[{"$bucketAuto": {"groupBy": "$kg", "buckets": 2}}]"#,
            vec![
                r#"{"_id":{"min":5,"max":12},"count":2}"#,
                r#"{"_id":{"min":12,"max":20},"count":2}"#,
            ],
        ),
        (
            r#"[{"$unwind": {"path": "$l", "includeArrayIndex": "at", "preserveNullAndEmptyArrays": true}}, {"$project": {"_id": 1, "l": 1, "at": 1}}]"#,
            vec![
                r#"{"_id":1,"l":"a","at":0}"#,
                r#"{"_id":1,"l":"b","at":1}"#,
                r#"{"_id":2,"at":null}"#,
                r#"{"_id":3,"l":"b","at":0}"#,
                r#"{"_id":4,"at":null}"#,
            ],
        ),
        (
            r#"[{"$facet": {"many": [{"$match": {"kg": {"$gt": 6}}}, {"$count": "n"}], "one": [{"$limit": 1}, {"$project": {"kg": 1}}]}}]"#,
            vec![r#"{"many":[{"n":3}],"one":[{"_id":1,"kg":5}]}"#],
        ),
        (
            r#"[{"$match": {"_id": 1}}, {"$replaceRoot": {"newRoot": {"k": "$kg", "n": {"$size": "$l"}}}}]"#,
            vec![r#"{"k":5,"n":2}"#],
        ),
        (
            r#"[{"$match": {"_id": 2}}, {"$lookup": {"from": "c", "let": {"mine": "$kg"}, "pipeline": [{"$match": {"$expr": {"$gt": ["$kg", "$$mine"]}}}, {"$project": {"kg": 1, "_id": 0}}], "as": "larger"}}, {"$project": {"larger": 1}}]"#,
            vec![r#"{"_id":2,"larger":[{"kg":12},{"kg":20}]}"#],
        ),
        (
            r#"[{"$limit": 1}, {"$project": {"_id": 1}}, {"$unionWith": {"coll": "c", "pipeline": [{"$match": {"_id": 4}}, {"$project": {"_id": 1}}]}}]"#,
            vec![r#"{"_id":1}"#, r#"{"_id":4}"#],
        ),
        (
            r#"[{"$group": {"_id": "$port", "first": {"$first": "$kg"}, "all": {"$push": "$kg"}, "mean": {"$avg": "$kg"}}}, {"$sort": {"_id": 1}}]"#,
            vec![
                r#"{"_id":null,"first":20,"all":[20],"mean":20.0}"#,
                r#"{"_id":"M","first":5,"all":[5,12],"mean":8.5}"#,
                r#"{"_id":"O","first":7,"all":[7],"mean":7.0}"#,
            ],
        ),
        (
            r#"[{"$match": {"_id": {"$lte": 2}}}, {"$set": {"port": "$$REMOVE", "l": {"$first": "$l"}}}]"#,
            vec![r#"{"_id":1,"kg":5,"l":"a"}"#, r#"{"_id":2,"kg":7}"#],
        ),
    ] {
        let mut place = Place::with(&documents);
        let found = place.batch(&format!(
            r#"{{"aggregate": "c", "pipeline": {stages}, "cursor": {{}}}}"#
        ));
        assert_eq!(found, expected, "{stages}");
    }
    let mut place = Place::with(&documents);
    for (stages, code) in [
        (r#"[{"$nothing": 1}]"#, 40324),
        (r#"[{"$limit": 0}]"#, 15958),
        (r#"[{"$group": {"n": {"$sum": 1}}}]"#, 15955),
        (r#"[{"$unwind": "l"}]"#, 28818),
        (r#"[{"$project": {}}]"#, 51272),
        (r#"[{"$project": {"a": 1, "b": 0}}]"#, 31254),
        (r#"[{"$match": 1}]"#, 15959),
    ] {
        let command = format!(r#"{{"aggregate": "c", "pipeline": {stages}, "cursor": {{}}}}"#);
        assert_eq!(place.code(&command), code, "{stages}");
    }
}

/// Berths one behind the other, and days on which something was counted, some of them without a number.
const ROWS: &[&str] = &[
    r#"{"_id": 1, "quay": "N", "on": {"$date": "2031-03-01T00:00:00Z"}, "n": 4, "next": [2, 3]}"#,
    r#"{"_id": 2, "quay": "N", "on": {"$date": "2031-03-02T00:00:00Z"}, "next": [4]}"#,
    r#"{"_id": 3, "quay": "S", "on": {"$date": "2031-03-02T00:00:00Z"}, "n": 1, "next": []}"#,
    r#"{"_id": 4, "quay": "N", "on": {"$date": "2031-03-05T00:00:00Z"}, "n": 10, "next": [1]}"#,
    r#"{"_id": 5, "quay": "S", "on": {"$date": "2031-03-06T00:00:00Z"}, "n": null, "next": []}"#,
    r#"{"_id": 6, "quay": "S", "on": {"$date": "2031-03-08T00:00:00Z"}, "n": 4, "next": []}"#,
];

/// The values at a path of what a pipeline gives.
fn at(stages: &str, path: &str) -> String {
    let mut place = Place::with(ROWS);
    let found = place.batch(&format!(
        r#"{{"aggregate": "c", "pipeline": [{stages}, {{"$project": {{"_id": 0, "x": "{path}"}}}}], "cursor": {{}}}}"#
    ));
    let values = found.iter().map(|one| {
        let value = one
            .strip_prefix("{\"x\":")
            .and_then(|v| v.strip_suffix('}'));
        value.unwrap_or("-").to_string()
    });
    values.collect::<Vec<_>>().join(" ")
}

#[test]
fn what_can_be_reached_is_found_once_and_with_its_steps() {
    let reach = |more: &str| {
        format!(
            r#"{{"$match": {{"_id": 1}}}}, {{"$graphLookup": {{"from": "c", "startWith": "$next", "connectFromField": "next", "connectToField": "_id", "as": "r", "depthField": "steps" {more}}}}}, {{"$unwind": "$r"}}, {{"$sort": {{"r._id": 1}}}}"#
        )
    };
    // A ring is gone round once, and its beginning is reached.
    assert_eq!(at(&reach(""), "$r._id"), "1 2 3 4");
    assert_eq!(at(&reach(""), "$r.steps"), "2 0 0 1");
    assert_eq!(at(&reach(r#", "maxDepth": 0"#), "$r._id"), "2 3");
    assert_eq!(
        at(
            &reach(r#", "restrictSearchWithMatch": {"quay": "N"}"#),
            "$r._id"
        ),
        "1 2 4"
    );
}

#[test]
fn windows_see_the_neighbours_that_they_name() {
    let over = |output: &str| {
        format!(
            r#"{{"$setWindowFields": {{"partitionBy": "$quay", "sortBy": {{"on": 1}}, "output": {{"w": {output}}}}}}}"#
        )
    };
    // N: 4 – 10, then S: 1 null 4, by day.
    for (output, expected) in [
        (r#"{"$sum": "$n"}"#, "14 14 14 5 5 5"),
        (
            r#"{"$sum": "$n", "window": {"documents": ["unbounded", "current"]}}"#,
            "4 4 14 1 1 5",
        ),
        (
            r#"{"$sum": "$n", "window": {"documents": [-1, 0]}}"#,
            "4 4 10 1 1 4",
        ),
        (
            r#"{"$count": {}, "window": {"documents": [1, 9]}}"#,
            "2 1 0 2 1 0",
        ),
        (
            r#"{"$sum": "$n", "window": {"range": [-3, 0], "unit": "day"}}"#,
            "4 4 10 1 0 4",
        ),
        (r#"{"$documentNumber": {}}"#, "1 2 3 1 2 3"),
        (
            r#"{"$shift": {"output": "$_id", "by": -1, "default": 0}}"#,
            "0 1 2 0 3 5",
        ),
        (r#"{"$locf": "$n"}"#, "4 4 10 1 1 4"),
        (r#"{"$linearFill": "$n"}"#, "4 5.5 10 1 3.0 4"),
        (
            r#"{"$expMovingAvg": {"input": "$n", "alpha": 0.5}}"#,
            "4.0 4.0 7.0 1.0 1.0 2.5",
        ),
        (
            r#"{"$derivative": {"input": "$n", "unit": "day"}, "window": {"documents": ["unbounded", "unbounded"]}}"#,
            "1.5 1.5 1.5 0.5 0.5 0.5",
        ),
        (
            r#"{"$integral": {"input": "$n", "unit": "day"}, "window": {"documents": ["unbounded", "unbounded"]}}"#,
            "28.0 28.0 28.0 15.0 15.0 15.0",
        ),
        (
            r#"{"$covariancePop": ["$_id", "$n"]}"#,
            "4.5 4.5 4.5 2.25 2.25 2.25",
        ),
    ] {
        assert_eq!(at(&over(output), "$w"), expected, "{output}");
    }
    let ranked = |word: &str| {
        format!(
            r#"{{"$setWindowFields": {{"sortBy": {{"n": -1}}, "output": {{"w": {{"{word}": {{}}}}}}}}}}, {{"$sort": {{"_id": 1}}}}"#
        )
    };
    assert_eq!(at(&ranked("$rank"), "$w"), "2 5 4 1 5 2");
    assert_eq!(at(&ranked("$denseRank"), "$w"), "2 4 3 1 4 2");
}

#[test]
fn gaps_are_filled_and_missing_days_added() {
    let fill = |how: &str| {
        format!(
            r#"{{"$fill": {{"partitionBy": "$quay", "sortBy": {{"on": 1}}, "output": {{"n": {how}}}}}}}, {{"$sort": {{"_id": 1}}}}"#
        )
    };
    assert_eq!(at(&fill(r#"{"method": "locf"}"#), "$n"), "4 4 1 10 1 4");
    assert_eq!(at(&fill(r#"{"value": -1}"#), "$n"), "4 -1 1 10 -1 4");
    let dense = |bounds: &str| {
        format!(
            r#"{{"$densify": {{"field": "on", "partitionByFields": ["quay"], "range": {{"step": 1, "unit": "day", "bounds": {bounds}}}}}}}"#
        )
    };
    let days = |bounds: &str| {
        let stages = format!(
            r#"{}, {{"$group": {{"_id": "$quay", "n": {{"$sum": 1}}}}}}, {{"$sort": {{"_id": 1}}}}"#,
            dense(bounds)
        );
        at(&stages, "$n")
    };
    // From the first to the fifth, and from the second to the eighth; all from the first to the eighth.
    assert_eq!(days(r#""partition""#), "5 7");
    assert_eq!(days(r#""full""#), "7 8");
    assert_eq!(
        days(r#"[{"$date": "2031-03-02T00:00:00Z"}, {"$date": "2031-03-04T00:00:00Z"}]"#),
        "4 4"
    );
    assert_eq!(
        at(
            r#"{"$match": {"n": {"$in": [1, 4]}}}, {"$densify": {"field": "n", "range": {"step": 1, "bounds": "full"}}}"#,
            "$n"
        ),
        "1 2 3 4 4"
    );
}

#[test]
fn accumulators_of_an_order_and_parts_that_are_left_out() {
    let by = |accumulator: &str| {
        format!(
            r#"{{"$group": {{"_id": "$quay", "x": {accumulator}}}}}, {{"$sort": {{"_id": 1}}}}"#
        )
    };
    for (accumulator, expected) in [
        (
            r#"{"$top": {"sortBy": {"n": -1}, "output": "$_id"}}"#,
            "4 6",
        ),
        (
            r#"{"$bottom": {"sortBy": {"on": 1}, "output": ["$_id", "$n"]}}"#,
            "[4,10] [6,4]",
        ),
        (
            r#"{"$topN": {"n": 2, "sortBy": {"on": -1}, "output": "$_id"}}"#,
            "[4,2] [6,5]",
        ),
        (
            r#"{"$bottomN": {"n": 2, "sortBy": {"on": 1}, "output": "$_id"}}"#,
            "[2,4] [5,6]",
        ),
        (
            r#"{"$firstN": {"n": 2, "input": "$n"}}"#,
            "[4,null] [1,null]",
        ),
        (r#"{"$lastN": {"n": 1, "input": "$n"}}"#, "[10] [4]"),
        (r#"{"$maxN": {"n": 9, "input": "$n"}}"#, "[10,4] [4,1]"),
        (r#"{"$minN": {"n": 1, "input": "$n"}}"#, "[4] [1]"),
    ] {
        assert_eq!(at(&by(accumulator), "$x"), expected, "{accumulator}");
    }
    let mut place = Place::with(&[
        r#"{"_id": 1, "for": "all", "crew": {"for": "mate", "n": 3}, "log": [{"for": "all", "t": "x"}, {"for": "mate", "t": "y"}]}"#,
    ]);
    let seen = place.batch(
        r#"{"aggregate": "c", "pipeline": [{"$redact": {"$cond": [{"$eq": ["$for", "mate"]}, "$$PRUNE", "$$DESCEND"]}}], "cursor": {}}"#,
    );
    assert_eq!(
        seen,
        [r#"{"_id":1,"for":"all","log":[{"for":"all","t":"x"}]}"#]
    );
    for (stage, code) in [
        (r#"{"$changeStream": {}}"#, 40573),
        (r#"{"$geoNear": {}}"#, 40324),
        (r#"{"$indexStats": {}}"#, 40602),
        (r#"{"$redact": "other"}"#, 17053),
        (
            r#"{"$setWindowFields": {"output": {"x": {"$rank": {}}}}}"#,
            5_371_602,
        ),
    ] {
        let command = format!(
            r#"{{"aggregate": "c", "pipeline": [{{"$limit": 9}}, {stage}], "cursor": {{}}}}"#
        );
        assert_eq!(place.code(&command), code, "{stage}");
    }
}
