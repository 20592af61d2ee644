//! What keys and the mouse do, place by place.

mod chart;
mod hidden;
pub(crate) mod links;
mod mouse;
mod read;
mod stages;
mod write;

use crossterm::event::{
    KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use idle_tide_desk::{Content, Tone};
use idle_tide_lang::elsewhere;

use crate::app::{App, Choices, Focus, Prompt};
use crate::views::view::{Act, VIEWS};

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
        let writing = self.is_bare() && self.focus == Focus::Write && self.prompt.is_none();
        let means = writing && matches!(key.code, KeyCode::Char('b' | 'd' | 'f' | 'z'));
        if alt && !control && !means && matches!(key.code, KeyCode::Char(_)) {
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
            _ => {}
        }
        let opens = VIEWS.iter().find(|row| key.code == KeyCode::F(row.key));
        if let Some(row) = opens {
            let there = self
                .in_front()
                .is_some_and(|place| row.closes.contains(&place));
            return if there {
                self.close_view()
            } else {
                (row.open)(self)
            };
        }
        if let Some(()) = self.with_view(|view, app| ((), view.key(app, key.code, control))) {
            return;
        }
        if self.prompt.is_some() {
            return self.prompt_key(key.code, control);
        }
        match (key.code, control) {
            (KeyCode::PageUp, true) => self.neighbour(false),
            (KeyCode::PageDown, true) => self.neighbour(true),
            _ if self.focus == Focus::Write => self.write_key(key.code, control, alt),
            _ => self.read_key(key.code, control),
        }
    }

    /// Takes a pasted text: it goes into the composer and never runs.
    pub fn paste(&mut self, text: &str) {
        let line = text.lines().next().unwrap_or("");
        if self.desk.asking().is_some() {
            self.hidden.push_str(line);
            return;
        }
        let taken = self.with_view(|view, app| {
            let taken = view.paste(app, line);
            (taken, Act::Stay)
        });
        if taken == Some(true) {
            return;
        }
        if let Some(Prompt::Find(typed) | Prompt::Row(typed)) = &mut self.prompt
            && taken.is_none()
        {
            typed.push_str(line);
            return;
        }
        self.close_views();
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
        if !self.is_bare() {
            return self.close_views();
        }
        self.prompt = None;
        self.composer.clear();
        self.choices = Choices::default();
        self.marked = None;
        self.focus = Focus::Write;
    }
}
