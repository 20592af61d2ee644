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
