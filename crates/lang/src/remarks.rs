//! The remarks about a statement: counts that take things more than once, paths that no document has, kinds that never compare.

use idle_tide_core::Catalog;
use idle_tide_core::document::time::TimeZone;

use crate::dialect::Dialect;
use crate::remark::Remarks;
use crate::{flow, multiply};

/// What is known of the statement in `text`, whole or half-typed.
pub fn remarks(text: &str, catalog: &Catalog, dialect: &Dialect) -> Remarks {
    // Nobody reads remarks about a statement as long as this; it is data.
    if text.len() > 20_000 {
        return Remarks::default();
    }
    if !dialect.is_flow() {
        return multiply::joins(text, catalog, dialect);
    }
    let parsed = flow::parse(text, &TimeZone::UTC);
    let Some(statement) = parsed.statement else {
        return Remarks::default();
    };
    let mut said = flow::check::remarks(&statement, text, &|name| {
        catalog.table(name)?.shape.as_deref().cloned()
    });
    // Behind a place that is not understood nothing is certain.
    if let Some(error) = parsed.errors.first() {
        said.retain(|remark| remark.span.end <= error.span.start);
    }
    Remarks {
        many: Vec::new(),
        said,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::FLOW;
    use idle_tide_core::catalog::{Kind, Object};
    use idle_tide_core::document;
    use idle_tide_core::document::bson::encode;
    use idle_tide_core::document::shape::Shape;

    #[test]
    fn nothing_is_said_behind_a_place_that_is_not_understood() {
        let mut shape = Shape::default();
        shape.meet(&encode(
            &document! { "_id": 1, "port": "Brackwater", "kg": 2 },
        ));
        let mut catalog = Catalog::default();
        let mut object = Object::new("", "landings", Kind::Collection);
        object.shape = Some(std::sync::Arc::new(shape));
        catalog.objects.push(object);
        let said = |text: &str| -> Vec<String> {
            let said = remarks(text, &catalog, &FLOW).said.into_iter();
            said.map(|remark| text[remark.span].to_string()).collect()
        };
        assert_eq!(
            said("from landings where prt = 'x' order by kgs"),
            ["prt", "kgs"]
        );
        assert_eq!(
            said("from landings where prt = 'x' pick { k: max(kg) } order by k"),
            ["prt"]
        );
        assert_eq!(said("from landings where prt = 'x' wher"), ["prt"]);
        assert_eq!(said("from elsewhere where prt = 'x'"), Vec::<String>::new());
    }
}
