//! Flow text, Extended JSON, files of documents, frames of the wire protocol of document servers.

use idle_tide_core::document;
use idle_tide_core::document::extended::{Form, read, text_of};
use idle_tide_core::document::time::TimeZone;
use idle_tide_core::document::{Datum, bson};
use idle_tide_dock::files;
use idle_tide_dock::server::{Conversation, Server, Settings, Store, wire};
use idle_tide_lang::flow;

use super::Target;

pub(super) const TARGETS: &[Target] = &[
    Target {
        name: "flow text",
        seeds: flow_seeds,
        run: flow_text,
    },
    Target {
        name: "Extended JSON",
        seeds: json_seeds,
        run: extended_json,
    },
    Target {
        name: "files of documents",
        seeds: file_seeds,
        run: files_of_documents,
    },
    Target {
        name: "wire frames",
        seeds: frame_seeds,
        run: wire_frames,
    },
];

fn flow_seeds() -> Vec<Vec<u8>> {
    [
        "from landings where port = 'Brackwater' and lines.kg >= 20 and landed between date '2031-03-01' and date '2031-03-31' unnest lines group by species: lines.species { n: count(), kg: sum(lines.kg) } where kg >= 2500 order by kg desc limit 10;",
        "from a where case when x > 1 then true else y in (1, -2, decimal '0.10') end or not (a not like 'G%' and b not between 1 and 2) and some l (k is not missing)",
        "from a emit port => {kg: kg, n: 1} fold t = {kg: 0} then {kg: t.kg + value.kg} finish {mean: t.kg / 2} save over means",
        "update landings where port = \"x\\u00e9\" set port = upper(port), lines[0].kg = 2 remove a, `b c`.d",
        "insert into a { b: {\"$date\": \"2031-03-01T00:00:00Z\"}, c: [1, 2.5e3,], id: id '65f0a1b2c3d4e5f60718293a' }",
        "from a join one v as w on b.c = w._id band kg at (0, 10) { n: count(different k) } raw [{ $match: { $expr: :p } }]",
        "create unique index x on a (b, c desc) -- comment /* not */",
    ]
    .map(|t| t.as_bytes().to_vec())
    .to_vec()
}

fn flow_text(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    let parsed = flow::parse(&text, &TimeZone::UTC);
    for error in &parsed.errors {
        assert!(
            text.get(error.span.clone()).is_some(),
            "a place in the text"
        );
    }
    if let Ok(statement) = parsed.whole() {
        let formatted = flow::format(&statement);
        let again = flow::parse(&formatted, &TimeZone::UTC).whole();
        assert_eq!(
            again.map(|s| flow::format(&s)).as_deref(),
            Ok(formatted.as_str())
        );
        let _ = flow::compile::compile(&statement);
    }
}

fn json_seeds() -> Vec<Vec<u8>> {
    [
        r#"{"a":{"$numberLong":"5"},"b":[{"$oid":"57e193d7a9cc81b4027498b5"},{"$date":{"$numberLong":"-1"}}],"c":{"$numberDecimal":"1.50E+9"}}"#,
        r#"{"$binary":{"base64":"AQI=","subType":"80"}}"#,
        r#"[1,-0,1e400,9223372036854775808,"\u0000\ud83e\udd80",null,true,{"$regularExpression":{"pattern":"^a","options":"im"}}]"#,
        r#"{"$code":"f","$scope":{"x":1},"$timestamp":{"t":42,"i":1},"$minKey":1,"$uuid":"00112233-4455-6677-8899-aabbccddeeff"}"#,
    ]
    .map(|t| t.as_bytes().to_vec())
    .to_vec()
}

fn extended_json(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    if let Ok(value) = read(&text) {
        for form in [Form::Canonical, Form::Lossless] {
            let written = text_of(&value, form);
            let back = read(&written).unwrap_or_else(|e| panic!("{written}: {e}"));
            let wrap = |v: &Datum| bson::encode(&document! { "v": v.clone() });
            assert_eq!(wrap(&back), wrap(&value), "{written}");
        }
    }
}

