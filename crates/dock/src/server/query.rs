//! The query language of servers: which documents a filter matches. Comparisons stay within a kind; a condition on a path holds if one of the
//! values there satisfies it, elements of lists included (public reference of query operators).

use std::cmp::Ordering;

use idle_tide_core::document::compare::{order, rank, same_kind};
use idle_tide_core::document::{Datum, Document, Kind};

use super::expression::{self, Variables};
use super::{Failed, kind_of_name};

type Result<T> = std::result::Result<T, Failed>;

/// A condition, prepared.
#[derive(Debug, Clone)]
pub enum Filter {
    /// All hold.
    And(Vec<Filter>),
    /// One holds.
    Or(Vec<Filter>),
    /// None holds.
    Nor(Vec<Filter>),
    /// A value at a path satisfies a test.
    Path(Vec<String>, Test),
    /// An expression is true.
    Expression(Datum),
}

/// A test of one value.
#[derive(Debug, Clone)]
pub enum Test {
    /// Equal.
    Equal(Datum),
    /// Smaller, larger and so on, within the kind.
    Order(&'static str, Datum),
    /// One of these.
    In(Vec<Datum>, Vec<regex::Regex>),
    /// Not the inner test.
    Not(Box<Test>),
    /// All of these.
    All(Vec<Test>),
    /// It is there, or it is not.
    Exists(bool),
    /// Of one of these kinds; `number` for all number kinds.
    Type(Vec<Option<Kind>>),
    /// Matches.
    Regex(regex::Regex),
    /// A list of so many elements.
    Size(i64),
    /// One element satisfies a filter as a document.
    ElementFilter(Box<Filter>),
    /// One element satisfies tests as a value.
    Element(Box<Test>),
    /// Divided by the first leaves the second.
    Mod(i64, i64),
    /// Every one of these is a value or an element.
    Every(Vec<Test>),
}

fn bad(words: impl Into<String>) -> Failed {
    Failed::new(2, words)
}

impl Filter {
    /// Prepares a filter document.
    ///
    /// # Errors
    /// For operators that are none, or that get what they do not take.
    pub fn new(filter: &Document) -> Result<Self> {
        let mut parts = Vec::new();
        for (name, value) in &filter.fields {
            match name.as_str() {
                "$and" | "$or" | "$nor" => {
                    let list = value
                        .as_list()
                        .filter(|l| !l.is_empty())
                        .ok_or_else(|| bad(format!("{name} must be a nonempty array")))?;
                    let inner = list
                        .iter()
                        .map(|f| {
                            Filter::new(f.as_object().ok_or_else(|| {
                                bad(format!("{name} argument's entries must be objects"))
                            })?)
                        })
                        .collect::<Result<Vec<_>>>()?;
                    parts.push(match name.as_str() {
                        "$and" => Filter::And(inner),
                        "$or" => Filter::Or(inner),
                        _ => Filter::Nor(inner),
                    });
                }
                "$expr" => parts.push(Filter::Expression(value.clone())),
                "$comment" => {}
                "$sampleRate" => {
                    let rate = value
                        .as_f64()
                        .filter(|rate| (0.0..=1.0).contains(rate))
                        .ok_or_else(|| bad("argument to $sampleRate must be in [0, 1]"))?;
                    let random = Document::new().with("$rand", Document::new());
                    let less = Datum::List(vec![random.into(), Datum::Double(rate)]);
                    parts.push(Filter::Expression(Document::new().with("$lt", less).into()));
                }
                "$where" => return Err(bad("$where: the practice server runs no JavaScript")),
                "$text" => return Err(bad("$text: the practice server has no text search")),
                "$alwaysTrue" => {}
                "$alwaysFalse" => parts.push(Filter::Nor(vec![Filter::And(vec![])])),
                operator if operator.starts_with('$') => {
                    return Err(bad(format!(
                        "unknown top level operator: {operator}. If you have a field name that starts with a '$' symbol, consider using $getField or $setField."
                    )));
                }
                path => parts.push(Filter::Path(
                    path.split('.').map(str::to_string).collect(),
                    Test::new(value)?,
                )),
            }
        }
        Ok(if parts.len() == 1 {
            parts.remove(0)
        } else {
            Filter::And(parts)
        })
    }

