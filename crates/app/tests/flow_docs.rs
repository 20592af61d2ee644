//! docs/flow.md teaches with examples that are run here, and lists the functions of the table in the code.

use idle_tide_core::{Column, RowBatch};
use idle_tide_engines::documents::Local;
use idle_tide_engines::{Connection, Sink};
use idle_tide_lang::flow::functions::FUNCTIONS;

#[derive(Default)]
struct Count(usize);

impl Sink for Count {
    fn columns(&mut self, _: Vec<Column>) -> std::io::Result<()> {
        Ok(())
    }
    fn rows(&mut self, batch: RowBatch) -> std::io::Result<()> {
        self.0 += batch.len();
        Ok(())
    }
}

fn functions() -> String {
    let mut text = String::from("| function | gives | for example |\n|---|---|---|\n");
    for f in FUNCTIONS {
        text.push_str(&format!(
            "| `{}({})` | {} | `{}` is `{}` |\n",
            f.name, f.arguments, f.gives, f.example.0, f.example.1
        ));
    }
    text
}

#[test]
fn the_examples_come_to_what_the_page_says() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/flow.md");
    let page = std::fs::read_to_string(path).expect("docs/flow.md");
    let update = std::env::var_os("UPDATE_DOCS").is_some();
    let dir = tempfile::tempdir().expect("dir");
    let folder = dir.path().join("harbour-log");
    idle_tide_dock::harbour::make_folder(&folder).expect("made");
    let mut connection = Local::open(&folder, true, false).expect("opens");
    let mut made = String::new();
    let mut rest = page.as_str();
    let mut examples = 0;
    while let Some(at) = rest.find("```flow\n") {
        let body = &rest[at + 8..];
        let end = body.find("\n```").expect("an end");
        let example = &body[..end];
        let (flow, said) = example.rsplit_once("\n-- ").expect("a number");
        let mut count = Count::default();
        let outcome = connection
            .run(1, flow, &mut count)
            .unwrap_or_else(|e| panic!("{flow}\n{e}"));
        let found = outcome.changed.map_or(count.0, |n| n as usize);
        assert!(
            update || found.to_string() == said,
            "{flow}\ngives {found}, and the page says {said}"
        );
        made.push_str(&rest[..at]);
        made.push_str(&format!("```flow\n{flow}\n-- {found}\n```"));
        rest = &body[end + 4..];
        examples += 1;
    }
    assert!(examples > 15);
    let head = rest.find("## Functions\n\n").expect("the functions") + 14;
    made.push_str(&rest[..head]);
    made.push_str(&functions());
    if update {
        std::fs::write(path, &made).expect("written");
    } else {
        assert!(
            made == page,
            "docs/flow.md is behind; UPDATE_DOCS=1 writes it anew"
        );
    }
}
