//! How tables hang together: declared links, likely ones guessed from names and keys, and the ways from one
//! table to another over both. It reads a catalog and asks no database.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap, HashSet};

use crate::catalog::{Catalog, Kind, Object};

/// A link between two tables, by their places in [`Catalog::objects`]. The table `from` refers to a key of
/// the table `to`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tie {
    /// The table that refers.
    pub from: usize,
    /// Its columns.
    pub columns: Vec<String>,
    /// The table that is referred to.
    pub to: usize,
    /// The columns there, in the order of `columns`.
    pub their_columns: Vec<String>,
    /// Whether the schema declares it; else it is guessed.
    pub declared: bool,
    /// Whether a row there is referred to by at most one row here.
    pub one_to_one: bool,
    /// Whether rows here may refer to nothing.
    pub optional: bool,
    /// Whether the columns there tell their rows apart, so that a row here finds at most one.
    pub finds_one: bool,
}

impl Tie {
    fn new(
        catalog: &Catalog,
        from: usize,
        columns: Vec<String>,
        to: usize,
        theirs: Vec<String>,
        declared: bool,
    ) -> Self {
        let (here, there) = (&catalog.objects[from], &catalog.objects[to]);
        let unique = |object: &Object, columns: &[String]| {
            let columns: Vec<&str> = columns.iter().map(String::as_str).collect();
            object.is_unique(&columns)
        };
        let optional = |column: &String| here.field(column).is_some_and(|f| f.optional);
        Tie {
            from,
            to,
            declared,
            one_to_one: unique(here, &columns),
            optional: columns.iter().any(optional),
            finds_one: unique(there, &theirs),
            columns,
            their_columns: theirs,
        }
    }

    /// The other end, seen from a table.
    pub fn other(&self, table: usize) -> usize {
        if self.from == table {
            self.to
        } else {
            self.from
        }
    }

    /// Whether a row of the table `table` may find several rows at the other end.
    pub fn multiplies_from(&self, table: usize) -> bool {
        if self.from == table {
            !self.finds_one
        } else {
            !self.one_to_one
        }
    }
}

/// All declared links between tables of the catalog, in its order.
pub fn declared(catalog: &Catalog) -> Vec<Tie> {
    // Names lead to places in one step, however many tables there are.
    let mut places: HashMap<(&str, String), usize> = HashMap::new();
    for (at, object) in catalog.objects.iter().enumerate() {
        if object.has_rows() {
            places.insert((&object.schema, object.name.to_ascii_lowercase()), at);
        }
    }
    let mut ties = Vec::new();
    for (at, object) in catalog.objects.iter().enumerate() {
        if object.partition_of.is_some() {
            continue;
        }
        for link in &object.links {
            let schema = if link.schema.is_empty() {
                &object.schema
            } else {
                &link.schema
            };
            if let Some(to) = places.get(&(schema.as_str(), link.table.to_ascii_lowercase())) {
                ties.push(Tie::new(
                    catalog,
                    at,
                    link.columns.clone(),
                    *to,
                    link.their_columns.clone(),
                    true,
                ));
            }
        }
    }
    ties
}

/// Names of columns that say nothing about what they belong to.
const UNSPECIFIC: &[&str] = &[
    "id",
    "name",
    "code",
    "type",
    "key",
    "no",
    "nr",
    "num",
    "number",
    "kind",
    "status",
    "state",
    "value",
    "date",
    "day",
    "time",
    "at",
    "title",
    "label",
    "uuid",
    "guid",
    "description",
    "text",
    "position",
    "rank",
    "sort",
    "order",
    "version",
    "email",
    "url",
    "path",
    "hash",
    "token",
    "slug",
    "year",
    "month",
    "high",
];

fn bare(name: &str) -> String {
    name.chars()
        .filter(|c| *c != '_')
        .flat_map(char::to_lowercase)
        .collect()
}

