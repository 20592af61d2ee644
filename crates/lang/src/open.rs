//! What is still open at the end of a half-typed text: brackets, quotes, comments and blocks, each with
//! the line it was opened on. It reads tokens only.

use crate::token::{Token, TokenKind};

/// What is open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Opened {
    /// `(`
    Bracket,
    /// A text literal.
    Quote,
    /// A quoted name.
    Name,
    /// `/*`
    Comment,
    /// The body of a trigger.
    Block,
}

impl Opened {
    /// The plain word for it.
    pub fn word(self) -> &'static str {
        match self {
            Opened::Bracket => "bracket",
            Opened::Quote => "quote",
            Opened::Name => "quoted name",
            Opened::Comment => "comment",
            Opened::Block => "block",
        }
    }
}

/// Something open and where it was opened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OpenPart {
    /// What it is.
    pub what: Opened,
    /// Byte where it was opened.
    pub at: usize,
    /// Line of that byte, counted from 1.
    pub line: usize,
}

/// What is open at the end of `text`, outermost first. A semicolon does not close a bracket: the
/// statement goes on until its brackets are closed or the server refuses it.
pub fn open_parts(text: &str, tokens: &[Token]) -> Vec<OpenPart> {
    let mut stack: Vec<(Opened, usize)> = Vec::new();
    let mut head: Vec<String> = Vec::new();
    let mut in_trigger = false;
    let mut after_semicolon = true;
    let script = text.trim_start().starts_with('=');
    for token in tokens.iter().filter(|t| t.kind != TokenKind::Space) {
        if !token.closed {
            let what = match token.kind {
                TokenKind::Comment => Opened::Comment,
                TokenKind::QuotedName => Opened::Name,
                _ => Opened::Quote,
            };
            stack.push((what, token.start));
            continue;
        }
        match token.kind {
            TokenKind::Comment => continue,
            _ if script && matches!(token.of(text), "{" | "[") => {
                stack.push((Opened::Bracket, token.start));
            }
            _ if script && matches!(token.of(text), "}" | "]") => {
                stack.pop();
            }
            TokenKind::Open => stack.push((Opened::Bracket, token.start)),
            TokenKind::Close => {
                if matches!(stack.last(), Some((Opened::Bracket, _))) {
                    stack.pop();
                }
            }
            TokenKind::Semicolon => {
                if !in_trigger {
                    head.clear();
                }
                after_semicolon = true;
                continue;
            }
            TokenKind::Word => {
                let word = token.of(text).to_ascii_lowercase();
                if in_trigger && word == "end" && after_semicolon {
                    stack.retain(|(what, _)| *what != Opened::Block);
                    in_trigger = false;
                } else if word == "begin" && !in_trigger && is_trigger(&head) {
                    stack.push((Opened::Block, token.start));
                    in_trigger = true;
                }
                if head.len() < 4 {
                    head.push(word);
                }
            }
            _ => {
                if head.len() < 4 {
                    head.push(String::new());
                }
            }
        }
        after_semicolon = false;
    }
    let mut line = 1;
    let mut counted = 0;
    stack
        .into_iter()
        .map(|(what, at)| {
            line += text.as_bytes()[counted..at]
                .iter()
                .filter(|byte| **byte == b'\n')
                .count();
            counted = at;
            OpenPart { what, at, line }
        })
        .collect()
}

fn is_trigger(head: &[String]) -> bool {
    let mut words = head.iter().map(String::as_str);
    words.next() == Some("create")
        && words.find(|word| !matches!(*word, "temp" | "temporary")) == Some("trigger")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;
    use crate::token::tokens;

    fn open(text: &str) -> Vec<(Opened, usize)> {
        open_parts(text, &tokens(text, &SQLITE))
            .iter()
            .map(|part| (part.what, part.line))
            .collect()
    }

    #[test]
    fn brackets_quotes_comments_and_blocks() {
        assert_eq!(open("select (1\n + (2)"), [(Opened::Bracket, 1)]);
        assert_eq!(
            open("select (\n 'quay"),
            [(Opened::Bracket, 1), (Opened::Quote, 2)]
        );
        assert_eq!(open("select 1 /* (\n"), [(Opened::Comment, 1)]);
        assert_eq!(open("select \"a"), [(Opened::Name, 1)]);
        let trigger = "create trigger t after insert on v begin\n select case 1 when 1 then 2 end;";
        assert_eq!(open(trigger), [(Opened::Block, 1)]);
        assert_eq!(open(&format!("{trigger} end;")), []);
        assert_eq!(open("begin; select 1;"), []);
    }
}
