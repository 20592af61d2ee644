//! Functions as aggregation expressions, guarded: a value of another kind gives null.

use idle_tide_core::document::{Datum, Document, Kind};

use super::super::FlowError;
use super::super::ast::{Expr, KindWord, Operator};
use super::super::functions::Id;
use super::expression::{Compiler, Result, and, cond, is_of, nothing, op, ops, type_name};

const NUMBER: KindWord = KindWord::Number;
const TEXT: KindWord = KindWord::One(Kind::Text);
const DATE: KindWord = KindWord::One(Kind::Date);
const LIST: KindWord = KindWord::One(Kind::List);

/// The blanks that `trim` takes away.
const BLANKS: &str = "\u{0}\t\n\u{b}\u{c}\r \u{a0}\u{1680}\u{2000}\u{2001}\u{2002}\u{2003}\u{2004}\u{2005}\u{2006}\u{2007}\u{2008}\u{2009}\u{200a}";

/// Computes from one value of a kind; null for others.
fn one(
    c: &mut Compiler,
    e: &Expr,
    kind: KindWord,
    then: impl FnOnce(&mut Compiler, Datum) -> Result<Datum>,
) -> Result<Datum> {
    let value = c.value(e)?;
    c.with(value, |c, v| {
        let inner = then(c, v.clone())?;
        Ok(cond(is_of(v, kind), inner, Datum::Null))
    })
}

/// Computes from two values of a kind; null for others.
fn two(
    c: &mut Compiler,
    arguments: &[Expr],
    kind: KindWord,
    then: impl FnOnce(&mut Compiler, Datum, Datum) -> Result<Datum>,
) -> Result<Datum> {
    let (a, b) = (c.value(&arguments[0])?, c.value(&arguments[1])?);
    c.with(a, |c, a| {
        c.with(b, |c, b| {
            let inner = then(c, a.clone(), b.clone())?;
            Ok(cond(
                and(vec![is_of(a, kind), is_of(b, kind)]),
                inner,
                Datum::Null,
            ))
        })
    })
}

fn double(value: Datum) -> Datum {
    op("$toDouble", value)
}

/// A number, boolean, date or identifier as text.
pub(super) fn text(c: &mut Compiler, value: Datum) -> Result<Datum> {
    c.with(value, |_, v| {
        let kinds = [
            Kind::Text,
            Kind::Int,
            Kind::Long,
            Kind::Double,
            Kind::Decimal,
            Kind::Boolean,
            Kind::Date,
            Kind::Id,
        ];
        let names = kinds.map(|k| Datum::from(type_name(k))).to_vec();
        let fits = ops(
            "$in",
            [op("$type", v.clone()), op("$literal", Datum::List(names))],
        );
        let convert = Document::new()
            .with("input", v)
            .with("to", "string")
            .with("onError", Datum::Null)
            .with("onNull", Datum::Null);
        Ok(cond(fits, op("$convert", convert), Datum::Null))
    })
}

/// Whole numbers only: what is none gives null.
fn whole(v: &Datum) -> Datum {
    if matches!(v, Datum::Int(_) | Datum::Long(_)) {
        return true.into();
    }
    and(vec![
        op("$isNumber", v.clone()),
        ops("$eq", [v.clone(), op("$trunc", vec![v.clone()])]),
    ])
}

/// Null for a number that the function is not defined for.
fn where_defined(v: &Datum, sign: &str, inner: Datum) -> Datum {
    cond(ops(sign, [v.clone(), 0.into()]), inner, Datum::Null)
}

