//! Statements as text: a flow one stage a line. What is written reads back as the same tree.

use idle_tide_core::document::extended::{Form, text_of};
use idle_tide_core::document::paths::written;
use idle_tide_core::document::{Datum, Kind, id_text, time};

use super::ast::{
    Aggregate, AggregateFunction, Cut, Definition, Expr, Field, Flow, KindWord, Name, Node,
    Operator, Path, Source, Stage, StageKind, Statement, Step, Transaction, Write,
};
use super::functions::{AGGREGATES, STAGES};

/// A statement as text, without a semicolon.
pub fn format(statement: &Statement) -> String {
    match statement {
        Statement::Flow(flow) => flow_text(flow),
        Statement::Write(write) => write_text(write),
        Statement::Definition(definition) => definition_text(definition),
        Statement::Call(command) => format!("call {}", format_expr(command)),
        Statement::Transaction(Transaction::Begin) => "begin".into(),
        Statement::Transaction(Transaction::Commit) => "commit".into(),
        Statement::Transaction(Transaction::Rollback) => "rollback".into(),
    }
}

fn flow_text(flow: &Flow) -> String {
    let source = match &flow.source {
        Source::Collection(name) => collection(name),
        Source::Result(number) => format!("result {number}"),
        Source::Typed(typed) => format_expr(typed),
    };
    let mut text = format!("from {source}");
    for stage in &flow.stages {
        text.push('\n');
        text.push_str(&stage_text(stage));
    }
    text
}

/// A stage as text, on one line.
pub fn stage_text(stage: &Stage) -> String {
    let word = stage.word();
    match &stage.kind {
        StageKind::Where(e)
        | StageKind::Limit(e)
        | StageKind::Offset(e)
        | StageKind::Sample(e)
        | StageKind::Finish(e)
        | StageKind::Raw(e) => {
            format!("{word} {}", format_expr(e))
        }
        StageKind::Pick(fields) | StageKind::Add(fields) => {
            format!("{word} {{ {} }}", list(fields, field))
        }
        StageKind::Without(paths) => format!("{word} {}", list(paths, path)),
        StageKind::Group(keys, aggregates) if keys.is_empty() => {
            format!("{word} {{ {} }}", list(aggregates, aggregate))
        }
        StageKind::Group(keys, aggregates) => {
            format!(
                "{word} {} {{ {} }}",
                list(keys, field),
                list(aggregates, aggregate)
            )
        }
        StageKind::Distinct(p) => format!("{word} {}", path(p)),
        StageKind::Count(name) if name.name == "count" => word.into(),
        StageKind::Count(name) => format!("{word} as {}", written([name.name.as_str()])),
        StageKind::Order(paths) => format!("{word} {}", list(paths, ordered)),
        StageKind::Unnest {
            path: p,
            name,
            keeping,
        } => {
            let name = name.as_ref().map_or(String::new(), |n| {
                format!(" as {}", written([n.name.as_str()]))
            });
            format!(
                "{word} {}{name}{}",
                path(p),
                if *keeping { " keeping empty" } else { "" }
            )
        }
        StageKind::Join {
            collection: c,
            name,
            here,
            there,
            ..
        } => {
            let name = written([name.name.as_str()]);
            format!(
                "{word} {} as {name} on {} = {name}.{}",
                collection(c),
                path(here),
                path(there)
            )
        }
        StageKind::Band {
            path: p,
            cut,
            aggregates,
        } => {
            let cut = match cut {
                Cut::At(limits) => format!("at ({})", list(limits, format_expr)),
                Cut::Into(n) => format!("into {}", format_expr(n)),
            };
            let rest = if aggregates.is_empty() {
                String::new()
            } else {
                format!(" {{ {} }}", list(aggregates, aggregate))
            };
            format!("{word} {} {cut}{rest}", path(p))
        }
        StageKind::Emit(key, value) => {
            format!("{word} {} => {}", format_expr(key), format_expr(value))
        }
        StageKind::Fold(name, start, then) => {
            format!(
                "{word} {} = {} then {}",
                written([name.name.as_str()]),
                format_expr(start),
                format_expr(then)
            )
        }
        StageKind::Save {
            collection: c, by, ..
        } => {
            let by = by
                .as_ref()
                .map_or(String::new(), |p| format!(" by {}", path(p)));
            format!("{word} {}{by}", collection(c))
        }
    }
}

