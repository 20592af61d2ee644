//! What keys do while writing.

use super::*;

impl App {
    pub(super) fn write_key(&mut self, code: KeyCode, control: bool, alt: bool) {
        if std::mem::take(&mut self.chord) {
            if control && code == KeyCode::Char('e') {
                self.edit = Some(self.composer.text().to_string());
                return;
            }
            self.desk.say(
                "After Ctrl-X comes Ctrl-E, which opens the editor.",
                Tone::Care,
            );
            return;
        }
        let open = self.choices.open && !self.choices.is_empty();
        let revision = self.composer.revision();
        let mut moved = true;
        match (code, control, alt) {
            (KeyCode::Esc, ..) => {
                if open {
                    self.choices.open = false;
                } else {
                    self.desk.hush();
                    self.focus = Focus::Read;
                }
                return;
            }
            (KeyCode::Tab, ..) => return self.tab(),
            (KeyCode::Up, false, _) if open => {
                let count = self.choices.len();
                self.choices.at = (self.choices.at + count - 1) % count;
                return;
            }
            (KeyCode::Down, false, _) if open => {
                self.choices.at = (self.choices.at + 1) % self.choices.len();
                return;
            }
            (KeyCode::F(5), ..) => return self.run(),
            (KeyCode::Enter, _, false) => return self.enter(),
            (KeyCode::Enter, ..) => self.composer.new_line(),
            (KeyCode::Char('d'), true, _) if self.composer.text().is_empty() => {
                return self.leave();
            }
            (KeyCode::Char('r'), true, _) => return self.open_entries(true),
            (KeyCode::Char('x'), true, _) => {
                self.chord = true;
                return;
            }
            (KeyCode::Up, false, _) | (KeyCode::Char('p'), true, _) => return self.line(true),
            (KeyCode::Down, false, _) | (KeyCode::Char('n'), true, _) => return self.line(false),
            (KeyCode::Left, false, false) | (KeyCode::Char('b'), true, _) => self.composer.left(),
            (KeyCode::Right, false, false) | (KeyCode::Char('f'), true, _) => self.composer.right(),
            (KeyCode::Left, ..) | (KeyCode::Char('b'), _, true) => self.composer.word_left(),
            (KeyCode::Right, ..) | (KeyCode::Char('f'), _, true) => self.composer.word_right(),
            (KeyCode::Home, true, _) => self.composer.top(),
            (KeyCode::End, true, _) => self.composer.bottom(),
            (KeyCode::Home, ..) | (KeyCode::Char('a'), true, _) => self.composer.home(),
            (KeyCode::End, ..) | (KeyCode::Char('e'), true, _) => self.composer.end(),
            (KeyCode::Backspace, false, false) | (KeyCode::Char('h'), true, _) => {
                self.composer.backspace()
            }
            (KeyCode::Backspace, ..) | (KeyCode::Char('w'), true, _) => {
                self.composer.cut_word_before()
            }
            (KeyCode::Delete, ..) | (KeyCode::Char('d'), true, _) => self.composer.delete(),
            (KeyCode::Char('d'), _, true) => self.composer.cut_word_after(),
            (KeyCode::Char('k'), true, _) => self.composer.cut_to_end(),
            (KeyCode::Char('u'), true, _) => self.composer.cut_to_start(),
            (KeyCode::Char('y'), true, _) => self.composer.put_back(),
            (KeyCode::Char('z' | '_' | '7' | '/'), true, _) => self.composer.undo(),
            (KeyCode::Char('z'), _, true) => self.composer.redo(),
            (KeyCode::PageUp | KeyCode::PageDown, ..) => {
                // The result can be paged through without leaving the statement.
                return self.page_key(code == KeyCode::PageDown);
            }
            (KeyCode::Char(character), false, false) => {
                // Another command takes the place of one that was refused, which waits in the recall.
                if character == '/' && self.refused == Some(revision) {
                    self.composer.clear();
                }
                self.composer.insert(character.encode_utf8(&mut [0; 4]));
            }
            _ => moved = false,
        }
        if self.composer.revision() != revision {
            self.marked = None;
            self.desk.hush();
            self.complete(false);
        } else if moved {
            self.choices.open = false;
        }
    }

