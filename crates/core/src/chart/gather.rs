//! The numbers of a picture, gathered from the rows of a result in one pass, and the rows that stand behind one mark.

use std::collections::HashMap;
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};

use foldhash::fast::FixedState;

use super::role::{number, seconds};
use super::{How, Kind, MOST_SERIES, Role, Spec, roles};
use crate::batch::Row;
use crate::column::column_labels;
use crate::figures::grouped;
use crate::order::{each_row, each_row_of};
use crate::result::ResultSet;
use crate::round::{interval_of, intervals};
use crate::value::ValueRef;

/// Categories that are told apart; what is met after them is gathered as one.
const MOST_CATEGORIES: usize = 5_000;
/// Pictures side by side, at most.
const MOST_PANELS: usize = 12;
/// Values beyond the whiskers that are kept of each box.
const MOST_BEYOND: usize = 50;
/// The name of what is gathered.
pub const OTHERS: &str = "others";

/// What goes along a picture.
#[derive(Debug, Clone, PartialEq)]
pub enum Across {
    /// Categories, by their names.
    Categories(Vec<String>),
    /// Numbers.
    Numbers,
    /// Seconds since 1970.
    Times,
}

/// A picture's numbers.
#[derive(Debug, Clone, PartialEq)]
pub struct Data {
    /// What was asked for.
    pub spec: Spec,
    /// What goes along.
    pub across: Across,
    /// The series, in their order.
    pub series: Vec<String>,
    /// One picture, or several of one kind side by side.
    pub panels: Vec<Panel>,
    /// The name of what goes along, and of what is measured.
    pub names: (String, String),
    /// What was left out or put together, in sentences.
    pub notes: Vec<String>,
    /// The step by which times are counted, in seconds, where they are.
    pub bucket: Option<f64>,
    /// Rows that were looked at.
    pub rows: u64,
}

/// Values that go further than this from the least to the most, most of them near the least, are seen on a logarithmic scale only.
const SPAN: f64 = 10_000.0;

impl Data {
    /// The least and the most of the values of lines and points, where most of them would lie flat on a linear scale and all
    /// have a logarithm.
    pub fn spans(&self) -> Option<(f64, f64)> {
        let mut values: Vec<f64> = Vec::new();
        for panel in &self.panels {
            match &panel.marks {
                Marks::Lines(all) => values.extend(all.iter().flatten().map(|(_, y)| *y)),
                Marks::Points(all) => values.extend(all.iter().flatten().map(|(_, y, _)| *y)),
                _ => return None,
            }
        }
        values.retain(|value| value.is_finite());
        let least = values.iter().copied().fold(f64::INFINITY, f64::min);
        let most = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let flat = values.iter().filter(|value| **value < most / 100.0).count();
        let spans = least > 0.0 && most / least >= SPAN && flat * 2 > values.len();
        spans.then_some((least, most))
    }
}

/// One picture of several side by side.
#[derive(Debug, Clone, PartialEq)]
pub struct Panel {
    /// Its category; empty where there is one picture.
    pub name: String,
    /// What is drawn in it.
    pub marks: Marks,
}

/// What is drawn.
#[derive(Debug, Clone, PartialEq)]
pub enum Marks {
    /// For each series a value for each category; nothing where no row is.
    Values(Vec<Vec<Option<f64>>>),
    /// For each series its points, from the least x to the most; a y that is no number is a gap.
    Lines(Vec<Vec<(f64, f64)>>),
    /// For each series its points as they come, and the numbers of their rows.
    Points(Vec<Vec<(f64, f64, u32)>>),
    /// Intervals of one width, from `from` on, and how many values fall into each.
    Bins {
        /// The least value.
        from: f64,
        /// The width of an interval.
        width: f64,
        /// Values in each.
        counts: Vec<u64>,
    },
    /// A box for each category.
    Boxes(Vec<Option<Box5>>),
}

/// Five numbers of a distribution.
#[derive(Debug, Clone, PartialEq)]
pub struct Box5 {
    /// The least value not further from the box than one and a half times its length.
    pub low: f64,
    /// The first quartile.
    pub q1: f64,
    /// The median.
    pub median: f64,
    /// The third quartile.
    pub q3: f64,
    /// The greatest value not further from the box than one and a half times its length.
    pub high: f64,
    /// Values.
    pub count: u64,
    /// Values further away, the furthest of them.
    pub beyond: Vec<f64>,
}

