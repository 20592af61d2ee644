//! `/bearings`: everything about where you are.

use idle_tide_lang::command::Parsed;

use super::Verb;
use crate::arrival::bearings_page;
use crate::entry::Content;
use crate::failure::Failure;
use crate::session::{Next, Turn};

pub(crate) struct Bearings;

impl Verb for Bearings {
    fn name(&self) -> &'static str {
        "bearings"
    }

    fn start(&self, turn: &mut Turn<'_>, _: &Parsed, _: Option<String>) -> Result<Next, Failure> {
        let session = &turn.session;
        let page = bearings_page(&session.source, &session.bearings, session.writes);
        Ok(Next::Done(Content::Page(page)))
    }
}
