//! The dialect of SQLite: its keywords (all of them have to be quoted as names) and functions.

use super::{Bodies, Dialect, Family};

/// Every keyword.
#[rustfmt::skip]
const KEYWORDS: &[&str] = &[
    "abort", "action", "add", "after", "all", "alter", "always", "analyze", "and", "as", "asc", "attach",
    "autoincrement", "before", "begin", "between", "by", "cascade", "case", "cast", "check", "collate", "column",
    "commit", "conflict", "constraint", "create", "cross", "current", "current_date", "current_time",
    "current_timestamp", "database", "default", "deferrable", "deferred", "delete", "desc", "detach", "distinct", "do",
    "drop", "each", "else", "end", "escape", "except", "exclude", "exclusive", "exists", "explain", "fail", "filter",
    "first", "following", "for", "foreign", "from", "full", "generated", "glob", "group", "groups", "having", "if",
    "ignore", "immediate", "in", "index", "indexed", "initially", "inner", "insert", "instead", "intersect", "into",
    "is", "isnull", "join", "key", "last", "left", "like", "limit", "match", "materialized", "natural", "no", "not",
    "nothing", "notnull", "null", "nulls", "of", "offset", "on", "or", "order", "others", "outer", "over", "partition",
    "plan", "pragma", "preceding", "primary", "query", "raise", "range", "recursive", "references", "regexp", "reindex",
    "release", "rename", "replace", "restrict", "returning", "right", "rollback", "row", "rows", "savepoint", "select",
    "set", "table", "temp", "temporary", "then", "ties", "to", "transaction", "trigger", "unbounded", "union", "unique",
    "update", "using", "vacuum", "values", "view", "virtual", "when", "where", "window", "with", "without",
];

/// Functions worth offering, with their arguments.
#[rustfmt::skip]
const FUNCTIONS: &[(&str, &str)] = &[
    ("abs", "number"), ("avg", "number"), ("changes", ""), ("char", "code, …"), ("coalesce", "value, …"),
    ("count", "value"), ("date", "time, modifier, …"), ("datetime", "time, modifier, …"), ("dense_rank", ""),
    ("first_value", "value"), ("format", "pattern, value, …"), ("group_concat", "value, separator"), ("hex", "value"),
    ("ifnull", "value, otherwise"), ("iif", "condition, then, else"), ("instr", "text, part"), ("json", "text"),
    ("json_array", "value, …"), ("json_array_length", "json, path"), ("json_each", "json, path"),
    ("json_extract", "json, path, …"), ("json_group_array", "value"), ("json_group_object", "name, value"),
    ("json_object", "name, value, …"), ("json_type", "json, path"), ("julianday", "time, modifier, …"),
    ("lag", "value, rows, otherwise"), ("last_insert_rowid", ""), ("last_value", "value"),
    ("lead", "value, rows, otherwise"), ("length", "value"), ("lower", "text"), ("ltrim", "text, characters"),
    ("max", "value"), ("min", "value"), ("nullif", "value, unless"), ("printf", "pattern, value, …"),
    ("quote", "value"), ("random", ""), ("rank", ""), ("replace", "text, part, by"), ("round", "number, digits"),
    ("row_number", ""), ("rtrim", "text, characters"), ("strftime", "pattern, time, modifier, …"),
    ("substr", "text, start, length"), ("sum", "number"), ("time", "time, modifier, …"), ("total", "number"),
    ("trim", "text, characters"), ("typeof", "value"), ("unixepoch", "time, modifier, …"), ("upper", "text"),
];

/// Words that begin a statement.
#[rustfmt::skip]
const STARTS: &[&str] = &[
    "alter", "analyze", "attach", "begin", "commit", "create", "delete", "detach", "drop", "end", "explain", "insert",
    "pragma", "reindex", "release", "replace", "rollback", "savepoint", "select", "update", "vacuum", "values", "with",
];

/// SQLite.
pub static SQLITE: Dialect = Dialect {
    name: "SQLite",
    family: Family::Sqlite,
    bracket_names: true,
    backtick_names: true,
    name_quote: '"',
    double_quoted_text: false,
    json_text: false,
    backslash_escapes: false,
    hash_comments: false,
    spaced_dashes: false,
    dollar_quotes: false,
    nested_comments: false,
    executable_comments: false,
    sigil_parameters: true,
    file_lines: false,
    bodies: Bodies::Triggers,
    keywords: KEYWORDS,
    reserved: KEYWORDS,
    functions: FUNCTIONS,
    starts: STARTS,
};
