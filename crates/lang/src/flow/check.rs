//! What can be said of a statement before it runs: paths that no sampled document has, kinds that never compare, sums over lists, texts where
//! a field was meant.

use idle_tide_core::document::Kind;
use idle_tide_core::document::shape::Shape;

use super::ast::{
    AggregateFunction, Expr, Flow, Node, Operator, Path, Source, Stage, StageKind, Statement, Step,
    Write,
};
use crate::correct::Edit;
use crate::remark::Remark;

/// Remarks about a statement, with what `shape` knows of each collection: nothing here keeps it from running.
pub fn remarks(
    statement: &Statement,
    text: &str,
    shape: &dyn Fn(&str) -> Option<Shape>,
) -> Vec<Remark> {
    let mut found = Vec::new();
    match statement {
        Statement::Flow(flow) => of_flow(flow, text, shape, &mut found),
        Statement::Write(
            Write::Update {
                collection,
                predicate: Some(e),
                ..
            }
            | Write::Delete {
                collection,
                predicate: Some(e),
            },
        ) => {
            let shape = shape(&collection.name);
            of_expression(e, text, shape.as_ref(), &mut found);
        }
        _ => {}
    }
    found
}

fn of_flow(
    flow: &Flow,
    text: &str,
    shape: &dyn Fn(&str) -> Option<Shape>,
    found: &mut Vec<Remark>,
) {
    let mut known = match &flow.source {
        Source::Collection(name) => shape(&name.name),
        _ => None,
    };
    for stage in &flow.stages {
        let per_element = matches!(stage.kind, StageKind::Group(..) | StageKind::Band { .. });
        for expression in stage.expressions() {
            of_expression(expression, text, known.as_ref(), found);
        }
        if let (true, Some(shape)) = (per_element, &known) {
            sums_over_lists(stage, shape, found);
        }
        if let Some(shape) = &known {
            for path in plain_paths(stage) {
                unknown_path(path, shape, found);
            }
        }
        known = after(stage, known);
    }
}

fn plain_paths(stage: &Stage) -> Vec<&Path> {
    match &stage.kind {
        StageKind::Distinct(path)
        | StageKind::Unnest { path, .. }
        | StageKind::Band { path, .. } => vec![path],
        StageKind::Order(list) => list.iter().map(|(path, _)| path).collect(),
        StageKind::Without(list) => list.iter().collect(),
        StageKind::Join { here, .. } => vec![here],
        _ => Vec::new(),
    }
}

/// The shape after a stage, as far as it is known: after `unnest` a list's own fields stand under its path.
pub fn after(stage: &Stage, shape: Option<Shape>) -> Option<Shape> {
    let mut shape = shape?;
    match &stage.kind {
        StageKind::Where(_)
        | StageKind::Order(_)
        | StageKind::Limit(_)
        | StageKind::Offset(_)
        | StageKind::Sample(_) => Some(shape),
        StageKind::Without(paths) => {
            for names in paths.iter().filter_map(Path::names) {
                shape.fields.retain(|f| {
                    !(f.path.len() >= names.len() && f.path.iter().zip(&names).all(|(a, b)| a == b))
                });
            }
            Some(shape)
        }
        StageKind::Unnest {
            path, name: None, ..
        } => {
            let names = path.names()?;
            for field in &mut shape.fields {
                if field.path.len() == names.len()
                    && field.path.iter().zip(&names).all(|(a, b)| a == b)
                {
                    field.kinds.retain(|(kind, _)| *kind != Kind::List);
                    field.kinds.append(&mut field.elements);
                } else if field.path.len() > names.len()
                    && field.path.iter().zip(&names).all(|(a, b)| a == b)
                {
                    field.in_list = false;
                }
            }
            Some(shape)
        }
        _ => None,
    }
}

