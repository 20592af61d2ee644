//! What was found in a file, changed as it was wished and as its table needs it.

use idle_tide_core::column_type::ColumnType;
use idle_tide_core::{Catalog, Object};
use idle_tide_engines::load::Existing;
use idle_tide_intake::{Asked, Form, Kind, Proposal};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::Family;

/// What is asked of a load.
#[derive(Debug, Clone, Default)]
pub(crate) struct Wishes {
    /// Whether rows go in, and not only what would happen is shown.
    pub go: bool,
    /// How the file is read.
    pub asked: Asked,
    /// Columns of the file with new names, types, forms.
    pub names: Vec<(String, String)>,
    pub types: Vec<(String, ColumnType)>,
    pub forms: Vec<(String, Form)>,
    /// Columns that stay out, and those of the key.
    pub left_out: Vec<String>,
    pub keys: Vec<String>,
    /// Rows whose key is there.
    pub existing: Option<Existing>,
    /// Whether rows that do not fit are left out, and the load goes on.
    pub skips_bad: bool,
    /// Rows after which what is there is kept; all or nothing without.
    pub batch: Option<u64>,
}

/// The table or collection.
#[derive(Debug, Clone)]
pub(crate) struct Target {
    /// Its name for people, and as a statement writes it.
    pub name: String,
    pub written: String,
    /// The table as it is, if it is there.
    pub object: Option<Object>,
    pub dialect: &'static Dialect,
}

impl Target {
    /// What a name stands for here.
    pub fn of(name: &str, catalog: &Catalog, dialect: &'static Dialect) -> Self {
        let object = catalog.table(name);
        let written = match object {
            Some(object) => idle_tide_lang::join::written(object, catalog, dialect),
            None if dialect.is_flow() => name.to_string(),
            None => dialect.quote_path(name),
        };
        Target {
            name: object.map_or(name, |object| &object.name).to_string(),
            written,
            object: object.cloned(),
            dialect,
        }
    }
}

/// The type that a column of a table takes, as far as its declared type says; nothing where it takes what comes.
fn declared_type(declared: &str, dialect: &Dialect) -> Option<ColumnType> {
    let declared = declared.to_ascii_lowercase();
    let name = declared.split('(').next().unwrap_or_default().trim();
    let size = || {
        let inner = declared.split_once('(')?.1.split(')').next()?;
        let (digits, scale) = inner.split_once(',').unwrap_or((inner, "0"));
        let digits = digits.trim().parse().ok()?;
        Some(ColumnType::Decimal(digits, scale.trim().parse().ok()?))
    };
    let has = |words: &[&str]| words.iter().any(|word| name.contains(word));
    let sqlite = dialect.family == Family::Sqlite;
    Some(match () {
        () if has(&["interval", "range", "point"]) => ColumnType::Text,
        () if name.ends_with("[]") => ColumnType::Text,
        () if has(&["int", "serial"]) => ColumnType::Integer,
        () if has(&["num", "dec"]) && sqlite => ColumnType::Decimal(0, 0),
        () if has(&["num", "dec"]) => size().unwrap_or(ColumnType::Decimal(0, 0)),
        () if has(&["real", "floa", "doub"]) => ColumnType::Float,
        () if has(&["char", "text", "clob"]) => ColumnType::Text,
        () if has(&["blob", "bytea", "binary"]) => ColumnType::Bytes,
        // Any value fits, and which one is meant shows in the file.
        () if sqlite => return None,
        () if has(&["bool"]) => ColumnType::Boolean,
        () if has(&["timestamptz", "with time zone"]) => ColumnType::ZonedMoment,
        () if has(&["timestamp", "datetime"]) => ColumnType::Moment,
        () if name == "date" => ColumnType::Date,
        () if name == "time" || name.starts_with("time without") => ColumnType::Time,
        () if name == "uuid" => ColumnType::Uuid,
        () if has(&["json"]) => ColumnType::Json,
        () => ColumnType::Text,
    })
}

/// A name of a column of the file, or its number.
fn place_of(proposal: &Proposal, wanted: &str) -> Result<usize, String> {
    let same = |name: &str| name.eq_ignore_ascii_case(wanted);
    let columns = &proposal.columns;
    let found = columns.iter().position(|c| same(&c.from) || same(&c.name));
    let numbered = || wanted.parse::<usize>().ok()?.checked_sub(1);
    let found = found.or_else(|| numbered().filter(|at| *at < columns.len()));
    found.ok_or_else(|| {
        let names = columns.iter().map(|c| c.from.as_str());
        let nearest = idle_tide_lang::correct::nearest(wanted, names, 1);
        let nearest = nearest
            .first()
            .map_or(String::new(), |name| format!(" Is it {name}?"));
        format!("The file has no column {wanted}.{nearest}")
    })
}

