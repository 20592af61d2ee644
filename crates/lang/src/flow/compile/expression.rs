//! Expressions as the aggregation expressions of servers, guarded so that they mean what the language says: no comparison across kinds, null
//! instead of an error for values of another kind, an error where whole numbers overflow.

use idle_tide_core::document::{Datum, Document, Kind};

use super::super::FlowError;
use super::super::ast::{Expr, KindWord, Node, Operator, Path, Step};
use super::call;

pub(super) type Result<T> = std::result::Result<T, FlowError>;

/// `{ name: value }`
pub(super) fn op(name: &str, value: impl Into<Datum>) -> Datum {
    let mut value = value.into();
    // A list in the place of the one argument would be read as several.
    if matches!((name, &value), ("$type" | "$isNumber", Datum::List(_))) {
        value = Datum::List(vec![value]);
    }
    Document::new().with(name, value).into()
}

/// `{ name: [ values ] }`
pub(super) fn ops(name: &str, values: impl IntoIterator<Item = Datum>) -> Datum {
    op(name, Datum::List(values.into_iter().collect()))
}

pub(super) fn cond(condition: Datum, yes: Datum, no: Datum) -> Datum {
    ops("$cond", [condition, yes, no])
}

pub(super) fn and(mut list: Vec<Datum>) -> Datum {
    if list.len() == 1 {
        list.remove(0)
    } else {
        ops("$and", list)
    }
}

/// A value that is not read as an expression.
pub(super) fn literal(value: &Datum) -> Datum {
    match value {
        Datum::Text(text) if text.starts_with('$') => op("$literal", value.clone()),
        Datum::Object(_) | Datum::List(_) => op("$literal", value.clone()),
        other => other.clone(),
    }
}

pub(super) const MISSING: &str = "$$REMOVE";

/// Compiles expressions over a document, or over an element of a list that is a variable.
#[derive(Debug, Default)]
pub(super) struct Compiler {
    root: Option<String>,
    variables: usize,
}

impl Compiler {
    fn fresh(&mut self) -> String {
        self.variables += 1;
        format!("v{}", self.variables)
    }

    /// Gives a value a name if it is more than a path or a plain value, so that it is computed once.
    pub(super) fn with(
        &mut self,
        value: Datum,
        then: impl FnOnce(&mut Self, Datum) -> Result<Datum>,
    ) -> Result<Datum> {
        let simple = match &value {
            Datum::Object(document) => document.get("$literal").is_some(),
            Datum::List(_) => false,
            _ => true,
        };
        if simple {
            return then(self, value);
        }
        let name = self.fresh();
        let inner = then(self, format!("$${name}").into())?;
        Ok(let_in(&name, value, inner))
    }

    /// The value of an expression.
    pub(super) fn value(&mut self, e: &Expr) -> Result<Datum> {
        if let Some(constant) = e.constant() {
            return Ok(literal(&constant));
        }
        Ok(match &e.node {
            Node::Literal(value) => literal(value),
            Node::Day(start, _) => Datum::Date(*start),
            Node::Parameter(name, ..) => return Err(no_value(name, e)),
            Node::Path(path) => self.path(path)?,
            Node::Negative(inner) => {
                let inner = self.value(inner)?;
                self.arithmetic(Operator::Multiply, inner, Datum::Int(-1))?
            }
            Node::Binary(operator, a, b)
                if !matches!(operator, Operator::And | Operator::Or) && !operator.compares() =>
            {
                if *operator == Operator::Concatenate {
                    let (a, b) = (self.text(a)?, self.text(b)?);
                    return Ok(ops("$concat", [a, b]));
                }
                let (a, b) = (self.value(a)?, self.value(b)?);
                self.arithmetic(*operator, a, b)?
            }
            Node::Case(arms, other) => {
                let mut branches = Vec::new();
                for (when, then) in arms {
                    let branch = Document::new()
                        .with("case", self.truth(when)?)
                        .with("then", self.value(then)?);
                    branches.push(Datum::from(branch));
                }
                let other = match other {
                    Some(other) => self.value(other)?,
                    None => Datum::Null,
                };
                op(
                    "$switch",
                    Document::new()
                        .with("branches", Datum::List(branches))
                        .with("default", other),
                )
            }
            Node::Call(function, arguments) => call::compile(self, function.id, arguments)?,
            Node::Object(fields) => {
                let mut document = Document::new();
                for (name, value) in fields {
                    if name.is_empty() || name.contains('.') || name.starts_with('$') {
                        return Err(FlowError::at(
                            e.span.clone(),
                            format!(
                                "A server computes no field with the name {name}: no dots, no dollar in front."
                            ),
                        ));
                    }
                    document.set(name, self.value(value)?);
                }
                document.into()
            }
            Node::List(items) => Datum::List(
                items
                    .iter()
                    .map(|item| self.value(item))
                    .collect::<Result<_>>()?,
            ),
            _ => self.truth(e)?,
        })
    }

