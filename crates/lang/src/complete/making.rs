//! What can stand next in a statement that makes databases, tables, indexes, users and roles, or grants rights: the options
//! of each family, from the servers' documentation of these statements. One table; the guide is made from it too.

use super::{Candidate, Offer};
use crate::dialect::{Dialect, Family};
use crate::token::{Token, TokenKind};

use Family::{Mariadb, Postgres, Sqlite};

/// Where in such a statement something stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// Behind the name, or behind the brackets.
    Options,
    /// The type of a column.
    Type,
    /// Behind the type of a column.
    Column,
    /// A condition of a whole table, where a column could stand.
    Table,
    /// Rights, in front of `on`.
    Rights,
    /// What the rights are on.
    On,
    /// Behind the names that get them.
    Granted,
}

/// A row: the words that a statement begins with, a part of it, and what can stand there with what it is for.
pub struct Row {
    /// The families.
    pub families: &'static [Family],
    /// The first words.
    pub head: &'static str,
    /// The part.
    pub part: Part,
    /// What can stand there.
    pub options: &'static [(&'static str, &'static str)],
}

const fn row(
    families: &'static [Family],
    head: &'static str,
    part: Part,
    options: &'static [(&'static str, &'static str)],
) -> Row {
    Row {
        families,
        head,
        part,
        options,
    }
}

