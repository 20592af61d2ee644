//! Cutting what was typed, or a file of any size, into statements and commands. Works on chunks of
//! bytes in memory that does not depend on the file; a trigger's body stays in one piece.

use std::io::{self, Read};

use crate::dialect::Dialect;

/// What a piece is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PieceKind {
    /// A statement for the server.
    Statement,
    /// A command of ours: `/` and a letter, up to the end of the line.
    Command,
}

/// A piece and its place, in bytes from the start of the input.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Piece {
    /// What it is.
    pub kind: PieceKind,
    /// Its first byte that is not blank (a comment before the statement belongs to it).
    pub start: u64,
    /// One past its last byte, the semicolon included.
    pub end: u64,
    /// Line of its first byte, counted from 1.
    pub line: u64,
    /// Whether it was ended (by its semicolon, or a command by its line) and not by the end of the input.
    pub ended: bool,
    /// Whether it holds anything but comments.
    pub has_code: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Code,
    Quote(u8),
    LineComment,
    BlockComment,
    /// A command line of ours.
    Command,
}

/// How the first words of a statement decide where it may end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Body {
    /// Still reading first words; true after `create`.
    Head(bool),
    /// Ends at the next semicolon.
    Plain,
    /// A trigger: ends at a semicolon after `; end`.
    Trigger(Tail),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Tail {
    Other,
    Semicolon,
    End,
}

/// Cuts a stream of chunks into pieces.
#[derive(Debug)]
pub struct Splitter {
    dialect: &'static Dialect,
    commands: bool,
    state: State,
    body: Body,
    /// Bytes before the current chunk.
    offset: u64,
    line: u64,
    start: Option<(u64, u64)>,
    has_code: bool,
    /// The last byte of code, to see two-byte signs across chunks.
    previous: u8,
    word: [u8; 10],
    word_length: usize,
}

/// Classes of bytes within code; 0 can be skipped.
const fn classes() -> [u8; 256] {
    let mut table = [0; 256];
    let mut at = 0;
    while at < 256 {
        table[at] = match at as u8 {
            b'\'' | b'"' | b'`' | b'[' => 1,
            b'-' | b'*' => 2,
            b'/' => 2,
            b';' => 3,
            b'\n' => 4,
            _ => 0,
        };
        at += 1;
    }
    table
}
static CLASS: [u8; 256] = classes();

impl Splitter {
    /// A splitter for the dialect; `commands` says whether lines of our own commands may stand between.
    pub fn new(dialect: &'static Dialect, commands: bool) -> Self {
        Splitter {
            dialect,
            commands,
            state: State::Code,
            body: Body::Head(false),
            offset: 0,
            line: 1,
            start: None,
            has_code: false,
            previous: 0,
            word: [0; 10],
            word_length: 0,
        }
    }

    /// Reads the next chunk and hands every piece that ends in it to `emit`.
    pub fn feed(&mut self, chunk: &[u8], emit: &mut dyn FnMut(Piece)) {
        let mut at = 0;
        while at < chunk.len() {
            at = match self.state {
                State::Code => self.code(chunk, at, emit),
                State::Quote(close) => match memchr::memchr2(close, b'\n', &chunk[at..]) {
                    Some(found) if chunk[at + found] == b'\n' => {
                        self.line += 1;
                        at + found + 1
                    }
                    // A doubled quote closes and opens again, which comes to the same.
                    Some(found) => {
                        self.state = State::Code;
                        self.previous = 0;
                        at + found + 1
                    }
                    None => chunk.len(),
                },
                State::LineComment | State::Command => match memchr::memchr(b'\n', &chunk[at..]) {
                    Some(found) => {
                        let end = at + found;
                        if self.state == State::Command {
                            self.end(self.offset + end as u64, PieceKind::Command, true, emit);
                        }
                        self.state = State::Code;
                        self.previous = 0;
                        end
                    }
                    None => chunk.len(),
                },
                State::BlockComment => {
                    let mut next = chunk.len();
                    let mut from = at;
                    while let Some(found) = memchr::memchr2(b'/', b'\n', &chunk[from..]) {
                        let place = from + found;
                        if chunk[place] == b'\n' {
                            self.line += 1;
                        } else {
                            let before = if place > at {
                                chunk[place - 1]
                            } else {
                                self.previous
                            };
                            if before == b'*' {
                                self.state = State::Code;
                                next = place + 1;
                                break;
                            }
                        }
                        from = place + 1;
                    }
                    self.previous = if self.state == State::Code {
                        0
                    } else {
                        chunk[chunk.len() - 1]
                    };
                    next
                }
            };
        }
        self.offset += chunk.len() as u64;
    }

    /// Ends the input; what is left becomes a last piece that is not ended.
    pub fn finish(mut self, emit: &mut dyn FnMut(Piece)) {
        if self.start.is_some() {
            self.flush_word();
            let command = self.state == State::Command;
            let kind = if command {
                PieceKind::Command
            } else {
                PieceKind::Statement
            };
            self.end(self.offset, kind, command, emit);
        }
    }