impl Box5 {
    /// The box of some values; quartiles by linear interpolation (Hyndman and Fan 1996, type 7).
    pub fn of(values: &mut [f64]) -> Option<Self> {
        values.sort_unstable_by(f64::total_cmp);
        let quantile = |part: f64| {
            let at = part * (values.len() - 1) as f64;
            let (low, high) = (values[at.floor() as usize], values[at.ceil() as usize]);
            low + (high - low) * at.fract()
        };
        let (first, last) = (*values.first()?, *values.last()?);
        let (q1, median, q3) = (quantile(0.25), quantile(0.5), quantile(0.75));
        let reach = 1.5 * (q3 - q1);
        let within = |value: &&f64| (q1 - reach..=q3 + reach).contains(*value);
        let mut beyond: Vec<f64> = values.iter().copied().filter(|v| !within(&v)).collect();
        beyond.sort_unstable_by(|a, b| (b - median).abs().total_cmp(&(a - median).abs()));
        beyond.truncate(MOST_BEYOND);
        Some(Box5 {
            low: values.iter().find(within).copied().unwrap_or(first),
            high: values.iter().rev().find(within).copied().unwrap_or(last),
            q1,
            median,
            q3,
            count: values.len() as u64,
            beyond,
        })
    }
}

/// Which mark of a picture.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Key {
    /// A category.
    Category(usize),
    /// A place along.
    X(f64),
    /// An interval.
    Bin(usize),
    /// A row of the result.
    Row(u32),
}

/// Names that are met, numbered in their order.
#[derive(Clone, Default)]
struct Names {
    known: HashMap<Box<[u8]>, usize, FixedState>,
    names: Vec<String>,
    most: usize,
    /// Rows whose name came after all the room was taken.
    beyond: u64,
    bytes: Vec<u8>,
}

impl Names {
    fn at_most(most: usize) -> Self {
        Names {
            most,
            ..Names::default()
        }
    }

    /// The number of a value's name; that after the last where there is no more room.
    fn number(&mut self, value: ValueRef<'_>) -> usize {
        self.bytes.clear();
        if value.is_null() {
            self.bytes.push(0);
        }
        value.write_plain(&mut self.bytes);
        if let Some(at) = self.known.get(self.bytes.as_slice()) {
            return *at;
        }
        if self.names.len() >= self.most {
            self.beyond += 1;
            return self.most;
        }
        let at = self.names.len();
        self.known.insert(self.bytes.as_slice().into(), at);
        self.names.push(match value {
            ValueRef::Text("") => "(empty)".into(),
            value => value.plain(),
        });
        at
    }

    /// The names, and behind them that of what had no room.
    fn all(self) -> Vec<String> {
        let mut names = self.names;
        if self.beyond > 0 {
            names.push(OTHERS.into());
        }
        names
    }
}

/// A sum that grows, and how many values are in it.
#[derive(Clone, Copy, Default)]
struct Sum {
    sum: f64,
    values: u32,
    rows: u32,
}

impl Sum {
    fn value(self, how: How) -> Option<f64> {
        match how {
            How::Count => Some(f64::from(self.rows)),
            _ if self.values == 0 => None,
            How::Sum => Some(self.sum),
            How::Mean => Some(self.sum / f64::from(self.values)),
        }
    }

    fn join(&mut self, other: Sum) {
        self.sum += other.sum;
        self.values = self.values.saturating_add(other.values);
        self.rows = self.rows.saturating_add(other.rows);
    }
}

/// Where a row stands along.
enum Along {
    Category(usize),
    At(f64),
}

/// Places the rows of a result in a picture.
#[derive(Clone)]
struct Places {
    spec: Spec,
    /// Whether x is read as a time, where it is no category.
    times: bool,
    categories: bool,
    /// Times are put together in steps of so many seconds.
    bucket: Option<f64>,
    along: Names,
    by: Names,
    panels: Names,
    /// Rows without a place along.
    nowhere: u64,
}

impl Places {
    fn new(set: &ResultSet, spec: &Spec) -> Self {
        let roles = roles(set);
        let role = spec.x.and_then(|x| roles.get(x)).copied();
        Places {
            times: role == Some(Role::Time),
            categories: matches!(spec.kind, Kind::Bars | Kind::Boxes | Kind::Heat),
            bucket: None,
            along: Names::at_most(MOST_CATEGORIES),
            by: Names::at_most(match spec.kind {
                Kind::Heat => MOST_CATEGORIES,
                _ => 200,
            }),
            panels: Names::at_most(MOST_PANELS),
            nowhere: 0,
            spec: spec.clone(),
        }
    }

