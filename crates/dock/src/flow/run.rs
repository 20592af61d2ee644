//! Stages one after the other. Documents are pushed through; a stage that needs all of them hands on at the end.

use std::borrow::Cow;
use std::collections::HashMap;
use std::io;
use std::time::{Duration, Instant};

use idle_tide_core::document::compare::{Key, order, same_kind};
use idle_tide_core::document::{Datum, Document, Kind};
use idle_tide_lang::flow::FlowError;
use idle_tide_lang::flow::ast::{Aggregate, Cut, Expr, Path, Span, Stage, StageKind};
use idle_tide_lang::flow::compile::band_limits;

use super::collect::{Gathered, Gatherer, Keys, key};
use super::expr::{Context, Hop, Program, any_at, at_path, each_element, hops};
use super::sort::Sorter;
use crate::convert;

type Result<T> = std::result::Result<T, FlowError>;

/// Whether more documents are wanted.
pub type Go = bool;

/// How much memory stages may take.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Bytes that an order holds before it goes to disk.
    pub order: usize,
    /// Bytes that groups, joins and folds may hold.
    pub hold: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            order: 64 << 20,
            hold: 256 << 20,
        }
    }
}

/// The other collections that stages read from and write to.
pub trait Places {
    /// Hands over the documents of a collection until `take` answers false; none for one that does not exist.
    ///
    /// # Errors
    /// In words, if it cannot be read.
    fn read(
        &mut self,
        collection: &str,
        take: &mut dyn FnMut(Document) -> Result<Go>,
    ) -> std::result::Result<(), String>;

    /// Writes documents into a collection: adds, replaces by a path, or replaces all (`over`).
    ///
    /// # Errors
    /// In words, if an identifier exists or it cannot be written.
    fn save(
        &mut self,
        collection: &str,
        documents: Vec<Document>,
        by: Option<&Path>,
        over: bool,
    ) -> std::result::Result<(), String>;

    /// Runs the servers' own stages on documents.
    ///
    /// # Errors
    /// In words, if they are none of theirs or cannot be run here.
    fn raw(
        &mut self,
        stages: &[Datum],
        documents: Vec<Document>,
    ) -> std::result::Result<Vec<Document>, String>;
}

/// Takes a document, hands on what becomes of it.
trait Work {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go>;

    /// Hands on what was held.
    fn end(&mut self, on: &mut On<'_>, places: &mut dyn Places) -> Result<()> {
        let _ = (on, places);
        Ok(())
    }
}

type On<'a> = dyn FnMut(Cow<'_, Document>) -> Result<Go> + 'a;

/// Stages, ready to run.
pub struct Chain {
    works: Vec<Box<dyn Work>>,
    counts: Vec<(u64, u64)>,
    wanted: bool,
}

impl Chain {
    /// Prepares stages. Joins read the other collections at once.
    ///
    /// # Errors
    /// If a parameter has no value or a stage cannot be run here, with its place.
    pub fn new(
        stages: &[Stage],
        context: &Context,
        limits: Limits,
        places: &mut dyn Places,
    ) -> Result<Self> {
        let mut works = Vec::new();
        for (at, stage) in stages.iter().enumerate() {
            let next = stages.get(at + 1).map(|s| &s.kind);
            works.push(prepare(stage, next, context, limits, places)?);
        }
        let counts = vec![(0, 0); works.len()];
        Ok(Chain {
            works,
            counts,
            wanted: true,
        })
    }

    /// Takes a document; whether more are wanted.
    ///
    /// # Errors
    /// If a computation fails or a limit is reached, with the place.
    #[inline]
    pub fn take(&mut self, document: Cow<'_, Document>, sink: &mut On<'_>) -> Result<Go> {
        if self.wanted {
            self.wanted = push(&mut self.works, &mut self.counts, document, sink)?;
        }
        Ok(self.wanted)
    }

