//! The aggregation expressions of servers (public reference of aggregation operators), evaluated on one document. Values of all kinds are
//! compared by the one order over all of them.

mod bits;
pub(super) mod dates;
mod kinds;
pub(super) mod lists;
mod logic;
mod numbers;
mod objects;
mod sets;
mod texts;

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, LazyLock};
use std::time::Instant;

use idle_tide_core::document::compare::order;
use idle_tide_core::document::number::{self, Deviation, NoNumber, Operation, Sum};
use idle_tide_core::document::{Datum, Document, time};

use super::collation::Collation;
use super::query::compiled;
use super::{Failed, kind_of_name, type_name};
use crate::convert::{self, Way};

type Result<T> = std::result::Result<T, Failed>;

/// What expressions can name beside the document's fields.
#[derive(Debug, Clone, Default)]
pub struct Variables {
    pub(super) names: HashMap<String, Option<Datum>>,
    /// The present moment, in milliseconds since 1970.
    pub now: i64,
    /// Set when whoever asked has had enough.
    pub killed: Option<Arc<AtomicBool>>,
    /// When time is up.
    pub until: Option<Instant>,
    /// How texts are compared; without it byte by byte.
    pub collation: Option<Arc<Collation>>,
}

impl Variables {
    /// Whether to go on.
    ///
    /// # Errors
    /// If the operation was killed.
    #[inline]
    pub fn check(&self) -> Result<()> {
        match &self.killed {
            Some(killed) if killed.load(Ordering::Relaxed) => {
                Err(Failed::new(11601, "operation was interrupted"))
            }
            _ if self.until.is_some_and(|until| Instant::now() >= until) => {
                Err(Failed::new(50, "operation exceeded time limit"))
            }
            _ => Ok(()),
        }
    }

    /// What stands for a value where values are the same or not.
    pub fn folded<'a>(&self, value: &'a Datum) -> Cow<'a, Datum> {
        match &self.collation {
            None => Cow::Borrowed(value),
            Some(collation) => collation.folded(value),
        }
    }

    /// The order of two values, of any kinds.
    pub fn order(&self, a: &Datum, b: &Datum) -> std::cmp::Ordering {
        match &self.collation {
            None => order(a, b),
            Some(_) => order(&self.folded(a), &self.folded(b)),
        }
    }

    /// The same with the collation that a command asks for.
    ///
    /// # Errors
    /// If that is none.
    pub fn collated(&self, wanted: Option<&Datum>) -> Result<Cow<'_, Self>> {
        let Some(wanted) = wanted.filter(|w| !w.is_null()) else {
            return Ok(Cow::Borrowed(self));
        };
        let wanted = wanted
            .as_object()
            .ok_or_else(|| bad(14, "a collation has to be an object"))?;
        let collation = if wanted.is_empty() {
            None
        } else {
            Collation::new(wanted)?.map(Arc::new)
        };
        Ok(Cow::Owned(Variables {
            collation,
            ..self.clone()
        }))
    }

    /// With one more variable.
    #[must_use]
    pub fn with(&self, name: &str, value: Option<Datum>) -> Self {
        let mut more = self.clone();
        more.names.insert(name.to_string(), value);
        more
    }
}

/// Whether a value counts as true: everything but false, null, zero and what is not there.
pub fn truth(value: Option<&Datum>) -> bool {
    match value {
        None | Some(Datum::Null | Datum::Undefined) => false,
        Some(Datum::Boolean(b)) => *b,
        Some(number) if number.is_number() => number.as_f64() != Some(0.0),
        Some(_) => true,
    }
}

fn along(value: &Datum, path: &[&str]) -> Option<Datum> {
    let Some((name, rest)) = path.split_first() else {
        return Some(value.clone());
    };
    match value {
        Datum::Object(document) => along(document.get(name)?, rest),
        Datum::List(list) => Some(Datum::List(
            list.iter()
                .filter(|e| matches!(e, Datum::Object(_) | Datum::List(_)))
                .filter_map(|e| along(e, path))
                .collect(),
        )),
        _ => None,
    }
}

