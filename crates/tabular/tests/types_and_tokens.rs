//! Every type and what its values are, written and read again; every token; text in the code page that its collation says. What is cut short
//! anywhere is short and nothing else.

use std::sync::Arc;

use idle_tide_tabular::take::put_short_text;
use idle_tide_tabular::token::{
    DoneOf, Reader, Row, put_columns, put_done, put_environment, put_login, put_message, put_row,
    put_status,
};
use idle_tide_tabular::types::{ANY, LATIN, id};
use idle_tide_tabular::{
    Done, Environment, Field, Malformed, Message, Room, Take, Token, TypeInfo, Value,
};

/// Every type that can be told: how a statement writes it, a value of it, and how that is read.
#[rustfmt::skip]
fn types() -> Vec<(TypeInfo, &'static str, Value<'static>)> {
    let text = |info: TypeInfo, words: &'static str, text: &'static str| (info, words, Value::Text(text));
    let decimal = |id: u8| TypeInfo { id, ..TypeInfo::decimal(12, 2) };
    let made = TypeInfo { name: "berth_plan".into(), ..TypeInfo::of(id::UDT, ANY) };
    vec![
        (TypeInfo::of(id::TINYINT, 0), "tinyint", Value::Integer(255)),
        (TypeInfo::of(id::SMALLINT, 0), "smallint", Value::Integer(-32_768)),
        (TypeInfo::of(id::INT, 0), "int", Value::Integer(-2_147_483_648)),
        (TypeInfo::of(id::BIGINT, 0), "bigint", Value::Integer(i64::MIN)),
        (TypeInfo::of(id::INTN, 1), "tinyint", Value::Integer(7)),
        (TypeInfo::of(id::INTN, 2), "smallint", Value::Integer(-7)),
        (TypeInfo::of(id::INTN, 4), "int", Value::Integer(-7)),
        (TypeInfo::of(id::INTN, 8), "bigint", Value::Integer(-7)),
        (TypeInfo::of(id::BIT, 0), "bit", Value::Bit(true)),
        (TypeInfo::of(id::BITN, 1), "bit", Value::Bit(false)),
        (TypeInfo::of(id::REAL, 0), "real", Value::Float(-0.5)),
        (TypeInfo::of(id::FLOAT, 0), "float", Value::Float(0.1)),
        (TypeInfo::of(id::FLOATN, 4), "real", Value::Float(2.5)),
        (TypeInfo::of(id::FLOATN, 8), "float", Value::Float(1e300)),
        (TypeInfo::of(id::MONEY, 0), "money", Value::Number("-922337203685477.5808")),
        (TypeInfo::of(id::SMALLMONEY, 0), "smallmoney", Value::Number("214748.3647")),
        (TypeInfo::of(id::MONEYN, 8), "money", Value::Number("0.0001")),
        (TypeInfo::of(id::MONEYN, 4), "smallmoney", Value::Number("-0.0100")),
        (decimal(id::DECIMAL), "decimal(12,2)", Value::Number("-1234567890.12")),
        (decimal(id::NUMERIC), "numeric(12,2)", Value::Number("0.05")),
        text(TypeInfo::of(id::DATE, 0), "date", "0001-01-01"),
        text(TypeInfo::scaled(id::TIME, 7), "time(7)", "23:59:59.9999999"),
        text(TypeInfo::scaled(id::TIME, 0), "time(0)", "05:12:00"),
        text(TypeInfo::scaled(id::DATETIME2, 3), "datetime2(3)", "2031-03-01 05:12:00.250"),
        text(TypeInfo::scaled(id::DATETIMEOFFSET, 0), "datetimeoffset(0)", "2031-03-01 05:12:00 +05:30"),
        text(TypeInfo::of(id::DATETIME, 0), "datetime", "2031-03-01 05:12:00.003"),
        text(TypeInfo::of(id::DATETIMEN, 8), "datetime", "1753-01-01 00:00:00.000"),
        text(TypeInfo::of(id::SMALLDATETIME, 0), "smalldatetime", "2031-03-01 05:12:00"),
        text(TypeInfo::of(id::DATETIMEN, 4), "smalldatetime", "1900-01-01 00:00:00"),
        text(TypeInfo::of(id::GUID, 16), "uniqueidentifier", "6F1E7A0C-2F5B-4C53-9F0E-0A1B2C3D4E5F"),
        text(TypeInfo::of(id::VARCHAR, 20), "varchar(20)", "Möwe €"),
        text(TypeInfo::of(id::VARCHAR, ANY), "varchar(max)", "Möwe"),
        text(TypeInfo::of(id::CHAR, 4), "char(4)", "N07 "),
        text(TypeInfo::of(id::NVARCHAR, 40), "nvarchar(20)", "港 🚢"),
        text(TypeInfo::of(id::NVARCHAR, ANY), "nvarchar(max)", ""),
        text(TypeInfo::of(id::NCHAR, 8), "nchar(4)", "Ωmeg"),
        text(TypeInfo::of(id::TEXT, 2_147_483_647), "text", "a long one"),
        text(TypeInfo::of(id::NTEXT, 2_147_483_646), "ntext", "潮"),
        text(TypeInfo::of(id::XML, 0), "xml", "<tide/>"),
        text(TypeInfo::of(id::JSON, 0), "json", "{\"a\": \"港\"}"),
        (TypeInfo::of(id::VARBINARY, 8), "varbinary(8)", Value::Bytes(b"\x00\xff")),
        (TypeInfo::of(id::VARBINARY, ANY), "varbinary(max)", Value::Bytes(&[7; 9_000])),
        (TypeInfo::of(id::BINARY, 2), "binary(2)", Value::Bytes(b"\x00\x01")),
        (TypeInfo::of(id::IMAGE, 2_147_483_647), "image", Value::Bytes(b"\x89PNG")),
        (made, "berth_plan", Value::Bytes(b"\x01\x02")),
        (TypeInfo::of(id::VARIANT, 8_016), "sql_variant", Value::Integer(-5)),
        (TypeInfo::of(id::VARIANT, 8_016), "sql_variant", Value::Float(0.25)),
        text(TypeInfo::of(id::VARIANT, 8_016), "sql_variant", "quay"),
    ]
}

