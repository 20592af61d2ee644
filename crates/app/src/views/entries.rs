//! The entries of this session, newest first, then statements of earlier ones; both can be searched.

use crossterm::event::KeyCode;
use idle_tide_desk::{Line, State, Tone};
use ratatui::Frame;
use ratatui::layout::{Position, Rect};

use super::paint::{Painter, list_line, title};
use super::view::{Act, View};
use crate::app::{App, Focus, one_line};
use crate::keys::Place;
use crate::theme::Ground;

/// The list, what is searched in it and what is marked.
#[derive(Debug, Default)]
pub struct Entries {
    /// What is searched.
    search: String,
    /// Place in the list.
    at: usize,
    /// Whether Enter brings the statement into the composer in any case.
    recall: bool,
}

/// A line of the entries view.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// An entry of this session, by place.
    Entry(usize),
    /// A statement of an earlier session, by place in the history.
    Earlier(usize),
}

impl App {
    /// Opens the entries; with `recall` Enter brings the statement into the composer in any case.
    pub fn open_entries(&mut self, recall: bool) {
        self.open(Entries {
            recall,
            ..Entries::default()
        });
    }

    /// Statements of this and earlier sessions that fit a search: place of the entry, or of the history
    /// item; newest first.
    pub fn found_entries(&self, search: &str) -> Vec<Found> {
        let words: Vec<String> = search.split_whitespace().map(str::to_lowercase).collect();
        let fits = |text: &str| {
            let text = text.to_lowercase();
            words.iter().all(|word| text.contains(word.as_str()))
        };
        let entries = self.desk.entries().iter().enumerate().rev();
        let mut list: Vec<Found> = entries
            .filter(|(_, entry)| {
                fits(&entry.text) && entry.text != "arrival"
                    || search.is_empty() && entry.text == "arrival"
            })
            .map(|(at, _)| Found::Entry(at))
            .collect();
        let mut seen = std::collections::HashSet::new();
        let earlier = self.desk.history().earlier();
        for (at, item) in earlier.iter().enumerate().rev() {
            if fits(&item.text) && seen.insert(item.text.as_str()) {
                list.push(Found::Earlier(at));
            }
        }
        list
    }
}

impl View for Entries {
    fn place(&self, _: &App) -> Place {
        Place::Entries
    }

    fn goes_with_entry(&self) -> bool {
        true
    }

    fn draw(&mut self, app: &mut App, frame: &mut Frame<'_>, area: Rect) {
        if area.height < 3 {
            return;
        }
        let (search, at, recall) = (self.search.as_str(), self.at, self.recall);
        let list = app.found_entries(search);
        let heading = if recall {
            "Search statements"
        } else {
            "Entries"
        };
        let mut p = Painter {
            buffer: frame.buffer_mut(),
            theme: app.theme,
            ground: Ground::Air,
        };
        title(&mut p, area, heading, search, "type to search");
        // The chosen statement in full below the list, where there is room.
        let preview = if area.height >= 22 { 9 } else { 0 };
        let height = usize::from(area.height.saturating_sub(2 + preview));
        // Headings take lines too.
        let mut lines: Vec<(Option<usize>, String)> = Vec::new();
        let mut earlier = false;
        for (place, found) in list.iter().enumerate() {
            if matches!(found, Found::Earlier(_)) && !earlier {
                earlier = true;
                if place > 0 {
                    lines.push((None, String::new()));
                }
                lines.push((None, "Earlier sessions".into()));
            }
            lines.push((Some(place), String::new()));
        }
        if list.is_empty() {
            p.text(
                area.x + 4,
                area.y + 2,
                area.width.saturating_sub(6),
                Tone::Faint,
                "Nothing fits the search.",
            );
            return;
        }
        let chosen = lines
            .iter()
            .position(|(place, _)| *place == Some(at))
            .unwrap_or(0);
        let top = chosen.saturating_sub(height.saturating_sub(2));
        let mut spots = Vec::new();
        for (n, (place, words)) in lines.iter().skip(top).take(height).enumerate() {
            let y = area.y + 2 + n as u16;
            let Some(place) = place else {
                p.text(area.x + 4, y, area.width, Tone::Heading, words);
                continue;
            };
            let marked = *place == at;
            list_line(&mut p, area, y, marked);
            line(app, &mut p, Rect { y, ..area }, list[*place]);
            spots.push((y, *place));
            p.ground = Ground::Air;
        }
        if let Some(found) = list.get(at).filter(|_| preview > 0) {
            let y = area.bottom().saturating_sub(preview);
            let below = Rect::new(area.x, y, area.width, preview);
            in_full(app, &mut p, below, *found);
        }
        app.spots.list = spots;
    }

