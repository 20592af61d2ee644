//! The Tabular Data Stream, both ends: what a server may send, and what a client may.

use std::sync::Arc;

use idle_tide_tabular::login::{Encryption, Login, Prelogin};
use idle_tide_tabular::token::{
    Reader, put_columns, put_done, put_environment, put_login, put_message, put_row, put_status,
};
use idle_tide_tabular::{
    Done, Environment, Field, Message, Room, Take, Token, TypeInfo, Value, packet, request, token,
};

use super::Target;

pub(super) const TARGETS: &[Target] = &[
    Target {
        name: "answers over the Tabular Data Stream",
        seeds: answer_seeds,
        run: answers,
    },
    Target {
        name: "requests over the Tabular Data Stream",
        seeds: request_seeds,
        run: requests,
    },
];

fn fields() -> Vec<Field> {
    let field = |name: &str, info: TypeInfo| Field {
        name: name.into(),
        info,
        nullable: true,
    };
    vec![
        field("berth", TypeInfo::of(0xe7, 200)),
        field("depth", TypeInfo::decimal(9, 2)),
        field("at", TypeInfo::scaled(0x2a, 3)),
        field("kept", TypeInfo::of(0xa5, 0xffff)),
        field("n", TypeInfo::of(0x26, 8)),
    ]
}

fn answer_seeds() -> Vec<Vec<u8>> {
    let mut out = Vec::new();
    put_login(0x7400_0004, "haven", (16, 0, 1000), &mut out);
    put_environment(&Environment::Database("harbour".into()), "master", &mut out);
    let fields = &fields()[..2];
    put_columns(fields, &mut out);
    for values in [
        [Value::Text("North"), Value::Number("7.25")],
        [Value::Null, Value::Null],
    ] {
        put_row(fields, values, &mut out).expect("a row");
    }
    let message = Message {
        number: 208,
        state: 1,
        class: 16,
        text: "Invalid object name 'quay'.".into(),
        server: "haven".into(),
        procedure: String::new(),
        line: 3,
    };
    put_message(&message, &mut out);
    put_status(0, &mut out);
    put_done(Done::bare(token::DoneOf::Statement, Done::ERROR), &mut out);
    let mut columns = Vec::new();
    put_columns(&self::fields(), &mut columns);
    columns.extend([0xd2, 0xff, 0xd1, 3, 0, b'x', 0, 0]);
    vec![out, columns]
}

fn answers(bytes: &[u8]) {
    let mut reader = Reader::default();
    let mut take = Take::new(bytes);
    let mut count = 0;
    while take.left() > 0 {
        let before = take.left();
        match reader.next(&mut take) {
            Ok(token) => {
                assert!(take.left() < before, "a token takes room");
                if let Token::Row { .. } = token {
                    count += 1;
                }
            }
            Err(_) => break,
        }
    }
    assert!(count <= bytes.len());
    // A row that is announced is read value by value, however wrong it is.
    let fields: Arc<Vec<Field>> = Arc::clone(reader.fields());
    for with_nulls in [false, true] {
        let mut row = token::Row::new(&fields, bytes, with_nulls);
        let mut room = Room::default();
        while let Some(Ok(_)) = row.next(&mut room) {}
    }
    let _ = TypeInfo::decode(&mut Take::new(bytes));
    let _ = Prelogin::decode(bytes);
}

fn request_seeds() -> Vec<Vec<u8>> {
    let login = Login {
        user: "haven".into(),
        password: "a word".into(),
        database: "harbour".into(),
        version: 0x7400_0004,
        packet_size: 4096,
        process: 1,
        host: "quay".into(),
        new_password: None,
        program: "a program".into(),
        server: "quay".into(),
        only_reads: false,
    };
    let prelogin = Prelogin {
        version: (16, 0, 1000),
        encryption: Encryption::On,
    };
    vec![
        login.encode(),
        prelogin.encode(),
        request::batch("select 1 as a", 0),
        packet::packets(1, &request::batch("select 1 as a", 7), 512),
    ]
}

fn requests(bytes: &[u8]) {
    let _ = Login::decode(bytes);
    let _ = Prelogin::decode(bytes);
    let _ = request::read_batch(bytes);
    let _ = request::read_calls(bytes);
    let _ = request::read_transaction(bytes);
    let mut stream = bytes;
    while let Ok((_, message)) = packet::read_message(&mut stream, 1 << 20) {
        assert!(message.len() <= bytes.len());
        let _ = request::read_batch(&message);
    }
}
