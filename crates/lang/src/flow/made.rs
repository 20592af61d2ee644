//! Functions that scripts made, put in their places: what is sent to servers, and what filters work out, knows none of them.

use std::collections::HashMap;

use idle_tide_core::document::Datum;
use idle_tide_core::document::time::TimeZone;

use super::FlowError;
use super::ast::{Expr, Node, Path, Span, Step};
use super::parse::{expression_with, parse_with};

type Result<T> = std::result::Result<T, FlowError>;

/// A function that a script made.
#[derive(Debug, Clone, PartialEq)]
pub struct Function {
    /// Its name.
    pub name: String,
    /// The names of its arguments.
    pub arguments: Vec<String>,
    /// What it gives.
    pub gives: Expr,
}

/// So many functions may be within each other.
const DEEPEST: usize = 50;
/// So many parts an expression may have with them.
const MOST_PARTS: usize = 20_000;

impl Function {
    /// What a call of it stands for: what it gives, with what it was given in the places of its arguments. What goes wrong in that is where it
    /// was called.
    ///
    /// # Errors
    /// If it is given more or less than it takes.
    pub fn applied(&self, given: &[Expr], span: &Span) -> Result<Expr> {
        if self.arguments.len() != given.len() {
            let written = self.arguments.join(", ");
            return Err(FlowError::at(
                span.clone(),
                format!("{0} is written {0}({written}).", self.name),
            ));
        }
        let given: HashMap<&str, &Expr> = self
            .arguments
            .iter()
            .map(String::as_str)
            .zip(given)
            .collect();
        let mut gives = self.gives.clone();
        put(&mut gives, &|name| given.get(name).map(|e| (*e).clone()));
        gives.visit_mut(&mut |e| e.span = span.clone());
        Ok(gives)
    }
}

/// Puts expressions in the places of names; the steps behind a name go into what stands there.
fn put(expr: &mut Expr, given: &dyn Fn(&str) -> Option<Expr>) {
    if let Node::Path(path) = &expr.node
        && let Some(Step::Name(first)) = path.steps.first()
        && let Some(mut found) = given(first)
    {
        if let Node::Path(to) = &mut found.node {
            to.steps.extend_from_slice(&path.steps[1..]);
            *expr = found;
            return;
        }
        for step in &path.steps[1..] {
            let step = match step {
                Step::Name(name) => Node::Literal(name.as_str().into()),
                Step::Index(at) => Node::Literal(Datum::integer(*at)),
            };
            let span = found.span.clone();
            let step = Expr::new(step, span.clone());
            found = Expr::new(Node::Element(Box::new(found), Box::new(step)), span);
        }
        *expr = found;
        return;
    }
    expr.inner_mut()
        .into_iter()
        .for_each(|inner| put(inner, given));
}

/// The functions that may be called, and the variables that they use.
pub struct Known<'a> {
    /// The functions.
    pub functions: &'a [Function],
    /// The value of a variable.
    pub variable: &'a dyn Fn(&str) -> Option<Datum>,
}

