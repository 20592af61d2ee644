//! The catalog of a PostgreSQL database, from its system catalogs: everything that is asked, and how the
//! answers become objects. Statements that make objects again are in `define`.

use std::collections::HashMap;

use idle_tide_core::catalog::{
    Catalog, Check, Database, Field, Identity, Index, Kind, LIES_ON, Link, Object,
};
use idle_tide_lang::choices;

use super::{Known, Origin, Postgres, locked};
use crate::engine::EngineError;
use crate::served::Told;

/// Schemas of the user's own: not those of the server, nor other sessions' temporary ones.
pub(super) const OWN: &str = "n.nspname not in ('pg_catalog', 'information_schema') and n.nspname !~ '^pg_toast' \
    and (n.nspname !~ '^pg_temp' or n.oid = pg_my_temp_schema())";

const RELATIONS: &str = "select c.oid, n.nspname, c.relname, c.relkind, c.reltuples::bigint, \
    c.relpages::bigint * current_setting('block_size')::bigint, d.description, c.relispartition, \
    c.relpersistence, pg_get_userbyid(c.relowner), case when c.relkind = 'p' then pg_get_partkeydef(c.oid) end, \
    case when c.relispartition then (select case when pn.oid = n.oid then '' else pn.nspname || '.' end || p.relname from pg_catalog.pg_inherits i \
      join pg_catalog.pg_class p on p.oid = i.inhparent join pg_catalog.pg_namespace pn on pn.oid = p.relnamespace where i.inhrelid = c.oid) end, \
    exists (select from pg_catalog.pg_depend e where e.classid = 'pg_class'::regclass and e.objid = c.oid and e.deptype = 'e'), \
    case when c.relkind = 'f' then (select s.srvname || coalesce(' (' || (select string_agg(option_value, ' ' order by option_name = 'dbname', option_name = 'port') \
      from pg_options_to_table(s.srvoptions) where option_name in ('host', 'port', 'dbname')) || ')', '') \
      from pg_catalog.pg_foreign_table f join pg_catalog.pg_foreign_server s on s.oid = f.ftserver where f.ftrelid = c.oid) end \
    from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
    left join pg_catalog.pg_description d on d.objoid = c.oid and d.classoid = 'pg_class'::regclass and d.objsubid = 0 \
    where c.relkind in ('r', 'p', 'v', 'm', 'f')";

/// Columns; `IDENTITY` and `GENERATED` stand for what younger servers alone know.
const COLUMNS: &str = "select a.attrelid, a.attnum, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, \
    case when a.atthasdef then pg_get_expr(d.adbin, d.adrelid) end, IDENTITY, GENERATED, s.description, \
    case when a.attcollation <> t.typcollation then (select collname from pg_catalog.pg_collation where oid = a.attcollation) end, \
    case when t.typtype = 'e' then t.oid end \
    from pg_catalog.pg_attribute a join pg_catalog.pg_type t on t.oid = a.atttypid \
    join pg_catalog.pg_class c on c.oid = a.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
    left join pg_catalog.pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum \
    left join pg_catalog.pg_description s on s.objoid = a.attrelid and s.classoid = 'pg_class'::regclass and s.objsubid = a.attnum \
    where a.attnum > 0 and not a.attisdropped and c.relkind in ('r', 'p', 'v', 'm', 'f')";

const INDEXES: &str = "select i.indrelid, c.relname, i.indisunique, i.indisprimary, i.indkey, pg_get_expr(i.indpred, i.indrelid), \
    exists (select from pg_catalog.pg_constraint k where k.conindid = i.indexrelid and k.contype in ('p', 'u', 'x')), \
    case when i.indexprs is not null then (select string_agg(pg_get_indexdef(i.indexrelid, p::int, true), E'\\x01' order by p) from generate_series(1, i.indnatts) p) end, \
    m.amname, c.relpages::bigint * current_setting('block_size')::bigint, pg_stat_get_numscans(c.oid), KEYS \
    from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid join pg_catalog.pg_am m on m.oid = c.relam \
    join pg_catalog.pg_namespace n on n.oid = c.relnamespace where i.indisvalid and i.indislive";

const CONSTRAINTS: &str = "select k.conrelid, k.contype, k.conname, k.confrelid, k.conkey, k.confkey, k.confdeltype, k.confupdtype, \
    case when k.contype = 'c' then pg_get_expr(k.conbin, k.conrelid) end \
    from pg_catalog.pg_constraint k join pg_catalog.pg_namespace n on n.oid = k.connamespace where k.contype in ('f', 'c') and k.conrelid <> 0";

