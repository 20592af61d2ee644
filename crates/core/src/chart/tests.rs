use super::scale::{Of, Scale, number_words, plain_words, step, time_words};
use super::*;
use crate::column::Column;
use crate::value::Value;

fn never() -> bool {
    false
}

fn text(text: &str) -> Value {
    Value::Text(text.into())
}

fn set(names: &[&str], rows: Vec<Vec<Value>>) -> ResultSet {
    ResultSet::of_rows(
        names.iter().map(|name| Column::named(*name)).collect(),
        rows,
    )
}

fn landings() -> ResultSet {
    let rows = [
        ("2031-03-01", "Quay", "cod", 10.0),
        ("2031-03-01", "Cove", "cod", 4.0),
        ("2031-03-02", "Quay", "sole", 2.5),
        ("2031-03-04", "Quay", "cod", 6.0),
    ];
    let rows = rows.iter().enumerate().map(|(at, (day, port, fish, kg))| {
        vec![
            Value::Integer(at as i64),
            text(day),
            text(port),
            text(fish),
            Value::Float(*kg),
        ]
    });
    set(&["id", "day", "port", "fish", "kg"], rows.collect())
}

fn gathered(set: &ResultSet, spec: &Spec) -> Data {
    gather(set, None, spec, &never).expect("gathers")
}

/// The kind and the columns that are proposed for columns of some kinds.
#[test]
fn what_is_proposed_follows_from_the_columns() {
    let kind = |set: &ResultSet| propose(set, None).map(|spec| spec.kind);
    let two = |a: [Value; 2], b: [Value; 2]| {
        set(
            &["a", "b"],
            a.into_iter().zip(b).map(|(a, b)| vec![a, b]).collect(),
        )
    };
    let words = || [text("Quay"), text("Cove")];
    let numbers = || [Value::Float(1.5), Value::Float(7.0)];
    let days = || [text("2031-03-01"), text("2031-03-02 10:00:00")];
    assert_eq!(kind(&landings()), Ok(Kind::Line));
    assert_eq!(kind(&two(words(), numbers())), Ok(Kind::Bars));
    assert_eq!(kind(&two(numbers(), numbers())), Ok(Kind::Points));
    assert_eq!(kind(&two(words(), words())), Ok(Kind::Heat));
    assert_eq!(kind(&two(days(), days())), Ok(Kind::Line));
    assert_eq!(
        kind(&set(&["n"], vec![vec![Value::Float(1.0)]])),
        Ok(Kind::Histogram)
    );
    let nothing = kind(&set(&["blob"], vec![vec![Value::Bytes(vec![1])]]));
    assert!(
        nothing
            .expect_err("nothing to draw")
            .contains("nothing to draw in blob")
    );
    assert!(kind(&set(&["n"], Vec::new())).is_err());
    // An identifier is nothing to add up.
    let spec = propose(&landings(), Some(Kind::Bars)).expect("bars");
    assert_eq!((spec.x, spec.y, spec.by), (Some(2), vec![4], Some(3)));
    // What is different in every row splits nothing.
    let rows = [("a", "x"), ("b", "y"), ("c", "z")]
        .map(|(a, b)| vec![text(a), text(b), Value::Float(1.0)]);
    let each = propose(&set(&["a", "b", "n"], rows.to_vec()), Some(Kind::Bars)).expect("bars");
    assert_eq!(each.by, None);
    let needs = propose(&two(words(), words()), Some(Kind::Boxes));
    assert!(needs.expect_err("no number").contains("needs a number"));
}

