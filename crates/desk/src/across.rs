//! Questions across results: SQL over what earlier entries gave, whatever their source and family, and over files. What a
//! question names comes into a database of its own, the columns that it uses alone, with values that compare as they did.

use std::collections::HashSet;
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use idle_tide_core::decimal::is_decimal;
use idle_tide_core::document::extended;
use idle_tide_core::order::each_row;
use idle_tide_core::result::{Budget, ResultSet};
use idle_tide_core::{Column, RowBatch, ValueRef, column_labels};
use idle_tide_engines::load::{Destination, Existing};
use idle_tide_engines::sqlite::Sqlite;
use idle_tide_engines::sqlite::between::{DECIMAL, EXACT};
use idle_tide_engines::{Connection, EngineError, Outcome, Sink};
use idle_tide_intake::{Asked, Trouble, look, rows, spool};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::query::{Of, query};
use idle_tide_lang::token::{TokenKind, significant, tokens};
use parking_lot::RwLock;

use crate::sheet::read;
use crate::task::stopped;

/// Memory that the rows of a file may use before they go to disk, in bytes.
const MEMORY: u64 = 64 * 1024 * 1024;
/// Bytes that go into the database at once.
const BATCH: usize = 256 * 1024;
/// The name of the column that is a whole document.
pub const DOCUMENT: &str = "document";

/// Where the rows of a table come from.
#[derive(Debug, Clone)]
pub enum From {
    /// A result.
    Result(Arc<RwLock<ResultSet>>),
    /// A file.
    File(PathBuf),
}

/// A table that a question can name.
#[derive(Debug, Clone)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// Where its rows come from.
    pub from: From,
}

/// What a question names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Named {
    /// Tables.
    pub tables: Vec<String>,
    /// Files, as they are written, where a table can stand.
    pub files: Vec<String>,
    /// Every word in lower case; columns are among them.
    words: HashSet<String>,
    /// Whether it asks for all columns.
    all: bool,
}

/// What a question names.
pub fn named(sql: &str) -> Named {
    let list = significant(&tokens(sql, &SQLITE));
    let mut named = Named::default();
    let parsed = query(sql, &list, &SQLITE);
    for table in parsed.blocks.iter().flat_map(|block| &block.tables) {
        if let Of::Table(name) = &table.of
            && parsed.common(name).is_none()
            && !named.tables.contains(name)
        {
            named.tables.push(name.clone());
        }
    }
    for (at, token) in list.iter().enumerate() {
        let before = at.checked_sub(1).map(|before| &list[before]);
        match token.kind {
            TokenKind::Word | TokenKind::QuotedName => {
                named
                    .words
                    .extend(token.name(sql).map(|name| name.to_lowercase()));
            }
            TokenKind::Operator if token.of(sql) == "*" => {
                let word = |words: &[&str]| {
                    before.is_some_and(|before| words.iter().any(|word| before.is_word(sql, word)))
                };
                named.all |= before
                    .is_some_and(|before| matches!(before.kind, TokenKind::Comma | TokenKind::Dot))
                    || word(&["select", "distinct", "all"]);
            }
            TokenKind::Text => {
                let text = token.of(sql);
                let inside = text
                    .strip_prefix('\'')
                    .and_then(|text| text.strip_suffix('\''));
                let opens = before.is_some_and(|before| {
                    before.is_word(sql, "from") || before.is_word(sql, "join")
                });
                let listed = before.is_some_and(|before| before.kind == TokenKind::Comma);
                if let Some(path) = inside.map(|text| text.replace("''", "'"))
                    && (opens || listed && crate::export::expand(&path).is_file())
                    && !named.files.contains(&path)
                {
                    named.files.push(path);
                }
            }
            _ => {}
        }
    }
    named.all |= named.words.contains("natural");
    named.tables.retain(|name| !named.files.contains(name));
    named
}

impl Named {
    /// Whether a column of this name may be meant.
    pub fn uses(&self, column: &str) -> bool {
        self.all || self.words.contains(&column.to_lowercase())
    }
}

/// What is told of the work, and what stops it.
pub struct Watch<'a> {
    /// Set when it is to stop.
    pub stop: &'a Arc<AtomicBool>,
    /// Where to tell how far it is.
    pub tell: &'a dyn Fn(String),
}

impl Watch<'_> {
    fn stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }
}

