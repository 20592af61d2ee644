//! A picture of a result: as much as the screen has room for, the mark that is looked at, and what it says.

use idle_tide_desk::Tone;
use idle_tide_draw::chart::{Ink, Role};
use ratatui::Frame;
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::paint::Painter;
use crate::app::{App, Focus};
use crate::theme::Ground;

/// Draws the current entry's picture.
pub(super) fn draw(app: &mut App, frame: &mut Frame<'_>, area: Rect, roomy: bool) {
    app.desk.renew_chart();
    let Some(entry) = app.desk.entry() else {
        return;
    };
    let number = entry.number;
    let Some(chart) = entry.chart() else {
        return;
    };
    let foot = 1 + u16::from(roomy);
    let body = Rect::new(
        area.x + 4,
        area.y,
        area.width.saturating_sub(7),
        area.height.saturating_sub(foot),
    );
    let Some(scene) = chart.scene(body.width.into(), body.height.into()) else {
        return;
    };
    let mut marked = app.charts.remove(&number).unwrap_or_default();
    marked.at = marked.at.min(scene.hits.len().saturating_sub(1));
    let reading = app.focus == Focus::Read && app.is_bare();
    let hit = scene.hits.get(marked.at).filter(|_| reading);
    let within = |x: usize, y: usize| {
        hit.is_some_and(|hit| {
            let (left, top, width, height) = hit.area;
            let columns = left.floor()..(left + width).ceil();
            let rows = top.floor()..(top + height).ceil();
            columns.contains(&(x as f64)) && rows.contains(&(y as f64))
        })
    };
    let series = app.theme;
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    for (dy, row) in scene.cells().iter().enumerate() {
        for (dx, cell) in row.iter().enumerate() {
            let (x, y) = (body.x + dx as u16, body.y + dy as u16);
            p.ground = if within(dx, dy) {
                Ground::Cell
            } else {
                Ground::Air
            };
            if cell.symbol.is_empty() || (cell.ink == Ink::Bare && p.ground == Ground::Air) {
                continue;
            }
            let style = match cell.ink {
                Ink::Series(at) | Ink::Text(Role::Series(at)) => match p.ground {
                    Ground::Air => series.series(at),
                    ground => series
                        .series(at)
                        .patch(ratatui::style::Style::new().bg(series.ground(ground))),
                },
                Ink::Ground | Ink::Bare => p.style(Tone::Faint),
                Ink::Text(Role::Title) => p.style(Tone::Heading),
                Ink::Text(Role::Note | Role::Tick) => p.style(Tone::Faint),
                Ink::Text(Role::Label) => p.style(Tone::Plain),
                Ink::Text(Role::Value) => p.style(Tone::Number),
            };
            let wide = cell.symbol.width() as u16;
            if x + wide <= body.right() {
                p.buffer.set_stringn(x, y, &cell.symbol, wide.into(), style);
            }
        }
    }
    p.ground = Ground::Air;
    let y = area.bottom().saturating_sub(1);
    let room = area.width.saturating_sub(6);
    if let Some(hit) = scene.hits.get(marked.at) {
        let tone = if reading { Tone::Active } else { Tone::Faint };
        p.text(area.x + 2, y, 1, tone, "▌");
        p.text(area.x + 4, y, room, Tone::Plain, &hit.words);
    }
    app.page = body.height.into();
    marked.hits = scene.hits;
    app.charts.insert(number, marked);
}
