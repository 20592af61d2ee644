//! Joins that multiply rows (a row of one table comes several times, because several rows of another match it),
//! and counts and sums that then count a thing more than once. Decided from keys alone: a table is held fast by
//! others when the conditions give every column of one of its keys. Where nothing certain is known, nothing is
//! said.

use std::collections::HashSet;
use std::ops::Range;

use idle_tide_core::Catalog;
use idle_tide_core::catalog::Object;

use crate::correct::Edit;
use crate::dialect::Dialect;
use crate::query::{Block, Joined, Of, Query, closes_at, query};
use crate::remark::{Remark, Remarks};
use crate::token::{Token, TokenKind, significant, tokens};

/// What a join does to the rows before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// Each finds at most one row.
    One,
    /// Each may find several.
    Many,
}

/// A table of a block as far as the catalog knows it.
struct Known<'a> {
    joined: &'a Joined,
    object: Option<&'a Object>,
    qualifier: String,
}

/// A column: the place of its table in the block, and its name in lower case.
type Spot = (usize, String);

struct Reader<'a> {
    text: &'a str,
    list: &'a [Token],
    tables: Vec<Known<'a>>,
    /// Columns that are equal in every row; with the place of a table, in those rows only in which it has a match.
    equal: Vec<(Spot, Spot, Option<usize>)>,
    /// Columns that have one value in every row.
    fixed: HashSet<Spot>,
    dialect: &'a Dialect,
}

/// What the joins of the statement in `text` do to its rows.
pub fn joins(text: &str, catalog: &Catalog, dialect: &Dialect) -> Remarks {
    let mut found = Remarks::default();
    let all = tokens(text, dialect);
    let list = significant(&all);
    let query = query(text, &list, dialect);
    for block in &query.blocks {
        if (2..=40).contains(&block.tables.len()) {
            let mut reader = Reader::new(text, &list, &query, block, catalog, dialect);
            reader.read_conditions(block);
            reader.judge(block, &mut found);
        }
    }
    found
}

impl<'a> Reader<'a> {
    fn new(
        text: &'a str,
        list: &'a [Token],
        query: &Query,
        block: &'a Block,
        catalog: &'a Catalog,
        dialect: &'a Dialect,
    ) -> Self {
        let tables = block
            .tables
            .iter()
            .map(|joined| Known {
                joined,
                object: match &joined.of {
                    Of::Table(name) if query.common(name).is_none() => {
                        catalog.table(name).filter(|o| !o.is_view())
                    }
                    _ => None,
                },
                qualifier: joined.qualifier().unwrap_or_default().to_lowercase(),
            })
            .collect();
        Reader {
            text,
            list,
            tables,
            equal: Vec::new(),
            fixed: HashSet::new(),
            dialect,
        }
    }

    /// The column that tokens name, if it is one of the block's tables.
    fn column(&self, tokens: &[Token]) -> Option<Spot> {
        match tokens {
            [column] if matches!(column.kind, TokenKind::Word | TokenKind::QuotedName) => {
                let name = column.name(self.text)?.to_lowercase();
                let mut owners =
                    self.tables.iter().enumerate().filter(|(_, table)| {
                        table.object.is_some_and(|o| o.field(&name).is_some())
                    });
                match (owners.next(), owners.next()) {
                    (Some((at, _)), None) => Some((at, name)),
                    _ => None,
                }
            }
            [table, dot, column] | [_, _, table, dot, column]
                if dot.kind == TokenKind::Dot
                    && (tokens.len() == 3 || tokens[1].kind == TokenKind::Dot) =>
            {
                let qualifier = table.name(self.text)?.to_lowercase();
                let at = self
                    .tables
                    .iter()
                    .position(|table| table.qualifier == qualifier)?;
                Some((at, column.name(self.text)?.to_lowercase()))
            }
            _ => None,
        }
    }

    fn read_conditions(&mut self, block: &Block) {
        for at in 0..self.tables.len() {
            let joined = self.tables[at].joined;
            let only = joined.outer.then_some(at);
            self.read_condition(joined.on.clone(), only);
            let mut shared: Vec<String> = joined
                .using
                .iter()
                .map(|name| name.to_lowercase())
                .collect();
            if joined.natural
                && let Some(object) = self.tables[at].object
            {
                let earlier = |name: &str| {
                    self.tables[..at]
                        .iter()
                        .any(|t| t.object.is_some_and(|o| o.field(name).is_some()))
                };
                shared.extend(
                    object
                        .fields
                        .iter()
                        .filter(|f| earlier(&f.name))
                        .map(|f| f.name.to_lowercase()),
                );
            }
            for name in shared {
                // It is the same column of the tables before.
                for before in 0..at {
                    if self.tables[before]
                        .object
                        .is_some_and(|o| o.field(&name).is_some())
                    {
                        self.equal
                            .push(((before, name.clone()), (at, name.clone()), only));
                        break;
                    }
                }
            }
        }
        self.read_condition(block.filter.clone(), None);
    }

