//! The tree of a flow statement. Every node has its place in the text.

use std::ops::Range;

use idle_tide_core::document::{Datum, Kind};

pub use super::functions::AggregateFunction;
use super::functions::Function;

/// A place in the text, in bytes.
pub type Span = Range<usize>;

/// A statement.
#[derive(Debug, Clone, PartialEq)]
pub enum Statement {
    /// `from …`
    Flow(Flow),
    /// A change of documents.
    Write(Write),
    /// A change of what there is.
    Definition(Definition),
    /// `call { … }`: any command document; its values are data.
    Call(Expr),
    /// The beginning or the end of a transaction.
    Transaction(Transaction),
}

/// What is done with a transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transaction {
    /// One begins.
    Begin,
    /// What was changed in it is kept.
    Commit,
    /// What was changed in it is taken back.
    Rollback,
}

/// A flow: where documents come from, and its stages.
#[derive(Debug, Clone, PartialEq)]
pub struct Flow {
    /// Where they come from.
    pub source: Source,
    /// The place of `from` and the source.
    pub span: Span,
    /// What happens to them, in order.
    pub stages: Vec<Stage>,
}

/// Where documents come from.
#[derive(Debug, Clone, PartialEq)]
pub enum Source {
    /// A collection.
    Collection(Name),
    /// The result of an earlier entry.
    Result(u32),
    /// Documents that were typed in.
    Typed(Expr),
}

/// A name and its place.
#[derive(Debug, Clone, PartialEq)]
pub struct Name {
    /// The name, quotes taken off.
    pub name: String,
    /// Its place.
    pub span: Span,
}

/// A stage and its place.
#[derive(Debug, Clone, PartialEq)]
pub struct Stage {
    /// What it does.
    pub kind: StageKind,
    /// Its place, its word included.
    pub span: Span,
}

/// What a stage does.
#[derive(Debug, Clone, PartialEq)]
pub enum StageKind {
    /// Only those that satisfy the condition.
    Where(Expr),
    /// Only these fields come out.
    Pick(Vec<Field>),
    /// Fields are added or replaced.
    Add(Vec<Field>),
    /// Paths are taken out.
    Without(Vec<Path>),
    /// Groups by keys, with aggregates.
    Group(Vec<Field>, Vec<Aggregate>),
    /// The different values of a path with their counts.
    Distinct(Path),
    /// How many; under this name.
    Count(Name),
    /// In order; true for downwards.
    Order(Vec<(Path, bool)>),
    /// At most so many.
    Limit(Expr),
    /// Without the first so many.
    Offset(Expr),
    /// So many by chance.
    Sample(Expr),
    /// One document for each element of a list.
    Unnest {
        /// The list.
        path: Path,
        /// Where the element goes; in place of the list when none.
        name: Option<Name>,
        /// Whether documents without elements stay.
        keeping: bool,
    },
    /// Matches of another collection.
    Join {
        /// Only the first match, not as a list.
        one: bool,
        /// The other collection.
        collection: Name,
        /// Under which name they come.
        name: Name,
        /// The path in these documents.
        here: Path,
        /// The path in the others, without the name.
        there: Path,
    },
    /// Groups by bands of a value.
    Band {
        /// The value.
        path: Path,
        /// The limits, or how many bands.
        cut: Cut,
        /// What is said of each; the count when empty.
        aggregates: Vec<Aggregate>,
    },
    /// Map: key and value of each document.
    Emit(Expr, Expr),
    /// Reduce: a name, what it begins with, and what each `value` makes of it.
    Fold(Name, Expr, Expr),
    /// The value over `key` and the folded name.
    Finish(Expr),
    /// Into a collection.
    Save {
        /// The collection.
        collection: Name,
        /// Whether everything in it is replaced.
        over: bool,
        /// By which path documents are replaced.
        by: Option<Path>,
    },
    /// The server's own stages, a list; its values are data.
    Raw(Expr),
}

