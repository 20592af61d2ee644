//! The one table of keys, and the keys of one's own that take the places of the usual ones. Hints and the guide are
//! made from both; what a key does is decided where it is pressed, by its usual one.

use std::collections::BTreeMap;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

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
    /// While reading in a session that holds a change.
    Held,
    /// While reading what is proposed for a file.
    Proposal,
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
    /// On a picture of a result.
    Chart,
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

/// What is said of a place.
#[derive(Debug)]
pub struct PlaceRow {
    /// The place.
    place: Place,
    /// Its word in the names of keys.
    word: &'static str,
    /// Whether letters are typed there, so that none of them can be a key.
    letters: bool,
    /// The topic of the guide that tells its keys, besides that of all keys.
    topic: &'static str,
    /// The guide's heading.
    title: &'static str,
}

const fn place(
    place: Place,
    word: &'static str,
    letters: bool,
    topic: &'static str,
    title: &'static str,
) -> PlaceRow {
    PlaceRow {
        place,
        word,
        letters,
        topic,
        title,
    }
}

/// All places, in the guide's order.
#[rustfmt::skip]
static PLACES: &[PlaceRow] = &[
    place(Place::Everywhere, "everywhere", true, "", "Everywhere"),
    place(Place::Writing, "writing", true, "write", "While writing"),
    place(Place::Completing, "list", true, "write", "While the list is open"),
    place(Place::Running, "running", false, "", "While something runs"),
    place(Place::Held, "held", false, "change", "While a change is held"),
    place(Place::Proposal, "proposal", false, "change", "On what is proposed for a file"),
    place(Place::Rows, "rows", false, "read", "While reading rows"),
    place(Place::Text, "text", false, "read", "While reading a text"),
    place(Place::Record, "record", false, "read", "In the record"),
    place(Place::Document, "document", false, "documents", "In a document"),
    place(Place::Chart, "chart", false, "pictures", "On a picture"),
    place(Place::Stages, "stages", false, "documents", "On the stages of a flow"),
    place(Place::Catalog, "catalog", true, "look around", "In the catalog"),
    place(Place::Actions, "actions", false, "look around", "In the catalog's list of actions"),
    place(Place::Links, "links", false, "links", "On a drawing of links"),
    place(Place::Entries, "entries", true, "entries", "In the entries"),
    place(Place::Sources, "sources", false, "arrive", "In the sources"),
    place(Place::Form, "form", true, "arrive", "In the form of a source"),
    place(Place::Guide, "guide", true, "", "In the guide"),
    place(Place::Question, "question", false, "", "When something is asked"),
    place(Place::Hidden, "hidden", true, "arrive", "When a secret or a value is asked for"),
];

impl Place {
    /// All places, in the guide's order.
    pub fn all() -> impl Iterator<Item = Place> {
        PLACES.iter().map(|row| row.place)
    }

    /// The places whose keys a topic of the guide tells.
    pub fn of_topic(topic: &str) -> impl Iterator<Item = Place> {
        let rows = PLACES
            .iter()
            .filter(move |row| topic == "keys" || row.topic == topic);
        rows.map(|row| row.place)
    }

    fn row(self) -> &'static PlaceRow {
        let row = PLACES.iter().find(|row| row.place == self);
        row.unwrap_or(&PLACES[0])
    }

    /// The topic of the guide that tells its keys, if one does.
    pub fn topic(self) -> &'static str {
        self.row().topic
    }

    /// Its word in the names of keys.
    pub fn word(self) -> &'static str {
        self.row().word
    }

    /// Whether letters are typed there, so that none of them can be a key.
    fn takes_letters(self) -> bool {
        self.row().letters
    }

    /// The guide's heading.
    pub fn title(self) -> &'static str {
        self.row().title
    }
}

