//! The catalog of one database from the views by which servers of this family tell what is in it (`sys.objects` and those
//! beside it).

use std::collections::HashMap;

use idle_tide_core::catalog::{
    Catalog, Check, Database, Field, Identity, Index, Kind, Link, Object,
};
use idle_tide_lang::choices;

use super::Tabular;
use crate::engine::EngineError;
use crate::served::{Answer, Told};

/// From this many tables on, their names are handed over before the rest is read.
const MANY: usize = 400;

fn text(value: &Option<String>) -> String {
    value.clone().unwrap_or_default()
}

fn is(value: &Option<String>) -> bool {
    value.as_deref() == Some("1")
}

/// A type as a statement writes it, from its name, length in bytes, precision and scale.
pub(super) fn declared(name: &str, length: &str, precision: &str, scale: &str) -> String {
    let length: i64 = length.parse().unwrap_or(0);
    let sized = |unit: i64| match length {
        -1 => format!("{name}(max)"),
        length => format!("{name}({})", length / unit),
    };
    match name {
        "nvarchar" | "nchar" => sized(2),
        "varchar" | "char" | "varbinary" | "binary" => sized(1),
        "decimal" | "numeric" => format!("{name}({precision},{scale})"),
        "time" | "datetime2" | "datetimeoffset" => format!("{name}({scale})"),
        name => name.to_string(),
    }
}

/// What stands in the brackets that a server puts around defaults and conditions.
pub(super) fn unwrapped(expression: &str) -> String {
    let mut inner = expression.trim();
    loop {
        let Some(inside) = inner
            .strip_prefix('(')
            .and_then(|rest| rest.strip_suffix(')'))
        else {
            return inner.to_string();
        };
        // The first bracket has to be the last one's partner.
        let (mut depth, mut quoted) = (0_i32, false);
        let whole = inside.chars().all(|c| {
            match c {
                '\'' => quoted = !quoted,
                '(' if !quoted => depth += 1,
                ')' if !quoted => depth -= 1,
                _ => {}
            }
            depth >= 0
        });
        if !whole {
            return inner.to_string();
        }
        inner = inside.trim();
    }
}

#[derive(Default)]
struct Reading {
    objects: Vec<Object>,
    /// Where an object stands, by its number.
    place: HashMap<String, usize>,
    /// The names of columns, by the object's number and their own.
    columns: HashMap<(String, String), String>,
    collation: String,
}

impl Reading {
    fn of(&mut self, number: &Option<String>) -> Option<&mut Object> {
        let at = *self.place.get(number.as_deref().unwrap_or_default())?;
        self.objects.get_mut(at)
    }

    fn column_name(&self, object: &Option<String>, column: &Option<String>) -> String {
        self.columns
            .get(&(text(object), text(column)))
            .cloned()
            .unwrap_or_default()
    }
}

/// The objects by number, schema, name and kind; a trigger with its table, a synonym with what it stands for.
const OBJECTS: &str = "select o.object_id, s.name, o.name, rtrim(o.type), o.parent_object_id, n.base_object_name, p.name \
    from sys.objects o join sys.schemas s on s.schema_id = o.schema_id left join sys.synonyms n on n.object_id = o.object_id \
    left join sys.database_principals p on p.principal_id = o.principal_id \
    where o.is_ms_shipped = 0 and rtrim(o.type) in ('U', 'V', 'P', 'PC', 'FN', 'IF', 'TF', 'FS', 'FT', 'SN', 'SO', 'TR') order by s.name, o.name";

const COLUMNS: &str = "select c.object_id, c.column_id, c.name, t.name, c.max_length, c.precision, c.scale, c.is_nullable, c.is_identity, d.definition, \
    c.collation_name, c.is_computed, t.is_user_defined, h.name \
    from sys.columns c join sys.types t on t.user_type_id = c.user_type_id join sys.objects o on o.object_id = c.object_id \
    left join sys.schemas h on h.schema_id = t.schema_id \
    left join sys.default_constraints d on d.object_id = c.default_object_id where o.is_ms_shipped = 0 order by c.object_id, c.column_id";

