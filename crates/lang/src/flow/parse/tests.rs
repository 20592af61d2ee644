#![allow(clippy::too_many_lines)]

use super::*;
use crate::flow::ast::{AggregateFunction, Node, StageKind, Write};
use crate::flow::format;
use proptest::prelude::*;

fn whole(text: &str) -> Result<Statement> {
    parse(text, &TimeZone::UTC).whole()
}

/// Statements with every clause; each formats to one that formats to itself and means the same.
pub(crate) const STATEMENTS_OF_EVERY_KIND: &[&str] = &[
    "from landings\nwhere port = 'Brackwater' and lines.kg >= 20 and landed between date '2031-03-01' and date '2031-03-31'\nunnest lines\ngroup by species: lines.species { landings: count(), kg: sum(lines.kg), best: max(lines.price) }\nwhere kg >= 2500\norder by kg desc\nlimit 10;",
    "FROM watch.log WHERE `order by` is not null pick { _id, at, text: upper(events[0].text), 'x y': 1 } add { late: hour(at) >= 22 } without a.b, c",
    "from [{a: 1}, {\"a\": {\"$numberLong\": \"2\"}}] distinct a",
    "from {a: 1} count as n",
    "from result 7 where some findings (grade > 3 and plate is of text) offset 2 limit :n",
    "from a sample 5 unnest b.c as d keeping empty join vessels as v on vessel = v._id join one berths as w on w.code = berth",
    "from a band kg at (0, 10, 20.5) { n: count(), kinds: count(different kind) } band kg into 4",
    "from a emit port => {kg: kg, n: 1} fold t = {kg: 0, n: 0} then {kg: t.kg + value.kg, n: t.n + value.n} finish {mean: t.kg / t.n, of: key} save over means",
    "from a group { p: percentile(x, 0.9), s: stddev(x), l: list(x), d: different(x), f: first(x), z: last(x), a: avg(x), m: min(x) } save into b by k.l",
    "from a raw [{ $match: { port: 'x', n: :n } }, {\"$limit\": 3}]",
    "from a where case when x > 1 then true else y in (1, -2, decimal '0.10') end or not (a not like 'G%' and b not between 1 and 2) and c in :list or d not in [1] or e in f",
    "from a where x is missing and y is not of number and z = id '65f0a1b2c3d4e5f60718293a' or w = bytes '00ff' and -u * 2 - (v - 1) / 3 % 4 || 'x' = timestamp '2031-03-01T05:12:00Z'",
    "insert into landings { port: 'Brackwater', lines: [{kg: 1.5},], \"$odd\": null, }",
    "insert into landings [{a: 1}, {a: 2}]",
    "update landings where port = 'x' set port = upper(port), lines[0].kg = 2 remove a, b.c",
    "update all landings set a = 1",
    "update landings set a = 1 where b = 2",
    "delete from landings where kg < 0",
    "delete all from landings",
    "empty landings",
    "create collection a.b",
    "create unique index by_port on landings (port, landed desc)",
    "create index on landings (port)",
    "drop collection a",
    "drop database haven",
    "drop index by_port on landings",
    "rename collection a to b",
    "create user pilot with roles ['read', 'readWrite']",
    "create user mate password :?pin",
    "begin",
    "start transaction",
    "commit",
    "rollback",
    "change password of mate to :?pin",
    "change password",
    "change password of pilot",
    "drop user pilot",
    "call { ping: 1, n: :n }",
];

#[test]
fn every_clause_is_understood_and_formats_to_itself() {
    for text in STATEMENTS_OF_EVERY_KIND {
        let once = whole(text).unwrap_or_else(|error| panic!("{text}\n{error:?}"));
        let formatted = format(&once);
        let twice = whole(&formatted).unwrap_or_else(|error| panic!("{formatted}\n{error:?}"));
        assert_eq!(format(&twice), formatted);
        assert_eq!(
            without_places(&format!("{once:?}")),
            without_places(&format!("{twice:?}")),
            "{formatted}"
        );
    }
}

