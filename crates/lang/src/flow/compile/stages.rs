//! Stages as the aggregation stages of servers.

use idle_tide_core::document::{Datum, Document, Kind};

use super::super::FlowError;
use super::super::ast::{
    Aggregate, AggregateFunction, Cut, Expr, Field, KindWord, Name, Node, Operator, Path, Span,
    Stage, StageKind,
};
use super::expression::{Compiler, Result, and, cond, is_of, nothing, op, ops, replacing, value};
use super::{dotted, matching, plain_names};

/// The stages that read and nothing else.
pub const READING_STAGES: &[&str] = &[
    "$addFields",
    "$bucket",
    "$bucketAuto",
    "$collStats",
    "$count",
    "$currentOp",
    "$densify",
    "$documents",
    "$facet",
    "$fill",
    "$geoNear",
    "$graphLookup",
    "$group",
    "$indexStats",
    "$limit",
    "$listLocalSessions",
    "$listSessions",
    "$lookup",
    "$match",
    "$planCacheStats",
    "$project",
    "$redact",
    "$replaceRoot",
    "$replaceWith",
    "$sample",
    "$search",
    "$searchMeta",
    "$set",
    "$setWindowFields",
    "$skip",
    "$sort",
    "$sortByCount",
    "$unionWith",
    "$unset",
    "$unwind",
    "$vectorSearch",
];

/// The pipeline of stages, and for each of its stages the place of the one it came from.
///
/// # Errors
/// If a stage cannot be computed on a server, with its place.
pub fn pipeline(stages: &[Stage]) -> std::result::Result<(Vec<Datum>, Vec<Span>), FlowError> {
    let mut out: Vec<Datum> = Vec::new();
    let mut places: Vec<Span> = Vec::new();
    let mut at = 0;
    while let Some(stage) = stages.get(at) {
        let mut next = Vec::new();
        match &stage.kind {
            StageKind::Where(first) => {
                // Conditions that follow each other are one.
                let mut predicates = vec![first];
                while let Some(StageKind::Where(more)) = stages.get(at + 1).map(|s| &s.kind) {
                    predicates.push(more);
                    at += 1;
                }
                next.push(op("$match", matching::all_of(&predicates)?));
            }
            StageKind::Limit(first) => {
                let mut least = whole(first, "limit")?;
                while let Some(StageKind::Limit(more)) = stages.get(at + 1).map(|s| &s.kind) {
                    least = least.min(whole(more, "limit")?);
                    at += 1;
                }
                next.push(some_of("$limit", least));
            }
            _ => {
                let last = at + 1 == stages.len();
                one(stage, last, &mut next)?;
            }
        }
        for stage_document in next {
            out.push(stage_document);
            places.push(stage.span.clone());
        }
        at += 1;
    }
    Ok((out, places))
}

fn whole(e: &Expr, what: &str) -> Result<u64> {
    if let Node::Parameter(name, ..) = &e.node {
        return Err(FlowError::at(
            e.span.clone(),
            format!("The parameter :{name} has no value."),
        ));
    }
    crate::flow::ast_whole_number(e, what)
}

/// A limit of none, which servers do not take, is a condition that never holds.
fn some_of(name: &str, count: u64) -> Datum {
    if count == 0 {
        return op("$match", op("$expr", false));
    }
    op(
        name,
        Datum::integer(i64::try_from(count).unwrap_or(i64::MAX)),
    )
}

