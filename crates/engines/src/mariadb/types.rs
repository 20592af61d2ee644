//! Columns of a result as the server describes them: how their text is read, and the type in the words of a
//! declaration, as far as the protocol tells it.

use idle_tide_core::Column;
use mysql_async::consts::{ColumnFlags, ColumnType as T};

use crate::served::Reading;

/// The character set that stands for bytes.
const BYTES: u16 = 63;

/// How a value is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum How {
    /// As other families do.
    As(Reading),
    /// So many bits.
    Bits(u32),
    /// Numbers of four bytes each, as a list.
    Vector,
}

/// How the values of a column are read.
pub(super) fn how(column: &mysql_async::Column) -> How {
    let bytes = column.character_set() == BYTES;
    How::As(match column.column_type() {
        T::MYSQL_TYPE_TINY
        | T::MYSQL_TYPE_SHORT
        | T::MYSQL_TYPE_LONG
        | T::MYSQL_TYPE_LONGLONG
        | T::MYSQL_TYPE_INT24
        | T::MYSQL_TYPE_YEAR => Reading::Integer,
        T::MYSQL_TYPE_FLOAT | T::MYSQL_TYPE_DOUBLE => Reading::Float,
        T::MYSQL_TYPE_DECIMAL | T::MYSQL_TYPE_NEWDECIMAL => Reading::Number,
        T::MYSQL_TYPE_BIT => return How::Bits(column.column_length()),
        T::MYSQL_TYPE_VECTOR => return How::Vector,
        T::MYSQL_TYPE_GEOMETRY => Reading::Bytes,
        T::MYSQL_TYPE_TINY_BLOB
        | T::MYSQL_TYPE_MEDIUM_BLOB
        | T::MYSQL_TYPE_LONG_BLOB
        | T::MYSQL_TYPE_BLOB
        | T::MYSQL_TYPE_VAR_STRING
        | T::MYSQL_TYPE_VARCHAR
        | T::MYSQL_TYPE_STRING
            if bytes =>
        {
            Reading::Bytes
        }
        _ => Reading::Text,
    })
}