fn without_places(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find("span: ") {
        out.push_str(&rest[..at]);
        let tail = &rest[at + 6..];
        rest = &tail[tail.find([',', ' ', '}']).unwrap_or(tail.len())..];
    }
    out + rest
}

#[test]
fn precedence_is_that_of_sql() {
    let e = |text: &str| crate::flow::format_expr(&expression(text, &TimeZone::UTC).expect(text));
    assert_eq!(e("not a = 1 and b = 2 or c"), "not a = 1 and b = 2 or c");
    assert_eq!(e("(a or b) and c"), "(a or b) and c");
    assert_eq!(e("1 - (2 - 3) * -4"), "1 - (2 - 3) * -4");
    assert_eq!(e("not (a or b)"), "not (a or b)");
    assert_eq!(
        e("and = 1 and not.x = 2 and limit > 3"),
        "and = 1 and not.x = 2 and limit > 3"
    );
    assert_eq!(e("-9223372036854775808"), "-9223372036854775808");
}

#[test]
fn keywords_are_names_where_no_keyword_can_stand() {
    let Ok(Statement::Flow(flow)) = whole(
        "from limit where from = 1 and group.by < 2 order by count desc limit 3 pick { pick, where: order }",
    ) else {
        panic!("a flow");
    };
    assert_eq!(flow.stages.len(), 4);
    let Ok(Statement::Flow(flow)) =
        whole("from a group by b { count: count(different c), sum: sum(d) }")
    else {
        panic!("a flow");
    };
    let StageKind::Group(_, list) = &flow.stages[0].kind else {
        panic!("a group")
    };
    assert_eq!(list[0].function, AggregateFunction::CountDifferent);
}

#[test]
fn parameters_are_told_from_fields() {
    let mut statement =
        whole("from a pick { kg:total, n: :total, d: :z.a.b } where x in :list limit :n")
            .expect("understood");
    let names: Vec<String> = statement
        .parameters()
        .into_iter()
        .map(|(name, _)| name)
        .collect();
    assert_eq!(names, ["total", "z", "list", "n"]);
    let z = idle_tide_core::document! { "a": idle_tide_core::document! { "b": 5 } };
    statement.bind(&|name| (name == "z").then(|| z.clone().into()));
    assert!(format(&statement).contains("d: 5"));
    let hidden = whole("update a where b = :?pin set c = 1")
        .expect("understood")
        .parameters();
    assert_eq!(hidden, [("pin".to_string(), true)]);
}

#[test]
fn what_touches_everything_has_to_say_all() {
    for (text, words) in [
        ("update landings set a = 1", "update all landings"),
        ("delete from landings", "delete all from"),
        ("update all a where b = 1 set c = 2", "exclude"),
        ("update a where b = 1", "Set path"),
    ] {
        assert!(
            whole(text).expect_err(text).message.contains(words),
            "{text}"
        );
    }
    assert!(matches!(
        whole("delete all from a"),
        Ok(Statement::Write(Write::Delete {
            predicate: None,
            ..
        }))
    ));
}

