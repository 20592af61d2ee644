//! Fields computed over the neighbours of a document: `$setWindowFields`.

use super::series::{partitions, set_at};
use super::*;
use crate::server::expression::dates;

/// Where a window ends, seen from a document.
#[derive(Clone)]
enum Bound {
    Unbounded,
    At(Datum),
}

/// Which neighbours belong to a window.
enum Window {
    /// So many before and after.
    Documents(Bound, Bound),
    /// Those whose place in the order is so near, in a unit of time or as numbers.
    Range(Bound, Bound, Option<String>),
}

fn bound(value: &Datum) -> Result<Bound> {
    match value {
        Datum::Text(word) if &**word == "unbounded" => Ok(Bound::Unbounded),
        Datum::Text(word) if &**word == "current" => Ok(Bound::At(Datum::Int(0))),
        number if number.is_number() => Ok(Bound::At(number.clone())),
        _ => Err(bad(
            5_339_900,
            "a bound of a window is a number, 'current' or 'unbounded'",
        )),
    }
}

fn window(spec: &Document) -> Result<Window> {
    let Some(window) = spec.get("window") else {
        return Ok(Window::Documents(Bound::Unbounded, Bound::Unbounded));
    };
    let window = object("window", window)?;
    let both = |name: &str| -> Result<Option<(Bound, Bound)>> {
        match window.get(name).and_then(Datum::as_list) {
            Some([low, high]) => Ok(Some((bound(low)?, bound(high)?))),
            Some(_) => Err(bad(5_339_902, "a window has two bounds")),
            None => Ok(None),
        }
    };
    if let Some((low, high)) = both("documents")? {
        return Ok(Window::Documents(low, high));
    }
    match both("range")? {
        Some((low, high)) => {
            let unit = window
                .get("unit")
                .and_then(Datum::as_text)
                .map(str::to_string);
            Ok(Window::Range(low, high, unit))
        }
        None => Err(bad(9, "'window' needs 'documents' or 'range'")),
    }
}

/// A partition in its order.
struct Partition<'a> {
    documents: &'a [Document],
    /// What it is ordered by.
    keys: Option<&'a Document>,
    variables: &'a Variables,
}

