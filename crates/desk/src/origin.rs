//! What opened a session, to open it again.

use idle_tide_engines::{OpenOptions, Source};

use crate::settings::Tone;

/// What opened a session.
#[derive(Debug, Clone)]
pub struct Origin {
    /// The name it is known by.
    pub name: String,
    /// What was opened.
    pub source: Source,
    /// How.
    pub options: OpenOptions,
    /// How carefully it is to be treated.
    pub tone: Tone,
}
