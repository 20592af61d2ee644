//! A column of a result: what is known of it, and names that tell all columns apart.

use std::collections::HashMap;
use std::sync::Arc;

use crate::document::path::Path;

/// What is known of one column of a result.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Column {
    /// The name the engine reports.
    pub name: String,
    /// The declared type, in the engine's words, if the column comes from a table.
    pub declared: Option<String>,
    /// The table and the column it comes from, if the engine knows.
    pub origin: Option<(String, String)>,
    /// Part of its table's primary key.
    pub key: bool,
    /// May hold null, where known.
    pub optional: Option<bool>,
    /// Where it is in each row's document, if the rows are documents.
    pub path: Option<Arc<Path>>,
}

impl Column {
    /// A column of which only the name is known.
    pub fn named(name: impl Into<String>) -> Self {
        Column {
            name: name.into(),
            ..Column::default()
        }
    }
}

/// Names that tell all columns apart: the plain name where it is alone, `table.name` where two have
/// one name and come from different tables, and ` (2)` and so on for what is left.
pub fn column_labels(columns: &[Column]) -> Vec<String> {
    let mut count: HashMap<&str, usize> = HashMap::new();
    for column in columns {
        *count.entry(&column.name).or_default() += 1;
    }
    let mut seen: HashMap<String, usize> = HashMap::new();
    columns
        .iter()
        .map(|column| {
            let mut label = column.name.clone();
            if count[column.name.as_str()] > 1
                && let Some((table, _)) = &column.origin
            {
                label = format!("{table}.{}", column.name);
            }
            let times = seen.entry(label.clone()).or_default();
            *times += 1;
            if *times > 1 {
                label = format!("{label} ({times})");
            }
            label
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_columns_of_one_name_are_told_apart() {
        let from = |table: &str| Column {
            origin: Some((table.into(), "name".into())),
            ..Column::named("name")
        };
        let labels = column_labels(&[
            from("vessels"),
            from("quays"),
            from("quays"),
            Column::named("n"),
        ]);
        assert_eq!(
            labels,
            ["vessels.name", "quays.name", "quays.name (2)", "n"]
        );
    }
}
