//! The dialect of MariaDB and MySQL, in the forms that the server's `sql_mode` gives it.

use super::{Bodies, Dialect, Family};

/// Words that have to be quoted as names; MySQL reserves a few more, which are quoted too.
#[rustfmt::skip]
const RESERVED: &[&str] = &[
    "accessible", "add", "all", "alter", "analyze", "and", "as", "asc", "asensitive", "before", "between", "bigint",
    "binary", "blob", "both", "by", "call", "cascade", "case", "change", "char", "character", "check", "collate",
    "column", "condition", "constraint", "continue", "convert", "create", "cross", "cube", "cume_dist", "current_date",
    "current_role", "current_time", "current_timestamp", "current_user", "cursor", "databases", "day_hour",
    "day_microsecond", "day_minute", "day_second", "dec", "decimal", "declare", "default", "delayed", "delete",
    "delete_domain_id", "dense_rank", "desc", "describe", "deterministic", "distinct", "distinctrow", "div",
    "do_domain_ids", "double", "drop", "dual", "each", "else", "elseif", "empty", "enclosed", "escaped", "except",
    "exists", "exit", "explain", "false", "fetch", "first_value", "float", "for", "force", "foreign", "from",
    "fulltext", "function", "generated", "get", "grant", "group", "grouping", "groups", "having", "high_priority",
    "hour_microsecond", "hour_minute", "hour_second", "if", "ignore", "ignore_domain_ids", "in", "index", "infile",
    "inner", "inout", "insensitive", "insert", "int", "integer", "intersect", "interval", "into", "io_after_gtids",
    "io_before_gtids", "is", "iterate", "join", "json_table", "key", "keys", "kill", "lag", "last_value", "lateral",
    "lead", "leading", "leave", "left", "like", "limit", "linear", "lines", "load", "localtime", "localtimestamp",
    "lock", "long", "longblob", "longtext", "loop", "low_priority", "master_demote_to_replica",
    "master_demote_to_slave", "master_ssl_verify_server_cert", "match", "maxvalue", "mediumblob", "mediumint",
    "mediumtext", "middleint", "minute_microsecond", "minute_second", "mod", "modifies", "natural",
    "no_write_to_binlog", "not", "nth_value", "ntile", "null", "numeric", "of", "offset", "on", "optimize",
    "optimizer_costs", "optionally", "or", "order", "out", "outer", "outfile", "over", "page_checksum",
    "parse_vcol_expr", "partition", "percent_rank", "portion", "precision", "primary", "procedure", "purge", "range",
    "rank", "read", "read_write", "reads", "real", "recursive", "ref_system_id", "references", "regexp", "release",
    "rename", "repeat", "replace", "require", "resignal", "restrict", "return", "returning", "revoke", "right", "rlike",
    "row", "row_number", "rows", "schemas", "second_microsecond", "select", "sensitive", "separator", "set", "show",
    "signal", "smallint", "spatial", "specific", "sql", "sql_big_result", "sql_calc_found_rows", "sql_small_result",
    "sqlexception", "sqlstate", "sqlwarning", "ssl", "starting", "stats_auto_recalc", "stats_persistent",
    "stats_sample_pages", "stored", "straight_join", "system", "table", "terminated", "then", "tinyblob", "tinyint",
    "tinytext", "to", "trailing", "trigger", "true", "undo", "union", "unique", "unlock", "unsigned", "update", "usage",
    "use", "using", "utc_date", "utc_time", "utc_timestamp", "values", "varbinary", "varchar", "varcharacter",
    "varying", "virtual", "when", "where", "while", "window", "with", "write", "xor", "year_month", "zerofill",
];

