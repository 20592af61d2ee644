//! Where everything of a picture goes.

use std::borrow::Cow;
use std::collections::BTreeMap;

use idle_tide_core::chart::scale::{Of, Scale, number_words, plain_words, short_words, time_words};
use idle_tide_core::chart::{Across, Box5, Data, How, Key, Kind, Marks, OTHERS, Panel};
use unicode_width::UnicodeWidthStr;

use super::{FILLS, Hit, Role, SIGNS, Scene, Shape, Text};
use crate::marks::show_label;

/// Columns without which nothing is drawn.
const NARROWEST: usize = 10;
/// The least a panel needs.
const PANEL: (usize, usize) = (24, 6);
/// Widest name of a category at the side.
const WIDEST: usize = 28;
/// Points of one line that are drawn without being thinned, by column of dots.
const POINTS: usize = 4;

/// A part of the picture, in cells.
#[derive(Clone, Copy)]
struct Area {
    x: usize,
    y: usize,
    width: usize,
    height: usize,
}

impl Area {
    fn right(self) -> usize {
        self.x + self.width
    }

    fn bottom(self) -> usize {
        self.y + self.height
    }
}

/// Lays a picture out in so many columns and rows; its title stands above it.
pub fn lay_out(data: &Data, title: &str, width: usize, height: usize) -> Scene {
    let mut scene = Scene {
        width,
        height,
        series: data.series.clone(),
        ..Scene::default()
    };
    if width < 12 || height < 4 {
        scene.write(0, 0, width, "no room", Role::Note);
        return scene;
    }
    scene.write(0, 0, width, title, Role::Title);
    let mut notes = data.notes.clone();
    let mut top = 1;
    let legend = data.series.len() > 1 && !matches!(data.spec.kind, Kind::Line | Kind::Heat);
    if legend {
        let signs: &[char] = match data.spec.kind {
            Kind::Bars | Kind::Area => &FILLS,
            _ => &SIGNS,
        };
        top += scene.legend(&data.series, signs, top);
    }
    // Notes that laying out adds are not known yet; they get the line below the title.
    let notes_at = top;
    top += 1 + usize::from(height > 18);
    let area = Area {
        x: 0,
        y: top,
        width,
        height: height.saturating_sub(top),
    };
    if data.rows == 0 || data.panels.iter().all(is_empty) {
        let words = match data.rows {
            0 => "There are no rows to draw.",
            _ => "None of the rows has a value to draw.",
        };
        scene.write(0, top + 1, width, words, Role::Note);
    } else if area.height < 3 || area.width < NARROWEST {
        notes = vec!["no room".into()];
    } else {
        panels(&mut scene, data, area, &mut notes);
    }
    let mut words = notes.join("  ");
    if words.width() > width {
        // The first are the weightiest.
        while notes.len() > 1 && notes.join("  ").width() + 8 > width {
            notes.pop();
        }
        words = format!("{} …", notes.join("  "));
    }
    scene.write(0, notes_at, width, &words, Role::Note);
    scene
}

fn is_empty(panel: &Panel) -> bool {
    match &panel.marks {
        Marks::Values(all) => all.iter().flatten().all(Option::is_none),
        Marks::Lines(all) => all.iter().flatten().all(|(_, y)| y.is_nan()),
        Marks::Points(all) => all.iter().all(Vec::is_empty),
        Marks::Bins { counts, .. } => counts.iter().all(|count| *count == 0),
        Marks::Boxes(all) => all.iter().all(Option::is_none),
    }
}

impl Scene {
    /// Writes a text that may take so many cells; a longer one is shortened, and says so.
    fn write(&mut self, x: usize, y: usize, room: usize, text: &str, role: Role) -> usize {
        if room == 0 || y >= self.height || text.is_empty() {
            return 0;
        }
        let shown = show_label(text, room);
        let width = shown.width.min(room);
        self.texts.push(Text {
            x,
            y,
            text: shown.text(),
            role,
        });
        width
    }

    /// The same, ending before a column.
    fn write_before(&mut self, end: usize, y: usize, room: usize, text: &str, role: Role) {
        let width = show_label(text, room).width.min(room);
        self.write(end.saturating_sub(width), y, room, text, role);
    }

    /// The names of series with their signs; answers how many rows they take.
    fn legend(&mut self, series: &[String], signs: &[char], y: usize) -> usize {
        let (mut x, mut row) = (0, 0);
        for (at, name) in series.iter().enumerate() {
            let name = format!("{} {}", signs[at % signs.len()], name);
            let width = show_label(&name, 30).width;
            if x > 0 && x + width > self.width {
                (x, row) = (0, row + 1);
            }
            x += self.write(
                x,
                y + row,
                30.min(self.width - x.min(self.width)),
                &name,
                Role::Series(at),
            ) + 3;
        }
        row + 1
    }
}

/// The scales that all panels share.
struct Scales {
    /// Along: nothing for categories.
    x: Option<Scale>,
    /// What is measured.
    y: Scale,
}