impl Partition<'_> {
    /// The one path that it is ordered by, upwards.
    fn path(&self, name: &str) -> Result<&str> {
        let only = self.keys.filter(|k| k.len() == 1);
        only.map(|k| k.fields[0].0.as_str())
            .ok_or_else(|| bad(5_371_602, format!("{name} must be specified with a top level sortBy expression with exactly one element")))
    }

    fn place(&self, at: usize, path: &str) -> Datum {
        at_path(&self.documents[at], path).unwrap_or(Datum::Null)
    }

    /// The neighbours in the window of a document: from one on, and before another.
    fn within(&self, at: usize, window: &Window) -> Result<std::ops::Range<usize>> {
        let count = self.documents.len();
        match window {
            Window::Documents(low, high) => {
                let end = |bound: &Bound, usual: i64| match bound {
                    Bound::Unbounded => usual,
                    Bound::At(n) => at as i64 + n.as_i64().unwrap_or(0),
                };
                let low = end(low, 0).clamp(0, count as i64) as usize;
                let high = (end(high, count as i64 - 1) + 1).clamp(0, count as i64) as usize;
                Ok(low..high.max(low))
            }
            Window::Range(low, high, unit) => {
                let path = self.path("a range-based window")?;
                let here = self.place(at, path);
                let end = |bound: &Bound| -> Result<Option<Datum>> {
                    let Bound::At(by) = bound else {
                        return Ok(None);
                    };
                    let moved = match (&here, unit) {
                        (Datum::Date(ms), Some(unit)) => {
                            dates::shifted(*ms, unit, by.as_i64().unwrap_or(0)).map(Datum::Date)
                        }
                        (number, None) if number.is_number() => number
                            .as_f64()
                            .zip(by.as_f64())
                            .map(|(a, b)| Datum::Double(a + b)),
                        _ => None,
                    };
                    moved.map(Some).ok_or_else(|| {
                        bad(
                            5_429_414,
                            "a range-based window needs numbers without a unit, or dates with one",
                        )
                    })
                };
                let (low, high) = (end(low)?, end(high)?);
                let order =
                    |at: usize, limit: &Datum| self.variables.order(&self.place(at, path), limit);
                let first = low.map_or(0, |low| {
                    (0..count)
                        .find(|i| order(*i, &low).is_ge())
                        .unwrap_or(count)
                });
                let last = high.map_or(count, |high| {
                    (0..count)
                        .rfind(|i| order(*i, &high).is_le())
                        .map_or(0, |i| i + 1)
                });
                Ok(first..last.max(first))
            }
        }
    }

    fn values(&self, e: &Datum) -> Result<Vec<Option<Datum>>> {
        self.documents
            .iter()
            .map(|d| evaluate(e, d, self.variables))
            .collect()
    }

    /// A field's values, one for each document.
    fn computed(&self, spec: &Document) -> Result<Vec<Datum>> {
        let operator = spec.fields.iter().find(|(name, _)| name.starts_with('$'));
        let (name, e) =
            operator.ok_or_else(|| bad(9, "an output of $setWindowFields needs an operator"))?;
        let count = self.documents.len();
        match name.as_str() {
            "$documentNumber" => Ok((1..=count).map(|n| Datum::integer(n as i64)).collect()),
            "$rank" | "$denseRank" => self.ranks(name),
            "$shift" => self.shifted(object(name, e)?),
            "$locf" => {
                let mut last = Datum::Null;
                let values = self.values(e)?.into_iter().map(|value| {
                    if let Some(value) = value.filter(|v| !v.is_null()) {
                        last = value;
                    }
                    last.clone()
                });
                Ok(values.collect())
            }
            "$linearFill" => self.between(e),
            "$expMovingAvg" => self.moving_average(object(name, e)?),
            _ => {
                let window = window(spec)?;
                let whole = matches!(
                    window,
                    Window::Documents(Bound::Unbounded, Bound::Unbounded)
                );
                let mut first = None;
                (0..count)
                    .map(|at| {
                        self.variables.check()?;
                        if let (true, Some(known)) = (whole, &first) {
                            return Ok(Datum::clone(known));
                        }
                        let found = self.over(name, e, self.within(at, &window)?)?;
                        first = Some(found.clone());
                        Ok(found)
                    })
                    .collect()
            }
        }
    }

    /// What an operator gives over some neighbours.
    fn over(&self, name: &str, e: &Datum, within: std::ops::Range<usize>) -> Result<Datum> {
        match name {
            "$covariancePop" | "$covarianceSamp" => self.covariance(name, e, within),
            "$derivative" | "$integral" => self.slope(name, object(name, e)?, within),
            _ => {
                let accumulator = Document::new().with(name, e.clone()).into();
                accumulate(&accumulator, self.documents[within].iter(), self.variables)
            }
        }
    }

    fn ranks(&self, name: &str) -> Result<Vec<Datum>> {
        let path = self.path(name)?;
        let (mut rank, mut out) = (0, Vec::new());
        for at in 0..self.documents.len() {
            let new = at == 0
                || self
                    .variables
                    .order(&self.place(at - 1, path), &self.place(at, path))
                    .is_ne();
            if new {
                rank = if name == "$rank" {
                    at as i64 + 1
                } else {
                    rank + 1
                };
            }
            out.push(Datum::integer(rank));
        }
        Ok(out)
    }

    fn shifted(&self, spec: &Document) -> Result<Vec<Datum>> {
        let by = spec
            .get("by")
            .and_then(Datum::as_i64)
            .ok_or_else(|| bad(9, "'$shift' requires 'by' to be a whole number"))?;
        let usual = match spec.get("default") {
            Some(e) => evaluate(e, &Document::new(), self.variables)?.unwrap_or(Datum::Null),
            None => Datum::Null,
        };
        let values = self.values(spec.get("output").unwrap_or(&Datum::Null))?;
        let moved = (0..values.len()).map(|at| {
            let from = usize::try_from(at as i64 + by).ok();
            match from.and_then(|from| values.get(from)) {
                Some(value) => value.clone().unwrap_or(Datum::Null),
                None => usual.clone(),
            }
        });
        Ok(moved.collect())
    }

    /// What is null becomes what lies on the line between its neighbours.
    fn between(&self, e: &Datum) -> Result<Vec<Datum>> {
        let path = self.path("$linearFill")?;
        let values = self.values(e)?;
        let known: Vec<(usize, f64)> = values
            .iter()
            .enumerate()
            .filter_map(|(at, v)| Some((at, v.as_ref()?.as_f64()?)))
            .collect();
        let x = |at: usize| match self.place(at, path) {
            Datum::Date(ms) => Some(ms as f64),
            other => other.as_f64(),
        };
        let filled = values.iter().enumerate().map(|(at, value)| {
            if let Some(value) = value.as_ref().filter(|v| !v.is_null()) {
                return value.clone();
            }
            let next = known.partition_point(|(place, _)| *place < at);
            let (Some((a, from)), Some((b, to))) = (
                next.checked_sub(1).map(|i| known[i]),
                known.get(next).copied(),
            ) else {
                return Datum::Null;
            };
            match (x(a), x(at), x(b)) {
                (Some(x0), Some(x1), Some(x2)) if x2 > x0 => {
                    Datum::Double(from + (to - from) * (x1 - x0) / (x2 - x0))
                }
                _ => Datum::Null,
            }
        });
        Ok(filled.collect())
    }

    fn moving_average(&self, spec: &Document) -> Result<Vec<Datum>> {
        let alpha = match (
            spec.get("N").and_then(Datum::as_f64),
            spec.get("alpha").and_then(Datum::as_f64),
        ) {
            (Some(n), None) if n > 0.0 => 2.0 / (n + 1.0),
            (None, Some(alpha)) if alpha > 0.0 && alpha < 1.0 => alpha,
            _ => {
                return Err(bad(
                    9,
                    "$expMovingAvg needs either an 'N' above 0 or an 'alpha' between 0 and 1",
                ));
            }
        };
        let mut last: Option<f64> = None;
        let values = self.values(spec.get("input").unwrap_or(&Datum::Null))?;
        let averages = values.into_iter().map(|value| {
            if let Some(x) = value.and_then(|v| v.as_f64()) {
                last = Some(last.map_or(x, |before| x * alpha + before * (1.0 - alpha)));
            }
            last.map_or(Datum::Null, Datum::Double)
        });
        Ok(averages.collect())
    }

    fn covariance(&self, name: &str, e: &Datum, within: std::ops::Range<usize>) -> Result<Datum> {
        let mut pairs = Vec::new();
        for document in &self.documents[within] {
            if let Some(Datum::List(both)) = evaluate(e, document, self.variables)?
                && let [a, b] = both.as_slice()
            {
                pairs.extend(a.as_f64().zip(b.as_f64()));
            }
        }
        let count = pairs.len() as f64;
        let divisor = if name == "$covariancePop" {
            count
        } else {
            count - 1.0
        };
        if divisor <= 0.0 {
            return Ok(Datum::Null);
        }
        let mean = |of: fn(&(f64, f64)) -> f64| pairs.iter().map(of).sum::<f64>() / count;
        let (x, y) = (mean(|p| p.0), mean(|p| p.1));
        Ok(Datum::Double(
            pairs.iter().map(|(a, b)| (a - x) * (b - y)).sum::<f64>() / divisor,
        ))
    }

    /// The slope between the ends of a window, or the area below it.
    fn slope(&self, name: &str, spec: &Document, within: std::ops::Range<usize>) -> Result<Datum> {
        let path = self.path(name)?;
        let unit = match spec.get("unit").and_then(Datum::as_text) {
            None => 1.0,
            Some(unit) => dates::length(unit)
                .ok_or_else(|| bad(5_490_704, "unit must be 'week' or smaller"))?
                as f64,
        };
        let input = spec.get("input").unwrap_or(&Datum::Null);
        let mut points = Vec::new();
        for at in within {
            let x = match self.place(at, path) {
                Datum::Date(ms) if spec.get("unit").is_some() => Some(ms as f64 / unit),
                Datum::Date(_) => {
                    return Err(bad(5_624_901, format!("{name} with dates needs a unit")));
                }
                other => other.as_f64(),
            };
            let y = evaluate(input, &self.documents[at], self.variables)?.and_then(|v| v.as_f64());
            points.extend(x.zip(y));
        }
        if name == "$integral" {
            let area = points
                .windows(2)
                .map(|p| (p[1].0 - p[0].0) * (p[0].1 + p[1].1) / 2.0)
                .sum();
            return Ok(Datum::Double(area));
        }
        Ok(match (points.first(), points.last()) {
            (Some(a), Some(b)) if b.0 > a.0 => Datum::Double((b.1 - a.1) / (b.0 - a.0)),
            _ => Datum::Null,
        })
    }
}

