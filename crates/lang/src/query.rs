//! A statement as blocks: each select, insert, update or delete with the tables it reads, how they are joined,
//! and the columns it gives. It reads tokens, also of half-typed text, and knows no catalog.

use std::ops::Range;

use crate::dialect::Dialect;
use crate::token::{Token, TokenKind};

/// What stands where a table can.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Of {
    /// A table, view or common table: its name, `schema.name` where it is written so, quotes taken off.
    Table(String),
    /// A query in brackets, by its block.
    Block(usize),
    /// A function that gives rows, or a list of values.
    Other,
}

/// A table of a block.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Joined {
    /// What it is.
    pub of: Of,
    /// Its alias.
    pub alias: Option<String>,
    /// Byte where it begins.
    pub at: usize,
    /// One past the last byte of its name and alias.
    pub end: usize,
    /// Columns it is joined by, where `using` names them.
    pub using: Vec<String>,
    /// Whether it is joined by all columns of one name.
    pub natural: bool,
    /// Whether rows without a match are kept, so that its condition chooses nothing among them.
    pub outer: bool,
    /// The tokens of its `on` condition.
    pub on: Range<usize>,
}

impl Joined {
    /// The word that its columns are qualified with.
    pub fn qualifier(&self) -> Option<&str> {
        match (&self.alias, &self.of) {
            (Some(alias), _) => Some(alias),
            (None, Of::Table(name)) => Some(name.rsplit('.').next().unwrap_or(name)),
            (None, _) => None,
        }
    }
}

/// A part of a statement that has tables of its own.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Block {
    /// Its bytes.
    pub span: Range<usize>,
    /// The block whose tables it sees too: the one around it; of a table in brackets only where that is lateral, else the one
    /// around that.
    pub parent: Option<usize>,
    /// Its tables, in order.
    pub tables: Vec<Joined>,
    /// The tokens of its list of columns.
    pub select: Range<usize>,
    /// The tokens of its `where`.
    pub filter: Range<usize>,
    /// The tokens of its `group by`.
    pub grouped: Range<usize>,
    /// Whether it gives each row once.
    pub distinct: bool,
}

/// A table that a `with` defines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Common {
    /// Its name.
    pub name: String,
    /// The columns that are named for it.
    pub columns: Vec<String>,
    /// The block that gives its rows.
    pub block: Option<usize>,
}

/// A statement as blocks.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Query {
    /// Its blocks; the first one is the statement itself.
    pub blocks: Vec<Block>,
    /// The tables that it defines.
    pub commons: Vec<Common>,
}

/// Words that cannot be an alias.
const NO_ALIAS: &[&str] = &[
    "as",
    "on",
    "using",
    "where",
    "left",
    "right",
    "inner",
    "cross",
    "natural",
    "full",
    "outer",
    "join",
    "group",
    "order",
    "limit",
    "offset",
    "set",
    "values",
    "select",
    "having",
    "union",
    "except",
    "intersect",
    "window",
    "indexed",
    "not",
    "returning",
    "default",
    "from",
    "by",
    "and",
    "or",
    "into",
    "begin",
    "for",
    "when",
    "after",
    "before",
    "is",
    "in",
    "like",
    "between",
    "end",
    "straight_join",
    "tablesample",
    "lateral",
    "fetch",
    "use",
    "ignore",
    "force",
    "partition",
    "with",
    "qualify",
];

/// Where in a block the reader is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Clause {
    Start,
    Select,
    From,
    On,
    Filter,
    Group,
    Rest,
}

struct Reader<'a> {
    text: &'a str,
    list: &'a [Token],
    dialect: &'a Dialect,
    query: Query,
    depth: usize,
    /// Whether the next block gives the rows of an insert.
    begins_source: bool,
}

