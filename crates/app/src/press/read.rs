//! What keys do while reading rows or a text, and in the prompt that reading asks for.

use idle_tide_desk::loading::{Change, Reading};
use idle_tide_lang::command::quoted;

use super::*;
use crate::app::Grid;

impl App {
    pub(super) fn neighbour(&mut self, next: bool) {
        let at = self.desk.current();
        self.desk
            .show(if next { at + 1 } else { at.saturating_sub(1) });
        self.cleared = false;
        self.prompt = None;
    }

    pub(super) fn page_key(&mut self, down: bool) {
        if self.reads_rows() {
            let page = self.page.max(1);
            self.move_row(if down { page as i64 } else { -(page as i64) });
        } else {
            self.scroll_text(if down { 10 } else { -10 }, 0);
        }
    }

    pub(crate) fn move_row(&mut self, by: i64) {
        let row = self.grid().map_or(0, |grid| grid.row);
        self.go_to_row(row.saturating_add_signed(by));
    }

    pub(crate) fn move_column(&mut self, by: isize) {
        let shown = self.shown_columns();
        if let Some(grid) = self.grid() {
            grid.column = grid
                .column
                .saturating_add_signed(by)
                .min(shown.saturating_sub(1));
        }
    }

    pub(super) fn shown_columns(&self) -> usize {
        self.desk
            .entry()
            .and_then(|e| e.sheet())
            .map_or(0, |s| s.view.columns.len())
    }

    pub(super) fn scroll_text(&mut self, lines: isize, columns: isize) {
        if let Some(number) = self.desk.entry().map(|entry| entry.number) {
            let (top, left) = self.texts.entry(number).or_default();
            *top = top.saturating_add_signed(lines);
            *left = left.saturating_add_signed(columns);
        }
    }

    /// Runs the command that a reading key stands for; it is not kept in the history.
    pub(crate) fn command(&mut self, text: &str) {
        let before = self.desk.entries().len();
        self.desk.hush();
        self.desk.submit_piece(text, true, Vec::new());
        self.settle(before);
    }

