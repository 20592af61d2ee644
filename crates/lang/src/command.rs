//! The one table of commands, and the parser of a command line. The guide, completion and the docs' list
//! are made from the table; what a command does is the desk's business.

use std::ops::Range;

use idle_tide_core::column_type::NAMED;

use crate::dialect::NAMES;

/// What an argument names, for completion.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Argument {
    /// A table or view.
    Table,
    /// An object of any kind.
    Object,
    /// A pattern over names of objects.
    Pattern,
    /// Any words.
    Text,
    /// A column of the current result.
    Column,
    /// One of these words.
    Words(&'static [&'static str]),
    /// A text, often one of these.
    Often(&'static [&'static str]),
    /// A number of an entry.
    Entry,
    /// A number.
    Number,
    /// A file name.
    File,
    /// A format of rows or drawings.
    Format,
    /// A topic of the guide.
    Topic,
    /// A source: a saved name, an address, a file.
    Source,
    /// A database of the server.
    Database,
    /// A column and one of these words: `price=integer`.
    Pair(&'static [&'static str]),
    /// The rest of the line, as it is.
    Rest,
}

/// An option `--name`, with the words its value can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OptionSpec {
    /// Its name without the dashes.
    pub name: &'static str,
    /// What its value names; `None` for an option without a value.
    pub value: Option<Argument>,
}

/// A command of the table.
#[derive(Debug, Clone, Copy)]
pub struct Command {
    /// Its name without the slash.
    pub name: &'static str,
    /// How its arguments are written, in the guide's notation.
    pub usage: &'static str,
    /// What it does, in one line.
    pub summary: &'static str,
    /// The topic of the guide it belongs to.
    pub topic: &'static str,
    /// Its arguments in order; the last one may repeat.
    pub arguments: &'static [Argument],
    /// Fewest and most arguments.
    pub count: (usize, usize),
    /// Its options.
    pub options: &'static [OptionSpec],
}

const FULL: OptionSpec = OptionSpec {
    name: "full",
    value: None,
};
const MANY: usize = usize::MAX;

macro_rules! command {
    ($name:literal, $usage:literal, $topic:literal, $args:expr, $count:expr, $options:expr, $summary:literal) => {
        Command {
            name: $name,
            usage: $usage,
            summary: $summary,
            topic: $topic,
            arguments: $args,
            count: $count,
            options: $options,
        }
    };
}

use Argument as A;

const fn flag(name: &'static str) -> OptionSpec {
    OptionSpec { name, value: None }
}

const fn with(name: &'static str, value: Argument) -> OptionSpec {
    OptionSpec {
        name,
        value: Some(value),
    }
}

/// What often stands between values.
const SEPARATORS: &[&str] = &["','", "';'", "tab", "'|'"];

/// Options of a command, and behind them those of formats of rows, as `draw` knows them.
macro_rules! with_layout {
    ($($own:expr),*) => {
        &[
            $($own,)*
            flag("no-header"),
            flag("lines"),
            with("separator", A::Often(SEPARATORS)),
            flag("quote-all"),
            with("null", A::Rest),
            with("table", A::Table),
            with("dialect", A::Words(NAMES)),
            flag("create"),
        ]
    };
}

const EXPORT: &[OptionSpec] = with_layout![
    with("as", A::Format),
    flag("replace"),
    flag("revealed"),
    with(
        "encoding",
        A::Words(&["utf-8", "utf-8-bom", "utf-16", "latin1"])
    )
];

#[rustfmt::skip]
/// The names of the types that a column of a file can have; decimals also with their size, `decimal(12,2)`.
const LOADED_TYPES: [&str; NAMED.len()] = {
    let mut names = [""; NAMED.len()];
    let mut at = 0;
    while at < names.len() {
        names[at] = NAMED[at].0;
        at += 1;
    }
    names
};
/// How values of a column of a file can be written.
pub const LOADED_FORMS: &[&str] = &["plain", "comma", "dmy", "mdy"];

const LOAD: &[OptionSpec] = &[
    with("into", A::Table),
    flag("go"),
    with("type", A::Pair(&LOADED_TYPES)),
    with("name", A::Pair(&[])),
    with("form", A::Pair(LOADED_FORMS)),
    with("leave-out", A::Rest),
    with("key", A::Rest),
    with("existing", A::Words(&["refuse", "skip", "replace"])),
    with("bad", A::Words(&["refuse", "skip"])),
    with("batch", A::Number),
    with("separator", A::Often(SEPARATORS)),
    flag("header"),
    flag("no-header"),
    flag("no-quotes"),
    with("null", A::Rest),
    with("encoding", A::Words(&["utf-8", "utf-16", "latin1"])),
    with("skip-rows", A::Number),
];

