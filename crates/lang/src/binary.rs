//! Statements of backup files whose literals hold bytes that are no text: the same statement with these
//! literals in hexadecimal digits, so that it is text from end to end.

use crate::dialect::{Dialect, Family};

/// The end of what begins at `from` and closes with `quote`, one past it.
fn literal_end(bytes: &[u8], from: usize, quote: u8, escapes: bool) -> usize {
    let mut at = from + 1;
    while let Some(byte) = bytes.get(at) {
        match *byte {
            b'\\' if escapes => at += 2,
            byte if byte == quote && bytes.get(at + 1) == Some(&quote) => at += 2,
            byte if byte == quote => return at + 1,
            _ => at += 1,
        }
    }
    bytes.len()
}

/// The bytes that a literal stands for; `inside` is what its quotes hold (MariaDB, "String Literals").
fn meaning(inside: &[u8], quote: u8, escapes: bool) -> Vec<u8> {
    let mut out = Vec::with_capacity(inside.len());
    let mut at = 0;
    while let Some(byte) = inside.get(at) {
        at += 1;
        match (*byte, inside.get(at)) {
            (b'\\', Some(next)) if escapes => {
                at += 1;
                match next {
                    b'0' => out.push(0),
                    b'b' => out.push(8),
                    b'n' => out.push(b'\n'),
                    b'r' => out.push(b'\r'),
                    b't' => out.push(b'\t'),
                    b'Z' => out.push(26),
                    b'%' | b'_' => out.extend_from_slice(&[b'\\', *next]),
                    other => out.push(*other),
                }
            }
            (byte, Some(next)) if byte == quote && *next == quote => {
                at += 1;
                out.push(byte);
            }
            (byte, _) => out.push(byte),
        }
    }
    out
}

/// The statement as text: literals whose bytes are no UTF-8 stand as `x'…'`. `None` where the family has no
/// such literals, or bytes that are no text stand outside of one.
pub fn as_text(bytes: &[u8], dialect: &Dialect) -> Option<String> {
    if let Ok(text) = std::str::from_utf8(bytes) {
        return Some(text.to_string());
    }
    if dialect.family != Family::Mariadb {
        return None;
    }
    let escapes = dialect.backslash_escapes;
    let mut out: Vec<u8> = Vec::with_capacity(bytes.len() + bytes.len() / 2);
    let mut at = 0;
    while let Some(&byte) = bytes.get(at) {
        let text = byte == b'\'' || byte == b'"' && dialect.double_quoted_text;
        let end = match byte {
            b'\'' | b'"' => literal_end(bytes, at, byte, escapes && text),
            b'`' => literal_end(bytes, at, byte, false),
            b'#' => bytes[at..]
                .iter()
                .position(|b| *b == b'\n')
                .map_or(bytes.len(), |n| at + n),
            b'-' if bytes[at..].starts_with(b"-- ") => bytes[at..]
                .iter()
                .position(|b| *b == b'\n')
                .map_or(bytes.len(), |n| at + n),
            _ => at + 1,
        };
        let part = &bytes[at..end];
        if text && std::str::from_utf8(part).is_err() && part.len() >= 2 {
            out.extend_from_slice(b"x'");
            for value in meaning(&part[1..part.len() - 1], byte, escapes) {
                out.extend_from_slice(format!("{value:02x}").as_bytes());
            }
            out.push(b'\'');
        } else {
            out.extend_from_slice(part);
        }
        at = end;
    }
    String::from_utf8(out).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{MARIADB, POSTGRES};
    use proptest::prelude::*;

    #[test]
    fn bytes_in_literals_become_digits() {
        let typed =
            b"insert into `t'` values (_binary '\xff\\0\\'\\\\''x', 'text', \"\xfe\") -- '\n, 'y'";
        assert_eq!(
            as_text(typed, MARIADB).as_deref(),
            Some("insert into `t'` values (_binary x'ff00275c2778', 'text', x'fe') -- '\n, 'y'")
        );
        assert_eq!(as_text(b"select \xff", MARIADB), None);
        assert_eq!(as_text(b"select '\xff'", &POSTGRES), None);
    }

    proptest! {
        #[test]
        fn any_bytes_are_text_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..60)) {
            let _ = as_text(&bytes, MARIADB);
        }

        #[test]
        fn what_is_escaped_is_found_again(value in proptest::collection::vec(any::<u8>(), 1..40)) {
            let mut literal = vec![b'\''];
            for byte in &value {
                match byte {
                    0 => literal.extend_from_slice(b"\\0"),
                    b'\'' | b'\\' => literal.extend_from_slice(&[b'\\', *byte]),
                    byte => literal.push(*byte),
                }
            }
            literal.push(b'\'');
            prop_assert_eq!(literal_end(&literal, 0, b'\'', true), literal.len());
            prop_assert_eq!(meaning(&literal[1..literal.len() - 1], b'\'', true), value);
        }
    }
}
