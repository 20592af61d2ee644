//! What is in a database: its objects, their columns, keys, indexes and links. A plain picture that an
//! engine fills and everything else reads; names are kept exactly as the engine reports them.

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::OnceLock;

/// What kind of object this is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// A table.
    Table,
    /// A collection of documents.
    Collection,
    /// A table whose rows an engine's extension provides (full text and the like).
    VirtualTable,
    /// A table whose rows another server provides.
    ForeignTable,
    /// A view.
    View,
    /// A view whose rows are kept.
    MaterializedView,
    /// A sequence of numbers.
    Sequence,
    /// A function.
    Function,
    /// A procedure.
    Procedure,
    /// A trigger.
    Trigger,
    /// A type that was made here.
    Type,
    /// An extension of the server.
    Extension,
    /// Something that the server does at set times.
    Event,
}

impl Kind {
    /// The trade's word, in the singular.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Table => "table",
            Kind::Collection => "collection",
            Kind::VirtualTable => "virtual table",
            Kind::ForeignTable => "foreign table",
            Kind::View => "view",
            Kind::MaterializedView => "materialised view",
            Kind::Sequence => "sequence",
            Kind::Function => "function",
            Kind::Procedure => "procedure",
            Kind::Trigger => "trigger",
            Kind::Type => "type",
            Kind::Extension => "extension",
            Kind::Event => "event",
        }
    }

    /// The trade's word, in the plural.
    pub fn words(self) -> String {
        format!("{}s", self.word())
    }

    /// Whether a query can read rows from such a thing.
    pub fn has_rows(self) -> bool {
        matches!(
            self,
            Kind::Table
                | Kind::Collection
                | Kind::VirtualTable
                | Kind::ForeignTable
                | Kind::View
                | Kind::MaterializedView
        )
    }

    /// Whether it is called with arguments.
    pub fn is_routine(self) -> bool {
        matches!(self, Kind::Function | Kind::Procedure)
    }
}

/// Whether a column numbers its rows by itself.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Identity {
    /// It does not.
    #[default]
    None,
    /// Unless a value is given.
    ByDefault,
    /// Always; a value of one's own is refused.
    Always,
}

/// A column of a table or view.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Field {
    /// Its name.
    pub name: String,
    /// Its declared type in the engine's words, empty where there is none.
    pub declared: String,
    /// Whether it may hold null.
    pub optional: bool,
    /// Its place in the primary key, counted from 1.
    pub key: Option<usize>,
    /// Its default, as an expression of the engine; for a generated column what it is computed from.
    pub default: Option<String>,
    /// Computed from other columns.
    pub generated: bool,
    /// Whether it numbers its rows by itself.
    pub identity: Identity,
    /// How its texts are compared, where that is not the database's own way.
    pub collation: Option<String>,
    /// The only values it may hold, as texts, where its type or a check lists them.
    pub choices: Vec<String>,
    /// What its maker wrote about it.
    pub comment: Option<String>,
}

/// An index of a table.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Index {
    /// Its name.
    pub name: String,
    /// Its columns in order; an expression stands as `(expression)`.
    pub columns: Vec<String>,
    /// Whether two rows may not agree in it.
    pub unique: bool,
    /// Made by the engine for a key, not by a statement.
    pub automatic: bool,
    /// Whether it carries the primary key.
    pub primary: bool,
    /// Holds only the rows that satisfy this condition.
    pub condition: Option<String>,
    /// How it is built, where it is not the usual way (`gin`, `fulltext`, `hash`).
    pub method: Option<String>,
    /// Bytes on disk.
    pub bytes: Option<u64>,
    /// How often it was used since the server last began to count.
    pub uses: Option<u64>,
}

/// A declared link from columns of one table to a key of another.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Link {
    /// The name of the constraint, where it has one.
    pub name: String,
    /// The columns here.
    pub columns: Vec<String>,
    /// The schema of the table they refer to; empty for the same one.
    pub schema: String,
    /// The table they refer to.
    pub table: String,
    /// The columns there.
    pub their_columns: Vec<String>,
    /// What happens here when the row there is deleted, in the engine's words.
    pub on_delete: String,
    /// The same when its key changes.
    pub on_update: String,
}

/// A condition that every row of a table satisfies.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Check {
    /// Its name; empty where it has none.
    pub name: String,
    /// The condition, as an expression of the engine.
    pub condition: String,
}

/// The name of the fact that says on which other server the rows of an object lie.
pub const LIES_ON: &str = "lies on";

