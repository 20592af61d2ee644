//! The documents that are made from tables in the code agree with them.

#[test]
fn the_guide_in_docs_is_the_guide_of_the_program() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guide.md");
    let made = idle_tide::guide::markdown();
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(path, &made).expect("written");
    }
    let there = std::fs::read_to_string(path).expect("docs/guide.md");
    assert!(
        there == made,
        "docs/guide.md is behind; UPDATE_DOCS=1 writes it anew"
    );
}

/// The tests that docs/promises.md names are there.
#[test]
fn promises_name_tests_that_exist() {
    fn sources(folder: &std::path::Path, all: &mut String) {
        for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
            let path = entry.path();
            if path.is_dir() {
                sources(&path, all);
            } else if path.extension().is_some_and(|ending| ending == "rs") {
                all.push_str(&std::fs::read_to_string(&path).expect("read"));
            }
        }
    }
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut all = String::new();
    sources(&root.join("crates"), &mut all);
    let text = std::fs::read_to_string(root.join("docs/promises.md")).expect("read");
    let rows = text.lines().filter(|line| line.starts_with("| "));
    let mut named = 0;
    for row in rows {
        let held = row.split('|').nth(4).unwrap_or_default();
        for name in held
            .split('`')
            .skip(1)
            .step_by(2)
            .filter(|name| !name.contains(' '))
        {
            assert!(all.contains(&format!("fn {name}(")), "no test {name}");
            named += 1;
        }
    }
    assert!(named > 30);
}
