//! Rows of a result: names, types, rows, and the figures of the current column. Only rows and columns in
//! sight are read.

use idle_tide_core::{Figures, ValueRef};
use idle_tide_desk::covering::WORD;
use idle_tide_desk::live::Mark;
use idle_tide_desk::{Entry, Tone, sheet};
use idle_tide_draw::marks::{Look, Shown, covered, show_text, show_value};
use idle_tide_draw::picture::{grouped, spread};
use ratatui::Frame;
use ratatui::layout::Rect;

use super::paint::Painter;
use crate::app::{App, Focus, Grid, is_open};
use crate::theme::Ground;

/// Widest a column gets, unless it is the last one.
const WIDEST: usize = 48;
/// Columns between two columns.
const GAP: u16 = 3;

/// The tone of a value.
pub(super) fn tone_of(look: Look) -> Tone {
    match look {
        Look::Null | Look::Empty | Look::Bytes | Look::Missing | Look::Covered => Tone::Faint,
        Look::Nested => Tone::Active,
        Look::Other => Tone::Plain,
        Look::Number => Tone::Number,
        Look::Text | Look::Boolean => Tone::Plain,
    }
}

struct Placed {
    column: usize,
    at: usize,
    /// Where the value before stands among the shown columns, if this is the one after.
    before: Option<usize>,
    /// Where the one after stands, if this is the one before.
    after: Option<usize>,
    x: u16,
    width: u16,
    right: bool,
}

/// Draws the rows of the current entry.
pub(super) fn draw(app: &mut App, frame: &mut Frame<'_>, area: Rect, roomy: bool) {
    let Some(entry) = app.desk.entry() else {
        return;
    };
    let number = entry.number;
    let Some(rows) = entry.sheet() else {
        return;
    };
    let types = (roomy || area.height >= 12)
        && (0..rows.view.columns.len()).any(|at| {
            !type_words(entry, rows.view.columns[at], &[], at).is_empty() || entry.is_statement
        });
    let head = 1 + u16::from(types);
    let foot = if area.height >= 4 + head {
        1 + u16::from(roomy)
    } else {
        0
    };
    let lines = u64::from(area.height.saturating_sub(head + foot));
    let shown = rows.shown();
    let is_proposal = entry.proposed.is_some();
    let mut grid = match app.grids.remove(&number) {
        None if is_proposal => app.proposal_at.clone(),
        known => known.unwrap_or_default(),
    };
    grid.row = grid.row.min(shown.saturating_sub(1));
    grid.column = grid.column.min(rows.view.columns.len().saturating_sub(1));
    grid.top = grid.top.min(grid.row);
    if lines > 0 && grid.row >= grid.top + lines {
        grid.top = grid.row + 1 - lines;
    }
    // Nothing is left empty below while rows hide above.
    grid.top = grid.top.min(shown.saturating_sub(lines));
    let visible = values(entry, &grid, lines);
    let kinds = column_kinds(entry, &visible);
    let placed = place(entry, &mut grid, &visible, &kinds, area);
    let sight = Sight {
        grid: &grid,
        visible: &visible,
        placed: &placed,
        types,
    };
    paint(app, frame, area, &sight);
    if let (Some(last), Some(here)) = (placed.last(), placed.iter().find(|p| p.at == grid.column)) {
        let room = Rect {
            height: area.height.saturating_sub(foot),
            ..area
        };
        super::beside::draw(app, frame, room, last.x + last.width + 6, here.column);
    }
    if foot > 0 {
        let y = area.y + head + (visible.len() as u64).min(lines) as u16 + u16::from(roomy);
        draw_foot(
            app,
            frame,
            Rect::new(area.x, y.min(area.bottom() - 1), area.width, 1),
            &grid,
        );
    }
    app.page = lines.max(1);
    app.grids.insert(number, grid);
}

