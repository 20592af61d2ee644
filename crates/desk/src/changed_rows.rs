//! Rows of a change as they were and as they are: how they are told apart, asked for by their keys, and put side by side.

use std::collections::HashMap;
use std::io;

use idle_tide_core::result::ResultSet;
use idle_tide_core::{Column, Object, RowBatch, Value};
use idle_tide_engines::Sink;
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;
use idle_tide_lang::statement::{Change, Does};

use crate::covering::{Covering, WORD, is_secret};
use crate::page::{Page, Tone};

/// Rows that are shown of a change; of more a part is.
pub(crate) const MOST: usize = 100_000;
/// What tells documents apart.
pub(crate) const ID: &str = "_id";
/// How the rows of a change are told apart.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Key {
    pub(crate) columns: Vec<String>,
    /// The number that the file has for each row, where no key is.
    pub(crate) hidden: bool,
    /// Whether it is one whole number.
    pub(crate) counts: bool,
}

impl Key {
    pub(crate) fn of(change: &Change, object: Option<&Object>, dialect: &Dialect) -> Self {
        if dialect.is_flow() {
            return Key {
                columns: vec![ID.into()],
                ..Key::default()
            };
        }
        let Some(object) = object else {
            return Key::default();
        };
        if let Some(key) = object.keys().first() {
            let columns: Vec<String> = key.iter().map(ToString::to_string).collect();
            let fields = columns.iter().filter_map(|name| object.field(name));
            let kinds: Vec<String> = fields.map(|f| f.declared.to_ascii_lowercase()).collect();
            return Key {
                counts: matches!(kinds.as_slice(), [one] if one.contains("int") || one.contains("serial")),
                columns,
                hidden: false,
            };
        }
        let taken = object.field("rowid").is_some() || object.is_view();
        match dialect.family == Family::Sqlite && !taken && change.does != Does::Merge {
            true => Key {
                columns: vec!["rowid".into()],
                hidden: true,
                counts: true,
            },
            false => Key::default(),
        }
    }

    /// A column of it, as it is written.
    pub(crate) fn name(&self, column: &str, dialect: &Dialect) -> String {
        match self.hidden {
            true => column.to_string(),
            false => dialect.quote_name(column),
        }
    }

    /// The columns that are read of a table that stands alone: its name may have more than one part, behind which no engine
    /// has to take a star.
    pub(crate) fn read_alone(&self) -> &'static str {
        match self.hidden {
            true => "rowid as rowid, *",
            false => "*",
        }
    }

    /// The columns that are read of a table called so.
    pub(crate) fn read(&self, called: &str) -> String {
        match self.hidden {
            true => format!("{called}.rowid as rowid, {called}.*"),
            false => format!("{called}.*"),
        }
    }
}

/// The condition that chooses rows by their keys.
pub(crate) fn which(key: &Key, rows: &[Vec<Value>], places: &[usize], dialect: &Dialect) -> String {
    let name = |column: &String| key.name(column, dialect);
    let value = |row: &Vec<Value>, place: usize| dialect.literal(row[place].as_ref());
    match (key.columns.as_slice(), places) {
        ([column], [place]) => {
            let values: Vec<String> = rows.iter().map(|row| value(row, *place)).collect();
            format!("{} in ({})", name(column), values.join(", "))
        }
        (columns, places) => {
            let one = |row: &Vec<Value>| {
                let parts = columns.iter().zip(places);
                let parts: Vec<String> = parts
                    .map(|(column, place)| format!("{} = {}", name(column), value(row, *place)))
                    .collect();
                format!("({})", parts.join(" and "))
            };
            rows.iter().map(one).collect::<Vec<_>>().join(" or ")
        }
    }
}

/// Rows that are kept as they come.
pub(crate) struct Rows {
    /// So many are kept.
    most: usize,
    pub(crate) columns: Vec<Column>,
    pub(crate) rows: Vec<Vec<Value>>,
    /// Whether there are more than are kept.
    pub(crate) more: bool,
    /// Where the key stands; nowhere if there is none.
    pub(crate) key: Vec<usize>,
}

impl Default for Rows {
    fn default() -> Self {
        Rows::at_most(MOST)
    }
}

impl Rows {
    pub(crate) fn at_most(most: usize) -> Self {
        Rows {
            most,
            columns: Vec::new(),
            rows: Vec::new(),
            more: false,
            key: Vec::new(),
        }
    }

    /// Where columns stand; nothing if one of them is not there.
    pub(crate) fn places(&self, names: &[String]) -> Vec<usize> {
        let place = |name: &String| {
            let mut columns = self.columns.iter();
            columns.position(|column| column.name.eq_ignore_ascii_case(name))
        };
        let found: Option<Vec<usize>> = names.iter().map(place).collect();
        found.unwrap_or_default()
    }

