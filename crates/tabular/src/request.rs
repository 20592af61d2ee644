//! What clients ask: batches, calls of procedures, and the messages that begin and end transactions.

use crate::take::{Malformed, Take, from_wide, to_wide, wrong};
use crate::types::TypeInfo;
use crate::value;

/// What stands before a batch or a call: the transaction that it belongs to, 0 for none (MS-TDS 2.2.5.3).
fn heads(transaction: u64) -> Vec<u8> {
    let mut out = 22_u32.to_le_bytes().to_vec();
    out.extend(18_u32.to_le_bytes());
    out.extend(2_u16.to_le_bytes());
    out.extend(transaction.to_le_bytes());
    out.extend(1_u32.to_le_bytes());
    out
}

fn pass_heads(take: &mut Take<'_>) -> Result<(), Malformed> {
    let length = take.u32()? as usize;
    if length < 4 {
        return wrong(format!("heads of {length} bytes"));
    }
    take.slice(length - 4).map(drop)
}

/// A batch of statements as a message.
pub fn batch(text: &str, transaction: u64) -> Vec<u8> {
    let mut out = heads(transaction);
    out.extend(to_wide(text));
    out
}

/// The text of a batch.
///
/// # Errors
/// If it is none.
pub fn read_batch(message: &[u8]) -> Result<String, Malformed> {
    let mut take = Take::new(message);
    pass_heads(&mut take)?;
    Ok(from_wide(&message[take.at..]))
}

/// A parameter of a call.
#[derive(Debug, Clone, PartialEq)]
pub struct Parameter {
    /// Its name, with its sign; empty where it has none.
    pub name: String,
    /// Whether a value is given back in it.
    pub returns: bool,
    /// Its type.
    pub info: TypeInfo,
    /// Its value as it lies in a row.
    pub value: Vec<u8>,
}

/// A call of a procedure.
#[derive(Debug, Clone, PartialEq)]
pub struct Call {
    /// Its name; of those that have a number too, `sp_executesql` and so on.
    pub name: String,
    /// What it is called with.
    pub parameters: Vec<Parameter>,
}

/// Procedures that have numbers.
const NUMBERED: &[(u16, &str)] = &[
    (10, "sp_executesql"),
    (11, "sp_prepare"),
    (12, "sp_execute"),
    (13, "sp_prepexec"),
    (15, "sp_unprepare"),
];

/// The calls of a message.
///
/// # Errors
/// If it holds none, or a type that is not known.
pub fn read_calls(message: &[u8]) -> Result<Vec<Call>, Malformed> {
    let mut take = Take::new(message);
    pass_heads(&mut take)?;
    let mut calls = Vec::new();
    while take.left() > 0 {
        let length = take.u16()?;
        let name = match length {
            0xffff => {
                let number = take.u16()?;
                let known = NUMBERED.iter().find(|(own, _)| *own == number);
                known.map_or(format!("procedure {number}"), |(_, name)| name.to_string())
            }
            length => take.wide(usize::from(length))?,
        };
        take.u16()?;
        let mut parameters = Vec::new();
        while take.left() > 0 {
            // Another call begins.
            if matches!(take.bytes[take.at], 0x80 | 0xff | 0xfe) {
                take.at += 1;
                break;
            }
            let name = take.short_text()?;
            let status = take.u8()?;
            let info = TypeInfo::decode(&mut take)?;
            let start = take.at;
            value::pass(&info, &mut take, &mut false)?;
            parameters.push(Parameter {
                name,
                returns: status & 1 != 0,
                info,
                value: message[start..take.at].to_vec(),
            });
        }
        calls.push(Call { name, parameters });
    }
    match calls.is_empty() {
        true => wrong("a call of nothing"),
        false => Ok(calls),
    }
}

/// What is asked of transactions.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transaction {
    /// Begin one.
    Begin,
    /// Keep it.
    Commit,
    /// Take it back.
    Rollback,
    /// Anything else, by its number.
    Other(u16),
}

/// What a message asks of transactions, and whether another one is to begin at once.
///
/// # Errors
/// If it is none.
pub fn read_transaction(message: &[u8]) -> Result<(Transaction, bool), Malformed> {
    let mut take = Take::new(message);
    pass_heads(&mut take)?;
    let of = take.u16()?;
    let again = |take: &mut Take<'_>| -> Result<bool, Malformed> {
        let name = usize::from(take.u8()?);
        take.slice(name)?;
        Ok(take.u8()? & 1 != 0)
    };
    Ok(match of {
        5 => (Transaction::Begin, false),
        7 => (Transaction::Commit, again(&mut take)?),
        8 => (Transaction::Rollback, again(&mut take)?),
        other => (Transaction::Other(other), false),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::types::id;
    use crate::value::Value;

    #[test]
    fn requests_are_read_as_they_were_written() {
        assert_eq!(read_batch(&batch("select 1", 7)).as_deref(), Ok("select 1"));
        let mut message = heads(0);
        message.extend([0xff, 0xff, 10, 0, 0, 0]);
        let info = TypeInfo::of(id::NVARCHAR, 8000);
        let mut value = Vec::new();
        value::write(&info, Value::Text("select @a"), &mut value).unwrap();
        message.extend([2, b'@', 0, b'a', 0, 1]);
        info.encode(&mut message);
        message.extend(&value);
        let call = Call {
            name: "sp_executesql".into(),
            parameters: vec![Parameter {
                name: "@a".into(),
                returns: true,
                info,
                value,
            }],
        };
        assert_eq!(read_calls(&message), Ok(vec![call]));
        // Behind the name it is whole: a call without parameters.
        for end in (0..message.len()).filter(|end| *end != 28) {
            assert!(read_calls(&message[..end]).is_err(), "{end}");
        }
        let mut message = heads(3);
        message.extend([7, 0, 0, 1, 0]);
        assert_eq!(read_transaction(&message), Ok((Transaction::Commit, true)));
    }
}
