//! The guide: topics on the left, the text of one on the right, or the lines of all that hold what is searched.

use crossterm::event::KeyCode;
use idle_tide_desk::{Content, Failure, Tone};
use idle_tide_engines::Fault;
use idle_tide_lang::command;
use ratatui::Frame;
use ratatui::layout::{Position, Rect};

use super::paint::{Painter, title};
use super::view::{Act, View};
use crate::app::{App, Focus};
use crate::guide::{self, TOPICS};
use crate::keys::Place;
use crate::theme::Ground;

/// Where the guide is read.
#[derive(Debug, Default)]
pub struct Guide {
    /// Place in the list of topics.
    topic: usize,
    /// What is searched.
    search: String,
    /// First line shown.
    top: usize,
}

impl App {
    /// Opens the guide at a topic, or searches it.
    pub fn open_guide(&mut self, topic: &str) {
        let topic = topic.trim();
        let at = guide::TOPICS
            .iter()
            .position(|t| t.eq_ignore_ascii_case(topic));
        self.open(Guide {
            topic: at.unwrap_or(0),
            search: if at.is_some() {
                String::new()
            } else {
                topic.to_string()
            },
            top: 0,
        });
    }

    /// The word at the cursor, where the guide says something of it.
    fn word_of_guide(&self) -> Option<String> {
        let (text, at) = (self.composer.text(), self.composer.cursor());
        let is_word = |c: char| c.is_alphanumeric() || c == '_';
        let from = text[..at].trim_end_matches(is_word).len();
        let end = at + text[at..].find(|c| !is_word(c)).unwrap_or(text.len() - at);
        let word = &text[from..end];
        let known = word.len() > 1 && self.desk.dialect().is_keyword(word);
        (known && guide::knows(word, &self.keymap)).then(|| word.to_lowercase())
    }

    /// Opens the guide where it helps now.
    pub(crate) fn help(&mut self) {
        let writes = self.focus == Focus::Write && self.is_bare();
        let mut of_places = self.places().into_iter().map(Place::topic);
        let entry = self.desk.entry().filter(|_| self.is_bare());
        // What was refused is being mended, or read about.
        let typed = self.composer.text().trim_start();
        let entry = entry.filter(|entry| !writes || typed.starts_with(entry.text.trim()));
        let topic = match entry.map(|entry| &entry.content) {
            Some(Content::Failure(failure)) => self.topic_of_failure(failure),
            _ if !writes => {
                let found = of_places.find(|topic| !topic.is_empty());
                found.unwrap_or("first steps").to_string()
            }
            _ => self.topic_of_text(),
        };
        self.open_guide(&topic);
    }

    /// The topic for what is being written.
    fn topic_of_text(&self) -> String {
        let text = self.composer.text().trim_start();
        match text.strip_prefix('/') {
            Some(rest) => {
                let name = rest.split_whitespace().next();
                name.map_or("commands".into(), |name| format!("/{name}"))
            }
            None if text.is_empty() => "first steps".into(),
            None if text.starts_with('=') => "scripts".into(),
            None => self.word_of_guide().unwrap_or_else(|| "write".into()),
        }
    }

    /// The topic that helps with an error.
    fn topic_of_failure(&self, failure: &Failure) -> String {
        let text = self
            .desk
            .entry()
            .map_or("", |entry| entry.text.trim_start());
        let name = text
            .strip_prefix('/')
            .and_then(|rest| rest.split_whitespace().next());
        match (failure.fault, name) {
            (Some(Fault::Lost | Fault::NotSent), _) => "servers".into(),
            (Some(Fault::ReadOnly | Fault::Locked | Fault::Constraint), _) => "change".into(),
            (Some(Fault::Sink | Fault::Disk), None) => "limits".into(),
            (_, Some(name)) if command::find(name).is_some() => format!("/{name}"),
            (_, Some(_)) => "commands".into(),
            _ if text.starts_with('=') => "scripts".into(),
            _ if self.desk.dialect().is_flow() => "flows".into(),
            _ => "errors".into(),
        }
    }
}

