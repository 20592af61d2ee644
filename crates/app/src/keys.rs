//! The one table of keys. Hints and the guide are made from it; what a key does is decided where it is
//! pressed.

/// Where a key acts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// Everywhere.
    Everywhere,
    /// While writing.
    Writing,
    /// While a list of completions is open.
    Completing,
    /// While reading rows.
    Rows,
    /// While reading a text.
    Text,
    /// On a drawing of links.
    Links,
    /// In the catalog.
    Catalog,
    /// In the catalog's list of actions.
    Actions,
    /// In the record.
    Record,
    /// In a document.
    Document,
    /// On the stages of a flow.
    Stages,
    /// In the entries.
    Entries,
    /// In the guide.
    Guide,
    /// In the sources.
    Sources,
    /// In the form of a source.
    Form,
    /// While something is asked.
    Question,
    /// While a secret is asked for.
    Hidden,
    /// While something runs.
    Running,
}

impl Place {
    /// All places, in the guide's order.
    pub const ALL: [Place; 18] = [
        Place::Everywhere,
        Place::Writing,
        Place::Completing,
        Place::Running,
        Place::Rows,
        Place::Text,
        Place::Record,
        Place::Document,
        Place::Stages,
        Place::Catalog,
        Place::Actions,
        Place::Links,
        Place::Entries,
        Place::Sources,
        Place::Form,
        Place::Guide,
        Place::Question,
        Place::Hidden,
    ];

    /// The guide's heading.
    pub fn title(self) -> &'static str {
        match self {
            Place::Everywhere => "Everywhere",
            Place::Writing => "While writing",
            Place::Completing => "While the list is open",
            Place::Rows => "While reading rows",
            Place::Text => "While reading a text",
            Place::Record => "In the record",
            Place::Document => "In a document",
            Place::Stages => "On the stages of a flow",
            Place::Links => "On a drawing of links",
            Place::Catalog => "In the catalog",
            Place::Actions => "In the catalog's list of actions",
            Place::Entries => "In the entries",
            Place::Guide => "In the guide",
            Place::Sources => "In the sources",
            Place::Form => "In the form of a source",
            Place::Question => "When something is asked",
            Place::Hidden => "When a secret or a value is asked for",
            Place::Running => "While something runs",
        }
    }
}

/// A key of the table.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Where it acts.
    pub place: Place,
    /// Its cap.
    pub cap: &'static str,
    /// What it does, in a word or two, for the hints.
    pub hint: &'static str,
    /// What it does, for the guide.
    pub summary: &'static str,
    /// The command that does the same, if there is one.
    pub command: &'static str,
    /// Whether the hints show it.
    pub hinted: bool,
}

const fn key(
    place: Place,
    cap: &'static str,
    hint: &'static str,
    hinted: bool,
    command: &'static str,
    summary: &'static str,
) -> Key {
    Key {
        place,
        cap,
        hint,
        summary,
        command,
        hinted,
    }
}

use Place as P;

