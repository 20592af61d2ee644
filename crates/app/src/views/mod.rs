//! Drawing: one frame from the state of the screen. Only what is visible is looked at; nothing is waited
//! for.

mod bars;
mod beside;
pub mod catalog;
pub mod chart;
mod composer;
mod document;
mod entries;
mod grid;
mod guide;
mod links;
mod pages;
pub mod paint;
mod record;
pub mod sources;
mod stages;
pub mod view;

use ratatui::Frame;
use ratatui::layout::Rect;

use crate::app::{App, Focus, Spots};
use crate::theme::Ground;
use view::Act;

/// How the screen is shared out; parts without room have no height.
struct Shares {
    bearings: Rect,
    entry: Rect,
    result: Rect,
    tide: Rect,
    strip: Rect,
    composer: Rect,
    hints: Rect,
    /// Whether there is room for blank lines.
    roomy: bool,
}

fn share(app: &mut App, area: Rect) -> Shares {
    let height = area.height;
    let roomy = height >= 30;
    let writing = app.focus == Focus::Write && app.is_bare() && app.desk.asking().is_none();
    let dialect = app.desk.dialect();
    let lines = app.composer.analysis(dialect).lines.len() as u16;
    let mut strip = 0;
    if writing && height >= 20 {
        strip = bars::strip_lines(app).min(if roomy { 5 } else { 2 });
    }
    // The lower part rises as far as the statement needs, and no further than half the screen.
    let wanted = if !writing {
        1
    } else if roomy {
        lines + 6
    } else if height >= 16 {
        lines + 2
    } else {
        lines
    };
    let hints = u16::from(height >= 8);
    let half = (height / 2).max(1);
    let composer = wanted
        .min(half.saturating_sub(strip))
        .max(1)
        .min(height.saturating_sub(1));
    let bearings = u16::from(height >= 3);
    let tide = u16::from(height >= 6);
    let gap = u16::from(roomy);
    let entry = u16::from(height >= 5);
    let mut y = area.y;
    let mut take = |lines: u16| {
        let rect = Rect::new(
            area.x,
            y,
            area.width,
            lines.min((area.y + height).saturating_sub(y)),
        );
        y += rect.height;
        rect
    };
    let bearings = take(bearings);
    take(gap);
    let entry = take(entry);
    take(gap);
    let used = bearings.height + entry.height + 2 * gap + tide + strip + composer + hints;
    let result = take(height.saturating_sub(used));
    Shares {
        bearings,
        entry,
        result,
        tide: take(tide),
        strip: take(strip),
        composer: take(composer),
        hints: take(hints),
        roomy,
    }
}

/// Draws the screen.
pub fn draw(app: &mut App, frame: &mut Frame<'_>) {
    let area = frame.area();
    if area.width == 0 || area.height == 0 {
        return;
    }
    app.spots = Spots::default();
    let shares = share(app, area);
    let ground = app.theme.style(Ground::Air, idle_tide_desk::Tone::Plain);
    frame.buffer_mut().set_style(area, ground);
    bars::bearings(app, frame, shares.bearings);
    let body = Rect::new(
        area.x,
        shares.entry.y,
        area.width,
        shares.tide.y.max(shares.entry.y) - shares.entry.y,
    );
    let over = app.views().last();
    if app.desk.asking().is_some() || over.is_none_or(|view| view.is_about_entry()) {
        bars::entry_line(app, frame, shares.entry);
    }
    if app.desk.asking().is_some() {
        pages::asking(app, frame, shares.result);
    } else if app.is_bare() {
        if !app.cleared {
            pages::result(app, frame, shares.result, shares.roomy);
        }
    } else {
        app.with_view(|view, app| {
            let area = if view.is_about_entry() {
                shares.result
            } else {
                body
            };
            view.draw(app, frame, area);
            ((), Act::Stay)
        });
    }
    bars::tide(app, frame, shares.tide);
    bars::strip(app, frame, shares.strip);
    composer::draw(app, frame, shares.composer, shares.roomy, area);
    bars::hints(app, frame, shares.hints);
}
