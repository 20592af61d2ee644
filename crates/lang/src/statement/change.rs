//! A statement that changes rows, taken apart as far as is needed to look at these rows before the change is kept: the
//! query that reads the rows it chooses, the columns that it sets, and whether its condition names single rows. Like
//! all of this folder it reads tokens only: the query asks for what the statement asks for.

use super::condition::{Condition, DEEPEST};
use super::sql::{Cursor, MODIFIERS, Reader, WRITES, word_of};
use super::{Named, batch, summary};
use crate::dialect::{Bodies, Dialect, Family};
use crate::flow::ast::{Expr, Node, Operator, Path, Statement, Step, Write};
use crate::token::{Token, TokenKind, significant, tokens};

/// What is done to rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Does {
    /// They get other values.
    Update,
    /// They go.
    Delete,
    /// They come from a query.
    Insert,
    /// They come, go and change by what another table has.
    Merge,
}

/// The rows that an update or delete chooses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chosen {
    /// The common tables before it, with a blank behind them.
    with: String,
    /// What the table is called in the condition, as it is written.
    pub called: String,
    /// The tables, and everything behind them.
    from: String,
    /// Whether other tables choose too, so that a row may be met more than once.
    pub joined: bool,
    /// Whether the statement limits their number itself.
    pub limited: bool,
    /// Whether they are documents.
    documents: bool,
}

impl Chosen {
    /// The query that reads these rows: `columns` as they are written in SQL; documents are read whole.
    pub fn query(&self, columns: &str) -> String {
        if self.documents {
            return format!("from {}", self.from);
        }
        format!("{}select {columns} from {}", self.with, self.from)
    }
}

/// A change of rows of one table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// What it does.
    pub does: Does,
    /// The table.
    pub table: Named,
    /// The rows that it chooses; `None` if they cannot be read ahead.
    pub chosen: Option<Chosen>,
    /// The columns that it sets, quotes taken off; in an insert those that are named.
    pub sets: Vec<String>,
    /// Columns that the condition compares with single values, and with how many.
    pub fixed: Vec<(String, usize)>,
}

impl Chosen {
    /// The query that counts them; of a join at most so many they are.
    pub fn count(&self) -> String {
        match self.documents {
            true => format!("from {} count", self.from),
            false => format!("select count(*) from ({}) as chosen", self.query("1")),
        }
    }
}

impl Change {
    /// At most how many rows a condition names by all columns of `key`; `None` if it does not name single rows.
    pub fn rows_by_key(&self, key: &[&str]) -> Option<usize> {
        let of = |column: &&str| {
            let mut found = self.fixed.iter();
            found.find(|(name, _)| name.eq_ignore_ascii_case(column))
        };
        let counts: Option<Vec<usize>> = key.iter().map(|c| of(c).map(|(_, n)| *n)).collect();
        counts.filter(|counts| !counts.is_empty()).map(|counts| {
            counts
                .iter()
                .fold(1_usize, |all, one| all.saturating_mul(*one))
        })
    }

    /// Whether it sets one of these columns.
    pub fn sets_one_of(&self, columns: &[&str]) -> bool {
        let is = |name: &String| columns.iter().any(|c| c.eq_ignore_ascii_case(name));
        self.sets.iter().any(is)
    }
}

