//! The guard: a statement that sweeps (touches every row, or takes an object away) is asked about with the
//! numbers that would go. It says which numbers it needs and makes the question from them.

use std::time::Duration;

use idle_tide_core::{Catalog, Kind};
use idle_tide_draw::picture::{self, counted, grouped, lasting};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;
use idle_tide_lang::statement::{Change, Chosen, Does, Named, Sweep};

use crate::page::{Line, Page, Tone};

/// A question to the user, with what would happen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Question {
    /// What would happen, with its numbers.
    pub page: Page,
    /// What the answer yes does, in a few words.
    pub yes: String,
    /// What the answer no does.
    pub no: String,
}

/// What a count is of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Counted {
    /// The rows of the table itself.
    Rows,
    /// Rows of this other table, which go too.
    Referring(String),
    /// Rows of this other table, whose link is emptied.
    Cleared(String),
    /// Things within it or that depend on it, in the singular.
    Things(&'static str),
}

/// A count that the question needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Count {
    /// The query that counts.
    pub query: String,
    /// Which of the sweeps it is for.
    pub sweep: usize,
    /// What it counts.
    pub of: Counted,
}

/// The tables whose rows hang on those of `table`, with the words of what happens to them.
fn referring<'a>(
    table: &str,
    catalog: &'a Catalog,
    dialect: &Dialect,
) -> Vec<(&'a idle_tide_core::Object, &'a idle_tide_core::Link, String)> {
    let found = catalog.table(table).into_iter();
    found
        .flat_map(|table| catalog.referring(table))
        .map(|(object, link)| {
            let name = match object.schema.is_empty() {
                true => dialect.quote_name(&object.name),
                false => format!(
                    "{}.{}",
                    dialect.quote_name(&object.schema),
                    dialect.quote_name(&object.name)
                ),
            };
            (object, link, name)
        })
        .collect()
}

/// The counts that sweeps need: of the table, and of what goes with it.
pub fn counts(sweeps: &[Sweep], catalog: &Catalog, dialect: &Dialect) -> Vec<Count> {
    let mut list = Vec::new();
    for (sweep, what) in sweeps.iter().enumerate() {
        let mut put = |query: String, of| list.push(Count { query, sweep, of });
        match what {
            Sweep::DeleteAll {
                table, truncates, ..
            } => {
                put(dialect.count_of(&table.written), Counted::Rows);
                for (object, link, name) in referring(&table.shown, catalog, dialect) {
                    let filled: Vec<String> = link
                        .columns
                        .iter()
                        .map(|column| format!("{} is not null", dialect.quote_name(column)))
                        .collect();
                    let linked =
                        format!("select count(*) from {name} where {}", filled.join(" and "));
                    match (truncates, link.on_delete.as_str()) {
                        (Some(true), _) => put(
                            dialect.count_of(&name),
                            Counted::Referring(object.name.clone()),
                        ),
                        (None, "cascade") => put(linked, Counted::Referring(object.name.clone())),
                        (None, "set null" | "set default") => {
                            put(linked, Counted::Cleared(object.name.clone()))
                        }
                        _ => {}
                    }
                }
            }
            Sweep::Replace { table }
            | Sweep::UpdateAll { table, .. }
            | Sweep::DropColumn { table, .. }
            | Sweep::DeleteMatching { table } => {
                put(dialect.count_of(&table.written), Counted::Rows)
            }
            Sweep::Part { kind, table, .. } if kind == "partition" || kind == "tablespace" => {
                put(dialect.count_of(&table.written), Counted::Rows);
            }
            Sweep::Drop {
                kind,
                name,
                cascade,
                ..
            } => {
                if has_rows(kind) {
                    put(dialect.count_of(&name.written), Counted::Rows);
                }
                for (query, of) in within(kind, name, *cascade, dialect) {
                    put(query, Counted::Things(of));
                }
            }
            Sweep::Part { .. } | Sweep::Unread { .. } => {}
        }
    }
    list
}

