//! The drawing of how tables hang together, as an entry: which tables are drawn, what is focused, the ways
//! between chosen tables, and what the data says of guessed links.

use std::collections::HashMap;
use std::sync::Arc;

use idle_tide_core::Catalog;
use idle_tide_core::links::{self, Route, Tie};
use idle_tide_draw::links::{Drawing, Lit, Plate, Wire};
use idle_tide_draw::picture::{counted, grouped};
use idle_tide_lang::Dialect;
use idle_tide_lang::join;

use crate::page::{Line, Page, Tone};

/// At most so many tables are drawn at once.
pub const MOST: usize = 600;
/// How many ways between two tables are looked for.
const WAYS: usize = 5;

/// The drawing, and what it is of.
#[derive(Debug, Clone)]
pub struct Links {
    /// The catalog it was drawn from.
    pub catalog: Arc<Catalog>,
    /// Its links, those declared first.
    pub ties: Arc<Vec<Tie>>,
    dialect: &'static Dialect,
    /// The tables around which it is drawn; all when there are none.
    pub focus: Vec<usize>,
    /// How many links away from them.
    pub distance: usize,
    /// Whether guessed links are drawn.
    pub guessed: bool,
    /// The tables drawn, by their places in the catalog, one for each plate.
    pub tables: Vec<usize>,
    /// The links drawn, by their places in `ties`, one for each wire.
    pub wires: Vec<usize>,
    /// The drawing.
    pub drawing: Drawing,
    /// Tables chosen for a way, in order.
    pub chosen: Vec<usize>,
    /// The ways between them, the shortest first.
    pub routes: Vec<Route>,
    /// The way that is lit.
    pub route: usize,
    /// For guessed links that were checked: how many values there are, and how many of them match.
    pub checked: HashMap<usize, (u64, u64)>,
}

impl Links {
    /// A drawing around tables, or of all.
    ///
    /// # Errors
    /// In words, if there are too many tables to draw.
    pub fn new(
        catalog: Arc<Catalog>,
        ties: Arc<Vec<Tie>>,
        dialect: &'static Dialect,
        focus: Vec<usize>,
        distance: usize,
        guessed: bool,
    ) -> Result<Self, String> {
        let mut links = Links {
            catalog,
            ties,
            dialect,
            focus,
            distance,
            guessed,
            tables: Vec::new(),
            wires: Vec::new(),
            drawing: Drawing::default(),
            chosen: Vec::new(),
            routes: Vec::new(),
            route: 0,
            checked: HashMap::new(),
        };
        links.draw()?;
        Ok(links)
    }

    /// Draws it anew after something of it was changed.
    ///
    /// # Errors
    /// In words, if there are too many tables to draw; the drawing stays as it was.
    pub fn draw(&mut self) -> Result<(), String> {
        let ties = self.shown_ties();
        let mut tables = if self.focus.is_empty() {
            let all = self.catalog.objects.iter().enumerate();
            all.filter(|(_, o)| o.has_rows() && !o.is_view() && !o.helper)
                .map(|(at, _)| at)
                .collect()
        } else {
            links::around(&ties, &self.focus, self.distance)
        };
        for table in self.routes.iter().flat_map(Route::tables) {
            if !tables.contains(&table) {
                tables.push(table);
            }
        }
        if tables.len() > MOST {
            return Err(format!(
                "That would be {}. Name one or more: /links NAME draws what is around it.",
                counted(tables.len() as u64, self.dialect.table())
            ));
        }
        let place: HashMap<usize, usize> =
            tables.iter().enumerate().map(|(n, at)| (*at, n)).collect();
        let shown = |(_, tie): &(usize, &Tie)| {
            (tie.declared || self.guessed)
                && place.contains_key(&tie.from)
                && place.contains_key(&tie.to)
        };
        let wires: Vec<usize> = self
            .ties
            .iter()
            .enumerate()
            .filter(shown)
            .map(|(at, _)| at)
            .collect();
        // A plate shows the key and the columns that links touch.
        let mut lines: Vec<Vec<String>> = tables
            .iter()
            .map(|at| {
                let fields = &self.catalog.objects[*at].fields;
                fields
                    .iter()
                    .filter(|f| f.key.is_some())
                    .map(|f| f.name.clone())
                    .collect()
            })
            .collect();
        let line_of = |lines: &mut Vec<Vec<String>>, table: usize, columns: &[String]| {
            let plate = place[&table];
            let words = columns.join(", ");
            let known = lines[plate]
                .iter()
                .position(|line| line.eq_ignore_ascii_case(&words));
            let line = known.unwrap_or_else(|| {
                lines[plate].push(words);
                lines[plate].len() - 1
            });
            (plate, line)
        };
        let drawn: Vec<Wire> = wires
            .iter()
            .map(|at| {
                let tie = &self.ties[*at];
                Wire {
                    from: line_of(&mut lines, tie.from, &tie.columns),
                    to: line_of(&mut lines, tie.to, &tie.their_columns),
                    declared: tie.declared,
                    many: !tie.one_to_one,
                    finds_many: !tie.finds_one,
                    optional: tie.optional,
                }
            })
            .collect();
        let plates = tables
            .iter()
            .zip(lines)
            .map(|(at, lines)| {
                let object = &self.catalog.objects[*at];
                Plate {
                    title: self.catalog.shortest_name(object),
                    note: match object.rows {
                        Some(rows) if object.estimated => format!("≈ {}", grouped(rows)),
                        Some(rows) => grouped(rows),
                        None => String::new(),
                    },
                    lines: lines
                        .into_iter()
                        .map(|name| {
                            let key = object.field(&name).is_some_and(|f| f.key.is_some());
                            (name, if key { "key" } else { "" }.to_string())
                        })
                        .collect(),
                }
            })
            .collect();
        self.tables = tables;
        self.wires = wires;
        self.drawing = Drawing::new(plates, drawn, 130);
        Ok(())
    }