/// The change that a statement makes, if it is an update, a delete, a merge or an insert from a query, and of one
/// table or collection alone.
pub fn change(text: &str, dialect: &Dialect) -> Option<Change> {
    if dialect.is_flow() {
        return of_flow(text);
    }
    // What one statement of a batch changes the others may change again.
    if dialect.bodies == Bodies::Batch && batch::count(text, dialect) > 1 {
        return None;
    }
    let about = summary(text, dialect);
    let list = significant(&tokens(text, dialect));
    let reader = Reader {
        text,
        dialect,
        depth: 0,
    };
    let end = list
        .iter()
        .rposition(|token| token.kind != TokenKind::Semicolon)?;
    let list = &list[..=end];
    let start = match word_of(text, list.first()).as_str() {
        "with" => reader.position(list, WRITES)?,
        _ => 0,
    };
    // A common table that writes changes more than what is looked at.
    let before = &list[..start];
    if before
        .iter()
        .any(|token| WRITES.contains(&word_of(text, Some(token)).as_str()))
    {
        return None;
    }
    let [table] = about.targets.as_slice() else {
        return None;
    };
    let of = Parts {
        reader,
        with: match before.first() {
            Some(first) => text[first.start..list[start].start].to_string(),
            None => String::new(),
        },
        table,
    };
    let mut c = reader.at(list, start + 1);
    match word_of(text, list.get(start)).as_str() {
        "update" => of.update(&mut c),
        "delete" => of.delete(&mut c),
        "insert" | "replace" => of.insert(&c),
        "merge" => Some(of.found(Does::Merge, None, Vec::new(), Vec::new())),
        _ => None,
    }
}

/// The change that a statement of the flow language makes to documents which are there.
fn of_flow(text: &str) -> Option<Change> {
    let zone = idle_tide_core::document::time::TimeZone::UTC;
    let Statement::Write(write) = crate::flow::parse(text, &zone).statement? else {
        return None;
    };
    let path = |path: &Path| match path.steps.first() {
        Some(Step::Name(name)) => Some(name.clone()),
        _ => None,
    };
    let (does, collection, predicate, sets) = match &write {
        Write::Insert { .. } => return None,
        Write::Update {
            collection,
            predicate,
            set,
            remove,
        } => {
            let paths = set.iter().map(|(path, _)| path).chain(remove);
            let sets = paths.filter_map(path).collect();
            (Does::Update, collection, predicate.as_ref(), sets)
        }
        Write::Delete {
            collection,
            predicate,
        } => (Does::Delete, collection, predicate.as_ref(), Vec::new()),
        Write::Empty { collection } => (Does::Delete, collection, None, Vec::new()),
    };
    let written = text.get(collection.span.clone())?.to_string();
    let from = match predicate {
        Some(predicate) => format!("{written} where {}", text.get(predicate.span.clone())?),
        None => written.clone(),
    };
    let fixed = predicate.map_or(Vec::new(), identifiers);
    Some(Change {
        does,
        table: Named {
            shown: collection.name.clone(),
            written: written.clone(),
        },
        chosen: Some(Chosen {
            with: String::new(),
            called: written,
            from,
            joined: false,
            limited: false,
            documents: true,
        }),
        sets,
        fixed,
    })
}

/// `_id = value` and `_id in (values)`, as the whole of a condition or joined to others by `and`.
fn identifiers(predicate: &Expr) -> Vec<(String, usize)> {
    let id = |e: &Expr| match &e.node {
        Node::Path(path) => matches!(path.steps.as_slice(), [Step::Name(name)] if name == "_id"),
        _ => false,
    };
    let found = |count| vec![("_id".to_string(), count)];
    match &predicate.node {
        Node::Binary(Operator::And, a, b) => [identifiers(a), identifiers(b)].concat(),
        Node::Binary(Operator::Equal, a, b) if id(a) && b.constant().is_some() => found(1),
        Node::In(e, list, false) if id(e) && list.iter().all(|e| e.constant().is_some()) => {
            found(list.len())
        }
        _ => Vec::new(),
    }
}

/// What the parts of a statement are read with.
struct Parts<'a> {
    reader: Reader<'a>,
    with: String,
    table: &'a Named,
}

