//! The catalog of one database of MariaDB or MySQL from the information schema, and the statements that the
//! server keeps for its objects.

use std::collections::HashMap;

use idle_tide_core::catalog::{
    Catalog, Check, Database, Field, Identity, Index, Kind, LIES_ON, Link, Object,
};
use idle_tide_lang::choices;

use super::Mariadb;
use crate::engine::{EngineError, Fault};
use crate::served::{Answer, Told, measured};

/// From this many tables on, their names are handed over before the rest is read.
const MANY: usize = 400;

fn text(value: &Option<String>) -> String {
    value.clone().unwrap_or_default()
}

/// What is being read: objects, and where the tables stand among them.
#[derive(Default)]
struct Reading {
    objects: Vec<Object>,
    place: HashMap<String, usize>,
    /// The collation of each table.
    collations: HashMap<String, String>,
}

impl Reading {
    fn of(&mut self, table: &Option<String>) -> Option<&mut Object> {
        let at = *self.place.get(table.as_deref().unwrap_or_default())?;
        self.objects.get_mut(at)
    }

    fn table(&mut self, row: &Told) {
        let word = text(&row[2]);
        let kind = match word.as_str() {
            word if word.contains("VIEW") => Kind::View,
            "SEQUENCE" => Kind::Sequence,
            _ => Kind::Table,
        };
        let mut object = Object::new(text(&row[0]), text(&row[1]), kind);
        if kind == Kind::Table {
            object.rows = row[3].as_deref().and_then(|n| n.parse().ok());
            object.estimated = object.rows.is_some();
            object.bytes = row[4].as_deref().and_then(|n| n.parse().ok());
            if let Some(engine) = &row[6] {
                object.facts.push(("engine".into(), engine.clone()));
            }
            if word.contains("VERSIONED") {
                let words = "earlier rows are kept (system versioned)";
                object.facts.push(("history".into(), words.into()));
            }
        }
        let comment = row[5].clone().filter(|c| !c.is_empty());
        if kind == Kind::View {
            // The server says here what is wrong with a view.
            object.broken = comment.filter(|c| c.contains("invalid"));
        } else if kind == Kind::Table && object.rows.is_none() {
            // And why a table, or the one on another server that it stands for, cannot be opened.
            object.broken = comment;
        } else {
            object.comment = comment;
        }
        if let Some(collation) = &row[7] {
            self.collations
                .insert(object.name.clone(), collation.clone());
        }
        self.place.insert(object.name.clone(), self.objects.len());
        self.objects.push(object);
    }

    fn column(&mut self, row: &Told) {
        let extra = text(&row[5]).to_lowercase();
        let generated = row[7].as_deref().is_some_and(|e| !e.is_empty());
        let usual = self.collations.get(row[0].as_deref().unwrap_or_default());
        let collation = row[8].clone().filter(|own| usual != Some(own));
        let Some(object) = self.of(&row[0]) else {
            return;
        };
        let mut default = if generated {
            row[7].clone()
        } else {
            row[4].clone().filter(|d| d != "NULL")
        };
        if let Some(at) = extra.find("on update ") {
            let then = &extra[at..];
            default = Some(match default {
                Some(default) => format!("{default} {then}"),
                None => then.to_string(),
            });
        }
        let declared = text(&row[2]);
        let choices = match declared.to_ascii_lowercase().starts_with("enum(") {
            true => choices::listed(&format!("x in {}", &declared[4..]), "x"),
            false => Vec::new(),
        };
        object.fields.push(Field {
            name: text(&row[1]),
            declared,
            optional: row[3].as_deref() == Some("YES"),
            key: None,
            default,
            generated,
            identity: if extra.contains("auto_increment") {
                Identity::ByDefault
            } else {
                Identity::None
            },
            collation,
            choices,
            comment: row[6].clone().filter(|c| !c.is_empty()),
        });
    }

    fn index(&mut self, row: &Told) {
        let Some(object) = self.of(&row[0]) else {
            return;
        };
        let name = text(&row[1]);
        let column = match (&row[3], &row[5]) {
            (Some(column), _) => column.clone(),
            (None, Some(expression)) => format!("({expression})"),
            (None, None) => "(expression)".into(),
        };
        let primary = name == "PRIMARY";
        if object.indexes.last().is_none_or(|last| last.name != name) {
            object.indexes.push(Index {
                automatic: primary,
                primary,
                unique: row[2].as_deref() == Some("0"),
                name,
                method: row[4]
                    .as_ref()
                    .map(|method| method.to_lowercase())
                    .filter(|method| method != "btree"),
                ..Index::default()
            });
        }
        if let Some(index) = object.indexes.last_mut() {
            index.columns.push(column.clone());
            let place = index.columns.len();
            if let Some(field) = object.fields.iter_mut().find(|f| f.name == column)
                && primary
            {
                field.key = Some(place);
            }
        }
    }

