//! Values of every kind that BSON has: kept without loss, in one order, hashed as they are equal; and decimals of 34 digits against decimals of any
//! number of digits.

use std::cmp::Ordering;
use std::hash::{DefaultHasher, Hasher};
use std::str::FromStr;

use bigdecimal::BigDecimal;
use idle_tide_core::document::compare::{Key, hash, order};
use idle_tide_core::document::extended::{Form, read, text_of};
use idle_tide_core::document::number::Sum;
use idle_tide_core::document::{Decimal128, Kind, bson};
use idle_tide_core::{Datum, Document, ValueRef};
use proptest::prelude::*;

fn decimal(text: &str) -> Decimal128 {
    text.parse().unwrap_or_else(|()| panic!("{text}"))
}

/// Values in the order in which servers document them; those in one list are equal.
fn in_order() -> Vec<Vec<Datum>> {
    let code = |text: &str, n: i32| {
        Datum::ScopedCode(Box::new((text.into(), Document::new().with("n", n))))
    };
    let regex = |text: &str, flags: &str| Datum::Regex(Box::new((text.into(), flags.into())));
    let bytes = |subtype: u8, content: &[u8]| Datum::Bytes(Box::new((subtype, content.to_vec())));
    let pointer = |name: &str, last: u8| Datum::Pointer(Box::new((name.into(), [last; 12])));
    vec![
        vec![Datum::MinKey],
        vec![Datum::Undefined],
        vec![Datum::Null],
        vec![Datum::Double(f64::NAN), Datum::Decimal(Decimal128::NAN)],
        vec![
            Datum::Double(f64::NEG_INFINITY),
            Datum::Decimal(decimal("-Infinity")),
        ],
        vec![Datum::Decimal(decimal("-1E+400"))],
        vec![
            Datum::Long(i64::MIN),
            Datum::Double(-9_223_372_036_854_775_808.0),
        ],
        vec![Datum::Double(-0.1)],
        // The double is a little more than the decimal that it is written like.
        vec![
            Datum::Int(0),
            Datum::Long(0),
            Datum::Double(-0.0),
            Datum::Decimal(decimal("-0.00")),
        ],
        vec![Datum::Decimal(decimal("0.1"))],
        vec![Datum::Double(0.1)],
        vec![
            Datum::Int(7),
            Datum::Long(7),
            Datum::Double(7.0),
            Datum::Decimal(decimal("7.000")),
        ],
        vec![
            Datum::Long(9_007_199_254_740_992),
            Datum::Double(9_007_199_254_740_992.0),
        ],
        vec![Datum::Long(9_007_199_254_740_993)],
        vec![
            Datum::Long(i64::MAX),
            Datum::Decimal(decimal("9223372036854775807")),
        ],
        vec![Datum::Double(9_223_372_036_854_775_808.0)],
        vec![
            Datum::Double(f64::INFINITY),
            Datum::Decimal(decimal("Infinity")),
        ],
        vec![Datum::Text("".into())],
        vec![Datum::Text("Tern".into()), Datum::Symbol("Tern".into())],
        vec![Datum::Text("tern".into())],
        vec![Datum::Object(Document::new())],
        vec![
            Datum::Object(Document::new().with("a", 1)),
            Datum::Object(Document::new().with("a", 1.0)),
        ],
        vec![Datum::Object(Document::new().with("b", 1))],
        vec![Datum::Object(Document::new().with("a", "x"))],
        vec![Datum::List(vec![])],
        vec![
            Datum::List(vec![Datum::Int(1)]),
            Datum::List(vec![Datum::Double(1.0)]),
        ],
        vec![Datum::List(vec![Datum::Int(1), Datum::Null])],
        vec![Datum::List(vec![Datum::Int(2)])],
        vec![bytes(0, b"")],
        vec![bytes(0, b"z")],
        vec![bytes(4, b"a")],
        vec![bytes(0, b"aa")],
        vec![Datum::Id([1; 12])],
        vec![Datum::Id([2; 12])],
        vec![Datum::Boolean(false)],
        vec![Datum::Boolean(true)],
        vec![Datum::Date(-1)],
        vec![Datum::Date(0)],
        vec![Datum::Timestamp(1, 9)],
        vec![Datum::Timestamp(2, 0)],
        vec![regex("a", "")],
        vec![regex("a", "i")],
        vec![pointer("a", 1)],
        vec![pointer("a", 2)],
        vec![Datum::Code("a".into())],
        vec![Datum::Code("b".into())],
        vec![code("a", 1)],
        vec![code("a", 2)],
        vec![Datum::MaxKey],
    ]
}

fn hashed(value: &Datum) -> u64 {
    let mut hasher = DefaultHasher::new();
    hash(value, &mut hasher);
    hasher.finish()
}

fn again(value: &Datum) -> Datum {
    let document = Document::new().with("v", value.clone());
    let bytes = bson::encode(&document);
    bson::check(&bytes).expect("well made");
    bson::decode(&bytes)
        .expect("reads")
        .remove("v")
        .expect("a value")
}

