//! A picture as cells of a terminal.

use unicode_segmentation::UnicodeSegmentation;
use unicode_width::UnicodeWidthStr;

use super::{FILLS, Role, SIGNS, Scene, Shape};
use crate::picture::{BELOW, LEFT};

/// What a cell is drawn with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ink {
    /// Nothing is here.
    Bare,
    /// A mark of a series.
    Series(usize),
    /// The ground: lines of a scale.
    Ground,
    /// A text.
    Text(Role),
}

/// A cell; one that a wide character to its left covers has no symbol.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cell {
    /// What stands in it.
    pub symbol: String,
    /// What it is drawn with.
    pub ink: Ink,
}

/// Fields of a heat map, from the weakest to the strongest.
const SHADES: [char; 5] = ['·', '░', '▒', '▓', '█'];
/// The dots of a braille pattern (Unicode, block 2800), by column and row.
const DOTS: [[u32; 4]; 2] = [[0x01, 0x02, 0x04, 0x40], [0x08, 0x10, 0x20, 0x80]];
/// Cells from one sign on a line to the next.
const SIGN_EVERY: f64 = 14.0;

struct Canvas {
    width: usize,
    height: usize,
    cells: Vec<Cell>,
    dots: Vec<u32>,
}

impl Canvas {
    fn put(&mut self, x: usize, y: usize, symbol: impl Into<String>, ink: Ink) {
        if x < self.width && y < self.height {
            self.cells[y * self.width + x] = Cell {
                symbol: symbol.into(),
                ink,
            };
        }
    }

    fn is_bare(&self, x: usize, y: usize) -> bool {
        x < self.width
            && y < self.height
            && matches!(self.cells[y * self.width + x].ink, Ink::Bare | Ink::Ground)
    }

    /// Sets the dot of a place.
    fn dot(&mut self, x: f64, y: f64, series: usize) {
        let (column, row) = (
            (x * 2.0).floor().max(0.0) as usize,
            (y * 4.0).floor().max(0.0) as usize,
        );
        // What lies on the very edge belongs to the last cell.
        let (cx, cy) = (
            (column / 2).min(self.width - 1),
            (row / 4).min(self.height - 1),
        );
        let at = cy * self.width + cx;
        let (dx, dy) = (
            if column / 2 > cx { 1 } else { column % 2 },
            if row / 4 > cy { 3 } else { row % 4 },
        );
        self.dots[at] |= DOTS[dx][dy];
        let symbol = char::from_u32(0x2800 + self.dots[at]).unwrap_or('·');
        self.put(cx, cy, symbol, Ink::Series(series));
    }

    fn line(&mut self, from: (f64, f64), to: (f64, f64), series: usize) {
        let steps = ((to.0 - from.0).abs() * 2.0)
            .max((to.1 - from.1).abs() * 4.0)
            .ceil()
            .max(1.0);
        for step in 0..=steps as usize {
            let part = step as f64 / steps;
            self.dot(
                from.0 + (to.0 - from.0) * part,
                from.1 + (to.1 - from.1) * part,
                series,
            );
        }
    }
}

impl Scene {
    /// The picture as rows of cells.
    pub fn cells(&self) -> Vec<Vec<Cell>> {
        let bare = Cell {
            symbol: " ".into(),
            ink: Ink::Bare,
        };
        let count = self.width * self.height;
        let mut canvas = Canvas {
            width: self.width,
            height: self.height,
            cells: vec![bare; count],
            dots: vec![0; count],
        };
        if count == 0 {
            return Vec::new();
        }
        for shape in &self.shapes {
            self.draw(&mut canvas, shape);
        }
        if self.series.len() > 1 {
            self.signs(&mut canvas);
        }
        for text in &self.texts {
            let mut x = text.x;
            for symbol in text.text.graphemes(true) {
                let width = symbol.width();
                if width == 0 || x + width > self.width {
                    continue;
                }
                canvas.put(x, text.y, symbol, Ink::Text(text.role));
                for covered in 1..width {
                    canvas.put(x + covered, text.y, "", Ink::Text(text.role));
                }
                x += width;
            }
        }
        let rows = canvas.cells.chunks(self.width);
        rows.map(<[Cell]>::to_vec).collect()
    }

    /// The picture as lines of text.
    pub fn text(&self) -> String {
        let mut out = String::new();
        for row in self.cells() {
            let line: String = row.iter().map(|cell| cell.symbol.as_str()).collect();
            out.push_str(line.trim_end());
            out.push('\n');
        }
        out.truncate(out.trim_end().len());
        out.push('\n');
        out
    }

