//! Which tables a half-typed statement names, under which aliases, and which column of an insert the
//! cursor fills. It reads tokens and knows no catalog: a name may well not exist.

use crate::dialect::Dialect;
use crate::query::{Of, query};
use crate::token::{Token, TokenKind, significant};

/// A table named in a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableUse {
    /// The table, `schema.name` where it is written so, quotes taken off.
    pub name: String,
    /// Its alias.
    pub alias: Option<String>,
    /// Byte where its name starts.
    pub at: usize,
}

impl TableUse {
    /// The word columns are qualified with.
    pub fn qualifier(&self) -> &str {
        match &self.alias {
            Some(alias) => alias,
            None => self.name.rsplit('.').next().unwrap_or(&self.name),
        }
    }
}

/// The insert that the cursor stands in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InsertPlace {
    /// The table.
    pub table: String,
    /// The columns in brackets after it; empty when none are named.
    pub columns: Vec<String>,
    /// Which value the cursor stands at, counted from 0; `None` outside a list of values.
    pub value: Option<usize>,
    /// Whether the cursor stands in the list of columns.
    pub in_columns: bool,
}

/// What a statement names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scope {
    /// Tables in the order they are named, each once per alias.
    pub tables: Vec<TableUse>,
    /// Names that a leading `with` defines.
    pub common: Vec<String>,
    /// The insert the cursor stands in.
    pub insert: Option<InsertPlace>,
}

/// The table on which a statement makes a `what`: a trigger or an index.
pub(crate) fn made_on(text: &str, list: &[Token], what: &str) -> Option<String> {
    let is = |token: &&Token, word: &str| token.is_word(text, word);
    let mut tokens = list.iter();
    tokens.next().filter(|token| is(token, "create"))?;
    tokens.by_ref().take(5).find(|token| is(token, what))?;
    tokens.find(|token| is(token, "on"))?;
    tokens.next()?.name(text)
}

/// What the statement with these `tokens` names; `cursor` is a byte in `text`.
pub fn scope(text: &str, tokens: &[Token], cursor: usize, dialect: &Dialect) -> Scope {
    let list = significant(tokens);
    let query = query(text, &list, dialect);
    let mut tables: Vec<TableUse> = Vec::new();
    for joined in query.blocks.iter().flat_map(|block| &block.tables) {
        let Of::Table(name) = &joined.of else {
            continue;
        };
        let known = |table: &TableUse| table.name == *name && table.alias == joined.alias;
        if query.common(name).is_none() && !tables.iter().any(known) {
            tables.push(TableUse {
                name: name.clone(),
                alias: joined.alias.clone(),
                at: joined.at,
            });
        }
    }
    tables.sort_by_key(|table| table.at);
    Scope {
        tables,
        common: query
            .commons
            .iter()
            .map(|common| common.name.clone())
            .collect(),
        insert: insert_place(text, &list, cursor),
    }
}

fn insert_place(text: &str, list: &[Token], cursor: usize) -> Option<InsertPlace> {
    let into = list.iter().position(|token| token.is_word(text, "into"))?;
    if !list[..into]
        .iter()
        .any(|t| t.is_word(text, "insert") || t.is_word(text, "replace"))
    {
        return None;
    }
    let mut at = into + 1;
    let mut table = list.get(at)?.name(text)?;
    at += 1;
    if list.get(at).map(|t| t.kind) == Some(TokenKind::Dot) {
        table = format!("{table}.{}", list.get(at + 1)?.name(text)?);
        at += 2;
    }
    let mut place = InsertPlace {
        table,
        columns: Vec::new(),
        value: None,
        in_columns: false,
    };
    if list.get(at).map(|t| t.kind) == Some(TokenKind::Open) {
        let open = list[at].end;
        at += 1;
        while let Some(token) = list.get(at) {
            if token.kind == TokenKind::Close {
                break;
            }
            if let Some(name) = token.name(text)
                && !(token.start < cursor && token.end == cursor)
            {
                place.columns.push(name);
            }
            at += 1;
        }
        let close = list.get(at).map_or(usize::MAX, |token| token.start);
        place.in_columns = (open..=close).contains(&cursor);
        at += 1;
    }
    if list
        .get(at)
        .is_some_and(|token| token.is_word(text, "values"))
    {
        let mut depth = 0;
        for token in &list[at + 1..] {
            if token.start >= cursor {
                break;
            }
            match token.kind {
                TokenKind::Open => {
                    depth += 1;
                    if depth == 1 {
                        place.value = Some(0);
                    }
                }
                TokenKind::Close => {
                    depth -= 1;
                    if depth == 0 {
                        place.value = None;
                    }
                }
                TokenKind::Comma if depth == 1 => {
                    place.value = place.value.map(|value| value + 1);
                }
                _ => {}
            }
        }
    }
    Some(place)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;
    use crate::token::tokens;

    fn named(text: &str) -> Vec<(String, Option<String>)> {
        scope(text, &tokens(text, &SQLITE), text.len(), &SQLITE)
            .tables
            .into_iter()
            .map(|table| (table.name, table.alias))
            .collect()
    }

    fn pairs(list: &[(&str, &str)]) -> Vec<(String, Option<String>)> {
        list.iter()
            .map(|(name, alias)| {
                let alias = Some(alias.to_string()).filter(|a| !a.is_empty());
                (name.to_string(), alias)
            })
            .collect()
    }

    #[test]
    fn tables_and_aliases() {
        assert_eq!(
            named(
                "select v. from visits s join vessels as v on v.id = s.vessel_id, main.\"dues\" d where x"
            ),
            pairs(&[("visits", "s"), ("vessels", "v"), ("main.dues", "d")])
        );
        assert_eq!(
            named(
                "select a, (select max(x), y from berths), b from (select 1 from quays) q, owners"
            ),
            pairs(&[("berths", ""), ("quays", ""), ("owners", "")])
        );
        assert_eq!(
            named("update dues set a = 1, b = 2"),
            pairs(&[("dues", "")])
        );
        assert_eq!(named("select a, b from"), pairs(&[]));
        assert_eq!(
            named("select 1 from ((visits v))"),
            pairs(&[("visits", "v")])
        );
    }

    #[test]
    fn common_tables_are_named() {
        let text = "with recursive a as (select 1), b (n, m) as (select 2) select * from a";
        let scope = scope(text, &tokens(text, &SQLITE), text.len(), &SQLITE);
        assert_eq!(scope.common, ["a", "b"]);
    }

    #[test]
    fn the_place_in_an_insert() {
        let at = |text: &str| {
            scope(text, &tokens(text, &SQLITE), text.len(), &SQLITE)
                .insert
                .expect("an insert")
        };
        let place = at("insert into dues (visit_id, amount) values (1, 2), (3, max(1, 2), ");
        assert_eq!(place.columns, ["visit_id", "amount"]);
        assert_eq!(place.value, Some(2));
        assert!(at("insert into dues (visit_id, am").in_columns);
        assert_eq!(at("insert into dues values (1, ").value, Some(1));
        assert_eq!(at("insert into dues values (1, 2)").value, None);
    }
}