/// The forms in which a table's name may stand within a column's: as it is, and in the singular.
fn forms(table: &str) -> Vec<String> {
    let name = bare(table);
    let mut list = vec![name.clone()];
    if let Some(stem) = name.strip_suffix("ies") {
        list.push(format!("{stem}y"));
    }
    for ending in ["ches", "shes", "sses", "xes"] {
        if name.ends_with(ending) {
            list.push(name[..name.len() - 2].to_string());
        }
    }
    if let Some(stem) = name.strip_suffix('s') {
        list.push(stem.to_string());
    } else {
        list.push(format!("{name}s"));
    }
    list
}

/// What kind of values a declared type holds, as far as two columns have to agree in it to be compared.
fn class(declared: &str) -> &'static str {
    let lower = declared.to_ascii_lowercase();
    let has = |parts: &[&str]| parts.iter().any(|part| lower.contains(part));
    if lower.is_empty() {
        "any"
    } else if has(&["point", "interval", "[]", "json", "bool"]) {
        "other"
    } else if has(&["int", "serial"]) {
        "integer"
    } else if has(&["char", "text", "clob", "enum"]) {
        "text"
    } else if has(&["timestamp", "datetime"]) {
        "time"
    } else if has(&["date"]) {
        "date"
    } else if has(&["uuid"]) {
        "uuid"
    } else if has(&["num", "dec"]) {
        "number"
    } else if has(&["blob", "bytea", "binary"]) {
        "bytes"
    } else {
        "other"
    }
}

/// The kind of a column's single values: without the nulls among them and the list around them, as documents have both.
fn single(declared: &str) -> &str {
    let one = declared
        .trim_end_matches(", null")
        .trim_start_matches("null, ");
    one.strip_prefix("list of ").unwrap_or(one)
}

fn comparable(a: &str, b: &str) -> bool {
    let (a, b) = (single(a), single(b));
    let (x, y) = (class(a), class(b));
    match (x, y) {
        ("any", _) | (_, "any") => true,
        ("other", _) => a.eq_ignore_ascii_case(b),
        _ => x == y,
    }
}

/// Links that nobody declared and that names and keys make likely. Each needs a column of one table and a
/// column of another that tells its rows apart, both of comparable types, where the first is named like the
/// second and that name is specific; or like its table and the second together; or like its table alone, when
/// only one key there has a comparable type. A table's own key is never taken for a reference.
pub fn likely(catalog: &Catalog, declared: &[Tie]) -> Vec<Tie> {
    let known: HashSet<(usize, String)> = declared
        .iter()
        .flat_map(|tie| {
            tie.columns
                .iter()
                .map(|c| (tie.from, c.to_ascii_lowercase()))
        })
        .collect();
    let mut by_column: HashMap<String, Vec<(usize, &str)>> = HashMap::new();
    let mut by_table: HashMap<String, Vec<(usize, &str)>> = HashMap::new();
    let tables = || {
        let all = catalog.objects.iter().enumerate();
        all.filter(|(_, o)| o.has_rows() && !o.is_view() && !o.helper)
    };
    for (at, object) in tables() {
        for key in object.keys() {
            let [column] = key[..] else { continue };
            let plain = bare(column);
            for form in forms(&object.name) {
                by_column
                    .entry(format!("{form}{plain}"))
                    .or_default()
                    .push((at, column));
                by_table.entry(form).or_default().push((at, column));
            }
            if !UNSPECIFIC.contains(&plain.as_str()) {
                by_column.entry(plain).or_default().push((at, column));
            }
        }
    }
    let mut ties = Vec::new();
    for (at, object) in tables() {
        let own: Vec<&str> = object
            .fields
            .iter()
            .filter(|field| field.key.is_some())
            .map(|field| field.name.as_str())
            .collect();
        for field in &object.fields {
            // A table's own key is not a reference.
            if own == [field.name.as_str()]
                || known.contains(&(at, field.name.to_ascii_lowercase()))
            {
                continue;
            }
            // A path within a document is known by its last names.
            let steps: Vec<&str> = field.name.split('.').collect();
            let names = (1..=steps.len().min(2))
                .rev()
                .map(|n| bare(&steps[steps.len() - n..].concat()));
            let fits = |(table, column): &(usize, &str)| {
                let other = &catalog.objects[*table];
                *table != at
                    && other.schema == object.schema
                    && other
                        .field(column)
                        .is_some_and(|theirs| comparable(&field.declared, &theirs.declared))
            };
            let pick = |list: Option<&Vec<(usize, &str)>>| -> Vec<(usize, String)> {
                let mut found: Vec<(usize, String)> = list
                    .into_iter()
                    .flatten()
                    .filter(|place| fits(place))
                    .map(|(table, column)| (*table, column.to_string()))
                    .collect();
                found.sort();
                found.dedup();
                found
            };
            let lookups =
                names.flat_map(|name| [pick(by_column.get(&name)), pick(by_table.get(&name))]);
            let found = lookups
                .into_iter()
                .find(|list| !list.is_empty())
                .unwrap_or_default();
            // Where several fit nothing is certain enough.
            if let [(table, column)] = &found[..] {
                let columns = vec![field.name.clone()];
                ties.push(Tie::new(
                    catalog,
                    at,
                    columns,
                    *table,
                    vec![column.clone()],
                    false,
                ));
            }
        }
    }
    shared_paths(catalog, &mut ties);
    ties
}