/// A logarithmic scale is for values that a linear one would lay flat, and only where all have a logarithm.
#[test]
fn values_that_span_far_are_told_from_those_that_do_not() {
    let spans = |values: &[f64]| {
        let rows = values.iter().enumerate();
        let rows = rows.map(|(at, y)| vec![Value::Float(at as f64 / 2.0), Value::Float(*y)]);
        let set = set(&["x", "y"], rows.collect());
        let spec = propose(&set, Some(Kind::Points)).expect("points");
        gathered(&set, &spec).spans()
    };
    assert_eq!(spans(&[1.0, 3.0, 20.0, 50_000.0]), Some((1.0, 50_000.0)));
    assert_eq!(spans(&[0.0, 3.0, 20.0, 50_000.0]), None, "zero has none");
    assert_eq!(spans(&[1.0, 3.0, 20.0, 5_000.0]), None, "not far enough");
    assert_eq!(spans(&[1.0, 40_000.0, 50_000.0]), None, "most are not flat");
    let bars = propose(&landings(), Some(Kind::Bars)).expect("bars");
    assert_eq!(
        gathered(&landings(), &bars).spans(),
        None,
        "bars have a length"
    );
}

#[test]
fn what_falls_on_one_mark_is_put_together_and_said() {
    let set = landings();
    let spec = propose(&set, Some(Kind::Bars)).expect("bars");
    let data = gathered(&set, &spec);
    assert_eq!(
        data.across,
        Across::Categories(vec!["Quay".into(), "Cove".into()])
    );
    assert_eq!(data.series, ["cod", "sole"]);
    assert_eq!(data.names, ("port".to_string(), "sum of kg".to_string()));
    let expected = Marks::Values(vec![vec![Some(16.0), Some(4.0)], vec![Some(2.5), None]]);
    assert_eq!(data.panels[0].marks, expected);
    let rows = |series, key| rows_of(&set, None, &data, 0, series, key, &never).expect("rows");
    assert_eq!(rows(0, Key::Category(0)), [0, 3]);
    assert_eq!(rows(1, Key::Category(0)), [2]);

    let mean = gathered(
        &set,
        &Spec {
            how: How::Mean,
            by: None,
            ..spec.clone()
        },
    );
    assert_eq!(mean.names.1, "mean of kg");
    assert_eq!(
        mean.panels[0].marks,
        Marks::Values(vec![vec![Some(18.5 / 3.0), Some(4.0)]])
    );
    let panels = gathered(
        &set,
        &Spec {
            panels: Some(3),
            by: None,
            ..spec
        },
    );
    let names: Vec<&str> = panels
        .panels
        .iter()
        .map(|panel| panel.name.as_str())
        .collect();
    assert_eq!(names, ["cod", "sole"]);

    let line = propose(&set, None).expect("a line");
    let data = gathered(&set, &Spec { by: None, ..line });
    let day = 86_400.0;
    let first = 1_930_089_600.0;
    let expected = vec![vec![
        (first, 14.0),
        (first + day, 2.5),
        (first + 3.0 * day, 6.0),
    ]];
    assert_eq!(data.panels[0].marks, Marks::Lines(expected));
    assert_eq!(time_words(first), "2031-03-01");
    let rows = rows_of(&set, None, &data, 0, 0, Key::X(first), &never).expect("rows");
    assert_eq!(rows, [0, 1]);
}

#[test]
fn values_that_are_missing_or_endless_are_left_out_and_said() {
    let rows = vec![
        vec![Value::Integer(1), Value::Float(f64::NAN)],
        vec![Value::Integer(2), Value::Null],
        vec![Value::Null, Value::Float(1.0)],
        vec![Value::Integer(3), Value::Float(f64::INFINITY)],
        vec![Value::Integer(4), Value::Float(2.0)],
    ];
    let set = set(&["n", "v"], rows);
    let data = gathered(&set, &propose(&set, Some(Kind::Line)).expect("a line"));
    let Marks::Lines(lines) = &data.panels[0].marks else {
        panic!("{data:?}")
    };
    let gaps: Vec<bool> = lines[0].iter().map(|(_, y)| y.is_nan()).collect();
    assert_eq!(gaps, [true, true, true, false]);
    assert_eq!(
        data.notes,
        [
            "1 row without n left out.",
            "Gaps: 1 row without a value.",
            "2 rows with no finite number left out.",
        ]
    );
}

