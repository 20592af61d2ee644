//! Secrets in statements: finding the literals that are passwords, and covering them with hidden parameters
//! (`:?name`). What is covered reads and runs as a statement that asks.

use std::collections::HashSet;
use std::ops::Range;

use crate::dialect::{Dialect, Family};
use crate::token::{Token, TokenKind, significant, tokens};

/// A statement without its secrets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Covered {
    /// The text, a hidden parameter in the place of every secret.
    pub text: String,
    /// The parameters and the literals they stand for, quotes and all.
    pub secrets: Vec<(String, String)>,
}

/// Covers the secrets of script lines: those of the statements that stand in their texts.
pub fn cover_script(text: &str, dialect: &Dialect) -> Option<Covered> {
    use crate::flow::token as script;
    let mut covered = String::with_capacity(text.len());
    let mut secrets: Vec<(String, String)> = Vec::new();
    for token in script::tokens(text) {
        let part = token.of(text);
        let inner = match token.kind {
            script::TokenKind::Text => script::unquoted(part).ok(),
            _ => None,
        };
        let Some(found) = inner.and_then(|inner| cover(&inner, dialect)) else {
            covered.push_str(part);
            continue;
        };
        let mut inner = found.text;
        // The last names are the longest: none of them is the beginning of one that is yet to be replaced.
        for (name, literal) in found.secrets.into_iter().rev() {
            let own = format!("secret_{}", secrets.len() + 1);
            inner = inner.replacen(&format!(":?{name}"), &format!(":?\u{1}{own}"), 1);
            secrets.push((own, literal));
        }
        let inner = inner.replace(":?\u{1}", ":?");
        covered.push_str(&format!("'{}'", inner.replace('\'', "''")));
    }
    (!secrets.is_empty()).then_some(Covered {
        text: covered,
        secrets,
    })
}

/// Functions one of whose arguments is a key or a password, always.
const KEYED: [&str; 14] = [
    "aes_decrypt",
    "aes_encrypt",
    "crypt",
    "decrypt",
    "decrypt_iv",
    "des_decrypt",
    "des_encrypt",
    "encrypt",
    "encrypt_iv",
    "hmac",
    "old_password",
    "password",
    "pgp_sym_decrypt",
    "pgp_sym_encrypt",
];

/// Procedures one of whose arguments, wherever it stands, is a password.
const PROCEDURES: [&str; 7] = [
    "sp_addapprole",
    "sp_addlinkedsrvlogin",
    "sp_addlogin",
    "sp_addremotelogin",
    "sp_approlepassword",
    "sp_password",
    "sp_setapprole",
];

/// Functions that are given a password where one is written or compared.
const DIGESTS: [&str; 7] = ["digest", "md5", "sha", "sha1", "sha2", "sha256", "sha512"];

/// Whether a name is that of something secret: `password`, `api_token`, `pass_hash`.
pub fn is_secret_name(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    [
        "passw",
        "passwd",
        "pwd",
        "secret",
        "token",
        "api_key",
        "apikey",
        "pass_hash",
        "passphrase",
        "private_key",
    ]
    .iter()
    .any(|part| lower.contains(part))
        || lower == "pass"
        || is_misspelt(&lower, "password", 1)
}

/// Whether a word is meant to be another one and is written with so few slips.
fn is_misspelt(word: &str, meant: &str, slips: usize) -> bool {
    word.len() + slips >= meant.len()
        && word.len() <= meant.len() + slips
        && strsim::damerau_levenshtein(word, meant) <= slips
}

/// Words that may stand between what names a secret and the secret.
const BETWEEN: [&str; 9] = [
    "by",
    "as",
    "to",
    "is",
    "using",
    "with",
    "password",
    "encrypted",
    "value",
];

/// Texts within texts deeper than this are not looked into.
const DEEPEST: usize = 4;

struct Finder<'a> {
    text: &'a str,
    dialect: &'a Dialect,
    list: Vec<Token>,
    depth: usize,
}

