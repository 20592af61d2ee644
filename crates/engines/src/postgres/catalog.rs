//! The catalog of a PostgreSQL database from its system catalogs, the statements that would make an object
//! again, and the questions that lists of databases, roles and grants stand for.

use std::collections::HashMap;

use idle_tide_core::catalog::{Catalog, Field, Index, Kind, Link, Object};
use idle_tide_lang::dialect::POSTGRES;

use super::{Known, Origin, Postgres, locked};
use crate::engine::{EngineError, Listing, Query};

const RELATIONS: &str = "select c.oid, n.nspname, c.relname, c.relkind, c.reltuples::bigint, \
    c.relpages::bigint * current_setting('block_size')::bigint, obj_description(c.oid, 'pg_class'), c.relispartition \
    from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
    where c.relkind in ('r', 'p', 'v', 'm', 'f') and n.nspname not in ('pg_catalog', 'information_schema') \
    and n.nspname !~ '^pg_(toast|temp)' \
    or c.relkind = 'r' and c.relnamespace = pg_my_temp_schema()";

const COLUMNS: &str = "select a.attrelid, a.attnum, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, \
    pg_get_expr(d.adbin, d.adrelid), to_jsonb(a) ->> 'attidentity', to_jsonb(a) ->> 'attgenerated', \
    col_description(a.attrelid, a.attnum), a.atttypid, t.typtype = 'b' and t.oid < 10000 \
    from pg_catalog.pg_attribute a join pg_catalog.pg_type t on t.oid = a.atttypid \
    left join pg_catalog.pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum \
    where a.attnum > 0 and not a.attisdropped and a.attrelid >= 16384 \
    and a.attrelid in (select oid from pg_catalog.pg_class where relkind in ('r', 'p', 'v', 'm', 'f') \
      and relnamespace not in (select oid from pg_catalog.pg_namespace where nspname in ('pg_catalog', 'information_schema', 'pg_toast'))) \
    order by a.attrelid, a.attnum";

const INDEXES: &str = "select i.indrelid, c.relname, i.indisunique, i.indisprimary, i.indkey, i.indpred is not null, \
    exists (select from pg_catalog.pg_constraint k where k.conindid = i.indexrelid and k.contype in ('p', 'u', 'x')) \
    from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid where i.indrelid >= 16384 \
    and c.relnamespace <> 'pg_toast'::regnamespace order by 1, 2";

const LINKS: &str = "select conrelid, confrelid, conkey, confkey, confdeltype from pg_catalog.pg_constraint \
    where contype = 'f' order by conrelid, conname";

const TRIGGERS: &str = "select t.tgrelid, t.tgname, pg_get_triggerdef(t.oid) from pg_catalog.pg_trigger t \
    where not t.tgisinternal order by 1, 2";

const TYPES: &str = "select oid, format_type(oid, null) from pg_catalog.pg_type where oid >= 16384 \
    and typrelid = 0 or typtype = 'c' and oid >= 16384";

/// `{1,2}` or `1 2` as numbers.
fn numbers(text: &str) -> Vec<i16> {
    text.split(|c: char| !c.is_ascii_digit() && c != '-')
        .filter_map(|part| part.parse().ok())
        .collect()
}

fn kind(letter: &str) -> Kind {
    match letter {
        "v" => Kind::View,
        "m" => Kind::MaterializedView,
        "f" => Kind::ForeignTable,
        _ => Kind::Table,
    }
}

