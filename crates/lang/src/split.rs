//! Cutting what was typed, or a file of any size, into statements and commands. Works on chunks of
//! bytes in memory that does not depend on the file; the body of a routine or trigger stays in one piece. The lines
//! of backup files that are no SQL (how statements end, inline data) are read for what they say.

use std::io::{self, Read};

use crate::dialect::{Bodies, Dialect};

/// What a piece is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PieceKind {
    /// A statement for the server.
    Statement,
    /// A command of ours: `/` and a letter, up to the end of the line; or a script line: `=`, up to the end of the line
    /// in which all its brackets are closed.
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
    /// Until this byte; whether a backslash escapes.
    Quote(u8, bool),
    /// After `--` where a blank has to follow.
    Dashes,
    /// `$` and perhaps a tag, which is being collected.
    DollarTag,
    /// Until the tag; so many of its bytes were just seen.
    Dollar(usize),
    LineComment,
    /// How many are open, and how many bytes of this one were seen (up to two).
    BlockComment(u16, u8),
    /// A command line of ours.
    Command,
    /// A script line: how many brackets are open, and the quote or comment (`-`) it is in; 0 for none.
    Script(u16, u8),
    /// A line of a backup file for another program.
    BackslashLine,
    /// The rest of a line that says how statements end from here on.
    DelimiterLine,
    /// Data that follows a statement, up to a line `\.`; so many of its bytes were seen at a line's start.
    Data(u8),
}

/// How the first words of a statement decide where it may end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Body {
    /// Still reading first words; true after `create`.
    Head(bool),
    /// One first word that begins nothing: perhaps the label of a compound statement.
    Label,
    /// Ends at the next semicolon.
    Plain,
    /// A trigger: ends at a semicolon after `; end`.
    Trigger(Tail),
    /// A routine: ends at a semicolon outside its blocks.
    Routine(Blocks),
    /// A routine, package or block of its own: ends at a semicolon outside its blocks.
    Unit(Unit),
    /// `copy …`: after `from stdin` data follow the semicolon.
    Copy(Stdin),
    /// A rule, whose statements stand in brackets with semicolons between them; how many are open.
    Rule(u16),
    /// A batch: ends at a line `go`.
    Batch(Batch),
}

/// What begins a routine, a trigger or a package after `create`.
const MODULES: [&[u8]; 5] = [b"function", b"procedure", b"trigger", b"event", b"package"];
/// What begins a block where blocks stand outside of routines.
const BLOCKS: [&[u8]; 6] = [b"if", b"case", b"while", b"loop", b"repeat", b"for"];

impl Body {
    /// What the body of a statement is after a word.
    fn after(self, bodies: Bodies, word: &[u8]) -> Body {
        if bodies == Bodies::Batch {
            let mut batch = match self {
                Body::Batch(batch) => batch,
                _ => Batch::default(),
            };
            batch.word(word);
            return Body::Batch(batch);
        }
        match self {
            Body::Head(false) => Body::begun(bodies, word),
            Body::Head(true) => Body::created(bodies, word),
            Body::Label | Body::Plain => Body::Plain,
            Body::Trigger(Tail::Semicolon) if word == b"end" => Body::Trigger(Tail::End),
            Body::Trigger(_) => Body::Trigger(Tail::Other),
            Body::Routine(blocks) => blocks.after(bodies, word),
            Body::Unit(mut unit) => {
                unit.word(word);
                Body::Unit(unit)
            }
            Body::Copy(from) => Body::Copy(match (from, word) {
                (_, b"from") => Stdin::From,
                (Stdin::From, b"stdin") => Stdin::Yes,
                (Stdin::From, _) => Stdin::No,
                (other, _) => other,
            }),
            Body::Rule(_) | Body::Batch(_) => self,
        }
    }

    /// After the first word of a statement.
    fn begun(bodies: Bodies, word: &[u8]) -> Body {
        let opens = BLOCKS.contains(&word);
        match (bodies, word) {
            (_, b"explain" | b"query" | b"plan" | b"analyze") => Body::Head(false),
            (_, b"create") => Body::Head(true),
            // From which version on the rest of a comment is run.
            (Bodies::Routines, number) if number.first().is_some_and(u8::is_ascii_digit) => {
                Body::Head(false)
            }
            (Bodies::Packages, b"begin" | b"declare") => Body::Unit(Unit::begun(word)),
            (Bodies::Packages, _) if opens => Body::Unit(Unit::begun(word)),
            (Bodies::Routines, b"begin") => Body::Routine(Blocks {
                begun: true,
                ..Blocks::default()
            }),
            (Bodies::Routines, _) if opens => {
                let mut blocks = Blocks::default();
                blocks.open(false);
                blocks.at_start = matches!(word, b"loop" | b"repeat");
                Body::Routine(blocks)
            }
            (Bodies::Routines, _) => Body::Label,
            (Bodies::Atomic, b"copy") => Body::Copy(Stdin::No),
            _ => Body::Plain,
        }
    }

    /// After a word that follows `create`.
    fn created(bodies: Bodies, word: &[u8]) -> Body {
        let is_module = MODULES.contains(&word);
        match (bodies, word) {
            (Bodies::Packages, _) if is_module => Body::Unit(Unit::begun(word)),
            (Bodies::Routines, _) if is_module => Body::Routine(Blocks::default()),
            (
                Bodies::Routines | Bodies::Packages,
                b"table" | b"view" | b"index" | b"user" | b"role" | b"database" | b"schema"
                | b"sequence" | b"server" | b"temporary" | b"unique" | b"fulltext" | b"spatial",
            ) => Body::Plain,
            (Bodies::Routines | Bodies::Packages, _) => Body::Head(true),
            (Bodies::Triggers, b"temp" | b"temporary") => Body::Head(true),
            (Bodies::Triggers, b"trigger") => Body::Trigger(Tail::Other),
            (Bodies::Atomic, b"or" | b"replace") => Body::Head(true),
            (Bodies::Atomic, b"function" | b"procedure") => Body::Routine(Blocks::default()),
            (Bodies::Atomic, b"rule") => Body::Rule(0),
            _ => Body::Plain,
        }
    }
}

