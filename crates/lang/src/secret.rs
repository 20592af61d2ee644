//! Secrets in statements: finding the literals that are passwords, and covering them with hidden parameters
//! (`:?name`). What is covered reads and runs as a statement that asks.

use std::ops::Range;

use crate::dialect::Dialect;
use crate::token::{Token, TokenKind, significant, tokens};

/// A statement without its secrets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Covered {
    /// The text, a hidden parameter in the place of every secret.
    pub text: String,
    /// The parameters and the literals they stand for, quotes and all.
    pub secrets: Vec<(String, String)>,
}

/// Functions that take a password in clear.
const DIGESTS: [&str; 14] = [
    "aes_encrypt",
    "crypt",
    "digest",
    "encrypt",
    "hmac",
    "md5",
    "old_password",
    "password",
    "pgp_sym_encrypt",
    "sha",
    "sha1",
    "sha2",
    "sha256",
    "sha512",
];

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

struct Finder<'a> {
    text: &'a str,
    list: Vec<Token>,
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
                    if word == "identified" || is_secret_name(&word) {
                        return true;
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

    /// Places of literals within calls of functions that take a password.
    fn in_digests(&self) -> Vec<usize> {
        let mut found = Vec::new();
        let mut open: Vec<bool> = Vec::new();
        for (at, token) in self.list.iter().enumerate() {
            match token.kind {
                TokenKind::Open => {
                    let digest = at > 0 && DIGESTS.contains(&self.word(at - 1).as_str());
                    open.push(digest);
                }
                TokenKind::Close => drop(open.pop()),
                TokenKind::Text if open.contains(&true) => found.push(at),
                _ => {}
            }
        }
        found
    }

    /// Places of the literals that an insert puts into secret columns.
    fn inserted(&self) -> Vec<usize> {
        let mut found = Vec::new();
        if !matches!(self.word(0).as_str(), "insert" | "replace") {
            return found;
        }
        let Some(open) = self.list.iter().position(|t| t.kind == TokenKind::Open) else {
            return found;
        };
        let mut secret = Vec::new();
        let mut at = open + 1;
        while at < self.list.len() && self.list[at].kind != TokenKind::Close {
            if self.list[at].kind != TokenKind::Comma {
                secret.push(is_secret_name(&self.word(at)));
            }
            at += 1;
        }
        if self.word(at + 1) != "values" {
            return found;
        }
        let (mut depth, mut column) = (0, 0);
        for at in at + 2..self.list.len() {
            match self.list[at].kind {
                TokenKind::Open => {
                    depth += 1;
                    if depth == 1 {
                        column = 0;
                    }
                }
                TokenKind::Close => depth -= 1,
                TokenKind::Comma if depth == 1 => column += 1,
                TokenKind::Text if depth >= 1 && secret.get(column) == Some(&true) => {
                    found.push(at)
                }
                _ => {}
            }
        }
        found
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
    let finder = Finder {
        text,
        list: significant(&tokens(text, dialect)),
    };
    let in_digests = finder.in_digests();
    let inserted = finder.inserted();
    // A digest of a literal is a secret where something secret is written or compared.
    let secret_around = finder.list.iter().enumerate().any(|(at, token)| {
        matches!(token.kind, TokenKind::Word | TokenKind::QuotedName)
            && is_secret_name(&finder.word(at))
    });
    (0..finder.list.len())
        .filter(|at| finder.is_literal(*at))
        .filter(|at| {
            finder.is_announced(*at)
                || inserted.contains(at)
                || secret_around && in_digests.contains(at)
                || finder.carries_one(*at)
        })
        .map(|at| finder.list[at].start..finder.list[at].end)
        .collect()
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
mod tests {
    use super::*;
    use crate::dialect::{FLOW, MARIADB, POSTGRES, SQLITE};
    use crate::parameter::{fill, parameters};
    use proptest::prelude::*;

    #[test]
    fn passwords_are_covered_wherever_they_stand() {
        for (text, dialect) in [
            ("create role mate login password 'pw-x'", &POSTGRES),
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
            (
                "change master to master_user='r', master_password='pw-x'",
                MARIADB,
            ),
            ("grant all on *.* to mate@h identified by \"pw-x\"", MARIADB),
            ("update keepers set pass_hash = sha2('pw-x', 256)", MARIADB),
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
}
