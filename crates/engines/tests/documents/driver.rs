//! The official driver's own calls against the practice server; nothing of our engine is used.

use futures_util::TryStreamExt;
use idle_tide_dock::server::Settings;
use mongodb::bson::{Bson, Document, doc};
use mongodb::error::{ErrorKind, WriteFailure};
use mongodb::options::{IndexOptions, ReturnDocument};
use mongodb::{Client, IndexModel};

use crate::place::{server, url};

fn run<T>(work: impl Future<Output = T>) -> T {
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .expect("a runtime")
        .block_on(work)
}

#[test]
fn find_with_its_options_and_cursors() {
    let listening = server(Settings::default());
    run(async {
        let client = Client::with_uri_str(url(&listening))
            .await
            .expect("connects");
        let landings = client.database("haven").collection::<Document>("landings");
        let found: Vec<Document> = landings
            .find(doc! { "port": "Brackwater" })
            .sort(doc! { "number": -1 })
            .skip(2)
            .limit(5)
            .projection(doc! { "number": 1, "_id": 0 })
            .await
            .expect("finds")
            .try_collect()
            .await
            .expect("reads");
        assert_eq!(found.len(), 5);
        assert!(
            found.iter().all(|d| d.len() == 1)
                && found[0].get_i32("number").ok() > found[1].get_i32("number").ok()
        );
        let all: Vec<Document> = landings
            .find(doc! {})
            .batch_size(7)
            .await
            .expect("finds")
            .try_collect()
            .await
            .expect("reads");
        assert_eq!(all.len(), 300);
        let one = landings
            .find_one(doc! { "_id": all[17].get("_id").expect("an id") })
            .await
            .expect("finds");
        assert_eq!(one.as_ref(), Some(&all[17]));
        assert_eq!(
            landings
                .count_documents(doc! { "lines.kg": { "$gt": 50.0 } })
                .await
                .ok(),
            Some(all.iter().filter(|d| heavy(d)).count() as u64)
        );
        assert_eq!(landings.estimated_document_count().await.ok(), Some(300));
        let ports = landings.distinct("port", doc! {}).await.expect("distinct");
        assert_eq!(ports.len(), 4);
        assert_eq!(
            client.list_database_names().await.ok(),
            Some(vec!["haven".into()])
        );
        assert_eq!(
            client.database("haven").list_collection_names().await.ok(),
            Some(vec!["landings".into()])
        );
    });
}

fn heavy(document: &Document) -> bool {
    let lines = document.get_array("lines").cloned().unwrap_or_default();
    lines.iter().any(|l| {
        l.as_document()
            .and_then(|l| l.get_f64("kg").ok())
            .is_some_and(|kg| kg > 50.0)
    })
}

#[test]
fn writes_indexes_and_their_errors() {
    let listening = server(Settings::default());
    run(async {
        let client = Client::with_uri_str(url(&listening))
            .await
            .expect("connects");
        let database = client.database("haven");
        let berths = database.collection::<Document>("berths");
        let made = berths
            .insert_many([
                doc! { "code": "N1", "depth": 2 },
                doc! { "code": "N2", "depth": 3, "tags": ["a", "b"] },
            ])
            .await
            .expect("inserts");
        assert_eq!(made.inserted_ids.len(), 2);
        let unique = IndexModel::builder()
            .keys(doc! { "code": 1 })
            .options(IndexOptions::builder().unique(true).build())
            .build();
        assert_eq!(
            berths.create_index(unique).await.expect("made").index_name,
            "code_1"
        );
        let twice = berths
            .insert_one(doc! { "code": "N1" })
            .await
            .expect_err("twice");
        assert!(
            matches!(*twice.kind, ErrorKind::Write(WriteFailure::WriteError(ref e)) if e.code == 11000),
            "{twice}"
        );
        let many = berths
            .insert_many([doc! { "code": "N2" }, doc! { "code": "N3" }])
            .ordered(false)
            .await
            .expect_err("one is there");
        assert!(
            matches!(*many.kind, ErrorKind::InsertMany(ref e) if e.write_errors.as_ref().is_some_and(|w| w.len() == 1 && w[0].index == 0))
        );
        assert_eq!(berths.count_documents(doc! {}).await.ok(), Some(3));

        let done = berths.update_many(doc! { "depth": { "$gte": 2 } }, doc! { "$inc": { "depth": 1 }, "$push": { "tags": "c" }, "$set": { "side.lit": true } }).await.expect("updates");
        assert_eq!((done.matched_count, done.modified_count), (2, 2));
        let upserted = berths
            .update_one(
                doc! { "code": "E9" },
                doc! { "$set": { "depth": 5 }, "$setOnInsert": { "new": true } },
            )
            .upsert(true)
            .await
            .expect("updates");
        assert!(upserted.upserted_id.is_some());
        let e9 = berths
            .find_one(doc! { "code": "E9" })
            .await
            .expect("finds")
            .expect("is there");
        assert_eq!(
            (e9.get_i32("depth").ok(), e9.get_bool("new").ok()),
            (Some(5), Some(true))
        );
        berths
            .update_one(doc! { "code": "N2" }, doc! { "$set": { "tags.$[t]": "z" } })
            .array_filters([doc! { "t": "a" }])
            .await
            .expect("updates");
        let piped = berths
            .update_one(
                doc! { "code": "N2" },
                vec![doc! { "$set": { "double": { "$multiply": ["$depth", 2] } } }],
            )
            .await
            .expect("updates");
        assert_eq!(piped.modified_count, 1);
        let n2 = berths
            .find_one(doc! { "code": "N2" })
            .await
            .expect("finds")
            .expect("is there");
        assert_eq!(
            n2.get_array("tags").ok().map(|t| t[0].clone()),
            Some(Bson::from("z"))
        );
        assert_eq!(n2.get_i32("double").ok(), Some(8));
        berths
            .replace_one(doc! { "code": "N1" }, doc! { "code": "N1", "plain": 1 })
            .await
            .expect("replaces");
        let before = berths
            .find_one_and_update(doc! { "code": "N1" }, doc! { "$set": { "plain": 2 } })
            .return_document(ReturnDocument::After)
            .await
            .expect("finds")
            .expect("is there");
        assert_eq!(before.get_i32("plain").ok(), Some(2));
        assert!(
            berths
                .find_one_and_delete(doc! { "code": "N3" })
                .await
                .expect("finds")
                .is_some()
        );
        assert_eq!(
            berths
                .delete_many(doc! { "code": { "$regex": "^N" } })
                .await
                .ok()
                .map(|d| d.deleted_count),
            Some(2)
        );
        assert_eq!(
            berths.list_index_names().await.ok(),
            Some(vec!["_id_".into(), "code_1".into()])
        );
        berths.drop_index("code_1").await.expect("dropped");
        berths.drop().await.expect("dropped");
        assert_eq!(
            database.list_collection_names().await.ok(),
            Some(vec!["landings".into()])
        );
        let unknown = database
            .run_command(doc! { "moor": 1 })
            .await
            .expect_err("no command");
        assert!(matches!(*unknown.kind, ErrorKind::Command(ref e) if e.code == 59));
        let bad = database
            .collection::<Document>("landings")
            .find(doc! { "a": { "$near": 1 } })
            .await
            .expect_err("no operator");
        assert!(matches!(*bad.kind, ErrorKind::Command(ref e) if e.code == 2));
    });
}

