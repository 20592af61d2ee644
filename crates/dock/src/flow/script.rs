//! Scripts: variables, conditions, loops and functions over the expressions of flows. A script is prepared once, so that a
//! loop costs little more than its expressions; what it may use is limited.

use std::rc::Rc;

use compact_str::CompactString;
use idle_tide_core::document::number::{NoNumber, Operation, compute};
use idle_tide_core::document::{Datum, Document, time};
use idle_tide_core::limits::Limit;
use idle_tide_lang::flow::FlowError;
use idle_tide_lang::flow::ast::{Expr, Line, Name, Node, Operator, Path, Span, Step};
use idle_tide_lang::flow::functions::{FUNCTIONS, Id};
pub use idle_tide_lang::flow::made::{Function, Known};

use super::{Context, Program};
use crate::convert;

type Result<T> = std::result::Result<T, FlowError>;

/// Functions that reach what is outside of a script: its name, its arguments as they are shown, what it gives.
pub const OUTSIDE: &[(&str, &str, &str)] = &[
    (
        "rows",
        "statement, {parameters}",
        "the rows of a statement that reads, as a list of objects",
    ),
    (
        "run",
        "statement, {parameters}",
        "runs a statement: its rows, or how many it changed",
    ),
    (
        "result",
        "entry",
        "the rows of an earlier entry, as a list of objects",
    ),
];

/// What a script may use.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Lines that are carried out.
    pub steps: u64,
    /// Bytes of all variables together.
    pub memory: usize,
    /// Lines that are printed.
    pub printed: usize,
    /// Functions within each other.
    pub depth: usize,
    /// Parts of an expression once its functions are put in.
    pub parts: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            steps: Limit::ScriptSteps.value(),
            memory: 256 * 1024 * 1024,
            printed: 10_000,
            depth: 50,
            parts: 20_000,
        }
    }
}

/// What stays from one script to the next.
#[derive(Debug, Clone, Default)]
pub struct State {
    /// The variables.
    pub variables: Document,
    /// The functions.
    pub functions: Vec<Function>,
}

impl State {
    /// Lends its functions, with the values of its variables, to what puts them in their places.
    pub fn known<T>(&self, lend: impl FnOnce(&Known<'_>) -> T) -> T {
        lend(&Known {
            functions: &self.functions,
            variable: &|name| self.variables.get(name).cloned(),
        })
    }
}

/// What is around a script.
pub trait Around {
    /// Calls one of [`OUTSIDE`].
    ///
    /// # Errors
    /// In words.
    fn call(
        &mut self,
        name: &str,
        arguments: Vec<Datum>,
        variables: &Document,
    ) -> std::result::Result<Datum, String>;

    /// Takes a printed value.
    fn print(&mut self, value: &Datum);

    /// Takes a value that becomes an entry.
    fn show(&mut self, value: Datum);