    fn shown_ties(&self) -> Vec<Tie> {
        let shown = |tie: &&Tie| tie.declared || self.guessed;
        self.ties.iter().filter(shown).cloned().collect()
    }

    /// Looks for the ways between the chosen tables, and draws the tables they go through too.
    ///
    /// # Errors
    /// As [`Links::draw`].
    pub fn find_ways(&mut self) -> Result<(), String> {
        self.route = 0;
        // Guessed links are gone over too, at a higher price.
        self.routes = links::routes(&self.ties, &self.chosen, WAYS);
        let over_guessed = self
            .routes
            .iter()
            .flat_map(|r| &r.steps)
            .any(|step| !self.ties[step.tie].declared);
        self.guessed |= over_guessed;
        self.draw()
    }

    /// What stands out: the way, or the links of the table at hand.
    pub fn lit(&self, at: Option<usize>) -> Lit {
        let mut lit = Lit::default();
        if let Some(route) = self.routes.get(self.route) {
            let used: Vec<usize> = route.steps.iter().map(|step| step.tie).collect();
            lit.wires = (0..self.wires.len())
                .filter(|n| used.contains(&self.wires[*n]))
                .collect();
        } else if let Some(table) = at.and_then(|plate| self.tables.get(plate)) {
            let touches = |tie: &Tie| tie.from == *table || tie.to == *table;
            lit.wires = (0..self.wires.len())
                .filter(|n| touches(&self.ties[self.wires[*n]]))
                .collect();
        }
        lit
    }

    /// The name of a plate's table, as it is typed.
    pub fn name(&self, plate: usize) -> Option<String> {
        let table = self.tables.get(plate)?;
        Some(links::name_of(&self.catalog, *table))
    }

    /// The join of the way that is lit.
    pub fn join(&self) -> Option<String> {
        let route = self.routes.get(self.route)?;
        Some(join::statement(
            route,
            &self.ties,
            &self.catalog,
            self.dialect,
        ))
    }

    /// The way that is lit in words: through which tables, and where rows multiply or are left out.
    pub fn way_words(&self) -> Vec<Line> {
        let Some(route) = self.routes.get(self.route) else {
            let names: Vec<String> = self
                .chosen
                .iter()
                .map(|at| links::name_of(&self.catalog, *at))
                .collect();
            return match names.len() {
                0 => Vec::new(),
                1 => vec![
                    Line::new()
                        .and(Tone::Faint, "way from ")
                        .and(Tone::Active, names[0].clone()),
                ],
                _ => vec![Line::new().and(
                    Tone::Care,
                    format!("No links lead from {} to each other.", names.join(", ")),
                )],
            };
        };
        let mut line = Line::new();
        if self.routes.len() > 1 {
            line = line.and(
                Tone::Faint,
                format!("way {} of {}  ", self.route + 1, self.routes.len()),
            );
        } else {
            line = line.and(Tone::Faint, "the way  ");
        }
        line = line.and(Tone::Heading, links::name_of(&self.catalog, route.start));
        let mut multiplied = Vec::new();
        let mut dropped = Vec::new();
        let mut guessed = false;
        let mut last = route.start;
        for step in &route.steps {
            let tie = &self.ties[step.tie];
            let many = tie.multiplies_from(step.from);
            let name = links::name_of(&self.catalog, step.to);
            // A branch begins at a table before the last one.
            if step.from != last {
                line = line
                    .and(Tone::Faint, ", and ")
                    .and(Tone::Plain, links::name_of(&self.catalog, step.from));
            }
            last = step.to;
            line = line
                .and(Tone::Faint, if many { " → many " } else { " → " })
                .and(if many { Tone::Care } else { Tone::Heading }, name.clone());
            if many {
                multiplied.push(name);
            }
            if tie.optional && tie.from == step.from {
                dropped.push(format!(
                    "{}.{}",
                    links::name_of(&self.catalog, tie.from),
                    tie.columns.join(", ")
                ));
            }
            guessed |= !tie.declared;
        }
        let mut lines = vec![line];
        let mut notes = Vec::new();
        if !multiplied.is_empty() {
            notes.push((
                Tone::Care,
                format!(
                    "each row of {} comes as often as there are rows of {}",
                    links::name_of(&self.catalog, route.start),
                    multiplied.join(" × ")
                ),
            ));
        } else {
            notes.push((Tone::Faint, "no row is multiplied".into()));
        }
        if self.dialect.is_flow() {
            // A join puts what it finds into the document as a list, so nothing is multiplied or left out.
            let what =
                "each document gets a list of what is found; unnest makes one document of each";
            notes = vec![(Tone::Faint, what.into())];
            dropped.clear();
        }
        if !dropped.is_empty() {
            notes.push((
                Tone::Faint,
                format!("rows without {} are left out", dropped.join(", ")),
            ));
        }
        if guessed {
            notes.push((Tone::Faint, "it goes over a guessed link".into()));
        }
        let mut said = Line::new();
        for (n, (tone, words)) in notes.into_iter().enumerate() {
            if n > 0 {
                said = said.and(Tone::Faint, " · ");
            }
            said = said.and(tone, words);
        }
        lines.push(said);
        lines
    }

