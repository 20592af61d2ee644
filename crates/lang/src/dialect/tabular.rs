//! The dialect of servers over the Tabular Data Stream. What is submitted is one batch.

use super::{Bodies, Dialect, Family};

/// Words that have to be quoted as names.
#[rustfmt::skip]
const RESERVED: &[&str] = &[
    "add", "all", "alter", "and", "any", "as", "asc", "authorization", "backup", "begin", "between", "break", "browse",
    "bulk", "by", "cascade", "case", "check", "checkpoint", "close", "clustered", "coalesce", "collate", "column",
    "commit", "compute", "constraint", "contains", "containstable", "continue", "convert", "create", "cross", "current",
    "current_date", "current_time", "current_timestamp", "current_user", "cursor", "database", "dbcc", "deallocate",
    "declare", "default", "delete", "deny", "desc", "disk", "distinct", "distributed", "double", "drop", "dump", "else",
    "end", "errlvl", "escape", "except", "exec", "execute", "exists", "exit", "external", "fetch", "file", "fillfactor",
    "for", "foreign", "freetext", "freetexttable", "from", "full", "function", "goto", "grant", "group", "having",
    "holdlock", "identity", "identity_insert", "identitycol", "if", "in", "index", "inner", "insert", "intersect",
    "into", "is", "join", "key", "kill", "left", "like", "lineno", "load", "merge", "national", "nocheck",
    "nonclustered", "not", "null", "nullif", "of", "off", "offsets", "on", "open", "opendatasource", "openquery",
    "openrowset", "openxml", "option", "or", "order", "outer", "over", "percent", "pivot", "plan", "precision",
    "primary", "print", "proc", "procedure", "public", "raiserror", "read", "readtext", "reconfigure", "references",
    "replication", "restore", "restrict", "return", "revert", "revoke", "right", "rollback", "rowcount", "rowguidcol",
    "rule", "save", "schema", "securityaudit", "select", "semantickeyphrasetable", "semanticsimilaritydetailstable",
    "semanticsimilaritytable", "session_user", "set", "setuser", "shutdown", "some", "statistics", "system_user",
    "table", "tablesample", "textsize", "then", "to", "top", "tran", "transaction", "trigger", "truncate",
    "try_convert", "tsequal", "union", "unique", "unpivot", "update", "updatetext", "use", "user", "values", "varying",
    "view", "waitfor", "when", "where", "while", "with", "within", "writetext",
];

/// Every keyword.
#[rustfmt::skip]
const KEYWORDS: &[&str] = &[
    "add", "after", "all", "alter", "and", "any", "apply", "as", "asc", "at", "authorization", "backup", "begin",
    "between", "bigint", "binary", "bit", "break", "browse", "bulk", "by", "cascade", "case", "cast", "catch", "char",
    "character", "check", "checkpoint", "close", "clustered", "coalesce", "collate", "column", "commit", "committed",
    "compute", "constraint", "contains", "containstable", "continue", "convert", "create", "cross", "current",
    "current_date", "current_time", "current_timestamp", "current_user", "cursor", "database", "date", "datetime",
    "datetime2", "datetimeoffset", "dbcc", "deallocate", "decimal", "declare", "default", "delay", "delete", "deleted",
    "deny", "desc", "disk", "distinct", "distributed", "double", "drop", "dump", "else", "enabled", "end", "errlvl",
    "escape", "except", "exec", "execute", "exists", "exit", "external", "fast", "fetch", "file", "fillfactor", "first",
    "float", "following", "for", "foreign", "freetext", "freetexttable", "from", "full", "function", "generated", "go",
    "goto", "grant", "group", "hash", "having", "hint", "holdlock", "identity", "identity_insert", "identitycol", "if",
    "image", "in", "index", "inner", "insert", "inserted", "instead", "int", "integer", "intersect", "into", "is",
    "isolation", "join", "json", "key", "kill", "last", "left", "level", "like", "lineno", "load", "login", "matched",
    "max", "maxdop", "maxrecursion", "member", "merge", "money", "national", "nchar", "next", "no", "nocheck",
    "nocount", "nolock", "nonclustered", "not", "ntext", "null", "nullif", "numeric", "nvarchar", "of", "off", "offset",
    "offsets", "on", "only", "open", "opendatasource", "openquery", "openrowset", "openxml", "option", "or", "order",
    "outer", "output", "over", "partition", "password", "path", "percent", "pivot", "plan", "preceding", "precision",
    "primary", "print", "proc", "procedure", "public", "query", "raiserror", "range", "read", "readonly", "readpast",
    "readtext", "real", "recompile", "reconfigure", "references", "repeatable", "replication", "restore", "restrict",
    "return", "revert", "revoke", "right", "role", "rollback", "row", "rowcount", "rowguidcol", "rowlock", "rows",
    "rowversion", "rule", "save", "schema", "securityaudit", "select", "semantickeyphrasetable",
    "semanticsimilaritydetailstable", "semanticsimilaritytable", "sequence", "serializable", "session_user", "set",
    "setuser", "showplan_xml", "shutdown", "smalldatetime", "smallint", "smallmoney", "snapshot", "some", "source",
    "sql_variant", "statistics", "synonym", "sysname", "system_user", "table", "tablesample", "tablock", "target",
    "text", "textsize", "then", "throw", "ties", "time", "timestamp", "tinyint", "to", "top", "tran", "transaction",
    "trigger", "truncate", "try", "try_convert", "tsequal", "type", "unbounded", "uncommitted", "union", "unique",
    "uniqueidentifier", "unpivot", "update", "updatetext", "updlock", "use", "user", "using", "values", "varbinary",
    "varchar", "varying", "view", "waitfor", "when", "where", "while", "window", "with", "within", "work", "writetext",
    "xact_abort", "xml", "zone",
];

