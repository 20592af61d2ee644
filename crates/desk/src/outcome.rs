//! What a statement made or changed, in words and numbers.

use idle_tide_draw::picture::counted;
use idle_tide_engines::Outcome;
use idle_tide_lang::statement::{Effect, Given, Summary};

use crate::page::{Line, Page, Tone};

/// The transaction around a statement, as the server reported it before and after.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Around {
    /// One was open before.
    pub before: bool,
    /// It had failed, so that nothing of it could be kept.
    pub failed: bool,
    /// One is open after it.
    pub after: bool,
    /// Beginning another one keeps what the one before changed.
    pub begins_anew: bool,
}

/// The page of a statement that gave no rows. `thing` is what it changes, row or document.
pub fn page(about: &Summary, outcome: &Outcome, around: Around, thing: &str) -> Page {
    let mut page = Page::of_sentences();
    let mut made = outcome.made.iter();
    // What a document source says it did is said in its own words.
    let headline = match (about.verb.as_str(), made.len()) {
        ("insert" | "update" | "delete" | "empty", _) | (_, 0) => None,
        _ => made.next().cloned(),
    };
    page.say(
        Tone::Heading,
        headline.unwrap_or_else(|| in_words(about, outcome, around, thing)),
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
    let ends = matches!(
        about.verb.as_str(),
        "commit" | "end" | "rollback" | "begin" | "start"
    );
    let ends = ends && about.effect == Effect::Transaction;
    if around.before && !around.after && !ends && outcome.made.is_empty() {
        page.gap();
        page.say(
            Tone::Care,
            "It ended the transaction that was open: the server kept what that had changed, and rollback takes nothing of it back.",
        );
    }
    if matches!(about.verb.as_str(), "begin" | "start") && around.before && around.begins_anew {
        page.gap();
        page.say(
            Tone::Care,
            "It ended the transaction that was open before: the server kept what that had changed.",
        );
    }
    if about.verb == "begin" && about.effect == Effect::Transaction && around.after {
        page.gap();
        page.say(
            Tone::Faint,
            "commit; keeps what follows, rollback; takes it back.",
        );
    }
    page
}

fn in_words(about: &Summary, outcome: &Outcome, around: Around, thing: &str) -> String {
    let target = about.names();
    let things = |count: u64| counted(count, thing);
    let were = if about.targets.len() > 1 {
        "were"
    } else {
        "was"
    };
    let capital = |sentence: String| match about.targets.is_empty() {
        true => sentence.replacen("the ", "The ", 1),
        false => sentence,
    };
    // Where the server had something to say of what was there or not, it is not known here what it did.
    let unsure = about.given == Given::Existence && !outcome.notes.is_empty();
    match (about.verb.as_str(), outcome.changed) {
        ("insert" | "replace", Some(count)) if about.given == Given::Replacing => format!(
            "Inserted into {target} or changed there: {}, as the server counts them.",
            things(count)
        ),
        ("insert" | "replace", Some(count)) => format!("{} inserted into {target}.", things(count)),
        ("update", Some(count)) => format!("{} of {target} changed.", things(count)),
        ("delete", Some(count)) => format!("{} deleted from {target}.", things(count)),
        ("create", _) if unsure => capital(format!("{target} is there.")),
        ("create", _) if about.given == Given::Replacing => {
            capital(format!("{target} was made, in the place of an earlier one if there was one."))
        }
        ("create", _) => capital(format!("{target} {were} made.")),
        ("alter", _) => capital(format!("{target} was altered.")),
        ("drop", _) if unsure => match about.targets.len() {
            0 | 1 => capital(format!("{target} is not there now.")),
            _ => format!("None of {target} is there now."),
        },
        ("drop", _) => capital(format!("{target} {were} removed.")),
        ("begin" | "start" | "savepoint", _) if about.effect == Effect::Transaction => match around.after {
            true => "A transaction is open.",
            false => "The server reports no open transaction after it.",
        }
        .to_string(),
        ("commit" | "end", _) => match around {
            Around { before: false, .. } => "No transaction was open, so there was nothing to keep.",
            Around { failed: true, .. } => {
                "The transaction had failed: the server took back what it had changed, and kept nothing."
            }
            Around { after: true, .. } => "What the transaction changed is kept, and another one is open.",
            _ => "What the transaction changed is kept.",
        }
        .to_string(),
        ("rollback", _) => match around {
            Around { before: false, .. } => "No transaction was open, so nothing was taken back.",
            Around { after: true, .. } => {
                "It was taken back as far as it says; a transaction is still open."
            }
            _ => "What the transaction changed is taken back.",
        }
        .to_string(),
        ("empty", Some(0)) if !outcome.notes.is_empty() => "Nothing was removed.".to_string(),
        ("empty", Some(count)) => format!(
            "{} removed from {target}; the collection is there still.",
            things(count)
        ),
        _ => "Done.".to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::POSTGRES;
    use idle_tide_lang::statement::summary;

    /// What is said of a transaction is what the server reported of it.
    #[test]
    fn transactions_are_told_as_they_were() {
        let open = Around {
            before: true,
            ..Around::default()
        };
        for (sql, around, words) in [
            ("commit", open, "changed is kept."),
            ("commit", Around::default(), "nothing to keep"),
            (
                "commit",
                Around {
                    failed: true,
                    ..open
                },
                "kept nothing",
            ),
            (
                "commit and chain",
                Around {
                    after: true,
                    ..open
                },
                "another one is open",
            ),
            ("rollback", open, "taken back."),
            ("rollback", Around::default(), "nothing was taken back"),
            (
                "rollback to a",
                Around {
                    after: true,
                    ..open
                },
                "still open",
            ),
            (
                "create table t (n int)",
                open,
                "rollback takes nothing of it back",
            ),
            (
                "begin",
                Around {
                    after: true,
                    begins_anew: true,
                    ..open
                },
                "was open before: the server kept",
            ),
        ] {
            let about = summary(sql, &POSTGRES);
            let text = page(&about, &Outcome::default(), around, "row").text();
            assert!(text.contains(words), "{sql}: {text}");
        }
        let about = summary("create table t (n int)", &POSTGRES);
        let text = page(&about, &Outcome::default(), Around::default(), "row").text();
        assert_eq!(text.trim(), "t was made.");
    }
}
