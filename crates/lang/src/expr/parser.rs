//! From text to [`Expr`], by precedence climbing with SQL's precedence (ISO/IEC 9075).

use std::ops::Range;

use idle_tide_core::Value;

use super::lexer::{Lexeme, lex};
use super::{Expr, ExprError, Node, Operator};

/// Brackets and signs within each other past this depth are refused.
const DEPTH: usize = 200;

struct Parser<'a> {
    text: &'a str,
    list: Vec<(Lexeme, Range<usize>)>,
    at: usize,
    depth: usize,
}

/// Understands an expression.
///
/// # Errors
/// An [`ExprError`] with the place and what was expected there.
pub fn parse(text: &str) -> Result<Expr, ExprError> {
    let mut parser = Parser {
        text,
        list: lex(text)?,
        at: 0,
        depth: 0,
    };
    if parser.list.is_empty() {
        return Err(parser.error("A condition was expected, for example  amount > 100."));
    }
    let expr = parser.expression(0)?;
    if parser.at < parser.list.len() {
        return Err(match &parser.list[parser.at].0 {
            Lexeme::Sign(")") => parser.error("This bracket closes nothing."),
            _ => parser
                .error("The condition ends before this; and, or, or an operator was expected."),
        });
    }
    Ok(expr)
}

/// Words that cannot be a plain name here.
const WORDS: &[&str] = &[
    "or", "and", "not", "between", "in", "like", "is", "null", "true", "false",
];