/// Queries that count the rows of other tables which go with rows that are deleted, or lose their link to them, by
/// their tables. Links of one column are followed, one step far.
pub fn gone_with(
    table: &str,
    chosen: &Chosen,
    catalog: &Catalog,
    dialect: &Dialect,
) -> Vec<(String, String)> {
    let acts = |on: &str| matches!(on, "cascade" | "set null" | "set default");
    let links = referring(table, catalog, dialect).into_iter();
    let mut found: Vec<(String, String)> = links
        .filter(|(_, link, _)| acts(&link.on_delete))
        .filter_map(|(object, link, name)| {
            let theirs: Vec<&str> = match link.their_columns.as_slice() {
                [] => catalog.table(table)?.keys().first()?.clone(),
                named => named.iter().map(String::as_str).collect(),
            };
            let ([own], [other]) = (link.columns.as_slice(), theirs.as_slice()) else {
                return None;
            };
            let own = dialect.quote_name(own);
            let keys = chosen.query(&format!("{}.{}", chosen.called, dialect.quote_name(other)));
            let query = format!(
                "select count(*) from {name} where {own} in (select * from ({keys}) as chosen)"
            );
            Some((object.name.clone(), query))
        })
        .collect();
    found.dedup();
    found
}

/// Queries that count what is in an object or hangs on it.
fn within(
    kind: &str,
    name: &Named,
    cascade: bool,
    dialect: &Dialect,
) -> Vec<(String, &'static str)> {
    let text = dialect.quote_text(&name.shown);
    let written = dialect.quote_text(&name.written);
    match (dialect.family, kind) {
        (Family::Mariadb, "database") => vec![(
            format!("select count(*) from information_schema.tables where table_schema = {text}"),
            "table and view",
        )],
        (Family::Postgres, "schema") => vec![(
            format!(
                "select count(*) from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where n.nspname = {text} and c.relkind in ('r', 'p', 'f', 'v', 'm')"
            ),
            "table and view",
        )],
        (Family::Postgres, "owned") => vec![(
            format!(
                "select count(*) from pg_catalog.pg_shdepend d join pg_catalog.pg_roles r on r.oid = d.refobjid where r.rolname = {text} and d.deptype = 'o' and d.dbid = (select oid from pg_catalog.pg_database where datname = current_database())"
            ),
            "object",
        )],
        (Family::Postgres, "table" | "view" | "materialised view" | "foreign table") if cascade => {
            vec![(
                format!(
                    "with recursive d (oid) as (select {written}::regclass::oid union select r.ev_class from d join pg_catalog.pg_depend p on p.refclassid = 'pg_class'::regclass and p.refobjid = d.oid and p.classid = 'pg_rewrite'::regclass join pg_catalog.pg_rewrite r on r.oid = p.objid) select count(*) - 1 from d"
                ),
                "view that reads it",
            )]
        }
        (Family::Postgres, "type" | "domain") if cascade => vec![(
            format!(
                "select count(*) from pg_catalog.pg_attribute where atttypid = {written}::regtype and attnum > 0 and not attisdropped"
            ),
            "column of this type",
        )],
        (Family::Postgres, "extension") => vec![(
            format!(
                "select count(*) from pg_catalog.pg_depend d join pg_catalog.pg_extension e on e.oid = d.refobjid where d.refclassid = 'pg_extension'::regclass and d.deptype = 'e' and e.extname = {text}"
            ),
            "object of it",
        )],
        _ => Vec::new(),
    }
}

/// `3 tables and views`, `1 view that reads it`.
fn things(count: u64, one: &str) -> String {
    let many = match one {
        "table and view" => "tables and views",
        "view that reads it" => "views that read it",
        "column of this type" => "columns of this type",
        "object of it" => "objects of it",
        "index" => "indexes",
        _ => return counted(count, one),
    };
    match count {
        1 => format!("1 {}", one.replace(" and ", " or ")),
        _ => format!("{} {many}", grouped(count)),
    }
}

/// Sentences about one sweep.
struct Part {
    heading: String,
    lines: Vec<(&'static str, Option<String>, String)>,
    yes: String,
    after: String,
}

/// The answers to the counts of one sweep.
struct Answers<'a> {
    rows: Option<u64>,
    others: Vec<(&'a Counted, u64)>,
    row: &'static str,
}

impl Answers<'_> {
    /// `all 3 rows`, `the only row`, and without a number `every row`.
    fn all(&self) -> String {
        match self.rows {
            None => format!("every {}", self.row),
            Some(1) => format!("the only {}", self.row),
            Some(rows) => format!("all {}", counted(rows, self.row)),
        }
    }