/// The value at a dotted path of a document; through lists the list of what is there.
pub fn at_path(document: &Document, path: &str) -> Option<Datum> {
    let mut parts = path.split('.');
    let first = document.get(parts.next()?)?;
    let rest: Vec<&str> = parts.collect();
    along(first, &rest)
}

fn bad(code: i32, words: impl Into<String>) -> Failed {
    Failed::new(code, words)
}

fn null_or(value: &Option<Datum>) -> bool {
    value.as_ref().is_none_or(Datum::is_null)
}

/// The value of an expression; `None` where there is none.
///
/// # Errors
/// With the documented codes.
pub fn evaluate(e: &Datum, document: &Document, variables: &Variables) -> Result<Option<Datum>> {
    match e {
        Datum::Text(text) if text.starts_with("$$") => variable(&text[2..], document, variables),
        Datum::Text(text) if text.starts_with('$') => Ok(at_path(document, &text[1..])),
        Datum::List(list) => {
            let values = list
                .iter()
                .map(|e| Ok(evaluate(e, document, variables)?.unwrap_or(Datum::Null)));
            Ok(Some(Datum::List(values.collect::<Result<_>>()?)))
        }
        Datum::Object(object) => {
            if let [(name, argument)] = object.fields.as_slice()
                && name.starts_with('$')
            {
                return operator(name, argument, document, variables);
            }
            let mut out = Document::new();
            for (name, value) in &object.fields {
                if name.starts_with('$') {
                    return Err(bad(
                        16410,
                        format!(
                            "FieldPath field names may not start with '$'. Consider using $getField or $setField: {name}"
                        ),
                    ));
                }
                if let Some(value) = evaluate(value, document, variables)? {
                    out.fields.push((name.clone(), value));
                }
            }
            Ok(Some(out.into()))
        }
        other => Ok(Some(other.clone())),
    }
}

fn variable(text: &str, document: &Document, variables: &Variables) -> Result<Option<Datum>> {
    let (name, path) = text
        .split_once('.')
        .map_or((text, None), |(n, p)| (n, Some(p)));
    let root;
    let value = match name {
        "ROOT" | "CURRENT" => {
            root = Datum::Object(document.clone());
            Some(&root)
        }
        "REMOVE" => None,
        "NOW" => {
            root = Datum::Date(variables.now);
            Some(&root)
        }
        name => variables
            .names
            .get(name)
            .ok_or_else(|| bad(17276, format!("Use of undefined variable: {name}")))?
            .as_ref(),
    };
    let Some(value) = value else { return Ok(None) };
    match path {
        None => Ok(Some(value.clone())),
        Some(path) => {
            let parts: Vec<&str> = path.split('.').collect();
            Ok(along(value, &parts))
        }
    }
}

fn no_number(error: NoNumber, name: &str) -> Failed {
    match error {
        NoNumber::NotNumbers => bad(14, format!("{name} only supports numeric types")),
        NoNumber::Overflow => bad(28, format!("{name}: long overflow")),
        NoNumber::ByZero => bad(2, format!("can't {name} by zero")),
    }
}

/// What an operator gives: nothing where there is nothing.
type Answer = Result<Option<Datum>>;

/// An operator at work: its name and argument, and what it is evaluated on.
struct Call<'a> {
    name: &'a str,
    argument: &'a Datum,
    document: &'a Document,
    variables: &'a Variables,
}

impl Call<'_> {
    fn eval(&self, e: &Datum) -> Answer {
        evaluate(e, self.document, self.variables)
    }

    /// Arguments of operators that take a list of them; one alone stands for a list of one.
    fn several(&self) -> Result<Vec<Option<Datum>>> {
        match self.argument {
            Datum::List(list) => list.iter().map(|e| self.eval(e)).collect(),
            one => Ok(vec![self.eval(one)?]),
        }
    }

    fn exactly(&self, count: usize) -> Result<Vec<Option<Datum>>> {
        let list = self.several()?;
        if list.len() == count {
            return Ok(list);
        }
        Err(bad(
            16020,
            format!(
                "Expression {} takes exactly {count} arguments. {} were passed in.",
                self.name,
                list.len()
            ),
        ))
    }

    fn one(&self) -> Answer {
        Ok(self.exactly(1)?.remove(0))
    }

    /// The value of a field of the argument.
    fn named(&self, field: &str) -> Answer {
        match self.argument.as_object().and_then(|o| o.get(field)) {
            Some(e) => self.eval(e),
            None => Ok(None),
        }
    }

    fn text_of(&self, value: &Option<Datum>, code: i32) -> Result<Option<String>> {
        match value {
            None | Some(Datum::Null | Datum::Undefined) => Ok(None),
            Some(Datum::Text(text)) => Ok(Some(text.to_string())),
            Some(other) => Err(bad(
                code,
                format!(
                    "{} requires a string argument, found: {}",
                    self.name,
                    type_name(other)
                ),
            )),
        }
    }
}

