//! The statements that make the objects of a PostgreSQL database again, built from its system catalogs: of one
//! object, or of all in an order that works in an empty database. Grants and owners are not among them.

use std::collections::{HashMap, HashSet};
use std::fmt::Write as _;

use idle_tide_core::catalog::{Kind, Object};
use idle_tide_lang::dialect::POSTGRES;

use super::Postgres;
use super::catalog::OWN;
use super::piece::{Key, Piece, Rows};
use crate::engine::EngineError;

/// What an extension made, or a type brings with it, is not made again.
const NOT_OF_EXTENSION: &str = "not exists (select from pg_catalog.pg_depend e where e.classid = 'CLASS'::regclass and e.objid = OID and e.deptype in (HOW))";

fn own(class: &str, oid: &str) -> String {
    // The functions that make a range come with its type.
    let how = if class == "pg_proc" {
        "'e', 'i'"
    } else {
        "'e'"
    };
    let rest = NOT_OF_EXTENSION
        .replace("CLASS", class)
        .replace("OID", oid)
        .replace("HOW", how);
    format!("{OWN} and {rest}")
}

fn text(value: &Option<String>) -> &str {
    value.as_deref().unwrap_or_default()
}

fn yes(value: &Option<String>) -> bool {
    value.as_deref() == Some("t")
}

fn name(schema: &Option<String>, plain: &Option<String>) -> String {
    format!(
        "{}.{}",
        POSTGRES.quote_name(text(schema)),
        POSTGRES.quote_name(text(plain))
    )
}

/// Reads what definitions are built from: of everything, or of one object.
struct Definer<'a> {
    of: &'a Postgres,
    /// The relation, type or routine that alone is wanted.
    only: Option<(Kind, String)>,
}

impl Definer<'_> {
    /// A question about relations, or about what belongs to them; `OWN` in it stands for those wanted.
    fn relations(&self, kinds: &[Kind], oid: &str, sql: &str) -> Result<Rows, EngineError> {
        self.of_kind(kinds, "pg_class", oid, sql)
    }

    /// A question about what only a whole database has.
    fn whole(&self, sql: &str) -> Result<Rows, EngineError> {
        match self.only {
            Some(_) => Ok(Vec::new()),
            None => self.of.ask(sql),
        }
    }

    /// A question about objects of these kinds, which stand in the system catalog `class`.
    fn of_kind(
        &self,
        kinds: &[Kind],
        class: &str,
        oid: &str,
        sql: &str,
    ) -> Result<Rows, EngineError> {
        let own = match &self.only {
            Some((kind, number)) if kinds.contains(kind) => format!("{oid} = {number}"),
            Some(_) => return Ok(Vec::new()),
            None => own(class, oid),
        };
        self.of.ask(&sql.replace("OWN", &own))
    }
}

const TABLES: &[Kind] = &[Kind::Table, Kind::ForeignTable];
const WITH_INDEXES: &[Kind] = &[Kind::Table, Kind::ForeignTable, Kind::MaterializedView];
const RELATIONS: &[Kind] = &[
    Kind::Table,
    Kind::ForeignTable,
    Kind::View,
    Kind::MaterializedView,
    Kind::Sequence,
];
const FROM_CLASS: &str =
    "from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace";