#[test]
fn many_series_become_few() {
    let rows = (0..30).map(|n| vec![text("a"), text(&format!("s{n}")), Value::Integer(n)]);
    let set = set(&["x", "s", "kg"], rows.collect());
    let spec = Spec {
        by: Some(1),
        ..propose(&set, Some(Kind::Bars)).expect("bars")
    };
    let data = gathered(&set, &spec);
    assert_eq!(data.series.len(), MOST_SERIES);
    assert_eq!(data.series[7], "others (23)");
    let Marks::Values(values) = &data.panels[0].marks else {
        panic!("{data:?}")
    };
    let total: f64 = values.iter().flatten().flatten().sum();
    assert_eq!(total, (0..30).sum::<i64>() as f64, "nothing is lost");
    assert_eq!(values[7], [Some((0..23).sum::<i64>() as f64)]);
}

/// Times that are counted by days open the rows of their day.
#[test]
fn counted_times_open_the_rows_of_their_step() {
    let rows = (0..400).map(|n| vec![text(&format!("2031-03-{:02} {:02}:00", n / 24 + 1, n % 24))]);
    let set = set(&["at"], rows.collect());
    let data = gathered(&set, &propose(&set, None).expect("a line"));
    let step = data.bucket.expect("counted");
    let Marks::Lines(lines) = &data.panels[0].marks else {
        panic!("{data:?}")
    };
    let (x, count) = lines[0][1];
    let found = rows_of(&set, None, &data, 0, 0, Key::X(x), &never).expect("rows");
    assert_eq!(found.len() as f64, count, "every {step} s");
}

#[test]
fn boxes_and_intervals_are_those_of_the_values() {
    let mut values: Vec<f64> = (1..=8).map(f64::from).chain([40.0]).collect();
    let five = Box5::of(&mut values).expect("a box");
    assert_eq!(
        (five.low, five.q1, five.median, five.q3, five.high),
        (1.0, 3.0, 5.0, 7.0, 8.0)
    );
    assert_eq!(five.beyond, [40.0]);
    assert_eq!(Box5::of(&mut []), None);
    let rows = (0..100).map(|n| vec![Value::Float(f64::from(n) / 10.0)]);
    let set = set(&["metres"], rows.collect());
    let data = gathered(&set, &propose(&set, None).expect("a histogram"));
    let Marks::Bins {
        from,
        width,
        counts,
    } = &data.panels[0].marks
    else {
        panic!("{data:?}")
    };
    assert_eq!((*from, *width), (0.0, 2.0));
    assert_eq!(counts, &[20, 20, 20, 20, 20]);
    let rows = rows_of(&set, None, &data, 0, 0, Key::Bin(4), &never).expect("rows");
    assert_eq!((rows.len(), rows[0]), (20, 80));
}

