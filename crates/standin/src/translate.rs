//! Statements in the words of the embedded database: names with schemas become single names, `top` a limit, functions
//! and types what stands for them there.

use std::ops::ControlFlow;

use sqlparser::ast::{
    BinaryOperator, CastKind, Expr, Fetch, Function, FunctionArg, FunctionArgExpr,
    FunctionArguments, Ident, LimitClause, ObjectName, ObjectNamePart, Offset, OffsetRows, Query,
    SetExpr, TableAlias, TableFactor, TopQuantity, Value, ValueWithSpan, VisitorMut,
};
use sqlparser::dialect::{MsSqlDialect, SQLiteDialect};
use sqlparser::parser::Parser;

use crate::schema::declared;

/// Functions that the embedded database is given under the name with `t_` before it.
const OURS: &[&str] = &[
    "ascii",
    "ceiling",
    "charindex",
    "choose",
    "connectionproperty",
    "current_timestamp",
    "databasepropertyex",
    "dateadd",
    "datediff",
    "datename",
    "datepart",
    "day",
    "db_id",
    "db_name",
    "eomonth",
    "floor",
    "getdate",
    "getutcdate",
    "has_perms_by_name",
    "is_member",
    "is_rolemember",
    "is_srvrolemember",
    "isdate",
    "isnumeric",
    "left",
    "len",
    "lower",
    "month",
    "nchar",
    "newid",
    "original_login",
    "power",
    "quotename",
    "replicate",
    "reverse",
    "right",
    "scope_identity",
    "serverproperty",
    "space",
    "sqrt",
    "stuff",
    "sum",
    "suser_name",
    "suser_sname",
    "sysdatetime",
    "sysdatetimeoffset",
    "sysutcdatetime",
    "upper",
    "user_name",
    "year",
];

/// Names in one word each, as the embedded database keeps them.
pub(crate) fn place(name: &ObjectName, database: &str) -> Result<String, String> {
    let parts: Vec<String> = name
        .0
        .iter()
        .filter_map(|part| part.as_ident().map(|ident| ident.value.clone()))
        .collect();
    let (before, parts) = match parts.len() {
        3 => (Some(parts[0].clone()), &parts[1..]),
        1 | 2 => (None, &parts[..]),
        _ => {
            return Err(format!(
                "{name} lies on another server, which the stand-in does not have"
            ));
        }
    };
    if let Some(before) = before
        && !before.eq_ignore_ascii_case(database)
        && !parts[0].eq_ignore_ascii_case("sys")
    {
        return Err(format!(
            "{name} lies in another database; the stand-in sees one at a time"
        ));
    }
    Ok(match parts {
        [schema, name] if schema.is_empty() || schema.eq_ignore_ascii_case("dbo") => name.clone(),
        [schema, name] => format!("{}.{}", schema.to_lowercase(), name),
        [name] => name.clone(),
        _ => String::new(),
    })
}

/// A name as one word in quotes.
pub(crate) fn one(name: &str) -> Ident {
    Ident::with_quote('"', name)
}

fn parsed(text: &str) -> Option<Expr> {
    Parser::new(&SQLiteDialect {})
        .try_with_sql(text)
        .ok()?
        .parse_expr()
        .ok()
}

fn text_literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// Rewrites a statement; what cannot be said in the embedded database is left in words.
pub(crate) struct Translate<'a> {
    pub(crate) database: &'a str,
    pub(crate) trouble: Option<String>,
}