/// Types made here: labels, domains, ranges, and those with fields.
fn types(d: &Definer<'_>) -> Result<Vec<Piece>, EngineError> {
    let rows = d.of_kind(&[Kind::Type], "pg_type", "t.oid", "select t.oid, n.nspname, t.typname, t.typtype, \
        (select string_agg(quote_literal(enumlabel), ', ' order by enumsortorder) from pg_catalog.pg_enum where enumtypid = t.oid), \
        format_type(t.typbasetype, t.typtypmod), t.typnotnull, t.typdefault, \
        (select string_agg('constraint ' || quote_ident(conname) || ' ' || pg_get_constraintdef(k.oid, true), ' ' order by conname) from pg_catalog.pg_constraint k where contypid = t.oid and contype <> 'n'), \
        (select string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod), E',\\n    ' order by a.attnum) from pg_catalog.pg_attribute a where a.attrelid = t.typrelid and a.attnum > 0 and not a.attisdropped), \
        (select 'subtype = ' || format_type(rngsubtype, null) || case when rngsubdiff <> 0 then ', subtype_diff = ' || rngsubdiff::regproc else '' end from pg_catalog.pg_range where rngtypid = t.oid), t.typrelid, \
        (select 'collate ' || quote_ident(cn.nspname) || '.' || quote_ident(collname) from pg_catalog.pg_collation l join pg_catalog.pg_namespace cn on cn.oid = l.collnamespace \
          join pg_catalog.pg_type b on b.oid = t.typbasetype where l.oid = t.typcollation and b.typcollation <> t.typcollation), \
        (select quote_ident(conname) from pg_catalog.pg_constraint where contypid = t.oid and contype = 'n' and conname <> t.typname || '_not_null') \
        from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace left join pg_catalog.pg_class c on c.oid = t.typrelid \
        where (t.typtype in ('e', 'd', 'r') or t.typtype = 'c' and c.relkind = 'c') and OWN order by n.nspname, t.typname")?;
    let pieces = rows.iter().map(|row| {
        let name = name(&row[1], &row[2]);
        let made = match text(&row[3]) {
            "e" => format!("create type {name} as enum ({});", text(&row[4])),
            "d" => {
                let mut made = format!("create domain {name} as {}", text(&row[5]));
                if let Some(collate) = &row[12] {
                    write!(made, " {collate}").unwrap_or_default();
                }
                if let Some(default) = &row[7] {
                    write!(made, " default {default}").unwrap_or_default();
                }
                if yes(&row[6]) {
                    made.push_str(&not_null(&row[13]));
                }
                if let Some(checks) = &row[8] {
                    write!(made, " {checks}").unwrap_or_default();
                }
                made + ";"
            }
            "r" => format!("create type {name} as range ({});", text(&row[10])),
            _ => format!("create type {name} as (\n    {}\n);", text(&row[9])),
        };
        // A type with fields stands among the relations too; what needs it names that.
        let key = match text(&row[3]) {
            "c" => ("pg_class".to_string(), text(&row[11]).to_string()),
            _ => ("pg_type".to_string(), text(&row[0]).to_string()),
        };
        Piece { key, text: made }
    });
    Ok(pieces.collect())
}

/// That nothing may be missing, with the name that newer servers keep for it, if it is one that was given.
fn not_null(name: &Option<String>) -> String {
    match name {
        Some(name) => format!(" constraint {name} not null"),
        None => " not null".into(),
    }
}

fn sequences(d: &Definer<'_>, after: &mut Vec<String>) -> Result<Vec<Piece>, EngineError> {
    let rows = d.relations(&[Kind::Sequence], "c.oid", &format!("select c.oid, n.nspname, c.relname, format_type(s.seqtypid, null), s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcache, s.seqcycle, \
        (select quote_ident(tn.nspname) || '.' || quote_ident(t.relname) || '.' || quote_ident(a.attname) from pg_catalog.pg_depend o join pg_catalog.pg_class t on t.oid = o.refobjid \
          join pg_catalog.pg_namespace tn on tn.oid = t.relnamespace join pg_catalog.pg_attribute a on a.attrelid = t.oid and a.attnum = o.refobjsubid \
          where o.classid = 'pg_class'::regclass and o.objid = c.oid and o.deptype = 'a' and o.refobjsubid > 0) \
        {FROM_CLASS} join pg_catalog.pg_sequence s on s.seqrelid = c.oid \
        where not exists (select from pg_catalog.pg_depend i where i.classid = 'pg_class'::regclass and i.objid = c.oid and i.deptype = 'i') and OWN order by 2, 3"))?;
    let pieces = rows.iter().map(|row| {
        let name = name(&row[1], &row[2]);
        if let Some(column) = &row[10] {
            after.push(format!("alter sequence {name} owned by {column};"));
        }
        Piece {
            key: ("pg_class".into(), text(&row[0]).into()),
            text: format!(
                "create sequence {name} as {} increment by {} minvalue {} maxvalue {} start with {} cache {}{};",
                text(&row[3]), text(&row[5]), text(&row[6]), text(&row[7]), text(&row[4]), text(&row[8]),
                if yes(&row[9]) { " cycle" } else { "" }
            ),
        }
    });
    Ok(pieces.collect())
}

