//! BSON and Extended JSON against the official library: every kind of value, byte by byte and form by form.

use idle_tide_core::document::bson::{check, decode, encode};
use idle_tide_core::document::extended::{Form, read_document, text};
use mongodb::bson::{
    Binary, Bson, DateTime, Decimal128, Document, JavaScriptCodeWithScope, Regex, Timestamp,
    oid::ObjectId, spec::BinarySubtype,
};
use proptest::prelude::*;

fn words() -> impl Strategy<Value = String> {
    prop_oneof![
        Just(String::new()),
        Just("$date".to_string()),
        Just("a.b".to_string()),
        Just("quote\" back\\slash \u{1} \u{7f} \u{2028}".to_string()),
        Just("港 🚢".to_string()),
        "[a-z]{1,8}",
    ]
}

fn value() -> impl Strategy<Value = Bson> {
    let number = prop_oneof![
        proptest::num::f64::NORMAL,
        Just(f64::NAN),
        Just(f64::INFINITY),
        Just(f64::NEG_INFINITY),
        Just(-0.0),
        Just(1e300),
        (-1000_i32..1000).prop_map(f64::from),
    ];
    let moment = prop_oneof![
        any::<i64>(),
        Just(0_i64),
        Just(-1_i64),
        Just(253_402_300_799_999_i64),
        Just(253_402_300_800_000_i64),
        (0_i64..4_000_000_000_000),
    ];
    let kinds = prop_oneof![
        Just(BinarySubtype::Generic),
        Just(BinarySubtype::Uuid),
        Just(BinarySubtype::UserDefined(0x80)),
    ];
    let decimal = prop_oneof![
        Just("0"),
        Just("-0"),
        Just("1.50"),
        Just("1E+6144"),
        Just("9.999999999999999999999999999999999E+6144"),
        Just("1E-6176"),
        Just("NaN"),
        Just("Infinity"),
        Just("-Infinity"),
        Just("-123456789.000"),
    ];
    let leaf = prop_oneof![
        number.prop_map(Bson::Double),
        words().prop_map(Bson::String),
        any::<i32>().prop_map(Bson::Int32),
        any::<i64>().prop_map(Bson::Int64),
        any::<bool>().prop_map(Bson::Boolean),
        Just(Bson::Null),
        Just(Bson::Undefined),
        Just(Bson::MinKey),
        Just(Bson::MaxKey),
        moment.prop_map(|millis| Bson::DateTime(DateTime::from_millis(millis))),
        any::<[u8; 12]>().prop_map(|bytes| Bson::ObjectId(ObjectId::from_bytes(bytes))),
        (any::<u32>(), any::<u32>())
            .prop_map(|(time, increment)| Bson::Timestamp(Timestamp { time, increment })),
        decimal.prop_map(|text| Bson::Decimal128(text.parse::<Decimal128>().expect("a decimal"))),
        (kinds, proptest::collection::vec(any::<u8>(), 0..20))
            .prop_map(|(subtype, bytes)| Bson::Binary(Binary { subtype, bytes })),
        ("[a-z.*^$/]{0,6}", "[imsx]{0,1}")
            .prop_map(|(pattern, options)| Bson::RegularExpression(Regex { pattern, options })),
        words().prop_map(Bson::JavaScriptCode),
        words().prop_map(Bson::Symbol),
    ];
    leaf.prop_recursive(3, 24, 5, |inner| {
        let document = proptest::collection::vec((words(), inner.clone()), 0..5)
            .prop_map(|pairs| pairs.into_iter().collect::<Document>())
            .boxed();
        prop_oneof![
            2 => document.clone().prop_map(Bson::Document),
            2 => proptest::collection::vec(inner, 0..5).prop_map(Bson::Array),
            1 => (words(), document).prop_map(|(code, scope)| Bson::JavaScriptCodeWithScope(JavaScriptCodeWithScope { code, scope })),
        ]
    })
}

/// What looks like Extended JSON and is a document of these names is not told apart by any form.
fn plain(value: &Bson) -> bool {
    match value {
        Bson::Document(document) => document
            .iter()
            .all(|(name, value)| !name.starts_with('$') && plain(value)),
        Bson::JavaScriptCodeWithScope(code) => code
            .scope
            .iter()
            .all(|(name, value)| !name.starts_with('$') && plain(value)),
        Bson::Array(list) => list.iter().all(plain),
        _ => true,
    }
}

/// Numbers in one spelling: how long a float is written out is left open.
fn spelled(value: serde_json::Value) -> serde_json::Value {
    use serde_json::Value as Json;
    match value {
        Json::Object(fields) => {
            let field = |(name, value): (String, Json)| {
                let number = value.as_str().and_then(|text| text.parse::<f64>().ok());
                let value = match (name.as_str(), number, value.as_str()) {
                    ("$numberDouble", Some(number), _) => format!("{number:?}").into(),
                    // Ours has three digits of a second, as the specification asks, theirs none at the end that are 0.
                    ("$date", _, Some(text)) if text.contains('.') => {
                        let text = text.trim_end_matches('Z').trim_end_matches('0');
                        format!("{}Z", text.trim_end_matches('.')).into()
                    }
                    _ => spelled(value),
                };
                (name, value)
            };
            Json::Object(fields.into_iter().map(field).collect())
        }
        Json::Array(list) => Json::Array(list.into_iter().map(spelled).collect()),
        other => other,
    }
}

/// Whether there is code with a scope in it.
fn scoped(value: &Bson) -> bool {
    match value {
        Bson::JavaScriptCodeWithScope(_) => true,
        Bson::Document(document) => document.values().any(scoped),
        Bson::Array(list) => list.iter().any(scoped),
        _ => false,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn every_value_is_what_the_official_library_says(value in value()) {
        let document: Document = [("v".to_string(), value.clone())].into_iter().collect();
        let bytes = mongodb::bson::to_vec(&document).expect("bytes");
        check(&bytes).map_err(|error| TestCaseError::fail(format!("{error:?} in {document:?}")))?;
        let ours = decode(&bytes).expect("read");
        prop_assert_eq!(&encode(&ours), &bytes, "{:?}", document);

        let json = |text: &str| -> Result<serde_json::Value, TestCaseError> {
            serde_json::from_str(text).map_err(|error| TestCaseError::fail(format!("{error}: {text}")))
        };
        let whole = Bson::Document(document.clone());
        let canonical = spelled(json(&text(&bytes, Form::Canonical))?);
        prop_assert_eq!(canonical, spelled(whole.clone().into_canonical_extjson()));
        // How relaxed the scope of code is the specification leaves open.
        if !scoped(&value) {
            let relaxed = spelled(json(&text(&bytes, Form::Relaxed))?);
            prop_assert_eq!(relaxed, spelled(whole.clone().into_relaxed_extjson()));
        }
        if plain(&value) {
            let theirs = whole.into_canonical_extjson().to_string();
            let read = read_document(&theirs).map_err(|error| TestCaseError::fail(format!("{error}: {theirs}")))?;
            prop_assert_eq!(&encode(&read), &bytes, "{}", theirs);
        }
    }
}