    /// The value that a document must have at `_id`, if the filter says so: for looking it up. Texts that are compared in a language cannot be.
    pub fn identifier(&self, variables: &Variables) -> Option<&Datum> {
        let found = self.wanted_identifier()?;
        let plain = !matches!(found, Datum::Text(_) | Datum::Object(_));
        (variables.collation.is_none() || plain).then_some(found)
    }

    fn wanted_identifier(&self) -> Option<&Datum> {
        match self {
            Filter::Path(path, Test::Equal(value))
                if path.as_slice() == ["_id"]
                    && !matches!(value, Datum::List(_) | Datum::Null | Datum::Undefined) =>
            {
                Some(value)
            }
            Filter::And(parts) => parts.iter().find_map(Filter::wanted_identifier),
            _ => None,
        }
    }

    /// The equalities that the filter demands, path by path: for the document of an upsert.
    pub fn equalities<'a>(&'a self, found: &mut Vec<(&'a [String], &'a Datum)>) {
        match self {
            Filter::And(parts) => parts.iter().for_each(|part| part.equalities(found)),
            Filter::Path(path, Test::Equal(value)) => found.push((path, value)),
            Filter::Path(path, Test::All(tests)) => {
                for test in tests {
                    if let Test::Equal(value) = test {
                        found.push((path, value));
                    }
                }
            }
            _ => {}
        }
    }

    /// Whether a document matches.
    ///
    /// # Errors
    /// If an expression fails.
    pub fn matches(&self, document: &Document, variables: &Variables) -> Result<bool> {
        Ok(match self {
            Filter::And(parts) => {
                for part in parts {
                    if !part.matches(document, variables)? {
                        return Ok(false);
                    }
                }
                true
            }
            Filter::Or(parts) => {
                for part in parts {
                    if part.matches(document, variables)? {
                        return Ok(true);
                    }
                }
                false
            }
            Filter::Nor(parts) => {
                for part in parts {
                    if part.matches(document, variables)? {
                        return Ok(false);
                    }
                }
                true
            }
            Filter::Path(path, test) => at(document, path, test, variables)?,
            Filter::Expression(e) => {
                expression::truth(expression::evaluate(e, document, variables)?.as_ref())
            }
        })
    }
}

impl Test {
    fn new(value: &Datum) -> Result<Self> {
        let Datum::Object(operators) = value else {
            return Ok(match value {
                Datum::Regex(both) => Test::Regex(compiled(&both.0, &both.1)?),
                other => Test::Equal(other.clone()),
            });
        };
        if !operators.fields.first().is_some_and(|(name, _)| {
            name.starts_with('$') && !matches!(name.as_str(), "$ref" | "$id" | "$db")
        }) {
            return Ok(Test::Equal(value.clone()));
        }
        let mut tests = Vec::new();
        for (name, value) in &operators.fields {
            let list = || {
                value
                    .as_list()
                    .ok_or_else(|| bad(format!("{name} needs an array")))
            };
            tests.push(match name.as_str() {
                "$eq" => Test::Equal(value.clone()),
                "$ne" => Test::Not(Box::new(Test::Equal(value.clone()))),
                "$lt" => Test::Order("$lt", value.clone()),
                "$lte" => Test::Order("$lte", value.clone()),
                "$gt" => Test::Order("$gt", value.clone()),
                "$gte" => Test::Order("$gte", value.clone()),
                "$in" => Test::of_list(list()?)?,
                "$nin" => Test::Not(Box::new(Test::of_list(list()?)?)),
                "$not" => match value {
                    Datum::Regex(_) | Datum::Object(_) => Test::Not(Box::new(Test::new(value)?)),
                    _ => return Err(bad("$not needs a regex or a document")),
                },
                "$exists" => Test::Exists(expression::truth(Some(value))),
                "$type" => {
                    let names = match value {
                        Datum::List(list) => list.clone(),
                        one => vec![one.clone()],
                    };
                    Test::Type(names.iter().map(kind_of_name).collect::<Result<_>>()?)
                }
                "$regex" => {
                    let options = operators
                        .get("$options")
                        .and_then(Datum::as_text)
                        .unwrap_or_default();
                    match value {
                        Datum::Regex(both) => Test::Regex(compiled(
                            &both.0,
                            if options.is_empty() { &both.1 } else { options },
                        )?),
                        other => Test::Regex(compiled(
                            other
                                .as_text()
                                .ok_or_else(|| bad("$regex has to be a string"))?,
                            options,
                        )?),
                    }
                }
                "$options" => continue,
                "$size" => {
                    Test::Size(value.as_i64().filter(|size| *size >= 0).ok_or_else(|| {
                        bad("Failed to parse $size. Expected a non-negative number")
                    })?)
                }
                "$elemMatch" => {
                    let inner = value
                        .as_object()
                        .ok_or_else(|| bad("$elemMatch needs an Object"))?;
                    let values = inner.fields.first().is_some_and(|(n, _)| {
                        n.starts_with('$')
                            && !matches!(n.as_str(), "$and" | "$or" | "$nor" | "$expr")
                    });
                    if values {
                        Test::Element(Box::new(Test::new(value)?))
                    } else {
                        Test::ElementFilter(Box::new(Filter::new(inner)?))
                    }
                }
                "$mod" => {
                    let numbers: Vec<i64> = list()?
                        .iter()
                        .filter_map(crate::convert::whole_part)
                        .collect();
                    match numbers.as_slice() {
                        [divisor, remainder] if *divisor != 0 => Test::Mod(*divisor, *remainder),
                        _ => return Err(bad("malformed mod")),
                    }
                }
                "$all" => Test::Every(list()?.iter().map(Test::new).collect::<Result<_>>()?),
                other => return Err(bad(format!("unknown operator: {other}"))),
            });
        }
        Ok(if tests.len() == 1 {
            tests.remove(0)
        } else {
            Test::All(tests)
        })
    }