    fn key(&mut self, app: &mut App, code: KeyCode, control: bool) -> Act {
        match code {
            KeyCode::Esc => return Act::Close,
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            KeyCode::Down => self.at += 1,
            KeyCode::PageUp => self.at = self.at.saturating_sub(12),
            KeyCode::PageDown => self.at += 12,
            KeyCode::Backspace => {
                self.search.pop();
                self.at = 0;
            }
            KeyCode::Char('r') if control => self.at += 1,
            KeyCode::Char(character) if !control => {
                self.search.push(character);
                self.at = 0;
            }
            KeyCode::Enter | KeyCode::Tab | KeyCode::F(5) => {
                let list = app.found_entries(&self.search);
                let Some(found) = list.get(self.at.min(list.len().saturating_sub(1))).copied()
                else {
                    return Act::Stay;
                };
                app.close_views();
                choose(app, found, code, self.recall);
                return Act::Close;
            }
            _ => {}
        }
        let count = app.found_entries(&self.search).len();
        self.at = self.at.min(count.saturating_sub(1));
        Act::Stay
    }

    fn scroll(&mut self, app: &mut App, by: isize) {
        let code = if by > 0 { KeyCode::Down } else { KeyCode::Up };
        self.key(app, code, false);
    }

    fn click(&mut self, app: &mut App, at: Position) -> Act {
        match app.spots.line(at.y) {
            Some(place) if place == self.at => return self.key(app, KeyCode::Enter, false),
            Some(place) => self.at = place,
            None => {}
        }
        Act::Stay
    }

    fn paste(&mut self, _: &mut App, line: &str) -> bool {
        self.search.push_str(line);
        true
    }
}

/// Draws a line of the list; `area` begins at it.
fn line(app: &App, p: &mut Painter<'_>, area: Rect, found: Found) {
    let outcome = area.x + area.width * 2 / 3;
    let room = outcome.saturating_sub(area.x + 12);
    let (text, tone, words, tone_of_words) = match found {
        Found::Entry(number) => {
            let entry = &app.desk.entries()[number];
            let number = format!("{:>4}", entry.number);
            p.text(area.x + 4, area.y, 5, Tone::Active, &number);
            let tone = match entry.state {
                State::Failed => Tone::Faint,
                _ => Tone::Plain,
            };
            let (words, tone_of_words) = entry.words();
            (&entry.text, tone, words, tone_of_words)
        }
        Found::Earlier(item) => {
            let item = &app.desk.history().earlier()[item];
            (&item.text, Tone::Plain, item.source.clone(), Tone::Faint)
        }
    };
    let text = one_line(text, room.into());
    p.text(area.x + 10, area.y, room, tone, &text);
    let room = area.right().saturating_sub(outcome + 3);
    p.text(outcome, area.y, room, tone_of_words, &words);
}

/// Draws the marked statement in full.
fn in_full(app: &App, p: &mut Painter<'_>, area: Rect, found: Found) {
    let text = match found {
        Found::Entry(place) => app.desk.entries()[place].text.clone(),
        Found::Earlier(place) => app.desk.history().earlier()[place].text.clone(),
    };
    let all: Vec<Line> = idle_tide_desk::page::sql_lines(&text, app.desk.dialect());
    let shown = usize::from(area.height) - 2;
    for (n, line) in all.iter().take(shown).enumerate() {
        let room = area.width.saturating_sub(14);
        p.line(area.x + 10, area.y + 1 + n as u16, room, 0, line);
    }
    if all.len() > shown {
        let words = format!("{} more lines", all.len() - shown);
        p.text(area.x + 10, area.bottom() - 1, 30, Tone::Faint, &words);
    }
}

/// Does with an entry or an earlier statement what the key says.
fn choose(app: &mut App, found: Found, code: KeyCode, recall: bool) {
    let text = match found {
        Found::Entry(place) => app.desk.entries()[place].text.clone(),
        Found::Earlier(place) => app.desk.history().earlier()[place].text.clone(),
    };
    match (code, found) {
        (KeyCode::F(5), _) if text != "arrival" => app.submit(&text),
        (KeyCode::Enter, Found::Entry(place)) if !recall => {
            app.desk.show(place);
            app.cleared = false;
            app.focus = Focus::Read;
        }
        _ if text == "arrival" => {}
        _ => {
            app.composer.set(&text);
            app.focus = Focus::Write;
        }
    }
}