/// Functions worth offering.
#[rustfmt::skip]
const FUNCTIONS: &[(&str, &str)] = &[
    ("abs", "number"), ("avg", "expression"), ("cast", "expression as type"), ("ceiling", "number"),
    ("charindex", "part, text, start"), ("choose", "index, value, ..."), ("coalesce", "value, ..."),
    ("concat", "text, ..."), ("concat_ws", "separator, text, ..."), ("convert", "type, expression, style"),
    ("count", "expression"), ("count_big", "expression"), ("cume_dist", ""), ("dateadd", "part, number, date"),
    ("datediff", "part, start, end"), ("datediff_big", "part, start, end"), ("datefromparts", "year, month, day"),
    ("datename", "part, date"), ("datepart", "part, date"), ("datetrunc", "part, date"), ("day", "date"),
    ("db_id", "name"), ("db_name", "number"), ("dense_rank", ""), ("eomonth", "date, months"), ("exp", "number"),
    ("first_value", "expression"), ("floor", "number"), ("format", "value, format, culture"), ("getdate", ""),
    ("getutcdate", ""), ("grouping", "column"), ("has_perms_by_name", "name, class, permission"),
    ("iif", "condition, then, else"), ("is_member", "role"), ("is_srvrolemember", "role, login"),
    ("isdate", "expression"), ("isjson", "text"), ("isnull", "value, replacement"), ("isnumeric", "expression"),
    ("json_modify", "json, path, value"), ("json_query", "json, path"), ("json_value", "json, path"),
    ("lag", "expression, offset, default"), ("last_value", "expression"), ("lead", "expression, offset, default"),
    ("left", "text, count"), ("len", "text"), ("log", "number, base"), ("log10", "number"), ("lower", "text"),
    ("ltrim", "text"), ("max", "expression"), ("min", "expression"), ("month", "date"), ("newid", ""),
    ("ntile", "groups"), ("nullif", "a, b"), ("object_definition", "object"), ("object_id", "name, type"),
    ("object_name", "object, database"), ("object_schema_name", "object"), ("original_login", ""),
    ("patindex", "pattern, text"), ("percent_rank", ""), ("percentile_cont", "fraction"), ("power", "number, exponent"),
    ("quotename", "text, sign"), ("rand", "seed"), ("rank", ""), ("replace", "text, from, to"),
    ("replicate", "text, count"), ("reverse", "text"), ("right", "text, count"), ("round", "number, digits"),
    ("row_number", ""), ("rtrim", "text"), ("schema_id", "name"), ("schema_name", "number"), ("scope_identity", ""),
    ("serverproperty", "name"), ("sign", "number"), ("space", "count"), ("sqrt", "number"), ("square", "number"),
    ("stdev", "expression"), ("str", "number, length, decimals"), ("string_agg", "expression, separator"),
    ("string_split", "text, separator"), ("stuff", "text, start, length, with"), ("substring", "text, start, length"),
    ("sum", "expression"), ("suser_name", "number"), ("suser_sname", "sid"), ("switchoffset", "moment, offset"),
    ("sysdatetime", ""), ("sysdatetimeoffset", ""), ("sysutcdatetime", ""), ("todatetimeoffset", "moment, offset"),
    ("translate", "text, from, to"), ("trim", "text"), ("try_cast", "expression as type"),
    ("try_convert", "type, expression, style"), ("try_parse", "text as type"), ("type_name", "number"),
    ("unicode", "text"), ("upper", "text"), ("user_name", "number"), ("var", "expression"), ("year", "date"),
];

/// Words that begin a statement.
#[rustfmt::skip]
const STARTS: &[&str] = &[
    "alter", "backup", "begin", "bulk", "checkpoint", "close", "commit", "create", "dbcc", "deallocate", "declare",
    "delete", "deny", "drop", "exec", "execute", "fetch", "goto", "grant", "if", "insert", "kill", "merge", "open",
    "print", "raiserror", "reconfigure", "restore", "return", "revert", "revoke", "rollback", "save", "select", "set",
    "shutdown", "throw", "truncate", "update", "use", "waitfor", "while", "with",
];

/// Transact-SQL with the settings that drivers give their sessions.
pub static TABULAR: Dialect = Dialect {
    name: "Transact-SQL",
    family: Family::Tabular,
    bracket_names: true,
    backtick_names: false,
    name_quote: '"',
    double_quoted_text: false,
    json_text: false,
    backslash_escapes: false,
    hash_comments: false,
    spaced_dashes: false,
    dollar_quotes: false,
    nested_comments: true,
    executable_comments: false,
    sigil_parameters: false,
    file_lines: false,
    bodies: Bodies::Batch,
    keywords: KEYWORDS,
    reserved: RESERVED,
    functions: FUNCTIONS,
    starts: STARTS,
};
