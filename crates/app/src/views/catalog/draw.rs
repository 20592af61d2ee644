//! The catalog in columns that open to the right: databases, objects by kind, what they are made of, and the
//! marked one in detail.

use idle_tide_core::{Object, links};
use idle_tide_desk::about::{default_words, path_words, rows_words};
use idle_tide_desk::page::Line as TextLine;
use idle_tide_desk::{Page, Tone};
use idle_tide_draw::picture::{bytes, grouped};
use idle_tide_lang::dialect::Family;
use idle_tide_lang::holds::holds;
use ratatui::Frame;
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::super::paint::Painter;
use super::state::{CatalogView, Entry, Line, Narrowed, Part, Shelf};
use crate::app::App;
use crate::guide::wrap;
use crate::theme::Ground;

/// How the columns share out the width.
const SHARES: [u16; 4] = [20, 28, 32, 28];

/// Draws the view.
pub(super) fn draw(app: &mut App, frame: &mut Frame<'_>, area: Rect) {
    if area.height < 4 || area.width < 20 {
        return;
    }
    // At small widths the last two columns stay: the one that is moved in, and what it opens.
    let width = area.width;
    let (first, last) = match width {
        120.. => (0, 3),
        90.. => (
            usize::from(app.catalog.focus > 0),
            3.min(app.catalog.focus + 2),
        ),
        _ => (app.catalog.focus, app.catalog.focus + 1),
    };
    let total: u16 = (first..=last).map(|at| SHARES[at]).sum();
    let room = width.saturating_sub(4);
    let detail = detail(app, usize::from(room * SHARES[3] / total));
    let choices: Vec<(&str, String)> = match app.catalog.actions {
        Some(_) => app.catalog_choices(),
        None => Vec::new(),
    };
    let view = &app.catalog;
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    heading(&mut p, area, view);
    let body = Rect::new(area.x, area.y + 2, width, area.height - 2);
    let mut x = area.x + 2;
    let mut spots = Vec::new();
    for (at, share) in SHARES.iter().enumerate().take(last + 1).skip(first) {
        let taken = room * share / total;
        let column = Rect::new(x, body.y, taken.saturating_sub(2), body.height);
        x += taken;
        let focused = view.focus == at;
        match at {
            0 => column_of(
                &mut p,
                column,
                &view.shelves,
                focused,
                0,
                &mut spots,
                &|s| view.shelf_words(s),
            ),
            1 => match view.shelves.marked() {
                Some(Shelf::Other(name)) => {
                    let words = format!("Enter goes to {name}, and shows what is there.");
                    for (n, line) in wrap(&words, column.width.into()).iter().enumerate() {
                        p.text(
                            column.x + 2,
                            column.y + 2 + n as u16,
                            column.width,
                            Tone::Faint,
                            line,
                        );
                    }
                }
                _ => {
                    column_of(
                        &mut p,
                        column,
                        &view.objects,
                        focused,
                        1,
                        &mut spots,
                        &|e| view.entry_words(*e),
                    );
                    let empty = view.objects.items().next().is_none();
                    if empty {
                        let words = if view.objects.typed.is_empty() {
                            "Nothing is here yet."
                        } else {
                            "Nothing fits."
                        };
                        p.text(column.x + 2, column.y + 2, column.width, Tone::Faint, words);
                    }
                }
            },
            2 => column_of(
                &mut p,
                column,
                &view.parts,
                focused,
                2,
                &mut spots,
                &|part| view.part_words(*part),
            ),
            _ => {
                for (n, line) in detail.lines.iter().take(column.height.into()).enumerate() {
                    p.line(column.x + 2, column.y + n as u16, column.width + 1, 0, line);
                }
            }
        }
    }
    if let Some(marked) = view.actions {
        actions(&mut p, area, &choices, marked);
    }
    app.spots.catalog = spots;
}

