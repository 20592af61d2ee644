//! MongoDB Extended JSON, version 2 (the public specification): text to trees by way of serde, bytes and trees to text in the canonical
//! form, which keeps every kind, and the relaxed one, which reads better.

use std::fmt;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::de::{self, DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};

use super::bson::{self, Element};
use super::{DEPTH, Datum, Document, Kind, id_of, time};

/// Which of the two forms is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Every kind is kept.
    Canonical,
    /// Numbers and dates as people write them.
    Relaxed,
    /// As [`Form::Relaxed`], but where another kind would be read back, as [`Form::Canonical`].
    Lossless,
}

/// Reads one value.
///
/// # Errors
/// What is wrong, with line and column.
pub fn read(text: &str) -> Result<Datum, serde_json::Error> {
    let mut reader = serde_json::Deserializer::from_str(text);
    reader.disable_recursion_limit();
    let value = Seed(DEPTH).deserialize(&mut reader)?;
    reader.end()?;
    Ok(value)
}

/// Reads one document.
///
/// # Errors
/// As [`read`], and if it is another value.
pub fn read_document(text: &str) -> Result<Document, serde_json::Error> {
    match read(text)? {
        Datum::Object(document) => Ok(document),
        other => Err(not_a_document(&other)),
    }
}

/// The error for a value that stands where a document should.
pub fn not_a_document(value: &Datum) -> serde_json::Error {
    de::Error::custom(format!(
        "a document was expected here, and this is {}",
        with_article(value.kind())
    ))
}

fn with_article(kind: Kind) -> String {
    let word = kind.word();
    match word.as_bytes().first() {
        _ if kind == Kind::Null || kind == Kind::Bytes || kind == Kind::Text => word.into(),
        Some(b'a' | b'e' | b'i' | b'o' | b'u') => format!("an {word}"),
        _ => format!("a {word}"),
    }
}

/// Reads a value within any serde format that describes itself; the number is how many levels are allowed.
#[derive(Debug, Clone, Copy)]
pub struct Seed(pub usize);

impl<'de> DeserializeSeed<'de> for Seed {
    type Value = Datum;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Datum, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Seed {
    type Value = Datum;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }
    fn visit_bool<E>(self, truth: bool) -> Result<Datum, E> {
        Ok(Datum::Boolean(truth))
    }
    fn visit_i64<E>(self, number: i64) -> Result<Datum, E> {
        Ok(Datum::integer(number))
    }
    fn visit_u64<E>(self, number: u64) -> Result<Datum, E> {
        Ok(i64::try_from(number).map_or(Datum::Double(number as f64), Datum::integer))
    }
    fn visit_f64<E>(self, number: f64) -> Result<Datum, E> {
        Ok(Datum::Double(number))
    }
    fn visit_str<E>(self, text: &str) -> Result<Datum, E> {
        Ok(Datum::Text(text.into()))
    }
    fn visit_unit<E>(self) -> Result<Datum, E> {
        Ok(Datum::Null)
    }
    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Datum, A::Error> {
        let inner = deeper(self.0)?;
        let mut values = Vec::new();
        while let Some(value) = list.next_element_seed(inner)? {
            values.push(value);
        }
        Ok(Datum::List(values))
    }
    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Datum, A::Error> {
        let inner = deeper(self.0)?;
        let mut fields = Vec::with_capacity(8);
        let mut special = false;
        while let Some(name) = map.next_key_seed(Name)? {
            special |= name.starts_with('$');
            fields.push((name, map.next_value_seed(inner)?));
        }
        let document = Document { fields };
        if special {
            settle(document).map_err(de::Error::custom)
        } else {
            Ok(Datum::Object(document))
        }
    }
}

fn deeper<E: de::Error>(levels: usize) -> Result<Seed, E> {
    match levels {
        0 | 1 => Err(de::Error::custom(format!(
            "this goes deeper than {DEPTH} levels"
        ))),
        _ => Ok(Seed(levels - 1)),
    }
}

struct Name;

impl<'de> DeserializeSeed<'de> for Name {
    type Value = compact_str::CompactString;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for Name {
    type Value = compact_str::CompactString;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a name")
    }
    fn visit_str<E>(self, text: &str) -> Result<Self::Value, E> {
        Ok(text.into())
    }
}

