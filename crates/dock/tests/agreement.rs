//! A flow means the same in our evaluator and, compiled, on a server: a table of answers worked out by hand, run both ways, and generated
//! flows over generated documents.

use std::borrow::Cow;
use std::sync::Arc;

use idle_tide_core::document::compare::order;
use idle_tide_core::document::extended::{Form, read, text_of};
use idle_tide_core::document::time::TimeZone;
use idle_tide_core::document::{Datum, Document};
use idle_tide_dock::flow::{Chain, Context, FlowError, Limits, Places};
use idle_tide_dock::server::{Conversation, Server, Settings, Store};
use idle_tide_lang::flow::ast::{Path, Source, Statement};
use idle_tide_lang::flow::compile::{Answer, compile};
use idle_tide_lang::flow::parse;
use proptest::prelude::*;

/// Collections by name, for both sides.
type All<'a> = &'a [(&'a str, Vec<Document>)];

struct Given<'a>(All<'a>);

impl Places for Given<'_> {
    fn read(
        &mut self,
        collection: &str,
        take: &mut dyn FnMut(Document) -> Result<bool, FlowError>,
    ) -> Result<(), String> {
        let found = self.0.iter().find(|(name, _)| *name == collection);
        for document in found.map_or(&[][..], |(_, d)| d) {
            take(document.clone()).map_err(|e| e.message)?;
        }
        Ok(())
    }
    fn save(&mut self, _: &str, _: Vec<Document>, _: Option<&Path>, _: bool) -> Result<(), String> {
        Err("nothing is saved here".into())
    }
    fn raw(&mut self, _: &[Datum], _: Vec<Document>) -> Result<Vec<Document>, String> {
        Err("no server".into())
    }
}

fn statement(text: &str) -> Statement {
    parse(text, &TimeZone::UTC)
        .whole()
        .unwrap_or_else(|error| panic!("{text}\n{error:?}"))
}

/// What our evaluator gives; nothing if it fails.
fn here(text: &str, all: All<'_>) -> Option<Vec<Document>> {
    let Statement::Flow(flow) = statement(text) else {
        panic!("a flow")
    };
    let Source::Collection(name) = &flow.source else {
        panic!("a collection")
    };
    let context = Context {
        now: 1_930_000_000_000,
        ..Context::default()
    };
    let mut given = Given(all);
    let mut chain = Chain::new(&flow.stages, &context, Limits::default(), &mut given).ok()?;
    let mut out = Vec::new();
    let mut sink = |d: Cow<'_, Document>| {
        out.push(d.into_owned());
        Ok(true)
    };
    let documents = all
        .iter()
        .find(|(n, _)| *n == name.name)
        .map_or(&[][..], |(_, d)| d);
    for document in documents {
        if !chain.take(Cow::Borrowed(document), &mut sink).ok()? {
            break;
        }
    }
    chain.end(&mut sink, &mut given).ok()?;
    Some(out)
}