fn scales(data: &Data) -> Scales {
    let (mut x, mut y) = (Extent::default(), Extent::default());
    for panel in &data.panels {
        match &panel.marks {
            Marks::Values(all) if data.spec.stacked => {
                let count = all.first().map_or(0, Vec::len);
                for category in 0..count {
                    let (below, above) = sides(all, category);
                    y.add(below);
                    y.add(above);
                }
            }
            Marks::Values(all) => all
                .iter()
                .flatten()
                .flatten()
                .for_each(|value| y.add(*value)),
            Marks::Lines(all) => {
                all.iter().flatten().for_each(|(at, value)| {
                    x.add(*at);
                    y.add(*value);
                });
                if data.spec.kind == Kind::Area && data.spec.stacked {
                    // With values below zero a layer further down may be the highest.
                    stacked(all)
                        .iter()
                        .flatten()
                        .for_each(|(_, value)| y.add(*value));
                }
            }
            Marks::Points(all) => all.iter().flatten().for_each(|(at, value, _)| {
                x.add(*at);
                y.add(*value);
            }),
            Marks::Bins {
                from,
                width,
                counts,
            } => {
                x.add(*from);
                x.add(from + width * counts.len() as f64);
                counts.iter().for_each(|count| y.add(*count as f64));
            }
            Marks::Boxes(all) => all.iter().flatten().for_each(|five| {
                let beyond = five.beyond.iter();
                beyond
                    .chain([&five.low, &five.high])
                    .for_each(|value| y.add(*value));
            }),
        }
    }
    let of = match data.across {
        Across::Times => Of::Times,
        _ => Of::Numbers,
    };
    // Bars and areas begin at zero, and what they measure is their length.
    let from_zero = matches!(
        data.spec.kind,
        Kind::Bars | Kind::Area | Kind::Histogram | Kind::Heat
    );
    if from_zero {
        y.add(0.0);
    }
    let of_y = match data.spec.log && y.least > 0.0 {
        true => Of::Powers,
        false => Of::Numbers,
    };
    Scales {
        x: (!matches!(data.across, Across::Categories(_)))
            .then(|| Scale::over(x.least, x.most, of)),
        y: Scale::over(y.least, y.most, of_y),
    }
}

struct Extent {
    least: f64,
    most: f64,
}

impl Default for Extent {
    fn default() -> Self {
        Extent {
            least: f64::INFINITY,
            most: f64::NEG_INFINITY,
        }
    }
}

impl Extent {
    fn add(&mut self, value: f64) {
        if value.is_finite() {
            self.least = self.least.min(value);
            self.most = self.most.max(value);
        }
    }
}

/// What of a stack stands below zero, and what above.
fn sides(all: &[Vec<Option<f64>>], category: usize) -> (f64, f64) {
    let values = all
        .iter()
        .filter_map(|list| list.get(category).copied().flatten());
    values.fold((0.0, 0.0), |(below, above), value| match value < 0.0 {
        true => (below + value, above),
        false => (below, above + value),
    })
}

/// Lines on each other: at every place where one of them has a point, the sum so far.
fn stacked(all: &[Vec<(f64, f64)>]) -> Vec<Vec<(f64, f64)>> {
    let mut places: BTreeMap<u64, f64> = BTreeMap::new();
    let key = |x: f64| {
        (
            x.to_bits() ^ ((x.to_bits() as i64 >> 63) as u64 | 1 << 63),
            x,
        )
    };
    for (x, _) in all.iter().flatten() {
        let (order, x) = key(*x);
        places.insert(order, x);
    }
    let mut sums: BTreeMap<u64, f64> = places.keys().map(|order| (*order, 0.0)).collect();
    let mut out = Vec::new();
    for list in all {
        for (x, y) in list.iter().filter(|(_, y)| !y.is_nan()) {
            if let Some(sum) = sums.get_mut(&key(*x).0) {
                *sum += y;
            }
        }
        out.push(places.iter().map(|(order, x)| (*x, sums[order])).collect());
    }
    out
}

fn panels(scene: &mut Scene, data: &Data, area: Area, notes: &mut Vec<String>) {
    let scales = scales(data);
    if data.spec.log && scales.y.of != Of::Powers {
        notes.push(
            "A logarithmic scale needs numbers greater than zero; this one is linear.".into(),
        );
    }
    let count = data.panels.len();
    if count == 1 {
        return panel(scene, data, 0, area, &scales, notes);
    }
    // As many columns as keep panels about three times as wide as high.
    let fits = |columns: usize| {
        let rows = count.div_ceil(columns);
        (area.width / columns, area.height / rows.max(1))
    };
    let shape = |columns: &usize| {
        let (width, height) = fits(*columns);
        let ratio = width as f64 / height.max(1) as f64;
        ((ratio / 3.5).ln().abs() * 1e6) as u64
    };
    let most = (area.width / PANEL.0).clamp(1, count);
    let columns = (1..=most).min_by_key(shape).unwrap_or(1);
    let (width, height) = fits(columns);
    let height = height.max(PANEL.1 + 1);
    let shown = (area.height / height) * columns;
    for at in 0..count.min(shown) {
        let within = Area {
            x: area.x + at % columns * width,
            y: area.y + at / columns * height,
            width: width - 2,
            height: height - 1,
        };
        let name = &data.panels[at].name;
        scene.write(within.x, within.y, within.width, name, Role::Label);
        let within = Area {
            y: within.y + 1,
            height: within.height - 1,
            ..within
        };
        panel(scene, data, at, within, &scales, notes);
    }
    if shown < count {
        notes.insert(0, format!("{shown} of {count} pictures have room."));
    }
    let mut seen = std::collections::HashSet::new();
    notes.retain(|note| seen.insert(note.clone()));
}

