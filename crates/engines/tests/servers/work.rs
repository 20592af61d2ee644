//! What both families of servers have to do alike.

use std::time::{Duration, Instant};

use idle_tide_engines::load_harbour;
use idle_tide_engines::{Access, Fault, LinkState, Listing, Proof};
use idle_tide_lang::correct::Complaint;

use crate::place::{
    Keep, MANY_OF_MYSQL, SECOND, connect, first, free_port, one, open_with, own, run, servers, url,
};

#[test]
fn statements_transactions_and_bearings() {
    for server in servers() {
        let mut c = own(server, "work");
        run(
            &mut *c,
            "create table berths (id integer primary key, name varchar(20) not null)",
        )
        .expect("made");
        let (outcome, _) = run(
            &mut *c,
            "insert into berths values (1, 'North'), (2, 'South')",
        )
        .expect("inserted");
        assert_eq!(outcome.changed, Some(2), "{server}");
        let bearings = c.bearings();
        assert_eq!(bearings.database, "work");
        assert_eq!(bearings.access, Access::Writable);
        // MySQL comes from a suite that moves on.
        let only_version = |w: &String| server == "mysql" && w.contains("server's version");
        assert!(
            bearings.warnings.iter().all(only_version),
            "{:?}",
            bearings.warnings
        );
        let at = bearings.server.expect("a server");
        assert!(
            at.user.starts_with("haven") && at.all_powerful && at.local,
            "{at:?}"
        );
        assert!(
            matches!(
                at.link,
                LinkState::Encrypted {
                    proof: Proof::None,
                    ..
                }
            ),
            "{at:?}"
        );
        run(&mut *c, "begin").expect("begun");
        assert!(c.bearings().transaction.is_some(), "{server}");
        run(&mut *c, "delete from berths where id = 1").expect("deleted");
        run(&mut *c, "rollback").expect("taken back");
        assert!(c.bearings().transaction.is_none());
        assert_eq!(one(&mut *c, "select count(*) from berths"), "2");
        let (_, keep) = run(&mut *c, "select id, name from berths order by id").expect("read");
        assert_eq!(keep.columns[0][1].name, "name");
        assert_eq!(keep.rows[0].len(), 2);
        let error = run(&mut *c, "select * from berth").err().expect("refused");
        assert_eq!(
            error.complaint,
            Complaint::NoSuchTable("berth".into()),
            "{error:?}"
        );
        let error = run(&mut *c, "select nam from berths")
            .err()
            .expect("refused");
        assert_eq!(
            error.complaint,
            Complaint::NoSuchColumn("nam".into()),
            "{error:?}"
        );
        let error = run(&mut *c, "select id fro berths x")
            .err()
            .expect("refused");
        assert!(
            matches!(error.complaint, Complaint::Syntax(_)) && error.offset.is_some(),
            "{error:?}"
        );
        let error = run(&mut *c, "insert into berths values (1, 'again')")
            .err()
            .expect("refused");
        assert_eq!(error.fault, Fault::Constraint, "{error:?}");
        let list = c
            .describe()
            .listing(Listing::Databases(true))
            .expect("a list")
            .sql;
        let (_, keep) = run(&mut *c, &list).expect("listed");
        assert!(
            keep.rows[0]
                .iter()
                .any(|row| row[0].as_ref().plain() == "work")
        );
        for what in [
            Listing::Roles(true),
            Listing::Access(None),
            Listing::Access(Some("berths")),
        ] {
            let query = c.describe().listing(what).expect("a list").sql;
            let (_, keep) =
                run(&mut *c, &query).unwrap_or_else(|error| panic!("{server} {what:?}: {error}"));
            assert!(!keep.columns[0].is_empty());
        }
    }
}

#[test]
fn a_long_query_is_cancelled_and_the_connection_stays() {
    for server in servers() {
        let mut c = connect(server, first(server));
        let sleep = if server == "postgres" {
            "select pg_sleep(60)"
        } else {
            "select sleep(60) from (select 1 union select 2) two"
        };
        let control = c.control();
        let canceller = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(300));
            control.cancel(1);
        });
        let start = Instant::now();
        let outcome = c.run(1, sleep, &mut Keep::default());
        assert!(start.elapsed() < Duration::from_secs(20));
        canceller.join().expect("ends");
        if let Err(error) = outcome {
            assert_eq!(error.fault, Fault::Cancelled, "{server} {error:?}");
        } else {
            // MariaDB lets sleep() itself return 1 and goes on to the next row, which it refuses.
            assert_eq!(server, "mariadb");
        }
        for _ in 0..3 {
            assert_eq!(one(&mut *c, "select 7"), "7");
        }
        // One that was cancelled before it began does not begin.
        c.control().cancel(2);
        assert_eq!(
            c.run(2, "select 1", &mut Keep::default())
                .expect_err("not run")
                .fault,
            Fault::Cancelled
        );
    }
}

#[test]
fn a_sink_that_fails_ends_the_stream_and_not_the_connection() {
    struct Full;
    impl idle_tide_engines::Sink for Full {
        fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
            Ok(())
        }
        fn rows(&mut self, _: idle_tide_core::RowBatch) -> std::io::Result<()> {
            Err(std::io::Error::other("full"))
        }
    }
    for (server, many) in [
        ("postgres", "select generate_series(1, 50000000)"),
        ("mariadb", "select seq from seq_1_to_50000000"),
        ("mysql", MANY_OF_MYSQL),
    ] {
        if !servers().contains(&server) {
            continue;
        }
        let mut c = connect(server, first(server));
        let start = Instant::now();
        let error = c.run(5, many, &mut Full).expect_err("fails");
        assert_eq!(error.fault, Fault::Sink, "{error:?}");
        assert!(
            start.elapsed() < Duration::from_secs(120),
            "{:?}",
            start.elapsed()
        );
        assert_eq!(one(&mut *c, "select 7"), "7");
    }
}

