//! What keys and the mouse do, place by place.

use crossterm::event::{
    KeyCode, KeyEvent, KeyEventKind, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use idle_tide_desk::{Tone, sheet};
use idle_tide_lang::elsewhere;

use crate::app::{App, Choices, Focus, Found, Over, Prompt};
use crate::guide::TOPICS;

impl App {
    /// Takes a key.
    pub fn key(&mut self, key: KeyEvent) {
        if key.kind == KeyEventKind::Release {
            return;
        }
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        let alt = key.modifiers.contains(KeyModifiers::ALT);
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
            KeyCode::F(3) => {
                match self.over {
                    Over::Entries { .. } => self.over = Over::Nothing,
                    _ => self.open_entries(false),
                }
                return;
            }
            KeyCode::F(4) => {
                match self.over {
                    Over::Record { .. } => self.over = Over::Nothing,
                    _ => self.open_record(),
                }
                return;
            }
            _ => {}
        }
        match &self.over {
            Over::Guide { .. } => self.guide_key(key.code, control),
            Over::Entries { .. } => self.entries_key(key.code, control),
            Over::Record { .. } => self.record_key(key.code),
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

    fn help_key(&mut self) {
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

    fn neighbour(&mut self, next: bool) {
        let at = self.desk.current();
        self.desk
            .show(if next { at + 1 } else { at.saturating_sub(1) });
        self.cleared = false;
        self.prompt = None;
    }

    fn history(&self) -> Vec<String> {
        self.desk
            .history()
            .items()
            .iter()
            .map(|item| item.text.clone())
            .collect()
    }

    fn write_key(&mut self, code: KeyCode, control: bool, alt: bool) {
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
            (KeyCode::Up, false, _) | (KeyCode::Char('p'), true, _) => {
                if !self.composer.up() {
                    let history = self.history();
                    let list: Vec<&str> = history.iter().map(String::as_str).collect();
                    self.composer.earlier(&list);
                }
                self.choices = Choices::default();
                return;
            }
            (KeyCode::Down, false, _) | (KeyCode::Char('n'), true, _) => {
                if !self.composer.down() {
                    let history = self.history();
                    let list: Vec<&str> = history.iter().map(String::as_str).collect();
                    self.composer.later(&list);
                }
                self.choices = Choices::default();
                return;
            }
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

    fn enter(&mut self) {
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
        if finished && (at_end || is_command || self.mending) {
            self.run();
        } else if !self.composer.text().is_empty() {
            self.composer.new_line();
            self.mending = false;
            self.choices = Choices::default();
        }
    }

    fn run(&mut self) {
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
        self.submit(text.trim());
    }

    fn tab(&mut self) {
        if !self.choices.open || self.choices.is_empty() {
            if let Some(command) = elsewhere::matching_command(self.composer.text()) {
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

    fn accept(&mut self) {
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
        self.composer
            .replace(self.choices.completion.span.clone(), &insert);
        self.choices = Choices::default();
        self.marked = None;
        // An argument may follow a command at once.
        if insert.starts_with('/') && insert.ends_with(' ') {
            self.complete(false);
        }
    }

    fn page_key(&mut self, down: bool) {
        if self.reads_rows() {
            let page = self.page.max(1);
            self.move_row(if down { page as i64 } else { -(page as i64) });
        } else {
            self.scroll_text(if down { 10 } else { -10 }, 0);
        }
    }

    fn move_row(&mut self, by: i64) {
        let row = self.grid().map_or(0, |grid| grid.row);
        self.go_to_row(row.saturating_add_signed(by));
    }

    fn move_column(&mut self, by: isize) {
        let shown = self.shown_columns();
        if let Some(grid) = self.grid() {
            grid.column = grid
                .column
                .saturating_add_signed(by)
                .min(shown.saturating_sub(1));
        }
    }

    fn shown_columns(&self) -> usize {
        self.desk
            .entry()
            .and_then(|e| e.sheet())
            .map_or(0, |s| s.view.columns.len())
    }

    fn scroll_text(&mut self, lines: isize, columns: isize) {
        if let Some(number) = self.desk.entry().map(|entry| entry.number) {
            let (top, left) = self.texts.entry(number).or_default();
            *top = top.saturating_add_signed(lines);
            *left = left.saturating_add_signed(columns);
        }
    }

    /// Runs the command that a reading key stands for; it is not kept in the history.
    fn command(&mut self, text: &str) {
        let before = self.desk.entries().len();
        self.desk.hush();
        self.desk.submit_piece(text, true);
        self.settle(before);
    }

    fn read_key(&mut self, code: KeyCode, control: bool) {
        self.desk.hush();
        match (code, control) {
            (KeyCode::Esc, _) => {
                self.desk.hush();
                self.focus = Focus::Write;
                return;
            }
            (KeyCode::Char('d'), true) if self.composer.text().is_empty() => return self.leave(),
            (KeyCode::Char('/'), false) => {
                self.focus = Focus::Write;
                if self.composer.text().is_empty() {
                    self.from_reading = true;
                    self.composer.insert("/");
                    self.complete(false);
                }
                return;
            }
            (KeyCode::F(5), _) => return self.run(),
            (KeyCode::Char(','), false) => return self.neighbour(false),
            (KeyCode::Char('.'), false) => return self.neighbour(true),
            (KeyCode::Char('a' | 'A'), false) => return self.command("/again"),
            (KeyCode::Char('e' | 'E'), false) => {
                let number = self.desk.entry().map_or(0, |entry| entry.number);
                return self.command(&format!("/recall {number}"));
            }
            _ => {}
        }
        if !self.reads_rows() {
            return self.text_key(code);
        }
        let last = u64::MAX;
        match (code, control) {
            (KeyCode::Up, _) => self.move_row(-1),
            (KeyCode::Down, _) => self.move_row(1),
            (KeyCode::PageUp, _) => self.page_key(false),
            (KeyCode::PageDown, _) => self.page_key(true),
            (KeyCode::Home, _) => self.go_to_row(0),
            (KeyCode::End, _) => self.go_to_row(last),
            (KeyCode::Left, true) => self.move_column(isize::MIN),
            (KeyCode::Right, true) => self.move_column(isize::MAX),
            (KeyCode::Left, _) => self.move_column(-1),
            (KeyCode::Right, _) => self.move_column(1),
            (KeyCode::Enter, _) => self.open_record(),
            (KeyCode::Char('f'), true) => self.prompt = Some(Prompt::Find(String::new())),
            (KeyCode::Char('n' | 'N'), false) => self.find(false),
            (KeyCode::Char('p' | 'P'), false) => self.find(true),
            (KeyCode::Char('g' | 'G'), false) => self.prompt = Some(Prompt::Row(String::new())),
            (KeyCode::Char('o' | 'O'), false) => self.order(),
            (KeyCode::Char('f' | 'F'), false) => {
                let mut frozen = false;
                self.change_view(|view, _| {
                    view.frozen = !view.frozen;
                    frozen = view.frozen;
                });
                self.desk.say(
                    if frozen {
                        "The first column stays while the others scroll."
                    } else {
                        "The first column scrolls with the others."
                    },
                    Tone::Plain,
                );
            }
            (KeyCode::Char('x' | 'X'), false) => {
                if self.shown_columns() > 1 {
                    self.change_view(|view, at| {
                        view.columns.remove(at);
                    });
                    self.move_column(0);
                } else {
                    self.desk
                        .say("One column has to stay. U brings all back.", Tone::Care);
                }
            }
            (KeyCode::Char('u' | 'U'), false) => self.command("/columns --all"),
            (KeyCode::Char('['), false) => self.shift_column(-1),
            (KeyCode::Char(']'), false) => self.shift_column(1),
            _ => {}
        }
    }

    fn change_view(&mut self, change: impl FnOnce(&mut idle_tide_desk::View, usize)) {
        let at = self.grid().map_or(0, |grid| grid.column);
        if let Some(sheet) = self.desk.sheet_mut()
            && at < sheet.view.columns.len()
        {
            change(&mut sheet.view, at);
        }
    }

    fn shift_column(&mut self, by: isize) {
        let count = self.shown_columns();
        let at = self.grid().map_or(0, |grid| grid.column);
        let to = at.saturating_add_signed(by);
        if to < count && to != at {
            self.change_view(|view, at| view.columns.swap(at, to));
            self.move_column(by);
        }
    }

    fn order(&mut self) {
        let Some(sheet) = self.desk.entry().and_then(|entry| entry.sheet()) else {
            return;
        };
        let at = self
            .grids
            .get(&self.desk.entry().map_or(0, |e| e.number))
            .map_or(0, |g| g.column);
        let Some(column) = sheet.view.columns.get(at).copied() else {
            return;
        };
        let next = match sheet.view.order {
            Some((current, false)) if current == column => Some((column, true)),
            Some((current, true)) if current == column => None,
            _ => Some((column, false)),
        };
        if let Err(failure) = self.desk.order_by(next) {
            self.desk.say(failure.headline, Tone::Care);
        }
    }

    fn text_key(&mut self, code: KeyCode) {
        let page = self.page.max(2) as isize - 1;
        match code {
            KeyCode::Up => self.scroll_text(-1, 0),
            KeyCode::Down => self.scroll_text(1, 0),
            KeyCode::PageUp => self.scroll_text(-page, 0),
            KeyCode::PageDown => self.scroll_text(page, 0),
            KeyCode::Home => self.scroll_text(isize::MIN, isize::MIN),
            KeyCode::End => self.scroll_text(isize::MAX / 2, 0),
            KeyCode::Left => self.scroll_text(0, -8),
            KeyCode::Right => self.scroll_text(0, 8),
            _ => {}
        }
    }

    fn prompt_key(&mut self, code: KeyCode, control: bool) {
        let Some(prompt) = &mut self.prompt else {
            return;
        };
        let typed = match prompt {
            Prompt::Find(text) | Prompt::Row(text) => text,
        };
        match code {
            KeyCode::Esc => self.prompt = None,
            KeyCode::Backspace => {
                typed.pop();
            }
            KeyCode::Char('u') if control => typed.clear(),
            KeyCode::Enter => match self.prompt.take() {
                Some(Prompt::Find(text)) if !text.is_empty() => {
                    self.found = text;
                    self.find(false);
                }
                Some(Prompt::Row(text)) => {
                    let digits: String = text
                        .chars()
                        .filter(|c| !matches!(c, ' ' | '_' | ','))
                        .collect();
                    match digits.parse::<u64>() {
                        Ok(row @ 1..) => self.go_to_row(row - 1),
                        _ if text.is_empty() => {}
                        _ => {
                            self.desk
                                .say(format!("{text} is not the number of a row."), Tone::Care);
                        }
                    }
                }
                _ => {}
            },
            KeyCode::Char(character) if !control => typed.push(character),
            _ => {}
        }
    }

    fn find(&mut self, back: bool) {
        if self.found.is_empty() {
            self.prompt = Some(Prompt::Find(String::new()));
            return;
        }
        let from = self.grid().map_or((0, 0), |grid| (grid.row, grid.column));
        let Some(rows) = self.desk.entry().and_then(|entry| entry.sheet()) else {
            return;
        };
        match sheet::find(rows, &self.found, from, back) {
            Ok(Some((row, column))) => {
                if let Some(grid) = self.grid() {
                    (grid.row, grid.column) = (row, column);
                }
                self.desk.hush();
            }
            Ok(None) => {
                let words = format!("No shown column holds {}.", self.found);
                self.desk.say(words, Tone::Care);
            }
            Err(error) => self.desk.say(error.to_string(), Tone::Danger),
        }
    }

    fn guide_key(&mut self, code: KeyCode, control: bool) {
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

    fn entries_key(&mut self, code: KeyCode, control: bool) {
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

    fn choose(&mut self, found: Found, code: KeyCode, recall: bool) {
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

    fn record_key(&mut self, code: KeyCode) {
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

    /// Takes the mouse: a click chooses, the wheel scrolls.
    pub fn mouse(&mut self, event: MouseEvent) {
        let (x, y) = (event.column, event.row);
        match event.kind {
            MouseEventKind::ScrollUp | MouseEventKind::ScrollDown => {
                let down = event.kind == MouseEventKind::ScrollDown;
                let step = if down { 3 } else { -3 };
                let rows = self.reads_rows();
                match &mut self.over {
                    Over::Guide { top, .. } | Over::Record { top } => {
                        *top = top.saturating_add_signed(step);
                    }
                    Over::Entries { .. } => {
                        self.entries_key(if down { KeyCode::Down } else { KeyCode::Up }, false);
                    }
                    Over::Nothing if rows => self.move_row(step as i64),
                    Over::Nothing => self.scroll_text(step, 0),
                }
            }
            MouseEventKind::Down(MouseButton::Left) => self.click(x, y),
            _ => {}
        }
    }

    fn click(&mut self, x: u16, y: u16) {
        if let Some((_, place)) = self.spots.list.iter().find(|(line, _)| *line == y).copied() {
            match &mut self.over {
                Over::Guide { topic, search, top } => {
                    (*topic, *top) = (place, 0);
                    search.clear();
                }
                Over::Entries { at, .. } if *at == place => self.entries_key(KeyCode::Enter, false),
                Over::Entries { at, .. } => *at = place,
                Over::Nothing if self.choices.open => {
                    self.choices.at = place;
                    self.accept();
                }
                _ => {}
            }
            return;
        }
        if self.over != Over::Nothing || self.desk.question().is_some() {
            return;
        }
        let spots = &self.spots;
        if let Some((.., place)) = spots
            .entries
            .iter()
            .find(|(line, from, to, _)| *line == y && (*from..*to).contains(&x))
        {
            self.desk.show(*place);
            self.cleared = false;
            return;
        }
        let column = spots
            .columns
            .iter()
            .find(|(from, to, _)| (*from..*to).contains(&x))
            .map(|c| c.2);
        if let (Some((line, first, count)), Some(column)) = (spots.rows, column) {
            let names = spots.names;
            if y >= line && u64::from(y - line) < count {
                self.focus = Focus::Read;
                if let Some(grid) = self.grid() {
                    grid.row = first + u64::from(y - line);
                    grid.column = column;
                }
                return;
            }
            if y == names {
                self.focus = Focus::Read;
                if let Some(grid) = self.grid() {
                    grid.column = column;
                }
                return;
            }
        }
        if y >= spots.composer {
            self.focus = Focus::Write;
            let (left, top) = spots.text;
            let line = usize::from(y - spots.composer) + top;
            let dialect = self.desk.dialect();
            let lines = self.composer.analysis(dialect).lines.clone();
            if let Some(start) = lines.get(line) {
                let end = lines
                    .get(line + 1)
                    .map_or(self.composer.text().len(), |next| next - 1);
                let mut width = 0;
                let mut at = *start;
                for character in self.composer.text()[*start..end].chars() {
                    if width >= usize::from(x.saturating_sub(left)) {
                        break;
                    }
                    width += unicode_width::UnicodeWidthChar::width(character).unwrap_or(1);
                    at += character.len_utf8();
                }
                self.composer.set_cursor(at);
            }
            self.choices.open = false;
        }
    }
}