    fn lines(&self) -> Vec<(&'static str, Option<String>, String)> {
        let row = |count: u64| Some(counted(count, self.row));
        let lines = self.others.iter().filter(|(_, count)| *count > 0);
        lines
            .map(|(of, count)| match of {
                Counted::Referring(name) => (
                    "with them ",
                    row(*count),
                    format!(" of {name}, which refer to them"),
                ),
                Counted::Cleared(name) => (
                    "and in ",
                    row(*count),
                    format!(" of {name} the link to them is taken out"),
                ),
                Counted::Things(one) => ("with it ", None, things(*count, one)),
                Counted::Rows => ("", None, String::new()),
            })
            .collect()
    }
}

/// What a statement ends for good.
#[derive(Default)]
pub struct Ends<'a> {
    /// How long the transaction is open that the server ends before it.
    pub transaction: Option<Duration>,
    /// Whether a transaction is open that it stands in.
    pub within: bool,
    /// The change that it is, and why it cannot be held and taken back.
    pub lasts: Option<(&'a Change, &'a str)>,
}

/// The question, from the counts in the order of [`counts`], and the count of the rows that a lasting change chooses.
/// `None` if there is nothing to ask: what is not there fails by itself, and the server
/// says why.
pub fn question(
    sweeps: &[Sweep],
    asked: &[Count],
    answers: &[Option<u64>],
    catalog: &Catalog,
    dialect: &Dialect,
    ends: &Ends<'_>,
) -> Option<Question> {
    let mut parts = Vec::new();
    if let Some(age) = ends.transaction {
        parts.push(Part {
            heading: "The server ends the open transaction before this, and keeps what it has changed.".into(),
            lines: vec![("it has been open for ", Some(lasting(age)), String::new())],
            yes: "keeps it and goes on".into(),
            after: "rollback takes nothing of it back then. commit or rollback before it says which it is to be.".into(),
        });
    }
    for (at, sweep) in sweeps.iter().enumerate() {
        let mut own = Answers {
            rows: None,
            others: Vec::new(),
            row: dialect.row(),
        };
        for (count, answer) in asked
            .iter()
            .zip(answers)
            .filter(|(count, _)| count.sweep == at)
        {
            match (&count.of, answer) {
                (Counted::Rows, answer) => own.rows = *answer,
                (of, Some(answer)) => own.others.push((of, *answer)),
                _ => {}
            }
        }
        parts.extend(part(sweep, &own, catalog, dialect));
    }
    if let Some((change, why)) = ends.lasts {
        let why = format!("It cannot be looked at first and taken back: {why}.");
        if sweeps.is_empty() {
            let chosen = asked
                .iter()
                .zip(answers)
                .find(|(c, _)| c.sweep == usize::MAX);
            parts.extend(chosen_rows(
                change,
                chosen.and_then(|(_, rows)| *rows),
                dialect,
                &why,
            ));
        } else if let Some(part) = parts.last_mut() {
            part.after.push_str(&format!(" {why}"));
        }
    }
    if let Some(words) = way_back(sweeps, dialect, ends)
        && let Some(part) = parts.last_mut()
    {
        part.after.push_str(&format!(" {words}"));
    }
    let first = parts.first()?;
    let yes = match parts.len() {
        1 => first.yes.clone(),
        _ => "does all of this".to_string(),
    };
    let mut page = Page::of_sentences();
    for part in &parts {
        if page.lines.last().is_some_and(|line| !line.spans.is_empty()) {
            page.gap();
        }
        page.say(Tone::Heading, part.heading.clone());
        if !part.lines.is_empty() && parts.len() == 1 {
            page.gap();
        }
        for (label, number, words) in &part.lines {
            let mut line = Line::new().and(Tone::Care, *label);
            if let Some(number) = number {
                line = line.and(Tone::Number, number.clone());
            }
            page.line(line.and(Tone::Plain, words.clone()));
        }
    }
    page.gap();
    let mut said: Vec<&str> = Vec::new();
    for part in &parts {
        if !said.contains(&part.after.as_str()) {
            said.push(&part.after);
            page.say(Tone::Faint, part.after.clone());
        }
    }
    Some(Question {
        page,
        yes,
        no: "leaves everything as it is; the statement stays in the composer".into(),
    })
}

