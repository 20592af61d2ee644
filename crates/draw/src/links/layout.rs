//! Where tables and the lines between them go: tables stand in layers, those that refer to the left of those
//! that are referred to, and every line runs through the room between them, so that none crosses a table.
//! After Sugiyama, Tagawa and Toda (1981): layers, places for long lines within them, an order with few
//! crossings, then coordinates. All lengths are cells of a terminal.

use std::collections::{BTreeMap, BTreeSet, HashMap};

/// A table of the drawing, as lines of text.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Plate {
    /// Its name.
    pub title: String,
    /// A word beside the name, faint.
    pub note: String,
    /// The columns that links touch: name, and a word on it.
    pub lines: Vec<(String, String)>,
}

impl Plate {
    /// Columns that the widest of its lines' names takes.
    pub(super) fn name_width(&self) -> usize {
        let widths = self.lines.iter().map(|(name, _)| columns(name));
        widths.max().unwrap_or(0)
    }
}

/// A link: the plate and the line that refer, the plate and the line referred to.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Wire {
    /// The plate that refers, and its line.
    pub from: (usize, usize),
    /// The plate that is referred to, and its line.
    pub to: (usize, usize),
    /// Whether the schema declares it.
    pub declared: bool,
    /// Whether several rows may refer to the same one.
    pub many: bool,
    /// Whether one row may find several where it refers to.
    pub finds_many: bool,
    /// Whether a row may refer to nothing.
    pub optional: bool,
}

/// A rectangle of cells.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Area {
    /// Its first column.
    pub x: usize,
    /// Its first row.
    pub y: usize,
    /// Columns.
    pub width: usize,
    /// Rows.
    pub height: usize,
}

impl Area {
    /// Whether a cell lies in it.
    pub fn holds(&self, x: usize, y: usize) -> bool {
        (self.x..self.x + self.width).contains(&x) && (self.y..self.y + self.height).contains(&y)
    }
}

/// Where everything is.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Layout {
    /// Columns of the whole.
    pub width: usize,
    /// Rows of the whole.
    pub height: usize,
    /// The plates, in the order given.
    pub plates: Vec<Area>,
    /// The corners of each wire, in the order given, from the line that refers to the one referred to; both
    /// ends lie beside their plates.
    pub wires: Vec<Vec<(usize, usize)>>,
}

/// Rows between plates of a layer.
const GAP: usize = 1;
/// Columns on either side of the lines between two layers: room for the marks at their ends.
const MARGIN: usize = 3;

/// Columns that a text takes.
fn columns(text: &str) -> usize {
    unicode_width::UnicodeWidthStr::width(text)
}

/// Columns and rows of a plate.
pub fn size(plate: &Plate) -> (usize, usize) {
    let title = columns(&plate.title)
        + 2
        + if plate.note.is_empty() {
            0
        } else {
            columns(&plate.note) + 2
        };
    let name = plate.name_width();
    let note = plate
        .lines
        .iter()
        .map(|(_, note)| columns(note))
        .max()
        .unwrap_or(0);
    let line = name + 2 + if note > 0 { note + 2 } else { 0 };
    (title.max(line).clamp(8, 44), 1 + plate.lines.len())
}

/// A place in a layer: a plate, or the room for the long lines to one line of a plate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Spot {
    Plate(usize),
    /// Lines that run on to this plate and line, in this layer.
    Pass {
        plate: usize,
        line: usize,
        layer: usize,
        back: bool,
    },
}

/// A part of a wire between two neighbouring layers, by places in them: the left one, the right one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Leg {
    left: Spot,
    left_line: usize,
    right: Spot,
    right_line: usize,
    /// Whether it is drawn from right to left.
    back: bool,
}

/// One group of plates that hang together, with its layers.
struct Group<'a> {
    plates: &'a [Plate],
    /// The layer of each plate, counted from the left.
    layer: HashMap<usize, usize>,
    layers: Vec<Vec<Spot>>,
    legs: BTreeSet<Leg>,
    /// The legs of each wire, from its left end to its right one, and whether it is drawn from right to left.
    paths: Vec<(usize, Vec<Leg>, bool)>,
    /// Wires from a plate to itself.
    loops: Vec<usize>,
}