/// How bands are cut.
#[derive(Debug, Clone, PartialEq)]
pub enum Cut {
    /// At these values.
    At(Vec<Expr>),
    /// Into so many of about the same number of documents.
    Into(Expr),
}

/// A field that comes out: `path`, or `name: expression`.
#[derive(Debug, Clone, PartialEq)]
pub struct Field {
    /// Its name.
    pub name: Name,
    /// Its value.
    pub value: Expr,
}

/// An aggregate of a group, under a name.
#[derive(Debug, Clone, PartialEq)]
pub struct Aggregate {
    /// Its name.
    pub name: Name,
    /// Which one.
    pub function: AggregateFunction,
    /// Of what; none for `count()`.
    pub of: Option<Expr>,
    /// The share of `percentile`.
    pub share: f64,
    /// Its place, the name left out.
    pub span: Span,
}

/// A path to a value within a document.
#[derive(Debug, Clone, PartialEq)]
pub struct Path {
    /// Its steps.
    pub steps: Vec<Step>,
    /// Its place.
    pub span: Span,
}

/// A step of a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// Into a field; through a list into the field of each element.
    Name(String),
    /// Into an element of a list, counted from 0; negative from the end.
    Index(i64),
}

impl Path {
    /// The names, if there are only names.
    pub fn names(&self) -> Option<Vec<&str>> {
        self.steps
            .iter()
            .map(|step| match step {
                Step::Name(name) => Some(name.as_str()),
                Step::Index(_) => None,
            })
            .collect()
    }

    /// The last name: the one a picked path gets.
    pub fn last_name(&self) -> &str {
        let names = self.steps.iter().rev().filter_map(|step| match step {
            Step::Name(name) => Some(name.as_str()),
            Step::Index(_) => None,
        });
        names.into_iter().next().unwrap_or_default()
    }

    /// The path as it is written.
    pub fn written(&self) -> String {
        let mut text = String::new();
        for step in &self.steps {
            match step {
                Step::Name(name) => {
                    if !text.is_empty() {
                        text.push('.');
                    }
                    text.push_str(&idle_tide_core::document::paths::written([name.as_str()]));
                }
                Step::Index(index) => text.push_str(&format!("[{index}]")),
            }
        }
        text
    }
}

/// An expression and its place.
#[derive(Debug, Clone, PartialEq)]
pub struct Expr {
    /// What it is.
    pub node: Node,
    /// Its place.
    pub span: Span,
}

/// An operator between two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operator {
    /// `or`
    Or,
    /// `and`
    And,
    /// `=`
    Equal,
    /// `<>` or `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`: 7/2 is 3.5
    Divide,
    /// `%`
    Remainder,
    /// `||`
    Concatenate,
}

impl Operator {
    /// How it is written.
    pub fn sign(self) -> &'static str {
        match self {
            Operator::Or => "or",
            Operator::And => "and",
            Operator::Equal => "=",
            Operator::NotEqual => "<>",
            Operator::Less => "<",
            Operator::LessOrEqual => "<=",
            Operator::Greater => ">",
            Operator::GreaterOrEqual => ">=",
            Operator::Add => "+",
            Operator::Subtract => "-",
            Operator::Multiply => "*",
            Operator::Divide => "/",
            Operator::Remainder => "%",
            Operator::Concatenate => "||",
        }
    }

    /// Whether it compares.
    pub fn compares(self) -> bool {
        use Operator::{Equal, Greater, GreaterOrEqual, Less, LessOrEqual, NotEqual};
        matches!(
            self,
            Equal | NotEqual | Less | LessOrEqual | Greater | GreaterOrEqual
        )
    }

    /// How tightly it binds: or 1, and 2, not 3, comparisons 4, `||` 5, `+ -` 6, `* / %` 7.
    pub fn strength(self) -> u8 {
        match self {
            Operator::Or => 1,
            Operator::And => 2,
            Operator::Concatenate => 5,
            Operator::Add | Operator::Subtract => 6,
            Operator::Multiply | Operator::Divide | Operator::Remainder => 7,
            _ => 4,
        }
    }
}

