//! Mistakes of flows in the places that are reached last, what a server is sent of rare stages, the words for every type and value in every
//! dialect, and corrections that are put where they belong.

use idle_tide_core::column_type::ColumnType;
use idle_tide_core::document::bson::encode;
use idle_tide_core::document::extended::{Form, text_of};
use idle_tide_core::document::shape::Shape;
use idle_tide_core::document::time::TimeZone;
use idle_tide_core::{Catalog, Datum, Document, Field, Kind, Object, ValueRef};
use idle_tide_lang::complete::{Sources, complete};
use idle_tide_lang::correct::{Complaint, advise};
use idle_tide_lang::dialect::{Dialect, FLOW, MARIADB, POSTGRES, SQLITE, TABULAR};
use idle_tide_lang::flow::compile::compile;
use idle_tide_lang::flow::{FlowError, format, parse, script};
use idle_tide_lang::parameter::{fill, fill_variables, given_literal};

fn refused(text: &str) -> FlowError {
    let understood = parse(text, &TimeZone::UTC).whole();
    match understood.and_then(|statement| compile(&statement)) {
        Ok(plan) => panic!("{text}: {plan:?}"),
        Err(error) => error,
    }
}

#[test]
fn mistakes_deep_within_a_flow_say_where_they_are() {
    let mut wrong = Vec::new();
    for (text, place, words) in [
        (
            "from a pick { `a.b`: 1 }",
            "`a.b`",
            "A name that comes out is not empty, has no dot",
        ),
        ("from a pick { a.`$b` }", "a.`$b`", "give it another"),
        ("from a pick { }", "{ }", "Which fields?"),
        (
            "from a without b, c[0]",
            "c[0]",
            "A single element of a list cannot be taken out",
        ),
        (
            "from a join b as c on d[0] = c.e",
            "d[0]",
            "not by one element of a list",
        ),
        (
            "from a band kg at (0, 10) { from: count() }",
            "from",
            "limits of each band",
        ),
        ("from a limit 1.5", "1.5", "a whole number from 0 on"),
        ("from a offset -1", "-1", "a whole number from 0 on"),
        ("from a sample 'x'", "'x'", "a whole number from 0 on"),
        (
            "update a where b = 1 set c[-1] = 2",
            "c[-1]",
            "counted from the front",
        ),
        (
            "update all a set b = 1 where c = 2",
            "where",
            "exclude each other",
        ),
        ("create user pilot password 5", "5", "A password is a text"),
        (
            "from a where b not 5",
            "5",
            "in or like after not was expected",
        ),
        (
            "from a where b = bytes 'xy'",
            "'xy'",
            "pairs of hexadecimal digits",
        ),
        ("from a where b in (1, null)", "null", "Nothing equals null"),
        ("from a limit :n", ":n", "has no value"),
        ("from a raw :stages", ":stages", "are data, not expressions"),
        (
            "from a band kg into 0",
            "kg",
            "Into no bands nothing can be put",
        ),
        (
            "from a band kg at (0, kg)",
            "kg",
            "A limit of a band is a plain value",
        ),
        (
            "from a band kg at (10, 0)",
            "0",
            "each larger than the one before",
        ),
        ("from a band kg at (0, 'x')", "'x'", "values of one kind"),
        ("from a band kg at (0)", "0", "two limits at least"),
        (
            "from a pick { x: round(kg, 200) }",
            "200",
            "from -20 to 100",
        ),
        (
            "from a pick { x: truncate(landed, 'monht') }",
            "'monht'",
            "The unit is one of",
        ),
        (
            "from a emit b => 1 raw [{ $limit: 1 }]",
            "raw [{ $limit: 1 }]",
            "raw stages are the server's",
        ),
        ("insert into a [5]", "5", "Only objects can be put"),
        (
            "from a add { x: b like c }",
            "c",
            "the pattern after like is a text",
        ),
        (
            "create user pilot password :?pin",
            ":?pin",
            "The password has no value",
        ),
        (
            "change password of pilot to :?pin",
            ":?pin",
            "The password has no value",
        ),
    ] {
        let error = refused(text);
        let found = text.get(error.span.clone()).unwrap_or_default();
        if !error.message.contains(words) || found != place {
            wrong.push(format!("{text}: at {found}: {}", error.message));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    let near = refused("from a pick { x: truncate(landed, 'monht') }").nearest;
    assert_eq!(near.first().map(String::as_str), Some("'month'"));
    let element = script("= l[0] = 5", &TimeZone::UTC).expect_err("an element");
    assert!(
        element.message.contains("a whole list can"),
        "{}",
        element.message
    );
    assert!(script("= (l[0] = 5)", &TimeZone::UTC).is_ok());
}

fn sent(text: &str) -> String {
    let statement = parse(text, &TimeZone::UTC).whole().expect(text);
    let command = compile(&statement).expect(text).command.expect(text);
    text_of(&Datum::Object(command.document), Form::Relaxed)
}

#[test]
fn rare_stages_and_conditions_become_those_of_servers() {
    let mut wrong = Vec::new();
    for (text, part) in [
        ("from a sample 5", r#"[{"$sample":{"size":5}}]"#),
        ("from a sample 0", r#"[{"$match":{"$expr":false}}]"#),
        ("from a where true", r#"{"$match":{}}"#),
        ("from a where b in (1, 'x')", r#"{"b":{"$in":[1,"x"]}}"#),
        ("from a where b not in (1, 2)", r#""$nin":[1,2]"#),
        ("from a where b is of code", "javascriptWithScope"),
        ("from a where b like 'G_l%'", "^G.l"),
        ("from a where b is missing", r#"{"b":{"$exists":false}}"#),
        (
            "from a where b between date '2031-03-01' and date '2031-03-31'",
            r#""$lt":{"$date":"2031-04-01T00:00:00Z"}"#,
        ),
        (
            "rename collection a to b",
            r#"{"renameCollection":"a","to":"b"}"#,
        ),
        ("create index on a (b, c desc)", r#""name":"b_1_c_-1""#),
        (
            "create unique index by_b on a (b)",
            r#""name":"by_b","unique":true"#,
        ),
        ("drop database shed", r#"{"dropDatabase":1}"#),
        ("call { ping: 1 }", r#"{"ping":1}"#),
        ("update a where b = 1 set c[2] = 3 remove d.e", r#""c.2""#),
        ("delete from a where b = 1", r#""limit":0"#),
        ("from a group by b { l: different(c) }", "$addToSet"),
    ] {
        let found = sent(text);
        if !found.contains(part) {
            wrong.push(format!("{text}: {found}"));
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

/// What is formatted is understood again and formats to itself, also with names that are words of the language.
#[test]
fn what_is_formatted_again_stays() {
    for text in [
        "from `order` pick { `group`, `x y`: a.`b c`, n: -(-b), p: (a || b) in c }",
        "from a where b[0] = 1 and c.`0`[2].d <= -5 and e is of code",
        "from a join b as `on` on c = `on`.d",
        "from a add { d: date '2031-03-01', t: timestamp '2031-03-01T05:12:00.250Z', o: {}, l: [] }",
        "from a where not (b in [1, 2]) and c not in d and e not like 'x''y%'",
        "from a band landed at (date '2031-01-01', date '2031-02-01') { n: count() }",
        "update a set b = decimal '-0.10', c = id '65f0a1b2c3d4e5f60718293a', d = bytes '00ff' where true",
    ] {
        let once = parse(text, &TimeZone::UTC).whole().expect(text);
        let first = format(&once);
        let again = parse(&first, &TimeZone::UTC).whole().expect(&first);
        assert_eq!(format(&again), first, "{text}");
        assert_eq!(compile(&again).is_ok(), compile(&once).is_ok(), "{text}");
    }
}

#[test]
fn every_type_has_words_in_every_dialect() {
    use ColumnType as T;
    let table: [(&Dialect, [&str; 13]); 4] = [
        (
            &SQLITE,
            [
                "boolean",
                "integer",
                "numeric",
                "text",
                "real",
                "date",
                "time",
                "timestamp",
                "timestamp",
                "text",
                "json",
                "blob",
                "text",
            ],
        ),
        (
            &POSTGRES,
            [
                "boolean",
                "bigint",
                "numeric(12,2)",
                "numeric(30,4)",
                "double precision",
                "date",
                "time",
                "timestamp",
                "timestamptz",
                "uuid",
                "jsonb",
                "bytea",
                "text",
            ],
        ),
        (
            MARIADB,
            [
                "boolean",
                "bigint",
                "numeric(12,2)",
                "numeric(30,4)",
                "double",
                "date",
                "time(6)",
                "datetime(6)",
                "datetime(6)",
                "char(36)",
                "json",
                "longblob",
                "longtext",
            ],
        ),
        (
            &TABULAR,
            [
                "bit",
                "bigint",
                "numeric(12,2)",
                "numeric(30,4)",
                "float",
                "date",
                "time(7)",
                "datetime2(7)",
                "datetimeoffset(7)",
                "uniqueidentifier",
                "nvarchar(max)",
                "varbinary(max)",
                "nvarchar(max)",
            ],
        ),
    ];
    let types = [
        T::Boolean,
        T::Integer,
        T::Decimal(12, 2),
        T::Decimal(30, 4),
        T::Float,
        T::Date,
        T::Time,
        T::Moment,
        T::ZonedMoment,
        T::Uuid,
        T::Json,
        T::Bytes,
        T::Text,
    ];
    for (dialect, words) in table {
        let found = types.map(|of| dialect.type_words(of, false));
        assert_eq!(found, words, "{:?}", dialect.family);
        // What an index takes has a length where the family wants one.
        let indexed = types.iter().zip(found).filter(|(of, _)| **of != T::Json);
        for (of, words) in indexed {
            let key = dialect.type_words(*of, true);
            assert!(
                !key.contains("max") && !key.contains("long"),
                "{words}: {key}"
            );
        }
    }
}

#[test]
fn values_without_a_plain_literal_have_one_that_gives_them_again() {
    let endless = [f64::NAN, f64::INFINITY, f64::NEG_INFINITY];
    for (dialect, literals) in [
        (&SQLITE, ["null", "9e999", "-9e999"]),
        (&POSTGRES, ["'NaN'", "'Infinity'", "'-Infinity'"]),
        (&TABULAR, ["null", "null", "null"]),
    ] {
        let found = endless.map(|number| dialect.literal(ValueRef::Float(number)));
        assert_eq!(found, literals);
    }
    for (dialect, value, literal) in [
        (
            &SQLITE,
            ValueRef::RawText(&[0xff, b'a']),
            "cast(x'ff61' as text)",
        ),
        (&POSTGRES, ValueRef::RawText(&[0xff]), "'\\xff'::bytea"),
        (&TABULAR, ValueRef::RawText(&[0xff]), "0xff"),
        (
            &TABULAR,
            ValueRef::Text("a\0"),
            "cast(0x61000000 as nvarchar(max))",
        ),
        (MARIADB, ValueRef::Text("a\0"), "_utf8mb4 x'6100'"),
        (MARIADB, ValueRef::Boolean(true), "true"),
        (&SQLITE, ValueRef::Number("1_000"), "'1_000'"),
        (&SQLITE, ValueRef::Missing, "null"),
        (&POSTGRES, ValueRef::Float(1e300), "1e300"),
    ] {
        assert_eq!(dialect.literal(value), literal, "{value:?}");
    }
}

/// A column that another table of the statement has is offered with that table's name, in the place of both names.
#[test]
fn a_column_of_another_table_takes_the_place_of_the_name_with_its_qualifier() {
    let table = |name: &str, fields: &[&str]| {
        let mut object = Object::new("main", name, Kind::Table);
        let fields = fields.iter().map(|name| Field {
            name: (*name).into(),
            ..Field::default()
        });
        object.fields = fields.collect();
        object
    };
    let catalog = Catalog {
        path: vec!["main".into()],
        objects: vec![
            table("vessels", &["id", "name"]),
            table("visits", &["id", "arrived at"]),
        ],
        ..Catalog::default()
    };
    for (text, mended) in [
        (
            "select v.\"arrived at\" from vessels v join visits s on s.id = v.id",
            "select s.\"arrived at\" from vessels v join visits s on s.id = v.id",
        ),
        (
            "select \"v\".\"arrived at\" from vessels v join visits s on s.id = v.id",
            "select s.\"arrived at\" from vessels v join visits s on s.id = v.id",
        ),
        (
            "select main.v.\"arrived at\" from vessels v join visits s on s.id = v.id",
            "select s.\"arrived at\" from vessels v join visits s on s.id = v.id",
        ),
        (
            "select v . \"arrived at\" from vessels v join visits s on s.id = v.id",
            "select s.\"arrived at\" from vessels v join visits s on s.id = v.id",
        ),
    ] {
        let complaint = Complaint::NoSuchColumn("v.arrived at".into());
        let advice = advise(text, &complaint, None, &catalog, &SQLITE);
        let mends = advice.corrections.iter().map(|correction| {
            let edit = &correction.edit;
            let mut out = text.to_string();
            out.replace_range(edit.span.clone(), &edit.text);
            out
        });
        let mends: Vec<String> = mends.collect();
        assert!(
            mends.iter().any(|found| found == mended),
            "{text}: {mends:#?}"
        );
    }
}

/// What each stage gives is offered in the stages behind it, and nothing that is gone.
#[test]
fn fields_that_a_stage_makes_are_offered_behind_it() {
    let mut shape = Shape::default();
    for port in ["Brackwater", "Outer Spit"] {
        let line = Document::new().with("species", "bass").with("kg", 2.5);
        let document = Document::new()
            .with("_id", 1)
            .with("port", port)
            .with("lines", Datum::List(vec![line.into()]));
        shape.meet(&encode(&document));
    }
    let mut catalog = Catalog::default();
    for name in ["landings", "surveys"] {
        let mut object = Object::new("", name, Kind::Collection);
        object.shape = Some(std::sync::Arc::new(shape.clone()));
        catalog.objects.push(object);
    }
    let offers = |marked: &str| -> Vec<String> {
        let cursor = marked.find('|').expect("a cursor");
        let text = marked.replacen('|', "", 1);
        let sources = Sources {
            catalog: &catalog,
            dialect: &FLOW,
            columns: &[],
            entries: &[],
            names: &[],
            topics: &[],
        };
        let found = complete(&text, cursor, true, &sources).candidates;
        found
            .into_iter()
            .map(|candidate| candidate.insert)
            .collect()
    };
    for (stages, there, gone) in [
        (
            "pick { tons: 1, port }",
            &["tons", "port"][..],
            &["lines"][..],
        ),
        ("add { tons: 1 }", &["tons", "port", "lines"], &[]),
        ("without port", &["lines"], &["port"]),
        (
            "group by port { kg: sum(lines.kg) }",
            &["port", "kg"],
            &["lines"],
        ),
        ("distinct port", &["value", "count"], &["port"]),
        ("count as many", &["many"], &["port"]),
        ("band _id at (0, 10)", &["from", "to", "count"], &["port"]),
        (
            "band _id at (0, 10) { n: count() }",
            &["from", "to", "n"],
            &["count", "port"],
        ),
        (
            "join surveys as s on port = s.port",
            &["s", "s.port", "port"],
            &[],
        ),
        ("unnest lines as line", &["line", "port"], &[]),
        ("emit port => 1", &["key", "value"], &["port"]),
        (
            "emit port => 1 fold n = 0 then n + value",
            &["key", "n"],
            &["port"],
        ),
        ("limit 5 offset 2 order by port", &["port", "lines.kg"], &[]),
    ] {
        let found = offers(&format!("from landings {stages} where |"));
        for name in there {
            assert!(
                found.iter().any(|offer| offer == name),
                "{stages}: {name}: {found:?}"
            );
        }
        for name in gone {
            assert!(
                !found.iter().any(|offer| offer == name),
                "{stages}: {name}: {found:?}"
            );
        }
    }
    for (marked, first) in [
        ("from landings where lines is of |", "number"),
        ("from landings order by |", "port"),
        ("from landings unnest |", "lines"),
        ("from landings join one |", "landings"),
        ("from landings save into |", "landings"),
        ("insert into sur|", "surveys"),
        ("drop collection |", "landings"),
        ("rename collection land|", "landings"),
    ] {
        let found = offers(marked);
        assert!(
            found.iter().any(|offer| offer.trim() == first),
            "{marked}: {found:?}"
        );
    }
}

/// Variables of every kind stand in statements of every family as literals that are read as the same value.
#[test]
fn variables_are_literals_of_the_dialect_they_stand_in() {
    let variable = |name: &str| {
        Some(match name {
            "yes" => Datum::Boolean(true),
            "below" => Datum::Int(-5),
            "large" => Datum::Long(i64::MAX),
            "part" => Datum::Double(0.1),
            "endless" => Datum::Double(f64::INFINITY),
            "exact" => Datum::Decimal("0.10".parse().expect("a decimal")),
            "text" => Datum::Text("it's :below".into()),
            "bytes" => Datum::Bytes(Box::new((0, vec![0, 255]))),
            "day" => Datum::Date(0),
            "moment" => Datum::Date(250),
            "none" => Datum::Null,
            "list" => Datum::List(vec![Datum::Int(1), Datum::Text("x".into())]),
            "empty" => Datum::List(vec![]),
            "nested" => Datum::List(vec![Datum::List(vec![Datum::Int(1)])]),
            "place" => Datum::Object(Document::new().with("code", "N").with("depth", -2)),
            _ => return None,
        })
    };
    for (dialect, text, filled) in [
        (&POSTGRES, "select :yes", "select true"),
        (&TABULAR, "select :yes", "select 1"),
        // A number below zero behind a minus would begin a comment.
        (&POSTGRES, "select 10-:below, 2", "select 10- -5, 2"),
        (&SQLITE, "select -:below", "select - -5"),
        (&SQLITE, "select 10 - :place.depth", "select 10 - -2"),
        (
            &SQLITE,
            "select :large, :part, :exact",
            "select 9223372036854775807, 0.1, 0.10",
        ),
        (&SQLITE, "select :endless", "select 9e999"),
        (&POSTGRES, "select :endless", "select 'Infinity'"),
        (&POSTGRES, "select :text", "select 'it''s :below'"),
        (&TABULAR, "select :text", "select 'it''s :below'"),
        (&POSTGRES, "select :bytes", "select '\\x00ff'::bytea"),
        (&TABULAR, "select :bytes", "select 0x00ff"),
        (
            &SQLITE,
            "select :day, :moment",
            "select '1970-01-01', '1970-01-01 00:00:00.250'",
        ),
        (
            &SQLITE,
            "select * from t where a in :list",
            "select * from t where a in (1, 'x')",
        ),
        (
            &SQLITE,
            "select * from t where a in (:list)",
            "select * from t where a in (1, 'x')",
        ),
        (
            &SQLITE,
            "select * from t where a in :empty",
            "select * from t where a in (null)",
        ),
        (
            &SQLITE,
            "select * from t where a in (:empty)",
            "select * from t where a in (null)",
        ),
        (
            &SQLITE,
            "select * from t where a in :nested",
            "select * from t where a in ('[1]')",
        ),
        (
            &SQLITE,
            "select :place.code, :place.nothing, :none",
            "select 'N', null, null",
        ),
        // What is no variable, a slice, a cast and a text stay as they are.
        (
            &POSTGRES,
            "select :other, a[1:below], b::text, ':yes'",
            "select :other, a[1:below], b::text, ':yes'",
        ),
        (
            &FLOW,
            "from a where b = :below and c in :list",
            "from a\nwhere b = -5 and c in (1, 'x')",
        ),
    ] {
        assert_eq!(fill_variables(text, dialect, &variable), filled, "{text}");
    }
    // What is given beside a statement likewise.
    for (dialect, given, literal) in [
        (&POSTGRES, "true", "true"),
        (&TABULAR, "true", "1"),
        (&POSTGRES, "-5", "-5"),
        (&POSTGRES, "- -5", "'- -5'"),
        (&POSTGRES, "007", "'007'"),
        (
            &POSTGRES,
            "0.1000000000000000000000000001",
            "0.1000000000000000000000000001",
        ),
        (&POSTGRES, "[1, 'a', null]", "1, 'a', null"),
        (&POSTGRES, "it's", "'it''s'"),
        (&POSTGRES, "now()", "'now()'"),
        (&POSTGRES, "", "''"),
    ] {
        assert_eq!(given_literal(given, dialect), literal, "{given}");
    }
    let given = |name: &str| (name == "n").then(|| "-5".to_string());
    assert_eq!(fill("select 10-:?n", &SQLITE, &given), "select 10- -5");
}
