//! The state of the catalog view: which column is narrowed by what, what is marked, and the lists that follow
//! from it. Lists are made anew only when the catalog or what narrows them changes.

use std::collections::HashMap;
use std::sync::Arc;

use idle_tide_core::catalog::{Catalog, Kind, Object};
use idle_tide_core::links::{self, Tie};
use idle_tide_desk::about::{index_words, rows_words};
use idle_tide_lang::Dialect;
use idle_tide_lang::narrow::Narrow;

/// A line of the first column.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shelf {
    /// All of the database that the session is in.
    Here(String),
    /// One schema of it.
    Schema(String),
    /// Another database of the server.
    Other(String),
    /// Users and roles.
    Roles,
}

/// A line of the second column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Entry {
    /// An object, by its place.
    Object(usize),
    /// A role, by its place.
    Role(usize),
}

/// A line of the third column, by its place within the object.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// A column.
    Field(usize),
    /// An index.
    Index(usize),
    /// A link of another table that refers here, by its place among all links.
    Referring(usize),
    /// A trigger, by its place in the catalog.
    Trigger(usize),
    /// A check.
    Check(usize),
    /// Something known by name.
    Fact(usize),
}

/// A line as it is shown: a heading, or something that can be marked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Line<T> {
    /// A heading.
    Heading(String),
    /// What can be marked, and the word at its right.
    Item(T),
}

/// A column of the view.
#[derive(Debug, Clone)]
pub struct Narrowed<T> {
    /// What was typed in it.
    pub typed: String,
    /// What is marked, counted among the items.
    pub at: usize,
    /// Its lines.
    pub lines: Vec<Line<T>>,
}

impl<T> Default for Narrowed<T> {
    fn default() -> Self {
        Narrowed {
            typed: String::new(),
            at: 0,
            lines: Vec::new(),
        }
    }
}

impl<T: Clone> Narrowed<T> {
    /// What can be marked.
    pub fn items(&self) -> impl Iterator<Item = &T> {
        self.lines.iter().filter_map(|line| match line {
            Line::Item(item) => Some(item),
            Line::Heading(_) => None,
        })
    }

    /// What is marked.
    pub fn marked(&self) -> Option<&T> {
        self.items().nth(self.at)
    }

    fn step(&mut self, by: isize) {
        let last = self.items().count().saturating_sub(1);
        self.at = self.at.saturating_add_signed(by).min(last);
    }

    fn set(&mut self, lines: Vec<Line<T>>) {
        self.lines = lines;
        let count = self.items().count();
        self.at = self.at.min(count.saturating_sub(1));
    }
}

/// What can be done with what is marked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// This command, on its object.
    Run(&'static str),
    /// Its name, or what it is written as, goes to the clipboard.
    Copy,
}

/// What can be done with what is marked, and what each is called; `rows` says whether its object has rows.
pub fn actions(dialect: &Dialect, rows: bool) -> Vec<(&'static str, Action)> {
    let all = [
        ("sample", "/sample", rows),
        ("shape", "/shape", rows && dialect.is_flow()),
        ("figures", "/figures", rows),
        ("links", "/links", rows),
        ("definition", "/definition", true),
        ("in full", "/about", true),
    ];
    let fitting = all.into_iter().filter(|(_, _, fits)| *fits);
    let commands = fitting.map(|(name, command, _)| (name, Action::Run(command)));
    commands.chain([("copy", Action::Copy)]).collect()
}

/// The view.
#[derive(Debug, Clone, Default)]
pub struct CatalogView {
    /// The session it is of.
    pub session: u32,
    catalog: Arc<Catalog>,
    ties: Arc<Vec<Tie>>,
    /// Databases and schemas.
    pub shelves: Narrowed<Shelf>,
    /// Objects by kind.
    pub objects: Narrowed<Entry>,
    /// What an object is made of.
    pub parts: Narrowed<Part>,
    /// The column that is narrowed and moved in, counted from 0.
    pub focus: usize,
    /// The marked action, while the list of actions is open.
    pub actions: Option<usize>,
    /// Helpers that are folded away.
    pub folded: usize,
    /// The links of the marked object to others, by their places.
    own_ties: Vec<usize>,
    /// Tables of all schemas, and of each.
    counts: (usize, HashMap<String, usize>),
}