/// Collections that know one thing by the same path within their documents (`vessel.call_sign` in both), where nothing else ties them: neither
/// need tell its documents apart by it. The one with more documents is taken for the one that refers.
fn shared_paths(catalog: &Catalog, ties: &mut Vec<Tie>) {
    let mut by_path: HashMap<&str, Vec<usize>> = HashMap::new();
    for (at, object) in catalog.objects.iter().enumerate() {
        if object.kind != Kind::Collection {
            continue;
        }
        for field in &object.fields {
            let last = field.name.rsplit('.').next().unwrap_or_default();
            let specific = !UNSPECIFIC.contains(&bare(last).as_str());
            let identifies = matches!(class(single(&field.declared)), "text" | "integer")
                || field.declared == "id";
            if field.name.contains('.') && specific && identifies && field.choices.is_empty() {
                by_path.entry(&field.name).or_default().push(at);
            }
        }
    }
    let mut shared: Vec<(&str, Vec<usize>)> = by_path.into_iter().collect();
    shared.sort();
    for (path, places) in shared {
        for (n, a) in places.iter().enumerate() {
            for b in &places[n + 1..] {
                let (one, other) = (&catalog.objects[*a], &catalog.objects[*b]);
                let tied =
                    |tie: &Tie| (tie.from, tie.to) == (*a, *b) || (tie.from, tie.to) == (*b, *a);
                let kinds = |object: &Object| {
                    object
                        .field(path)
                        .map(|f| f.declared.clone())
                        .unwrap_or_default()
                };
                if ties.iter().any(tied)
                    || one.schema != other.schema
                    || !comparable(&kinds(one), &kinds(other))
                {
                    continue;
                }
                let (from, to) = if one.rows >= other.rows {
                    (*a, *b)
                } else {
                    (*b, *a)
                };
                let columns = vec![path.to_string()];
                ties.push(Tie::new(catalog, from, columns.clone(), to, columns, false));
            }
        }
    }
}

/// One step of a way: the table `to` is joined to one that is there already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// The link it goes over, by its place in the list of links.
    pub tie: usize,
    /// The table that is there.
    pub from: usize,
    /// The table that is joined.
    pub to: usize,
}

/// A way through tables: the first one, and each step from it on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Route {
    /// The table it begins with.
    pub start: usize,
    /// The steps in order.
    pub steps: Vec<Step>,
}