/// A key of the table.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Where it acts.
    pub place: Place,
    /// Its name within its place; with the place's it is the name that the settings know it by.
    pub name: &'static str,
    /// Its usual cap: a key, or several apart by blanks.
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
    name: &'static str,
    cap: &'static str,
    hint: &'static str,
    hinted: bool,
    command: &'static str,
    summary: &'static str,
) -> Key {
    Key {
        place,
        name,
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
    key(P::Completing, "take", "Tab", "takes it", true, "", "takes what is marked, or what all have in common"),
    key(P::Completing, "choose", "↑ ↓", "choose", true, "", "choose another"),
    key(P::Writing, "complete", "Tab", "completes", true, "", "opens the list of what could stand here"),
    key(P::Writing, "end", ";", "then Enter runs", true, "", "ends a statement; Enter then runs it"),
    key(P::Writing, "enter", "Enter", "new line", false, "", "runs a finished statement or a command, else begins a new line"),
    key(P::Writing, "run", "F5", "runs", true, "", "runs what is typed as it is"),
    key(P::Writing, "read", "Esc", "reads", true, "", "goes to reading; closes what is open"),
    key(P::Writing, "earlier", "↑", "earlier", false, "/entries", "in the first line: the earlier statement; in the last line ↓ goes back"),
    key(P::Writing, "search", "Ctrl-R", "search", false, "/entries", "searches earlier statements"),
    key(P::Writing, "line-ends", "Ctrl-A E", "", false, "", "start and end of the line, also Home and End"),
    key(P::Writing, "characters", "Ctrl-B F", "", false, "", "a character back and on; with Alt a word"),
    key(P::Writing, "lines", "Ctrl-P N", "", false, "", "a line up and down"),
    key(P::Writing, "words", "Ctrl-← →", "", false, "", "a word back and on; Ctrl-Home and Ctrl-End the whole text"),
    key(P::Writing, "cut-line", "Ctrl-K U", "", false, "", "cuts to the end, to the start of the line"),
    key(P::Writing, "cut-word", "Ctrl-W", "", false, "", "cuts the word before; Alt-D the word after"),
    key(P::Writing, "put-back", "Ctrl-Y", "", false, "", "puts back what was cut"),
    key(P::Writing, "undo", "Ctrl-Z", "", false, "", "undoes, also Ctrl-_; Alt-Z does it again"),
    key(P::Writing, "editor", "Ctrl-X Ctrl-E", "", false, "/edit", "opens the text in your editor ($VISUAL or $EDITOR)"),
    key(P::Writing, "clear", "Ctrl-C", "", false, "", "clears the text; ↑ brings it back"),
    key(P::Writing, "leave", "Ctrl-D", "", false, "/quit", "on an empty line: leaves"),
    key(P::Held, "keep", "K", "keeps the change", true, "/keep", "keeps the change that is held; everybody sees it then"),
    key(P::Held, "take-back", "T", "takes it back", true, "/take-back", "takes the change back; everything is as it was before"),
    key(P::Proposal, "load", "F5", "loads it", true, "/load --go", "loads the file as it is proposed here; rows that do not fit stay out and are written beside"),
    key(P::Proposal, "change", "Enter", "changes this", true, "/load --type", "changes the cell: leaves the column out or takes it in again, makes it part of the key or not; a name, a type, how values are written and what stands for null are completed in the composer"),
    key(P::Proposal, "separator", "S", "separator", true, "/load --separator", "what stands between the values of the file: completed in the composer"),
    key(P::Proposal, "header", "H", "names", true, "/load --header", "takes the first line for names, or for values"),
    key(P::Proposal, "quotes", "Q", "quotes", true, "/load --no-quotes", "takes quotes for what holds values together, or for signs like any others"),
    key(P::Proposal, "encoding", "Y", "encoding", true, "/load --encoding", "what the file is written in: completed in the composer"),
    key(P::Rows, "cells", "↑ ↓ ← →", "cells", true, "", "move the current cell"),
    key(P::Rows, "record", "Enter", "record", true, "/record", "the row, one field per line"),
    key(P::Rows, "order", "O", "order", true, "/order", "orders by this column; again downwards; again as they came"),
    key(P::Rows, "go-to", "G", "go to row", true, "", "goes to a row by its number"),
    key(P::Rows, "find", "Ctrl-F", "find", true, "", "finds text in the shown columns; N the next, P the one before"),
    key(P::Rows, "hide", "X", "hide", true, "/columns --hide", "hides this column; U brings all back"),
    key(P::Rows, "freeze", "F", "freeze", false, "", "keeps the first column while the others scroll"),
    key(P::Rows, "follow", "L", "follow", true, "/follow", "follows the link of this cell: to the row it refers to, or to those that refer to its row"),
    key(P::Rows, "copy", "C", "copies", true, "/clipboard", "copies this value, or the rows that are marked, to the clipboard"),
    key(P::Rows, "mark", "Space", "", false, "", "marks this row, or takes its mark away, and goes to the next"),
    key(P::Rows, "mark-to", "M", "", false, "", "marks all rows from the one marked last to this one"),
    key(P::Rows, "differs", "D", "what differs", false, "/compare", "what differs from an earlier result of the same statement, or from the one before"),
    key(P::Rows, "column-picture", "I", "picture of the column", false, "/chart --of", "a picture of this column: how its values are spread, or how often each is there"),
    key(P::Rows, "beside", "B", "figures beside", false, "", "shows how the values of this column are spread beside the rows, where there is room, or no more"),
    key(P::Rows, "live", "W", "live", false, "/live", "reads the result again every 2 s, and ends that"),
    key(P::Rows, "step-back", "Backspace", "back", false, "", "back to the entry from which a link was followed"),
    key(P::Rows, "move", "[ ]", "move", false, "/columns", "moves this column left, right"),
    key(P::Rows, "pages", "PgUp PgDn", "", false, "", "a page up, down; Home and End the first and last row"),
    key(P::Rows, "edges", "Ctrl-← →", "", false, "", "the first and last column"),
    key(P::Text, "scroll", "↑ ↓", "scroll", true, "", "scroll; PgUp, PgDn, Home and End too; ← → sideways"),
    key(P::Text, "find", "Ctrl-F", "find", true, "", "finds a line that holds a text; N the next, P the one before"),
    key(P::Rows, "entries", ", .", "entries", false, "", "the entry before, after; also Ctrl-PgUp and Ctrl-PgDn, which work while writing too"),
    key(P::Text, "entries", ", .", "entries", true, "", "the entry before, after"),
    key(P::Rows, "again", "A", "again", false, "/again", "runs this entry once more"),
    key(P::Rows, "edit", "E", "edit", false, "/recall", "brings its statement into the composer"),
    key(P::Rows, "reopen", "R", "", false, "/reopen", "connects anew, when the connection was lost or another user is wanted back"),
    key(P::Text, "reopen", "R", "reopens", false, "/reopen", "connects anew"),
    key(P::Text, "again", "A", "", false, "/again", "runs this entry once more"),
    key(P::Text, "copy", "C", "copies", false, "/clipboard result", "copies the text to the clipboard"),
    key(P::Text, "edit", "E", "", false, "/recall", "brings its statement into the composer"),
    key(P::Rows, "write", "Esc", "writes", true, "", "goes back to writing; / does too and begins a command"),
    key(P::Text, "write", "Esc", "writes", true, "", "goes back to writing"),
    key(P::Record, "rows", "↑ ↓", "rows", true, "", "the row before, after"),
    key(P::Record, "field", "← →", "field", true, "", "the field before, after"),
    key(P::Record, "copy", "C", "copies", true, "/clipboard", "copies the value of the field to the clipboard"),
    key(P::Record, "fields", "PgUp PgDn", "scrolls", true, "", "scroll the fields"),
    key(P::Record, "close", "Esc", "closes", true, "", "back to the rows"),
    key(P::Document, "lines", "↑ ↓", "lines", true, "", "the line before, after"),
    key(P::Document, "fold", "← →", "closes, opens", true, "", "closes or opens what the line holds; ← goes to what holds the line, → into it"),
    key(P::Document, "copy", "C", "copies", true, "", "copies what the line holds to the clipboard; of the text the whole document"),
    key(P::Document, "documents", "PgUp PgDn", "documents", true, "", "the document before, after"),
    key(P::Document, "text", "T", "text or outline", true, "/text", "the document as text, or as an outline"),
    key(P::Document, "close", "Esc", "back", true, "", "back to the rows"),
    key(P::Chart, "marks", "↑ ↓ ← →", "marks", true, "", "go from mark to mark; what each is worth stands below"),
    key(P::Chart, "rows", "Enter", "its rows", true, "", "shows the rows behind the mark"),
    key(P::Chart, "kind", "K", "kind", true, "/chart", "the next kind of picture that these columns can be"),
    key(P::Chart, "value", "V", "value", true, "/chart --y", "the next number that is drawn, or how many rows there are"),
    key(P::Chart, "along", "X", "along", true, "/chart --x", "the next column along"),
    key(P::Chart, "split", "B", "split by", true, "/chart --by", "the next category whose values become series, or none"),
    key(P::Chart, "panels", "P", "panels", true, "/chart --panels", "the next category whose values become pictures side by side, or none"),
    key(P::Chart, "how", "H", "sum, mean, count", true, "/chart --how", "what is made of several values on one mark"),
    key(P::Chart, "stacked", "S", "stack", false, "/chart --stacked", "series on each other, or beside each other"),
    key(P::Chart, "ordered", "O", "order", false, "/chart --ordered", "from the largest to the smallest, or as they come"),
    key(P::Chart, "log", "G", "logarithmic", false, "/chart --log", "a logarithmic scale, or a linear one"),
    key(P::Chart, "write", "Esc", "writes", true, "", "back to writing"),
    key(P::Stages, "stages", "↑ ↓", "stage", true, "", "the stage before, after"),
    key(P::Stages, "leave-out", "Space", "leaves the stage out", true, "", "leaves the stage out, or puts it back, and counts again"),
    key(P::Stages, "result", "Enter", "its documents as a result", true, "", "runs the flow up to this stage"),
    key(P::Stages, "compiled", "C", "compiled form", true, "", "the stage as a server gets it, or samples again"),
    key(P::Stages, "write", "Esc", "writes", true, "", "back to writing"),
    key(P::Catalog, "columns", "← →", "columns", true, "", "the column before; what is marked opens to the right"),
    key(P::Catalog, "choose", "↑ ↓", "choose", false, "", "choose; PgUp, PgDn, Home and End too"),
    key(P::Catalog, "narrow", "type", "narrows", true, "", "narrows the column you are in, by letters in their order; Backspace and Ctrl-U widen it"),
    key(P::Catalog, "take", "Enter", "its name", true, "", "puts the name into the statement, quoted and with its schema where that is needed; goes to another database"),
    key(P::Catalog, "actions", "Space", "actions", true, "", "what can be done with what is marked: sample, figures, links, definition, in full, copy"),
    key(P::Catalog, "links", "F6", "links", true, "/links", "draws what is around the marked table"),
    key(P::Catalog, "refresh", "F5", "reads again", false, "", "reads the catalog again, for what others changed"),
    key(P::Catalog, "close", "Esc", "back", true, "", "clears what narrows; then back"),
    key(P::Actions, "choose", "↑ ↓", "choose", true, "", "choose what to do with the marked object"),
    key(P::Actions, "do", "Enter", "does it", true, "", "does it"),
    key(P::Actions, "close", "Esc", "back", true, "", "back to the columns"),
    key(P::Links, "go", "↑ ↓ ← →", "go", true, "", "go from table to table, or collection to collection"),
    key(P::Links, "choose", "Space", "choose for a way", true, "/route", "chooses the table for a way; with two or more the way is shown"),
    key(P::Links, "next-way", "N", "next way", true, "", "the next-shortest way"),
    key(P::Links, "join", "J", "its join", true, "/route", "puts the join of the way into the statement"),
    key(P::Links, "around", "Enter", "only around it", true, "/links", "draws only what is around the table"),
    key(P::Links, "distance", "+ -", "further, nearer", false, "/links --distance", "draws one link further, or nearer"),
    key(P::Links, "whole", "W", "whole", true, "/links", "draws everything again"),
    key(P::Links, "guesses", "G", "guesses", true, "/links --declared", "shows or hides guessed links"),
    key(P::Links, "check", "C", "check guesses", false, "/links --check", "asks the data how many values of the guessed links match"),
    key(P::Links, "about", "I", "in full", true, "/about", "the table in full"),
    key(P::Links, "sample", "S", "sample", false, "/sample", "a few rows of the table"),
    key(P::Links, "pages", "PgUp PgDn", "", false, "", "scroll up and down; Ctrl-arrows scroll every way"),
    key(P::Links, "write", "Esc", "writes", true, "", "goes back to writing"),
    key(P::Entries, "narrow", "type", "searches", true, "", "narrows the list"),
    key(P::Entries, "choose", "↑ ↓", "choose", true, "", "choose an entry or a statement"),
    key(P::Entries, "open", "Enter", "opens", true, "", "shows the entry; an earlier statement goes into the composer"),
    key(P::Entries, "recall", "Tab", "into the composer", true, "/recall", "brings the statement into the composer"),
    key(P::Entries, "again", "F5", "runs again", true, "/again", "runs it once more"),
    key(P::Entries, "close", "Esc", "closes", true, "", "back"),
    key(P::Sources, "choose", "↑ ↓", "choose", true, "", "choose a source"),
    key(P::Sources, "open", "Enter", "opens", true, "/open", "goes to an open session; opens a saved source or what was found"),
    key(P::Sources, "new", "N", "new", true, "", "saves a new source"),
    key(P::Sources, "change", "E", "change", true, "", "changes a saved source; saves one that was found"),
    key(P::Sources, "test", "T", "test", true, "", "logs in to a saved source and leaves again"),
    key(P::Sources, "remove", "X", "remove", true, "/close", "removes a saved source, after asking; closes an open session"),
    key(P::Sources, "practice", "P", "practice server", true, "/practice", "starts the practice server, a stand-in document server with the harbour's documents; stops it where it runs"),
    key(P::Sources, "look", "L", "look again", true, "", "looks again for servers on this machine, and which sources answer"),
    key(P::Sources, "close", "Esc", "closes", true, "", "back"),
    key(P::Form, "fields", "↑ ↓", "fields", true, "", "the field before, after; Tab too"),
    key(P::Form, "words", "← →", "another", true, "", "another word, where a field has only some"),
    key(P::Form, "save", "Enter", "saves", true, "", "saves the source"),
    key(P::Form, "leave", "Esc", "leaves it", true, "", "leaves everything as it was"),
    key(P::Hidden, "give", "Enter", "gives it", true, "", "gives what was typed; a secret shows nowhere"),
    key(P::Hidden, "clear", "Ctrl-U", "clears", true, "", "begins anew"),
    key(P::Hidden, "leave", "Esc", "leaves it", true, "", "goes no further"),
    key(P::Guide, "topics", "↑ ↓", "topics", true, "", "choose a topic"),
    key(P::Guide, "scroll", "PgUp PgDn", "scroll", true, "", "scroll the text"),
    key(P::Guide, "narrow", "type", "searches", true, "", "finds lines of every topic"),
    key(P::Guide, "close", "Esc", "closes", true, "", "back"),
    key(P::Question, "yes", "Y", "yes", true, "", "does it"),
    key(P::Question, "no", "N", "no", true, "", "leaves everything as it is; Esc too"),
    key(P::Running, "stop", "Ctrl-C", "stops", true, "", "stops what runs; rows so far are kept"),
    key(P::Everywhere, "guide", "F1", "guide", true, "/help", "the guide, open where you are"),
    key(P::Everywhere, "catalog", "F2", "catalog", true, "/catalog", "everything that is here, in columns"),
    key(P::Everywhere, "links", "F6", "links", false, "/links", "how the tables hang together, drawn"),
    key(P::Everywhere, "entries", "F3", "entries", true, "/entries", "all entries, and statements of earlier sessions"),
    key(P::Everywhere, "record", "F4", "record", false, "/record", "the current row, one field per line"),
    key(P::Everywhere, "stages", "F7", "stages", false, "/stages", "the flow that is written, or that of the entry, stage by stage"),
    key(P::Everywhere, "chart", "F8", "chart", false, "/chart", "a picture of the current result, and back to its rows"),
    key(P::Everywhere, "sources", "F9", "sources", true, "/sources", "open sessions, saved sources, servers on this machine"),
    key(P::Everywhere, "redraw", "Ctrl-L", "", false, "", "draws the screen anew"),
];

/// The keys of a place.
pub fn of(place: Place) -> impl Iterator<Item = &'static Key> {
    KEYS.iter().filter(move |key| key.place == place)
}

