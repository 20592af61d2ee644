//! The text being written: editing keys, undo, what was cut, and earlier statements. It knows no screen;
//! what the text means is asked of the language.

use idle_tide_lang::open::{OpenPart, open_parts};
use std::cell::RefCell;
use std::rc::Rc;
use std::sync::Arc;

use idle_tide_core::Catalog;
use idle_tide_lang::remark::Remarks;
use idle_tide_lang::remarks::remarks;
use idle_tide_lang::scope::{Scope, scope};
use idle_tide_lang::split::{PieceKind, pieces};
use idle_tide_lang::{Dialect, Token, complete, elsewhere, tokens};
use unicode_segmentation::UnicodeSegmentation;

/// States kept for undoing.
const UNDO: usize = 300;

/// What an edit was, so that edits of one kind in a row are undone together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Edit {
    Typing,
    Deleting,
    Other,
}

/// What the language says of the text, worked out once per change.
#[derive(Debug, Clone, Default)]
pub struct Analysis {
    /// The tokens.
    pub tokens: Vec<Token>,
    /// What is still open.
    pub open: Vec<OpenPart>,
    /// Whether Enter at the end runs it.
    pub finished: bool,
    /// Byte where each line begins.
    pub lines: Vec<usize>,
}

/// The composer.
#[derive(Debug, Default)]
pub struct Composer {
    text: String,
    cursor: usize,
    undo: Vec<(String, usize)>,
    redo: Vec<(String, usize)>,
    last_edit: Option<Edit>,
    cut: String,
    goal: Option<usize>,
    /// How far back in the earlier statements it stands; 0 is the draft.
    back: usize,
    draft: String,
    /// Texts that were cleared and not run.
    cleared: Vec<String>,
    revision: u64,
    analysis: Analysis,
    analysed: Option<u64>,
    /// The statement at the cursor as it was last read.
    seen: RefCell<Option<(SeenKey, Statement)>>,
    /// What was last found doubtful, for which text and catalog.
    remarked: RefCell<Option<(RemarkedKey, Rc<Remarks>)>>,
}

/// The text's revision, the cursor, and the dialect.
type SeenKey = (u64, usize, usize);

/// The statement at the cursor: where it is, and what it names.
#[derive(Debug, Clone)]
struct Statement {
    span: (usize, usize),
    scope: Rc<Scope>,
}

/// The text's revision, where the statement begins, and the catalog.
type RemarkedKey = (u64, usize, usize);

impl Composer {
    /// The text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The cursor, in bytes.
    pub fn cursor(&self) -> usize {
        self.cursor
    }

    /// A number that changes with the text.
    pub fn revision(&self) -> u64 {
        self.revision
    }

    /// Whether there is nothing but blanks.
    pub fn is_blank(&self) -> bool {
        self.text.trim().is_empty()
    }

    /// Puts the cursor at a byte.
    pub fn set_cursor(&mut self, at: usize) {
        let mut at = at.min(self.text.len());
        while !self.text.is_char_boundary(at) {
            at -= 1;
        }
        self.cursor = at;
        self.goal = None;
        self.last_edit = None;
    }

    fn save(&mut self, edit: Edit) {
        if self.last_edit != Some(edit) || edit == Edit::Other {
            self.undo.push((self.text.clone(), self.cursor));
            if self.undo.len() > UNDO {
                self.undo.remove(0);
            }
        }
        self.redo.clear();
        self.last_edit = Some(edit);
        self.goal = None;
        self.revision += 1;
    }

    /// Replaces everything; can be undone.
    pub fn set(&mut self, text: &str) {
        self.save(Edit::Other);
        self.text = text.to_string();
        self.cursor = self.text.len();
        self.back = 0;
    }

    /// Replaces bytes and puts the cursor behind what came in their place.
    pub fn replace(&mut self, span: std::ops::Range<usize>, by: &str) {
        if span.end > self.text.len()
            || !self.text.is_char_boundary(span.start)
            || !self.text.is_char_boundary(span.end)
        {
            return;
        }
        self.save(Edit::Other);
        self.text.replace_range(span.clone(), by);
        self.cursor = span.start + by.len();
    }