impl Finder<'_> {
    fn word(&self, at: usize) -> String {
        self.list
            .get(at)
            .and_then(|token| token.name(self.text))
            .unwrap_or_default()
            .to_ascii_lowercase()
    }

    fn is_literal(&self, at: usize) -> bool {
        self.list.get(at).is_some_and(|t| t.kind == TokenKind::Text)
    }

    /// Whether the literal at `at` follows words that announce a secret.
    fn is_announced(&self, at: usize) -> bool {
        let mut back = at;
        let mut steps = 0;
        while back > 0 && steps < 10 {
            back -= 1;
            steps += 1;
            let token = self.list[back];
            match token.kind {
                TokenKind::Operator | TokenKind::Open | TokenKind::Unknown => {}
                TokenKind::Word | TokenKind::QuotedName => {
                    let word = self.word(back);
                    if is_misspelt(&word, "identified", 2) || is_secret_name(&word) {
                        return true;
                    }
                    // `U&'…'`, and texts with the name of their character set.
                    let of_set = back + 1 == at && word.starts_with('_');
                    if of_set || word == "u" && self.list[back + 1].of(self.text) == "&" {
                        continue;
                    }
                    // The password that is replaced stands behind the new one.
                    if word == "replace" && back + 1 == at {
                        let before = &self.list[..back];
                        return before
                            .iter()
                            .any(|token| token.is_word(self.text, "identified"));
                    }
                    let set_password =
                        word == "for" && self.word(back.saturating_sub(1)) == "password";
                    // A function around it, and the user whose password it is.
                    let called = self
                        .list
                        .get(back + 1)
                        .is_some_and(|t| t.kind == TokenKind::Open);
                    let user = self.word(back.saturating_sub(1)) == "for";
                    let plugin = self.word(back.saturating_sub(1)) == "via"
                        || self.word(back.saturating_sub(1)) == "with";
                    if !(BETWEEN.contains(&word.as_str())
                        || set_password
                        || called
                        || user
                        || plugin
                        || word == "via")
                    {
                        return false;
                    }
                }
                // A field's name in quotes.
                TokenKind::Text if back + 1 < at && self.list[back + 1].of(self.text) == ":" => {
                    return is_secret_name(token.of(self.text));
                }
                // The user's name and host in quotes.
                TokenKind::Text if self.word(0) == "set" && self.word(1) == "password" => {}
                _ => return false,
            }
        }
        false
    }

    /// Places of literals within calls of these functions, and of settings whose name is that of a secret.
    fn in_calls(&self, functions: &[&str]) -> Vec<usize> {
        let mut found = Vec::new();
        let mut open: Vec<bool> = Vec::new();
        for (at, token) in self.list.iter().enumerate() {
            match token.kind {
                TokenKind::Open => {
                    let called = if at > 0 {
                        self.word(at - 1)
                    } else {
                        String::new()
                    };
                    let of_setting = called == "set_config"
                        && self
                            .list
                            .get(at + 1)
                            .is_some_and(|name| is_secret_name(name.of(self.text)));
                    open.push(of_setting || functions.contains(&called.as_str()));
                }
                TokenKind::Close => drop(open.pop()),
                TokenKind::Text if open.contains(&true) => found.push(at),
                _ => {}
            }
        }
        found
    }

    /// Places of the literals that are given to such procedures, up to the end of the call.
    fn in_procedures(&self) -> Vec<usize> {
        let mut found = Vec::new();
        let mut called = false;
        for (at, token) in self.list.iter().enumerate() {
            match token.kind {
                TokenKind::Semicolon => called = false,
                TokenKind::Word => called |= PROCEDURES.contains(&self.word(at).as_str()),
                TokenKind::Text if called => found.push(at),
                _ => {}
            }
        }
        found
    }

    /// Places of literals that only their statement tells to be secret.
    fn in_statements(&self) -> Vec<usize> {
        let first = self.word(0);
        let texts = || (0..self.list.len()).filter(|at| self.is_literal(*at));
        // What stands in double quotes and names nothing is a text there.
        let quoted = || {
            let of_kind = |at: &usize| self.list[*at].kind == TokenKind::QuotedName;
            (0..self.list.len()).filter(move |at| self.is_literal(*at) || of_kind(at))
        };
        match self.dialect.family {
            // The key of an encrypted file, as builds of the engine have it.
            Family::Sqlite if first == "attach" => {
                let keys = quoted().filter(|at| self.word(at.saturating_sub(1)) == "key");
                keys.collect()
            }
            Family::Sqlite if first == "pragma" => {
                const KEYS: [&str; 5] = ["hexkey", "hexrekey", "key", "rekey", "textkey"];
                let named = (1..4).any(|at| KEYS.contains(&self.word(at).as_str()));
                quoted().filter(|_| named).collect()
            }
            Family::Mariadb => self.in_calls(&["decode", "encode"]),
            // A server, a user and a password, with semicolons between them.
            Family::Tabular => {
                let parts = self.in_calls(&["opendatasource", "openrowset"]);
                let behind = |at: &usize| self.list[at - 1].kind == TokenKind::Semicolon;
                let mut found: Vec<usize> = parts.into_iter().filter(behind).collect();
                found.extend(self.in_variables());
                found
            }
            Family::Documents => {
                const LOGINS: [&str; 2] = ["saslcontinue", "saslstart"];
                let login = (0..self.list.len()).any(|at| LOGINS.contains(&self.word(at).as_str()));
                let payload = |at: &usize| self.word(at.saturating_sub(2)) == "payload";
                texts().filter(|at| login && payload(at)).collect()
            }
            _ => Vec::new(),
        }
    }

    /// Places of the literals that variables with the name of a secret are declared with.
    fn in_variables(&self) -> Vec<usize> {
        let mut found = Vec::new();
        let mut secret = false;
        for (at, token) in self.list.iter().enumerate() {
            let text = token.of(self.text);
            match token.kind {
                TokenKind::Semicolon => secret = false,
                _ if text.starts_with('@') => secret = is_secret_name(text),
                TokenKind::Text if secret => found.push(at),
                _ => {}
            }
        }
        found
    }

    /// For each of the names between the brackets that open at `open` whether it is that of a secret; and the token
    /// after the closing one.
    fn secret_columns(&self, open: usize) -> (Vec<bool>, usize) {
        let mut secret = vec![false];
        let mut at = open + 1;
        while at < self.list.len() && self.list[at].kind != TokenKind::Close {
            match (self.list[at].kind, secret.last_mut()) {
                (TokenKind::Comma, _) => secret.push(false),
                (_, Some(last)) => *last |= is_secret_name(&self.word(at)),
                _ => {}
            }
            at += 1;
        }
        (secret, at + 1)
    }

    /// Places of the literals of a list that stand where a secret belongs. The list ends at its closing bracket or
    /// at one of `ends`; answers the token after it.
    fn of_list(
        &self,
        mut at: usize,
        secret: &[bool],
        ends: &[&str],
        found: &mut Vec<usize>,
    ) -> usize {
        let (mut depth, mut column) = (0_i32, 0);
        while let Some(token) = self.list.get(at) {
            match token.kind {
                TokenKind::Open => depth += 1,
                TokenKind::Close if depth == 0 => return at + 1,
                TokenKind::Close => depth -= 1,
                TokenKind::Comma if depth == 0 => column += 1,
                TokenKind::Semicolon => return at,
                TokenKind::Word if depth == 0 && ends.contains(&self.word(at).as_str()) => {
                    return at;
                }
                TokenKind::Text if secret.get(column) == Some(&true) => found.push(at),
                _ => {}
            }
            at += 1;
        }
        at
    }

    fn opens(&self, at: usize) -> bool {
        self.list
            .get(at)
            .is_some_and(|token| token.kind == TokenKind::Open)
    }

    /// Places of the literals that inserts put into secret columns, as values or by a select, and of those that
    /// an update sets by a list of columns.
    fn in_columns(&self) -> Vec<usize> {
        let mut found = Vec::new();
        for start in 0..self.list.len() {
            if self.list[start].kind != TokenKind::Word {
                continue;
            }
            let word = self.word(start);
            let open = match word.as_str() {
                "insert" | "replace" => (start..start + 12).find(|at| self.opens(*at)),
                "set" => Some(start + 1).filter(|at| self.opens(*at)),
                _ => None,
            };
            let Some((secret, after)) = open.map(|open| self.secret_columns(open)) else {
                continue;
            };
            if secret.contains(&true) {
                self.in_values(&secret, after, &mut found);
            }
        }
        found
    }

    /// What follows a list of columns: `values (…), (…)`, `= (…)`, `= row (…)`, `select …`, in brackets or not.
    fn in_values(&self, secret: &[bool], mut at: usize, found: &mut Vec<usize>) {
        const BEFORE: &[&str] = &["overriding", "system", "user", "value", "values", "row"];
        let is_sign = |at: usize| {
            self.list
                .get(at)
                .is_some_and(|token| token.kind == TokenKind::Operator)
        };
        while is_sign(at) || BEFORE.contains(&self.word(at).as_str()) {
            at += 1;
        }
        while self.opens(at) && self.word(at + 1) != "select" {
            at = self.of_list(at + 1, secret, &[], found);
            while matches!(self.list.get(at).map(|t| t.kind), Some(TokenKind::Comma))
                || self.word(at) == "row"
            {
                at += 1;
            }
        }
        at += usize::from(self.opens(at));
        if self.word(at) == "select" {
            self.of_list(at + 1, secret, &["from", "where", "union"], found);
        }
    }

    /// Whether the literal holds a statement or an object with a secret in it.
    fn holds_one(&self, at: usize) -> bool {
        let raw = self.list[at].of(self.text);
        let inner = match raw.strip_prefix('$').and_then(|rest| rest.split_once('$')) {
            Some((tag, rest)) => {
                let end = format!("${tag}$");
                rest.strip_suffix(end.as_str()).unwrap_or(rest).to_string()
            }
            None => raw
                .trim_matches(['\'', '"'])
                .replace("''", "'")
                .replace("\"\"", "\""),
        };
        let parts: Vec<&str> = inner.split('"').collect();
        let object = parts.windows(2).any(|pair| {
            is_secret_name(pair[0])
                && !pair[0].contains(' ')
                && pair[1].trim_start().starts_with(':')
        });
        object
            || self.depth < DEEPEST
                && inner.len() < raw.len()
                && inner.contains(['\'', '"', '$'])
                && !places_within(&inner, self.dialect, self.depth + 1).is_empty()
    }

    /// Whether the literal is a connection string with a password, or an address with one.
    fn carries_one(&self, at: usize) -> bool {
        let text = self.list[at].of(self.text).to_ascii_lowercase();
        let pair = ["password=", "password =", "pwd=", "passwd="]
            .iter()
            .any(|p| text.contains(p));
        let address = text.split_once("://").is_some_and(|(_, rest)| {
            rest.split('@')
                .next()
                .is_some_and(|login| rest.contains('@') && login.contains(':'))
        });
        pair || address
    }
}

