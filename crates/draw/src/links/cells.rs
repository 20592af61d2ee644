//! A part of the drawing as cells of a terminal. Where lines of different bundles cross, one passes under the
//! other; only lines that lead to the same place meet.

use std::collections::HashSet;

use super::{Area, Drawing};
use crate::marks::show_label;

/// What a cell is drawn with.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Ink {
    /// Nothing.
    #[default]
    Bare,
    /// The ground of a table.
    Plate,
    /// Its name.
    Title,
    /// A column.
    Text,
    /// A word beside one.
    Faint,
    /// A line.
    Line,
    /// A line of what is lit.
    Lit,
}

/// A cell.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Cell {
    /// What stands in it; empty behind a wide character.
    pub symbol: String,
    /// What with.
    pub ink: Ink,
    /// The table it belongs to.
    pub plate: Option<usize>,
}

/// What stands out.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Lit {
    /// Links, by their places.
    pub wires: HashSet<usize>,
}

const UP: u8 = 1;
const DOWN: u8 = 2;
const LEFT: u8 = 4;
const RIGHT: u8 = 8;

/// What runs through a cell.
#[derive(Clone, Copy, Default)]
struct Crossing {
    /// Directions in which lines leave it, by bundle: the first one met, and others.
    first: (usize, u8),
    other: u8,
    /// Whether all lines of the first bundle are guesses, and all of the others.
    dashed: (bool, bool),
    lit: bool,
}

fn character(mask: u8, dashed: bool) -> char {
    match mask {
        m if m == LEFT | RIGHT || m == LEFT || m == RIGHT => {
            if dashed {
                '┄'
            } else {
                '─'
            }
        }
        m if m == UP | DOWN || m == UP || m == DOWN => {
            if dashed {
                '┆'
            } else {
                '│'
            }
        }
        m if m == DOWN | RIGHT => '┌',
        m if m == DOWN | LEFT => '┐',
        m if m == UP | RIGHT => '└',
        m if m == UP | LEFT => '┘',
        m if m == UP | DOWN | RIGHT => '├',
        m if m == UP | DOWN | LEFT => '┤',
        m if m == LEFT | RIGHT | DOWN => '┬',
        m if m == LEFT | RIGHT | UP => '┴',
        _ => '┼',
    }
}

/// The mark at the end of a link that refers.
pub(super) fn near_mark(many: bool) -> char {
    if many { '≡' } else { '•' }
}

impl Drawing {
    /// The cells of a part of the drawing, row by row.
    pub fn cells(&self, window: Area, lit: &Lit) -> Vec<Vec<Cell>> {
        let mut grid = vec![vec![Cell::default(); window.width]; window.height];
        self.put_wires(window, lit, &mut grid);
        for (at, area) in self.layout.plates.iter().enumerate() {
            let beside = area.x >= window.x + window.width || area.x + area.width <= window.x;
            let above = area.y >= window.y + window.height || area.y + area.height <= window.y;
            if !beside && !above {
                self.put_plate(at, window, &mut grid);
            }
        }
        grid
    }

    fn put_plate(&self, at: usize, window: Area, grid: &mut [Vec<Cell>]) {
        let (plate, area) = (&self.plates[at], self.layout.plates[at]);
        let mut put = |x: usize, y: usize, symbol: &str, ink: Ink| {
            if window.holds(x, y) {
                grid[y - window.y][x - window.x] = Cell {
                    symbol: symbol.into(),
                    ink,
                    plate: Some(at),
                };
            }
        };
        for y in area.y..area.y + area.height {
            for x in area.x..area.x + area.width {
                put(x, y, " ", Ink::Plate);
            }
        }
        let mut write = |x: usize, y: usize, most: usize, text: &str, ink: Ink| -> usize {
            let shown = show_label(text, most);
            let mut column = x;
            for run in &shown.runs {
                for cluster in
                    unicode_segmentation::UnicodeSegmentation::graphemes(run.text.as_str(), true)
                {
                    let wide = unicode_width::UnicodeWidthStr::width(cluster);
                    put(column, y, cluster, ink);
                    for more in 1..wide {
                        put(column + more, y, "", ink);
                    }
                    column += wide;
                }
            }
            column
        };
        let end = area.x + area.width - 1;
        let after = write(
            area.x + 1,
            area.y,
            end - area.x - 1,
            &plate.title,
            Ink::Title,
        );
        if after + 2 < end {
            write(after + 2, area.y, end - after - 2, &plate.note, Ink::Faint);
        }
        let names = plate.name_width();
        for (n, (name, note)) in plate.lines.iter().enumerate() {
            let y = area.y + 1 + n;
            let after = write(area.x + 1, y, end - area.x - 1, name, Ink::Text);
            let place = (area.x + 1 + names + 2).max(after + 2);
            if place < end {
                write(place, y, end - place, note, Ink::Faint);
            }
        }
    }