fn panel(
    scene: &mut Scene,
    data: &Data,
    at: usize,
    area: Area,
    scales: &Scales,
    notes: &mut Vec<String>,
) {
    let panel = &data.panels[at];
    match &panel.marks {
        Marks::Values(all) if data.spec.kind == Kind::Heat => {
            heat(scene, data, at, all, area, notes)
        }
        Marks::Values(all) => {
            let lying = Lying::new(data, all, area.height, scales.y, notes);
            lying.draw(scene, data, at, area);
        }
        Marks::Boxes(all) => boxes(scene, data, at, all, area, scales, notes),
        Marks::Lines(_) | Marks::Points(_) | Marks::Bins { .. } => {
            upright(scene, data, at, area, scales, notes)
        }
    }
}

/// Which categories have room, in their order, and how many do not; where some have none, a row is left for them together.
fn chosen(data: &Data, weights: &[f64], room: usize) -> (Vec<usize>, usize) {
    let room = match weights.len() > room {
        true => room.saturating_sub(1).max(1),
        false => room,
    };
    within(weights, room, data.spec.ordered)
}

fn names(data: &Data) -> &[String] {
    match &data.across {
        Across::Categories(names) => names,
        _ => &[],
    }
}

/// The room that names at the side need.
fn side<'a>(names: impl Iterator<Item = &'a str>, area: Area) -> usize {
    let widest = names
        .map(|name| show_label(name, WIDEST).width)
        .max()
        .unwrap_or(0);
    widest.min(WIDEST).min(area.width * 2 / 5)
}

/// A scale that lies below an area: ticks with words that do not touch. Answers the scale, which may have grown to its
/// ticks.
fn lying_scale(scene: &mut Scene, scale: Scale, area: Area, grid: bool) -> Scale {
    let most = (area.width / 10).clamp(2, 12);
    let scale = match scale.of {
        Of::Times => scale,
        _ => scale.rounded(most),
    };
    let mut free = area.x.saturating_sub(8);
    for (value, words) in scale.ticks(most) {
        let x = area.x as f64 + scale.place(value) * area.width as f64;
        let width = words.width();
        let start = (x.round() as usize).saturating_sub(width / 2);
        let start = start
            .min(scene.width.saturating_sub(width))
            .max(area.x.saturating_sub(width / 2));
        if grid {
            scene.shapes.push(Shape::Grid {
                from: (x, area.y as f64),
                to: (x, area.bottom() as f64),
                strong: false,
            });
        }
        if start >= free && start + width <= area.right() + 6 {
            scene.write(start, area.bottom(), width, &words, Role::Tick);
            free = start + width + 2;
        }
    }
    scale
}

/// What a mark says: its place along, its series, its value.
fn says(data: &Data, panel: usize, along: &str, series: usize, value: f64) -> String {
    let mut words = along.to_string();
    if data.panels.len() > 1 {
        words = format!("{} · {words}", data.panels[panel].name);
    }
    let mut measured = data.names.1.clone();
    match data.series.get(series).map(String::as_str) {
        Some("") | None => {}
        Some(name) if data.spec.by.is_none() => measured = name.to_string(),
        Some(name) => words.push_str(&format!(" · {name}")),
    }
    format!("{words}   {measured} {}", plain_words(value))
        .trim_start_matches([' ', '·'])
        .to_string()
}

/// Bars that lie, one line or group of lines under the other.
struct Lying<'a> {
    all: &'a [Vec<Option<f64>>],
    /// What the categories without a line of their own come to.
    rest: Vec<Option<f64>>,
    /// The lines: their names and their categories; none for those that are put together.
    lines: Vec<(String, Option<usize>)>,
    stacked: bool,
    /// Bars of a line, and rows of cells that each takes, and that lie between lines.
    each: usize,
    thick: usize,
    gap: usize,
    /// Rows of cells in all.
    rows: usize,
    scale: Scale,
}

impl<'a> Lying<'a> {
    /// Chooses what has room; what has not is said.
    fn new(
        data: &Data,
        all: &'a [Vec<Option<f64>>],
        height: usize,
        scale: Scale,
        notes: &mut Vec<String>,
    ) -> Self {
        let names = names(data);
        let stacked = data.spec.stacked || all.len() == 1;
        let each = if stacked { 1 } else { all.len() };
        let rows = height.saturating_sub(1);
        // Groups of several bars stay apart.
        let apart = usize::from(each > 1);
        let room = ((rows + apart) / (each + apart)).max(1);
        let weights: Vec<f64> = (0..names.len())
            .map(|category| {
                let values = all.iter().filter_map(|list| list[category]);
                values.map(f64::abs).sum()
            })
            .collect();
        let (order, left) = chosen(data, &weights, room);
        // The rest as one, where adding up makes sense.
        let rest: Vec<Option<f64>> = all
            .iter()
            .map(|list| {
                let others = (0..names.len()).filter(|at| !order.contains(at));
                others.filter_map(|at| list[at]).reduce(|a, b| a + b)
            })
            .collect();
        let greatest = order.iter().map(|at| weights[*at]).fold(0.0, f64::max);
        let together: f64 = rest.iter().flatten().map(|value| value.abs()).sum();
        let adds_up = data.spec.how != How::Mean && left > 0;
        // A bar that dwarfs all others says less than its number.
        let adds = adds_up && room > 1 && together <= greatest * 1.5;
        if left > 0 {
            let smaller = match (adds, adds_up) {
                (true, _) => "put together".to_string(),
                (false, true) => format!("come to {}", plain_words(rest.iter().flatten().sum())),
                _ => "left out".into(),
            };
            let (shown, all) = (order.len(), names.len());
            notes.insert(
                0,
                format!("The {shown} largest of {all}; the rest {smaller}."),
            );
        }
        let of = |at: &usize| (names[*at].clone(), Some(*at));
        let mut lines: Vec<(String, Option<usize>)> = order.iter().map(of).collect();
        if adds {
            lines.push((format!("{OTHERS} ({left})"), None));
        }
        let gap = match lines.len() * (each + 1) <= rows + 1 {
            true => 1,
            false => apart,
        };
        // Few bars get thick.
        let fits = |thick: &usize| lines.len() * (each * thick + 1) <= rows + 1;
        let thick = if fits(&2) { 2 } else { 1 };
        let mut lying = Lying {
            all,
            rest,
            lines,
            stacked,
            each,
            thick,
            gap,
            rows,
            scale,
        };
        if adds {
            lying.widen();
        }
        lying
    }

