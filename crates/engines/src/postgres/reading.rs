//! What a session that refuses writes lets through. Every statement runs inside a transaction that may only read
//! and has read already, so that the server itself forbids writes, the way back and commits inside routines; here
//! stands what lies outside of transactions: the server's files, settings and statistics, and other connections.

use idle_tide_lang::Dialect;
use idle_tide_lang::statement::Summary;
use idle_tide_lang::token::{significant, tokens};

use crate::served::{acting_function, refused_by_words};

/// What begins such a transaction. The snapshot makes its kind unchangeable.
pub(super) const BEGIN: &str = "begin read only; select 1";
/// The same for one that the user began.
pub(super) const BIND: &str = "set transaction read only; select 1";

/// Statements that may run.
const MAY: &[&str] = &[
    "",
    "abort",
    "begin",
    "close",
    "commit",
    "copy",
    "deallocate",
    "declare",
    "end",
    "execute",
    "explain",
    "fetch",
    "listen",
    "lock",
    "move",
    "prepare",
    "release",
    "rollback",
    "savepoint",
    "select",
    "set",
    "show",
    "start",
    "table",
    "unlisten",
    "values",
    "with",
    "reset",
];
/// Functions of the server that are volatile, and change nothing.
const HARMLESS: &[&str] = &[
    "clock_timestamp",
    "currval",
    "cursor_to_xml",
    "gen_random_uuid",
    "lastval",
    "pg_backend_pid",
    "pg_current_wal_lsn",
    "pg_database_size",
    "pg_export_snapshot",
    "pg_indexes_size",
    "pg_is_in_recovery",
    "pg_last_wal_replay_lsn",
    "pg_ls_dir",
    "pg_ls_logdir",
    "pg_ls_waldir",
    "pg_read_binary_file",
    "pg_read_file",
    "pg_relation_size",
    "pg_sleep",
    "pg_sleep_for",
    "pg_sleep_until",
    "pg_stat_file",
    "pg_table_size",
    "pg_tablespace_size",
    "pg_timezone_abbrevs",
    "pg_timezone_names",
    "pg_total_relation_size",
    "query_to_xml",
    "random",
    "setseed",
    "timeofday",
    "uuidv4",
    "uuidv7",
];

/// A question for one function of these names that may do more than read; nothing if there is none.
pub(crate) fn acting(names: &[String], dialect: &Dialect) -> String {
    let list = |names: &mut dyn Iterator<Item = &str>| {
        let quoted: Vec<String> = names.map(|name| dialect.quote_text(name)).collect();
        quoted.join(", ")
    };
    format!(
        "select proname from pg_catalog.pg_proc where provolatile = 'v' and lower(proname) in ({}) and proname not in ({}) limit 1",
        list(&mut names.iter().map(String::as_str)),
        list(&mut HARMLESS.iter().copied())
    )
}

/// Why a statement is not sent while writes are refused. `ask` answers [`acting`].
pub(super) fn refused(
    statement: &str,
    about: &Summary,
    dialect: &Dialect,
    ask: &mut dyn FnMut(&str) -> Option<String>,
) -> Option<String> {
    let unknown = matches!(about.verb.as_str(), "do" | "call");
    if let Some(why) = refused_by_words(about, unknown, MAY) {
        return Some(why);
    }
    let list = significant(&tokens(statement, dialect));
    let has = |word: &str| {
        list.iter().any(|token| {
            token
                .name(statement)
                .is_some_and(|name| name.eq_ignore_ascii_case(word))
        })
    };
    let undoes = has("default_transaction_read_only")
        || has("transaction_read_only")
        || has("set_config")
        || has("write") && (has("read") || has("transaction"))
        || has("all") && has("reset");
    if undoes {
        return Some("it could end that".to_string());
    }
    let acting = acting_function(statement, dialect, acting, ask)?;
    Some(format!("it calls {acting}, which may do more than read"))
}
