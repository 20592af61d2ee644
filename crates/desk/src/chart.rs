//! A picture of a result as the content of an entry. It follows its result: once the rows, their order or their filter are
//! others, its numbers are gathered anew.

use std::sync::Arc;

use idle_tide_core::ValueRef;
use idle_tide_core::catalog::{Catalog, Field};
use idle_tide_core::chart::{Data, How, Kind, Role, Spec, roles, unit};
use idle_tide_core::result::ResultSet;
use idle_tide_core::{Column, column_labels};
use idle_tide_draw::chart::{Scene, lay_out};
use idle_tide_lang::command::Parsed;
use idle_tide_lang::dialect::Dialect;
use idle_tide_lang::measured::measured;

use crate::failure::{Failure, plain};
use crate::sheet::{Sheet, read};
use crate::task::EntryId;

/// The size of a picture that is written to a file, in cells.
pub const PAPER: (usize, usize) = (110, 34);

/// What the numbers of a picture were gathered from.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Stamp {
    set: usize,
    rows: Option<usize>,
    count: u64,
    pub(crate) spec: Spec,
}

impl Stamp {
    pub(crate) fn of(sheet: &Sheet, spec: &Spec) -> Self {
        let rows = sheet.view.rows.as_ref();
        Stamp {
            set: Arc::as_ptr(&sheet.set) as usize,
            rows: rows.map(|rows| Arc::as_ptr(rows) as usize),
            count: read(&sheet.set).len(),
            spec: spec.clone(),
        }
    }

    /// The same rows, drawn in another way.
    pub(crate) fn with(self, spec: &Spec) -> Self {
        Stamp {
            spec: spec.clone(),
            ..self
        }
    }
}

/// A picture.
#[derive(Debug, Clone)]
pub struct Chart {
    /// The entry whose result is drawn.
    pub of: EntryId,
    /// What is drawn.
    pub spec: Spec,
    /// The title that was asked for.
    pub named: Option<String>,
    /// Its numbers, once they are there.
    pub data: Option<Arc<Data>>,
    labels: Vec<String>,
    /// What the values of each column are in, where the comment of its column in the catalog says so.
    units: Vec<Option<String>>,
    roles: Vec<Role>,
    pub(crate) stamp: Option<Stamp>,
    /// Whether numbers are being gathered.
    pub(crate) working: bool,
}

impl Chart {
    /// A picture of a result, without its numbers.
    ///
    /// # Errors
    /// In words, if none can be made of it.
    pub(crate) fn new(of: EntryId, sheet: &Sheet, kind: Option<Kind>) -> Result<Self, String> {
        let set = read(&sheet.set);
        let spec = idle_tide_core::chart::propose(&set, kind)?;
        Ok(Self::of(of, &set, spec))
    }

    pub(crate) fn of(of: EntryId, set: &ResultSet, spec: Spec) -> Self {
        Chart {
            of,
            spec,
            named: None,
            data: None,
            labels: column_labels(set.columns()),
            units: vec![None; set.columns().len()],
            roles: roles(set),
            stamp: None,
            working: false,
        }
    }

    /// Takes the units of its columns from the comments of a catalog: of the columns that they are, or that the statement which
    /// gave them brings together.
    pub(crate) fn take_units(
        &mut self,
        columns: &[Column],
        statement: &str,
        catalog: &Catalog,
        dialect: &Dialect,
    ) {
        let mut sources = match dialect.is_flow() {
            true => Vec::new(),
            false => measured(statement, catalog, dialect),
        };
        if sources.len() != columns.len() {
            sources = vec![None; columns.len()];
        }
        let of = |(column, source): (&Column, &Option<Field>)| {
            let origin = column.origin.as_ref();
            let own = origin.and_then(|(table, field)| catalog.table(table)?.field(field));
            unit(own.or(source.as_ref())?.comment.as_deref()?).map(str::to_string)
        };
        self.units = columns.iter().zip(&sources).map(of).collect();
    }

    /// What columns are in, if all of them are in the same.
    fn unit_of(&self, columns: &[usize]) -> String {
        let mut units = columns.iter().map(|at| self.units.get(*at)?.as_deref());
        match units.next().flatten() {
            Some(first) if units.all(|unit| unit == Some(first)) => format!(" ({first})"),
            _ => String::new(),
        }
    }

