//! Stages that hold documents hold as many bytes as they are allowed to, and say which of them it was; orders go to disk instead. What is chosen by
//! chance is chosen evenly.

use std::borrow::Cow;

use idle_tide_core::document::time::TimeZone;
use idle_tide_core::{Datum, Document};
use idle_tide_dock::flow::{Chain, Context, Limits, Places};
use idle_tide_lang::flow::ast::{Path, Source, Statement};
use idle_tide_lang::flow::{FlowError, parse};

/// Other collections: one of documents that grow, and what was saved.
#[derive(Default)]
struct Given {
    saved: Vec<Document>,
    how: String,
}

fn landing(n: i32) -> Document {
    Document::new()
        .with("_id", n)
        .with("port", format!("port {}", n % 7))
        .with("kg", f64::from(n % 50))
        .with("note", "x".repeat(100))
}

impl Places for Given {
    fn read(
        &mut self,
        collection: &str,
        take: &mut dyn FnMut(Document) -> Result<bool, FlowError>,
    ) -> Result<(), String> {
        if collection == "broken" {
            return Err("line 3 is no document".into());
        }
        for n in 0..200 {
            if !take(landing(n)).map_err(|error| error.message)? {
                break;
            }
        }
        Ok(())
    }

    fn save(
        &mut self,
        collection: &str,
        documents: Vec<Document>,
        by: Option<&Path>,
        over: bool,
    ) -> Result<(), String> {
        if collection == "full" {
            return Err("the disk is full".into());
        }
        self.how = format!(
            "{collection} {} {over}",
            by.map_or(String::new(), Path::written)
        );
        self.saved = documents;
        Ok(())
    }

    fn raw(
        &mut self,
        stages: &[Datum],
        mut documents: Vec<Document>,
    ) -> Result<Vec<Document>, String> {
        documents.truncate(stages.len());
        Ok(documents)
    }
}

/// Runs the stages over so many landings.
fn run(
    stages: &str,
    count: i32,
    limits: Limits,
    seed: u64,
) -> Result<(Vec<Document>, Given), FlowError> {
    let text = format!("from landings {stages}");
    let statement = parse(&text, &TimeZone::UTC).whole()?;
    let Statement::Flow(flow) = statement else {
        panic!("a flow");
    };
    assert!(matches!(flow.source, Source::Collection(_)));
    let context = Context {
        seed,
        ..Context::default()
    };
    let mut given = Given::default();
    let mut chain = Chain::new(&flow.stages, &context, limits, &mut given)?;
    let mut out = Vec::new();
    let mut sink = |document: Cow<'_, Document>| {
        out.push(document.into_owned());
        Ok(true)
    };
    for n in 0..count {
        if !chain.take(Cow::Owned(landing(n)), &mut sink)? {
            break;
        }
    }
    chain.end(&mut sink, &mut given)?;
    Ok((out, given))
}

const TIGHT: Limits = Limits {
    order: 4_000,
    hold: 4_000,
};

#[test]
fn what_holds_too_much_says_which_stage_it_was_and_where_it_stands() {
    let mut wrong = Vec::new();
    for (stages, place, words) in [
        (
            "join surveys as s on port = s.port",
            "surveys",
            "The other collection of a join",
        ),
        (
            "group by note: note || _id { n: count() }",
            "group by",
            "This group",
        ),
        (
            "group by port { all: list(note) }",
            "group by",
            "This group",
        ),
        (
            "distinct _id",
            "distinct _id",
            "The list of different values",
        ),
        (
            "band kg into 4 { all: count() }",
            "band kg",
            "Cutting into bands",
        ),
        (
            "emit _id => note fold t = '' then value",
            "fold t",
            "This fold",
        ),
        ("raw [{ $limit: 1 }]", "raw [", "What goes into raw stages"),
        ("save into other", "save into other", "What is to be saved"),
    ] {
        let Err(error) = run(stages, 2_000, TIGHT, 1) else {
            panic!("{stages} held everything");
        };
        assert!(error.message.contains(words), "{stages}: {}", error.message);
        let text = format!("from landings {stages}");
        let found = text.get(error.span.clone()).unwrap_or_default();
        if !found.starts_with(place) {
            wrong.push(format!("{stages}: {found}"));
        }
        // With room it goes through.
        let done = run(stages, 2_000, Limits::default(), 1);
        assert!(done.is_ok(), "{stages}: {:?}", done.err());
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    // An order does not fail: it goes to disk, and comes out as in memory.
    let stages = "order by kg desc, _id pick { _id, kg }";
    let tight = run(stages, 2_000, TIGHT, 1).expect("ordered").0;
    let roomy = run(stages, 2_000, Limits::default(), 1).expect("ordered").0;
    assert_eq!(tight, roomy);
    assert_eq!(tight.len(), 2_000);
    // Nor does what only passes.
    let passed = run("where kg > 3 add { x: kg * 2 } limit 900", 2_000, TIGHT, 1).expect("passes");
    assert_eq!(passed.0.len(), 900);
}

#[test]
fn what_other_collections_refuse_is_said_at_the_stage() {
    for (stages, words) in [
        ("join broken as b on port = b.port", "line 3 is no document"),
        ("save into full", "the disk is full"),
    ] {
        let Err(error) = run(stages, 10, Limits::default(), 1) else {
            panic!("{stages}");
        };
        assert!(error.message.contains(words), "{stages}: {}", error.message);
    }
    let (out, given) = run(
        "where _id < 3 save into few by port",
        10,
        Limits::default(),
        1,
    )
    .expect("saved");
    assert_eq!(
        (out.len(), given.saved.len(), given.how.as_str()),
        (0, 3, "few port false")
    );
    let (_, given) = run("save over few", 10, Limits::default(), 1).expect("saved");
    assert_eq!((given.saved.len(), given.how.as_str()), (10, "few  true"));
    let (out, _) = run(
        "raw [{ $a: 1 }, { $b: 1 }] count as n",
        10,
        Limits::default(),
        1,
    )
    .expect("given back");
    assert_eq!(out, [Document::new().with("n", 2)]);
}

/// Every document is as likely as any other to be among those that are chosen, and the same seed chooses the same.
#[test]
fn what_is_chosen_by_chance_is_chosen_evenly() {
    let mut chosen = [0_u32; 20];
    for seed in 1..=2_000 {
        let (out, _) = run("sample 5", 20, Limits::default(), seed * 7_919).expect("chosen");
        let mut ids: Vec<i64> = out
            .iter()
            .map(|document| {
                document
                    .get("_id")
                    .and_then(Datum::as_i64)
                    .expect("a number")
            })
            .collect();
        ids.sort_unstable();
        ids.dedup();
        assert_eq!(ids.len(), 5, "none twice");
        for id in ids {
            chosen[usize::try_from(id).expect("from 0 on")] += 1;
        }
    }
    // 500 are expected of each, with a standard deviation below 20.
    assert!(
        chosen.iter().all(|count| (400..=600).contains(count)),
        "{chosen:?}"
    );
    let again = |seed| {
        run("sample 5", 20, Limits::default(), seed)
            .expect("chosen")
            .0
    };
    assert_eq!(again(7), again(7));
    assert_eq!(
        run("sample 50", 20, Limits::default(), 1)
            .expect("all")
            .0
            .len(),
        20
    );
    assert_eq!(
        run("sample 0", 20, Limits::default(), 1)
            .expect("none")
            .0
            .len(),
        0
    );
}
