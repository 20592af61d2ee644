//! What kind of statement this is, and whether it sweeps: touches every row of a table or removes an
//! object. It reads tokens, not the database, so it says what the statement asks for, not what will happen.

use crate::dialect::{Dialect, Family};
use crate::token::{Token, TokenKind, significant, tokens};

/// What a statement does, as far as its words tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// Reads.
    Read,
    /// Inserts, updates or deletes rows.
    Write,
    /// Creates, alters or drops objects.
    Definition,
    /// Begins or ends a transaction.
    Transaction,
    /// Anything else (settings, maintenance).
    Other,
}

/// A statement that touches everything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sweep {
    /// Deletes every row of a table.
    DeleteAll {
        /// The table, as written, quotes taken off.
        table: String,
    },
    /// Updates every row of a table.
    UpdateAll {
        /// The table, as written, quotes taken off.
        table: String,
    },
    /// Drops an object.
    Drop {
        /// `table`, `view`, `index` or `trigger`.
        kind: String,
        /// Its name, quotes taken off.
        name: String,
    },
    /// Replaces everything in a collection.
    Replace {
        /// The collection.
        table: String,
    },
    /// Drops a column of a table.
    DropColumn {
        /// The table.
        table: String,
        /// The column.
        column: String,
    },
}

/// What the words of a statement say about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Summary {
    /// The word that says what it does, lower case; after `with` the word of the main statement.
    pub verb: String,
    /// What it does.
    pub effect: Effect,
    /// What it sweeps, if it does.
    pub sweep: Option<Sweep>,
    /// The table a write or definition names first.
    pub target: Option<String>,
}

struct Reader<'a> {
    text: &'a str,
    list: Vec<Token>,
    at: usize,
}

impl Reader<'_> {
    fn word(&self, offset: usize) -> String {
        self.list
            .get(self.at + offset)
            .filter(|token| token.kind == TokenKind::Word)
            .map(|token| token.of(self.text).to_ascii_lowercase())
            .unwrap_or_default()
    }

    fn skip(&mut self, words: &[&str]) {
        while words.contains(&self.word(0).as_str()) {
            self.at += 1;
        }
    }

    /// Reads `name` or `schema.name`.
    fn name(&mut self) -> Option<String> {
        let mut name = self.list.get(self.at)?.name(self.text)?;
        self.at += 1;
        if self.list.get(self.at).map(|t| t.kind) == Some(TokenKind::Dot) {
            self.at += 1;
            let second = self.list.get(self.at)?.name(self.text)?;
            self.at += 1;
            name = format!("{name}.{second}");
        }
        Some(name)
    }

    /// Goes to the next of `words` outside brackets.
    fn find(&mut self, words: &[&str]) -> bool {
        let mut depth = 0_i32;
        while let Some(token) = self.list.get(self.at) {
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close => depth -= 1,
                TokenKind::Word if depth == 0 && words.contains(&self.word(0).as_str()) => {
                    return true;
                }
                _ => {}
            }
            self.at += 1;
        }
        false
    }

    /// Whether the condition that begins here names nothing, and so holds for every row or none.
    fn constant_condition(&self) -> bool {
        let constant = [
            "true", "false", "not", "and", "or", "is", "null", "in", "like", "between",
        ];
        self.list[self.at..]
            .iter()
            .take_while(|token| !token.is_word(self.text, "returning"))
            .all(|token| match token.kind {
                TokenKind::Word => {
                    constant.contains(&token.of(self.text).to_ascii_lowercase().as_str())
                }
                TokenKind::QuotedName | TokenKind::Parameter => false,
                _ => true,
            })
    }
}

/// The sweep within the brackets of a `with`, where statements that write may stand.
fn inner_write(text: &str, list: &[Token], dialect: &Dialect) -> Option<Summary> {
    for (at, token) in list.iter().enumerate() {
        let next = list.get(at + 1);
        let writes = ["insert", "update", "delete", "merge"];
        if token.kind != TokenKind::Open
            || !next.is_some_and(|next| writes.iter().any(|word| next.is_word(text, word)))
        {
            continue;
        }
        let mut depth = 0;
        let close = list[at..].iter().find(|token| {
            depth += i32::from(token.kind == TokenKind::Open)
                - i32::from(token.kind == TokenKind::Close);
            depth == 0
        });
        let end = close.map_or(text.len(), |close| close.start);
        return Some(summary(&text[token.end..end], dialect));
    }
    None
}

