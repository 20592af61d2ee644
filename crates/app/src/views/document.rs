//! The current document, as an outline that opens and closes or as text.

use crossterm::event::KeyCode;
use idle_tide_desk::clipboard::COVERED;
use idle_tide_desk::covering::WORD;
use idle_tide_desk::outline::{held_at, outline, text};
use idle_tide_desk::{Tone, sheet};
use idle_tide_draw::marks::show_text;
use idle_tide_draw::picture::grouped;
use ratatui::Frame;
use ratatui::layout::Rect;

use super::paint::Painter;
use super::view::{Act, View};
use crate::app::{App, Focus};
use crate::keys::Place;
use crate::theme::Ground;

/// The bytes of the current document.
fn current(app: &mut App) -> Option<(u64, u64, Vec<u8>)> {
    let row = app.grid()?.row;
    let rows = app.desk.entry()?.sheet()?;
    let set = sheet::read(&rows.set);
    let number = rows.row_number(row)?;
    let (batch, within) = set.locate(number).ok()?;
    let document = batch.row(within).document()?;
    let document = match rows.revealed {
        true => document.to_vec(),
        false => rows.covering.masked(document),
    };
    Some((row, rows.shown(), document))
}

/// Where a document is being read.
#[derive(Debug, Clone, Copy, Default)]
pub struct Paper {
    /// Whether it is shown as text.
    text: bool,
    /// First line shown.
    top: usize,
    /// The current line.
    at: usize,
}

impl App {
    /// Opens the current document, as text or as an outline.
    pub fn open_document(&mut self, text: bool) {
        self.open(Paper {
            text,
            ..Paper::default()
        });
        self.focus = Focus::Read;
    }
}

impl Paper {
    /// Copies what the current line holds; of a text the whole document.
    fn copy(self, app: &mut App) {
        let Some((_, _, document)) = current(app) else {
            return;
        };
        app.copied = match self.text {
            true => Some((text(&document).join("\n"), "the document".into())),
            false => {
                let lines = outline(&document, &app.closed);
                let line = lines.get(self.at);
                line.and_then(|line| Some((held_at(&document, &line.place)?, line.name.clone())))
            }
        };
        if app.copied.as_ref().is_some_and(|(text, _)| text == WORD) {
            app.copied = None;
            app.desk.say(COVERED, Tone::Care);
        }
    }
}

impl View for Paper {
    fn place(&self, _: &App) -> Place {
        Place::Document
    }

    fn is_about_entry(&self) -> bool {
        true
    }

    fn draw(&mut self, app: &mut App, frame: &mut Frame<'_>, area: Rect) {
        let mut paper = *self;
        let Some((row, shown, document)) = current(app) else {
            return;
        };
        if area.height < 3 {
            return;
        }
        let body = usize::from(area.height - 2);
        let lines: Vec<(usize, String, &'static str, String, Option<bool>)> = if paper.text {
            text(&document)
                .into_iter()
                .map(|line| (0, String::new(), "", line, None))
                .collect()
        } else {
            outline(&document, &app.closed)
                .into_iter()
                .map(|l| (l.depth, l.name, l.kind, l.value, l.opens))
                .collect()
        };
        paper.at = paper.at.min(lines.len().saturating_sub(1));
        paper.top = paper.top.min(paper.at);
        if paper.at >= paper.top + body {
            paper.top = paper.at + 1 - body;
        }
        *self = paper;
        let names = lines
            .iter()
            .map(|(depth, name, ..)| 2 * depth + 2 + show_text(name, 40).width)
            .max()
            .unwrap_or(0)
            .min(usize::from(area.width) / 2);
        let mut p = Painter {
            buffer: frame.buffer_mut(),
            theme: app.theme,
            ground: Ground::Air,
        };
        for (n, (depth, name, kind, value, opens)) in
            lines.iter().enumerate().skip(paper.top).take(body)
        {
            let y = area.y + (n - paper.top) as u16;
            let here = n == paper.at;
            p.ground = match (here, n % 2) {
                (true, _) => Ground::Cell,
                (_, 1) => Ground::Shade,
                _ => Ground::Air,
            };
            p.fill(Rect::new(area.x + 2, y, area.width.saturating_sub(4), 1));
            let x = area.x + 4;
            if paper.text {
                p.text(
                    x,
                    y,
                    area.width.saturating_sub(8),
                    Tone::Plain,
                    &show_text(value, usize::from(area.width) - 8).text(),
                );
                continue;
            }
            let indent = (2 * depth) as u16;
            let sign = match opens {
                Some(true) => "▾",
                Some(false) => "▸",
                None => " ",
            };
            p.text(x + indent, y, 1, Tone::Active, sign);
            let room = (names as u16).saturating_sub(indent + 2);
            p.text(
                x + indent + 2,
                y,
                room,
                if here { Tone::Active } else { Tone::Heading },
                &show_text(name, usize::from(room)).text(),
            );
            let x = x + names as u16 + 2;
            p.text(x, y, 10, Tone::Faint, kind);
            let tone = match *kind {
                "int" | "long" | "double" | "decimal" => Tone::Number,
                "object" | "list" | "null" => Tone::Faint,
                _ => Tone::Plain,
            };
            let room = area.right().saturating_sub(x + 15);
            p.text(
                x + 11,
                y,
                room,
                tone,
                &show_text(value, usize::from(room)).text(),
            );
        }
        p.ground = Ground::Air;
        let y = area.bottom() - 1;
        let rest = lines.len().saturating_sub(paper.top + body);
        if rest > 0 {
            p.text(
                area.x + 4,
                y,
                40,
                Tone::Faint,
                &format!("{rest} more lines below"),
            );
        }
        let place = format!("document {} of {}", grouped(row + 1), grouped(shown));
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
        let mut paper = *self;
        match code {
            KeyCode::Esc | KeyCode::Enter => return Act::Close,
            KeyCode::Up => paper.at = paper.at.saturating_sub(1),
            KeyCode::Down => paper.at += 1,
            KeyCode::Home => paper.at = 0,
            KeyCode::End => paper.at = usize::MAX >> 1,
            KeyCode::PageUp => app.move_row(-1),
            KeyCode::PageDown => app.move_row(1),
            KeyCode::Char('t' | 'T') => {
                paper = Paper {
                    text: !paper.text,
                    ..Paper::default()
                }
            }
            KeyCode::Char('c' | 'C') => paper.copy(app),
            KeyCode::Left | KeyCode::Right | KeyCode::Char(' ') if !paper.text => {
                if let Some((_, _, document)) = current(app) {
                    let lines = outline(&document, &app.closed);
                    if let Some(line) = lines.get(paper.at) {
                        match (line.opens, code) {
                            (Some(true), KeyCode::Left | KeyCode::Char(' ')) => {
                                app.closed.insert(line.place.clone());
                            }
                            (Some(false), KeyCode::Right | KeyCode::Char(' ')) => {
                                app.closed.remove(&line.place);
                            }
                            (Some(true), KeyCode::Right) => paper.at += 1,
                            // From within one goes to what holds it.
                            (_, KeyCode::Left) if line.depth > 0 => {
                                let above =
                                    lines[..paper.at].iter().rposition(|l| l.depth < line.depth);
                                paper.at = above.unwrap_or(0);
                            }
                            _ => {}
                        }
                    }
                }
            }
            _ => {}
        }
        *self = paper;
        Act::Stay
    }

    fn scroll(&mut self, _: &mut App, by: isize) {
        self.at = self.at.saturating_add_signed(by);
    }
}
