use std::collections::HashSet;

use idle_tide_core::chart::{How, Kind, Spec, gather, propose};
use idle_tide_core::column::Column;
use idle_tide_core::result::ResultSet;
use idle_tide_core::value::Value;
use unicode_width::UnicodeWidthStr;

use super::svg::COLOURS;
use super::*;

fn set(names: &[&str], rows: Vec<Vec<Value>>) -> ResultSet {
    let columns = names.iter().map(|name| Column::named(*name));
    ResultSet::of_rows(columns.collect(), rows)
}

fn text(text: impl Into<String>) -> Value {
    Value::Text(text.into())
}

/// Landings of some days, ports and kinds of fish, with gaps, a value below zero, and names that nobody would choose.
fn landings() -> ResultSet {
    let ports = [
        "Quay",
        "Cove <b>&",
        "Sound\u{1b}[31m",
        "港",
        "A very long name of a place that has no room at the side",
    ];
    let rows = (0..400_i64).map(|n| {
        let day = format!("2031-03-{:02}", n % 31 + 1);
        let kg = match n % 17 {
            0 => Value::Null,
            3 => Value::Float(-40.0),
            _ => Value::Float((n * 37 % 101) as f64 / 2.0),
        };
        vec![
            text(day),
            text(ports[n as usize % 5]),
            text(format!("fish {}", n % 3)),
            kg,
            Value::Integer(n % 9 + 1),
        ]
    });
    set(&["day", "port", "fish", "kg", "boxes"], rows.collect())
}

fn scene(set: &ResultSet, spec: &Spec, width: usize, height: usize) -> Scene {
    let data = gather(set, None, spec, &|| false).expect("gathers");
    lay_out(&data, "what was landed", width, height)
}

fn all_specs(set: &ResultSet) -> Vec<Spec> {
    let mut specs = Vec::new();
    for kind in Kind::ALL {
        let Ok(spec) = propose(set, Some(kind)) else {
            continue;
        };
        specs.push(Spec {
            stacked: true,
            ordered: true,
            ..spec.clone()
        });
        specs.push(Spec {
            by: None,
            panels: Some(2),
            ..spec.clone()
        });
        specs.push(Spec {
            how: How::Mean,
            log: true,
            ..spec.clone()
        });
        specs.push(spec);
    }
    specs
}

/// Whatever the size and the data: no text leaves the picture or stands on another, and no mark leaves it.
fn check(scene: &Scene, about: &str) {
    let mut taken = HashSet::new();
    for text in &scene.texts {
        let width = text.text.width();
        assert!(
            text.x + width <= scene.width && text.y < scene.height,
            "{about}: {text:?} leaves the picture"
        );
        for x in text.x..text.x + width {
            assert!(
                taken.insert((x, text.y)),
                "{about}: {text:?} stands on another in {}",
                scene.text()
            );
        }
        assert!(!text.text.contains('\u{1b}'), "{about}: {text:?}");
    }
    let inside = |x: f64, y: f64| {
        (-0.01..=scene.width as f64 + 0.01).contains(&x)
            && (-0.01..=scene.height as f64 + 0.01).contains(&y)
    };
    for shape in &scene.shapes {
        let fine = match shape {
            Shape::Bar {
                x,
                y,
                width,
                height,
                ..
            } => inside(*x, *y) && inside(x + width, y + height),
            Shape::Line { points, .. } => points.iter().all(|(x, y)| inside(*x, *y)),
            Shape::Dot { x, y, .. } => inside(*x, *y),
            Shape::Quartiles { y, x } => x.iter().all(|x| inside(*x, *y as f64)),
            Shape::Shade {
                x,
                y,
                width,
                height,
                ..
            } => inside(*x as f64, *y as f64) && inside((x + width) as f64, (y + height) as f64),
            Shape::Grid { from, to, .. } => inside(from.0, from.1) && inside(to.0, to.1),
        };
        assert!(
            fine,
            "{about}: {shape:?} leaves the picture of {} by {}",
            scene.width, scene.height
        );
    }
    for row in scene.cells() {
        let width: usize = row.iter().map(|cell| cell.symbol.width()).sum();
        assert_eq!(width, scene.width, "{about}");
    }
}

