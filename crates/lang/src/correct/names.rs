//! Slips in the names of tables, columns and functions.

use super::*;
use crate::scope::made_on;

impl Case<'_> {
    pub(super) fn no_table(&self, name: &str) -> Advice {
        let token = self.named(name);
        let plain = name.rsplit('.').next().unwrap_or(name);
        // What the statement defines is meant before what the database has.
        let common = scope(self.text, self.all, 0, self.dialect).common;
        let common = common.iter().map(String::as_str);
        let names = common.chain(self.catalog.tables().map(|object| object.name.as_str()));
        let corrections = token.map_or(Vec::new(), |token| {
            nearest(plain, names, 4)
                .into_iter()
                .map(|near| {
                    let detail = self
                        .catalog
                        .table(&near)
                        .map(|object| match object.rows {
                            Some(rows) => format!("{}, {rows} rows", object.kind.word()),
                            None => object.kind.word().to_string(),
                        })
                        .unwrap_or_default();
                    self.replace(token, &self.dialect.quote_name(&near), &near, detail)
                })
                .collect()
        });
        Advice {
            headline: format!("There is no table or view {name}."),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    /// Names that the statement gives itself: behind `as`, those of tables that it defines, and the columns of a table that it
    /// makes.
    pub(super) fn given_names(&self) -> Vec<String> {
        let mut names = scope(self.text, self.all, 0, self.dialect).common;
        let is = |at: usize, word: &str| {
            let token = self.list.get(at);
            token.is_some_and(|token| token.is_word(self.text, word))
        };
        let makes_table = is(0, "create") && (1..5).any(|at| is(at, "table"));
        let mut depth = 0;
        // Behind the `as` of a view stands what it is.
        let mut names_things = !is(0, "create");
        for (at, token) in self.list.iter().enumerate() {
            names_things |= is(at, "select");
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close => depth -= 1,
                _ => {}
            }
            let begins = matches!(token.kind, TokenKind::Open | TokenKind::Comma);
            if names_things && is(at, "as") || makes_table && depth == 1 && begins {
                let name = self.list.get(at + 1).and_then(|next| next.name(self.text));
                names.extend(name.filter(|name| !self.dialect.is_keyword(name)));
            }
        }
        names
    }

    /// The tables of the statement, with those of the catalog that exist.
    pub(super) fn tables(&self) -> Vec<TableUse> {
        scope(self.text, self.all, 0, self.dialect).tables
    }

    pub(super) fn no_column(&self, name: &str) -> Advice {
        let token = self.named(name);
        let mut parts = name.rsplit('.');
        let plain = parts.next().unwrap_or(name);
        let qualifier = parts.next();
        let tables = self.tables();
        let fits = |table: &&TableUse| {
            qualifier.is_none_or(|qualifier| table.qualifier().eq_ignore_ascii_case(qualifier))
        };
        let mut corrections = Vec::new();
        let mut place = String::new();
        if let Some(token) = token {
            // A text in double quotes where the server looked for a column.
            let written = token.of(self.text);
            if written.starts_with('"') {
                let inner = token.name(self.text).unwrap_or_default();
                let quoted = format!("'{}'", inner.replace('\'', "''"));
                corrections.push(self.replace(
                    token,
                    &quoted,
                    &quoted,
                    "a text, in single quotes".into(),
                ));
            }
            let mut known: Vec<(&str, &TableUse)> = Vec::new();
            for table in tables.iter().filter(fits) {
                if let Some(object) = self.catalog.table(&table.name) {
                    known.extend(
                        object
                            .fields
                            .iter()
                            .map(|field| (field.name.as_str(), table)),
                    );
                }
            }
            let given = match qualifier {
                None => self.given_names(),
                Some(_) => Vec::new(),
            };
            let made = made_on(self.text, self.list, "index").filter(|_| qualifier.is_none());
            let made = made.and_then(|table| self.catalog.table(&table));
            let made = made.map_or(&[][..], |object| &object.fields);
            let words = ["null", "true", "false"].into_iter();
            let words = words.filter(|word| qualifier.is_none() && self.dialect.is_keyword(word));
            let names = known.iter().map(|(field, _)| *field);
            let names = names
                .chain(made.iter().map(|field| field.name.as_str()))
                .chain(given.iter().map(String::as_str))
                .chain(words);
            let names = names.filter(|name| !name.eq_ignore_ascii_case(plain));
            for near in nearest(plain, names, 4) {
                let owner = known
                    .iter()
                    .find(|(field, _)| *field == near)
                    .map(|(_, t)| *t);
                let detail = owner
                    .map(|owner| self.describe(&owner.name, &near))
                    .unwrap_or_default();
                let is_word = owner.is_none() && !given.contains(&near);
                let text = match is_word && self.dialect.is_keyword(&near) {
                    true => near.clone(),
                    false => self.dialect.quote_name(&near),
                };
                corrections.push(self.replace(token, &text, &near, detail));
            }
            if let Some(qualifier) = qualifier {
                if let Some(table) = tables.iter().find(fits) {
                    place = format!(" in {}", table.name);
                    // The same column of another table of the statement.
                    for other in tables.iter().filter(|t| !fits(t)) {
                        let Some(object) = self.catalog.table(&other.name) else {
                            continue;
                        };
                        if let Some(field) = object.field(plain) {
                            let start = self.qualified_from(token);
                            let text = format!(
                                "{}.{}",
                                other.qualifier(),
                                self.dialect.quote_name(&field.name)
                            );
                            corrections.push(Correction {
                                label: text.clone(),
                                detail: self.describe(&other.name, &field.name),
                                edit: Edit {
                                    span: start..token.end,
                                    text,
                                },
                            });
                        }
                    }
                } else {
                    return self.no_qualifier(qualifier, &tables, token);
                }
            } else if tables.len() == 1 {
                place = format!(" in {}", tables[0].name);
            }
        }
        Advice {
            headline: format!("There is no column {plain}{place}."),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    /// Where a name begins with all that qualifies it.
    fn qualified_from(&self, token: Token) -> usize {
        let at = self
            .list
            .iter()
            .position(|known| known.start == token.start);
        let mut before = at.map_or(&[][..], |at| &self.list[..at]);
        let mut start = token.start;
        while let [rest @ .., qualifier, dot] = before
            && dot.kind == TokenKind::Dot
        {
            start = qualifier.start;
            before = rest;
        }
        start
    }

    /// `x.name` where no table of the statement is called x.
    pub(super) fn no_qualifier(
        &self,
        qualifier: &str,
        tables: &[TableUse],
        column: Token,
    ) -> Advice {
        let at = self
            .list
            .iter()
            .position(|token| token.start == column.start);
        let token = at.and_then(|at| at.checked_sub(2)).map(|at| self.list[at]);
        let corrections = token.map_or(Vec::new(), |token| {
            let mut names = nearest(qualifier, tables.iter().map(TableUse::qualifier), 3);
            for table in tables {
                let has = self
                    .catalog
                    .table(&table.name)
                    .is_some_and(|object| object.field(column.of(self.text)).is_some());
                if has && !names.iter().any(|name| name == table.qualifier()) {
                    names.push(table.qualifier().to_string());
                }
            }
            names
                .into_iter()
                .map(|name| {
                    let detail = tables
                        .iter()
                        .find(|table| table.qualifier() == name)
                        .map_or(String::new(), |table| format!("stands for {}", table.name));
                    self.replace(token, &name, &name, detail)
                })
                .collect()
        });
        Advice {
            headline: format!("No table of this statement is called {qualifier}."),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    /// A column's type and link in a few words, for a correction's detail.
    pub(super) fn describe(&self, table: &str, column: &str) -> String {
        let Some(object) = self.catalog.table(table) else {
            return String::new();
        };
        let declared = object.field(column).map_or("", |f| f.declared.as_str());
        let link = object
            .link_of(column)
            .map_or(String::new(), |link| format!(", links to {}", link.table));
        let what = if declared.is_empty() {
            "column"
        } else {
            declared
        };
        format!("{} in {table}{link}", what.to_lowercase())
    }

    pub(super) fn ambiguous(&self, name: &str) -> Advice {
        let token = self.named(name);
        let owners: Vec<TableUse> = self
            .tables()
            .into_iter()
            .filter(|table| {
                self.catalog
                    .table(&table.name)
                    .is_some_and(|object| object.field(name).is_some())
            })
            .collect();
        let corrections = token.map_or(Vec::new(), |token| {
            owners
                .iter()
                .map(|table| {
                    let text = format!(
                        "{}.{}",
                        self.dialect.quote_name(table.qualifier()),
                        token.of(self.text)
                    );
                    self.replace(token, &text, &text, format!("the one of {}", table.name))
                })
                .collect()
        });
        let names: Vec<_> = owners.iter().map(|table| table.name.clone()).collect();
        Advice {
            headline: if names.is_empty() {
                format!("{name} could be a column of more than one table.")
            } else {
                format!(
                    "{} each have a column {name}: say which.",
                    names.join(" and ")
                )
            },
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }

    pub(super) fn no_function(&self, name: &str) -> Advice {
        let token = self.named(name);
        let names = self.dialect.functions.iter().map(|(name, _)| *name);
        let corrections = token.map_or(Vec::new(), |token| {
            nearest(name, names, 4)
                .into_iter()
                .map(|near| {
                    let arguments = self.dialect.functions.iter().find(|(f, _)| *f == near);
                    let detail = arguments.map_or(String::new(), |(_, a)| format!("({a})"));
                    self.replace(token, &near, &near, detail)
                })
                .collect()
        });
        Advice {
            headline: format!("{} has no function {name}.", self.dialect.name),
            span: token.map(|token| token.start..token.end),
            corrections,
        }
    }
}