/// All options.
pub static ROWS: &[Row] = &[
    row(
        &[Postgres],
        "create database",
        Part::Options,
        &[
            ("owner", "the role that owns it"),
            ("template", "the database it is copied from"),
            ("encoding", "'UTF8'"),
            ("locale", "'C.UTF-8': order and character classes"),
            ("lc_collate", "order of texts"),
            ("lc_ctype", "character classes"),
            ("locale_provider", "libc or icu"),
            ("icu_locale", "order by ICU"),
            ("tablespace", "where it is stored"),
            ("allow_connections", "true or false"),
            ("connection limit", "how many at once"),
            ("is_template", "whether others may copy it"),
        ],
    ),
    row(
        &[Mariadb],
        "create database",
        Part::Options,
        &[
            ("character set", "utf8mb4"),
            ("collate", "order of texts"),
            ("comment", "what it is for"),
        ],
    ),
    row(&[Postgres], "create user", Part::Options, ROLE),
    row(&[Postgres], "create role", Part::Options, ROLE),
    row(&[Postgres], "alter user", Part::Options, ROLE),
    row(&[Postgres], "alter role", Part::Options, ROLE),
    row(&[Mariadb], "create user", Part::Options, ACCOUNT),
    row(&[Mariadb], "alter user", Part::Options, ACCOUNT),
    row(
        &[Mariadb],
        "create role",
        Part::Options,
        &[("with admin", "who may grant it")],
    ),
    row(
        &[Postgres],
        "create schema",
        Part::Options,
        &[("authorization", "the role that owns it")],
    ),
    row(
        &[Sqlite],
        "create table",
        Part::Options,
        &[
            ("strict", "values have to be of the declared type"),
            ("without rowid", "stored in the order of its key"),
            ("as select", "filled from a query"),
        ],
    ),
    row(
        &[Postgres],
        "create table",
        Part::Options,
        &[
            ("partition by range", "shared out by ranges"),
            ("partition by list", "shared out by values"),
            ("partition by hash", "shared out evenly"),
            ("inherits", "columns of another table"),
            ("tablespace", "where it is stored"),
            ("with", "(fillfactor = 90)"),
            ("as select", "filled from a query"),
        ],
    ),
    row(
        &[Mariadb],
        "create table",
        Part::Options,
        &[
            ("engine =", "InnoDB, Aria, MyISAM"),
            ("character set", "utf8mb4"),
            ("collate", "order of texts"),
            ("comment =", "what it is for"),
            ("auto_increment =", "the first number"),
            ("row_format =", "dynamic, compressed"),
            ("partition by range", "shared out by ranges"),
            ("partition by hash", "shared out evenly"),
            ("with system versioning", "keeps earlier states of its rows"),
            ("as select", "filled from a query"),
        ],
    ),
    row(
        &[Sqlite],
        "create table",
        Part::Type,
        &[
            ("integer", "whole numbers"),
            ("text", ""),
            ("real", "with a point"),
            ("blob", "bytes"),
            ("numeric(12, 2)", "numbers"),
            ("boolean", "0 or 1"),
            ("date", ""),
            ("timestamp", ""),
        ],
    ),
    row(
        &[Postgres],
        "create table",
        Part::Type,
        &[
            ("integer", "whole numbers up to 2 147 483 647"),
            ("bigint", "whole numbers"),
            ("smallint", "up to 32 767"),
            ("numeric(12, 2)", "exact"),
            ("double precision", "with a point"),
            ("text", ""),
            ("varchar(40)", "at most so long"),
            ("boolean", ""),
            ("date", ""),
            ("time", ""),
            ("timestamp", "without a zone"),
            ("timestamptz", "a moment"),
            ("interval", "a span of time"),
            ("uuid", ""),
            ("jsonb", "documents"),
            ("bytea", "bytes"),
            ("inet", "addresses"),
        ],
    ),
    row(
        &[Mariadb],
        "create table",
        Part::Type,
        &[
            ("int", "whole numbers up to 2 147 483 647"),
            ("bigint", "whole numbers"),
            ("smallint", "up to 32 767"),
            ("tinyint", "up to 127"),
            ("decimal(12, 2)", "exact"),
            ("double", "with a point"),
            ("varchar(40)", "at most so long"),
            ("char(8)", "so long"),
            ("text", "up to 64 kB"),
            ("longtext", ""),
            ("boolean", "0 or 1"),
            ("date", ""),
            ("time", ""),
            ("datetime", "without a zone"),
            ("timestamp", "a moment"),
            ("json", "documents"),
            ("blob", "bytes up to 64 kB"),
            ("longblob", "bytes"),
            ("enum('a', 'b')", "one of them"),
            ("uuid", ""),
        ],
    ),
    row(
        &[Sqlite, Postgres, Mariadb],
        "create table",
        Part::Column,
        &[
            ("primary key", "tells rows apart"),
            ("not null", ""),
            ("unique", ""),
            ("default", "when none is given"),
            ("references", "a row of another table"),
            ("check", "a condition"),
            ("collate", "order of texts"),
        ],
    ),
    row(
        &[Postgres],
        "create table",
        Part::Column,
        &[
            ("generated always as identity", "numbers itself"),
            (
                "generated by default as identity",
                "numbers itself unless a number is given",
            ),
            ("generated always as", "(…) stored: computed"),
        ],
    ),
    row(
        &[Mariadb],
        "create table",
        Part::Column,
        &[
            ("auto_increment", "numbers itself"),
            ("unsigned", "from 0"),
            ("comment", "what it is for"),
            ("character set", "utf8mb4"),
            ("generated always as", "(…) stored: computed"),
            ("on update current_timestamp", "set at every change"),
        ],
    ),
    row(
        &[Sqlite],
        "create table",
        Part::Column,
        &[
            ("autoincrement", "never a number again"),
            ("generated always as", "(…) stored: computed"),
            ("on delete cascade", "goes with the row it refers to"),
        ],
    ),
    row(
        &[Sqlite, Postgres, Mariadb],
        "create table",
        Part::Table,
        &[
            ("primary key", "(COLUMN, …)"),
            ("unique", "(COLUMN, …)"),
            ("foreign key", "(COLUMN) references TABLE (COLUMN)"),
            ("check", "a condition"),
            ("constraint", "a name for one"),
        ],
    ),
    row(
        &[Postgres],
        "create index",
        Part::Options,
        &[
            ("include", "more columns in it"),
            ("where", "for some rows only"),
            ("with", "(fillfactor = 90)"),
            ("tablespace", "where it is stored"),
        ],
    ),
    row(
        &[Sqlite],
        "create index",
        Part::Options,
        &[("where", "for some rows only")],
    ),
    row(
        &[Mariadb],
        "create index",
        Part::Options,
        &[
            ("using btree", ""),
            ("using hash", ""),
            ("comment", "what it is for"),
        ],
    ),
    row(
        &[Postgres],
        "grant",
        Part::Rights,
        &[
            ("select", ""),
            ("insert", ""),
            ("update", ""),
            ("delete", ""),
            ("truncate", ""),
            ("references", ""),
            ("trigger", ""),
            ("usage", "of schemas, sequences"),
            ("create", "in schemas, databases"),
            ("connect", "to databases"),
            ("temporary", "tables in databases"),
            ("execute", "functions"),
            ("all privileges", ""),
        ],
    ),
    row(
        &[Mariadb],
        "grant",
        Part::Rights,
        &[
            ("select", ""),
            ("insert", ""),
            ("update", ""),
            ("delete", ""),
            ("create", ""),
            ("drop", ""),
            ("alter", ""),
            ("index", ""),
            ("references", ""),
            ("trigger", ""),
            ("create view", ""),
            ("show view", ""),
            ("create routine", ""),
            ("alter routine", ""),
            ("execute", ""),
            ("event", ""),
            ("lock tables", ""),
            ("create user", "on *.*"),
            ("process", "on *.*"),
            ("reload", "on *.*"),
            ("all privileges", ""),
        ],
    ),
    row(
        &[Postgres],
        "grant",
        Part::On,
        &[
            ("all tables in schema", ""),
            ("sequence", ""),
            ("all sequences in schema", ""),
            ("database", ""),
            ("schema", ""),
            ("function", ""),
            ("all functions in schema", ""),
        ],
    ),
    row(
        &[Mariadb],
        "grant",
        Part::On,
        &[
            ("*.*", "everything on the server"),
            ("procedure", ""),
            ("function", ""),
        ],
    ),
    row(
        &[Postgres, Mariadb],
        "grant",
        Part::Granted,
        &[("with grant option", "may give it on")],
    ),
    row(
        &[Postgres],
        "grant",
        Part::Granted,
        &[("with admin option", "may give the role on")],
    ),
];