/// Lays out plates and wires. `width` is how many columns loose plates may take side by side.
pub fn layout(plates: &[Plate], wires: &[Wire], width: usize) -> Layout {
    let mut done = Layout {
        plates: vec![Area::default(); plates.len()],
        wires: vec![Vec::new(); wires.len()],
        ..Layout::default()
    };
    let mut y = 0;
    let (groups, loose) = groups(plates.len(), wires);
    for members in groups {
        let group = Group::new(plates, wires, &members);
        let height = group.place(wires, y, &mut done);
        y += height + GAP + 1;
    }
    // Plates without links, in rows of their own.
    let (mut x, mut tallest) = (0, 0);
    for at in loose {
        let (w, h) = size(&plates[at]);
        if x > 0 && x + w > width.max(20) {
            y += tallest + GAP;
            (x, tallest) = (0, 0);
        }
        done.plates[at] = Area {
            x,
            y,
            width: w,
            height: h,
        };
        done.width = done.width.max(x + w);
        x += w + 2 * MARGIN;
        tallest = tallest.max(h);
    }
    let bottom = done.plates.iter().map(|p| p.y + p.height);
    let lines = done.wires.iter().flatten().map(|(_, y)| y + 1);
    done.height = bottom.chain(lines).max().unwrap_or(0);
    let right = done.wires.iter().flatten().map(|(x, _)| x + 1);
    done.width = right.chain([done.width]).max().unwrap_or(0);
    done
}

/// The plates that hang together, the largest group first; and those without a link to another.
fn groups(count: usize, wires: &[Wire]) -> (Vec<Vec<usize>>, Vec<usize>) {
    let mut near: Vec<Vec<usize>> = vec![Vec::new(); count];
    for wire in wires {
        near[wire.from.0].push(wire.to.0);
        near[wire.to.0].push(wire.from.0);
    }
    let mut seen = vec![false; count];
    let mut groups = Vec::new();
    let mut loose = Vec::new();
    for start in 0..count {
        if seen[start] {
            continue;
        }
        seen[start] = true;
        let mut members = vec![start];
        let mut next = 0;
        while let Some(at) = members.get(next).copied() {
            next += 1;
            for other in &near[at] {
                if !std::mem::replace(&mut seen[*other], true) {
                    members.push(*other);
                }
            }
        }
        members.sort_unstable();
        if near[start].is_empty() {
            loose.push(start);
        } else {
            groups.push(members);
        }
    }
    groups.sort_by_key(|members| std::cmp::Reverse(members.len()));
    (groups, loose)
}

impl<'a> Group<'a> {
    fn new(plates: &'a [Plate], wires: &[Wire], members: &[usize]) -> Self {
        let inside: BTreeSet<usize> = members.iter().copied().collect();
        let own: Vec<usize> = (0..wires.len())
            .filter(|at| inside.contains(&wires[*at].from.0))
            .collect();
        // Arrows that would close a circle are turned round for the layers.
        let mut out: BTreeMap<usize, Vec<(usize, usize)>> = BTreeMap::new();
        for at in &own {
            let wire = &wires[*at];
            if wire.from.0 != wire.to.0 {
                out.entry(wire.from.0).or_default().push((wire.to.0, *at));
            }
        }
        let turned = circles(members, &out);
        let mut ahead: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
        for at in &own {
            let wire = &wires[*at];
            if wire.from.0 != wire.to.0 {
                let (a, b) = if turned.contains(at) {
                    (wire.to.0, wire.from.0)
                } else {
                    (wire.from.0, wire.to.0)
                };
                ahead.entry(a).or_default().insert(b);
            }
        }
        let mut depth = HashMap::new();
        for member in members {
            depth_of(*member, &ahead, &mut depth);
        }
        let deepest = depth.values().copied().max().unwrap_or(0);
        let layer: HashMap<usize, usize> = depth
            .iter()
            .map(|(at, depth)| (*at, deepest - depth))
            .collect();
        let mut layers: Vec<Vec<Spot>> = vec![Vec::new(); deepest + 1];
        for member in members {
            layers[layer[member]].push(Spot::Plate(*member));
        }
        let mut group = Group {
            plates,
            layer,
            layers,
            legs: BTreeSet::new(),
            paths: Vec::new(),
            loops: Vec::new(),
        };
        for at in own {
            let wire = &wires[at];
            if wire.from.0 == wire.to.0 {
                group.loops.push(at);
                continue;
            }
            let back = group.layer[&wire.from.0] > group.layer[&wire.to.0];
            let (left, right) = if back {
                (wire.to, wire.from)
            } else {
                (wire.from, wire.to)
            };
            let legs = group.path(left, right, back);
            group.paths.push((at, legs, back));
        }
        group.order();
        group
    }