    /// Types text at the cursor. A pasted text keeps its line breaks and never runs.
    pub fn insert(&mut self, text: &str) {
        let single = text.chars().count() == 1 && !text.starts_with(char::is_whitespace);
        self.save(if single { Edit::Typing } else { Edit::Other });
        let text = text.replace("\r\n", "\n").replace('\r', "\n");
        self.text.insert_str(self.cursor, &text);
        self.cursor += text.len();
    }

    /// Begins a new line with the indentation of this one.
    pub fn new_line(&mut self) {
        let start = self.line_start(self.cursor);
        let indent: String = self.text[start..self.cursor]
            .chars()
            .take_while(|c| *c == ' ' || *c == '\t')
            .collect();
        self.insert(&format!("\n{indent}"));
    }

    fn line_start(&self, at: usize) -> usize {
        self.text[..at].rfind('\n').map_or(0, |n| n + 1)
    }

    fn line_end(&self, at: usize) -> usize {
        self.text[at..]
            .find('\n')
            .map_or(self.text.len(), |n| at + n)
    }

    fn before(&self) -> usize {
        let start = self.line_start(self.cursor);
        match self.text[start..self.cursor].graphemes(true).next_back() {
            Some(last) => self.cursor - last.len(),
            None => self.cursor.saturating_sub(1),
        }
    }

    fn after(&self) -> usize {
        self.text[self.cursor..]
            .graphemes(true)
            .next()
            .map_or(self.cursor, |next| self.cursor + next.len())
    }

    fn word_before(&self) -> usize {
        let head = &self.text[..self.cursor];
        let trimmed = head.trim_end_matches(|c: char| !is_word(c));
        trimmed.trim_end_matches(is_word).len()
    }

    fn word_after(&self) -> usize {
        let tail = &self.text[self.cursor..];
        let from = tail.trim_start_matches(|c: char| !is_word(c));
        let rest = from.trim_start_matches(is_word);
        self.text.len() - rest.len()
    }

    fn remove(&mut self, from: usize, to: usize, edit: Edit) {
        if from < to {
            self.save(edit);
            let gone: String = self.text.drain(from..to).collect();
            self.cursor = from;
            if edit == Edit::Other {
                self.cut = gone;
            }
        }
    }

    /// Deletes the character before the cursor.
    pub fn backspace(&mut self) {
        self.remove(self.before(), self.cursor, Edit::Deleting);
    }

    /// Deletes the character under the cursor.
    pub fn delete(&mut self) {
        self.remove(self.cursor, self.after(), Edit::Deleting);
    }

    /// Cuts the word before the cursor.
    pub fn cut_word_before(&mut self) {
        self.remove(self.word_before(), self.cursor, Edit::Other);
    }

    /// Cuts the word after the cursor.
    pub fn cut_word_after(&mut self) {
        self.remove(self.cursor, self.word_after(), Edit::Other);
    }

    /// Cuts to the end of the line, or the line break there.
    pub fn cut_to_end(&mut self) {
        let end = self.line_end(self.cursor);
        let end = if end == self.cursor {
            self.after()
        } else {
            end
        };
        self.remove(self.cursor, end, Edit::Other);
    }

    /// Cuts to the start of the line.
    pub fn cut_to_start(&mut self) {
        self.remove(self.line_start(self.cursor), self.cursor, Edit::Other);
    }

    /// Puts back what was cut last.
    pub fn put_back(&mut self) {
        let cut = self.cut.clone();
        if !cut.is_empty() {
            self.insert(&cut);
        }
    }

    /// Undoes the last edits of one kind.
    pub fn undo(&mut self) {
        if let Some(state) = self.undo.pop() {
            self.redo
                .push((std::mem::take(&mut self.text), self.cursor));
            (self.text, self.cursor) = state;
            self.last_edit = None;
            self.revision += 1;
        }
    }

    /// Does again what was undone.
    pub fn redo(&mut self) {
        if let Some(state) = self.redo.pop() {
            self.undo
                .push((std::mem::take(&mut self.text), self.cursor));
            (self.text, self.cursor) = state;
            self.last_edit = None;
            self.revision += 1;
        }
    }

    /// A character back.
    pub fn left(&mut self) {
        self.set_cursor(self.before());
    }

    /// A character on.
    pub fn right(&mut self) {
        self.set_cursor(self.after());
    }

