//! The same for the flow language, from its tree; command documents and raw stages are looked into.

use idle_tide_core::document::{Datum, Document};

use super::condition::Holds;
use super::{Effect, Named, Summary, Sweep};
use crate::dialect::FLOW;
use crate::flow::ast::{
    Definition, Expr, Flow, Name, Node, Operator, Source, StageKind, Statement, Step, Write,
};

/// Commands within commands (`explain`) deeper than this are not looked into.
const DEEPEST: usize = 20;

/// Summarises one statement of the flow language.
pub(super) fn read(text: &str) -> Summary {
    let verb = text
        .split_whitespace()
        .next()
        .unwrap_or_default()
        .to_ascii_lowercase();
    let zone = idle_tide_core::document::time::TimeZone::UTC;
    let reader = Reader { text, verb };
    let Some(statement) = crate::flow::parse(text, &zone).statement else {
        return reader.nothing(Effect::Other);
    };
    let writes = crate::flow::compile::writes(&statement);
    let effect = if writes { Effect::Write } else { Effect::Read };
    match &statement {
        Statement::Flow(flow) => reader.flow(flow, effect),
        Statement::Write(write) => reader.write(write),
        Statement::Definition(definition) => reader.definition(definition),
        Statement::Call(command) => Summary {
            sweeps: match command.constant() {
                Some(Datum::Object(command)) if writes => of_command(&command, 0),
                _ => Vec::new(),
            },
            ..reader.nothing(effect)
        },
        Statement::Transaction(_) => reader.nothing(Effect::Transaction),
    }
}

struct Reader<'a> {
    text: &'a str,
    /// The word that it begins with.
    verb: String,
}

impl Reader<'_> {
    fn nothing(&self, effect: Effect) -> Summary {
        Summary::new(&self.verb, effect)
    }

    fn named(&self, name: &Name) -> Named {
        let written = self.text.get(name.span.clone());
        Named {
            shown: name.name.clone(),
            written: written.unwrap_or_default().to_string(),
        }
    }

    fn flow(&self, flow: &Flow, effect: Effect) -> Summary {
        let mut summary = self.nothing(effect);
        for stage in &flow.stages {
            match &stage.kind {
                StageKind::Save {
                    collection, over, ..
                } => {
                    let table = self.named(collection);
                    summary.targets.push(table.clone());
                    if *over {
                        summary.sweeps.push(Sweep::Replace { table });
                    }
                }
                StageKind::Raw(list) => {
                    if let Some(Datum::List(stages)) = list.constant() {
                        summary.sweeps.extend(of_pipeline(&stages));
                    }
                }
                _ => {}
            }
        }
        if let (Effect::Write, true, Source::Collection(name)) =
            (effect, summary.targets.is_empty(), &flow.source)
        {
            summary.targets.push(self.named(name));
        }
        summary
    }

    fn write(&self, write: &Write) -> Summary {
        let all = |predicate: &Option<Expr>| {
            predicate
                .as_ref()
                .is_none_or(|predicate| holds(predicate, self.text) == Holds::Always)
        };
        let (collection, sweep) = match write {
            Write::Insert { collection, .. } => (collection, None),
            Write::Update {
                collection,
                predicate,
                ..
            } => {
                let sweep = all(predicate).then(|| Sweep::UpdateAll {
                    table: self.named(collection),
                    limit: None,
                });
                (collection, sweep)
            }
            Write::Delete {
                collection,
                predicate,
            } => {
                let sweep = all(predicate).then(|| deleted(self.named(collection), None));
                (collection, sweep)
            }
            Write::Empty { collection } => {
                (collection, Some(deleted(self.named(collection), None)))
            }
        };
        let target = Some(self.named(collection));
        Summary::writing(&self.verb, target, sweep.into_iter().collect())
    }

    fn definition(&self, definition: &Definition) -> Summary {
        let (kind, name, dropped_name) = match definition {
            Definition::CreateCollection(name) | Definition::Rename { from: name, .. } => {
                ("collection", name, None)
            }
            Definition::CreateIndex { collection, .. } => ("index", collection, None),
            Definition::DropCollection(name) => ("collection", name, Some(name)),
            Definition::DropDatabase(name) => ("database", name, Some(name)),
            Definition::DropIndex { name, collection } => ("index", collection, Some(name)),
            Definition::DropUser(name) => ("user", name, Some(name)),
            Definition::CreateUser { .. } | Definition::ChangePassword { .. } => {
                return self.nothing(Effect::Definition);
            }
        };
        let sweep = dropped_name.map(|name| dropped(kind, self.named(name)));
        Summary {
            sweeps: sweep.into_iter().collect(),
            kind: Some(kind.to_string()),
            targets: vec![self.named(name)],
            ..self.nothing(Effect::Definition)
        }
    }
}

