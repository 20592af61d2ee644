//! Script lines: what stands behind `=`.

use idle_tide_core::document::time::TimeZone;

use super::super::FlowError;
use super::super::ast::{Expr, Line, Name, Node, Step};
use super::super::token::TokenKind;
use super::{Parser, Result};

/// Reads script lines; the `=` before the first is left out. Places are those of `text`.
///
/// # Errors
/// What is wrong with the first line that is not understood, with its place.
pub fn script(text: &str, zone: &TimeZone) -> Result<Vec<Line>> {
    let mut parser = Parser::new(text, zone);
    parser.script = true;
    parser.take_sign("=");
    let lines = parser.lines()?;
    match parser.peek() {
        Some(_) => Err(parser.expected("a line of a script")),
        None => Ok(lines),
    }
}

impl Parser<'_> {
    /// Whether a line break stands before the token here.
    pub(super) fn breaks(&self) -> bool {
        let from = self
            .at
            .checked_sub(1)
            .map_or(0, |before| self.list[before].span.end);
        let to = self
            .peek()
            .map_or(self.text.len(), |token| token.span.start);
        self.text
            .get(from..to)
            .is_some_and(|between| between.contains('\n'))
    }

    /// What follows a value in a script: `[element]` and `.field`, right behind it.
    pub(super) fn elements(&mut self, mut value: Expr) -> Result<Expr> {
        while self.script && self.span().start == value.span.end {
            let start = value.span.start;
            let element = if self.is_sign("[") {
                let open = self.span();
                self.at += 1;
                self.inside += 1;
                let inner = self.expression(0)?;
                self.inside -= 1;
                self.close("]", open, "an operator ")?;
                inner
            } else if self.is_sign(".") {
                self.at += 1;
                let name = self.name("a name after the dot")?;
                Expr::new(Node::Literal(name.name.as_str().into()), name.span)
            } else {
                break;
            };
            let span = start..self.before();
            value = Expr::new(Node::Element(Box::new(value), Box::new(element)), span);
        }
        Ok(value)
    }

    fn lines(&mut self) -> Result<Vec<Line>> {
        let mut lines = Vec::new();
        loop {
            while self.take_sign(";") {}
            if self.peek().is_none() || self.is_sign("}") {
                return Ok(lines);
            }
            lines.push(self.line()?);
            let ends =
                self.peek().is_none() || self.is_sign(";") || self.is_sign("}") || self.breaks();
            if !ends {
                return Err(self.expected("an operator, a semicolon or a new line"));
            }
        }
    }

    fn block(&mut self) -> Result<Vec<Line>> {
        let open = self.span();
        self.want_sign("{", "an opening { with the lines that are done")?;
        self.deeper()?;
        let lines = self.lines()?;
        self.depth -= 1;
        self.close("}", open, "a new line ")?;
        Ok(lines)
    }

    fn line(&mut self) -> Result<Line> {
        // A word that is followed by = is a variable, whatever it is.
        let sets = |parser: &Self| {
            let mut at = 1;
            loop {
                let word = |at| {
                    let token = parser.ahead(at);
                    token.is_some_and(|t| t.kind == TokenKind::Word)
                };
                match parser.ahead_text(at) {
                    "." if word(at + 1) => at += 2,
                    "[" if parser.ahead_text(at + 2) == "]" => at += 3,
                    sign => return sign == "=",
                }
            }
        };
        let names = matches!(
            self.peek().map(|t| t.kind),
            Some(TokenKind::Word | TokenKind::Name)
        );
        if names && sets(self) {
            let path = self.path("a variable")?;
            if let Some(Step::Index(_)) = path
                .steps
                .iter()
                .find(|step| matches!(step, Step::Index(_)))
            {
                return Err(FlowError::at(
                    path.span,
                    "An element of a list cannot be set; a whole list can. In brackets it is compared:  (l[0] = 5).",
                ));
            }
            self.at += 1;
            return Ok(Line::Set(path, self.expression(0)?));
        }
        if self.is_word("for") && self.is_word_at(2, "in") {
            self.at += 1;
            let name = self.name("a variable")?;
            self.want_word("in", "in")?;
            let over = self.expression(0)?;
            let to = match self.take_sign("..") {
                true => Some(self.expression(0)?),
                false => None,
            };
            let lines = self.block()?;
            return Ok(match to {
                Some(to) => Line::Count(name, over, to, lines),
                None => Line::Each(name, over, lines),
            });
        }
        if self.is_word("if") && self.ahead_text(1) != "." {
            let mut arms = Vec::new();
            loop {
                self.at += 1;
                let condition = self.condition()?;
                arms.push((condition, self.block()?));
                if !self.take_word("else") {
                    return Ok(Line::If(arms, Vec::new()));
                }
                if !self.is_word("if") {
                    return Ok(Line::If(arms, self.block()?));
                }
            }
        }
        if self.is_word("def") && self.ahead_text(2) == "(" {
            return self.definition();
        }
        for (word, line) in [
            ("print", Line::Print as fn(Expr) -> Line),
            ("show", Line::Show),
        ] {
            let alone = matches!(self.ahead_text(1), "" | ";" | "." | "=" | ")");
            if self.is_word(word) && !alone {
                self.at += 1;
                return Ok(line(self.expression(0)?));
            }
        }
        Ok(Line::Value(self.expression(0)?))
    }

    fn definition(&mut self) -> Result<Line> {
        self.at += 1;
        let name = self.name("the name of the function")?;
        if super::super::functions::named(&name.name).is_some() {
            let words = format!(
                "{} is a function already; another name is needed.",
                name.name
            );
            return Err(FlowError::at(name.span, words));
        }
        let open = self.span();
        self.at += 1;
        let mut arguments: Vec<Name> = Vec::new();
        while !self.is_sign(")") {
            arguments.push(self.name("the name of an argument")?);
            if !self.take_sign(",") {
                break;
            }
        }
        self.close(")", open, "a comma ")?;
        self.want_sign("=", "a = with what the function gives")?;
        Ok(Line::Define(name, arguments, self.expression(0)?))
    }
}
