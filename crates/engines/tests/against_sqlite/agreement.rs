//! Where our reading of SQL and of values has to agree with SQLite's own.

use idle_tide_core::document::time::TimeZone;
use idle_tide_core::{Datum, Value, document};
use idle_tide_dock::flow::{Context, Program};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::flow::expression;
use idle_tide_lang::split::{PieceKind, pieces};
use proptest::prelude::*;
use rusqlite::fallible_iterator::FallibleIterator;

/// Statements that SQLite takes, with everything in them that could end one too early or too late.
const STATEMENTS: &[&str] = &[
    "select 1",
    "select ';', \"a;b\", [c;d], `e;f` from (select 1 as \"a;b\", 2 as [c;d], 3 as `e;f`)",
    "select 'it''s; here' -- no; end\n",
    "select /* ; ' \" */ 2",
    "select x'00'; ",
    "create temp table if not exists t (a, \"b;c\")",
    "create temp trigger if not exists tr after insert on t begin select 1; update t set a = case when 1 then ';' else 2 end; end",
    "create trigger temp.tr2 after delete on t when old.a > 1 begin select case 1 when 1 then 2 end; select ';'; end",
    "with c as (select ';' as s) select s from c",
    "values (1, '--'), (2, '/*')",
    "explain select 1",
    "select - - 1, 6 / 2 -- minus and divided",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn a_script_is_cut_where_the_library_cuts_it(picks in proptest::collection::vec(0..STATEMENTS.len(), 1..8), blank in "[ \n\t;]{0,3}") {
        let script: String = picks.iter().map(|at| format!("{}\n;{blank}", STATEMENTS[*at])).collect();
        let ours: Vec<&str> = pieces(&script, &SQLITE)
            .iter()
            .filter(|piece| piece.has_code && piece.kind == PieceKind::Statement)
            .map(|piece| &script[piece.start as usize..piece.end as usize])
            .collect();
        let connection = rusqlite::Connection::open_in_memory().expect("opens");
        connection.execute_batch("create temp table t (a, \"b;c\")").expect("made");
        let mut theirs = 0;
        let mut batch = rusqlite::Batch::new(&connection, &script);
        while let Some(statement) = batch.next().expect("understood") {
            theirs += usize::from(statement.column_count() < usize::MAX);
        }
        prop_assert_eq!(ours.len(), theirs, "{:?}", ours);
        // Each piece is one whole statement.
        for piece in ours {
            let mut alone = rusqlite::Batch::new(&connection, piece);
            prop_assert!(alone.next().expect("understood").is_some());
            prop_assert!(alone.next().expect("understood").is_none(), "{piece}");
        }
    }
}

/// Expressions over numbers and texts without nulls, where two values of logic and three agree, and without
/// division, where ours gives fractions.
fn condition() -> impl Strategy<Value = String> {
    let number = prop_oneof![
        Just("n".to_string()),
        Just("f".to_string()),
        (-9_i64..10).prop_map(|n| n.to_string()),
        (1_i64..40).prop_map(|n| format!("{}.{}", n / 4, n % 4 * 25)),
    ];
    let sum = (number.clone(), "[-+*]", number.clone())
        .prop_map(|(a, sign, b)| format!("({a} {sign} {b})"));
    let term = prop_oneof![number, sum].boxed();
    let text = prop_oneof![Just("t".to_string()), "'[a-cA-C%_]{0,3}'".prop_map(|t| t)].boxed();
    let compare = prop_oneof![
        (term.clone(), "=|<>|<|<=|>|>=|!=", term.clone())
            .prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        (text.clone(), "=|<>|<|>", text.clone()).prop_map(|(a, o, b)| format!("{a} {o} {b}")),
        (term.clone(), any::<bool>(), term.clone(), term.clone()).prop_map(
            |(a, not, b, c)| format!("{a} {}between {b} and {c}", if not { "not " } else { "" })
        ),
        (
            term.clone(),
            any::<bool>(),
            proptest::collection::vec(term, 1..4)
        )
            .prop_map(|(a, not, list)| format!(
                "{a} {}in ({})",
                if not { "not " } else { "" },
                list.join(", ")
            )),
        (text, "'[a-c%_]{0,4}'").prop_map(|(a, pattern)| format!("{a} like {pattern}")),
        Just("z is null".to_string()),
        Just("n is not null".to_string()),
    ];
    compare.prop_recursive(4, 24, 3, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} and {b}")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("{a} or {b}")),
            inner.clone().prop_map(|a| format!("not ({a})")),
            inner.prop_map(|a| format!("not {a}")),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn a_condition_holds_where_the_library_says_so(text in condition(), n in -9_i64..10, f in -9_i64..10, t in "[a-cA-C]{0,3}") {
        let f = f as f64 / 4.0;
        let row = document! { "n": n, "f": f, "t": t.as_str(), "z": Datum::Null };
        let parsed = expression(&text, &TimeZone::UTC).expect("parsed");
        let ours = Program::new(&parsed, &Context::default())
            .and_then(|program| program.holds(&row))
            .expect("answered");
        let connection = rusqlite::Connection::open_in_memory().expect("opens");
        connection.execute_batch("pragma case_sensitive_like = on").expect("set");
        let sql = format!("select coalesce({text}, 0) from (select ?1 as n, ?2 as f, ?3 as t, null as z)");
        let theirs: bool = connection.query_row(&sql, (n, f, &t), |row| row.get(0)).expect(&sql);
        prop_assert_eq!(ours, theirs, "{} with n = {}, f = {}, t = {:?}", text, n, f, t);
    }

    #[test]
    fn a_number_is_written_so_that_it_reads_back(bits in any::<u64>()) {
        let number = f64::from_bits(bits);
        prop_assume!(number.is_finite());
        let text = Value::Float(number).as_ref().plain();
        prop_assert_eq!(text.parse::<f64>().map(f64::to_bits), Ok(bits), "{}", text);
        let connection = rusqlite::Connection::open_in_memory().expect("opens");
        let back: f64 = connection.query_row(&format!("select {text}"), [], |row| row.get(0)).expect("read");
        // The library's own reading of decimals may be off by the last bit.
        prop_assert!((back - number).abs() <= number.abs() * 4.5e-16, "{} read as {}", text, back);
    }
}
