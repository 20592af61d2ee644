//! The way from any table to any other, as a join, against the database: also with names that need quotes, keys of several
//! columns, links to the same table, and links that are only likely.

use idle_tide_core::links::{declared, likely, routes};
use idle_tide_engines::Connection;
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::join::statement;
use idle_tide_lang::multiply::joins;

use crate::{Nothing, made};

/// Names that nobody should choose, and links of all kinds.
const NASTY: &str = "
create table \"order\" (\"select\" integer primary key, \"from where\" text, parent integer references \"order\" (\"select\"));
create table \"Group's \"\"things\"\"\" (a integer, b text, primary key (a, b));
create table links (id integer primary key, \"order\" integer references \"order\", x integer, y text, foreign key (x, y) references \"Group's \"\"things\"\"\" (a, b));
create table as_is (id integer primary key, first_order integer references \"order\", second_order integer references \"order\", links_id integer);
create table o (id integer primary key, link integer references links);
create table \"häfen\" (\"größe\" integer primary key, o integer unique references o);
create table alone (id integer primary key);
create view seen as select * from links;";

#[test]
fn a_way_between_any_two_tables_is_a_statement_that_is_understood() {
    for (schema, least) in [(idle_tide_harbour::SQLITE_SCHEMA, 200), (NASTY, 20)] {
        let (mut source, catalog) = made(schema);
        let mut ties = declared(&catalog);
        ties.extend(likely(&catalog, &ties));
        let tables: Vec<usize> = (0..catalog.objects.len())
            .filter(|at| catalog.objects[*at].has_rows())
            .collect();
        let mut ways = 0;
        for from in &tables {
            for to in &tables {
                for route in routes(&ties, &[*from, *to], 3) {
                    ways += 1;
                    let text = statement(&route, &ties, &catalog, &SQLITE);
                    let (start, end) = (&catalog.objects[*from].name, &catalog.objects[*to].name);
                    source
                        .run(2, &format!("explain {text}"), &mut Nothing)
                        .unwrap_or_else(|error| panic!("{start} to {end}: {error}\n{text}"));
                    // What it reads is what was asked for.
                    let named = |name: &str| text.contains(&SQLITE.quote_name(name));
                    assert!(named(start) && named(end), "{start} to {end}: {text}");
                    // Each of its joins is one that can be judged by keys.
                    assert!(
                        joins(&text, &catalog, &SQLITE).many.len() < route.tables().len(),
                        "{text}"
                    );
                }
            }
        }
        assert!(ways >= least, "{ways}");
    }
}
