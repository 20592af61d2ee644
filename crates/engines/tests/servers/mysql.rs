//! What only MySQL does, or does otherwise than MariaDB. Without that server these tests have nothing to do, and
//! scripts/test-servers says so.

use std::time::Duration;

use idle_tide_engines::{Fault, Listing, Trouble, load_harbour};

use crate::place::{Keep, connect, one, open_with, own, run, servers, url};

/// The server's name, where there is one.
fn mysql() -> Option<&'static str> {
    servers().into_iter().find(|server| *server == "mysql")
}

#[test]
fn variables_compare_with_columns_and_few_characters_are_enough() {
    let Some(server) = mysql() else { return };
    let mut c = own(server, "few_characters");
    run(
        &mut *c,
        "alter database few_characters character set latin1",
    )
    .expect("set");
    let settings = idle_tide_harbour::Settings {
        readings: 10,
        ..Default::default()
    };
    load_harbour(&mut *c, &settings).expect("loaded");
    let mut c = own(server, "compared");
    run(&mut *c, "create table t (name varchar(9))").expect("made");
    run(&mut *c, "insert into t values ('tide')").expect("filled");
    run(&mut *c, "set @name = 'tide'").expect("set");
    assert_eq!(
        one(&mut *c, "select count(*) from t where name = @name"),
        "1"
    );
}

#[test]
fn bearings_are_whole_before_a_database_is_chosen() {
    let Some(server) = mysql() else { return };
    let mut c = connect(server, "");
    let bearings = c.bearings();
    assert!(bearings.version.contains('.'), "{bearings:?}");
    assert_eq!((bearings.family, bearings.database.as_str()), ("MySQL", ""));
    assert!(url(server, "x").starts_with("mysql://"));
    let source = idle_tide_engines::Source::parse(&url(server, "x")).expect("reads");
    assert!(format!("{source:?}").contains("mysql"), "{source:?}");
}

#[test]
fn a_role_is_taken_along() {
    let Some(server) = mysql() else { return };
    let mut admin = own(server, "by_role");
    for sql in [
        "create table t (a integer)",
        "drop role if exists deck, crew@localhost",
        "drop user if exists mate",
        "create role deck, crew@localhost",
        "create user mate identified by 'low'",
        "grant select on by_role.* to deck",
        "grant deck, crew@localhost to mate",
    ] {
        run(&mut *admin, sql).expect(sql);
    }
    let of_mate = |database: &str| {
        url(server, database).replace("haven:the%20owner%27s%20secret", "mate:low")
    };
    let mut c = open_with(&of_mate(""), vec![]).expect("opens");
    run(&mut *c, "set role deck, crew@localhost").expect("taken");
    run(&mut *c, "use by_role").expect("entered");
    let bearings = c.bearings();
    let role = bearings.server.clone().and_then(|server| server.role);
    assert_eq!(role.as_deref(), Some("crew@localhost, deck"));
    // A second connection, into a database that only the role may enter.
    let beside = c
        .served()
        .expect("a server")
        .beside()
        .expect("a second one");
    let mut beside = beside().expect("opens");
    let served = beside.served().expect("a server");
    served.follow(&bearings).expect("follows");
    let catalog = beside.describe().catalog(1, &mut |_| {}).expect("read");
    assert!(catalog.table("t").is_some());
}

#[test]
fn who_may_do_what_is_whole() {
    let Some(server) = mysql() else { return };
    let mut c = own(server, "granted");
    for sql in [
        "create table t (a integer)",
        "drop user if exists purser",
        "create user purser",
        "grant select on granted.* to purser",
    ] {
        run(&mut *c, sql).expect(sql);
    }
    let mut rows = |name, of: &str| -> Option<String> {
        let query = c.describe().listing(Listing::Access(name));
        let (_, keep) = run(&mut *c, &query.expect("a list").sql).expect("listed");
        let plain = |row: &Vec<idle_tide_core::Value>| {
            let cells: Vec<String> = row.iter().map(|v| v.as_ref().plain()).collect();
            cells.join(" ")
        };
        let mut rows = keep.rows[0].iter().map(plain);
        rows.find(|row| row.contains(of))
    };
    let on_table = rows(Some("t"), "purser").expect("by the database");
    assert!(on_table.contains("select"), "{on_table}");
    let on_table = rows(Some("t"), "'haven'").expect("by everything");
    assert!(on_table.contains("select") && !on_table.contains("xa_recover_admin"));
    let all = rows(None, "'haven'").expect("everything");
    assert!(
        all.len() > 1_024 && all.contains("xa_recover_admin"),
        "{all}"
    );
}