/// Where one is, and what is not read yet.
fn heading(p: &mut Painter<'_>, area: Rect, view: &CatalogView) {
    let mut x = area.x + 4;
    x += p.text(x, area.y, 20, Tone::Active, "Catalog") + 3;
    let mut path = Vec::new();
    if let Some(shelf) = view.shelves.marked() {
        path.push(view.shelf_words(shelf).0);
    }
    if let Some(entry) = view.objects.marked().filter(|_| view.focus > 0) {
        path.push(view.entry_words(*entry).0);
    }
    if let Some(part) = view.parts.marked().filter(|_| view.focus > 1) {
        path.push(view.part_words(*part).0);
    }
    let last = path.len().saturating_sub(1);
    for (at, name) in path.iter().enumerate() {
        let room = area.right().saturating_sub(x + 2);
        let tone = if at == last {
            Tone::Heading
        } else {
            Tone::Plain
        };
        x += p.text(x, area.y, room, tone, name);
        if at < last {
            x += p.text(x, area.y, 4, Tone::Faint, " › ");
        }
    }
    let mut notes = Vec::new();
    if view.catalog().names_only {
        notes.push("columns and keys are still being read".to_string());
    }
    if view.folded > 0 {
        notes.push(format!("{} helpers folded away", view.folded));
    }
    notes.extend(view.catalog().unseen.iter().cloned());
    let words = notes.join(" · ");
    let at = area.right().saturating_sub(words.width() as u16 + 3);
    if !words.is_empty() && at > x + 2 {
        p.text(at, area.y, area.width, Tone::Faint, &words);
    }
}

type Spots = Vec<(usize, Rect, usize)>;

fn column_of<T: Clone>(
    p: &mut Painter<'_>,
    area: Rect,
    column: &Narrowed<T>,
    focused: bool,
    number: usize,
    spots: &mut Spots,
    words: &dyn Fn(&T) -> (String, String),
) {
    let height = usize::from(area.height);
    if focused && !column.typed.is_empty() {
        let x = area.x + 2;
        let taken = p.text(x, area.y - 1, area.width, Tone::Active, &column.typed);
        p.text(x + taken, area.y - 1, 1, Tone::Active, "▏");
    } else if !column.typed.is_empty() {
        p.text(
            area.x + 2,
            area.y - 1,
            area.width,
            Tone::Faint,
            &column.typed,
        );
    }
    // Where the marked line stands among all lines.
    let mut item = 0;
    let mut marked_line = 0;
    for (n, line) in column.lines.iter().enumerate() {
        if matches!(line, Line::Item(_)) {
            if item == column.at {
                marked_line = n;
                break;
            }
            item += 1;
        }
    }
    let top = (marked_line + 2).saturating_sub(height);
    let mut item = column.lines[..top.min(column.lines.len())]
        .iter()
        .filter(|line| matches!(line, Line::Item(_)))
        .count();
    for (n, line) in column.lines.iter().enumerate().skip(top).take(height) {
        let y = area.y + (n - top) as u16;
        match line {
            Line::Heading(title) => {
                p.ground = Ground::Air;
                p.text(area.x + 2, y, area.width, Tone::Heading, title);
            }
            Line::Item(thing) => {
                let marked = item == column.at;
                p.ground = match (marked, focused) {
                    (true, true) => Ground::Selected,
                    (true, false) => Ground::Shade,
                    _ => Ground::Air,
                };
                if marked {
                    p.fill(Rect::new(area.x, y, area.width, 1));
                    let tone = if focused { Tone::Active } else { Tone::Faint };
                    p.text(area.x, y, 1, tone, "▌");
                }
                let (name, word) = words(thing);
                let room = area.width.saturating_sub(4);
                let wide = name.width() as u16;
                // The word at the right gives way to the name.
                let left = room.saturating_sub(wide.min(room) + 2);
                p.text(area.x + 3, y, room, Tone::Plain, &name);
                let shown = (word.width() as u16).min(left);
                if shown > 2 || word.width() as u16 == shown {
                    p.text(
                        area.right().saturating_sub(shown + 1),
                        y,
                        shown,
                        Tone::Faint,
                        &word,
                    );
                }
                spots.push((number, Rect::new(area.x, y, area.width, 1), item));
                item += 1;
            }
        }
    }
    p.ground = Ground::Air;
    let rest = column.lines.len().saturating_sub(top + height);
    if rest > 0 && area.height > 2 {
        let words = format!(" {rest} more ");
        let at = area.right().saturating_sub(words.width() as u16);
        p.text(at, area.bottom() - 1, 20, Tone::Faint, &words);
    }
}