    fn link(&mut self, row: &Told) {
        let Some(object) = self.of(&row[0]) else {
            return;
        };
        let name = text(&row[1]);
        if object.links.last().is_none_or(|last| last.name != name) {
            let schema = text(&row[7]);
            object.links.push(Link {
                name,
                schema: if schema == object.schema {
                    String::new()
                } else {
                    schema
                },
                table: text(&row[3]),
                on_delete: text(&row[5]),
                on_update: text(&row[6]),
                ..Link::default()
            });
        }
        if let Some(link) = object.links.last_mut() {
            link.columns.push(text(&row[2]));
            link.their_columns.push(text(&row[4]));
        }
    }

    fn check(&mut self, row: &Told) {
        let Some(object) = self.of(&row[0]) else {
            return;
        };
        let check = Check {
            name: text(&row[1]),
            condition: text(&row[2]),
        };
        for field in &mut object.fields {
            if field.choices.is_empty() {
                field.choices = choices::listed(&check.condition, &field.name);
            }
        }
        object.checks.push(check);
    }

    fn routine(&mut self, row: &Told, parameters: &HashMap<String, Vec<String>>) {
        let procedure = text(&row[2]) == "PROCEDURE";
        let kind = if procedure {
            Kind::Procedure
        } else {
            Kind::Function
        };
        let mut object = Object::new(text(&row[0]), text(&row[1]), kind);
        object.comment = row[7].clone().filter(|c| !c.is_empty());
        object.owner.clone_from(&row[8]);
        let key = format!("{} {}", text(&row[2]), object.name);
        object.signature = parameters
            .get(&key)
            .map_or(String::new(), |list| list.join(", "));
        let mut fact = |name: &str, words: &str| {
            if !words.is_empty() {
                object.facts.push((name.into(), words.into()));
            }
        };
        fact("gives", &text(&row[3]));
        let always = row[4].as_deref() == Some("YES");
        if !procedure {
            fact(
                "its result",
                if always {
                    "the same for the same arguments, always"
                } else {
                    "may differ from call to call"
                },
            );
        }
        fact("data", &text(&row[5]).to_lowercase());
        fact(
            "runs as",
            if text(&row[6]) == "DEFINER" {
                "its owner"
            } else {
                "who calls it"
            },
        );
        self.objects.push(object);
    }
}

/// Reads all objects of the database that is chosen; none when none is.
pub(super) fn read(
    of: &mut Mariadb,
    first: &mut dyn FnMut(Catalog),
) -> Result<Catalog, EngineError> {
    let mut reading = Reading::default();
    let rows = of.ask(
        "select database(), table_name, table_type, table_rows, data_length + coalesce(index_length, 0), table_comment, engine, table_collation \
         from information_schema.tables where table_schema = database() order by table_name",
    )?;
    for row in rows {
        reading.table(&row);
    }
    let database = of.bearings.database.clone();
    let mut unseen = Vec::new();
    let databases = of.ask(
        "select schema_name, schema_name = database() from information_schema.schemata order by 1",
    )?;
    let roles = match of.ask("select distinct user from mysql.user where user <> '' order by 1") {
        Ok(rows) => rows.into_iter().flatten().flatten().collect(),
        Err(_) => {
            unseen.push("This user may not read the server's tables of accounts.".to_string());
            Vec::new()
        }
    };
    let mut catalog = Catalog {
        path: vec![database],
        databases: databases
            .iter()
            .map(|row| Database {
                name: text(&row[0]),
                here: row[1].as_deref() == Some("1"),
                detail: String::new(),
            })
            .collect(),
        roles,
        unseen,
        ..Catalog::default()
    };
    if reading.objects.len() > MANY {
        first(Catalog {
            objects: reading.objects.clone(),
            names_only: true,
            ..catalog.clone()
        });
    }
    read_tables(of, &mut reading)?;
    read_routines(of, &mut reading)?;
    reading
        .objects
        .sort_by(|a, b| (&a.name, a.kind).cmp(&(&b.name, b.kind)));
    catalog.objects = reading.objects;
    Ok(catalog)
}