fn some(value: Datum) -> Answer {
    Ok(Some(value))
}

fn truth_of(truth: bool) -> Answer {
    some(Datum::Boolean(truth))
}

fn date_of(value: &Option<Datum>) -> Result<Option<i64>> {
    match value {
        None | Some(Datum::Null | Datum::Undefined) => Ok(None),
        Some(Datum::Date(ms)) => Ok(Some(*ms)),
        Some(Datum::Id(id)) => Ok(Some(
            i64::from(u32::from_be_bytes([id[0], id[1], id[2], id[3]])) * 1_000,
        )),
        Some(Datum::Timestamp(seconds, _)) => Ok(Some(i64::from(*seconds) * 1_000)),
        Some(other) => Err(bad(
            16006,
            format!("can't convert from BSON type {} to Date", type_name(other)),
        )),
    }
}

/// What an operator does.
type Operator = fn(&Call<'_>) -> Answer;

/// All operators by their names; several do nearly the same, and look at the name.
#[rustfmt::skip]
static OPERATORS: &[(&str, Operator)] = &[
    ("$literal", logic::literal),
    ("$and", logic::and),
    ("$or", logic::or),
    ("$not", logic::not),
    ("$eq", logic::compare),
    ("$ne", logic::compare),
    ("$lt", logic::compare),
    ("$lte", logic::compare),
    ("$gt", logic::compare),
    ("$gte", logic::compare),
    ("$cmp", logic::compare),
    ("$cond", logic::cond),
    ("$switch", logic::switch),
    ("$ifNull", logic::if_null),
    ("$let", logic::with_names),
    ("$map", lists::map_or_filter),
    ("$filter", lists::map_or_filter),
    ("$reduce", lists::reduce),
    ("$anyElementTrue", lists::any_or_all),
    ("$allElementsTrue", lists::any_or_all),
    ("$isArray", kinds::is_list),
    ("$isNumber", kinds::is_number),
    ("$type", kinds::kind),
    ("$in", lists::is_in),
    ("$arrayElemAt", lists::element),
    ("$first", lists::element),
    ("$last", lists::element),
    ("$concatArrays", lists::concat),
    ("$size", lists::size),
    ("$slice", lists::slice),
    ("$reverseArray", lists::reverse),
    ("$firstN", lists::some_of),
    ("$lastN", lists::some_of),
    ("$minN", lists::some_of),
    ("$maxN", lists::some_of),
    ("$range", lists::range),
    ("$indexOfArray", lists::place),
    ("$zip", lists::zip),
    ("$arrayToObject", lists::to_object),
    ("$setUnion", sets::combine),
    ("$setIntersection", sets::combine),
    ("$setDifference", sets::difference),
    ("$setIsSubset", sets::is_subset),
    ("$setEquals", sets::equal),
    ("$sortArray", lists::sort),
    ("$mergeObjects", objects::merge),
    ("$objectToArray", objects::to_list),
    ("$getField", objects::field),
    ("$setField", objects::set_field),
    ("$unsetField", objects::set_field),
    ("$bitAnd", bits::combine),
    ("$bitOr", bits::combine),
    ("$bitXor", bits::combine),
    ("$bitNot", bits::not),
    ("$bsonSize", kinds::object_size),
    ("$binarySize", kinds::binary_size),
    ("$add", numbers::add_or_multiply),
    ("$multiply", numbers::add_or_multiply),
    ("$subtract", numbers::subtract),
    ("$divide", numbers::divide_or_mod),
    ("$mod", numbers::divide_or_mod),
    ("$abs", numbers::round),
    ("$ceil", numbers::round),
    ("$floor", numbers::round),
    ("$trunc", numbers::round),
    ("$round", numbers::round),
    ("$exp", numbers::transcendental),
    ("$sqrt", numbers::transcendental),
    ("$ln", numbers::transcendental),
    ("$log10", numbers::transcendental),
    ("$pow", numbers::pow),
    ("$log", numbers::logarithm),
    ("$sin", numbers::trigonometry),
    ("$cos", numbers::trigonometry),
    ("$tan", numbers::trigonometry),
    ("$asin", numbers::trigonometry),
    ("$acos", numbers::trigonometry),
    ("$atan", numbers::trigonometry),
    ("$atan2", numbers::angle),
    ("$sinh", numbers::trigonometry),
    ("$cosh", numbers::trigonometry),
    ("$tanh", numbers::trigonometry),
    ("$asinh", numbers::trigonometry),
    ("$acosh", numbers::trigonometry),
    ("$atanh", numbers::trigonometry),
    ("$degreesToRadians", numbers::trigonometry),
    ("$radiansToDegrees", numbers::trigonometry),
    ("$sum", numbers::summary),
    ("$avg", numbers::summary),
    ("$min", numbers::summary),
    ("$max", numbers::summary),
    ("$stdDevSamp", numbers::summary),
    ("$stdDevPop", numbers::summary),
    ("$concat", texts::concat),
    ("$toLower", texts::case),
    ("$toUpper", texts::case),
    ("$strLenCP", texts::length),
    ("$strLenBytes", texts::length),
    ("$substrCP", texts::part),
    ("$substrBytes", texts::byte_part),
    ("$substr", texts::byte_part),
    ("$indexOfCP", texts::place),
    ("$indexOfBytes", texts::place),
    ("$strcasecmp", texts::compare),
    ("$split", texts::split),
    ("$replaceAll", texts::replace),
    ("$replaceOne", texts::replace),
    ("$trim", texts::trim),
    ("$ltrim", texts::trim),
    ("$rtrim", texts::trim),
    ("$regexMatch", texts::regex),
    ("$regexFind", texts::regex),
    ("$regexFindAll", texts::regex),
    ("$toString", kinds::to_kind),
    ("$toDouble", kinds::to_kind),
    ("$toLong", kinds::to_kind),
    ("$toInt", kinds::to_kind),
    ("$toDecimal", kinds::to_kind),
    ("$toBool", kinds::to_kind),
    ("$toDate", kinds::to_kind),
    ("$toObjectId", kinds::to_kind),
    ("$convert", kinds::convert_to),
    ("$dateFromString", dates::from_text),
    ("$year", dates::part),
    ("$month", dates::part),
    ("$dayOfMonth", dates::part),
    ("$hour", dates::part),
    ("$minute", dates::part),
    ("$second", dates::part),
    ("$millisecond", dates::part),
    ("$isoDayOfWeek", dates::part),
    ("$dayOfWeek", dates::part),
    ("$dayOfYear", dates::part),
    ("$week", dates::part),
    ("$isoWeek", dates::part),
    ("$isoWeekYear", dates::part),
    ("$dateAdd", dates::add),
    ("$dateSubtract", dates::add),
    ("$dateDiff", dates::difference),
    ("$dateFromParts", dates::from_parts),
    ("$dateToParts", dates::to_parts),
    ("$tsSecond", dates::of_timestamp),
    ("$tsIncrement", dates::of_timestamp),
    ("$dateTrunc", dates::truncate),
    ("$dateToString", dates::to_text),
    ("$rand", numbers::random),
];

/// The operators by their names, to be found at once.
static BY_NAME: LazyLock<HashMap<&str, Operator>> =
    LazyLock::new(|| OPERATORS.iter().copied().collect());

fn operator(name: &str, argument: &Datum, document: &Document, variables: &Variables) -> Answer {
    match BY_NAME.get(name) {
        Some(operator) => operator(&Call {
            name,
            argument,
            document,
            variables,
        }),
        None if matches!(name, "$function" | "$accumulator") => Err(bad(
            168,
            format!("{name}: the practice server runs no JavaScript"),
        )),
        None => Err(bad(168, format!("Unrecognized expression '{name}'"))),
    }
}
