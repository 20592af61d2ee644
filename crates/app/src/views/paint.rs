//! The only way text gets onto the screen: every character passes through the marks of `idle-tide-draw`, so
//! that nothing in the data can reach the terminal as anything but itself.

use idle_tide_desk::{Line, Tone};
use idle_tide_draw::marks::{Shown, show_label};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::theme::{Ground, Theme};

/// A place to paint on: a buffer, colours, and a ground.
pub struct Painter<'a> {
    /// Where it is painted.
    pub buffer: &'a mut Buffer,
    /// The colours.
    pub theme: Theme,
    /// What it stands on.
    pub ground: Ground,
}

impl Painter<'_> {
    /// The style of a tone on the present ground.
    pub fn style(&self, tone: Tone) -> Style {
        self.theme.style(self.ground, tone)
    }

    /// Fills a rectangle with the ground.
    pub fn fill(&mut self, area: Rect) {
        let area = area.intersection(self.buffer.area);
        let style = self.style(Tone::Plain);
        for y in area.top()..area.bottom() {
            for x in area.left()..area.right() {
                self.buffer[(x, y)].reset();
            }
        }
        self.buffer.set_style(area, style);
    }

    /// Paints a text in at most `most` columns; answers the columns it took.
    pub fn text(&mut self, x: u16, y: u16, most: u16, tone: Tone, text: &str) -> u16 {
        let shown = show_label(text, usize::from(most));
        self.shown(x, y, tone, &shown)
    }

    /// Paints what is shown of a value; marks are faint.
    pub fn shown(&mut self, x: u16, y: u16, tone: Tone, shown: &Shown) -> u16 {
        let area = self.buffer.area;
        if y < area.top() || y >= area.bottom() {
            return 0;
        }
        let mut at = x;
        for run in &shown.runs {
            let tone = if run.mark && tone != Tone::Danger {
                Tone::Faint
            } else {
                tone
            };
            let room = area.right().saturating_sub(at);
            if room == 0 {
                break;
            }
            let (next, _) =
                self.buffer
                    .set_stringn(at, y, &run.text, usize::from(room), self.style(tone));
            at = next;
        }
        at - x
    }

    /// Paints a line of a page from column `left` on.
    pub fn line(&mut self, x: u16, y: u16, most: u16, left: usize, line: &Line) {
        let mut at = x;
        let mut skip = left;
        for span in &line.spans {
            let text: String = if skip == 0 {
                span.text.clone()
            } else {
                let length = span.text.chars().count();
                let cut = skip.min(length);
                skip -= cut;
                span.text.chars().skip(cut).collect()
            };
            let room = most.saturating_sub(at - x);
            at += self.text(at, y, room, span.tone, &text);
        }
    }

    /// Paints a key's cap and what it does; answers the columns they took.
    pub fn key(&mut self, x: u16, y: u16, most: u16, cap: &str, hint: &str) -> u16 {
        let cap = format!(" {cap} ");
        let width = self.text(x, y, most, Tone::Key, &cap);
        let rest = most.saturating_sub(width + 1);
        width + 1 + self.text(x + width + 1, y, rest, Tone::Faint, hint)
    }
}

/// The ground of a line of a list that fills `area`; the marked one has a bar before it.
pub(super) fn list_line(p: &mut Painter<'_>, area: Rect, y: u16, marked: bool) {
    p.ground = match marked {
        true => Ground::Selected,
        false => Ground::Air,
    };
    if marked {
        p.fill(Rect::new(area.x + 2, y, area.width.saturating_sub(4), 1));
        p.text(area.x + 2, y, 1, Tone::Active, "▌");
    }
}

/// The line above a view in which something can be searched: its name, and what is searched or `idle`.
pub(super) fn title(p: &mut Painter<'_>, area: Rect, name: &str, search: &str, idle: &str) {
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