/// The list of actions over the marked object.
fn actions(p: &mut Painter<'_>, area: Rect, actions: &[(&str, String)], marked: usize) {
    let x = area.x + area.width / 3;
    let y = area.y + area.height.saturating_sub(actions.len() as u16 + 2) / 2;
    for (n, (name, command)) in actions.iter().enumerate() {
        p.ground = if n == marked {
            Ground::Cell
        } else {
            Ground::Shade
        };
        p.fill(Rect::new(x, y + n as u16, 34, 1));
        if n == marked {
            p.text(x, y + n as u16, 1, Tone::Active, "▌");
        }
        p.text(x + 2, y + n as u16, 16, Tone::Plain, name);
        p.text(x + 18, y + n as u16, 15, Tone::Faint, command);
    }
    p.ground = Ground::Air;
}

/// How many rows an object has, in figures.
fn count_of(object: &Object, thing: &str) -> String {
    let words = rows_words(object).unwrap_or_default();
    words.trim_end_matches(&format!(" {thing}s")).to_string()
}

/// What is marked, in detail, as it is written.
struct Detail<'a> {
    app: &'a App,
    page: Page,
    width: usize,
}

/// What is marked, in detail.
fn detail(app: &App, width: usize) -> Page {
    let view = &app.catalog;
    let mut detail = Detail {
        app,
        page: Page::new(),
        width: width.clamp(20, 60) - 4,
    };
    if view.focus == 0 {
        detail.shelf();
        return detail.page;
    }
    let Some(object) = view.object() else {
        if let Some(Entry::Role(at)) = view.objects.marked() {
            detail
                .page
                .say(Tone::Heading, view.catalog().roles[*at].clone());
            detail.page.gap();
            detail
                .page
                .say(Tone::Faint, "/access shows what it may do.");
        }
        return detail.page;
    };
    match view.parts.marked().filter(|_| view.focus > 1).copied() {
        Some(Part::Field(n)) => detail.field(object, n),
        Some(Part::Index(n)) => detail.index(object, n),
        Some(Part::Referring(n)) => detail.referring(n),
        Some(Part::Check(n)) => {
            detail.page.say(Tone::Heading, "check");
            detail.page.gap();
            detail.say(&object.checks[n].condition);
        }
        Some(Part::Fact(n)) => {
            detail.page.say(Tone::Heading, object.facts[n].0.clone());
            detail.page.gap();
            detail.say(&object.facts[n].1);
        }
        Some(Part::Trigger(n)) => detail.trigger(n),
        None => detail.object(object),
    }
    detail.page
}