/// A table, view, routine or another thing of a database.
#[derive(Debug, Clone, PartialEq)]
pub struct Object {
    /// The schema it belongs to, in the engine's words (`main` for SQLite).
    pub schema: String,
    /// Its name.
    pub name: String,
    /// Its kind.
    pub kind: Kind,
    /// The statement that made it.
    pub definition: Option<String>,
    /// What its maker wrote about it.
    pub comment: Option<String>,
    /// Its columns.
    pub fields: Vec<Field>,
    /// Its indexes.
    pub indexes: Vec<Index>,
    /// Links from its columns to other tables.
    pub links: Vec<Link>,
    /// Number of rows, if it could be counted at once or is estimated.
    pub rows: Option<u64>,
    /// Whether `rows` is the server's estimate.
    pub estimated: bool,
    /// Bytes on disk, where the server says so.
    pub bytes: Option<u64>,
    /// Made by the engine for its own use, or a part of another table; folded away in lists.
    pub helper: bool,
    /// Seen by this session only.
    pub temporary: bool,
    /// The table a trigger belongs to.
    pub table: Option<String>,
    /// The role that owns it.
    pub owner: Option<String>,
    /// Conditions that its rows satisfy.
    pub checks: Vec<Check>,
    /// How its rows are shared out among partitions, in the engine's words.
    pub partition_by: Option<String>,
    /// The table that it is a partition of, `schema.name` where the schemas differ.
    pub partition_of: Option<String>,
    /// The arguments of a routine, as they stand between its brackets.
    pub signature: String,
    /// What else is known, as name and value: a routine's language and result, a sequence's step.
    pub facts: Vec<(String, String)>,
    /// Why its columns could not be read (a view that no longer compiles), in the engine's words.
    pub broken: Option<String>,
    /// What a sample of its documents looks like, if it is a collection.
    pub shape: Option<std::sync::Arc<crate::document::shape::Shape>>,
}

impl Object {
    /// An object of which nothing but its name is known.
    pub fn new(schema: impl Into<String>, name: impl Into<String>, kind: Kind) -> Self {
        Object {
            schema: schema.into(),
            name: name.into(),
            kind,
            definition: None,
            comment: None,
            fields: Vec::new(),
            indexes: Vec::new(),
            links: Vec::new(),
            rows: None,
            estimated: false,
            bytes: None,
            helper: false,
            temporary: false,
            table: None,
            owner: None,
            checks: Vec::new(),
            partition_by: None,
            partition_of: None,
            signature: String::new(),
            facts: Vec::new(),
            broken: None,
            shape: None,
        }
    }

    /// Whether it is a view of either kind.
    pub fn is_view(&self) -> bool {
        matches!(self.kind, Kind::View | Kind::MaterializedView)
    }

    /// Whether a query can read rows from it.
    pub fn has_rows(&self) -> bool {
        self.kind.has_rows()
    }

    /// Its kind in words that say more than the kind: partitioned, temporary, a partition.
    pub fn kind_words(&self) -> String {
        let mut words = String::new();
        if self.temporary {
            words.push_str("temporary ");
        }
        if self.partition_by.is_some() {
            words.push_str("partitioned ");
        }
        words.push_str(self.kind.word());
        match &self.partition_of {
            Some(table) => words.push_str(&format!(", a part of {table}")),
            None if self.helper => words.push_str(", an engine's helper"),
            None => {}
        }
        words
    }

    /// The columns of every key that tells each row from all others, the primary one first.
    pub fn keys(&self) -> Vec<Vec<&str>> {
        let mut primary: Vec<&Field> = self.fields.iter().filter(|f| f.key.is_some()).collect();
        primary.sort_by_key(|field| field.key);
        let mut keys = Vec::new();
        if !primary.is_empty() {
            keys.push(primary.iter().map(|f| f.name.as_str()).collect());
        }
        for index in self.indexes.iter().filter(|index| index.tells_rows_apart()) {
            let columns: Vec<&str> = index.columns.iter().map(String::as_str).collect();
            if !keys.contains(&columns) {
                keys.push(columns);
            }
        }
        keys
    }

    /// Whether two rows cannot agree in all of these columns.
    pub fn is_unique(&self, columns: &[&str]) -> bool {
        self.keys().iter().any(|key| {
            key.iter()
                .all(|part| columns.iter().any(|c| c.eq_ignore_ascii_case(part)))
        })
    }

    /// The field of this name, without regard to ASCII case.
    pub fn field(&self, name: &str) -> Option<&Field> {
        self.fields
            .iter()
            .find(|field| field.name.eq_ignore_ascii_case(name))
    }

    /// The table that a column links to, if it is declared.
    pub fn link_of(&self, column: &str) -> Option<&Link> {
        self.links.iter().find(|link| {
            link.columns
                .iter()
                .any(|name| name.eq_ignore_ascii_case(column))
        })
    }
}

impl Index {
    /// Whether no two rows agree in its columns: unique, for all rows, and over columns alone.
    pub fn tells_rows_apart(&self) -> bool {
        self.unique
            && self.condition.is_none()
            && !self.columns.is_empty()
            && !self.columns.iter().any(|column| column.starts_with('('))
    }
}