impl Blocks {
    /// What a routine with these blocks is after a word.
    fn after(mut self, bodies: Bodies, word: &[u8]) -> Body {
        if bodies == Bodies::Atomic {
            self.atomic_word(word);
            return Body::Routine(self);
        }
        if self.begun {
            // A block without a routine: `begin not atomic`.
            return match word {
                b"not" => {
                    let mut blocks = Blocks::default();
                    blocks.open(false);
                    Body::Routine(blocks)
                }
                _ => Body::Plain,
            };
        }
        // In a block `not atomic` is followed by a statement.
        let atomic = word == b"atomic" && self.depth == 1;
        self.word(word);
        self.at_start |= atomic;
        Body::Routine(self)
    }
}

/// What a batch has come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
struct Batch {
    /// Blocks that are open.
    depth: u16,
    /// The last word was `begin`, which opens a block unless it begins a transaction.
    begun: bool,
    /// Where the semicolon ended that is the last byte of code.
    closed: Option<u64>,
}

impl Batch {
    fn word(&mut self, word: &[u8]) {
        self.closed = None;
        let begun = std::mem::take(&mut self.begun);
        match word {
            b"tran" | b"transaction" | b"distributed" if begun => return,
            _ => self.depth = self.depth.saturating_add(u16::from(begun)),
        }
        match word {
            b"begin" => self.begun = true,
            b"case" => self.depth = self.depth.saturating_add(1),
            b"end" => self.depth = self.depth.saturating_sub(1),
            _ => {}
        }
    }

