//! From statements to the command documents of servers (the public command reference of the servers that speak BSON over OP_MSG). What a
//! flow means here and what the compiled form means there is the same: a test compares them.

mod call;
mod expression;
mod matching;
mod stages;

use idle_tide_core::document::{Datum, Document};

use super::FlowError;
use super::ast::{
    Definition, Expr, Flow, Name, Node, Source, Span, Stage, StageKind, Statement, Step, Write,
};

pub use call::unit;
pub use expression::like_pattern;
pub use matching::{filter, predicate_fields};
pub use stages::{READING_STAGES, band_limits, pipeline};

/// Where a command is sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// The present database.
    Here,
    /// Another one.
    Database(String),
}

/// What a command answers with.
#[derive(Debug, Clone, PartialEq)]
pub enum Answer {
    /// Documents, through a cursor.
    Cursor,
    /// A number, which comes out under this name.
    Count(String),
    /// Numbers of documents that were changed.
    Write,
    /// A document.
    Reply,
}

/// A command, ready to send.
#[derive(Debug, Clone, PartialEq)]
pub struct Command {
    /// The command.
    pub document: Document,
    /// Where it goes.
    pub target: Target,
    /// What comes back.
    pub answer: Answer,
}

/// A statement, compiled.
#[derive(Debug, Clone, PartialEq)]
pub struct Plan {
    /// What is sent; nothing for what is computed here altogether.
    pub command: Option<Command>,
    /// The places of the flow's stages that the stages of the pipeline came from.
    pub places: Vec<Span>,
    /// The stages that are computed here.
    pub here: Vec<Stage>,
    /// The document that comes out where the server gives none.
    pub when_empty: Option<Document>,
    /// Whether it changes anything.
    pub writes: bool,
}

/// The number of stages that a server can take: those before the first `emit`.
pub fn on_server(stages: &[Stage]) -> usize {
    stages
        .iter()
        .position(|s| matches!(s.kind, StageKind::Emit(..)))
        .unwrap_or(stages.len())
}

/// Whether a statement changes anything, as far as its words tell.
pub fn writes(statement: &Statement) -> bool {
    match statement {
        Statement::Flow(flow) => flow.stages.iter().any(|stage| match &stage.kind {
            StageKind::Save { .. } => true,
            StageKind::Raw(list) => !raw_only_reads(list),
            _ => false,
        }),
        Statement::Write(_) | Statement::Definition(_) => true,
        Statement::Call(command) => match command.constant() {
            Some(Datum::Object(command)) => command_writes(&command),
            _ => true,
        },
        Statement::Transaction(_) => false,
    }
}

/// Whether a command document changes anything: by its name, and for aggregations by their stages.
pub fn command_writes(command: &Document) -> bool {
    let Some((name, _)) = command.fields.first() else {
        return true;
    };
    if super::is_write_command(name) {
        return true;
    }
    let stages = |pipeline: Option<&Datum>| {
        pipeline
            .and_then(Datum::as_list)
            .is_some_and(|list| list.iter().any(|stage| !stage_reads(stage)))
    };
    match name.as_str() {
        "aggregate" => command.get("pipeline").is_none_or(|p| stages(Some(p))),
        "explain" => command.fields[0].1.as_object().is_none_or(command_writes),
        _ => false,
    }
}

fn stage_reads(stage: &Datum) -> bool {
    let Some(stage) = stage.as_object() else {
        return false;
    };
    let inner = |value: &Datum| -> bool {
        // Pipelines within stages ($lookup, $facet, $unionWith) count too.
        let mut reads = true;
        walk(value, &mut |name, value| {
            if name == "pipeline" {
                reads &= value
                    .as_list()
                    .is_some_and(|list| list.iter().all(stage_reads));
            }
        });
        reads
    };
    stage
        .fields
        .iter()
        .all(|(name, value)| READING_STAGES.contains(&name.as_str()) && inner(value))
        && stage.get("$facet").is_none_or(|facets| {
            facets.as_object().is_some_and(|f| {
                f.fields
                    .iter()
                    .all(|(_, p)| p.as_list().is_some_and(|l| l.iter().all(stage_reads)))
            })
        })
}