/// What is shown of the rows in sight, every shown column of each.
fn values(entry: &Entry, grid: &Grid, lines: u64) -> Vec<Vec<Shown>> {
    let Some(rows) = entry.sheet() else {
        return Vec::new();
    };
    let set = sheet::read(&rows.set);
    let mut list = Vec::new();
    for place in grid.top..(grid.top + lines).min(rows.shown()) {
        let Some(number) = rows.row_number(place) else {
            break;
        };
        let line = match set.locate(number) {
            Ok((batch, within)) => {
                let all: Vec<ValueRef<'_>> = batch.row(within).values().collect();
                rows.view
                    .columns
                    .iter()
                    .map(|column| {
                        let value = all.get(*column).copied().unwrap_or(ValueRef::Null);
                        match rows.covers(*column, value) {
                            true => covered(WORD),
                            false => show_value(value, 400),
                        }
                    })
                    .collect()
            }
            Err(error) => vec![show_text(&format!("this row cannot be read: {error}"), 200)],
        };
        list.push(line);
    }
    list
}

/// Whether each shown column holds numbers, by its values in sight; else by its declared type.
fn column_kinds(entry: &Entry, visible: &[Vec<Shown>]) -> Vec<bool> {
    let Some(rows) = entry.sheet() else {
        return Vec::new();
    };
    let set = sheet::read(&rows.set);
    let numeric = ["int", "num", "dec", "real", "floa", "doub"];
    rows.view
        .columns
        .iter()
        .enumerate()
        .map(|(at, column)| {
            let mut numbers = 0;
            let mut others = 0;
            for line in visible {
                match line.get(at).map(|shown| shown.look) {
                    Some(Look::Number) => numbers += 1,
                    Some(
                        Look::Text
                        | Look::Bytes
                        | Look::Boolean
                        | Look::Other
                        | Look::Nested
                        | Look::Covered,
                    ) => others += 1,
                    _ => {}
                }
            }
            let declared = set.columns()[*column].declared.as_deref().unwrap_or("");
            let says = numeric.iter().any(|part| declared.contains(part));
            numbers > others || (says && numbers >= others)
        })
        .collect()
}

/// What stands under a column's name.
fn type_words(entry: &Entry, column: usize, visible: &[Vec<Shown>], at: usize) -> String {
    let Some(rows) = entry.sheet() else {
        return String::new();
    };
    let set = sheet::read(&rows.set);
    // Lists of our own have no types worth a word.
    if !entry.is_statement && set.columns().iter().all(|column| column.declared.is_none()) {
        return String::new();
    }
    let known = &set.columns()[column];
    let mut words = known.declared.clone().unwrap_or_default();
    if words.is_empty() {
        // An expression: the kind of its first value in sight.
        let look = visible
            .iter()
            .filter_map(|line| line.get(at))
            .map(|s| s.look)
            .find(|l| !matches!(l, Look::Null | Look::Missing));
        words = match look {
            Some(Look::Number) => "number",
            Some(Look::Text | Look::Empty) => "text",
            Some(Look::Bytes) => "bytes",
            Some(Look::Boolean) => "boolean",
            Some(Look::Nested | Look::Other | Look::Covered) => "",
            _ => "",
        }
        .into();
    }
    if known.key {
        words.push_str(" key");
    } else if known.optional == Some(true) {
        words.push_str(" optional");
    }
    words
}

/// Columns the widest value in sight of a shown column takes.
fn widest(visible: &[Vec<Shown>], at: usize) -> usize {
    let values = visible.iter().filter_map(|line| line.get(at));
    values.map(|shown| shown.width).max().unwrap_or(0)
}