/// What `is of` asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KindWord {
    /// Any kind of number.
    Number,
    /// One kind.
    One(Kind),
}

/// The kinds of nodes.
#[derive(Debug, Clone, PartialEq)]
pub enum Node {
    /// A value.
    Literal(Datum),
    /// `date 'YYYY-MM-DD'`: a whole day, from its first millisecond to that of the next.
    Day(i64, i64),
    /// A parameter: its name, the fields of the variable, and whether it is asked for with hidden input.
    Parameter(String, Vec<String>, bool),
    /// A path.
    Path(Path),
    /// `not e`
    Not(Box<Expr>),
    /// `-e`
    Negative(Box<Expr>),
    /// `a op b`
    Binary(Operator, Box<Expr>, Box<Expr>),
    /// `e between low and high`; true at the end for `not between`.
    Between(Box<Expr>, Box<Expr>, Box<Expr>, bool),
    /// `e in (…)`; true at the end for `not in`.
    In(Box<Expr>, Vec<Expr>, bool),
    /// `e in list`, where the list is a value; true at the end for `not in`.
    InList(Box<Expr>, Box<Expr>, bool),
    /// `e like pattern`; true at the end for `not like`. `%` any text, `_` one character; case counts (ISO/IEC 9075).
    Like(Box<Expr>, Box<Expr>, bool),
    /// `e is null`: null or not there; true at the end for `is not null`.
    IsNull(Box<Expr>, bool),
    /// `e is missing`; true at the end for `is not missing`.
    IsMissing(Box<Expr>, bool),
    /// `e is of kind`; true at the end for `is not of`.
    IsOf(Box<Expr>, KindWord, bool),
    /// `some path (predicate)`: one element satisfies all of it.
    Some(Path, Box<Expr>),
    /// `case when … then … else … end`
    Case(Vec<(Expr, Expr)>, Option<Box<Expr>>),
    /// A function and its arguments.
    Call(&'static Function, Vec<Expr>),
    /// A function of a script, by its name, and its arguments; only in script lines.
    Apply(String, Vec<Expr>),
    /// A field of an object by a name that is worked out, or an element of a list; only in script lines.
    Element(Box<Expr>, Box<Expr>),
    /// An object.
    Object(Vec<(String, Expr)>),
    /// A list.
    List(Vec<Expr>),
}

/// A write.
#[derive(Debug, Clone, PartialEq)]
pub enum Write {
    /// Documents go in.
    Insert {
        /// The collection.
        collection: Name,
        /// An object, or a list of objects.
        documents: Expr,
    },
    /// Fields are set or removed.
    Update {
        /// The collection.
        collection: Name,
        /// In which; all when `None`.
        predicate: Option<Expr>,
        /// What is set.
        set: Vec<(Path, Expr)>,
        /// What is removed.
        remove: Vec<Path>,
    },
    /// Documents go.
    Delete {
        /// The collection.
        collection: Name,
        /// Which; all when `None`.
        predicate: Option<Expr>,
    },
    /// All documents go; the collection and its indexes stay.
    Empty {
        /// The collection.
        collection: Name,
    },
}

/// A definition.
#[derive(Debug, Clone, PartialEq)]
pub enum Definition {
    /// An empty collection.
    CreateCollection(Name),
    /// An index.
    CreateIndex {
        /// Whether it allows a value only once.
        unique: bool,
        /// Its name; made of its paths when `None`.
        name: Option<Name>,
        /// The collection.
        collection: Name,
        /// Paths; true for downwards.
        paths: Vec<(Path, bool)>,
    },
    /// A collection goes, with its indexes.
    DropCollection(Name),
    /// A database goes.
    DropDatabase(Name),
    /// An index goes.
    DropIndex {
        /// The index.
        name: Name,
        /// Its collection.
        collection: Name,
    },
    /// A collection gets another name.
    Rename {
        /// Its present name.
        from: Name,
        /// Its new name.
        to: Name,
    },
    /// A user; a password that is not given is asked for.
    CreateUser {
        /// The user.
        name: Name,
        /// Roles.
        roles: Vec<String>,
        /// The password.
        password: Option<Expr>,
    },
    /// A new password; one's own when no user is given. It is asked for if it is not given.
    ChangePassword {
        /// Whose.
        of: Option<Name>,
        /// The new one.
        password: Option<Expr>,
    },
    /// A user goes.
    DropUser(Name),
}

impl Expr {
    /// A node at a place.
    pub fn new(node: Node, span: Span) -> Self {
        Expr { node, span }
    }

