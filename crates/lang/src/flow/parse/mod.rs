//! From text to trees, by recursive descent. A mistake in one stage does not hide the others: reading goes on at the next word that can
//! begin one.

mod expr;
mod meaning;
mod script;
mod stage;
mod statement;

pub use script::script;
pub use stage::whole_number;
use std::ops::Range;

use idle_tide_core::document::time::TimeZone;

use super::FlowError;
use super::ast::{Expr, Name, Path, Statement, Step};
use super::functions::{STAGES, STATEMENTS};
use super::token::{Token, TokenKind, tokens, unquoted};

/// What was understood of a text.
#[derive(Debug, Clone, Default)]
pub struct Parsed {
    /// The statement, as far as it was understood.
    pub statement: Option<Statement>,
    /// What is wrong, in the order of the text; nothing runs unless this is empty.
    pub errors: Vec<FlowError>,
}

impl Parsed {
    /// The statement, if nothing is wrong.
    ///
    /// # Errors
    /// What is wrong first.
    pub fn whole(self) -> Result<Statement> {
        match (self.statement, self.errors.into_iter().next()) {
            (_, Some(error)) => Err(error),
            (Some(statement), None) => Ok(statement),
            (None, None) => Err(FlowError::at(
                0..0,
                "A statement was expected, for example  from landings limit 10;",
            )),
        }
    }
}

/// Understands one statement. Days and times without an offset are those of `zone`.
pub fn parse(text: &str, zone: &TimeZone) -> Parsed {
    parse_with(text, zone, &[])
}

/// The same, where functions of scripts may be called.
pub(super) fn parse_with(text: &str, zone: &TimeZone, made: &[&str]) -> Parsed {
    let mut parser = Parser::new(text, zone);
    parser.made = made;
    let statement = parser.statement();
    let mut errors = parser.errors;
    errors.sort_by_key(|error| error.span.start);
    Parsed { statement, errors }
}

/// Understands an expression alone: the condition of a filter, a line of a script.
///
/// # Errors
/// What is wrong, with its place.
pub fn expression(text: &str, zone: &TimeZone) -> Result<Expr> {
    expression_with(text, zone, &[])
}

/// The same, where functions of scripts may be called.
pub(super) fn expression_with(text: &str, zone: &TimeZone, made: &[&str]) -> Result<Expr> {
    let mut parser = Parser::new(text, zone);
    parser.made = made;
    if parser.list.is_empty() {
        return Err(FlowError::at(
            text.len()..text.len(),
            "A condition was expected, for example  amount > 100.",
        ));
    }
    let expr = parser.expression(0)?;
    match parser.peek() {
        None => Ok(expr),
        Some(token) if token.of(text) == ")" => Err(parser.error("This bracket closes nothing.")),
        Some(_) => {
            Err(parser
                .error("The condition ends before this; and, or, or an operator was expected."))
        }
    }
}

/// Whether a command document writes, by its first name: all do that are not known to read.
pub fn is_write_command(name: &str) -> bool {
    const READING: &[&str] = &[
        "aggregate",
        "buildInfo",
        "buildinfo",
        "collStats",
        "collstats",
        "connectionStatus",
        "count",
        "currentOp",
        "dataSize",
        "dbHash",
        "dbStats",
        "dbstats",
        "distinct",
        "explain",
        "features",
        "find",
        "getCmdLineOpts",
        "getLog",
        "getMore",
        "getParameter",
        "hello",
        "hostInfo",
        "isMaster",
        "ismaster",
        "isdbgrid",
        "listCollections",
        "listCommands",
        "listDatabases",
        "listIndexes",
        "ping",
        "replSetGetConfig",
        "replSetGetStatus",
        "rolesInfo",
        "serverStatus",
        "top",
        "usersInfo",
        "validate",
        "whatsmyuri",
    ];
    !READING.contains(&name)
}

/// Whether a text begins like a statement of SQL that is none of the flow language.
pub fn sounds_like_sql(text: &str) -> bool {
    let list: Vec<Token> = tokens(text)
        .into_iter()
        .filter(|t| !matches!(t.kind, TokenKind::Blank | TokenKind::Comment))
        .collect();
    let word = |at: usize| {
        list.get(at)
            .map_or(String::new(), |t: &Token| t.of(text).to_ascii_lowercase())
    };
    match word(0).as_str() {
        "select" | "with" | "show" | "describe" | "desc" | "use" | "explain" | "alter"
        | "truncate" | "begin" | "commit" | "rollback" | "values" => true,
        "insert" => matches!(word(3).as_str(), "(" | "values" | "select"),
        "create" => matches!(word(1).as_str(), "table" | "view" | "database" | "schema"),
        "drop" => matches!(word(1).as_str(), "table" | "view" | "schema"),
        _ => false,
    }
}

/// Brackets and signs within each other past this depth are refused.
const DEPTH: usize = 100;
/// Operators of one statement: a chain of them is as deep as it is long for whoever goes through it.
const OPERATORS: usize = 500;
/// Stages of one flow.
pub(super) const MOST_STAGES: usize = 1_000;

type Result<T> = std::result::Result<T, FlowError>;

