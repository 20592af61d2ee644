//! What the result area shows: rows, a text, or an error.

use idle_tide_desk::{Content, Failure, Line, Page, Tone, Wanted};
use idle_tide_draw::marks::show_text;
use ratatui::Frame;
use ratatui::layout::Rect;

use super::grid;
use super::links;
use super::paint::Painter;
use crate::app::App;
use crate::guide::wrap;
use crate::theme::Ground;

/// Draws the current entry's content.
pub(super) fn result(app: &mut App, frame: &mut Frame<'_>, area: Rect, roomy: bool) {
    if area.height == 0 {
        return;
    }
    if app.asks_to_leave {
        let mut page = Page::new();
        for session in app.desk.sessions().filter(|s| s.holds_something()) {
            let name = session.name();
            match session.held() {
                Some(held) => {
                    page.say(
                        Tone::Heading,
                        format!("A change is held on {name}: {}.", held.what),
                    );
                    page.say(Tone::Plain, "Leaving now takes it back. /keep keeps it.");
                }
                None => {
                    page.say(Tone::Heading, format!("A transaction is open on {name}."));
                    page.say(
                        Tone::Plain,
                        "Leaving now takes back what it changed. commit; keeps it.",
                    );
                }
            }
            page.gap();
        }
        text(app, frame, area, &page);
        return;
    }
    let content = app.desk.entry().map(|entry| &entry.content);
    match content {
        Some(Content::Rows(_)) => {
            let below = above(app, frame, area, roomy);
            grid::draw(app, frame, below, roomy);
        }
        Some(Content::Links(_)) => links::draw(app, frame, area),
        Some(Content::Stages(_)) => super::stages::draw(app, frame, area),
        Some(Content::Chart(_)) => super::chart::draw(app, frame, area, roomy),
        Some(Content::Page(page)) => {
            let page = match page.sentences {
                true => page.wrapped(usize::from(area.width.saturating_sub(8)).max(20)),
                false => page.clone(),
            };
            text(app, frame, area, &page);
        }
        Some(Content::Failure(failure)) => {
            let width = usize::from(area.width.saturating_sub(8));
            let in_composer = app.mending;
            let submitted = app
                .desk
                .entry()
                .map_or(String::new(), |entry| entry.text.clone());
            let page = failure_page(failure, &submitted, in_composer, width);
            text(app, frame, area, &page);
        }
        _ => {}
    }
}

/// Draws what stands above rows; answers what is left for them. They keep at least half.
fn above(app: &mut App, frame: &mut Frame<'_>, area: Rect, roomy: bool) -> Rect {
    let Some(page) = app.desk.entry().and_then(idle_tide_desk::Entry::head) else {
        return area;
    };
    let page = page.wrapped(usize::from(area.width.saturating_sub(8)).max(20));
    let lines = (page.lines.len() as u16).min(area.height / 2);
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    // What has no room is counted.
    let hidden = page.lines.len() - usize::from(lines);
    let more = Line::new().and(Tone::Faint, format!("and {} more lines", hidden + 1));
    for (at, line) in page.lines.iter().take(lines.into()).enumerate() {
        let y = area.y + at as u16;
        let last = hidden > 0 && at + 1 == usize::from(lines);
        let line = if last { &more } else { line };
        p.line(area.x + 4, y, area.width.saturating_sub(6), 0, line);
    }
    let taken = lines + u16::from(roomy && lines > 0);
    Rect {
        y: area.y + taken,
        height: area.height.saturating_sub(taken),
        ..area
    }
}

/// What is asked with hidden input, or to be allowed.
pub(super) fn asking(app: &mut App, frame: &mut Frame<'_>, area: Rect) {
    let Some(asking) = app.desk.asking() else {
        return;
    };
    let width = usize::from(area.width.saturating_sub(8));
    let mut page = Page::new();
    for line in wrap(&asking.what, width) {
        page.say(Tone::Heading, line);
    }
    page.gap();
    for detail in &asking.details {
        for line in wrap(detail, width) {
            page.say(Tone::Plain, line);
        }
    }
    match asking.wanted {
        Wanted::Secret => {
            page.line(
                Line::new()
                    .and(Tone::Active, "▏")
                    .and(Tone::Faint, "what you type here shows nowhere"),
            );
        }
        Wanted::Value => {
            page.gap();
            page.line(
                Line::new()
                    .and(Tone::Plain, show_text(&app.hidden, 10_000).text())
                    .and(Tone::Active, "▏"),
            );
        }
        Wanted::Consent => {}
    }
    text(app, frame, area, &page);
}