/// What the practice server gives for the compiled form; nothing if it fails.
fn there(text: &str, all: All<'_>) -> Result<Vec<Document>, String> {
    let mut store = Store::default();
    for (name, documents) in all {
        store
            .fill("haven", name, documents.clone())
            .expect("filled");
    }
    let server = Server::new(store, Settings::default());
    let mut connection = Conversation::new(Arc::clone(&server));
    let plan = compile(&statement(text)).map_err(|e| e.message)?;
    let command = plan.command.expect("a command");
    let mut reply = connection
        .answer("haven", &command.document)
        .expect("an answer");
    let failed = |reply: &Document| {
        reply
            .get("errmsg")
            .map(|words| text_of(words, Form::Relaxed))
    };
    if let Some(words) = failed(&reply) {
        return Err(words);
    }
    let mut out = Vec::new();
    if let Answer::Count(name) = &command.answer {
        return Ok(vec![
            Document::new().with(name, reply.get("n").cloned().expect("a count")),
        ]);
    }
    loop {
        let cursor = reply
            .get("cursor")
            .and_then(Datum::as_object)
            .expect("a cursor")
            .clone();
        let batch = cursor
            .get("firstBatch")
            .or_else(|| cursor.get("nextBatch"))
            .and_then(Datum::as_list)
            .expect("a batch");
        out.extend(batch.iter().filter_map(Datum::as_object).cloned());
        let id = cursor.get("id").cloned().expect("an id");
        if id == Datum::Long(0) {
            break;
        }
        let name = command.document.fields[0].1.clone();
        reply = connection
            .answer(
                "haven",
                &Document::new().with("getMore", id).with("collection", name),
            )
            .expect("an answer");
        if let Some(words) = failed(&reply) {
            return Err(words);
        }
    }
    if out.is_empty() {
        out.extend(plan.when_empty);
    }
    // What is computed after the server's part.
    if !plan.here.is_empty() {
        let mut given = Given(all);
        let mut chain = Chain::new(
            &plan.here,
            &Context::default(),
            Limits::default(),
            &mut given,
        )
        .map_err(|e| e.message)?;
        let mut rest = Vec::new();
        let mut sink = |d: Cow<'_, Document>| {
            rest.push(d.into_owned());
            Ok(true)
        };
        for document in out {
            chain
                .take(Cow::Owned(document), &mut sink)
                .map_err(|e| e.message)?;
        }
        chain.end(&mut sink, &mut given).map_err(|e| e.message)?;
        return Ok(rest);
    }
    Ok(out)
}

fn same(a: &[Document], b: &[Document]) -> bool {
    let equal = |a: &Document, b: &Document| order(&a.clone().into(), &b.clone().into()).is_eq();
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| equal(a, b))
}

fn shown(list: &[Document]) -> String {
    let texts: Vec<String> = list
        .iter()
        .map(|d| text_of(&d.clone().into(), Form::Relaxed))
        .collect();
    format!("[{}]", texts.join(","))
}

fn documents(json: &str) -> Vec<Document> {
    let Ok(Datum::List(list)) = read(json) else {
        panic!("{json}")
    };
    list.into_iter()
        .map(|d| d.as_object().cloned().expect("an object"))
        .collect()
}