/// The places of the secrets in a statement.
fn places(text: &str, dialect: &Dialect) -> Vec<Range<usize>> {
    places_within(text, dialect, 0)
}

fn places_within(text: &str, dialect: &Dialect, depth: usize) -> Vec<Range<usize>> {
    let finder = Finder {
        text,
        dialect,
        list: significant(&tokens(text, dialect)),
        depth,
    };
    // A digest of a literal is a secret where something secret is written or compared.
    let secret_around = finder.list.iter().enumerate().any(|(at, token)| {
        matches!(token.kind, TokenKind::Word | TokenKind::QuotedName)
            && is_secret_name(&finder.word(at))
    });
    let mut known = finder.in_columns();
    known.extend(finder.in_calls(&KEYED));
    known.extend(finder.in_procedures());
    known.extend(finder.in_statements());
    if secret_around {
        known.extend(finder.in_calls(&DIGESTS));
    }
    let known: HashSet<usize> = known.into_iter().collect();
    let mut found: Vec<usize> = Vec::new();
    let may = |at: &usize| finder.is_literal(*at) || known.contains(at);
    for at in (0..finder.list.len()).filter(may) {
        // A literal that goes on in another one behind it.
        let goes_on = found.last().is_some_and(|last| last + 1 == at);
        if goes_on
            || known.contains(&at)
            || finder.is_announced(at)
            || finder.carries_one(at)
            || finder.holds_one(at)
        {
            found.push(at);
        }
    }
    found
        .into_iter()
        .map(|at| finder.list[at].start..finder.list[at].end)
        .collect()
}