    /// Whether it is to stop.
    fn stopped(&self) -> bool;
}

/// Computes two values: numbers, moments and days (a moment plus a number is so many days later, the difference of two
/// moments is in days).
///
/// # Errors
/// What cannot be computed, in words.
pub(super) fn calculate(
    operation: Operation,
    a: Option<&Datum>,
    b: Option<&Datum>,
    span: &Span,
) -> Result<Datum> {
    const DAY: f64 = 86_400_000.0;
    let fails = |words: String| Err(FlowError::at(span.clone(), words));
    let (Some(a), Some(b)) = (a, b) else {
        return fails("One of the two is not there.".into());
    };
    let moved = |at: i64, days: f64| {
        let to = at as f64 + days * DAY;
        match to.abs() < 9e15 {
            true => Ok(Datum::Date(to.round() as i64)),
            false => fails("The day leaves the calendar.".into()),
        }
    };
    match (operation, a, b) {
        (Operation::Subtract, Datum::Date(a), Datum::Date(b)) => {
            let (days, rest) = ((a - b) / 86_400_000, (a - b) % 86_400_000);
            return Ok(match rest {
                0 => Datum::integer(days),
                _ => Datum::Double((a - b) as f64 / DAY),
            });
        }
        (Operation::Add, Datum::Date(at), days) | (Operation::Add, days, Datum::Date(at))
            if days.is_number() =>
        {
            return moved(*at, days.as_f64().unwrap_or_default());
        }
        (Operation::Subtract, Datum::Date(at), days) if days.is_number() => {
            return moved(*at, -days.as_f64().unwrap_or_default());
        }
        _ => {}
    }
    match compute(operation, a, b) {
        Ok(value) => Ok(value),
        Err(NoNumber::ByZero) => fails("This divides by zero.".into()),
        Err(NoNumber::Overflow) => fails(
            "The result does not fit into 64 bits; decimals are larger: 1.0 instead of 1.".into(),
        ),
        Err(NoNumber::NotNumbers) => fails(format!(
            "Numbers are computed with, and this is {} and {}. || joins texts.",
            kind(a),
            kind(b)
        )),
    }
}

fn kind(value: &Datum) -> String {
    let word = value.kind().word();
    let article = if word.starts_with(['a', 'e', 'i', 'o', 'u']) {
        "an"
    } else {
        "a"
    };
    match value {
        Datum::Null => "null".into(),
        Datum::Int(_) | Datum::Long(_) => "a whole number".into(),
        value if value.is_number() => "a number".into(),
        _ => format!("{article} {word}"),
    }
}

/// How a value is printed: texts as they are, moments as ISO 8601 has them, lists and objects as they are typed.
pub fn printed(value: &Datum) -> String {
    match value {
        Datum::Text(text) => text.to_string(),
        Datum::Date(at) => match time::text(*at) {
            Some(text) => text
                .strip_suffix("T00:00:00Z")
                .map_or(text.clone(), str::to_string),
            None => at.to_string(),
        },
        Datum::Null => "null".into(),
        Datum::List(list) => {
            let items: Vec<String> = list.iter().map(within).collect();
            format!("[{}]", items.join(", "))
        }
        Datum::Object(object) => {
            let name = |name: &str| idle_tide_core::document::paths::written([name]);
            let fields = object.fields.iter();
            let fields: Vec<String> = fields
                .map(|(of, value)| format!("{}: {}", name(of), within(value)))
                .collect();
            format!("{{{}}}", fields.join(", "))
        }
        other => convert::text(other).unwrap_or_else(|| idle_tide_lang::flow::literal(other)),
    }
}

/// How a value is printed within another.
fn within(value: &Datum) -> String {
    match value {
        Datum::Text(_) => idle_tide_lang::flow::literal(value),
        other => printed(other),
    }
}

/// A condition, and whether it has to hold for a call to be made.
#[derive(Clone)]
struct Guard {
    when: Rc<Program>,
    holds: bool,
}

/// An expression, prepared: what it calls outside comes first, in its order.
struct Ready {
    calls: Vec<Call>,
    program: Program,
}

struct Call {
    /// The variable that has what it gave.
    slot: String,
    name: String,
    arguments: Vec<Ready>,
    /// When it is made, the outermost condition first: in a case, and behind `and` and `or`, it may not be.
    guards: Vec<Guard>,
    span: Span,
}

/// A line, prepared.
enum Do {
    Set(Vec<CompactString>, Ready, Span),
    Each(CompactString, Ready, Vec<Do>, Span),
    Count(CompactString, Ready, Ready, Vec<Do>, Span),
    If(Vec<(Ready, Vec<Do>)>, Vec<Do>),
    Print(Ready),
    Show(Ready, Span),
}

struct Preparer<'a> {
    functions: Vec<Function>,
    /// Names that have, or will have, a value.
    names: Vec<String>,
    /// The arguments of the function that is being defined.
    arguments: Vec<String>,
    context: &'a Context,
    limits: &'a Limits,
    slots: usize,
    /// Parts of the expression at hand that were gone through.
    parts: usize,
}