/// Reads all objects.
pub(super) fn read(of: &Postgres) -> Result<Catalog, EngineError> {
    let text = |value: &Option<String>| value.clone().unwrap_or_default();
    let number = |value: &Option<String>| {
        value
            .as_deref()
            .and_then(|v| v.parse::<u32>().ok())
            .unwrap_or(0)
    };
    let mut objects: Vec<Object> = Vec::new();
    let mut place: HashMap<u32, usize> = HashMap::new();
    for row in of.ask(RELATIONS)? {
        let mut object = Object::new(text(&row[1]), text(&row[2]), kind(&text(&row[3])));
        let estimate = row[4]
            .as_deref()
            .and_then(|n| n.parse::<i64>().ok())
            .unwrap_or(-1);
        // Nothing was counted yet where it is negative, or zero before the first look.
        object.rows = u64::try_from(estimate)
            .ok()
            .filter(|_| object.kind != Kind::View);
        object.estimated = object.rows.is_some();
        object.bytes = row[5].as_deref().and_then(|n| n.parse().ok());
        object.comment = row[6].clone();
        // A partition belongs to its table.
        object.helper = row[7].as_deref() == Some("t");
        place.insert(number(&row[0]), objects.len());
        objects.push(object);
    }
    let mut names: HashMap<(u32, i16), String> = HashMap::new();
    let mut origins = HashMap::new();
    for row in of.ask(COLUMNS)? {
        let (table, column) = (
            number(&row[0]),
            row[1].as_deref().and_then(|n| n.parse().ok()).unwrap_or(0),
        );
        let Some(object) = place.get(&table).map(|at| &mut objects[*at]) else {
            continue;
        };
        names.insert((table, column), text(&row[2]));
        let identity = row[6].as_deref().filter(|i| !i.is_empty());
        let generated = row[7].as_deref().is_some_and(|g| !g.is_empty());
        let default = match identity {
            Some("a") => Some("generated always as identity".to_string()),
            Some(_) => Some("generated by default as identity".to_string()),
            None => row[5].clone(),
        };
        let field = Field {
            name: text(&row[2]),
            declared: text(&row[3]),
            optional: row[4].as_deref() == Some("f"),
            key: None,
            default,
            generated,
            comment: row[8].clone(),
        };
        let origin = Origin {
            table: object.name.clone(),
            column: field.name.clone(),
            declared: field.declared.clone(),
            key: false,
            optional: field.optional,
        };
        origins.insert((table, column), origin);
        object.fields.push(field);
    }
    for row in of.ask(INDEXES)? {
        let table = number(&row[0]);
        let Some(object) = place.get(&table).map(|at| &mut objects[*at]) else {
            continue;
        };
        let is = |at: usize| row[at].as_deref() == Some("t");
        let columns: Vec<String> = numbers(&text(&row[4]))
            .into_iter()
            .map(|n| {
                names
                    .get(&(table, n))
                    .cloned()
                    .unwrap_or_else(|| "(expression)".into())
            })
            .collect();
        if is(3) {
            for (at, name) in columns.iter().enumerate() {
                if let Some(field) = object.fields.iter_mut().find(|f| f.name == *name) {
                    field.key = Some(at + 1);
                }
            }
            for n in numbers(&text(&row[4])) {
                if let Some(origin) = origins.get_mut(&(table, n)) {
                    origin.key = true;
                }
            }
        }
        object.indexes.push(Index {
            name: text(&row[1]),
            columns,
            unique: is(2),
            automatic: is(6),
            partial: is(5),
        });
    }
    for row in of.ask(LINKS)? {
        let (table, other) = (number(&row[0]), number(&row[1]));
        let (Some(&here), Some(&there)) = (place.get(&table), place.get(&other)) else {
            continue;
        };
        let named = |table: u32, list: &Option<String>| -> Vec<String> {
            let numbers = numbers(&text(list)).into_iter();
            numbers
                .filter_map(|n| names.get(&(table, n)).cloned())
                .collect()
        };
        let link = Link {
            columns: named(table, &row[2]),
            table: objects[there].name.clone(),
            their_columns: named(other, &row[3]),
            on_delete: match text(&row[4]).as_str() {
                "c" => "cascade",
                "n" => "set null",
                "d" => "set default",
                "r" => "restrict",
                _ => "no action",
            }
            .into(),
        };
        objects[here].links.push(link);
    }
    for row in of.ask(TRIGGERS)? {
        let Some(table) = place.get(&number(&row[0])).map(|at| &objects[*at]) else {
            continue;
        };
        let mut trigger = Object::new(table.schema.clone(), text(&row[1]), Kind::Trigger);
        trigger.owner = Some(table.name.clone());
        trigger.definition = row[2].as_ref().map(|d| format!("{d};"));
        objects.push(trigger);
    }
    let types = of.ask(TYPES)?;
    let path = of.ask("select unnest(current_schemas(false))")?;
    *locked(&of.known) = Known {
        origins,
        types: types
            .iter()
            .map(|row| (number(&row[0]), text(&row[1])))
            .collect(),
    };
    objects.sort_by(|a, b| (&a.name, &a.schema).cmp(&(&b.name, &b.schema)));
    Ok(Catalog {
        objects,
        path: path.into_iter().flatten().flatten().collect(),
    })
}