/// Whether there is a way back from what takes objects away or empties them.
fn way_back(sweeps: &[Sweep], dialect: &Dialect, ends: &Ends<'_>) -> Option<String> {
    let takes = |sweep: &Sweep| match sweep {
        Sweep::Drop { .. } | Sweep::DropColumn { .. } | Sweep::Part { .. } => true,
        Sweep::DeleteAll { truncates, .. } => truncates.is_some(),
        _ => false,
    };
    if !sweeps.iter().any(takes) {
        return None;
    }
    // Databases, tablespaces and the like stand outside of transactions.
    let outside = sweeps.iter().any(|sweep| {
        matches!(sweep, Sweep::Drop { kind, .. } if matches!(kind.as_str(), "database" | "tablespace" | "subscription"))
    });
    Some(match (dialect.family, ends.within) {
        (Family::Postgres | Family::Sqlite | Family::Tabular, true) if !outside => {
            "It stands in the open transaction: rollback; takes it back, commit; keeps it.".into()
        }
        (Family::Postgres | Family::Sqlite | Family::Tabular, false) if !outside => format!(
            "There is no way back, unless {}; comes first: then rollback; takes it back.",
            dialect.begin()
        ),
        _ => "There is no way back.".into(),
    })
}

/// The name that has to be typed on a source of which much depends, for what takes an object away or empties it.
pub fn name_to_type(sweeps: &[Sweep]) -> Option<&str> {
    sweeps.iter().find_map(|sweep| match sweep {
        Sweep::Drop { name, .. } => Some(name.shown.as_str()),
        Sweep::DeleteAll {
            table,
            truncates: Some(_),
            ..
        } => Some(table.shown.as_str()),
        _ => None,
    })
}

/// What is said of a change with a condition that lasts at once; nothing where it is known to choose no row.
fn chosen_rows(change: &Change, rows: Option<u64>, dialect: &Dialect, why: &str) -> Option<Part> {
    let rows = match rows {
        Some(0) => return None,
        Some(rows) => counted(rows, dialect.row()),
        None => format!("{}s", dialect.row()),
    };
    let (does, done) = match change.does {
        Does::Delete => ("deletes", "deletes them"),
        _ => ("changes", "changes them"),
    };
    Some(Part {
        heading: format!("This {does} {rows} of {}.", change.table),
        lines: Vec::new(),
        yes: done.into(),
        after: why.to_string(),
    })
}

/// Whether a table is surely not there: it could not be counted, and the catalog has none of its name. A collection that
/// is not there has no documents.
fn is_nowhere(table: &Named, rows: Option<u64>, catalog: &Catalog, dialect: &Dialect) -> bool {
    let uncounted = rows.is_none() || dialect.is_flow() && rows == Some(0);
    uncounted && !table.shown.contains('.') && catalog.table(&table.shown).is_none()
}

/// What is said of a sweep: what it does, what a yes does, what follows.
type Said = (String, String, String);

