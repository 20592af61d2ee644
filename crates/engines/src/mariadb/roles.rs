//! Roles as the two servers of this family write them: MariaDB by name, MySQL as a list of accounts in backticks.

use idle_tide_lang::Dialect;

/// Roles as they are shown: `deck, crew@quay`. The host of an account is left out where it is any.
pub(super) fn shown(answer: &str) -> Option<String> {
    if answer.is_empty() || answer == "NONE" {
        return None;
    }
    if !answer.starts_with('`') {
        return Some(answer.to_string());
    }
    let each = answer.split("`,`").map(|account| {
        let account = account.trim_matches('`');
        let (name, host) = account.split_once("`@`").unwrap_or((account, "%"));
        let name = name.replace("``", "`");
        match host {
            "%" => name,
            host => format!("{name}@{host}"),
        }
    });
    Some(each.collect::<Vec<_>>().join(", "))
}

/// What takes the roles that are shown so, or none.
pub(super) fn take(roles: Option<&str>, is_mysql: bool, dialect: &Dialect) -> String {
    let Some(roles) = roles else {
        return "set role none".into();
    };
    if !is_mysql {
        return format!("set role {}", dialect.quote_text(roles));
    }
    let each = roles.split(", ").map(|role| {
        let (name, host) = role.rsplit_once('@').unwrap_or((role, "%"));
        format!("{}@{}", dialect.quote_text(name), dialect.quote_text(host))
    });
    format!("set role {}", each.collect::<Vec<_>>().join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_lang::dialect::mariadb;

    #[test]
    fn roles_are_taken_as_they_are_shown() {
        let dialect = mariadb(true, "");
        for (answer, words, statement) in [
            ("`deck`@`%`", "deck", "set role 'deck'@'%'"),
            (
                "`crew`@`quay`,`o'neil`@`%`",
                "crew@quay, o'neil",
                "set role 'crew'@'quay', 'o''neil'@'%'",
            ),
        ] {
            let roles = shown(answer).expect("a role");
            assert_eq!(roles, words);
            assert_eq!(take(Some(&roles), true, dialect), statement);
        }
        assert_eq!(
            take(shown("deck").as_deref(), false, dialect),
            "set role 'deck'"
        );
        assert_eq!(
            take(shown("NONE").as_deref(), true, dialect),
            "set role none"
        );
    }
}
