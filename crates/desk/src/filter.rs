//! The condition of a filter: the expressions of the flow language over the rows of any result. Names are columns, or paths where the rows
//! are documents.

use idle_tide_core::document::time::TimeZone;
use idle_tide_core::document::{Document, bson};
use idle_tide_core::{Column, Row, column_labels};
use idle_tide_dock::flow::script::State;
use idle_tide_dock::flow::{Context, Program};
use idle_tide_lang::flow::ast::{Node, Path, Step};
use idle_tide_lang::flow::{FlowError, expression};
use idle_tide_lang::parameter::fill_condition;

/// A condition with the functions and variables of scripts in their places.
///
/// # Errors
/// If a function is called that cannot be put in its place.
pub fn with_script(text: &str, state: &State) -> Result<String, FlowError> {
    let put = state.known(|known| known.in_condition(text))?;
    let variable = |name: &str| state.variables.get(name).cloned();
    Ok(fill_condition(put.as_deref().unwrap_or(text), &variable))
}

/// A condition tied to the columns of a result.
#[derive(Debug)]
pub struct Filter {
    program: Program,
    /// The columns that the condition names, by number; none where the rows are documents.
    columns: Option<Vec<usize>>,
}

impl Filter {
    /// Understands a condition over `columns`; `now` is in milliseconds since 1970.
    ///
    /// # Errors
    /// What is wrong with it, with its place and the nearest names.
    pub fn new(text: &str, columns: &[Column], now: i64) -> Result<Self, FlowError> {
        let mut expr = expression(text, &TimeZone::UTC)?;
        let documents = !columns.is_empty() && columns.iter().all(|column| column.path.is_some());
        let mut used: Vec<usize> = Vec::new();
        if !documents {
            let labels = column_labels(columns);
            let mut failed = None;
            expr.visit_mut(&mut |e| {
                if let Node::Path(path) = &mut e.node {
                    match column(path, columns, &labels) {
                        Ok(at) => {
                            let place =
                                used.iter()
                                    .position(|known| *known == at)
                                    .unwrap_or_else(|| {
                                        used.push(at);
                                        used.len() - 1
                                    });
                            path.steps = vec![Step::Name(place.to_string())];
                        }
                        Err(error) => {
                            failed.get_or_insert(error);
                        }
                    }
                }
            });
            if let Some(error) = failed {
                return Err(error);
            }
        }
        let context = Context {
            now,
            digits: !documents,
            ..Context::default()
        };
        Ok(Filter {
            program: Program::new(&expr, &context)?,
            columns: (!documents).then_some(used),
        })
    }

    /// Whether the row satisfies it.
    ///
    /// # Errors
    /// If a computation overflows.
    pub fn holds(&self, row: Row<'_>) -> Result<bool, FlowError> {
        let Some(columns) = &self.columns else {
            return self
                .program
                .holds(&bson::tree(row.document().unwrap_or_default()));
        };
        let mut document = Document {
            fields: Vec::with_capacity(columns.len()),
        };
        for (place, column) in columns.iter().enumerate() {
            if let Some(value) = row.get(*column).to_datum() {
                document.fields.push((place.to_string().into(), value));
            }
        }
        self.program.holds(&document)
    }
}

fn column(path: &Path, columns: &[Column], labels: &[String]) -> Result<usize, FlowError> {
    let names = path.names().unwrap_or_default();
    let name = names.join(".");
    if names.is_empty() {
        return Err(FlowError::at(
            path.span.clone(),
            "The rows of this result hold no lists.",
        ));
    }
    if let Some(at) = labels.iter().position(|l| l.eq_ignore_ascii_case(&name)) {
        return Ok(at);
    }
    let same: Vec<usize> = (0..columns.len())
        .filter(|at| {
            let column = &columns[*at];
            column.name.eq_ignore_ascii_case(&name)
                || column.origin.as_ref().is_some_and(|(table, field)| {
                    format!("{table}.{field}").eq_ignore_ascii_case(&name)
                })
        })
        .collect();
    match same.as_slice() {
        [one] => Ok(*one),
        [] => {
            let nearest =
                idle_tide_lang::correct::nearest(&name, labels.iter().map(String::as_str), 3);
            Err(FlowError {
                message: match nearest.first() {
                    Some(first) => {
                        format!("This result has no column {name}; the nearest is {first}.")
                    }
                    None => format!(
                        "This result has no column {name}. It has {}.",
                        labels.join(", ")
                    ),
                },
                span: path.span.clone(),
                nearest,
            })
        }
        several => {
            let choices: Vec<String> = several
                .iter()
                .map(|at| format!("`{}`", labels[*at]))
                .collect();
            Err(FlowError {
                message: format!("{name} stands for several columns: {}.", choices.join(", ")),
                span: path.span.clone(),
                nearest: choices,
            })
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::{RowBatch, ValueRef};

    fn holds(text: &str) -> Result<bool, FlowError> {
        let columns = ["n", "f", "t", "nothing", "order by", "d"].map(Column::named);
        let mut rows = RowBatch::new();
        rows.push_row([
            ValueRef::Integer(7),
            ValueRef::Float(2.5),
            ValueRef::Text("Grey Heron"),
            ValueRef::Null,
            ValueRef::Text("12"),
            ValueRef::Number("12.30"),
        ]);
        Filter::new(text, &columns, 0)?.holds(rows.row(0))
    }

    #[test]
    fn conditions_hold_or_not() {
        for yes in [
            "n = 7 and f < 3",
            "n / 2 = 3.5 and n % 4 = 3 and -n < -6.5",
            "N between 7 and 8",
            "t like 'Grey%' and t like '_rey Heron' and t not like 'grey%'",
            "n in (1, 7) and n not in (2)",
            "nothing is null and n is not null",
            "not (nothing = 1)",
            "nothing <> 1 and not (nothing in (1))",
            "t = \"Grey Heron\" or false",
            "`order by` = '12'",
            "`order by` <> 12",
            "t || '!' = 'Grey Heron!'",
            "1 + 2 * 3 = 7 and (1 + 2) * 3 = 9",
            "not false or true and false",
            "nothing + 1 is null",
            "d = 12.3 and d >= 12.3 and lower(t) = 'grey heron'",
            "case when n > 5 then starts(t, 'Grey') else false end",
        ] {
            assert_eq!(holds(yes), Ok(true), "{yes}");
        }
        for no in [
            "nothing = nothing",
            "nothing > 0",
            "`order by` = 12",
            "`order by` < 13",
            "t > 1",
        ] {
            assert_eq!(holds(no), Ok(false), "{no}");
        }
    }

    #[test]
    fn mistakes_say_where_and_what() {
        let error = |text: &str| holds(text).expect_err(text);
        assert_eq!(error("ordr = 1").span, 0..4);
        assert_eq!(error("tt = 1").nearest[0], "t");
        assert!(error("n = null").message.contains("is null"));
        assert!(error("9223372036854775807 + n > 1").message.contains("64"));
        assert!(error("t = 'abc").message.contains("quote"));
        assert!(error("(n = 1").message.contains("bracket"));
        assert!(error("n = 1 n").message.contains("and"));
        assert!(error("").message.contains("condition"));
    }
}