/// Finds the statement that would make a table or view again.
pub(super) fn define(of: &Postgres, object: &mut Object) -> Result<(), EngineError> {
    if object.definition.is_some() {
        return Ok(());
    }
    let name = format!(
        "{}.{}",
        POSTGRES.quote_name(&object.schema),
        POSTGRES.quote_name(&object.name)
    );
    let regclass = POSTGRES.quote_text(&format!(
        "\"{}\".\"{}\"",
        object.schema.replace('"', "\"\""),
        object.name.replace('"', "\"\"")
    ));
    let one = |rows: Vec<Vec<Option<String>>>| rows.into_iter().flatten().flatten().next();
    let mut parts: Vec<String> = Vec::new();
    let mut after: Vec<String> = Vec::new();
    let mut text = match object.kind {
        Kind::View | Kind::MaterializedView => {
            let body = one(of.ask(&format!(
                "select pg_get_viewdef({regclass}::regclass, true)"
            ))?)
            .unwrap_or_default();
            let word = if object.kind == Kind::View {
                "view"
            } else {
                "materialized view"
            };
            format!("create {word} {name} as\n{}", body.trim_end_matches(';'))
        }
        _ => {
            for field in &object.fields {
                let mut line = format!("{} {}", POSTGRES.quote_name(&field.name), field.declared);
                match (&field.default, field.generated) {
                    (Some(expression), true) => {
                        line.push_str(&format!(" generated always as ({expression}) stored"))
                    }
                    (Some(default), false) if default.starts_with("generated ") => {
                        line.push_str(&format!(" {default}"))
                    }
                    (Some(default), false) => line.push_str(&format!(" default {default}")),
                    (None, _) => {}
                }
                if !field.optional {
                    line.push_str(" not null");
                }
                parts.push(line);
            }
            let constraints = of.ask(&format!(
                "select conname, pg_get_constraintdef(oid, true) from pg_catalog.pg_constraint \
                 where conrelid = {regclass}::regclass and contype in ('p', 'u', 'c', 'f', 'x') \
                 order by array_position(array['p','u','c','x','f'], contype::text), conname"
            ))?;
            for row in constraints {
                let [Some(name), Some(words)] = &row[..] else {
                    continue;
                };
                parts.push(format!("constraint {} {words}", POSTGRES.quote_name(name)));
            }
            let by = one(of.ask(&format!("select pg_get_partkeydef({regclass}::regclass)"))?);
            let by = by
                .map(|by| format!(" partition by {by}"))
                .unwrap_or_default();
            format!(
                "create table {name} (\n    {}\n){by}",
                parts.join(",\n    ")
            )
        }
    };
    text.push(';');
    for row in of.ask(&format!(
        "select pg_get_indexdef(i.indexrelid) from pg_catalog.pg_index i where i.indrelid = {regclass}::regclass \
         and not exists (select from pg_catalog.pg_constraint k where k.conindid = i.indexrelid and k.contype in ('p', 'u', 'x')) order by 1"
    ))? {
        after.extend(row.into_iter().flatten());
    }
    if let Some(comment) = &object.comment {
        let word = match object.kind {
            Kind::View => "view",
            Kind::MaterializedView => "materialized view",
            Kind::ForeignTable => "foreign table",
            _ => "table",
        };
        after.push(format!(
            "comment on {word} {name} is {}",
            POSTGRES.quote_text(comment)
        ));
    }
    for field in &object.fields {
        if let Some(comment) = &field.comment {
            after.push(format!(
                "comment on column {name}.{} is {}",
                POSTGRES.quote_name(&field.name),
                POSTGRES.quote_text(comment)
            ));
        }
    }
    for line in after {
        text.push_str(&format!("\n{line};"));
    }
    object.definition = Some(text);
    Ok(())
}

