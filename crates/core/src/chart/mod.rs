//! What a picture of a result shows: which kinds there are, which one fits its columns, and its numbers, gathered from the
//! rows. How it is laid out and drawn is the business of `draw`.

mod gather;
mod role;
pub mod scale;
mod unit;

pub use gather::{Across, Box5, Data, Key, Marks, OTHERS, Panel, gather, rows_of};
pub use role::{Role, roles};
pub use unit::unit;

use crate::column::column_labels;
use crate::result::ResultSet;

/// A kind of picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A bar for each category.
    Bars,
    /// A line over time or numbers.
    Line,
    /// The same with the ground below it filled.
    Area,
    /// A point for each row.
    Points,
    /// How often numbers fall into intervals.
    Histogram,
    /// Quartiles of a number for each category.
    Boxes,
    /// Two categories and how much falls on each pair of theirs.
    Heat,
}

impl Kind {
    /// All, in the order in which they are offered.
    pub const ALL: [Kind; 7] = [
        Kind::Bars,
        Kind::Line,
        Kind::Area,
        Kind::Points,
        Kind::Histogram,
        Kind::Boxes,
        Kind::Heat,
    ];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Kind::Bars => "bars",
            Kind::Line => "line",
            Kind::Area => "area",
            Kind::Points => "points",
            Kind::Histogram => "histogram",
            Kind::Boxes => "box",
            Kind::Heat => "heat",
        }
    }

    /// The kind of a name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}

/// What is made of several values that fall on one mark.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// Their sum.
    Sum,
    /// Their arithmetic mean.
    Mean,
    /// How many rows there are.
    Count,
}

impl How {
    /// All.
    pub const ALL: [How; 3] = [How::Sum, How::Mean, How::Count];

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            How::Sum => "sum",
            How::Mean => "mean",
            How::Count => "count",
        }
    }

    /// The one of a name.
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|how| how.name() == name)
    }
}

/// What is drawn: the kind and the columns, by number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spec {
    /// The kind.
    pub kind: Kind,
    /// What goes along: categories, time or numbers.
    pub x: Option<usize>,
    /// The numbers, a series each; rows are counted where there is none.
    pub y: Vec<usize>,
    /// The category that makes a series of each of its values; only the first number is drawn then.
    pub by: Option<usize>,
    /// The category that makes a picture of each of its values.
    pub panels: Option<usize>,
    /// What is made of several values on one mark.
    pub how: How,
    /// Whether series of bars and areas stand on each other.
    pub stacked: bool,
    /// Whether bars go from the largest to the smallest.
    pub ordered: bool,
    /// Whether the scale of numbers is logarithmic.
    pub log: bool,
}

/// Most values of a category that become series of their own.
pub const MOST_SERIES: usize = 8;

/// The kind that fits so many times, numbers and categories; `names_rows` says that the first two categories hardly come again,
/// `unordered` that there is no number that only counts on.
fn usual_kind(
    set: &ResultSet,
    counts: (usize, usize, usize),
    names_rows: bool,
    unordered: bool,
) -> Result<Kind, String> {
    Ok(match counts {
        (1.., 1.., _) => Kind::Line,
        (_, 1.., 2..) if names_rows => Kind::Heat,
        (_, 1.., 1..) => Kind::Bars,
        (_, 2.., _) => Kind::Points,
        (_, 1, _) if unordered || set.len() > 60 => Kind::Histogram,
        (_, 1, _) => Kind::Bars,
        (1.., 0, _) => Kind::Line,
        (_, 0, 2..) => Kind::Heat,
        (_, 0, 1) => Kind::Bars,
        _ if !unordered && set.len() > 1 => Kind::Histogram,
        _ => {
            let names = column_labels(set.columns()).join(", ");
            let names = if names.is_empty() {
                "no columns"
            } else {
                &names
            };
            return Err(format!(
                "There is nothing to draw in {names}: a picture needs a number, a time or a category."
            ));
        }
    })
}

/// Columns by what they can be in a picture.
struct Choice {
    times: Vec<usize>,
    numbers: Vec<usize>,
    ordinals: Vec<usize>,
    categories: Vec<usize>,
    /// Those of the categories that make series: their few values come again and again; names of single rows do not.
    few: Vec<usize>,
}

