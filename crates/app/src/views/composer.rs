//! The composer: numbered lines in the tones of their tokens, what is open, what is wrong, and the list at
//! the cursor.

use std::ops::Range;

use idle_tide_desk::Tone;
use idle_tide_desk::page::tone_of;
use idle_tide_draw::marks::show_label;
use idle_tide_lang::complete::Offer;
use idle_tide_lang::{Dialect, TokenKind};
use ratatui::Frame;
use ratatui::layout::{Position, Rect};
use ratatui::style::Modifier;
use unicode_segmentation::UnicodeSegmentation;
use unicode_width::UnicodeWidthStr;

use super::paint::Painter;
use crate::app::{App, Focus, Prompt};
use crate::composer::Analysis;
use crate::theme::{Ground, Theme};

/// Columns before the text: margin, bar, number.
const GUTTER: u16 = 8;

/// Draws the composer and puts the cursor; `screen` is the whole screen.
pub(super) fn draw(app: &mut App, frame: &mut Frame<'_>, area: Rect, roomy: bool, screen: Rect) {
    if area.height == 0 {
        return;
    }
    let theme = app.theme;
    Painter {
        buffer: frame.buffer_mut(),
        theme,
        ground: Ground::Water,
    }
    .fill(area);
    if let Some(prompt) = &app.prompt {
        return draw_prompt(prompt, theme, frame, area);
    }
    let writing = app.focus == Focus::Write && app.is_bare() && app.desk.asking().is_none();
    let pad = u16::from(roomy && writing && area.height > 2);
    let gutter = if area.width < 40 { 5 } else { GUTTER };
    let first_line = area.y + pad;
    let height = usize::from(area.height.saturating_sub(pad));
    let room = usize::from(area.width.saturating_sub(gutter + 1));
    let (line, column) = app.composer.place();
    // Keep the cursor in sight, with the list below it where there is room.
    let keep = if writing && height > 6 { 4 } else { 0 };
    let mut top = app.composer_top.min(line);
    if line + 1 + keep > top + height {
        top = line + 1 + keep - height;
    }
    app.composer_top = top;
    let dialect = app.desk.dialect();
    let text = app.composer.text().to_string();
    let analysis = app.composer.analysis(dialect).clone();
    let start = analysis.lines[line.min(analysis.lines.len() - 1)];
    let before = show_label(&text[start..start + column], usize::MAX / 4).width;
    let left = before.saturating_sub(room.saturating_sub(1));
    let open_from = analysis.open.first().map(|open| open.line - 1);
    let marked = app
        .marked
        .as_ref()
        .filter(|(revision, _)| *revision == app.composer.revision())
        .map(|(_, place)| place.clone());
    let marked_line = marked.as_ref().map(|place| {
        analysis
            .lines
            .partition_point(|start| *start <= place.start)
            - 1
    });
    let is_command = text.trim_start().starts_with('/') && !text.trim_start().starts_with("/*");
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme,
        ground: Ground::Water,
    };
    for (n, (index, start)) in analysis
        .lines
        .iter()
        .copied()
        .enumerate()
        .skip(top)
        .take(height)
        .enumerate()
    {
        let y = first_line + n as u16;
        let end = analysis
            .lines
            .get(index + 1)
            .map_or(text.len(), |next| next - 1);
        let number = (index + 1).to_string();
        let x = (area.x + gutter).saturating_sub(number.len() as u16 + 2);
        p.text(x, y, 6, Tone::Faint, &number);
        let bar = if marked_line == Some(index) {
            Some(Tone::Danger)
        } else if writing && open_from.is_some_and(|from| index >= from) && !text.is_empty() {
            Some(Tone::Care)
        } else {
            None
        };
        if let Some(tone) = bar {
            p.text(area.x + 2, y, 1, tone, "▌");
        }
        let line = Line {
            text: &text,
            analysis: &analysis,
            marked: marked.as_ref(),
            command: is_command && index == 0,
            is_command,
            span: start..end,
            dialect,
        };
        draw_line(&mut p, &line, (area.x + gutter, y), left, room);
    }
    if text.is_empty() && writing {
        let words = "a statement and ;   / a command   = a calculation";
        p.text(
            area.x + gutter + 1,
            first_line,
            room as u16,
            Tone::Faint,
            words,
        );
    }
    app.spots.composer = first_line;
    app.spots.text = (area.x + gutter, top);
    if !writing || app.desk.question().is_some() {
        return;
    }
    let x = area.x + gutter + (before - left) as u16;
    let y = first_line + (line - top) as u16;
    if y < area.bottom() {
        frame.set_cursor_position(Position::new(x.min(area.right() - 1), y));
    }
    if app.choices.open && !app.choices.is_empty() {
        choices(app, frame, Position::new(x, y), area, screen);
    }
}

/// A line of what is typed.
struct Line<'a> {
    text: &'a str,
    analysis: &'a Analysis,
    marked: Option<&'a Range<usize>>,
    /// Whether a command's name stands in it.
    command: bool,
    is_command: bool,
    span: Range<usize>,
    dialect: &'static Dialect,
}