impl Parts<'_> {
    fn found(
        &self,
        does: Does,
        chosen: Option<Chosen>,
        sets: Vec<String>,
        fixed: Vec<(String, usize)>,
    ) -> Change {
        Change {
            does,
            table: self.table.clone(),
            chosen,
            sets,
            fixed,
        }
    }

    /// The text of tokens that stand one behind the other.
    fn text(&self, list: &[Token]) -> String {
        match (list.first(), list.last()) {
            (Some(first), Some(last)) => self.reader.text[first.start..last.end].to_string(),
            _ => String::new(),
        }
    }

    fn update(&self, c: &mut Cursor<'_>) -> Option<Change> {
        if c.take("or") {
            c.at += 1;
        }
        // `only` belongs to the table.
        let modifiers: Vec<&str> = MODIFIERS.iter().copied().filter(|m| *m != "only").collect();
        c.skip(&modifiers);
        let set = self.reader.position(c.rest(), &["set"])?;
        let (tables, tail) = c.rest().split_at(set);
        let set = self
            .reader
            .position(tail, &["where", "from", "order", "limit", "returning"])
            .unwrap_or(tail.len());
        let (set, tail) = tail.split_at(set);
        let sets = self
            .reader
            .parts(&set[1..])
            .iter()
            .flat_map(|part| self.set(part))
            .collect();
        let (joined, tail) = self.joined(tail, "from");
        let chosen = self.chosen(tables, joined, tail);
        let fixed = self.fixed(tail, chosen.as_ref());
        Some(self.found(Does::Update, chosen, sets, fixed))
    }

    fn delete(&self, c: &mut Cursor<'_>) -> Option<Change> {
        let modifiers: Vec<&str> = MODIFIERS.iter().copied().filter(|m| *m != "only").collect();
        c.skip(&modifiers);
        if c.word(0) == "history" {
            return None;
        }
        let end = self
            .reader
            .position(c.rest(), &["where", "order", "limit", "returning"])
            .unwrap_or(c.rest().len());
        let (head, tail) = c.rest().split_at(end);
        let from = self.reader.position(head, &["from"])?;
        let using = self
            .reader
            .position(head, &["using"])
            .filter(|at| *at > from);
        let mariadb = self.reader.dialect.family == Family::Mariadb;
        let (tables, joined) = match (from, using) {
            // `delete from a using a join b`: the tables stand behind `using`.
            (0, Some(using)) if mariadb => (&head[using + 1..], &head[..0]),
            (0, Some(using)) => (&head[1..using], &head[using + 1..]),
            // `delete a from a join b`
            (from, _) => (&head[from + 1..], &head[..0]),
        };
        let chosen = self.chosen(tables, joined, tail);
        let fixed = self.fixed(tail, chosen.as_ref());
        Some(self.found(Does::Delete, chosen, Vec::new(), fixed))
    }

    /// An insert from a query; one of single rows is none.
    fn insert(&self, c: &Cursor<'_>) -> Option<Change> {
        let (reader, text) = (self.reader, self.reader.text);
        let rest = c.rest();
        let query = reader.position(rest, &["select", "table", "with"])?;
        if reader
            .position(&rest[..query], &["values", "value", "set"])
            .is_some()
        {
            return None;
        }
        let open = rest[..query]
            .iter()
            .position(|token| token.kind == TokenKind::Open);
        let named = open.map_or(&[][..], |open| &rest[open + 1..query]);
        let names = reader.parts(named).into_iter();
        let names = names.filter_map(|part| part.first()?.name(text)).collect();
        Some(self.found(Does::Insert, None, names, Vec::new()))
    }

    /// The columns that a part of `set` gives values to.
    fn set(&self, part: &[Token]) -> Vec<String> {
        let text = self.reader.text;
        let end = part.iter().position(|token| token.of(text) == "=");
        let target = &part[..end.unwrap_or(0)];
        match target.first().map(|token| token.kind) {
            Some(TokenKind::Open) => {
                let names = target.iter().filter_map(|token| token.name(text));
                names.collect()
            }
            // The last name of `table.column`.
            _ => {
                let mut names = target.iter().filter_map(|token| token.name(text));
                names.next_back().into_iter().collect()
            }
        }
    }

    /// The tables that a word brings in, and what stands behind them.
    fn joined<'t>(&self, tail: &'t [Token], word: &str) -> (&'t [Token], &'t [Token]) {
        if word_of(self.reader.text, tail.first()) != word {
            return (&tail[..0], tail);
        }
        let end = self
            .reader
            .position(tail, &["where", "order", "limit", "returning"])
            .unwrap_or(tail.len());
        (&tail[1..end], &tail[end..])
    }

    fn chosen(&self, tables: &[Token], joined: &[Token], tail: &[Token]) -> Option<Chosen> {
        let (reader, text) = (self.reader, self.reader.text);
        let words = |list: &[Token], words: &[&str]| reader.position(list, words);
        // A cursor's row is not read a second time.
        let current = tail.windows(2).any(|pair| {
            word_of(text, pair.first()) == "current" && word_of(text, pair.get(1)) == "of"
        });
        if current || tables.is_empty() {
            return None;
        }
        let tail = &tail[..words(tail, &["returning"]).unwrap_or(tail.len())];
        let all = reader.tables(tables);
        let called = match all.as_slice() {
            [(alias, _)] => alias,
            list => {
                let own = list.iter().find(|(_, name)| name.shown == self.table.shown);
                &own?.0
            }
        };
        // As it is written, since quotes matter where capitals do; without its schema, behind which no engine has to take
        // a star.
        let is = |token: &&Token| {
            let name = token.name(text);
            name.is_some_and(|name| name.eq_ignore_ascii_case(called))
        };
        let own = || called.eq_ignore_ascii_case(last_of(&self.table.shown));
        let called = match tables.iter().rfind(is) {
            Some(token) => token.of(text).to_string(),
            None => own().then(|| self.table.written.clone())?,
        };
        let mut from = self.text(tables);
        if !joined.is_empty() {
            from = format!("{from}, {}", self.text(joined));
        }
        if !tail.is_empty() {
            from = format!("{from} {}", self.text(tail));
        }
        Some(Chosen {
            with: self.with.clone(),
            called,
            from,
            joined: all.len() > 1 || !joined.is_empty(),
            limited: words(tail, &["limit"]).is_some(),
            documents: false,
        })
    }

    /// Columns that have to equal single values, by a condition that is nothing but such comparisons and others that
    /// all have to hold.
    fn fixed(&self, tail: &[Token], chosen: Option<&Chosen>) -> Vec<(String, usize)> {
        let text = self.reader.text;
        // A column may be of another table.
        if chosen.is_none_or(|chosen| chosen.joined) || word_of(text, tail.first()) != "where" {
            return Vec::new();
        }
        let end = self
            .reader
            .position(tail, &["order", "limit", "returning"])
            .unwrap_or(tail.len());
        let condition = Condition {
            text,
            dialect: self.reader.dialect,
            table: &self.table.shown,
        };
        self.compared(&condition, &tail[1..end], 0)
    }

    /// The columns that a condition compares with values, where all of it has to hold; also in brackets.
    fn compared(
        &self,
        condition: &Condition<'_>,
        list: &[Token],
        depth: usize,
    ) -> Vec<(String, usize)> {
        if depth > DEEPEST || condition.cut(list, &["or", "||", "xor"]).len() > 1 {
            return Vec::new();
        }
        let parts = condition.cut(list, &["and", "&&"]).into_iter();
        parts
            .flat_map(|part| match condition.inside(part) {
                Some(inside) => self.compared(condition, inside, depth + 1),
                _ => self.one(part).into_iter().collect(),
            })
            .collect()
    }

    /// `column = value` or `column in (values)`.
    fn one(&self, part: &[Token]) -> Option<(String, usize)> {
        let text = self.reader.text;
        let mut at = 0;
        let mut name = part.first()?.name(text)?;
        while part.get(at + 1).map(|token| token.kind) == Some(TokenKind::Dot) {
            at += 2;
            name = part.get(at)?.name(text)?;
        }
        let rest = &part[at + 1..];
        let single = |list: &[Token]| match list {
            [value] => is_value(value),
            [sign, value] => matches!(sign.of(text), "-" | "+") && is_value(value),
            _ => false,
        };
        match rest {
            [equals, value @ ..] if equals.of(text) == "=" && single(value) => Some((name, 1)),
            [word, open, list @ .., close]
                if word_of(text, Some(word)) == "in"
                    && open.kind == TokenKind::Open
                    && close.kind == TokenKind::Close =>
            {
                let values = self.reader.parts(list);
                let all = values.iter().all(|value| single(value));
                all.then_some((name, values.len()))
            }
            _ => None,
        }
    }
}

