//! Tables and the links between them as a drawing: laid out once, then shown as cells of a terminal or as SVG.
//! It takes texts and pairs of lines; it knows no catalog.

mod cells;
mod layout;
pub(crate) mod svg;

pub use cells::{Cell, Ink, Lit};
pub use layout::{Area, Layout, Plate, Wire};

/// A drawing that has been laid out.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Drawing {
    /// The tables.
    pub plates: Vec<Plate>,
    /// The links.
    pub wires: Vec<Wire>,
    /// Where they are.
    pub layout: Layout,
}

impl Drawing {
    /// Lays out tables and links; tables without links stand below, in rows of about `width` columns.
    pub fn new(plates: Vec<Plate>, wires: Vec<Wire>, width: usize) -> Self {
        let layout = layout::layout(&plates, &wires, width);
        Drawing {
            plates,
            wires,
            layout,
        }
    }

    /// The plate at a cell.
    pub fn plate_at(&self, x: usize, y: usize) -> Option<usize> {
        self.layout.plates.iter().position(|area| area.holds(x, y))
    }

    /// The nearest plate in a direction (columns, rows; one of them 0) from a plate.
    pub fn neighbour(&self, from: usize, towards: (i64, i64)) -> Option<usize> {
        let middle = |area: &Area| {
            (
                (2 * area.x + area.width) as i64,
                // Rows are about twice as high as columns are wide.
                2 * (2 * area.y + area.height) as i64,
            )
        };
        let start = middle(self.layout.plates.get(from)?);
        let mut best: Option<(i64, usize)> = None;
        for (at, area) in self.layout.plates.iter().enumerate() {
            let (x, y) = middle(area);
            let (dx, dy) = (x - start.0, y - start.1);
            let (along, aside) = if towards.0 != 0 {
                (dx * towards.0, dy.abs())
            } else {
                (dy * towards.1, dx.abs())
            };
            if at != from && along > 0 {
                let cost = along + 3 * aside;
                if best.is_none_or(|(known, _)| cost < known) {
                    best = Some((cost, at));
                }
            }
        }
        best.map(|(_, at)| at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A plate and a line of it.
    type End = (usize, usize);

    /// Plates of so many lines each, and wires between their lines.
    fn drawing(lines: &[usize], wires: &[(End, End)]) -> Drawing {
        let plates = lines
            .iter()
            .enumerate()
            .map(|(at, count)| Plate {
                title: format!("table_{at}"),
                note: String::new(),
                lines: (0..*count)
                    .map(|line| (format!("column_{line}"), String::new()))
                    .collect(),
            })
            .collect();
        let wires = wires
            .iter()
            .map(|(from, to)| Wire {
                from: *from,
                to: *to,
                declared: true,
                many: true,
                finds_many: false,
                optional: false,
            })
            .collect();
        Drawing::new(plates, wires, 80)
    }

    /// No plate lies over another, no wire runs through a plate, and every wire ends beside its lines.
    fn is_sound(drawing: &Drawing) {
        let areas = &drawing.layout.plates;
        for (at, a) in areas.iter().enumerate() {
            for b in &areas[..at] {
                let apart = a.x + a.width <= b.x
                    || b.x + b.width <= a.x
                    || a.y + a.height <= b.y
                    || b.y + b.height <= a.y;
                assert!(apart, "{a:?} lies over {b:?}");
            }
        }
        for (wire, points) in drawing.wires.iter().zip(&drawing.layout.wires) {
            for pair in points.windows(2) {
                let ((x1, y1), (x2, y2)) = (pair[0], pair[1]);
                assert!(x1 == x2 || y1 == y2, "lines are straight: {pair:?}");
                for x in x1.min(x2)..=x1.max(x2) {
                    for y in y1.min(y2)..=y1.max(y2) {
                        assert_eq!(
                            drawing.plate_at(x, y),
                            None,
                            "a line runs through a table at {x}, {y}"
                        );
                    }
                }
            }
            for (end, (plate, line)) in
                [(points[0], wire.from), (points[points.len() - 1], wire.to)]
            {
                let area = areas[plate];
                assert_eq!(end.1, area.y + 1 + line, "{wire:?}");
                assert!(
                    end.0 == area.x + area.width || end.0 + 1 == area.x,
                    "{wire:?}: {end:?} is not beside {area:?}"
                );
            }
        }
    }

    #[test]
    fn lines_never_cross_tables() {
        // A chain with a long line past it, a circle, a loop, two links between the same, and one alone.
        let d = drawing(
            &[3, 2, 2, 1, 2, 0],
            &[
                ((0, 0), (1, 0)),
                ((1, 1), (2, 0)),
                ((2, 1), (3, 0)),
                ((0, 1), (3, 0)),
                ((3, 0), (0, 2)),
                ((4, 0), (4, 1)),
                ((4, 0), (2, 0)),
                ((4, 1), (2, 0)),
            ],
        );
        is_sound(&d);
        let text = d.text(&Lit::default());
        insta::assert_snapshot!(text);
    }

    #[test]
    fn any_tangle_is_laid_out_soundly() {
        let mut state = 12_345_u64;
        let mut random = |most: usize| {
            state = state
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as usize % most
        };
        for _ in 0..60 {
            let count = 1 + random(18);
            let lines: Vec<usize> = (0..count).map(|_| 1 + random(5)).collect();
            let wires: Vec<_> = (0..random(30))
                .map(|_| {
                    let (a, b) = (random(count), random(count));
                    ((a, random(lines[a])), (b, random(lines[b])))
                })
                .collect();
            is_sound(&drawing(&lines, &wires));
        }
    }

    #[test]
    fn arrows_lead_to_the_nearest_table() {
        let d = drawing(&[1, 1, 1], &[((0, 0), (2, 0)), ((1, 0), (2, 0))]);
        assert_eq!(d.neighbour(0, (1, 0)), Some(2));
        assert!(d.neighbour(2, (-1, 0)).is_some_and(|at| at < 2));
        assert_eq!(d.neighbour(0, (0, 1)), Some(1));
        assert_eq!(d.neighbour(2, (1, 0)), None);
    }
}