impl View for Guide {
    fn place(&self, _: &App) -> Place {
        Place::Guide
    }

    fn draw(&mut self, app: &mut App, frame: &mut Frame<'_>, area: Rect) {
        if area.height < 3 {
            return;
        }
        let (topic, search, top) = (self.topic, self.search.as_str(), self.top);
        let mut p = Painter {
            buffer: frame.buffer_mut(),
            theme: app.theme,
            ground: Ground::Air,
        };
        title(&mut p, area, "Guide", search, "type to search");
        let y = area.y + 2;
        let height = area.height.saturating_sub(3);
        let left = 16_u16;
        let narrow = area.width < 60;
        let x = if narrow {
            area.x + 4
        } else {
            area.x + 4 + left + 3
        };
        let mut spots = Vec::new();
        if !narrow {
            let first = topic.saturating_sub(usize::from(height).saturating_sub(1));
            for (at, name) in TOPICS.iter().enumerate().skip(first).take(height.into()) {
                let line = y + (at - first) as u16;
                let chosen = at == topic && search.is_empty();
                p.ground = if chosen {
                    Ground::Selected
                } else {
                    Ground::Air
                };
                if chosen {
                    p.fill(Rect::new(area.x + 2, line, left + 2, 1));
                    p.text(area.x + 2, line, 1, Tone::Active, "▌");
                }
                let tone = if chosen { Tone::Heading } else { Tone::Plain };
                p.text(area.x + 4, line, left, tone, name);
                spots.push((line, at));
            }
            p.ground = Ground::Air;
        }
        let room = area.right().saturating_sub(x + 3);
        let width = usize::from(room).min(96);
        let page = if search.is_empty() {
            guide::page(TOPICS[topic.min(TOPICS.len() - 1)], width, &app.keymap)
        } else {
            guide::search(search, width, &app.keymap)
        };
        let top = top.min(page.lines.len().saturating_sub(usize::from(height)));
        for (at, line) in page.lines.iter().skip(top).take(height.into()).enumerate() {
            p.line(x, y + at as u16, room, 0, line);
        }
        let rest = page.lines.len().saturating_sub(top + usize::from(height));
        if rest > 0 {
            let words = format!("{rest} more lines · PgDn");
            p.text(x, area.bottom() - 1, room, Tone::Faint, &words);
        }
        app.spots.list = spots;
        self.top = top;
    }

    fn key(&mut self, _: &mut App, code: KeyCode, control: bool) -> Act {
        let Guide { topic, search, top } = self;
        match code {
            KeyCode::Esc if !search.is_empty() => {
                search.clear();
                *top = 0;
            }
            KeyCode::Esc => return Act::Close,
            KeyCode::Up => {
                *topic = topic.saturating_sub(1);
                (*top, *search) = (0, String::new());
            }
            KeyCode::Down => {
                *topic = (*topic + 1).min(TOPICS.len() - 1);
                (*top, *search) = (0, String::new());
            }
            KeyCode::PageUp => *top = top.saturating_sub(12),
            KeyCode::PageDown => *top += 12,
            KeyCode::Home => *top = 0,
            KeyCode::Backspace => {
                search.pop();
                *top = 0;
            }
            KeyCode::Char(character) if !control => {
                search.push(character);
                *top = 0;
            }
            _ => {}
        }
        Act::Stay
    }

    fn scroll(&mut self, _: &mut App, by: isize) {
        self.top = self.top.saturating_add_signed(by);
    }

    fn click(&mut self, app: &mut App, at: Position) -> Act {
        if let Some(topic) = app.spots.line(at.y) {
            (self.topic, self.top) = (topic, 0);
            self.search.clear();
        }
        Act::Stay
    }

    fn paste(&mut self, _: &mut App, line: &str) -> bool {
        self.search.push_str(line);
        true
    }
}
