//! What keys do in the views that lie over the desk: guide, entries, record.

use super::*;

impl App {
    pub(super) fn help_key(&mut self) {
        if matches!(self.over, Over::Guide { .. }) {
            self.over = Over::Nothing;
            return;
        }
        let text = self.composer.text().trim_start();
        let topic = if self.mending {
            "errors".to_string()
        } else if let Some(rest) = text.strip_prefix('/') {
            rest.split_whitespace()
                .next()
                .map_or("commands".into(), |name| format!("/{name}"))
        } else if self.focus == Focus::Read && self.reads_rows() {
            "read".into()
        } else if text.is_empty() {
            "first steps".into()
        } else {
            "write".into()
        };
        self.open_guide(&topic);
    }

    pub(super) fn guide_key(&mut self, code: KeyCode, control: bool) {
        let Over::Guide { topic, search, top } = &mut self.over else {
            return;
        };
        match code {
            KeyCode::Esc if !search.is_empty() => {
                search.clear();
                *top = 0;
            }
            KeyCode::Esc => self.over = Over::Nothing,
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
    }

    pub(super) fn entries_key(&mut self, code: KeyCode, control: bool) {
        let Over::Entries { search, at, recall } = &mut self.over else {
            return;
        };
        let recall = *recall;
        match code {
            KeyCode::Esc => self.over = Over::Nothing,
            KeyCode::Up => *at = at.saturating_sub(1),
            KeyCode::Down => *at += 1,
            KeyCode::PageUp => *at = at.saturating_sub(12),
            KeyCode::PageDown => *at += 12,
            KeyCode::Backspace => {
                search.pop();
                *at = 0;
            }
            KeyCode::Char('r') if control => *at += 1,
            KeyCode::Char(character) if !control => {
                search.push(character);
                *at = 0;
            }
            KeyCode::Enter | KeyCode::Tab | KeyCode::F(5) => {
                let (search, at) = (search.clone(), *at);
                let list = self.found_entries(&search);
                let Some(found) = list.get(at.min(list.len().saturating_sub(1))).copied() else {
                    return;
                };
                self.over = Over::Nothing;
                self.choose(found, code, recall);
            }
            _ => {}
        }
        let count = match &self.over {
            Over::Entries { search, .. } => self.found_entries(search).len(),
            _ => return,
        };
        if let Over::Entries { at, .. } = &mut self.over {
            *at = (*at).min(count.saturating_sub(1));
        }
    }

    pub(super) fn choose(&mut self, found: Found, code: KeyCode, recall: bool) {
        let text = match found {
            Found::Entry(place) => self.desk.entries()[place].text.clone(),
            Found::Earlier(place) => self.desk.history().earlier()[place].text.clone(),
        };
        match (code, found) {
            (KeyCode::F(5), _) if text != "arrival" => self.submit(&text),
            (KeyCode::Enter, Found::Entry(place)) if !recall => {
                self.desk.show(place);
                self.cleared = false;
                self.focus = Focus::Read;
            }
            _ if text == "arrival" => {}
            _ => {
                self.composer.set(&text);
                self.focus = Focus::Write;
            }
        }
    }

    pub(super) fn record_key(&mut self, code: KeyCode) {
        let Over::Record { top } = &mut self.over else {
            return;
        };
        match code {
            KeyCode::Esc | KeyCode::Enter => self.over = Over::Nothing,
            KeyCode::PageUp => *top = top.saturating_sub(10),
            KeyCode::PageDown => *top += 10,
            KeyCode::Up => self.move_row(-1),
            KeyCode::Down => self.move_row(1),
            KeyCode::Home => self.go_to_row(0),
            KeyCode::End => self.go_to_row(u64::MAX),
            _ => {}
        }
    }
}
