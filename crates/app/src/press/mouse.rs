//! What the mouse does: a click chooses, the wheel scrolls.

use super::*;

impl App {
    /// Takes the mouse: a click chooses, the wheel scrolls.
    pub fn mouse(&mut self, event: MouseEvent) {
        let (x, y) = (event.column, event.row);
        match event.kind {
            MouseEventKind::ScrollUp | MouseEventKind::ScrollDown => {
                let down = event.kind == MouseEventKind::ScrollDown;
                let step = if down { 3 } else { -3 };
                let scrolled = self.with_view(|view, app| {
                    view.scroll(app, step);
                    ((), Act::Stay)
                });
                if scrolled.is_some() {
                    return;
                }
                if self.reads_rows() {
                    self.move_row(step as i64);
                } else if self.reads_links() {
                    let number = self.desk.entry().map_or(0, |entry| entry.number);
                    let state = self.drawings.entry(number).or_default();
                    state.follow = false;
                    state.y = state.y.saturating_add_signed(step);
                } else {
                    self.scroll_text(step, 0);
                }
            }
            MouseEventKind::Down(MouseButton::Left) => self.click(x, y),
            _ => {}
        }
    }

    pub(super) fn click(&mut self, x: u16, y: u16) {
        let place = ratatui::layout::Position::new(x, y);
        if let Some(()) = self.with_view(|view, app| ((), view.click(app, place))) {
            return;
        }
        if let Some((area, left, top)) = self.spots.drawing
            && area.contains(place)
        {
            let (x, y) = (
                usize::from(x - area.x) + left,
                usize::from(y - area.y) + top,
            );
            let entry = self.desk.entry();
            let plate = entry
                .and_then(|e| e.links())
                .and_then(|links| links.drawing.plate_at(x, y));
            if let (Some(plate), Some(number)) = (plate, entry.map(|entry| entry.number)) {
                self.focus = Focus::Read;
                self.drawings.entry(number).or_default().at = plate;
            }
            return;
        }
        if let Some(place) = self.spots.line(y) {
            if self.choices.open {
                self.choices.at = place;
                self.accept();
            }
            return;
        }
        if self.desk.question().is_some() {
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