const INDEXES: &str = "select i.object_id, i.name, i.is_unique, i.is_primary_key, i.is_unique_constraint, i.type_desc, i.filter_definition, x.column_id, x.is_included_column \
    from sys.indexes i join sys.index_columns x on x.object_id = i.object_id and x.index_id = i.index_id join sys.objects o on o.object_id = i.object_id \
    where o.is_ms_shipped = 0 and i.name is not null order by i.object_id, i.index_id, x.key_ordinal, x.index_column_id";

const LINKS: &str = "select f.parent_object_id, f.name, f.referenced_object_id, f.delete_referential_action_desc, f.update_referential_action_desc, \
    k.parent_column_id, k.referenced_column_id from sys.foreign_keys f join sys.foreign_key_columns k on k.constraint_object_id = f.object_id \
    order by f.parent_object_id, f.object_id, k.constraint_column_id";

/// Reads what is in the database; of many tables the names go to `first`.
pub(super) fn read(
    of: &mut Tabular,
    first: &mut dyn FnMut(Catalog),
) -> Result<Catalog, EngineError> {
    let mut reading = Reading {
        collation: of
            .bearings
            .facts
            .iter()
            .find(|(name, _)| name == "collation")
            .map_or(String::new(), |(_, value)| value.clone()),
        ..Reading::default()
    };
    let mut parents = Vec::new();
    for row in of.ask(OBJECTS)? {
        let kind = match row[3].as_deref().unwrap_or_default() {
            "U" => Kind::Table,
            "V" | "SN" => Kind::View,
            "P" | "PC" => Kind::Procedure,
            "SO" => Kind::Sequence,
            "TR" => Kind::Trigger,
            _ => Kind::Function,
        };
        let mut object = Object::new(text(&row[1]), text(&row[2]), kind);
        object.owner.clone_from(&row[6]);
        if let Some(base) = &row[5] {
            object
                .facts
                .push(("synonym".into(), format!("stands for {base}")));
        }
        if kind == Kind::Trigger {
            parents.push((reading.objects.len(), row[4].clone()));
        }
        reading.place.insert(text(&row[0]), reading.objects.len());
        reading.objects.push(object);
    }
    for (at, parent) in parents {
        let table = reading.of(&parent).map(|object| object.name.clone());
        reading.objects[at].table = table;
    }
    let mut found = around(of)?;
    if reading.objects.len() > MANY {
        first(Catalog {
            objects: reading.objects.clone(),
            names_only: true,
            ..found.clone()
        });
    }
    read_columns(of, &mut reading)?;
    read_keys(of, &mut reading)?;
    read_routines(of, &mut reading)?;
    for row in of.ask("select p.major_id, p.minor_id, cast(p.value as nvarchar(4000)) from sys.extended_properties p where p.class = 1 and p.name = 'MS_Description'")? {
        let column = reading.column_name(&row[0], &row[1]);
        let Some(object) = reading.of(&row[0]) else { continue };
        match row[1].as_deref() {
            Some("0") => object.comment.clone_from(&row[2]),
            _ => {
                if let Some(field) = object.fields.iter_mut().find(|field| field.name == column) {
                    field.comment.clone_from(&row[2]);
                }
            }
        }
    }
    let sizes = "select p.object_id, sum(p.rows) from sys.partitions p where p.index_id in (0, 1) group by p.object_id";
    for row in of.ask(sizes)? {
        if let Some(object) = reading
            .of(&row[0])
            .filter(|object| object.kind == Kind::Table)
        {
            object.rows = row[1].as_deref().and_then(|n| n.parse().ok());
            object.estimated = true;
        }
    }
    // Needs a right that not everybody has.
    let pages = "select s.object_id, sum(s.reserved_page_count) * 8192 from sys.dm_db_partition_stats s group by s.object_id";
    for row in of.ask(pages).unwrap_or_default() {
        if let Some(object) = reading
            .of(&row[0])
            .filter(|object| object.kind == Kind::Table)
        {
            object.bytes = row[1].as_deref().and_then(|n| n.parse().ok());
        }
    }
    found.objects = reading.objects;
    Ok(found)
}