fn part(sweep: &Sweep, own: &Answers<'_>, catalog: &Catalog, dialect: &Dialect) -> Option<Part> {
    let mut lines = own.lines();
    let table = match sweep {
        Sweep::DeleteAll { table, .. }
        | Sweep::UpdateAll { table, .. }
        | Sweep::DeleteMatching { table }
        | Sweep::DropColumn { table, .. } => Some(table),
        Sweep::Drop { kind, name, .. } if has_rows(kind) => Some(name),
        _ => None,
    };
    if table.is_some_and(|table| is_nowhere(table, own.rows, catalog, dialect)) {
        return None;
    }
    let (heading, yes, after) = match sweep {
        // A limit below the number of rows leaves some.
        Sweep::DeleteAll {
            limit: Some(limit), ..
        }
        | Sweep::UpdateAll {
            limit: Some(limit), ..
        } if own.rows.is_some_and(|rows| *limit < rows) => {
            return None;
        }
        Sweep::DeleteAll {
            table, truncates, ..
        } => deleted(table, *truncates, own, dialect),
        Sweep::DeleteMatching { table } => {
            let of = own.rows.map_or("rows".to_string(), |rows| {
                format!("some or all of the {}", counted(rows, own.row))
            });
            (
                format!("This may delete {of} of {table}."),
                "deletes what matches".into(),
                "How many they are depends on what they are matched with, and is not known before."
                    .into(),
            )
        }
        Sweep::UpdateAll { table, .. } => (
            format!("This changes {} of {table}.", own.all()),
            format!("changes {}", own.all()),
            format!(
                "There is no condition that chooses {0}s: every {0} gets the new values.",
                own.row
            ),
        ),
        Sweep::Replace { table } => {
            // A collection that is not there will be made.
            let unknown = own.rows.is_none() && catalog.table(&table.shown).is_none();
            if unknown || own.rows == Some(0) {
                return None;
            }
            (
                format!("This replaces {} of {table}.", own.all()),
                format!("replaces {}", own.all()),
                format!("save into {table} would add to what is there."),
            )
        }
        Sweep::Drop {
            kind,
            name,
            cascade,
            replaced,
        } => {
            if *replaced && own.rows == Some(0) && lines.is_empty() {
                return None;
            }
            lines.extend(belongings(kind, name, catalog));
            dropped(kind, name, *cascade, *replaced, own, dialect)
        }
        Sweep::DropColumn { table, column } => (
            format!(
                "This removes the column {column} of {table}, with its values in {}.",
                own.all()
            ),
            format!("removes {column}"),
            "The other columns stay.".into(),
        ),
        Sweep::Part { kind, parts, table } => part_of(kind, parts, table, own),
        Sweep::Unread { how } => (
            format!("What {how} runs here is put together only when it runs."),
            "runs it".into(),
            "This program cannot read it before, and so cannot say what it changes.".into(),
        ),
    };
    Some(Part {
        heading,
        lines,
        yes,
        after,
    })
}

fn has_rows(kind: &str) -> bool {
    matches!(kind, "table" | "collection")
}

fn deleted(table: &Named, truncates: Option<bool>, own: &Answers<'_>, dialect: &Dialect) -> Said {
    let all = own.all();
    let after = match (dialect.is_flow(), truncates) {
        (true, _) => format!(
            "The collection stays, with its indexes and empty. drop collection {table} would remove it."
        ),
        (_, Some(true)) => {
            "Every table that refers to it is emptied with it, and those that refer to them.".into()
        }
        (_, Some(false)) => "The table stays, with its columns, indexes and links; triggers of single rows do not run.".into(),
        _ => "Deleting every row empties the table and keeps it, with its columns, indexes and links. drop table would remove it.".into(),
    };
    (
        format!("This deletes {all} of {table}."),
        format!("deletes {all}"),
        after,
    )
}

fn dropped(
    kind: &str,
    name: &Named,
    cascade: bool,
    replaced: bool,
    own: &Answers<'_>,
    dialect: &Dialect,
) -> Said {
    let what = kind_words(kind, name);
    let with = match has_rows(kind) {
        true => format!(" with {}", own.all()),
        false => String::new(),
    };
    let heading = match replaced {
        true => format!("This removes {what}{with} and makes another one in its place."),
        false => format!("This removes {what}{with}."),
    };
    (
        heading,
        format!("removes {name}"),
        lost(kind, name, cascade, dialect),
    )
}

fn part_of(kind: &str, parts: &[String], table: &Named, own: &Answers<'_>) -> Said {
    let row = own.row;
    let names = match parts.is_empty() {
        true => String::new(),
        false => format!(" {}", parts.join(", ")),
    };
    let rows = own.rows.map_or(String::new(), |rows| {
        format!(", which has {} in all", counted(rows, row))
    });
    let heading = match kind {
        "partition" => {
            format!("This deletes every {row} in the partition{names} of {table}{rows}.")
        }
        "tablespace" => format!("This throws away the file of {table}, with {}.", own.all()),
        "history" => format!("This deletes the earlier states that {table} keeps of its {row}s."),
        "index" if parts.is_empty() => {
            format!("This removes every index of {table} but the one of its key.")
        }
        kind => format!("This removes the {kind}{names} of {table}."),
    };
    let after = match kind {
        "partition" | "tablespace" | "history" => "They cannot be taken back.".to_string(),
        "attribute" => format!("Its values go with it, in every {row} of that type."),
        _ => format!("No {row} is lost by this."),
    };
    let yes = match names.is_empty() {
        true => "removes it".to_string(),
        false => format!("removes{names}"),
    };
    (heading, yes, after)
}