fn file_seeds() -> Vec<Vec<u8>> {
    let one = bson::encode(
        &document! { "a": true, "t": "text", "l": vec![1, 2], "o": document! { "d": 1.5, "x": Datum::Date(-1) }, "r": Datum::Regex(Box::new(("a".into(), "i".into()))) },
    );
    vec![
        [one.clone(), one.clone()].concat(),
        one,
        b"[\n {\"a\": 1},\n {\"a\": \"],}\"}, {\"b\": [1, {\"c\": null}]}\n]".to_vec(),
        b"{\"a\": 1}\n{\"a\": {\n\"b\": 2}}\n\n{\"a\": 3}".to_vec(),
    ]
}

fn files_of_documents(bytes: &[u8]) {
    let folder = tempfile::tempdir().expect("a folder");
    for ending in ["bson", "json", "jsonl"] {
        let path = folder.path().join(format!("c.{ending}"));
        std::fs::write(&path, bytes).expect("written");
        let mut broken = 0;
        let read = files::read::<()>(
            &path,
            &mut |d| {
                let _ = bson::encode(&d);
                Ok(true)
            },
            Some(&mut |_| broken += 1),
        );
        assert!(read.is_ok());
        let _ = files::read::<()>(&path, &mut |_| Ok(true), None);
    }
}

fn frame_seeds() -> Vec<Vec<u8>> {
    let frame = |command: idle_tide_core::Document| {
        let mut frame = vec![0; 16];
        frame.extend_from_slice(&[0; 4]);
        frame.push(0);
        bson::write(&command, &mut frame);
        frame.push(1);
        let start = frame.len();
        frame.extend_from_slice(&[0; 4]);
        frame.extend_from_slice(b"documents\0");
        bson::write(&document! { "a": 1 }, &mut frame);
        let size = (frame.len() - start) as u32;
        frame[start..start + 4].copy_from_slice(&size.to_le_bytes());
        let length = frame.len() as u32;
        frame[..4].copy_from_slice(&length.to_le_bytes());
        frame[12..16].copy_from_slice(&2013_u32.to_le_bytes());
        frame
    };
    let stage = document! { "$group": document! { "_id": "$a", "n": document! { "$sum": 1 } } };
    let update = document! { "q": document! { "a": 1 }, "u": document! { "$push": document! { "l.$[]": 1 } }, "upsert": true };
    vec![
        frame(document! { "insert": "c", "$db": "d" }),
        frame(
            document! { "find": "c", "filter": document! { "a": document! { "$in": vec![1, 2], "$elemMatch": document! { "b": 1 } } }, "sort": document! { "a": -1 }, "$db": "d" },
        ),
        frame(
            document! { "aggregate": "c", "pipeline": Datum::List(vec![stage.into()]), "cursor": document! { "batchSize": 1 }, "$db": "d" },
        ),
        frame(document! { "update": "c", "updates": Datum::List(vec![update.into()]), "$db": "d" }),
        frame(document! { "getMore": 5_i64, "collection": "c", "$db": "d" }),
        frame(
            document! { "createIndexes": "c", "indexes": Datum::List(vec![document! { "key": document! { "a": 1 }, "name": "a_1", "unique": true }.into()]), "$db": "d" },
        ),
        frame(
            document! { "saslStart": 1, "mechanism": "SCRAM-SHA-256", "payload": Datum::Bytes(Box::new((0, b"n,,n=pilot,r=abc".to_vec()))), "$db": "admin" },
        ),
        frame(document! { "explain": document! { "find": "c" }, "hello": 1, "$db": "d" }),
    ]
}

fn wire_frames(bytes: &[u8]) {
    let mut whole = bytes.to_vec();
    for mend in [false, true] {
        // A false length is refused at once; with the right one the rest is looked at.
        if mend && whole.len() >= 16 {
            let length = whole.len() as u32;
            whole[..4].copy_from_slice(&length.to_le_bytes());
            whole[12..16].copy_from_slice(&2013_u32.to_le_bytes());
        }
        if let Ok(request) = wire::understood(&whole) {
            let server = Server::new(Store::default(), Settings::default());
            let mut conversation = Conversation::new(server);
            for _ in 0..2 {
                if let Some(reply) = conversation.answer(&request.database, &request.command) {
                    let answer = wire::answer(&request, 1, &reply);
                    assert!(answer.len() > 16);
                }
            }
        }
    }
}