/// The question that a list stands for.
pub(super) fn listing(what: Listing<'_>) -> Query {
    match what {
        Listing::Databases(full) => Query {
            sql: format!(
                "select d.datname as name, pg_get_userbyid(d.datdba) as owner, pg_encoding_to_char(d.encoding) as encoding, \
                 d.datcollate as collation{} , shobj_description(d.oid, 'pg_database') as comment \
                 from pg_catalog.pg_database d where not d.datistemplate order by 1",
                if full {
                    ", case when has_database_privilege(d.oid, 'connect') then pg_database_size(d.oid) end as bytes, \
                     d.datallowconn as \"may be entered\", d.datconnlimit as \"connection limit\""
                } else {
                    ""
                }
            ),
            note: Some("Templates are left out.".into()),
        },
        Listing::Roles(full) => Query {
            sql: format!(
                "select r.rolname as name, r.rolcanlogin as \"may log in\", r.rolsuper as \"all-powerful\"{}, \
                 (select string_agg(g.rolname, ', ' order by g.rolname) from pg_catalog.pg_auth_members m \
                   join pg_catalog.pg_roles g on g.oid = m.roleid where m.member = r.oid) as \"member of\", \
                 shobj_description(r.oid, 'pg_authid') as comment \
                 from pg_catalog.pg_roles r where r.rolname !~ '^pg_' order by 1",
                if full {
                    ", r.rolcreatedb as \"makes databases\", r.rolcreaterole as \"makes roles\", r.rolinherit as inherits, \
                     r.rolreplication as replicates, r.rolbypassrls as \"past row rules\", r.rolconnlimit as \"connection limit\", \
                     r.rolvaliduntil as \"valid until\""
                } else {
                    ""
                }
            ),
            note: Some("The roles that come with the server (pg_…) are left out.".into()),
        },
        Listing::Access(name) => {
            let only = name.map_or(String::new(), |name| {
                let (schema, plain) = name
                    .split_once('.')
                    .map_or((None, name), |(s, n)| (Some(s), n));
                let mut only = format!(" where name = {}", POSTGRES.quote_text(plain));
                if let Some(schema) = schema {
                    only.push_str(&format!(" and schema = {}", POSTGRES.quote_text(schema)));
                }
                only
            });
            Query {
                sql: format!(
                    "select * from (\
                     select case c.relkind when 'v' then 'view' when 'm' then 'materialised view' when 'S' then 'sequence' when 'f' then 'foreign table' else 'table' end as kind, \
                       n.nspname as schema, c.relname as name, x.grantee, x.rights, x.\"may pass on\", x.grantor \
                       from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace, \
                       lateral (select case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end as grantee, \
                         string_agg(lower(a.privilege_type), ', ' order by a.privilege_type) as rights, bool_or(a.is_grantable) as \"may pass on\", \
                         pg_get_userbyid(a.grantor) as grantor from aclexplode(coalesce(c.relacl, acldefault(case c.relkind when 'S' then 's'::\"char\" else 'r'::\"char\" end, c.relowner))) a group by a.grantee, a.grantor) x \
                       where c.relkind in ('r', 'p', 'v', 'm', 'S', 'f') and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' \
                     union all \
                     select 'column', n.nspname, c.relname || '.' || t.attname, case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, \
                       string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_attribute t join pg_catalog.pg_class c on c.oid = t.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace, \
                       lateral aclexplode(t.attacl) a where t.attacl is not null and n.nspname !~ '^pg_' and n.nspname <> 'information_schema' group by 1, 2, 3, 4, 7 \
                     union all \
                     select 'schema', '', n.nspname, case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, \
                       string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_namespace n, lateral aclexplode(coalesce(n.nspacl, acldefault('n', n.nspowner))) a \
                       where n.nspname !~ '^pg_' and n.nspname <> 'information_schema' group by 1, 2, 3, 4, 7 \
                     union all \
                     select 'database', '', d.datname, case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, \
                       string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_database d, lateral aclexplode(coalesce(d.datacl, acldefault('d', d.datdba))) a \
                       where d.datname = current_database() group by 1, 2, 3, 4, 7 \
                     union all \
                     select 'default for ' || case d.defaclobjtype when 'r' then 'tables' when 'S' then 'sequences' when 'f' then 'functions' when 'T' then 'types' else 'schemas' end, \
                       coalesce((select nspname from pg_catalog.pg_namespace where oid = d.defaclnamespace), ''), 'made by ' || pg_get_userbyid(d.defaclrole), \
                       case a.grantee when 0 then 'everyone' else pg_get_userbyid(a.grantee) end, string_agg(lower(a.privilege_type), ', '), bool_or(a.is_grantable), pg_get_userbyid(a.grantor) \
                       from pg_catalog.pg_default_acl d, lateral aclexplode(d.defaclacl) a group by 1, 2, 3, 4, 7 \
                     ) all_access{only} order by 1 desc, 2, 3, 4"
                ),
                note: Some("Rights that come with a membership are not spelled out here; /roles --full shows who is a member of what.".into()),
            }
        }
    }
}