/// A statement that makes or changes a user and ends where a password would stand: with a hidden parameter there, so that
/// it is asked for. `None` for any other.
pub fn left_out(text: &str, dialect: &Dialect) -> Option<String> {
    let mut list = significant(&tokens(text, dialect));
    while list
        .last()
        .is_some_and(|token| token.kind == TokenKind::Semicolon)
    {
        list.pop();
    }
    let is = |at: usize, words: &[&str]| {
        let token = list.get(at);
        token.is_some_and(|token| words.iter().any(|word| token.is_word(text, word)))
    };
    let last = list.len().checked_sub(1)?;
    let ends = match dialect.family {
        Family::Postgres => is(last, &["password"]),
        Family::Mariadb => is(last, &["by"]) && is(last.checked_sub(1)?, &["identified"]),
        _ => false,
    };
    let of_users = is(0, &["create", "alter"]) && (is(1, &["user", "role"]));
    let end = list[last].end;
    (ends && of_users && last > 2).then(|| format!("{} :?password{}", &text[..end], &text[end..]))
}

/// Covers the secrets of a text; `None` if it holds none.
pub fn cover(text: &str, dialect: &Dialect) -> Option<Covered> {
    // Most texts hold no literal at all, and data behind a statement are not looked through.
    if !text.contains('\'') && !text.contains('"') && !text.contains('$') || text.len() > 1 << 20 {
        return None;
    }
    let places = places(text, dialect);
    if places.is_empty() {
        return None;
    }
    let mut covered = String::with_capacity(text.len());
    let mut secrets = Vec::new();
    let mut last = 0;
    for place in places {
        covered.push_str(&text[last..place.start]);
        let taken = |name: &str| text.contains(&format!(":?{name}"));
        let numbered = (secrets.len() + 1..).map(|n| match n {
            1 => "secret".to_string(),
            n => format!("secret_{n}"),
        });
        let used = |name: &String| secrets.iter().any(|(n, _)| n == name) || taken(name);
        let name = numbered
            .into_iter()
            .find(|name| !used(name))
            .unwrap_or_default();
        // A sign before it or a word after it must not become part of it.
        if covered.ends_with(':') {
            covered.push(' ');
        }
        covered.push_str(&format!(":?{name}"));
        if text[place.end..]
            .bytes()
            .next()
            .is_some_and(crate::token::is_word_byte)
        {
            covered.push(' ');
        }
        secrets.push((name, text[place.clone()].to_string()));
        last = place.end;
    }
    covered.push_str(&text[last..]);
    Some(Covered {
        text: covered,
        secrets,
    })
}