    /// A line up or down; past the first or last line the earlier or later statement.
    fn line(&mut self, up: bool) {
        self.choices = Choices::default();
        let moved = if up {
            self.composer.up()
        } else {
            self.composer.down()
        };
        if moved {
            return;
        }
        let items = self.desk.history().items();
        let history: Vec<&str> = items.iter().map(|item| item.text.as_str()).collect();
        if up {
            self.composer.earlier(&history);
        } else {
            self.composer.later(&history);
        }
    }

    pub(super) fn enter(&mut self) {
        let dialect = self.desk.dialect();
        let finished = self.composer.analysis(dialect).finished;
        let at_end = self.composer.text()[self.composer.cursor()..]
            .trim()
            .is_empty();
        let is_command = self.composer.text().trim_start().starts_with('/')
            && !self.composer.text().trim_start().starts_with("/*")
            && !self.composer.text().contains('\n');
        if self.composer.text().trim() == "/" {
            self.complete(true);
            return;
        }
        // The start of a command's name is completed, not refused.
        let name = self.composer.text().trim().trim_start_matches('/');
        if is_command
            && self.choices.open
            && !name.contains(' ')
            && idle_tide_lang::command::find(name).is_none()
        {
            self.accept();
            return;
        }
        if finished && (at_end || is_command || self.mending) {
            self.run();
        } else if !self.composer.text().is_empty() {
            self.composer.new_line();
            self.mending = false;
            self.choices = Choices::default();
        }
    }

    pub(super) fn run(&mut self) {
        if self.composer.is_blank() {
            self.desk.say("There is nothing to run yet.", Tone::Care);
            return;
        }
        let dialect = self.desk.dialect();
        let only_comments = idle_tide_lang::split::pieces(self.composer.text(), dialect)
            .iter()
            .all(|piece| !piece.has_code);
        if only_comments {
            self.desk
                .say("There are only comments here; nothing to run.", Tone::Care);
            return;
        }
        let text = self.composer.take();
        // Rows that are pasted may end with a separator.
        self.submit(match text.trim_start().starts_with("/load - ") {
            true => text.trim_start().trim_end_matches('\n'),
            false => text.trim(),
        });
    }

    pub(super) fn tab(&mut self) {
        if !self.choices.open || self.choices.is_empty() {
            if let Some(command) =
                elsewhere::matching_command(self.composer.text(), self.desk.dialect())
            {
                self.composer.set(&command);
                return;
            }
            let (_, column) = self.composer.place();
            let text = self.composer.text();
            let start = self.composer.cursor() - column;
            if !text[..self.composer.cursor()].is_empty()
                && text[start..self.composer.cursor()].trim().is_empty()
                && text[..start].ends_with('\n')
            {
                self.composer.insert("  ");
                return;
            }
            self.complete(true);
            if self.choices.len() == 1 {
                self.accept();
            }
            return;
        }
        let typed = self.choices.completion.span.len();
        match self.choices.completion.common.clone() {
            Some(common)
                if self.choices.at == 0 && self.choices.len() > 1 && common.len() > typed =>
            {
                self.composer
                    .replace(self.choices.completion.span.clone(), &common);
                self.complete(false);
            }
            _ => self.accept(),
        }
    }

    pub(super) fn accept(&mut self) {
        if let Some(correction) = self.choices.corrections.get(self.choices.at) {
            let edit = correction.edit.clone();
            self.composer.replace(edit.span, &edit.text);
            self.marked = None;
            self.choices = Choices::default();
            return;
        }
        let Some(candidate) = self.choices.completion.candidates.get(self.choices.at) else {
            return;
        };
        let insert = candidate.insert.clone();
        let span = candidate.span.clone();
        let span = span.unwrap_or_else(|| self.choices.completion.span.clone());
        self.composer.replace(span, &insert);
        self.choices = Choices::default();
        self.marked = None;
        // An argument may follow a command at once.
        if insert.starts_with('/') && insert.ends_with(' ') {
            self.complete(false);
        }
    }
}
