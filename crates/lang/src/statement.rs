//! What kind of statement this is, and whether it sweeps: touches every row of a table or removes an
//! object. It reads tokens, not the database, so it says what the statement asks for, not what will happen.

use crate::dialect::Dialect;
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

/// Summarises one statement.
pub fn summary(text: &str, dialect: &Dialect) -> Summary {
    let mut reader = Reader {
        text,
        list: significant(&tokens(text, dialect)),
        at: 0,
    };
    let explained = reader.word(0) == "explain";
    if reader.word(0) == "with" {
        reader.find(&["select", "insert", "update", "delete", "replace", "values"]);
    }
    let verb = reader.word(0);
    reader.at += 1;
    let (effect, sweep, target) = match verb.as_str() {
        _ if explained => (Effect::Read, None, None),
        "select" | "values" => (Effect::Read, None, None),
        "insert" | "replace" => {
            reader.find(&["into"]);
            reader.at += 1;
            (Effect::Write, None, reader.name())
        }
        "delete" => {
            reader.skip(&["from"]);
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
            let kind = reader.word(0);
            reader.at += 1;
            reader.skip(&["if", "exists"]);
            let name = reader.name();
            let sweep = name.clone().map(|name| Sweep::Drop { kind, name });
            (Effect::Definition, sweep, name)
        }
        "alter" => {
            reader.skip(&["table"]);
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
            reader.skip(&["temp", "temporary", "unique", "virtual"]);
            reader.at += 1;
            reader.skip(&["if", "not", "exists"]);
            (Effect::Definition, None, reader.name())
        }
        "begin" | "commit" | "end" | "rollback" | "savepoint" | "release" => {
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;

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
}