/// An object as it was written, or the value that it stands for if it is one of the special forms.
///
/// # Errors
/// If it begins as a special form and is none, in words.
pub fn settle(document: Document) -> Result<Datum, String> {
    let Some((first, value)) = document.fields.first() else {
        return Ok(Datum::Object(document));
    };
    let alone = document.len() == 1;
    let bad = |what: &str| Err(format!("{first} needs {what}"));
    let only = |result: Option<Datum>, what: &str| match (alone, result) {
        (false, _) => Err(format!("{first} stands alone in its object")),
        (true, Some(value)) => Ok(value),
        (true, None) => bad(what),
    };
    let text = value.as_text();
    match first.as_str() {
        "$oid" => only(text.and_then(id_of).map(Datum::Id), "24 hexadecimal digits"),
        "$numberInt" => only(
            text.and_then(|t| t.parse().ok()).map(Datum::Int),
            "the text of a 32-bit integer",
        ),
        "$numberLong" => only(
            text.and_then(|t| t.parse().ok()).map(Datum::Long),
            "the text of a 64-bit integer",
        ),
        "$numberDouble" => only(
            text.and_then(double).map(Datum::Double),
            "the text of a number, Infinity, -Infinity or NaN",
        ),
        "$numberDecimal" => only(
            text.and_then(|t| t.parse().ok()).map(Datum::Decimal),
            "the text of a decimal of up to 34 digits",
        ),
        "$symbol" => only(text.map(|t| Datum::Symbol(t.into())), "a text"),
        "$undefined" => only(
            (*value == Datum::Boolean(true)).then_some(Datum::Undefined),
            "true",
        ),
        "$minKey" => only((value.as_i64() == Some(1)).then_some(Datum::MinKey), "1"),
        "$maxKey" => only((value.as_i64() == Some(1)).then_some(Datum::MaxKey), "1"),
        "$date" => only(
            match value {
                Datum::Long(ms) => Some(Datum::Date(*ms)),
                Datum::Int(ms) => Some(Datum::Date(i64::from(*ms))),
                Datum::Text(t) => time::read(t, &jiff::tz::TimeZone::UTC).map(Datum::Date),
                _ => None,
            },
            "a text like 2031-03-01T05:12:00Z, or milliseconds in $numberLong",
        ),
        "$timestamp" => {
            let part = |name: &str| {
                let number = value.as_object()?.get(name)?.as_i64()?;
                u32::try_from(number).ok()
            };
            only(
                part("t")
                    .zip(part("i"))
                    .map(|(t, i)| Datum::Timestamp(t, i)),
                "an object with t and i",
            )
        }
        "$regularExpression" => only(regex(value), "an object with pattern and options"),
        "$binary" => match binary(value, document.get("$type")) {
            Some(bytes) => Ok(bytes),
            None => bad("an object with base64 and subType"),
        },
        "$uuid" => only(
            text.and_then(uuid),
            "a text like 00112233-4455-6677-8899-aabbccddeeff",
        ),
        "$dbPointer" => only(pointer(value), "an object with $ref and $id"),
        "$code" | "$scope" if document.len() <= 2 => {
            let code = document.get("$code").and_then(Datum::as_text);
            match (code, document.get("$scope"), alone) {
                (Some(code), None, true) => Ok(Datum::Code(code.into())),
                (Some(code), Some(Datum::Object(scope)), _) => Ok(Datum::ScopedCode(Box::new((
                    code.to_string(),
                    scope.clone(),
                )))),
                _ => bad("a text, and perhaps $scope with an object"),
            }
        }
        _ => Ok(Datum::Object(document)),
    }
}

/// Bytes and their subtype; `own_type` is that of the specification's first version.
fn binary(value: &Datum, own_type: Option<&Datum>) -> Option<Datum> {
    let (encoded, subtype) = match value {
        Datum::Object(inner) => (inner.get("base64"), inner.get("subType")),
        other => (Some(other), own_type),
    };
    let bytes = STANDARD.decode(encoded?.as_text()?).ok()?;
    let subtype = u8::from_str_radix(subtype?.as_text()?, 16).ok()?;
    Some(Datum::Bytes(Box::new((subtype, bytes))))
}