    /// Whether rows get places by names, which are numbered as they come.
    fn named(&self) -> bool {
        self.categories || self.spec.by.is_some() || self.spec.panels.is_some()
    }

    fn x(&self, row: Row<'_>) -> Option<f64> {
        let value = row.get(self.spec.x?);
        match self.times {
            true => {
                let at = seconds(value)?;
                Some(self.bucket.map_or(at, |step| (at / step).floor() * step))
            }
            false => number(value),
        }
    }

    /// The panel, the series and the place along.
    fn place(&mut self, row: Row<'_>) -> Option<(usize, usize, Along)> {
        let along = match (self.categories, self.spec.x) {
            (true, Some(x)) => Along::Category(self.along.number(row.get(x))),
            (true, None) => Along::Category(self.along.number(ValueRef::Text("all"))),
            (false, _) => match self.x(row) {
                Some(at) => Along::At(at),
                None => {
                    self.nowhere += 1;
                    return None;
                }
            },
        };
        let panel = self
            .spec
            .panels
            .map_or(0, |at| self.panels.number(row.get(at)));
        let by = self.spec.by.map_or(0, |at| self.by.number(row.get(at)));
        Some((panel, by, along))
    }
}

/// Grows a list so that it has a place.
fn at<T: Default>(list: &mut Vec<T>, place: usize) -> &mut T {
    if list.len() <= place {
        list.resize_with(place + 1, T::default);
    }
    &mut list[place]
}

/// What was gathered of the rows so far: a list for each panel of what its kind draws.
#[derive(Default)]
struct Heap {
    values: Vec<Vec<Vec<Sum>>>,
    lines: Vec<Vec<Vec<(f64, Sum)>>>,
    points: Vec<Vec<Vec<(f64, f64, u32)>>>,
    numbers: Vec<Vec<f64>>,
    boxes: Vec<Vec<Vec<f64>>>,
    /// Rows that were looked at, those without a value, and those with one that is no finite number.
    looked_at: u64,
    missing: u64,
    endless: u64,
    /// Points that are not drawn.
    left_out: usize,
}

impl Heap {
    /// Adds what was gathered of the rows behind these.
    fn append(&mut self, next: Heap) {
        fn lists<T>(
            list: &mut Vec<Vec<Vec<T>>>,
            next: Vec<Vec<Vec<T>>>,
            join: fn(&mut Vec<T>, Vec<T>),
        ) {
            for (panel, series) in next.into_iter().enumerate() {
                for (place, values) in series.into_iter().enumerate() {
                    join(at(at(list, panel), place), values);
                }
            }
        }
        lists(&mut self.lines, next.lines, |list, next| {
            let mut next = next.into_iter().peekable();
            if let (Some((last, sum)), Some((first, more))) = (list.last_mut(), next.peek())
                && last == first
            {
                sum.join(*more);
                next.next();
            }
            list.extend(next);
        });
        lists(&mut self.points, next.points, |list, next| {
            list.extend(next)
        });
        for (panel, numbers) in next.numbers.into_iter().enumerate() {
            at(&mut self.numbers, panel).extend(numbers);
        }
        self.looked_at += next.looked_at;
        self.missing += next.missing;
        self.endless += next.endless;
    }

    fn number(&mut self, value: ValueRef<'_>) -> Option<f64> {
        let found = number(value);
        if found.is_none() {
            self.missing += u64::from(value.is_null());
            self.endless += u64::from(!value.is_null());
        }
        found
    }