impl Detail<'_> {
    /// A name and its value, if there is one.
    fn pair(&mut self, name: &str, value: String) {
        if value.is_empty() {
            return;
        }
        let lines = wrap(&value, self.width.saturating_sub(13).max(10));
        for (n, line) in lines.into_iter().enumerate() {
            let label = if n == 0 { name } else { "" };
            self.page.line(
                TextLine::new()
                    .column(Tone::Faint, label, 13)
                    .and(Tone::Plain, line),
            );
        }
    }

    fn say(&mut self, text: &str) {
        for line in wrap(text, self.width) {
            self.page.say(Tone::Plain, line);
        }
    }

    fn shelf(&mut self) {
        let view = &self.app.catalog;
        let Some(shelf) = view.shelves.marked() else {
            return;
        };
        self.page.say(Tone::Heading, view.shelf_words(shelf).0);
        self.page.gap();
        let database = view
            .catalog()
            .databases
            .iter()
            .find(|d| matches!(shelf, Shelf::Here(n) | Shelf::Other(n) if *n == d.name));
        if let Some(database) = database {
            self.say(&database.detail);
        }
    }

    fn field(&mut self, object: &Object, n: usize) {
        let view = &self.app.catalog;
        let family = self.app.desk.dialect().family;
        let field = &object.fields[n];
        let flags = match (field.key, field.optional) {
            (Some(_), _) => ", key",
            (None, true) => ", optional",
            _ => "",
        };
        self.page
            .line(TextLine::new().and(Tone::Heading, field.name.clone()).and(
                Tone::Faint,
                format!("  {}{flags}", field.declared.to_lowercase()),
            ));
        self.page.gap();
        if let Some(comment) = &field.comment {
            self.say(comment);
            self.page.gap();
        }
        if let Some((there, examples)) = path_words(object, &field.name) {
            self.pair("is there", there);
            if field.choices.is_empty() {
                self.pair("as", examples);
            }
        } else {
            self.pair("holds", holds(&field.declared, family).unwrap_or_default());
        }
        self.pair("one of", field.choices.join(", "));
        self.pair("when empty", default_words(field));
        self.pair("collation", field.collation.clone().unwrap_or_default());
        let place = view.catalog().place_of(object);
        for tie in place
            .into_iter()
            .flat_map(|at| links::of_column(view.ties(), at, &field.name))
        {
            let there = links::name_of(view.catalog(), tie.to);
            let how = if tie.declared { "declared" } else { "guessed" };
            self.pair(
                "links to",
                format!("{there}.{}, {how}", tie.their_columns.join(", ")),
            );
        }
        if let Some(link) = object.link_of(&field.name) {
            self.pair("on delete", link.on_delete.clone());
        }
        for index in object
            .indexes
            .iter()
            .filter(|i| i.columns.contains(&field.name))
        {
            self.pair("index", index.name.clone());
        }
        figures(
            self.app,
            &mut self.page,
            &view.catalog().shortest_name(object),
            &field.name,
            self.width,
        );
    }

    fn index(&mut self, object: &Object, n: usize) {
        let view = &self.app.catalog;
        let family = self.app.desk.dialect().family;
        if let Some((columns, words)) = view.index_detail(n) {
            self.page.say(Tone::Heading, object.indexes[n].name.clone());
            self.page.gap();
            let on = if family == Family::Documents {
                "paths"
            } else {
                "columns"
            };
            self.pair(on, columns);
            self.pair("is", words);
        }
    }

    fn referring(&mut self, n: usize) {
        let view = &self.app.catalog;
        let thing = self.app.desk.dialect().row();
        let tie = &view.ties()[n];
        let from = &view.catalog().objects[tie.from];
        self.page
            .say(Tone::Heading, links::name_of(view.catalog(), tie.from));
        self.page.gap();
        if let Some(comment) = &from.comment {
            self.say(comment);
            self.page.gap();
        }
        self.pair("by", tie.columns.join(", "));
        self.pair("to", tie.their_columns.join(", "));
        self.pair(
            "how many",
            if tie.one_to_one {
                format!("at most one {thing} for each here")
            } else {
                format!("several {thing}s may refer to one here")
            },
        );
        self.pair(&format!("{thing}s"), count_of(from, thing));
    }

    fn trigger(&mut self, n: usize) {
        let view = &self.app.catalog;
        let trigger = &view.catalog().objects[n];
        self.page.say(Tone::Heading, trigger.name.clone());
        self.page.gap();
        for (name, value) in &trigger.facts {
            self.pair(name, value.clone());
        }
        if let Some(definition) = &trigger.definition {
            self.say(definition);
        }
    }

    fn object(&mut self, object: &Object) {
        let view = &self.app.catalog;
        let family = self.app.desk.dialect().family;
        let thing = self.app.desk.dialect().row();
        self.page.line(
            TextLine::new()
                .and(Tone::Heading, view.catalog().shortest_name(object))
                .and(Tone::Faint, format!("  {}", object.kind_words())),
        );
        self.page.gap();
        if let Some(comment) = &object.comment {
            self.say(comment);
            self.page.gap();
        }
        if let Some(broken) = &object.broken {
            for line in wrap(broken, self.width) {
                self.page.say(Tone::Danger, line);
            }
        }
        self.pair(&format!("{thing}s"), count_of(object, thing));
        self.pair(
            "size",
            object.bytes.filter(|b| *b > 0).map_or(String::new(), bytes),
        );
        self.pair("owner", object.owner.clone().unwrap_or_default());
        self.pair("on", object.table.clone().unwrap_or_default());
        if object.has_rows() {
            let of = if family == Family::Documents {
                "paths"
            } else {
                "columns"
            };
            self.pair(of, object.fields.len().to_string());
        }
        if let Some(by) = &object.partition_by {
            self.pair("shared by", by.clone());
        }
        for (name, value) in &object.facts {
            self.pair(name, value.clone());
        }
        if !object.has_rows()
            && let Some(definition) = &object.definition
        {
            self.page.gap();
            for line in wrap(definition, self.width).into_iter().take(20) {
                self.page.say(Tone::Plain, line);
            }
        }
        if object.has_rows() {
            self.page.gap();
            let words = match family {
                Family::Documents => "Space: sample, shape, links …",
                _ => "Space: sample, figures, links …",
            };
            self.page.say(Tone::Faint, words);
        }
    }
}