/// The statement and the data behind it, for `copy … from stdin;` with its lines of data. The line that ends
/// them is left out.
pub fn data_of<'a>(text: &'a str, dialect: &Dialect) -> Option<(&'a str, &'a str)> {
    let head = head(text, dialect);
    let data = text[head.len()..].strip_prefix(';')?;
    let data = data.split_once('\n').map(|(_, data)| data)?;
    let end = data
        .rfind("\\.")
        .filter(|at| data[at + 2..].trim().is_empty())?;
    Some((head, &data[..end]))
}

/// The part of a text that is SQL: all of it, but for `copy … from stdin` up to its semicolon, because data of
/// any size follow.
fn head<'a>(text: &'a str, dialect: &Dialect) -> &'a str {
    const LONGEST: usize = 64 * 1024;
    if dialect.family != Family::Postgres || !text.contains("\\.") {
        return text;
    }
    let mut end = text.len().min(LONGEST);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    let start = &text[..end];
    let list = significant(&tokens(start, dialect));
    if !list
        .first()
        .is_some_and(|token| token.is_word(start, "copy"))
    {
        return text;
    }
    let semicolon = list.iter().find(|token| token.kind == TokenKind::Semicolon);
    semicolon.map_or(text, |token| &text[..token.start])
}

/// Summarises one statement.
pub fn summary(text: &str, dialect: &Dialect) -> Summary {
    if dialect.is_flow() {
        return of_flow(text);
    }
    let text = head(text, dialect);
    let mut reader = Reader {
        text,
        list: significant(&tokens(text, dialect)),
        at: 0,
    };
    let mut explained = reader.word(0) == "explain";
    if explained {
        // A plan with real times runs the statement.
        let rest = &reader.list[1..];
        let run = rest
            .iter()
            .take(8)
            .position(|token| token.is_word(text, "analyze") || token.is_word(text, "analyse"));
        let verbs = [
            "select", "insert", "update", "delete", "merge", "with", "replace", "create",
        ];
        let verb = rest
            .iter()
            .position(|token| verbs.iter().any(|verb| token.is_word(text, verb)));
        if let (Some(run), Some(verb)) = (run, verb)
            && run < verb
        {
            reader.at = verb + 1;
            explained = false;
        }
    } else if dialect.family == Family::Mariadb
        && reader.word(0) == "analyze"
        && reader.word(1) != "table"
        && !reader.word(1).contains("local")
    {
        reader.skip(&["analyze", "format"]);
        if reader
            .list
            .get(reader.at)
            .is_some_and(|t| t.of(text) == "=")
        {
            reader.at += 1;
            reader.skip(&["json", "traditional"]);
        }
    }
    let mut within = None;
    if reader.word(0) == "with" {
        within = inner_write(text, &reader.list[reader.at..], dialect);
        reader.find(&[
            "select", "insert", "update", "delete", "replace", "values", "merge",
        ]);
    }
    let verb = reader.word(0);
    reader.at += 1;
    let modifiers = [
        "low_priority",
        "quick",
        "ignore",
        "delayed",
        "high_priority",
        "only",
    ];
    let (effect, sweep, target) = match verb.as_str() {
        _ if explained => (Effect::Read, None, None),
        "select" | "values" | "table" if within.is_some() => within
            .map(|within| (within.effect, within.sweep, within.target))
            .unwrap_or((Effect::Read, None, None)),
        // Written to a file of the server, or into a new table.
        "select" if dialect.family != Family::Sqlite && reader.find(&["into"]) => {
            (Effect::Write, None, None)
        }
        "select" | "values" | "show" | "describe" | "desc" | "table" => (Effect::Read, None, None),
        "copy" => match reader.find(&["from"]) {
            true => {
                reader.at = 1;
                (Effect::Write, None, reader.name())
            }
            false => (Effect::Read, None, None),
        },
        "load" | "merge" => {
            reader.find(&["into"]);
            reader.at += 1;
            reader.skip(&["table"]);
            (Effect::Write, None, reader.name())
        }
        "insert" | "replace" => {
            reader.skip(&modifiers);
            if dialect.family != Family::Mariadb || reader.word(0) == "into" {
                reader.find(&["into"]);
                reader.at += 1;
            }
            (Effect::Write, None, reader.name())
        }
        "truncate" => {
            reader.skip(&["table", "only"]);
            let table = reader.name();
            let sweep = table.clone().map(|table| Sweep::DeleteAll { table });
            (Effect::Write, sweep, table)
        }
        "delete" => {
            reader.skip(&modifiers);
            reader.skip(&["from"]);
            reader.skip(&modifiers);
            let table = reader.name();
            let all = !reader.find(&["where"]) || {
                reader.at += 1;
                reader.constant_condition()
            };
            let sweep = table
                .clone()
                .filter(|_| all)
                .map(|table| Sweep::DeleteAll { table });
            (Effect::Write, sweep, table)
        }
        "update" => {
            if reader.word(0) == "or" {
                reader.at += 2;
            }
            reader.skip(&modifiers);
            let table = reader.name();
            let all = !reader.find(&["where"]) || {
                reader.at += 1;
                reader.constant_condition()
            };
            let sweep = table
                .clone()
                .filter(|_| all)
                .map(|table| Sweep::UpdateAll { table });
            (Effect::Write, sweep, table)
        }
        "drop" => {
            reader.skip(&["temporary", "materialized", "foreign", "event"]);
            let kind = match reader.word(0).as_str() {
                "schema" if dialect.family == Family::Mariadb => "database".to_string(),
                word => word.to_string(),
            };
            reader.at += 1;
            reader.skip(&["concurrently", "if", "exists"]);
            let name = reader.name();
            let sweep = name.clone().map(|name| Sweep::Drop { kind, name });
            (Effect::Definition, sweep, name)
        }
        "alter" => {
            reader.skip(&["online", "ignore", "table", "if", "exists", "only"]);
            let table = reader.name();
            let mut sweep = None;
            if reader.word(0) == "drop" {
                reader.at += 1;
                reader.skip(&["column"]);
                if let (Some(table), Some(column)) = (table.clone(), reader.name()) {
                    sweep = Some(Sweep::DropColumn { table, column });
                }
            }
            (Effect::Definition, sweep, table)
        }
        "create" => {
            reader.skip(&[
                "or",
                "replace",
                "global",
                "local",
                "temp",
                "temporary",
                "unlogged",
            ]);
            reader.skip(&["unique", "virtual", "materialized", "foreign", "recursive"]);
            reader.at += 1;
            reader.skip(&["if", "not", "exists"]);
            (Effect::Definition, None, reader.name())
        }
        "begin" if reader.word(0) == "not" => (Effect::Other, None, None),
        "start" if reader.word(0) != "transaction" => (Effect::Other, None, None),
        "begin" | "start" | "commit" | "end" | "rollback" | "savepoint" | "release" | "abort" => {
            (Effect::Transaction, None, None)
        }
        _ => (Effect::Other, None, None),
    };
    Summary {
        verb,
        effect,
        sweep,
        target,
    }
}

