//! The lines around the result and the composer: bearings, entry line, tide line, scope strip, hints.

use idle_tide_desk::settings::Tone as SourceTone;
use idle_tide_desk::{Session, State, Tone, arrival};
use idle_tide_draw::picture::{bytes, counted, lasting};
use idle_tide_engines::Bearings;
use idle_tide_lang::remark::Remark;
use idle_tide_lang::{elsewhere, scope};
use ratatui::Frame;
use ratatui::layout::Rect;
use unicode_width::UnicodeWidthStr;

use super::paint::Painter;
use crate::app::{App, Focus, one_line};
use crate::keys::{Place, of};
use crate::theme::{Ground, ThemeName};

fn painter<'a>(app: &App, frame: &'a mut Frame<'_>, ground: Ground) -> Painter<'a> {
    Painter {
        buffer: frame.buffer_mut(),
        theme: app.theme,
        ground,
    }
}

/// Where am I? Where there is no room, encryption words give way first, then the port, the version, the host,
/// the family, that there is no transaction, how writes are treated, and the user; never the source, the
/// database, an open transaction, an unencrypted link to another machine, or that writes are free.
pub(super) fn bearings(app: &App, frame: &mut Frame<'_>, area: Rect) {
    if area.height == 0 {
        return;
    }
    let b = app.desk.bearings();
    let session = app.desk.session();
    let nowhere = session.is_nowhere();
    let writes = arrival::writes_words(app.desk.writes(), &b.access);
    let free = writes == "writes free";
    let (mut link, mut host, mut port, mut user) = server_words(b);
    let (mut family, mut version) = (b.family.to_string(), b.version.clone());
    let mut writes = (
        if nowhere {
            String::new()
        } else {
            writes.to_string()
        },
        if free { Tone::Care } else { Tone::Faint },
    );
    let mut transaction = transaction_words(session);
    let source = if nowhere {
        "no source"
    } else {
        app.desk.source()
    };
    let database = match (&b.server, b.database.as_str()) {
        (Some(_), "") => ("no database chosen", Tone::Care),
        (_, name) => (name, Tone::Plain),
    };
    let quiet = b.transaction.is_none() && !session.is_lost();
    for step in 0..9 {
        let parts = [
            source,
            database.0,
            &family,
            &version,
            &host,
            &port,
            &link.0,
            &user.0,
            &transaction.0,
            &writes.0,
        ];
        let gaps = 3 * parts.iter().filter(|part| !part.is_empty()).count();
        let needed = parts.iter().map(|part| part.width()).sum::<usize>() + gaps + 1;
        if needed <= usize::from(area.width) {
            break;
        }
        match step {
            0 if link.1 != Tone::Danger => link.0.clear(),
            1 => port.clear(),
            2 => version.clear(),
            3 => host.clear(),
            4 => family.clear(),
            5 if quiet => transaction.0.clear(),
            6 if !free => writes.0.clear(),
            7 => user.0 = user.0.replace(" (all-powerful)", ""),
            8 => user.0.clear(),
            _ => {}
        }
    }
    let mut p = painter(app, frame, Ground::Shade);
    p.fill(area);
    let edge = match (session.tone(), b.warnings.is_empty()) {
        (SourceTone::Danger, _) => Tone::Danger,
        (SourceTone::Care, _) | (_, false) => Tone::Care,
        _ => Tone::Active,
    };
    let (open, close) = match p.theme.name {
        ThemeName::Plain => ("(", ")"),
        _ => ("◖", "◗"),
    };
    let server = [&family, &version].map(String::as_str).join(" ");
    let end = area.right();
    let mut x = area.x + 1;
    let danger = if session.tone() == SourceTone::Danger {
        " danger"
    } else {
        ""
    };
    for (tone, text) in [
        (edge, open),
        (Tone::Heading, source),
        (edge, danger),
        (edge, close),
        (Tone::Plain, " "),
        (database.1, database.0),
        (Tone::Plain, "   "),
        (Tone::Faint, server.trim()),
        (Tone::Plain, if host.is_empty() { "" } else { "   " }),
        (Tone::Faint, &host),
        (Tone::Faint, &port),
        (Tone::Plain, if link.0.is_empty() { "" } else { "   " }),
        (link.1, &link.0),
    ] {
        x += p.text(x, area.y, end.saturating_sub(x), tone, text);
    }
    let right: Vec<_> = [user, transaction, writes]
        .into_iter()
        .filter(|part| !part.0.is_empty())
        .collect();
    let width: usize = right.iter().map(|(text, _)| text.width() + 3).sum();
    let mut at = (end + 2).saturating_sub(width as u16).max(x + 1);
    for (text, tone) in right {
        at += p.text(at, area.y, end.saturating_sub(at), tone, &text) + 3;
    }
}