fn fixed(info: &TypeInfo) -> bool {
    matches!(info.layout(), idle_tide_tabular::Layout::Fixed(_))
}

#[test]
fn every_type_and_its_values_are_read_as_they_were_written() {
    for (info, words, expected) in types() {
        assert_eq!(info.words(), words);
        let mut bytes = Vec::new();
        info.encode(&mut bytes);
        let mut take = Take::new(&bytes);
        let again = TypeInfo::decode(&mut take).unwrap_or_else(|error| panic!("{words}: {error}"));
        assert_eq!(
            (again.words(), again.layout(), take.left()),
            (words.to_string(), info.layout(), 0)
        );
        for short in 0..bytes.len() {
            let cut = TypeInfo::decode(&mut Take::new(&bytes[..short]));
            assert!(
                matches!(cut, Err(Malformed::Short)),
                "{words} at {short}: {cut:?}"
            );
        }
        let fields = [
            Field {
                name: "v".into(),
                info: info.clone(),
                nullable: true,
            },
            Field {
                name: "n".into(),
                info,
                nullable: true,
            },
        ];
        let second = if fixed(&fields[1].info) {
            expected
        } else {
            Value::Null
        };
        let mut out = Vec::new();
        put_columns(&fields, &mut out);
        put_row(&fields, [expected, second], &mut out).unwrap_or_else(|words| panic!("{words}"));
        let mut reader = Reader::default();
        let mut take = Take::new(&out);
        let Ok(Token::Columns(known)) = reader.next(&mut take) else {
            panic!("{words}: no columns");
        };
        assert_eq!(known.len(), 2);
        let Ok(Token::Row {
            start,
            end,
            with_nulls,
        }) = reader.next(&mut take)
        else {
            panic!("{words}: no row");
        };
        let mut row = Row::new(&known, &out[start..end], with_nulls);
        let mut room = Room::default();
        assert_eq!(row.next(&mut room), Some(Ok(expected)), "{words}");
        let second = if fixed(&known[1].info) {
            expected
        } else {
            Value::Null
        };
        assert_eq!(row.next(&mut room), Some(Ok(second)), "{words}");
        assert_eq!(row.next(&mut room), None);
        // However much of it has come: it is short until it is there, and goes on where it was.
        let mut reader = Reader::default();
        let columns = {
            let mut take = Take::new(&out);
            assert!(reader.next(&mut take).is_ok());
            out.len() - take.left()
        };
        for end in (columns..out.len()).step_by(997.min(out.len() - columns)) {
            let mut take = Take::new(&out[columns..end]);
            assert_eq!(
                reader.next(&mut take),
                Err(Malformed::Short),
                "{words} at {end}"
            );
        }
    }
}