fn uuid(text: &str) -> Option<Datum> {
    let digits: String = text.chars().filter(|c| *c != '-').collect();
    let bytes: Option<Vec<u8>> = (0..digits.len())
        .step_by(2)
        .map(|at| u8::from_str_radix(digits.get(at..at + 2)?, 16).ok())
        .collect();
    let bytes = bytes.filter(|b| b.len() == 16 && text.len() == 36)?;
    Some(Datum::Bytes(Box::new((4, bytes))))
}

fn pointer(value: &Datum) -> Option<Datum> {
    let value = value.as_object()?;
    match (value.get("$ref")?.as_text()?, value.get("$id")?) {
        (name, Datum::Id(id)) => Some(Datum::Pointer(Box::new((name.to_string(), *id)))),
        _ => None,
    }
}

fn regex(value: &Datum) -> Option<Datum> {
    let part = |name: &str| Some(value.as_object()?.get(name)?.as_text()?.to_string());
    let (pattern, options) = part("pattern").zip(part("options"))?;
    let mut options: Vec<char> = options.chars().collect();
    options.sort_unstable();
    Some(Datum::Regex(Box::new((
        pattern,
        options.into_iter().collect(),
    ))))
}

fn double(text: &str) -> Option<f64> {
    match text {
        "Infinity" => Some(f64::INFINITY),
        "-Infinity" => Some(f64::NEG_INFINITY),
        "NaN" => Some(f64::NAN),
        _ => text
            .bytes()
            .all(|b| b.is_ascii_digit() || matches!(b, b'-' | b'+' | b'.' | b'e' | b'E'))
            .then(|| text.parse().ok())
            .flatten(),
    }
}

/// The document in `bytes` as text on one line.
pub fn text(bytes: &[u8], form: Form) -> String {
    let mut out = Vec::with_capacity(2 * bytes.len());
    write(bytes, form, &mut out);
    String::from_utf8(out).unwrap_or_default()
}

/// A value as text on one line.
pub fn text_of(value: &Datum, form: Form) -> String {
    let mut bytes = Vec::new();
    bson::write_value(value, &mut bytes);
    let mut out = Vec::new();
    let element = Element {
        name: b"",
        tag: bson::tag(value),
        value: &bytes,
    };
    write_value(&element, form, &mut out);
    String::from_utf8(out).unwrap_or_default()
}

/// Appends the document in `bytes` as text on one line.
pub fn write(bytes: &[u8], form: Form, out: &mut Vec<u8>) {
    out.push(b'{');
    for (at, element) in bson::elements(bytes).enumerate() {
        if at > 0 {
            out.push(b',');
        }
        write_string(element.name, out);
        out.push(b':');
        write_value(&element, form, out);
    }
    out.push(b'}');
}