/// Changes a proposal as it was wished and as the table needs it; answers what stands in the way.
pub(super) fn fit(
    proposal: &mut Proposal,
    wishes: &Wishes,
    target: &Target,
) -> Result<Vec<String>, String> {
    let documents = target.dialect.is_flow();
    let whole = documents && proposal.shape.kind == Kind::Documents;
    let changed = !wishes.names.is_empty()
        || !wishes.types.is_empty()
        || !wishes.left_out.is_empty()
        || !wishes.forms.is_empty();
    if whole && changed {
        return Err(
            "Documents go into a collection as they are; a flow with save changes them on the way."
                .into(),
        );
    }
    if documents && (!wishes.keys.is_empty() || wishes.existing.is_some()) {
        return Err("A collection has the key _id and refuses a second document with one; --key and --existing are for tables.".into());
    }
    let asked = &wishes.asked;
    let of_text = asked.separator.is_some()
        || asked.header.is_some()
        || asked.encoding.is_some()
        || asked.null.is_some()
        || asked.no_quotes
        || asked.skip.is_some();
    if proposal.shape.kind != Kind::Separated && of_text {
        return Err("--separator, --header, --no-header, --no-quotes, --null, --encoding and --skip-rows are for values between separators, and this file has none.".into());
    }
    if documents && wishes.batch.is_some() {
        return Err(
            "--batch is for tables; documents go into a collection one command after the other."
                .into(),
        );
    }
    for (column, name) in &wishes.names {
        let at = place_of(proposal, column)?;
        proposal.columns[at].name.clone_from(name);
    }
    for column in &wishes.left_out {
        let at = place_of(proposal, column)?;
        proposal.columns[at].skip = true;
    }
    for column in &wishes.keys {
        let at = place_of(proposal, column)?;
        proposal.columns[at].key = true;
    }
    proposal.no_nul = target.dialect.family == Family::Postgres;
    let mut problems = Vec::new();
    if let Some(object) = target.object.as_ref().filter(|_| !documents) {
        let named = !wishes.keys.is_empty();
        problems = match_table(proposal, object, target.dialect, named);
        problems.extend(named.then(|| no_key(proposal, object)).flatten());
    }
    for (column, form) in &wishes.forms {
        let at = place_of(proposal, column)?;
        let of = &mut proposal.columns[at];
        of.form = *form;
        if of.column_type == ColumnType::Text {
            of.column_type = match form {
                Form::Plain => ColumnType::Text,
                Form::CommaDecimal => ColumnType::Decimal(0, 0),
                Form::DayFirst | Form::MonthFirst => ColumnType::Date,
            };
        }
    }
    for (column, of) in &wishes.types {
        let at = place_of(proposal, column)?;
        proposal.columns[at].column_type = *of;
        // What is taken as text is taken as it stands, unless a form was asked for, too.
        let mut formed = wishes
            .forms
            .iter()
            .map(|(column, _)| place_of(proposal, column));
        if *of == ColumnType::Text && !formed.any(|place| place == Ok(at)) {
            proposal.columns[at].form = Form::Plain;
        }
    }
    if proposal.columns.iter().all(|column| column.skip) {
        problems.push("Every column is left out.".into());
    }
    let existing = wishes.existing.unwrap_or(Existing::Refuse);
    if existing == Existing::Replace && keys_of(proposal, target, wishes).is_empty() {
        problems.push(format!(
            "{} has no primary key by which a row could be replaced: name one with --key.",
            target.name
        ));
    }
    Ok(problems)
}

/// Finds the column of a table for each of the file: by name, or by place where the file has no names.
fn match_table(
    proposal: &mut Proposal,
    object: &Object,
    dialect: &Dialect,
    key_named: bool,
) -> Vec<String> {
    let mut problems = Vec::new();
    let takes = |field: &&idle_tide_core::catalog::Field| !field.generated;
    let fields: Vec<_> = object.fields.iter().filter(takes).collect();
    let plain = |name: &str| -> String {
        let letters = name.chars().filter(|c| c.is_alphanumeric());
        letters.flat_map(char::to_lowercase).collect()
    };
    let by_place = !proposal.shape.header
        && proposal.shape.kind == Kind::Separated
        && proposal
            .columns
            .iter()
            .all(|c| c.name.starts_with("column_"))
        && proposal.columns.len() == fields.len();
    for (at, column) in proposal.columns.iter_mut().enumerate() {
        if column.skip {
            continue;
        }
        let found = match by_place {
            true => fields.get(at),
            false => fields
                .iter()
                .find(|field| field.name == column.name)
                .or_else(|| {
                    fields
                        .iter()
                        .find(|field| plain(&field.name) == plain(&column.name))
                }),
        };
        let Some(field) = found else {
            let names = fields.iter().map(|field| field.name.as_str());
            let nearest = idle_tide_lang::correct::nearest(&column.name, names, 1);
            let nearest = nearest
                .first()
                .map_or(String::from("COLUMN"), String::clone);
            problems.push(format!(
                "{} has no column {}. Give it to one with --name {}={nearest}, or leave it out with --leave-out {}.",
                object.name, column.name, column.from, column.from
            ));
            continue;
        };
        column.name.clone_from(&field.name);
        column.key |= field.key.is_some() && !key_named;
        if let Some(of) = declared_type(&field.declared, dialect) {
            column.column_type = of;
        }
    }
    let given = |name: &str| proposal.columns.iter().any(|c| !c.skip && c.name == name);
    for field in &fields {
        let numbered = field.identity != idle_tide_core::catalog::Identity::default()
            || field.key.is_some() && dialect.family == Family::Sqlite;
        if !field.optional && field.default.is_none() && !numbered && !given(&field.name) {
            problems.push(format!(
                "{} needs a value for {}, and the file has none.",
                object.name, field.name
            ));
        }
    }
    problems
}