#[test]
fn ticks_stand_at_numbers_and_days_that_people_use() {
    let words = |scale: Scale, most| -> Vec<String> {
        scale.ticks(most).into_iter().map(|tick| tick.1).collect()
    };
    let numbers = |a, b| Scale::over(a, b, Of::Numbers).rounded(5);
    assert_eq!(
        words(numbers(0.0, 47.0), 5),
        ["0", "10", "20", "30", "40", "50"]
    );
    assert_eq!(
        words(numbers(-0.013, 0.021), 5),
        ["−0.02", "−0.01", "0.00", "0.01", "0.02", "0.03"]
    );
    assert_eq!(
        words(numbers(0.0, 4_300_000.0), 5),
        ["0", "1 M", "2 M", "3 M", "4 M", "5 M"]
    );
    assert_eq!(
        words(Scale::over(3.0, 70_000.0, Of::Powers).rounded(5), 6),
        ["1", "10", "100", "1 000", "10 000", "100 000"]
    );
    let at = |day: f64| 1_930_089_600.0 + day * 86_400.0;
    let days = |a: f64, b: f64| Scale::over(at(a), at(b), Of::Times);
    assert_eq!(
        words(days(0.0, 0.5), 6),
        [
            "03-01", "02:00", "04:00", "06:00", "08:00", "10:00", "12:00"
        ]
    );
    assert_eq!(
        words(days(0.0, 30.0), 6),
        ["03-03", "03-10", "03-17", "03-24", "03-31"]
    );
    assert_eq!(
        words(days(0.0, 300.0), 6),
        ["2031-03", "2031-05", "2031-07", "2031-09", "2031-11"]
    );
    assert_eq!(
        words(days(0.0, 36_525.0), 5),
        ["2040", "2060", "2080", "2100", "2120"]
    );
    for (number, words) in [
        (0.0, "0"),
        (1234567.0, "1 234 567"),
        (-2.5, "−2.5"),
        (0.1 + 0.2, "0.3"),
        (1.0 / 3.0, "0.333333"),
        (6.02e23, "6.020e23"),
    ] {
        assert_eq!(plain_words(number), words, "{number}");
    }
    assert_eq!(number_words(1500.0, 500.0, 2000.0), "1 500");
    assert_eq!(step(0.0, 5), 1.0);
}

proptest::proptest! {
    /// Ticks lie on the scale in order, no more than asked for by much, and are written differently.
    #[test]
    fn ticks_are_in_order_and_apart(least in -1e9_f64..1e9, length in 1e-3_f64..1e9, most in 2_usize..12) {
        for of in [Of::Numbers, Of::Times] {
            let scale = Scale::over(least, least + length, of);
            let ticks = scale.ticks(most);
            proptest::prop_assert!(ticks.len() <= most + 2, "{scale:?} {ticks:?}");
            proptest::prop_assert!(ticks.windows(2).all(|two| two[0].0 < two[1].0));
            for (tick, _) in &ticks {
                let place = scale.place(*tick);
                proptest::prop_assert!((-1e-6..=1.0 + 1e-6).contains(&place));
            }
            if of == Of::Numbers && length > least.abs() / 1e6 {
                proptest::prop_assert!(ticks.windows(2).all(|two| two[0].1 != two[1].1), "{ticks:?}");
            }
        }
    }
}

/// A million points keep their extremes and their gaps, and what is left out is said.
#[test]
fn many_points_are_thinned_honestly() {
    let rows = (0..200_000_i64).map(|n| {
        let y = match n {
            77_777 => Value::Float(1e6),
            88_888 => Value::Float(-1e6),
            99_999 => Value::Null,
            n => Value::Float((n % 997) as f64),
        };
        vec![Value::Float(n as f64 / 2.0), y]
    });
    let set = set(&["t", "v"], rows.collect());
    let line = gathered(&set, &propose(&set, Some(Kind::Line)).expect("a line"));
    let Marks::Lines(lines) = &line.panels[0].marks else {
        panic!("lines")
    };
    assert!(lines[0].len() < 60_000 && lines[0].is_sorted_by(|a, b| a.0 < b.0));
    for value in [1e6, -1e6] {
        assert!(lines[0].iter().any(|(_, y)| *y == value), "{value}");
    }
    assert!(
        lines[0].iter().any(|(x, y)| y.is_nan() && *x == 49_999.5),
        "the gap"
    );
    assert!(
        line.notes
            .iter()
            .any(|note| note.contains("between the extremes")),
        "{:?}",
        line.notes
    );
    let points = gathered(
        &set,
        &Spec {
            x: Some(0),
            y: vec![1],
            ..propose(&set, Some(Kind::Points)).expect("points")
        },
    );
    let Marks::Points(points) = &points.panels[0].marks else {
        panic!("points")
    };
    assert!(points[0].len() < 199_999);
    assert!(
        points[0]
            .iter()
            .any(|(_, y, row)| *y == 1e6 && *row == 77_777)
    );
}

