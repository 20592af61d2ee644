//! A batch as steps. What the parser does not know (savepoints, options, named transactions) is read here.

use std::borrow::Cow;

use sqlparser::ast::Statement;
use sqlparser::dialect::MsSqlDialect;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Token, TokenWithSpan, Tokenizer, Whitespace};

/// One thing that a batch does.
pub(crate) enum What {
    Sql(Box<Statement>),
    Begin,
    Commit,
    /// To a savepoint, where it has a name.
    Rollback(Option<String>),
    Save(String),
    /// An option, as its words.
    Option(Vec<String>),
    /// A login or a user, as its words.
    Account(Vec<String>),
}

/// A step and the line where it begins, counted from 1.
pub(crate) struct Step {
    pub(crate) what: What,
    pub(crate) line: u32,
}

/// Why a batch is not understood: near what, in which line.
pub(crate) struct NotUnderstood {
    pub(crate) near: String,
    pub(crate) line: u32,
}

fn word(token: &Token) -> Option<String> {
    match token {
        Token::Word(word) => Some(word.value.clone()),
        Token::Number(digits, _) => Some(digits.clone()),
        Token::SingleQuotedString(text) | Token::NationalStringLiteral(text) => Some(text.clone()),
        _ => None,
    }
}

fn is(token: &Token, words: &[&str]) -> bool {
    matches!(token, Token::Word(word) if word.quote_style.is_none() && words.iter().any(|own| word.value.eq_ignore_ascii_case(own)))
}

/// The words up to the end of the line or a semicolon.
fn rest_of_line(parser: &mut Parser<'_>, of_option: bool) -> Vec<String> {
    let line = parser.peek_token().span.start.line;
    let mut words = Vec::new();
    loop {
        let next = parser.peek_token();
        if matches!(next.token, Token::EOF | Token::SemiColon) || next.span.start.line != line {
            return words;
        }
        if of_option
            && !words.is_empty()
            && is(
                &next.token,
                &[
                    "SET", "SELECT", "INSERT", "UPDATE", "DELETE", "EXEC", "BEGIN", "DECLARE",
                    "CREATE", "USE",
                ],
            )
        {
            return words;
        }
        parser.next_token();
        words.extend(word(&next.token));
    }
}

fn one(parser: &mut Parser<'_>) -> Result<What, ParserError> {
    let (first, second) = (parser.peek_token().token, parser.peek_nth_token(1).token);
    let tran = is(&second, &["TRAN", "TRANSACTION"]);
    let name = |parser: &mut Parser<'_>| {
        parser.next_token();
        parser.next_token();
        let next = parser.peek_token().token;
        // A name, unless it begins the next statement.
        let starts = [
            "SELECT", "INSERT", "UPDATE", "DELETE", "SET", "EXEC", "BEGIN", "COMMIT", "ROLLBACK",
            "SAVE", "IF", "DECLARE", "PRINT", "CREATE", "DROP", "USE", "WITH",
        ];
        match word(&next) {
            Some(name) if !is(&next, &starts) => {
                parser.next_token();
                Some(name)
            }
            _ => None,
        }
    };
    if is(&first, &["BEGIN"]) && tran {
        name(parser);
        return Ok(What::Begin);
    }
    if is(&first, &["COMMIT"]) && tran {
        name(parser);
        return Ok(What::Commit);
    }
    if is(&first, &["ROLLBACK"]) && tran {
        return Ok(What::Rollback(name(parser)));
    }
    if is(&first, &["SAVE"]) && tran {
        return Ok(What::Save(name(parser).unwrap_or_default()));
    }
    if is(&first, &["SET"]) && !matches!(&second, Token::Word(word) if word.value.starts_with('@'))
    {
        parser.next_token();
        return Ok(What::Option(rest_of_line(parser, true)));
    }
    if is(
        &first,
        &["ALTER", "CREATE", "DROP", "GRANT", "DENY", "REVOKE"],
    ) && (is(&first, &["GRANT", "DENY", "REVOKE"])
        || is(
            &second,
            &[
                "LOGIN", "USER", "ROLE", "SCHEMA", "DATABASE", "SYNONYM", "SEQUENCE",
            ],
        ))
    {
        return Ok(What::Account(rest_of_line(parser, false)));
    }
    Ok(What::Sql(Box::new(parser.parse_statement()?)))
}