    /// Takes a row. With several `columns` each is a series, unless a category makes them; without any, rows are counted.
    fn take(&mut self, places: &mut Places, columns: &[usize], number: u32, row: Row<'_>) {
        self.looked_at += 1;
        let Some((panel, by, along)) = places.place(row) else {
            return;
        };
        let many = places.spec.by.is_none() && columns.len() > 1;
        for n in 0..columns.len().max(1) {
            let of = columns
                .get(n)
                .and_then(|column| self.number(row.get(*column)));
            let one = Sum {
                sum: of.unwrap_or(0.0),
                values: u32::from(of.is_some()),
                rows: 1,
            };
            let place = if many { n } else { by };
            match (places.spec.kind, &along) {
                (Kind::Bars | Kind::Heat, Along::Category(category)) => {
                    at(at(at(&mut self.values, panel), place), *category).join(one);
                }
                (Kind::Boxes, Along::Category(category)) => {
                    at(at(&mut self.boxes, panel), *category).extend(of);
                }
                (Kind::Line | Kind::Area, Along::At(x)) => {
                    let list = at(at(&mut self.lines, panel), place);
                    match list.last_mut() {
                        Some((last, sum)) if *last == *x => sum.join(one),
                        _ => list.push((*x, one)),
                    }
                }
                (Kind::Points, Along::At(x)) => {
                    let point = of.map(|y| (*x, y, number));
                    at(at(&mut self.points, panel), place).extend(point);
                }
                (Kind::Histogram, Along::At(x)) => at(&mut self.numbers, panel).push(*x),
                _ => {}
            }
        }
    }

    /// The name of what is measured.
    fn measured(&self, spec: &Spec, columns: &[usize], labels: &[String]) -> String {
        let repeats_in_values = || {
            self.values
                .iter()
                .flatten()
                .flatten()
                .any(|sum| sum.rows > 1)
        };
        match (columns, spec.how) {
            _ if spec.kind == Kind::Histogram => "rows".into(),
            _ if matches!(spec.kind, Kind::Boxes | Kind::Points) => {
                let first = spec.y.first().and_then(|at| labels.get(*at));
                first.cloned().unwrap_or_default()
            }
            ([], _) | (_, How::Count) => "rows".into(),
            ([one], how) => {
                let repeated = match spec.kind {
                    Kind::Bars | Kind::Heat => repeats_in_values(),
                    Kind::Line | Kind::Area => repeats(&self.lines),
                    _ => false,
                };
                match repeated {
                    true => format!("{} of {}", how.name(), labels[*one]),
                    false => labels[*one].clone(),
                }
            }
            (_, how) => match repeats(&self.lines) || repeats_in_values() {
                true => how.name().to_string(),
                false => String::new(),
            },
        }
    }

    /// Puts the bars of the smallest series together where there are more than can be told apart: of their rows, so that a
    /// mean of them is the mean of all.
    fn few_bars(&mut self, series: &mut Vec<String>, how: How, notes: &mut Vec<String>) {
        let mut weights = vec![0.0; series.len()];
        for (at, list) in self
            .values
            .iter()
            .flat_map(|panel| panel.iter().enumerate())
        {
            let values = list.iter().filter_map(|sum| sum.value(how));
            weights[at] += values.map(f64::abs).sum::<f64>();
        }
        let Some((kept, rest)) = largest(&weights) else {
            return;
        };
        for panel in &mut self.values {
            panel.resize_with(series.len(), Vec::new);
            let mut others: Vec<Sum> = Vec::new();
            for place in &rest {
                for (category, sum) in panel[*place].iter().enumerate() {
                    at(&mut others, category).join(*sum);
                }
            }
            let mut few = taken(panel, &kept);
            few.push(others);
            *panel = few;
        }
        let count = rest.len();
        *series = taken(series, &kept);
        series.push(format!("{OTHERS} ({count})"));
        notes.push(format!("{count} smaller series are put together."));
    }

    /// What is drawn in a panel of so many series and categories.
    fn marks(
        &mut self,
        places: &Places,
        panel: usize,
        how: How,
        (series, categories): (usize, usize),
    ) -> Marks {
        match places.spec.kind {
            Kind::Bars | Kind::Heat => {
                let mut list = std::mem::take(at(&mut self.values, panel));
                list.resize_with(series, Vec::new);
                let all = list.into_iter().map(|mut list| {
                    list.resize_with(categories, Sum::default);
                    let value = |sum: Sum| if sum.rows == 0 { None } else { sum.value(how) };
                    list.into_iter().map(value).collect()
                });
                Marks::Values(all.collect())
            }
            Kind::Line | Kind::Area => {
                let mut list = std::mem::take(at(&mut self.lines, panel));
                list.resize_with(series, Vec::new);
                let all = list.into_iter().map(|list| {
                    let whole = merged(list, how);
                    let count = whole.len();
                    let few = thinned(whole);
                    self.left_out += count - few.len();
                    few
                });
                Marks::Lines(all.collect())
            }
            Kind::Points => {
                let mut list = std::mem::take(at(&mut self.points, panel));
                list.resize_with(series, Vec::new);
                let all = list.into_iter().map(|list| {
                    let count = list.len();
                    let few = apart(list);
                    self.left_out += count - few.len();
                    few
                });
                Marks::Points(all.collect())
            }
            Kind::Histogram => {
                let all = || self.numbers.iter().flatten();
                let whole = all().all(|number| number.fract() == 0.0);
                let (from, width, bins) = bins(all(), whole && !places.times);
                let mut counts = vec![0; bins];
                for value in at(&mut self.numbers, panel).iter() {
                    let bin = interval_of(*value, from, width);
                    counts[bin.min(bins - 1)] += 1;
                }
                Marks::Bins {
                    from,
                    width,
                    counts,
                }
            }
            Kind::Boxes => {
                let list = at(&mut self.boxes, panel);
                list.resize_with(categories, Vec::new);
                Marks::Boxes(list.iter_mut().map(|values| Box5::of(values)).collect())
            }
        }
    }