#[test]
fn values_of_all_kinds_have_one_order_and_equal_ones_are_one_key() {
    let list = in_order();
    for (at, group) in list.iter().enumerate() {
        for (other, others) in list.iter().enumerate() {
            for (a, b) in group
                .iter()
                .flat_map(|a| others.iter().map(move |b| (a, b)))
            {
                assert_eq!(order(a, b), at.cmp(&other), "{a:?} {b:?}");
                let (one, two) = (Key(a.clone()), Key(b.clone()));
                assert_eq!(one == two, at == other, "{a:?} {b:?}");
                assert_eq!(one.partial_cmp(&two), Some(at.cmp(&other)));
                if at == other {
                    assert_eq!(hashed(a), hashed(b), "{a:?} {b:?}");
                }
            }
        }
    }
}

#[test]
fn values_of_all_kinds_are_kept_without_loss_and_named() {
    let mut kinds: Vec<Kind> = Vec::new();
    for value in in_order().into_iter().flatten() {
        let kept = again(&value);
        // What is not a number equals nothing, also itself.
        assert_eq!(format!("{kept:?}"), format!("{value:?}"));
        let canonical = text_of(&value, Form::Canonical);
        let found = read(&canonical).unwrap_or_else(|error| panic!("{canonical}: {error}"));
        assert_eq!(format!("{found:?}"), format!("{value:?}"), "{canonical}");
        let relaxed = text_of(&value, Form::Relaxed);
        let found = read(&relaxed).unwrap_or_else(|error| panic!("{relaxed}: {error}"));
        assert_eq!(order(&found, &value), Ordering::Equal, "{relaxed}");
        let kind = value.kind();
        assert_eq!(Kind::of_tag(bson::tag(&value)), Some(kind), "{value:?}");
        // Seen as a value of a row it is the same, and called the same where rows have no word of their own.
        let bytes = bson::encode(&Document::new().with("v", value.clone()));
        let element = bson::elements(&bytes).next().expect("an element");
        let seen = ValueRef::of_element(&element);
        let back = seen.to_datum().expect("a value");
        assert_eq!(order(&back, &value), Ordering::Equal, "{value:?}");
        let word = match kind {
            Kind::Int | Kind::Long => "integer",
            Kind::Double => "real",
            kind => kind.word(),
        };
        let is_uuid = matches!(&value, Datum::Bytes(both) if both.0 != 0);
        assert!(seen.kind() == word || is_uuid, "{value:?}: {}", seen.kind());
        kinds.push(kind);
    }
    for (kind, word) in Kind::ALL {
        assert!(kinds.contains(kind), "{word} is not among the values");
    }
}

fn any_value() -> impl Strategy<Value = Datum> {
    let leaf = prop_oneof![
        proptest::sample::select(in_order().concat()),
        any::<i32>().prop_map(Datum::Int),
        (-3_i64..3).prop_map(Datum::Long),
        any::<i64>().prop_map(Datum::Long),
        any::<f64>().prop_map(Datum::Double),
        (-8_i32..8).prop_map(|n| Datum::Double(f64::from(n) / 4.0)),
        digits().prop_map(|text| Datum::Decimal(decimal(&text))),
        "[ab\u{0}ü]{0,3}".prop_map(|text| Datum::Text(text.as_str().into())),
    ];
    leaf.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            proptest::collection::vec(inner.clone(), 0..3).prop_map(Datum::List),
            proptest::collection::vec(("[ab]", inner), 0..3)
                .prop_map(|fields| { Datum::Object(fields.into_iter().collect()) }),
        ]
    })
}

/// A decimal of few digits, so that sums and products stay exact.
fn digits() -> impl Strategy<Value = String> {
    (any::<bool>(), 0_u64..100_000_000_000, -12_i32..12).prop_map(|(minus, digits, exponent)| {
        format!("{}{digits}E{exponent}", if minus { "-" } else { "" })
    })
}

fn big(number: Decimal128) -> BigDecimal {
    BigDecimal::from_str(&number.to_string()).expect("a number")
}

