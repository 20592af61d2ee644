//! Every type of both families: written by the server, read as values without loss.

use idle_tide_core::Value;
use idle_tide_engines::Connection;

use crate::place::{connect, first, run, servers};

/// Types that the oldest versions do not know yet.
const LATER: &[&str] = &["uuid", "int4multirange"];

fn knows(c: &mut dyn Connection, declared: &str) -> bool {
    run(c, &format!("create temporary table known (v {declared})")).is_ok()
}

/// A column of every type, with a value and what has to arrive.
fn check(server: &str, database: &str, cases: &[(&str, &str, Value)]) {
    let mut c = connect(server, database);
    let sets: &[&str] = if server == "postgres" {
        &[
            "set time zone 'UTC'",
            "drop schema if exists kinds cascade",
            "create schema kinds",
            "set search_path = kinds, public",
            "create type mood as enum ('calm', 'rough')",
            "create type place as (quay text, berth integer)",
            "create domain metres as numeric(6,2)",
        ]
    } else {
        &[
            "set time_zone = '+00:00'",
            "set sql_mode = 'ALLOW_INVALID_DATES'",
        ]
    };
    for sql in sets {
        run(&mut *c, sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    }
    for (declared, literal, expected) in cases {
        if LATER.contains(declared) && !knows(&mut *c, declared) {
            continue;
        }
        run(&mut *c, "drop table if exists kind_of").expect("dropped");
        let make = format!("create table kind_of (v {declared})");
        run(&mut *c, &make).unwrap_or_else(|error| panic!("{server} {make}: {error}"));
        run(
            &mut *c,
            &format!("insert into kind_of values ({literal}), (null)"),
        )
        .unwrap_or_else(|error| panic!("{server} {declared} {literal}: {error}"));
        let (_, keep) = run(&mut *c, "select v from kind_of").expect("read");
        // What is no number does not equal itself.
        assert_eq!(
            format!("{:?}", keep.rows[0][0][0]),
            format!("{expected:?}"),
            "{server} {declared} {literal}"
        );
        assert_eq!(keep.rows[0][1][0], Value::Null, "{server} {declared}");
        let said = keep.columns[0][0].declared.clone().unwrap_or_default();
        let plain = |text: &str| {
            text.split(['(', ' '])
                .next()
                .unwrap_or_default()
                .to_lowercase()
        };
        // Domains, arrays and aliases have other names in the protocol.
        if !said.is_empty()
            && server != "postgres"
            && ![
                "serial", "boolean", "uuid", "inet6", "json", "point", "nchar", "real", "double",
                "numeric",
            ]
            .contains(&plain(declared).as_str())
        {
            assert_eq!(plain(&said), plain(declared), "{server}");
            let more = |word: &str| said.contains(word) == declared.contains(word);
            assert!(more("unsigned") && more("zerofill"), "{server}: {said}");
        }
    }
}

fn n(digits: &str) -> Value {
    Value::Number(digits.into())
}

#[test]
fn every_type_of_postgres_arrives_whole() {
    let t = |text: &str| Value::Text(text.into());
    check(
        "postgres",
        "postgres",
        &[
            ("smallint", "-32768", Value::Integer(-32768)),
            ("integer", "2147483647", Value::Integer(2147483647)),
            ("bigint", "-9223372036854775808", Value::Integer(i64::MIN)),
            ("oid", "4294967295", Value::Integer(4294967295)),
            (
                "numeric",
                "123456789012345678901234567890.123456789000",
                n("123456789012345678901234567890.123456789000"),
            ),
            ("numeric(6,2)", "1.5", n("1.50")),
            ("numeric", "'NaN'", Value::Float(f64::NAN)),
            ("metres", "7", n("7.00")),
            ("real", "0.1", Value::Float(0.1)),
            (
                "double precision",
                "0.30000000000000004",
                Value::Float(0.1 + 0.2),
            ),
            (
                "double precision",
                "'-Infinity'",
                Value::Float(f64::NEG_INFINITY),
            ),
            ("money", "'-12.34'", t("-$12.34")),
            ("boolean", "true", Value::Boolean(true)),
            ("text", "E'a\\tb\\nç 🌊'", t("a\tb\nç 🌊")),
            ("text", "''", t("")),
            ("varchar(10)", "'tide'", t("tide")),
            ("char(6)", "'tide'", t("tide  ")),
            ("name", "'tide'", t("tide")),
            ("bytea", "'\\x00ff10'", Value::Bytes(vec![0, 255, 16])),
            ("bytea", "''", Value::Bytes(vec![])),
            ("date", "'0044-03-15 BC'", t("0044-03-15 BC")),
            ("date", "'infinity'", t("infinity")),
            ("time", "'24:00:00'", t("24:00:00")),
            (
                "time with time zone",
                "'12:30:15.123456+05:30'",
                t("12:30:15.123456+05:30"),
            ),
            (
                "timestamp",
                "'2031-06-01 12:00:00.000001'",
                t("2031-06-01 12:00:00.000001"),
            ),
            (
                "timestamp with time zone",
                "'2031-06-01 12:00:00+02'",
                t("2031-06-01 10:00:00+00"),
            ),
            (
                "interval",
                "'1 year -2 days 3:04:05.6'",
                t("1 year -2 days +03:04:05.6"),
            ),
            (
                "uuid",
                "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'",
                t("a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"),
            ),
            (
                "jsonb",
                "'{\"b\": 12345678901234567890}'",
                t("{\"b\": 12345678901234567890}"),
            ),
            ("xml", "'<a>b</a>'", t("<a>b</a>")),
            ("inet", "'10.0.0.1/24'", t("10.0.0.1/24")),
            ("cidr", "'::1/128'", t("::1/128")),
            ("macaddr", "'08:00:2b:01:02:03'", t("08:00:2b:01:02:03")),
            (
                "macaddr8",
                "'08:00:2b:01:02:03:04:05'",
                t("08:00:2b:01:02:03:04:05"),
            ),
            ("bit(3)", "B'101'", t("101")),
            ("bit varying(5)", "B'01'", t("01")),
            ("integer[]", "'{1,null,3}'", t("{1,NULL,3}")),
            (
                "text[][]",
                "'{{a,\"b,c\"},{d,e}}'",
                t("{{a,\"b,c\"},{d,e}}"),
            ),
            ("int4range", "'[1,5]'", t("[1,6)")),
            (
                "tstzrange",
                "'[2031-01-01 00:00+00,)'",
                t("[\"2031-01-01 00:00:00+00\",)"),
            ),
            ("int4multirange", "'{[1,2],[5,9)}'", t("{[1,3),[5,9)}")),
            ("point", "'(1.5,2)'", t("(1.5,2)")),
            ("polygon", "'((0,0),(1,1))'", t("((0,0),(1,1))")),
            ("tsvector", "'tide:1 out:2'", t("'out':2 'tide':1")),
            ("mood", "'rough'", t("rough")),
            ("place", "'(\"N, quay\",4)'", t("(\"N, quay\",4)")),
            ("pg_lsn", "'16/B374D848'", t("16/B374D848")),
            ("aclitem", "'haven=r/haven'", t("haven=r/haven")),
            ("regclass", "'pg_class'", t("pg_class")),
        ],
    );
}

#[test]
fn every_type_of_mariadb_and_mysql_arrives_whole() {
    let t = |text: &str| Value::Text(text.into());
    let both: &[(&str, &str, Value)] = &[
        ("tinyint", "-128", Value::Integer(-128)),
        ("boolean", "true", Value::Integer(1)),
        ("smallint unsigned", "65535", Value::Integer(65535)),
        ("mediumint", "-8388608", Value::Integer(-8388608)),
        ("int(6) zerofill", "42", n("000042")),
        ("bigint", "-9223372036854775808", Value::Integer(i64::MIN)),
        (
            "bigint unsigned",
            "18446744073709551615",
            n("18446744073709551615"),
        ),
        (
            "decimal(65,30)",
            "12345678901234567890123456789012345.123456789012345678901234567890",
            n("12345678901234567890123456789012345.123456789012345678901234567890"),
        ),
        ("float", "0.1", Value::Float(0.1)),
        ("double", "0.30000000000000004", Value::Float(0.1 + 0.2)),
        ("bit(1)", "b'1'", t("1")),
        ("bit(12)", "b'000010100101'", t("000010100101")),
        ("year", "2031", Value::Integer(2031)),
        ("date", "'0000-00-00'", t("0000-00-00")),
        ("date", "'2031-02-31'", t("2031-02-31")),
        (
            "datetime(6)",
            "'9999-12-31 23:59:59.999999'",
            t("9999-12-31 23:59:59.999999"),
        ),
        (
            "timestamp null",
            "'2031-06-01 12:00:00'",
            t("2031-06-01 12:00:00"),
        ),
        ("time(3)", "'-838:59:59.000'", t("-838:59:59.000")),
        ("char(6)", "'tide'", t("tide")),
        ("varchar(20)", "'ç 🌊'", t("ç 🌊")),
        ("varchar(20)", "''", t("")),
        ("text", "'a\\tb\\nc'", t("a\tb\nc")),
        ("longtext", "'x'", t("x")),
        ("binary(3)", "x'0001ff'", Value::Bytes(vec![0, 1, 255])),
        ("varbinary(9)", "x'00ff'", Value::Bytes(vec![0, 255])),
        ("blob", "x'ff'", Value::Bytes(vec![255])),
        ("enum('calm','rough')", "'rough'", t("rough")),
        ("set('a','b','c')", "'a,c'", t("a,c")),
        ("varchar(10) character set latin1", "'ç'", t("ç")),
        (
            "point",
            "point(1,2)",
            Value::Bytes(vec![
                0, 0, 0, 0, 1, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 240, 63, 0, 0, 0, 0, 0, 0, 0, 64,
            ]),
        ),
    ];
    let json = "'{\"b\": 1,  \"a\": [null]}'";
    for server in servers().into_iter().filter(|s| *s != "postgres") {
        let own: &[(&str, &str, Value)] = match server {
            "mariadb" => &[
                ("json", json, t("{\"b\": 1,  \"a\": [null]}")),
                (
                    "uuid",
                    "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'",
                    t("a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"),
                ),
                ("inet6", "'::1'", t("::1")),
            ],
            _ => &[
                ("json", json, t("{\"a\": [null], \"b\": 1}")),
                (
                    "vector(4)",
                    "string_to_vector('[1,2.5,-0.1,3.4028235e38]')",
                    t("[1, 2.5, -0.1, 3.4028235e38]"),
                ),
                ("year", "1901", Value::Integer(1901)),
            ],
        };
        check(server, first(server), both);
        check(server, first(server), own);
    }
}
