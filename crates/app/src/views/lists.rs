//! Views that lie over the desk: the guide and the entries.

use idle_tide_desk::{Line, State, Tone};
use ratatui::Frame;
use ratatui::layout::Rect;

use super::paint::Painter;
use crate::app::{App, Found, one_line};
use crate::guide::{self, TOPICS};
use crate::theme::Ground;

fn title(p: &mut Painter<'_>, area: Rect, name: &str, search: &str, idle: &str) {
    let mut x = area.x + 4;
    x += p.text(x, area.y, 20, Tone::Active, name) + 3;
    let room = area.right().saturating_sub(x + 2);
    if search.is_empty() {
        p.text(x, area.y, room, Tone::Faint, idle);
    } else {
        x += p.text(x, area.y, room, Tone::Active, search);
        p.text(x, area.y, 1, Tone::Active, "▏");
    }
}

/// Topics on the left, the text of one on the right.
pub(super) fn guide(
    app: &mut App,
    frame: &mut Frame<'_>,
    area: Rect,
    topic: usize,
    search: &str,
    top: usize,
) {
    if area.height < 3 {
        return;
    }
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    title(&mut p, area, "Guide", search, "type to search");
    let y = area.y + 2;
    let height = area.height.saturating_sub(3);
    let left = 16_u16;
    let narrow = area.width < 60;
    let x = if narrow {
        area.x + 4
    } else {
        area.x + 4 + left + 3
    };
    let mut spots = Vec::new();
    if !narrow {
        let first = topic.saturating_sub(usize::from(height).saturating_sub(1));
        for (at, name) in TOPICS.iter().enumerate().skip(first).take(height.into()) {
            let line = y + (at - first) as u16;
            let chosen = at == topic && search.is_empty();
            p.ground = if chosen {
                Ground::Selected
            } else {
                Ground::Air
            };
            if chosen {
                p.fill(Rect::new(area.x + 2, line, left + 2, 1));
                p.text(area.x + 2, line, 1, Tone::Active, "▌");
            }
            let tone = if chosen { Tone::Heading } else { Tone::Plain };
            p.text(area.x + 4, line, left, tone, name);
            spots.push((line, at));
        }
        p.ground = Ground::Air;
    }
    let room = area.right().saturating_sub(x + 3);
    let width = usize::from(room).min(96);
    let page = if search.is_empty() {
        guide::page(TOPICS[topic.min(TOPICS.len() - 1)], width, &app.keymap)
    } else {
        guide::search(search, width, &app.keymap)
    };
    let top = top.min(page.lines.len().saturating_sub(usize::from(height)));
    for (at, line) in page.lines.iter().skip(top).take(height.into()).enumerate() {
        p.line(x, y + at as u16, room, 0, line);
    }
    let rest = page.lines.len().saturating_sub(top + usize::from(height));
    if rest > 0 {
        let words = format!("{rest} more lines · PgDn");
        p.text(x, area.bottom() - 1, room, Tone::Faint, &words);
    }
    app.spots.list = spots;
    if let crate::app::Over::Guide { top: state, .. } = &mut app.over {
        *state = top;
    }
}

/// Entries of this session, newest first, then statements of earlier ones.
pub(super) fn entries(
    app: &mut App,
    frame: &mut Frame<'_>,
    area: Rect,
    search: &str,
    at: usize,
    recall: bool,
) {
    if area.height < 3 {
        return;
    }
    let list = app.found_entries(search);
    let heading = if recall {
        "Search statements"
    } else {
        "Entries"
    };
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    title(&mut p, area, heading, search, "type to search");
    // The chosen statement in full below the list, where there is room.
    let preview = if area.height >= 22 { 9 } else { 0 };
    let height = usize::from(area.height.saturating_sub(2 + preview));
    // Headings take lines too.
    let mut lines: Vec<(Option<usize>, String)> = Vec::new();
    let mut earlier = false;
    for (place, found) in list.iter().enumerate() {
        if matches!(found, Found::Earlier(_)) && !earlier {
            earlier = true;
            if place > 0 {
                lines.push((None, String::new()));
            }
            lines.push((None, "Earlier sessions".into()));
        }
        lines.push((Some(place), String::new()));
    }
    if list.is_empty() {
        p.text(
            area.x + 4,
            area.y + 2,
            area.width.saturating_sub(6),
            Tone::Faint,
            "Nothing fits the search.",
        );
        return;
    }
    let chosen = lines
        .iter()
        .position(|(place, _)| *place == Some(at))
        .unwrap_or(0);
    let top = chosen.saturating_sub(height.saturating_sub(2));
    let mut spots = Vec::new();
    let outcome = area.x + area.width * 2 / 3;
    for (n, (place, words)) in lines.iter().skip(top).take(height).enumerate() {
        let y = area.y + 2 + n as u16;
        let Some(place) = place else {
            p.text(area.x + 4, y, area.width, Tone::Heading, words);
            continue;
        };
        let marked = *place == at;
        p.ground = if marked {
            Ground::Selected
        } else {
            Ground::Air
        };
        if marked {
            p.fill(Rect::new(area.x + 2, y, area.width.saturating_sub(4), 1));
            p.text(area.x + 2, y, 1, Tone::Active, "▌");
        }
        let room = outcome.saturating_sub(area.x + 12);
        match list[*place] {
            Found::Entry(number) => {
                let entry = &app.desk.entries()[number];
                let (words, tone) = entry.words();
                let number = format!("{:>4}", entry.number);
                p.text(area.x + 4, y, 5, Tone::Active, &number);
                let tone_of_text = if entry.state == State::Failed {
                    Tone::Faint
                } else {
                    Tone::Plain
                };
                p.text(
                    area.x + 10,
                    y,
                    room,
                    tone_of_text,
                    &one_line(&entry.text, room.into()),
                );
                p.text(
                    outcome,
                    y,
                    area.right().saturating_sub(outcome + 3),
                    tone,
                    &words,
                );
            }
            Found::Earlier(item) => {
                let item = &app.desk.history().earlier()[item];
                p.text(
                    area.x + 10,
                    y,
                    room,
                    Tone::Plain,
                    &one_line(&item.text, room.into()),
                );
                p.text(
                    outcome,
                    y,
                    area.right().saturating_sub(outcome + 3),
                    Tone::Faint,
                    &item.source,
                );
            }
        }
        spots.push((y, *place));
        p.ground = Ground::Air;
    }
    if preview > 0
        && let Some(found) = list.get(at)
    {
        let text = match *found {
            Found::Entry(place) => app.desk.entries()[place].text.clone(),
            Found::Earlier(place) => app.desk.history().earlier()[place].text.clone(),
        };
        let y = area.bottom().saturating_sub(preview);
        let all: Vec<Line> = idle_tide_desk::page::sql_lines(&text, app.desk.dialect());
        let shown = usize::from(preview) - 2;
        for (n, line) in all.iter().take(shown).enumerate() {
            p.line(
                area.x + 10,
                y + 1 + n as u16,
                area.width.saturating_sub(14),
                0,
                line,
            );
        }
        if all.len() > shown {
            let words = format!("{} more lines", all.len() - shown);
            p.text(area.x + 10, area.bottom() - 1, 30, Tone::Faint, &words);
        }
    }
    app.spots.list = spots;
}