fn kind_words(kind: &str, name: &Named) -> String {
    match kind {
        "owned" => format!("everything here that {name} owns, and what was granted to it"),
        "database" if name.shown == "this" => "the database of this session".to_string(),
        _ => format!("the {kind} {name}"),
    }
}

/// What goes with an object by the catalog: indexes, triggers; and who refers to it.
fn belongings(
    kind: &str,
    name: &Named,
    catalog: &Catalog,
) -> Vec<(&'static str, Option<String>, String)> {
    let mut lines = Vec::new();
    if !has_rows(kind) {
        return lines;
    }
    let plain = name.shown.rsplit('.').next().unwrap_or(&name.shown);
    let indexes = catalog.table(&name.shown).map_or(0, |o| {
        o.indexes.iter().filter(|index| !index.automatic).count()
    });
    let triggers = catalog
        .objects
        .iter()
        .filter(|o| o.kind == Kind::Trigger && o.table.as_deref() == Some(plain))
        .count();
    let bytes = catalog.table(&name.shown).and_then(|object| object.bytes);
    if let Some(size) = bytes.filter(|size| *size > 0) {
        lines.push(("on disk ", Some(picture::bytes(size)), String::new()));
    }
    for (count, one) in [(indexes, "index"), (triggers, "trigger")] {
        if count > 0 {
            lines.push(("with it ", None, things(count as u64, one)));
        }
    }
    let referring: Vec<&str> = catalog
        .table(&name.shown)
        .into_iter()
        .flat_map(|table| catalog.referring(table))
        .map(|(object, _)| object.name.as_str())
        .collect();
    if !referring.is_empty() {
        lines.push(("links to it from ", None, referring.join(", ")));
    }
    let lower = plain.to_lowercase();
    let readers: Vec<&str> = catalog
        .objects
        .iter()
        .filter(|object| object.is_view() && object.name.to_lowercase() != lower)
        .filter(|object| {
            object.definition.as_deref().is_some_and(|definition| {
                definition
                    .to_lowercase()
                    .split(|c: char| !c.is_alphanumeric() && c != '_')
                    .any(|word| word == lower)
            })
        })
        .map(|object| object.name.as_str())
        .collect();
    if !readers.is_empty() {
        lines.push(("read by the view ", None, readers.join(", ")));
    }
    lines
}

/// What is lost with an object, and what is not.
fn lost(kind: &str, name: &Named, cascade: bool, dialect: &Dialect) -> String {
    let row = dialect.row();
    match kind {
        "table" if cascade => {
            "What depends on it goes too: links to it, and views that read it.".to_string()
        }
        "table" => {
            "Dropping removes the table itself. delete from would empty it and keep it.".to_string()
        }
        "collection" => format!(
            "Dropping removes the collection itself. empty {name} would remove its documents and keep it."
        ),
        "schema" if cascade => format!(
            "Everything in it goes with it, every {row} too, and what depends on that elsewhere."
        ),
        "schema" => "The server refuses this while something is in it.".to_string(),
        "owned" => format!(
            "Tables go with every {row} in them; what others own stays, with the links to these taken out only under cascade."
        ),
        "database" => "Everything in it goes with it.".to_string(),
        "type" | "domain" | "extension" | "function" | "operator class" | "sequence" if cascade => {
            format!(
                "What depends on it goes too: columns with their values in every {row}, defaults, functions."
            )
        }
        _ if cascade => "What depends on it goes too.".to_string(),
        "foreign table" => "What the other server keeps stays there.".to_string(),
        "materialised view" => {
            "What it keeps goes with it and can be worked out again only from its definition."
                .to_string()
        }
        "index" | "view" | "trigger" | "function" | "procedure" | "user" | "role" | "policy"
        | "rule" | "event" | "aggregate" | "event trigger" | "sequence" => {
            format!("No {row} is lost by this.")
        }
        _ => "What depends on it keeps the server from it.".to_string(),
    }
}