    /// Takes the equations out of a condition, as far as they hold for every row; for those where the table `only` has a match,
    /// if one is named.
    fn read_condition(&mut self, range: Range<usize>, only: Option<usize>) {
        let mut tokens = self.list.get(range).unwrap_or_default();
        // Brackets around the whole.
        while let [first, inner @ .., last] = tokens
            && first.kind == TokenKind::Open
            && last.kind == TokenKind::Close
            && closes_at(tokens) == Some(tokens.len() - 1)
        {
            tokens = inner;
        }
        let mut depth = 0_i32;
        let mut between = false;
        let mut parts: Vec<&[Token]> = Vec::new();
        let mut start = 0;
        for (at, token) in tokens.iter().enumerate() {
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close => depth -= 1,
                TokenKind::Word if depth == 0 => {
                    if token.is_word(self.text, "or") || token.is_word(self.text, "case") {
                        // Only one side of it may hold.
                        return;
                    } else if token.is_word(self.text, "between") {
                        between = true;
                    } else if token.is_word(self.text, "and") && !std::mem::take(&mut between) {
                        parts.push(&tokens[start..at]);
                        start = at + 1;
                    }
                }
                _ => {}
            }
        }
        parts.push(&tokens[start..]);
        let one_part = parts.len() == 1;
        for part in parts {
            let wrapped = part.first().is_some_and(|t| t.kind == TokenKind::Open)
                && closes_at(part) == Some(part.len() - 1);
            if wrapped && !one_part {
                let first = self
                    .list
                    .iter()
                    .position(|t| t.start == part[0].start)
                    .unwrap_or(0);
                self.read_condition(first..first + part.len(), only);
                continue;
            }
            let Some(sign) = part
                .iter()
                .position(|t| t.kind == TokenKind::Operator && t.of(self.text) == "=")
            else {
                continue;
            };
            let (left, right) = (&part[..sign], &part[sign + 1..]);
            match (self.column(left), self.column(right)) {
                (Some(a), Some(b)) => self.equal.push((a, b, only)),
                (Some(one), None) if is_constant(right) => self.fix(one, only),
                (None, Some(one)) if is_constant(left) => self.fix(one, only),
                _ => {}
            }
        }
    }

    /// A column that has one value, in the rows where the table `only` has a match; of the others nothing is known then.
    fn fix(&mut self, spot: Spot, only: Option<usize>) {
        if only.is_none_or(|only| only == spot.0) {
            self.fixed.insert(spot);
        }
    }

    /// The tables that have a match where those `given` have one: what is equal to one of their columns is no null.
    fn matched_with(&self, given: &[usize]) -> HashSet<usize> {
        let mut matched: HashSet<usize> = given.iter().copied().collect();
        loop {
            let before = matched.len();
            for (a, b, only) in &self.equal {
                if only.is_none_or(|only| matched.contains(&only)) {
                    matched.extend([a.0, b.0]);
                }
            }
            if matched.len() == before {
                return matched;
            }
        }
    }

    /// The tables that are held fast when the rows of `given` are: for each of these there is at most one.
    fn held_by(&self, given: &[usize]) -> HashSet<usize> {
        let mut held: HashSet<usize> = given.iter().copied().collect();
        let matched = self.matched_with(given);
        loop {
            let known = |spot: &Spot| held.contains(&spot.0) || self.fixed.contains(spot);
            // Columns that are known by way of columns equal to them.
            let mut columns: HashSet<Spot> = self.fixed.clone();
            let mut grown = true;
            while grown {
                grown = false;
                for (a, b, only) in &self.equal {
                    for (from, to) in [(a, b), (b, a)] {
                        // What a join keeps without a match says nothing of the tables before it.
                        if only.is_some_and(|only| only != to.0 && !matched.contains(&only)) {
                            continue;
                        }
                        if (known(from) || columns.contains(from))
                            && !known(to)
                            && columns.insert(to.clone())
                        {
                            grown = true;
                        }
                    }
                }
            }
            let next = self.tables.iter().enumerate().position(|(at, table)| {
                if held.contains(&at) {
                    return false;
                }
                let Some(object) = table.object else {
                    return false;
                };
                object.keys().iter().any(|key| {
                    key.iter()
                        .all(|part| columns.contains(&(at, part.to_lowercase())))
                })
            });
            match next {
                Some(at) => held.insert(at),
                None => return held,
            };
        }
    }

    fn judge(&self, block: &Block, found: &mut Remarks) {
        // Nothing certain can be said of what the catalog does not know.
        if self.tables.iter().any(|table| table.object.is_none()) {
            return;
        }
        let count = self.tables.len();
        for at in 1..count {
            let before: Vec<usize> = (0..at).collect();
            if !self.held_by(&before).contains(&at) {
                found.many.push(self.tables[at].joined.at);
            }
        }
        let repeats = |at: usize| self.held_by(&[at]).len() < count;
        let select = self.list.get(block.select.clone()).unwrap_or_default();
        for (place, token) in select.iter().enumerate() {
            let called = select
                .get(place + 1)
                .is_some_and(|next| next.kind == TokenKind::Open);
            if token.kind != TokenKind::Word || !called {
                continue;
            }
            let name = token.of(self.text).to_ascii_lowercase();
            if !matches!(name.as_str(), "count" | "sum" | "avg" | "total") {
                continue;
            }
            let inside = &select[place + 1..];
            let Some(close) = closes_at(inside) else {
                continue;
            };
            let argument = &inside[1..close];
            // A window counts what it says.
            if inside
                .get(close + 1)
                .is_some_and(|t| t.is_word(self.text, "over") || t.is_word(self.text, "filter"))
            {
                continue;
            }
            let span = token.start..inside[close].end;
            let star = matches!(argument, [star] if star.of(self.text) == "*");
            if star {
                self.judge_star(block, span, &repeats, found);
            } else if let Some((at, column)) = self.column(argument)
                && repeats(at)
            {
                self.warn(&name, at, &column, span, found);
            } else if name != "count" {
                self.judge_expression(&name, argument, span, &repeats, found);
            }
        }
    }

    /// A sum of an expression: all its columns are of tables whose rows repeat.
    fn judge_expression(
        &self,
        name: &str,
        argument: &[Token],
        span: Range<usize>,
        repeats: &dyn Fn(usize) -> bool,
        found: &mut Remarks,
    ) {
        let mut owners: Vec<usize> = Vec::new();
        for (at, token) in argument.iter().enumerate() {
            if token.is_word(self.text, "distinct") {
                return;
            }
            let qualified = argument
                .get(at + 1)
                .is_some_and(|t| t.kind == TokenKind::Dot);
            let behind = at > 0 && argument[at - 1].kind == TokenKind::Dot;
            let spot = match (qualified, behind) {
                (true, _) => self.column(argument.get(at..at + 3).unwrap_or_default()),
                (false, true) => None,
                (false, false) => self.column(&argument[at..=at]),
            };
            owners.extend(spot.map(|(at, _)| at));
        }
        if let Some(first) = owners.first()
            && owners
                .iter()
                .all(|at| repeats(*at) && self.held_by(&[*first]).contains(at))
        {
            self.warn(name, *first, "", span, found);
        }
    }

    /// `count(*)` counts rows of the join. That is worth a word when the query is about its first table, and
    /// nothing else says what is counted.
    fn judge_star(
        &self,
        block: &Block,
        span: Range<usize>,
        repeats: &dyn Fn(usize) -> bool,
        found: &mut Remarks,
    ) {
        if !block.grouped.is_empty() || !repeats(0) {
            return;
        }
        // What is counted is the table whose rows come once, if there is one.
        let counted = (0..self.tables.len()).find(|at| !repeats(*at));
        let what = counted.map_or("combinations".to_string(), |at| {
            format!("rows of {}", self.tables[at].joined_name())
        });
        let first = &self.tables[0];
        found.said.push(Remark {
            span: span.clone(),
            words: format!(
                "count(*) counts {what} here, not {}: they repeat.",
                first.joined_name()
            ),
            edit: self.distinct_key(0).map(|text| Edit { span, text }),
            of_name: false,
        });
    }

    /// The count of a table's rows that takes each once.
    fn distinct_key(&self, at: usize) -> Option<String> {
        let table = &self.tables[at];
        let keys = table.object?.keys();
        let [column] = keys.iter().min_by_key(|key| key.len())?[..] else {
            return None;
        };
        let qualifier = table.joined.qualifier()?;
        Some(format!(
            "count(distinct {}.{})",
            self.dialect.quote_name(qualifier),
            self.dialect.quote_name(column)
        ))
    }

    fn warn(&self, name: &str, at: usize, column: &str, span: Range<usize>, found: &mut Remarks) {
        let table = &self.tables[at];
        let others: Vec<String> = (0..self.tables.len())
            .filter(|other| !self.held_by(&[at]).contains(other))
            .map(|other| self.tables[other].joined_name())
            .collect();
        let correction = if name == "count" {
            let object = table.object;
            let unique = object.is_some_and(|o| o.is_unique(&[column]));
            match unique {
                true => self.distinct_key(at).map(|_| {
                    let qualifier = table.joined.qualifier().unwrap_or_default();
                    let original = object
                        .and_then(|o| o.field(column))
                        .map_or(column, |f| f.name.as_str());
                    format!(
                        "count(distinct {}.{})",
                        self.dialect.quote_name(qualifier),
                        self.dialect.quote_name(original)
                    )
                }),
                false => self.distinct_key(at),
            }
        } else {
            None
        };
        let way_out = if name == "count" {
            ""
        } else {
            " Sum it in a query of its own, before the join."
        };
        found.said.push(Remark {
            span: span.clone(),
            words: format!(
                "{name} takes each row of {} as often as {} match it.{way_out}",
                table.joined_name(),
                others.join(" and ")
            ),
            edit: correction.map(|text| Edit { span, text }),
            of_name: false,
        });
    }
}