impl CatalogView {
    /// Takes a catalog; what was marked stays marked where it is still there.
    pub fn take(&mut self, session: u32, catalog: &Arc<Catalog>, ties: &Arc<Vec<Tie>>) {
        if session != self.session {
            *self = CatalogView {
                session,
                focus: 1,
                ..CatalogView::default()
            };
        } else if Arc::ptr_eq(&self.catalog, catalog) {
            return;
        }
        let marked = self
            .object()
            .map(|o| (o.schema.clone(), o.name.clone(), o.kind));
        self.catalog = Arc::clone(catalog);
        self.ties = Arc::clone(ties);
        self.counts = Default::default();
        for table in catalog.tables() {
            self.counts.0 += 1;
            match self.counts.1.get_mut(&table.schema) {
                Some(count) => *count += 1,
                None => {
                    self.counts.1.insert(table.schema.clone(), 1);
                }
            }
        }
        self.list_shelves();
        self.list_objects();
        if let Some(marked) = marked {
            let is_it = |entry: &Entry| match entry {
                Entry::Object(at) => {
                    let o = &self.catalog.objects[*at];
                    (&o.schema, &o.name, &o.kind) == (&marked.0, &marked.1, &marked.2)
                }
                Entry::Role(_) => false,
            };
            let found = self.objects.items().position(is_it);
            if let Some(at) = found {
                self.objects.at = at;
            }
        }
        self.list_parts();
    }

    /// The catalog shown.
    pub fn catalog(&self) -> &Catalog {
        &self.catalog
    }

    /// The links of the catalog.
    pub fn ties(&self) -> &[Tie] {
        &self.ties
    }

    /// The object that is marked in the second column.
    pub fn object(&self) -> Option<&Object> {
        match self.objects.marked()? {
            Entry::Object(at) => self.catalog.objects.get(*at),
            Entry::Role(_) => None,
        }
    }

    /// Marks the object of this name, if it is there.
    pub fn go_to(&mut self, name: &str) {
        let Some(place) = self
            .catalog
            .named(name)
            .and_then(|o| self.catalog.place_of(o))
        else {
            return;
        };
        self.shelves = Narrowed::default();
        self.objects.typed.clear();
        self.list_shelves();
        self.list_objects();
        let wanted = Entry::Object(place);
        let found = self.objects.items().position(|e| *e == wanted);
        if let Some(at) = found {
            self.objects.at = at;
            self.focus = 1;
        }
        self.list_parts();
    }

    /// Makes the lists anew after something was typed or marked in a column.
    pub fn changed(&mut self, column: usize) {
        match column {
            0 => {
                self.list_shelves();
                self.objects.at = 0;
                self.list_objects();
                self.parts.at = 0;
                self.list_parts();
            }
            1 => {
                self.list_objects();
                self.parts.at = 0;
                self.parts.typed.clear();
                self.list_parts();
            }
            _ => self.list_parts(),
        }
    }

    /// What was typed in the column that is narrowed.
    pub fn typed(&mut self) -> &mut String {
        match self.focus {
            0 => &mut self.shelves.typed,
            1 => &mut self.objects.typed,
            _ => &mut self.parts.typed,
        }
    }

    /// Marks another line of the present column.
    pub fn step(&mut self, by: isize) {
        match self.focus {
            0 => self.shelves.step(by),
            1 => self.objects.step(by),
            _ => self.parts.step(by),
        }
        // What follows from it, but not the list itself.
        match self.focus {
            0 => {
                self.objects.at = 0;
                self.list_objects();
                self.parts.at = 0;
                self.list_parts();
            }
            1 => {
                self.parts.at = 0;
                self.parts.typed.clear();
                self.list_parts();
            }
            _ => {}
        }
    }