/// Asks a question of tables; the rows go to a sink. What is not named does not come in.
///
/// # Errors
/// Those of the engine, with places in `sql`; that a file cannot be read; that it was stopped.
pub fn ask(
    sql: &str,
    named: &Named,
    tables: &[Table],
    sink: &mut dyn Sink,
    watch: &Watch<'_>,
) -> Result<Outcome, EngineError> {
    let mut engine = Sqlite::between()?;
    let mut decimals = false;
    for table in tables {
        let wanted = |name: &String| name.eq_ignore_ascii_case(&table.name);
        let set = match &table.from {
            From::Result(set) if named.tables.iter().any(wanted) => Arc::clone(set),
            From::File(path) => Arc::new(RwLock::new(file(path, watch)?)),
            From::Result(_) => continue,
        };
        decimals |= fill(&mut engine, table, &read(&set), named, watch)?;
    }
    engine.refuse_writes(true)?;
    // What takes long in the engine is interrupted from outside.
    let (control, stop, done) = (
        engine.control(),
        Arc::clone(watch.stop),
        Arc::new(AtomicBool::new(false)),
    );
    let ended = Arc::clone(&done);
    let watching = std::thread::spawn(move || {
        while !ended.load(Ordering::Relaxed) {
            if stop.load(Ordering::Relaxed) {
                control.cancel(TICKET);
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    });
    let mut answers = Answers {
        inner: sink,
        decimals,
        declared: Vec::new(),
    };
    let exact = if decimals {
        long_numbers(sql)
    } else {
        sql.to_string()
    };
    let ran = engine.run(TICKET, &exact, &mut answers);
    done.store(true, Ordering::Relaxed);
    // It only sleeps and looks.
    let _ = watching.join();
    ran
}

/// Puts numbers of more digits than a float keeps into quotes: beside decimals they compare digit by digit then.
fn long_numbers(sql: &str) -> String {
    const KEPT: usize = 15;
    let list = tokens(sql, &SQLITE);
    let part = |token: &idle_tide_lang::token::Token| {
        let text = token.of(sql);
        let long =
            token.kind == TokenKind::Number && text.len() > KEPT && is_decimal(text.as_bytes());
        if long {
            format!("'{text}'")
        } else {
            text.to_string()
        }
    };
    list.iter().map(part).collect()
}

/// The ticket of the question in its own engine.
const TICKET: u64 = 1;

/// The rows of a file.
fn file(path: &std::path::Path, watch: &Watch<'_>) -> Result<ResultSet, EngineError> {
    let of = |trouble: Trouble| EngineError::plain(trouble.0);
    let is_stopped = || watch.stopped();
    let spooled = spool(path, &is_stopped).map_err(of)?;
    let proposal = look(&spooled, &Asked::default(), &is_stopped).map_err(of)?;
    let columns = proposal
        .columns
        .iter()
        .map(|column| Column::named(column.name.clone()));
    let mut set = ResultSet::new(columns.collect(), Budget::new(MEMORY), MEMORY);
    let failed = |error: io::Error| Trouble(error.to_string());
    rows(
        spooled.path(),
        &proposal,
        &mut |batch| {
            set.append(batch.rows).map_err(failed)?;
            Ok(!watch.stopped())
        },
        &mut |bad, _| {
            Err(Trouble(format!(
                "{}: {bad}. /load shows every row that does not fit.",
                path.display()
            )))
        },
    )
    .map_err(of)?;
    match watch.stopped() {
        true => Err(stopped()),
        false => Ok(set),
    }
}

/// What a column of the database is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// Exact decimals, perhaps among other numbers.
    Decimals,
    /// Numbers.
    Numbers,
    /// Anything.
    Mixed,
}

/// What the values of some columns are.
fn kinds_of(set: &ResultSet, used: &[usize], stop: &dyn Fn() -> bool) -> io::Result<Vec<Kind>> {
    let mut kinds = vec![(false, true); used.len()];
    each_row(set, None, stop, &mut |_, row| {
        for (kind, column) in kinds.iter_mut().zip(used) {
            let value = row.get(*column);
            kind.0 |= matches!(value, ValueRef::Number(_))
                || (matches!(value, ValueRef::Bson(..)) && value.rank() == 1);
            kind.1 &= value.is_null() || value.rank() == 1;
        }
        true
    })?;
    let kinds = kinds.into_iter().map(|kind| match kind {
        (true, true) => Kind::Decimals,
        (false, true) => Kind::Numbers,
        _ => Kind::Mixed,
    });
    Ok(kinds.collect())
}

/// Makes a table of a result, with the columns that are used; answers whether one of them holds decimals.
fn fill(
    engine: &mut Sqlite,
    table: &Table,
    set: &ResultSet,
    named: &Named,
    watch: &Watch<'_>,
) -> Result<bool, EngineError> {
    let failed = |error: io::Error| match error.kind() {
        io::ErrorKind::Interrupted => stopped(),
        _ => EngineError::plain(error.to_string()),
    };
    let labels = column_labels(set.columns());
    let mut used: Vec<usize> = (0..labels.len())
        .filter(|at| named.uses(&labels[*at]))
        .collect();
    let document = set.holds_documents()
        && named.words.contains(DOCUMENT)
        && !labels.iter().any(|label| label == DOCUMENT);
    if used.is_empty() && !labels.is_empty() {
        // Rows are there even where no column is named.
        used.push(0);
    }
    let stop = || watch.stopped();
    let kinds = kinds_of(set, &used, &stop).map_err(failed)?;
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let names = used
        .iter()
        .map(|at| labels[*at].as_str())
        .chain(document.then_some(DOCUMENT));
    let columns: Vec<String> = names.map(quoted).collect();
    let described = columns
        .iter()
        .enumerate()
        .map(|(at, name)| match kinds.get(at) {
            Some(Kind::Decimals) => format!("{name} {DECIMAL} collate {EXACT}"),
            Some(Kind::Numbers) => format!("{name} collate {EXACT}"),
            _ => name.clone(),
        });
    let described = described.collect::<Vec<_>>().join(", ");
    let name = quoted(&table.name);
    let mut quiet = |sql: &str| {
        engine
            .run(TICKET, sql, &mut idle_tide_engines::Nowhere)
            .map(drop)
    };
    quiet(&format!("create table {name} ({described})"))?;
    quiet("begin")?;
    let into = Destination {
        table: name,
        columns,
        keys: Vec::new(),
        existing: Existing::Refuse,
    };
    let mut batch = RowBatch::new();
    let mut refused = None;
    let mut text = Vec::new();
    let mut count = 0_u64;
    each_row(set, None, &stop, &mut |_, row| {
        for (kind, column) in kinds.iter().zip(&used) {
            let value = row.get(*column);
            match (kind, value) {
                (_, ValueRef::Null | ValueRef::Missing) => batch.push(ValueRef::Null),
                (Kind::Decimals, _) | (_, ValueRef::Number(_) | ValueRef::Bson(..)) => {
                    text.clear();
                    value.write_plain(&mut text);
                    batch.push_text(&text);
                }
                _ => batch.push(value),
            }
        }
        if document {
            let json = row.document().map(|bytes| {
                let mut out = Vec::new();
                extended::write(bytes, extended::Form::Relaxed, &mut out);
                out
            });
            batch.push_text(&json.unwrap_or_default());
        }
        batch.end_row();
        count += 1;
        if batch.encoded() > BATCH {
            let put = engine.put(TICKET, &into, &std::mem::take(&mut batch));
            refused = put.err().map(|not| not.error);
            if count.is_multiple_of(100_000) {
                (watch.tell)(format!(
                    "{} rows of {} are there",
                    idle_tide_core::figures::grouped(count),
                    table.name
                ));
            }
        }
        refused.is_none()
    })
    .map_err(failed)?;
    if refused.is_none() && !batch.is_empty() {
        refused = engine.put(TICKET, &into, &batch).err().map(|not| not.error);
    }
    if let Some(error) = refused {
        return Err(error);
    }
    engine.run(TICKET, "commit", &mut idle_tide_engines::Nowhere)?;
    Ok(kinds.contains(&Kind::Decimals))
}

/// Rows of the answer: digits that came from decimals are numbers again.
struct Answers<'a> {
    inner: &'a mut dyn Sink,
    decimals: bool,
    /// For each column whether it is one of decimals; nothing where it is worked out.
    declared: Vec<Option<bool>>,
}

