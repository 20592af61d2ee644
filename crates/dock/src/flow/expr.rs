//! Expressions over one document. An expression is prepared once and then answered for any number of documents.

use std::cmp::Ordering;

use compact_str::CompactString;
use idle_tide_core::document::compare::{order, same_kind};
use idle_tide_core::document::number::{self, NoNumber, Operation, Sum};
use idle_tide_core::document::{Datum, Document, Kind, time};
use idle_tide_lang::flow::FlowError;
use idle_tide_lang::flow::ast::{Expr, KindWord, Node, Operator, Path, Span, Step};
use idle_tide_lang::flow::functions::Id;

use crate::convert::{self, Way};

/// What expressions need from outside.
#[derive(Debug, Clone, Copy, Default)]
pub struct Context {
    /// The present moment, in milliseconds since 1970.
    pub now: i64,
    /// Where chance begins.
    pub seed: u64,
    /// Whether it stands in a script: what cannot be computed is an error then, not null, and moments are computed with.
    pub script: bool,
    /// Whether exact decimals and doubles are compared by their digits (12.3 is 12.30), as in results of other databases.
    pub digits: bool,
}

/// An expression, prepared.
#[derive(Debug, Clone)]
pub struct Program {
    root: Part,
    digits: bool,
}

#[derive(Debug, Clone)]
enum Part {
    Value(Datum),
    Field(CompactString),
    Path(Vec<Hop>),
    Not(Box<Part>),
    And(Box<Part>, Box<Part>),
    Or(Box<Part>, Box<Part>),
    Compare(Operator, Box<Part>, Limit),
    CompareDay(Operator, Box<Part>, i64, i64),
    Between(Box<Part>, Limit, Limit),
    In(Box<Part>, Vec<Limit>),
    InList(Box<Part>, Box<Part>),
    Like(Box<Part>, Box<Part>),
    Kind(Box<Part>, Wanted),
    Some(Vec<Hop>, Box<Part>),
    Compute(Operation, Box<Part>, Box<Part>, Span),
    /// The same in a script.
    Calculate(Operation, Box<Part>, Box<Part>, Span),
    Element(Box<Part>, Box<Part>),
    Concatenate(Box<Part>, Box<Part>),
    Case(Vec<(Part, Part)>, Option<Box<Part>>),
    Call(Id, Vec<Part>, Span),
    Object(Vec<(CompactString, Part)>),
    List(Vec<Part>),
}

/// A side of a comparison.
#[derive(Debug, Clone)]
enum Limit {
    Part(Box<Part>),
    Day(i64, i64),
}

#[derive(Debug, Clone, Copy)]
enum Wanted {
    Null,
    Missing,
    Number,
    One(Kind),
}

/// A step of a path.
#[derive(Debug, Clone)]
pub(crate) enum Hop {
    Name(CompactString),
    Index(i64),
}

/// The steps of a path.
pub(crate) fn hops(path: &Path) -> Vec<Hop> {
    path.steps
        .iter()
        .map(|step| match step {
            Step::Name(name) => Hop::Name(name.as_str().into()),
            Step::Index(index) => Hop::Index(*index),
        })
        .collect()
}

/// A value that is the document's own, was computed, or is not there.
#[derive(Debug, Clone)]
pub(crate) enum Got<'a> {
    Ref(&'a Datum),
    Own(Datum),
    Missing,
}

impl<'a> Got<'a> {
    #[inline]
    fn of(found: Option<&'a Datum>) -> Self {
        found.map_or(Got::Missing, Got::Ref)
    }

    /// The value, if there is one.
    #[inline]
    pub(crate) fn as_ref(&self) -> Option<&Datum> {
        match self {
            Got::Ref(value) => Some(value),
            Got::Own(value) => Some(value),
            Got::Missing => None,
        }
    }

    /// The value as one's own, if there is one.
    pub(crate) fn into_owned(self) -> Option<Datum> {
        match self {
            Got::Ref(value) => Some(value.clone()),
            Got::Own(value) => Some(value),
            Got::Missing => None,
        }
    }

    fn is_nothing(&self) -> bool {
        self.as_ref().is_none_or(Datum::is_null)
    }
}

const NULL: Datum = Datum::Null;

type Result<T> = std::result::Result<T, FlowError>;

impl Program {
    /// Prepares an expression.
    ///
    /// # Errors
    /// If a parameter has no value, or an argument is none a function takes.
    pub fn new(expr: &Expr, context: &Context) -> Result<Self> {
        Ok(Program {
            root: part(expr, context)?,
            digits: context.digits,
        })
    }