pub(super) fn compile(c: &mut Compiler, id: Id, arguments: &[Expr]) -> Result<Datum> {
    let date_part =
        |c: &mut Compiler, name: &str| one(c, &arguments[0], DATE, |_, v| Ok(op(name, v)));
    match id {
        Id::Abs => one(c, &arguments[0], NUMBER, |_, v| Ok(op("$abs", v))),
        Id::Ceiling => one(c, &arguments[0], NUMBER, |_, v| Ok(op("$ceil", v))),
        Id::Floor => one(c, &arguments[0], NUMBER, |_, v| Ok(op("$floor", v))),
        Id::Exp => one(c, &arguments[0], NUMBER, |_, v| Ok(op("$exp", double(v)))),
        Id::Sqrt => one(c, &arguments[0], NUMBER, |_, v| {
            Ok(where_defined(&v, "$gte", op("$sqrt", double(v.clone()))))
        }),
        Id::Ln => one(c, &arguments[0], NUMBER, |_, v| {
            Ok(where_defined(&v, "$gt", op("$ln", double(v.clone()))))
        }),
        Id::Power => power(c, arguments),
        Id::Round => round(c, arguments),
        Id::Coalesce => coalesce(c, arguments),
        Id::NullIf => null_if(c, arguments),
        Id::Least | Id::Greatest => {
            let values: Vec<Datum> = arguments
                .iter()
                .map(|a| c.value(a))
                .collect::<Result<_>>()?;
            Ok(extreme(id == Id::Least, Datum::List(values)))
        }
        Id::Smallest | Id::Largest => one(c, &arguments[0], LIST, |_, v| {
            Ok(extreme(id == Id::Smallest, v))
        }),
        Id::Contains => two(c, arguments, TEXT, |_, a, b| {
            Ok(ops("$gte", [ops("$indexOfCP", [a, b]), 0.into()]))
        }),
        Id::Starts => two(c, arguments, TEXT, |_, a, b| {
            Ok(ops("$eq", [ops("$indexOfCP", [a, b]), 0.into()]))
        }),
        Id::Ends => ends(c, arguments),
        Id::Length => one(c, &arguments[0], TEXT, |_, v| Ok(op("$strLenCP", v))),
        Id::Lower => one(c, &arguments[0], TEXT, |_, v| Ok(op("$toLower", v))),
        Id::Upper => one(c, &arguments[0], TEXT, |_, v| Ok(op("$toUpper", v))),
        Id::Trim => trim(c, arguments),
        Id::Replace => replace(c, arguments),
        Id::Split => split(c, arguments),
        Id::Substring => substring(c, arguments),
        Id::Size => one(c, &arguments[0], LIST, |_, v| Ok(op("$size", v))),
        Id::Total => one(c, &arguments[0], LIST, |_, v| Ok(op("$sum", v))),
        Id::Mean => one(c, &arguments[0], LIST, |_, v| Ok(op("$avg", v))),
        Id::Unique => unique(c, arguments),
        Id::Kind => kind_of(c, arguments),
        Id::Now => Ok("$$NOW".into()),
        Id::Text => {
            let value = c.value(&arguments[0])?;
            text(c, value)
        }
        Id::Number => to_number(c, arguments),
        Id::Date => to_date(c, arguments),
        Id::Year => date_part(c, "$year"),
        Id::Month => date_part(c, "$month"),
        Id::Day => date_part(c, "$dayOfMonth"),
        Id::Hour => date_part(c, "$hour"),
        Id::Minute => date_part(c, "$minute"),
        Id::Second => date_part(c, "$second"),
        Id::Weekday => date_part(c, "$isoDayOfWeek"),
        Id::Truncate => truncate(c, arguments),
        Id::SecondsBetween => two(c, arguments, DATE, |_, a, b| {
            Ok(ops("$divide", [ops("$subtract", [b, a]), 1000.into()]))
        }),
    }
}

fn power(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    two(c, arguments, NUMBER, |_, a, b| {
        // Zero to a negative power is no number, and servers refuse it.
        let zero = and(vec![
            ops("$eq", [a.clone(), 0.into()]),
            ops("$lt", [b.clone(), 0.into()]),
            ops("$gte", [b.clone(), Datum::Double(f64::NEG_INFINITY)]),
        ]);
        Ok(cond(zero, Datum::Null, ops("$pow", [double(a), double(b)])))
    })
}

fn round(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let places = match arguments.get(1) {
        None => 0,
        Some(e) => match e.constant().and_then(|v| v.as_i64()) {
            Some(places) if (-20..=100).contains(&places) => places,
            _ => {
                return Err(FlowError::at(
                    e.span.clone(),
                    "The places are a whole number from -20 to 100.",
                ));
            }
        },
    };
    one(c, &arguments[0], NUMBER, |_, v| {
        Ok(ops("$round", [v, Datum::integer(places)]))
    })
}