impl Key {
    /// The name that the settings know it by, `rows-order`.
    pub fn full_name(&self) -> String {
        format!("{}-{}", self.place.word(), self.name)
    }

    /// Whether it can be another key: not where it stands for letters, or for keys one after the other.
    fn can_change(&self) -> bool {
        self.cap != "type" && self.cap != "Ctrl-X Ctrl-E"
    }
}

/// The keys of a cap, in their order: `Ctrl-A E` are two. Nothing if it names none.
pub fn presses(cap: &str) -> Option<Vec<KeyEvent>> {
    let mut modifiers = KeyModifiers::NONE;
    let mut list = Vec::new();
    for word in cap.split(' ').filter(|word| !word.is_empty()) {
        let mut name = word;
        // What is held goes on for the keys behind it.
        for (held, modifier) in [
            ("Ctrl-", KeyModifiers::CONTROL),
            ("Alt-", KeyModifiers::ALT),
        ] {
            if let Some(rest) = name.strip_prefix(held) {
                (name, modifiers) = (rest, modifier);
            }
        }
        list.push(KeyEvent::new(code(name)?, modifiers));
    }
    (!list.is_empty()).then_some(list)
}

fn code(name: &str) -> Option<KeyCode> {
    Some(match name {
        "Tab" => KeyCode::Tab,
        "Enter" => KeyCode::Enter,
        "Esc" => KeyCode::Esc,
        "Space" => KeyCode::Char(' '),
        "Backspace" => KeyCode::Backspace,
        "Delete" => KeyCode::Delete,
        "Insert" => KeyCode::Insert,
        "Home" => KeyCode::Home,
        "End" => KeyCode::End,
        "↑" | "Up" => KeyCode::Up,
        "↓" | "Down" => KeyCode::Down,
        "←" | "Left" => KeyCode::Left,
        "→" | "Right" => KeyCode::Right,
        "PgUp" => KeyCode::PageUp,
        "PgDn" => KeyCode::PageDown,
        name => match name
            .strip_prefix('F')
            .and_then(|number| number.parse().ok())
        {
            Some(number @ 1..=24) => KeyCode::F(number),
            _ => {
                let mut letters = name.chars();
                match (letters.next(), letters.next()) {
                    (Some(letter), None) => KeyCode::Char(letter.to_ascii_lowercase()),
                    _ => return None,
                }
            }
        },
    })
}

