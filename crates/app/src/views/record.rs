//! The current row as a record: one field per line, long values broken over several.

use crossterm::event::KeyCode;
use idle_tide_core::ValueRef;
use idle_tide_desk::covering::WORD;
use idle_tide_desk::{Tone, sheet};
use idle_tide_draw::marks::{Look, show_text, show_value};
use idle_tide_draw::picture::grouped;
use ratatui::Frame;
use ratatui::layout::Rect;

use super::grid::tone_of;
use super::paint::Painter;
use super::view::{Act, View};
use crate::app::{App, Focus};
use crate::keys::Place;
use crate::theme::Ground;

/// Lines that one value may take.
const LINES: usize = 60;

struct Field {
    name: String,
    words: String,
    lines: Vec<String>,
    look: Look,
}

/// Where the record is read.
#[derive(Debug, Default)]
pub struct Record {
    /// First line shown.
    top: usize,
    /// Whether the current field is brought into sight.
    follows: bool,
}

impl App {
    /// Opens the current row as a record.
    pub fn open_record(&mut self) {
        let rows = self
            .desk
            .entry()
            .and_then(|e| e.sheet())
            .map_or(0, |s| s.shown());
        let documents = self
            .desk
            .entry()
            .and_then(|e| e.sheet())
            .is_some_and(|s| idle_tide_desk::sheet::read(&s.set).holds_documents());
        if rows > 0 && !self.cleared && documents {
            self.open_document(false);
        } else if rows > 0 && !self.cleared {
            self.open(Record::default());
            self.focus = Focus::Read;
        } else {
            self.desk
                .say("There is no row to show as a record.", Tone::Care);
        }
    }
}

impl Record {
    /// Goes to another field, and brings it into sight.
    fn move_field(&mut self, app: &mut App, by: isize) {
        app.move_column(by);
        self.follows = true;
    }
}

impl View for Record {
    fn place(&self, _: &App) -> Place {
        Place::Record
    }

    fn is_about_entry(&self) -> bool {
        true
    }

    fn draw(&mut self, app: &mut App, frame: &mut Frame<'_>, area: Rect) {
        if area.height == 0 {
            return;
        }
        let Some((row, shown, column)) = app
            .grid()
            .map(|grid| (grid.row, grid.column))
            .and_then(|(row, column)| Some((row, app.desk.entry()?.sheet()?.shown(), column)))
        else {
            return;
        };
        let width = usize::from(area.width.saturating_sub(10));
        let fields = fields(app, row, width);
        let names = fields
            .iter()
            .map(|f| f.name.chars().count())
            .max()
            .unwrap_or(0);
        let types = fields
            .iter()
            .map(|f| f.words.chars().count())
            .max()
            .unwrap_or(0)
            .min(26);
        let mut lines: Vec<(Option<usize>, String, Look, usize)> = Vec::new();
        for (at, field) in fields.iter().enumerate() {
            for (n, line) in field.lines.iter().enumerate() {
                lines.push(((n == 0).then_some(at), line.clone(), field.look, at));
            }
        }
        let body = usize::from(area.height.saturating_sub(2));
        let current = lines.iter().position(|(head, ..)| *head == Some(column));
        if let Some(line) = current.filter(|_| std::mem::take(&mut self.follows)) {
            let tall = lines.iter().filter(|(.., of)| *of == column).count();
            self.top = self
                .top
                .min(line)
                .max((line + tall.min(body)).saturating_sub(body));
        }
        let top = self.top.min(lines.len().saturating_sub(body));
        self.top = top;
        let mut p = Painter {
            buffer: frame.buffer_mut(),
            theme: app.theme,
            ground: Ground::Air,
        };
        for (n, (head, text, look, of)) in lines.iter().skip(top).take(body).enumerate() {
            let y = area.y + n as u16;
            p.ground = if of % 2 == 1 {
                Ground::Shade
            } else {
                Ground::Air
            };
            p.fill(Rect::new(area.x + 2, y, area.width.saturating_sub(4), 1));
            let x = area.x + 4;
            if let Some(at) = head {
                let field = &fields[*at];
                let tone = if *at == column {
                    Tone::Active
                } else {
                    Tone::Heading
                };
                p.text(x, y, names as u16, tone, &field.name);
                p.text(
                    x + names as u16 + 2,
                    y,
                    types as u16,
                    Tone::Faint,
                    &field.words,
                );
            }
            let x = x + names as u16 + types as u16 + 5;
            p.text(
                x,
                y,
                area.right().saturating_sub(x + 2),
                tone_of(*look),
                text,
            );
        }
        p.ground = Ground::Air;
        let y = area.bottom() - 1;
        let place = format!("row {} of {}", grouped(row + 1), grouped(shown));
        let rest = lines.len().saturating_sub(top + body);
        let more = if rest > 0 {
            format!("{rest} more lines below")
        } else {
            String::new()
        };
        p.text(area.x + 4, y, 40, Tone::Faint, &more);
        let width = place.chars().count() as u16;
        p.text(
            area.right().saturating_sub(width + 3),
            y,
            width,
            Tone::Faint,
            &place,
        );
    }

