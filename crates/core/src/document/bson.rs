//! The bytes of BSON 1.1 (bsonspec.org): reading them in place, into trees, and writing them. Lengths, kinds, text and
//! depth are checked before anything is believed; no input makes it panic.

use super::{DEPTH, Datum, Decimal128, Document};

/// Type byte of a double.
pub const DOUBLE: u8 = 0x01;
/// Type byte of text.
pub const TEXT: u8 = 0x02;
/// Type byte of an object.
pub const OBJECT: u8 = 0x03;
/// Type byte of a list.
pub const LIST: u8 = 0x04;
/// Type byte of bytes.
pub const BYTES: u8 = 0x05;
/// Type byte of undefined (deprecated).
pub const UNDEFINED: u8 = 0x06;
/// Type byte of an identifier.
pub const ID: u8 = 0x07;
/// Type byte of a boolean.
pub const BOOLEAN: u8 = 0x08;
/// Type byte of a date.
pub const DATE: u8 = 0x09;
/// Type byte of null.
pub const NULL: u8 = 0x0a;
/// Type byte of a regular expression.
pub const REGEX: u8 = 0x0b;
/// Type byte of a pointer (deprecated).
pub const POINTER: u8 = 0x0c;
/// Type byte of program text.
pub const CODE: u8 = 0x0d;
/// Type byte of a symbol (deprecated).
pub const SYMBOL: u8 = 0x0e;
/// Type byte of program text with variables (deprecated).
pub const SCOPED_CODE: u8 = 0x0f;
/// Type byte of a 32-bit integer.
pub const INT: u8 = 0x10;
/// Type byte of a timestamp.
pub const TIMESTAMP: u8 = 0x11;
/// Type byte of a 64-bit integer.
pub const LONG: u8 = 0x12;
/// Type byte of a decimal.
pub const DECIMAL: u8 = 0x13;
/// Type byte of what is less than everything.
pub const MIN_KEY: u8 = 0xff;
/// Type byte of what is more than everything.
pub const MAX_KEY: u8 = 0x7f;

/// What is wrong with bytes that should be BSON, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BsonError {
    /// What is wrong, a phrase.
    pub message: String,
    /// The byte, counted from the start of the outermost document.
    pub at: usize,
}

impl std::fmt::Display for BsonError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} at byte {}", self.message, self.at)
    }
}

fn wrong<T>(message: impl Into<String>, at: usize) -> Result<T, BsonError> {
    Err(BsonError {
        message: message.into(),
        at,
    })
}

/// One element where it stands.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Element<'a> {
    /// Its name, without the closing zero.
    pub name: &'a [u8],
    /// Its type byte.
    pub tag: u8,
    /// The bytes of its value.
    pub value: &'a [u8],
}

/// The elements of a document that stands in memory. Ends early where the bytes are damaged: check with
/// [`check`] first where that matters.
#[derive(Debug, Clone)]
pub struct Elements<'a> {
    rest: &'a [u8],
}

/// The elements of the document in `bytes` (its length first).
#[inline]
pub fn elements(bytes: &[u8]) -> Elements<'_> {
    Elements {
        rest: bytes.get(4..).unwrap_or_default(),
    }
}

#[inline]
fn int_at(bytes: &[u8], at: usize) -> Option<usize> {
    let four = bytes.get(at..at + 4)?;
    usize::try_from(i32::from_le_bytes([four[0], four[1], four[2], four[3]])).ok()
}

/// The number of bytes the value of an element takes.
#[inline]
fn value_length(tag: u8, bytes: &[u8]) -> Option<usize> {
    let length = match tag {
        DOUBLE | DATE | TIMESTAMP | LONG => 8,
        TEXT | CODE | SYMBOL => 4 + int_at(bytes, 0)?,
        OBJECT | LIST | SCOPED_CODE => int_at(bytes, 0)?,
        BYTES => 5 + int_at(bytes, 0)?,
        UNDEFINED | NULL | MIN_KEY | MAX_KEY => 0,
        ID => 12,
        BOOLEAN => 1,
        REGEX => {
            let pattern = memchr::memchr(0, bytes)?;
            pattern + 1 + memchr::memchr(0, &bytes[pattern + 1..])? + 1
        }
        POINTER => 4 + int_at(bytes, 0)? + 12,
        INT => 4,
        DECIMAL => 16,
        _ => return None,
    };
    (length <= bytes.len()).then_some(length)
}

impl<'a> Iterator for Elements<'a> {
    type Item = Element<'a>;