/// Draws the tokens of a line from column `left` on.
fn draw_line(
    p: &mut Painter<'_>,
    line: &Line<'_>,
    (left_edge, y): (u16, u16),
    left: usize,
    room: usize,
) {
    let (start, end) = (line.span.start, line.span.end);
    // Tokens that reach into this line.
    let mut x = 0_usize;
    let from = line
        .analysis
        .tokens
        .partition_point(|token| token.end <= start);
    for (place, token) in line.analysis.tokens.iter().enumerate().skip(from) {
        if token.start >= end || x > left + room {
            break;
        }
        let (a, b) = (token.start.max(start), token.end.min(end));
        let mut tone = tone_of(&line.analysis.tokens, place, line.text, line.dialect);
        if line.command && token.start < line.text.find(' ').unwrap_or(line.text.len()) {
            tone = Tone::Active;
        }
        if token.kind == TokenKind::Word && line.is_command && tone == Tone::Heading {
            tone = Tone::Plain;
        }
        if line.analysis.open.iter().any(|open| open.at == token.start) {
            tone = Tone::Care;
        }
        for (piece, wrong) in pieces(a, b, line.marked) {
            let shown = show_label(&line.text[piece.clone()], usize::MAX / 4);
            let tone = if wrong { Tone::Danger } else { tone };
            for cluster in shown.runs.iter().flat_map(|run| run.text.graphemes(true)) {
                let wide = cluster.width();
                if x >= left && x + wide <= left + room && wide > 0 {
                    let at = left_edge + (x - left) as u16;
                    let mut style = p.style(tone);
                    if wrong {
                        style = style.add_modifier(Modifier::BOLD | Modifier::UNDERLINED);
                    }
                    p.buffer.set_stringn(at, y, cluster, wide, style);
                }
                x += wide;
            }
        }
    }
}

/// Draws the line that is asked for while reading.
fn draw_prompt(prompt: &Prompt, theme: Theme, frame: &mut Frame<'_>, area: Rect) {
    let (label, text) = match prompt {
        Prompt::Find(text) => ("find", text),
        Prompt::Row(text) => ("go to row", text),
    };
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme,
        ground: Ground::Water,
    };
    let mut x = area.x + 4;
    x += p.text(x, area.y, 20, Tone::Active, label) + 2;
    x += p.text(
        x,
        area.y,
        area.right().saturating_sub(x + 2),
        Tone::Plain,
        text,
    );
    frame.set_cursor_position(Position::new(x.min(area.right() - 1), area.y));
}

/// A stretch of text cut at the ends of the marked place.
fn pieces(
    from: usize,
    to: usize,
    marked: Option<&std::ops::Range<usize>>,
) -> Vec<(std::ops::Range<usize>, bool)> {
    let Some(marked) = marked else {
        return vec![(from..to, false)];
    };
    let (a, b) = (marked.start.clamp(from, to), marked.end.clamp(from, to));
    [(from..a, false), (a..b, true), (b..to, false)]
        .into_iter()
        .filter(|(span, _)| !span.is_empty())
        .collect()
}

/// The list at the cursor.
fn choices(app: &mut App, frame: &mut Frame<'_>, cursor: Position, area: Rect, screen: Rect) {
    let list: Vec<(String, String, Offer)> = if app.choices.corrections.is_empty() {
        let all = &app.choices.completion.candidates;
        all.iter()
            .map(|c| (c.label.clone(), c.detail.clone(), c.offer))
            .collect()
    } else {
        let all = &app.choices.corrections;
        all.iter()
            .map(|c| (c.label.clone(), c.detail.clone(), Offer::Column))
            .collect()
    };
    let typed = if app.choices.corrections.is_empty() {
        app.choices.completion.span.len()
    } else {
        app.marked.as_ref().map_or(0, |(_, place)| place.len())
    };
    let below = screen
        .bottom()
        .saturating_sub(cursor.y + 2)
        .min(area.bottom().saturating_sub(cursor.y + 1) + 1);
    let above = cursor.y.saturating_sub(screen.y + 1);
    // The list of commands is for looking through: it opens upwards when there is more room.
    let commands = list.iter().all(|(_, _, offer)| *offer == Offer::Command);
    let enough = if commands {
        list.len()
    } else {
        4.min(list.len())
    };
    let (height, up) = if usize::from(below) >= enough || below >= above {
        (below, false)
    } else {
        (above, true)
    };
    let most = if commands { 14 } else { 10 };
    let height = usize::from(height).min(list.len()).min(most);
    if height == 0 {
        return;
    }
    let widths =
        |f: &dyn Fn(&(String, String, Offer)) -> usize| list.iter().map(f).max().unwrap_or(0);
    let labels = widths(&|c| show_label(&c.0, 36).width);
    let details = widths(&|c| show_label(&c.1, 60).width);
    let width = ((labels + details + 5) as u16).min(screen.width.saturating_sub(2));
    let x = cursor
        .x
        .saturating_sub(typed as u16 + 1)
        .min(screen.right().saturating_sub(width + 1))
        .max(screen.x);
    let top = app.choices.at.saturating_sub(height - 1);
    let y = if up {
        cursor.y - height as u16
    } else {
        cursor.y + 1
    };
    let hidden = list.len().saturating_sub(top + height);
    let more = format!("{hidden} more");
    let mut spots = Vec::new();
    for (n, (label, detail, offer)) in list.iter().enumerate().skip(top).take(height) {
        let line = y + (n - top) as u16;
        let chosen = n == app.choices.at;
        let mut p = Painter {
            buffer: frame.buffer_mut(),
            theme: app.theme,
            ground: if chosen { Ground::Cell } else { Ground::Shade },
        };
        p.fill(Rect::new(x, line, width, 1));
        let tone = match offer {
            Offer::Keyword => Tone::Heading,
            Offer::Command => Tone::Active,
            _ => Tone::Plain,
        };
        p.text(x + 1, line, 36, tone, label);
        let at = x + labels as u16 + 3;
        // The last line says how many more there are.
        let last = n + 1 == top + height && hidden > 0;
        let taken = if last { more.len() as u16 + 3 } else { 1 };
        let room = (x + width).saturating_sub(at + taken);
        p.text(at, line, room, Tone::Faint, detail);
        if last {
            let at = (x + width).saturating_sub(taken - 2);
            p.text(at, line, taken, Tone::Faint, &more);
        }
        spots.push((line, n));
    }
    app.spots.list = spots;
}