#[test]
fn a_pause_that_is_stopped_is_no_row() {
    for server in servers().into_iter().filter(|s| *s != "postgres") {
        let mut c = connect(server, "harbour");
        let control = c.control();
        let canceller = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(300));
            control.cancel(1);
        });
        let error = c.run(1, "select sleep(60)", &mut Keep::default());
        canceller.join().expect("ends");
        assert_eq!(
            error.expect_err("stopped").fault,
            Fault::Cancelled,
            "{server}"
        );
        assert_eq!(one(&mut *c, "select 7"), "7");
    }
}

#[test]
fn a_file_that_is_named_is_sent_and_no_other() {
    let Some(server) = mysql() else { return };
    let mut c = own(server, "from_file");
    run(&mut *c, "create table t (a integer, b varchar(20))").expect("made");
    let dir = tempfile::tempdir().expect("dir");
    let file = dir.path().join("the mate's.csv");
    std::fs::write(&file, "1,ebb\n2,flood\n").expect("written");
    let load = |path: &str| {
        let path = path.replace('\'', "''");
        format!("load data local infile '{path}' into table t fields terminated by ','")
    };
    let path = file.display().to_string();
    let (outcome, _) = run(&mut *c, &load(&path)).expect("loaded");
    assert!(
        outcome.notes[0].contains(&path) && outcome.notes[0].contains("14 bytes"),
        "{:?}",
        outcome.notes
    );
    assert_eq!(
        one(&mut *c, "select group_concat(b order by a) from t"),
        "ebb,flood"
    );
    let error = run(&mut *c, &load("nowhere.csv")).err().expect("refused");
    assert!(
        error.message.contains("nowhere.csv cannot be read"),
        "{error:?}"
    );
    assert_eq!(one(&mut *c, "select count(*) from t"), "2");
    // A server that takes none says so, and the connection stays.
    let mut c = own("mariadb", "from_file");
    run(&mut *c, "create table t (a integer, b varchar(20))").expect("made");
    let error = run(&mut *c, &load(&path)).err().expect("refused");
    assert!(
        error
            .advice
            .is_some_and(|words| words.contains("local_infile")),
        "{}",
        error.message
    );
    assert_eq!(one(&mut *c, "select count(*) from t"), "0");
}

#[test]
fn an_expired_password_is_said_and_changed_where_the_server_lets_one_in() {
    for server in servers().into_iter().filter(|s| *s != "postgres") {
        let mut admin = connect(server, "harbour");
        for sql in [
            "drop user if exists late",
            "create user late identified by 'old' password expire",
        ] {
            run(&mut *admin, sql).expect(sql);
        }
        let address = url(server, "").replace("haven:the%20owner%27s%20secret", "late:old");
        let opened = open_with(&address, vec![]);
        if server == "mysql" {
            let error = opened.err().expect("refused");
            assert_eq!(error.trouble, Trouble::Login);
            assert!(error.headline.contains("has expired"), "{error}");
            continue;
        }
        let mut c = opened.expect("opens");
        assert!(c.bearings().warnings[0].contains("/change-password"));
        let error = run(&mut *c, "select 1").err().expect("refused");
        assert!(
            error
                .advice
                .is_some_and(|words| words.contains("/change-password"))
        );
        let served = c.served().expect("a server");
        served.change_password(&"new".into()).expect("changed");
        assert_eq!(one(&mut *c, "select 1"), "1");
        assert!(c.bearings().server.is_some());
    }
}
