//! The practice server: a stand-in for tests, the demo and practice that speaks the public BSON wire protocol (OP_MSG) on loopback, over
//! documents in memory. It knows the documented commands that official drivers and flows need.

mod collation;
mod commands;
mod conversion;
pub mod expression;
mod login;
pub mod query;
pub mod stages;
mod store;
pub mod update;
pub mod wire;

pub use commands::{Connection as Conversation, Server, Settings};
pub use store::Store;
pub use wire::{Listening, Tls, listen};

use idle_tide_core::document::{Datum, Document, Kind};

/// An error with the documented code.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
#[error("{message} ({code})")]
pub struct Failed {
    /// The code.
    pub code: i32,
    /// The words.
    pub message: String,
    /// What an answer says beside these: `keyPattern`, `keyValue`.
    pub details: Option<Box<Document>>,
}

impl Failed {
    /// An error.
    pub fn new(code: i32, message: impl Into<String>) -> Self {
        Failed {
            code,
            message: message.into(),
            details: None,
        }
    }

    /// With what an answer says beside the words.
    #[must_use]
    pub fn with(mut self, details: Document) -> Self {
        self.details = Some(Box::new(details));
        self
    }

    /// Puts what it says beside its words into an answer.
    fn detailed(&self, mut answer: Document) -> Document {
        if let Some(details) = &self.details {
            answer.fields.extend(details.fields.iter().cloned());
        }
        answer
    }

    /// The documented name of the code.
    pub fn name(&self) -> &'static str {
        match self.code {
            2 => "BadValue",
            9 => "FailedToParse",
            11 => "UserNotFound",
            13 => "Unauthorized",
            14 => "TypeMismatch",
            18 => "AuthenticationFailed",
            20 => "IllegalOperation",
            26 => "NamespaceNotFound",
            27 => "IndexNotFound",
            28 => "PathNotViable",
            31 => "RoleNotFound",
            40 => "ConflictingUpdateOperators",
            43 => "CursorNotFound",
            50 => "MaxTimeMSExpired",
            52 => "DollarPrefixedFieldName",
            48 => "NamespaceExists",
            14_031 => "OutOfDiskSpace",
            59 => "CommandNotFound",
            66 => "ImmutableField",
            67 => "CannotCreateIndex",
            72 => "InvalidOptions",
            73 => "InvalidNamespace",
            85 => "IndexOptionsConflict",
            86 => "IndexKeySpecsConflict",
            112 => "WriteConflict",
            115 => "CommandNotSupported",
            166 => "CommandNotSupportedOnView",
            168 => "InvalidPipelineOperator",
            225 => "TransactionTooOld",
            241 => "ConversionFailure",
            251 => "NoSuchTransaction",
            263 => "OperationNotSupportedInTransaction",
            11000 => "DuplicateKey",
            11601 => "Interrupted",
            10334 => "BSONObjectTooLarge",
            51003 => "Location51003",
            _ => "Error",
        }
    }
}

/// The word that servers have for the kind of a value.
pub fn type_name(value: &Datum) -> &'static str {
    match value {
        Datum::Null => "null",
        Datum::Boolean(_) => "bool",
        Datum::Int(_) => "int",
        Datum::Long(_) => "long",
        Datum::Double(_) => "double",
        Datum::Decimal(_) => "decimal",
        Datum::Text(_) => "string",
        Datum::Object(_) => "object",
        Datum::List(_) => "array",
        Datum::Bytes(_) => "binData",
        Datum::Id(_) => "objectId",
        Datum::Date(_) => "date",
        Datum::Timestamp(..) => "timestamp",
        Datum::Regex(_) => "regex",
        Datum::Code(_) => "javascript",
        Datum::ScopedCode(_) => "javascriptWithScope",
        Datum::Symbol(_) => "symbol",
        Datum::Pointer(_) => "dbPointer",
        Datum::Undefined => "undefined",
        Datum::MinKey => "minKey",
        Datum::MaxKey => "maxKey",
    }
}

/// The kind that a name or a number stands for; `None` inside for `number`, which is every kind of number.
pub(crate) fn kind_of_name(name: &Datum) -> Result<Option<Kind>, Failed> {
    const NAMES: &[(&str, i64, Kind)] = &[
        ("double", 1, Kind::Double),
        ("string", 2, Kind::Text),
        ("object", 3, Kind::Object),
        ("array", 4, Kind::List),
        ("binData", 5, Kind::Bytes),
        ("undefined", 6, Kind::Undefined),
        ("objectId", 7, Kind::Id),
        ("bool", 8, Kind::Boolean),
        ("date", 9, Kind::Date),
        ("null", 10, Kind::Null),
        ("regex", 11, Kind::Regex),
        ("dbPointer", 12, Kind::Pointer),
        ("javascript", 13, Kind::Code),
        ("symbol", 14, Kind::Symbol),
        ("int", 16, Kind::Int),
        ("timestamp", 17, Kind::Timestamp),
        ("long", 18, Kind::Long),
        ("decimal", 19, Kind::Decimal),
        ("minKey", -1, Kind::MinKey),
        ("maxKey", 127, Kind::MaxKey),
    ];
    if name.as_text() == Some("number") {
        return Ok(None);
    }
    let found = NAMES
        .iter()
        .find(|(word, number, _)| name.as_text() == Some(word) || name.as_i64() == Some(*number));
    found.map(|(_, _, kind)| Some(*kind)).ok_or_else(|| {
        Failed::new(
            2,
            format!("Unknown type name alias: {}", name.as_text().unwrap_or("?")),
        )
    })
}
