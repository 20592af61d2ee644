//! A document as an outline that opens and closes, and as text.

use std::collections::HashSet;

use idle_tide_core::ValueRef;
use idle_tide_core::document::bson::{self, Element};
use idle_tide_core::document::extended::{self, Form};
use idle_tide_core::document::{Kind, shape};

/// A line of an outline.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutlineLine {
    /// How deep it stands.
    pub depth: usize,
    /// The field's name, or the element's number from 0.
    pub name: String,
    /// The word for its kind.
    pub kind: &'static str,
    /// Its value on one line; of an object or list how much is in it.
    pub value: String,
    /// What tells it from all other lines of the document.
    pub place: String,
    /// Whether it holds others, and whether these are shown.
    pub opens: Option<bool>,
}

/// The outline of a document; the places in `closed` are.
pub fn outline(document: &[u8], closed: &HashSet<String>) -> Vec<OutlineLine> {
    let mut lines = Vec::new();
    walk(document, 0, "", false, closed, &mut lines);
    lines
}

fn walk(
    bytes: &[u8],
    depth: usize,
    above: &str,
    list: bool,
    closed: &HashSet<String>,
    lines: &mut Vec<OutlineLine>,
) {
    for (at, element) in bson::elements(bytes).enumerate() {
        let name = String::from_utf8_lossy(element.name).into_owned();
        let place = format!("{above}/{at}:{name}");
        let nested = shape::is_nested(element.tag);
        let open = nested && !closed.contains(&place);
        let count = if nested {
            bson::elements(element.value).count()
        } else {
            0
        };
        lines.push(OutlineLine {
            depth,
            name: if list { format!("{at}") } else { name },
            kind: Kind::of_tag(element.tag).map_or("", Kind::word),
            value: match (element.tag, count) {
                (bson::OBJECT, 1) => "1 field".into(),
                (bson::OBJECT, n) => format!("{n} fields"),
                (bson::LIST, 1) => "1 element".into(),
                (bson::LIST, n) => format!("{n} elements"),
                _ => plain(&element),
            },
            place: place.clone(),
            opens: (nested && count > 0).then_some(open),
        });
        if open {
            walk(
                element.value,
                depth + 1,
                &place,
                element.tag == bson::LIST,
                closed,
                lines,
            );
        }
    }
}

/// What a line of an outline holds, by its place, as a text for the clipboard: a text as it is, other values as the outline
/// shows them, what holds others as Extended JSON.
pub fn held_at(document: &[u8], place: &str) -> Option<String> {
    held(document, "", place)
}

fn held(bytes: &[u8], above: &str, wanted: &str) -> Option<String> {
    bson::elements(bytes).enumerate().find_map(|(at, element)| {
        let name = String::from_utf8_lossy(element.name);
        let place = format!("{above}/{at}:{name}");
        if place == wanted {
            return Some(match (shape::is_nested(element.tag), element.text()) {
                (true, _) => {
                    let mut json = Vec::new();
                    extended::write_value(&element, Form::Relaxed, &mut json);
                    String::from_utf8_lossy(&json).into_owned()
                }
                (false, Some(text)) => String::from_utf8_lossy(text).into_owned(),
                (false, None) => plain(&element),
            });
        }
        let within = wanted.strip_prefix(&place)?.starts_with('/');
        (within && shape::is_nested(element.tag)).then(|| held(element.value, &place, wanted))?
    })
}

fn plain(element: &Element<'_>) -> String {
    match ValueRef::of_element(element) {
        ValueRef::Text("") => "''".into(),
        ValueRef::Bson(bson::DATE, bytes) => {
            let date = bytes.try_into().map_or(0, i64::from_le_bytes);
            idle_tide_core::document::time::readable(date)
        }
        value => value.plain(),
    }
}

/// The document as Extended JSON over several lines, with two blanks a level.
pub fn text(document: &[u8]) -> Vec<String> {
    let mut lines = Vec::new();
    let mut line = String::from("{");
    pretty(document, 1, false, &mut line, &mut lines);
    line.push('}');
    lines.push(line);
    lines
}

fn pretty(bytes: &[u8], depth: usize, list: bool, line: &mut String, lines: &mut Vec<String>) {
    let mut any = false;
    for element in bson::elements(bytes) {
        if any {
            line.push(',');
        }
        any = true;
        lines.push(std::mem::take(line));
        line.push_str(&"  ".repeat(depth));
        if !list {
            let mut name = Vec::new();
            extended::write_string(element.name, &mut name);
            line.push_str(&String::from_utf8_lossy(&name));
            line.push_str(": ");
        }
        if shape::is_nested(element.tag) {
            let inner = element.tag == bson::LIST;
            line.push(if inner { '[' } else { '{' });
            pretty(element.value, depth + 1, inner, line, lines);
            line.push(if inner { ']' } else { '}' });
        } else {
            let mut value = Vec::new();
            extended::write_value(&element, Form::Lossless, &mut value);
            line.push_str(&String::from_utf8_lossy(&value));
        }
    }
    if any {
        lines.push(std::mem::take(line));
        line.push_str(&"  ".repeat(depth - 1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document::bson::encode;
    use idle_tide_core::{Datum, document};

    #[test]
    fn an_outline_opens_and_closes_and_the_text_reads_back() {
        let line = Datum::from(document! { "species": "bass", "kg": 2.5 });
        let landing = encode(
            &document! { "_id": 1, "lines": Datum::List(vec![line.clone(), line]), "empty": Datum::List(vec![]), "at": Datum::Date(0) },
        );
        let all = outline(&landing, &HashSet::new());
        let shown: Vec<String> = all
            .iter()
            .map(|l| format!("{}{} {} {}", "  ".repeat(l.depth), l.name, l.kind, l.value))
            .collect();
        assert_eq!(
            shown,
            [
                "_id int 1",
                "lines list 2 elements",
                "  0 object 2 fields",
                "    species text bass",
                "    kg double 2.5",
                "  1 object 2 fields",
                "    species text bass",
                "    kg double 2.5",
                "empty list 0 elements",
                "at date 1970-01-01 00:00",
            ]
        );
        let closed = HashSet::from([all[1].place.clone()]);
        assert_eq!(outline(&landing, &closed).len(), 4);
        assert_eq!((all[1].opens, all[8].opens), (Some(true), None));
        let back = extended::read_document(&text(&landing).join("\n")).expect("reads back");
        assert_eq!(encode(&back), landing);
        assert_eq!(text(&encode(&idle_tide_core::Document::new())), ["{}"]);
    }
}
