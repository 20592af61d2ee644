//! The figures of the current column beside the rows, where a wide screen leaves room: how its numbers spread, or which of its values are
//! there most often.

use idle_tide_core::Figures;
use idle_tide_core::chart::scale::number_words;
use idle_tide_desk::{Tone, sheet};
use idle_tide_draw::marks::{show_label, show_value};
use idle_tide_draw::picture::{self, counted, grouped};
use ratatui::Frame;
use ratatui::layout::Rect;

use super::paint::Painter;
use crate::app::App;
use crate::theme::Ground;

/// The least room it takes, and the most.
const LEAST: (u16, u16) = (32, 9);
const WIDEST: u16 = 56;
/// Intervals of numbers, and values, that are shown.
const INTERVALS: usize = 10;
const VALUES: usize = 10;

/// A line of the picture: what it is about, how long its bar is of the longest, and what stands behind the bar.
struct Bar {
    label: String,
    right: bool,
    share: f64,
    words: String,
}

/// Draws the figures of a column of the current entry into what is left of `area` from `x` on.
pub(super) fn draw(app: &mut App, frame: &mut Frame<'_>, area: Rect, x: u16, column: usize) {
    let width = area.right().saturating_sub(x + 2).min(WIDEST);
    if !app.beside || width < LEAST.0 || area.height < LEAST.1 {
        return;
    }
    // Lists of our own say what they say, and a change that is held is what is looked at.
    let entry = app.desk.entry();
    let entry = entry.filter(|entry| entry.is_statement && entry.holding.is_none());
    let Some(sheet) = entry.and_then(|entry| entry.sheet()) else {
        return;
    };
    if sheet.covered_columns().contains(&column) {
        return;
    }
    let label = sheet.labels[column].clone();
    let declared = {
        let set = sheet::read(&sheet.set);
        let known = &set.columns()[column];
        // How keys are spread says nothing.
        if known.key {
            return;
        }
        known.declared.clone().unwrap_or_default()
    };
    let theme = app.theme;
    let Some(figures) = app.desk.figures(column) else {
        return;
    };
    let (words, bars) = (words(figures, width.into()), bars(figures));
    // Where there is nothing to see the foot says it all.
    if bars.is_empty() {
        return;
    }
    let mut p = Painter {
        buffer: frame.buffer_mut(),
        theme,
        ground: Ground::Air,
    };
    let used = p.text(x, area.y, width, Tone::Heading, &label);
    p.text(
        x + used + 2,
        area.y,
        width.saturating_sub(used + 2),
        Tone::Faint,
        &declared,
    );
    p.text(x, area.y + 1, width, Tone::Faint, &words);
    let longest = usize::from(width / 2).min(24);
    let labels = bars
        .iter()
        .map(|bar| show_label(&bar.label, longest).width)
        .max()
        .unwrap_or(0) as u16;
    let behind = bars
        .iter()
        .map(|bar| bar.words.chars().count())
        .max()
        .unwrap_or(0) as u16;
    let room = width.saturating_sub(labels + behind + 4);
    let lines = area.height.saturating_sub(4).into();
    for (at, bar) in bars.iter().take(lines).enumerate() {
        let y = area.y + 3 + at as u16;
        let shown = show_label(&bar.label, usize::from(labels));
        let before = if bar.right {
            labels - shown.width as u16
        } else {
            0
        };
        p.text(x + before, y, labels, Tone::Plain, &bar.label);
        let drawn = picture::bar(bar.share * f64::from(room));
        let taken = p.text(x + labels + 2, y, room, Tone::Picture, &drawn);
        p.text(x + labels + 3 + taken, y, behind, Tone::Number, &bar.words);
    }
}

/// How many values there are, and what else is known of them and has room.
fn words(figures: &Figures, room: usize) -> String {
    let mut parts = vec![counted(figures.rows - figures.nulls, "value")];
    if figures.nulls > 0 {
        parts.push(format!("{} null", grouped(figures.nulls)));
    }
    let (different, exact) = figures.different();
    let over = if exact { "" } else { "over " };
    parts.push(format!("{over}{} different", grouped(different)));
    if let (Some(least), Some(most), 0) = (figures.shortest, figures.longest, figures.numbers) {
        parts.push(match least == most {
            true => format!("{most} characters"),
            false => format!("{least} to {most} characters"),
        });
    }
    while parts.len() > 1 && parts.join(" · ").chars().count() > room {
        parts.pop();
    }
    parts.join(" · ")
}

fn bars(figures: &Figures) -> Vec<Bar> {
    let share = |count: u64, of: u64| count as f64 / of.max(1) as f64;
    let (different, exact) = figures.different();
    let few = exact && different as usize <= VALUES;
    // Numbers that are few are names of something.
    if let Some(bins) = figures.bins(INTERVALS).filter(|_| !few) {
        let most = bins.counts.iter().copied().max().unwrap_or(1);
        let all: u64 = bins.counts.iter().sum();
        let end = bins.from + bins.width * bins.counts.len() as f64;
        let largest = bins.from.abs().max(end.abs());
        let number =
            |at: usize| number_words(bins.from + bins.width * at as f64, bins.width, largest);
        let about = if bins.sampled { "≈ " } else { "" };
        let bar = |(at, count): (usize, &u64)| Bar {
            label: number(at),
            right: true,
            share: share(*count, most),
            words: match count {
                0 => String::new(),
                count => format!("{about}{}", percent(share(*count, all))),
            },
        };
        return bins.counts.iter().enumerate().map(bar).collect();
    }
    let common = figures.commonest(VALUES);
    let most = common.first().map_or(0, |(_, count)| *count);
    // Where every value stands once there is nothing to see.
    if most < 2 {
        return Vec::new();
    }
    let bar = |(value, count): &(&idle_tide_core::Value, u64)| Bar {
        label: show_value(value.as_ref(), 24).text(),
        right: figures.numbers > 0,
        share: share(*count, most),
        words: grouped(*count),
    };
    common.iter().map(bar).collect()
}

/// A share in percent; what is there is not nothing.
fn percent(share: f64) -> String {
    match (share * 100.0).round() {
        0.0 => "under 1 %".into(),
        whole => format!("{whole} %"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use idle_tide_core::ValueRef;

    #[test]
    fn what_is_few_is_counted_and_what_is_many_is_laid_out() {
        let of = |values: Vec<ValueRef<'_>>| {
            let mut figures = Figures::default();
            values.into_iter().for_each(|value| figures.add(value));
            let list = bars(&figures).into_iter();
            let list: Vec<_> = list
                .map(|bar| format!("{} {}", bar.label, bar.words))
                .collect();
            (words(&figures, 60), list)
        };
        let text = ValueRef::Text;
        let (words, list) = of(vec![text("cod"), text("sole"), text("cod"), ValueRef::Null]);
        assert_eq!(words, "3 values · 1 null · 2 different · 3 to 4 characters");
        assert_eq!(list, ["cod 2", "sole 1"]);
        let short = super::words(&Figures::default(), 10);
        assert_eq!(short, "0 values", "what has no room is not begun");
        assert_eq!(of(vec![text("a"), text("b")]).1, Vec::<String>::new());
        let (_, list) = of((0..300).map(|n| ValueRef::Integer(n * n / 300)).collect());
        assert_eq!(list.len(), 6);
        assert_eq!((list[0].as_str(), list[5].as_str()), ("0 41 %", "250 9 %"));
    }
}