/// Rows of a port, a fish, a deck, a moment and a weight, each of which may be missing.
fn any_rows() -> impl proptest::strategy::Strategy<Value = Vec<Vec<Value>>> {
    use proptest::prelude::*;
    let name = |what: &'static str, most: u8| {
        prop_oneof![
            1 => Just(Value::Null),
            9 => (0..most).prop_map(move |n| text(&format!("{what} {n}"))),
        ]
    };
    let moment = prop_oneof![
        1 => Just(Value::Null),
        9 => (1_u8..28, 0_u8..4).prop_map(|(day, hour)| text(&format!("2031-03-{day:02} 0{hour}:00:00"))),
    ];
    let weight = prop_oneof![
        1 => Just(Value::Null),
        1 => Just(Value::Float(f64::NAN)),
        8 => (-50_i32..200).prop_map(|n| Value::Float(f64::from(n) / 2.0)),
    ];
    let row = (
        name("port", 6),
        name("fish", 12),
        name("deck", 3),
        moment,
        weight,
    );
    let row =
        row.prop_map(|(port, fish, deck, moment, weight)| vec![port, fish, deck, moment, weight]);
    proptest::collection::vec(row, 1..80)
}

/// What the weights of some rows come to.
fn comes_to(rows: &[Vec<Value>], numbers: &[u32], how: How) -> f64 {
    let weights = numbers
        .iter()
        .filter_map(|row| match &rows[*row as usize][4] {
            Value::Float(weight) if weight.is_finite() => Some(*weight),
            _ => None,
        });
    let weights: Vec<f64> = weights.collect();
    let sum: f64 = weights.iter().sum();
    match how {
        How::Sum => sum,
        How::Mean => sum / weights.len() as f64,
        How::Count => numbers.len() as f64,
    }
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(200))]

    /// Enter on a mark shows the rows that it was made of: what they come to is what the mark is worth.
    #[test]
    fn the_rows_behind_a_mark_come_to_its_value(
        rows in any_rows(),
        kind in 0_usize..4,
        how in 0_usize..3,
        by in proptest::bool::ANY,
        panels in proptest::bool::ANY,
    ) {
        let set = set(&["port", "fish", "deck", "at", "kg"], rows.clone());
        let (kind, x) = [
            (Kind::Bars, 0),
            (Kind::Line, 3),
            (Kind::Heat, 0),
            (Kind::Histogram, 4),
        ][kind];
        let how = match kind {
            Kind::Histogram => How::Count,
            _ => [How::Sum, How::Mean, How::Count][how],
        };
        let spec = Spec {
            kind,
            x: Some(x),
            y: if how == How::Count { Vec::new() } else { vec![4] },
            by: (kind == Kind::Heat || by && kind != Kind::Histogram).then_some(1),
            panels: panels.then_some(2),
            how,
            stacked: false,
            ordered: false,
            log: false,
        };
        let data = gathered(&set, &spec);
        let mut marks = Vec::new();
        for (panel, of) in data.panels.iter().enumerate() {
            match &of.marks {
                Marks::Values(all) => {
                    for (series, values) in all.iter().enumerate() {
                        for (at, value) in values.iter().enumerate() {
                            marks.extend(value.map(|value| (panel, series, Key::Category(at), value)));
                        }
                    }
                }
                Marks::Lines(all) => {
                    for (series, points) in all.iter().enumerate() {
                        let there = points.iter().filter(|(_, y)| !y.is_nan());
                        marks.extend(there.map(|(x, y)| (panel, series, Key::X(*x), *y)));
                    }
                }
                Marks::Bins { counts, .. } => {
                    let counts = counts.iter().enumerate();
                    marks.extend(counts.map(|(at, count)| (panel, 0, Key::Bin(at), *count as f64)));
                }
                other => panic!("{other:?}"),
            }
        }
        let mut seen = Vec::new();
        for (panel, series, key, value) in marks {
            let behind = rows_of(&set, None, &data, panel, series, key, &never).expect("rows");
            let worth = comes_to(&rows, &behind, how);
            proptest::prop_assert!(
                (worth - value).abs() < 1e-6,
                "{kind:?} {how:?} {panel} {series} {key:?}: {value} of rows {behind:?} that come to {worth}"
            );
            seen.extend(behind);
        }
        // No row stands behind two marks.
        let all = seen.len();
        seen.sort_unstable();
        seen.dedup();
        proptest::prop_assert_eq!(seen.len(), all);
    }
}

