//! Procedures: those of the server that clients call, and those that were made here.

use std::collections::HashMap;

use idle_tide_tabular::token::{DoneOf, put_status};
use idle_tide_tabular::{Done, TypeInfo};
use rusqlite::types::Value;
use sqlparser::ast::{
    BinaryOperator, CreateProcedureBody, Expr, ObjectName, ProcedureParam, Statement,
};

use crate::batch;
use crate::execute::{Flow, Session, Variable, of_value};
use crate::failure::Failure;
use crate::schema::declared;
use crate::translate::place;

/// A parameter as it was given: its name if it has one, its value and its type if that is known.
type Given = (Option<String>, Value, Option<TypeInfo>);

fn text_at(given: &[Given], at: usize) -> String {
    match given.get(at) {
        Some((_, Value::Text(text), _)) => text.clone(),
        _ => String::new(),
    }
}

/// A parameter by its name, else by its place where none has a name.
fn text_of(given: &[Given], name: &str, at: usize) -> String {
    let named = given
        .iter()
        .find(|(called, ..)| called.as_deref() == Some(name));
    match named {
        Some((_, Value::Text(text), _)) => text.clone(),
        _ if given.iter().any(|(called, ..)| called.is_some()) => String::new(),
        _ => text_at(given, at),
    }
}

impl Session {
    /// Runs a procedure.
    pub(crate) fn execute(
        &mut self,
        name: &ObjectName,
        parameters: &[Expr],
    ) -> Result<Flow, Failure> {
        let mut given: Vec<Given> = Vec::new();
        for parameter in parameters {
            let (called, expr) = match parameter {
                Expr::BinaryOp {
                    left,
                    op: BinaryOperator::Eq,
                    right,
                } => (Some(left.to_string().to_lowercase()), right.as_ref()),
                other => (None, other),
            };
            let (value, info) = self.value(expr)?;
            given.push((called, value, info));
        }
        let plain = place(name, &self.database).map_err(Failure::unknown)?;
        let plain = plain.trim_start_matches("sys.").to_lowercase();
        match plain.as_str() {
            "sp_executesql" => self.execute_text(&given)?,
            "sp_addextendedproperty" | "sp_updateextendedproperty" => self.put_property(&given)?,
            _ => self.execute_own(&plain, &given)?,
        }
        Ok(Flow::Next)
    }

    /// A text with the declarations of its parameters, and these (`sp_executesql`).
    fn execute_text(&mut self, given: &[Given]) -> Result<(), Failure> {
        let statement = text_at(given, 0);
        let declared_names = parameters_of(&text_at(given, 1));
        let mut variables = HashMap::new();
        for (at, (called, value, _)) in given.iter().skip(2).enumerate() {
            let Some((own, words)) = declared_names.get(at) else {
                break;
            };
            let name = called.clone().unwrap_or_else(|| own.clone());
            let info = declared(words).map_or_else(|| of_value(value, false), |d| d.info);
            variables.insert(
                name,
                Variable {
                    info,
                    value: value.clone(),
                },
            );
        }
        self.inside(variables, &statement).map(drop)
    }

    /// A comment on a table or a column (`sp_addextendedproperty`).
    fn put_property(&mut self, given: &[Given]) -> Result<(), Failure> {
        let at = |name: &str, at: usize| text_of(given, name, at);
        let (property, value) = (at("@name", 0), at("@value", 1));
        let (schema, table, column) = (
            at("@level0name", 3),
            at("@level1name", 5),
            at("@level2name", 7),
        );
        let full = format!("{schema}.{table}").to_lowercase();
        let number: i64 = self.connection.query_row("select object_id from t_names where full = ?1", [&full], |row| row.get(0))
            .map_err(|_| Failure::of(15_135, 16, format!("Object is invalid. Extended properties are not permitted on '{full}', or the object does not exist.")))?;
        let minor: i64 = match column.is_empty() {
            true => 0,
            false => self.connection.query_row(
                "select column_id from \"sys.columns\" where object_id = ?1 and name = ?2",
                rusqlite::params![number, column],
                |row| row.get(0),
            )?,
        };
        self.connection.execute(
            "insert into \"sys.extended_properties\" values (1, ?1, ?2, ?3, ?4)",
            rusqlite::params![number, minor, property, value],
        )?;
        self.done(0, None)
    }