/// Documents, a flow over `c`, and what comes out, worked out by hand.
const BY_HAND: &[(&str, &str, &str)] = &[
    // Logic has two values: null and what is not there compare with nothing, and not turns that over.
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":null},{"_id":3}]"#,
        "where a = 1 pick {_id}",
        r#"[{"_id":1}]"#,
    ),
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":null},{"_id":3}]"#,
        "where a <> 1 pick {_id}",
        r#"[{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":null},{"_id":3}]"#,
        "where not a = 2 pick {_id}",
        r#"[{"_id":1},{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":null},{"_id":3}]"#,
        "where a not in (1, 2) pick {_id}",
        r#"[{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":null},{"_id":3}]"#,
        "where a is null pick {_id}",
        r#"[{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":null},{"_id":3}]"#,
        "where a is missing pick {_id}",
        r#"[{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"a":[null]},{"_id":2,"a":[]}]"#,
        "where a is null pick {_id}",
        "[]",
    ),
    // Kinds: numbers are one, others never mix.
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":1.0},{"_id":3,"a":{"$numberDecimal":"1.00"}},{"_id":4,"a":"1"}]"#,
        "where a = 1 pick {_id}",
        r#"[{"_id":1},{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"a":"2"},{"_id":2,"a":2},{"_id":3,"a":true},{"_id":4,"a":{"$date":"2031-01-01T00:00:00Z"}}]"#,
        "where a > 1 pick {_id}",
        r#"[{"_id":2}]"#,
    ),
    (
        r#"[{"_id":1,"a":{"$numberDouble":"NaN"}},{"_id":2,"a":-5}]"#,
        "where a < 1 pick {_id}",
        r#"[{"_id":2}]"#,
    ),
    (
        r#"[{"_id":1,"a":-0.0},{"_id":2,"a":0}]"#,
        "where a = 0 pick {_id}",
        r#"[{"_id":1},{"_id":2}]"#,
    ),
    (
        r#"[{"_id":1,"a":[1]},{"_id":2,"a":{"x":1}},{"_id":3,"a":"t"},{"_id":4,"a":null},{"_id":5},{"_id":6,"a":3},{"_id":7,"a":false}]"#,
        "order by a, _id pick {_id}",
        r#"[{"_id":4},{"_id":5},{"_id":1},{"_id":6},{"_id":3},{"_id":2},{"_id":7}]"#,
    ),
    (
        "[{\"_id\":1,\"a\":7,\"b\":2},{\"_id\":2,\"a\":7,\"b\":0},{\"_id\":3,\"a\":\"x\",\"b\":1}]",
        "pick {q: a / b, s: a + b}",
        r#"[{"q":3.5,"s":9},{"q":null,"s":7},{"q":null,"s":null}]"#,
    ),
    // Lists: a comparison holds if one element fits; both limits of a range on the same one.
    (
        r#"[{"_id":1,"a":[1,9]},{"_id":2,"a":[4]},{"_id":3,"a":5},{"_id":4,"a":[]}]"#,
        "where a between 3 and 6 pick {_id}",
        r#"[{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"l":[{"k":1},{"k":9}]},{"_id":2,"l":[{"k":4}]},{"_id":3,"l":{"k":5}}]"#,
        "where l.k between 3 and 6 pick {_id}",
        r#"[{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"l":[{"k":1},{"k":9}]},{"_id":2,"l":[]}]"#,
        "pick {_id, l.k}",
        r#"[{"_id":1,"k":[1,9]},{"_id":2,"k":[]}]"#,
    ),
    (
        r#"[{"_id":1,"l":[{"s":"bass","k":1},{"s":"crab","k":9}]},{"_id":2,"l":[{"s":"bass","k":9}]}]"#,
        "where some l (s = 'bass' and k > 5) pick {_id}",
        r#"[{"_id":2}]"#,
    ),
    (
        r#"[{"_id":1,"l":[{"s":"bass"},{"s":"crab"}]},{"_id":2,"l":[{"s":"bass"}]}]"#,
        "where l.s <> 'bass' pick {_id}",
        "[]",
    ),
    // Days.
    (
        r#"[{"_id":1,"d":{"$date":"2031-03-01T00:00:00Z"}},{"_id":2,"d":{"$date":"2031-03-01T23:59:59.999Z"}},{"_id":3,"d":{"$date":"2031-03-02T00:00:00Z"}}]"#,
        "where d = date '2031-03-01' pick {_id}",
        r#"[{"_id":1},{"_id":2}]"#,
    ),
    (
        r#"[{"_id":1,"d":{"$date":"2031-03-01T12:00:00Z"}},{"_id":2,"d":{"$date":"2031-03-02T00:00:00Z"}}]"#,
        "where d <= date '2031-03-01' pick {_id}",
        r#"[{"_id":1}]"#,
    ),
    (
        r#"[{"_id":1,"d":{"$date":"2031-03-01T12:00:00Z"}},{"_id":2,"d":{"$date":"2031-03-02T00:00:00Z"}}]"#,
        "where d > date '2031-03-01' pick {_id}",
        r#"[{"_id":2}]"#,
    ),
    // Names out, groups, counts of nothing.
    (
        r#"[{"_id":1,"a":{"b":1}}]"#,
        "pick {a.b, c: a.b + 1}",
        r#"[{"b":1,"c":2}]"#,
    ),
    (
        r#"[{"_id":1,"p":"x","k":1},{"_id":2,"p":"y","k":2},{"_id":3,"p":"x","k":"3"},{"_id":4,"k":4},{"_id":5,"p":null,"k":5}]"#,
        "group by p { n: count(), k: sum(k), m: max(k) }",
        r#"[{"p":"x","n":2,"k":1,"m":"3"},{"p":"y","n":1,"k":2,"m":2},{"p":null,"n":2,"k":9,"m":5}]"#,
    ),
    (
        "[]",
        "group { n: count(), k: sum(a), m: min(a), l: list(a) }",
        r#"[{"n":0,"k":0,"m":null,"l":[]}]"#,
    ),
    (
        "[]",
        "group { n: count() } add { more: n + 1 }",
        r#"[{"n":0,"more":1}]"#,
    ),
    ("[]", "count", r#"[{"count":0}]"#),
    (
        r#"[{"_id":1,"a":1},{"_id":2,"a":1}]"#,
        "where a = 1 count as n",
        r#"[{"n":2}]"#,
    ),
    (
        r#"[{"_id":1,"s":["a","b"]},{"_id":2,"s":"a"},{"_id":3},{"_id":4,"s":[]}]"#,
        "distinct s",
        r#"[{"value":null,"count":1},{"value":"a","count":2},{"value":"b","count":1}]"#,
    ),
    (
        r#"[{"_id":1,"a":1,"b":1},{"_id":2,"a":2,"b":1},{"_id":3,"a":2}]"#,
        "group { n: count(different a), d: count(different b) }",
        r#"[{"n":2,"d":1}]"#,
    ),
    // Unnest, join, bands.
    (
        r#"[{"_id":1,"a":[1,2]},{"_id":2,"a":[]},{"_id":3},{"_id":4,"a":5}]"#,
        "unnest a",
        r#"[{"_id":1,"a":1},{"_id":1,"a":2},{"_id":4,"a":5}]"#,
    ),
    (
        r#"[{"_id":1,"a":[1]},{"_id":2,"a":[]},{"_id":3}]"#,
        "unnest a as e keeping empty",
        r#"[{"_id":1,"a":[1],"e":1},{"_id":2,"a":[]},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"v":"A"},{"_id":2,"v":null},{"_id":3}]"#,
        "join d as m on v = m.k pick {_id, n: size(m)}",
        r#"[{"_id":1,"n":2},{"_id":2,"n":0},{"_id":3,"n":0}]"#,
    ),
    (
        r#"[{"_id":1,"v":"A"},{"_id":2,"v":"Z"}]"#,
        "join one d as m on v = m.k pick {_id, m._id}",
        r#"[{"_id":1,"_id":10},{"_id":2}]"#,
    ),
    (
        r#"[{"_id":1,"k":0},{"_id":2,"k":9.5},{"_id":3,"k":10},{"_id":4,"k":"x"},{"_id":5,"k":25}]"#,
        "band k at (0, 10, 20)",
        r#"[{"from":0,"to":10,"count":2},{"from":10,"to":20,"count":1},{"from":null,"to":null,"count":2}]"#,
    ),
    (
        r#"[{"_id":1,"k":1},{"_id":2,"k":2},{"_id":3,"k":3},{"_id":4,"k":4},{"_id":5,"k":null}]"#,
        "band k into 2 { n: count(), top: max(k) }",
        r#"[{"from":1,"to":3,"n":2,"top":2},{"from":3,"to":4,"n":2,"top":4}]"#,
    ),
    // Map and reduce.
    (
        r#"[{"_id":1,"p":"x","k":2},{"_id":2,"p":"y","k":5},{"_id":3,"p":"x","k":4}]"#,
        "emit p => k fold t = {s: 0, n: 0} then {s: t.s + value, n: t.n + 1} finish t.s / t.n",
        r#"[{"key":"x","value":3.0},{"key":"y","value":5.0}]"#,
    ),
    // Adding what is not there takes away; objects replace.
    (
        r#"[{"_id":1,"a":{"x":1},"b":2}]"#,
        "add {a: {y: b}, b: c}",
        r#"[{"_id":1,"a":{"y":2}}]"#,
    ),
    (
        r#"[{"_id":1,"a":[{"x":1,"y":2}],"b":3}]"#,
        "without a.x, b",
        r#"[{"_id":1,"a":[{"y":2}]}]"#,
    ),
    (
        r#"[{"_id":1,"t":"Grey Heron"},{"_id":2,"t":"Grey.\nHeron"},{"_id":3,"t":["x","Grey"]}]"#,
        "where t like 'Grey_%n' or t like 'Grey' pick {_id}",
        r#"[{"_id":1},{"_id":2},{"_id":3}]"#,
    ),
    (
        r#"[{"_id":1,"a":2},{"_id":2,"a":9}]"#,
        "pick {v: case when a > 5 then 'big' when a > 1 then 'small' end}",
        r#"[{"v":"small"},{"v":"big"}]"#,
    ),
    (
        r#"[{"_id":1,"active":true},{"_id":2,"active":[false,true]},{"_id":3,"active":1}]"#,
        "where active pick {_id}",
        r#"[{"_id":1},{"_id":2}]"#,
    ),
    (
        r#"[{"_id":1,"a":[5,6]},{"_id":2,"a":[]}]"#,
        "pick {f: a[0], l: a[-1]}",
        r#"[{"f":5,"l":6},{}]"#,
    ),
];

