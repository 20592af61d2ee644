//! Files of this machine that a statement sends to the server: the one that the user named in it, and no other,
//! whatever the server asks for.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use bytes::Bytes;
use futures_util::{StreamExt, stream};
use idle_tide_lang::Dialect;
use idle_tide_lang::token::{TokenKind, significant, tokens};
use mysql_async::Conn;

use crate::engine::{EngineError, Fault};

/// Bytes that are read at once.
const PIECE: usize = 256 * 1024;

/// A file that a statement may send.
pub(super) struct Local {
    path: PathBuf,
    sent: Arc<AtomicU64>,
    /// Whether the statement it belongs to still runs.
    open: Arc<AtomicBool>,
}

/// The file that a `load data local` (or `load xml local`) names.
fn named(statement: &str, dialect: &Dialect) -> Option<PathBuf> {
    let list = significant(&tokens(statement, dialect));
    let is = |at: usize, word: &str| {
        let token = list.get(at);
        token.is_some_and(|token| token.is_word(statement, word))
    };
    if !is(0, "load") || !is(1, "data") && !is(1, "xml") {
        return None;
    }
    let at = 2 + usize::from(is(2, "low_priority") || is(2, "concurrent"));
    let text = list.get(at + 2)?;
    if !is(at, "local") || !is(at + 1, "infile") || text.kind != TokenKind::Text {
        return None;
    }
    let raw = text.of(statement);
    let quote = raw.get(..1)?;
    let inner = raw.strip_prefix(quote)?.strip_suffix(quote)?;
    let mut path = String::new();
    let mut letters = inner.chars().peekable();
    while let Some(letter) = letters.next() {
        let doubled = quote.starts_with(letter) && letters.peek() == Some(&letter);
        let escaped = letter == '\\' && dialect.backslash_escapes;
        path.push(match letters.peek().filter(|_| doubled || escaped) {
            Some(next) => {
                let next = *next;
                letters.next();
                next
            }
            None => letter,
        });
    }
    Some(path.into())
}

fn unreadable(path: &Path, why: &std::io::Error) -> EngineError {
    EngineError {
        fault: Fault::Statement,
        advice: Some(
            "The statement names a file of this machine (local); it is looked for from the folder where this program was started."
                .into(),
        ),
        ..EngineError::plain(format!("{} cannot be read: {why}", path.display()))
    }
}

impl Local {
    /// Gets the file ready that a statement names; nothing if it names none.
    ///
    /// # Errors
    /// If it cannot be read: then the statement is not sent.
    pub(super) fn of(
        statement: &str,
        dialect: &Dialect,
        conn: &mut Conn,
    ) -> Result<Option<Self>, EngineError> {
        let Some(path) = named(statement, dialect) else {
            return Ok(None);
        };
        let mut file = File::open(&path).map_err(|error| unreadable(&path, &error))?;
        if file.metadata().is_ok_and(|about| about.is_dir()) {
            let error = std::io::Error::from(std::io::ErrorKind::IsADirectory);
            return Err(unreadable(&path, &error));
        }
        let local = Local {
            path,
            sent: Arc::default(),
            open: Arc::new(AtomicBool::new(true)),
        };
        let (sent, open) = (Arc::clone(&local.sent), Arc::clone(&local.open));
        conn.set_infile_handler(async move {
            let pieces = stream::iter(std::iter::from_fn(move || {
                if !open.load(Ordering::Relaxed) {
                    return None;
                }
                let mut piece = vec![0; PIECE];
                match file.read(&mut piece) {
                    Ok(0) => None,
                    Ok(count) => {
                        sent.fetch_add(count as u64, Ordering::Relaxed);
                        piece.truncate(count);
                        Some(Ok(Bytes::from(piece)))
                    }
                    Err(error) => Some(Err(error)),
                }
            }));
            Ok(pieces.boxed())
        });
        Ok(Some(local))
    }

    /// The statement has ended: nothing is sent any more. Says what was.
    pub(super) fn close(self) -> String {
        self.open.store(false, Ordering::Relaxed);
        let sent = self.sent.load(Ordering::Relaxed);
        let bytes = if sent == 1 { "byte" } else { "bytes" };
        format!(
            "{} of this machine was sent: {sent} {bytes}",
            self.path.display()
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::mariadb;

    #[test]
    fn only_a_file_that_is_named_is_found() {
        for (statement, mode, path) in [
            (
                "load data local infile '/tmp/a b.csv' into table t",
                "",
                Some("/tmp/a b.csv"),
            ),
            (
                "LOAD DATA CONCURRENT LOCAL INFILE 'o''b' into table t",
                "",
                Some("o'b"),
            ),
            (
                r"load xml local infile 'a\\b' into table t",
                "",
                Some(r"a\b"),
            ),
            (
                r"load data local infile 'a\b' into table t",
                "NO_BACKSLASH_ESCAPES",
                Some(r"a\b"),
            ),
            ("load data infile '/tmp/a' into table t", "", None),
            ("select 'load data local infile'", "", None),
            ("load data local infile", "", None),
        ] {
            let found = named(statement, mariadb(true, mode));
            assert_eq!(found, path.map(PathBuf::from), "{statement}");
        }
    }
}