#[test]
fn the_harbour_loads_and_its_catalog_is_whole() {
    for server in servers() {
        let mut c = own(server, "haven_catalog");
        let settings = idle_tide_harbour::Settings {
            readings: 500,
            ..Default::default()
        };
        load_harbour(&mut *c, &settings).unwrap_or_else(|error| panic!("{server}: {error}"));
        let mut beside = c
            .served()
            .expect("a server")
            .beside()
            .expect("a second connection")()
        .expect("opens");
        beside
            .served()
            .expect("a server")
            .follow(&c.bearings())
            .expect("follows");
        let mut catalog = beside.describe().catalog(1, &mut |_| {}).expect("read");
        beside
            .describe()
            .count_rows(1, &mut catalog, Duration::from_secs(5));
        let visits = catalog.table("visits").expect("there").clone();
        assert_eq!(visits.links.len(), 2, "{server}");
        assert_eq!(
            visits
                .links
                .iter()
                .map(|l| l.table.as_str())
                .collect::<Vec<_>>()
                .len(),
            2
        );
        assert_eq!(visits.field("id").expect("field").key, Some(1));
        assert_eq!(visits.comment.as_deref(), Some("one stay of one vessel"));
        assert_eq!(
            visits.field("berth_id").expect("field").comment.as_deref(),
            Some("where the vessel lay")
        );
        assert!(
            visits.indexes.iter().any(|i| i.name == "one_per_tide"
                && i.unique
                && i.columns == ["berth_id", "arrived"])
        );
        assert!(visits.rows.is_some_and(|rows| rows > 100) && !visits.estimated);
        assert!(
            catalog
                .objects
                .iter()
                .any(|o| o.kind == idle_tide_core::Kind::Trigger
                    && o.table.as_deref() == Some("dues"))
        );
        assert!(catalog.table("owed").is_some_and(|view| view.is_view()));
        // What a definition says, the server takes.
        for name in ["visits", "owed", "dues"] {
            let mut object = catalog.table(name).expect("there").clone();
            beside.describe().define(1, &mut object).expect("defined");
            let text = object.definition.expect("a definition");
            assert!(text.to_lowercase().starts_with("create"), "{text}");
        }
        // Columns of results know where they come from.
        let (_, keep) = run(
            &mut *c,
            "select v.id, b.code from visits v join berths b on b.id = v.berth_id limit 1",
        )
        .expect("read");
        let columns = &keep.columns[0];
        assert_eq!(
            columns[0].origin,
            Some(("visits".into(), "id".into())),
            "{server}"
        );
        assert!(columns[0].key && columns[0].optional == Some(false));
        let error = run(
            &mut *c,
            "insert into dues (visit_id, amount, raised_on) values (1, -1, '2031-01-01')",
        )
        .err()
        .expect("refused");
        assert!(
            error.message.contains("dues cannot be negative"),
            "{error:?}"
        );
    }
}

#[test]
fn writes_can_be_refused_by_the_server() {
    for server in servers() {
        let mut c = own(server, "refused");
        run(&mut *c, "create table t (id integer)").expect("made");
        c.refuse_writes(true).expect("refuses");
        assert_eq!(
            c.bearings().access,
            Access::Writable,
            "what may be undone is not the server's nature"
        );
        for write in [
            "insert into t values (1)",
            "with x as (select 1) insert into t select * from x",
            "create table u (id integer)",
            "drop table t",
            "set session transaction read write",
            "begin read write",
            "start transaction read write",
            "set transaction_read_only = off",
            "set default_transaction_read_only = off",
            "set tx_read_only = 0",
            "select set_config('default_transaction_read_only', 'off', false)",
            "truncate table t",
            "grant select on t to haven",
            "copy t from '/etc/hostname'",
            "select 1 into outfile '/tmp/haven-out'",
            "reset all",
            "explain analyze insert into t values (1)",
        ] {
            assert!(run(&mut *c, write).is_err(), "{server}: {write}");
        }
        assert_eq!(one(&mut *c, "select count(*) from t"), "0");
        c.refuse_writes(false).expect("allows");
        run(&mut *c, "insert into t values (1)").expect("inserted");
    }
}