/// Rows in many batches, which several threads gather, come to what one comes to that goes through them.
#[test]
fn several_threads_gather_what_one_does() {
    let columns = ["at", "n", "kg"].map(Column::named);
    let mut set = ResultSet::new(
        columns.to_vec(),
        crate::result::Budget::new(u64::MAX),
        u64::MAX,
    );
    let mut seed = 7_u64;
    for batch in 0..41_u64 {
        let mut rows = crate::batch::RowBatch::new();
        for row in 0..50_u64 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let kg = match seed >> 60 {
                0 => Value::Null,
                1 => Value::Float(f64::INFINITY),
                some => Value::Integer(some as i64),
            };
            // Several rows of one moment lie on both sides of where a batch ends.
            let hours = (batch * 50 + row) / 7;
            let at = match seed >> 58 & 31 {
                0 => Value::Null,
                _ => text(&format!(
                    "2031-{:02}-{:02} {:02}:30:00",
                    1 + hours / 240,
                    1 + hours / 24 % 10,
                    hours % 24
                )),
            };
            let values = [at, Value::Integer((seed >> 40 & 255) as i64), kg];
            rows.push_row(values.iter().map(Value::as_ref));
        }
        set.append(rows).expect("appended");
    }
    assert_eq!(set.batches(), 41);
    let all: Vec<u32> = (0..set.len() as u32).collect();
    for (kind, x) in [
        (Kind::Line, 0),
        (Kind::Line, 1),
        (Kind::Area, 0),
        (Kind::Points, 1),
        (Kind::Histogram, 1),
        (Kind::Bars, 1),
    ] {
        for how in [How::Sum, How::Count, How::Mean] {
            let spec = Spec {
                x: Some(x),
                y: vec![2],
                by: None,
                how,
                ..propose(&set, Some(kind)).expect("a picture")
            };
            let one = gather(&set, Some(&all), &spec, &never).expect("gathers");
            assert_eq!(
                format!("{one:?}"),
                format!("{:?}", gathered(&set, &spec)),
                "{spec:?}"
            );
        }
    }
    let stopped = gather(
        &set,
        None,
        &Spec {
            x: Some(1),
            y: vec![2],
            by: None,
            ..propose(&set, Some(Kind::Line)).expect("a line")
        },
        &|| true,
    );
    assert_eq!(
        stopped.expect_err("stopped").kind(),
        std::io::ErrorKind::Interrupted
    );
}

#[test]
fn moments_are_counted_from_1970_in_every_calendar_year() {
    use crate::value::ValueRef;
    use jiff::civil::date;

    for (year, month, day) in [
        (1, 1, 1),
        (1600, 2, 29),
        (1899, 12, 31),
        (1969, 12, 31),
        (1970, 1, 1),
        (2000, 2, 29),
        (2031, 3, 1),
        (2100, 2, 28),
        (9999, 12, 31),
    ] {
        let of = date(year, month, day);
        let days = of.duration_since(date(1970, 1, 1)).as_secs() as f64;
        for (time, more) in [
            ("", 0.0),
            (" 23:59:58.25", 86_398.25),
            ("T06:30:00+05:30", 3_600.0),
        ] {
            let written = format!("{of}{time}");
            assert_eq!(
                super::role::seconds(ValueRef::Text(&written)),
                Some(days + more),
                "{written}"
            );
        }
    }
}
