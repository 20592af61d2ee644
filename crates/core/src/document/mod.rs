//! Documents: ordered fields with values of every kind that BSON knows (bsonspec.org, version 1.1), as owned
//! trees and as the bytes they travel in. It knows no database and no language; reading and writing Extended
//! JSON, the order of values and arithmetic are in the modules below.

pub mod bson;
pub mod compare;
pub mod decimal128;
pub mod extended;
pub mod number;
pub mod path;
pub mod paths;
pub mod shape;
pub mod time;

use compact_str::CompactString;

pub use decimal128::Decimal128;

/// Objects and lists within each other past this depth are refused when they are read.
pub const DEPTH: usize = 400;

/// A value of a document.
#[derive(Debug, Clone, PartialEq)]
pub enum Datum {
    /// Null.
    Null,
    /// True or false.
    Boolean(bool),
    /// A 32-bit integer.
    Int(i32),
    /// A 64-bit integer.
    Long(i64),
    /// A 64-bit IEEE 754 number.
    Double(f64),
    /// An IEEE 754 decimal of 34 digits.
    Decimal(Decimal128),
    /// Text.
    Text(CompactString),
    /// A document within the document.
    Object(Document),
    /// A list.
    List(Vec<Datum>),
    /// Bytes and their subtype.
    Bytes(Box<(u8, Vec<u8>)>),
    /// An identifier of twelve bytes.
    Id([u8; 12]),
    /// Milliseconds since 1970-01-01T00:00:00Z.
    Date(i64),
    /// The servers' own timestamps: seconds since 1970 and a counter within the second.
    Timestamp(u32, u32),
    /// A regular expression: pattern and options.
    Regex(Box<(String, String)>),
    /// Program text.
    Code(Box<str>),
    /// Program text with variables.
    ScopedCode(Box<(String, Document)>),
    /// A symbol (deprecated).
    Symbol(Box<str>),
    /// A pointer into a collection (deprecated).
    Pointer(Box<(String, [u8; 12])>),
    /// Undefined (deprecated).
    Undefined,
    /// Less than everything.
    MinKey,
    /// More than everything.
    MaxKey,
}

/// An ordered list of fields. Names may repeat, as they may in BSON; the first of a name is the one found.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Document {
    /// Names and values, in order.
    pub fields: Vec<(CompactString, Datum)>,
}

impl Document {
    /// No fields.
    pub fn new() -> Self {
        Self::default()
    }

    /// The value of a field.
    #[inline]
    pub fn get(&self, name: &str) -> Option<&Datum> {
        self.fields
            .iter()
            .find(|(field, _)| field == name)
            .map(|(_, value)| value)
    }

    /// The value of a field, to change it.
    pub fn get_mut(&mut self, name: &str) -> Option<&mut Datum> {
        self.fields
            .iter_mut()
            .find(|(field, _)| field == name)
            .map(|(_, value)| value)
    }

    /// Puts a value under a name: in place where the name is there, else at the end.
    pub fn set(&mut self, name: &str, value: impl Into<Datum>) {
        match self.get_mut(name) {
            Some(old) => *old = value.into(),
            None => self.fields.push((name.into(), value.into())),
        }
    }

    /// Takes a field out.
    pub fn remove(&mut self, name: &str) -> Option<Datum> {
        let at = self.fields.iter().position(|(field, _)| field == name)?;
        Some(self.fields.remove(at).1)
    }

    /// Adds a field at the end; for building.
    #[must_use]
    pub fn with(mut self, name: &str, value: impl Into<Datum>) -> Self {
        self.fields.push((name.into(), value.into()));
        self
    }

    /// Number of fields.
    pub fn len(&self) -> usize {
        self.fields.len()
    }

    /// Whether there is no field.
    pub fn is_empty(&self) -> bool {
        self.fields.is_empty()
    }
}

impl<N: Into<CompactString>, V: Into<Datum>> FromIterator<(N, V)> for Document {
    fn from_iter<T: IntoIterator<Item = (N, V)>>(iter: T) -> Self {
        Document {
            fields: iter
                .into_iter()
                .map(|(name, value)| (name.into(), value.into()))
                .collect(),
        }
    }
}