    /// Whether the document satisfies it.
    ///
    /// # Errors
    /// If a computation overflows.
    #[inline]
    pub fn holds(&self, document: &Document) -> Result<bool> {
        truth(&self.root, document, self.digits)
    }

    /// The value for a document; `None` where there is none.
    ///
    /// # Errors
    /// As [`Program::holds`].
    pub fn value(&self, document: &Document) -> Result<Option<Datum>> {
        Ok(self.got(document)?.into_owned())
    }

    #[inline]
    pub(crate) fn got<'a>(&'a self, document: &'a Document) -> Result<Got<'a>> {
        value(&self.root, document, self.digits)
    }
}

/// Whether a row satisfies a program: its columns are the fields of a document.
///
/// # Errors
/// As [`Program::holds`].
pub fn test_row(program: &Program, document: &Document) -> Result<bool> {
    program.holds(document)
}

fn part(e: &Expr, context: &Context) -> Result<Part> {
    let go = |inner: &Expr| part(inner, context).map(Box::new);
    let negated = |inner: Part, not: bool| {
        if not {
            Part::Not(Box::new(inner))
        } else {
            inner
        }
    };
    if let Some(constant) = e.constant() {
        return Ok(Part::Value(constant));
    }
    Ok(match &e.node {
        Node::Literal(value) => Part::Value(value.clone()),
        Node::Day(start, _) => Part::Value(Datum::Date(*start)),
        Node::Parameter(name, ..) => {
            return Err(FlowError::at(
                e.span.clone(),
                format!("The parameter :{name} has no value."),
            ));
        }
        Node::Path(path) => match path.steps.as_slice() {
            [Step::Name(name)] => Part::Field(name.as_str().into()),
            _ => Part::Path(hops(path)),
        },
        Node::Not(inner) => Part::Not(go(inner)?),
        Node::Negative(inner) => Part::Compute(
            Operation::Multiply,
            go(inner)?,
            Box::new(Part::Value(Datum::Int(-1))),
            e.span.clone(),
        ),
        Node::Binary(operator, a, b) => match operator {
            Operator::And => Part::And(go(a)?, go(b)?),
            Operator::Or => Part::Or(go(a)?, go(b)?),
            Operator::Concatenate => Part::Concatenate(go(a)?, go(b)?),
            operator if operator.compares() => return comparison(*operator, a, b, context),
            operator => {
                let operation = match operator {
                    Operator::Add => Operation::Add,
                    Operator::Subtract => Operation::Subtract,
                    Operator::Multiply => Operation::Multiply,
                    Operator::Divide => Operation::Divide,
                    _ => Operation::Remainder,
                };
                match context.script {
                    true => Part::Calculate(operation, go(a)?, go(b)?, e.span.clone()),
                    false => Part::Compute(operation, go(a)?, go(b)?, e.span.clone()),
                }
            }
        },
        Node::Between(a, low, high, not) => negated(
            Part::Between(go(a)?, limit(low, context)?, limit(high, context)?),
            *not,
        ),
        Node::In(a, items, not) => {
            let items = items
                .iter()
                .map(|item| limit(item, context))
                .collect::<Result<_>>()?;
            negated(Part::In(go(a)?, items), *not)
        }
        Node::InList(a, list, not) => negated(Part::InList(go(a)?, go(list)?), *not),
        Node::Like(a, pattern, not) => negated(Part::Like(go(a)?, go(pattern)?), *not),
        Node::IsNull(a, not) => negated(Part::Kind(go(a)?, Wanted::Null), *not),
        Node::IsMissing(a, not) => negated(Part::Kind(go(a)?, Wanted::Missing), *not),
        Node::IsOf(a, kind, not) => {
            let wanted = match kind {
                KindWord::Number => Wanted::Number,
                KindWord::One(kind) => Wanted::One(*kind),
            };
            negated(Part::Kind(go(a)?, wanted), *not)
        }
        Node::Some(path, predicate) => Part::Some(hops(path), go(predicate)?),
        Node::Case(arms, other) => {
            let arms = arms
                .iter()
                .map(|(when, then)| Ok((part(when, context)?, part(then, context)?)))
                .collect::<Result<_>>()?;
            Part::Case(arms, other.as_ref().map(|other| go(other)).transpose()?)
        }
        Node::Call(function, arguments) => call_part(function.id, arguments, context, e)?,
        Node::Element(a, b) => Part::Element(go(a)?, go(b)?),
        Node::Apply(name, _) => {
            return Err(FlowError::at(
                e.span.clone(),
                format!("There is no function {name} here."),
            ));
        }
        Node::Object(fields) => Part::Object(
            fields
                .iter()
                .map(|(name, value)| Ok((name.as_str().into(), part(value, context)?)))
                .collect::<Result<_>>()?,
        ),
        Node::List(items) => Part::List(
            items
                .iter()
                .map(|item| part(item, context))
                .collect::<Result<_>>()?,
        ),
    })
}

