//! Types: how a column says what it is (MS-TDS 2.2.5.6), and how long its values are.

use crate::take::{Malformed, Take, put_long_text, put_short_text, wrong};

/// The bytes by which types are named.
#[allow(missing_docs)]
pub mod id {
    pub const NULL: u8 = 0x1f;
    pub const TINYINT: u8 = 0x30;
    pub const BIT: u8 = 0x32;
    pub const SMALLINT: u8 = 0x34;
    pub const INT: u8 = 0x38;
    pub const SMALLDATETIME: u8 = 0x3a;
    pub const REAL: u8 = 0x3b;
    pub const MONEY: u8 = 0x3c;
    pub const DATETIME: u8 = 0x3d;
    pub const FLOAT: u8 = 0x3e;
    pub const SMALLMONEY: u8 = 0x7a;
    pub const BIGINT: u8 = 0x7f;
    pub const GUID: u8 = 0x24;
    pub const INTN: u8 = 0x26;
    pub const DATE: u8 = 0x28;
    pub const TIME: u8 = 0x29;
    pub const DATETIME2: u8 = 0x2a;
    pub const DATETIMEOFFSET: u8 = 0x2b;
    pub const BITN: u8 = 0x68;
    pub const DECIMAL: u8 = 0x6a;
    pub const NUMERIC: u8 = 0x6c;
    pub const FLOATN: u8 = 0x6d;
    pub const MONEYN: u8 = 0x6e;
    pub const DATETIMEN: u8 = 0x6f;
    pub const VARBINARY: u8 = 0xa5;
    pub const VARCHAR: u8 = 0xa7;
    pub const BINARY: u8 = 0xad;
    pub const CHAR: u8 = 0xaf;
    pub const NVARCHAR: u8 = 0xe7;
    pub const NCHAR: u8 = 0xef;
    pub const IMAGE: u8 = 0x22;
    pub const TEXT: u8 = 0x23;
    pub const NTEXT: u8 = 0x63;
    pub const VARIANT: u8 = 0x62;
    pub const UDT: u8 = 0xf0;
    pub const XML: u8 = 0xf1;
    pub const JSON: u8 = 0xf4;
}

/// The collation that the stand-in's texts have: Latin letters, without regard to case.
pub const LATIN: [u8; 5] = [0x09, 0x04, 0xd0, 0x00, 0x34];

/// The length that stands for any.
pub const ANY: u32 = 0xffff;

/// A type with what belongs to it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TypeInfo {
    /// One of [`id`].
    pub id: u8,
    /// The longest value in bytes; [`ANY`] where there is no limit.
    pub length: u32,
    /// Digits of a decimal.
    pub precision: u8,
    /// Those behind its point; or digits behind a second.
    pub scale: u8,
    /// The collation of a text.
    pub collation: [u8; 5],
    /// The name of a type that somebody made.
    pub name: String,
}

/// Where the length of a value stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Layout {
    /// Nowhere: it is always this.
    Fixed(usize),
    /// In a byte; 0 is null.
    Byte,
    /// In two bytes; the highest is null.
    Two,
    /// In four bytes; 0 is null.
    Four,
    /// In parts (`PARTLENTYPE`).
    Parts,
    /// Behind a pointer and a stamp, in four bytes.
    Pointer,
}

impl TypeInfo {
    /// A type whose name says all.
    pub fn of(id: u8, length: u32) -> Self {
        TypeInfo {
            id,
            length,
            precision: 0,
            scale: 0,
            collation: if has_collation(id) { LATIN } else { [0; 5] },
            name: String::new(),
        }
    }

    /// A decimal.
    pub fn decimal(precision: u8, scale: u8) -> Self {
        TypeInfo {
            precision,
            scale,
            ..Self::of(id::DECIMAL, 17)
        }
    }

    /// A type of times, with so many digits behind a second.
    pub fn scaled(id: u8, scale: u8) -> Self {
        TypeInfo {
            scale,
            ..Self::of(id, 0)
        }
    }

