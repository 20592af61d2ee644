//! What statements do, by a table for each dialect: a line says what is expected and, behind the bar, the
//! statement. Written from the servers' documentation of their statements.

use idle_tide_lang::dialect::{Dialect, FLOW, Family, MARIADB, POSTGRES, SQLITE, TABULAR};
use idle_tide_lang::statement::{Effect, Summary, Sweep, may_be_half_done, summary};

/// A summary in the words of the tables.
fn in_words(summary: &Summary) -> String {
    let mut words = match summary.effect {
        Effect::Read => "reads",
        Effect::Write => "writes",
        Effect::Definition => "defines",
        Effect::Transaction => "transaction",
        Effect::Other => "other",
        Effect::Unknown => "unknown",
    }
    .to_string();
    for sweep in &summary.sweeps {
        words.push_str(", ");
        words.push_str(&match sweep {
            Sweep::DeleteAll {
                table,
                limit,
                truncates,
            } => {
                let limit = limit.map_or(String::new(), |limit| format!(" limit {limit}"));
                let cascade = if *truncates == Some(true) {
                    " cascade"
                } else {
                    ""
                };
                format!("empties {table}{limit}{cascade}")
            }
            Sweep::DeleteMatching { table } => format!("deletes of {table}"),
            Sweep::UpdateAll { table, limit } => {
                let limit = limit.map_or(String::new(), |limit| format!(" limit {limit}"));
                format!("changes all {table}{limit}")
            }
            Sweep::Drop {
                kind,
                name,
                cascade,
                replaced,
            } => {
                let cascade = if *cascade { " cascade" } else { "" };
                let verb = if *replaced { "replaces" } else { "drops" };
                format!("{verb} {kind} {name}{cascade}")
            }
            Sweep::Replace { table } => format!("replaces {table}"),
            Sweep::DropColumn { table, column } => format!("drops column {column} of {table}"),
            Sweep::Part { kind, parts, table } => {
                format!("drops {kind} {} of {table}", parts.join(" ")).replace("  ", " ")
            }
            Sweep::Unread { .. } => "unread".to_string(),
        });
    }
    words
}

fn check(table: &str, dialect: &Dialect) {
    let mut wrong = Vec::new();
    for line in table
        .lines()
        .filter(|line| !line.is_empty() && !line.starts_with('#'))
    {
        let (expected, statement) = line.split_once(" | ").expect("two sides");
        let found = in_words(&summary(statement, dialect));
        // The sign that ends it, blanks and a comment change nothing.
        let ended = format!("\n {statement}\n ;; ");
        let ended = in_words(&summary(&ended, dialect));
        if dialect.family != Family::Documents && ended != found {
            wrong.push(format!(
                "{statement};\n    expected {found}\n    found    {ended}"
            ));
        }
        if found != expected.trim() {
            wrong.push(format!(
                "{statement}\n    expected {}\n    found    {found}",
                expected.trim()
            ));
        }
    }
    assert!(
        wrong.is_empty(),
        "{} wrong:\n{}",
        wrong.len(),
        wrong.join("\n")
    );
}

#[test]
fn sqlite() {
    check(include_str!("statements/common.txt"), &SQLITE);
    check(include_str!("statements/sqlite.txt"), &SQLITE);
}

#[test]
fn postgres() {
    check(include_str!("statements/common.txt"), &POSTGRES);
    check(include_str!("statements/postgres.txt"), &POSTGRES);
}

#[test]
fn mariadb() {
    check(include_str!("statements/common.txt"), MARIADB);
    check(include_str!("statements/mariadb.txt"), MARIADB);
}

#[test]
fn batches() {
    check(include_str!("statements/tabular.txt"), &TABULAR);
}

#[test]
fn what_may_be_done_in_part_when_it_fails() {
    for (text, dialect, may) in [
        ("select 1; select 2", &TABULAR, false),
        ("update visits set a = 1 where id = 4", &TABULAR, false),
        (
            "update visits set a = 1 where id = 4 select 1",
            &TABULAR,
            true,
        ),
        ("exec harbour.clean", &TABULAR, true),
        ("call clean()", MARIADB, true),
        ("update visits set a = 1", MARIADB, false),
        ("call clean()", &POSTGRES, true),
        ("insert into visits values (1)", &POSTGRES, false),
    ] {
        assert_eq!(may_be_half_done(text, dialect), may, "{text}");
    }
}

