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
                let rows = self.reads_rows();
                let drawing = self.reads_links();
                match &mut self.over {
                    Over::Guide { top, .. } | Over::Record { top } => {
                        *top = top.saturating_add_signed(step);
                    }
                    Over::Document(paper) => paper.at = paper.at.saturating_add_signed(step),
                    Over::Catalog => self.catalog.step(step),
                    Over::Entries { .. } => {
                        self.entries_key(if down { KeyCode::Down } else { KeyCode::Up }, false);
                    }
                    Over::Sources(_) => {
                        self.sources_key(if down { KeyCode::Down } else { KeyCode::Up }, false);
                    }
                    Over::Nothing if rows => self.move_row(step as i64),
                    Over::Nothing if drawing => {
                        let number = self.desk.entry().map_or(0, |entry| entry.number);
                        let state = self.drawings.entry(number).or_default();
                        state.follow = false;
                        state.y = state.y.saturating_add_signed(step);
                    }
                    Over::Nothing => self.scroll_text(step, 0),
                }
            }
            MouseEventKind::Down(MouseButton::Left) => self.click(x, y),
            _ => {}
        }
    }

    pub(super) fn click(&mut self, x: u16, y: u16) {
        let place = ratatui::layout::Position::new(x, y);
        if self.over == Over::Catalog {
            let spot = self
                .spots
                .catalog
                .iter()
                .find(|(_, area, _)| area.contains(place))
                .copied();
            if let Some((column, _, at)) = spot {
                let marked = match column {
                    0 => self.catalog.shelves.at,
                    1 => self.catalog.objects.at,
                    _ => self.catalog.parts.at,
                };
                let again = self.catalog.focus == column && marked == at;
                self.catalog.focus = column;
                self.catalog.step(at as isize - marked as isize);
                if again {
                    self.catalog_key(KeyCode::Enter, false);
                }
            }
            return;
        }
        if let (Over::Nothing, Some((area, left, top))) = (&self.over, self.spots.drawing)
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
        if let Some((_, place)) = self.spots.list.iter().find(|(line, _)| *line == y).copied() {
            match &mut self.over {
                Over::Guide { topic, search, top } => {
                    (*topic, *top) = (place, 0);
                    search.clear();
                }
                Over::Entries { at, .. } if *at == place => self.entries_key(KeyCode::Enter, false),
                Over::Entries { at, .. } => *at = place,
                Over::Sources(view) if view.form.is_none() && view.at == place => {
                    self.sources_key(KeyCode::Enter, false);
                }
                Over::Sources(view) if view.form.is_none() => view.at = place,
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
