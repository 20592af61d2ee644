//! Documents as rows: which paths they have, as columns, commonest first. Objects are taken apart, lists are not: a list is one
//! value. Paths that appear later are added at the end, so that a column keeps its number.

use std::sync::Arc;

use compact_str::CompactString;

use super::Kind;
use super::bson::{self, elements};
pub use super::path::Path;
use crate::column::Column;

/// Objects within each other are taken apart down to this depth; what is deeper is one value.
const DEEPEST: usize = 6;
/// More columns than this are not made; what they would hold is in the documents nevertheless.
pub const MOST: usize = 500;

/// A path as the flow language writes it: names apart by dots, in back-ticks where they are not plain names.
pub fn written<'a>(path: impl IntoIterator<Item = &'a str>) -> String {
    let mut text = String::new();
    for name in path {
        if !text.is_empty() {
            text.push('.');
        }
        let plain = name.starts_with(|c: char| c.is_alphabetic() || c == '_')
            && name.chars().all(|c| c.is_alphanumeric() || c == '_');
        if plain {
            text.push_str(name);
        } else {
            text.push('`');
            text.push_str(&name.replace('`', "``"));
            text.push('`');
        }
    }
    text
}

#[derive(Debug)]
struct Node {
    name: CompactString,
    parent: usize,
    depth: usize,
    children: Vec<usize>,
    present: u64,
    nulls: u64,
    /// Bits of the kinds that were seen, by [`Kind`] as a number.
    kinds: u32,
    /// Which column it is, once it was seen as a value.
    column: Option<usize>,
    leaf: bool,
}

/// Finds the paths of documents.
#[derive(Debug)]
pub struct Finder {
    nodes: Vec<Node>,
    columns: Vec<usize>,
    documents: u64,
    left_out: bool,
}

impl Default for Finder {
    fn default() -> Self {
        Finder {
            nodes: vec![Node {
                name: CompactString::default(),
                parent: 0,
                depth: 0,
                children: Vec::new(),
                present: 0,
                nulls: 0,
                kinds: 0,
                column: None,
                leaf: false,
            }],
            columns: Vec::new(),
            documents: 0,
            left_out: false,
        }
    }
}

impl Finder {
    /// Takes notice of the paths of a document. They are columns after [`Finder::settle`].
    pub fn meet(&mut self, document: &[u8]) {
        self.documents += 1;
        self.walk(document, 0);
    }

    fn walk(&mut self, bytes: &[u8], at: usize) {
        let mut hint = 0;
        for element in elements(bytes) {
            let children = &self.nodes[at].children;
            let right = |child: &usize| self.nodes[*child].name.as_bytes() == element.name;
            let place = match children.get(hint) {
                Some(child) if right(child) => Some(hint),
                _ => children.iter().position(right),
            };
            let place = place.unwrap_or_else(|| {
                let depth = self.nodes[at].depth + 1;
                self.nodes.push(Node {
                    name: String::from_utf8_lossy(element.name).into(),
                    parent: at,
                    depth,
                    children: Vec::new(),
                    present: 0,
                    nulls: 0,
                    kinds: 0,
                    column: None,
                    leaf: false,
                });
                let new = self.nodes.len() - 1;
                self.nodes[at].children.push(new);
                self.nodes[at].children.len() - 1
            });
            hint = place + 1;
            let child = self.nodes[at].children[place];
            let node = &mut self.nodes[child];
            node.present += 1;
            if let Some(kind) = Kind::of_tag(element.tag) {
                node.kinds |= 1 << kind as u32;
                node.nulls += u64::from(kind == Kind::Null);
            }
            let open =
                element.tag == bson::OBJECT && element.value.len() > 5 && node.depth < DEEPEST;
            if open {
                self.walk(element.value, child);
            } else {
                node.leaf = true;
            }
        }
    }

    /// Makes columns of the paths that are new: at first the commonest in front, later at the end. Whether there are new ones.
    pub fn settle(&mut self) -> bool {
        let mut new: Vec<usize> = Vec::new();
        self.new_leaves(0, &mut new);
        new.sort_by_key(|node| std::cmp::Reverse(self.nodes[*node].present));
        let room = MOST - self.columns.len();
        self.left_out |= new.len() > room;
        new.truncate(room);
        for node in &new {
            self.nodes[*node].column = Some(self.columns.len());
            self.columns.push(*node);
        }
        !new.is_empty()
    }

    fn new_leaves(&self, at: usize, new: &mut Vec<usize>) {
        for child in &self.nodes[at].children {
            let node = &self.nodes[*child];
            if node.leaf && node.column.is_none() {
                new.push(*child);
            }
            self.new_leaves(*child, new);
        }
    }

    /// Whether there are more paths than columns.
    pub fn left_out(&self) -> bool {
        self.left_out
    }

    fn path(&self, mut node: usize) -> Path {
        let mut path = Vec::new();
        while node != 0 {
            path.push(self.nodes[node].name.clone());
            node = self.nodes[node].parent;
        }
        path.reverse();
        path
    }

    /// The columns so far. `declared` says the kinds that were seen, `optional` whether null or nothing was.
    pub fn columns(&self) -> Vec<Column> {
        self.columns
            .iter()
            .map(|at| {
                let node = &self.nodes[*at];
                let path = self.path(*at);
                let kinds: Vec<&str> = Kind::ALL
                    .iter()
                    .filter(|(kind, _)| *kind != Kind::Null && node.kinds & 1 << *kind as u32 != 0)
                    .map(|(_, word)| *word)
                    .collect();
                let key = path.len() == 1 && path[0] == "_id";
                Column {
                    name: written(path.iter().map(CompactString::as_str)),
                    declared: Some(if kinds.is_empty() {
                        "null".into()
                    } else {
                        kinds.join(", ")
                    }),
                    origin: None,
                    key,
                    optional: Some(node.present < self.documents || node.nulls > 0),
                    path: Some(Arc::new(path)),
                }
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document;
    use crate::document::Document;
    use crate::document::bson::encode;

    #[test]
    fn columns_are_the_paths_commonest_first_and_keep_their_numbers() {
        let mut finder = Finder::default();
        for n in 0..3 {
            let mut landing = document! { "_id": n, "skipper": document! { "name": "A", "years": 3 }, "tags": vec!["x"] };
            if n == 0 {
                landing.fields.insert(1, ("rare".into(), 1.into()));
                landing.set("empty", Document::new());
            }
            finder.meet(&encode(&landing));
        }
        assert!(finder.settle());
        let names = |finder: &Finder| {
            finder
                .columns()
                .into_iter()
                .map(|c| c.name)
                .collect::<Vec<_>>()
        };
        assert_eq!(
            names(&finder),
            [
                "_id",
                "skipper.name",
                "skipper.years",
                "tags",
                "rare",
                "empty"
            ]
        );
        let columns = finder.columns();
        assert!(columns[0].key && columns[0].declared.as_deref() == Some("int"));
        assert_eq!(
            (columns[0].optional, columns[4].optional),
            (Some(false), Some(true))
        );
        finder.meet(&encode(&document! { "_id": "x", "a b.c": 1, "skipper": 7 }));
        assert!(finder.settle());
        assert!(!finder.settle());
        assert_eq!(names(&finder)[6..], ["skipper", "`a b.c`"]);
        assert_eq!(finder.columns()[0].declared.as_deref(), Some("int, text"));
    }
}
