//! What keys and the mouse do, place by place.

mod catalog;
mod documents;
mod links;
mod mouse;
mod over;
mod read;
mod sources;
mod write;

use crossterm::event::{
    KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use idle_tide_desk::{Content, Tone};
use idle_tide_lang::elsewhere;

use crate::app::{App, Choices, Focus, Found, Over, Prompt};
use crate::guide::TOPICS;

impl App {
    /// Takes a key.
    pub fn key(&mut self, key: KeyEvent) {
        if key.kind == KeyEventKind::Release {
            return;
        }
        // Keys of one's own stand for the usual ones.
        let Some(key) = self.keymap.meant(&self.places(), key) else {
            return;
        };
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        let alt = key.modifiers.contains(KeyModifiers::ALT);
        if self.desk.asking().is_some() {
            self.hidden_key(key.code, control);
            return;
        }
        if self.asks_to_leave || self.desk.question().is_some() {
            self.answer_key(key.code, control);
            return;
        }
        // Where no Alt key has a meaning, Esc and a letter that came together are what they look like.
        let writing =
            self.over == Over::Nothing && self.focus == Focus::Write && self.prompt.is_none();
        if alt && !writing && matches!(key.code, KeyCode::Char(_)) {
            self.key(KeyEvent::new(KeyCode::Esc, KeyModifiers::NONE));
            self.key(KeyEvent::new(key.code, key.modifiers - KeyModifiers::ALT));
            return;
        }
        match key.code {
            KeyCode::Char('c') if control => return self.interrupt(),
            KeyCode::Char('l') if control => {
                self.redraw = true;
                return;
            }
            KeyCode::F(1) => return self.help_key(),
            KeyCode::F(2) => return self.catalog_view(),
            KeyCode::F(6) => return self.links_view(),
            KeyCode::F(7) => return self.stages_view(),
            KeyCode::F(3) => {
                match self.over {
                    Over::Entries { .. } => self.over = Over::Nothing,
                    _ => self.open_entries(false),
                }
                return;
            }
            KeyCode::F(4) => {
                match self.over {
                    Over::Record { .. } | Over::Document(_) => self.over = Over::Nothing,
                    _ => self.open_record(),
                }
                return;
            }
            KeyCode::F(9) => {
                match self.over {
                    Over::Sources(_) => self.over = Over::Nothing,
                    _ => self.open_sources(),
                }
                return;
            }
            _ => {}
        }
        match &self.over {
            Over::Sources(_) => self.sources_key(key.code, control),
            Over::Catalog => self.catalog_key(key.code, control),
            Over::Guide { .. } => self.guide_key(key.code, control),
            Over::Entries { .. } => self.entries_key(key.code, control),
            Over::Record { .. } => self.record_key(key.code),
            Over::Document(_) => self.document_key(key.code),
            Over::Nothing if self.prompt.is_some() => self.prompt_key(key.code, control),
            Over::Nothing => match (key.code, control) {
                (KeyCode::PageUp, true) => self.neighbour(false),
                (KeyCode::PageDown, true) => self.neighbour(true),
                _ if self.focus == Focus::Write => self.write_key(key.code, control, alt),
                _ => self.read_key(key.code, control),
            },
        }
    }

    /// Takes a pasted text: it goes into the composer and never runs.
    pub fn paste(&mut self, text: &str) {
        if let Over::Guide { search, .. } | Over::Entries { search, .. } = &mut self.over {
            search.push_str(text.lines().next().unwrap_or(""));
            return;
        }
        if let Some(Prompt::Find(typed) | Prompt::Row(typed)) = &mut self.prompt {
            typed.push_str(text.lines().next().unwrap_or(""));
            return;
        }
        if self.over == Over::Catalog {
            let column = self.catalog.focus;
            self.catalog
                .typed()
                .push_str(text.lines().next().unwrap_or(""));
            return self.catalog.changed(column);
        }
        if self.desk.asking().is_some() {
            self.hidden.push_str(text.lines().next().unwrap_or(""));
            return;
        }
        if let Over::Sources(view) = &mut self.over
            && let Some(form) = &mut view.form
        {
            if crate::sources::FIELDS[form.at].words.is_empty() {
                form.values[form.at].push_str(text.lines().next().unwrap_or(""));
            }
            return;
        }
        self.over = Over::Nothing;
        self.focus = Focus::Write;
        self.composer.insert(text);
        self.choices = Choices::default();
    }

    fn answer_key(&mut self, code: KeyCode, control: bool) {
        let yes = matches!(code, KeyCode::Char('y' | 'Y')) && !control;
        let no = matches!(code, KeyCode::Char('n' | 'N') | KeyCode::Esc)
            || matches!(code, KeyCode::Char('c')) && control;
        if self.asks_to_leave {
            if yes {
                self.leaving = true;
            }
            if yes || no {
                self.asks_to_leave = false;
            }
        } else if yes || no {
            let before = self.desk.entries().len();
            self.desk.answer(yes);
            self.settle(before);
        }
    }

    fn interrupt(&mut self) {
        if self.desk.cancel() {
            return;
        }
        match self.over {
            Over::Nothing => {
                self.prompt = None;
                self.composer.clear();
                self.choices = Choices::default();
                self.marked = None;
                self.focus = Focus::Write;
            }
            _ => self.over = Over::Nothing,
        }
    }
}