    fn key(&mut self, app: &mut App, code: KeyCode, _: bool) -> Act {
        match code {
            KeyCode::Esc | KeyCode::Enter => return Act::Close,
            KeyCode::PageUp => self.top = self.top.saturating_sub(10),
            KeyCode::PageDown => self.top += 10,
            KeyCode::Left => self.move_field(app, -1),
            KeyCode::Right => self.move_field(app, 1),
            KeyCode::Char('c' | 'C') => app.command("/clipboard cell"),
            KeyCode::Up => app.move_row(-1),
            KeyCode::Down => app.move_row(1),
            KeyCode::Home => app.go_to_row(0),
            KeyCode::End => app.go_to_row(u64::MAX),
            _ => {}
        }
        Act::Stay
    }

    fn scroll(&mut self, _: &mut App, by: isize) {
        self.top = self.top.saturating_add_signed(by);
    }
}

fn fields(app: &App, row: u64, width: usize) -> Vec<Field> {
    let Some(rows) = app.desk.entry().and_then(|entry| entry.sheet()) else {
        return Vec::new();
    };
    let set = sheet::read(&rows.set);
    let Some(Ok((batch, within))) = rows.row_number(row).map(|number| set.locate(number)) else {
        return Vec::new();
    };
    let values: Vec<ValueRef<'_>> = batch.row(within).values().collect();
    let names = rows
        .labels
        .iter()
        .map(|label| show_text(label, 30).width)
        .max()
        .unwrap_or(0);
    let room = width.saturating_sub(names + 26).max(20);
    rows.view
        .columns
        .iter()
        .map(|column| {
            let known = &set.columns()[*column];
            let mut words = known.declared.clone().unwrap_or_default();
            if known.key {
                words.push_str(" key");
            } else if known.optional == Some(true) {
                words.push_str(" optional");
            }
            let value = values.get(*column).copied().unwrap_or(ValueRef::Null);
            let (lines, look) = match rows.covers(*column, value) {
                true => (vec![WORD.to_string()], Look::Covered),
                false => broken(value, room),
            };
            Field {
                name: show_text(&rows.labels[*column], 30).text(),
                words: show_text(&words, 26).text(),
                lines,
                look,
            }
        })
        .collect()
}

/// A value over as many lines as it needs, at its own line breaks and at the width.
fn broken(value: ValueRef<'_>, width: usize) -> (Vec<String>, Look) {
    let ValueRef::Text(text) = value else {
        let shown = show_value(value, width * 4);
        let text = shown.text();
        return (chunks(&text, width), shown.look);
    };
    if text.is_empty() {
        return (vec!["''".into()], Look::Empty);
    }
    let mut lines = Vec::new();
    let mut used = 0;
    let count = text.split('\n').count();
    for (at, part) in text.split('\n').enumerate() {
        // The break itself stays visible.
        let end = if at + 1 < count { "¶" } else { "" };
        let room = width * (LINES - lines.len().min(LINES) + 1);
        let shown = show_text(part, room).text() + end;
        lines.extend(chunks(&shown, width));
        used += part.len() + 1;
        if lines.len() >= LINES {
            lines.truncate(LINES);
            let rest = text.len().saturating_sub(used.min(width * LINES));
            lines.push(format!(
                "… about {} more bytes; /export has them all",
                grouped(rest as u64)
            ));
            break;
        }
    }
    (lines, Look::Text)
}

fn chunks(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    let mut used = 0;
    for character in text.chars() {
        let wide = unicode_width::UnicodeWidthChar::width(character).unwrap_or(0);
        if used + wide > width {
            lines.push(String::new());
            used = 0;
        }
        used += wide;
        if let Some(last) = lines.last_mut() {
            last.push(character);
        }
    }
    lines
}
