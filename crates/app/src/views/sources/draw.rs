//! The sources: open sessions, saved ones, servers found on this machine; and the form of a saved one.

use idle_tide_desk::Tone;
use idle_tide_desk::settings::Tone as SourceTone;
use ratatui::Frame;
use ratatui::layout::Rect;

use super::super::paint::{Painter, list_line};
use super::form::{FIELDS, Form};
use super::{SourceLine, Sources};
use crate::app::App;
use crate::theme::Ground;

/// The tone of a source in colours.
fn tone_of(tone: SourceTone) -> Tone {
    match tone {
        SourceTone::Calm => Tone::Active,
        SourceTone::Care => Tone::Care,
        SourceTone::Danger => Tone::Danger,
    }
}

/// Draws the view.
pub(super) fn draw(app: &mut App, frame: &mut Frame<'_>, area: Rect, view: &Sources) {
    if area.height < 2 {
        return;
    }
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground: Ground::Air,
    };
    if let Some(form) = &view.form {
        return draw_form(&mut p, area, form);
    }
    let lines = view.lines(app);
    let state_at = area.x + area.width * 2 / 3;
    let name_width = 22.min(area.width / 4);
    let height = usize::from(area.height);
    // A heading stands before the first line of each group.
    let mut rows: Vec<(Option<usize>, &str)> = Vec::new();
    let mut last = "";
    for (at, line) in lines.iter().enumerate() {
        let group = line.group();
        if group != last {
            if !rows.is_empty() {
                rows.push((None, ""));
            }
            rows.push((None, group));
            last = group;
        }
        rows.push((Some(at), ""));
    }
    let chosen = rows
        .iter()
        .position(|(at, _)| *at == Some(view.at))
        .unwrap_or(0);
    let top = (chosen + 2).saturating_sub(height);
    let mut spots = Vec::new();
    for (n, (at, heading)) in rows.iter().skip(top).take(height).enumerate() {
        let y = area.y + n as u16;
        let Some(at) = at else {
            p.ground = Ground::Air;
            p.text(
                area.x + 4,
                y,
                area.width.saturating_sub(6),
                Tone::Heading,
                heading,
            );
            continue;
        };
        let marked = *at == view.at;
        list_line(&mut p, area, y, marked);
        let Some((name, tone, place, state)) = words(app, view, &lines[*at]) else {
            continue;
        };
        let room = state_at.saturating_sub(area.x + 8 + name_width);
        p.text(area.x + 6, y, name_width, tone, &name);
        p.text(area.x + 7 + name_width, y, room, Tone::Plain, &place);
        p.text(
            state_at,
            y,
            area.right().saturating_sub(state_at + 3),
            state.1,
            &state.0,
        );
        spots.push((y, *at));
    }
    p.ground = Ground::Air;
    if app.desk.is_looking() && rows.len() + 1 < height {
        p.text(
            area.x + 4,
            area.y + rows.len() as u16 + 1,
            area.width,
            Tone::Faint,
            "Looking at this machine …",
        );
    }
    app.spots.list = spots;
}

