//! A flow stage by stage: the stages with their numbers on the left, samples of what passed and of what was dropped on the right; stacked on a
//! narrow screen.

use idle_tide_core::result::ResultSet;
use idle_tide_desk::Tone;
use idle_tide_desk::covering::{Covering, WORD};
use idle_tide_desk::stages::Stages;
use idle_tide_draw::marks::{Look, covered, show_text, show_value};
use idle_tide_draw::picture::{grouped, lasting};
use ratatui::Frame;
use ratatui::layout::Rect;

use super::grid::tone_of;
use super::paint::Painter;
use crate::app::{App, Focus};
use crate::theme::Ground;

/// Draws the stages of the current entry.
pub(super) fn draw(app: &App, frame: &mut Frame<'_>, area: Rect) {
    let Some(stages) = app.desk.entry().and_then(|e| e.stages()) else {
        return;
    };
    let reading = app.focus == Focus::Read;
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    let wide = area.width >= 110;
    let left = if wide { area.width / 2 } else { area.width };
    let count = stages.flow.stages.len() + 1;
    let roomy = wide && usize::from(area.height) >= count * 3 + 4;
    let list = list(
        &mut p,
        stages,
        Rect {
            width: left,
            ..area
        },
        roomy,
        reading,
    );
    let right = if wide {
        Rect {
            x: area.x + left + 3,
            width: area.width - left - 5,
            ..area
        }
    } else {
        let top = (list + 1).min(area.bottom());
        Rect {
            y: top,
            height: area.bottom().saturating_sub(top + 1),
            x: area.x + 4,
            width: area.width.saturating_sub(6),
        }
    };
    samples(&mut p, stages, app.desk.covering(), right);
    let y = area.bottom().saturating_sub(1);
    p.text(
        area.x + 4,
        y,
        left.saturating_sub(4),
        Tone::Faint,
        &stages.stated(),
    );
}

/// The stages; gives the line after the last.
fn list(p: &mut Painter<'_>, stages: &Stages, area: Rect, roomy: bool, reading: bool) -> u16 {
    let step = if roomy { 3 } else { 1 };
    let numbers = area.right().saturating_sub(if roomy { 20 } else { 40 });
    let most = (0..=stages.flow.stages.len())
        .filter_map(|at| stages.numbers(at))
        .map(|(_, went)| went)
        .max()
        .unwrap_or(1)
        .max(1);
    p.text(area.x + 4, area.y, 12, Tone::Heading, "stage");
    p.text(numbers, area.y, 9, Tone::Heading, &format!("{:>9}", "in"));
    p.text(
        numbers + 10,
        area.y,
        9,
        Tone::Heading,
        &format!("{:>9}", "out"),
    );
    let room = usize::from(area.height.saturating_sub(if roomy { 3 } else { 2 })) / step;
    let first = (stages.at + 1).saturating_sub(room.max(1));
    let mut y = area.y + if roomy { 2 } else { 1 };
    for at in first..=stages.flow.stages.len() {
        if y + step as u16 > area.bottom() {
            break;
        }
        let here = at == stages.at;
        p.ground = if here && reading {
            Ground::Cell
        } else {
            Ground::Air
        };
        let height = if roomy { 2 } else { 1 };
        if here {
            p.fill(Rect::new(
                area.x + 2,
                y,
                area.width.saturating_sub(3),
                height,
            ));
            for line in 0..height {
                p.text(area.x + 2, y + line, 1, Tone::Active, "▌");
            }
        }
        let (word, rest) = stages.words(at);
        let out = at > 0 && stages.left_out.contains(&(at - 1));
        let failed = stages.failed.as_ref().is_some_and(|(n, _)| n + 1 == at);
        let tone = if failed {
            Tone::Danger
        } else if out {
            Tone::Faint
        } else {
            Tone::Heading
        };
        p.text(area.x + 4, y, 10, tone, &word);
        let width = numbers.saturating_sub(area.x + 16);
        p.text(
            area.x + 15,
            y,
            width,
            if out { Tone::Faint } else { Tone::Plain },
            &show_text(&rest, usize::from(width)).text(),
        );
        counts(p, stages, at, Rect { y, ..area }, most, roomy);
        y += step as u16;
    }
    p.ground = Ground::Air;
    y
}

/// The numbers of a stage: what came and went, and where there is room what that is of the most; `area` begins at its
/// line.
fn counts(p: &mut Painter<'_>, stages: &Stages, at: usize, area: Rect, most: u64, roomy: bool) {
    let y = area.y;
    let numbers = area.right().saturating_sub(if roomy { 20 } else { 40 });
    let out = at > 0 && stages.left_out.contains(&(at - 1));
    let change = stages.change(at);
    match stages.numbers(at) {
        Some((came, went)) => {
            if at > 0 {
                p.text(
                    numbers,
                    y,
                    9,
                    Tone::Number,
                    &format!("{:>9}", grouped(came)),
                );
            }
            p.text(
                numbers + 10,
                y,
                9,
                Tone::Number,
                &format!("{:>9}", grouped(went)),
            );
            if roomy {
                let width = (went as f64 / most as f64 * 22.0).ceil() as u16;
                p.text(
                    area.x + 15,
                    y + 1,
                    width,
                    Tone::Picture,
                    &"▀".repeat(usize::from(width)),
                );
                let took = at
                    .checked_sub(1)
                    .and_then(|n| stages.counts[n].as_ref())
                    .map(|c| lasting(c.took))
                    .unwrap_or_default();
                let words = [change, took]
                    .into_iter()
                    .filter(|w| !w.is_empty())
                    .collect::<Vec<_>>()
                    .join(" · ");
                p.text(
                    area.x + 16 + width,
                    y + 1,
                    area.right().saturating_sub(area.x + 17 + width),
                    Tone::Faint,
                    &words,
                );
            } else {
                p.text(numbers + 20, y, 18, Tone::Faint, &change);
            }
        }
        None => {
            let words = if out { "left out" } else { "–" };
            p.text(numbers + 10, y, 9, Tone::Faint, &format!("{words:>9}"));
        }
    }
}

