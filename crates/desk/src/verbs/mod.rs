//! What commands do. Each is a [`Verb`] in a file here and a line of [`VERBS`]; its name, arguments and summary are a
//! row of `lang`'s table. What several verbs say of names and entries stands here too.

pub(crate) mod across;
pub(crate) mod again;
pub(crate) mod bearings;
pub(crate) mod chart;
pub(crate) mod clipboard;
pub(crate) mod compare;
pub(crate) mod diary;
pub(crate) mod export;
pub(crate) mod face;
pub(crate) mod figures;
pub(crate) mod keep;
pub(crate) mod links;
pub(crate) mod lists;
pub(crate) mod live;
pub(crate) mod load;
pub(crate) mod log;
pub(crate) mod object;
pub(crate) mod open;
pub(crate) mod password;
pub(crate) mod plan;
pub(crate) mod practice;
pub(crate) mod script;
pub(crate) mod served;
pub(crate) mod stages;
pub(crate) mod statement;
pub(crate) mod view;
pub(crate) mod writes;

use idle_tide_lang::command::{CommandError, Parsed};
use idle_tide_lang::join;

use crate::catalog::ReadCatalog;
use crate::entry::Entry;
use crate::failure::{self, Failure};
use crate::session::{Next, Session, Turn};

/// What a command needs before it starts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Needs {
    /// Nothing.
    Nothing,
    /// An open source.
    Session,
    /// The catalog as it is now.
    Catalog,
    /// The same, with the statements that make an object, or everything when the name is empty.
    Definition(String),
}

/// What a command does.
pub(crate) trait Verb: Sync {
    /// The command's name, as in `lang`'s table.
    fn name(&self) -> &'static str;

    /// What it needs before it starts.
    fn needs(&self, parsed: &Parsed) -> Needs {
        let _ = parsed;
        Needs::Nothing
    }

    /// Starts it; `script` is what makes everything, if it needs that.
    fn start(
        &self,
        turn: &mut Turn<'_>,
        parsed: &Parsed,
        script: Option<String>,
    ) -> Result<Next, Failure>;
}

/// All verbs.
static VERBS: &[&dyn Verb] = &[
    &across::Asks,
    &across::Name,
    &again::Again,
    &bearings::Bearings,
    &chart::Draws,
    &clipboard::AsText,
    &clipboard::Clipboard,
    &compare::Differs,
    &diary::Keeps,
    &export::Export,
    &face::CATALOG,
    &face::CLEAR,
    &face::EDIT,
    &face::ENTRIES,
    &face::FOLLOW,
    &face::HELP,
    &face::KEYS,
    &face::ONE_PAGE,
    &face::OUTLINE,
    &face::QUIT,
    &face::RECALL,
    &face::RECORD,
    &face::SOURCES,
    &face::TEXT,
    &face::THEME,
    &figures::FIGURES,
    &figures::SAMPLE,
    &keep::KEEP,
    &keep::TAKE_BACK,
    &links::LINKS,
    &links::ROUTE,
    &lists::COLLECTIONS,
    &lists::FIND,
    &lists::FUNCTIONS,
    &lists::INDEXES,
    &lists::SCHEMAS,
    &lists::SEQUENCES,
    &lists::SHAPE,
    &lists::TABLES,
    &lists::VIEWS,
    &live::Again,
    &load::Load,
    &log::Log,
    &object::ABOUT,
    &object::DEFINITION,
    &open::BACK,
    &open::CLOSE,
    &open::OPEN,
    &open::REOPEN,
    &open::USE,
    &password::ChangePassword,
    &plan::Plan,
    &practice::Practice,
    &script::FORGET,
    &script::RUN,
    &script::VARIABLES,
    &served::ACCESS,
    &served::DATABASES,
    &served::ROLES,
    &stages::Stages,
    &view::COLUMNS,
    &view::FILTER,
    &view::ORDER,
    &view::REVEAL,
    &writes::Writes,
];