fn routines(d: &Definer<'_>) -> Result<Vec<Piece>, EngineError> {
    let aggregate = if d.of.version_number() >= 110_000 {
        "p.prokind = 'a'"
    } else {
        "p.proisagg"
    };
    let sql = format!(
        "select p.oid, case when {aggregate} then null else pg_get_functiondef(p.oid) end, n.nspname, p.proname, pg_get_function_arguments(p.oid), \
        g.aggtransfn, format_type(g.aggtranstype, null), nullif(g.aggfinalfn::oid, 0)::regproc, g.agginitval \
        from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace left join pg_catalog.pg_aggregate g on g.aggfnoid = p.oid \
        where OWN order by n.nspname, p.proname, p.oid"
    );
    let kinds = &[Kind::Function, Kind::Procedure];
    let rows = d.of_kind(kinds, "pg_proc", "p.oid", &sql)?;
    let pieces = rows.iter().map(|row| Piece {
        key: ("pg_proc".into(), text(&row[0]).into()),
        text: match &row[1] {
            Some(text) => format!("{};", text.trim_end()),
            None => {
                let arguments = match text(&row[4]) {
                    "" => "*",
                    arguments => arguments,
                };
                let mut made = format!(
                    "create aggregate {} ({arguments}) (sfunc = {}, stype = {}",
                    name(&row[2], &row[3]),
                    text(&row[5]),
                    text(&row[6])
                );
                if let Some(function) = &row[7] {
                    write!(made, ", finalfunc = {function}").unwrap_or_default();
                }
                if let Some(value) = &row[8] {
                    write!(made, ", initcond = {}", POSTGRES.quote_text(value)).unwrap_or_default();
                }
                made + ");"
            }
        },
    });
    Ok(pieces.collect())
}

fn columns(d: &Definer<'_>) -> Result<HashMap<String, Vec<String>>, EngineError> {
    let generated = if d.of.version_number() >= 120_000 {
        "a.attgenerated"
    } else {
        "''"
    };
    let rows = d.relations(TABLES, "c.oid", &format!("select c.oid, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, pg_get_expr(x.adbin, x.adrelid), a.attidentity, {generated}, \
        case when a.attcollation <> t.typcollation then (select quote_ident(cn.nspname) || '.' || quote_ident(collname) from pg_catalog.pg_collation l join pg_catalog.pg_namespace cn on cn.oid = l.collnamespace where l.oid = a.attcollation) end, \
        (select ' (start with ' || s.seqstart || ' increment by ' || s.seqincrement || case when s.seqcycle then ' cycle' else '' end || ')' from pg_catalog.pg_depend o join pg_catalog.pg_sequence s on s.seqrelid = o.objid \
          where o.classid = 'pg_class'::regclass and o.refclassid = 'pg_class'::regclass and o.refobjid = c.oid and o.refobjsubid = a.attnum and o.deptype = 'i' and (s.seqstart <> 1 or s.seqincrement <> 1 or s.seqcycle)), \
        (select quote_ident(conname) from pg_catalog.pg_constraint where conrelid = c.oid and contype = 'n' and conkey = array[a.attnum] and conname <> c.relname || '_' || a.attname || '_not_null'), \
        case when a.attfdwoptions is not null then ' options (' || (select string_agg(quote_ident(option_name) || ' ' || quote_literal(option_value), ', ') from pg_options_to_table(a.attfdwoptions)) || ')' end \
        {FROM_CLASS} join pg_catalog.pg_attribute a on a.attrelid = c.oid join pg_catalog.pg_type t on t.oid = a.atttypid left join pg_catalog.pg_attrdef x on x.adrelid = c.oid and x.adnum = a.attnum \
        where c.relkind in ('r', 'p', 'f') and a.attnum > 0 and not a.attisdropped and a.attislocal and OWN order by c.oid, a.attnum"))?;
    let mut lines: HashMap<String, Vec<String>> = HashMap::new();
    for row in rows {
        let mut line = format!("{} {}", POSTGRES.quote_name(text(&row[1])), text(&row[2]));
        line.push_str(text(&row[10]));
        if let Some(collation) = &row[7] {
            write!(line, " collate {collation}").unwrap_or_default();
        }
        let options = text(&row[8]);
        match (text(&row[5]), text(&row[6]), &row[4]) {
            ("a", ..) => write!(line, " generated always as identity{options}"),
            ("d", ..) => write!(line, " generated by default as identity{options}"),
            (_, "s", Some(expression)) => {
                write!(line, " generated always as ({expression}) stored")
            }
            (_, "v", Some(expression)) => write!(line, " generated always as ({expression})"),
            (_, _, Some(default)) => write!(line, " default {default}"),
            _ => Ok(()),
        }
        .unwrap_or_default();
        if yes(&row[3]) {
            line.push_str(&not_null(&row[9]));
        }
        lines
            .entry(text(&row[0]).to_string())
            .or_default()
            .push(line);
    }
    Ok(lines)
}

