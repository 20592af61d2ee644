//! Expressions.

use proptest::prelude::*;

use super::*;

#[test]
fn expressions_come_to_what_the_reference_says() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "n": 7, "t": " Grey Heron ", "l": [3, 1, 2], "d": {"$date": "2031-03-09T13:45:06.789Z"}, "o": {"a": 1}}"#,
    ]);
    for (expression, expected) in [
        (r#"{"$divide": ["$n", 2]}"#, "3.5"),
        (r#"{"$mod": [{"$multiply": ["$n", -1]}, 4]}"#, "-3"),
        (
            r#"{"$cond": {"if": {"$gt": ["$n", 5]}, "then": "much", "else": "little"}}"#,
            r#""much""#,
        ),
        (
            r#"{"$switch": {"branches": [{"case": {"$eq": ["$n", 1]}, "then": "one"}], "default": "other"}}"#,
            r#""other""#,
        ),
        (
            r#"{"$map": {"input": "$l", "as": "x", "in": {"$add": ["$$x", 1]}}}"#,
            "[4,2,3]",
        ),
        (
            r#"{"$filter": {"input": "$l", "cond": {"$gte": ["$$this", 2]}}}"#,
            "[3,2]",
        ),
        (
            r#"{"$reduce": {"input": "$l", "initialValue": 0, "in": {"$add": ["$$value", "$$this"]}}}"#,
            "6",
        ),
        (r#"{"$slice": ["$l", -2]}"#, "[1,2]"),
        (r#"{"$arrayElemAt": ["$l", -1]}"#, "2"),
        (r#"{"$concatArrays": ["$l", [9]]}"#, "[3,1,2,9]"),
        (
            r#"{"$sortArray": {"input": "$l", "sortBy": -1}}"#,
            "[3,2,1]",
        ),
        (r#"{"$trim": {"input": "$t"}}"#, r#""Grey Heron""#),
        (r#"{"$toUpper": {"$substrCP": ["$t", 1, 4]}}"#, r#""GREY""#),
        (
            r#"{"$split": [{"$trim": {"input": "$t"}}, " "]}"#,
            r#"["Grey","Heron"]"#,
        ),
        (r#"{"$indexOfCP": ["$t", "Heron"]}"#, "6"),
        (
            r#"{"$regexMatch": {"input": "$t", "regex": "grey", "options": "i"}}"#,
            "true",
        ),
        (
            r#"{"$replaceAll": {"input": "$t", "find": " ", "replacement": ""}}"#,
            r#""GreyHeron""#,
        ),
        (
            r#"{"$dateToString": {"date": "$d", "format": "%Y-%m-%d %H:%M"}}"#,
            r#""2031-03-09 13:45""#,
        ),
        (
            r#"{"$dateTrunc": {"date": "$d", "unit": "hour"}}"#,
            r#"{"$date":"2031-03-09T13:00:00Z"}"#,
        ),
        (r#"{"$dayOfWeek": "$d"}"#, "1"),
        (r#"{"$isoDayOfWeek": "$d"}"#, "7"),
        (r#"{"$millisecond": "$d"}"#, "789"),
        (
            r#"{"$subtract": ["$d", {"$toDate": "2031-03-09T13:45:06Z"}]}"#,
            "789",
        ),
        (r#"{"$toInt": "12"}"#, "12"),
        (r#"{"$toDecimal": "0.10"}"#, r#"{"$numberDecimal":"0.10"}"#),
        (
            r#"{"$convert": {"input": "x", "to": "int", "onError": -1}}"#,
            "-1",
        ),
        (r#"{"$type": "$missing"}"#, r#""missing""#),
        (r#"{"$ifNull": ["$missing", null, "there"]}"#, r#""there""#),
        (r#"{"$objectToArray": "$o"}"#, r#"[{"k":"a","v":1}]"#),
        (r#"{"$mergeObjects": ["$o", {"b": 2}]}"#, r#"{"a":1,"b":2}"#),
        (
            r#"{"$let": {"vars": {"x": 4}, "in": {"$multiply": ["$$x", "$n"]}}}"#,
            "28",
        ),
        (r#"{"$round": [2.5, 0]}"#, "2.0"),
        (r#"{"$trunc": [-2.57, 1]}"#, "-2.5"),
        (r#"{"$cmp": ["$n", "x"]}"#, "-1"),
        (r#"{"$in": [2, "$l"]}"#, "true"),
        (r#"{"$allElementsTrue": [[true, 1, 0]]}"#, "false"),
        (r#"{"$add": ["$n", null]}"#, "null"),
        (r#"{"$literal": {"$add": [1]}}"#, r#"{"$add":[1]}"#),
    ] {
        assert_eq!(place.value(expression), expected, "{expression}");
    }
    for (expression, code) in [
        (r#"{"$divide": ["$n", 0]}"#, 2),
        (r#"{"$toInt": "x"}"#, 241),
        (r#"{"$nothing": 1}"#, 168),
        (r#"{"$size": "$n"}"#, 17124),
    ] {
        assert_eq!(place.code(&computing(expression)), code, "{expression}");
    }
}

#[test]
fn lists_sets_bits_and_angles() {
    let mut place =
        Place::with(&[r#"{"_id": 1, "l": [3, 1, 2, null, 3], "o": {"a.b": 1, "$c": 2}}"#]);
    for (expression, expected) in [
        (r#"{"$reverseArray": "$l"}"#, "[3,null,2,1,3]"),
        (r#"{"$firstN": {"n": 2, "input": "$l"}}"#, "[3,1]"),
        (r#"{"$lastN": {"n": 2, "input": "$l"}}"#, "[null,3]"),
        (r#"{"$minN": {"n": 2, "input": "$l"}}"#, "[1,2]"),
        (r#"{"$maxN": {"n": 9, "input": "$l"}}"#, "[3,3,2,1]"),
        (r#"{"$range": [0, 10, 4]}"#, "[0,4,8]"),
        (r#"{"$range": [3, 0, -1]}"#, "[3,2,1]"),
        (r#"{"$range": [5, 0]}"#, "[]"),
        (r#"{"$indexOfArray": ["$l", 3]}"#, "0"),
        (r#"{"$indexOfArray": ["$l", 3, 1]}"#, "4"),
        (r#"{"$indexOfArray": ["$l", 3, 1, 4]}"#, "-1"),
        (r#"{"$zip": {"inputs": [[1, 2], ["a"]]}}"#, r#"[[1,"a"]]"#),
        (
            r#"{"$zip": {"inputs": [[1, 2], ["a"]], "useLongestLength": true, "defaults": [0, "z"]}}"#,
            r#"[[1,"a"],[2,"z"]]"#,
        ),
        (
            r#"{"$arrayToObject": [[["k", 1], ["k", 2], ["j", 3]]]}"#,
            r#"{"k":2,"j":3}"#,
        ),
        (
            r#"{"$arrayToObject": {"$objectToArray": "$o"}}"#,
            r#"{"a.b":1,"$c":2}"#,
        ),
        (r#"{"$setUnion": ["$l", [9, 1]]}"#, "[null,1,2,3,9]"),
        (r#"{"$setIntersection": ["$l", [3, 9, 2]]}"#, "[2,3]"),
        (r#"{"$setDifference": ["$l", [1]]}"#, "[3,2,null]"),
        (r#"{"$setIsSubset": [[3, 3, 1], "$l"]}"#, "true"),
        (r#"{"$setEquals": [[1, 2], [2, 1, 2]]}"#, "true"),
        (r#"{"$setEquals": [[1], [1, 2]]}"#, "false"),
        (r#"{"$bitAnd": [6, 3]}"#, "2"),
        (
            r#"{"$bitOr": [6, {"$numberLong": "4294967296"}]}"#,
            "4294967302",
        ),
        (r#"{"$bitXor": [6, 3]}"#, "5"),
        (r#"{"$bitNot": 0}"#, "-1"),
        (r#"{"$bitAnd": [1, null]}"#, "null"),
        (r#"{"$log": [8, 2]}"#, "3.0"),
        (r#"{"$sin": 0}"#, "0.0"),
        (r#"{"$cos": 0}"#, "1.0"),
        (
            r#"{"$round": [{"$radiansToDegrees": {"$atan2": [1, 1]}}, 6]}"#,
            "45.0",
        ),
        (r#"{"$round": [{"$degreesToRadians": 180}, 4]}"#, "3.1416"),
        (r#"{"$acosh": 1}"#, "0.0"),
        (
            r#"{"$getField": {"field": {"$literal": "$c"}, "input": "$o"}}"#,
            "2",
        ),
        (
            r#"{"$setField": {"field": "a.b", "input": "$o", "value": 7}}"#,
            r#"{"a.b":7,"$c":2}"#,
        ),
        (
            r#"{"$unsetField": {"field": {"$literal": "$c"}, "input": "$o"}}"#,
            r#"{"a.b":1}"#,
        ),
        (r#"{"$bsonSize": {"$literal": {}}}"#, "5"),
        (r#"{"$binarySize": "lée"}"#, "4"),
        (
            r#"{"$sum": {"$map": {"input": {"$range": [0, 100]}, "in": {"$multiply": ["$$this", 2]}}}}"#,
            "9900",
        ),
    ] {
        assert_eq!(place.value(expression), expected, "{expression}");
    }
    for (expression, code) in [
        (r#"{"$range": [0, 1, 0]}"#, 34449),
        (r#"{"$bitAnd": [1.5]}"#, 14),
        (r#"{"$acos": 2}"#, 50989),
        (r#"{"$log": [1, 1]}"#, 28759),
        (r#"{"$setIsSubset": [[1], null]}"#, 17046),
        (r#"{"$setUnion": [[1], 2]}"#, 17048),
        (r#"{"$arrayToObject": [[1]]}"#, 40398),
        (r#"{"$firstN": {"n": 0, "input": [1]}}"#, 5_787_902),
        (
            r#"{"$function": {"body": "f", "args": [], "lang": "js"}}"#,
            168,
        ),
    ] {
        assert_eq!(place.code(&computing(expression)), code, "{expression}");
    }
}

#[test]
fn texts_by_bytes_and_by_patterns() {
    let mut place = Place::with(&[r#"{"_id": 1, "t": "Möwe, Reiher, möwe"}"#]);
    for (expression, expected) in [
        (r#"{"$strLenCP": "$t"}"#, "18"),
        (r#"{"$strLenBytes": "$t"}"#, "20"),
        (r#"{"$indexOfCP": ["$t", "we", 4]}"#, "16"),
        (r#"{"$indexOfBytes": ["$t", "we"]}"#, "3"),
        (r#"{"$indexOfCP": ["$t", "we", 4, 9]}"#, "-1"),
        (r#"{"$substrBytes": ["$t", 0, 3]}"#, r#""Mö""#),
        (r#"{"$substr": ["$t", 7, -1]}"#, r#""Reiher, möwe""#),
        (r#"{"$substrBytes": ["$t", 99, 1]}"#, r#""""#),
        (r#"{"$strcasecmp": ["quay", "QUAY"]}"#, "0"),
        (r#"{"$strcasecmp": ["a", "B"]}"#, "-1"),
        (
            r#"{"$regexFind": {"input": "$t", "regex": "(R)(x)?e"}}"#,
            r#"{"match":"Re","idx":6,"captures":["R",null]}"#,
        ),
        (
            r#"{"$regexFindAll": {"input": "$t", "regex": "m.we", "options": "i"}}"#,
            r#"[{"match":"Möwe","idx":0,"captures":[]},{"match":"möwe","idx":14,"captures":[]}]"#,
        ),
        (
            r#"{"$regexFind": {"input": "$t", "regex": "gull"}}"#,
            "null",
        ),
    ] {
        assert_eq!(place.value(expression), expected, "{expression}");
    }
    assert_eq!(
        place.code(&computing(r#"{"$substrBytes": ["$t", 0, 2]}"#)),
        28656
    );
    assert_eq!(
        place.code(&computing(r#"{"$substrBytes": ["$t", -1, 2]}"#)),
        50752
    );
}

#[test]
fn dates_go_by_the_calendar_and_the_clock_of_their_zone() {
    let mut place = Place::with(&[
        r#"{"_id": 1, "d": {"$date": "2031-03-30T00:30:00Z"}, "e": {"$date": "2031-01-31T12:00:00Z"}, "ts": {"$timestamp": {"t": 7, "i": 3}}}"#,
    ]);
    for (expression, expected) in [
        // Where the clock goes forward that night from two to three.
        (
            r#"{"$hour": {"date": "$d", "timezone": "Europe/Berlin"}}"#,
            "1",
        ),
        (
            r#"{"$dateToString": {"date": {"$dateAdd": {"startDate": "$d", "unit": "hour", "amount": 1}}, "format": "%H:%M %z", "timezone": "Europe/Berlin"}}"#,
            r#""03:30 +0200""#,
        ),
        (
            r#"{"$dateAdd": {"startDate": "$d", "unit": "day", "amount": 1, "timezone": "Europe/Berlin"}}"#,
            r#"{"$date":"2031-03-30T23:30:00Z"}"#,
        ),
        (
            r#"{"$dateTrunc": {"date": "$d", "unit": "day", "timezone": "Europe/Berlin"}}"#,
            r#"{"$date":"2031-03-29T23:00:00Z"}"#,
        ),
        // The last of a shorter month.
        (
            r#"{"$dateAdd": {"startDate": "$e", "unit": "month", "amount": 1}}"#,
            r#"{"$date":"2031-02-28T12:00:00Z"}"#,
        ),
        (
            r#"{"$dateSubtract": {"startDate": "$e", "unit": "quarter", "amount": 1}}"#,
            r#"{"$date":"2030-10-31T12:00:00Z"}"#,
        ),
        (
            r#"{"$dateDiff": {"startDate": "$e", "endDate": "$d", "unit": "month"}}"#,
            "2",
        ),
        (
            r#"{"$dateDiff": {"startDate": "$e", "endDate": "$d", "unit": "day"}}"#,
            "58",
        ),
        (
            r#"{"$dateDiff": {"startDate": "$d", "endDate": "$e", "unit": "week"}}"#,
            "-9",
        ),
        (
            r#"{"$dateDiff": {"startDate": "$e", "endDate": "$d", "unit": "week", "startOfWeek": "monday"}}"#,
            "8",
        ),
        (
            r#"{"$dateFromParts": {"year": 2031, "month": 14, "day": 0}}"#,
            r#"{"$date":"2032-01-31T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateFromParts": {"isoWeekYear": 2031, "isoWeek": 1, "isoDayOfWeek": 1, "hour": 2, "timezone": "+02:00"}}"#,
            r#"{"$date":"2030-12-30T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateToParts": {"date": "$e", "timezone": "-0530"}}"#,
            r#"{"year":2031,"month":1,"day":31,"hour":6,"minute":30,"second":0,"millisecond":0}"#,
        ),
        (r#"{"$isoWeek": "$e"}"#, "5"),
        (
            r#"{"$isoWeekYear": {"$dateFromParts": {"year": 2027, "month": 1, "day": 1}}}"#,
            "2026",
        ),
        (r#"{"$week": "$e"}"#, "4"),
        (
            r#"{"$dateTrunc": {"date": "$e", "unit": "week"}}"#,
            r#"{"$date":"2031-01-26T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateTrunc": {"date": "$e", "unit": "week", "startOfWeek": "fri"}}"#,
            r#"{"$date":"2031-01-31T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateTrunc": {"date": "$e", "unit": "month", "binSize": 5}}"#,
            r#"{"$date":"2030-11-01T00:00:00Z"}"#,
        ),
        (
            r#"{"$dateTrunc": {"date": "$d", "unit": "minute", "binSize": 20}}"#,
            r#"{"$date":"2031-03-30T00:20:00Z"}"#,
        ),
        (
            r#"{"$dateToString": {"date": "$e", "format": "%j %u %w %U %V %G %b %L %%"}}"#,
            r#""031 5 6 04 05 2031 Jan 000 %""#,
        ),
        (
            r#"{"$dateFromString": {"dateString": "31.01.2031 06:30", "format": "%d.%m.%Y %H:%M", "timezone": "-05:30"}}"#,
            r#"{"$date":"2031-01-31T12:00:00Z"}"#,
        ),
        (r#"{"$tsSecond": "$ts"}"#, "7"),
        (r#"{"$tsIncrement": "$ts"}"#, "3"),
        (r#"{"$year": {"date": "$d", "timezone": null}}"#, "null"),
    ] {
        assert_eq!(place.value(expression), expected, "{expression}");
    }
    for (expression, code) in [
        (
            r#"{"$hour": {"date": "$d", "timezone": "Nowhere/Haven"}}"#,
            40485,
        ),
        (r#"{"$hour": {"date": "$d", "timezone": "+123"}}"#, 40485),
        (
            r#"{"$dateAdd": {"startDate": "$d", "unit": "tide", "amount": 1}}"#,
            9,
        ),
        (r#"{"$dateFromParts": {"month": 1}}"#, 40516),
        (r#"{"$dateFromParts": {"year": 10000}}"#, 40523),
        (
            r#"{"$dateAdd": {"startDate": "$d", "unit": "year", "amount": 90000}}"#,
            5_166_406,
        ),
        (
            r#"{"$dateToString": {"date": "$d", "format": "%Q"}}"#,
            18536,
        ),
    ] {
        assert_eq!(place.code(&computing(expression)), code, "{expression}");
    }
}

/// What the public reference lists, each with an argument that it does not take: none is unknown.
#[test]
fn every_expression_of_the_reference_is_known() {
    let all = "abs acos acosh add addToSet? allElementsTrue and anyElementTrue arrayElemAt arrayToObject asin asinh atan atan2 atanh avg
        binarySize bitAnd bitNot bitOr bitXor bsonSize ceil cmp concat concatArrays cond convert cos cosh dateAdd dateDiff
        dateFromParts dateFromString dateSubtract dateToParts dateToString dateTrunc dayOfMonth dayOfWeek dayOfYear degreesToRadians
        divide eq exp filter first firstN floor getField gt gte hour ifNull in indexOfArray indexOfBytes indexOfCP isArray isNumber
        isoDayOfWeek isoWeek isoWeekYear last lastN let literal ln log log10 lt lte ltrim map max maxN mergeObjects millisecond min
        minN minute mod month multiply ne not objectToArray or pow radiansToDegrees rand range reduce regexFind regexFindAll
        regexMatch replaceAll replaceOne reverseArray round rtrim second setDifference setEquals setField setIntersection
        setIsSubset setUnion sin sinh size slice sortArray split sqrt stdDevPop stdDevSamp strcasecmp strLenBytes strLenCP substr
        substrBytes substrCP subtract sum switch tan tanh toBool toDate toDecimal toDouble toInt toLong toLower toObjectId toString
        toUpper trim trunc tsIncrement tsSecond type unsetField week year zip";
    let mut place = Place::with(&[r#"{"_id": 1}"#]);
    for name in all.split_whitespace().filter(|name| !name.ends_with('?')) {
        let reply = place.answer(&computing(&format!(
            r#"{{"${name}": [null, null, null, null, null]}}"#
        )));
        let code = reply.get("code").and_then(Datum::as_i64);
        assert_ne!(code, Some(168), "${name}: {reply:?}");
    }
    assert_eq!(place.code(&computing(r#"{"$tide": 1}"#)), 168);
}

proptest! {
    /// What a date is taken apart into makes it again, in every zone but in the hour that comes twice; and what is added is the difference.
    #[test]
    fn dates_are_put_together_again(ms in -60_000_000_000_000_i64..230_000_000_000_000, zone in prop::sample::select(vec!["UTC", "+05:45", "-0930"]), unit in prop::sample::select(vec!["year", "month", "week", "day", "hour", "second"]), n in -200_i64..200) {
        let mut place = Place::with(&[&format!(r#"{{"_id": 1, "d": {{"$date": {{"$numberLong": "{ms}"}}}}}}"#)]);
        for iso in [false, true] {
            let names = if iso { ["isoWeekYear", "isoWeek", "isoDayOfWeek"] } else { ["year", "month", "day"] };
            let fields: Vec<String> = names.iter().chain(&["hour", "minute", "second", "millisecond"])
                .map(|name| format!(r#""{name}": "$$p.{name}""#)).collect();
            let again = format!(
                r#"{{"$eq": ["$d", {{"$let": {{"vars": {{"p": {{"$dateToParts": {{"date": "$d", "timezone": "{zone}", "iso8601": {iso}}}}}}}, "in": {{"$dateFromParts": {{{}, "timezone": "{zone}"}}}}}}}}]}}"#,
                fields.join(", ")
            );
            prop_assert_eq!(place.value(&again), "true");
        }
        let difference = format!(
            r#"{{"$dateDiff": {{"startDate": "$d", "endDate": {{"$dateAdd": {{"startDate": "$d", "unit": "{unit}", "amount": {n}, "timezone": "{zone}"}}}}, "unit": "{unit}", "timezone": "{zone}"}}}}"#
        );
        prop_assert_eq!(place.value(&difference), n.to_string());
        // A bin begins at or before what is in it, and begins itself.
        let begun = format!(r#"{{"$dateTrunc": {{"date": "$d", "unit": "{unit}", "timezone": "{zone}"}}}}"#);
        let whole = format!(
            r#"{{"$let": {{"vars": {{"b": {begun}}}, "in": {{"$and": [{{"$lte": ["$$b", "$d"]}}, {{"$eq": ["$$b", {{"$dateTrunc": {{"date": "$$b", "unit": "{unit}", "timezone": "{zone}"}}}}]}}, {{"$eq": [{{"$dateDiff": {{"startDate": "$$b", "endDate": "$d", "unit": "{unit}", "timezone": "{zone}"}}}}, 0]}}]}}}}}}"#
        );
        prop_assert_eq!(place.value(&whole), "true");
    }
}
