//! The dialect of PostgreSQL. Reserved words are those its own list marks as reserved (categories R and T of
//! `pg_get_keywords`).

use super::{Bodies, Dialect, Family};

/// Words that have to be quoted as names.
#[rustfmt::skip]
const RESERVED: &[&str] = &[
    "all", "analyse", "analyze", "and", "any", "array", "as", "asc", "asymmetric", "authorization", "binary", "both",
    "case", "cast", "check", "collate", "collation", "column", "concurrently", "constraint", "create", "cross",
    "current_catalog", "current_date", "current_role", "current_schema", "current_time", "current_timestamp",
    "current_user", "default", "deferrable", "desc", "distinct", "do", "else", "end", "except", "false", "fetch", "for",
    "foreign", "freeze", "from", "full", "grant", "group", "having", "ilike", "in", "initially", "inner", "intersect",
    "into", "is", "isnull", "join", "lateral", "leading", "left", "like", "limit", "localtime", "localtimestamp",
    "natural", "not", "notnull", "null", "offset", "on", "only", "or", "order", "outer", "overlaps", "placing",
    "primary", "references", "returning", "right", "select", "session_user", "similar", "some", "symmetric", "table",
    "tablesample", "then", "to", "trailing", "true", "union", "unique", "user", "using", "variadic", "verbose", "when",
    "where", "window", "with",
];

/// Words to colour and to offer.
#[rustfmt::skip]
const KEYWORDS: &[&str] = &[
    "abort", "add", "after", "all", "alter", "always", "analyse", "analyze", "and", "any", "array", "as", "asc",
    "asymmetric", "authorization", "backward", "before", "begin", "between", "bigint", "binary", "boolean", "both",
    "by", "cache", "call", "cascade", "case", "cast", "char", "check", "checkpoint", "close", "cluster", "coalesce",
    "collate", "collation", "column", "comment", "comments", "commit", "committed", "concurrently", "conflict",
    "constraint", "constraints", "copy", "create", "cross", "csv", "current", "current_catalog", "current_date",
    "current_role", "current_schema", "current_time", "current_timestamp", "current_user", "cursor", "cycle", "data",
    "database", "deallocate", "declare", "default", "defaults", "deferrable", "deferred", "definer", "delete",
    "delimiter", "depends", "desc", "detach", "disable", "discard", "distinct", "do", "domain", "drop", "each", "else",
    "enable", "end", "enum", "escape", "event", "except", "execute", "exists", "explain", "extension", "external",
    "false", "fetch", "filter", "first", "following", "for", "force", "foreign", "forward", "freeze", "from", "full",
    "function", "functions", "global", "grant", "granted", "group", "groups", "handler", "having", "header", "hold",
    "if", "ilike", "immediate", "immutable", "in", "increment", "index", "indexes", "inherit", "inherits", "initially",
    "inner", "inout", "insert", "instead", "int", "integer", "intersect", "interval", "into", "invoker", "is", "isnull",
    "isolation", "join", "key", "language", "large", "last", "lateral", "leading", "left", "level", "like", "limit",
    "listen", "local", "localtime", "localtimestamp", "lock", "locked", "logged", "mapping", "match", "materialized",
    "maxvalue", "merge", "minvalue", "move", "names", "natural", "next", "no", "not", "nothing", "notify", "notnull",
    "nowait", "null", "nulls", "numeric", "of", "off", "offset", "oids", "on", "only", "operator", "option", "options",
    "or", "order", "out", "outer", "over", "overlaps", "overriding", "owned", "owner", "parallel", "partition",
    "passing", "password", "placing", "plans", "policy", "preceding", "prepare", "prepared", "preserve", "primary",
    "prior", "privileges", "procedural", "procedure", "procedures", "publication", "quote", "range", "read", "reassign",
    "recursive", "references", "refresh", "reindex", "release", "rename", "repeatable", "replace", "replica", "reset",
    "restart", "restrict", "returning", "returns", "revoke", "right", "role", "rollback", "rollup", "routine", "row",
    "rows", "rule", "savepoint", "schema", "schemas", "scroll", "search", "security", "select", "sequence", "sequences",
    "serializable", "server", "session", "session_user", "set", "setof", "share", "show", "similar", "skip", "smallint",
    "snapshot", "some", "stable", "start", "statement", "statistics", "storage", "stored", "strict", "subscription",
    "symmetric", "system", "table", "tables", "tablesample", "tablespace", "temp", "temporary", "then", "ties", "time",
    "timestamp", "to", "trailing", "transaction", "trigger", "true", "truncate", "trusted", "type", "types",
    "unbounded", "uncommitted", "union", "unique", "unlisten", "unlogged", "until", "update", "user", "using", "vacuum",
    "valid", "validate", "value", "values", "varchar", "variadic", "varying", "verbose", "version", "view", "views",
    "volatile", "when", "where", "window", "with", "within", "without", "work", "write", "zone",
];