impl Preparer<'_> {
    fn lines(&mut self, lines: &[Line]) -> Result<Vec<Do>> {
        let mut list = Vec::new();
        for line in lines {
            list.push(match line {
                Line::Set(path, value) => {
                    let names = path.names().unwrap_or_default();
                    let names = names.into_iter().map(CompactString::from).collect();
                    Do::Set(names, self.ready(value)?, path.span.clone())
                }
                Line::Each(name, over, inner) => Do::Each(
                    name.name.as_str().into(),
                    self.ready(over)?,
                    self.lines(inner)?,
                    over.span.clone(),
                ),
                Line::Count(name, from, to, inner) => Do::Count(
                    name.name.as_str().into(),
                    self.ready(from)?,
                    self.ready(to)?,
                    self.lines(inner)?,
                    from.span.start..to.span.end,
                ),
                Line::If(arms, others) => {
                    let arms = arms
                        .iter()
                        .map(|(when, then)| Ok((self.ready(when)?, self.lines(then)?)));
                    let arms = arms.collect::<Result<_>>()?;
                    Do::If(arms, self.lines(others)?)
                }
                Line::Define(name, arguments, gives) => {
                    self.define(name, arguments, gives)?;
                    continue;
                }
                Line::Print(value) | Line::Value(value) => Do::Print(self.ready(value)?),
                Line::Show(value) => Do::Show(self.ready(value)?, value.span.clone()),
            });
        }
        Ok(list)
    }

    /// Takes notice of every name that gets a value.
    fn meet(&mut self, lines: &[Line]) {
        for line in lines {
            match line {
                Line::Set(path, _) => self.names.extend(
                    path.names()
                        .unwrap_or_default()
                        .first()
                        .map(ToString::to_string),
                ),
                Line::Each(name, _, inner) | Line::Count(name, _, _, inner) => {
                    self.names.push(name.name.clone());
                    self.meet(inner);
                }
                Line::If(arms, others) => {
                    arms.iter().for_each(|(_, lines)| self.meet(lines));
                    self.meet(others);
                }
                _ => {}
            }
        }
    }

    /// Whether every name in an expression has a value.
    fn known(&self, expr: &Expr) -> Result<()> {
        let mut fault = None;
        let mut inside_some = Vec::new();
        expr.visit(&mut |e| match &e.node {
            // There the names are fields of an element.
            Node::Some(_, inner) => inside_some.push(inner.span.clone()),
            Node::Path(path) => {
                let Some(Step::Name(first)) = path.steps.first() else {
                    return;
                };
                let of_element = inside_some
                    .iter()
                    .any(|span| span.contains(&path.span.start));
                let known = of_element
                    || first.starts_with('\u{1}')
                    || self.names.contains(first)
                    || self.arguments.contains(first);
                if !known && fault.is_none() {
                    let names = self.names.iter().map(String::as_str);
                    let nearest = idle_tide_lang::correct::nearest(first, names, 3);
                    let hint = nearest
                        .first()
                        .map_or(String::new(), |near| format!(" The nearest is {near}."));
                    let span = path.span.start..(path.span.start + first.len()).min(path.span.end);
                    fault = Some(FlowError {
                        nearest,
                        ..FlowError::at(
                            span,
                            format!("There is no variable {first}.{hint} A text is in quotes."),
                        )
                    });
                }
            }
            _ => {}
        });
        fault.map_or(Ok(()), Err)
    }

    fn define(&mut self, name: &Name, arguments: &[Name], gives: &Expr) -> Result<()> {
        if OUTSIDE.iter().any(|(known, ..)| *known == name.name) {
            let words = format!(
                "{} is a function already; another name is needed.",
                name.name
            );
            return Err(FlowError::at(name.span.clone(), words));
        }
        let mut own = false;
        gives.visit(&mut |e| {
            own |= matches!(&e.node, Node::Apply(called, _) if *called == name.name)
        });
        if own {
            let words = format!(
                "{} would call itself, and a function of a script cannot: for goes through a list.",
                name.name
            );
            return Err(FlowError::at(gives.span.clone(), words));
        }
        let function = Function {
            name: name.name.clone(),
            arguments: arguments
                .iter()
                .map(|argument| argument.name.clone())
                .collect(),
            gives: gives.clone(),
        };
        // What is wrong with it is said here, and not where it is used.
        self.functions.retain(|known| known.name != function.name);
        self.arguments.clone_from(&function.arguments);
        self.parts = 0;
        let mut tried = gives.clone();
        let settled = self.known(gives);
        let settled = settled.and_then(|()| self.settle(&mut tried, &mut Vec::new(), 0));
        self.arguments.clear();
        settled?;
        self.functions.push(function);
        Ok(())
    }

    fn ready(&mut self, expr: &Expr) -> Result<Ready> {
        self.known(expr)?;
        let mut expr = expr.clone();
        let mut calls = Vec::new();
        self.parts = 0;
        self.settle(&mut expr, &mut calls, 0)?;
        Ok(Ready {
            program: Program::new(&expr, self.context)?,
            calls,
        })
    }

    /// Puts functions in their places: those of scripts by what they give, those outside by a variable.
    fn settle(&mut self, expr: &mut Expr, calls: &mut Vec<Call>, depth: usize) -> Result<()> {
        self.parts += 1;
        if self.parts > self.limits.parts {
            return Err(FlowError::at(
                expr.span.clone(),
                "Its functions put into each other, this is too long to work out.",
            ));
        }
        if depth > self.limits.depth {
            return Err(FlowError::at(
                expr.span.clone(),
                format!(
                    "Functions call each other more than {} deep.",
                    self.limits.depth
                ),
            ));
        }
        if let Node::Apply(name, _) = &expr.node
            && OUTSIDE.iter().any(|(known, ..)| known == name)
        {
            return self.outside(expr, calls);
        }
        match &mut expr.node {
            Node::Case(arms, other) => {
                // Those whose conditions have to fail before.
                let mut passed: Vec<(&Expr, bool)> = Vec::new();
                for (when, then) in arms {
                    self.settle_when(when, calls, depth, &passed)?;
                    passed.push((when, true));
                    self.settle_when(then, calls, depth, &passed)?;
                    if let Some((_, holds)) = passed.last_mut() {
                        *holds = false;
                    }
                }
                if let Some(other) = other {
                    self.settle_when(other, calls, depth, &passed)?;
                }
            }
            Node::Binary(operator @ (Operator::And | Operator::Or), a, b) => {
                self.settle(a, calls, depth)?;
                let holds = *operator == Operator::And;
                self.settle_when(b, calls, depth, &[(a, holds)])?;
            }
            Node::Call(function, arguments) if function.id == Id::Coalesce => {
                let mut nulls: Vec<Expr> = Vec::new();
                for argument in arguments {
                    let passed: Vec<(&Expr, bool)> =
                        nulls.iter().map(|null| (null, true)).collect();
                    self.settle_when(argument, calls, depth, &passed)?;
                    let is_null = Node::IsNull(Box::new(argument.clone()), false);
                    nulls.push(Expr::new(is_null, argument.span.clone()));
                }
            }
            _ => {
                for inner in expr.inner_mut() {
                    self.settle(inner, calls, depth)?;
                }
            }
        }
        let Node::Apply(name, arguments) = &expr.node else {
            return Ok(());
        };
        let known = self.functions.iter().find(|known| known.name == *name);
        let Some(function) = known.cloned() else {
            return Err(self.unknown(name, &expr.span));
        };
        let mut gives = function.applied(arguments, &expr.span)?;
        self.settle(&mut gives, calls, depth + 1)?;
        *expr = gives;
        Ok(())
    }

    /// Puts functions in their places in what is worked out only where these conditions hold, or do not.
    fn settle_when(
        &mut self,
        expr: &mut Expr,
        calls: &mut Vec<Call>,
        depth: usize,
        conditions: &[(&Expr, bool)],
    ) -> Result<()> {
        let before = calls.len();
        self.settle(expr, calls, depth)?;
        if calls.len() == before || conditions.is_empty() {
            return Ok(());
        }
        let guard = |(when, holds): &(&Expr, bool)| {
            let when = Rc::new(Program::new(when, self.context)?);
            Ok(Guard {
                when,
                holds: *holds,
            })
        };
        let guards = conditions.iter().map(guard).collect::<Result<Vec<_>>>()?;
        for call in &mut calls[before..] {
            call.guards.splice(0..0, guards.iter().cloned());
        }
        Ok(())
    }

    fn outside(&mut self, expr: &mut Expr, calls: &mut Vec<Call>) -> Result<()> {
        let Node::Apply(name, arguments) = &expr.node else {
            return Ok(());
        };
        let arguments = arguments.clone();
        let name = name.clone();
        let arguments = arguments
            .iter()
            .map(|argument| self.ready(argument))
            .collect::<Result<Vec<_>>>()?;
        self.slots += 1;
        // No name that is typed begins like this.
        let slot = format!("\u{1}{}", self.slots);
        calls.push(Call {
            slot: slot.clone(),
            name,
            arguments,
            guards: Vec::new(),
            span: expr.span.clone(),
        });
        expr.node = Node::Path(Path {
            steps: vec![Step::Name(slot)],
            span: expr.span.clone(),
        });
        Ok(())
    }

    fn unknown(&self, name: &str, span: &Span) -> FlowError {
        let own = self.functions.iter().map(|function| function.name.as_str());
        let outside = OUTSIDE.iter().map(|(name, ..)| *name);
        let all = FUNCTIONS.iter().map(|function| function.name);
        let nearest = idle_tide_lang::correct::nearest(name, all.chain(outside).chain(own), 3);
        let hint = nearest
            .first()
            .map_or(String::new(), |first| format!(" The nearest is {first}."));
        FlowError {
            nearest,
            ..FlowError::at(span.clone(), format!("There is no function {name}.{hint}"))
        }
    }
}

