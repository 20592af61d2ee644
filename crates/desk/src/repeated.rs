//! What a server repeats of a statement: in errors, notices, names of columns. The secrets that stood in it are taken out.

use std::io;

use idle_tide_core::{Column, RowBatch};
use idle_tide_engines::{Outcome, Sink};
use secrecy::ExposeSecret;

use crate::session::Secrets;

/// The text without these secrets, which are literals with their quotes.
pub(crate) fn without(text: &str, secrets: &Secrets) -> String {
    let mut text = text.to_string();
    for (_, literal) in secrets {
        let literal = literal.expose_secret();
        let inside = literal.trim_matches(['\'', '"', '$']);
        // A short one without its quotes would be found in every word.
        let inside = Some(inside).filter(|inside| inside.chars().count() > 3);
        for secret in std::iter::once(literal).chain(inside) {
            text = text.replace(secret, "…");
        }
    }
    text
}

/// The outcome with its notices without these secrets.
pub(crate) fn said(outcome: Outcome, secrets: &Secrets) -> Outcome {
    if secrets.is_empty() {
        return outcome;
    }
    let notes = outcome.notes.iter();
    Outcome {
        notes: notes.map(|note| without(note, secrets)).collect(),
        ..outcome
    }
}

/// Gives rows on under names that hold no secret: servers name a column without a name by its expression.
pub(crate) struct WithoutSecrets {
    pub(crate) sink: Box<dyn Sink + Send>,
    pub(crate) secrets: Secrets,
}

impl WithoutSecrets {
    fn named(&self, mut columns: Vec<Column>) -> Vec<Column> {
        for column in &mut columns {
            column.name = without(&column.name, &self.secrets);
        }
        columns
    }
}

impl Sink for WithoutSecrets {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        let columns = self.named(columns);
        self.sink.columns(columns)
    }
    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.sink.rows(batch)
    }
    fn bytes(&mut self, part: &[u8]) -> io::Result<bool> {
        self.sink.bytes(part)
    }
    fn another(&mut self, before: Outcome) -> io::Result<()> {
        self.sink.another(said(before, &self.secrets))
    }
    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        let columns = self.named(columns);
        self.sink.more_columns(columns)
    }
    fn end(&mut self) -> io::Result<()> {
        self.sink.end()
    }
}