fn call_part(id: Id, arguments: &[Expr], context: &Context, e: &Expr) -> Result<Part> {
    match id {
        Id::Now => return Ok(Part::Value(Datum::Date(context.now))),
        Id::Truncate => {
            idle_tide_lang::flow::compile::unit(&arguments[1])?;
        }
        _ => {}
    }
    let list = arguments
        .iter()
        .map(|a| part(a, context))
        .collect::<Result<Vec<_>>>()?;
    if id == Id::NullIf {
        let [value, other] =
            <[Part; 2]>::try_from(list).unwrap_or([Part::Value(NULL), Part::Value(NULL)]);
        let equal = Part::Compare(
            Operator::Equal,
            Box::new(value.clone()),
            Limit::Part(Box::new(other)),
        );
        return Ok(Part::Case(
            vec![(equal, Part::Value(NULL))],
            Some(Box::new(value)),
        ));
    }
    Ok(Part::Call(id, list, e.span.clone()))
}

fn limit(e: &Expr, context: &Context) -> Result<Limit> {
    Ok(match e.node {
        Node::Day(start, end) => Limit::Day(start, end),
        _ => Limit::Part(Box::new(part(e, context)?)),
    })
}

fn mirrored(operator: Operator) -> Operator {
    match operator {
        Operator::Less => Operator::Greater,
        Operator::LessOrEqual => Operator::GreaterOrEqual,
        Operator::Greater => Operator::Less,
        Operator::GreaterOrEqual => Operator::LessOrEqual,
        other => other,
    }
}

fn comparison(operator: Operator, a: &Expr, b: &Expr, context: &Context) -> Result<Part> {
    if operator == Operator::NotEqual {
        return Ok(Part::Not(Box::new(comparison(
            Operator::Equal,
            a,
            b,
            context,
        )?)));
    }
    if matches!(a.node, Node::Day(..)) && !matches!(b.node, Node::Day(..)) {
        return comparison(mirrored(operator), b, a, context);
    }
    let left = Box::new(part(a, context)?);
    Ok(match limit(b, context)? {
        Limit::Day(start, end) => Part::CompareDay(operator, left, start, end),
        other => Part::Compare(operator, left, other),
    })
}

/// The value at the end of a path; through lists the list of what is there.
pub(crate) fn at_path<'a>(document: &'a Document, hops: &[Hop]) -> Got<'a> {
    let Some((Hop::Name(first), rest)) = hops.split_first() else {
        return Got::Missing;
    };
    match document.get(first) {
        Some(value) => onward(value, rest),
        None => Got::Missing,
    }
}

fn onward<'a>(value: &'a Datum, hops: &[Hop]) -> Got<'a> {
    let Some((hop, rest)) = hops.split_first() else {
        return Got::Ref(value);
    };
    match (hop, value) {
        (Hop::Name(name), Datum::Object(document)) => match document.get(name) {
            Some(value) => onward(value, rest),
            None => Got::Missing,
        },
        (Hop::Name(_), Datum::List(list)) => {
            // The names up to the next position are followed in each element, as one.
            let names = hops
                .iter()
                .take_while(|hop| matches!(hop, Hop::Name(_)))
                .count();
            let found: Vec<Datum> = list
                .iter()
                .filter(|element| matches!(element, Datum::Object(_) | Datum::List(_)))
                .filter_map(|element| onward(element, &hops[..names]).into_owned())
                .collect();
            if names == hops.len() {
                return Got::Own(Datum::List(found));
            }
            match onward(&Datum::List(found), &hops[names..]).into_owned() {
                Some(value) => Got::Own(value),
                None => Got::Missing,
            }
        }
        (Hop::Index(index), Datum::List(list)) => match element(list, *index) {
            Some(value) => onward(value, rest),
            None => Got::Missing,
        },
        _ => Got::Missing,
    }
}

fn element(list: &[Datum], index: i64) -> Option<&Datum> {
    let at = if index < 0 {
        index + i64::try_from(list.len()).ok()?
    } else {
        index
    };
    list.get(usize::try_from(at).ok()?)
}