    /// Shows the rows on a page, a line each.
    pub(crate) fn show(&self, page: &mut Page, covering: &Covering) {
        if self.rows.is_empty() {
            return;
        }
        page.gap();
        page.say(Tone::Plain, "Some of them, as they are:");
        for row in &self.rows {
            let cells = self.columns.iter().zip(row);
            let cells = cells.filter(|(_, value)| !matches!(value, Value::Missing));
            let cells: Vec<String> = cells
                .take(8)
                .map(|(column, value)| {
                    let value = value.as_ref();
                    let covered = covering.covers(&column.name) || is_secret(value);
                    let text = match covered && !value.is_null() {
                        true => WORD.to_string(),
                        false => value.plain(),
                    };
                    let text: String = text.chars().take(24).collect();
                    format!("{} {text}", column.name)
                })
                .collect();
            page.say(Tone::Faint, format!("  {}", cells.join("   ")));
        }
    }

    /// Fills rows that came before all columns were known.
    pub(crate) fn fill(&mut self) {
        let width = self.columns.len();
        for row in &mut self.rows {
            row.resize(width, Value::Missing);
        }
    }

    /// Adds rows, whose columns may stand in another order; columns that are new stand at the end.
    pub(crate) fn add(&mut self, mut other: Rows) {
        if self.columns.is_empty() {
            self.columns = std::mem::take(&mut other.columns);
            self.rows.append(&mut other.rows);
            return;
        }
        let names = |of: &Rows| {
            of.columns
                .iter()
                .map(|column| column.name.clone())
                .collect::<Vec<_>>()
        };
        if names(self) == names(&other) {
            other.fill();
            self.rows.append(&mut other.rows);
            return;
        }
        let mut places = Vec::with_capacity(other.columns.len());
        for column in other.columns {
            let known = self.columns.iter().position(|own| own.name == column.name);
            places.push(known.unwrap_or(self.columns.len()));
            if known.is_none() {
                self.columns.push(column);
            }
        }
        self.fill();
        for row in other.rows {
            let mut own = vec![Value::Missing; self.columns.len()];
            for (place, value) in places.iter().zip(row) {
                own[*place] = value;
            }
            self.rows.push(own);
        }
    }

    /// What tells a row apart: the texts of its key, each with its length before it.
    pub(crate) fn key_of(&self, row: &[Value]) -> Vec<u8> {
        let mut key = Vec::new();
        for place in &self.key {
            let at = key.len();
            key.extend_from_slice(&[0; 8]);
            row[*place].as_ref().write_plain(&mut key);
            let length = (key.len() - at - 8) as u64;
            key[at..at + 8].copy_from_slice(&length.to_le_bytes());
        }
        key
    }

    /// For each of these rows the one of the same key among others, which have the same columns.
    fn matched(&self, others: Vec<Vec<Value>>) -> Vec<Option<Vec<Value>>> {
        let same = |row: &Vec<Value>, other: &Vec<Value>| {
            let mut places = self.key.iter();
            places.all(|place| row[*place] == other[*place])
        };
        // Asked for by their keys they mostly come in the same order.
        let in_order = self.rows.len() == others.len()
            && self
                .rows
                .iter()
                .zip(&others)
                .all(|(row, other)| same(row, other));
        if in_order {
            return others.into_iter().map(Some).collect();
        }
        let mut others: HashMap<_, _> = others
            .into_iter()
            .map(|row| (self.key_of(&row), row))
            .collect();
        let rows = self.rows.iter();
        rows.map(|row| others.remove(&self.key_of(row))).collect()
    }

    /// Takes out rows that were met before.
    pub(crate) fn once(&mut self) {
        let mut seen = std::collections::HashSet::new();
        let rows = std::mem::take(&mut self.rows);
        let fresh = |row: &Vec<Value>| self.key.is_empty() || seen.insert(self.key_of(row));
        self.rows = rows.into_iter().filter(fresh).collect();
    }
}

impl Sink for Rows {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.columns = columns;
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        for row in batch.rows() {
            if self.rows.len() == self.most {
                self.more = true;
                break;
            }
            self.rows
                .push(row.values().map(|value| value.to_owned()).collect());
        }
        Ok(())
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.columns = columns;
        Ok(())
    }
}

/// Pairs of columns: a value before, and the same after.
pub(crate) type Pairs = Vec<(usize, usize)>;