    /// The number of a column by its label, without regard to ASCII case.
    pub(crate) fn column(&self, name: &str) -> Option<usize> {
        let mut labels = self.labels.iter();
        labels.position(|label| label.eq_ignore_ascii_case(name))
    }

    /// Shows one column alone: how often its values fall into intervals, or how often each of them is there. The kind stays
    /// where it was asked for.
    pub(crate) fn one_column(&mut self, column: usize, kind_asked: bool) {
        let measures = matches!(self.roles.get(column), Some(Role::Number | Role::Time));
        let kind = match (kind_asked, measures) {
            (true, _) => self.spec.kind,
            (_, true) => Kind::Histogram,
            _ => Kind::Bars,
        };
        self.spec = Spec {
            kind,
            x: Some(column),
            y: Vec::new(),
            by: None,
            panels: None,
            how: How::Count,
            stacked: false,
            ordered: kind == Kind::Bars,
            log: false,
        };
    }

    /// The columns it shows.
    fn columns(&self) -> impl Iterator<Item = usize> {
        let spec = &self.spec;
        let all = spec.x.into_iter().chain(spec.y.clone());
        all.chain(spec.by).chain(spec.panels)
    }

    /// The column it shows that is covered in its result.
    pub(crate) fn covered(&self, sheet: &Sheet) -> Option<&str> {
        let covered = sheet.covered_columns();
        let mut columns = self.columns();
        let found = columns.find(|column| covered.contains(column));
        found.map(|column| self.labels[column].as_str())
    }

    /// Its title: the one asked for, or what it shows.
    pub fn title(&self) -> String {
        if let Some(title) = &self.named {
            return title.clone();
        }
        let label = |at: Option<usize>| at.map(|at| self.labels[at].as_str());
        let spec = &self.spec;
        let mut measured = match (&self.data, spec.y.as_slice()) {
            (Some(data), _) if !data.names.1.is_empty() => data.names.1.clone(),
            (_, []) => "rows".into(),
            (_, columns) => columns
                .iter()
                .map(|at| self.labels[*at].as_str())
                .collect::<Vec<_>>()
                .join(", "),
        };
        if measured != "rows" {
            measured.push_str(&self.unit_of(&spec.y));
        }
        let along = spec.x.map_or(String::new(), |at| self.unit_of(&[at]));
        let mut title = match (spec.kind, label(spec.x)) {
            (Kind::Histogram, Some(x)) => format!("rows by {x}{along}"),
            (_, Some(x)) => format!("{measured} by {x}{along}"),
            (_, None) => measured,
        };
        for more in [label(spec.by), label(spec.panels)].into_iter().flatten() {
            title.push_str(&format!(" and {more}"));
        }
        title
    }

    /// Takes the numbers of a picture that nobody has changed yet; its scale becomes logarithmic where a linear one would show
    /// little, and that is said.
    pub(crate) fn take_first(&mut self, mut data: Data) {
        if !self.spec.log
            && let Some((least, most)) = data.spans()
        {
            let number = |value: f64| {
                let text = ValueRef::Float(value).plain();
                text.strip_suffix(".0").map_or(text.clone(), str::to_string)
            };
            data.notes.push(format!(
                "The scale is logarithmic, since the values go from {} to {}.",
                number(least),
                number(most)
            ));
            self.spec.log = true;
            data.spec.log = true;
        }
        self.data = Some(Arc::new(data));
    }

    /// The picture in so many columns and rows of cells; nothing before its numbers are there.
    pub fn scene(&self, width: usize, height: usize) -> Option<Scene> {
        let data = self.data.as_ref()?;
        Some(lay_out(data, &self.title(), width, height))
    }

    /// Another kind: the next one that can be made of these columns.
    pub(crate) fn next_kind(&mut self, sheet: &Sheet) {
        let at = Kind::ALL
            .iter()
            .position(|kind| *kind == self.spec.kind)
            .unwrap_or(0);
        for step in 1..Kind::ALL.len() {
            let kind = Kind::ALL[(at + step) % Kind::ALL.len()];
            if let Ok(spec) = idle_tide_core::chart::propose(&read(&sheet.set), Some(kind)) {
                self.spec = spec;
                return;
            }
        }
    }

    fn of_role(&self, wanted: fn(&Role) -> bool) -> Vec<usize> {
        (0..self.roles.len())
            .filter(|at| wanted(&self.roles[*at]))
            .collect()
    }