impl Translate<'_> {
    fn fail(&mut self, words: impl Into<String>) -> ControlFlow<()> {
        self.trouble = Some(words.into());
        ControlFlow::Break(())
    }

    /// `tries`: whether it gives nothing where the value is none of the type.
    fn cast(&self, value: &Expr, words: &str, tries: bool) -> Option<Expr> {
        let t = if tries { "t_try" } else { "t" };
        let to = declared(words)?;
        let name = to.info.words();
        let inner = match name.split('(').next().unwrap_or_default() {
            "bigint" | "int" | "smallint" | "tinyint" => {
                format!("{t}_integer({value}, {})", text_literal(&name))
            }
            "bit" => format!("(cast({value} as integer) <> 0)"),
            "float" | "real" => format!("cast({value} as real)"),
            "decimal" | "numeric" | "money" | "smallmoney" => {
                let scale = if to.exact && name.contains("money") {
                    4
                } else {
                    to.info.scale
                };
                format!("{t}_decimal({value}, {scale})")
            }
            "date" => format!("substr({t}_moment({value}), 1, 10)"),
            "time" => format!("substr({t}_moment({value}), 12)"),
            "datetime" | "datetime2" | "smalldatetime" | "datetimeoffset" => {
                format!("{t}_moment({value})")
            }
            "varbinary" | "binary" | "image" => format!("cast({value} as blob)"),
            "sql_variant" => return Some(value.clone()),
            "nvarchar" | "nchar" | "varchar" | "char"
                if to.info.length != idle_tide_tabular::types::ANY =>
            {
                let unit = if name.starts_with('n') { 2 } else { 1 };
                let length = if words.contains('(') {
                    to.info.length / unit
                } else {
                    30
                };
                format!("substr(cast({value} as text), 1, {length})")
            }
            _ => format!("cast({value} as text)"),
        };
        parsed(&inner)
    }

    fn function(&mut self, call: &Function) -> Option<Expr> {
        let name = call
            .name
            .to_string()
            .to_lowercase()
            .replace(['[', ']', '"'], "");
        let arguments: Vec<String> = match &call.args {
            FunctionArguments::List(list) => list
                .args
                .iter()
                .map(|argument| match argument {
                    FunctionArg::Unnamed(FunctionArgExpr::Expr(expr)) => expr.to_string(),
                    other => other.to_string(),
                })
                .collect(),
            _ => Vec::new(),
        };
        let joined = arguments.join(", ");
        let of_object = |what: &str| {
            format!(
                "(select {what} from \"t_names\" where full = lower(replace(replace(replace({}, '[', ''), ']', ''), '\"', '')))",
                arguments.first().cloned().unwrap_or_default()
            )
        };
        let first = arguments.first().cloned().unwrap_or_default();
        let rewritten = match name.as_str() {
            "isnull" => format!("coalesce({joined})"),
            "count_big" => format!("count({joined})"),
            "object_id" => of_object("object_id"),
            "object_name" => {
                format!("(select name from \"sys.objects\" where object_id = {first})")
            }
            "object_schema_name" => format!(
                "(select s.name from \"sys.objects\" o join \"sys.schemas\" s on s.schema_id = o.schema_id where o.object_id = {first})"
            ),
            "object_definition" => {
                format!("(select definition from \"sys.sql_modules\" where object_id = {first})")
            }
            "schema_name" if arguments.is_empty() => "'dbo'".into(),
            "schema_name" => {
                format!("(select name from \"sys.schemas\" where schema_id = {first})")
            }
            "schema_id" => format!("(select schema_id from \"sys.schemas\" where name = {first})"),
            "type_name" => format!("(select name from \"sys.types\" where user_type_id = {first})"),
            "user_name" if !arguments.is_empty() => format!(
                "(select name from \"sys.database_principals\" where principal_id = {first})"
            ),
            "datediff" | "dateadd" | "datepart" | "datename" => {
                let rest = arguments.get(1..).unwrap_or_default().join(", ");
                format!("t_{name}({}, {rest})", text_literal(&first.to_lowercase()))
            }
            // A sum over a window is the embedded database's own.
            "sum" if call.over.is_some() => return None,
            known if OURS.contains(&known) => {
                let distinct = match &call.args {
                    FunctionArguments::List(list) if list.duplicate_treatment.is_some() => {
                        "distinct "
                    }
                    _ => "",
                };
                format!("t_{known}({distinct}{joined})")
            }
            _ => return None,
        };
        let made = parsed(&rewritten);
        if made.is_none() {
            self.trouble = Some(format!("{name} with these arguments"));
        }
        made
    }
}

