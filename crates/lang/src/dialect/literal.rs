//! Values and types in the words of a dialect, so that what was read can be written again.

use std::fmt::Write as _;

use idle_tide_core::ValueRef;
use idle_tide_core::column_type::ColumnType;

use super::{Dialect, Family};

impl Dialect {
    /// A value as a literal of this dialect, which gives the same value when it is read there.
    pub fn literal(&self, value: ValueRef<'_>) -> String {
        let mut literal = String::new();
        self.write_literal(value, &mut literal);
        literal
    }

    /// The same behind what is there already; what most values are is written without a text of its own.
    pub fn write_literal(&self, value: ValueRef<'_>, into: &mut String) {
        let written = match value {
            ValueRef::Null | ValueRef::Missing => return into.push_str("null"),
            _ if self.is_flow() => value
                .to_datum()
                .map_or_else(|| "null".into(), |datum| crate::flow::literal(&datum)),
            ValueRef::Boolean(yes) if self.family == Family::Tabular => u8::from(yes).to_string(),
            ValueRef::Boolean(yes) => yes.to_string(),
            ValueRef::Integer(number) => {
                let _ = write!(into, "{number}");
                return;
            }
            ValueRef::Float(number) if number.is_finite() => {
                let _ = write!(into, "{number:?}");
                return;
            }
            ValueRef::Float(number) => match self.family {
                Family::Sqlite if number.is_nan() => "null".into(),
                Family::Sqlite if number > 0.0 => "9e999".into(),
                Family::Sqlite => "-9e999".into(),
                // It has none of these.
                Family::Tabular => "null".into(),
                _ if number.is_nan() => "'NaN'".into(),
                _ if number > 0.0 => "'Infinity'".into(),
                _ => "'-Infinity'".into(),
            },
            ValueRef::Bytes(bytes) => self.bytes_literal(bytes),
            ValueRef::Number(digits) if idle_tide_core::decimal::is_decimal(digits.as_bytes()) => {
                digits.to_string()
            }
            ValueRef::RawText(bytes) if self.family == Family::Sqlite => {
                format!("cast({} as text)", self.bytes_literal(bytes))
            }
            ValueRef::RawText(bytes) => self.bytes_literal(bytes),
            ValueRef::Text(text)
                if !text.bytes().any(|byte| matches!(byte, b'\'' | b'\\' | 0))
                    && text.is_ascii() =>
            {
                for part in ["'", text, "'"] {
                    into.push_str(part);
                }
                return;
            }
            // A literal ends at a NUL, or cannot hold one.
            ValueRef::Text(text) if text.contains('\0') => match self.family {
                Family::Sqlite => format!("cast({} as text)", self.bytes_literal(text.as_bytes())),
                Family::Tabular => {
                    let wide: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
                    format!("cast({} as nvarchar(max))", self.bytes_literal(&wide))
                }
                _ => format!("_utf8mb4 {}", self.bytes_literal(text.as_bytes())),
            },
            ValueRef::Text(_) | ValueRef::Number(_) | ValueRef::Bson(..) => {
                self.quote_text(&value.plain())
            }
        };
        into.push_str(&written);
    }

    fn bytes_literal(&self, bytes: &[u8]) -> String {
        let hex = ValueRef::Bytes(bytes).plain();
        match self.family {
            Family::Postgres => format!("'\\x{hex}'::bytea"),
            Family::Tabular => format!("0x{hex}"),
            _ => format!("x'{hex}'"),
        }
    }