impl Route {
    /// All its tables in order.
    pub fn tables(&self) -> Vec<usize> {
        let mut list = vec![self.start];
        list.extend(self.steps.iter().map(|step| step.to));
        list
    }
}

/// A declared link is preferred to a guessed one, but not at the price of a table more.
fn cost(tie: &Tie) -> u32 {
    if tie.declared { 10 } else { 14 }
}

/// Links by the tables that they touch.
struct Network<'a> {
    ties: &'a [Tie],
    at: HashMap<usize, Vec<usize>>,
}

impl<'a> Network<'a> {
    fn new(ties: &'a [Tie]) -> Self {
        let mut at: HashMap<usize, Vec<usize>> = HashMap::new();
        for (number, tie) in ties.iter().enumerate() {
            // A table linked to itself leads nowhere.
            if tie.from != tie.to {
                at.entry(tie.from).or_default().push(number);
                at.entry(tie.to).or_default().push(number);
            }
        }
        Network { ties, at }
    }

    /// The cheapest way from any of `starts` to `goal` (Dijkstra, 1959), without certain links and tables.
    fn way(
        &self,
        starts: &[usize],
        goal: usize,
        no_ties: &HashSet<usize>,
        no_tables: &HashSet<usize>,
    ) -> Option<(u32, Vec<Step>)> {
        let mut best: HashMap<usize, (u32, Option<Step>)> = HashMap::new();
        let mut open = BinaryHeap::new();
        for start in starts {
            best.insert(*start, (0, None));
            open.push(Reverse((0_u32, *start)));
        }
        while let Some(Reverse((so_far, table))) = open.pop() {
            if table == goal {
                let mut steps = Vec::new();
                let mut at = goal;
                while let Some((_, Some(step))) = best.get(&at) {
                    steps.push(step.clone());
                    at = step.from;
                }
                steps.reverse();
                return Some((so_far, steps));
            }
            if best.get(&table).is_some_and(|(known, _)| *known < so_far) {
                continue;
            }
            for tie in self.at.get(&table).into_iter().flatten() {
                let next = self.ties[*tie].other(table);
                if no_ties.contains(tie) || no_tables.contains(&next) {
                    continue;
                }
                let total = so_far + cost(&self.ties[*tie]);
                if best.get(&next).is_none_or(|(known, _)| total < *known) {
                    let step = Step {
                        tie: *tie,
                        from: table,
                        to: next,
                    };
                    best.insert(next, (total, Some(step)));
                    open.push(Reverse((total, next)));
                }
            }
        }
        None
    }
}

/// The shortest ways that join all of `tables`, at most `most` of them, the best first. Between two tables they
/// are the shortest ways without a loop (Yen, 1971); more tables are joined one after the other, each by the
/// shortest way to what is there.
pub fn routes(ties: &[Tie], tables: &[usize], most: usize) -> Vec<Route> {
    let network = Network::new(ties);
    let none = (HashSet::new(), HashSet::new());
    let (Some(&start), true) = (tables.first(), tables.len() > 1) else {
        return Vec::new();
    };
    if tables.len() > 2 {
        let mut route = Route {
            start,
            steps: Vec::new(),
        };
        for goal in &tables[1..] {
            let there = route.tables();
            if there.contains(goal) {
                continue;
            }
            match network.way(&there, *goal, &none.0, &none.1) {
                Some((_, steps)) => route.steps.extend(steps),
                None => return Vec::new(),
            }
        }
        return vec![route];
    }
    let goal = tables[1];
    let Some(first) = network.way(&[start], goal, &none.0, &none.1) else {
        return Vec::new();
    };
    let mut found: Vec<(u32, Vec<Step>)> = vec![first];
    let mut candidates: Vec<(u32, Vec<Step>)> = Vec::new();
    while found.len() < most {
        let Some((_, last)) = found.last().cloned() else {
            break;
        };
        for spur in 0..last.len() {
            let root = &last[..spur];
            let from = last[spur].from;
            let no_ties: HashSet<usize> = found
                .iter()
                .chain(&candidates)
                .filter(|(_, steps)| steps.len() > spur && steps[..spur] == *root)
                .map(|(_, steps)| steps[spur].tie)
                .collect();
            let no_tables: HashSet<usize> = root.iter().map(|step| step.from).collect();
            if let Some((more, steps)) = network.way(&[from], goal, &no_ties, &no_tables) {
                let before: u32 = root.iter().map(|step| cost(&ties[step.tie])).sum();
                let mut whole = root.to_vec();
                whole.extend(steps);
                if !candidates.iter().any(|(_, known)| *known == whole) {
                    candidates.push((before + more, whole));
                }
            }
        }
        candidates.sort_by_key(|(cost, steps)| (*cost, steps.len()));
        if candidates.is_empty() {
            break;
        }
        found.push(candidates.remove(0));
    }
    found
        .into_iter()
        .map(|(_, steps)| Route { start, steps })
        .collect()
}

