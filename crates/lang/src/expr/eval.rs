//! Expressions tied to the columns of a result, answered for one row at a time.

use std::cmp::Ordering;
use std::ops::Range;

use idle_tide_core::{Column, Row, Value, ValueRef, column_labels};

use super::{Expr, ExprError, Node, Operator};

/// An expression whose names are columns of one result.
#[derive(Debug, Clone)]
pub struct Bound {
    root: Part,
    span: Range<usize>,
}

#[derive(Debug, Clone)]
enum Part {
    Value(Value),
    Column(usize),
    Not(Box<Part>),
    Negative(Box<Part>, Range<usize>),
    Binary(Operator, Box<Part>, Box<Part>, Range<usize>),
    Between(Box<Part>, Box<Part>, Box<Part>, bool),
    In(Box<Part>, Vec<Part>, bool),
    Like(Box<Part>, Box<Part>, bool),
    IsNull(Box<Part>, bool),
}

/// Ties the names of `expr` to `columns`: a label of [`column_labels`], a plain name, or `table.name`,
/// without regard to ASCII case.
///
/// # Errors
/// If a name is no column (with the nearest ones) or stands for more than one.
pub fn bind(expr: &Expr, columns: &[Column]) -> Result<Bound, ExprError> {
    let labels = column_labels(columns);
    Ok(Bound {
        root: part(expr, columns, &labels)?,
        span: expr.span.clone(),
    })
}

fn part(expr: &Expr, columns: &[Column], labels: &[String]) -> Result<Part, ExprError> {
    let go = |inner: &Expr| part(inner, columns, labels).map(Box::new);
    Ok(match &expr.node {
        Node::Literal(value) => Part::Value(value.clone()),
        Node::Path(parts) => Part::Column(column(parts, &expr.span, columns, labels)?),
        Node::Not(inner) => Part::Not(go(inner)?),
        Node::Negative(inner) => Part::Negative(go(inner)?, expr.span.clone()),
        Node::Binary(operator, a, b) => Part::Binary(*operator, go(a)?, go(b)?, expr.span.clone()),
        Node::Between(a, low, high, not) => Part::Between(go(a)?, go(low)?, go(high)?, *not),
        Node::In(a, list, not) => Part::In(
            go(a)?,
            list.iter()
                .map(|inner| part(inner, columns, labels))
                .collect::<Result<_, _>>()?,
            *not,
        ),
        Node::Like(a, pattern, not) => Part::Like(go(a)?, go(pattern)?, *not),
        Node::IsNull(a, not) => Part::IsNull(go(a)?, *not),
    })
}

fn column(
    parts: &[String],
    span: &Range<usize>,
    columns: &[Column],
    labels: &[String],
) -> Result<usize, ExprError> {
    let name = parts.join(".");
    if let Some(at) = labels.iter().position(|l| l.eq_ignore_ascii_case(&name)) {
        return Ok(at);
    }
    let same: Vec<usize> = (0..columns.len())
        .filter(|at| {
            let column = &columns[*at];
            column.name.eq_ignore_ascii_case(&name)
                || column.origin.as_ref().is_some_and(|(table, field)| {
                    format!("{table}.{field}").eq_ignore_ascii_case(&name)
                })
        })
        .collect();
    match same.as_slice() {
        [one] => Ok(*one),
        [] => {
            let nearest = crate::correct::nearest(&name, labels.iter().map(String::as_str), 3);
            Err(ExprError {
                message: match nearest.first() {
                    Some(first) => {
                        format!("This result has no column {name}; the nearest is {first}.")
                    }
                    None => format!(
                        "This result has no column {name}. It has {}.",
                        labels.join(", ")
                    ),
                },
                span: span.clone(),
                nearest,
            })
        }
        several => {
            let choices: Vec<String> = several
                .iter()
                .map(|at| format!("`{}`", labels[*at]))
                .collect();
            Err(ExprError {
                message: format!("{name} stands for several columns: {}.", choices.join(", ")),
                span: span.clone(),
                nearest: choices,
            })
        }
    }
}

/// A value that is either the row's own or was computed.
enum Got<'a> {
    Ref(ValueRef<'a>),
    Own(Value),
}

impl Got<'_> {
    fn as_ref(&self) -> ValueRef<'_> {
        match self {
            Got::Ref(value) => *value,
            Got::Own(value) => value.as_ref(),
        }
    }
}

fn truth(value: bool) -> Result<Got<'static>, ExprError> {
    Ok(Got::Ref(ValueRef::Boolean(value)))
}

impl Bound {
    /// Whether the condition holds for `row`: its value is true or a number other than zero.
    ///
    /// # Errors
    /// If a computation overflows 64-bit integers.
    pub fn holds(&self, row: Row<'_>) -> Result<bool, ExprError> {
        Ok(is_true(value(&self.root, row)?.as_ref()))
    }

    /// The place of the whole expression in its text.
    pub fn span(&self) -> Range<usize> {
        self.span.clone()
    }
}

fn is_true(value: ValueRef<'_>) -> bool {
    match value {
        ValueRef::Boolean(b) => b,
        other => other.as_number().is_some_and(|n| n != 0.0),
    }
}

/// The order of two values of one kind; `None` where there is none.
fn compare(a: ValueRef<'_>, b: ValueRef<'_>) -> Option<Ordering> {
    if a.is_null() || b.is_null() || a.rank() != b.rank() {
        return None;
    }
    // In the order of numbers -0.0 and 0.0 are one.
    if let (ValueRef::Float(x), ValueRef::Float(y)) = (a, b) {
        return x.partial_cmp(&y);
    }
    // A number written with a point means its digits: 12.3 is 12.30.
    if let (ValueRef::Number(_), ValueRef::Float(_)) | (ValueRef::Float(_), ValueRef::Number(_)) =
        (a, b)
    {
        return a.as_number()?.partial_cmp(&b.as_number()?);
    }
    Some(a.order(b))
}