/// A database of the server.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Database {
    /// Its name.
    pub name: String,
    /// Whether it is the one that the catalog is of.
    pub here: bool,
    /// A word on it.
    pub detail: String,
}

/// All objects of the database that a session is in.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Catalog {
    /// Objects in the order of their names.
    pub objects: Vec<Object>,
    /// Schemas whose objects need no schema before their name, first ones first.
    pub path: Vec<String>,
    /// The schemas in which something may be, in the order of their names; empty where there are none.
    pub schemas: Vec<String>,
    /// The databases of the server, as far as this user may see them.
    pub databases: Vec<Database>,
    /// The users and roles, as far as this user may see them.
    pub roles: Vec<String>,
    /// Only the names were read so far; columns, keys and links follow.
    pub names_only: bool,
    /// What this user may not see, in whole sentences.
    pub unseen: Vec<String>,
    /// Where the names stand.
    pub names: Names,
}

/// Where each name stands among the objects, worked out when first asked for. It is no part of what a catalog
/// says: a copy begins without it, and all are equal.
#[derive(Debug, Default)]
pub struct Names(OnceLock<NameIndex>);

impl Clone for Names {
    fn clone(&self) -> Self {
        Names::default()
    }
}

impl PartialEq for Names {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

/// The names of all objects close together, so that thousands are looked through without touching the objects.
#[derive(Debug, Clone, Default)]
pub struct NameIndex {
    places: HashMap<String, Vec<usize>>,
    /// The objects with a link to a table of a name.
    referring: HashMap<String, Vec<usize>>,
    lower: String,
    rows: Vec<NameRow>,
}

#[derive(Debug, Clone, Copy)]
struct NameRow {
    start: u32,
    end: u32,
    kind: Kind,
    helper: bool,
}

/// A name in the index.
#[derive(Debug, Clone, Copy)]
pub struct IndexedName<'a> {
    /// The place of its object in [`Catalog::objects`].
    pub at: usize,
    /// The name in lower case.
    pub lower: &'a str,
    /// The object's kind.
    pub kind: Kind,
    /// Whether it is folded away.
    pub helper: bool,
}

impl NameIndex {
    fn of(objects: &[Object]) -> Self {
        let mut index = NameIndex::default();
        for (at, object) in objects.iter().enumerate() {
            let start = index.lower.len() as u32;
            index
                .lower
                .extend(object.name.chars().flat_map(char::to_lowercase));
            index.rows.push(NameRow {
                start,
                end: index.lower.len() as u32,
                kind: object.kind,
                helper: object.helper,
            });
            let name = object.name.to_ascii_lowercase();
            index.places.entry(name).or_default().push(at);
            for link in &object.links {
                let list = index
                    .referring
                    .entry(link.table.to_ascii_lowercase())
                    .or_default();
                if list.last() != Some(&at) {
                    list.push(at);
                }
            }
        }
        index
    }

    /// All names, in the order of the objects.
    pub fn names(&self) -> impl Iterator<Item = IndexedName<'_>> {
        self.rows.iter().enumerate().map(|(at, row)| IndexedName {
            at,
            lower: &self.lower[row.start as usize..row.end as usize],
            kind: row.kind,
            helper: row.helper,
        })
    }
}

impl Catalog {
    /// The table or view of this name, without regard to ASCII case, `schema.name` allowed.
    pub fn table(&self, name: &str) -> Option<&Object> {
        self.best(name, |object| object.has_rows())
    }

    /// The object of this name: a table or view before anything else.
    pub fn named(&self, name: &str) -> Option<&Object> {
        self.table(name).or_else(|| self.best(name, |_| true))
    }

    /// Where in [`Catalog::objects`] a table stands.
    pub fn place_of(&self, object: &Object) -> Option<usize> {
        let places = self.places(&object.name);
        places
            .into_iter()
            .find(|at| std::ptr::eq(&self.objects[*at], object))
    }