/// The blocks of a statement; `list` are its tokens that count.
pub fn query(text: &str, list: &[Token], dialect: &Dialect) -> Query {
    let mut reader = Reader {
        text,
        list,
        dialect,
        query: Query::default(),
        depth: 0,
        begins_source: false,
    };
    let mut at = 0;
    while at < list.len() {
        let next = reader.block(at, None);
        at = next.max(at + 1);
    }
    reader.query
}

/// How far a block is read.
struct Progress {
    number: usize,
    /// The token that comes next.
    at: usize,
    clause: Clause,
    /// Where the clause began.
    started: usize,
    expects_table: bool,
    natural: bool,
    outer: bool,
    /// A table was named that rows go into, and not yet where they come from.
    inserts: bool,
    /// Whether it gives the rows of an insert.
    is_source: bool,
    /// Open brackets that only hold tables together.
    grouping: usize,
    /// Other open ones.
    open: usize,
}

/// What became of a token.
enum Step {
    /// Nothing: others look at it.
    Passed,
    /// It was read, and what belongs to it.
    Taken,
    /// The block ends before it.
    Ends,
    /// Another block begins in the place of this one.
    Again,
}

impl Reader<'_> {
    fn word(&self, at: usize) -> String {
        let token = self
            .list
            .get(at)
            .filter(|token| token.kind == TokenKind::Word);
        token
            .map(|token| token.of(self.text).to_ascii_lowercase())
            .unwrap_or_default()
    }

    fn kind(&self, at: usize) -> Option<TokenKind> {
        self.list.get(at).map(|token| token.kind)
    }

    fn byte(&self, at: usize) -> usize {
        self.list
            .get(at)
            .map_or(self.text.len(), |token| token.start)
    }

    /// Whether a query begins at a token.
    fn begins_query(&self, at: usize) -> bool {
        matches!(self.word(at).as_str(), "select" | "with" | "values")
    }

    /// Reads a block from token `at`; answers the token at which it ends: a closing bracket that it did not
    /// open, a semicolon, or the end. Queries that a union puts together are blocks of one parent.
    fn block(&mut self, at: usize, parent: Option<usize>) -> usize {
        let number = self.query.blocks.len();
        self.query.blocks.push(Block {
            span: self.byte(at)..self.text.len(),
            parent,
            ..Block::default()
        });
        // Text nested this deep is no query that anybody wrote.
        self.depth += 1;
        let mut p = Progress {
            number,
            at,
            clause: Clause::Start,
            started: at,
            expects_table: false,
            natural: false,
            outer: false,
            inserts: false,
            is_source: std::mem::take(&mut self.begins_source),
            grouping: 0,
            open: 0,
        };
        while let Some(kind) = self.kind(p.at) {
            match self.bracket(&mut p, kind) {
                Step::Taken => continue,
                Step::Ends => break,
                _ => {}
            }
            if p.open > 0 {
                p.at += 1;
                continue;
            }
            if kind == TokenKind::Comma {
                if matches!(p.clause, Clause::From | Clause::On) {
                    self.end_clause(p.number, p.clause, p.started, p.at);
                    p.clause = Clause::From;
                    p.expects_table = true;
                }
                p.at += 1;
                continue;
            }
            match self.keyword(&mut p) {
                Step::Taken => continue,
                Step::Again => {
                    self.begins_source = p.is_source;
                    return self.block(p.at, parent);
                }
                Step::Ends => break,
                Step::Passed => p.at += 1,
            }
        }
        self.end_clause(p.number, p.clause, p.started, p.at);
        self.query.blocks[p.number].span.end = self.byte(p.at);
        self.depth -= 1;
        p.at
    }

    /// A bracket, or the end of the statement.
    fn bracket(&mut self, p: &mut Progress, kind: TokenKind) -> Step {
        match kind {
            TokenKind::Semicolon if p.open == 0 => return Step::Ends,
            TokenKind::Close => {
                if p.open == 0 && p.grouping == 0 {
                    return Step::Ends;
                }
                if p.open > 0 {
                    p.open -= 1;
                } else {
                    self.end_clause(p.number, p.clause, p.started, p.at);
                    if p.clause == Clause::On {
                        p.clause = Clause::From;
                    }
                    p.grouping -= 1;
                }
                p.at += 1;
                p.expects_table = false;
                return Step::Taken;
            }
            TokenKind::Open if self.begins_query(p.at + 1) && self.depth < 200 => {
                let inner = self.query.blocks.len();
                let beside = p.expects_table && self.word(p.at.wrapping_sub(1)) != "lateral";
                let seen = match beside {
                    true => self.query.blocks[p.number].parent,
                    false => Some(p.number),
                };
                let end = self.block(p.at + 1, seen);
                let start = self.byte(p.at);
                p.at = end + usize::from(self.kind(end) == Some(TokenKind::Close));
                if p.expects_table {
                    let (alias, next) = self.alias(p.at);
                    self.put(
                        p.number,
                        Joined {
                            of: Of::Block(inner),
                            alias,
                            at: start,
                            end: self.ended(next),
                            using: Vec::new(),
                            natural: std::mem::take(&mut p.natural),
                            outer: std::mem::take(&mut p.outer),
                            on: 0..0,
                        },
                    );
                    p.at = next;
                    p.expects_table = false;
                }
                return Step::Taken;
            }
            TokenKind::Open if p.expects_table => {
                p.grouping += 1;
                p.at += 1;
                return Step::Taken;
            }
            TokenKind::Open => {
                p.open += 1;
                p.at += 1;
                p.expects_table = false;
                return Step::Taken;
            }
            _ => {}
        }
        Step::Passed
    }

    /// A word that begins a clause, brings in a table, or names one.
    fn keyword(&mut self, p: &mut Progress) -> Step {
        let word = self.word(p.at);
        let joins = matches!(self.word(p.at + 1).as_str(), "join" | "outer");
        p.outer |= joins && matches!(word.as_str(), "left" | "right" | "full");
        match word.as_str() {
            "with"
                if p.clause == Clause::Start
                    && self.kind(p.at + 1).is_some()
                    && self.word(p.at + 1) != "ordinality" =>
            {
                p.at = self.commons(p.at + 1);
                return Step::Taken;
            }
            // What an insert takes its rows from is a query of its own: it does not see the table that they go into.
            "select" | "with" if std::mem::take(&mut p.inserts) => {
                self.begins_source = true;
                p.at = self.block(p.at, None);
                return Step::Taken;
            }
            "returning" if p.is_source => return Step::Ends,
            "on" if p.is_source && self.is_of_insert(p.at) => return Step::Ends,
            "select" => {
                self.turns(p, Clause::Select);
                if self.word(p.at + 1) == "distinct" {
                    self.query.blocks[p.number].distinct = true;
                    p.started = p.at + 2;
                }
                p.expects_table = false;
            }
            "from" | "into" | "table" if !(word == "from" && self.compares(p.at)) => {
                p.inserts |= word == "into" && p.clause == Clause::Start;
                let next = if word == "from" {
                    Clause::From
                } else {
                    Clause::Rest
                };
                self.turns(p, next);
                p.expects_table = true;
            }
            "join" | "straight_join" => {
                self.turns(p, Clause::From);
                p.expects_table = true;
            }
            "natural" => p.natural = true,
            "lateral" | "only" if p.expects_table => {}
            "update"
                if !matches!(self.word(p.at + 1).as_str(), "of" | "on" | "set")
                    && p.clause == Clause::Start =>
            {
                if self.word(p.at + 1) == "or" {
                    p.at += 2;
                }
                self.turns(p, Clause::From);
                p.expects_table = true;
            }
            "on" if matches!(p.clause, Clause::From) => self.turns(p, Clause::On),
            "using" if p.clause == Clause::From && self.kind(p.at + 1) == Some(TokenKind::Open) => {
                self.using(p);
            }
            "where" => self.turns(p, Clause::Filter),
            "group" if self.word(p.at + 1) == "by" => {
                self.turns(p, Clause::Group);
                p.started = p.at + 2;
                p.at += 1;
            }
            "having" | "order" | "limit" | "offset" | "window" | "set" | "values" | "returning"
            | "fetch" => {
                self.turns(p, Clause::Rest);
                p.expects_table = false;
            }
            "left" | "right" | "inner" | "cross" | "full" if matches!(p.clause, Clause::On) => {
                self.turns(p, Clause::From);
            }
            "union" | "except" | "intersect" => {
                self.end_clause(p.number, p.clause, p.started, p.at);
                self.query.blocks[p.number].span.end = self.byte(p.at);
                p.at += 1;
                if matches!(self.word(p.at).as_str(), "all" | "distinct") {
                    p.at += 1;
                }
                self.depth -= 1;
                return Step::Again;
            }
            _ if p.expects_table => {
                if let Some((mut table, next)) = self.table(p.at) {
                    table.natural = std::mem::take(&mut p.natural);
                    table.outer = std::mem::take(&mut p.outer);
                    self.put(p.number, table);
                    p.at = next;
                    p.expects_table = false;
                    return Step::Taken;
                }
                p.expects_table = false;
            }
            _ => {}
        }
        Step::Passed
    }

    /// Whether this `on` begins what an insert does where a row is there already.
    fn is_of_insert(&self, at: usize) -> bool {
        matches!(self.word(at + 1).as_str(), "conflict" | "duplicate")
    }

    /// Whether this `from` ends `is distinct from`; behind `select distinct` a statement lacks its columns.
    fn compares(&self, at: usize) -> bool {
        let before = |steps: usize| {
            at.checked_sub(steps)
                .map_or(String::new(), |at| self.word(at))
        };
        before(1) == "distinct" && matches!(before(2).as_str(), "is" | "not")
    }

    /// Another clause begins at the token that comes next.
    fn turns(&mut self, p: &mut Progress, next: Clause) {
        self.turn(p.number, (&mut p.clause, &mut p.started), p.at, next);
    }

    /// The columns that a join has in common, in brackets behind `using`.
    fn using(&mut self, p: &mut Progress) {
        let mut names = Vec::new();
        p.at += 2;
        while let Some(token) = self.list.get(p.at).filter(|t| t.kind != TokenKind::Close) {
            names.extend(token.name(self.text));
            p.at += 1;
        }
        if let Some(last) = self.query.blocks[p.number].tables.last_mut() {
            last.using = names;
        }
    }

    /// Ends a clause at token `at`, whose word begins the next one.
    fn turn(
        &mut self,
        number: usize,
        (clause, started): (&mut Clause, &mut usize),
        at: usize,
        next: Clause,
    ) {
        self.end_clause(number, *clause, *started, at);
        *clause = next;
        *started = at + 1;
    }

    /// The byte at which the token before `next` ends.
    fn ended(&self, next: usize) -> usize {
        next.checked_sub(1)
            .and_then(|at| self.list.get(at))
            .map_or(0, |token| token.end)
    }

    fn put(&mut self, block: usize, table: Joined) {
        self.query.blocks[block].tables.push(table);
    }

    fn end_clause(&mut self, number: usize, clause: Clause, start: usize, end: usize) {
        let block = &mut self.query.blocks[number];
        let range = start.min(end)..end;
        match clause {
            Clause::Select => block.select = range,
            Clause::Filter => block.filter = range,
            Clause::Group => block.grouped = range,
            Clause::On => {
                if let Some(last) = block.tables.last_mut() {
                    last.on = range;
                }
            }
            _ => {}
        }
    }

    /// The common tables after `with`; answers the token after them.
    fn commons(&mut self, mut at: usize) -> usize {
        if self.word(at) == "recursive" {
            at += 1;
        }
        loop {
            let Some(name) = self.list.get(at).and_then(|token| token.name(self.text)) else {
                return at;
            };
            at += 1;
            let mut columns = Vec::new();
            if self.kind(at) == Some(TokenKind::Open) {
                at += 1;
                while let Some(token) = self.list.get(at).filter(|t| t.kind != TokenKind::Close) {
                    columns.extend(token.name(self.text));
                    at += 1;
                }
                at += 1;
            }
            if self.word(at) != "as" {
                self.query.commons.push(Common {
                    name,
                    columns,
                    block: None,
                });
                return at;
            }
            at += 1;
            while matches!(self.word(at).as_str(), "not" | "materialized") {
                at += 1;
            }
            if self.kind(at) != Some(TokenKind::Open) {
                self.query.commons.push(Common {
                    name,
                    columns,
                    block: None,
                });
                return at;
            }
            let block = self.query.blocks.len();
            let known = self.query.commons.len();
            self.query.commons.push(Common {
                name,
                columns,
                block: None,
            });
            if self.depth < 200 {
                at = self.block(at + 1, None);
                self.query.commons[known].block = Some(block);
            }
            if self.kind(at) == Some(TokenKind::Close) {
                at += 1;
            }
            if self.kind(at) != Some(TokenKind::Comma) {
                return at;
            }
            at += 1;
        }
    }

    fn alias(&self, at: usize) -> (Option<String>, usize) {
        let with_as = self.word(at) == "as";
        let place = if with_as { at + 1 } else { at };
        let token = self.list.get(place);
        let word = token.and_then(|token| token.name(self.text));
        match (token, word) {
            (Some(token), Some(word))
                if token.kind == TokenKind::QuotedName
                    || !NO_ALIAS.contains(&word.to_ascii_lowercase().as_str()) =>
            {
                // Names for its columns may follow in brackets.
                let mut next = place + 1;
                if self.kind(next) == Some(TokenKind::Open) && with_as {
                    while self.kind(next).is_some_and(|kind| kind != TokenKind::Close) {
                        next += 1;
                    }
                    next += 1;
                }
                (Some(word), next)
            }
            _ => (None, at),
        }
    }

    fn table(&self, at: usize) -> Option<(Joined, usize)> {
        let first = self.list.get(at)?;
        let mut name = first.name(self.text)?;
        if first.kind == TokenKind::Word && self.dialect.is_keyword(&name) {
            return None;
        }
        let mut next = at + 1;
        while self.kind(next) == Some(TokenKind::Dot) {
            let Some(part) = self
                .list
                .get(next + 1)
                .and_then(|token| token.name(self.text))
            else {
                // Half-typed: the name ends in a dot.
                return None;
            };
            name = format!("{name}.{part}");
            next += 2;
        }
        let mut of = Of::Table(name);
        // The columns of an insert follow in brackets too, those of a function are its arguments.
        if self.kind(next) == Some(TokenKind::Open) && self.word(at.wrapping_sub(1)) != "into" {
            let mut depth = 0;
            while let Some(kind) = self.kind(next) {
                match kind {
                    TokenKind::Open => depth += 1,
                    TokenKind::Close => depth -= 1,
                    _ => {}
                }
                next += 1;
                if depth == 0 {
                    break;
                }
            }
            of = Of::Other;
        }
        let (alias, next) = self.alias(next);
        Some((
            Joined {
                of,
                alias,
                at: first.start,
                end: self.ended(next),
                using: Vec::new(),
                natural: false,
                outer: false,
                on: 0..0,
            },
            next,
        ))
    }
}

