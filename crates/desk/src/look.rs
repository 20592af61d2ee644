//! A change that is looked at before it is kept: it runs inside a transaction that is held open, and its rows are shown
//! as they were before and as they would be. How it ends is in `held`; what runs without a look is in
//! `verbs::statement`.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use idle_tide_core::result::ResultSet;
use idle_tide_core::{Catalog, Object, Value};
use idle_tide_draw::picture::{counted, grouped, lasting};
use idle_tide_engines::{Connection, EngineError, Fault, Nowhere, Outcome};
use idle_tide_lang::dialect::Family;
use idle_tide_lang::statement::{Change, Does};
use parking_lot::RwLock;

use crate::changed_rows::{ID, Key, MOST, Pairs, Rows, side_by_side, which};
use crate::count::count_one;
use crate::entry::Content;
use crate::face::{Request, Returned};
use crate::guard;
use crate::held::Watch;
use crate::holding::{HOLD, Held, Holding, capital};
use crate::page::{Page, Tone};
use crate::reversible;
use crate::session::{Next, Task, Turn};
use crate::sheet::Sheet;
use crate::task::{Bench, Lane, Work};

/// Documents that are shown of a change: files are read from their beginning for them.
const MOST_DOCUMENTS: usize = 500;
/// Rows that are asked for by their keys at once, where a condition tells each apart: SQLite takes a depth of a thousand.
const AT_ONCE: usize = 500;
/// The same where one column is the key: of a longer list MariaDB makes a table.
const IN_A_LIST: usize = 999;
/// The same of PostgreSQL, which looks a list up in a hash table.
const IN_A_LONG_LIST: usize = 5_000;
/// A change that names so many rows by their key, or fewer, is not looked at first, unless the settings say otherwise.
const LOOK_FROM: usize = 10;
/// Storage engines of MariaDB and MySQL that can take changes back.
const CAN_TAKE_BACK: &[&str] = &["innodb", "rocksdb", "ndbcluster", "ndb", "tokudb", "spider"];

/// What becomes of a change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Way {
    /// It runs at once: what it names is little, and the check comes after it.
    Straight,
    /// It is held and looked at.
    Held,
    /// It cannot be taken back, for this reason.
    CannotBeHeld(String),
}

/// What becomes of a change in a session, by the catalog and the settings.
pub(crate) fn way(turn: &Turn<'_>, change: &Change) -> Way {
    let session = &turn.session;
    if !session.bearings.has_transactions {
        return Way::CannotBeHeld("there are no transactions here".into());
    }
    let settings = turn.services.settings();
    let object = session.catalog.table(&change.table.shown);
    let mut keys = object.map_or(Vec::new(), Object::keys);
    if session.dialect.is_flow() {
        // A transaction with documents has no savepoint; rollback takes everything back.
        if session.bearings.transaction.is_some() {
            return Way::Straight;
        }
        keys.push(vec![ID]);
    }
    let from = settings.look_from.unwrap_or(LOOK_FROM);
    let named = keys.iter().filter_map(|key| change.rows_by_key(key)).min();
    if named.is_some_and(|rows| rows < from) {
        return Way::Straight;
    }
    if let Some(object) = object {
        let engine = object.facts.iter().find(|(name, _)| name == "engine");
        if let Some((_, engine)) = engine
            && session.dialect.family == Family::Mariadb
            && !CAN_TAKE_BACK.contains(&engine.to_ascii_lowercase().as_str())
        {
            return Way::CannotBeHeld(format!("the storage engine {engine} takes nothing back"));
        }
    }
    match settings.hold_minutes {
        Some(minutes) if minutes <= 0.0 => {
            Way::CannotBeHeld("hold-minutes is 0 in the settings".into())
        }
        _ => Way::Held,
    }
}

/// The query that reads a few of the rows that a change chooses.
pub(crate) fn sample_of(change: &Change, dialect: &idle_tide_lang::Dialect) -> Option<String> {
    let chosen = change.chosen.as_ref().filter(|chosen| !chosen.limited)?;
    let query = chosen.query(&format!("{}.*", chosen.called));
    Some(format!("{query}{}", dialect.limit(4, false)))
}