/// Words to colour and to offer.
#[rustfmt::skip]
const KEYWORDS: &[&str] = &[
    "accessible", "action", "add", "after", "aggregate", "algorithm", "all", "alter", "always", "analyze", "and", "any",
    "as", "asc", "asensitive", "auto_increment", "before", "begin", "between", "bigint", "binary", "bit", "blob",
    "bool", "boolean", "both", "by", "call", "cascade", "cascaded", "case", "change", "char", "character", "charset",
    "check", "checksum", "close", "collate", "collation", "column", "column_format", "columns", "comment", "commit",
    "committed", "compressed", "concurrent", "condition", "connection", "constraint", "contains", "continue", "convert",
    "create", "cross", "current", "current_date", "current_role", "current_time", "current_timestamp", "current_user",
    "cursor", "cycle", "data", "database", "databases", "date", "datetime", "day_hour", "day_microsecond", "day_minute",
    "day_second", "deallocate", "dec", "decimal", "declare", "default", "definer", "delay_key_write", "delayed",
    "delete", "delete_domain_id", "desc", "describe", "deterministic", "disable", "discard", "distinct", "distinctrow",
    "div", "do", "do_domain_ids", "double", "drop", "dual", "duplicate", "dynamic", "each", "else", "elseif", "enable",
    "enclosed", "end", "engine", "engines", "enum", "errors", "escape", "escaped", "event", "events", "except",
    "exchange", "execute", "exists", "exit", "expire", "explain", "extended", "false", "fetch", "fields", "first",
    "float", "flush", "following", "for", "force", "foreign", "format", "from", "full", "fulltext", "function",
    "general", "generated", "global", "grant", "grants", "group", "handler", "hash", "having", "high_priority", "host",
    "hosts", "hour_microsecond", "hour_minute", "hour_second", "identified", "if", "ignore", "ignore_domain_ids",
    "import", "in", "index", "indexes", "infile", "inner", "inout", "insensitive", "insert", "int", "integer",
    "intersect", "interval", "into", "invisible", "invoker", "is", "isolation", "iterate", "join", "json", "key",
    "key_block_size", "keys", "kill", "language", "last", "lateral", "leading", "leave", "left", "less", "level",
    "like", "limit", "linear", "lines", "list", "load", "local", "localtime", "localtimestamp", "lock", "locked",
    "locks", "logs", "long", "longblob", "longtext", "loop", "low_priority", "master", "master_demote_to_replica",
    "master_demote_to_slave", "master_ssl_verify_server_cert", "match", "max_rows", "maxvalue", "mediumblob",
    "mediumint", "mediumtext", "merge", "middleint", "min_rows", "minute_microsecond", "minute_second", "minvalue",
    "mod", "mode", "modifies", "modify", "names", "national", "natural", "never", "next", "nextval", "no",
    "no_write_to_binlog", "nocache", "nocycle", "none", "not", "nowait", "null", "numeric", "of", "offset",
    "old_password", "on", "online", "only", "open", "optimize", "option", "optionally", "options", "or", "order", "out",
    "outer", "outfile", "over", "overlaps", "owner", "package", "page_checksum", "parse_vcol_expr", "partial",
    "partition", "partitioning", "partitions", "password", "period", "persistent", "plugin", "plugins", "portion",
    "preceding", "precision", "prepare", "preserve", "prev", "previous", "primary", "privileges", "procedure",
    "process", "processlist", "purge", "quick", "range", "read", "read_write", "reads", "real", "rebuild", "recover",
    "recursive", "redundant", "ref_system_id", "references", "regexp", "release", "remove", "rename", "reorganize",
    "repair", "repeat", "repeatable", "replace", "replica", "require", "reset", "resignal", "restart", "restrict",
    "return", "returning", "reverse", "revoke", "right", "rlike", "role", "rollback", "rollup", "routine", "row",
    "row_format", "row_number", "rowcount", "rows", "savepoint", "schedule", "schemas", "second", "second_microsecond",
    "security", "select", "sensitive", "separator", "sequence", "serial", "serializable", "session", "set", "share",
    "show", "signal", "signed", "simple", "skip", "slave", "slow", "smallint", "snapshot", "soname", "spatial",
    "specific", "sql", "sql_big_result", "sql_calc_found_rows", "sql_no_cache", "sql_small_result", "sqlexception",
    "sqlstate", "sqlwarning", "ssl", "start", "starting", "starts", "statement", "stats_auto_recalc",
    "stats_persistent", "stats_sample_pages", "status", "stop", "storage", "stored", "straight_join", "string",
    "subpartition", "super", "table", "tables", "tablespace", "temporary", "temptable", "terminated", "text", "than",
    "then", "ties", "time", "timestamp", "tinyblob", "tinyint", "tinytext", "to", "trailing", "transaction", "trigger",
    "triggers", "true", "truncate", "type", "unbounded", "uncommitted", "undefined", "undo", "union", "unique",
    "unknown", "unlock", "unsigned", "until", "update", "usage", "use", "user", "using", "utc_date", "utc_time",
    "utc_timestamp", "value", "values", "varbinary", "varchar", "varcharacter", "variables", "varying", "via", "view",
    "virtual", "visible", "wait", "warnings", "when", "where", "while", "window", "with", "within", "without", "work",
    "write", "xa", "xor", "year", "year_month", "zerofill",
];