/// Visits all values that a comparison with a path looks at, until one answers true: what is there, the elements of lists, then the list.
pub(crate) fn any_at<'a>(
    document: &'a Document,
    hops: &[Hop],
    see: &mut dyn FnMut(&'a Datum) -> Result<bool>,
) -> Result<bool> {
    let Some((value, rest)) = entered(document, hops) else {
        return Ok(false);
    };
    if rest.is_empty() {
        if let Datum::List(list) = value {
            for element in list {
                if see(element)? {
                    return Ok(true);
                }
            }
        }
        return see(value);
    }
    match value {
        Datum::Object(inner) => any_at(inner, rest, see),
        Datum::List(list) => {
            for element in list {
                if let Datum::Object(inner) = element
                    && any_at(inner, rest, see)?
                {
                    return Ok(true);
                }
            }
            Ok(false)
        }
        _ => Ok(false),
    }
}

/// Into a field and the positions that follow its name.
fn entered<'a, 'h>(document: &'a Document, hops: &'h [Hop]) -> Option<(&'a Datum, &'h [Hop])> {
    let Some((Hop::Name(name), mut rest)) = hops.split_first() else {
        return None;
    };
    let mut value = document.get(name)?;
    while let Some((Hop::Index(index), more)) = rest.split_first() {
        value = element(value.as_list()?, *index)?;
        rest = more;
    }
    Some((value, rest))
}

/// Visits the values that a path stands for one by one: elements instead of lists, null for what is not there.
pub(crate) fn each_element(document: &Document, hops: &[Hop], see: &mut dyn FnMut(&Datum)) {
    if let [Hop::Name(name)] = hops {
        match document.get(name) {
            Some(Datum::List(list)) => list.iter().for_each(see),
            other => see(other.unwrap_or(&NULL)),
        }
        return;
    }
    deep_elements(document, hops, see);
}

/// The same within a longer path, where lists of lists are not entered.
fn deep_elements(document: &Document, hops: &[Hop], see: &mut dyn FnMut(&Datum)) {
    let Some((value, rest)) = entered(document, hops) else {
        return see(&NULL);
    };
    match (value, rest.is_empty()) {
        (Datum::List(list), true) => list.iter().filter(|e| e.as_list().is_none()).for_each(see),
        (value, true) => see(value),
        (Datum::Object(inner), false) => deep_elements(inner, rest, see),
        (Datum::List(list), false) => {
            for element in list {
                match element {
                    Datum::Object(inner) => deep_elements(inner, rest, see),
                    _ => see(&NULL),
                }
            }
        }
        _ => see(&NULL),
    }
}

#[inline]
fn fits(operator: Operator, order: Option<Ordering>) -> bool {
    let Some(order) = order else { return false };
    match operator {
        Operator::Equal => order.is_eq(),
        Operator::Less => order.is_lt(),
        Operator::LessOrEqual => order.is_le(),
        Operator::Greater => order.is_gt(),
        Operator::GreaterOrEqual => order.is_ge(),
        _ => order.is_ne(),
    }
}

fn fits_day(operator: Operator, value: &Datum, start: i64, end: i64) -> bool {
    let Datum::Date(at) = value else { return false };
    match operator {
        Operator::Less => *at < start,
        Operator::LessOrEqual => *at < end,
        Operator::Greater => *at >= end,
        Operator::GreaterOrEqual => *at >= start,
        _ => (start..end).contains(at),
    }
}

/// The order of two values within a kind. A number written with a point may mean its digits.
#[inline]
fn compare(a: &Datum, b: &Datum, digits: bool) -> Option<Ordering> {
    if digits
        && let (Datum::Decimal(_), Datum::Double(_)) | (Datum::Double(_), Datum::Decimal(_)) =
            (a, b)
    {
        return a.as_f64()?.partial_cmp(&b.as_f64()?);
    }
    same_kind(a, b)
}

/// Whether a condition holds for one of the values that a side stands for.
fn any<'a>(
    side: &'a Part,
    document: &'a Document,
    digits: bool,
    see: &mut dyn FnMut(&Datum) -> Result<bool>,
) -> Result<bool> {
    match side {
        Part::Field(name) => match document.get(name) {
            Some(list @ Datum::List(elements)) => {
                for element in elements {
                    if see(element)? {
                        return Ok(true);
                    }
                }
                see(list)
            }
            Some(value) => see(value),
            None => Ok(false),
        },
        Part::Path(hops) => any_at(document, hops, &mut |value| see(value)),
        other => match value(other, document, digits)?.as_ref() {
            Some(value) => see(value),
            None => Ok(false),
        },
    }
}

