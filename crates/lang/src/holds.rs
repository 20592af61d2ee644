//! What a declared type can hold, in a few words: the range of a number, the length of a text, the span of
//! a date. From the servers' manuals; a type of which nothing certain can be said gives nothing.

use crate::dialect::Family;

/// The numbers of an integer type of so many bits, as the words of a range.
fn integer(bits: u32, unsigned: bool) -> String {
    let grouped = |number: u64| {
        let digits = number.to_string();
        let mut text = String::new();
        for (at, digit) in digits.chars().enumerate() {
            if at > 0 && (digits.len() - at).is_multiple_of(3) {
                text.push('\u{a0}');
            }
            text.push(digit);
        }
        text
    };
    let most = u64::MAX >> (64 - bits);
    if unsigned {
        format!("0 to {}", grouped(most))
    } else {
        format!("−{} to {}", grouped(most / 2 + 1), grouped(most / 2))
    }
}

/// The numbers in the brackets of a type.
fn arguments(declared: &str) -> Vec<u32> {
    let inside = declared
        .split_once('(')
        .and_then(|(_, rest)| rest.split_once(')'));
    inside.map_or(Vec::new(), |(inside, _)| {
        inside
            .split(',')
            .filter_map(|n| n.trim().parse().ok())
            .collect()
    })
}

/// What a column declared so can hold.
pub fn holds(declared: &str, family: Family) -> Option<String> {
    let lower = declared.to_ascii_lowercase();
    let word = lower.split(['(', ' ']).next().unwrap_or_default();
    let numbers = arguments(&lower);
    let unsigned = lower.contains("unsigned");
    if family == Family::Sqlite && !lower.is_empty() {
        // Declared types only lean on a value there; it is kept as it comes.
        return None;
    }
    let maria = family == Family::Mariadb;
    if family == Family::Tabular
        && let Some(words) = of_tabular(word, &lower, numbers.first().copied())
    {
        return Some(words);
    }
    let words = match word {
        "tinyint" if lower.starts_with("tinyint(1)") => "true or false, −128 to 127".into(),
        "tinyint" => integer(8, unsigned),
        "smallint" | "smallserial" => integer(16, unsigned),
        "mediumint" => integer(24, unsigned),
        "int" | "integer" | "serial" => integer(32, unsigned),
        "bigint" | "bigserial" => integer(64, unsigned),
        "numeric" | "decimal" => match numbers[..] {
            [digits, after] if digits > after => format!(
                "up to {}{}{}",
                "9".repeat((digits - after) as usize),
                if after > 0 { "." } else { "" },
                "9".repeat(after as usize)
            ),
            [digits] => format!("up to {}", "9".repeat(digits as usize)),
            _ => return None,
        },
        "real" | "float" => "about 6 digits".into(),
        "double" => "about 15 digits".into(),
        "varchar" | "character" | "char" | "nchar" | "bpchar" => {
            let most = numbers.first()?;
            let fixed = !lower.contains("var");
            let word = if fixed { "always" } else { "up to" };
            format!(
                "{word} {most} {}",
                if *most == 1 {
                    "character"
                } else {
                    "characters"
                }
            )
        }
        "varbinary" => format!("up to {} bytes", numbers.first()?),
        "binary" => format!("always {} bytes", numbers.first()?),
        "tinytext" | "tinyblob" => "up to 255 bytes".into(),
        "text" | "blob" if maria => "up to 64 kB".into(),
        "mediumtext" | "mediumblob" => "up to 16 MB".into(),
        "longtext" | "longblob" => "up to 4 GB".into(),
        "text" | "bytea" => "up to 1 GB".into(),
        "date" if maria => "years 1000 to 9999".into(),
        "date" => "4713 BC to the year 5 874 897".into(),
        "datetime" => "years 1000 to 9999".into(),
        "timestamp" if maria => "1970 to 2038 (2106 on newer servers)".into(),
        "timestamp" => "4713 BC to the year 294 276".into(),
        "year" => "1901 to 2155".into(),
        "boolean" | "bool" => "true or false".into(),
        "uuid" => "16 bytes".into(),
        _ => return None,
    };
    Some(words)
}

/// What only servers over the Tabular Data Stream mean by a type.
fn of_tabular(word: &str, lower: &str, length: Option<u32>) -> Option<String> {
    Some(match word {
        "tinyint" => "0 to 255".into(),
        "bit" => "true or false".into(),
        "money" => "up to 922337203685477.5807".into(),
        "smallmoney" => "up to 214748.3647".into(),
        "float" => "about 15 digits".into(),
        "date" | "datetime2" | "datetimeoffset" => "years 1 to 9999".into(),
        "datetime" => "years 1753 to 9999, 3 ms apart".into(),
        "smalldatetime" => "years 1900 to 2079, minutes".into(),
        "uniqueidentifier" => "16 bytes".into(),
        "nvarchar" | "varchar" | "varbinary" if lower.contains("(max)") => "up to 2 GB".into(),
        "text" | "ntext" | "image" | "xml" => "up to 2 GB".into(),
        "nvarchar" => format!("up to {} characters", length?),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_of_types() {
        let said = |declared: &str, family| holds(declared, family).unwrap_or_default();
        let (p, m) = (Family::Postgres, Family::Mariadb);
        assert_eq!(said("smallint", p), "−32\u{a0}768 to 32\u{a0}767");
        assert_eq!(
            said("int(10) unsigned", m),
            "0 to 4\u{a0}294\u{a0}967\u{a0}295"
        );
        assert_eq!(
            said("bigint", p),
            "−9\u{a0}223\u{a0}372\u{a0}036\u{a0}854\u{a0}775\u{a0}808 to 9\u{a0}223\u{a0}372\u{a0}036\u{a0}854\u{a0}775\u{a0}807"
        );
        assert_eq!(said("numeric(5,2)", p), "up to 999.99");
        assert_eq!(said("decimal(4,4)", m), "");
        assert_eq!(said("character varying(190)", p), "up to 190 characters");
        assert_eq!(said("char(1)", m), "always 1 character");
        assert_eq!(said("text", m), "up to 64 kB");
        assert_eq!(said("numeric(5,2)", Family::Sqlite), "");
        assert_eq!(said("tinyint", Family::Tabular), "0 to 255");
        assert_eq!(said("nvarchar(40)", Family::Tabular), "up to 40 characters");
        assert_eq!(said("nvarchar(max)", Family::Tabular), "up to 2 GB");
    }
}