/// A text that scrolls both ways.
fn text(app: &mut App, frame: &mut Frame<'_>, area: Rect, page: &Page) {
    let number = app.desk.entry().map_or(0, |entry| entry.number);
    let (top, left) = app.texts.entry(number).or_default();
    let height = usize::from(area.height);
    *top = (*top).min(page.lines.len().saturating_sub(height));
    let widest = page
        .lines
        .iter()
        .map(|line| line.text().chars().count())
        .max()
        .unwrap_or(0);
    *left = (*left).min(widest.saturating_sub(usize::from(area.width.saturating_sub(8))));
    let (top, left) = (*top, *left);
    let found = app.found_lines.get(&number).copied();
    app.page = area.height.into();
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    for (at, line) in page.lines.iter().skip(top).take(height).enumerate() {
        let is_found = found == Some(top + at);
        p.ground = if is_found {
            Ground::Selected
        } else {
            Ground::Air
        };
        if is_found {
            let y = area.y + at as u16;
            p.fill(Rect::new(area.x + 2, y, area.width.saturating_sub(4), 1));
        }
        p.line(
            area.x + 4,
            area.y + at as u16,
            area.width.saturating_sub(6),
            left,
            line,
        );
    }
    p.ground = Ground::Air;
    let rest = page.lines.len().saturating_sub(top + height);
    if rest > 0 {
        let words = format!(" {rest} more lines · PgDn ");
        let width = words.chars().count() as u16;
        p.text(
            area.right().saturating_sub(width + 2),
            area.bottom() - 1,
            width,
            Tone::Faint,
            &words,
        );
    }
}

/// What is wrong, what would mend it, what the server said, what was changed.
fn failure_page(failure: &Failure, submitted: &str, in_composer: bool, width: usize) -> Page {
    let mut page = Page::new();
    for line in wrap(&failure.headline, width) {
        page.say(Tone::Heading, line);
    }
    // Elsewhere the place is marked in the composer; here only when the text is not there.
    if !in_composer && let Some(place) = &failure.place {
        page.gap();
        excerpt(&mut page, submitted, place);
    }
    if !failure.corrections.is_empty() {
        page.gap();
        let widest = failure
            .corrections
            .iter()
            .map(|c| c.label.chars().count())
            .max()
            .unwrap_or(0);
        for (at, correction) in failure.corrections.iter().enumerate() {
            page.line(
                Line::new()
                    .column(Tone::Faint, if at == 0 { "Nearest" } else { "" }, 18)
                    .column(Tone::Active, correction.label.clone(), widest + 3)
                    .and(Tone::Plain, correction.detail.clone()),
            );
        }
    }
    if let Some((message, code)) = &failure.said {
        page.gap();
        for (at, line) in wrap(message, width.saturating_sub(30))
            .into_iter()
            .enumerate()
        {
            let mut said = Line::new()
                .column(
                    Tone::Faint,
                    match (at, failure.by_system) {
                        (0, false) => "The server said",
                        (0, true) => "The system said",
                        _ => "",
                    },
                    18,
                )
                .and(Tone::Plain, line);
            if at == 0 {
                said = said.and(Tone::Number, format!("  {code}"));
            }
            page.line(said);
        }
    }
    for (at, note) in failure.notes.iter().enumerate() {
        if at == 0 {
            page.gap();
        }
        let before = if at == 0 { "Before that" } else { "" };
        for (line, words) in wrap(note, width.saturating_sub(20)).into_iter().enumerate() {
            page.line(
                Line::new()
                    .column(Tone::Faint, if line == 0 { before } else { "" }, 18)
                    .and(Tone::Plain, words),
            );
        }
    }
    if !failure.changed.is_empty() {
        page.gap();
        for line in wrap(&failure.changed, width) {
            page.say(Tone::Plain, line);
        }
    }
    page
}

/// The line of the text that holds the place, with the place marked.
fn excerpt(page: &mut Page, text: &str, place: &std::ops::Range<usize>) {
    let start = place.start.min(text.len());
    if !text.is_char_boundary(start) {
        return;
    }
    let from = text[..start].rfind('\n').map_or(0, |at| at + 1);
    let to = text[start..].find('\n').map_or(text.len(), |at| start + at);
    let end = place.end.clamp(start, to);
    if !text.is_char_boundary(end) {
        return;
    }
    page.line(
        Line::new()
            .and(Tone::Plain, &text[from..start])
            .and(Tone::Danger, &text[start..end])
            .and(Tone::Plain, &text[end..to]),
    );
}