    /// What was left out or put together, in sentences.
    fn notes(&self, places: &Places, x_name: &str, panels: usize, notes: &mut Vec<String>) {
        let spec = &places.spec;
        let rows_words = |count: u64| match count {
            1 => "1 row".to_string(),
            many => format!("{} rows", grouped(many)),
        };
        if places.nowhere > 0 {
            let rows = rows_words(places.nowhere);
            notes.push(format!("{rows} without {x_name} left out."));
        }
        if self.missing > 0 && spec.how != How::Count {
            let rows = rows_words(self.missing);
            notes.push(match spec.kind {
                Kind::Line | Kind::Area => format!("Gaps: {rows} without a value."),
                _ => format!("{rows} without a value left out."),
            });
        }
        if self.endless > 0 {
            let rows = rows_words(self.endless);
            notes.push(format!("{rows} with no finite number left out."));
        }
        if self.left_out > 0 {
            let left_out = grouped(self.left_out as u64);
            notes.push(match spec.kind {
                Kind::Points => format!("{left_out} points that lie on others are not drawn."),
                _ => {
                    format!("{left_out} points between the extremes of their parts are not drawn.")
                }
            });
        }
        if let Some(bucket) = places.bucket {
            notes.push(format!("Counted {}.", per(bucket)));
        }
        if panels > MOST_PANELS {
            notes.push(format!(
                "The first {MOST_PANELS} of them, and the rest as {OTHERS}."
            ));
        }
    }
}

/// Gathers the numbers of a picture; `rows` are the rows to take (all when `None`).
///
/// # Errors
/// If rows cannot be read, or `stop` said so ([`io::ErrorKind::Interrupted`]).
pub fn gather(
    set: &ResultSet,
    rows: Option<&[u32]>,
    spec: &Spec,
    stop: &dyn Fn() -> bool,
) -> io::Result<Data> {
    let labels = column_labels(set.columns());
    let mut places = Places::new(set, spec);
    let counts = spec.how == How::Count || spec.y.is_empty();
    if counts && places.times && matches!(spec.kind, Kind::Line | Kind::Area) {
        places.bucket = bucket(set, rows, &places, stop)?;
    }
    let columns: &[usize] = match spec.by {
        Some(_) => &spec.y[..spec.y.len().min(1)],
        None => &spec.y,
    };
    let mut heap = heap_of(set, rows, &mut places, columns, stop)?;
    let x_name = spec.x.map_or("", |x| labels[x].as_str()).to_string();
    let y_name = heap.measured(spec, columns, &labels);
    let mut series = match spec.by {
        Some(_) => std::mem::take(&mut places.by).all(),
        None if columns.len() > 1 => columns.iter().map(|at| labels[*at].clone()).collect(),
        None => vec![String::new()],
    };
    let panel_names = match spec.panels {
        Some(_) => std::mem::take(&mut places.panels).all(),
        None => vec![String::new()],
    };
    let categories = std::mem::take(&mut places.along).all();
    let how = if counts { How::Count } else { spec.how };
    let mut notes = Vec::new();
    if spec.kind == Kind::Bars {
        heap.few_bars(&mut series, how, &mut notes);
    }
    let counts_of = (series.len(), categories.len());
    let panel_count = panel_names.len();
    let named = panel_names.into_iter().enumerate();
    let mut panels: Vec<Panel> = named
        .map(|(number, name)| Panel {
            name,
            marks: heap.marks(&places, number, how, counts_of),
        })
        .collect();
    if spec.kind != Kind::Heat {
        few_series(&mut series, &mut panels, &mut notes);
    }
    heap.notes(&places, &x_name, panel_count, &mut notes);
    let across = match (spec.kind, places.times) {
        (Kind::Bars | Kind::Boxes | Kind::Heat, _) => Across::Categories(categories),
        (_, true) => Across::Times,
        (_, false) => Across::Numbers,
    };
    Ok(Data {
        names: (x_name, y_name),
        spec: spec.clone(),
        across,
        series,
        panels,
        notes,
        bucket: places.bucket,
        rows: heap.looked_at,
    })
}