    /// The value as text, null where it has none.
    fn text(&mut self, e: &Expr) -> Result<Datum> {
        let value = self.value(e)?;
        if matches!(value, Datum::Text(ref t) if !t.starts_with('$'))
            || matches!(&value, Datum::Object(o) if o.get("$concat").is_some())
        {
            return Ok(value);
        }
        call::text(self, value)
    }

    fn prefix(&self) -> String {
        self.root
            .as_ref()
            .map_or("$".into(), |root| format!("$${root}."))
    }

    fn root(&self) -> Datum {
        self.root
            .as_ref()
            .map_or("$$ROOT".into(), |root| format!("$${root}").into())
    }

    /// The value at a path; through lists the list of what is there.
    pub(super) fn path(&mut self, path: &Path) -> Result<Datum> {
        if super::plain(path) {
            return Ok(format!("{}{}", self.prefix(), super::dotted(path)).into());
        }
        let mut value = self.root();
        for step in &path.steps {
            value = match step {
                Step::Index(index) => {
                    let index = *index;
                    self.with(value, |_, v| {
                        let element = ops("$arrayElemAt", [v.clone(), Datum::integer(index)]);
                        Ok(cond(op("$isArray", vec![v]), element, MISSING.into()))
                    })?
                }
                Step::Name(name) => self.with(value, |_, v| Ok(step_into(v, name)))?,
            };
        }
        Ok(value)
    }

    /// All values that a comparison with this path looks at: what is there, and the elements of lists.
    fn candidates(&mut self, path: &Path) -> Result<Datum> {
        let mut steps = path.steps.iter().peekable();
        let mut list: Option<Datum> = None;
        while let Some(step) = steps.next() {
            let Step::Name(name) = step else { continue };
            let mut indexes = Vec::new();
            while let Some(Step::Index(index)) = steps.peek() {
                indexes.push(*index);
                steps.next();
            }
            let last = steps.peek().is_none();
            list = Some(match list {
                None => {
                    let first = Path {
                        steps: vec![Step::Name(name.clone())],
                        span: path.span.clone(),
                    };
                    let value = self.path(&first)?;
                    self.expand(value, &indexes, last)?
                }
                Some(list) => {
                    // Elements that are lists themselves are not entered.
                    let field = cond(
                        ops("$eq", [op("$type", "$$this"), "object".into()]),
                        step_into("$$this".into(), name),
                        Datum::Null,
                    );
                    let expanded = self.expand(field, &indexes, last)?;
                    let inner = ops("$concatArrays", ["$$value".into(), expanded]);
                    op(
                        "$reduce",
                        Document::new()
                            .with("input", list)
                            .with("initialValue", Datum::List(vec![]))
                            .with("in", inner),
                    )
                }
            });
        }
        Ok(list.unwrap_or(Datum::List(vec![])))
    }

    fn expand(&mut self, value: Datum, indexes: &[i64], last: bool) -> Result<Datum> {
        let mut value = value;
        for index in indexes {
            value = self.with(value, |_, v| {
                let element = ops("$arrayElemAt", [v.clone(), Datum::integer(*index)]);
                Ok(cond(op("$isArray", vec![v]), element, Datum::Null))
            })?;
        }
        self.with(value, |_, v| {
            let alone = Datum::List(vec![v.clone()]);
            let elements = if last {
                ops("$concatArrays", [v.clone(), alone.clone()])
            } else {
                v.clone()
            };
            Ok(cond(op("$isArray", vec![v]), elements, alone))
        })
    }

    /// Whether a condition holds for one of the values that a side stands for.
    fn any(
        &mut self,
        side: &Expr,
        holds: impl FnOnce(&mut Self, Datum) -> Result<Datum>,
    ) -> Result<Datum> {
        let Node::Path(path) = &side.node else {
            let value = self.value(side)?;
            return self.with(value, holds);
        };
        let input = self.candidates(path)?;
        let name = self.fresh();
        let inner = holds(self, format!("$${name}").into())?;
        let map = op(
            "$map",
            Document::new()
                .with("input", input)
                .with("as", name)
                .with("in", inner),
        );
        Ok(ops("$anyElementTrue", [map]))
    }