impl Known<'_> {
    fn joined_name(&self) -> String {
        match &self.joined.of {
            Of::Table(name) => name.rsplit('.').next().unwrap_or(name).to_string(),
            _ => self.qualifier.clone(),
        }
    }
}

/// Whether tokens are one value that is written down.
fn is_constant(tokens: &[Token]) -> bool {
    matches!(tokens, [one] if matches!(one.kind, TokenKind::Text | TokenKind::Number | TokenKind::Parameter))
        || matches!(tokens, [word, text] if word.kind == TokenKind::Word && text.kind == TokenKind::Text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;
    use idle_tide_core::catalog::{Field, Index, Kind};

    fn catalog() -> Catalog {
        let table = |name: &str, columns: &[&str], unique: &[&[&str]]| {
            let mut object = Object::new("main", name, Kind::Table);
            let key: Vec<&str> = columns.iter().filter_map(|c| c.strip_prefix('!')).collect();
            object.fields = columns
                .iter()
                .map(|column| Field {
                    name: column.trim_start_matches('!').into(),
                    key: key
                        .iter()
                        .position(|k| column.ends_with(k) && column.starts_with('!'))
                        .map(|n| n + 1),
                    ..Field::default()
                })
                .collect();
            object.indexes = unique
                .iter()
                .map(|columns| Index {
                    columns: columns.iter().map(|c| c.to_string()).collect(),
                    unique: true,
                    ..Index::default()
                })
                .collect();
            object
        };
        Catalog {
            path: vec!["main".into()],
            objects: vec![
                table("owners", &["!id", "name"], &[]),
                table(
                    "vessels",
                    &["!id", "owner_id", "name", "call_sign"],
                    &[&["call_sign"]],
                ),
                table(
                    "visits",
                    &["!id", "vessel_id", "berth_id", "arrived"],
                    &[&["berth_id", "arrived"]],
                ),
                table("dues", &["!id", "visit_id", "amount"], &[]),
                table("papers", &["!id", "vessel_id"], &[&["vessel_id"]]),
                table(
                    "visit_services",
                    &["!visit_id", "!service_id", "quantity"],
                    &[],
                ),
            ],
            ..Catalog::default()
        }
    }

    fn said(text: &str) -> (Vec<String>, Vec<(String, Option<String>)>) {
        let found = joins(text, &catalog(), &SQLITE);
        let word = |at: &usize| {
            text[*at..]
                .split([' ', ',', '\n'])
                .next()
                .unwrap_or_default()
                .to_string()
        };
        (
            found.many.iter().map(word).collect(),
            found
                .said
                .into_iter()
                .map(|r| (text[r.span].to_string(), r.edit.map(|e| e.text)))
                .collect(),
        )
    }

    fn many(text: &str) -> Vec<String> {
        said(text).0
    }

    #[test]
    fn joins_that_multiply_are_known_from_keys() {
        assert_eq!(
            many(
                "select * from owners o join vessels v on v.owner_id = o.id join visits s on s.vessel_id = v.id"
            ),
            ["vessels", "visits"]
        );
        assert_eq!(
            many("select * from visits s, vessels v where s.vessel_id = v.id"),
            Vec::<String>::new()
        );
        // The table that rows go into is none of those that they come from.
        assert_eq!(
            said(
                "insert into dues (amount) select sum(v.id) from vessels v join papers p on p.vessel_id = v.id on conflict (id) do nothing returning id"
            ),
            (Vec::new(), Vec::new())
        );
        assert_eq!(
            many(
                "insert into dues with w as (select 1 as id) select 1 from w join visits s on s.vessel_id = w.id"
            ),
            Vec::<String>::new(),
            "what a common table has is not known"
        );
        assert_eq!(
            many(
                "insert into dues select 1 from papers union select 2 from vessels v join visits s on s.vessel_id = v.id returning id"
            ),
            ["visits"]
        );
        assert_eq!(
            many("select * from vessels v join papers p on p.vessel_id = v.id"),
            Vec::<String>::new(),
            "one to one"
        );
        assert_eq!(
            many("select * from papers join vessels on vessels.id = vessel_id"),
            Vec::<String>::new()
        );
        assert_eq!(
            many("select * from vessels join visits on true"),
            ["visits"]
        );
        assert_eq!(
            many("select * from vessels v left join visits s using (id)"),
            Vec::<String>::new()
        );
        assert_eq!(
            many(
                "select * from vessels v join visits s on s.vessel_id = v.id and s.berth_id = 3 and (s.arrived = '2031-01-01')"
            ),
            Vec::<String>::new(),
            "a key that is given"
        );
        assert_eq!(
            many("select * from vessels v join visits s on s.id = v.id or s.vessel_id = v.id"),
            ["visits"]
        );
        assert_eq!(
            many(
                "select * from vessels v where exists (select 1 from visits s where s.vessel_id = v.id)"
            ),
            Vec::<String>::new()
        );
        // Equal by way of a third.
        assert_eq!(
            many(
                "select * from dues d join visits s on s.id = d.visit_id join visit_services x on x.visit_id = d.visit_id and x.service_id = 2"
            ),
            Vec::<String>::new()
        );
    }

    #[test]
    fn counts_over_the_side_that_repeats_are_corrected() {
        let of = |text: &str| said(text).1;
        let once = Some("count(distinct o.id)".to_string());
        let joined = "from owners o join vessels v on v.owner_id = o.id join visits s on s.vessel_id = v.id join dues d on d.visit_id = s.id";
        assert_eq!(
            of(&format!("select count(*) {joined}")),
            [("count(*)".to_string(), once.clone())]
        );
        assert_eq!(
            of(&format!(
                "select count(o.id), count(distinct o.id), sum(d.amount) {joined}"
            )),
            [("count(o.id)".to_string(), once.clone())]
        );
        assert_eq!(
            of(&format!("select count(o.name) as n {joined}")),
            [("count(o.name)".to_string(), once)]
        );
        assert_eq!(
            of(
                "select sum(d.amount) from dues d join visits s on s.id = d.visit_id join visit_services x on x.visit_id = s.id"
            ),
            [("sum(d.amount)".to_string(), None)]
        );
        assert_eq!(of("select sum(d.amount * 1.2) from dues d join visit_services x on x.visit_id = d.visit_id").len(), 1);
    }

    #[test]
    fn no_alarm_is_false() {
        for text in [
            "select count(*) from dues d join visits s on s.id = d.visit_id join vessels v on v.id = s.vessel_id",
            "select count(v.id), count(*) from vessels v join papers p on p.vessel_id = v.id",
            "select v.name, count(*) from vessels v join visits s on s.vessel_id = v.id group by v.id",
            "select v.name, count(s.id), max(v.id) from vessels v left join visits s on s.vessel_id = v.id group by v.id",
            "select sum(d.amount) from owners o join vessels v on v.owner_id = o.id join visits s on s.vessel_id = v.id join dues d on d.visit_id = s.id",
            "select sum(x.quantity * d.amount) from dues d join visit_services x on x.visit_id = d.visit_id",
            "select count(o.id) over () from owners o join vessels v on v.owner_id = o.id",
            "select count(o.id) from owners o join (select 1 as owner_id) v on v.owner_id = o.id",
            "select count(o.id) from owners o join elsewhere e on e.owner_id = o.id",
            "select count(*) from",
            "select count(o.id from owners o join vessels v on v.owner_id = o.id",
        ] {
            assert_eq!(said(text).1, [], "{text}");
        }
    }
}