/// Takes the sizes of tables with their indexes from their files; where this user may not, those of the last analysis
/// stand (MySQL keeps them for a day).
pub(super) fn measure(of: &mut Mariadb, catalog: &mut Catalog) {
    let spaces = match of.is_mysql {
        true => "innodb_tablespaces",
        false => "innodb_sys_tablespaces",
    };
    // A partition has a file of its own. Names of other letters than these are written otherwise there.
    let rows = of.ask(&format!(
        "select database(), substring_index(substring(name, length(database()) + 2), '#', 1) as of_table, sum(file_size) \
         from information_schema.{spaces} where name like concat(database(), '/%') and name regexp '^[a-zA-Z0-9_/#]+$' group by of_table"
    ));
    measured(catalog, rows.unwrap_or_default());
}

/// Reads what tables are made of: columns, indexes, links, checks, partitions, triggers.
fn read_tables(of: &mut Mariadb, reading: &mut Reading) -> Result<(), EngineError> {
    let expressions = if of.is_mysql { "expression" } else { "null" };
    let only =
        |only: Option<&str>| only.map_or(String::new(), |name| format!("and table_name = {name}"));
    let rows = ask_about_tables(of, reading, &|one| {
        format!(
            "select table_name, column_name, column_type, is_nullable, column_default, extra, column_comment, generation_expression, collation_name \
             from information_schema.columns where table_schema = database() {} order by table_name, ordinal_position",
            only(one)
        )
    })?;
    for row in rows {
        reading.column(&row);
    }
    let rows = ask_about_tables(of, reading, &|one| {
        format!(
            "select table_name, index_name, non_unique, column_name, index_type, {expressions} from information_schema.statistics \
             where table_schema = database() {} order by table_name, index_name <> 'PRIMARY', index_name, seq_in_index",
            only(one)
        )
    })?;
    for row in rows {
        reading.index(&row);
    }
    let rows = ask_about_tables(of, reading, &|only| {
        // Only a question for a single table by its name opens no other one; the limit keeps the two apart.
        let of_table = |view: &str, schema: &str| match only {
            Some(name) => format!(
                "(select * from information_schema.{view} where {schema} = database() and table_name = {name} limit 1000000)"
            ),
            None => format!("information_schema.{view}"),
        };
        format!(
            "select k.table_name, k.constraint_name, k.column_name, k.referenced_table_name, k.referenced_column_name, lower(r.delete_rule), lower(r.update_rule), k.referenced_table_schema \
             from {} k join {} r \
               on r.constraint_schema = k.constraint_schema and r.constraint_name = k.constraint_name and r.table_name = k.table_name \
             where k.table_schema = database() and k.referenced_table_name is not null \
             order by k.table_name, k.constraint_name, k.ordinal_position",
            of_table("key_column_usage", "table_schema"),
            of_table("referential_constraints", "constraint_schema")
        )
    })?;
    for row in rows {
        reading.link(&row);
    }
    let checks = if of.is_mysql {
        "select t.table_name, c.constraint_name, c.check_clause from information_schema.check_constraints c join information_schema.table_constraints t \
         on t.constraint_schema = c.constraint_schema and t.constraint_name = c.constraint_name where c.constraint_schema = database() order by 1, 2"
    } else {
        "select table_name, constraint_name, check_clause from information_schema.check_constraints where constraint_schema = database() order by 1, 2"
    };
    // Servers before checks have no such table.
    for row in of.ask(checks).unwrap_or_default() {
        reading.check(&row);
    }
    let rows = ask_about_tables(of, reading, &|one| {
        format!(
            "select table_name, lower(partition_method), partition_expression, group_concat(partition_name order by partition_ordinal_position separator ', ') \
             from information_schema.partitions where table_schema = database() {} and partition_name is not null group by 1, 2, 3",
            only(one)
        )
    })?;
    for row in rows {
        if let Some(object) = reading.of(&row[0]) {
            object.partition_by = Some(format!("{} ({})", text(&row[1]), text(&row[2])));
            object.facts.push(("partitions".into(), text(&row[3])));
        }
    }
    read_places(of, reading);
    let rows = ask_about_tables(of, reading, &|one| {
        let only = one.map_or(String::new(), |name| {
            format!("and event_object_table = {name}")
        });
        format!(
            "select trigger_schema, trigger_name, event_object_table, lower(action_timing), lower(event_manipulation), definer \
             from information_schema.triggers where trigger_schema = database() {only} order by event_object_table, action_order"
        )
    })?;
    for row in rows {
        let mut trigger = Object::new(text(&row[0]), text(&row[1]), Kind::Trigger);
        trigger.table.clone_from(&row[2]);
        trigger.owner.clone_from(&row[5]);
        let when = format!("{} {}", text(&row[3]), text(&row[4]));
        trigger.facts.push(("runs".into(), when));
        reading.objects.push(trigger);
    }
    Ok(())
}

