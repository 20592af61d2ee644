//! Lists of objects by kind, what is found by name, and the figures of a table, as results.

use idle_tide_core::{Catalog, Column, Figures, Kind, Object, ResultSet, Value, ValueRef};
use idle_tide_draw::picture::{counted, grouped};
use idle_tide_lang::Dialect;
use idle_tide_lang::command::fits_pattern;

use crate::covering::{Covering, WORD, is_secret};

fn column(name: &str) -> Column {
    Column::named(name)
}

/// The kinds that a command of lists shows.
fn kinds(command: &str) -> &'static [Kind] {
    match command {
        "collections" => &[Kind::Collection],
        "views" => &[Kind::View, Kind::MaterializedView],
        "sequences" => &[Kind::Sequence],
        "functions" => &[Kind::Function, Kind::Procedure],
        _ => &[Kind::Table, Kind::VirtualTable, Kind::ForeignTable],
    }
}

/// Objects of the kinds of a command (`tables`, `views`, `sequences`, `functions`) whose names fit the pattern.
/// `full` adds sizes, owners and comments, and what is folded away otherwise.
pub fn list(catalog: &Catalog, command: &str, pattern: &str, full: bool) -> ResultSet {
    let kinds = kinds(command);
    let found: Vec<&Object> = catalog
        .objects
        .iter()
        .filter(|o| kinds.contains(&o.kind) && (full || !o.helper))
        .filter(|o| {
            fits_pattern(pattern, &o.name) || fits_pattern(pattern, &catalog.shortest_name(o))
        })
        .collect();
    let of_tables = matches!(command, "tables" | "collections");
    let routines = command == "functions";
    let has_rows = found.iter().any(|o| o.rows.is_some());
    let estimated = found.iter().any(|o| o.estimated);
    let mut columns = vec!["name"];
    let mut put = |when: bool, name: &'static str| {
        if when {
            columns.push(name);
        }
    };
    put(command != "sequences", "kind");
    put(routines, "takes");
    put(routines, "gives");
    let documents = command == "collections";
    let (rows, fields) = match documents {
        true => ("documents", "paths"),
        false => ("rows", "columns"),
    };
    put(has_rows && !routines, rows);
    put(estimated, "counted");
    put(full && of_tables, "bytes");
    put(full && !routines && command != "sequences", fields);
    put(full && of_tables, "indexes");
    put(full && of_tables, "links");
    put(full && !of_tables, "more");
    put(full, "owner");
    put(full, "comment");
    let fact = |object: &Object, name: &str| -> Value {
        let found = object.facts.iter().find(|(fact, _)| fact == name);
        found.map(|(_, words)| words.clone()).into()
    };
    let value = |object: &Object, column: &str| -> Value {
        match column {
            "name" => catalog.shortest_name(object).into(),
            "kind" => object.kind_words().into(),
            "takes" => object.signature.clone().into(),
            "gives" => fact(object, "gives"),
            "rows" | "documents" => object.rows.map(|rows| rows as i64).into(),
            "counted" if object.rows.is_none() => Value::Null,
            "counted" => if object.estimated {
                "≈ estimate"
            } else {
                "counted"
            }
            .into(),
            "bytes" => object.bytes.map(|bytes| bytes as i64).into(),
            "columns" | "paths" => (object.fields.len() as i64).into(),
            "indexes" => (object.indexes.len() as i64).into(),
            "links" => (object.links.len() as i64).into(),
            "more" => {
                let all: Vec<String> = object
                    .facts
                    .iter()
                    .filter(|(name, _)| !matches!(name.as_str(), "takes" | "gives"))
                    .map(|(name, words)| format!("{name} {words}"))
                    .collect();
                all.join(", ").into()
            }
            "owner" => object.owner.clone().into(),
            _ => object.comment.clone().into(),
        }
    };
    let rows = found
        .iter()
        .map(|object| columns.iter().map(|column| value(object, column)).collect())
        .collect();
    ResultSet::of_rows(columns.iter().map(|name| column(name)).collect(), rows)
}

/// The schemas whose names fit the pattern, with the numbers of what is in them.
pub fn schemas(catalog: &Catalog, pattern: &str) -> ResultSet {
    let rows = catalog
        .schemas
        .iter()
        .filter(|schema| fits_pattern(pattern, schema))
        .map(|schema| {
            let count = |kinds: &[Kind]| -> Value {
                let all = catalog.objects.iter();
                let own =
                    all.filter(|o| o.schema == *schema && kinds.contains(&o.kind) && !o.helper);
                (own.count() as i64).into()
            };
            vec![
                schema.clone().into(),
                if catalog.path.contains(schema) {
                    "searched without its name"
                } else {
                    ""
                }
                .into(),
                count(kinds("tables")),
                count(kinds("views")),
                count(kinds("functions")),
            ]
        })
        .collect();
    let names = ["name", "reached", "tables", "views", "functions"];
    ResultSet::of_rows(names.map(column).to_vec(), rows)
}