    /// No more documents come: what was held is handed on.
    ///
    /// # Errors
    /// As [`Chain::take`].
    pub fn end(&mut self, sink: &mut On<'_>, places: &mut dyn Places) -> Result<()> {
        for at in 0..self.works.len() {
            let (head, rest) = self.works.split_at_mut(at + 1);
            let (head_counts, rest_counts) = self.counts.split_at_mut(at + 1);
            if let (Some(work), Some(count)) = (head.last_mut(), head_counts.last_mut()) {
                let mut on = |document: Cow<'_, Document>| {
                    count.1 += 1;
                    push(rest, rest_counts, document, sink)
                };
                work.end(&mut on, places)?;
            }
        }
        Ok(())
    }

    /// Documents into and out of each stage so far.
    pub fn counts(&self) -> &[(u64, u64)] {
        &self.counts
    }
}

fn push(
    works: &mut [Box<dyn Work>],
    counts: &mut [(u64, u64)],
    document: Cow<'_, Document>,
    sink: &mut On<'_>,
) -> Result<Go> {
    let (Some((work, rest)), Some((count, rest_counts))) =
        (works.split_first_mut(), counts.split_first_mut())
    else {
        return sink(document);
    };
    count.0 += 1;
    work.take(document, &mut |document| {
        count.1 += 1;
        push(rest, rest_counts, document, sink)
    })
}

fn whole(e: &idle_tide_lang::flow::ast::Expr, what: &str) -> Result<u64> {
    idle_tide_lang::flow::whole_number(e, what)
}

fn prepare(
    stage: &Stage,
    next: Option<&StageKind>,
    context: &Context,
    limits: Limits,
    places: &mut dyn Places,
) -> Result<Box<dyn Work>> {
    let span = stage.span.clone();
    let fields = |list: &[idle_tide_lang::flow::ast::Field]| -> Result<Vec<(String, Program)>> {
        list.iter()
            .map(|f| Ok((f.name.name.clone(), Program::new(&f.value, context)?)))
            .collect()
    };
    Ok(match &stage.kind {
        StageKind::Where(predicate) => Box::new(Where(Program::new(predicate, context)?)),
        StageKind::Pick(list) => Box::new(Pick(fields(list)?)),
        StageKind::Add(list) => Box::new(Add(fields(list)?)),
        StageKind::Without(paths) => Box::new(Without(paths.iter().map(hops).collect())),
        StageKind::Group(keys, aggregates) => Box::new(Group {
            keys: fields(keys)?,
            gatherers: Gatherer::all(aggregates, context)?,
            groups: Keys::new(),
            gathered: Vec::new(),
            bytes: 0,
            most: limits.hold,
            span,
        }),
        StageKind::Distinct(path) => Box::new(Distinct {
            path: hops(path),
            keys: Keys::new(),
            counts: Vec::new(),
            most: limits.hold,
            span,
        }),
        StageKind::Count(name) => Box::new(Count(name.name.clone(), 0)),
        StageKind::Order(paths) => prepare_order(paths, next, limits, span)?,
        StageKind::Limit(e) => Box::new(Limit(whole(e, "limit")?)),
        StageKind::Offset(e) => Box::new(Offset(whole(e, "offset")?)),
        StageKind::Sample(e) => Box::new(Sample {
            wanted: usize::try_from(whole(e, "sample")?).unwrap_or(usize::MAX),
            seen: 0,
            state: context.seed | 1,
            kept: Vec::new(),
        }),
        StageKind::Unnest {
            path,
            name,
            keeping,
        } => Box::new(Unnest {
            path: hops(path),
            name: name.as_ref().map(|n| n.name.clone()),
            keeping: *keeping,
        }),
        StageKind::Join { .. } => prepare_join(&stage.kind, limits, places, &span)?,
        StageKind::Band {
            path,
            cut,
            aggregates,
        } => prepare_band((path, cut), aggregates, context, limits, span)?,
        StageKind::Emit(k, v) => {
            Box::new(Emit(Program::new(k, context)?, Program::new(v, context)?))
        }
        StageKind::Fold(name, start, then) => Box::new(Fold {
            name: name.name.clone(),
            start: Program::new(start, context)?,
            then: Program::new(then, context)?,
            keys: Keys::new(),
            values: Vec::new(),
            bytes: 0,
            most: limits.hold,
            span,
        }),
        StageKind::Finish(e) => Box::new(Finish(Program::new(e, context)?)),
        StageKind::Save {
            collection,
            over,
            by,
        } => Box::new(Save {
            collection: collection.name.clone(),
            over: *over,
            by: by.clone(),
            held: Vec::new(),
            bytes: 0,
            most: limits.hold,
            span,
        }),
        StageKind::Raw(list) => prepare_raw(list, limits, span)?,
    })
}