#[test]
fn values_that_do_not_fit_are_refused_with_their_column() {
    for (info, value) in [
        (TypeInfo::of(id::INTN, 1), Value::Integer(-1)),
        (TypeInfo::of(id::INTN, 2), Value::Integer(40_000)),
        (TypeInfo::of(id::INT, 0), Value::Null),
        (TypeInfo::of(id::INT, 0), Value::Text("many")),
        (TypeInfo::decimal(4, 2), Value::Number("100.00")),
        (TypeInfo::of(id::MONEYN, 4), Value::Number("300000")),
        (TypeInfo::of(id::VARCHAR, 2), Value::Text("abc")),
        (TypeInfo::of(id::NVARCHAR, 4), Value::Text("abc")),
        (TypeInfo::of(id::GUID, 16), Value::Text("6F1E")),
        (TypeInfo::of(id::DATE, 0), Value::Text("2031-02-30")),
        (TypeInfo::scaled(id::TIME, 3), Value::Text("25:00")),
    ] {
        let field = Field {
            name: "depth".into(),
            info,
            nullable: true,
        };
        let mut out = vec![9];
        let refused = put_row(std::slice::from_ref(&field), [value], &mut out);
        let words = refused.expect_err("does not fit");
        assert!(words.starts_with("depth: "), "{words}");
        assert_eq!(out, [9], "nothing of it stays: {:?}", field.info);
    }
}

fn message(class: u8) -> Message {
    Message {
        number: 208,
        state: 1,
        class,
        text: "Invalid object name 'quay'.".into(),
        server: "haven".into(),
        procedure: "moor".into(),
        line: 3,
    }
}

#[test]
fn every_token_is_read_as_it_was_written() {
    let mut out = Vec::new();
    let mut expected = Vec::new();
    let number = (1, 2, 345);
    put_login(0x7400_0004, "a stand-in", number, &mut out);
    expected.push(Token::Login {
        version: 0x7400_0004,
        program: "a stand-in".into(),
        number,
    });
    for change in [
        Environment::Database("harbour".into()),
        Environment::PacketSize(8_000),
        Environment::Collation(LATIN),
        Environment::Begun(7),
        Environment::Committed,
        Environment::RolledBack,
        Environment::Elsewhere("mole.brackwater".into(), 1_433),
        Environment::Other(5),
    ] {
        put_environment(&change, "4096", &mut out);
        expected.push(Token::Environment(change));
    }
    put_message(&message(16), &mut out);
    expected.push(Token::Error(message(16)));
    put_message(&message(10), &mut out);
    expected.push(Token::Info(message(10)));
    put_status(-6, &mut out);
    expected.push(Token::Status(-6));
    for of in [DoneOf::Statement, DoneOf::Procedure, DoneOf::Within] {
        let done = Done {
            rows: 1 << 40,
            ..Done::bare(of, Done::COUNT)
        };
        put_done(done, &mut out);
        expected.push(Token::Done(done));
        assert!(done.counts());
    }
    // No columns are told where a statement gives none.
    out.extend([0x81, 0xff, 0xff]);
    expected.push(Token::Columns(Arc::default()));
    // What a procedure gives back in a parameter, and features, are passed over whole.
    out.push(0xac);
    out.extend([0, 0]);
    put_short_text("@depth", &mut out);
    out.push(1);
    out.extend([0; 6]);
    out.extend([id::INTN, 4, 4, 5, 0, 0, 0]);
    expected.push(Token::Other(0xac));
    out.extend([0xae, 4, 2, 0, 0, 0, 9, 9, 0xff]);
    expected.push(Token::Other(0xae));
    let mut reader = Reader::default();
    let mut take = Take::new(&out);
    for token in &expected {
        assert_eq!(reader.next(&mut take).as_ref(), Ok(token));
    }
    assert_eq!(take.left(), 0);
    // Cut anywhere, whole tokens come and then it is short; never something else.
    for end in 0..out.len() {
        let mut reader = Reader::default();
        let mut take = Take::new(&out[..end]);
        let mut came = 0;
        let last = loop {
            match reader.next(&mut take) {
                Ok(token) => {
                    assert_eq!(token, expected[came]);
                    came += 1;
                }
                Err(error) => break error,
            }
        };
        assert_eq!(last, Malformed::Short, "at {end}");
    }
    for bytes in [
        &[0x17_u8, 1, 2][..],
        &[0xaa, 4, 0, 1, 2, 3, 4],
        &[0xe3, 1, 0, 4],
    ] {
        let error = Reader::default().next(&mut Take::new(bytes));
        assert!(
            matches!(error, Err(Malformed::Wrong(_))),
            "{bytes:x?}: {error:?}"
        );
    }
}