    /// Where the length of its values stands.
    pub fn layout(&self) -> Layout {
        match self.id {
            id::NULL => Layout::Fixed(0),
            id::TINYINT | id::BIT => Layout::Fixed(1),
            id::SMALLINT => Layout::Fixed(2),
            id::INT | id::SMALLDATETIME | id::REAL | id::SMALLMONEY => Layout::Fixed(4),
            id::MONEY | id::DATETIME | id::FLOAT | id::BIGINT => Layout::Fixed(8),
            id::VARBINARY | id::VARCHAR | id::NVARCHAR if self.length == ANY => Layout::Parts,
            id::VARBINARY | id::VARCHAR | id::BINARY | id::CHAR | id::NVARCHAR | id::NCHAR => {
                Layout::Two
            }
            id::IMAGE | id::TEXT | id::NTEXT => Layout::Pointer,
            id::VARIANT => Layout::Four,
            id::UDT | id::XML | id::JSON => Layout::Parts,
            _ => Layout::Byte,
        }
    }

    /// The type as a statement writes it.
    pub fn words(&self) -> String {
        let sized = |name: &str, unit: u32| match self.length {
            ANY => format!("{name}(max)"),
            length => format!("{name}({})", length / unit),
        };
        let by_length = |names: [&str; 4]| {
            let at = self.length.max(1).trailing_zeros().min(3) as usize;
            names[at].to_string()
        };
        match self.id {
            id::NULL => "null".into(),
            id::TINYINT => "tinyint".into(),
            id::BIT | id::BITN => "bit".into(),
            id::SMALLINT => "smallint".into(),
            id::INT => "int".into(),
            id::SMALLDATETIME => "smalldatetime".into(),
            id::REAL => "real".into(),
            id::MONEY => "money".into(),
            id::DATETIME => "datetime".into(),
            id::FLOAT => "float".into(),
            id::SMALLMONEY => "smallmoney".into(),
            id::BIGINT => "bigint".into(),
            id::GUID => "uniqueidentifier".into(),
            id::INTN => by_length(["tinyint", "smallint", "int", "bigint"]),
            id::FLOATN => by_length(["float", "float", "real", "float"]),
            id::MONEYN => by_length(["money", "money", "smallmoney", "money"]),
            id::DATETIMEN => by_length(["datetime", "datetime", "smalldatetime", "datetime"]),
            id::DATE => "date".into(),
            id::TIME => format!("time({})", self.scale),
            id::DATETIME2 => format!("datetime2({})", self.scale),
            id::DATETIMEOFFSET => format!("datetimeoffset({})", self.scale),
            id::DECIMAL => format!("decimal({},{})", self.precision, self.scale),
            id::NUMERIC => format!("numeric({},{})", self.precision, self.scale),
            id::VARBINARY => sized("varbinary", 1),
            id::BINARY => sized("binary", 1),
            id::VARCHAR => sized("varchar", 1),
            id::CHAR => sized("char", 1),
            id::NVARCHAR => sized("nvarchar", 2),
            id::NCHAR => sized("nchar", 2),
            id::IMAGE => "image".into(),
            id::TEXT => "text".into(),
            id::NTEXT => "ntext".into(),
            id::VARIANT => "sql_variant".into(),
            id::XML => "xml".into(),
            id::JSON => "json".into(),
            id::UDT if !self.name.is_empty() => self.name.clone(),
            other => format!("type {other:#04x}"),
        }
    }

