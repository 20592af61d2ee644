//! A session: what it has been told, and how statements run in it.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use idle_tide_tabular::token::{
    DoneOf, put_columns, put_done, put_environment, put_message, put_row, put_status,
};
use idle_tide_tabular::types::{ANY, id};
use idle_tide_tabular::{Done, Environment, Field, TypeInfo, Value as Wire};
use rusqlite::Connection;
use rusqlite::hooks::{AuthAction, AuthContext, Authorization};
use rusqlite::types::Value;
use sqlparser::ast::{
    BinaryOperator, CastKind, DeclareAssignment, Expr, ObjectName, OutputClause, Query, SelectItem,
    SelectItemQualifiedWildcardKind, Set, SetExpr, Statement, Use, Value as Literal, ValueWithSpan,
    VisitMut,
};
use sqlparser::dialect::MsSqlDialect;
use sqlparser::parser::Parser;

use crate::Shared;
use crate::batch::{self, BREAK, CONTINUE, What};
use crate::failure::{Failure, GONE, STOPPED};
use crate::functions::{Told, VERSION, install};
use crate::link::Link;
use crate::schema::{Declared, declared};
use crate::translate::{Translate, one, place};

/// A variable.
#[derive(Debug, Clone)]
pub(crate) struct Variable {
    pub(crate) info: TypeInfo,
    pub(crate) value: Value,
}

/// How a run of statements came to its end.
pub(crate) enum Flow {
    Next,
    Break,
    Continue,
    Return(i32),
}

/// A session.
pub(crate) struct Session {
    pub(crate) link: Arc<Mutex<Link>>,
    pub(crate) shared: Arc<Shared>,
    pub(crate) connection: Connection,
    pub(crate) database: String,
    pub(crate) login: String,
    pub(crate) number: i64,
    told: Arc<Told>,
    pub(crate) depth: u32,
    pub(crate) descriptor: u64,
    pub(crate) variables: HashMap<String, Variable>,
    rows: i64,
    error: i32,
    silent: bool,
    all_or_nothing: bool,
    plan_only: bool,
    measures: bool,
    stopped: Arc<AtomicBool>,
    pub(crate) pending: Option<Done>,
    pub(crate) within: bool,
    pub(crate) level: u32,
}

fn wire(value: &Value) -> Wire<'_> {
    match value {
        Value::Null => Wire::Null,
        Value::Integer(number) => Wire::Integer(*number),
        Value::Real(number) => Wire::Float(*number),
        Value::Text(text) => Wire::Text(text),
        Value::Blob(bytes) => Wire::Bytes(bytes),
    }
}

/// What a value says of its own type.
pub(crate) fn of_value(value: &Value, exact: bool) -> TypeInfo {
    match value {
        Value::Integer(number) if i32::try_from(*number).is_ok() => TypeInfo::of(id::INTN, 4),
        Value::Integer(_) => TypeInfo::of(id::INTN, 8),
        Value::Real(_) => TypeInfo::of(id::FLOATN, 8),
        Value::Text(text)
            if exact
                && !text.is_empty()
                && text
                    .bytes()
                    .all(|b| b.is_ascii_digit() || b == b'.' || b == b'-') =>
        {
            TypeInfo::decimal(
                38,
                text.split_once('.')
                    .map_or(0, |(_, after)| after.len().min(38) as u8),
            )
        }
        Value::Text(_) | Value::Null => TypeInfo::of(id::NVARCHAR, ANY),
        Value::Blob(_) => TypeInfo::of(id::VARBINARY, ANY),
    }
}

/// What a select list says of the types of its columns: the type, or that numbers in it are exact.
fn said(item: &SelectItem) -> (Option<TypeInfo>, bool) {
    let expr = match item {
        SelectItem::UnnamedExpr(expr) | SelectItem::ExprWithAlias { expr, .. } => expr,
        _ => return (None, false),
    };
    match expr {
        Expr::Cast { data_type, .. }
        | Expr::Convert {
            data_type: Some(data_type),
            ..
        } => (
            declared(&data_type.to_string()).map(|declared| declared.info),
            false,
        ),
        Expr::Function(function) => {
            let name = function.name.to_string().to_lowercase();
            let info = match name.as_str() {
                "getdate" | "getutcdate" | "current_timestamp" => {
                    Some(TypeInfo::of(id::DATETIMEN, 8))
                }
                "sysdatetime" | "sysutcdatetime" => Some(TypeInfo::scaled(id::DATETIME2, 7)),
                "sysdatetimeoffset" => Some(TypeInfo::scaled(id::DATETIMEOFFSET, 7)),
                "newid" => Some(TypeInfo::of(id::GUID, 16)),
                "count_big" => Some(TypeInfo::of(id::INTN, 8)),
                _ => None,
            };
            (
                info,
                matches!(
                    name.as_str(),
                    "sum" | "min" | "max" | "avg" | "isnull" | "coalesce" | "abs" | "round"
                ),
            )
        }
        Expr::Value(ValueWithSpan {
            value: Literal::Number(digits, _),
            ..
        }) if digits.contains('.') && !digits.contains(['e', 'E']) => {
            let (before, after) = digits.split_once('.').unwrap_or((digits, ""));
            (
                Some(TypeInfo::decimal(
                    (before.len() + after.len()).clamp(1, 38) as u8,
                    after.len().min(38) as u8,
                )),
                true,
            )
        }
        _ => (None, false),
    }
}

impl Session {
    pub(crate) fn new(
        link: Arc<Mutex<Link>>,
        shared: Arc<Shared>,
        login: &str,
        database: &str,
        number: i64,
    ) -> Result<Self, Failure> {
        let stopped = Arc::new(AtomicBool::new(false));
        let told = Arc::new(Told {
            database: String::new(),
            login: String::new(),
            all_powerful: false,
            identity: AtomicI64::new(0),
        });
        let mut session = Session {
            link,
            shared,
            connection: Connection::open_in_memory()?,
            database: String::new(),
            login: login.to_string(),
            number,
            told,
            depth: 0,
            descriptor: 0,
            variables: HashMap::new(),
            rows: 0,
            error: 0,
            silent: false,
            all_or_nothing: false,
            plan_only: false,
            measures: false,
            stopped,
            pending: None,
            within: false,
            level: 0,
        };
        session.go_to(database)?;
        Ok(session)
    }