/// Bytes that a value takes, about.
fn cost(value: &Datum) -> usize {
    const OWN: usize = 32;
    OWN + match value {
        Datum::Text(text) => text.len(),
        Datum::Bytes(bytes) => bytes.1.len(),
        Datum::List(list) => list.iter().map(cost).sum(),
        Datum::Object(object) => object
            .fields
            .iter()
            .map(|(name, value)| name.len() + cost(value))
            .sum(),
        _ => 0,
    }
}

struct Runner<'a> {
    variables: Document,
    around: &'a mut dyn Around,
    limits: &'a Limits,
    steps: u64,
    memory: usize,
    printed: usize,
}

/// Runs the lines of a script. What it had set when it fails or is stopped stays set.
///
/// # Errors
/// What went wrong, with its place in the text of the lines.
pub fn run(
    lines: &[Line],
    state: &mut State,
    around: &mut dyn Around,
    context: &Context,
    limits: &Limits,
) -> Result<()> {
    let mut preparer = Preparer {
        functions: state.functions.clone(),
        names: state
            .variables
            .fields
            .iter()
            .map(|(name, _)| name.to_string())
            .collect(),
        arguments: Vec::new(),
        context,
        limits,
        slots: 0,
        parts: 0,
    };
    preparer.meet(lines);
    let prepared = preparer.lines(lines)?;
    state.functions = preparer.functions;
    let variables = std::mem::take(&mut state.variables);
    let mut runner = Runner {
        memory: variables.fields.iter().map(|(_, value)| cost(value)).sum(),
        variables,
        around,
        limits,
        steps: 0,
        printed: 0,
    };
    let ran = runner.all(&prepared);
    state.variables = runner.variables;
    state
        .variables
        .fields
        .retain(|(name, _)| !name.starts_with('\u{1}'));
    ran
}

