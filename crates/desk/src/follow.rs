//! From a value in a result to the row it refers to, or to the rows that refer to it: which statement a step
//! is. It runs nothing itself.

use idle_tide_core::catalog::{Catalog, Object};
use idle_tide_core::links::{self, Tie};
use idle_tide_core::{Column, Value};
use idle_tide_lang::Dialect;
use idle_tide_lang::join::written;

/// A row of a result, and the cell that is followed.
pub struct Cell<'a> {
    /// The columns.
    pub columns: &'a [Column],
    /// The values of the row.
    pub row: &'a [Value],
    /// The column of the cell.
    pub column: usize,
}

/// What a step comes to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// A statement that gives the rows.
    Rows(String),
    /// A statement that counts the rows of several tables, and for each of its rows the statement that gives
    /// those.
    Counts(String, Vec<String>),
}

struct Reader<'a> {
    cell: &'a Cell<'a>,
    catalog: &'a Catalog,
    ties: &'a [Tie],
    dialect: &'static Dialect,
}

impl Reader<'_> {
    /// The table that the cell's column belongs to.
    fn table(&self) -> Option<(usize, &Object)> {
        let (table, _) = self.cell.columns[self.cell.column].origin.as_ref()?;
        let object = self.catalog.table(table)?;
        Some((self.catalog.place_of(object)?, object))
    }

    /// The value of a column of that table in this row.
    fn value(&self, object: &Object, column: &str) -> Option<&Value> {
        let is_it = |of: &Column| {
            of.origin.as_ref().is_some_and(|(table, name)| {
                name.eq_ignore_ascii_case(column)
                    && self
                        .catalog
                        .table(table)
                        .is_some_and(|o| std::ptr::eq(o, object))
            })
        };
        // The cell itself, before another column of the same origin.
        if is_it(&self.cell.columns[self.cell.column]) {
            return self.cell.row.get(self.cell.column);
        }
        let at = self.cell.columns.iter().position(is_it)?;
        self.cell.row.get(at)
    }

    /// Where the rows at the other end of a link are: its table and condition.
    fn condition(
        &self,
        here: &Object,
        there: &Object,
        ours: &[String],
        theirs: &[String],
    ) -> Result<(String, String), String> {
        let mut parts = Vec::new();
        for (own, other) in ours.iter().zip(theirs) {
            let Some(value) = self.value(here, own) else {
                return Err(format!(
                    "{}.{own} is not in this result; add it to the query to follow it.",
                    here.name
                ));
            };
            if matches!(value, Value::Null | Value::Missing) {
                return Err(format!(
                    "{own} is empty in this {}: it refers to nothing.",
                    self.dialect.row()
                ));
            }
            parts.push(format!(
                "{} = {}",
                self.dialect.quote_column(other),
                self.dialect.literal(value.as_ref())
            ));
        }
        Ok((
            written(there, self.catalog, self.dialect),
            parts.join(" and "),
        ))
    }

    fn forward(&self, object: &Object, tie: &Tie) -> Result<Step, String> {
        let there = &self.catalog.objects[tie.to];
        let (table, condition) = self.condition(object, there, &tie.columns, &tie.their_columns)?;
        Ok(Step::Rows(rows(&table, &condition, self.dialect)))
    }

    fn back(&self, object: &Object, tie: &Tie) -> Result<(String, String), String> {
        let from = &self.catalog.objects[tie.from];
        self.condition(object, from, &tie.their_columns, &tie.columns)
    }
}

fn rows(table: &str, condition: &str, dialect: &Dialect) -> String {
    match dialect.is_flow() {
        true => format!("from {table} where {condition}"),
        false => format!("select * from {table} where {condition}"),
    }
}