/// A column of a list: how it is known, and the one column it takes over unchanged (its qualifier, its name).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Output {
    /// Its name; `*` for all columns of the tables, or of the one that `of` names.
    pub name: String,
    /// The column that it is.
    pub of: Option<(Option<String>, String)>,
}

impl Query {
    /// The innermost block that a byte stands in.
    pub fn block_at(&self, byte: usize) -> Option<usize> {
        let holds = |block: &Block| block.span.start <= byte && byte <= block.span.end;
        (0..self.blocks.len())
            .filter(|at| holds(&self.blocks[*at]))
            .min_by_key(|at| {
                let span = &self.blocks[*at].span;
                (span.end - span.start, std::cmp::Reverse(*at))
            })
    }

    /// The common table of this name.
    pub fn common(&self, name: &str) -> Option<&Common> {
        self.commons
            .iter()
            .find(|common| common.name.eq_ignore_ascii_case(name))
    }

    /// The columns that a block gives, as far as their names can be told.
    pub fn outputs(&self, block: usize, text: &str, list: &[Token]) -> Vec<Output> {
        let range = self.blocks[block].select.clone();
        let tokens = list.get(range).unwrap_or_default();
        let mut outputs = Vec::new();
        for item in divided(tokens) {
            let (Some(first), Some(last)) = (item.first(), item.last()) else {
                continue;
            };
            let plain = |token: &Token| token.name(text);
            let output = match item {
                [star] if star.of(text) == "*" => Some(Output {
                    name: "*".into(),
                    of: None,
                }),
                [table, dot, star] if dot.kind == TokenKind::Dot && star.of(text) == "*" => {
                    plain(table).map(|table| Output {
                        name: "*".into(),
                        of: Some((Some(table), "*".into())),
                    })
                }
                [column] => plain(column).map(|name| Output {
                    name: name.clone(),
                    of: Some((None, name)),
                }),
                [table, dot, column] if dot.kind == TokenKind::Dot => {
                    plain(column).map(|name| Output {
                        name: name.clone(),
                        of: Some((plain(table), name)),
                    })
                }
                _ => {
                    let before = item[item.len() - 2];
                    let named = before.is_word(text, "as")
                        || !matches!(before.kind, TokenKind::Operator | TokenKind::Dot);
                    let of = column_of(&item[..item.len() - 1], text);
                    match plain(last) {
                        Some(name) if named && first.start != last.start => {
                            Some(Output { name, of })
                        }
                        _ => None,
                    }
                }
            };
            outputs.extend(output);
        }
        outputs
    }
}