    /// What was put together may be longer than all others.
    fn widen(&mut self) {
        let sums = self.rest.iter().flatten();
        let (least, most) = match self.stacked && self.all.len() > 1 {
            true => (
                sums.clone().filter(|v| **v < 0.0).sum(),
                sums.filter(|v| **v > 0.0).sum(),
            ),
            false => sums.fold((0.0_f64, 0.0_f64), |(a, b), v| (a.min(*v), b.max(*v))),
        };
        let scale = self.scale;
        self.scale = Scale::over(scale.least.min(least), scale.most.max(most), scale.of);
    }

    fn value(&self, series: usize, line: &(String, Option<usize>)) -> Option<f64> {
        match line.1 {
            Some(category) => self.all[series][category],
            None => self.rest[series],
        }
    }

    fn total(&self, line: &(String, Option<usize>)) -> Option<f64> {
        let values = (0..self.all.len()).filter_map(|series| self.value(series, line));
        values.reduce(|a, b| a + b)
    }

    /// Cells that the numbers behind the bars take.
    fn value_room(&self) -> usize {
        let of_line = |line: &(String, Option<usize>)| -> Option<usize> {
            let values: Vec<f64> = match self.stacked {
                true => self.total(line).into_iter().collect(),
                false => (0..self.all.len())
                    .filter_map(|at| self.value(at, line))
                    .collect(),
            };
            values
                .into_iter()
                .map(|value| plain_words(value).width())
                .max()
        };
        self.lines.iter().filter_map(of_line).max().unwrap_or(0) + 1
    }

    fn draw(&self, scene: &mut Scene, data: &Data, at: usize, area: Area) {
        let tall = self.each * self.thick;
        let gutter = side(self.lines.iter().map(|line| line.0.as_str()), area) + 1;
        let value_room = self.value_room().min((area.width / 3).max(5));
        let plot = Area {
            x: area.x + gutter,
            y: area.y,
            width: area.width.saturating_sub(gutter + value_room).max(4),
            height: (self.lines.len() * (tall + self.gap))
                .saturating_sub(self.gap)
                .min(self.rows),
        };
        let scale = lying_scale(scene, self.scale, plot, true);
        let x_of =
            |value: f64| plot.x as f64 + scale.place(value).clamp(0.0, 1.0) * plot.width as f64;
        let zero = x_of(if scale.of == Of::Powers {
            scale.least
        } else {
            0.0_f64.clamp(scale.least, scale.most)
        });
        scene.shapes.push(Shape::Grid {
            from: (zero, plot.y as f64),
            to: (zero, plot.bottom() as f64),
            strong: true,
        });
        let behind = |scene: &mut Scene, end: f64, y: usize, value: f64| {
            let x = end.ceil() as usize + 1;
            // A number that is cut would be another one.
            let room = area.right().saturating_sub(x);
            let fits = [plain_words(value), short_words(value)]
                .into_iter()
                .find(|words| words.width() <= room);
            scene.write(x, y, room, &fits.unwrap_or_default(), Role::Value);
        };
        for (number, line) in self.lines.iter().enumerate() {
            let top = area.y + number * (tall + self.gap);
            if top + tall > area.y + self.rows {
                break;
            }
            let label_y = top + (tall - 1) / 2;
            scene.write_before(
                area.x + gutter - 1,
                label_y,
                gutter - 1,
                &line.0,
                Role::Label,
            );
            let (mut below, mut above) = (0.0, 0.0);
            for series in 0..self.all.len() {
                let Some(value) = self.value(series, line) else {
                    continue;
                };
                let y = if self.stacked {
                    top
                } else {
                    top + series * self.thick
                };
                let (from, to) = match self.stacked {
                    false => (zero, x_of(value)),
                    true => {
                        let side = if value < 0.0 { &mut below } else { &mut above };
                        let begin = if *side == 0.0 { zero } else { x_of(*side) };
                        *side += value;
                        (begin, x_of(*side))
                    }
                };
                let (x, width) = (from.min(to), (from - to).abs());
                scene.shapes.push(Shape::Bar {
                    x,
                    y: y as f64,
                    width,
                    height: self.thick as f64,
                    series,
                    upright: false,
                });
                if let Some(category) = line.1 {
                    scene.hits.push(Hit {
                        panel: at,
                        series,
                        key: Key::Category(category),
                        area: (x, y as f64, width.max(1.0), self.thick as f64),
                        words: says(data, at, &line.0, series, value),
                    });
                }
                if !self.stacked {
                    let end = if value < 0.0 { zero } else { to };
                    behind(scene, end, y + (self.thick - 1) / 2, value);
                }
            }
            if self.stacked
                && let Some(value) = self.total(line)
            {
                behind(scene, x_of(above.max(0.0)).max(zero), label_y, value);
            }
        }
    }
}