    /// The value, if it is a literal: also of objects and lists of literals, and of signed numbers.
    pub fn constant(&self) -> Option<Datum> {
        match &self.node {
            Node::Literal(value) => Some(value.clone()),
            Node::Day(start, _) => Some(Datum::Date(*start)),
            Node::Negative(inner) => negative(inner.constant()?),
            Node::List(list) => list
                .iter()
                .map(Expr::constant)
                .collect::<Option<Vec<_>>>()
                .map(Datum::List),
            Node::Object(fields) => fields
                .iter()
                .map(|(name, value)| Some((name.as_str(), value.constant()?)))
                .collect::<Option<_>>()
                .map(Datum::Object),
            _ => None,
        }
    }

    /// Visits this expression and all within it, those outside first.
    pub fn visit<'a>(&'a self, see: &mut dyn FnMut(&'a Expr)) {
        see(self);
        match &self.node {
            Node::Literal(_) | Node::Day(..) | Node::Parameter(..) | Node::Path(_) => {}
            Node::Not(a)
            | Node::Negative(a)
            | Node::IsNull(a, _)
            | Node::IsMissing(a, _)
            | Node::IsOf(a, ..)
            | Node::Some(_, a) => a.visit(see),
            Node::Binary(_, a, b)
            | Node::Like(a, b, _)
            | Node::InList(a, b, _)
            | Node::Element(a, b) => {
                a.visit(see);
                b.visit(see);
            }
            Node::Between(a, b, c, _) => [a, b, c].into_iter().for_each(|e| e.visit(see)),
            Node::In(a, list, _) => {
                a.visit(see);
                list.iter().for_each(|e| e.visit(see));
            }
            Node::Case(arms, other) => {
                for (when, then) in arms {
                    when.visit(see);
                    then.visit(see);
                }
                if let Some(other) = other {
                    other.visit(see);
                }
            }
            Node::Call(_, list) | Node::Apply(_, list) | Node::List(list) => {
                list.iter().for_each(|e| e.visit(see));
            }
            Node::Object(fields) => fields.iter().for_each(|(_, e)| e.visit(see)),
        }
    }

    /// Puts the values of parameters in their places; those without a value stay.
    pub fn bind(&mut self, value: &dyn Fn(&str) -> Option<Datum>) {
        self.visit_mut(&mut |e| {
            let Node::Parameter(name, fields, _) = &e.node else {
                return;
            };
            let Some(mut found) = value(name) else { return };
            for field in fields {
                found = match found {
                    Datum::Object(inner) => inner.get(field).cloned().unwrap_or(Datum::Null),
                    _ => Datum::Null,
                };
            }
            e.node = Node::Literal(found);
        });
    }

    /// The same to change them.
    pub fn visit_mut(&mut self, change: &mut dyn FnMut(&mut Expr)) {
        change(self);
        for inner in self.inner_mut() {
            inner.visit_mut(change);
        }
    }