const ROLE: &[(&str, &str)] = &[
    ("login", "may log in"),
    ("nologin", "a group"),
    (
        "password",
        "asked for hidden where nothing stands behind it",
    ),
    ("valid until", "'2031-12-31'"),
    ("createdb", "may make databases"),
    ("createrole", "may make roles"),
    ("superuser", "may do everything"),
    ("inherit", "has the rights of its groups"),
    ("noinherit", "takes them with set role"),
    ("replication", "may copy the server"),
    ("bypassrls", "sees every row"),
    ("connection limit", "how many at once"),
    ("in role", "member of"),
];
const ACCOUNT: &[(&str, &str)] = &[
    (
        "identified by",
        "a password; asked for hidden where nothing stands behind it",
    ),
    ("identified via", "another way to log in"),
    ("require ssl", "only encrypted"),
    ("require x509", "only with a certificate"),
    ("with max_user_connections", "how many at once"),
    ("with max_queries_per_hour", ""),
    ("password expire", "has to be changed"),
    ("account lock", "may not log in"),
];
/// Words between the first word and what is made.
const BETWEEN: &[&str] = &[
    "or",
    "replace",
    "temporary",
    "temp",
    "unlogged",
    "unique",
    "global",
    "local",
];
const EXISTS: &[&str] = &["if", "not", "exists", "concurrently", "only"];

/// The first two words of a statement that makes something, those between left out, and how many tokens they take.
fn head(words: &[String]) -> Option<(String, usize)> {
    let first = words.first()?;
    match first.as_str() {
        "grant" => return Some(("grant".into(), 1)),
        "create" | "alter" => {}
        _ => return None,
    }
    let mut at = 1;
    while words
        .get(at)
        .is_some_and(|word| BETWEEN.contains(&word.as_str()))
    {
        at += 1;
    }
    let what = words.get(at)?;
    at += 1;
    while words
        .get(at)
        .is_some_and(|word| EXISTS.contains(&word.as_str()))
    {
        at += 1;
    }
    Some((format!("{first} {what}"), at))
}

/// The part of the statement that the next word stands in: `before` are the tokens before it.
fn part(text: &str, before: &[Token], head: &str, taken: usize) -> Option<Part> {
    let rest = before.get(taken..)?;
    let word = |token: &Token| token.of(text).to_ascii_lowercase();
    if head == "grant" {
        let has = |wanted: &str| rest.iter().any(|token| word(token) == wanted);
        return match (has("on"), has("to"), rest.last().map(word)) {
            (_, true, Some(last)) if last != "to" && last != "," => Some(Part::Granted),
            (true, false, Some(last)) if last == "on" => Some(Part::On),
            (false, false, None) => Some(Part::Rights),
            (false, false, Some(last)) if last == "," => Some(Part::Rights),
            _ => None,
        };
    }
    let mut depth = 0_usize;
    let mut item = 0;
    for (at, token) in rest.iter().enumerate() {
        match token.kind {
            TokenKind::Open => {
                depth += 1;
                if depth == 1 {
                    item = at + 1;
                }
            }
            TokenKind::Close => depth = depth.saturating_sub(1),
            TokenKind::Comma if depth == 1 => item = at + 1,
            _ => {}
        }
    }
    let last = rest.last()?;
    match depth {
        // The name itself is the user's.
        0 if matches!(
            last.kind,
            TokenKind::Dot | TokenKind::Comma | TokenKind::Operator
        ) =>
        {
            None
        }
        0 if head == "create index" && last.kind != TokenKind::Close => None,
        0 => Some(Part::Options),
        1 if head == "create table" => match rest.len() - item {
            0 => Some(Part::Table),
            1 => Some(Part::Type),
            _ => Some(Part::Column),
        },
        _ => None,
    }
}