    fn put_wires(&self, window: Area, lit: &Lit, grid: &mut [Vec<Cell>]) {
        let mut crossings = vec![vec![Crossing::default(); window.width]; window.height];
        let mut marks = Vec::new();
        // What is lit is drawn last, over everything else.
        let mut order: Vec<usize> = (0..self.wires.len()).collect();
        order.sort_by_key(|at| lit.wires.contains(at));
        for at in order {
            let (wire, points) = (&self.wires[at], &self.layout.wires[at]);
            // Lines to the same place are one bundle.
            let bundle = 1 + wire.to.0 * 4096 + wire.to.1;
            let is_lit = lit.wires.contains(&at);
            let mut put = |x: usize, y: usize, mask: u8| {
                if !window.holds(x, y) || mask == 0 {
                    return;
                }
                let cell = &mut crossings[y - window.y][x - window.x];
                if is_lit && !cell.lit {
                    *cell = Crossing {
                        first: (bundle, mask),
                        lit: true,
                        dashed: (!wire.declared, true),
                        other: 0,
                    };
                } else if cell.first.0 == 0 {
                    *cell = Crossing {
                        first: (bundle, mask),
                        dashed: (!wire.declared, true),
                        lit: is_lit,
                        other: 0,
                    };
                } else if cell.first.0 == bundle {
                    cell.first.1 |= mask;
                    cell.dashed.0 &= !wire.declared;
                } else {
                    cell.other |= mask;
                    cell.dashed.1 &= !wire.declared;
                }
            };
            for (n, pair) in points.windows(2).enumerate() {
                let ((x1, y1), (x2, y2)) = (pair[0], pair[1]);
                let (ends, middle, back) = if y1 == y2 {
                    (LEFT | RIGHT, (x1.min(x2), x1.max(x2)), x1 > x2)
                } else {
                    (UP | DOWN, (y1.min(y2), y1.max(y2)), y1 > y2)
                };
                let (first, last) = if y1 == y2 { (LEFT, RIGHT) } else { (UP, DOWN) };
                for place in middle.0..=middle.1 {
                    let (x, y) = if y1 == y2 { (place, y1) } else { (x1, place) };
                    let mut mask = ends;
                    // At a corner a line leaves only one way; at the ends of the wire it goes on to its table.
                    let is_start = (place == middle.0 && !back) || (place == middle.1 && back);
                    let is_end = (place == middle.1 && !back) || (place == middle.0 && back);
                    let drop = if place == middle.0 { first } else { last };
                    let single = middle.0 == middle.1;
                    if !single && ((is_start && n > 0) || (is_end && n + 2 < points.len())) {
                        mask &= !drop;
                    }
                    put(x, y, mask);
                }
            }
            if let (Some(first), Some(last)) = (points.first(), points.last()) {
                marks.push((*first, near_mark(wire.many), is_lit));
                marks.push((*last, near_mark(wire.finds_many), is_lit));
                if wire.optional {
                    let left = self.layout.plates[wire.from.0].x > first.0;
                    let beside = if left {
                        first.0.saturating_sub(1)
                    } else {
                        first.0 + 1
                    };
                    marks.push(((beside, first.1), '○', is_lit));
                }
            }
        }
        for (line, row) in crossings.iter().zip(grid.iter_mut()) {
            for (crossing, cell) in line.iter().zip(row.iter_mut()) {
                if crossing.first.0 == 0 {
                    continue;
                }
                let (mask, other) = (crossing.first.1, crossing.other);
                let (across, upright) = (LEFT | RIGHT, UP | DOWN);
                // A line that lies across passes over one that goes up and down, unless that one is lit; any
                // others share an end.
                let (own, others) = crossing.dashed;
                let (mask, dashed) = match (mask, other) {
                    (m, 0) => (m, own),
                    (m, _) if crossing.lit => (m, own),
                    (m, o) if m == across && o == upright => (across, own),
                    (m, o) if m == upright && o == across => (across, others),
                    (m, o) => (m | o, own && others),
                };
                cell.symbol = character(mask, dashed).to_string();
                cell.ink = if crossing.lit { Ink::Lit } else { Ink::Line };
            }
        }
        for ((x, y), mark, is_lit) in marks {
            if window.holds(x, y) {
                let cell = &mut grid[y - window.y][x - window.x];
                cell.symbol = mark.to_string();
                cell.ink = if is_lit || cell.ink == Ink::Lit {
                    Ink::Lit
                } else {
                    Ink::Line
                };
            }
        }
    }

    /// The whole drawing as lines of text.
    pub fn text(&self, lit: &Lit) -> String {
        let window = Area {
            x: 0,
            y: 0,
            width: self.layout.width,
            height: self.layout.height,
        };
        let mut out = String::new();
        for row in self.cells(window, lit) {
            let mut line = String::new();
            for cell in row {
                match (cell.symbol.as_str(), cell.ink) {
                    ("", Ink::Bare) => line.push(' '),
                    (symbol, _) => line.push_str(symbol),
                }
            }
            out.push_str(line.trim_end());
            out.push('\n');
        }
        out
    }
}