/// Rows before and after in one result: the key, then each column in which some row differs twice, then the others.
/// Without what is after, the rows as they were.
pub(crate) fn side_by_side(mut before: Rows, after: Option<Rows>) -> (ResultSet, Pairs) {
    let Some(after) = after else {
        return (ResultSet::of_rows(before.columns, before.rows), Vec::new());
    };
    // Both get the same columns; those of one alone are missing in the other.
    let known = before.rows.len();
    before.add(after);
    let after = before.rows.split_off(known);
    let now = before.matched(after);
    let width = before.columns.len();
    let differs = |column: &usize| {
        let rows = before.rows.iter().zip(&now);
        rows.into_iter()
            .any(|(row, now)| now.as_ref().is_none_or(|now| now[*column] != row[*column]))
    };
    let all_gone = now.iter().all(Option::is_none);
    let key = |column: &usize| before.key.contains(column);
    let changed: Vec<usize> = (0..width)
        .filter(|column| !key(column) && !all_gone && differs(column))
        .collect();
    let same = (0..width).filter(|column| !key(column) && !changed.contains(column));
    let mut columns = Vec::new();
    // Where each comes from, and whether it is from what is after.
    let mut from: Vec<(usize, bool)> = Vec::new();
    let mut pairs = Vec::new();
    for place in &before.key {
        columns.push(before.columns[*place].clone());
        from.push((*place, false));
    }
    for place in &changed {
        let column = &before.columns[*place];
        let named = |when: &str| Column {
            name: format!("{} {when}", column.name),
            ..column.clone()
        };
        pairs.push((columns.len(), columns.len() + 1));
        columns.extend([named("before"), named("after")]);
        from.extend([(*place, false), (*place, true)]);
    }
    for place in same {
        columns.push(before.columns[place].clone());
        from.push((place, false));
    }
    // Each cell goes to one place.
    let rows = before.rows.into_iter().zip(now).map(|(mut row, mut now)| {
        let value = |(place, is_after): &(usize, bool)| {
            let row = if *is_after {
                now.as_mut()
            } else {
                Some(&mut row)
            };
            row.map_or(Value::Missing, |row| {
                std::mem::replace(&mut row[*place], Value::Missing)
            })
        };
        from.iter().map(value).collect()
    });
    (ResultSet::of_rows(columns, rows.collect()), pairs)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(key: &[usize], rows: &[(i64, &str, &str)]) -> Rows {
        Rows {
            columns: ["id", "name", "note"].map(Column::named).to_vec(),
            rows: rows
                .iter()
                .map(|(id, name, note)| vec![(*id).into(), (*name).into(), (*note).into()])
                .collect(),
            key: key.to_vec(),
            ..Rows::default()
        }
    }

    fn shown(before: Rows, after: Option<Vec<Vec<Value>>>) -> (Vec<String>, Pairs) {
        let after = after.map(|list| Rows {
            rows: list,
            ..rows(&[0], &[])
        });
        let (set, pairs) = side_by_side(before, after);
        let names = set.columns().iter().map(|c| c.name.clone());
        let mut lines = vec![names.collect::<Vec<_>>().join("|")];
        for row in 0..set.len() {
            let values = (0..set.columns().len()).map(|column| set.value(row, column));
            let values = values.map(|value| value.expect("there").as_ref().plain());
            lines.push(values.collect::<Vec<_>>().join("|"));
        }
        (lines, pairs)
    }

    /// Only columns in which a row differs stand twice, behind the key.
    #[test]
    fn what_differs_stands_twice() {
        let before = || rows(&[0], &[(1, "Tern", "a"), (2, "Gull", "b")]);
        let after = rows(&[0], &[(2, "Gull", "c"), (1, "Tern", "a")]).rows;
        let (lines, pairs) = shown(before(), Some(after));
        assert_eq!(
            lines,
            ["id|note before|note after|name", "1|a|a|Tern", "2|b|c|Gull"]
        );
        assert_eq!(pairs, [(1, 2)]);
        // Nothing differs; and a row that is not found again has nothing after.
        let (lines, pairs) = shown(before(), Some(before().rows));
        assert_eq!((lines[0].as_str(), pairs.len()), ("id|name|note", 0));
        let after = rows(&[0], &[(1, "Tern", "a")]).rows;
        let (lines, _) = shown(before(), Some(after));
        assert_eq!(lines[2], "2|Gull|missing|b|missing");
        assert_eq!(shown(before(), None).0[1], "1|Tern|a");
    }

    /// A row that a join meets twice is one.
    #[test]
    fn rows_of_a_join_are_met_once() {
        let mut found = rows(
            &[0],
            &[(1, "Tern", "a"), (1, "Tern", "a"), (2, "Gull", "b")],
        );
        found.once();
        assert_eq!(found.rows.len(), 2);
    }

    #[test]
    fn rows_are_asked_for_by_their_keys() {
        use idle_tide_lang::dialect::{MARIADB, POSTGRES, SQLITE};
        let found = rows(&[], &[(1, "O'Tern", "a"), (2, "Gull", "b")]);
        let key = |columns: &[&str], hidden| Key {
            columns: columns.iter().map(ToString::to_string).collect(),
            hidden,
            counts: false,
        };
        assert_eq!(
            which(&key(&["id"], false), &found.rows, &[0], &POSTGRES),
            "id in (1, 2)"
        );
        assert_eq!(
            which(
                &key(&["order", "name"], false),
                &found.rows,
                &[0, 1],
                MARIADB
            ),
            "(`order` = 1 and name = 'O''Tern') or (`order` = 2 and name = 'Gull')"
        );
        assert_eq!(
            which(&key(&["rowid"], true), &found.rows, &[0], &SQLITE),
            "rowid in (1, 2)"
        );
    }
}