fn one(stage: &Stage, last: bool, out: &mut Vec<Datum>) -> Result<()> {
    match &stage.kind {
        StageKind::Where(_) | StageKind::Limit(_) => {}
        StageKind::Pick(fields) => out.push(op("$replaceWith", object(fields)?)),
        StageKind::Add(fields) => add(fields, out)?,
        StageKind::Without(paths) => without(paths, out)?,
        StageKind::Group(keys, aggregates) => group(keys, aggregates, last, out)?,
        StageKind::Distinct(path) => distinct(path, out)?,
        StageKind::Count(name) => count(name, last, out)?,
        StageKind::Order(paths) => order(paths, out)?,
        StageKind::Offset(e) => out.push(op(
            "$skip",
            Datum::integer(i64::try_from(whole(e, "offset")?).unwrap_or(i64::MAX)),
        )),
        StageKind::Sample(e) => sample(e, out)?,
        StageKind::Unnest {
            path,
            name,
            keeping,
        } => unnest(path, name.as_ref(), *keeping, out)?,
        StageKind::Join {
            one: first,
            collection,
            name,
            here,
            there,
        } => join(*first, collection, name, (here, there), out)?,
        StageKind::Band {
            path,
            cut,
            aggregates,
        } => band(path, cut, aggregates, out)?,
        StageKind::Save {
            collection,
            over: true,
            ..
        } => out.push(op("$out", collection.name.as_str())),
        StageKind::Save { collection, by, .. } => save(collection, by.as_ref(), out)?,
        StageKind::Raw(list) => raw(list, out)?,
        StageKind::Emit(..) | StageKind::Fold(..) | StageKind::Finish(_) => {
            return Err(FlowError::at(
                stage.span.clone(),
                "This stage is computed here, not on a server.",
            ));
        }
    }
    Ok(())
}

fn raw(list: &Expr, out: &mut Vec<Datum>) -> Result<()> {
    let Datum::List(stages) = super::data(list, "raw")? else {
        return Err(FlowError::at(
            list.span.clone(),
            "raw takes a list of stages:  raw [ { $match: { port: 'Brackwater' } } ].",
        ));
    };
    out.extend(stages);

    Ok(())
}

fn save(collection: &Name, by: Option<&Path>, out: &mut Vec<Datum>) -> Result<()> {
    let by = match by {
        Some(path) => {
            plain_names(path)?;
            Some(dotted(path))
        }
        None => None,
    };
    if by.as_ref().is_some_and(|by| by != "_id") {
        out.push(op("$unset", "_id"));
    }
    let merge = Document::new()
        .with("into", collection.name.as_str())
        .with("on", by.clone().unwrap_or_else(|| "_id".into()))
        .with("whenMatched", if by.is_some() { "replace" } else { "fail" })
        .with("whenNotMatched", "insert");
    out.push(op("$merge", merge));

    Ok(())
}

fn join(
    first: bool,
    collection: &Name,
    name: &Name,
    (here, there): (&Path, &Path),
    out: &mut Vec<Datum>,
) -> Result<()> {
    plain_names(here)?;
    plain_names(there)?;
    // The matches stand beside the field they are matched by until they are compared with it.
    let clash = here
        .names()
        .and_then(|names| names.first().map(|n| *n == name.name))
        == Some(true);
    let place = if clash { "_joined" } else { name.name.as_str() };
    let lookup = Document::new()
        .with("from", collection.name.as_str())
        .with("localField", dotted(here))
        .with("foreignField", dotted(there))
        .with("as", place);
    out.push(op("$lookup", lookup));
    out.push(op(
        "$addFields",
        Document::new().with(&name.name, joined(first, place, here, there)?),
    ));
    if clash {
        out.push(op("$unset", place));
    }

    Ok(())
}

fn unnest(path: &Path, name: Option<&Name>, keeping: bool, out: &mut Vec<Datum>) -> Result<()> {
    let mut at = dotted(path);
    if let Some(name) = name {
        let mut compiler = Compiler::default();
        out.push(op(
            "$addFields",
            Document::new().with(&name.name, compiler.path(path)?),
        ));
        at = name.name.clone();
    } else {
        plain_names(path)?;
    }
    let form = Document::new().with("path", format!("${at}"));
    out.push(if keeping {
        op("$unwind", form.with("preserveNullAndEmptyArrays", true))
    } else {
        op("$unwind", format!("${at}"))
    });

    Ok(())
}

fn sample(e: &Expr, out: &mut Vec<Datum>) -> Result<()> {
    let count = whole(e, "sample")?;
    out.push(if count == 0 {
        some_of("", 0)
    } else {
        op(
            "$sample",
            op(
                "size",
                Datum::integer(i64::try_from(count).unwrap_or(i64::MAX)),
            ),
        )
    });

    Ok(())
}

fn order(paths: &[(Path, bool)], out: &mut Vec<Datum>) -> Result<()> {
    let mut order = Document::new();
    for (path, down) in paths {
        plain_names(path)?;
        order.set(&dotted(path), if *down { -1 } else { 1 });
    }
    out.push(op("$sort", order));

    Ok(())
}

