//! The drawing of tables and links: as much of it as fits, the table at hand in sight.

use idle_tide_desk::links::LEGEND;
use idle_tide_desk::{Line, Links, Tone};
use idle_tide_draw::links::{Area, Ink, Layout};
use ratatui::Frame;
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::paint::Painter;
use crate::app::{App, Looking};
use crate::theme::Ground;

/// Draws the current entry's drawing.
pub(super) fn draw(app: &mut App, frame: &mut Frame<'_>, area: Rect) {
    let Some(entry) = app.desk.entry() else {
        return;
    };
    let number = entry.number;
    let Some(links) = entry.links() else {
        return;
    };
    let mut words = head(links);
    words.truncate(usize::from(area.height / 3).max(1));
    let foot = u16::from(area.height > 6);
    let gap = u16::from(area.height > 12);
    let top = words.len() as u16 + gap;
    let body = Rect::new(
        area.x + 2,
        area.y + top,
        area.width.saturating_sub(4),
        area.height.saturating_sub(top + foot + gap),
    );
    let state = app.drawings.entry(number).or_default();
    let layout = &links.drawing.layout;
    let (width, height) = (usize::from(body.width), usize::from(body.height));
    bring_into_sight(state, layout, width, height);
    let state = *state;
    let window = Area {
        x: state.x,
        y: state.y,
        width,
        height,
    };
    let reading = app.focus == crate::app::Focus::Read;
    let lit = links.lit(reading.then_some(state.at));
    let cells = links.drawing.cells(window, &lit);
    let chosen: Vec<usize> = links.chosen.clone();
    let tables = links.tables.clone();
    let focus = links.focus.clone();
    let (whole_width, whole_height) = (layout.width, layout.height);
    app.page = body.height.into();
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    for (n, line) in words.iter().enumerate() {
        p.line(
            area.x + 4,
            area.y + n as u16,
            area.width.saturating_sub(6),
            0,
            line,
        );
    }
    for (dy, row) in cells.iter().enumerate() {
        for (dx, cell) in row.iter().enumerate() {
            if cell.ink == Ink::Bare {
                continue;
            }
            p.ground = match cell.plate {
                Some(at) if at == state.at && reading => Ground::Selected,
                Some(_) => Ground::Shade,
                None => Ground::Air,
            };
            let of_interest = cell.plate.is_some_and(|at| {
                chosen.contains(&tables[at]) || chosen.is_empty() && focus.contains(&tables[at])
            });
            let tone = match cell.ink {
                Ink::Title if of_interest => Tone::Active,
                Ink::Title => Tone::Heading,
                Ink::Faint => Tone::Faint,
                Ink::Line => Tone::Picture,
                Ink::Lit => Tone::Active,
                _ => Tone::Plain,
            };
            let (x, y) = (body.x + dx as u16, body.y + dy as u16);
            if cell.symbol.is_empty() {
                continue;
            }
            let style = p.style(tone);
            let wide = cell.symbol.width() as u16;
            if x + wide <= body.right() {
                p.buffer.set_stringn(x, y, &cell.symbol, wide.into(), style);
            }
        }
    }
    p.ground = Ground::Air;
    if foot > 0 {
        let more = [
            (state.x > 0, "←"),
            (state.y > 0, "↑"),
            (state.y + height < whole_height, "↓"),
            (state.x + width < whole_width, "→"),
        ];
        draw_foot(&mut p, area, &more);
    }
    app.spots.drawing = Some((body, state.x, state.y));
}

/// The lines above a drawing: its ways and what was checked, or what it is of.
fn head(links: &Links) -> Vec<Line> {
    let mut words: Vec<Line> = links.way_words();
    words.extend(links.checked_words());
    if words.is_empty() {
        let mut line = Line::new().and(Tone::Heading, links.title());
        if !links.focus.is_empty() {
            let more = format!(
                "   up to {} away",
                match links.distance {
                    1 => "1 link".to_string(),
                    n => format!("{n} links"),
                }
            );
            line = line.and(Tone::Faint, more);
        }
        words.push(line);
    }
    words
}

/// Scrolls so that the table at hand is in sight whole, with a little around it.
fn bring_into_sight(state: &mut Looking, layout: &Layout, width: usize, height: usize) {
    state.at = state.at.min(layout.plates.len().saturating_sub(1));
    if let Some(plate) = layout.plates.get(state.at).filter(|_| state.follow) {
        let within = |from: &mut usize, start: usize, length: usize, room: usize| {
            let end = start + length + 2;
            if end > *from + room {
                *from = end.saturating_sub(room);
            }
            *from = (*from).min(start.saturating_sub(2));
        };
        within(&mut state.x, plate.x, plate.width, width);
        within(&mut state.y, plate.y, plate.height, height);
    }
    state.x = state.x.min(layout.width.saturating_sub(width));
    state.y = state.y.min(layout.height.saturating_sub(height));
}

/// The legend, and where there is more.
fn draw_foot(p: &mut Painter<'_>, area: Rect, more: &[(bool, &str)]) {
    let y = area.bottom() - 1;
    let more: Vec<&str> = more
        .iter()
        .filter(|(there, _)| *there)
        .map(|(_, sign)| *sign)
        .collect();
    let words = match more.is_empty() {
        true => String::new(),
        false => format!("more: {}", more.join(" ")),
    };
    let taken = words.width() as u16;
    let room = area.width.saturating_sub(taken + 10);
    p.text(area.x + 4, y, room, Tone::Faint, LEGEND);
    p.text(
        area.right().saturating_sub(taken + 3),
        y,
        taken,
        Tone::Faint,
        &words,
    );
}