    /// Goes to a database.
    pub(crate) fn go_to(&mut self, database: &str) -> Result<(), Failure> {
        let Some((name, path)) = self.shared.database(database) else {
            return Err(Failure::of(
                911,
                16,
                format!(
                    "Database '{database}' does not exist. Make sure that the name is entered correctly."
                ),
            ));
        };
        let mut connection = Connection::open(&path)?;
        connection.busy_timeout(self.shared.lock_patience)?;
        connection.execute_batch(
            "pragma journal_mode = wal; pragma synchronous = off; pragma foreign_keys = on;",
        )?;
        let told = Arc::new(Told {
            database: name.clone(),
            login: self.login.clone(),
            all_powerful: self.shared.is_all_powerful(&self.login),
            identity: AtomicI64::new(0),
        });
        install(&connection, &told)?;
        let (link, stopped) = (Arc::clone(&self.link), Arc::clone(&self.stopped));
        connection.progress_handler(
            100_000,
            Some(move || {
                let wants = link
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .wants_stop();
                if wants {
                    stopped.store(true, Ordering::SeqCst);
                }
                wants
            }),
        )?;
        (self.connection, self.database, self.told) = (connection, name, told);
        self.guard()
    }

    /// Who may not do everything sees the system's views and what was granted.
    fn guard(&mut self) -> Result<(), Failure> {
        if self.told.all_powerful {
            return Ok(());
        }
        let granted: HashSet<(String, String)> = {
            let mut query = self.connection.prepare(
                "select lower(o.name), p.permission_name from \"sys.database_permissions\" p join \"sys.objects\" o on o.object_id = p.major_id \
                 join \"sys.database_principals\" u on u.principal_id = p.grantee_principal_id where p.state = 'G' and (u.name = ?1 or u.name = 'public')",
            )?;
            let rows = query.query_map([&self.login], |row| Ok((row.get(0)?, row.get(1)?)))?;
            rows.collect::<Result<_, _>>()?
        };
        let may = move |table: &str, right: &str| {
            let own = table.starts_with("sys.")
                || table.starts_with("information_schema.")
                || table.starts_with("t_")
                || table.starts_with("sqlite_");
            own || table.starts_with('#')
                || granted.contains(&(table.to_lowercase(), right.to_string()))
        };
        self.connection
            .authorizer(Some(move |context: AuthContext<'_>| {
                let allowed = match context.action {
                    AuthAction::Read { table_name, .. } => may(table_name, "SELECT"),
                    AuthAction::Insert { table_name } => may(table_name, "INSERT"),
                    AuthAction::Update { table_name, .. } => may(table_name, "UPDATE"),
                    AuthAction::Delete { table_name } => may(table_name, "DELETE"),
                    _ => true,
                };
                match allowed {
                    true => Authorization::Allow,
                    false => Authorization::Deny,
                }
            }))?;
        Ok(())
    }

    pub(crate) fn say(&self, bytes: &[u8]) -> Result<(), Failure> {
        Ok(self
            .link
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .say(bytes)?)
    }

    /// The end of a statement is told when it is known whether more comes.
    pub(crate) fn tell_pending(&mut self, more: bool) -> Result<(), Failure> {
        if let Some(mut done) = self.pending.take() {
            if more {
                done.status |= Done::MORE;
            }
            let mut out = Vec::new();
            put_done(done, &mut out);
            self.say(&out)?;
        }
        Ok(())
    }

    pub(crate) fn done(&mut self, command: u16, rows: Option<u64>) -> Result<(), Failure> {
        self.tell_pending(true)?;
        let counted = rows.is_some() && !self.silent;
        self.pending = Some(Done {
            of: self.of(),
            status: if counted { Done::COUNT } else { 0 },
            command,
            rows: rows.unwrap_or(0),
        });
        Ok(())
    }

    /// Whose ends the ends of statements are now.
    fn of(&self) -> DoneOf {
        match self.within {
            true => DoneOf::Within,
            false => DoneOf::Statement,
        }
    }

    /// Says a failure or a notice.
    pub(crate) fn tell(&mut self, said: &Failure, line: u32) -> Result<(), Failure> {
        self.tell_pending(true)?;
        let mut out = Vec::new();
        put_message(&said.message(line), &mut out);
        self.say(&out)
    }

    fn environment(&mut self, change: &Environment, before: &str) -> Result<(), Failure> {
        self.tell_pending(true)?;
        let mut out = Vec::new();
        put_environment(change, before, &mut out);
        self.say(&out)
    }

    /// Runs a batch and ends its answer.
    pub(crate) fn batch(&mut self, text: &str) -> std::io::Result<()> {
        self.variables.clear();
        let outcome = self.text(text);
        self.finish(outcome.map(|_| ()), None)
    }

    /// Ends an answer, `status` that of a procedure.
    pub(crate) fn finish(
        &mut self,
        outcome: Result<(), Failure>,
        status: Option<i32>,
    ) -> std::io::Result<()> {
        let failed = match outcome {
            Err(error) if error.number == GONE => return Err(std::io::Error::other(error.text)),
            Err(error) => error.number == STOPPED || !self.stopped.load(Ordering::SeqCst),
            Ok(()) => false,
        };
        let stopped = {
            let mut link = self.link.lock().unwrap_or_else(PoisonError::into_inner);
            let wanted = self.stopped.swap(false, Ordering::SeqCst) || link.wants_stop();
            wanted && link.take_stop()
        };
        let gone = |failure: Failure| std::io::Error::other(failure.text);
        if let Some(status) = status {
            self.tell_pending(true).map_err(gone)?;
            let mut out = Vec::new();
            put_status(status, &mut out);
            self.say(&out).map_err(gone)?;
        }
        let mut last = match (self.pending.take(), status) {
            (Some(done), None) if !stopped => done,
            (pending, _) => {
                self.pending = pending;
                self.tell_pending(true).map_err(gone)?;
                Done {
                    of: if status.is_some() {
                        DoneOf::Procedure
                    } else {
                        DoneOf::Statement
                    },
                    status: 0,
                    command: 0,
                    rows: 0,
                }
            }
        };
        if stopped {
            last = Done::bare(DoneOf::Statement, Done::ATTENTION);
        } else if failed {
            last.status |= Done::ERROR;
        }
        let mut out = Vec::new();
        put_done(last, &mut out);
        self.say(&out).map_err(gone)?;
        self.link
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .end()
    }

    fn failed(&mut self, failure: Failure, line: u32) -> Result<(), Failure> {
        if matches!(failure.number, STOPPED | GONE) {
            return Err(failure);
        }
        self.error = failure.number;
        self.tell(&failure, line)?;
        self.pending = Some(Done::bare(self.of(), Done::ERROR));
        if self.all_or_nothing && self.depth > 0 {
            self.roll_back()?;
        }
        match failure.ends_batch() || self.all_or_nothing {
            true => Err(failure),
            false => Ok(()),
        }
    }

    /// Runs the statements of a text.
    pub(crate) fn text(&mut self, text: &str) -> Result<i32, Failure> {
        let steps = match batch::read(text) {
            Ok(steps) => steps,
            Err(error) => {
                let words = match error.near.as_str() {
                    "EOF" => "Incorrect syntax near the end of the batch.".to_string(),
                    near => format!("Incorrect syntax near '{near}'."),
                };
                let failure = Failure::of(102, 15, words);
                self.failed(failure.clone(), error.line)?;
                return Err(failure);
            }
        };
        for step in steps {
            match self.step(step.what, text) {
                Ok(Flow::Return(status)) => return Ok(status),
                Ok(_) => {}
                Err(failure) => self.failed(failure, step.line)?,
            }
        }
        Ok(0)
    }

    fn step(&mut self, what: What, text: &str) -> Result<Flow, Failure> {
        match what {
            What::Sql(statement) => return self.statement(*statement, text),
            What::Begin => self.begin()?,
            What::Commit => self.commit()?,
            What::Rollback(None) => self.roll_back()?,
            What::Rollback(Some(name)) => {
                let known = self
                    .connection
                    .execute_batch(&format!("rollback to {}", one(&format!("s_{name}"))));
                if known.is_err() {
                    self.roll_back()?;
                }
            }
            What::Save(name) => self
                .connection
                .execute_batch(&format!("savepoint {}", one(&format!("s_{name}"))))?,
            What::Option(words) => self.option(&words)?,
            What::Account(words) => self.account(&words)?,
        }
        Ok(Flow::Next)
    }

    pub(crate) fn begin(&mut self) -> Result<(), Failure> {
        if self.depth == 0 {
            self.connection.execute_batch("begin")?;
            self.descriptor = self.shared.next_transaction();
            self.environment(&Environment::Begun(self.descriptor), "")?;
        }
        self.depth += 1;
        self.done(0xd4, None)
    }

    pub(crate) fn commit(&mut self) -> Result<(), Failure> {
        match self.depth {
            0 => {
                return Err(Failure::of(
                    3902,
                    16,
                    "The COMMIT TRANSACTION request has no corresponding BEGIN TRANSACTION.",
                ));
            }
            1 => {
                self.connection.execute_batch("commit")?;
                self.environment(&Environment::Committed, &self.descriptor.to_string())?;
                self.descriptor = 0;
            }
            _ => {}
        }
        self.depth -= 1;
        self.done(0xd5, None)
    }

    pub(crate) fn roll_back(&mut self) -> Result<(), Failure> {
        if self.depth == 0 {
            return Err(Failure::of(
                3903,
                16,
                "The ROLLBACK TRANSACTION request has no corresponding BEGIN TRANSACTION.",
            ));
        }
        self.connection.execute_batch("rollback")?;
        self.environment(&Environment::RolledBack, &self.descriptor.to_string())?;
        (self.depth, self.descriptor) = (0, 0);
        self.done(0xd2, None)
    }

    /// The session as after its login.
    pub(crate) fn reset(&mut self) -> Result<(), Failure> {
        if self.depth > 0 {
            self.connection.execute_batch("rollback")?;
            (self.depth, self.descriptor) = (0, 0);
        }
        (self.silent, self.all_or_nothing, self.plan_only) = (false, false, false);
        let database = self.database.clone();
        self.go_to(&database)
    }

    fn option(&mut self, words: &[String]) -> Result<(), Failure> {
        let lower: Vec<String> = words.iter().map(|word| word.to_lowercase()).collect();
        let on = lower.last().is_some_and(|word| word == "on");
        match lower.first().map(String::as_str) {
            Some("nocount") => self.silent = on,
            Some("xact_abort") => self.all_or_nothing = on,
            Some("showplan_xml") => self.plan_only = on,
            Some("statistics") if lower.iter().any(|word| word == "xml") => self.measures = on,
            Some("lock_timeout") => {
                let wait = lower
                    .get(1)
                    .and_then(|word| word.parse().ok())
                    .map_or(self.shared.lock_patience, Duration::from_millis);
                self.connection.busy_timeout(wait)?;
            }
            _ => {}
        }
        Ok(())
    }

    fn account(&mut self, words: &[String]) -> Result<(), Failure> {
        let lower: Vec<String> = words.iter().map(|word| word.to_lowercase()).collect();
        let lower: Vec<&str> = lower.iter().map(String::as_str).collect();
        match lower[..] {
            ["alter", "login", _, "with", "password", ..] => {
                let (user, new) = (&words[2], &words[5]);
                if !user.eq_ignore_ascii_case(&self.login) && !self.told.all_powerful {
                    return Err(Failure::of(
                        15_151,
                        16,
                        format!(
                            "Cannot alter the login '{user}', because it does not exist or you do not have permission."
                        ),
                    ));
                }
                if let Some(at) = lower.iter().position(|word| *word == "old_password")
                    && !self
                        .shared
                        .knows(user, words.get(at + 1).map_or("", String::as_str))
                {
                    return Err(Failure::of(15_116, 14, "The old password is not right."));
                }
                self.shared.set_password(user, new);
            }
            ["create", "login", _, "with", "password", ..] => {
                self.shared.set_password(&words[2], &words[5])
            }
            ["create", "database", ..] => {
                self.shared.create(&words[2]).map_err(Failure::unknown)?
            }
            ["drop", "database", ..] => {
                let name = words.last().map_or("", String::as_str);
                let there = self.shared.remove(name);
                if !there && !lower.contains(&"exists") {
                    return Err(Failure::of(
                        3701,
                        11,
                        format!(
                            "Cannot drop the database '{name}', because it does not exist or you do not have permission."
                        ),
                    ));
                }
            }
            ["create", "schema", ..] => {
                self.connection.execute("insert into \"sys.schemas\" values (?1, (select max(schema_id) + 1 from \"sys.schemas\"), 1)", [&words[2]])?;
            }
            ["create", "user" | "role", ..] => {
                let kind = if lower[1] == "user" {
                    ("S", "SQL_USER")
                } else {
                    ("R", "DATABASE_ROLE")
                };
                self.connection.execute("insert into \"sys.database_principals\" values (?1, (select max(principal_id) + 1 from \"sys.database_principals\" where principal_id < 16000), ?2, ?3, 0)",
                    [words[2].as_str(), kind.0, kind.1])?;
            }
            ["grant" | "deny", right, "on", .., "to", _] => {
                let object = words[3..words.len() - 2].join(".");
                let number: i64 = self.connection.query_row("select object_id from t_names where full = ?1", [object.to_lowercase()], |row| row.get(0))
                    .map_err(|_| Failure::of(15_151, 16, format!("Cannot find the object '{object}', because it does not exist or you do not have permission.")))?;
                let state = if lower[0] == "grant" {
                    ("G", "GRANT")
                } else {
                    ("D", "DENY")
                };
                let to = words.last().map_or("", String::as_str);
                // A login is a user of its name wherever something is granted to it.
                self.connection.execute(
                    "insert into \"sys.database_principals\" select ?1, (select max(principal_id) + 1 from \"sys.database_principals\" where principal_id < 16000), 'S', 'SQL_USER', 0 \
                     where not exists (select 1 from \"sys.database_principals\" where name = ?1)",
                    [to],
                )?;
                self.connection.execute("insert into \"sys.database_permissions\" select 1, 'OBJECT_OR_COLUMN', ?1, 0, principal_id, 1, ?2, ?3, ?4 from \"sys.database_principals\" where name = ?5",
                    rusqlite::params![number, right.to_uppercase(), state.0, state.1, to])?;
            }
            ["create", "synonym", ..] => {
                let name = words[2].clone();
                let number = self.register(1, &name, 0, "SN")?;
                self.connection.execute(
                    "insert into \"sys.synonyms\" values (?1, ?2, 1, ?3)",
                    rusqlite::params![name, number, words[4..].join(".")],
                )?;
            }
            _ => {
                return Err(Failure::unknown(
                    lower.iter().take(2).copied().collect::<Vec<_>>().join(" "),
                ));
            }
        }
        self.done(0, None)
    }

    /// An expression in the words of the embedded database.
    pub(crate) fn expression(&self, words: &str) -> Result<String, Failure> {
        let mut expr = Parser::new(&MsSqlDialect {})
            .try_with_sql(words)
            .and_then(|mut parser| parser.parse_expr())
            .map_err(|error| Failure::of(102, 15, error.to_string()))?;
        self.translate(&mut expr)?;
        Ok(expr.to_string())
    }

    fn translate(&self, what: &mut impl VisitMut) -> Result<(), Failure> {
        let mut translate = Translate {
            database: &self.database,
            trouble: None,
        };
        let _ = what.visit(&mut translate);
        match translate.trouble {
            Some(words) => Err(Failure::unknown(words)),
            None => Ok(()),
        }
    }

    fn bind(&self, statement: &mut rusqlite::Statement<'_>) -> Result<(), Failure> {
        for at in 1..=statement.parameter_count() {
            let Some(name) = statement.parameter_name(at).map(str::to_string) else {
                continue;
            };
            let value = match name.strip_prefix("@g_") {
                Some(global) => self.global(global)?,
                None => match self.variables.get(&name.to_lowercase()) {
                    Some(variable) => variable.value.clone(),
                    None => {
                        return Err(Failure {
                            state: 2,
                            ..Failure::of(
                                137,
                                15,
                                format!("Must declare the scalar variable \"{name}\"."),
                            )
                        });
                    }
                },
            };
            statement.raw_bind_parameter(at, value)?;
        }
        Ok(())
    }

    fn global(&self, name: &str) -> Result<Value, Failure> {
        Ok(match name {
            "version" => Value::Text(format!(
                "Brackwater stand-in {VERSION} (Tabular Data Stream 7.4)"
            )),
            "trancount" => Value::Integer(i64::from(self.depth)),
            "rowcount" => Value::Integer(self.rows),
            "error" => Value::Integer(i64::from(self.error)),
            "spid" => Value::Integer(self.number),
            "servername" => Value::Text("brackwater".into()),
            "identity" => match self.told.identity.load(Ordering::Relaxed) {
                0 => Value::Null,
                identity => Value::Integer(identity),
            },
            "language" => Value::Text("us_english".into()),
            "max_precision" => Value::Integer(38),
            "lock_timeout" => Value::Integer(-1),
            "options" => Value::Integer(5496),
            "microsoftversion" => Value::Integer(0x1000_1009),
            other => {
                return Err(Failure::of(
                    137,
                    15,
                    format!("Must declare the scalar variable \"@@{other}\"."),
                ));
            }
        })
    }

    /// What a select list says of a column's type; a sum or the largest of a column has that one's digits.
    fn said(&self, item: &SelectItem) -> (Option<TypeInfo>, bool) {
        let (SelectItem::UnnamedExpr(Expr::Function(function))
        | SelectItem::ExprWithAlias {
            expr: Expr::Function(function),
            ..
        }) = item
        else {
            return said(item);
        };
        let words = function.to_string();
        let (name, argument) = words.split_once('(').unwrap_or((&words, ""));
        let argument = argument
            .trim_end_matches(')')
            .rsplit('.')
            .next()
            .unwrap_or_default()
            .trim_matches(['[', ']', '"']);
        let of_column = || {
            let found = self.connection.query_row(
                "select max(c.precision), max(c.scale) from \"sys.columns\" c where c.name = ?1 and c.system_type_id in (60, 106, 108, 122) having count(*) > 0",
                [argument],
                |row| Ok((row.get::<_, u8>(0)?, row.get::<_, u8>(1)?)),
            );
            found.ok()
        };
        match name.to_lowercase().as_str() {
            "sum" => of_column().map_or_else(
                || said(item),
                |(_, scale)| (Some(TypeInfo::decimal(38, scale)), true),
            ),
            "min" | "max" => of_column().map_or_else(
                || said(item),
                |(digits, scale)| (Some(TypeInfo::decimal(digits, scale)), true),
            ),
            _ => said(item),
        }
    }

    /// One value of an expression.
    pub(crate) fn value(&self, expr: &Expr) -> Result<(Value, Option<TypeInfo>), Failure> {
        let (info, exact) = said(&SelectItem::UnnamedExpr(expr.clone()));
        let mut expr = expr.clone();
        self.translate(&mut expr)?;
        let mut statement = self.connection.prepare(&format!("select {expr}"))?;
        self.bind(&mut statement)?;
        let mut rows = statement.raw_query();
        let value: Value = match rows.next()? {
            Some(row) => row.get(0)?,
            None => Value::Null,
        };
        let info = info.or_else(|| exact.then(|| of_value(&value, true)));
        Ok((value, info))
    }

    fn holds(&self, condition: &Expr) -> Result<bool, Failure> {
        let mut condition = condition.clone();
        self.translate(&mut condition)?;
        let mut statement = self
            .connection
            .prepare(&format!("select case when {condition} then 1 else 0 end"))?;
        self.bind(&mut statement)?;
        let mut rows = statement.raw_query();
        Ok(match rows.next()? {
            Some(row) => row.get::<_, i64>(0)? == 1,
            None => false,
        })
    }

    fn plain(&self, expr: &Expr) -> Result<String, Failure> {
        Ok(match self.value(expr)?.0 {
            Value::Null => String::new(),
            Value::Integer(number) => number.to_string(),
            Value::Real(number) => number.to_string(),
            Value::Text(text) => text,
            Value::Blob(bytes) => format!("{bytes:?}"),
        })
    }

    pub(crate) fn block(
        &mut self,
        statements: Vec<Statement>,
        text: &str,
    ) -> Result<Flow, Failure> {
        for statement in statements {
            match self.statement(statement, text)? {
                Flow::Next => {}
                other => return Ok(other),
            }
        }
        Ok(Flow::Next)
    }

    fn heed_stop(&mut self) -> Result<(), Failure> {
        let wants = self
            .link
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .wants_stop();
        if wants {
            self.stopped.store(true, Ordering::SeqCst);
            return Err(Failure::of(STOPPED, 0, "stopped"));
        }
        Ok(())
    }

    fn statement(&mut self, statement: Statement, text: &str) -> Result<Flow, Failure> {
        match statement {
            Statement::Query(query) => self.query(*query)?,
            Statement::Insert(insert) => self.insert(insert)?,
            Statement::Update(update) => self.update(update)?,
            Statement::Delete(delete) => self.delete(delete)?,
            Statement::Truncate(truncate) => self.truncate(&truncate)?,
            Statement::Declare { stmts, .. } => self.declare(stmts)?,
            Statement::Set(set) => self.set(set)?,
            Statement::If(of) => return self.branch(of, text),
            Statement::While(of) => return self.repeat(of, text),
            Statement::StartTransaction {
                statements,
                has_end_keyword,
                ..
            } => {
                if has_end_keyword || !statements.is_empty() {
                    return self.block(statements, text);
                }
                self.begin()?;
            }
            Statement::Commit { .. } => self.commit()?,
            Statement::Rollback { .. } => self.roll_back()?,
            Statement::Print(print) => {
                let words = self.plain(&print.message)?;
                self.tell(&Failure::of(0, 0, words), 1)?;
            }
            Statement::RaisError {
                message,
                severity,
                state,
                arguments,
                options,
            } => self.raise(
                [&message, &severity, &state],
                &arguments,
                !options.is_empty(),
            )?,
            Statement::Throw(of) => return Err(self.thrown(of)?),
            Statement::WaitFor(of) => self.wait(&of.expr)?,
            Statement::Return(of) => {
                let status = match of.value {
                    Some(sqlparser::ast::ReturnStatementValue::Expr(expr)) => {
                        self.plain(&expr)?.parse().unwrap_or(0)
                    }
                    None => 0,
                };
                return Ok(Flow::Return(status));
            }
            Statement::Use(Use::Object(name) | Use::Database(name)) => {
                self.use_database(name.to_string().trim_matches(['[', ']', '"']))?;
            }
            Statement::Execute {
                name: Some(name),
                parameters,
                ..
            } => {
                return match name.to_string().as_str() {
                    BREAK => Ok(Flow::Break),
                    CONTINUE => Ok(Flow::Continue),
                    _ => self.execute(&name, &parameters),
                };
            }
            other => return self.define(other, text),
        }
        Ok(Flow::Next)
    }

    /// What makes, changes and drops objects.
    fn define(&mut self, statement: Statement, text: &str) -> Result<Flow, Failure> {
        match statement {
            Statement::CreateTable(table) => {
                self.defined(|session| session.create_table(&table))?;
            }
            Statement::CreateIndex(index) => {
                self.defined(|session| session.create_index(&index))?
            }
            Statement::AlterTable(alter) => {
                self.defined(|session| session.alter_table(&alter.name, &alter.operations))?
            }
            Statement::CreateView(view) => self.create_view(&view, text)?,
            Statement::CreateProcedure {
                or_alter,
                name,
                params,
                ..
            } => self.create_procedure(&name, params.unwrap_or_default(), or_alter, text)?,
            Statement::Drop {
                object_type,
                if_exists,
                names,
                table,
                ..
            } => {
                self.defined(|session| {
                    session.drop_objects(&object_type, &names, if_exists, table.as_ref())
                })?;
            }
            Statement::DropProcedure {
                if_exists,
                proc_desc,
                ..
            } => {
                self.defined(|session| {
                    for of in &proc_desc {
                        session.drop_module(&of.name, if_exists)?;
                    }
                    Ok(())
                })?;
            }
            other => {
                let words = other.to_string();
                let words: Vec<&str> = words.split_whitespace().take(2).collect();
                return Err(Failure::unknown(words.join(" ")));
            }
        }
        Ok(Flow::Next)
    }

    fn insert(&mut self, mut insert: sqlparser::ast::Insert) -> Result<(), Failure> {
        let table = insert.table.to_string();
        insert.returning = returning(insert.output.take())?;
        let gives = insert.returning.is_some();
        // The embedded database has no `insert t`.
        insert.into = true;
        let mut statement = Statement::Insert(insert);
        self.translate(&mut statement)?;
        self.change(&statement.to_string(), gives, 0xc3, &table, 1)?;
        let identity = self.connection.last_insert_rowid();
        self.told.identity.store(identity, Ordering::Relaxed);
        Ok(())
    }

    fn update(&mut self, mut update: sqlparser::ast::Update) -> Result<(), Failure> {
        let table = update.table.to_string();
        // The embedded database gives the new values only.
        if update
            .output
            .as_ref()
            .is_some_and(|output| output.to_string().to_lowercase().contains("deleted."))
        {
            return Err(Failure::unknown("deleted in the output of an update"));
        }
        update.returning = returning(update.output.take())?;
        let gives = update.returning.is_some();
        let mut statement = Statement::Update(update);
        self.translate(&mut statement)?;
        self.change(&statement.to_string(), gives, 0xc5, &table, 0)
    }

    fn delete(&mut self, mut delete: sqlparser::ast::Delete) -> Result<(), Failure> {
        let tables = match &mut delete.from {
            sqlparser::ast::FromTable::WithFromKeyword(tables)
            | sqlparser::ast::FromTable::WithoutKeyword(tables) => tables.clone(),
        };
        // The embedded database wants its `from`.
        delete.from = sqlparser::ast::FromTable::WithFromKeyword(tables.clone());
        let table = tables.first().map(ToString::to_string).unwrap_or_default();
        delete.returning = returning(delete.output.take())?;
        let gives = delete.returning.is_some();
        let mut statement = Statement::Delete(delete);
        self.translate(&mut statement)?;
        self.change(&statement.to_string(), gives, 0xc4, &table, -1)
    }

    fn truncate(&mut self, truncate: &sqlparser::ast::Truncate) -> Result<(), Failure> {
        for target in &truncate.table_names {
            let name = place(&target.name, &self.database).map_err(Failure::unknown)?;
            self.change(
                &format!("delete from {}", one(&name)),
                false,
                0xc4,
                &name,
                -1,
            )?;
        }
        Ok(())
    }

    /// A variable or an option of the session.
    fn set(&mut self, set: Set) -> Result<(), Failure> {
        let Set::SingleAssignment {
            variable, values, ..
        } = &set
        else {
            let words: Vec<String> = set
                .to_string()
                .split_whitespace()
                .skip(1)
                .map(str::to_string)
                .collect();
            return self.option(&words);
        };
        let name = variable.to_string().to_lowercase();
        if !name.starts_with('@') {
            return Ok(());
        }
        let value = match values.first() {
            Some(expr) => expr.clone(),
            None => return Ok(()),
        };
        self.assign(&name, &value)
    }

    fn branch(&mut self, of: sqlparser::ast::IfStatement, text: &str) -> Result<Flow, Failure> {
        let holds = match &of.if_block.condition {
            Some(condition) => self.holds(condition)?,
            None => true,
        };
        let block = if holds {
            Some(of.if_block)
        } else {
            of.else_block
        };
        if let Some(block) = block {
            return self.block(block.conditional_statements.statements().clone(), text);
        }
        Ok(Flow::Next)
    }

    fn repeat(&mut self, of: sqlparser::ast::WhileStatement, text: &str) -> Result<Flow, Failure> {
        let condition = of.while_block.condition.clone();
        while condition
            .as_ref()
            .map_or(Ok(true), |condition| self.holds(condition))?
        {
            self.heed_stop()?;
            match self.block(
                of.while_block.conditional_statements.statements().clone(),
                text,
            )? {
                Flow::Next | Flow::Continue => {}
                Flow::Break => break,
                other => return Ok(other),
            }
        }
        Ok(Flow::Next)
    }

    /// What `throw` makes of its parts.
    fn thrown(&mut self, of: sqlparser::ast::ThrowStatement) -> Result<Failure, Failure> {
        let number = of
            .error_number
            .map_or(Ok(String::from("50000")), |e| self.plain(&e))?;
        let words = of.message.map_or(Ok(String::new()), |e| self.plain(&e))?;
        Ok(Failure::of(number.parse().unwrap_or(50_000), 16, words))
    }

    /// Makes variables.
    fn declare(&mut self, stmts: Vec<sqlparser::ast::Declare>) -> Result<(), Failure> {
        for declare in stmts {
            let words = declare
                .data_type
                .as_ref()
                .map(ToString::to_string)
                .unwrap_or_default();
            let Some(to) = declared(&words) else {
                return Err(Failure::of(
                    2715,
                    16,
                    format!("Column, parameter, or variable: Cannot find data type {words}."),
                ));
            };
            let value = match &declare.assignment {
                Some(
                    DeclareAssignment::MsSqlAssignment(expr)
                    | DeclareAssignment::Expr(expr)
                    | DeclareAssignment::Default(expr),
                ) => self.cast(expr, &words)?,
                _ => Value::Null,
            };
            for name in &declare.names {
                let variable = Variable {
                    info: to.info.clone(),
                    value: value.clone(),
                };
                self.variables.insert(name.value.to_lowercase(), variable);
            }
        }
        Ok(())
    }

    /// Tells an error or a notice whose words have places for arguments.
    fn raise(
        &mut self,
        [message, severity, state]: [&Expr; 3],
        arguments: &[Expr],
        at_once: bool,
    ) -> Result<(), Failure> {
        let mut words = self.plain(message)?;
        for argument in arguments {
            let value = self.plain(argument)?;
            if let Some(at) = words.find("%s").into_iter().chain(words.find("%d")).min() {
                words.replace_range(at..at + 2, &value);
            }
        }
        let class: u8 = self.plain(severity)?.parse().unwrap_or(16);
        let state: u8 = self.plain(state)?.parse().unwrap_or(1);
        let said = Failure {
            state,
            ..Failure::of(50_000, class, words)
        };
        self.tell(&said, 1)?;
        if class > 10 {
            // The batch goes on after it.
            self.error = 50_000;
            self.pending = Some(Done::bare(self.of(), Done::ERROR));
        }
        if at_once {
            self.link
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .flush()?;
        }
        Ok(())
    }

    /// Waits for so long, unless it is stopped.
    fn wait(&mut self, time: &Expr) -> Result<(), Failure> {
        let text = self.plain(time)?;
        let parts: Vec<f64> = text
            .split(':')
            .filter_map(|part| part.trim().parse().ok())
            .collect();
        let seconds = parts.iter().fold(0.0, |sum, part| sum * 60.0 + part);
        let until = Instant::now() + Duration::from_secs_f64(seconds);
        self.link
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .flush()?;
        while Instant::now() < until {
            self.heed_stop()?;
            std::thread::sleep(Duration::from_millis(10).min(until - Instant::now()));
        }
        Ok(())
    }

    fn create_view(
        &mut self,
        view: &sqlparser::ast::CreateView,
        text: &str,
    ) -> Result<(), Failure> {
        let mut query = view.query.clone();
        self.translate(&mut query)?;
        let name = place(&view.name, &self.database).map_err(Failure::unknown)?;
        let (view_name, or_alter) = (view.name.clone(), view.or_alter);
        self.defined(move |session| {
            if or_alter {
                session
                    .connection
                    .execute_batch(&format!("drop view if exists {}", one(&name)))?;
            }
            session
                .connection
                .execute_batch(&format!("create view {} as {query}", one(&name)))?;
            let number = session.keep_module(&view_name, "V", text, or_alter)?;
            let fields = session.fields_of(&format!("select * from {} limit 1", one(&name)))?;
            session.describe_view(number, fields)
        })
    }

    fn create_procedure(
        &mut self,
        name: &ObjectName,
        parameters: Vec<sqlparser::ast::ProcedureParam>,
        or_alter: bool,
        text: &str,
    ) -> Result<(), Failure> {
        self.defined(move |session| {
            let number = session.keep_module(name, "P", text, or_alter)?;
            for (at, parameter) in parameters.iter().enumerate() {
                if let Some(to) = declared(&parameter.data_type.to_string()) {
                    session.connection.execute(
                        "insert into \"sys.parameters\" values (?1, ?2, ?3, ?4, ?5, ?6, ?7, 0)",
                        rusqlite::params![
                            number,
                            parameter.name.value,
                            at as i64 + 1,
                            to.number,
                            to.info.length,
                            to.info.precision,
                            to.info.scale
                        ],
                    )?;
                }
            }
            Ok(())
        })
    }

    fn use_database(&mut self, name: &str) -> Result<(), Failure> {
        if self.depth > 0 {
            return Err(Failure::of(
                226,
                16,
                "USE statement not allowed within multi-statement transaction.",
            ));
        }
        let before = self.database.clone();
        self.go_to(name)?;
        let now = self.database.clone();
        self.environment(&Environment::Database(now.clone()), &before)?;
        let said = Failure::of(5701, 10, format!("Changed database context to '{now}'."));
        self.tell(&said, 1)
    }

    /// What makes or drops happens whole or not at all.
    fn defined(
        &mut self,
        work: impl FnOnce(&mut Self) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        self.connection.execute_batch("savepoint t_define")?;
        let done = work(self);
        self.connection.execute_batch(match done {
            Ok(()) => "release t_define",
            Err(_) => "rollback to t_define; release t_define",
        })?;
        done?;
        self.done(0xc6, None)
    }

    fn cast(&self, expr: &Expr, words: &str) -> Result<Value, Failure> {
        let Ok(data_type) = Parser::new(&MsSqlDialect {})
            .try_with_sql(words)
            .and_then(|mut parser| parser.parse_data_type())
        else {
            return Ok(self.value(expr)?.0);
        };
        let cast = Expr::Cast {
            kind: CastKind::Cast,
            expr: Box::new(expr.clone()),
            data_type,
            format: None,
        };
        Ok(self.value(&cast)?.0)
    }

    fn assign(&mut self, name: &str, expr: &Expr) -> Result<(), Failure> {
        let Some(variable) = self.variables.get(name) else {
            return Err(Failure {
                state: 2,
                ..Failure::of(
                    137,
                    15,
                    format!("Must declare the scalar variable \"{name}\"."),
                )
            });
        };
        let words = variable.info.words();
        let value = self.cast(expr, &words)?;
        if let Some(variable) = self.variables.get_mut(name) {
            variable.value = value;
        }
        Ok(())
    }

    /// The columns of a query with the types they would be stored in.
    pub(crate) fn fields_of(&self, sql: &str) -> Result<Vec<(String, Declared)>, Failure> {
        let mut statement = self.connection.prepare(sql)?;
        self.bind(&mut statement)?;
        let columns: Vec<(String, Option<String>)> = statement
            .columns()
            .map(|c| (c.name().to_string(), c.decl_type().map(str::to_string)))
            .collect();
        let mut rows = statement.raw_query();
        let first = rows.next()?;
        let mut fields = Vec::new();
        for (at, (name, words)) in columns.into_iter().enumerate() {
            let known = words.as_deref().and_then(declared);
            let made = match (known, &first) {
                (Some(known), _) => known,
                (None, Some(row)) => {
                    let value: Value = row.get(at)?;
                    declared(&of_value(&value, false).words())
                        .ok_or_else(|| Failure::unknown(&name))?
                }
                (None, None) => declared("nvarchar(max)").ok_or_else(|| Failure::unknown(&name))?,
            };
            fields.push((name, made));
        }
        Ok(fields)
    }

    fn query(&mut self, mut query: Query) -> Result<(), Failure> {
        // `select @a = x from t` gives no rows.
        if let SetExpr::Select(select) = query.body.as_mut() {
            let assigned: Vec<Option<String>> = select.projection.iter().map(assigned).collect();
            if assigned.iter().all(Option::is_some) && !assigned.is_empty() {
                for item in &mut select.projection {
                    if let SelectItem::UnnamedExpr(Expr::BinaryOp { right, .. }) = item {
                        *item = SelectItem::UnnamedExpr((**right).clone());
                    } else if let SelectItem::ExprWithAlias { expr, .. } = item {
                        *item = SelectItem::UnnamedExpr(expr.clone());
                    }
                }
                return self.select_into_variables(query, &assigned);
            }
            if let Some(into) = select.into.take() {
                let name = into
                    .targets
                    .first()
                    .map(ToString::to_string)
                    .unwrap_or_default();
                return self.select_into(query, &name);
            }
        }
        let hints: Vec<(Option<TypeInfo>, bool)> = match query.body.as_ref() {
            SetExpr::Select(select)
                if !select.projection.iter().any(|item| {
                    matches!(
                        item,
                        SelectItem::Wildcard(_) | SelectItem::QualifiedWildcard(..)
                    )
                }) =>
            {
                select
                    .projection
                    .iter()
                    .map(|item| self.said(item))
                    .collect()
            }
            _ => Vec::new(),
        };
        let original = query.to_string();
        name_columns(&mut query);
        self.translate(&mut query)?;
        let sql = query.to_string();
        if self.plan_only {
            return self.plan(&sql, &original, None);
        }
        let before = Instant::now();
        let rows = self.rows(&sql, &hints)?;
        if self.measures {
            self.plan(&sql, &original, Some((rows, before.elapsed())))?;
        }
        self.rows = rows as i64;
        self.done(Done::SELECT, Some(rows))
    }

    /// Runs what gives rows and sends them; gives how many there were.
    fn rows(&mut self, sql: &str, hints: &[(Option<TypeInfo>, bool)]) -> Result<u64, Failure> {
        self.tell_pending(true)?;
        let mut statement = self.connection.prepare(sql)?;
        self.bind(&mut statement)?;
        let columns: Vec<(String, Option<String>)> = statement
            .columns()
            .map(|c| (c.name().to_string(), c.decl_type().map(str::to_string)))
            .collect();
        let count = columns.len();
        let mut rows = statement.raw_query();
        let mut fields: Vec<Field> = Vec::new();
        let (mut told, mut given, mut values) = (false, 0_u64, vec![Value::Null; count]);
        let mut out = Vec::new();
        loop {
            let row = rows.next()?;
            if let Some(row) = &row {
                for (at, value) in values.iter_mut().enumerate() {
                    *value = row.get(at)?;
                }
            }
            if !told {
                for (at, (name, words)) in columns.iter().enumerate() {
                    let (hint, exact) = hints.get(at).cloned().unwrap_or((None, false));
                    let info = words.as_deref().and_then(declared).map(|d| d.info).or(hint);
                    let info = info.unwrap_or_else(|| of_value(&values[at], exact));
                    let name = if name.starts_with("t_unnamed") {
                        String::new()
                    } else {
                        name.clone()
                    };
                    fields.push(Field {
                        name,
                        info,
                        nullable: true,
                    });
                }
                put_columns(&fields, &mut out);
                told = true;
            }
            if row.is_none() {
                break;
            }
            let put = put_row(&fields, values.iter().map(wire), &mut out);
            put.map_err(|words| Failure {
                state: 2,
                ..Failure::of(
                    8115,
                    16,
                    format!("Arithmetic overflow error converting expression: {words}."),
                )
            })?;
            given += 1;
            if out.len() > 32 * 1024 {
                self.say(&out)?;
                out.clear();
                if given % 64 == 0 && self.stopped.load(Ordering::SeqCst) {
                    return Err(Failure::of(STOPPED, 0, "stopped"));
                }
            }
        }
        self.say(&out)?;
        Ok(given)
    }

    fn select_into_variables(
        &mut self,
        mut query: Query,
        names: &[Option<String>],
    ) -> Result<(), Failure> {
        self.translate(&mut query)?;
        let mut found: Option<Vec<Value>> = None;
        let mut count = 0;
        {
            let mut statement = self.connection.prepare(&query.to_string())?;
            self.bind(&mut statement)?;
            let mut rows = statement.raw_query();
            while let Some(row) = rows.next()? {
                found = Some(
                    (0..names.len())
                        .map(|at| row.get(at))
                        .collect::<Result<_, _>>()?,
                );
                count += 1;
            }
        }
        self.rows = count;
        for (name, value) in names.iter().flatten().zip(found.into_iter().flatten()) {
            match self.variables.get_mut(name) {
                Some(variable) => variable.value = value,
                None => {
                    return Err(Failure {
                        state: 2,
                        ..Failure::of(
                            137,
                            15,
                            format!("Must declare the scalar variable \"{name}\"."),
                        )
                    });
                }
            }
        }
        Ok(())
    }

    fn select_into(&mut self, mut query: Query, name: &str) -> Result<(), Failure> {
        self.translate(&mut query)?;
        let sql = query.to_string();
        let fields = self.fields_of(&sql)?;
        let name = name
            .trim_start_matches("dbo.")
            .trim_matches(['[', ']', '"'])
            .to_string();
        self.connection.execute_batch("savepoint t_into")?;
        let made = self.create_for(&name, fields).and_then(|()| {
            let mut statement = self
                .connection
                .prepare(&format!("insert into {} {sql}", one(&name)))?;
            self.bind(&mut statement)?;
            Ok(statement.raw_execute()?)
        });
        self.connection.execute_batch(if made.is_ok() {
            "release t_into"
        } else {
            "rollback to t_into; release t_into"
        })?;
        let count = made?;
        self.rows = count as i64;
        self.done(Done::SELECT, Some(count as u64))
    }

    fn change(
        &mut self,
        sql: &str,
        gives: bool,
        command: u16,
        table: &str,
        sign: i64,
    ) -> Result<(), Failure> {
        if self.plan_only {
            return self.plan(sql, sql, None);
        }
        // A table without the command's own word for everything.
        let sql = sql.to_string();
        let count = match gives {
            true => self.rows(&sql, &[])?,
            false => {
                let mut statement = self.connection.prepare(&sql)?;
                self.bind(&mut statement)?;
                statement.raw_execute()? as u64
            }
        };
        self.rows = count as i64;
        if sign != 0 && count > 0 {
            let plain = table
                .split_whitespace()
                .next()
                .unwrap_or_default()
                .replace(['[', ']', '"'], "")
                .to_lowercase();
            self.connection.execute(
                "update \"sys.partitions\" set rows = max(0, rows + ?1) where object_id = (select object_id from t_names where full = ?2)",
                rusqlite::params![sign * count as i64, plain],
            )?;
        }
        self.done(command, Some(count))
    }

    /// How a statement would run, as the XML that the family tells plans in.
    fn plan(
        &mut self,
        sql: &str,
        original: &str,
        measured: Option<(u64, Duration)>,
    ) -> Result<(), Failure> {
        let steps: Vec<(i64, i64, String)> = {
            let mut statement = self
                .connection
                .prepare(&format!("explain query plan {sql}"))?;
            self.bind(&mut statement)?;
            let mut rows = statement.raw_query();
            let mut steps = Vec::new();
            while let Some(row) = rows.next()? {
                steps.push((row.get(0)?, row.get(1)?, row.get(3)?));
            }
            steps
        };
        let xml = crate::plan::xml(&steps, original, measured);
        let info = TypeInfo::of(id::NVARCHAR, ANY);
        let fields = [Field {
            name: "Showplan XML".into(),
            info,
            nullable: false,
        }];
        let mut out = Vec::new();
        self.tell_pending(true)?;
        put_columns(&fields, &mut out);
        put_row(&fields, [Wire::Text(&xml)], &mut out).map_err(Failure::unknown)?;
        self.say(&out)?;
        self.done(Done::SELECT, Some(1))
    }
}