fn prepare_raw(list: &Expr, limits: Limits, span: Span) -> Result<Box<dyn Work>> {
    let Some(Datum::List(stages)) = list.constant() else {
        return Err(FlowError::at(
            list.span.clone(),
            "raw takes a list of stages:  raw [ { $match: { port: 'Brackwater' } } ].",
        ));
    };
    Ok(Box::new(Raw {
        stages,
        held: Vec::new(),
        bytes: 0,
        most: limits.hold,
        span,
    }))
}

fn prepare_band(
    (path, cut): (&Path, &Cut),
    aggregates: &[Aggregate],
    context: &Context,
    limits: Limits,
    span: Span,
) -> Result<Box<dyn Work>> {
    let gatherers = Gatherer::all(aggregates, context)?;
    Ok(match cut {
        Cut::At(limits_of) => Box::new(BandAt {
            path: hops(path),
            limits: band_limits(limits_of)?,
            gatherers,
            bands: Vec::new(),
        }),
        Cut::Into(e) => Box::new(BandInto {
            path: hops(path),
            wanted: usize::try_from(whole(e, "band into")?)
                .unwrap_or(usize::MAX)
                .max(1),
            gatherers,
            held: Vec::new(),
            bytes: 0,
            most: limits.hold,
            span,
        }),
    })
}

fn prepare_join(
    stage: &StageKind,
    limits: Limits,
    places: &mut dyn Places,
    span: &Span,
) -> Result<Box<dyn Work>> {
    let StageKind::Join {
        one,
        collection,
        name,
        here,
        there,
    } = stage
    else {
        return Err(FlowError::at(span.clone(), "This stage is no join."));
    };
    let there = hops(there);
    let mut matches = Matches {
        documents: Vec::new(),
        by: HashMap::new(),
    };
    let mut bytes = 0;
    let read = places.read(&collection.name, &mut |document| {
        bytes += document.size();
        if bytes > limits.hold {
            return Err(too_much(
                span,
                "The other collection of a join",
                limits.hold,
            ));
        }
        let at = matches.documents.len();
        any_at(&document, &there, &mut |value| {
            if !value.is_null() {
                let list = matches.by.entry(key(value)).or_default();
                if list.last() != Some(&at) {
                    list.push(at);
                }
            }
            Ok(false)
        })?;
        matches.documents.push(document);
        Ok(true)
    });
    read.map_err(|words| FlowError::at(collection.span.clone(), words))?;
    Ok(Box::new(Join {
        one: *one,
        name: name.name.clone(),
        here: hops(here),
        matches,
    }))
}

fn prepare_order(
    paths: &[(Path, bool)],
    next: Option<&StageKind>,
    limits: Limits,
    span: Span,
) -> Result<Box<dyn Work>> {
    let most = match next {
        Some(StageKind::Limit(e)) => usize::try_from(whole(e, "limit")?)
            .ok()
            .filter(|n| *n <= 100_000),
        _ => None,
    };
    let paths = paths
        .iter()
        .map(|(path, down)| (hops(path), *down))
        .collect();
    Ok(Box::new(Order {
        sorter: Some(Sorter::new(paths, limits.order, most)),
        span,
    }))
}

fn too_much(span: &Span, what: &str, limit: usize) -> FlowError {
    FlowError::at(
        span.clone(),
        format!(
            "{what} takes more than {} MB of memory, and that is the limit here. Narrow it with where, or leave fields out with pick.",
            limit >> 20
        ),
    )
}

fn of_io(error: &io::Error, span: &Span) -> FlowError {
    FlowError::at(
        span.clone(),
        format!("The file that an order is kept in cannot be written or read: {error}."),
    )
}

struct Where(Program);

impl Work for Where {
    #[inline]
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        if self.0.holds(&document)? {
            on(document)
        } else {
            Ok(true)
        }
    }
}

struct Pick(Vec<(String, Program)>);

impl Work for Pick {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        let mut picked = Document::new();
        for (name, program) in &self.0 {
            if let Some(value) = program.value(&document)? {
                picked.fields.push((name.as_str().into(), value));
            }
        }
        on(Cow::Owned(picked))
    }
}