fn boxes(
    scene: &mut Scene,
    data: &Data,
    at: usize,
    all: &[Option<Box5>],
    area: Area,
    scales: &Scales,
    notes: &mut Vec<String>,
) {
    let names = names(data);
    let rows = area.height.saturating_sub(1).max(1);
    let weights: Vec<f64> = all
        .iter()
        .map(|five| five.as_ref().map_or(0.0, |five| five.count as f64))
        .collect();
    let (mut order, left) = chosen(data, &weights, rows);
    if data.spec.ordered {
        let median = |at: &usize| {
            all[*at]
                .as_ref()
                .map_or(f64::NEG_INFINITY, |five| five.median)
        };
        order.sort_by(|a, b| median(b).total_cmp(&median(a)));
    }
    if left > 0 {
        notes.insert(
            0,
            format!("The {} with most rows of {}.", order.len(), names.len()),
        );
    }
    notes.push(
        "Box: the middle half; line in it: the median; whiskers: up to one and a half boxes away."
            .into(),
    );
    let gap = usize::from(order.len() * 2 <= rows + 1);
    let gutter = side(order.iter().map(|at| names[*at].as_str()), area) + 1;
    let plot = Area {
        x: area.x + gutter,
        y: area.y,
        width: area.width.saturating_sub(gutter + 4).max(4),
        height: (order.len() * (1 + gap)).saturating_sub(gap).min(rows),
    };
    let scale = lying_scale(scene, scales.y, plot, true);
    let x_of = |value: f64| plot.x as f64 + scale.place(value).clamp(0.0, 1.0) * plot.width as f64;
    for (number, category) in order.iter().enumerate() {
        let y = area.y + number * (1 + gap);
        let Some(five) = &all[*category] else {
            continue;
        };
        scene.write_before(plot.x - 1, y, gutter - 1, &names[*category], Role::Label);
        let x = [five.low, five.q1, five.median, five.q3, five.high].map(x_of);
        scene.shapes.push(Shape::Quartiles { y, x });
        for beyond in &five.beyond {
            scene.shapes.push(Shape::Dot {
                x: x_of(*beyond),
                y: y as f64 + 0.5,
                series: 0,
            });
        }
        let words = says(data, at, &names[*category], usize::MAX, five.median);
        scene.hits.push(Hit {
            panel: at,
            series: 0,
            key: Key::Category(*category),
            area: (x[0], y as f64, (x[4] - x[0]).max(1.0), 1.0),
            words: format!(
                "{words} (median)   half from {} to {}   {} values",
                plain_words(five.q1),
                plain_words(five.q3),
                idle_tide_core::figures::grouped(five.count)
            ),
        });
    }
}

fn heat(
    scene: &mut Scene,
    data: &Data,
    at: usize,
    all: &[Vec<Option<f64>>],
    area: Area,
    notes: &mut Vec<String>,
) {
    let (across, down) = (names(data), &data.series);
    let gutter = side(down.iter().map(String::as_str), area) + 1;
    let weight_across: Vec<f64> = (0..across.len())
        .map(|x| all.iter().filter_map(|list| list[x]).map(f64::abs).sum())
        .collect();
    let weight_down: Vec<f64> = all
        .iter()
        .map(|list| list.iter().flatten().map(|v| v.abs()).sum())
        .collect();
    let room = area.width.saturating_sub(gutter);
    let (mut columns, left) = within(&weight_across, (room / 3).max(1), data.spec.ordered);
    if !data.spec.ordered {
        sort_numbers(&mut columns, across);
    }
    let width = (room / columns.len().max(1)).clamp(1, 14);
    // Names that are wider than their column stand on several lines, each on the next.
    let widest = columns
        .iter()
        .map(|at| show_label(&across[*at], WIDEST).width)
        .max()
        .unwrap_or(1);
    let steps = (widest + 1)
        .div_ceil(width)
        .clamp(1, 4.min(area.height / 3).max(1));
    let (mut rows, left_down) = within(
        &weight_down,
        area.height.saturating_sub(steps).max(1),
        data.spec.ordered,
    );
    if !data.spec.ordered {
        sort_numbers(&mut rows, down);
    }
    // Few rows get high.
    let high = (area.height.saturating_sub(steps) / rows.len().max(1)).clamp(1, 3);
    if left + left_down > 0 {
        notes.insert(
            0,
            format!(
                "The {} largest of {} across, {} of {} down.",
                columns.len(),
                across.len(),
                rows.len(),
                down.len()
            ),
        );
    }
    // All panels have one scale.
    let all_panels = data.panels.iter().flat_map(|panel| match &panel.marks {
        Marks::Values(all) => all.as_slice(),
        _ => &[],
    });
    let most = all_panels
        .flatten()
        .flatten()
        .map(|value| value.abs())
        .fold(0.0, f64::max);
    let y0 = area.y + steps;
    for (n, x) in columns.iter().enumerate() {
        let left = area.x + gutter + n * width;
        let room = (width * steps).saturating_sub(1).min(area.right() - left);
        scene.write(
            left,
            area.y + steps - 1 - n % steps,
            room,
            &across[*x],
            Role::Label,
        );
    }
    for (m, y) in rows.iter().enumerate() {
        scene.write_before(
            area.x + gutter - 1,
            y0 + m * high + (high - 1) / 2,
            gutter - 1,
            &down[*y],
            Role::Label,
        );
        for (n, x) in columns.iter().enumerate() {
            let Some(value) = all[*y][*x] else {
                continue;
            };
            let left = area.x + gutter + n * width;
            let words = plain_words(value);
            scene.shapes.push(Shape::Shade {
                x: left,
                y: y0 + m * high,
                width: width.saturating_sub(1).max(1),
                height: high,
                strength: if most > 0.0 { value.abs() / most } else { 0.0 },
                words: if words.width() < width {
                    words
                } else {
                    String::new()
                },
            });
            let along = if data.panels.len() > 1 {
                format!("{} · {}", data.panels[at].name, across[*x])
            } else {
                across[*x].clone()
            };
            scene.hits.push(Hit {
                panel: at,
                series: *y,
                key: Key::Category(*x),
                area: (
                    left as f64,
                    (y0 + m * high) as f64,
                    width.saturating_sub(1).max(1) as f64,
                    high as f64,
                ),
                words: format!(
                    "{along} · {}   {} {}",
                    down[*y],
                    data.names.1,
                    plain_words(value)
                ),
            });
        }
    }
    if most > 0.0 {
        notes.push(format!("The darkest is {}.", plain_words(most)));
    }
}