const TRIGGERS: &str = "select t.tgrelid, t.tgname, pg_get_triggerdef(t.oid, true), d.description, t.tgenabled \
    from pg_catalog.pg_trigger t left join pg_catalog.pg_description d on d.objoid = t.oid and d.classoid = 'pg_trigger'::regclass \
    where not t.tgisinternal order by 1, 2";

const SEQUENCES: &str = "select n.nspname, c.relname, pg_get_userbyid(c.relowner), d.description, format_type(s.seqtypid, null), s.seqstart, s.seqincrement, \
    s.seqmin, s.seqmax, s.seqcycle, o.deptype, t.relname || '.' || a.attname \
    from pg_catalog.pg_sequence s join pg_catalog.pg_class c on c.oid = s.seqrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace \
    left join pg_catalog.pg_description d on d.objoid = c.oid and d.classoid = 'pg_class'::regclass and d.objsubid = 0 \
    left join pg_catalog.pg_depend o on o.classid = 'pg_class'::regclass and o.objid = c.oid and o.refclassid = 'pg_class'::regclass and o.deptype in ('a', 'i') \
    left join pg_catalog.pg_class t on t.oid = o.refobjid left join pg_catalog.pg_attribute a on a.attrelid = t.oid and a.attnum = o.refobjsubid where true";

const ROUTINES: &str = "select n.nspname, p.proname, PROKIND, pg_get_function_identity_arguments(p.oid), pg_get_function_arguments(p.oid), pg_get_function_result(p.oid), \
    l.lanname, p.provolatile, p.proisstrict, p.prosecdef, pg_get_userbyid(p.proowner), d.description, \
    exists (select from pg_catalog.pg_depend e where e.classid = 'pg_proc'::regclass and e.objid = p.oid and e.deptype in ('e', 'i')) \
    from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace join pg_catalog.pg_language l on l.oid = p.prolang \
    left join pg_catalog.pg_description d on d.objoid = p.oid and d.classoid = 'pg_proc'::regclass where true";

const OWN_TYPES: &str = "select n.nspname, t.typname, t.typtype, pg_get_userbyid(t.typowner), d.description, format_type(t.typbasetype, t.typtypmod), \
    exists (select from pg_catalog.pg_depend e where e.classid = 'pg_type'::regclass and e.objid = t.oid and e.deptype = 'e'), \
    (select string_agg(a.attname || ' ' || format_type(a.atttypid, a.atttypmod), ', ' order by a.attnum) from pg_catalog.pg_attribute a where a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped), t.oid \
    from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace \
    left join pg_catalog.pg_class c on c.oid = t.typrelid \
    left join pg_catalog.pg_description d on d.objoid = t.oid and d.classoid = 'pg_type'::regclass \
    where (t.typtype in ('e', 'd', 'r') or t.typtype = 'c' and c.relkind = 'c')";

const LABELS: &str =
    "select enumtypid, enumlabel from pg_catalog.pg_enum order by enumtypid, enumsortorder";

const EXTENSIONS: &str = "select n.nspname, e.extname, e.extversion, pg_get_userbyid(e.extowner), d.description \
    from pg_catalog.pg_extension e join pg_catalog.pg_namespace n on n.oid = e.extnamespace \
    left join pg_catalog.pg_description d on d.objoid = e.oid and d.classoid = 'pg_extension'::regclass";

const TYPES: &str = "select oid, format_type(oid, null) from pg_catalog.pg_type where oid >= 16384 \
    and typrelid = 0 or typtype = 'c' and oid >= 16384";

/// From this many relations on, their names are handed over before the rest is read.
const MANY: usize = 400;

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

fn text(value: &Option<String>) -> String {
    value.clone().unwrap_or_default()
}

fn number(value: &Option<String>) -> u32 {
    let number = value.as_deref().and_then(|v| v.parse::<u32>().ok());
    number.unwrap_or(0)
}

fn yes(value: &Option<String>) -> bool {
    value.as_deref() == Some("t")
}

fn action(letter: &str) -> String {
    match letter {
        "c" => "cascade",
        "n" => "set null",
        "d" => "set default",
        "r" => "restrict",
        _ => "no action",
    }
    .into()
}

/// What is being read: objects, and where the server's numbers for relations and columns lead.
#[derive(Default)]
struct Reading {
    objects: Vec<Object>,
    place: HashMap<u32, usize>,
    names: HashMap<(u32, i16), String>,
    origins: HashMap<(u32, i16), Origin>,
    labels: HashMap<u32, Vec<String>>,
}