fn assigned(item: &SelectItem) -> Option<String> {
    match item {
        SelectItem::ExprWithAlias { alias, .. }
            if alias.value.starts_with('@') && alias.quote_style.is_none() =>
        {
            Some(alias.value.to_lowercase())
        }
        SelectItem::UnnamedExpr(Expr::BinaryOp {
            left,
            op: BinaryOperator::Eq,
            ..
        }) => match left.as_ref() {
            Expr::Identifier(ident) if ident.value.starts_with('@') => {
                Some(ident.value.to_lowercase())
            }
            _ => None,
        },
        _ => None,
    }
}

/// What has no name has none here: the embedded database would call it by its text.
fn name_columns(query: &mut Query) {
    let SetExpr::Select(select) = query.body.as_mut() else {
        return;
    };
    for (at, item) in select.projection.iter_mut().enumerate() {
        if let SelectItem::UnnamedExpr(expr) = item {
            let alias = match expr {
                Expr::Identifier(ident) if !ident.value.starts_with('@') => continue,
                Expr::CompoundIdentifier(parts) => match parts.last() {
                    Some(last) => one(&last.value),
                    None => continue,
                },
                _ => one(&format!("t_unnamed{at}")),
            };
            *item = SelectItem::ExprWithAlias {
                expr: expr.clone(),
                alias,
            };
        }
    }
}

fn returning(output: Option<OutputClause>) -> Result<Option<Vec<SelectItem>>, Failure> {
    let Some(output) = output else {
        return Ok(None);
    };
    let OutputClause::Output {
        mut select_items,
        into_table: None,
        ..
    } = output
    else {
        return Err(Failure::unknown("output into a table"));
    };
    for item in &mut select_items {
        match item {
            SelectItem::QualifiedWildcard(
                SelectItemQualifiedWildcardKind::ObjectName(_),
                options,
            ) => *item = SelectItem::Wildcard(options.clone()),
            SelectItem::UnnamedExpr(Expr::CompoundIdentifier(parts)) => {
                if let Some(last) = parts.last().cloned() {
                    *item = SelectItem::UnnamedExpr(Expr::Identifier(last));
                }
            }
            _ => {}
        }
    }
    Ok(Some(select_items))
}