/// Begins a command: gets what it needs, and starts it.
pub(crate) fn begin(turn: &mut Turn<'_>, parsed: Parsed) -> Next {
    let name = parsed.command.name;
    let Some(verb) = VERBS.iter().find(|verb| verb.name() == name).copied() else {
        return Next::refuse(format!("/{name} is not known here."));
    };
    let define = match verb.needs(&parsed) {
        Needs::Nothing => return start(verb, turn, &parsed, None),
        _ if turn.session.is_nowhere() => return failure::nowhere().into(),
        Needs::Session => return start(verb, turn, &parsed, None),
        Needs::Catalog => None,
        Needs::Definition(name) => Some(name),
    };
    let then = move |turn: &mut Turn<'_>, script| start(verb, turn, &parsed, script);
    Next::Go(Box::new(ReadCatalog::for_command(define, Box::new(then))))
}

fn start(verb: &dyn Verb, turn: &mut Turn<'_>, parsed: &Parsed, script: Option<String>) -> Next {
    verb.start(turn, parsed, script).unwrap_or_else(Next::from)
}

/// The table that a command names, quoted for a statement; nearly right names are offered.
fn known_table(session: &Session, parsed: &Parsed, name: &str) -> Result<String, Failure> {
    if let Some(object) = session.catalog.table(name) {
        return Ok(join::written(object, &session.catalog, session.dialect));
    }
    Err(no_such_object(session, parsed, name))
}

/// Says that there is no object of the name that one of the arguments is.
fn no_such_object(session: &Session, parsed: &Parsed, name: &str) -> Failure {
    let objects = session.catalog.objects.iter();
    let names = objects.filter(|o| !o.helper).map(|o| o.name.as_str());
    let part = parsed.arguments.iter().find(|part| part.text == name);
    let what = match parsed.command.name {
        "about" | "definition" => "object",
        _ if session.dialect.is_flow() => "collection",
        _ => "table or view",
    };
    failure::of_command(&CommandError {
        message: format!("There is no {what} {name} here."),
        span: part.map_or(0..0, |part| part.span.clone()),
        nearest: idle_tide_lang::correct::nearest(name, names, 4),
    })
}

/// The entry of a number that was typed.
fn entry_named<'a>(turn: &'a Turn<'_>, number: &str) -> Result<&'a Entry, Failure> {
    let found = number
        .parse()
        .ok()
        .and_then(|number| turn.entries.get(number));
    found.ok_or_else(|| {
        let count = turn.entries.all().len();
        failure::plain(format!(
            "There is no entry {number}; there are {count} so far."
        ))
    })
}

/// The statement of an entry by number, or of the one shown.
fn statement_of(turn: &Turn<'_>, number: Option<&str>) -> Result<String, Failure> {
    let entry = match number {
        Some(number) => entry_named(turn, number)?,
        None => turn
            .shown()
            .ok_or_else(|| failure::plain("There is no entry yet."))?,
    };
    if entry.text == "arrival" || entry.text.starts_with("/change-password") {
        return Err(failure::plain(
            "This entry is no statement. Show one that is, or name its number.",
        ));
    }
    Ok(entry.text.clone())
}

/// The statement that a command is about: what follows its name, or that of the entry shown; not a command.
fn statement_for(turn: &Turn<'_>, rest: &str, otherwise: &str) -> Result<String, Failure> {
    match rest {
        "" => match statement_of(turn, None)? {
            statement if !statement.starts_with(['/', '=']) => Ok(statement),
            _ => Err(failure::plain(otherwise)),
        },
        rest => Ok(rest.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// An option of formats that no command takes would be one that nobody can give.
    #[test]
    fn every_option_of_formats_is_one_of_export() {
        let export = idle_tide_lang::command::find("export").expect("the command");
        for (name, value, _) in idle_tide_draw::export::OPTIONS {
            let option = export.options.iter().find(|option| option.name == *name);
            let option = option.unwrap_or_else(|| panic!("--{name}"));
            assert_eq!(option.value.is_some(), value.is_some(), "--{name}");
        }
    }

    /// A row of the table without a verb would be a command that does nothing, and the other way round.
    #[test]
    fn every_command_has_a_verb() {
        let mut verbs: Vec<_> = VERBS.iter().map(|verb| verb.name()).collect();
        let mut rows: Vec<_> = idle_tide_lang::command::COMMANDS
            .iter()
            .map(|c| c.name)
            .collect();
        verbs.sort_unstable();
        rows.sort_unstable();
        assert_eq!(verbs, rows);
    }
}