/// How the link is protected, the host, the port, and who one is there; all empty for what is no server.
fn server_words(b: &Bearings) -> ((String, Tone), String, String, (String, Tone)) {
    let (mut link, mut host, mut port, mut user): (String, String, String, String) =
        Default::default();
    let mut link_tone = Tone::Faint;
    let mut user_tone = Tone::Faint;
    if let Some(server) = &b.server {
        (link, link_tone) = arrival::link_words(server);
        (host, port) = match server.place.rsplit_once(':') {
            Some((host, port)) => (host.to_string(), format!(":{port}")),
            None => (server.place.clone(), String::new()),
        };
        if !server.way.is_empty() {
            host = format!("{host} {}", server.way.replace("through ", "via "));
            port.clear();
        }
        // The host part of an account is in /bearings.
        let name = server.user.split('@').next().unwrap_or_default();
        user = match &server.role {
            Some(role) => format!("as {name} in {role}"),
            None => format!("as {name}"),
        };
        if server.all_powerful {
            user.push_str(" (all-powerful)");
            user_tone = Tone::Care;
        }
    }
    ((link, link_tone), host, port, (user, user_tone))
}

/// What is said of the transaction, or of the change that is held.
fn transaction_words(session: &Session) -> (String, Tone) {
    let b = session.bearings();
    let nowhere = session.is_nowhere();
    match b.transaction {
        _ if session.is_lost() => ("connection lost".to_string(), Tone::Danger),
        Some(_) if session.held().is_some() => (held_words(session), Tone::Care),
        Some(_) if b.transaction_failed => (
            "transaction failed, rollback; ends it".to_string(),
            Tone::Danger,
        ),
        // The first minute goes without saying.
        Some(since) => {
            let mut words = match since.elapsed().as_secs() / 60 {
                0 => "transaction open".to_string(),
                minutes => format!("transaction open for {minutes} min"),
            };
            if let statements @ 1.. = session.in_transaction() {
                words.push_str(&format!(", {}", counted(statements, "statement")));
            }
            (words, Tone::Care)
        }
        None if nowhere => (String::new(), Tone::Faint),
        None if !b.has_transactions => ("no transactions".to_string(), Tone::Faint),
        None => ("no transaction".to_string(), Tone::Faint),
    }
}

/// That a change is held, since when, and who waits for it.
fn held_words(session: &Session) -> String {
    let Some(held) = session.held() else {
        return String::new();
    };
    let seconds = held.since.elapsed().as_secs();
    let mut words = match seconds / 60 {
        0 => format!("change held {seconds} s"),
        minutes => format!("change held {minutes} min"),
    };
    match held.waits.as_slice() {
        [] => {}
        [one] => words.push_str(&format!(", {one} waits")),
        several => words.push_str(&format!(", {} wait", several.len())),
    }
    words
}

/// Number, statement, outcome, neighbours.
pub(super) fn entry_line(app: &mut App, frame: &mut Frame<'_>, area: Rect) {
    if area.height == 0 {
        return;
    }
    let count = app.desk.entries().len();
    let current = app.desk.current();
    let Some(entry) = app.desk.entries().get(current) else {
        return;
    };
    let (words, tone) = entry.words();
    let (number, mut text) = (entry.number, entry.text.clone());
    // The way that led here.
    let trail = app.desk.trail();
    if !trail.is_empty() {
        let steps: Vec<String> = trail.iter().map(|number| format!("{number} › ")).collect();
        text = format!("from {}{text}", steps.concat());
    }
    let cleared = app.cleared;
    let mut p = painter(app, frame, Ground::Air);
    // Neighbours: up to three numbers around the current one.
    let first = current.saturating_sub(if current + 1 >= count { 2 } else { 1 });
    let last = (first + 2).min(count.saturating_sub(1));
    let numbers: Vec<usize> = (first..=last).collect();
    let label = |at: usize| app.desk.entries()[at].number.to_string();
    let width: usize = numbers.iter().map(|at| label(*at).len() + 2).sum::<usize>() + 2;
    let right = area.right().saturating_sub(2);
    let mut x = right.saturating_sub(width as u16);
    let neighbours = x;
    let mut spots = Vec::new();
    if count > 1 && area.width >= 50 {
        if first > 0 {
            p.text(x, area.y, 1, Tone::Faint, "‹");
        }
        x += 2;
        for at in &numbers {
            let text = label(*at);
            let tone = if *at == current {
                Tone::Active
            } else {
                Tone::Faint
            };
            spots.push((area.y, x.saturating_sub(1), x + text.len() as u16 + 1, *at));
            x += p.text(x, area.y, 8, tone, &text) + 2;
        }
        if last + 1 < count {
            p.text(x.saturating_sub(1), area.y, 1, Tone::Faint, "›");
        }
    }
    app.spots.entries = spots;
    let mut p = painter(app, frame, Ground::Air);
    // The outcome stands at a fixed place.
    let neighbours = if area.width >= 50 {
        neighbours
    } else {
        area.right()
    };
    let outcome =
        (area.x + area.width * 2 / 3).min(neighbours.saturating_sub(words.width() as u16 + 2));
    p.text(
        outcome,
        area.y,
        neighbours.saturating_sub(outcome + 1),
        tone,
        &words,
    );
    let x = area.x + 3;
    let x = x + p.text(x, area.y, 8, Tone::Active, &number.to_string()) + 1;
    let room = outcome.saturating_sub(x + 2);
    let line = one_line(&text, usize::from(room));
    let line = if cleared {
        "cleared; F3 has everything".to_string()
    } else {
        line
    };
    let tone = if cleared || text == "arrival" {
        Tone::Faint
    } else {
        Tone::Plain
    };
    p.text(x, area.y, room, tone, &line);
}