impl Parser<'_> {
    fn error(&self, message: &str) -> ExprError {
        let end = self.text.len();
        ExprError {
            message: message.to_string(),
            span: self
                .list
                .get(self.at)
                .map_or(end..end, |(_, span)| span.clone()),
            nearest: Vec::new(),
        }
    }

    fn word(&self, word: &str) -> bool {
        matches!(self.list.get(self.at), Some((Lexeme::Word(w), _)) if w.eq_ignore_ascii_case(word))
    }

    fn take_word(&mut self, word: &str) -> bool {
        let found = self.word(word);
        self.at += usize::from(found);
        found
    }

    fn sign(&self) -> &'static str {
        match self.list.get(self.at) {
            Some((Lexeme::Sign(sign), _)) => sign,
            _ => "",
        }
    }

    fn take_sign(&mut self, sign: &str) -> bool {
        let found = self.sign() == sign;
        self.at += usize::from(found);
        found
    }

    /// Reads operators that bind at least as tightly as `least`: or 1, and 2, not 3, comparisons 4,
    /// `||` 5, `+ -` 6, `* / %` 7.
    fn expression(&mut self, least: u8) -> Result<Expr, ExprError> {
        self.depth += 1;
        if self.depth > DEPTH {
            return Err(self.error("This goes too deep; it has more than 200 levels."));
        }
        let mut left = if least <= 3 && self.word("not") {
            let start = self.list[self.at].1.start;
            self.at += 1;
            let inner = self.expression(3)?;
            let span = start..inner.span.end;
            Expr {
                node: Node::Not(Box::new(inner)),
                span,
            }
        } else {
            self.primary()?
        };
        while let Some((operator, strength)) = self.operator() {
            if strength < least {
                break;
            }
            if let Some(operator) = operator {
                self.at += 1;
                let right = self.expression(strength + 1)?;
                if let (Operator::Equal | Operator::NotEqual, Node::Literal(Value::Null)) =
                    (operator, &right.node)
                {
                    let words = if operator == Operator::Equal {
                        "is null"
                    } else {
                        "is not null"
                    };
                    return Err(ExprError {
                        message: format!("Nothing equals null; write  {words}  instead."),
                        span: left.span.end..right.span.end,
                        nearest: vec![words.to_string()],
                    });
                }
                let span = left.span.start..right.span.end;
                left = Expr {
                    node: Node::Binary(operator, Box::new(left), Box::new(right)),
                    span,
                };
            } else {
                left = self.word_operator(left)?;
            }
        }
        self.depth -= 1;
        Ok(left)
    }

    /// The operator here and its strength; `None` inside for those written as words.
    fn operator(&self) -> Option<(Option<Operator>, u8)> {
        use Operator as O;
        let (operator, strength) = match &self.list.get(self.at)?.0 {
            Lexeme::Sign(sign) => match *sign {
                "=" => (O::Equal, 4),
                "<>" | "!=" => (O::NotEqual, 4),
                "<" => (O::Less, 4),
                "<=" => (O::LessOrEqual, 4),
                ">" => (O::Greater, 4),
                ">=" => (O::GreaterOrEqual, 4),
                "||" => (O::Concatenate, 5),
                "+" => (O::Add, 6),
                "-" => (O::Subtract, 6),
                "*" => (O::Multiply, 7),
                "/" => (O::Divide, 7),
                "%" => (O::Remainder, 7),
                _ => return None,
            },
            Lexeme::Word(word) => match word.to_ascii_lowercase().as_str() {
                "or" => (O::Or, 1),
                "and" => (O::And, 2),
                "between" | "in" | "like" | "is" | "not" => return Some((None, 4)),
                _ => return None,
            },
            _ => return None,
        };
        Some((Some(operator), strength))
    }

    /// `between`, `in`, `like`, `is null`, each with its `not`.
    fn word_operator(&mut self, left: Expr) -> Result<Expr, ExprError> {
        let start = left.span.start;
        let left = Box::new(left);
        if self.take_word("is") {
            let not = self.take_word("not");
            if !self.take_word("null") {
                return Err(self.error("null was expected after is."));
            }
            let end = self.list[self.at - 1].1.end;
            return Ok(Expr {
                node: Node::IsNull(left, not),
                span: start..end,
            });
        }
        let not = self.take_word("not");
        let node = if self.take_word("between") {
            let low = self.expression(5)?;
            if !self.take_word("and") {
                return Err(self.error("and was expected: between LOW and HIGH."));
            }
            Node::Between(left, Box::new(low), Box::new(self.expression(5)?), not)
        } else if self.take_word("in") {
            if !self.take_sign("(") {
                return Err(self.error("An opening bracket was expected: in (1, 2, 3)."));
            }
            let mut list = vec![self.expression(0)?];
            while self.take_sign(",") {
                list.push(self.expression(0)?);
            }
            if !self.take_sign(")") {
                return Err(self.error("A comma or the closing bracket of the list was expected."));
            }
            Node::In(left, list, not)
        } else if self.take_word("like") {
            Node::Like(left, Box::new(self.expression(5)?), not)
        } else {
            return Err(self.error("between, in or like was expected after not."));
        };
        let end = self.list[self.at - 1].1.end;
        Ok(Expr {
            node,
            span: start..end,
        })
    }

    fn primary(&mut self) -> Result<Expr, ExprError> {
        let Some((lexeme, span)) = self.list.get(self.at).cloned() else {
            return Err(self.error("A column or a value was expected here."));
        };
        let node = match lexeme {
            Lexeme::Integer(integer) => Node::Literal(Value::Integer(integer)),
            Lexeme::Float(float) => Node::Literal(Value::Float(float)),
            Lexeme::Text(text) => Node::Literal(Value::Text(text)),
            Lexeme::Sign("(") => {
                self.at += 1;
                let inner = self.expression(0)?;
                if !self.take_sign(")") {
                    return Err(ExprError {
                        message: "The bracket that opens here is never closed.".into(),
                        span,
                        nearest: Vec::new(),
                    });
                }
                return Ok(Expr {
                    span: span.start..self.list[self.at - 1].1.end,
                    node: inner.node,
                });
            }
            Lexeme::Sign("-") => {
                self.at += 1;
                let inner = self.expression(8)?;
                return Ok(Expr {
                    span: span.start..inner.span.end,
                    node: Node::Negative(Box::new(inner)),
                });
            }
            Lexeme::Word(word) => match word.to_ascii_lowercase().as_str() {
                "null" => Node::Literal(Value::Null),
                "true" => Node::Literal(Value::Boolean(true)),
                "false" => Node::Literal(Value::Boolean(false)),
                lower if WORDS.contains(&lower) => {
                    return Err(self.error("A column or a value was expected here."));
                }
                _ => return self.path(word),
            },
            Lexeme::Name(name) => return self.path(name),
            Lexeme::Sign(_) => {
                return Err(self.error("A column or a value was expected here."));
            }
        };
        self.at += 1;
        Ok(Expr { node, span })
    }

    fn path(&mut self, first: String) -> Result<Expr, ExprError> {
        let start = self.list[self.at].1.start;
        let mut parts = vec![first];
        self.at += 1;
        while self.take_sign(".") {
            match self.list.get(self.at) {
                Some((Lexeme::Word(name) | Lexeme::Name(name), _)) => parts.push(name.clone()),
                _ => return Err(self.error("A name was expected after the dot.")),
            }
            self.at += 1;
        }
        Ok(Expr {
            node: Node::Path(parts),
            span: start..self.list[self.at - 1].1.end,
        })
    }
}