/// Writes that do not look like writes, or that lie outside of transactions: another connection sees none of them,
/// and what reads still runs.
#[test]
fn hidden_writes_are_refused() {
    const BOTH: &[&str] = &[
        "select tidy()",
        "select * from t where a = tidy()",
        "values (tidy())",
        "with x as (select tidy() as a) select * from x",
        "call sweep()",
        "call through()",
        "update t set a = 9",
        "delete from t where a = 1",
        "insert into t select 7",
        "explain analyze delete from t",
        "analyze t",
        "drop function tidy",
        "create user stowaway identified by 'x'",
        "grant select on t to haven",
        "begin read write",
        "start transaction read write",
        "set session transaction read write",
        "set transaction read write",
        "lock tables t write",
        "rename table t to u",
        "flush tables",
        "kill 1",
        "execute kept",
        "truncate t",
    ];
    const POSTGRES: &[&str] = &[
        "select nextval('s')",
        "select setval('s', 99)",
        "do $$ begin insert into t values (2); end $$",
        "do $$ begin commit; set session characteristics as transaction read write; insert into t values (2); end $$",
        "do $$ begin rollback; perform set_config('default_transaction_read_only', 'off', false); start transaction read write; insert into t values (2); end $$",
        "do $$ begin copy t to '/tmp/haven-hidden'; end $$",
        "copy t to '/tmp/haven-hidden'",
        "copy t to '/tmp/haven-stdout'",
        "copy t to '/tmp/haven-hidden' -- stdout",
        "copy (select 'stdout') to '/tmp/haven-hidden'",
        "copy (insert into t values (2) returning a) to stdout",
        "copy t from program 'echo 2'",
        "copy t to program 'cat > /tmp/haven-hidden'",
        "select lo_create(4711)",
        "select lo_from_bytea(4712, 'x')",
        "select lo_import('/etc/hostname', 4713)",
        "select pg_catalog.lo_export(1, '/tmp/haven-hidden')",
        "select \"lo_create\"(4714)",
        "alter system set log_min_messages = 'notice'",
        "select pg_reload_conf()",
        "select pg_stat_reset()",
        "select pg_switch_wal()",
        "select pg_logical_emit_message(false, 'a', 'b')",
        "select pg_notify('tide', 'x')",
        "notify tide",
        "select set_config('transaction_read_only', 'off', true)",
        "set \"transaction_read_only\" = off",
        "set default_transaction_read_only to off",
        "reset all",
        "discard all",
        "vacuum t",
        "reindex table t",
        "cluster",
        "checkpoint",
        "load 'plpgsql'",
        "security label on table t is 'x'",
        "comment on table t is 'x'",
        "refresh materialized view kept_rows",
        "select * into u from t",
        "create temp table u as select 1",
        "insert into scratch values (1)",
        "with x as (insert into t values (2) returning a) select * from x",
        "prepare p as select pg_reload_conf()",
        "declare c cursor for select lo_create(4715)",
        "explain analyze select lo_create(4716)",
        "copy (select lo_create(4717)) to stdout",
        "merge into t using (select 2 as b) x on t.a = x.b when not matched then insert values (2)",
    ];
    const MARIADB: &[&str] = &[
        "begin not atomic commit; insert into t values (2); end",
        "begin not atomic set session transaction read write; insert into t values (2); end",
        "if 1 then insert into t values (2); end if",
        "execute immediate 'insert into t values (2)'",
        "execute immediate concat('insert into ', 't values (2)')",
        "prepare p from 'insert into t values (2)'",
        "select nextval(s)",
        "select next value for s",
        "select setval(s, 99)",
        "do nextval(s)",
        "set @a = nextval(s)",
        "set @a = tidy()",
        "do tidy()",
        "select 1 into outfile '/tmp/haven-hidden'",
        "select 1 into dumpfile '/tmp/haven-hidden'",
        "set global max_connections = 77",
        "set @@global.max_connections = 77",
        "set @a = 1, @@global.max_connections = 77",
        "set session tx_read_only = 0",
        "set @@session.tx_read_only = 0",
        "set @@tx_read_only = 0",
        "set password = password('x')",
        "set default role none",
        "set statement tx_read_only = 0 for insert into t values (2)",
        "set statement max_statement_time = 9 for insert into t values (2)",
        "replace into t values (2)",
        "insert into scratch values (1)",
        "load data infile '/etc/hostname' into table t",
        "analyze table t",
        "analyze insert into t values (2)",
        "optimize table t",
        "check table t for upgrade",
        "reset query cache",
        "purge binary logs before now()",
        "start slave",
        "xa start 'x'",
        "/*!50000 insert into t values (2) */",
        "/*M!100000 set global max_connections = 77 */",
        "set sql_log_bin = 0",
    ];
    const READ: &[&str] = &[
        "select count(*) from t",
        "select * from t where a in (1, 2) order by a",
        "explain select * from t",
        "show tables",
        "select lower('A'), coalesce(null, 1), now()",
        "with x as (select 1 as a) select * from x",
        "begin",
        "select count(*) from t",
        "rollback",
    ];
    for server in servers() {
        let mut other = own(server, "hidden");
        let mut setup = vec!["create table t (a integer)", "insert into t values (1)"];
        if server != "mysql" {
            setup.push("create sequence s");
        }
        setup.extend(match server {
            "postgres" => [
                "create function tidy() returns int language plpgsql as 'begin insert into t values (3); return 1; end'",
                "create procedure sweep() language plpgsql as 'begin insert into t values (4); end'",
                "create procedure through() language plpgsql as 'begin commit; set default_transaction_read_only = off; insert into t values (5); end'",
                "create materialized view kept_rows as select * from t",
            ],
            _ => [
                "create function tidy() returns int modifies sql data begin insert into t values (3); return 1; end",
                "create procedure sweep() begin insert into t values (4); end",
                "create procedure through() begin commit; set session transaction read write; insert into t values (5); end",
                "select 1",
            ],
        });
        for sql in setup {
            run(&mut *other, sql).expect("made");
        }
        let mut c = connect(server, "hidden");
        for sql in match server {
            "postgres" => [
                "create temp table scratch (a int)",
                "prepare kept as insert into t values (6)",
            ],
            _ => [
                "create temporary table scratch (a int)",
                "prepare kept from 'insert into t values (6)'",
            ],
        } {
            run(&mut *c, sql).expect("made before");
        }
        c.refuse_writes(true).expect("refuses");
        let own_list = if server == "postgres" {
            POSTGRES
        } else {
            MARIADB
        };
        for write in BOTH.iter().chain(own_list) {
            // A remark, to MySQL.
            if server == "mysql" && write.starts_with("/*M!") {
                continue;
            }
            let ran = run(&mut *c, write);
            let rows = one(&mut *other, "select count(*) from t");
            assert!(
                ran.is_err() && rows == "1",
                "{server}: {write}: {rows} rows"
            );
            assert!(c.bearings().transaction.is_none(), "{server}: {write}");
        }
        for read in READ
            .iter()
            .filter(|read| server != "postgres" || !read.starts_with("show"))
        {
            run(&mut *c, read).unwrap_or_else(|error| panic!("{server}: {read}: {error:?}"));
        }
        for file in ["/tmp/haven-hidden", "/tmp/haven-stdout"] {
            assert!(!std::path::Path::new(file).exists(), "{server}: {file}");
        }
        // What a session sets stays set, and in a transaction of the user's own nothing gets through either.
        let set = if server == "postgres" {
            "set statement_timeout = 7777"
        } else {
            "set @a = 7777"
        };
        run(&mut *c, set).expect("set");
        let asked = if server == "postgres" {
            "show statement_timeout"
        } else {
            "select @a"
        };
        assert!(one(&mut *c, asked).starts_with("7777"), "{server}");
        run(&mut *c, "begin").expect("begun");
        assert!(run(&mut *c, "insert into t values (8)").is_err());
        run(&mut *c, "rollback").expect("ended");
        c.refuse_writes(false).expect("allows");
        // Inside an open transaction it counts at once, or is refused with the reason.
        run(&mut *c, "begin").expect("begun");
        run(&mut *c, "insert into t values (8)").expect("inserted");
        let refused = c.refuse_writes(true);
        match server {
            "postgres" => {
                refused.expect("counts");
                assert!(run(&mut *c, "insert into t values (9)").is_err());
            }
            _ => assert!(
                refused
                    .expect_err("refused")
                    .message
                    .contains("comes first")
            ),
        }
    }
}