fn count(name: &Name, last: bool, out: &mut Vec<Datum>) -> Result<()> {
    let count = Document::new()
        .with("_id", Datum::Null)
        .with(&name.name, op("$sum", 1));
    let steps = vec![op("$group", count), op("$unset", "_id")];
    if last {
        out.extend(steps);
    } else {
        always_one(steps, Document::new().with(&name.name, 0), out);
    }

    Ok(())
}

fn without(paths: &[Path], out: &mut Vec<Datum>) -> Result<()> {
    for path in paths {
        plain_names(path)?;
    }
    out.push(op("$unset", paths.iter().map(dotted).collect::<Vec<_>>()));

    Ok(())
}

fn add(fields: &[Field], out: &mut Vec<Datum>) -> Result<()> {
    let mut added = Document::new();
    for field in fields {
        added.set(&field.name.name, replacing(&field.value)?);
    }
    out.push(op("$addFields", added));

    Ok(())
}

fn object(fields: &[Field]) -> Result<Document> {
    let mut document = Document::new();
    for field in fields {
        document.set(&field.name.name, value(&field.value)?);
    }
    Ok(document)
}

/// The matches that are equal in the sense of the language: servers join null with null.
fn joined(first: bool, name: &str, here: &Path, there: &Path) -> Result<Datum> {
    let side = |path: &Path| Expr::new(Node::Path(path.clone()), path.span.clone());
    let mut compiler = Compiler::default();
    let equal = Expr::new(
        Node::Binary(
            Operator::Equal,
            Box::new(side(here)),
            Box::new(side(&under("m", there))),
        ),
        here.span.clone(),
    );
    let holds = compiler.truth(&equal)?;
    // The match stands in a variable: its path is looked up there.
    let holds = renamed(holds, "$m.", "$$m.");
    let kept = op(
        "$filter",
        Document::new()
            .with("input", format!("${name}"))
            .with("as", "m")
            .with("cond", holds),
    );
    Ok(if first {
        ops("$arrayElemAt", [kept, 0.into()])
    } else {
        kept
    })
}

fn under(name: &str, path: &Path) -> Path {
    let mut steps = vec![super::super::ast::Step::Name(name.into())];
    steps.extend(path.steps.iter().cloned());
    Path {
        steps,
        span: path.span.clone(),
    }
}

fn renamed(value: Datum, from: &str, to: &str) -> Datum {
    match value {
        Datum::Text(text) if text == from.trim_end_matches('.') => to.trim_end_matches('.').into(),
        Datum::Text(text) if text.starts_with(from) => {
            format!("{to}{}", &text[from.len()..]).into()
        }
        Datum::Object(document) => Datum::Object(Document {
            fields: document
                .fields
                .into_iter()
                .map(|(name, value)| (name, renamed(value, from, to)))
                .collect(),
        }),
        Datum::List(list) => Datum::List(
            list.into_iter()
                .map(|value| renamed(value, from, to))
                .collect(),
        ),
        other => other,
    }
}

/// A document comes out even where none went in.
fn always_one(steps: Vec<Datum>, of_nothing: Document, out: &mut Vec<Datum>) {
    out.push(op("$facet", Document::new().with("r", Datum::List(steps))));
    let first = ops("$arrayElemAt", [Datum::from("$r"), 0.into()]);
    out.push(op(
        "$replaceWith",
        ops("$ifNull", [first, op("$literal", of_nothing)]),
    ));
}

/// What a group without documents comes out as.
pub(super) fn of_nothing(aggregates: &[Aggregate]) -> Document {
    aggregates
        .iter()
        .map(|aggregate| {
            let value = match aggregate.function {
                AggregateFunction::Count
                | AggregateFunction::CountDifferent
                | AggregateFunction::Sum => Datum::Int(0),
                AggregateFunction::List | AggregateFunction::Different => Datum::List(vec![]),
                _ => Datum::Null,
            };
            (aggregate.name.name.as_str(), value)
        })
        .collect()
}

