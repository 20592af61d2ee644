//! The parameters of a statement that have to be asked for, and their values put in their places.

use idle_tide_core::decimal::is_decimal;
use idle_tide_core::document::time::TimeZone;
use idle_tide_core::{Datum, ValueRef};

use crate::Dialect;
use crate::flow;
use crate::flow::ast::{Definition, Expr, Node, Statement};
use crate::token::{Token, TokenKind, tokens};

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parameter {
    /// Its name.
    pub name: String,
    /// Whether what is typed shows nowhere.
    pub hidden: bool,
}

/// The parameters of a statement, in the order in which they first stand: in SQL those that say so (`:?name`), in flows all of them, and
/// the password of a statement about a user that gives none.
pub fn parameters(text: &str, dialect: &Dialect) -> Vec<Parameter> {
    let mut found: Vec<Parameter> = Vec::new();
    if dialect.is_flow() {
        let Some(mut statement) = understood(text) else {
            return found;
        };
        for (name, hidden) in statement.parameters() {
            found.push(Parameter { name, hidden });
        }
        return found;
    }
    if !text.contains(":?") {
        return found;
    }
    for token in tokens(text, dialect) {
        if let Some(name) = hidden_name(&token, text)
            && !found.iter().any(|known| known.name == name)
        {
            found.push(Parameter {
                name: name.to_string(),
                hidden: true,
            });
        }
    }
    found
}

/// A statement of the flow language that may hold parameters, if nothing is wrong with it. A statement about a user that gives no password
/// gets a parameter for it.
fn understood(text: &str) -> Option<Statement> {
    let word = text
        .trim_start()
        .as_bytes()
        .first()
        .map(u8::to_ascii_lowercase);
    if !text.contains(':') && word != Some(b'c') {
        return None;
    }
    let mut statement = flow::parse(text, &TimeZone::UTC).whole().ok()?;
    if let Statement::Definition(
        Definition::CreateUser { password, .. } | Definition::ChangePassword { password, .. },
    ) = &mut statement
        && password.is_none()
    {
        let asked = Node::Parameter("password".into(), Vec::new(), true);
        *password = Some(Expr::new(asked, text.len()..text.len()));
    }
    Some(statement)
}

/// Whether a statement of the flow language makes a user or gives one a password.
pub fn is_of_users(text: &str, dialect: &Dialect) -> bool {
    let user = |statement: &Statement| {
        let Statement::Definition(definition) = statement else {
            return false;
        };
        use Definition::{ChangePassword, CreateUser};
        matches!(definition, CreateUser { .. } | ChangePassword { .. })
    };
    dialect.is_flow() && understood(text).is_some_and(|statement| user(&statement))
}

fn hidden_name<'a>(token: &Token, text: &'a str) -> Option<&'a str> {
    (token.kind == TokenKind::Parameter)
        .then(|| token.of(text).strip_prefix(":?"))
        .flatten()
}

/// The statement with each parameter replaced by what `literal` gives for its name, as the statement writes literals.
pub fn fill(text: &str, dialect: &Dialect, literal: &dyn Fn(&str) -> Option<String>) -> String {
    if dialect.is_flow() {
        let Some(mut statement) = understood(text) else {
            return text.to_string();
        };
        statement.put(&|name| flow::expression(&literal(name)?, &TimeZone::UTC).ok());
        return flow::format(&statement);
    }
    let mut filled = String::with_capacity(text.len());
    for token in tokens(text, dialect) {
        let value = hidden_name(&token, text).and_then(literal);
        match value {
            Some(value) => put(&value, &mut filled),
            None => filled.push_str(token.of(text)),
        }
    }
    filled
}

/// What was typed as a value, as a literal: numbers, dates, lists and the like as they are written in flows, anything else as a text.
pub fn typed_literal(typed: &str, dialect: &Dialect) -> String {
    match flow::expression(typed, &TimeZone::UTC) {
        Ok(value) if dialect.is_flow() && is_literal(&value) => typed.trim().to_string(),
        _ => dialect.quote_text(typed),
    }
}