    /// Another number; all of them as series after the last, where they can be.
    pub(crate) fn next_value(&mut self) {
        let x = self.spec.x;
        let numbers = self.of_role(|role| matches!(role, Role::Number | Role::Key));
        let mut numbers: Vec<usize> = numbers
            .into_iter()
            .filter(|at| Some(*at) != x || self.spec.kind == Kind::Histogram)
            .collect();
        if self.spec.kind == Kind::Histogram {
            numbers.extend(self.of_role(|role| matches!(role, Role::Time)));
            self.spec.x = after(&numbers, x).or(x);
            return;
        }
        let one = self
            .spec
            .y
            .first()
            .copied()
            .filter(|_| self.spec.y.len() == 1);
        self.spec.y = match after(&numbers, one) {
            Some(next) => vec![next],
            None => Vec::new(),
        };
        match self.spec.y.is_empty() {
            true => self.spec.how = How::Count,
            false if self.spec.how == How::Count => self.spec.how = How::Sum,
            false => {}
        }
        if self.spec.y.is_empty() && matches!(self.spec.kind, Kind::Points | Kind::Boxes) {
            self.spec.y = numbers.into_iter().take(1).collect();
            self.spec.how = How::Sum;
        }
    }

    /// Another column along.
    pub(crate) fn next_along(&mut self) {
        let all = match self.spec.kind {
            Kind::Line | Kind::Area | Kind::Points | Kind::Histogram => {
                self.of_role(|role| matches!(role, Role::Time | Role::Number | Role::Key))
            }
            _ => self.of_role(|role| !matches!(role, Role::Nothing)),
        };
        self.spec.x = after(&all, self.spec.x).or(all.first().copied());
        let x = self.spec.x;
        self.spec.y.retain(|at| Some(*at) != x);
        if self.spec.by == x {
            self.spec.by = None;
        }
    }

    /// Another category for series, or for pictures side by side; none after the last.
    pub(crate) fn next_split(&mut self, panels: bool) {
        let x = self.spec.x;
        let all = self.of_role(|role| matches!(role, Role::Category(_) | Role::Key | Role::Time));
        let all: Vec<usize> = all.into_iter().filter(|at| Some(*at) != x).collect();
        let now = if panels {
            self.spec.panels
        } else {
            self.spec.by
        };
        let next = after(&all, now);
        // One category does one thing.
        let (own, other) = match panels {
            true => (&mut self.spec.panels, &mut self.spec.by),
            false => (&mut self.spec.by, &mut self.spec.panels),
        };
        *own = next;
        if next.is_some() && *other == next {
            *other = None;
        }
        if self.spec.kind == Kind::Heat && self.spec.by.is_none() {
            // It needs two categories; what is left is the second.
            let panels = self.spec.panels;
            self.spec.by = all.into_iter().find(|at| Some(*at) != panels);
            if self.spec.by.is_none() {
                (self.spec.by, self.spec.panels) = (panels, None);
            }
        }
        if self.spec.by.is_some() {
            self.spec.y.truncate(1);
        }
    }

    /// Another way to put values together.
    pub(crate) fn next_how(&mut self) {
        if self.spec.y.is_empty() {
            return;
        }
        let at = How::ALL
            .iter()
            .position(|how| *how == self.spec.how)
            .unwrap_or(0);
        self.spec.how = How::ALL[(at + 1) % How::ALL.len()];
    }
}

/// What stands after one in a list; the first where there is none, nothing after the last.
fn after(list: &[usize], now: Option<usize>) -> Option<usize> {
    match now.and_then(|now| list.iter().position(|at| *at == now)) {
        Some(at) => list.get(at + 1).copied(),
        None => list.first().copied(),
    }
}

/// A change of a picture that a key stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Turned {
    /// The next kind.
    Kind,
    /// The next number.
    Value,
    /// The next column along.
    Along,
    /// The next category for series.
    Split,
    /// The next category for pictures side by side.
    Panels,
    /// Sum, mean or count.
    How,
    /// Series on each other, or beside each other.
    Stacked,
    /// From the largest to the smallest, or as they come.
    Ordered,
    /// A logarithmic scale, or a linear one.
    Log,
}

