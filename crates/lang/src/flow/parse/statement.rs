//! Statements: flows, writes, definitions, commands of the server.

use idle_tide_core::Datum;

use super::super::FlowError;
use super::super::ast::{Definition, Expr, Name, Node, Statement, Step, Transaction, Write};
use super::super::token::TokenKind;
use super::{Parser, Result, sounds_like_sql};

impl Parser<'_> {
    pub(super) fn statement(&mut self) -> Option<Statement> {
        let start = self.span().start;
        if self.list.is_empty() || self.list.len() == 1 && self.is_sign(";") {
            return None;
        }
        if self.take_word("from") {
            let flow = self.flow(start);
            self.the_end();
            return flow.map(Statement::Flow);
        }
        match self.other_statement() {
            Ok(statement) => {
                self.the_end();
                Some(statement)
            }
            Err(mut error) => {
                if sounds_like_sql(self.text)
                    && let Some(flow) = crate::flow::translate::flow_for_sql(self.text)
                {
                    error.message =
                        format!("This database takes flows, not SQL. The same as a flow:  {flow}");
                    error.span = 0..self.text.len();
                    error.nearest = vec![flow];
                } else if sounds_like_sql(self.text) {
                    error.nearest.clear();
                    error.message = "This database takes flows, not SQL:  from collection where condition order by path limit 10;  The guide has a page on them (/help flows).".into();
                }
                self.errors.push(error);
                None
            }
        }
    }

    fn the_end(&mut self) {
        self.take_sign(";");
        if self.peek().is_some() && self.errors.is_empty() {
            let error = self
                .error("The statement ends before this; a semicolon goes between two statements.");
            self.errors.push(error);
        }
    }

    fn other_statement(&mut self) -> Result<Statement> {
        let word = self.here().to_ascii_lowercase();
        let is_word = self.peek().is_some_and(|t| t.kind == TokenKind::Word);
        self.at += usize::from(is_word);
        let statement = match word.as_str() {
            "insert" => {
                self.want_word("into", "into")?;
                let collection = self.collection()?;
                if !self.is_sign("{") && !self.is_sign("[") && !self.is_sign(":") {
                    return Err(self.expected("an object { ... } or a list of them [ ... ]"));
                }
                let documents = self.expression(8)?;
                // An object of Extended JSON may stand for a value that is none.
                let given = match &documents.node {
                    Node::List(list) => list.as_slice(),
                    _ => std::slice::from_ref(&documents),
                };
                if let Some(other) = given
                    .iter()
                    .find(|e| !matches!(e.node, Node::Object(_) | Node::Parameter(..)))
                {
                    return Err(FlowError::at(
                        other.span.clone(),
                        "Only objects can be put into a collection.",
                    ));
                }
                Statement::Write(Write::Insert {
                    collection,
                    documents,
                })
            }
            "update" => Statement::Write(self.update()?),
            "delete" => Statement::Write(self.delete()?),
            "empty" => Statement::Write(Write::Empty {
                collection: self.collection()?,
            }),
            "create" => Statement::Definition(self.create()?),
            "drop" => Statement::Definition(self.drop()?),
            "rename" => {
                self.want_word("collection", "collection")?;
                let from = self.collection()?;
                self.want_word("to", "to")?;
                Statement::Definition(Definition::Rename {
                    from,
                    to: self.collection()?,
                })
            }
            "change" => {
                self.want_word("password", "password")?;
                let of = if self.take_word("of") {
                    Some(self.user()?)
                } else {
                    None
                };
                let password = self.password(true)?;
                Statement::Definition(Definition::ChangePassword { of, password })
            }
            "call" => {
                let command = self.expression(8)?;
                if !matches!(&command.node, Node::Object(fields) if !fields.is_empty()) {
                    return Err(FlowError::at(
                        command.span,
                        "A command is an object whose first field is its name:  call { ping: 1 }.",
                    ));
                }
                Statement::Call(command)
            }
            "begin" => Statement::Transaction(Transaction::Begin),
            "start" if self.take_word("transaction") => Statement::Transaction(Transaction::Begin),
            "commit" => Statement::Transaction(Transaction::Commit),
            "rollback" => Statement::Transaction(Transaction::Rollback),
            _ => {
                self.at = 0;
                return Err(self.unknown_start());
            }
        };
        Ok(statement)
    }

    fn update(&mut self) -> Result<Write> {
        let start = self.span();
        let all = self.is_word("all")
            && self
                .ahead(1)
                .is_some_and(|t| matches!(t.kind, TokenKind::Word | TokenKind::Name))
            && !self.is_word_at(1, "set")
            && !self.is_word_at(1, "where");
        self.at += usize::from(all);
        let collection = self.collection()?;
        let mut predicate = None;
        let (mut set, mut remove) = (Vec::new(), Vec::new());
        loop {
            let here = self.span();
            if self.take_word("where") {
                if all {
                    return Err(FlowError::at(here, "all and where exclude each other."));
                }
                predicate = Some(self.condition()?);
            } else if self.take_word("set") {
                loop {
                    let path = self.path("the path that is set")?;
                    self.want_sign("=", "= and a value")?;
                    set.push((path, self.expression(0)?));
                    if !self.take_sign(",") {
                        break;
                    }
                }
            } else if self.take_word("remove") {
                remove.extend(self.paths()?);
            } else {
                break;
            }
        }
        if predicate.is_none() && !all {
            return Err(FlowError {
                message: format!(
                    "Which documents? Add  where condition, or write  update all {}  to change every one.",
                    collection.name
                ),
                span: start.start..collection.span.end,
                nearest: vec![format!(
                    "all {}",
                    self.text.get(collection.span.clone()).unwrap_or_default()
                )],
            });
        }
        if set.is_empty() && remove.is_empty() {
            return Err(self.expected("set path = value, or remove path,"));
        }
        if let Some((path, _)) = set.iter().find(|(path, _)| {
            path.steps
                .iter()
                .any(|s| matches!(s, Step::Index(n) if *n < 0))
        }) {
            return Err(FlowError::at(
                path.span.clone(),
                "An element that is set is counted from the front.",
            ));
        }
        Ok(Write::Update {
            collection,
            predicate,
            set,
            remove,
        })
    }

    fn delete(&mut self) -> Result<Write> {
        let start = self.span();
        let all = self.take_word("all");
        self.want_word("from", "from")?;
        let collection = self.collection()?;
        if self.take_word("where") {
            if all {
                return Err(FlowError::at(start, "all and where exclude each other."));
            }
            return Ok(Write::Delete {
                collection,
                predicate: Some(self.condition()?),
            });
        }
        if !all {
            return Err(FlowError {
                message: format!(
                    "Which documents? Add  where condition, or write  delete all from {}.",
                    collection.name
                ),
                span: start.clone(),
                nearest: vec!["all from".into()],
            });
        }
        Ok(Write::Delete {
            collection,
            predicate: None,
        })
    }

    fn user(&mut self) -> Result<Name> {
        self.name("the name of a user")
    }

    /// A password that is given, or a parameter for it.
    fn password(&mut self, to: bool) -> Result<Option<Expr>> {
        if !self.take_word(if to { "to" } else { "password" }) {
            return Ok(None);
        }
        let given = self.expression(8)?;
        match &given.node {
            Node::Parameter(..) | Node::Literal(Datum::Text(_)) => Ok(Some(given)),
            _ => Err(FlowError::at(
                given.span,
                "A password is a text. Left out, it is asked for and shows nowhere.",
            )),
        }
    }

    fn create(&mut self) -> Result<Definition> {
        if self.take_word("collection") {
            return Ok(Definition::CreateCollection(self.collection()?));
        }
        let unique = self.take_word("unique");
        if self.take_word("index") {
            let name = if self.is_word("on") && self.ahead_text(2) == "("
                || self.is_word("on") && !self.is_word_at(1, "on")
            {
                None
            } else {
                Some(self.name("the name of the index, or on")?)
            };
            self.want_word("on", "on")?;
            let collection = self.collection()?;
            let open = self.span();
            self.want_sign("(", "an opening ( with the paths")?;
            let paths = self.ordered_paths()?;
            self.close(")", open, "a comma ")?;
            return Ok(Definition::CreateIndex {
                unique,
                name,
                collection,
                paths,
            });
        }
        if self.take_word("user") {
            let name = self.user()?;
            let mut roles = Vec::new();
            if self.take_word("with") {
                self.want_word("roles", "roles")?;
                let list = self.expression(8)?;
                let given = list.constant().unwrap_or(Datum::Null);
                let texts: Option<Vec<String>> = given
                    .as_list()
                    .and_then(|l| l.iter().map(|v| v.as_text().map(str::to_string)).collect());
                roles = texts.ok_or_else(|| {
                    FlowError::at(
                        list.span,
                        "Roles are a list of texts:  with roles ['read'].",
                    )
                })?;
            }
            let password = self.password(false)?;
            return Ok(Definition::CreateUser {
                name,
                roles,
                password,
            });
        }
        Err(self.expected("collection, index, unique index or user"))
    }

    fn drop(&mut self) -> Result<Definition> {
        if self.take_word("collection") {
            return Ok(Definition::DropCollection(self.collection()?));
        }
        if self.take_word("database") {
            return Ok(Definition::DropDatabase(
                self.name("the name of a database")?,
            ));
        }
        if self.take_word("user") {
            return Ok(Definition::DropUser(self.user()?));
        }
        if self.take_word("index") {
            let name = self.name("the name of an index")?;
            self.want_word("on", "on")?;
            return Ok(Definition::DropIndex {
                name,
                collection: self.collection()?,
            });
        }
        Err(self.expected("collection, database, index or user"))
    }
}