#[test]
fn passwords_are_asked_for_and_changed() {
    for server in servers() {
        let mut admin = connect(
            server,
            if server == "postgres" {
                "postgres"
            } else {
                "harbour"
            },
        );
        let make = if server == "postgres" {
            [
                "drop role if exists bosun",
                "create role bosun login password 'first word'",
            ]
        } else {
            [
                "drop user if exists bosun",
                "create user bosun identified by 'first word'",
            ]
        };
        for sql in make {
            run(&mut *admin, sql).expect("made");
        }
        let address = url(server, if server == "postgres" { "postgres" } else { "" })
            .replace("haven:the%20owner%27s%20secret", "bosun");
        let refused = open_with(&address, vec!["wrong", "wrong", "wrong"])
            .err()
            .expect("refused");
        assert_eq!(
            refused.trouble,
            idle_tide_engines::Trouble::Login,
            "{refused:?}"
        );
        let mut c = open_with(&address, vec!["first word", "wrong"]).expect("the second word fits");
        assert!(!c.bearings().server.expect("server").all_powerful);
        c.served()
            .expect("a server")
            .change_password(&"it's the \\second".to_string().into())
            .expect("changed");
        assert!(open_with(&address, vec!["first word"]).is_err());
        open_with(&address, vec!["it's the \\second"]).expect("the new one fits");
        // A second connection of the same session knows it too.
        c.served().expect("a server").beside().expect("beside")().expect("opens");
        // What this user may not see is said.
        let query = c.describe().listing(Listing::Roles(false)).expect("list");
        run(&mut *c, &query.sql).expect("listed");
        if server == "mariadb" {
            assert!(query.note.expect("a note").contains("may not read"));
        }
    }
}

#[test]
fn several_results_and_warnings_arrive() {
    let mut c = own("mariadb", "several");
    run(
        &mut *c,
        "create procedure two() begin select 1 as a; select 2 as b, 'x' as c; end",
    )
    .expect("made");
    let mut keep = Keep::default();
    let outcome = c.run(1, "call two()", &mut keep).expect("called");
    assert!(outcome.returns_rows);
    assert_eq!(
        keep.columns.iter().map(Vec::len).collect::<Vec<_>>(),
        [1, 2]
    );
    assert_eq!(one(&mut *c, "select 7"), "7");
    run(&mut *c, "create table short (a varchar(2))").expect("made");
    run(&mut *c, "set sql_mode = ''").expect("set");
    let (outcome, _) = run(&mut *c, "insert into short values ('long')").expect("cut");
    assert!(
        outcome.notes[0].contains("Data truncated"),
        "{:?}",
        outcome.notes
    );
    let many = format!(
        "insert into short values {}",
        vec!["('long')"; 30].join(", ")
    );
    let (outcome, _) = run(&mut *c, &many).expect("cut");
    assert_eq!(outcome.notes.len(), 21);
    assert!(
        outcome.notes[20].contains("20 of 30"),
        "{:?}",
        outcome.notes[20]
    );
    run(&mut *c, "set sql_mode = 'ANSI_QUOTES'").expect("set");
    c.bearings();
    assert!(!c.dialect().double_quoted_text);
    let mut p = own("postgres", "several");
    let (outcome, _) = run(
        &mut *p,
        "do $$ begin raise notice 'springs tonight'; end $$",
    )
    .expect("done");
    assert!(
        outcome.notes[0].contains("springs tonight"),
        "{:?}",
        outcome.notes
    );
    let (outcome, _) = run(&mut *p, "create table if not exists x (a int)").expect("made");
    assert!(outcome.notes.is_empty());
    let said = run(
        &mut *p,
        "do $$ begin raise notice 'first'; raise warning 'second'; raise exception 'third'; end $$",
    );
    let notes = said.err().expect("raised").notes;
    assert!(
        notes.len() == 2 && notes[0].contains("first") && notes[1].contains("second"),
        "{notes:?}"
    );
    let (outcome, _) = run(
        &mut *p,
        "do $$ begin for i in 1..300 loop raise notice 'buoy %', i; end loop; end $$",
    )
    .expect("done");
    assert_eq!(outcome.notes.len(), 201);
    assert!(
        outcome.notes[200].contains("first 200"),
        "{:?}",
        outcome.notes[200]
    );
    // What another session sent while this one was idle is there with the next statement.
    run(&mut *p, "listen tides").expect("listens");
    let mut other = connect("postgres", "several");
    run(&mut *other, "notify tides, 'springs'").expect("sent");
    p.bearings();
    let (outcome, _) = run(&mut *p, "select 1").expect("read");
    assert_eq!(outcome.notes, ["heard on tides: springs"]);
    run(&mut *p, "set standard_conforming_strings = off").expect("set");
    assert!(p.dialect().backslash_escapes);
    let (outcome, _) = run(&mut *p, "copy x from stdin;\n1\n\\N\n\\.\n").expect("copied");
    assert_eq!(outcome.changed, Some(2));
    let (_, keep) = run(&mut *p, "copy x to stdout;").expect("copied");
    assert_eq!(keep.rows[0].len(), 2);
    assert!(run(&mut *p, "\\connect other").is_err());
    assert_eq!(one(&mut *p, "select count(*) from x"), "2");
}

#[test]
fn bearings_follow_what_is_typed() {
    let mut c = own("mariadb", "elsewhere");
    run(&mut *c, "use harbour").expect("goes");
    assert_eq!(c.bearings().database, "harbour");
    let mut nowhere = connect("mariadb", "");
    assert_eq!(nowhere.bearings().database, "");
    assert!(
        nowhere
            .describe()
            .catalog(1, &mut |_| {})
            .expect("empty")
            .objects
            .is_empty()
    );
    let error = run(&mut *nowhere, "select * from visits")
        .err()
        .expect("refused");
    assert!(error.advice.expect("advice").contains("/use"));
    let mut p = own("postgres", "elsewhere");
    for sql in [
        "drop role if exists deckhand",
        "create role deckhand",
        "create schema shed",
        "set search_path = shed, public",
        "set role deckhand",
    ] {
        run(&mut *p, sql).expect(sql);
    }
    let at = p.bearings().server.expect("server");
    assert_eq!(
        (at.role.as_deref(), at.all_powerful),
        (Some("deckhand"), false)
    );
    run(&mut *p, "reset role").expect("back");
    assert_eq!(
        p.bearings().server.expect("server").search_path,
        ["shed", "public"]
    );
    run(&mut *p, "begin").expect("begun");
    assert!(run(&mut *p, "select nothing").is_err());
    assert!(p.bearings().transaction_failed);
    let error = run(&mut *p, "select 1").err().expect("refused");
    assert!(error.advice.expect("advice").contains("rollback"));
    run(&mut *p, "rollback").expect("ended");
    assert!(!p.bearings().transaction_failed);
}