    /// Where it may end: behind a semicolon outside of blocks.
    fn may_end(&self) -> Option<u64> {
        self.closed.filter(|_| self.depth == 0)
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Tail {
    Other,
    Semicolon,
    End,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stdin {
    No,
    From,
    Yes,
}

/// The blocks that are open in a routine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
struct Blocks {
    depth: u16,
    /// One bit for each open block, the innermost last: set for a `case` that is an expression.
    expressions: u64,
    /// A statement may begin here.
    at_start: bool,
    /// The last word was `end`.
    ended: bool,
    /// The last word was `begin` (where only `begin atomic` opens).
    begun: bool,
}

/// The blocks that are open in a unit with declarations.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
struct Unit {
    depth: u16,
    /// One bit for each open block, the innermost last: set while its declarations are read.
    declaring: u64,
    brackets: u16,
    /// A head of a routine or package was read, and not yet its `as` or `is`.
    head: bool,
    at_start: bool,
    ended: bool,
}

impl Unit {
    /// Begun by its first word.
    fn begun(word: &[u8]) -> Self {
        let mut unit = Unit::default();
        match word {
            b"if" => unit.open(false),
            word => unit.word(word),
        }
        unit
    }

    fn open(&mut self, declaring: bool) {
        self.depth = self.depth.saturating_add(1);
        self.declaring = self.declaring << 1 | u64::from(declaring);
    }

    fn word(&mut self, word: &[u8]) {
        let after_end = std::mem::take(&mut self.ended);
        let at_start = std::mem::take(&mut self.at_start) || self.depth == 0;
        match word {
            b"end" => {
                self.depth = self.depth.saturating_sub(1);
                self.declaring >>= 1;
                self.ended = true;
            }
            // `end if` and the like were counted with their `end`.
            b"if" | b"case" | b"loop" | b"while" | b"for" | b"repeat" if after_end => {}
            b"procedure" | b"function" | b"package" => self.head = true,
            b"as" | b"is" if self.head && self.brackets == 0 => {
                self.head = false;
                self.open(true);
                self.at_start = true;
            }
            b"declare" if at_start => {
                self.open(true);
                self.at_start = true;
            }
            b"begin" => {
                match self.depth > 0 && self.declaring & 1 == 1 {
                    true => self.declaring &= !1,
                    false => self.open(false),
                }
                self.at_start = true;
            }
            b"if" if at_start && self.depth > 0 => self.open(false),
            b"case" => self.open(false),
            b"loop" => {
                self.open(false);
                self.at_start = true;
            }
            b"then" | b"else" => self.at_start = true,
            _ => {}
        }
    }

    fn sign(&mut self, byte: u8) {
        self.ended = false;
        match byte {
            b'(' => self.brackets = self.brackets.saturating_add(1),
            b')' => self.brackets = self.brackets.saturating_sub(1),
            _ => {}
        }
        // The end of a label.
        self.at_start = byte == b'>';
    }
}

impl Blocks {
    fn open(&mut self, expression: bool) {
        self.depth = self.depth.saturating_add(1);
        self.expressions = self.expressions << 1 | u64::from(expression);
    }

    /// Reads a word of a routine in which compound statements may stand.
    fn word(&mut self, word: &[u8]) {
        let after_end = std::mem::take(&mut self.ended);
        let at_start = std::mem::take(&mut self.at_start);
        let in_expression = self.depth > 0 && self.expressions & 1 == 1;
        match word {
            b"end" => {
                self.depth = self.depth.saturating_sub(1);
                self.expressions >>= 1;
                self.ended = true;
                return;
            }
            // `end if` and the like were counted with their `end`.
            b"if" | b"case" | b"loop" | b"while" | b"repeat" | b"for" if after_end => {}
            b"begin" if at_start || self.depth == 0 => {
                self.open(false);
                self.at_start = true;
                return;
            }
            b"case" => self.open(!at_start || in_expression),
            b"if" | b"while" if at_start && !in_expression => self.open(false),
            b"for" if at_start && self.depth > 0 => self.open(false),
            b"loop" | b"repeat" if at_start && !in_expression => {
                self.open(false);
                self.at_start = true;
                return;
            }
            _ => {}
        }
        self.at_start = match word {
            b"then" | b"else" | b"do" => true,
            b"function" | b"procedure" | b"trigger" | b"event" | b"return" | b"if" | b"not"
            | b"exists" | b"select" | b"and" | b"or" | b"set" | b"when" | b"by" | b"definer" => {
                false
            }
            // Between the head of a routine and its one statement there is no sign.
            _ => self.depth == 0,
        };
    }

    /// Reads a word of a routine that only `begin atomic` makes hold others.
    fn atomic_word(&mut self, word: &[u8]) {
        let begun = std::mem::replace(&mut self.begun, word == b"begin");
        match word {
            b"atomic" if begun => self.depth = 1,
            b"case" if self.depth > 0 => self.depth = self.depth.saturating_add(1),
            b"end" => self.depth = self.depth.saturating_sub(1),
            _ => {}
        }
    }

    /// Reads a byte of code that is no word.
    fn sign(&mut self, byte: u8) {
        self.ended = false;
        self.begun = false;
        // A label, or the end of the arguments in the head.
        self.at_start = match byte {
            b':' => true,
            b')' | b'`' | b'\'' | b'"' => self.depth == 0,
            _ => false,
        };
    }
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
    word: [u8; 12],
    word_length: usize,
    /// The last byte of a text was a backslash that escapes.
    escaped: bool,
    /// What ends a statement instead of a semicolon, and how much of it was just seen.
    delimiter: Vec<u8>,
    delimiter_seen: usize,
    /// The tag of the text in dollar quotes, or the line being collected.
    tag: Vec<u8>,
    /// Whether nothing but blanks stood in the line so far.
    blank_line: bool,
    /// Where the sign or word that is read began, if it is the first of its line.
    first_word: Option<u64>,
}

/// Classes of bytes within code; 0 can be skipped.
const fn classes() -> [u8; 256] {
    let mut table = [0; 256];
    let mut at = 0;
    while at < 256 {
        table[at] = match at as u8 {
            b'\'' | b'"' | b'`' | b'[' | b'$' | b'#' => 1,
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
            word: [0; 12],
            word_length: 0,
            escaped: false,
            delimiter: Vec::new(),
            delimiter_seen: 0,
            tag: Vec::new(),
            blank_line: true,
            first_word: None,
        }
    }

    fn is_batch(&self) -> bool {
        self.dialect.bodies == Bodies::Batch
    }

    /// Ends a batch before the line that begins here, where it may end.
    fn end_batch_before(&mut self, emit: &mut dyn FnMut(Piece)) -> bool {
        let Body::Batch(batch) = self.body else {
            return false;
        };
        let Some(end) = batch.may_end() else {
            return false;
        };
        self.end(end, PieceKind::Statement, true, emit);
        true
    }

    /// Whether the word that was read last is a `go` that begins its line.
    fn first_word_is_go(&self) -> bool {
        self.is_batch()
            && self.state == State::Code
            && self.word_length == 2
            && &self.word[..2] == b"go"
            && self.first_word.is_some()
    }

    /// Ends the batch before a line that holds `go` alone.
    fn ends_at_go(&mut self, chunk: &[u8], at: usize, emit: &mut dyn FnMut(Piece)) -> bool {
        // Looked at first: a line may be as long as a file.
        if !self.first_word_is_go() {
            return false;
        }
        let rest = &chunk[at..];
        let line = rest.split(|byte| *byte == b'\n').next().unwrap_or(rest);
        let is = line.trim_ascii().is_empty();
        if is {
            self.end_at_go(emit);
        }
        is
    }

    fn end_at_go(&mut self, emit: &mut dyn FnMut(Piece)) {
        let end = self.first_word.unwrap_or(self.offset);
        match self.start {
            Some((start, _)) if start < end => {
                self.end(end, PieceKind::Statement, true, emit);
            }
            // Two in a row.
            _ => self.forget(),
        }
    }

    /// Reads the next chunk and hands every piece that ends in it to `emit`.
    pub fn feed(&mut self, chunk: &[u8], emit: &mut dyn FnMut(Piece)) {
        let mut at = 0;
        while at < chunk.len() {
            at = match self.state {
                State::Code => self.code(chunk, at, emit),
                State::Quote(close, escapes) => self.quote(chunk, at, close, escapes),
                State::Dashes => {
                    if crate::token::opens_comment(Some(&chunk[at])) {
                        self.state = State::LineComment;
                    } else {
                        self.code_seen(b'-');
                        self.state = State::Code;
                        self.previous = b'-';
                    }
                    at
                }
                State::DollarTag => self.dollar_tag(chunk[at], at),
                State::Dollar(_) => self.dollar(chunk, at),
                State::LineComment
                | State::Command
                | State::BackslashLine
                | State::DelimiterLine => self.line_end(chunk, at, emit),
                State::BlockComment(..) => self.block_comment(chunk, at),
                State::Script(..) => self.script(chunk, at, emit),
                State::Data(_) => self.data(chunk, at, emit),
            };
        }
        self.offset += chunk.len() as u64;
    }

    fn quote(&mut self, chunk: &[u8], at: usize, close: u8, escapes: bool) -> usize {
        if escapes {
            return self.quote_with_escapes(chunk, at, close);
        }
        match memchr::memchr2(close, b'\n', &chunk[at..]) {
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
        }
    }

    fn quote_with_escapes(&mut self, chunk: &[u8], mut at: usize, close: u8) -> usize {
        if std::mem::take(&mut self.escaped) {
            self.line += u64::from(chunk[at] == b'\n');
            at += 1;
        }
        match memchr::memchr3(close, b'\n', b'\\', &chunk[at..]) {
            Some(found) => {
                match chunk[at + found] {
                    b'\n' => self.line += 1,
                    b'\\' => self.escaped = true,
                    _ => {
                        self.state = State::Code;
                        self.previous = 0;
                    }
                }
                at + found + 1
            }
            None => chunk.len(),
        }
    }

    fn dollar_tag(&mut self, byte: u8, at: usize) -> usize {
        let fits = crate::token::is_word_byte(byte) && byte != b'$';
        if fits && !(self.tag.len() == 1 && byte.is_ascii_digit()) {
            self.tag.push(byte);
            return at + 1;
        }
        if byte == b'$' {
            self.tag.push(byte);
            self.state = State::Dollar(0);
            return at + 1;
        }
        // It was a parameter.
        self.state = State::Code;
        self.previous = 0;
        at
    }

    fn dollar(&mut self, chunk: &[u8], at: usize) -> usize {
        let State::Dollar(mut seen) = self.state else {
            return at;
        };
        let mut place = at;
        while place < chunk.len() {
            if seen == 0 {
                match memchr::memchr2(b'$', b'\n', &chunk[place..]) {
                    Some(found) => place += found,
                    None => break,
                }
            }
            let byte = chunk[place];
            self.line += u64::from(byte == b'\n');
            // The tag has the sign only at its ends.
            seen = if byte == self.tag[seen] {
                seen + 1
            } else {
                usize::from(byte == b'$')
            };
            place += 1;
            if seen == self.tag.len() {
                self.state = State::Code;
                self.previous = 0;
                return place;
            }
        }
        self.state = State::Dollar(seen);
        chunk.len()
    }

    /// Reads a script line from `at`.
    fn script(&mut self, chunk: &[u8], mut at: usize, emit: &mut dyn FnMut(Piece)) -> usize {
        let State::Script(mut open, mut inside) = self.state else {
            return at;
        };
        while at < chunk.len() {
            let byte = chunk[at];
            match (inside, byte) {
                (0 | b'-', b'\n') if open == 0 => {
                    self.end(self.offset + at as u64, PieceKind::Command, true, emit);
                    self.state = State::Code;
                    return at;
                }
                (b'-', b'\n') => inside = 0,
                (0, b'{' | b'(' | b'[') => open = open.saturating_add(1),
                (0, b'}' | b')' | b']') => open = open.saturating_sub(1),
                (0, b'\'' | b'"' | b'`') => inside = byte,
                (0, b'-') if self.previous == b'-' => inside = b'-',
                (b'"', b'"') if self.previous == b'\\' => {}
                (quote, byte) if quote == byte => inside = 0,
                _ => {}
            }
            if byte == b'\n' {
                self.line += 1;
            }
            // A backslash before a backslash escapes nothing after it.
            self.previous = if byte == b'\\' && self.previous == b'\\' {
                0
            } else {
                byte
            };
            at += 1;
        }
        self.state = State::Script(open, inside);
        at
    }

    fn line_end(&mut self, chunk: &[u8], at: usize, emit: &mut dyn FnMut(Piece)) -> usize {
        let found = memchr::memchr(b'\n', &chunk[at..]);
        let end = found.map_or(chunk.len(), |found| at + found);
        if matches!(self.state, State::DelimiterLine | State::BackslashLine) {
            self.tag.extend_from_slice(&chunk[at..end]);
        }
        if found.is_some() {
            self.end_line(self.offset + end as u64, emit);
        }
        end
    }

    /// Ends a line that is no SQL.
    fn end_line(&mut self, place: u64, emit: &mut dyn FnMut(Piece)) {
        match self.state {
            State::Command => self.end(place, PieceKind::Command, true, emit),
            State::DelimiterLine => {
                let line = self.tag.trim_ascii();
                let word = line
                    .split(|b| b.is_ascii_whitespace())
                    .next()
                    .unwrap_or(b"");
                self.delimiter = if word == b";" {
                    Vec::new()
                } else {
                    word.to_vec()
                };
                self.forget();
            }
            State::BackslashLine => {
                // These two only tell another program what it may do; anything else has to be refused.
                let harmless = [&b"restrict "[..], b"unrestrict "];
                self.has_code = !harmless.iter().any(|word| self.tag.starts_with(word));
                self.end(place, PieceKind::Statement, true, emit);
            }
            _ => {}
        }
        self.state = State::Code;
        self.previous = 0;
    }

    fn block_comment(&mut self, chunk: &[u8], at: usize) -> usize {
        let State::BlockComment(mut depth, mut seen) = self.state else {
            return at;
        };
        let mut place = at;
        while place < chunk.len() {
            let byte = chunk[place];
            if seen < 2 && self.dialect.executable_comments {
                let opens = byte == b'!' && (seen == 0 || self.previous == b'M');
                if opens {
                    // What stands in it is run.
                    self.state = State::Code;
                    self.has_code = true;
                    self.previous = 0;
                    return place + 1;
                }
                seen = if byte == b'M' && seen == 0 { 1 } else { 2 };
            } else {
                seen = 2;
                if depth == 1 && self.previous != b'*' && self.previous != b'/' {
                    let nested = if self.dialect.nested_comments {
                        b'*'
                    } else {
                        b'/'
                    };
                    match memchr::memchr3(b'/', b'\n', nested, &chunk[place..]) {
                        Some(0) => {}
                        Some(found) => {
                            self.previous = chunk[place + found - 1];
                            place += found;
                            continue;
                        }
                        None => {
                            place = chunk.len();
                            self.previous = chunk[place - 1];
                            continue;
                        }
                    }
                }
            }
            self.line += u64::from(byte == b'\n');
            place += 1;
            if byte == b'/' && self.previous == b'*' {
                depth -= 1;
                self.previous = 0;
                if depth == 0 {
                    self.state = State::Code;
                    return place;
                }
            } else if byte == b'*' && self.previous == b'/' && self.dialect.nested_comments {
                depth += 1;
                self.previous = 0;
            } else {
                self.previous = byte;
            }
        }
        self.state = State::BlockComment(depth, seen);
        place
    }

    /// Data within the statement, up to a line that holds `\.` alone.
    fn data(&mut self, chunk: &[u8], at: usize, emit: &mut dyn FnMut(Piece)) -> usize {
        let State::Data(seen) = self.state else {
            return at;
        };
        let byte = chunk[at];
        match (seen, byte) {
            (0, b'\\') => self.state = State::Data(1),
            (1, b'.') => self.state = State::Data(2),
            (2, b'\r') => {}
            (2, b'\n') => {
                self.end(self.offset + at as u64, PieceKind::Statement, true, emit);
                self.state = State::Code;
                return at;
            }
            _ => {
                // To the next line's start.
                let Some(found) = memchr::memchr(b'\n', &chunk[at..]) else {
                    self.state = State::Data(3);
                    return chunk.len();
                };
                self.line += 1;
                self.state = State::Data(0);
                return at + found + 1;
            }
        }
        at + 1
    }

    /// Ends the input; what is left becomes a last piece that is not ended.
    pub fn finish(mut self, emit: &mut dyn FnMut(Piece)) {
        if self.start.is_none() {
            return;
        }
        if self.first_word_is_go() {
            return self.end_at_go(emit);
        }
        self.flush_word();
        match self.state {
            State::Command | State::DelimiterLine | State::BackslashLine => {
                self.end_line(self.offset, emit);
            }
            State::Data(2) => self.end(self.offset, PieceKind::Statement, true, emit),
            State::Script(open, inside) => {
                let ended = open == 0 && matches!(inside, 0 | b'-');
                self.end(self.offset, PieceKind::Command, ended, emit);
            }
            _ => {
                let closed = match self.body {
                    Body::Batch(batch) => batch.may_end(),
                    _ => None,
                };
                let end = closed.unwrap_or(self.offset);
                self.end(end, PieceKind::Statement, closed.is_some(), emit);
            }
        }
    }

    /// Reads code from `at`; gives the place to go on from, in the state that is then set.
    fn code(&mut self, chunk: &[u8], mut at: usize, emit: &mut dyn FnMut(Piece)) -> usize {
        while at < chunk.len() {
            let skipped = self.skip(&chunk[at..]);
            if skipped > 0 {
                at += skipped;
                continue;
            }
            let byte = chunk[at];
            let place = self.offset + at as u64;
            if byte == b'\n' {
                self.line += 1;
            }
            if self.is_batch() && byte == b'=' && self.commands && self.blank_line {
                self.end_batch_before(emit);
            }
            if !self.delimiter.is_empty() && self.delimited(byte) {
                let end = place + 1 - self.delimiter.len() as u64;
                at += 1;
                self.delimiter_seen = 0;
                self.flush_word();
                self.end(end, PieceKind::Statement, true, emit);
                continue;
            }
            if byte.is_ascii_whitespace() {
                let ended = self.is_batch() && self.ends_at_go(chunk, at, emit);
                self.blank_line |= byte == b'\n';
                if ended {
                    at += 1;
                    continue;
                }
                if self.flush_word() {
                    return at + 1;
                }
                self.previous = 0;
                at += 1;
                continue;
            }
            if std::mem::take(&mut self.blank_line) {
                self.first_word = Some(place);
            } else if self.word_length == 0 && self.previous != b'/' {
                self.first_word = None;
            }
            if self.begins_special(byte, place) {
                return at + 1;
            }
            if crate::token::is_word_byte(byte) {
                let begins_command = self.is_batch()
                    && self.commands
                    && self.previous == b'/'
                    && byte.is_ascii_alphabetic()
                    && self.first_word == place.checked_sub(1);
                if begins_command && self.end_batch_before(emit) {
                    self.start = Some((place - 1, self.line));
                    self.previous = b'/';
                }
                if self.takes_letter(byte) {
                    return at;
                }
                at += 1;
                continue;
            }
            let escape_prefix = self.dialect.dollar_quotes && self.is_escape_prefix();
            if self.flush_word() {
                return at;
            }
            at += 1;
            if self.sign(byte, place, escape_prefix, emit) {
                return at;
            }
        }
        at
    }

    /// How many bytes can be gone past because nothing in them ends a statement whose body has no blocks.
    fn skip(&mut self, rest: &[u8]) -> usize {
        if self.body != Body::Plain || self.start.is_none() || !self.delimiter.is_empty() {
            return 0;
        }
        let skipped = rest
            .iter()
            .position(|byte| CLASS[usize::from(*byte)] != 0)
            .unwrap_or(rest.len());
        if skipped > 0 {
            // A sign within a word, and a prefix before a quote, are looked at together with it.
            self.word_length = 0;
            self.previous = match rest[skipped - 1] {
                b'-' | b'/' => 0,
                other => other,
            };
        }
        skipped
    }

    /// Reads a sign: no letter, no space. True if it turned what follows into something else than code.
    fn sign(
        &mut self,
        byte: u8,
        place: u64,
        escape_prefix: bool,
        emit: &mut dyn FnMut(Piece),
    ) -> bool {
        match byte {
            b'-' if self.previous == b'-' => {
                self.state = if self.dialect.spaced_dashes {
                    State::Dashes
                } else {
                    State::LineComment
                };
                self.previous = 0;
                return true;
            }
            b'*' if self.previous == b'/' => {
                self.state = State::BlockComment(1, 0);
                self.previous = 0;
                return true;
            }
            // Whether these are code is known at the next byte.
            b'-' | b'/' => {
                self.settle_slash();
                self.previous = byte;
                return false;
            }
            _ => self.settle_slash(),
        }
        self.previous = byte;
        let dialect = self.dialect;
        let quote = match byte {
            b';' if self.delimiter.is_empty() => {
                if self.is_batch() {
                    let mut batch = match self.body {
                        Body::Batch(batch) => batch,
                        _ => Batch::default(),
                    };
                    batch.depth = batch
                        .depth
                        .saturating_add(u16::from(std::mem::take(&mut batch.begun)));
                    batch.closed = Some(place + 1);
                    self.body = Body::Batch(batch);
                    return false;
                }
                if self.semicolon() {
                    return false;
                }
                if self.body == Body::Copy(Stdin::Yes) {
                    self.state = State::Data(3);
                    return true;
                }
                self.end(place + 1, PieceKind::Statement, true, emit);
                return false;
            }
            b'#' if dialect.hash_comments => {
                self.state = State::LineComment;
                return true;
            }
            b'\'' => Some((byte, dialect.backslash_escapes || escape_prefix)),
            b'"' => Some((
                byte,
                dialect.double_quoted_text && dialect.backslash_escapes || dialect.json_text,
            )),
            b'`' if dialect.backtick_names => Some((byte, false)),
            b'[' if dialect.bracket_names => Some((b']', false)),
            _ => None,
        };
        self.code_seen(byte);
        if let Some((close, escapes)) = quote {
            self.state = State::Quote(close, escapes);
            return true;
        }
        false
    }

    /// Whether a line of a script, a line of its own or a quote with a tag begins at a byte; the state is that then.
    fn begins_special(&mut self, byte: u8, place: u64) -> bool {
        if self.start.is_none() {
            self.start = Some((place, self.line));
        }
        let is_first = !self.has_code && self.previous == 0 && self.word_length == 0;
        if byte == b'=' && self.commands && is_first {
            // Comments before it are not part of it.
            self.start = Some((place, self.line));
            self.has_code = true;
            self.state = State::Script(0, 0);
            return true;
        }
        if byte == b'\\' && !self.has_code && self.dialect.dollar_quotes && self.dialect.file_lines
        {
            // Comments before it are not part of it.
            self.start = Some((place, self.line));
            self.state = State::BackslashLine;
            self.tag.clear();
            return true;
        }
        if byte == b'$' && self.dialect.dollar_quotes && !crate::token::is_word_byte(self.before())
        {
            self.code_seen(byte);
            self.tag.clear();
            self.tag.push(byte);
            self.state = State::DollarTag;
            return true;
        }
        false
    }

    /// Takes a letter of a word; true if it begins a command, and is then looked at again.
    fn takes_letter(&mut self, byte: u8) -> bool {
        if self.commands && self.previous == b'/' && !self.has_code && byte.is_ascii_alphabetic() {
            self.state = State::Command;
            self.has_code = true;
            self.previous = 0;
            return true;
        }
        self.settle_slash();
        self.has_code = true;
        self.previous = 0;
        if self.word_length < self.word.len() {
            self.word[self.word_length] = byte.to_ascii_lowercase();
        }
        self.word_length += 1;
        false
    }

    /// The byte before this one within the same run of code.
    fn before(&self) -> u8 {
        match self.word_length {
            0 => self.previous,
            _ => b'a',
        }
    }

    /// Whether the word just before a quote is the `e` of a text with escapes.
    fn is_escape_prefix(&self) -> bool {
        match self.word_length {
            // Where words are skipped only the last byte is known; nothing but the prefix can touch a quote.
            0 => matches!(self.previous, b'e' | b'E'),
            length => length == 1 && self.word[0] == b'e',
        }
    }

    /// Whether this byte completes the delimiter.
    fn delimited(&mut self, byte: u8) -> bool {
        if self.start.is_none() && self.delimiter_seen == 0 && byte != self.delimiter[0] {
            return false;
        }
        self.delimiter_seen = if byte == self.delimiter[self.delimiter_seen] {
            self.delimiter_seen + 1
        } else {
            usize::from(byte == self.delimiter[0])
        };
        self.delimiter_seen == self.delimiter.len()
    }

    /// Whether the statement goes on after this semicolon.
    fn semicolon(&mut self) -> bool {
        match &mut self.body {
            Body::Trigger(tail) if *tail != Tail::End => {
                *tail = Tail::Semicolon;
                true
            }
            Body::Rule(open) => *open > 0,
            Body::Unit(unit) if unit.depth > 0 => {
                unit.at_start = true;
                unit.ended = false;
                unit.head = false;
                true
            }
            Body::Routine(blocks) if blocks.depth > 0 => {
                blocks.at_start = true;
                blocks.ended = false;
                true
            }
            _ => false,
        }
    }

    /// A `-` or `/` that turned out to be neither a comment nor a command is code.
    fn settle_slash(&mut self) {
        if matches!(self.previous, b'-' | b'/') {
            self.code_seen(self.previous);
        }
    }

    fn code_seen(&mut self, byte: u8) {
        self.has_code = true;
        match &mut self.body {
            // The maker of a routine stands between `create` and its kind.
            Body::Head(true)
                if matches!(self.dialect.bodies, Bodies::Routines | Bodies::Packages) => {}
            // A label before a block.
            Body::Head(false) if self.dialect.bodies == Bodies::Packages && byte == b'<' => {
                self.body = Body::Unit(Unit::default());
            }
            // `*/` ends what is run within a comment.
            Body::Head(false)
                if self.dialect.executable_comments && matches!(byte, b'*' | b'/') => {}
            Body::Label if byte == b':' => self.body = Body::Head(false),
            Body::Head(_) | Body::Label if self.dialect.bodies == Bodies::Batch => {
                self.body = Body::Batch(Batch::default());
            }
            Body::Batch(batch) => {
                batch.depth = batch
                    .depth
                    .saturating_add(u16::from(std::mem::take(&mut batch.begun)));
                batch.closed = None;
            }
            Body::Head(_) | Body::Label => self.body = Body::Plain,
            Body::Rule(open) => match byte {
                b'(' => *open = open.saturating_add(1),
                b')' => *open = open.saturating_sub(1),
                _ => {}
            },
            Body::Trigger(_) => self.body = Body::Trigger(Tail::Other),
            Body::Routine(blocks) => blocks.sign(byte),
            Body::Unit(unit) => unit.sign(byte),
            Body::Copy(Stdin::From) => self.body = Body::Copy(Stdin::No),
            Body::Plain | Body::Copy(_) => {}
        }
    }

    /// Ends the word being read; true if it turned the rest of the line into something else.
    fn flush_word(&mut self) -> bool {
        if self.word_length == 0 {
            return false;
        }
        let word = self.word;
        let word = word.get(..self.word_length).unwrap_or(b"");
        self.word_length = 0;
        if word == b"delimiter"
            && self.body == Body::Head(false)
            && self.dialect.file_lines
            && self.dialect.hash_comments
        {
            self.state = State::DelimiterLine;
            self.tag.clear();
            return true;
        }
        if !self.delimiter.is_empty() {
            self.body = Body::Plain;
            return false;
        }
        self.body = self.body.after(self.dialect.bodies, word);
        false
    }

    /// Begins anew, as if nothing stood before.
    fn forget(&mut self) {
        self.start = None;
        self.body = Body::Head(false);
        self.has_code = false;
        self.previous = 0;
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
        self.forget();
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
    dialect: &'static Dialect,
    /// Where the last piece that was handed out ended, and the line there.
    done: (u64, u64),
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
            dialect,
            done: (0, 1),
        }
    }

    /// From here on the text is one of another dialect: what was not handed out yet is cut anew. Where the text says itself
    /// what ends its statements, that goes on.
    pub fn speak(&mut self, dialect: &'static Dialect) {
        if std::ptr::eq(self.dialect, dialect) {
            return;
        }
        self.dialect = dialect;
        let (offset, line) = self.done;
        let rest = &self.held[(offset - self.held_from) as usize..];
        let says = |part: &[u8]| part.eq_ignore_ascii_case(b"delimiter");
        let delimited = self
            .splitter
            .as_ref()
            .is_some_and(|s| !s.delimiter.is_empty());
        if delimited || rest.windows(9).any(says) {
            return;
        }
        let mut splitter = Splitter::new(dialect, true);
        (splitter.offset, splitter.line) = (offset, line);
        self.ready.clear();
        let ready = &mut self.ready;
        splitter.feed(rest, &mut |piece| ready.push_back(piece));
        match self.splitter {
            Some(_) => self.splitter = Some(splitter),
            // All of it was read.
            None => splitter.finish(&mut |piece| ready.push_back(piece)),
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
            let done = (self.done.0 - self.held_from) as usize;
            let passed = self.held.get(done..drop).unwrap_or_default();
            if !passed.is_empty() {
                let lines = passed.iter().filter(|byte| **byte == b'\n').count() as u64;
                self.done = (self.held_from + drop as u64, self.done.1 + lines);
            }
            let drop = drop.min((self.done.0 - self.held_from) as usize);
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
                let bytes = self.held[from..to].to_vec();
                let lines = bytes.iter().filter(|byte| **byte == b'\n').count() as u64;
                self.done = (piece.end, piece.line + lines);
                return Some(Ok((piece, bytes)));
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

    /// More blocks in each other than a counter counts are text like any other, and the next statement is found.
    #[test]
    fn blocks_in_blocks_have_no_end_and_break_nothing() {
        use crate::dialect::{MARIADB, POSTGRES, TABULAR};
        for (dialect, begins, word) in [
            (
                &POSTGRES,
                "create function f() returns int begin atomic select ",
                "case ",
            ),
            (MARIADB, "create procedure p() begin ", "begin "),
            (MARIADB, "create procedure p() begin ", "if 1 then "),
            (&TABULAR, "begin ", "begin "),
            (&TABULAR, "select ", "case "),
        ] {
            let deep = format!("{begins}{}", word.repeat(70_000));
            let found = pieces(&deep, dialect);
            assert_eq!(found.len(), 1, "{begins}");
            assert_eq!(found[0].end as usize, deep.len(), "{begins}");
        }
        let rule = format!(
            "create rule r as on insert to t do ({} select 1",
            "(".repeat(70_000)
        );
        assert_eq!(pieces(&rule, &POSTGRES).len(), 1);
        // What is closed again ends where it did.
        let closed = format!(
            "create procedure p() begin {}{}end; select 2;",
            "begin ".repeat(300),
            "end; ".repeat(300)
        );
        assert_eq!(pieces(&closed, MARIADB).len(), 2);
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
    fn a_batch_is_one_piece_up_to_a_line_go() {
        use crate::dialect::TABULAR;
        let cut = |text: &'static str| -> Vec<(&str, bool)> {
            let all = pieces(text, &TABULAR).into_iter();
            all.map(|p| (&text[p.start as usize..p.end as usize], p.ended))
                .collect()
        };
        assert_eq!(
            cut("declare @n int = 1;\nselect @n; select 'a\ngo b'\nGO\n\ngo \nselect [go];"),
            [
                ("declare @n int = 1;\nselect @n; select 'a\ngo b'\n", true),
                ("select [go];", true)
            ]
        );
        // What is open goes on; a transaction is no block.
        assert_eq!(
            cut("if 1 = 1 begin select 1;"),
            [("if 1 = 1 begin select 1;", false)]
        );
        assert_eq!(
            cut("begin tran; select 1; -- so"),
            [("begin tran; select 1;", true)]
        );
        assert_eq!(cut("select 1 as go"), [("select 1 as go", false)]);
        assert_eq!(cut("select 1\ngo"), [("select 1\n", true)]);
        // Commands stand behind what is closed, never within it.
        assert_eq!(
            cut("select 4\n/tables;\n/tables\n= 1\nselect 2;"),
            [
                ("select 4\n/tables;", true),
                ("/tables", true),
                ("= 1", true),
                ("select 2;", true)
            ]
        );
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

    fn cut(text: &str, dialect: &'static Dialect) -> Vec<String> {
        pieces(text, dialect)
            .iter()
            .filter(|p| p.has_code)
            .map(|p| text[p.start as usize..p.end as usize].to_string())
            .collect()
    }

    #[test]
    fn what_follows_is_cut_by_the_dialect_of_then() {
        use crate::dialect::{MARIADB, mariadb};
        let packages = mariadb(false, "ORACLE");
        let text = "set sql_mode = 'ORACLE';\n-- it's\n\nbegin select 1; end;\nselect 2";
        // Also where the text comes in small parts.
        for part in [1, 7, 1_000] {
            let reader = Slow(text.as_bytes(), part);
            let mut statements = Statements::new(reader, MARIADB);
            let mut next = |dialect| {
                statements.speak(dialect);
                let (piece, bytes) = statements.next()?.expect("reads");
                Some((piece.line, String::from_utf8(bytes).expect("text")))
            };
            assert_eq!(
                next(MARIADB).map(|n| n.1),
                Some("set sql_mode = 'ORACLE';".into())
            );
            let (line, block) = next(packages).expect("a block");
            assert!(block.ends_with("begin select 1; end;"), "{part}: {block}");
            assert!(line == 2 || line == 4, "{part}: {line}");
            assert_eq!(next(packages), Some((5, "select 2".into())));
            assert_eq!(next(packages), None);
        }
    }

    /// Gives a few bytes at a time.
    struct Slow<'a>(&'a [u8], usize);

    impl Read for Slow<'_> {
        fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
            let count = self.0.len().min(self.1).min(out.len());
            out[..count].copy_from_slice(&self.0[..count]);
            self.0 = &self.0[count..];
            Ok(count)
        }
    }

    #[test]
    fn units_with_declarations_stay_whole() {
        let dialect = crate::dialect::mariadb(false, "ANSI_QUOTES,ORACLE");
        for unit in [
            "declare x int; begin x := 1; select case x when 1 then 2 end; end;",
            "begin if 1 then select 1; elsif 2 then select 2; end if; select 2; end;",
            "create or replace package p as procedure a; function b(n int) return int; end;",
            "create package body p as x int; procedure a as begin select 1; end; function b return int is y int; begin return 1; end; begin select 1; end;",
            "create procedure q as x int; cursor c is select 1; begin for i in 1..3 loop select i; end loop; end q;",
            "create function f return int as x int; begin return (select 1 as y); end;",
            "create trigger t before insert on u for each row declare x int; begin x := 1; end;",
            "<<lbl>> while 0 loop select 1; exit lbl; end loop;",
            "if 1 then declare x int; begin select 1; end; else select 2; end if;",
            "create table t (a int, b int as (a + 1));",
            "insert into t select 1 as a;",
            "start transaction;",
        ] {
            let text = format!("{unit} select 2;");
            assert_eq!(cut(&text, dialect), [unit, "select 2;"]);
        }
    }

    #[test]
    fn routines_stay_whole_without_a_delimiter() {
        use crate::dialect::MARIADB;
        for routine in [
            "create or replace definer=`a`@`%` procedure p(in x int) begin if x then select 1; elseif x=2 then select if(x,1,2); end if; end;",
            "create procedure if not exists p() if 1 then select 1; end if;",
            "create function f(x int) returns int deterministic return if(x, case when x then 1 else if(x,2,3) end, 2);",
            "create trigger t after insert on v for each row begin declare n int; a: loop set n = case x when 1 then 2 end; leave a; end loop a; while n do set n = 0; end while; repeat set n=1; until n end repeat; case n when 1 then select 1; else if n then select 2; end if; end case; end;",
            "create event e on schedule every 1 day on completion preserve do begin select repeat('x', 2); begin end; end;",
            "begin not atomic for i in 1..3 do select i; end for; end;",
            "create procedure q() select ';', \"\\\";\", `a;b`;",
            "create table t(begin int, `end` int);",
            "begin;",
            "if 1 then select 1; elseif 2 then select 2; else select if(1, 2, 3); end if;",
            "case 1 when 1 then select 1; else begin select 2; end; end case;",
            "while 0 do select 1; end while;",
            "lbl: loop select 1; leave lbl; end loop lbl;",
            "repeat select repeat('x', 2); until 1 end repeat;",
            "for i in 1..3 do select i; end for;",
        ] {
            let text = format!("{routine} select 2; # it's\n-- it's\nselect 3--1;");
            assert_eq!(
                cut(&text, MARIADB),
                [routine, "select 2;", "# it's\n-- it's\nselect 3--1;"],
            );
        }
    }

    #[test]
    fn texts_and_comments_of_the_families_hold_semicolons() {
        use crate::dialect::{MARIADB, POSTGRES};
        for whole in [
            "create function f() returns int language sql begin atomic select case when 1=1 then 1 end; select 2; end;",
            "do $x$ begin perform ';$$'; end $x$;",
            "create or replace rule r as on insert to t do also (insert into a values (1); insert into b values (2); );",
            "create rule r as on delete to t do instead nothing;",
            "select e'\\';', $1, a$b$c, 'x\\';",
            "/* a /* ; */ ; */ select 1;",
            "create procedure p() language plpgsql as $$begin commit; end$$;",
        ] {
            assert_eq!(
                cut(&format!("{whole}\nselect 2;"), &POSTGRES),
                [whole, "select 2;"]
            );
        }
        assert_eq!(
            cut(
                "/*!40101 SET NAMES utf8 */;\n/*M!999999\\- on */;\nselect '\\';';",
                MARIADB
            ),
            [
                "/*!40101 SET NAMES utf8 */;",
                "/*M!999999\\- on */;",
                "select '\\';';"
            ]
        );
    }

    #[test]
    fn lines_of_backup_files_are_read() {
        use crate::dialect::{MARIADB, POSTGRES};
        assert_eq!(
            cut(
                "DELIMITER ;;\n/*!50003 CREATE*/ /*!50003 TRIGGER a BEGIN x; END */;;\nselect 1;;\ndelimiter ;\nselect 2;",
                MARIADB
            ),
            [
                "/*!50003 CREATE*/ /*!50003 TRIGGER a BEGIN x; END */",
                "select 1",
                "select 2;"
            ]
        );
        assert_eq!(
            cut(
                "delimiter $$\ncreate procedure p() begin a; end$$ select 3$$",
                MARIADB
            ),
            ["create procedure p() begin a; end", "select 3"]
        );
        assert_eq!(
            cut(
                "-- a\n\\restrict x'y\nCOPY a (b) FROM stdin;\n1;'\n\\.x\n\\.\nselect 1;\n\\unrestrict z\n\\other x\n",
                &POSTGRES
            ),
            [
                "COPY a (b) FROM stdin;\n1;'\n\\.x\n\\.",
                "select 1;",
                "\\other x"
            ]
        );
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
                "[a-c;'\"\n/*-]{0,6}|create trigger |; end;|/tables|\\PC{0,3}|delimiter ;;\n|[$!#eM\\\\.`]{1,3}|begin |case |copy a from stdin;|create function ", 0..12)
        ) {
            let text = parts.concat();
            for dialect in [&SQLITE, &crate::dialect::POSTGRES, crate::dialect::MARIADB] {
                let whole = pieces(&text, dialect);
                let mut chunked = Vec::new();
                let mut splitter = Splitter::new(dialect, true);
                for part in text.as_bytes().chunks(1) {
                    splitter.feed(part, &mut |piece| chunked.push(piece));
                }
                splitter.finish(&mut |piece| chunked.push(piece));
                prop_assert_eq!(whole, chunked);
            }
        }
    }