/// What stands around the objects: schemas, the other databases, users and roles.
fn around(of: &mut Tabular) -> Result<Catalog, EngineError> {
    let names = |rows: Answer| {
        rows.into_iter()
            .filter_map(Told::first)
            .collect::<Vec<String>>()
    };
    let schemas = of.ask("select s.name from sys.schemas s where s.schema_id < 16384 and s.name not in ('sys', 'INFORMATION_SCHEMA', 'guest') order by s.name")?;
    let databases = of.ask("select d.name from sys.databases d order by d.name")?;
    let roles = of.ask("select p.name from sys.database_principals p order by p.name")?;
    let here = of.bearings.database.clone();
    let server = of.bearings.server.as_ref();
    Ok(Catalog {
        path: server.map_or(Vec::new(), |server| server.search_path.clone()),
        schemas: names(schemas),
        databases: names(databases)
            .into_iter()
            .map(|name| Database {
                here: name == here,
                name,
                detail: String::new(),
            })
            .collect(),
        roles: names(roles),
        ..Catalog::default()
    })
}

fn read_columns(of: &mut Tabular, reading: &mut Reading) -> Result<(), EngineError> {
    for row in of.ask(COLUMNS)? {
        reading
            .columns
            .insert((text(&row[0]), text(&row[1])), text(&row[2]));
        let usual = reading.collation.clone();
        let Some(object) = reading.of(&row[0]) else {
            continue;
        };
        let name = text(&row[3]);
        let declared = match (is(&row[12]), &row[13]) {
            (true, Some(schema)) => format!("{schema}.{name}"),
            _ => declared(&name, &text(&row[4]), &text(&row[5]), &text(&row[6])),
        };
        object.fields.push(Field {
            name: text(&row[2]),
            declared,
            optional: is(&row[7]),
            default: row[9].as_deref().map(unwrapped),
            generated: is(&row[11]),
            identity: if is(&row[8]) {
                Identity::Always
            } else {
                Identity::None
            },
            collation: row[10].clone().filter(|own| *own != usual),
            ..Field::default()
        });
    }
    // Needs a view that older servers have too, but nothing of it where no column is computed.
    let computed = "select c.object_id, c.name, c.definition from sys.computed_columns c";
    for row in of.ask(computed).unwrap_or_default() {
        let Some(object) = reading.of(&row[0]) else {
            continue;
        };
        let name = text(&row[1]);
        if let Some(field) = object.fields.iter_mut().find(|field| field.name == name) {
            field.default = row[2].as_deref().map(unwrapped);
        }
    }
    Ok(())
}