/// What was counted of a column, if it was.
fn figures(app: &App, page: &mut Page, table: &str, column: &str, width: usize) {
    let Some(all) = app.desk.figures_of(table) else {
        page.gap();
        page.say(Tone::Faint, "Space, then figures, counts its values.");
        return;
    };
    let Some((_, figures)) = all.iter().find(|(of, _)| of.name == column) else {
        return;
    };
    page.gap();
    let mut pair = |name: &str, value: String| {
        page.line(
            TextLine::new()
                .column(Tone::Faint, name, 13)
                .and(Tone::Number, value),
        );
    };
    let (different, exact) = figures.different();
    pair("rows", grouped(figures.rows));
    pair("nulls", grouped(figures.nulls));
    pair(
        "different",
        format!("{}{}", if exact { "" } else { "over " }, grouped(different)),
    );
    if app.desk.covering().covers(column) {
        return;
    }
    if let (Some(least), Some(most)) = (&figures.least, &figures.most) {
        pair("least", least.as_ref().plain());
        pair("most", most.as_ref().plain());
    }
    let common: Vec<_> = figures
        .commonest(5)
        .into_iter()
        .filter(|(_, count)| *count > 1)
        .collect();
    if common.is_empty() {
        return;
    }
    page.gap();
    page.say(Tone::Faint, "commonest");
    let most = common.first().map_or(1, |(_, count)| *count).max(1);
    let names = common
        .iter()
        .map(|(v, _)| v.as_ref().plain().chars().count().min(14))
        .max()
        .unwrap_or(0);
    let room = width.saturating_sub(names + 12).max(6);
    for (value, count) in common {
        let name: String = value.as_ref().plain().chars().take(14).collect();
        let bar = "▬".repeat(((count * room as u64).div_ceil(most)) as usize);
        page.line(
            TextLine::new()
                .column(Tone::Plain, format!("{name:>names$}"), names + 2)
                .column(Tone::Picture, bar, room + 2)
                .and(Tone::Number, grouped(count)),
        );
    }
}