/// What is wrong with the key that was named: a table knows its rows by a key that it holds unique.
fn no_key(proposal: &Proposal, object: &Object) -> Option<String> {
    let mut named: Vec<&str> = named_key(proposal).collect();
    named.sort_unstable();
    let same = |columns: &mut dyn Iterator<Item = &str>| {
        let mut columns: Vec<&str> = columns.collect();
        columns.sort_unstable();
        columns == named
    };
    let primary = object.fields.iter().filter(|f| f.key.is_some());
    let unique = object
        .indexes
        .iter()
        .filter(|i| i.unique && i.condition.is_none());
    let held = same(&mut primary.clone().map(|f| f.name.as_str()))
        || unique
            .clone()
            .any(|i| same(&mut i.columns.iter().map(String::as_str)));
    if held {
        return None;
    }
    let mut others: Vec<String> = unique.map(|i| i.columns.join(", ")).collect();
    let primary: Vec<&str> = primary.map(|f| f.name.as_str()).collect();
    if !primary.is_empty() {
        others.insert(0, primary.join(", "));
    }
    others.dedup();
    Some(format!(
        "{} does not hold {} unique, so that no row is known by it. {}",
        object.name,
        named.join(", "),
        match others.as_slice() {
            [] => "It has no key.".into(),
            others => format!("It is by {}.", others.join("; ")),
        }
    ))
}

/// The columns that were named as the key, by their names in the table.
fn named_key(proposal: &Proposal) -> impl Iterator<Item = &str> {
    let keys = proposal.columns.iter().filter(|c| c.key && !c.skip);
    keys.map(|column| column.name.as_str())
}

/// The columns of the key, as statements write them: those that were named, else those of the table.
pub(super) fn keys_of(proposal: &Proposal, target: &Target, wishes: &Wishes) -> Vec<String> {
    let quote = |name: &str| target.dialect.quote_name(name);
    if let Some(object) = target.object.as_ref().filter(|_| wishes.keys.is_empty()) {
        let mut keys: Vec<_> = object.fields.iter().filter(|f| f.key.is_some()).collect();
        keys.sort_by_key(|field| field.key);
        if !keys.is_empty() {
            return keys.iter().map(|field| quote(&field.name)).collect();
        }
    }
    named_key(proposal).map(quote).collect()
}

/// The statement that makes the table.
pub(super) fn create(proposal: &Proposal, target: &Target) -> String {
    let dialect = target.dialect;
    let mut lines: Vec<String> = proposal
        .columns
        .iter()
        .filter(|column| !column.skip)
        .map(|column| {
            let name = dialect.quote_name(&column.name);
            let words = dialect.type_words(column.column_type, column.key);
            let null = if column.key { " not null" } else { "" };
            format!("  {name} {words}{null}")
        })
        .collect();
    let keys: Vec<String> = named_key(proposal)
        .map(|name| dialect.quote_name(name))
        .collect();
    if !keys.is_empty() {
        lines.push(format!("  primary key ({})", keys.join(", ")));
    }
    format!(
        "create table {} (\n{}\n)",
        target.written,
        lines.join(",\n")
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::{MARIADB, POSTGRES, SQLITE};

    #[test]
    fn declared_types_take_what_they_say() {
        let of = |declared: &str, dialect: &'static Dialect| {
            declared_type(declared, dialect).map(|of| of.to_string())
        };
        let some = |words: &str| Some(words.to_string());
        assert_eq!(of("numeric(12,2)", &POSTGRES), some("decimal(12,2)"));
        assert_eq!(
            of("timestamp with time zone", &POSTGRES),
            some("timestamptz")
        );
        assert_eq!(of("integer[]", &POSTGRES), some("text"));
        assert_eq!(of("interval", &POSTGRES), some("text"));
        assert_eq!(of("int(11) unsigned", MARIADB), some("integer"));
        assert_eq!(of("datetime(6)", MARIADB), some("timestamp"));
        assert_eq!(of("VARCHAR(20)", &SQLITE), some("text"));
        assert_eq!(of("date", &SQLITE), None);
        assert_eq!(of("", &SQLITE), None);
    }
}