/// What stands in a line: the name and its tone, where it is, how it is; `None` if it is gone.
fn words(
    app: &App,
    view: &Sources,
    line: &SourceLine,
) -> Option<(String, Tone, String, (String, Tone))> {
    let (found, answers) = app.desk.found();
    Some(match line {
        SourceLine::Open(number) => {
            let session = app.desk.sessions().find(|s| s.number() == *number)?;
            let b = session.bearings();
            let place = match &b.server {
                Some(server) => format!(
                    "{} as {}",
                    server.place,
                    server.user.split('@').next().unwrap_or_default()
                ),
                None => b.place.clone().unwrap_or_else(|| "in memory".into()),
            };
            let state = if session.is_lost() {
                ("connection lost".to_string(), Tone::Danger)
            } else if session.asks() {
                ("asks something".to_string(), Tone::Care)
            } else if session.is_busy() {
                ("running".to_string(), Tone::Active)
            } else if b.transaction.is_some() {
                ("transaction open".to_string(), Tone::Care)
            } else if *number == app.desk.session().number() {
                ("you are here".to_string(), Tone::Active)
            } else {
                ("open".to_string(), Tone::Faint)
            };
            let database = if b.server.is_some() && !b.database.is_empty() {
                format!("{}, ", b.database)
            } else {
                String::new()
            };
            (
                session.name().to_string(),
                tone_of(session.tone()),
                format!("{database}{place}"),
                state,
            )
        }
        SourceLine::Saved(name) => {
            let saved = view.settings.sources.get(name)?;
            let state = match answers.iter().find(|(n, _)| n == name) {
                Some((_, true)) => ("answers".to_string(), Tone::Faint),
                Some((_, false)) => ("does not answer".to_string(), Tone::Care),
                None if saved.via.is_some() || saved.through.is_some() => {
                    ("has a way in; not tried".to_string(), Tone::Faint)
                }
                None => (String::new(), Tone::Faint),
            };
            let mut state = state;
            if saved.writes.as_deref() == Some("none") {
                state.0 = format!("{} · reads only", state.0)
                    .trim_start_matches(" · ")
                    .to_string();
            }
            (
                name.clone(),
                tone_of(saved.tone.unwrap_or_default()),
                saved.address.clone(),
                state,
            )
        }
        SourceLine::Found(n) => {
            let found = found.get(*n)?;
            let says = if found.says.is_empty() {
                String::new()
            } else {
                format!(" {}", found.says)
            };
            (
                format!("{}{says}", found.family),
                Tone::Plain,
                found.place.clone(),
                ("listens".to_string(), Tone::Faint),
            )
        }
        SourceLine::Demo(name) => (
            (*name).to_string(),
            Tone::Plain,
            match *name {
                "demo" => "the practice harbour, Brackwater Haven",
                _ => "its documents: landings, hull surveys, the watch log",
            }
            .to_string(),
            ("always here".to_string(), Tone::Faint),
        ),
    })
}

fn draw_form(p: &mut Painter<'_>, area: Rect, form: &Form) {
    let heading = match &form.before {
        Some(name) => format!("Change {name}"),
        None => "A new source".to_string(),
    };
    p.text(
        area.x + 4,
        area.y,
        area.width.saturating_sub(6),
        Tone::Heading,
        &heading,
    );
    let step = if area.height >= 24 { 2 } else { 1 };
    for (n, field) in FIELDS.iter().enumerate() {
        let y = area.y + 2 + n as u16 * step;
        if y >= area.bottom() {
            return;
        }
        let marked = n == form.at;
        list_line(p, area, y, marked);
        p.text(
            area.x + 6,
            y,
            18,
            if marked { Tone::Heading } else { Tone::Faint },
            field.label,
        );
        let x = area.x + 26;
        let room = area.right().saturating_sub(x + 3);
        let value = form.shown(n);
        if value.is_empty() {
            p.text(x + u16::from(marked), y, room, Tone::Faint, field.example);
        } else {
            p.text(x, y, room, Tone::Plain, &value);
        }
        if marked && field.words.is_empty() {
            use unicode_width::UnicodeWidthStr;
            let at = x + (value.width() as u16).min(room.saturating_sub(1));
            p.text(at, y, 1, Tone::Active, "▏");
        } else if marked {
            let at = x + value.chars().count() as u16 + 2;
            p.text(
                at,
                y,
                area.right().saturating_sub(at + 3),
                Tone::Faint,
                "← → another",
            );
        }
    }
    p.ground = Ground::Air;
    let y = area.y + 3 + FIELDS.len() as u16 * step;
    if y < area.bottom() && !form.wrong.is_empty() {
        p.text(
            area.x + 6,
            y,
            area.width.saturating_sub(8),
            Tone::Danger,
            &form.wrong,
        );
    }
}