/// All commands, in alphabetical order.
#[rustfmt::skip]
pub static COMMANDS: &[Command] = &[
    command!("about", "NAME", "look around", &[A::Object], (1, 1), &[], "one object in full: columns, keys, indexes, links both ways, checks, definition"),
    command!("access", "[NAME]", "look around", &[A::Table], (0, 1), &[], "who may do what: grants by object, of one object or of all"),
    command!("across", "SQL", "across", &[A::Rest], (1, MANY), &[], "SQL over earlier results, result_3 or a name of your own, from any source, and over files: from 'prices.csv'"),
    command!("again", "[N]", "entries", &[A::Entry], (0, 1), &[], "runs the current entry, or entry N, once more"),
    command!("back", "", "arrive", &[], (0, 0), &[], "after /reopen --as: back to the user you were before"),
    command!("bearings", "", "arrive", &[], (0, 0), &[], "everything about where you are"),
    command!("catalog", "[NAME]", "look around", &[A::Object], (0, 1), &[], "everything here in columns that open to the right: objects by kind, what they are made of, details"),
    command!("change-password", "", "arrive", &[], (0, 0), &[], "gives you a new password; it is asked for twice and shows nowhere"),
    command!("chart", "[KIND] [--of COLUMN] [--x COLUMN] [--y COLUMN] [--by COLUMN] [--panels COLUMN] [--how sum, mean or count] [--stacked] [--ordered] [--log] [--title TEXT]", "pictures", &[A::Words(&["bars", "line", "area", "points", "histogram", "box", "heat"])], (0, 1), &[with("of", A::Column), with("x", A::Column), with("y", A::Column), with("by", A::Column), with("panels", A::Column), with("how", A::Words(&["sum", "mean", "count"])), flag("stacked"), flag("ordered"), flag("log"), with("title", A::Rest)], "a picture of the current result; the kind and the columns that fit are proposed, keys change them"),
    command!("clear", "", "read", &[], (0, 0), &[], "clears the view; entries and results stay"),
    command!("clipboard", "[cell, row, column, marked, result or statement] [--as FORMAT] [options of the format]", "take away", &[A::Words(&["cell", "row", "column", "marked", "result", "statement"])], (0, 1), with_layout![with("as", A::Format)], "copies the current value, or the rows that are marked, or what you name, to the clipboard, also through a remote terminal"),
    command!("close", "", "arrive", &[], (0, 0), &[], "ends the current session; its entries stay"),
    command!("collections", "[PATTERN] [--full]", "look around", &[A::Pattern], (0, 1), &[FULL], "collections of documents; --full adds sizes, paths and indexes"),
    command!("columns", "[NAME ...] [--hide NAME] [--all]", "read", &[A::Column], (0, MANY), &[ OptionSpec { name: "hide", value: Some(A::Column) }, OptionSpec { name: "all", value: None } ], "shows these columns in this order; --hide takes one away, --all brings all back"),
    command!("compare", "[A] [B] [--on COLUMN] [--within NUMBER]", "live", &[A::Entry, A::Entry], (0, 2), &[with("on", A::Column), with("within", A::Rest)], "what differs from the result of entry A to that of B, or of the entry shown: rows added, removed and changed, old and new side by side; --on names the key"),
    command!("databases", "[PATTERN] [--full]", "arrive", &[A::Database], (0, 1), &[FULL], "databases of the server; --full adds sizes"),
    command!("definition", "[NAME]", "look around", &[A::Object], (0, 1), &[], "the statements that make an object again, or everything in an order that works"),
    command!("diary", "[FILE or stop] [--from N] [--to N] [--rows N]", "take away", &[A::File], (0, 1), &[ OptionSpec { name: "from", value: Some(A::Number) }, OptionSpec { name: "to", value: Some(A::Number) }, OptionSpec { name: "rows", value: Some(A::Number) } ], "keeps a record of this session from now on, or of earlier entries, as Markdown that runs again and checks its results"),
    command!("edit", "[N]", "write", &[A::Entry], (0, 1), &[], "opens the statement, or that of entry N, in your editor"),
    command!("entries", "", "entries", &[], (0, 0), &[], "all entries of this session and statements of earlier ones"),
    command!("export", "FILE or \"| PROGRAM\" [--as FORMAT] [--replace] [--revealed] [options of the format]", "take away", &[A::File], (1, 1), EXPORT, "writes all rows of the current result to a file, or gives them to a program; a drawing as svg, pdf or text"),
    command!("figures", "NAME [--all]", "look around", &[A::Table], (1, 1), &[ OptionSpec { name: "all", value: None } ], "every column's nulls, distinct values, extremes, commonest values and odd kinds; of a large table from a sample, unless --all"),
    command!("filter", "[CONDITION]", "read", &[A::Rest], (0, MANY), &[], "keeps the rows that satisfy a condition; without one, all rows again"),
    command!("find", "TEXT", "look around", &[A::Text], (1, MANY), &[], "everything whose name or comment holds the text: objects, columns, indexes, databases, roles"),
    command!("follow", "[TABLE]", "links", &[A::Table], (0, 1), &[], "from the current cell to the row it refers to, or to the rows that refer to it; to those of TABLE"),
    command!("forget", "[NAME]", "scripts", &[A::Text], (0, 1), &[], "forgets a variable or function of scripts, or all"),
    command!("functions", "[PATTERN] [--full]", "look around", &[A::Pattern], (0, 1), &[FULL], "functions and procedures of the database; --full adds owners, and those of extensions"),
    command!("help", "[TOPIC]", "help", &[A::Topic], (0, MANY), &[], "the guide: by topic, command, key or statement"),
    command!("indexes", "[PATTERN] [--full]", "look around", &[A::Pattern], (0, 1), &[FULL], "indexes, with their tables and columns; --full adds conditions, sizes and how often they were used"),
    command!("keep", "", "change", &[], (0, 0), &[], "keeps the change that is held, so that everybody sees it"),
    command!("keys", "", "help", &[], (0, 0), &[], "every key and what it does"),
    command!("layout", "[FORMAT] [options of the format]", "take away", &[A::Format], (0, 1), with_layout![], "the current result as text, to be selected and pasted: text unless FORMAT says otherwise"),
    command!("links", "[NAME ...] [--distance N] [--declared] [--check]", "links", &[A::Table], (0, MANY), &[ OptionSpec { name: "distance", value: Some(A::Number) }, OptionSpec { name: "declared", value: None }, OptionSpec { name: "check", value: None } ], "draws how tables hang together, all or around NAME; --declared leaves guesses out, --check asks the data how many values match"),
    command!("live", "[SECONDS or stop] [--until CONDITION] [--alert CONDITION] [--trend COLUMN] [--in-transaction]", "live", &[A::Text], (0, 1), &[with("until", A::Rest), with("alert", A::Rest), with("trend", A::Column), flag("in-transaction")], "reads the current result again every few seconds (2 unless you say) and marks what is new, gone and changed; ends when a condition holds, rings when one begins to"),
    command!("load", "FILE [--into NAME] [--go] [--type COLUMN=TYPE] [--name COLUMN=NAME] [--leave-out COLUMN] [--key COLUMN] [how it is read]", "change", &[A::File], (1, 1), LOAD, "brings rows of a file into a table or collection: what a file of CSV, JSON, BSON or Parquet holds, and how it would go in, is shown first; --go loads it, all or nothing"),
    command!("log", "[N]", "arrive", &[A::Number], (0, 1), &[], "where the log is, and its last lines (30 unless N says otherwise)"),
    command!("name", "N NAME", "across", &[A::Entry, A::Text], (2, 2), &[], "gives the result of entry N a name for /across"),
    command!("one-page", "[FILE.pdf]", "help", &[A::File], (0, 1), &[], "everything on one page; with a file a card of commands and keys to print, as pdf, svg or text"),
    command!("open", "NAME or ADDRESS [--write] [--keep-going] [--via HOST] [--through COMMAND]", "arrive", &[A::Source], (1, 1), &[ OptionSpec { name: "write", value: None }, OptionSpec { name: "keep-going", value: None }, OptionSpec { name: "via", value: Some(A::Rest) }, OptionSpec { name: "through", value: Some(A::Rest) } ], "opens a saved source, an address, a file or demo, beside what is open"),
    command!("order", "[COLUMN [desc]]", "read", &[A::Column, A::Words(&["asc", "desc"])], (0, 2), &[], "orders the rows by a column; without one, as they came"),
    command!("outline", "", "documents", &[], (0, 0), &[], "the current document as an outline that opens and closes"),
    command!("plan", "[--estimate] [STATEMENT]", "plans", &[A::Rest], (0, MANY), &[], "how the server runs a statement, as a tree, the costly step marked; one that reads is run to be measured, unless --estimate; one that writes is not"),
    command!("practice", "start or stop", "documents", &[A::Words(&["start", "stop"])], (1, 1), &[], "starts or stops the practice server, a stand-in document server with the harbour's documents"),
    command!("quit", "", "arrive", &[], (0, 0), &[], "leaves"),
    command!("recall", "N", "entries", &[A::Entry], (1, 1), &[], "brings the statement of entry N back into the composer"),
    command!("record", "[ROW]", "read", &[A::Number], (0, 1), &[], "the current row, or row ROW, one field per line"),
    command!("reopen", "[--as USER]", "arrive", &[], (0, 0), &[ OptionSpec { name: "as", value: Some(A::Rest) } ], "connects anew, to the same database, role and settings; --as as another user"),
    command!("reveal", "", "read", &[], (0, 0), &[], "shows what is covered in the current result because it looks like a secret, or covers it again"),
    command!("roles", "[PATTERN] [--full]", "look around", &[A::Text], (0, 1), &[FULL], "users and roles, and who is a member of what; --full adds what they may"),
    command!("route", "A B ...", "links", &[A::Table], (2, MANY), &[], "the way from one table to another over the links; its join goes into the composer"),
    command!("run", "FILE", "scripts", &[A::File], (1, 1), &[], "runs what a file holds: statements, commands and script lines, one after the other"),
    command!("sample", "NAME [N]", "look around", &[A::Table, A::Number], (1, 2), &[], "a few rows of a table (10 unless N says otherwise)"),
    command!("schemas", "[PATTERN]", "look around", &[A::Text], (0, 1), &[], "schemas, and how much is in each"),
    command!("sequences", "[PATTERN] [--full]", "look around", &[A::Pattern], (0, 1), &[FULL], "sequences; --full adds steps, bounds and the columns they number"),
    command!("shape", "COLLECTION", "documents", &[A::Table], (1, 1), &[], "every path of a collection's documents: kinds with shares, how often it is there, examples"),
    command!("sources", "", "arrive", &[], (0, 0), &[], "open sessions, saved sources, and servers found on this machine"),
    command!("stages", "[FLOW]", "documents", &[A::Rest], (0, MANY), &[], "a flow stage by stage: documents in and out, what was dropped, samples of both"),
    command!("tables", "[PATTERN] [--full]", "look around", &[A::Pattern], (0, 1), &[FULL], "tables; --full adds sizes, columns, owners, comments, and partitions and an engine's helper tables"),
    command!("take-back", "", "change", &[], (0, 0), &[], "takes back the change that is held, so that everything is as it was before"),
    command!("text", "", "documents", &[], (0, 0), &[], "the current document as text"),
    command!("theme", "[deep, shoal or plain]", "read", &[A::Words(&["deep", "shoal", "plain"])], (0, 1), &[], "the colours: deep for dark, shoal for light grounds, plain for none"),
    command!("use", "DATABASE", "arrive", &[A::Database], (1, 1), &[], "goes to another database of the server"),
    command!("variables", "", "scripts", &[], (0, 0), &[], "the variables and functions of scripts"),
    command!("views", "[PATTERN] [--full]", "look around", &[A::Pattern], (0, 1), &[FULL], "views; --full adds columns and comments"),
    command!("writes", "[ask, free or none]", "change", &[A::Words(&["ask", "free", "none"])], (0, 1), &[], "how writes are treated: asked about when they sweep, free, or refused by the engine"),
];

