//! One object in full, and definitions, as pages.

use idle_tide_core::catalog::{Identity, LIES_ON};
use idle_tide_core::links::{self, Tie};
use idle_tide_core::{Catalog, Field, Index, Kind, Link, Object};
use idle_tide_draw::picture::{bytes, counted, grouped};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;
use idle_tide_lang::holds::holds;

use crate::lists;
use crate::page::{Line, Page, Span, Tone};

/// Number of rows in words, an estimate marked.
pub fn rows_words(object: &Object) -> Option<String> {
    let thing = match object.kind {
        Kind::Collection => "document",
        _ => "row",
    };
    object.rows.map(|rows| match object.estimated {
        true => format!("≈ {}", counted(rows, thing)),
        false => counted(rows, thing),
    })
}

/// How often a path is there, and a few of its values, from the sampled shape of a collection.
pub fn path_words(object: &Object, path: &str) -> Option<(String, String)> {
    let shape = object.shape.as_deref()?;
    let field = shape.fields.iter().find(|f| f.name() == path)?;
    let there = format!("in {}", lists::percent(field.present, shape.sampled));
    Some((there, field.examples.join(", ")))
}

/// What a column's values are filled with when none is given.
pub fn default_words(field: &Field) -> String {
    match (field.identity, &field.default) {
        (Identity::Always, _) => "numbers itself, always".into(),
        (Identity::ByDefault, _) => "numbers itself".into(),
        (_, Some(expression)) if field.generated => format!("computed: {expression}"),
        (_, Some(default)) => format!("otherwise {default}"),
        _ => String::new(),
    }
}

/// What is said of an index besides its columns.
pub fn index_words(index: &Index) -> String {
    let mut words = Vec::new();
    if index.primary {
        words.push("primary key".to_string());
    } else if index.unique {
        words.push("unique".to_string());
    }
    if let Some(method) = &index.method {
        words.push(method.clone());
    }
    if let Some(condition) = &index.condition {
        words.push(format!("where {condition}"));
    }
    if index.automatic && !index.primary {
        words.push("made for a key".to_string());
    }
    if let Some(size) = index.bytes.filter(|size| *size > 0) {
        words.push(bytes(size));
    }
    match index.uses {
        Some(0) => words.push("never used".into()),
        Some(uses) => words.push(format!("used {} times", grouped(uses))),
        None => {}
    }
    words.join(", ")
}

/// A list of columns as links and keys show it.
pub fn columns_words(columns: &[String]) -> String {
    columns.join(", ")
}

fn section(page: &mut Page, title: &str) {
    page.gap();
    page.say(Tone::Heading, title);
}

fn width<T>(list: &[T], length: impl Fn(&T) -> usize) -> usize {
    list.iter().map(length).max().unwrap_or(0)
}

fn columns_section(
    page: &mut Page,
    object: &Object,
    ties: &[Tie],
    catalog: &Catalog,
    family: Family,
) {
    if object.fields.is_empty() {
        return;
    }
    page.gap();
    let place = catalog.place_of(object);
    let link = |field: &Field| -> String {
        if let Some(link) = object.link_of(&field.name) {
            return format!("→ {}", target_words(link));
        }
        let guess =
            place.and_then(|at| links::of_column(ties, at, &field.name).find(|tie| !tie.declared));
        guess.map_or(String::new(), |tie| {
            format!("→ {} ?", links::name_of(catalog, tie.to))
        })
    };
    let flags = |field: &Field| {
        let mut words = Vec::new();
        if field.key.is_some() {
            words.push("key");
        } else if field.optional && family != Family::Documents {
            words.push("optional");
        }
        if field.generated {
            words.push("generated");
        }
        words.join(", ")
    };
    let range = |field: &Field| match family {
        Family::Documents => {
            path_words(object, &field.name).map_or(String::new(), |(there, _)| there)
        }
        _ => holds(&field.declared, family).unwrap_or_default(),
    };
    let fields = &object.fields;
    let names = width(fields, |f| f.name.chars().count()) + 2;
    let types = width(fields, |f| f.declared.chars().count()).clamp(4, 40) + 2;
    let flagged = width(fields, |f| flags(f).chars().count()) + 2;
    let linked = width(fields, |f| link(f).chars().count()).min(40) + 2;
    let ranged = width(fields, |f| range(f).chars().count());
    for field in fields {
        let mut line = Line::new()
            .and(Tone::Plain, "  ")
            .column(Tone::Plain, field.name.clone(), names)
            .column(Tone::Faint, field.declared.to_lowercase(), types)
            .column(Tone::Faint, flags(field), flagged);
        if linked > 2 {
            line = line.column(Tone::Active, link(field), linked);
        }
        if ranged > 0 {
            line = line.column(Tone::Faint, range(field), ranged.min(44) + 2);
        }
        if let Some(comment) = &field.comment {
            // A row of the page is one line, whatever was written.
            let comment = comment.replace(['\n', '\r'], " ¶ ");
            line = line.and(Tone::Plain, format!("{comment}  "));
        }
        let default = default_words(field);
        if !default.is_empty() {
            line = line.and(Tone::Faint, format!("{default}  "));
        }
        if !field.choices.is_empty() {
            line = line.and(
                Tone::Faint,
                format!("one of {}  ", field.choices.join(", ")),
            );
        } else if let Some((_, examples)) = path_words(object, &field.name)
            && !examples.is_empty()
        {
            line = line.and(Tone::Faint, format!("as {examples}  "));
        }
        if let Some(collation) = &field.collation {
            line = line.and(Tone::Faint, format!("collation {collation}"));
        }
        page.line(line);
    }
}