#[cfg(test)]
#[allow(clippy::too_many_lines)]
mod tests {
    use super::*;
    use crate::dialect::{FLOW, MARIADB, POSTGRES, SQLITE, TABULAR};
    use crate::parameter::{fill, parameters};
    use proptest::prelude::*;

    #[test]
    fn a_password_that_is_left_out_is_asked_for() {
        use crate::dialect::{MARIADB, POSTGRES};
        let out = |text: &str, dialect| left_out(text, dialect);
        assert_eq!(
            out("create user mate login password;", &POSTGRES).as_deref(),
            Some("create user mate login password :?password;")
        );
        assert_eq!(
            out("alter user mate identified by", MARIADB).as_deref(),
            Some("alter user mate identified by :?password")
        );
        for (text, dialect) in [
            ("create user mate password 'x'", &POSTGRES),
            ("create user password", &POSTGRES),
            ("select password", &POSTGRES),
            ("create user mate", MARIADB),
            ("create user mate identified by 'x'", MARIADB),
        ] {
            assert_eq!(out(text, dialect), None, "{text}");
        }
    }

    #[test]
    fn passwords_are_covered_wherever_they_stand() {
        for (text, dialect) in [
            ("create login mate with password = 'pw-x'", &TABULAR),
            (
                "create login mate with password = N'pw-x' must_change, check_policy = on",
                &TABULAR,
            ),
            (
                "alter login mate with password = 'pw-x' old_password = 'pw-x'",
                &TABULAR,
            ),
            (
                "declare @n int = 1; create user mate with password = N'pw-x'; select @n",
                &TABULAR,
            ),
            (
                "create master key encryption by password = 'pw-x'",
                &TABULAR,
            ),
            (
                "open symmetric key k decryption by password = 'pw-x'",
                &TABULAR,
            ),
            (
                "create credential c with identity = 'mate', secret = 'pw-x'",
                &TABULAR,
            ),
            (
                "exec sp_addlinkedsrvlogin 'quay', 'false', null, 'mate', 'pw-x'",
                &TABULAR,
            ),
            (
                "exec sp_addlinkedsrvlogin @rmtsrvname = 'quay', @rmtuser = 'mate', @rmtpassword = N'pw-x'",
                &TABULAR,
            ),
            ("exec sp_password 'pw-x', 'pw-x', 'mate'", &TABULAR),
            (
                "select * from openrowset('MSOLEDBSQL', 'Server=quay;Uid=mate;Pwd=pw-x;', 'select 1')",
                &TABULAR,
            ),
            (
                "exec ('create login mate with password = ''pw-x''')",
                &TABULAR,
            ),
            ("create role mate login password 'pw-x'", &POSTGRES),
            ("attach database 'a.db' as a key 'pw-x'", &SQLITE),
            ("pragma main.key = 'pw-x'", &SQLITE),
            ("attach 'a.db' as a key \"pw-x\"", &SQLITE),
            ("pragma rekey('pw-x')", &SQLITE),
            (
                "alter user mate identified by 'pw-x' replace 'pw-x'",
                MARIADB,
            ),
            ("select encode(note, 'pw-x') from visits", MARIADB),
            (
                "select * from openrowset('x', 'quay';'mate';'pw-x', 'select 1')",
                &TABULAR,
            ),
            (
                "declare @n int = 1, @password nvarchar(40) = N'pw-x'",
                &TABULAR,
            ),
            (
                "call { saslStart: 1, mechanism: 'PLAIN', payload: 'pw-x' }",
                &FLOW,
            ),
            ("alter user mate with encrypted password e'pw-x'", &POSTGRES),
            ("create user mate password $$pw-x$$", &POSTGRES),
            (
                "create subscription s connection 'host=h password=pw-x' publication p",
                &POSTGRES,
            ),
            (
                "create user mapping for mate server s options (user 'mate', password 'pw-x')",
                &POSTGRES,
            ),
            (
                "update keepers set pass_hash = md5('pw-x') where id = 1",
                &POSTGRES,
            ),
            (
                "update keepers set pass_hash = crypt('pw-x', gen_salt('bf'))",
                &POSTGRES,
            ),
            ("select * from keepers where password = 'pw-x'", &POSTGRES),
            (
                "select dblink_connect('postgres://mate:pw-x@h/x')",
                &POSTGRES,
            ),
            (
                "insert into keepers (id, pass_hash, name) values (1, 'pw-x', 'Ada'), (2, concat('pw-x'), 'Bo')",
                &SQLITE,
            ),
            ("create user mate password 'pw-x'", &FLOW),
            (
                "call { createUser: 'mate', pwd: 'pw-x', roles: ['read'] }",
                &FLOW,
            ),
            (
                "insert into keepers { \"name\": \"Ada\", \"password\": \"pw-x\" }",
                &FLOW,
            ),
            ("create user 'mate'@'%' identified by 'pw-x'", MARIADB),
            (
                "alter user mate identified via mysql_native_password using password('pw-x')",
                MARIADB,
            ),
            (
                "alter user mate identified with caching_sha2_password by 'pw-x'",
                MARIADB,
            ),
            (
                "set password for 'mate'@'localhost' = password('pw-x')",
                MARIADB,
            ),
            ("set password = 'pw-x'", MARIADB),
            ("create user mate identified by'pw-x'", MARIADB),
            (
                "change master to master_user='r', master_password='pw-x'",
                MARIADB,
            ),
            ("grant all on *.* to mate@h identified by \"pw-x\"", MARIADB),
            ("update keepers set pass_hash = sha2('pw-x', 256)", MARIADB),
            (
                "insert into keepers (id, password) select 1, 'pw-x'",
                &SQLITE,
            ),
            (
                "insert into keepers (id, password) select 1, concat('pw-x', name) from t",
                &POSTGRES,
            ),
            (
                "with a as (insert into keepers (name, password) values ('a', 'pw-x') returning 1) select 1",
                &POSTGRES,
            ),
            (
                "update keepers set (name, password) = ('a', 'pw-x') where id = 1",
                &POSTGRES,
            ),
            (
                "update keepers set (name, password) = (select 'a', 'pw-x')",
                &POSTGRES,
            ),
            (
                "update keepers set (name, password) = row('a', 'pw-x')",
                &POSTGRES,
            ),
            ("insert into keepers (password) value ('pw-x')", MARIADB),
            (
                "execute immediate 'create user mate identified by ''pw-x'''",
                MARIADB,
            ),
            (
                "execute immediate \"create user mate identified by 'pw-x'\"",
                MARIADB,
            ),
            (
                "do $$ begin create role mate password 'pw-x'; end $$",
                &POSTGRES,
            ),
            (
                "do $a$ begin execute $b$create role mate password 'pw-x'$b$; end $a$",
                &POSTGRES,
            ),
            (
                "begin not atomic create user mate identified by 'pw-x'; end",
                MARIADB,
            ),
            (
                "select set_config('app.password', 'pw-x', false)",
                &POSTGRES,
            ),
            (
                "insert into docs values ('{\"name\": \"a\", \"password\": \"pw-x\"}')",
                &POSTGRES,
            ),
            ("select pgp_sym_encrypt(note, 'pw-x') from notes", &POSTGRES),
            ("select aes_decrypt(note, 'pw-x') from notes", MARIADB),
            ("create role mate password U&'pw-x'", &POSTGRES),
            ("create user mate identified by _utf8mb4'pw-x'", MARIADB),
            ("create role mate password 'ab'\n'pw-x'", &POSTGRES),
            ("create role mate pasword 'pw-x'", &POSTGRES),
            ("create role mate passwrod 'pw-x'", &POSTGRES),
            ("create user mate identfied by 'pw-x'", MARIADB),
        ] {
            let covered = cover(text, dialect).unwrap_or_else(|| panic!("not covered: {text}"));
            assert!(!covered.text.contains("pw-x"), "{}", covered.text);
            let names = parameters(&covered.text, dialect);
            assert_eq!(names.len(), covered.secrets.len(), "{}", covered.text);
            let back = fill(&covered.text, dialect, &|name| {
                covered
                    .secrets
                    .iter()
                    .find(|(n, _)| n == name)
                    .map(|(_, value)| value.clone())
            });
            if !dialect.is_flow() {
                assert_eq!(back, text);
            }
            assert!(back.contains("pw-x"), "{back}");
            // What is covered stays as it is.
            assert_eq!(
                cover(&covered.text, dialect).map(|c| c.text),
                None,
                "{}",
                covered.text
            );
        }
    }