/// Batches for each thread at least, where several gather.
const BATCHES: usize = 8;

/// Takes all rows; in several threads where they need to know nothing of each other.
fn heap_of(
    set: &ResultSet,
    rows: Option<&[u32]>,
    places: &mut Places,
    columns: &[usize],
    stop: &dyn Fn() -> bool,
) -> io::Result<Heap> {
    let threads = std::thread::available_parallelism().map_or(1, usize::from);
    let threads = threads.min(set.batches() / BATCHES).min(4);
    if threads < 2 || rows.is_some() || places.named() {
        let mut heap = Heap::default();
        each_row(set, rows, stop, &mut |number, row| {
            heap.take(places, columns, number, row);
            true
        })?;
        return Ok(heap);
    }
    let halt = AtomicBool::new(false);
    let part =
        |number: usize| set.batches() * number / threads..set.batches() * (number + 1) / threads;
    let gathered = |number: usize, mut places: Places, stop: &dyn Fn() -> bool| {
        let mut heap = Heap::default();
        let read = each_row_of(set, part(number), stop, &mut |number, row| {
            heap.take(&mut places, columns, number, row);
            true
        });
        if read.is_err() {
            halt.store(true, Ordering::Relaxed);
        }
        read.map(|()| (heap, places.nowhere))
    };
    let halted = || halt.load(Ordering::Relaxed);
    std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads)
            .map(|number| {
                let (places, gathered, halted) = (places.clone(), &gathered, &halted);
                scope.spawn(move || gathered(number, places, halted))
            })
            .collect();
        let first = gathered(0, places.clone(), &|| halted() || stop());
        let mut parts = vec![first];
        for other in others {
            parts.push(
                other
                    .join()
                    .unwrap_or_else(|panic| std::panic::resume_unwind(panic)),
            );
        }
        let mut heap = Heap::default();
        for part in parts {
            let (next, nowhere) = part?;
            places.nowhere += nowhere;
            heap.append(next);
        }
        Ok(heap)
    })
}

/// Whether several rows fall on one place of a line.
fn repeats(lines: &[Vec<Vec<(f64, Sum)>>]) -> bool {
    lines.iter().flatten().any(|list| {
        list.iter().any(|(_, sum)| sum.rows > 1) || {
            let sorted = list.is_sorted_by(|a, b| a.0 < b.0);
            !sorted && {
                let mut all: Vec<f64> = list.iter().map(|(x, _)| *x).collect();
                all.sort_unstable_by(f64::total_cmp);
                all.windows(2).any(|two| two[0] == two[1])
            }
        }
    })
}

/// The points of a line from the least x to the most, those of one x put together.
fn merged(mut list: Vec<(f64, Sum)>, how: How) -> Vec<(f64, f64)> {
    if !list.is_sorted_by(|a, b| a.0 < b.0) {
        list.sort_by(|a, b| a.0.total_cmp(&b.0));
        list.dedup_by(|later, first| {
            let same = later.0 == first.0;
            if same {
                first.1.join(later.1);
            }
            same
        });
    }
    let value = |(x, sum): (f64, Sum)| (x, sum.value(how).unwrap_or(f64::NAN));
    list.into_iter().map(value).collect()
}

/// Points of one line that are kept, about.
const LINE: usize = 40_000;
/// Columns and rows of the grid on which points are told apart.
const GRID: (f64, f64) = (4_096.0, 2_048.0);

