//! A picture as SVG 1.1, on white: the same places as in cells, lines with strokes and bars with tints that stay apart in
//! grey and for eyes that see few colours.

use std::fmt::Write as _;

use super::{Role, Scene, Shape};
use crate::links::svg::{CELL, FONT_SIZE, PAGE, escaped};

/// The colours of series on white; their lightness alternates, so that neighbours stay apart in grey.
pub(super) const COLOURS: [&str; 8] = [
    "#0b5d7a", "#c8641b", "#5b3a8e", "#4f8f2f", "#9c1f4b", "#3c8fc4", "#6b5a00", "#7d7f85",
];
/// How lines of series are broken, so that they are told apart without colours.
const DASHES: [&str; 8] = [
    "",
    "7 3",
    "2 3",
    "9 3 2 3",
    "12 4",
    "4 2",
    "1 2",
    "6 2 1 2 1 2",
];

fn px(x: f64) -> f64 {
    PAGE + x * CELL.0
}

fn py(y: f64) -> f64 {
    PAGE + y * CELL.1
}

impl Scene {
    /// The picture as an SVG document.
    pub fn svg(&self) -> String {
        // Rows that nothing stands in are no part of the page.
        let lowest = self.texts.iter().map(|text| text.y + 1).max();
        let height = py(lowest.unwrap_or(self.height) as f64) + PAGE;
        let width = px(self.width as f64) + PAGE;
        let title = self.texts.iter().find(|text| text.role == Role::Title);
        let title = title.map_or("", |text| text.text.as_str());
        let mut out = String::new();
        let _ = writeln!(out, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>");
        let _ = writeln!(
            out,
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width:.0}\" height=\"{height:.0}\" viewBox=\"0 0 {width:.0} {height:.0}\" \
             font-family=\"DejaVu Sans Mono, Hack, Liberation Mono, monospace\" font-size=\"{FONT_SIZE}\">"
        );
        let _ = writeln!(out, "<title>{}</title>", escaped(title, 400));
        let _ = writeln!(
            out,
            "<rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>"
        );
        for shape in &self.shapes {
            draw(&mut out, shape, self.series.len() > 1);
        }
        for text in &self.texts {
            let (fill, more) = match text.role {
                Role::Title => ("#0b2530", " font-weight=\"bold\""),
                Role::Note => ("#4a5d66", " font-style=\"italic\""),
                Role::Tick => ("#4a5d66", ""),
                Role::Label | Role::Value => ("#1c2b31", ""),
                Role::Series(at) => (COLOURS[at % COLOURS.len()], " font-weight=\"bold\""),
            };
            let _ = writeln!(
                out,
                "<text x=\"{:.1}\" y=\"{:.1}\" fill=\"{fill}\"{more} xml:space=\"preserve\">{}</text>",
                px(text.x as f64),
                py(text.y as f64) + CELL.1 * 0.72,
                escaped(&text.text, 400)
            );
        }
        let _ = writeln!(out, "</svg>");
        out
    }
}

fn rectangle(out: &mut String, (x, y, width, height): (f64, f64, f64, f64), style: &str) {
    let _ = writeln!(
        out,
        "<rect x=\"{:.2}\" y=\"{:.2}\" width=\"{:.2}\" height=\"{:.2}\" {style}/>",
        px(x),
        py(y),
        (width * CELL.0).max(0.5),
        (height * CELL.1).max(0.5)
    );
}

fn draw(out: &mut String, shape: &Shape, several: bool) {
    match shape {
        Shape::Grid { from, to, strong } => {
            let colour = if *strong { "#4a5d66" } else { "#e2e8ea" };
            let _ = writeln!(
                out,
                "<path d=\"M{:.2} {:.2}L{:.2} {:.2}\" stroke=\"{colour}\" fill=\"none\"/>",
                px(from.0),
                py(from.1),
                px(to.0),
                py(to.1)
            );
        }
        Shape::Bar {
            x,
            y,
            width,
            height,
            series,
            upright,
        } => {
            let fill = COLOURS[series % COLOURS.len()];
            // Bars that lie leave some air between rows.
            let area = match upright {
                true => (*x, *y, *width, *height),
                false => (*x, y + 0.12, *width, height - 0.24),
            };
            rectangle(out, area, &format!("fill=\"{fill}\""));
        }
        Shape::Line { points, series } => {
            line(out, points, *series, several);
        }
        Shape::Dot { x, y, series } => dot(out, *x, *y, *series),
        Shape::Quartiles { y, x } => {
            quartiles(out, *y as f64, *x);
        }
        Shape::Shade {
            x,
            y,
            width,
            height,
            strength,
            words,
        } => {
            let area = (
                *x as f64,
                *y as f64 + 0.05,
                *width as f64,
                *height as f64 - 0.1,
            );
            rectangle(
                out,
                area,
                &format!(
                    "fill=\"{}\" fill-opacity=\"{:.2}\"",
                    COLOURS[0],
                    0.06 + 0.9 * strength
                ),
            );
            let fill = if *strength > 0.45 {
                "#ffffff"
            } else {
                "#1c2b31"
            };
            let _ = writeln!(
                out,
                "<text x=\"{:.1}\" y=\"{:.1}\" fill=\"{fill}\" font-size=\"10.5\">{}</text>",
                px(*x as f64 + 0.3),
                py(*y as f64 + (*height as f64 - 1.0) / 2.0) + CELL.1 * 0.7,
                escaped(words, 40)
            );
        }
    }
}

