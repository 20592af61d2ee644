//! The same for SQL: a statement's tokens are read clause by clause, and what stands inside it (common tables,
//! blocks, texts that are run) is read as statements too.

use std::collections::HashSet;

use super::condition::{Condition, Holds};
use super::{Effect, Given, Named, Summary, Sweep};
use crate::dialect::{Dialect, Family};
use crate::token::{Token, TokenKind, significant, tokens};

/// Statements within statements deeper than this are not looked into.
const DEEPEST: usize = 40;
/// Words that begin a statement that explain and its kin can stand before.
const EXPLAINED: &[&str] = &[
    "select", "insert", "update", "delete", "merge", "with", "replace", "create", "values",
    "table", "execute", "declare", "truncate", "refresh",
];
/// Words that begin a statement which changes rows.
pub(super) const WRITES: &[&str] = &["insert", "update", "delete", "merge", "replace"];
pub(super) const MODIFIERS: &[&str] = &[
    "low_priority",
    "quick",
    "ignore",
    "delayed",
    "high_priority",
    "only",
];

/// Summarises one statement of SQL.
pub(super) fn read(text: &str, dialect: &Dialect) -> Summary {
    let list = significant(&tokens(text, dialect));
    let reader = Reader {
        text,
        dialect,
        depth: 0,
    };
    let mut summary = reader.statement(&list);
    summary.commits = dialect.family == Family::Mariadb && commits(reader.at(&list, 0), &summary);
    summary
}

/// Whether a statement commits by itself what stands before it (MariaDB's documentation, "SQL statements that cause
/// an implicit commit").
fn commits(mut c: Cursor<'_>, about: &Summary) -> bool {
    const ALWAYS: &[&str] = &[
        "cache",
        "change",
        "flush",
        "grant",
        "install",
        "lock",
        "optimize",
        "rename",
        "repair",
        "reset",
        "revoke",
        "stop",
        "truncate",
        "uninstall",
    ];
    let verb = c.word(0);
    c.at += 1;
    match verb.as_str() {
        "create" | "alter" | "drop" => {
            c.skip(&["or", "replace"]);
            // What only this session sees is no part of it.
            about.effect == Effect::Definition && c.word(0) != "temporary"
        }
        "begin" | "start" => about.effect == Effect::Transaction || c.word(0) == "slave",
        "analyze" | "check" => c.word(0) == "table",
        "load" => c.word(0) == "index",
        "set" => {
            let rest = c.rest();
            let on = |pair: &[Token]| {
                let value = word_of(c.of.text, pair.get(2));
                let sign = pair.get(2).map_or("", |token| token.of(c.of.text));
                value == "on" || value == "true" || sign == "1"
            };
            c.word(0) == "password"
                || rest.windows(3).any(|three| {
                    let name = word_of(c.of.text, three.first());
                    name.trim_start_matches('@').trim_start_matches("session.") == "autocommit"
                        && on(three)
                })
        }
        verb => ALWAYS.contains(&verb),
    }
}

#[derive(Clone, Copy)]
pub(super) struct Reader<'a> {
    pub(super) text: &'a str,
    pub(super) dialect: &'a Dialect,
    pub(super) depth: usize,
}

/// A place within a statement.
#[derive(Clone, Copy)]
pub(super) struct Cursor<'a> {
    of: Reader<'a>,
    list: &'a [Token],
    pub(super) at: usize,
}

pub(super) fn word_of(text: &str, token: Option<&Token>) -> String {
    token
        .filter(|token| token.kind == TokenKind::Word)
        .map(|token| token.of(text).to_ascii_lowercase())
        .unwrap_or_default()
}

impl<'a> Cursor<'a> {
    pub(super) fn word(&self, offset: usize) -> String {
        word_of(self.of.text, self.list.get(self.at + offset))
    }

    fn kind(&self, offset: usize) -> Option<TokenKind> {
        self.list.get(self.at + offset).map(|token| token.kind)
    }

    fn sign(&self, offset: usize) -> &'a str {
        let token = self.list.get(self.at + offset);
        token.map_or("", |token| token.of(self.of.text))
    }

    pub(super) fn rest(&self) -> &'a [Token] {
        self.list.get(self.at..).unwrap_or_default()
    }

    pub(super) fn skip(&mut self, words: &[&str]) {
        while words.contains(&self.word(0).as_str()) {
            self.at += 1;
        }
    }

    pub(super) fn take(&mut self, word: &str) -> bool {
        let is = self.word(0) == word;
        self.at += usize::from(is);
        is
    }

    /// Goes past the brackets that open here.
    fn skip_brackets(&mut self) {
        let mut depth = 0_i32;
        while let Some(kind) = self
            .kind(0)
            .filter(|kind| depth > 0 || *kind == TokenKind::Open)
        {
            depth += i32::from(kind == TokenKind::Open) - i32::from(kind == TokenKind::Close);
            self.at += 1;
            if depth == 0 {
                return;
            }
        }
    }

    /// Reads `name`, `schema.name` and longer ones.
    fn name(&mut self) -> Option<Named> {
        let start = self.list.get(self.at)?;
        let part = |token: &Token| match token.kind {
            // A text stands for a name there.
            TokenKind::Text
                if self.of.dialect.family == Family::Sqlite
                    // So it is where a setting (ansi_quotes) makes names of such texts.
                    || token.of(self.of.text).starts_with('"') =>
            {
                Some(self.of.literal(token))
            }
            _ => token.name(self.of.text),
        };
        let mut shown = part(start)?;
        let mut end = start.end;
        let mut next = self.at + 1;
        while self.list.get(next).map(|token| token.kind) == Some(TokenKind::Dot) {
            let Some((token, name)) = self.list.get(next + 1).and_then(|t| Some((t, part(t)?)))
            else {
                break;
            };
            shown = format!("{shown}.{name}");
            end = token.end;
            next += 2;
        }
        self.at = next;
        Some(Named {
            shown,
            written: self.of.text[start.start..end].to_string(),
        })
    }

    /// Names with commas between them, each with brackets behind it or not.
    fn names(&mut self) -> Vec<Named> {
        let mut names = Vec::new();
        while let Some(name) = self.name() {
            names.push(name);
            self.skip_brackets();
            if self.sign(0) == "*" {
                self.at += 1;
            }
            if self.kind(0) != Some(TokenKind::Comma) {
                break;
            }
            self.at += 1;
            self.skip(&["only"]);
        }
        names
    }

    /// Goes to the next of `words` outside brackets; to the end and `false` if there is none.
    fn find(&mut self, words: &[&str]) -> bool {
        match self.of.position(self.rest(), words) {
            Some(at) => {
                self.at += at;
                true
            }
            None => {
                self.at = self.list.len();
                false
            }
        }
    }
}