    /// Whether a predicate holds.
    pub(super) fn truth(&mut self, e: &Expr) -> Result<Datum> {
        Ok(match &e.node {
            Node::Literal(value) => (*value == Datum::Boolean(true)).into(),
            Node::Not(inner) => ops("$not", [self.truth(inner)?]),
            Node::Binary(Operator::And, a, b) => ops("$and", [self.truth(a)?, self.truth(b)?]),
            Node::Binary(Operator::Or, a, b) => ops("$or", [self.truth(a)?, self.truth(b)?]),
            Node::Binary(operator, a, b) if operator.compares() => {
                self.comparison(*operator, a, b)?
            }
            Node::Path(_) => {
                let yes = Expr::new(Node::Literal(true.into()), e.span.clone());
                self.comparison(Operator::Equal, e, &yes)?
            }
            Node::Between(a, low, high, not) => {
                let low = self.limit(low, false)?;
                let high = self.limit(high, true)?;
                let found = self.any(a, |this, v| {
                    let above = this.compare(Operator::GreaterOrEqual, v.clone(), low.0)?;
                    let sign = if high.1 {
                        Operator::Less
                    } else {
                        Operator::LessOrEqual
                    };
                    Ok(and(vec![above, this.compare(sign, v, high.0)?]))
                })?;
                negated(found, *not)
            }
            Node::In(a, items, not) => {
                let found = self.any(a, |this, v| {
                    let each: Vec<Datum> = items
                        .iter()
                        .map(|item| this.one_to_one(Operator::Equal, v.clone(), item))
                        .collect::<Result<_>>()?;
                    Ok(ops("$or", each))
                })?;
                negated(found, *not)
            }
            Node::InList(a, list, not) => {
                let list = self.value(list)?;
                let found = self.with(list, |this, list| {
                    let inner = this.any(a, |this, v| {
                        let name = this.fresh();
                        let same = this.compare(Operator::Equal, v, format!("$${name}").into())?;
                        let map = op(
                            "$map",
                            Document::new()
                                .with("input", list.clone())
                                .with("as", name)
                                .with("in", same),
                        );
                        Ok(ops("$anyElementTrue", [map]))
                    })?;
                    Ok(cond(op("$isArray", vec![list]), inner, false.into()))
                })?;
                negated(found, *not)
            }
            Node::Like(a, pattern, not) => {
                let Some(Datum::Text(pattern)) = pattern.constant() else {
                    return Err(FlowError::at(
                        pattern.span.clone(),
                        "On a server the pattern after like is a text, nothing computed.",
                    ));
                };
                let found = self.any(a, |_, v| {
                    let test = Document::new()
                        .with("input", v.clone())
                        .with("regex", literal(&like_pattern(&pattern).into()))
                        .with("options", "s");
                    Ok(cond(
                        ops("$eq", [op("$type", v), "string".into()]),
                        op("$regexMatch", test),
                        false.into(),
                    ))
                })?;
                negated(found, *not)
            }
            Node::IsNull(a, not) => {
                let value = self.value(a)?;
                negated(nothing(value), *not)
            }
            Node::IsMissing(a, not) => {
                let value = self.value(a)?;
                negated(ops("$eq", [op("$type", value), "missing".into()]), *not)
            }
            Node::IsOf(a, kind, not) => {
                let value = self.value(a)?;
                negated(is_of(value, *kind), *not)
            }
            Node::Some(path, predicate) => {
                let input = self.lists_at(path)?;
                let name = self.fresh();
                let mut inner = Compiler {
                    root: Some(name.clone()),
                    variables: self.variables,
                };
                let holds = inner.truth(predicate)?;
                self.variables = inner.variables;
                let object = ops("$eq", [op("$type", format!("$${name}")), "object".into()]);
                let map = op(
                    "$map",
                    Document::new()
                        .with("input", input)
                        .with("as", name)
                        .with("in", and(vec![object, holds])),
                );
                ops("$anyElementTrue", [map])
            }
            _ => {
                let value = self.value(e)?;
                ops("$eq", [value, true.into()])
            }
        })
    }