impl Chart {
    /// Why a change would not be seen in a picture of this kind.
    fn refuses(&self, turned: Turned) -> Option<&'static str> {
        let kind = self.spec.kind;
        let one_by_one = matches!(kind, Kind::Points | Kind::Boxes | Kind::Histogram);
        match turned {
            Turned::How if one_by_one => {
                Some("Every value is drawn as it is; nothing is put together.")
            }
            Turned::Split if matches!(kind, Kind::Boxes | Kind::Histogram) => {
                Some("There is one series; P makes pictures side by side.")
            }
            Turned::Stacked if !matches!(kind, Kind::Bars | Kind::Area) => {
                Some("Only bars and areas stand on each other.")
            }
            Turned::Stacked if self.spec.by.is_none() && self.spec.y.len() < 2 => {
                Some("There is one series; B splits it into several that can stack.")
            }
            Turned::Ordered if !matches!(kind, Kind::Bars | Kind::Boxes | Kind::Heat) => {
                Some("What goes along a scale has its order.")
            }
            Turned::Log if kind == Kind::Heat => {
                Some("Shades have no scale that could be logarithmic.")
            }
            _ => None,
        }
    }

    /// What of the options that were asked for would not be seen.
    pub(crate) fn refused_option(&self, options: &[&str]) -> Option<&'static str> {
        let asks = |option: &str| options.contains(&option);
        if asks("y") && self.spec.kind == Kind::Histogram {
            return Some("A histogram draws one column; --x says which.");
        }
        let turned = [
            ("how", Turned::How),
            ("by", Turned::Split),
            ("stacked", Turned::Stacked),
            ("ordered", Turned::Ordered),
            ("log", Turned::Log),
        ];
        let mut refused = turned.iter().filter(|(option, _)| asks(option));
        refused.find_map(|(_, turned)| self.refuses(*turned))
    }

    /// Changes it; says why not, where it cannot.
    pub(crate) fn turn(&mut self, turned: Turned, sheet: &Sheet) -> Option<&'static str> {
        if let Some(words) = self.refuses(turned) {
            return Some(words);
        }
        let before = self.spec.clone();
        match turned {
            Turned::Kind => self.next_kind(sheet),
            Turned::Value => self.next_value(),
            Turned::Along => self.next_along(),
            Turned::Split => self.next_split(false),
            Turned::Panels => self.next_split(true),
            Turned::How => self.next_how(),
            Turned::Stacked => self.spec.stacked = !self.spec.stacked,
            Turned::Ordered => self.spec.ordered = !self.spec.ordered,
            Turned::Log => self.spec.log = !self.spec.log,
        }
        if self.spec != before {
            return None;
        }
        Some(match turned {
            Turned::Kind => "No other kind of picture can be made of these columns.",
            Turned::Value => "There is no other number to draw.",
            Turned::Along => "No other column can go along.",
            Turned::How => "Rows are counted; V chooses a number to add up.",
            _ => "There is no category to split it by.",
        })
    }
}

/// What the options of the command ask for.
pub(crate) fn choose(chart: &mut Chart, parsed: &Parsed) -> Result<(), Failure> {
    let mut values = Vec::new();
    for (option, part) in &parsed.options {
        let Some(part) = part else {
            match *option {
                "stacked" => chart.spec.stacked = true,
                "ordered" => chart.spec.ordered = true,
                "log" => chart.spec.log = true,
                _ => {}
            }
            continue;
        };
        let column = || {
            chart.column(&part.text).ok_or_else(|| Failure {
                place: Some(part.span.clone()),
                ..plain(format!(
                    "The result that is drawn has no column {}.",
                    part.text
                ))
            })
        };
        match *option {
            "of" => chart.one_column(column()?, parsed.argument(0).is_some()),
            "x" => chart.spec.x = Some(column()?),
            "y" => values.push(column()?),
            "by" => chart.spec.by = Some(column()?),
            "panels" => chart.spec.panels = Some(column()?),
            "how" => chart.spec.how = How::named(&part.text).unwrap_or(How::Sum),
            "title" => chart.named = Some(part.text.clone()),
            _ => {}
        }
    }
    if !values.is_empty() {
        chart.spec.y = values;
        if chart.spec.how == How::Count && parsed.option("how").is_none() {
            chart.spec.how = How::Sum;
        }
    }
    let x = chart.spec.x;
    if parsed.option("x").is_some() {
        chart.spec.y.retain(|at| Some(*at) != x);
    }
    if chart.spec.by.is_some() && chart.spec.by == x {
        chart.spec.by = None;
    }
    let options: Vec<&str> = parsed.options.iter().map(|(name, _)| *name).collect();
    chart
        .refused_option(&options)
        .map_or(Ok(()), |words| Err(plain(words)))
}
