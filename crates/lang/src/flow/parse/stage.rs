//! The stages of a flow.

use idle_tide_core::document::Datum;

use super::super::FlowError;
use super::super::ast::{
    Aggregate, AggregateFunction, Cut, Expr, Field, Flow, Name, Node, Path, Source, Stage,
    StageKind, Step,
};
use super::super::functions::{AGGREGATES, STAGES};
use super::super::token::{TokenKind, unquoted};
use super::{MOST_STAGES, Parser, Result, meaning};

impl Parser<'_> {
    /// A flow after its `from`.
    pub(super) fn flow(&mut self, start: usize) -> Option<Flow> {
        let source = match self.source() {
            Ok(source) => source,
            Err(error) => {
                self.errors.push(error);
                return None;
            }
        };
        let span = start..self.before();
        let mut stages = Vec::new();
        while self.peek().is_some() && !self.is_sign(";") {
            if stages.len() == MOST_STAGES {
                let error = self.error(
                    "A flow has at most 1 000 stages. Save what they give, and go on from there.",
                );
                self.errors.push(error);
                return None;
            }
            match self.stage() {
                Ok(stage) => stages.push(stage),
                Err(error) => {
                    self.errors.push(error);
                    self.depth = 0;
                    self.skip_to_stage();
                }
            }
        }
        meaning::folds(&stages, &mut self.errors);
        Some(Flow {
            source,
            span,
            stages,
        })
    }

    fn source(&mut self) -> Result<Source> {
        if self.is_sign("[") || self.is_sign("{") {
            let typed = self.expression(8)?;
            let list = match typed.node {
                Node::List(_) => typed,
                _ => Expr {
                    span: typed.span.clone(),
                    node: Node::List(vec![typed]),
                },
            };
            return Ok(Source::Typed(list));
        }
        if self.is_word("result") && self.ahead(1).is_some_and(|t| t.kind == TokenKind::Number) {
            self.at += 1;
            let Ok(number) = self.here().parse() else {
                return Err(self.expected("the number of an entry after result"));
            };
            self.at += 1;
            return Ok(Source::Result(number));
        }
        if self.at_stage()
            && self.ahead(1).is_some_and(|t| t.kind != TokenKind::Sign)
            && !self.stage_follows(1)
        {
            return Err(self.expected("the name of a collection"));
        }
        Ok(Source::Collection(self.collection()?))
    }

    fn stage_follows(&self, offset: usize) -> bool {
        STAGES
            .iter()
            .any(|(word, ..)| self.is_word_at(offset, word))
    }

    fn stage(&mut self) -> Result<Stage> {
        let start = self.span().start;
        if !self.at_stage() {
            return Err(self.no_stage());
        }
        let word = self.here().to_ascii_lowercase();
        self.at += 1;
        let kind = match word.as_str() {
            "where" => StageKind::Where(self.condition()?),
            "pick" => StageKind::Pick(self.fields_in_brackets()?),
            "add" => StageKind::Add(self.fields_in_brackets()?),
            "without" => StageKind::Without(self.paths()?),
            "group" => self.group()?,
            "distinct" => StageKind::Distinct(self.path("the path whose values are wanted")?),
            "count" => {
                let name = if self.take_word("as") {
                    self.out_name("a name after as")?
                } else {
                    Name {
                        name: "count".into(),
                        span: start..self.before(),
                    }
                };
                StageKind::Count(name)
            }
            "order" => {
                self.want_word("by", "by")?;
                StageKind::Order(self.ordered_paths()?)
            }
            "limit" => StageKind::Limit(self.expression(5)?),
            "offset" => StageKind::Offset(self.expression(5)?),
            "sample" => StageKind::Sample(self.expression(5)?),
            "unnest" => {
                let path = self.path("the path of a list")?;
                let name = if self.take_word("as") {
                    Some(self.out_name("a name after as")?)
                } else {
                    None
                };
                let keeping = self.take_word("keeping");
                if keeping {
                    self.want_word("empty", "empty after keeping")?;
                }
                StageKind::Unnest {
                    path,
                    name,
                    keeping,
                }
            }
            "join" => self.join()?,
            "band" => self.band()?,
            "emit" => {
                let key = self.expression(0)?;
                self.want_sign("=>", "=> between key and value")?;
                StageKind::Emit(key, self.expression(0)?)
            }
            "fold" => {
                let name = self.out_name("a name for what is folded")?;
                self.want_sign("=", "= and what it begins with")?;
                let first = self.expression(0)?;
                self.want_word("then", "then")?;
                StageKind::Fold(name, first, self.expression(0)?)
            }
            "finish" => StageKind::Finish(self.expression(0)?),
            "save" => self.save()?,
            _ => StageKind::Raw(self.expression(0)?),
        };
        Ok(Stage {
            kind,
            span: start..self.before(),
        })
    }

    fn no_stage(&self) -> FlowError {
        match self.here() {
            ")" | "]" | "}" => return self.error("This bracket closes nothing."),
            "and" | "or" | "=" | "<" | ">" => {
                return self.error(format!("{} continues a condition, and none begins before it. Conditions begin with where.", self.here()));
            }
            _ => {}
        }
        let mut error =
            self.expected("the next stage (where, group, order, limit and so on) or the end");
        error.nearest = self.nearest(STAGES);
        let word = self.here().to_ascii_lowercase();
        let other = match word.as_str() {
            "select" | "project" => Some("pick"),
            "sort" => Some("order by"),
            "filter" | "match" | "having" => Some("where"),
            "skip" => Some("offset"),
            "unwind" => Some("unnest"),
            "lookup" | "inner" | "left" => Some("join"),
            _ => None,
        };
        if let Some(other) = other {
            error.message = format!("{word} begins no stage; the word here is {other}.");
            error.nearest = vec![other.into()];
        } else if let Some(first) = error.nearest.first() {
            error.message = format!(
                "{} begins no stage; the nearest word that does is {first}.",
                self.here()
            );
        }
        error
    }

    /// A name that comes out: no dot in it, no dollar in front.
    pub(super) fn out_name(&mut self, what: &str) -> Result<Name> {
        let name = match self.peek().map(|t| t.kind) {
            Some(TokenKind::Text) => {
                let span = self.span();
                let name = unquoted(self.here()).unwrap_or_default();
                self.at += 1;
                Name { name, span }
            }
            _ => self.name(what)?,
        };
        if name.name.is_empty()
            || name.name.contains('.')
            || name.name.starts_with('$')
            || name.name.contains('\0')
        {
            return Err(FlowError::at(
                name.span,
                "A name that comes out is not empty, has no dot, and does not begin with a dollar.",
            ));
        }
        Ok(name)
    }

    /// `path`, or `name: expression`.
    fn field(&mut self) -> Result<Field> {
        let named = self
            .peek()
            .is_some_and(|t| matches!(t.kind, TokenKind::Word | TokenKind::Name | TokenKind::Text))
            && self.ahead_text(1) == ":";
        if named {
            let name = self.out_name("a name")?;
            self.at += 1;
            return Ok(Field {
                name,
                value: self.expression(0)?,
            });
        }
        if self.ahead_text(1) == "(" {
            let function = self.here().to_ascii_lowercase();
            return Err(self.error(format!(
                "What is computed needs a name:  {function}: {function}(...)."
            )));
        }
        let path = self.path("a path, or a name and a colon")?;
        let name = Name {
            name: path.last_name().to_string(),
            span: path.span.clone(),
        };
        if !self.is_sign(",")
            && !self.is_sign("}")
            && !self.is_sign("{")
            && self.peek().is_some()
            && !self.at_stage()
            && !self.is_sign(";")
        {
            return Err(self.expected("a comma; what is computed needs a name (name: ...)"));
        }
        if name.name.contains('.') || name.name.starts_with('$') || name.name.is_empty() {
            return Err(FlowError::at(
                path.span,
                "This comes out under a name with a dot, a dollar in front, or none; give it another:  name: path.",
            ));
        }
        let span = path.span.clone();
        Ok(Field {
            name,
            value: Expr::new(Node::Path(path), span),
        })
    }

    fn fields_in_brackets(&mut self) -> Result<Vec<Field>> {
        let open = self.span();
        self.want_sign("{", "an opening { with the fields")?;
        let mut fields = Vec::new();
        while !self.is_sign("}") {
            fields.push(self.field()?);
            if !self.take_sign(",") {
                break;
            }
        }
        self.close("}", open.clone(), "a comma ")?;
        if fields.is_empty() {
            return Err(FlowError::at(
                open.start..self.before(),
                "Which fields? For example  { port, kg: lines.kg }.",
            ));
        }
        different_names(fields.iter().map(|f| &f.name))?;
        Ok(fields)
    }

    pub(super) fn paths(&mut self) -> Result<Vec<Path>> {
        let mut paths = vec![self.path("a path")?];
        while self.take_sign(",") {
            paths.push(self.path("a path")?);
        }
        match paths.iter().find(|path| path.names().is_none()) {
            Some(path) => Err(FlowError::at(
                path.span.clone(),
                "A single element of a list cannot be taken out here.",
            )),
            None => Ok(paths),
        }
    }

    pub(super) fn ordered_paths(&mut self) -> Result<Vec<(Path, bool)>> {
        let mut list = Vec::new();
        loop {
            let path = self.path("the path that gives the order")?;
            let down = self.take_word("desc") || {
                self.take_word("asc");
                false
            };
            list.push((path, down));
            if !self.take_sign(",") {
                return Ok(list);
            }
        }
    }

    fn group(&mut self) -> Result<StageKind> {
        let mut keys = Vec::new();
        if self.take_word("by") {
            loop {
                keys.push(self.field()?);
                if !self.take_sign(",") {
                    break;
                }
            }
        }
        let aggregates = self.aggregates()?;
        different_names(
            keys.iter()
                .map(|k| &k.name)
                .chain(aggregates.iter().map(|a| &a.name)),
        )?;
        Ok(StageKind::Group(keys, aggregates))
    }

    fn aggregates(&mut self) -> Result<Vec<Aggregate>> {
        let open = self.span();
        self.want_sign(
            "{",
            "an opening { with what is wanted of each group, for example { n: count() },",
        )?;
        let mut list = Vec::new();
        while !self.is_sign("}") {
            let name = self.out_name("a name for the aggregate")?;
            self.want_sign(
                ":",
                &format!("a colon and an aggregate after {}", name.name),
            )?;
            list.push(self.aggregate(name)?);
            if !self.take_sign(",") {
                break;
            }
        }
        self.close("}", open, "a comma ")?;
        different_names(list.iter().map(|a| &a.name))?;
        Ok(list)
    }

    fn aggregate(&mut self, name: Name) -> Result<Aggregate> {
        let start = self.span().start;
        let word = self.here().to_ascii_lowercase();
        let found = AGGREGATES.iter().find(|(known, ..)| *known == word);
        let Some((_, arguments, _, function)) = found else {
            let mut error = self.expected("an aggregate (count, sum, avg, min, max, first, last, list, different, stddev, percentile)");
            error.nearest = crate::correct::nearest(&word, AGGREGATES.iter().map(|a| a.0), 2);
            return Err(error);
        };
        self.at += 1;
        let open = self.span();
        self.want_sign("(", "an opening (")?;
        let mut function = *function;
        let mut of = None;
        let mut share = 0.5;
        if function == AggregateFunction::Count {
            if self.take_sign("*") {
                // count(*) is what SQL writes for count().
            } else if self.is_word("different") && !self.is_sign(")") {
                self.at += 1;
                function = AggregateFunction::CountDifferent;
                of = Some(self.expression(0)?);
            } else if !self.is_sign(")") {
                return Err(
                    self.error("count() counts documents, count(different ...) different values.")
                );
            }
        } else {
            of = Some(self.expression(0)?);
            if function == AggregateFunction::Percentile {
                self.want_sign(",", "a comma and the share, for example 0.95,")?;
                let expr = self.expression(0)?;
                share = match expr.constant().and_then(|v| v.as_f64()) {
                    Some(share) if (0.0..=1.0).contains(&share) => share,
                    _ => {
                        return Err(FlowError::at(
                            expr.span,
                            "The share is a number from 0 to 1: 0.95 for 95 %.",
                        ));
                    }
                };
            }
        }
        if !self.is_sign(")") && self.peek().is_some() {
            return Err(self.error(format!("{word} is written {word}({arguments}).")));
        }
        self.close(")", open, "")?;
        Ok(Aggregate {
            name,
            function,
            of,
            share,
            span: start..self.before(),
        })
    }

    fn join(&mut self) -> Result<StageKind> {
        let one = self.take_word("one");
        let collection = self.collection()?;
        self.want_word("as", "as and a name for the matches")?;
        let name = self.out_name("a name for the matches")?;
        self.want_word("on", "on")?;
        let first = self.path("a path")?;
        self.want_sign("=", "=")?;
        let second = self.path("a path")?;
        let begins = |path: &Path| {
            path.steps.len() > 1 && path.steps.first() == Some(&Step::Name(name.name.clone()))
        };
        let (here, mut there) = match (begins(&first), begins(&second)) {
            (false, true) => (first, second),
            (true, false) => (second, first),
            _ => {
                return Err(FlowError::at(
                    first.span.start..second.span.end,
                    format!(
                        "One side must begin with {0}, and only one:  on vessel = {0}._id.",
                        name.name
                    ),
                ));
            }
        };
        there.steps.remove(0);
        for path in [&here, &there] {
            if path.names().is_none() {
                return Err(FlowError::at(
                    path.span.clone(),
                    "A join goes by a field, not by one element of a list.",
                ));
            }
        }
        Ok(StageKind::Join {
            one,
            collection,
            name,
            here,
            there,
        })
    }

    fn band(&mut self) -> Result<StageKind> {
        let path = self.path("the path whose values are cut into bands")?;
        let cut = if self.take_word("at") {
            let open = self.span();
            self.want_sign("(", "an opening ( with the limits")?;
            let mut limits = vec![self.expression(0)?];
            while self.take_sign(",") {
                limits.push(self.expression(0)?);
            }
            self.close(")", open, "a comma ")?;
            Cut::At(limits)
        } else if self.take_word("into") {
            Cut::Into(self.expression(5)?)
        } else {
            return Err(self.expected("at (10, 20, ...) or into 5"));
        };
        let aggregates = if self.is_sign("{") {
            self.aggregates()?
        } else {
            Vec::new()
        };
        for aggregate in &aggregates {
            if aggregate.name.name == "from" || aggregate.name.name == "to" {
                return Err(FlowError::at(
                    aggregate.name.span.clone(),
                    "from and to are the limits of each band; give this another name.",
                ));
            }
        }
        Ok(StageKind::Band {
            path,
            cut,
            aggregates,
        })
    }

    fn save(&mut self) -> Result<StageKind> {
        if self.take_word("over") {
            return Ok(StageKind::Save {
                collection: self.collection()?,
                over: true,
                by: None,
            });
        }
        self.want_word("into", "into (adds) or over (replaces everything)")?;
        let collection = self.collection()?;
        let by = if self.take_word("by") {
            Some(self.path("the path by which documents are replaced")?)
        } else {
            None
        };
        Ok(StageKind::Save {
            collection,
            over: false,
            by,
        })
    }
}

fn different_names<'a>(names: impl Iterator<Item = &'a Name>) -> Result<()> {
    let mut seen: Vec<&Name> = Vec::new();
    for name in names {
        if seen.iter().any(|other| other.name == name.name) {
            return Err(FlowError::at(
                name.span.clone(),
                format!(
                    "Two would come out as {0}; give this one another name:  other: {0}.",
                    name.name
                ),
            ));
        }
        seen.push(name);
    }
    Ok(())
}

/// The value of an expression that must be a whole number from 0 on.
///
/// # Errors
/// If it is none, with its place.
pub fn whole_number(expr: &Expr, what: &str) -> std::result::Result<u64, FlowError> {
    match expr.constant().as_ref().map(Datum::as_i64) {
        Some(Some(number)) if number >= 0 => Ok(number.unsigned_abs()),
        _ => Err(FlowError::at(
            expr.span.clone(),
            format!("{what} takes a whole number from 0 on."),
        )),
    }
}
