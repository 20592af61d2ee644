//! The catalog of a SQLite database, from its schema tables and pragmas, and the statements that make it again.
//! Comments and checks are read from the creating statements, where SQLite keeps them.

use std::collections::HashMap;

use idle_tide_core::catalog::{Catalog, Database, Field, Identity, Index, Kind, Link, Object};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::token::{TokenKind, tokens};
use rusqlite::{Connection, Result, Row};

use super::create;

/// Reads all objects.
pub(super) fn read(connection: &Connection) -> Result<Catalog> {
    let Made {
        mut objects,
        definitions,
        mut following,
    } = made(connection)?;
    let mut statement =
        connection.prepare("select schema, name, type, wr, strict from pragma_table_list")?;
    let list: Vec<(String, String, String, bool, bool)> = statement
        .query_map([], |row| {
            Ok((
                row.get(0)?,
                row.get(1)?,
                row.get(2)?,
                row.get(3)?,
                row.get(4)?,
            ))
        })?
        .collect::<Result<_>>()?;
    for (schema, name, kind, without_rowid, strict) in list {
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
        object.temporary = schema == "temp";
        if strict {
            let words = "every value has its column's type (strict)";
            object.facts.push(("values".into(), words.into()));
        }
        if without_rowid && !object.helper {
            let words = "under the key itself (without rowid)";
            object.facts.push(("rows are kept".into(), words.into()));
        }
        let key = (schema, name);
        let definition = definitions.get(&key).cloned();
        if let Err(error) = describe(connection, &mut object, without_rowid) {
            object.broken = Some(match &error {
                rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
                rusqlite::Error::SqliteFailure(_, Some(message)) => message.clone(),
                error => error.to_string(),
            });
        }
        for index in &mut object.indexes {
            let made = following.get(&key).into_iter().flatten();
            if let (Some(condition), Some(sql)) = (
                &mut index.condition,
                made.into_iter().find(|sql| names(sql, &index.name)),
            ) {
                *condition = after_where(sql);
            }
        }
        if let Some(mut definition) = definition {
            create::comments(&definition, &mut object);
            if object.kind == Kind::Table {
                create::checks(&definition, &mut object);
            }
            definition.push(';');
            for more in following.remove(&key).unwrap_or_default() {
                definition.push_str(&format!("\n{more};"));
            }
            object.definition = Some(definition);
        }
        objects.push(object);
    }
    complete_links(&mut objects);
    objects.sort_by(|a, b| (&a.name, &a.schema).cmp(&(&b.name, &b.schema)));
    let files: Vec<(String, Option<String>)> = connection
        .prepare("select name, file from pragma_database_list")?
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?
        .collect::<Result<_>>()?;
    // What is temporary is a database of its own, as soon as there is something in it.
    let used = |name: &str| name != "temp" || objects.iter().any(|o| o.schema == name && !o.helper);
    let files: Vec<_> = files.into_iter().filter(|(name, _)| used(name)).collect();
    let schemas: Vec<String> = files.iter().map(|(name, _)| name.clone()).collect();
    let databases = files
        .into_iter()
        .map(|(name, file)| Database {
            here: name == "main",
            name,
            detail: file.unwrap_or_default(),
        })
        .collect();
    Ok(Catalog {
        objects,
        schemas: schemas.clone(),
        path: schemas,
        databases,
        ..Catalog::default()
    })
}

/// What the statements that made everything tell.
struct Made {
    /// Triggers.
    objects: Vec<Object>,
    /// By schema and name.
    definitions: HashMap<(String, String), String>,
    /// What follows a table: its indexes and triggers.
    following: HashMap<(String, String), Vec<String>>,
}

fn made(connection: &Connection) -> Result<Made> {
    let mut objects = Vec::new();
    let mut definitions: HashMap<(String, String), String> = HashMap::new();
    let schemas: Vec<String> = connection
        .prepare("select name from pragma_database_list")?
        .query_map([], |row| row.get(0))?
        .collect::<Result<_>>()?;
    let mut following: HashMap<(String, String), Vec<String>> = HashMap::new();
    for schema in &schemas {
        for (kind, name, table, sql) in statements(connection, schema)? {
            let Some(sql) = sql else { continue };
            let sql = placed(&sql, schema);
            match kind.as_str() {
                "trigger" => {
                    let mut object = Object::new(schema.as_str(), name, Kind::Trigger);
                    object.table = Some(table.clone());
                    object.temporary = schema == "temp";
                    object.definition = Some(format!("{sql};"));
                    objects.push(object);
                    following
                        .entry((schema.clone(), table))
                        .or_default()
                        .push(sql);
                }
                "index" => following
                    .entry((schema.clone(), table))
                    .or_default()
                    .push(sql),
                _ => {
                    if kind == "view" {
                        // The list of tables goes through all views again for each one that was never looked into.
                        // A broken view is told by the list.
                        let place = [schema, &name].map(|part| SQLITE.quote_name(part));
                        let _ = connection.prepare(&format!("select * from {}", place.join(".")));
                    }
                    definitions.insert((schema.clone(), name), sql);
                }
            }
        }
    }
    Ok(Made {
        objects,
        definitions,
        following,
    })
}