fn named(name: &str) -> Named {
    Named {
        shown: name.to_string(),
        written: FLOW.quote_name(name),
    }
}

fn deleted(table: Named, limit: Option<u64>) -> Sweep {
    Sweep::DeleteAll {
        table,
        limit,
        truncates: None,
    }
}

fn dropped(kind: &str, name: Named) -> Sweep {
    Sweep::Drop {
        kind: kind.to_string(),
        name,
        cascade: false,
        replaced: false,
    }
}

/// When a condition holds.
fn holds(expr: &Expr, text: &str) -> Holds {
    let is_id = |expr: &Expr| matches!(&expr.node, Node::Path(path) if path.steps == [Step::Name("_id".into())]);
    let of_both = |left: &Expr, right: &Expr| (holds(left, text), holds(right, text));
    let known = |holds: bool| if holds { Holds::Always } else { Holds::Never };
    match &expr.node {
        Node::Literal(Datum::Boolean(value)) => known(*value),
        Node::Literal(Datum::Null) => Holds::Never,
        Node::Not(inner) => holds(inner, text).not(),
        // Every document has one.
        Node::IsNull(of, not) | Node::IsMissing(of, not) if is_id(of) => known(*not),
        Node::Binary(Operator::Or, left, right) => match of_both(left, right) {
            (Holds::Always, _) | (_, Holds::Always) => Holds::Always,
            (Holds::Never, Holds::Never) => Holds::Never,
            _ => Holds::Depends,
        },
        Node::Binary(Operator::And, left, right) => match of_both(left, right) {
            (Holds::Never, _) | (_, Holds::Never) => Holds::Never,
            (Holds::Always, Holds::Always) => Holds::Always,
            _ => Holds::Depends,
        },
        Node::Binary(operator, left, right) if operator.compares() => {
            let same = text.get(left.span.clone()) == text.get(right.span.clone());
            let equal = matches!(
                operator,
                Operator::Equal | Operator::LessOrEqual | Operator::GreaterOrEqual
            );
            match (&left.node, &right.node) {
                (Node::Literal(a), Node::Literal(b))
                    if matches!(operator, Operator::Equal | Operator::NotEqual) =>
                {
                    known((a == b) == equal)
                }
                (Node::Literal(_), Node::Literal(_)) => Holds::Always,
                (Node::Path(_), Node::Path(_)) if same => known(equal),
                _ => Holds::Depends,
            }
        }
        _ => Holds::Depends,
    }
}