/// A value that was given by name beside the statement, as a literal: numbers, true, false, null, quoted texts, and lists of
/// these, which SQL writes without their brackets; anything else as a text.
pub fn given_literal(given: &str, dialect: &Dialect) -> String {
    if dialect.is_flow() {
        return typed_literal(given, dialect);
    }
    match flow::expression(given, &TimeZone::UTC) {
        Ok(value) => in_sql(&value, given, dialect).unwrap_or_else(|| dialect.quote_text(given)),
        Err(_) => dialect.quote_text(given),
    }
}

/// The condition of a filter with variables in the places of `:name` and `:name.field`; as it is where it has none of them.
pub fn fill_condition(text: &str, variable: &dyn Fn(&str) -> Option<Datum>) -> String {
    let Some(mut condition) = text
        .contains(':')
        .then(|| flow::expression(text, &TimeZone::UTC).ok())
        .flatten()
    else {
        return text.to_string();
    };
    let before = condition.clone();
    condition.bind(variable);
    match condition == before {
        true => text.to_string(),
        false => flow::format_expr(&condition),
    }
}

/// The statement with variables in the places of `:name` and `:name.field`, as literals of the dialect; a list is in brackets,
/// unless it stands in some. What has no variable stays as it is.
pub fn fill_variables(
    text: &str,
    dialect: &Dialect,
    variable: &dyn Fn(&str) -> Option<Datum>,
) -> String {
    if !text.contains(':') {
        return text.to_string();
    }
    if dialect.is_flow() {
        let Ok(mut statement) = flow::parse(text, &TimeZone::UTC).whole() else {
            return text.to_string();
        };
        let known = statement
            .parameters()
            .iter()
            .any(|(name, _)| variable(name).is_some());
        if !known {
            return text.to_string();
        }
        statement.bind(variable);
        return flow::format(&statement);
    }
    let list = tokens(text, dialect);
    let mut filled = String::with_capacity(text.len());
    let mut at = 0;
    // The last character that means something: behind a name, a number or a bracket a colon cuts a slice.
    let mut before = ' ';
    while let Some(token) = list.get(at) {
        at += 1;
        let name = token
            .of(text)
            .strip_prefix(':')
            .filter(|_| token.kind == TokenKind::Parameter);
        let slices = before.is_alphanumeric() || matches!(before, ')' | ']' | '_' | ':');
        let found = name.filter(|_| !slices).and_then(variable);
        let Some(mut value) = found else {
            filled.push_str(token.of(text));
            if token.counts() {
                before = token.of(text).chars().last().unwrap_or(' ');
                // Keywords end like names, and a value may follow them.
                if token.kind == TokenKind::Word && list.get(at).is_some_and(|next| !next.counts())
                {
                    before = ' ';
                }
            }
            continue;
        };
        while let [dot, field, ..] = &list[at..]
            && dot.kind == TokenKind::Dot
            && let Some(field) = field.name(text)
        {
            value = match value {
                Datum::Object(inner) => inner.get(&field).cloned().unwrap_or(Datum::Null),
                _ => Datum::Null,
            };
            at += 2;
        }
        let within = before == '(';
        let literal = match &value {
            Datum::List(items) if !items.is_empty() => {
                let items = items.iter().map(|item| sql_literal(item, dialect));
                let items = items.collect::<Vec<_>>().join(", ");
                if within { items } else { format!("({items})") }
            }
            Datum::List(_) if !within => "(null)".into(),
            value => sql_literal(value, dialect),
        };
        put(&literal, &mut filled);
        before = 'a';
    }
    filled
}

/// Puts a literal into a statement; a number below zero behind a minus would begin a comment.
fn put(literal: &str, filled: &mut String) {
    if literal.starts_with('-') && filled.ends_with('-') {
        filled.push(' ');
    }
    filled.push_str(literal);
}

