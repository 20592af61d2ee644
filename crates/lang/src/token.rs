//! SQL as tokens that cover the text without a gap, so that colouring, completion and the guard read
//! the same thing. Half-typed text gives tokens too; one that is still open says so.

use crate::dialect::{Dialect, Family};

/// What a token is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// A keyword or a plain name.
    Word,
    /// A name in quotes.
    QuotedName,
    /// A text literal, also with a letter before its quote (`x'00'`).
    Text,
    /// A number.
    Number,
    /// `:name`, `@name`, `$name` or `?1`.
    Parameter,
    /// An operator.
    Operator,
    /// `(`
    Open,
    /// `)`
    Close,
    /// `,`
    Comma,
    /// `.`
    Dot,
    /// `;`
    Semicolon,
    /// `-- …` or `/* … */`.
    Comment,
    /// Blanks and line breaks.
    Space,
    /// A character that SQL has no use for.
    Unknown,
}

/// A token and its place, in bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// First byte.
    pub start: usize,
    /// One past the last byte.
    pub end: usize,
    /// False for a quote or comment that the text ends within.
    pub closed: bool,
}

impl Token {
    /// The token's text within `text`, the text it was read from.
    pub fn of<'a>(&self, text: &'a str) -> &'a str {
        text.get(self.start..self.end).unwrap_or("")
    }

    /// Whether it is the word `word`, without regard to case.
    pub fn is_word(&self, text: &str, word: &str) -> bool {
        self.kind == TokenKind::Word && self.of(text).eq_ignore_ascii_case(word)
    }

    /// Whether it carries meaning: neither blank nor comment.
    pub fn counts(&self) -> bool {
        !matches!(self.kind, TokenKind::Space | TokenKind::Comment)
    }

    /// The name this token stands for, quotes taken off; `None` unless it is a word or quoted name.
    pub fn name(&self, text: &str) -> Option<String> {
        let raw = self.of(text);
        match self.kind {
            TokenKind::Word => Some(raw.to_string()),
            TokenKind::QuotedName => {
                let quote = raw.chars().next()?;
                let close = if quote == '[' { ']' } else { quote };
                let inner = &raw[1..];
                let inner = if self.closed {
                    inner.strip_suffix(close).unwrap_or(inner)
                } else {
                    inner
                };
                Some(inner.replace(&format!("{close}{close}"), &close.to_string()))
            }
            _ => None,
        }
    }
}

/// Whether a byte can stand within a word. Bytes of other scripts can.
pub(crate) fn is_word_byte(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'$' || byte >= 0x80
}

/// Cuts a text into tokens. Every byte belongs to one.
pub fn tokens(text: &str, dialect: &Dialect) -> Vec<Token> {
    let bytes = text.as_bytes();
    let mut list = Vec::with_capacity(bytes.len() / 4);
    let mut at = 0;
    // Within a comment whose inside is run.
    let mut executable = false;
    while at < bytes.len() {
        let rest = &bytes[at..];
        let token = if executable && rest.starts_with(b"*/") {
            executable = false;
            plain(TokenKind::Comment, at, at + 2)
        } else if let Some(length) = executable_opening(rest, dialect) {
            executable = true;
            plain(TokenKind::Comment, at, at + length)
        } else {
            next(bytes, at, dialect)
        };
        at = token.end;
        list.push(token);
    }
    list
}

fn plain(kind: TokenKind, start: usize, end: usize) -> Token {
    Token {
        kind,
        start,
        end,
        closed: true,
    }
}

/// The length of `/*!` or `/*M!` with its version digits, where that begins something that is run.
fn executable_opening(rest: &[u8], dialect: &Dialect) -> Option<usize> {
    if !dialect.executable_comments || !rest.starts_with(b"/*") {
        return None;
    }
    let head = match rest.get(2..) {
        Some([b'!', ..]) => 3,
        Some([b'M', b'!', ..]) => 4,
        _ => return None,
    };
    let digits = rest[head..].iter().take_while(|b| b.is_ascii_digit());
    Some(head + digits.count())
}