    /// The legs from a plate's line to another's; long lines to the same place share their room.
    fn path(&mut self, left: (usize, usize), right: (usize, usize), back: bool) -> Vec<Leg> {
        let (first, last) = (self.layer[&left.0], self.layer[&right.0]);
        let mut legs = Vec::new();
        let (mut from, mut line) = (Spot::Plate(left.0), left.1);
        for layer in first + 1..last {
            let pass = Spot::Pass {
                plate: right.0,
                line: right.1,
                layer,
                back,
            };
            if !self.layers[layer].contains(&pass) {
                self.layers[layer].push(pass);
            }
            legs.push(Leg {
                left: from,
                left_line: line,
                right: pass,
                right_line: 0,
                back,
            });
            (from, line) = (pass, 0);
        }
        legs.push(Leg {
            left: from,
            left_line: line,
            right: Spot::Plate(right.0),
            right_line: right.1,
            back,
        });
        self.legs.extend(legs.iter().copied());
        legs
    }

    /// Puts the spots of each layer in an order in which few lines cross: each is drawn to the middle of its
    /// neighbours, to and fro, and the best order met is kept.
    fn order(&mut self) {
        let mut best = (self.crossings(), self.layers.clone());
        for round in 0..10 {
            if best.0 == 0 {
                break;
            }
            let forward = round % 2 == 0;
            let count = self.layers.len();
            for step in 1..count {
                let at = if forward { step } else { count - 1 - step };
                let other = if forward { at - 1 } else { at + 1 };
                let places: HashMap<Spot, usize> = self.layers[other]
                    .iter()
                    .enumerate()
                    .map(|(n, s)| (*s, n))
                    .collect();
                let mut middles: HashMap<Spot, (usize, usize)> = HashMap::new();
                for leg in &self.legs {
                    let (near, far) = if forward {
                        (leg.right, leg.left)
                    } else {
                        (leg.left, leg.right)
                    };
                    let line = if forward {
                        leg.left_line
                    } else {
                        leg.right_line
                    };
                    if let Some(place) = places.get(&far) {
                        let middle = middles.entry(near).or_default();
                        *middle = (middle.0 + place * 64 + line.min(63), middle.1 + 1);
                    }
                }
                let mut keyed: Vec<(usize, usize, Spot)> = self.layers[at]
                    .iter()
                    .enumerate()
                    .map(|(n, spot)| match middles.get(spot) {
                        Some((sum, count)) => (sum / count, n, *spot),
                        None => (n * 64, n, *spot),
                    })
                    .collect();
                keyed.sort();
                self.layers[at] = keyed.into_iter().map(|(_, _, spot)| spot).collect();
            }
            let crossings = self.crossings();
            if crossings < best.0 {
                best = (crossings, self.layers.clone());
            }
        }
        self.layers = best.1;
    }

