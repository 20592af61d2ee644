//! A card: short lines in columns on one page of paper (A4 across, ISO 216), as SVG, from which a PDF is made, and as text.

use std::fmt::Write as _;

use unicode_width::UnicodeWidthStr;

use crate::links::svg::escaped;
use crate::marks::show_label;

/// Lines under a heading: what is looked for, and what it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Section {
    /// The heading.
    pub title: String,
    /// The lines.
    pub lines: Vec<(String, String)>,
}

/// A page of such sections.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Card {
    /// What stands above them.
    pub title: String,
    /// The sections, in their order.
    pub sections: Vec<Section>,
}

/// The page and what is left free around it, in pixels of 96 to the inch.
const PAGE: (f64, f64) = (1_122.5, 793.7);
const MARGIN: f64 = 34.0;
const COLUMNS: usize = 4;
/// Between two columns.
const GAP: f64 = 20.0;
/// Where the columns begin below the title.
const TOP: f64 = 34.0;
/// The widest line of the left part, in characters, and the greatest height of a line.
const LEFT: usize = 30;
/// The widest left part to which those of its section give room.
const NARROW: usize = 14;
const TALLEST: f64 = 12.0;
/// The size of the letters of a line's height, and the width of a letter of their size.
const SIZE: f64 = 0.68;
const LETTER: f64 = 0.603;

enum Placed<'a> {
    Heading(&'a str),
    /// A line, and where the right parts of its section begin, in characters.
    Line(&'a (String, String), usize),
    Air,
}

impl Card {
    /// Every line in its order; air stands before a heading.
    fn all(&self) -> Vec<Placed<'_>> {
        let mut all = Vec::new();
        for section in self
            .sections
            .iter()
            .filter(|section| !section.lines.is_empty())
        {
            if !all.is_empty() {
                all.push(Placed::Air);
            }
            all.push(Placed::Heading(&section.title));
            // One that is too wide for its neighbours pushes only its own.
            let widths = section.lines.iter().map(|(left, _)| left.width());
            let indent = widths.filter(|width| *width <= NARROW).max().unwrap_or(0);
            let lines = section.lines.iter();
            all.extend(lines.map(|line| Placed::Line(line, indent)));
        }
        all
    }

    /// The card as an SVG document.
    pub fn svg(&self) -> String {
        let all = self.all();
        let tall = PAGE.1 - 2.0 * MARGIN - TOP;
        // A column more than needed is left by headings that are not kept at the foot of one.
        let each = (all.len() + COLUMNS * 2).div_ceil(COLUMNS).max(1);
        let height = (tall / each as f64).min(TALLEST);
        let size = height * SIZE;
        let width = (PAGE.0 - 2.0 * MARGIN - GAP * (COLUMNS - 1) as f64) / COLUMNS as f64;
        let letters = (width / (size * LETTER)) as usize;
        let mut out = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}\" height=\"{1}\" viewBox=\"0 0 {0} {1}\" font-family=\"Hack, monospace\" font-size=\"{size:.2}\">\n\
             <rect width=\"{0}\" height=\"{1}\" fill=\"#ffffff\"/>\n",
            PAGE.0, PAGE.1
        );
        let mut text = |x: f64, y: f64, style: &str, words: &str, most: usize| {
            let words = escaped(words, most);
            let _ = writeln!(
                out,
                "<text x=\"{x:.1}\" y=\"{y:.1}\" {style} xml:space=\"preserve\">{words}</text>"
            );
        };
        let heading = "fill=\"#1c6b5a\" font-weight=\"bold\"";
        text(
            MARGIN,
            MARGIN + 10.0,
            "fill=\"#1c2b31\" font-size=\"13\" font-weight=\"bold\"",
            &self.title,
            120,
        );
        let (mut column, mut line) = (0, 0);
        for placed in &all {
            // No heading stands alone at the foot, no air at the head.
            let alone = matches!(placed, Placed::Heading(_)) && line + 2 > each;
            if line >= each || alone {
                (column, line) = (column + 1, 0);
            }
            if line == 0 && matches!(placed, Placed::Air) {
                continue;
            }
            let x = MARGIN + column as f64 * (width + GAP);
            let y = MARGIN + TOP + (line as f64 + SIZE) * height;
            line += 1;
            match placed {
                Placed::Air => {}
                Placed::Heading(title) => text(x, y, heading, title, letters),
                Placed::Line((left, right), indent) => {
                    let used = show_label(left, LEFT).width.max(*indent) + 2;
                    text(x, y, "fill=\"#1c2b31\"", left, LEFT);
                    let indent = x + used as f64 * size * LETTER;
                    text(
                        indent,
                        y,
                        "fill=\"#4a5d66\"",
                        right,
                        letters.saturating_sub(used),
                    );
                }
            }
        }
        out.push_str("</svg>\n");
        out
    }

    /// The card as text.
    pub fn text(&self) -> String {
        let mut out = format!("{}\n", self.title);
        for section in &self.sections {
            let widest = section
                .lines
                .iter()
                .map(|(left, _)| left.width())
                .max()
                .unwrap_or(0);
            let _ = writeln!(out, "\n{}", section.title);
            for (left, right) in &section.lines {
                let fill = " ".repeat(widest - left.width());
                let _ = writeln!(out, "  {left}{fill}  {right}");
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn card(lines: usize) -> Card {
        let line = |n: usize| (format!("key {n}"), format!("does <{n}> & more"));
        Card {
            title: "A card".into(),
            sections: (0..6)
                .map(|at| Section {
                    title: format!("part {at}"),
                    lines: (0..lines).map(line).collect(),
                })
                .collect(),
        }
    }

    #[test]
    fn every_line_stands_on_the_page_and_no_heading_alone() {
        for lines in [1, 10, 39, 80] {
            let svg = card(lines).svg();
            let tree = roxmltree::Document::parse(&svg).expect("XML");
            let texts: Vec<_> = tree
                .descendants()
                .filter(|n| n.has_tag_name("text"))
                .collect();
            assert_eq!(texts.len(), 1 + 6 + 6 * lines * 2);
            let number = |node: &roxmltree::Node<'_, '_>, name: &str| -> f64 {
                node.attribute(name)
                    .and_then(|v| v.parse().ok())
                    .expect("a number")
            };
            for text in &texts {
                assert!(number(text, "y") <= PAGE.1 - MARGIN + 1.0, "{lines}");
                assert!(number(text, "x") < PAGE.0 - MARGIN, "{lines}");
            }
            let headings = texts
                .iter()
                .filter(|n| n.text().is_some_and(|t| t.starts_with("part")));
            for heading in headings {
                let (x, y) = (number(heading, "x"), number(heading, "y"));
                let below = texts
                    .iter()
                    .any(|n| number(n, "x") == x && number(n, "y") > y);
                assert!(below, "{lines}: {:?} stands alone", heading.text());
            }
        }
        assert!(crate::pdf::of_svg(&card(39).svg()).is_ok_and(|pdf| pdf.starts_with(b"%PDF")));
        assert!(
            card(1)
                .text()
                .contains("\npart 1\n  key 0  does <0> & more\n")
        );
    }
}
