//! The flow language, as far as typing is concerned.

use super::{Bodies, Dialect, Family};

/// The flow language of document databases.
pub static FLOW: Dialect = Dialect {
    name: "flow",
    family: Family::Documents,
    bracket_names: false,
    backtick_names: true,
    name_quote: '`',
    double_quoted_text: true,
    json_text: true,
    backslash_escapes: false,
    hash_comments: false,
    spaced_dashes: false,
    dollar_quotes: false,
    nested_comments: false,
    executable_comments: false,
    sigil_parameters: true,
    file_lines: false,
    bodies: Bodies::None,
    keywords: KEYWORDS,
    reserved: &[],
    functions: &[],
    starts: STARTS,
};

#[rustfmt::skip]
const KEYWORDS: &[&str] = &[
    "add", "all", "and", "as", "asc", "at", "avg", "band", "begin", "between", "by", "call", "case", "change",
    "collection", "commit", "count", "create", "database", "date", "decimal", "delete", "desc", "different", "distinct",
    "drop", "else", "emit", "empty", "end", "false", "finish", "first", "fold", "from", "group", "in", "index",
    "insert", "into", "is", "join", "keeping", "last", "like", "limit", "list", "max", "min", "missing", "not", "null",
    "of", "offset", "on", "one", "or", "order", "over", "password", "percentile", "pick", "raw", "remove", "rename",
    "roles", "rollback", "sample", "save", "set", "some", "stddev", "sum", "then", "timestamp", "true", "unique",
    "unnest", "update", "user", "when", "where", "with", "without",
];

const STARTS: &[&str] = &[
    "begin", "call", "change", "commit", "create", "delete", "drop", "empty", "from", "insert",
    "rename", "rollback", "start", "update",
];