    fn crossings(&self) -> usize {
        let mut total = 0;
        for layer in 1..self.layers.len() {
            let left: HashMap<Spot, usize> = self.layers[layer - 1]
                .iter()
                .enumerate()
                .map(|(n, s)| (*s, n))
                .collect();
            let right: HashMap<Spot, usize> = self.layers[layer]
                .iter()
                .enumerate()
                .map(|(n, s)| (*s, n))
                .collect();
            let mut ends: Vec<(usize, usize)> = self
                .legs
                .iter()
                .filter_map(|leg| {
                    let a = left.get(&leg.left)? * 64 + leg.left_line.min(63);
                    Some((a, right.get(&leg.right)? * 64 + leg.right_line.min(63)))
                })
                .collect();
            ends.sort_unstable();
            for (n, (_, b)) in ends.iter().enumerate() {
                total += ends[..n].iter().filter(|(_, other)| other > b).count();
            }
        }
        total
    }

    fn height(&self, spot: Spot) -> usize {
        match spot {
            Spot::Plate(at) => size(&self.plates[at]).1,
            Spot::Pass { .. } => 1,
        }
    }

    /// The first row of every spot.
    fn rows(&self) -> HashMap<Spot, usize> {
        let mut rows: HashMap<Spot, i64> = HashMap::new();
        for layer in &self.layers {
            let mut y = 0;
            for spot in layer {
                rows.insert(*spot, y);
                y += (self.height(*spot) + GAP) as i64;
            }
        }
        // A spot wants to be where the lines at its sides are straight.
        for round in 0..8 {
            let order: Vec<usize> = if round % 2 == 0 {
                (0..self.layers.len()).rev().collect()
            } else {
                (0..self.layers.len()).collect()
            };
            for at in order {
                let mut wanted: HashMap<Spot, (i64, i64)> = HashMap::new();
                for leg in &self.legs {
                    let left =
                        rows.get(&leg.left).copied().unwrap_or(0) + offset(leg.left, leg.left_line);
                    let right = rows.get(&leg.right).copied().unwrap_or(0)
                        + offset(leg.right, leg.right_line);
                    let a = wanted.entry(leg.left).or_default();
                    *a = (a.0 + right - offset(leg.left, leg.left_line), a.1 + 1);
                    let b = wanted.entry(leg.right).or_default();
                    *b = (b.0 + left - offset(leg.right, leg.right_line), b.1 + 1);
                }
                let layer = &self.layers[at];
                let wishes: Vec<(i64, i64)> = layer
                    .iter()
                    .map(|spot| {
                        let wish = wanted.get(spot).filter(|w| w.1 > 0);
                        let wish = wish.map_or(rows[spot], |(sum, count)| sum / count);
                        (wish, (self.height(*spot) + GAP) as i64)
                    })
                    .collect();
                for (spot, row) in layer.iter().zip(apart(&wishes)) {
                    rows.insert(*spot, row);
                }
            }
        }
        let least = rows.values().copied().min().unwrap_or(0);
        rows.into_iter()
            .map(|(spot, row)| (spot, (row - least) as usize))
            .collect()
    }