    fn draw(&self, canvas: &mut Canvas, shape: &Shape) {
        match shape {
            Shape::Grid { from, to, strong } => {
                let lying = from.1 == to.1;
                if lying {
                    let y = (from.1.ceil() - 1.0).max(0.0) as usize;
                    let step = if *strong { 1 } else { 4 };
                    for x in (from.0.round() as usize..to.0.round() as usize).step_by(step) {
                        if canvas.is_bare(x, y) {
                            canvas.put(x, y, if *strong { '─' } else { '·' }, Ink::Ground);
                        }
                    }
                } else if *strong {
                    let x = (from.0.round() as usize).saturating_sub(1);
                    for y in from.1.round() as usize..to.1.round() as usize {
                        // The name of the category ends before it.
                        if canvas.is_bare(x, y) {
                            canvas.put(x, y, '▕', Ink::Ground);
                        }
                    }
                }
            }
            Shape::Bar {
                x,
                y,
                width,
                height,
                series,
                upright,
            } => bar(
                canvas,
                (*x, *y, *width, *height),
                *series,
                *upright,
                self.series.len() > 1,
            ),
            Shape::Line { points, series } => {
                if let [(x, y)] = points.as_slice() {
                    canvas.dot(*x, *y, *series);
                }
                for two in points.windows(2) {
                    canvas.line(two[0], two[1], *series);
                }
            }
            Shape::Dot { x, y, series } => match self.series.len() > 1 {
                true => canvas.put(
                    *x as usize,
                    *y as usize,
                    SIGNS[series % SIGNS.len()],
                    Ink::Series(*series),
                ),
                false => canvas.dot(*x, *y, *series),
            },
            Shape::Quartiles { y, x } => quartiles(canvas, *y, x),
            Shape::Shade {
                x,
                y,
                width,
                height,
                strength,
                ..
            } => {
                let level = (strength * (SHADES.len() - 1) as f64).round() as usize;
                for (at, row) in
                    (*y..y + height).flat_map(|row| (*x..x + width).map(move |at| (at, row)))
                {
                    canvas.put(at, row, SHADES[level.min(SHADES.len() - 1)], Ink::Series(0));
                }
            }
        }
    }

    /// Signs on lines, so that they are told apart without colours.
    fn signs(&self, canvas: &mut Canvas) {
        for shape in &self.shapes {
            let Shape::Line { points, series } = shape else {
                continue;
            };
            let Some(first) = points.first() else {
                continue;
            };
            // Each series begins at another place, so that signs do not cover each other.
            let mut next = first.0 + *series as f64 * 3.0 % SIGN_EVERY;
            for two in points.windows(2) {
                while next <= two[1].0 && next >= two[0].0 && two[1].0 > two[0].0 {
                    let part = (next - two[0].0) / (two[1].0 - two[0].0);
                    let y = two[0].1 + (two[1].1 - two[0].1) * part;
                    let (x, y) = (
                        next.max(0.0) as usize,
                        (y.max(0.0) as usize).min(self.height - 1),
                    );
                    canvas.put(x, y, SIGNS[series % SIGNS.len()], Ink::Series(*series));
                    next += SIGN_EVERY;
                }
            }
        }
    }
}

fn bar(
    canvas: &mut Canvas,
    (x, y, width, height): (f64, f64, f64, f64),
    series: usize,
    upright: bool,
    several: bool,
) {
    let fill = if several {
        FILLS[series % FILLS.len()]
    } else {
        FILLS[0]
    };
    let eighths = |part: f64| ((part * 8.0).round() as usize).min(8);
    let ink = Ink::Series(series);
    if upright {
        let bottom = (y + height).round() as usize;
        let mut left = height;
        let mut row = bottom;
        while left > 0.0 && row > 0 {
            row -= 1;
            let part = left.min(1.0);
            let symbol = match part >= 0.96 || several {
                true if part >= 0.5 => fill,
                _ => BELOW[eighths(part)],
            };
            let symbol = if symbol == ' ' && row + 1 == bottom && height > 0.0 {
                BELOW[1]
            } else {
                symbol
            };
            for column in x.round() as usize..(x + width).round() as usize {
                if symbol != ' ' {
                    canvas.put(column, row, symbol, ink);
                }
            }
            left -= 1.0;
        }
        return;
    }
    for row in y as usize..(y + height).max(y + 1.0) as usize {
        lying(canvas, (x, width), row, series, several);
    }
}

/// One row of cells of a bar that lies.
fn lying(canvas: &mut Canvas, (x, width): (f64, f64), row: usize, series: usize, several: bool) {
    let fill = if several {
        FILLS[series % FILLS.len()]
    } else {
        FILLS[0]
    };
    let eighths = |part: f64| ((part * 8.0).round() as usize).min(8);
    let ink = Ink::Series(series);
    let begin = x.round() as usize;
    let end = x + width;
    let mut column = begin;
    while (column as f64) < end {
        let part = (end - column as f64).min(1.0);
        let symbol = match part >= 0.96 || several {
            true if part >= 0.5 => fill,
            _ => LEFT[eighths(part)],
        };
        if symbol != ' ' {
            canvas.put(column, row, symbol, ink);
        }
        column += 1;
    }
    // What is there is seen, however little it is.
    if width > 0.0 && canvas.is_bare(begin, row) {
        canvas.put(begin, row, LEFT[1], ink);
    }
}

fn quartiles(canvas: &mut Canvas, y: usize, x: &[f64; 5]) {
    let cell = |at: f64| at.max(0.0) as usize;
    let [low, q1, median, q3, high] = x.map(cell);
    let ink = Ink::Series(0);
    for at in low..=high {
        canvas.put(at, y, '─', ink);
    }
    if low < q1 {
        canvas.put(low, y, '├', ink);
    }
    if high > q3 {
        canvas.put(high, y, '┤', ink);
    }
    for at in q1..=q3 {
        canvas.put(at, y, '▒', ink);
    }
    canvas.put(median, y, '┃', ink);
}