fn declared(column: &mysql_async::Column) -> String {
    let flags = column.flags();
    let bytes = column.character_set() == BYTES;
    // Lengths of texts are told in bytes of up to four for each character.
    let characters = column.column_length() / if bytes { 1 } else { 4 };
    let or = |text: &str, binary: &str| {
        if bytes {
            binary.to_string()
        } else {
            text.to_string()
        }
    };
    let mut name = match column.column_type() {
        T::MYSQL_TYPE_TINY => "tinyint".into(),
        T::MYSQL_TYPE_SHORT => "smallint".into(),
        T::MYSQL_TYPE_INT24 => "mediumint".into(),
        T::MYSQL_TYPE_LONG => "int".into(),
        T::MYSQL_TYPE_LONGLONG => "bigint".into(),
        T::MYSQL_TYPE_FLOAT => "float".into(),
        T::MYSQL_TYPE_DOUBLE => "double".into(),
        T::MYSQL_TYPE_DECIMAL | T::MYSQL_TYPE_NEWDECIMAL => {
            let scale = u32::from(column.decimals());
            let signs =
                u32::from(scale > 0) + u32::from(!flags.contains(ColumnFlags::UNSIGNED_FLAG));
            format!(
                "decimal({},{scale})",
                column.column_length().saturating_sub(signs)
            )
        }
        T::MYSQL_TYPE_YEAR => "year".into(),
        T::MYSQL_TYPE_DATE | T::MYSQL_TYPE_NEWDATE => "date".into(),
        T::MYSQL_TYPE_TIME | T::MYSQL_TYPE_TIME2 => "time".into(),
        T::MYSQL_TYPE_DATETIME | T::MYSQL_TYPE_DATETIME2 => "datetime".into(),
        T::MYSQL_TYPE_TIMESTAMP | T::MYSQL_TYPE_TIMESTAMP2 => "timestamp".into(),
        T::MYSQL_TYPE_BIT => format!("bit({})", column.column_length()),
        T::MYSQL_TYPE_JSON => "json".into(),
        T::MYSQL_TYPE_VECTOR => format!("vector({})", column.column_length() / 4),
        T::MYSQL_TYPE_GEOMETRY => "geometry".into(),
        _ if flags.contains(ColumnFlags::ENUM_FLAG) => "enum".into(),
        _ if flags.contains(ColumnFlags::SET_FLAG) => "set".into(),
        T::MYSQL_TYPE_STRING => format!("{}({characters})", or("char", "binary")),
        T::MYSQL_TYPE_VARCHAR | T::MYSQL_TYPE_VAR_STRING => {
            format!("{}({characters})", or("varchar", "varbinary"))
        }
        // All of these come under one number; their sizes tell them apart (texts four times as large).
        T::MYSQL_TYPE_TINY_BLOB
        | T::MYSQL_TYPE_MEDIUM_BLOB
        | T::MYSQL_TYPE_LONG_BLOB
        | T::MYSQL_TYPE_BLOB => match column.column_length() {
            0..=1_020 => or("tinytext", "tinyblob"),
            1_021..=262_140 => or("text", "blob"),
            262_141..=67_108_860 => or("mediumtext", "mediumblob"),
            _ => or("longtext", "longblob"),
        },
        _ => String::new(),
    };
    let decimals = u32::from(column.decimals());
    if matches!(name.as_str(), "time" | "datetime" | "timestamp") && (1..=6).contains(&decimals) {
        name = format!("{name}({decimals})");
    }
    // Years, bits and moments have no sign either, and say so.
    let signed = matches!(
        column.column_type(),
        T::MYSQL_TYPE_TINY
            | T::MYSQL_TYPE_SHORT
            | T::MYSQL_TYPE_INT24
            | T::MYSQL_TYPE_LONG
            | T::MYSQL_TYPE_LONGLONG
            | T::MYSQL_TYPE_FLOAT
            | T::MYSQL_TYPE_DOUBLE
            | T::MYSQL_TYPE_DECIMAL
            | T::MYSQL_TYPE_NEWDECIMAL
    );
    if flags.contains(ColumnFlags::ZEROFILL_FLAG) && signed {
        name.push_str(" zerofill");
    } else if flags.contains(ColumnFlags::UNSIGNED_FLAG) && signed {
        name.push_str(" unsigned");
    }
    name
}

/// What the server says of a column.
pub(super) fn column(of: &mysql_async::Column) -> Column {
    let origin = (
        of.org_table_str().into_owned(),
        of.org_name_str().into_owned(),
    );
    let known = !origin.0.is_empty() && !origin.1.is_empty();
    let flags = of.flags();
    Column {
        name: of.name_str().into_owned(),
        declared: Some(declared(of)).filter(|declared| !declared.is_empty()),
        key: known && flags.contains(ColumnFlags::PRI_KEY_FLAG),
        optional: known.then(|| !flags.contains(ColumnFlags::NOT_NULL_FLAG)),
        origin: known.then_some(origin),
        path: None,
    }
}

/// The numbers of a vector (IEEE 754, four bytes each, the least first) as a list that the server reads back the same.
pub(super) fn vector(bytes: &[u8], out: &mut Vec<u8>) {
    let numbers = bytes.chunks_exact(4).map(|four| {
        let number = f32::from_le_bytes([four[0], four[1], four[2], four[3]]);
        format!("{number:?}").trim_end_matches(".0").to_string()
    });
    let list = numbers.collect::<Vec<_>>().join(", ");
    out.clear();
    out.extend_from_slice(format!("[{list}]").as_bytes());
}

/// Bits as digits, as many as the column has.
pub(super) fn bits(bytes: &[u8], count: u32, out: &mut Vec<u8>) {
    out.clear();
    for byte in bytes {
        for bit in (0..8).rev() {
            out.push(if byte >> bit & 1 == 1 { b'1' } else { b'0' });
        }
    }
    let extra = out.len().saturating_sub(count as usize);
    out.drain(..extra);
}