/// Indexes whose names, or whose tables' names, fit the pattern.
pub fn indexes(catalog: &Catalog, pattern: &str, full: bool) -> ResultSet {
    let mut rows = Vec::new();
    for object in catalog.tables() {
        for index in &object.indexes {
            if fits_pattern(pattern, &index.name) || fits_pattern(pattern, &object.name) {
                let kind = if index.primary {
                    "primary key"
                } else if index.unique && index.automatic {
                    "unique, made for a key"
                } else if index.unique {
                    "unique"
                } else {
                    index.method.as_deref().unwrap_or_default()
                };
                let mut row: Vec<Value> = vec![
                    index.name.clone().into(),
                    catalog.shortest_name(object).into(),
                    index.columns.join(", ").into(),
                    kind.into(),
                ];
                if full {
                    row.push(index.condition.clone().into());
                    row.push(index.bytes.map(|bytes| bytes as i64).into());
                    row.push(index.uses.map(|uses| uses as i64).into());
                }
                rows.push(row);
            }
        }
    }
    let mut names = vec!["name", "table", "columns", "kind"];
    if full {
        names.extend(["only rows where", "bytes", "used"]);
    }
    ResultSet::of_rows(names.into_iter().map(column).collect(), rows)
}

/// The question of a list, its names narrowed by a pattern: without `*` and `?` they only have to contain it.
pub fn narrowed(sql: &str, pattern: &str, dialect: &Dialect) -> String {
    let whole = pattern.contains(['*', '?']);
    let mut like = String::new();
    for character in pattern.to_lowercase().chars() {
        match character {
            '*' => like.push('%'),
            '?' => like.push('_'),
            '%' | '_' | '!' => like.extend(['!', character]),
            other => like.push(other),
        }
    }
    if !whole {
        like = format!("%{like}%");
    }
    // What is read by another query has no order of its own, and some servers refuse one.
    let sql = match sql.rsplit_once(" order by ") {
        Some((unordered, order)) if !order.contains(')') => unordered,
        _ => sql,
    };
    format!(
        "select * from ({sql}) listed where lower(name) like {} escape '!' order by 1",
        dialect.quote_text(&like)
    )
}

/// Everything whose name, or whose comment, holds the text: objects, columns, indexes, databases, roles. Names
/// that begin with it come first, then other names, then comments.
pub fn find(catalog: &Catalog, text: &str) -> ResultSet {
    let wanted = text.to_lowercase();
    let mut found: Vec<((u8, bool), Vec<Value>)> = Vec::new();
    let mut look = |kind: String, name: &str, of: &str, comment: Option<&str>| {
        let lower = name.to_lowercase();
        let rank = if fits_pattern(&wanted, &lower)
            && (wanted.contains(['*', '?']) || lower.starts_with(&wanted))
        {
            0
        } else if lower.contains(&wanted) {
            1
        } else if comment.is_some_and(|comment| comment.to_lowercase().contains(&wanted)) {
            2
        } else {
            return;
        };
        let by = if rank == 2 { "its comment" } else { "its name" };
        // Objects come before what they are made of.
        let part = kind.starts_with("column") || kind == "index";
        found.push((
            (rank, part),
            vec![
                name.into(),
                kind.into(),
                of.into(),
                by.into(),
                comment.map(str::to_string).into(),
            ],
        ));
    };
    for database in &catalog.databases {
        look(
            "database".into(),
            &database.name,
            "",
            Some(&database.detail),
        );
    }
    for role in &catalog.roles {
        look("role".into(), role, "", None);
    }
    for schema in &catalog.schemas {
        look("schema".into(), schema, "", None);
    }
    for object in &catalog.objects {
        let of = object
            .table
            .clone()
            .unwrap_or_else(|| object.schema.clone());
        look(
            object.kind_words(),
            &object.name,
            &of,
            object.comment.as_deref(),
        );
        let name = catalog.shortest_name(object);
        for field in &object.fields {
            look(
                format!("column, {}", field.declared.to_lowercase()),
                &field.name,
                &name,
                field.comment.as_deref(),
            );
        }
        for index in &object.indexes {
            look("index".into(), &index.name, &name, None);
        }
    }
    found.sort_by_key(|(rank, _)| *rank);
    let rows = found.into_iter().map(|(_, row)| row).collect();
    ResultSet::of_rows(
        ["name", "kind", "in", "found by", "comment"]
            .map(column)
            .to_vec(),
        rows,
    )
}

/// Kinds of values a declared type stands for: numbers, texts or bytes; `None` where it says nothing.
fn odd_kinds(declared: &str, figures: &Figures) -> String {
    let declared = declared.to_uppercase();
    let has = |parts: &[&str]| parts.iter().any(|part| declared.contains(part));
    let mut odd = Vec::new();
    let mut say = |count: u64, what: &str| {
        if count > 0 {
            odd.push(counted(count, what));
        }
    };
    if has(&["INT", "REAL", "FLOA", "DOUB", "NUM", "DEC"]) {
        say(figures.texts, "text");
        say(figures.bytes, "byte value");
    } else if has(&["CHAR", "CLOB", "TEXT"]) {
        say(figures.numbers, "number");
        say(figures.bytes, "byte value");
    } else if has(&["BLOB"]) {
        say(figures.numbers, "number");
        say(figures.texts, "text");
    }
    if odd.is_empty() {
        "none".into()
    } else {
        odd.join(", ")
    }
}