fn tables(d: &Definer<'_>) -> Result<Vec<Piece>, EngineError> {
    let mut lines = columns(d)?;
    // Those of a partition come with its table.
    let inherited = if d.of.version_number() >= 110_000 {
        "k.conparentid = 0"
    } else {
        "true"
    };
    let constraints = d.relations(TABLES, "c.oid", &format!("select c.oid, k.conname, pg_get_constraintdef(k.oid, true) {FROM_CLASS} join pg_catalog.pg_constraint k on k.conrelid = c.oid \
        where k.contype in ('p', 'u', 'c', 'x') and k.conislocal and {inherited} and OWN order by c.oid, array_position(array['p', 'u', 'c', 'x'], k.contype::text), k.conname"))?;
    for row in constraints {
        let line = format!(
            "constraint {} {}",
            POSTGRES.quote_name(text(&row[1])),
            text(&row[2])
        );
        lines
            .entry(text(&row[0]).to_string())
            .or_default()
            .push(line);
    }
    let rows = d.relations(TABLES, "c.oid", &format!("select c.oid, n.nspname, c.relname, c.relpersistence, case when c.relkind = 'p' then pg_get_partkeydef(c.oid) end, pg_get_expr(c.relpartbound, c.oid), \
        (select string_agg(quote_ident(pn.nspname) || '.' || quote_ident(p.relname), ', ' order by i.inhseqno) from pg_catalog.pg_inherits i join pg_catalog.pg_class p on p.oid = i.inhparent join pg_catalog.pg_namespace pn on pn.oid = p.relnamespace where i.inhrelid = c.oid), \
        array_to_string(c.reloptions, ', '), \
        (select quote_ident(s.srvname) || coalesce(' options (' || (select string_agg(quote_ident(option_name) || ' ' || quote_literal(option_value), ', ') from pg_options_to_table(f.ftoptions)) || ')', '') from pg_catalog.pg_foreign_table f join pg_catalog.pg_foreign_server s on s.oid = f.ftserver where f.ftrelid = c.oid), c.relrowsecurity, c.relforcerowsecurity \
        {FROM_CLASS} where c.relkind in ('r', 'p', 'f') and OWN order by n.nspname, c.relname"))?;
    let pieces = rows.iter().map(|row| {
        let table = name(&row[1], &row[2]);
        let parts = lines.remove(text(&row[0])).unwrap_or_default();
        let mut made = match text(&row[3]) {
            "t" => "create temporary table ".to_string(),
            "u" => "create unlogged table ".to_string(),
            _ if row[8].is_some() => "create foreign table ".to_string(),
            _ => "create table ".to_string(),
        };
        let shown = if text(&row[3]) == "t" {
            POSTGRES.quote_name(text(&row[2]))
        } else {
            table.clone()
        };
        made.push_str(&shown);
        if let (Some(bound), Some(parent)) = (&row[5], &row[6]) {
            // Its columns are its table's; defaults of its own follow.
            write!(made, " partition of {parent} {bound}").unwrap_or_default();
        } else {
            let parts = parts.join(",\n    ");
            let parts = if parts.is_empty() {
                parts
            } else {
                format!("\n    {parts}\n")
            };
            write!(made, " ({parts})").unwrap_or_default();
            if let Some(parents) = &row[6] {
                write!(made, " inherits ({parents})").unwrap_or_default();
            }
        }
        if let Some(by) = &row[4] {
            write!(made, " partition by {by}").unwrap_or_default();
        }
        if let Some(server) = &row[8] {
            write!(made, " server {server}").unwrap_or_default();
        }
        if let Some(options) = row[7].as_deref().filter(|o| !o.is_empty()) {
            write!(made, " with ({options})").unwrap_or_default();
        }
        made.push(';');
        if yes(&row[9]) {
            write!(made, "\nalter table {shown} enable row level security;").unwrap_or_default();
        }
        if yes(&row[10]) {
            write!(made, "\nalter table {shown} force row level security;").unwrap_or_default();
        }
        Piece {
            key: ("pg_class".into(), text(&row[0]).into()),
            text: made,
        }
    });
    Ok(pieces.collect())
}

