//! The drawing as SVG 1.1, for the page: dark lines on white, a legend below, everything in one font of fixed
//! width so that the columns of the terminal hold.

use std::fmt::Write as _;

use super::Drawing;
use crate::marks::show_label;

/// Points of a cell: the advance of the font at this size (0.602 of it, as in DejaVu Sans Mono and its kin).
pub(crate) const CELL: (f64, f64) = (7.224, 17.0);
pub(crate) const FONT_SIZE: f64 = 12.0;
pub(crate) const PAGE: f64 = 24.0;

/// Text for an XML document; characters that XML 1.0 forbids are shown by their marks.
pub(crate) fn escaped(text: &str, most: usize) -> String {
    let shown = show_label(text, most);
    let mut out = String::new();
    for character in shown.runs.iter().flat_map(|run| run.text.chars()) {
        match character {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c if (c as u32) < 0x20 || matches!(c as u32, 0xfffe | 0xffff) => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

impl Drawing {
    /// The drawing as an SVG document; `title` stands above it.
    pub fn svg(&self, title: &str) -> String {
        let legend_width = 65.0 * CELL.0;
        let width = (self.layout.width as f64 * CELL.0).max(legend_width) + 2.0 * PAGE;
        let height = TOP + self.layout.height as f64 * CELL.1 + 28.0 + PAGE;
        let mut out = String::new();
        put(
            &mut out,
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>".into(),
        );
        put(
            &mut out,
            format!(
                "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width:.0}\" height=\"{height:.0}\" viewBox=\"0 0 {width:.0} {height:.0}\" \
             font-family=\"DejaVu Sans Mono, Hack, Liberation Mono, monospace\" font-size=\"{FONT_SIZE}\">"
            ),
        );
        put(&mut out, format!("<title>{}</title>", escaped(title, 400)));
        put(
            &mut out,
            "<rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>".into(),
        );
        put(
            &mut out,
            format!(
                "<text x=\"{PAGE}\" y=\"{:.1}\" font-size=\"15\" font-weight=\"bold\" fill=\"#0b2530\">{}</text>",
                PAGE + 6.0,
                escaped(title, 400)
            ),
        );
        self.draw_wires(&mut out);
        self.draw_plates(&mut out);
        draw_legend(&mut out, py(self.layout.height as f64) + 20.0);
        put(&mut out, "</svg>".into());
        out
    }

    /// The links, each with its ends.
    fn draw_wires(&self, out: &mut String) {
        let mut put = |line: String| put(out, line);
        for (wire, points) in self.wires.iter().zip(&self.layout.wires) {
            // The ends touch the tables; corners lie in the middle of their cells.
            let mut places: Vec<(f64, f64)> = points
                .iter()
                .map(|(x, y)| (px(*x as f64 + 0.5), py(*y as f64 + 0.5)))
                .collect();
            let beside = |plate: usize, x: usize| self.layout.plates[plate].x > x;
            let ends = [
                (0, wire.from.0),
                (places.len().saturating_sub(1), wire.to.0),
            ];
            let (Some(first), Some(last)) = (points.first(), points.last()) else {
                continue;
            };
            for ((at, plate), x) in ends.into_iter().zip([first.0, last.0]) {
                places[at].0 += if beside(plate, x) {
                    CELL.0 / 2.0
                } else {
                    -CELL.0 / 2.0
                };
            }
            let mut path = String::new();
            for (x, y) in &places {
                write!(path, "{x:.1},{y:.1} ").unwrap_or_default();
            }
            let dash = if wire.declared {
                ""
            } else {
                " stroke-dasharray=\"4 3\""
            };
            put(format!(
                "<polyline points=\"{}\" fill=\"none\" stroke=\"#2a7f78\" stroke-width=\"1.2\"{dash}/>",
                path.trim_end()
            ));
            let side = |plate: usize, x: usize| if beside(plate, x) { -1.0 } else { 1.0 };
            let mut end = |(x, y): (f64, f64), out_of: f64, many: bool| {
                if !many {
                    return put(format!(
                        "<circle cx=\"{:.1}\" cy=\"{y:.1}\" r=\"2.6\" fill=\"#2a7f78\"/>",
                        x + out_of * 4.0
                    ));
                }
                // Three strokes that come together.
                for spread in [-4.0, 4.0] {
                    put(format!(
                        "<line x1=\"{x:.1}\" y1=\"{:.1}\" x2=\"{:.1}\" y2=\"{y:.1}\" stroke=\"#2a7f78\" stroke-width=\"1.2\"/>",
                        y + spread,
                        x + out_of * 9.0
                    ));
                }
            };
            let (x, y) = places[0];
            let out_of = side(wire.from.0, first.0);
            end((x, y), out_of, wire.many);
            let far = places[places.len() - 1];
            end(far, side(wire.to.0, last.0), wire.finds_many);
            if wire.optional {
                put(format!(
                    "<circle cx=\"{:.1}\" cy=\"{y:.1}\" r=\"2.6\" fill=\"#ffffff\" stroke=\"#2a7f78\" stroke-width=\"1.2\"/>",
                    x + out_of * 12.0
                ));
            }
        }
    }

    /// The tables.
    fn draw_plates(&self, out: &mut String) {
        let mut put = |line: String| put(out, line);
        for (plate, area) in self.plates.iter().zip(&self.layout.plates) {
            let (x, y) = (px(area.x as f64), py(area.y as f64));
            let (w, h) = (area.width as f64 * CELL.0, area.height as f64 * CELL.1);
            put(format!(
                "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{w:.1}\" height=\"{h:.1}\" fill=\"#edf4f4\"/>"
            ));
            put(format!(
                "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{w:.1}\" height=\"{:.1}\" fill=\"#cfe4e4\"/>",
                CELL.1
            ));
            let mut text = |x: f64, row: usize, most: usize, words: &str, style: &str| {
                if !words.is_empty() && most > 0 {
                    put(format!(
                        "<text x=\"{x:.1}\" y=\"{:.1}\" xml:space=\"preserve\" {style}>{}</text>",
                        py((area.y + row) as f64) + 12.6,
                        escaped(words, most)
                    ));
                }
            };
            let inside = area.width - 2;
            text(
                x + CELL.0,
                0,
                inside,
                &plate.title,
                "font-weight=\"bold\" fill=\"#06141a\"",
            );
            let taken = unicode_width::UnicodeWidthStr::width(plate.title.as_str()) + 2;
            text(
                x + (1 + taken) as f64 * CELL.0,
                0,
                inside.saturating_sub(taken),
                &plate.note,
                "fill=\"#3b545d\"",
            );
            let names = plate.name_width();
            for (n, (name, note)) in plate.lines.iter().enumerate() {
                text(x + CELL.0, n + 1, inside, name, "fill=\"#1c2b31\"");
                text(
                    x + (names + 3) as f64 * CELL.0,
                    n + 1,
                    inside.saturating_sub(names + 2),
                    note,
                    "fill=\"#3b545d\"",
                );
            }
        }
    }
}

/// What the signs mean, in a line at `y`.
fn draw_legend(out: &mut String, y: f64) {
    let mut put = |line: String| put(out, line);
    // Signs and words of the legend: the place of each sign, in columns, and what it says.
    let legend = [
        (0, "several"),
        (13, "one"),
        (22, "may be empty"),
        (40, "declared"),
        (54, "guessed"),
    ];
    for (n, (column, words)) in legend.into_iter().enumerate() {
        let x = px(f64::from(column));
        let line = |x1: f64, y1: f64, x2: f64, dash: &str| {
            format!(
                "<line x1=\"{x1:.1}\" y1=\"{y1:.1}\" x2=\"{x2:.1}\" y2=\"{y:.1}\" stroke=\"#2a7f78\" stroke-width=\"1.2\"{dash}/>"
            )
        };
        let dot = |fill: &str| {
            format!(
                "<circle cx=\"{:.1}\" cy=\"{y:.1}\" r=\"2.6\" fill=\"{fill}\" stroke=\"#2a7f78\" stroke-width=\"1.2\"/>",
                x + 10.0
            )
        };
        let sign = match n {
            0 => [-4.0, 0.0, 4.0]
                .map(|spread| line(x, y + spread, x + 14.0, ""))
                .concat(),
            1 => dot("#2a7f78"),
            2 => dot("#ffffff"),
            3 => line(x, y, x + 16.0, ""),
            _ => line(x, y, x + 16.0, " stroke-dasharray=\"4 3\""),
        };
        put(sign);
        put(format!(
            "<text x=\"{:.1}\" y=\"{:.1}\" fill=\"#3b545d\">{words}</text>",
            x + 22.0,
            y + 4.2
        ));
    }
}

/// Where the tables begin below the title.
const TOP: f64 = PAGE + 28.0;

/// A column of cells, in units of the drawing.
fn px(x: f64) -> f64 {
    PAGE + x * CELL.0
}

/// A row of cells, in units of the drawing.
fn py(y: f64) -> f64 {
    TOP + y * CELL.1
}

fn put(out: &mut String, line: String) {
    out.push_str(&line);
    out.push('\n');
}