fn truth(part: &Part, document: &Document, digits: bool) -> Result<bool> {
    Ok(match part {
        Part::Value(value) => *value == Datum::Boolean(true),
        Part::Not(inner) => !truth(inner, document, digits)?,
        Part::And(a, b) => truth(a, document, digits)? && truth(b, document, digits)?,
        Part::Or(a, b) => truth(a, document, digits)? || truth(b, document, digits)?,
        Part::Compare(operator, a, b) => match b {
            Limit::Part(b) => match &**b {
                Part::Value(constant) => any(a, document, digits, &mut |v| {
                    Ok(fits(*operator, compare(v, constant, digits)))
                })?,
                other => any(a, document, digits, &mut |v| {
                    any(other, document, digits, &mut |w| {
                        Ok(fits(*operator, compare(v, w, digits)))
                    })
                })?,
            },
            Limit::Day(start, end) => any(a, document, digits, &mut |v| {
                Ok(fits_day(*operator, v, *start, *end))
            })?,
        },
        Part::CompareDay(operator, a, start, end) => any(a, document, digits, &mut |v| {
            Ok(fits_day(*operator, v, *start, *end))
        })?,
        Part::Between(a, low, high) => any(a, document, digits, &mut |v| {
            let side = |operator: Operator, limit: &Limit| match limit {
                Limit::Day(start, end) => Ok(fits_day(operator, v, *start, *end)),
                Limit::Part(part) => {
                    let got = value(part, document, digits)?;
                    Ok(got
                        .as_ref()
                        .is_some_and(|w| fits(operator, compare(v, w, digits))))
                }
            };
            Ok(side(Operator::GreaterOrEqual, low)? && side(Operator::LessOrEqual, high)?)
        })?,
        Part::In(a, items) => any(a, document, digits, &mut |v| {
            for item in items {
                let found = match item {
                    Limit::Day(start, end) => fits_day(Operator::Equal, v, *start, *end),
                    Limit::Part(part) => any(part, document, digits, &mut |w| {
                        Ok(fits(Operator::Equal, compare(v, w, digits)))
                    })?,
                };
                if found {
                    return Ok(true);
                }
            }
            Ok(false)
        })?,
        Part::InList(a, list) => {
            let list = value(list, document, digits)?;
            match list.as_ref() {
                Some(Datum::List(items)) => any(a, document, digits, &mut |v| {
                    Ok(items
                        .iter()
                        .any(|w| fits(Operator::Equal, compare(v, w, digits))))
                })?,
                _ => false,
            }
        }
        Part::Like(a, pattern) => {
            let pattern = value(pattern, document, digits)?;
            match pattern.as_ref() {
                Some(Datum::Text(pattern)) => any(a, document, digits, &mut |v| {
                    Ok(matches!(v, Datum::Text(text) if like(text, pattern)))
                })?,
                _ => false,
            }
        }
        Part::Kind(a, wanted) => {
            let got = value(a, document, digits)?;
            match wanted {
                Wanted::Null => got.is_nothing(),
                Wanted::Missing => got.as_ref().is_none(),
                Wanted::Number => got.as_ref().is_some_and(Datum::is_number),
                Wanted::One(kind) => got.as_ref().is_some_and(|v| v.kind() == *kind),
            }
        }
        Part::Some(hops, predicate) => some(hops, predicate, document, digits)?,
        Part::Field(_) | Part::Path(_) => any(part, document, digits, &mut |v| {
            Ok(*v == Datum::Boolean(true))
        })?,
        other => value(other, document, digits)?.as_ref() == Some(&Datum::Boolean(true)),
    })
}

fn some(hops: &[Hop], predicate: &Part, document: &Document, digits: bool) -> Result<bool> {
    let one = |list: &[Datum]| -> Result<bool> {
        for element in list {
            if let Datum::Object(inner) = element
                && truth(predicate, inner, digits)?
            {
                return Ok(true);
            }
        }
        Ok(false)
    };
    if let [Hop::Name(name)] = hops {
        return document
            .get(name)
            .and_then(Datum::as_list)
            .map_or(Ok(false), one);
    }
    any_at(document, hops, &mut |value| {
        value.as_list().map_or(Ok(false), one)
    })
}