/// The query that reads the rows of an update as they are after it, where their key chose them and stays.
pub(crate) fn afterwards(turn: &Turn<'_>, change: &Change) -> Option<String> {
    let chosen = change.chosen.as_ref()?;
    let object = turn.session.catalog.table(&change.table.shown);
    let key = Key::of(change, object, turn.session.dialect);
    let names: Vec<&str> = key.columns.iter().map(String::as_str).collect();
    let plain = change.does == Does::Update && !change.sets_one_of(&names);
    let chosen = Some(chosen).filter(|_| plain && change.rows_by_key(&names).is_some())?;
    Some(chosen.query(&key.read(&chosen.called)))
}

/// The statement that makes a change, and what is said of how it ended.
pub(crate) trait Statement: Send {
    /// The statement as it is sent.
    fn text(&self) -> &str;

    /// Takes note of the transaction around it.
    fn notes_around(&mut self, turn: &Turn<'_>);

    /// It ran and gave no rows.
    fn ended_well(&self, turn: &mut Turn<'_>, outcome: Outcome) -> Next;

    /// It was stopped, refused or lost.
    fn ended_badly(self: Box<Self>, turn: &mut Turn<'_>, error: EngineError) -> Next;

    /// It cannot be held after all: it is asked about.
    fn asks_instead(self: Box<Self>, turn: &mut Turn<'_>, change: Change, why: String) -> Next;
}

/// Looks at a change.
pub(crate) struct Look {
    run: Box<dyn Statement>,
    change: Change,
    key: Key,
    /// Whether the user's own transaction is open.
    within: bool,
    /// Whether other rows may be changed with it: by links that cascade, by triggers.
    reaches: bool,
    /// Queries that count the rows of other tables that go with those it deletes, where the server does not tell.
    takes: Vec<(String, String)>,
    /// Tables whose rows are the table's own.
    parts: Vec<String>,
    seen: Option<Seen>,
    /// Nothing was changed, so there is nothing to hold.
    idle: bool,
    /// Why it could not be held after all; nothing was done then.
    cannot: Option<String>,
}

/// What was seen of it.
struct Seen {
    outcome: Outcome,
    rows: Option<Shown>,
    elsewhere: Elsewhere,
}

/// The rows that it chooses, or makes, as they are shown.
struct Shown {
    set: ResultSet,
    /// Columns that stand before and after.
    pairs: Pairs,
    count: u64,
    /// Whether there are more than are shown.
    more: bool,
    /// Whether a key tells them apart.
    keyed: bool,
    /// Whether they stand before and after.
    compared: bool,
}

impl Shown {
    fn of(rows: Rows, after: Option<Rows>) -> Self {
        let (count, more, keyed) = (rows.rows.len() as u64, rows.more, !rows.key.is_empty());
        let compared = after.is_some();
        let (set, pairs) = side_by_side(rows, after);
        Shown {
            set,
            pairs,
            count,
            more,
            keyed,
            compared,
        }
    }
}

/// Rows of other tables that were changed with it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Elsewhere {
    /// By table, where the server tells.
    tables: Vec<(String, u64)>,
    /// In all, where it tells no more.
    rows: u64,
    /// Whether there may be some and the server tells of none.
    unknown: bool,
}

impl Look {
    /// Looks at the change that a statement makes.
    pub(crate) fn at(turn: &Turn<'_>, run: Box<dyn Statement>, change: Change) -> Self {
        let session = &turn.session;
        let object = session.catalog.table(&change.table.shown);
        let key = Key::of(&change, object, session.dialect);
        let takes = match (&change.chosen, session.dialect.family) {
            (_, Family::Postgres) => Vec::new(),
            (Some(chosen), _) if change.does == Does::Delete => {
                let table = &change.table.shown;
                guard::gone_with(table, chosen, &session.catalog, session.dialect)
            }
            _ => Vec::new(),
        };
        Look {
            takes,
            reaches: object.is_none_or(|object| reaches(object, &session.catalog)),
            parts: object.map_or(Vec::new(), |object| parts(object, &session.catalog)),
            within: session.bearings.transaction.is_some(),
            run,
            change,
            key,
            seen: None,
            idle: false,
            cannot: None,
        }
    }

    /// The rows that it chooses, before it; `begins` if what can be taken back begins with that.
    fn before(
        &self,
        connection: &mut dyn Connection,
        ticket: u64,
        begins: bool,
    ) -> Result<Option<Rows>, EngineError> {
        let Some(chosen) = &self.change.chosen else {
            return Ok(None);
        };
        let mut query = chosen.query(&self.key.read(&chosen.called));
        let most = match connection.dialect().is_flow() {
            true => MOST_DOCUMENTS,
            false => MOST,
        };
        if !chosen.limited {
            query.push_str(&connection.dialect().limit(most + 1, false));
        }
        // Nobody changes them between this and the statement.
        let locks = matches!(
            connection.dialect().family,
            Family::Postgres | Family::Mariadb
        );
        let locks = locks && !chosen.joined;
        if locks {
            query.push_str(" for update");
        }
        if begins {
            // Both go to a server in one round trip.
            let beginning = reversible::beginning(connection.dialect().family, self.within);
            query = format!("{beginning}; {query}");
        }
        let mut rows = Rows::at_most(most);
        connection.run(ticket, &query, &mut rows)?;
        rows.fill();
        rows.key = rows.places(&self.key.columns);
        if chosen.joined {
            rows.once();
        }
        Ok(Some(rows))
    }

    /// Whether what can be taken back begins together with the reading of the rows.
    fn begins_reading(&self, connection: &dyn Connection) -> bool {
        let server = matches!(
            connection.dialect().family,
            Family::Postgres | Family::Mariadb
        );
        server && !self.within && self.change.chosen.is_some()
    }

    /// The same rows, as they are after it.
    fn after(
        &self,
        connection: &mut dyn Connection,
        ticket: u64,
        before: &Rows,
    ) -> Result<Option<Rows>, EngineError> {
        let names: Vec<&str> = self.key.columns.iter().map(String::as_str).collect();
        if before.key.is_empty()
            || self.change.does != Does::Update
            || self.change.sets_one_of(&names)
        {
            return Ok(None);
        }
        let dialect = connection.dialect();
        let mut found = Rows::default();
        let at_once = match (dialect.family, self.key.columns.len()) {
            (Family::Postgres, 1) => IN_A_LONG_LIST,
            (Family::Mariadb | Family::Sqlite, 1) => IN_A_LIST,
            _ => AT_ONCE,
        };
        for some in before.rows.chunks(at_once) {
            let table = &self.change.table.written;
            let read = self.key.read_alone();
            let keys = which(&self.key, some, &before.key, dialect);
            let query = match dialect.is_flow() {
                true => format!("from {table} where {keys}"),
                false => format!("select {read} from {table} where {keys}"),
            };
            let mut rows = Rows::default();
            connection.run(ticket, &query, &mut rows)?;
            rows.fill();
            found.add(rows);
        }
        Ok(Some(found))
    }

    /// The largest number among the keys, before rows are inserted.
    fn largest(
        &self,
        connection: &mut dyn Connection,
        ticket: u64,
    ) -> Result<Option<i64>, EngineError> {
        let [key] = self.key.columns.as_slice() else {
            return Ok(None);
        };
        if self.change.does != Does::Insert || !self.key.counts {
            return Ok(None);
        }
        let (name, table) = (
            self.key.name(key, connection.dialect()),
            &self.change.table.written,
        );
        let mut rows = Rows::default();
        connection.run(
            ticket,
            &format!("select max({name}) from {table}"),
            &mut rows,
        )?;
        Ok(match rows.rows.first().and_then(|row| row.first()) {
            Some(Value::Integer(number)) => Some(*number),
            _ => None,
        })
    }

    /// The rows that an insert made: those with a key above the largest before.
    fn inserted(
        &self,
        connection: &mut dyn Connection,
        ticket: u64,
        above: i64,
    ) -> Result<Rows, EngineError> {
        let name = self.key.name(&self.key.columns[0], connection.dialect());
        let table = &self.change.table.written;
        let query = format!(
            "select {} from {table} where {name} > {above} order by {name}{}",
            self.key.read_alone(),
            connection.dialect().limit(MOST + 1, true)
        );
        let mut rows = Rows::default();
        connection.run(ticket, &query, &mut rows)?;
        rows.key = rows.places(&self.key.columns);
        Ok(rows)
    }

    fn look(&self, connection: &mut dyn Connection, ticket: u64) -> Result<Seen, EngineError> {
        let begins = self.begins_reading(connection);
        let rows = match self.before(connection, ticket, begins) {
            // The statement itself says what is wrong, or runs all the same.
            Err(error) if is_refusal(&error) => {
                reversible::take_back(connection, self.within)?;
                reversible::begin(connection, ticket, self.within)?;
                None
            }
            rows => rows?,
        };
        let largest = self.largest(connection, ticket)?;
        let mut taken = Vec::new();
        for (table, query) in &self.takes {
            if let Some(count) = count_one(connection, ticket, query)?.filter(|count| *count > 0) {
                taken.push((table.clone(), count));
            }
        }
        let counts = self.touched(connection, ticket, false)?;
        let outcome = connection.run(ticket, self.run.text(), &mut Nowhere)?;
        let touched = self.touched(connection, ticket, true)?;
        let changed = outcome.changed.unwrap_or(0);
        let rows = match largest {
            Some(largest) => Some(self.inserted(connection, ticket, largest)?),
            None => rows,
        };
        let after = match &rows {
            Some(rows) => self.after(connection, ticket, rows)?,
            None => None,
        };
        let unknown = self.reaches && changed > 0 && touched.is_none();
        let (counts, touched) = (counts.unwrap_or_default(), touched.unwrap_or_default());
        let mut elsewhere = self.elsewhere(counts, touched, changed);
        elsewhere.unknown = unknown;
        let named = taken.iter().map(|(_, count)| count).sum();
        elsewhere.rows = elsewhere.rows.saturating_sub(named);
        elsewhere.tables.extend(taken);
        Ok(Seen {
            outcome,
            // A hundred thousand rows take their time, and the interface does not wait for it.
            rows: rows.map(|rows| Shown::of(rows, after)),
            elsewhere,
        })
    }

    /// How many rows the transaction has changed so far, by table, before or after the change; `None` if the server does
    /// not tell.
    fn touched(
        &self,
        connection: &mut dyn Connection,
        ticket: u64,
        after: bool,
    ) -> Result<Option<Vec<(String, u64)>>, EngineError> {
        let question = match connection.dialect().family {
            _ if !self.reaches => return Ok(None),
            // These counts begin before the transaction does.
            Family::Postgres => {
                "select relname, n_tup_ins + n_tup_upd + n_tup_del from pg_catalog.pg_stat_xact_user_tables where n_tup_ins + n_tup_upd + n_tup_del > 0"
            }
            Family::Mariadb if after || self.within => {
                return rows_of_transaction(connection, ticket);
            }
            Family::Sqlite => "select '', total_changes()",
            _ => return Ok(None),
        };
        let mut rows = Rows::default();
        let asked = match connection.dialect().family {
            Family::Postgres => reversible::protected(connection, |connection| {
                connection.run(ticket, question, &mut rows)
            }),
            _ => connection.run(ticket, question, &mut rows),
        };
        match asked {
            // Not everybody may ask.
            Err(error) if is_refusal(&error) => {
                return Ok(None);
            }
            asked => asked?,
        };
        let number = |value: &Value| value.as_ref().plain().parse().unwrap_or(0);
        let rows = rows.rows.iter();
        let counts = rows.map(|row| (row[0].as_ref().plain(), number(&row[1])));
        Ok(Some(counts.collect()))
    }

    /// What was changed besides the rows of the table itself.
    fn elsewhere(
        &self,
        before: Vec<(String, u64)>,
        after: Vec<(String, u64)>,
        changed: u64,
    ) -> Elsewhere {
        let own = self.change.table.shown.rsplit('.').next().unwrap_or("");
        let mut found = Elsewhere::default();
        for (table, count) in after {
            let was = before.iter().find(|(name, _)| *name == table);
            let more = count.saturating_sub(was.map_or(0, |(_, was)| *was));
            match table.as_str() {
                "" => found.rows = more.saturating_sub(changed),
                name if name.eq_ignore_ascii_case(own) || self.parts.iter().any(|p| p == name) => {}
                _ if more > 0 => found.tables.push((table, more)),
                _ => {}
            }
        }
        // A key that is changed counts twice in some books.
        if self.change.sets_one_of(
            &self
                .key
                .columns
                .iter()
                .map(String::as_str)
                .collect::<Vec<_>>(),
        ) {
            found.rows = 0;
        }
        found
    }
}

/// How many rows the transaction has changed so far, as a server of the MySQL family tells of it; `None` if it does not.
///
/// The status of its engine says so of now, with the statement each session runs, so that a remark nobody else makes finds
/// the own one. (Its table of transactions is of some moment before for as long as anybody reads it often.)
fn rows_of_transaction(
    connection: &mut dyn Connection,
    ticket: u64,
) -> Result<Option<Vec<(String, u64)>>, EngineError> {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH);
    let nanoseconds = now.map_or(0, |now| now.as_nanos());
    let remark = format!("/* looked at by {} at {nanoseconds} */", std::process::id());
    let question = format!("show engine innodb status {remark}");
    // A session that another looks at in this moment is listed without its statement.
    for _ in 0..3 {
        let mut rows = Rows::default();
        match connection.run(ticket, &question, &mut rows) {
            // Not everybody may ask.
            Err(error) if is_refusal(&error) => return Ok(None),
            asked => asked?,
        };
        let status = rows.rows.first().and_then(|row| row.last());
        let status = status.map_or(String::new(), |status| status.as_ref().plain());
        if let Some(count) = undo_entries(&status, &remark) {
            return Ok(Some(vec![(String::new(), count)]));
        }
    }
    Ok(None)
}

/// How many rows a transaction has changed, from the status of the engine (its undo log has an entry a row): the
/// transaction of the session whose statement has the remark in it. `None` where the list is cut, or does not have it.
fn undo_entries(status: &str, remark: &str) -> Option<u64> {
    let (_, list) = status.split_once("LIST OF TRANSACTIONS")?;
    let mut each = list.split("---TRANSACTION").skip(1);
    let own = each.find(|part| part.contains(remark))?;
    let Some((_, entries)) = own.split_once("undo log entries ") else {
        return Some(0);
    };
    entries
        .split(|c: char| !c.is_ascii_digit())
        .next()?
        .parse()
        .ok()
}

/// Whether the server refused it, and goes on.
fn is_refusal(error: &EngineError) -> bool {
    matches!(error.fault, Fault::Statement | Fault::Other | Fault::Denied)
}

/// Whether a change of a table may change rows of others: by links to it, or by triggers, its views' ones too.
fn reaches(object: &Object, catalog: &Catalog) -> bool {
    let acts = |on: &str| !on.is_empty() && !matches!(on, "no action" | "restrict");
    object.is_view()
        || catalog
            .referring(object)
            .any(|(_, link)| acts(&link.on_delete) || acts(&link.on_update))
        || catalog.objects.iter().any(|other| {
            other.kind == idle_tide_core::Kind::Trigger
                && other.table.as_deref() == Some(object.name.as_str())
        })
}

/// The partitions of a table, and their partitions.
fn parts(object: &Object, catalog: &Catalog) -> Vec<String> {
    let mut found = vec![object.name.clone()];
    let mut at = 0;
    while let Some(name) = found.get(at).cloned() {
        let of = |part: &&Object| {
            let whole = part.partition_of.as_deref();
            whole.is_some_and(|whole| whole.rsplit('.').next() == Some(name.as_str()))
        };
        found.extend(catalog.objects.iter().filter(of).map(|o| o.name.clone()));
        at += 1;
    }
    found
}

impl Work for Look {
    fn lane(&self) -> Lane {
        Lane::Connection
    }

    fn work(&mut self, at: &mut Bench<'_>) -> Result<(), EngineError> {
        let ticket = at.ticket;
        let connection = at.connection()?;
        let begun = match self.begins_reading(connection) {
            true => Ok(()),
            false => reversible::begin(connection, ticket, self.within),
        };
        match begun {
            // A server that makes no savepoint here.
            Err(error) if self.within && is_refusal(&error) => {
                self.cannot = Some(format!("the server says: {}", error.message));
                return Ok(());
            }
            begun => begun?,
        }
        match self.look(connection, ticket) {
            Ok(seen) => {
                self.idle =
                    seen.outcome.changed == Some(0) && seen.elsewhere == Elsewhere::default();
                self.seen = Some(seen);
                match self.idle {
                    true => reversible::keep(connection, self.within).map(drop),
                    false => Ok(()),
                }
            }
            Err(error) => {
                // Where the server has ended the transaction, there is nothing left to take back.
                if !matches!(error.fault, Fault::Lost | Fault::NotSent)
                    && let Err(also) = reversible::take_back(connection, self.within)
                {
                    tracing::warn!(?also, "a change that was refused could not be taken back");
                }
                Err(error)
            }
        }
    }
}

impl Task for Look {
    fn begin(&mut self, turn: &mut Turn<'_>) {
        self.run.notes_around(turn);
    }

    fn ended(mut self: Box<Self>, turn: &mut Turn<'_>, how: Result<(), EngineError>) -> Next {
        if let Err(error) = how {
            return self.run.ended_badly(turn, error);
        }
        let Some(seen) = self.seen.take() else {
            let why = self.cannot.take().unwrap_or_default();
            return self.run.asks_instead(turn, self.change, why);
        };
        // A statement that ended the transaction by itself has kept what it did.
        if self.idle || turn.session.bearings.transaction.is_none() {
            return self.run.ended_well(turn, seen.outcome);
        }
        let thing = turn.session.dialect.row();
        let what = in_words(&self.change, &seen.outcome, thing);
        let minutes = turn.services.settings().hold_minutes;
        let limit = minutes.and_then(|minutes| Duration::try_from_secs_f64(minutes * 60.0).ok());
        let limit = limit.unwrap_or(HOLD);
        let page = self.page(turn, &seen, &what, limit);
        let held = Held::new(
            turn.entry.unwrap_or(0),
            what,
            &self.change.table.shown,
            self.within,
            limit,
        );
        turn.services
            .held_is(&turn.session.source, Some((&held.what, false)));
        turn.start(Watch::over(&held));
        turn.session.held = Some(held);
        let content = match seen.rows {
            Some(rows) if rows.count > 0 => {
                let covering = turn.services.covering.clone();
                let mut sheet = Sheet::new(Arc::new(RwLock::new(rows.set))).covered_by(covering);
                sheet.pairs = rows.pairs;
                Content::Rows(sheet)
            }
            _ => Content::Page(page.clone()),
        };
        if let Some(own) = turn.own() {
            own.outcome = Some(seen.outcome);
            own.holding = Some(Holding::Held);
            if matches!(content, Content::Rows(_)) {
                own.above = Some(page);
            }
        }
        // Nothing runs past it before it is kept or taken back.
        let rest = turn.waiting.span.end;
        turn.session
            .give_back(turn.waiting, rest, Returned::default());
        turn.request(Request::Read);
        Next::Done(content)
    }
}

impl Look {
    /// What is said above the rows.
    fn page(&self, turn: &Turn<'_>, seen: &Seen, what: &str, limit: Duration) -> Page {
        let mut page = Page::of_sentences();
        let thing = turn.session.dialect.row();
        page.say(
            Tone::Care,
            format!("{}: held, and not kept yet.", capital(what)),
        );
        let tables = seen.elsewhere.tables.iter();
        let mut with: Vec<String> = tables
            .map(|(name, count)| format!("{} of {name}", counted(*count, thing)))
            .collect();
        if seen.elsewhere.rows > 0 {
            let more = if with.is_empty() { "" } else { "more " };
            with.push(format!(
                "{} {more}of other tables",
                counted(seen.elsewhere.rows, thing)
            ));
        }
        if !with.is_empty() {
            let with = with.join(", ");
            page.say(
                Tone::Plain,
                format!("With them, by links and triggers: {with}."),
            );
        }
        if seen.elsewhere.unknown {
            page.say(
                Tone::Care,
                "Links or triggers may have changed rows of other tables; how many the server does not tell.",
            );
        }
        for note in &seen.outcome.notes {
            page.say(Tone::Care, note.clone());
        }
        if let Some(words) = self.rows_in_words(seen, thing) {
            page.say(Tone::Plain, words);
        }
        let session = &turn.session;
        let files = session.dialect.is_flow() && session.bearings.server.is_none();
        let others = match session.dialect.family {
            _ if files => "and the files stay as they are until then",
            Family::Sqlite => "and whoever writes to this file waits",
            Family::Documents => "and whoever writes to these documents is refused",
            _ => "and whoever writes to these rows waits",
        };
        let minutes = match limit.as_secs() {
            seconds if seconds > 0 && seconds % 60 == 0 => counted(seconds / 60, "minute"),
            _ => lasting(limit),
        };
        page.say(
            Tone::Faint,
            format!(
                "Nobody else sees it yet, {others}. /keep or K keeps it, /take-back or T takes it back; after {minutes} that happens by itself."
            ),
        );
        page
    }

    /// What the rows below show, where that is not plain.
    fn rows_in_words(&self, seen: &Seen, thing: &str) -> Option<String> {
        let rows = match &seen.rows {
            None if self.change.does == Does::Insert => return None,
            None => return Some("Which rows they are cannot be read before.".into()),
            Some(rows) => rows,
        };
        let changed = seen.outcome.changed.unwrap_or(0);
        let shown = rows.count;
        let part = match (self.change.does, rows.compared) {
            (Does::Delete, _) => "as they were",
            (Does::Insert, _) => "as they would be: those with a key above the largest before",
            (_, true) => "before and after",
            _ if !rows.keyed => {
                "as they were: no key tells them apart, so they cannot be shown as they would be"
            }
            _ => {
                "as they were: the key itself is changed, so they cannot be shown as they would be"
            }
        };
        if rows.more {
            return Some(format!(
                "The first {} {thing}s of them are shown {part}.",
                grouped(shown)
            ));
        }
        if shown != changed && self.change.does == Does::Insert {
            return Some(format!("{} of them are shown {part}.", grouped(shown)));
        }
        if shown != changed {
            return Some(format!(
                "Its condition chooses {}, shown {part}; the server counts {} as changed.",
                counted(shown, thing),
                grouped(changed)
            ));
        }
        (!rows.compared && self.change.does == Does::Update).then(|| format!("Shown {part}."))
    }
}

/// `12 rows of berths changed`.
fn in_words(change: &Change, outcome: &Outcome, thing: &str) -> String {
    let count = match outcome.changed {
        Some(count) => counted(count, thing),
        None => format!("{thing}s"),
    };
    let table = &change.table;
    match change.does {
        Does::Update => format!("{count} of {table} changed"),
        Does::Delete => format!("{count} deleted from {table}"),
        Does::Insert => format!("{count} inserted into {table}"),
        Does::Merge => format!("{count} merged into {table}"),
    }
}