    /// Reads a type.
    ///
    /// # Errors
    /// If it is not known: then the length of its values is not known either.
    pub fn decode(take: &mut Take<'_>) -> Result<Self, Malformed> {
        let of = take.u8()?;
        let mut info = TypeInfo {
            collation: [0; 5],
            ..Self::of(of, 0)
        };
        let collation = |take: &mut Take<'_>| -> Result<[u8; 5], Malformed> {
            let bytes = take.slice(5)?;
            Ok([bytes[0], bytes[1], bytes[2], bytes[3], bytes[4]])
        };
        match of {
            id::NULL
            | id::TINYINT
            | id::BIT
            | id::SMALLINT
            | id::INT
            | id::SMALLDATETIME
            | id::REAL
            | id::MONEY
            | id::DATETIME
            | id::FLOAT
            | id::SMALLMONEY
            | id::BIGINT
            | id::DATE => {}
            id::GUID | id::INTN | id::BITN | id::FLOATN | id::MONEYN | id::DATETIMEN => {
                info.length = u32::from(take.u8()?);
            }
            id::TIME | id::DATETIME2 | id::DATETIMEOFFSET => {
                info.scale = take.u8()?;
                if info.scale > 7 {
                    return wrong(format!(
                        "a time with {} digits behind the second",
                        info.scale
                    ));
                }
            }
            id::DECIMAL | id::NUMERIC => {
                info.length = u32::from(take.u8()?);
                info.precision = take.u8()?;
                info.scale = take.u8()?;
                if info.precision > 38 || info.scale > info.precision {
                    return wrong(format!(
                        "a decimal of {} digits, {} behind its point",
                        info.precision, info.scale
                    ));
                }
            }
            id::VARBINARY | id::BINARY => info.length = u32::from(take.u16()?),
            id::VARCHAR | id::CHAR | id::NVARCHAR | id::NCHAR => {
                info.length = u32::from(take.u16()?);
                info.collation = collation(take)?;
            }
            id::IMAGE | id::VARIANT => info.length = take.u32()?,
            id::TEXT | id::NTEXT => {
                info.length = take.u32()?;
                info.collation = collation(take)?;
            }
            id::XML => {
                if take.u8()? == 1 {
                    take.short_text()?;
                    take.short_text()?;
                    take.long_text()?;
                }
            }
            id::JSON => {}
            id::UDT => {
                info.length = u32::from(take.u16()?);
                take.short_text()?;
                take.short_text()?;
                info.name = take.short_text()?;
                take.long_text()?;
            }
            other => return wrong(format!("a type {other:#04x}, which is not known")),
        }
        Ok(info)
    }

    /// Appends the type.
    pub fn encode(&self, out: &mut Vec<u8>) {
        out.push(self.id);
        match self.id {
            id::GUID | id::INTN | id::BITN | id::FLOATN | id::MONEYN | id::DATETIMEN => {
                out.push(self.length as u8);
            }
            id::TIME | id::DATETIME2 | id::DATETIMEOFFSET => out.push(self.scale),
            id::DECIMAL | id::NUMERIC => out.extend([17, self.precision, self.scale]),
            id::VARBINARY | id::BINARY => out.extend((self.length as u16).to_le_bytes()),
            id::VARCHAR | id::CHAR | id::NVARCHAR | id::NCHAR => {
                out.extend((self.length as u16).to_le_bytes());
                out.extend(self.collation);
            }
            id::IMAGE | id::VARIANT => out.extend(self.length.to_le_bytes()),
            id::TEXT | id::NTEXT => {
                out.extend(self.length.to_le_bytes());
                out.extend(self.collation);
            }
            id::XML => out.push(0),
            id::UDT => {
                out.extend((self.length as u16).to_le_bytes());
                for text in ["", "", &self.name] {
                    put_short_text(text, out);
                }
                put_long_text("", out);
            }
            _ => {}
        }
    }
}

fn has_collation(of: u8) -> bool {
    matches!(
        of,
        id::VARCHAR | id::CHAR | id::NVARCHAR | id::NCHAR | id::TEXT | id::NTEXT
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_type_is_read_as_it_was_written_and_has_its_words() {
        let types = [
            (TypeInfo::of(id::INTN, 8), "bigint"),
            (TypeInfo::of(id::INTN, 1), "tinyint"),
            (TypeInfo::of(id::FLOATN, 4), "real"),
            (TypeInfo::of(id::MONEYN, 4), "smallmoney"),
            (TypeInfo::of(id::DATETIMEN, 8), "datetime"),
            (TypeInfo::of(id::NVARCHAR, 100), "nvarchar(50)"),
            (TypeInfo::of(id::NVARCHAR, ANY), "nvarchar(max)"),
            (TypeInfo::of(id::VARBINARY, 16), "varbinary(16)"),
            (TypeInfo::of(id::VARIANT, 8009), "sql_variant"),
            (TypeInfo::of(id::XML, 0), "xml"),
            (TypeInfo::decimal(38, 4), "decimal(38,4)"),
            (TypeInfo::scaled(id::DATETIMEOFFSET, 7), "datetimeoffset(7)"),
            (TypeInfo::of(id::TEXT, 1 << 30), "text"),
        ];
        for (info, words) in types {
            let mut bytes = Vec::new();
            info.encode(&mut bytes);
            let mut take = Take::new(&bytes);
            let mut read = TypeInfo::decode(&mut take).unwrap();
            assert_eq!((take.left(), read.words().as_str()), (0, words));
            read.length = info.length;
            assert_eq!(read, info);
        }
        assert!(TypeInfo::decode(&mut Take::new(&[0x99])).is_err());
        assert!(TypeInfo::decode(&mut Take::new(&[id::DECIMAL, 17, 60, 2])).is_err());
    }
}