    fn of_list(list: &[Datum]) -> Result<Self> {
        let mut values = Vec::new();
        let mut patterns = Vec::new();
        for value in list {
            match value {
                Datum::Regex(both) => patterns.push(compiled(&both.0, &both.1)?),
                other => values.push(other.clone()),
            }
        }
        Ok(Test::In(values, patterns))
    }
}

/// A regular expression with the options i, m, s, x.
///
/// # Errors
/// If it cannot be understood.
pub fn compiled(pattern: &str, options: &str) -> Result<regex::Regex> {
    regex::RegexBuilder::new(pattern)
        .case_insensitive(options.contains('i'))
        .multi_line(options.contains('m'))
        .dot_matches_new_line(options.contains('s'))
        .ignore_whitespace(options.contains('x'))
        .build()
        .map_err(|error| Failed::new(51091, format!("Regular expression is invalid: {error}")))
}

/// Tests that are about all that is at a path, not about one value there.
fn at(document: &Document, path: &[String], test: &Test, variables: &Variables) -> Result<bool> {
    match test {
        Test::All(tests) => {
            for test in tests {
                if !at(document, path, test, variables)? {
                    return Ok(false);
                }
            }
            Ok(true)
        }
        Test::Not(inner) => Ok(!at(document, path, inner, variables)?),
        Test::Every(tests) => {
            for test in tests {
                if !at(document, path, test, variables)? {
                    return Ok(false);
                }
            }
            Ok(!tests.is_empty())
        }
        Test::Exists(wanted) => {
            let mut found = false;
            each(document, path, &mut |value, _| {
                found |= value.is_some();
                Ok(found)
            })?;
            Ok(found == *wanted)
        }
        test => each(document, path, &mut |value, whole| {
            holds(test, value, whole, variables)
        }),
    }
}

/// Visits what is at a path until one answers true: each value, for a list its elements and then the list (then `true` is given). What is not
/// there is visited as nothing.
fn each(
    document: &Document,
    path: &[String],
    see: &mut dyn FnMut(Option<&Datum>, bool) -> Result<bool>,
) -> Result<bool> {
    let Some((name, rest)) = path.split_first() else {
        return Ok(false);
    };
    each_value(document.get(name), rest, see)
}