/// Leaves out points of a line that no picture has room for: of each part of what goes along the first, the least, the
/// greatest and the last stay, and every gap.
fn thinned(list: Vec<(f64, f64)>) -> Vec<(f64, f64)> {
    if list.len() <= LINE {
        return list;
    }
    let (from, to) = (list[0].0, list[list.len() - 1].0);
    let parts = (LINE / 4) as f64 / (to / 2.0 - from / 2.0);
    let part = |x: f64| ((x / 2.0 - from / 2.0) * parts) as usize;
    let mut kept = Vec::with_capacity(LINE + 4);
    let mut rest = list.as_slice();
    while let Some((x, _)) = rest.first() {
        let now = part(*x);
        // A part is short: to go through it is quicker than to look for its end in all that is left.
        let end = rest.iter().position(|(x, _)| part(*x) != now);
        let (these, later) = rest.split_at(end.unwrap_or(rest.len()));
        rest = later;
        let (mut least, mut most, mut gap) = (0, 0, None);
        for (at, (_, y)) in these.iter().enumerate() {
            match y.is_nan() {
                true => gap = gap.or(Some(at)),
                false => {
                    if these[least].1.is_nan() || *y < these[least].1 {
                        least = at;
                    }
                    if these[most].1.is_nan() || *y >= these[most].1 {
                        most = at;
                    }
                }
            }
        }
        let mut few = [0, least, most, gap.unwrap_or(0), these.len() - 1];
        few.sort_unstable();
        let mut last = None;
        for at in few {
            if last.replace(at) != Some(at) {
                kept.push(these[at]);
            }
        }
    }
    kept
}

/// Leaves out points that would lie on another one on any screen.
fn apart(list: Vec<(f64, f64, u32)>) -> Vec<(f64, f64, u32)> {
    if list.len() <= LINE {
        return list;
    }
    let bounds = |of: fn(&(f64, f64, u32)) -> f64| {
        let values = || list.iter().map(of);
        let (least, most) = (
            values().fold(f64::INFINITY, f64::min),
            values().fold(f64::NEG_INFINITY, f64::max),
        );
        (least, (most / 2.0 - least / 2.0).max(f64::MIN_POSITIVE))
    };
    let ((x0, width), (y0, height)) = (bounds(|point| point.0), bounds(|point| point.1));
    let mut taken = vec![false; (GRID.0 * GRID.1) as usize];
    let place = |value: f64, from: f64, half: f64, cells: f64| {
        (((value / 2.0 - from / 2.0) / half * cells) as usize).min(cells as usize - 1)
    };
    let mut list = list;
    list.retain(|(x, y, _)| {
        let at = place(*x, x0, width, GRID.0) + place(*y, y0, height, GRID.1) * GRID.0 as usize;
        !std::mem::replace(&mut taken[at], true)
    });
    list
}

/// The series of most weight, as many as can be told apart with one more, in their order; and the others. Nothing where all can be.
fn largest(weights: &[f64]) -> Option<(Vec<usize>, Vec<usize>)> {
    if weights.len() <= MOST_SERIES {
        return None;
    }
    let mut order: Vec<usize> = (0..weights.len()).collect();
    order.sort_by(|a, b| weights[*b].total_cmp(&weights[*a]));
    let mut kept = order[..MOST_SERIES - 1].to_vec();
    kept.sort_unstable();
    let rest = (0..weights.len()).filter(|at| !kept.contains(at)).collect();
    Some((kept, rest))
}

/// Leaves out the lines or points of the smallest series where there are more than can be told apart.
fn few_series(series: &mut Vec<String>, panels: &mut [Panel], notes: &mut Vec<String>) {
    let mut weights = vec![0.0; series.len()];
    for panel in panels.iter() {
        let count = |at: usize| match &panel.marks {
            Marks::Lines(all) => all[at].len(),
            Marks::Points(all) => all[at].len(),
            _ => 0,
        };
        for (at, weight) in weights.iter_mut().enumerate() {
            *weight += count(at) as f64;
        }
    }
    let Some((kept, rest)) = largest(&weights) else {
        return;
    };
    for panel in panels {
        match &mut panel.marks {
            Marks::Lines(all) => *all = taken(all, &kept),
            Marks::Points(all) => *all = taken(all, &kept),
            _ => {}
        }
    }
    *series = taken(series, &kept);
    let count = rest.len();
    notes.push(format!("{count} series with fewer points are left out."));
}

/// Those of a list that stand at these places.
fn taken<T: Default>(list: &mut [T], places: &[usize]) -> Vec<T> {
    places
        .iter()
        .map(|at| std::mem::take(&mut list[*at]))
        .collect()
}