#[test]
fn plans_are_measured_and_writes_are_not_run() {
    for server in servers() {
        let mut c = own(server, "planned");
        run(
            &mut *c,
            "create table t (id integer primary key, n integer)",
        )
        .expect("made");
        run(&mut *c, "insert into t values (1, 1), (2, 1), (3, 2)").expect("inserted");
        let plan = idle_tide_engines::plan::plan(
            &mut *c,
            9_001,
            "select n, count(*) from t where id > 1 group by n",
            true,
        )
        .expect("planned");
        assert!(plan.measured && !plan.text.is_empty(), "{server}");
        let walk = plan.walk();
        let table = walk
            .iter()
            .find(|(_, step)| step.on == "t")
            .map(|(_, step)| *step);
        let table = table.unwrap_or_else(|| panic!("{server}: {plan:?}"));
        assert!(
            table.expected.is_some() && table.rows.is_some(),
            "{server}: {table:?}"
        );
        assert!(walk.iter().any(|(_, step)| step.time.is_some()), "{server}");
        // In a session that refuses writes it is measured too.
        c.refuse_writes(true).expect("refused");
        let plan = idle_tide_engines::plan::plan(&mut *c, 9_006, "select * from t", true);
        assert!(plan.is_ok_and(|plan| plan.measured), "{server}");
        c.refuse_writes(false).expect("allowed");
        // Nothing that writes runs: neither plainly, nor hidden in what reads.
        let plan =
            idle_tide_engines::plan::plan(&mut *c, 9_002, "delete from t", true).expect("planned");
        assert!(
            !plan.measured && plan.notes.iter().any(|n| n.contains("not run")),
            "{server}"
        );
        if server == "postgres" {
            run(&mut *c, "create function clear() returns integer language sql as 'delete from t returning 1'").expect("made");
            let hidden = idle_tide_engines::plan::plan(&mut *c, 9_003, "select clear()", true);
            let hidden = hidden.expect("planned");
            assert!(!hidden.measured && hidden.notes.iter().any(|n| n.contains("calls clear")));
            run(&mut *c, "begin").expect("begun");
            let plan = idle_tide_engines::plan::plan(&mut *c, 9_004, "select * from t", true)
                .expect("planned");
            assert!(!plan.measured && c.bearings().transaction.is_some());
            run(&mut *c, "rollback").expect("ended");
        }
        assert_eq!(one(&mut *c, "select count(*) from t"), "3", "{server}");
        assert!(c.bearings().transaction.is_none(), "{server}");
        let error = idle_tide_engines::plan::plan(&mut *c, 9_005, "select nn from t", true)
            .expect_err("no such column");
        assert!(
            matches!(error.complaint, Complaint::NoSuchColumn { .. }),
            "{server}: {error:?}"
        );
        if server == "postgres" {
            assert_eq!(error.offset, Some(7));
        }
    }
}

#[test]
fn a_catalog_has_every_kind_and_tells_names_first() {
    let mut c = own("postgres", "kinds");
    for sql in [
        "create extension if not exists plpgsql",
        "create sequence tally start 5",
        "create function fee(numeric) returns numeric language sql as 'select $1'",
        "create type rig as enum ('sloop', 'yawl')",
        "create table boats (id integer generated always as identity primary key, rig rig, kind text check (kind in ('a', 'b')))",
        "create materialized view kept as select * from boats",
        "create temporary table passing (x integer)",
    ] {
        run(&mut *c, sql).expect("made");
    }
    let catalog = c
        .describe()
        .catalog(1, &mut |_| panic!("a small catalog comes at once"))
        .expect("read");
    let kinds: Vec<&str> = catalog
        .objects
        .iter()
        .filter(|o| !o.helper)
        .map(|o| o.kind.word())
        .collect();
    for kind in ["table", "materialised view", "sequence", "function", "type"] {
        assert!(kinds.contains(&kind), "{kind} of {kinds:?}");
    }
    assert!(catalog.table("passing").is_some_and(|o| o.temporary));
    let boats = catalog.table("boats").expect("there");
    assert_eq!(
        boats.field("rig").expect("there").choices,
        ["sloop", "yawl"]
    );
    assert_eq!(boats.field("kind").expect("there").choices, ["a", "b"]);
    assert_eq!(boats.owner.as_deref(), Some("haven"));
    assert!(
        catalog
            .databases
            .iter()
            .any(|d| d.here && d.name == "kinds")
    );
    assert!(
        catalog.roles.contains(&"haven".to_string())
            && catalog.schemas.contains(&"public".to_string())
    );
    // Of many tables the names come before the rest.
    run(&mut *c, "do $$ begin for n in 1..500 loop execute format('create table many_%s (id integer)', n); end loop; end $$").expect("made");
    let mut first = None;
    let whole = c
        .describe()
        .catalog(1, &mut |names| first = Some(names))
        .expect("read");
    let first = first.expect("names first");
    assert!(first.names_only && first.table("many_500").is_some_and(|o| o.fields.is_empty()));
    assert!(!whole.names_only && whole.table("many_500").is_some_and(|o| o.fields.len() == 1));
}

/// A user who may read little sees what the server shows, and is told what is missing.
#[test]
fn a_catalog_that_may_be_read_only_in_part() {
    for server in servers() {
        let mut c = own(server, "partly");
        run(&mut *c, "create table seen (id integer primary key)").expect("made");
        run(&mut *c, "create table unseen (id integer primary key, other integer, foreign key (other) references seen (id))").expect("made");
        let make: &[&str] = if server == "postgres" {
            &[
                "drop role if exists partly_reader",
                "create role partly_reader login password 'low'",
                "grant select on seen to partly_reader",
            ]
        } else {
            &[
                "drop user if exists partly_reader",
                "create user partly_reader identified by 'low'",
                "grant select on partly.seen to partly_reader",
            ]
        };
        for sql in make {
            run(&mut *c, sql).expect("made");
        }
        let address =
            url(server, "partly").replace("haven:the%20owner%27s%20secret", "partly_reader:low");
        let mut reader =
            open_with(&address, Vec::new()).unwrap_or_else(|error| panic!("{server}: {error}"));
        let mut catalog = reader.describe().catalog(1, &mut |_| {}).expect("read");
        reader
            .describe()
            .count_rows(1, &mut catalog, Duration::from_secs(2));
        assert!(
            catalog.table("seen").is_some_and(|o| !o.fields.is_empty()),
            "{server}"
        );
        if server == "mariadb" {
            assert!(catalog.table("unseen").is_none() && !catalog.unseen.is_empty());
        }
        let mut seen = catalog.table("seen").expect("there").clone();
        reader.describe().define(1, &mut seen).expect("defined");
        assert!(
            seen.definition
                .is_some_and(|text| text.to_lowercase().contains("create table")),
            "{server}"
        );
        let script = reader.describe().script(1, &catalog).expect("written");
        assert!(script.contains("seen"), "{server}: {script}");
        drop(reader);
        if server == "postgres" {
            run(&mut *c, "drop owned by partly_reader").expect("gone");
            run(&mut *c, "drop role partly_reader").expect("gone");
        }
    }
}