fn plain(event: KeyEvent) -> (KeyCode, KeyModifiers) {
    let code = match event.code {
        KeyCode::Char(letter) => KeyCode::Char(letter.to_ascii_lowercase()),
        code => code,
    };
    (
        code,
        event.modifiers & (KeyModifiers::CONTROL | KeyModifiers::ALT),
    )
}

/// A key that was changed.
struct Changed {
    key: &'static Key,
    cap: String,
    /// What is pressed, and the usual key that it stands for.
    pairs: Vec<(KeyEvent, KeyEvent)>,
}

/// Keys of one's own.
#[derive(Default)]
pub struct Keymap {
    changed: Vec<Changed>,
}

impl Keymap {
    /// Reads the keys of the settings, by the names of their rows; what cannot be is said in whole sentences, and
    /// its row keeps its usual key.
    pub fn read(settings: &BTreeMap<String, String>) -> (Self, Vec<String>) {
        let mut map = Keymap::default();
        let mut troubles = Vec::new();
        for (name, cap) in settings {
            match changed(name, cap).and_then(|changed| map.free(changed)) {
                Ok(changed) => map.changed.push(changed),
                Err(words) => troubles.push(words),
            }
        }
        (map, troubles)
    }

    /// The change, if nothing else in the same place has its keys.
    fn free(&self, new: Changed) -> Result<Changed, String> {
        let meets = |other: &Key| {
            other.place == new.key.place
                || other.place == Place::Everywhere
                || new.key.place == Place::Everywhere
        };
        for other in KEYS
            .iter()
            .filter(|other| other.full_name() != new.key.full_name() && meets(other))
        {
            let theirs = presses(self.cap(other)).unwrap_or_default();
            let clash = new
                .pairs
                .iter()
                .find(|(pressed, _)| theirs.iter().any(|key| plain(*key) == plain(*pressed)));
            if clash.is_some() {
                return Err(format!(
                    "The key {} of {} is that of {} already ({}); {} stays {}.",
                    new.cap,
                    new.key.full_name(),
                    other.full_name(),
                    other.summary,
                    new.key.full_name(),
                    new.key.cap
                ));
            }
        }
        Ok(new)
    }