/// The column that tokens name: `column`, `table.column`, an `as` behind it passed over.
fn column_of(tokens: &[Token], text: &str) -> Option<(Option<String>, String)> {
    let tokens = match tokens {
        [rest @ .., last] if last.is_word(text, "as") => rest,
        all => all,
    };
    match tokens {
        [column] => column.name(text).map(|name| (None, name)),
        [table, dot, column] if dot.kind == TokenKind::Dot => {
            Some((Some(table.name(text)?), column.name(text)?))
        }
        _ => None,
    }
}

/// Where the bracket that the tokens begin with closes.
pub fn closes_at(tokens: &[Token]) -> Option<usize> {
    let mut depth = 0;
    for (at, token) in tokens.iter().enumerate() {
        match token.kind {
            TokenKind::Open => depth += 1,
            TokenKind::Close => depth -= 1,
            _ => {}
        }
        if depth == 0 {
            return Some(at);
        }
    }
    None
}

/// Tokens between commas that stand in no bracket.
pub fn divided(tokens: &[Token]) -> Vec<&[Token]> {
    let mut parts = Vec::new();
    let (mut depth, mut start) = (0_i32, 0);
    for (at, token) in tokens.iter().enumerate() {
        match token.kind {
            TokenKind::Open => depth += 1,
            TokenKind::Close => depth -= 1,
            TokenKind::Comma if depth == 0 => {
                parts.push(&tokens[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    if start < tokens.len() {
        parts.push(&tokens[start..]);
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::POSTGRES;
    use crate::token::{significant, tokens};

    fn read(text: &str) -> (Query, Vec<Token>) {
        let all = tokens(text, &POSTGRES);
        let list = significant(&all);
        (query(text, &list, &POSTGRES), list)
    }

    fn tables(text: &str) -> Vec<Vec<String>> {
        let (query, _) = read(text);
        query
            .blocks
            .iter()
            .map(|block| {
                block
                    .tables
                    .iter()
                    .map(|table| match &table.of {
                        Of::Table(name) => {
                            format!("{name} {}", table.alias.clone().unwrap_or_default())
                                .trim()
                                .to_string()
                        }
                        Of::Block(at) => {
                            format!("#{at} {}", table.alias.clone().unwrap_or_default())
                        }
                        Of::Other => format!("() {}", table.alias.clone().unwrap_or_default()),
                    })
                    .collect()
            })
            .collect()
    }

    #[test]
    fn blocks_have_their_own_tables() {
        assert_eq!(
            tables(
                "with a as (select 1 from x), b (n) as not materialized (select * from a, y) select * from a join lateral (select max(i) from z where z.k = a.k) m on true, generate_series(1, 3) g left join (p cross join q.r \"R\") using (id) where exists (select 1 from w) union all select 2 from v"
            ),
            [
                vec!["a", "#3 m", "() g", "p", "q.r R"],
                vec!["x"],
                vec!["a", "y"],
                vec!["z"],
                vec!["w"],
                vec!["v"]
            ]
        );
        assert_eq!(
            tables("insert into t (a, b) select a, b from u where c in (select c from v)"),
            [vec!["t"], vec!["u"], vec!["v"]]
        );
        assert_eq!(
            tables("update dues d set a = (select 1 from x) from visits v where v.id = d.v"),
            [vec!["dues d", "visits v"], vec!["x"]]
        );
        assert_eq!(
            tables("delete from t where x is distinct from y and z = 1"),
            [vec!["t"]]
        );
        assert_eq!(
            tables("select extract(year from at) from"),
            [Vec::<String>::new()]
        );
        assert_eq!(tables("select (((select 1 from a"), [vec![], vec!["a"]]);
        let (query, _) = read("select * from a natural join b join c using (x, y)");
        let joins: Vec<_> = query.blocks[0]
            .tables
            .iter()
            .map(|t| (t.natural, t.using.len()))
            .collect();
        assert_eq!(joins, [(false, 0), (true, 0), (false, 2)]);
    }

    #[test]
    fn conditions_and_outputs_are_found() {
        let text = "select distinct v.id as vessel, v.name, count(*) n, s.*, 1 + 2, left_at from visits s join vessels v on (v.id = s.vessel_id and v.x = 1) where s.left_at is null group by v.id, 2 having count(*) > 1";
        let (query, list) = read(text);
        let block = &query.blocks[0];
        let part = |range: &Range<usize>| {
            text[list[range.start].start..list[range.end - 1].end].to_string()
        };
        assert_eq!(
            part(&block.tables[1].on),
            "(v.id = s.vessel_id and v.x = 1)"
        );
        assert_eq!(part(&block.filter), "s.left_at is null");
        assert_eq!(part(&block.grouped), "v.id, 2");
        assert!(block.distinct);
        let outputs = query.outputs(0, text, &list);
        let names: Vec<&str> = outputs.iter().map(|o| o.name.as_str()).collect();
        assert_eq!(names, ["vessel", "name", "n", "*", "left_at"]);
        assert_eq!(outputs[0].of, Some((Some("v".into()), "id".into())));
        assert_eq!(outputs[2].of, None);
    }

    #[test]
    fn the_innermost_block_is_found_by_place() {
        let text = "select * from a where x in (select y from b where ) and z";
        let (query, _) = read(text);
        let of = |word: &str| query.block_at(text.find(word).expect("there"));
        assert_eq!(
            (of("* from"), of("y from"), of(") and"), of("z")),
            (Some(0), Some(1), Some(1), Some(0))
        );
    }
}
