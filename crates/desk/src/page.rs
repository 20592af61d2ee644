//! Text with meaning instead of colours: what cards, errors, definitions and the guide are made of. A face
//! turns each tone into a colour, or drops it.

use idle_tide_lang::Dialect;
use idle_tide_lang::token::{Token, TokenKind, tokens};

/// What a piece of text means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Tone {
    /// Plain text.
    Plain,
    /// A heading, or a word of SQL.
    Heading,
    /// Supporting text.
    Faint,
    /// Active, or can be pressed.
    Active,
    /// A number.
    Number,
    /// A text literal.
    Literal,
    /// Failed or dangerous.
    Danger,
    /// Open, or needs care.
    Care,
    /// Part of a picture.
    Picture,
    /// The cap of a key.
    Key,
}

/// Characters of one tone. They may hold anything; a face draws them safely.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Span {
    /// What they mean.
    pub tone: Tone,
    /// The characters.
    pub text: String,
}

/// A line.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Line {
    /// Its pieces.
    pub spans: Vec<Span>,
}

impl Line {
    /// An empty line.
    pub fn new() -> Self {
        Self::default()
    }

    /// This line with a piece more.
    #[must_use]
    pub fn and(mut self, tone: Tone, text: impl Into<String>) -> Self {
        self.spans.push(Span {
            tone,
            text: text.into(),
        });
        self
    }

    /// A piece that is filled up with blanks to at least `width` characters.
    #[must_use]
    pub fn column(self, tone: Tone, text: impl Into<String>, width: usize) -> Self {
        let mut text = text.into();
        let length = text.chars().count();
        text.extend(std::iter::repeat_n(' ', width.saturating_sub(length)));
        self.and(tone, text)
    }

    /// All characters.
    pub fn text(&self) -> String {
        self.spans.iter().map(|span| span.text.as_str()).collect()
    }
}

/// Lines under each other.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Page {
    /// The lines.
    pub lines: Vec<Line>,
    /// Whether it is sentences, which go on in the next line where there is no room.
    pub sentences: bool,
}

impl Page {
    /// An empty page.
    pub fn new() -> Self {
        Self::default()
    }

    /// An empty page of sentences.
    pub fn of_sentences() -> Self {
        Page {
            sentences: true,
            ..Self::default()
        }
    }

    /// The same in lines of at most `width` characters, broken at blanks.
    #[must_use]
    pub fn wrapped(&self, width: usize) -> Self {
        let mut lines = Vec::new();
        for line in &self.lines {
            let (mut current, mut used) = (Line::new(), 0);
            for span in &line.spans {
                for word in span.text.split_inclusive(' ') {
                    let length = word.trim_end().chars().count();
                    if used > 0 && used + length > width {
                        lines.push(std::mem::take(&mut current));
                        used = 0;
                    }
                    used += word.chars().count();
                    current = current.and(span.tone, word);
                }
            }
            lines.push(current);
        }
        Page {
            lines,
            sentences: self.sentences,
        }
    }

    /// Adds a line.
    pub fn line(&mut self, line: Line) -> &mut Self {
        self.lines.push(line);
        self
    }

    /// Adds a line of one tone.
    pub fn say(&mut self, tone: Tone, text: impl Into<String>) -> &mut Self {
        self.line(Line::new().and(tone, text))
    }

    /// Adds an empty line.
    pub fn gap(&mut self) -> &mut Self {
        self.line(Line::new())
    }

    /// Adds the lines of a statement, its words in their tones.
    pub fn sql(&mut self, text: &str, dialect: &Dialect) -> &mut Self {
        self.lines.extend(sql_lines(text, dialect));
        self
    }

    /// Everything as plain text, a line each.
    pub fn text(&self) -> String {
        let mut text = String::new();
        for line in &self.lines {
            text.push_str(line.text().trim_end());
            text.push('\n');
        }
        text
    }
}

/// The tone of token `at` of a statement: its words of SQL and the functions it calls stand out.
pub fn tone_of(list: &[Token], at: usize, text: &str, dialect: &Dialect) -> Tone {
    let token = &list[at];
    let word = token.of(text);
    match token.kind {
        TokenKind::Word if dialect.is_keyword(word) => Tone::Heading,
        TokenKind::Word => {
            let called = list
                .get(at + 1)
                .is_some_and(|next| next.kind == TokenKind::Open);
            let known = || {
                dialect
                    .functions
                    .iter()
                    .any(|(name, _)| word.eq_ignore_ascii_case(name))
            };
            if called && known() {
                Tone::Heading
            } else {
                Tone::Plain
            }
        }
        TokenKind::QuotedName => Tone::Plain,
        TokenKind::Text => Tone::Literal,
        TokenKind::Number => Tone::Number,
        TokenKind::Parameter => Tone::Care,
        _ => Tone::Faint,
    }
}

/// The lines of a statement, its words in their tones.
pub fn sql_lines(text: &str, dialect: &Dialect) -> Vec<Line> {
    let mut lines = vec![Line::new()];
    let list = tokens(text, dialect);
    for (at, token) in list.iter().enumerate() {
        let tone = tone_of(&list, at, text, dialect);
        for (at, part) in token.of(text).split('\n').enumerate() {
            if at > 0 {
                lines.push(Line::new());
            }
            if let (Some(last), false) = (lines.last_mut(), part.is_empty()) {
                last.spans.push(Span {
                    tone,
                    text: part.to_string(),
                });
            }
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_go_on_in_the_next_line() {
        let mut page = Page::of_sentences();
        page.say(Tone::Heading, "This deletes all 3 rows of visits.");
        page.line(
            Line::new()
                .and(Tone::Care, "with them ")
                .and(Tone::Number, "2 rows"),
        );
        page.gap();
        let wrapped = page.wrapped(16);
        assert_eq!(
            wrapped.text(),
            "This deletes all\n3 rows of\nvisits.\nwith them 2 rows\n\n"
        );
        assert_eq!(wrapped.lines[3].spans[0].tone, Tone::Care);
        assert_eq!(page.wrapped(80).text(), page.text());
    }
}