struct Add(Vec<(String, Program)>);

impl Work for Add {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        let mut values = Vec::with_capacity(self.0.len());
        for (_, program) in &self.0 {
            values.push(program.value(&document)?);
        }
        let mut document = document.into_owned();
        for ((name, _), value) in self.0.iter().zip(values) {
            put(&mut document, name, value);
        }
        on(Cow::Owned(document))
    }
}

/// Puts a value in its place; nothing takes the field out.
fn put(document: &mut Document, name: &str, value: Option<Datum>) {
    match value {
        Some(value) => document.set(name, value),
        None => {
            document.remove(name);
        }
    }
}

struct Without(Vec<Vec<Hop>>);

impl Work for Without {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        let mut document = document.into_owned();
        for path in &self.0 {
            take_out(&mut document, path);
        }
        on(Cow::Owned(document))
    }
}

/// Takes the field at a path out, through lists in each element.
pub(crate) fn take_out(document: &mut Document, path: &[Hop]) {
    let Some((Hop::Name(name), rest)) = path.split_first() else {
        return;
    };
    if rest.is_empty() {
        document.remove(name);
    } else if let Some(value) = document.get_mut(name) {
        take_out_within(value, rest);
    }
}

fn take_out_within(value: &mut Datum, path: &[Hop]) {
    match value {
        Datum::Object(inner) => take_out(inner, path),
        Datum::List(list) => list
            .iter_mut()
            .for_each(|element| take_out_within(element, path)),
        _ => {}
    }
}

struct Group {
    keys: Vec<(String, Program)>,
    gatherers: Vec<Gatherer>,
    groups: Keys,
    gathered: Vec<Gathered>,
    bytes: usize,
    most: usize,
    span: Span,
}

impl Work for Group {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        let document = &*document;
        let (place, new) = match self.keys.as_slice() {
            [] => (0, self.gathered.is_empty()),
            [(_, key)] => {
                let got = key.got(document)?;
                self.groups.place(&[present(got.as_ref())])
            }
            keys => {
                let got = keys
                    .iter()
                    .map(|(_, key)| key.got(document))
                    .collect::<Result<Vec<_>>>()?;
                let parts: Vec<&Datum> = got.iter().map(|g| present(g.as_ref())).collect();
                self.groups.place(&parts)
            }
        };
        let width = self.gatherers.len();
        if new {
            self.gathered
                .extend(self.gatherers.iter().map(Gatherer::start));
            self.bytes += width * 64;
        }
        for (gatherer, gathered) in self
            .gatherers
            .iter()
            .zip(&mut self.gathered[place * width..])
        {
            self.bytes += gatherer.take(gathered, document)?;
        }
        if self.bytes + self.groups.bytes > self.most {
            return Err(too_much(&self.span, "This group", self.most));
        }
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        if self.keys.is_empty() && self.gathered.is_empty() {
            self.gathered
                .extend(self.gatherers.iter().map(Gatherer::start));
        }
        let groups = if self.keys.is_empty() {
            vec![Vec::new()]
        } else {
            std::mem::take(&mut self.groups.keys)
        };
        let mut gathered = std::mem::take(&mut self.gathered).into_iter();
        for values in groups {
            let mut document = Document {
                fields: Vec::with_capacity(self.keys.len() + self.gatherers.len()),
            };
            for ((name, _), value) in self.keys.iter().zip(values) {
                document.fields.push((name.as_str().into(), value));
            }
            for gatherer in &self.gatherers {
                if let Some(gathered) = gathered.next() {
                    document
                        .fields
                        .push((gatherer.name.as_str().into(), gatherer.finish(gathered)?));
                }
            }
            if !on(Cow::Owned(document))? {
                break;
            }
        }
        Ok(())
    }
}

/// The value as a key: nothing is null.
fn present(value: Option<&Datum>) -> &Datum {
    match value {
        None | Some(Datum::Undefined) => &Datum::Null,
        Some(value) => value,
    }
}

struct Distinct {
    path: Vec<Hop>,
    keys: Keys,
    counts: Vec<u64>,
    most: usize,
    span: Span,
}

