//! Modules of a crate that use each other in a circle can be understood only together. There is none but those that are in the
//! matter itself, with the reason. What a folder and its own files share is one room.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use petgraph::algo::tarjan_scc;
use petgraph::graphmap::DiGraphMap;
use syn::visit::{self, Visit};

/// A crate, the modules that stand in a circle there, and why they cannot be taken apart.
const KNOWN: &[(&str, &[&str], &str)] = &[
    (
        "app",
        &["app", "views::view"],
        "views stand on a stack that the application has, and act upon it",
    ),
    (
        "dock",
        &["server::expression", "server::query"],
        "a query may hold an expression, and an expression a query",
    ),
    (
        "lang",
        &["flow::compile::call", "flow::compile::expression"],
        "a call is an expression, and has expressions for arguments",
    ),
];

/// The modules of a crate by their paths, with their sources.
fn modules(folder: &Path, above: &str, into: &mut BTreeMap<String, syn::File>) {
    for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
        let path = entry.path();
        let name = entry.file_name().into_string().expect("text");
        let below = |name: &str| match above {
            "" => name.to_string(),
            above => format!("{above}::{name}"),
        };
        if path.is_dir() {
            modules(&path, &below(&name), into);
            continue;
        }
        let module = match name.strip_suffix(".rs") {
            None | Some("lib" | "main" | "tests") => continue,
            Some("mod") => above.to_string(),
            Some(name) => below(name),
        };
        let text = std::fs::read_to_string(&path).expect("a source");
        into.insert(module, syn::parse_file(&text).expect("Rust"));
    }
}

/// Gathers the paths that a module names, from the root of its crate.
struct Named<'a> {
    module: &'a str,
    paths: Vec<Vec<String>>,
}

impl Named<'_> {
    /// Takes a path if it leads to this crate.
    fn take(&mut self, path: &[String]) {
        let ways = path.iter().take_while(|part| *part == "super").count();
        let parts: Vec<&str> = self.module.split("::").collect();
        let from = match path.first().map(String::as_str) {
            Some("crate") => Vec::new(),
            Some("super") => parts[..parts.len().saturating_sub(ways)].to_vec(),
            _ => return,
        };
        let rest = path[ways.max(1)..].iter().cloned();
        let whole = from.into_iter().map(str::to_string).chain(rest);
        self.paths.push(whole.collect());
    }

    fn tree(&mut self, before: &mut Vec<String>, tree: &syn::UseTree) {
        match tree {
            syn::UseTree::Path(path) => {
                before.push(path.ident.to_string());
                self.tree(before, &path.tree);
                before.pop();
            }
            syn::UseTree::Group(group) => {
                group.items.iter().for_each(|tree| self.tree(before, tree));
            }
            syn::UseTree::Name(name) => self.end(before, &name.ident.to_string()),
            syn::UseTree::Rename(name) => self.end(before, &name.ident.to_string()),
            syn::UseTree::Glob(_) => self.take(before),
        }
    }

    fn end(&mut self, before: &[String], name: &str) {
        let mut whole = before.to_vec();
        whole.push(name.into());
        self.take(&whole);
    }
}

impl<'ast> Visit<'ast> for Named<'_> {
    fn visit_item_mod(&mut self, item: &'ast syn::ItemMod) {
        let of_tests = item.attrs.iter().any(|attribute| {
            let list = attribute.meta.require_list();
            list.is_ok_and(|list| list.path.is_ident("cfg") && list.tokens.to_string() == "test")
        });
        if !of_tests {
            visit::visit_item_mod(self, item);
        }
    }

    fn visit_item_use(&mut self, item: &'ast syn::ItemUse) {
        self.tree(&mut Vec::new(), &item.tree);
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        let parts: Vec<String> = path.segments.iter().map(|s| s.ident.to_string()).collect();
        self.take(&parts);
        visit::visit_path(self, path);
    }
}

/// The circles among the modules of a crate.
fn circles(all: &BTreeMap<String, syn::File>) -> BTreeSet<Vec<&str>> {
    let mut graph: DiGraphMap<&str, ()> = DiGraphMap::new();
    for (module, file) in all {
        let mut named = Named {
            module,
            paths: Vec::new(),
        };
        named.visit_file(file);
        for path in named.paths {
            let longest = (1..=path.len()).rev().find_map(|length| {
                let found = all.get_key_value(&path[..length].join("::"));
                found.map(|(other, _)| other.as_str())
            });
            let Some(other) = longest else { continue };
            let one_room = |a: &str, b: &str| {
                b.strip_prefix(a)
                    .is_some_and(|rest| rest.is_empty() || rest.starts_with("::"))
            };
            if !one_room(module, other) && !one_room(other, module) {
                graph.add_edge(module.as_str(), other, ());
            }
        }
    }
    let rings = tarjan_scc(&graph).into_iter().filter(|ring| ring.len() > 1);
    rings
        .map(|mut ring| {
            ring.sort_unstable();
            ring
        })
        .collect()
}

#[test]
fn modules_stand_in_no_circle_but_the_known_ones() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR"))
        .parent()
        .expect("crates");
    for name in [
        "app", "bench", "campaign", "core", "desk", "dock", "draw", "engines", "harbour", "intake",
        "lang", "standin", "tabular",
    ] {
        let mut all = BTreeMap::new();
        modules(&crates.join(name).join("src"), "", &mut all);
        let known = KNOWN.iter().filter(|(of, ..)| *of == name);
        let known: BTreeSet<Vec<&str>> = known.map(|(_, ring, _)| ring.to_vec()).collect();
        assert_eq!(circles(&all), known, "circles in {name}");
    }
}

#[test]
fn a_circle_is_found_also_over_a_folder() {
    let module = |name: &str, text: &str| {
        let file = syn::parse_file(text).expect("Rust");
        (name.to_string(), file)
    };
    let all = BTreeMap::from([
        module("a", "use crate::b::{self, inner::Deep}; mod own { }"),
        module("b", "#[cfg(test)] mod tests { use crate::c; }"),
        module(
            "b::inner",
            "use super::Thing; fn f() { super::super::c::g(); }",
        ),
        module("c", "use crate::a::A as Other;"),
        module("d", "use crate::a;"),
    ]);
    assert_eq!(circles(&all), BTreeSet::from([vec!["a", "b::inner", "c"]]));
}