/// A value of a script as a literal: moments as ISO 8601 has them with a blank, what has no form in SQL as JSON text.
fn sql_literal(value: &Datum, dialect: &Dialect) -> String {
    match value {
        Datum::Null => "null".into(),
        Datum::Boolean(yes) => dialect.literal(ValueRef::Boolean(*yes)),
        Datum::Int(_) | Datum::Long(_) => flow::literal(value),
        Datum::Double(number) => dialect.literal(ValueRef::Float(*number)),
        Datum::Decimal(number) if is_decimal(number.to_string().as_bytes()) => number.to_string(),
        Datum::Text(text) => dialect.literal(ValueRef::Text(text)),
        Datum::Bytes(bytes) => dialect.literal(ValueRef::Bytes(&bytes.1)),
        Datum::Date(at) => {
            let text = idle_tide_core::document::time::text(*at).unwrap_or_else(|| at.to_string());
            let text = text.trim_end_matches('Z').replace('T', " ");
            dialect.quote_text(text.strip_suffix(" 00:00:00").unwrap_or(&text))
        }
        Datum::List(items) if items.is_empty() => "null".into(),
        other => dialect.quote_text(&flow::literal(other)),
    }
}

fn in_sql(value: &Expr, given: &str, dialect: &Dialect) -> Option<String> {
    match &value.node {
        Node::Literal(Datum::Text(text)) => Some(dialect.quote_text(text)),
        Node::Literal(Datum::Null) => Some("null".into()),
        Node::Literal(Datum::Boolean(yes)) => Some(dialect.literal(ValueRef::Boolean(*yes))),
        // Every digit that was given, also those that a binary number would not keep.
        Node::Literal(datum) if datum.is_number() => match given.get(value.span.clone()) {
            // A zero in front has a meaning that numbers do not keep.
            Some(digits)
                if digits.len() > 1 && digits.starts_with('0') && !digits.contains('.') =>
            {
                Some(dialect.quote_text(digits))
            }
            Some(digits) if is_decimal(digits.as_bytes()) => Some(digits.to_string()),
            _ => Some(flow::literal(datum)),
        },
        Node::Negative(inner) => in_sql(inner, given, dialect)
            .filter(|literal| !literal.starts_with(['\'', '-']))
            .map(|literal| format!("-{literal}")),
        Node::List(items) if !items.is_empty() => {
            let items: Option<Vec<_>> = items
                .iter()
                .map(|item| in_sql(item, given, dialect))
                .collect();
            Some(items?.join(", "))
        }
        _ => None,
    }
}

