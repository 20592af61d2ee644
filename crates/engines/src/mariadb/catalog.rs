//! The catalog of one database of MariaDB or MySQL from the information schema, the statements the server
//! keeps for its objects, and the questions that lists of databases, roles and grants stand for.

use std::collections::HashMap;

use idle_tide_core::catalog::{Catalog, Field, Index, Kind, Link, Object};

use super::Mariadb;
use crate::engine::{EngineError, Listing, Query};

/// Reads all objects of the database that is chosen; none when none is.
pub(super) fn read(of: &mut Mariadb) -> Result<Catalog, EngineError> {
    let text = |value: &Option<String>| value.clone().unwrap_or_default();
    let rows = of.ask(
        "select database(), table_name, table_type, table_rows, data_length, table_comment \
         from information_schema.tables where table_schema = database() order by table_name",
    )?;
    let mut objects: Vec<Object> = Vec::new();
    let mut place: HashMap<String, usize> = HashMap::new();
    for row in rows {
        let word = text(&row[2]);
        let view = word.contains("VIEW");
        let mut object = Object::new(
            text(&row[0]),
            text(&row[1]),
            if view { Kind::View } else { Kind::Table },
        );
        object.helper = word == "SEQUENCE";
        object.rows = row[3]
            .as_deref()
            .and_then(|n| n.parse().ok())
            .filter(|_| !view);
        object.estimated = object.rows.is_some();
        object.bytes = row[4].as_deref().and_then(|n| n.parse().ok());
        object.comment = row[5].clone().filter(|c| !c.is_empty() && !view);
        if view && row[5].as_deref().is_some_and(|c| c.contains("invalid")) {
            object.broken = row[5].clone();
        }
        place.insert(object.name.clone(), objects.len());
        objects.push(object);
    }
    let rows = of.ask(
        "select table_name, column_name, column_type, is_nullable, column_default, extra, column_comment, generation_expression \
         from information_schema.columns where table_schema = database() order by table_name, ordinal_position",
    )?;
    for row in rows {
        let Some(object) = place.get(&text(&row[0])).map(|at| &mut objects[*at]) else {
            continue;
        };
        let extra = text(&row[5]).to_lowercase();
        let generated = row[7].as_deref().is_some_and(|e| !e.is_empty());
        let default = if generated {
            row[7].clone()
        } else if extra.contains("auto_increment") {
            Some("auto_increment".into())
        } else {
            row[4].clone().filter(|d| d != "NULL")
        };
        object.fields.push(Field {
            name: text(&row[1]),
            declared: text(&row[2]),
            optional: row[3].as_deref() == Some("YES"),
            key: None,
            default,
            generated,
            comment: row[6].clone().filter(|c| !c.is_empty()),
        });
    }
    let rows = of.ask(
        "select table_name, index_name, non_unique, column_name from information_schema.statistics \
         where table_schema = database() order by table_name, index_name, seq_in_index",
    )?;
    for row in rows {
        let Some(object) = place.get(&text(&row[0])).map(|at| &mut objects[*at]) else {
            continue;
        };
        let (name, column) = (
            text(&row[1]),
            row[3].clone().unwrap_or_else(|| "(expression)".into()),
        );
        if object.indexes.last().is_none_or(|last| last.name != name) {
            object.indexes.push(Index {
                automatic: name == "PRIMARY",
                unique: row[2].as_deref() == Some("0"),
                name: name.clone(),
                columns: Vec::new(),
                partial: false,
            });
        }
        if let Some(index) = object.indexes.last_mut() {
            index.columns.push(column.clone());
            if name == "PRIMARY" {
                let place = index.columns.len();
                if let Some(field) = object.fields.iter_mut().find(|f| f.name == column) {
                    field.key = Some(place);
                }
            }
        }
    }
    let rows = of.ask(
        "select k.table_name, k.constraint_name, k.column_name, k.referenced_table_name, k.referenced_column_name, lower(r.delete_rule) \
         from information_schema.key_column_usage k join information_schema.referential_constraints r \
           on r.constraint_schema = k.constraint_schema and r.constraint_name = k.constraint_name and r.table_name = k.table_name \
         where k.table_schema = database() and k.referenced_table_name is not null \
         order by k.table_name, k.constraint_name, k.ordinal_position",
    )?;
    let mut last = None;
    for row in rows {
        let Some(object) = place.get(&text(&row[0])).map(|at| &mut objects[*at]) else {
            continue;
        };
        let this = Some((text(&row[0]), text(&row[1])));
        if this != last {
            object.links.push(Link {
                table: text(&row[3]),
                on_delete: text(&row[5]),
                ..Link::default()
            });
            last = this;
        }
        if let Some(link) = object.links.last_mut() {
            link.columns.push(text(&row[2]));
            link.their_columns.push(text(&row[4]));
        }
    }
    let rows = of.ask(
        "select trigger_schema, trigger_name, event_object_table, lower(action_timing), lower(event_manipulation), action_statement \
         from information_schema.triggers where trigger_schema = database() order by trigger_name",
    )?;
    for row in rows {
        let mut trigger = Object::new(text(&row[0]), text(&row[1]), Kind::Trigger);
        let quote = |name: &Option<String>| of.dialect.quote_name(&text(name));
        trigger.definition = Some(format!(
            "create trigger {} {} {} on {} for each row\n{};",
            quote(&row[1]),
            text(&row[3]),
            text(&row[4]),
            quote(&row[2]),
            text(&row[5])
        ));
        trigger.owner = row[2].clone();
        objects.push(trigger);
    }
    let database = of.bearings.database.clone();
    objects.sort_by(|a, b| a.name.cmp(&b.name));
    Ok(Catalog {
        objects,
        path: vec![database],
    })
}