/// A part of a command line and its place, in bytes from the line's start.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// The text, quotes taken off.
    pub text: String,
    /// Where it stands, quotes included.
    pub span: Range<usize>,
}

/// A command line that was understood.
#[derive(Debug, Clone)]
pub struct Parsed {
    /// The command.
    pub command: &'static Command,
    /// Its arguments.
    pub arguments: Vec<Part>,
    /// Its options with their values.
    pub options: Vec<(&'static str, Option<Part>)>,
    /// Everything after the name, as it was typed.
    pub rest: String,
    /// Where `rest` begins.
    pub rest_at: usize,
}

impl Parsed {
    /// Whether the option was given.
    pub fn has(&self, option: &str) -> bool {
        self.options.iter().any(|(name, _)| *name == option)
    }

    /// The value of an option, with its place.
    pub fn option(&self, option: &str) -> Option<&Part> {
        let found = self.options.iter().find(|(name, _)| *name == option);
        found.and_then(|(_, value)| value.as_ref())
    }

    /// The value of an option.
    pub fn value(&self, option: &str) -> Option<&str> {
        self.option(option).map(|part| part.text.as_str())
    }

    /// The command as a line that is understood as this one; what its rest says is among its arguments and options.
    pub fn written(&self) -> String {
        let mut line = format!("/{}", self.command.name);
        for part in &self.arguments {
            line.push(' ');
            line.push_str(&quoted(&part.text));
        }
        for (option, value) in &self.options {
            line.push_str(&format!(" --{option}"));
            if let Some(value) = value {
                line.push(' ');
                line.push_str(&quoted(&value.text));
            }
        }
        line
    }

