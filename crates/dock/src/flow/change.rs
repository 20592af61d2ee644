//! Changes of single documents: fields set and removed at paths, through lists in each element.

use idle_tide_core::document::{Datum, Document};
use idle_tide_lang::flow::FlowError;
use idle_tide_lang::flow::ast::{Expr, Path, Step};

use super::expr::{Context, Hop, Program, hops};
use super::run::take_out;

/// What an update sets and removes, prepared.
pub struct Change {
    set: Vec<(Path, Vec<Hop>, Program)>,
    remove: Vec<Vec<Hop>>,
}

impl Change {
    /// Prepares an update.
    ///
    /// # Errors
    /// If an expression cannot be computed here.
    pub fn new(
        set: &[(Path, Expr)],
        remove: &[Path],
        context: &Context,
    ) -> Result<Self, FlowError> {
        Ok(Change {
            set: set
                .iter()
                .map(|(path, e)| Ok((path.clone(), hops(path), Program::new(e, context)?)))
                .collect::<Result<_, FlowError>>()?,
            remove: remove.iter().map(hops).collect(),
        })
    }

    /// The document after the change; `None` if it is the same.
    ///
    /// # Errors
    /// If a computation overflows, an identifier would change, or a single element is set where no list is.
    pub fn apply(&self, document: &Document) -> Result<Option<Document>, FlowError> {
        let mut changed = document.clone();
        for (path, hops, program) in &self.set {
            let value = program.value(document)?;
            if hops.iter().any(|hop| matches!(hop, Hop::Index(_))) {
                let value = value.unwrap_or(Datum::Null);
                put_element(&mut changed, hops, value)
                    .map_err(|words| FlowError::at(path.span.clone(), words))?;
            } else {
                put(&mut changed, hops, value.as_ref());
            }
        }
        for path in &self.remove {
            take_out(&mut changed, path);
        }
        if changed.get("_id") != document.get("_id") {
            let span = self
                .set
                .iter()
                .find(|(path, ..)| path.steps.first() == Some(&Step::Name("_id".into())));
            return Err(FlowError::at(
                span.map_or(0..0, |(path, ..)| path.span.clone()),
                "The identifier of a document (_id) cannot be changed; delete the document and insert it anew.",
            ));
        }
        Ok((changed != *document).then_some(changed))
    }
}

/// Sets a value at a path of names; objects come into being on the way, lists are entered in each element.
fn put(document: &mut Document, path: &[Hop], value: Option<&Datum>) {
    let Some((Hop::Name(name), rest)) = path.split_first() else {
        return;
    };
    if rest.is_empty() {
        match value {
            Some(value) => document.set(name, value.clone()),
            None => {
                document.remove(name);
            }
        }
        return;
    }
    if document.get(name).is_none() {
        document.set(name, Document::new());
    }
    if let Some(inner) = document.get_mut(name) {
        put_within(inner, rest, value);
    }
}

fn put_within(inner: &mut Datum, path: &[Hop], value: Option<&Datum>) {
    match inner {
        Datum::List(list) => list
            .iter_mut()
            .for_each(|element| put_within(element, path, value)),
        Datum::Object(document) => put(document, path, value),
        other => {
            let mut document = Document::new();
            put(&mut document, path, value);
            *other = document.into();
        }
    }
}

/// Sets a value at a path with positions.
fn put_element(document: &mut Document, path: &[Hop], value: Datum) -> Result<(), String> {
    let Some((Hop::Name(name), rest)) = path.split_first() else {
        return Err("A path begins with a name.".into());
    };
    if rest.is_empty() {
        document.set(name, value);
        return Ok(());
    }
    if document.get(name).is_none() {
        let inner: Datum = if matches!(rest[0], Hop::Index(_)) {
            Datum::List(Vec::new())
        } else {
            Document::new().into()
        };
        document.set(name, inner);
    }
    put_in(document.get_mut(name), rest, value)
}

fn put_in(place: Option<&mut Datum>, path: &[Hop], value: Datum) -> Result<(), String> {
    let Some((hop, rest)) = path.split_first() else {
        if let Some(place) = place {
            *place = value;
        }
        return Ok(());
    };
    match (place, hop) {
        (Some(Datum::List(list)), Hop::Index(index)) => {
            let at = usize::try_from(*index)
                .map_err(|_| "An element is counted from the front.".to_string())?;
            if at > list.len() + 10_000 {
                return Err(format!(
                    "The list has {} elements; number {at} is too far beyond them.",
                    list.len()
                ));
            }
            while list.len() <= at {
                list.push(Datum::Null);
            }
            put_in(list.get_mut(at), rest, value)
        }
        (Some(Datum::Object(inner)), Hop::Name(_)) => put_element(inner, path, value),
        (Some(null @ Datum::Null), Hop::Name(_)) => {
            let mut inner = Document::new();
            put_element(&mut inner, path, value)?;
            *null = inner.into();
            Ok(())
        }
        (_, Hop::Index(_)) => Err("There is no list at this path in one of the documents.".into()),
        (_, Hop::Name(name)) => Err(format!(
            "There is no object to set {name} in, in one of the documents."
        )),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::document::extended::{Form, read_document, text_of};
    use idle_tide_core::document::time::TimeZone;
    use idle_tide_lang::flow::ast::{Statement, Write};

    #[test]
    fn fields_are_set_and_removed_through_lists() {
        for (update, before, after) in [
            (
                "set a = b + 1, c.d = 'x'",
                r#"{"b":1}"#,
                Some(r#"{"b":1,"a":2,"c":{"d":"x"}}"#),
            ),
            (
                "set l.k = 0",
                r#"{"l":[{"k":1},{"j":2},5]}"#,
                Some(r#"{"l":[{"k":0},{"j":2,"k":0},{"k":0}]}"#),
            ),
            (
                "set l[1].k = 0, m[2] = 7",
                r#"{"l":[{"k":1}]}"#,
                Some(r#"{"l":[{"k":1},{"k":0}],"m":[null,null,7]}"#),
            ),
            ("set a = 1", r#"{"a":1}"#, None),
            (
                "remove a, l.k",
                r#"{"a":1,"l":[{"k":1,"j":2},{"j":2}]}"#,
                Some(r#"{"l":[{"j":2},{"j":2}]}"#),
            ),
            (
                "set a = b, b = a",
                r#"{"a":1,"b":2}"#,
                Some(r#"{"a":2,"b":1}"#),
            ),
        ] {
            let text = format!("update all c {update}");
            let statement = idle_tide_lang::flow::parse(&text, &TimeZone::UTC)
                .whole()
                .expect(update);
            let Statement::Write(Write::Update { set, remove, .. }) = statement else {
                panic!("an update")
            };
            let change = Change::new(&set, &remove, &Context::default()).expect(update);
            let done = change
                .apply(&read_document(before).expect(before))
                .expect(update);
            let text = done.map(|d| text_of(&d.into(), Form::Relaxed));
            assert_eq!(text.as_deref(), after, "{update}");
        }
    }
}
