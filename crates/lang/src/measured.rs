//! Which column of a table the values of a result are in the unit of: the column that they are, also where several of its values
//! were brought together in a way that keeps its unit. A sum of kilograms is in kilograms; a count of them, or a quotient, is not.

use idle_tide_core::Catalog;
use idle_tide_core::catalog::Field;

use crate::dialect::Dialect;
use crate::query::{closes_at, divided, query};
use crate::token::{Token, TokenKind, significant, tokens};
use crate::visible::View;

/// Functions whose value is in the unit of their first argument.
const KEEPS: [&str; 18] = [
    "sum",
    "total",
    "avg",
    "min",
    "max",
    "any_value",
    "first_value",
    "last_value",
    "lag",
    "lead",
    "round",
    "ceil",
    "ceiling",
    "floor",
    "trunc",
    "abs",
    "coalesce",
    "ifnull",
];

/// For each column that the statement in `text` gives, the column of a table whose unit its values are in. Nothing where the
/// number of its columns cannot be told from the statement.
pub fn measured(text: &str, catalog: &Catalog, dialect: &Dialect) -> Vec<Option<Field>> {
    let all = tokens(text, dialect);
    let list = significant(&all);
    let query = query(text, &list, dialect);
    let Some(block) = query.blocks.first() else {
        return Vec::new();
    };
    let items = divided(list.get(block.select.clone()).unwrap_or_default());
    let every = |item: &&[Token]| item.last().is_some_and(|last| last.of(text) == "*");
    if items.iter().any(every) {
        return Vec::new();
    }
    let view = View {
        text,
        list: &list,
        query: &query,
        catalog,
    };
    let of = |item: &&[Token]| {
        let (qualifier, name) = source(item, text)?;
        let seen = view.find(Some(0), qualifier.as_deref(), &name)?;
        seen.from.map(|(_, field)| field.clone())
    };
    items.iter().map(of).collect()
}

/// The column that an item of a list is in the unit of: its qualifier and its name.
fn source(item: &[Token], text: &str) -> Option<(Option<String>, String)> {
    match item {
        [column, rest @ ..] if ends(rest, text) => Some((None, column.name(text)?)),
        [table, dot, column, rest @ ..] if dot.kind == TokenKind::Dot && ends(rest, text) => {
            Some((Some(table.name(text)?), column.name(text)?))
        }
        [function, rest @ ..] if KEEPS.iter().any(|known| function.is_word(text, known)) => {
            let close = closes_at(rest).filter(|close| *close > 0)?;
            if !ends(&rest[close + 1..], text) {
                return None;
            }
            let first = *divided(&rest[1..close]).first()?;
            match first {
                [word, rest @ ..] if word.is_word(text, "distinct") => source(rest, text),
                first => source(first, text),
            }
        }
        _ => None,
    }
}

/// Whether nothing more comes than a name, or a window that the function looks at, and a name.
fn ends(rest: &[Token], text: &str) -> bool {
    match rest {
        [] => true,
        [over, rest @ ..] if over.is_word(text, "over") && rest.len() > 1 => {
            closes_at(rest).is_some_and(|close| close > 0 && ends(&rest[close + 1..], text))
        }
        [as_, name] => as_.is_word(text, "as") && name.name(text).is_some(),
        [name] => name.name(text).is_some(),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use idle_tide_core::catalog::{Kind, Object};

    use super::*;
    use crate::dialect::SQLITE;

    fn catalog() -> Catalog {
        let table = |name: &str, fields: &[&str]| {
            let mut object = Object::new("", name, Kind::Table);
            object.fields = fields
                .iter()
                .map(|name| Field {
                    name: (*name).into(),
                    ..Field::default()
                })
                .collect();
            object
        };
        Catalog {
            objects: vec![
                table("landings", &["kg", "species", "over"]),
                table("surveys", &["depth", "kg"]),
            ],
            ..Catalog::default()
        }
    }

    #[test]
    fn what_keeps_a_unit_and_what_does_not() {
        let catalog = catalog();
        let of = |text: &str| -> Vec<Option<String>> {
            measured(text, &catalog, &SQLITE)
                .iter()
                .map(|found| found.as_ref().map(|field| field.name.clone()))
                .collect()
        };
        for (item, found) in [
            ("kg", Some("kg")),
            ("l.kg weight", Some("kg")),
            ("sum(kg)", Some("kg")),
            ("sum(distinct l.\"kg\") as weight", Some("kg")),
            ("round(avg(kg), 1) as \"a mean\"", Some("kg")),
            ("coalesce(sum(kg), 0) weight", Some("kg")),
            ("sum(kg) over (partition by species) as w", Some("kg")),
            ("max(\"over\")", Some("over")),
            ("count(kg)", None),
            ("sum(kg) / 1000", None),
            ("sum(kg / 1000)", None),
            ("sum(kg) filter (where kg > 1)", None),
            ("kg * 2 as kg", None),
            ("sum(tons)", None),
            ("1", None),
            ("'kg'", None),
        ] {
            let text = format!("select species, {item} from landings l group by 1;");
            let expected = vec![Some("species".to_string()), found.map(str::to_string)];
            assert_eq!(of(&text), expected, "{item}");
        }
        // Through what the statement defines, and by the statement itself, not by its parts.
        let kg = Some("kg".to_string());
        let text = "with w as (select kg as weight from landings) select max(weight) from w";
        assert_eq!(of(text), std::slice::from_ref(&kg));
        let text = "select kg, (select max(depth) from surveys) from landings";
        assert_eq!(of(text), [kg, None]);
        for nothing in [
            "select * from landings",
            "select l.*, kg from landings l",
            "delete from landings",
            "",
        ] {
            assert_eq!(of(nothing), [], "{nothing}");
        }
    }
}
