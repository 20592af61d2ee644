//! What reads as a statement and means nothing: conditions that are no conditions, folds without anything to fold.

use super::super::FlowError;
use super::super::ast::{Expr, Node, Operator, Stage, StageKind, Step};
use super::Result;
use idle_tide_core::Datum;
use idle_tide_core::document::Kind;

/// The same condition, if it can be true or false.
///
/// # Errors
/// If it, or a side of its `and` and `or`, is a plain value.
pub(super) fn condition(expr: Expr) -> Result<Expr> {
    match bare_value(&expr) {
        Some((value, kind)) => Err(FlowError::at(
            value.span.clone(),
            format!(
                "A condition is true or false, and this alone is {}: compare it,  path = value.",
                with_article(kind)
            ),
        )),
        None => Ok(expr),
    }
}

/// A value that stands where something true or false has to, and its kind.
fn bare_value(expr: &Expr) -> Option<(&Expr, Kind)> {
    match &expr.node {
        Node::Literal(Datum::Boolean(_)) => None,
        Node::Literal(value) => Some((expr, value.kind())),
        Node::Day(..) => Some((expr, Kind::Date)),
        Node::Negative(_) => Some((expr, Kind::Double)),
        Node::Object(_) => Some((expr, Kind::Object)),
        Node::List(_) => Some((expr, Kind::List)),
        Node::Not(inner) => bare_value(inner),
        Node::Binary(Operator::And | Operator::Or, a, b) => bare_value(a).or_else(|| bare_value(b)),
        _ => None,
    }
}

/// A kind with its article, as in "this is a text".
pub(super) fn with_article(kind: Kind) -> String {
    if kind.is_number() {
        return "a number".into();
    }
    match kind.word() {
        "null" => "null".into(),
        word if word.starts_with(['a', 'e', 'i', 'o', 'u']) => format!("an {word}"),
        word => format!("a {word}"),
    }
}

/// Checks that every fold has an `emit` before it and every finish a fold, and that they name what they are given.
pub(super) fn folds(stages: &[Stage], errors: &mut Vec<FlowError>) {
    let mut emitted = false;
    let mut folded: Option<&str> = None;
    for (at, stage) in stages.iter().enumerate() {
        match &stage.kind {
            StageKind::Emit(..) => emitted = true,
            StageKind::Fold(..) if !emitted => errors.push(FlowError::at(
                stage.span.clone(),
                "There is nothing to fold: put  emit key => value  before it.",
            )),
            StageKind::Fold(name, first, then) => {
                names_only(first, &[], "what a fold begins with", errors);
                let given = [name.name.as_str(), "value", "key"];
                names_only(then, &given, "a fold", errors);
                folded = Some(&name.name);
            }
            StageKind::Finish(e) => match folded {
                None if emitted => errors.push(FlowError::at(
                    stage.span.clone(),
                    "There is nothing to finish: put  fold name = first then next  before it.",
                )),
                None => errors.push(FlowError::at(
                    stage.span.clone(),
                    "There is nothing to finish: emit and fold come before it.",
                )),
                // Other stages between them may have made other fields.
                Some(name) if matches!(stages[at - 1].kind, StageKind::Fold(..)) => {
                    names_only(e, &[name, "key"], "a finish", errors);
                }
                Some(_) => {}
            },
            _ => {}
        }
    }
}

/// Adds an error for every path that begins with none of these names.
fn names_only(expr: &Expr, names: &[&str], place: &str, errors: &mut Vec<FlowError>) {
    // Within `some` paths are those of the elements.
    let mut inner: Vec<*const Expr> = Vec::new();
    expr.visit(&mut |e| {
        if let Node::Some(_, predicate) = &e.node {
            predicate.visit(&mut |e| inner.push(std::ptr::from_ref(e)));
        }
    });
    expr.visit(&mut |e| {
        let (Node::Path(path) | Node::Some(path, _)) = &e.node else {
            return;
        };
        let known = match path.steps.first() {
            Some(Step::Name(first)) => names.contains(&first.as_str()),
            _ => true,
        };
        if known || inner.contains(&std::ptr::from_ref(e)) {
            return;
        }
        let there = match names {
            [] => "there are plain values only".to_string(),
            [one, other] => format!("there are only {one} and {other}"),
            [first, rest @ ..] => format!("there are only {first}, {}", rest.join(" and ")),
        };
        errors.push(FlowError::at(
            path.span.clone(),
            format!("In {place} {there}, no {}.", path.written()),
        ));
    });
}