/// Puts categories that are all numbers, or all days and times as ISO 8601 has them, in their order.
fn sort_numbers(list: &mut [usize], names: &[String]) {
    let number = |at: &usize| names[*at].parse::<f64>().ok().filter(|n| n.is_finite());
    let day = |at: &usize| {
        names[*at].len() >= 7
            && names[*at].as_bytes()[4] == b'-'
            && names[*at].starts_with(|c: char| c.is_ascii_digit())
    };
    if list.iter().all(|at| number(at).is_some()) {
        list.sort_by(|a, b| {
            number(a)
                .partial_cmp(&number(b))
                .unwrap_or(std::cmp::Ordering::Equal)
        });
    } else if list.iter().all(day) {
        list.sort_by(|a, b| names[*a].cmp(&names[*b]));
    }
}

/// The places with the greatest weights that have room, in their order or by weight, and how many have none.
fn within(weights: &[f64], room: usize, ordered: bool) -> (Vec<usize>, usize) {
    let mut order: Vec<usize> = (0..weights.len()).collect();
    let by_weight = |a: &usize, b: &usize| weights[*b].total_cmp(&weights[*a]).then(a.cmp(b));
    let left = order.len().saturating_sub(room);
    if left > 0 || ordered {
        order.sort_by(by_weight);
        order.truncate(room);
        if !ordered {
            order.sort_unstable();
        }
    }
    (order, left)
}

/// A picture with a scale below it and one at its side: lines, areas, points, histograms.
/// A plot over two scales: its place, the scales, and what is drawn in it.
struct Upright<'a> {
    data: &'a Data,
    /// Which of the panels it is.
    at: usize,
    plot: Area,
    /// The column where its panel ends.
    right: usize,
    x: Scale,
    y: Scale,
}