fn each_value(
    value: Option<&Datum>,
    rest: &[String],
    see: &mut dyn FnMut(Option<&Datum>, bool) -> Result<bool>,
) -> Result<bool> {
    let Some((name, more)) = rest.split_first() else {
        if let Some(Datum::List(list)) = value {
            for element in list {
                if see(Some(element), false)? {
                    return Ok(true);
                }
            }
            return see(value, true);
        }
        return see(value, false);
    };
    match value {
        Some(Datum::Object(inner)) => each(inner, rest, see),
        Some(Datum::List(list)) => {
            let mut entered = false;
            for element in list {
                if let Datum::Object(inner) = element {
                    entered = true;
                    if each(inner, rest, see)? {
                        return Ok(true);
                    }
                }
            }
            if let Ok(index) = name.parse::<usize>()
                && let Some(element) = list.get(index)
            {
                entered = true;
                if each_value(Some(element), more, see)? {
                    return Ok(true);
                }
            }
            let _ = entered;
            Ok(false)
        }
        _ => see(None, false),
    }
}

fn equal(value: Option<&Datum>, wanted: &Datum, variables: &Variables) -> bool {
    match value {
        None => wanted.is_null(),
        Some(value) if wanted.is_null() => value.is_null(),
        Some(value) => rank(value) == rank(wanted) && variables.order(value, wanted).is_eq(),
    }
}

fn holds(
    test: &Test,
    value: Option<&Datum>,
    whole_list: bool,
    variables: &Variables,
) -> Result<bool> {
    Ok(match test {
        Test::Equal(wanted) => equal(value, wanted, variables),
        Test::Order(operator, limit) => {
            let found = match (value, limit) {
                (None | Some(Datum::Null), Datum::Null) => Some(Ordering::Equal),
                (Some(_), Datum::MinKey | Datum::MaxKey) => value.map(|v| order(v, limit)),
                (Some(value), limit) => {
                    same_kind(&variables.folded(value), &variables.folded(limit))
                }
                _ => None,
            };
            found.is_some_and(|found| match *operator {
                "$lt" => found.is_lt(),
                "$lte" => found.is_le(),
                "$gt" => found.is_gt(),
                _ => found.is_ge(),
            })
        }
        Test::In(values, patterns) => {
            values.iter().any(|wanted| equal(value, wanted, variables))
                || value
                    .and_then(Datum::as_text)
                    .is_some_and(|text| patterns.iter().any(|p| p.is_match(text)))
        }
        Test::Not(inner) => !holds(inner, value, whole_list, variables)?,
        Test::All(tests) => {
            for test in tests {
                if !holds(test, value, whole_list, variables)? {
                    return Ok(false);
                }
            }
            true
        }
        Test::Every(tests) => {
            for test in tests {
                if !holds(test, value, whole_list, variables)? {
                    return Ok(false);
                }
            }
            true
        }
        Test::Exists(wanted) => value.is_some() == *wanted,
        Test::Type(kinds) => value.is_some_and(|value| {
            kinds.iter().any(|kind| match kind {
                None => value.is_number(),
                Some(kind) => value.kind() == *kind,
            })
        }),
        Test::Regex(pattern) => value
            .and_then(Datum::as_text)
            .is_some_and(|text| pattern.is_match(text)),
        Test::Size(count) => {
            whole_list
                && value
                    .and_then(Datum::as_list)
                    .is_some_and(|l| l.len() as i64 == *count)
        }
        Test::ElementFilter(filter) => {
            if !whole_list {
                return Ok(false);
            }
            for element in value.and_then(Datum::as_list).unwrap_or_default() {
                let matched = match element {
                    Datum::Object(inner) => filter.matches(inner, variables)?,
                    Datum::List(list) => {
                        // A list within the list is an object whose names are its positions.
                        let inner: Document = list
                            .iter()
                            .enumerate()
                            .map(|(at, v)| (at.to_string(), v.clone()))
                            .collect();
                        filter.matches(&inner, variables)?
                    }
                    _ => false,
                };
                if matched {
                    return Ok(true);
                }
            }
            false
        }
        Test::Element(inner) => {
            if !whole_list {
                return Ok(false);
            }
            for element in value.and_then(Datum::as_list).unwrap_or_default() {
                if holds(inner, Some(element), element.as_list().is_some(), variables)? {
                    return Ok(true);
                }
            }
            false
        }
        Test::Mod(divisor, remainder) => value
            .and_then(crate::convert::whole_part)
            .is_some_and(|n| n.wrapping_rem(*divisor) == *remainder),
    })
}