    /// The expressions right within it, to change them.
    pub fn inner_mut(&mut self) -> Vec<&mut Expr> {
        match &mut self.node {
            Node::Literal(_) | Node::Day(..) | Node::Parameter(..) | Node::Path(_) => Vec::new(),
            Node::Not(a)
            | Node::Negative(a)
            | Node::IsNull(a, _)
            | Node::IsMissing(a, _)
            | Node::IsOf(a, ..)
            | Node::Some(_, a) => vec![a],
            Node::Binary(_, a, b)
            | Node::Like(a, b, _)
            | Node::InList(a, b, _)
            | Node::Element(a, b) => vec![a, b],
            Node::Between(a, b, c, _) => vec![a, b, c],
            Node::In(a, list, _) => std::iter::once(&mut **a).chain(list).collect(),
            Node::Case(arms, other) => {
                let arms = arms.iter_mut().flat_map(|(when, then)| [when, then]);
                arms.chain(other.as_deref_mut()).collect()
            }
            Node::Call(_, list) | Node::Apply(_, list) | Node::List(list) => {
                list.iter_mut().collect()
            }
            Node::Object(fields) => fields.iter_mut().map(|(_, e)| e).collect(),
        }
    }
}

fn negative(value: Datum) -> Option<Datum> {
    Some(match value {
        Datum::Int(i) => Datum::integer(-i64::from(i)),
        Datum::Long(i) => Datum::integer(i.checked_neg()?),
        Datum::Double(f) => Datum::Double(-f),
        Datum::Decimal(d) => Datum::Decimal(format!("-{d}").replace("--", "").parse().ok()?),
        _ => return None,
    })
}

impl Stage {
    /// Its word, as the grammar has it.
    pub fn word(&self) -> &'static str {
        match &self.kind {
            StageKind::Where(_) => "where",
            StageKind::Pick(_) => "pick",
            StageKind::Add(_) => "add",
            StageKind::Without(_) => "without",
            StageKind::Group(keys, _) if keys.is_empty() => "group",
            StageKind::Group(..) => "group by",
            StageKind::Distinct(_) => "distinct",
            StageKind::Count(_) => "count",
            StageKind::Order(_) => "order by",
            StageKind::Limit(_) => "limit",
            StageKind::Offset(_) => "offset",
            StageKind::Sample(_) => "sample",
            StageKind::Unnest { .. } => "unnest",
            StageKind::Join { one: true, .. } => "join one",
            StageKind::Join { .. } => "join",
            StageKind::Band { .. } => "band",
            StageKind::Emit(..) => "emit",
            StageKind::Fold(..) => "fold",
            StageKind::Finish(_) => "finish",
            StageKind::Save { over: true, .. } => "save over",
            StageKind::Save { .. } => "save into",
            StageKind::Raw(_) => "raw",
        }
    }

    /// The expressions that stand in it.
    pub fn expressions(&self) -> Vec<&Expr> {
        match &self.kind {
            StageKind::Where(e)
            | StageKind::Limit(e)
            | StageKind::Offset(e)
            | StageKind::Sample(e)
            | StageKind::Finish(e)
            | StageKind::Raw(e) => vec![e],
            StageKind::Pick(fields) | StageKind::Add(fields) => {
                fields.iter().map(|f| &f.value).collect()
            }
            StageKind::Group(keys, list) => keys
                .iter()
                .map(|f| &f.value)
                .chain(list.iter().filter_map(|a| a.of.as_ref()))
                .collect(),
            StageKind::Band {
                cut, aggregates, ..
            } => {
                let cut: Vec<&Expr> = match cut {
                    Cut::At(list) => list.iter().collect(),
                    Cut::Into(n) => vec![n],
                };
                cut.into_iter()
                    .chain(aggregates.iter().filter_map(|a| a.of.as_ref()))
                    .collect()
            }
            StageKind::Emit(key, value) => vec![key, value],
            StageKind::Fold(_, start, then) => vec![start, then],
            _ => Vec::new(),
        }
    }