#[test]
fn no_label_is_cut_or_stands_on_another_in_any_size() {
    let set = landings();
    for spec in all_specs(&set) {
        for (width, height) in [
            (134, 36),
            (73, 15),
            (110, 34),
            (40, 12),
            (20, 6),
            (12, 4),
            (300, 90),
        ] {
            let about = format!("{spec:?} in {width} by {height}");
            check(&scene(&set, &spec, width, height), &about);
        }
    }
}

/// Names that people and attackers choose: wide, joined, long, empty, from right to left, with controls.
const NAMES: [&str; 10] = [
    "",
    "Quay",
    "港の東側の桟橋と倉庫",
    "👩\u{200d}🔧 crew",
    "a\u{301}e\u{301}",
    "\u{202e}reverse",
    "tab\there\nand there",
    "A very long name of a place that has no room at the side of any picture",
    "\u{1b}]0;title\u{7}",
    "ﷺ",
];

/// A column of some kind, of as many rows.
fn any_column(rows: usize) -> impl proptest::strategy::Strategy<Value = Vec<Value>> {
    use proptest::prelude::*;
    let number = prop_oneof![
        1 => Just(Value::Null),
        6 => (-1000_i64..1000).prop_map(Value::Integer),
        2 => (-1e12_f64..1e12).prop_map(Value::Float),
        1 => prop_oneof![Just(f64::MAX), Just(f64::MIN_POSITIVE), Just(-0.0), Just(f64::INFINITY)].prop_map(Value::Float),
    ];
    let name = (0..NAMES.len()).prop_map(|at| text(NAMES[at]));
    let moment = prop_oneof![
        1 => Just(Value::Null),
        5 => (1_u8..28, 0_u8..24).prop_map(|(day, hour)| text(format!("2031-03-{day:02} {hour:02}:30:00"))),
        1 => (1_u16..9999).prop_map(|year| text(format!("{year:04}-01-01"))),
    ];
    prop_oneof![
        proptest::collection::vec(number, rows),
        proptest::collection::vec(name, rows),
        proptest::collection::vec(moment, rows),
    ]
}

fn any_set() -> impl proptest::strategy::Strategy<Value = ResultSet> {
    use proptest::prelude::*;
    (1_usize..40, 1_usize..5).prop_flat_map(|(rows, columns)| {
        proptest::collection::vec(any_column(rows), columns).prop_map(move |columns| {
            let names: Vec<&str> =
                ["kg", "港", "day", "a very long name of a column"][..columns.len()].to_vec();
            let row = |at: usize| columns.iter().map(|column| column[at].clone()).collect();
            set(&names, (0..rows).map(row).collect())
        })
    })
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(120))]

    /// In any size, of any rows: no text leaves the picture or stands on another, no mark leaves it, and paper holds it.
    #[test]
    fn any_picture_is_whole(
        set in any_set(),
        (width, height) in (1_usize..170, 1_usize..50),
        (stacked, ordered, log) in (proptest::bool::ANY, proptest::bool::ANY, proptest::bool::ANY),
        (how, panels) in (0_usize..3, proptest::option::of(0_usize..5)),
    ) {
        for kind in Kind::ALL {
            let Ok(spec) = propose(&set, Some(kind)) else {
                continue;
            };
            let panels = panels.filter(|at| *at < set.columns().len());
            let spec = Spec { stacked, ordered, log, how: How::ALL[how], panels, ..spec };
            let scene = scene(&set, &spec, width, height);
            check(&scene, &format!("{spec:?} in {width} by {height}"));
            for hit in &scene.hits {
                let (x, y, wide, high) = hit.area;
                proptest::prop_assert!(x.is_finite() && y.is_finite() && wide > 0.0 && high > 0.0, "{hit:?}");
            }
            let svg = scene.svg();
            let tree = roxmltree::Document::parse(&svg).expect("a document that parses");
            for attribute in tree.descendants().flat_map(|node| node.attributes()) {
                let value = attribute.value();
                proptest::prop_assert!(!value.contains("NaN") && !value.contains("inf"), "{spec:?}: {attribute:?}");
            }
        }
    }
}