/// The same for the flow language, from its tree.
fn of_flow(text: &str) -> Summary {
    use crate::flow::ast::{Definition, Source, StageKind, Statement, Write};
    let verb = text
        .split_whitespace()
        .next()
        .unwrap_or_default()
        .to_ascii_lowercase();
    let nothing = |effect| Summary {
        verb: verb.clone(),
        effect,
        sweep: None,
        target: None,
    };
    let zone = idle_tide_core::document::time::TimeZone::UTC;
    let Some(statement) = crate::flow::parse(text, &zone).statement else {
        return nothing(Effect::Other);
    };
    let writes = crate::flow::compile::writes(&statement);
    let sweep_of = |sweep: Option<Sweep>, effect, target: &str| Summary {
        verb: verb.clone(),
        effect,
        sweep,
        target: Some(target.into()),
    };
    let drop = |kind: &str, name: &str| {
        Some(Sweep::Drop {
            kind: kind.into(),
            name: name.into(),
        })
    };
    match &statement {
        Statement::Flow(flow) => {
            let saved = flow.stages.iter().find_map(|stage| match &stage.kind {
                StageKind::Save {
                    collection, over, ..
                } => Some((collection.name.clone(), *over)),
                _ => None,
            });
            let read = match &flow.source {
                Source::Collection(name) => Some(name.name.clone()),
                _ => None,
            };
            Summary {
                verb,
                effect: if writes { Effect::Write } else { Effect::Read },
                sweep: saved
                    .clone()
                    .filter(|(_, over)| *over)
                    .map(|(table, _)| Sweep::Replace { table }),
                target: saved.map(|(name, _)| name).or(read.filter(|_| writes)),
            }
        }
        Statement::Write(write) => match write {
            Write::Insert { collection, .. } => sweep_of(None, Effect::Write, &collection.name),
            Write::Update {
                collection,
                predicate,
                ..
            } => {
                let table = collection.name.clone();
                sweep_of(
                    predicate.is_none().then_some(Sweep::UpdateAll { table }),
                    Effect::Write,
                    &collection.name,
                )
            }
            Write::Delete {
                collection,
                predicate,
            } => {
                let table = collection.name.clone();
                sweep_of(
                    predicate.is_none().then_some(Sweep::DeleteAll { table }),
                    Effect::Write,
                    &collection.name,
                )
            }
            Write::Empty { collection } => {
                let table = collection.name.clone();
                sweep_of(
                    Some(Sweep::DeleteAll { table }),
                    Effect::Write,
                    &collection.name,
                )
            }
        },
        Statement::Definition(definition) => match definition {
            Definition::CreateCollection(name) | Definition::Rename { from: name, .. } => {
                sweep_of(None, Effect::Definition, &name.name)
            }
            Definition::CreateIndex { collection, .. } => {
                sweep_of(None, Effect::Definition, &collection.name)
            }
            Definition::DropCollection(name) => sweep_of(
                drop("collection", &name.name),
                Effect::Definition,
                &name.name,
            ),
            Definition::DropDatabase(name) => {
                sweep_of(drop("database", &name.name), Effect::Definition, &name.name)
            }
            Definition::DropIndex { name, collection } => sweep_of(
                drop("index", &name.name),
                Effect::Definition,
                &collection.name,
            ),
            Definition::DropUser(name) => {
                sweep_of(drop("user", &name.name), Effect::Definition, &name.name)
            }
            Definition::CreateUser { .. } | Definition::ChangePassword { .. } => {
                nothing(Effect::Definition)
            }
        },
        Statement::Call(_) if writes => nothing(Effect::Write),
        Statement::Call(_) => nothing(Effect::Read),
        Statement::Transaction(_) => nothing(Effect::Transaction),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;

    #[test]
    fn flows_say_what_they_do() {
        let of = |text: &str| {
            let summary = summary(text, &crate::dialect::FLOW);
            (summary.effect, summary.sweep.is_some(), summary.target)
        };
        let target = |name: &str| Some(name.to_string());
        assert_eq!(of("from a where b = 1"), (Effect::Read, false, None));
        assert_eq!(
            of("from a save into b"),
            (Effect::Write, false, target("b"))
        );
        assert_eq!(of("from a save over b"), (Effect::Write, true, target("b")));
        assert_eq!(
            of("from a raw [{$out: 'b'}]"),
            (Effect::Write, false, target("a"))
        );
        assert_eq!(
            of("from a raw [{$lookup: {from: 'b', as: 'c', pipeline: [{$merge: 'd'}]}}]").0,
            Effect::Write
        );
        assert_eq!(of("from a raw [{$match: {b: 1}}]").0, Effect::Read);
        assert_eq!(
            of("delete from a where b = 1"),
            (Effect::Write, false, target("a"))
        );
        assert!(of("delete all from a").1);
        assert!(of("empty a").1);
        assert_eq!(
            of("drop collection a"),
            (Effect::Definition, true, target("a"))
        );
        assert_eq!(of("call { ping: 1 }").0, Effect::Read);
        assert_eq!(
            of("call { explain: { delete: 'a', deletes: [] } }").0,
            Effect::Write
        );
        assert_eq!(
            of("call { aggregate: 'a', pipeline: [{ $out: 'b' }] }").0,
            Effect::Write
        );
        assert_eq!(of("call { shutdown: 1 }").0, Effect::Write);
    }

    fn sweep(text: &str) -> Option<Sweep> {
        summary(text, &SQLITE).sweep
    }

    #[test]
    fn what_touches_everything_is_seen() {
        let all = |table: &str| {
            Some(Sweep::DeleteAll {
                table: table.into(),
            })
        };
        assert_eq!(sweep("delete from visits;"), all("visits"));
        assert_eq!(
            sweep("DELETE FROM \"visits\" -- where id = 1"),
            all("visits")
        );
        assert_eq!(
            sweep("delete from main.visits where 1 = 1 or true"),
            all("main.visits")
        );
        assert_eq!(
            sweep("with x as (select 1 where 1) delete from visits"),
            all("visits")
        );
        assert_eq!(sweep("delete from visits where id = 4"), None);
        assert_eq!(sweep("explain delete from visits"), None);
        assert_eq!(
            sweep("update or ignore dues set amount = (select 1 from visits where id = 1)"),
            Some(Sweep::UpdateAll {
                table: "dues".into()
            })
        );
        assert_eq!(sweep("update dues set amount = 1 where :all"), None);
        assert_eq!(
            sweep("drop table if exists dues"),
            Some(Sweep::Drop {
                kind: "table".into(),
                name: "dues".into()
            })
        );
        assert_eq!(
            sweep("alter table dues drop column amount"),
            Some(Sweep::DropColumn {
                table: "dues".into(),
                column: "amount".into()
            })
        );
    }

    #[test]
    fn effects_and_targets() {
        let of = |text: &str| {
            let summary = summary(text, &SQLITE);
            (summary.effect, summary.target)
        };
        assert_eq!(of("values (1)"), (Effect::Read, None));
        assert_eq!(
            of("with x as (select 1) insert into dues select * from x"),
            (Effect::Write, Some("dues".into()))
        );
        assert_eq!(
            of("create temp table if not exists t (a)"),
            (Effect::Definition, Some("t".into()))
        );
        assert_eq!(of("rollback"), (Effect::Transaction, None));
        assert_eq!(of(""), (Effect::Other, None));
    }

    #[test]
    fn what_servers_run_is_seen_wherever_it_stands() {
        use crate::dialect::{MARIADB, POSTGRES};
        let sweeps = |text: &str, dialect| summary(text, dialect).sweep.is_some();
        for text in [
            "explain analyze delete from visits",
            "explain (analyze, verbose) update visits set dues = 0",
            "with gone as (delete from visits returning *) select count(*) from gone",
            "truncate table only visits",
            "drop materialized view busy",
            "drop database harbour",
        ] {
            assert!(sweeps(text, &POSTGRES), "{text}");
        }
        for text in [
            "/*!50000 delete from visits */",
            "analyze delete from visits",
            "analyze format=json delete from visits",
            "delete quick from visits",
            "update low_priority visits set dues = 0",
            "truncate visits",
        ] {
            assert!(sweeps(text, MARIADB), "{text}");
        }
        assert!(!sweeps("explain delete from visits", &POSTGRES));
        assert!(!sweeps("analyze table visits", MARIADB));
        assert_eq!(
            summary("start transaction", MARIADB).effect,
            Effect::Transaction
        );
        assert_eq!(
            summary("begin not atomic select 1; end", MARIADB).effect,
            Effect::Other
        );
        assert_eq!(
            summary("insert visits values (1)", MARIADB)
                .target
                .as_deref(),
            Some("visits")
        );
        assert_eq!(
            summary("copy berths from stdin", &POSTGRES)
                .target
                .as_deref(),
            Some("berths")
        );
    }
}