    /// The elements of the lists at the end of a path.
    fn lists_at(&mut self, path: &Path) -> Result<Datum> {
        let list = if path.steps.len() == 1 {
            let value = self.path(path)?;
            return self.with(value, |_, v| {
                Ok(cond(
                    op("$isArray", vec![v.clone()]),
                    v,
                    Datum::List(vec![]),
                ))
            });
        } else {
            self.candidates(path)?
        };
        // Of what a comparison would look at, the lists: each stands there once, after its elements. A list within a list is not one of
        // the path's own, and the objects in it count for nothing.
        let inner = ops(
            "$concatArrays",
            [
                "$$value".into(),
                cond(
                    op("$isArray", vec![Datum::from("$$this")]),
                    "$$this".into(),
                    Datum::List(vec![]),
                ),
            ],
        );
        Ok(op(
            "$reduce",
            Document::new()
                .with("input", list)
                .with("initialValue", Datum::List(vec![]))
                .with("in", inner),
        ))
    }

    /// A limit of a range, and for the upper one whether it is left out itself.
    fn limit(&mut self, e: &Expr, upper: bool) -> Result<(Datum, bool)> {
        match &e.node {
            Node::Day(_, end) if upper => Ok((Datum::Date(*end), true)),
            Node::Day(start, _) => Ok((Datum::Date(*start), false)),
            _ => Ok((self.value(e)?, false)),
        }
    }

    fn comparison(&mut self, operator: Operator, a: &Expr, b: &Expr) -> Result<Datum> {
        if operator == Operator::NotEqual {
            let equal = self.comparison(Operator::Equal, a, b)?;
            return Ok(ops("$not", [equal]));
        }
        if matches!(a.node, Node::Day(..)) && !matches!(b.node, Node::Day(..)) {
            return self.comparison(mirrored(operator), b, a);
        }
        self.any(a, |this, v| match &b.node {
            Node::Path(_) => this.any(b, |this, w| this.compare(operator, v, w)),
            _ => this.one_to_one(operator, v, b),
        })
    }

    /// One value against an expression that stands for one value.
    fn one_to_one(&mut self, operator: Operator, v: Datum, b: &Expr) -> Result<Datum> {
        use Operator::{Equal, Greater, GreaterOrEqual, Less, LessOrEqual};
        if let Node::Day(start, end) = b.node {
            let (start, end) = (Datum::Date(start), Datum::Date(end));
            return match operator {
                Less => self.compare(Less, v, start),
                LessOrEqual => self.compare(Less, v, end),
                Greater => self.compare(GreaterOrEqual, v, end),
                GreaterOrEqual => self.compare(GreaterOrEqual, v, start),
                _ => {
                    let from = self.compare(GreaterOrEqual, v.clone(), start)?;
                    Ok(and(vec![from, self.compare(Less, v, end)?]))
                }
            };
        }
        if let Node::Path(_) = b.node {
            return self.any(b, |this, w| this.compare(operator, v, w));
        }
        let value = self.value(b)?;
        let _ = Equal;
        self.with(value, |this, w| this.compare(operator, v, w))
    }

    /// Compares two plain values within their kind.
    fn compare(&mut self, operator: Operator, v: Datum, w: Datum) -> Result<Datum> {
        use Operator::{Equal, Greater, GreaterOrEqual, Less};
        let constant = |d: &Datum| match d {
            Datum::Text(t) if t.starts_with('$') => None,
            Datum::Object(o) => o.get("$literal").cloned(),
            Datum::List(_) => None,
            other => Some(other.clone()),
        };
        if constant(&w).is_none() && constant(&v).is_some() {
            return self.compare(mirrored(operator), w, v);
        }
        let nan = Datum::Double(f64::NEG_INFINITY);
        if let Some(value) = constant(&w) {
            let kind = value.kind();
            if kind == Kind::Null {
                return Ok(false.into());
            }
            if operator == Equal {
                return Ok(ops("$eq", [v, w]));
            }
            let number = kind.is_number();
            if number && value.as_f64().is_some_and(f64::is_nan) {
                let reflexive = matches!(operator, Operator::LessOrEqual | GreaterOrEqual);
                return Ok(if reflexive {
                    ops("$eq", [v, w])
                } else {
                    false.into()
                });
            }
            let mut list = vec![is_of(
                v.clone(),
                if number {
                    KindWord::Number
                } else {
                    KindWord::One(kind)
                },
            )];
            list.push(ops(sign(operator), [v.clone(), w]));
            if number && matches!(operator, Less | Operator::LessOrEqual) {
                // What is not a number is sorted before all numbers and is less than none.
                list.push(ops("$gte", [v, nan]));
            }
            return Ok(and(list));
        }
        let there = ops("$not", [nothing(v.clone())]);
        let equal = and(vec![ops("$eq", [v.clone(), w.clone()]), there.clone()]);
        if operator == Equal {
            return Ok(equal);
        }
        let kind = |d: &Datum| {
            cond(
                op("$isNumber", d.clone()),
                "number".into(),
                op("$type", d.clone()),
            )
        };
        let real = |d: &Datum| {
            ops(
                "$or",
                [
                    ops("$not", [op("$isNumber", d.clone())]),
                    ops("$gte", [d.clone(), nan.clone()]),
                ],
            )
        };
        let strict = if matches!(operator, Less | Operator::LessOrEqual) {
            "$lt"
        } else {
            "$gt"
        };
        let ordered = and(vec![
            ops("$eq", [kind(&v), kind(&w)]),
            there,
            real(&v),
            real(&w),
            ops(strict, [v, w]),
        ]);
        Ok(match operator {
            Less | Greater => ordered,
            _ => ops("$or", [equal, ordered]),
        })
    }