fn target_words(link: &Link) -> String {
    if link.schema.is_empty() || link.schema == "public" || link.schema == "main" {
        link.table.clone()
    } else {
        format!("{}.{}", link.schema, link.table)
    }
}

/// What happens here when a row there goes or changes, where that is not nothing.
fn actions_words(link: &Link) -> String {
    let mut words = String::new();
    for (when, action) in [("delete", &link.on_delete), ("update", &link.on_update)] {
        // That nothing happens is what everybody expects.
        if !matches!(action.as_str(), "no action" | "" | "restrict") {
            words.push_str(&format!("  on {when} {action}"));
        }
    }
    words
}

fn links_sections(page: &mut Page, object: &Object, ties: &[Tie], catalog: &Catalog) {
    if !object.links.is_empty() {
        section(page, "Links to");
        let names = width(&object.links, |l| columns_words(&l.columns).chars().count());
        for link in &object.links {
            let broken = catalog.target(object, link).is_none();
            page.line(
                Line::new()
                    .and(Tone::Plain, "  ")
                    .column(Tone::Plain, columns_words(&link.columns), names + 1)
                    .and(Tone::Active, format!("→ {}", target_words(link)))
                    .and(
                        Tone::Faint,
                        format!(
                            " ({}){}",
                            columns_words(&link.their_columns),
                            actions_words(link)
                        ),
                    )
                    .and(
                        Tone::Danger,
                        if broken {
                            "  there is no such table"
                        } else {
                            ""
                        },
                    ),
            );
        }
    }
    let referring: Vec<_> = catalog
        .referring(object)
        .filter(|(other, _)| other.partition_of.is_none())
        .collect();
    if !referring.is_empty() {
        section(page, "Referred to by");
        let names = width(&referring, |(other, link)| {
            other.name.chars().count() + columns_words(&link.columns).chars().count()
        });
        for (other, link) in referring {
            let columns = columns_words(&link.columns);
            let mut line = Line::new()
                .and(Tone::Plain, "  ")
                .and(Tone::Active, catalog.shortest_name(other))
                .and(Tone::Faint, format!(" ({columns})"));
            if let Some(rows) = rows_words(other) {
                let taken = other.name.chars().count() + columns.chars().count();
                line = line
                    .and(Tone::Plain, " ".repeat(names.saturating_sub(taken) + 2))
                    .and(Tone::Faint, rows);
            }
            page.line(line);
        }
    }
    let Some(place) = catalog.place_of(object) else {
        return;
    };
    let guesses: Vec<&Tie> = ties
        .iter()
        .filter(|tie| !tie.declared && (tie.from == place || tie.to == place))
        .collect();
    if !guesses.is_empty() {
        section(page, "Likely links, not declared");
        for tie in guesses {
            page.line(
                Line::new()
                    .and(
                        Tone::Plain,
                        format!(
                            "  {} ({}) ",
                            links::name_of(catalog, tie.from),
                            columns_words(&tie.columns)
                        ),
                    )
                    .and(
                        Tone::Active,
                        format!("→ {}", links::name_of(catalog, tie.to)),
                    )
                    .and(
                        Tone::Faint,
                        format!(" ({})", columns_words(&tie.their_columns)),
                    ),
            );
        }
    }
}