impl Sink for Answers<'_> {
    fn columns(&mut self, mut columns: Vec<Column>) -> io::Result<()> {
        let declared = |column: &Column| {
            let known = column.origin.is_some() || column.declared.is_some();
            known.then(|| {
                column
                    .declared
                    .as_deref()
                    .is_some_and(|declared| declared.eq_ignore_ascii_case(DECIMAL))
            })
        };
        self.declared = columns.iter().map(declared).collect();
        for (column, declared) in columns.iter_mut().zip(&self.declared) {
            column.declared = (*declared == Some(true)).then(|| "numeric".to_string());
            // Its table is gone with the question.
            (column.origin, column.key, column.optional) = (None, false, None);
        }
        self.inner.columns(columns)
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        if !self.decimals {
            return self.inner.rows(batch);
        }
        let mut changed = RowBatch::with_capacity(batch.encoded(), batch.len());
        for row in batch.rows() {
            for (value, declared) in row.values().zip(&self.declared) {
                changed.push(match value {
                    ValueRef::Text(digits)
                        if *declared != Some(false) && is_decimal(digits.as_bytes()) =>
                    {
                        ValueRef::Number(digits)
                    }
                    other => other,
                });
            }
            changed.end_row();
        }
        self.inner.rows(changed)
    }

    fn end(&mut self) -> io::Result<()> {
        self.inner.end()
    }
}

/// Keeps the rows of a result, in memory and past that on disk.
#[derive(Debug)]
pub struct Keep {
    /// The rows.
    pub set: ResultSet,
    /// Whether a result has begun.
    pub begun: bool,
}

impl Default for Keep {
    fn default() -> Self {
        Keep {
            set: ResultSet::of_rows(Vec::new(), Vec::new()),
            begun: false,
        }
    }
}

impl Sink for Keep {
    fn columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.set = ResultSet::new(columns, Budget::new(MEMORY), MEMORY);
        self.begun = true;
        Ok(())
    }

    fn more_columns(&mut self, columns: Vec<Column>) -> io::Result<()> {
        self.set.set_columns(columns);
        Ok(())
    }

    fn rows(&mut self, batch: RowBatch) -> io::Result<()> {
        self.set.append(batch)
    }
}

/// A question in one line: without comments, and with blanks for line breaks.
pub fn one_line(sql: &str) -> String {
    let list = tokens(sql, &SQLITE);
    let part = |token: &idle_tide_lang::token::Token| match token.kind {
        TokenKind::Space | TokenKind::Comment => " ",
        _ => token.of(sql),
    };
    list.iter().map(part).collect::<String>().trim().to_string()
}