#[test]
fn bad_data_gives_a_picture_or_says_why_not() {
    let one = |values: Vec<Value>| {
        set(
            &["port", "n"],
            values.into_iter().map(|v| vec![text("Quay"), v]).collect(),
        )
    };
    let ranges = [
        vec![Value::Float(1e308), Value::Float(-1e308)],
        vec![Value::Float(1e-300)],
        vec![Value::Float(f64::NAN), Value::Float(f64::INFINITY)],
        vec![Value::Integer(i64::MAX), Value::Integer(i64::MIN)],
        vec![Value::Null],
        vec![Value::Integer(0)],
    ];
    for values in ranges {
        let set = one(values.clone());
        for kind in Kind::ALL {
            if let Ok(spec) = propose(&set, Some(kind)) {
                let scene = scene(&set, &spec, 80, 20);
                check(&scene, &format!("{kind:?} of {values:?}"));
            }
        }
    }
    let spec = propose(&landings(), Some(Kind::Bars)).expect("bars");
    let empty = set(&["day", "port", "fish", "kg"], Vec::new());
    assert!(
        scene(&empty, &spec, 60, 12)
            .text()
            .contains("There are no rows to draw.")
    );
    // Days centuries apart, and 400 categories.
    let far = [("0001-01-01", 1), ("2031-03-01", 2), ("9999-12-31", 3)];
    let far = set(
        &["day", "n"],
        far.map(|(day, n)| vec![text(day), Value::Integer(n)])
            .to_vec(),
    );
    check(
        &scene(&far, &propose(&far, None).expect("a line"), 100, 20),
        "centuries",
    );
    let many = (0..400).map(|n| vec![text(format!("port {n}")), Value::Integer(n)]);
    let many = set(&["port", "kg"], many.collect());
    let bars = scene(&many, &propose(&many, None).expect("bars"), 100, 24);
    check(&bars, "400 categories");
    assert!(
        bars.text().contains("largest of 400; the rest come to"),
        "{}",
        bars.text()
    );
}

/// The ends of bars and the points of lines lie where their values say, in cells and on paper.
#[test]
fn marks_stand_where_their_values_say_in_cells_and_on_paper() {
    let values = [("Quay", 10.0), ("Cove", 25.0), ("Spit", 50.0)];
    let set = set(
        &["port", "kg"],
        values
            .iter()
            .map(|(p, kg)| vec![text(*p), Value::Float(*kg)])
            .collect(),
    );
    let scene = scene(&set, &propose(&set, None).expect("bars"), 66, 12);
    let bars: Vec<(f64, f64)> = scene
        .shapes
        .iter()
        .filter_map(|shape| match shape {
            Shape::Bar { x, width, .. } => Some((*x, *width)),
            _ => None,
        })
        .collect();
    for ((_, kg), (x, width)) in values.iter().zip(&bars) {
        assert_eq!(*x, bars[0].0);
        assert!((width / bars[2].1 - kg / 50.0).abs() < 1e-9, "{kg}");
    }
    // In cells each is as long, to an eighth of a cell.
    let cells = scene.cells();
    for (hit, (_, width)) in scene.hits.iter().zip(&bars) {
        let row = &cells[hit.area.1 as usize];
        let eighths = |symbol: &str| {
            "▏▎▍▌▋▊▉█"
                .chars()
                .position(|c| symbol.starts_with(c))
                .map_or(0, |at| at + 1)
        };
        let length: usize = row
            .iter()
            .filter(|cell| matches!(cell.ink, Ink::Series(_)))
            .map(|cell| eighths(&cell.symbol))
            .sum();
        assert!(
            (length as f64 / 8.0 - width).abs() <= 0.13,
            "{length} {width}"
        );
    }
    // On paper too.
    let svg = scene.svg();
    let widths: Vec<f64> = svg
        .lines()
        .filter(|line| line.starts_with("<rect x=") && line.contains(COLOURS[0]))
        .filter_map(|line| {
            line.split("width=\"")
                .nth(1)?
                .split('"')
                .next()?
                .parse()
                .ok()
        })
        .collect();
    assert_eq!(widths.len(), 3);
    for (on_paper, (_, width)) in widths.iter().zip(&bars) {
        assert!((on_paper / 7.224 - width).abs() < 0.01);
    }
}