    pub(super) fn arithmetic(&mut self, operator: Operator, a: Datum, b: Datum) -> Result<Datum> {
        let name = match operator {
            Operator::Add => "$add",
            Operator::Subtract => "$subtract",
            Operator::Multiply => "$multiply",
            Operator::Divide => "$divide",
            _ => "$mod",
        };
        self.with(a, |this, a| {
            this.with(b, |this, b| {
                let mut sure = Vec::new();
                for side in [&a, &b] {
                    if !side.is_number() {
                        sure.push(op("$isNumber", side.clone()));
                    }
                }
                let divides = matches!(name, "$divide" | "$mod");
                if divides {
                    sure.push(ops("$ne", [b.clone(), 0.into()]));
                }
                let plain = ops(name, [a.clone(), b.clone()]);
                let whole = |d: &Datum| {
                    ops(
                        "$in",
                        [
                            op("$type", d.clone()),
                            op("$literal", Datum::List(vec!["int".into(), "long".into()])),
                        ],
                    )
                };
                let real = [&a, &b]
                    .iter()
                    .any(|d| matches!(d, Datum::Double(_) | Datum::Decimal(_)));
                let computed = if divides || real {
                    plain
                } else {
                    // Servers turn whole numbers that overflow into doubles; turned back, these are an error.
                    this.with(plain, |_, sum| {
                        let over = and(vec![
                            ops("$eq", [op("$type", sum.clone()), "double".into()]),
                            whole(&a),
                            whole(&b),
                        ]);
                        Ok(cond(
                            over,
                            op(
                                "$toLong",
                                ops("$multiply", [sum.clone(), Datum::Double(2.0)]),
                            ),
                            sum,
                        ))
                    })?
                };
                Ok(if sure.is_empty() {
                    computed
                } else {
                    cond(and(sure), computed, Datum::Null)
                })
            })
        })
    }
}

fn no_value(name: &str, e: &Expr) -> FlowError {
    FlowError::at(
        e.span.clone(),
        format!("The parameter :{name} has no value."),
    )
}

fn let_in(name: &str, value: Datum, inner: Datum) -> Datum {
    op(
        "$let",
        Document::new()
            .with("vars", Document::new().with(name, value))
            .with("in", inner),
    )
}

/// Into a field of a value; through lists into that of each element.
fn step_into(value: Datum, name: &str) -> Datum {
    let plain = !name.is_empty() && !name.contains('.') && !name.starts_with('$');
    if let (true, Datum::Text(variable)) = (plain, &value)
        && variable.starts_with("$$")
    {
        return format!("{variable}.{name}").into();
    }
    let get = |input: Datum| {
        op(
            "$getField",
            Document::new()
                .with("field", op("$literal", name))
                .with("input", input),
        )
    };
    let mapped = op(
        "$filter",
        Document::new()
            .with(
                "input",
                op(
                    "$map",
                    Document::new()
                        .with("input", value.clone())
                        .with("as", "e")
                        .with("in", get("$$e".into())),
                ),
            )
            .with("as", "e")
            .with("cond", ops("$gt", ["$$e".into(), Datum::Null])),
    );
    let object = ops("$eq", [op("$type", value.clone()), "object".into()]);
    cond(
        op("$isArray", vec![value.clone()]),
        mapped,
        cond(object, get(value), MISSING.into()),
    )
}