impl Runner<'_> {
    fn all(&mut self, list: &[Do]) -> Result<()> {
        list.iter().try_for_each(|one| self.one(one))
    }

    fn step(&mut self, span: &Span) -> Result<()> {
        self.steps += 1;
        if self.steps > self.limits.steps {
            return Err(FlowError::at(
                span.clone(),
                format!(
                    "It was ended after {} steps.",
                    idle_tide_core::figures::grouped(self.limits.steps)
                ),
            ));
        }
        if self.steps.is_multiple_of(1_024) && self.around.stopped() {
            return Err(FlowError::at(span.clone(), STOPPED));
        }
        Ok(())
    }

    fn value(&mut self, ready: &Ready) -> Result<Option<Datum>> {
        for call in &ready.calls {
            let mut made = true;
            for guard in &call.guards {
                made = made && guard.when.holds(&self.variables)? == guard.holds;
            }
            if !made {
                continue;
            }
            let arguments = call
                .arguments
                .iter()
                .map(|argument| Ok(self.value(argument)?.unwrap_or(Datum::Null)));
            let arguments = arguments.collect::<Result<Vec<_>>>()?;
            if self.around.stopped() {
                return Err(FlowError::at(call.span.clone(), STOPPED));
            }
            let gave = self.around.call(&call.name, arguments, &self.variables);
            let gave = gave.map_err(|words| FlowError::at(call.span.clone(), words))?;
            self.variables.set(&call.slot, gave);
        }
        ready.program.value(&self.variables)
    }

    fn set(&mut self, names: &[CompactString], value: Datum, span: &Span) -> Result<()> {
        let scalar = !matches!(
            value,
            Datum::List(_) | Datum::Object(_) | Datum::Text(_) | Datum::Bytes(_)
        );
        let fails = |words: String| Err(FlowError::at(span.clone(), words));
        let added = cost(&value);
        let Some((last, ways)) = names.split_last() else {
            return Ok(());
        };
        let mut place = &mut self.variables;
        for name in ways {
            place = match place.get_mut(name) {
                Some(Datum::Object(inner)) => inner,
                Some(other) => {
                    return fails(format!(
                        "{name} is {}, and only objects have fields.",
                        kind(other)
                    ));
                }
                None => {
                    return fails(format!(
                        "There is no {name} whose field could be set: {name} = {{}} makes one."
                    ));
                }
            };
        }
        let known = place.get(last);
        let before = match known {
            Some(known) if scalar && !matches!(known, Datum::List(_) | Datum::Object(_)) => {
                added.min(cost(known))
            }
            Some(known) => cost(known),
            None => 0,
        };
        let memory = (self.memory + added).saturating_sub(before);
        if memory <= self.limits.memory {
            place.set(last, value);
            self.memory = memory;
        } else {
            let most = self.limits.memory / 1024 / 1024;
            return fails(format!(
                "The variables would take more than {most} MB together. /forget NAME makes room."
            ));
        }
        Ok(())
    }

    fn one(&mut self, one: &Do) -> Result<()> {
        match one {
            Do::Set(names, ready, span) => {
                self.step(span)?;
                let value = self.value(ready)?.unwrap_or(Datum::Null);
                self.set(names, value, span)
            }
            Do::If(arms, others) => {
                for (when, then) in arms {
                    let holds = match when.calls.is_empty() {
                        true => when.program.holds(&self.variables)?,
                        false => {
                            self.value(when)?;
                            when.program.holds(&self.variables)?
                        }
                    };
                    if holds {
                        return self.all(then);
                    }
                }
                self.all(others)
            }
            Do::Each(name, over, lines, span) => {
                let list = match self.value(over)? {
                    Some(Datum::List(list)) => list,
                    Some(other) => {
                        let words = format!(
                            "for goes through a list, or from one number to another: 1..10. This is {}.",
                            kind(&other)
                        );
                        return Err(FlowError::at(span.clone(), words));
                    }
                    None => {
                        return Err(FlowError::at(
                            span.clone(),
                            "for goes through a list, and there is none here.",
                        ));
                    }
                };
                for element in list {
                    self.step(span)?;
                    self.set(std::slice::from_ref(name), element, span)?;
                    self.all(lines)?;
                }
                Ok(())
            }
            Do::Count(name, from, to, lines, span) => {
                let mut end = |ready: &Ready| {
                    let whole = self.value(ready)?.and_then(|value| value.as_i64());
                    whole.ok_or_else(|| {
                        FlowError::at(
                            span.clone(),
                            "A range goes from one whole number to another: 1..10.",
                        )
                    })
                };
                let (from, to) = (end(from)?, end(to)?);
                for number in from..=to {
                    self.step(span)?;
                    self.set(std::slice::from_ref(name), Datum::integer(number), span)?;
                    self.all(lines)?;
                }
                Ok(())
            }
            Do::Print(ready) => {
                let value = self.value(ready)?.unwrap_or(Datum::Null);
                self.printed += 1;
                if self.printed > self.limits.printed {
                    let most = idle_tide_core::figures::grouped(self.limits.printed as u64);
                    return Err(FlowError::at(
                        0..0,
                        format!(
                            "It printed {most} lines, and no more are kept. show makes rows of a list."
                        ),
                    ));
                }
                self.around.print(&value);
                Ok(())
            }
            Do::Show(ready, span) => {
                self.step(span)?;
                let value = self.value(ready)?.unwrap_or(Datum::Null);
                self.around.show(value);
                Ok(())
            }
        }
    }
}