    #[test]
    fn what_is_no_secret_stays() {
        for text in [
            "select * from vessels where name = 'Grey Heron'",
            "select md5('tide')",
            "insert into vessels (id, name) values (1, 'Secret Tide')",
            "select 'password'",
            "comment on table t is 'a://b'",
            "update t set note = 'x' where name = 'y'",
            "insert into keepers (password, name) select null, 'Ada'",
            "update keepers set (name, note) = ('a', 'b')",
            "select set_config('search_path', 'old', false)",
            "insert into docs values ('{\"name\": \"password\"}')",
            "select * from passports where passport = 'x'",
            "do $$ begin raise notice 'tide'; end $$",
            "select encode(note, 'hex') from notes",
        ] {
            assert_eq!(cover(text, &POSTGRES), None, "{text}");
        }
    }

    proptest! {
        #[test]
        fn covering_any_text_loses_nothing(text in "(password|identified by|insert into t\\(pwd\\) values\\(| |'|\"|\\$\\$|=|\\(|\\)|,|x|\\PC){0,30}") {
            for dialect in [&SQLITE, &POSTGRES, MARIADB] {
                if let Some(covered) = cover(&text, dialect) {
                    let back = fill(&covered.text, dialect, &|name| {
                        covered.secrets.iter().find(|(n, _)| n == name).map(|(_, value)| value.clone())
                    });
                    let solid = |text: &str| text.replace(' ', "");
                    prop_assert_eq!(solid(&back), solid(&text));
                }
            }
        }
    }

    #[test]
    fn secrets_of_statements_in_script_lines_are_covered() {
        let typed = "= run('alter user mate identified by ''low water'''); x = 'plain'; run(\"create user a identified by 'one' password expire\")";
        let covered = cover_script(typed, MARIADB).expect("secrets");
        assert_eq!(
            covered.text,
            "= run('alter user mate identified by :?secret_1'); x = 'plain'; run('create user a identified by :?secret_2 password expire')"
        );
        let secrets: Vec<&str> = covered
            .secrets
            .iter()
            .map(|(_, literal)| literal.as_str())
            .collect();
        assert_eq!(secrets, ["'low water'", "'one'"]);
        assert_eq!(cover_script("= 1 + 2; 'a text'", MARIADB), None);
    }
}