fn value<'a>(part: &'a Part, row: Row<'a>) -> Result<Got<'a>, ExprError> {
    match part {
        Part::Value(literal) => Ok(Got::Ref(literal.as_ref())),
        Part::Column(at) => Ok(Got::Ref(row.get(*at))),
        Part::Not(inner) => truth(!is_true(value(inner, row)?.as_ref())),
        Part::Negative(inner, span) => {
            let got = value(inner, row)?;
            arithmetic(Operator::Subtract, ValueRef::Integer(0), got.as_ref(), span)
        }
        Part::Binary(Operator::And, a, b, _) => {
            truth(is_true(value(a, row)?.as_ref()) && is_true(value(b, row)?.as_ref()))
        }
        Part::Binary(Operator::Or, a, b, _) => {
            truth(is_true(value(a, row)?.as_ref()) || is_true(value(b, row)?.as_ref()))
        }
        Part::Binary(operator, a, b, span) => {
            let (a, b) = (value(a, row)?, value(b, row)?);
            binary(*operator, a.as_ref(), b.as_ref(), span)
        }
        Part::Between(inner, low, high, not) => {
            let got = value(inner, row)?;
            let (low, high) = (value(low, row)?, value(high, row)?);
            let inside = compare(got.as_ref(), low.as_ref()).is_some_and(Ordering::is_ge)
                && compare(got.as_ref(), high.as_ref()).is_some_and(Ordering::is_le);
            truth(inside != *not)
        }
        Part::In(inner, list, not) => {
            let got = value(inner, row)?;
            let mut found = false;
            for candidate in list {
                let candidate = value(candidate, row)?;
                found |= compare(got.as_ref(), candidate.as_ref()) == Some(Ordering::Equal);
            }
            truth(found != *not)
        }
        Part::Like(inner, pattern, not) => {
            let (got, pattern) = (value(inner, row)?, value(pattern, row)?);
            let fits = match (got.as_ref(), pattern.as_ref()) {
                (ValueRef::Text(text), ValueRef::Text(pattern)) => like(text, pattern),
                _ => false,
            };
            truth(fits != *not)
        }
        Part::IsNull(inner, not) => truth(value(inner, row)?.as_ref().is_null() != *not),
    }
}

fn binary(
    operator: Operator,
    a: ValueRef<'_>,
    b: ValueRef<'_>,
    span: &Range<usize>,
) -> Result<Got<'static>, ExprError> {
    use Operator as O;
    let order = compare(a, b);
    match operator {
        O::Equal => truth(order == Some(Ordering::Equal)),
        O::NotEqual => truth(order != Some(Ordering::Equal)),
        O::Less => truth(order.is_some_and(Ordering::is_lt)),
        O::LessOrEqual => truth(order.is_some_and(Ordering::is_le)),
        O::Greater => truth(order.is_some_and(Ordering::is_gt)),
        O::GreaterOrEqual => truth(order.is_some_and(Ordering::is_ge)),
        O::Concatenate => Ok(if a.is_null() || b.is_null() {
            Got::Ref(ValueRef::Null)
        } else {
            Got::Own(Value::Text(a.plain() + &b.plain()))
        }),
        _ => arithmetic(operator, a, b, span),
    }
}

/// Integers stay 64-bit and overflow is an error; what is not a number has no sum, so it gives null.
fn arithmetic(
    operator: Operator,
    a: ValueRef<'_>,
    b: ValueRef<'_>,
    span: &Range<usize>,
) -> Result<Got<'static>, ExprError> {
    use Operator as O;
    if let (ValueRef::Integer(x), ValueRef::Integer(y)) = (a, b) {
        let whole = match operator {
            O::Add => x.checked_add(y),
            O::Subtract => x.checked_sub(y),
            O::Multiply => x.checked_mul(y),
            O::Remainder if y != 0 => Some(x.wrapping_rem(y)),
            O::Divide if y != 0 && x.wrapping_rem(y) == 0 => x.checked_div(y),
            O::Divide if y != 0 => return Ok(Got::Own(Value::Float(x as f64 / y as f64))),
            _ => return Ok(Got::Ref(ValueRef::Null)),
        };
        return match whole {
            Some(number) => Ok(Got::Own(Value::Integer(number))),
            None => Err(ExprError {
                message: "This leaves the range of 64-bit integers; write one side with a point, as in 1.0.".into(),
                span: span.clone(),
                nearest: Vec::new(),
            }),
        };
    }
    let (Some(x), Some(y)) = (a.as_number(), b.as_number()) else {
        return Ok(Got::Ref(ValueRef::Null));
    };
    let number = match operator {
        O::Add => x + y,
        O::Subtract => x - y,
        O::Multiply => x * y,
        O::Divide if y != 0.0 => x / y,
        O::Remainder if y != 0.0 => x % y,
        _ => return Ok(Got::Ref(ValueRef::Null)),
    };
    Ok(Got::Own(Value::Float(number)))
}

/// SQL's `like`: `%` any text, `_` one character.
fn like(text: &str, pattern: &str) -> bool {
    let text: Vec<char> = text.chars().collect();
    let pattern: Vec<char> = pattern.chars().collect();
    let (mut t, mut p) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some('%') => {
                star = Some((p, t));
                p += 1;
            }
            Some(c) if *c == '_' || *c == text[t] => {
                t += 1;
                p += 1;
            }
            _ => match star {
                Some((at, from)) => {
                    star = Some((at, from + 1));
                    p = at + 1;
                    t = from + 1;
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|c| *c == '%')
}