impl Known<'_> {
    /// A statement with its functions put in; nothing if it calls none.
    ///
    /// # Errors
    /// If one is given more or less than it takes, uses a variable that is gone, or reaches outside of a script.
    pub fn in_statement(&self, text: &str) -> Result<Option<String>> {
        if !self.named_in(text) {
            return Ok(None);
        }
        // What else is wrong is said by what reads it next.
        let Ok(mut statement) = parse_with(text, &TimeZone::UTC, &self.names()).whole() else {
            return Ok(None);
        };
        let before = statement.clone();
        let mut parts = 0;
        for expr in statement.expressions_mut() {
            self.settle(expr, 0, &mut parts)?;
        }
        Ok((statement != before).then(|| super::format(&statement)))
    }

    /// The same of a condition.
    ///
    /// # Errors
    /// As for a statement.
    pub fn in_condition(&self, text: &str) -> Result<Option<String>> {
        if !self.named_in(text) {
            return Ok(None);
        }
        let Ok(mut condition) = expression_with(text, &TimeZone::UTC, &self.names()) else {
            return Ok(None);
        };
        let before = condition.clone();
        self.settle(&mut condition, 0, &mut 0)?;
        Ok((condition != before).then(|| super::format_expr(&condition)))
    }

    fn names(&self) -> Vec<&str> {
        self.functions
            .iter()
            .map(|function| function.name.as_str())
            .collect()
    }

    fn named_in(&self, text: &str) -> bool {
        self.functions
            .iter()
            .any(|function| text.contains(&function.name))
    }

    fn settle(&self, expr: &mut Expr, depth: usize, parts: &mut usize) -> Result<()> {
        *parts += 1;
        if depth > DEEPEST || *parts > MOST_PARTS {
            return Err(FlowError::at(
                expr.span.clone(),
                "Its functions put into each other, this is too long to work out.",
            ));
        }
        for inner in expr.inner_mut() {
            self.settle(inner, depth, parts)?;
        }
        let Node::Apply(name, given) = &expr.node else {
            return Ok(());
        };
        let Some(function) = self.functions.iter().find(|f| f.name == *name) else {
            return Err(FlowError::at(
                expr.span.clone(),
                format!("{name} works in scripts only, and is used here by a function of yours."),
            ));
        };
        let mut gives = self
            .with_variables(function, &expr.span)?
            .applied(given, &expr.span)?;
        self.settle(&mut gives, depth + 1, parts)?;
        *expr = gives;
        Ok(())
    }

    /// The function with the variables that it uses as their values.
    fn with_variables(&self, function: &Function, span: &Span) -> Result<Function> {
        let mut missing = None;
        let mut fields = Vec::new();
        function.gives.visit(&mut |e| match &e.node {
            // There the names are fields of an element.
            Node::Some(_, inner) => fields.push(inner.span.clone()),
            Node::Path(Path { steps, span }) => {
                if let Some(Step::Name(first)) = steps.first()
                    && !function.arguments.contains(first)
                    && !fields.iter().any(|f| f.contains(&span.start))
                    && (self.variable)(first).is_none()
                {
                    missing.get_or_insert_with(|| first.clone());
                }
            }
            _ => {}
        });
        if let Some(missing) = missing {
            return Err(FlowError::at(
                span.clone(),
                format!(
                    "{} uses the variable {missing}, which has no value.",
                    function.name
                ),
            ));
        }
        let mut found = function.clone();
        put(&mut found.gives, &|name| {
            if function.arguments.iter().any(|argument| argument == name) {
                return None;
            }
            (self.variable)(name).map(|value| Expr::new(Node::Literal(value), span.clone()))
        });
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::flow::ast::Line;
    use crate::flow::script;

    fn made(text: &str) -> Vec<Function> {
        let lines = script(text, &TimeZone::UTC).expect("a script");
        let made = lines.into_iter().filter_map(|line| match line {
            Line::Define(name, arguments, gives) => Some(Function {
                name: name.name,
                arguments: arguments.into_iter().map(|a| a.name).collect(),
                gives,
            }),
            _ => None,
        });
        made.collect()
    }

    #[test]
    fn functions_are_put_where_they_are_called() {
        let functions = made(
            "def tons(kg) = kg / 1000; def heavy(kg) = tons(kg) > least; def first(l) = l[0]; def part(o) = o.a.b; def seen(x) = rows('y')",
        );
        let variable = |name: &str| (name == "least").then(|| Datum::Int(5));
        let known = Known {
            functions: &functions,
            variable: &variable,
        };
        for (text, found) in [
            (
                "from landings emit species => tons(kg) fold n = 0 then n + value",
                Some("kg / 1000"),
            ),
            ("from landings where heavy(kg)", Some("kg / 1000 > 5")),
            (
                "from landings where some crew (heavy(load.kg))",
                Some("load.kg / 1000 > 5"),
            ),
            (
                "update landings set t = tons(kg * 2) where _id = 1",
                Some("kg * 2 / 1000"),
            ),
            ("from landings pick { x: part(doc) }", Some("doc.a.b")),
            ("from landings where tons = 5", None),
            ("from landings where size(tons) = 5", None),
            ("from landings where", None),
        ] {
            let put = known.in_statement(text).expect("no error");
            match (&put, found) {
                (Some(put), Some(found)) => assert!(put.contains(found), "{put}"),
                (put, found) => assert_eq!(put.as_deref(), found, "{text}"),
            }
        }
        for (text, words) in [
            (
                "from landings where tons(kg, 2) > 1",
                "tons is written tons(kg).",
            ),
            (
                "from landings where seen(kg) = 1",
                "rows works in scripts only",
            ),
        ] {
            let error = known.in_statement(text).expect_err(text);
            assert!(error.message.contains(words), "{error:?}");
            assert!(text[error.span].contains("(kg"), "{text}");
        }
        let condition = known
            .in_condition("heavy(total) and not heavy(kg)")
            .expect("no error");
        assert_eq!(
            condition.as_deref(),
            Some("total / 1000 > 5 and not kg / 1000 > 5")
        );
        let gone = Known {
            functions: &functions,
            variable: &|_| None,
        };
        let error = gone.in_condition("heavy(kg)").expect_err("gone");
        assert!(
            error.message.contains("uses the variable least"),
            "{error:?}"
        );
        assert_eq!(gone.in_condition("heavy > 2 and kg > 1"), Ok(None));
    }
}
