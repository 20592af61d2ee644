//! Any text, half-typed or hostile: every reader of text answers, and every place it names is one in the text.

use idle_tide_core::{Catalog, Field, Kind, Link, Object};
use idle_tide_lang::complete::{Sources, complete, statement_around};
use idle_tide_lang::correct::{Complaint, advise, nearest};
use idle_tide_lang::dialect::SQLITE;
use idle_tide_lang::open::open_parts;
use idle_tide_lang::scope::scope;
use idle_tide_lang::split::{Statements, pieces};
use idle_tide_lang::statement::summary;
use idle_tide_lang::{command, elsewhere, tokens};
use proptest::prelude::*;

fn catalog() -> Catalog {
    let mut visits = Object::new("main", "visits", Kind::Table);
    for name in ["id", "vessel_id", "note", "häfen"] {
        visits.fields.push(Field {
            name: name.into(),
            ..Field::default()
        });
    }
    visits.links.push(Link {
        columns: vec!["vessel_id".into()],
        table: "vessels".into(),
        ..Link::default()
    });
    Catalog {
        path: vec!["main".into()],
        objects: vec![
            visits,
            Object::new("main", "odd 'name\"", Kind::Table),
            Object::new("temp", "vessels", Kind::View),
        ],
        ..Catalog::default()
    }
}

/// Texts made of the words and signs that matter, and of anything else.
fn text() -> impl Strategy<Value = String> {
    let part = prop_oneof![
        Just("select "),
        Just("from "),
        Just("visits "),
        Just("insert into "),
        Just("values "),
        Just("update "),
        Just("delete from "),
        Just("with recursive "),
        Just("create trigger "),
        Just("begin "),
        Just("end;"),
        Just("where "),
        Just("v."),
        Just("("),
        Just(")"),
        Just(","),
        Just(";"),
        Just("'"),
        Just("\""),
        Just("`"),
        Just("["),
        Just("]"),
        Just("--"),
        Just("/*"),
        Just("*/"),
        Just("\n"),
        Just("/tables "),
        Just("--full"),
        Just(" as x "),
        Just("1.5e"),
        Just(":p"),
        Just("\0"),
        Just("ü潮\u{301}"),
    ];
    prop_oneof![
        3 => proptest::collection::vec(part, 0..20).prop_map(|parts| parts.concat()),
        1 => any::<String>(),
    ]
}

fn cut(text: &str, at: usize) -> usize {
    let mut at = if text.is_empty() {
        0
    } else {
        at % (text.len() + 1)
    };
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn readers_answer(text in text(), at in any::<usize>()) {
        let list = tokens(&text, &SQLITE);
        let cursor = cut(&text, at);
        for part in open_parts(&text, &list) {
            prop_assert!(text.is_char_boundary(part.at) && part.line >= 1);
        }
        for table in scope(&text, &list, cursor, &SQLITE).tables {
            prop_assert!(text.is_char_boundary(table.at) && table.at < text.len());
        }
        summary(&text, &SQLITE);
        elsewhere::matching_command(&text, &SQLITE);
        if let Err(error) = command::parse(&text) {
            prop_assert!(text.get(error.span.clone()).is_some(), "{:?} in {text:?}", error.span);
            prop_assert!(!error.message.is_empty());
        }
        let mut end = 0;
        for piece in pieces(&text, &SQLITE) {
            prop_assert!(piece.start >= end && piece.end > piece.start);
            prop_assert!(text.get(piece.start as usize..piece.end as usize).is_some());
            end = piece.end;
        }
        prop_assert!(end as usize <= text.len());
        let (from, to) = statement_around(&text, cursor, &SQLITE);
        prop_assert!(from <= cursor && cursor <= to && text.get(from..to).is_some());
    }

    #[test]
    fn completion_replaces_a_part_of_the_text(text in text(), at in any::<usize>(), asked in any::<bool>()) {
        let catalog = catalog();
        let columns = ["a b".to_string()];
        let entries = [(1, "select 1".to_string())];
        let from = Sources { catalog: &catalog, dialect: &SQLITE, columns: &columns, entries: &entries, names: &[], topics: &["write"] };
        let cursor = cut(&text, at);
        let completion = complete(&text, cursor, asked, &from);
        if !completion.candidates.is_empty() {
            prop_assert!(text.get(completion.span.clone()).is_some());
            prop_assert_eq!(completion.span.end, cursor);
        }
        for candidate in &completion.candidates {
            prop_assert!(!candidate.insert.is_empty());
        }
    }

    #[test]
    fn advice_names_places_in_the_text(text in text(), word in "[a-z']{0,8}", offset in proptest::option::of(0_usize..60)) {
        let catalog = catalog();
        for complaint in [
            Complaint::NoSuchTable(word.clone()),
            Complaint::NoSuchColumn(format!("v.{word}")),
            Complaint::NoSuchColumn(word.clone()),
            Complaint::AmbiguousColumn(word.clone()),
            Complaint::NoSuchFunction(word.clone()),
            Complaint::Syntax(word.clone()),
            Complaint::Incomplete,
            Complaint::BadToken(word.clone()),
            Complaint::Other,
        ] {
            let advice = advise(&text, &complaint, offset, &catalog, &SQLITE);
            if let Some(span) = advice.span {
                prop_assert!(text.get(span.clone()).is_some(), "{complaint:?}: {span:?} in {text:?}");
            }
            for correction in advice.corrections {
                prop_assert!(text.get(correction.edit.span.clone()).is_some(), "{complaint:?}");
            }
        }
    }

    #[test]
    fn a_reader_in_any_chunks_gives_the_pieces(text in text()) {
        let expected: Vec<String> = pieces(&text, &SQLITE)
            .iter()
            .filter(|piece| piece.has_code)
            .map(|piece| text[piece.start as usize..piece.end as usize].to_string())
            .collect();
        let read: Vec<String> = Statements::new(text.as_bytes(), &SQLITE)
            .map(|next| String::from_utf8(next.expect("reads").1).expect("text"))
            .collect();
        prop_assert_eq!(expected, read);
    }

    #[test]
    fn the_word_itself_is_the_nearest(word in "[a-z_]{1,12}", others in proptest::collection::vec("[a-z_]{1,12}", 0..8)) {
        let mut list: Vec<&str> = others.iter().map(String::as_str).collect();
        list.push(&word);
        prop_assert_eq!(&nearest(&word, list, 3)[0], &word);
    }
}