/// Gives the columns in sight their places; scrolls sideways until the current one is among them.
fn place(
    entry: &Entry,
    grid: &mut Grid,
    visible: &[Vec<Shown>],
    kinds: &[bool],
    area: Rect,
) -> Vec<Placed> {
    let Some(rows) = entry.sheet() else {
        return Vec::new();
    };
    let columns = &rows.view.columns;
    let room = area.width.saturating_sub(6);
    let mut width_of = |at: usize| -> u16 {
        let column = columns[at];
        let label = show_text(&rows.labels[column], WIDEST).width;
        let types = type_words(entry, column, visible, at).chars().count();
        let wide = widest(visible, at);
        let known = grid.widths.entry(column).or_insert(0);
        // A long type does not widen a column much.
        let own = wide.max(label).min(WIDEST);
        *known = (*known).max(own.max(types.min(own.max(16))));
        (*known).max(1) as u16
    };
    let frozen = usize::from(rows.view.frozen && columns.len() > 1);
    grid.left = grid
        .left
        .clamp(frozen, columns.len().saturating_sub(1).max(frozen));
    if grid.column >= frozen {
        grid.left = grid.left.min(grid.column);
    }
    loop {
        let mut list = Vec::new();
        let mut x = 0_u16;
        let order = (0..frozen).chain(grid.left..columns.len());
        let mut complete = false;
        for at in order {
            let mut width = width_of(at);
            if x + width > room && x > 0 {
                // A last column may be cut, if something of it is left.
                let left = room.saturating_sub(x);
                if left >= 6 {
                    list.push((at, x, left));
                }
                complete = complete || at > grid.column || (at == grid.column && left >= width);
                break;
            }
            width = width.min(room.max(1));
            // A long value in the last column takes what is left.
            if at + 1 == columns.len() {
                let wide = widest(visible, at);
                width = (wide as u16).max(width).min(room - x.min(room)).max(1);
            }
            list.push((at, x, width));
            complete |= at == grid.column;
            x += width + GAP;
        }
        if complete || grid.left >= grid.column || grid.column < frozen {
            return list
                .into_iter()
                .map(|(at, x, width)| Placed {
                    column: columns[at],
                    at,
                    before: other(rows, columns[at], false),
                    after: other(rows, columns[at], true),
                    x: area.x + 4 + x,
                    width,
                    right: kinds.get(at).copied().unwrap_or(false),
                })
                .collect();
        }
        grid.left += 1;
    }
}

/// Where the other column of a pair stands among those shown: the one after, or the one before.
fn other(rows: &idle_tide_desk::Sheet, column: usize, after: bool) -> Option<usize> {
    let found = rows.pairs.iter().find_map(|(was, is)| match after {
        true => (*was == column).then_some(is),
        false => (*is == column).then_some(was),
    });
    rows.view
        .columns
        .iter()
        .position(|shown| Some(shown) == found)
}

fn clipped(shown: &Shown, width: u16) -> Shown {
    if shown.width <= usize::from(width) {
        return shown.clone();
    }
    // Already safe: clipping it again only shortens it.
    let mut short = idle_tide_draw::marks::show_label(&shown.text(), usize::from(width));
    short.look = shown.look;
    if let [run] = shown.runs.as_slice() {
        for part in &mut short.runs {
            part.mark = part.mark || run.mark;
        }
    }
    short
}

/// What is in sight of a result.
struct Sight<'a> {
    grid: &'a Grid,
    /// The rows, every shown column of each.
    visible: &'a [Vec<Shown>],
    placed: &'a [Placed],
    /// Whether there is a line of types.
    types: bool,
}

fn paint(app: &mut App, frame: &mut Frame<'_>, area: Rect, sight: &Sight<'_>) {
    let Sight {
        grid,
        visible,
        placed,
        types,
    } = *sight;
    let Some(entry) = app.desk.entry() else {
        return;
    };
    let Some(rows) = entry.sheet() else {
        return;
    };
    let reading = app.focus == Focus::Read && app.is_bare();
    let end = placed
        .last()
        .map_or(area.x, |last| last.x + last.width + 2)
        .min(area.right());
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    for place in placed {
        head(&mut p, entry, rows, place, sight, area.y);
    }
    let columns = placed
        .iter()
        .map(|place| {
            let edge = place.x.saturating_sub(1);
            (edge, place.x + place.width + 2, place.at)
        })
        .collect();
    let hidden_left = grid.left > usize::from(rows.view.frozen && rows.view.columns.len() > 1);
    let hidden_right = placed
        .last()
        .is_some_and(|last| last.at + 1 < rows.view.columns.len());
    if hidden_left {
        p.text(area.x + 1, area.y, 2, Tone::Active, "‹");
    }
    if hidden_right {
        p.text(area.right().saturating_sub(2), area.y, 1, Tone::Active, "›");
    }
    let first = area.y + 1 + u16::from(types);
    for (line, values) in visible.iter().enumerate() {
        let y = first + line as u16;
        let row = grid.top + line as u64;
        let current = row == grid.row;
        p.ground = if current && reading {
            Ground::Selected
        } else if row % 2 == 1 {
            Ground::Shade
        } else {
            Ground::Air
        };
        let strip = Rect::new(area.x + 2, y, end.saturating_sub(area.x + 2), 1);
        p.fill(strip);
        if current {
            let tone = if reading { Tone::Active } else { Tone::Faint };
            p.text(area.x + 2, y, 1, tone, "▌");
        }
        if rows
            .row_number(row)
            .is_some_and(|n| grid.marked.contains(&n))
        {
            p.text(area.x + 3, y, 1, Tone::Care, "◂");
        }
        let fresh = rows.row_number(row).and_then(|number| fresh(entry, number));
        if let Some((mark, tone)) = fresh {
            let sign = if matches!(mark, Mark::New) { "+" } else { "~" };
            p.text(area.x + 3, y, 1, tone, sign);
        }
        for place in placed {
            let here = current && place.at == grid.column && reading;
            let tone = fresh.and_then(|(mark, tone)| match mark {
                Mark::Changed(columns) if !columns.contains(&place.column) => None,
                _ => Some(tone),
            });
            cell(&mut p, values, place, here, y, tone);
        }
        if values.len() == 1 && rows.view.columns.len() > 1 {
            p.shown(area.x + 4, y, Tone::Danger, &values[0]);
        }
    }
    p.ground = Ground::Air;
    if visible.is_empty() && !placed.is_empty() && !is_open(entry.state) {
        let words = if rows.given_up {
            "This result gave up its rows to keep within the disk budget; A runs it again."
        } else if rows.view.filter.is_some() {
            "No row satisfies the filter; /filter alone brings all back."
        } else {
            "No rows."
        };
        p.text(
            area.x + 4,
            first,
            area.width.saturating_sub(6),
            Tone::Faint,
            words,
        );
    }
    app.spots.rows = Some((first, grid.top, visible.len() as u64));
    app.spots.names = area.y;
    app.spots.columns = columns;
}

