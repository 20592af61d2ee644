//! Transactions on a replica set: by our engine, and by the official driver's own calls.

use idle_tide_dock::server::{Listening, Settings};
use idle_tide_engines::Connection;
use mongodb::Client;
use mongodb::bson::{Document, doc};

use crate::place::{connect, run, server, url};

fn replica_set() -> (Listening, String) {
    let listening = server(Settings {
        replica_set: Some("haven".into()),
        ..Settings::default()
    });
    let address = format!("{}?replicaSet=haven", url(&listening));
    (listening, address)
}

fn count(connection: &mut dyn Connection, condition: &str) -> String {
    let flow = format!("from landings where {condition} count");
    let (rows, _) = run(connection, &flow).unwrap_or_else(|e| panic!("{flow}: {e:?}"));
    rows.concat()
}

#[test]
fn what_a_transaction_changed_is_kept_or_taken_back() {
    let (listening, address) = replica_set();
    let mut here = connect(&address);
    let mut other = connect(&address);
    let say = |connection: &mut dyn Connection, statement: &str| {
        run(connection, statement).unwrap_or_else(|e| panic!("{statement}: {e:?}"));
        let bearings = connection.bearings();
        (bearings.transaction.is_some(), bearings.transaction_failed)
    };
    assert!(here.bearings().has_transactions);
    assert_eq!(say(&mut *here, "begin"), (true, false));
    say(&mut *here, "insert into landings { note: 'in between' }");
    say(
        &mut *here,
        "update landings where number <= 3 set note = 'in between'",
    );
    let changed = "note = 'in between'";
    assert_eq!(count(&mut *here, changed), r#"{"count":4}"#);
    let (seen, _) = run(
        &mut *here,
        &format!("from landings where {changed} order by number"),
    )
    .expect("read");
    assert_eq!(seen.len(), 4);
    assert_eq!(count(&mut *other, changed), r#"{"count":0}"#);
    assert_eq!(say(&mut *here, "rollback"), (false, false));
    assert_eq!(count(&mut *here, changed), r#"{"count":0}"#);

    say(&mut *here, "start transaction");
    say(&mut *here, "delete from landings where number = 1");
    assert_eq!(count(&mut *other, "number = 1"), r#"{"count":1}"#);
    assert_eq!(say(&mut *here, "commit"), (false, false));
    assert_eq!(count(&mut *other, "number = 1"), r#"{"count":0}"#);
    // One who leaves takes back what is open.
    say(&mut *here, "begin");
    say(&mut *here, "delete all from landings");
    drop(here);
    assert_eq!(listening.server().count_of("abortTransaction"), 2);
    assert_eq!(count(&mut *other, "number > 1"), r#"{"count":299}"#);
}

#[test]
fn a_transaction_that_failed_or_came_too_late_keeps_nothing() {
    let (_listening, address) = replica_set();
    let mut here = connect(&address);
    let mut other = connect(&address);
    run(&mut *here, "begin").expect("begun");
    run(&mut *here, "insert into landings { _id: 'a' }").expect("inserted");
    let error = run(&mut *here, "insert into landings { _id: 'a' }").expect_err("twice");
    assert!(error.code.starts_with("11000"), "{error:?}");
    assert!(here.bearings().transaction_failed);
    for refused in ["from landings count", "commit"] {
        let done = run(&mut *here, refused);
        assert!(done.is_err(), "{refused}");
        if refused == "commit" {
            break;
        }
        assert!(here.bearings().transaction_failed);
    }
    assert!(here.bearings().transaction.is_none());
    assert_eq!(count(&mut *here, "_id = 'a'"), r#"{"count":0}"#);

    run(&mut *here, "begin").expect("begun");
    run(
        &mut *here,
        "update landings where number = 2 set note = 'mine'",
    )
    .expect("changed");
    run(
        &mut *other,
        "update landings where number = 3 set note = 'theirs'",
    )
    .expect("changed");
    let error = run(&mut *here, "commit").expect_err("a conflict");
    let words = error.advice.clone().unwrap_or_default();
    assert!(
        words.contains("Another change came in between"),
        "{error:?}"
    );
    assert_eq!(count(&mut *here, "note = 'mine'"), r#"{"count":0}"#);
    assert_eq!(count(&mut *here, "note = 'theirs'"), r#"{"count":1}"#);
    // Not everything can stand in a transaction.
    run(&mut *here, "begin").expect("begun");
    let error = run(&mut *here, "from landings save over copies").expect_err("no");
    assert!(error.code.starts_with("263"), "{error:?}");
    run(&mut *here, "rollback").expect("ended");
}

#[test]
fn a_commit_whose_answer_is_lost_counts_once() {
    let listening = server(Settings {
        replica_set: Some("haven".into()),
        tests: true,
        ..Settings::default()
    });
    let mut here = connect(&format!("{}?replicaSet=haven", url(&listening)));
    run(&mut *here, "begin").expect("begun");
    run(&mut *here, "insert into landings { _id: 'a' }").expect("inserted");
    let cut = "call { practiceCut: 'commitTransaction' }";
    let mut other = connect(&url(&listening));
    run(&mut *other, cut).unwrap_or_else(|e| panic!("{e:?}"));
    run(&mut *here, "commit").expect("the server takes both for one");
    assert_eq!(listening.server().count_of("commitTransaction"), 2);
    assert_eq!(count(&mut *here, "_id = 'a'"), r#"{"count":1}"#);
}

#[test]
fn where_there_are_none_it_is_said() {
    let listening = server(Settings::default());
    let mut alone = connect(&url(&listening));
    assert!(!alone.bearings().has_transactions);
    let error = run(&mut *alone, "begin").expect_err("none");
    assert!(error.message.contains("only replica sets"), "{error:?}");
    let error = run(&mut *alone, "commit").expect_err("none");
    assert!(error.message.contains("begin;"), "{error:?}");
}

#[test]
fn the_drivers_own_transactions_work() {
    let (_listening, address) = replica_set();
    let runtime = tokio::runtime::Runtime::new().expect("a runtime");
    runtime.block_on(async {
        let client = Client::with_uri_str(address).await.expect("an address");
        let landings = client.database("haven").collection::<Document>("landings");
        let mut session = client.start_session().await.expect("a session");
        session.start_transaction().await.expect("begun");
        let two = [doc! { "_id": "x" }, doc! { "_id": "y" }];
        landings
            .insert_many(two)
            .session(&mut session)
            .await
            .expect("inserted");
        let inside = landings
            .count_documents(doc! {})
            .session(&mut session)
            .await;
        assert_eq!(inside.expect("counted"), 302);
        assert_eq!(
            landings.count_documents(doc! {}).await.expect("counted"),
            300
        );
        session.commit_transaction().await.expect("kept");
        assert_eq!(
            landings.count_documents(doc! {}).await.expect("counted"),
            302
        );
        session.start_transaction().await.expect("begun");
        landings
            .delete_many(doc! {})
            .session(&mut session)
            .await
            .expect("deleted");
        session.abort_transaction().await.expect("taken back");
        assert_eq!(
            landings.count_documents(doc! {}).await.expect("counted"),
            302
        );
    });
}