    /// A procedure that was made here.
    fn execute_own(&mut self, plain: &str, given: &[Given]) -> Result<(), Failure> {
        let found = self.connection.query_row(
            "select m.definition from \"sys.sql_modules\" m join t_names n on n.object_id = m.object_id join \"sys.procedures\" p on p.object_id = m.object_id where n.full = ?1",
            [plain], |row| row.get::<_, String>(0));
        let Ok(definition) = found else {
            return Err(Failure {
                state: 62,
                ..Failure::of(
                    2812,
                    16,
                    format!("Could not find stored procedure '{plain}'."),
                )
            });
        };
        let parsed = batch::parser(&batch::procedure(&definition))
            .and_then(|mut parser| parser.parse_statement());
        let Ok(Statement::CreateProcedure { params, body, .. }) = parsed else {
            return Err(Failure::unknown("the text of this procedure"));
        };
        let variables = self.variables_of(plain, params.unwrap_or_default(), given)?;
        let CreateProcedureBody::As(statements) = body else {
            return Err(Failure::unknown("this form of a procedure"));
        };
        if self.level > 31 {
            return Err(Failure::of(
                217,
                16,
                "Maximum stored procedure, function, trigger, or view nesting level exceeded (limit 32).",
            ));
        }
        let before = std::mem::replace(&mut self.variables, variables);
        let was = std::mem::replace(&mut self.within, true);
        self.level += 1;
        let done = self.block(statements.statements().clone(), "");
        self.level -= 1;
        self.within = was;
        self.variables = before;
        let status = match done? {
            Flow::Return(status) => status,
            _ => 0,
        };
        self.tell_pending(true)?;
        let mut out = Vec::new();
        put_status(status, &mut out);
        self.say(&out)?;
        self.pending = Some(Done {
            of: DoneOf::Procedure,
            status: 0,
            command: 0xe0,
            rows: 0,
        });
        Ok(())
    }

    /// What a procedure knows as it begins.
    fn variables_of(
        &self,
        plain: &str,
        params: Vec<ProcedureParam>,
        given: &[Given],
    ) -> Result<HashMap<String, Variable>, Failure> {
        let mut variables = HashMap::new();
        for (at, parameter) in params.iter().enumerate() {
            let name = parameter.name.value.to_lowercase();
            let passed = given
                .iter()
                .find(|(called, ..)| called.as_deref() == Some(&name))
                .or_else(|| given.get(at).filter(|(called, ..)| called.is_none()));
            let value = match (passed, &parameter.default) {
                (Some((_, value, _)), _) => value.clone(),
                (None, Some(default)) => self.value(default)?.0,
                (None, None) => {
                    return Err(Failure {
                        state: 4,
                        ..Failure::of(
                            201,
                            16,
                            format!(
                                "Procedure or function '{plain}' expects parameter '{name}', which was not supplied."
                            ),
                        )
                    });
                }
            };
            let info = declared(&parameter.data_type.to_string())
                .map_or_else(|| of_value(&value, false), |d| d.info);
            variables.insert(name, Variable { info, value });
        }
        Ok(variables)
    }

    /// Runs a text with variables of its own.
    pub(crate) fn inside(
        &mut self,
        variables: HashMap<String, Variable>,
        text: &str,
    ) -> Result<i32, Failure> {
        let before = std::mem::replace(&mut self.variables, variables);
        let done = self.text(text);
        self.variables = before;
        done
    }
}

/// The names and types of `@a int, @b nvarchar(50)`.
pub(crate) fn parameters_of(text: &str) -> Vec<(String, String)> {
    let (mut depth, mut parts, mut start) = (0, Vec::new(), 0);
    for (at, c) in text.char_indices() {
        match c {
            '(' => depth += 1,
            ')' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(&text[start..at]);
                start = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&text[start..]);
    parts
        .into_iter()
        .filter_map(|part| part.trim().split_once(char::is_whitespace))
        .map(|(name, words)| {
            (
                name.to_lowercase(),
                words
                    .trim()
                    .trim_end_matches(" output")
                    .trim_end_matches(" OUTPUT")
                    .trim_end_matches(" out")
                    .to_string(),
            )
        })
        .collect()
}