/// All keys. Hints take them in this order as far as there is room.
#[rustfmt::skip]
pub static KEYS: &[Key] = &[
    key(P::Completing, "Tab", "takes it", true, "", "takes what is marked, or what all have in common"),
    key(P::Completing, "↑ ↓", "choose", true, "", "choose another"),
    key(P::Writing, "Tab", "completes", true, "", "opens the list of what could stand here"),
    key(P::Writing, ";", "then Enter runs", true, "", "ends a statement; Enter then runs it"),
    key(P::Writing, "Enter", "new line", false, "", "runs a finished statement or a command, else begins a new line"),
    key(P::Writing, "F5", "runs", true, "", "runs what is typed as it is"),
    key(P::Writing, "Esc", "reads", true, "", "goes to reading; closes what is open"),
    key(P::Writing, "↑", "earlier", false, "/entries", "in the first line: the earlier statement; in the last line ↓ goes back"),
    key(P::Writing, "Ctrl-R", "search", false, "/entries", "searches earlier statements"),
    key(P::Writing, "Ctrl-A E", "", false, "", "start and end of the line, also Home and End"),
    key(P::Writing, "Ctrl-B F", "", false, "", "a character back and on; with Alt a word"),
    key(P::Writing, "Ctrl-P N", "", false, "", "a line up and down"),
    key(P::Writing, "Ctrl-← →", "", false, "", "a word back and on; Ctrl-Home and Ctrl-End the whole text"),
    key(P::Writing, "Ctrl-K U", "", false, "", "cuts to the end, to the start of the line"),
    key(P::Writing, "Ctrl-W", "", false, "", "cuts the word before; Alt-D the word after"),
    key(P::Writing, "Ctrl-Y", "", false, "", "puts back what was cut"),
    key(P::Writing, "Ctrl-Z", "", false, "", "undoes, also Ctrl-_; Alt-Z does it again"),
    key(P::Writing, "Ctrl-X Ctrl-E", "", false, "/edit", "opens the text in your editor ($VISUAL or $EDITOR)"),
    key(P::Writing, "Ctrl-C", "", false, "", "clears the text; ↑ brings it back"),
    key(P::Writing, "Ctrl-D", "", false, "/quit", "on an empty line: leaves"),
    key(P::Rows, "↑ ↓ ← →", "cells", true, "", "move the current cell"),
    key(P::Rows, "Enter", "record", true, "/record", "the row, one field per line"),
    key(P::Rows, "O", "order", true, "/order", "orders by this column; again downwards; again as they came"),
    key(P::Rows, "G", "go to row", true, "", "goes to a row by its number"),
    key(P::Rows, "Ctrl-F", "find", true, "", "finds text in the shown columns; N the next, P the one before"),
    key(P::Rows, "X", "hide", true, "/columns --hide", "hides this column; U brings all back"),
    key(P::Rows, "F", "freeze", true, "", "keeps the first column while the others scroll"),
    key(P::Rows, "L", "follow", true, "/follow", "follows the link of this cell: to the row it refers to, or to those that refer to its row"),
    key(P::Rows, "Backspace", "back", false, "", "back to the entry from which a link was followed"),
    key(P::Rows, "[ ]", "move", false, "/columns", "moves this column left, right"),
    key(P::Rows, "PgUp PgDn", "", false, "", "a page up, down; Home and End the first and last row"),
    key(P::Rows, "Ctrl-← →", "", false, "", "the first and last column"),
    key(P::Text, "↑ ↓", "scroll", true, "", "scroll; PgUp, PgDn, Home and End too; ← → sideways"),
    key(P::Text, "Ctrl-F", "find", true, "", "finds a line that holds a text; N the next, P the one before"),
    key(P::Rows, ", .", "entries", false, "", "the entry before, after; also Ctrl-PgUp and Ctrl-PgDn, which work while writing too"),
    key(P::Text, ", .", "entries", true, "", "the entry before, after"),
    key(P::Rows, "A", "again", false, "/again", "runs this entry once more"),
    key(P::Rows, "E", "edit", false, "/recall", "brings its statement into the composer"),
    key(P::Rows, "R", "", false, "/reopen", "connects anew, when the connection was lost or another user is wanted back"),
    key(P::Text, "R", "reopens", false, "/reopen", "connects anew"),
    key(P::Text, "A", "", false, "/again", "runs this entry once more"),
    key(P::Text, "E", "", false, "/recall", "brings its statement into the composer"),
    key(P::Rows, "Esc", "writes", true, "", "goes back to writing; / does too and begins a command"),
    key(P::Text, "Esc", "writes", true, "", "goes back to writing"),
    key(P::Record, "↑ ↓", "rows", true, "", "the row before, after"),
    key(P::Record, "PgUp PgDn", "fields", true, "", "scroll the fields"),
    key(P::Record, "Esc", "closes", true, "", "back to the rows"),
    key(P::Document, "↑ ↓", "lines", true, "", "the line before, after"),
    key(P::Document, "← →", "closes, opens", true, "", "closes or opens what the line holds; ← goes to what holds the line, → into it"),
    key(P::Document, "PgUp PgDn", "documents", true, "", "the document before, after"),
    key(P::Document, "T", "text or outline", true, "/text", "the document as text, or as an outline"),
    key(P::Document, "Esc", "back", true, "", "back to the rows"),
    key(P::Stages, "↑ ↓", "stage", true, "", "the stage before, after"),
    key(P::Stages, "Space", "leaves the stage out", true, "", "leaves the stage out, or puts it back, and counts again"),
    key(P::Stages, "Enter", "its documents as a result", true, "", "runs the flow up to this stage"),
    key(P::Stages, "C", "compiled form", true, "", "the stage as a server gets it, or samples again"),
    key(P::Stages, "Esc", "writes", true, "", "back to writing"),
    key(P::Catalog, "← →", "columns", true, "", "the column before; what is marked opens to the right"),
    key(P::Catalog, "↑ ↓", "choose", false, "", "choose; PgUp, PgDn, Home and End too"),
    key(P::Catalog, "type", "narrows", true, "", "narrows the column you are in, by letters in their order; Backspace and Ctrl-U widen it"),
    key(P::Catalog, "Enter", "its name", true, "", "puts the name into the statement, quoted and with its schema where that is needed; goes to another database"),
    key(P::Catalog, "Space", "actions", true, "", "sample, figures, links, definition, in full"),
    key(P::Catalog, "F6", "links", true, "/links", "draws what is around the marked table"),
    key(P::Catalog, "F5", "reads again", false, "", "reads the catalog again, for what others changed"),
    key(P::Catalog, "Esc", "back", true, "", "clears what narrows; then back"),
    key(P::Actions, "↑ ↓", "choose", true, "", "choose what to do with the marked object"),
    key(P::Actions, "Enter", "does it", true, "", "does it"),
    key(P::Actions, "Esc", "back", true, "", "back to the columns"),
    key(P::Links, "↑ ↓ ← →", "go", true, "", "go from table to table, or collection to collection"),
    key(P::Links, "Space", "choose for a way", true, "/route", "chooses the table for a way; with two or more the way is shown"),
    key(P::Links, "N", "next way", true, "", "the next-shortest way"),
    key(P::Links, "J", "its join", true, "/route", "puts the join of the way into the statement"),
    key(P::Links, "Enter", "only around it", true, "/links", "draws only what is around the table"),
    key(P::Links, "+ -", "further, nearer", false, "/links --distance", "draws one link further, or nearer"),
    key(P::Links, "W", "whole", true, "/links", "draws everything again"),
    key(P::Links, "G", "guesses", true, "/links --declared", "shows or hides guessed links"),
    key(P::Links, "C", "check guesses", false, "/links --check", "asks the data how many values of the guessed links match"),
    key(P::Links, "I", "in full", true, "/about", "the table in full"),
    key(P::Links, "S", "sample", false, "/sample", "a few rows of the table"),
    key(P::Links, "PgUp PgDn", "", false, "", "scroll up and down; Ctrl-arrows scroll every way"),
    key(P::Links, "Esc", "writes", true, "", "goes back to writing"),
    key(P::Entries, "type", "searches", true, "", "narrows the list"),
    key(P::Entries, "↑ ↓", "choose", true, "", "choose an entry or a statement"),
    key(P::Entries, "Enter", "opens", true, "", "shows the entry; an earlier statement goes into the composer"),
    key(P::Entries, "Tab", "into the composer", true, "/recall", "brings the statement into the composer"),
    key(P::Entries, "F5", "runs again", true, "/again", "runs it once more"),
    key(P::Entries, "Esc", "closes", true, "", "back"),
    key(P::Sources, "↑ ↓", "choose", true, "", "choose a source"),
    key(P::Sources, "Enter", "opens", true, "/open", "goes to an open session; opens a saved source or what was found"),
    key(P::Sources, "N", "new", true, "", "saves a new source"),
    key(P::Sources, "E", "change", true, "", "changes a saved source; saves one that was found"),
    key(P::Sources, "T", "test", true, "", "logs in to a saved source and leaves again"),
    key(P::Sources, "X", "remove", true, "/close", "removes a saved source, after asking; closes an open session"),
    key(P::Sources, "L", "look again", true, "", "looks again for servers on this machine, and which sources answer"),
    key(P::Sources, "Esc", "closes", true, "", "back"),
    key(P::Form, "↑ ↓", "fields", true, "", "the field before, after; Tab too"),
    key(P::Form, "← →", "another", true, "", "another word, where a field has only some"),
    key(P::Form, "Enter", "saves", true, "", "saves the source"),
    key(P::Form, "Esc", "leaves it", true, "", "leaves everything as it was"),
    key(P::Hidden, "Enter", "gives it", true, "", "gives what was typed; a secret shows nowhere"),
    key(P::Hidden, "Ctrl-U", "clears", true, "", "begins anew"),
    key(P::Hidden, "Esc", "leaves it", true, "", "goes no further"),
    key(P::Guide, "↑ ↓", "topics", true, "", "choose a topic"),
    key(P::Guide, "PgUp PgDn", "scroll", true, "", "scroll the text"),
    key(P::Guide, "type", "searches", true, "", "finds lines of every topic"),
    key(P::Guide, "Esc", "closes", true, "", "back"),
    key(P::Question, "Y", "yes", true, "", "does it"),
    key(P::Question, "N", "no", true, "", "leaves everything as it is; Esc too"),
    key(P::Running, "Ctrl-C", "stops", true, "", "stops what runs; rows so far are kept"),
    key(P::Everywhere, "F1", "guide", true, "/help", "the guide, open where you are"),
    key(P::Everywhere, "F2", "catalog", true, "/catalog", "everything that is here, in columns"),
    key(P::Everywhere, "F6", "links", false, "/links", "how the tables hang together, drawn"),
    key(P::Everywhere, "F3", "entries", true, "/entries", "all entries, and statements of earlier sessions"),
    key(P::Everywhere, "F4", "record", false, "/record", "the current row, one field per line"),
    key(P::Everywhere, "F7", "stages", false, "/stages", "the flow that is written, or that of the entry, stage by stage"),
    key(P::Everywhere, "F9", "sources", true, "/sources", "open sessions, saved sources, servers on this machine"),
    key(P::Everywhere, "Ctrl-L", "", false, "", "draws the screen anew"),
];

/// The keys of a place.
pub fn of(place: Place) -> impl Iterator<Item = &'static Key> {
    KEYS.iter().filter(move |key| key.place == place)
}