impl Work for Distinct {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        let (keys, counts) = (&mut self.keys, &mut self.counts);
        each_element(&document, &self.path, &mut |value| {
            let (at, new) = keys.place(&[present(Some(value))]);
            if new {
                counts.push(0);
            }
            counts[at] += 1;
        });
        if self.keys.bytes > self.most {
            return Err(too_much(
                &self.span,
                "The list of different values",
                self.most,
            ));
        }
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        let keys = std::mem::take(&mut self.keys.keys).into_iter().flatten();
        let mut all: Vec<(Datum, u64)> = keys.zip(std::mem::take(&mut self.counts)).collect();
        all.sort_by(|a, b| order(&a.0, &b.0));
        for (value, count) in all {
            let count = Datum::integer(i64::try_from(count).unwrap_or(i64::MAX));
            if !on(Cow::Owned(
                Document::new().with("value", value).with("count", count),
            ))? {
                break;
            }
        }
        Ok(())
    }
}

struct Count(String, u64);

impl Work for Count {
    fn take(&mut self, _: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        self.1 += 1;
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        let count = Datum::integer(i64::try_from(self.1).unwrap_or(i64::MAX));
        on(Cow::Owned(Document::new().with(&self.0, count))).map(drop)
    }
}

struct Order {
    sorter: Option<Sorter>,
    span: Span,
}

impl Work for Order {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        if let Some(sorter) = &mut self.sorter {
            sorter
                .push(document.into_owned())
                .map_err(|e| of_io(&e, &self.span))?;
        }
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        /// An error of either kind on its way out of the sorter.
        enum Either {
            Flow(FlowError),
            Io(io::Error),
        }
        impl From<io::Error> for Either {
            fn from(error: io::Error) -> Self {
                Either::Io(error)
            }
        }
        let Some(sorter) = self.sorter.take() else {
            return Ok(());
        };
        let done =
            sorter.finish::<Either>(&mut |document| on(Cow::Owned(document)).map_err(Either::Flow));
        done.map_err(|error| match error {
            Either::Flow(error) => error,
            Either::Io(error) => of_io(&error, &self.span),
        })
    }
}

struct Limit(u64);

impl Work for Limit {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        if self.0 == 0 {
            return Ok(false);
        }
        self.0 -= 1;
        Ok(on(document)? && self.0 > 0)
    }
}

struct Offset(u64);

impl Work for Offset {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        if self.0 > 0 {
            self.0 -= 1;
            return Ok(true);
        }
        on(document)
    }
}

/// Keeps so many of all that come, each with the same chance (Vitter, algorithm R, 1985).
struct Sample {
    wanted: usize,
    seen: u64,
    state: u64,
    kept: Vec<Document>,
}

impl Work for Sample {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        self.seen += 1;
        if self.kept.len() < self.wanted {
            self.kept.push(document.into_owned());
            return Ok(true);
        }
        // xorshift64* (Vigna, 2016).
        self.state ^= self.state >> 12;
        self.state ^= self.state << 25;
        self.state ^= self.state >> 27;
        let chance = self.state.wrapping_mul(0x2545_f491_4f6c_dd1d) % self.seen;
        if let Some(place) = usize::try_from(chance)
            .ok()
            .and_then(|at| self.kept.get_mut(at))
        {
            *place = document.into_owned();
        }
        Ok(self.wanted > 0)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        for document in std::mem::take(&mut self.kept) {
            if !on(Cow::Owned(document))? {
                break;
            }
        }
        Ok(())
    }
}

struct Unnest {
    path: Vec<Hop>,
    name: Option<String>,
    keeping: bool,
}

