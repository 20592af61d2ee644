//! The shape of documents, inferred from a sample: every path (through lists too), its kinds with their shares, how often it is
//! there, examples.

use compact_str::CompactString;

use super::bson::{self, Element, elements};
use super::extended::{self, Form};
use super::paths::written;
use super::{Kind, time};

/// Paths past this number are counted together.
const MOST: usize = 2_000;
/// Examples kept of a path.
const EXAMPLES: usize = 3;
/// Different texts or whole numbers of a path that are remembered; past them it is no short list.
const CHOICES: usize = 24;

/// A path and what was seen there.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Field {
    /// Its names; a list's elements stand under the list's own path.
    pub path: Vec<CompactString>,
    /// Documents that have it, at least once.
    pub present: u64,
    /// Values seen by kind; elements of lists count under the list's path as [`Field::elements`].
    pub kinds: Vec<(Kind, u64)>,
    /// Kinds of the elements, where it is a list.
    pub elements: Vec<(Kind, u64)>,
    /// The longest list seen.
    pub longest: u64,
    /// A few different values, as text on one line.
    pub examples: Vec<String>,
    /// All different values, where they are few and short texts.
    pub choices: Option<Vec<String>>,
    /// Whether a list is crossed on the way.
    pub in_list: bool,
    met: u64,
}

impl Field {
    /// The path as the flow language writes it.
    pub fn name(&self) -> String {
        written(self.path.iter().map(CompactString::as_str))
    }

    /// The commonest kind that is not null.
    pub fn kind(&self) -> Option<Kind> {
        let real = self.kinds.iter().filter(|(kind, _)| *kind != Kind::Null);
        real.max_by_key(|(_, count)| *count).map(|(kind, _)| *kind)
    }

    /// The kinds in one phrase: `text`, `list of object`, `int, text`.
    pub fn words(&self) -> String {
        let mut kinds: Vec<(Kind, u64)> = self.kinds.clone();
        kinds.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        let words: Vec<String> = kinds
            .iter()
            .map(|(kind, _)| match kind {
                Kind::List => match self.elements.iter().max_by_key(|(_, count)| *count) {
                    Some((inner, _)) => format!("list of {}", inner.word()),
                    None => "list".into(),
                },
                other => other.word().to_string(),
            })
            .collect();
        words.join(", ")
    }
}

/// The shape of a collection.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Shape {
    /// Documents that were looked at.
    pub sampled: u64,
    /// The paths, each after the object it belongs to.
    pub fields: Vec<Field>,
    /// Whether there were more paths than are kept.
    pub cut: bool,
}

impl Shape {
    /// Takes notice of a document.
    pub fn meet(&mut self, document: &[u8]) {
        self.sampled += 1;
        let mut path = Vec::new();
        self.walk(document, &mut path, false);
    }

    /// The field of a path.
    pub fn field(&self, path: &[&str]) -> Option<&Field> {
        self.fields.iter().find(|field| {
            field
                .path
                .iter()
                .map(CompactString::as_str)
                .eq(path.iter().copied())
        })
    }

    fn walk(&mut self, bytes: &[u8], path: &mut Vec<CompactString>, in_list: bool) {
        if path.len() >= 24 {
            return;
        }
        let mut before = self.place(path);
        for element in elements(bytes) {
            path.push(String::from_utf8_lossy(element.name).into());
            if let Some(at) = self.meet_value(&element, path, in_list, before) {
                before = Some(at);
            }
            path.pop();
        }
    }

    fn place(&self, path: &[CompactString]) -> Option<usize> {
        self.fields.iter().position(|field| field.path == path)
    }

    fn meet_value(
        &mut self,
        element: &Element<'_>,
        path: &mut Vec<CompactString>,
        in_list: bool,
        before: Option<usize>,
    ) -> Option<usize> {
        let kind = Kind::of_tag(element.tag)?;
        let next = before.map_or(0, |at| at + 1);
        let found = match self.fields.get(next) {
            Some(field) if field.path == *path => Some(next),
            _ => self.place(path),
        };
        let at = match found {
            Some(at) => at,
            None if self.fields.len() >= MOST => {
                self.cut = true;
                return None;
            }
            None => {
                // After its elder sibling and all that is within that one.
                let depth = path.len();
                let mut at = before.map_or(0, |at| at + 1);
                while self.fields.get(at).is_some_and(|field| {
                    field.path.len() >= depth
                        && field.path[..depth - 1] == path[..depth - 1]
                        && before.is_some_and(|b| {
                            self.fields[b].path.len() >= depth
                                && field.path[depth - 1] == self.fields[b].path[depth - 1]
                        })
                }) {
                    at += 1;
                }
                self.fields.insert(
                    at,
                    Field {
                        path: path.clone(),
                        in_list,
                        choices: Some(Vec::new()),
                        ..Field::default()
                    },
                );
                at
            }
        };
        let sampled = self.sampled;
        let field = &mut self.fields[at];
        if field.met != sampled {
            field.met = sampled;
            field.present += 1;
        }
        count(&mut field.kinds, kind);
        match kind {
            Kind::Object => self.walk(element.value, path, in_list),
            Kind::List => {
                let mut length = 0;
                for inner in elements(element.value) {
                    length += 1;
                    let Some(kind) = Kind::of_tag(inner.tag) else {
                        continue;
                    };
                    count(&mut self.fields[at].elements, kind);
                    if kind == Kind::Object {
                        self.walk(inner.value, path, true);
                    } else {
                        self.fields[at].example(&inner);
                    }
                }
                let field = &mut self.fields[at];
                field.longest = field.longest.max(length);
            }
            Kind::Null => {}
            _ => field.example(element),
        }
        Some(at)
    }
}