/// Functions worth offering, with their arguments.
#[rustfmt::skip]
const FUNCTIONS: &[(&str, &str)] = &[
    ("abs", "number"), ("age", "time, time"), ("array_agg", "value"), ("array_length", "array, dimension"),
    ("array_to_string", "array, separator"), ("avg", "number"), ("bool_and", "condition"), ("bool_or", "condition"),
    ("btrim", "text, characters"), ("ceil", "number"), ("char_length", "text"), ("coalesce", "value, …"),
    ("concat", "value, …"), ("concat_ws", "separator, value, …"), ("count", "value"), ("cume_dist", ""),
    ("current_setting", "name"), ("currval", "sequence"), ("date_part", "field, time"), ("date_trunc", "field, time"),
    ("dense_rank", ""), ("encode", "bytes, format"), ("exp", "number"), ("first_value", "value"), ("floor", "number"),
    ("format", "pattern, value, …"), ("gen_random_uuid", ""), ("generate_series", "from, to, step"),
    ("greatest", "value, …"), ("initcap", "text"), ("json_agg", "value"), ("json_build_object", "name, value, …"),
    ("jsonb_agg", "value"), ("jsonb_array_elements", "json"), ("jsonb_build_object", "name, value, …"),
    ("jsonb_each", "json"), ("jsonb_object_agg", "name, value"), ("jsonb_path_query", "json, path"),
    ("jsonb_pretty", "json"), ("jsonb_set", "json, path, value"), ("lag", "value, rows, otherwise"),
    ("last_value", "value"), ("lead", "value, rows, otherwise"), ("least", "value, …"), ("left", "text, length"),
    ("length", "value"), ("ln", "number"), ("lower", "text"), ("lpad", "text, length, fill"),
    ("ltrim", "text, characters"), ("make_date", "year, month, day"), ("max", "value"), ("md5", "text"),
    ("min", "value"), ("mod", "number, by"), ("nextval", "sequence"), ("now", ""), ("ntile", "buckets"),
    ("nullif", "value, unless"), ("octet_length", "value"), ("percentile_cont", "fraction"),
    ("pg_size_pretty", "bytes"), ("pg_sleep", "seconds"), ("pg_total_relation_size", "table"),
    ("position", "part in text"), ("power", "number, by"), ("random", ""), ("rank", ""),
    ("regexp_matches", "text, pattern, flags"), ("regexp_replace", "text, pattern, by, flags"),
    ("repeat", "text, times"), ("replace", "text, part, by"), ("reverse", "text"), ("right", "text, length"),
    ("round", "number, digits"), ("row_number", ""), ("row_to_json", "row"), ("rpad", "text, length, fill"),
    ("rtrim", "text, characters"), ("setval", "sequence, number"), ("sign", "number"),
    ("split_part", "text, separator, n"), ("sqrt", "number"), ("starts_with", "text, start"),
    ("string_agg", "text, separator"), ("strpos", "text, part"), ("substring", "text from start for length"),
    ("sum", "number"), ("to_char", "value, pattern"), ("to_date", "text, pattern"), ("to_json", "value"),
    ("to_number", "text, pattern"), ("to_timestamp", "text, pattern"), ("to_tsquery", "text"), ("to_tsvector", "text"),
    ("translate", "text, from, to"), ("trim", "text"), ("trunc", "number, digits"), ("unnest", "array"),
    ("upper", "text"), ("version", ""), ("width_bucket", "value, low, high, count"),
];

/// Words that begin a statement.
#[rustfmt::skip]
const STARTS: &[&str] = &[
    "abort", "alter", "analyze", "begin", "call", "checkpoint", "close", "cluster", "comment", "commit", "copy",
    "create", "deallocate", "declare", "delete", "discard", "do", "drop", "end", "execute", "explain", "fetch", "grant",
    "import", "insert", "listen", "lock", "merge", "move", "notify", "prepare", "reassign", "refresh", "reindex",
    "release", "reset", "revoke", "rollback", "savepoint", "security", "select", "set", "show", "start", "table",
    "truncate", "unlisten", "update", "vacuum", "values", "with",
];

const STANDARD: Dialect = Dialect {
    name: "PostgreSQL",
    family: Family::Postgres,
    bracket_names: false,
    backtick_names: false,
    name_quote: '"',
    double_quoted_text: false,
    json_text: false,
    backslash_escapes: false,
    hash_comments: false,
    spaced_dashes: false,
    dollar_quotes: true,
    nested_comments: true,
    executable_comments: false,
    sigil_parameters: false,
    file_lines: true,
    bodies: Bodies::Atomic,
    keywords: KEYWORDS,
    reserved: RESERVED,
    functions: FUNCTIONS,
    starts: STARTS,
};

/// PostgreSQL.
pub static POSTGRES: Dialect = STANDARD;

/// PostgreSQL with `standard_conforming_strings` off: backslashes escape in every text.
pub static POSTGRES_BACKSLASH: Dialect = Dialect {
    backslash_escapes: true,
    ..STANDARD
};
