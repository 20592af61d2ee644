//! What differs between the SQL of the database families, as far as typing is concerned: quoting,
//! keywords and functions. A new family is a new value here.

/// The typing rules of one family's SQL.
#[derive(Debug)]
pub struct Dialect {
    /// The family's name.
    pub name: &'static str,
    /// `[name]` is a quoted name.
    pub bracket_names: bool,
    /// `` `name` `` is a quoted name.
    pub backtick_names: bool,
    /// Words with a meaning of their own, lower case, in alphabetical order.
    pub keywords: &'static [&'static str],
    /// Functions with their arguments.
    pub functions: &'static [(&'static str, &'static str)],
    /// Words a statement can begin with.
    pub starts: &'static [&'static str],
}

/// SQLite, as documented for version 3.
pub static SQLITE: Dialect = Dialect {
    name: "SQLite",
    bracket_names: true,
    backtick_names: true,
    keywords: &[
        "abort",
        "action",
        "add",
        "after",
        "all",
        "alter",
        "always",
        "analyze",
        "and",
        "as",
        "asc",
        "attach",
        "autoincrement",
        "before",
        "begin",
        "between",
        "by",
        "cascade",
        "case",
        "cast",
        "check",
        "collate",
        "column",
        "commit",
        "conflict",
        "constraint",
        "create",
        "cross",
        "current",
        "current_date",
        "current_time",
        "current_timestamp",
        "database",
        "default",
        "deferrable",
        "deferred",
        "delete",
        "desc",
        "detach",
        "distinct",
        "do",
        "drop",
        "each",
        "else",
        "end",
        "escape",
        "except",
        "exclude",
        "exclusive",
        "exists",
        "explain",
        "fail",
        "filter",
        "first",
        "following",
        "for",
        "foreign",
        "from",
        "full",
        "generated",
        "glob",
        "group",
        "groups",
        "having",
        "if",
        "ignore",
        "immediate",
        "in",
        "index",
        "indexed",
        "initially",
        "inner",
        "insert",
        "instead",
        "intersect",
        "into",
        "is",
        "isnull",
        "join",
        "key",
        "last",
        "left",
        "like",
        "limit",
        "match",
        "materialized",
        "natural",
        "no",
        "not",
        "nothing",
        "notnull",
        "null",
        "nulls",
        "of",
        "offset",
        "on",
        "or",
        "order",
        "others",
        "outer",
        "over",
        "partition",
        "plan",
        "pragma",
        "preceding",
        "primary",
        "query",
        "raise",
        "range",
        "recursive",
        "references",
        "regexp",
        "reindex",
        "release",
        "rename",
        "replace",
        "restrict",
        "returning",
        "right",
        "rollback",
        "row",
        "rows",
        "savepoint",
        "select",
        "set",
        "table",
        "temp",
        "temporary",
        "then",
        "ties",
        "to",
        "transaction",
        "trigger",
        "unbounded",
        "union",
        "unique",
        "update",
        "using",
        "vacuum",
        "values",
        "view",
        "virtual",
        "when",
        "where",
        "window",
        "with",
        "without",
    ],
    functions: &[
        ("abs", "number"),
        ("avg", "number"),
        ("changes", ""),
        ("char", "code, …"),
        ("coalesce", "value, …"),
        ("count", "value"),
        ("date", "time, modifier, …"),
        ("datetime", "time, modifier, …"),
        ("dense_rank", ""),
        ("first_value", "value"),
        ("format", "pattern, value, …"),
        ("group_concat", "value, separator"),
        ("hex", "value"),
        ("ifnull", "value, otherwise"),
        ("iif", "condition, then, else"),
        ("instr", "text, part"),
        ("json", "text"),
        ("json_array", "value, …"),
        ("json_array_length", "json, path"),
        ("json_each", "json, path"),
        ("json_extract", "json, path, …"),
        ("json_group_array", "value"),
        ("json_group_object", "name, value"),
        ("json_object", "name, value, …"),
        ("json_type", "json, path"),
        ("julianday", "time, modifier, …"),
        ("lag", "value, rows, otherwise"),
        ("last_insert_rowid", ""),
        ("last_value", "value"),
        ("lead", "value, rows, otherwise"),
        ("length", "value"),
        ("lower", "text"),
        ("ltrim", "text, characters"),
        ("max", "value"),
        ("min", "value"),
        ("nullif", "value, unless"),
        ("printf", "pattern, value, …"),
        ("quote", "value"),
        ("random", ""),
        ("rank", ""),
        ("replace", "text, part, by"),
        ("round", "number, digits"),
        ("row_number", ""),
        ("rtrim", "text, characters"),
        ("strftime", "pattern, time, modifier, …"),
        ("substr", "text, start, length"),
        ("sum", "number"),
        ("time", "time, modifier, …"),
        ("total", "number"),
        ("trim", "text, characters"),
        ("typeof", "value"),
        ("unixepoch", "time, modifier, …"),
        ("upper", "text"),
    ],
    starts: &[
        "alter",
        "analyze",
        "attach",
        "begin",
        "commit",
        "create",
        "delete",
        "detach",
        "drop",
        "end",
        "explain",
        "insert",
        "pragma",
        "reindex",
        "release",
        "replace",
        "rollback",
        "savepoint",
        "select",
        "update",
        "vacuum",
        "values",
        "with",
    ],
};

impl Dialect {
    /// Whether `word` is a keyword, without regard to case.
    pub fn is_keyword(&self, word: &str) -> bool {
        if word.len() > 20 || !word.is_ascii() {
            return false;
        }
        let lower = word.to_ascii_lowercase();
        self.keywords.binary_search(&lower.as_str()).is_ok()
    }

    /// `name` as it must be written in a statement: as it is, or in double quotes where it would not be
    /// read as a name otherwise (ISO/IEC 9075 delimited identifiers).
    pub fn quote_name(&self, name: &str) -> String {
        let mut characters = name.chars();
        let plain = characters
            .next()
            .is_some_and(|c| c.is_ascii_alphabetic() || c == '_')
            && characters.all(|c| c.is_ascii_alphanumeric() || c == '_')
            && !self.is_keyword(name);
        if plain {
            name.to_string()
        } else {
            format!("\"{}\"", name.replace('"', "\"\""))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keywords_are_sorted_and_names_are_quoted_when_needed() {
        assert!(SQLITE.keywords.is_sorted() && SQLITE.starts.is_sorted());
        assert!(SQLITE.functions.is_sorted());
        assert_eq!(SQLITE.quote_name("visits"), "visits");
        assert_eq!(SQLITE.quote_name("order"), "\"order\"");
        assert_eq!(SQLITE.quote_name("say \"so\""), "\"say \"\"so\"\"\"");
    }
}