    /// Argument `at`, counted from 0.
    pub fn argument(&self, at: usize) -> Option<&str> {
        self.arguments.get(at).map(|part| part.text.as_str())
    }
}

/// Why a command line was not understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct CommandError {
    /// What is wrong, in plain words, with the way out.
    pub message: String,
    /// Where, in bytes from the line's start.
    pub span: Range<usize>,
    /// What could stand there instead, best first.
    pub nearest: Vec<String>,
}

/// The parts of a line: blanks divide, quotes hold together.
pub fn parts(line: &str) -> Vec<Part> {
    let mut list = Vec::new();
    let mut characters = line.char_indices().peekable();
    while let Some(&(start, first)) = characters.peek() {
        if first.is_whitespace() {
            characters.next();
            continue;
        }
        let mut text = String::new();
        let mut quote: Option<char> = None;
        let mut end = line.len();
        while let Some(&(at, character)) = characters.peek() {
            match quote {
                Some(open) if character == open => quote = None,
                Some(_) => text.push(character),
                None if character.is_whitespace() => {
                    end = at;
                    break;
                }
                None if character == '"' || character == '\'' => quote = Some(character),
                None => text.push(character),
            }
            characters.next();
        }
        list.push(Part {
            text,
            span: start..end,
        });
    }
    list
}

