//! Values put down as they lie in rows.

use super::{IDENTIFIER, NO_PARTS, Value, moment, parsed, unfit};
use crate::take::to_wide;
use crate::types::{ANY, Layout, TypeInfo, id};

/// Appends a value of a type.
///
/// # Errors
/// In words, if it is not one of that type.
pub fn write(info: &TypeInfo, value: Value<'_>, out: &mut Vec<u8>) -> Result<(), String> {
    if value == Value::Null {
        return null(info, out);
    }
    let spelled;
    let text = match value {
        Value::Text(text) | Value::Number(text) => text,
        Value::Integer(number) => {
            spelled = number.to_string();
            &spelled
        }
        Value::Float(number) => {
            spelled = number.to_string();
            &spelled
        }
        Value::Bit(yes) => {
            if yes {
                "1"
            } else {
                "0"
            }
        }
        Value::RawText(bytes) | Value::Bytes(bytes) => {
            spelled = String::from_utf8_lossy(bytes).into_owned();
            &spelled
        }
        Value::Null => "",
    };
    let content = content(info, value, text)?;
    let limit = info.length as usize;
    let is_sized = matches!(info.layout(), Layout::Two) && info.length != ANY;
    if is_sized && content.len() > limit {
        return Err(unfit(info));
    }
    match info.layout() {
        Layout::Fixed(_) => {}
        Layout::Byte => out.push(content.len() as u8),
        Layout::Two => out.extend((content.len() as u16).to_le_bytes()),
        Layout::Four => out.extend((content.len() as u32).to_le_bytes()),
        Layout::Pointer => {
            out.push(16);
            out.extend([0; 24]);
            out.extend((content.len() as u32).to_le_bytes());
        }
        Layout::Parts => {
            out.extend((content.len() as u64).to_le_bytes());
            for part in content.chunks(8000) {
                out.extend((part.len() as u32).to_le_bytes());
                out.extend(part);
            }
            out.extend([0; 4]);
            return Ok(());
        }
    }
    out.extend(content);
    Ok(())
}

fn null(info: &TypeInfo, out: &mut Vec<u8>) -> Result<(), String> {
    match info.layout() {
        Layout::Byte | Layout::Pointer => out.push(0),
        Layout::Two => out.extend([0xff, 0xff]),
        Layout::Four => out.extend([0; 4]),
        Layout::Parts => out.extend(NO_PARTS.to_le_bytes()),
        Layout::Fixed(0) => {}
        Layout::Fixed(_) => return Err(format!("{} takes no null", info.words())),
    }
    Ok(())
}

/// The bytes of a value without what says how many they are; `text` is the value in words.
fn content(info: &TypeInfo, value: Value<'_>, text: &str) -> Result<Vec<u8>, String> {
    Ok(match info.id {
        id::INTN | id::TINYINT | id::SMALLINT | id::INT | id::BIGINT => {
            let size = match info.layout() {
                Layout::Fixed(size) => size,
                _ => info.length as usize,
            };
            let number: i64 = match value {
                Value::Float(number) => number as i64,
                _ => parsed(text.split('.').next().unwrap_or_default(), "whole number")?,
            };
            // The smallest of them has no sign.
            let fits = match size {
                1 => u8::try_from(number).is_ok(),
                2 => i16::try_from(number).is_ok(),
                4 => i32::try_from(number).is_ok(),
                _ => true,
            };
            match fits {
                true => number.to_le_bytes()[..size].to_vec(),
                false => return Err(unfit(info)),
            }
        }
        id::BITN | id::BIT => vec![u8::from(!matches!(text, "0" | "false"))],
        id::FLOATN | id::FLOAT | id::REAL => {
            let number: f64 = parsed(text, "number")?;
            match info.id == id::REAL || info.length == 4 {
                true => (number as f32).to_le_bytes().to_vec(),
                false => number.to_le_bytes().to_vec(),
            }
        }
        id::DECIMAL | id::NUMERIC => {
            let number = scaled(text, info.scale)?;
            let digits = u32::from(info.precision);
            if digits > 0
                && 10_u128
                    .checked_pow(digits)
                    .is_some_and(|end| number.unsigned_abs() >= end)
            {
                return Err(unfit(info));
            }
            let mut bytes = vec![u8::from(number >= 0)];
            bytes.extend(number.unsigned_abs().to_le_bytes());
            bytes
        }
        id::MONEYN | id::MONEY | id::SMALLMONEY => {
            let amount = i64::try_from(scaled(text, 4)?).map_err(|_| unfit(info))?;
            match info.id == id::SMALLMONEY || info.length == 4 {
                true => {
                    let small = i32::try_from(amount).map_err(|_| unfit(info))?;
                    small.to_le_bytes().to_vec()
                }
                false => {
                    let mut bytes = ((amount >> 32) as i32).to_le_bytes().to_vec();
                    bytes.extend((amount as u32).to_le_bytes());
                    bytes
                }
            }
        }
        id::DATETIMEN
        | id::DATETIME
        | id::SMALLDATETIME
        | id::DATE
        | id::TIME
        | id::DATETIME2
        | id::DATETIMEOFFSET => moment::written(info, text)?,
        id::GUID => identifier(text)?,
        id::NVARCHAR | id::NCHAR | id::NTEXT | id::XML => to_wide(text),
        id::VARCHAR | id::CHAR | id::TEXT => {
            let (bytes, _, _) = encoding_rs::WINDOWS_1252.encode(text);
            bytes.into_owned()
        }
        id::VARIANT => variant(value, text),
        _ => match value {
            Value::Bytes(bytes) => bytes.to_vec(),
            _ => text.as_bytes().to_vec(),
        },
    })
}

fn identifier(text: &str) -> Result<Vec<u8>, String> {
    let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
    let hex: Vec<u8> = digits
        .chunks_exact(2)
        .filter_map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok())
        .collect();
    match hex.len() {
        16 => Ok(IDENTIFIER.map(|from| hex[from]).to_vec()),
        _ => Err(format!("{text} is no identifier")),
    }
}

/// A value that brings its type (`sql_variant`).
fn variant(value: Value<'_>, text: &str) -> Vec<u8> {
    let plain = |of: u8, bytes: [u8; 8]| [vec![of, 0], bytes.to_vec()].concat();
    match value {
        Value::Integer(number) => plain(id::BIGINT, number.to_le_bytes()),
        Value::Float(number) => plain(id::FLOAT, number.to_le_bytes()),
        _ => {
            let mut content = vec![id::NVARCHAR, 7];
            content.extend(crate::types::LATIN);
            content.extend(8000_u16.to_le_bytes());
            content.extend(to_wide(text));
            content
        }
    }
}

/// A number with `scale` digits behind its point, without the point.
fn scaled(text: &str, scale: u8) -> Result<i128, String> {
    let text = text.trim();
    let (negative, plain) = match text.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, text),
    };
    let (before, after) = plain.split_once('.').unwrap_or((plain, ""));
    let mut after: String = after.chars().take(usize::from(scale)).collect();
    while after.len() < usize::from(scale) {
        after.push('0');
    }
    let number: i128 = parsed(&format!("{before}{after}"), "number")?;
    Ok(if negative { -number } else { number })
}