    #[inline]
    fn next(&mut self) -> Option<Element<'a>> {
        let (&tag, rest) = self.rest.split_first()?;
        if tag == 0 {
            return None;
        }
        // Names are short: a plain loop beats a search here.
        let end = rest.iter().position(|byte| *byte == 0)?;
        let name = &rest[..end];
        let rest = &rest[end + 1..];
        let length = value_length(tag, rest)?;
        self.rest = &rest[length..];
        Some(Element {
            name,
            tag,
            value: &rest[..length],
        })
    }
}

/// Checks a whole document: lengths, kinds, closing zeros, UTF-8, depth.
///
/// # Errors
/// What is wrong first, and where.
pub fn check(bytes: &[u8]) -> Result<(), BsonError> {
    check_document(bytes, 0, DEPTH)
}

fn check_document(bytes: &[u8], base: usize, depth: usize) -> Result<(), BsonError> {
    if depth == 0 {
        return wrong(format!("more than {DEPTH} levels"), base);
    }
    let Some(length) = int_at(bytes, 0) else {
        return wrong("a document's length is cut off", base);
    };
    if length != bytes.len() || length < 5 {
        return wrong(
            format!(
                "a document says it has {length} bytes and has {}",
                bytes.len()
            ),
            base,
        );
    }
    if bytes[length - 1] != 0 {
        return wrong(
            "a document does not end with a zero byte",
            base + length - 1,
        );
    }
    let mut at = 4;
    while at < length - 1 {
        let tag = bytes[at];
        let Some(end) = memchr::memchr(0, &bytes[at + 1..length - 1]) else {
            return wrong("a field's name is cut off", base + at);
        };
        if std::str::from_utf8(&bytes[at + 1..at + 1 + end]).is_err() {
            return wrong("a field's name is not UTF-8", base + at + 1);
        }
        let start = at + end + 2;
        let rest = &bytes[start..length - 1];
        let Some(size) = value_length(tag, rest) else {
            return if super::Kind::of_tag(tag).is_none() {
                wrong(format!("0x{tag:02x} is no kind of value"), base + at)
            } else {
                wrong("a value is cut off", base + start)
            };
        };
        check_value(tag, &rest[..size], base + start, depth)?;
        at = start + size;
    }
    Ok(())
}

fn check_text(bytes: &[u8], base: usize) -> Result<(), BsonError> {
    match bytes.split_last() {
        Some((0, text)) if std::str::from_utf8(text).is_ok() => Ok(()),
        Some((0, _)) => wrong("a text is not UTF-8", base),
        _ => wrong("a text does not end with a zero byte", base),
    }
}

fn check_value(tag: u8, value: &[u8], base: usize, depth: usize) -> Result<(), BsonError> {
    match tag {
        OBJECT | LIST => check_document(value, base, depth - 1),
        TEXT | CODE | SYMBOL => check_text(&value[4..], base + 4),
        POINTER => check_text(&value[4..value.len() - 12], base + 4),
        BOOLEAN if value[0] > 1 => wrong(format!("a boolean is {}", value[0]), base),
        BYTES if value[4] == 2 && int_at(value, 5).is_none_or(|inner| inner + 9 != value.len()) => {
            wrong("the inner length of bytes of subtype 2 is wrong", base)
        }
        REGEX
            if value
                .split(|b| *b == 0)
                .any(|part| std::str::from_utf8(part).is_err()) =>
        {
            wrong("a regular expression is not UTF-8", base)
        }
        SCOPED_CODE => {
            let inner = int_at(value, 4).and_then(|text| 8_usize.checked_add(text));
            match inner.filter(|end| *end > 8 && *end < value.len()) {
                Some(end) => {
                    check_text(&value[8..end], base + 8)?;
                    check_document(&value[end..], base + end, depth - 1)
                }
                None => wrong("program text with variables is cut off", base),
            }
        }
        _ => Ok(()),
    }
}

/// A document's tree.
///
/// # Errors
/// As [`check`].
pub fn decode(bytes: &[u8]) -> Result<Document, BsonError> {
    check(bytes)?;
    Ok(tree(bytes))
}

/// The tree of a document that was checked; what is damaged nevertheless is left out, and text that is not UTF-8 has
/// replacement characters.
pub fn tree(bytes: &[u8]) -> Document {
    let mut fields = Vec::with_capacity(8);
    for element in elements(bytes) {
        fields.push((
            String::from_utf8_lossy(element.name).into(),
            element.datum(),
        ));
    }
    Document { fields }
}

fn text_of(value: &[u8]) -> std::borrow::Cow<'_, str> {
    let end = value.len().saturating_sub(1).max(4);
    String::from_utf8_lossy(value.get(4..end).unwrap_or_default())
}