/// The figures of every column of a table, one row each.
pub fn figures(gathered: &[(Column, Figures)], covering: &Covering) -> ResultSet {
    let columns = [
        "column",
        "type",
        "rows",
        "nulls",
        "different",
        "odd kinds",
        "commonest",
        "least",
        "most",
        "mean",
        "lengths",
    ];
    let rows = gathered
        .iter()
        .map(|(of, figures)| {
            let declared = of.declared.clone().unwrap_or_default();
            let (different, exact) = figures.different();
            let different: Value = if exact {
                (different as i64).into()
            } else {
                format!("over {}", grouped(different)).into()
            };
            let hides = |value: ValueRef<'_>| {
                !value.is_null() && (covering.covers(&of.name) || is_secret(value))
            };
            let shown = |value: &Option<Value>| match value {
                Some(value) if hides(value.as_ref()) => WORD.into(),
                Some(value) => value.clone(),
                None => Value::Null,
            };
            let mean = figures.mean().filter(|_| !covering.covers(&of.name));
            let lengths = figures
                .shortest
                .zip(figures.longest)
                .map(|(shortest, longest)| {
                    if shortest == longest {
                        shortest.to_string()
                    } else {
                        format!("{shortest} to {longest}")
                    }
                });
            // Values that all differ have no commonest one.
            let common: Vec<String> = figures
                .commonest(3)
                .into_iter()
                .filter(|(_, count)| *count > 1)
                .map(|(value, count)| {
                    if hides(value.as_ref()) {
                        return format!("{WORD} ×{count}");
                    }
                    let mut text: String = value.as_ref().plain().chars().take(24).collect();
                    if text.is_empty() {
                        text = "''".into();
                    }
                    format!("{text} ×{count}")
                })
                .collect();
            vec![
                of.name.clone().into(),
                declared.clone().into(),
                (figures.rows as i64).into(),
                (figures.nulls as i64).into(),
                different,
                odd_kinds(&declared, figures).into(),
                if common.is_empty() {
                    "all differ".into()
                } else {
                    common.join(", ").into()
                },
                shown(&figures.least),
                shown(&figures.most),
                mean.map(|mean| (mean * 1e4).round() / 1e4).into(),
                lengths.into(),
            ]
        })
        .collect();
    ResultSet::of_rows(columns.map(column).to_vec(), rows)
}

/// The shape of a collection: every path with its kinds and their shares, how often it is there, examples.
pub fn shape(shape: &idle_tide_core::document::shape::Shape) -> ResultSet {
    let rows = shape
        .fields
        .iter()
        .map(|field| {
            let total: u64 = field.kinds.iter().map(|(_, count)| count).sum();
            let mut kinds = field.kinds.clone();
            kinds.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
            let words = if kinds.len() == 1 {
                field.words()
            } else {
                let shares: Vec<String> = kinds
                    .iter()
                    .map(|(kind, count)| format!("{} {}", kind.word(), percent(*count, total)))
                    .collect();
                shares.join(", ")
            };
            let indent = "  ".repeat(field.path.len().saturating_sub(1));
            let in_list = if field.in_list { " in a list" } else { "" };
            vec![
                format!("{indent}{}", field.name()).into(),
                format!("{words}{in_list}").into(),
                percent(field.present, shape.sampled).into(),
                (field.present as i64).into(),
                if field.longest > 0 {
                    Value::Integer(field.longest as i64)
                } else {
                    Value::Missing
                },
                if field.examples.is_empty() {
                    Value::Missing
                } else {
                    field.examples.join(", ").into()
                },
            ]
        })
        .collect();
    let columns = [
        "path",
        "kinds",
        "there in",
        "documents",
        "longest list",
        "examples",
    ];
    ResultSet::of_rows(columns.map(column).to_vec(), rows)
}

/// A share in per cent; one that is there is never shown as none, nor one that is not all as all.
pub(crate) fn percent(part: u64, whole: u64) -> String {
    if whole == 0 {
        return "–".into();
    }
    let share = part as f64 * 100.0 / whole as f64;
    if part > 0 && share < 0.1 {
        return "<0.1 %".into();
    }
    if part < whole && share > 99.9 {
        return ">99.9 %".into();
    }
    if share.fract() == 0.0 {
        format!("{share:.0} %")
    } else {
        format!("{share:.1} %")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::SQLITE;

    #[test]
    fn patterns_of_lists_become_conditions_and_nothing_else() {
        let condition = |pattern: &str| {
            let sql = narrowed("select 1 as name", pattern, &SQLITE);
            let from = sql.find("like ").expect("a condition") + 5;
            sql[from..sql.find(" escape").expect("its end")].to_string()
        };
        assert_eq!(condition("Haven"), "'%haven%'");
        assert_eq!(condition("h*n?"), "'h%n_'");
        assert_eq!(condition("50%_!'"), "'%50!%!_!!''%'");
    }
}
