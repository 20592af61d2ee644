//! Joins that are said to multiply rows against the database: where it is not said no row finds several others, whatever
//! is in the tables, and no row of a sum comes again.

use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::multiply::joins;
use proptest::prelude::*;

use crate::made;

const SCHEMA: &str = "
create table owners (id integer primary key, town integer, n integer);
create table vessels (id integer primary key, owner_id integer, sign integer unique, n integer);
create table visits (id integer primary key, vessel_id integer, berth integer, tide integer, n integer, unique (berth, tide));
create table papers (vessel_id integer primary key, n integer);
create table services (visit_id integer, kind integer, n integer, primary key (visit_id, kind));";

const TABLES: [(&str, &[&str]); 5] = [
    ("owners", &["id", "town", "n"]),
    ("vessels", &["id", "owner_id", "sign", "n"]),
    ("visits", &["id", "vessel_id", "berth", "tide", "n"]),
    ("papers", &["vessel_id", "n"]),
    ("services", &["visit_id", "kind", "n"]),
];

/// A query of two or three tables: what stands behind `from`, and the aliases.
fn query() -> impl Strategy<Value = (String, Vec<String>)> {
    let pick = any::<prop::sample::Index>;
    let condition = (0_u8..12, pick(), pick(), pick(), 0_i64..4);
    let joined = (pick(), proptest::collection::vec(condition, 1..3), 0_u8..4);
    let chosen = proptest::option::of((pick(), pick(), 0_i64..4));
    (pick(), proptest::collection::vec(joined, 1..3), chosen).prop_map(|(first, rest, chosen)| {
        let mut tables = vec![first.index(TABLES.len())];
        let alias = |at: usize| ["a", "b", "c"][at].to_string();
        let mut from = format!("{} a", TABLES[tables[0]].0);
        for (table, conditions, how) in rest {
            let at = tables.len();
            tables.push(table.index(TABLES.len()));
            let column = |of: usize, index: &prop::sample::Index| {
                let columns = TABLES[tables[of]].1;
                format!("{}.{}", alias(of), columns[index.index(columns.len())])
            };
            let one = |(kind, own, other, earlier, value): &(
                u8,
                prop::sample::Index,
                prop::sample::Index,
                prop::sample::Index,
                i64,
            )| {
                let own = column(at, own);
                let other = column(earlier.index(at), other);
                match kind {
                    0..=6 => format!("{own} = {other}"),
                    7 => format!("{other} = {own}"),
                    8 => format!("{own} = {value}"),
                    9 => format!("({own} = {other})"),
                    10 => format!("{own} > {value}"),
                    _ => format!("({own} = {other} or {own} = {value})"),
                }
            };
            let conditions: Vec<String> = conditions.iter().map(one).collect();
            let join = if how == 0 { "left join" } else { "join" };
            from.push_str(&format!(
                " {join} {} {} on {}",
                TABLES[tables[at]].0,
                alias(at),
                conditions.join(" and ")
            ));
        }
        if let Some((table, column, value)) = chosen {
            let at = table.index(tables.len());
            let columns = TABLES[tables[at]].1;
            from.push_str(&format!(
                " where {}.{} = {value}",
                alias(at),
                columns[column.index(columns.len())]
            ));
        }
        (from, (0..tables.len()).map(alias).collect())
    })
}

/// Tables with as many rows of small numbers as their keys let in.
fn filled(seed: u64) -> rusqlite::Connection {
    let file = rusqlite::Connection::open_in_memory().expect("opens");
    file.execute_batch(SCHEMA).expect("made");
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut number = move || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 33) % 4
    };
    for (table, columns) in TABLES {
        for _ in 0..24 {
            let values: Vec<String> = columns.iter().map(|_| number().to_string()).collect();
            // What a key holds back is not there.
            let sql = format!(
                "insert or ignore into {table} ({}) values ({})",
                columns.join(", "),
                values.join(", ")
            );
            file.execute(&sql, []).expect("in");
        }
    }
    file
}

/// How many rows of a table a row of those before it finds, at most.
fn finds(file: &rusqlite::Connection, from: &str, aliases: &[String], at: usize) -> i64 {
    let before: Vec<String> = aliases[..at]
        .iter()
        .map(|alias| format!("{alias}.rowid"))
        .collect();
    let sql = format!(
        "select coalesce(max(n), 0) from (select count(distinct {}.rowid) as n from {from} group by {})",
        aliases[at],
        before.join(", ")
    );
    file.query_row(&sql, [], |row| row.get(0))
        .unwrap_or_else(|error| panic!("{sql}: {error}"))
}

/// How often a row of a table comes, at most.
fn comes(file: &rusqlite::Connection, from: &str, alias: &str) -> i64 {
    let sql = format!(
        "select coalesce(max(n), 0) from (select count(*) as n from {from} group by {alias}.rowid having {alias}.rowid is not null)"
    );
    file.query_row(&sql, [], |row| row.get(0)).expect("counts")
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn what_is_said_of_joins_is_so((from, aliases) in query()) {
        let (_, catalog) = made(SCHEMA);
        let statement = format!("select 1 from {from}");
        let found = joins(&statement, &catalog, &SQLITE);
        let files: Vec<_> = (1..7).map(filled).collect();
        for at in 1..aliases.len() {
            let place = statement.find(&format!(" {} on ", aliases[at])).expect("a place");
            let named = statement[..place].rfind(' ').expect("a blank") + 1;
            let said = found.many.contains(&named);
            let most = files.iter().map(|file| finds(file, &from, &aliases, at)).max().unwrap_or(0);
            prop_assert!(said || most <= 1, "{} finds {most} rows, and that is not said: {statement}", aliases[at]);
        }
        // A sum takes a row once, or it is said that it does not.
        for alias in &aliases {
            let statement = format!("select sum({alias}.n) from {from}");
            let said = !joins(&statement, &catalog, &SQLITE).said.is_empty();
            let most = files.iter().map(|file| comes(file, &from, alias)).max().unwrap_or(0);
            prop_assert!(said || most <= 1, "a row of {alias} comes {most} times, and that is not said: {statement}");
        }
    }
}