#[test]
fn paper_holds_valid_documents_with_text_that_can_be_selected() {
    let set = landings();
    for spec in all_specs(&set) {
        let scene = scene(&set, &spec, 110, 34);
        let svg = scene.svg();
        assert!(!svg.contains('\u{1b}') && !svg.contains("<b>"), "{spec:?}");
        let pdf = crate::pdf::of_svg(&svg).expect("a document that parses");
        let pdf = String::from_utf8_lossy(&pdf);
        assert!(
            pdf.contains("/ToUnicode") && pdf.contains("/FontFile"),
            "{spec:?}"
        );
    }
    insta::assert_snapshot!(
        "bars",
        scene(
            &set,
            &propose(&set, Some(Kind::Bars)).expect("bars"),
            80,
            24
        )
        .text()
    );
    let line = Spec {
        by: Some(2),
        ..propose(&set, Some(Kind::Line)).expect("a line")
    };
    insta::assert_snapshot!("line", scene(&set, &line, 80, 24).text());
    insta::assert_snapshot!(
        "heat",
        scene(
            &set,
            &propose(&set, Some(Kind::Heat)).expect("heat"),
            80,
            24
        )
        .text()
    );
    insta::assert_snapshot!(
        "box",
        scene(
            &set,
            &propose(&set, Some(Kind::Boxes)).expect("boxes"),
            80,
            16
        )
        .text()
    );
    let area = Spec {
        stacked: true,
        ..propose(&set, Some(Kind::Area)).expect("an area")
    };
    insta::assert_snapshot!("area", scene(&set, &area, 80, 24).text());
}

/// sRGB (IEC 61966-2-1) without its curve.
fn linear(colour: &str) -> [f64; 3] {
    [1, 3, 5].map(|at| {
        let part =
            f64::from(u8::from_str_radix(&colour[at..at + 2], 16).expect("two digits")) / 255.0;
        if part <= 0.04045 {
            part / 12.92
        } else {
            ((part + 0.055) / 1.055).powf(2.4)
        }
    })
}

fn luminance([r, g, b]: [f64; 3]) -> f64 {
    0.2126 * r + 0.7152 * g + 0.0722 * b
}

/// How eyes without one of the three cones see a colour (Viénot, Brettel and Mollon 1999), and eyes that see all.
fn seen(colour: [f64; 3], eye: usize) -> [f64; 3] {
    let matrix = match eye {
        0 => [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]],
        1 => [
            [0.11238, 0.88762, 0.0],
            [0.11238, 0.88762, 0.0],
            [0.00401, -0.00401, 1.0],
        ],
        _ => [
            [0.29275, 0.70725, 0.0],
            [0.29275, 0.70725, 0.0],
            [-0.02234, 0.02234, 1.0],
        ],
    };
    matrix.map(|row: [f64; 3]| row.iter().zip(colour).map(|(a, b)| a * b).sum())
}

#[test]
fn colours_of_series_are_readable_and_neighbours_stay_apart() {
    for colour in COLOURS {
        let contrast = 1.05 / (luminance(linear(colour)) + 0.05);
        assert!(contrast >= 3.0, "{colour} on white: {contrast:.2}");
    }
    for two in COLOURS.windows(2) {
        for eye in 0..3 {
            let (a, b) = (seen(linear(two[0]), eye), seen(linear(two[1]), eye));
            let distance: f64 = a
                .iter()
                .zip(b)
                .map(|(a, b)| (a - b).powi(2))
                .sum::<f64>()
                .sqrt();
            assert!(distance > 0.08, "{two:?} for eye {eye}: {distance:.3}");
        }
        let (a, b) = (luminance(linear(two[0])), luminance(linear(two[1])));
        let ratio = (a.max(b) + 0.05) / (a.min(b) + 0.05);
        assert!(ratio > 1.25, "{two:?} in grey: {ratio:.2}");
    }
}