fn views(d: &Definer<'_>) -> Result<Vec<Piece>, EngineError> {
    let rows = d.relations(&[Kind::View, Kind::MaterializedView], "c.oid", &format!("select c.oid, n.nspname, c.relname, c.relkind, pg_get_viewdef(c.oid, true), array_to_string(c.reloptions, ', ') {FROM_CLASS} \
        where c.relkind in ('v', 'm') and OWN order by n.nspname, c.relname"))?;
    let pieces = rows.iter().map(|row| {
        let word = if text(&row[3]) == "v" {
            "view"
        } else {
            "materialized view"
        };
        let options = match row[5].as_deref() {
            Some(options) if !options.is_empty() => format!(" with ({options})"),
            _ => String::new(),
        };
        Piece {
            key: ("pg_class".into(), text(&row[0]).into()),
            text: format!(
                "create {word} {}{options} as\n{};",
                name(&row[1], &row[2]),
                text(&row[4]).trim_end_matches(';')
            ),
        }
    });
    Ok(pieces.collect())
}

/// What follows when every table is there: indexes, links, rules, policies, triggers, comments.
fn afterwards(d: &Definer<'_>) -> Result<Vec<String>, EngineError> {
    let mut after = Vec::new();
    let mut take = |rows: Rows| {
        after.extend(rows.into_iter().flatten().flatten().map(|line| {
            let line = line.trim_end();
            if line.ends_with(';') {
                line.to_string()
            } else {
                format!("{line};")
            }
        }));
    };
    // The index of a partitioned table brings those of its partitions with it.
    take(d.relations(WITH_INDEXES, "c.oid", &format!("select replace(pg_get_indexdef(i.indexrelid), ' ON ONLY ', ' ON ') {FROM_CLASS} join pg_catalog.pg_index i on i.indrelid = c.oid join pg_catalog.pg_class x on x.oid = i.indexrelid \
        where not exists (select from pg_catalog.pg_constraint k where k.conindid = i.indexrelid and k.contype in ('p', 'u', 'x')) and not exists (select from pg_catalog.pg_inherits h where h.inhrelid = i.indexrelid) \
        and c.relkind in ('r', 'p', 'm') and OWN order by n.nspname, c.relname, x.relname"))?);
    let inherited = if d.of.version_number() >= 110_000 {
        "k.conparentid = 0"
    } else {
        "true"
    };
    take(d.relations(TABLES, "c.oid", &format!("select 'alter table ' || quote_ident(n.nspname) || '.' || quote_ident(c.relname) || ' add constraint ' || quote_ident(k.conname) || ' ' || pg_get_constraintdef(k.oid, true) {FROM_CLASS} join pg_catalog.pg_constraint k on k.conrelid = c.oid \
        where k.contype = 'f' and {inherited} and OWN order by n.nspname, c.relname, k.conname"))?);
    if d.of.version_number() >= 100_000 {
        take(d.relations(TABLES, "c.oid", &format!("select pg_get_statisticsobjdef(s.oid) {FROM_CLASS} join pg_catalog.pg_statistic_ext s on s.stxrelid = c.oid where OWN order by 1"))?);
    }
    take(d.relations(&[Kind::Table, Kind::View, Kind::ForeignTable], "c.oid", &format!("select pg_get_ruledef(r.oid, true) {FROM_CLASS} join pg_catalog.pg_rewrite r on r.ev_class = c.oid where r.rulename <> '_RETURN' and OWN order by n.nspname, c.relname, r.rulename"))?);
    take(d.relations(TABLES, "c.oid", &format!("select 'create policy ' || quote_ident(p.polname) || ' on ' || quote_ident(n.nspname) || '.' || quote_ident(c.relname) || case when p.polpermissive then '' else ' as restrictive' end \
        || ' for ' || case p.polcmd when 'r' then 'select' when 'a' then 'insert' when 'w' then 'update' when 'd' then 'delete' else 'all' end \
        || ' to ' || (select string_agg(case u when 0 then 'public' else quote_ident(pg_get_userbyid(u)) end, ', ') from unnest(p.polroles) u) \
        || coalesce(' using (' || pg_get_expr(p.polqual, p.polrelid) || ')', '') || coalesce(' with check (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', '') \
        {FROM_CLASS} join pg_catalog.pg_policy p on p.polrelid = c.oid where OWN order by n.nspname, c.relname, p.polname"))?);
    let cloned = if d.of.version_number() >= 130_000 {
        "t.tgparentid = 0"
    } else {
        "true"
    };
    take(d.relations(&[Kind::Table, Kind::View, Kind::ForeignTable], "c.oid", &format!("select pg_get_triggerdef(t.oid, true) || case t.tgenabled when 'D' then E';\\nalter table ' || quote_ident(n.nspname) || '.' || quote_ident(c.relname) || ' disable trigger ' || quote_ident(t.tgname) else '' end \
        {FROM_CLASS} join pg_catalog.pg_trigger t on t.tgrelid = c.oid where not t.tgisinternal and {cloned} and OWN order by n.nspname, c.relname, t.tgname"))?);
    take(d.relations(RELATIONS, "c.oid", &format!("select 'comment on ' || case when s.objsubid > 0 then 'column ' else case c.relkind when 'v' then 'view ' when 'm' then 'materialized view ' when 'S' then 'sequence ' when 'f' then 'foreign table ' else 'table ' end end \
        || quote_ident(n.nspname) || '.' || quote_ident(c.relname) || case when s.objsubid > 0 then '.' || quote_ident((select attname from pg_catalog.pg_attribute where attrelid = c.oid and attnum = s.objsubid)) else '' end || ' is ' || quote_literal(s.description) \
        {FROM_CLASS} join pg_catalog.pg_description s on s.classoid = 'pg_class'::regclass and s.objoid = c.oid where c.relkind in ('r', 'p', 'v', 'm', 'f', 'S') and OWN order by n.nspname, c.relname, s.objsubid"))?);
    take(d.relations(WITH_INDEXES, "c.oid", &format!("select 'comment on index ' || quote_ident(n.nspname) || '.' || quote_ident(x.relname) || ' is ' || quote_literal(s.description) {FROM_CLASS} join pg_catalog.pg_index i on i.indrelid = c.oid join pg_catalog.pg_class x on x.oid = i.indexrelid \
        join pg_catalog.pg_description s on s.classoid = 'pg_class'::regclass and s.objoid = x.oid where OWN order by 1"))?);
    take(d.relations(TABLES, "c.oid", &format!("select 'comment on constraint ' || quote_ident(k.conname) || ' on ' || quote_ident(n.nspname) || '.' || quote_ident(c.relname) || ' is ' || quote_literal(s.description) {FROM_CLASS} join pg_catalog.pg_constraint k on k.conrelid = c.oid \
        join pg_catalog.pg_description s on s.classoid = 'pg_constraint'::regclass and s.objoid = k.oid where OWN order by 1"))?);
    take(d.relations(&[Kind::Table, Kind::View, Kind::ForeignTable], "c.oid", &format!("select 'comment on trigger ' || quote_ident(t.tgname) || ' on ' || quote_ident(n.nspname) || '.' || quote_ident(c.relname) || ' is ' || quote_literal(s.description) {FROM_CLASS} join pg_catalog.pg_trigger t on t.tgrelid = c.oid \
        join pg_catalog.pg_description s on s.classoid = 'pg_trigger'::regclass and s.objoid = t.oid where OWN order by 1"))?);
    let word = if d.of.version_number() >= 110_000 {
        "case p.prokind when 'a' then 'aggregate ' when 'p' then 'procedure ' else 'function ' end"
    } else {
        "case when p.proisagg then 'aggregate ' else 'function ' end"
    };
    take(d.of_kind(&[Kind::Function, Kind::Procedure], "pg_proc", "p.oid", &format!("select 'comment on ' || {word} || quote_ident(n.nspname) || '.' || quote_ident(p.proname) || '(' || pg_get_function_identity_arguments(p.oid) || ') is ' || quote_literal(s.description) \
        from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace join pg_catalog.pg_description s on s.classoid = 'pg_proc'::regclass and s.objoid = p.oid where OWN order by 1"))?);
    take(d.of_kind(&[Kind::Type], "pg_type", "t.oid", "select 'comment on ' || case t.typtype when 'd' then 'domain ' else 'type ' end || quote_ident(n.nspname) || '.' || quote_ident(t.typname) || ' is ' || quote_literal(s.description) \
        from pg_catalog.pg_type t join pg_catalog.pg_namespace n on n.oid = t.typnamespace join pg_catalog.pg_description s on s.classoid = 'pg_type'::regclass and s.objoid = t.oid where OWN order by 1")?);
    Ok(after)
}