#[test]
fn answers_worked_out_by_hand_come_out_both_ways() {
    let others = documents(r#"[{"_id":10,"k":"A"},{"_id":11,"k":["A","B"]},{"_id":12,"k":null}]"#);
    for (given, stages, expected) in BY_HAND {
        let all = [("c", documents(given)), ("d", others.clone())];
        let text = format!("from c {stages}");
        let expected = documents(expected);
        if *stages == "join one d as m on v = m.k pick {_id, m._id}" {
            // Two of one name are an error; the join itself is looked at below.
            assert!(parse(&text, &TimeZone::UTC).whole().is_err());
            continue;
        }
        let ours = here(&text, &all).unwrap_or_else(|| panic!("{text}"));
        assert!(
            same(&ours, &expected),
            "here: {text}\n{}\n{}",
            shown(&ours),
            shown(&expected)
        );
        let theirs = there(&text, &all).unwrap_or_else(|e| panic!("{text}\n{e}"));
        assert!(
            same(&theirs, &expected),
            "there: {text}\n{}\n{}",
            shown(&theirs),
            shown(&expected)
        );
    }
}

#[test]
fn every_function_gives_what_its_example_says_both_ways() {
    let all = [("c", documents(r#"[{"_id":1}]"#))];
    for function in idle_tide_lang::flow::functions::FUNCTIONS {
        let (call, result) = function.example;
        // Two fields that are not there keep anything from being worked out beforehand.
        let text = format!(
            "from c pick {{ a: case when nothing is missing then {call} end, b: {result} }}"
        );
        for (side, out) in [
            ("here", here(&text, &all)),
            (
                "there",
                there(&text, &all).map_err(|e| panic!("{text}\n{e}")).ok(),
            ),
        ] {
            let out = out.unwrap_or_else(|| panic!("{side}: {text}"));
            let (a, b) = (out[0].get("a"), out[0].get("b"));
            assert!(
                a.is_some() && a == b,
                "{side}: {call} gave {a:?}, and the table says {b:?}"
            );
        }
    }
}

#[test]
fn whole_numbers_that_overflow_are_an_error_both_ways() {
    let all = [(
        "c",
        documents(r#"[{"_id":1,"a":{"$numberLong":"9223372036854775807"},"b":1}]"#),
    )];
    for stages in ["pick {s: a + b}", "where a * 2 > b", "pick {s: -a - 2}"] {
        let text = format!("from c {stages}");
        assert!(
            here(&text, &all).is_none() && there(&text, &all).is_err(),
            "{text}"
        );
    }
}

fn number() -> impl Strategy<Value = Datum> {
    prop_oneof![
        (-3_i32..6).prop_map(Datum::Int),
        (-3_i64..6).prop_map(Datum::Long),
        (-6_i32..12).prop_map(|n| Datum::Double(f64::from(n) / 2.0)),
        (-6_i64..12).prop_map(|n| Datum::Decimal(format!("{n}E-1").parse().expect("a decimal"))),
        Just(Datum::Double(f64::NAN)),
        Just(Datum::Double(-0.0)),
    ]
}

fn plain() -> impl Strategy<Value = Datum> {
    prop_oneof![
        4 => number(),
        2 => "[a-c]{0,2}".prop_map(Datum::from),
        1 => Just(Datum::Null),
        1 => any::<bool>().prop_map(Datum::from),
        1 => (0_i64..4).prop_map(|n| Datum::Date(1_930_000_000_000 + n * 43_200_000)),
    ]
}

fn value() -> impl Strategy<Value = Datum> {
    plain().prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..3).prop_map(Datum::List),
            proptest::collection::vec(("[ab]", inner), 0..3).prop_map(|fields| {
                let mut document = Document::new();
                fields
                    .into_iter()
                    .for_each(|(name, value)| document.set(&name, value));
                document.into()
            }),
        ]
    })
}

fn document() -> impl Strategy<Value = Document> {
    proptest::collection::vec(("[abc]", value()), 0..4).prop_map(|fields| {
        let mut document = Document::new();
        fields
            .into_iter()
            .for_each(|(name, value)| document.set(&name, value));
        document
    })
}

fn collection() -> impl Strategy<Value = Vec<Document>> {
    proptest::collection::vec(document(), 0..7).prop_map(|list| {
        list.into_iter()
            .enumerate()
            .map(|(at, mut document)| {
                document
                    .fields
                    .insert(0, ("_id".into(), Datum::integer(at as i64)));
                document
            })
            .collect()
    })
}

fn path() -> impl Strategy<Value = String> {
    prop_oneof![4 => "[abc]", 3 => "[abc]\\.[ab]", 1 => "[abc]\\.[ab]\\.[ab]", 1 => "[abc]\\[[01]\\]"].prop_map(|p| p)
}

fn literal() -> impl Strategy<Value = String> {
    plain()
        .prop_filter("null compares with nothing", |v| !v.is_null())
        .prop_map(|v| idle_tide_lang::flow::literal(&v))
}

fn expression() -> impl Strategy<Value = String> {
    let leaf = prop_oneof![3 => path(), 2 => literal()];
    leaf.prop_recursive(3, 10, 3, |inner| {
        prop_oneof![
            (inner.clone(), "[-+*/%]", inner.clone())
                .prop_map(|(a, o, b)| format!("({a} {o} {b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} || {b})")),
            (
                prop::sample::select(vec![
                    "abs", "floor", "round", "sqrt", "length", "lower", "upper", "trim", "text",
                    "number", "kind", "size", "total", "mean", "smallest", "largest", "unique",
                    "year", "weekday", "hour"
                ]),
                inner.clone()
            )
                .prop_map(|(f, a)| format!("{f}({a})")),
            (
                prop::sample::select(vec![
                    "contains",
                    "starts",
                    "ends",
                    "split",
                    "coalesce",
                    "nullif",
                    "least",
                    "greatest",
                    "seconds_between",
                    "power"
                ]),
                inner.clone(),
                inner.clone()
            )
                .prop_map(|(f, a, b)| format!("{f}({a}, {b})")),
            (
                predicate_of(inner.clone().boxed()),
                inner.clone(),
                inner.clone()
            )
                .prop_map(|(p, a, b)| format!("case when {p} then {a} else {b} end")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("[{a}, {b}]")),
            (inner.clone(), inner).prop_map(|(a, b)| format!("{{x: {a}, y: {b}}}")),
        ]
    })
}

fn predicate_of(term: BoxedStrategy<String>) -> BoxedStrategy<String> {
    let not = || prop::sample::select(vec!["", "not "]);
    let comparison = prop_oneof![
        4 => (path(), "=|<>|<|<=|>|>=", literal()).prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        2 => (term.clone(), "=|<>|<|<=|>|>=", term.clone()).prop_map(|(a, o, b)| format!("({a}) {o} ({b})")),
        1 => (path(), "=|<|>=|<>", path()).prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        2 => (path(), not(), literal(), literal()).prop_map(|(a, n, b, c)| format!("{a} {n}between {b} and {c}")),
        2 => (path(), not(), literal(), literal()).prop_map(|(a, n, b, c)| format!("{a} {n}in ({b}, {c})")),
        1 => (path(), not(), path()).prop_map(|(a, n, b)| format!("{a} {n}in {b}")),
        1 => (path(), not(), "[abc_%]{0,3}").prop_map(|(a, n, p)| format!("{a} {n}like '{p}'")),
        2 => (path(), not(), prop::sample::select(vec!["null", "missing", "of number", "of text", "of list", "of object", "of date", "of null", "of boolean"])).prop_map(|(a, n, k)| format!("{a} is {n}{k}")),
        1 => (path(), "=|<|<=|>|>=|<>", 0_i64..3).prop_map(|(a, o, d)| format!("{a} {o} date '2031-02-2{}'", 7 + d.min(1))),
        1 => ("[abc]", "[ab]", "=|>|<>", literal()).prop_map(|(p, f, o, v)| format!("some {p} ({f} {o} {v})")),
        1 => path(),
    ];
    comparison
        .prop_recursive(3, 8, 2, |inner| {
            prop_oneof![
                (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} and {b}")),
                (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
                inner.prop_map(|a| format!("not ({a})")),
            ]
        })
        .boxed()
}

fn predicate() -> BoxedStrategy<String> {
    predicate_of(expression().boxed())
}

fn aggregates() -> impl Strategy<Value = String> {
    (
        path(),
        prop::sample::select(vec![
            "sum", "avg", "min", "max", "first", "last", "list", "stddev",
        ]),
        path(),
    )
        .prop_map(|(a, f, b)| {
            format!(
                "{{ n: count(), v: {f}({a}), k: count(different {b}), p: percentile({b}, 0.5) }}"
            )
        })
}

fn stage() -> impl Strategy<Value = String> {
    prop_oneof![
        5 => predicate().prop_map(|p| format!("where {p}")),
        2 => (expression(), path()).prop_map(|(e, p)| format!("pick {{ _id, a: {e}, b: {p} }}")),
        2 => expression().prop_map(|e| format!("add {{ c: {e} }}")),
        1 => "[abc](\\.[ab])?".prop_map(|p| format!("without {p}")),
        2 => (path(), aggregates()).prop_map(|(k, a)| format!("group by key: {k} {a}")),
        1 => aggregates().prop_map(|a| format!("group {a}")),
        1 => "[abc](\\.[ab])?".prop_map(|p| format!("distinct {p}")),
        1 => Just("count as a".to_string()),
        2 => ("[abc](\\.[ab])?", prop::sample::select(vec!["", " desc"])).prop_map(|(p, d)| format!("order by {p}{d}")),
        1 => (0_u32..5).prop_map(|n| format!("limit {n}")),
        1 => (0_u32..3).prop_map(|n| format!("offset {n}")),
        2 => ("[abc](\\.[ab])?", prop::sample::select(vec!["", " keeping empty", " as c", " as b keeping empty"])).prop_map(|(p, r)| format!("unnest {p}{r}")),
        1 => ("(one )?", "[abc](\\.[ab])?", "[abc]").prop_map(|(one, a, b)| format!("join {one}d as b on {a} = b.{b}")),
        1 => "[abc]".prop_map(|p| format!("band {p} at (-1, 1, 2.5) {{ n: count(), v: max(b) }}")),
        1 => ("[abc]", 1_u32..4).prop_map(|(p, n)| format!("band {p} into {n}")),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 4_000, max_global_rejects: 100_000, ..ProptestConfig::default() })]

    #[test]
    fn generated_flows_mean_the_same_here_and_there(
        stages in proptest::collection::vec(stage(), 1..4),
        c in collection(),
        d in collection(),
    ) {
        let text = format!("from c {}", stages.join(" "));
        let parsed = parse(&text, &TimeZone::UTC).whole();
        prop_assume!(parsed.is_ok());
        let all = [("c", c), ("d", d)];
        match (here(&text, &all), there(&text, &all)) {
            (Some(ours), Ok(theirs)) => {
                prop_assert!(same(&ours, &theirs), "{}\nhere:  {}\nthere: {}\ncompiled: {}", text, shown(&ours), shown(&theirs), compiled(&text));
            }
            (None, Err(_)) => {}
            (ours, theirs) => prop_assert!(false, "{}\nhere: {:?}\nthere: {:?}", text, ours.map(|o| shown(&o)), theirs.map(|t| shown(&t))),
        }
    }
}

fn compiled(text: &str) -> String {
    let plan = compile(&statement(text)).expect("compiled");
    plan.command.map_or(String::new(), |c| {
        text_of(&c.document.into(), Form::Relaxed)
    })
}