    pub(super) fn read_key(&mut self, code: KeyCode, control: bool) {
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
                self.put_offer_away();
                if self.composer.text().is_empty() {
                    self.from_reading = true;
                    self.composer.insert("/");
                    self.complete(false);
                }
                return;
            }
            (KeyCode::F(5), _) if self.reads_proposal() => return self.load_proposal(),
            (KeyCode::F(5), _) => return self.run(),
            (KeyCode::Char('k' | 'K'), false) if self.desk.session().held().is_some() => {
                return self.command("/keep");
            }
            (KeyCode::Char('t' | 'T'), false) if self.desk.session().held().is_some() => {
                return self.command("/take-back");
            }
            (KeyCode::Char(','), false) => return self.neighbour(false),
            (KeyCode::Char('.'), false) => return self.neighbour(true),
            (KeyCode::Char('a' | 'A'), false) => return self.command("/again"),
            (KeyCode::Backspace, _) => return self.desk.step_back(),
            (KeyCode::Char('r' | 'R'), false) => return self.command("/reopen"),
            (KeyCode::Char('e' | 'E'), false) => {
                let number = self.desk.entry().map_or(0, |entry| entry.number);
                return self.command(&format!("/recall {number}"));
            }
            _ => {}
        }
        if self.reads_links() {
            return self.links_key(code, control);
        }
        if self.reads_stages() {
            return self.stages_key(code);
        }
        if self.reads_chart() {
            return self.chart_key(code);
        }
        if !self.reads_rows() {
            return self.text_key(code, control);
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
            (KeyCode::Enter, _) if self.reads_proposal() => self.change_cell(),
            (KeyCode::Char('s' | 'S'), false) => self.read_otherwise(Reading::Separator),
            (KeyCode::Char('h' | 'H'), false) => self.read_otherwise(Reading::Header),
            (KeyCode::Char('q' | 'Q'), false) => self.read_otherwise(Reading::Quotes),
            (KeyCode::Char('y' | 'Y'), false) => self.read_otherwise(Reading::Encoding),
            (KeyCode::Enter, _) => self.open_record(),
            (KeyCode::Char('f'), true) => self.prompt = Some(Prompt::Find(String::new())),
            (KeyCode::Char('n' | 'N'), false) => self.find(false),
            (KeyCode::Char('p' | 'P'), false) => self.find(true),
            (KeyCode::Char('g' | 'G'), false) => self.prompt = Some(Prompt::Row(String::new())),
            (KeyCode::Char('o' | 'O'), false) => self.order(),
            (KeyCode::Char('f' | 'F'), false) => self.freeze(),
            (KeyCode::Char('x' | 'X'), false) => self.hide_column(),
            (KeyCode::Char('u' | 'U'), false) => self.command("/columns --all"),
            (KeyCode::Char('l' | 'L'), false) => self.follow(None),
            (KeyCode::Char('c' | 'C'), false) => self.command("/clipboard"),
            (KeyCode::Char('d' | 'D'), false) => self.command("/compare"),
            (KeyCode::Char('i' | 'I'), false) => self.picture_of_column(),
            (KeyCode::Char('b' | 'B'), false) => {
                self.beside = !self.beside;
                let words = match self.beside {
                    true => "The figures of the column stand beside the rows, where there is room.",
                    false => "Nothing stands beside the rows.",
                };
                self.desk.say(words, Tone::Plain);
            }
            (KeyCode::Char('w' | 'W'), false) => {
                let live = self.desk.entry().and_then(|entry| entry.live.as_ref());
                let goes_on = live.is_some_and(|live| live.goes_on());
                self.command(if goes_on { "/live stop" } else { "/live" });
            }
            (KeyCode::Char(' '), false) => self.mark(),
            (KeyCode::Char('m' | 'M'), false) => self.mark_to_here(),
            (KeyCode::Char('['), false) => self.shift_column(-1),
            (KeyCode::Char(']'), false) => self.shift_column(1),
            _ => {}
        }
    }

    /// Keeps the first column in its place, or lets it scroll again.
    fn freeze(&mut self) {
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

    /// Hides the current column, unless it is the last.
    fn hide_column(&mut self) {
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

    /// Whether the rows that are read are a proposal for a file.
    pub(crate) fn reads_proposal(&self) -> bool {
        let entry = self.desk.entry().filter(|_| self.reads_rows());
        entry.is_some_and(|entry| entry.proposed.is_some())
    }

    /// Loads a file as it is proposed in the entry that is shown.
    fn load_proposal(&mut self) {
        let proposed = self.desk.entry().and_then(|entry| entry.proposed.as_ref());
        let Some(text) = proposed.and_then(|of| of.loads()).map(str::to_string) else {
            let words =
                "There is nothing to load yet: what stands in the way has to be settled first.";
            return self.desk.say(words, Tone::Care);
        };
        self.put_offer_away();
        self.focus = Focus::Write;
        self.submit(&text);
    }

    /// Changes the current cell of a proposal; opens its record where there is nothing to change.
    fn change_cell(&mut self) {
        let grid = self.grid().map_or_else(Grid::default, |grid| grid.clone());
        let entry = self.desk.entry();
        let place = entry.and_then(|entry| {
            let sheet = entry.sheet()?;
            let row = sheet.row_number(grid.row)?;
            Some((row, *sheet.view.columns.get(grid.column)?))
        });
        let proposed = entry.and_then(|entry| entry.proposed.as_ref());
        let change = proposed
            .zip(place)
            .and_then(|(of, (row, column))| of.change(row, column));
        match change {
            Some(change) => self.change_proposal(change),
            None => self.open_record(),
        }
    }

    /// Changes how the file of a proposal is read; says so where there is no such thing.
    fn read_otherwise(&mut self, what: Reading) {
        let proposed = self.desk.entry().and_then(|entry| entry.proposed.as_ref());
        match proposed.map(|of| of.read_otherwise(what)) {
            Some(Some(change)) => self.change_proposal(change),
            Some(None) => {
                let words =
                    "This file has no values between separators; there is one way to read it.";
                self.desk.say(words, Tone::Plain);
            }
            None => {}
        }
    }

    /// Changes a proposal: at once where there are two ways, else by an option that is begun in the composer.
    fn change_proposal(&mut self, change: Change) {
        let grid = self.grid().map_or_else(Grid::default, |grid| grid.clone());
        self.proposal_at = Grid {
            row: grid.row,
            column: grid.column,
            ..Grid::default()
        };
        match change {
            Change::Run(text) => self.command(&text),
            Change::Complete(text) => {
                let end = text.find('\n').unwrap_or(text.len());
                self.composer.set(&text);
                self.composer.set_cursor(end);
                self.focus = Focus::Write;
                self.complete(true);
            }
        }
    }

    /// Draws the current column.
    fn picture_of_column(&mut self) {
        let at = self.grid().map_or(0, |grid| grid.column);
        let sheet = self.desk.entry().and_then(|entry| entry.sheet());
        let label = sheet.and_then(|sheet| {
            let column = sheet.view.columns.get(at)?;
            sheet.labels.get(*column).cloned()
        });
        if let Some(label) = label {
            self.command(&format!("/chart --of {}", quoted(&label)));
        }
    }

    /// Marks the current row, or takes its mark away, and goes on to the next.
    fn mark(&mut self) {
        let row = self.grid().map_or(0, |grid| grid.row);
        let sheet = self.desk.entry().and_then(|entry| entry.sheet());
        let Some(number) = sheet.and_then(|sheet| sheet.row_number(row)) else {
            return;
        };
        if let Some(grid) = self.grid() {
            if grid.marked.remove(&number) {
                grid.last_marked = None;
            } else {
                grid.marked.insert(number);
                grid.last_marked = Some(row);
            }
        }
        self.say_marked();
        self.move_row(1);
    }

    /// Marks the rows from the one marked last to the current one.
    fn mark_to_here(&mut self) {
        let (row, last) = self
            .grid()
            .map_or((0, None), |grid| (grid.row, grid.last_marked));
        let from = last.unwrap_or(row);
        let sheet = self.desk.entry().and_then(|entry| entry.sheet());
        let Some(sheet) = sheet else {
            return;
        };
        let rows = from.min(row)..=from.max(row);
        let numbers: Vec<u64> = rows.filter_map(|at| sheet.row_number(at)).collect();
        if let Some(grid) = self.grid() {
            grid.marked.extend(numbers);
            grid.last_marked = Some(row);
        }
        self.say_marked();
    }

    fn say_marked(&mut self) {
        let count = self.grid().map_or(0, |grid| grid.marked.len());
        let words = match count {
            0 => "No row is marked.".to_string(),
            1 => "1 row is marked; C copies it.".into(),
            many => format!("{many} rows are marked; C copies them."),
        };
        self.desk.say(words, Tone::Plain);
    }

    /// Follows the link of the current cell.
    pub(crate) fn follow(&mut self, table: Option<&str>) {
        let (row, at) = self.grid().map_or((0, 0), |grid| (grid.row, grid.column));
        let sheet = self.desk.entry().and_then(|entry| entry.sheet());
        let column = sheet.and_then(|sheet| sheet.view.columns.get(at).copied());
        let before = self.desk.entries().len();
        self.desk.follow(row, column.unwrap_or(0), table);
        self.focus = Focus::Read;
        self.settle(before);
    }

    pub(super) fn change_view(&mut self, change: impl FnOnce(&mut idle_tide_desk::View, usize)) {
        let at = self.grid().map_or(0, |grid| grid.column);
        if let Some(sheet) = self.desk.sheet_mut()
            && at < sheet.view.columns.len()
        {
            change(&mut sheet.view, at);
        }
    }

    pub(super) fn shift_column(&mut self, by: isize) {
        let count = self.shown_columns();
        let at = self.grid().map_or(0, |grid| grid.column);
        let to = at.saturating_add_signed(by);
        if to < count && to != at {
            self.change_view(|view, at| view.columns.swap(at, to));
            self.move_column(by);
        }
    }

    pub(super) fn order(&mut self) {
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

    pub(super) fn text_key(&mut self, code: KeyCode, control: bool) {
        let page = self.page.max(2) as isize - 1;
        match code {
            KeyCode::Char('c' | 'C') if !control => self.command("/clipboard result"),
            KeyCode::Char('f') if control => self.prompt = Some(Prompt::Find(String::new())),
            KeyCode::Char('n' | 'N') => self.find(false),
            KeyCode::Char('p' | 'P') => self.find(true),
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

    pub(super) fn prompt_key(&mut self, code: KeyCode, control: bool) {
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

    /// Finds the next line of a text that holds what is searched.
    fn find_in_text(&mut self, back: bool) {
        let Some(entry) = self.desk.entry() else {
            return;
        };
        let Content::Page(page) = &entry.content else {
            return;
        };
        let (number, wanted) = (entry.number, self.found.to_lowercase());
        let holds = |at: &usize| page.lines[*at].text().to_lowercase().contains(&wanted);
        let count = page.lines.len();
        let from = self.found_lines.get(&number).copied();
        // Round and round, from the line after the last one found.
        let start = match (from, back) {
            (Some(at), false) => at + 1,
            (Some(at), true) => at + count.saturating_sub(1),
            (None, _) => 0,
        };
        let found = (0..count)
            .map(|step| match back {
                false => (start + step) % count,
                true => (start + count - step) % count,
            })
            .find(holds);
        match found {
            Some(at) => {
                self.found_lines.insert(number, at);
                let room = self.page.max(4) as usize;
                let (top, _) = self.texts.entry(number).or_default();
                if at < *top || at + 2 > *top + room {
                    *top = at.saturating_sub(room / 3);
                }
                self.desk.hush();
            }
            None => {
                let words = format!("No line holds {}.", self.found);
                self.desk.say(words, Tone::Care);
            }
        }
    }

    pub(super) fn find(&mut self, back: bool) {
        if self.found.is_empty() {
            self.prompt = Some(Prompt::Find(String::new()));
            return;
        }
        if !self.reads_rows() {
            return self.find_in_text(back);
        }
        let from = self.grid().map_or((0, 0), |grid| (grid.row, grid.column));
        self.desk.find(&self.found, from, back);
    }
}