/// The tables within so many links of the given ones, these among them, in the order of their places.
pub fn around(ties: &[Tie], tables: &[usize], distance: usize) -> Vec<usize> {
    let mut found: HashSet<usize> = tables.iter().copied().collect();
    let mut edge: Vec<usize> = tables.to_vec();
    let network = Network::new(ties);
    for _ in 0..distance {
        let mut next = Vec::new();
        for table in edge {
            for tie in network.at.get(&table).into_iter().flatten() {
                let other = ties[*tie].other(table);
                if found.insert(other) {
                    next.push(other);
                }
            }
        }
        edge = next;
    }
    let mut list: Vec<usize> = found.into_iter().collect();
    list.sort_unstable();
    list
}

/// The links in which a column of a table takes part, as the one that refers.
pub fn of_column<'a>(
    ties: &'a [Tie],
    table: usize,
    column: &'a str,
) -> impl Iterator<Item = &'a Tie> {
    ties.iter().filter(move |tie| {
        tie.from == table && tie.columns.iter().any(|c| c.eq_ignore_ascii_case(column))
    })
}

/// The name of a table as a link shows it: with its schema where that is needed.
pub fn name_of(catalog: &Catalog, table: usize) -> String {
    let object: &Object = &catalog.objects[table];
    catalog.shortest_name(object)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::{Field, Index, Kind, Link};

    /// Tables written as `name: column type, …`, where a leading `!` marks the primary key, `+` a unique
    /// column, and `>table` a declared link to its `id`.
    fn catalog(tables: &[&str]) -> Catalog {
        let mut catalog = Catalog {
            path: vec!["main".into()],
            ..Catalog::default()
        };
        for table in tables {
            let (name, columns) = table.split_once(':').expect("a colon");
            let mut object = Object::new("main", name, Kind::Table);
            for (at, column) in columns.split(',').map(str::trim).enumerate() {
                let (column, link) = match column.split_once('>') {
                    Some((column, table)) => (column.trim(), Some(table.trim())),
                    None => (column, None),
                };
                let mut words = column.trim_start_matches(['!', '+']).split(' ');
                let name = words.next().expect("a name").to_string();
                object.fields.push(Field {
                    name: name.clone(),
                    declared: words.next().unwrap_or("integer").to_string(),
                    key: column.starts_with('!').then_some(at + 1),
                    ..Field::default()
                });
                if column.starts_with('+') {
                    object.indexes.push(Index {
                        columns: vec![name.clone()],
                        unique: true,
                        ..Index::default()
                    });
                }
                if let Some(table) = link {
                    object.links.push(Link {
                        columns: vec![name],
                        table: table.into(),
                        their_columns: vec!["id".into()],
                        ..Link::default()
                    });
                }
            }
            catalog.objects.push(object);
        }
        catalog
    }

    fn named(catalog: &Catalog, ties: &[Tie]) -> Vec<String> {
        ties.iter()
            .map(|tie| {
                format!(
                    "{}.{} > {}.{}",
                    catalog.objects[tie.from].name,
                    tie.columns.join("+"),
                    catalog.objects[tie.to].name,
                    tie.their_columns.join("+")
                )
            })
            .collect()
    }

    #[test]
    fn guesses_need_specific_names_and_comparable_types() {
        let c = catalog(&[
            "vessels: !id, +call_sign text, name text, code text",
            "ferries: !id, +code text",
            "visits: !id, VesselId, ferry_code text, code text, name text, vessel_name text",
            "tows: !id, vessel text, callsign text, ferry_id text",
            "logs: id, at timestamp",
        ]);
        assert_eq!(
            named(&c, &likely(&c, &declared(&c))),
            [
                "visits.VesselId > vessels.id",
                "visits.ferry_code > ferries.code",
                "tows.vessel > vessels.call_sign",
                "tows.callsign > vessels.call_sign",
            ]
        );
    }

    #[test]
    fn what_is_declared_is_not_guessed_and_many_is_known() {
        let c = catalog(&[
            "owners: !id",
            "cards: !id, +owner_id>owners",
            "boats: !id, owner_id>owners",
            "crews: !boat_id>boats, !owner_id>owners",
        ]);
        let ties = declared(&c);
        assert!(likely(&c, &ties).is_empty());
        let many: Vec<bool> = ties.iter().map(|tie| tie.multiplies_from(tie.to)).collect();
        assert_eq!(
            many,
            [false, true, true, true],
            "a unique reference is one to one"
        );
        assert!(ties.iter().all(|tie| !tie.multiplies_from(tie.from)));
    }

    #[test]
    fn ways_are_found_over_bridges_and_around_circles() {
        let c = catalog(&[
            "a: !id, next>b",
            "b: !id, next>c, back>a, own>b",
            "c: !id",
            "bridge: !left>a, !right>d",
            "d: !id, c_id>c",
            "alone: !id",
        ]);
        let ties = declared(&c);
        let ways = |tables: &[usize]| -> Vec<Vec<usize>> {
            routes(&ties, tables, 4).iter().map(Route::tables).collect()
        };
        assert_eq!(
            ways(&[0, 4]),
            [vec![0, 3, 4], vec![0, 1, 2, 4], vec![0, 1, 2, 4]]
        );
        assert!(ways(&[0, 5]).is_empty());
        let tree = &routes(&ties, &[2, 0, 3], 3)[0];
        assert_eq!(tree.tables(), [2, 1, 0, 3]);
        assert_eq!(around(&ties, &[2], 1), [1, 2, 4]);
        assert_eq!(around(&ties, &[5], 3), [5]);
        // Both links between a and b are ways of their own.
        let between: Vec<usize> = routes(&ties, &[0, 1], 2)
            .iter()
            .map(|r| r.steps[0].tie)
            .collect();
        assert_eq!(between.len(), 2);
        assert_ne!(between[0], between[1]);
    }

    #[test]
    fn collections_are_tied_by_identifiers_and_by_paths_that_they_share() {
        let mut catalog = catalog(&[
            "landings: !_id id, buyer_id id, vessel.call_sign text, vessel.name text, lines.species._id id",
            "surveys: !_id id, vessel.call_sign text, vessel.name text, surveyor.number int",
            "buyers: !_id id, name text",
            "species: !_id id, surveyor.number text",
        ]);
        for (at, object) in catalog.objects.iter_mut().enumerate() {
            object.kind = Kind::Collection;
            object.rows = Some(10 * at as u64);
        }
        catalog.objects[0].fields[1].declared = "list of id".into();
        let ties = likely(&catalog, &[]);
        assert_eq!(
            named(&catalog, &ties),
            [
                "landings.buyer_id > buyers._id",
                "landings.lines.species._id > species._id",
                "surveys.vessel.call_sign > landings.vessel.call_sign",
            ]
        );
        assert!(ties[0].finds_one && !ties[2].finds_one);
    }
}