fn eight(value: &[u8]) -> [u8; 8] {
    value
        .get(..8)
        .and_then(|v| v.try_into().ok())
        .unwrap_or_default()
}

impl<'a> Element<'a> {
    /// The text, if it is one.
    pub fn text(&self) -> Option<&'a [u8]> {
        matches!(self.tag, TEXT | SYMBOL | CODE)
            .then(|| self.value.get(4..self.value.len().saturating_sub(1)))
            .flatten()
    }

    /// The value's tree.
    pub fn datum(&self) -> Datum {
        let value = self.value;
        match self.tag {
            DOUBLE => Datum::Double(f64::from_le_bytes(eight(value))),
            TEXT => Datum::Text(text_of(value).into()),
            OBJECT => Datum::Object(tree(value)),
            LIST => Datum::List(elements(value).map(|element| element.datum()).collect()),
            BYTES => {
                let subtype = value.get(4).copied().unwrap_or_default();
                let inner = if subtype == 2 { 9 } else { 5 };
                Datum::Bytes(Box::new((
                    subtype,
                    value.get(inner..).unwrap_or_default().to_vec(),
                )))
            }
            UNDEFINED => Datum::Undefined,
            ID => Datum::Id(value.try_into().unwrap_or_default()),
            BOOLEAN => Datum::Boolean(value.first() == Some(&1)),
            DATE => Datum::Date(i64::from_le_bytes(eight(value))),
            REGEX => {
                let mut parts = value.split(|byte| *byte == 0).map(String::from_utf8_lossy);
                let mut part = || parts.next().unwrap_or_default().into_owned();
                Datum::Regex(Box::new((part(), part())))
            }
            POINTER => {
                let (name, id) = value.split_at(value.len().saturating_sub(12));
                Datum::Pointer(Box::new((
                    text_of(name).into_owned(),
                    id.try_into().unwrap_or_default(),
                )))
            }
            CODE => Datum::Code(text_of(value).into()),
            SYMBOL => Datum::Symbol(text_of(value).into()),
            SCOPED_CODE => {
                let end = int_at(value, 4).map_or(8, |n| 8 + n).min(value.len());
                let code = text_of(value.get(4..end).unwrap_or_default()).into_owned();
                Datum::ScopedCode(Box::new((code, tree(&value[end..]))))
            }
            INT => Datum::Int(i32::from_le_bytes(value.try_into().unwrap_or_default())),
            TIMESTAMP => {
                let both = u64::from_le_bytes(eight(value));
                Datum::Timestamp((both >> 32) as u32, both as u32)
            }
            LONG => Datum::Long(i64::from_le_bytes(eight(value))),
            DECIMAL => Datum::Decimal(Decimal128(value.try_into().unwrap_or_default())),
            MIN_KEY => Datum::MinKey,
            MAX_KEY => Datum::MaxKey,
            _ => Datum::Null,
        }
    }
}

/// A document's bytes.
pub fn encode(document: &Document) -> Vec<u8> {
    let mut out = Vec::with_capacity(64 + 24 * document.len());
    write(document, &mut out);
    out
}

/// Appends a document's bytes. Zero characters in names, which BSON cannot hold, become U+2400.
pub fn write(document: &Document, out: &mut Vec<u8>) {
    let start = out.len();
    out.extend_from_slice(&[0; 4]);
    for (name, value) in &document.fields {
        write_field(name, value, out);
    }
    close(start, out);
}

fn close(start: usize, out: &mut Vec<u8>) {
    out.push(0);
    let length = (out.len() - start) as u32;
    out[start..start + 4].copy_from_slice(&length.to_le_bytes());
}

fn write_name(name: &str, out: &mut Vec<u8>) {
    if name.contains('\0') {
        out.extend_from_slice(name.replace('\0', "\u{2400}").as_bytes());
    } else {
        out.extend_from_slice(name.as_bytes());
    }
    out.push(0);
}

fn write_text(text: &str, out: &mut Vec<u8>) {
    out.extend_from_slice(&(text.len() as u32 + 1).to_le_bytes());
    out.extend_from_slice(text.as_bytes());
    out.push(0);
}

/// Appends a field's bytes to a document whose length is written later.
pub fn write_field(name: &str, value: &Datum, out: &mut Vec<u8>) {
    out.push(tag(value));
    write_name(name, out);
    write_value(value, out);
}

