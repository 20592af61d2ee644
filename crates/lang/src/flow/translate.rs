//! Simple statements of SQL as flows and the other way round, to offer to somebody who typed one where the other is spoken.

use idle_tide_core::document::time::TimeZone;

use super::ast::{
    Aggregate, AggregateFunction, Field, Node, Operator, Source, StageKind, Statement,
};
use super::token::{Token, TokenKind, tokens};
use crate::dialect::SQLITE;

/// Whether a text is a flow, whole and without errors.
pub fn is_flow(text: &str) -> bool {
    matches!(
        super::parse(text, &TimeZone::UTC).whole(),
        Ok(Statement::Flow(_))
    )
}

/// The collection whose documents a flow gives, if its stages leave their paths as they are.
pub fn collection_of(text: &str) -> Option<String> {
    let Ok(Statement::Flow(flow)) = super::parse(text, &TimeZone::UTC).whole() else {
        return None;
    };
    let kept = |stage: &super::ast::Stage| {
        matches!(
            stage.kind,
            StageKind::Where(_)
                | StageKind::Order(_)
                | StageKind::Limit(_)
                | StageKind::Offset(_)
                | StageKind::Sample(_)
                | StageKind::Without(_)
                | StageKind::Join { .. }
                | StageKind::Unnest { name: None, .. }
        )
    };
    match flow.source {
        Source::Collection(name) if flow.stages.iter().all(kept) => Some(name.name),
        _ => None,
    }
}

/// The significant tokens of a statement, read by place.
struct Words<'a> {
    text: &'a str,
    list: Vec<Token>,
}

impl<'a> Words<'a> {
    fn of(text: &'a str) -> Self {
        let list = tokens(text)
            .into_iter()
            .filter(|t| {
                !matches!(t.kind, TokenKind::Blank | TokenKind::Comment) && t.of(text) != ";"
            })
            .collect();
        Words { text, list }
    }

    fn word(&self, at: usize) -> String {
        let token = self.list.get(at);
        token.map_or(String::new(), |t| t.of(self.text).to_ascii_lowercase())
    }

    fn part(&self, from: usize, to: usize) -> &'a str {
        if from >= to {
            return "";
        }
        &self.text[self.list[from].span.start..self.list[to - 1].span.end]
    }

    /// Places of tokens outside brackets that `is` holds for.
    fn outside(&self, from: usize, to: usize, is: &dyn Fn(&str) -> bool) -> Vec<usize> {
        let mut depth = 0;
        let mut found = Vec::new();
        for at in from..to {
            match self.list[at].of(self.text) {
                "(" => depth += 1,
                ")" => depth -= 1,
                _ if depth == 0 && is(&self.word(at)) => found.push(at),
                _ => {}
            }
        }
        found
    }

    /// The parts between commas.
    fn items(&self, from: usize, to: usize) -> Vec<(usize, usize)> {
        let mut start = from;
        let mut items = Vec::new();
        for at in self.outside(from, to, &|w| w == ",") {
            items.push((start, at));
            start = at + 1;
        }
        items.push((start, to));
        items
    }
}

/// A part of a list of columns: what it is, without a qualifier, and its name.
struct Column {
    value: String,
    name: Option<String>,
    aggregate: bool,
}

const HEADS: [&str; 11] = [
    "from", "where", "group", "having", "order", "limit", "offset", "join", "union", "inner",
    "left",
];