/// Draws a column's name, and its type where there is a line for it.
fn head(
    p: &mut Painter<'_>,
    entry: &Entry,
    rows: &idle_tide_desk::Sheet,
    place: &Placed,
    sight: &Sight<'_>,
    y: u16,
) {
    let label = show_text(&rows.labels[place.column], usize::from(place.width));
    let arrow = match rows.view.order {
        Some((column, false)) if column == place.column => "↑",
        Some((column, true)) if column == place.column => "↓",
        _ => "",
    };
    let room = place.width - u16::from(!arrow.is_empty() && label.width as u16 >= place.width);
    let label = clipped(&label, room);
    let full = label.width as u16 + u16::from(!arrow.is_empty());
    let x = if place.right {
        place.x + place.width.saturating_sub(full)
    } else {
        place.x
    };
    let tone = if place.at == sight.grid.column {
        Tone::Active
    } else {
        Tone::Heading
    };
    let taken = p.shown(x, y, tone, &label);
    p.text(x + taken, y, 1, Tone::Active, arrow);
    if sight.types {
        let mut words = type_words(entry, place.column, sight.visible, place.at);
        if words.chars().count() > usize::from(place.width) {
            words = words.trim_end_matches(" optional").to_string();
        }
        let words = show_text(&words, usize::from(place.width));
        let x = if place.right {
            place.x + place.width.saturating_sub(words.width as u16)
        } else {
            place.x
        };
        p.shown(x, y + 1, Tone::Faint, &words);
    }
}

/// What happened to a row of a live result at its last change, in the tone of its age; nothing once that has faded.
fn fresh(entry: &Entry, row: u64) -> Option<(&Mark, Tone)> {
    let live = entry.live.as_ref()?;
    let mark = live.marks.get(&u32::try_from(row).ok()?)?;
    match live.freshness() {
        age if age > 0.5 => Some((mark, Tone::Care)),
        age if age > 0.0 => Some((mark, Tone::Active)),
        _ => None,
    }
}

/// Draws a value; `here` is whether it is the current one, `fresh` the tone of one that has just changed.
fn cell(
    p: &mut Painter<'_>,
    values: &[Shown],
    place: &Placed,
    here: bool,
    y: u16,
    fresh: Option<Tone>,
) {
    let Some(shown) = values.get(place.at) else {
        return;
    };
    let row_ground = p.ground;
    if here {
        p.ground = Ground::Cell;
        p.fill(Rect::new(place.x - 1, y, place.width + 2, 1));
    }
    let shown = clipped(shown, place.width);
    let number = matches!(shown.look, Look::Number)
        || place.right && matches!(shown.look, Look::Null | Look::Missing);
    let x = if number {
        place.x + place.width.saturating_sub(shown.width as u16)
    } else {
        place.x
    };
    let text = |at: usize| values.get(at).map(Shown::text);
    let differs = |other: Option<usize>| other.is_some_and(|other| text(other) != text(place.at));
    let changed = differs(place.before);
    let tone = match changed {
        true => Tone::Care,
        false if differs(place.after) => Tone::Faint,
        false => fresh.unwrap_or(tone_of(shown.look)),
    };
    p.shown(x, y, tone, &shown);
    p.ground = row_ground;
    if changed && place.x >= 2 {
        p.text(place.x - 2, y, 1, Tone::Care, "→");
    }
}

