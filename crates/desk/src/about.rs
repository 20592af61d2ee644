//! One object in full, and lists of objects by kind, from the catalog.

use idle_tide_core::{Catalog, Column, Figures, Kind, Object, ResultSet, Value};
use idle_tide_draw::picture::{counted, grouped};
use idle_tide_lang::Dialect;
use idle_tide_lang::command::fits_pattern;

use crate::page::{Line, Page, Tone};

/// One table or view in full.
pub fn object_page(object: &Object, catalog: &Catalog, dialect: &Dialect) -> Page {
    let mut page = Page::new();
    let mut head = Line::new()
        .and(Tone::Heading, object.name.clone())
        .and(Tone::Faint, format!("   {}", object.kind.word()));
    if let Some(rows) = object.rows {
        head = head
            .and(Tone::Faint, " · ")
            .and(Tone::Faint, counted(rows, "row"));
    }
    page.line(head);
    if let Some(comment) = &object.comment {
        page.say(Tone::Plain, comment.clone());
    }
    if let Some(broken) = &object.broken {
        page.say(
            Tone::Danger,
            format!("Its columns cannot be read: {broken}."),
        );
    }
    if !object.fields.is_empty() {
        page.gap();
        let width = |f: &dyn Fn(&idle_tide_core::Field) -> usize| {
            object.fields.iter().map(f).max().unwrap_or(0)
        };
        let names = width(&|f| f.name.chars().count()) + 2;
        let types = width(&|f| f.declared.chars().count()).max(4) + 2;
        for field in &object.fields {
            let mut line = Line::new()
                .and(Tone::Plain, "  ")
                .column(Tone::Plain, field.name.clone(), names)
                .column(Tone::Faint, field.declared.to_lowercase(), types);
            let mut words = Vec::new();
            if field.key.is_some() {
                words.push("key".to_string());
            } else if field.optional {
                words.push("optional".to_string());
            }
            if field.generated {
                words.push("generated".into());
            }
            line = line.column(Tone::Faint, words.join(", "), 10);
            if let Some(link) = object.link_of(&field.name) {
                line = line.and(Tone::Active, format!("→ {}  ", link.table));
            }
            if let Some(default) = &field.default {
                line = line.and(Tone::Faint, format!("otherwise {default}  "));
            }
            if let Some(comment) = &field.comment {
                line = line.and(Tone::Plain, comment.clone());
            }
            page.line(line);
        }
    }
    let section = |page: &mut Page, title: &str| {
        page.gap();
        page.say(Tone::Heading, title);
    };
    if !object.indexes.is_empty() {
        section(&mut page, "Indexes");
        let width = object
            .indexes
            .iter()
            .map(|i| i.name.chars().count())
            .max()
            .unwrap_or(0)
            + 2;
        for index in &object.indexes {
            let mut words = Vec::new();
            if index.unique {
                words.push("unique");
            }
            if index.partial {
                words.push("some rows only");
            }
            if index.automatic {
                words.push("made for a key");
            }
            page.line(
                Line::new()
                    .and(Tone::Plain, "  ")
                    .column(Tone::Plain, index.name.clone(), width)
                    .and(Tone::Plain, index.columns.join(", "))
                    .and(Tone::Faint, format!("  {}", words.join(", "))),
            );
        }
    }
    if !object.links.is_empty() {
        section(&mut page, "Links to");
        for link in &object.links {
            let theirs: Vec<&str> = link
                .their_columns
                .iter()
                .map(String::as_str)
                .filter(|c| !c.is_empty())
                .collect();
            let theirs = if theirs.is_empty() {
                "its key".into()
            } else {
                theirs.join(", ")
            };
            // That nothing happens is what everybody expects.
            let on_delete = match link.on_delete.as_str() {
                "no action" | "" => String::new(),
                action => format!("  on delete {action}"),
            };
            page.line(
                Line::new()
                    .and(Tone::Plain, format!("  {} ", link.columns.join(", ")))
                    .and(Tone::Active, format!("→ {}", link.table))
                    .and(Tone::Faint, format!(" ({theirs}){on_delete}")),
            );
        }
    }
    let referring: Vec<_> = catalog.referring(&object.name).collect();
    if !referring.is_empty() {
        section(&mut page, "Referred to by");
        for (other, link) in referring {
            let mut line = Line::new()
                .and(Tone::Plain, "  ")
                .and(Tone::Active, other.name.clone())
                .and(Tone::Faint, format!(" ({})", link.columns.join(", ")));
            if let Some(rows) = other.rows {
                line = line.and(Tone::Faint, format!("  {}", counted(rows, "row")));
            }
            page.line(line);
        }
    }
    let triggers: Vec<_> = catalog
        .objects
        .iter()
        .filter(|o| o.kind == Kind::Trigger && o.owner.as_deref() == Some(object.name.as_str()))
        .collect();
    if !triggers.is_empty() {
        section(&mut page, "Triggers");
        for trigger in triggers {
            page.say(Tone::Plain, format!("  {}", trigger.name));
        }
    }
    if let Some(definition) = &object.definition {
        section(&mut page, "Made by");
        for mut line in crate::page::sql_lines(definition, dialect) {
            line.spans.insert(
                0,
                crate::page::Span {
                    tone: Tone::Plain,
                    text: "  ".into(),
                },
            );
            page.line(line);
        }
    }
    page
}