/// What could stand next, if the statement makes or grants something; `before` are the tokens that count before the
/// word at the cursor, `asked` is whether the list was asked for.
pub(super) fn options(
    text: &str,
    before: &[Token],
    asked: bool,
    dialect: &Dialect,
) -> Option<Vec<Candidate>> {
    let words: Vec<String> = before
        .iter()
        .map(|token| token.of(text).to_ascii_lowercase())
        .collect();
    let (head, taken) = head(&words)?;
    // Where a new name is typed nothing is in the way.
    let part = part(text, before, &head, taken).filter(|part| asked || *part != Part::Table)?;
    let said = words[taken..].join(" ");
    let mut list = Vec::new();
    for row in ROWS {
        if row.head != head || row.part != part || !row.families.contains(&dialect.family) {
            continue;
        }
        for (label, detail) in row.options {
            // What is said already is not said again.
            let again = part == Part::Options && said.contains(label.trim_end_matches(" ="));
            if !again {
                list.push(Candidate {
                    label: (*label).into(),
                    detail: (*detail).into(),
                    offer: Offer::Keyword,
                    insert: (*label).into(),
                    span: None,
                });
            }
        }
    }
    (!list.is_empty()).then_some(list)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{MARIADB, POSTGRES, SQLITE};
    use crate::token::{significant, tokens};

    fn offered(text: &str, dialect: &Dialect) -> String {
        let list = significant(&tokens(text, dialect));
        let found = options(text, &list, true, dialect).unwrap_or_default();
        let labels: Vec<String> = found.into_iter().map(|c| c.label).collect();
        labels.join(", ")
    }

    #[test]
    fn options_are_those_of_the_family_and_the_place() {
        for (text, dialect, first) in [
            ("create database haven", &POSTGRES, "owner, template"),
            (
                "create database haven owner pilot",
                &POSTGRES,
                "template, encoding",
            ),
            ("create database haven", MARIADB, "character set, collate"),
            (
                "create or replace database if not exists haven",
                MARIADB,
                "character set",
            ),
            ("create user mate", &POSTGRES, "login, nologin, password"),
            ("create user mate", MARIADB, "identified by"),
            (
                "create table t (",
                &SQLITE,
                "primary key, unique, foreign key",
            ),
            (
                "create temp table if not exists t (a",
                &SQLITE,
                "integer, text",
            ),
            ("create table t (a", &POSTGRES, "integer, bigint"),
            ("create table t (a integer, b", MARIADB, "int, bigint"),
            (
                "create table t (a varchar(40)",
                &SQLITE,
                "primary key, not null",
            ),
            (
                "create table t (a integer)",
                &SQLITE,
                "strict, without rowid",
            ),
            ("create table t (a integer)", MARIADB, "engine ="),
            (
                "create unique index i on t (a)",
                &POSTGRES,
                "include, where",
            ),
            ("grant", &POSTGRES, "select, insert"),
            ("grant select,", MARIADB, "select, insert"),
            ("grant select on", MARIADB, "*.*"),
            (
                "grant select on berths to mate",
                &POSTGRES,
                "with grant option",
            ),
        ] {
            let found = offered(text, dialect);
            assert!(found.starts_with(first), "{text}: {found}");
        }
        for text in [
            "create database",
            "create index i on t",
            "create table t (a integer check (",
            "grant select on berths to",
            "grant select",
            "select a from t",
            "create view v as select 1 from t",
        ] {
            assert_eq!(offered(text, &POSTGRES), "", "{text}");
        }
    }
}