impl Reading {
    fn of(&mut self, relation: u32) -> Option<&mut Object> {
        let at = *self.place.get(&relation)?;
        self.objects.get_mut(at)
    }

    fn relation(&mut self, row: &Told) {
        let mut object = Object::new(text(&row[1]), text(&row[2]), kind(&text(&row[3])));
        let estimate = row[4].as_deref().and_then(|n| n.parse::<i64>().ok());
        // Nothing was counted yet where it is negative, or zero before the first look.
        object.rows = u64::try_from(estimate.unwrap_or(-1))
            .ok()
            .filter(|_| object.kind != Kind::View);
        object.estimated = object.rows.is_some();
        // Nothing is known of a table before the first look at it.
        let bytes = row[5].as_deref().and_then(|n| n.parse().ok());
        object.bytes = bytes.filter(|bytes| *bytes > 0 || estimate.unwrap_or(0) > 0);
        object.comment.clone_from(&row[6]);
        object.temporary = row[8].as_deref() == Some("t");
        object.owner.clone_from(&row[9]);
        object.partition_by.clone_from(&row[10]);
        object.partition_of.clone_from(&row[11]);
        // A partition belongs to its table, what an extension made to the extension.
        object.helper = yes(&row[7]) || yes(&row[12]);
        if row[8].as_deref() == Some("u") {
            let words = "after a crash it is empty";
            object.facts.push(("unlogged".into(), words.into()));
        }
        if let Some(server) = &row[13] {
            object.facts.push((LIES_ON.into(), server.clone()));
        }
        self.place.insert(number(&row[0]), self.objects.len());
        self.objects.push(object);
    }

    fn column(&mut self, row: Told) {
        let mut row = row;
        let table = number(&row[0]);
        let column = row[1].as_deref().and_then(|n| n.parse().ok()).unwrap_or(0);
        let choices = row[10]
            .as_ref()
            .and_then(|_| self.labels.get(&number(&row[10])))
            .cloned()
            .unwrap_or_default();
        let Some(object) = self.place.get(&table).map(|at| &mut self.objects[*at]) else {
            return;
        };
        let field = Field {
            name: row.take(2).unwrap_or_default(),
            declared: row.take(3).unwrap_or_default(),
            optional: row[4].as_deref() == Some("f"),
            key: None,
            default: row.take(5),
            generated: row[7].as_deref().is_some_and(|g| !g.is_empty()),
            identity: match row[6].as_deref() {
                Some("a") => Identity::Always,
                Some("d") => Identity::ByDefault,
                _ => Identity::None,
            },
            collation: row.take(9),
            choices,
            comment: row.take(8),
        };
        self.names.insert((table, column), field.name.clone());
        let origin = Origin {
            table: object.name.clone(),
            column: field.name.clone(),
            declared: field.declared.clone(),
            key: false,
            optional: field.optional,
        };
        self.origins.insert((table, column), origin);
        object.fields.push(field);
    }

    fn index(&mut self, row: &Told) {
        let table = number(&row[0]);
        let keys = row[11].as_deref().and_then(|n| n.parse().ok());
        let parts = numbers(&text(&row[4]));
        let parts = &parts[..keys.unwrap_or(parts.len()).min(parts.len())];
        // An expression has no column; the server writes it out.
        let written: Vec<&str> = row[7]
            .as_deref()
            .map_or(Vec::new(), |all| all.split('\u{1}').collect());
        let columns: Vec<String> = parts
            .iter()
            .enumerate()
            .map(|(at, n)| match self.names.get(&(table, *n)) {
                Some(name) => name.clone(),
                None => match written.get(at) {
                    Some(words) if words.starts_with('(') => words.to_string(),
                    Some(words) => format!("({words})"),
                    None => "(expression)".into(),
                },
            })
            .collect();
        let primary = yes(&row[3]);
        if primary {
            for n in parts {
                if let Some(origin) = self.origins.get_mut(&(table, *n)) {
                    origin.key = true;
                }
            }
        }
        let Some(object) = self.of(table) else {
            return;
        };
        if primary {
            for (at, name) in columns.iter().enumerate() {
                if let Some(field) = object.fields.iter_mut().find(|f| f.name == *name) {
                    field.key = Some(at + 1);
                }
            }
        }
        object.indexes.push(Index {
            name: text(&row[1]),
            columns,
            unique: yes(&row[2]),
            automatic: yes(&row[6]),
            primary,
            condition: row[5].clone(),
            method: row[8].clone().filter(|method| method != "btree"),
            bytes: row[9].as_deref().and_then(|n| n.parse().ok()),
            uses: row[10].as_deref().and_then(|n| n.parse().ok()),
        });
    }

