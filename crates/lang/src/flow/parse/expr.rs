//! Expressions, by precedence climbing with SQL's precedence (ISO/IEC 9075).

use std::collections::HashSet;

use idle_tide_core::document::{Datum, Decimal128, Document, Kind, extended, id_of, time};

use super::super::FlowError;
use super::super::ast::{Expr, KindWord, Name, Node, Operator, Span};
use super::super::functions::{self, AGGREGATES, FUNCTIONS};
use super::super::token::{TokenKind, unquoted};
use super::{Parser, Result, meaning};

/// Words between values: where a value is expected they are names only if no value follows.
const BETWEEN_VALUES: &[&str] = &[
    "and", "or", "between", "in", "like", "is", "then", "else", "when", "end",
];

impl Parser<'_> {
    /// Reads an expression that has to be true or false.
    pub(super) fn condition(&mut self) -> Result<Expr> {
        self.expression(0).and_then(meaning::condition)
    }

    /// Reads operators that bind at least as tightly as `least` ([`Operator::strength`]).
    pub(super) fn expression(&mut self, least: u8) -> Result<Expr> {
        self.deeper()?;
        let mut left = if least <= 3 && self.is_word("not") && !self.not_is_a_name() {
            let start = self.span().start;
            self.at += 1;
            let inner = self.expression(3)?;
            let span = start..inner.span.end;
            Expr::new(Node::Not(Box::new(inner)), span)
        } else {
            let first = self.primary()?;
            self.elements(first)?
        };
        while let Some((operator, strength)) = self.operator() {
            if strength < least {
                break;
            }
            self.operates()?;
            left = match operator {
                Some(operator) => {
                    self.at += 1;
                    let right = self.expression(strength + 1)?;
                    self.not_null(operator, &left, &right)?;
                    let span = left.span.start..right.span.end;
                    Expr::new(
                        Node::Binary(operator, Box::new(left), Box::new(right)),
                        span,
                    )
                }
                None => self.word_operator(left)?,
            };
        }
        self.depth -= 1;
        Ok(left)
    }

    /// Whether `not` stands here as the name of a field.
    fn not_is_a_name(&self) -> bool {
        matches!(
            self.ahead_text(1),
            "" | "=" | "<>" | "!=" | "<" | "<=" | ">" | ">=" | "." | ")" | "}" | "," | ";"
        )
    }

    fn not_null(&self, operator: Operator, left: &Expr, right: &Expr) -> Result<()> {
        let null = |e: &Expr| matches!(e.node, Node::Literal(Datum::Null));
        if !operator.compares() || !null(left) && !null(right) {
            return Ok(());
        }
        let words = if operator == Operator::NotEqual {
            "is not null"
        } else {
            "is null"
        };
        let span = if null(right) {
            left.span.end..right.span.end
        } else {
            left.span.start..right.span.start
        };
        let mut error = FlowError::at(
            span,
            format!(
                "Nothing compares with null. {words}  asks for null or not there, is missing  for not there."
            ),
        );
        if null(right) {
            error.nearest = vec![words.to_string(), "is missing".to_string()];
        }
        Err(error)
    }

    /// The operator here and its strength; `None` inside for those written as words.
    fn operator(&self) -> Option<(Option<Operator>, u8)> {
        use Operator as O;
        let token = self.peek()?;
        if self.script && self.inside == 0 && self.breaks() {
            return None;
        }
        let operator = match (token.kind, self.here()) {
            (TokenKind::Sign, sign) => match sign {
                "=" => O::Equal,
                "<>" | "!=" => O::NotEqual,
                "<" => O::Less,
                "<=" => O::LessOrEqual,
                ">" => O::Greater,
                ">=" => O::GreaterOrEqual,
                "||" => O::Concatenate,
                "+" => O::Add,
                "-" => O::Subtract,
                "*" => O::Multiply,
                "/" => O::Divide,
                "%" => O::Remainder,
                _ => return None,
            },
            (TokenKind::Word, word) => match word.to_ascii_lowercase().as_str() {
                "or" => O::Or,
                "and" => O::And,
                "between" | "in" | "like" | "is" | "not" => return Some((None, 4)),
                _ => return None,
            },
            _ => return None,
        };
        Some((Some(operator), operator.strength()))
    }

    /// `between`, `in`, `like`, `is …`, each with its `not`.
    fn word_operator(&mut self, left: Expr) -> Result<Expr> {
        let start = left.span.start;
        let left = Box::new(left);
        let node = if self.take_word("is") {
            let not = self.take_word("not");
            if self.take_word("null") {
                Node::IsNull(left, not)
            } else if self.take_word("missing") {
                Node::IsMissing(left, not)
            } else if self.take_word("of") {
                Node::IsOf(left, self.kind_word()?, not)
            } else {
                let mut error = self.expected("null, missing or of KIND (of number, of text)");
                error.nearest = vec!["null".into(), "missing".into(), "of number".into()];
                return Err(error);
            }
        } else {
            let not = self.take_word("not");
            if self.take_word("between") {
                let low = self.expression(5)?;
                self.want_word("and", "and (between LOW and HIGH)")?;
                let high = self.expression(5)?;
                self.not_null(Operator::Equal, &low, &high)?;
                Node::Between(left, Box::new(low), Box::new(high), not)
            } else if self.take_word("in") {
                self.list_after_in(left, not)?
            } else if self.take_word("like") {
                Node::Like(left, Box::new(self.expression(5)?), not)
            } else {
                return Err(self.expected("between, in or like after not"));
            }
        };
        Ok(Expr::new(node, start..self.before()))
    }

    fn list_after_in(&mut self, left: Box<Expr>, not: bool) -> Result<Node> {
        let open = self.span();
        if !self.take_sign("(") {
            let list = self.expression(5)?;
            return Ok(match list.node {
                Node::List(items) => {
                    self.no_null_among(&items)?;
                    Node::In(left, items, not)
                }
                Node::Literal(_) | Node::Day(..) | Node::Negative(_) | Node::Object(_) => {
                    let value = self.text.get(list.span.clone()).unwrap_or_default();
                    return Err(FlowError {
                        message: format!("A list was expected after in:  in ({value})."),
                        nearest: vec![format!("({value})")],
                        span: list.span,
                    });
                }
                _ => Node::InList(left, Box::new(list), not),
            });
        }
        let mut items = Vec::new();
        while !self.is_sign(")") {
            items.push(self.expression(0)?);
            if !self.take_sign(",") {
                break;
            }
        }
        self.close(")", open, "a comma ")?;
        self.no_null_among(&items)?;
        Ok(match items.as_slice() {
            // A parameter alone may be a list.
            [one] if matches!(one.node, Node::Parameter(..)) => {
                Node::InList(left, Box::new(one.clone()), not)
            }
            _ => Node::In(left, items, not),
        })
    }

    fn no_null_among(&self, items: &[Expr]) -> Result<()> {
        match items
            .iter()
            .find(|e| matches!(e.node, Node::Literal(Datum::Null)))
        {
            Some(null) => Err(FlowError::at(
                null.span.clone(),
                "Nothing equals null; add  or ... is null  instead.",
            )),
            None => Ok(()),
        }
    }

    fn kind_word(&mut self) -> Result<KindWord> {
        let word = self.here().to_ascii_lowercase();
        let found = match word.as_str() {
            "number" => Some(KindWord::Number),
            _ => Kind::ALL
                .iter()
                .find(|(_, w)| *w == word)
                .map(|(kind, _)| KindWord::One(*kind)),
        };
        match found {
            Some(kind) => {
                self.at += 1;
                Ok(kind)
            }
            None => {
                let mut error = self.expected(
                    "a kind (number, text, date, list, object, boolean, id, bytes and so on)",
                );
                error.nearest = crate::correct::nearest(
                    &word,
                    Kind::ALL.iter().map(|(_, w)| *w).chain(["number"]),
                    3,
                );
                Err(error)
            }
        }
    }

    /// Whether what stands `offset` tokens ahead can begin a value.
    fn value_ahead(&self, offset: usize) -> bool {
        match self.ahead(offset).map(|t| t.kind) {
            Some(TokenKind::Number | TokenKind::Text | TokenKind::Name) => true,
            Some(TokenKind::Word) => !BETWEEN_VALUES.iter().any(|w| self.is_word_at(offset, w)),
            Some(TokenKind::Sign) => matches!(self.ahead_text(offset), "(" | "{" | ":"),
            _ => false,
        }
    }

    fn primary(&mut self) -> Result<Expr> {
        let span = self.span();
        let Some(kind) = self.peek().map(|t| t.kind) else {
            return Err(self.expected("a field or a value"));
        };
        let node = match kind {
            TokenKind::Number => {
                let node = self.number()?;
                self.at += 1;
                node
            }
            TokenKind::Text => {
                let text = unquoted(self.here()).map_err(|_| {
                    FlowError::at(span.clone(), "This text has an escape that JSON does not know. A backslash itself is written twice.")
                })?;
                self.at += 1;
                Node::Literal(text.into())
            }
            TokenKind::Name => {
                let name = self.name("a field")?;
                Node::Path(self.path_after(name)?)
            }
            TokenKind::Word => return self.word(),
            TokenKind::Sign => match self.here() {
                "(" => {
                    self.at += 1;
                    self.inside += 1;
                    let inner = self.expression(0)?;
                    self.inside -= 1;
                    self.close(")", span.clone(), "and, or, an operator ")?;
                    return Ok(Expr::new(inner.node, span.start..self.before()));
                }
                "-" => {
                    self.at += 1;
                    self.deeper()?;
                    let inner = self.primary()?;
                    let inner = self.elements(inner)?;
                    self.depth -= 1;
                    match (&inner.node, self.text.get(inner.span.clone())) {
                        // The smallest integer has no positive counterpart.
                        (Node::Literal(Datum::Double(_)), Some("9223372036854775808")) => {
                            Node::Literal(Datum::Long(i64::MIN))
                        }
                        _ => Node::Negative(Box::new(inner)),
                    }
                }
                "{" => self.object()?,
                "[" => {
                    self.at += 1;
                    self.inside += 1;
                    let mut items = Vec::new();
                    while !self.is_sign("]") {
                        items.push(self.expression(0)?);
                        if !self.take_sign(",") {
                            break;
                        }
                    }
                    self.inside -= 1;
                    self.close("]", span.clone(), "a comma ")?;
                    Node::List(items)
                }
                ":" => self.parameter()?,
                _ => return Err(self.expected("a field or a value")),
            },
            _ => return Err(self.expected("a field or a value")),
        };
        Ok(Expr::new(node, span.start..self.before()))
    }

    fn number(&self) -> Result<Node> {
        let digits = self.here();
        if let Ok(whole) = digits.parse::<i64>() {
            return Ok(Node::Literal(Datum::integer(whole)));
        }
        if self.script
            && let Ok(exact) = digits.parse::<Decimal128>()
        {
            return Ok(Node::Literal(Datum::Decimal(exact)));
        }
        match digits.parse::<f64>() {
            Ok(number) if digits.bytes().all(|b| b.is_ascii_digit()) => {
                if digits == "9223372036854775808" {
                    return Ok(Node::Literal(Datum::Double(number)));
                }
                Err(self.error(format!(
                    "{digits} does not fit into 64 bits; write  decimal '{digits}'  or {digits}.0."
                )))
            }
            Ok(number) if number.is_finite() => Ok(Node::Literal(Datum::Double(number))),
            _ => Err(self.error(format!(
                "{digits} is not a number that fits; write  decimal '{digits}'."
            ))),
        }
    }

    fn parameter(&mut self) -> Result<Node> {
        let colon = self.span();
        self.at += 1;
        let hidden = self.is_sign("?") && self.span().start == colon.end;
        self.at += usize::from(hidden);
        if self.span().start != colon.end + usize::from(hidden)
            || self.peek().is_none_or(|t| t.kind != TokenKind::Word)
        {
            return Err(self.expected("the name of a parameter right after the colon"));
        }
        let name = self.name("the name of a parameter")?;
        let mut fields = Vec::new();
        while self.is_sign(".") {
            self.at += 1;
            fields.push(self.name("a field of the variable")?.name);
        }
        Ok(Node::Parameter(name.name, fields, hidden))
    }

    fn word(&mut self) -> Result<Expr> {
        let span = self.span();
        let lower = self.here().to_ascii_lowercase();
        let text_follows = self.ahead(1).is_some_and(|t| t.kind == TokenKind::Text);
        let done = |parser: &mut Self, node| {
            parser.at += 1;
            Ok(Expr::new(node, span.clone()))
        };
        match lower.as_str() {
            "true" => return done(self, Node::Literal(true.into())),
            "false" => return done(self, Node::Literal(false.into())),
            "null" => return done(self, Node::Literal(Datum::Null)),
            "date" | "timestamp" | "id" | "decimal" | "bytes" if text_follows => {
                return self.typed_literal(&lower);
            }
            "case" if self.is_word_at(1, "when") => return self.case(),
            "some" if self.value_ahead(1) && self.ahead_text(1) != "(" => {
                self.at += 1;
                let path = self.path("the path of a list after some")?;
                let open = self.span();
                self.want_sign("(", "an opening ( with the condition for one element")?;
                let inner = self.condition()?;
                self.close(")", open, "and, or, an operator ")?;
                return Ok(Expr::new(
                    Node::Some(path, Box::new(inner)),
                    span.start..self.before(),
                ));
            }
            word if BETWEEN_VALUES.contains(&word) && self.value_ahead(1) => {
                return Err(self.expected("a field or a value"));
            }
            _ if self.at_stage() && self.value_ahead(1) && self.ahead_text(1) != "(" => {
                return Err(self.expected("a field or a value"));
            }
            _ => {}
        }
        if self.ahead_text(1) == "(" {
            return self.call();
        }
        let name = self.name("a field")?;
        let path = self.path_after(name)?;
        let span = path.span.clone();
        Ok(Expr::new(Node::Path(path), span))
    }

    /// `date '…'` and its like.
    fn typed_literal(&mut self, word: &str) -> Result<Expr> {
        let start = self.span().start;
        self.at += 1;
        let text = unquoted(self.here()).unwrap_or_default();
        let node = match word {
            "date" => time::day(&text, self.zone).map(|(from, to)| Node::Day(from, to)),
            "timestamp" => time::read(&text, self.zone).map(|ms| Node::Literal(Datum::Date(ms))),
            "id" => id_of(&text).map(|id| Node::Literal(Datum::Id(id))),
            "decimal" => text
                .parse::<Decimal128>()
                .ok()
                .map(|d| Node::Literal(Datum::Decimal(d))),
            _ => bytes_of(&text).map(|bytes| Node::Literal(Datum::Bytes(Box::new((0, bytes))))),
        };
        let Some(node) = node else {
            let right = match word {
                "date" => "a day of the calendar:  date '2031-03-01'",
                "timestamp" => "a moment:  timestamp '2031-03-01T05:12:00Z'",
                "id" => "24 hexadecimal digits:  id '65f0a1b2c3d4e5f60718293a'",
                "decimal" => "a decimal of up to 34 digits:  decimal '0.10'",
                _ => "pairs of hexadecimal digits:  bytes '00ff'",
            };
            return Err(self.error(format!("'{text}' is not {right}.")));
        };
        self.at += 1;
        Ok(Expr::new(node, start..self.before()))
    }

    fn case(&mut self) -> Result<Expr> {
        let start = self.span().start;
        self.at += 1;
        let mut arms = Vec::new();
        while self.take_word("when") {
            let when = self.condition()?;
            self.want_word("then", "then")?;
            arms.push((when, self.expression(0)?));
        }
        let other = if self.take_word("else") {
            Some(Box::new(self.expression(0)?))
        } else {
            None
        };
        self.want_word("end", "when, else or end")?;
        Ok(Expr::new(Node::Case(arms, other), start..self.before()))
    }

    fn call(&mut self) -> Result<Expr> {
        let name = self.name("a function")?;
        let Some(function) = functions::named(&name.name) else {
            if self.script || self.made.contains(&name.name.as_str()) {
                let open = self.span();
                let arguments = self.arguments(open)?;
                let span = name.span.start..self.before();
                return Ok(Expr::new(Node::Apply(name.name, arguments), span));
            }
            if AGGREGATES
                .iter()
                .any(|(word, ..)| name.name.eq_ignore_ascii_case(word))
            {
                return Err(FlowError::at(
                    name.span,
                    format!(
                        "{0} counts over the documents of a group and stands only there:  group by key {{ n: {0}(...) }}. Over a list there are size, total, mean, smallest and largest.",
                        name.name.to_ascii_lowercase()
                    ),
                ));
            }
            let nearest = crate::correct::nearest(&name.name, FUNCTIONS.iter().map(|f| f.name), 3);
            let hint = nearest
                .first()
                .map_or(String::new(), |first| format!(" The nearest is {first}."));
            let mut error = FlowError::at(
                name.span,
                format!("There is no function {}.{hint}", name.name),
            );
            error.nearest = nearest;
            return Err(error);
        };
        let open = self.span();
        let arguments = self.arguments(open)?;
        let span = name.span.start..self.before();
        if arguments.len() < function.least || arguments.len() > function.most {
            return Err(FlowError::at(
                span,
                format!(
                    "{0} is written {0}({1}).",
                    function.name, function.arguments
                ),
            ));
        }
        Ok(Expr::new(Node::Call(function, arguments), span))
    }

    /// The arguments of a function, from the bracket that opens them on.
    fn arguments(&mut self, open: Span) -> Result<Vec<Expr>> {
        self.at += 1;
        self.inside += 1;
        let mut arguments = Vec::new();
        while !self.is_sign(")") {
            arguments.push(self.expression(0)?);
            if !self.take_sign(",") {
                break;
            }
        }
        self.inside -= 1;
        self.close(")", open, "a comma ")?;
        Ok(arguments)
    }

    fn object(&mut self) -> Result<Node> {
        let open = self.span();
        self.at += 1;
        self.inside += 1;
        let mut fields: Vec<(String, Expr)> = Vec::new();
        let mut seen = HashSet::new();
        while !self.is_sign("}") {
            let name = self.object_name()?;
            if !seen.insert(name.name.clone()) {
                return Err(FlowError::at(
                    name.span,
                    format!(
                        "{} stands here twice, and an object has each field once.",
                        name.name
                    ),
                ));
            }
            self.want_sign(":", &format!("a colon after {}", name.name))?;
            let value = self.expression(0)?;
            fields.push((name.name, value));
            if !self.take_sign(",") {
                break;
            }
        }
        self.inside -= 1;
        self.close("}", open.clone(), "a comma ")?;
        self.extended(fields, &(open.start..self.before()))
    }

    /// The name of a field in an object: as it is, in quotes or in back-ticks; it may begin with a dollar.
    fn object_name(&mut self) -> Result<Name> {
        let span = self.span();
        match self.peek().map(|t| t.kind) {
            Some(TokenKind::Text | TokenKind::Name) => {
                let name = unquoted(self.here()).unwrap_or_default();
                self.at += 1;
                Ok(Name { name, span })
            }
            Some(TokenKind::Word | TokenKind::Number) => {
                let name = self.here().to_string();
                self.at += 1;
                Ok(Name { name, span })
            }
            _ => Err(self.expected("the name of a field")),
        }
    }

    /// An object, or the value that it stands for as a form of Extended JSON.
    fn extended(&self, fields: Vec<(String, Expr)>, span: &Span) -> Result<Node> {
        let special = fields
            .first()
            .is_some_and(|(name, _)| name.starts_with('$'));
        let values: Option<Document> = fields
            .iter()
            .map(|(name, e)| Some((name.as_str(), e.constant()?)))
            .collect();
        match values.filter(|_| special) {
            Some(document) => match extended::settle(document) {
                Ok(Datum::Object(_)) => Ok(Node::Object(fields)),
                Ok(value) => Ok(Node::Literal(value)),
                Err(words) => Err(FlowError::at(span.clone(), format!("{words}."))),
            },
            None => Ok(Node::Object(fields)),
        }
    }
}

fn bytes_of(text: &str) -> Option<Vec<u8>> {
    if !text.len().is_multiple_of(2) || !text.is_ascii() {
        return None;
    }
    (0..text.len())
        .step_by(2)
        .map(|at| u8::from_str_radix(&text[at..at + 2], 16).ok())
        .collect()
}
