//! The views by which a database tells what is in it, kept as tables of the embedded database, and the types that columns
//! are declared with.

use idle_tide_tabular::TypeInfo;
use idle_tide_tabular::types::{ANY, id};

/// Makes an empty database.
pub(crate) const EMPTY: &str = r#"
create table "sys.schemas" (name text collate nocase, schema_id integer primary key, principal_id int);
insert into "sys.schemas" values ('dbo', 1, 1), ('guest', 2, 2), ('INFORMATION_SCHEMA', 3, 3), ('sys', 4, 4);
create table "sys.types" (name text collate nocase, system_type_id int, user_type_id int, schema_id int, max_length int, precision int, scale int,
  is_nullable bit_int, is_user_defined bit_int);
create table "sys.objects" (name text collate nocase, object_id integer primary key, principal_id int, schema_id int, parent_object_id int,
  type text collate nocase, type_desc text, create_date datetime_text, modify_date datetime_text, is_ms_shipped bit_int);
create view "sys.tables" as select * from "sys.objects" where type = 'U';
create view "sys.views" as select * from "sys.objects" where type = 'V';
create view "sys.procedures" as select * from "sys.objects" where type = 'P';
create view "sys.all_objects" as select * from "sys.objects";
create table "sys.columns" (object_id int, name text collate nocase, column_id int, system_type_id int, user_type_id int, max_length int,
  precision int, scale int, collation_name text, is_nullable bit_int, is_identity bit_int, is_computed bit_int, default_object_id int);
create table "sys.default_constraints" (object_id int, name text, parent_object_id int, parent_column_id int, definition text);
create table "sys.check_constraints" (object_id int, name text, parent_object_id int, parent_column_id int, definition text, is_disabled bit_int);
create table "sys.key_constraints" (object_id int, name text, parent_object_id int, type text, unique_index_id int);
create table "sys.indexes" (object_id int, name text, index_id int, type int, type_desc text, is_unique bit_int, is_primary_key bit_int,
  is_unique_constraint bit_int, has_filter bit_int, filter_definition text, is_disabled bit_int);
create table "sys.index_columns" (object_id int, index_id int, index_column_id int, column_id int, key_ordinal int, is_descending_key bit_int, is_included_column bit_int);
create table "sys.foreign_keys" (object_id int, name text, parent_object_id int, referenced_object_id int, delete_referential_action_desc text,
  update_referential_action_desc text, is_disabled bit_int);
create table "sys.foreign_key_columns" (constraint_object_id int, constraint_column_id int, parent_object_id int, parent_column_id int,
  referenced_object_id int, referenced_column_id int);
create table "sys.sql_modules" (object_id int, definition text);
create table "sys.extended_properties" (class int, major_id int, minor_id int, name text, value sql_variant_blob);
create table "sys.partitions" (object_id int, index_id int, rows bigint);
create table "sys.synonyms" (name text, object_id int, schema_id int, base_object_name text);
create table "sys.sequences" (name text, object_id int, schema_id int, start_value sql_variant_blob, increment sql_variant_blob, minimum_value sql_variant_blob,
  maximum_value sql_variant_blob, current_value sql_variant_blob, is_cycling bit_int);
create table "sys.triggers" (name text, object_id int, parent_id int, is_disabled bit_int);
create table "sys.parameters" (object_id int, name text, parameter_id int, user_type_id int, max_length int, precision int, scale int, is_output bit_int);
create table "sys.database_principals" (name text collate nocase, principal_id int, type text, type_desc text, is_fixed_role bit_int);
insert into "sys.database_principals" values ('public', 0, 'R', 'DATABASE_ROLE', 0), ('dbo', 1, 'S', 'SQL_USER', 0), ('guest', 2, 'S', 'SQL_USER', 0), ('db_owner', 16384, 'R', 'DATABASE_ROLE', 1);
create table "sys.database_role_members" (role_principal_id int, member_principal_id int);
insert into "sys.database_role_members" values (16384, 1);
create table "sys.database_permissions" (class int, class_desc text, major_id int, minor_id int, grantee_principal_id int, grantor_principal_id int,
  permission_name text, state text, state_desc text);