fn read_keys(of: &mut Tabular, reading: &mut Reading) -> Result<(), EngineError> {
    for row in of.ask(INDEXES)? {
        let column = reading.column_name(&row[0], &row[7]);
        let Some(object) = reading.of(&row[0]) else {
            continue;
        };
        let name = text(&row[1]);
        let primary = is(&row[3]);
        if object.indexes.last().is_none_or(|last| last.name != name) {
            object.indexes.push(Index {
                unique: is(&row[2]),
                primary,
                automatic: primary || is(&row[4]),
                condition: row[6].as_deref().map(unwrapped),
                method: row[5]
                    .as_ref()
                    .map(|kind| kind.to_lowercase())
                    .filter(|kind| kind != "nonclustered"),
                name,
                ..Index::default()
            });
        }
        // What only lies beside the key is no part of it.
        if is(&row[8]) {
            continue;
        }
        if let Some(index) = object.indexes.last_mut() {
            index.columns.push(column.clone());
            let place = index.columns.len();
            if primary
                && let Some(field) = object.fields.iter_mut().find(|field| field.name == column)
            {
                field.key = Some(place);
            }
        }
    }
    for row in of.ask(LINKS)? {
        let (own, theirs) = (
            reading.column_name(&row[0], &row[5]),
            reading.column_name(&row[2], &row[6]),
        );
        let Some(there) = reading.of(&row[2]) else {
            continue;
        };
        let (their_schema, their_table) = (there.schema.clone(), there.name.clone());
        let Some(object) = reading.of(&row[0]) else {
            continue;
        };
        let name = text(&row[1]);
        let words = |value: &Option<String>| text(value).to_lowercase().replace('_', " ");
        if object.links.last().is_none_or(|last| last.name != name) {
            let schema = if their_schema == object.schema {
                String::new()
            } else {
                their_schema
            };
            object.links.push(Link {
                name,
                schema,
                table: their_table,
                on_delete: words(&row[3]),
                on_update: words(&row[4]),
                ..Link::default()
            });
        }
        if let Some(link) = object.links.last_mut() {
            link.columns.push(own);
            link.their_columns.push(theirs);
        }
    }
    for row in of.ask("select c.parent_object_id, c.name, c.definition from sys.check_constraints c order by 1, 2")? {
        let Some(object) = reading.of(&row[0]) else { continue };
        let condition = row[2].as_deref().map(unwrapped).unwrap_or_default();
        for field in &mut object.fields {
            if field.choices.is_empty() {
                field.choices = choices::listed(&condition.replace(['[', ']'], ""), &field.name);
            }
        }
        object.checks.push(Check {
            name: text(&row[1]),
            condition,
        });
    }
    Ok(())
}

fn read_routines(of: &mut Tabular, reading: &mut Reading) -> Result<(), EngineError> {
    let parameters = "select p.object_id, p.name, t.name, p.max_length, p.precision, p.scale, p.is_output, p.parameter_id from sys.parameters p \
        join sys.types t on t.user_type_id = p.user_type_id order by p.object_id, p.parameter_id";
    for row in of.ask(parameters)? {
        let Some(object) = reading.of(&row[0]) else {
            continue;
        };
        let words = declared(
            &text(&row[2]),
            &text(&row[3]),
            &text(&row[4]),
            &text(&row[5]),
        );
        if row[7].as_deref() == Some("0") {
            object.facts.push(("returns".into(), words));
            continue;
        }
        let output = if is(&row[6]) { " output" } else { "" };
        let comma = if object.signature.is_empty() {
            ""
        } else {
            ", "
        };
        object
            .signature
            .push_str(&format!("{comma}{} {words}{output}", text(&row[1])));
    }
    let sequences = "select q.object_id, cast(q.start_value as nvarchar(40)), cast(q.increment as nvarchar(40)), cast(q.current_value as nvarchar(40)) from sys.sequences q";
    for row in of.ask(sequences)? {
        if let Some(object) = reading.of(&row[0]) {
            for (name, value) in [
                ("begins at", &row[1]),
                ("step", &row[2]),
                ("stands at", &row[3]),
            ] {
                object.facts.push((name.into(), text(value)));
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_have_the_words_that_make_them_again() {
        for (name, length, precision, scale, words) in [
            ("nvarchar", "80", "0", "0", "nvarchar(40)"),
            ("nvarchar", "-1", "0", "0", "nvarchar(max)"),
            ("varbinary", "16", "0", "0", "varbinary(16)"),
            ("decimal", "9", "12", "2", "decimal(12,2)"),
            ("datetime2", "8", "27", "7", "datetime2(7)"),
            ("int", "4", "10", "0", "int"),
        ] {
            assert_eq!(declared(name, length, precision, scale), words);
        }
    }

    #[test]
    fn the_brackets_of_the_server_are_taken_off() {
        for (given, made) in [
            ("((0))", "0"),
            ("(getdate())", "getdate()"),
            ("([a]>(0) AND (b)=(1))", "[a]>(0) AND (b)=(1)"),
            ("(a) or (b)", "(a) or (b)"),
            ("('a)')", "'a)'"),
        ] {
            assert_eq!(unwrapped(given), made);
        }
    }
}
