//! What differs between the SQL of the database families, as far as typing is concerned: quoting,
//! comments, where a statement ends, keywords and functions. A new family is a new value here.

mod flow;
mod literal;
mod mariadb;
mod postgres;
mod sqlite;
mod tabular;

pub use flow::FLOW;
pub use mariadb::{MARIADB, mariadb};
pub use postgres::{POSTGRES, POSTGRES_BACKSLASH};
pub use sqlite::SQLITE;
pub use tabular::TABULAR;

/// The family of servers that speak a dialect.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Family {
    /// SQLite.
    Sqlite,
    /// PostgreSQL.
    Postgres,
    /// MariaDB and MySQL.
    Mariadb,
    /// Servers over the Tabular Data Stream.
    Tabular,
    /// Documents: servers that speak BSON over the public wire protocol, and files.
    Documents,
}

/// Which statements hold others, so that a semicolon inside does not end them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Bodies {
    /// Triggers: `begin …; end`.
    Triggers,
    /// Routines, triggers and events with compound statements: `begin`, `if`, `case`, `loop` and so on.
    Routines,
    /// Routines, packages and blocks that stand alone, with `declare`, `as` or `is` before their declarations.
    Packages,
    /// Routines with `begin atomic … end`.
    Atomic,
    /// Everything up to a line `go` or the end is one statement: what is declared in it ends with it.
    Batch,
    /// None do.
    None,
}

/// How a family's SQL is written.
#[derive(Debug)]
pub struct Dialect {
    /// The family's name, as its makers write it.
    pub name: &'static str,
    /// The family.
    pub family: Family,
    /// Whether `[name]` quotes a name.
    pub bracket_names: bool,
    /// Whether a backtick quotes a name.
    pub backtick_names: bool,
    /// The sign that quotes names when they have to be.
    pub name_quote: char,
    /// Whether double quotes are for texts, not names.
    pub double_quoted_text: bool,
    /// Whether double quotes are for texts with the escapes of JSON.
    pub json_text: bool,
    /// Whether a backslash escapes in every text.
    pub backslash_escapes: bool,
    /// Whether `#` begins a comment.
    pub hash_comments: bool,
    /// Whether `--` begins a comment only before a blank.
    pub spaced_dashes: bool,
    /// Whether `$tag$ … $tag$` is a text, and `e'…'` one with backslash escapes.
    pub dollar_quotes: bool,
    /// Whether comments nest.
    pub nested_comments: bool,
    /// Whether the inside of `/*! … */` is run.
    pub executable_comments: bool,
    /// Whether `?`, `:x`, `@x` and `$x` are parameters.
    pub sigil_parameters: bool,
    /// Whether the lines of its backup files that are no SQL are understood: delimiter lines, inline data.
    pub file_lines: bool,
    /// Which statements hold others.
    pub bodies: Bodies,
    /// Every keyword, lower case, sorted.
    pub keywords: &'static [&'static str],
    /// Those that have to be quoted as names, sorted.
    pub reserved: &'static [&'static str],
    /// Functions worth offering, with their arguments, sorted.
    pub functions: &'static [(&'static str, &'static str)],
    /// Words that begin a statement, sorted.
    pub starts: &'static [&'static str],
}

/// The names of the dialects that statements can be written in, as [`Dialect::named`] knows them.
pub const NAMES: &[&str] = &["sqlite", "postgres", "mariadb", "mysql", "tds"];