/// The tide line: still when idle, a swell while something runs.
pub(super) fn tide(app: &App, frame: &mut Frame<'_>, area: Rect) {
    if area.height == 0 {
        return;
    }
    let mut p = painter(app, frame, Ground::Air);
    let style = p.theme.ornament(Ground::Air);
    let plain = p.theme.name == ThemeName::Plain;
    for x in area.left()..area.right() {
        p.buffer[(x, area.y)]
            .set_symbol(if plain { "─" } else { "▁" })
            .set_style(style);
    }
    let mut words: Option<(String, Tone)> = None;
    if let Some(running) = app.desk.running().filter(|e| e.state == State::Running) {
        swell(&mut p, area, app.frame);
        let time = lasting(running.time());
        let mut text = String::new();
        if let Some(sheet) = running.sheet() {
            let set = idle_tide_desk::sheet::read(&sheet.set);
            if !set.columns().is_empty() {
                text = format!("{} · ", counted(set.len(), "row"));
            }
            text.push_str(&time);
            if set.on_disk() > 0 {
                text.push_str(&format!(" · {} on disk", bytes(set.on_disk())));
            }
        } else {
            text.push_str(&time);
        }
        let waiting = app.desk.waiting();
        if waiting > 0 {
            text.push_str(&format!(" · {waiting} more wait"));
        }
        if let Some((waited, limit)) = app.desk.lock_wait() {
            text = format!(
                "waits for a lock that another program holds · {} of {} s",
                waited.as_secs(),
                limit.as_secs()
            );
        }
        if let Some(blocked) = app.desk.blocked() {
            text = format!("{blocked} · {time}");
        }
        let way = match app.desk.is_stopping() {
            true => "asked to stop · Ctrl-C again gives up its connection",
            false => "Ctrl-C stops",
        };
        words = Some((format!("{text} · {way}"), Tone::Active));
    } else if let Some(notice) = app.desk.notice() {
        words = Some((notice.text.clone(), notice.tone));
    }
    if let Some((text, tone)) = words {
        let room = area.width.saturating_sub(4);
        let text = one_line(&text, usize::from(room));
        let width = text.width() as u16;
        let x = area.right().saturating_sub(width + 2);
        let blank = Rect::new(x.saturating_sub(1), area.y, width + 2, 1);
        p.fill(blank);
        p.text(x, area.y, room, tone, &text);
    }
}

fn swell(p: &mut Painter<'_>, area: Rect, frame: u64) {
    const WAVE: [&str; 27] = [
        "▁", "▁", "▁", "▁", "▁", "▂", "▂", "▂", "▂", "▂", "▃", "▃", "▃", "▃", "▃", "▃", "▃", "▂",
        "▂", "▂", "▂", "▂", "▁", "▁", "▁", "▁", "▁",
    ];
    let width = u64::from(area.width).max(1);
    let start = frame * 2 % (width + WAVE.len() as u64);
    let style = p.style(Tone::Active);
    for (at, bar) in WAVE.iter().enumerate() {
        let x = start as i64 + at as i64 - WAVE.len() as i64;
        if (0..width as i64).contains(&x) {
            p.buffer[(area.x + x as u16, area.y)]
                .set_symbol(bar)
                .set_style(style);
        }
    }
}