    /// A word back.
    pub fn word_left(&mut self) {
        self.set_cursor(self.word_before());
    }

    /// A word on.
    pub fn word_right(&mut self) {
        self.set_cursor(self.word_after());
    }

    /// Start of the line.
    pub fn home(&mut self) {
        self.set_cursor(self.line_start(self.cursor));
    }

    /// End of the line.
    pub fn end(&mut self) {
        self.set_cursor(self.line_end(self.cursor));
    }

    /// Start of the text.
    pub fn top(&mut self) {
        self.set_cursor(0);
    }

    /// End of the text.
    pub fn bottom(&mut self) {
        self.set_cursor(self.text.len());
    }

    /// A line up; false in the first line.
    pub fn up(&mut self) -> bool {
        let start = self.line_start(self.cursor);
        if start == 0 {
            return false;
        }
        self.go_to_line(self.line_start(start - 1));
        true
    }

    /// A line down; false in the last line.
    pub fn down(&mut self) -> bool {
        let end = self.line_end(self.cursor);
        if end == self.text.len() {
            return false;
        }
        self.go_to_line(end + 1);
        true
    }

    /// Goes to the line that starts at `start`, to the same column as far as there is one.
    fn go_to_line(&mut self, start: usize) {
        let here = self.line_start(self.cursor);
        let column = self
            .goal
            .unwrap_or_else(|| self.text[here..self.cursor].graphemes(true).count());
        let end = self.line_end(start);
        let at: usize = self.text[start..end]
            .graphemes(true)
            .take(column)
            .map(str::len)
            .sum();
        self.set_cursor(start + at);
        self.goal = Some(column);
    }

    /// Clears the text, which stays to be had back with [`Composer::earlier`].
    pub fn clear(&mut self) {
        if !self.is_blank() {
            self.cleared.push(self.text.clone());
        }
        self.set("");
    }

    /// Takes the text out to be run.
    pub fn take(&mut self) -> String {
        let text = self.text.clone();
        self.set("");
        self.draft.clear();
        text
    }

    /// The earlier statement: first what was cleared, then `history`, oldest first.
    pub fn earlier(&mut self, history: &[&str]) {
        self.go_back(self.back + 1, history);
    }

    /// The later one, and in the end the draft.
    pub fn later(&mut self, history: &[&str]) {
        if self.back > 0 {
            self.go_back(self.back - 1, history);
        }
    }

    fn go_back(&mut self, back: usize, history: &[&str]) {
        let all = self.cleared.len() + history.len();
        if back > all {
            return;
        }
        if self.back == 0 {
            self.draft = self.text.clone();
        }
        let text = match back {
            0 => self.draft.clone(),
            back if back <= self.cleared.len() => self.cleared[self.cleared.len() - back].clone(),
            back => history[all - back].to_string(),
        };
        self.set(&text);
        self.back = back;
    }

    /// What the language says of the text.
    pub fn analysis(&mut self, dialect: &'static Dialect) -> &Analysis {
        if self.analysed != Some(self.revision) {
            let list = tokens(&self.text, dialect);
            let open = open_parts(&self.text, &list);
            let all = pieces(&self.text, dialect);
            let last = all.iter().rfind(|piece| piece.has_code);
            // Behind the last semicolon only comments may follow.
            let finished = elsewhere::bare_word(&self.text).is_some()
                || last.is_some_and(|last| match last.kind {
                    // A block of a script goes on until it is closed.
                    PieceKind::Command => last.ended,
                    PieceKind::Statement => last.ended && open.is_empty(),
                });
            let lines = std::iter::once(0)
                .chain(memchr::memchr_iter(b'\n', self.text.as_bytes()).map(|at| at + 1))
                .collect();
            self.analysis = Analysis {
                tokens: list,
                open,
                finished,
                lines,
            };
            self.analysed = Some(self.revision);
        }
        &self.analysis
    }

    /// What the statement at the cursor names, worked out once for a text and a cursor.
    pub fn scope(&self, dialect: &'static Dialect) -> Rc<Scope> {
        Rc::clone(&self.statement(dialect).scope)
    }