impl Dialect {
    /// The dialect of a name that a user gives: of a family, with the settings that its servers begin with.
    pub fn named(name: &str) -> Option<&'static Dialect> {
        match name.to_ascii_lowercase().as_str() {
            "sqlite" => Some(&SQLITE),
            "postgres" | "postgresql" => Some(&POSTGRES),
            "mariadb" => Some(MARIADB),
            "mysql" => Some(mariadb(true, "")),
            "tds" | "mssql" => Some(&TABULAR),
            _ => None,
        }
    }

    /// A name that may have a schema before it, `schema.table`, as a statement writes it; as it is where it is quoted already.
    pub fn quote_path(&self, name: &str) -> String {
        if name.contains(self.name_quote) {
            return name.to_string();
        }
        let parts: Vec<_> = name.split('.').map(|part| self.quote_name(part)).collect();
        parts.join(".")
    }

    /// What a result is made of: row or document.
    pub fn row(&self) -> &'static str {
        if self.is_flow() { "document" } else { "row" }
    }

    /// What rows are kept in: table or collection.
    pub fn table(&self) -> &'static str {
        if self.is_flow() {
            "collection"
        } else {
            "table"
        }
    }

    /// Whether statements are those of the flow language.
    pub fn is_flow(&self) -> bool {
        self.family == Family::Documents
    }

    /// What stands at the end of a query of which at most so many rows are read; `ordered` where it says an order itself.
    pub fn limit(&self, most: usize, ordered: bool) -> String {
        match (self.family, ordered) {
            (Family::Tabular, true) => format!(" offset 0 rows fetch next {most} rows only"),
            (Family::Tabular, false) => {
                format!(" order by (select null) offset 0 rows fetch next {most} rows only")
            }
            _ => format!(" limit {most}"),
        }
    }

    /// The statement that begins a transaction.
    pub fn begin(&self) -> &'static str {
        match self.family {
            // There the word alone begins a block.
            Family::Tabular => "begin transaction",
            _ => "begin",
        }
    }

    /// The statement that counts what a table or collection holds.
    pub fn count_of(&self, table: &str) -> String {
        if self.is_flow() {
            format!("from {table} count")
        } else {
            format!("select count(*) from {table}")
        }
    }

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
        // PostgreSQL folds what is not quoted to lower case.
        let folded = |c: char| self.family == Family::Postgres && c.is_ascii_uppercase();
        let mut characters = name.chars();
        let plain = characters
            .next()
            .is_some_and(|c| c.is_ascii_alphabetic() && !folded(c) || c == '_')
            && characters.all(|c| c.is_ascii_alphanumeric() && !folded(c) || c == '_')
            && !self.is_reserved(name);
        if plain {
            name.to_string()
        } else {
            let quote = self.name_quote;
            format!(
                "{quote}{}{quote}",
                name.replace(quote, &format!("{quote}{quote}"))
            )
        }
    }

    /// The name of a column of the catalog as a statement writes it; paths of documents are written so already.
    pub fn quote_column(&self, name: &str) -> String {
        match self.is_flow() {
            true => name.to_string(),
            false => self.quote_name(name),
        }
    }

    /// Whether a word has to be quoted to be a name.
    pub fn is_reserved(&self, word: &str) -> bool {
        let lower = word.to_ascii_lowercase();
        self.reserved.binary_search(&lower.as_str()).is_ok()
    }

    /// A text as a literal of this dialect, whatever it holds. NUL cannot be in one.
    pub fn quote_text(&self, text: &str) -> String {
        let doubled = text.replace('\'', "''");
        // Without the sign before it what lies outside of the database's code page is lost.
        if self.family == Family::Tabular && !text.is_ascii() {
            return format!("N'{doubled}'");
        }
        if !text.contains('\\') {
            return format!("'{doubled}'");
        }
        let escaped = doubled.replace('\\', "\\\\");
        match (self.family, self.backslash_escapes) {
            (Family::Postgres, _) => format!("e'{escaped}'"),
            (_, true) => format!("'{escaped}'"),
            _ => format!("'{doubled}'"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keywords_are_sorted_and_names_are_quoted_when_needed() {
        for dialect in [&SQLITE, &POSTGRES, MARIADB, &TABULAR, &FLOW] {
            assert!(dialect.keywords.is_sorted() && dialect.starts.is_sorted());
            assert!(dialect.functions.is_sorted() && dialect.reserved.is_sorted());
        }
        assert_eq!(POSTGRES.quote_name("Berths"), "\"Berths\"");
        assert_eq!(POSTGRES.quote_name("name"), "name");
        assert_eq!(MARIADB.quote_name("a`b"), "`a``b`");
        assert_eq!(
            mariadb(false, "X,ANSI_QUOTES").quote_name("order"),
            "`order`"
        );
        assert_eq!(POSTGRES.quote_text("it's \\"), "e'it''s \\\\'");
        assert_eq!(MARIADB.quote_text("it's \\"), "'it''s \\\\'");
        assert_eq!(
            mariadb(true, "NO_BACKSLASH_ESCAPES").quote_text("\\"),
            "'\\'"
        );
        assert_eq!(TABULAR.quote_name("plan"), "\"plan\"");
        assert_eq!(TABULAR.quote_path("yard.piers"), "yard.piers");
        assert_eq!(TABULAR.begin(), "begin transaction");
        assert_eq!(
            TABULAR.limit(5, true),
            " offset 0 rows fetch next 5 rows only"
        );
        assert_eq!(POSTGRES.limit(5, true), " limit 5");
        assert_eq!(SQLITE.quote_name("visits"), "visits");
        assert_eq!(SQLITE.quote_name("order"), "\"order\"");
        assert_eq!(SQLITE.quote_name("say \"so\""), "\"say \"\"so\"\"\"");
    }
}