fn number_words(value: f64) -> String {
    let rounded = (value * 1e4).round() / 1e4;
    ValueRef::Float(if rounded == 0.0 { value } else { rounded }).plain()
}

/// The figures of the current column, and where the current row is.
fn draw_foot(app: &mut App, frame: &mut Frame<'_>, area: Rect, grid: &Grid) {
    let Some(entry) = app.desk.entry() else {
        return;
    };
    let arriving = is_open(entry.state);
    let thing = entry.row();
    let Some(rows) = entry.sheet() else {
        return;
    };
    let Some(column) = rows.view.columns.get(grid.column).copied() else {
        return;
    };
    let label = rows.labels[column].clone();
    let is_proposal = entry.proposed.is_some();
    let (shown, all, working) = (rows.shown(), sheet::read(&rows.set).len(), rows.working);
    let filtered = rows.view.filter.is_some();
    let hidden = rows.covered_columns().contains(&column);
    let theme = app.theme;
    let figures: Option<Figures> = app.desk.figures(column).cloned();
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme,
        ground: Ground::Air,
    };
    let mut place = if shown == 0 {
        format!("no {thing}s")
    } else {
        format!("{thing} {} of {}", grouped(grid.row + 1), grouped(shown))
    };
    if arriving {
        place.push_str(" so far");
    } else if filtered && shown < all {
        place.push_str(&format!(" ({} in all)", grouped(all)));
    }
    if let Some(working) = working {
        place = format!("{working} · {place}");
    }
    let width = place.chars().count() as u16;
    let right = area.right().saturating_sub(width + 3);
    p.text(right, area.y, width, Tone::Faint, &place);
    if is_proposal {
        return;
    }
    let mut x = area.x + 4;
    let end = right.saturating_sub(2);
    x += p.text(
        x,
        area.y,
        end.saturating_sub(x).min(32),
        Tone::Active,
        &label,
    ) + 2;
    let Some(figures) = figures else {
        return;
    };
    if arriving {
        x += p.text(x, area.y, end.saturating_sub(x), Tone::Faint, "so far") + 2;
    }
    let mut parts: Vec<(&str, String)> = Vec::new();
    if figures.numbers > 0
        && !hidden
        && let Some(sum) = figures.sum()
    {
        let sum = match sum {
            idle_tide_core::Value::Float(f) => number_words(f),
            other => other.as_ref().plain(),
        };
        parts.push(("sum", sum));
    }
    let short = |value: &idle_tide_core::Value| show_text(&value.as_ref().plain(), 22).text();
    if let (Some(least), Some(most), false) = (&figures.least, &figures.most, hidden) {
        parts.push(("least", short(least)));
        parts.push(("most", short(most)));
    }
    if let Some(mean) = figures.mean().filter(|_| !hidden) {
        parts.push(("mean", number_words(mean)));
    }
    for (name, value) in parts {
        let needed = (name.len() + 1 + value.chars().count()) as u16;
        if x + needed > end {
            break;
        }
        x += p.text(x, area.y, end - x, Tone::Faint, name) + 1;
        x += p.text(x, area.y, end - x, Tone::Number, &value) + 3;
    }
    let (different, exact) = figures.different();
    let mut words = format!(
        "{}{} different",
        if exact { "" } else { "over " },
        grouped(different)
    );
    if figures.nulls > 0 {
        words.push_str(&format!("   {} null", grouped(figures.nulls)));
    }
    if x + (words.chars().count() as u16) < end {
        x += p.text(x, area.y, end - x, Tone::Faint, &words) + 3;
    }
    let picture = spread(&figures.spread(18));
    if !picture.is_empty() && x + 18 < end {
        p.text(x, area.y, 18, Tone::Picture, &picture);
    }
}