/// The step by which times are counted: the least that makes no more than 150 of them.
fn bucket(
    set: &ResultSet,
    rows: Option<&[u32]>,
    places: &Places,
    stop: &dyn Fn() -> bool,
) -> io::Result<Option<f64>> {
    let (mut least, mut most) = (f64::INFINITY, f64::NEG_INFINITY);
    each_row(set, rows, stop, &mut |_, row| {
        if let Some(at) = places.x(row) {
            least = least.min(at);
            most = most.max(at);
        }
        true
    })?;
    let fits = |step: &&f64| (most - least) / **step <= 150.0;
    Ok((most > least).then(|| {
        BUCKETS
            .iter()
            .find(fits)
            .copied()
            .unwrap_or(31_449_600.0 * 10.0)
    }))
}

const BUCKETS: [f64; 16] = [
    1.0,
    5.0,
    15.0,
    30.0,
    60.0,
    300.0,
    900.0,
    1_800.0,
    3_600.0,
    10_800.0,
    21_600.0,
    43_200.0,
    86_400.0,
    604_800.0,
    2_419_200.0,
    31_449_600.0,
];

fn per(bucket: f64) -> String {
    match bucket as u64 {
        1 => "every second".into(),
        seconds @ 2..60 => format!("every {seconds} s"),
        60 => "every minute".into(),
        seconds @ 61..3_600 => format!("every {} min", seconds / 60),
        3_600 => "every hour".into(),
        seconds @ 3_601..86_400 => format!("every {} h", seconds / 3_600),
        86_400 => "by days".into(),
        604_800 => "by weeks".into(),
        2_419_200 => "every four weeks".into(),
        seconds => format!("every {} weeks", seconds / 604_800),
    }
}

/// The first edge, the width and the number of intervals (Freedman and Diaconis 1981, with at least 5 and at most 60 of them
/// and a width of 1, 2 or 5 times a power of ten).
fn bins<'a>(values: impl Iterator<Item = &'a f64>, whole: bool) -> (f64, f64, usize) {
    let mut sorted: Vec<f64> = values.copied().collect();
    sorted.sort_unstable_by(f64::total_cmp);
    let (Some(least), Some(most)) = (sorted.first().copied(), sorted.last().copied()) else {
        return (0.0, 1.0, 1);
    };
    if least == most {
        return (least - 0.5, 1.0, 1);
    }
    let quantile = |part: f64| sorted[(part * (sorted.len() - 1) as f64) as usize];
    let spread = quantile(0.75) - quantile(0.25);
    let wanted = 2.0 * spread / (sorted.len() as f64).cbrt();
    let length = (most - least).min(f64::MAX);
    let count = if wanted > 0.0 {
        (length / wanted).ceil().clamp(5.0, 60.0)
    } else {
        20.0
    };
    intervals(least, most, count as usize, whole)
}

/// The rows that stand behind a mark.
///
/// # Errors
/// As [`gather`].
pub fn rows_of(
    set: &ResultSet,
    rows: Option<&[u32]>,
    data: &Data,
    panel: usize,
    series: usize,
    key: Key,
    stop: &dyn Fn() -> bool,
) -> io::Result<Vec<u32>> {
    if let Key::Row(row) = key {
        return Ok(vec![row]);
    }
    let spec = &data.spec;
    let mut places = Places::new(set, spec);
    places.bucket = data.bucket;
    let mut found = Vec::new();
    let kept: Vec<&str> = data.series.iter().map(String::as_str).collect();
    each_row(set, rows, stop, &mut |number, row| {
        let Some((at, by, along)) = places.place(row) else {
            return true;
        };
        let of_series = match spec.by {
            None => true,
            Some(_) => {
                let name = places.by.names.get(by).map_or(OTHERS, String::as_str);
                match kept.iter().position(|known| *known == name) {
                    Some(known) => known == series,
                    // What is put together stands last.
                    None => series + 1 == kept.len() && kept[series].starts_with(OTHERS),
                }
            }
        };
        let here = match (
            key,
            &along,
            &data.panels.get(panel).map(|panel| &panel.marks),
        ) {
            (Key::Category(wanted), Along::Category(category), _) => wanted == *category,
            (Key::X(wanted), Along::At(x), _) => wanted == *x,
            (
                Key::Bin(wanted),
                Along::At(x),
                Some(Marks::Bins {
                    from,
                    width,
                    counts,
                }),
            ) => interval_of(*x, *from, *width).min(counts.len() - 1) == wanted,
            _ => false,
        };
        if at == panel && of_series && here {
            found.push(number);
        }
        true
    })?;
    Ok(found)
}