create view "information_schema.tables" as select 'harbour' as TABLE_CATALOG, s.name as TABLE_SCHEMA, o.name as TABLE_NAME,
  case o.type when 'U' then 'BASE TABLE' else 'VIEW' end as TABLE_TYPE from "sys.objects" o join "sys.schemas" s on s.schema_id = o.schema_id where o.type in ('U', 'V');
create view "information_schema.columns" as select s.name as TABLE_SCHEMA, o.name as TABLE_NAME, c.name as COLUMN_NAME, c.column_id as ORDINAL_POSITION,
  case c.is_nullable when 1 then 'YES' else 'NO' end as IS_NULLABLE, t.name as DATA_TYPE
  from "sys.columns" c join "sys.objects" o on o.object_id = c.object_id join "sys.schemas" s on s.schema_id = o.schema_id join "sys.types" t on t.user_type_id = c.user_type_id;
"#;

/// A type of columns: its name, its byte in the protocol, its length in bytes (0: given), precision and scale (0: given).
struct Known {
    name: &'static str,
    number: i32,
    id: u8,
    length: u32,
    precision: u8,
    scale: u8,
    /// What the embedded database stores it as.
    stored: &'static str,
}

const fn known(
    name: &'static str,
    number: i32,
    id: u8,
    length: u32,
    precision: u8,
    scale: u8,
    stored: &'static str,
) -> Known {
    Known {
        name,
        number,
        id,
        length,
        precision,
        scale,
        stored,
    }
}

const TYPES: &[Known] = &[
    known("bigint", 127, id::INTN, 8, 19, 0, "int"),
    known("int", 56, id::INTN, 4, 10, 0, "int"),
    known("smallint", 52, id::INTN, 2, 5, 0, "int"),
    known("tinyint", 48, id::INTN, 1, 3, 0, "int"),
    known("bit", 104, id::BITN, 1, 1, 0, "int"),
    known("float", 62, id::FLOATN, 8, 53, 0, "real"),
    known("real", 59, id::FLOATN, 4, 24, 0, "real"),
    known("decimal", 106, id::DECIMAL, 17, 18, 0, "text"),
    known("numeric", 108, id::NUMERIC, 17, 18, 0, "text"),
    known("money", 60, id::MONEYN, 8, 19, 4, "text"),
    known("smallmoney", 122, id::MONEYN, 4, 10, 4, "text"),
    known("date", 40, id::DATE, 3, 10, 0, "text"),
    known("time", 41, id::TIME, 5, 16, 7, "text"),
    known("datetime2", 42, id::DATETIME2, 8, 27, 7, "text"),
    known("datetimeoffset", 43, id::DATETIMEOFFSET, 10, 34, 7, "text"),
    known("datetime", 61, id::DATETIMEN, 8, 23, 3, "text"),
    known("smalldatetime", 58, id::DATETIMEN, 4, 16, 0, "text"),
    known("uniqueidentifier", 36, id::GUID, 16, 0, 0, "text"),
    known("varchar", 167, id::VARCHAR, 0, 0, 0, "text"),
    known("char", 175, id::CHAR, 0, 0, 0, "text"),
    known("nvarchar", 231, id::NVARCHAR, 0, 0, 0, "text"),
    known("nchar", 239, id::NCHAR, 0, 0, 0, "text"),
    known("text", 35, id::TEXT, 1 << 30, 0, 0, "text"),
    known("ntext", 99, id::NTEXT, 1 << 30, 0, 0, "text"),
    known("varbinary", 165, id::VARBINARY, 0, 0, 0, "blob"),
    known("binary", 173, id::BINARY, 0, 0, 0, "blob"),
    known("image", 34, id::IMAGE, 1 << 30, 0, 0, "blob"),
    known("xml", 241, id::XML, ANY, 0, 0, "text"),
    known("sql_variant", 98, id::VARIANT, 8016, 0, 0, "blob"),
];

/// A type that a statement writes.
#[derive(Debug, Clone)]
pub(crate) struct Declared {
    /// What the protocol says of it.
    pub(crate) info: TypeInfo,
    /// Its number in the system's views.
    pub(crate) number: i32,
    /// How the embedded database is to store it; the words lead back to the type.
    pub(crate) stored: String,
    /// Whether its values are numbers of any size, kept as text.
    pub(crate) exact: bool,
}