/// Appends the value of an element.
pub fn write_value(element: &Element<'_>, form: Form, out: &mut Vec<u8>) {
    let relaxed = form != Form::Canonical;
    match element.tag {
        bson::TEXT => return write_string(element.text().unwrap_or_default(), out),
        bson::OBJECT => return write(element.value, form, out),
        bson::LIST => {
            out.push(b'[');
            for (at, inner) in bson::elements(element.value).enumerate() {
                if at > 0 {
                    out.push(b',');
                }
                write_value(&inner, form, out);
            }
            out.push(b']');
            return;
        }
        _ => {}
    }
    let mut quoted = |name: &str, text: &str| {
        out.extend_from_slice(b"{\"");
        out.extend_from_slice(name.as_bytes());
        out.extend_from_slice(b"\":");
        write_string(text.as_bytes(), out);
        out.push(b'}');
    };
    match element.datum() {
        Datum::Null => out.extend_from_slice(b"null"),
        Datum::Boolean(true) => out.extend_from_slice(b"true"),
        Datum::Boolean(false) => out.extend_from_slice(b"false"),
        Datum::Int(i) if relaxed => out.extend_from_slice(itoa::Buffer::new().format(i).as_bytes()),
        Datum::Long(i) if relaxed && (form == Form::Relaxed || i32::try_from(i).is_err()) => {
            out.extend_from_slice(itoa::Buffer::new().format(i).as_bytes());
        }
        Datum::Double(f) if relaxed && f.is_finite() => {
            out.extend_from_slice(zmij::Buffer::new().format(f).as_bytes());
        }
        Datum::Int(i) => quoted("$numberInt", itoa::Buffer::new().format(i)),
        Datum::Long(i) => quoted("$numberLong", itoa::Buffer::new().format(i)),
        Datum::Double(f) if f.is_nan() => quoted("$numberDouble", "NaN"),
        Datum::Double(f) if f.is_infinite() => {
            quoted(
                "$numberDouble",
                if f > 0.0 { "Infinity" } else { "-Infinity" },
            );
        }
        Datum::Double(f) => quoted("$numberDouble", zmij::Buffer::new().format(f)),
        Datum::Decimal(d) => quoted("$numberDecimal", &d.to_string()),
        Datum::Id(id) => quoted("$oid", &super::id_text(&id)),
        Datum::Symbol(text) => quoted("$symbol", &text),
        Datum::Code(text) => quoted("$code", &text),
        Datum::Date(ms) => match time::text(ms).filter(|_| relaxed && ms >= 0) {
            Some(text) => quoted("$date", &text),
            None => out.extend_from_slice(
                format!("{{\"$date\":{{\"$numberLong\":\"{ms}\"}}}}").as_bytes(),
            ),
        },
        Datum::Timestamp(time, increment) => out.extend_from_slice(
            format!("{{\"$timestamp\":{{\"t\":{time},\"i\":{increment}}}}}").as_bytes(),
        ),
        Datum::Bytes(both) => {
            let encoded = STANDARD.encode(&both.1);
            out.extend_from_slice(
                format!(
                    "{{\"$binary\":{{\"base64\":\"{encoded}\",\"subType\":\"{:02x}\"}}}}",
                    both.0
                )
                .as_bytes(),
            );
        }
        Datum::Regex(both) => {
            out.extend_from_slice(b"{\"$regularExpression\":{\"pattern\":");
            write_string(both.0.as_bytes(), out);
            out.extend_from_slice(b",\"options\":");
            write_string(both.1.as_bytes(), out);
            out.extend_from_slice(b"}}");
        }
        Datum::ScopedCode(both) => {
            out.extend_from_slice(b"{\"$code\":");
            write_string(both.0.as_bytes(), out);
            out.extend_from_slice(b",\"$scope\":");
            write(&bson::encode(&both.1), form, out);
            out.push(b'}');
        }
        Datum::Pointer(both) => {
            out.extend_from_slice(b"{\"$dbPointer\":{\"$ref\":");
            write_string(both.0.as_bytes(), out);
            out.extend_from_slice(
                format!(",\"$id\":{{\"$oid\":\"{}\"}}}}}}", super::id_text(&both.1)).as_bytes(),
            );
        }
        Datum::Undefined => out.extend_from_slice(b"{\"$undefined\":true}"),
        Datum::MinKey => out.extend_from_slice(b"{\"$minKey\":1}"),
        Datum::MaxKey => out.extend_from_slice(b"{\"$maxKey\":1}"),
        Datum::Text(_) | Datum::Object(_) | Datum::List(_) => {}
    }
}

/// Appends a JSON string (RFC 8259); bytes that are not UTF-8 become U+FFFD.
pub fn write_string(bytes: &[u8], out: &mut Vec<u8>) {
    let lossy;
    let bytes = if bytes.is_ascii() || std::str::from_utf8(bytes).is_ok() {
        bytes
    } else {
        lossy = String::from_utf8_lossy(bytes).into_owned();
        lossy.as_bytes()
    };
    out.push(b'"');
    let mut from = 0;
    for (at, byte) in bytes.iter().enumerate() {
        if *byte >= 0x20 && *byte != b'"' && *byte != b'\\' && *byte != 0x7f {
            continue;
        }
        out.extend_from_slice(&bytes[from..at]);
        from = at + 1;
        match byte {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            other => out.extend_from_slice(format!("\\u{other:04x}").as_bytes()),
        }
    }
    out.extend_from_slice(&bytes[from..]);
    out.push(b'"');
}