impl Work for Unnest {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        let value = match &self.name {
            Some(_) => at_path(&document, &self.path).into_owned(),
            // In place only objects are entered on the way.
            None => inside(&document, &self.path).cloned(),
        };
        let named = self.name.clone();
        let place = |document: &mut Document, path: &[Hop], value: Option<Datum>| match &named {
            Some(name) => put(document, name, value),
            None => replace_at(document, path, value),
        };
        match value {
            Some(Datum::List(list)) if !list.is_empty() => {
                let base = document.into_owned();
                let last = list.len() - 1;
                let mut base = Some(base);
                for (at, element) in list.into_iter().enumerate() {
                    let one = if at == last {
                        base.take()
                    } else {
                        base.clone()
                    };
                    let Some(mut one) = one else { break };
                    place(&mut one, &self.path, Some(element));
                    if !on(Cow::Owned(one))? {
                        return Ok(false);
                    }
                }
                Ok(true)
            }
            Some(Datum::List(_)) if self.keeping => {
                let mut document = document.into_owned();
                place(&mut document, &self.path, None);
                on(Cow::Owned(document))
            }
            None | Some(Datum::Null | Datum::Undefined | Datum::List(_)) if !self.keeping => {
                Ok(true)
            }
            value => {
                if named.is_none() {
                    return on(document);
                }
                let mut document = document.into_owned();
                place(&mut document, &self.path, value);
                on(Cow::Owned(document))
            }
        }
    }
}

/// The value at a path that enters objects only.
fn inside<'a>(document: &'a Document, path: &[Hop]) -> Option<&'a Datum> {
    let (Hop::Name(name), rest) = path.split_first()? else {
        return None;
    };
    let value = document.get(name)?;
    if rest.is_empty() {
        Some(value)
    } else {
        inside(value.as_object()?, rest)
    }
}

fn replace_at(document: &mut Document, path: &[Hop], value: Option<Datum>) {
    let Some((Hop::Name(name), rest)) = path.split_first() else {
        return;
    };
    if rest.is_empty() {
        put(document, name, value);
    } else if let Some(Datum::Object(inner)) = document.get_mut(name) {
        replace_at(inner, rest, value);
    }
}

struct Matches {
    documents: Vec<Document>,
    by: HashMap<Key, Vec<usize>>,
}

struct Join {
    one: bool,
    name: String,
    here: Vec<Hop>,
    matches: Matches,
}

impl Work for Join {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        let mut found: Vec<usize> = Vec::new();
        any_at(&document, &self.here, &mut |value| {
            if !value.is_null()
                && let Some(list) = self.matches.by.get(&key(value))
            {
                found.extend(list);
            }
            Ok(false)
        })?;
        found.sort_unstable();
        found.dedup();
        let mut matched = found
            .iter()
            .map(|at| Datum::Object(self.matches.documents[*at].clone()));
        let value = if self.one {
            matched.next()
        } else {
            Some(Datum::List(matched.collect()))
        };
        let mut document = document.into_owned();
        put(&mut document, &self.name, value);
        on(Cow::Owned(document))
    }
}

struct BandAt {
    path: Vec<Hop>,
    limits: Vec<Datum>,
    gatherers: Vec<Gatherer>,
    /// What is gathered of each band, once a document fell into it; the last takes what falls into none.
    bands: Vec<Option<(u64, Vec<Gathered>)>>,
}

impl Work for BandAt {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        let got = at_path(&document, &self.path);
        let place = got.as_ref().and_then(|value| {
            self.limits.windows(2).position(|pair| {
                same_kind(value, &pair[0]).is_some_and(|o| o.is_ge())
                    && same_kind(value, &pair[1]).is_some_and(|o| o.is_lt())
            })
        });
        let place = place.unwrap_or(self.limits.len() - 1);
        self.bands.resize_with(self.limits.len(), || None);
        let start = || (0, self.gatherers.iter().map(Gatherer::start).collect());
        let (count, gathered) = self.bands[place].get_or_insert_with(start);
        *count += 1;
        for (gatherer, gathered) in self.gatherers.iter().zip(gathered) {
            gatherer.take(gathered, &document)?;
        }
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        for (at, band) in std::mem::take(&mut self.bands).into_iter().enumerate() {
            let Some((count, gathered)) = band else {
                continue;
            };
            let inside = at + 1 < self.limits.len();
            let limit = |at: usize| {
                if inside {
                    self.limits[at].clone()
                } else {
                    Datum::Null
                }
            };
            let document = band_document(
                limit(at),
                limit((at + 1).min(self.limits.len() - 1)),
                count,
                &self.gatherers,
                gathered,
            )?;
            if !on(Cow::Owned(document))? {
                break;
            }
        }
        Ok(())
    }
}