/// `$setWindowFields`.
pub(super) fn set_window_fields(
    spec: &Document,
    documents: Vec<Document>,
    variables: &Variables,
) -> Result<Vec<Document>> {
    let output = spec
        .get("output")
        .and_then(Datum::as_object)
        .ok_or_else(|| bad(40414, "$setWindowFields needs an 'output'"))?;
    let keys = spec
        .get("sortBy")
        .and_then(Datum::as_object)
        .filter(|k| !k.is_empty());
    let by = |document: &Document| match spec.get("partitionBy") {
        Some(e) => Ok(evaluate(e, document, variables)?.unwrap_or(Datum::Null)),
        None => Ok(Datum::Null),
    };
    let mut out = Vec::new();
    for (_, mut members) in partitions(&by, documents, variables)? {
        if let Some(keys) = keys {
            members.sort_by(|a, b| compare_by(keys, a, b, variables));
        }
        let partition = Partition {
            documents: &members,
            keys,
            variables,
        };
        let mut columns = Vec::new();
        for (path, spec) in &output.fields {
            columns.push((
                path,
                partition
                    .computed(object("$setWindowFields", spec)?)?
                    .into_iter(),
            ));
        }
        for mut document in members.iter().cloned() {
            for (path, values) in &mut columns {
                set_at(
                    &mut document,
                    path,
                    values.next().unwrap_or(Datum::Null),
                    variables,
                )?;
            }
            out.push(document);
        }
    }
    Ok(out)
}