/// An account that may have one connection only cannot ask on a second one to stop what runs: the connection is closed,
/// and that is said; the server stops by itself.
#[test]
fn what_cannot_be_asked_to_stop_is_closed() {
    for (server, make, sleep) in [
        (
            "postgres",
            &[
                "drop role if exists lone",
                "create role lone login password 'low water' connection limit 1",
            ][..],
            None,
        ),
        (
            "mariadb",
            &[
                "drop user if exists lone",
                "create user lone identified by 'low water' with max_user_connections 1",
            ],
            Some("select sleep(40) from (select 1 union select 2) two"),
        ),
    ] {
        let database = if server == "postgres" { "postgres" } else { "" };
        let mut admin = connect(server, database);
        for sql in make {
            run(&mut *admin, sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
        }
        let address =
            url(server, database).replace("haven:the%20owner%27s%20secret", "lone:low%20water");
        let mut lone = open_with(&address, Vec::new()).unwrap_or_else(|e| panic!("{server}: {e}"));
        // PostgreSQL takes a request to stop without a login, so there it is stopped as always.
        let sleep = sleep.unwrap_or("select pg_sleep(40)");
        let control = lone.control();
        let canceller = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(300));
            control.cancel(5);
        });
        let start = Instant::now();
        let error = lone
            .run(5, sleep, &mut Keep::default())
            .expect_err("stopped");
        assert!(start.elapsed() < Duration::from_secs(15), "{server}");
        canceller.join().expect("ends");
        if server == "postgres" {
            assert_eq!(error.fault, Fault::Cancelled);
            assert_eq!(one(&mut *lone, "select 7"), "7");
            continue;
        }
        assert_eq!(error.fault, Fault::Lost, "{error:?}");
        assert!(
            error.message.contains("could not be asked to stop"),
            "{}",
            error.message
        );
        let after = run(&mut *lone, "select 7")
            .map(drop)
            .expect_err("it is closed");
        assert_eq!(after.fault, Fault::NotSent);
        // The server sees that nobody is there any more, and lets the account in again.
        let start = Instant::now();
        while open_with(&address, Vec::new()).is_err() {
            assert!(
                start.elapsed() < Duration::from_secs(60),
                "the server keeps it"
            );
            std::thread::sleep(Duration::from_millis(200));
        }
    }
}

/// The victim of a deadlock has no transaction any more, and what it writes next counts by itself.
#[test]
fn the_victim_of_a_deadlock_knows_that_its_transaction_is_gone() {
    for server in servers().into_iter().filter(|s| *s != "postgres") {
        victim_of_a_deadlock(server);
    }
}

fn victim_of_a_deadlock(server: &str) {
    let mut a = own(server, "deadlock");
    run(
        &mut *a,
        "create table t (id integer primary key, n integer)",
    )
    .expect("made");
    run(&mut *a, "insert into t values (1, 0), (2, 0)").expect("filled");
    let mut b = connect(server, "deadlock");
    for c in [&mut a, &mut b] {
        run(&mut **c, "begin").expect("begun");
    }
    run(&mut *a, "update t set n = 1 where id = 1").expect("locked");
    run(&mut *b, "update t set n = 2 where id = 2").expect("locked");
    let waiting = std::thread::spawn(move || {
        let done = run(&mut *a, "update t set n = 1 where id = 2").map(drop);
        (a, done)
    });
    // One of the two is chosen; the other one goes on.
    let here = run(&mut *b, "update t set n = 2 where id = 1").map(drop);
    let (mut a, there) = waiting.join().expect("ended");
    let (victim, error) = match (here, there) {
        (Err(error), Ok(())) => (&mut b, error),
        (Ok(()), Err(error)) => (&mut a, error),
        other => panic!("one is the victim: {other:?}"),
    };
    assert!(error.code.starts_with("1213"), "{error:?}");
    assert!(
        victim.bearings().transaction.is_none(),
        "the server took all of it back"
    );
}

/// A table that somebody keeps to themselves holds up nobody who looks around.
#[test]
fn a_locked_table_is_not_waited_for() {
    for server in servers() {
        let mut keeper = own(server, "kept_shut");
        for sql in [
            "create table shut (a integer)",
            "create table other (a integer)",
            "insert into other values (1), (2)",
        ] {
            run(&mut *keeper, sql).expect(sql);
        }
        let mut c = connect(server, "kept_shut");
        run(&mut *c, "begin").expect("begun");
        for sql in match server {
            "postgres" => ["begin", "lock table shut in access exclusive mode"],
            _ => ["do 0", "lock tables shut write"],
        } {
            run(&mut *keeper, sql).expect(sql);
        }
        let start = Instant::now();
        let mut catalog = c.describe().catalog(1, &mut |_| {}).expect("read");
        c.describe()
            .count_rows(2, &mut catalog, Duration::from_millis(250));
        assert!(start.elapsed() < Duration::from_secs(10), "{server}");
        assert!(catalog.table("shut").is_some(), "{server}");
        let other = catalog.table("other").expect("there");
        assert_eq!((other.rows, other.estimated), (Some(2), false), "{server}");
        // The transaction it was done in is as it was.
        run(&mut *c, "insert into other values (3)").expect("usable");
        run(&mut *c, "commit").expect("kept");
        assert_eq!(one(&mut *c, "select count(*) from other"), "3", "{server}");
    }
}

