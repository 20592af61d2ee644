//! What statements that make objects again are put together from.

use crate::served::Answer;

/// Rows of the system catalogs.
pub(super) type Rows = Answer;

/// What a relation, type or routine is known by: the system catalog it stands in, and its number there.
pub(super) type Key = (String, String);

/// The statement that makes an object, by its key.
pub(super) struct Piece {
    pub(super) key: Key,
    pub(super) text: String,
}