/// Functions worth offering, with their arguments.
#[rustfmt::skip]
const FUNCTIONS: &[(&str, &str)] = &[
    ("abs", "number"), ("adddate", "date, interval"), ("avg", "number"), ("bin", "number"), ("bit_and", "value"),
    ("bit_or", "value"), ("cast", "value as type"), ("ceil", "number"), ("char_length", "text"),
    ("coalesce", "value, …"), ("concat", "value, …"), ("concat_ws", "separator, value, …"),
    ("convert", "value using charset"), ("convert_tz", "time, from, to"), ("count", "value"), ("crc32", "text"),
    ("cume_dist", ""), ("curdate", ""), ("curtime", ""), ("database", ""), ("date_add", "date, interval"),
    ("date_format", "date, pattern"), ("date_sub", "date, interval"), ("datediff", "date, date"), ("dayname", "date"),
    ("dayofmonth", "date"), ("dayofweek", "date"), ("dayofyear", "date"), ("dense_rank", ""), ("elt", "n, text, …"),
    ("exp", "number"), ("extractvalue", "xml, path"), ("field", "value, value, …"), ("find_in_set", "text, list"),
    ("first_value", "value"), ("floor", "number"), ("format", "number, digits"), ("from_base64", "text"),
    ("from_unixtime", "seconds, pattern"), ("get_lock", "name, seconds"), ("greatest", "value, …"),
    ("group_concat", "value order by … separator"), ("hex", "value"), ("if", "condition, then, else"),
    ("ifnull", "value, otherwise"), ("inet6_ntoa", "bytes"), ("instr", "text, part"), ("json_array", "value, …"),
    ("json_arrayagg", "value"), ("json_contains", "json, value, path"), ("json_extract", "json, path, …"),
    ("json_keys", "json, path"), ("json_length", "json, path"), ("json_object", "name, value, …"),
    ("json_objectagg", "name, value"), ("json_set", "json, path, value"), ("json_unquote", "json"),
    ("json_valid", "text"), ("json_value", "json, path"), ("lag", "value, rows"), ("last_day", "date"),
    ("last_insert_id", ""), ("lead", "value, rows"), ("least", "value, …"), ("left", "text, length"),
    ("length", "text"), ("ln", "number"), ("locate", "part, text, start"), ("log", "number"), ("lower", "text"),
    ("lpad", "text, length, fill"), ("ltrim", "text"), ("max", "value"), ("md5", "text"), ("min", "value"),
    ("mod", "number, by"), ("now", ""), ("ntile", "buckets"), ("nullif", "value, unless"), ("percent_rank", ""),
    ("pow", "number, by"), ("quarter", "date"), ("rand", ""), ("rank", ""), ("regexp_replace", "text, pattern, by"),
    ("regexp_substr", "text, pattern"), ("release_lock", "name"), ("repeat", "text, times"),
    ("replace", "text, part, by"), ("reverse", "text"), ("right", "text, length"), ("round", "number, digits"),
    ("row_number", ""), ("rpad", "text, length, fill"), ("rtrim", "text"), ("sec_to_time", "seconds"), ("sha1", "text"),
    ("sha2", "text, bits"), ("sign", "number"), ("sleep", "seconds"), ("sqrt", "number"), ("stddev", "number"),
    ("str_to_date", "text, pattern"), ("substr", "text, start, length"), ("substring_index", "text, separator, count"),
    ("sum", "number"), ("timediff", "time, time"), ("timestampdiff", "unit, from, to"), ("to_base64", "bytes"),
    ("to_days", "date"), ("trim", "text"), ("unhex", "text"), ("unix_timestamp", "time"), ("upper", "text"),
    ("uuid", ""), ("variance", "number"), ("version", ""), ("week", "date, mode"), ("weekday", "date"),
    ("yearweek", "date"),
];