fn walk(value: &Datum, see: &mut dyn FnMut(&str, &Datum)) {
    match value {
        Datum::Object(document) => document.fields.iter().for_each(|(name, value)| {
            see(name, value);
            walk(value, see);
        }),
        Datum::List(list) => list.iter().for_each(|value| walk(value, see)),
        _ => {}
    }
}

/// Whether all stages of a `raw` are known to read.
pub fn raw_only_reads(list: &Expr) -> bool {
    match list.constant() {
        Some(Datum::List(stages)) => stages.iter().all(stage_reads),
        _ => false,
    }
}

fn data(expr: &Expr, what: &str) -> Result<Datum, FlowError> {
    expr.constant().ok_or_else(|| {
        let mut place = expr.span.clone();
        expr.visit(&mut |e| {
            if matches!(
                e.node,
                super::ast::Node::Path(_) | super::ast::Node::Call(..)
            ) {
                place = e.span.clone();
            }
        });
        FlowError::at(
            place,
            format!("The values of {what} are data, not expressions: texts go in quotes."),
        )
    })
}

/// Compiles a statement.
///
/// # Errors
/// If something cannot be done on a server, or a parameter has no value, with its place.
pub fn compile(statement: &Statement) -> Result<Plan, FlowError> {
    let writes = writes(statement);
    let one = |document, answer| {
        Ok(Plan {
            command: Some(Command {
                document,
                target: Target::Here,
                answer,
            }),
            places: Vec::new(),
            here: Vec::new(),
            when_empty: None,
            writes,
        })
    };
    match statement {
        Statement::Flow(flow) => compile_flow(flow, writes),
        Statement::Write(write) => one(compile_write(write)?, Answer::Write),
        Statement::Definition(definition) => compile_definition(definition, writes),
        Statement::Call(command) => {
            let Datum::Object(document) = data(command, "call")? else {
                return Err(FlowError::at(
                    command.span.clone(),
                    "A command is an object whose first field is its name:  call { ping: 1 }.",
                ));
            };
            let cursor = ["aggregate", "find", "listCollections", "listIndexes"];
            let answer = match document.fields.first() {
                Some((name, _)) if cursor.contains(&name.as_str()) => Answer::Cursor,
                _ => Answer::Reply,
            };
            one(document, answer)
        }
        Statement::Transaction(_) => Ok(Plan {
            command: None,
            places: Vec::new(),
            here: Vec::new(),
            when_empty: None,
            writes,
        }),
    }
}

fn compile_flow(flow: &Flow, writes: bool) -> Result<Plan, FlowError> {
    let Source::Collection(collection) = &flow.source else {
        return Ok(Plan {
            command: None,
            places: Vec::new(),
            here: flow.stages.clone(),
            when_empty: None,
            writes,
        });
    };
    let (there, here) = flow.stages.split_at(on_server(&flow.stages));
    if let Some(raw) = here.iter().find(|s| matches!(s.kind, StageKind::Raw(_))) {
        return Err(FlowError::at(
            raw.span.clone(),
            "After emit everything is computed here, and raw stages are the server's.",
        ));
    }
    let name = |document: Document| document.with("cursor", Document::new());
    let plan = |document, answer, places, when_empty| Plan {
        command: Some(Command {
            document,
            target: Target::Here,
            answer,
        }),
        places,
        here: here.to_vec(),
        when_empty,
        writes,
    };
    // A count alone has a command of its own.
    if let Some((StageKind::Count(as_name), before)) = there
        .split_last()
        .map(|(last, before)| (&last.kind, before))
    {
        let predicates: Option<Vec<&Expr>> = before
            .iter()
            .map(|stage| match &stage.kind {
                StageKind::Where(e) => Some(e),
                _ => None,
            })
            .collect();
        if let Some(predicates) = predicates {
            let query = matching::all_of(&predicates)?;
            let document = Document::new()
                .with("count", collection.name.as_str())
                .with("query", query);
            return Ok(plan(
                document,
                Answer::Count(as_name.name.clone()),
                Vec::new(),
                None,
            ));
        }
    }
    let (stages, places) = pipeline(there)?;
    let when_empty = match there.last().map(|s| &s.kind) {
        Some(StageKind::Group(keys, aggregates)) if keys.is_empty() => {
            Some(stages::of_nothing(aggregates))
        }
        Some(StageKind::Count(as_name)) => Some(Document::new().with(&as_name.name, 0)),
        _ => None,
    };
    let document = Document::new()
        .with("aggregate", collection.name.as_str())
        .with("pipeline", Datum::List(stages));
    Ok(plan(name(document), Answer::Cursor, places, when_empty))
}