/// A text as one part of a line.
pub fn quoted(text: &str) -> String {
    let is_plain = !text.is_empty()
        && !text.starts_with("--")
        && !text.ends_with(';')
        && !text.contains(|c: char| c.is_whitespace() || c == '"' || c == '\'');
    if is_plain {
        return text.to_string();
    }
    // What one kind of quotes cannot hold stands in the other.
    let pieces = text.split_inclusive('"');
    let quote = |piece: &str| match piece.strip_suffix('"') {
        Some("") => "'\"'".to_string(),
        Some(rest) => format!("\"{rest}\"'\"'"),
        None => format!("\"{piece}\""),
    };
    match (text.is_empty(), text.contains('\'')) {
        (true, _) => "\"\"".into(),
        (_, false) if text.contains('"') => format!("'{text}'"),
        _ => pieces.map(quote).collect(),
    }
}

/// The command of this name.
pub fn find(name: &str) -> Option<&'static Command> {
    COMMANDS.iter().find(|command| command.name == name)
}

/// Understands a command line that begins with `/`.
///
/// # Errors
/// A [`CommandError`] with the place and what could stand there.
pub fn parse(line: &str) -> Result<Parsed, CommandError> {
    let line = line.trim_end();
    let line = line.strip_suffix(';').unwrap_or(line);
    let all = parts(line);
    let Some(head) = all.first() else {
        return Err(error(
            "There is no command here.",
            0..line.len(),
            Vec::new(),
        ));
    };
    let name = head.text.trim_start_matches('/').to_ascii_lowercase();
    let Some(command) = find(&name) else {
        return Err(unknown(&name, head));
    };
    let rest_at = head.span.end;
    let rest = line[rest_at..].trim().to_string();
    let rest_at = rest_at + (line[rest_at..].len() - line[rest_at..].trim_start().len());
    let mut parsed = Parsed {
        command,
        arguments: Vec::new(),
        options: Vec::new(),
        rest,
        rest_at,
    };
    if command.arguments.first() == Some(&Argument::Rest) {
        return Ok(parsed);
    }
    let mut rest = all[1..].iter();
    while let Some(part) = rest.next() {
        let raw = &line[part.span.clone()];
        let Some(option) = raw.strip_prefix("--") else {
            parsed.arguments.push(part.clone());
            continue;
        };
        let (option, given) = match option.split_once('=') {
            Some((option, value)) => (option, Some(value)),
            None => (option, None),
        };
        let (name, value) = option_of(command, option, given, part, &mut rest)?;
        parsed.options.push((name, value));
    }
    check_arguments(&parsed, line.len())?;
    Ok(parsed)
}