#[test]
fn aggregations_answer_and_write() {
    let listening = server(Settings::default());
    run(async {
        let client = Client::with_uri_str(url(&listening))
            .await
            .expect("connects");
        let database = client.database("haven");
        let landings = database.collection::<Document>("landings");
        let groups: Vec<Document> = landings
            .aggregate(vec![
                doc! { "$unwind": "$lines" },
                doc! { "$group": { "_id": "$lines.species", "n": { "$sum": 1 }, "best": { "$max": "$lines.price" } } },
                doc! { "$match": { "n": { "$gte": 10 } } },
                doc! { "$sort": { "n": -1 } },
            ])
            .await
            .expect("aggregates")
            .try_collect()
            .await
            .expect("reads");
        assert!(
            groups.len() > 5
                && groups
                    .windows(2)
                    .all(|w| w[0].get_i32("n").ok() >= w[1].get_i32("n").ok())
        );
        let saved: Vec<Document> = landings
            .aggregate(vec![
                doc! { "$sortByCount": "$port" },
                doc! { "$out": "by_port" },
            ])
            .await
            .expect("aggregates")
            .try_collect()
            .await
            .expect("reads");
        assert!(saved.is_empty());
        assert_eq!(
            database
                .collection::<Document>("by_port")
                .count_documents(doc! {})
                .await
                .ok(),
            Some(4)
        );
    });
}

#[test]
fn a_login_is_checked_and_a_role_that_reads_writes_nothing() {
    let listening = server(Settings {
        login: true,
        ..Settings::default()
    });
    listening
        .server()
        .add_user("admin", "pilot", "p/ss:w@rd", &["root"]);
    listening
        .server()
        .add_user("admin", "guest", "tide", &["read"]);
    run(async {
        let port = listening.address.port();
        let as_user =
            |login: &str| format!("mongodb://{login}@127.0.0.1:{port}/haven?authSource=admin");
        let pilot = Client::with_uri_str(as_user("pilot:p%2Fss%3Aw%40rd"))
            .await
            .expect("an address");
        assert_eq!(
            pilot
                .database("haven")
                .collection::<Document>("landings")
                .count_documents(doc! {})
                .await
                .unwrap_or_else(|e| panic!("{e}")),
            300
        );
        let wrong = Client::with_uri_str(as_user("pilot:wrong"))
            .await
            .expect("an address");
        let error = wrong
            .database("haven")
            .run_command(doc! { "ping": 1 })
            .await
            .expect_err("wrong");
        assert!(
            matches!(*error.kind, ErrorKind::Authentication { .. }),
            "{error}"
        );
        let nobody = Client::with_uri_str(format!("mongodb://127.0.0.1:{port}/haven"))
            .await
            .expect("an address");
        let error = nobody
            .database("haven")
            .collection::<Document>("landings")
            .find_one(doc! {})
            .await
            .expect_err("nobody");
        assert!(matches!(*error.kind, ErrorKind::Command(ref e) if e.code == 13));
        let guest = Client::with_uri_str(as_user("guest:tide"))
            .await
            .expect("an address");
        let error = guest
            .database("haven")
            .collection::<Document>("x")
            .insert_one(doc! { "a": 1 })
            .await
            .expect_err("only reads");
        assert!(error.to_string().contains("not authorized"), "{error}");
    });
}