    fn constraint(&mut self, row: &Told) {
        let (table, other) = (number(&row[0]), number(&row[3]));
        if row[1].as_deref() == Some("c") {
            let check = Check {
                name: text(&row[2]),
                condition: text(&row[8]),
            };
            if let Some(object) = self.of(table) {
                for field in &mut object.fields {
                    if field.choices.is_empty() {
                        field.choices = choices::listed(&check.condition, &field.name);
                    }
                }
                object.checks.push(check);
            }
            return;
        }
        let named = |table: u32, list: &Option<String>| -> Vec<String> {
            let numbers = numbers(&text(list)).into_iter();
            numbers
                .filter_map(|n| self.names.get(&(table, n)).cloned())
                .collect()
        };
        let Some(&there) = self.place.get(&other) else {
            return;
        };
        let link = Link {
            name: text(&row[2]),
            columns: named(table, &row[4]),
            schema: self.objects[there].schema.clone(),
            table: self.objects[there].name.clone(),
            their_columns: named(other, &row[5]),
            on_delete: action(&text(&row[6])),
            on_update: action(&text(&row[7])),
        };
        if let Some(object) = self.of(table) {
            object.links.push(link);
        }
    }

    fn sequence(&mut self, row: &Told) {
        let mut object = Object::new(text(&row[0]), text(&row[1]), Kind::Sequence);
        object.owner.clone_from(&row[2]);
        object.comment.clone_from(&row[3]);
        // The sequence of an identity column belongs to it.
        object.helper = row[10].as_deref() == Some("i");
        let mut fact = |name: &str, at: usize| {
            object.facts.push((name.into(), text(&row[at])));
        };
        fact("type", 4);
        fact("starts at", 5);
        fact("step", 6);
        fact("least", 7);
        fact("most", 8);
        if yes(&row[9]) {
            let words = ("at its end".into(), "begins anew".into());
            object.facts.push(words);
        }
        if let Some(column) = &row[11] {
            object.facts.push(("numbers".into(), column.clone()));
        }
        self.objects.push(object);
    }

    fn routine(&mut self, row: &Told) {
        let word = text(&row[2]);
        let kind = if word == "p" {
            Kind::Procedure
        } else {
            Kind::Function
        };
        let mut object = Object::new(text(&row[0]), text(&row[1]), kind);
        object.signature = text(&row[3]);
        object.owner.clone_from(&row[10]);
        object.comment.clone_from(&row[11]);
        object.helper = yes(&row[12]);
        let mut fact = |name: &str, words: String| {
            if !words.is_empty() {
                object.facts.push((name.to_string(), words));
            }
        };
        fact("takes", text(&row[4]));
        fact("gives", text(&row[5]));
        fact("language", text(&row[6]));
        if word == "a" {
            fact("of rows", "an aggregate over the rows of a group".into());
        }
        if word != "p" {
            let words = match row[7].as_deref() {
                Some("i") => "the same for the same arguments, always",
                Some("s") => "the same for the same arguments within a statement",
                _ => "may differ from call to call",
            };
            fact("its result", words.into());
        }
        if yes(&row[8]) {
            fact("with null", "gives null at once".into());
        }
        if yes(&row[9]) {
            fact("runs as", "its owner".into());
        }
        self.objects.push(object);
    }

    fn own_type(&mut self, row: &Told) {
        let mut object = Object::new(text(&row[0]), text(&row[1]), Kind::Type);
        object.owner.clone_from(&row[3]);
        object.comment.clone_from(&row[4]);
        object.helper = yes(&row[6]);
        let fact = match row[2].as_deref() {
            Some("e") => {
                let labels = self.labels.get(&number(&row[8])).cloned();
                ("one of", labels.unwrap_or_default().join(", "))
            }
            Some("d") => ("narrows", text(&row[5])),
            Some("r") => ("a range of values", String::new()),
            _ => ("fields", text(&row[7])),
        };
        object.facts.push((fact.0.into(), fact.1));
        self.objects.push(object);
    }
}

/// The question for columns, indexes or routines as this server understands it.
fn for_version(sql: &str, version: u32) -> String {
    sql.replace("IDENTITY", "a.attidentity")
        .replace(
            "GENERATED",
            if version >= 120_000 {
                "a.attgenerated"
            } else {
                "''"
            },
        )
        .replace(
            "KEYS",
            if version >= 110_000 {
                "i.indnkeyatts"
            } else {
                "i.indnatts"
            },
        )
        .replace(
            "PROKIND",
            if version >= 110_000 {
                "p.prokind"
            } else {
                "case when p.proisagg then 'a' else 'f' end"
            },
        )
}

