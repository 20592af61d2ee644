//! What keys do on a picture of a result.

use std::cmp::Ordering;

use idle_tide_desk::chart::Turned;

use super::*;

impl App {
    /// Whether the entry that is shown is a picture of a result.
    pub fn reads_chart(&self) -> bool {
        !self.cleared
            && self
                .desk
                .entry()
                .is_some_and(|entry| entry.chart().is_some())
    }

    /// F8: a picture of the current result, or the rows of the current picture.
    pub(crate) fn chart_view(&mut self) {
        self.close_views();
        self.focus = Focus::Read;
        let of = self.desk.entry().and_then(|entry| Some(entry.chart()?.of));
        let Some(of) = of.filter(|_| !self.cleared) else {
            return self.command("/chart");
        };
        let rows = self
            .desk
            .entries()
            .iter()
            .position(|entry| entry.number == of);
        if let Some(at) = rows {
            self.desk.show(at);
        }
    }

    pub(super) fn chart_key(&mut self, code: KeyCode) {
        let Some(number) = self.desk.entry().map(|entry| entry.number) else {
            return;
        };
        let turned = match code {
            KeyCode::Up => return self.next_mark(number, (0.0, -1.0)),
            KeyCode::Down => return self.next_mark(number, (0.0, 1.0)),
            KeyCode::Left => return self.next_mark(number, (-1.0, 0.0)),
            KeyCode::Right => return self.next_mark(number, (1.0, 0.0)),
            KeyCode::Home | KeyCode::End => {
                let marked = self.charts.entry(number).or_default();
                let last = marked.hits.len().saturating_sub(1);
                marked.at = if code == KeyCode::Home { 0 } else { last };
                return;
            }
            KeyCode::Enter => {
                let marked = self.charts.entry(number).or_default();
                if let Some(hit) = marked.hits.get(marked.at).cloned() {
                    let before = self.desk.entries().len();
                    let mark = (hit.panel, hit.series, hit.key);
                    self.desk.rows_behind(number, mark, &hit.words);
                    self.settle(before);
                }
                return;
            }
            KeyCode::Char('k' | 'K') => Turned::Kind,
            KeyCode::Char('v' | 'V') => Turned::Value,
            KeyCode::Char('x' | 'X') => Turned::Along,
            KeyCode::Char('b' | 'B') => Turned::Split,
            KeyCode::Char('p' | 'P') => Turned::Panels,
            KeyCode::Char('h' | 'H') => Turned::How,
            KeyCode::Char('s' | 'S') => Turned::Stacked,
            KeyCode::Char('o' | 'O') => Turned::Ordered,
            KeyCode::Char('g' | 'G') => Turned::Log,
            _ => return,
        };
        self.desk.turn_chart(number, turned);
    }

    /// Goes to the next mark in a direction: the nearest there, those straight ahead first.
    fn next_mark(&mut self, number: u32, (dx, dy): (f64, f64)) {
        let marked = self.charts.entry(number).or_default();
        let centre = |hit: &idle_tide_draw::chart::Hit| {
            let (x, y, width, height) = hit.area;
            // A bar is where it ends; how long it is says nothing about what is beside it.
            (x + width.min(1.0) / 2.0, y + height.min(1.0) / 2.0)
        };
        let Some(own) = marked.hits.get(marked.at).cloned() else {
            return;
        };
        let from = centre(&own);
        let all = || marked.hits.iter().enumerate();
        // Marks of one place along lie above each other, in one cell where they are close.
        let rank = |hit: &idle_tide_draw::chart::Hit| (centre(hit).1, hit.series);
        let above =
            all().filter(|(_, hit)| dy != 0.0 && centre(hit).0 == from.0 && hit.panel == own.panel);
        let beside = match dy > 0.0 {
            true => above
                .filter(|(_, hit)| rank(hit) > rank(&own))
                .min_by(|a, b| rank(a.1).partial_cmp(&rank(b.1)).unwrap_or(Ordering::Equal)),
            false => above
                .filter(|(_, hit)| rank(hit) < rank(&own))
                .max_by(|a, b| rank(a.1).partial_cmp(&rank(b.1)).unwrap_or(Ordering::Equal)),
        };
        let far = |hit: &idle_tide_draw::chart::Hit| {
            let (x, y) = centre(hit);
            let ahead = (x - from.0) * dx + (y - from.1) * dy;
            let aside = ((x - from.0) * dy).abs() + ((y - from.1) * dx).abs();
            // Sideways stays with its series.
            let other = if dx != 0.0 && hit.series != own.series {
                1e6
            } else {
                0.0
            };
            let weight = if dy != 0.0 { 0.3 } else { 2.0 };
            (ahead > 0.01).then_some(ahead + aside * weight + other)
        };
        let nearest = all().filter_map(|(at, hit)| Some((at, far(hit)?)));
        let nearest = nearest.min_by(|a, b| a.1.total_cmp(&b.1)).map(|(at, _)| at);
        let last = marked.hits.len() - 1;
        marked.at = match beside.map(|(at, _)| at).or(nearest) {
            Some(at) => at,
            // Where all stand below each other, sideways goes through them.
            None if dx > 0.0 => (marked.at + 1).min(last),
            None if dx < 0.0 => marked.at.saturating_sub(1),
            None => marked.at,
        };
    }
}
