use super::*;
use crate::flow::parse;
use idle_tide_core::document::extended::{Form, text_of};
use idle_tide_core::document::time::TimeZone;

fn compiled(text: &str) -> String {
    let statement = parse(text, &TimeZone::UTC).whole().expect(text);
    let plan = compile(&statement).expect(text);
    plan.command.map_or("nothing".into(), |command| {
        text_of(&Datum::Object(command.document), Form::Relaxed)
    })
}

/// The stages of an aggregation, without what stands around them.
fn stages(text: &str) -> String {
    let whole = compiled(text);
    let inner = whole
        .strip_prefix(r#"{"aggregate":"landings","pipeline":["#)
        .and_then(|rest| rest.strip_suffix(r#"],"cursor":{}}"#));
    inner
        .unwrap_or_else(|| panic!("{text}: {whole}"))
        .to_string()
}

#[test]
fn stages_become_those_of_servers_and_neighbours_merge() {
    for (flow, expected) in [
        ("", ""),
        (
            "where port = 'B' where kg > 2 order by kg desc limit 10",
            r#"{"$match":{"port":"B","kg":{"$gt":2}}},{"$sort":{"kg":-1}},{"$limit":10}"#,
        ),
        ("limit 10 limit 5", r#"{"$limit":5}"#),
        ("offset 2 limit 5", r#"{"$skip":2},{"$limit":5}"#),
        ("without a.b, c", r#"{"$unset":["a.b","c"]}"#),
        (
            "unnest lines keeping empty",
            r#"{"$unwind":{"path":"$lines","preserveNullAndEmptyArrays":true}}"#,
        ),
        (
            "pick { number, vessel.name }",
            r#"{"$replaceWith":{"number":"$number","name":"$vessel.name"}}"#,
        ),
        (
            "group by port { n: count(), kg: sum(kg) } where n > 5",
            r#"{"$group":{"_id":{"k0":{"$ifNull":["$port",null]}},"a0":{"$sum":1},"a1":{"$sum":"$kg"}}},{"$replaceWith":{"port":"$_id.k0","n":"$a0","kg":"$a1"}},{"$match":{"n":{"$gt":5}}}"#,
        ),
        (
            "join surveys as s on call = s.call",
            r#"{"$lookup":{"from":"surveys","localField":"call","foreignField":"call","as":"s"}}"#,
        ),
        ("save over few", r#"{"$out":"few"}"#),
        (
            "save into few",
            r#"{"$merge":{"into":"few","on":"_id","whenMatched":"fail","whenNotMatched":"insert"}}"#,
        ),
        (
            "save into few by number",
            r#"{"$unset":"_id"},{"$merge":{"into":"few","on":"number","whenMatched":"replace","whenNotMatched":"insert"}}"#,
        ),
        (
            "raw [{ $sortByCount: '$port' }]",
            r#"{"$sortByCount":"$port"}"#,
        ),
        // What is computed here is not sent.
        (
            "where kg > 1 emit port => 1 limit 3",
            r#"{"$match":{"kg":{"$gt":1}}}"#,
        ),
    ] {
        let found = stages(&format!("from landings {flow}"));
        if flow.starts_with("join") {
            assert!(found.starts_with(expected), "{flow}: {found}");
        } else {
            assert_eq!(found, expected, "{flow}");
        }
    }
    assert_eq!(
        compiled("from landings where port = 'B' count"),
        r#"{"count":"landings","query":{"port":"B"}}"#
    );
}

#[test]
fn conditions_at_the_front_are_plain_so_that_indexes_serve() {
    for (condition, expected) in [
        ("a = 1", r#"{"a":1}"#),
        ("a <> 1", r#"{"a":{"$ne":1}}"#),
        ("a > 1 and b <= 'x'", r#"{"a":{"$gt":1},"b":{"$lte":"x"}}"#),
        ("a in (1, 2)", r#"{"a":{"$in":[1,2]}}"#),
        ("a not in (1, 2)", r#"{"a":{"$nin":[1,2]}}"#),
        (
            "not b like 'x%'",
            r#"{"$nor":[{"b":{"$regex":"^x","$options":"s"}}]}"#,
        ),
        ("a = 1 or b = 2", r#"{"$or":[{"a":1},{"b":2}]}"#),
        ("note is missing", r#"{"note":{"$exists":false}}"#),
        (
            "some lines (kg > 20 and grade = 'A')",
            r#"{"lines":{"$elemMatch":{"kg":{"$gt":20},"grade":"A"}}}"#,
        ),
        ("text = '$port'", r#"{"text":"$port"}"#),
    ] {
        let found = stages(&format!("from landings where {condition}"));
        assert_eq!(found, format!(r#"{{"$match":{expected}}}"#), "{condition}");
    }
    // Both ends of a range hold for one and the same element, and an index still serves.
    for ranged in [
        "n between 1 and 5",
        "landed = date '2031-03-01'",
        "landed between date '2031-03-01' and date '2031-03-31'",
        "a is null",
        "a is of number",
    ] {
        let found = stages(&format!("from landings where {ranged}"));
        assert!(!found.contains("$expr"), "{ranged}: {found}");
    }
    assert!(stages("from landings where upper(port) = 'B'").contains("$expr"));
}

#[test]
fn writes_and_definitions_are_the_commands_of_the_reference() {
    for (statement, expected) in [
        (
            "insert into c { a: 1 }",
            r#"{"insert":"c","documents":[{"a":1}]}"#,
        ),
        (
            "update c where a = 1 set b = 2 remove d",
            r#"{"update":"c","updates":[{"q":{"a":1},"u":{"$set":{"b":2},"$unset":{"d":""}},"multi":true}]}"#,
        ),
        (
            "update all c remove d",
            r#"{"update":"c","updates":[{"q":{},"u":{"$unset":{"d":""}},"multi":true}]}"#,
        ),
        (
            "update all c set l[1] = { k: -2 }, b = '$x'",
            r#"{"update":"c","updates":[{"q":{},"u":{"$set":{"l.1":{"k":-2},"b":"$x"}},"multi":true}]}"#,
        ),
        // Plain operators refuse these, or do something else with lists and scalars on the way.
        (
            "update all c set b = a remove d",
            r#"{"update":"c","updates":[{"q":{},"u":[{"$set":{"b":"$a"}},{"$unset":["d"]}],"multi":true}]}"#,
        ),
        (
            "update all c set l.k = 2",
            r#"{"update":"c","updates":[{"q":{},"u":[{"$set":{"l.k":2}}],"multi":true}]}"#,
        ),
        (
            "update all c set b = 2 remove b",
            r#"{"update":"c","updates":[{"q":{},"u":[{"$set":{"b":2}},{"$unset":["b"]}],"multi":true}]}"#,
        ),
        (
            "delete from c where a = 1",
            r#"{"delete":"c","deletes":[{"q":{"a":1},"limit":0}]}"#,
        ),
        (
            "delete all from c",
            r#"{"delete":"c","deletes":[{"q":{},"limit":0}]}"#,
        ),
        (
            "empty c",
            r#"{"delete":"c","deletes":[{"q":{},"limit":0}]}"#,
        ),
        ("create collection c", r#"{"create":"c"}"#),
        (
            "create unique index by_a on c (a, b desc)",
            r#"{"createIndexes":"c","indexes":[{"key":{"a":1,"b":-1},"name":"by_a","unique":true}]}"#,
        ),
        ("drop collection c", r#"{"drop":"c"}"#),
        (
            "drop index by_a on c",
            r#"{"dropIndexes":"c","index":"by_a"}"#,
        ),
        ("drop database x", r#"{"dropDatabase":1}"#),
        (
            "create user pilot with roles ['read'] password 'tide'",
            r#"{"createUser":"pilot","pwd":"tide","roles":["read"]}"#,
        ),
        (
            "change password of pilot to 'ebb'",
            r#"{"updateUser":"pilot","pwd":"ebb"}"#,
        ),
        ("drop user pilot", r#"{"dropUser":"pilot"}"#),
        ("call { ping: 1 }", r#"{"ping":1}"#),
        ("begin", "nothing"),
    ] {
        assert_eq!(compiled(statement), expected, "{statement}");
    }
}

#[test]
fn what_cannot_be_sent_is_refused_at_its_place() {
    for (text, place, words) in [
        ("from a where b = :x", ":x", "has no value"),
        ("call { ping: a.b }", "a.b", "data"),
        ("create user pilot", "", "no password"),
        ("insert into c { a: upper('x') }", "upper('x')", "data"),
    ] {
        let statement = parse(text, &TimeZone::UTC).whole().expect(text);
        let error = compile(&statement).expect_err(text);
        assert!(error.message.contains(words), "{text}: {error:?}");
        assert_eq!(&text[error.span.clone()], place, "{text}: {error:?}");
    }
}