fn band_document(
    from: Datum,
    to: Datum,
    count: u64,
    gatherers: &[Gatherer],
    gathered: Vec<Gathered>,
) -> Result<Document> {
    let mut document = Document::new().with("from", from).with("to", to);
    if gatherers.is_empty() {
        document.set(
            "count",
            Datum::integer(i64::try_from(count).unwrap_or(i64::MAX)),
        );
    }
    for (gatherer, gathered) in gatherers.iter().zip(gathered) {
        document.set(&gatherer.name, gatherer.finish(gathered)?);
    }
    Ok(document)
}

struct BandInto {
    path: Vec<Hop>,
    wanted: usize,
    gatherers: Vec<Gatherer>,
    held: Vec<(Datum, Document)>,
    bytes: usize,
    most: usize,
    span: Span,
}

impl Work for BandInto {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        let value = at_path(&document, &self.path).into_owned();
        if let Some(value) = value.filter(|v| v.is_number() || v.kind() == Kind::Date) {
            let kept = if self.gatherers.is_empty() {
                Document::new()
            } else {
                document.into_owned()
            };
            self.bytes += kept.size() + 64;
            self.held.push((value, kept));
            if self.bytes > self.most {
                return Err(too_much(&self.span, "Cutting into bands", self.most));
            }
        }
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        let mut held = std::mem::take(&mut self.held);
        held.sort_by(|a, b| order(&a.0, &b.0));
        let equal = |at: usize| {
            held.get(at + 1)
                .is_some_and(|next| order(&held[at].0, &next.0).is_eq())
        };
        let sizes = convert::bands(&equal, held.len(), self.wanted);
        let mut start = 0;
        for size in sizes {
            let band = &held[start..start + size];
            let from = band[0].0.clone();
            let to = held
                .get(start + size)
                .map_or_else(|| band[size - 1].0.clone(), |next| next.0.clone());
            let mut gathered: Vec<Gathered> = self.gatherers.iter().map(Gatherer::start).collect();
            for (_, document) in band {
                for (gatherer, gathered) in self.gatherers.iter().zip(&mut gathered) {
                    gatherer.take(gathered, document)?;
                }
            }
            let document = band_document(from, to, size as u64, &self.gatherers, gathered)?;
            start += size;
            if !on(Cow::Owned(document))? {
                break;
            }
        }
        Ok(())
    }
}

struct Emit(Program, Program);

impl Work for Emit {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        let key = self.0.value(&document)?.unwrap_or(Datum::Null);
        let value = self.1.value(&document)?.unwrap_or(Datum::Null);
        on(Cow::Owned(
            Document::new().with("key", key).with("value", value),
        ))
    }
}

struct Fold {
    name: String,
    start: Program,
    then: Program,
    keys: Keys,
    values: Vec<Datum>,
    bytes: usize,
    most: usize,
    span: Span,
}

impl Work for Fold {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        let key = document.get("key").unwrap_or(&Datum::Null);
        let (place, new) = self.keys.place(&[key]);
        if new {
            let start = self.start.value(&Document::new())?.unwrap_or(Datum::Null);
            self.values.push(start);
        }
        let before = std::mem::replace(&mut self.values[place], Datum::Null);
        let mut around = Document {
            fields: Vec::with_capacity(3),
        };
        let old = before.size();
        around.fields.push((self.name.as_str().into(), before));
        around.set(
            "value",
            document.get("value").cloned().unwrap_or(Datum::Null),
        );
        around.set("key", key.clone());
        let value = self.then.value(&around)?.unwrap_or(Datum::Null);
        self.bytes = (self.bytes + value.size()).saturating_sub(if new { 0 } else { old });
        self.values[place] = value;
        if self.bytes + self.keys.bytes > self.most {
            return Err(too_much(&self.span, "This fold", self.most));
        }
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, _: &mut dyn Places) -> Result<()> {
        let keys = std::mem::take(&mut self.keys.keys).into_iter().flatten();
        for (key, value) in keys.zip(std::mem::take(&mut self.values)) {
            if !on(Cow::Owned(
                Document::new().with("key", key).with(&self.name, value),
            ))? {
                break;
            }
        }
        Ok(())
    }
}

struct Finish(Program);