/// There is no command of a name.
fn unknown(name: &str, head: &Part) -> CommandError {
    let nearest: Vec<String> = crate::correct::nearest(name, COMMANDS.iter().map(|c| c.name), 3)
        .into_iter()
        .map(|name| format!("/{name}"))
        .collect();
    let message = if nearest.is_empty() {
        format!("There is no command /{name}. /help lists them all.")
    } else {
        format!("There is no command /{name}.")
    };
    error(&message, head.span.clone(), nearest)
}

/// An option and its value, which may be the next part.
fn option_of<'a>(
    command: &'static Command,
    option: &str,
    given: Option<&str>,
    part: &Part,
    rest: &mut impl Iterator<Item = &'a Part>,
) -> Result<(&'static str, Option<Part>), CommandError> {
    let Some(spec) = command.options.iter().find(|spec| spec.name == option) else {
        let known = command.options.iter().map(|spec| spec.name);
        let nearest: Vec<String> = crate::correct::nearest(option, known, 3)
            .into_iter()
            .map(|name| format!("--{name}"))
            .collect();
        let message = if command.options.is_empty() {
            format!("/{} has no options.", command.name)
        } else {
            let list: Vec<_> = command
                .options
                .iter()
                .map(|o| format!("--{}", o.name))
                .collect();
            format!(
                "/{} has no option --{option}. It knows {}.",
                command.name,
                list.join(", ")
            )
        };
        return Err(error(&message, part.span.clone(), nearest));
    };
    let value = match (spec.value, given) {
        (None, None) => None,
        (None, Some(_)) => {
            return Err(error(
                &format!("--{option} takes no value."),
                part.span.clone(),
                Vec::new(),
            ));
        }
        (Some(_), Some(value)) => Some(Part {
            text: value.trim_matches(['"', '\'']).to_string(),
            span: part.span.clone(),
        }),
        (Some(_), None) => match rest.next() {
            Some(value) => Some(value.clone()),
            None => {
                return Err(error(
                    &format!("--{option} needs a value."),
                    part.span.clone(),
                    Vec::new(),
                ));
            }
        },
    };
    match (spec.value, &value) {
        (Some(Argument::Words(words)), Some(value)) => one_of(words, value)?,
        (Some(Argument::Number), Some(value)) if value.text.parse::<u64>().is_err() => {
            let words = format!("--{option} needs a number, and {} is none.", value.text);
            return Err(error(&words, value.span.clone(), Vec::new()));
        }
        _ => {}
    }
    Ok((spec.name, value))
}

/// Whether a command has as many arguments as it takes, each of its kind; `end` is where the line ends.
fn check_arguments(parsed: &Parsed, end: usize) -> Result<(), CommandError> {
    let command = parsed.command;
    let given = parsed.arguments.len();
    let usage = format!("/{} {}", command.name, command.usage);
    let usage = usage.trim_end();
    if given < command.count.0 {
        return Err(error(
            &format!("Something is missing: {usage}"),
            end..end,
            Vec::new(),
        ));
    }
    if given > command.count.1 {
        let extra = parsed.arguments[command.count.1].span.clone();
        return Err(error(
            &format!("There is more here than it can use: {usage}"),
            extra,
            Vec::new(),
        ));
    }
    for (at, part) in parsed.arguments.iter().enumerate() {
        match command.arguments.get(at).or(command.arguments.last()) {
            Some(Argument::Words(words)) => one_of(words, part)?,
            Some(Argument::Number | Argument::Entry) if part.text.parse::<u64>().is_err() => {
                return Err(error(
                    &format!("{} is not a number: {usage}", part.text),
                    part.span.clone(),
                    Vec::new(),
                ));
            }
            _ => {}
        }
    }
    Ok(())
}