/// Finds the statement that would make a table or view again: the server keeps it.
pub(super) fn define(of: &mut Mariadb, object: &mut Object) -> Result<(), EngineError> {
    if object.definition.is_some() || object.kind == Kind::Trigger {
        return Ok(());
    }
    let word = if object.is_view() { "view" } else { "table" };
    let name = format!(
        "{}.{}",
        of.dialect.quote_name(&object.schema),
        of.dialect.quote_name(&object.name)
    );
    let rows = of.ask(&format!("show create {word} {name}"))?;
    let text = rows
        .into_iter()
        .next()
        .and_then(|row| row.into_iter().nth(1))
        .flatten();
    object.definition = text.map(|text| format!("{text};"));
    Ok(())
}

/// The question that a list stands for.
pub(super) fn listing(of: &mut Mariadb, what: Listing<'_>) -> Query {
    let own = "What other users may do is not shown: this user may not read the server's tables of accounts.";
    match what {
        Listing::Databases(full) => Query {
            sql: format!(
                "select s.schema_name as name, s.default_character_set_name as encoding, s.default_collation_name as collation{} \
                 from information_schema.schemata s order by 1",
                if full {
                    ", (select cast(sum(data_length + index_length) as unsigned) from information_schema.tables t where t.table_schema = s.schema_name) as bytes, \
                     (select count(*) from information_schema.tables t where t.table_schema = s.schema_name) as tables"
                } else {
                    ""
                }
            ),
            note: Some("Databases have no owner in this family. Those that the present user may not enter are left out by the server.".into()),
        },
        Listing::Roles(full) => {
            let sees = of.ask("select 1 from mysql.user limit 0").is_ok();
            if !sees {
                return Query {
                    sql: "select current_user() as name, current_role() as role".into(),
                    note: Some(own.into()),
                };
            }
            let more = if full {
                ", u.plugin as \"checked by\", u.Create_user_priv = 'Y' as \"makes users\", u.Grant_priv = 'Y' as \"passes rights on\", u.password_expired = 'Y' as \"password expired\", u.max_user_connections as \"connection limit\""
            } else {
                ""
            };
            let sql = if of.is_mysql {
                format!("select u.User as name, u.Host as host, u.account_locked <> 'Y' as \"may log in\", u.Super_priv = 'Y' as \"all-powerful\"{more}, \
                    (select group_concat(e.from_user order by 1 separator ', ') from mysql.role_edges e where e.to_user = u.User and e.to_host = u.Host) as \"member of\" \
                    from mysql.user u order by 1, 2")
            } else {
                format!("select u.User as name, u.Host as host, u.is_role <> 'Y' as \"may log in\", u.Super_priv = 'Y' as \"all-powerful\"{more}, \
                    (select group_concat(m.Role order by 1 separator ', ') from mysql.roles_mapping m where m.User = u.User and m.Host = u.Host) as \"member of\" \
                    from mysql.user u order by 1, 2")
            };
            Query { sql: of.aliases(sql), note: None }
        }
        Listing::Access(name) => {
            let sees = of.ask("select 1 from mysql.user limit 0").is_ok();
            let only = name.map_or(String::new(), |name| {
                let plain = of.dialect.quote_text(name.rsplit('.').next().unwrap_or(name));
                format!(" where name = {plain} or name like concat({plain}, '.%')")
            });
            let sql = format!(
                "select * from (\
                 select 'table' as kind, table_schema as \"database\", table_name as name, grantee, lower(group_concat(privilege_type order by privilege_type separator ', ')) as rights, max(is_grantable) = 'YES' as \"may pass on\" \
                   from information_schema.table_privileges group by table_schema, table_name, grantee \
                 union all select 'column', table_schema, concat(table_name, '.', column_name), grantee, lower(group_concat(privilege_type separator ', ')), max(is_grantable) = 'YES' \
                   from information_schema.column_privileges group by table_schema, table_name, column_name, grantee \
                 union all select 'database', table_schema, table_schema, grantee, lower(group_concat(privilege_type order by privilege_type separator ', ')), max(is_grantable) = 'YES' \
                   from information_schema.schema_privileges group by table_schema, grantee \
                 union all select 'everything', '', '*', grantee, lower(group_concat(privilege_type order by privilege_type separator ', ')), max(is_grantable) = 'YES' \
                   from information_schema.user_privileges group by grantee \
                 ) all_access{only} order by 1 desc, 2, 3, 4"
            );
            Query {
                sql: of.aliases(sql),
                note: Some(if sees { "Rights that come with a role are not spelled out here; /roles shows who is a member of what.".into() } else { own.to_string() }),
            }
        }
    }
}

impl Mariadb {
    /// Names in double quotes, in the quotes that this session's mode has for names.
    fn aliases(&self, sql: String) -> String {
        sql.replace('"', "`")
    }
}
