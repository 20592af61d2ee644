//! A picture of a result as the content of an entry. It follows its result: once the rows, their order or their filter are
//! others, its numbers are gathered anew.

use std::sync::Arc;

use idle_tide_core::chart::{Data, How, Key, Kind, Role, Spec, gather, roles, rows_of};
use idle_tide_core::column_labels;
use idle_tide_core::result::ResultSet;
use idle_tide_draw::chart::{Scene, lay_out};
use idle_tide_engines::{EngineError, Fault};
use idle_tide_lang::command::Parsed;

use crate::entry::{Content, Entry, State};
use crate::page::Tone;
use crate::session::{Next, Task, Turn};
use crate::sheet::{Sheet, read};
use crate::task::{Bench, EntryId, Lane, Work, stopped};

/// The size of a picture that is written to a file, in cells.
pub const PAPER: (usize, usize) = (110, 34);

/// What the numbers of a picture were gathered from.
#[derive(Debug, Clone, PartialEq)]
struct Stamp {
    set: usize,
    rows: Option<usize>,
    count: u64,
    spec: Spec,
}

impl Stamp {
    fn of(sheet: &Sheet, spec: &Spec) -> Self {
        let rows = sheet.view.rows.as_ref();
        Stamp {
            set: Arc::as_ptr(&sheet.set) as usize,
            rows: rows.map(|rows| Arc::as_ptr(rows) as usize),
            count: read(&sheet.set).len(),
            spec: spec.clone(),
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
    roles: Vec<Role>,
    stamp: Option<Stamp>,
    /// Whether numbers are being gathered.
    working: bool,
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

    fn of(of: EntryId, set: &ResultSet, spec: Spec) -> Self {
        Chart {
            of,
            spec,
            named: None,
            data: None,
            labels: column_labels(set.columns()),
            roles: roles(set),
            stamp: None,
            working: false,
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
        let measured = match (&self.data, spec.y.as_slice()) {
            (Some(data), _) if !data.names.1.is_empty() => data.names.1.clone(),
            (_, []) => "rows".into(),
            (_, columns) => columns
                .iter()
                .map(|at| self.labels[*at].as_str())
                .collect::<Vec<_>>()
                .join(", "),
        };
        let mut title = match (spec.kind, label(spec.x)) {
            (Kind::Histogram, Some(x)) => format!("rows by {x}"),
            (_, Some(x)) => format!("{measured} by {x}"),
            (_, None) => measured,
        };
        for more in [label(spec.by), label(spec.panels)].into_iter().flatten() {
            title.push_str(&format!(" and {more}"));
        }
        title
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

/// The picture that the arguments of `/chart` ask for, of a result that no entry has; in so many columns and rows of cells.
///
/// # Errors
/// In words, if it cannot be made.
pub fn as_asked(set: &ResultSet, asked: &str, size: (usize, usize)) -> Result<Scene, String> {
    let parsed = parsed(asked)?;
    let spec = idle_tide_core::chart::propose(set, parsed.argument(0).and_then(Kind::named))?;
    let mut chart = Chart::of(0, set, spec);
    crate::verbs::chart::choose(&mut chart, &parsed).map_err(|failure| failure.headline)?;
    let data = gather(set, None, &chart.spec, &|| false).map_err(|error| error.to_string())?;
    chart.data = Some(Arc::new(data));
    chart
        .scene(size.0, size.1)
        .ok_or_else(|| "There is nothing to draw.".into())
}

/// Whether the arguments of `/chart` are understood.
///
/// # Errors
/// In words, if they are not.
pub fn check_asked(asked: &str) -> Result<(), String> {
    parsed(asked).map(drop)
}

fn parsed(asked: &str) -> Result<Parsed, String> {
    idle_tide_lang::command::parse(&format!("/chart {asked}")).map_err(|error| error.message)
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

    /// What gathers its numbers, if they are no longer those of its result.
    pub(crate) fn renewal(&mut self, number: EntryId, sheet: &Sheet) -> Option<Gather> {
        let stamp = Stamp::of(sheet, &self.spec);
        if self.working || self.stamp.as_ref() == Some(&stamp) {
            return None;
        }
        self.working = true;
        Some(Gather {
            entry: number,
            sheet: sheet.clone(),
            stamp,
            data: None,
        })
    }
}

/// Makes a picture: it is shown once its numbers are there.
pub(crate) struct First {
    chart: Chart,
    gather: Gather,
}

impl First {
    pub(crate) fn new(mut chart: Chart, sheet: &Sheet) -> Self {
        // The entry has no number yet.
        let gather = Gather {
            entry: 0,
            stamp: Stamp::of(sheet, &chart.spec),
            sheet: sheet.clone(),
            data: None,
        };
        chart.stamp = Some(gather.stamp.clone());
        chart.working = false;
        First { chart, gather }
    }
}

impl Work for First {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        self.gather.work(at)
    }
}

impl Task for First {
    fn ended(self: Box<Self>, _: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let First { mut chart, gather } = *self;
        match how {
            Ok(()) => {
                chart.data = gather.data.map(Arc::new);
                Next::Done(Content::Chart(Box::new(chart)))
            }
            Err(error) if error.fault == Fault::Cancelled => Next::NotRun,
            Err(error) => Next::refuse(error.message),
        }
    }
}

/// Gathers the numbers of a picture.
pub(crate) struct Gather {
    entry: EntryId,
    sheet: Sheet,
    stamp: Stamp,
    data: Option<Data>,
}

impl Work for Gather {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let set = read(&self.sheet.set);
        let rows = self.sheet.view.rows.as_ref().map(|rows| rows.as_slice());
        let gathered = gather(&set, rows, &self.stamp.spec, &|| at.stopped());
        self.data = Some(gathered.map_err(|error| match error.kind() {
            std::io::ErrorKind::Interrupted => stopped(),
            _ => EngineError::plain(error.to_string()),
        })?);
        Ok(())
    }
}

impl Task for Gather {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        let entry = turn.entries.get_mut(self.entry);
        let Some(Content::Chart(chart)) = entry.map(|entry| &mut entry.content) else {
            return Next::Keep;
        };
        chart.working = false;
        chart.stamp = Some(self.stamp);
        match (how, self.data) {
            (Ok(()), Some(data)) => chart.data = Some(Arc::new(data)),
            (Err(error), _) if error.fault != Fault::Cancelled => {
                let words = format!("The picture could not be made: {}", error.message);
                turn.say(words, Tone::Danger);
            }
            _ => {}
        }
        Next::Keep
    }
}

/// Finds the rows behind a mark, and shows them as an entry.
pub(crate) struct Behind {
    chart: EntryId,
    of: EntryId,
    sheet: Sheet,
    data: Arc<Data>,
    mark: (usize, usize, Key),
    words: String,
    rows: Vec<u32>,
}

impl Behind {
    /// The rows behind a mark of an entry's picture; `words` say which mark it is.
    pub(crate) fn new(
        entry: &Entry,
        sheet: &Sheet,
        mark: (usize, usize, Key),
        words: &str,
    ) -> Option<Self> {
        let Content::Chart(chart) = &entry.content else {
            return None;
        };
        Some(Behind {
            chart: entry.number,
            of: chart.of,
            sheet: sheet.clone(),
            data: Arc::clone(chart.data.as_ref()?),
            mark,
            words: words.to_string(),
            rows: Vec::new(),
        })
    }
}

impl Work for Behind {
    fn lane(&self) -> Lane {
        Lane::Free
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let set = read(&self.sheet.set);
        let rows = self.sheet.view.rows.as_ref().map(|rows| rows.as_slice());
        let (panel, series, key) = self.mark;
        let found = rows_of(&set, rows, &self.data, panel, series, key, &|| at.stopped());
        self.rows = found.map_err(|error| EngineError::plain(error.to_string()))?;
        Ok(())
    }
}

impl Task for Behind {
    fn ended(self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        if let Err(error) = how {
            turn.say(error.message, Tone::Danger);
            return Next::Keep;
        }
        let text = format!("rows of entry {} behind {}", self.of, self.words);
        turn.make_entry(&text, false);
        if let Some(own) = turn.own() {
            let mut sheet = self.sheet;
            sheet.view.rows = Some(Arc::new(self.rows));
            own.came_from = Some(self.chart);
            own.content = Content::Rows(sheet);
            own.state = State::Done;
        }
        Next::Keep
    }
}
