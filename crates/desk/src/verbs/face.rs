//! Commands that ask the face for what only it can do. They make no entry.

use idle_tide_lang::command::Parsed;

use super::{Verb, statement_of, view};
use crate::export::expand;
use crate::face::Request;
use crate::failure::{Failure, plain};
use crate::session::{Next, Turn};
use crate::sheet::read;

/// A command that is a request.
pub(crate) struct Ask {
    name: &'static str,
    request: fn(&mut Turn<'_>, &Parsed) -> Result<Request, Failure>,
}

impl Verb for Ask {
    fn name(&self) -> &'static str {
        self.name
    }

    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        _: Option<String>,
    ) -> Result<Next, Failure> {
        let request = (self.request)(turn, parsed)?;
        turn.request(request);
        Ok(Next::Keep)
    }
}

const fn ask(
    name: &'static str,
    request: fn(&mut Turn<'_>, &Parsed) -> Result<Request, Failure>,
) -> Ask {
    Ask { name, request }
}

fn first(parsed: &Parsed) -> Option<String> {
    parsed.argument(0).map(str::to_string)
}

fn document(turn: &mut Turn<'_>, as_text: bool) -> Result<Request, Failure> {
    let sheet = view::sheet(turn)?;
    if !read(&sheet.set).holds_documents() {
        return Err(plain(
            "The rows of this result are no documents; /record shows one field per line.",
        ));
    }
    Ok(Request::Document(as_text))
}

pub(crate) static CATALOG: Ask = ask("catalog", |_, parsed| Ok(Request::Catalog(first(parsed))));
pub(crate) static CLEAR: Ask = ask("clear", |_, _| Ok(Request::Clear));
pub(crate) static EDIT: Ask = ask("edit", |turn, parsed| {
    Ok(Request::Edit(match parsed.argument(0) {
        Some(number) => statement_of(turn, Some(number))?,
        // Without a number an entry that is no statement gives an empty page.
        None => statement_of(turn, None).unwrap_or_default(),
    }))
});
pub(crate) static ENTRIES: Ask = ask("entries", |_, _| Ok(Request::Entries));
pub(crate) static FOLLOW: Ask = ask("follow", |turn, parsed| {
    if turn.session.is_nowhere() {
        return Err(crate::failure::nowhere());
    }
    Ok(Request::Follow(first(parsed)))
});
pub(crate) static HELP: Ask = ask("help", |_, parsed| Ok(Request::Guide(parsed.rest.clone())));
pub(crate) static KEYS: Ask = ask("keys", |_, _| Ok(Request::Guide("keys".into())));
pub(crate) static ONE_PAGE: Ask = ask("one-page", |_, parsed| {
    Ok(match parsed.argument(0) {
        Some(file) => Request::Card(expand(file)),
        None => Request::Guide("one page".into()),
    })
});
pub(crate) static OUTLINE: Ask = ask("outline", |turn, _| document(turn, false));
pub(crate) static QUIT: Ask = ask("quit", |_, _| Ok(Request::Quit));
pub(crate) static RECALL: Ask = ask("recall", |turn, parsed| {
    Ok(Request::Recall(statement_of(turn, parsed.argument(0))?))
});
pub(crate) static RECORD: Ask = ask("record", |turn, parsed| {
    view::sheet(turn)?;
    Ok(Request::Record(
        parsed.argument(0).and_then(|row| row.parse().ok()),
    ))
});
pub(crate) static SOURCES: Ask = ask("sources", |_, _| Ok(Request::Sources));
pub(crate) static TEXT: Ask = ask("text", |turn, _| document(turn, true));
pub(crate) static THEME: Ask = ask("theme", |_, parsed| {
    Ok(Request::Theme(
        parsed.argument(0).map(str::to_ascii_lowercase),
    ))
});