fn value<'a>(part: &'a Part, document: &'a Document, digits: bool) -> Result<Got<'a>> {
    Ok(match part {
        Part::Value(value) => Got::Ref(value),
        Part::Field(name) => Got::of(document.get(name)),
        Part::Path(hops) => at_path(document, hops),
        Part::Compute(operation, a, b, span) => {
            let (a, b) = (value(a, document, digits)?, value(b, document, digits)?);
            match (a.as_ref(), b.as_ref()) {
                (Some(a), Some(b)) => match number::compute(*operation, a, b) {
                    Ok(number) => Got::Own(number),
                    Err(NoNumber::Overflow) => return Err(overflow(span)),
                    Err(_) => Got::Ref(&NULL),
                },
                _ => Got::Ref(&NULL),
            }
        }
        Part::Calculate(operation, a, b, span) => {
            let (a, b) = (value(a, document, digits)?, value(b, document, digits)?);
            Got::Own(super::script::calculate(
                *operation,
                a.as_ref(),
                b.as_ref(),
                span,
            )?)
        }
        Part::Element(a, b) => {
            let (a, b) = (value(a, document, digits)?, value(b, document, digits)?);
            let found = match (a.as_ref(), b.as_ref()) {
                (Some(Datum::Object(inner)), Some(Datum::Text(name))) => inner.get(name).cloned(),
                (Some(Datum::List(list)), Some(Datum::Int(at))) => {
                    element(list, i64::from(*at)).cloned()
                }
                (Some(Datum::List(list)), Some(Datum::Long(at))) => element(list, *at).cloned(),
                _ => None,
            };
            found.map_or(Got::Missing, Got::Own)
        }
        Part::Concatenate(a, b) => {
            let (a, b) = (value(a, document, digits)?, value(b, document, digits)?);
            let text = |v: &Got<'_>| v.as_ref().and_then(convert::text);
            match (text(&a), text(&b)) {
                (Some(a), Some(b)) => Got::Own(Datum::Text((a + &b).into())),
                _ => Got::Ref(&NULL),
            }
        }
        Part::Case(arms, other) => {
            for (when, then) in arms {
                if truth(when, document, digits)? {
                    return value(then, document, digits);
                }
            }
            match other {
                Some(other) => value(other, document, digits)?,
                None => Got::Ref(&NULL),
            }
        }
        // What stands behind a value that is there is not worked out.
        Part::Call(Id::Coalesce, arguments, _) => {
            for argument in arguments {
                let got = value(argument, document, digits)?;
                if !got.is_nothing() {
                    return Ok(got);
                }
            }
            Got::Ref(&NULL)
        }
        Part::Call(id, arguments, span) => {
            let got = arguments
                .iter()
                .map(|a| value(a, document, digits))
                .collect::<Result<Vec<_>>>()?;
            call(*id, &got, span)?
        }
        Part::Object(fields) => {
            let mut object = Document::new();
            for (name, inner) in fields {
                if let Some(value) = value(inner, document, digits)?.into_owned() {
                    object.set(name, value);
                }
            }
            Got::Own(object.into())
        }
        Part::List(items) => {
            let items = items
                .iter()
                .map(|item| Ok(value(item, document, digits)?.into_owned().unwrap_or(NULL)))
                .collect::<Result<Vec<_>>>()?;
            Got::Own(Datum::List(items))
        }
        predicate => Got::Own(Datum::Boolean(truth(predicate, document, digits)?)),
    })
}

/// The error for whole numbers that leave 64 bits.
pub(crate) fn overflow(span: &Span) -> FlowError {
    FlowError::at(
        span.clone(),
        "This leaves the range of 64-bit integers; write one side with a point, as in 1.0.",
    )
}

/// The blanks that `trim` takes away.
fn is_blank(c: char) -> bool {
    matches!(c, '\0' | '\t'..='\r' | ' ' | '\u{a0}' | '\u{1680}' | '\u{2000}'..='\u{200a}')
}

/// The values that a function is given.
struct Given<'g, 'a>(&'g [Got<'a>]);

impl<'g> Given<'g, '_> {
    fn get(&self, at: usize) -> Option<&'g Datum> {
        self.0.get(at).and_then(Got::as_ref)
    }

    fn text(&self, at: usize) -> Option<&'g str> {
        match self.get(at) {
            Some(Datum::Text(text)) => Some(text.as_str()),
            _ => None,
        }
    }

    fn real(&self, at: usize) -> Option<f64> {
        self.get(at).and_then(Datum::as_f64)
    }

    fn whole(&self, at: usize) -> Option<i64> {
        self.get(at).and_then(Datum::as_i64)
    }

    fn list(&self, at: usize) -> Option<&'g [Datum]> {
        self.get(at).and_then(Datum::as_list)
    }

    fn date(&self, at: usize) -> Option<i64> {
        match self.get(at) {
            Some(Datum::Date(ms)) => Some(*ms),
            _ => None,
        }
    }
}