fn is_value(token: &Token) -> bool {
    matches!(token.kind, TokenKind::Number | TokenKind::Text)
}

fn last_of(name: &str) -> &str {
    name.rsplit('.').next().unwrap_or(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{MARIADB, POSTGRES, SQLITE};

    fn found(text: &str, dialect: &Dialect) -> String {
        let Some(change) = change(text, dialect) else {
            return "none".into();
        };
        let rows = change.chosen.as_ref().map(|chosen| {
            let of = format!("{}.*", chosen.called);
            let more = if chosen.joined { " (joined)" } else { "" };
            format!("{}{more}", chosen.query(&of))
        });
        let fixed: Vec<String> = (change.fixed.iter())
            .map(|(name, count)| format!("{name}:{count}"))
            .collect();
        format!(
            "{:?} {} | {} | {} | {}",
            change.does,
            change.table,
            rows.unwrap_or_default(),
            change.sets.join(" "),
            fixed.join(" ")
        )
    }

    /// The rows are those that the statement's own condition chooses, read as the statement names them.
    #[test]
    fn the_rows_of_a_change_are_asked_for_in_its_own_words() {
        for (sql, expected) in [
            (
                "update berths set depth = depth + 1 where quay = 'N' and id in (1, 2, -3);",
                "Update berths | select berths.* from berths where quay = 'N' and id in (1, 2, -3) | depth | quay:1 id:3",
            ),
            (
                "update haven.berths set depth = 1 where id = 4",
                "Update haven.berths | select berths.* from haven.berths where id = 4 | depth | id:1",
            ),
            (
                "update berths set (depth, dries) = (1, 0), power = 2",
                "Update berths | select berths.* from berths | depth dries power | ",
            ),
            (
                "update only haven.\"Old Berths\" as \"B\" set depth = 1 where \"B\".id = 4 returning id",
                "Update haven.Old Berths | select \"B\".* from only haven.\"Old Berths\" as \"B\" where \"B\".id = 4 | depth | id:1",
            ),
            (
                "update berths set ends[2] = 4, name.first = 'x' where id = 4",
                "Update berths | select berths.* from berths where id = 4 | ends first | id:1",
            ),
            (
                "update visits v set note = x.word from words x where x.visit = v.id",
                "Update visits | select v.* from visits v, words x where x.visit = v.id (joined) | note | ",
            ),
            (
                "delete from visits using dues d where d.visit = visits.id and d.paid is null",
                "Delete visits | select visits.* from visits, dues d where d.visit = visits.id and d.paid is null (joined) |  | ",
            ),
            (
                "with late as (select visit from dues where paid is null) delete from visits where id in (select visit from late)",
                "Delete visits | with late as (select visit from dues where paid is null) select visits.* from visits where id in (select visit from late) |  | ",
            ),
            (
                "delete from visits where id = 4 or berth = 3",
                "Delete visits | select visits.* from visits where id = 4 or berth = 3 |  | ",
            ),
            (
                "delete from visits where id = (select max(id) from visits)",
                "Delete visits | select visits.* from visits where id = (select max(id) from visits) |  | ",
            ),
            (
                "update visits set note = 'set where' where current of c",
                "Update visits |  | note | ",
            ),
            (
                "insert into gone (id, name) select id, name from vessels",
                "Insert gone |  | id name | ",
            ),
            ("insert into gone values (1, (select 2))", "none"),
            ("insert into gone default values", "none"),
            (
                "merge into berths b using new n on b.id = n.id when matched then update set depth = n.depth",
                "Merge berths |  |  | ",
            ),
            (
                "with gone as (delete from dues returning *) update visits set note = 'x'",
                "none",
            ),
            ("select 1", "none"),
            ("truncate visits", "none"),
        ] {
            assert_eq!(found(sql, &POSTGRES), expected, "{sql}");
        }
        for (sql, expected) in [
            (
                "update visits as v inner join vessels s on s.id = v.vessel set v.note = 'x' where s.name = 'Tern'",
                "Update visits | select v.* from visits as v inner join vessels s on s.id = v.vessel where s.name = 'Tern' (joined) | note | ",
            ),
            (
                "delete v from visits v join dues d on d.visit = v.id",
                "Delete visits | select v.* from visits v join dues d on d.visit = v.id (joined) |  | ",
            ),
            (
                "delete from v using visits v join dues d on d.visit = v.id where d.paid = 0",
                "Delete visits | select v.* from visits v join dues d on d.visit = v.id where d.paid = 0 (joined) |  | ",
            ),
            (
                "delete low_priority from `visits` order by id limit 3",
                "Delete visits | select `visits`.* from `visits` order by id limit 3 |  | ",
            ),
            (
                "replace into gone select * from vessels",
                "Insert gone |  |  | ",
            ),
            ("insert into gone set id = 3", "none"),
        ] {
            assert_eq!(found(sql, MARIADB), expected, "{sql}");
        }
        let sql = "update or ignore 'berths' set [depth] = 1 where [id] = 3";
        assert_eq!(
            found(sql, &SQLITE),
            "Update berths | select 'berths'.* from 'berths' where [id] = 3 | depth | id:1"
        );
    }

    /// Documents that are changed or go are asked for with the same predicate.
    #[test]
    fn documents_of_a_change_are_asked_for_in_its_own_words() {
        use crate::dialect::FLOW;
        for (text, expected) in [
            (
                "update landings where port = 'Outer Spit' and lines.kg > 5 set port = 'x', skipper.name = 'y' remove note;",
                "Update landings | from landings where port = 'Outer Spit' and lines.kg > 5 | port skipper note | ",
            ),
            (
                "update all landings set closed = true",
                "Update landings | from landings | closed | ",
            ),
            (
                "delete from `old surveys` where _id in (1, 2) and x > 3",
                "Delete old surveys | from `old surveys` where _id in (1, 2) and x > 3 |  | _id:2",
            ),
            ("empty landings", "Delete landings | from landings |  | "),
            ("insert into landings { port: 'x' }", "none"),
            ("from landings save over copies", "none"),
        ] {
            assert_eq!(found(text, &FLOW), expected, "{text}");
        }
    }

    /// Only a condition that compares every column of the key with values names single rows.
    #[test]
    fn a_condition_names_single_rows_by_a_whole_key() {
        let rows =
            |sql: &str, key: &[&str]| change(sql, &POSTGRES).and_then(|c| c.rows_by_key(key));
        assert_eq!(
            rows("delete from t where ID = 3 and x > 2", &["id"]),
            Some(1)
        );
        assert_eq!(
            rows("delete from t where t.id in (1, 2, 3)", &["id"]),
            Some(3)
        );
        let both = ["visit", "service"];
        assert_eq!(
            rows(
                "delete from t where visit in (1, 2) and service = 'ice'",
                &both
            ),
            Some(2)
        );
        assert_eq!(rows("delete from t where visit = 1", &both), None);
        assert_eq!(rows("delete from t where id = 3 or true", &["id"]), None);
        assert_eq!(rows("delete from t where not id = 3", &["id"]), None);
        assert_eq!(rows("delete from t where id = other", &["id"]), None);
        assert_eq!(rows("delete from t", &["id"]), None);
        assert_eq!(rows("delete from t where id = 3", &[]), None);
    }
}