fn group(keys: &[Field], aggregates: &[Aggregate], last: bool, out: &mut Vec<Datum>) -> Result<()> {
    // Names of fields in a group's key may be anything; numbers stand for them.
    let mut id = Document::new();
    for (at, key) in keys.iter().enumerate() {
        id.set(
            &format!("k{at}"),
            ops("$ifNull", [value(&key.value)?, Datum::Null]),
        );
    }
    let id = if keys.is_empty() {
        Datum::Null
    } else {
        id.into()
    };
    let mut group = Document::new().with("_id", id);
    let mut outcome = Document::new();
    for (at, key) in keys.iter().enumerate() {
        outcome.set(&key.name.name, format!("$_id.k{at}"));
    }
    accumulate(aggregates, &mut group, &mut outcome)?;
    let steps = vec![op("$group", group), op("$replaceWith", outcome)];
    if keys.is_empty() && !last {
        always_one(steps, of_nothing(aggregates), out);
    } else {
        out.extend(steps);
    }
    Ok(())
}

/// The accumulators of a group, as `a0` and so on, and how their values come out.
fn accumulate(
    aggregates: &[Aggregate],
    group: &mut Document,
    outcome: &mut Document,
) -> Result<()> {
    for (at, aggregate) in aggregates.iter().enumerate() {
        let of = aggregate.of.as_ref().map_or(Ok(Datum::Null), value)?;
        let number = |of: Datum| -> Result<Datum> {
            Compiler::default().with(of, |_, v| {
                Ok(cond(is_of(v.clone(), KindWord::Number), v, Datum::Null))
            })
        };
        let name = format!("a{at}");
        let result: Datum = format!("${name}").into();
        let (accumulator, result) = match aggregate.function {
            AggregateFunction::Count => (op("$sum", 1), result),
            AggregateFunction::Sum => (op("$sum", of), result),
            AggregateFunction::Avg => (op("$avg", of), result),
            AggregateFunction::Min => (op("$min", of), result),
            AggregateFunction::Max => (op("$max", of), result),
            AggregateFunction::First => (op("$first", ops("$ifNull", [of, Datum::Null])), result),
            AggregateFunction::Last => (op("$last", ops("$ifNull", [of, Datum::Null])), result),
            AggregateFunction::List => (op("$push", of), result),
            AggregateFunction::Different => (op("$addToSet", of), result),
            AggregateFunction::CountDifferent => {
                let kept = Document::new()
                    .with("input", result)
                    .with("as", "e")
                    .with("cond", ops("$not", [nothing("$$e".into())]));
                (op("$addToSet", of), op("$size", op("$filter", kept)))
            }
            AggregateFunction::Stddev => (op("$stdDevSamp", number(of)?), result),
            AggregateFunction::Percentile => {
                let form = Document::new()
                    .with("input", number(of)?)
                    .with("p", vec![aggregate.share])
                    .with("method", "approximate");
                (
                    op("$percentile", form),
                    ops("$arrayElemAt", [result, 0.into()]),
                )
            }
        };
        group.set(&name, accumulator);
        outcome.set(&aggregate.name.name, result);
    }
    Ok(())
}

fn distinct(path: &Path, out: &mut Vec<Datum>) -> Result<()> {
    let mut compiler = Compiler::default();
    out.push(op(
        "$replaceWith",
        Document::new().with("value", compiler.elements(path)?),
    ));
    out.push(op("$unwind", "$value"));
    let id = Document::new().with("k", ops("$ifNull", ["$value".into(), Datum::Null]));
    out.push(op(
        "$group",
        Document::new().with("_id", id).with("count", op("$sum", 1)),
    ));
    out.push(op(
        "$replaceWith",
        Document::new()
            .with("value", "$_id.k")
            .with("count", "$count"),
    ));
    // Within an object lists are sorted as lists.
    out.push(op(
        "$addFields",
        Document::new().with("s", Document::new().with("v", "$value")),
    ));
    out.push(op("$sort", Document::new().with("s", 1)));
    out.push(op("$unset", "s"));
    Ok(())
}

