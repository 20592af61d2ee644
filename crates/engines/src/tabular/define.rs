//! Statements that would make objects again. Of views, routines and triggers the server keeps the text; those of tables are
//! put together from the catalog.

use idle_tide_core::catalog::{Catalog, Identity, Index, Kind, Link, Object};

use super::{Tabular, bracketed};
use crate::engine::EngineError;
use crate::served::Told;

fn named(schema: &str, name: &str) -> String {
    format!("{}.{}", bracketed(schema), bracketed(name))
}

fn listed(columns: &[String]) -> String {
    let each: Vec<String> = columns.iter().map(|column| bracketed(column)).collect();
    each.join(", ")
}

fn key(index: &Index) -> String {
    let word = if index.primary {
        "primary key"
    } else {
        "unique"
    };
    let method = match (index.primary, index.method.as_deref()) {
        (true, Some("clustered")) | (false, None) => String::new(),
        (true, None) => " nonclustered".into(),
        (_, Some(method)) => format!(" {method}"),
    };
    format!(
        "constraint {} {word}{method} ({})",
        bracketed(&index.name),
        listed(&index.columns)
    )
}

fn link(object: &Object, link: &Link) -> String {
    let schema = if link.schema.is_empty() {
        &object.schema
    } else {
        &link.schema
    };
    let mut words = format!(
        "constraint {} foreign key ({}) references {} ({})",
        bracketed(&link.name),
        listed(&link.columns),
        named(schema, &link.table),
        listed(&link.their_columns)
    );
    for (when, action) in [("delete", &link.on_delete), ("update", &link.on_update)] {
        if !matches!(action.as_str(), "" | "no action") {
            words.push_str(&format!(" on {when} {action}"));
        }
    }
    words
}

fn comment(object: &Object, column: Option<&str>, text: &str) -> String {
    let quoted = |text: &str| format!("N'{}'", text.replace('\'', "''"));
    let level = if object.is_view() { "VIEW" } else { "TABLE" };
    let column = column.map_or(String::new(), |column| {
        format!(", 'COLUMN', {}", quoted(column))
    });
    format!(
        "exec sp_addextendedproperty 'MS_Description', {}, 'SCHEMA', {}, '{level}', {}{column};",
        quoted(text),
        quoted(&object.schema),
        quoted(&object.name)
    )
}

/// The statements of a table; its links apart, since tables refer to each other in any order.
fn table(object: &Object) -> (String, Vec<String>) {
    let full = named(&object.schema, &object.name);
    let mut parts: Vec<String> = Vec::new();
    for field in &object.fields {
        let name = bracketed(&field.name);
        if field.generated {
            parts.push(format!(
                "{name} as ({})",
                field.default.as_deref().unwrap_or_default()
            ));
            continue;
        }
        let mut words = format!("{name} {}", field.declared);
        if let Some(collation) = &field.collation {
            words.push_str(&format!(" collate {collation}"));
        }
        if field.identity != Identity::None {
            words.push_str(" identity(1,1)");
        }
        words.push_str(if field.optional { " null" } else { " not null" });
        if let Some(default) = &field.default {
            words.push_str(&format!(" default {default}"));
        }
        parts.push(words);
    }
    parts.extend(
        object
            .indexes
            .iter()
            .filter(|index| index.automatic)
            .map(key),
    );
    for check in &object.checks {
        parts.push(format!(
            "constraint {} check ({})",
            bracketed(&check.name),
            check.condition
        ));
    }
    let mut text = format!("create table {full} (\n  {}\n);", parts.join(",\n  "));
    for index in object.indexes.iter().filter(|index| !index.automatic) {
        let unique = if index.unique { "unique " } else { "" };
        let method = index
            .method
            .as_ref()
            .map_or(String::new(), |method| format!("{method} "));
        let filter = index
            .condition
            .as_ref()
            .map_or(String::new(), |condition| format!(" where {condition}"));
        text.push_str(&format!(
            "\ncreate {unique}{method}index {} on {full} ({}){filter};",
            bracketed(&index.name),
            listed(&index.columns)
        ));
    }
    if let Some(words) = &object.comment {
        text.push_str(&format!("\n{}", comment(object, None, words)));
    }
    for field in &object.fields {
        if let Some(words) = &field.comment {
            text.push_str(&format!("\n{}", comment(object, Some(&field.name), words)));
        }
    }
    let links = object
        .links
        .iter()
        .map(|own| format!("alter table {full} add {};", link(object, own)));
    (text, links.collect())
}

