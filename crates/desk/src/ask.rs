//! What is asked with hidden input, or to be allowed: by whoever opens a source, in its thread, and by a statement
//! or command that lacks a value.

use std::sync::mpsc::Sender;

use secrecy::SecretString;

/// What an answer is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// A text that shows nowhere.
    Secret,
    /// A text.
    Value,
    /// Yes or no.
    Consent,
}

/// What whoever opens a source wants to know; it waits for the answer.
pub enum Asked {
    /// A secret; what for.
    Secret(String, Sender<Option<SecretString>>),
    /// Whether to go on, and details.
    Allow(String, Vec<String>, Sender<bool>),
    /// Nothing: a word on how far it is.
    Word(String),
}