/// A simple statement of SQL as a flow or a command.
pub fn flow_for_sql(text: &str) -> Option<String> {
    let words = Words::of(text);
    let length = words.list.len();
    let word = |at: usize| words.word(at);
    if word(0) != "select" {
        return other_for_sql(&words);
    }
    let heads = words.outside(0, length, &|w| HEADS.contains(&w));
    let head = |at: &usize| word(*at);
    if heads
        .iter()
        .any(|at| matches!(head(at).as_str(), "join" | "union" | "inner" | "left"))
    {
        return None;
    }
    let clause = |name: &str| -> Option<(usize, usize)> {
        let at = heads.iter().position(|at| head(at) == name)?;
        let end = heads.get(at + 1).copied().unwrap_or(length);
        Some((heads[at], end))
    };
    let (from, from_end) = clause("from")?;
    // The collection, and at most another name for it.
    let parts = words.outside(from + 1, from_end, &|w| w != ".").len();
    let (table_end, alias) = match parts - words.outside(from + 1, from_end, &|w| w == ".").len() {
        1 => (from_end, None),
        2 if word(from_end - 2) != "as" => (from_end - 1, Some(word(from_end - 1))),
        3 if word(from_end - 2) == "as" => (from_end - 2, Some(word(from_end - 1))),
        _ => return None,
    };
    // Without another name its own is that by which columns are called.
    let alias = alias.unwrap_or_else(|| word(table_end - 1));
    let named = Named {
        words: &words,
        text,
        alias,
    };
    let bare = |a: usize, b: usize| named.bare(a, b);
    let mut flow = format!("from {}", words.part(from + 1, table_end));
    if let Some((a, b)) = clause("where") {
        flow.push_str(&format!(" {}", bare(a, b)));
    }
    let distinct = word(1) == "distinct";
    let first = 1 + usize::from(distinct);
    let columns = named.columns(first, from);
    let star = matches!(&columns[..], [one] if one.value == "*");
    let plain = columns
        .iter()
        .all(|c| !c.aggregate && !c.value.contains('('));
    let mut renamed: Vec<(String, String)> = Vec::new();
    match clause("group") {
        None if distinct => match &columns[..] {
            [one] if plain && !star => flow.push_str(&format!(" distinct {}", one.value)),
            _ => return None,
        },
        None if matches!(&columns[..], [one] if one.value == "count()") => flow.push_str(" count"),
        group if group.is_some() || columns.iter().all(|c| c.aggregate) => {
            let keys = group.map_or(Vec::new(), |(a, b)| {
                let items = words.items(a + 2, b).into_iter();
                items.map(|(a, b)| bare(a, b)).collect()
            });
            let (stage, names) = grouped(&keys, &columns)?;
            flow.push_str(&stage);
            renamed = names;
        }
        _ if !plain => return None,
        _ => {}
    }
    // Fields get their names last: until then what is ordered by a name is ordered by the column.
    let given: Vec<(&str, &str)> = match plain && clause("group").is_none() {
        true => columns
            .iter()
            .filter_map(|c| Some((c.name.as_deref()?, c.value.as_str())))
            .collect(),
        false => Vec::new(),
    };
    let after = |a: usize, b: usize| named.after(a, b, &renamed, &given);
    if let Some((a, b)) = clause("having") {
        flow.push_str(&format!(" where {}", after(a + 1, b)?));
    }
    for name in ["order", "offset", "limit"] {
        if let Some((a, b)) = clause(name) {
            flow.push_str(&format!(" {}", after(a, b)?));
        }
    }
    if !star && plain && !distinct && clause("group").is_none() {
        let fields: Vec<String> = columns
            .into_iter()
            .map(|c| match c.name {
                Some(name) => format!("{name}: {}", c.value),
                None => c.value,
            })
            .collect();
        flow.push_str(&format!(" pick {{ {} }}", fields.join(", ")));
    }
    let flow = format!("{flow};");
    // What is offered can be run.
    is_flow(&flow).then_some(flow)
}

/// Statements that are no queries.
fn other_for_sql(words: &Words<'_>) -> Option<String> {
    let length = words.list.len();
    let word = |at: usize| words.word(at);
    match word(0).as_str() {
        "show" if word(1) == "tables" || word(1) == "collections" => Some("/collections".into()),
        "describe" | "desc" if length == 2 => Some(format!("/about {}", word(1))),
        "delete" if word(1) == "from" && length == 3 => {
            Some(format!("delete all from {};", words.part(2, 3)))
        }
        "truncate" => Some(format!("empty {};", words.part(length - 1, length))),
        _ => None,
    }
}

/// The words of a query, and the other name that it has for its collection.
struct Named<'a> {
    words: &'a Words<'a>,
    text: &'a str,
    alias: String,
}