/// What is said of a script that the user stopped.
pub const STOPPED: &str = "It was stopped.";

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document::time::TimeZone;
    use idle_tide_lang::flow::script;

    #[derive(Default)]
    struct Paper {
        lines: Vec<String>,
        stop: bool,
    }

    impl Around for Paper {
        fn call(
            &mut self,
            name: &str,
            arguments: Vec<Datum>,
            _: &Document,
        ) -> std::result::Result<Datum, String> {
            match (name, arguments.as_slice()) {
                ("rows", [Datum::Text(sql)]) if sql == "ports" => {
                    let port = |name: &str, kg: i32| {
                        Datum::Object(Document::new().with("port", name).with("kg", kg))
                    };
                    Ok(Datum::List(vec![port("Quay", 5), port("Cove", 7)]))
                }
                _ => Err(format!("{name} cannot do that.")),
            }
        }
        fn print(&mut self, value: &Datum) {
            self.lines.push(printed(value));
        }
        fn show(&mut self, value: Datum) {
            self.lines.push(format!("shown {}", printed(&value)));
        }
        fn stopped(&self) -> bool {
            self.stop
        }
    }

    fn says_in(
        state: &mut State,
        text: &str,
        limits: &Limits,
    ) -> std::result::Result<Vec<String>, String> {
        let mut paper = Paper::default();
        let context = Context {
            script: true,
            ..Context::default()
        };
        let done = script(text, &TimeZone::UTC)
            .and_then(|lines| run(&lines, state, &mut paper, &context, limits));
        match done {
            Ok(()) => Ok(paper.lines),
            Err(error) => Err(format!(
                "{} at {}",
                error.message,
                text.get(error.span.clone()).unwrap_or("?")
            )),
        }
    }

    fn says(text: &str) -> Vec<String> {
        says_in(&mut State::default(), text, &Limits::default())
            .unwrap_or_else(|words| panic!("{text}: {words}"))
    }

    fn fails(text: &str) -> String {
        says_in(&mut State::default(), text, &Limits::default()).expect_err(text)
    }

    #[test]
    fn a_calculator_on_the_spot() {
        for (text, answer) in [
            ("= 12 * 3.5", "42.0"),
            ("= 0.1 + 0.2", "0.3"),
            ("= 7 / 2", "3.5"),
            ("= (1 + 2) * 3 - -4", "13"),
            ("= date '2031-03-01' + 30", "2031-03-31"),
            ("= date '2031-03-31' - date '2031-03-01'", "30"),
            (
                "= timestamp '2031-03-01T12:00:00Z' - date '2031-03-01'",
                "0.5",
            ),
            ("= round(2.345, 2)", "2.34"),
            ("= 'tide' || ' ' || upper('table')", "tide TABLE"),
            ("= 2 > 1 and not (3 in (1, 2))", "true"),
            ("= [1, 2, 3][-1]", "3"),
            ("= {a: {b: [5, 6]}}.a.b[1]", "6"),
        ] {
            assert_eq!(says(text), [answer], "{text}");
        }
    }

    #[test]
    fn variables_fields_conditions_loops_and_functions() {
        let mut state = State::default();
        let mut next = |text: &str| {
            says_in(&mut state, text, &Limits::default())
                .unwrap_or_else(|words| panic!("{text}: {words}"))
        };
        assert!(next("= fees = {tug: 3.5, smack: 10}; w = 'smack'").is_empty());
        assert_eq!(
            next("= fees[w]; fees['tug']; fees.tug"),
            ["10", "3.5", "3.5"]
        );
        assert!(
            next("= fees.barge = 7; def twice(x) = x * 2; def four(x) = twice(twice(x))")
                .is_empty()
        );
        assert_eq!(next("= four(fees.barge) + twice(fees[w])"), ["48"]);
        assert_eq!(
            next(
                "= total = 0\nfor row in rows('ports') {\n  total = total + row.kg\n  if row.kg > 6 { print row.port || ' is heavy' } else { print row.port }\n}\ntotal"
            ),
            ["Quay", "Cove is heavy", "12"]
        );
        assert_eq!(
            next("= n = 1; for i in 1..10 { n = n * i }; print n"),
            ["3628800"]
        );
        assert_eq!(next("= for i in 3..1 { print i }"), Vec::<String>::new());
        assert_eq!(
            next("= if n = 1 { 'one' } else if n > 5 { 'many' } else { 'few' }"),
            ["many"]
        );
        assert_eq!(
            next("= show rows('ports')"),
            ["shown [{port: 'Quay', kg: 5}, {port: 'Cove', kg: 7}]"]
        );
        assert_eq!(next("= rows('ports')[1].port"), ["Cove"]);
        assert_eq!(
            next("= def of(what) = rows(what)[0].port; of('ports')"),
            ["Quay"]
        );
        // What is not chosen is not called; `run` fails here.
        for text in [
            "= case when 1 > 2 then run('x') when size(rows('ports')) = 2 then 'two' else run('y') end",
            "= case when 1 > 2 and run('x') then run('y') else 'two' end",
            "= case when 1 < 2 or run('x') then 'two' else run('y') end",
            "= coalesce(null, 'two', run('x'))",
            "= coalesce(rows('ports')[5], coalesce(null, 'two', run('x')), run('y'))",
            "= coalesce('two', 1 / 0)",
            "= def port(n) = case when n > 1 then run('x') else case when n = 1 then rows('ports')[1].port else run('y') end end; case when port(1) = 'Cove' then 'two' end",
        ] {
            assert_eq!(next(text), ["two"], "{text}");
        }
        assert_eq!(
            next("= for i in 1..2 { case when i = 1 then rows('ports')[0].port else 'none' end }"),
            ["Quay", "none"]
        );
        // A line goes on where a bracket is open, and ends where it breaks.
        assert_eq!(next("= a = (1\n + 2)\n-a"), ["-3"]);
    }

    #[test]
    fn what_is_wrong_is_said_with_its_place() {
        for (text, words) in [
            ("= 1 / 0", "This divides by zero. at 1 / 0"),
            (
                "= 'a' + 1",
                "this is a text and a whole number. || joins texts. at 'a' + 1",
            ),
            (
                "= nothing + 1",
                "There is no variable nothing. A text is in quotes. at nothing",
            ),
            (
                "= a = {b: 1}; a.c + 1",
                "One of the two is not there. at a.c + 1",
            ),
            (
                "= rouns(1.5)",
                "There is no function rouns. The nearest is round. at rouns(1.5)",
            ),
            ("= def f(x) = f(x - 1)", "would call itself"),
            ("= def f(x) = x; f(1, 2)", "f is written f(x). at f(1, 2)"),
            ("= def round(x) = x", "round is a function already"),
            ("= for i in 5 { i }", "for goes through a list"),
            ("= for i in [1] { i", "never closed; } was expected. at {"),
            ("= a.b = 1", "There is no a whose field could be set"),
            ("= 1 2", "expected"),
            ("= run('x')", "run cannot do that. at run('x')"),
            ("= 9223372036854775807 + 1", "does not fit into 64 bits"),
        ] {
            let said = fails(text);
            assert!(
                said.to_lowercase().contains(&words.to_lowercase()),
                "{text}: {said}"
            );
        }
    }

    #[test]
    fn what_never_ends_or_eats_memory_is_ended_and_keeps_what_it_had() {
        let mut state = State::default();
        let few = Limits {
            steps: 1_000,
            memory: 100_000,
            printed: 10,
            ..Limits::default()
        };
        let said =
            says_in(&mut state, "= for i in 1..1000000000 { n = i }", &few).expect_err("steps");
        assert!(said.contains("ended after 1 000 steps"), "{said}");
        assert_eq!(state.variables.get("n"), Some(&Datum::Int(500)));
        let said = says_in(
            &mut state,
            "= t = 'x'; for i in 1..100 { t = t || t }",
            &few,
        )
        .expect_err("memory");
        assert!(said.contains("more than 0 MB"), "{said}");
        let said = says_in(&mut state, "= for i in 1..100 { i }", &few).expect_err("output");
        assert!(said.contains("printed 10 lines"), "{said}");
        let deep = (1..60)
            .map(|n| format!("def f{n}(x) = f{}(x) + f{0}(x)", n - 1))
            .collect::<Vec<_>>()
            .join("; ");
        let said = says_in(
            &mut state,
            &format!("= def f0(x) = x; {deep}; f59(1)"),
            &few,
        )
        .expect_err("depth");
        assert!(said.contains("too long") || said.contains("deep"), "{said}");
    }

    /// An expression over x, y and z, and its value for some numbers where 64 bits hold it.
    fn tree() -> impl proptest::strategy::Strategy<Value = String> {
        use proptest::prelude::*;
        let leaf = prop_oneof![
            (-9_i64..100).prop_map(|n| if n < 0 {
                format!("({n})")
            } else {
                n.to_string()
            }),
            Just("x".to_string()),
            Just("y".to_string()),
            Just("z.deep".to_string()),
        ];
        leaf.prop_recursive(4, 24, 3, |inner| {
            let operator = prop_oneof![Just("+"), Just("-"), Just("*")];
            prop_oneof![
                (inner.clone(), operator, inner.clone())
                    .prop_map(|(a, sign, b)| format!("({a} {sign} {b})")),
                (inner.clone(), inner.clone())
                    .prop_map(|(a, b)| format!("case when {a} < {b} then {a} else {b} end")),
                (inner.clone(), inner).prop_map(|(a, b)| format!("greatest({a}, {b})")),
            ]
        })
    }

    proptest::proptest! {
        /// An expression comes to the same as it stands, through variables, as a function of a script, and in a flow's own
        /// evaluator over a document with these fields.
        #[test]
        fn scripts_functions_and_flows_agree(text in tree(), x in -50_i64..50, y in -50_i64..50, z in -50_i64..50) {
            let given = format!("x = {x}; y = {y}; z = {{deep: {z}}}");
            let plain = says_in(&mut State::default(), &format!("= {given}; {text}"), &Limits::default());
            let function = format!("= def f(x, y, z) = {text}; f({x}, {y}, {{deep: {z}}})");
            let called = says_in(&mut State::default(), &function, &Limits::default());
            let document = Document::new()
                .with("x", Datum::integer(x))
                .with("y", Datum::integer(y))
                .with("z", Datum::Object(Document::new().with("deep", Datum::integer(z))));
            let expr = idle_tide_lang::flow::expression(&text, &TimeZone::UTC).expect("understood");
            let flow = Program::new(&expr, &Context::default()).and_then(|program| program.value(&document));
            match (&plain, flow) {
                (Ok(lines), Ok(value)) => {
                    proptest::prop_assert_eq!(lines, &vec![printed(&value.unwrap_or(Datum::Null))]);
                    proptest::prop_assert_eq!(Ok(lines), called.as_ref());
                }
                (Err(_), Err(_)) => proptest::prop_assert!(called.is_err()),
                (plain, flow) => proptest::prop_assert!(false, "{:?} {:?}", plain, flow),
            }
        }
    }

    /// A script as a tree, for which its text and what it prints are worked out apart from each other.
    #[derive(Debug, Clone)]
    enum Part {
        /// A variable gets a sum: of another, a number of times, and a number.
        Set(usize, usize, i64, i64),
        /// Something is printed.
        Print(usize),
        /// Something is done where one variable is less than a number, else something else.
        If(usize, i64, Vec<Part>, Vec<Part>),
        /// Something is done for every number from one to another; the variable takes it.
        For(i64, i64, usize, Vec<Part>),
        /// Something is done for every number of a list.
        Each(Vec<i64>, usize, Vec<Part>),
    }

    const NAMES: [&str; 3] = ["a", "b", "c"];

    fn parts() -> impl proptest::strategy::Strategy<Value = Vec<Part>> {
        use proptest::prelude::*;
        let leaf = prop_oneof![
            3 => (0..3_usize, 0..3_usize, -2_i64..3, -9_i64..10).prop_map(|(to, from, times, more)| Part::Set(to, from, times, more)),
            2 => (0..3_usize).prop_map(Part::Print),
        ];
        let part = leaf.prop_recursive(3, 20, 4, |inner| {
            let block = proptest::collection::vec(inner, 1..4);
            prop_oneof![
                (0..3_usize, -20_i64..20, block.clone(), block.clone())
                    .prop_map(|(of, than, yes, no)| Part::If(of, than, yes, no)),
                (-2_i64..3, -1_i64..4, 0..3_usize, block.clone())
                    .prop_map(|(from, to, of, inner)| Part::For(from, to, of, inner)),
                (
                    proptest::collection::vec(-5_i64..6, 0..4),
                    0..3_usize,
                    block
                )
                    .prop_map(|(list, of, inner)| Part::Each(list, of, inner)),
            ]
        });
        proptest::collection::vec(part, 1..5)
    }

    fn written(parts: &[Part], depth: usize) -> String {
        let one = |part: &Part| match part {
            Part::Set(to, from, times, more) => {
                format!("{} = {} * ({times}) + ({more})", NAMES[*to], NAMES[*from])
            }
            Part::Print(of) => format!("print {}", NAMES[*of]),
            Part::If(of, than, yes, no) => format!(
                "if {} < {than} {{ {} }} else {{ {} }}",
                NAMES[*of],
                written(yes, depth),
                written(no, depth)
            ),
            Part::For(from, to, of, inner) => format!(
                "for i{depth} in {from}..{to} {{ {} = i{depth}; {} }}",
                NAMES[*of],
                written(inner, depth + 1)
            ),
            Part::Each(list, of, inner) => format!(
                "for i{depth} in {list:?} {{ {} = i{depth}; {} }}",
                NAMES[*of],
                written(inner, depth + 1)
            ),
        };
        parts.iter().map(one).collect::<Vec<_>>().join("; ")
    }

    /// What it prints; nothing if a number gets larger than is looked at.
    fn printed_by(parts: &[Part], state: &mut [i64; 3], lines: &mut Vec<String>) -> Option<()> {
        for part in parts {
            match part {
                Part::Set(to, from, times, more) => {
                    state[*to] = state[*from] * times + more;
                    if state[*to].abs() > 1 << 40 {
                        return None;
                    }
                }
                Part::Print(of) => lines.push(state[*of].to_string()),
                Part::If(of, than, yes, no) => {
                    let way = if state[*of] < *than { yes } else { no };
                    printed_by(way, state, lines)?;
                }
                Part::For(from, to, of, inner) => {
                    for number in *from..=*to {
                        state[*of] = number;
                        printed_by(inner, state, lines)?;
                    }
                }
                Part::Each(list, of, inner) => {
                    for number in list {
                        state[*of] = *number;
                        printed_by(inner, state, lines)?;
                    }
                }
            }
        }
        Some(())
    }

    proptest::proptest! {
        /// Loops and branches in each other do what they say.
        #[test]
        fn loops_and_branches_do_what_they_say(parts in parts()) {
            let (mut state, mut lines) = ([1, 2, 3], Vec::new());
            proptest::prop_assume!(printed_by(&parts, &mut state, &mut lines).is_some());
            lines.push(format!("{} {} {}", state[0], state[1], state[2]));
            let text = format!(
                "= a = 1; b = 2; c = 3; {}; print text(a) || ' ' || text(b) || ' ' || text(c)",
                written(&parts, 0)
            );
            let said = says_in(&mut State::default(), &text, &Limits::default());
            proptest::prop_assert_eq!(said, Ok(lines), "{}", text);
        }
    }
}
