//! What keys do on a drawing of links.

use idle_tide_lang::command::quoted;

use super::*;
use crate::keys::Place;

impl App {
    /// Whether the entry that is shown is a drawing.
    pub fn reads_links(&self) -> bool {
        !self.cleared
            && self
                .desk
                .entry()
                .is_some_and(|entry| entry.links().is_some())
    }

    /// F6: the latest drawing of this session, or a new one.
    pub(crate) fn links_view(&mut self) {
        let in_catalog = matches!(self.in_front(), Some(Place::Catalog | Place::Actions));
        self.close_views();
        let object = self.catalog.object().filter(|o| o.has_rows());
        if let Some(object) = object.filter(|_| in_catalog) {
            let name = self.catalog.catalog().shortest_name(object);
            return self.command(&format!("/links {}", quoted(&name)));
        }
        if self.reads_links() {
            self.focus = match self.focus {
                Focus::Read => Focus::Write,
                Focus::Write => Focus::Read,
            };
            return;
        }
        let session = self.desk.session().number();
        let drawn = self
            .desk
            .entries()
            .iter()
            .rposition(|e| e.session == session && e.links().is_some());
        let known = drawn.filter(|at| {
            let links = self.desk.entries()[*at].links();
            links.is_some_and(|l| std::sync::Arc::ptr_eq(&l.catalog, self.desk.catalog()))
        });
        self.focus = Focus::Read;
        match known {
            Some(at) => {
                self.desk.show(at);
                self.cleared = false;
            }
            None => self.command("/links"),
        }
    }

    /// Scrolls a drawing, if the key does that.
    fn scroll_drawing(&mut self, number: u32, code: KeyCode, control: bool) -> bool {
        let page = self.page.max(2) as isize - 1;
        let (x, y) = match (code, control) {
            (KeyCode::PageUp, _) => (0, -page),
            (KeyCode::PageDown, _) => (0, page),
            (KeyCode::Left, true) => (-20, 0),
            (KeyCode::Right, true) => (20, 0),
            (KeyCode::Up, true) => (0, -5),
            (KeyCode::Down, true) => (0, 5),
            _ => return false,
        };
        if let Some(state) = self.drawings.get_mut(&number) {
            state.follow = false;
            state.x = state.x.saturating_add_signed(x);
            state.y = state.y.saturating_add_signed(y);
        }
        true
    }

    pub(super) fn links_key(&mut self, code: KeyCode, control: bool) {
        let Some(number) = self.desk.entry().map(|entry| entry.number) else {
            return;
        };
        let state = *self.drawings.entry(number).or_default();
        if self.scroll_drawing(number, code, control) {
            return;
        }
        if matches!(code, KeyCode::Char('c' | 'C')) && !control {
            return self.desk.check_links(number);
        }
        let Some(links) = self.desk.links_mut() else {
            return;
        };
        let towards = match code {
            KeyCode::Up => Some((0, -1)),
            KeyCode::Down => Some((0, 1)),
            KeyCode::Left => Some((-1, 0)),
            KeyCode::Right => Some((1, 0)),
            _ => None,
        };
        if let Some(towards) = towards {
            let next = links.drawing.neighbour(state.at, towards);
            if let Some(state) = self.drawings.get_mut(&number) {
                (state.at, state.follow) = (next.unwrap_or(state.at), true);
            }
            return;
        }
        let at = links.tables.get(state.at).copied();
        let name = links.name(state.at).unwrap_or_default();
        let done = match code {
            KeyCode::Enter => {
                links.focus = at.into_iter().collect();
                links.distance = links.distance.max(1);
                links.chosen.clear();
                links.routes.clear();
                links.draw()
            }
            KeyCode::Char('w' | 'W') => {
                links.focus.clear();
                links.chosen.clear();
                links.routes.clear();
                links.draw()
            }
            KeyCode::Char('+') => {
                links.distance += 1;
                links.draw().inspect_err(|_| links.distance -= 1)
            }
            KeyCode::Char('-') => {
                links.distance = links
                    .distance
                    .saturating_sub(1)
                    .max(usize::from(links.chosen.is_empty()));
                links.draw()
            }
            KeyCode::Char('g' | 'G') => {
                links.guessed = !links.guessed;
                let words = if links.guessed {
                    "Guessed links are drawn."
                } else {
                    "Only declared links are drawn."
                };
                let done = links.draw();
                self.desk.say(words, Tone::Plain);
                done
            }
            KeyCode::Char(' ') => {
                match at.and_then(|at| links.chosen.iter().position(|c| *c == at)) {
                    Some(place) => {
                        links.chosen.remove(place);
                    }
                    None => links.chosen.extend(at),
                }
                links.find_ways()
            }
            KeyCode::Char('n' | 'N') => return self.next_way(),
            KeyCode::Char('j' | 'J') => return self.write_join(),
            KeyCode::Char('i' | 'I') => {
                return self.command(&format!("/about {}", quoted(&name)));
            }
            KeyCode::Char('s' | 'S') => {
                return self.command(&format!("/sample {}", quoted(&name)));
            }
            _ => return,
        };
        if let Err(words) = done {
            self.desk.say(words, Tone::Care);
        }
        // The same table stays at hand.
        if let (Some(table), Some(links)) = (at, self.desk.links_mut()) {
            let place = links.tables.iter().position(|t| *t == table).unwrap_or(0);
            if let Some(state) = self.drawings.get_mut(&number) {
                state.at = place;
                state.follow = true;
            }
        }
    }

    /// Shows the next way between the chosen tables.
    fn next_way(&mut self) {
        let Some(links) = self.desk.links_mut() else {
            return;
        };
        if links.routes.is_empty() {
            self.desk.say(
                "Space on two tables finds the ways between them.",
                Tone::Plain,
            );
        } else if links.routes.len() == 1 {
            self.desk
                .say("There is no other way between them.", Tone::Plain);
        } else {
            links.route = (links.route + 1) % links.routes.len();
        }
    }

    /// Puts the join of the way into the statement.
    fn write_join(&mut self) {
        let join = self.desk.links_mut().and_then(|links| links.join());
        match join {
            Some(join) => {
                self.focus = Focus::Write;
                if self.composer.is_blank() {
                    self.composer.set(&join);
                } else {
                    self.composer.insert(&join);
                }
            }
            None => {
                self.desk.say(
                    "Space on two tables finds the way; J then writes its join.",
                    Tone::Plain,
                );
            }
        }
    }
}