/// The step from a cell: over the link of its column, else to what refers to its row; to `into` if that is named.
///
/// # Errors
/// In words, if there is nothing to follow.
pub fn step(
    cell: &Cell<'_>,
    into: Option<&str>,
    catalog: &Catalog,
    ties: &[Tie],
    dialect: &'static Dialect,
) -> Result<Step, String> {
    let reader = Reader {
        cell,
        catalog,
        ties,
        dialect,
    };
    let column = &cell.columns[cell.column];
    let Some((place, object)) = reader.table() else {
        return Err(format!(
            "{} does not come from a {} of a {}, so there is no link to follow.",
            column.name,
            if dialect.is_flow() { "path" } else { "column" },
            dialect.table()
        ));
    };
    let name = column.origin.as_ref().map_or("", |(_, name)| name.as_str());
    let mut outgoing: Vec<&Tie> = links::of_column(reader.ties, place, name).collect();
    let mut incoming: Vec<&Tie> = reader.ties.iter().filter(|tie| tie.to == place).collect();
    if let Some(into) = into {
        let wanted = catalog.table(into).and_then(|o| catalog.place_of(o));
        let Some(wanted) = wanted else {
            return Err(format!("There is no {} {into} here.", dialect.table()));
        };
        outgoing = reader
            .ties
            .iter()
            .filter(|tie| tie.from == place && tie.to == wanted)
            .collect();
        incoming.retain(|tie| tie.from == wanted);
        if outgoing.is_empty() && incoming.is_empty() {
            return Err(format!(
                "No link leads between {} and {into}; /route finds the way over others.",
                object.name
            ));
        }
    }
    if let Some(tie) = outgoing.first() {
        return reader.forward(object, tie);
    }
    let mut counts = Vec::new();
    let mut statements = Vec::new();
    let mut names = Vec::new();
    let mut missing = None;
    for tie in incoming {
        match reader.back(object, tie) {
            Ok((table, condition)) => {
                let from = &catalog.objects[tie.from];
                let guessed = if tie.declared { "" } else { " (guessed)" };
                counts.push(format!(
                    "select {} as {}, {} as {}, count(*) as {} from {table} where {condition}",
                    dialect.quote_text(&catalog.shortest_name(from)),
                    dialect.quote_name("table"),
                    dialect.quote_text(&format!("{}{guessed}", tie.columns.join(", "))),
                    dialect.quote_name("by"),
                    dialect.quote_name("rows"),
                ));
                statements.push(rows(&table, &condition, dialect));
                names.push(catalog.shortest_name(from));
            }
            Err(words) => missing = Some(words),
        }
    }
    match (statements.len(), into) {
        (0, _) => Err(missing.unwrap_or_else(|| {
            format!(
                "{name} links to no {what}, and no {what} refers to {}.",
                object.name,
                what = dialect.table()
            )
        })),
        (1, _) => Ok(Step::Rows(statements.remove(0))),
        // One flow cannot count in several collections.
        _ if dialect.is_flow() => Err(format!(
            "{} know it; /follow NAME goes to one.",
            names.join(" and ")
        )),
        _ => Ok(Step::Counts(counts.join("\nunion all "), statements)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::catalog::{Field, Kind, Link};
    use idle_tide_lang::dialect::{FLOW, SQLITE};

    fn catalog() -> Catalog {
        let table = |name: &str, key: &str, others: &[&str]| {
            let mut object = Object::new("main", name, Kind::Table);
            object.fields.push(Field {
                name: key.into(),
                key: Some(1),
                ..Field::default()
            });
            object.fields.extend(others.iter().map(|name| Field {
                name: name.to_string(),
                ..Field::default()
            }));
            object
        };
        let link = |column: &str, table: &str, theirs: &str| Link {
            columns: vec![column.into()],
            table: table.into(),
            their_columns: vec![theirs.into()],
            ..Link::default()
        };
        let mut visits = table("visits", "id", &["vessel", "Odd \"name"]);
        visits.links = vec![
            link("vessel", "vessels", "call_sign"),
            link("Odd \"name", "visits", "id"),
        ];
        let mut dues = table("dues", "id", &["visit_id"]);
        dues.links = vec![link("visit_id", "visits", "id")];
        Catalog {
            path: vec!["main".into()],
            objects: vec![dues, table("vessels", "call_sign", &[]), visits],
            ..Catalog::default()
        }
    }

    fn follow(
        origins: &[(&str, &str)],
        row: &[Value],
        column: usize,
        into: Option<&str>,
    ) -> Result<Step, String> {
        let catalog = catalog();
        let ties = links::declared(&catalog);
        let columns: Vec<Column> = origins
            .iter()
            .map(|(table, name)| Column {
                origin: (!table.is_empty()).then(|| (table.to_string(), name.to_string())),
                ..Column::named(*name)
            })
            .collect();
        step(
            &Cell {
                columns: &columns,
                row,
                column,
            },
            into,
            &catalog,
            &ties,
            &SQLITE,
        )
    }

    #[test]
    fn a_link_is_followed_forward_and_back() {
        let origins = [("visits", "id"), ("visits", "vessel"), ("", "n")];
        let row = [
            Value::Integer(7),
            Value::from("O'Malley"),
            Value::Integer(1),
        ];
        let rows = |sql: &str| Ok(Step::Rows(sql.to_string()));
        assert_eq!(
            follow(&origins, &row, 1, None),
            rows("select * from vessels where call_sign = 'O''Malley'")
        );
        let Ok(Step::Counts(counts, each)) = follow(&origins, &row, 0, None) else {
            panic!("counts first");
        };
        assert!(
            counts.contains("from dues where visit_id = 7\nunion all "),
            "{counts}"
        );
        assert_eq!(each[1], "select * from visits where \"Odd \"\"name\" = 7");
        assert_eq!(
            follow(&origins, &row, 0, Some("dues")),
            rows("select * from dues where visit_id = 7")
        );
        assert!(follow(&origins, &row, 2, None).is_err_and(|w| w.contains("does not come from")));
        assert!(
            follow(&origins, &row, 0, Some("nowhere"))
                .is_err_and(|w| w.contains("no table nowhere"))
        );
        let empty = [Value::Integer(7), Value::Null, Value::Null];
        assert!(follow(&origins, &empty, 1, None).is_err_and(|w| w.contains("is empty")));
        assert!(
            follow(&[("visits", "Odd")], &[Value::Null], 0, Some("dues"))
                .is_err_and(|w| w.contains("id is not in this result"))
        );
    }

    #[test]
    fn a_path_of_documents_is_followed() {
        let mut catalog = Catalog::default();
        for name in ["landings", "surveys", "fines"] {
            let mut object = Object::new("", name, Kind::Collection);
            object.fields = vec![Field {
                name: "vessel.call_sign".into(),
                ..Field::default()
            }];
            catalog.objects.push(object);
        }
        let columns = [Column {
            origin: Some(("surveys".into(), "vessel.call_sign".into())),
            ..Column::named("vessel.call_sign")
        }];
        let ties = [tie(0, 1), tie(2, 1)];
        let go = |value: Value, ties: &[Tie], into| {
            let cell = Cell {
                columns: &columns,
                row: &[value],
                column: 0,
            };
            step(&cell, into, &catalog, ties, &FLOW)
        };
        let expected = "from landings where vessel.call_sign = 'BH''1'";
        let found = go(Value::from("BH'1"), &ties[..1], None);
        assert_eq!(found, Ok(Step::Rows(expected.into())));
        assert_eq!(
            go(Value::from("BH'1"), &ties, Some("landings")),
            Ok(Step::Rows(expected.into()))
        );
        let several = go(Value::from("x"), &ties, None).expect_err("two");
        assert!(several.contains("landings and fines"), "{several}");
        assert!(go(Value::Missing, &ties[..1], None).is_err_and(|w| w.contains("is empty")));
    }

    fn tie(from: usize, to: usize) -> Tie {
        Tie {
            from,
            columns: vec!["vessel.call_sign".into()],
            to,
            their_columns: vec!["vessel.call_sign".into()],
            declared: false,
            one_to_one: false,
            optional: false,
            finds_one: false,
        }
    }
}