impl Work for Finish {
    fn take(&mut self, document: Cow<'_, Document>, on: &mut On<'_>) -> Result<Go> {
        let value = self.0.value(&document)?.unwrap_or(Datum::Null);
        let key = document.get("key").cloned().unwrap_or(Datum::Null);
        on(Cow::Owned(
            Document::new().with("key", key).with("value", value),
        ))
    }
}

struct Save {
    collection: String,
    over: bool,
    by: Option<Path>,
    held: Vec<Document>,
    bytes: usize,
    most: usize,
    span: Span,
}

impl Work for Save {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        self.bytes += document.size();
        if self.bytes > self.most {
            return Err(too_much(&self.span, "What is to be saved", self.most));
        }
        self.held.push(document.into_owned());
        Ok(true)
    }

    fn end(&mut self, _: &mut On<'_>, places: &mut dyn Places) -> Result<()> {
        let held = std::mem::take(&mut self.held);
        places
            .save(&self.collection, held, self.by.as_ref(), self.over)
            .map_err(|words| FlowError::at(self.span.clone(), words))
    }
}

struct Raw {
    stages: Vec<Datum>,
    held: Vec<Document>,
    bytes: usize,
    most: usize,
    span: Span,
}

impl Work for Raw {
    fn take(&mut self, document: Cow<'_, Document>, _: &mut On<'_>) -> Result<Go> {
        self.bytes += document.size();
        if self.bytes > self.most {
            return Err(too_much(&self.span, "What goes into raw stages", self.most));
        }
        self.held.push(document.into_owned());
        Ok(true)
    }

    fn end(&mut self, on: &mut On<'_>, places: &mut dyn Places) -> Result<()> {
        let held = std::mem::take(&mut self.held);
        let out = places
            .raw(&self.stages, held)
            .map_err(|words| FlowError::at(self.span.clone(), words))?;
        for document in out {
            if !on(Cow::Owned(document))? {
                break;
            }
        }
        Ok(())
    }
}

/// What a stage did, for looking at a flow stage by stage.
#[derive(Debug, Clone, Default)]
pub struct Counts {
    /// Documents that came in.
    pub came: u64,
    /// Documents that went out.
    pub went: u64,
    /// Some of those that went out.
    pub passed: Vec<Document>,
    /// Some of those that came in and did not go out, where a stage lets through or drops.
    pub dropped: Vec<Document>,
    /// How long it took.
    pub took: Duration,
}

/// Runs stages over documents one stage after the other, and tells what each did; samples hold up to `keep` documents. Stages that write are
/// left out.
///
/// # Errors
/// What went wrong first, with the number of its stage; the counts up to it are in place.
pub fn observe(
    stages: &[Stage],
    mut documents: Vec<Document>,
    context: &Context,
    limits: Limits,
    places: &mut dyn Places,
    keep: usize,
    counts: &mut Vec<Counts>,
) -> std::result::Result<Vec<Document>, (usize, FlowError)> {
    for (at, stage) in stages.iter().enumerate() {
        let start = Instant::now();
        let mut this = Counts {
            came: documents.len() as u64,
            ..Counts::default()
        };
        let writes = matches!(stage.kind, StageKind::Save { .. });
        if !writes {
            let failed = |error| (at, error);
            let mut chain =
                Chain::new(std::slice::from_ref(stage), context, limits, places).map_err(failed)?;
            let lets_through = matches!(
                stage.kind,
                StageKind::Where(_)
                    | StageKind::Limit(_)
                    | StageKind::Offset(_)
                    | StageKind::Unnest { .. }
            );
            let mut out = Vec::new();
            for document in documents {
                let before = out.len();
                chain
                    .take(Cow::Borrowed(&document), &mut |d| {
                        out.push(d.into_owned());
                        Ok(true)
                    })
                    .map_err(failed)?;
                if lets_through && out.len() == before && this.dropped.len() < keep {
                    this.dropped.push(document);
                }
            }
            chain
                .end(
                    &mut |d| {
                        out.push(d.into_owned());
                        Ok(true)
                    },
                    places,
                )
                .map_err(failed)?;
            documents = out;
        }
        this.went = documents.len() as u64;
        this.passed = documents.iter().take(keep).cloned().collect();
        this.took = start.elapsed();
        counts.push(this);
    }
    Ok(documents)
}