/// What fills the view of types.
pub(crate) fn types() -> String {
    let rows = TYPES.iter().map(|known| {
        format!(
            "('{}', {n}, {n}, 4, {}, {}, {}, 1, 0)",
            known.name,
            if known.length == 0 {
                8000
            } else {
                known.length
            },
            known.precision,
            known.scale,
            n = known.number
        )
    });
    format!(
        "insert into \"sys.types\" values {}",
        rows.collect::<Vec<_>>().join(", ")
    )
}

/// A type out of words like `decimal(9,2)` or `nvarchar(max)`, also as the embedded database keeps them.
pub(crate) fn declared(words: &str) -> Option<Declared> {
    let words = words.trim().to_lowercase().replace(['[', ']', '"'], "");
    let (name, arguments) = match words.split_once('(') {
        Some((name, rest)) => (name.trim(), rest.trim_end().trim_end_matches(')')),
        None => (words.as_str(), ""),
    };
    let (name, is_max) = match name.strip_suffix("_max") {
        Some(name) => (name, true),
        None => (name, arguments.trim() == "max"),
    };
    let name = name
        .trim_end_matches("_text")
        .trim_end_matches("_blob")
        .trim_end_matches("_int")
        .trim_end_matches("_real");
    let name = match name {
        "integer" => "int",
        "dec" => "decimal",
        "double precision" => "float",
        "rowversion" | "timestamp" => "binary",
        "sysname" => return declared("nvarchar(128)"),
        "character varying" => "varchar",
        other => other,
    };
    let known = TYPES.iter().find(|known| known.name == name)?;
    let numbers: Vec<u32> = arguments
        .split(',')
        .filter_map(|n| n.trim().parse().ok())
        .collect();
    let mut info = TypeInfo::of(known.id, known.length);
    (info.precision, info.scale) = (known.precision, known.scale);
    let exact = matches!(known.id, id::DECIMAL | id::NUMERIC | id::MONEYN);
    let mut spelled = known.name.to_string();
    match known.id {
        id::DECIMAL | id::NUMERIC => {
            if let Some(precision) = numbers.first() {
                info.precision = (*precision).min(38) as u8;
                info.scale = numbers.get(1).copied().unwrap_or(0).min(38) as u8;
            }
            spelled = format!("{}_text({},{})", known.name, info.precision, info.scale);
        }
        id::TIME | id::DATETIME2 | id::DATETIMEOFFSET => {
            if let Some(scale) = numbers.first() {
                info.scale = (*scale).min(7) as u8;
            }
            spelled = format!("{}_text({})", known.name, info.scale);
        }
        id::VARCHAR | id::CHAR | id::NVARCHAR | id::NCHAR | id::VARBINARY | id::BINARY => {
            let unit = if matches!(known.id, id::NVARCHAR | id::NCHAR) {
                2
            } else {
                1
            };
            let count = numbers.first().copied().unwrap_or(
                if name == "binary" && words.contains("stamp") {
                    8
                } else {
                    1
                },
            );
            info.length = if is_max { ANY } else { count * unit };
            spelled = match is_max {
                true => format!("{}_{}_max", known.name, known.stored),
                false => format!("{}_{}({count})", known.name, known.stored),
            };
        }
        _ if known.stored != known.name => spelled = format!("{}_{}", known.name, known.stored),
        _ => {}
    }
    Some(Declared {
        info,
        number: known.number,
        stored: spelled,
        exact,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_type_is_found_again_in_how_it_is_stored() {
        for words in [
            "int",
            "bigint",
            "bit",
            "decimal(9,2)",
            "money",
            "date",
            "datetime2(3)",
            "nvarchar(50)",
            "nvarchar(max)",
            "varbinary(max)",
            "varbinary(8)",
            "uniqueidentifier",
            "xml",
            "sql_variant",
            "float",
            "real",
            "smalldatetime",
            "text",
        ] {
            let first = declared(words).unwrap_or_else(|| panic!("{words}"));
            let again = declared(&first.stored).unwrap_or_else(|| panic!("{}", first.stored));
            assert_eq!(first.info, again.info, "{words}: {}", first.stored);
            assert_eq!(first.info.words(), words);
        }
        assert!(declared("no_such_type").is_none());
    }
}