impl Upright<'_> {
    fn x_of(&self, value: f64) -> f64 {
        self.plot.x as f64 + self.x.place(value) * self.plot.width as f64
    }

    fn y_of(&self, value: f64) -> f64 {
        // What sums to more than a number can be stands at the end.
        let place = self.y.place(value).clamp(0.0, 1.0);
        self.plot.bottom() as f64 - place * self.plot.height as f64
    }

    /// The lines and ticks of both scales within `area`.
    fn axes(&self, scene: &mut Scene, area: Area, y_ticks: &[(f64, String)], gutter: usize) {
        for (value, words) in y_ticks {
            // The highest lies in the first row, not above it.
            let y = self.y_of(*value).max(area.y as f64 + 1e-3);
            scene.shapes.push(Shape::Grid {
                from: (self.plot.x as f64, y),
                to: (self.plot.right() as f64, y),
                strong: *value == 0.0 && self.y.least < 0.0,
            });
            let row =
                (y.ceil() - 1.0).clamp(area.y as f64, (self.plot.bottom() - 1) as f64) as usize;
            let taken = scene.texts.iter().any(|text| {
                text.y == row && text.role == Role::Tick && text.x < self.plot.x && text.x >= area.x
            });
            if !taken {
                scene.write_before(self.plot.x - 1, row, gutter, words, Role::Tick);
            }
        }
        // Only times and numbers keep their own ends.
        let most = (self.plot.width / 12).clamp(2, 12);
        let mut free = area.x;
        for (value, words) in self.x.ticks(most) {
            let width = words.width();
            let x = self.x_of(value);
            let start = (x.round() as usize).saturating_sub(width / 2).max(area.x);
            let start = start.min(area.right().saturating_sub(width));
            if start >= free {
                scene.write(start, self.plot.bottom(), width, &words, Role::Tick);
                free = start + width + 2;
            }
        }
    }

    /// Bars over intervals.
    fn bins(&self, scene: &mut Scene, from: f64, width: f64, counts: &[u64]) {
        let each = self.plot.width / counts.len().clamp(1, self.plot.width);
        for (bin, count) in counts.iter().take(self.plot.width).enumerate() {
            let x = (self.plot.x + bin * each) as f64;
            let wide = if each >= 3 { each - 1 } else { each } as f64;
            let top = self.y_of(*count as f64);
            let (low, high) = (from + width * bin as f64, from + width * (bin + 1) as f64);
            scene.shapes.push(Shape::Bar {
                x,
                y: top,
                width: wide,
                height: self.plot.bottom() as f64 - top,
                series: 0,
                upright: true,
            });
            let words = |value: f64| match self.data.across {
                Across::Times => time_words(value),
                _ => number_words(value, width, low.abs().max(high.abs()).min(9e5)),
            };
            let along = format!(
                "{} from {} to below {}",
                self.data.names.0,
                words(low),
                words(high)
            );
            scene.hits.push(Hit {
                panel: self.at,
                series: 0,
                key: Key::Bin(bin),
                area: (
                    x,
                    top.min(self.plot.bottom() as f64 - 1.0),
                    wide,
                    (self.plot.bottom() as f64 - top).max(1.0),
                ),
                words: says(self.data, self.at, &along, usize::MAX, *count as f64),
            });
        }
    }

    /// A dot for each place on which points fall.
    fn dots(&self, scene: &mut Scene, all: &[Vec<(f64, f64, u32)>], notes: &mut Vec<String>) {
        let mut drawn = std::collections::HashSet::new();
        for (series, list) in all.iter().enumerate() {
            for (x, y, row) in list {
                let (px, py) = (self.x_of(*x), self.y_of(*y));
                let dot = ((px * 2.0).floor() as i64, (py * 4.0).floor() as i64, series);
                // One dot stands for all that fall on it.
                if !drawn.insert(dot) {
                    continue;
                }
                scene.shapes.push(Shape::Dot {
                    x: px,
                    y: py,
                    series,
                });
                scene.hits.push(Hit {
                    panel: self.at,
                    series,
                    key: Key::Row(*row),
                    area: (
                        px.floor(),
                        py.floor().min(self.plot.bottom() as f64 - 1.0),
                        1.0,
                        1.0,
                    ),
                    words: format!(
                        "{} {}   {}",
                        self.data.names.0,
                        along_words(self.data, *x),
                        says(self.data, self.at, "", series, *y).trim_start()
                    ),
                });
            }
        }
        let all: usize = all.iter().map(Vec::len).sum();
        if drawn.len() < all {
            notes.push(format!(
                "{} points on {} places.",
                idle_tide_core::figures::grouped(all as u64),
                idle_tide_core::figures::grouped(drawn.len() as u64)
            ));
        }
    }

    /// Lines and areas.
    fn lines(
        &self,
        scene: &mut Scene,
        all: &[Vec<(f64, f64)>],
        names_at_end: bool,
        notes: &mut Vec<String>,
    ) {
        let filled =
            self.data.spec.kind == Kind::Area && (all.len() == 1 || self.data.spec.stacked);
        let on_top = match filled && all.len() > 1 {
            true => Cow::Owned(stacked(all)),
            false => Cow::Borrowed(all),
        };
        let mut ends: Vec<(f64, usize)> = Vec::new();
        let mut thinned = false;
        for (series, list) in on_top.iter().enumerate() {
            let points: Vec<(f64, f64)> = list
                .iter()
                .map(|(x, y)| (self.x_of(*x), self.y_of(*y)))
                .collect();
            let few = thin(&points, self.plot.width * 2);
            thinned |= few.len() < points.len();
            if filled {
                let below = series.checked_sub(1).map(|before| &on_top[before]);
                fill(
                    scene,
                    &points,
                    below.map(|list| {
                        list.iter()
                            .map(|(x, y)| (self.x_of(*x), self.y_of(*y)))
                            .collect()
                    }),
                    self.plot,
                    series,
                    self.y_of(self.y.least.max(0.0).min(self.y.most)),
                );
            }
            let mut run = Vec::new();
            for at in &few {
                let (x, y) = points[*at];
                if y.is_nan() {
                    scene.shapes.push(Shape::Line {
                        points: std::mem::take(&mut run),
                        series,
                    });
                } else {
                    run.push((x, y));
                }
            }
            if let Some((_, y)) = run
                .last()
                .or(points.iter().rev().find(|(_, y)| !y.is_nan()))
            {
                ends.push((*y, series));
            }
            if !filled {
                scene.shapes.push(Shape::Line {
                    points: run,
                    series,
                });
            }
            for n in &few {
                let (px, py) = points[*n];
                if py.is_nan() {
                    continue;
                }
                let (x, y) = all[series]
                    .get(*n)
                    .filter(|_| !filled || all.len() == 1)
                    .copied()
                    .unwrap_or((list[*n].0, value_at(&all[series], list[*n].0)));
                scene.hits.push(Hit {
                    panel: self.at,
                    series,
                    key: Key::X(x),
                    area: (
                        px.floor().min(self.plot.right() as f64 - 1.0),
                        py.floor()
                            .clamp(self.plot.y as f64, self.plot.bottom() as f64 - 1.0),
                        1.0,
                        1.0,
                    ),
                    words: says(self.data, self.at, &along_words(self.data, x), series, y),
                });
            }
        }
        if thinned {
            notes.push(
                "More points than columns: each column shows its first, least, greatest and last."
                    .into(),
            );
        }
        if names_at_end {
            line_ends(scene, self.data, ends, self.plot, self.right);
        }
    }
}