impl Named<'_> {
    fn word(&self, at: usize) -> String {
        self.words.word(at)
    }

    /// Words as they are written, the other name taken off.
    fn bare(&self, a: usize, b: usize) -> String {
        self.meant(a, b, &[])
    }

    /// The same, with columns for the names that they were given.
    fn meant(&self, a: usize, b: usize, given: &[(&str, &str)]) -> String {
        let (words, text) = (self.words, self.text);
        let word = |at: usize| self.word(at);
        let alone = |at: usize| word(at.wrapping_sub(1)) != "." && word(at + 1) != ".";
        let mut out = String::new();
        let mut at = a;
        while at < b {
            let gap = (at > a).then(|| words.list[at - 1].span.end..words.list[at].span.start);
            out.push_str(gap.map_or("", |gap| &text[gap]));
            at += 2 * usize::from(word(at) == self.alias && word(at + 1) == "." && at + 2 < b);
            let known = given
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case(&word(at)));
            let known = known.filter(|_| alone(at)).map(|(_, value)| *value);
            out.push_str(known.unwrap_or(words.part(at, at + 1)));
            at += 1;
        }
        out
    }

    /// The columns that are chosen.
    fn columns(&self, first: usize, from: usize) -> Vec<Column> {
        let words = self.words;
        let word = |at: usize| self.word(at);
        let bare = |a: usize, b: usize| self.bare(a, b);
        words
            .items(first, from)
            .into_iter()
            .map(|(a, b)| {
                let with_as = b >= a + 3 && word(b - 2) == "as";
                let is_word = |at: usize| words.list[at].kind == TokenKind::Word;
                let bare_name = !with_as
                    && b >= a + 2
                    && is_word(b - 1)
                    && (word(b - 2) == ")" || is_word(b - 2));
                let named = with_as || bare_name;
                let end = b - usize::from(named) - usize::from(with_as);
                let value = bare(a, end);
                let squeezed = value.replace(' ', "").to_ascii_lowercase();
                Column {
                    aggregate: word(a + 1) == "("
                        && ["count", "sum", "avg", "min", "max", "stddev"]
                            .contains(&word(a).as_str()),
                    value: match squeezed.as_str() {
                        "count(*)" | "count(1)" => "count()".into(),
                        _ => value.replace("count(distinct ", "count(different "),
                    },
                    name: named.then(|| words.part(b - 1, b).to_string()),
                }
            })
            .collect()
    }

    /// The same after a group, whose aggregates go by their names.
    fn after(
        &self,
        a: usize,
        b: usize,
        renamed: &[(String, String)],
        given: &[(&str, &str)],
    ) -> Option<String> {
        let word = |at: usize| self.word(at);
        let bare = |a: usize, b: usize| self.bare(a, b);
        let mut written = self.meant(a, b, given);
        for at in (a..b).rev() {
            let calls = word(at + 1) == "(" && at + 1 < b;
            if calls && ["count", "sum", "avg", "min", "max", "stddev"].contains(&word(at).as_str())
            {
                let close = (at + 2..b).find(|c| word(*c) == ")")?;
                let call = bare(at, close + 1);
                let squeezed = call.replace(' ', "").to_ascii_lowercase();
                let squeezed = squeezed
                    .replace("count(*)", "count()")
                    .replace("(distinct", "(different");
                let (_, name) = renamed.iter().find(|(value, _)| *value == squeezed)?;
                written = written.replace(&call, name);
            }
        }
        Some(written)
    }
}