/// The type byte of a value.
pub fn tag(value: &Datum) -> u8 {
    match value {
        Datum::Null => NULL,
        Datum::Boolean(_) => BOOLEAN,
        Datum::Int(_) => INT,
        Datum::Long(_) => LONG,
        Datum::Double(_) => DOUBLE,
        Datum::Decimal(_) => DECIMAL,
        Datum::Text(_) => TEXT,
        Datum::Object(_) => OBJECT,
        Datum::List(_) => LIST,
        Datum::Bytes(_) => BYTES,
        Datum::Id(_) => ID,
        Datum::Date(_) => DATE,
        Datum::Timestamp(..) => TIMESTAMP,
        Datum::Regex(_) => REGEX,
        Datum::Code(_) => CODE,
        Datum::ScopedCode(_) => SCOPED_CODE,
        Datum::Symbol(_) => SYMBOL,
        Datum::Pointer(_) => POINTER,
        Datum::Undefined => UNDEFINED,
        Datum::MinKey => MIN_KEY,
        Datum::MaxKey => MAX_KEY,
    }
}

/// Appends the bytes of a value without its type byte and name.
pub fn write_value(value: &Datum, out: &mut Vec<u8>) {
    match value {
        Datum::Null | Datum::Undefined | Datum::MinKey | Datum::MaxKey => {}
        Datum::Boolean(truth) => out.push(u8::from(*truth)),
        Datum::Int(i) => out.extend_from_slice(&i.to_le_bytes()),
        Datum::Long(i) | Datum::Date(i) => out.extend_from_slice(&i.to_le_bytes()),
        Datum::Double(f) => out.extend_from_slice(&f.to_le_bytes()),
        Datum::Decimal(d) => out.extend_from_slice(&d.0),
        Datum::Text(text) => write_text(text, out),
        Datum::Code(text) | Datum::Symbol(text) => write_text(text, out),
        Datum::Object(document) => write(document, out),
        Datum::List(list) => {
            let start = out.len();
            out.extend_from_slice(&[0; 4]);
            let mut digits = itoa::Buffer::new();
            for (at, value) in list.iter().enumerate() {
                write_field(digits.format(at), value, out);
            }
            close(start, out);
        }
        Datum::Bytes(both) => {
            let (subtype, bytes) = &**both;
            let length = bytes.len() as u32;
            if *subtype == 2 {
                out.extend_from_slice(&(length + 4).to_le_bytes());
                out.push(2);
            } else {
                out.extend_from_slice(&length.to_le_bytes());
                out.push(*subtype);
            }
            if *subtype == 2 {
                out.extend_from_slice(&length.to_le_bytes());
            }
            out.extend_from_slice(bytes);
        }
        Datum::Id(id) => out.extend_from_slice(id),
        Datum::Timestamp(time, increment) => {
            out.extend_from_slice(&increment.to_le_bytes());
            out.extend_from_slice(&time.to_le_bytes());
        }
        Datum::Regex(both) => {
            write_name(&both.0, out);
            write_name(&both.1, out);
        }
        Datum::ScopedCode(both) => {
            let start = out.len();
            out.extend_from_slice(&[0; 4]);
            write_text(&both.0, out);
            write(&both.1, out);
            let length = (out.len() - start) as u32;
            out[start..start + 4].copy_from_slice(&length.to_le_bytes());
        }
        Datum::Pointer(both) => {
            write_text(&both.0, out);
            out.extend_from_slice(&both.1);
        }
    }
}

