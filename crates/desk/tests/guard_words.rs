//! What is asked before statements that sweep, in every family: the numbers that would go, what goes with them, what stays, and whether there is
//! a way back.

use std::time::Duration;

use idle_tide_core::{Catalog, Field, Index, Kind, Link, Object};
use idle_tide_desk::guard::{Counted, Ends, counts, name_to_type, question};
use idle_tide_lang::Dialect;
use idle_tide_lang::dialect::{FLOW, MARIADB, POSTGRES, SQLITE, TABULAR};
use idle_tide_lang::statement::summary;

/// Vessels, and visits that hang on them; a view that reads them.
fn catalog(collections: bool) -> Catalog {
    let kind = if collections {
        Kind::Collection
    } else {
        Kind::Table
    };
    let object = |name: &str, kind| {
        let mut object = Object::new("", name, kind);
        object.fields = ["id", "vessel_id", "note"]
            .iter()
            .map(|name| Field {
                name: (*name).into(),
                ..Field::default()
            })
            .collect();
        object
    };
    let mut vessels = object("vessels", kind);
    vessels.bytes = Some(40_960);
    vessels.indexes.push(Index {
        name: "by_note".into(),
        ..Index::default()
    });
    let link = |on_delete: &str| Link {
        columns: vec!["vessel_id".into()],
        table: "vessels".into(),
        their_columns: vec!["id".into()],
        on_delete: on_delete.into(),
        ..Link::default()
    };
    let mut visits = object("visits", kind);
    visits.links.push(link("cascade"));
    let mut tows = object("tows", kind);
    tows.links.push(link("set null"));
    let mut view = object("in_port", Kind::View);
    view.definition = Some("create view in_port as select * from vessels".into());
    let mut trigger = object("no_ghosts", Kind::Trigger);
    trigger.table = Some("vessels".into());
    let objects = match collections {
        true => vec![vessels],
        false => vec![vessels, visits, tows, view, trigger],
    };
    Catalog {
        objects,
        ..Catalog::default()
    }
}

/// The question before a statement, as text; every count is answered with 3.
fn asked(text: &str, dialect: &Dialect, ends: &Ends<'_>) -> String {
    let catalog = catalog(dialect.is_flow());
    let about = summary(text, dialect);
    let wanted = counts(&about.sweeps, &catalog, dialect);
    let answers = vec![Some(3); wanted.len()];
    let found = question(&about.sweeps, &wanted, &answers, &catalog, dialect, ends);
    found.map_or("nothing is asked".into(), |question| {
        format!("{}yes {}", question.page.text(), question.yes)
    })
}