    fn list_shelves(&mut self) {
        let narrow = Narrow::by(&self.shelves.typed);
        let mut lines = vec![Line::Heading("databases".into())];
        let is_file = self
            .catalog
            .databases
            .iter()
            .map(|d| &d.name)
            .eq(&self.catalog.schemas);
        for database in &self.catalog.databases {
            if narrow.distance(&database.name).is_some() {
                lines.push(Line::Item(match database.here {
                    true => Shelf::Here(database.name.clone()),
                    false if is_file => Shelf::Schema(database.name.clone()),
                    false => Shelf::Other(database.name.clone()),
                }));
            }
        }
        let schemas = self.catalog.schemas.iter().filter(|_| !is_file);
        let schemas: Vec<&String> = schemas.filter(|s| narrow.distance(s).is_some()).collect();
        if !schemas.is_empty() {
            lines.push(Line::Heading("schemas".into()));
            lines.extend(
                schemas
                    .into_iter()
                    .map(|s| Line::Item(Shelf::Schema(s.clone()))),
            );
        }
        if !self.catalog.roles.is_empty() && narrow.distance("users and roles").is_some() {
            lines.push(Line::Heading("server".into()));
            lines.push(Line::Item(Shelf::Roles));
        }
        let first = self.shelves.typed.is_empty() && self.shelves.lines.is_empty();
        self.shelves.set(lines);
        if first {
            let here = self
                .shelves
                .items()
                .position(|s| matches!(s, Shelf::Here(_)));
            self.shelves.at = here.unwrap_or(0);
        }
    }

    fn list_objects(&mut self) {
        let narrow = Narrow::by(&self.objects.typed);
        let shelf = self.shelves.marked().cloned();
        let mut found: Vec<(Kind, u32, usize)> = Vec::new();
        self.folded = 0;
        match &shelf {
            Some(Shelf::Other(_)) | None => {}
            Some(Shelf::Roles) => {
                let mut roles: Vec<(u32, usize)> = Vec::new();
                for (at, role) in self.catalog.roles.iter().enumerate() {
                    roles.extend(narrow.distance(role).map(|d| (d, at)));
                }
                roles.sort_unstable();
                let mut lines = vec![Line::Heading("users and roles".into())];
                lines.extend(roles.into_iter().map(|(_, at)| Line::Item(Entry::Role(at))));
                self.objects.set(lines);
                return;
            }
            Some(shelf) => {
                let one = match shelf {
                    Shelf::Schema(name) => Some(name),
                    _ => None,
                };
                for name in self.catalog.name_index().names() {
                    if one.is_some_and(|schema| *schema != self.catalog.objects[name.at].schema) {
                        continue;
                    }
                    if name.helper {
                        self.folded += 1;
                    } else if let Some(distance) = narrow.distance_of_lower(name.lower) {
                        found.push((name.kind, distance, name.at));
                    }
                }
            }
        }
        found.sort_unstable();
        let mut lines = Vec::with_capacity(found.len() + 8);
        let mut last = None;
        for (kind, _, at) in found {
            if last != Some(kind) {
                lines.push(Line::Heading(kind.words()));
                last = Some(kind);
            }
            lines.push(Line::Item(Entry::Object(at)));
        }
        self.objects.set(lines);
    }

    fn list_parts(&mut self) {
        let narrow = Narrow::by(&self.parts.typed);
        let mut lines = Vec::new();
        let Some(Entry::Object(place)) = self.objects.marked().copied() else {
            return self.parts.set(lines);
        };
        let object = &self.catalog.objects[place];
        let mut section = |title: &str, items: Vec<Part>| {
            if !items.is_empty() {
                lines.push(Line::Heading(title.to_string()));
                lines.extend(items.into_iter().map(Line::Item));
            }
        };
        let fits = |name: &str| narrow.distance(name).is_some();
        let mut own_ties = Vec::new();
        let fields = object
            .fields
            .iter()
            .enumerate()
            .filter(|(_, f)| fits(&f.name));
        let heading = if object.kind == Kind::Collection {
            "paths"
        } else {
            "columns"
        };
        section(heading, fields.map(|(n, _)| Part::Field(n)).collect());
        let indexes = object
            .indexes
            .iter()
            .enumerate()
            .filter(|(_, i)| fits(&i.name));
        section(
            "keys and indexes",
            indexes.map(|(n, _)| Part::Index(n)).collect(),
        );
        let mut referring = Vec::new();
        for (n, tie) in self.ties.iter().enumerate() {
            if tie.from == place {
                own_ties.push(n);
            }
            if tie.to == place && fits(&links::name_of(&self.catalog, tie.from)) {
                referring.push(Part::Referring(n));
            }
        }
        section("referred to by", referring);
        let of_this = |other: &Object| {
            other.kind == Kind::Trigger
                && other.schema == object.schema
                && other.table.as_ref() == Some(&object.name)
        };
        let mut triggers = Vec::new();
        if object.has_rows() {
            for name in self.catalog.name_index().names() {
                if name.kind == Kind::Trigger
                    && of_this(&self.catalog.objects[name.at])
                    && fits(name.lower)
                {
                    triggers.push(Part::Trigger(name.at));
                }
            }
        }
        section("triggers", triggers);
        let checks = object
            .checks
            .iter()
            .enumerate()
            .filter(|(_, c)| fits(&c.condition));
        section("checks", checks.map(|(n, _)| Part::Check(n)).collect());
        let facts = object
            .facts
            .iter()
            .enumerate()
            .filter(|(_, (name, _))| fits(name));
        section("more", facts.map(|(n, _)| Part::Fact(n)).collect());
        self.own_ties = own_ties;
        self.parts.set(lines);
    }

