//! What could be typed next in a command: its name, its options, its arguments.

use super::{
    Candidate, Completion, MOST, Offer, Sources, fitting_tables, plain_candidate, ranked,
    table_detail,
};
use crate::command::{self, Argument};

pub(super) fn complete_command(text: &str, cursor: usize, from: &Sources<'_>) -> Completion {
    let start = text.len() - text.trim_start().len();
    if cursor < start || text[..cursor].contains('\n') {
        return Completion::default();
    }
    let line = &text[start..cursor];
    let parts = command::parts(line);
    let at_blank = line.ends_with(char::is_whitespace);
    let name = parts.first().map_or("", |part| part.text.as_str());
    if parts.len() <= 1 && !at_blank {
        let candidates = command::COMMANDS.iter().map(|c| Candidate {
            label: format!("/{}", c.name),
            detail: c.summary.to_string(),
            offer: Offer::Command,
            insert: if c.arguments.is_empty() {
                format!("/{}", c.name)
            } else {
                format!("/{} ", c.name)
            },
            span: None,
        });
        return ranked(start..cursor, name, candidates.collect(), true);
    }
    let Some(found) = command::find(name.trim_start_matches('/')) else {
        return Completion::default();
    };
    let (word, span) = match parts.last() {
        Some(part) if !at_blank => (part.text.as_str(), start + part.span.start..cursor),
        _ => ("", cursor..cursor),
    };
    if found.arguments.first() == Some(&Argument::Rest) {
        // A condition: the columns of the current result.
        let tail = line
            .rfind(|c: char| !(c.is_alphanumeric() || c == '_' || c == '.'))
            .map_or(0, |at| at + 1);
        let word = &line[tail..];
        let list = from
            .columns
            .iter()
            .map(|label| plain_candidate(label, "column", Offer::Column));
        return ranked(start + tail..cursor, word, list.collect(), !word.is_empty());
    }
    let before = &parts[1..parts.len() - usize::from(!at_blank)];
    let last_option = before
        .last()
        .and_then(|part| part.text.strip_prefix("--"))
        .and_then(|name| found.options.iter().find(|o| o.name == name))
        .and_then(|option| option.value);
    if let Some(Argument::Pair(words)) = last_option {
        // A column of a file, which is not known here, and one of the words behind it.
        let Some(at) = line[..cursor - start].rfind('=').filter(|_| !at_blank) else {
            return Completion::default();
        };
        let list = words
            .iter()
            .map(|word| plain_candidate(word, "", Offer::Command));
        return ranked(
            start + at + 1..cursor,
            &line[at + 1..],
            list.collect(),
            true,
        );
    }
    let mut list = Vec::new();
    if let Some(kind) = last_option {
        argument_candidates(kind, word, from, &mut list);
    } else if word.starts_with("--") {
        list.extend(found.options.iter().map(|option| Candidate {
            label: format!("--{}", option.name),
            detail: String::new(),
            offer: Offer::Command,
            insert: format!("--{}", option.name),
            span: None,
        }));
    } else {
        let position = before
            .iter()
            .filter(|part| !part.text.starts_with("--"))
            .count();
        let kind = found.arguments.get(position).or_else(|| {
            (found.count.1 == usize::MAX)
                .then(|| found.arguments.last())
                .flatten()
        });
        if let Some(kind) = kind {
            argument_candidates(*kind, word, from, &mut list);
        }
    }
    ranked(span, word, list, true)
}

fn argument_candidates(kind: Argument, word: &str, from: &Sources<'_>, list: &mut Vec<Candidate>) {
    match kind {
        Argument::Table | Argument::Pattern | Argument::Object => {
            let mut fitting = fitting_tables(word, from);
            if kind == Argument::Object {
                let others = from.catalog.objects.iter();
                let others = others.filter(|o| !o.has_rows() && !o.helper);
                fitting.extend(others.take(MOST));
            }
            for object in fitting {
                list.push(plain_candidate(
                    &object.name,
                    &table_detail(object),
                    Offer::Table,
                ));
            }
        }
        Argument::Column => {
            list.extend(
                from.columns
                    .iter()
                    .map(|c| plain_candidate(c, "column", Offer::Column)),
            );
        }
        Argument::Words(words) | Argument::Often(words) => {
            list.extend(
                words
                    .iter()
                    .map(|word| plain_candidate(word, "", Offer::Command)),
            );
        }
        Argument::Entry => list.extend(
            from.entries
                .iter()
                .rev()
                .map(|(number, text)| plain_candidate(&number.to_string(), text, Offer::Command)),
        ),
        Argument::Topic => {
            list.extend(
                from.topics
                    .iter()
                    .map(|topic| plain_candidate(topic, "", Offer::Command)),
            );
        }
        Argument::Source | Argument::Database | Argument::Format => list.extend(
            from.names
                .iter()
                .map(|(name, detail)| plain_candidate(name, detail, Offer::Command)),
        ),
        Argument::Number | Argument::Text | Argument::File | Argument::Pair(_) | Argument::Rest => {
        }
    }
}