impl VisitorMut for Translate<'_> {
    type Break = ();

    fn pre_visit_query(&mut self, query: &mut Query) -> ControlFlow<()> {
        if query.for_clause.take().is_some() {
            return self.fail("for xml and for json");
        }
        let mut limit = None;
        if let SetExpr::Select(select) = query.body.as_mut()
            && let Some(top) = select.top.take()
        {
            if top.percent || top.with_ties {
                return self.fail("top with percent or ties");
            }
            limit = top.quantity.map(|quantity| match quantity {
                TopQuantity::Expr(expr) => expr,
                TopQuantity::Constant(number) => {
                    Expr::Value(Value::Number(number.to_string(), false).into())
                }
            });
        }
        let fetch = query
            .fetch
            .take()
            .and_then(|Fetch { quantity, .. }| quantity);
        let offset = match query.limit_clause.take() {
            Some(LimitClause::LimitOffset { offset, .. }) => offset,
            _ => None,
        };
        let offset = offset.map(|offset| Offset {
            value: offset.value,
            rows: OffsetRows::None,
        });
        let limit = limit
            .or(fetch)
            .or_else(|| offset.as_ref().and_then(|_| parsed("-1")));
        if limit.is_some() {
            query.limit_clause = Some(LimitClause::LimitOffset {
                limit,
                offset,
                limit_by: Vec::new(),
            });
        }
        query.locks.clear();
        ControlFlow::Continue(())
    }

    fn pre_visit_table_factor(&mut self, factor: &mut TableFactor) -> ControlFlow<()> {
        match factor {
            TableFactor::Table {
                name,
                alias,
                with_hints,
                args,
                ..
            } => {
                with_hints.clear();
                if args.is_some() {
                    return self.fail(format!("the function {name} as a table"));
                }
                let last = name.0.last().and_then(ObjectNamePart::as_ident).cloned();
                if name.0.len() > 1
                    && alias.is_none()
                    && let Ok(place) = place(name, self.database)
                    && place.contains('.')
                    && let Some(last) = last
                {
                    *alias = Some(TableAlias {
                        explicit: true,
                        name: last,
                        columns: Vec::new(),
                        at: None,
                    });
                }
                ControlFlow::Continue(())
            }
            TableFactor::Derived {
                subquery,
                alias: Some(alias),
                ..
            } if !alias.columns.is_empty() => {
                // The embedded database names columns only in common tables.
                let columns: Vec<String> = alias.columns.drain(..).map(|c| c.to_string()).collect();
                let text = format!(
                    "with t_named ({}) as ({subquery}) select * from t_named",
                    columns.join(", ")
                );
                let parsed = Parser::new(&MsSqlDialect {}).try_with_sql(&text);
                match parsed.and_then(|mut parser| parser.parse_query()) {
                    Ok(query) => **subquery = *query,
                    Err(error) => return self.fail(error.to_string()),
                }
                ControlFlow::Continue(())
            }
            TableFactor::Derived { .. } | TableFactor::NestedJoin { .. } => {
                ControlFlow::Continue(())
            }
            other => self.fail(format!("{other} as a table")),
        }
    }

    fn pre_visit_relation(&mut self, name: &mut ObjectName) -> ControlFlow<()> {
        match place(name, self.database) {
            Ok(place) => {
                *name = ObjectName(vec![ObjectNamePart::Identifier(one(&place))]);
                ControlFlow::Continue(())
            }
            Err(words) => self.fail(words),
        }
    }

    fn post_visit_expr(&mut self, expr: &mut Expr) -> ControlFlow<()> {
        let new = match expr {
            Expr::Identifier(ident) => match ident.value.strip_prefix("@@") {
                Some(rest) => Some(Expr::Identifier(Ident::new(format!(
                    "@g_{}",
                    rest.to_lowercase()
                )))),
                None if ident.quote_style.is_none() && ident.value.starts_with('@') => {
                    Some(Expr::Identifier(Ident::new(ident.value.to_lowercase())))
                }
                None if ident.quote_style.is_none()
                    && matches!(
                        ident.value.to_lowercase().as_str(),
                        "current_user" | "session_user" | "system_user" | "user"
                    ) =>
                {
                    parsed("t_suser_sname()")
                }
                None => None,
            },
            Expr::CompoundIdentifier(parts) if parts.len() > 2 => {
                Some(Expr::CompoundIdentifier(parts[parts.len() - 2..].to_vec()))
            }
            Expr::CompoundIdentifier(parts)
                if matches!(
                    parts[0].value.to_lowercase().as_str(),
                    "inserted" | "deleted"
                ) =>
            {
                Some(Expr::Identifier(parts[1].clone()))
            }
            Expr::Value(ValueWithSpan {
                value: Value::NationalStringLiteral(text),
                ..
            }) => Some(Expr::Value(Value::SingleQuotedString(text.clone()).into())),
            Expr::BinaryOp {
                left,
                op: BinaryOperator::Plus,
                right,
            } => {
                let number = |side: &Expr| {
                    matches!(
                        side,
                        Expr::Value(ValueWithSpan {
                            value: Value::Number(..),
                            ..
                        })
                    )
                };
                match number(left) && number(right) {
                    true => None,
                    false => parsed(&format!("t_plus({left}, {right})")),
                }
            }
            Expr::BinaryOp {
                left,
                op: BinaryOperator::Divide,
                right,
            } => parsed(&format!("t_divide({left}, {right})")),
            Expr::Cast {
                kind,
                expr: value,
                data_type,
                ..
            } => match self.cast(value, &data_type.to_string(), *kind == CastKind::TryCast) {
                Some(made) => Some(made),
                None => return self.fail(format!("the type {data_type}")),
            },
            Expr::Convert {
                is_try,
                expr: value,
                data_type: Some(data_type),
                ..
            } => match self.cast(value, &data_type.to_string(), *is_try) {
                Some(made) => Some(made),
                None => return self.fail(format!("the type {data_type}")),
            },
            Expr::Floor { expr: value, .. } => parsed(&format!("t_floor({value})")),
            Expr::Ceil { expr: value, .. } => parsed(&format!("t_ceiling({value})")),
            Expr::Substring {
                expr: value,
                substring_from,
                substring_for,
                ..
            } => {
                let from = substring_from
                    .as_ref()
                    .map_or("1".into(), ToString::to_string);
                let count = substring_for
                    .as_ref()
                    .map_or(String::new(), |count| format!(", {count}"));
                parsed(&format!("substr({value}, {from}{count})"))
            }
            Expr::Collate { expr: value, .. } => Some((**value).clone()),
            Expr::Function(call) => self.function(call),
            _ => None,
        };
        if self.trouble.is_some() {
            return ControlFlow::Break(());
        }
        if let Some(new) = new {
            *expr = new;
        }
        ControlFlow::Continue(())
    }
}