/// A procedure as the parser wants it: parameters in brackets, and its body in a block. Anything else stays as it is.
pub(crate) fn procedure(text: &str) -> Cow<'_, str> {
    let lower = text.to_ascii_lowercase();
    let words: Vec<&str> = lower.split_whitespace().take(4).collect();
    let is = matches!(
        words[..],
        ["create", "procedure" | "proc", ..] | ["create", "or", "alter", "procedure" | "proc"]
    );
    let body = [" as ", " as\n", "\nas ", "\nas\n"];
    let found = body
        .iter()
        .filter_map(|word| lower.find(word).map(|at| (at, word.len())));
    let (true, Some((at, length))) = (is, found.min()) else {
        return Cow::Borrowed(text);
    };
    let (head, rest) = (&text[..at], text[at + length..].trim());
    let head = match head.find('@') {
        Some(from) if !head[..from].trim_end().ends_with('(') => {
            format!("{} ({})", head[..from].trim_end(), &head[from..])
        }
        _ => head.to_string(),
    };
    let block = rest.to_ascii_lowercase().starts_with("begin");
    let ended = rest.trim_end_matches(';');
    Cow::Owned(match block {
        true => format!("{head} as {rest}"),
        false => format!("{head} as begin {ended}; end"),
    })
}

/// The name by which a loop is left, and that by which its next turn begins: the parser knows neither word.
pub(crate) const BREAK: &str = "t_break";
/// See [`BREAK`].
pub(crate) const CONTINUE: &str = "t_continue";

/// A parser of a text, in which what it does not know is written as it does.
///
/// # Errors
/// If the text has no tokens.
pub(crate) fn parser(text: &str) -> Result<Parser<'static>, ParserError> {
    let tokens = Tokenizer::new(&DIALECT, text).tokenize_with_location()?;
    let mut known: Vec<TokenWithSpan> = Vec::with_capacity(tokens.len());
    let significant = |from: usize| {
        let mut rest = tokens.get(from..).unwrap_or_default().iter();
        rest.find(|token| !matches!(token.token, Token::Whitespace(_)))
    };
    for (at, token) in tokens.iter().enumerate() {
        let with = |word: &str| TokenWithSpan::new(Token::make_word(word, None), token.span);
        let called = match &token.token {
            of if is(of, &["BREAK"]) => Some(BREAK),
            of if is(of, &["CONTINUE"]) => Some(CONTINUE),
            _ => None,
        };
        if let Some(name) = called {
            known.extend([
                with("EXEC"),
                TokenWithSpan::new(Token::Whitespace(Whitespace::Space), token.span),
                with(name),
            ]);
            continue;
        }
        known.push(token.clone());
        // `delete t` is `delete from t`; the word has other places, too.
        let others = ["FROM", "TOP", "AS", "ON", "CASCADE", "NO", "SET"];
        let next = significant(at + 1).map(|next| &next.token);
        if is(&token.token, &["DELETE"])
            && next.is_some_and(|next| matches!(next, Token::Word(_)) && !is(next, &others))
        {
            known.extend([
                TokenWithSpan::new(Token::Whitespace(Whitespace::Space), token.span),
                with("FROM"),
            ]);
        }
    }
    Ok(Parser::new(&DIALECT).with_tokens_with_locations(known))
}

static DIALECT: MsSqlDialect = MsSqlDialect {};

/// Reads a batch.
///
/// # Errors
/// Where it is not understood; then nothing of it may run.
pub(crate) fn read(text: &str) -> Result<Vec<Step>, NotUnderstood> {
    let not_understood = |error: ParserError, line: u64| {
        let words = error.to_string();
        let near = words
            .split_once("found: ")
            .map_or(words.as_str(), |(_, rest)| rest)
            .split(" at Line")
            .next()
            .unwrap_or_default()
            .to_string();
        let said = words
            .split_once("Line: ")
            .and_then(|(_, rest)| rest.split(',').next()?.parse().ok());
        NotUnderstood {
            near,
            line: said.unwrap_or(line as u32),
        }
    };
    let text = procedure(text);
    let mut parser = parser(&text).map_err(|error| not_understood(error, 1))?;
    let mut steps = Vec::new();
    loop {
        while parser.consume_token(&Token::SemiColon) {}
        let at = parser.peek_token();
        if at.token == Token::EOF {
            return Ok(steps);
        }
        let line = at.span.start.line;
        let what = one(&mut parser).map_err(|error| not_understood(error, line))?;
        steps.push(Step {
            what,
            line: line as u32,
        });
    }
}
