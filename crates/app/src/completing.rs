//! What could stand at the cursor where neither the database's statements nor commands are written: in questions across
//! results, and in scripts.

use idle_tide_lang::complete::{Candidate, Completion, Offer, Sources as Known, complete};

use crate::app::App;
use crate::guide;

impl App {
    /// What could stand at the cursor in a question across results: their names and columns.
    pub(crate) fn complete_across(&self, asked: bool) -> Option<Completion> {
        const COMMAND: &str = "/across ";
        let sql = self.composer.text().strip_prefix(COMMAND)?;
        let cursor = self.composer.cursor().checked_sub(COMMAND.len())?;
        let known = Known {
            catalog: &self.desk.results(),
            dialect: &idle_tide_lang::dialect::SQLITE,
            columns: &[],
            entries: &[],
            names: &[],
            topics: guide::TOPICS,
        };
        let mut completion = complete(sql, cursor, asked, &known);
        let moved =
            |span: std::ops::Range<usize>| span.start + COMMAND.len()..span.end + COMMAND.len();
        let spans = completion
            .candidates
            .iter_mut()
            .filter_map(|c| c.span.as_mut());
        for span in spans.chain([&mut completion.span]) {
            *span = moved(span.clone());
        }
        Some(completion)
    }

    /// Adds the functions of scripts where a flow could call one: where others are offered, or nothing else fits.
    pub(crate) fn offer_own_functions(&self, completion: &mut Completion) {
        let text = self.composer.text();
        let typed = text
            .get(completion.span.start..self.composer.cursor())
            .unwrap_or_default();
        let within = text.trim_start().starts_with('/') || !self.desk.dialect().is_flow();
        let called = completion.candidates.is_empty()
            || completion
                .candidates
                .iter()
                .any(|c| c.offer == Offer::Function);
        if within || typed.is_empty() || !called {
            return;
        }
        let own = self
            .desk
            .own_functions()
            .filter(|f| f.name.starts_with(typed) && f.name != typed);
        completion.candidates.extend(own.map(|function| Candidate {
            insert: format!("{}(", function.name),
            label: function.name.clone(),
            detail: format!("({})", function.arguments.join(", ")),
            offer: Offer::Function,
            span: None,
        }));
    }

    /// What could stand at the cursor in a script: variables and their fields, functions, the words of lines.
    pub(crate) fn complete_script(&self, asked: bool) -> Option<Completion> {
        let text = self.composer.text();
        let before = text.get(..self.composer.cursor())?;
        if !text.trim_start().starts_with('=') {
            return None;
        }
        let word = |c: char| c.is_alphanumeric() || c == '_';
        let start = before.trim_end_matches(word).len();
        let typed = &before[start..];
        let mut completion = Completion {
            span: start..before.len(),
            ..Completion::default()
        };
        let of = before[..start].strip_suffix('.');
        let quotes = before.matches('\'').count() % 2 == 1;
        if quotes || (typed.is_empty() && !asked && of.is_none()) {
            return Some(completion);
        }
        let all = match of {
            Some(path) => {
                let from = path.trim_end_matches(|c: char| word(c) || c == '.').len();
                self.desk.fields_of(&path[from..])
            }
            None => self.desk.script_names(),
        };
        let fits = |name: &str| {
            name.len() > typed.len() && name.to_lowercase().starts_with(&typed.to_lowercase())
        };
        completion.candidates = all
            .into_iter()
            .filter(|(name, ..)| fits(name))
            .map(|(name, detail, function)| Candidate {
                insert: if function {
                    format!("{name}(")
                } else {
                    name.clone()
                },
                label: name,
                detail,
                offer: if function {
                    Offer::Function
                } else {
                    Offer::Value
                },
                span: None,
            })
            .collect();
        Some(completion)
    }
}