/// What needs what, each named by its key; links between tables do not count, they come last.
const NEEDS: &str = "with who (c, o, nc, no) as (\
      select 'pg_attrdef'::regclass, oid, 'pg_class'::regclass, adrelid from pg_catalog.pg_attrdef \
      union all select 'pg_rewrite'::regclass, oid, 'pg_class'::regclass, ev_class from pg_catalog.pg_rewrite \
      union all select 'pg_constraint'::regclass, oid, case when conrelid <> 0 then 'pg_class'::regclass else 'pg_type'::regclass end, case when conrelid <> 0 then conrelid else contypid end from pg_catalog.pg_constraint where contype <> 'f' \
      union all select 'pg_type'::regclass, oid, 'pg_class'::regclass, typrelid from pg_catalog.pg_type where typrelid <> 0 \
      union all select 'pg_type'::regclass, t.oid, case when e.typrelid <> 0 then 'pg_class'::regclass else 'pg_type'::regclass end, case when e.typrelid <> 0 then e.typrelid else e.oid end from pg_catalog.pg_type t join pg_catalog.pg_type e on e.oid = t.typelem and e.typarray = t.oid) \
    select distinct coalesce(a.nc, d.classid)::regclass::text, coalesce(a.no, d.objid), coalesce(b.nc, d.refclassid)::regclass::text, coalesce(b.no, d.refobjid) \
    from pg_catalog.pg_depend d left join who a on a.c = d.classid and a.o = d.objid left join who b on b.c = d.refclassid and b.o = d.refobjid \
    where d.deptype in ('n', 'a', 'i') and d.refobjid >= 16384 and not (d.classid = 'pg_class'::regclass and d.refclassid = 'pg_class'::regclass and d.refobjsubid <> 0)";

