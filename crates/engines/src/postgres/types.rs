//! Types by their object identifiers: how their text is read, and their names as a declaration has them.
//! What is not built in is asked of the server once and remembered.

use std::collections::HashMap;

use tokio_postgres::types::Type;

use crate::served::Reading;

/// How values of this type arrive in the text format.
pub(super) fn reading(kind: u32) -> Reading {
    match Type::from_oid(kind) {
        Some(Type::INT2 | Type::INT4 | Type::INT8 | Type::OID) => Reading::Integer,
        Some(Type::FLOAT4 | Type::FLOAT8) => Reading::Float,
        Some(Type::NUMERIC) => Reading::Number,
        Some(Type::BOOL) => Reading::Boolean,
        Some(Type::BYTEA) => Reading::HexBytes,
        _ => Reading::Text,
    }
}

/// The name of a type that is built in.
pub(super) fn built_in(kind: u32) -> Option<String> {
    let kind = Type::from_oid(kind)?;
    Some(match kind.name() {
        "int2" => "smallint".into(),
        "int4" => "integer".into(),
        "int8" => "bigint".into(),
        "float4" => "real".into(),
        "float8" => "double precision".into(),
        "bool" => "boolean".into(),
        "bpchar" => "character".into(),
        "varchar" => "character varying".into(),
        "timetz" => "time with time zone".into(),
        "timestamptz" => "timestamp with time zone".into(),
        name => match name.strip_prefix('_') {
            Some(_) => match kind.kind() {
                tokio_postgres::types::Kind::Array(of) => {
                    format!(
                        "{}[]",
                        built_in(of.oid()).unwrap_or_else(|| of.name().into())
                    )
                }
                _ => name.into(),
            },
            None => name.into(),
        },
    })
}

/// A type's name with what was said in brackets.
pub(super) fn named(kind: u32, modifier: i32, own: &HashMap<u32, String>) -> String {
    let Some(name) = built_in(kind) else {
        return own.get(&kind).cloned().unwrap_or_default();
    };
    if modifier < 0 {
        return name;
    }
    match Type::from_oid(kind) {
        Some(Type::VARCHAR | Type::BPCHAR) => format!("{name}({})", modifier - 4),
        Some(Type::NUMERIC) => {
            let (precision, scale) = ((modifier - 4) >> 16, (modifier - 4) & 0x7ff);
            format!("{name}({precision},{scale})")
        }
        Some(Type::BIT | Type::VARBIT) => format!("{name}({modifier})"),
        _ => name,
    }
}
