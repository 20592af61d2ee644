//! The catalog of a SQLite database, from its schema tables and pragmas. Comments are read from the
//! creating statements, where SQLite keeps them.

use std::collections::HashMap;

use idle_tide_core::catalog::{Catalog, Field, Index, Kind, Link, Object};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::token::{TokenKind, tokens};
use rusqlite::{Connection, Result, Row};

/// Reads all objects.
pub(super) fn read(connection: &Connection) -> Result<Catalog> {
    let mut objects = Vec::new();
    let mut definitions: HashMap<(String, String), String> = HashMap::new();
    let schemas: Vec<String> = connection
        .prepare("select name from pragma_database_list")?
        .query_map([], |row| row.get(0))?
        .collect::<Result<_>>()?;
    for schema in &schemas {
        let sql = format!(
            "select type, name, tbl_name, sql from {}.sqlite_schema",
            SQLITE.quote_name(schema)
        );
        let mut statement = connection.prepare(&sql)?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let kind: String = row.get(0)?;
            let name: String = row.get(1)?;
            let sql: Option<String> = row.get(3)?;
            if kind == "trigger" {
                let mut object = Object::new(schema.as_str(), name, Kind::Trigger);
                object.owner = row.get(2)?;
                object.definition = sql;
                objects.push(object);
            } else if let Some(sql) = sql {
                definitions.insert((schema.clone(), name), sql);
            }
        }
    }
    let mut statement = connection.prepare("select schema, name, type from pragma_table_list")?;
    let list: Vec<(String, String, String)> = statement
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?
        .collect::<Result<_>>()?;
    for (schema, name, kind) in list {
        let mut object = Object::new(
            schema.as_str(),
            name.as_str(),
            match kind.as_str() {
                "view" => Kind::View,
                "virtual" => Kind::VirtualTable,
                _ => Kind::Table,
            },
        );
        object.helper = kind == "shadow" || name.starts_with("sqlite_");
        object.definition = definitions.get(&(schema, name)).cloned();
        if let Err(error) = describe(connection, &mut object) {
            object.broken = Some(match &error {
                rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
                rusqlite::Error::SqliteFailure(_, Some(message)) => message.clone(),
                error => error.to_string(),
            });
        }
        if let Some(definition) = object.definition.clone() {
            comments(&definition, &mut object);
        }
        objects.push(object);
    }
    objects.sort_by(|a, b| (&a.name, &a.schema).cmp(&(&b.name, &b.schema)));
    Ok(Catalog {
        objects,
        path: schemas,
    })
}

fn text(row: &Row<'_>, at: usize) -> Result<String> {
    Ok(row.get::<_, Option<String>>(at)?.unwrap_or_default())
}

fn describe(connection: &Connection, object: &mut Object) -> Result<()> {
    let place = (object.name.clone(), object.schema.clone());
    let mut statement = connection.prepare_cached(
        "select name, type, \"notnull\", dflt_value, pk, hidden from pragma_table_xinfo(?1, ?2)",
    )?;
    let mut rows = statement.query((&place.0, &place.1))?;
    while let Some(row) = rows.next()? {
        let hidden: i64 = row.get(5)?;
        if hidden == 1 {
            continue;
        }
        let key = usize::try_from(row.get::<_, i64>(4)?).unwrap_or(0);
        object.fields.push(Field {
            name: text(row, 0)?,
            declared: text(row, 1)?,
            optional: row.get::<_, i64>(2)? == 0 && key == 0,
            key: (key > 0).then_some(key),
            default: row.get(3)?,
            generated: hidden >= 2,
            comment: None,
        });
    }
    if object.kind != Kind::Table {
        return Ok(());
    }
    let mut statement = connection.prepare_cached(
        "select name, \"unique\", origin, partial from pragma_index_list(?1, ?2) order by seq desc",
    )?;
    let mut rows = statement.query((&place.0, &place.1))?;
    while let Some(row) = rows.next()? {
        let name = text(row, 0)?;
        let mut columns = connection.prepare_cached(
            "select name from pragma_index_xinfo(?1, ?2) where key = 1 order by seqno",
        )?;
        let columns = columns
            .query_map((&name, &place.1), |row| row.get::<_, Option<String>>(0))?
            .map(|column| Ok(column?.unwrap_or_else(|| "(expression)".into())))
            .collect::<Result<_>>()?;
        object.indexes.push(Index {
            name,
            columns,
            unique: row.get::<_, i64>(1)? == 1,
            automatic: text(row, 2)? != "c",
            partial: row.get::<_, i64>(3)? == 1,
        });
    }
    let mut statement = connection.prepare_cached(
        "select id, \"table\", \"from\", \"to\", on_delete from pragma_foreign_key_list(?1, ?2) order by id desc, seq",
    )?;
    let mut rows = statement.query((&place.0, &place.1))?;
    let mut last = None;
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        let table = text(row, 1)?;
        if last != Some(id) {
            object.links.push(Link {
                table,
                on_delete: text(row, 4)?.to_lowercase(),
                ..Link::default()
            });
            last = Some(id);
        }
        if let Some(link) = object.links.last_mut() {
            link.columns.push(text(row, 2)?);
            // Without a named column the link goes to the primary key.
            link.their_columns
                .push(row.get::<_, Option<String>>(3)?.unwrap_or_default());
        }
    }
    Ok(())
}