/// The size of a table is that of now, with its indexes, also before anybody has analysed it.
#[test]
fn sizes_are_those_of_the_files() {
    for server in servers() {
        let mut c = own(server, "sized");
        run(
            &mut *c,
            "create table t (a integer primary key, b varchar(200))",
        )
        .expect("made");
        run(&mut *c, "create table Apart_2 (a integer)").expect("made");
        for from in 0..10 {
            let rows = (0..500).map(|n| format!("({}, repeat('x', 150))", from * 500 + n));
            let rows = rows.collect::<Vec<_>>().join(", ");
            run(&mut *c, &format!("insert into t values {rows}")).expect("filled");
        }
        let mut catalog = c.describe().catalog(1, &mut |_| {}).expect("read");
        c.describe()
            .count_rows(2, &mut catalog, Duration::from_secs(5));
        let bytes = catalog.table("t").expect("there").bytes.expect("known");
        assert!(
            (800_000..12_000_000).contains(&bytes),
            "{server}: {bytes} bytes"
        );
        let apart = catalog
            .objects
            .iter()
            .find(|o| o.name.eq_ignore_ascii_case("apart_2"));
        assert!(apart.is_some_and(|o| o.bytes.is_some_and(|b| b < 200_000)));
        assert_eq!(catalog.table("t").expect("there").rows, Some(5_000));
    }
}

