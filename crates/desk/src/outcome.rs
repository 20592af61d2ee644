//! What a statement made or changed, in words and numbers.

use idle_tide_draw::picture::counted;
use idle_tide_engines::Outcome;
use idle_tide_lang::statement::Summary;

use crate::page::{Line, Page, Tone};

/// The page of a statement that gave no rows. `thing` is what it changes, row or document.
pub fn page(about: &Summary, outcome: &Outcome, thing: &str) -> Page {
    let mut page = Page::new();
    let mut made = outcome.made.iter();
    // What a document source says it did is said in its own words.
    let headline = match (about.verb.as_str(), made.len()) {
        ("insert" | "update" | "delete" | "empty", _) | (_, 0) => None,
        _ => made.next().cloned(),
    };
    page.say(
        Tone::Heading,
        headline.unwrap_or_else(|| in_words(about, outcome, thing)),
    );
    for sentence in made {
        page.say(Tone::Plain, sentence.clone());
    }
    let labelled = |label: &str, tone, words: String| {
        Line::new().column(Tone::Faint, label, 10).and(tone, words)
    };
    let label = if outcome.new_ids.len() == 1 {
        "new id"
    } else {
        "new ids"
    };
    for (at, id) in outcome.new_ids.iter().enumerate() {
        if at == 0 {
            page.gap();
        }
        page.line(labelled(
            if at == 0 { label } else { "" },
            Tone::Number,
            id.clone(),
        ));
    }
    let shown = outcome.new_ids.len() as u64;
    let more = outcome.changed.unwrap_or(0).saturating_sub(shown);
    if shown > 0 && more > 0 {
        page.line(labelled("", Tone::Faint, format!("and {more} more")));
    }
    if let Some(key) = outcome.new_key {
        page.gap();
        page.line(labelled("new key", Tone::Number, key.to_string()));
    }
    if about.verb == "begin" {
        page.gap();
        page.say(
            Tone::Faint,
            "commit; keeps what follows, rollback; takes it back.",
        );
    }
    page
}

fn in_words(about: &Summary, outcome: &Outcome, thing: &str) -> String {
    let target = about.target.as_deref().unwrap_or_default();
    let things = |count: u64| counted(count, thing);
    match (about.verb.as_str(), outcome.changed) {
        ("insert" | "replace", Some(count)) => format!("{} inserted into {target}.", things(count)),
        ("update", Some(count)) => format!("{} of {target} changed.", things(count)),
        ("delete", Some(count)) => format!("{} deleted from {target}.", things(count)),
        ("create", _) => format!("{target} was made."),
        ("alter", _) => format!("{target} was altered."),
        ("drop", _) => format!("{target} was removed."),
        ("begin" | "savepoint", _) => "A transaction is open.".to_string(),
        ("commit" | "end", _) => "What the transaction changed is kept.".to_string(),
        ("rollback", _) => "What the transaction changed is taken back.".to_string(),
        ("empty", Some(count)) => format!(
            "{} removed from {target}; the collection is there still.",
            things(count)
        ),
        _ => "Done.".to_string(),
    }
}