fn samples(p: &mut Painter<'_>, stages: &Stages, covering: &Covering, area: Rect) {
    if area.height < 3 || area.width < 20 {
        return;
    }
    if let Some((at, words)) = &stages.failed
        && at + 1 == stages.at
    {
        for (n, line) in crate::guide::wrap(words, usize::from(area.width))
            .into_iter()
            .enumerate()
        {
            p.text(area.x, area.y + n as u16, area.width, Tone::Danger, &line);
        }
        return;
    }
    if stages.shows_compiled {
        p.text(area.x, area.y, area.width, Tone::Heading, "compiled");
        let compiled = match stages.at {
            0 => "the collection that is asked".to_string(),
            at => stages.compiled[at - 1].clone(),
        };
        for (n, line) in crate::guide::wrap(&compiled, usize::from(area.width))
            .into_iter()
            .enumerate()
        {
            p.text(
                area.x,
                area.y + 2 + n as u16,
                area.width,
                Tone::Plain,
                &line,
            );
        }
        return;
    }
    let (passed, dropped) = stages.samples();
    let (word, rest) = stages.words(stages.at);
    let Some((came, went)) = stages.numbers(stages.at).filter(|_| stages.at > 0) else {
        p.text(
            area.x,
            area.y,
            area.width,
            Tone::Faint,
            "Choose a stage to see what passed it and what it dropped.",
        );
        return;
    };
    let gone = came.saturating_sub(went);
    let has_dropped = !dropped.is_empty();
    let half = if has_dropped {
        area.height / 2
    } else {
        area.height
    };
    let title = show_text(
        &format!("passed: {word} {rest}"),
        usize::from(area.width.saturating_sub(18)),
    )
    .text();
    table(
        p,
        Rect {
            height: half.saturating_sub(1),
            ..area
        },
        (&title, &passed, went),
        covering,
    );
    if has_dropped {
        table(
            p,
            Rect {
                y: area.y + half,
                height: area.height - half,
                ..area
            },
            ("dropped here", &dropped, gone),
            covering,
        );
    }
}

/// A few rows under their names.
fn table(
    p: &mut Painter<'_>,
    area: Rect,
    (title, set, all): (&str, &ResultSet, u64),
    covering: &Covering,
) {
    if area.height < 2 {
        return;
    }
    // Where there is little room the rows matter more than the kinds and the air.
    let (names, kinds, rows) = match area.height {
        0..8 => (1, None, 2),
        _ => (2, Some(3), 4),
    };
    let body = u64::from(area.height.saturating_sub(rows)).min(set.len());
    let took = p.text(area.x, area.y, area.width, Tone::Heading, title);
    let words = format!("{body} of {}", grouped(all));
    p.text(
        area.x + took + 3,
        area.y,
        area.width.saturating_sub(took + 3),
        Tone::Faint,
        &words,
    );
    let mut x = area.x;
    for (at, column) in set.columns().iter().enumerate() {
        let cells: Vec<_> = (0..body)
            .filter_map(|row| set.locate(row).ok())
            .map(|(batch, within)| match covering.covers(&column.name) {
                true => covered(WORD),
                false => show_value(batch.row(within).get(at), 24),
            })
            .collect();
        let kind = column.declared.clone().unwrap_or_default();
        let name = show_text(&column.name, 24);
        let width = cells
            .iter()
            .map(|c| c.width)
            .chain([name.width, show_text(&kind, 14).width])
            .max()
            .unwrap_or(1) as u16;
        if x + width > area.right() {
            p.text(
                area.right().saturating_sub(1),
                area.y + names,
                1,
                Tone::Faint,
                "…",
            );
            return;
        }
        let right = cells.iter().any(|c| c.look == Look::Number);
        let place = |inner: usize| {
            if right {
                x + width - (inner as u16).min(width)
            } else {
                x
            }
        };
        p.text(
            place(name.width),
            area.y + names,
            width,
            Tone::Heading,
            &name.text(),
        );
        let kind = show_text(&kind, 14);
        if let Some(kinds) = kinds {
            let x = place(kind.width);
            p.text(x, area.y + kinds, width, Tone::Faint, &kind.text());
        }
        for (n, cell) in cells.iter().enumerate() {
            p.shown(
                place(cell.width),
                area.y + rows + n as u16,
                tone_of(cell.look),
                cell,
            );
        }
        x += width + 2;
    }
}