/// The questions that the columns, indexes and constraints of a catalog come from; for measuring them alone.
pub fn catalog_questions() -> Vec<String> {
    let own = |sql: &str| for_version(&format!("{sql} and {OWN}"), 150_000);
    vec![own(RELATIONS), own(COLUMNS), own(INDEXES), own(CONSTRAINTS)]
}

/// Reads all objects; of a large database the names are handed to `first` before the rest is read.
pub(super) fn read(of: &Postgres, first: &mut dyn FnMut(Catalog)) -> Result<Catalog, EngineError> {
    let version = of.version_number();
    let own = |sql: &str| for_version(&format!("{sql} and {OWN}"), version);
    let mut reading = Reading::default();
    for row in of.ask(&own(RELATIONS))? {
        reading.relation(&row);
    }
    let one_each = |sql: &str| -> Result<Vec<String>, EngineError> {
        Ok(of.ask(sql)?.into_iter().flatten().flatten().collect())
    };
    let path = one_each("select unnest(current_schemas(false))")?;
    let schemas = one_each(&format!(
        "select nspname from pg_catalog.pg_namespace n where {OWN} and nspname !~ '^pg_' order by 1"
    ))?;
    let databases = of
        .ask("select datname, datname = current_database(), shobj_description(oid, 'pg_database') from pg_catalog.pg_database where not datistemplate and datallowconn order by 1")?
        .iter()
        .map(|row| Database {
            name: text(&row[0]),
            here: yes(&row[1]),
            detail: text(&row[2]),
        })
        .collect();
    let roles =
        one_each("select rolname from pg_catalog.pg_roles where rolname !~ '^pg_' order by 1")?;
    let mut catalog = Catalog {
        path,
        schemas,
        databases,
        roles,
        ..Catalog::default()
    };
    let by_name = |objects: &mut Vec<Object>| {
        objects.sort_by(|a, b| {
            let key = |o: &Object| {
                (
                    o.name.clone(),
                    o.schema.clone(),
                    o.kind,
                    o.signature.clone(),
                )
            };
            key(a).cmp(&key(b))
        });
    };
    if reading.objects.len() > MANY {
        let mut names = Catalog {
            objects: reading.objects.clone(),
            names_only: true,
            ..catalog.clone()
        };
        by_name(&mut names.objects);
        first(names);
    }
    for row in of.ask(LABELS)? {
        let labels = reading.labels.entry(number(&row[0])).or_default();
        labels.push(text(&row[1]));
    }
    for row in of.ask(&format!("{} order by a.attrelid, a.attnum", own(COLUMNS)))? {
        reading.column(row);
    }
    for row in of.ask(&format!(
        "{} order by i.indrelid, not i.indisprimary, c.relname",
        own(INDEXES)
    ))? {
        reading.index(&row);
    }
    for row in of.ask(&format!(
        "{} order by k.conrelid, k.conname",
        own(CONSTRAINTS)
    ))? {
        reading.constraint(&row);
    }
    for row in of.ask(TRIGGERS)? {
        let Some(table) = reading.of(number(&row[0])) else {
            continue;
        };
        let mut trigger = Object::new(table.schema.clone(), text(&row[1]), Kind::Trigger);
        trigger.table = Some(table.name.clone());
        trigger.comment.clone_from(&row[3]);
        trigger.definition = row[2].as_ref().map(|d| format!("{d};"));
        if row[4].as_deref() == Some("D") {
            trigger.facts.push(("state".into(), "disabled".into()));
        }
        reading.objects.push(trigger);
    }
    for row in of.ask(&own(SEQUENCES))? {
        reading.sequence(&row);
    }
    for row in of.ask(&own(ROUTINES))? {
        reading.routine(&row);
    }
    for row in of.ask(&own(OWN_TYPES))? {
        reading.own_type(&row);
    }
    for row in of.ask(EXTENSIONS)? {
        let mut object = Object::new(text(&row[0]), text(&row[1]), Kind::Extension);
        object.facts.push(("version".into(), text(&row[2])));
        object.owner.clone_from(&row[3]);
        object.comment.clone_from(&row[4]);
        // This one comes with every database.
        object.helper = object.name == "plpgsql";
        reading.objects.push(object);
    }
    let types = of.ask(TYPES)?;
    *locked(&of.known) = Known {
        origins: std::mem::take(&mut reading.origins),
        types: types
            .iter()
            .map(|row| (number(&row[0]), text(&row[1])))
            .collect(),
    };
    by_name(&mut reading.objects);
    catalog.objects = reading.objects;
    Ok(catalog)
}