/// A mistake, where it is, a word of what is said, and the first word that is offered.
#[test]
fn mistakes_say_where_what_and_the_nearest() {
    for (text, place, words, nearest) in [
        ("form landings", "form", "begins no statement", Some("from")),
        ("count landings", "count", "from landings count", None),
        (
            "insert into a {\"$date\": \"2031-03-01T00:00:00Z\"}",
            "{\"$date\": \"2031-03-01T00:00:00Z\"}",
            "Only objects",
            None,
        ),
        (
            "from landings wher a = 1",
            "wher",
            "begins no stage",
            Some("where"),
        ),
        (
            "from landings sort by a",
            "sort",
            "order by",
            Some("order by"),
        ),
        (
            "from landings where a = null",
            " = null",
            "is null",
            Some("is null"),
        ),
        (
            "from landings where a <> null",
            " <> null",
            "is not null",
            Some("is not null"),
        ),
        ("from landings where", "", "at the end", None),
        (
            "from landings where limit 10",
            "limit",
            "before limit",
            None,
        ),
        ("from landings where (a = 1", "(", "never closed", None),
        ("from landings where a = 'x", "'x", "quote", None),
        (
            "from landings where uper(a) = 'X'",
            "uper",
            "no function",
            Some("upper"),
        ),
        ("from landings where sum(a) > 1", "sum", "group", None),
        (
            "from landings where round() = 1",
            "round()",
            "round(number, places)",
            None,
        ),
        ("from landings group by a", "", "{ n: count() }", None),
        (
            "from landings group by year(a) { n: count() }",
            "year",
            "needs a name",
            None,
        ),
        (
            "from landings group by a { a: count() }",
            "a",
            "Two would come out",
            None,
        ),
        (
            "from landings pick { b, a.b }",
            "a.b",
            "Two would come out",
            None,
        ),
        ("from landings pick { a.b + 1 }", "+", "needs a name", None),
        (
            "from landings where a is of numbr",
            "numbr",
            "kind",
            Some("number"),
        ),
        (
            "from landings where a = date '2031-02-30'",
            "'2031-02-30'",
            "calendar",
            None,
        ),
        (
            "from landings where a = {$oid: 'x'}",
            "{$oid: 'x'}",
            "24 hexadecimal",
            None,
        ),
        (
            "from landings where a in (1, null)",
            "null",
            "is null",
            None,
        ),
        (
            "from landings join v as v on a = b",
            "a = b",
            "must begin with v",
            None,
        ),
        (
            "from landings where 99999999999999999999 = a",
            "99999999999999999999",
            "64 bits",
            None,
        ),
        (
            "from 'landings'",
            "'landings'",
            "not in quotes",
            Some("landings"),
        ),
        ("from landings; from b", "from", "ends before this", None),
        ("from landings where a = § 1", "§", "no meaning", None),
        (
            "from landings group { p: percentile(a, 95) }",
            "95",
            "0.95",
            None,
        ),
        (
            "from landings group by a { n: cont() }",
            "cont",
            "aggregate",
            Some("count"),
        ),
        ("insert into a 5", "5", "An object", None),
        (
            "insert into a { b: { c: 1, 'c': 2 } }",
            "'c'",
            "twice",
            None,
        ),
        ("from landings where 'x'", "'x'", "a text", None),
        (
            "update landings where a = 1 or date '2031-03-01' set b = 1",
            "date '2031-03-01'",
            "a date",
            None,
        ),
        ("delete from landings where not -5", "-5", "a number", None),
        ("from landings where some a (5)", "5", "a number", None),
        (
            "from landings where { a: 1 }",
            "{ a: 1 }",
            "an object",
            None,
        ),
        (
            "from landings pick { b: case when 1 then 2 end }",
            "1",
            "a number",
            None,
        ),
        ("from landings where a in 5", "5", "list", Some("(5)")),
        (
            "from landings fold t = 0 then t + 1",
            "fold t = 0 then t + 1",
            "emit",
            None,
        ),
        (
            "from landings emit a => b finish t",
            "finish t",
            "fold",
            None,
        ),
        (
            "from landings emit a => b fold t = 0 then t + c.d[0]",
            "c.d[0]",
            "only t, value and key",
            None,
        ),
        (
            "from landings emit a => b fold t = c then t",
            "c",
            "plain values",
            None,
        ),
        (
            "from landings emit a => b fold t = 0 then t finish u / 2",
            "u",
            "only t and key",
            None,
        ),
        ("call { }", "{ }", "first field", None),
        ("call ping", "ping", "first field", None),
        (
            "create table a (b int)",
            "create table a (b int)",
            "not SQL",
            None,
        ),
    ] {
        let error = whole(text).expect_err(text);
        let found = text.get(error.span.clone()).unwrap_or_default();
        assert!(error.message.contains(words), "{text}: {}", error.message);
        if words != "not SQL" {
            assert_eq!(found, place, "{text}: {}", error.message);
        }
        if let Some(nearest) = nearest {
            assert_eq!(
                error.nearest.first().map(String::as_str),
                Some(nearest),
                "{text}"
            );
        }
    }
    for text in ["(", "not ", "[", "-", "{a:", "case when "] {
        let deep = format!("from a where {}", text.repeat(5_000));
        assert!(!parse(&deep, &TimeZone::UTC).errors.is_empty(), "{text}");
    }
}

