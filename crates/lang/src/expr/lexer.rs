//! Tokens of the expression language.

use std::ops::Range;

use super::ExprError;

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Lexeme {
    /// A name or a word of the language.
    Word(String),
    /// A name in back-ticks, never a word of the language.
    Name(String),
    Text(String),
    Integer(i64),
    Float(f64),
    Sign(&'static str),
}

pub(super) fn lex(text: &str) -> Result<Vec<(Lexeme, Range<usize>)>, ExprError> {
    let bytes = text.as_bytes();
    let mut list = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let start = at;
        let byte = bytes[at];
        if byte.is_ascii_whitespace() {
            at += 1;
        } else if text[at..].starts_with("--") {
            at = text[at..].find('\n').map_or(text.len(), |n| at + n);
        } else if text[at..].starts_with("/*") {
            at = text[at..].find("*/").map_or(text.len(), |n| at + n + 2);
        } else if matches!(byte, b'\'' | b'"' | b'`') {
            let (inner, end) = quoted(text, at)?;
            let lexeme = if byte == b'`' {
                Lexeme::Name(inner)
            } else {
                Lexeme::Text(inner)
            };
            list.push((lexeme, start..end));
            at = end;
        } else if byte.is_ascii_digit()
            || byte == b'.' && bytes.get(at + 1).is_some_and(u8::is_ascii_digit)
        {
            at = number_end(bytes, at);
            let digits = &text[start..at];
            let lexeme = match digits.parse::<i64>() {
                Ok(integer) => Lexeme::Integer(integer),
                Err(_) => match digits.parse::<f64>() {
                    Ok(float) if float.is_finite() => Lexeme::Float(float),
                    _ => {
                        return Err(ExprError {
                            message: format!("{digits} is not a number that fits."),
                            span: start..at,
                            nearest: Vec::new(),
                        });
                    }
                },
            };
            list.push((lexeme, start..at));
        } else if byte.is_ascii_alphabetic() || byte == b'_' || byte >= 0x80 {
            while bytes
                .get(at)
                .is_some_and(|b| b.is_ascii_alphanumeric() || *b == b'_' || *b >= 0x80)
            {
                at += 1;
            }
            list.push((Lexeme::Word(text[start..at].to_string()), start..at));
        } else {
            let signs = [
                "<>", "!=", "<=", ">=", "||", "=", "<", ">", "+", "-", "*", "/", "%", "(", ")",
                ",", ".",
            ];
            let Some(sign) = signs.iter().find(|sign| text[at..].starts_with(**sign)) else {
                return Err(ExprError {
                    message: format!("The sign {} has no meaning here.", byte as char),
                    span: at..at + 1,
                    nearest: Vec::new(),
                });
            };
            at += sign.len();
            list.push((Lexeme::Sign(sign), start..at));
        }
    }
    Ok(list)
}

fn quoted(text: &str, start: usize) -> Result<(String, usize), ExprError> {
    let quote = text.as_bytes()[start] as char;
    let mut inner = String::new();
    let mut characters = text[start + 1..].char_indices().peekable();
    while let Some((at, character)) = characters.next() {
        if character != quote {
            inner.push(character);
        } else if characters.peek().is_some_and(|(_, next)| *next == quote) {
            inner.push(quote);
            characters.next();
        } else {
            return Ok((inner, start + 1 + at + 1));
        }
    }
    Err(ExprError {
        message: format!("The quote {quote} that opens here is never closed."),
        span: start..text.len(),
        nearest: Vec::new(),
    })
}

fn number_end(bytes: &[u8], mut at: usize) -> usize {
    let digits = |mut at: usize| {
        while bytes.get(at).is_some_and(u8::is_ascii_digit) {
            at += 1;
        }
        at
    };
    at = digits(at);
    if bytes.get(at) == Some(&b'.') {
        at = digits(at + 1);
    }
    if matches!(bytes.get(at), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(at + 1), Some(b'+' | b'-')));
        if bytes.get(at + 1 + sign).is_some_and(u8::is_ascii_digit) {
            at = digits(at + 1 + sign);
        }
    }
    at
}