fn list<T>(items: &[T], one: impl Fn(&T) -> String) -> String {
    items.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn collection(name: &Name) -> String {
    if name.name.split('.').all(|part| !part.is_empty()) {
        let parts: Vec<&str> = name.name.split('.').collect();
        return written(parts);
    }
    written([name.name.as_str()])
}

fn path(path: &Path) -> String {
    let text = path.written();
    match path.steps.first() {
        Some(Step::Name(first))
            if STAGES
                .iter()
                .any(|(word, ..)| first.eq_ignore_ascii_case(word)) =>
        {
            format!("`{first}`{}", &text[first.len()..])
        }
        _ => text,
    }
}

fn ordered((p, down): &(Path, bool)) -> String {
    format!("{}{}", path(p), if *down { " desc" } else { "" })
}

fn field(field: &Field) -> String {
    if let Node::Path(p) = &field.value.node
        && p.last_name() == field.name.name
    {
        return p.written();
    }
    format!(
        "{}: {}",
        written([field.name.name.as_str()]),
        format_expr(&field.value)
    )
}

fn aggregate(aggregate: &Aggregate) -> String {
    let of = aggregate.of.as_ref().map(format_expr).unwrap_or_default();
    let call = match aggregate.function {
        AggregateFunction::CountDifferent => format!("count(different {of})"),
        AggregateFunction::Percentile => {
            let share = Expr::new(Node::Literal(Datum::Double(aggregate.share)), 0..0);
            format!("percentile({of}, {})", format_expr(&share))
        }
        function => {
            let name = AGGREGATES
                .iter()
                .find(|a| a.3 == function)
                .map_or("", |a| a.0);
            format!("{name}({of})")
        }
    };
    format!("{}: {call}", written([aggregate.name.name.as_str()]))
}

fn write_text(write: &Write) -> String {
    match write {
        Write::Insert {
            collection: c,
            documents,
        } => format!("insert into {} {}", collection(c), format_expr(documents)),
        Write::Update {
            collection: c,
            predicate,
            set,
            remove,
        } => {
            let mut text = match predicate {
                Some(predicate) => {
                    format!("update {}\nwhere {}", collection(c), format_expr(predicate))
                }
                None => format!("update all {}", collection(c)),
            };
            if !set.is_empty() {
                text.push_str(&format!(
                    "\nset {}",
                    list(set, |(p, e)| format!("{} = {}", path(p), format_expr(e)))
                ));
            }
            if !remove.is_empty() {
                text.push_str(&format!("\nremove {}", list(remove, path)));
            }
            text
        }
        Write::Delete {
            collection: c,
            predicate: Some(predicate),
        } => format!(
            "delete from {}\nwhere {}",
            collection(c),
            format_expr(predicate)
        ),
        Write::Delete {
            collection: c,
            predicate: None,
        } => format!("delete all from {}", collection(c)),
        Write::Empty { collection: c } => format!("empty {}", collection(c)),
    }
}

fn definition_text(definition: &Definition) -> String {
    let plain = |name: &Name| written([name.name.as_str()]);
    match definition {
        Definition::CreateCollection(name) => format!("create collection {}", collection(name)),
        Definition::CreateIndex {
            unique,
            name,
            collection: c,
            paths,
        } => format!(
            "create {}index {}on {} ({})",
            if *unique { "unique " } else { "" },
            name.as_ref().map_or(String::new(), |n| format!(
                "{} ",
                if n.name == "on" {
                    "`on`".into()
                } else {
                    plain(n)
                }
            )),
            collection(c),
            list(paths, ordered)
        ),
        Definition::DropCollection(name) => format!("drop collection {}", collection(name)),
        Definition::DropDatabase(name) => format!("drop database {}", plain(name)),
        Definition::DropIndex {
            name,
            collection: c,
        } => format!("drop index {} on {}", plain(name), collection(c)),
        Definition::Rename { from, to } => format!(
            "rename collection {} to {}",
            collection(from),
            collection(to)
        ),
        Definition::CreateUser {
            name,
            roles,
            password,
        } => {
            let roles = match roles.as_slice() {
                [] => String::new(),
                some => format!(" with roles [{}]", list(some, |r| text(r))),
            };
            let password = given(" password", password.as_ref());
            format!("create user {}{roles}{password}", plain(name))
        }
        Definition::ChangePassword { of, password } => {
            let of = (of.as_ref()).map_or(String::new(), |name| format!(" of {}", plain(name)));
            format!("change password{of}{}", given(" to", password.as_ref()))
        }
        Definition::DropUser(name) => format!("drop user {}", plain(name)),
    }
}

fn given(word: &str, value: Option<&Expr>) -> String {
    value.map_or(String::new(), |e| format!("{word} {}", format_expr(e)))
}

fn text(value: &str) -> String {
    format!("'{}'", value.replace('\'', "''"))
}

/// An expression as text, with brackets only where they are needed.
pub fn format_expr(expr: &Expr) -> String {
    written_in(expr, 0)
}

/// How tightly a node binds.
fn strength(node: &Node) -> u8 {
    match node {
        Node::Binary(operator, ..) => operator.strength(),
        Node::Not(_) => 3,
        Node::Between(..)
        | Node::In(..)
        | Node::InList(..)
        | Node::Like(..)
        | Node::IsNull(..)
        | Node::IsMissing(..)
        | Node::IsOf(..) => 4,
        _ => 9,
    }
}

fn written_in(expr: &Expr, least: u8) -> String {
    let inner = node_text(&expr.node);
    if strength(&expr.node) < least {
        format!("({inner})")
    } else {
        inner
    }
}

fn node_text(node: &Node) -> String {
    let not = |not: &bool| if *not { "not " } else { "" };
    match node {
        Node::Literal(value) => literal(value),
        Node::Day(start, _) => match time::text(*start) {
            Some(day) if day.ends_with("T00:00:00Z") => format!("date '{}'", &day[..10]),
            _ => literal(&Datum::Date(*start)),
        },
        Node::Parameter(name, fields, hidden) => {
            let rest: String = fields
                .iter()
                .map(|f| format!(".{}", written([f.as_str()])))
                .collect();
            format!(":{}{name}{rest}", if *hidden { "?" } else { "" })
        }
        Node::Path(p) => expression_path(p),
        Node::Not(inner) => format!("not {}", written_in(inner, 3)),
        Node::Negative(inner) => match &inner.node {
            Node::Negative(_) => format!("-({})", written_in(inner, 9)),
            _ => format!("-{}", written_in(inner, 9)),
        },
        Node::Binary(operator, a, b) => {
            let strength = operator.strength();
            let left = match &a.node {
                // Before a sign a word of the language can only be a name.
                Node::Path(p) if !matches!(operator, Operator::And | Operator::Or) => p.written(),
                _ => written_in(a, strength),
            };
            format!("{left} {} {}", operator.sign(), written_in(b, strength + 1))
        }
        Node::Between(a, low, high, n) => format!(
            "{} {}between {} and {}",
            written_in(a, 4),
            not(n),
            written_in(low, 5),
            written_in(high, 5)
        ),
        Node::In(a, items, n) => match items.as_slice() {
            [one] if matches!(one.node, Node::Parameter(..)) => {
                format!("{} {}in [{}]", written_in(a, 4), not(n), format_expr(one))
            }
            _ => format!(
                "{} {}in ({})",
                written_in(a, 4),
                not(n),
                list(items, format_expr)
            ),
        },
        Node::InList(a, items, n) => format!(
            "{} {}in {}",
            written_in(a, 4),
            not(n),
            match &items.node {
                Node::Literal(Datum::List(list)) => format!(
                    "({})",
                    list.iter().map(literal).collect::<Vec<_>>().join(", ")
                ),
                _ => written_in(items, 5),
            }
        ),
        Node::Like(a, pattern, n) => format!(
            "{} {}like {}",
            written_in(a, 4),
            not(n),
            written_in(pattern, 5)
        ),
        Node::IsNull(a, n) => format!("{} is {}null", written_in(a, 4), not(n)),
        Node::IsMissing(a, n) => format!("{} is {}missing", written_in(a, 4), not(n)),
        Node::IsOf(a, kind, n) => {
            let word = match kind {
                KindWord::Number => "number",
                KindWord::One(kind) => Kind::word(*kind),
            };
            format!("{} is {}of {word}", written_in(a, 4), not(n))
        }
        Node::Some(p, inner) => format!("some {} ({})", path(p), format_expr(inner)),
        Node::Case(arms, other) => {
            let arms: String = arms
                .iter()
                .map(|(when, then)| {
                    format!(" when {} then {}", format_expr(when), format_expr(then))
                })
                .collect();
            let other = other
                .as_ref()
                .map_or(String::new(), |e| format!(" else {}", format_expr(e)));
            format!("case{arms}{other} end")
        }
        Node::Call(function, arguments) => {
            format!("{}({})", function.name, list(arguments, format_expr))
        }
        Node::Apply(name, arguments) => format!("{name}({})", list(arguments, format_expr)),
        Node::Element(a, b) => format!("{}[{}]", written_in(a, 9), format_expr(b)),
        Node::Object(fields) => object(
            fields
                .iter()
                .map(|(name, value)| (name.as_str(), format_expr(value))),
        ),
        Node::List(items) => format!("[{}]", list(items, format_expr)),
    }
}

/// Words that are read as something else than a field where a value may begin and something follows.
fn expression_path(p: &Path) -> String {
    const WORDS: &[&str] = &[
        "and",
        "or",
        "between",
        "in",
        "like",
        "is",
        "then",
        "else",
        "when",
        "end",
        "not",
        "case",
        "some",
        "true",
        "false",
        "null",
        "date",
        "timestamp",
        "id",
        "decimal",
        "bytes",
    ];
    let text = p.written();
    match p.steps.first() {
        Some(Step::Name(first))
            if WORDS
                .iter()
                .chain(STAGES.iter().map(|(word, ..)| word))
                .any(|word| first.eq_ignore_ascii_case(word))
                && !(p.steps.len() == 1 && matches!(first.as_str(), "id" | "date")) =>
        {
            format!("`{first}`{}", &text[first.len()..])
        }
        _ => text,
    }
}

fn object<'a>(fields: impl Iterator<Item = (&'a str, String)>) -> String {
    let fields: Vec<String> = fields
        .map(|(name, value)| {
            let bare = name.strip_prefix('$').unwrap_or(name);
            let plain = !bare.is_empty() && written([bare]) == bare;
            let name = if plain { name.to_string() } else { text(name) };
            format!("{name}: {value}")
        })
        .collect();
    if fields.is_empty() {
        "{}".into()
    } else {
        format!("{{{}}}", fields.join(", "))
    }
}