fn coalesce(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let values: Vec<Datum> = arguments
        .iter()
        .map(|a| c.value(a))
        .collect::<Result<_>>()?;
    let mut result = Datum::Null;
    for value in values.into_iter().rev() {
        result = ops("$ifNull", [value, result]);
    }
    Ok(result)
}

fn null_if(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let equal = Expr::new(
        super::super::ast::Node::Binary(
            Operator::Equal,
            Box::new(arguments[0].clone()),
            Box::new(arguments[1].clone()),
        ),
        arguments[0].span.clone(),
    );
    let equal = c.truth(&equal)?;
    let value = c.value(&arguments[0])?;
    Ok(cond(equal, Datum::Null, value))
}

fn ends(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    two(c, arguments, TEXT, |_, a, b| {
        let length = |v: &Datum| op("$strLenCP", v.clone());
        let from = ops("$subtract", [length(&a), length(&b)]);
        let tail = ops(
            "$substrCP",
            [a.clone(), ops("$max", [from.clone(), 0.into()]), length(&b)],
        );
        Ok(and(vec![
            ops("$gte", [from, 0.into()]),
            ops("$eq", [tail, b]),
        ]))
    })
}

fn trim(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    one(c, &arguments[0], TEXT, |_, v| {
        Ok(op(
            "$trim",
            Document::new().with("input", v).with("chars", BLANKS),
        ))
    })
}

fn replace(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let by = c.value(&arguments[2])?;
    c.with(by, |c, by| {
        two(c, arguments, TEXT, |_, a, b| {
            let empty = ops("$eq", [b.clone(), "".into()]);
            let replaced = op(
                "$replaceAll",
                Document::new()
                    .with("input", a.clone())
                    .with("find", b)
                    .with("replacement", by.clone()),
            );
            Ok(cond(is_of(by, TEXT), cond(empty, a, replaced), Datum::Null))
        })
    })
}

fn split(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    two(c, arguments, TEXT, |_, a, b| {
        let empty = ops("$eq", [b.clone(), "".into()]);
        Ok(cond(
            empty,
            Datum::List(vec![a.clone()]),
            ops("$split", [a, b]),
        ))
    })
}

fn substring(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let from = c.value(&arguments[1])?;
    let count = match arguments.get(2) {
        Some(count) => c.value(count)?,
        None => Datum::Int(i32::MAX),
    };
    c.with(from, |c, from| {
        c.with(count, |c, count| {
            one(c, &arguments[0], TEXT, |_, v| {
                let sure = and(vec![
                    whole(&from),
                    whole(&count),
                    ops("$gte", [from.clone(), 1.into()]),
                    ops("$gte", [count.clone(), 0.into()]),
                ]);
                let start = ops("$subtract", [from.clone(), 1.into()]);
                let few = ops("$min", [count.clone(), op("$strLenCP", v.clone())]);
                let part = ops(
                    "$substrCP",
                    [
                        v,
                        op("$toInt", ops("$min", [start, i32::MAX.into()])),
                        op("$toInt", few),
                    ],
                );
                Ok(cond(sure, part, Datum::Null))
            })
        })
    })
}

fn unique(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    one(c, &arguments[0], LIST, |_, v| {
        let set = ops("$setUnion", [v, Datum::List(vec![])]);
        Ok(op(
            "$sortArray",
            Document::new().with("input", set).with("sortBy", 1),
        ))
    })
}

fn kind_of(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let value = c.value(&arguments[0])?;
    c.with(op("$type", value), |_, v| {
        let branches: Vec<Datum> = Kind::ALL
            .iter()
            .filter(|(kind, word)| type_name(*kind) != *word)
            .map(|(kind, word)| {
                let case = ops("$eq", [v.clone(), type_name(*kind).into()]);
                Document::new()
                    .with("case", case)
                    .with("then", *word)
                    .into()
            })
            .chain([Document::new()
                .with(
                    "case",
                    ops("$eq", [v.clone(), "javascriptWithScope".into()]),
                )
                .with("then", "code")
                .into()])
            .collect();
        Ok(op(
            "$switch",
            Document::new()
                .with("branches", Datum::List(branches))
                .with("default", v),
        ))
    })
}