fn compile_write(write: &Write) -> Result<Document, FlowError> {
    Ok(match write {
        Write::Insert {
            collection,
            documents,
        } => {
            let list = match data(documents, "insert")? {
                Datum::List(list) => list,
                one => vec![one],
            };
            if list.iter().any(|d| d.as_object().is_none()) {
                return Err(FlowError::at(
                    documents.span.clone(),
                    "Only objects can be put into a collection.",
                ));
            }
            Document::new()
                .with("insert", collection.name.as_str())
                .with("documents", Datum::List(list))
        }
        Write::Update {
            collection,
            predicate,
            set,
            remove,
        } => {
            let query = predicate.as_ref().map_or(Ok(Document::new()), filter)?;
            let update = update_of(set, remove)?;
            let one = Document::new()
                .with("q", query)
                .with("u", update)
                .with("multi", true);
            Document::new()
                .with("update", collection.name.as_str())
                .with("updates", Datum::List(vec![one.into()]))
        }
        Write::Delete {
            collection,
            predicate,
        } => delete(collection, predicate.as_ref())?,
        Write::Empty { collection } => delete(collection, None)?,
    })
}

fn delete(collection: &Name, predicate: Option<&Expr>) -> Result<Document, FlowError> {
    let query = predicate.map_or(Ok(Document::new()), filter)?;
    let one = Document::new().with("q", query).with("limit", 0);
    Ok(Document::new()
        .with("delete", collection.name.as_str())
        .with("deletes", Datum::List(vec![one.into()])))
}

/// An update with plain operators where they say the same, since every server takes them: values that stand there, in
/// fields of the document itself, or in single elements of lists. Else a pipeline, which computes, and sets fields
/// through lists.
fn update_of(
    set: &[(super::ast::Path, Expr)],
    remove: &[super::ast::Path],
) -> Result<Datum, FlowError> {
    let element = |path: &super::ast::Path| path.names().is_none();
    let own = |path: &super::ast::Path| plain(path) && path.steps.len() == 1;
    let at_once = set.iter().all(|(path, _)| own(path))
        && set.iter().all(|(_, value)| value.constant().is_some())
        && remove.iter().all(own)
        && !set
            .iter()
            .any(|(path, _)| remove.iter().any(|gone| gone.steps == path.steps));
    if at_once || set.iter().any(|(path, _)| element(path)) {
        return operators(set, remove);
    }
    let mut stages: Vec<Datum> = Vec::new();
    if !set.is_empty() {
        let mut fields = Document::new();
        for (path, value) in set {
            plain_names(path)?;
            fields.set(&dotted(path), expression::replacing(value)?);
        }
        stages.push(Document::new().with("$set", fields).into());
    }
    if !remove.is_empty() {
        for path in remove {
            plain_names(path)?;
        }
        stages.push(
            Document::new()
                .with("$unset", remove.iter().map(dotted).collect::<Vec<_>>())
                .into(),
        );
    }
    Ok(Datum::List(stages))
}

/// An update with the operators that set and remove at a path.
fn operators(
    set: &[(super::ast::Path, Expr)],
    remove: &[super::ast::Path],
) -> Result<Datum, FlowError> {
    let mut operators = Document::new();
    let mut sets = Document::new();
    for (path, value) in set {
        let steps: Vec<String> = path
            .steps
            .iter()
            .map(|step| match step {
                Step::Name(name) => name.clone(),
                Step::Index(index) => index.to_string(),
            })
            .collect();
        let Some(value) = value.constant() else {
            return Err(FlowError::at(
                value.span.clone(),
                "Next to a single element of a list only plain values can be set, nothing computed.",
            ));
        };
        sets.set(&steps.join("."), value);
    }
    if !sets.fields.is_empty() {
        operators.set("$set", sets);
    }
    if !remove.is_empty() {
        operators.set(
            "$unset",
            remove.iter().map(|p| (dotted(p), "")).collect::<Document>(),
        );
    }
    Ok(operators.into())
}