fn next(bytes: &[u8], start: usize, dialect: &Dialect) -> Token {
    let rest = &bytes[start..];
    let second = rest.get(1).copied().unwrap_or(0);
    let run = |from: usize, fits: &dyn Fn(u8) -> bool| {
        start + from + rest[from..].iter().take_while(|b| fits(**b)).count()
    };
    let token = |kind, end| plain(kind, start, end);
    let escapes = dialect.backslash_escapes;
    use TokenKind as K;
    match rest[0] {
        b if b.is_ascii_whitespace() => token(K::Space, run(0, &|b| b.is_ascii_whitespace())),
        b'-' if second == b'-' && (!dialect.spaced_dashes || opens_comment(rest.get(2))) => {
            token(K::Comment, run(2, &|b| b != b'\n'))
        }
        // Temporary names begin with one or two of these.
        b'#' if dialect.family == Family::Tabular && (second == b'#' || is_word_byte(second)) => {
            token(K::Word, run(2, &is_word_byte))
        }
        b'$' if dialect.family == Family::Tabular && second.is_ascii_digit() => {
            token(K::Number, number_end(bytes, start + 1))
        }
        b'#' if dialect.hash_comments => token(K::Comment, run(1, &|b| b != b'\n')),
        b'/' if second == b'*' => {
            let end = comment_end(rest, dialect.nested_comments);
            Token {
                closed: end.is_some(),
                ..token(K::Comment, end.map_or(bytes.len(), |end| start + end))
            }
        }
        b'\'' => quoted(bytes, start, 0, escapes || dialect.json_text, K::Text),
        b'"' if dialect.double_quoted_text => quoted(bytes, start, 0, escapes, K::Text),
        b'"' => quoted(bytes, start, 0, false, K::QuotedName),
        b'`' if dialect.backtick_names => quoted(bytes, start, 0, false, K::QuotedName),
        b'[' if dialect.bracket_names => match memchr::memchr(b']', rest) {
            Some(length) => token(K::QuotedName, start + length + 1),
            None => Token {
                closed: false,
                ..token(K::QuotedName, bytes.len())
            },
        },
        b'x' | b'X' | b'b' | b'B' | b'n' | b'N' if second == b'\'' => {
            quoted(bytes, start, 1, escapes, K::Text)
        }
        b'e' | b'E' if second == b'\'' && dialect.dollar_quotes => {
            quoted(bytes, start, 1, true, K::Text)
        }
        b'$' if dialect.dollar_quotes => dollar_quoted(bytes, start),
        b'(' => token(K::Open, start + 1),
        b')' => token(K::Close, start + 1),
        b',' => token(K::Comma, start + 1),
        b';' => token(K::Semicolon, start + 1),
        b'.' if !second.is_ascii_digit() => token(K::Dot, start + 1),
        b'0'..=b'9' | b'.' => token(K::Number, number_end(bytes, start)),
        b':' if second == b'?' && rest.get(2).is_some_and(|b| is_word_byte(*b)) => {
            token(K::Parameter, run(2, &is_word_byte))
        }
        b'?' if dialect.sigil_parameters => token(K::Parameter, run(1, &|b| b.is_ascii_digit())),
        b':' if matches!(second, b':' | b'=') => token(K::Operator, start + 2),
        b'@' if !dialect.sigil_parameters && (second == b'@' || is_word_byte(second)) => {
            token(K::Word, run(2, &|b| is_word_byte(b) || b == b'.'))
        }
        b':' | b'@' | b'$' if is_word_byte(second) => token(K::Parameter, run(1, &is_word_byte)),
        b if is_word_byte(b) => token(K::Word, run(0, &is_word_byte)),
        b'<' | b'>' | b'=' | b'!' | b'|' | b'+' | b'-' | b'*' | b'/' | b'%' | b'&' | b'~' => {
            let pairs: [&[u8]; 11] = [
                b"<=>", b"->>", b"<=", b">=", b"<>", b"!=", b"==", b"||", b"->", b"<<", b"&&",
            ];
            let length = pairs
                .iter()
                .find(|pair| rest.starts_with(pair))
                .map_or(if rest.starts_with(b">>") { 2 } else { 1 }, |pair| {
                    pair.len()
                });
            token(K::Operator, start + length)
        }
        _ => token(K::Unknown, start + 1),
    }
}

/// Whether `--` before this byte is a comment where a blank has to follow.
pub(crate) fn opens_comment(byte: Option<&u8>) -> bool {
    byte.is_none_or(|byte| byte.is_ascii_whitespace() || byte.is_ascii_control())
}

/// Where the comment at the start of `rest` ends.
fn comment_end(rest: &[u8], nested: bool) -> Option<usize> {
    if !nested {
        return memchr::memmem::find(&rest[2..], b"*/").map(|at| at + 4);
    }
    let (mut depth, mut at) = (1, 2);
    while depth > 0 {
        at += memchr::memchr2(b'*', b'/', rest.get(at..)?)?;
        match rest.get(at..at + 2) {
            Some(b"*/") => depth -= 1,
            Some(b"/*") => depth += 1,
            _ => {
                at += 1;
                continue;
            }
        }
        at += 2;
    }
    Some(at)
}

/// `$tag$ … $tag$`, or a parameter like `$1`, or a lone sign.
fn dollar_quoted(bytes: &[u8], start: usize) -> Token {
    let rest = &bytes[start + 1..];
    let length = rest
        .iter()
        .take_while(|b| is_word_byte(**b) && **b != b'$')
        .count();
    let opens = rest.get(length) == Some(&b'$') && !rest.first().is_some_and(u8::is_ascii_digit);
    if !opens {
        let kind = if length == 0 {
            TokenKind::Unknown
        } else {
            TokenKind::Parameter
        };
        return plain(kind, start, start + 1 + length);
    }
    let tag = &bytes[start..start + length + 2];
    let inside = start + tag.len();
    let end = memchr::memmem::find(&bytes[inside..], tag).map(|at| inside + at + tag.len());
    Token {
        closed: end.is_some(),
        ..plain(TokenKind::Text, start, end.unwrap_or(bytes.len()))
    }
}

