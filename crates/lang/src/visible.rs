//! Which columns a place in a statement sees: those of the tables of its block and of the blocks around it,
//! also where a table is a query in brackets or one that the statement defines.

use idle_tide_core::Catalog;
use idle_tide_core::catalog::{Field, Object};

use crate::query::{Joined, Of, Query};
use crate::token::Token;

/// A column that is seen.
#[derive(Debug, Clone)]
pub struct Seen<'a> {
    /// Its name.
    pub name: String,
    /// Where it comes from in the end, if that is known.
    pub from: Option<(&'a Object, &'a Field)>,
}

/// A statement with what it takes to look its columns up.
pub struct View<'a> {
    /// Its text.
    pub text: &'a str,
    /// Its tokens that count.
    pub list: &'a [Token],
    /// Its blocks.
    pub query: &'a Query,
    /// The objects of the database.
    pub catalog: &'a Catalog,
}

impl<'a> View<'a> {
    /// The tables that a block sees, its own first.
    pub fn tables(&self, block: Option<usize>) -> Vec<&'a Joined> {
        let mut list = Vec::new();
        let mut next = block;
        while let Some(at) = next {
            list.extend(&self.query.blocks[at].tables);
            next = self.query.blocks[at].parent;
        }
        list
    }

    /// The object that a table is.
    pub fn object(&self, joined: &Joined) -> Option<&'a Object> {
        match &joined.of {
            Of::Table(name) if self.query.common(name).is_none() => self.catalog.table(name),
            _ => None,
        }
    }

    /// The columns of a table.
    pub fn columns(&self, joined: &Joined) -> Vec<Seen<'a>> {
        self.columns_of(&joined.of, 0)
    }

    fn columns_of(&self, of: &Of, depth: usize) -> Vec<Seen<'a>> {
        // A table that is defined by itself has no end.
        if depth > 8 {
            return Vec::new();
        }
        match of {
            Of::Other => Vec::new(),
            Of::Block(block) => self.outputs(*block, depth),
            Of::Table(name) => match self.query.common(name) {
                None => self.catalog.table(name).map_or(Vec::new(), |object| {
                    let seen = |field: &'a Field| Seen {
                        name: field.name.clone(),
                        from: Some((object, field)),
                    };
                    object.fields.iter().map(seen).collect()
                }),
                Some(common) => {
                    let mut columns = common
                        .block
                        .map_or(Vec::new(), |block| self.outputs(block, depth));
                    for (at, name) in common.columns.iter().enumerate() {
                        match columns.get_mut(at) {
                            Some(column) => column.name.clone_from(name),
                            None => columns.push(Seen {
                                name: name.clone(),
                                from: None,
                            }),
                        }
                    }
                    columns
                }
            },
        }
    }

    fn outputs(&self, block: usize, depth: usize) -> Vec<Seen<'a>> {
        let mut columns = Vec::new();
        let tables = &self.query.blocks[block].tables;
        let fits = |joined: &&Joined, qualifier: &Option<String>| {
            qualifier.as_ref().is_none_or(|wanted| {
                joined
                    .qualifier()
                    .is_some_and(|q| q.eq_ignore_ascii_case(wanted))
            })
        };
        for output in self.query.outputs(block, self.text, self.list) {
            let (qualifier, source) = match &output.of {
                Some((qualifier, source)) => (qualifier.clone(), Some(source)),
                None => (None, None),
            };
            let own = tables.iter().filter(|joined| fits(joined, &qualifier));
            let mut all = own.flat_map(|joined| self.columns_of(&joined.of, depth + 1));
            if output.name == "*" {
                columns.extend(all);
            } else {
                let from =
                    source.and_then(|source| all.find(|c| c.name.eq_ignore_ascii_case(source)));
                columns.push(Seen {
                    name: output.name,
                    from: from.and_then(|c| c.from),
                });
            }
        }
        columns
    }

    /// The column that a name stands for in a block, with or without its table's.
    pub fn find(
        &self,
        block: Option<usize>,
        qualifier: Option<&str>,
        name: &str,
    ) -> Option<Seen<'a>> {
        let tables = self.tables(block);
        let fits = |joined: &&&Joined| {
            qualifier.is_none_or(|wanted| {
                joined
                    .qualifier()
                    .is_some_and(|q| q.eq_ignore_ascii_case(wanted))
            })
        };
        tables
            .iter()
            .filter(fits)
            .flat_map(|joined| self.columns(joined))
            .find(|column| column.name.eq_ignore_ascii_case(name))
    }
}
