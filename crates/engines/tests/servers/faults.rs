//! Links that end at the worst moment: what is known is said, and no statement is sent twice.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use idle_tide_engines::{Connection, Fault};

use crate::place::{
    Keep, MANY_OF_MYSQL, SECOND, connect, first, one, open_with, place, run, servers, url,
};

fn control(verb: &str, server: &str) {
    let done = Command::new(place("HAVEN_CONTROL"))
        .args([verb, &place("HAVEN_SERVERS"), server])
        .status();
    assert!(done.expect("starts").success(), "{verb} {server}");
}

/// Each family's second server dies twice, all at the same time: what takes longest is that they begin again.
#[test]
fn a_server_that_dies_is_said_and_the_next_connection_works() {
    let _one = SECOND
        .lock()
        .unwrap_or_else(std::sync::PoisonError::into_inner);
    let here = servers();
    std::thread::scope(|scope| {
        for (server, database, many) in [
            (
                "postgres-b",
                "postgres",
                "select generate_series(1, 100000000)",
            ),
            ("mariadb-b", "harbour", "select seq from seq_1_to_100000000"),
            ("mysql-b", "harbour", MANY_OF_MYSQL),
        ] {
            if here.contains(&server.trim_end_matches("-b")) {
                scope.spawn(move || dies(server, database, many));
            }
        }
    });
}

/// Hears of the first rows.
struct UntilRows(Arc<AtomicBool>, usize);

impl idle_tide_engines::Sink for UntilRows {
    fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
        Ok(())
    }

    fn rows(&mut self, batch: idle_tide_core::RowBatch) -> std::io::Result<()> {
        self.1 += batch.len();
        self.0.store(true, Ordering::SeqCst);
        Ok(())
    }
}

fn dies(server: &str, database: &str, many: &str) {
    // In the middle of a result.
    let mut c = connect(server, database);
    let (seen, name) = (Arc::new(AtomicBool::new(false)), server.to_string());
    let watch = Arc::clone(&seen);
    let killer = std::thread::spawn(move || {
        while !watch.load(Ordering::SeqCst) {
            std::thread::sleep(std::time::Duration::from_millis(1));
        }
        control("kill", &name);
    });
    let mut sink = UntilRows(seen, 0);
    let error = c.run(1, many, &mut sink).expect_err("lost");
    killer.join().expect("killed");
    assert_eq!(error.fault, Fault::Lost, "{server}: {error:?}");
    assert!(sink.1 > 0, "rows before stay");
    let error = run(&mut *c, "select 1").err().expect("gone");
    assert_eq!(error.fault, Fault::NotSent, "{server}: {error:?}");
    assert!(open_with(&url(server, database), vec![]).is_err());
    control("begin", server);
    // Inside a transaction, while nothing runs.
    let mut c = connect(server, database);
    run(&mut *c, "drop table if exists kept").expect("dropped");
    run(&mut *c, "create table kept (a integer)").expect("made");
    run(&mut *c, "begin").expect("begun");
    run(&mut *c, "insert into kept values (1)").expect("inserted");
    control("kill", server);
    control("begin", server);
    let error = run(&mut *c, "insert into kept values (2)")
        .err()
        .expect("gone");
    assert!(
        matches!(error.fault, Fault::NotSent | Fault::Lost),
        "{server}: {error:?}"
    );
    let mut again = connect(server, database);
    assert_eq!(one(&mut *again, "select count(*) from kept"), "0");
}

/// Passes bytes on, counts how often a word goes to the server, and cuts the link before the answer to it.
struct Proxy {
    port: u16,
    seen: Arc<AtomicUsize>,
}

fn proxy(to: String, word: &'static [u8]) -> Proxy {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("address").port();
    let seen = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&seen);
    std::thread::spawn(move || {
        for near in listener.incoming().flatten() {
            let Ok(far) = TcpStream::connect(format!("127.0.0.1:{to}")) else {
                continue;
            };
            let (mut near_in, mut far_out) = (
                near.try_clone().expect("clones"),
                far.try_clone().expect("clones"),
            );
            let counted = Arc::clone(&counted);
            let cut = Arc::new(AtomicBool::new(false));
            let was_cut = Arc::clone(&cut);
            std::thread::spawn(move || {
                let mut bytes = [0; 65_536];
                while let Ok(count @ 1..) = near_in.read(&mut bytes) {
                    if bytes[..count].windows(word.len()).any(|part| part == word) {
                        counted.fetch_add(1, Ordering::SeqCst);
                        cut.store(true, Ordering::SeqCst);
                    }
                    let _ = far_out.write_all(&bytes[..count]);
                }
                let _ = far_out.shutdown(std::net::Shutdown::Write);
            });
            let (mut far_in, mut near_out) = (far, near);
            std::thread::spawn(move || {
                let mut bytes = [0; 65_536];
                while let Ok(count @ 1..) = far_in.read(&mut bytes) {
                    if was_cut.load(Ordering::SeqCst) {
                        // The server has done it; nobody hears.
                        let _ = near_out.shutdown(std::net::Shutdown::Both);
                        return;
                    }
                    let _ = near_out.write_all(&bytes[..count]);
                }
                let _ = near_out.shutdown(std::net::Shutdown::Both);
            });
        }
    });
    Proxy { port, seen }
}

#[test]
fn a_link_cut_between_a_write_and_its_answer_repeats_nothing() {
    for server in servers() {
        let database = first(server);
        let real = place(&format!("HAVEN_{}_PORT", server.to_uppercase()));
        let proxy = proxy(real.clone(), b"into logbook");
        let mut direct = connect(server, database);
        run(&mut *direct, "drop table if exists logbook").expect("dropped");
        run(&mut *direct, "create table logbook (a integer)").expect("made");
        let address =
            url(server, database).replace(&format!(":{real}/"), &format!(":{}/", proxy.port));
        let mut c: Box<dyn Connection> = open_with(&format!("{address}?tls=off"), vec![])
            .unwrap_or_else(|e| panic!("{server}: {e}"));
        // It is not the port that was addressed, and that is said.
        assert!(c.bearings().warnings[0].contains(&real), "{server}");
        let error = c
            .run(1, "insert into logbook values (1)", &mut Keep::default())
            .expect_err("lost");
        assert_eq!(error.fault, Fault::Lost, "{server}: {error:?}");
        for _ in 0..3 {
            assert_eq!(
                run(&mut *c, "select 1").err().expect("gone").fault,
                Fault::NotSent
            );
        }
        assert_eq!(proxy.seen.load(Ordering::SeqCst), 1, "it was sent once");
        assert_eq!(
            one(&mut *direct, "select count(*) from logbook"),
            "1",
            "{server}"
        );
    }
}