/// One object in full; `ties` are the links of the catalog, guessed ones among them.
pub fn object_page(object: &Object, ties: &[Tie], catalog: &Catalog, dialect: &Dialect) -> Page {
    let mut page = Page::new();
    head_section(&mut page, object, catalog);
    columns_section(&mut page, object, ties, catalog, dialect.family);
    if !object.indexes.is_empty() {
        section(&mut page, "Keys and indexes");
        let names = width(&object.indexes, |i| i.name.chars().count()) + 2;
        let columns = width(&object.indexes, |i| {
            columns_words(&i.columns).chars().count()
        }) + 2;
        for index in &object.indexes {
            page.line(
                Line::new()
                    .and(Tone::Plain, "  ")
                    .column(Tone::Plain, index.name.clone(), names)
                    .column(Tone::Plain, columns_words(&index.columns), columns)
                    .and(Tone::Faint, index_words(index)),
            );
        }
    }
    links_sections(&mut page, object, ties, catalog);
    if !object.checks.is_empty() {
        section(&mut page, "Checks");
        let names = width(&object.checks, |c| c.name.chars().count());
        for check in &object.checks {
            let mut line = Line::new().and(Tone::Plain, "  ");
            if names > 0 {
                line = line.column(Tone::Faint, check.name.clone(), names + 2);
            }
            page.line(line.and(Tone::Plain, check.condition.clone()));
        }
    }
    belongings_sections(&mut page, object, catalog);
    if let Some(definition) = &object.definition {
        section(&mut page, "Made by");
        for mut line in crate::page::sql_lines(definition, dialect) {
            line.spans.insert(
                0,
                Span {
                    tone: Tone::Plain,
                    text: "  ".into(),
                },
            );
            page.line(line);
        }
    }
    page
}

/// Its name, what is known of it in a line each, and its facts.
fn head_section(page: &mut Page, object: &Object, catalog: &Catalog) {
    let mut head = Line::new().and(Tone::Heading, catalog.shortest_name(object));
    if object.kind.is_routine() {
        head = head.and(Tone::Plain, format!("({})", object.signature));
    }
    head = head.and(Tone::Faint, format!("   {}", object.kind_words()));
    let mut more: Vec<String> = rows_words(object).into_iter().collect();
    more.extend(object.bytes.filter(|size| *size > 0).map(bytes));
    if let Some(table) = &object.table {
        more.push(format!("on {table}"));
    }
    if let Some(owner) = &object.owner {
        more.push(format!("owned by {owner}"));
    }
    for words in more {
        head = head.and(Tone::Faint, format!(" · {words}"));
    }
    page.line(head);
    for line in object.comment.iter().flat_map(|comment| comment.lines()) {
        page.say(Tone::Plain, line);
    }
    if let Some(broken) = &object.broken {
        let words = if object.has_rows() && !object.fields.is_empty() {
            format!("It cannot be opened: {}.", broken.trim_end_matches('.'))
        } else if object.has_rows() {
            format!("Its columns cannot be read: {broken}.")
        } else {
            format!("Not everything can be shown: {broken}.")
        };
        page.say(Tone::Danger, words);
    }
    if let Some(by) = &object.partition_by {
        page.say(Tone::Plain, format!("Its rows are shared out by {by}."));
    }
    if !object.facts.is_empty() {
        page.gap();
        let names = width(&object.facts, |(name, _)| name.chars().count()) + 2;
        for (name, value) in &object.facts {
            page.line(
                Line::new()
                    .and(Tone::Plain, "  ")
                    .column(Tone::Faint, name.clone(), names)
                    .and(Tone::Plain, value.clone()),
            );
        }
    }
}

/// Triggers and partitions.
fn belongings_sections(page: &mut Page, object: &Object, catalog: &Catalog) {
    let of_this = |other: &&Object| {
        other.kind == Kind::Trigger
            && other.schema == object.schema
            && other.table.as_deref() == Some(object.name.as_str())
    };
    let triggers: Vec<_> = catalog.objects.iter().filter(of_this).collect();
    if !triggers.is_empty() {
        section(page, "Triggers");
        for trigger in triggers {
            let mut line = Line::new().and(Tone::Plain, format!("  {}", trigger.name));
            for (name, value) in &trigger.facts {
                line = line.and(Tone::Faint, format!("  {name} {value}"));
            }
            page.line(line);
        }
    }
    let parts: Vec<_> = catalog
        .objects
        .iter()
        .filter(|o| {
            o.partition_of.as_deref().is_some_and(|of| {
                of == object.name && o.schema == object.schema
                    || of == format!("{}.{}", object.schema, object.name)
            })
        })
        .collect();
    if !parts.is_empty() {
        section(page, "Partitions");
        for part in parts {
            let lies_on = part.facts.iter().find(|(name, _)| name == LIES_ON);
            let rows = match lies_on {
                Some((_, server)) => format!("lies on {server}"),
                None => rows_words(part).unwrap_or_default(),
            };
            page.line(
                Line::new()
                    .and(Tone::Active, format!("  {}", part.name))
                    .and(Tone::Faint, format!("  {rows}")),
            );
        }
    }
}

/// The statements that make one object again, or everything.
pub fn definition_page(definition: Option<&str>, dialect: &Dialect) -> Page {
    let mut page = Page::new();
    match definition {
        Some(text) if !text.trim().is_empty() => {
            page.sql(text, dialect);
        }
        Some(_) => {
            page.say(Tone::Plain, "There is nothing here yet.");
        }
        None => {
            page.say(
                Tone::Care,
                "The server does not tell how it was made, or this user may not see it.",
            );
        }
    }
    page
}