/// The kind of a value, in the words the flow language uses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// Null.
    Null,
    /// 32-bit integer.
    Int,
    /// 64-bit integer.
    Long,
    /// IEEE 754 double.
    Double,
    /// IEEE 754 decimal.
    Decimal,
    /// Text.
    Text,
    /// Object.
    Object,
    /// List.
    List,
    /// Bytes.
    Bytes,
    /// Identifier.
    Id,
    /// Boolean.
    Boolean,
    /// Date.
    Date,
    /// Timestamp of a server.
    Timestamp,
    /// Regular expression.
    Regex,
    /// Program text, with or without variables.
    Code,
    /// Symbol.
    Symbol,
    /// Pointer.
    Pointer,
    /// Undefined.
    Undefined,
    /// Less than everything.
    MinKey,
    /// More than everything.
    MaxKey,
}

impl Kind {
    /// Every kind and its word.
    pub const ALL: &[(Kind, &'static str)] = &[
        (Kind::Null, "null"),
        (Kind::Int, "int"),
        (Kind::Long, "long"),
        (Kind::Double, "double"),
        (Kind::Decimal, "decimal"),
        (Kind::Text, "text"),
        (Kind::Object, "object"),
        (Kind::List, "list"),
        (Kind::Bytes, "bytes"),
        (Kind::Id, "id"),
        (Kind::Boolean, "boolean"),
        (Kind::Date, "date"),
        (Kind::Timestamp, "timestamp"),
        (Kind::Regex, "regex"),
        (Kind::Code, "code"),
        (Kind::Symbol, "symbol"),
        (Kind::Pointer, "pointer"),
        (Kind::Undefined, "undefined"),
        (Kind::MinKey, "minkey"),
        (Kind::MaxKey, "maxkey"),
    ];

    /// The word for this kind.
    pub fn word(self) -> &'static str {
        Kind::ALL
            .iter()
            .find(|(kind, _)| *kind == self)
            .map_or("", |(_, word)| word)
    }

    /// Whether it is one of the number kinds.
    pub fn is_number(self) -> bool {
        matches!(self, Kind::Int | Kind::Long | Kind::Double | Kind::Decimal)
    }

    /// The kind of an element with this BSON type byte.
    pub fn of_tag(tag: u8) -> Option<Kind> {
        Some(match tag {
            bson::DOUBLE => Kind::Double,
            bson::TEXT => Kind::Text,
            bson::OBJECT => Kind::Object,
            bson::LIST => Kind::List,
            bson::BYTES => Kind::Bytes,
            bson::UNDEFINED => Kind::Undefined,
            bson::ID => Kind::Id,
            bson::BOOLEAN => Kind::Boolean,
            bson::DATE => Kind::Date,
            bson::NULL => Kind::Null,
            bson::REGEX => Kind::Regex,
            bson::POINTER => Kind::Pointer,
            bson::CODE | bson::SCOPED_CODE => Kind::Code,
            bson::SYMBOL => Kind::Symbol,
            bson::INT => Kind::Int,
            bson::TIMESTAMP => Kind::Timestamp,
            bson::LONG => Kind::Long,
            bson::DECIMAL => Kind::Decimal,
            bson::MIN_KEY => Kind::MinKey,
            bson::MAX_KEY => Kind::MaxKey,
            _ => return None,
        })
    }
}

impl Datum {
    /// Its kind.
    pub fn kind(&self) -> Kind {
        match self {
            Datum::Null => Kind::Null,
            Datum::Boolean(_) => Kind::Boolean,
            Datum::Int(_) => Kind::Int,
            Datum::Long(_) => Kind::Long,
            Datum::Double(_) => Kind::Double,
            Datum::Decimal(_) => Kind::Decimal,
            Datum::Text(_) => Kind::Text,
            Datum::Object(_) => Kind::Object,
            Datum::List(_) => Kind::List,
            Datum::Bytes(_) => Kind::Bytes,
            Datum::Id(_) => Kind::Id,
            Datum::Date(_) => Kind::Date,
            Datum::Timestamp(..) => Kind::Timestamp,
            Datum::Regex(_) => Kind::Regex,
            Datum::Code(_) | Datum::ScopedCode(_) => Kind::Code,
            Datum::Symbol(_) => Kind::Symbol,
            Datum::Pointer(_) => Kind::Pointer,
            Datum::Undefined => Kind::Undefined,
            Datum::MinKey => Kind::MinKey,
            Datum::MaxKey => Kind::MaxKey,
        }
    }

    /// Whether it is null, or the deprecated undefined.
    #[inline]
    pub fn is_null(&self) -> bool {
        matches!(self, Datum::Null | Datum::Undefined)
    }