    /// The same to change them.
    pub fn expressions_mut(&mut self) -> Vec<&mut Expr> {
        match &mut self.kind {
            StageKind::Where(e)
            | StageKind::Limit(e)
            | StageKind::Offset(e)
            | StageKind::Sample(e)
            | StageKind::Finish(e)
            | StageKind::Raw(e) => vec![e],
            StageKind::Pick(fields) | StageKind::Add(fields) => {
                fields.iter_mut().map(|f| &mut f.value).collect()
            }
            StageKind::Group(keys, list) => keys
                .iter_mut()
                .map(|f| &mut f.value)
                .chain(list.iter_mut().filter_map(|a| a.of.as_mut()))
                .collect(),
            StageKind::Band {
                cut, aggregates, ..
            } => {
                let cut: Vec<&mut Expr> = match cut {
                    Cut::At(list) => list.iter_mut().collect(),
                    Cut::Into(n) => vec![n],
                };
                cut.into_iter()
                    .chain(aggregates.iter_mut().filter_map(|a| a.of.as_mut()))
                    .collect()
            }
            StageKind::Emit(key, value) => vec![key, value],
            StageKind::Fold(_, start, then) => vec![start, then],
            _ => Vec::new(),
        }
    }
}

impl Statement {
    /// The expressions that stand in it, to change them.
    pub fn expressions_mut(&mut self) -> Vec<&mut Expr> {
        match self {
            Statement::Flow(flow) => {
                let mut list: Vec<&mut Expr> = flow
                    .stages
                    .iter_mut()
                    .flat_map(Stage::expressions_mut)
                    .collect();
                if let Source::Typed(typed) = &mut flow.source {
                    list.push(typed);
                }
                list
            }
            Statement::Write(Write::Insert { documents, .. }) => vec![documents],
            Statement::Write(Write::Update { predicate, set, .. }) => predicate
                .iter_mut()
                .chain(set.iter_mut().map(|(_, e)| e))
                .collect(),
            Statement::Write(Write::Delete { predicate, .. }) => predicate.iter_mut().collect(),
            Statement::Call(command) => vec![command],
            Statement::Definition(
                Definition::CreateUser { password, .. }
                | Definition::ChangePassword { password, .. },
            ) => password.iter_mut().collect(),
            _ => Vec::new(),
        }
    }

    /// The parameters it asks for: name, and whether with hidden input.
    pub fn parameters(&mut self) -> Vec<(String, bool)> {
        let mut found: Vec<(String, bool)> = Vec::new();
        for expression in self.expressions_mut() {
            expression.visit(&mut |e| {
                if let Node::Parameter(name, _, hidden) = &e.node
                    && !found.iter().any(|(known, _)| known == name)
                {
                    found.push((name.clone(), *hidden));
                }
            });
        }
        found
    }

    /// Puts expressions in the places of parameters; those without one stay.
    pub fn put(&mut self, value: &dyn Fn(&str) -> Option<Expr>) {
        for expression in self.expressions_mut() {
            expression.visit_mut(&mut |e| {
                if let Node::Parameter(name, ..) = &e.node
                    && let Some(found) = value(name)
                {
                    e.node = found.node;
                }
            });
        }
    }

    /// Puts the values of parameters in their places; those without a value stay.
    pub fn bind(&mut self, value: &dyn Fn(&str) -> Option<Datum>) {
        for expression in self.expressions_mut() {
            expression.bind(value);
        }
    }
}

/// A line of a script.
#[derive(Debug, Clone, PartialEq)]
pub enum Line {
    /// A variable, or a field of one, gets a value.
    Set(Path, Expr),
    /// Once for each element of a list.
    Each(Name, Expr, Vec<Line>),
    /// Once for each whole number from one to another, both included.
    Count(Name, Expr, Expr, Vec<Line>),
    /// The lines of the first condition that holds, else the others.
    If(Vec<(Expr, Vec<Line>)>, Vec<Line>),
    /// A function: its name, the names of its arguments, what it gives.
    Define(Name, Vec<Name>, Expr),
    /// A value is printed.
    Print(Expr),
    /// A value becomes an entry of its own.
    Show(Expr),
    /// A value that is printed because it stands alone.
    Value(Expr),
}