fn to_number(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let value = c.value(&arguments[0])?;
    c.with(value, |_, v| {
        let test = Document::new()
            .with("input", v.clone())
            .with("regex", NUMBER_TEXT);
        let convert = Document::new()
            .with("input", v.clone())
            .with("to", "double")
            .with("onError", Datum::Null)
            .with("onNull", Datum::Null);
        let branches = [
            (is_of(v.clone(), NUMBER), v.clone()),
            (
                is_of(v.clone(), TEXT),
                cond(
                    op("$regexMatch", test),
                    op("$convert", convert),
                    Datum::Null,
                ),
            ),
            (
                is_of(v.clone(), KindWord::One(Kind::Boolean)),
                cond(v.clone(), 1.into(), 0.into()),
            ),
            (is_of(v.clone(), DATE), op("$toLong", v.clone())),
        ];
        Ok(first_that_fits(branches))
    })
}

/// The value of the first branch whose case holds; null if none does.
fn first_that_fits(branches: impl IntoIterator<Item = (Datum, Datum)>) -> Datum {
    let branches: Vec<Datum> = branches
        .into_iter()
        .map(|(case, then)| Document::new().with("case", case).with("then", then).into())
        .collect();
    op(
        "$switch",
        Document::new()
            .with("branches", Datum::List(branches))
            .with("default", Datum::Null),
    )
}

fn to_date(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let value = c.value(&arguments[0])?;
    c.with(value, |_, v| {
        let from_text = Document::new()
            .with("dateString", v.clone())
            .with("onError", Datum::Null)
            .with("onNull", Datum::Null);
        let branches = [
            (is_of(v.clone(), DATE), v.clone()),
            (is_of(v.clone(), TEXT), op("$dateFromString", from_text)),
            (
                is_of(v.clone(), NUMBER),
                op(
                    "$convert",
                    Document::new()
                        .with(
                            "input",
                            op(
                                "$convert",
                                Document::new()
                                    .with("input", v.clone())
                                    .with("to", "long")
                                    .with("onError", Datum::Null)
                                    .with("onNull", Datum::Null),
                            ),
                        )
                        .with("to", "date")
                        .with("onError", Datum::Null)
                        .with("onNull", Datum::Null),
                ),
            ),
        ];
        Ok(first_that_fits(branches))
    })
}

fn truncate(c: &mut Compiler, arguments: &[Expr]) -> Result<Datum> {
    let unit = unit(&arguments[1])?;
    one(c, &arguments[0], DATE, |_, v| {
        let mut form = Document::new().with("date", v).with("unit", unit);
        if unit == "week" {
            form.set("startOfWeek", "monday");
        }
        Ok(op("$dateTrunc", form))
    })
}

/// What a text looks like that is read as a number.
pub(crate) const NUMBER_TEXT: &str = "^[+-]?([0-9]+\\.?[0-9]*|\\.[0-9]+)([eE][+-]?[0-9]+)?\\z";

/// The unit of `truncate`, which is a plain text.
///
/// # Errors
/// If it is none, with its place.
pub fn unit(e: &Expr) -> std::result::Result<&'static str, FlowError> {
    const UNITS: &[&str] = &[
        "year", "quarter", "month", "week", "day", "hour", "minute", "second",
    ];
    let given = e.constant();
    let given = given.as_ref().and_then(Datum::as_text).unwrap_or_default();
    UNITS
        .iter()
        .find(|unit| **unit == given)
        .copied()
        .ok_or_else(|| {
            let mut error = FlowError::at(
                e.span.clone(),
                format!("The unit is one of '{}'.", UNITS.join("', '")),
            );
            error.nearest = crate::correct::nearest(given, UNITS.iter().copied(), 2)
                .into_iter()
                .map(|u| format!("'{u}'"))
                .collect();
            error
        })
}

/// The smallest or largest element that is not null, as groups find it.
fn extreme(smallest: bool, list: Datum) -> Datum {
    let kept = op(
        "$filter",
        Document::new()
            .with("input", list)
            .with("as", "e")
            .with("cond", ops("$not", [nothing("$$e".into())])),
    );
    op(if smallest { "$min" } else { "$max" }, kept)
}