    /// A shelf's name and the word at its right.
    pub fn shelf_words(&self, shelf: &Shelf) -> (String, String) {
        match shelf {
            Shelf::Here(name) => (name.clone(), self.counts.0.to_string()),
            Shelf::Schema(name) => {
                let tables = self.counts.1.get(name).copied().unwrap_or(0);
                (name.clone(), tables.to_string())
            }
            Shelf::Other(name) => (name.clone(), String::new()),
            Shelf::Roles => (
                "users and roles".into(),
                self.catalog.roles.len().to_string(),
            ),
        }
    }

    /// An entry's name and the word at its right.
    pub fn entry_words(&self, entry: Entry) -> (String, String) {
        match entry {
            Entry::Role(at) => (self.catalog.roles[at].clone(), String::new()),
            Entry::Object(at) => {
                let object = &self.catalog.objects[at];
                let fact = |name: &str| {
                    let found = object.facts.iter().find(|(fact, _)| fact == name);
                    found.map_or(String::new(), |(_, words)| words.clone())
                };
                let word = match object.kind {
                    _ if object.broken.is_some() => "broken".into(),
                    Kind::Function | Kind::Procedure => format!("({})", object.signature),
                    Kind::Trigger => object.table.clone().unwrap_or_default(),
                    Kind::Sequence => fact("numbers"),
                    Kind::Extension => fact("version"),
                    Kind::Event => fact("state"),
                    _ => rows_words(object).map_or(String::new(), |words| {
                        words
                            .trim_end_matches(" rows")
                            .trim_end_matches(" row")
                            .to_string()
                    }),
                };
                (self.catalog.shortest_name(object), word)
            }
        }
    }

    /// A part's name and the word at its right.
    pub fn part_words(&self, part: Part) -> (String, String) {
        let Some(object) = self.object() else {
            return Default::default();
        };
        match part {
            Part::Field(n) => {
                let field = &object.fields[n];
                let own = self.own_ties.iter().map(|n| &self.ties[*n]);
                let is_of = |tie: &&Tie| {
                    tie.columns
                        .iter()
                        .any(|c| c.eq_ignore_ascii_case(&field.name))
                };
                let tie = own.into_iter().find(is_of);
                let declared = field.declared.to_lowercase();
                let word = match tie {
                    Some(tie) => {
                        let guess = if tie.declared { "" } else { " ?" };
                        format!("→ {}{guess}", links::name_of(&self.catalog, tie.to))
                    }
                    None if field.key.is_some() => format!("{declared}, key"),
                    None if field.optional => format!("{declared}, optional"),
                    None => declared,
                };
                (field.name.clone(), word)
            }
            Part::Index(n) => {
                let index = &object.indexes[n];
                let unique = if index.primary {
                    "primary, "
                } else if index.unique {
                    "unique, "
                } else {
                    ""
                };
                (
                    index.name.clone(),
                    format!("{unique}{}", index.columns.join(", ")),
                )
            }
            Part::Referring(n) => {
                let tie = &self.ties[n];
                let from = &self.catalog.objects[tie.from];
                let name = format!(
                    "{}.{}",
                    self.catalog.shortest_name(from),
                    tie.columns.join(", ")
                );
                (
                    name,
                    if tie.declared {
                        rows_words(from).unwrap_or_default()
                    } else {
                        "guessed".into()
                    },
                )
            }
            Part::Trigger(n) => (self.catalog.objects[n].name.clone(), String::new()),
            Part::Check(n) => (object.checks[n].condition.clone(), String::new()),
            Part::Fact(n) => object.facts[n].clone(),
        }
    }

    /// The words of an index, for its detail.
    pub fn index_detail(&self, n: usize) -> Option<(String, String)> {
        let index = self.object()?.indexes.get(n)?;
        Some((index.columns.join(", "), index_words(index)))
    }
}