proptest! {
    #[test]
    fn any_values_have_a_total_order(a in any_value(), b in any_value(), c in any_value()) {
        prop_assert_eq!(order(&a, &b), order(&b, &a).reverse());
        prop_assert_eq!(order(&a, &a), Ordering::Equal);
        let mut list = [&a, &b, &c];
        list.sort_by(|x, y| order(x, y));
        prop_assert!(order(list[0], list[2]).is_le());
        if order(&a, &b).is_eq() {
            prop_assert_eq!(hashed(&a), hashed(&b));
            prop_assert_eq!(order(&a, &c), order(&b, &c));
        }
    }

    #[test]
    fn any_value_is_kept_without_loss(value in any_value()) {
        prop_assert_eq!(format!("{:?}", again(&value)), format!("{value:?}"));
        let canonical = text_of(&value, Form::Canonical);
        let found = read(&canonical).expect("understood");
        prop_assert_eq!(format!("{found:?}"), format!("{value:?}"));
        // What is written relaxed keeps the value of every number, where it is not its kind.
        let found = read(&text_of(&value, Form::Relaxed)).expect("understood");
        prop_assert_eq!(order(&found, &value), Ordering::Equal);
    }

    #[test]
    fn decimals_calculate_as_those_of_any_length(a in digits(), b in digits()) {
        let (x, y) = (decimal(&a), decimal(&b));
        prop_assert_eq!(big(x), BigDecimal::from_str(&a).expect("a number"));
        prop_assert_eq!(big(x.plus(y)), big(x) + big(y));
        prop_assert_eq!(big(x.minus(y)), big(x) - big(y));
        prop_assert_eq!(big(x.times(y)), big(x) * big(y));
        prop_assert_eq!(x.order(y), Some(big(x).cmp(&big(y))));
        let near: f64 = a.parse().expect("a number");
        prop_assert_eq!(x.to_f64(), near);
        let of_double = BigDecimal::try_from(near).expect("a number");
        prop_assert_eq!(x.order_f64(near), Some(big(x).cmp(&of_double)));
        if !big(y).eq(&BigDecimal::from(0)) {
            prop_assert_eq!(big(x.remainder(y)), big(x) % big(y));
            // The quotient is the nearest of 34 digits.
            let back = big(x.over(y)) * big(y) - big(x);
            prop_assert!(back.abs() <= big(x).abs() * BigDecimal::from_str("1E-32").expect("a number"));
        }
    }

    #[test]
    fn a_sum_in_two_parts_is_that_of_all(list in proptest::collection::vec(number(), 0..12), cut in 0_usize..12) {
        let sum = |values: &[Datum]| {
            let mut sum = Sum::default();
            values.iter().for_each(|value| sum.add(value));
            sum
        };
        let cut = cut.min(list.len());
        let whole = sum(&list);
        let mut parts = sum(&list[..cut]);
        parts.merge(&sum(&list[cut..]));
        prop_assert_eq!(parts.count, whole.count);
        let close = |a: Option<Datum>, b: Option<Datum>| match (a, b) {
            (None, None) => true,
            (Some(a), Some(b)) => {
                let (x, y) = (a.as_f64().expect("a number"), b.as_f64().expect("a number"));
                a.kind() == b.kind() && (x - y).abs() <= 1e-9 * x.abs().max(1.0)
            }
            _ => false,
        };
        prop_assert!(close(parts.total().ok(), whole.total().ok()));
        prop_assert!(close(parts.mean(), whole.mean()));
    }
}

fn number() -> impl Strategy<Value = Datum> {
    prop_oneof![
        (-1_000_i32..1_000).prop_map(Datum::Int),
        (-1_000_000_i64..1_000_000).prop_map(Datum::Long),
        (-1e6_f64..1e6).prop_map(Datum::Double),
        (-100_000_i64..100_000).prop_map(|n| Datum::Decimal(decimal(&format!("{n}E-2")))),
        Just(Datum::Text("no number".into())),
    ]
}

#[test]
fn decimals_at_the_ends_of_their_range() {
    for (text, kept) in [
        ("1E+6144", "1.000000000000000000000000000000000E+6144"),
        (
            "9.999999999999999999999999999999999E+6144",
            "9.999999999999999999999999999999999E+6144",
        ),
        ("1E-6176", "1E-6176"),
        ("-0E-6176", "-0E-6176"),
        ("+5", "5"),
        ("-Inf", "-Infinity"),
        ("nan", "NaN"),
        ("0E+9000", "0E+6111"),
    ] {
        assert_eq!(decimal(text).to_string(), kept, "{text}");
    }
    for text in [
        "1E+6145",
        "1E-6177",
        "",
        "-",
        "1.2.3",
        "0x10",
        "12345678901234567890123456789012345",
    ] {
        assert!(text.parse::<Decimal128>().is_err(), "{text}");
    }
    let infinite = decimal("Infinity");
    assert_eq!(infinite.to_f64(), f64::INFINITY);
    assert_eq!(infinite.order_f64(1e300), Some(Ordering::Greater));
    assert_eq!(decimal("-Infinity").order_f64(1.0), Some(Ordering::Less));
    assert_eq!(decimal("5").order_f64(f64::INFINITY), Some(Ordering::Less));
    assert_eq!(infinite.order_f64(f64::NAN), None);
    assert_eq!(Decimal128::NAN.order(infinite), None);
    assert!(infinite.minus(infinite).is_nan());
    assert_eq!(infinite.plus(decimal("1")).to_string(), "Infinity");
    assert!(decimal("1").over(decimal("0")).is_nan());
    assert_eq!(
        Decimal128::of_f64(f64::NEG_INFINITY).to_string(),
        "-Infinity"
    );
    assert_eq!(Decimal128::of_f64(0.1).to_string(), "0.1");
}
