//! Links that end at the worst moment, cursors that are gone, operations that are stopped, frames that are damaged.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;

use idle_tide_core::document;
use idle_tide_core::document::bson::encode;
use idle_tide_dock::server::wire::understood;
use idle_tide_dock::server::{Conversation, Settings};
use idle_tide_engines::Fault;
use proptest::prelude::*;

use crate::place::{connect, run, run_as, server, url};

#[test]
fn a_write_whose_link_is_cut_is_not_sent_again() {
    let settings = Settings {
        replica_set: Some("haven".into()),
        tests: true,
        ..Settings::default()
    };
    let listening = server(settings);
    let address = format!("{}?directConnection=true", url(&listening));
    for (statement, command) in [
        ("insert into log { a: 1 }", "insert"),
        ("update landings where number = 1 set a = 1", "update"),
        ("delete from landings where number = 2", "delete"),
    ] {
        let mut connection = connect(&address);
        let before = listening.server().count_of(command);
        run(
            &mut *connection,
            &format!("call {{ practiceCut: '{command}' }}"),
        )
        .expect("set");
        let error = run(&mut *connection, statement).expect_err("cut");
        assert_eq!(error.fault, Fault::Lost, "{statement}: {error}");
        std::thread::sleep(Duration::from_millis(200));
        assert_eq!(
            listening.server().count_of(command),
            before + 1,
            "{statement} was sent once"
        );
        let mut again = connect(&address);
        let (rows, _) = run(&mut *again, "from log count").expect("answers");
        assert_eq!(rows, [r#"{"count":1}"#]);
    }
}

#[test]
fn a_long_flow_is_stopped_on_the_server() {
    let listening = server(Settings::default());
    let mut connection = connect(&url(&listening));
    let many: Vec<String> = (0..3_000).map(|n| format!("{{ n: {n} }}")).collect();
    run(
        &mut *connection,
        &format!("insert into many [{}]", many.join(", ")),
    )
    .expect("inserted");
    let control = connection.control();
    let stopper = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(300));
        control.cancel(7);
    });
    // Every document is held against every other.
    let cross = "from many raw [{ $lookup: { from: 'many', let: { n: '$n' }, pipeline: [{ $match: { $expr: { $eq: ['$n', '$$n'] } } }], as: 'same' } }] count";
    let error = run_as(&mut *connection, 7, cross).expect_err("stopped");
    assert_eq!(error.fault, Fault::Cancelled, "{error}");
    stopper.join().expect("ended");
    let (rows, _) = run(&mut *connection, "from many count").expect("goes on");
    assert_eq!(rows, [r#"{"count":3000}"#]);
}

#[test]
fn a_cursor_that_the_server_dropped_is_said() {
    let listening = server(Settings::default());
    let mut conversation = Conversation::new(std::sync::Arc::clone(listening.server()));
    let reply = conversation
        .answer(
            "haven",
            &document! { "getMore": 12_345_i64, "collection": "landings" },
        )
        .expect("an answer");
    assert_eq!(
        reply.get("code").and_then(idle_tide_core::Datum::as_i64),
        Some(43)
    );
}

#[test]
fn damaged_frames_end_their_own_connection_only() {
    let listening = server(Settings::default());
    let frame = whole();
    let send = |bytes: &[u8]| {
        let mut stream = TcpStream::connect(listening.address).expect("connects");
        stream
            .set_read_timeout(Some(Duration::from_secs(5)))
            .expect("set");
        let _ = stream.write_all(bytes);
        let _ = stream.shutdown(std::net::Shutdown::Write);
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
        answer
    };
    assert!(send(&frame).len() > 20, "a whole one is answered");
    for cut in (0..frame.len()).step_by(3) {
        assert!(send(&frame[..cut]).is_empty(), "cut at {cut}");
    }
    let mut long = frame.clone();
    long[..4].copy_from_slice(&(47_000_000_u32).to_le_bytes());
    assert!(send(&long).is_empty());
    let mut connection = connect(&url(&listening));
    assert!(
        run(&mut *connection, "from landings count").is_ok(),
        "others go on"
    );
}

fn whole() -> Vec<u8> {
    let mut frame = vec![0; 16];
    frame.extend_from_slice(&[0; 4]);
    frame.push(0);
    frame.extend_from_slice(&encode(&document! { "ping": 1, "$db": "haven" }));
    let length = frame.len() as u32;
    frame[..4].copy_from_slice(&length.to_le_bytes());
    frame[12..16].copy_from_slice(&2013_u32.to_le_bytes());
    frame
}

proptest! {
    #[test]
    fn any_frame_is_answered_or_refused(at in 0_usize..60, value in any::<u8>(), tail in proptest::collection::vec(any::<u8>(), 0..40)) {
        let mut frame = whole();
        let place = at % frame.len();
        frame[place] = value;
        let _ = understood(&frame);
        frame.extend(tail);
        let _ = understood(&frame);
        let length = frame.len() as u32;
        frame[..4].copy_from_slice(&length.to_le_bytes());
        let _ = understood(&frame);
    }
}
