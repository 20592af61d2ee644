//! Where rows go, and what becomes of those whose key is there already: how such an insert begins and ends.

use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;

/// What becomes of a row whose key is there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Existing {
    /// The load is refused.
    Refuse,
    /// The row that is there stays.
    Skip,
    /// The row that is there is replaced.
    Replace,
}

/// Where rows go.
#[derive(Debug, Clone)]
pub struct Destination {
    /// The table, as a statement writes it.
    pub table: String,
    /// Its columns in the order of the values, as a statement writes them.
    pub columns: Vec<String>,
    /// Those of its key, written in the same way.
    pub keys: Vec<String>,
    /// What becomes of rows whose key is there.
    pub existing: Existing,
}

impl Destination {
    /// How an insert begins.
    pub(crate) fn head(&self) -> String {
        format!(
            "insert into {} ({}) values ",
            self.table,
            self.columns.join(", ")
        )
    }

    /// How it ends: what becomes of rows whose key is there.
    pub(crate) fn tail(&self, dialect: &Dialect) -> String {
        let rest = || {
            self.columns
                .iter()
                .filter(|column| !self.keys.contains(column))
        };
        let mariadb = dialect.family == Family::Mariadb;
        let set = |new: &dyn Fn(&String) -> String| {
            let list: Vec<_> = rest()
                .map(|column| format!("{column} = {}", new(column)))
                .collect();
            list.join(", ")
        };
        let first = &self
            .keys
            .first()
            .or(self.columns.first())
            .cloned()
            .unwrap_or_default();
        match self.existing {
            Existing::Refuse => String::new(),
            Existing::Skip if mariadb => format!(" on duplicate key update {first} = {first}"),
            Existing::Replace if mariadb && rest().next().is_none() => {
                format!(" on duplicate key update {first} = {first}")
            }
            Existing::Replace if mariadb => {
                let set = set(&|column| format!("values({column})"));
                format!(" on duplicate key update {set}")
            }
            Existing::Replace if rest().next().is_some() => {
                let set = set(&|column| format!("excluded.{column}"));
                format!(
                    " on conflict ({}) do update set {set}",
                    self.keys.join(", ")
                )
            }
            Existing::Skip | Existing::Replace => " on conflict do nothing".into(),
        }
    }
}
