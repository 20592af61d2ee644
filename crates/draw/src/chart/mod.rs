//! Pictures of results. One layout, counted in cells of a terminal, gives a [`Scene`]; the same scene becomes cells (lines and
//! points in dots of a braille pattern, bars in eighths of a cell) and SVG, so that every mark stands at the same place in
//! both. Text takes whole cells, which is why no label stands on another.

mod cells;
mod layout;
mod svg;

pub use cells::{Cell, Ink};
pub use layout::lay_out;

use idle_tide_core::chart::Key;

/// A picture, laid out.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Scene {
    /// Columns of cells.
    pub width: usize,
    /// Rows of cells.
    pub height: usize,
    /// What is drawn, the hindmost first.
    pub shapes: Vec<Shape>,
    /// What is written.
    pub texts: Vec<Text>,
    /// The marks that can be gone to, in their order.
    pub hits: Vec<Hit>,
    /// The names of its series; one without a name where there is one.
    pub series: Vec<String>,
}

/// Something that is drawn; places are in cells from the upper left corner.
#[derive(Debug, Clone, PartialEq)]
pub enum Shape {
    /// A filled rectangle.
    Bar {
        /// Its left side.
        x: f64,
        /// Its upper side.
        y: f64,
        /// Its width.
        width: f64,
        /// Its height.
        height: f64,
        /// Whose it is.
        series: usize,
        /// Whether its length goes upwards.
        upright: bool,
    },
    /// A line through points.
    Line {
        /// The points.
        points: Vec<(f64, f64)>,
        /// Whose it is.
        series: usize,
    },
    /// A point.
    Dot {
        /// Where.
        x: f64,
        /// Where.
        y: f64,
        /// Whose it is.
        series: usize,
    },
    /// A box with its whiskers, lying.
    Quartiles {
        /// The row of cells.
        y: usize,
        /// The ends of the whiskers, the quartiles and the median: low, q1, median, q3, high.
        x: [f64; 5],
    },
    /// A field of a heat map.
    Shade {
        /// Its left side.
        x: usize,
        /// Its row.
        y: usize,
        /// Its width.
        width: usize,
        /// Its height.
        height: usize,
        /// How strong it is, from 0 to 1.
        strength: f64,
        /// Its value, where it has room.
        words: String,
    },
    /// A line of the ground: where a value lies on its scale.
    Grid {
        /// From here.
        from: (f64, f64),
        /// To here.
        to: (f64, f64),
        /// Whether it is where bars begin, or an edge.
        strong: bool,
    },
}

/// What a text is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// The title.
    Title,
    /// What was left out or put together.
    Note,
    /// A tick of a scale.
    Tick,
    /// The name of a category, or of a panel.
    Label,
    /// A value at a bar.
    Value,
    /// The name of a series.
    Series(usize),
}

/// A text in one row of cells.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Text {
    /// The column of its first cell.
    pub x: usize,
    /// Its row.
    pub y: usize,
    /// The text; safe for a terminal.
    pub text: String,
    /// What it is.
    pub role: Role,
}

/// A mark that can be gone to.
#[derive(Debug, Clone, PartialEq)]
pub struct Hit {
    /// Its panel.
    pub panel: usize,
    /// Its series.
    pub series: usize,
    /// Which mark it is.
    pub key: Key,
    /// Where it is: left, upper side, width, height, in cells.
    pub area: (f64, f64, f64, f64),
    /// What it says.
    pub words: String,
}

/// The marks by which series are told apart without colours, in their order.
pub const SIGNS: [char; 8] = ['●', '▲', '■', '◆', '○', '△', '□', '◇'];

/// What fills bars of series, in their order.
pub const FILLS: [char; 4] = ['█', '▒', '▓', '░'];

#[cfg(test)]
mod tests;