#[cfg(test)]
mod tests {
    use super::*;

    fn both(text: &str) -> (String, String) {
        let value = read(text).unwrap_or_else(|error| panic!("{text}: {error}"));
        (
            text_of(&value, Form::Canonical),
            text_of(&value, Form::Relaxed),
        )
    }

    /// Cases written from the specification's table of conversions: canonical, relaxed.
    #[test]
    fn every_kind_has_its_two_forms() {
        for (canonical, relaxed) in [
            (
                r#"{"$oid":"57e193d7a9cc81b4027498b5"}"#,
                r#"{"$oid":"57e193d7a9cc81b4027498b5"}"#,
            ),
            (r#"{"$symbol":"x"}"#, r#"{"$symbol":"x"}"#),
            (r#""text \" \\ \n \u0001 é""#, r#""text \" \\ \n \u0001 é""#),
            (r#"{"$numberInt":"-42"}"#, "-42"),
            (
                r#"{"$numberLong":"9223372036854775807"}"#,
                "9223372036854775807",
            ),
            (r#"{"$numberDouble":"1.5"}"#, "1.5"),
            (r#"{"$numberDouble":"1.0"}"#, "1.0"),
            (r#"{"$numberDouble":"-0.0"}"#, "-0.0"),
            (
                r#"{"$numberDouble":"Infinity"}"#,
                r#"{"$numberDouble":"Infinity"}"#,
            ),
            (
                r#"{"$numberDouble":"-Infinity"}"#,
                r#"{"$numberDouble":"-Infinity"}"#,
            ),
            (r#"{"$numberDouble":"NaN"}"#, r#"{"$numberDouble":"NaN"}"#),
            (
                r#"{"$numberDecimal":"1.50E+9"}"#,
                r#"{"$numberDecimal":"1.50E+9"}"#,
            ),
            (
                r#"{"$binary":{"base64":"AQI=","subType":"80"}}"#,
                r#"{"$binary":{"base64":"AQI=","subType":"80"}}"#,
            ),
            (r#"{"$code":"f"}"#, r#"{"$code":"f"}"#),
            (
                r#"{"$code":"f","$scope":{"x":{"$numberInt":"1"}}}"#,
                r#"{"$code":"f","$scope":{"x":1}}"#,
            ),
            (
                r#"{"$timestamp":{"t":42,"i":4294967295}}"#,
                r#"{"$timestamp":{"t":42,"i":4294967295}}"#,
            ),
            (
                r#"{"$regularExpression":{"pattern":"^a","options":"im"}}"#,
                r#"{"$regularExpression":{"pattern":"^a","options":"im"}}"#,
            ),
            (
                r#"{"$dbPointer":{"$ref":"c","$id":{"$oid":"57e193d7a9cc81b4027498b5"}}}"#,
                r#"{"$dbPointer":{"$ref":"c","$id":{"$oid":"57e193d7a9cc81b4027498b5"}}}"#,
            ),
            (
                r#"{"$date":{"$numberLong":"0"}}"#,
                r#"{"$date":"1970-01-01T00:00:00Z"}"#,
            ),
            (
                r#"{"$date":{"$numberLong":"1356351330501"}}"#,
                r#"{"$date":"2012-12-24T12:15:30.501Z"}"#,
            ),
            (
                r#"{"$date":{"$numberLong":"-284643869501"}}"#,
                r#"{"$date":{"$numberLong":"-284643869501"}}"#,
            ),
            (
                r#"{"$date":{"$numberLong":"253402300800000"}}"#,
                r#"{"$date":{"$numberLong":"253402300800000"}}"#,
            ),
            (r#"{"$undefined":true}"#, r#"{"$undefined":true}"#),
            (r#"{"$minKey":1}"#, r#"{"$minKey":1}"#),
            (r#"{"$maxKey":1}"#, r#"{"$maxKey":1}"#),
            ("null", "null"),
            (r#"[true,{"a":[]}]"#, r#"[true,{"a":[]}]"#),
            (
                r#"{"$foo":{"$numberInt":"1"},"a.b":{"$numberInt":"2"}}"#,
                r#"{"$foo":1,"a.b":2}"#,
            ),
            (
                r#"{"$ref":"c","$id":{"$numberInt":"1"}}"#,
                r#"{"$ref":"c","$id":1}"#,
            ),
        ] {
            assert_eq!(both(canonical), (canonical.into(), relaxed.into()));
            let value = read(canonical).expect("reads");
            let again = read(relaxed).expect("reads");
            assert_eq!(
                bson::encode(&Document::new().with("v", value)),
                bson::encode(&Document::new().with("v", again)),
                "{relaxed}"
            );
        }
    }

    #[test]
    fn numbers_and_other_spellings_are_read() {
        for (text, canonical) in [
            ("2147483647", r#"{"$numberInt":"2147483647"}"#),
            ("2147483648", r#"{"$numberLong":"2147483648"}"#),
            (
                "9223372036854775808",
                r#"{"$numberDouble":"9.223372036854775808E18"}"#,
            ),
            ("-0", r#"{"$numberDouble":"-0.0"}"#),
            ("1e2", r#"{"$numberDouble":"100.0"}"#),
            (
                r#"{"$uuid":"00112233-4455-6677-8899-aabbccddeeff"}"#,
                r#"{"$binary":{"base64":"ABEiM0RVZneImaq7zN3u/w==","subType":"04"}}"#,
            ),
            (
                r#"{"$binary":"AQI=","$type":"00"}"#,
                r#"{"$binary":{"base64":"AQI=","subType":"00"}}"#,
            ),
            (
                r#"{"$date":"2031-03-01T05:12:00+02:00"}"#,
                r#"{"$date":{"$numberLong":"1930101120000"}}"#,
            ),
            (
                r#"{"$scope":{},"$code":"f"}"#,
                r#"{"$code":"f","$scope":{}}"#,
            ),
            (
                r#"{"$regularExpression":{"pattern":"a","options":"xi"}}"#,
                r#"{"$regularExpression":{"pattern":"a","options":"ix"}}"#,
            ),
        ] {
            let value = read(text).unwrap_or_else(|error| panic!("{text}: {error}"));
            let expected = read(canonical).expect(canonical);
            assert_eq!(value, expected, "{text}");
        }
        let twice = read_document(r#"{"a":1,"a":2}"#).expect("reads");
        assert_eq!(twice.len(), 2, "nothing is lost");
    }

    #[test]
    fn what_is_wrong_is_said_with_its_place() {
        for (text, words) in [
            (r#"{"a": tru}"#, "line 1 column"),
            (
                "{\n\"a\": {\"$oid\": \"12\"}}",
                "24 hexadecimal digits at line 2",
            ),
            (r#"{"$numberInt":"2147483648"}"#, "32-bit"),
            (r#"{"$numberInt":5}"#, "32-bit"),
            (r#"{"$numberDouble":"0x1"}"#, "number"),
            (r#"{"$numberDecimal":"1.5.2"}"#, "decimal"),
            (r#"{"$date":"yesterday"}"#, "2031"),
            (r#"{"$oid":"57e193d7a9cc81b4027498b5","x":1}"#, "alone"),
            (r#"{"$binary":{"base64":"*","subType":"00"}}"#, "base64"),
            (r#"{"$timestamp":{"t":-1,"i":0}}"#, "t and i"),
            (r#"{"$uuid":"00112233445566778899aabbccddeeff"}"#, "aabb"),
            (r#"{"$minKey":2}"#, "1"),
            ("{} {}", "trailing"),
            ("", "EOF"),
        ] {
            let error = read(text).expect_err(text).to_string();
            assert!(error.contains(words), "{text}: {error}");
        }
        let deep = |levels: usize| "[".repeat(levels) + &"]".repeat(levels);
        assert!(read(&deep(DEPTH - 1)).is_ok());
        assert!(
            read(&deep(100_000))
                .expect_err("deep")
                .to_string()
                .contains("deeper")
        );
        assert!(
            read_document("[1]")
                .expect_err("a list")
                .to_string()
                .contains("a list")
        );
    }
}
