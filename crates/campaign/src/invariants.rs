//! What is true of the sources as a whole, so that a class of mistakes does not come back: there is one place for what must
//! not be done everywhere. A file that has to be in one of these lists is put there by somebody who looked.

use std::path::Path;

/// A rule: what it says, the words that a source does not use, the files that may.
struct Rule {
    says: &'static str,
    words: &'static [&'static str],
    but: &'static [&'static str],
}

const RULES: &[Rule] = &[
    Rule {
        says: "cells of the screen are filled where text has been made safe for a terminal",
        words: &[
            "set_string",
            "set_symbol(",
            "Span::raw",
            "Span::styled",
            "Paragraph::new",
            "set_char(",
        ],
        but: &[
            "app/src/views/bars.rs",
            "app/src/views/chart.rs",
            "app/src/views/composer.rs",
            "app/src/views/links.rs",
            "app/src/views/paint.rs",
        ],
    },
    Rule {
        says: "files are written beside their places, synced and moved there, or appended to by what is a log",
        words: &[
            "fs::write(",
            "File::create(",
            "OpenOptions::new()",
            "File::options()",
            "fs::rename(",
            ".persist(",
        ],
        but: &[
            "desk/src/history.rs",
            "desk/src/log.rs",
            "desk/src/replacing.rs",
            "dock/src/files.rs",
            "dock/src/harbour.rs",
            "engines/src/documents/local.rs",
            "engines/src/source.rs",
            "engines/src/sqlite/demo.rs",
        ],
    },
    Rule {
        says: "secrets are taken out of their type where they go to a server, a form or a cover, and nowhere else",
        words: &["expose_secret()"],
        but: &[
            "app/src/views/sources/mod.rs",
            "desk/src/repeated.rs",
            "desk/src/sources.rs",
            "desk/src/verbs/password.rs",
            "desk/src/verbs/script.rs",
            "desk/src/verbs/statement.rs",
            "engines/src/address.rs",
            "engines/src/documents/address.rs",
            "engines/src/documents/remote/mod.rs",
            "engines/src/mariadb/mod.rs",
            "engines/src/postgres/link.rs",
            "engines/src/postgres/mod.rs",
            "engines/src/reach.rs",
            "engines/src/tabular/link.rs",
            "engines/src/tabular/mod.rs",
        ],
    },
    Rule {
        says: "a driver is given statements by the connection of its family, which knows its session, and by nobody else",
        words: &[
            "simple_query(",
            "query_iter(",
            "query_drop(",
            ".run_command(",
            "execute_batch(",
        ],
        but: &[
            "dock/src/server/",
            "engines/src/documents/remote/mod.rs",
            "engines/src/mariadb/mod.rs",
            "engines/src/postgres/mod.rs",
            "engines/src/sqlite/",
            "standin/src/",
        ],
    },
];

/// Every source that is no test, with what stands before its tests.
fn sources(folder: &Path, take: &mut dyn FnMut(&str, &str)) {
    let entries = std::fs::read_dir(folder).expect("a folder");
    for entry in entries.flatten() {
        let path = entry.path();
        let name = path.display().to_string();
        if path.is_dir() {
            sources(&path, take);
        } else if name.ends_with(".rs") && !name.ends_with("/tests.rs") {
            let text = std::fs::read_to_string(&path).expect("a source");
            let code = text.split("\n#[cfg(test)]\nmod tests").next();
            take(&name, code.unwrap_or_default());
        }
    }
}

#[test]
fn there_is_one_place_for_each() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR"))
        .parent()
        .expect("crates");
    let mut wrong = Vec::new();
    for name in [
        "app", "core", "desk", "dock", "draw", "engines", "harbour", "intake", "lang", "standin",
        "tabular",
    ] {
        sources(&crates.join(name).join("src"), &mut |file, code| {
            let lines = code.lines().enumerate();
            for (number, line) in lines.filter(|(_, line)| !line.trim_start().starts_with("//")) {
                for rule in RULES {
                    let allowed = rule.but.iter().any(|part| file.contains(part));
                    if !allowed && rule.words.iter().any(|word| line.contains(word)) {
                        let short = file.split("/crates/").last().unwrap_or(file);
                        wrong.push(format!("{short}:{}: {}", number + 1, rule.says));
                    }
                }
            }
        });
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    // A file that needs its exception no more loses it.
    for rule in RULES {
        for part in rule.but {
            let path = crates.join(part);
            let mut used = false;
            let mut look =
                |_: &str, code: &str| used |= rule.words.iter().any(|word| code.contains(word));
            match path.is_dir() {
                true => sources(&path, &mut look),
                false => look("", &std::fs::read_to_string(&path).unwrap_or_default()),
            }
            assert!(
                used,
                "{part} is in the list of \"{}\" for nothing",
                rule.says
            );
        }
    }
}