/// The line of a series; with several of them each has its dashes.
fn line(out: &mut String, points: &[(f64, f64)], series: usize, several: bool) {
    if let [(x, y)] = points {
        return dot(out, *x, *y, series);
    }
    let mut path = String::new();
    for (at, (x, y)) in points.iter().enumerate() {
        let _ = write!(
            path,
            "{}{:.2} {:.2}",
            if at == 0 { "M" } else { "L" },
            px(*x),
            py(*y)
        );
    }
    let dashes = match several {
        true => format!(" stroke-dasharray=\"{}\"", DASHES[series % DASHES.len()]),
        false => String::new(),
    };
    let dashes = if dashes.ends_with("\"\"") {
        String::new()
    } else {
        dashes
    };
    let _ = writeln!(
        out,
        "<path d=\"{path}\" stroke=\"{}\" stroke-width=\"1.8\" stroke-linejoin=\"round\" fill=\"none\"{dashes}/>",
        COLOURS[series % COLOURS.len()]
    );
}

/// A box of quartiles with its whiskers, in the row `y`.
fn quartiles(out: &mut String, y: f64, [low, q1, median, q3, high]: [f64; 5]) {
    let middle = y + 0.5;
    let colour = COLOURS[0];
    let _ = writeln!(
        out,
        "<path d=\"M{:.2} {:.2}H{:.2}M{:.2} {:.2}v{:.2}M{:.2} {:.2}v{:.2}\" stroke=\"{colour}\" fill=\"none\"/>",
        px(low),
        py(middle),
        px(high),
        px(low),
        py(middle - 0.2),
        0.4 * CELL.1,
        px(high),
        py(middle - 0.2),
        0.4 * CELL.1
    );
    let style = format!("fill=\"#cfe3ea\" stroke=\"{colour}\"");
    rectangle(out, (q1, y + 0.15, q3 - q1, 0.7), &style);
    let _ = writeln!(
        out,
        "<path d=\"M{:.2} {:.2}v{:.2}\" stroke=\"{colour}\" stroke-width=\"2.5\" fill=\"none\"/>",
        px(median),
        py(y + 0.15),
        0.7 * CELL.1
    );
}

/// A point, in the form of its series.
fn dot(out: &mut String, x: f64, y: f64, series: usize) {
    let (x, y) = (px(x), py(y));
    let colour = COLOURS[series % COLOURS.len()];
    let style = match series / 4 % 2 {
        0 => format!("fill=\"{colour}\" fill-opacity=\"0.75\""),
        _ => format!("fill=\"#ffffff\" stroke=\"{colour}\""),
    };
    let _ = match series % 4 {
        0 => writeln!(
            out,
            "<circle cx=\"{x:.2}\" cy=\"{y:.2}\" r=\"2.6\" {style}/>"
        ),
        1 => writeln!(
            out,
            "<path d=\"M{x:.2} {:.2}l3.2 5.6h-6.4z\" {style}/>",
            y - 3.4
        ),
        2 => writeln!(
            out,
            "<rect x=\"{:.2}\" y=\"{:.2}\" width=\"4.8\" height=\"4.8\" {style}/>",
            x - 2.4,
            y - 2.4
        ),
        _ => writeln!(
            out,
            "<path d=\"M{x:.2} {:.2}l3.4 3.4l-3.4 3.4l-3.4 -3.4z\" {style}/>",
            y - 3.4
        ),
    };
}