    #[test]
    fn script_lines_end_where_their_brackets_are_closed() {
        let texts = |text: &str| -> Vec<(String, PieceKind, bool, u64)> {
            let all = pieces(text, &crate::dialect::POSTGRES);
            let part = |piece: &Piece| text[piece.start as usize..piece.end as usize].to_string();
            all.iter()
                .map(|piece| (part(piece), piece.kind, piece.ended, piece.line))
                .collect()
        };
        let script = |text: &str, ended, line| (text.to_string(), PieceKind::Command, ended, line);
        let statement = |text: &str, line| (text.to_string(), PieceKind::Statement, true, line);
        assert_eq!(
            texts(
                "= a = 1\nselect 2;\n-- note\n= for x in [1,\n 2] {\n print '}' -- }\n}\n/tables\nselect a = 3\n= 4;"
            ),
            [
                script("= a = 1", true, 1),
                statement("select 2;", 2),
                script("= for x in [1,\n 2] {\n print '}' -- }\n}", true, 4),
                script("/tables", true, 8),
                statement("select a = 3\n= 4;", 9),
            ]
        );
        assert_eq!(texts("= if a {\n b"), [script("= if a {\n b", false, 1)]);
        assert_eq!(texts("= 'a"), [script("= 'a", false, 1)]);
    }
}
