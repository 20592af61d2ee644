//! What follows from links while a join is written: the tables that are linked to those before, and the
//! condition that joins them.

use idle_tide_core::{Catalog, Object};

use super::{Candidate, Offer};
use crate::dialect::Dialect;
use crate::join::{condition, written};
use crate::query::Joined;
use crate::visible::View;

/// The tables of a block that stand before a byte.
fn before<'a>(view: &View<'a>, block: Option<usize>, at: usize) -> Vec<&'a Joined> {
    let tables = block.map_or(&[][..], |block| &view.query.blocks[block].tables);
    tables.iter().filter(|table| table.end <= at).collect()
}

/// Links between the table that is being joined and those before it, as conditions.
pub(super) fn conditions(
    view: &View<'_>,
    block: Option<usize>,
    at: usize,
    dialect: &Dialect,
) -> Vec<Candidate> {
    let before = before(view, block, at);
    let Some((new, earlier)) = before.split_last() else {
        return Vec::new();
    };
    let mut list = Vec::new();
    for other in earlier {
        let (Some(a), Some(b)) = (view.object(new), view.object(other)) else {
            continue;
        };
        for tie in ties_between(view.catalog, a, b) {
            let (new, other) = (
                new.qualifier().unwrap_or_default(),
                other.qualifier().unwrap_or_default(),
            );
            let (ours, theirs) = match std::ptr::eq(tie.here, a) {
                true => (tie.columns, tie.theirs),
                false => (tie.theirs, tie.columns),
            };
            let text = condition((new, ours), (other, theirs), dialect);
            list.push(Candidate {
                label: text.clone(),
                detail: if tie.many(a) {
                    "the link; several rows each".into()
                } else {
                    "the link".into()
                },
                offer: Offer::Piece,
                insert: text,
                span: None,
            });
        }
    }
    list
}

/// A declared link between two objects.
pub(super) struct Between<'a> {
    here: &'a Object,
    columns: &'a [String],
    theirs: &'a [String],
}

impl Between<'_> {
    /// Whether joining `new` over it may find several rows.
    fn many(&self, new: &Object) -> bool {
        let columns: Vec<&str> = self.columns.iter().map(String::as_str).collect();
        std::ptr::eq(self.here, new) && !new.is_unique(&columns)
    }
}

pub(super) fn ties_between<'a>(
    catalog: &Catalog,
    a: &'a Object,
    b: &'a Object,
) -> Vec<Between<'a>> {
    let mut found = Vec::new();
    let mut pairs = vec![(a, b)];
    if !std::ptr::eq(a, b) {
        pairs.push((b, a));
    }
    for (here, there) in pairs {
        for link in &here.links {
            if catalog
                .target(here, link)
                .is_some_and(|target| std::ptr::eq(target, there))
            {
                found.push(Between {
                    here,
                    columns: &link.columns,
                    theirs: &link.their_columns,
                });
            }
        }
    }
    found
}

/// The tables that link to one that is there, or that one there links to.
pub(super) fn linked_tables(
    view: &View<'_>,
    block: Option<usize>,
    at: usize,
    dialect: &Dialect,
) -> Vec<Candidate> {
    let mut list: Vec<Candidate> = Vec::new();
    let mut offer = |object: &Object, by: &Object, many: bool| {
        if object.helper || list.iter().any(|c| c.label == object.name) {
            return;
        }
        list.push(Candidate {
            label: object.name.clone(),
            detail: format!(
                "linked to {}{}",
                by.name,
                if many { ", many each" } else { "" }
            ),
            offer: Offer::Table,
            insert: written(object, view.catalog, dialect),
            span: None,
        });
    };
    for joined in before(view, block, at) {
        let Some(object) = view.object(joined) else {
            continue;
        };
        for link in &object.links {
            if let Some(target) = view.catalog.target(object, link) {
                offer(target, object, false);
            }
        }
        for (other, link) in view.catalog.referring(object) {
            let columns: Vec<&str> = link.columns.iter().map(String::as_str).collect();
            offer(other, object, !other.is_unique(&columns));
        }
    }
    list
}