/// The stage of a group, and the names of its aggregates by what they are.
fn grouped(keys: &[String], columns: &[Column]) -> Option<(String, Vec<(String, String)>)> {
    let mut renamed: Vec<(String, String)> = Vec::new();
    let mut by = Vec::new();
    let mut aggregates = Vec::new();
    for key in keys {
        let column = columns.iter().find(|c| c.value == *key);
        by.push(match column.and_then(|c| c.name.as_ref()) {
            Some(name) => format!("{name}: {key}"),
            None => key.clone(),
        });
    }
    for column in columns {
        if !column.aggregate {
            if !keys.contains(&column.value) {
                return None;
            }
            continue;
        }
        let name = column.name.clone().unwrap_or_else(|| {
            let word = column.value.split('(').next().unwrap_or_default();
            let word = word.to_ascii_lowercase();
            let taken = aggregates.len();
            if taken == 0 {
                word
            } else {
                format!("{word}_{}", taken + 1)
            }
        });
        renamed.push((
            column.value.replace(' ', "").to_ascii_lowercase(),
            name.clone(),
        ));
        aggregates.push(format!("{name}: {}", column.value));
    }
    let by = if by.is_empty() {
        String::new()
    } else {
        format!(" by {}", by.join(", "))
    };
    Some((
        format!(" group{by} {{ {} }}", aggregates.join(", ")),
        renamed,
    ))
}

/// A flow of simple stages as SQL.
pub fn sql_for_flow(text: &str) -> Option<String> {
    let statement = super::parse(text, &TimeZone::UTC).whole().ok()?;
    let Statement::Flow(flow) = statement else {
        return None;
    };
    let Source::Collection(table) = &flow.source else {
        return None;
    };
    let mut columns = "*".to_string();
    let (mut conditions, mut grouped) = (Vec::new(), String::new());
    // A statement orders, then passes rows over, then takes some; stages in another order mean something else.
    let (mut order, mut offset, mut limit) = (None, None, None);
    for stage in &flow.stages {
        let inner = text.get(stage.span.clone())?.trim_end();
        let begins = columns == "*" && order.is_none() && offset.is_none() && limit.is_none();
        match &stage.kind {
            StageKind::Where(condition) if begins => {
                let either = matches!(condition.node, Node::Binary(Operator::Or, ..));
                conditions.push((text.get(condition.span.clone())?, either));
            }
            StageKind::Count(_) if begins => columns = "count(*)".into(),
            StageKind::Distinct(path) if begins => {
                // With its count, and by value, as the stage gives it.
                let path = path.written();
                columns = format!("{path}, count(*) as count");
                grouped = format!(" group by {path}");
                order = Some(format!("order by {path}"));
            }
            StageKind::Group(keys, aggregates) if begins => {
                let mut list = fields(keys, text)?;
                let by: Option<Vec<&str>> = keys
                    .iter()
                    .map(|f| text.get(f.value.span.clone()))
                    .collect();
                let by = by?;
                for aggregate in aggregates {
                    list.push(format!(
                        "{} as {}",
                        as_sql(aggregate, text)?,
                        aggregate.name.name
                    ));
                }
                columns = list.join(", ");
                if !by.is_empty() {
                    grouped = format!(" group by {}", by.join(", "));
                }
            }
            StageKind::Pick(list) if columns == "*" => columns = fields(list, text)?.join(", "),
            // What is picked has no other fields to order by.
            StageKind::Order(_)
                if order.is_none()
                    && offset.is_none()
                    && limit.is_none()
                    && (columns == "*" || !grouped.is_empty()) =>
            {
                order = Some(inner.to_string());
            }
            StageKind::Offset(_) if offset.is_none() && limit.is_none() => {
                offset = Some(inner.to_string());
            }
            StageKind::Limit(_) if limit.is_none() => limit = Some(inner.to_string()),
            _ => return None,
        }
    }
    // Passing rows over without an end is not written alike everywhere.
    if offset.is_some() && limit.is_none() {
        return None;
    }
    // A name that is a word of the language would need quotes, and these differ.
    let named = flow.stages.iter().flat_map(|stage| match &stage.kind {
        StageKind::Group(keys, aggregates) => {
            let keys = keys.iter().map(|key| key.name.name.as_str());
            keys.chain(aggregates.iter().map(|one| one.name.name.as_str()))
                .collect()
        }
        StageKind::Pick(list) => list.iter().map(|field| field.name.name.as_str()).collect(),
        _ => Vec::new(),
    });
    let mut names = named.chain([table.name.as_str()]);
    if names.any(|name| name.split('.').any(|part| SQLITE.quote_name(part) != part)) {
        return None;
    }
    let mut sql = format!("select {columns} from {}", table.name);
    // An `or` among several that have to hold stands in brackets.
    let several = conditions.len() > 1;
    let conditions: Vec<String> = conditions
        .into_iter()
        .map(|(condition, either)| match several && either {
            true => format!("({condition})"),
            false => condition.to_string(),
        })
        .collect();
    if !conditions.is_empty() {
        sql.push_str(&format!(" where {}", conditions.join(" and ")));
    }
    sql.push_str(&grouped);
    for part in [order, limit, offset].into_iter().flatten() {
        sql.push_str(&format!(" {part}"));
    }
    Some(format!("{sql};"))
}

