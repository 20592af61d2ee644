//! What keeps a source from opening, and who is asked on the way. It knows neither sources nor engines.

use std::fmt;

use secrecy::SecretString;

/// What kept a source from opening.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// Nothing listens there.
    Refused,
    /// No answer in time, or no way there.
    NoRoute,
    /// The name of the host is not known.
    NameNotFound,
    /// The server wants another user or password.
    Login,
    /// There is no such database.
    NoDatabase,
    /// The server takes no more connections.
    TooMany,
    /// Encryption could not be agreed on, or the server did not prove who it is.
    Tls,
    /// The server is too old to be spoken to.
    TooOld,
    /// The way in failed: the secure shell, or the command that carries the connection.
    Way,
    /// The user said no.
    Cancelled,
    /// Anything else.
    Other,
}

/// Why a source cannot be opened: which it is, and what to check next.
#[derive(Debug, Clone, thiserror::Error)]
pub struct OpenError {
    /// What kind of trouble.
    pub trouble: Trouble,
    /// What is wrong, one sentence.
    pub headline: String,
    /// What to check, in whole sentences.
    pub checks: Vec<String>,
    /// What the server or the system said.
    pub said: Option<String>,
}

impl OpenError {
    /// An error that is only words.
    pub fn plain(words: impl Into<String>) -> Self {
        OpenError {
            trouble: Trouble::Other,
            headline: words.into(),
            checks: Vec::new(),
            said: None,
        }
    }

    /// The user did not want to go on.
    pub fn cancelled() -> Self {
        OpenError {
            trouble: Trouble::Cancelled,
            ..Self::plain("It was not opened.")
        }
    }
}

impl fmt::Display for OpenError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.headline)?;
        for check in &self.checks {
            write!(f, " {check}")?;
        }
        match &self.said {
            Some(said) => write!(f, " ({said})"),
            None => Ok(()),
        }
    }
}

/// Answers what opening a source asks. Called from the thread that opens; it may block.
pub trait Ask: Send + Sync {
    /// A secret, `what` says which; `None` if the user does not want to go on.
    fn secret(&self, what: &str) -> Option<SecretString>;

    /// Whether to go on; `question` says with what.
    fn allow(&self, question: &str, details: &[String]) -> bool;

    /// A word on how far it is.
    fn tell(&self, word: &str);
}

/// Answers nothing: what would have to be asked fails.
#[derive(Debug, Clone, Copy)]
pub struct Silent;

impl Ask for Silent {
    fn secret(&self, _: &str) -> Option<SecretString> {
        None
    }
    fn allow(&self, _: &str, _: &[String]) -> bool {
        false
    }
    fn tell(&self, _: &str) {}
}