/// The creating statement of an object with those of its indexes and triggers, or of everything.
pub fn definition_page(object: Option<&Object>, catalog: &Catalog, dialect: &Dialect) -> Page {
    let mut page = Page::new();
    // Tables before views before triggers, so that running it makes the same.
    let mut list: Vec<&Object> = match object {
        Some(object) => vec![object],
        None => catalog.objects.iter().filter(|o| !o.helper).collect(),
    };
    list.sort_by_key(|object| object.kind);
    for object in list {
        if let Some(definition) = &object.definition {
            if !page.lines.is_empty() {
                page.gap();
            }
            page.sql(&format!("{definition};"), dialect);
        }
    }
    if page.lines.is_empty() {
        page.say(Tone::Plain, "There is nothing here yet.");
    }
    page
}

fn column(name: &str) -> Column {
    Column::named(name)
}

/// Tables or views whose names fit the pattern.
pub fn list(catalog: &Catalog, views: bool, pattern: &str, full: bool) -> ResultSet {
    let mut columns = vec![column("name"), column("kind"), column("rows")];
    if views {
        columns.truncate(1);
    }
    if full {
        columns.extend(["columns", "indexes", "links", "comment"].map(column));
    }
    let rows = catalog
        .objects
        .iter()
        .filter(|object| match object.kind {
            Kind::View | Kind::MaterializedView => views,
            Kind::Trigger => false,
            _ => !views,
        })
        .filter(|object| (full || !object.helper) && fits_pattern(pattern, &object.name))
        .map(|object| {
            let mut row: Vec<Value> = vec![object.name.clone().into()];
            if !views {
                row.push(
                    if object.helper {
                        "helper table"
                    } else {
                        object.kind.word()
                    }
                    .into(),
                );
                row.push(object.rows.map(|rows| rows as i64).into());
            }
            if full {
                row.push((object.fields.len() as i64).into());
                row.push((object.indexes.len() as i64).into());
                row.push((object.links.len() as i64).into());
                row.push(object.comment.clone().into());
            }
            row
        })
        .collect();
    ResultSet::of_rows(columns, rows)
}

/// Indexes whose names, or whose tables' names, fit the pattern.
pub fn indexes(catalog: &Catalog, pattern: &str) -> ResultSet {
    let mut rows = Vec::new();
    for object in catalog.tables() {
        for index in &object.indexes {
            if fits_pattern(pattern, &index.name) || fits_pattern(pattern, &object.name) {
                let mut kind = if index.unique { "unique" } else { "" }.to_string();
                if index.automatic {
                    kind = "unique, made for a key".into();
                }
                rows.push(vec![
                    index.name.clone().into(),
                    object.name.clone().into(),
                    index.columns.join(", ").into(),
                    kind.into(),
                ]);
            }
        }
    }
    ResultSet::of_rows(
        ["name", "table", "columns", "kind"].map(column).to_vec(),
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
pub fn figures(gathered: &[(Column, Figures)]) -> ResultSet {
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
                figures.least.clone().unwrap_or(Value::Null),
                figures.most.clone().unwrap_or(Value::Null),
                figures.mean().map(|mean| (mean * 1e4).round() / 1e4).into(),
                lengths.into(),
            ]
        })
        .collect();
    ResultSet::of_rows(columns.map(column).to_vec(), rows)
}