    /// Reads code from `at`; gives the place to go on from, in the state that is then set.
    fn code(&mut self, chunk: &[u8], mut at: usize, emit: &mut dyn FnMut(Piece)) -> usize {
        while at < chunk.len() {
            if self.body == Body::Plain && self.start.is_some() {
                let skipped = chunk[at..]
                    .iter()
                    .position(|byte| CLASS[usize::from(*byte)] != 0)
                    .unwrap_or(chunk.len() - at);
                if skipped > 0 {
                    at += skipped;
                    self.previous = 0;
                    continue;
                }
            }
            let byte = chunk[at];
            let place = self.offset + at as u64;
            if byte == b'\n' {
                self.line += 1;
            }
            if byte.is_ascii_whitespace() {
                self.flush_word();
                self.previous = 0;
                at += 1;
                continue;
            }
            if self.start.is_none() {
                self.start = Some((place, self.line));
            }
            if crate::token::is_word_byte(byte) {
                if self.commands
                    && self.previous == b'/'
                    && !self.has_code
                    && byte.is_ascii_alphabetic()
                {
                    self.state = State::Command;
                    self.has_code = true;
                    self.previous = 0;
                    return at;
                }
                self.settle_slash();
                self.has_code = true;
                self.previous = 0;
                if self.word_length < self.word.len() {
                    self.word[self.word_length] = byte.to_ascii_lowercase();
                }
                self.word_length += 1;
                at += 1;
                continue;
            }
            self.flush_word();
            at += 1;
            match byte {
                b'-' if self.previous == b'-' => {
                    self.state = State::LineComment;
                    self.previous = 0;
                    return at;
                }
                b'*' if self.previous == b'/' => {
                    self.state = State::BlockComment;
                    self.previous = 0;
                    return at;
                }
                // Whether these are code is known at the next byte.
                b'-' | b'/' => {
                    self.settle_slash();
                    self.previous = byte;
                    continue;
                }
                _ => self.settle_slash(),
            }
            self.previous = byte;
            match byte {
                b';' => {
                    if let Body::Trigger(tail) = self.body
                        && tail != Tail::End
                    {
                        self.body = Body::Trigger(Tail::Semicolon);
                        continue;
                    }
                    self.end(place + 1, PieceKind::Statement, true, emit);
                }
                b'\'' | b'"' => {
                    self.code_seen();
                    self.state = State::Quote(byte);
                    return at;
                }
                b'`' if self.dialect.backtick_names => {
                    self.code_seen();
                    self.state = State::Quote(byte);
                    return at;
                }
                b'[' if self.dialect.bracket_names => {
                    self.code_seen();
                    self.state = State::Quote(b']');
                    return at;
                }
                _ => self.code_seen(),
            }
        }
        at
    }

    /// A `-` or `/` that turned out to be neither a comment nor a command is code.
    fn settle_slash(&mut self) {
        if matches!(self.previous, b'-' | b'/') {
            self.code_seen();
        }
    }

    fn code_seen(&mut self) {
        self.has_code = true;
        match self.body {
            Body::Head(_) => self.body = Body::Plain,
            Body::Trigger(_) => self.body = Body::Trigger(Tail::Other),
            Body::Plain => {}
        }
    }

    fn flush_word(&mut self) {
        if self.word_length == 0 {
            return;
        }
        let word = self.word.get(..self.word_length).unwrap_or(b"");
        self.body = match (self.body, word) {
            (Body::Head(false), b"explain" | b"query" | b"plan") => Body::Head(false),
            (Body::Head(false), b"create") | (Body::Head(true), b"temp" | b"temporary") => {
                Body::Head(true)
            }
            (Body::Head(true), b"trigger") => Body::Trigger(Tail::Other),
            (Body::Head(_) | Body::Plain, _) => Body::Plain,
            (Body::Trigger(Tail::Semicolon), b"end") => Body::Trigger(Tail::End),
            (Body::Trigger(_), _) => Body::Trigger(Tail::Other),
        };
        self.word_length = 0;
    }

    fn end(&mut self, end: u64, kind: PieceKind, ended: bool, emit: &mut dyn FnMut(Piece)) {
        if let Some((start, line)) = self.start.take() {
            emit(Piece {
                kind,
                start,
                end,
                line,
                ended,
                has_code: self.has_code || matches!(self.previous, b'-' | b'/'),
            });
        }
        self.body = Body::Head(false);
        self.has_code = false;
        self.previous = 0;
        self.word_length = 0;
    }
}

/// The pieces of a text that was typed.
pub fn pieces(text: &str, dialect: &'static Dialect) -> Vec<Piece> {
    let mut list = Vec::new();
    let mut splitter = Splitter::new(dialect, true);
    splitter.feed(text.as_bytes(), &mut |piece| list.push(piece));
    splitter.finish(&mut |piece| list.push(piece));
    list
}

/// The statements of a reader one after the other, each with the line it begins on (counted from 1).
/// Holds one statement and one chunk in memory.
pub struct Statements<R> {
    reader: R,
    splitter: Option<Splitter>,
    /// Bytes from `held_from` on that are not handed out yet.
    held: Vec<u8>,
    held_from: u64,
    ready: std::collections::VecDeque<Piece>,
    chunk: Vec<u8>,
}