pub(super) struct Parser<'a> {
    text: &'a str,
    list: Vec<Token>,
    at: usize,
    depth: usize,
    operators: usize,
    zone: &'a TimeZone,
    errors: Vec<FlowError>,
    /// Whether script lines are read: lines end where they break, numbers with a point are exact, functions may be the
    /// script's own.
    script: bool,
    /// Names of functions of scripts that may be called.
    made: &'a [&'a str],
    /// How many brackets are open within the line of a script.
    inside: usize,
}

impl<'a> Parser<'a> {
    fn new(text: &'a str, zone: &'a TimeZone) -> Self {
        let list = tokens(text)
            .into_iter()
            .filter(|token| !matches!(token.kind, TokenKind::Blank | TokenKind::Comment))
            .collect();
        Parser {
            text,
            list,
            at: 0,
            depth: 0,
            operators: 0,
            zone,
            errors: Vec::new(),
            script: false,
            made: &[],
            inside: 0,
        }
    }

    fn peek(&self) -> Option<&Token> {
        self.list.get(self.at)
    }

    fn ahead(&self, offset: usize) -> Option<&Token> {
        self.list.get(self.at + offset)
    }

    /// The text of the token here; empty at the end.
    fn here(&self) -> &'a str {
        self.ahead_text(0)
    }

    fn ahead_text(&self, offset: usize) -> &'a str {
        self.ahead(offset)
            .map_or("", |token| &self.text[token.span.clone()])
    }

    fn span(&self) -> Range<usize> {
        let end = self.text.trim_end().len();
        self.peek().map_or(end..end, |token| token.span.clone())
    }

    /// Where the token before this one ends.
    fn before(&self) -> usize {
        self.at
            .checked_sub(1)
            .and_then(|at| self.list.get(at))
            .map_or(0, |token| token.span.end)
    }

    fn error(&self, message: impl Into<String>) -> FlowError {
        match self.peek() {
            Some(token) if token.kind == TokenKind::Unclosed => {
                let what = match self.here().as_bytes()[0] {
                    b'/' => "comment",
                    b'`' => "back-tick",
                    _ => "quote",
                };
                FlowError::at(
                    token.span.clone(),
                    format!("The {what} that opens here is never closed."),
                )
            }
            Some(token) if token.kind == TokenKind::Unknown => FlowError::at(
                token.span.clone(),
                format!("The sign {} has no meaning here.", self.here()),
            ),
            _ => FlowError::at(self.span(), message),
        }
    }

    /// What was expected here, and what stands here instead.
    fn expected(&self, what: &str) -> FlowError {
        let place = match self.here() {
            "" => " at the end".to_string(),
            other => {
                let shown: String = other.chars().take(24).collect();
                format!(" before {shown}")
            }
        };
        self.error(format!(
            "{}{} was expected{place}.",
            what[..1].to_uppercase(),
            &what[1..]
        ))
    }

    fn is_word(&self, word: &str) -> bool {
        self.peek().is_some_and(|t| t.kind == TokenKind::Word)
            && self.here().eq_ignore_ascii_case(word)
    }

    fn is_word_at(&self, offset: usize, word: &str) -> bool {
        self.ahead(offset)
            .is_some_and(|t| t.kind == TokenKind::Word)
            && self.ahead_text(offset).eq_ignore_ascii_case(word)
    }

    fn take_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        self.at += usize::from(found);
        found
    }

    fn is_sign(&self, sign: &str) -> bool {
        self.peek().is_some_and(|t| t.kind == TokenKind::Sign) && self.here() == sign
    }

    fn take_sign(&mut self, sign: &str) -> bool {
        let found = self.is_sign(sign);
        self.at += usize::from(found);
        found
    }

    fn want_sign(&mut self, sign: &str, words: &str) -> Result<()> {
        if self.take_sign(sign) {
            Ok(())
        } else {
            Err(self.expected(words))
        }
    }

    fn want_word(&mut self, word: &str, words: &str) -> Result<()> {
        if self.take_word(word) {
            return Ok(());
        }
        let mut error = self.expected(words);
        if self.peek().is_some_and(|t| t.kind == TokenKind::Word)
            && strsim::osa_distance(&self.here().to_ascii_lowercase(), word) <= 2
        {
            error.nearest.push(word.to_string());
        }
        Err(error)
    }

    /// A closing bracket, or an error that points at the one that is open.
    fn close(&mut self, sign: &str, open: Range<usize>, or: &str) -> Result<()> {
        if self.take_sign(sign) {
            return Ok(());
        }
        if self.peek().is_none() || self.is_sign(";") {
            return Err(FlowError::at(
                open,
                format!("The bracket that opens here is never closed; {sign} was expected."),
            ));
        }
        Err(self.expected(&format!("{or}or the closing {sign}")))
    }

    fn deeper(&mut self) -> Result<()> {
        self.depth += 1;
        if self.depth > DEPTH {
            return Err(self.error("This goes too deep; it has more than 100 levels."));
        }
        Ok(())
    }

    /// One more operator of the statement.
    fn operates(&mut self) -> Result<()> {
        self.operators += 1;
        if self.operators > OPERATORS {
            return Err(self.error(
                "All its stages together, this has more than 500 operators. A list does for many values of one path: x in (1, 2, 3).",
            ));
        }
        Ok(())
    }

    /// A name: a word or one in back-ticks.
    fn name(&mut self, what: &str) -> Result<Name> {
        let span = self.span();
        match self.peek().map(|token| token.kind) {
            Some(TokenKind::Word) if !self.here().starts_with('$') => {
                let name = self.here().to_string();
                self.at += 1;
                Ok(Name { name, span })
            }
            Some(TokenKind::Name) => {
                let name = unquoted(self.here()).unwrap_or_default();
                self.at += 1;
                Ok(Name { name, span })
            }
            Some(TokenKind::Word) => Err(self.error(format!(
                "{0} begins with a dollar; as a name it goes in back-ticks: `{0}`.",
                self.here()
            ))),
            Some(TokenKind::Text) => {
                let inner = unquoted(self.here()).unwrap_or_default();
                let mut error = self.error(format!(
                    "A name is not in quotes: `{inner}` in back-ticks, or without."
                ));
                error
                    .nearest
                    .push(idle_tide_core::document::paths::written([inner.as_str()]));
                Err(error)
            }
            _ => Err(self.expected(what)),
        }
    }

    /// The name of a collection: dots belong to it.
    fn collection(&mut self) -> Result<Name> {
        let mut name = self.name("the name of a collection")?;
        while self.is_sign(".") && self.span().start == name.span.end {
            self.at += 1;
            let next = self.name("the rest of the name after the dot")?;
            name.name = format!("{}.{}", name.name, next.name);
            name.span.end = next.span.end;
        }
        Ok(name)
    }

    fn path(&mut self, what: &str) -> Result<Path> {
        let first = self.name(what)?;
        self.path_after(first)
    }

    /// The steps of a path after its first name.
    fn path_after(&mut self, first: Name) -> Result<Path> {
        let mut path = Path {
            steps: vec![Step::Name(first.name)],
            span: first.span,
        };
        loop {
            if self.take_sign(".") {
                let name = self.name("a name after the dot")?;
                path.steps.push(Step::Name(name.name));
            } else if self.script && self.is_sign("[") && !self.is_position() {
                return Ok(path);
            } else if self.is_sign("[") && self.span().start == path.span.end {
                self.at += 1;
                let minus = self.take_sign("-");
                let digits = self
                    .here()
                    .parse::<i64>()
                    .ok()
                    .filter(|_| self.peek().is_some_and(|t| t.kind == TokenKind::Number));
                let Some(index) = digits else {
                    return Err(self.expected("the position of an element, counted from 0,"));
                };
                self.at += 1;
                path.steps
                    .push(Step::Index(if minus { -index } else { index }));
                self.want_sign("]", "the closing ]")?;
            } else {
                return Ok(path);
            }
            path.span.end = self.before();
        }
    }

    /// Whether a whole number in brackets stands here.
    fn is_position(&self) -> bool {
        let minus = usize::from(self.ahead_text(1) == "-");
        let whole = self
            .ahead_text(1 + minus)
            .bytes()
            .all(|b| b.is_ascii_digit());
        whole && self.ahead_text(2 + minus) == "]"
    }

    /// Whether a word that can begin a stage stands here.
    fn at_stage(&self) -> bool {
        self.peek().is_some_and(|t| t.kind == TokenKind::Word)
            && STAGES
                .iter()
                .any(|(word, ..)| self.here().eq_ignore_ascii_case(word))
    }

    /// Goes on to the next word that can begin a stage, outside of brackets.
    fn skip_to_stage(&mut self) {
        let mut depth = 0_i32;
        while let Some(token) = self.peek() {
            if token.kind == TokenKind::Sign {
                match self.here() {
                    "(" | "[" | "{" => depth += 1,
                    ")" | "]" | "}" => depth -= 1,
                    ";" if depth <= 0 => return,
                    _ => {}
                }
            }
            if depth <= 0 && self.at_stage() {
                return;
            }
            self.at += 1;
        }
    }

    /// The words nearest to the one here.
    fn nearest(&self, words: &[(&'static str, &'static str, &'static str)]) -> Vec<String> {
        let names = words.iter().map(|(word, ..)| *word);
        crate::correct::nearest(self.here(), names, 2)
    }

    fn unknown_start(&self) -> FlowError {
        let mut error = self.expected(
            "a word that begins a statement (from, insert, update, delete, create and so on)",
        );
        let word = self.here().to_ascii_lowercase();
        if STAGES.iter().any(|(stage, ..)| *stage == word) {
            let after = self.ahead_text(1);
            let after = if after.is_empty() {
                "collection"
            } else {
                after
            };
            error.message =
                format!("{word} is a stage, and a flow begins with from:  from {after} {word}");
            return error;
        }
        error.nearest = self.nearest(STATEMENTS);
        if let Some(first) = error.nearest.first() {
            error.message = format!(
                "{} begins no statement; the nearest word that does is {first}.",
                self.here()
            );
        }
        error
    }
}

#[cfg(test)]
mod tests;