/// Reads the comments of a creating statement: the first one before the first column (or of a view) belongs
/// to the object, one that ends a column's line belongs to that column.
fn comments(definition: &str, object: &mut Object) {
    let list = tokens(definition, &SQLITE);
    let mut depth = 0_i32;
    let mut current: Option<usize> = None;
    let mut at_start = false;
    // A comment behind a comma on the same line belongs to the column before the comma.
    let mut previous: Option<usize> = None;
    let mut line_broken = true;
    for token in &list {
        match token.kind {
            TokenKind::Open => {
                depth += 1;
                at_start = depth == 1;
            }
            TokenKind::Close => depth -= 1,
            TokenKind::Comma if depth == 1 => {
                previous = current.take();
                at_start = true;
                line_broken = false;
            }
            TokenKind::Space if token.of(definition).contains('\n') => line_broken = true,
            TokenKind::Word | TokenKind::QuotedName if at_start && depth == 1 => {
                at_start = false;
                let name = token.name(definition).unwrap_or_default();
                current = object
                    .fields
                    .iter()
                    .position(|field| field.name.eq_ignore_ascii_case(&name));
            }
            TokenKind::Comment => {
                let words = token.of(definition);
                let words = words
                    .trim_start_matches("--")
                    .trim_start_matches("/*")
                    .trim_end_matches("*/")
                    .trim()
                    .to_string();
                let field = current.or(previous.filter(|_| !line_broken));
                match field.and_then(|at| object.fields.get_mut(at)) {
                    Some(field) if object.kind != Kind::View => {
                        field.comment.get_or_insert(words);
                    }
                    _ if object.comment.is_none() && (depth <= 1) => {
                        object.comment = Some(words);
                    }
                    _ => {}
                }
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn described(definition: &str) -> Object {
        let connection = Connection::open_in_memory().expect("opens");
        connection.execute_batch(definition).expect("made");
        let mut catalog = read(&connection).expect("read");
        let at = catalog
            .objects
            .iter()
            .position(|o| o.name == "t")
            .expect("there");
        catalog.objects.swap_remove(at)
    }

    #[test]
    fn comments_belong_to_what_they_stand_behind() {
        let t = described(
            "create table t ( -- the table\n a integer, -- of a\n b text default 'x, -- no', /* of b */ c,\n -- nobody's\n d numeric(4, 2) check (d > 0), e -- of e\n)",
        );
        let of = |name: &str| t.field(name).and_then(|field| field.comment.clone());
        assert_eq!(t.comment.as_deref(), Some("the table"));
        assert_eq!(of("a").as_deref(), Some("of a"));
        assert_eq!(of("b").as_deref(), Some("of b"));
        assert_eq!((of("c"), of("d")), (None, None));
        assert_eq!(of("e").as_deref(), Some("of e"));
    }

    #[test]
    fn keys_links_and_indexes_are_read() {
        let t = described(
            "create table p (x, y, primary key (x, y));
             create table t (\"odd name\" integer primary key, x, y, z as (x + 1), u unique, foreign key (x, y) references p on delete cascade);
             create unique index i on t (x, lower(y)) where x > 0",
        );
        let key = t.field("odd name").expect("there");
        assert_eq!((key.key, key.optional), (Some(1), false));
        assert!(t.field("z").expect("there").generated);
        let link = &t.links[0];
        assert_eq!(
            (link.table.as_str(), link.on_delete.as_str()),
            ("p", "cascade")
        );
        assert_eq!(link.columns, ["x", "y"]);
        let made = t
            .indexes
            .iter()
            .find(|index| index.name == "i")
            .expect("there");
        assert_eq!(made.columns, ["x", "(expression)"]);
        assert!(made.unique && made.partial && !made.automatic);
        assert!(
            t.indexes
                .iter()
                .any(|index| index.automatic && index.columns == ["u"])
        );
    }
}