fn nothing(verb: &str, effect: Effect) -> Summary {
    Summary::new(verb, effect)
}

impl<'a> Reader<'a> {
    pub(super) fn at<'t>(self, list: &'t [Token], at: usize) -> Cursor<'t>
    where
        'a: 't,
    {
        Cursor { of: self, list, at }
    }

    /// Where one of `words` stands outside brackets.
    pub(super) fn position(self, list: &[Token], words: &[&str]) -> Option<usize> {
        let mut depth = 0_i32;
        list.iter().position(|token| {
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close => depth -= 1,
                TokenKind::Word if depth == 0 => {
                    return words.contains(&word_of(self.text, Some(token)).as_str());
                }
                _ => {}
            }
            false
        })
    }

    /// Cut at commas outside brackets.
    pub(super) fn parts(self, list: &[Token]) -> Vec<&[Token]> {
        let mut depth = 0_i32;
        list.split(|token| {
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close => depth -= 1,
                _ => {}
            }
            depth == 0 && token.kind == TokenKind::Comma
        })
        .collect()
    }

    /// What a text in quotes says.
    pub(super) fn literal(self, token: &Token) -> String {
        let raw = token.of(self.text);
        if let Some(rest) = raw.strip_prefix('$') {
            let tag = rest.find('$').map_or(0, |end| end + 2);
            let end = raw.len().saturating_sub(tag).max(tag);
            return raw.get(tag..end).unwrap_or_default().to_string();
        }
        let Some(open) = raw.find(['\'', '"']) else {
            return raw.to_string();
        };
        let quote = &raw[open..=open];
        let inner = &raw[open + 1..];
        let inner = inner.strip_suffix(quote).unwrap_or(inner);
        let inner = inner.replace(&quote.repeat(2), quote);
        let escapes = self.dialect.backslash_escapes || raw.starts_with(['e', 'E']);
        if escapes {
            inner.replace('\\', "")
        } else {
            inner
        }
    }

    /// Summarises the statement of these tokens.
    pub(super) fn statement(self, list: &[Token]) -> Summary {
        let ends = |token: &Token| token.kind == TokenKind::Semicolon;
        let end = list
            .iter()
            .rposition(|token| !ends(token))
            .map_or(0, |at| at + 1);
        let list = &list[..end];
        let mut start = 0;
        while list
            .get(start)
            .is_some_and(|token| token.kind == TokenKind::Open)
        {
            start += 1;
        }
        let mut c = self.at(list, start);
        let verb = c.word(0);
        if self.depth > DEEPEST
            || start > 0 && !matches!(verb.as_str(), "select" | "with" | "values" | "table")
        {
            return nothing(&verb, Effect::Unknown);
        }
        c.at += 1;
        let mut summary = match verb.as_str() {
            "explain" | "describe" | "desc" => return self.explained(c, &verb),
            "analyze"
                if self.dialect.family == Family::Mariadb
                    && c.word(0) != "table"
                    && !c.word(0).contains("local")
                    && c.word(0) != "no_write_to_binlog" =>
            {
                let rest = self.position(c.rest(), EXPLAINED).unwrap_or(c.rest().len());
                return self.deeper().statement(&c.rest()[rest..]);
            }
            "with" => return self.with(c),
            "select" | "values" | "table" | "show" => self.reading(c, &verb),
            "copy" => self.copy(c),
            "load" => {
                c.find(&["into"]);
                c.skip(&["into", "table"]);
                Summary::writing(&verb, c.name(), Vec::new())
            }
            "insert" | "replace" => self.insert(c, &verb),
            "merge" => self.merge(c),
            "delete" => self.delete(c),
            "update" => self.update(c),
            "truncate" => self.truncate(c),
            "drop" => self.drop(c),
            "alter" => self.alter(c),
            "create" => return self.create(c),
            "begin" if c.word(0) == "not" => return self.block(list, &verb),
            "start" if c.word(0) != "transaction" => nothing(&verb, Effect::Other),
            "commit" | "rollback" if c.word(0) == "prepared" => {
                nothing(&format!("{verb} prepared"), Effect::Transaction)
            }
            "prepare" if c.word(0) == "transaction" => nothing(&verb, Effect::Transaction),
            "xa" => nothing(&verb, Effect::Transaction),
            "begin" | "start" | "commit" | "end" | "rollback" | "savepoint" | "release"
            | "abort" => nothing(&verb, Effect::Transaction),
            "do" if self.dialect.family == Family::Postgres => return self.anonymous(c),
            "if" | "case" | "loop" | "while" | "repeat" | "for"
                if self.dialect.family == Family::Mariadb =>
            {
                return self.block(list, &verb);
            }
            "set"
                if self.dialect.family == Family::Mariadb
                    && c.word(0) == "statement"
                    && c.find(&["for"]) =>
            {
                return self.deeper().statement(&c.rest()[1..]);
            }
            "prepare" => return self.prepare(c),
            "execute" if c.take("immediate") => return self.dynamic(c.rest(), &verb),
            "do" | "call" | "execute" | "exec" => nothing(&verb, Effect::Unknown),
            "declare" | "handler" | "fetch" => nothing(&verb, Effect::Read),
            _ => nothing(&verb, Effect::Other),
        };
        for inner in self.inner_writes(&list[start..]) {
            if summary.effect == Effect::Read {
                summary.effect = inner.effect;
                summary.targets = inner.targets;
            }
            summary.sweeps.extend(inner.sweeps);
        }
        if summary.effect == Effect::Read {
            summary.calls = self.calls(&list[start..]);
        }
        summary
    }

    /// The functions of these tokens that are no functions of the server's own that we know.
    fn calls(self, list: &[Token]) -> Vec<String> {
        let mut found = Vec::new();
        let mut seen = HashSet::new();
        for pair in list
            .windows(2)
            .filter(|pair| pair[1].kind == TokenKind::Open)
        {
            let Some(name) = pair[0].name(self.text) else {
                continue;
            };
            let lower = name.to_ascii_lowercase();
            let known = self
                .dialect
                .functions
                .binary_search_by_key(&lower.as_str(), |(name, _)| name)
                .is_ok();
            let acts = ["nextval", "setval", "set_config"].contains(&lower.as_str());
            if (!known || acts) && !self.dialect.is_keyword(&name) && seen.insert(name.clone()) {
                found.push(name);
            }
        }
        found
    }

    fn deeper(self) -> Self {
        Reader {
            depth: self.depth + 1,
            ..self
        }
    }

    /// Another text that is run, read as a statement.
    fn text_run(self, text: &str) -> Summary {
        let list = significant(&tokens(text, self.dialect));
        let reader = Reader {
            text,
            dialect: self.dialect,
            depth: self.depth + 1,
        };
        let holds_others = matches!(
            word_of(text, list.first()).as_str(),
            "create" | "begin" | "do"
        );
        if holds_others {
            return reader.statement(&list);
        }
        let mut statements = list
            .split(|token| token.kind == TokenKind::Semicolon)
            .filter(|one| !one.is_empty())
            .map(|one| reader.statement(one));
        let Some(mut first) = statements.next() else {
            return nothing("", Effect::Unknown);
        };
        for more in statements {
            first.sweeps.extend(more.sweeps);
        }
        first
    }

    /// Statements that write and stand in brackets: those of common tables, of copy, of the like.
    fn inner_writes(self, list: &[Token]) -> Vec<Summary> {
        let mut found = Vec::new();
        let mut at = 1;
        while at < list.len() {
            let begins = list[at].kind == TokenKind::Open
                && WRITES.contains(&word_of(self.text, list.get(at + 1)).as_str())
                && list.get(at + 2).is_some_and(|next| {
                    !matches!(
                        next.kind,
                        TokenKind::Open | TokenKind::Comma | TokenKind::Close
                    )
                });
            if !begins {
                at += 1;
                continue;
            }
            let mut c = self.at(list, at);
            c.skip_brackets();
            let end = c.at.saturating_sub(1).max(at + 1);
            found.push(self.deeper().statement(&list[at + 1..end]));
            at = c.at.max(at + 1);
        }
        found
    }

    fn explained(self, mut c: Cursor<'_>, verb: &str) -> Summary {
        let mut runs = false;
        let off = |c: &Cursor<'_>, at| {
            matches!(
                c.sign(at).to_ascii_lowercase().as_str(),
                "false" | "off" | "0" | "'false'" | "'off'" | "'0'"
            )
        };
        if c.kind(0) == Some(TokenKind::Open) {
            let start = c.at;
            c.skip_brackets();
            for at in start..c.at {
                let option = self.at(c.list, at);
                if matches!(option.word(0).as_str(), "analyze" | "analyse") {
                    runs = !off(&option, 1);
                }
            }
        } else {
            while c.at < c.list.len()
                && !EXPLAINED.contains(&c.word(0).as_str())
                && c.kind(0) != Some(TokenKind::Open)
            {
                runs |= matches!(c.word(0).as_str(), "analyze" | "analyse");
                c.at += 1;
            }
        }
        match runs {
            true => self.deeper().statement(c.rest()),
            false => nothing(verb, Effect::Read),
        }
    }

    /// After `with`: its common tables, then the statement itself.
    fn with(self, mut c: Cursor<'_>) -> Summary {
        const MAIN: &[&str] = &[
            "select", "insert", "update", "delete", "replace", "values", "merge", "table",
        ];
        let start = c.at;
        c.take("recursive");
        while c.name().is_some() {
            c.skip_brackets();
            if !c.take("as") {
                break;
            }
            c.skip(&["not", "materialized"]);
            c.skip_brackets();
            if matches!(c.word(0).as_str(), "search" | "cycle") {
                c.find(MAIN);
                break;
            }
            if c.kind(0) != Some(TokenKind::Comma) {
                break;
            }
            c.at += 1;
        }
        if !MAIN.contains(&c.word(0).as_str()) && c.kind(0) != Some(TokenKind::Open) {
            c.at = start;
            c.find(MAIN);
        }
        let mut main = self.deeper().statement(c.rest());
        if main.effect == Effect::Read {
            let commons = &c.list[start.min(c.at)..c.at];
            main.calls.extend(self.calls(commons));
            // A common table with named columns is no call.
            let mut depth = 0_i32;
            let names: HashSet<String> = commons
                .iter()
                .filter(|token| {
                    depth += i32::from(token.kind == TokenKind::Open)
                        - i32::from(token.kind == TokenKind::Close);
                    depth == 0
                })
                .filter_map(|token| token.name(self.text))
                .collect();
            main.calls.retain(|name| !names.contains(name));
        }
        for inner in self.inner_writes(&c.list[start.min(c.at)..c.at]) {
            if main.effect == Effect::Read {
                main.effect = inner.effect;
                main.targets = inner.targets;
            }
            main.sweeps.extend(inner.sweeps);
        }
        main
    }

    fn reading(self, mut c: Cursor<'_>, verb: &str) -> Summary {
        // Written to a file of the server, or into a new table; a variable of the session is neither.
        if verb == "select" && self.dialect.family != Family::Sqlite && c.find(&["into"]) {
            // A table that only this session sees.
            if self.dialect.family == Family::Tabular && c.sign(1).starts_with('#') {
                return nothing(verb, Effect::Read);
            }
            let variable = self.dialect.family == Family::Mariadb
                && (c.sign(1).starts_with('@') || c.kind(1) == Some(TokenKind::Parameter));
            if !variable {
                return nothing(verb, Effect::Write);
            }
        }
        nothing(verb, Effect::Read)
    }

    fn copy(self, mut c: Cursor<'_>) -> Summary {
        let to = self
            .position(c.rest(), &["from", "to"])
            .map(|at| self.at(c.list, c.at + at));
        let end = to.map_or(String::new(), |to| to.word(1));
        let kind = match end.as_str() {
            "stdin" | "stdout" => end,
            _ => "server".to_string(),
        };
        let from = to.is_some_and(|to| to.word(0) == "from");
        let effect = match (from, kind.as_str()) {
            (false, "stdout") => Effect::Read,
            _ => Effect::Write,
        };
        Summary {
            targets: if from {
                c.name().into_iter().collect()
            } else {
                Vec::new()
            },
            kind: Some(kind),
            ..nothing("copy", effect)
        }
    }

    /// The tables after `from`, `using` or `update`, each with what it is called.
    pub(super) fn tables(self, list: &[Token]) -> Vec<(String, Named)> {
        let mut found = Vec::new();
        let mut c = self.at(list, 0);
        let mut expected = true;
        while c.at < list.len() {
            if expected && matches!(c.word(0).as_str(), "select" | "with" | "values") {
                // A query in brackets is no table.
                let mut depth = 1_i32;
                while let Some(kind) = c.kind(0).filter(|_| depth > 0) {
                    depth +=
                        i32::from(kind == TokenKind::Open) - i32::from(kind == TokenKind::Close);
                    c.at += 1;
                }
                expected = false;
                continue;
            }
            let joins = c.kind(0) == Some(TokenKind::Comma)
                || matches!(c.word(0).as_str(), "join" | "straight_join");
            if joins
                || expected
                    && (c.kind(0) == Some(TokenKind::Open)
                        || MODIFIERS.contains(&c.word(0).as_str())
                        || c.word(0) == "lateral")
            {
                expected = true;
                c.at += 1;
                continue;
            }
            if expected && let Some(name) = c.name() {
                expected = false;
                if c.word(0) == "partition" {
                    c.at += 1;
                    c.skip_brackets();
                }
                let alias = match c.take("as") {
                    true => c.name(),
                    false
                        if matches!(
                            c.word(0).as_str(),
                            "" | "on"
                                | "using"
                                | "join"
                                | "inner"
                                | "left"
                                | "right"
                                | "cross"
                                | "natural"
                                | "straight_join"
                                | "full"
                                | "set"
                                | "use"
                                | "force"
                                | "ignore"
                                | "for"
                                | "indexed"
                                | "not"
                        ) =>
                    {
                        None
                    }
                    false => c.name(),
                };
                let last = name
                    .shown
                    .rsplit('.')
                    .next()
                    .unwrap_or_default()
                    .to_string();
                found.push((alias.map_or(last, |alias| alias.shown), name));
                continue;
            }
            c.at += 1;
        }
        found
    }

    /// Whether joins of these tables choose rows: a condition of an inner join does.
    fn joins_choose(self, list: &[Token], table: &str) -> bool {
        let outer = self.position(list, &["left", "right", "full"]).is_some();
        if outer || self.dialect.family != Family::Mariadb {
            return false;
        }
        if self.position(list, &["using", "natural"]).is_some() {
            return true;
        }
        let Some(on) = self.position(list, &["on"]) else {
            return false;
        };
        self.condition(table).holds(&list[on + 1..]) != Holds::Always
    }

    fn condition<'t>(&'t self, table: &'t str) -> Condition<'t> {
        Condition {
            text: self.text,
            dialect: self.dialect,
            table,
        }
    }

    /// Whether a write of `table` touches every row, and its limit: `tail` is what follows its tables.
    fn sweeps(self, tail: &[Token], joined: &[Token], table: &str) -> Option<Option<u64>> {
        const ENDS: &[&str] = &["returning", "order", "limit", "offset"];
        let holds = match self.position(tail, &["where"]) {
            Some(at) => {
                let condition = &tail[at + 1..];
                let end = self.position(condition, ENDS).unwrap_or(condition.len());
                let current = word_of(self.text, condition.first()) == "current"
                    && word_of(self.text, condition.get(1)) == "of";
                match current {
                    true => Holds::Depends,
                    false => self.condition(table).holds(&condition[..end]),
                }
            }
            None if self.joins_choose(joined, table) => Holds::Depends,
            None => Holds::Always,
        };
        let limit = self.position(tail, &["limit"]).map(|at| {
            let number = tail.get(at + 1).map(|token| token.of(self.text).parse());
            number.and_then(Result::ok).unwrap_or(u64::MAX)
        });
        (holds == Holds::Always).then_some(limit)
    }

    fn delete(self, mut c: Cursor<'_>) -> Summary {
        c.skip(MODIFIERS);
        if c.take("history") {
            c.take("from");
            let table = c.name();
            let sweep = table.clone().map(|table| Sweep::Part {
                kind: "history".into(),
                parts: Vec::new(),
                table,
            });
            return Summary::writing("delete", table, sweep.into_iter().collect());
        }
        let tail = self.position(c.rest(), &["where", "returning", "order", "limit"]);
        let (head, tail) = c.rest().split_at(tail.unwrap_or(c.rest().len()));
        let from = self.position(head, &["from"]);
        let using = self
            .position(head, &["using"])
            .filter(|at| Some(*at) > from);
        let (aims, joined) = match (from, using) {
            (Some(0), Some(using)) => (&head[1..using], &head[using + 1..]),
            (Some(0), None) => (&head[1..], &head[head.len()..]),
            (Some(from), _) => (&head[..from], &head[from + 1..]),
            (None, _) => (head, &head[head.len()..]),
        };
        let mut targets: Vec<Named> =
            match joined.is_empty() || self.dialect.family != Family::Mariadb {
                true => self
                    .tables(aims)
                    .into_iter()
                    .map(|(_, name)| name)
                    .take(1)
                    .collect(),
                false => self
                    .parts(aims)
                    .iter()
                    .filter_map(|part| self.at(part, 0).name())
                    .collect(),
            };
        let known = self.tables(joined);
        if self.dialect.family == Family::Mariadb {
            for target in &mut targets {
                let own = known
                    .iter()
                    .find(|(alias, _)| alias.eq_ignore_ascii_case(&target.shown));
                if let Some((_, name)) = own {
                    target.clone_from(name);
                }
            }
        }
        let limited = |table: &Named| self.sweeps(tail, joined, &table.shown);
        let sweeps = targets
            .iter()
            .filter_map(|table| {
                Some(Sweep::DeleteAll {
                    table: table.clone(),
                    limit: limited(table)?,
                    truncates: None,
                })
            })
            .collect();
        Summary {
            targets,
            sweeps,
            ..nothing("delete", Effect::Write)
        }
    }

    fn update(self, mut c: Cursor<'_>) -> Summary {
        if c.take("or") {
            c.at += 1;
        }
        c.skip(MODIFIERS);
        let set = self.position(c.rest(), &["set"]).unwrap_or(c.rest().len());
        let (joined, tail) = c.rest().split_at(set);
        let known = self.tables(joined);
        let mut targets: Vec<Named> = known.iter().take(1).map(|(_, name)| name.clone()).collect();
        if known.len() > 1 {
            // What is set says which of them are changed.
            let end = self
                .position(tail, &["where", "order", "limit"])
                .unwrap_or(tail.len());
            let set: Vec<Named> = self
                .parts(&tail[1.min(end)..end])
                .iter()
                .filter(|part| {
                    part.get(1)
                        .is_some_and(|token| token.kind == TokenKind::Dot)
                })
                .filter_map(|part| {
                    let alias = part[0].name(self.text)?;
                    let own = known
                        .iter()
                        .find(|(known, _)| known.eq_ignore_ascii_case(&alias));
                    own.map(|(_, name)| name.clone())
                })
                .collect();
            if !set.is_empty() {
                targets = set;
                targets.dedup();
            }
        }
        let sweeps = targets
            .iter()
            .filter_map(|table| {
                Some(Sweep::UpdateAll {
                    table: table.clone(),
                    limit: self.sweeps(tail, joined, &table.shown)?,
                })
            })
            .collect();
        Summary {
            targets,
            sweeps,
            ..nothing("update", Effect::Write)
        }
    }

    fn insert(self, mut c: Cursor<'_>, verb: &str) -> Summary {
        let mut upserts = verb == "replace";
        if c.take("or") {
            upserts |= c.word(0) == "replace";
            c.at += 1;
        }
        c.skip(MODIFIERS);
        if self.dialect.family != Family::Mariadb || c.word(0) == "into" {
            c.find(&["into"]);
            c.at += 1;
        }
        let table = c.name();
        let rest = c.rest();
        let conflict = self
            .position(rest, &["conflict", "duplicate"])
            .filter(|at| *at > 0);
        if let Some(at) = conflict {
            upserts |= self.position(&rest[at..], &["update"]).is_some();
        }
        // An insert of all rows of a table into itself that replaces those that are there changes all of them.
        let source = self
            .position(rest, &["select"])
            .map(|at| &rest[at..conflict.map_or(rest.len(), |at| at - 1).max(at)]);
        let sweep = source
            .zip(table.clone())
            .filter(|_| upserts)
            .and_then(|(source, table)| {
                let from = self.position(source, &["from"])?;
                let read = self.tables(&source[from + 1..]);
                let (_, first) = read.first()?;
                let last = |name: &str| name.rsplit('.').next().unwrap_or_default().to_lowercase();
                let limited = self.position(source, &["limit", "fetch"]).is_some();
                let all = self.sweeps(&source[from..], &[], &table.shown).is_some();
                (last(&first.shown) == last(&table.shown) && all && !limited)
                    .then_some(Sweep::UpdateAll { table, limit: None })
            });
        Summary {
            given: if upserts {
                Given::Replacing
            } else {
                Given::Nothing
            },
            ..Summary::writing(verb, table, sweep.into_iter().collect())
        }
    }

    fn merge(self, mut c: Cursor<'_>) -> Summary {
        c.find(&["into"]);
        c.skip(&["into", "only"]);
        let Some(table) = c.name() else {
            return Summary::writing("merge", None, Vec::new());
        };
        let mut sweeps = Vec::new();
        let on = self.position(c.rest(), &["on"]).unwrap_or(c.rest().len());
        let on = &c.rest()[on..];
        let when = self.position(on, &["when"]).unwrap_or(on.len());
        let all =
            when > 0 && self.condition(&table.shown).holds(&on[1.min(when)..when]) == Holds::Always;
        let mut clause = &on[when..];
        while let [_, rest @ ..] = clause {
            let next = self.position(rest, &["when"]).unwrap_or(rest.len());
            let (one, after) = rest.split_at(next);
            let then = self.position(one, &["then"]).unwrap_or(one.len());
            let chooses = self.position(&one[..then], &["and"]).is_some();
            match word_of(self.text, one.get(then + 1)).as_str() {
                "delete" => sweeps.push(Sweep::DeleteMatching {
                    table: table.clone(),
                }),
                "update" if all && !chooses => sweeps.push(Sweep::UpdateAll {
                    table: table.clone(),
                    limit: None,
                }),
                _ => {}
            }
            clause = after;
        }
        sweeps.dedup();
        Summary::writing("merge", Some(table), sweeps)
    }

    fn truncate(self, mut c: Cursor<'_>) -> Summary {
        c.skip(&["table", "only"]);
        let targets = c.names();
        let cascade = self.position(c.rest(), &["cascade"]).is_some();
        let sweeps = targets.iter().map(|table| Sweep::DeleteAll {
            table: table.clone(),
            limit: None,
            truncates: Some(cascade),
        });
        Summary {
            sweeps: sweeps.collect(),
            targets,
            ..nothing("truncate", Effect::Write)
        }
    }

    fn drop(self, mut c: Cursor<'_>) -> Summary {
        c.skip(&["temporary", "or", "replace"]);
        let first = c.word(0);
        c.at += 1;
        let mut kind = match first.as_str() {
            "prepare" => return nothing("drop", Effect::Other),
            "schema" if self.dialect.family == Family::Mariadb => "database".to_string(),
            "materialized" | "foreign" | "event" | "access" | "operator" | "package"
            | "procedural"
                if !matches!(c.word(0).as_str(), "" | "if")
                    && (first != "event" || c.word(0) == "trigger")
                    && !(first == "operator" && c.kind(0) != Some(TokenKind::Word)) =>
            {
                let second = c.word(0);
                c.at += 1;
                let third = if second == "data" {
                    c.word(0)
                } else {
                    String::new()
                };
                c.at += usize::from(!third.is_empty());
                format!("{first} {second} {third}").trim_end().to_string()
            }
            "text" => {
                c.at += 1;
                let what = c.word(0);
                c.at += 1;
                format!("text search {what}")
            }
            "user" if c.word(0) == "mapping" => {
                c.find(&["for"]);
                c.at += 1;
                "user mapping of".to_string()
            }
            "owned" => {
                c.take("by");
                "owned".to_string()
            }
            _ => first,
        };
        if kind == "materialized view" {
            kind = "materialised view".into();
        }
        c.skip(&["concurrently"]);
        let given = if c.word(0) == "if" {
            Given::Existence
        } else {
            Given::Nothing
        };
        c.skip(&["if", "exists"]);
        let cascade = self.position(c.rest(), &["cascade"]).is_some();
        let targets = match kind.as_str() {
            "user" | "role" | "user mapping of" => self.accounts(&mut c),
            "cast" | "operator" | "transform" => Vec::new(),
            _ => c.names(),
        };
        let sweeps = targets.iter().map(|name| Sweep::Drop {
            kind: kind.clone(),
            name: name.clone(),
            cascade,
            replaced: false,
        });
        Summary {
            sweeps: sweeps.collect(),
            kind: Some(kind.clone()),
            given,
            targets,
            ..nothing("drop", Effect::Definition)
        }
    }

    /// Names of accounts, `'name'@'host'` too.
    fn accounts(self, c: &mut Cursor<'_>) -> Vec<Named> {
        const ENDS: &[&str] = &[
            "identified",
            "with",
            "require",
            "login",
            "password",
            "cascade",
            "restrict",
            "server",
            "account",
            "encrypted",
            "valid",
            "in",
            "superuser",
            "nosuperuser",
            "createdb",
            "inherit",
            "default",
        ];
        let end = self.position(c.rest(), ENDS).unwrap_or(c.rest().len());
        let parts = self.parts(&c.rest()[..end]);
        let account = |part: &&[Token]| {
            let (first, last) = (part.first()?, part.last()?);
            let mut at = 0;
            let mut shown = String::new();
            for token in part
                .iter()
                .filter(|token| token.kind != TokenKind::Semicolon)
            {
                if !shown.is_empty() && token.start != at {
                    break;
                }
                at = token.end;
                shown.push_str(&match token.kind {
                    TokenKind::Text => self.literal(token),
                    TokenKind::QuotedName => token.name(self.text)?,
                    _ => token.of(self.text).to_string(),
                });
            }
            let written = self.text[first.start..last.end].to_string();
            Some(Named { shown, written })
        };
        parts.iter().filter_map(account).collect()
    }

    fn alter(self, mut c: Cursor<'_>) -> Summary {
        c.skip(&["online", "ignore"]);
        let mut kind = c.word(0);
        c.at += 1;
        if matches!(
            kind.as_str(),
            "foreign" | "materialized" | "event" | "text" | "default"
        ) {
            kind = format!("{kind} {}", c.word(0));
            c.at += 1;
        }
        c.skip(&["if", "exists", "only"]);
        let targets = match kind.as_str() {
            "user" | "role" => self.accounts(&mut c),
            _ => c.name().into_iter().collect(),
        };
        if c.sign(0) == "*" {
            c.at += 1;
        }
        let mut sweeps = Vec::new();
        if let (Some(table), "table" | "foreign table" | "type") = (targets.first(), kind.as_str())
        {
            for part in self.parts(c.rest()) {
                // `drop partition p0, p1`
                if let ([one], Some(Sweep::Part { kind, parts, .. })) = (part, sweeps.last_mut())
                    && kind == "partition"
                {
                    parts.extend(one.name(self.text));
                    continue;
                }
                sweeps.extend(self.alteration(self.at(part, 0), table, &kind));
            }
        }
        Summary {
            sweeps,
            kind: Some(kind),
            targets,
            ..nothing("alter", Effect::Definition)
        }
    }

    /// What one change of `alter table` takes away.
    fn alteration(self, mut c: Cursor<'_>, table: &Named, kind: &str) -> Vec<Sweep> {
        let part = |kind: &str, c: &mut Cursor<'_>| {
            c.skip(&["if", "exists"]);
            let parts = self.parts(c.rest());
            let names = parts.iter().filter_map(|part| self.at(part, 0).name());
            Sweep::Part {
                kind: kind.to_string(),
                parts: names.map(|name| name.shown).collect(),
                table: table.clone(),
            }
        };
        c.skip(&["wait", "nowait"]);
        if c.kind(0) == Some(TokenKind::Number) {
            c.at += 1;
        }
        let verb = c.word(0);
        c.at += 1;
        match (verb.as_str(), c.word(0).as_str()) {
            ("truncate", "partition") | ("drop", "partition") => {
                c.at += 1;
                vec![part("partition", &mut c)]
            }
            ("discard", "tablespace") => vec![part("tablespace", &mut self.at(&[], 0))],
            ("drop", "system") => vec![part("history", &mut self.at(&[], 0))],
            ("drop", "primary") => vec![part("primary key", &mut self.at(&[], 0))],
            ("drop", word @ ("index" | "key" | "constraint" | "check" | "foreign")) => {
                c.skip(&["index", "key", "constraint", "check", "foreign"]);
                let kind = match word {
                    "key" => "index",
                    "foreign" => "foreign key",
                    word => word,
                };
                vec![part(kind, &mut c)]
            }
            ("drop", "attribute") if kind == "type" => {
                c.at += 1;
                vec![part("attribute", &mut c)]
            }
            ("drop", _) if kind != "type" => {
                c.skip(&["column", "if", "exists"]);
                let column = c.name();
                let sweep = column.map(|column| Sweep::DropColumn {
                    table: table.clone(),
                    column: column.shown,
                });
                sweep.into_iter().collect()
            }
            _ => Vec::new(),
        }
    }

    fn create(self, mut c: Cursor<'_>) -> Summary {
        let replaces = c.word(0) == "or" && c.word(1) == "replace";
        c.skip(&["or", "replace"]);
        let start = c.at;
        c.skip(&[
            "global",
            "local",
            "temp",
            "temporary",
            "unlogged",
            "unique",
            "virtual",
            "recursive",
            "fulltext",
            "spatial",
            "vector",
            "trusted",
            "procedural",
            "constraint",
            "aggregate",
        ]);
        if c.word(0) == "algorithm" || c.word(0) == "definer" || c.word(0) == "sql" {
            c.find(&["view", "function", "procedure", "trigger", "event"]);
        }
        let mut kind = c.word(0);
        c.at += 1;
        if matches!(
            kind.as_str(),
            "materialized" | "foreign" | "event" | "text" | "operator" | "access"
        ) && c.kind(0) == Some(TokenKind::Word)
            && c.word(0) != "if"
            && (kind != "event" || c.word(0) == "trigger")
        {
            kind = format!("{kind} {}", c.word(0)).replace("materialized", "materialised");
            c.at += 1;
        }
        if kind == "schema" && self.dialect.family == Family::Mariadb {
            kind = "database".into();
        }
        c.skip(&["concurrently"]);
        let given = match c.word(0) == "if" {
            true => Given::Existence,
            false if replaces => Given::Replacing,
            false => Given::Nothing,
        };
        c.skip(&["if", "not", "exists"]);
        let targets = match kind.as_str() {
            "user" | "role" => self.accounts(&mut c),
            // An index may be made without a name.
            "index" if c.word(0) == "on" => Vec::new(),
            _ => c.name().into_iter().collect(),
        };
        let mut sweeps: Vec<Sweep> = Vec::new();
        // An event runs by itself, and where nothing else is said for the first time at once.
        let body = self.position(c.rest(), &["do"]).filter(|_| kind == "event");
        if let Some(body) = body.and_then(|at| c.rest().get(at + 1..)) {
            let does = match word_of(self.text, body.first()).as_str() {
                "begin" => self.deeper().block(body, "begin"),
                _ => self.deeper().statement(body),
            };
            sweeps.extend(does.sweeps);
        }
        if replaces && matches!(kind.as_str(), "table" | "database" | "sequence") {
            sweeps.extend(targets.iter().map(|name| Sweep::Drop {
                kind: kind.clone(),
                name: name.clone(),
                cascade: false,
                replaced: true,
            }));
        }
        if matches!(kind.as_str(), "table" | "materialised view") {
            for inner in self.inner_writes(&c.list[start..]) {
                sweeps.extend(inner.sweeps);
            }
        }
        Summary {
            sweeps,
            kind: Some(kind),
            given,
            targets,
            ..nothing("create", Effect::Definition)
        }
    }

    /// `do` with its body in quotes.
    fn anonymous(self, c: Cursor<'_>) -> Summary {
        let mut summary = nothing("do", Effect::Unknown);
        for body in c
            .rest()
            .iter()
            .filter(|token| token.kind == TokenKind::Text)
        {
            let text = self.literal(body);
            let list = significant(&tokens(&text, self.dialect));
            let reader = Reader {
                text: &text,
                dialect: self.dialect,
                depth: self.depth + 1,
            };
            summary.sweeps.extend(reader.block(&list, "do").sweeps);
        }
        summary
    }

    /// A block of statements: each that begins in it is read.
    fn block(self, list: &[Token], verb: &str) -> Summary {
        const BEFORE: &[&str] = &[
            "begin", "then", "else", "loop", "do", "repeat", "atomic", "query",
        ];
        const BEGINS: &[&str] = &[
            "insert", "update", "delete", "truncate", "drop", "alter", "create", "merge", "with",
            "replace", "execute", "set", "copy", "prepare", "select",
        ];
        let mut summary = nothing(verb, Effect::Unknown);
        if self.depth > DEEPEST {
            return summary;
        }
        let mut at = 0;
        while at < list.len() {
            let starts = at == 0
                || list[at - 1].kind == TokenKind::Semicolon
                || BEFORE.contains(&word_of(self.text, list.get(at - 1)).as_str());
            let word = word_of(self.text, list.get(at));
            if !starts || !BEGINS.contains(&word.as_str()) {
                at += 1;
                continue;
            }
            let end = list[at..]
                .iter()
                .position(|token| token.kind == TokenKind::Semicolon);
            let end = end.map_or(list.len(), |end| at + end);
            let one = &list[at..end];
            let inner = match word.as_str() {
                "execute"
                    if self.dialect.family == Family::Mariadb
                        && word_of(self.text, one.get(1)) != "immediate" =>
                {
                    nothing("execute", Effect::Unknown)
                }
                "execute" => {
                    let from = 1 + usize::from(word_of(self.text, one.get(1)) == "immediate");
                    let end = self.position(one, &["into", "using"]).unwrap_or(one.len());
                    self.dynamic(&one[from.min(end)..end], "execute")
                }
                _ => self.deeper().statement(one),
            };
            summary.sweeps.extend(inner.sweeps);
            at = end.max(at + 1);
        }
        summary
    }

    fn prepare(self, mut c: Cursor<'_>) -> Summary {
        c.name();
        c.skip_brackets();
        let inner = match c.word(0).as_str() {
            "from" => self.dynamic(&c.rest()[1..], "prepare"),
            "as" => self.deeper().statement(&c.rest()[1..]),
            _ => nothing("prepare", Effect::Other),
        };
        Summary {
            sweeps: inner.sweeps,
            ..nothing("prepare", Effect::Other)
        }
    }

    /// A text that is run: where it is written out it is read, else it is told that it cannot be.
    pub(super) fn dynamic(self, list: &[Token], verb: &str) -> Summary {
        let end = self.position(list, &["using"]).unwrap_or(list.len());
        let list: Vec<&Token> = list[..end]
            .iter()
            .filter(|token| token.kind != TokenKind::Semicolon)
            .collect();
        if let [only] = list[..]
            && only.kind == TokenKind::Text
        {
            return self.text_run(&self.literal(only));
        }
        let mut summary = nothing(verb, Effect::Unknown);
        let first = list.iter().find(|token| token.kind == TokenKind::Text);
        let begins = first.map(|token| {
            let text = self.literal(token);
            let word = text.split_whitespace().next().unwrap_or_default();
            word.to_ascii_lowercase()
        });
        const HARMLESS: &[&str] = &[
            "select", "insert", "create", "set", "grant", "analyze", "show", "notify", "comment",
            "values",
        ];
        if begins.is_none_or(|word| !HARMLESS.contains(&word.as_str())) {
            summary.sweeps.push(Sweep::Unread {
                how: verb.to_string(),
            });
        }
        summary
    }
}