fn is_literal(value: &Expr) -> bool {
    match &value.node {
        Node::Literal(_) | Node::Day(..) => true,
        Node::Negative(inner) => matches!(inner.node, Node::Literal(_)),
        Node::List(items) => items.iter().all(is_literal),
        Node::Object(fields) => fields.iter().all(|(_, value)| is_literal(value)),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{FLOW, POSTGRES};

    fn names(text: &str, dialect: &Dialect) -> Vec<(String, bool)> {
        let list = parameters(text, dialect).into_iter();
        list.map(|p| (p.name, p.hidden)).collect()
    }

    #[test]
    fn parameters_of_flows_are_found_and_filled() {
        let text = "from landings where port = :port and lines.kg in :kg and note <> ':x' pick { a:b } limit :n;";
        assert_eq!(
            names(text, &FLOW),
            ["port", "kg", "n"].map(|n| (n.to_string(), false))
        );
        let typed = |name: &str| match name {
            "port" => Some("Old Quay's"),
            "kg" => Some("[1, -2.5]"),
            _ => Some("5"),
        };
        let filled = fill(text, &FLOW, &|name| {
            Some(typed_literal(typed(name)?, &FLOW))
        });
        for part in ["port = 'Old Quay''s'", "in [1, -2.5]", "':x'", "limit 5"] {
            assert!(filled.contains(part), "{part}: {filled}");
        }
        assert_eq!(names(&filled, &FLOW), []);
        for (typed, literal) in [
            ("2031-03-01", "'2031-03-01'"),
            ("date '2031-03-01'", "date '2031-03-01'"),
            ("kg", "'kg'"),
            (" 'a' ", "'a'"),
            ("-3", "-3"),
        ] {
            assert_eq!(typed_literal(typed, &FLOW), literal);
        }
    }

    #[test]
    fn values_given_by_name_are_literals_of_sql() {
        for (given, literal) in [
            ("5", "5"),
            ("-2.50", "-2.50"),
            ("007", "'007'"),
            ("-007", "'-007'"),
            ("0.50", "0.50"),
            ("12345678901234567890.125", "12345678901234567890.125"),
            ("null", "null"),
            ("'5'", "'5'"),
            ("[1, 'a''b', true]", "1, 'a''b', true"),
            ("Old Quay's", "'Old Quay''s'"),
            ("1; drop table t", "'1; drop table t'"),
            ("name", "'name'"),
            ("[1, x]", "'[1, x]'"),
            ("2031-03-01", "'2031-03-01'"),
        ] {
            assert_eq!(given_literal(given, &POSTGRES), literal, "{given}");
        }
    }

    #[test]
    fn passwords_are_asked_for_where_none_is_given() {
        let hidden = |name: &str| [(name.to_string(), true)];
        assert_eq!(
            names("create user pilot with roles ['read']", &FLOW),
            hidden("password")
        );
        assert_eq!(names("change password of pilot", &FLOW), hidden("password"));
        assert_eq!(
            names("create user pilot password :?pin", &FLOW),
            hidden("pin")
        );
        assert_eq!(names("create collection c", &FLOW), []);
        let filled = fill("create user pilot with roles ['read']", &FLOW, &|_| {
            Some("'it''s'".into())
        });
        assert_eq!(
            filled,
            "create user pilot with roles ['read'] password 'it''s'"
        );
        assert_eq!(names("select :?a, :b", &POSTGRES), hidden("a"));
    }

    #[test]
    fn variables_stand_where_values_can() {
        use idle_tide_core::Document;
        let variable = |name: &str| {
            Some(match name {
                "n" => Datum::Int(3),
                "name" => "O'Neill".into(),
                "list" => Datum::List(vec![Datum::Int(1), "b".into()]),
                "none" => Datum::List(Vec::new()),
                "day" => Datum::Date(1_930_089_600_000),
                "z" => Datum::Object(
                    Document::new().with("a", Datum::Object(Document::new().with("b", 7))),
                ),
                "fee" => Datum::Decimal("12.50".parse().ok()?),
                _ => return None,
            })
        };
        for (text, filled) in [
            ("select :n, :name", "select 3, 'O''Neill'"),
            (
                "where a in :list or b in (:list)",
                "where a in (1, 'b') or b in (1, 'b')",
            ),
            ("where a in :none", "where a in (null)"),
            (
                "values (:z.a.b, :fee, :day)",
                "values (7, 12.50, '2031-03-01')",
            ),
            (
                "select a[1:n], x::text, ':n', :other, :?n",
                "select a[1:n], x::text, ':n', :other, :?n",
            ),
            ("select 1 -- :n\n", "select 1 -- :n\n"),
        ] {
            assert_eq!(fill_variables(text, &POSTGRES, &variable), filled);
        }
        for (text, filled) in [
            ("kg > :n and port in :list", "kg > 3 and port in (1, 'b')"),
            ("kg > :other", "kg > :other"),
            ("kg  >  3 and ':n' = port", "kg  >  3 and ':n' = port"),
        ] {
            assert_eq!(fill_condition(text, &variable), filled);
        }
        let flow = fill_variables(
            "from landings where kg > :n and port in :list limit :n",
            &FLOW,
            &variable,
        );
        assert!(
            flow.contains("kg > 3") && flow.contains("limit 3") && flow.contains("in (1, 'b')"),
            "{flow}"
        );
    }
}
