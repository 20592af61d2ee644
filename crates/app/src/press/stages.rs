//! What keys do on the stages of a flow.

use super::*;

impl App {
    /// Whether the entry that is shown is a flow stage by stage.
    pub fn reads_stages(&self) -> bool {
        !self.cleared
            && self
                .desk
                .entry()
                .is_some_and(|entry| entry.stages().is_some())
    }

    /// F7: the stages of what is in the composer, or of the current entry.
    pub(crate) fn stages_view(&mut self) {
        self.close_views();
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