    /// The index of its names. Objects that were added or taken away since it was made are in a new one.
    pub fn name_index(&self) -> Cow<'_, NameIndex> {
        let known = self.names.0.get_or_init(|| NameIndex::of(&self.objects));
        if known.rows.len() == self.objects.len() {
            Cow::Borrowed(known)
        } else {
            Cow::Owned(NameIndex::of(&self.objects))
        }
    }

    /// The places of the objects of this name, without regard to ASCII case.
    fn places(&self, name: &str) -> Vec<usize> {
        let is_it = |at: &usize| self.objects[*at].name.eq_ignore_ascii_case(name);
        let index = self.name_index();
        match index.places.get(&name.to_ascii_lowercase()) {
            Some(list) if list.iter().all(is_it) => list.clone(),
            None => Vec::new(),
            // One was renamed since.
            Some(_) => (0..self.objects.len()).filter(is_it).collect(),
        }
    }

    /// The objects of this name, without regard to ASCII case.
    fn of_name<'a>(&'a self, name: &str) -> impl Iterator<Item = &'a Object> {
        self.places(name).into_iter().map(|at| &self.objects[at])
    }

    fn best(&self, name: &str, fits: impl Fn(&Object) -> bool) -> Option<&Object> {
        // A name may itself hold a point.
        let whole = self
            .of_name(name)
            .filter(|object| fits(object))
            .min_by_key(|object| (object.name != name, self.place_in_path(object)));
        if whole.is_some() {
            return whole;
        }
        name.match_indices('.').find_map(|(at, _)| {
            let (schema, plain) = (&name[..at], &name[at + 1..]);
            self.of_name(plain)
                .filter(|object| object.schema.eq_ignore_ascii_case(schema) && fits(object))
                .min_by_key(|object| (object.name != plain, object.schema != schema))
        })
    }

    // Where the path names several, its first schema has the word.
    fn place_in_path(&self, object: &Object) -> usize {
        let place = self.path.iter().position(|s| *s == object.schema);
        place.unwrap_or(self.path.len())
    }

    /// Whether the name alone leads to this object.
    pub fn needs_no_schema(&self, object: &Object) -> bool {
        self.path.contains(&object.schema)
            && self
                .table(&object.name)
                .is_none_or(|first| first.schema == object.schema)
    }

    /// The name that leads to this object, with its schema where that is needed.
    pub fn shortest_name(&self, object: &Object) -> String {
        if object.schema.is_empty() || self.needs_no_schema(object) {
            object.name.clone()
        } else {
            format!("{}.{}", object.schema, object.name)
        }
    }

    /// Tables and views that are not an engine's helpers.
    pub fn tables(&self) -> impl Iterator<Item = &Object> {
        self.objects
            .iter()
            .filter(|object| object.has_rows() && !object.helper)
    }

    /// The table that a link of `of` refers to.
    pub fn target(&self, of: &Object, link: &Link) -> Option<&Object> {
        let schema = if link.schema.is_empty() {
            &of.schema
        } else {
            &link.schema
        };
        self.of_name(&link.table)
            .find(|object| object.has_rows() && object.schema == *schema)
    }

    /// Links of other tables that refer to this one.
    pub fn referring<'a>(
        &'a self,
        table: &'a Object,
    ) -> impl Iterator<Item = (&'a Object, &'a Link)> {
        let index = self.name_index();
        let places = index.referring.get(&table.name.to_ascii_lowercase());
        let places = places.cloned().unwrap_or_default();
        places.into_iter().flat_map(move |at| {
            let object = &self.objects[at];
            object
                .links
                .iter()
                .filter(move |link| {
                    let schema = if link.schema.is_empty() {
                        &object.schema
                    } else {
                        &link.schema
                    };
                    *schema == table.schema && link.table.eq_ignore_ascii_case(&table.name)
                })
                .map(move |link| (object, link))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn catalog() -> Catalog {
        Catalog {
            objects: vec![
                Object::new("quay", "berths", Kind::Table),
                Object::new("sea", "berths", Kind::View),
                Object::new("quay", "odd.name", Kind::Table),
                Object::new("quay", "berths", Kind::Function),
            ],
            path: vec!["sea".into(), "quay".into()],
            ..Catalog::default()
        }
    }

    #[test]
    fn names_are_found_as_they_are_typed() {
        let catalog = catalog();
        let found = |name: &str| catalog.named(name).map(|o| (o.schema.as_str(), o.kind));
        assert_eq!(found("Berths"), Some(("sea", Kind::View)));
        assert_eq!(found("QUAY.berths"), Some(("quay", Kind::Table)));
        assert_eq!(found("odd.name"), Some(("quay", Kind::Table)));
        assert_eq!(found("quay.odd.name"), Some(("quay", Kind::Table)));
        assert_eq!(found("moon.berths"), None);
        assert_eq!(catalog.shortest_name(&catalog.objects[0]), "quay.berths");
        assert_eq!(catalog.shortest_name(&catalog.objects[2]), "odd.name");
    }

    #[test]
    fn a_key_has_to_hold_for_every_row() {
        let mut table = Object::new("", "t", Kind::Table);
        let index = |columns: &[&str], condition: Option<&str>| Index {
            columns: columns.iter().map(|c| c.to_string()).collect(),
            unique: true,
            condition: condition.map(str::to_string),
            ..Index::default()
        };
        table.indexes = vec![
            index(&["a", "b"], None),
            index(&["c"], Some("c > 0")),
            index(&["(lower(d))"], None),
        ];
        assert!(table.is_unique(&["B", "a", "z"]));
        assert!(!table.is_unique(&["a"]));
        assert!(!table.is_unique(&["c"]) && !table.is_unique(&["(lower(d))"]));
    }
}