/// Whether its rows may lie on another server.
fn stands_for_another(object: &Object) -> bool {
    const ENGINES: [&str; 3] = ["SPIDER", "FEDERATED", "CONNECT"];
    let engine = object.facts.iter().find(|(name, _)| name == "engine");
    engine.is_some_and(|(_, engine)| ENGINES.contains(&engine.to_uppercase().as_str()))
}

/// Asks a question about all tables. One that stands for another server's and cannot be opened fails it for all: then each
/// is asked about alone.
fn ask_about_tables(
    of: &mut Mariadb,
    reading: &mut Reading,
    question: &dyn Fn(Option<&str>) -> String,
) -> Result<Answer, EngineError> {
    let error = match of.ask(&question(None)) {
        Ok(rows) => return Ok(rows),
        Err(error) => error,
    };
    // It may lie in another database, too.
    if of.is_gone() || of.is_mysql || error.fault == Fault::Cancelled {
        return Err(error);
    }
    let (mut rows, mut answered) = (Answer::new(), false);
    let tables = reading.objects.iter_mut();
    for object in tables.filter(|object| object.kind == Kind::Table) {
        match of.ask(&question(Some(&of.dialect.quote_text(&object.name)))) {
            Ok(some) => {
                answered = true;
                rows.extend(some);
            }
            Err(error) if of.is_gone() || error.fault == Fault::Cancelled => return Err(error),
            Err(error) => {
                // What cannot be opened may not even say what it is.
                answered |= stands_for_another(object);
                object.broken.get_or_insert(error.message);
            }
        }
    }
    match answered {
        true => Ok(rows),
        false => Err(error),
    }
}

/// Where the parts of tables lie that this server only stands for (the storage engine Spider). Its tables of these may
/// not be there for everybody.
fn read_places(of: &mut Mariadb, reading: &mut Reading) {
    if !reading.objects.iter().any(stands_for_another) {
        return;
    }
    let rows = of.ask(
        "select t.table_name, t.server, coalesce(t.host, s.host), coalesce(t.port, s.port), coalesce(t.tgt_db_name, s.db), t.tgt_table_name \
         from mysql.spider_tables t left join mysql.servers s on s.server_name = t.server where t.db_name = database() order by t.table_name, t.link_id",
    );
    for row in rows.unwrap_or_default() {
        let name = text(&row[0]);
        let (table, part) = name
            .split_once("#P#")
            .map_or((name.as_str(), None), |(table, part)| (table, Some(part)));
        let Some(object) = reading.of(&Some(table.to_string())) else {
            continue;
        };
        let mut place = format!(
            "{} ({} {} {})",
            text(&row[1]),
            text(&row[2]),
            text(&row[3]),
            text(&row[4])
        );
        if let Some(theirs) = &row[5] {
            place.push_str(&format!(", table {theirs}"));
        }
        object.facts.push(match part {
            Some(part) => (format!("part {part}"), format!("{LIES_ON} {place}")),
            None => (LIES_ON.into(), place),
        });
    }
}

/// Reads routines and events.
fn read_routines(of: &mut Mariadb, reading: &mut Reading) -> Result<(), EngineError> {
    let mut parameters: HashMap<String, Vec<String>> = HashMap::new();
    let rows = of.ask(
        "select routine_type, specific_name, lower(parameter_mode), parameter_name, dtd_identifier from information_schema.parameters \
         where specific_schema = database() and ordinal_position > 0 order by 1, 2, ordinal_position",
    )?;
    for row in rows {
        let mode = text(&row[2]);
        let mode = if mode == "in" {
            String::new()
        } else {
            format!("{mode} ")
        };
        parameters
            .entry(format!("{} {}", text(&row[0]), text(&row[1])))
            .or_default()
            .push(
                format!("{mode}{} {}", text(&row[3]), text(&row[4]))
                    .trim()
                    .to_string(),
            );
    }
    let rows = of.ask(
        "select routine_schema, routine_name, routine_type, dtd_identifier, is_deterministic, sql_data_access, security_type, routine_comment, definer \
         from information_schema.routines where routine_schema = database() order by routine_name",
    )?;
    for row in rows {
        reading.routine(&row, &parameters);
    }
    let rows = of.ask(
        "select event_schema, event_name, lower(status), execute_at, interval_value, lower(interval_field), event_comment, definer \
         from information_schema.events where event_schema = database() order by event_name",
    )?;
    for row in rows {
        let mut event = Object::new(text(&row[0]), text(&row[1]), Kind::Event);
        event.comment = row[6].clone().filter(|c| !c.is_empty());
        event.owner.clone_from(&row[7]);
        let when = match &row[3] {
            Some(at) => format!("once, at {at}"),
            None => format!("every {} {}", text(&row[4]), text(&row[5])),
        };
        event.facts.push(("runs".into(), when));
        event.facts.push(("state".into(), text(&row[2])));
        reading.objects.push(event);
    }
    Ok(())
}