/// The element at the end of a path of names; lists are entered by their positions only. Of names that repeat, the
/// first counts.
#[inline]
pub fn find<'a, 'p>(
    bytes: &'a [u8],
    path: impl IntoIterator<Item = &'p str>,
) -> Option<Element<'a>> {
    let mut found: Option<Element<'a>> = None;
    for name in path {
        let inside = match found {
            None => bytes,
            Some(element) if matches!(element.tag, OBJECT | LIST) => element.value,
            Some(_) => return None,
        };
        found = Some(elements(inside).find(|element| element.name == name.as_bytes())?);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document;
    use crate::document::extended;

    /// One document with every kind; its bytes are written out by hand from the specification.
    fn every_kind() -> Vec<u8> {
        let mut out: Vec<u8> = vec![0; 4];
        let mut put = |bytes: &[u8]| out.extend_from_slice(bytes);
        put(b"\x01d\0\0\0\0\0\0\0\xf8\x3f");
        put(b"\x02t\0\x06\0\0\0hello\0");
        put(b"\x03o\0\x08\0\0\0\x0an\0\0");
        put(b"\x04l\0\x0c\0\0\0\x100\0\x07\0\0\0\0");
        put(b"\x05b\0\x02\0\0\0\x80\x01\x02");
        put(b"\x05old\0\x06\0\0\0\x02\x02\0\0\0\x01\x02");
        put(b"\x06u\0");
        put(b"\x07i\0\x01\x02\x03\x04\x05\x06\x07\x08\x09\x0a\x0b\x0c");
        put(b"\x08y\0\x01");
        put(b"\x09when\0\xff\xff\xff\xff\xff\xff\xff\xff");
        put(b"\x0an\0");
        put(b"\x0br\0^a\0im\0");
        put(b"\x0cp\0\x02\0\0\0c\0\x01\x02\x03\x04\x05\x06\x07\x08\x09\x0a\x0b\x0c");
        put(b"\x0dj\0\x02\0\0\0f\0");
        put(b"\x0es\0\x02\0\0\0s\0");
        put(b"\x0fw\0\x0f\0\0\0\x02\0\0\0f\0\x05\0\0\0\0");
        put(b"\x10k\0\xfe\xff\xff\xff");
        put(b"\x11ts\0\x02\0\0\0\x01\0\0\0");
        put(b"\x12q\0\0\0\0\0\x01\0\0\0");
        put(b"\x13m\0\x01\0\0\0\0\0\0\0\0\0\0\0\0\0\x40\x30");
        put(b"\xffmin\0\x7fmax\0\0");
        let length = out.len() as u32;
        out[..4].copy_from_slice(&length.to_le_bytes());
        out
    }

    #[test]
    fn every_kind_is_read_and_written_byte_for_byte() {
        let bytes = every_kind();
        let tree = decode(&bytes).expect("a document");
        assert_eq!(tree.len(), 22);
        assert_eq!(tree.get("d"), Some(&Datum::Double(1.5)));
        assert_eq!(tree.get("when"), Some(&Datum::Date(-1)));
        assert_eq!(
            tree.get("old"),
            Some(&Datum::Bytes(Box::new((2, vec![1, 2]))))
        );
        assert_eq!(tree.get("q"), Some(&Datum::Long(1 << 32)));
        assert_eq!(tree.get("ts"), Some(&Datum::Timestamp(1, 2)));
        assert_eq!(encode(&tree), bytes);
        let text = extended::text(&bytes, extended::Form::Canonical);
        let back = extended::read_document(&text).expect("reads back");
        assert_eq!(encode(&back), bytes, "{text}");
    }

    #[test]
    fn bytes_cut_anywhere_or_with_a_false_length_are_refused() {
        let bytes = every_kind();
        for end in 0..bytes.len() {
            assert!(decode(&bytes[..end]).is_err(), "cut at {end}");
            let mut relabelled = bytes[..end].to_vec();
            if let Some(length) = relabelled.get_mut(..4) {
                length.copy_from_slice(&(end as u32).to_le_bytes());
                let _ = decode(&relabelled);
            }
        }
        for at in 0..bytes.len() {
            for value in [0, 1, 0x7f, 0x80, 0xff] {
                let mut damaged = bytes.clone();
                damaged[at] = value;
                if let Ok(tree) = decode(&damaged) {
                    let _ = encode(&tree);
                }
                let _ = extended::text(&damaged, extended::Form::Relaxed);
                elements(&damaged).for_each(drop);
            }
        }
        let wrong = decode(b"\x09\0\0\0\x08a\0\x02\0").expect_err("no boolean");
        assert_eq!((wrong.message.as_str(), wrong.at), ("a boolean is 2", 7));
        assert!(
            decode(b"\x08\0\0\0\x20a\0\0")
                .expect_err("no kind")
                .message
                .contains("0x20")
        );
    }

    #[test]
    fn depth_is_limited_and_names_may_repeat() {
        let nested = |levels: usize| {
            (1..levels).fold(Document::new(), |inner, _| Document::new().with("a", inner))
        };
        assert!(decode(&encode(&nested(DEPTH))).is_ok());
        let error = decode(&encode(&nested(DEPTH + 1))).expect_err("too deep");
        assert!(error.message.contains("levels"));
        let twice = document! { "a": 1, "a": 2, "b.c": 3, "$d": 4, "": 5 };
        assert_eq!(decode(&encode(&twice)).expect("reads"), twice);
        let bytes = encode(&twice);
        assert_eq!(find(&bytes, ["a"]).map(|e| e.datum()), Some(Datum::Int(1)));
        let deep = encode(&document! { "x": document! { "l": vec![4, 5] } });
        assert_eq!(
            find(&deep, ["x", "l", "1"]).map(|e| e.datum()),
            Some(Datum::Int(5))
        );
        assert!(
            find(&deep, ["x", "l", "z"]).is_none() && find(&deep, ["x", "l", "0", "z"]).is_none()
        );
    }
}