/// Puts pieces in an order in which what is needed comes before what needs it; a circle keeps the order given.
fn in_order(pieces: Vec<Piece>, needs: &Rows) -> Vec<String> {
    let place: HashMap<&Key, usize> = pieces
        .iter()
        .enumerate()
        .map(|(at, p)| (&p.key, at))
        .collect();
    let mut wants: Vec<Vec<usize>> = vec![Vec::new(); pieces.len()];
    for row in needs {
        let key = |at: usize| {
            (
                text(&row[at]).trim_start_matches("pg_catalog.").to_string(),
                text(&row[at + 1]).to_string(),
            )
        };
        if let (Some(from), Some(to)) = (place.get(&key(0)), place.get(&key(2)))
            && from != to
        {
            wants[*from].push(*to);
        }
    }
    let mut order = Vec::with_capacity(pieces.len());
    let mut done = HashSet::new();
    for start in 0..pieces.len() {
        // Depth first, with a stack of its own: chains of views can be long.
        let mut stack = vec![(start, 0_usize)];
        let mut under_way = HashSet::from([start]);
        while let Some((at, next)) = stack.pop() {
            if done.contains(&at) {
                continue;
            }
            match wants[at].get(next) {
                Some(&other) => {
                    stack.push((at, next + 1));
                    if !done.contains(&other) && under_way.insert(other) {
                        stack.push((other, 0));
                    }
                }
                None => {
                    done.insert(at);
                    order.push(at);
                }
            }
        }
    }
    order
        .into_iter()
        .map(|at| pieces[at].text.clone())
        .collect()
}

fn all(d: &Definer<'_>) -> Result<Vec<String>, EngineError> {
    let mut list = Vec::new();
    for row in d.whole(&format!("select n.nspname, s.description from pg_catalog.pg_namespace n left join pg_catalog.pg_description s on s.classoid = 'pg_namespace'::regclass and s.objoid = n.oid where {} and n.nspname !~ '^pg_' order by 1", own("pg_namespace", "n.oid")))? {
        let name = POSTGRES.quote_name(text(&row[0]));
        if text(&row[0]) != "public" {
            list.push(format!("create schema {name};"));
            if let Some(comment) = &row[1] {
                list.push(format!("comment on schema {name} is {};", POSTGRES.quote_text(comment)));
            }
        }
    }
    for row in d.whole("select e.extname, n.nspname from pg_catalog.pg_extension e join pg_catalog.pg_namespace n on n.oid = e.extnamespace where e.extname <> 'plpgsql' order by 1")? {
        list.push(format!("create extension if not exists {} with schema {};", POSTGRES.quote_name(text(&row[0])), POSTGRES.quote_name(text(&row[1]))));
    }
    let mut owned = Vec::new();
    let apart = d.only.is_none();
    let mut pieces = types(d)?;
    if apart {
        pieces.extend(super::apart::pieces(d.of)?);
    }
    pieces.extend(sequences(d, &mut owned)?);
    pieces.extend(routines(d)?);
    pieces.extend(tables(d)?);
    pieces.extend(views(d)?);
    let needs = d.whole(NEEDS)?;
    list.extend(in_order(pieces, &needs));
    list.extend(owned);
    list.extend(afterwards(d)?);
    if apart {
        list.extend(super::apart::last(d.of)?);
    }
    Ok(list)
}