/// Without named columns a link goes to the primary key.
fn complete_links(objects: &mut [Object]) {
    let keys: HashMap<(String, String), Vec<String>> = objects
        .iter()
        .filter(|object| object.kind == Kind::Table)
        .map(|object| {
            let mut key: Vec<&Field> = object.fields.iter().filter(|f| f.key.is_some()).collect();
            key.sort_by_key(|field| field.key);
            let names = key.into_iter().map(|field| field.name.clone()).collect();
            ((object.schema.clone(), object.name.to_lowercase()), names)
        })
        .collect();
    for object in objects {
        for link in &mut object.links {
            let theirs = (object.schema.clone(), link.table.to_lowercase());
            if link.their_columns.iter().any(String::is_empty)
                && let Some(key) = keys.get(&theirs)
            {
                link.their_columns.clone_from(key);
            }
        }
    }
}

/// Whether a statement makes the index of this name.
fn names(sql: &str, index: &str) -> bool {
    let list = tokens(sql, &SQLITE);
    let mut names = list.iter().filter_map(|token| token.name(sql));
    names.any(|name| name.eq_ignore_ascii_case("index"))
        && names
            .next()
            .is_some_and(|name| name.eq_ignore_ascii_case(index))
}

/// The condition at the end of a statement that makes an index.
fn after_where(sql: &str) -> String {
    let list = tokens(sql, &SQLITE);
    let mut depth = 0;
    for token in &list {
        match token.kind {
            TokenKind::Open => depth += 1,
            TokenKind::Close => depth -= 1,
            TokenKind::Word if depth == 0 && token.is_word(sql, "where") => {
                return sql[token.end..].trim().to_string();
            }
            _ => {}
        }
    }
    String::new()
}

/// Kind, name, table and text of the statements that SQLite keeps of a schema, as they were made.
type Kept = Vec<(String, String, String, Option<String>)>;

fn statements(connection: &Connection, schema: &str) -> Result<Kept> {
    let sql = format!(
        "select type, name, tbl_name, sql from {}.sqlite_schema order by rowid",
        SQLITE.quote_name(schema)
    );
    let mut statement = connection.prepare(&sql)?;
    statement
        .query_map([], |row| {
            Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?))
        })?
        .collect()
}

/// The statement with the schema that SQLite leaves out of it, where that is not the main one.
fn placed(sql: &str, schema: &str) -> String {
    if schema == "main" {
        return sql.to_string();
    }
    let list = tokens(sql, &SQLITE);
    let of = |words: &[&str]| {
        list.iter()
            .find(|token| words.iter().any(|word| token.is_word(sql, word)))
    };
    let Some(kind) = of(&["table", "view", "index", "trigger"]) else {
        return sql.to_string();
    };
    if schema == "temp" {
        let before = match of(&["virtual", "unique"]) {
            Some(word) if word.start < kind.start => word.start,
            _ => kind.start,
        };
        // An index goes where its table is; a temporary table is named with its schema instead.
        if kind.is_word(sql, "index") || before != kind.start {
            return format!("{} temp.{}", &sql[..kind.end], sql[kind.end..].trim_start());
        }
        return format!("{}temp {}", &sql[..before], &sql[before..]);
    }
    let schema = SQLITE.quote_name(schema);
    format!(
        "{} {schema}.{}",
        &sql[..kind.end],
        sql[kind.end..].trim_start()
    )
}

/// The statements that make everything again in an empty database, in the order in which they were made.
/// Databases that were attached have to be attached before they run.
pub(super) fn script(connection: &Connection, catalog: &Catalog) -> Result<String> {
    let mut text = String::new();
    for schema in &catalog.schemas {
        for (_, name, _, sql) in statements(connection, schema)? {
            let helper = catalog
                .objects
                .iter()
                .any(|object| object.helper && object.name == name && object.schema == *schema);
            if let (Some(sql), false) = (sql, helper) {
                text.push_str(&format!("{};\n\n", placed(&sql, schema)));
            }
        }
    }
    Ok(text.trim_end().to_string())
}

fn text(row: &Row<'_>, at: usize) -> Result<String> {
    Ok(row.get::<_, Option<String>>(at)?.unwrap_or_default())
}

fn describe(connection: &Connection, object: &mut Object, without_rowid: bool) -> Result<()> {
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
            ..Field::default()
        });
    }
    // The one column that stands for the row's number fills itself.
    let mut key = object.fields.iter_mut().filter(|f| f.key.is_some());
    if let (Some(field), None, false) = (key.next(), key.next(), without_rowid)
        && field.declared.eq_ignore_ascii_case("integer")
    {
        field.identity = Identity::ByDefault;
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
            primary: text(row, 2)? == "pk",
            condition: (row.get::<_, i64>(3)? == 1).then(String::new),
            ..Index::default()
        });
    }
    let mut statement = connection.prepare_cached(
        "select id, \"table\", \"from\", \"to\", on_delete, on_update from pragma_foreign_key_list(?1, ?2) order by id desc, seq",
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
                on_update: text(row, 5)?.to_lowercase(),
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
        assert!(made.unique && made.condition.as_deref() == Some("x > 0") && !made.automatic);
        assert!(
            t.indexes
                .iter()
                .any(|index| index.automatic && index.columns == ["u"])
        );
    }
}