fn one_of(words: &[&str], part: &Part) -> Result<(), CommandError> {
    if words
        .iter()
        .any(|word| word.eq_ignore_ascii_case(&part.text))
    {
        return Ok(());
    }
    let nearest = crate::correct::nearest(&part.text, words.iter().copied(), 3);
    let message = format!("{} is not one of {}.", part.text, words.join(", "));
    Err(error(&message, part.span.clone(), nearest))
}

fn error(message: &str, span: Range<usize>, nearest: Vec<String>) -> CommandError {
    CommandError {
        message: message.to_string(),
        span,
        nearest,
    }
}

/// Whether `name` fits a pattern in which `*` stands for any text and `?` for one character, without
/// regard to case. A pattern without either fits names that contain it.
pub fn fits_pattern(pattern: &str, name: &str) -> bool {
    let pattern = pattern.to_lowercase();
    let name = name.to_lowercase();
    if !pattern.contains(['*', '?']) {
        return name.contains(&pattern);
    }
    let pattern: Vec<char> = pattern.chars().collect();
    let name: Vec<char> = name.chars().collect();
    // Where to go back to when a `*` has to take one character more.
    let (mut p, mut n) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while n < name.len() {
        if p < pattern.len() && (pattern[p] == '?' || pattern[p] == name[n]) && pattern[p] != '*' {
            p += 1;
            n += 1;
        } else if p < pattern.len() && pattern[p] == '*' {
            star = Some((p, n));
            p += 1;
        } else if let Some((at, from)) = star {
            star = Some((at, from + 1));
            p = at + 1;
            n = from + 1;
        } else {
            return false;
        }
    }
    pattern[p..].iter().all(|c| *c == '*')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_understood() {
        let parsed = parse("/export \"my file.csv\" --as tsv --no-header").expect("understood");
        assert_eq!(parsed.argument(0), Some("my file.csv"));
        assert_eq!(parsed.value("as"), Some("tsv"));
        assert!(parsed.has("no-header"));
        let parsed = parse("/filter draught_m > 2 and note like '%crane%'").expect("understood");
        assert_eq!(parsed.rest, "draught_m > 2 and note like '%crane%'");
        assert_eq!(parsed.rest_at, 8);
    }

    #[test]
    fn a_line_that_is_written_again_says_the_same() {
        for line in [
            "/load \"my file.csv\" --into t --separator ';' --null \"\" --no-header --type price=decimal(12,2)",
            r#"/load 'a"b.csv' --name "it's=x y" --leave-out '--odd'"#,
            r#"/load "it's a"'"'"b".csv --into 'a;'"#,
        ] {
            let first = parse(line).expect("understood");
            let again = parse(&first.written()).expect("understood again");
            let texts = |parsed: &Parsed| {
                let options = parsed.options.iter();
                let options = options.map(|(name, v)| (*name, v.as_ref().map(|v| v.text.clone())));
                let arguments = parsed.arguments.iter().map(|part| part.text.clone());
                (arguments.collect::<Vec<_>>(), options.collect::<Vec<_>>())
            };
            assert_eq!(texts(&first), texts(&again), "{}", first.written());
        }
    }

    #[test]
    fn mistakes_name_the_place_and_the_nearest() {
        let error = parse("/tabels").expect_err("no such command");
        assert_eq!((error.span, error.nearest[0].as_str()), (0..7, "/tables"));
        let error = parse("/writes noen").expect_err("no such word");
        assert_eq!((error.span, error.nearest[0].as_str()), (8..12, "none"));
        assert!(
            parse("/about")
                .expect_err("missing")
                .message
                .contains("/about NAME")
        );
        assert!(
            parse("/again x")
                .expect_err("number")
                .message
                .contains("not a number")
        );
        assert!(
            parse("/tables --ful")
                .expect_err("option")
                .nearest
                .contains(&"--full".into())
        );
    }

    #[test]
    fn patterns() {
        assert!(fits_pattern("vis", "Visits"));
        assert!(fits_pattern("v*s", "visits") && !fits_pattern("v*s", "visit"));
        assert!(fits_pattern("visit?", "visits") && !fits_pattern("visit?", "visit"));
        assert!(fits_pattern("*", "") && fits_pattern("*i*i*", "visits"));
    }

    #[test]
    fn the_table_is_in_order_and_complete() {
        assert!(COMMANDS.is_sorted_by_key(|command| command.name));
        assert!(
            COMMANDS
                .iter()
                .all(|c| !c.summary.is_empty() && c.count.0 <= c.count.1)
        );
    }
}