/// Finds the statement that would make an object again.
pub(super) fn define(of: &mut Tabular, object: &mut Object) -> Result<(), EngineError> {
    if object.definition.is_some() {
        return Ok(());
    }
    let fact = |name: &str| {
        object
            .facts
            .iter()
            .find(|(own, _)| own == name)
            .map(|(_, value)| value.clone())
    };
    if let Some(base) = fact("synonym") {
        let base = base.trim_start_matches("stands for ").to_string();
        object.definition = Some(format!(
            "create synonym {} for {base};",
            named(&object.schema, &object.name)
        ));
        return Ok(());
    }
    match object.kind {
        Kind::Table => {
            let (text, links) = table(object);
            object.definition = Some([vec![text], links].concat().join("\n"));
        }
        Kind::Sequence => {
            object.definition = Some(format!(
                "create sequence {} start with {} increment by {};",
                named(&object.schema, &object.name),
                fact("begins at").unwrap_or_else(|| "1".into()),
                fact("step").unwrap_or_else(|| "1".into())
            ));
        }
        _ => {
            let full = named(&object.schema, &object.name).replace('\'', "''");
            let rows = of.ask(&format!("select m.definition from sys.sql_modules m where m.object_id = object_id(N'{full}')"))?;
            match rows.into_iter().next().and_then(Told::first) {
                Some(text) => object.definition = Some(text),
                None => object.broken = Some("this user may not see its definition".into()),
            }
        }
    }
    Ok(())
}

/// The statements that make everything again in an empty database, in an order that works there, with `go` between what has
/// to stand alone.
pub(super) fn script(of: &mut Tabular, catalog: &Catalog) -> Result<String, EngineError> {
    let mut parts: Vec<String> = Vec::new();
    let mut schemas: Vec<&str> = catalog
        .objects
        .iter()
        .map(|object| object.schema.as_str())
        .collect();
    schemas.sort_unstable();
    schemas.dedup();
    for schema in schemas.into_iter().filter(|schema| *schema != "dbo") {
        parts.push(format!("create schema {};", bracketed(schema)));
    }
    let mut links = Vec::new();
    for object in catalog
        .objects
        .iter()
        .filter(|object| object.kind == Kind::Table)
    {
        let (text, own) = table(object);
        parts.push(text);
        links.extend(own);
    }
    if !links.is_empty() {
        parts.push(links.join("\n"));
    }
    let rank = |kind: Kind| match kind {
        Kind::Sequence => 0,
        Kind::Function => 1,
        Kind::View => 2,
        Kind::Procedure => 3,
        _ => 4,
    };
    let mut rest: Vec<Object> = catalog
        .objects
        .iter()
        .filter(|object| object.kind != Kind::Table)
        .cloned()
        .collect();
    rest.sort_by_key(|object| rank(object.kind));
    for object in &mut rest {
        define(of, object)?;
        parts.extend(object.definition.clone());
    }
    Ok(parts.join("\ngo\n"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::catalog::Field;

    #[test]
    fn a_table_is_written_with_its_keys_and_its_links_apart() {
        let mut object = Object::new("dbo", "berths", Kind::Table);
        object.fields = vec![
            Field {
                name: "id".into(),
                declared: "int".into(),
                identity: Identity::Always,
                key: Some(1),
                ..Field::default()
            },
            Field {
                name: "de]pth".into(),
                declared: "decimal(9,2)".into(),
                optional: true,
                default: Some("0".into()),
                ..Field::default()
            },
        ];
        object.indexes = vec![
            Index {
                name: "pk".into(),
                columns: vec!["id".into()],
                unique: true,
                primary: true,
                automatic: true,
                method: Some("clustered".into()),
                ..Index::default()
            },
            Index {
                name: "deep".into(),
                columns: vec!["de]pth".into()],
                condition: Some("[de]]pth]>(3)".into()),
                ..Index::default()
            },
        ];
        object.links = vec![Link {
            name: "fk".into(),
            columns: vec!["id".into()],
            table: "piers".into(),
            their_columns: vec!["id".into()],
            on_delete: "cascade".into(),
            on_update: "no action".into(),
            ..Link::default()
        }];
        object.comment = Some("where ships lie".into());
        let (text, links) = table(&object);
        assert_eq!(
            text,
            "create table [dbo].[berths] (\n  [id] int identity(1,1) not null,\n  [de]]pth] decimal(9,2) null default 0,\n  constraint [pk] primary key ([id])\n);\n\
             create index [deep] on [dbo].[berths] ([de]]pth]) where [de]]pth]>(3);\n\
             exec sp_addextendedproperty 'MS_Description', N'where ships lie', 'SCHEMA', N'dbo', 'TABLE', N'berths';"
        );
        assert_eq!(
            links,
            [
                "alter table [dbo].[berths] add constraint [fk] foreign key ([id]) references [dbo].[piers] ([id]) on delete cascade;"
            ]
        );
    }
}