fn sign(operator: Operator) -> &'static str {
    match operator {
        Operator::Less => "$lt",
        Operator::LessOrEqual => "$lte",
        Operator::Greater => "$gt",
        Operator::GreaterOrEqual => "$gte",
        Operator::NotEqual => "$ne",
        _ => "$eq",
    }
}

/// The operator with its sides exchanged.
pub(super) fn mirrored(operator: Operator) -> Operator {
    match operator {
        Operator::Less => Operator::Greater,
        Operator::LessOrEqual => Operator::GreaterOrEqual,
        Operator::Greater => Operator::Less,
        Operator::GreaterOrEqual => Operator::LessOrEqual,
        other => other,
    }
}

fn negated(condition: Datum, not: bool) -> Datum {
    if not {
        ops("$not", [condition])
    } else {
        condition
    }
}

/// Whether a value is null or not there.
pub(super) fn nothing(value: Datum) -> Datum {
    let kinds = ["null", "missing", "undefined"].map(Datum::from).to_vec();
    ops(
        "$in",
        [op("$type", value), op("$literal", Datum::List(kinds))],
    )
}

/// The word that servers have for a kind.
pub(super) fn type_name(kind: Kind) -> &'static str {
    match kind {
        Kind::Null => "null",
        Kind::Int => "int",
        Kind::Long => "long",
        Kind::Double => "double",
        Kind::Decimal => "decimal",
        Kind::Text => "string",
        Kind::Object => "object",
        Kind::List => "array",
        Kind::Bytes => "binData",
        Kind::Id => "objectId",
        Kind::Boolean => "bool",
        Kind::Date => "date",
        Kind::Timestamp => "timestamp",
        Kind::Regex => "regex",
        Kind::Code => "javascript",
        Kind::Symbol => "symbol",
        Kind::Pointer => "dbPointer",
        Kind::Undefined => "undefined",
        Kind::MinKey => "minKey",
        Kind::MaxKey => "maxKey",
    }
}

/// Whether a value is of a kind.
pub(super) fn is_of(value: Datum, kind: KindWord) -> Datum {
    match kind {
        KindWord::Number => op("$isNumber", value),
        KindWord::One(Kind::Code) => {
            let kinds = ["javascript", "javascriptWithScope"]
                .map(Datum::from)
                .to_vec();
            ops(
                "$in",
                [op("$type", value), op("$literal", Datum::List(kinds))],
            )
        }
        KindWord::One(kind) => ops("$eq", [op("$type", value), type_name(kind).into()]),
    }
}

/// A pattern of `like` as a regular expression.
pub fn like_pattern(pattern: &str) -> String {
    let mut regex = String::from("^");
    let ends = !pattern.ends_with('%');
    let body = if ends {
        pattern
    } else {
        pattern.trim_end_matches('%')
    };
    for character in body.chars() {
        match character {
            '%' => regex.push_str(".*"),
            '_' => regex.push('.'),
            c if c.is_alphanumeric() || c == ' ' || !c.is_ascii() => regex.push(c),
            c if c.is_ascii_control() => regex.push_str(&format!("\\x{:02x}", u32::from(c))),
            c => {
                regex.push('\\');
                regex.push(c);
            }
        }
    }
    if ends {
        regex.push_str("\\z");
    }
    regex
}

/// An expression's value.
pub(super) fn value(e: &Expr) -> Result<Datum> {
    Compiler::default().value(e)
}

/// The same for a place where an object would be merged with what is there.
pub(super) fn replacing(e: &Expr) -> Result<Datum> {
    let value = value(e)?;
    let object = matches!(e.node, Node::Object(_)) && e.constant().is_none();
    Ok(if object {
        ops("$mergeObjects", [value])
    } else {
        value
    })
}

impl Compiler {
    /// The values that a path stands for one by one: elements instead of lists, null for what is not there.
    pub(super) fn elements(&mut self, path: &Path) -> Result<Datum> {
        let all = self.candidates(path)?;
        // A list stands after its own elements and is left out; one within a list is a value of its own.
        if path.steps.len() == 1 {
            let value = self.path(path)?;
            return self.with(value, |_, v| {
                Ok(cond(
                    op("$isArray", vec![v.clone()]),
                    v.clone(),
                    Datum::List(vec![v]),
                ))
            });
        }
        let kept = ops("$not", [op("$isArray", vec![Datum::from("$$e")])]);
        Ok(op(
            "$filter",
            Document::new()
                .with("input", all)
                .with("as", "e")
                .with("cond", kept),
        ))
    }
}
