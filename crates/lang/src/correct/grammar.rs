//! Slips in the grammar: misspelt keywords, brackets, quotes, commas, blanks.

use super::*;

/// A word as it is, a sign in quotes, so that it is not one of the sentence.
fn told(token: &str) -> String {
    match token.chars().all(|c| c.is_alphanumeric() || c == '_') {
        true => token.to_string(),
        false => format!("\"{token}\""),
    }
}

impl Case<'_> {
    pub(super) fn syntax(&self, near: &str) -> Advice {
        let at = self
            .offset
            .and_then(|offset| {
                self.list
                    .iter()
                    .position(|t| t.start <= offset && offset < t.end)
            })
            .or_else(|| self.list.iter().position(|t| t.of(self.text) == near));
        let Some(at) = at else {
            return Advice {
                headline: format!("The statement is not understood at {}.", told(near)),
                ..Advice::default()
            };
        };
        let here = self.list[at];
        let before = at.checked_sub(1).map(|at| self.list[at]);
        let mut corrections = Vec::new();
        let mut span = here.start..here.end;
        let mut headline = if at == 0 {
            format!("No statement begins with {}.", here.of(self.text))
        } else {
            format!(
                "The statement is not understood at {}.",
                told(here.of(self.text))
            )
        };
        // A quote inside a text: 'O'Brien'.
        if let Some(before) = before
            && before.kind == TokenKind::Text
            && before.end == here.start
            && here.kind == TokenKind::Word
            && self.all.iter().any(|token| !token.closed)
        {
            headline = "A quote inside a text has to be written twice.".into();
            corrections.push(Correction {
                label: "''".into(),
                detail: "the quote written twice".into(),
                edit: Edit {
                    span: before.end - 1..before.end,
                    text: "''".into(),
                },
            });
            span = before.end - 1..here.end;
        }
        // An operator torn apart by a blank: `< =`.
        if let Some(before) = before
            && before.kind == TokenKind::Operator
            && here.kind == TokenKind::Operator
        {
            let joined = format!("{}{}", before.of(self.text), here.of(self.text));
            if ["<=", ">=", "<>", "!=", "||"].contains(&joined.as_str()) {
                corrections.push(Correction {
                    label: joined.clone(),
                    detail: "without the blank".into(),
                    edit: Edit {
                        span: before.start..here.end,
                        text: joined,
                    },
                });
            }
        }
        // A comma before a word that ends the list, or twice.
        if let Some(before) = before
            && before.kind == TokenKind::Comma
            && (self.dialect.is_keyword(here.of(self.text))
                || matches!(
                    here.kind,
                    TokenKind::Comma | TokenKind::Close | TokenKind::Semicolon
                ))
        {
            headline = "There is a comma too many.".into();
            corrections.push(Correction {
                label: here.of(self.text).to_string(),
                detail: "without the comma before it".into(),
                edit: Edit {
                    span: before.start..before.end,
                    text: String::new(),
                },
            });
            span = before.start..before.end;
        }
        let mut advice = Advice {
            headline,
            span: Some(span),
            corrections,
        };
        self.brackets(at, &mut advice);
        self.keywords(at, &mut advice);
        advice
    }

    /// A bracket that is not closed, or closes nothing.
    fn brackets(&self, at: usize, advice: &mut Advice) {
        let here = self.list[at];
        if here.kind == TokenKind::Semicolon {
            advice.headline = "The statement ends too early.".into();
            let open = open_parts(self.text, self.all);
            if let Some(part) = open.iter().rev().find(|part| part.what == Opened::Bracket) {
                advice.headline =
                    format!("A bracket opened on line {} is never closed.", part.line);
                advice.corrections.push(Correction {
                    label: ")".into(),
                    detail: "closes the bracket".into(),
                    edit: Edit {
                        span: here.start..here.start,
                        text: ")".into(),
                    },
                });
                advice.span = Some(part.at..part.at + 1);
            }
        } else if here.kind == TokenKind::Close && advice.corrections.is_empty() {
            let mut depth = 0_i32;
            for token in &self.list[..=at] {
                depth += match token.kind {
                    TokenKind::Open => 1,
                    TokenKind::Close => -1,
                    _ => 0,
                };
            }
            if depth < 0 {
                advice.headline = "This bracket closes nothing.".into();
                advice.corrections.push(self.replace(
                    here,
                    "",
                    "without )",
                    "takes the bracket out".into(),
                ));
            }
        }
    }

    /// A misspelt keyword.
    fn keywords(&self, at: usize, advice: &mut Advice) {
        let here = self.list[at];
        let given = self.given_names();
        // A misspelt keyword stands here, or before, where it was taken for a name or an alias: close by in any spelling,
        // further back one letter off.
        let start = at == 0 || self.list[at - 1].kind == TokenKind::Semicolon;
        for back in 0..=at.min(4) {
            let token = self.list[at - back];
            let word = token.of(self.text);
            let called = self.list.get(at - back + 1);
            let called = called.is_some_and(|next| next.kind == TokenKind::Open);
            if token.kind == TokenKind::Semicolon {
                break;
            }
            if token.kind != TokenKind::Word
                || word.len() < 3
                || self.dialect.is_keyword(word)
                || self.is_name(word, called, &given)
            {
                continue;
            }
            let words = if start {
                self.dialect.starts
            } else {
                self.dialect.keywords
            };
            let lower = word.to_lowercase();
            let mut near = self.keywords_near(word, words);
            near.retain(|near| back < 2 || strsim::osa_distance(&lower, near) <= 1);
            for near in &near {
                advice
                    .corrections
                    .push(self.replace(token, near, near, "keyword".into()));
            }
            if !near.is_empty() {
                if !(start && token.start == here.start) {
                    advice.headline =
                        format!("{word} is not a word of {} here.", self.dialect.name);
                }
                advice.span = Some(token.start..token.end);
                break;
            }
        }
    }

    /// Whether a word is the name of something that is known: a table, a column, a function, or what the statement names itself.
    fn is_name(&self, word: &str, called: bool, given: &[String]) -> bool {
        let is_column = |table: &TableUse| {
            let object = self.catalog.table(&table.name);
            object.is_some_and(|object| object.field(word).is_some())
        };
        let is = |name: &str| name.eq_ignore_ascii_case(word);
        self.catalog.table(word).is_some()
            || self.tables().iter().any(is_column)
            || given.iter().any(|name| is(name))
            || called && self.dialect.functions.iter().any(|(name, _)| is(name))
    }

    /// Keywords that `word` could be a slip of, also two with the blank missing.
    pub(super) fn keywords_near(&self, word: &str, words: &[&str]) -> Vec<String> {
        let lower = word.to_lowercase();
        let mut list = Vec::new();
        for cut in 2..lower.len().saturating_sub(1) {
            if let (Some(a), Some(b)) = (lower.get(..cut), lower.get(cut..))
                && self.dialect.is_keyword(a)
                && self.dialect.is_keyword(b)
            {
                list.push(format!("{a} {b}"));
            }
        }
        // Words that a query is made of come before rarer ones at the same distance.
        const COMMON: &[&str] = &[
            "select", "from", "where", "join", "on", "group", "order", "by", "having", "limit",
            "insert", "into", "values", "update", "set", "delete", "create", "table", "and", "or",
            "not", "null", "like", "between", "distinct", "union", "left", "as", "desc", "asc",
        ];
        let common = COMMON.iter().copied().filter(|word| words.contains(word));
        let mut near: Vec<String> = nearest(&lower, common, 3);
        near.extend(nearest(&lower, words.iter().copied(), 3));
        for word in near {
            if strsim::osa_distance(&lower, &word) <= 2 && !list.contains(&word) {
                list.push(word);
            }
        }
        list.truncate(3);
        list
    }

    pub(super) fn incomplete(&self) -> Advice {
        let end = self.text.trim_end().trim_end_matches(';').trim_end().len();
        let open = open_parts(self.text, self.all);
        let Some(part) = open.last() else {
            return Advice {
                headline: "The statement ends too early.".into(),
                span: Some(end..self.text.len()),
                corrections: Vec::new(),
            };
        };
        let close = match part.what {
            Opened::Bracket => ")",
            Opened::Quote => "'",
            Opened::Name => match self.text.as_bytes()[part.at] {
                b'[' => "]",
                b'`' => "`",
                _ => "\"",
            },
            Opened::Comment => "*/",
            Opened::Block => " end",
        };
        Advice {
            headline: format!(
                "A {} opened on line {} is never closed.",
                part.what.word(),
                part.line
            ),
            span: Some(part.at..part.at + 1),
            corrections: vec![Correction {
                label: close.trim().to_string(),
                detail: format!("closes the {}", part.what.word()),
                edit: Edit {
                    span: end..end,
                    text: close.to_string(),
                },
            }],
        }
    }

    pub(super) fn bad_token(&self, token: &str) -> Advice {
        let open = self.all.iter().find(|token| !token.closed);
        let Some(open) = open else {
            let found = self.offset.and_then(|at| self.token_at(at));
            return Advice {
                headline: format!("{token} has no meaning in {}.", self.dialect.name),
                span: found.map(|token| token.start..token.end),
                corrections: Vec::new(),
            };
        };
        let mut advice = self.incomplete();
        // `Heron'` without its opening quote: the one that stands alone closes a text.
        let before = self.list.iter().rev().find(|token| token.end <= open.start);
        if let Some(before) = before
            && before.kind == TokenKind::Word
            && before.end == open.start
        {
            let mut first = *before;
            for token in self
                .list
                .iter()
                .rev()
                .skip_while(|t| t.start >= before.start)
            {
                if token.kind != TokenKind::Word || self.dialect.is_keyword(token.of(self.text)) {
                    break;
                }
                first = *token;
            }
            advice.corrections.insert(
                0,
                Correction {
                    label: format!("'{}'", &self.text[first.start..before.end]),
                    detail: "the quote before it was missing".into(),
                    edit: Edit {
                        span: first.start..first.start,
                        text: "'".into(),
                    },
                },
            );
        }
        advice
    }
}