    fn statement(&self, dialect: &'static Dialect) -> Statement {
        let key = (
            self.revision,
            self.cursor,
            dialect as *const Dialect as usize,
        );
        if let Some((known, statement)) = &*self.seen.borrow()
            && *known == key
        {
            return statement.clone();
        }
        let (start, end) = complete::statement_around(&self.text, self.cursor, dialect);
        let part = &self.text[start..end];
        let named = scope(part, &tokens(part, dialect), self.cursor - start, dialect);
        let statement = Statement {
            span: (start, end),
            scope: Rc::new(named),
        };
        *self.seen.borrow_mut() = Some((key, statement.clone()));
        statement
    }

    /// The cursor as a byte of the statement it stands in.
    pub fn place_in_statement(&self, dialect: &'static Dialect) -> usize {
        self.cursor - self.statement(dialect).span.0
    }

    /// What is doubtful in the statement at the cursor; places are bytes of that statement.
    pub fn remarks(&self, dialect: &'static Dialect, catalog: &Arc<Catalog>) -> Rc<Remarks> {
        let (start, end) = self.statement(dialect).span;
        let key = (self.revision, start, Arc::as_ptr(catalog) as usize);
        if let Some((known, remarks)) = &*self.remarked.borrow()
            && *known == key
        {
            return Rc::clone(remarks);
        }
        let remarks = Rc::new(remarks(&self.text[start..end], catalog, dialect));
        *self.remarked.borrow_mut() = Some((key, Rc::clone(&remarks)));
        remarks
    }

    /// Line and byte within it of the cursor, both counted from 0.
    pub fn place(&self) -> (usize, usize) {
        let start = self.line_start(self.cursor);
        let line = memchr::memchr_iter(b'\n', &self.text.as_bytes()[..start]).count();
        (line, self.cursor - start)
    }
}

fn is_word(character: char) -> bool {
    character.is_alphanumeric() || character == '_'
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::SQLITE;

    fn with(text: &str) -> Composer {
        let mut composer = Composer::default();
        composer.insert(text);
        composer
    }

    #[test]
    fn editing_keys_and_undo() {
        let mut c = with("select näme from visits");
        c.cut_word_before();
        assert_eq!(c.text(), "select näme from ");
        c.word_left();
        c.word_left();
        c.cut_word_after();
        assert_eq!(c.text(), "select  from ");
        c.put_back();
        assert_eq!(c.text(), "select näme from ");
        c.undo();
        c.undo();
        assert_eq!(c.text(), "select näme from ");
        c.redo();
        c.redo();
        c.backspace();
        assert_eq!(c.text(), "select näm from ");
        c.home();
        c.cut_to_end();
        assert_eq!(c.text(), "");
    }

    #[test]
    fn lines_and_columns() {
        let mut c = with("select a\n  from b\nx");
        assert!(c.up());
        c.end();
        assert!(c.up() && !c.up());
        assert_eq!(c.place(), (0, 8));
        c.down();
        c.end();
        c.new_line();
        assert_eq!(c.text(), "select a\n  from b\n  \nx");
        c.backspace();
        c.backspace();
        c.backspace();
        assert_eq!(c.text(), "select a\n  from b\nx");
        let mut c = with("🐕e\u{301}");
        c.left();
        assert_eq!(c.cursor(), 4);
        c.left();
        assert_eq!(c.cursor(), 0);
    }

    #[test]
    fn enter_runs_only_what_is_finished() {
        let finished = |text: &str| with(text).analysis(&SQLITE).finished;
        assert!(finished("select 1;") && finished("select 1; -- done\n") && finished("/tables"));
        assert!(finished("help") && finished("quit;"));
        assert!(
            !finished("select 1")
                && !finished("select ';")
                && !finished("-- ;")
                && !finished("select (1;")
        );
        assert!(!finished("/* c") && !finished(""));
    }

    #[test]
    fn earlier_statements_and_the_draft() {
        let history = ["one", "two"];
        let mut c = with("draft");
        c.clear();
        c.insert("new");
        c.earlier(&history);
        assert_eq!(c.text(), "draft");
        c.earlier(&history);
        c.earlier(&history);
        c.earlier(&history);
        assert_eq!(c.text(), "one");
        c.later(&history);
        c.later(&history);
        c.later(&history);
        assert_eq!(c.text(), "new");
    }
}
