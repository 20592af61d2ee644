//! A way through tables as a join: aliases, conditions on the right columns, names quoted where they have to be.

use idle_tide_core::Catalog;
use idle_tide_core::catalog::Object;
use idle_tide_core::links::{Route, Tie};

use crate::dialect::Dialect;

/// The name of an object as it has to be written in a statement.
pub fn written(object: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    let name = dialect.quote_name(&object.name);
    if object.schema.is_empty() || catalog.needs_no_schema(object) {
        name
    } else {
        format!("{}.{name}", dialect.quote_name(&object.schema))
    }
}

/// Aliases for tables: the first letters of their names, as many as tell them apart, and no words of SQL.
pub fn aliases(names: &[&str], taken: &[String], dialect: &Dialect) -> Vec<String> {
    let mut given: Vec<String> = Vec::new();
    for name in names {
        let letters: Vec<char> = name
            .chars()
            .filter(char::is_ascii_alphanumeric)
            .map(|c| c.to_ascii_lowercase())
            .collect();
        // A name of several words is known by their first letters.
        let initials: String = name
            .split(|c: char| !c.is_alphanumeric())
            .filter_map(|word| word.chars().next())
            .filter(char::is_ascii_alphabetic)
            .map(|c| c.to_ascii_lowercase())
            .collect();
        let starts = (1..=letters.len()).map(|count| letters[..count].iter().collect::<String>());
        let first = (initials.len() > 1).then_some(initials);
        let base = letters
            .first()
            .filter(|c| c.is_ascii_alphabetic())
            .map_or("t".to_string(), char::to_string);
        let numbered = (2..).map(|n| format!("{base}{n}"));
        let free = |alias: &String| {
            alias.starts_with(|c: char| c.is_ascii_alphabetic())
                && !dialect.is_keyword(alias)
                && !dialect.is_reserved(alias)
                && !given.contains(alias)
                && !taken.contains(alias)
                && !names
                    .iter()
                    .any(|other| other != name && other.eq_ignore_ascii_case(alias))
        };
        let alias = first
            .into_iter()
            .chain(starts.take(3))
            .chain(numbered)
            .find(free);
        given.push(alias.unwrap_or_default());
    }
    given
}

/// The condition that joins a table by a link: each of its columns equals one of a table that is there. Both are
/// written with their aliases.
pub fn condition(new: (&str, &[String]), there: (&str, &[String]), dialect: &Dialect) -> String {
    let column = |alias: &str, name: &String| {
        format!(
            "{}.{}",
            dialect.quote_name(alias),
            dialect.quote_column(name)
        )
    };
    let pairs = new.1.iter().zip(there.1);
    let pairs: Vec<String> = pairs
        .map(|(a, b)| format!("{} = {}", column(new.0, a), column(there.0, b)))
        .collect();
    pairs.join(" and ")
}

/// The tables of a way and the aliases that [`statement`] gives them.
pub fn named(route: &Route, catalog: &Catalog, dialect: &Dialect) -> Vec<(usize, String)> {
    let tables = route.tables();
    let names: Vec<&str> = tables
        .iter()
        .map(|at| catalog.objects[*at].name.as_str())
        .collect();
    // What is joined to a document takes a name in it.
    let fields = tables.iter().filter(|_| dialect.is_flow()).flat_map(|at| {
        let fields = catalog.objects[*at].fields.iter();
        fields.map(|f| f.name.clone())
    });
    let given = aliases(&names, &fields.collect::<Vec<_>>(), dialect);
    tables.into_iter().zip(given).collect()
}