    /// A type in the words of this dialect; `key` where it has to be one that an index takes.
    pub fn type_words(&self, of: ColumnType, key: bool) -> String {
        use ColumnType as T;
        use Family as F;
        let words = match (self.family, of) {
            // It would make binary numbers of what has more digits than these keep.
            (F::Sqlite, T::Decimal(16.., _)) => "text",
            (F::Sqlite, T::Decimal(..)) => "numeric",
            (F::Sqlite, T::Float) => "real",
            (F::Sqlite, T::Bytes) => "blob",
            (F::Sqlite, T::Moment | T::ZonedMoment) => "timestamp",
            (F::Sqlite, T::Uuid) => "text",
            (F::Postgres, T::Integer) => "bigint",
            (F::Postgres, T::Decimal(0, _)) => "numeric",
            (F::Postgres, T::Float) => "double precision",
            (F::Postgres, T::Bytes) => "bytea",
            (F::Postgres, T::Json) => "jsonb",
            (F::Tabular, T::Boolean) => "bit",
            (F::Tabular, T::Integer) => "bigint",
            (F::Tabular, T::Decimal(0, _)) => "decimal(38,10)",
            (F::Tabular, T::Float) => "float",
            (F::Tabular, T::Time) => "time(7)",
            (F::Tabular, T::Moment) => "datetime2(7)",
            (F::Tabular, T::ZonedMoment) => "datetimeoffset(7)",
            (F::Tabular, T::Uuid) => "uniqueidentifier",
            (F::Tabular, T::Bytes) if key => "varbinary(255)",
            (F::Tabular, T::Bytes) => "varbinary(max)",
            (F::Tabular, T::Text) if key => "nvarchar(255)",
            (F::Tabular, T::Text | T::Json) => "nvarchar(max)",
            (F::Mariadb, T::Integer) => "bigint",
            (F::Mariadb, T::Decimal(0, _)) => "decimal(38,10)",
            (F::Mariadb, T::Float) => "double",
            (F::Mariadb, T::Time) => "time(6)",
            // What has an offset is stored as the moment it is, without it.
            (F::Mariadb, T::Moment | T::ZonedMoment) => "datetime(6)",
            (F::Mariadb, T::Uuid) => "char(36)",
            (F::Mariadb, T::Bytes) if key => "varbinary(255)",
            (F::Mariadb, T::Bytes) => "longblob",
            (F::Mariadb, T::Text) if key => "varchar(255)",
            (F::Mariadb, T::Text) => "longtext",
            (_, T::Decimal(digits, scale)) => return format!("numeric({digits},{scale})"),
            (_, other) => other.name(),
        };
        words.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::super::{FLOW, MARIADB, POSTGRES, SQLITE, TABULAR};
    use super::*;

    #[test]
    fn every_value_has_a_literal() {
        let bytes = ValueRef::Bytes(&[0, 255]);
        assert_eq!(POSTGRES.literal(bytes), "'\\x00ff'::bytea");
        assert_eq!(MARIADB.literal(bytes), "x'00ff'");
        assert_eq!(SQLITE.literal(ValueRef::Float(0.1)), "0.1");
        assert_eq!(SQLITE.literal(ValueRef::Float(f64::INFINITY)), "9e999");
        assert_eq!(POSTGRES.literal(ValueRef::Float(f64::NAN)), "'NaN'");
        assert_eq!(MARIADB.literal(ValueRef::Text("a\\'b")), "'a\\\\''b'");
        assert_eq!(
            SQLITE.literal(ValueRef::Text("a\0b")),
            "cast(x'610062' as text)"
        );
        assert_eq!(POSTGRES.literal(ValueRef::Number("NaN")), "'NaN'");
        assert_eq!(MARIADB.literal(ValueRef::Number("-1.50")), "-1.50");
        assert_eq!(FLOW.literal(ValueRef::Text("a")), "'a'");
        assert_eq!(TABULAR.literal(bytes), "0x00ff");
        assert_eq!(TABULAR.literal(ValueRef::Boolean(true)), "1");
        assert_eq!(TABULAR.literal(ValueRef::Text("Ω'")), "N'Ω'''");
    }

    #[test]
    fn every_type_has_words() {
        let decimal = ColumnType::Decimal(12, 2);
        assert_eq!(POSTGRES.type_words(decimal, false), "numeric(12,2)");
        assert_eq!(SQLITE.type_words(decimal, false), "numeric");
        assert_eq!(MARIADB.type_words(ColumnType::Text, true), "varchar(255)");
        assert_eq!(POSTGRES.type_words(ColumnType::Moment, false), "timestamp");
    }
}
