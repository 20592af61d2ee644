//! What the program is built from: licences that allow it, a compiler that is new enough for all of it, a lock that is true.

use cargo_metadata::{Metadata, MetadataCommand};
use spdx::{Expression, ParseMode};

/// Licences that may be in it: they ask for nothing but to be named, or for changes of the same file to stay open.
const ALLOWED: [&str; 17] = [
    "0BSD",
    "Apache-2.0",
    "Apache-2.0 WITH LLVM-exception",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "BSL-1.0",
    "CC0-1.0",
    "CDLA-Permissive-2.0",
    "ISC",
    "MIT",
    "MPL-2.0",
    "OFL-1.1",
    "Ubuntu-font-1.0",
    "Unicode-3.0",
    "Unicode-DFS-2016",
    "WTFPL",
    "Zlib",
];
/// So many crates are in it in two versions or three, since others ask for them.
const TWICE: usize = 32;

fn metadata() -> Metadata {
    let host = std::process::Command::new("rustc").arg("-vV").output();
    let host = String::from_utf8(host.expect("rustc").stdout).expect("text");
    let host = host.lines().find_map(|line| line.strip_prefix("host: "));
    // What is built here has been fetched; the lock has to be as the manifests say.
    let options = ["--locked", "--offline", "--filter-platform"].map(str::to_string);
    let mut options = options.to_vec();
    options.push(host.expect("a host").to_string());
    let mut command = MetadataCommand::new();
    command.other_options(options).exec().expect("metadata")
}

#[test]
fn what_it_is_built_from() {
    let metadata = metadata();
    let ours = metadata
        .packages
        .iter()
        .find(|package| package.name.as_str() == "idle-tide");
    let ours = ours.and_then(|package| package.rust_version.clone());
    let ours = ours.expect("a version of the compiler");
    let mut wrong = Vec::new();
    let mut names: std::collections::BTreeMap<&str, usize> = Default::default();
    for package in &metadata.packages {
        let name = package.name.as_str();
        *names.entry(name).or_default() += 1;
        let licence = package.license.as_deref().unwrap_or_default();
        let allowed = Expression::parse_mode(licence, ParseMode::LAX).is_ok_and(|expression| {
            expression.evaluate(|one| ALLOWED.contains(&one.to_string().as_str()))
        });
        if !allowed {
            wrong.push(format!("{name}: {licence:?} is not allowed"));
        }
        if let Some(needs) = package.rust_version.as_ref().filter(|needs| **needs > ours) {
            wrong.push(format!("{name} needs Rust {needs}, and {ours} is promised"));
        }
    }
    let twice: Vec<&str> = names
        .iter()
        .filter(|(_, count)| **count > 1)
        .map(|(name, _)| *name)
        .collect();
    if twice.len() > TWICE {
        wrong.push(format!("{} crates are there twice: {twice:?}", twice.len()));
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