    /// The cap of a key as it is now.
    pub fn cap<'a>(&'a self, key: &'a Key) -> &'a str {
        let found = self
            .changed
            .iter()
            .find(|changed| changed.key.full_name() == key.full_name());
        found.map_or(key.cap, |changed| &changed.cap)
    }

    /// The usual key that a pressed one stands for in these places; nothing for a usual one whose row has another.
    pub fn meant(&self, places: &[Place], pressed: KeyEvent) -> Option<KeyEvent> {
        // What lies over another place has its keys first.
        let has = |place: &Place| {
            let known = of(*place).filter(|key| self.cap(key) == key.cap);
            let mut usual = known.flat_map(|key| presses(key.cap).unwrap_or_default());
            usual.any(|key| plain(key) == plain(pressed))
        };
        let over = places.iter().position(has);
        let places = &places[..over.unwrap_or(places.len())];
        let here = |changed: &&Changed| {
            over.is_none() && changed.key.place == Place::Everywhere
                || places.contains(&changed.key.place)
        };
        let pairs = || {
            self.changed
                .iter()
                .filter(here)
                .flat_map(|changed| &changed.pairs)
        };
        if let Some((_, usual)) = pairs().find(|(own, _)| plain(*own) == plain(pressed)) {
            return Some(*usual);
        }
        let moved = pairs().any(|(_, usual)| plain(*usual) == plain(pressed));
        (over.is_some() || !moved).then_some(pressed)
    }
}