/// What a command document sweeps.
fn of_command(command: &Document, depth: usize) -> Vec<Sweep> {
    let Some((verb, of)) = command.fields.first().filter(|_| depth < DEEPEST) else {
        return Vec::new();
    };
    let name = of.as_text().unwrap_or_default();
    let list = |field: &str| {
        let list = command.get(field).and_then(Datum::as_list);
        list.unwrap_or_default().iter().filter_map(Datum::as_object)
    };
    let is_true = |document: &Document, field: &str| {
        matches!(document.get(field), Some(Datum::Boolean(true)))
    };
    let all = |document: &Document, field: &str| {
        document
            .get(field)
            .and_then(Datum::as_object)
            .is_none_or(chooses_all)
    };
    match verb.as_str() {
        "drop" => vec![dropped("collection", named(name))],
        "dropDatabase" => vec![dropped("database", named("this"))],
        "dropUser" => vec![dropped("user", named(name))],
        "dropRole" => vec![dropped("role", named(name))],
        "dropAllUsersFromDatabase" => vec![dropped("owned", named("users"))],
        "dropIndexes" => match command.get("index") {
            Some(Datum::Text(index)) if index != "*" => vec![dropped("index", named(index))],
            _ => vec![Sweep::Part {
                kind: "index".into(),
                parts: Vec::new(),
                table: named(name),
            }],
        },
        "renameCollection" if is_true(command, "dropTarget") => {
            let to = command
                .get("to")
                .and_then(Datum::as_text)
                .unwrap_or_default();
            let to = to.split_once('.').map_or(to, |(_, name)| name);
            vec![Sweep::Replace { table: named(to) }]
        }
        "convertToCapped" => vec![Sweep::DeleteMatching { table: named(name) }],
        "delete" => list("deletes")
            .filter(|one| all(one, "q") && one.get("limit").and_then(Datum::as_f64) != Some(1.0))
            .map(|_| deleted(named(name), None))
            .collect(),
        "update" => list("updates")
            .filter(|one| all(one, "q") && is_true(one, "multi"))
            .map(|_| Sweep::UpdateAll {
                table: named(name),
                limit: None,
            })
            .collect(),
        "bulkWrite" => {
            let spaces: Vec<String> = list("nsInfo")
                .map(|of| {
                    let space = of.get("ns").and_then(Datum::as_text).unwrap_or_default();
                    space
                        .split_once('.')
                        .map_or(space, |(_, name)| name)
                        .to_string()
                })
                .collect();
            list("ops")
                .filter(|one| all(one, "filter") && is_true(one, "multi"))
                .filter_map(|one| {
                    let (verb, at) = one.fields.first()?;
                    let at = usize::try_from(at.as_i64()?).ok()?;
                    let table = named(spaces.get(at)?);
                    match verb.as_str() {
                        "delete" => Some(deleted(table, None)),
                        "update" => Some(Sweep::UpdateAll { table, limit: None }),
                        _ => None,
                    }
                })
                .collect()
        }
        "aggregate" => of_pipeline(
            command
                .get("pipeline")
                .and_then(Datum::as_list)
                .unwrap_or_default(),
        ),
        _ => Vec::new(),
    }
}

/// Whether a filter document chooses every document.
fn chooses_all(filter: &Document) -> bool {
    filter
        .fields
        .iter()
        .all(|(name, value)| match (name.as_str(), value) {
            ("$expr", Datum::Boolean(true)) | ("$comment", _) => true,
            ("_id", Datum::Object(of)) => {
                matches!(&of.fields[..], [(name, Datum::Boolean(true))] if name == "$exists")
                    || matches!(&of.fields[..], [(name, Datum::Null)] if name == "$ne")
            }
            ("$or", Datum::List(list)) => list.iter().filter_map(Datum::as_object).any(chooses_all),
            ("$and", Datum::List(list)) => list
                .iter()
                .all(|of| of.as_object().is_some_and(chooses_all)),
            _ => false,
        })
}

/// The collection that the last stage of a pipeline replaces.
fn of_pipeline(stages: &[Datum]) -> Vec<Sweep> {
    let out = stages
        .last()
        .and_then(Datum::as_object)
        .and_then(|stage| stage.get("$out"));
    let name = match out {
        Some(Datum::Text(name)) => name.to_string(),
        Some(Datum::Object(of)) => of
            .get("coll")
            .and_then(Datum::as_text)
            .unwrap_or_default()
            .to_string(),
        _ => return Vec::new(),
    };
    vec![Sweep::Replace {
        table: named(&name),
    }]
}