fn fields(list: &[Field], text: &str) -> Option<Vec<String>> {
    list.iter()
        .map(|f| {
            let value = text.get(f.value.span.clone())?;
            Some(if value == f.name.name {
                value.to_string()
            } else {
                format!("{value} as {}", f.name.name)
            })
        })
        .collect()
}

fn as_sql(aggregate: &Aggregate, text: &str) -> Option<String> {
    let of = match &aggregate.of {
        Some(e) => text.get(e.span.clone())?,
        None => "*",
    };
    let name = match aggregate.function {
        AggregateFunction::Count => "count",
        AggregateFunction::CountDifferent => return Some(format!("count(distinct {of})")),
        AggregateFunction::Sum => "sum",
        AggregateFunction::Avg => "avg",
        AggregateFunction::Min => "min",
        AggregateFunction::Max => "max",
        _ => return None,
    };
    Some(format!("{name}({of})"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn simple_statements_have_their_like_in_the_other_language() {
        for (sql, flow) in [
            (
                "select * from visits where a = 'x;y' order by b desc limit 5;",
                "from visits where a = 'x;y' order by b desc limit 5;",
            ),
            ("SELECT count(*) FROM visits", "from visits count;"),
            (
                "select distinct berth from visits",
                "from visits distinct berth;",
            ),
            (
                "select a, b.c from visits where a in (1, 2)",
                "from visits where a in (1, 2) pick { a, b.c };",
            ),
            ("truncate table visits", "empty visits;"),
            (
                "select v.port, count(*) n, sum(v.kg) from visits v where v.kg > 1 group by v.port having count(*) > 2 order by sum(v.kg) desc",
                "from visits where kg > 1 group by port { n: count(), sum_2: sum(kg) } where n > 2 order by sum_2 desc;",
            ),
            (
                "select max(kg) from visits as v",
                "from visits group { max: max(kg) };",
            ),
        ] {
            assert_eq!(flow_for_sql(sql).as_deref(), Some(flow), "{sql}");
        }
        assert_eq!(flow_for_sql("select a from b join c on d = e"), None);
        assert_eq!(
            sql_for_flow(
                "from visits where a > 1 where b = 'x' order by c limit 3 pick { a, z: c }"
            )
            .as_deref(),
            Some("select a, c as z from visits where a > 1 and b = 'x' order by c limit 3;")
        );
        assert_eq!(
            sql_for_flow("from visits group by p: port { n: count(), kinds: count(different kind) } order by n desc").as_deref(),
            Some("select port as p, count(*) as n, count(distinct kind) as kinds from visits group by port order by n desc;")
        );
        assert_eq!(
            sql_for_flow("from visits distinct berth limit 3").as_deref(),
            Some(
                "select berth, count(*) as count from visits group by berth order by berth limit 3;"
            )
        );
        for other in [
            "from visits unnest a",
            "from visits limit 3 count",
            "select 1",
            "from visits group by a { n: count() } where n > 1",
        ] {
            assert_eq!(sql_for_flow(other), None, "{other}");
        }
        assert_eq!(flow_for_sql("select a, count(*) from b group by c"), None);
        let kept = "from visits where a = 1 unnest b order by c limit 2;";
        assert_eq!(collection_of(kept).as_deref(), Some("visits"));
        assert_eq!(collection_of("from visits pick { a }"), None);
    }
}