fn extreme(smallest: bool, values: &mut dyn Iterator<Item = &Datum>) -> Option<Datum> {
    let kept = values.filter(|v| !v.is_null());
    let found = if smallest {
        kept.reduce(|a, b| if order(b, a).is_lt() { b } else { a })
    } else {
        kept.reduce(|a, b| if order(b, a).is_gt() { b } else { a })
    };
    found.cloned()
}

fn rounded(given: &Given<'_, '_>, span: &Span, way: Way, places: i64) -> Result<Option<Datum>> {
    match given.get(0).map(|v| convert::round(v, places, way)) {
        Some(Err(NoNumber::Overflow)) => Err(overflow(span)),
        other => Ok(other.and_then(std::result::Result::ok)),
    }
}

fn part_of_date(
    given: &Given<'_, '_>,
    f: &dyn Fn(idle_tide_core::document::time::Parts) -> i32,
) -> Option<Datum> {
    given
        .date(0)
        .and_then(time::parts)
        .map(|at| Datum::Int(f(at)))
}

fn call<'a>(id: Id, arguments: &[Got<'a>], span: &Span) -> Result<Got<'a>> {
    let given = &Given(arguments);
    let found: Option<Datum> = match id {
        Id::Abs | Id::Ceiling | Id::Floor | Id::Round | Id::Exp | Id::Sqrt | Id::Ln | Id::Power => {
            numbers(id, given, span)?
        }
        Id::Contains
        | Id::Starts
        | Id::Ends
        | Id::Length
        | Id::Lower
        | Id::Upper
        | Id::Trim
        | Id::Replace
        | Id::Split
        | Id::Substring => texts(id, given),
        Id::Smallest | Id::Largest | Id::Size | Id::Total | Id::Mean | Id::Unique => {
            lists(id, given, span)?
        }
        Id::Year
        | Id::Month
        | Id::Day
        | Id::Hour
        | Id::Minute
        | Id::Second
        | Id::Weekday
        | Id::Truncate
        | Id::SecondsBetween => dates(id, given),
        Id::Kind | Id::Text | Id::Number | Id::Date => kinds(id, given),
        Id::Least | Id::Greatest => extreme(
            id == Id::Least,
            &mut arguments.iter().filter_map(Got::as_ref),
        ),
        // These are no calls by the time that they are worked out.
        Id::Now | Id::NullIf | Id::Coalesce => None,
    };
    Ok(Got::Own(found.unwrap_or(NULL)))
}

/// Functions of numbers.
fn numbers(id: Id, given: &Given<'_, '_>, span: &Span) -> Result<Option<Datum>> {
    Ok(match id {
        Id::Abs => match given.get(0).map(convert::abs) {
            Some(Err(NoNumber::Overflow)) => return Err(overflow(span)),
            other => other.and_then(std::result::Result::ok),
        },
        Id::Ceiling => rounded(given, span, Way::Up, 0)?,
        Id::Floor => rounded(given, span, Way::Down, 0)?,
        Id::Round => rounded(
            given,
            span,
            Way::Nearest,
            if given.0.len() > 1 {
                given.whole(1).unwrap_or(0)
            } else {
                0
            },
        )?,
        Id::Exp => given.real(0).map(|x| Datum::Double(x.exp())),
        Id::Sqrt => given
            .real(0)
            .filter(|x| *x >= 0.0 || x.is_nan())
            .filter(|x| !x.is_nan())
            .map(|x| Datum::Double(x.sqrt())),
        Id::Ln => given
            .real(0)
            .filter(|x| *x > 0.0)
            .map(|x| Datum::Double(x.ln())),
        Id::Power => match (given.real(0), given.real(1)) {
            (Some(a), Some(b)) if !(a == 0.0 && b < 0.0) => Some(Datum::Double(a.powf(b))),
            _ => None,
        },
        _ => None,
    })
}