fn band(path: &Path, cut: &Cut, aggregates: &[Aggregate], out: &mut Vec<Datum>) -> Result<()> {
    let mut compiler = Compiler::default();
    let value = compiler.path(path)?;
    let mut group = Document::new();
    let mut rest = Document::new();
    if aggregates.is_empty() {
        group.set("n", op("$sum", 1));
        rest.set("count", "$n");
    } else {
        accumulate(aggregates, &mut group, &mut rest)?;
    }
    match cut {
        Cut::At(limits) => {
            let limits = band_limits(limits)?;
            // Into which band a value falls, by position; others fall into the last.
            let kind = limits.first().map_or(Kind::Null, Datum::kind);
            let fits = is_of(
                "$$v".into(),
                if kind.is_number() {
                    KindWord::Number
                } else {
                    KindWord::One(kind)
                },
            );
            let branches: Vec<Datum> = limits
                .windows(2)
                .enumerate()
                .map(|(at, pair)| {
                    let inside = and(vec![
                        fits.clone(),
                        ops("$gte", ["$$v".into(), pair[0].clone()]),
                        ops("$lt", ["$$v".into(), pair[1].clone()]),
                    ]);
                    Document::new()
                        .with("case", inside)
                        .with("then", Datum::integer(at as i64))
                        .into()
                })
                .collect();
            let switch = op(
                "$switch",
                Document::new()
                    .with("branches", Datum::List(branches))
                    .with("default", Datum::integer(limits.len() as i64)),
            );
            let id = op(
                "$let",
                Document::new()
                    .with("vars", Document::new().with("v", value))
                    .with("in", switch),
            );
            let mut stage = Document::new().with("_id", id);
            stage.fields.extend(group.fields);
            out.push(op("$group", stage));
            out.push(op("$sort", Document::new().with("_id", 1)));
            let mut lower = limits.clone();
            let mut upper = limits[1..].to_vec();
            lower.pop();
            lower.resize(limits.len() + 1, Datum::Null);
            upper.resize(limits.len() + 1, Datum::Null);
            let pick = |list: Vec<Datum>| {
                ops(
                    "$arrayElemAt",
                    [op("$literal", Datum::List(list)), "$_id".into()],
                )
            };
            let mut outcome = Document::new()
                .with("from", pick(lower))
                .with("to", pick(upper));
            outcome.fields.extend(rest.fields);
            out.push(op("$replaceWith", outcome));
        }
        Cut::Into(count) => {
            let count = whole(count, "band into")?;
            if count == 0 {
                return Err(FlowError::at(
                    path.span.clone(),
                    "Into no bands nothing can be put.",
                ));
            }
            let number = KindWord::Number;
            let date = KindWord::One(Kind::Date);
            out.push(op(
                "$match",
                op(
                    "$expr",
                    ops(
                        "$or",
                        [is_of(value.clone(), number), is_of(value.clone(), date)],
                    ),
                ),
            ));
            let form = Document::new()
                .with("groupBy", value)
                .with(
                    "buckets",
                    Datum::integer(i64::try_from(count).unwrap_or(i64::MAX)),
                )
                .with("output", group);
            out.push(op("$bucketAuto", form));
            let mut outcome = Document::new()
                .with("from", "$_id.min")
                .with("to", "$_id.max");
            outcome.fields.extend(rest.fields);
            out.push(op("$replaceWith", outcome));
        }
    }
    Ok(())
}

/// The limits of bands: at least two values of one kind, rising.
///
/// # Errors
/// If they are not, with the place.
pub fn band_limits(limits: &[Expr]) -> std::result::Result<Vec<Datum>, FlowError> {
    let mut values = Vec::new();
    for limit in limits {
        let value = limit.constant().ok_or_else(|| {
            FlowError::at(limit.span.clone(), "A limit of a band is a plain value.")
        })?;
        if let Some(before) = values.last() {
            use idle_tide_core::document::compare::same_kind;
            if same_kind(before, &value) != Some(std::cmp::Ordering::Less) {
                return Err(FlowError::at(
                    limit.span.clone(),
                    "The limits of bands are values of one kind, each larger than the one before.",
                ));
            }
        }
        values.push(value);
    }
    if values.len() < 2 {
        let span = limits.first().map_or(0..0, |l| l.span.clone());
        return Err(FlowError::at(
            span,
            "A band needs two limits at least:  at (0, 10).",
        ));
    }
    Ok(values)
}