    /// Gives plates and wires their places, from row `top` on; answers the rows taken.
    fn place(&self, wires: &[Wire], top: usize, done: &mut Layout) -> usize {
        let rows = self.rows();
        let row = |spot: Spot, line: usize| top + rows[&spot] + offset(spot, line) as usize;
        // Columns of the layers, with the lines between them.
        let mut x = 0;
        let mut lefts = Vec::new();
        let mut widths = Vec::new();
        let mut tracks: HashMap<(usize, Ending), usize> = HashMap::new();
        let mut bottom = 0;
        for (at, layer) in self.layers.iter().enumerate() {
            let plates = layer.iter().filter_map(|spot| match spot {
                Spot::Plate(at) => Some(size(&self.plates[*at]).0),
                Spot::Pass { .. } => None,
            });
            let width = plates.max().unwrap_or(0);
            lefts.push(x);
            widths.push(width);
            for spot in layer {
                bottom = bottom.max(rows[spot] + self.height(*spot));
                if let Spot::Plate(plate) = spot {
                    // All of a layer are as wide as the widest, so that lines begin beside them.
                    let (_, height) = size(&self.plates[*plate]);
                    done.plates[*plate] = Area {
                        x,
                        y: top + rows[spot],
                        width,
                        height,
                    };
                    done.width = done.width.max(x + width);
                }
            }
            let channel = self.channel(at, wires, &row);
            let count = channel.values().map(|track| track + 1).max().unwrap_or(0);
            for (ending, track) in channel {
                tracks.insert((at, ending), x + width + MARGIN + track * 2);
            }
            x += width + 2 * MARGIN + (count * 2).saturating_sub(1);
        }
        let layer_of = |spot: Spot| match spot {
            Spot::Plate(at) => self.layer[&at],
            Spot::Pass { layer, .. } => layer,
        };
        for (wire, legs, back) in &self.paths {
            let mut points: Vec<(usize, usize)> = Vec::new();
            for leg in legs {
                let at = layer_of(leg.left);
                let (a, b) = (row(leg.left, leg.left_line), row(leg.right, leg.right_line));
                points.push((lefts[at] + widths[at], a));
                if a != b {
                    let track = tracks[&(at, Ending::Right(leg.right, leg.right_line, leg.back))];
                    points.push((track, a));
                    points.push((track, b));
                }
                points.push((lefts[at + 1] - 1, b));
            }
            points.dedup();
            if *back {
                points.reverse();
            }
            done.wires[*wire] = points;
        }
        for at in &self.loops {
            let wire = &wires[*at];
            let spot = Spot::Plate(wire.from.0);
            let layer = self.layer[&wire.from.0];
            let right = lefts[layer] + widths[layer];
            let track = tracks[&(layer, Ending::Loop(*at))];
            let (a, b) = (row(spot, wire.from.1), row(spot, wire.to.1));
            done.wires[*at] = vec![(right, a), (track, a), (track, b), (right, b)];
        }
        bottom
    }

    /// The track of each bundle of lines that turns in the room to the right of a layer. Bundles that would lie
    /// over each other get tracks of their own, and a line that comes in on a row stays left of one that goes
    /// out on the same row.
    fn channel(
        &self,
        layer: usize,
        wires: &[Wire],
        row: &dyn Fn(Spot, usize) -> usize,
    ) -> BTreeMap<Ending, usize> {
        #[derive(Default)]
        struct Bundle {
            lefts: Vec<usize>,
            right: Option<usize>,
            span: (usize, usize),
        }
        let mut bundles: BTreeMap<Ending, Bundle> = BTreeMap::new();
        let own: BTreeSet<Spot> = self.layers[layer].iter().copied().collect();
        for leg in self.legs.iter().filter(|leg| own.contains(&leg.left)) {
            let bundle = bundles
                .entry(Ending::Right(leg.right, leg.right_line, leg.back))
                .or_default();
            bundle.lefts.push(row(leg.left, leg.left_line));
            bundle.right = Some(row(leg.right, leg.right_line));
        }
        for at in &self.loops {
            let wire = &wires[*at];
            let spot = Spot::Plate(wire.from.0);
            if own.contains(&spot) {
                let bundle = bundles.entry(Ending::Loop(*at)).or_default();
                bundle.lefts = vec![row(spot, wire.from.1), row(spot, wire.to.1)];
            }
        }
        bundles.retain(|_, bundle| {
            let all = || bundle.lefts.iter().copied().chain(bundle.right);
            bundle.span = (all().min().unwrap_or(0), all().max().unwrap_or(0));
            bundle.span.0 != bundle.span.1 || bundle.right.is_none()
        });
        // Shorter bundles keep nearer to the plates they leave.
        let mut order: Vec<(&Ending, &Bundle)> = bundles.iter().collect();
        order.sort_by_key(|(ending, bundle)| {
            (
                bundle.right.is_some(),
                bundle.span.1 - bundle.span.0,
                **ending,
            )
        });
        let mut tracks: BTreeMap<Ending, usize> = BTreeMap::new();
        let mut taken: Vec<Vec<(usize, usize)>> = Vec::new();
        let mut left = order;
        while !left.is_empty() {
            // One that has to stay right of another waits for it; a circle is broken anywhere.
            let waits = |bundle: &Bundle, other: &Bundle| {
                bundle.right.is_some_and(|row| other.lefts.contains(&row))
            };
            let next = left
                .iter()
                .position(|(ending, bundle)| {
                    left.iter()
                        .all(|(name, other)| name == ending || !waits(bundle, other))
                })
                .unwrap_or(0);
            let (ending, bundle) = left.remove(next);
            let after = tracks
                .iter()
                .filter(|(name, _)| waits(bundle, &bundles[name]))
                .map(|(_, track)| track + 1)
                .max()
                .unwrap_or(0);
            let (from, to) = bundle.span;
            let free = |track: &usize| {
                taken
                    .get(*track)
                    .is_none_or(|list| list.iter().all(|(a, b)| to < *a || *b < from))
            };
            let track = (after..).find(free).unwrap_or(after);
            if taken.len() <= track {
                taken.resize(track + 1, Vec::new());
            }
            taken[track].push((from, to));
            tracks.insert(*ending, track);
        }
        tracks
    }
}