/// Functions of texts.
fn texts(id: Id, given: &Given<'_, '_>) -> Option<Datum> {
    match id {
        Id::Contains => given
            .text(0)
            .zip(given.text(1))
            .map(|(a, b)| a.contains(b).into()),
        Id::Starts => given
            .text(0)
            .zip(given.text(1))
            .map(|(a, b)| a.starts_with(b).into()),
        Id::Ends => given
            .text(0)
            .zip(given.text(1))
            .map(|(a, b)| a.ends_with(b).into()),
        Id::Length => given
            .text(0)
            .map(|t| Datum::integer(t.chars().count() as i64)),
        Id::Lower => given.text(0).map(|t| t.to_ascii_lowercase().into()),
        Id::Upper => given.text(0).map(|t| t.to_ascii_uppercase().into()),
        Id::Trim => given.text(0).map(|t| t.trim_matches(is_blank).into()),
        Id::Replace => match (given.text(0), given.text(1), given.text(2)) {
            (Some(t), Some(""), Some(_)) => Some(t.into()),
            (Some(t), Some(part), Some(by)) => Some(t.replace(part, by).into()),
            _ => None,
        },
        Id::Split => given.text(0).zip(given.text(1)).map(|(t, by)| {
            let parts: Vec<Datum> = if by.is_empty() {
                vec![t.into()]
            } else {
                t.split(by).map(Datum::from).collect()
            };
            Datum::List(parts)
        }),
        Id::Substring => {
            let count = if given.0.len() > 2 {
                given.whole(2)
            } else {
                Some(i64::from(i32::MAX))
            };
            match (given.text(0), given.whole(1), count) {
                (Some(t), Some(from), Some(count)) if from >= 1 && count >= 0 => {
                    let from = usize::try_from(from - 1).unwrap_or(usize::MAX);
                    Some(
                        convert::characters(t, from, usize::try_from(count).unwrap_or(usize::MAX))
                            .into(),
                    )
                }
                _ => None,
            }
        }
        _ => None,
    }
}

/// Functions of lists.
fn lists(id: Id, given: &Given<'_, '_>, span: &Span) -> Result<Option<Datum>> {
    Ok(match id {
        Id::Smallest | Id::Largest => given
            .list(0)
            .and_then(|l| extreme(id == Id::Smallest, &mut l.iter())),
        Id::Size => given.list(0).map(|l| Datum::integer(l.len() as i64)),
        Id::Total | Id::Mean => match given.list(0) {
            Some(list) => {
                let mut sum = Sum::default();
                list.iter().for_each(|v| sum.add(v));
                if id == Id::Mean {
                    sum.mean()
                } else {
                    Some(sum.total().map_err(|_| overflow(span))?)
                }
            }
            None => None,
        },
        Id::Unique => given.list(0).map(|l| {
            let mut sorted = l.to_vec();
            sorted.sort_by(order);
            sorted.dedup_by(|a, b| order(a, b).is_eq());
            Datum::List(sorted)
        }),
        _ => None,
    })
}

/// Functions of dates.
fn dates(id: Id, given: &Given<'_, '_>) -> Option<Datum> {
    match id {
        Id::Year => part_of_date(given, &|at| at.year().into()),
        Id::Month => part_of_date(given, &|at| at.month().into()),
        Id::Day => part_of_date(given, &|at| at.day().into()),
        Id::Hour => part_of_date(given, &|at| at.hour().into()),
        Id::Minute => part_of_date(given, &|at| at.minute().into()),
        Id::Second => part_of_date(given, &|at| at.second().into()),
        Id::Weekday => part_of_date(given, &|at| at.weekday().to_monday_one_offset().into()),
        Id::Truncate => given
            .date(0)
            .zip(given.text(1))
            .and_then(|(ms, unit)| time::truncate(ms, unit))
            .map(Datum::Date),
        Id::SecondsBetween => given
            .date(0)
            .zip(given.date(1))
            .map(|(a, b)| Datum::Double(b.wrapping_sub(a) as f64 / 1000.0)),
        _ => None,
    }
}

/// What a value is, and the same value as another kind.
fn kinds(id: Id, given: &Given<'_, '_>) -> Option<Datum> {
    match id {
        Id::Kind => Some(given.get(0).map_or("missing", |v| v.kind().word()).into()),
        Id::Text => given.get(0).and_then(convert::text).map(Datum::from),
        Id::Number => match given.get(0) {
            Some(v) if v.is_number() => Some(v.clone()),
            Some(Datum::Text(t)) => convert::double_of_text(t).map(Datum::Double),
            Some(Datum::Boolean(b)) => Some(Datum::Int(i32::from(*b))),
            Some(Datum::Date(ms)) => Some(Datum::Long(*ms)),
            _ => None,
        },
        Id::Date => match given.get(0) {
            Some(Datum::Date(ms)) => Some(Datum::Date(*ms)),
            Some(Datum::Text(t)) => time::read(t, &time::TimeZone::UTC).map(Datum::Date),
            Some(v) if v.is_number() => convert::whole_part(v).map(Datum::Date),
            _ => None,
        },
        _ => None,
    }
}

/// SQL's `like`: `%` any text, `_` one character.
pub fn like(text: &str, pattern: &str) -> bool {
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