/// Lines the strip needs: one for each known table of the statement, or for the command's usage.
pub(super) fn strip_lines(app: &App) -> u16 {
    let text = app.composer.text();
    if text.trim().is_empty() || text.trim_start().starts_with(['/', '=']) {
        return 0;
    }
    let named = app.composer.scope(app.desk.dialect());
    let known = named
        .tables
        .iter()
        .filter(|t| app.desk.catalog().table(&t.name).is_some());
    let remark = remark(app);
    known.count() as u16 + u16::from(remark.is_some())
}

/// What is said of the statement that is written. A name that ends at the cursor is still being typed.
fn remark(app: &App) -> Option<Remark> {
    let remarks = (app.composer).remarks(app.desk.dialect(), app.desk.catalog());
    let typed = app
        .desk
        .dialect()
        .is_flow()
        .then(|| app.composer.place_in_statement(app.desk.dialect()));
    let mut said = remarks.said.iter();
    said.find(|remark| !remark.of_name || Some(remark.span.end) != typed)
        .cloned()
}

/// The columns of every table in the statement.
pub(super) fn strip(app: &App, frame: &mut Frame<'_>, area: Rect) {
    if area.height == 0 {
        return;
    }
    let mut p = painter(app, frame, Ground::Strip);
    p.fill(area);
    let named = app.composer.scope(app.desk.dialect());
    let known: Vec<_> = named
        .tables
        .iter()
        .filter_map(|t| app.desk.catalog().table(&t.name).map(|object| (t, object)))
        .collect();
    let label = |t: &scope::TableUse| match &t.alias {
        Some(alias) => format!("{} {alias}", t.name),
        None => t.name.clone(),
    };
    let remarks = (app.composer).remarks(app.desk.dialect(), app.desk.catalog());
    let width = known
        .iter()
        .map(|(t, _)| label(t).width())
        .max()
        .unwrap_or(0);
    let many_width = if remarks.many.is_empty() { 0 } else { 7 };
    let mut room_for = usize::from(area.height);
    // What is doubtful is said last, and never left out.
    if let Some(remark) = remark(app) {
        room_for = room_for.saturating_sub(1);
        let y = area.bottom() - 1;
        let mut x = area.x + 3;
        x += p.text(
            x,
            y,
            area.right().saturating_sub(x + 1),
            Tone::Care,
            &remark.words,
        ) + 2;
        if let Some(edit) = &remark.edit {
            let words = format!("Tab offers {}", edit.text.trim_end());
            p.text(
                x,
                y,
                area.right().saturating_sub(x + 1),
                Tone::Faint,
                &words,
            );
        }
    }
    for (line, (table, object)) in known.iter().enumerate().take(room_for) {
        let y = area.y + line as u16;
        let mut x = area.x + 3;
        p.text(
            x,
            y,
            area.width.saturating_sub(4),
            Tone::Active,
            &label(table),
        );
        x += width as u16 + 2;
        if remarks.many.contains(&table.at) {
            p.text(x, y, 6, Tone::Care, "many");
        }
        x += many_width + 1;
        // The column that the value at the cursor will fill.
        let filled = named.insert.as_ref().and_then(|insert| {
            let own = insert.table.eq_ignore_ascii_case(&table.name);
            let at = insert.value.filter(|_| own)?;
            if insert.columns.is_empty() {
                object.fields.get(at).map(|field| field.name.clone())
            } else {
                insert.columns.get(at).cloned()
            }
        });
        let fields: Vec<_> = object.fields.iter().collect();
        // When the marked column would be out of sight the line begins nearer to it.
        let marked = filled.as_ref().and_then(|name| {
            fields
                .iter()
                .position(|field| field.name.eq_ignore_ascii_case(name))
        });
        let from = marked.map_or(0, |at| at.saturating_sub(6));
        if from > 0 {
            x += p.text(x, y, 3, Tone::Faint, "… ");
        }
        for field in fields.iter().skip(from) {
            let link = object
                .link_of(&field.name)
                .map_or(String::new(), |l| format!("→{}", l.table));
            let needed = (field.name.width() + link.width()) as u16;
            let room = area.right().saturating_sub(x + 2);
            if needed + 2 > room {
                p.text(x, y, room, Tone::Faint, "…");
                break;
            }
            if filled
                .as_ref()
                .is_some_and(|name| field.name.eq_ignore_ascii_case(name))
            {
                x += p.text(x, y, room, Tone::Key, &format!(" {} ", field.name));
                let declared = format!(" {}", field.declared.to_lowercase());
                x += p.text(
                    x,
                    y,
                    area.right().saturating_sub(x + 1),
                    Tone::Faint,
                    &declared,
                );
            } else {
                x += p.text(x, y, room, Tone::Plain, &field.name);
            }
            x += p.text(x, y, area.right().saturating_sub(x + 1), Tone::Faint, &link);
            x += 2;
        }
    }
}