fn upright(
    scene: &mut Scene,
    data: &Data,
    at: usize,
    area: Area,
    scales: &Scales,
    notes: &mut Vec<String>,
) {
    let Some(x_scale) = scales.x else {
        return;
    };
    let rows = area.height.saturating_sub(1).max(2);
    let ticks = (rows / 3).clamp(2, 8);
    let y_scale = scales.y.rounded(ticks);
    let mut y_ticks = y_scale.ticks(ticks);
    let mut gutter = y_ticks.iter().map(|tick| tick.1.width()).max().unwrap_or(0) + 1;
    if gutter + 6 > area.width {
        // Lines without words where there is no room for these.
        gutter = 1;
        y_ticks.iter_mut().for_each(|tick| tick.1.clear());
    }
    let panel = &data.panels[at];
    let names_at_end =
        matches!(&panel.marks, Marks::Lines(all) if all.len() > 1) && data.spec.kind == Kind::Line;
    let right = match names_at_end {
        true => side(data.series.iter().map(String::as_str), area) + 3,
        false => 2,
    };
    let mut plot = Area {
        x: area.x + gutter,
        y: area.y,
        width: area.width.saturating_sub(gutter + right).max(4),
        height: rows,
    };
    plot.width = plot.width.min(area.right() - plot.x);
    let x_scale = match &panel.marks {
        // Every interval takes whole cells.
        Marks::Bins {
            from,
            width,
            counts,
        } => {
            let each = (plot.width / counts.len()).max(1);
            let shown = counts.len().min(plot.width);
            plot.width = each * shown;
            Scale {
                least: *from,
                most: from + width * shown as f64,
                of: x_scale.of,
            }
        }
        _ => x_scale,
    };
    let upright = Upright {
        data,
        at,
        plot,
        right: area.right(),
        x: x_scale,
        y: y_scale,
    };
    upright.axes(scene, area, &y_ticks, gutter);
    match &panel.marks {
        Marks::Bins {
            from,
            width,
            counts,
        } => upright.bins(scene, *from, *width, counts),
        Marks::Points(all) => upright.dots(scene, all, notes),
        Marks::Lines(all) => upright.lines(scene, all, names_at_end, notes),
        _ => {}
    }
    scene
        .shapes
        .retain(|shape| !matches!(shape, Shape::Line { points, .. } if points.is_empty()));
}

fn value_at(list: &[(f64, f64)], x: f64) -> f64 {
    let found = list.binary_search_by(|(at, _)| at.total_cmp(&x));
    found.map_or(0.0, |at| list[at].1)
}

fn along_words(data: &Data, x: f64) -> String {
    match data.across {
        Across::Times => time_words(x),
        _ => plain_words(x),
    }
}

/// Names at the ends of lines, up to the column `right`: each at its line where there is room and else at the next free row.
fn line_ends(
    scene: &mut Scene,
    data: &Data,
    mut ends: Vec<(f64, usize)>,
    plot: Area,
    right: usize,
) {
    ends.sort_by(|a, b| a.0.total_cmp(&b.0));
    let last = plot.bottom().saturating_sub(1);
    let mut rows: Vec<usize> = Vec::new();
    for (at, (y, _)) in ends.iter().enumerate() {
        // What comes after needs a row each.
        let latest = (last + 1).saturating_sub(ends.len() - at);
        let own = (y - 0.5).round().max(plot.y as f64) as usize;
        let free = rows.last().map_or(plot.y, |row| row + 1);
        rows.push(own.max(free).min(latest.max(free)));
    }
    for ((_, series), row) in ends.iter().zip(rows) {
        if row <= last {
            let name = format!("{} {}", SIGNS[series % SIGNS.len()], data.series[*series]);
            scene.write(
                plot.right() + 1,
                row,
                right.saturating_sub(plot.right() + 1),
                &name,
                Role::Series(*series),
            );
        }
    }
}

/// Which points are drawn: of each of so many columns the first, the least, the greatest and the last, and every gap.
fn thin(points: &[(f64, f64)], columns: usize) -> Vec<usize> {
    if points.len() <= columns * POINTS {
        return (0..points.len()).collect();
    }
    let mut kept = Vec::new();
    let mut at = 0;
    while at < points.len() {
        let column = (points[at].0 * 2.0).floor();
        let mut end = at;
        let (mut least, mut greatest) = (at, at);
        let mut gap = None;
        while end < points.len() && (points[end].0 * 2.0).floor() == column {
            if points[end].1.is_nan() {
                gap = Some(end);
            }
            if points[end].1 < points[least].1 || points[least].1.is_nan() {
                least = end;
            }
            if points[end].1 > points[greatest].1 || points[greatest].1.is_nan() {
                greatest = end;
            }
            end += 1;
        }
        let mut few = vec![at, least, greatest, end - 1];
        few.extend(gap.filter(|_| end - at == 1));
        few.sort_unstable();
        few.dedup();
        few.retain(|n| !points[*n].1.is_nan() || end - at == 1);
        kept.extend(few);
        at = end;
    }
    kept
}

/// Fills what is below a line, down to the one below it, or to where the scale begins.
fn fill(
    scene: &mut Scene,
    line: &[(f64, f64)],
    below: Option<Vec<(f64, f64)>>,
    plot: Area,
    series: usize,
    base: f64,
) {
    let height = |list: &[(f64, f64)], x: f64| -> Option<f64> {
        let at = list.partition_point(|(px, _)| *px < x);
        let (a, b) = (
            list.get(at.saturating_sub(1))?,
            list.get(at.min(list.len().saturating_sub(1)))?,
        );
        if x < list.first()?.0 - 0.5 || x > list.last()?.0 + 0.5 {
            return None;
        }
        let y = match b.0 > a.0 {
            true => a.1 + (b.1 - a.1) * ((x - a.0) / (b.0 - a.0)).clamp(0.0, 1.0),
            false => b.1,
        };
        (!y.is_nan()).then_some(y)
    };
    for column in plot.x..plot.right() {
        let x = column as f64 + 0.5;
        let Some(top) = height(line, x) else {
            continue;
        };
        let bottom = below
            .as_ref()
            .and_then(|list| height(list, x))
            .unwrap_or(base);
        let (top, bottom) = (top.min(bottom), top.max(bottom));
        scene.shapes.push(Shape::Bar {
            x: column as f64,
            y: top,
            width: 1.0,
            height: bottom - top,
            series,
            upright: true,
        });
    }
}