/// A text or name in quotes that begins `skip` bytes after `start`.
fn quoted(bytes: &[u8], start: usize, skip: usize, escapes: bool, kind: TokenKind) -> Token {
    let quote = bytes[start + skip];
    let mut at = start + skip + 1;
    loop {
        let rest = bytes.get(at..).unwrap_or_default();
        let found = if escapes {
            memchr::memchr2(quote, b'\\', rest)
        } else {
            memchr::memchr(quote, rest)
        };
        let Some(found) = found else {
            return Token {
                kind,
                start,
                end: bytes.len(),
                closed: false,
            };
        };
        at += found + 1;
        if bytes[at - 1] == b'\\' || bytes.get(at) == Some(&quote) {
            // What is escaped, the second of two quotes too; a character may have several bytes.
            at += 1;
            while bytes.get(at).is_some_and(|b| b & 0xc0 == 0x80) {
                at += 1;
            }
            continue;
        }
        return plain(kind, start, at);
    }
}

fn number_end(bytes: &[u8], start: usize) -> usize {
    let mut at = start;
    if bytes[start] == b'0' && matches!(bytes.get(start + 1), Some(b'x' | b'X')) {
        at += 2;
        while bytes.get(at).is_some_and(u8::is_ascii_hexdigit) {
            at += 1;
        }
        return at;
    }
    while let Some(&byte) = bytes.get(at) {
        let exponent_sign = matches!(byte, b'+' | b'-')
            && matches!(bytes[at - 1], b'e' | b'E')
            && at > start
            && bytes.get(at + 1).is_some_and(u8::is_ascii_digit);
        let exponent = matches!(byte, b'e' | b'E')
            && bytes
                .get(at + 1)
                .is_some_and(|b| b.is_ascii_digit() || matches!(b, b'+' | b'-'));
        if byte.is_ascii_digit() || matches!(byte, b'.' | b'_') || exponent_sign || exponent {
            at += 1;
        } else {
            break;
        }
    }
    at
}

/// The tokens that count, comments and blanks left out.
pub fn significant(list: &[Token]) -> Vec<Token> {
    list.iter()
        .filter(|token| token.counts())
        .copied()
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;
    use proptest::prelude::*;

    fn kinds(text: &str) -> Vec<(TokenKind, &str)> {
        significant(&tokens(text, &SQLITE))
            .iter()
            .map(|token| (token.kind, token.of(text)))
            .collect()
    }

    #[test]
    fn each_kind_is_told_apart() {
        use TokenKind::*;
        assert_eq!(
            kinds("a.\"b \"\"c\" -- x\n<> 'it''s' /* ; */ 1.5e-3 :p x'0f' [q r]"),
            [
                (Word, "a"),
                (Dot, "."),
                (QuotedName, "\"b \"\"c\""),
                (Operator, "<>"),
                (Text, "'it''s'"),
                (Number, "1.5e-3"),
                (Parameter, ":p"),
                (Text, "x'0f'"),
                (QuotedName, "[q r]"),
            ]
        );
        let open = tokens("'never closed", &SQLITE);
        assert!(!open[0].closed);
        assert_eq!(
            tokens("\"a\"\"b\"", &SQLITE)[0].name("\"a\"\"b\""),
            Some("a\"b".into())
        );
    }

    #[test]
    fn families_quote_and_comment_in_their_own_ways() {
        use crate::dialect::{MARIADB, POSTGRES};
        use TokenKind::*;
        let of = |text: &'static str, dialect| -> Vec<(TokenKind, &str)> {
            significant(&tokens(text, dialect))
                .iter()
                .map(|token| (token.kind, token.of(text)))
                .collect()
        };
        assert_eq!(
            of(
                "$f$ it's ; $$ $f$ e'\\'' a::int /* /* */ */ $1 :?word",
                &POSTGRES
            ),
            [
                (Text, "$f$ it's ; $$ $f$"),
                (Text, "e'\\''"),
                (Word, "a"),
                (Operator, "::"),
                (Word, "int"),
                (Parameter, "$1"),
                (Parameter, ":?word"),
            ]
        );
        assert_eq!(
            of(
                "\"a\\\"b\" 1--1 # c\n @@x.y /*!50003 drop */ -- end",
                MARIADB
            ),
            [
                (Text, "\"a\\\"b\""),
                (Number, "1"),
                (Operator, "-"),
                (Operator, "-"),
                (Number, "1"),
                (Word, "@@x.y"),
                (Word, "drop"),
            ]
        );
    }

    proptest! {
        #[test]
        fn any_text_is_covered_without_a_gap(text in "\\PC*|[ -~\n]*") {
            for dialect in [&SQLITE, &crate::dialect::POSTGRES, crate::dialect::MARIADB] {
                let mut at = 0;
                for token in tokens(&text, dialect) {
                    prop_assert_eq!(token.start, at);
                    prop_assert!(token.end > at && text.is_char_boundary(token.end));
                    at = token.end;
                }
                prop_assert_eq!(at, text.len());
            }
        }
    }
}