/// What the next keys do here.
pub(super) fn hints(app: &mut App, frame: &mut Frame<'_>, area: Rect) {
    if area.height == 0 {
        return;
    }
    let dialect = app.desk.dialect();
    let open = app.composer.analysis(dialect).open.last().copied();
    let mut list: Vec<(String, String)> = Vec::new();
    let places = app.places();
    if app.is_bare() && app.prompt.is_some() {
        list.push(("Enter".into(), "goes there".into()));
        list.push(("Esc".into(), "leaves it".into()));
    }
    let corrects = app.choices.open && !app.choices.corrections.is_empty();
    if corrects && places == [Place::Writing] {
        list.push(("Tab".into(), "takes the correction".into()));
        list.push(("↑ ↓".into(), "choose".into()));
    }
    if app.desk.asking().is_some() {
        for key in places
            .iter()
            .flat_map(|place| of(*place))
            .filter(|key| key.hinted)
        {
            list.push((app.keymap.cap(key).into(), key.hint.into()));
        }
    } else if app.desk.question().is_some() {
        if let Some(question) = app.desk.question() {
            list.push(("Y".into(), question.yes.clone()));
            list.push(("N".into(), question.no.clone()));
        }
    } else if app.asks_to_leave {
        list.push(("Y".into(), "leaves, and that is taken back".into()));
        list.push(("N".into(), "stays".into()));
    } else {
        if app.desk.running().is_some() {
            list.push(("Ctrl-C".into(), "stops".into()));
        }
        if app.desk.session().is_lost() {
            match app.focus {
                Focus::Write => list.push(("Esc R".into(), "connects anew".into())),
                Focus::Read => list.push(("R".into(), "connects anew".into())),
            }
        }
        if app.desk.session().held().is_some() && app.focus == Focus::Write {
            list.push(("Esc K".into(), "keeps the change".into()));
            list.push(("Esc T".into(), "takes it back".into()));
        }
        let mending = app.mending && app.focus == Focus::Write && app.is_bare();
        if mending {
            let again = app.composer.text().starts_with("/open");
            list.push((
                "Enter".into(),
                if again { "tries again" } else { "runs" }.into(),
            ));
        }
        if app.focus == Focus::Write
            && app.is_bare()
            && let Some(command) =
                elsewhere::matching_command(app.composer.text(), app.desk.dialect())
        {
            list.push(("Tab".into(), format!("makes it {command}")));
        }
        if app.focus == Focus::Write
            && app.is_bare()
            && app.desk.dialect().is_flow()
            && app.composer.text().trim_start().starts_with("from ")
        {
            list.push(("F7".into(), "stages".into()));
        }
        for place in &places {
            for key in of(*place).filter(|key| key.hinted) {
                let own = app.keymap.cap(key);
                let double = list.iter().any(|(cap, _)| cap == own);
                if !(double || mending && matches!(key.cap, ";" | "F5")) {
                    list.push((own.into(), key.hint.into()));
                }
            }
        }
        if app.is_bare() && app.prompt.is_none() {
            for key in of(Place::Everywhere).filter(|key| key.hinted) {
                list.push((app.keymap.cap(key).into(), key.hint.into()));
            }
        }
    }
    let asked = app.desk.question().is_some() || app.asks_to_leave;
    let mut p = painter(app, frame, Ground::Strip);
    p.fill(area);
    let end = area.right().saturating_sub(1);
    let mut right = end;
    if app.focus == Focus::Write
        && app.is_bare()
        && let Some(open) = open
    {
        let text = format!("{} open since line {}", open.what.word(), open.line);
        right = end.saturating_sub(text.width() as u16 + 1);
        p.text(right, area.y, end.saturating_sub(right), Tone::Care, &text);
        right = right.saturating_sub(2);
    }
    let mut x = area.x + 1;
    for (cap, hint) in list {
        let needed = (cap.width() + hint.width() + 3) as u16;
        // What is asked shows both answers, cut off if need be.
        let room = right.saturating_sub(x);
        if needed > room && !(asked && room > cap.width() as u16 + 8) {
            break;
        }
        x += p.key(x, area.y, right - x, &cap, &hint) + 3;
    }
}