impl Choice {
    fn of(set: &ResultSet) -> Self {
        let roles = roles(set);
        let of = |role: fn(&Role) -> bool| -> Vec<usize> {
            (0..roles.len()).filter(|at| role(&roles[*at])).collect()
        };
        let rows = usize::try_from(set.len()).unwrap_or(usize::MAX);
        let categories = of(|role| matches!(role, Role::Category(_)));
        let few = |at: &usize| match roles[*at] {
            Role::Category(count) => (2..=MOST_SERIES).contains(&count) && rows >= 2 * count,
            _ => false,
        };
        Choice {
            times: of(|role| matches!(role, Role::Time)),
            numbers: of(|role| matches!(role, Role::Number)),
            ordinals: of(|role| matches!(role, Role::Key)),
            few: categories.iter().copied().filter(few).collect(),
            categories,
        }
    }

    /// The kind that fits.
    fn kind(&self, set: &ResultSet) -> Result<Kind, String> {
        let names_rows = self.categories.len() >= 2
            && self.categories[..2].iter().all(|at| !self.few.contains(at));
        let counts = (self.times.len(), self.numbers.len(), self.categories.len());
        usual_kind(set, counts, names_rows, self.ordinals.is_empty())
    }

    /// The number that a picture of one number shows.
    fn number(&self) -> Option<usize> {
        self.numbers.first().or(self.ordinals.last()).copied()
    }

    /// Puts the series into a picture whose places are known: the numbers besides, or one of them by a category.
    fn put_series(&self, spec: &mut Spec) {
        let besides = |at: &usize| Some(*at) != spec.x;
        spec.y = self.numbers.iter().copied().filter(besides).collect();
        spec.by = self.few.iter().copied().find(besides);
        let most = if spec.by.is_some() { 1 } else { MOST_SERIES };
        spec.y.truncate(most);
    }

    /// Puts the columns into a picture of its kind.
    ///
    /// # Errors
    /// What it lacks.
    fn put(&self, spec: &mut Spec) -> Result<(), &'static str> {
        let (times, numbers) = (&self.times, &self.numbers);
        let (ordinals, categories) = (&self.ordinals, &self.categories);
        match spec.kind {
            Kind::Line | Kind::Area => {
                let along = times.first().or(ordinals.first()).or(numbers.first());
                spec.x = along.copied();
                spec.x.ok_or("a time or a number along which it goes")?;
                self.put_series(spec);
            }
            Kind::Points => {
                let mut all = numbers.iter().chain(times).chain(ordinals).copied();
                let (x, y) = (all.next(), all.next());
                spec.x = x;
                spec.y = vec![y.ok_or("two numbers, or a time and a number")?];
                spec.by = self.few.first().copied();
            }
            Kind::Histogram => {
                spec.x = self.number().or(times.first().copied());
                spec.x.ok_or("a number or a time")?;
            }
            Kind::Bars => {
                let mut along = categories
                    .iter()
                    .chain(times)
                    .chain(ordinals)
                    .chain(numbers);
                spec.x = along.next().copied();
                spec.x.ok_or("a category")?;
                self.put_series(spec);
            }
            Kind::Boxes => {
                spec.x = categories.iter().chain(ordinals).copied().next();
                let number = self.number().filter(|number| Some(*number) != spec.x);
                spec.y = vec![number.ok_or("a number")?];
            }
            Kind::Heat => {
                let mut all = categories.iter().chain(times).chain(ordinals).copied();
                (spec.x, spec.by) = (all.next(), all.next());
                spec.by.ok_or("two categories")?;
                spec.y = numbers.iter().copied().take(1).collect();
            }
        }
        Ok(())
    }
}

/// The picture that fits a result best, of a kind if one is named.
///
/// # Errors
/// In words, if none can be made of its columns.
pub fn propose(set: &ResultSet, kind: Option<Kind>) -> Result<Spec, String> {
    let choice = Choice::of(set);
    let kind = match kind {
        Some(kind) => kind,
        None => choice.kind(set)?,
    };
    let mut spec = Spec {
        kind,
        x: None,
        y: Vec::new(),
        by: None,
        panels: None,
        how: How::Sum,
        stacked: false,
        ordered: false,
        log: false,
    };
    choice
        .put(&mut spec)
        .map_err(|what| format!("A picture of kind {} needs {what}.", kind.name()))?;
    if spec.y.len() > 1 {
        // Numbers of another order of magnitude would flatten the others.
        let sizes = role::sizes(set);
        let first = sizes[spec.y[0]];
        spec.y
            .retain(|at| sizes[*at] <= first * 8.0 && sizes[*at] >= first / 8.0);
    }
    if spec.y.is_empty() {
        spec.how = How::Count;
    }
    Ok(spec)
}

#[cfg(test)]
mod tests;
