//! Groups: keys, and what is gathered of each.

use std::hash::{BuildHasher, Hasher};

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use idle_tide_core::document::compare::{Key, hash, order};
use idle_tide_core::document::number::{Deviation, Sum};
use idle_tide_core::document::{Datum, Document};
use idle_tide_lang::flow::FlowError;
use idle_tide_lang::flow::ast::{Aggregate, AggregateFunction, Span};

use super::expr::{Context, Got, Program, overflow};
use crate::convert;

type Result<T> = std::result::Result<T, FlowError>;

/// Places for the keys of groups, numbered from 0 in the order in which they came.
pub(crate) struct Keys {
    table: HashTable<usize>,
    hasher: RandomState,
    /// The keys by number; as many values as a key has parts.
    pub(crate) keys: Vec<Vec<Datum>>,
    /// Roughly the bytes they take.
    pub(crate) bytes: usize,
}

impl Keys {
    pub(crate) fn new() -> Self {
        Keys {
            table: HashTable::new(),
            hasher: RandomState::default(),
            keys: Vec::new(),
            bytes: 0,
        }
    }

    /// The number of a key, and whether it is new. A key is copied only then.
    #[inline]
    pub(crate) fn place(&mut self, key: &[&Datum]) -> (usize, bool) {
        let mut hasher = self.hasher.build_hasher();
        for part in key {
            hash(part, &mut hasher);
        }
        let code = hasher.finish();
        let keys = &self.keys;
        let same = |at: &usize| keys[*at].iter().zip(key).all(|(a, b)| order(a, b).is_eq());
        if let Some(at) = self.table.find(code, same) {
            return (*at, false);
        }
        let at = self.keys.len();
        self.bytes += key.iter().map(|part| part.size() + 24).sum::<usize>() + 32;
        self.keys
            .push(key.iter().map(|part| (*part).clone()).collect());
        let (keys, state) = (&self.keys, &self.hasher);
        self.table.insert_unique(code, at, |at| {
            let mut hasher = state.build_hasher();
            keys[*at].iter().for_each(|part| hash(part, &mut hasher));
            hasher.finish()
        });
        (at, true)
    }
}

/// What is gathered for one aggregate of one group.
pub(crate) enum Gathered {
    Count(u64),
    Sum(Box<Sum>),
    Mean(Box<Sum>),
    Extreme(Option<Datum>),
    First(Option<Datum>),
    Last(Datum),
    List(Vec<Datum>),
    Different(Box<Keys>),
    CountDifferent(Box<Keys>),
    Deviation(Deviation),
    Numbers(Vec<f64>),
}

/// An aggregate, prepared.
pub(crate) struct Gatherer {
    pub(crate) name: String,
    function: AggregateFunction,
    of: Option<Program>,
    share: f64,
    span: Span,
}

impl Gatherer {
    pub(crate) fn all(aggregates: &[Aggregate], context: &Context) -> Result<Vec<Gatherer>> {
        aggregates
            .iter()
            .map(|a| {
                Ok(Gatherer {
                    name: a.name.name.clone(),
                    function: a.function,
                    of: a
                        .of
                        .as_ref()
                        .map(|e| Program::new(e, context))
                        .transpose()?,
                    share: a.share,
                    span: a.span.clone(),
                })
            })
            .collect()
    }

    pub(crate) fn start(&self) -> Gathered {
        match self.function {
            AggregateFunction::Count => Gathered::Count(0),
            AggregateFunction::Sum => Gathered::Sum(Box::default()),
            AggregateFunction::Avg => Gathered::Mean(Box::default()),
            AggregateFunction::Min | AggregateFunction::Max => Gathered::Extreme(None),
            AggregateFunction::First => Gathered::First(None),
            AggregateFunction::Last => Gathered::Last(Datum::Null),
            AggregateFunction::List => Gathered::List(Vec::new()),
            AggregateFunction::Different => Gathered::Different(Box::new(Keys::new())),
            AggregateFunction::CountDifferent => Gathered::CountDifferent(Box::new(Keys::new())),
            AggregateFunction::Stddev => Gathered::Deviation(Deviation::default()),
            AggregateFunction::Percentile => Gathered::Numbers(Vec::new()),
        }
    }

    /// Takes a document; gives roughly the bytes that are held more.
    #[inline]
    pub(crate) fn take(&self, gathered: &mut Gathered, document: &Document) -> Result<usize> {
        if let Gathered::Count(count) = gathered {
            *count += 1;
            return Ok(0);
        }
        let got = match &self.of {
            Some(of) => of.got(document)?,
            None => Got::Missing,
        };
        let mut more = 0;
        match gathered {
            Gathered::Count(_) => {}
            Gathered::Sum(sum) | Gathered::Mean(sum) => {
                if let Some(value) = got.as_ref() {
                    sum.add(value);
                }
            }
            Gathered::Extreme(best) => {
                if let Some(value) = got.as_ref().filter(|v| !v.is_null()) {
                    let least = self.function == AggregateFunction::Min;
                    let better = best.as_ref().is_none_or(|b| {
                        let found = order(value, b);
                        if least { found.is_lt() } else { found.is_gt() }
                    });
                    if better {
                        *best = Some(value.clone());
                    }
                }
            }
            Gathered::First(first) => {
                if first.is_none() {
                    *first = Some(got.into_owned().unwrap_or(Datum::Null));
                }
            }
            Gathered::Last(last) => *last = got.into_owned().unwrap_or(Datum::Null),
            Gathered::List(list) => {
                if let Some(value) = got.into_owned() {
                    more = value.size();
                    list.push(value);
                }
            }
            Gathered::Different(keys) | Gathered::CountDifferent(keys) => {
                if let Some(value) = got.as_ref() {
                    let before = keys.bytes;
                    keys.place(&[value]);
                    more = keys.bytes - before;
                }
            }
            Gathered::Deviation(deviation) => {
                if let Some(value) = got.as_ref() {
                    deviation.add(value);
                }
            }
            Gathered::Numbers(numbers) => {
                if let Some(number) = got.as_ref().and_then(Datum::as_f64) {
                    numbers.push(number);
                    more = 8;
                }
            }
        }
        Ok(more)
    }

    /// The value that comes out.
    pub(crate) fn finish(&self, gathered: Gathered) -> Result<Datum> {
        Ok(match gathered {
            Gathered::Count(count) => Datum::integer(i64::try_from(count).unwrap_or(i64::MAX)),
            Gathered::Sum(sum) => sum.total().map_err(|_| overflow(&self.span))?,
            Gathered::Mean(sum) => sum.mean().unwrap_or(Datum::Null),
            Gathered::Extreme(best) => best.unwrap_or(Datum::Null),
            Gathered::First(first) => first.unwrap_or(Datum::Null),
            Gathered::Last(last) => last,
            Gathered::List(list) => Datum::List(list),
            Gathered::Different(keys) => Datum::List(keys.keys.into_iter().flatten().collect()),
            Gathered::CountDifferent(keys) => {
                let count = keys.keys.iter().flatten().filter(|v| !v.is_null()).count();
                Datum::integer(i64::try_from(count).unwrap_or(i64::MAX))
            }
            Gathered::Deviation(deviation) => deviation.sample().map_or(Datum::Null, Datum::Double),
            Gathered::Numbers(mut numbers) => {
                numbers.sort_by(f64::total_cmp);
                convert::percentile(&numbers, self.share).map_or(Datum::Null, Datum::Double)
            }
        })
    }
}

/// A key of one part, for sets and maps.
pub(crate) fn key(value: &Datum) -> Key {
    Key(value.clone())
}