    /// Whether it is a number of any kind.
    #[inline]
    pub fn is_number(&self) -> bool {
        matches!(
            self,
            Datum::Int(_) | Datum::Long(_) | Datum::Double(_) | Datum::Decimal(_)
        )
    }

    /// A whole number: 32 bits where it fits, as JSON's numbers are read.
    pub fn integer(number: i64) -> Datum {
        i32::try_from(number).map_or(Datum::Long(number), Datum::Int)
    }

    /// The number as a double, if it is one.
    pub fn as_f64(&self) -> Option<f64> {
        Some(match self {
            Datum::Int(i) => f64::from(*i),
            Datum::Long(i) => *i as f64,
            Datum::Double(f) => *f,
            Datum::Decimal(d) => d.to_f64(),
            _ => return None,
        })
    }

    /// The number as a whole number, if it is one without a fraction that fits.
    pub fn as_i64(&self) -> Option<i64> {
        match self {
            Datum::Int(i) => Some(i64::from(*i)),
            Datum::Long(i) => Some(*i),
            Datum::Double(f) => (f.trunc() == *f && f.abs() < 9.2e18).then_some(*f as i64),
            Datum::Decimal(d) => d.to_string().parse::<i64>().ok().or_else(|| {
                let f = d.to_f64();
                (f.trunc() == f && f.abs() < 9e15).then_some(f as i64)
            }),
            _ => None,
        }
    }

    /// The text, if it is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Datum::Text(text) => Some(text),
            Datum::Symbol(text) => Some(text),
            _ => None,
        }
    }

    /// The fields, if it is an object.
    pub fn as_object(&self) -> Option<&Document> {
        match self {
            Datum::Object(document) => Some(document),
            _ => None,
        }
    }

    /// The elements, if it is a list.
    pub fn as_list(&self) -> Option<&[Datum]> {
        match self {
            Datum::List(list) => Some(list),
            _ => None,
        }
    }

    /// Roughly the bytes of memory it takes.
    pub fn size(&self) -> usize {
        size_of::<Datum>()
            + match self {
                Datum::Text(text) if text.is_heap_allocated() => text.capacity(),
                Datum::Object(document) => document.size(),
                Datum::List(list) => list.iter().map(Datum::size).sum(),
                Datum::Bytes(bytes) => bytes.1.len() + 32,
                _ => 0,
            }
    }
}

impl Document {
    /// Roughly the bytes of memory it takes.
    pub fn size(&self) -> usize {
        self.fields
            .iter()
            .map(|(name, value)| {
                let heap = if name.is_heap_allocated() {
                    name.capacity()
                } else {
                    0
                };
                size_of::<CompactString>() + heap + value.size()
            })
            .sum()
    }
}

impl From<Document> for Datum {
    fn from(document: Document) -> Self {
        Datum::Object(document)
    }
}
impl From<&str> for Datum {
    fn from(text: &str) -> Self {
        Datum::Text(text.into())
    }
}
impl From<String> for Datum {
    fn from(text: String) -> Self {
        Datum::Text(text.into())
    }
}
impl From<i32> for Datum {
    fn from(number: i32) -> Self {
        Datum::Int(number)
    }
}
impl From<i64> for Datum {
    fn from(number: i64) -> Self {
        Datum::Long(number)
    }
}
impl From<f64> for Datum {
    fn from(number: f64) -> Self {
        Datum::Double(number)
    }
}
impl From<bool> for Datum {
    fn from(truth: bool) -> Self {
        Datum::Boolean(truth)
    }
}
impl<T: Into<Datum>> From<Vec<T>> for Datum {
    fn from(list: Vec<T>) -> Self {
        Datum::List(list.into_iter().map(Into::into).collect())
    }
}

/// Makes a [`Document`]: `document! { "a": 1, "b": "x" }`.
#[macro_export]
macro_rules! document {
    ($($name:literal : $value:expr),* $(,)?) => {
        $crate::document::Document { fields: vec![$(($name.into(), $crate::document::Datum::from($value))),*] }
    };
}

/// An identifier as its 24 hexadecimal digits.
pub fn id_text(id: &[u8; 12]) -> String {
    id.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The identifier that 24 hexadecimal digits stand for.
pub fn id_of(text: &str) -> Option<[u8; 12]> {
    if text.len() != 24 || !text.is_ascii() {
        return None;
    }
    let mut id = [0; 12];
    for (at, byte) in id.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&text[2 * at..2 * at + 2], 16).ok()?;
    }
    Some(id)
}
