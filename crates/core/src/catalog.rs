//! What is in a database: its objects, their columns, keys, indexes and links. A plain picture that an
//! engine fills and everything else reads; names are kept exactly as the engine reports them.

/// What kind of object this is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// A table.
    Table,
    /// A table whose rows an engine's extension provides (full text and the like).
    VirtualTable,
    /// A table whose rows another server provides.
    ForeignTable,
    /// A view.
    View,
    /// A view whose rows are kept.
    MaterializedView,
    /// A trigger.
    Trigger,
}

impl Kind {
    /// The trade's word, in the singular.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Table => "table",
            Kind::VirtualTable => "virtual table",
            Kind::ForeignTable => "foreign table",
            Kind::View => "view",
            Kind::MaterializedView => "materialised view",
            Kind::Trigger => "trigger",
        }
    }
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
    /// Its default, as an expression of the engine.
    pub default: Option<String>,
    /// Computed from other columns.
    pub generated: bool,
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
    /// Holds only the rows that satisfy a condition.
    pub partial: bool,
}

/// A declared link from columns of one table to a key of another.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Link {
    /// The columns here.
    pub columns: Vec<String>,
    /// The table they refer to.
    pub table: String,
    /// The columns there.
    pub their_columns: Vec<String>,
    /// What happens here when the row there is deleted, in the engine's words.
    pub on_delete: String,
}

/// A table, view or trigger.
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
    /// Made by the engine for its own use; folded away in lists.
    pub helper: bool,
    /// The table a trigger belongs to.
    pub owner: Option<String>,
    /// Why its columns could not be read (a view that no longer compiles), in the engine's words.
    pub broken: Option<String>,
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
            owner: None,
            broken: None,
        }
    }

    /// Whether it is a view of either kind.
    pub fn is_view(&self) -> bool {
        matches!(self.kind, Kind::View | Kind::MaterializedView)
    }

    /// Whether a query can read rows from it.
    pub fn has_rows(&self) -> bool {
        self.kind != Kind::Trigger
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

/// All objects of the database that a session is in.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Catalog {
    /// Objects in the order of their names.
    pub objects: Vec<Object>,
    /// Schemas whose objects need no schema before their name, first ones first.
    pub path: Vec<String>,
}

impl Catalog {
    /// The table or view of this name, without regard to ASCII case, `schema.name` allowed.
    pub fn table(&self, name: &str) -> Option<&Object> {
        let (schema, plain) = match name.split_once('.') {
            Some((schema, plain)) => (Some(schema), plain),
            None => (None, name),
        };
        let fits = |object: &&Object| {
            object.has_rows()
                && schema.is_none_or(|schema| object.schema.eq_ignore_ascii_case(schema))
        };
        // Where the path names several, its first schema has the word.
        self.objects
            .iter()
            .filter(fits)
            .filter(|object| object.name.eq_ignore_ascii_case(plain))
            .min_by_key(|object| (object.name != plain, self.place_in_path(object)))
            .or_else(|| {
                self.objects
                    .iter()
                    .find(|object| object.has_rows() && object.name.eq_ignore_ascii_case(name))
            })
    }

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

    /// Tables and views that are not an engine's helpers.
    pub fn tables(&self) -> impl Iterator<Item = &Object> {
        self.objects
            .iter()
            .filter(|object| object.has_rows() && !object.helper)
    }

    /// Links of other tables that refer to this one.
    pub fn referring<'a>(&'a self, table: &'a str) -> impl Iterator<Item = (&'a Object, &'a Link)> {
        self.objects.iter().flat_map(move |object| {
            object
                .links
                .iter()
                .filter(move |link| link.table.eq_ignore_ascii_case(table))
                .map(move |link| (object, link))
        })
    }
}
