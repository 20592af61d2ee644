//! What is asked with hidden input, or to be allowed: by whoever opens a source, in its thread, and by a statement
//! or command that lacks a value.

use std::sync::mpsc::{Sender, channel};

use idle_tide_engines::Ask;
use secrecy::SecretString;

use crate::task::{Progress, Reporter};

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

/// Passes questions on to the desk's thread.
pub(crate) struct Asker(pub(crate) Reporter);

impl Ask for Asker {
    fn secret(&self, what: &str) -> Option<SecretString> {
        let (reply, answer) = channel();
        self.0
            .tell(Progress::Asks(Asked::Secret(what.into(), reply)));
        answer.recv().ok()?
    }

    fn allow(&self, question: &str, details: &[String]) -> bool {
        let (reply, answer) = channel();
        let asked = Asked::Allow(question.into(), details.to_vec(), reply);
        self.0.tell(Progress::Asks(asked));
        answer.recv().unwrap_or(false)
    }

    fn tell(&self, word: &str) {
        self.0.tell(Progress::Asks(Asked::Word(word.into())));
    }
}