/// The code pages of languages (Windows language code identifiers) and of the sort orders of older collations.
#[test]
fn text_of_one_byte_a_character_is_in_the_page_of_its_collation() {
    let languages: [(u32, &[u8], &str); 21] = [
        (0x0409, b"\xe9\x80", "é€"),
        (0x0405, b"\xf8", "ř"),
        (0x040e, b"\xf5", "ő"),
        (0x0419, b"\xc6", "Ж"),
        (0x0c1a, b"\xc6", "Ж"),
        (0x081a, b"\xf0", "đ"),
        (0x0422, b"\xb3", "і"),
        (0x0408, b"\xe1", "α"),
        (0x041f, b"\xfd", "ı"),
        (0x082c, b"\xc6", "Ж"),
        (0x040d, b"\xe0", "א"),
        (0x0401, b"\xc7", "ا"),
        (0x0429, b"\x81", "پ"),
        (0x0425, b"\xf0", "š"),
        (0x042a, b"\xfe", "₫"),
        (0x041e, b"\xa1", "ก"),
        (0x0411, b"\x8d\x60", "港"),
        (0x0412, b"\xc7\xd7", "항"),
        (0x0804, b"\xb8\xdb", "港"),
        (0x0404, b"\xb4\xe4", "港"),
        (0x1004, b"\xb8\xdb", "港"),
    ];
    let read = |collation: [u8; 5], bytes: &[u8]| {
        let info = TypeInfo {
            collation,
            ..TypeInfo::of(id::VARCHAR, 20)
        };
        let mut row = (bytes.len() as u16).to_le_bytes().to_vec();
        row.extend(bytes);
        let mut room = Room::default();
        match idle_tide_tabular::value::read(&info, &mut Take::new(&row), &mut room) {
            Ok(Value::Text(text)) => Some(text.to_string()),
            _ => None,
        }
    };
    for (language, bytes, text) in languages {
        let low = language.to_le_bytes();
        let found = read([low[0], low[1], 0xd0, 0, 0], bytes);
        assert_eq!(found.as_deref(), Some(text), "{language:#x}");
    }
    for (sort, bytes, text) in [
        (30, &b"\x82"[..], "é"),
        (40, b"\x9b", "ø"),
        (52, b"\xe9", "é"),
        (80, b"\xf8", "ř"),
        (105, b"\xc6", "Ж"),
        (113, b"\xe1", "α"),
        (129, b"\xfd", "ı"),
        (137, b"\xe0", "א"),
        (145, b"\xc7", "ا"),
        (153, b"\xf0", "š"),
        (192, b"\x8d\x60", "港"),
        (194, b"\xc7\xd7", "항"),
        (196, b"\xb4\xe4", "港"),
        (198, b"\xb8\xdb", "港"),
        (204, b"\xa1", "ก"),
    ] {
        let found = read([9, 4, 0xd0, 0, sort], bytes);
        assert_eq!(found.as_deref(), Some(text), "{sort}");
    }
    // What is no text in its page is kept as the bytes that it is.
    assert_eq!(read([0x11, 4, 0xd0, 0, 0], b"\x81"), None);
}