impl<R: Read> Statements<R> {
    /// Reads statements, and commands of ours between them, from `reader`.
    pub fn new(reader: R, dialect: &'static Dialect) -> Self {
        Statements {
            reader,
            splitter: Some(Splitter::new(dialect, true)),
            held: Vec::new(),
            held_from: 0,
            ready: std::collections::VecDeque::new(),
            chunk: vec![0; 128 * 1024],
        }
    }

    fn fill(&mut self) -> io::Result<()> {
        let Some(splitter) = &mut self.splitter else {
            return Ok(());
        };
        let count = match self.reader.read(&mut self.chunk) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => return Ok(()),
            other => other?,
        };
        let ready = &mut self.ready;
        if count == 0 {
            if let Some(splitter) = self.splitter.take() {
                splitter.finish(&mut |piece| ready.push_back(piece));
            }
            return Ok(());
        }
        // What stands before the open piece is not needed any more.
        if self.ready.is_empty() {
            let needed = splitter.start.map_or(splitter.offset, |(start, _)| start);
            let drop = ((needed - self.held_from) as usize).min(self.held.len());
            self.held.drain(..drop);
            self.held_from += drop as u64;
        }
        self.held.extend_from_slice(&self.chunk[..count]);
        let ready = &mut self.ready;
        splitter.feed(&self.chunk[..count], &mut |piece| ready.push_back(piece));
        Ok(())
    }
}

impl<R: Read> Iterator for Statements<R> {
    type Item = io::Result<(Piece, Vec<u8>)>;

    fn next(&mut self) -> Option<Self::Item> {
        loop {
            if let Some(piece) = self.ready.pop_front() {
                if !piece.has_code {
                    continue;
                }
                let from = (piece.start - self.held_from) as usize;
                let to = (piece.end - self.held_from) as usize;
                return Some(Ok((piece, self.held[from..to].to_vec())));
            }
            self.splitter.as_ref()?;
            if let Err(error) = self.fill() {
                self.splitter = None;
                return Some(Err(error));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;
    use proptest::prelude::*;

    fn texts(text: &str) -> Vec<(&str, bool, bool)> {
        pieces(text, &SQLITE)
            .iter()
            .map(|p| (&text[p.start as usize..p.end as usize], p.ended, p.has_code))
            .collect()
    }

    #[test]
    fn statements_end_at_their_semicolon_only() {
        assert_eq!(
            texts(" select ';', \"a;b\", [c;d] -- ;\n/* ; */; select 2"),
            [
                ("select ';', \"a;b\", [c;d] -- ;\n/* ; */;", true, true),
                ("select 2", false, true)
            ]
        );
        assert_eq!(
            texts("-- only a comment\n"),
            [("-- only a comment\n", false, false)]
        );
        assert_eq!(texts(" \n "), []);
        assert_eq!(texts("select 'open ; "), [("select 'open ; ", false, true)]);
    }

    #[test]
    fn a_trigger_is_one_piece() {
        let trigger = "create temp trigger t after insert on visits begin
            update berths set n = case when 1 then 2 end; select 1; end;";
        let both = format!("{trigger} select 3;");
        assert_eq!(
            texts(&both),
            [(trigger, true, true), ("select 3;", true, true)]
        );
        assert_eq!(texts("create table a(b); end;").len(), 2);
    }

    #[test]
    fn commands_take_their_line_and_comments_are_none() {
        assert_eq!(
            texts("/tables v*\nselect 1 /2; /about x"),
            [
                ("/tables v*", true, true),
                ("select 1 /2;", true, true),
                ("/about x", true, true)
            ]
        );
        assert_eq!(
            texts("/* c */ select 1;"),
            [("/* c */ select 1;", true, true)]
        );
        let lines: Vec<_> = pieces("select 1;\n\n'a\nb';x", &SQLITE)
            .iter()
            .map(|p| p.line)
            .collect();
        assert_eq!(lines, [1, 3, 4]);
    }

    #[test]
    fn a_reader_gives_the_same_statements() {
        let text = "select 1;\n".repeat(40_000) + "select 'last";
        let all: Vec<_> = Statements::new(text.as_bytes(), &SQLITE)
            .map(|s| s.expect("reads"))
            .collect();
        assert_eq!(all.len(), 40_001);
        assert_eq!(all[39_999].1, b"select 1;");
        assert_eq!((all[40_000].0.line, all[40_000].0.ended), (40_001, false));
    }

    proptest! {
        #[test]
        fn chunks_make_no_difference(
            parts in proptest::collection::vec(
                "[a-c;'\"\n/*-]{0,6}|create trigger |; end;|/tables|\\PC{0,3}", 0..12)
        ) {
            let text = parts.concat();
            let whole = pieces(&text, &SQLITE);
            let mut chunked = Vec::new();
            let mut splitter = Splitter::new(&SQLITE, true);
            for part in text.as_bytes().chunks(1) {
                splitter.feed(part, &mut |piece| chunked.push(piece));
            }
            splitter.finish(&mut |piece| chunked.push(piece));
            prop_assert_eq!(whole, chunked);
        }
    }
}