fn sums_over_lists(stage: &Stage, shape: &Shape, found: &mut Vec<Remark>) {
    let (StageKind::Group(_, aggregates) | StageKind::Band { aggregates, .. }) = &stage.kind else {
        return;
    };
    for aggregate in aggregates {
        let sums = matches!(
            aggregate.function,
            AggregateFunction::Sum
                | AggregateFunction::Avg
                | AggregateFunction::Stddev
                | AggregateFunction::Percentile
        );
        let Some(Node::Path(path)) = aggregate.of.as_ref().map(|e| &e.node) else {
            continue;
        };
        let Some(names) = path.names() else { continue };
        let Some(field) = shape.field(&names) else {
            continue;
        };
        if sums && (field.in_list || field.kind() == Some(Kind::List)) {
            let list = (1..=names.len())
                .filter_map(|n| shape.field(&names[..n]))
                .find(|f| f.kind() == Some(Kind::List))
                .map_or_else(|| names[0].to_string(), |field| field.name());
            found.push(Remark {
                words: format!("{} is a list here, and a list has no sum: unnest {list} makes one document of each element.", path.written()),
                span: aggregate.span.clone(),
                edit: Some(Edit {
                    span: stage.span.start..stage.span.start,
                    text: format!("unnest {list}\n"),
                }),
                of_name: false,
            });
        }
    }
}

fn unknown_path(path: &Path, shape: &Shape, found: &mut Vec<Remark>) {
    let names: Vec<&str> = path
        .steps
        .iter()
        .filter_map(|step| match step {
            Step::Name(name) => Some(name.as_str()),
            Step::Index(_) => None,
        })
        .collect();
    if shape.sampled == 0 || shape.cut || shape.field(&names).is_some() {
        return;
    }
    let written = path.written();
    let known: Vec<String> = shape.fields.iter().map(|f| f.name()).collect();
    let nearest = crate::correct::nearest(&written, known.iter().map(String::as_str), 3);
    let hint = nearest
        .first()
        .map_or(String::new(), |first| format!(" The nearest is {first}."));
    found.push(Remark {
        words: format!(
            "None of the {} documents looked at has {written}.{hint}",
            idle_tide_core::figures::grouped(shape.sampled)
        ),
        span: path.span.clone(),
        edit: nearest.into_iter().next().map(|text| Edit {
            span: path.span.clone(),
            text,
        }),
        of_name: true,
    });
}

fn of_expression(expression: &Expr, text: &str, shape: Option<&Shape>, found: &mut Vec<Remark>) {
    // Within `some` paths are those of the elements.
    let mut inner: Vec<*const Expr> = Vec::new();
    expression.visit(&mut |e| {
        if let Node::Some(_, predicate) = &e.node {
            predicate.visit(&mut |e| inner.push(std::ptr::from_ref(e)));
        }
    });
    expression.visit(&mut |e| match &e.node {
        Node::Path(path) => {
            if let Some(shape) = shape
                && !inner.contains(&std::ptr::from_ref(e))
            {
                unknown_path(path, shape, found);
            }
        }
        Node::Some(path, _) => {
            if let Some(shape) = shape {
                unknown_path(path, shape, found);
            }
        }
        Node::Binary(operator, a, b) if operator.compares() => {
            for (side, other) in [(a, b), (b, a)] {
                let quoted = text.get(side.span.clone()).filter(|t| t.starts_with('"'));
                if let (Some(quoted), Some(_), Node::Literal(_)) = (quoted, other.constant(), &side.node) {
                    let inner = &quoted[1..quoted.len().saturating_sub(1)];
                    found.push(Remark {
                        words: format!("Two values are compared here. In double quotes this is a text; the field is `{inner}`."),
                        span: side.span.clone(),
                        edit: Some(Edit {
                            span: side.span.clone(),
                            text: format!("`{inner}`"),
                        }),
                        of_name: false,
                    });
                    break;
                }
            }
        }
        _ => {}
    });
    if let Some(shape) = shape {
        expression.visit(&mut |e| {
            if !inner.contains(&std::ptr::from_ref(e)) {
                never_compares(e, shape, found);
            }
        });
    }
}

