//! What keys do on a document and on the stages of a flow.

use super::*;
use crate::app::Paper;

impl App {
    /// Opens the current document, as text or as an outline.
    pub fn open_document(&mut self, text: bool) {
        self.over = Over::Document(Paper {
            text,
            ..Paper::default()
        });
        self.focus = Focus::Read;
    }

    pub(super) fn document_key(&mut self, code: KeyCode) {
        let Over::Document(mut paper) = self.over.clone() else {
            return;
        };
        match code {
            KeyCode::Esc | KeyCode::Enter => {
                self.over = Over::Nothing;
                return;
            }
            KeyCode::Up => paper.at = paper.at.saturating_sub(1),
            KeyCode::Down => paper.at += 1,
            KeyCode::Home => paper.at = 0,
            KeyCode::End => paper.at = usize::MAX >> 1,
            KeyCode::PageUp => self.move_row(-1),
            KeyCode::PageDown => self.move_row(1),
            KeyCode::Char('t' | 'T') => {
                paper = Paper {
                    text: !paper.text,
                    ..Paper::default()
                }
            }
            KeyCode::Left | KeyCode::Right | KeyCode::Char(' ') if !paper.text => {
                if let Some((_, _, document)) = crate::views::document::current(self) {
                    let lines = idle_tide_desk::outline::outline(&document, &self.closed);
                    if let Some(line) = lines.get(paper.at) {
                        match (line.opens, code) {
                            (Some(true), KeyCode::Left | KeyCode::Char(' ')) => {
                                self.closed.insert(line.place.clone());
                            }
                            (Some(false), KeyCode::Right | KeyCode::Char(' ')) => {
                                self.closed.remove(&line.place);
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
        self.over = Over::Document(paper);
    }

    /// Whether the entry that is shown is a flow stage by stage.
    pub fn reads_stages(&self) -> bool {
        !self.cleared
            && self
                .desk
                .entry()
                .is_some_and(|entry| entry.stages().is_some())
    }

    /// F7: the stages of what is in the composer, or of the current entry.
    pub(super) fn stages_view(&mut self) {
        self.over = Over::Nothing;
        let typed = self
            .composer
            .text()
            .trim()
            .trim_end_matches(';')
            .to_string();
        if self.focus == Focus::Write && typed.to_ascii_lowercase().starts_with("from") {
            self.focus = Focus::Read;
            return self.command(&format!("/stages {}", typed.replace('\n', " ")));
        }
        if self.reads_stages() {
            self.focus = match self.focus {
                Focus::Read => Focus::Write,
                Focus::Write => Focus::Read,
            };
            return;
        }
        self.focus = Focus::Read;
        self.command("/stages");
    }

    pub(super) fn stages_key(&mut self, code: KeyCode) {
        let Some(number) = self.desk.entry().map(|e| e.number) else {
            return;
        };
        let Some(stages) = self.desk.stages_mut(number) else {
            return;
        };
        let most = stages.flow.stages.len();
        match code {
            KeyCode::Up => stages.at = stages.at.saturating_sub(1),
            KeyCode::Down => stages.at = (stages.at + 1).min(most),
            KeyCode::Home => stages.at = 0,
            KeyCode::End => stages.at = most,
            KeyCode::Char('c' | 'C') => stages.shows_compiled = !stages.shows_compiled,
            KeyCode::Char(' ') => self.desk.toggle_stage(number),
            KeyCode::Enter => {
                let flow = stages.up_to(stages.at);
                self.submit(&flow);
            }
            _ => {}
        }
    }
}