/// The names of a path with dots between them.
pub(super) fn dotted(path: &super::ast::Path) -> String {
    path.names().unwrap_or_default().join(".")
}

/// Whether the names of a path can be written with dots: none has a dot or begins with a dollar.
pub(super) fn plain(path: &super::ast::Path) -> bool {
    path.names().is_some_and(|names| {
        names
            .iter()
            .all(|n| !n.is_empty() && !n.contains('.') && !n.starts_with('$'))
    })
}

/// The same as an error where they cannot.
pub(super) fn plain_names(path: &super::ast::Path) -> Result<(), FlowError> {
    if plain(path) {
        return Ok(());
    }
    Err(FlowError::at(
        path.span.clone(),
        "A server takes no single elements here, and no names with dots or with a dollar in front.",
    ))
}

fn compile_definition(definition: &Definition, writes: bool) -> Result<Plan, FlowError> {
    let mut target = Target::Here;
    let document = match definition {
        Definition::CreateCollection(name) => Document::new().with("create", name.name.as_str()),
        Definition::CreateIndex {
            unique,
            name,
            collection,
            paths,
        } => {
            let mut keys = Document::new();
            for (path, down) in paths {
                plain_names(path)?;
                keys.set(&dotted(path), if *down { -1 } else { 1 });
            }
            let name = name
                .as_ref()
                .map_or_else(|| index_name(&keys), |n| n.name.clone());
            let mut index = Document::new().with("key", keys).with("name", name);
            if *unique {
                index.set("unique", true);
            }
            Document::new()
                .with("createIndexes", collection.name.as_str())
                .with("indexes", Datum::List(vec![index.into()]))
        }
        Definition::DropCollection(name) => Document::new().with("drop", name.name.as_str()),
        Definition::DropDatabase(name) => {
            target = Target::Database(name.name.clone());
            Document::new().with("dropDatabase", 1)
        }
        Definition::DropIndex { name, collection } => Document::new()
            .with("dropIndexes", collection.name.as_str())
            .with("index", name.name.as_str()),
        Definition::Rename { from, to } => {
            target = Target::Database("admin".into());
            Document::new()
                .with("renameCollection", from.name.as_str())
                .with("to", to.name.as_str())
        }
        Definition::CreateUser {
            name,
            roles,
            password,
        } => Document::new()
            .with("createUser", name.name.as_str())
            .with("pwd", password_of(password.as_ref())?)
            .with(
                "roles",
                roles
                    .iter()
                    .map(|r| Datum::from(r.as_str()))
                    .collect::<Vec<_>>(),
            ),
        Definition::ChangePassword { of, password } => Document::new()
            .with("updateUser", of.as_ref().map_or("", |n| n.name.as_str()))
            .with("pwd", password_of(password.as_ref())?),
        Definition::DropUser(name) => Document::new().with("dropUser", name.name.as_str()),
    };
    Ok(Plan {
        command: Some(Command {
            document,
            target,
            answer: Answer::Reply,
        }),
        places: Vec::new(),
        here: Vec::new(),
        when_empty: None,
        writes,
    })
}

/// The name that servers give an index: its paths and directions.
pub fn index_name(keys: &Document) -> String {
    keys.fields
        .iter()
        .map(|(path, direction)| format!("{path}_{}", direction.as_i64().unwrap_or(1)))
        .collect::<Vec<_>>()
        .join("_")
}

fn password_of(given: Option<&Expr>) -> Result<Datum, FlowError> {
    match given.map(|e| (&e.node, &e.span)) {
        Some((Node::Literal(value), _)) => Ok(value.clone()),
        Some((_, span)) => Err(FlowError::at(span.clone(), "The password has no value.")),
        None => Err(FlowError::at(0..0, "There is no password.")),
    }
}

#[cfg(test)]
mod tests;