/// A comparison of a field whose sampled values are all of another kind than what they are compared with.
fn never_compares(e: &Expr, shape: &Shape, found: &mut Vec<Remark>) {
    let kinds = |of: &Expr| match of.constant() {
        Some(value) => Some((vec![value.kind()], value.kind().word().to_string())),
        None => field_of(of, shape).map(|field| {
            let all = field.kinds.iter().chain(&field.elements);
            (all.map(|(kind, _)| *kind).collect(), field.words())
        }),
    };
    // With a list each of its values is looked at by itself.
    let (left, others, not): (&Expr, Vec<&Expr>, bool) = match &e.node {
        Node::Binary(operator, a, b) if operator.compares() => {
            let (a, b) = if matches!(a.node, Node::Path(_)) {
                (a, b)
            } else {
                (b, a)
            };
            (a, vec![b], *operator == Operator::NotEqual)
        }
        Node::Between(a, low, high, not) => (a, vec![low, high], *not),
        Node::In(a, list, not) => (a, list.iter().collect(), *not),
        Node::Like(a, pattern, not) => (a, vec![pattern], *not),
        _ => return,
    };
    let Some(field) = field_of(left, shape) else {
        return;
    };
    for other in others {
        let Some((given, words)) = kinds(other) else {
            continue;
        };
        let meets = |kind: Kind| {
            given.iter().any(|other| {
                *other == kind
                    || other.is_number() && kind.is_number()
                    || [*other, kind].contains(&Kind::Null)
            })
        };
        let all = field.kinds.iter().chain(&field.elements);
        if given.is_empty() || field.kinds.is_empty() || all.into_iter().any(|(k, _)| meets(*k)) {
            continue;
        }
        let never = if not {
            "always different"
        } else {
            "never the case"
        };
        let alone = matches!(e.node, Node::Binary(..) | Node::Like(..));
        found.push(Remark {
            span: if alone { e.span.clone() } else { other.span.clone() },
            words: format!("{} holds {} in the documents looked at, and this is {words}; values of different kinds are {never}.", field.name(), field.words()),
            edit: None,
            of_name: false,
        });
        return;
    }
}

/// What is known of the field that an expression names.
fn field_of<'a>(of: &Expr, shape: &'a Shape) -> Option<&'a idle_tide_core::document::shape::Field> {
    match &of.node {
        Node::Path(path) => path.names().and_then(|names| shape.field(&names)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document::bson::encode;
    use idle_tide_core::document::time::TimeZone;
    use idle_tide_core::{Datum, document};

    fn warned(text: &str) -> Vec<(String, String)> {
        let mut shape = Shape::default();
        let line = Datum::from(document! { "species": "bass", "kg": 2.5 });
        shape.meet(&encode(&document! { "_id": 1, "port": "Brackwater", "landed": Datum::Date(0), "lines": Datum::List(vec![line]) }));
        let statement = super::super::parse(text, &TimeZone::UTC)
            .whole()
            .expect(text);
        remarks(&statement, text, &|name| {
            (name == "landings").then(|| shape.clone())
        })
        .into_iter()
        .map(|w| (text[w.span].to_string(), w.words))
        .collect()
    }

    #[test]
    fn what_is_doubtful_is_said_at_its_place() {
        for (text, place, words) in [
            ("from landings where prt = 'x'", "prt", "nearest is port"),
            (
                "from landings group by port { kg: sum(lines.kg) }",
                "sum(lines.kg)",
                "unnest lines",
            ),
            (
                "from landings where port = 5",
                "port = 5",
                "different kinds",
            ),
            (
                "from landings where 5 <> port",
                "5 <> port",
                "always different",
            ),
            (
                "from landings where port in ('x', 5, 6)",
                "5",
                "never the case",
            ),
            (
                "from landings where landed between '2031-03-01' and '2031-03-31'",
                "'2031-03-01'",
                "this is text",
            ),
            (
                "from landings where lines.kg like '2%'",
                "lines.kg like '2%'",
                "never the case",
            ),
            (
                "from landings where not port = landed",
                "port = landed",
                "this is date",
            ),
            ("from landings where \"port\" = 'x'", "\"port\"", "`port`"),
            ("from landings order by lines.kgs", "lines.kgs", "lines.kg"),
            ("delete from landings where prt = 'x'", "prt", "port"),
        ] {
            let all = warned(text);
            assert_eq!(all.len(), 1, "{text}: {all:?}");
            assert!(
                all[0].0 == place && all[0].1.contains(words),
                "{text}: {all:?}"
            );
        }
        for fine in [
            "from landings unnest lines group by port { kg: sum(lines.kg) } where kg > 1",
            "from landings where lines.kg > 1 and some lines (kg > 1 and species = 'bass') and landed > date '2031-01-01'",
            "from unknown where x = 1",
            "from landings where lines.kg in (1, 2.5) and port like :p and _id = lines.kg and port = upper(port)",
            "from landings where port is null or some lines (port = 5)",
            "from landings where port = \"Brackwater\"",
        ] {
            assert_eq!(warned(fine), [], "{fine}");
        }
    }
}
