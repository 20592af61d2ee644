//! Tokens of the flow language. Nothing is lost: the tokens' texts, one after the other, are the text. Nothing fails: what has no
//! meaning is a token too, and the parser says what is wrong with it.

use std::ops::Range;

/// What a token is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// Blanks and line breaks.
    Blank,
    /// `-- …` or `/* … */`.
    Comment,
    /// A name or a word of the language; may begin with `$` (in Extended JSON).
    Word,
    /// A name in back-ticks.
    Name,
    /// A text in single or double quotes.
    Text,
    /// A number.
    Number,
    /// An operator, a bracket, a separator.
    Sign,
    /// A quote, back-tick or comment that is never closed; goes to the end.
    Unclosed,
    /// A character without a meaning.
    Unknown,
}

/// A token and its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Its place in bytes.
    pub span: Range<usize>,
}

impl Token {
    /// Its text.
    pub fn of<'a>(&self, text: &'a str) -> &'a str {
        &text[self.span.clone()]
    }
}

const SIGNS: [&str; 25] = [
    "<>", "!=", "<=", ">=", "||", "=>", "..", "=", "<", ">", "+", "-", "*", "/", "%", "(", ")",
    "{", "}", "[", "]", ",", ".", ":", ";",
];

/// All tokens of a text.
pub fn tokens(text: &str) -> Vec<Token> {
    let bytes = text.as_bytes();
    let mut list = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let start = at;
        let rest = &text[at..];
        let byte = bytes[at];
        let kind;
        if byte.is_ascii_whitespace() {
            at += rest.bytes().take_while(u8::is_ascii_whitespace).count();
            kind = TokenKind::Blank;
        } else if rest.starts_with("--") {
            at = rest.find('\n').map_or(text.len(), |n| at + n);
            kind = TokenKind::Comment;
        } else if rest.starts_with("/*") {
            let end = rest.find("*/");
            at = end.map_or(text.len(), |n| at + n + 2);
            kind = if end.is_some() {
                TokenKind::Comment
            } else {
                TokenKind::Unclosed
            };
        } else if matches!(byte, b'\'' | b'"' | b'`') {
            let end = quote_end(bytes, at);
            at = end.unwrap_or(text.len());
            kind = match (end, byte) {
                (None, _) => TokenKind::Unclosed,
                (_, b'`') => TokenKind::Name,
                _ => TokenKind::Text,
            };
        } else if byte.is_ascii_digit()
            || byte == b'.'
                && bytes.get(at + 1).is_some_and(u8::is_ascii_digit)
                && !after_name(&list, start)
        {
            at = number_end(bytes, at);
            kind = TokenKind::Number;
        } else if rest.starts_with(|c: char| c.is_alphabetic() || c == '_' || c == '$') {
            let ends = |c: char| !(c.is_alphanumeric() || c == '_');
            let dollar = usize::from(byte == b'$');
            at += dollar + rest[dollar..].find(ends).unwrap_or(rest.len() - dollar);
            kind = TokenKind::Word;
        } else if let Some(sign) = SIGNS.iter().find(|sign| rest.starts_with(**sign)) {
            at += sign.len();
            kind = TokenKind::Sign;
        } else if byte == b'?' {
            at += 1;
            kind = TokenKind::Sign;
        } else {
            at += rest.chars().next().map_or(1, char::len_utf8);
            kind = TokenKind::Unknown;
        }
        list.push(Token {
            kind,
            span: start..at,
        });
    }
    list
}

/// Whether a name, a closing bracket or a number ends right before: then a point goes on with a path.
fn after_name(list: &[Token], at: usize) -> bool {
    list.last().is_some_and(|last| {
        last.span.end == at && matches!(last.kind, TokenKind::Word | TokenKind::Name)
    })
}

fn is_letter(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || byte == b'_' || byte >= 0x80
}

/// Where a quoted text ends. Single quotes and back-ticks are doubled within themselves (ISO/IEC 9075), double quotes are escaped by a
/// backslash (RFC 8259).
fn quote_end(bytes: &[u8], start: usize) -> Option<usize> {
    let quote = bytes[start];
    let mut at = start + 1;
    while let Some(byte) = bytes.get(at) {
        at += 1;
        if *byte == b'\\' && quote == b'"' {
            at += 1;
        } else if *byte == quote {
            if quote == b'"' || bytes.get(at) != Some(&quote) {
                return Some(at);
            }
            at += 1;
        }
    }
    None
}

fn number_end(bytes: &[u8], mut at: usize) -> usize {
    let digits = |mut at: usize| {
        while bytes.get(at).is_some_and(u8::is_ascii_digit) {
            at += 1;
        }
        at
    };
    at = digits(at);
    // Two points are a range.
    if bytes.get(at) == Some(&b'.')
        && bytes
            .get(at + 1)
            .is_none_or(|b| b.is_ascii_digit() || !is_letter(*b) && *b != b'.' && *b != b'`')
    {
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

/// What a quoted token says, and the place of an escape that is none.
pub fn unquoted(quoted: &str) -> Result<String, usize> {
    let quote = quoted.as_bytes().first().copied().unwrap_or(b'\'');
    let inner = quoted
        .get(1..quoted.len().saturating_sub(1))
        .unwrap_or_default();
    if quote != b'"' {
        let one = char::from(quote).to_string();
        return Ok(inner.replace(&one.repeat(2), &one));
    }
    if !inner.contains('\\') && !inner.contains(|c: char| c.is_control()) {
        return Ok(inner.to_string());
    }
    // Line breaks may stand in a text as they are; JSON wants them escaped.
    let mut json = String::from("\"");
    for character in inner.chars() {
        if character.is_control() {
            json.push_str(&format!("\\u{:04x}", u32::from(character)));
        } else {
            json.push(character);
        }
    }
    json.push('"');
    idle_tide_core::document::extended::read(&json)
        .ok()
        .and_then(|value| value.as_text().map(str::to_string))
        .ok_or_else(|| inner.find('\\').unwrap_or_default() + 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_lost_and_quotes_follow_their_standards() {
        for text in [
            "from landings\nwhere kg >= 2.5e3 -- heavy\n and a.`b c`[0] <> 'it''s' limit 1..10;",
            "a.5 .5 1. 1..2 {$date: \"x\\\"y\"} § :?secret /* open",
            "'open",
        ] {
            let list = tokens(text);
            let joined: String = list.iter().map(|token| token.of(text)).collect();
            assert_eq!(joined, text);
        }
        let kinds = |text: &str| -> Vec<String> {
            tokens(text)
                .iter()
                .filter(|t| t.kind != TokenKind::Blank)
                .map(|t| t.of(text).to_string())
                .collect()
        };
        assert_eq!(kinds("1..10"), ["1", "..", "10"]);
        assert_eq!(
            kinds("a.5b .5 7.x"),
            ["a", ".", "5", "b", ".5", "7", ".", "x"]
        );
        assert_eq!(unquoted("'it''s'"), Ok("it's".into()));
        assert_eq!(unquoted("\"a\\\"\\u00e9\\n\""), Ok("a\"é\n".into()));
        assert_eq!(unquoted("\"two\nlines\""), Ok("two\nlines".into()));
        assert!(unquoted("\"\\x\"").is_err());
        assert_eq!(unquoted("`a``b`"), Ok("a`b".into()));
    }
}