/// The word of `show create` for a kind, and the column of its answer that holds the statement.
fn show_create(kind: Kind) -> Option<(&'static str, usize)> {
    match kind {
        Kind::Table | Kind::VirtualTable | Kind::ForeignTable => Some(("table", 1)),
        Kind::View | Kind::MaterializedView => Some(("view", 1)),
        Kind::Sequence => Some(("sequence", 1)),
        Kind::Function => Some(("function", 2)),
        Kind::Procedure => Some(("procedure", 2)),
        Kind::Trigger => Some(("trigger", 2)),
        Kind::Event => Some(("event", 3)),
        Kind::Type | Kind::Extension | Kind::Collection => None,
    }
}

/// Finds the statement that would make an object again: the server keeps it.
pub(super) fn define(of: &mut Mariadb, object: &mut Object) -> Result<(), EngineError> {
    if object.definition.is_some() {
        return Ok(());
    }
    let Some((word, column)) = show_create(object.kind) else {
        return Ok(());
    };
    let name = format!(
        "{}.{}",
        of.dialect.quote_name(&object.schema),
        of.dialect.quote_name(&object.name)
    );
    let rows: Answer = of.ask(&format!("show create {word} {name}"))?;
    let text = rows
        .into_iter()
        .next()
        .and_then(|row| row.into_iter().nth(column))
        .flatten();
    match text {
        Some(text) => {
            object.definition = Some(format!("{};", text.trim_end().trim_end_matches(';')))
        }
        None => object.broken = Some("this user may not see its definition".into()),
    }
    Ok(())
}

/// The statements that make everything again in an empty database, in an order that works there.
pub(super) fn script(of: &mut Mariadb, catalog: &Catalog) -> Result<String, EngineError> {
    let mut list: Vec<Object> = catalog.objects.clone();
    let mut named: Vec<String> = Vec::new();
    for object in &mut list {
        define(of, object)?;
        let quoted = format!("`{}`", object.name.replace('`', "``"));
        named.push(if object.is_view() {
            quoted
        } else {
            String::new()
        });
    }
    let rank = |object: &Object| match object.kind {
        Kind::Sequence => 0,
        Kind::Table => 1,
        Kind::Function | Kind::Procedure => 2,
        Kind::View => 3,
        Kind::Trigger => 4,
        _ => 5,
    };
    let mut order: Vec<usize> = (0..list.len())
        .filter(|at| list[*at].definition.is_some())
        .collect();
    order.sort_by_key(|at| rank(&list[*at]));
    // A view comes after the views that it reads.
    let text_of = |at: usize| list[at].definition.as_deref().unwrap_or_default();
    let reads = |at: usize, other: usize| {
        at != other
            && !named[other].is_empty()
            && text_of(at).replace('"', "`").contains(&named[other])
    };
    let (views, mut rest): (Vec<usize>, Vec<usize>) =
        order.into_iter().partition(|at| list[*at].is_view());
    let mut sorted: Vec<usize> = Vec::new();
    let mut left = views;
    while !left.is_empty() {
        let free = left
            .iter()
            .position(|at| left.iter().all(|other| !reads(*at, *other)));
        sorted.push(left.remove(free.unwrap_or(0)));
    }
    let after = rest
        .iter()
        .position(|at| rank(&list[*at]) > 3)
        .unwrap_or(rest.len());
    rest.splice(after..after, sorted);
    if rest.is_empty() {
        return Ok(String::new());
    }
    // Tables refer to each other in any order.
    let mut text = String::from("set foreign_key_checks = 0;\n");
    for at in rest {
        text.push_str(&format!("\n{}\n", text_of(at)));
    }
    text.push_str("\nset foreign_key_checks = 1;");
    Ok(text)
}