/// What a bundle of lines ends at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
enum Ending {
    Right(Spot, usize, bool),
    Loop(usize),
}

/// The row of a line within its spot: below the title.
fn offset(spot: Spot, line: usize) -> i64 {
    match spot {
        Spot::Plate(_) => 1 + line as i64,
        Spot::Pass { .. } => 0,
    }
}

/// The wires that have to be turned round so that no arrows go in a circle.
fn circles(members: &[usize], out: &BTreeMap<usize, Vec<(usize, usize)>>) -> BTreeSet<usize> {
    let mut turned = BTreeSet::new();
    let mut state: HashMap<usize, bool> = HashMap::new();
    for start in members {
        if state.contains_key(start) {
            continue;
        }
        // Depth first, without recursion; `true` while on the way.
        let mut stack = vec![(*start, 0_usize)];
        state.insert(*start, true);
        while let Some((at, next)) = stack.pop() {
            match out.get(&at).and_then(|list| list.get(next)) {
                None => {
                    state.insert(at, false);
                }
                Some((other, wire)) => {
                    stack.push((at, next + 1));
                    match state.get(other) {
                        Some(true) => {
                            turned.insert(*wire);
                        }
                        Some(false) => {}
                        None => {
                            state.insert(*other, true);
                            stack.push((*other, 0));
                        }
                    }
                }
            }
        }
    }
    turned
}

/// How many steps it is at most from a plate to the last one it leads to.
fn depth_of(
    start: usize,
    ahead: &BTreeMap<usize, BTreeSet<usize>>,
    depth: &mut HashMap<usize, usize>,
) {
    let mut stack = vec![(start, false)];
    while let Some((at, ready)) = stack.pop() {
        if depth.contains_key(&at) {
            continue;
        }
        let next = ahead.get(&at);
        if ready {
            let deepest = next
                .into_iter()
                .flatten()
                .map(|other| depth.get(other).map_or(0, |d| d + 1))
                .max();
            depth.insert(at, deepest.unwrap_or(0));
        } else {
            stack.push((at, true));
            stack.extend(
                next.into_iter()
                    .flatten()
                    .filter(|o| !depth.contains_key(o))
                    .map(|o| (*o, false)),
            );
        }
    }
}

/// Rows nearest to what is wished for, in the same order, each as far from the next as it is high. (Isotonic
/// regression by pooling; Barlow and others, 1972.)
fn apart(wishes: &[(i64, i64)]) -> Vec<i64> {
    let mut before = 0;
    let mut offsets = Vec::new();
    // Pools of neighbours that touch: sum of wishes, count.
    let mut pools: Vec<(i64, i64)> = Vec::new();
    for (wish, height) in wishes {
        offsets.push(before);
        pools.push((wish - before, 1));
        before += height;
        while let [.., a, b] = pools[..]
            && a.0 * b.1 > b.0 * a.1
        {
            pools.pop();
            pools.pop();
            pools.push((a.0 + b.0, a.1 + b.1));
        }
    }
    let flat = pools
        .iter()
        .flat_map(|(sum, count)| std::iter::repeat_n(sum.div_euclid(*count), *count as usize));
    flat.zip(offsets)
        .map(|(row, offset)| row + offset)
        .collect()
}