/// Words that begin a statement.
#[rustfmt::skip]
const STARTS: &[&str] = &[
    "alter", "analyze", "begin", "binlog", "cache", "call", "change", "check", "checksum", "commit", "create",
    "deallocate", "delete", "desc", "describe", "do", "drop", "execute", "explain", "flush", "get", "grant", "handler",
    "help", "insert", "install", "kill", "load", "lock", "optimize", "prepare", "purge", "release", "rename", "repair",
    "replace", "reset", "resignal", "revoke", "rollback", "savepoint", "select", "set", "show", "shutdown", "signal",
    "start", "stop", "table", "truncate", "uninstall", "unlock", "update", "use", "values", "with", "xa",
];

const STANDARD: Dialect = Dialect {
    name: "MariaDB",
    family: Family::Mariadb,
    bracket_names: false,
    backtick_names: true,
    name_quote: '`',
    double_quoted_text: true,
    json_text: false,
    backslash_escapes: true,
    hash_comments: true,
    spaced_dashes: true,
    dollar_quotes: false,
    nested_comments: false,
    executable_comments: true,
    sigil_parameters: false,
    file_lines: true,
    bodies: Bodies::Routines,
    keywords: KEYWORDS,
    reserved: RESERVED,
    functions: FUNCTIONS,
    starts: STARTS,
};
const ANSI: Dialect = Dialect {
    double_quoted_text: false,
    ..STANDARD
};

/// MariaDB in the mode that writes routines otherwise, by whether backslashes are plain.
static PACKAGES: [Dialect; 2] = [
    Dialect {
        bodies: Bodies::Packages,
        ..ANSI
    },
    Dialect {
        bodies: Bodies::Packages,
        backslash_escapes: false,
        ..ANSI
    },
];

/// By whether it is MySQL, whether double quotes are for names, and whether backslashes are plain.
static FORMS: [Dialect; 8] = [
    STANDARD,
    Dialect {
        backslash_escapes: false,
        ..STANDARD
    },
    ANSI,
    Dialect {
        backslash_escapes: false,
        ..ANSI
    },
    Dialect {
        name: "MySQL",
        ..STANDARD
    },
    Dialect {
        name: "MySQL",
        backslash_escapes: false,
        ..STANDARD
    },
    Dialect {
        name: "MySQL",
        ..ANSI
    },
    Dialect {
        name: "MySQL",
        backslash_escapes: false,
        ..ANSI
    },
];

/// MariaDB as it comes.
pub static MARIADB: &Dialect = &FORMS[0];

/// The dialect of a server by its `sql_mode` (`ANSI_QUOTES`, `NO_BACKSLASH_ESCAPES` and, of MariaDB, `ORACLE` count).
pub fn mariadb(is_mysql: bool, sql_mode: &str) -> &'static Dialect {
    let has = |mode: &str| sql_mode.split(',').any(|m| m.eq_ignore_ascii_case(mode));
    if has("ORACLE") && !is_mysql {
        return &PACKAGES[usize::from(has("NO_BACKSLASH_ESCAPES"))];
    }
    let form = 4 * usize::from(is_mysql)
        + 2 * usize::from(has("ANSI_QUOTES") || has("ANSI"))
        + usize::from(has("NO_BACKSLASH_ESCAPES"));
    &FORMS[form]
}