fn changed(name: &str, cap: &str) -> Result<Changed, String> {
    let names = || {
        KEYS.iter()
            .filter(|key| key.can_change())
            .map(Key::full_name)
    };
    let key = KEYS
        .iter()
        .find(|key| key.full_name() == name && key.can_change());
    let Some(key) = key else {
        let all: Vec<String> = names().collect();
        let near = idle_tide_lang::correct::nearest(name, all.iter().map(String::as_str), 1);
        let near = near
            .first()
            .map_or(String::new(), |near| format!(" The nearest is {near}."));
        return Err(format!(
            "No key is called {name}.{near} /keys names them all."
        ));
    };
    let usual = presses(key.cap).unwrap_or_default();
    let own = presses(cap).filter(|own| own.len() == usual.len());
    let Some(own) = own else {
        return Err(format!(
            "{cap:?} names no {} for {name}. They are written as in the guide: {}.",
            if usual.len() == 1 {
                "key".into()
            } else {
                format!("{} keys", usual.len())
            },
            key.cap
        ));
    };
    let letter =
        |event: &KeyEvent| matches!(event.code, KeyCode::Char(_)) && event.modifiers.is_empty();
    if key.place.takes_letters() && own.iter().any(letter) {
        return Err(format!(
            "{cap} cannot be the key of {name}: letters are typed there."
        ));
    }
    Ok(Changed {
        key,
        cap: cap.to_string(),
        pairs: own.into_iter().zip(usual).collect(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(keys: &[(&str, &str)]) -> (Keymap, Vec<String>) {
        let keys = keys
            .iter()
            .map(|(name, cap)| (name.to_string(), cap.to_string()));
        Keymap::read(&keys.collect())
    }

    #[test]
    fn every_row_has_a_name_of_its_own_and_keys_that_are_understood() {
        let mut names: Vec<String> = KEYS.iter().map(Key::full_name).collect();
        names.sort_unstable();
        let count = names.len();
        names.dedup();
        assert_eq!(names.len(), count);
        for key in KEYS.iter().filter(|key| key.can_change()) {
            assert!(presses(key.cap).is_some(), "{}", key.cap);
        }
    }

    #[test]
    fn a_key_takes_the_place_of_another_in_its_place_only() {
        let (map, troubles) = read(&[
            ("rows-order", "S"),
            ("everywhere-guide", "Ctrl-G"),
            ("rows-move", "< >"),
        ]);
        assert_eq!(troubles, Vec::<String>::new());
        let key = |cap: &str| presses(cap).expect("a key")[0];
        assert_eq!(map.meant(&[Place::Rows], key("S")), Some(key("O")));
        assert_eq!(
            map.meant(&[Place::Rows], key("O")),
            None,
            "it is that key no longer"
        );
        assert_eq!(
            map.meant(&[Place::Writing], key("O")),
            Some(key("O")),
            "a letter is a letter"
        );
        // What lies over the rows keeps its own.
        let over = [Place::Proposal, Place::Rows];
        assert_eq!(map.meant(&over, key("S")), Some(key("S")));
        assert_eq!(map.meant(&over, key("O")), None);
        assert_eq!(map.meant(&[Place::Text], key("Ctrl-G")), Some(key("F1")));
        assert_eq!(map.meant(&[Place::Rows], key(">")), Some(key("]")));
        let caps: Vec<&str> = of(Place::Rows).map(|key| map.cap(key)).collect();
        assert!(caps.contains(&"S") && caps.contains(&"< >") && !caps.contains(&"O"));
    }

    #[test]
    fn what_cannot_be_a_key_is_said_with_both_rows() {
        for (keys, words) in [
            (
                &[("rows-order", "X")][..],
                "rows-order is that of rows-hide already",
            ),
            (&[("rows-order", "F9")], "everywhere-sources"),
            (
                &[("rows-order", "S"), ("rows-record", "s")],
                "is that of rows-order already",
            ),
            (&[("rows-ordre", "S")], "The nearest is rows-order"),
            (&[("rows-order", "Hyper")], "names no key"),
            (&[("rows-move", "<")], "names no 2 keys"),
            (&[("everywhere-guide", "G")], "letters are typed there"),
            (&[("writing-editor", "F8")], "No key is called"),
        ] {
            let (map, troubles) = read(keys);
            assert_eq!(troubles.len(), 1, "{keys:?}");
            assert!(troubles[0].contains(words), "{}", troubles[0]);
            assert!(map.changed.len() < keys.len());
        }
    }
}