    /// The guessed links drawn, to be checked against the data: each by its place, with the questions for how
    /// many values refer, and how many of these find a row.
    pub fn questions(&self) -> Vec<(usize, [String; 2])> {
        let name =
            |at: usize| join::written(&self.catalog.objects[at], &self.catalog, self.dialect);
        let guessed = self.wires.iter().filter(|at| !self.ties[**at].declared);
        guessed
            .map(|at| {
                let tie = &self.ties[*at];
                let (from, to) = (name(tie.from), name(tie.to));
                if self.dialect.is_flow() {
                    let (ours, theirs) = (&tie.columns[0], &tie.their_columns[0]);
                    let fields = self.catalog.objects[tie.from].fields.iter();
                    let taken: Vec<String> = fields.map(|f| f.name.clone()).collect();
                    let found = &join::aliases(&["found"], &taken, self.dialect)[0];
                    let all = format!("from {from} where {ours} is not null");
                    let matching = format!(
                        "{all} join one {to} as {found} on {ours} = {found}.{theirs} where {found} is not missing"
                    );
                    return (*at, [format!("{all} count"), format!("{matching} count")]);
                }
                let ours = self.dialect.quote_name(&tie.columns[0]);
                let theirs = self.dialect.quote_name(&tie.their_columns[0]);
                let all = format!("select count({ours}) from {from}");
                let matching = format!(
                    "select count(*) from {from} a where exists (select 1 from {to} b where b.{theirs} = a.{ours})"
                );
                (*at, [all, matching])
            })
            .collect()
    }

    /// What the data says of the guessed links that were checked.
    pub fn checked_words(&self) -> Vec<Line> {
        let mut list: Vec<(&usize, &(u64, u64))> = self.checked.iter().collect();
        list.sort();
        list.into_iter()
            .map(|(at, (all, matching))| {
                let tie = &self.ties[*at];
                let tone = if all == matching {
                    Tone::Active
                } else {
                    Tone::Care
                };
                Line::new()
                    .and(
                        Tone::Plain,
                        format!(
                            "{}.{} → {}.{}  ",
                            links::name_of(&self.catalog, tie.from),
                            tie.columns.join(", "),
                            links::name_of(&self.catalog, tie.to),
                            tie.their_columns.join(", ")
                        ),
                    )
                    .and(
                        tone,
                        format!("{} of {} values match", grouped(*matching), grouped(*all)),
                    )
            })
            .collect()
    }

    /// The drawing as text, with the way in words; for a face without a screen.
    pub fn page(&self) -> Page {
        let mut page = Page::new();
        for line in self.drawing.text(&self.lit(None)).lines() {
            page.say(Tone::Plain, line);
        }
        page.gap();
        page.say(Tone::Faint, LEGEND);
        for line in self.way_words().into_iter().chain(self.checked_words()) {
            page.line(line);
        }
        page
    }

    /// What is drawn: table or collection.
    pub fn table(&self) -> &'static str {
        self.dialect.table()
    }

    /// What the drawing is of, for its heading.
    pub fn title(&self) -> String {
        if !self.chosen.is_empty() {
            let names: Vec<String> = self
                .chosen
                .iter()
                .map(|at| links::name_of(&self.catalog, *at))
                .collect();
            return format!("The way between {}", names.join(", "));
        }
        match &self.focus[..] {
            [] => format!("How the {}s hang together", self.dialect.table()),
            list => {
                let names: Vec<String> = list
                    .iter()
                    .map(|at| links::name_of(&self.catalog, *at))
                    .collect();
                format!("Links around {}", names.join(", "))
            }
        }
    }
}

/// What the marks of the drawing say.
pub const LEGEND: &str = "≡ several   • one   ○ may be empty   ── declared   ┄┄ guessed";