/// A value as a literal of the language.
pub fn literal(value: &Datum) -> String {
    match value {
        Datum::Null => "null".into(),
        Datum::Boolean(b) => b.to_string(),
        Datum::Int(i) => i.to_string(),
        Datum::Long(i) if i32::try_from(*i).is_err() => i.to_string(),
        Datum::Double(f) if f.is_finite() => text_of(value, Form::Relaxed),
        Datum::Text(t) => text(t),
        Datum::Decimal(d) => format!("decimal '{d}'"),
        Datum::Id(id) => format!("id '{}'", id_text(id)),
        Datum::Date(ms) => match time::text(*ms) {
            Some(moment) => format!("timestamp '{moment}'"),
            None => text_of(value, Form::Canonical),
        },
        Datum::Bytes(both) if both.0 == 0 => {
            let digits: String = both.1.iter().map(|b| format!("{b:02x}")).collect();
            format!("bytes '{digits}'")
        }
        Datum::List(list) => format!(
            "[{}]",
            list.iter().map(literal).collect::<Vec<_>>().join(", ")
        ),
        Datum::Object(document) => object(
            document
                .fields
                .iter()
                .map(|(name, value)| (name.as_str(), literal(value))),
        ),
        other => text_of(other, Form::Canonical),
    }
}
