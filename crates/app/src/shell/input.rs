//! What is to be run: from the command line, a file, standard input or a diary, cut into statements one after the other.

use std::collections::VecDeque;
use std::io::{self, Read};
use std::path::Path;

use idle_tide_desk::diary::{Block, blocks};
use idle_tide_lang::split::{PieceKind, Statements};
use idle_tide_lang::{Dialect, binary};

use super::exit::Stop;
use crate::arguments::Run;

pub(super) type Next = Result<(String, bool, String), Stop>;

/// What is to run next, cut by the dialect of the session at that time: a statement may change it.
pub(super) type Input = Box<dyn FnMut(&'static Dialect) -> Option<Next>>;

pub(super) fn from_arguments(statements: &[String], dialect: &'static Dialect) -> Input {
    let many = statements.len() > 1;
    let place = move |at: usize| match many {
        true => format!("statement {}: ", at + 1),
        false => String::new(),
    };
    let mut list: VecDeque<_> = statements
        .iter()
        .map(|text| Statements::new(io::Cursor::new(text.clone().into_bytes()), dialect))
        .enumerate()
        .collect();
    let mut empty = true;
    Box::new(move |dialect| {
        loop {
            let (at, statements) = list.front_mut()?;
            statements.speak(dialect);
            let place = place(*at);
            if let Some((piece, bytes)) = statements.find_map(Result::ok) {
                empty = false;
                let text = String::from_utf8_lossy(&bytes).into_owned();
                return Some(Ok((text, piece.kind == PieceKind::Command, place)));
            }
            list.pop_front();
            if std::mem::replace(&mut empty, true) {
                return Some(Err(format!("{place}There is nothing to run in it.").into()));
            }
        }
    })
}

/// Whether the file is a diary.
pub(super) fn is_diary(run: &Run) -> bool {
    let ending = run.file.as_deref().and_then(Path::extension);
    run.check || ending.is_some_and(|ending| ending.eq_ignore_ascii_case("md"))
}

pub(super) fn read_diary(mut reader: Box<dyn Read>, run: &Run) -> Result<Vec<Block>, Stop> {
    let name = run.file.as_deref().unwrap_or(Path::new("")).display();
    let mut text = String::new();
    reader
        .read_to_string(&mut text)
        .map_err(|error| format!("{name} cannot be read: {error}."))?;
    let list = blocks(&text);
    if list.is_empty() {
        return Err(format!(
            "{name} has no block that runs: one that begins with ```sql, ```flow or ```command."
        )
        .into());
    }
    Ok(list)
}

/// The blocks of a diary, one after the other.
pub(super) fn from_blocks(list: Vec<Block>, run: &Run, dialect: &'static Dialect) -> Input {
    let name = run
        .file
        .as_deref()
        .unwrap_or(Path::new(""))
        .display()
        .to_string();
    let mut list = list.into_iter();
    let mut now: Option<(u64, Input)> = None;
    Box::new(move |current| {
        loop {
            if let Some((line, pieces)) = &mut now
                && let Some(piece) = pieces(current)
            {
                let line = *line;
                return Some(piece.map(|(text, is_command, _)| {
                    (text, is_command, format!("{name}, line {line}: "))
                }));
            }
            let block = list.next()?;
            now = Some((block.line, from_arguments(&[block.text], dialect)));
        }
    })
}

pub(super) fn from_reader(reader: Box<dyn Read>, name: String, dialect: &'static Dialect) -> Input {
    let mut statements = Statements::new(reader, dialect);
    let mut at_start = true;
    Box::new(move |dialect| {
        statements.speak(dialect);
        let next = statements.next()?;
        let at_start = std::mem::take(&mut at_start);
        let (piece, mut bytes) = match next {
            Ok(next) => next,
            Err(error) => return Some(Err(format!("{name} cannot be read: {error}.").into())),
        };
        // A mark of the encoding at the start of a file is not part of its first statement.
        if at_start && bytes.starts_with(b"\xef\xbb\xbf") {
            bytes.drain(..3);
        }
        // Backup programs write bytes as they are into literals.
        let text = match binary::as_text(&bytes, dialect) {
            Some(text) => text,
            None => {
                let valid = std::str::from_utf8(&bytes).map_or_else(|e| e.valid_up_to(), str::len);
                let line = piece.line
                    + bytes[..valid].iter().filter(|byte| **byte == b'\n').count() as u64;
                return Some(Err(
                    format!("{name}, line {line}: the text is not UTF-8.").into()
                ));
            }
        };
        let place = format!("{name}, line {}: ", piece.line);
        Some(Ok((text, piece.kind == PieceKind::Command, place)))
    })
}