/// A table whose parts lie on several servers: which part lies where, what the other server is sent, and a part that is lost.
#[test]
fn a_table_may_lie_on_several_servers() {
    let _one = SECOND
        .lock()
        .unwrap_or_else(std::sync::PoisonError::into_inner);
    let mut far = own("postgres-b", "spread");
    run(
        &mut *far,
        "create table visits_2 (id integer not null, quay text)",
    )
    .expect("made");
    run(
        &mut *far,
        "insert into visits_2 select n, 'S' from generate_series(1000, 1999) n",
    )
    .expect("filled");
    let mut c = own("postgres", "spread");
    let port = crate::place::place("HAVEN_POSTGRES_B_PORT");
    let nobody = free_port();
    for sql in [
        "create extension postgres_fdw",
        &format!(
            "create server south foreign data wrapper postgres_fdw options (host '127.0.0.1', port '{port}', dbname 'spread')"
        ),
        &format!(
            "create server gone foreign data wrapper postgres_fdw options (host '127.0.0.1', port '{nobody}', dbname 'spread')"
        ),
        "create user mapping for haven server south options (user 'haven', password 'the owner''s secret')",
        "create user mapping for haven server gone options (user 'haven', password 'the owner''s secret')",
        "create table visits (id integer not null, quay text) partition by range (id)",
        "create table visits_1 partition of visits for values from (0) to (1000)",
        "create foreign table visits_2 partition of visits for values from (1000) to (2000) server south",
        "insert into visits select n, 'N' from generate_series(0, 999) n",
    ] {
        run(&mut *c, sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    }
    assert_eq!(one(&mut *c, "select count(*) from visits"), "2000");
    let catalog = c.describe().catalog(1, &mut |_| {}).expect("read");
    let part = catalog.table("visits_2").expect("there");
    assert_eq!(part.partition_of.as_deref(), Some("visits"));
    assert_eq!(
        part.facts,
        [(
            "lies on".to_string(),
            format!("south (127.0.0.1 {port} spread)")
        )]
    );
    let plan =
        idle_tide_engines::plan::plan(&mut *c, 2, "select * from visits where id > 990", true);
    let plan = plan.expect("planned");
    let sent = plan.walk().iter().any(|(_, step)| {
        let sends =
            |words: &String| words.starts_with("sends SELECT id, quay FROM public.visits_2");
        step.details.iter().any(sends)
    });
    assert!(sent, "{plan:?}");
    let lost = "create foreign table visits_3 partition of visits for values from (2000) to (3000) server gone";
    run(&mut *c, lost).expect("made");
    let error = run(&mut *c, "select count(*) from visits")
        .err()
        .expect("lost");
    assert!(error.message.contains("\"gone\""), "{error:?}");
    assert!(
        error
            .advice
            .is_some_and(|words| words.contains("lies on another server"))
    );
    assert_ne!(error.fault, Fault::Lost);
    assert_eq!(one(&mut *c, "select count(*) from visits_1"), "1000");
}

/// A table of MariaDB whose parts lie on other servers; one that cannot be opened keeps nobody from the others.
#[test]
fn a_table_over_several_servers_of_mariadb() {
    // The other versions' roots (scripts/test-versions) do not have the engine.
    if std::env::var("HAVEN_ROOT").is_ok_and(|root| !root.is_empty()) {
        return;
    }
    let _second = crate::place::SECOND
        .lock()
        .unwrap_or_else(std::sync::PoisonError::into_inner);
    let port = |name: &str| crate::place::place(&format!("HAVEN_{name}_PORT"));
    let (there, nobody) = (port("MARIADB_B"), free_port());
    let mut c = own("mariadb-c", "spread");
    let mut b = own("mariadb-b", "spread");
    for sql in [
        "create table visits_north (id int primary key, crew int)",
        "create table visits_east (id int primary key, crew int)",
        "insert into visits_north values (1, 3), (2, 4)",
        "insert into visits_east values (201, 5)",
    ] {
        run(&mut *b, sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    }
    let server = |name: &str, port: &str| {
        format!(
            "create or replace server {name} foreign data wrapper mysql options (host '127.0.0.1', port {port}, user 'haven', password 'the owner''s secret', database 'spread')"
        )
    };
    let over = |table: &str, east: &str| {
        format!(
            "create table {table} (id int primary key, crew int) engine = spider comment = 'wrapper \"mysql\"' partition by range (id) \
             (partition north values less than (100) comment = 'srv \"north\", table \"visits_north\"', partition east values less than (maxvalue) comment = 'srv \"{east}\", table \"visits_east\"')"
        )
    };
    for sql in [
        "install soname 'ha_spider'".to_string(),
        "create table owners (id int primary key)".into(),
        "create table dues (id int primary key, owner int, constraint of_owner foreign key (owner) references owners (id))".into(),
        server("north", &there),
        server("gone", &nobody.to_string()),
        server("self", &port("MARIADB_C")),
        over("visits", "north"),
    ] {
        run(&mut *c, &sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    }
    assert_eq!(one(&mut *c, "select sum(crew) from visits"), "12");
    let catalog = c.describe().catalog(1, &mut |_| {}).expect("read");
    let visits = catalog.table("visits").expect("there");
    let lies = |part: &str| {
        visits
            .facts
            .iter()
            .find(|(name, _)| name == part)
            .map(|(_, place)| place.as_str())
    };
    let place = |table: &str| format!("lies on north (127.0.0.1 {there} spread), table {table}");
    assert_eq!(lies("part north"), Some(place("visits_north").as_str()));
    assert_eq!(lies("part east"), Some(place("visits_east").as_str()));

    run(&mut *c, &over("lost", "gone")).expect("made");
    // One that stands for a table of its own server cannot be opened at all, and fails questions about all tables.
    run(
        &mut *c,
        "create table visits_east (id int primary key, crew int)",
    )
    .expect("made");
    run(&mut *c, &over("mirrored", "self")).expect("made");
    let error = run(&mut *c, "select count(*) from lost")
        .err()
        .expect("lost");
    assert_ne!(error.fault, Fault::Lost, "{error:?}");
    assert!(
        error.message.contains("gone") || error.message.contains("127.0.0.1"),
        "{error:?}"
    );
    // A session that begins now reads the catalog, also the second time: the lost table is named as such, and the rest is whole.
    drop(c);
    let until = std::time::Instant::now() + Duration::from_secs(3);
    let mut c = loop {
        let mut c = crate::place::connect("mariadb-c", "spread");
        c.describe().catalog(1, &mut |_| {}).expect("read");
        let all = run(
            &mut *c,
            "select index_name from information_schema.statistics where table_schema = 'spread'",
        );
        // The server remembers for a while that the table could be opened.
        if all.is_err() || std::time::Instant::now() > until {
            break c;
        }
        std::thread::sleep(Duration::from_millis(200));
    };
    let catalog = c.describe().catalog(1, &mut |_| {}).expect("read");
    let lost = catalog.table("lost").expect("there");
    assert_eq!(lost.fields.len(), 2);
    let part = lost.facts.iter().find(|(name, _)| name == "part east");
    assert!(
        part.is_some_and(|(_, place)| place.starts_with("lies on gone")),
        "{:?}",
        lost.facts
    );
    assert!(catalog.table("mirrored").is_some());
    // Nor does it keep somebody from another database.
    let mut beside = own("mariadb-c", "beside");
    run(
        &mut *beside,
        "create table quays (code varchar(10) primary key)",
    )
    .expect("made");
    let other = beside.describe().catalog(1, &mut |_| {}).expect("read");
    assert_eq!(
        other.table("quays").map(|quays| quays.indexes.len()),
        Some(1)
    );
    let dues = catalog.table("dues").expect("there");
    assert_eq!(dues.links[0].table, "owners");
    assert_eq!(one(&mut *c, "select sum(crew) from visits"), "12");
}

/// Of a statement with several results each is handed over before what fails behind it, and the connection is as it was.
#[test]
fn what_fails_between_results_is_told_after_them() {
    /// Fails at the rows of a later result.
    struct Later(usize);
    impl idle_tide_engines::Sink for Later {
        fn columns(&mut self, _: Vec<idle_tide_core::Column>) -> std::io::Result<()> {
            self.0 += 1;
            Ok(())
        }
        fn rows(&mut self, _: idle_tide_core::RowBatch) -> std::io::Result<()> {
            match self.0 {
                0 | 1 => Ok(()),
                _ => Err(std::io::Error::other("full")),
            }
        }
    }
    for server in servers().into_iter().filter(|s| *s != "postgres") {
        let mut c = own(server, "in_between");
        for sql in [
            "create table t (a integer primary key)",
            "create procedure ends_badly() begin select 1 as a; insert into t values (1); insert into t values (1); select 2 as b; end",
            "create procedure in_rows() begin select 1 as a; select a.n, exp(a.n * 900) as e from (select 0 as n union all select 1) a; end",
            "create procedure sleeps() begin select 1 as a; select sleep(60) as s from (select 1 union select 2) two; select 3 as c; end",
            "create procedure warns() begin select 1 as a; select cast('x1' as signed) as n; end",
        ] {
            run(&mut *c, sql).unwrap_or_else(|error| panic!("{server}: {sql}: {error}"));
        }
        for (call, code) in [("call ends_badly()", "1062"), ("call in_rows()", "1690")] {
            let mut keep = Keep::default();
            let error = c.run(1, call, &mut keep).expect_err(call);
            assert!(error.code.starts_with(code), "{server}: {error:?}");
            assert_eq!(keep.rows[0].len(), 1, "{server}: {call}");
            assert_eq!(one(&mut *c, "select 7"), "7", "{server}: {call}");
        }
        assert_eq!(one(&mut *c, "select count(*) from t"), "1", "{server}");
        let control = c.control();
        let canceller = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(300));
            control.cancel(9);
        });
        let mut keep = Keep::default();
        let stopped = c.run(9, "call sleeps()", &mut keep);
        canceller.join().expect("ends");
        assert!(
            stopped.is_err_and(|error| error.fault == Fault::Cancelled),
            "{server}"
        );
        assert_eq!(keep.rows[0].len(), 1, "{server}");
        let error = c.run(3, "call warns()", &mut Later(0)).expect_err("full");
        assert_eq!(error.fault, Fault::Sink, "{server}");
        let (outcome, keep) = run(&mut *c, "call warns()").expect("runs");
        assert_eq!(keep.rows.len(), 2, "{server}");
        assert!(
            outcome.notes.iter().any(|words| words.contains("x1")),
            "{server}: {:?}",
            outcome.notes
        );
        assert_eq!(one(&mut *c, "select 7"), "7", "{server}");
    }
    // The rows before one that fails are there, and the transaction knows that it failed.
    let mut c = own("postgres", "in_between");
    run(&mut *c, "begin").expect("begun");
    let mut keep = Keep::default();
    let statement = "select 1 / (200 - n) from generate_series(1, 300) n";
    let error = c
        .run(2, statement, &mut keep)
        .expect_err("a division by zero");
    assert!(error.code.starts_with("22012"), "{error:?}");
    assert_eq!(keep.rows[0].len(), 199);
    assert!(c.bearings().transaction_failed);
}
