//! Commands that list what the catalog has: objects by kind, indexes, schemas, what is found by name, the shape of a
//! collection.

use idle_tide_draw::picture::{counted, grouped};
use idle_tide_lang::command::Parsed;

use super::{Needs, Verb, no_such_object};
use crate::entries::rows;
use crate::entry::Content;
use crate::failure::{Failure, plain};
use crate::lists;
use crate::page::Tone;
use crate::session::{Next, Turn};

/// A command that lists.
pub(crate) struct List {
    name: &'static str,
    list: fn(&mut Turn<'_>, &Parsed) -> Result<Content, Failure>,
}

impl Verb for List {
    fn name(&self) -> &'static str {
        self.name
    }

    fn needs(&self, _: &Parsed) -> Needs {
        Needs::Catalog
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        (self.list)(turn, parsed).map(Next::Done)
    }
}

const fn list(
    name: &'static str,
    list: fn(&mut Turn<'_>, &Parsed) -> Result<Content, Failure>,
) -> List {
    List { name, list }
}

fn pattern(parsed: &Parsed) -> &str {
    parsed.argument(0).unwrap_or("*")
}

fn by_kind(turn: &mut Turn<'_>, parsed: &Parsed) -> Result<Content, Failure> {
    // Tables are called collections where documents are, and the other way round.
    let name = match (parsed.command.name, turn.session.dialect.is_flow()) {
        ("tables", true) => "collections",
        ("collections", false) => "tables",
        (name, _) => name,
    };
    let catalog = &turn.session.catalog;
    Ok(rows(lists::list(
        catalog,
        name,
        pattern(parsed),
        parsed.has("full"),
    )))
}

pub(crate) static COLLECTIONS: List = list("collections", by_kind);
pub(crate) static FUNCTIONS: List = list("functions", by_kind);
pub(crate) static SEQUENCES: List = list("sequences", by_kind);
pub(crate) static TABLES: List = list("tables", by_kind);
pub(crate) static VIEWS: List = list("views", by_kind);

pub(crate) static FIND: List = list("find", |turn, parsed| {
    Ok(rows(lists::find(&turn.session.catalog, &parsed.rest)))
});

pub(crate) static INDEXES: List = list("indexes", |turn, parsed| {
    let catalog = &turn.session.catalog;
    Ok(rows(lists::indexes(
        catalog,
        pattern(parsed),
        parsed.has("full"),
    )))
});

pub(crate) static SCHEMAS: List = list("schemas", |turn, parsed| {
    let catalog = &turn.session.catalog;
    if catalog.schemas.is_empty() {
        return Err(plain(
            "This family has no schemas within a database; /databases lists the databases.",
        ));
    }
    Ok(rows(lists::schemas(catalog, pattern(parsed))))
});

pub(crate) static SHAPE: List = list("shape", |turn, parsed| {
    let name = pattern(parsed);
    let Some(object) = turn.session.catalog.table(name) else {
        return Err(no_such_object(turn.session, parsed, name));
    };
    let Some(shape) = &object.shape else {
        let kind = object.kind.word();
        return Err(plain(format!(
            "A {kind} has its columns declared: /about {name} shows them."
        )));
    };
    let looked = counted(shape.sampled, "document");
    let words = match object.rows {
        Some(all) if all == shape.sampled => {
            format!("Every document was read: {}.", grouped(all))
        }
        Some(all) => format!("From a sample of {looked} of {}.", grouped(all)),
        None => format!("From a sample of {looked}."),
    };
    let list = rows(lists::shape(shape));
    turn.say(words, Tone::Plain);
    Ok(list)
});