fn each(dialect: &Dialect, lines: &[(&str, &[&str])]) {
    let mut wrong = Vec::new();
    for (text, parts) in lines {
        let found = asked(text, dialect, &Ends::default());
        for part in *parts {
            if !found.contains(part) {
                wrong.push(format!("{text}\n  misses: {part}\n  said: {found}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

const NO_WAY_BACK: &str = "There is no way back, unless begin; comes first";

#[test]
fn rows_that_would_go_are_counted_with_what_hangs_on_them() {
    for dialect in [&SQLITE, &POSTGRES, MARIADB, &TABULAR] {
        each(
            dialect,
            &[
                ("select * from vessels", &["nothing is asked"]),
                ("delete from vessels where id = 1", &["nothing is asked"]),
                (
                    "delete from nowhere_at_all where 1 = 1",
                    &["all 3 rows of nowhere_at_all"],
                ),
                (
                    "delete from vessels",
                    &[
                        "This deletes all 3 rows of vessels.",
                        "with them 3 rows of visits, which refer to them",
                        "and in 3 rows of tows the link to them is taken out",
                        "empties the table and keeps it",
                        "yes deletes all 3 rows",
                    ],
                ),
                (
                    "update vessels set note = null",
                    &[
                        "This changes all 3 rows of vessels.",
                        "every row gets the new values",
                        "yes changes all 3 rows",
                    ],
                ),
                (
                    "drop table vessels",
                    &[
                        "This removes the table vessels with all 3 rows.",
                        "on disk 41.0 kB",
                        "with it 1 index",
                        "with it 1 trigger",
                        "links to it from visits, tows",
                        "read by the view in_port",
                        "delete from would empty it and keep it",
                        "yes removes vessels",
                    ],
                ),
                (
                    "drop view in_port",
                    &["This removes the view in_port.", "No row is lost by this."],
                ),
            ],
        );
    }
    // Where nothing is known of a table that is not there, the server says so itself.
    let catalog = catalog(false);
    let about = summary("delete from nowhere", &SQLITE);
    let wanted = counts(&about.sweeps, &catalog, &SQLITE);
    assert_eq!(
        question(
            &about.sweeps,
            &wanted,
            &[None],
            &catalog,
            &SQLITE,
            &Ends::default()
        ),
        None
    );
}

#[test]
#[allow(clippy::too_many_lines)]
fn what_only_one_family_has_is_told_in_its_words() {
    each(
        &POSTGRES,
        &[
            (
                "truncate vessels",
                &[
                    "This deletes all 3 rows of vessels.",
                    "triggers of single rows do not run",
                    NO_WAY_BACK,
                ],
            ),
            (
                "truncate vessels cascade",
                &[
                    "with them 3 rows of visits",
                    "with them 3 rows of tows",
                    "Every table that refers to it is emptied",
                ],
            ),
            (
                "drop table vessels cascade",
                &["What depends on it goes too: links to it"],
            ),
            (
                "drop schema sheds cascade",
                &["the schema sheds", "Everything in it goes with it"],
            ),
            (
                "drop schema sheds",
                &["The server refuses this while something is in it."],
            ),
            ("drop owned by mate", &["everything here that mate owns"]),
            (
                "drop role mate",
                &["the role mate", "No row is lost by this."],
            ),
            (
                "drop type berth_kind",
                &[
                    "the type berth_kind",
                    "What depends on it keeps the server from it.",
                ],
            ),
            (
                "drop type berth_kind cascade",
                &[
                    "with it 3 columns of this type",
                    "columns with their values in every row",
                ],
            ),
            (
                "drop extension postgis",
                &["the extension postgis", "with it 3 objects of it"],
            ),
            (
                "drop materialized view dues_by_month",
                &["can be worked out again only from its definition"],
            ),
            (
                "drop foreign table far",
                &["What the other server keeps stays there."],
            ),
            (
                "drop database sheds",
                &["the database sheds", "There is no way back."],
            ),
            ("drop tablespace slow", &["There is no way back."]),
            (
                "alter table vessels drop column note",
                &[
                    "This removes the column note of vessels, with its values in all 3 rows.",
                    "yes removes note",
                ],
            ),
            (
                "merge into vessels v using visits s on v.id = s.vessel_id when matched then delete",
                &[
                    "This may delete some or all of the 3 rows of vessels.",
                    "is not known before",
                ],
            ),
            (
                "do $$ begin execute 'drop table ' || x; end $$",
                &[
                    "runs here is put together only when it runs",
                    "cannot say what it changes",
                ],
            ),
        ],
    );
    each(
        MARIADB,
        &[
            (
                "truncate table vessels",
                &[
                    "This deletes all 3 rows of vessels.",
                    "There is no way back.",
                ],
            ),
            (
                "alter table visits drop partition p2031",
                &[
                    "every row in the partition p2031 of visits, which has 3 rows in all",
                    "They cannot be taken back.",
                ],
            ),
            (
                "alter table visits drop index by_note",
                &[
                    "This removes the index by_note of visits.",
                    "No row is lost by this.",
                ],
            ),
            ("delete from vessels limit 2", &["nothing is asked"]),
            (
                "delete from vessels limit 5",
                &["This deletes all 3 rows of vessels."],
            ),
            (
                "drop user mate",
                &["the user mate", "No row is lost by this."],
            ),
            ("drop event nightly", &["the event nightly"]),
            (
                "create or replace table vessels (id int)",
                &[
                    "This removes the table vessels with all 3 rows and makes another one in its place.",
                ],
            ),
        ],
    );
    each(
        &TABULAR,
        &[
            (
                "truncate table vessels",
                &["This deletes all 3 rows of vessels."],
            ),
            (
                "drop index by_note on vessels",
                &["by_note", "No row is lost by this."],
            ),
            ("drop database sheds", &["the database sheds"]),
            ("exec (@words)", &["put together only when it runs"]),
        ],
    );
    each(
        &FLOW,
        &[
            (
                "delete all from vessels",
                &[
                    "This deletes all 3 documents of vessels.",
                    "yes deletes all 3 documents",
                ],
            ),
            (
                "empty vessels",
                &[
                    "This deletes all 3 documents of vessels.",
                    "The collection stays, with its indexes and empty.",
                ],
            ),
            (
                "update all vessels set note = 1",
                &["This changes all 3 documents of vessels."],
            ),
            (
                "drop collection vessels",
                &[
                    "This removes the collection vessels with all 3 documents.",
                    "empty vessels would remove its documents",
                ],
            ),
            (
                "from vessels save over vessels",
                &[
                    "This replaces all 3 documents of vessels.",
                    "save into vessels would add",
                ],
            ),
            (
                "drop database haven",
                &["the database haven", "There is no way back."],
            ),
            (
                "drop index by_note on vessels",
                &["by_note", "No document is lost by this."],
            ),
        ],
    );
}

/// What a transaction around it makes of it, and what ends a transaction that is open.
#[test]
fn the_way_back_depends_on_the_transaction() {
    let within = Ends {
        within: true,
        ..Ends::default()
    };
    for dialect in [&SQLITE, &POSTGRES, &TABULAR] {
        let found = asked("drop table vessels", dialect, &within);
        assert!(
            found.contains("It stands in the open transaction: rollback; takes it back"),
            "{found}"
        );
    }
    let found = asked("drop table vessels", MARIADB, &within);
    assert!(
        found.contains("There is no way back.") && !found.contains("takes it back"),
        "{found}"
    );
    let found = asked("drop database sheds", &POSTGRES, &within);
    assert!(
        found.contains("There is no way back.") && !found.contains("rollback;"),
        "{found}"
    );
    let ends = Ends {
        transaction: Some(Duration::from_secs(90)),
        ..Ends::default()
    };
    let found = asked("truncate table vessels", MARIADB, &ends);
    for part in [
        "The server ends the open transaction before this, and keeps what it has changed.",
        "it has been open for 1 min 30 s",
        "rollback takes nothing of it back then.",
        "yes does all of this",
    ] {
        assert!(found.contains(part), "{part}: {found}");
    }
}

/// On a source of which much depends a name has to be typed, for what takes objects away or empties them, and for nothing else.
#[test]
fn a_name_has_to_be_typed_for_what_cannot_be_had_again() {
    for (text, dialect, name) in [
        (
            "drop table harbour.vessels",
            &POSTGRES,
            Some("harbour.vessels"),
        ),
        ("drop table \"High Water\"", &SQLITE, Some("High Water")),
        ("truncate vessels", &POSTGRES, Some("vessels")),
        ("drop database sheds", &POSTGRES, Some("sheds")),
        ("drop collection vessels", &FLOW, Some("vessels")),
        ("delete from vessels", &POSTGRES, None),
        ("update vessels set note = 1", &POSTGRES, None),
        ("alter table vessels drop column note", &POSTGRES, None),
    ] {
        let about = summary(text, dialect);
        assert_eq!(name_to_type(&about.sweeps), name, "{text}");
    }
    let about = summary("drop role mate", &POSTGRES);
    let wanted = counts(&about.sweeps, &Catalog::default(), &POSTGRES);
    assert!(
        wanted
            .iter()
            .all(|count| matches!(count.of, Counted::Things(_))),
        "{wanted:?}"
    );
}