#[test]
fn what_means_something_is_not_taken_for_a_slip() {
    for text in [
        "from landings where true and not false",
        "from landings where paid or :flag",
        "from landings where a in tags and a in [1, 2] and a in (5)",
        "from landings emit a => b where key <> 'x' order by value fold t = { n: 0 } then { n: t.n + value.kg } finish t.n / key",
        "from landings emit a => b fold t = 0 then case when some value (kg > t) then t else key end where t > 1 add { u: t } finish u",
        "insert into a { b: { c: 1 }, d: [{ c: 1 }, { c: 2 }] }",
    ] {
        assert_eq!(parse(text, &TimeZone::UTC).errors, [], "{text}");
    }
}

#[test]
fn a_mistake_does_not_hide_the_other_stages() {
    let parsed = parse(
        "from landings where port = unnest lines group by {} order by kg",
        &TimeZone::UTC,
    );
    assert!(parsed.errors.len() >= 2);
    let Some(Statement::Flow(flow)) = parsed.statement else {
        panic!("a flow")
    };
    assert!(flow.stages.iter().any(|s| s.word() == "order by"));
}

#[test]
fn extended_json_stands_wherever_a_literal_may() {
    let e = expression("a = {\"$date\": \"2031-03-01T00:00:00Z\"} and b = {$numberDouble: 'NaN'} and c = {x: {$oid: '65f0a1b2c3d4e5f60718293a'}}", &TimeZone::UTC).expect("understood");
    let mut literals = 0;
    e.visit(&mut |e| literals += usize::from(matches!(e.node, Node::Literal(_))));
    assert_eq!(literals, 3);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]
    #[test]
    fn any_text_is_answered(text in "\\PC{0,60}|(from |where |group by |\\{|\\}|a|b\\.c|1|'x'|, |: |= |and |not |in |\\(|\\)|order by |desc |update |set |all |:p |date |some |case when |then |end |\\[|\\]){0,24}") {
        let parsed = parse(&text, &TimeZone::UTC);
        for error in &parsed.errors {
            prop_assert!(text.get(error.span.clone()).is_some());
        }
        let _ = expression(&text, &TimeZone::UTC);
        if let Ok(statement) = parsed.whole() {
            let formatted = format(&statement);
            let again = parse(&formatted, &TimeZone::UTC).whole();
            prop_assert!(again.is_ok(), "{text:?} became {formatted:?}: {again:?}");
            prop_assert_eq!(format(&again.expect("checked")), formatted);
        }
    }
}

/// A chain is as deep as it is long for whoever goes through it: it has a limit, said in words, and below that it
/// is gone through.
#[test]
fn chains_and_stages_have_limits() {
    let zone = TimeZone::UTC;
    let chain = |count: usize| format!("from t where a = 1{}", " and a = 1".repeat(count));
    let parsed = crate::flow::parse(&chain(240), &zone)
        .whole()
        .expect("understood");
    let text = crate::flow::format(&parsed);
    assert!(crate::flow::parse(&text, &zone).whole().is_ok());
    let error = crate::flow::parse(&chain(5_000), &zone)
        .whole()
        .expect_err("too long");
    assert!(
        error.message.contains("more than 500 operators"),
        "{}",
        error.message
    );
    let stages = |count: usize| format!("from t{}", " limit 1".repeat(count));
    assert!(crate::flow::parse(&stages(1_000), &zone).whole().is_ok());
    let error = crate::flow::parse(&stages(10_000), &zone)
        .whole()
        .expect_err("too many");
    assert!(
        error.message.contains("at most 1 000 stages"),
        "{}",
        error.message
    );
}
