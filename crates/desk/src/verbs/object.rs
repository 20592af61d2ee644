//! One object in full, and the statements that make it, or everything, again.

use idle_tide_lang::command::Parsed;

use super::{Needs, Verb, no_such_object};
use crate::about;
use crate::entry::Content;
use crate::failure::Failure;
use crate::session::{Next, Turn};

/// A command about one object.
pub(crate) struct Object(&'static str);

pub(crate) static ABOUT: Object = Object("about");
pub(crate) static DEFINITION: Object = Object("definition");

impl Verb for Object {
    fn name(&self) -> &'static str {
        self.0
    }

    fn needs(&self, parsed: &Parsed) -> Needs {
        Needs::Definition(parsed.argument(0).unwrap_or_default().to_string())
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        script: Option<String>,
    ) -> Result<Next, Failure> {
        let session = &turn.session;
        let page = match parsed.argument(0) {
            None => about::definition_page(script.as_deref(), session.dialect),
            Some(name) => {
                let catalog = &session.catalog;
                let object = catalog.named(name);
                let object = object.ok_or_else(|| no_such_object(session, parsed, name))?;
                match self.0 {
                    "about" => about::object_page(object, session.ties(), catalog, session.dialect),
                    _ => about::definition_page(object.definition.as_deref(), session.dialect),
                }
            }
        };
        Ok(Next::Done(Content::Page(page)))
    }
}