#[test]
fn flows() {
    check(include_str!("statements/flow.txt"), &FLOW);
}

#[test]
fn what_a_statement_names() {
    let targets = |text: &str, dialect| {
        let about = summary(text, dialect);
        let names: Vec<String> = about
            .targets
            .iter()
            .map(|name| name.written.clone())
            .collect();
        (about.kind.unwrap_or_default(), names.join(" "))
    };
    let of = |kind: &str, names: &str| (kind.to_string(), names.to_string());
    assert_eq!(
        targets("drop table a, \"b.c\"", &POSTGRES),
        of("table", "a \"b.c\"")
    );
    assert_eq!(targets("create index on t (a)", &POSTGRES), of("index", ""));
    assert_eq!(
        targets("create unique index if not exists i on t (a)", &SQLITE),
        of("index", "i")
    );
    assert_eq!(
        targets("create user 'mate'@'%' identified by 'x', bo", MARIADB),
        of("user", "'mate'@'%'")
    );
    assert_eq!(
        summary("drop user 'mate'@'%'", MARIADB).target(),
        Some("mate@%")
    );
    assert_eq!(
        targets("create table if not exists t (a)", &SQLITE),
        of("table", "t")
    );
    assert_eq!(
        targets("create materialized view v as select 1", &POSTGRES),
        of("materialised view", "v")
    );
}

/// Deep and long statements are read to their end, or said to be unknown, and never overflow.
#[test]
fn hostile_lengths() {
    for (text, dialect) in [
        ("explain analyze ".repeat(20_000) + "delete from t", MARIADB),
        (
            format!("delete from t where {} true", "not ".repeat(100_000)),
            &SQLITE,
        ),
        (
            format!(
                "delete from t where {}1{}",
                "(".repeat(50_000),
                ")".repeat(50_000)
            ),
            &SQLITE,
        ),
        (
            format!("delete from t where a = 1{}", " or a = 1".repeat(50_000)),
            &POSTGRES,
        ),
        (
            format!("with a as {} select 1", "(delete from t".repeat(20_000)),
            &POSTGRES,
        ),
        (
            format!("select {}", "(with x as (select 1) ".repeat(20_000)),
            &POSTGRES,
        ),
    ] {
        let begun = std::time::Instant::now();
        summary(&text, dialect);
        assert!(begun.elapsed().as_secs() < 20, "{} bytes", text.len());
    }
}

/// What may do more than its words tell is named.
#[test]
fn calls_that_are_not_known() {
    let calls = |text: &str| summary(text, &POSTGRES).calls;
    assert_eq!(
        calls("select count(*), max(crew), lower(note) from visits where id in (1, 2)"),
        [""; 0]
    );
    assert_eq!(
        calls("select tidy(id), public.\"Sweep\"(1) from visits"),
        ["tidy", "Sweep"]
    );
    assert_eq!(
        calls("with recursive v (a) as (select tidy(1)) select * from v"),
        ["tidy"]
    );
    assert!(!summary("select tidy(1)", &POSTGRES).only_reads());
    assert!(summary("select lower('A')", &POSTGRES).only_reads());
    assert_eq!(calls("explain analyze select tidy(1)"), ["tidy"]);
}

/// Statements that end an open transaction by themselves.
#[test]
fn what_commits_by_itself() {
    for (text, ends) in [
        ("create table t (a int)", true),
        ("create or replace view v as select 1", true),
        ("create temporary table t (a int)", false),
        ("drop temporary table t", false),
        ("drop table t", true),
        ("alter table t add a int", true),
        ("truncate t", true),
        ("rename table t to u", true),
        ("begin", true),
        ("start transaction read only", true),
        ("begin not atomic select 1; end", false),
        ("lock tables t write", true),
        ("grant select on t to mate", true),
        ("set password = 'x'", true),
        ("set autocommit = 1", true),
        ("set @@session.autocommit = on", true),
        ("set autocommit = 0", false),
        ("set @a = 1", false),
        ("analyze table t", true),
        ("analyze select 1", false),
        ("insert into t values (1)", false),
        ("prepare p from 'drop table t'", false),
        ("drop prepare p", false),
        ("commit", false),
        ("savepoint a", false),
    ] {
        assert_eq!(summary(text, MARIADB).commits, ends, "{text}");
        assert!(!summary(text, &POSTGRES).commits, "{text}");
    }
}