fn count(list: &mut Vec<(Kind, u64)>, kind: Kind) {
    match list.iter_mut().find(|(other, _)| *other == kind) {
        Some((_, count)) => *count += 1,
        None => list.push((kind, 1)),
    }
}

impl Field {
    fn example(&mut self, element: &Element<'_>) {
        let short_list = self
            .choices
            .as_ref()
            .is_some_and(|list| list.len() < CHOICES);
        if self.examples.len() >= EXAMPLES && !short_list {
            return;
        }
        let text = example(element);
        if self.examples.len() < EXAMPLES && !self.examples.contains(&text) {
            self.examples.push(text);
        }
        if let Some(list) = &mut self.choices {
            match element.text().and_then(|t| std::str::from_utf8(t).ok()) {
                Some(value) if value.len() <= 40 => {
                    if !list.iter().any(|known| known == value) {
                        list.push(value.to_string());
                        if list.len() >= CHOICES {
                            self.choices = None;
                        }
                    }
                }
                _ => self.choices = None,
            }
        }
    }
}

/// A value in a few characters.
fn example(element: &Element<'_>) -> String {
    let full = match element.datum() {
        super::Datum::Text(text) => format!("'{text}'"),
        super::Datum::Id(id) => super::id_text(&id),
        super::Datum::Date(date) => time::readable(date),
        super::Datum::Decimal(decimal) => decimal.to_string(),
        super::Datum::Bytes(both) => format!("{} bytes", both.1.len()),
        _ => {
            let mut out = Vec::new();
            extended::write_value(element, Form::Relaxed, &mut out);
            String::from_utf8_lossy(&out).into_owned()
        }
    };
    let mut text: String = full.chars().take(40).collect();
    if text.len() < full.len() {
        text.push('…');
    }
    text
}

/// The kind of the value of an element, for those who only hold bytes.
pub fn kind_of(element: &Element<'_>) -> Kind {
    Kind::of_tag(element.tag).unwrap_or(Kind::Null)
}

/// Whether a type byte is that of an object or a list.
pub fn is_nested(tag: u8) -> bool {
    matches!(tag, bson::OBJECT | bson::LIST)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::document;
    use crate::document::bson::encode;
    use crate::document::{Datum, Document};

    #[test]
    fn every_path_has_its_kinds_shares_and_examples() {
        let mut shape = Shape::default();
        let line = |species: &str, kg: Datum| {
            Datum::from(Document::new().with("species", species).with("kg", kg))
        };
        for n in 0..4 {
            let mut landing =
                document! { "_id": n, "port": if n < 2 { "Brackwater" } else { "Saltmarsh" } };
            if n > 0 {
                landing.set(
                    "lines",
                    Datum::List(vec![line("bass", 5.into()), line("crab", 2.5.into())]),
                );
            }
            landing.set("skipper", document! { "name": Datum::Null });
            shape.meet(&encode(&landing));
        }
        let names: Vec<String> = shape.fields.iter().map(Field::name).collect();
        assert_eq!(
            names,
            [
                "_id",
                "port",
                "lines",
                "lines.species",
                "lines.kg",
                "skipper",
                "skipper.name"
            ]
        );
        let lines = shape.field(&["lines"]).expect("lines");
        assert_eq!(
            (lines.present, lines.longest, lines.words().as_str()),
            (3, 2, "list of object")
        );
        let kg = shape.field(&["lines", "kg"]).expect("kg");
        assert_eq!(kg.kinds, [(Kind::Int, 3), (Kind::Double, 3)]);
        assert!(kg.in_list && kg.present == 3);
        let port = shape.field(&["port"]).expect("port");
        assert_eq!(
            port.choices.as_deref(),
            Some(["Brackwater".to_string(), "Saltmarsh".into()].as_slice())
        );
        assert_eq!(port.examples, ["'Brackwater'", "'Saltmarsh'"]);
        assert_eq!(
            shape
                .field(&["skipper", "name"])
                .map(Field::words)
                .as_deref(),
            Some("null")
        );
    }
}