/// The query that goes a way: a join for each step.
pub fn statement(route: &Route, ties: &[Tie], catalog: &Catalog, dialect: &Dialect) -> String {
    let named = named(route, catalog, dialect);
    let alias = |table: usize| {
        let found = named.iter().find(|(at, _)| *at == table);
        found.map_or("", |(_, alias)| alias.as_str())
    };
    let table = |at: usize| written(&catalog.objects[at], catalog, dialect);
    if dialect.is_flow() {
        let mut text = format!("from {}", table(route.start));
        for step in &route.steps {
            let tie = &ties[step.tie];
            let (ours, theirs) = match tie.from == step.from {
                true => (&tie.columns[0], &tie.their_columns[0]),
                false => (&tie.their_columns[0], &tie.columns[0]),
            };
            let there = match step.from == route.start {
                true => ours.clone(),
                false => format!("{}.{ours}", alias(step.from)),
            };
            text.push_str(&format!(
                "\njoin {} as {new} on {there} = {new}.{theirs}",
                table(step.to),
                new = alias(step.to)
            ));
        }
        return text;
    }
    let mut text = format!(
        "select *\nfrom {} {}",
        table(route.start),
        alias(route.start)
    );
    for step in &route.steps {
        let tie = &ties[step.tie];
        let ends = [(tie.from, &tie.columns), (tie.to, &tie.their_columns)];
        let columns = |table: usize| {
            let end = ends.iter().find(|(at, _)| *at == table);
            (
                alias(table),
                end.map_or(&[][..], |(_, columns)| columns.as_slice()),
            )
        };
        let condition = condition(columns(step.to), columns(step.from), dialect);
        text.push_str(&format!(
            "\njoin {} {} on {condition}",
            table(step.to),
            alias(step.to)
        ));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{FLOW, MARIADB, POSTGRES};
    use idle_tide_core::catalog::{Field, Kind, Link};
    use idle_tide_core::links::{declared, routes};

    #[test]
    fn aliases_are_short_and_free() {
        assert_eq!(
            aliases(
                &[
                    "visits",
                    "vessels",
                    "visit_services",
                    "on",
                    "42",
                    "owners",
                    "o"
                ],
                &["vi".into()],
                &POSTGRES
            ),
            ["v", "ve", "vs", "o2", "t2", "ow", "o"]
        );
    }

    #[test]
    fn a_way_over_a_bridge_with_other_names_and_two_columns() {
        let field = |name: &str, key: Option<usize>| Field {
            name: name.into(),
            key,
            ..Field::default()
        };
        let table = |schema: &str, name: &str, fields: Vec<Field>, links: Vec<Link>| Object {
            fields,
            links,
            ..Object::new(schema, name, Kind::Table)
        };
        let link = |columns: &[&str], schema: &str, table: &str, theirs: &[&str]| Link {
            columns: columns.iter().map(|c| c.to_string()).collect(),
            schema: schema.into(),
            table: table.into(),
            their_columns: theirs.iter().map(|c| c.to_string()).collect(),
            ..Link::default()
        };
        let catalog = Catalog {
            path: vec!["sea".into()],
            objects: vec![
                table("sea", "boats", vec![field("no", Some(1))], Vec::new()),
                table(
                    "sea",
                    "Order",
                    vec![field("boat", None), field("day", None), field("turn", None)],
                    vec![
                        link(&["boat"], "", "boats", &["no"]),
                        link(&["day", "turn"], "quay", "tides", &["on day", "high"]),
                    ],
                ),
                table(
                    "quay",
                    "tides",
                    vec![field("on day", Some(1)), field("high", Some(2))],
                    Vec::new(),
                ),
            ],
            ..Catalog::default()
        };
        let ties = declared(&catalog);
        let route = &routes(&ties, &[0, 2], 1)[0];
        assert_eq!(
            statement(route, &ties, &catalog, &POSTGRES),
            "select *\nfrom boats b\njoin \"Order\" o on o.boat = b.\"no\"\njoin quay.tides t on t.\"on day\" = o.day and t.high = o.turn"
                .replace("\"no\"", &POSTGRES.quote_name("no"))
        );
        assert!(statement(route, &ties, &catalog, MARIADB).contains("`Order` o"));
        // A path of documents is written so already; what is joined is known by its alias.
        let mut harbour = Catalog::default();
        for (name, others) in [
            ("owners", &[][..]),
            ("vessels", &["owner.no", "o"]),
            ("visits", &["vessel.no"]),
        ] {
            let mut fields = vec![field("_id", Some(1)), field("no", None)];
            fields.extend(others.iter().map(|name| field(name, None)));
            harbour.objects.push(Object {
                fields,
                ..Object::new("", name, Kind::Collection)
            });
        }
        let tie = |from: usize, path: &str, to: usize| Tie {
            from,
            columns: vec![path.into()],
            to,
            their_columns: vec!["no".into()],
            declared: false,
            one_to_one: false,
            optional: false,
            finds_one: false,
        };
        let ties = [tie(2, "vessel.no", 1), tie(1, "owner.no", 0)];
        let route = &routes(&ties, &[2, 0], 1)[0];
        assert_eq!(
            statement(route, &ties, &harbour, &FLOW),
            "from visits\njoin vessels as ve on vessel.no = ve.no\njoin owners as ow on ve.owner.no = ow.no"
        );
    }
}