/// The statements that make everything again in an empty database, in an order that works there. Names are
/// written with their schemas, so that no search path matters.
pub(super) fn script(of: &Postgres) -> Result<String, EngineError> {
    let path = of.ask("select current_setting('search_path')")?;
    let path = path
        .into_iter()
        .flatten()
        .flatten()
        .next()
        .unwrap_or_default();
    of.ask("select set_config('search_path', '', false)")?;
    let made = all(&Definer { of, only: None });
    of.ask(&format!(
        "select set_config('search_path', {}, false)",
        POSTGRES.quote_text(&path)
    ))?;
    let mut text = String::new();
    let made = made?;
    if made.iter().any(|statement| {
        statement
            .to_ascii_lowercase()
            .starts_with("create or replace function")
    }) {
        // A body may name what is made only after it.
        text.push_str("set check_function_bodies = off;\n\n");
    }
    text.push_str(&made.join("\n\n"));
    Ok(text)
}

/// Finds the statements that make one object again.
pub(super) fn define(of: &Postgres, object: &mut Object) -> Result<(), EngineError> {
    if object.definition.is_some() {
        return Ok(());
    }
    if object.kind == Kind::Extension {
        object.definition = Some(format!(
            "create extension {} with schema {};",
            POSTGRES.quote_name(&object.name),
            POSTGRES.quote_name(&object.schema)
        ));
        return Ok(());
    }
    let (schema, plain) = (
        POSTGRES.quote_text(&object.schema),
        POSTGRES.quote_text(&object.name),
    );
    let (table, prefix) = match object.kind {
        Kind::Function | Kind::Procedure => ("proc", "pro"),
        Kind::Type => ("type", "typ"),
        _ => ("class", "rel"),
    };
    let mut sql = format!(
        "select o.oid from pg_catalog.pg_{table} o join pg_catalog.pg_namespace n on n.oid = o.{prefix}namespace where n.nspname = {schema} and o.{prefix}name = {plain}"
    );
    if object.kind.is_routine() {
        write!(
            sql,
            " and pg_get_function_identity_arguments(o.oid) = {}",
            POSTGRES.quote_text(&object.signature)
        )
        .unwrap_or_default();
    }
    let found = of.ask(&sql)?.into_iter().flatten().flatten().next();
    let Some(oid) = found else {
        return Ok(());
    };
    let made = all(&Definer {
        of,
        only: Some((object.kind, oid)),
    })?;
    object.definition = Some(made.join("\n"));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_needed_comes_first_and_circles_end() {
        let piece = |oid: &str| Piece {
            key: ("pg_class".into(), oid.into()),
            text: oid.to_string(),
        };
        let needs: Rows = [
            ("1", "2"),
            ("2", "3"),
            ("4", "5"),
            ("5", "4"),
            ("3", "9"),
            ("1", "1"),
        ]
        .iter()
        .map(|(from, to)| {
            let class = Some("pg_class".to_string());
            [
                class.clone(),
                Some(from.to_string()),
                class,
                Some(to.to_string()),
            ]
            .into_iter()
            .collect()
        })
        .collect();
        let pieces = ["1", "2", "3", "4", "5"].map(piece).into_iter().collect();
        let order = in_order(pieces, &needs);
        assert_eq!(order[..3], ["3", "2", "1"]);
        assert_eq!(order.len(), 5, "each is made once: {order:?}");
        // A chain as long as no stack of calls would bear.
        let long = (0..50_000).map(|n| piece(&n.to_string())).collect();
        let chain: Rows = (0..49_999)
            .map(|n: u32| {
                let class = Some("pg_class".to_string());
                [
                    class.clone(),
                    Some(n.to_string()),
                    class,
                    Some((n + 1).to_string()),
                ]
                .into_iter()
                .collect()
            })
            .collect();
        assert_eq!(in_order(long, &chain)[0], "49999");
    }
}
